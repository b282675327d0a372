//! Text for reading: the table by `page.rs`, a traced cell by `trace.rs`.

use super::{Writer, page, trace};
use crate::Settings;
use oeuvre_core::{Grid, Ledger, Trace};
use std::io::{self, Write};

/// A ruled table for reading.
pub(super) struct Text;

impl Writer for Text {
    fn name(&self) -> &'static str {
        "text"
    }
    fn endings(&self) -> &'static [&'static str] {
        &["txt", "text"]
    }
    fn is_for_reading(&self) -> bool {
        true
    }
    fn escapes(&self) -> bool {
        true
    }
    fn write(
        &self,
        grid: &Grid,
        _: &Ledger,
        settings: Settings<'_>,
        out: &mut dyn Write,
    ) -> io::Result<()> {
        page::write(grid, settings.style, settings.text, out)
    }
    fn write_trace(
        &self,
        cell: &Trace,
        settings: Settings<'_>,
        most: usize,
        out: &mut dyn Write,
    ) -> io::Result<()> {
        trace::write(cell, settings, most, out)
    }
}
