//! Columns of rows as bytes, with what their fields said beside their values: for rows that are kept as they are, and
//! for lookups.

use crate::aggregate::encoding::{Damaged, Decoder, Encoder};
use crate::notice::{decode_mark, encode_mark};
use oeuvre_columns::column::dictionary::{Dictionary, MISSING_CODE};
use oeuvre_columns::column::marks::Marks;
use oeuvre_columns::column::{Column, Data, MISSING_BOOL, MISSING_I32, MISSING_I64, MISSING_I128};
use std::sync::Arc;

/// Writes a column down: its values, each whole number as the difference from the one before, and its marks.
pub fn encode_column(column: &Column, to: &mut Encoder) {
    to.count(column.data.len());
    match &column.data {
        Data::I64(v) => {
            to.unsigned(0);
            differences(v.iter().map(|&x| (x != MISSING_I64).then_some(i128::from(x))), to);
        }
        Data::I128(v) => {
            to.unsigned(1);
            differences(v.iter().map(|&x| (x != MISSING_I128).then_some(x)), to);
        }
        Data::F64(v) => {
            to.unsigned(2);
            v.iter().for_each(|x| to.unsigned(u128::from(x.to_bits())));
        }
        Data::I32(v) => {
            to.unsigned(3);
            differences(v.iter().map(|&x| (x != MISSING_I32).then_some(i128::from(x))), to);
        }
        Data::Bool(v) => {
            to.unsigned(4);
            v.iter().for_each(|&x| to.unsigned(u128::from(x)));
        }
        Data::Codes(v) => {
            to.unsigned(5);
            to.count(column.dictionary.len());
            column.dictionary.iter().for_each(|text| to.text(text));
            // The missing code is the largest, and becomes 0.
            v.iter().for_each(|code| to.unsigned(u128::from(code.wrapping_add(1))));
        }
    }
    let marks: Vec<_> = column.marks.iter().collect();
    to.count(marks.len());
    for (row, mark) in marks {
        to.unsigned(u128::from(row));
        encode_mark(mark, &column.marks.texts, to);
    }
}

fn differences(values: impl Iterator<Item = Option<i128>>, to: &mut Encoder) {
    let mut before = 0i128;
    for value in values {
        match value {
            None => to.unsigned(0),
            Some(value) => {
                to.unsigned(1);
                to.signed(value.wrapping_sub(before));
                before = value;
            }
        }
    }
}

/// Reads a column that was written down.
///
/// # Errors
/// What was read is none.
pub fn decode_column(from: &mut Decoder<'_>) -> Result<Column, Damaged> {
    let rows = from.count()?;
    let mut dictionary = Dictionary::default();
    let data = match from.unsigned()? {
        0 => Data::I64(whole(rows, MISSING_I64, from)?),
        1 => Data::I128(whole(rows, MISSING_I128, from)?),
        2 => Data::F64(each(rows, || Ok(f64::from_bits(from.word()?)))?),
        3 => Data::I32(whole(rows, MISSING_I32, from)?),
        4 => {
            let truth = || match from.unsigned()? {
                0 => Ok(0),
                1 => Ok(1),
                n if n == u128::from(MISSING_BOOL) => Ok(MISSING_BOOL),
                _ => Err(Damaged),
            };
            Data::Bool(each(rows, truth)?)
        }
        5 => {
            for expected in 0..from.count()? {
                if dictionary.intern(from.text()?) as usize != expected {
                    return Err(Damaged);
                }
            }
            let texts = dictionary.len();
            let code = || match from.code(texts + 1)? {
                0 => Ok(MISSING_CODE),
                code => Ok(code - 1),
            };
            Data::Codes(each(rows, code)?)
        }
        _ => return Err(Damaged),
    };
    let (mut texts, mut marks) = (Vec::new(), Vec::new());
    for _ in 0..from.count()? {
        let row = from.code(rows)?;
        if marks.last().is_some_and(|(before, _)| *before > row) {
            return Err(Damaged);
        }
        marks.push((row, decode_mark(&mut texts, from)?));
    }
    let mut column = Column::coded(data, dictionary);
    column.marks = Marks::of(Arc::new(texts));
    marks.into_iter().for_each(|(row, mark)| column.marks.put(row, mark));
    Ok(column)
}

fn each<T>(rows: usize, mut one: impl FnMut() -> Result<T, Damaged>) -> Result<Vec<T>, Damaged> {
    (0..rows).map(|_| one()).collect()
}

fn whole<T: TryFrom<i128> + Copy + PartialEq>(
    rows: usize,
    missing: T,
    from: &mut Decoder<'_>,
) -> Result<Vec<T>, Damaged> {
    let mut before = 0i128;
    each(rows, || {
        if from.unsigned()? == 0 {
            return Ok(missing);
        }
        before = before.wrapping_add(from.signed()?);
        T::try_from(before).ok().filter(|value| *value != missing).ok_or(Damaged)
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use oeuvre_columns::column::marks::Mark;
    use oeuvre_columns::{Decimal, Kind, Value};
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_column_that_is_written_is_read(
            numbers in proptest::collection::vec(proptest::option::of(any::<i64>()), 0..40), kind in 0usize..6,
            bytes in proptest::collection::vec(any::<u8>(), 0..60),
        ) {
            let kind = [Kind::Number { scale: 2 }, Kind::Float, Kind::Text, Kind::Boolean, Kind::Date, Kind::DateTime][kind];
            let value = |n: &Option<i64>| match (n, kind) {
                (None, _) => Value::Missing,
                (Some(n), Kind::Float) => Value::Float(*n as f64 / 8.0),
                (Some(n), Kind::Text) => Value::Text(format!("t{}", n % 5).into()),
                (Some(n), Kind::Boolean) => Value::Boolean(*n > 0),
                (Some(n), Kind::Date) => Value::Date((n % 50_000) as i32),
                (Some(n), Kind::DateTime) => Value::DateTime(*n / 2),
                // Some need 128 bits.
                (Some(n), _) => Value::Number(Decimal::new(i128::from(*n) * if n % 7 == 0 { 1 << 40 } else { 1 }, 2)),
            };
            let values: Vec<Value> = numbers.iter().map(value).collect();
            let mut column = Column::from_values(kind, &values);
            column.marks = Marks::of(Arc::new(vec!["n/a".to_owned(), "-".to_owned()]));
            for (row, n) in (0..).zip(&numbers) {
                match n {
                    None => column.marks.put(row, Mark::Missing((row % 2) as u16)),
                    Some(n) if n % 3 == 0 => column.marks.put(row, Mark::Offset(-90)),
                    Some(_) => {}
                }
            }
            let mut to = Encoder::default();
            encode_column(&column, &mut to);
            let written = to.into_bytes();
            let mut from = Decoder::new(&written);
            let read = decode_column(&mut from).unwrap();
            prop_assert!(from.is_done());
            let back: Vec<Value> = (0..read.data.len()).map(|row| read.value(kind, row)).collect();
            prop_assert_eq!(back, values);
            let told = |c: &Column| c.marks.iter().map(|(row, mark)| match mark {
                Mark::Missing(text) => (row, c.marks.texts[usize::from(text)].clone()),
                mark => (row, mark.to_string()),
            }).collect::<Vec<_>>();
            prop_assert_eq!(told(&read), told(&column));
            prop_assert!(decode_column(&mut Decoder::new(&written[..written.len() - 1])).is_err());
            let _ = decode_column(&mut Decoder::new(&bytes));
        }
    }
}
