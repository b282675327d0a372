//! Steps that take the value of one of their arguments on each row: `if`, `coalesce`, `greatest`, `least`.
//!
//! First it is found out which argument each row takes, then the values are copied, whatever their type; so a
//! new choice is one loop that fills a column of places.
//!
//! ```
//! # use oeuvre_columns::{InMemory, Kind, Source};
//! # let rows = InMemory::from_texts(
//! #     &[("a", Kind::Number { scale: 0 }), ("b", Kind::Number { scale: 0 })],
//! #     &[
//! #         &["1", "5"],
//! #         &["", "7"],
//! #         &["3", ""],
//! #     ],
//! # )?;
//! use oeuvre_core::{Plan, Request, run};
//!
//! // a, b: 1 5; (missing) 7; 3 (missing)
//! let request = Request::of(&[], &["sum(coalesce(a, b))", "sum(greatest(a, b))"]);
//! let plan = Plan::new(&request, rows.columns())?;
//! let (table, _) = run(&plan, &rows, 1)?;
//! assert_eq!(table.cell(0, 0).to_string(), "11");
//! assert_eq!(table.cell(0, 1).to_string(), "15");
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

use super::program::Memory;
use super::vectors::{bools, codes, f64s, i32s, i64s, i128s, order};
use oeuvre_columns::column::dictionary::{Followed, MISSING_CODE};
use oeuvre_columns::column::{Column, Data, MISSING_BOOL, MISSING_I32, MISSING_I64, MISSING_I128};
use oeuvre_columns::value::Kind;
use std::cmp::Ordering;

/// Which argument is the first that is there. A function takes at most 100 arguments, so that their
/// places fit in a byte; as in all choices.
pub(super) fn choose_present(args: &[&Column], rows: usize, choices: &mut Vec<u8>) {
    choices.clear();
    let first = |r: usize| args.iter().position(|a| !a.data.is_missing(r)).unwrap_or(0) as u8;
    choices.extend((0..rows).map(first));
}

/// Which argument is the smallest or the largest of those that are there.
pub(super) fn choose_extreme(args: &[&Column], largest: bool, rows: usize, choices: &mut Vec<u8>) {
    let wanted = if largest { Ordering::Greater } else { Ordering::Less };
    choices.clear();
    choices.extend((0..rows).map(|r| {
        let mut best = 0;
        for i in 1..args.len() {
            let better = args[best].data.is_missing(r)
                || (!args[i].data.is_missing(r) && order(args[i], args[best], r) == wanted);
            if better {
                best = i;
            }
        }
        best as u8
    }));
}

/// Which argument an `if` takes on each row.
pub(super) fn choose_if(args: &[&Column], rows: usize, choices: &mut Vec<u8>) {
    choices.clear();
    choices.resize(rows, args.len() as u8 - 1);
    // From the last condition to the first, so that the first that holds has the last word.
    for condition in (0..args.len() - 1).step_by(2).rev() {
        if let Data::Bool(truths) = &args[condition].data {
            for (choice, &t) in choices.iter_mut().zip(truths) {
                if t == 1 {
                    *choice = condition as u8 + 1;
                }
            }
        }
    }
}

/// Takes on each row the value of the chosen argument.
pub(super) fn pick(
    args: &[&Column],
    kind: Kind,
    rows: usize,
    out: &mut Column,
    memory: &mut Memory<'_>,
) {
    let choices = &memory.choices[..rows];
    macro_rules! typed {
        ($out:expr, $variant:ident, $missing:expr) => {
            $out.extend(choices.iter().enumerate().map(|(r, &c)| match &args[c as usize].data {
                Data::$variant(v) => v[r],
                _ => $missing,
            }))
        };
    }
    match Data::empty(kind) {
        Data::Codes(_) => {
            memory.maps.resize(args.len(), Followed::default());
            for (arg, map) in args.iter().zip(memory.maps.iter_mut()) {
                out.dictionary.follow(&arg.dictionary, map);
            }
            let maps = &memory.maps[..];
            codes(&mut out.data).extend(choices.iter().enumerate().map(|(r, &c)| {
                match &args[c as usize].data {
                    Data::Codes(v) if v[r] != MISSING_CODE => maps[c as usize][v[r] as usize],
                    _ => MISSING_CODE,
                }
            }));
        }
        Data::F64(_) => typed!(f64s(&mut out.data), F64, f64::NAN),
        Data::I32(_) => typed!(i32s(&mut out.data), I32, MISSING_I32),
        Data::Bool(_) => typed!(bools(&mut out.data), Bool, MISSING_BOOL),
        _ if args.iter().any(|a| matches!(a.data, Data::I128(_))) => {
            i128s(&mut out.data).extend(choices.iter().enumerate().map(|(r, &c)| {
                match &args[c as usize].data {
                    Data::I64(v) if v[r] != MISSING_I64 => i128::from(v[r]),
                    Data::I128(v) => v[r],
                    _ => MISSING_I128,
                }
            }));
        }
        _ => typed!(i64s(&mut out.data), I64, MISSING_I64),
    }
}
