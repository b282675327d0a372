//! Lookups: a second table whose columns are added to each row by a key.
//!
//! Keys are compared as labels: numbers by value whatever their zeros, everything else as it prints, so
//! that the month of a date finds `2025-03` in a column of texts. A key that is missing finds nothing.

use crate::error::{Error, Mistake, Written};
use crate::language::ast::{Expr, Node, Operator};
use crate::language::parser;
use crate::language::resolve::{Joined, Resolver};
use crate::rows::column::{Column, ColumnInfo};
use crate::rows::evaluator::Evaluator;
use crate::rows::lookup::{Lookup, NoMatch, Table, key_text, push_key};
use crate::value::{Comparison, Kind};
use std::collections::HashMap;
use std::sync::Arc;

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

/// How many doubled keys a message shows.
const SHOWN: usize = 3;

/// Finds the keys of both sides of `on`, and the places of the lookup's. The rows have the columns
/// of the lookups before it, too.
///
/// # Errors
/// A mistake in `on`, or keys that stand twice in the lookup, with their lines.
pub(crate) fn joined(
    request: &LookupRequest,
    rows: &[ColumnInfo],
    before: &[Joined],
) -> Result<Joined, Error> {
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
            let own = side(table.columns.clone(), &table.name, written, own_side, Some(table), &[]);
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
            format!("keys stand twice in the lookup {}: {}{more}", table.name, shown.join(", ")),
            "rows would be doubled; join by more keys with `and`, or mend the lookup",
        ));
    }
    Ok(Joined {
        lookup: Arc::new(Lookup { table: table.clone(), places, keys }),
        row_keys,
        written: written.clone(),
        no_match: request.no_match,
    })
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
    lookups: &[Joined],
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
