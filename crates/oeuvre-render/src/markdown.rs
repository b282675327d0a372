//! A Markdown table (the pipe tables that CommonMark's extensions share).

use crate::layout::Layout;
use crate::ledger::ledger_sentence;
use oeuvre_core::{Grid, Ledger};
use std::io::{self, Write};

/// Signs that Markdown would take for its own, and HTML's, made plain.
fn plain(text: &str) -> String {
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

pub(crate) fn write(
    grid: &Grid,
    ledger: &Ledger,
    with_ledger: bool,
    out: &mut dyn Write,
) -> io::Result<()> {
    let layout = Layout::new(grid);
    let headings: Vec<String> = layout.slots.iter().map(|&s| plain(layout.heading(s))).collect();
    writeln!(out, "| {} |", headings.join(" | "))?;
    let rules: Vec<&str> =
        layout.slots.iter().map(|&s| if layout.is_right(s) { "---:" } else { ":---" }).collect();
    writeln!(out, "| {} |", rules.join(" | "))?;
    for line in 0..grid.lines.len() {
        let mut cells = Vec::with_capacity(layout.slots.len());
        for &slot in &layout.slots {
            let mut cell = String::new();
            layout.push_read(&mut cell, line, slot);
            let mut cell = plain(&cell);
            if !layout.is_group(line) && !cell.is_empty() {
                cell = format!("**{cell}**");
            }
            if let Some(mark) = layout.mark(line, slot) {
                cell.push_str(&format!("<sup>{mark}</sup>"));
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
    }
    Ok(())
}
