//! OpenDocument workbooks (ISO/IEC 26300): a sheet a table, one before them for what stands alone, one behind them for notes.
//!
//! Numbers are numbers, in the format that their pattern is in a workbook's own language; dates are
//! dates. A workbook's numbers are binary64: one that would not read back the same is written as text, and the
//! notes say so. Texts are stored as texts, so that none is ever a formula.

use super::{FileType, Writer};
use crate::Settings;
use crate::document::Document;
use crate::sheet;
use crate::style::Style;
use oeuvre_core::Grid;
use std::io::{self, Write};

/// A workbook.
pub(super) struct Ods;

impl Writer for Ods {
    fn file_type(&self) -> &FileType {
        const FILE_TYPE: FileType =
            FileType { is_binary: true, explains: true, ..FileType::of("ods", &["ods"]) };
        &FILE_TYPE
    }
    fn refuses(&self, document: &Document<'_>) -> Option<(String, String)> {
        sheet::refuses(document)
    }
    fn leaves_out(&self, _: &Grid, style: &Style) -> Option<String> {
        let drawn = !style.bars.is_empty() || !style.lines.is_empty();
        drawn.then(|| "bars and small lines in cells are left out: an ODS file has none".to_owned())
    }
    fn write(
        &self,
        document: &Document<'_>,
        settings: Settings<'_>,
        out: &mut dyn Write,
    ) -> io::Result<()> {
        let mut book = sheet::ods::Ods::new(&sheet::cells::fitting(document.heading()).0);
        sheet::write(document, settings.with_ledger, &mut book)?;
        out.write_all(&book.finish()?)
    }
}
