//! What changed between two results, or between two tables of rows: a line for each figure, or each value, with the old
//! and the new one.
//!
//! Lines are joined by the labels of their keys. What is given is a table of rows like any other, so that differences
//! are worked out by the language, and a condition on the keys is one as everywhere.
//!
//! ```
//! use oeuvre_columns::{SavedTable, Value};
//! use oeuvre_core::{ChangesRequest, changes};
//!
//! let table = |fare: &str| SavedTable {
//!     keys: vec!["route".into()],
//!     figures: vec!["sum(fare)".into()],
//!     lines: vec![(vec!["SKE".into()], vec![Value::Number(fare.parse().unwrap())])],
//!     ..SavedTable::default()
//! };
//! let found = changes(&[table("12.50")], &[table("13.00")], &ChangesRequest::default())?;
//! assert_eq!((found.changed, found.same), (1, 0));
//! assert_eq!(found.grid.cell(0, 4).to_string(), "0.50"); // route, figure, old, new, change
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

use crate::error::{Error, SourceText};
use crate::grid::{Grid, ResultColumn};
use crate::ledger::Ledger;
use crate::plan::Plan;
use crate::request::{Request, Show};
use oeuvre_columns::column::Column;
use oeuvre_columns::{
    ColumnInfo, Decimal, InMemory, Kind, Note, SavedTable, Source, Table, Topic, Value,
};
use std::collections::{HashMap, HashSet};
use std::sync::Arc;

/// How a comparison is made.
#[derive(Clone, Debug, Default)]
pub struct ChangesRequest {
    /// Conditions on keys; all must hold.
    pub filters: Vec<Arc<SourceText>>,
    /// How far figures may be apart and still be the same, and whether that is in percent of the old one.
    pub tolerance: Option<(Decimal, bool)>,
    /// Whether what is the same is left out.
    pub only_changed: bool,
    /// Whether the lines are rows: what is the same in them is counted alone, and a row that one side alone has is
    /// one line.
    pub rows: bool,
    /// What the old and the new one are called.
    pub names: [String; 2],
}

/// What changed.
#[derive(Clone, Debug)]
pub struct Changes {
    /// A line for each figure or value.
    pub grid: Grid,
    /// The account, with what is told.
    pub ledger: Ledger,
    /// How many figures changed; of rows, how many rows.
    pub changed: u64,
    /// How many are the same.
    pub same: u64,
    /// How many lines, or rows, only the old one has, and only the new one.
    pub alone: [u64; 2],
}

impl Changes {
    /// Whether anything is different.
    pub fn any(&self) -> bool {
        self.changed > 0 || self.alone != [0, 0]
    }
}

/// What happened to a figure.
const SAME: &str = "same";
const CHANGED: &str = "changed";
/// What stands in place of a heading where a row stands on one side alone.
const WHOLE_ROW: &str = "(row)";

/// A figure with its keys: the labels, its heading, the old and the new value, and what happened to it.
struct Entry {
    keys: Vec<String>,
    figure: String,
    values: [Option<Value>; 2],
    outcome: String,
}

/// Compares results, table by table.
///
/// # Errors
/// Two lines with the same keys in one table; a condition that names no key.
pub fn changes(
    old: &[SavedTable],
    new: &[SavedTable],
    request: &ChangesRequest,
) -> Result<Changes, Error> {
    let mut keys: Vec<String> = Vec::new();
    let several = old.len() > 1 || new.len() > 1;
    if several {
        keys.push("part".to_owned());
    }
    for key in old.iter().chain(new).flat_map(|table| &table.keys) {
        if !keys.contains(key) {
            keys.push(key.clone());
        }
    }
    let (mut entries, mut notes) = (Vec::new(), Vec::new());
    let nothing = SavedTable::default();
    let alone = old.len() == 1 && new.len() == 1;
    let mut seen = HashSet::new();
    let mut uncounted = 0;
    for table in new {
        let before = old.iter().find(|o| alone || o.name == table.name);
        seen.insert(table.name.clone());
        let tables = [before.unwrap_or(&nothing), table];
        uncounted += join(tables, (&keys, several), request, &mut entries, &mut notes)?;
    }
    for table in old.iter().filter(|table| !alone && !seen.contains(&table.name)) {
        join([table, &nothing], (&keys, several), request, &mut entries, &mut notes)?;
    }
    let numeric = entries
        .iter()
        .flat_map(|e| e.values.iter().flatten())
        .all(|value| matches!(value, Value::Missing | Value::Number(_) | Value::Float(_)));
    let mut columns: Vec<(String, Kind, Vec<Value>)> = Vec::new();
    let text = |text: &str| Value::Text(text.into());
    for (k, key) in keys.iter().enumerate() {
        // A key that a part does not have is missing there.
        let label =
            |e: &Entry| if e.keys[k].is_empty() { Value::Missing } else { text(&e.keys[k]) };
        columns.push((key.clone(), Kind::Text, entries.iter().map(label).collect()));
    }
    columns.push((own("figure"), Kind::Text, entries.iter().map(|e| text(&e.figure)).collect()));
    for (side, name) in ["old", "new"].into_iter().enumerate() {
        let values = || entries.iter().map(|e| e.values[side].clone().unwrap_or(Value::Missing));
        let (kind, numbers) = numbers(values());
        columns.push((own(name), kind, numbers));
        let texts = values().map(|v| if v.is_missing() { v } else { text(&v.to_string()) });
        columns.push((own(&format!("{name} text")), Kind::Text, texts.collect()));
    }
    let outcomes = entries.iter().map(|e| text(&e.outcome)).collect();
    columns.push((own("outcome"), Kind::Text, outcomes));
    let [old, new] = [quoted(&own("old")), quoted(&own("new"))];
    let shown = |name: &str| match numeric {
        true => quoted(&own(name)),
        false => quoted(&own(&format!("{name} text"))),
    };
    let mut shows: Vec<(String, String)> = keys.iter().map(|k| (k.clone(), quoted(k))).collect();
    shows.extend([
        ("figure".to_owned(), quoted(&own("figure"))),
        ("old".to_owned(), shown("old")),
        ("new".to_owned(), shown("new")),
        ("change".to_owned(), format!("{new} - {old}")),
        ("growth".to_owned(), format!("if({old} > 0, ({new} - {old}) / {old}, missing)")),
        ("outcome".to_owned(), quoted(&own("outcome"))),
    ]);
    let mut found = listed(columns, shows, request, uncounted)?;
    // Of several parts each has keys of its own: those of parts that are not shown say nothing.
    let lines = found.grid.lines.len();
    let says_something = |c: &ResultColumn| {
        !several || !keys.contains(&c.heading) || (0..lines).any(|l| !c.cells.data.is_missing(l))
    };
    found.grid.columns.retain(says_something);
    for (at, column) in found.grid.columns.iter_mut().enumerate() {
        column.result = at;
        column.share = column.heading == "growth";
        // Figures read as figures do, and not as they stand in the file.
        column.plain &= !(numeric && matches!(column.heading.as_str(), "old" | "new"));
    }
    found.ledger.of = Some("figures compared");
    found.ledger.notes.extend(notes);
    Ok(found)
}

/// A name that no column of a file has.
fn own(name: &str) -> String {
    format!("\u{1}{name}")
}

fn quoted(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

/// The numbers among some values as a column of one kind: exact where all of them are.
fn numbers(values: impl Iterator<Item = Value> + Clone) -> (Kind, Vec<Value>) {
    let scale =
        values.clone().filter_map(|v| if let Value::Number(n) = v { Some(n.scale) } else { None });
    let scale = scale.max().unwrap_or(0);
    let exact = values.clone().all(|v| match v {
        Value::Float(_) => false,
        Value::Number(n) => n.rescale(scale).is_some(),
        _ => true,
    });
    let number = |value: Value| match value {
        Value::Number(n) if exact => n.rescale(scale).map_or(Value::Missing, Value::Number),
        Value::Number(n) => n.to_string().parse().map_or(Value::Missing, Value::Float),
        Value::Float(f) => Value::Float(f),
        _ => Value::Missing,
    };
    let kind = if exact { Kind::Number { scale } } else { Kind::Float };
    (kind, values.map(number).collect())
}

/// Joins the lines of two tables by the labels of their keys; gives how many values of rows are the same.
fn join(
    [old, new]: [&SavedTable; 2],
    (keys, several): (&[String], bool),
    request: &ChangesRequest,
    entries: &mut Vec<Entry>,
    notes: &mut Vec<Note>,
) -> Result<u64, Error> {
    let part = if new.name.is_empty() { &old.name } else { &new.name };
    let labels = |table: &SavedTable, labels: &[String]| -> Vec<String> {
        let label = |key: &String| {
            let at = table.keys.iter().position(|k| k == key);
            at.map_or(String::new(), |at| labels[at].clone())
        };
        let of_part = several.then(|| part.clone());
        of_part.into_iter().chain(keys.iter().skip(usize::from(several)).map(label)).collect()
    };
    let [old_name, new_name] = &request.names;
    let before = places(old, old_name, &labels)?;
    let after = places(new, new_name, &labels)?;
    let whole = !old.figures.is_empty() && !new.figures.is_empty();
    for (table, other, name) in [(old, new, old_name), (new, old, new_name)] {
        for figure in table.figures.iter().filter(|f| whole && !other.figures.contains(f)) {
            notes.push(Note::new(Topic::Request, format!("{name} alone has the column {figure}")));
        }
    }
    let place =
        |table: &SavedTable, figure: &String| table.figures.iter().position(|f| f == figure);
    let mut uncounted = 0;
    // What one side alone has: a row as one line, of a table each figure.
    let only = |entries: &mut Vec<Entry>,
                table: &SavedTable,
                keys: Vec<String>,
                values: &[Value],
                side: usize| {
        let outcome = format!("only in {}", request.names[side]);
        if request.rows {
            let (figure, values) = (WHOLE_ROW.to_owned(), [None, None]);
            entries.push(Entry { keys, figure, values, outcome });
            return;
        }
        for (figure, value) in table.figures.iter().zip(values) {
            let mut both = [None, None];
            both[side] = Some(value.clone());
            let (keys, outcome) = (keys.clone(), outcome.clone());
            entries.push(Entry { keys, figure: figure.clone(), values: both, outcome });
        }
    };
    for (line, values) in &new.lines {
        let keys = labels(new, line);
        match before.get(&keys) {
            None => only(entries, new, keys, values, 1),
            Some(&at) => {
                for (figure, value) in new.figures.iter().zip(values) {
                    let Some(of_old) = place(old, figure) else { continue };
                    let earlier = &old.lines[at].1[of_old];
                    let same = are_same(earlier, value, request.tolerance);
                    if same && request.rows {
                        uncounted += 1;
                        continue;
                    }
                    entries.push(Entry {
                        keys: keys.clone(),
                        figure: figure.clone(),
                        values: [Some(earlier.clone()), Some(value.clone())],
                        outcome: if same { SAME } else { CHANGED }.to_owned(),
                    });
                }
            }
        }
    }
    for (line, values) in &old.lines {
        let keys = labels(old, line);
        if !after.contains_key(&keys) {
            only(entries, old, keys, values, 0);
        }
    }
    Ok(uncounted)
}

/// The labels of a line of a table, in the order of the comparison.
type LabelsOf<'a> = &'a dyn Fn(&SavedTable, &[String]) -> Vec<String>;

/// The lines of a table by their labels.
fn places(
    table: &SavedTable,
    name: &str,
    labels: LabelsOf<'_>,
) -> Result<HashMap<Vec<String>, usize>, Error> {
    let mut places = HashMap::new();
    for (at, (line, _)) in table.lines.iter().enumerate() {
        if places.insert(labels(table, line), at).is_some() {
            let message = format!("{name} has two lines with the keys {}", line.join(", "));
            return Err(Error::Request {
                message,
                help: vec![
                    "name more keys with --by, so that each line has its own".to_owned(),
                    "files of rows are compared with --rows, by a key that no two rows share"
                        .to_owned(),
                ],
                of_kinds: false,
            });
        }
    }
    Ok(places)
}

/// Whether two figures are the same, or near enough.
fn are_same(old: &Value, new: &Value, tolerance: Option<(Decimal, bool)>) -> bool {
    let (apart, of, exact) = match (old, new) {
        (Value::Number(a), Value::Number(b)) => {
            let scale = a.scale.max(b.scale).max(tolerance.map_or(0, |t| t.0.scale));
            match (a.rescale(scale), b.rescale(scale)) {
                (Some(a), Some(b)) => {
                    let apart = b.mantissa.checked_sub(a.mantissa).map(i128::abs);
                    (apart, a.mantissa.abs(), scale)
                }
                _ => return a.to_string() == b.to_string(),
            }
        }
        (Value::Float(_) | Value::Number(_), Value::Float(_) | Value::Number(_)) => {
            let float = |value: &Value| value.to_string().parse::<f64>().unwrap_or(f64::NAN);
            let (a, b) = (float(old), float(new));
            let most = match tolerance {
                None => 0.0,
                Some((n, of_hundred)) => {
                    let n: f64 = n.to_string().parse().unwrap_or(0.0);
                    if of_hundred { a.abs() * n / 100.0 } else { n }
                }
            };
            return (a - b).abs() <= most;
        }
        _ => return old == new,
    };
    let Some(apart) = apart else { return false };
    match tolerance {
        None => apart == 0,
        Some((n, false)) => n.rescale(exact).is_some_and(|n| apart <= n.mantissa),
        Some((n, true)) => {
            // apart <= n percent of the old one, without a division.
            let hundreds = 10i128.checked_pow(u32::from(n.scale)).and_then(|p| p.checked_mul(100));
            let left = hundreds.and_then(|h| apart.checked_mul(h));
            let right = n.mantissa.checked_mul(of);
            matches!((left, right), (Some(left), Some(right)) if left <= right)
        }
    }
}

/// The listing of what was found, and how much of it there is.
fn listed(
    columns: Vec<(String, Kind, Vec<Value>)>,
    shows: Vec<(String, String)>,
    request: &ChangesRequest,
    uncounted: u64,
) -> Result<Changes, Error> {
    let rows = columns.first().map_or(0, |c| c.2.len());
    let infos =
        columns.iter().map(|(name, kind, _)| ColumnInfo::new(name.clone(), *kind)).collect();
    let data = columns.iter().map(|(_, kind, values)| Column::from_values(*kind, values));
    let source = InMemory::new(infos, rows, data.enumerate());
    let show = shows.iter().map(|(heading, calc)| Show {
        heading: Some(heading.clone()),
        calc: SourceText::new("--by", calc.clone()),
    });
    let all = Request {
        listing: true,
        show: show.collect(),
        filters: request.filters.clone(),
        ..Request::default()
    };
    let outcome = quoted(&own("outcome"));
    let only = SourceText::new("--only-changed", format!("{outcome} <> '{SAME}'"));
    let shown = Request {
        lines_where: if request.only_changed { vec![only] } else { Vec::new() },
        ..all.clone()
    };
    let (whole, _) = crate::list(&Plan::new(&all, source.columns())?, &source, 1)?;
    let (grid, mut ledger) = crate::list(&Plan::new(&shown, source.columns())?, &source, 1)?;
    let (mut changed, mut same, mut alone) = (0, uncounted, [HashSet::new(), HashSet::new()]);
    ledger.read += uncounted;
    let last = whole.columns.len() - 1;
    for line in 0..whole.lines.len() {
        let keys: Vec<String> =
            (0..shows.len() - 6).map(|c| whole.cell(line, c).to_string()).collect();
        match whole.cell(line, last).to_string().as_str() {
            SAME => same += 1,
            CHANGED => changed += 1,
            outcome => {
                let side = usize::from(outcome != format!("only in {}", request.names[0]));
                alone[side].insert(keys);
            }
        }
    }
    let alone = alone.map(|lines| lines.len() as u64);
    ledger.of_rows_alone = true;
    ledger.notes.clear();
    let mut said = vec![format!("{changed} changed, {same} the same")];
    for (n, name) in alone.iter().zip(&request.names) {
        match n {
            0 => {}
            1 => said.push(format!("1 line only in {name}")),
            n => said.push(format!("{n} lines only in {name}")),
        }
    }
    ledger.notes.push(Note::new(Topic::Request, said.join("; ")));
    Ok(Changes { grid, ledger, changed, same, alone })
}

/// Compares the rows of two tables that have the same keys: which were added, removed, and changed in which columns.
///
/// # Errors
/// Keys that a table lacks, or that stand twice in it.
pub fn row_changes(
    [old, new]: [&Table; 2],
    by: &[String],
    request: &ChangesRequest,
) -> Result<Changes, Error> {
    let saved = |table: &Table, name: &str| -> Result<SavedTable, Error> {
        let headings: Vec<&str> = table.columns.iter().map(|c| c.name.as_str()).collect();
        let place = |key: &String| {
            headings.iter().position(|h| h == key).ok_or_else(|| {
                let help = match crate::error::nearest(key, headings.iter().copied()).first() {
                    Some(near) => format!("did you mean `{near}`?"),
                    None => format!("its columns are {}", crate::error::all_of(&headings)),
                };
                Error::request_with_help(format!("{name} has no column `{key}`"), help)
            })
        };
        let keys: Vec<usize> = by.iter().map(place).collect::<Result<_, _>>()?;
        let others: Vec<usize> = (0..headings.len()).filter(|c| !keys.contains(c)).collect();
        let value =
            |column: usize, row: usize| table.data[column].value(table.columns[column].kind, row);
        let line = |row: usize| {
            let labels = keys.iter().map(|&c| value(c, row).to_string()).collect();
            (labels, others.iter().map(|&c| value(c, row)).collect())
        };
        let heading = |c: &usize| headings[*c].to_owned();
        Ok(SavedTable {
            name: String::new(),
            keys: keys.iter().map(heading).collect(),
            figures: others.iter().map(heading).collect(),
            lines: (0..table.lines.len()).map(line).collect(),
        })
    };
    let request = &ChangesRequest { rows: true, ..request.clone() };
    let [old_name, new_name] = &request.names;
    let tables = [saved(old, old_name)?, saved(new, new_name)?];
    let mut found = changes(&tables[..1], &tables[1..], request)?;
    found.ledger.of = Some("values compared");
    Ok(found)
}
