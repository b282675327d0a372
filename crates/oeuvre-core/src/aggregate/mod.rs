//! Aggregates: one value for each group of rows.
//!
//! An aggregate has a *state*, which is columnar (one entry for each group), is updated a batch at a time, and
//! can be merged: two workers' states into one, and fine groups into coarse ones. That one operation serves
//! threads, subtotals and totals alike. Aggregates that can be finished from the same state share it
//! ([`Aggregate::family`]), so that a mean and a sum of one column cost one state. The cost of an update is a
//! load, an operation and a store a row; that of a merge grows with the groups.
//!
//! To add one: write it in a file of this folder (`GroupAggregate` and `GroupState`), and give it a row in
//! `language/functions/aggregate.rs`. An aggregate that needs the values themselves takes the state `Values`
//! and writes no `GroupState`. Nothing else is to be told of it.
//!
//! Group 0 takes the rows that count in no group, those that a condition inside the aggregate leaves out: they
//! are added there, and never read, so that no loop has to branch. Groups proper begin at 1.
//!
//! ```
//! use oeuvre_columns::{Kind, Value, column::Column};
//! use oeuvre_core::aggregate::{Aggregate, Rows, sums::{Mean, Sum}};
//!
//! let kind = Kind::Number { scale: 2 };
//! let fares: Vec<Value> = ["12.50", "8.00", "7.00"].map(|t| Value::Number(t.parse().unwrap())).into();
//! let fares = Column::from_values(kind, &fares);
//! let mut state = Sum.state(&[kind]);
//! state.resize(3); // group 0, and two proper
//! state.update(Rows { groups: &[1, 2, 1], args: &[&fares], piece: 0 }).unwrap();
//! let mut total = state.fresh();
//! total.resize(2);
//! total.merge(&*state, &[0, 1, 1]).unwrap(); // both groups become one
//! assert_eq!(Sum.finish(&*state, &[kind]).unwrap().value(kind, 0).to_string(), "19.50");
//! assert_eq!(Sum.finish(&*total, &[kind]).unwrap().value(kind, 0).to_string(), "27.50");
//! assert_eq!(Sum.family(), Mean.family()); // a mean is finished from the same state
//! ```

mod bits;
pub mod count;
pub mod distinct;
pub mod encoding;
mod exact_sums;
pub mod extremes;
pub mod first_last;
pub(crate) mod float_sum;
pub mod frequent;
pub mod label_at_extreme;
pub mod list;
pub mod moments;
pub mod once;
pub mod portion;
pub mod quantiles;
pub mod regression;
pub mod sums;
pub(crate) mod times;
pub(crate) mod values;
mod words;

use crate::same::{Alike, Same};
use encoding::{Damaged, Decoder, Encoder};
use oeuvre_columns::column::{Column, Data};
use oeuvre_columns::value::Kind;
use std::any::Any;
use std::ops::Range;
use std::sync::Arc;

pub use oeuvre_columns::value::Overflow;

/// The rows of a batch on their way into a state.
#[derive(Clone, Copy)]
pub struct Rows<'a> {
    /// The group of each row; 0 for rows that count in none.
    pub groups: &'a [u32],
    /// The aggregate's arguments, a value for each row.
    pub args: &'a [&'a Column],
    /// Says where the batch stands in the order of all rows.
    pub piece: u64,
}

/// Where a row stands in the order of all rows: the part of the data, the piece of the part, the row of the
/// piece.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Ordinal(u128);

impl Ordinal {
    /// The first place of the same piece, and how many rows further on it is.
    fn in_piece(self) -> (Ordinal, u32) {
        let row = self.0 as u32;
        (Ordinal(self.0 - u128::from(row)), row)
    }

    /// So many rows further on from the first place of a piece.
    #[inline]
    fn on_by(self, rows: u32) -> Ordinal {
        Ordinal(self.0 | u128::from(rows))
    }

    fn encode(self, to: &mut Encoder) {
        to.unsigned(self.0);
    }

    fn decode(from: &mut Decoder<'_>) -> Result<Ordinal, Damaged> {
        let Ordinal(place) = from.unsigned().map(Ordinal)?;
        let part = from.part((place >> 96) as u32)?;
        Ok(Ordinal(place & u128::MAX >> 32 | u128::from(part) << 96))
    }

    /// The place of a row.
    #[inline]
    pub fn new(part: u32, piece: u64, row: u32) -> Ordinal {
        Ordinal(u128::from(part) << 96 | u128::from(piece) << 32 | u128::from(row))
    }
}

impl Rows<'_> {
    /// Where a row stands in the order of all rows.
    #[inline]
    pub fn ordinal(&self, row: usize) -> Ordinal {
        Ordinal::new(0, self.piece, row as u32)
    }
}

/// Columnar state for all groups. Every operation gives the same result in whatever order batches
/// come and states are merged; order among rows is taken from [`Rows::ordinal`].
///
/// This is what the rest of the program sees of a state, whatever its type: see `GroupState` for what an
/// aggregate writes.
pub trait State: Send + Sync {
    /// Makes room for this many groups, group 0 included. Never shrinks.
    fn resize(&mut self, groups: usize);

    /// Takes in a batch. A missing argument is left out, as the aggregate's documentation says.
    ///
    /// # Errors
    /// [`Overflow`] when an exact result no longer fits 128 bits.
    fn update(&mut self, rows: Rows<'_>) -> Result<(), Overflow>;

    /// As [`State::update`], but it may leave out how many rows of each group there were. True where it has: whoever calls then
    /// says so to [`State::count_rows`] before anything but the next batch.
    ///
    /// # Errors
    /// As for [`State::update`].
    fn update_uncounted(&mut self, rows: Rows<'_>) -> Result<bool, Overflow>;

    /// So many rows of each group have come that it has not counted, group 0 first.
    fn count_rows(&mut self, of_groups: &[u64]);

    /// Adds the groups of another state of the same type: group `g` there goes to `map[g]` here, and nowhere at 0.
    ///
    /// # Errors
    /// [`Overflow`] as for [`State::update`].
    fn merge(&mut self, other: &dyn State, map: &[u32]) -> Result<(), Overflow>;

    /// An empty state of the same shape.
    fn fresh(&self) -> Box<dyn State>;

    /// About how many bytes of memory it takes.
    fn size_bytes(&self) -> usize;

    /// Whether it holds values of a group, more of them the more rows there are; else a few numbers.
    fn holds_values(&self) -> bool;

    /// Whether merging it into another looks at all of its values, or texts, however few groups are wanted.
    fn looks_values_up(&self) -> bool;

    /// How many values it holds, where a result is found among all of a group; else 0.
    fn values(&self) -> usize;

    /// Writes some groups down; the layout is that of [`encoding`].
    fn encode(&self, groups: Range<u32>, to: &mut Encoder);

    /// Reads groups that were written down into an empty state of the same shape: they become the groups from
    /// 1 on.
    ///
    /// # Errors
    /// What was read is not what such a state writes.
    fn decode(&mut self, from: &mut Decoder<'_>) -> Result<(), Damaged>;

    /// The state with its type.
    fn typed(&self) -> Typed<'_>;
}

/// Takes rows that are all at hand into a state, as many at a time as a batch has: states learn on the way how many values
/// differ.
///
/// # Errors
/// As for [`State::update`].
pub(crate) fn update_with_all(state: &mut dyn State, rows: Rows<'_>) -> Result<(), Overflow> {
    const ROWS: usize = if cfg!(test) { 8 } else { 1 << 16 };
    if rows.groups.len() <= ROWS {
        return state.update(rows);
    }
    for (piece, groups) in (rows.piece..).zip(rows.groups.chunks(ROWS)) {
        let from = (piece - rows.piece) as usize * ROWS;
        let slice = |column: &&Column| column.slice(from..from + groups.len());
        let args: Vec<Column> = rows.args.iter().map(slice).collect();
        let args: Vec<&Column> = args.iter().collect();
        state.update(Rows { groups, args: &args, piece })?;
    }
    Ok(())
}

/// A state that knows its type.
pub struct Typed<'a>(&'a dyn Any);

impl<'a> Typed<'a> {
    /// The state as what it is.
    pub(crate) fn of<T: GroupState>(self) -> &'a T {
        match self.0.downcast_ref() {
            Some(state) => state,
            None => unreachable!("states of one family share a type"),
        }
    }
}

/// What an aggregate keeps for all groups: see [`State`], of which this is the typed side.
pub(crate) trait GroupState: Send + Sync + Sized + 'static {
    /// What aggregates that are finished from it share: no two types of state have the same.
    const FAMILY: &'static str;
    /// An empty state for arguments of these kinds.
    fn of(args: &[Kind]) -> Self;
    /// As [`State::resize`].
    fn resize(&mut self, groups: usize);
    /// As [`State::update`].
    fn update(&mut self, rows: Rows<'_>) -> Result<(), Overflow>;
    /// As [`State::update_uncounted`].
    fn update_uncounted(&mut self, rows: Rows<'_>) -> Result<bool, Overflow> {
        self.update(rows).map(|()| false)
    }
    /// As [`State::count_rows`].
    fn count_rows(&mut self, of_groups: &[u64]) {
        let _ = of_groups;
    }
    /// As [`State::merge`].
    fn merge(&mut self, other: &Self, map: &[u32]) -> Result<(), Overflow>;
    /// As [`State::fresh`].
    fn fresh(&self) -> Self;
    /// As [`State::size_bytes`].
    fn size_bytes(&self) -> usize;
    /// As [`State::holds_values`].
    fn holds_values(&self) -> bool {
        false
    }
    /// As [`State::looks_values_up`].
    fn looks_values_up(&self) -> bool {
        self.holds_values()
    }
    /// As [`State::values`].
    fn values(&self) -> usize {
        0
    }
    /// As [`State::encode`].
    fn encode(&self, groups: Range<u32>, to: &mut Encoder);
    /// As [`State::decode`].
    fn decode(&mut self, from: &mut Decoder<'_>) -> Result<(), Damaged>;
}

impl<T: GroupState> State for T {
    fn resize(&mut self, groups: usize) {
        GroupState::resize(self, groups);
    }
    fn update(&mut self, rows: Rows<'_>) -> Result<(), Overflow> {
        GroupState::update(self, rows)
    }
    fn update_uncounted(&mut self, rows: Rows<'_>) -> Result<bool, Overflow> {
        GroupState::update_uncounted(self, rows)
    }
    fn count_rows(&mut self, of_groups: &[u64]) {
        GroupState::count_rows(self, of_groups);
    }
    fn merge(&mut self, other: &dyn State, map: &[u32]) -> Result<(), Overflow> {
        GroupState::merge(self, other.typed().of::<T>(), map)
    }
    fn fresh(&self) -> Box<dyn State> {
        Box::new(GroupState::fresh(self))
    }
    fn size_bytes(&self) -> usize {
        GroupState::size_bytes(self)
    }
    fn holds_values(&self) -> bool {
        GroupState::holds_values(self)
    }
    fn looks_values_up(&self) -> bool {
        GroupState::looks_values_up(self)
    }
    fn values(&self) -> usize {
        GroupState::values(self)
    }
    fn encode(&self, groups: Range<u32>, to: &mut Encoder) {
        to.version();
        GroupState::encode(self, groups, to);
    }
    fn decode(&mut self, from: &mut Decoder<'_>) -> Result<(), Damaged> {
        from.version()?;
        GroupState::decode(self, from)
    }
    fn typed(&self) -> Typed<'_> {
        Typed(self)
    }
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
    /// They do, and none is ever missing: of no values it is 0.
    Counted,
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

/// An aggregate function. Two are the same where they are of one type and equal: `percentile(x, 90)` twice.
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

    /// The result for each group, group 0 left out: one value less than the state has. What a group without
    /// values gives is said by each aggregate: missing, but 0 for those that count.
    ///
    /// # Errors
    /// [`Overflow`] when the result cannot be held.
    fn finish(&self, state: &dyn State, args: &[Kind]) -> Result<Column, Overflow>;

    /// The result as a quotient of exact results, finished from the same state, where it is one.
    fn ratio(&self, args: &[Kind]) -> Option<Ratio>;

    /// Whether a binary64 result is the one nearest to the exact result.
    fn rounds_once(&self) -> bool;

    /// What the arguments are brought to first.
    fn shape(&self) -> Shape;

    /// Whether lines add up to their total.
    fn additivity(&self) -> Additivity;

    /// What to ask whoever wrote it so, where something else may be meant.
    fn question(&self) -> Option<String>;
}

/// An aggregate with the type of its state: see [`Aggregate`], of which this is the typed side.
pub(crate) trait GroupAggregate: Same + Sync + Send {
    /// What it is finished from.
    type State: GroupState;
    /// As [`Aggregate::result`].
    fn result(&self, args: &[Kind]) -> Result<Kind, ArgumentProblem>;
    /// As [`Aggregate::family`]: that of the state, unless states of one type differ in more than their values.
    fn family(&self) -> &'static str {
        Self::State::FAMILY
    }
    /// As [`Aggregate::state`].
    fn state(&self, args: &[Kind]) -> Self::State {
        Self::State::of(args)
    }
    /// As [`Aggregate::finish`].
    fn finish(&self, state: &Self::State, args: &[Kind]) -> Result<Column, Overflow>;
    /// As [`Aggregate::ratio`].
    fn ratio(&self, args: &[Kind]) -> Option<Ratio> {
        let _ = args;
        None
    }
    /// As [`Aggregate::rounds_once`].
    fn rounds_once(&self) -> bool {
        true
    }
    /// As [`Aggregate::shape`].
    fn shape(&self) -> Shape {
        Shape::AsGiven
    }
    /// As [`Aggregate::additivity`].
    fn additivity(&self) -> Additivity;
    /// As [`Aggregate::question`].
    fn question(&self) -> Option<String> {
        None
    }
}

impl<A: GroupAggregate> Aggregate for A {
    fn result(&self, args: &[Kind]) -> Result<Kind, ArgumentProblem> {
        GroupAggregate::result(self, args)
    }
    fn family(&self) -> &'static str {
        GroupAggregate::family(self)
    }
    fn state(&self, args: &[Kind]) -> Box<dyn State> {
        Box::new(GroupAggregate::state(self, args))
    }
    fn finish(&self, state: &dyn State, args: &[Kind]) -> Result<Column, Overflow> {
        GroupAggregate::finish(self, state.typed().of::<A::State>(), args)
    }
    fn ratio(&self, args: &[Kind]) -> Option<Ratio> {
        GroupAggregate::ratio(self, args)
    }
    fn rounds_once(&self) -> bool {
        GroupAggregate::rounds_once(self)
    }
    fn shape(&self) -> Shape {
        GroupAggregate::shape(self)
    }
    fn additivity(&self) -> Additivity {
        GroupAggregate::additivity(self)
    }
    fn question(&self) -> Option<String> {
        GroupAggregate::question(self)
    }
}

/// An aggregate that is shared, and told apart by what it is.
pub type AggregateRef = Alike<dyn Aggregate>;

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

#[cfg(test)]
mod tests {
    use super::*;
    use oeuvre_columns::value::Value;

    #[test]
    fn whole_results_are_held_in_64_bits_where_all_fit() {
        let held = |values: &[Option<i128>]| whole_column(values.iter().copied()).data;
        assert!(matches!(held(&[Some(1), None]), Data::I64(v) if v == [1, i64::MIN]));
        // The number whose bits say missing needs 128 bits, as larger ones do.
        for wide in [i128::from(i64::MIN), i128::from(i64::MAX) + 1] {
            let column = Column::from(held(&[Some(wide), None]));
            let kind = Kind::Number { scale: 0 };
            assert_eq!(column.value(kind, 0).to_string(), wide.to_string());
            assert_eq!(column.value(kind, 1), Value::Missing);
        }
    }

    #[test]
    fn an_argument_without_any_value_is_a_number_of_none() {
        assert_eq!(number(&[Kind::Nothing], 0), Ok(Kind::Number { scale: 0 }));
        assert_eq!(number(&[Kind::Float, Kind::Text], 1), Err(ArgumentProblem::NotANumber(1)));
        assert_eq!(number(&[], 0), Err(ArgumentProblem::NotANumber(0)));
        assert_eq!(
            (finite(f64::MAX), finite(f64::INFINITY)),
            (Ok(f64::MAX), Err(Overflow::Binary))
        );
    }

    #[test]
    fn rows_stand_in_the_order_of_parts_pieces_and_places() {
        let places = [(0, 0, 5), (0, 1, 0), (0, 1, 1), (1, 0, 0)];
        let places = places.map(|(part, piece, row)| Ordinal::new(part, piece, row));
        assert!(places.is_sorted() && Ordinal::default() < places[0]);
        let again = places.map(Ordinal::in_piece).map(|(piece, row)| piece.on_by(row));
        assert_eq!(again, places);
    }
}
