//! `count()` and `count(x)`: rows, and values present.
//!
//! A group without any gives 0, never missing. The state is a whole number a group.
//!
//! ```
//! # use oeuvre_columns::{InMemory, Kind, Source};
//! # let rows = InMemory::from_texts(
//! #     &[("route", Kind::Text), ("fare", Kind::Number { scale: 2 })],
//! #     &[
//! #         &["SKE", "12.50"],
//! #         &["KEL", "8.00"],
//! #         &["SKE", "7.00"],
//! #         &["SKE", ""],
//! #     ],
//! # )?;
//! use oeuvre_core::{Plan, Request, run};
//!
//! // route, fare: SKE 12.50; KEL 8.00; SKE 7.00; SKE (missing)
//! let request = Request::of(&["route"], &["count()", "count(fare)"]);
//! let plan = Plan::new(&request, rows.columns())?;
//! let (table, _) = run(&plan, &rows, 1)?;
//! assert_eq!(table.cell(1, 0).to_string(), "3");
//! assert_eq!(table.cell(1, 1).to_string(), "2");
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

use super::encoding::{Damaged, Decoder, Encoder};
use super::times::{Times, add_one, take_one_away};
use super::{
    Additivity, ArgumentProblem, GroupAggregate, GroupState, Overflow, Rows, whole_column,
};
use oeuvre_columns::column::dictionary::MISSING_CODE;
use oeuvre_columns::column::{Column, Data, MISSING_BOOL, MISSING_I32, MISSING_I64, MISSING_I128};
use oeuvre_columns::value::Kind;
use std::ops::Range;

/// Counts rows without an argument, values present with one. An empty group has 0.
#[derive(PartialEq, Eq, Hash)]
pub struct Count;

/// A count for each group.
#[derive(Clone, Default)]
pub struct Counts(pub(crate) Times);

impl GroupState for Counts {
    const FAMILY: &'static str = "count";

    fn of(_: &[Kind]) -> Self {
        Counts::default()
    }
    fn resize(&mut self, groups: usize) {
        self.0.resize(groups);
    }

    fn update(&mut self, rows: Rows<'_>) -> Result<(), Overflow> {
        match rows.args.first() {
            None => self.0.add_rows(rows.groups),
            Some(column) => {
                let (low, carried) = self.0.parts();
                each_missing(rows.groups, &column.data, |group, is_missing| {
                    add_one(low, carried, group, !is_missing);
                });
            }
        }
        Ok(())
    }

    fn update_uncounted(&mut self, rows: Rows<'_>) -> Result<bool, Overflow> {
        let Some(column) = rows.args.first() else { return Ok(true) };
        let missing = column.data.count_missing();
        if !are_few(missing, rows.groups.len()) {
            return self.update(rows).map(|()| false);
        }
        if missing > 0 {
            let (low, carried) = self.0.parts();
            each_missing(rows.groups, &column.data, |group, is_missing| {
                take_one_away(low, carried, group, is_missing);
            });
        }
        Ok(true)
    }

    fn count_rows(&mut self, of_groups: &[u64]) {
        self.0.add_each(of_groups);
    }

    fn merge(&mut self, other: &Self, map: &[u32]) -> Result<(), Overflow> {
        self.0.merge(&other.0, map);
        Ok(())
    }

    fn fresh(&self) -> Self {
        Counts::default()
    }

    fn size_bytes(&self) -> usize {
        self.0.size_bytes()
    }

    fn encode(&self, groups: Range<u32>, to: &mut Encoder) {
        to.count(groups.len());
        groups.for_each(|g| self.0.encode(g as usize, to));
    }

    fn decode(&mut self, from: &mut Decoder<'_>) -> Result<(), Damaged> {
        let groups = from.groups()?;
        self.0.resize(1);
        (0..groups).try_for_each(|_| self.0.decode_next(from))
    }
}

/// Calls with the group of each row, and whether its value is missing.
fn each_missing(groups: &[u32], values: &Data, mut call: impl FnMut(u32, bool)) {
    macro_rules! each {
        ($values:expr, $missing:expr) => {
            groups.iter().zip($values).for_each(|(&group, v)| call(group, $missing(v)))
        };
    }
    match values {
        Data::I64(v) => each!(v, |v: &i64| *v == MISSING_I64),
        Data::I128(v) => each!(v, |v: &i128| *v == MISSING_I128),
        Data::F64(v) => each!(v, |v: &f64| v.is_nan()),
        Data::Codes(v) => each!(v, |v: &u32| *v == MISSING_CODE),
        Data::I32(v) => each!(v, |v: &i32| *v == MISSING_I32),
        Data::Bool(v) => each!(v, |v: &u8| *v == MISSING_BOOL),
    }
}

/// Whether so few values are missing that counting all rows and taking these away is faster.
pub(super) fn are_few(missing: usize, rows: usize) -> bool {
    missing <= rows / 8
}

/// The counts of all groups, none of which is missing.
pub(super) fn counts_column(counts: &Times) -> Column {
    whole_column(counts.iter().skip(1).map(|n| Some(i128::from(n))))
}

impl GroupAggregate for Count {
    type State = Counts;

    fn result(&self, _: &[Kind]) -> Result<Kind, ArgumentProblem> {
        Ok(Kind::Number { scale: 0 })
    }
    fn finish(&self, state: &Counts, _: &[Kind]) -> Result<Column, Overflow> {
        Ok(counts_column(&state.0))
    }
    fn additivity(&self) -> Additivity {
        Additivity::Counted
    }
}
