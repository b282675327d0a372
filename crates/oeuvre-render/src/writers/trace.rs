//! A traced cell for reading: its values, the ways to them, the cells that entered, and its rows.

use super::page;
use crate::Settings;
use crate::cells::{escape_controls, grouped};
use crate::style::Style;
use oeuvre_columns::{Kind, Value};
use oeuvre_core::{Grid, LineKind, Trace};
use std::io::{self, Write};

/// Writes a traced cell, with at most `most` rows.
pub(super) fn write(
    trace: &Trace,
    settings: Settings<'_>,
    most: usize,
    out: &mut dyn Write,
) -> io::Result<()> {
    let at: Vec<String> = trace.at.iter().map(|(key, label)| format!("{key} = {label}")).collect();
    let place = if at.is_empty() {
        "over all rows counted".to_owned()
    } else {
        format!("at {}", at.join(", "))
    };
    let read = |value: &Value, kind: Kind, share: bool| {
        let grid = Grid::of_one("", kind, share, value);
        let mut text = String::new();
        let style = Style::default();
        let layout = crate::layout::Layout::new(&grid, &style);
        layout.push_read(&mut text, layout.rows.at(0), layout.slots[0]);
        if text.is_empty() { "(missing)".to_owned() } else { text }
    };
    let rows = trace.rows.lines.len();
    let rows_text =
        if rows == 1 { "1 row".to_owned() } else { format!("{} rows", grouped(rows as u64)) };
    for result in &trace.results {
        let calc = escape_controls(&result.heading);
        let title = format!("{calc} {}", escape_controls(&place));
        writeln!(out, "{title}")?;
        let mut lines = Vec::new();
        let said = if trace.shown { "in the table" } else { "on its line, which is left out" };
        let own = matches!(result.parts.as_slice(), [one] if result.entered.is_empty() && one.in_table == result.in_table);
        lines.push((
            said.to_owned(),
            read(&result.in_table, result.kind, result.share),
            String::new(),
        ));
        for part in &result.parts {
            let says =
                if part.agrees() { "agrees" } else { "differs: this is a mistake of the program" };
            let value = read(&part.from_rows, part.kind, result.share && own);
            if own {
                lines.push((format!("from its {rows_text}"), value, says.to_owned()));
            } else {
                let label = format!("{} from its {rows_text}", escape_controls(&part.calc));
                let table = read(&part.in_table, part.kind, false);
                lines.push((label, value, format!("{says} with {table} in the table")));
            }
        }
        let wide = lines.iter().map(|l| l.0.chars().count()).max().unwrap_or(0);
        let figures = lines.iter().map(|l| l.1.chars().count()).max().unwrap_or(0);
        for (label, value, says) in &lines {
            writeln!(
                out,
                "{}",
                format!("    {label:<wide$}  {value:>figures$}  {says}").trim_end()
            )?;
        }
        for entered in &result.entered {
            writeln!(out, "  cells that entered {}", escape_controls(&entered.calc))?;
            let mut table = Vec::new();
            let (cells, left_out) = first(&entered.cells, most);
            page::write(&cells, &Style::default(), settings.text, &mut table)?;
            indent(&table, out)?;
            note_left_out(&entered.cells, left_out, "cells", "more: --first N", out)?;
        }
        writeln!(out)?;
    }
    writeln!(out, "its {rows_text}")?;
    let (shown, left_out) = first(&trace.rows, most);
    let mut table = Vec::new();
    page::write(&shown, settings.style, settings.text, &mut table)?;
    indent(&table, out)?;
    note_left_out(&trace.rows, left_out, "rows", "all: --as csv", out)
}

fn indent(table: &[u8], out: &mut dyn Write) -> io::Result<()> {
    for line in String::from_utf8_lossy(table).lines() {
        writeln!(out, "{}", format!("    {line}").trim_end())?;
    }
    Ok(())
}

fn note_left_out(
    of: &Grid,
    left_out: usize,
    what: &str,
    how: &str,
    out: &mut dyn Write,
) -> io::Result<()> {
    if left_out == 0 {
        return Ok(());
    }
    let all = of.lines.len();
    let (shown, all) = (grouped((all - left_out) as u64), grouped(all as u64));
    writeln!(out, "    {shown} of {all} {what} shown; {how}")
}

/// The first lines of a grid of groups, and how many there are more.
fn first(grid: &Grid, most: usize) -> (Grid, usize) {
    let n = grid.lines.len().min(most);
    let rows: Vec<u32> = (0..n as u32).collect();
    let mut out = grid.clone();
    debug_assert!(grid.lines.iter().all(|l| l.kind == LineKind::Group));
    out.lines.truncate(n);
    out.labels = grid.labels.iter().map(|c| c.gather(&rows)).collect();
    for (column, whole) in out.columns.iter_mut().zip(&grid.columns) {
        column.cells = whole.cells.gather(&rows).into();
    }
    (out, grid.lines.len() - n)
}
