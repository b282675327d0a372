//! The file types that tables are written as: one file each, and a row in [`WRITERS`].
//!
//! If you add one: a [`Writer`] in a file of its own, and a row. The names that `--as` takes, the endings of
//! files, the help, and what is written part by part follow from it; tests run every writer there is into full
//! disks and closed pipes, and hold names and endings apart. A writer for reading takes cells from
//! `Layout::push_read`, one for handing on from `Layout::raw`; what cells hold is untrusted, and escaped here as
//! the format needs it.
//!
//! ```
//! use oeuvre_render::Format;
//!
//! assert_eq!(Format::of_ending("fares.TSV").map(Format::name), Some("tsv"));
//! assert!("json".parse::<Format>().is_ok_and(|format| !format.is_for_reading()));
//! ```

mod json;
mod markdown;
mod page;
mod separated;
mod text;
mod trace;

use crate::Settings;
use crate::style::Style;
use oeuvre_core::{Grid, Ledger, Trace};
use std::fmt;
use std::io::{self, Write};
use std::str::FromStr;

/// Writes tables as one type of file.
pub(crate) trait Writer: Sync {
    /// What `--as` calls it.
    fn name(&self) -> &'static str;

    /// The endings of file names that stand for it.
    fn endings(&self) -> &'static [&'static str];

    /// Whether figures are rounded for people, rather than handed on whole.
    fn is_for_reading(&self) -> bool {
        false
    }

    /// Whether it is no text, and so never fit for a terminal.
    fn is_binary(&self) -> bool {
        false
    }

    /// Whether it makes control characters visible itself, as what is drawn for a terminal does.
    fn escapes(&self) -> bool {
        false
    }

    /// Writes a table whole.
    fn write(
        &self,
        grid: &Grid,
        ledger: &Ledger,
        settings: Settings<'_>,
        out: &mut dyn Write,
    ) -> io::Result<()>;

    /// How a table of rows is written part by part; `None` for what must see it whole.
    fn parts(&self) -> Option<&dyn PartWriter> {
        None
    }

    /// Writes a traced cell: its rows alone, unless there is room for more.
    fn write_trace(
        &self,
        trace: &Trace,
        settings: Settings<'_>,
        most: usize,
        out: &mut dyn Write,
    ) -> io::Result<()> {
        let _ = most;
        let settings = Settings { style: &Style::default(), with_ledger: false, ..settings };
        self.write(&trace.rows, &Ledger::default(), settings, out)
    }
}

/// Writes tables part by part.
pub(crate) trait PartWriter: Sync {
    /// Writes what comes before the first part.
    fn headings(&self, headings: &[&str], out: &mut dyn Write) -> io::Result<()>;

    /// Writes the lines of a part.
    fn lines(&self, grid: &Grid, style: &Style, out: &mut dyn Write) -> io::Result<()>;
}

/// All writers, in the order in which they are named.
static WRITERS: &[&dyn Writer] = &[
    &text::Text,
    &separated::CSV,
    &separated::TSV,
    &json::Json,
    &json::Lines,
    &markdown::Markdown,
];

/// An output format.
#[derive(Clone, Copy)]
pub struct Format(pub(crate) &'static dyn Writer);

impl Default for Format {
    /// The one for reading on a terminal.
    fn default() -> Format {
        Format(&text::Text)
    }
}

impl fmt::Debug for Format {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.0.name())
    }
}

impl FromStr for Format {
    type Err = ();

    fn from_str(name: &str) -> Result<Format, ()> {
        Format::all().find(|f| f.0.name() == name).ok_or(())
    }
}

impl Format {
    /// All formats.
    pub fn all() -> impl Iterator<Item = Format> {
        WRITERS.iter().map(|writer| Format(*writer))
    }

    /// What it is called.
    pub fn name(self) -> &'static str {
        self.0.name()
    }

    /// The format that a file name's ending stands for, whatever its case.
    pub fn of_ending(name: &str) -> Option<Format> {
        let ending = name.rsplit_once('.')?.1.to_ascii_lowercase();
        Format::all().find(|f| f.0.endings().contains(&ending.as_str()))
    }

    /// Whether figures are rounded for people, rather than handed on whole.
    pub fn is_for_reading(self) -> bool {
        self.0.is_for_reading()
    }

    /// Whether it is no text, and so never fit for a terminal.
    pub fn is_binary(self) -> bool {
        self.0.is_binary()
    }

    /// Whether it makes control characters visible itself.
    pub fn escapes(self) -> bool {
        self.0.escapes()
    }

    /// Whether tables of rows are written part by part.
    pub fn streams(self) -> bool {
        self.0.parts().is_some()
    }
}
