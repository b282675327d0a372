//! JSON and JSON Lines. Exact numbers are written with all their digits; missing is `null`.
//!
//! On total lines the keys that they sum over are absent, and `line` says what the line is.

use crate::layout::{Layout, Slot};
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

fn row(layout: &Layout<'_>, line: usize) -> String {
    let mut parts = Vec::new();
    match layout.grid.lines[line].kind {
        LineKind::Group => {}
        LineKind::Subtotal => parts.push("\"line\":\"subtotal\"".to_owned()),
        LineKind::Grand => parts.push("\"line\":\"total\"".to_owned()),
    }
    for &slot in &layout.slots {
        let value = match slot {
            Slot::Key(k) => match layout.grid.label(line, k) {
                Some(label) => label,
                None => continue,
            },
            Slot::Result(r) => layout.grid.cell(line, r),
        };
        parts.push(format!("{}:{}", string(layout.heading(slot)), json_value(&value)));
    }
    format!("{{{}}}", parts.join(","))
}

pub(crate) fn write(
    grid: &Grid,
    ledger: &Ledger,
    with_ledger: bool,
    out: &mut dyn Write,
) -> io::Result<()> {
    let layout = Layout::new(grid);
    let columns: Vec<String> = layout
        .slots
        .iter()
        .map(|&slot| {
            let role = if matches!(slot, Slot::Key(_)) { "key" } else { "result" };
            let (name, kind) = (string(layout.heading(slot)), kind_name(layout.kind(slot)));
            format!("{{\"name\":{name},\"role\":\"{role}\",\"kind\":\"{kind}\"}}")
        })
        .collect();
    writeln!(out, "{{\"columns\":[{}],", columns.join(","))?;
    write!(out, "\"rows\":[")?;
    for line in 0..grid.lines.len() {
        let comma = if line + 1 < grid.lines.len() { "," } else { "" };
        write!(out, "\n{}{comma}", row(&layout, line))?;
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

pub(crate) fn write_lines(grid: &Grid, out: &mut dyn Write) -> io::Result<()> {
    let layout = Layout::new(grid);
    for line in 0..grid.lines.len() {
        writeln!(out, "{}", row(&layout, line))?;
    }
    Ok(())
}
