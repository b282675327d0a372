//! Where a cell comes from: its rows, the calculation made again on these rows alone, and for what looks
//! at other cells the cells that entered.
//!
//! The rows are found by their keys in a pass of their own, and the calculation is made again by a plan of
//! its own over nothing but these rows, without any grouping: two ways to one figure.

use super::assemble;
use super::entered::EnteredCells;
use super::late;
use super::levels::{Depths, Level, Levels};
use super::lines::shared_codes;
use super::tree::{Trees, ranks};
use super::worker::{Gathered, Worker};
use super::{Kept, fill, gather, read};
use crate::error::{Error, Written};
use crate::grid::{Grid, Heading, Line, LineKind, ResultColumn};
use crate::language::resolve::{ColumnInfo, TableInput};
use crate::plan::Plan;
use crate::request::{Request, Show};
use crate::rows::column::{Batch, Column, Data};
use crate::rows::dictionary::Dictionary;
use crate::rows::program::Operand;
use crate::source::{Account, Reader, Source};
use crate::value::{Kind, Value};
use std::collections::{BTreeMap, HashSet};
use std::rc::Rc;
use std::sync::Arc;

/// A cell, taken apart.
#[derive(Clone, Debug)]
pub struct Trace {
    /// The keys of the cell with their labels, in the order of the table.
    pub at: Vec<(String, String)>,
    /// Whether the table shows it; else its line was left out.
    pub shown: bool,
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

/// A label as it was written: in quotes it is always a label; bare it may be that of a line that is none.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AtLabel {
    /// The text.
    pub text: String,
    /// Whether it stood in quotes.
    pub quoted: bool,
}

/// How a label of a key, by its heading, reads; `None` where it reads as it is.
pub type ReadsAs<'a> = &'a dyn Fn(&str, &Value) -> Option<String>;

/// What `--at` means by a total.
const TOTAL: &str = "Total";
/// What it means by a missing label.
const MISSING: &str = "(missing)";

/// The cell that is traced.
struct Cell {
    /// The labels of its keys, in the order of the table.
    keys: Vec<(usize, Value)>,
    /// Whether it is that of a rest line.
    rest: bool,
}

/// Traces the cell at some labels, each with its key as written. `plan` is that of the table, and the figure
/// that is compared is the one that the table shows; `request` is what the plan was made of.
///
/// # Errors
/// As [`crate::run`]; a key or a label that the table does not have.
pub fn trace(
    mut plan: Plan,
    request: &Request,
    source: &dyn Source,
    threads: usize,
    at: &[(Arc<Written>, AtLabel)],
    reads_as: ReadsAs<'_>,
) -> Result<Trace, Error> {
    let mut keys: Vec<(usize, AtLabel)> = Vec::new();
    for (written, label) in at {
        let key = plan.resolved.key_named(written).map_err(|m| Error::Mistakes(vec![m]))?;
        if keys.iter().any(|k| k.0 == key) {
            return Err(Error::request(format!("--at names `{}` twice", written.text)));
        }
        keys.push((key, label.clone()));
    }
    keys.sort_by_key(|k| k.0);
    let plan = plan;
    let (mut scopes, mut ledger) = gather(&plan, source, threads)?;
    source.ensure_sound(&plan.resolved.inputs)?;
    fill::fill(&plan, &mut scopes[0])?;
    let late = late::gather(&plan, source, threads, &scopes)?;
    let trees = Trees::new(&scopes[0], plan.resolved.by_keys);
    let mut levels = Levels::new(&plan, &scopes, late.as_ref(), &trees, ranks(&scopes[0]));
    let table = assemble::table(&plan, &scopes[0], &trees, &mut levels, &mut ledger)?;
    let cell = cell_of(&plan, &scopes[0], &table, &keys, reads_as)?;
    let depths = depths(&plan, &cell.keys)?;
    let own: Rc<Level>;
    let rest_level: Level;
    let (level, at): (&Level, Option<usize>) = match (cell.rest, &table.lines.members) {
        (true, Some(members)) => {
            let known = shared_codes(&trees, &table.lines.rests);
            rest_level = levels.together(members, depths.across, &known)?;
            let number = rest_number(&plan, &scopes[0], &trees, &table, &cell)?;
            let across = codes_of(&plan, &scopes[0], &cell, plan.resolved.by_keys..usize::MAX);
            let cells = &rest_level.cells;
            let at = (0..cells.groups).find(|&c| {
                cells.start[c] == number
                    && across
                        .iter()
                        .all(|(k, code)| cells.codes(*k).is_some_and(|of| of[c] == *code))
            });
            (&rest_level, at)
        }
        _ => {
            own = levels.level(depths)?;
            let codes = codes_of(&plan, &scopes[0], &cell, 0..usize::MAX);
            let at = (0..own.cells.groups).find(|&c| {
                codes.iter().all(|(k, code)| own.cells.codes(*k).is_some_and(|of| of[c] == *code))
            });
            (&own, at)
        }
    };
    let Some(at) = at else {
        return Err(Error::request_with_help(
            "no row that counts has these labels together",
            "the cell is blank; oeuvre summary with the same options shows which are not",
        ));
    };
    let value = |operand: Operand, kind: Kind| level.column(&plan, operand).value(kind, at);
    // Where the table shows the cell.
    let across = trees.across_nodes(&level.cells, depths.across).unwrap_or_default();
    let position = table.positions.iter().position(|(line, node)| {
        line.depth as usize == depths.across && across.get(at).is_some_and(|n| n == node)
    });
    let line = table.lines.places.iter().position(|(line, node)| match cell.rest {
        true => line.kind == LineKind::Rest && level.cells.start[at] == *node,
        false => {
            let nodes = trees.by_nodes(&level.cells, depths.by).unwrap_or_default();
            line.kind != LineKind::Rest
                && line.depth as usize == depths.by
                && nodes.get(at).is_some_and(|n| n == node)
        }
    });
    let shown = |result: usize| match (line, position) {
        (Some(line), Some(position)) => {
            Some(table.grid.cell(line, position * plan.results.len() + result))
        }
        _ => None,
    };
    let number = level.cells.start.get(at).copied().unwrap_or(0);
    let hidden = hidden_labels(&plan, &scopes[0], &table, &cell, number);
    let (rows, memory) = rows(request, source, threads, &cell, hidden.as_ref())?;
    let parts: Vec<Vec<usize>> =
        plan.results.iter().map(|r| plan.group_inputs(r.built.operand)).collect();
    let from_rows = from_rows(&plan, request, source, &parts, &memory)?;
    let mut next = from_rows.into_iter();
    let mut out = Vec::new();
    for (i, result) in plan.results.iter().enumerate() {
        let mut of_result = Vec::new();
        for &input in &parts[i] {
            let (TableInput::Group(built), Some(calc)) =
                (&plan.resolved.table_inputs[input], &plan.resolved.table_calcs[input])
            else {
                continue;
            };
            of_result.push(Part {
                calc: calc.text.clone(),
                kind: built.kind,
                in_table: value(Operand::Input(input), built.kind),
                from_rows: next.next().unwrap_or(Value::Missing),
            });
        }
        // What the table shows of a result of rows is what the rows must give.
        let in_table = shown(i).unwrap_or_else(|| value(result.built.operand, result.built.kind));
        if let ([only], Operand::Input(_)) = (of_result.as_mut_slice(), result.built.operand)
            && plan.windows_of(result.built.operand).is_empty()
        {
            only.in_table = in_table.clone();
        }
        let mut entered = Vec::new();
        for input in plan.windows_of(result.built.operand) {
            if let (TableInput::Window(window), false) =
                (&plan.resolved.table_inputs[input], cell.rest)
            {
                let cells = levels.entered(window, depths, at as u32)?;
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
            in_table,
            parts: of_result,
            entered,
        });
    }
    let headings = plan.resolved.keys();
    let label = |v: &Value| if v.is_missing() { MISSING.to_owned() } else { v.to_string() };
    let mut at: Vec<(String, String)> =
        cell.keys.iter().map(|(k, v)| (headings[*k].heading.clone(), label(v))).collect();
    if cell.rest {
        let inner = cell.keys.iter().filter(|k| k.0 < plan.resolved.by_keys).count();
        at.insert(inner, (headings[inner].heading.clone(), plan.rest_label.clone()));
    }
    Ok(Trace { at, shown: line.is_some() && position.is_some(), results: out, rows })
}

/// The cell that some labels mean.
fn cell_of(
    plan: &Plan,
    gathered: &Gathered,
    table: &assemble::Table,
    keys: &[(usize, AtLabel)],
    reads_as: ReadsAs<'_>,
) -> Result<Cell, Error> {
    let by_keys = plan.resolved.by_keys;
    let mut cell = Cell { keys: Vec::new(), rest: false };
    let has_rest = !table.lines.rests.is_empty();
    for axis in [0..by_keys, by_keys..plan.resolved.keys().len()] {
        let mut ended = false;
        for (key, label) in keys.iter().filter(|k| axis.contains(&k.0)) {
            let bare = |word: &str| !label.quoted && label.text == word;
            if bare(TOTAL) {
                ended = true;
                continue;
            }
            if has_rest && axis.start == 0 && bare(&plan.rest_label) && !ended {
                (cell.rest, ended) = (true, true);
                continue;
            }
            if ended {
                let message = format!(
                    "--at names {} inside a total or a rest",
                    plan.resolved.keys()[*key].heading
                );
                return Err(Error::request_with_help(message, "leave it out"));
            }
            cell.keys.push((*key, label_of(plan, gathered, *key, label, reads_as)?));
        }
    }
    Ok(cell)
}

/// The codes of a cell's labels, of the keys in a range.
fn codes_of(
    plan: &Plan,
    gathered: &Gathered,
    cell: &Cell,
    range: std::ops::Range<usize>,
) -> Vec<(usize, u32)> {
    let code = |key: usize, label: &Value| {
        let codes = &gathered.grouper.codes[key];
        let kind = plan.resolved.keys()[key].kind;
        let column = codes.column(kind, 0..codes.len() as u32);
        (0..codes.len() as u32).find(|&c| column.value(kind, c as usize) == *label)
    };
    let inside = cell.keys.iter().filter(|k| range.contains(&k.0));
    inside.filter_map(|(k, label)| code(*k, label).map(|c| (*k, c))).collect()
}

/// The number of the rest line that a cell stands on.
fn rest_number(
    plan: &Plan,
    gathered: &Gathered,
    trees: &Trees,
    table: &assemble::Table,
    cell: &Cell,
) -> Result<u32, Error> {
    let codes = codes_of(plan, gathered, cell, 0..plan.resolved.by_keys);
    let rests = table.lines.rests.iter();
    let found = rests.zip(0..).find(|(rest, _)| {
        rest.depth == codes.len()
            && codes.iter().all(|(k, code)| {
                let node = trees.by.ancestor(rest.node, rest.depth, k + 1);
                trees.by.nodes[k + 1][node as usize].code == *code
            })
    });
    found.map(|(_, number)| number).ok_or_else(|| {
        Error::request_with_help(
            format!("the table has no line {} there", plan.rest_label),
            "name the labels of the keys around it, or none for the one of all lines",
        )
    })
}

/// For a rest, the labels down the side of the groups that it stands for, as one text a group.
fn hidden_labels(
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

/// The label that a text means.
fn label_of(
    plan: &Plan,
    gathered: &Gathered,
    key: usize,
    label: &AtLabel,
    reads_as: ReadsAs<'_>,
) -> Result<Value, Error> {
    let codes = &gathered.grouper.codes[key];
    let it = &plan.resolved.keys()[key];
    if !label.quoted && label.text == MISSING {
        return Ok(Value::Missing);
    }
    let column = codes.column(it.kind, 0..codes.len() as u32);
    let number = label.text.parse::<crate::Decimal>().ok();
    let values = || (1..codes.len()).map(|c| column.value(it.kind, c));
    let raw = |value: &Value| match value {
        Value::Number(n) => Some(*n) == number,
        value => value.to_string() == label.text,
    };
    if let Some(found) = values().find(raw) {
        return Ok(found);
    }
    let mut read =
        values().filter(|v| reads_as(&it.heading, v).is_some_and(|text| text == label.text));
    if let Some(found) = read.next() {
        return match read.next() {
            None => Ok(found),
            Some(other) => Err(Error::request_with_help(
                format!("`{}` may be {found} or {other} of {}", label.text, it.heading),
                "name the label as it is without --format",
            )),
        };
    }
    let labels: Vec<String> = values().take(2000).map(|v| v.to_string()).collect();
    let near = crate::nearest(&label.text, labels.iter().map(String::as_str));
    let help = match near.first() {
        Some(near) => format!("did you mean {near}?"),
        None if labels.is_empty() => "no row that counts has a label there".to_owned(),
        None => {
            let some: Vec<&str> = labels.iter().take(5).map(String::as_str).collect();
            format!("its labels are such as {}", some.join(", "))
        }
    };
    Err(Error::request_with_help(format!("{} has no label `{}`", it.heading, label.text), help))
}

/// The parts of all results, worked out on the rows alone, without groups; they have passed the filter,
/// which is made again all the same.
fn from_rows(
    plan: &Plan,
    request: &Request,
    source: &dyn Source,
    parts: &[Vec<usize>],
    memory: &Memory,
) -> Result<Vec<Value>, Error> {
    let calcs = parts.iter().flatten().filter_map(|&i| plan.resolved.table_calcs[i].clone());
    let show: Vec<Show> = calcs
        .enumerate()
        .map(|(i, calc)| Show { heading: Some(format!("part {i}")), calc })
        .collect();
    if show.is_empty() {
        return Ok(Vec::new());
    }
    let alone = Request {
        show,
        lets: request.lets.clone(),
        lookups: request.lookups.clone(),
        filters: request.filters.clone(),
        ..Request::default()
    };
    let plan = Plan::new(&alone, source.columns())?;
    let (grid, _) = super::run(&plan, memory, 1)?;
    Ok((0..grid.columns.len()).map(|c| grid.cell(0, c)).collect())
}

/// The level of a cell that has these keys.
fn depths(plan: &Plan, keys: &[(usize, Value)]) -> Result<Depths, Error> {
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
