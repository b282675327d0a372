//! A document, or a finished grid and its ledger, as terminal text, CSV, TSV, JSON, JSON Lines, Markdown, a page
//! for a browser, or a workbook.
//!
//! A renderer computes no figure and never probes its surroundings: width, colour and signs are settings. All
//! outputs go through one [`layout::Layout`], which knows the lines, the columns, and how a cell reads; a file
//! type is one file in `writers/`.
//!
//! ```
//! use oeuvre_columns::{Kind, Value};
//! use oeuvre_core::{Grid, Ledger};
//! use oeuvre_render::{Format, Settings, Style, TextSettings, write};
//!
//! let kind = Kind::Number { scale: 2 };
//! let grid = Grid::of_one("sum(fare)", kind, false, &Value::Number("1234567.50".parse().unwrap()));
//! let style = Style::default();
//! let as_type = |name: &str| {
//!     let format: Format = name.parse().unwrap();
//!     let settings = Settings { style: &style, format, text: TextSettings::default(), with_ledger: false, beside: None, threads: 1 };
//!     let mut out = Vec::new();
//!     write(&grid, &Ledger::default(), settings, &mut out).unwrap();
//!     String::from_utf8(out).unwrap()
//! };
//! assert_eq!(as_type("csv"), "sum(fare)\n1234567.50\n"); // as it is
//! assert!(as_type("text").contains("1,234,567.50")); // for reading
//! ```

// What all file types share is not all used by those that are left when some are.
#![cfg_attr(not(all(feature = "html", feature = "xlsx")), allow(dead_code, unused_imports))]

mod cells;
mod chart;
mod document;
mod draw;
mod format;
#[cfg(any(feature = "html", feature = "ods", feature = "xlsx"))]
mod headings;
mod headline;
pub mod layout;
mod ledger;
mod row_buffer;
mod sections;
#[cfg(any(feature = "ods", feature = "xlsx"))]
mod sheet;
mod style;
#[cfg(test)]
mod testing;
mod writers;

use oeuvre_core::{Grid, Ledger, Plan, Trace};
use std::io::{self, Write};

pub use cells::{ForTerminal, escape_controls};
pub use chart::{ChartLook, Stacked};
pub use document::{Document, Part, PartType};
pub use format::Signs;
pub use ledger::{
    LedgerSettings, checks_text, document_checks_text, document_ledger_text, ledger_text,
};
pub use sections::write_sections;
pub use style::{Named, Style, StyleProblem};
pub use writers::Format;
#[cfg(feature = "columnar")]
pub use writers::columnar::{Made, Sink};

/// How to draw text.
#[derive(Clone, Copy, Debug, Default)]
pub struct TextSettings {
    /// The most columns of characters a line may have; `None` for no limit.
    pub width_cols: Option<usize>,
    /// Whether to set totals and headings off with terminal styles.
    pub color: bool,
}

/// What to write, and how.
#[derive(Clone, Copy, Debug)]
pub struct Settings<'a> {
    /// How a table by itself, and what is traced, is to look.
    pub style: &'a Style,
    /// The format.
    pub format: Format,
    /// For what is drawn as text.
    pub text: TextSettings,
    /// Whether documents carry the ledger.
    pub with_ledger: bool,
    /// The beginning of the names of files that stand beside the document, where it is a file; see [`files_beside`].
    pub beside: Option<&'a str>,
    /// How many threads may work on it; what comes of it is the same.
    pub threads: usize,
}

/// Writes a table.
///
/// # Errors
/// When the output cannot be written.
pub fn write(
    grid: &Grid,
    ledger: &Ledger,
    settings: Settings<'_>,
    out: &mut dyn Write,
) -> io::Result<()> {
    write_document(&Document::of_table(grid, ledger, settings.style), settings, out)
}

/// Writes a document.
///
/// # Errors
/// When the output cannot be written.
pub fn write_document(
    document: &Document<'_>,
    settings: Settings<'_>,
    out: &mut dyn Write,
) -> io::Result<()> {
    settings.format.0.write(document, settings, out)
}

/// The files that stand beside a document in some format, each with its name and what it holds: the charts of
/// Markdown.
pub fn files_beside(document: &Document<'_>, settings: Settings<'_>) -> Vec<(String, Vec<u8>)> {
    settings.format.0.files_beside(document, settings)
}

/// Which texts of the charts of a document are drawn with types of the system, as the one that comes along lacks
/// their letters: the names of the charts.
pub fn charts_with_other_letters(document: &Document<'_>) -> Vec<String> {
    #[cfg(feature = "png")]
    {
        let other = |p: &&Part<'_>| p.scene().is_some_and(|scene| chart::needs_system(&scene));
        document.parts.iter().filter(other).map(|p| p.name.clone()).collect()
    }
    #[cfg(not(feature = "png"))]
    {
        let _ = document;
        Vec::new()
    }
}

/// The results of a grid whose bars stand on each other in a chart.
pub fn stacked_results(grid: &Grid, style: &Style, look: &ChartLook) -> Vec<usize> {
    chart::ChartData::of(grid, style, look).stacked(look)
}

/// Writes a traced cell. For reading all of it, with at most `most` rows; else the rows alone.
///
/// # Errors
/// When the output cannot be written.
pub fn write_trace(
    trace: &Trace,
    settings: Settings<'_>,
    most: usize,
    out: &mut dyn Write,
) -> io::Result<()> {
    settings.format.0.write_trace(trace, settings, most, out)
}

/// Writes what comes before the parts of a table that is written part by part.
///
/// # Errors
/// When the output cannot be written.
pub fn write_part_headings(
    plan: &Plan,
    settings: &Settings<'_>,
    out: &mut dyn Write,
) -> io::Result<()> {
    let headings: Vec<&str> = plan.results.iter().map(|r| r.heading.as_str()).collect();
    match settings.format.0.parts() {
        Some(parts) => parts.headings(&headings, settings.style, out),
        None => Ok(()),
    }
}

/// A part of a table in a format that is written part by part; nothing in others. It is put into a buffer that was
/// used before, or a new one.
pub fn write_part(grid: &Grid, settings: &Settings<'_>, used: Option<Vec<u8>>) -> Vec<u8> {
    /// So many bytes have most fields.
    const FIELD: usize = 12;
    let mut out = used.unwrap_or_default();
    out.clear();
    out.reserve(grid.lines.len() * grid.columns.len() * FIELD);
    if let Some(parts) = settings.format.0.parts() {
        // Writing to memory does not fail.
        let _ = parts.lines(grid, settings.style, &mut out);
    }
    out
}
