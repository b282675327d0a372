//! Arrow arrays to columns: values of the same type at once, everything else by its text.

use super::types::Natural;
use crate::kinds::Reading;
use crate::kinds::values::Shape;
use crate::text::columns::{At, ColumnReader};
use crate::text::records::{Kept, Records};
use arrow_array::cast::AsArray;
use arrow_array::types::*;
use arrow_array::{AnyDictionaryArray, Array, ArrayRef, ArrowPrimitiveType, PrimitiveArray};
use arrow_schema::{DataType, TimeUnit};
use oeuvre_columns::column::dictionary::{FIRST_ALIAS, MISSING_CODE};
use oeuvre_columns::column::marks::Mark;
use oeuvre_columns::column::{Column, Data, MISSING_BOOL, MISSING_I32, MISSING_I64, MISSING_I128};
use oeuvre_columns::value::calendar::{self, DAY_MICROS};
use oeuvre_columns::value::decimal::{Decimal, MAX_DIGITS};
use std::sync::Arc;

/// Days of the first and the last year that the calendar has: 1 and 9999.
pub(super) const DAYS: (i32, i32) = (-719_162, 2_932_896);
/// The first day of the year 1900.
const DAY_1900: i32 = -25_567;

/// What was seen of the values of a column and is to be told.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) struct Seen {
    /// Dates outside the years 1 to 9999, taken as missing.
    pub(super) out_of_calendar: u64,
    /// Dates before 1900.
    pub(super) early: u64,
    /// Times with digits below a microsecond, which are left out.
    pub(super) below_micros: u64,
    /// Numbers that are none, or infinite, taken as missing.
    pub(super) not_numbers: u64,
    /// Instants, read by the clock of a zone.
    pub(super) zoned: u64,
}

impl Seen {
    pub(super) fn add(&mut self, other: Seen) {
        self.out_of_calendar += other.out_of_calendar;
        self.early += other.early;
        self.below_micros += other.below_micros;
        self.not_numbers += other.not_numbers;
        self.zoned += other.zoned;
    }

    /// A day that the calendar has; others are missing.
    fn day(&mut self, day: i64) -> i32 {
        match i32::try_from(day) {
            Ok(day) if (DAYS.0..=DAYS.1).contains(&day) => {
                self.early += u64::from(day < DAY_1900);
                day
            }
            _ => {
                self.out_of_calendar += 1;
                MISSING_I32
            }
        }
    }

    /// A time in microseconds; others are missing.
    fn time(&mut self, ticks: i64, a_second: i64, reading: &Reading, zoned: bool) -> i64 {
        self.zoned += u64::from(zoned);
        let micros = match a_second {
            1_000_000_000 => {
                self.below_micros += u64::from(ticks.rem_euclid(1_000) != 0);
                Some(ticks.div_euclid(1_000))
            }
            _ => ticks.checked_mul(1_000_000 / a_second),
        };
        let wall = |micros: i64| if zoned { reading.wall_clock(micros) } else { Some(micros) };
        let (first, last) = (i64::from(DAYS.0) * DAY_MICROS, (i64::from(DAYS.1) + 1) * DAY_MICROS);
        let within = micros.filter(|m| (first..last).contains(m)).and_then(wall);
        match within.filter(|m| (first..last).contains(m)) {
            Some(micros) => {
                self.early += u64::from(micros < i64::from(DAY_1900) * DAY_MICROS);
                micros
            }
            None => {
                self.out_of_calendar += 1;
                MISSING_I64
            }
        }
    }
}

/// Reads the arrays of a column, batch after batch.
pub(super) struct ArrayReader {
    natural: Natural,
    /// For values that are to be of another kind, by their texts; it knows what stands for no value.
    by_text: ColumnReader,
    /// The texts of a dictionary, and the codes that they have in the column: batches share them.
    known: Option<(ArrayRef, Vec<u32>)>,
    pub(super) seen: Seen,
}

impl ArrayReader {
    pub(super) fn new(natural: Natural, by_text: ColumnReader) -> ArrayReader {
        ArrayReader { natural, by_text, known: None, seen: Seen::default() }
    }

    /// Fills a column from an array.
    ///
    /// # Errors
    /// The first value that the column's kind does not take.
    pub(super) fn read(&mut self, array: &ArrayRef, out: &mut Column) -> Result<(), At> {
        self.by_text.prepare(out);
        out.marks.clear();
        let reading = self.by_text.reading.clone();
        match (&self.natural, reading.shape) {
            (Natural::Nothing, _) => self.by_text.blank(array.len(), out),
            (Natural::Number { scale }, Shape::Number(to)) if *scale <= to as i8 => {
                return self.numbers(array, *scale, to, out);
            }
            (Natural::Float, Shape::Float) => out.data = Data::F64(self.floats(array)),
            (Natural::Truth, Shape::Boolean) => {
                let array = array.as_boolean();
                let truth = |t: Option<bool>| t.map_or(MISSING_BOOL, u8::from);
                out.data = Data::Bool(array.iter().map(truth).collect());
            }
            (Natural::Day, Shape::Date(_)) => {
                let days = array.as_primitive::<Date32Type>().iter();
                let day =
                    |day: Option<i32>| day.map_or(MISSING_I32, |day| self.seen.day(i64::from(day)));
                out.data = Data::I32(days.map(day).collect());
            }
            (Natural::Time { a_second, zoned }, Shape::DateTime) => {
                let (a_second, zoned) = (*a_second, *zoned);
                let time = |ticks: Option<i64>| {
                    let time = |t| self.seen.time(t, a_second, &reading, zoned);
                    ticks.map_or(MISSING_I64, time)
                };
                out.data = Data::I64(ticks(array).map(time).collect());
            }
            (Natural::Text, Shape::Text) => return self.texts(array, out),
            _ => return self.by_texts(array, out),
        }
        Ok(())
    }

    /// Numbers with so many digits behind the point, to others with as many or more.
    fn numbers(&mut self, array: &ArrayRef, scale: i8, to: u8, out: &mut Column) -> Result<(), At> {
        let shift = (i16::from(to) - i16::from(scale)) as u32;
        if let Some(factor) = 10i64.checked_pow(shift)
            && let Some(mut values) = small(array, factor)
        {
            if let Some(nulls) = array.logical_nulls().filter(|nulls| nulls.null_count() > 0) {
                let missing = values.iter_mut().zip(nulls.iter()).filter(|(_, valid)| !valid);
                missing.for_each(|(value, _)| *value = MISSING_I64);
            }
            out.data = Data::I64(values);
            return Ok(());
        }
        let Some(factor) = 10i128.checked_pow(shift) else { return self.by_texts(array, out) };
        let mut small = Vec::with_capacity(array.len());
        let mut wide: Option<Vec<i128>> = None;
        let mut too_large = false;
        each_whole(array, &mut |n: Option<Option<i128>>| {
            let n = match n {
                None => MISSING_I128,
                Some(n) => match n.and_then(|n| n.checked_mul(factor)) {
                    Some(n) if n.unsigned_abs() < 10u128.pow(u32::from(MAX_DIGITS)) => n,
                    _ => {
                        too_large = true;
                        MISSING_I128
                    }
                },
            };
            match &mut wide {
                Some(wide) => wide.push(n),
                None => match i64::try_from(n) {
                    Ok(n) if n != MISSING_I64 => small.push(n),
                    _ if n == MISSING_I128 => small.push(MISSING_I64),
                    _ => {
                        let mut all = Data::I64(std::mem::take(&mut small)).to_i128();
                        all.push(n);
                        wide = Some(all);
                    }
                },
            }
        });
        if too_large {
            // Its text shows what it is.
            return self.by_texts(array, out);
        }
        out.data = match wide {
            Some(wide) => Data::I128(wide),
            None => Data::I64(small),
        };
        Ok(())
    }

    fn floats(&mut self, array: &ArrayRef) -> Vec<f64> {
        let mut seen = 0;
        let mut finite = |value: Option<f64>| match value {
            None => f64::NAN,
            Some(value) if value.is_finite() => value,
            Some(_) => {
                seen += 1;
                f64::NAN
            }
        };
        let values = match array.data_type() {
            DataType::Float64 => array.as_primitive::<Float64Type>().iter().map(finite).collect(),
            // As it is written in decimals, which is what is meant.
            DataType::Float32 => {
                let wider = |f: f32| f.to_string().parse().unwrap_or(f64::NAN);
                let values = array.as_primitive::<Float32Type>().iter();
                values.map(|f| finite(f.map(wider))).collect()
            }
            _ => {
                let values = array.as_primitive::<Float16Type>().iter();
                values.map(|f| finite(f.map(f64::from))).collect()
            }
        };
        self.seen.not_numbers += seen;
        values
    }

    fn texts(&mut self, array: &ArrayRef, out: &mut Column) -> Result<(), At> {
        if let DataType::Dictionary(..) = array.data_type() {
            let array = array.as_any_dictionary();
            let values = array.values();
            let known = self.known.take().filter(|(of, _)| Arc::ptr_eq(of, values));
            let codes = match known {
                Some((_, codes)) => codes,
                None => self.codes(values, out),
            };
            let mut coded = Vec::with_capacity(array.len());
            let nulls = array.keys().nulls();
            for (row, key) in keys(array).into_iter().enumerate() {
                let missing = nulls.is_some_and(|n| n.is_null(row));
                // A key that is no place in the dictionary is damage, and missing.
                let code = codes.get(key).copied().filter(|_| !missing);
                coded.push(self.code(code.unwrap_or(MISSING_CODE), row, out));
            }
            self.known = Some((values.clone(), codes));
            out.data = Data::Codes(coded);
            return Ok(());
        }
        let mut coded = self.codes(array, out);
        for (row, code) in coded.iter_mut().enumerate() {
            *code = self.code(*code, row, out);
        }
        out.data = Data::Codes(coded);
        Ok(())
    }

    /// A code, or missing where its text stands for no value.
    fn code(&self, code: u32, row: usize, out: &mut Column) -> u32 {
        if !(FIRST_ALIAS..MISSING_CODE).contains(&code) {
            return code;
        }
        if out.marks.texts.is_empty() {
            out.marks.texts.clone_from(&self.by_text.missing);
        }
        out.marks.put(row as u32, Mark::Missing((code - FIRST_ALIAS) as u16));
        MISSING_CODE
    }

    /// The codes of texts; those that are missing, or no texts, have none.
    fn codes(&self, array: &ArrayRef, out: &mut Column) -> Vec<u32> {
        let mut codes = Vec::with_capacity(array.len());
        let mut one = |text: Option<&[u8]>| {
            let code = match text {
                None => MISSING_CODE,
                Some(text) => match out.dictionary.find(text) {
                    Some(code) => code,
                    None => match std::str::from_utf8(text) {
                        Ok(text) => out.dictionary.intern(text),
                        Err(_) => out.dictionary.intern(&String::from_utf8_lossy(text)),
                    },
                },
            };
            codes.push(code);
        };
        match array.data_type() {
            DataType::Utf8 => {
                array.as_string::<i32>().iter().for_each(|t| one(t.map(str::as_bytes)));
            }
            DataType::LargeUtf8 => {
                array.as_string::<i64>().iter().for_each(|t| one(t.map(str::as_bytes)));
            }
            DataType::Utf8View => {
                array.as_string_view().iter().for_each(|t| one(t.map(str::as_bytes)));
            }
            DataType::Binary => array.as_binary::<i32>().iter().for_each(one),
            DataType::LargeBinary => array.as_binary::<i64>().iter().for_each(one),
            DataType::BinaryView => array.as_binary_view().iter().for_each(one),
            _ => (0..array.len()).for_each(|_| one(None)),
        }
        codes
    }

    /// Values of another kind than the column's, read as texts are.
    fn by_texts(&mut self, array: &ArrayRef, out: &mut Column) -> Result<(), At> {
        let (mut data, mut marks) = (Vec::new(), Vec::new());
        let natural = self.natural.clone();
        let reading = self.by_text.reading.clone();
        let mut texts = Column::from(Data::Codes(Vec::new()));
        let codes = match (&natural, array.data_type()) {
            (Natural::Text, DataType::Dictionary(..)) => {
                let of = array.as_any_dictionary();
                let codes = self.codes(of.values(), &mut texts);
                keys(of).into_iter().map(|key| codes.get(key).copied()).collect()
            }
            (Natural::Text, _) => self.codes(array, &mut texts).into_iter().map(Some).collect(),
            _ => Vec::new(),
        };
        for row in 0..array.len() {
            if let Some(&code) = codes.get(row) {
                let code = code.filter(|&code| code != MISSING_CODE && array.is_valid(row));
                data.extend_from_slice(
                    code.map_or("", |code| texts.dictionary.text(code)).as_bytes(),
                );
            } else if array.is_valid(row) {
                write_text(array, &natural, row, (&reading, &mut self.seen), &mut data);
            }
            // The last field of a line is one that nobody reads.
            for _ in 0..2 {
                marks.push(data.len() as u32);
                data.push(b'\n');
            }
        }
        data.extend([b'\n'; 32]);
        let kept = Kept::all(2);
        let records = Records::written(&data, &marks, &kept);
        self.by_text.read(&records, 0, out)
    }
}

/// The places of values in a dictionary, which may have none.
fn keys(array: &dyn AnyDictionaryArray) -> Vec<usize> {
    match array.values().is_empty() {
        true => vec![usize::MAX; array.len()],
        false => array.normalized_keys(),
    }
}

/// The ticks of points in time.
fn ticks(array: &ArrayRef) -> Box<dyn Iterator<Item = Option<i64>> + '_> {
    match array.data_type() {
        DataType::Timestamp(TimeUnit::Second, _) => {
            Box::new(array.as_primitive::<TimestampSecondType>().iter())
        }
        DataType::Timestamp(TimeUnit::Millisecond, _) => {
            Box::new(array.as_primitive::<TimestampMillisecondType>().iter())
        }
        DataType::Timestamp(TimeUnit::Microsecond, _) => {
            Box::new(array.as_primitive::<TimestampMicrosecondType>().iter())
        }
        DataType::Timestamp(TimeUnit::Nanosecond, _) => {
            Box::new(array.as_primitive::<TimestampNanosecondType>().iter())
        }
        DataType::Date64 => Box::new(array.as_primitive::<Date64Type>().iter()),
        _ => Box::new((0..array.len()).map(|_| None)),
    }
}

/// Whole numbers times a factor, where all have room in 64 bits; what stands in place of a missing one means nothing.
fn small(array: &ArrayRef, factor: i64) -> Option<Vec<i64>> {
    /// The numbers, and whether all of them fit. Every one is looked at, so that the loop has no branch.
    fn all<T: Copy>(
        values: &[T],
        factor: i64,
        narrow: impl Fn(T) -> (i64, bool),
    ) -> Option<Vec<i64>> {
        let mut fits = true;
        let scaled = values.iter().map(|&value| {
            let (narrowed, whole) = narrow(value);
            let (scaled, outgrew) = narrowed.overflowing_mul(factor);
            fits &= whole & !outgrew & (scaled != MISSING_I64);
            scaled
        });
        let scaled: Vec<i64> = scaled.collect();
        fits.then_some(scaled)
    }
    macro_rules! of {
        ($type:ty) => {
            all(array.as_primitive::<$type>().values(), factor, |n| (i64::from(n), true))
        };
    }
    match array.data_type() {
        DataType::Int8 => of!(Int8Type),
        DataType::Int16 => of!(Int16Type),
        DataType::Int32 => of!(Int32Type),
        DataType::Int64 => of!(Int64Type),
        DataType::UInt8 => of!(UInt8Type),
        DataType::UInt16 => of!(UInt16Type),
        DataType::UInt32 => of!(UInt32Type),
        DataType::Decimal32(..) => of!(Decimal32Type),
        DataType::Decimal64(..) => of!(Decimal64Type),
        DataType::Decimal128(..) => {
            let values = array.as_primitive::<Decimal128Type>().values();
            all(values, factor, |n| (n as i64, i128::from(n as i64) == n))
        }
        _ => None,
    }
}

/// Calls a function with each whole number: none where it is missing, and none inside where it needs more than
/// 128 bits.
fn each_whole(array: &ArrayRef, f: &mut impl FnMut(Option<Option<i128>>)) {
    fn all<T: ArrowPrimitiveType>(array: &ArrayRef, f: &mut impl FnMut(Option<Option<i128>>))
    where
        T::Native: Into<i128>,
    {
        let array: &PrimitiveArray<T> = array.as_primitive();
        array.iter().for_each(|n| f(n.map(|n| Some(n.into()))));
    }
    match array.data_type() {
        DataType::Int8 => all::<Int8Type>(array, f),
        DataType::Int16 => all::<Int16Type>(array, f),
        DataType::Int32 => all::<Int32Type>(array, f),
        DataType::Int64 => all::<Int64Type>(array, f),
        DataType::UInt8 => all::<UInt8Type>(array, f),
        DataType::UInt16 => all::<UInt16Type>(array, f),
        DataType::UInt32 => all::<UInt32Type>(array, f),
        DataType::UInt64 => all::<UInt64Type>(array, f),
        DataType::Decimal32(..) => all::<Decimal32Type>(array, f),
        DataType::Decimal64(..) => all::<Decimal64Type>(array, f),
        DataType::Decimal128(..) => all::<Decimal128Type>(array, f),
        DataType::Decimal256(..) => {
            let array = array.as_primitive::<Decimal256Type>();
            array.iter().for_each(|n| f(n.map(|n| n.to_i128())));
        }
        DataType::Duration(TimeUnit::Second) => all::<DurationSecondType>(array, f),
        DataType::Duration(TimeUnit::Millisecond) => all::<DurationMillisecondType>(array, f),
        DataType::Duration(TimeUnit::Microsecond) => all::<DurationMicrosecondType>(array, f),
        DataType::Duration(TimeUnit::Nanosecond) => all::<DurationNanosecondType>(array, f),
        _ => (0..array.len()).for_each(|_| f(None)),
    }
}

/// Writes a value that is not missing as it would stand in a text file.
fn write_text(
    array: &ArrayRef,
    natural: &Natural,
    row: usize,
    (reading, seen): (&Reading, &mut Seen),
    out: &mut Vec<u8>,
) {
    let one = array.slice(row, 1);
    let text = match natural {
        Natural::Nothing | Natural::Unfit(_) => return,
        Natural::Number { scale } => {
            let mut number = None;
            each_whole(&one, &mut |n| number = n);
            number_text(number, *scale, &one)
        }
        Natural::Float => {
            let mut reader = Seen::default();
            let value = float_of(&one);
            reader.not_numbers += u64::from(!value.is_finite());
            seen.add(reader);
            match value.is_finite() {
                true => value.to_string(),
                false => return,
            }
        }
        Natural::Truth => one.as_boolean().value(0).to_string(),
        Natural::Day => {
            let day = seen.day(i64::from(one.as_primitive::<Date32Type>().value(0)));
            match day {
                MISSING_I32 => return,
                day => calendar::date_text(day),
            }
        }
        Natural::Time { a_second, zoned } => {
            let Some(Some(tick)) = ticks(&one).next() else { return };
            match seen.time(tick, *a_second, reading, *zoned) {
                MISSING_I64 => return,
                micros => oeuvre_columns::Value::DateTime(micros).to_string(),
            }
        }
        Natural::Clock { a_second } => {
            let tick = match one.data_type() {
                DataType::Time32(TimeUnit::Second) => {
                    i64::from(one.as_primitive::<Time32SecondType>().value(0))
                }
                DataType::Time32(_) => {
                    i64::from(one.as_primitive::<Time32MillisecondType>().value(0))
                }
                DataType::Time64(TimeUnit::Microsecond) => {
                    one.as_primitive::<Time64MicrosecondType>().value(0)
                }
                _ => one.as_primitive::<Time64NanosecondType>().value(0),
            };
            clock_text(tick, *a_second)
        }
        // Texts are written as they stand.
        Natural::Text => return,
    };
    // What ends a line is no part of it; nothing else has one.
    out.extend_from_slice(text.as_bytes());
}

/// A number in digits; one that needs more than 128 bits as binary64 shows it.
fn number_text(number: Option<Option<i128>>, scale: i8, array: &ArrayRef) -> String {
    match number.flatten() {
        Some(n) if scale >= 0 => Decimal::new(n, scale as u8).to_string(),
        Some(n) => format!("{n}{}", "0".repeat(usize::from(scale.unsigned_abs()))),
        None => match array.data_type() {
            DataType::Decimal256(_, scale) => {
                let digits = array.as_primitive::<Decimal256Type>().value(0).to_string();
                format!("{digits}e{}", -i32::from(*scale))
            }
            _ => String::new(),
        },
    }
}

fn float_of(array: &ArrayRef) -> f64 {
    match array.data_type() {
        DataType::Float64 => array.as_primitive::<Float64Type>().value(0),
        DataType::Float32 => {
            let value = array.as_primitive::<Float32Type>().value(0);
            value.to_string().parse().unwrap_or(f64::NAN)
        }
        _ => f64::from(array.as_primitive::<Float16Type>().value(0)),
    }
}

/// A time of day.
fn clock_text(tick: i64, a_second: i64) -> String {
    let (seconds, rest) = (tick.div_euclid(a_second), tick.rem_euclid(a_second));
    let (hour, minute, second) = (seconds / 3600, seconds / 60 % 60, seconds % 60);
    let mut text = format!("{hour:02}:{minute:02}:{second:02}");
    if rest > 0 {
        let digits = format!("{rest:0width$}", width = a_second.ilog10() as usize);
        text.push('.');
        text.push_str(digits.trim_end_matches('0'));
    }
    text
}
