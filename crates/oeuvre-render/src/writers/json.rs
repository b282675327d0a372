//! JSON and JSON Lines. Exact numbers are written with all their digits; missing is `null`.
//!
//! A table is `{"columns": …, "lines": [{"role": …, "cells": {name: value}}], "notes": …, "ledger": …}`, so
//! that no name of ours meets that of a column. A line's cells are named as its columns; the keys that a
//! total sums over are absent. A column along the top says in `under` which labels it stands under; where it
//! totals, `place` says what it is, and the keys that it sums over are absent there, too. A detail has `rows`,
//! flat objects, in place of `lines`. JSON Lines are the lines, or the rows, one object each.
//!
//! A report is `{"title": …, "parts": [{"name": …, "type": …, "columns": …, "lines": …}], "checks": …,
//! "ledger": …}`: each part as a table by itself, with its name.

use super::{FileType, PartWriter, Writer};
use crate::Settings;
use crate::document::{Account, Document, Part};
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
    fn file_type(&self) -> &FileType {
        const { &FileType::of("json", &["json"]) }
    }
    fn write(
        &self,
        document: &Document<'_>,
        settings: Settings<'_>,
        out: &mut dyn Write,
    ) -> io::Result<()> {
        let mut writer = serde_json::Serializer::with_formatter(&mut *out, Lined::default());
        match document.parts.as_slice() {
            [part] if !document.is_report => {
                let layout = Layout::new(part.grid, part.style);
                let ledger = settings.with_ledger.then_some(part.ledger);
                Table { layout: &layout, ledger }.serialize(&mut writer)?;
            }
            _ => Report { document, with_ledger: settings.with_ledger }.serialize(&mut writer)?,
        }
        writeln!(out)
    }
}

/// One JSON object a line.
pub(super) struct Lines;

impl Writer for Lines {
    fn file_type(&self) -> &FileType {
        const FILE_TYPE: FileType =
            FileType { holds_several: false, ..FileType::of("jsonl", &["jsonl", "ndjson"]) };
        &FILE_TYPE
    }
    fn write(
        &self,
        document: &Document<'_>,
        _: Settings<'_>,
        out: &mut dyn Write,
    ) -> io::Result<()> {
        document.parts.iter().try_for_each(|part| self.lines(part.grid, part.style, out))
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
        for row in layout.rows.iter() {
            serde_json::to_writer(&mut *out, &Line { layout: &layout, row })?;
            writeln!(out)?;
        }
        Ok(())
    }
}

/// Each member of the object, and each line of a table, on a line of its own: for those who read it in an
/// editor, and compare two of them line by line.
#[derive(Default)]
struct Lined {
    depth: usize,
    /// The name that is being written, or was last.
    name: String,
    in_name: bool,
    /// Of the lists that are open, whether each of their elements has a line of its own.
    lists: Vec<bool>,
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
        self.name.clear();
        self.in_name = true;
        match (first, self.depth) {
            (true, _) => Ok(()),
            (false, 1) => out.write_all(b",\n"),
            (false, _) => out.write_all(b","),
        }
    }

    fn end_object_key<W: ?Sized + Write>(&mut self, _: &mut W) -> io::Result<()> {
        self.in_name = false;
        Ok(())
    }

    fn write_string_fragment<W: ?Sized + Write>(
        &mut self,
        out: &mut W,
        text: &str,
    ) -> io::Result<()> {
        if self.in_name {
            self.name.push_str(text);
        }
        out.write_all(text.as_bytes())
    }

    fn begin_array<W: ?Sized + Write>(&mut self, out: &mut W) -> io::Result<()> {
        self.lists.push(matches!(self.name.as_str(), "lines" | "rows" | "parts" | "checks"));
        out.write_all(b"[")
    }

    fn end_array<W: ?Sized + Write>(&mut self, out: &mut W) -> io::Result<()> {
        self.lists.pop();
        out.write_all(b"]")
    }

    fn begin_array_value<W: ?Sized + Write>(&mut self, out: &mut W, first: bool) -> io::Result<()> {
        let between: &[u8] = if first { b"" } else { b"," };
        out.write_all(between)?;
        if self.lists.last() == Some(&true) { out.write_all(b"\n") } else { Ok(()) }
    }
}

/// A whole report.
struct Report<'a> {
    document: &'a Document<'a>,
    with_ledger: bool,
}

impl Serialize for Report<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let document = self.document;
        let mut map = to.serialize_map(None)?;
        map.serialize_entry("title", &document.title)?;
        for (key, words) in [("text", &document.text), ("stamp", &document.stamp)] {
            if let Some(words) = words {
                map.serialize_entry(key, words)?;
            }
        }
        let parts: Vec<PartOf<'_>> = document.parts.iter().map(PartOf).collect();
        map.serialize_entry("parts", &parts)?;
        let checks = document.checks.iter().map(|(name, check)| Known(name.as_deref(), check));
        map.serialize_entry("checks", &checks.collect::<Vec<_>>())?;
        if self.with_ledger {
            map.serialize_entry("ledger", &Accounts(document))?;
        }
        map.end()
    }
}

/// A part of a report.
struct PartOf<'a>(&'a Part<'a>);

impl Serialize for PartOf<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let part = self.0;
        let layout = Layout::new(part.grid, part.style);
        let mut map = to.serialize_map(None)?;
        map.serialize_entry("name", &part.name)?;
        map.serialize_entry("type", part.shows.name())?;
        if let Some(title) = &part.title {
            map.serialize_entry("title", title)?;
        }
        if let Some(text) = &part.text {
            map.serialize_entry("text", text)?;
        }
        serialize_table(&layout, &mut map)?;
        map.end()
    }
}

/// The ledger of a report: an account of each set of rows that parts counted, what each part shows, and all notes.
struct Accounts<'a>(&'a Document<'a>);

/// The account of the rows that some parts counted.
#[derive(Serialize)]
struct AccountOf {
    parts: Vec<String>,
    entries: Vec<Entered>,
}

/// What a part shows.
#[derive(Serialize)]
struct TableOf<'a> {
    part: &'a str,
    entries: Vec<Entered>,
}

/// A note, with the parts that it holds for where these are not all.
#[derive(Serialize)]
struct NoteOf<'a> {
    note: &'a str,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    parts: Vec<&'a str>,
}

impl Serialize for Accounts<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let document = self.0;
        let entered = |entries: Vec<Entry>| entries.into_iter().map(Entered).collect();
        let accounts = document.accounts();
        // Parts by their names, as everywhere here; what else counted these rows by what it is.
        let names = |account: &Account<'_>| -> Vec<String> {
            let parts = account.parts.iter().map(|p| p.name.clone());
            let headings: Vec<&str> = account.parts.iter().map(|p| p.heading()).collect();
            let others = account.names.iter().filter(|n| !headings.contains(n));
            parts.chain(others.map(|n| (*n).to_owned())).collect()
        };
        let accounts: Vec<AccountOf> = accounts
            .iter()
            .map(|a| AccountOf { parts: names(a), entries: entered(a.entries.clone()) })
            .collect();
        let table = |part: &'_ Part<'_>| entered(part.ledger.entries_of_table());
        let tables: Vec<TableOf<'_>> = document
            .parts
            .iter()
            .map(|part| TableOf { part: &part.name, entries: table(part) })
            .collect();
        let notes: Vec<NoteOf<'_>> =
            document.told().into_iter().map(|(note, parts)| NoteOf { note, parts }).collect();
        let mut map = to.serialize_map(None)?;
        map.serialize_entry("accounts", &accounts)?;
        map.serialize_entry("tables", &tables)?;
        map.serialize_entry("notes", &notes)?;
        map.end()
    }
}

/// A table by itself.
struct Table<'a> {
    layout: &'a Layout<'a>,
    ledger: Option<&'a Ledger>,
}

impl Serialize for Table<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let mut map = to.serialize_map(None)?;
        serialize_table(self.layout, &mut map)?;
        if let Some(ledger) = self.ledger {
            map.serialize_entry("ledger", &LedgerOf(ledger))?;
        }
        map.end()
    }
}

/// Adds the columns and the lines of a table to an object.
fn serialize_table<M: SerializeMap>(layout: &Layout<'_>, map: &mut M) -> Result<(), M::Error> {
    let grid = layout.grid;
    let columns: Vec<Column<'_>> =
        (0..layout.slots.len()).map(|at| Column { layout, at }).collect();
    map.serialize_entry("columns", &columns)?;
    map.serialize_entry(if grid.of_rows { "rows" } else { "lines" }, &AllLines(layout))?;
    if !grid.notes.is_empty() {
        map.serialize_entry("notes", &grid.notes)?;
    }
    Ok(())
}

/// All lines, one after the other.
struct AllLines<'a>(&'a Layout<'a>);

impl Serialize for AllLines<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let mut list = to.serialize_seq(Some(self.0.rows.len()))?;
        for row in self.0.rows.iter() {
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
struct LedgerOf<'a>(&'a Ledger);

impl Serialize for LedgerOf<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let mut map = to.serialize_map(None)?;
        let entries: Vec<Entered> = self.0.entries().into_iter().map(Entered).collect();
        map.serialize_entry("entries", &entries)?;
        if !self.0.checks.is_empty() {
            let checks: Vec<Known<'_>> = self.0.checks.iter().map(|c| Known(None, c)).collect();
            map.serialize_entry("checks", &checks)?;
        }
        map.serialize_entry("notes", &notes(self.0).collect::<Vec<_>>())?;
        map.end()
    }
}

/// A check, with its name where it has one.
struct Known<'a>(Option<&'a str>, &'a oeuvre_core::Checked);

impl Serialize for Known<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let mut map = to.serialize_map(None)?;
        if let Some(name) = self.0 {
            map.serialize_entry("name", name)?;
        }
        map.serialize_entry("that", &self.1.that)?;
        map.serialize_entry("found", &Cell(&self.1.found))?;
        map.serialize_entry("wanted", &Cell(&self.1.wanted))?;
        map.serialize_entry("difference", &Cell(&self.1.difference))?;
        map.serialize_entry("holds", &self.1.holds)?;
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
        let settings = Settings {
            style: &style,
            format,
            text: TextSettings::default(),
            with_ledger: false,
            beside: None,
            threads: 1,
        };
        Json.write(&Document::of_table(&grid, &ledger, &style), settings, &mut out).unwrap();
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
