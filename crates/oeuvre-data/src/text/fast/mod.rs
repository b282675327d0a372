//! The usual forms of values, read without looking at them one byte at a time.
//!
//! Each loop takes the fields of one column, writes the values that it can read for certain, and
//! lists the records of the others at the start of `slow`: blank fields are missing, anything else
//! unusual is looked at by `columns.rs`. The loops are compiled for newer instructions too and
//! picked at run time.
//!
//! If you teach a loop another form, the tests at the end compare it with the plain reading of
//! `kinds/values.rs` on random fields: it may leave a field, but never read it otherwise.

#[cfg(target_arch = "x86_64")]
mod avx512;

use super::records::Records;
#[cfg(target_arch = "x86_64")]
use avx512::Eight;
use oeuvre_columns::column::dictionary::{FIRST_ALIAS, MISSING_CODE, Texts};
use oeuvre_columns::column::{MISSING_I32, MISSING_I64};
use oeuvre_columns::value::calendar::{DAY_MICROS, days_from_civil, days_in_month};

/// Declares a loop that is compiled for the baseline processor, for one with the bit manipulation instructions,
/// whose shifts by a variable amount cost a third, and for one that reads eight fields at once.
macro_rules! for_newer_processors {
    ($(#[$doc:meta])* $name:ident, $body:ident, $eight:expr, ($($arg:ident: $type:ty),*)) => {
        $(#[$doc])*
        #[allow(unsafe_code)]
        pub(super) fn $name(records: &Records<'_>, column: usize, $($arg: $type),*) -> usize {
            #[cfg(target_arch = "x86_64")]
            {
                #[target_feature(
                    enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2,bmi1,bmi2,lzcnt,popcnt"
                )]
                fn newest(records: &Records<'_>, column: usize, $($arg: $type),*) -> usize {
                    $eight(records, column, $($arg),*)
                }
                #[target_feature(enable = "avx2,bmi1,bmi2,lzcnt,popcnt")]
                fn newer(records: &Records<'_>, column: usize, $($arg: $type),*) -> usize {
                    $body(records, column, $($arg),*)
                }
                if avx512::is_here() {
                    // SAFETY: the processor has been asked for these features just now.
                    return unsafe { newest(records, column, $($arg),*) };
                }
                if is_x86_feature_detected!("avx2")
                    && is_x86_feature_detected!("bmi1")
                    && is_x86_feature_detected!("bmi2")
                    && is_x86_feature_detected!("lzcnt")
                    && is_x86_feature_detected!("popcnt")
                {
                    // SAFETY: as above.
                    return unsafe { newer(records, column, $($arg),*) };
                }
            }
            $body(records, column, $($arg),*)
        }
    };
}

for_newer_processors!(
    /// Numbers with exactly `scale` digits after the point (at most 7); with `None` all fields are left.
    numbers, numbers_body, numbers_eight, (scale: Option<u8>, out: &mut [i64], slow: &mut Vec<u32>)
);
for_newer_processors!(
    /// Dates as `YYYY-MM-DD`.
    dates, dates_body, dates_eight, (out: &mut [i32], slow: &mut Vec<u32>)
);
for_newer_processors!(
    /// Instants as `YYYY-MM-DDThh:mm:ss`.
    datetimes, datetimes_body, datetimes_body, (out: &mut [i64], slow: &mut Vec<u32>)
);
for_newer_processors!(
    /// Texts of up to 16 bytes that the dictionary has.
    texts, texts_body, texts_eight, (dictionary: &Texts, out: &mut [u32], slow: &mut Vec<u32>)
);

/// Leaves all fields that are not blank.
pub(super) fn none(records: &Records<'_>, column: usize, slow: &mut Vec<u32>) -> usize {
    let mut nothing = vec![0u8; records.rows()];
    each(records, column, &mut nothing, slow, 0, Nothing)
}

/// How far ahead a field's bytes are asked for: some ten records of the usual length, which is as
/// long as the second-level cache takes to answer.
const AHEAD: usize = 1024;

/// Asks for a byte that will be read soon.
#[inline(always)]
#[allow(unsafe_code)]
fn prefetch(data: &[u8], at: usize) {
    #[cfg(target_arch = "x86_64")]
    {
        use std::arch::x86_64::{_MM_HINT_T0, _mm_prefetch};
        // SAFETY: a prefetch reads nothing and cannot fault, whatever the address.
        unsafe { _mm_prefetch::<_MM_HINT_T0>(data.as_ptr().wrapping_add(at).cast()) }
    }
    #[cfg(not(target_arch = "x86_64"))]
    let _ = (data, at);
}

/// The usual form of a kind of value. A trait and not a closure, because a closure is not always
/// compiled into the loop, and then lacks its instructions.
trait Form<T> {
    /// The value of the field between two places, which is not blank; `None` when it looks unusual.
    fn read(&self, data: &[u8], start: usize, end: usize) -> Option<T>;
}

/// Reads the column's field of each record that is not blank, and writes what comes back.
#[inline(always)]
fn each<T: Copy>(
    records: &Records<'_>,
    column: usize,
    out: &mut [T],
    slow: &mut Vec<u32>,
    missing: T,
    read: impl Form<T>,
) -> usize {
    let rows = records.rows();
    if column == 0 && !records.starts.is_empty() {
        // Some records were blank or of another length: rare enough to be left to the slow path.
        out.fill(missing);
        slow.clear();
        slow.extend(0..rows as u32);
        return rows;
    }
    if slow.len() < rows {
        slow.resize(rows, 0);
    }
    let mut left = 0;
    let slow_rows = &mut slow[..rows];
    let (data, width) = (records.data, records.width);
    let last = column + 1 == width;
    let mut record_start = 0;
    for (row, (record, slot)) in records.marks.chunks_exact(width).zip(out).enumerate() {
        let start = if column == 0 { record_start } else { record[column - 1] as usize + 1 };
        let mut end = record[column] as usize;
        if last && end > start && data[end - 1] == b'\r' {
            end -= 1;
        }
        record_start = record[width - 1] as usize + 1;
        prefetch(data, start + AHEAD);
        // Every record is written to the list; it counts only when the place moves on.
        slow_rows[left] = row as u32;
        *slot = if start < end {
            let value = read.read(data, start, end);
            left += usize::from(value.is_none());
            value.unwrap_or(missing)
        } else {
            missing
        };
    }
    left
}

/// As [`each`], eight records at a time where that can be.
#[cfg(target_arch = "x86_64")]
#[inline(always)]
#[allow(unsafe_code)]
fn each_eight<T: Copy>(
    records: &Records<'_>,
    column: usize,
    out: &mut [T],
    slow: &mut Vec<u32>,
    missing: T,
    read: impl Eight<T>,
) -> usize {
    use avx512::{MARGIN, ends_of, places};
    let rows = records.rows();
    let (data, width) = (records.data, records.width);
    let last = column + 1 == width;
    if !records.starts.is_empty() || rows < 16 || data.len() > i32::MAX as usize {
        return each(records, column, out, slow, missing, read);
    }
    if slow.len() < rows {
        slow.resize(rows, 0);
    }
    let mut left = 0;
    let mut one = |row: usize, slot: &mut T| {
        let (start, len) = records.field(column, row);
        if len == 0 {
            *slot = missing;
            return;
        }
        let value = read.read(data, start, start + len);
        if value.is_none() {
            slow[left] = row as u32;
            left += 1;
        }
        *slot = value.unwrap_or(missing);
    };
    let (groups, rest) = out[..rows].as_chunks_mut::<8>();
    for (group, out) in groups.iter_mut().enumerate() {
        let row = group * 8;
        let (first, end) = ends_of(records, column, row);
        // The fields of the next ten records or so, as above.
        let next = (row + 8) * width + column;
        if let Some(marks) = records.marks.get(next..next + 7 * width + 1) {
            marks.iter().step_by(width).for_each(|&mark| prefetch(data, mark as usize));
        }
        let is_at_an_end = row == 0 || first < MARGIN || end + MARGIN > data.len();
        if is_at_an_end || (last && memchr::memchr(b'\r', &data[first - 1..end]).is_some()) {
            out.iter_mut().enumerate().for_each(|(i, slot)| one(row + i, slot));
            continue;
        }
        // SAFETY: only compiled into loops that are picked where AVX-512 is there; the fields of these eight
        // records lie in the data, far enough from its ends, and it is shorter than 2 GiB.
        let mut odd = unsafe {
            let (starts, ends) = places(records, column, row);
            read.eight(data, starts, ends, out)
        };
        while odd != 0 {
            let lane = odd.trailing_zeros() as usize;
            one(row + lane, &mut out[lane]);
            odd &= odd - 1;
        }
    }
    rest.iter_mut().enumerate().for_each(|(i, slot)| one(groups.len() * 8 + i, slot));
    left
}

#[cfg(target_arch = "x86_64")]
#[inline(always)]
fn texts_eight(
    records: &Records<'_>,
    column: usize,
    dictionary: &Texts,
    out: &mut [u32],
    slow: &mut Vec<u32>,
) -> usize {
    let known = Known::of(records, dictionary);
    match avx512::FewTexts::of(dictionary, records.quote) {
        Some(few) if few.are_shortest() => {
            let both = avx512::KnownFew::<true> { known, few };
            each_eight(records, column, out, slow, MISSING_CODE, both)
        }
        Some(few) => {
            let both = avx512::KnownFew::<false> { known, few };
            each_eight(records, column, out, slow, MISSING_CODE, both)
        }
        None => each(records, column, out, slow, MISSING_CODE, known),
    }
}

/// Nothing is usual.
struct Nothing;

impl<T> Form<T> for Nothing {
    #[inline(always)]
    fn read(&self, _: &[u8], _: usize, _: usize) -> Option<T> {
        None
    }
}

/// Digits with a minus or without.
struct Whole;

impl Form<i64> for Whole {
    #[inline(always)]
    fn read(&self, data: &[u8], start: usize, end: usize) -> Option<i64> {
        whole_number(data, start, end)
    }
}

/// Digits with a point before the last so many of them (1 to 7).
struct Fixed(u32);

impl Form<i64> for Fixed {
    #[inline(always)]
    fn read(&self, data: &[u8], start: usize, end: usize) -> Option<i64> {
        number(data, start, end, self.0)
    }
}

/// `YYYY-MM-DD`.
struct Dates;

impl Form<i32> for Dates {
    #[inline(always)]
    fn read(&self, data: &[u8], start: usize, end: usize) -> Option<i32> {
        if end - start == 10 { date(data, start) } else { None }
    }
}

/// `YYYY-MM-DDThh:mm:ss`.
struct DateTimes;

impl Form<i64> for DateTimes {
    #[inline(always)]
    fn read(&self, data: &[u8], start: usize, end: usize) -> Option<i64> {
        if end - start == 19 { datetime(data, start) } else { None }
    }
}

/// Up to 16 bytes that a dictionary has.
struct Known<'a> {
    dictionary: &'a Texts,
    quote: u32,
}

impl<'a> Known<'a> {
    fn of(records: &Records<'_>, dictionary: &'a Texts) -> Known<'a> {
        // A field in quotes is looked at slowly.
        Known { dictionary, quote: records.quote.map_or(u32::MAX, u32::from) }
    }
}

impl Form<u32> for Known<'_> {
    #[inline(always)]
    fn read(&self, data: &[u8], start: usize, end: usize) -> Option<u32> {
        let word = text_word(data, start, end - start)?;
        if u32::from(word as u8) == self.quote {
            return None;
        }
        self.dictionary.find_word(word, (end - start) as u32).filter(|&code| code < FIRST_ALIAS)
    }
}

/// Declares the loops over numbers and dates, by what goes over the records.
macro_rules! loops_by {
    ($each:ident, $numbers:ident, $dates:ident) => {
        #[inline(always)]
        fn $numbers(
            records: &Records<'_>,
            column: usize,
            scale: Option<u8>,
            out: &mut [i64],
            slow: &mut Vec<u32>,
        ) -> usize {
            match scale {
                None => each(records, column, out, slow, MISSING_I64, Nothing),
                Some(0) => $each(records, column, out, slow, MISSING_I64, Whole),
                // Money has two digits: known when the loop is compiled, its shifts cost nothing.
                Some(2) => $each(records, column, out, slow, MISSING_I64, Fixed(2)),
                Some(scale) => {
                    $each(records, column, out, slow, MISSING_I64, Fixed(u32::from(scale)))
                }
            }
        }

        #[inline(always)]
        fn $dates(
            records: &Records<'_>,
            column: usize,
            out: &mut [i32],
            slow: &mut Vec<u32>,
        ) -> usize {
            $each(records, column, out, slow, MISSING_I32, Dates)
        }
    };
}

loops_by!(each, numbers_body, dates_body);
#[cfg(target_arch = "x86_64")]
loops_by!(each_eight, numbers_eight, dates_eight);

#[inline(always)]
fn datetimes_body(
    records: &Records<'_>,
    column: usize,
    out: &mut [i64],
    slow: &mut Vec<u32>,
) -> usize {
    each(records, column, out, slow, MISSING_I64, DateTimes)
}

#[inline(always)]
fn texts_body(
    records: &Records<'_>,
    column: usize,
    dictionary: &Texts,
    out: &mut [u32],
    slow: &mut Vec<u32>,
) -> usize {
    each(records, column, out, slow, MISSING_CODE, Known::of(records, dictionary))
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

/// The number in the `digits` bytes at the upper end of a word (at most 8).
#[inline(always)]
fn upper_digits(packed: u64, digits: usize) -> Option<i64> {
    // Zeros take the places in front of the digits.
    let front = (u64::MAX >> 1) >> (8 * digits - 1);
    let packed = (packed & !front) | (ZEROS & front);
    all_digits(packed).then(|| eight_digits(packed) as i64)
}

/// The field's bytes at the upper end of a word, whether a minus stands before them, and their number.
#[inline(always)]
fn field_word(data: &[u8], start: usize, end: usize) -> Option<(u64, bool, usize)> {
    let negative = data[start] == b'-';
    let len = end - start - usize::from(negative);
    if len == 0 || len > 8 {
        return None;
    }
    // The eight bytes before the end; what stands before the field is masked off later.
    Some((word(data, end.checked_sub(8)?)?, negative, len))
}

/// The number in the `digits` bytes at the upper end of two words (9 to 16).
#[inline(always)]
fn upper_digits_of_two(packed: u128, digits: usize) -> Option<i64> {
    let upper = upper_digits((packed >> 64) as u64, 8)?;
    let lower = packed as u64;
    let front = (u64::MAX >> 1).checked_shr(8 * (digits as u32 - 8) - 1).unwrap_or(0);
    let lower = (lower & !front) | (ZEROS & front);
    all_digits(lower).then(|| eight_digits(lower) as i64 * 100_000_000 + upper)
}

/// Whether a field has more than eight characters, but for a minus before them.
#[inline(always)]
fn is_long(data: &[u8], start: usize, end: usize) -> bool {
    let len = end - start;
    len > 9 || (len == 9 && data[start] != b'-')
}

/// As [`field_word`], of fields with 9 to 16 bytes.
#[inline(always)]
fn field_words(data: &[u8], start: usize, end: usize) -> Option<(u128, bool, usize)> {
    let negative = data[start] == b'-';
    let len = end - start - usize::from(negative);
    if !(9..=16).contains(&len) {
        return None;
    }
    let bytes = data.get(end.checked_sub(16)?..)?.first_chunk::<16>()?;
    Some((u128::from_le_bytes(*bytes), negative, len))
}

/// As [`whole_number`], with 9 to 16 digits.
fn long_whole_number(data: &[u8], start: usize, end: usize) -> Option<i64> {
    let (field, negative, len) = field_words(data, start, end)?;
    if data[end - len] == b'0' {
        return None;
    }
    let value = upper_digits_of_two(field, len)?;
    Some(if negative { -value } else { value })
}

/// As [`number`], of 9 to 16 characters.
fn long_number(data: &[u8], start: usize, end: usize, scale: u32) -> Option<i64> {
    let (field, negative, len) = field_words(data, start, end)?;
    if (field >> (120 - 8 * scale)) as u8 != b'.' {
        return None;
    }
    let fraction = u128::MAX << (128 - 8 * scale);
    let packed = (field & fraction) | ((field << 8) & !fraction);
    let value = match len - 1 {
        8 => upper_digits((packed >> 64) as u64, 8)?,
        digits => upper_digits_of_two(packed, digits)?,
    };
    Some(if negative { -value } else { value })
}

/// Digits with a minus or without.
#[inline(always)]
fn whole_number(data: &[u8], start: usize, end: usize) -> Option<i64> {
    if is_long(data, start, end) {
        return long_whole_number(data, start, end);
    }
    let (field, negative, len) = field_word(data, start, end)?;
    // Zeros in front make a code, which is not for this path.
    if len > 1 && data[end - len] == b'0' {
        return None;
    }
    let value = upper_digits(field, len)?;
    Some(if negative { -value } else { value })
}

/// Digits with a point before the last `scale` of them (1 to 7).
#[inline(always)]
fn number(data: &[u8], start: usize, end: usize, scale: u32) -> Option<i64> {
    if is_long(data, start, end) {
        return long_number(data, start, end, scale);
    }
    let (field, negative, len) = field_word(data, start, end)?;
    if len as u32 <= scale + 1 || (field >> (56 - 8 * scale)) as u8 != b'.' {
        return None;
    }
    let fraction = u64::MAX << (64 - 8 * scale);
    let packed = (field & fraction) | ((field << 8) & !fraction);
    let value = upper_digits(packed, len - 1)?;
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
            table[leap][month] =
                days_from_civil(year, month as u32, 1) - days_from_civil(year, 1, 1);
            month += 1;
        }
        leap += 1;
    }
    table
};

/// The date of `YYYY-MM-DD`; `None` when it looks any different or there is no such date.
#[inline(always)]
fn date(data: &[u8], start: usize) -> Option<i32> {
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
fn datetime(data: &[u8], start: usize) -> Option<i64> {
    let day = date(data, start)?;
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

/// The low bytes of a word, by their number.
const LOW_BYTES: [u128; 17] = {
    let mut masks = [0; 17];
    let mut n = 1;
    while n <= 16 {
        masks[n] = u128::MAX >> (128 - 8 * n);
        n += 1;
    }
    masks
};

/// A text of up to 16 bytes as a word padded with zeros.
#[inline(always)]
fn text_word(data: &[u8], start: usize, len: usize) -> Option<u128> {
    let mask = LOW_BYTES.get(len)?;
    let bytes = data.get(start..)?.first_chunk::<16>()?;
    Some(u128::from_le_bytes(*bytes) & mask)
}

const _: () = assert!(MISSING_CODE > FIRST_ALIAS && MISSING_I64 < 0);

#[cfg(test)]
mod tests {
    use super::*;
    use oeuvre_columns::Decimal;
    use oeuvre_columns::value::calendar::{parse_date, parse_datetime};
    use proptest::prelude::*;

    /// The text with more around it, and where it starts.
    fn padded(text: &str) -> (Vec<u8>, usize) {
        (format!("and more before it,{text},and after it").into_bytes(), 19)
    }

    fn read(text: &str, scale: u8) -> Option<i64> {
        let (data, at) = padded(text);
        match scale {
            0 => whole_number(&data, at, at + text.len()),
            scale => number(&data, at, at + text.len(), u32::from(scale)),
        }
    }

    proptest! {
        #[test]
        fn a_fast_number_is_right_or_left_alone(text in "-?[0-9]{0,9}(\\.[0-9]{0,4})?[ x-]?", scale in 0u8..4) {
            prop_assume!(!text.is_empty());
            if let Some(fast) = read(&text, scale) {
                let exact: Decimal = text.parse().unwrap();
                prop_assert_eq!(exact.scale, scale);
                prop_assert_eq!(i128::from(fast), exact.mantissa);
            }
        }

        #[test]
        fn usual_numbers_take_the_fast_path(whole in 0u32..100_000, cents in 0u32..100) {
            let value = i64::from(whole) * 100 + i64::from(cents);
            prop_assert_eq!(read(&format!("{whole}.{cents:02}"), 2), Some(value));
            prop_assert_eq!(read(&format!("-{whole}.{cents:02}"), 2), Some(-value));
            prop_assert_eq!(read(&whole.to_string(), 0), Some(i64::from(whole)));
        }

        #[test]
        fn long_numbers_take_the_fast_path(whole in 0i64..10_000_000_000_000, cents in 0i64..100) {
            let value = whole * 100 + cents;
            prop_assert_eq!(read(&format!("{whole}.{cents:02}"), 2), Some(value));
            prop_assert_eq!(read(&format!("-{whole}.{cents:02}"), 2), Some(-value));
            prop_assert_eq!(read(&whole.to_string(), 0), Some(whole));
        }

        /// Whatever the processor has: the plain loops say the same.
        #[test]
        fn many_fields_are_read_as_one(
            fields in proptest::collection::vec(
                prop_oneof![
                    "-?[0-9]{0,18}(\\.[0-9]{0,4})?", "-?[0-9]{1,7}\\.[0-9]{2}", "[1-9][0-9]{0,8}", "",
                    "20[0-9]{2}-[01][0-9]-[0-3][0-9]", "[0-9]{4}-[0-9]{2}-[0-9]{2}", "2000-02-29|1900-02-29|2023-02-29",
                    "SKE-HAV", "[a-z]{1,17}", "Tern|Fulmar|Northern Gannet|Kittiwake of 16|a\0|a",
                ],
                48..200,
            ),
            returns in any::<bool>(),
        ) {
            const WIDTH: usize = 3;
            let (mut data, mut marks) = (Vec::new(), Vec::new());
            for record in fields.chunks_exact(WIDTH) {
                for (i, field) in record.iter().enumerate() {
                    data.extend_from_slice(field.as_bytes());
                    if i + 1 == WIDTH && returns && field.len() % 2 == 0 {
                        data.push(b'\r');
                    }
                    marks.push(data.len() as u32);
                    data.push(if i + 1 == WIDTH { b'\n' } else { b',' });
                }
            }
            let dictionaries = [
                &["SKE-HAV", "Tern", "Fulmar", "a", "b", "\"b"][..],
                &["SKE-HAV", "Tern", "Northern Gannet", "Kittiwake of 16", "Kittiwakes of 16", "a\0", "a"],
            ].map(|texts| {
                let mut dictionary = oeuvre_columns::column::dictionary::Dictionary::default();
                texts.iter().for_each(|text| _ = dictionary.intern(text));
                dictionary
            });
            let records = Records { data: &data, quote: Some(b'"'), marks: &marks, width: WIDTH, starts: &[] };
            let rows = records.rows();
            for column in 0..WIDTH {
                let (mut one, mut other) = (vec![0i64; rows], vec![1i64; rows]);
                let (mut slow, mut slow_too) = (Vec::new(), Vec::new());
                for scale in [None, Some(0), Some(1), Some(2), Some(7)] {
                    let a = numbers(&records, column, scale, &mut one, &mut slow);
                    let b = numbers_body(&records, column, scale, &mut other, &mut slow_too);
                    prop_assert_eq!((&one, &slow[..a]), (&other, &slow_too[..b]));
                }
                let (mut one, mut other) = (vec![0i32; rows], vec![1i32; rows]);
                let a = dates(&records, column, &mut one, &mut slow);
                let b = dates_body(&records, column, &mut other, &mut slow_too);
                prop_assert_eq!((&one, &slow[..a]), (&other, &slow_too[..b]));
                for dictionary in &dictionaries {
                    let (mut one, mut other) = (vec![0u32; rows], vec![1u32; rows]);
                    let a = texts(&records, column, dictionary, &mut one, &mut slow);
                    let b = texts_body(&records, column, dictionary, &mut other, &mut slow_too);
                    prop_assert_eq!((&one, &slow[..a]), (&other, &slow_too[..b]));
                }
            }
        }

        #[test]
        fn a_fast_date_agrees_with_the_slow_one(
            y in 0u32..10_000, m in 0u32..14, d in 0u32..34, junk in "[0-9:T-]{0,3}"
        ) {
            let text = format!("{y:04}-{m:02}-{d:02}{junk}");
            let (data, at) = padded(&text);
            prop_assert_eq!(date(&data, at), parse_date(&text[..10]));
            let time = format!("{}T{m:02}:{d:02}:5{}", &text[..10], y % 10);
            let (data, at) = padded(&time);
            prop_assert_eq!(datetime(&data, at), parse_datetime(&time));
        }
    }
}
