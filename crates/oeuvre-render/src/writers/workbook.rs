//! Workbooks: a sheet a table, one before them for what stands alone, one behind them for notes.
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

/// A form of workbooks.
pub(super) struct Workbook {
    file_type: FileType,
    /// The bytes of a document of a title, with its ledger or without.
    bytes: fn(&Document<'_>, &str, bool) -> io::Result<Vec<u8>>,
    /// What is told where bars or small lines were asked for, and there are none.
    without_drawings: Option<&'static str>,
}

const fn of(name: &'static str, endings: &'static [&'static str]) -> FileType {
    FileType { is_binary: true, explains: true, ..FileType::of(name, endings) }
}

/// ISO/IEC 29500.
#[cfg(feature = "xlsx")]
pub(super) static XLSX: Workbook = Workbook {
    file_type: of("xlsx", &["xlsx"]),
    bytes: |document, title, with_ledger| {
        let mut book = sheet::xlsx::Xlsx::new(title)?;
        sheet::write(document, with_ledger, &mut book)?;
        book.finish()
    },
    without_drawings: None,
};

/// OpenDocument, ISO/IEC 26300.
#[cfg(feature = "ods")]
pub(super) static ODS: Workbook = Workbook {
    file_type: of("ods", &["ods"]),
    bytes: |document, title, with_ledger| {
        let mut book = sheet::ods::Ods::new(title);
        sheet::write(document, with_ledger, &mut book)?;
        book.finish()
    },
    without_drawings: Some("bars and small lines in cells are left out: an ODS file has none"),
};

impl Writer for Workbook {
    fn file_type(&self) -> &FileType {
        &self.file_type
    }
    fn refuses(&self, document: &Document<'_>) -> Option<(String, String)> {
        sheet::refuses(document)
    }
    fn leaves_out(&self, _: &Grid, style: &Style) -> Option<String> {
        let drawn = !style.bars.is_empty() || !style.lines.is_empty();
        self.without_drawings.filter(|_| drawn).map(str::to_owned)
    }
    fn write(
        &self,
        document: &Document<'_>,
        settings: Settings<'_>,
        out: &mut dyn Write,
    ) -> io::Result<()> {
        let title = sheet::cells::fitting(document.heading()).0;
        out.write_all(&(self.bytes)(document, &title, settings.with_ledger)?)
    }
}
