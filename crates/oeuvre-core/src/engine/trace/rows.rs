//! The rows of a cell: found by their keys in a pass of their own, as a grid and as a source.

use super::super::assemble;
use super::super::worker::{Gathered, Worker};
use super::super::{Kept, read};
use super::cell::Cell;
use super::column;
use crate::error::Error;
use crate::grid::{Grid, Line, LineKind, ResultColumn};
use crate::plan::Plan;
use crate::request::Request;
use crate::rows::column::{Batch, Column, ColumnInfo, Data};
use crate::rows::dictionary::Dictionary;
use crate::source::{Account, Reader, Source};
use crate::value::{Kind, Value};
use std::collections::HashSet;

/// For a rest, the labels down the side of the groups that it stands for, as one text a group.
pub(super) fn hidden_labels(
    plan: &Plan,
    gathered: &Gathered,
    table: &assemble::Table,
    cell: &Cell,
    number: u32,
) -> Option<HashSet<String>> {
    let members = table.lines.members.as_ref().filter(|_| cell.rest)?;
    let codes = gathered.grouper.key_codes();
    let columns: Vec<Column> = plan.resolved.keys()[..plan.resolved.by_keys]
        .iter()
        .zip(&gathered.grouper.codes)
        .map(|(key, of)| of.column(key.kind, 0..of.len() as u32))
        .collect();
    let label = |group: usize| {
        let keys = plan.resolved.keys().iter().zip(&columns).zip(&codes);
        row_label(keys.map(|((key, column), codes)| column.value(key.kind, codes[group] as usize)))
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

/// The rows of the cell, read again.
#[derive(Default)]
struct Found {
    /// The piece, and the columns with their texts.
    chunks: Vec<(u64, Vec<Column>)>,
}

impl Kept for Found {
    fn absorb(&mut self, other: Found) {
        self.chunks.extend(other.chunks);
    }
}

/// The rows with these labels, as a grid and as a source of their own.
pub(super) fn rows(
    request: &Request,
    source: &dyn Source,
    threads: usize,
    cell: &Cell,
    hidden: Option<&HashSet<String>>,
) -> Result<(Grid, Memory), Error> {
    let keys = &cell.keys;
    let mut plan_of_rows = Plan::new(request, source.columns())?;
    let places = source.place_columns();
    let used = plan_of_rows.resolved.inputs.len();
    plan_of_rows.resolved.inputs.extend(places.into_iter().flatten());
    plan_of_rows.resolved.traced = true;
    let plan_keys: Vec<_> =
        keys.iter().map(|k| plan_of_rows.resolved.keys()[k.0].clone()).collect();
    let by_keys = plan_of_rows.resolved.keys()[..plan_of_rows.resolved.by_keys].to_vec();
    let (_, _, found) =
        read(&plan_of_rows, source, threads, |worker: &mut Worker, reader: &mut dyn Reader| {
            let mut found = Found::default();
            worker.work(&plan_of_rows, reader, &mut |taken| {
                let columns: Vec<&Column> =
                    plan_keys.iter().map(|k| taken.column(k.operand)).collect();
                let side: Vec<&Column> = by_keys.iter().map(|k| taken.column(k.operand)).collect();
                let same = |row: usize| {
                    let all = columns.iter().zip(&plan_keys).zip(keys);
                    let mut labels = by_keys.iter().zip(&side).map(|(k, c)| c.value(k.kind, row));
                    all.into_iter().all(|((c, k), (_, label))| c.value(k.kind, row) == *label)
                        && hidden.is_none_or(|h| h.contains(&row_label(&mut labels)))
                };
                let rows: Vec<u32> =
                    (0..taken.batch.rows).filter(|&r| same(r)).map(|r| r as u32).collect();
                if !rows.is_empty() {
                    // Values with their own few texts, so that the reader's are not copied.
                    let pick = |column: &Column| {
                        let mut data = column.data.gather(&rows);
                        let mut texts = Dictionary::default();
                        if let Data::Codes(codes) = &mut data {
                            for code in codes.iter_mut().filter(|c| **c != u32::MAX) {
                                *code = texts.intern(column.dictionary.text(*code));
                            }
                        }
                        Column { data, dictionary: texts }
                    };
                    let columns = taken.batch.columns.iter().map(pick).collect();
                    found.chunks.push((taken.batch.piece, columns));
                }
                Ok(())
            })?;
            Ok(found)
        })?;
    let mut chunks = found.chunks;
    chunks.sort_by_key(|c| c.0);
    let infos = source.columns();
    let place = |text: &str, kind: Kind| ColumnInfo { name: text.into(), kind, note: None };
    let mut of_inputs: Vec<ColumnInfo> =
        plan_of_rows.resolved.inputs[..used].iter().map(|&i| infos[i].clone()).collect();
    if places.is_some() {
        of_inputs.push(place("file", Kind::Text));
        of_inputs.push(place("line", Kind::Number { scale: 0 }));
    }
    let columns: Vec<Column> = of_inputs
        .iter()
        .enumerate()
        .map(|(i, info)| {
            let mut out = Column::from(Data::empty(info.kind));
            for (_, chunk) in &chunks {
                for row in 0..chunk[i].data.len() {
                    out.push(info.kind, &chunk[i].value(info.kind, row));
                }
            }
            out
        })
        .collect();
    let rows = columns.first().map_or(0, |c| c.data.len());
    // File and line first, then the columns as they were used.
    let order = (used..columns.len()).chain(0..used);
    let grid = Grid {
        of_rows: true,
        lines: vec![Line { kind: LineKind::Group, depth: 0 }; rows],
        positions: vec![Line { kind: LineKind::Group, depth: 0 }],
        columns: order
            .enumerate()
            .map(|(place, i)| ResultColumn {
                plain: true,
                ..column(of_inputs[i].name.clone(), of_inputs[i].kind, place, columns[i].clone())
            })
            .collect(),
        ..Grid::default()
    };
    let data = plan_of_rows.resolved.inputs[..used].iter().copied().zip(columns).collect();
    Ok((grid, Memory { columns: infos, rows, data }))
}

/// Rows in memory.
pub(super) struct Memory {
    columns: Vec<ColumnInfo>,
    rows: usize,
    /// The columns that are there, by their place in the source.
    data: Vec<(usize, Column)>,
}

impl Source for Memory {
    fn columns(&self) -> Vec<ColumnInfo> {
        self.columns.clone()
    }

    fn scan<'a>(&'a self, columns: &[usize], _: usize) -> Result<Vec<Box<dyn Reader + 'a>>, Error> {
        let column = |&i: &usize| {
            let known = self.data.iter().find(|(place, _)| *place == i).map(|d| d.1.clone());
            known.unwrap_or_else(|| {
                let kind = self.columns.get(i).map_or(Kind::Text, |c| c.kind);
                Column::from_values(kind, &vec![Value::Missing; self.rows])
            })
        };
        let batch =
            Batch { rows: self.rows, piece: 0, columns: columns.iter().map(column).collect() };
        Ok(vec![Box::new(Once(Some(batch)))])
    }
}

/// One batch.
struct Once(Option<Batch>);

impl Reader for Once {
    fn next(&mut self, batch: &mut Batch) -> Result<bool, Error> {
        match self.0.take() {
            Some(mine) => {
                *batch = mine;
                Ok(batch.rows > 0)
            }
            None => Ok(false),
        }
    }

    fn piece(&self) -> u64 {
        0
    }

    fn account(&self) -> Account {
        Account::default()
    }
}
