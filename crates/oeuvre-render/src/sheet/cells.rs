//! Cells of a workbook: values with their types, and what could not be written as what it is.

use crate::cells::escape_controls;
use oeuvre_columns::{Decimal, Value};
use rust_xlsxwriter::{Color, Format, FormatAlign, FormatBorder, Worksheet, XlsxError};

/// The most characters in a cell, in units of UTF-16.
const MOST_TEXT: usize = 32_767;

/// Days of the calendar of workbooks before 1970-01-01.
const EPOCH: i32 = 25_569;
/// 1900-03-01: the calendar of workbooks has a day before it that never was.
const FIRST_SURE_DAY: i32 = -25_508;

/// The ink of what stands back.
pub(crate) const SOFT: Color = Color::RGB(0x0055_606b);
/// Lines between cells.
const RULE: Color = Color::RGB(0x00cf_d5db);

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
    pub(crate) title: Format,
    pub(crate) heading: Format,
    pub(crate) plain: Format,
    pub(crate) wrapped: Format,
    pub(crate) soft: Format,
    pub(crate) large: Format,
}

impl Styles {
    pub(crate) fn new() -> Styles {
        let plain = Format::new().set_align(FormatAlign::Top);
        Styles {
            title: Format::new().set_bold().set_font_size(14),
            heading: Format::new().set_bold(),
            wrapped: plain.clone().set_text_wrap(),
            soft: plain.clone().set_font_color(SOFT),
            large: Format::new().set_bold().set_font_size(16).set_align(FormatAlign::Left),
            plain,
        }
    }
}

/// A heading of a column, or one over several.
pub(crate) fn of_heading(last: bool, right: bool) -> Format {
    let align = match (last, right) {
        (false, _) => FormatAlign::Center,
        (true, true) => FormatAlign::Right,
        (true, false) => FormatAlign::Left,
    };
    let border = if last { FormatBorder::Medium } else { FormatBorder::Thin };
    let format = Format::new().set_bold().set_text_wrap().set_align(align);
    format.set_align(FormatAlign::Bottom).set_border_bottom(border)
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
pub(crate) fn of_line(look: LineLook, number_format: Option<&str>, right: bool) -> Format {
    let mut format =
        Format::new().set_align(if right { FormatAlign::Right } else { FormatAlign::Left });
    if let Some(number_format) = number_format {
        format = format.set_num_format(number_format);
    }
    match look {
        LineLook::Group => format,
        LineLook::Subtotal => {
            format.set_bold().set_border_top(FormatBorder::Thin).set_border_top_color(RULE)
        }
        LineLook::Total => format.set_bold().set_border_top(FormatBorder::Medium),
        LineLook::Rest => format.set_italic(),
    }
}

/// Where a cell is: line and column, from 0.
pub(crate) type Place = (u32, u16);

/// Writes a text.
pub(crate) fn put_text(
    sheet: &mut Worksheet,
    (row, column): Place,
    text: &str,
    format: &Format,
    remarks: &mut Remarks,
) -> Result<(), XlsxError> {
    let (text, cut) = fitting(text);
    remarks.texts_cut += u64::from(cut);
    sheet.write_string_with_format(row, column, text, format)?;
    Ok(())
}

/// Writes a value as what it is: `read` is how it reads, for what a workbook has no type for.
pub(crate) fn put(
    sheet: &mut Worksheet,
    (row, column): Place,
    value: &Value,
    read: &str,
    format: &Format,
    remarks: &mut Remarks,
) -> Result<(), XlsxError> {
    match value {
        Value::Missing if read.is_empty() => {
            sheet.write_blank(row, column, format)?;
        }
        Value::Number(number) => match as_binary(*number) {
            Some(number) => {
                sheet.write_number_with_format(row, column, number, format)?;
            }
            None => {
                remarks.numbers_as_text += 1;
                put_text(sheet, (row, column), &number.to_string(), format, remarks)?;
            }
        },
        Value::Float(number) if number.is_finite() => {
            sheet.write_number_with_format(row, column, *number, format)?;
        }
        Value::Boolean(truth) => {
            sheet.write_boolean_with_format(row, column, *truth, format)?;
        }
        Value::Date(days) if *days >= FIRST_SURE_DAY => {
            sheet.write_number_with_format(row, column, days + EPOCH, format)?;
        }
        Value::DateTime(micros)
            if micros.div_euclid(86_400_000_000) >= i64::from(FIRST_SURE_DAY) =>
        {
            let days = *micros as f64 / 86_400e6 + f64::from(EPOCH);
            sheet.write_number_with_format(row, column, days, format)?;
        }
        Value::Date(_) | Value::DateTime(_) => {
            remarks.dates_as_text += 1;
            put_text(sheet, (row, column), &value.to_string(), format, remarks)?;
        }
        Value::Text(text) => put_text(sheet, (row, column), text, format, remarks)?,
        _ => put_text(sheet, (row, column), read, format, remarks)?,
    }
    Ok(())
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
