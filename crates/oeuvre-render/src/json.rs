//! JSON and JSON Lines. Exact numbers are written with all their digits; missing is `null`.
//!
//! A table is `{"columns": …, "lines": [{"role": …, "cells": {name: value}}], "notes": …, "ledger": …}`, so
//! that no name of ours meets that of a column. A line's cells are named as its columns; the keys that a
//! total sums over are absent. A column along the top says in `under` which labels it stands under; where it
//! totals, `place` says what it is, and the keys that it sums over are absent there, too. A detail has `rows`,
//! flat objects, in place of `lines`. JSON Lines are the lines, or the rows, one object each.

use crate::layout::{Layout, Row, Slot};
use crate::look::Look;
use oeuvre_core::{Grid, Kind, Ledger, LineKind, Value};
use std::io::{self, Write};

fn string(text: &str) -> String {
    serde_json::Value::from(text).to_string()
}

fn json_value(value: &Value) -> String {
    match value {
        Value::Missing => "null".to_owned(),
        Value::Number(_) | Value::Float(_) | Value::Boolean(_) => value.to_string(),
        other => string(&other.to_string()),
    }
}

fn kind_name(kind: Kind) -> &'static str {
    match kind {
        Kind::Number { .. } | Kind::Float => "number",
        Kind::Nothing => "none",
        Kind::Text => "text",
        Kind::Boolean => "boolean",
        Kind::Date => "date",
        Kind::DateTime => "datetime",
        Kind::Period(unit) => unit.name(),
        Kind::Part(part) => part.name(),
        Kind::Band(_) => "range",
    }
}

/// What a line is.
fn role(kind: LineKind) -> &'static str {
    match kind {
        LineKind::Group => "line",
        LineKind::Subtotal => "subtotal",
        LineKind::Grand => "total",
        LineKind::Rest => "rest",
    }
}

/// What a position along the top is, where it is no group.
fn place(kind: LineKind) -> String {
    match kind {
        LineKind::Group => String::new(),
        kind => format!("\"place\":\"{}\",", role(kind)),
    }
}

/// The cells of a line by their columns' names.
fn cells(layout: &Layout<'_>, row: Row) -> String {
    let mut parts = Vec::new();
    for (i, &slot) in layout.slots.iter().enumerate() {
        let value = match slot {
            Slot::Result(_) => layout.raw(row, slot),
            _ => match layout.label(row, slot) {
                Some(label) => label,
                None => continue,
            },
        };
        parts.push(format!("{}:{}", string(layout.heading(i)), json_value(&value)));
    }
    format!("{{{}}}", parts.join(","))
}

fn object(layout: &Layout<'_>, row: Row) -> String {
    let cells = cells(layout, row);
    if layout.grid.of_rows {
        return cells;
    }
    let role = role(layout.grid.lines[row.line].kind);
    let place = match layout.is_long() {
        true => place(layout.grid.positions[row.position].kind),
        false => String::new(),
    };
    format!("{{\"role\":\"{role}\",{place}\"cells\":{cells}}}")
}

/// Where a column stands, and under which labels, where the table has keys along the top.
fn under(layout: &Layout<'_>, column: usize) -> (String, String) {
    let grid = layout.grid;
    if grid.across.is_empty() || layout.is_long() {
        return (String::new(), String::new());
    }
    let column = &grid.columns[column];
    let labels: Vec<String> = grid
        .across
        .iter()
        .enumerate()
        .filter_map(|(k, key)| {
            let label = grid.position_label(column.position, k)?;
            Some(format!("{}:{}", string(&key.name), json_value(&label)))
        })
        .collect();
    let result = string(&column.heading);
    let under = format!(",\"result\":{result},\"under\":{{{}}}", labels.join(","));
    (place(grid.positions[column.position].kind), under)
}

pub(crate) fn write(
    grid: &Grid,
    look: &Look,
    ledger: &Ledger,
    with_ledger: bool,
    out: &mut dyn Write,
) -> io::Result<()> {
    let layout = Layout::new(grid, look);
    let columns: Vec<String> = layout
        .slots
        .iter()
        .enumerate()
        .map(|(i, &slot)| {
            let (role, (place, under)) = match slot {
                Slot::Result(column) => ("result", under(&layout, column)),
                _ => ("key", Default::default()),
            };
            let (name, kind) = (string(layout.heading(i)), kind_name(layout.kind(slot)));
            format!("{{\"name\":{name},\"role\":\"{role}\",{place}\"kind\":\"{kind}\"{under}}}")
        })
        .collect();
    writeln!(out, "{{\"columns\":[{}],", columns.join(","))?;
    write!(out, "\"{}\":[", if grid.of_rows { "rows" } else { "lines" })?;
    for (i, &row) in layout.rows.iter().enumerate() {
        let comma = if i + 1 < layout.rows.len() { "," } else { "" };
        write!(out, "\n{}{comma}", object(&layout, row))?;
    }
    write!(out, "]")?;
    if !grid.notes.is_empty() {
        write!(out, ",\n\"notes\":[{}]", strings(&grid.notes))?;
    }
    if with_ledger {
        let entries: Vec<String> = ledger
            .entries()
            .iter()
            .map(|e| {
                let (label, detail) = (string(&e.label), string(&e.detail));
                format!("{{\"entry\":{label},\"count\":{},\"detail\":{detail}}}", e.count)
            })
            .collect();
        let (entries, remarks) = (entries.join(","), strings(&ledger.remarks));
        write!(out, ",\n\"ledger\":{{\"entries\":[{entries}],\"remarks\":[{remarks}]}}")?;
    }
    writeln!(out, "}}")
}

fn strings(texts: &[String]) -> String {
    texts.iter().map(|t| string(t)).collect::<Vec<_>>().join(",")
}

pub(crate) fn write_lines(grid: &Grid, look: &Look, out: &mut dyn Write) -> io::Result<()> {
    let layout = Layout::new(grid, look);
    for &row in &layout.rows {
        writeln!(out, "{}", object(&layout, row))?;
    }
    Ok(())
}
