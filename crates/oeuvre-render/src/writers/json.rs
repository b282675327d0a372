//! JSON and JSON Lines. Exact numbers are written with all their digits; missing is `null`.
//!
//! A table is `{"columns": …, "lines": [{"role": …, "cells": {name: value}}], "notes": …, "ledger": …}`, so
//! that no name of ours meets that of a column. A line's cells are named as its columns; the keys that a
//! total sums over are absent. A column along the top says in `under` which labels it stands under; where it
//! totals, `place` says what it is, and the keys that it sums over are absent there, too. A detail has `rows`,
//! flat objects, in place of `lines`. JSON Lines are the lines, or the rows, one object each.

use super::{PartWriter, Writer};
use crate::Settings;
use crate::layout::{Layout, Row, Slot};
use crate::ledger::notes;
use crate::style::Style;
use oeuvre_columns::{Kind, Value};
use oeuvre_core::{Entry, Grid, Ledger, LineKind};
use serde::ser::{SerializeMap, SerializeSeq};
use serde::{Serialize, Serializer};
use serde_json::Number;
use serde_json::ser::Formatter;
use std::io::{self, Write};

/// One JSON object (RFC 8259).
pub(super) struct Json;

impl Writer for Json {
    fn name(&self) -> &'static str {
        "json"
    }
    fn endings(&self) -> &'static [&'static str] {
        &["json"]
    }
    fn write(
        &self,
        grid: &Grid,
        ledger: &Ledger,
        settings: Settings<'_>,
        out: &mut dyn Write,
    ) -> io::Result<()> {
        let layout = Layout::new(grid, settings.style);
        let ledger = settings.with_ledger.then_some(ledger);
        let document = Document { layout: &layout, ledger };
        let mut writer = serde_json::Serializer::with_formatter(&mut *out, Lined::default());
        document.serialize(&mut writer)?;
        writeln!(out)
    }
}

/// One JSON object a line.
pub(super) struct Lines;

impl Writer for Lines {
    fn name(&self) -> &'static str {
        "jsonl"
    }
    fn endings(&self) -> &'static [&'static str] {
        &["jsonl", "ndjson"]
    }
    fn write(
        &self,
        grid: &Grid,
        _: &Ledger,
        settings: Settings<'_>,
        out: &mut dyn Write,
    ) -> io::Result<()> {
        self.lines(grid, settings.style, out)
    }
    fn parts(&self) -> Option<&dyn PartWriter> {
        Some(self)
    }
}

impl PartWriter for Lines {
    fn headings(&self, _: &[&str], _: &Style, _: &mut dyn Write) -> io::Result<()> {
        Ok(())
    }

    fn lines(&self, grid: &Grid, style: &Style, out: &mut dyn Write) -> io::Result<()> {
        let layout = Layout::new(grid, style);
        for &row in &layout.rows {
            serde_json::to_writer(&mut *out, &Line { layout: &layout, row })?;
            writeln!(out)?;
        }
        Ok(())
    }
}

/// Each member of the object, and each line of the table, on a line of its own: for those who read it in an
/// editor, and compare two of them line by line.
#[derive(Default)]
struct Lined {
    depth: usize,
    members: usize,
}

impl Lined {
    /// The member of the document that holds the lines, counted from 1.
    const LINES: usize = 2;
}

impl Formatter for Lined {
    fn begin_object<W: ?Sized + Write>(&mut self, out: &mut W) -> io::Result<()> {
        self.depth += 1;
        out.write_all(b"{")
    }

    fn end_object<W: ?Sized + Write>(&mut self, out: &mut W) -> io::Result<()> {
        self.depth -= 1;
        out.write_all(b"}")
    }

    fn begin_object_key<W: ?Sized + Write>(&mut self, out: &mut W, first: bool) -> io::Result<()> {
        self.members += usize::from(self.depth == 1);
        match (first, self.depth) {
            (true, _) => Ok(()),
            (false, 1) => out.write_all(b",\n"),
            (false, _) => out.write_all(b","),
        }
    }

    fn begin_array<W: ?Sized + Write>(&mut self, out: &mut W) -> io::Result<()> {
        self.depth += 1;
        out.write_all(b"[")
    }

    fn end_array<W: ?Sized + Write>(&mut self, out: &mut W) -> io::Result<()> {
        self.depth -= 1;
        out.write_all(b"]")
    }

    fn begin_array_value<W: ?Sized + Write>(&mut self, out: &mut W, first: bool) -> io::Result<()> {
        let between: &[u8] = if first { b"" } else { b"," };
        out.write_all(between)?;
        match (self.depth, self.members) {
            (2, Lined::LINES) => out.write_all(b"\n"),
            _ => Ok(()),
        }
    }
}

/// The whole document.
struct Document<'a> {
    layout: &'a Layout<'a>,
    ledger: Option<&'a Ledger>,
}

impl Serialize for Document<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let (layout, grid) = (self.layout, self.layout.grid);
        let mut map = to.serialize_map(None)?;
        let columns: Vec<Column<'_>> =
            (0..layout.slots.len()).map(|at| Column { layout, at }).collect();
        map.serialize_entry("columns", &columns)?;
        map.serialize_entry(if grid.of_rows { "rows" } else { "lines" }, &AllLines(layout))?;
        if !grid.notes.is_empty() {
            map.serialize_entry("notes", &grid.notes)?;
        }
        if let Some(ledger) = self.ledger {
            map.serialize_entry("ledger", &Account(ledger))?;
        }
        map.end()
    }
}

/// All lines, one after the other.
struct AllLines<'a>(&'a Layout<'a>);

impl Serialize for AllLines<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let mut list = to.serialize_seq(Some(self.0.rows.len()))?;
        for &row in &self.0.rows {
            list.serialize_element(&Line { layout: self.0, row })?;
        }
        list.end()
    }
}

/// A value; exact numbers keep all their digits.
struct Cell<'a>(&'a Value);

impl Serialize for Cell<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        match self.0 {
            Value::Missing => to.serialize_unit(),
            Value::Boolean(b) => to.serialize_bool(*b),
            Value::Number(_) | Value::Float(_) => match self.0.to_string().parse::<Number>() {
                Ok(number) => number.serialize(to),
                Err(_) => to.collect_str(self.0),
            },
            other => to.collect_str(other),
        }
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
        Kind::RowNumber => "row",
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
fn place(kind: LineKind) -> Option<&'static str> {
    (kind != LineKind::Group).then(|| role(kind))
}

/// The cells of a line by their columns' names.
struct Cells<'a> {
    layout: &'a Layout<'a>,
    row: Row,
}

impl Serialize for Cells<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let layout = self.layout;
        let mut map = to.serialize_map(None)?;
        for (i, &slot) in layout.slots.iter().enumerate() {
            let value = match slot {
                Slot::Result(_) => layout.raw(self.row, slot),
                _ => match layout.label(self.row, slot) {
                    Some(label) => label,
                    None => continue,
                },
            };
            map.serialize_entry(layout.heading(i), &Cell(&value))?;
        }
        map.end()
    }
}

/// A line of the table, or a row.
struct Line<'a> {
    layout: &'a Layout<'a>,
    row: Row,
}

impl Serialize for Line<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let (layout, row) = (self.layout, self.row);
        let cells = Cells { layout, row };
        if layout.grid.of_rows {
            return cells.serialize(to);
        }
        let mut map = to.serialize_map(None)?;
        map.serialize_entry("role", role(layout.grid.lines[row.line].kind))?;
        let position = layout.is_long().then(|| layout.grid.positions[row.position].kind);
        if let Some(place) = position.and_then(place) {
            map.serialize_entry("place", place)?;
        }
        map.serialize_entry("cells", &cells)?;
        map.end()
    }
}

/// What a column is; of one along the top also under which labels it stands.
struct Column<'a> {
    layout: &'a Layout<'a>,
    at: usize,
}

impl Serialize for Column<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let layout = self.layout;
        let (slot, grid) = (layout.slots[self.at], layout.grid);
        // In a long table a slot stands for the result at every position, of which there may be none.
        let along_the_top = !grid.across.is_empty() && !layout.is_long();
        let under = match slot {
            Slot::Result(column) if along_the_top => Some(&grid.columns[column]),
            _ => None,
        };
        let role = if matches!(slot, Slot::Result(_)) { "result" } else { "key" };
        let mut map = to.serialize_map(None)?;
        map.serialize_entry("name", layout.heading(self.at))?;
        map.serialize_entry("role", role)?;
        if let Some(place) = under.and_then(|c| place(grid.positions[c.position].kind)) {
            map.serialize_entry("place", place)?;
        }
        map.serialize_entry("kind", kind_name(layout.kind(slot)))?;
        if let Some(column) = under {
            map.serialize_entry("result", &column.heading)?;
            map.serialize_entry("under", &Under { grid, position: column.position })?;
        }
        map.end()
    }
}

/// The labels that a position along the top stands under.
struct Under<'a> {
    grid: &'a Grid,
    position: usize,
}

impl Serialize for Under<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let mut map = to.serialize_map(None)?;
        for (k, key) in self.grid.across.iter().enumerate() {
            if let Some(label) = self.grid.position_label(self.position, k) {
                map.serialize_entry(&key.name, &Cell(&label))?;
            }
        }
        map.end()
    }
}

/// The ledger.
struct Account<'a>(&'a Ledger);

impl Serialize for Account<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let mut map = to.serialize_map(None)?;
        let entries: Vec<Entered> = self.0.entries().into_iter().map(Entered).collect();
        map.serialize_entry("entries", &entries)?;
        if !self.0.checks.is_empty() {
            let checks: Vec<Known<'_>> = self.0.checks.iter().map(Known).collect();
            map.serialize_entry("checks", &checks)?;
        }
        map.serialize_entry("notes", &notes(self.0).collect::<Vec<_>>())?;
        map.end()
    }
}

/// A check.
struct Known<'a>(&'a oeuvre_core::Checked);

impl Serialize for Known<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let mut map = to.serialize_map(None)?;
        map.serialize_entry("that", &self.0.that)?;
        map.serialize_entry("found", &Cell(&self.0.found))?;
        map.serialize_entry("wanted", &Cell(&self.0.wanted))?;
        map.serialize_entry("difference", &Cell(&self.0.difference))?;
        map.serialize_entry("holds", &self.0.holds)?;
        map.end()
    }
}

/// An entry of the ledger.
struct Entered(Entry);

impl Serialize for Entered {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let mut map = to.serialize_map(None)?;
        map.serialize_entry("entry", &self.0.label)?;
        map.serialize_entry("count", &self.0.count)?;
        map.serialize_entry("detail", &self.0.detail)?;
        map.end()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::TextSettings;
    use crate::testing::{pivot, table};
    use oeuvre_core::{Request, Totals};

    fn written(request: &Request) -> String {
        let rows = [["SKE", "2025-01-01", "12.50", "0.5"], ["x\"y", "2024-01-01", "", "1e300"]];
        let (grid, ledger) = table(&rows, request);
        let (style, mut out) = (Style::default(), Vec::new());
        let format = "json".parse().unwrap();
        let settings =
            Settings { style: &style, format, text: TextSettings::default(), with_ledger: false };
        Json.write(&grid, &ledger, settings, &mut out).unwrap();
        String::from_utf8(out).unwrap()
    }

    /// A line of the table is a line of the file, so that two files are compared line by line.
    #[test]
    fn a_document_says_what_each_line_is() {
        let request =
            Request { totals: Totals::Grand, ..Request::of(&["k"], &["sum(x)", "sum(f)"]) };
        let text = written(&request);
        let lines: Vec<&str> = text.lines().filter(|l| l.contains("\"role\":\"")).collect();
        assert!(
            text.contains(r#"{"role":"line","cells":{"k":"SKE","sum(x)":12.50,"sum(f)":0.5}}"#),
            "{text}"
        );
        assert!(
            text.contains(r#""k":"x\"y","sum(x)":null,"sum(f)":1e300}"#) || text.contains("1e+300"),
            "{text}"
        );
        assert!(text.contains(r#"{"role":"total","cells":{"sum(x)":12.50"#), "{text}");
        assert!(lines.len() >= 3, "{text}");
    }

    #[test]
    fn a_column_along_the_top_says_what_it_stands_under() {
        let text =
            written(&Request { totals: Totals::Grand, ..pivot(&["k"], "year(d)", &["sum(x)"]) });
        assert!(text.contains(r#""under":{"year(d)":"2025"}"#), "{text}");
        assert!(text.contains(r#""place":"total""#), "{text}");
    }
}
