//! Which groups of rows can hold any that is wanted, by what the file says of their values.
//!
//! A group is passed over only where every column of the condition has a value in all its rows, so that the rows
//! are known to be left out for their values and not for want of one; and only by numbers, dates and times that
//! are read as they stand.

use super::convert::ArrayReader;
use super::types::Natural;
use crate::fence::fenced;
use crate::file_rows::{Want, Wanted};
use crate::kinds::Reading;
use crate::kinds::values::Shape;
use crate::text::columns::ColumnReader;
use arrow_array::{Array, ArrayRef, UInt64Array};
use oeuvre_columns::column::Column;
use oeuvre_columns::{Kind, Limits, Value};
use parquet::arrow::arrow_reader::ArrowReaderMetadata;
use parquet::arrow::arrow_reader::statistics::StatisticsConverter;
use std::collections::HashMap;

/// What a file says of a column, for each group of rows.
struct Said {
    lowest: Vec<Value>,
    highest: Vec<Value>,
    missing: UInt64Array,
}

/// For each group of rows whether any row of it can be wanted.
pub(super) fn wanted_groups(
    metadata: &ArrowReaderMetadata,
    naturals: &[Natural],
    wanted: &Wanted<'_>,
) -> Vec<bool> {
    let groups = metadata.metadata().num_row_groups();
    let all = vec![true; groups];
    let limits = &wanted.bounds.of;
    // Whether a label has a row is not known of groups.
    let asks = |l: &Limits| !l.ranges.is_empty() && l.texts.is_empty();
    if limits.is_empty() || !limits.iter().all(asks) {
        return all;
    }
    let mut said: HashMap<usize, Option<Said>> = HashMap::new();
    for column in limits.iter().flat_map(|l| l.columns.iter().copied()) {
        said.entry(column).or_insert_with(|| {
            let place = wanted.wants.iter().find_map(|want| match want {
                Want::Values { column: c, place } if *c == column => Some(*place),
                _ => None,
            })?;
            fenced(|| said_of(metadata, place, &naturals[place], wanted, column).ok_or("")).ok()
        });
    }
    let may = |limits: &Limits, group: usize| {
        let whole = limits.columns.iter().all(|column| {
            let of = said.get(column).and_then(Option::as_ref);
            of.is_some_and(|s| s.missing.is_valid(group) && s.missing.value(group) == 0)
        });
        !whole
            || limits.ranges.iter().all(|range| {
                let Some(Some(of)) = said.get(&range.column) else { return true };
                let (lowest, highest) = (&of.lowest[group], &of.highest[group]);
                let below = range.low.as_ref().is_some_and(|low| is_less(highest, low));
                let above = range.high.as_ref().is_some_and(|high| is_less(high, lowest));
                !below && !above
            })
    };
    (0..groups).map(|group| limits.iter().any(|l| may(l, group))).collect()
}

/// Whether a value is certainly less than another.
fn is_less(a: &Value, b: &Value) -> bool {
    match (a, b) {
        (Value::Number(a), Value::Number(b)) => a < b,
        (Value::Date(a), Value::Date(b)) => a < b,
        (Value::DateTime(a), Value::DateTime(b)) => a < b,
        _ => false,
    }
}

/// What a file says of a column; `None` where that is nothing to rely on.
fn said_of(
    metadata: &ArrowReaderMetadata,
    place: usize,
    natural: &Natural,
    wanted: &Wanted<'_>,
    column: usize,
) -> Option<Said> {
    let groups = metadata.metadata().row_groups();
    let name = metadata.schema().fields().get(place)?.name();
    let parquet = metadata.metadata().file_metadata().schema_descr();
    let converter = StatisticsConverter::try_new(name, metadata.schema(), parquet).ok()?;
    let converter = converter.with_missing_null_counts_as_zero(false);
    let missing = converter.row_group_null_counts(groups).ok()?;
    let reading = wanted.columns.reading(column, wanted.file);
    let nothing = || vec![Value::Missing; groups.len()];
    let kind = match (natural, reading.shape) {
        (Natural::Number { .. }, Shape::Number(scale)) => Kind::Number { scale },
        (Natural::Day, Shape::Date(_)) => Kind::Date,
        (Natural::Time { zoned: false, .. }, Shape::DateTime) => Kind::DateTime,
        // Its values say nothing, but it may have one in every row.
        _ => return Some(Said { lowest: nothing(), highest: nothing(), missing }),
    };
    let values = |array: ArrayRef| values(&array, natural, kind, &reading);
    let lowest = values(converter.row_group_mins(groups).ok()?)?;
    let highest = values(converter.row_group_maxes(groups).ok()?)?;
    Some(Said { lowest, highest, missing })
}

/// The values of an array as the column has them.
fn values(
    array: &ArrayRef,
    natural: &Natural,
    kind: Kind,
    reading: &Reading,
) -> Option<Vec<Value>> {
    let by_text = ColumnReader::new(reading.clone(), std::sync::Arc::default());
    let mut column = Column::default();
    ArrayReader::new(natural.clone(), by_text).read(array, &mut column).ok()?;
    Some((0..array.len()).map(|row| column.value(kind, row)).collect())
}
