//! Where a cell comes from: its rows, the calculation made again on these rows alone, and for what looks
//! at other cells the cells that entered.
//!
//! The rows are found by their keys in a pass of their own, and the calculation is made again by a plan of
//! its own over nothing but these rows, without any grouping: two ways to one figure.

use super::entered::EnteredCells;
use super::late;
use super::levels::{Depths, Levels};
use super::tree::{Trees, ranks};
use super::worker::{Gathered, Worker};
use super::{Kept, fill, gather, read};
use crate::error::{Error, Written};
use crate::grid::{Grid, Heading, Line, LineKind, ResultColumn};
use crate::language::resolve::{ColumnInfo, TableInput};
use crate::plan::Plan;
use crate::request::{Request, Show, Totals};
use crate::rows::column::{Batch, Column, Data};
use crate::rows::dictionary::Dictionary;
use crate::rows::program::Operand;
use crate::source::{Account, Reader, Source};
use crate::value::{Kind, Value};
use std::collections::BTreeMap;
use std::sync::Arc;

/// A cell, taken apart.
#[derive(Clone, Debug)]
pub struct Trace {
    /// The keys of the cell with their labels, in the order of the table.
    pub at: Vec<(String, String)>,
    /// The results of the cell.
    pub results: Vec<Traced>,
    /// The rows: file, line, and the columns that were used.
    pub rows: Grid,
}

/// A result of the cell.
#[derive(Clone, Debug)]
pub struct Traced {
    /// Its heading.
    pub heading: String,
    /// Whether it reads in percent.
    pub share: bool,
    /// What it is.
    pub kind: Kind,
    /// What the table shows.
    pub in_table: Value,
    /// Results of rows: what the calculation gives on the rows alone, part by part. Of a result that
    /// looks at no other cells the only part is the result itself.
    pub parts: Vec<Part>,
    /// What looks at other cells: the cells that entered.
    pub entered: Vec<Entered>,
}

/// A result of rows in a calculation.
#[derive(Clone, Debug)]
pub struct Part {
    /// The calculation.
    pub calc: String,
    /// What it is.
    pub kind: Kind,
    /// What the table has.
    pub in_table: Value,
    /// What the rows alone give.
    pub from_rows: Value,
}

impl Part {
    /// Whether both ways come to the same.
    pub fn agrees(&self) -> bool {
        self.in_table == self.from_rows
    }
}

/// The cells that entered a calculation across cells.
#[derive(Clone, Debug)]
pub struct Entered {
    /// The calculation.
    pub calc: String,
    /// The cells with what was taken from each, in the order in which they were walked or compared.
    pub cells: Grid,
}

/// Traces the cell at some labels, each with its key as written.
///
/// # Errors
/// As [`crate::run`]; a key or a label that the table does not have.
pub fn trace(
    request: &Request,
    source: &dyn Source,
    threads: usize,
    at: &[(Arc<Written>, String)],
) -> Result<Trace, Error> {
    let mut plan = Plan::new(request, source.columns())?;
    let one = |m| Error::Mistakes(vec![m]);
    let mut keys: Vec<(usize, String)> = Vec::new();
    for (written, label) in at {
        let key = plan.resolved.key_named(written).map_err(one)?;
        if keys.iter().any(|k| k.0 == key) {
            return Err(Error::request(format!("--at names `{}` twice", written.text)));
        }
        keys.push((key, label.clone()));
    }
    keys.sort();
    let depths = depths(&plan, &keys)?;
    let mut parts: Vec<Vec<(Arc<Written>, crate::language::ast::Expr)>> = Vec::new();
    let results: Vec<_> =
        plan.results.iter().map(|r| (r.written.clone(), r.expr.clone())).collect();
    for (written, expr) in &results {
        let mut of_result = Vec::new();
        plan.resolved.group_parts(written, expr, &mut of_result).map_err(one)?;
        parts.push(of_result);
    }
    // What the cell shows, and what of it comes from rows, in the same table.
    let wide = Request {
        show: request.show.iter().cloned().chain(shows(&parts)).collect(),
        lines_where: Vec::new(),
        top: None,
        bottom: None,
        totals: Totals::None,
        ..request.clone()
    };
    let plan = Plan::new(&wide, source.columns())?;
    let (mut scopes, _) = gather(&plan, source, threads)?;
    fill::fill(&plan, &mut scopes[0]);
    let late = late::gather(&plan, source, threads, &scopes)?;
    let trees = Trees::new(&scopes[0], plan.resolved.by_keys);
    let mut levels = Levels::new(&plan, &scopes, late.as_ref(), &trees, ranks(&scopes[0]));
    let codes = keys
        .iter()
        .map(|(key, label)| code_of(&plan, &scopes[0], *key, label))
        .collect::<Result<Vec<u32>, Error>>()?;
    // In the order of the lines that the table itself would have.
    super::lines::lines(&plan, &trees, &scopes[0], &mut levels, &mut Default::default())?;
    let level = levels.level(depths)?;
    let cell = (0..level.cells.groups).find(|&cell| {
        keys.iter()
            .zip(&codes)
            .all(|(k, &code)| level.cells.codes(k.0).is_some_and(|of_key| of_key[cell] == code))
    });
    let Some(cell) = cell else {
        return Err(Error::request_with_help(
            "no row that counts has these labels together",
            "the cell is blank; oeuvre summary with the same options shows which are not",
        ));
    };
    let value = |operand: Operand, kind: Kind| level.column(&plan, operand).value(kind, cell);
    let (rows, memory) = rows(&wide, source, threads, &keys)?;
    // The rows alone, without groups; they have passed the filter, which is made again all the same.
    let alone = Request {
        show: shows(&parts).collect(),
        by: Vec::new(),
        columns_by: Vec::new(),
        every: Vec::new(),
        every_period: false,
        sort: None,
        ..wide.clone()
    };
    let from_rows = if alone.show.is_empty() {
        Vec::new()
    } else {
        let plan = Plan::new(&alone, source.columns())?;
        let (grid, _) = super::run(&plan, &memory, 1)?;
        (0..grid.columns.len()).map(|c| grid.cell(0, c)).collect()
    };
    let shown = plan.results.len() - from_rows.len();
    let mut next = 0;
    let mut out = Vec::new();
    for (result, of_result) in plan.results.iter().take(shown).zip(&parts) {
        let parts = of_result
            .iter()
            .map(|(written, expr)| {
                let it = &plan.results[shown + next];
                next += 1;
                Part {
                    calc: written.text[expr.span.clone()].trim().to_owned(),
                    kind: it.built.kind,
                    in_table: value(it.built.operand, it.built.kind),
                    from_rows: from_rows[next - 1].clone(),
                }
            })
            .collect();
        let mut entered = Vec::new();
        for input in plan.windows_of(result.built.operand) {
            if let TableInput::Window(window) = &plan.resolved.table_inputs[input] {
                let cells = levels.entered(window, depths, cell as u32)?;
                entered.extend(cells.map(|cells| Entered {
                    calc: window.text.to_string(),
                    cells: cells_grid(&plan, cells),
                }));
            }
        }
        out.push(Traced {
            heading: result.heading.clone(),
            share: result.share,
            kind: result.built.kind,
            in_table: value(result.built.operand, result.built.kind),
            parts,
            entered,
        });
    }
    let headings = plan.resolved.keys();
    let at = keys.iter().map(|(k, label)| (headings[*k].heading.clone(), label.clone())).collect();
    Ok(Trace { at, results: out, rows })
}

/// The results of rows in all calculations.
fn shows(
    parts: &[Vec<(Arc<Written>, crate::language::ast::Expr)>],
) -> impl Iterator<Item = Show> + '_ {
    parts.iter().flatten().enumerate().map(|(i, (written, expr))| Show {
        heading: Some(format!("part {i}")),
        calc: Written::new(&written.place, &written.text[expr.span.clone()]),
    })
}

/// The level of a cell that has these keys.
fn depths(plan: &Plan, keys: &[(usize, String)]) -> Result<Depths, Error> {
    let by_keys = plan.resolved.by_keys;
    let (by, across): (Vec<usize>, Vec<usize>) =
        keys.iter().map(|k| k.0).partition(|&k| k < by_keys);
    let in_a_row =
        |list: &[usize], first: usize| list.iter().enumerate().all(|(i, &k)| k == first + i);
    if !in_a_row(&by, 0) || !in_a_row(&across, by_keys) {
        let names: Vec<&str> = plan.resolved.keys().iter().map(|k| k.heading.as_str()).collect();
        return Err(Error::request_with_help(
            "--at leaves out a key that stands outside one that it names",
            format!("a total has the outer keys: {}", names.join(", ")),
        ));
    }
    Ok(Depths { by: by.len(), across: across.len() })
}

/// The code of a label as it is written in the table.
fn code_of(plan: &Plan, gathered: &Gathered, key: usize, label: &str) -> Result<u32, Error> {
    let codes = &gathered.grouper.codes[key];
    let it = &plan.resolved.keys()[key];
    let column = codes.column(it.kind, 0..codes.len() as u32);
    let number = label.parse::<crate::Decimal>().ok();
    let is = |code: &u32| match column.value(it.kind, *code as usize) {
        Value::Missing => label == "(missing)",
        Value::Number(n) => Some(n) == number,
        value => value.to_string() == label,
    };
    (0..codes.len() as u32).find(is).ok_or_else(|| {
        let labels: Vec<String> =
            (1..codes.len().min(2000)).map(|c| column.value(it.kind, c).to_string()).collect();
        let near = crate::nearest(label, labels.iter().map(String::as_str));
        let help = match near.first() {
            Some(near) => format!("did you mean {near}?"),
            None if labels.is_empty() => "no row that counts has a label there".to_owned(),
            None => {
                let some: Vec<&str> = labels.iter().take(5).map(String::as_str).collect();
                format!("its labels are such as {}", some.join(", "))
            }
        };
        Error::request_with_help(format!("{} has no label `{label}`", it.heading), help)
    })
}

/// Cells with what was taken from them: the labels of their keys, and the values.
fn cells_grid(plan: &Plan, cells: EnteredCells) -> Grid {
    let keys = plan.resolved.keys();
    let heading = |&k: &usize| Heading { name: keys[k].heading.clone(), kind: keys[k].kind };
    let line = Line { kind: LineKind::Group, depth: cells.kept.len() as u32 };
    Grid {
        by: cells.kept.iter().map(heading).collect(),
        lines: vec![line; cells.x.data.len()],
        labels: cells.labels,
        positions: vec![Line { kind: LineKind::Group, depth: 0 }],
        columns: vec![column(cells.heading, cells.kind, 0, cells.x)],
        ..Grid::default()
    }
}

fn column(heading: String, kind: Kind, result: usize, cells: Column) -> ResultColumn {
    ResultColumn {
        calc: heading.clone(),
        heading,
        position: 0,
        result,
        plain: false,
        share: false,
        heading_mark: None,
        kind,
        cells,
        ratio: None,
        marks: BTreeMap::new(),
    }
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
fn rows(
    request: &Request,
    source: &dyn Source,
    threads: usize,
    keys: &[(usize, String)],
) -> Result<(Grid, Memory), Error> {
    let mut plan_of_rows = Plan::new(request, source.columns())?;
    let places = source.place_columns();
    let used = plan_of_rows.resolved.inputs.len();
    plan_of_rows.resolved.inputs.extend(places.into_iter().flatten());
    plan_of_rows.resolved.traced = true;
    let plan_keys: Vec<_> =
        keys.iter().map(|k| plan_of_rows.resolved.keys()[k.0].clone()).collect();
    let (_, _, found) =
        read(&plan_of_rows, source, threads, |worker: &mut Worker, reader: &mut dyn Reader| {
            let mut found = Found::default();
            worker.work(&plan_of_rows, reader, &mut |taken| {
                let columns: Vec<&Column> =
                    plan_keys.iter().map(|k| taken.column(k.operand)).collect();
                let same = |row: usize| {
                    columns.iter().zip(&plan_keys).zip(keys).all(|((c, k), (_, label))| {
                        match c.value(k.kind, row) {
                            Value::Missing => label == "(missing)",
                            Value::Number(n) => label.parse::<crate::Decimal>() == Ok(n),
                            value => value.to_string() == *label,
                        }
                    })
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
struct Memory {
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
