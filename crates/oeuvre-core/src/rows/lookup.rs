//! A table whose columns are added to the rows, with the rows of its keys.
//!
//! The table is in memory whole; a row finds its own by the keys as one text, once for each distinct text where
//! there is one key of texts, and without writing a text where there is one of numbers.

use oeuvre_columns::column::dictionary::{Dictionary, MISSING_CODE};
use oeuvre_columns::column::{Column, Data, MISSING_I32, MISSING_I128, NO_NUMBER};
use oeuvre_columns::value::{Kind, Value};
use oeuvre_columns::{Decimal, Table, choices};
use std::collections::HashMap;
use std::collections::hash_map::Entry;
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
    /// The keys of its rows.
    pub keys: Vec<(Kind, Column)>,
    /// Lines passed over because their key stood before.
    pub doubled: u64,
    rows: Rows,
    /// The rows by their keys as one text, once that is asked for.
    written: OnceLock<HashMap<String, u32>>,
    /// The rows of keys that are one number at another scale than their own, once that is asked for.
    numbers: OnceLock<(u8, Numbers)>,
}

/// The row of each key: of several with the same one the first.
#[derive(Clone, Debug)]
enum Rows {
    /// Of one column of texts, by their codes in its dictionary; none is [`NO_NUMBER`].
    OfTexts(Dictionary, Vec<u32>),
    /// Of one column of numbers, at its scale.
    OfNumbers(u8, Numbers),
    /// Of others, by what the key is as one text.
    Written,
}

impl Lookup {
    /// A lookup by some keys, and where its keys stand twice: each time the first row and a later one.
    pub(crate) fn new(table: Arc<Table>, keys: Vec<(Kind, Column)>) -> (Lookup, Vec<[u32; 2]>) {
        let mut written = OnceLock::new();
        let (rows, doubled) = match &keys[..] {
            [(Kind::Text, Column { data: Data::Codes(codes), dictionary, .. })] => {
                let mut rows = vec![NO_NUMBER; dictionary.len()];
                let codes = codes.iter().map(|&code| (code != MISSING_CODE).then_some(code));
                let doubled = first_rows(codes, &mut rows);
                (Rows::OfTexts(dictionary.clone(), rows), doubled)
            }
            [(Kind::Number { scale }, column)] => {
                let (numbers, doubled) = Numbers::of(column, *scale, *scale);
                (Rows::OfNumbers(*scale, numbers), doubled)
            }
            _ => {
                let (rows, doubled) = rows_of(&keys);
                written = OnceLock::from(rows);
                (Rows::Written, doubled)
            }
        };
        let twice = doubled.len() as u64;
        let lookup =
            Lookup { table, keys, doubled: twice, rows, written, numbers: OnceLock::new() };
        (lookup, doubled)
    }

    /// The row of a key, as one text.
    pub(crate) fn row(&self, key: &str) -> Option<u32> {
        match &self.rows {
            Rows::OfTexts(texts, rows) => {
                let code = texts.find(key.as_bytes())?;
                rows.get(code as usize).copied().filter(|&row| row != NO_NUMBER)
            }
            _ => self.written().get(key).copied(),
        }
    }

    fn written(&self) -> &HashMap<String, u32> {
        self.written.get_or_init(|| rows_of(&self.keys).0)
    }

    /// A row's key, as one text; `None` where a part is missing.
    pub(crate) fn key(&self, row: usize) -> Option<String> {
        key_of(&self.keys, row)
    }

    /// The different keys, each as one text, with their rows, in any order.
    pub(crate) fn texts(&self) -> Box<dyn Iterator<Item = (&str, u32)> + '_> {
        match &self.rows {
            Rows::OfTexts(texts, rows) => {
                let known = texts.iter().zip(rows.iter().copied());
                Box::new(known.filter(|(_, row)| *row != NO_NUMBER))
            }
            _ => Box::new(self.written().iter().map(|(key, &row)| (key.as_str(), row))),
        }
    }

    /// The rows of keys that are one number of a scale; `None` where they are known by another one.
    pub(crate) fn by_number(&self, scale: u8) -> Option<&Numbers> {
        if let Rows::OfNumbers(of, numbers) = &self.rows
            && *of == scale
        {
            return Some(numbers);
        }
        let numbers = || match &self.keys[..] {
            [(Kind::Number { scale: of }, column)] => Numbers::of(column, *of, scale).0,
            _ => Numbers::of_texts(self.texts(), scale),
        };
        let (known, numbers) = self.numbers.get_or_init(|| (scale, numbers()));
        (*known == scale).then_some(numbers)
    }
}

/// Enters the first row of each code, and gives the first and a later one where there are several.
fn first_rows(codes: impl Iterator<Item = Option<u32>>, rows: &mut [u32]) -> Vec<[u32; 2]> {
    let mut doubled = Vec::new();
    for (code, row) in codes.zip(0..) {
        let Some(code) = code else { continue };
        match rows[code as usize] {
            NO_NUMBER => rows[code as usize] = row,
            first => doubled.push([first, row]),
        }
    }
    doubled
}

/// The first row of each key as one text, and the first and a later one where there are several.
fn rows_of(keys: &[(Kind, Column)]) -> (HashMap<String, u32>, Vec<[u32; 2]>) {
    let (mut rows, mut doubled) = (HashMap::new(), Vec::new());
    for row in 0..keys.first().map_or(0, |(_, column)| column.data.len()) {
        let Some(key) = key_of(keys, row) else { continue };
        match rows.entry(key) {
            Entry::Vacant(new) => _ = new.insert(row as u32),
            Entry::Occupied(known) => doubled.push([*known.get(), row as u32]),
        }
    }
    (rows, doubled)
}

fn key_of(keys: &[(Kind, Column)], row: usize) -> Option<String> {
    let mut key = String::new();
    let is_whole = keys.iter().all(|(kind, it)| push_key(&mut key, &it.value(*kind, row)));
    is_whole.then_some(key)
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
    /// The rows of a column of numbers of a scale, with so many digits behind the point, and the first and a later
    /// one where there are several.
    fn of(column: &Column, of: u8, scale: u8) -> (Numbers, Vec<[u32; 2]>) {
        let number = |(row, n): (usize, i128)| {
            let number = Decimal::new(n, of).rescale(scale).filter(|_| n != MISSING_I128)?;
            Some((number.mantissa, row as i32))
        };
        let all = column.data.to_i128().into_iter().enumerate().filter_map(number);
        Numbers::new(&all.collect::<Vec<_>>())
    }

    /// The rows of those texts that are numbers as they are written for rows, with so many digits behind the point.
    fn of_texts<'a>(texts: impl Iterator<Item = (&'a str, u32)>, scale: u8) -> Numbers {
        let number = |(key, row): (&str, u32)| {
            let number: Decimal = key.parse().ok()?;
            // Others are no text of a number.
            let is_plain = number.trimmed().to_string() == *key;
            let number = number.trimmed().rescale(scale).filter(|_| is_plain)?;
            Some((number.mantissa, row as i32))
        };
        Numbers::new(&texts.filter_map(number).collect::<Vec<_>>()).0
    }

    /// The rows of numbers, of several the first, and where there are several.
    fn new(all: &[(i128, i32)]) -> (Numbers, Vec<[u32; 2]>) {
        let first = all.iter().map(|n| n.0).min().unwrap_or(0);
        let last = all.iter().map(|n| n.0).max().unwrap_or(0);
        let most = 16 * all.len() as i128 + 1024;
        let is_near = last.checked_sub(first).is_some_and(|span| span < most);
        let near =
            if is_near { vec![MISSING_I32; (last - first) as usize + 1] } else { Vec::new() };
        let (mut it, mut doubled) = (Numbers { near, first, far: HashMap::new() }, Vec::new());
        for &(number, row) in all {
            let known = match is_near {
                true => &mut it.near[(number - first) as usize],
                false => it.far.entry(number).or_insert(MISSING_I32),
            };
            match *known {
                MISSING_I32 => *known = row,
                known => doubled.push([known as u32, row as u32]),
            }
        }
        (it, doubled)
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
            let (mut rows, mut doubled) = (HashMap::new(), Vec::new());
            let mut values = Vec::new();
            for (row, &(n, of)) in keys.iter().enumerate() {
                let number = Decimal::new(n * spread, of);
                let key = number.trimmed().to_string();
                let first = *rows.entry(key.clone()).or_insert(row as u32);
                doubled.extend((first != row as u32).then_some([first, row as u32]));
                values.push(match as_texts {
                    true => Value::Text(key.as_str().into()),
                    false => Value::Number(number.rescale(2).unwrap()),
                });
            }
            let kind = if as_texts { Kind::Text } else { Kind::Number { scale: 2 } };
            let column = (kind, Column::from_values(kind, &values));
            let table = Arc::new(Table { name: "of".into(), columns: Vec::new(), data: Vec::new(), lines: Vec::new(), in_rows: false });
            let (lookup, twice) = Lookup::new(table.clone(), vec![column.clone()]);
            prop_assert_eq!(&twice, &doubled);
            // As with a second key, which is the same everywhere.
            let same = (Kind::Boolean, Column::from_values(Kind::Boolean, &vec![Value::Boolean(true); values.len()]));
            let (by_both, twice) = Lookup::new(table, vec![column, same]);
            prop_assert_eq!(&twice, &doubled);
            for (key, &row) in &rows {
                prop_assert_eq!(lookup.row(key), Some(row));
                prop_assert_eq!(by_both.row(&by_both.key(row as usize).unwrap()), Some(row));
            }
            prop_assert_eq!(lookup.row("no such key"), None);
            let numbers = lookup.by_number(scale).unwrap();
            let near = keys.iter().filter_map(|&(n, of)| Decimal::new(n * spread, of).rescale(scale));
            for mantissa in asked.iter().copied().chain(near.map(|n| n.mantissa)) {
                let key = Decimal::new(mantissa, scale).trimmed().to_string();
                let expected = rows.get(&key).map_or(MISSING_I32, |row| *row as i32);
                prop_assert_eq!(numbers.row(mantissa), expected);
            }
        }
    }
}
