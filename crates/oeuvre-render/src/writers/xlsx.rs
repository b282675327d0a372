//! Workbooks (ISO/IEC 29500): a sheet a table, one before them for what stands alone, one behind them for notes.
//!
//! Numbers are numbers, in the format that their pattern is in a workbook's own language; dates are
//! dates. A workbook's numbers are binary64: one that would not read back the same is written as text, and the
//! notes say so. Texts are stored as texts, so that none is ever a formula.

use super::{FileType, Writer};
use crate::Settings;
use crate::document::Document;
use crate::sheet;
use std::io::{self, Write};

/// A workbook.
pub(super) struct Xlsx;

impl Writer for Xlsx {
    fn file_type(&self) -> &FileType {
        const FILE_TYPE: FileType =
            FileType { is_binary: true, explains: true, ..FileType::of("xlsx", &["xlsx"]) };
        &FILE_TYPE
    }
    fn refuses(&self, document: &Document<'_>) -> Option<(String, String)> {
        sheet::refuses(document)
    }
    fn write(
        &self,
        document: &Document<'_>,
        settings: Settings<'_>,
        out: &mut dyn Write,
    ) -> io::Result<()> {
        let mut book = sheet::xlsx::Xlsx::new(&sheet::cells::fitting(document.heading()).0)?;
        sheet::write(document, settings.with_ledger, &mut book)?;
        out.write_all(&book.finish()?)
    }
}
