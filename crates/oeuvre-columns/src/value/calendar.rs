//! Days, wall-clock times, periods and the parts of the calendar that repeat.
//!
//! A date is a count of days since 1970-01-01 in the proleptic Gregorian calendar (ISO 8601). A datetime is a
//! count of microseconds since that day's midnight, wall clock, without a zone. A period is a [`Unit`] with its
//! place on the line of all periods of that unit, so that the next month is one more, whatever the year. All of
//! it is arithmetic on whole numbers without allocation; the conversions are Howard Hinnant's, "chrono-compatible
//! low-level date algorithms".
//!
//! Functions here take places and days as they come: that a date lies in the years 1 to 9999 is checked where
//! dates are read or moved ([`date`], [`later`], [`time_later`]).
//!
//! ```
//! use oeuvre_columns::value::calendar::{Period, Unit, date, date_text, parse_date};
//!
//! let day = parse_date("2025-03-31").unwrap();
//! assert_eq!(Some(day), date(2025, 3, 31));
//! let month = Period { unit: Unit::Month, index: Unit::Month.of_day(day) };
//! assert_eq!(month.to_string(), "2025-03");
//! assert_eq!(date_text(month.last_day()), "2025-03-31");
//! assert_eq!(Period::parse("2025-W01").map(|week| date_text(week.first_day())), Some("2024-12-30".into()));
//! ```

use super::{Overflow, Value};
use std::fmt;

/// Microseconds in a day.
pub const DAY_MICROS: i64 = 86_400_000_000;
/// The first day that can be written with a four-digit year: 0001-01-01.
pub const FIRST_DAY: i32 = -719_162;
/// The last day that can be written with a four-digit year: 9999-12-31.
pub const LAST_DAY: i32 = 2_932_896;

/// Days since 1970-01-01 of a calendar date that is known to exist; without a meaning for others.
#[inline]
pub const fn days_from_civil(year: i32, month: u32, day: u32) -> i32 {
    let y = if month <= 2 { year - 1 } else { year };
    let era = y.div_euclid(400);
    let year_of_era = y.rem_euclid(400);
    let month_from_march = (month as i32 + 9) % 12;
    let day_of_year = (153 * month_from_march + 2) / 5 + day as i32 - 1;
    let day_of_era = year_of_era * 365 + year_of_era / 4 - year_of_era / 100 + day_of_year;
    era * 146_097 + day_of_era - 719_468
}

/// Year, month and day of a count of days since 1970-01-01.
#[inline]
pub const fn civil_from_days(days: i32) -> (i32, u32, u32) {
    let z = days + 719_468;
    let era = z.div_euclid(146_097);
    let day_of_era = z.rem_euclid(146_097);
    let year_of_era =
        (day_of_era - day_of_era / 1460 + day_of_era / 36_524 - day_of_era / 146_096) / 365;
    let day_of_year = day_of_era - (365 * year_of_era + year_of_era / 4 - year_of_era / 100);
    let month_from_march = (5 * day_of_year + 2) / 153;
    let day = (day_of_year - (153 * month_from_march + 2) / 5 + 1) as u32;
    let month = if month_from_march < 10 { month_from_march + 3 } else { month_from_march - 9 };
    let year = year_of_era + era * 400 + if month <= 2 { 1 } else { 0 };
    (year, month as u32, day)
}

/// The number of days in a month, 1 to 12, of a Gregorian year.
pub const fn days_in_month(year: i32, month: u32) -> u32 {
    match month {
        2 if year % 4 == 0 && (year % 100 != 0 || year % 400 == 0) => 29,
        2 => 28,
        4 | 6 | 9 | 11 => 30,
        _ => 31,
    }
}

/// Days since 1970-01-01, or `None` when there is no such date between the years 1 and 9999.
pub const fn date(year: i32, month: u32, day: u32) -> Option<i32> {
    if year < 1 || year > 9999 || month < 1 || month > 12 {
        return None;
    }
    if day < 1 || day > days_in_month(year, month) {
        return None;
    }
    Some(days_from_civil(year, month, day))
}

/// The units that dates roll up to.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Unit {
    /// A calendar day.
    Day,
    /// An ISO week, Monday to Sunday.
    Week,
    /// A calendar month.
    Month,
    /// A quarter of the calendar year.
    Quarter,
    /// Half a calendar year.
    Half,
    /// A calendar year.
    Year,
    /// A quarter of a fiscal year that starts in this month.
    FiscalQuarter(u8),
    /// A fiscal year that starts in this month.
    FiscalYear(u8),
}

impl Unit {
    /// Whether every period of this unit lies in one period of another, longer one.
    pub fn nests_in(self, longer: Unit) -> bool {
        use Unit::*;
        match (self, longer) {
            (a, b) if a == b => false,
            (Day, _) => true,
            (Month, Quarter | Half | Year | FiscalQuarter(_) | FiscalYear(_)) => true,
            (Quarter, Half | Year) | (Half, Year) => true,
            (Quarter, FiscalYear(m)) => m % 3 == 1,
            (FiscalQuarter(a), FiscalYear(b)) => a == b,
            _ => false,
        }
    }

    /// The unit's word in the language.
    pub const fn name(self) -> &'static str {
        match self {
            Unit::Day => "day",
            Unit::Week => "week",
            Unit::Month => "month",
            Unit::Quarter => "quarter",
            Unit::Half => "half",
            Unit::Year => "year",
            Unit::FiscalQuarter(_) => "fiscal_quarter",
            Unit::FiscalYear(_) => "fiscal_year",
        }
    }

    /// How long it is, in days or about so: units in the order of their length.
    pub const fn length(self) -> u32 {
        match self {
            Unit::Day => 1,
            Unit::Week => 7,
            Unit::Month => 30,
            Unit::Quarter | Unit::FiscalQuarter(_) => 91,
            Unit::Half => 182,
            Unit::Year | Unit::FiscalYear(_) => 365,
        }
    }

    /// The place in the calendar of the period that holds a day: a whole number that grows by one
    /// from each period to the next.
    #[inline]
    pub const fn of_day(self, days: i32) -> i32 {
        match self {
            Unit::Day => days,
            // 1970-01-01 was a Thursday: week 0 began on Monday, 1969-12-29.
            Unit::Week => (days + 3).div_euclid(7),
            _ => {
                let (year, month, _) = civil_from_days(days);
                let months = year * 12 + month as i32 - 1 - self.shift();
                months.div_euclid(self.months())
            }
        }
    }

    /// How many months the unit spans; only for units made of months.
    const fn months(self) -> i32 {
        match self {
            Unit::Quarter | Unit::FiscalQuarter(_) => 3,
            Unit::Half => 6,
            Unit::Year | Unit::FiscalYear(_) => 12,
            _ => 1,
        }
    }

    /// How many months after January its year starts.
    const fn shift(self) -> i32 {
        match self {
            Unit::FiscalQuarter(month) | Unit::FiscalYear(month) => month as i32 - 1,
            _ => 0,
        }
    }

    /// The first day of the period at a place in the calendar.
    pub const fn first_day(self, index: i32) -> i32 {
        match self {
            Unit::Day => index,
            Unit::Week => index * 7 - 3,
            _ => {
                let months = index * self.months() + self.shift();
                days_from_civil(months.div_euclid(12), months.rem_euclid(12) as u32 + 1, 1)
            }
        }
    }

    /// The last day of the period at a place in the calendar.
    pub const fn last_day(self, index: i32) -> i32 {
        self.first_day(index + 1) - 1
    }
}

/// A period: a unit with its place in the calendar. Prints as ISO 8601 has it, with quarters
/// and halves added, such as `2025-03`,
/// `2025-W14` or `2025-Q1`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Period {
    /// What kind of period.
    pub unit: Unit,
    /// Its place in the calendar, as [`Unit::of_day`] counts.
    pub index: i32,
}

impl fmt::Display for Period {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let i = self.index;
        match self.unit {
            Unit::Day => write_date(f, i),
            Unit::Week => {
                // The year of an ISO week is that of its Thursday (ISO 8601, 3.1.1.23).
                let thursday = Unit::Week.first_day(i) + 3;
                let (year, _, _) = civil_from_days(thursday);
                let week = (thursday - days_from_civil(year, 1, 1)) / 7 + 1;
                write!(f, "{year:04}-W{week:02}")
            }
            Unit::Month => write!(f, "{:04}-{:02}", i.div_euclid(12), i.rem_euclid(12) + 1),
            Unit::Quarter => write!(f, "{:04}-Q{}", i.div_euclid(4), i.rem_euclid(4) + 1),
            Unit::Half => write!(f, "{:04}-H{}", i.div_euclid(2), i.rem_euclid(2) + 1),
            Unit::Year | Unit::FiscalYear(1) => write!(f, "{i:04}"),
            Unit::FiscalYear(_) => write!(f, "{i:04}/{:02}", (i + 1).rem_euclid(100)),
            Unit::FiscalQuarter(month) => {
                let year = Period { unit: Unit::FiscalYear(month), index: i.div_euclid(4) };
                write!(f, "{year}-Q{}", i.rem_euclid(4) + 1)
            }
        }
    }
}

fn write_date(f: &mut fmt::Formatter<'_>, days: i32) -> fmt::Result {
    let (y, m, d) = civil_from_days(days);
    write!(f, "{y:04}-{m:02}-{d:02}")
}

impl Period {
    /// Reads a period as it prints: `2025`, `2025-H1`, `2025-Q1`, `2025-03`, `2025-W14` or
    /// `2025-03-14`. `None` when it is none of these or there is no such period.
    pub fn parse(text: &str) -> Option<Period> {
        let number = |s: &str, len: usize| -> Option<i32> {
            (s.len() == len && s.bytes().all(|b| b.is_ascii_digit())).then(|| s.parse().ok())?
        };
        let mut parts = text.split('-');
        let year = number(parts.next()?, 4).filter(|&y| y >= 1)?;
        let (second, third) = (parts.next(), parts.next());
        if parts.next().is_some() {
            return None;
        }
        let (unit, index) = match (second, third) {
            (None, _) => (Unit::Year, year),
            (Some(m), Some(d)) => {
                (Unit::Day, date(year, number(m, 2)? as u32, number(d, 2)? as u32)?)
            }
            (Some(part), None) => match part.as_bytes().first()? {
                b'H' => (Unit::Half, year * 2 + in_range(number(&part[1..], 1)?, 2)?),
                b'Q' => (Unit::Quarter, year * 4 + in_range(number(&part[1..], 1)?, 4)?),
                b'W' => {
                    let week = in_range(number(&part[1..], 2)?, 53)?;
                    // Week 1 is the one that holds 4 January.
                    let index = Unit::Week.of_day(days_from_civil(year, 1, 4)) + week;
                    let period = Period { unit: Unit::Week, index };
                    if period.to_string() != text {
                        return None; // this year has no week 53
                    }
                    (Unit::Week, index)
                }
                _ => (Unit::Month, year * 12 + in_range(number(part, 2)?, 12)?),
            },
        };
        Some(Period { unit, index })
    }

    /// Reads a period of a unit: as [`Period::parse`] does, and `2024/25` or `2024/25-Q1` for a
    /// fiscal year and its quarters.
    pub fn parse_of(unit: Unit, text: &str) -> Option<Period> {
        let (Unit::FiscalYear(_) | Unit::FiscalQuarter(_)) = unit else {
            return Period::parse(text).filter(|p| p.unit == unit);
        };
        let year: i32 = text.get(..4)?.parse().ok()?;
        let quarter = match text.rsplit_once("-Q") {
            Some((_, q)) => q.parse::<i32>().ok().filter(|q| (1..=4).contains(q))? - 1,
            None => 0,
        };
        let index = if let Unit::FiscalYear(_) = unit { year } else { year * 4 + quarter };
        Some(Period { unit, index }).filter(|p| p.to_string() == text)
    }

    /// The first day.
    pub const fn first_day(self) -> i32 {
        self.unit.first_day(self.index)
    }

    /// The last day.
    pub const fn last_day(self) -> i32 {
        self.unit.last_day(self.index)
    }
}

/// The place of the period `steps` units after one.
///
/// # Errors
/// When it does not lie in the years 1 to 9999.
pub fn later(unit: Unit, index: i32, steps: i128) -> Result<i32, Overflow> {
    let there = i128::from(index).checked_add(steps).and_then(|i| i32::try_from(i).ok());
    let there = there.filter(|&i| (unit.of_day(FIRST_DAY)..=unit.of_day(LAST_DAY)).contains(&i));
    let inside = |i: &i32| unit.first_day(*i) >= FIRST_DAY && unit.last_day(*i) <= LAST_DAY;
    there.filter(inside).ok_or(Overflow::Calendar)
}

/// The instant so many days after one, the fraction of a microsecond rounded.
///
/// # Errors
/// When it does not lie in the years 1 to 9999.
pub fn time_later(micros: i64, days: &Value) -> Result<i64, Overflow> {
    let moved: i128 = match days {
        Value::Number(n) => {
            let whole = n.mantissa.checked_mul(i128::from(DAY_MICROS));
            let unit = super::decimal::pow10(u32::from(n.scale));
            let (whole, unit) = whole.zip(unit).ok_or(Overflow::Calendar)?;
            super::decimal::div_half_away(whole, unit)
        }
        Value::Float(days) => (days * DAY_MICROS as f64).round() as i128,
        _ => 0,
    };
    let there = i128::from(micros).checked_add(moved).and_then(|t| i64::try_from(t).ok());
    let range = i64::from(FIRST_DAY) * DAY_MICROS..(i64::from(LAST_DAY) + 1) * DAY_MICROS;
    there.filter(|t| range.contains(t)).ok_or(Overflow::Calendar)
}

/// `number - 1` when it lies in `1..=limit`.
fn in_range(number: i32, limit: i32) -> Option<i32> {
    (1..=limit).contains(&number).then_some(number - 1)
}

/// The parts of the calendar that come again, in their natural order.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Part {
    /// Monday to Sunday (ISO 8601), 0 to 6.
    Weekday,
    /// January to December, 0 to 11.
    MonthName,
    /// Q1 to Q4, 0 to 3.
    QuarterName,
}

const WEEKDAYS: [&str; 7] =
    ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"];
const MONTHS: [&str; 12] = [
    "January",
    "February",
    "March",
    "April",
    "May",
    "June",
    "July",
    "August",
    "September",
    "October",
    "November",
    "December",
];
const QUARTERS: [&str; 4] = ["Q1", "Q2", "Q3", "Q4"];

impl Part {
    /// The part's word in the language.
    pub const fn name(self) -> &'static str {
        match self {
            Part::Weekday => "weekday",
            Part::MonthName => "month_name",
            Part::QuarterName => "quarter_name",
        }
    }

    /// The labels, in their natural order.
    pub const fn labels(self) -> &'static [&'static str] {
        match self {
            Part::Weekday => &WEEKDAYS,
            Part::MonthName => &MONTHS,
            Part::QuarterName => &QUARTERS,
        }
    }

    /// The part that a day falls in.
    pub const fn of_day(self, days: i32) -> i32 {
        match self {
            Part::Weekday => (days + 3).rem_euclid(7),
            Part::MonthName => civil_from_days(days).1 as i32 - 1,
            Part::QuarterName => (civil_from_days(days).1 as i32 - 1) / 3,
        }
    }

    /// The place of a label, whatever its case; the first three letters of a day or month will do. `None` for what
    /// is no label.
    pub fn parse(self, text: &str) -> Option<i32> {
        let short = if text.len() == 3 { 3 } else { usize::MAX };
        let place = self.labels().iter().position(|l| {
            l.eq_ignore_ascii_case(text)
                || (short == 3 && l.len() > 3 && l[..3].eq_ignore_ascii_case(text))
        })?;
        Some(place as i32)
    }
}

/// Microseconds since 1970-01-01T00:00 as text: `2025-03-14T09:30:00`, with the fraction of the
/// second only where there is one.
pub fn datetime_text(micros: i64) -> String {
    let days = micros.div_euclid(DAY_MICROS) as i32;
    let rest = micros.rem_euclid(DAY_MICROS);
    let (s, us) = (rest / 1_000_000, rest % 1_000_000);
    let mut text = format!("{}T{:02}:{:02}:{:02}", date_text(days), s / 3600, s / 60 % 60, s % 60);
    if us != 0 {
        let fraction = format!("{us:06}");
        text.push('.');
        text.push_str(fraction.trim_end_matches('0'));
    }
    text
}

/// A date, in days since 1970-01-01, in ISO form: `2025-03-14`.
pub fn date_text(days: i32) -> String {
    Period { unit: Unit::Day, index: days }.to_string()
}

/// Reads an ISO time of day `hh:mm[:ss[.ffffff]]` as microseconds after midnight; `None` for anything else,
/// 24:00 and leap seconds among it.
pub fn parse_time(text: &str) -> Option<i64> {
    let (clock, fraction) = text.split_once(['.', ',']).unwrap_or((text, ""));
    let mut parts = clock.split(':');
    let mut next = |limit: i64| -> Option<i64> {
        let s = parts.next()?;
        let ok = s.len() == 2 && s.bytes().all(|b| b.is_ascii_digit());
        ok.then(|| s.parse().ok())?.filter(|&v| v < limit)
    };
    let (hours, minutes) = (next(24)?, next(60)?);
    let seconds = if clock.len() > 5 { next(60)? } else { 0 };
    if clock.len() != 5 && clock.len() != 8 || (clock.len() == 5 && !fraction.is_empty()) {
        return None;
    }
    if fraction.len() > 6 || !fraction.bytes().all(|b| b.is_ascii_digit()) {
        return None;
    }
    let micros: i64 = format!("{fraction:0<6}").parse().ok()?;
    Some(((hours * 60 + minutes) * 60 + seconds) * 1_000_000 + micros)
}

/// Reads an ISO datetime, `T` or a space between date and time, a `Z` at the end allowed.
pub fn parse_datetime(text: &str) -> Option<i64> {
    let (day, time) = text.split_once(['T', ' ', 't'])?;
    let day = parse_date(day)?;
    Some(i64::from(day) * DAY_MICROS + parse_time(time.strip_suffix('Z').unwrap_or(time))?)
}

/// Reads an ISO date `yyyy-mm-dd` as days since 1970-01-01; `None` for anything else.
pub fn parse_date(text: &str) -> Option<i32> {
    Period::parse(text).filter(|p| p.unit == Unit::Day).map(|p| p.index)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[test]
    fn every_day_of_ten_thousand_years_goes_there_and_back() {
        let mut expected = FIRST_DAY;
        for year in 1..=9999 {
            for month in 1..=12 {
                for day in 1..=days_in_month(year, month) {
                    assert_eq!(date(year, month, day), Some(expected));
                    assert_eq!(civil_from_days(expected), (year, month, day));
                    expected += 1;
                }
            }
        }
        assert_eq!(expected - 1, LAST_DAY);
    }

    #[rstest]
    #[case("2025", Unit::Year, "2025-01-01", "2025-12-31")]
    #[case("2025-H2", Unit::Half, "2025-07-01", "2025-12-31")]
    #[case("2025-Q1", Unit::Quarter, "2025-01-01", "2025-03-31")]
    #[case("2024-02", Unit::Month, "2024-02-01", "2024-02-29")]
    #[case("2020-W53", Unit::Week, "2020-12-28", "2021-01-03")]
    #[case("2025-W01", Unit::Week, "2024-12-30", "2025-01-05")]
    #[case("2025-03-14", Unit::Day, "2025-03-14", "2025-03-14")]
    fn a_period_reads_prints_and_knows_its_days(
        #[case] text: &str,
        #[case] unit: Unit,
        #[case] first: &str,
        #[case] last: &str,
    ) {
        let p = Period::parse(text).unwrap();
        assert_eq!((p.unit, p.to_string().as_str()), (unit, text));
        assert_eq!(
            (date_text(p.first_day()), date_text(p.last_day())),
            (first.into(), last.into())
        );
        assert_eq!(unit.of_day(p.first_day()), p.index);
        assert_eq!(unit.of_day(p.last_day()), p.index);
        assert_eq!(unit.of_day(p.last_day() + 1), p.index + 1);
    }

    #[rstest]
    #[case("2025-13")]
    #[case("2025-W54")]
    #[case("2025-W53")]
    #[case("2025-Q5")]
    #[case("2025-02-29")]
    #[case("25-01")]
    #[case("0000")]
    #[case("2025-1-1")]
    #[case("2025-é")]
    fn what_is_no_period_is_refused(#[case] text: &str) {
        assert_eq!(Period::parse(text), None);
    }

    #[rstest]
    #[case("2025-03-14T09:30", "2025-03-14T09:30:00")]
    #[case("2025-03-14 09:30:05.25", "2025-03-14T09:30:05.25")]
    #[case("1969-12-31T23:59:59Z", "1969-12-31T23:59:59")]
    fn a_datetime_reads_and_prints(#[case] text: &str, #[case] printed: &str) {
        assert_eq!(datetime_text(parse_datetime(text).unwrap()), printed);
    }

    #[test]
    fn the_weekday_is_right_and_read_in_any_case() {
        let day = parse_date("2026-11-23").unwrap();
        assert_eq!(Part::Weekday.labels()[Part::Weekday.of_day(day) as usize], "Monday");
        assert_eq!(Part::Weekday.parse("sun"), Some(6));
        assert_eq!(Part::MonthName.parse("march"), Some(2));
        assert_eq!(Part::MonthName.parse("foo"), None);
    }
}
