//! A Markdown table (the pipe tables that CommonMark's extensions share).
//!
//! Such a table has one line of headings and no other structure: labels along the top are broken inside their
//! heading, totals are bold, notes stand below. What a cell holds cannot become markup.

use super::Writer;
use crate::Settings;
use crate::cells::escape_controls;
use crate::draw::{bar_text, heat_text};
use crate::layout::Layout;
use crate::ledger::{self, ledger_sentence};
use crate::style::Style;
use oeuvre_core::{Grid, Ledger};
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
    fn name(&self) -> &'static str {
        "markdown"
    }
    fn endings(&self) -> &'static [&'static str] {
        &["md", "markdown"]
    }
    fn is_for_reading(&self) -> bool {
        true
    }
    fn write(
        &self,
        grid: &Grid,
        ledger: &Ledger,
        settings: Settings<'_>,
        out: &mut dyn Write,
    ) -> io::Result<()> {
        write(grid, settings.style, ledger, settings.with_ledger, out)
    }
}

fn write(
    grid: &Grid,
    style: &Style,
    ledger: &Ledger,
    with_ledger: bool,
    out: &mut dyn Write,
) -> io::Result<()> {
    let layout = Layout::new(grid, style);
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
    for &row in &layout.rows {
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
    if with_ledger {
        writeln!(out, "\n{}", plain(&ledger_sentence(ledger)))?;
        let mut notes = ledger::notes(ledger).peekable();
        if notes.peek().is_some() || !ledger.checks.is_empty() {
            writeln!(out)?;
        }
        for check in &ledger.checks {
            writeln!(out, "- {}", plain(&ledger::check_line(check)))?;
        }
        for note in notes {
            writeln!(out, "- {}", plain(note))?;
        }
    }
    Ok(())
}
