//! Aggregates: one value for each group of rows.
//!
//! An aggregate has a *state*, which is columnar (one entry for each group), is updated a batch at
//! a time, and can be merged: two workers' states into one, and fine groups into coarse ones. That
//! one operation serves threads, subtotals and totals alike. Aggregates that can be finished from
//! the same state share it ([`Aggregate::family`]).
//!
//! To add one: write it in a file of this folder and give it a row in `language/functions.rs`.
//!
//! Group 0 is the waste group: rows that a condition inside the aggregate leaves out are counted
//! there, so that no loop has to branch. Groups proper begin at 1.

pub mod at;
pub mod count;
pub mod distinct;
pub mod ends;
pub mod extremes;
pub(crate) mod float_sum;
pub mod frequent;
pub mod list;
pub mod moments;
pub mod once;
pub mod portion;
pub mod quantiles;
pub mod sums;
pub mod two;
pub mod values;

use crate::same::Same;
use oeuvre_columns::column::{Column, Data};
use oeuvre_columns::value::Kind;
use std::any::Any;
use std::hash::{Hash, Hasher};
use std::sync::Arc;

pub use oeuvre_columns::value::Overflow;

/// The rows of a batch on their way into a state.
#[derive(Clone, Copy)]
pub struct Rows<'a> {
    /// The group of each row; 0 is the waste group.
    pub groups: &'a [u32],
    /// The aggregate's arguments, a value for each row.
    pub args: &'a [&'a Column],
    /// Says where the batch stands in the order of all rows.
    pub piece: u64,
}

impl Rows<'_> {
    /// Where a row stands in the order of all rows.
    #[inline]
    pub fn ordinal(&self, row: usize) -> u64 {
        self.piece << 32 | row as u64
    }
}

/// Columnar state for all groups. Every operation gives the same result in whatever order batches
/// come and states are merged; order among rows is taken from [`Rows::ordinal`].
pub trait State: Any + Send + Sync {
    /// Makes room for this many groups, the waste group included. Never shrinks.
    fn resize(&mut self, groups: usize);

    /// Takes in a batch. A missing argument is left out, as the aggregate's documentation says.
    ///
    /// # Errors
    /// [`Overflow`] when an exact result no longer fits 128 bits.
    fn update(&mut self, rows: Rows<'_>) -> Result<(), Overflow>;

    /// Adds the groups of another state of the same type: group `g` there goes to `map[g]` here.
    ///
    /// # Errors
    /// [`Overflow`] as for [`State::update`].
    fn merge(&mut self, other: &dyn State, map: &[u32]) -> Result<(), Overflow>;

    /// An empty state of the same shape.
    fn fresh(&self) -> Box<dyn State>;

    /// For the downcast in [`State::merge`] and [`Aggregate::finish`].
    fn as_any(&self) -> &dyn Any;
}

/// What an aggregate cannot take.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ArgumentProblem {
    /// It works on numbers, and this argument (counted from 0) is of another kind.
    NotANumber(usize),
    /// It works on a condition, and this argument is of another kind.
    NotACondition(usize),
}

/// How the figures on the lines relate to the figure on their total.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Additivity {
    /// The lines add up to the total, always.
    Additive,
    /// They need not; the note says why, `{}` standing for what is aggregated.
    Note(&'static str),
}

/// A result as a quotient.
pub struct Ratio {
    /// What is divided.
    pub numerator: Arc<dyn Aggregate>,
    /// By what; by 1 where there is none.
    pub denominator: Option<Arc<dyn Aggregate>>,
}

/// What the arguments of an aggregate are brought to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Shape {
    /// They are taken as they come.
    AsGiven,
    /// The first is a label, and so a text.
    LabelFirst,
    /// Numbers that meet: all in binary64 where one of them is.
    SameNumbers,
}

/// An aggregate function. Two are the same where they are of one type and equal.
pub trait Aggregate: Same + Sync + Send {
    /// The kind of the result for arguments of these kinds.
    ///
    /// # Errors
    /// The first argument that it cannot take.
    fn result(&self, args: &[Kind]) -> Result<Kind, ArgumentProblem>;

    /// The name of the state that it is finished from; aggregates of one family share it.
    fn family(&self) -> &'static str;

    /// An empty state for arguments of these kinds.
    fn state(&self, args: &[Kind]) -> Box<dyn State>;

    /// The result for each group, the waste group left out: one value less than the state has.
    ///
    /// # Errors
    /// [`Overflow`] when the result cannot be held.
    fn finish(&self, state: &dyn State, args: &[Kind]) -> Result<Column, Overflow>;

    /// The result as a quotient of exact results, finished from the same state, where it is one.
    fn ratio(&self, args: &[Kind]) -> Option<Ratio> {
        let _ = args;
        None
    }

    /// Whether a binary64 result is the one nearest to the exact result.
    fn rounds_once(&self) -> bool {
        true
    }

    /// What the arguments are brought to first.
    fn shape(&self) -> Shape {
        Shape::AsGiven
    }

    /// Whether lines add up to their total.
    fn additivity(&self) -> Additivity;
}

/// An aggregate that is shared, and told apart by what it is.
#[derive(Clone)]
pub struct AggregateRef(pub Arc<dyn Aggregate>);

impl std::ops::Deref for AggregateRef {
    type Target = dyn Aggregate;

    fn deref(&self) -> &(dyn Aggregate + 'static) {
        self.0.as_ref()
    }
}

impl PartialEq for AggregateRef {
    fn eq(&self, other: &AggregateRef) -> bool {
        self.0.same(other.0.as_any_same())
    }
}

impl Eq for AggregateRef {}

impl Hash for AggregateRef {
    fn hash<H: Hasher>(&self, mut state: &mut H) {
        self.0.hash_same(&mut state);
    }
}

/// Downcasts a state that the plan has made of this very type.
fn own<T: 'static>(state: &dyn State) -> &T {
    state
        .as_any()
        .downcast_ref()
        .unwrap_or_else(|| unreachable!("states of one family share a type"))
}

/// Exact results in 64 bits where all of them fit, else in 128.
fn whole_column(values: impl Iterator<Item = Option<i128>> + Clone) -> Column {
    use oeuvre_columns::column::{MISSING_I64, MISSING_I128};
    let fits = values.clone().flatten().all(|v| i64::try_from(v).is_ok_and(|v| v != MISSING_I64));
    Column::from(if fits {
        Data::I64(values.map(|v| v.map_or(MISSING_I64, |v| v as i64)).collect())
    } else {
        Data::I128(values.map(|v| v.unwrap_or(MISSING_I128)).collect())
    })
}

/// A binary64 result, or why there is none.
fn finite(value: f64) -> Result<f64, Overflow> {
    if value.is_infinite() { Err(Overflow::Binary) } else { Ok(value) }
}

/// The kind of a number, or the problem with an argument that is none. What has no value adds up as a
/// number of none.
fn number(args: &[Kind], index: usize) -> Result<Kind, ArgumentProblem> {
    match args.get(index) {
        Some(Kind::Nothing) => Ok(Kind::Number { scale: 0 }),
        Some(kind) if kind.is_number() => Ok(*kind),
        _ => Err(ArgumentProblem::NotANumber(index)),
    }
}
