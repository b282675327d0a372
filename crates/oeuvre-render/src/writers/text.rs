//! Text for reading: the table by `page.rs`, a traced cell by `trace.rs`.

use super::{FileType, Writer, page, trace};
use crate::Settings;
use crate::cells::escape_controls;
use crate::chart::{ChartData, write_characters};
use crate::document::{Document, PartType, paragraphs};
use crate::headline::Headline;
use crate::ledger::wrapped;
use oeuvre_core::Trace;
use std::io::{self, Write};

/// Paragraphs are not wider than this.
const PARAGRAPHS: usize = 90;

const BOLD: anstyle::Style = anstyle::Style::new().bold();

/// How titles and paragraphs are written.
struct Titles {
    color: bool,
    width: usize,
}

impl Titles {
    fn paint(&self, style: anstyle::Style, text: &str) -> String {
        if self.color { format!("{style}{text}{style:#}") } else { text.to_owned() }
    }

    fn write(
        &self,
        title: &str,
        style: anstyle::Style,
        text: Option<&str>,
        out: &mut dyn Write,
    ) -> io::Result<()> {
        for line in wrapped(&escape_controls(title), self.width) {
            writeln!(out, "{}", self.paint(style, &line))?;
        }
        self.paragraphs(text, out)
    }

    fn paragraphs(&self, text: Option<&str>, out: &mut dyn Write) -> io::Result<()> {
        for paragraph in text.into_iter().flat_map(paragraphs) {
            for line in wrapped(&escape_controls(&paragraph), self.width) {
                writeln!(out, "{line}")?;
            }
        }
        Ok(())
    }
}

/// A ruled table for reading.
pub(super) struct Text;

impl Writer for Text {
    fn file_type(&self) -> &FileType {
        const FILE_TYPE: FileType = FileType {
            is_for_reading: true,
            escapes: true,
            ..FileType::of("text", &["txt", "text"])
        };
        &FILE_TYPE
    }
    fn write(
        &self,
        document: &Document<'_>,
        settings: Settings<'_>,
        out: &mut dyn Write,
    ) -> io::Result<()> {
        let text = settings.text;
        let width = text.width_cols.unwrap_or(PARAGRAPHS).min(PARAGRAPHS);
        let titles = Titles { color: text.color, width };
        if let Some(title) = &document.title {
            titles.write(title, BOLD.underline(), document.text.as_deref(), out)?;
            if let Some(stamp) = &document.stamp {
                writeln!(out, "{stamp}")?;
            }
        }
        let mut begun = document.title.is_some();
        let mut after_headline = false;
        for part in &document.parts {
            let headline = part.shows == PartType::Headline;
            if begun && !(headline && after_headline && part.text.is_none()) {
                writeln!(out)?;
            }
            (begun, after_headline) = (true, headline);
            if headline {
                titles.paragraphs(part.text.as_deref(), out)?;
                let it = Headline::of(part.grid, part.style);
                let figure = titles.paint(BOLD, &it.figure);
                let beside = it.beside.map_or(String::new(), |beside| format!("   {beside}"));
                writeln!(out, "{}  {figure}{beside}", it.heading)?;
                continue;
            }
            if document.has_headings() {
                titles.write(part.heading(), BOLD, part.text.as_deref(), out)?;
                writeln!(out)?;
            } else if part.text.is_some() {
                titles.paragraphs(part.text.as_deref(), out)?;
                writeln!(out)?;
            }
            match part.chart {
                Some(look) => {
                    let data = ChartData::of(part.grid, part.style, look);
                    write_characters(&data, look, text, out)?;
                }
                None => page::write(part.grid, part.style, text, out)?,
            }
        }
        Ok(())
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
