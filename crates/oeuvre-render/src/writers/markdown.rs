//! A Markdown table (the pipe tables that CommonMark's extensions share).
//!
//! Such a table has one line of headings and no other structure: labels along the top are broken inside their
//! heading, totals are bold, notes stand below. What a cell holds cannot become markup.

use super::{FileType, Writer};
use crate::Settings;
use crate::cells::escape_controls;
use crate::chart::svg;
use crate::document::{Document, Part, PartType, paragraphs};
use crate::draw::{bar_text, heat_text, trend_text};
use crate::headline::Headline;
use crate::layout::Layout;
use crate::ledger::{self, ledger_sentence};
use std::io::{self, Write};

/// Signs that Markdown would take for its own, and HTML's, made plain; controls made visible.
fn plain(text: &str) -> String {
    let text = escape_controls(text);
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            '|' | '*' | '_' | '`' | '\\' | '[' | ']' | '~' | '#' => {
                out.push('\\');
                out.push(c);
            }
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '&' => out.push_str("&amp;"),
            c => out.push(c),
        }
    }
    out
}

/// A Markdown table.
pub(super) struct Markdown;

impl Writer for Markdown {
    fn file_type(&self) -> &FileType {
        const FILE_TYPE: FileType =
            FileType { is_for_reading: true, ..FileType::of("markdown", &["md", "markdown"]) };
        &FILE_TYPE
    }
    fn files_beside(
        &self,
        document: &Document<'_>,
        settings: Settings<'_>,
    ) -> Vec<(String, Vec<u8>)> {
        let Some(stem) = settings.beside else { return Vec::new() };
        let file = |part: &Part<'_>| {
            Some((chart_name(stem, &part.name), svg(&part.scene()?, true).into_bytes()))
        };
        document.parts.iter().filter_map(file).collect()
    }
    fn write(
        &self,
        document: &Document<'_>,
        settings: Settings<'_>,
        out: &mut dyn Write,
    ) -> io::Result<()> {
        let mut between = Between(false);
        if let Some(title) = &document.title {
            between.write(out)?;
            writeln!(out, "# {}", plain(title))?;
            for text in document
                .stamp
                .iter()
                .cloned()
                .chain(document.text.as_deref().into_iter().flat_map(paragraphs))
            {
                between.write(out)?;
                writeln!(out, "{}", plain(&text))?;
            }
        }
        for part in &document.parts {
            if document.has_headings() && part.shows != PartType::Headline {
                between.write(out)?;
                writeln!(out, "## {}", plain(part.heading()))?;
            }
            for text in part.text.as_deref().into_iter().flat_map(paragraphs) {
                between.write(out)?;
                writeln!(out, "{}", plain(&text))?;
            }
            between.write(out)?;
            if part.shows == PartType::Headline {
                let it = Headline::of(part.grid, part.style);
                let beside =
                    it.beside.map_or(String::new(), |beside| format!(" ({})", plain(&beside)));
                writeln!(out, "{}: **{}**{beside}", plain(&it.heading), plain(&it.figure))?;
            } else if part.chart.is_some()
                && let Some(stem) = settings.beside
            {
                let name = chart_name(stem, &part.name);
                let address = name.replace(' ', "%20").replace('(', "%28").replace(')', "%29");
                writeln!(out, "![{}]({address})", plain(part.heading()))?;
            } else if part.chart.is_some() {
                writeln!(
                    out,
                    "(The chart {} stands beside a file: --to FILE.md)",
                    plain(&part.name)
                )?;
            } else {
                table(part, out)?;
            }
        }
        let sentence = match document.parts.as_slice() {
            [part] if document.title.is_none() => Some(ledger_sentence(part.ledger)),
            _ => None,
        };
        if let (Some(sentence), true) = (&sentence, settings.with_ledger) {
            between.write(out)?;
            writeln!(out, "{}", plain(sentence))?;
        }
        let mut lines: Vec<String> = Vec::new();
        if settings.with_ledger && sentence.is_none() {
            lines.extend(accounts(document));
        }
        let checks = document.checks.iter();
        lines.extend(checks.map(|(name, check)| ledger::check_line(name.as_deref(), check)));
        if settings.with_ledger {
            let told = document.told().into_iter();
            lines.extend(told.map(|(note, of)| format!("{note}{}", ledger::told_of_parts(&of))));
        }
        if !lines.is_empty() {
            between.write(out)?;
        }
        lines.iter().try_for_each(|line| writeln!(out, "- {}", plain(line)))
    }
}

/// The name of the file of a chart.
fn chart_name(stem: &str, part: &str) -> String {
    let clean = |c: char| if c.is_control() || "/\\:*?\"<>|#%".contains(c) { '-' } else { c };
    format!("{stem}-{}.svg", part.chars().map(clean).collect::<String>())
}

/// A blank line between blocks.
struct Between(bool);

impl Between {
    fn write(&mut self, out: &mut dyn Write) -> io::Result<()> {
        if std::mem::replace(&mut self.0, true) { writeln!(out) } else { Ok(()) }
    }
}

/// The ledger of several parts: a sentence for each set of rows that they counted, and one for each part.
fn accounts(document: &Document<'_>) -> Vec<String> {
    let mut lines = Vec::new();
    let accounts = document.accounts();
    for account in &accounts {
        let of = match accounts.len() {
            1 => String::new(),
            _ => format!(" of {}", account.names.join(", ")),
        };
        lines.push(format!("Ledger{of}: {}.", ledger::entries_text(&account.entries)));
        for part in account.parts.iter().filter(|p| p.shows != PartType::Headline) {
            let entries = ledger::entries_text(&part.ledger.entries_of_table());
            lines.push(format!("{}: {entries}.", part.heading()));
        }
    }
    lines
}

fn table(part: &Part<'_>, out: &mut dyn Write) -> io::Result<()> {
    let (grid, layout) = (part.grid, Layout::new(part.grid, part.style));
    // Pipe tables have one line of headings: what stands above a column is broken inside its cell.
    let headings: Vec<String> = layout
        .slots
        .iter()
        .map(|&s| {
            let parts: Vec<String> = layout.heading_parts(s).iter().map(|p| plain(p)).collect();
            let mark = layout.heading_mark(s).map(|m| format!("<sup>{m}</sup>"));
            parts.join("<br>") + &mark.unwrap_or_default()
        })
        .collect();
    writeln!(out, "| {} |", headings.join(" | "))?;
    let rules: Vec<&str> =
        layout.slots.iter().map(|&s| if layout.is_right(s) { "---:" } else { ":---" }).collect();
    writeln!(out, "| {} |", rules.join(" | "))?;
    for row in layout.rows.iter() {
        let mut cells = Vec::with_capacity(layout.slots.len());
        for &slot in &layout.slots {
            let mut cell = String::new();
            layout.push_read(&mut cell, row, slot);
            let mut cell = plain(&cell);
            if layout.is_total(row.line) && !cell.is_empty() {
                cell = format!("**{cell}**");
            }
            if let Some(mark) = layout.mark(row, slot) {
                cell.push_str(&format!("<sup>{mark}</sup>"));
            }
            if let Some((from, to)) = layout.bar(row, slot).filter(|_| layout.has_bars(slot)) {
                cell.push_str(&format!(" {}", bar_text(from, to)));
            }
            if let Some(trend) = layout.trend(row, slot) {
                cell.push_str(&format!(" {}", trend_text(&trend)));
            }
            if let Some(shade) = layout.shade(row, slot).filter(|_| layout.has_shades(slot)) {
                cell.push_str(&format!(" {}", heat_text(shade)));
            }
            cells.push(cell);
        }
        writeln!(out, "| {} |", cells.join(" | "))?;
    }
    for (i, note) in grid.notes.iter().enumerate() {
        writeln!(out, "\n<sup>{}</sup> {}", i + 1, plain(note))?;
    }
    Ok(())
}
