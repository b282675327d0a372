//! A finished grid and its ledger as terminal text, CSV, TSV, JSON, JSON Lines and Markdown.
//!
//! A renderer computes no figure and never probes its surroundings: width, colour and signs are
//! settings. All outputs go through one [`layout::Layout`], which knows the lines, the columns, and
//! how a cell reads.

mod cells;
mod draw;
mod format;
mod json;
pub mod layout;
mod ledger;
mod look;
mod markdown;
mod sections;
mod separated;
mod text;
mod trace;

use oeuvre_core::{Grid, Ledger, Plan};
use std::io::{self, Write};

pub use cells::{ForTerminal, escape_controls};
pub use ledger::ledger_text;
pub use look::{Look, LookProblem, Named};
pub use sections::write_sections;
pub use trace::write_trace;

/// An output format.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Format {
    /// A ruled table for reading.
    Text,
    /// Comma-separated values, RFC 4180.
    Csv,
    /// Tab-separated values.
    Tsv,
    /// One JSON object (RFC 8259).
    Json,
    /// One JSON object a line.
    Jsonl,
    /// A Markdown table.
    Markdown,
}

impl Format {
    /// All formats with their names.
    pub const ALL: [(&'static str, Format); 6] = [
        ("text", Format::Text),
        ("csv", Format::Csv),
        ("tsv", Format::Tsv),
        ("json", Format::Json),
        ("jsonl", Format::Jsonl),
        ("markdown", Format::Markdown),
    ];

    /// Whether figures are rounded for people, rather than handed on whole.
    pub const fn is_for_reading(self) -> bool {
        matches!(self, Format::Text | Format::Markdown)
    }

    /// The format that a file name's ending stands for.
    pub fn of_ending(name: &str) -> Option<Format> {
        let ending = name.rsplit_once('.')?.1.to_ascii_lowercase();
        match ending.as_str() {
            "txt" => Some(Format::Text),
            "md" => Some(Format::Markdown),
            "ndjson" => Some(Format::Jsonl),
            other => Self::ALL.iter().find(|(n, _)| *n == other).map(|(_, f)| *f),
        }
    }
}

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
    /// How it is to look.
    pub look: &'a Look,
    /// The format.
    pub format: Format,
    /// For [`Format::Text`].
    pub text: TextSettings,
    /// Whether documents carry the ledger.
    pub with_ledger: bool,
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
    let look = settings.look;
    match settings.format {
        Format::Text => text::write(grid, look, settings.text, out),
        Format::Csv => separated::write(grid, look, b',', out),
        Format::Tsv => separated::write(grid, look, b'\t', out),
        Format::Json => json::write(grid, look, ledger, settings.with_ledger, out),
        Format::Jsonl => json::write_lines(grid, look, out),
        Format::Markdown => markdown::write(grid, look, ledger, settings.with_ledger, out),
    }
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
    match settings.format {
        Format::Csv => separated::write_headings(&headings, b',', out),
        Format::Tsv => separated::write_headings(&headings, b'\t', out),
        _ => Ok(()),
    }
}

/// A part of a table in a format of one line a row: CSV, TSV or JSON Lines; nothing in others.
pub fn write_part(grid: &Grid, settings: &Settings<'_>) -> Vec<u8> {
    let mut out = Vec::new();
    let look = settings.look;
    // Writing to memory does not fail.
    let _ = match settings.format {
        Format::Csv => separated::write_rows(grid, look, b',', &mut out),
        Format::Tsv => separated::write_rows(grid, look, b'\t', &mut out),
        Format::Jsonl => json::write_lines(grid, look, &mut out),
        _ => Ok(()),
    };
    out
}
