//! Fields to typed columns, a column at a time.
//!
//! Each kind has a fast path for the usual form of its values (plain digits with the column's number
//! of decimals, ISO dates, short unquoted texts) and a slow path that takes everything else, finds
//! missing texts, and notices when the column is of another kind after all.

use super::values::{
    DateOrder, Forced, Orders, Parsed, Shape, date_in, datetime_in, parse_boolean, parse_number, shape_of,
};
use oeuvre_core::rows::column::{Column, Data, MISSING_BOOL, MISSING_I32, MISSING_I64, MISSING_I128};
use oeuvre_core::rows::dictionary::{FIRST_ALIAS, MISSING_CODE};
use oeuvre_core::value::calendar::{DAY_MICROS, days_from_civil, days_in_month};
use oeuvre_core::value::decimal::Decimal;
use std::borrow::Cow;

/// The records of a piece: where each field ends.
pub(crate) struct Records<'a> {
    pub(crate) data: &'a [u8],
    pub(crate) quote: Option<u8>,
    /// One mark a field, one record after the other.
    pub(crate) marks: &'a [u32],
    /// Fields in a record.
    pub(crate) width: usize,
    /// Where each record starts, when that is not right behind the mark before.
    pub(crate) starts: &'a [u32],
}

impl<'a> Records<'a> {
    pub(crate) fn rows(&self) -> usize {
        if self.width == 0 { 0 } else { self.marks.len() / self.width }
    }

    /// Calls with start and length of the column's field in each record.
    #[inline(always)]
    pub(crate) fn each(&self, column: usize, mut take: impl FnMut(usize, usize)) {
        let (width, last) = (self.width, column + 1 == self.width);
        let mut previous_end = usize::MAX; // one before the start of the data
        for (row, record) in self.marks.chunks_exact(width).enumerate() {
            let start = match column {
                0 if !self.starts.is_empty() => self.starts[row] as usize,
                0 => previous_end.wrapping_add(1),
                _ => record[column - 1] as usize + 1,
            };
            let mut end = record[column] as usize;
            if last && end > start && self.data[end - 1] == b'\r' {
                end -= 1;
            }
            previous_end = record[width - 1] as usize;
            take(start, end.saturating_sub(start));
        }
    }

    /// The text of a field, without its quotes.
    pub(crate) fn text(&self, start: usize, len: usize) -> Cow<'a, [u8]> {
        unquote(&self.data[start..start + len], self.quote)
    }
}

/// A field without its quotes, doubled ones made single.
pub(crate) fn unquote(field: &[u8], quote: Option<u8>) -> Cow<'_, [u8]> {
    let Some(q) = quote.filter(|q| field.first() == Some(q)) else { return Cow::Borrowed(field) };
    let inner = field[1..].strip_suffix(&[q]).unwrap_or(&field[1..]);
    if !inner.contains(&q) {
        return Cow::Borrowed(inner);
    }
    let mut out = Vec::with_capacity(inner.len());
    let mut bytes = inner.iter();
    while let Some(&b) = bytes.next() {
        out.push(b);
        if b == q {
            bytes.next();
        }
    }
    Cow::Owned(out)
}

/// Why a column cannot be read as planned.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Trouble {
    /// The field at this place of the data is of another shape.
    Widen { at: usize, to: Shape, text: String },
    /// The field is not what `--type` says.
    NotOfType { at: usize, text: String },
    /// The field is not valid UTF-8.
    NotUtf8 { at: usize },
}

/// Reads one column of the file, piece after piece.
pub(crate) struct ColumnReader {
    pub(crate) shape: Shape,
    pub(crate) forced: Option<Forced>,
    pub(crate) decimal: char,
    pub(crate) orders: Orders,
    /// Texts that stand for no value, beside the blank field.
    pub(crate) missing: Vec<String>,
    /// How often each of them was met.
    pub(crate) missing_counts: Vec<u64>,
}

impl ColumnReader {
    /// Prepares a batch's column: missing texts are known to its dictionary as aliases.
    pub(crate) fn prepare(&self, column: &mut Column) {
        if column.dictionary.aliases() == 0 {
            for text in &self.missing {
                column.dictionary.alias(text);
            }
        }
    }

    /// Fills a column from the records of a piece.
    pub(crate) fn read(
        &mut self,
        records: &Records<'_>,
        index: usize,
        out: &mut Column,
    ) -> Result<(), Trouble> {
        let rows = records.rows();
        match self.shape {
            Shape::Unknown | Shape::Number(_) => self.numbers(records, index, rows, out),
            Shape::Float => {
                let values = fresh(
                    &mut out.data,
                    rows,
                    |d| if let Data::F64(v) = d { Some(v) } else { None },
                    Data::F64,
                );
                self.each_slowly(records, index, values, f64::NAN, |it, text| {
                    match parse_number(text, it.decimal)? {
                        Parsed::Exact(n) => Some(oeuvre_core::value::exact::decimal_to_f64(n)),
                        Parsed::Float(f) => Some(f),
                        Parsed::Code(n) if it.forced.is_some() => {
                            Some(oeuvre_core::value::exact::decimal_to_f64(n))
                        }
                        Parsed::Code(_) => None,
                    }
                })
            }
            Shape::Boolean => {
                let values = fresh(
                    &mut out.data,
                    rows,
                    |d| if let Data::Bool(v) = d { Some(v) } else { None },
                    Data::Bool,
                );
                self.each_slowly(records, index, values, MISSING_BOOL, |_, text| {
                    parse_boolean(text).map(u8::from)
                })
            }
            Shape::Date(orders) => self.dates(records, index, rows, orders, out),
            Shape::DateTime => {
                let values = fresh(
                    &mut out.data,
                    rows,
                    |d| if let Data::I64(v) = d { Some(v) } else { None },
                    Data::I64,
                );
                self.datetimes(records, index, values)
            }
            Shape::Text => self.texts(records, index, rows, out),
        }
    }

    /// What a field is when the fast path does not take it: missing, or a text to look at.
    fn slow_text<'t>(
        &mut self,
        records: &Records<'t>,
        start: usize,
        len: usize,
    ) -> Result<Option<Cow<'t, str>>, Trouble> {
        let bytes = records.text(start, len);
        let text = match bytes {
            Cow::Borrowed(b) => {
                std::str::from_utf8(b).map(Cow::Borrowed).map_err(|_| Trouble::NotUtf8 { at: start })?
            }
            Cow::Owned(b) => {
                String::from_utf8(b).map(Cow::Owned).map_err(|_| Trouble::NotUtf8 { at: start })?
            }
        };
        let trimmed = text.trim();
        if trimmed.is_empty() {
            return Ok(None);
        }
        if let Some(at) = self.missing.iter().position(|m| m == trimmed) {
            self.missing_counts[at] += 1;
            return Ok(None);
        }
        Ok(Some(text))
    }

    /// The trouble with a text that the column's shape does not take.
    fn widen(&self, at: usize, text: &str) -> Trouble {
        let text_owned = text.to_owned();
        let found = match (self.forced, parse_number(text, self.decimal)) {
            (Some(Forced::Number), Some(Parsed::Exact(n) | Parsed::Code(n))) => Shape::Number(n.scale),
            (Some(Forced::Number), Some(Parsed::Float(_))) => Shape::Float,
            (Some(Forced::Date), _) => match shape_of(text, self.decimal, self.orders) {
                date @ Shape::Date(_) => date,
                _ => return Trouble::NotOfType { at, text: text_owned },
            },
            (Some(_), _) => return Trouble::NotOfType { at, text: text_owned },
            (None, _) => shape_of(text, self.decimal, self.orders),
        };
        let mut to = self.shape.join(found);
        if to == self.shape {
            // A number that does not fit the shape for another reason, such as zeros in front.
            to = Shape::Text;
        }
        if self.forced.is_some() && to == Shape::Text {
            return Trouble::NotOfType { at, text: text_owned };
        }
        Trouble::Widen { at, to, text: text_owned }
    }

    /// The plain loop: every field is looked at as text.
    fn each_slowly<T: Copy>(
        &mut self,
        records: &Records<'_>,
        index: usize,
        values: &mut Vec<T>,
        missing: T,
        parse: impl Fn(&Self, &str) -> Option<T>,
    ) -> Result<(), Trouble> {
        let mut trouble = None;
        records.each(index, |start, len| {
            if len == 0 || trouble.is_some() {
                values.push(missing);
                return;
            }
            match self.slow_text(records, start, len) {
                Ok(None) => values.push(missing),
                Ok(Some(text)) => match parse(self, &text) {
                    Some(value) => values.push(value),
                    None => trouble = Some(self.widen(start, &text)),
                },
                Err(t) => trouble = Some(t),
            }
        });
        trouble.map_or(Ok(()), Err)
    }

    fn numbers(
        &mut self,
        records: &Records<'_>,
        index: usize,
        rows: usize,
        out: &mut Column,
    ) -> Result<(), Trouble> {
        let scale = if let Shape::Number(scale) = self.shape { scale } else { 0 };
        let plain_point = self.decimal == '.';
        let values =
            fresh(&mut out.data, rows, |d| if let Data::I64(v) = d { Some(v) } else { None }, Data::I64);
        let mut trouble: Option<Trouble> = None;
        let mut wide: Vec<(usize, i128)> = Vec::new();
        let unknown = self.shape == Shape::Unknown;
        records.each(index, |start, len| {
            if len == 0 {
                values.push(MISSING_I64);
                return;
            }
            if plain_point
                && !unknown
                && let Some(value) = fast_number(records.data, start, len, scale)
            {
                values.push(value);
                return;
            }
            if trouble.is_some() {
                values.push(MISSING_I64);
                return;
            }
            match self.slow_number(records, start, len, scale) {
                Ok(None) => values.push(MISSING_I64),
                Ok(Some(value)) => match i64::try_from(value) {
                    Ok(v) if v != MISSING_I64 => values.push(v),
                    _ => {
                        wide.push((values.len(), value));
                        values.push(MISSING_I64);
                    }
                },
                Err(t) => trouble = Some(t),
            }
        });
        if let Some(trouble) = trouble {
            return Err(trouble);
        }
        if !wide.is_empty() {
            let mut all = out.data.to_i128();
            for (row, value) in wide {
                debug_assert_eq!(all[row], MISSING_I128);
                all[row] = value;
            }
            out.data = Data::I128(all);
        }
        Ok(())
    }

    fn slow_number(
        &mut self,
        records: &Records<'_>,
        start: usize,
        len: usize,
        scale: u8,
    ) -> Result<Option<i128>, Trouble> {
        let Some(text) = self.slow_text(records, start, len)? else { return Ok(None) };
        let known = self.shape != Shape::Unknown;
        let number = match parse_number(&text, self.decimal) {
            Some(Parsed::Exact(n)) if known => Some(n),
            Some(Parsed::Code(n)) if self.forced == Some(Forced::Number) && known => Some(n),
            _ => None,
        };
        // More decimals than the column has, or too many digits at its scale: widen.
        let fits = |n: &Decimal| n.scale <= scale;
        match number.filter(fits).map(|n| n.rescale(scale)) {
            Some(Some(n)) => Ok(Some(n.mantissa)),
            Some(None) => Err(Trouble::Widen { at: start, to: Shape::Float, text: text.into_owned() }),
            None => Err(self.widen(start, &text)),
        }
    }

    fn dates(
        &mut self,
        records: &Records<'_>,
        index: usize,
        rows: usize,
        orders: Orders,
        out: &mut Column,
    ) -> Result<(), Trouble> {
        let values =
            fresh(&mut out.data, rows, |d| if let Data::I32(v) = d { Some(v) } else { None }, Data::I32);
        let mut trouble = None;
        records.each(index, |start, len| {
            if len == 0 || trouble.is_some() {
                values.push(MISSING_I32);
            } else if len == 10
                && let Some(day) = fast_date(records.data, start)
            {
                values.push(day);
            } else {
                match self.slow_text(records, start, len) {
                    Ok(None) => values.push(MISSING_I32),
                    Ok(Some(text)) => match date_in(&text, orders) {
                        Some(day) => values.push(day),
                        None => trouble = Some(self.widen(start, &text)),
                    },
                    Err(t) => trouble = Some(t),
                }
            }
        });
        trouble.map_or(Ok(()), Err)
    }

    fn datetimes(
        &mut self,
        records: &Records<'_>,
        index: usize,
        values: &mut Vec<i64>,
    ) -> Result<(), Trouble> {
        let mut trouble = None;
        records.each(index, |start, len| {
            if len == 0 || trouble.is_some() {
                values.push(MISSING_I64);
            } else if len == 19
                && let Some(time) = fast_datetime(records.data, start)
            {
                values.push(time);
            } else {
                match self.slow_text(records, start, len) {
                    Ok(None) => values.push(MISSING_I64),
                    Ok(Some(text)) => match datetime_in(&text, self.orders) {
                        Some(time) => values.push(time),
                        None => trouble = Some(self.widen(start, &text)),
                    },
                    Err(t) => trouble = Some(t),
                }
            }
        });
        trouble.map_or(Ok(()), Err)
    }

    fn texts(
        &mut self,
        records: &Records<'_>,
        index: usize,
        rows: usize,
        out: &mut Column,
    ) -> Result<(), Trouble> {
        if !matches!(out.data, Data::Codes(_)) {
            out.data = Data::Codes(Vec::new());
        }
        let Column { data, dictionary } = out;
        let Data::Codes(values) = data else { return Ok(()) };
        values.clear();
        values.reserve(rows);
        let quote = records.quote.unwrap_or(0);
        let mut trouble = None;
        records.each(index, |start, len| {
            if len == 0 {
                values.push(MISSING_CODE);
                return;
            }
            let quoted = records.data[start] == quote && quote != 0;
            if !quoted
                && let Some(code) =
                    fast_text(records.data, start, len).and_then(|w| dictionary.find_word(w, len as u32))
                && code < FIRST_ALIAS
            {
                values.push(code);
                return;
            }
            if trouble.is_some() {
                values.push(MISSING_CODE);
                return;
            }
            let bytes = records.text(start, len);
            if bytes.is_empty() {
                values.push(MISSING_CODE);
                return;
            }
            let code = match dictionary.find(&bytes) {
                Some(code) => code,
                None => match std::str::from_utf8(&bytes) {
                    Ok(text) if text.trim().is_empty() => MISSING_CODE,
                    Ok(text) => dictionary.intern(text),
                    Err(_) => {
                        trouble = Some(Trouble::NotUtf8 { at: start });
                        MISSING_CODE
                    }
                },
            };
            if (FIRST_ALIAS..MISSING_CODE).contains(&code) {
                self.missing_counts[(code - FIRST_ALIAS) as usize] += 1;
                values.push(MISSING_CODE);
            } else {
                values.push(code);
            }
        });
        trouble.map_or(Ok(()), Err)
    }
}

/// The vector of a column, emptied, or a new one of the right type.
fn fresh<T>(
    data: &mut Data,
    rows: usize,
    get: impl Fn(&mut Data) -> Option<&mut Vec<T>>,
    make: impl Fn(Vec<T>) -> Data,
) -> &mut Vec<T> {
    if get(data).is_none() {
        *data = make(Vec::new());
    }
    let Some(values) = get(data) else { unreachable!("made just above") };
    values.clear();
    values.reserve(rows);
    values
}

const ZEROS: u64 = 0x3030_3030_3030_3030;

#[inline(always)]
fn word(data: &[u8], at: usize) -> Option<u64> {
    data.get(at..)?.first_chunk::<8>().map(|b| u64::from_le_bytes(*b))
}

/// Whether all eight bytes are digits.
#[inline(always)]
fn all_digits(word: u64) -> bool {
    let high = word & 0xf0f0_f0f0_f0f0_f0f0;
    let above = word.wrapping_add(0x0606_0606_0606_0606) & 0xf0f0_f0f0_f0f0_f0f0;
    (high | (above >> 4)) == 0x3333_3333_3333_3333
}

/// The number that eight digits write, the first byte in the lowest place of the word.
#[inline(always)]
fn eight_digits(word: u64) -> u64 {
    let pairs = (word & 0x0f0f_0f0f_0f0f_0f0f).wrapping_mul(2561) >> 8;
    let fours = (pairs & 0x00ff_00ff_00ff_00ff).wrapping_mul(6_553_601) >> 16;
    (fours & 0x0000_ffff_0000_ffff).wrapping_mul(42_949_672_960_001) >> 32
}

/// A number of up to eight bytes (and a minus) with exactly `scale` digits after the point; `None`
/// when it looks any different.
#[inline(always)]
fn fast_number(data: &[u8], start: usize, len: usize, scale: u8) -> Option<i64> {
    let negative = data[start] == b'-';
    let (start, len) = (start + usize::from(negative), len - usize::from(negative));
    let scale = u32::from(scale);
    if len == 0 || len > 8 {
        return None;
    }
    // The field at the upper end of the word, its last byte in the highest place.
    let field = word(data, start)? << (64 - 8 * len as u32);
    let digits = if scale == 0 {
        // Zeros in front make a code, which is not for this path.
        if len > 1 && data[start] == b'0' {
            return None;
        }
        len as u32
    } else {
        if len as u32 <= scale + 1 {
            return None;
        }
        len as u32 - 1
    };
    let packed = if scale == 0 {
        field
    } else {
        let fraction = u64::MAX << (64 - 8 * scale);
        if (field >> (56 - 8 * scale)) as u8 != b'.' {
            return None;
        }
        (field & fraction) | ((field << 8) & !fraction)
    };
    // Zeros take the places in front of the digits.
    let front = if digits == 8 { 0 } else { u64::MAX >> (8 * digits) };
    let packed = (packed & !front) | (ZEROS & front);
    if !all_digits(packed) {
        return None;
    }
    let value = eight_digits(packed) as i64;
    Some(if negative { -value } else { value })
}

/// Days before the first of each month, in common years and leap years.
const BEFORE_MONTH: [[i32; 13]; 2] = {
    let mut table = [[0; 13]; 2];
    let mut leap = 0;
    while leap < 2 {
        let year = if leap == 1 { 2000 } else { 2001 };
        let mut month = 1;
        while month <= 12 {
            table[leap][month] = days_from_civil(year, month as u32, 1) - days_from_civil(year, 1, 1);
            month += 1;
        }
        leap += 1;
    }
    table
};

/// The date of `YYYY-MM-DD`; `None` when it looks any different or there is no such date.
#[inline(always)]
fn fast_date(data: &[u8], start: usize) -> Option<i32> {
    let front = word(data, start)?; // YYYY-MM-
    let day = data.get(start + 8..start + 10)?;
    const HYPHENS: u64 = 0xff00_00ff_0000_0000;
    if front & HYPHENS != 0x2d00_002d_0000_0000 {
        return None;
    }
    let digits = (front & !HYPHENS) | (ZEROS & HYPHENS);
    let (tens, ones) = (day[0].wrapping_sub(b'0'), day[1].wrapping_sub(b'0'));
    if !all_digits(digits) || tens > 3 || ones > 9 {
        return None;
    }
    let number = eight_digits(digits) as u32; // YYYY0MM0
    let (year, month) = ((number / 10_000) as i32, number % 10_000 / 10);
    let day = u32::from(tens) * 10 + u32::from(ones);
    let usual = (1..=12).contains(&month) && day >= 1 && year >= 1;
    if !usual || (day > 28 && day > days_in_month(year, month)) {
        return None;
    }
    let leap = year % 4 == 0 && (year % 100 != 0 || year % 400 == 0);
    let before = year - 1;
    let first = before * 365 + before / 4 - before / 100 + before / 400 - 719_162;
    Some(first + BEFORE_MONTH[usize::from(leap)][month as usize] + day as i32 - 1)
}

/// The instant of `YYYY-MM-DDThh:mm:ss`.
#[inline(always)]
fn fast_datetime(data: &[u8], start: usize) -> Option<i64> {
    let day = fast_date(data, start)?;
    let time = data.get(start + 10..start + 19)?;
    let two = |at: usize, limit: u8| {
        let (tens, ones) = (time[at].wrapping_sub(b'0'), time[at + 1].wrapping_sub(b'0'));
        let value = tens.wrapping_mul(10).wrapping_add(ones);
        (tens < 6 && ones < 10 && value < limit).then_some(i64::from(value))
    };
    if !matches!(time[0], b'T' | b' ') || time[3] != b':' || time[6] != b':' {
        return None;
    }
    let seconds = two(1, 24)? * 3600 + two(4, 60)? * 60 + two(7, 60)?;
    Some(i64::from(day) * DAY_MICROS + seconds * 1_000_000)
}

/// A text of up to 16 bytes as a word padded with zeros.
#[inline(always)]
fn fast_text(data: &[u8], start: usize, len: usize) -> Option<u128> {
    if len > 16 {
        return None;
    }
    let bytes = data.get(start..)?.first_chunk::<16>()?;
    Some(u128::from_le_bytes(*bytes) & (u128::MAX >> (128 - 8 * len as u32)))
}

/// The order of dates that was asked for, or any.
pub(crate) fn orders_of(asked: Option<DateOrder>) -> Orders {
    asked.map_or(Orders::ALL, Orders::only)
}

#[cfg(test)]
mod tests {
    use super::*;
    use oeuvre_core::value::calendar::{parse_date, parse_datetime};
    use proptest::prelude::*;

    fn padded(text: &str) -> Vec<u8> {
        format!("{text},and some more").into_bytes()
    }

    proptest! {
        #[test]
        fn the_fast_number_is_right_or_says_nothing(text in "-?[0-9]{0,9}(\\.[0-9]{0,4})?[ x-]?", scale in 0u8..4) {
            prop_assume!(!text.is_empty());
            if let Some(fast) = fast_number(&padded(&text), 0, text.len(), scale) {
                let exact: Decimal = text.parse().unwrap();
                prop_assert_eq!(exact.scale, scale);
                prop_assert_eq!(i128::from(fast), exact.mantissa);
            }
        }

        #[test]
        fn usual_numbers_take_the_fast_path(whole in 0u32..100_000, cents in 0u32..100) {
            let text = format!("{whole}.{cents:02}");
            let fast = fast_number(&padded(&text), 0, text.len(), 2);
            prop_assert_eq!(fast, Some(i64::from(whole) * 100 + i64::from(cents)));
        }

        #[test]
        fn the_fast_date_agrees_with_the_slow_one(y in 0u32..10_000, m in 0u32..14, d in 0u32..34, junk in "[0-9:T-]{0,3}") {
            let text = format!("{y:04}-{m:02}-{d:02}{junk}");
            prop_assert_eq!(fast_date(&padded(&text), 0), parse_date(&text[..10]));
            let time = format!("{}T{m:02}:{d:02}:5{}", &text[..10], y % 10);
            prop_assert_eq!(fast_datetime(&padded(&time), 0), parse_datetime(&time));
        }
    }

    #[test]
    fn quotes_are_taken_off_and_doubled_ones_made_single() {
        let text = |s: &str| String::from_utf8(unquote(s.as_bytes(), Some(b'"')).into_owned()).unwrap();
        assert_eq!(text("plain"), "plain");
        assert_eq!(text("\"a,b\""), "a,b");
        assert_eq!(text("\"say \"\"hi\"\"\""), "say \"hi\"");
        assert_eq!(text("\"\""), "");
        assert_eq!(text("\"\"\"\""), "\"");
    }
}
