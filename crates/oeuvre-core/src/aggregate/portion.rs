//! `portion`: the share of rows for which a condition holds.
//!
//! Rows for which the condition is neither true nor false, because what it looks at is missing, are left out of
//! both sides; missing where none is left.
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
//! let request = Request::of(&["route"], &["portion(fare > 10)"]);
//! let plan = Plan::new(&request, rows.columns())?;
//! let (table, _) = run(&plan, &rows, 1)?;
//! let shown: Vec<String> = (0..table.lines.len()).map(|line| table.cell(line, 0).to_string()).collect();
//! assert_eq!(shown, ["0", "0.5"]);
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

use super::count::counts_column;
use super::encoding::{Damaged, Decoder, Encoder};
use super::times::Times;
use super::{Additivity, ArgumentProblem, GroupAggregate, GroupState, Overflow, Ratio, Rows};
use oeuvre_columns::column::{Column, Data, MISSING_BOOL};
use oeuvre_columns::value::Kind;
use std::ops::Range;
use std::sync::Arc;

/// Rows for which the condition holds, over those for which it is true or false. Missing when there
/// are none.
#[derive(PartialEq, Eq, Hash)]
pub struct Portion;

/// How often the condition held, and how often it was known.
#[derive(Clone, Default)]
pub(crate) struct Truths {
    held: Times,
    known: Times,
}

impl GroupState for Truths {
    const FAMILY: &'static str = "portion";

    fn of(_: &[Kind]) -> Self {
        Truths::default()
    }
    fn resize(&mut self, groups: usize) {
        self.held.resize(groups);
        self.known.resize(groups);
    }
    fn update(&mut self, rows: Rows<'_>) -> Result<(), Overflow> {
        if let Data::Bool(truths) = &rows.args[0].data {
            let each = || rows.groups.iter().copied().zip(truths);
            self.held.add_where(each().map(|(g, t)| (g, *t == 1)));
            self.known.add_where(each().map(|(g, t)| (g, *t != MISSING_BOOL)));
        }
        Ok(())
    }
    fn merge(&mut self, other: &Self, map: &[u32]) -> Result<(), Overflow> {
        self.held.merge(&other.held, map);
        self.known.merge(&other.known, map);
        Ok(())
    }
    fn fresh(&self) -> Self {
        Truths::default()
    }

    fn size_bytes(&self) -> usize {
        self.held.size_bytes() + self.known.size_bytes()
    }
    fn encode(&self, groups: Range<u32>, to: &mut Encoder) {
        to.count(groups.len());
        for g in groups.map(|g| g as usize) {
            self.held.encode(g, to);
            self.known.encode(g, to);
        }
    }
    fn decode(&mut self, from: &mut Decoder<'_>) -> Result<(), Damaged> {
        let groups = from.groups()?;
        GroupState::resize(self, 1);
        (0..groups).try_for_each(|_| {
            self.held.decode_next(from)?;
            self.known.decode_next(from)
        })
    }
}

impl GroupAggregate for Portion {
    type State = Truths;

    fn result(&self, args: &[Kind]) -> Result<Kind, ArgumentProblem> {
        match args[0] {
            Kind::Boolean => Ok(Kind::Float),
            _ => Err(ArgumentProblem::NotACondition(0)),
        }
    }
    fn finish(&self, state: &Truths, _: &[Kind]) -> Result<Column, Overflow> {
        // Counts below 2^53 are exact, so that one division rounds correctly.
        let rate = |(held, known): (u64, u64)| {
            if known == 0 { f64::NAN } else { held as f64 / known as f64 }
        };
        let each = state.held.iter().zip(state.known.iter()).skip(1);
        Ok(Column::from(Data::F64(each.map(rate).collect())))
    }
    fn ratio(&self, _: &[Kind]) -> Option<Ratio> {
        let part = |known| Arc::new(Part { known });
        Some(Ratio { numerator: part(false), denominator: Some(part(true)) })
    }
    fn additivity(&self) -> Additivity {
        Additivity::Note("the share of all rows, not a sum of the lines")
    }
}

/// How often the condition held, or how often it was known: the two parts of a portion.
#[derive(PartialEq, Eq, Hash)]
struct Part {
    known: bool,
}

impl GroupAggregate for Part {
    type State = Truths;

    fn result(&self, _: &[Kind]) -> Result<Kind, ArgumentProblem> {
        Ok(Kind::Number { scale: 0 })
    }
    fn finish(&self, state: &Truths, _: &[Kind]) -> Result<Column, Overflow> {
        let counts = if self.known { &state.known } else { &state.held };
        Ok(counts_column(counts))
    }
    fn additivity(&self) -> Additivity {
        Additivity::Additive
    }
}
