//! Lookups: a second table whose columns are added to each row by a key.
//!
//! Keys are compared as labels: numbers by value whatever their zeros, everything else as it prints, so
//! that the month of a date finds `2025-03` in a column of texts. A key that is missing finds nothing.

use crate::error::{Error, Mistake, Written};
use crate::language::ast::{Comparison, Expr, Node, Operator};
use crate::language::parser;
use crate::language::resolve::{ColumnInfo, Resolver};
use crate::rows::column::Column;
use crate::rows::program::Evaluator;
use crate::value::{Kind, Value};
use std::collections::HashMap;
use std::sync::Arc;

/// A table read whole.
#[derive(Clone, Debug, Default)]
pub struct Table {
    /// What it is called in calculations: the file's stem unless said.
    pub name: String,
    /// Its columns.
    pub columns: Vec<ColumnInfo>,
    /// Their values.
    pub data: Vec<Column>,
    /// The line of each row in its file, from 1.
    pub lines: Vec<u64>,
}

/// What happens to rows whose key the lookup does not have.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum NoMatch {
    /// They are kept; the lookup's columns are missing.
    #[default]
    Blank,
    /// They are left out.
    LeaveOut,
    /// They are an error.
    Stop,
}

/// A lookup as it was asked for.
#[derive(Clone, Debug)]
pub struct LookupRequest {
    /// The table.
    pub table: Arc<Table>,
    /// The equalities that join it to the rows.
    pub on: Arc<Written>,
    /// What happens to rows without a match.
    pub no_match: NoMatch,
}

/// A lookup with the places of its keys.
#[derive(Clone, Debug)]
pub struct Lookup {
    /// The table.
    pub table: Arc<Table>,
    /// The row of each key.
    pub places: HashMap<String, u32>,
    /// The keys of its rows.
    pub keys: Arc<Vec<(Kind, Column)>>,
    /// The keys on the side of the rows.
    pub row_keys: Vec<Expr>,
    /// The text that they stand in.
    pub written: Arc<Written>,
    /// What happens to rows without a match.
    pub no_match: NoMatch,
}

/// Between the parts of a key.
const BETWEEN: char = '\u{1f}';
/// How many doubled keys a message shows.
const SHOWN: usize = 3;

/// Adds a part to a key; false where it is missing.
pub(crate) fn push_key(key: &mut String, value: &Value) -> bool {
    if !key.is_empty() {
        key.push(BETWEEN);
    }
    match value {
        Value::Missing => return false,
        Value::Number(n) => key.push_str(&n.trimmed().to_string()),
        other => key.push_str(&other.to_string()),
    }
    true
}

/// A key as a message shows it.
pub(crate) fn key_text(key: &str) -> String {
    key.replace(BETWEEN, ", ")
}

impl Lookup {
    /// Finds the keys of both sides of `on`, and the places of the lookup's. The rows have the columns
    /// of the lookups before it, too.
    ///
    /// # Errors
    /// A mistake in `on`, or keys that stand twice in the lookup, with their lines.
    pub fn new(
        request: &LookupRequest,
        rows: &[ColumnInfo],
        before: &[Lookup],
    ) -> Result<Lookup, Error> {
        let (table, written) = (&request.table, &request.on);
        let on = parser::parse(written)?;
        let mut equalities = Vec::new();
        split(written, &on, &mut equalities)?;
        let mut row_keys = Vec::new();
        let mut keys: Vec<(Kind, Column)> = Vec::new();
        for (a, b) in equalities {
            let mut first = None;
            let mut found = false;
            for (row_side, own_side) in [(a, b), (b, a)] {
                let own =
                    side(table.columns.clone(), &table.name, written, own_side, Some(table), &[]);
                let row = side(rows.to_vec(), "", written, row_side, None, before);
                match (own, row) {
                    (Ok(Some(key)), Ok(_)) => {
                        keys.push(key);
                        row_keys.push(row_side.clone());
                        found = true;
                        break;
                    }
                    (Err(e), _) | (_, Err(e)) => {
                        first.get_or_insert(e);
                    }
                    _ => {}
                }
            }
            if let (false, Some(mistake)) = (found, first) {
                let names: Vec<&str> = table.columns.iter().map(|c| c.name.as_str()).collect();
                return Err(mistake
                    .help(format!(
                        "one side names a column of the rows, the other one of {}: {}",
                        table.name,
                        crate::error::all_of(&names)
                    ))
                    .into());
            }
        }
        let mut places: HashMap<String, u32> = HashMap::new();
        let mut doubled: Vec<(String, u64, u64)> = Vec::new();
        for row in 0..table.lines.len() {
            let mut key = String::new();
            if !keys.iter().all(|(kind, column)| push_key(&mut key, &column.value(*kind, row))) {
                continue;
            }
            if let Some(&before) = places.get(&key) {
                doubled.push((key_text(&key), table.lines[before as usize], table.lines[row]));
                continue;
            }
            places.insert(key, row as u32);
        }
        if !doubled.is_empty() {
            let shown: Vec<String> = doubled
                .iter()
                .take(SHOWN)
                .map(|(key, a, b)| format!("'{key}' on lines {a} and {b}"))
                .collect();
            let more = doubled.len().saturating_sub(SHOWN);
            let more = if more > 0 { format!(", and {more} more") } else { String::new() };
            return Err(Error::request_with_help(
                format!(
                    "keys stand twice in the lookup {}: {}{more}",
                    table.name,
                    shown.join(", ")
                ),
                "rows would be doubled; join by more keys with `and`, or mend the lookup",
            ));
        }
        Ok(Lookup {
            table: table.clone(),
            places,
            keys: Arc::new(keys),
            row_keys,
            written: written.clone(),
            no_match: request.no_match,
        })
    }
}

/// The equalities of `a = b and c = d`.
fn split<'a>(
    written: &Arc<Written>,
    expr: &'a Expr,
    out: &mut Vec<(&'a Expr, &'a Expr)>,
) -> Result<(), Mistake> {
    match &expr.node {
        Node::Binary(Operator::And, a, b) => {
            split(written, a, out)?;
            split(written, b, out)
        }
        Node::Binary(Operator::Compare(Comparison::Equal), a, b) => {
            out.push((a, b));
            Ok(())
        }
        _ => Err(Mistake::new(written, expr.span.clone(), "a lookup is joined by equalities")
            .label("write 'column of the rows = column of the lookup', several with `and`")),
    }
}

/// One side of an equality, built over some columns; worked out when there is a table.
fn side(
    columns: Vec<ColumnInfo>,
    name: &str,
    written: &Arc<Written>,
    expr: &Expr,
    table: Option<&Table>,
    lookups: &[Lookup],
) -> Result<Option<(Kind, Column)>, Mistake> {
    let mut resolver = Resolver::new(columns, &[]).map_err(|mut all| all.remove(0))?;
    resolver.own_name = name.to_owned();
    resolver.lookups = lookups.to_vec();
    let built = resolver.row_value(written, expr)?;
    let Some(table) = table else { return Ok(None) };
    let inputs: Vec<&Column> = resolver.inputs.iter().map(|&i| &table.data[i]).collect();
    let mut evaluator = Evaluator::new(&resolver.row);
    evaluator.run(&resolver.row, &inputs, table.lines.len()).map_err(|o| {
        Mistake::new(written, expr.span.clone(), format!("`{}` is too large", o.text))
    })?;
    Ok(Some((built.kind, evaluator.column(built.operand, &inputs).clone())))
}
