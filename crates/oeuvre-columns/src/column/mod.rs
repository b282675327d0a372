//! Columns of one kind, and batches of them.
//!
//! A missing value is a value of its own inside the column (a sentinel), not a mask beside it: one array to
//! read, and a compare that the compiler turns into a blend. Which kind the values are of is not in the column:
//! the plan knows, and says so where values are taken out ([`Column::value`]) or put in ([`Column::push`]).
//!
//! Loops over rows match on [`Data`] once and then run over a slice. Single values are for the edges: labels,
//! cells, tests.
//!
//! ```
//! use oeuvre_columns::column::Column;
//! use oeuvre_columns::{Kind, Value};
//!
//! let kind = Kind::Number { scale: 2 };
//! let fares = Column::from_values(kind, &[Value::Number("12.5".parse().unwrap()), Value::Missing]);
//! assert_eq!(fares.value(kind, 0).to_string(), "12.50"); // at the scale of the column
//! assert!(fares.data.is_missing(1));
//! ```

pub mod ahead;
pub mod chosen;
pub mod dictionary;
pub mod digits;
pub mod far;
pub mod interner;
pub mod label_order;
pub mod marks;
mod missing;
mod tags;

use crate::value::calendar::Period;
use crate::value::decimal::Decimal;
use crate::value::{Kind, Value};
use chosen::Chosen;
use dictionary::{Dictionary, MISSING_CODE};
use far::gathered;
use marks::Marks;
use missing::{count, is_any};
use std::ops::Range;
use std::sync::Arc;

/// Stands for none where things are numbered in 32 bits: no cell, no group, no partition.
pub const NO_NUMBER: u32 = u32::MAX;
/// Missing among 64-bit whole numbers; a number that needs this bit pattern is held in 128 bits.
pub const MISSING_I64: i64 = i64::MIN;
/// Missing among 128-bit whole numbers.
pub const MISSING_I128: i128 = i128::MIN;
/// Missing among days, periods and parts.
pub const MISSING_I32: i32 = i32::MIN;
/// Missing among conditions: neither true (1) nor false (0).
pub const MISSING_BOOL: u8 = 2;

/// The values of a column. Which kind they are of is known to the plan; what is missing is the sentinel of
/// its variant.
#[derive(Clone, Debug)]
pub enum Data {
    /// Scaled whole numbers, or datetimes in microseconds.
    I64(Vec<i64>),
    /// Scaled whole numbers that outgrow 64 bits.
    I128(Vec<i128>),
    /// Binary64; missing is any not-a-number.
    F64(Vec<f64>),
    /// Codes of the column's dictionary.
    Codes(Vec<u32>),
    /// Days, places of periods, places of parts.
    I32(Vec<i32>),
    /// 0 false, 1 true, 2 missing.
    Bool(Vec<u8>),
}

impl Default for Data {
    fn default() -> Self {
        Data::I64(Vec::new())
    }
}

/// A column: its values, and the dictionary of its texts (empty for other kinds).
#[derive(Clone, Debug, Default)]
pub struct Column {
    /// The values.
    pub data: Data,
    /// The texts that the codes stand for.
    pub dictionary: Dictionary,
    /// What the fields said beside their values, as far as a reader has noted it.
    pub marks: Marks,
}

impl From<Data> for Column {
    fn from(data: Data) -> Column {
        Column { data, ..Column::default() }
    }
}

/// The same done with the list of values of whatever type.
macro_rules! of_any_type {
    ($data:expr, $list:ident => $do:expr) => {
        match $data {
            Data::I64($list) => $do,
            Data::I128($list) => $do,
            Data::F64($list) => $do,
            Data::Codes($list) => $do,
            Data::I32($list) => $do,
            Data::Bool($list) => $do,
        }
    };
}

impl Data {
    /// An empty column for values of a kind.
    pub fn empty(kind: Kind) -> Data {
        match kind {
            Kind::Number { .. } | Kind::DateTime | Kind::Nothing => Data::I64(Vec::new()),
            Kind::Float => Data::F64(Vec::new()),
            Kind::Text => Data::Codes(Vec::new()),
            Kind::Boolean => Data::Bool(Vec::new()),
            Kind::Date | Kind::Period(_) | Kind::Part(_) | Kind::Band(_) | Kind::RowNumber => {
                Data::I32(Vec::new())
            }
        }
    }

    /// Whether it can hold values of a kind; numbers may need more bits than others of their kind.
    pub fn fits(&self, kind: Kind) -> bool {
        let wide = matches!((self, kind), (Data::I128(_), Kind::Number { .. }));
        wide || std::mem::discriminant(self) == std::mem::discriminant(&Data::empty(kind))
    }

    /// How many bytes its values take.
    pub fn size_bytes(&self) -> usize {
        of_any_type!(self, v => size_of_val(v.as_slice()))
    }

    /// How many values there are, missing ones included.
    pub fn len(&self) -> usize {
        of_any_type!(self, v => v.len())
    }

    /// Whether there are no values.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Whether the value at a place, which there must be, is missing.
    #[inline]
    pub fn is_missing(&self, row: usize) -> bool {
        match self {
            Data::I64(v) => v[row] == MISSING_I64,
            Data::I128(v) => v[row] == MISSING_I128,
            Data::F64(v) => v[row].is_nan(),
            Data::Codes(v) => v[row] == MISSING_CODE,
            Data::I32(v) => v[row] == MISSING_I32,
            Data::Bool(v) => v[row] == MISSING_BOOL,
        }
    }

    /// Whether any value is missing.
    pub fn any_missing(&self) -> bool {
        match self {
            Data::I64(v) => is_any(v, |v| v == MISSING_I64),
            Data::I128(v) => is_any(v, |v| v == MISSING_I128),
            Data::F64(v) => is_any(v, f64::is_nan),
            Data::Codes(v) => is_any(v, |v| v == MISSING_CODE),
            Data::I32(v) => is_any(v, |v| v == MISSING_I32),
            Data::Bool(v) => is_any(v, |v| v == MISSING_BOOL),
        }
    }

    /// How many values are missing.
    pub fn count_missing(&self) -> usize {
        match self {
            Data::I64(v) => count(v, |v| v == MISSING_I64),
            Data::I128(v) => count(v, |v| v == MISSING_I128),
            Data::F64(v) => count(v, f64::is_nan),
            Data::Codes(v) => count(v, |v| v == MISSING_CODE),
            Data::I32(v) => count(v, |v| v == MISSING_I32),
            Data::Bool(v) => count(v, |v| v == MISSING_BOOL),
        }
    }

    /// Adds so many missing values.
    pub fn add_missing(&mut self, rows: usize) {
        match self {
            Data::I64(v) => v.resize(v.len() + rows, MISSING_I64),
            Data::I128(v) => v.resize(v.len() + rows, MISSING_I128),
            Data::F64(v) => v.resize(v.len() + rows, f64::NAN),
            Data::Codes(v) => v.resize(v.len() + rows, MISSING_CODE),
            Data::I32(v) => v.resize(v.len() + rows, MISSING_I32),
            Data::Bool(v) => v.resize(v.len() + rows, MISSING_BOOL),
        }
    }

    /// The values at some places, in that order; a place may come more than once, and one that is
    /// not there has no value.
    pub fn gather(&self, rows: &[u32]) -> Data {
        match self {
            Data::I64(v) => Data::I64(gathered(v, rows, MISSING_I64)),
            Data::I128(v) => Data::I128(gathered(v, rows, MISSING_I128)),
            Data::F64(v) => Data::F64(gathered(v, rows, f64::NAN)),
            Data::Codes(v) => Data::Codes(gathered(v, rows, MISSING_CODE)),
            Data::I32(v) => Data::I32(gathered(v, rows, MISSING_I32)),
            Data::Bool(v) => Data::Bool(gathered(v, rows, MISSING_BOOL)),
        }
    }

    /// Becomes the values of another, as many as there are rows, of some rows.
    pub fn copy_chosen(&mut self, other: &Data, rows: &Chosen) {
        match (self, other) {
            (Data::I64(to), Data::I64(from)) => rows.copy(from, to),
            (Data::I128(to), Data::I128(from)) => rows.copy(from, to),
            (Data::F64(to), Data::F64(from)) => rows.copy(from, to),
            (Data::Codes(to), Data::Codes(from)) => rows.copy(from, to),
            (Data::I32(to), Data::I32(from)) => rows.copy(from, to),
            (Data::Bool(to), Data::Bool(from)) => rows.copy(from, to),
            (to, from) => {
                *to = from.clone();
                to.keep_chosen(rows);
            }
        }
    }

    /// Keeps the values of some rows, of as many as there are.
    pub fn keep_chosen(&mut self, rows: &Chosen) {
        of_any_type!(self, v => rows.keep(v))
    }

    /// The values at the places of a range, which must be there.
    pub fn slice(&self, range: Range<usize>) -> Data {
        match self {
            Data::I64(v) => Data::I64(v[range].to_vec()),
            Data::I128(v) => Data::I128(v[range].to_vec()),
            Data::F64(v) => Data::F64(v[range].to_vec()),
            Data::Codes(v) => Data::Codes(v[range].to_vec()),
            Data::I32(v) => Data::I32(v[range].to_vec()),
            Data::Bool(v) => Data::Bool(v[range].to_vec()),
        }
    }

    /// Keeps so many of the first values.
    pub fn truncate(&mut self, values: usize) {
        match self {
            Data::I64(v) => v.truncate(values),
            Data::I128(v) => v.truncate(values),
            Data::F64(v) => v.truncate(values),
            Data::Codes(v) => v.truncate(values),
            Data::I32(v) => v.truncate(values),
            Data::Bool(v) => v.truncate(values),
        }
    }

    /// Bytes of a value.
    pub fn width(&self) -> usize {
        match self {
            Data::I128(_) => 16,
            Data::I64(_) | Data::F64(_) => 8,
            Data::Codes(_) | Data::I32(_) => 4,
            Data::Bool(_) => 1,
        }
    }

    /// Makes the values missing at the places where `places` is true; places beyond its end stay as they are.
    pub fn blank(&mut self, places: &[bool]) {
        fn each<T: Copy>(v: &mut [T], places: &[bool], missing: T) {
            for (value, _) in v.iter_mut().zip(places).filter(|(_, blank)| **blank) {
                *value = missing;
            }
        }
        match self {
            Data::I64(v) => each(v, places, MISSING_I64),
            Data::I128(v) => each(v, places, MISSING_I128),
            Data::F64(v) => each(v, places, f64::NAN),
            Data::Codes(v) => each(v, places, MISSING_CODE),
            Data::I32(v) => each(v, places, MISSING_I32),
            Data::Bool(v) => each(v, places, MISSING_BOOL),
        }
    }

    /// Keeps the values at some places, which must be in ascending order.
    pub fn retain(&mut self, rows: &[u32]) {
        fn keep<T: Copy>(v: &mut Vec<T>, rows: &[u32]) {
            for (to, &from) in rows.iter().enumerate() {
                v[to] = v[from as usize];
            }
            v.truncate(rows.len());
        }
        of_any_type!(self, v => keep(v, rows))
    }

    /// Keeps the rows of a range alone.
    ///
    /// # Panics
    /// When it is not within the rows.
    pub fn keep(&mut self, rows: Range<usize>) {
        fn keep<T>(v: &mut Vec<T>, rows: Range<usize>) {
            v.truncate(rows.end);
            v.drain(..rows.start);
        }
        of_any_type!(self, v => keep(v, rows))
    }

    /// The whole-number values as 128-bit numbers, missing ones as [`MISSING_I128`]; empty for columns of
    /// other types.
    pub fn to_i128(&self) -> Vec<i128> {
        match self {
            Data::I64(v) => v
                .iter()
                .map(|&x| if x == MISSING_I64 { MISSING_I128 } else { i128::from(x) })
                .collect(),
            Data::I128(v) => v.clone(),
            _ => Vec::new(),
        }
    }
}

impl Column {
    /// The value at a place, which there must be, read as one of `kind`, the kind of the column.
    pub fn value(&self, kind: Kind, row: usize) -> Value {
        if self.data.is_missing(row) {
            return Value::Missing;
        }
        match (&self.data, kind) {
            (Data::I64(v), Kind::Number { scale }) => {
                Value::Number(Decimal::new(i128::from(v[row]), scale))
            }
            (Data::I128(v), Kind::Number { scale }) => Value::Number(Decimal::new(v[row], scale)),
            (Data::I64(v), _) => Value::DateTime(v[row]),
            (Data::F64(v), _) => Value::Float(v[row]),
            (Data::Codes(v), _) => Value::Text(Arc::from(self.dictionary.text(v[row]))),
            (Data::Bool(v), _) => Value::Boolean(v[row] == 1),
            (Data::I32(v), Kind::Period(unit)) => Value::Period(Period { unit, index: v[row] }),
            (Data::I32(v), Kind::Part(part)) => Value::Part(part, v[row]),
            (Data::I32(v), Kind::Band(bands)) => Value::Band(bands, v[row]),
            (Data::I32(v), _) => Value::Date(v[row]),
            (Data::I128(_), _) => Value::Missing,
        }
    }

    /// Appends a value of the column's kind; a value that does not fit is appended as missing. A number that
    /// outgrows 64 bits turns the whole column to 128, which costs a copy of it.
    pub fn push(&mut self, kind: Kind, value: &Value) {
        // The number that has the bits of a missing one needs 128, too.
        let fits = |n: i128| i64::try_from(n).is_ok_and(|n| n != MISSING_I64);
        if let (Data::I64(_), Kind::Number { scale }, Value::Number(d)) = (&self.data, kind, value)
            && d.rescale(scale).is_some_and(|d| !fits(d.mantissa))
        {
            self.data = Data::I128(self.data.to_i128());
        }
        match (&mut self.data, value) {
            (Data::I64(v), Value::Number(d)) => {
                let Kind::Number { scale } = kind else { return v.push(MISSING_I64) };
                let fits = d.rescale(scale).and_then(|d| i64::try_from(d.mantissa).ok());
                v.push(fits.unwrap_or(MISSING_I64));
            }
            (Data::I128(v), Value::Number(d)) => {
                let Kind::Number { scale } = kind else { return v.push(MISSING_I128) };
                v.push(d.rescale(scale).map_or(MISSING_I128, |d| d.mantissa));
            }
            (Data::I64(v), Value::DateTime(t)) => v.push(*t),
            (Data::F64(v), Value::Float(f)) => v.push(*f),
            (Data::F64(v), Value::Number(d)) => v.push(crate::value::exact::decimal_to_f64(*d)),
            (Data::Codes(v), Value::Text(t)) => v.push(self.dictionary.intern(t)),
            (Data::Bool(v), Value::Boolean(b)) => v.push(u8::from(*b)),
            (Data::I32(v), Value::Date(d)) => v.push(*d),
            (Data::I32(v), Value::Period(p)) => v.push(p.index),
            (Data::I32(v), Value::Part(_, i) | Value::Band(_, i)) => v.push(*i),
            (Data::I64(v), _) => v.push(MISSING_I64),
            (Data::I128(v), _) => v.push(MISSING_I128),
            (Data::F64(v), _) => v.push(f64::NAN),
            (Data::Codes(v), _) => v.push(MISSING_CODE),
            (Data::Bool(v), _) => v.push(MISSING_BOOL),
            (Data::I32(v), _) => v.push(MISSING_I32),
        }
    }

    /// Adds the values of another part of the same column, with whose last part the dictionary is to be taken: as in
    /// the batches of a reader, a part's texts keep their codes, and others may be added to them.
    pub fn append(&mut self, other: &Column) {
        match (&mut self.data, &other.data) {
            (Data::I64(v), Data::I64(w)) => v.extend_from_slice(w),
            (Data::I128(v), Data::I128(w)) => v.extend_from_slice(w),
            (Data::F64(v), Data::F64(w)) => v.extend_from_slice(w),
            (Data::I32(v), Data::I32(w)) => v.extend_from_slice(w),
            (Data::Bool(v), Data::Bool(w)) => v.extend_from_slice(w),
            (Data::Codes(v), Data::Codes(w)) => v.extend_from_slice(w),
            (Data::I128(v), Data::I64(_)) => v.extend(other.data.to_i128()),
            // Wide numbers in one part make the whole wide.
            (Data::I64(_), Data::I128(w)) => {
                let mut all = self.data.to_i128();
                all.extend_from_slice(w);
                self.data = Data::I128(all);
            }
            // A part without any value may be of any kind.
            (of, _) => of.add_missing(other.data.len()),
        }
    }

    /// Puts a value of the column's kind in the place of another, which there must be.
    pub fn set(&mut self, kind: Kind, row: usize, value: &Value) {
        fn settle<T: Copy>(v: &mut Vec<T>, row: usize) {
            if let Some(last) = v.pop() {
                v[row] = last;
            }
        }
        self.push(kind, value);
        match &mut self.data {
            Data::I64(v) => settle(v, row),
            Data::I128(v) => settle(v, row),
            Data::F64(v) => settle(v, row),
            Data::Codes(v) => settle(v, row),
            Data::I32(v) => settle(v, row),
            Data::Bool(v) => settle(v, row),
        }
    }

    /// A column of a kind from single values.
    pub fn from_values(kind: Kind, values: &[Value]) -> Column {
        let mut column = Column::from(Data::empty(kind));
        for value in values {
            column.push(kind, value);
        }
        column
    }

    /// A column with the texts of its codes.
    pub fn coded(data: Data, dictionary: Dictionary) -> Column {
        Column { data, dictionary, marks: Marks::default() }
    }

    /// Keeps the values of some rows, with their marks.
    pub fn keep_chosen(&mut self, rows: &Chosen) {
        self.data.keep_chosen(rows);
        self.marks.keep_chosen(rows);
    }

    /// The values at some places, in that order. The texts are shared, not copied.
    pub fn gather(&self, rows: &[u32]) -> Column {
        Column::coded(self.data.gather(rows), self.dictionary.clone())
    }

    /// The values at the places of a range, which must be there. The texts are shared, not copied.
    pub fn slice(&self, range: Range<usize>) -> Column {
        Column::coded(self.data.slice(range), self.dictionary.clone())
    }
}

/// Some rows, a column at a time. A reader refills the same batch again and again, and the
/// dictionaries of its columns only grow, so that a code means the same text in every refill.
#[derive(Clone, Debug, Default)]
pub struct Batch {
    /// How many rows there are.
    pub rows: usize,
    /// Grows along the file: rows of a batch with a larger number come later. The order of rows
    /// is that of `(piece, place in the batch)`.
    pub piece: u64,
    /// The columns that were asked for, in that order.
    pub columns: Vec<Column>,
    /// The rows that meet the condition of whoever has the batch.
    pub met: Met,
}

/// The rows of a batch that meet a condition, found once for all who have the same one.
#[derive(Clone, Debug, Default)]
pub struct Met {
    /// Whether they have been found.
    pub known: bool,
    /// Which ones they are.
    pub rows: Chosen,
    /// For how many rows a value is missing that the condition needs.
    pub missing: u64,
    /// Of columns of the source whose texts the condition compares, how many of all rows have each code, in parts that add
    /// up.
    pub codes: Vec<(usize, Vec<[u32; 4]>)>,
}

impl Batch {
    /// Keeps so many of the first rows. Columns that nobody has filled yet stay as they are.
    pub fn keep_first(&mut self, rows: usize) {
        let first = Chosen::first(rows, self.rows);
        self.rows = first.len();
        let filled = self.columns.iter_mut().filter(|c| !c.data.is_empty());
        filled.for_each(|column| column.keep_chosen(&first));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::value::calendar::{Part, Unit};
    use proptest::prelude::*;

    const KINDS: [Kind; 8] = [
        Kind::Number { scale: 2 },
        Kind::Float,
        Kind::Text,
        Kind::Boolean,
        Kind::Date,
        Kind::DateTime,
        Kind::Period(Unit::Quarter),
        Kind::Part(Part::Weekday),
    ];

    /// A value of a kind, from a number; missing for 0.
    fn value(kind: Kind, n: i64) -> Value {
        let small = n.rem_euclid(5) as i32;
        match kind {
            _ if n == 0 => Value::Missing,
            // Some need 128 bits.
            Kind::Number { scale } => Value::Number(Decimal::new(
                i128::from(n) * if small == 4 { 1 << 60 } else { 1 },
                scale,
            )),
            Kind::Float => Value::Float(n as f64 / 8.0),
            Kind::Text => Value::Text(format!("t{small}").into()),
            Kind::Boolean => Value::Boolean(n > 0),
            Kind::Date => Value::Date(small),
            Kind::DateTime => Value::DateTime(n),
            Kind::Period(unit) => Value::Period(Period { unit, index: small }),
            Kind::Part(part) => Value::Part(part, small),
            _ => Value::Missing,
        }
    }

    proptest! {
        #[test]
        fn parts_of_a_column_make_the_whole(
            numbers in proptest::collection::vec(-20i64..20, 0..40), cut in 0usize..40, kind in 0usize..8,
        ) {
            let kind = KINDS[kind];
            let values: Vec<Value> = numbers.iter().map(|&n| value(kind, n)).collect();
            let cut = cut.min(values.len());
            let mut whole = Column::from(Data::empty(kind));
            let mut rest = Column::from_values(kind, &values[..cut]);
            whole.append(&rest);
            // The next part has the same dictionary, grown.
            rest.data = Data::empty(kind);
            values[cut..].iter().for_each(|v| rest.push(kind, v));
            whole.append(&rest);
            whole.append(&Column::from(Data::I64(vec![MISSING_I64; 2])));
            whole.dictionary = rest.dictionary;
            let made: Vec<Value> = (0..whole.data.len()).map(|row| whole.value(kind, row)).collect();
            let expected: Vec<Value> = values.into_iter().chain([Value::Missing, Value::Missing]).collect();
            prop_assert_eq!(made, expected);
        }
    }

    proptest! {
        /// As a plain list of values would have it.
        #[test]
        fn a_column_holds_what_was_put_in(
            kind in proptest::sample::select(&KINDS[..]), numbers in proptest::collection::vec(-1000i64..1000, 1..20),
            at in any::<proptest::sample::Index>(), other in -1000i64..1000, picks in proptest::collection::vec(any::<proptest::sample::Index>(), 0..9),
        ) {
            let mut plain: Vec<Value> = numbers.iter().map(|&n| value(kind, n)).collect();
            let mut column = Column::from_values(kind, &plain);
            let all = |c: &Column| (0..c.data.len()).map(|row| c.value(kind, row)).collect::<Vec<_>>();
            prop_assert_eq!(&all(&column), &plain);
            let at = at.index(plain.len());
            column.set(kind, at, &value(kind, other));
            plain[at] = value(kind, other);
            prop_assert_eq!(&all(&column), &plain);
            let places: Vec<u32> = picks.iter().map(|i| i.index(plain.len()) as u32).collect();
            let picked: Vec<Value> = places.iter().map(|&p| plain[p as usize].clone()).collect();
            prop_assert_eq!(all(&column.gather(&places)), picked);
            prop_assert_eq!(all(&column.slice(at..plain.len())), &plain[at..]);
            let mut part = column.clone();
            part.data.keep(at / 2..at);
            prop_assert_eq!(all(&part), &plain[at / 2..at]);
            let kept: Vec<u32> = (0..plain.len() as u32).filter(|r| r % 3 != 1).collect();
            let mut retained = column.clone();
            retained.data.retain(&kept);
            prop_assert_eq!(all(&retained), all(&column.gather(&kept)));
            let mut chosen = Chosen::default();
            chosen.choose_all(plain.len());
            chosen.retain(|row| row % 3 != 1);
            for mut other in [Data::Bool(vec![1; 3]), column.data.clone()] {
                other.copy_chosen(&column.data, &chosen);
                let other = Column::coded(std::mem::take(&mut other), column.dictionary.clone());
                prop_assert_eq!(all(&other), all(&retained));
            }
            let blanks: Vec<bool> = (0..plain.len()).map(|r| r % 2 == 0).collect();
            column.data.blank(&blanks);
            for (row, blank) in blanks.into_iter().enumerate() {
                prop_assert_eq!(column.value(kind, row), if blank { Value::Missing } else { plain[row].clone() });
                prop_assert_eq!(column.data.is_missing(row), column.value(kind, row).is_missing());
            }
        }
    }

    #[test]
    fn what_does_not_fit_its_kind_is_missing() {
        let digits = Value::Number(Decimal::new(12345, 4));
        let column =
            Column::from_values(Kind::Number { scale: 2 }, &[digits, Value::Boolean(true)]);
        assert!(column.data.is_missing(0) && column.data.is_missing(1));
        // The bits that stand for missing in 64 are a number in 128.
        let smallest = Value::Number(Decimal::new(i128::from(MISSING_I64), 0));
        let kind = Kind::Number { scale: 0 };
        let column = Column::from_values(kind, std::slice::from_ref(&smallest));
        assert_eq!(column.value(kind, 0), smallest);
    }
}
