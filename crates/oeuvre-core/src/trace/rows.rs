//! The rows of a cell: found by their keys in a pass of their own, as a grid and as a source.

use super::cell::Cell;
use super::column;
use crate::error::Error;
use crate::grid::{Grid, Line, LineKind, Lines, ResultColumn};
use crate::grouping::GroupStates;
use crate::pass::{Consumer, Pass, RowWork, Share};
use crate::plan::Plan;
use crate::table::Table;
use oeuvre_columns::Limits;
use oeuvre_columns::Source;
use oeuvre_columns::column::dictionary::{Dictionary, MISSING_CODE};
use oeuvre_columns::column::{Batch, Column, Data};
use oeuvre_columns::value::{Kind, Value};
use oeuvre_columns::{ColumnInfo, InMemory};
use std::collections::HashSet;

/// For a rest, the labels down the side of the groups that it stands for, as one text a group.
pub(super) fn hidden_labels(
    plan: &Plan,
    gathered: &GroupStates,
    table: &Table,
    cell: &Cell,
    number: u32,
) -> Option<HashSet<String>> {
    let members = table.lines.members.as_ref().filter(|_| cell.rest)?;
    let codes = gathered.grouper.key_codes();
    let columns: Vec<Column> = plan.keys()[..plan.by_keys]
        .iter()
        .zip(&gathered.grouper.codes)
        .map(|(key, of)| of.column(key.kind, 0..of.len() as u32))
        .collect();
    let label = |group: usize| {
        let keys = plan.keys().iter().zip(&columns).zip(&codes);
        row_label(
            keys.map(|((key, column), codes)| column.value(key.kind, codes.at(group) as usize)),
        )
    };
    let groups = members.of_group.iter().enumerate();
    Some(groups.filter(|(_, n)| **n == number).map(|(group, _)| label(group)).collect())
}

/// Labels as one text that no other labels have.
fn row_label(values: impl Iterator<Item = Value>) -> String {
    let mut out = String::new();
    for value in values {
        let text = value.to_string();
        out.push_str(&format!("{}{}:{text}", u8::from(value.is_missing()), text.len()));
    }
    out
}

/// The rows of a cell, as a consumer of a pass.
struct Find<'a> {
    plan: &'a Plan,
    /// The columns that the plan needs, and behind them where the rows stand.
    columns: Vec<usize>,
    cell: &'a Cell,
    hidden: Option<&'a HashSet<String>>,
}

/// The rows of the cell that a worker has seen.
struct CellRows {
    rows: RowWork,
    /// The piece, and the columns with their texts.
    chunks: Vec<(u64, Vec<Column>)>,
}

impl Share for CellRows {
    fn absorb(&mut self, other: CellRows, _: usize) -> Result<(), Error> {
        self.chunks.extend(other.chunks);
        Ok(())
    }
}

impl Consumer for Find<'_> {
    type Share = CellRows;

    fn columns(&self) -> &[usize] {
        &self.columns
    }

    fn limits(&self) -> Limits {
        self.plan.limits()
    }

    fn share(&self) -> CellRows {
        CellRows { rows: RowWork::new(self.plan).keeping_all(), chunks: Vec::new() }
    }

    fn take(&self, share: &mut CellRows, batch: &mut Batch) -> Result<(), Error> {
        let Some(selected) = share.rows.select(self.plan, batch)? else { return Ok(()) };
        let keys = self.plan.keys();
        let columns: Vec<&Column> = keys.iter().map(|k| selected.column(k.operand)).collect();
        let label = |key: usize, row: usize| columns[key].value(keys[key].kind, row);
        let is_of_cell = |row: usize| {
            let mut side = (0..self.plan.by_keys).map(|key| label(key, row));
            self.cell.keys.iter().all(|(key, wanted)| label(*key, row) == *wanted)
                && self.hidden.is_none_or(|h| h.contains(&row_label(&mut side)))
        };
        let rows = (0..selected.batch.rows).filter(|&r| is_of_cell(r)).map(|r| r as u32);
        let rows: Vec<u32> = rows.collect();
        if !rows.is_empty() {
            let columns = selected.batch.columns.iter().map(|c| picked(c, &rows)).collect();
            share.chunks.push((selected.batch.piece, columns));
        }
        Ok(())
    }
}

/// Some values of a column with their own few texts, so that the reader's are not copied.
fn picked(column: &Column, rows: &[u32]) -> Column {
    let mut data = column.data.gather(rows);
    let mut texts = Dictionary::default();
    if let Data::Codes(codes) = &mut data {
        for code in codes.iter_mut().filter(|c| **c != MISSING_CODE) {
            *code = texts.intern(column.dictionary.text(*code));
        }
    }
    Column::coded(data, texts)
}

/// The rows with these labels, as a grid and as a source of their own.
pub(super) fn rows(
    plan: &Plan,
    source: &dyn Source,
    threads: usize,
    cell: &Cell,
    hidden: Option<&HashSet<String>>,
) -> Result<(Grid, InMemory), Error> {
    let locations = source.location_columns();
    let used = plan.inputs.len();
    let columns = plan.inputs.iter().copied().chain(locations.iter().map(|c| c.place)).collect();
    let find = Find { plan, columns, cell, hidden };
    let mut chunks = Pass::over(source, threads).serve(&find)?.share.chunks;
    chunks.sort_by_key(|c| c.0);
    let infos = source.columns();
    let mut of_inputs: Vec<ColumnInfo> = plan.inputs.iter().map(|&i| infos[i].clone()).collect();
    for (place, column) in locations.iter().enumerate() {
        let kind = if place == 0 { Kind::Text } else { Kind::Number { scale: 0 } };
        of_inputs.push(ColumnInfo::new(column.heading, kind));
    }
    let columns: Vec<Column> =
        of_inputs.iter().enumerate().map(|(i, info)| joined(&chunks, i, info.kind)).collect();
    let rows = columns.first().map_or(0, |c| c.data.len());
    // File and line first, then the columns as they were used.
    let order = (used..columns.len()).chain(0..used);
    let shown = order.enumerate().map(|(place, i)| ResultColumn {
        plain: true,
        ..column(of_inputs[i].name.clone(), of_inputs[i].kind, place, columns[i].clone())
    });
    let grid = Grid {
        of_rows: true,
        lines: Lines::same(Line { kind: LineKind::Group, depth: 0 }, rows),
        positions: Lines::same(Line { kind: LineKind::Group, depth: 0 }, 1),
        columns: shown.collect(),
        ..Grid::default()
    };
    let data = plan.inputs.iter().copied().zip(columns);
    Ok((grid, InMemory::new(infos, rows, data)))
}

/// A column of all chunks, in their order.
fn joined(chunks: &[(u64, Vec<Column>)], column: usize, kind: Kind) -> Column {
    let mut out = Column::from(Data::empty(kind));
    for (_, chunk) in chunks {
        for row in 0..chunk[column].data.len() {
            out.push(kind, &chunk[column].value(kind, row));
        }
    }
    out
}
