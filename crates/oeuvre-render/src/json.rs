//! JSON and JSON Lines. Exact numbers are written with all their digits; missing is `null`.
//!
//! On total lines the keys that they sum over are absent, and `line` says what the line is. A column of a
//! table with keys along the top says in `columns` which labels it stands under; where it totals, the
//! keys that it sums over are absent there, too, and `position` says what it is.

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
        Kind::Text => "text",
        Kind::Boolean => "boolean",
        Kind::Date => "date",
        Kind::DateTime => "datetime",
        Kind::Period(unit) => unit.name(),
        Kind::Part(part) => part.name(),
        Kind::Band(_) => "range",
    }
}

/// What a line or a position is, where it is no group.
fn kind_of_line(kind: LineKind) -> Option<&'static str> {
    match kind {
        LineKind::Group => None,
        LineKind::Subtotal => Some("subtotal"),
        LineKind::Grand => Some("total"),
        LineKind::Rest => Some("rest"),
    }
}

fn object(layout: &Layout<'_>, row: Row) -> String {
    let mut parts = Vec::new();
    if let Some(kind) = kind_of_line(layout.grid.lines[row.line].kind) {
        parts.push(format!("\"line\":\"{kind}\""));
    }
    if layout.is_tidy()
        && let Some(kind) = kind_of_line(layout.grid.positions[row.position].kind)
    {
        parts.push(format!("\"position\":\"{kind}\""));
    }
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

/// The labels that a column stands under, where the table has keys along the top.
fn position(layout: &Layout<'_>, column: usize) -> String {
    let grid = layout.grid;
    if grid.across.is_empty() || layout.is_tidy() {
        return String::new();
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
    let mut out =
        format!(",\"result\":{},\"across\":{{{}}}", string(&column.heading), labels.join(","));
    if let Some(kind) = kind_of_line(grid.positions[column.position].kind) {
        out.push_str(&format!(",\"position\":\"{kind}\""));
    }
    out
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
            let (role, position) = match slot {
                Slot::Result(column) => ("result", position(&layout, column)),
                _ => ("key", String::new()),
            };
            let (name, kind) = (string(layout.heading(i)), kind_name(layout.kind(slot)));
            format!("{{\"name\":{name},\"role\":\"{role}\",\"kind\":\"{kind}\"{position}}}")
        })
        .collect();
    writeln!(out, "{{\"columns\":[{}],", columns.join(","))?;
    write!(out, "\"rows\":[")?;
    for (i, &row) in layout.rows.iter().enumerate() {
        let comma = if i + 1 < layout.rows.len() { "," } else { "" };
        write!(out, "\n{}{comma}", object(&layout, row))?;
    }
    write!(out, "]")?;
    if !grid.notes.is_empty() {
        let notes: Vec<String> = grid.notes.iter().map(|n| string(n)).collect();
        write!(out, ",\n\"notes\":[{}]", notes.join(","))?;
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
        write!(out, ",\n\"ledger\":[{}]", entries.join(","))?;
        if !ledger.remarks.is_empty() {
            let remarks: Vec<String> = ledger.remarks.iter().map(|r| string(r)).collect();
            write!(out, ",\n\"remarks\":[{}]", remarks.join(","))?;
        }
    }
    writeln!(out, "}}")
}

pub(crate) fn write_lines(grid: &Grid, look: &Look, out: &mut dyn Write) -> io::Result<()> {
    let layout = Layout::new(grid, look);
    for &row in &layout.rows {
        writeln!(out, "{}", object(&layout, row))?;
    }
    Ok(())
}
