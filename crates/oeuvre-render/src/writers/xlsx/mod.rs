//! Workbooks (ISO/IEC 29500): a sheet a table, one before them for what stands alone, one behind them for notes.
//!
//! Numbers are numbers, in the format that their pattern is in a workbook's own language (`formats.rs`); dates are
//! dates. A workbook's numbers are binary64: one that would not read back the same is written as text, and the
//! notes say so. Texts are stored as texts, so that none is ever a formula. The library that writes the file sets a
//! time of its own unless it is given one, and so it is given a fixed one: same table, same bytes.

mod cells;
mod formats;
mod overview;
mod table;

use super::Writer;
use crate::Settings;
use crate::document::{Document, PartType};
use cells::{Remarks, Styles};
use rust_xlsxwriter::{DocProperties, ExcelDateTime, Workbook, Worksheet, XlsxError};
use std::collections::HashSet;
use std::io::{self, Write};

/// The most lines and columns that a sheet has.
const MOST_ROWS: usize = 1_048_576;
const MOST_COLUMNS: usize = 16_384;
/// The most characters in the name of a sheet.
const MOST_NAME: usize = 31;

/// A workbook.
pub(super) struct Xlsx;

impl Writer for Xlsx {
    fn name(&self) -> &'static str {
        "xlsx"
    }
    fn endings(&self) -> &'static [&'static str] {
        &["xlsx"]
    }
    fn is_binary(&self) -> bool {
        true
    }
    fn explains(&self) -> bool {
        true
    }
    fn refuses(&self, document: &Document<'_>) -> Option<(String, String)> {
        let way_out = || "write CSV: --as csv".to_owned();
        for part in document.parts.iter().filter(|p| p.shows != PartType::Headline) {
            let (lines, columns) = table::size(part);
            let what =
                if document.is_report { format!("{}: ", part.heading()) } else { String::new() };
            if lines > MOST_ROWS {
                let message =
                    format!("{what}{lines} lines, and a sheet of a workbook has {MOST_ROWS}");
                return Some((message, way_out()));
            }
            if columns > MOST_COLUMNS {
                let message = format!(
                    "{what}{columns} columns, and a sheet of a workbook has {MOST_COLUMNS}"
                );
                return Some((message, way_out()));
            }
        }
        None
    }
    fn write(
        &self,
        document: &Document<'_>,
        settings: Settings<'_>,
        out: &mut dyn Write,
    ) -> io::Result<()> {
        let bytes = book(document, settings.with_ledger).map_err(io::Error::other)?;
        out.write_all(&bytes)
    }
}

fn book(document: &Document<'_>, with_ledger: bool) -> Result<Vec<u8>, XlsxError> {
    let mut book = Workbook::new();
    // A fixed time, so that the same table makes the same file.
    let epoch = ExcelDateTime::from_ymd(2000, 1, 1)?;
    let title = cells::fitting(document.heading()).0;
    let properties = DocProperties::new().set_title(title).set_creation_datetime(&epoch);
    book.set_properties(&properties);
    let styles = Styles::new();
    let mut names = Names::default();
    let mut remarks = Remarks::default();
    if document.is_report {
        let mut sheet = Worksheet::new();
        sheet.set_name(names.next("Overview"))?;
        overview::write(document, &styles, &mut remarks, &mut sheet)?;
        book.push_worksheet(sheet);
    }
    for part in document.parts.iter().filter(|p| p.shows != PartType::Headline) {
        let mut sheet = Worksheet::new();
        let name = if document.has_headings() { part.heading() } else { document.heading() };
        sheet.set_name(names.next(name))?;
        table::write(part, document.has_headings(), &styles, &mut remarks, &mut sheet)?;
        book.push_worksheet(sheet);
    }
    if with_ledger {
        let mut sheet = Worksheet::new();
        sheet.set_name(names.next("Notes"))?;
        overview::write_notes(document, &styles, &remarks, &mut sheet)?;
        book.push_worksheet(sheet);
    }
    book.save_to_buffer()
}

/// The names of sheets: without the characters that no name has, short enough, no two the same.
#[derive(Default)]
struct Names(HashSet<String>);

impl Names {
    fn next(&mut self, wanted: &str) -> String {
        let clean: String = crate::escape_controls(wanted)
            .chars()
            .map(|c| if matches!(c, '[' | ']' | ':' | '*' | '?' | '/' | '\\') { ' ' } else { c })
            .collect();
        let clean = clean.split_whitespace().collect::<Vec<_>>().join(" ");
        let clean = clean.trim_matches('\'');
        // A name that the programs keep for themselves.
        let clean = match clean {
            "" => "Table",
            it if it.eq_ignore_ascii_case("history") => "History table",
            it => it,
        };
        for number in 1usize.. {
            let behind = if number == 1 { String::new() } else { format!(" ({number})") };
            let mut name = String::new();
            let mut room = MOST_NAME - behind.len();
            for c in clean.chars() {
                if c.len_utf16() > room {
                    break;
                }
                room -= c.len_utf16();
                name.push(c);
            }
            let name = format!("{}{behind}", name.trim_end().trim_end_matches('\''));
            if self.0.insert(name.to_lowercase()) {
                return name;
            }
        }
        unreachable!("numbers do not end")
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(&["Revenue by coast/quarter"], "Revenue by coast quarter")]
    #[case(&["", "[]"], "Table; Table (2)")]
    #[case(&["history", "'quoted'"], "History table; quoted")]
    #[case(&["A name that is a good deal longer than a sheet's", "A NAME that is a good deal longer than another's"],
        "A name that is a good deal long; A NAME that is a good deal (2)")]
    fn names_of_sheets_are_those_that_workbooks_take(#[case] wanted: &[&str], #[case] given: &str) {
        let mut names = Names::default();
        let found: Vec<String> = wanted.iter().map(|name| names.next(name)).collect();
        assert_eq!(found.join("; "), given);
        let mut sheet = Worksheet::new();
        assert!(found.iter().all(|name| sheet.set_name(name.as_str()).is_ok()));
    }
}
