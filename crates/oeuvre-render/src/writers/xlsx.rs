//! Workbooks (ISO/IEC 29500): a sheet a table, one before them for what stands alone, one behind them for notes.
//!
//! Numbers are numbers, in the format that their pattern is in a workbook's own language; dates are
//! dates. A workbook's numbers are binary64: one that would not read back the same is written as text, and the
//! notes say so. Texts are stored as texts, so that none is ever a formula. The library that writes the file sets a
//! time of its own unless it is given one, and so it is given a fixed one: same table, same bytes.

use super::{FileType, Writer};
use crate::Settings;
use crate::document::{Document, PartType};
use crate::sheet::{Names, Remarks, Styles, cells, overview, table};
use rust_xlsxwriter::{DocProperties, ExcelDateTime, Workbook, Worksheet, XlsxError};
use std::io::{self, Write};

/// The most lines and columns that a sheet has.
const MOST_ROWS: usize = 1_048_576;
const MOST_COLUMNS: usize = 16_384;

/// A workbook.
pub(super) struct Xlsx;

impl Writer for Xlsx {
    fn file_type(&self) -> &FileType {
        const FILE_TYPE: FileType =
            FileType { is_binary: true, explains: true, ..FileType::of("xlsx", &["xlsx"]) };
        &FILE_TYPE
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
