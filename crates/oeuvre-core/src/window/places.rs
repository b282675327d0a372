//! The places of cells that were compared: one a cell, or what they follow from.

use super::order::Span;
use oeuvre_columns::column::{Column, Data, MISSING_I64};
use std::ops::Range;

/// The places of cells.
pub(crate) enum Places {
    /// One a cell.
    Made(Column),
    /// They follow from the values.
    Counted(Counted),
}

/// Places that follow from partition and value: nothing is kept for a cell.
pub(crate) struct Counted {
    /// By partition and number of the value.
    pub(super) places: Vec<u32>,
    /// How many numbers a partition has.
    pub(super) each: usize,
    pub(super) span: Span,
}

impl Counted {
    /// The places of some of the cells that were counted, by the partitions and values of all of them.
    pub(crate) fn of(&self, cells: Range<usize>, partition: &[u32], x: &Data) -> Column {
        let Data::I64(values) = x else { return Column::default() };
        let (partition, values) = (&partition[cells.clone()], &values[cells]);
        let place = |(&p, v): (&u32, &i64)| {
            let at = at(p, self.each, self.span.number(value(v)) as usize);
            self.places.get(at).map_or(MISSING_I64, |&place| widened(place))
        };
        Column::from(Data::I64(partition.iter().zip(values).map(place).collect()))
    }
}

/// A value, unless it is missing.
pub(super) fn value(v: &i64) -> Option<i64> {
    (*v != MISSING_I64).then_some(*v)
}

/// No place: of a missing value.
pub(super) const NO_PLACE: u32 = u32::MAX;

/// Where the place of a number of a partition stands.
#[inline(always)]
pub(super) fn at(partition: u32, each: usize, number: usize) -> usize {
    (partition as usize).saturating_mul(each).saturating_add(number)
}

/// A place among values of 64 bits.
pub(super) fn widened(place: u32) -> i64 {
    if place == NO_PLACE { MISSING_I64 } else { i64::from(place) }
}
