//! Fields to typed columns, a column at a time.
//!
//! Each kind has a fast path for the usual form of its values (plain digits with the column's number
//! of decimals, ISO dates, short unquoted texts) and a slow path that takes everything else, finds
//! missing texts, and notices when the column is of another kind after all.

use super::fast::{self, FewTexts};
use super::records::Records;
use crate::kinds::Reading;
use crate::kinds::values::{
    Parsed, Shape, currency_of, date_in, datetime_in, is_of_other_sign, parse_boolean,
    parse_number, shape_of,
};
use crate::options::Forced;
use oeuvre_columns::column::dictionary::{FIRST_ALIAS, MISSING_CODE};
use oeuvre_columns::column::marks::{Mark, Marks};
use oeuvre_columns::column::{Column, Data, MISSING_BOOL, MISSING_I32, MISSING_I64};
use oeuvre_columns::value::decimal::Decimal;
use std::borrow::Cow;
use std::sync::Arc;

/// The vector of a column, or a new one of the right type, with room for so many values; what it holds
/// is still to be written.
macro_rules! fresh {
    ($data:expr, $variant:ident, $rows:expr) => {{
        if !matches!($data, Data::$variant(_)) {
            $data = Data::$variant(Vec::new());
        }
        let Data::$variant(values) = &mut $data else { unreachable!("set just above") };
        values.resize($rows, missing::$variant);
        values
    }};
}

/// Missing values by the name of the column's variant.
#[allow(non_upper_case_globals)]
mod missing {
    use super::*;
    pub(super) const I64: i64 = MISSING_I64;
    pub(super) const F64: f64 = f64::NAN;
    pub(super) const Codes: u32 = MISSING_CODE;
    pub(super) const I32: i32 = MISSING_I32;
    pub(super) const Bool: u8 = MISSING_BOOL;
}

/// Why a column cannot be read as planned.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Trouble {
    /// The field at this place of the data is of another shape.
    Widen { at: usize, to: Shape, text: String },
    /// The field at this place of the data is a number by the other decimal sign alone.
    OtherSign { at: usize, text: String },
    /// The field is not what `--kind` says.
    NotOfType { at: usize, text: String },
    /// The field is not valid UTF-8.
    NotUtf8 { at: usize, bytes: Vec<u8> },
}

impl Trouble {
    /// The place in the data of the field that it is in.
    pub(crate) fn place(&self) -> usize {
        match self {
            Trouble::Widen { at, .. }
            | Trouble::OtherSign { at, .. }
            | Trouble::NotOfType { at, .. }
            | Trouble::NotUtf8 { at, .. } => *at,
        }
    }
}

/// A trouble with the record that it is in: the records before it have been read.
pub(crate) type At = (u32, Trouble);

/// Reads one column of the rows, piece after piece.
pub(crate) struct ColumnReader {
    /// How it is read in the file that the piece is of.
    pub(crate) reading: Reading,
    /// Texts that stand for no value, beside the blank field.
    pub(crate) missing: Arc<Vec<String>>,
    /// What the fields of the piece say beside their values.
    marks: Marks,
    /// Scratch: the records that the fast path left.
    slow: Vec<u32>,
    /// Scratch: the table of few texts.
    few: FewTexts,
}

impl ColumnReader {
    pub(crate) fn new(reading: Reading, missing: Arc<Vec<String>>) -> ColumnReader {
        let marks = Marks::of(missing.clone());
        ColumnReader { reading, missing, marks, slow: Vec::new(), few: FewTexts::default() }
    }

    /// Prepares a batch's column: missing texts are known to its dictionary as aliases.
    pub(crate) fn prepare(&self, column: &mut Column) {
        if column.dictionary.aliases() == 0 {
            for text in self.missing.iter() {
                column.dictionary.alias(text);
            }
        }
    }

    /// Fills a column with missing values.
    pub(crate) fn blank(&self, rows: usize, out: &mut Column) {
        match self.reading.shape {
            Shape::Unknown | Shape::Number(_) | Shape::DateTime => {
                fresh!(out.data, I64, rows).fill(MISSING_I64);
            }
            Shape::Float => fresh!(out.data, F64, rows).fill(f64::NAN),
            Shape::Boolean => fresh!(out.data, Bool, rows).fill(MISSING_BOOL),
            Shape::Date(_) => fresh!(out.data, I32, rows).fill(MISSING_I32),
            Shape::Text => fresh!(out.data, Codes, rows).fill(MISSING_CODE),
        }
        out.marks.clear();
    }

    /// Fills a column that the file does not have.
    pub(crate) fn lack(&self, rows: usize, out: &mut Column) {
        self.blank(rows, out);
        (0..rows as u32).for_each(|row| out.marks.put(row, Mark::Lacking));
    }

    /// Fills a column from the records of a piece.
    pub(crate) fn read(
        &mut self,
        records: &Records<'_>,
        index: usize,
        out: &mut Column,
    ) -> Result<(), At> {
        std::mem::swap(&mut self.marks, &mut out.marks);
        self.marks.clear();
        self.marks.texts.clone_from(&self.missing);
        let done = self.read_values(records, index, out);
        std::mem::swap(&mut self.marks, &mut out.marks);
        done
    }

    fn read_values(
        &mut self,
        records: &Records<'_>,
        index: usize,
        out: &mut Column,
    ) -> Result<(), At> {
        let rows = records.rows();
        let mut slow = std::mem::take(&mut self.slow);
        let done = match self.reading.shape {
            Shape::Unknown | Shape::Number(_) => {
                self.slow = slow;
                return self.numbers(records, index, rows, out);
            }
            Shape::Text => {
                self.slow = slow;
                return self.texts(records, index, rows, out);
            }
            Shape::Float => {
                let left = fast::none(records, index, &mut slow);
                let values = fresh!(out.data, F64, rows);
                values.fill(f64::NAN);
                self.slowly(records, index, &slow[..left], values, |it, text| {
                    let value = it.binary64(text)?;
                    Some((value, currency_of(text)))
                })
            }
            Shape::Boolean => {
                let left = fast::none(records, index, &mut slow);
                let values = fresh!(out.data, Bool, rows);
                values.fill(MISSING_BOOL);
                let parse = |_: &Reading, text: &str| {
                    parse_boolean(text).map(|truth| (u8::from(truth), None))
                };
                self.slowly(records, index, &slow[..left], values, parse)
            }
            Shape::Date(_) => {
                let values = fresh!(out.data, I32, rows);
                let left = fast::dates(records, index, values, &mut slow);
                let parse =
                    |it: &Reading, text: &str| date_in(text, it.dates()).map(|day| (day, None));
                self.slowly(records, index, &slow[..left], values, parse)
            }
            Shape::DateTime => {
                let values = fresh!(out.data, I64, rows);
                let left = fast::datetimes(records, index, values, &mut slow);
                let parse = |it: &Reading, text: &str| {
                    let (time, offset) = datetime_in(text, it.dates())?;
                    Some((time, offset.map(Mark::Offset)))
                };
                self.slowly(records, index, &slow[..left], values, parse)
            }
        };
        self.slow = slow;
        done
    }

    /// What a field is when the fast path does not take it: missing, or a text to look at.
    fn slow_text<'t>(
        &mut self,
        records: &Records<'t>,
        row: u32,
        (start, len): (usize, usize),
    ) -> Result<Option<Cow<'t, str>>, Trouble> {
        let bytes = records.text(start, len);
        let not_utf8 = |bytes: &[u8]| Trouble::NotUtf8 { at: start, bytes: bytes.to_vec() };
        let text = match bytes {
            Cow::Borrowed(b) => {
                std::str::from_utf8(b).map(Cow::Borrowed).map_err(|_| not_utf8(b))?
            }
            Cow::Owned(b) => {
                String::from_utf8(b).map(Cow::Owned).map_err(|e| not_utf8(e.as_bytes()))?
            }
        };
        let trimmed = text.trim();
        if trimmed.is_empty() {
            return Ok(None);
        }
        if let Some(at) = self.missing.iter().position(|m| m == trimmed) {
            self.marks.put(row, Mark::Missing(at as u16));
            return Ok(None);
        }
        Ok(Some(text))
    }

    /// The trouble with a text that the column's shape does not take.
    fn widen(&self, at: usize, text: &str) -> Trouble {
        let text_owned = text.to_owned();
        let it = &self.reading;
        let numeric = matches!(it.shape, Shape::Unknown | Shape::Number(_) | Shape::Float);
        if numeric && !it.other_sign && is_of_other_sign(text, it.decimal) {
            return Trouble::OtherSign { at, text: text_owned };
        }
        let shape_of = |text: &str| shape_of(text, it.decimal, it.dates());
        let found = match (it.forced, parse_number(text, it.decimal)) {
            (Some(Forced::Number), Some(Parsed::Exact(n) | Parsed::Code(n))) => {
                Shape::Number(n.scale)
            }
            (Some(Forced::Number), Some(Parsed::Float(_))) => Shape::Float,
            (Some(Forced::Date), _) => match shape_of(text) {
                date @ Shape::Date(_) => date,
                _ => return Trouble::NotOfType { at, text: text_owned },
            },
            (Some(_), _) => return Trouble::NotOfType { at, text: text_owned },
            (None, _) => shape_of(text),
        };
        let mut to = it.shape.join(found);
        if to == it.shape {
            // A number that does not fit the shape for another reason, such as zeros in front.
            to = Shape::Text;
        }
        if it.forced.is_some() && to == Shape::Text {
            return Trouble::NotOfType { at, text: text_owned };
        }
        Trouble::Widen { at, to, text: text_owned }
    }

    /// Looks at the fields that the fast path left, as text.
    fn slowly<T: Copy>(
        &mut self,
        records: &Records<'_>,
        index: usize,
        slow: &[u32],
        values: &mut [T],
        parse: impl Fn(&Reading, &str) -> Option<(T, Option<Mark>)>,
    ) -> Result<(), At> {
        for &row in slow {
            let field = records.field(index, row as usize);
            if let Some(text) = self.slow_text(records, row, field).map_err(|t| (row, t))? {
                let Some((value, mark)) = parse(&self.reading, &text) else {
                    return Err((row, self.widen(field.0, &text)));
                };
                values[row as usize] = value;
                if let Some(mark) = mark {
                    self.marks.put(row, mark);
                }
            }
        }
        Ok(())
    }

    fn numbers(
        &mut self,
        records: &Records<'_>,
        index: usize,
        rows: usize,
        out: &mut Column,
    ) -> Result<(), At> {
        let it = &self.reading;
        let scale = if let Shape::Number(scale) = it.shape { scale } else { 0 };
        // The fast path knows only a point, and no kinds and signs to be found out.
        let point = it.decimal == '.' || scale == 0;
        let fast = point && it.shape != Shape::Unknown && it.unsettled.is_none() && scale <= 7;
        let mut slow = std::mem::take(&mut self.slow);
        let values = fresh!(out.data, I64, rows);
        let scale_known = if fast { Some(scale) } else { None };
        let left = fast::numbers(records, index, scale_known, values, &mut slow);
        let mut wide: Vec<(usize, i128)> = Vec::new();
        let mut trouble = Ok(());
        for &row in &slow[..left] {
            match self.slow_number(records, index, row, scale) {
                Ok(None) => {}
                Ok(Some(value)) => match i64::try_from(value) {
                    Ok(v) if v != MISSING_I64 => values[row as usize] = v,
                    _ => wide.push((row as usize, value)),
                },
                Err(t) => {
                    trouble = Err((row, t));
                    break;
                }
            }
        }
        self.slow = slow;
        if !wide.is_empty() {
            let mut all = out.data.to_i128();
            for (row, value) in wide {
                all[row] = value;
            }
            out.data = Data::I128(all);
        }
        trouble
    }

    fn slow_number(
        &mut self,
        records: &Records<'_>,
        index: usize,
        row: u32,
        scale: u8,
    ) -> Result<Option<i128>, Trouble> {
        let field @ (start, _) = records.field(index, row as usize);
        let Some(text) = self.slow_text(records, row, field)? else { return Ok(None) };
        let it = &self.reading;
        let known = it.shape != Shape::Unknown;
        let number = match parse_number(&text, it.decimal) {
            Some(Parsed::Exact(n)) if known => Some(n),
            Some(Parsed::Code(n)) if it.forced == Some(Forced::Number) && known => Some(n),
            _ => None,
        };
        if let Some(unsettled) = &it.unsettled {
            unsettled.look_at(&text);
        }
        if let Some(currency) = currency_of(&text) {
            self.marks.put(row, currency);
        }
        // More decimals than the column has, or too many digits at its scale: widen.
        let fits = |n: &Decimal| n.scale <= scale;
        match number.filter(fits).map(|n| n.rescale(scale)) {
            Some(Some(n)) => Ok(Some(n.mantissa)),
            Some(None) => {
                Err(Trouble::Widen { at: start, to: Shape::Float, text: text.into_owned() })
            }
            None => Err(self.widen(start, &text)),
        }
    }

    fn texts(
        &mut self,
        records: &Records<'_>,
        index: usize,
        rows: usize,
        out: &mut Column,
    ) -> Result<(), At> {
        let mut slow = std::mem::take(&mut self.slow);
        let Column { data, dictionary, .. } = out;
        let values = fresh!(*data, Codes, rows);
        let left = fast::texts(records, index, (dictionary, &mut self.few), values, &mut slow);
        let mut trouble = Ok(());
        for &row in &slow[..left] {
            let (start, len) = records.field(index, row as usize);
            let bytes = records.text(start, len);
            let code = match dictionary.find(&bytes) {
                Some(code) => code,
                None => match std::str::from_utf8(&bytes) {
                    Ok(text) if text.trim().is_empty() => MISSING_CODE,
                    Ok(text) => dictionary.intern(text),
                    Err(_) => {
                        trouble = Err((row, Trouble::NotUtf8 { at: start, bytes: bytes.to_vec() }));
                        break;
                    }
                },
            };
            if (FIRST_ALIAS..MISSING_CODE).contains(&code) {
                self.marks.put(row, Mark::Missing((code - FIRST_ALIAS) as u16));
            } else {
                values[row as usize] = code;
            }
        }
        self.slow = slow;
        trouble
    }
}

#[cfg(test)]
mod tests {
    use crate::text::records::unquote;

    #[test]
    fn quotes_are_taken_off_and_doubled_ones_made_single() {
        let text =
            |s: &str| String::from_utf8(unquote(s.as_bytes(), Some(b'"')).into_owned()).unwrap();
        assert_eq!(text("plain"), "plain");
        assert_eq!(text("\"a,b\""), "a,b");
        assert_eq!(text("\"say \"\"hi\"\"\""), "say \"hi\"");
        assert_eq!(text("\"\""), "");
        assert_eq!(text("\"\"\"\""), "\"");
    }
}
