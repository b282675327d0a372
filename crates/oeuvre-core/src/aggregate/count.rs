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
use super::{
    Additivity, ArgumentProblem, GroupAggregate, GroupState, Overflow, Rows, whole_column,
};
use oeuvre_columns::column::ahead::{SOON, ask_for, is_far};
use oeuvre_columns::column::dictionary::MISSING_CODE;
use oeuvre_columns::column::{Column, Data, MISSING_BOOL, MISSING_I32, MISSING_I64, MISSING_I128};
use oeuvre_columns::room::lengthen;
use oeuvre_columns::value::Kind;
use std::ops::Range;

/// Counts rows without an argument, values present with one. An empty group has 0.
#[derive(PartialEq, Eq, Hash)]
pub struct Count;

/// A count for each group.
#[derive(Clone, Default)]
pub struct Counts(pub(crate) Vec<u64>);

impl GroupState for Counts {
    const FAMILY: &'static str = "count";

    fn of(_: &[Kind]) -> Self {
        Counts::default()
    }
    fn resize(&mut self, groups: usize) {
        lengthen(&mut self.0, groups, 0);
    }

    fn update(&mut self, rows: Rows<'_>) -> Result<(), Overflow> {
        let counts = &mut self.0[..];
        macro_rules! present {
            ($values:expr, $missing:expr) => {
                for (&g, v) in rows.groups.iter().zip($values) {
                    counts[g as usize] += u64::from(!$missing(v));
                }
            };
        }
        match rows.args.first().map(|c| &c.data) {
            None => {
                let far = is_far(counts);
                for (row, &g) in rows.groups.iter().enumerate() {
                    if far && let Some(&soon) = rows.groups.get(row + SOON) {
                        ask_for(counts, soon as usize);
                    }
                    counts[g as usize] += 1;
                }
            }
            Some(Data::I64(v)) => present!(v, |v: &i64| *v == MISSING_I64),
            Some(Data::I128(v)) => present!(v, |v: &i128| *v == MISSING_I128),
            Some(Data::F64(v)) => present!(v, |v: &f64| v.is_nan()),
            Some(Data::Codes(v)) => present!(v, |v: &u32| *v == MISSING_CODE),
            Some(Data::I32(v)) => present!(v, |v: &i32| *v == MISSING_I32),
            Some(Data::Bool(v)) => present!(v, |v: &u8| *v == MISSING_BOOL),
        }
        Ok(())
    }

    fn merge(&mut self, other: &Self, map: &[u32]) -> Result<(), Overflow> {
        for (&to, n) in map.iter().zip(&other.0) {
            self.0[to as usize] += n;
        }
        Ok(())
    }

    fn fresh(&self) -> Self {
        Counts::default()
    }

    fn size_bytes(&self) -> usize {
        size_of_val(self.0.as_slice())
    }

    fn encode(&self, groups: Range<u32>, to: &mut Encoder) {
        to.count(groups.len());
        groups.for_each(|g| to.unsigned(u128::from(self.0[g as usize])));
    }

    fn decode(&mut self, from: &mut Decoder<'_>) -> Result<(), Damaged> {
        self.0 = vec![0];
        for _ in 0..from.groups()? {
            self.0.push(from.times()?);
        }
        Ok(())
    }
}

impl GroupAggregate for Count {
    type State = Counts;

    fn result(&self, _: &[Kind]) -> Result<Kind, ArgumentProblem> {
        Ok(Kind::Number { scale: 0 })
    }
    fn finish(&self, state: &Counts, _: &[Kind]) -> Result<Column, Overflow> {
        let counts = &state.0;
        Ok(whole_column(counts.iter().skip(1).map(|&n| Some(i128::from(n)))))
    }
    fn additivity(&self) -> Additivity {
        Additivity::Counted
    }
}
