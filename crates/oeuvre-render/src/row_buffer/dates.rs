//! Dates in ISO form, each made once where they are few.

use super::{Field, PAIRS, Short};
use oeuvre_columns::Value;
use oeuvre_columns::column::MISSING_I32;
use oeuvre_columns::value::calendar::{civil_from_days, days_in_month};

/// Dates from one day to another, as fields.
pub(crate) struct FewDates {
    /// The first of them.
    pub(crate) first: i32,
    /// One a day.
    pub(crate) made: Vec<Short>,
}

impl FewDates {
    /// The dates that a column has, with the byte that ends each; `None` where they are far apart.
    pub(crate) fn of(days: &[i32], end: u8) -> Option<FewDates> {
        /// A dozen years.
        const MOST: usize = 4400;
        let present = || days.iter().copied().filter(|&day| day != MISSING_I32);
        let (first, last) =
            present().fold((i32::MAX, i32::MIN), |(a, b), day| (a.min(day), b.max(day)));
        let few = i64::from(last) - i64::from(first) < MOST.min(days.len()) as i64;
        if !few || first > last {
            return None;
        }
        // From one day to the next, so that no day is counted out.
        let (mut year, mut month, mut day) = civil_from_days(first);
        let mut made = Vec::with_capacity(days.len().min(MOST));
        for _ in first..=last {
            made.push(date_of((year, month, day), end)?.short()?);
            day += 1;
            if day > days_in_month(year, month) {
                (month, day) = (month + 1, 1);
            }
            if month > 12 {
                (year, month) = (year + 1, 1);
            }
        }
        Some(FewDates { first, made })
    }
}

/// A date in ISO form, with the byte that ends it.
pub(crate) fn date(days: i32, end: u8) -> Field {
    date_of(civil_from_days(days), end).unwrap_or_else(|| {
        let written = Value::Date(days).to_string();
        Field::of(written.as_bytes(), end).unwrap_or(Field::NONE)
    })
}

/// A year, month and day in ISO form; `None` of a year that has no four digits.
fn date_of((year, month, day): (i32, u32, u32), end: u8) -> Option<Field> {
    if !(0..10_000).contains(&year) {
        return None;
    }
    let ([a, b], [c, d]) = (PAIRS[year as usize / 100], PAIRS[year as usize % 100]);
    let ([e, f], [g, h]) = (PAIRS[month as usize], PAIRS[day as usize]);
    let mut field = Field { len: 11, ..Field::NONE };
    field.bytes[..11].copy_from_slice(&[a, b, c, d, b'-', e, f, b'-', g, h, end]);
    Some(field)
}
