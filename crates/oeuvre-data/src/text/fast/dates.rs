//! Days and instants in ISO form.

#[cfg(target_arch = "x86_64")]
use super::avx2;
use super::{Fields, LANES, Staged, ZEROS, beyond_nine, pairs_of};
use oeuvre_columns::column::{MISSING_I32, MISSING_I64};
use oeuvre_columns::value::calendar::DAY_MICROS;

/// `YYYY-MM-DD`; whether the processor has AVX2.
pub(super) struct Dates<const AVX2: bool>;

/// `YYYY-MM-DDThh:mm:ss`, or with a blank between; whether the processor has AVX2.
pub(super) struct DateTimes<const AVX2: bool>;

/// The days of dates that are the first ten characters of fields of so many. The first words are `YYYY-MM-`; in the
/// second ones the two digits of the day lie so many bits below the upper end.
#[inline(always)]
#[allow(unsafe_code)]
fn days<const AVX2: bool>(fields: &Fields<'_>, chars: u64, below: u32, out: &mut [i32; LANES]) {
    let mut dates = [0u32; LANES];
    let words = [&fields.words[0], &fields.words[1]];
    match AVX2 {
        #[cfg(target_arch = "x86_64")]
        // SAFETY: only said where the processor has it.
        true => unsafe { avx2::dates_of(&fields.lens, words, (chars, below), &mut dates) },
        _ => dates_of(&fields.lens, words, (chars, below), &mut dates),
    }
    days_of(&dates, out);
}

/// Year, month and day of dates, in bytes from above; 0 where there is none.
#[inline(always)]
fn dates_of(
    lens: &[u64; LANES],
    [front, day]: [&[u64; LANES]; 2],
    (chars, below): (u64, u32),
    out: &mut [u32; LANES],
) {
    const HYPHENS: u64 = 0xff00_00ff_0000_0000;
    let words = front.iter().zip(day).zip(lens);
    for (date, ((&front, &day), &len)) in out.iter_mut().zip(words) {
        let mut is_fine = len == chars;
        is_fine &= front & HYPHENS == 0x2d00_002d_0000_0000;
        // YYYYMMDD
        let year = front & 0xffff_ffff;
        let month = (front >> 8) & 0x0000_ffff_0000_0000;
        let digits = (year | month | (day << below) & 0xffff_0000_0000_0000) ^ ZEROS;
        is_fine &= beyond_nine(digits) == 0;
        let pairs = pairs_of(digits);
        let year = (pairs & 0xff) * 100 + ((pairs >> 16) & 0xff);
        let month_and_day = ((pairs >> 24) & 0xff00) | ((pairs >> 48) & 0xff);
        *date = if is_fine { (year << 16 | month_and_day) as u32 } else { 0 };
    }
}

/// The days of dates of a year (from 0 to 9999), a month and a day, in bytes from above; missing where there is none.
///
/// Without a branch or a table, so that many are made at once, and in 16 bits as far as these go, of which every processor
/// multiplies the most at once; the tests compare it with the calendar.
#[inline(always)]
fn days_of(dates: &[u32; LANES], out: &mut [i32; LANES]) {
    // n / 100 for n below 10,000, and n / 5 for n below 16,384.
    let hundredth = |n: u16| ((u32::from(n) * 5243) >> 16) as u16 >> 3;
    let fifth = |n: u16| ((u32::from(n) * 52_429) >> 16) as u16 >> 2;
    let (mut years_before, mut of_year, mut are_one) =
        ([0u16; LANES], [0u16; LANES], [0u16; LANES]);
    for (lane, &date) in dates.iter().enumerate() {
        let (year, month, day) =
            ((date >> 16) as u16, (date >> 8) as u16 & 0xff, date as u16 & 0xff);
        let in_century = hundredth(year).wrapping_mul(100) != year;
        let is_leap = u16::from(year & if in_century { 3 } else { 15 } == 0);
        let length = if month == 2 { 28 + is_leap } else { 30 + ((month + (month >> 3)) & 1) };
        let is_one = (year >= 1) & (month.wrapping_sub(1) < 12) & (day.wrapping_sub(1) < length);
        // Days before the month: from March on months come in fives of 153 days.
        let late = fifth(month.wrapping_mul(153).wrapping_sub(457) & 0x7ff) + 59 + is_leap;
        let before_month = if month > 2 { late } else { month.wrapping_sub(1).wrapping_mul(31) };
        let before = year.wrapping_sub(1);
        let centuries = hundredth(before & 0x3fff);
        let leap_days = (before >> 2).wrapping_sub(centuries).wrapping_add(centuries >> 2);
        years_before[lane] = before;
        of_year[lane] = leap_days.wrapping_add(before_month).wrapping_add(day);
        are_one[lane] = u16::from(is_one);
    }
    for (lane, out) in out.iter_mut().enumerate() {
        let days = u32::from(years_before[lane]) * 365 + u32::from(of_year[lane]);
        *out = if are_one[lane] != 0 { days.wrapping_sub(719_163) as i32 } else { MISSING_I32 };
    }
}

impl<const AVX2: bool> Staged<i32> for Dates<AVX2> {
    #[inline(always)]
    fn read(&self, fields: &mut Fields<'_>, out: &mut [i32; LANES]) -> bool {
        // YYYY-MM- and YY-MM-DD
        fields.put_from(0, 0);
        fields.put_before(1, 0);
        days::<AVX2>(fields, 10, 0, out);
        true
    }
}

impl<const AVX2: bool> Staged<i64> for DateTimes<AVX2> {
    #[inline(always)]
    fn read(&self, fields: &mut Fields<'_>, out: &mut [i64; LANES]) -> bool {
        const COLONS: u64 = 0x0000_ff00_00ff_0000;
        // YYYY-MM-, DDThh:mm and hh:mm:ss
        fields.put_from(0, 0);
        fields.put_from(1, 8);
        fields.put_before(2, 0);
        let mut of_date = [0i32; LANES];
        days::<AVX2>(fields, 19, 48, &mut of_date);
        for lane in 0..LANES {
            let (time, between) = (fields.words[2][lane], (fields.words[1][lane] >> 16) & 0xff);
            let mut is_fine = of_date[lane] != MISSING_I32;
            is_fine &= (between == u64::from(b'T')) | (between == u64::from(b' '));
            is_fine &= time & COLONS == 0x0000_3a00_003a_0000;
            let digits = ((time & !COLONS) | (ZEROS & COLONS)) ^ ZEROS;
            is_fine &= beyond_nine(digits) == 0;
            let pairs = pairs_of(digits);
            let [hour, minute, second] = [0, 24, 48].map(|at| (pairs >> at) & 0xff);
            is_fine &= (hour < 24) & (minute < 60) & (second < 60);
            let seconds = hour * 3600 + minute * 60 + second;
            let midnight = i64::from(of_date[lane]).wrapping_mul(DAY_MICROS);
            let micros = midnight.wrapping_add((seconds * 1_000_000) as i64);
            out[lane] = if is_fine { micros } else { MISSING_I64 };
        }
        true
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use oeuvre_columns::value::calendar::{days_from_civil, days_in_month};

    #[test]
    fn days_are_those_of_the_calendar() {
        for year in (0..=9999).filter(|y| y % 100 < 5 || (1890..2110).contains(y)) {
            for (month, day) in (0..15).flat_map(|m| (0..34).map(move |d| (m, d))) {
                let is_one = year >= 1 && (1..=12).contains(&month) && day >= 1;
                let is_one = is_one && day <= days_in_month(year as i32, month);
                let expected = is_one.then(|| days_from_civil(year as i32, month, day));
                let date = year << 16 | month << 8 | day;
                let mut made = [0; LANES];
                days_of(&[date; LANES], &mut made);
                assert_eq!(made, [expected.unwrap_or(MISSING_I32); LANES], "{year}-{month}-{day}");
            }
        }
    }
}
