//! A table whose columns are added to the rows, with the rows of its keys.
//!
//! The table is in memory whole; a row finds its own by the keys as one text, once for each distinct text where
//! there is one key of texts, and without writing a text where there is one of numbers.

use oeuvre_columns::column::{Column, MISSING_I32, MISSING_I128};
use oeuvre_columns::value::{Kind, Value};
use oeuvre_columns::{Decimal, Table, choices};
use std::collections::HashMap;
use std::sync::{Arc, OnceLock};

choices! {
    /// What happens to rows whose key the lookup does not have.
    #[derive(Default)]
    pub enum NoMatch {
        #[default]
        Blank = "blank": "Count them; the lookup's columns are missing",
        LeaveOut = "leave-out": "Leave them out",
        Stop = "stop": "Stop and name the keys",
    }
}

/// A lookup with the rows of its keys.
#[derive(Clone, Debug)]
pub struct Lookup {
    /// The table.
    pub table: Arc<Table>,
    /// The row of each key.
    pub rows: HashMap<String, u32>,
    /// The keys of its rows.
    pub keys: Vec<(Kind, Column)>,
    /// Lines passed over because their key stood before.
    pub doubled: u64,
    /// The rows of keys that are one number, once they are asked for.
    pub(crate) numbers: OnceLock<(u8, Numbers)>,
}

impl Lookup {
    /// The rows of keys that are one number of a scale; `None` where they are known by another one.
    pub(crate) fn by_number(&self, scale: u8) -> Option<&Numbers> {
        let (known, numbers) =
            self.numbers.get_or_init(|| (scale, Numbers::new(&self.rows, &self.keys, scale)));
        (*known == scale).then_some(numbers)
    }
}

/// Rows by whole numbers: the digits of keys that are numbers.
#[derive(Clone, Debug)]
pub struct Numbers {
    /// The rows of numbers from the first one on, where they lie near each other; without a row [`MISSING_I32`].
    near: Vec<i32>,
    first: i128,
    /// Otherwise.
    far: HashMap<i128, i32>,
}

impl Numbers {
    /// The rows of those keys that are numbers as they are written for rows, with so many digits behind the point.
    fn new(rows: &HashMap<String, u32>, keys: &[(Kind, Column)], scale: u8) -> Numbers {
        let of_column = |column: &Column, of: u8| -> Vec<(i128, i32)> {
            let number = |(row, n): (usize, i128)| {
                let number = Decimal::new(n, of).rescale(scale).filter(|_| n != MISSING_I128)?;
                Some((number.mantissa, row as i32))
            };
            column.data.to_i128().into_iter().enumerate().filter_map(number).collect()
        };
        let of_text = |(key, &row): (&String, &u32)| {
            let number: Decimal = key.parse().ok()?;
            // Others are no text of a number.
            let is_plain = number.trimmed().to_string() == *key;
            let number = number.trimmed().rescale(scale).filter(|_| is_plain)?;
            Some((number.mantissa, row as i32))
        };
        let mut all: Vec<(i128, i32)> = match keys {
            [(Kind::Number { scale: of }, column)] => of_column(column, *of),
            _ => rows.iter().filter_map(of_text).collect(),
        };
        // The first row of a key counts.
        all.reverse();
        let first = all.iter().map(|n| n.0).min().unwrap_or(0);
        let last = all.iter().map(|n| n.0).max().unwrap_or(0);
        let most = 16 * all.len() as i128 + 1024;
        if last.checked_sub(first).is_some_and(|span| span < most) {
            let mut near = vec![MISSING_I32; (last - first) as usize + 1];
            all.iter().for_each(|(number, row)| near[(number - first) as usize] = *row);
            return Numbers { near, first, far: HashMap::new() };
        }
        Numbers { near: Vec::new(), first, far: all.into_iter().collect() }
    }

    /// The row of a number, or [`MISSING_I32`].
    #[inline]
    pub(crate) fn row(&self, number: i128) -> i32 {
        if !self.near.is_empty() {
            let place =
                number.checked_sub(self.first).and_then(|place| usize::try_from(place).ok());
            return place.and_then(|place| self.near.get(place)).copied().unwrap_or(MISSING_I32);
        }
        self.far.get(&number).copied().unwrap_or(MISSING_I32)
    }
}

/// Between the parts of a key.
const BETWEEN: char = '\u{1f}';
/// Adds a part to a key; false where it is missing.
pub(crate) fn push_key(key: &mut String, value: &Value) -> bool {
    if !key.is_empty() {
        key.push(BETWEEN);
    }
    match value {
        Value::Missing => return false,
        Value::Number(n) => key.push_str(&n.trimmed().to_string()),
        other => key.push_str(&other.to_string()),
    }
    true
}

/// A key as a message shows it.
pub(crate) fn key_text(key: &str) -> String {
    key.replace(BETWEEN, ", ")
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// A number finds the row that its text finds, whatever the keys of the lookup are.
        #[test]
        fn rows_of_numbers_are_those_of_their_texts(
            keys in proptest::collection::vec((-40i128..40, 0u8..3), 0..30),
            far in any::<bool>(), as_texts in any::<bool>(), scale in 0u8..4,
            asked in proptest::collection::vec(-45_000i128..45_000, 40),
        ) {
            let spread = if far { 1 << 40 } else { 1 };
            let mut rows = HashMap::new();
            let mut values = Vec::new();
            for (row, &(n, of)) in keys.iter().enumerate() {
                let number = Decimal::new(n * spread, of);
                rows.entry(number.trimmed().to_string()).or_insert(row as u32);
                values.push(Value::Number(number.rescale(2).unwrap()));
            }
            let kind = Kind::Number { scale: 2 };
            let column = [(kind, Column::from_values(kind, &values))];
            let numbers = Numbers::new(&rows, if as_texts { &[] } else { &column }, scale);
            let near = keys.iter().filter_map(|&(n, of)| Decimal::new(n * spread, of).rescale(scale));
            for mantissa in asked.iter().copied().chain(near.map(|n| n.mantissa)) {
                let key = Decimal::new(mantissa, scale).trimmed().to_string();
                let expected = rows.get(&key).map_or(MISSING_I32, |row| *row as i32);
                prop_assert_eq!(numbers.row(mantissa), expected);
            }
        }
    }
}
