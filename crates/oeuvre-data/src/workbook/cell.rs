//! The text that stands for a cell.

use crate::cells::write_number;
use calamine::{Data, DataRef, ExcelDateTime};
use std::io::Write;

/// A value of a cell.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Cell<'a> {
    Blank,
    Text(&'a str),
    Number(f64),
    Truth(bool),
    Date(ExcelDateTime),
    /// A date in ISO form.
    IsoDate(&'a str),
    /// A length of time in ISO form.
    IsoTime(&'a str),
    /// A mistake that a formula has made, such as `#DIV/0!`.
    Mistake(&'static str),
}

impl<'a> From<&'a DataRef<'_>> for Cell<'a> {
    fn from(data: &'a DataRef<'_>) -> Cell<'a> {
        match data {
            DataRef::Int(n) => Cell::Number(*n as f64),
            DataRef::Float(n) => Cell::Number(*n),
            DataRef::String(text) => Cell::of_text(text),
            DataRef::SharedString(text) => Cell::of_text(text),
            DataRef::Bool(truth) => Cell::Truth(*truth),
            DataRef::DateTime(at) => Cell::Date(*at),
            DataRef::DateTimeIso(text) => Cell::IsoDate(text),
            DataRef::DurationIso(text) => Cell::IsoTime(text),
            DataRef::Error(error) => Cell::Mistake(mistake(error)),
            DataRef::Empty => Cell::Blank,
        }
    }
}

impl<'a> From<&'a Data> for Cell<'a> {
    fn from(data: &'a Data) -> Cell<'a> {
        match data {
            Data::Int(n) => Cell::Number(*n as f64),
            Data::Float(n) => Cell::Number(*n),
            Data::String(text) => Cell::of_text(text),
            Data::Bool(truth) => Cell::Truth(*truth),
            Data::DateTime(at) => Cell::Date(*at),
            Data::DateTimeIso(text) => Cell::IsoDate(text),
            Data::DurationIso(text) => Cell::IsoTime(text),
            Data::Error(error) => Cell::Mistake(mistake(error)),
            Data::Empty => Cell::Blank,
        }
    }
}

impl<'a> Cell<'a> {
    fn of_text(text: &'a str) -> Cell<'a> {
        if text.trim().is_empty() { Cell::Blank } else { Cell::Text(text) }
    }

    /// Writes it as it would stand in a file of texts.
    pub(super) fn write(&self, out: &mut Vec<u8>) {
        match self {
            Cell::Blank => {}
            Cell::Text(text) => out.extend_from_slice(text.as_bytes()),
            Cell::Number(number) => write_number(*number, 0, out),
            Cell::Truth(truth) => {
                out.extend_from_slice(if *truth { b"true" } else { b"false" });
            }
            Cell::Date(at) => write_date(*at, out),
            Cell::IsoDate(text) => out.extend_from_slice(iso_date(text).as_bytes()),
            Cell::IsoTime(text) => out.extend_from_slice(iso_time(text).as_bytes()),
            Cell::Mistake(text) => out.extend_from_slice(text.as_bytes()),
        }
    }

    /// Whether it may be (a part of) a heading: a text, or a year.
    pub(super) fn is_label(&self) -> bool {
        match self {
            Cell::Text(_) => true,
            Cell::Number(n) => n.fract() == 0.0 && (1900.0..=2100.0).contains(n),
            _ => false,
        }
    }
}

fn mistake(error: &calamine::CellErrorType) -> &'static str {
    use calamine::CellErrorType::*;
    match error {
        Div0 => "#DIV/0!",
        NA => "#N/A",
        Name => "#NAME?",
        Null => "#NULL!",
        Num => "#NUM!",
        Ref => "#REF!",
        _ => "#VALUE!",
    }
}

/// Days since the beginning of 1900 (or 1904) as a date, with its time where it has one; a time of day alone where
/// there is no day, and a length of time as hours, minutes and seconds.
fn write_date(at: ExcelDateTime, out: &mut Vec<u8>) {
    const DAY: f64 = 86_400_000.0;
    let days = at.as_f64();
    // Writing to memory does not fail.
    if at.is_duration() || (0.0..1.0).contains(&days) {
        let millis = (days * DAY).round();
        if millis.abs() > 1e15 {
            let _ = write!(out, "{days}");
            return;
        }
        let (sign, millis) = (if millis < 0.0 { "-" } else { "" }, millis.abs() as u64);
        let (hour, minute, second) = (millis / 3_600_000, millis / 60_000 % 60, millis / 1000 % 60);
        let _ = write!(out, "{sign}{hour:02}:{minute:02}:{second:02}");
        write_millis(millis % 1000, out);
        return;
    }
    // What lies outside the calendar of workbooks is shown as the number that it is.
    if !(1.0..2_958_466.0).contains(&days) {
        let _ = write!(out, "{days}");
        return;
    }
    // The library cuts a millisecond short where binary64 lies below it.
    let millis = (days * DAY).round();
    let (whole, millis) = ((millis / DAY).floor(), millis.rem_euclid(DAY) as u64);
    let kind = calamine::ExcelDateTimeType::DateTime;
    let day = ExcelDateTime::new(whole, kind, is_1904(at));
    let (year, month, day, ..) = day.to_ymd_hms_milli();
    let _ = write!(out, "{year:04}-{month:02}-{day:02}");
    if millis > 0 {
        let (hour, minute, second) = (millis / 3_600_000, millis / 60_000 % 60, millis / 1000 % 60);
        let _ = write!(out, "T{hour:02}:{minute:02}:{second:02}");
        write_millis(millis % 1000, out);
    }
}

/// Whether days are counted from 1904: the first of them is of that year then.
fn is_1904(at: ExcelDateTime) -> bool {
    let plain = ExcelDateTime::new(at.as_f64(), calamine::ExcelDateTimeType::DateTime, false);
    plain.to_ymd_hms_milli() != at.to_ymd_hms_milli()
}

fn write_millis(millis: u64, out: &mut Vec<u8>) {
    if millis > 0 {
        let _ = write!(out, ".{millis:03}");
        while out.last() == Some(&b'0') {
            out.pop();
        }
    }
}

/// A date as ISO 8601 writes it; a time of nought o'clock is none, as in other files.
fn iso_date(text: &str) -> &str {
    text.strip_suffix("T00:00:00").unwrap_or(text)
}

/// `PT08H30M00S` as hours, minutes and seconds; any other length of time as it stands.
fn iso_time(text: &str) -> String {
    let parts = || {
        let (hours, rest) = text.strip_prefix("PT")?.split_once('H')?;
        let (minutes, rest) = rest.split_once('M')?;
        let seconds = rest.strip_suffix('S')?;
        let number = |text: &str| text.parse::<u64>().ok();
        let (whole, parts) = seconds.split_once(['.', ',']).unwrap_or((seconds, ""));
        let parts = parts.trim_end_matches('0');
        let point = if parts.is_empty() { "" } else { "." };
        let (hours, minutes, whole) = (number(hours)?, number(minutes)?, number(whole)?);
        Some(format!("{hours:02}:{minutes:02}:{whole:02}{point}{parts}"))
    };
    parts().unwrap_or_else(|| text.to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;
    use calamine::ExcelDateTimeType::{DateTime, TimeDelta};
    use rstest::rstest;

    fn text(cell: &Cell<'_>) -> String {
        let mut out = Vec::new();
        cell.write(&mut out);
        String::from_utf8(out).unwrap()
    }

    #[rstest]
    #[case(Cell::Number(12.5), "12.5")]
    #[case(Cell::Number(0.1 + 1.0), "1.1")]
    #[case(Cell::Number(-3.0), "-3")]
    #[case(Cell::Number(1e21), "1000000000000000000000")]
    #[case(Cell::Truth(true), "true")]
    #[case(Cell::Date(ExcelDateTime::new(45_658.0, DateTime, false)), "2025-01-01")]
    #[case(
        Cell::Date(ExcelDateTime::new(45_658.354_166_666_664, DateTime, false)),
        "2025-01-01T08:30:00"
    )]
    #[case(Cell::Date(ExcelDateTime::new(44_196.0, DateTime, true)), "2025-01-01")]
    #[case(Cell::Date(ExcelDateTime::new(45_658.999_999_999, DateTime, false)), "2025-01-02")]
    #[case(Cell::Date(ExcelDateTime::new(0.354_166_666_666_67, DateTime, false)), "08:30:00")]
    #[case(Cell::Date(ExcelDateTime::new(1.5, TimeDelta, false)), "36:00:00")]
    #[case(Cell::Date(ExcelDateTime::new(-0.25, TimeDelta, false)), "-06:00:00")]
    #[case(Cell::Date(ExcelDateTime::new(3e6, DateTime, false)), "3000000")]
    #[case(Cell::Date(ExcelDateTime::new(1.0, DateTime, false)), "1900-01-01")]
    #[case(Cell::IsoDate("2025-01-05T00:00:00"), "2025-01-05")]
    #[case(Cell::IsoTime("PT08H30M00.50S"), "08:30:00.5")]
    #[case(Cell::IsoTime("P1D"), "P1D")]
    #[case(Cell::Mistake("#N/A"), "#N/A")]
    #[case(Cell::of_text("  "), "")]
    fn a_cell_is_written_as_texts_have_it(#[case] cell: Cell<'_>, #[case] expected: &str) {
        assert_eq!(text(&cell), expected);
    }
}
