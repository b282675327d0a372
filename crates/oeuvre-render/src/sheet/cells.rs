//! Cells of a workbook: values with their types, and what could not be written as what it is.

use super::surface::{Align, Edge, Look, Place, Surface};
use crate::cells::escape_controls;
use oeuvre_columns::{Decimal, Value};
use std::io;

/// The most characters in a cell, in units of UTF-16.
const MOST_TEXT: usize = 32_767;

/// Days of the calendar of workbooks before 1970-01-01.
const EPOCH: i32 = 25_569;
/// 1900-03-01: the calendar of workbooks has a day before it that never was.
const FIRST_SURE_DAY: i32 = -25_508;

/// What could not be written as what it is, for the notes.
#[derive(Default)]
pub(crate) struct Remarks {
    /// Numbers with more digits than a workbook's numbers hold.
    pub(crate) numbers_as_text: u64,
    /// Dates before the calendar of workbooks begins.
    pub(crate) dates_as_text: u64,
    /// Texts that are longer than a cell holds.
    pub(crate) texts_cut: u64,
}

impl Remarks {
    /// They in words.
    pub(crate) fn notes(&self) -> Vec<String> {
        let of = |n: u64, one: &str, many: &str| match n {
            0 => None,
            1 => Some(format!("1 {one}")),
            n => Some(format!("{n} {many}")),
        };
        let all = [
            of(
                self.numbers_as_text,
                "number has more digits than a workbook's numbers hold, and is text here",
                "numbers have more digits than a workbook's numbers hold, and are text here",
            ),
            of(
                self.dates_as_text,
                "date lies before the calendar of workbooks begins, and is text here",
                "dates lie before the calendar of workbooks begins, and are text here",
            ),
            of(
                self.texts_cut,
                "text is longer than a cell holds, and ends with … where it was cut",
                "texts are longer than a cell holds, and end with … where they were cut",
            ),
        ];
        all.into_iter().flatten().collect()
    }
}

/// A text as a cell holds it, and whether it was cut for that.
pub(crate) fn fitting(text: &str) -> (String, bool) {
    let text = escape_controls(text);
    if text.len() <= MOST_TEXT || text.encode_utf16().count() <= MOST_TEXT {
        return (text, false);
    }
    let mut left = MOST_TEXT - 1;
    let mut cut = String::new();
    for c in text.chars() {
        if c.len_utf16() > left {
            break;
        }
        left -= c.len_utf16();
        cut.push(c);
    }
    (cut + "…", true)
}

/// How cells look.
pub(crate) struct Styles {
    pub(crate) title: Look,
    pub(crate) heading: Look,
    pub(crate) plain: Look,
    pub(crate) wrapped: Look,
    pub(crate) soft: Look,
    pub(crate) large: Look,
}

impl Styles {
    pub(crate) fn new() -> Styles {
        let plain = Look { at_top: true, ..Look::default() };
        let heading = Look { bold: true, ..Look::default() };
        Styles {
            title: Look { size: 14, ..heading.clone() },
            wrapped: Look { wrapped: true, ..plain.clone() },
            soft: Look { soft: true, ..plain.clone() },
            large: Look { size: 16, align: Align::Left, ..heading.clone() },
            heading,
            plain,
        }
    }
}

/// A heading of a column, or one over several.
pub(crate) fn of_heading(last: bool, right: bool) -> Look {
    let align = match (last, right) {
        (false, _) => Align::Center,
        (true, true) => Align::Right,
        (true, false) => Align::Left,
    };
    let below = if last { Edge::Medium } else { Edge::Thin };
    Look { bold: true, wrapped: true, align, below, ..Look::default() }
}

/// Lines of the table.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(crate) enum LineLook {
    Group,
    Subtotal,
    Total,
    Rest,
}

/// How a cell of a line looks.
pub(crate) fn of_line(look: LineLook, number_format: Option<&str>, right: bool) -> Look {
    let align = if right { Align::Right } else { Align::Left };
    let number_format = number_format.map(str::to_owned);
    let plain = Look { align, number_format, ..Look::default() };
    match look {
        LineLook::Group => plain,
        LineLook::Subtotal => Look { bold: true, above: Edge::Soft, ..plain },
        LineLook::Total => Look { bold: true, above: Edge::Medium, ..plain },
        LineLook::Rest => Look { italic: true, ..plain },
    }
}

/// Writes a text.
pub(crate) fn put_text(
    sheet: &mut dyn Surface,
    place: Place,
    text: &str,
    look: &Look,
    remarks: &mut Remarks,
) -> io::Result<()> {
    let (text, cut) = fitting(text);
    remarks.texts_cut += u64::from(cut);
    sheet.text(place, &text, look)
}

/// Writes a value as what it is: `read` is how it reads, for what a workbook has no type for.
pub(crate) fn put(
    sheet: &mut dyn Surface,
    place: Place,
    value: &Value,
    read: &str,
    look: &Look,
    remarks: &mut Remarks,
) -> io::Result<()> {
    match value {
        Value::Missing if read.is_empty() => sheet.blank(place, look),
        Value::Number(number) => match as_binary(*number) {
            Some(number) => sheet.number(place, number, look),
            None => {
                remarks.numbers_as_text += 1;
                put_text(sheet, place, &number.to_string(), look, remarks)
            }
        },
        Value::Float(number) if number.is_finite() => sheet.number(place, *number, look),
        Value::Boolean(truth) => sheet.truth(place, *truth, look),
        Value::Date(days) if *days >= FIRST_SURE_DAY => {
            sheet.date(place, f64::from(days + EPOCH), value, look)
        }
        Value::DateTime(micros)
            if micros.div_euclid(86_400_000_000) >= i64::from(FIRST_SURE_DAY) =>
        {
            let days = *micros as f64 / 86_400e6 + f64::from(EPOCH);
            sheet.date(place, days, value, look)
        }
        Value::Date(_) | Value::DateTime(_) => {
            remarks.dates_as_text += 1;
            put_text(sheet, place, &value.to_string(), look, remarks)
        }
        Value::Text(text) => put_text(sheet, place, text, look, remarks),
        _ => put_text(sheet, place, read, look, remarks),
    }
}

/// The binary64 that reads back as a decimal; `None` where there is none.
fn as_binary(number: Decimal) -> Option<f64> {
    let binary: f64 = number.to_string().parse().ok()?;
    // The shortest text of a binary64 that is large has no decimals to compare, and is still all there is to read.
    let back: Decimal = format!("{binary}").parse().ok()?;
    (back.trimmed() == number.trimmed()).then_some(binary)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("0.10", true)]
    #[case("-1151535.00", true)]
    #[case("9007199254740993", false)]
    #[case("12345678901234.567", false)]
    #[case("123456789012.3456", true)]
    #[case("0.12345678901234567890", false)]
    #[case("99999999999999999999999999999999999999", false)]
    fn a_number_is_one_where_it_reads_back_the_same(#[case] number: &str, #[case] fits: bool) {
        assert_eq!(as_binary(number.parse().unwrap()).is_some(), fits);
    }

    #[test]
    fn a_text_is_cut_where_a_cell_ends() {
        assert_eq!(fitting("=1+1"), ("=1+1".to_owned(), false));
        assert!(!fitting(&"x".repeat(MOST_TEXT)).1);
        for long in ["x".repeat(40_000), "😀".repeat(20_000)] {
            let (text, cut) = fitting(&long);
            assert!(cut && text.encode_utf16().count() <= MOST_TEXT && text.ends_with('…'));
        }
    }
}
