//! The sheets of a workbook, in their order: one for what stands alone, one for each table, one for notes.

use super::cells::{Remarks, Styles};
use super::names::Names;
use super::surface::Surface;
use super::{overview, table};
use crate::document::{Document, PartType};
use std::io;

/// The most lines and columns that a sheet has.
const MOST_ROWS: usize = 1_048_576;
const MOST_COLUMNS: usize = 16_384;

/// A workbook that is being written.
pub(crate) trait Book {
    /// Adds a sheet of a name, which `fill` fills.
    fn sheet(
        &mut self,
        name: &str,
        fill: &mut dyn FnMut(&mut dyn Surface) -> io::Result<()>,
    ) -> io::Result<()>;
}

/// Writes the sheets of a document.
pub(crate) fn write(
    document: &Document<'_>,
    with_ledger: bool,
    book: &mut dyn Book,
) -> io::Result<()> {
    let styles = Styles::new();
    let mut names = Names::default();
    let mut remarks = Remarks::default();
    if document.is_report {
        book.sheet(&names.next("Overview"), &mut |sheet| {
            overview::write(document, &styles, &mut remarks, sheet)
        })?;
    }
    for part in document.parts.iter().filter(|p| p.shows != PartType::Headline) {
        let name = if document.has_headings() { part.heading() } else { document.heading() };
        book.sheet(&names.next(name), &mut |sheet| {
            table::write(part, document.has_headings(), &styles, &mut remarks, sheet)
        })?;
    }
    if with_ledger {
        book.sheet(&names.next("Notes"), &mut |sheet| {
            overview::write_notes(document, &styles, &remarks, sheet)
        })?;
    }
    Ok(())
}

/// What a workbook has no room for, and the way out.
pub(crate) fn refuses(document: &Document<'_>) -> Option<(String, String)> {
    let way_out = || "write CSV or Parquet: --as csv, --as parquet".to_owned();
    for part in document.parts.iter().filter(|p| p.shows != PartType::Headline) {
        let (lines, columns) = table::size(part);
        let what = if document.is_report { format!("{}: ", part.heading()) } else { String::new() };
        if lines > MOST_ROWS {
            let message = format!("{what}{lines} lines, and a sheet of a workbook has {MOST_ROWS}");
            return Some((message, way_out()));
        }
        if columns > MOST_COLUMNS {
            let message =
                format!("{what}{columns} columns, and a sheet of a workbook has {MOST_COLUMNS}");
            return Some((message, way_out()));
        }
    }
    None
}
