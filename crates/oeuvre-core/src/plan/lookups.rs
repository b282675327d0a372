//! Lookups: a second table whose columns are added to each row by a key.
//!
//! Keys are compared as labels: numbers by value whatever their zeros, everything else as it prints, so that the
//! month of a date finds `2025-03` in a column of texts. A key that is missing finds nothing. That a key stands
//! twice in the lookup is an error with both lines: a row that matched twice would be counted twice.

use super::lower::{Lowering, Target};
use crate::error::{Diagnostic, Error, SourceText};
use crate::language::ast::{Expr, Node, Operator};
use crate::language::check::{Checker, Typed};
use crate::language::parser;
use crate::request::{Doubled, LookupRequest};
use crate::rows::evaluator::Evaluator;
use crate::rows::lookup::{Lookup, key_text};
use oeuvre_columns::Table;
use oeuvre_columns::column::Column;
use oeuvre_columns::value::{Comparison, Kind, Value};
use std::sync::Arc;

/// How many doubled keys a message shows.
const SHOWN: usize = 3;

/// Adds a lookup: finds the keys of both sides of `on`, and the rows of the lookup's. The rows have the
/// columns of the lookups before it, too.
///
/// # Errors
/// A mistake in `on`, a name given twice, or keys that stand twice in the lookup, with their lines.
pub(super) fn add(request: &LookupRequest, checker: &mut Checker) -> Result<(), Error> {
    let (table, written) = (&request.table, &request.on);
    let (row_keys, mut keys) = sides(table, written, checker)?;
    for (of_rows, (kind, column)) in row_keys.iter().zip(&mut keys) {
        if let (Some(spelling), Kind::Text) = (checker.spelling_of(*of_rows), *kind) {
            let spelt = |row| match column.value(Kind::Text, row) {
                Value::Text(text) => Value::Text(Arc::from(spelling.of(&text))),
                other => other,
            };
            let values: Vec<Value> = (0..column.data.len()).map(spelt).collect();
            *column = Column::from_values(Kind::Text, &values);
        }
    }
    let (lookup, doubled) = Lookup::new(table.clone(), keys);
    if request.doubled == Doubled::Stop {
        ensure_single(&lookup, &doubled)?;
    }
    checker.notes.extend(request.notes.iter().cloned());
    if checker.lookups.iter().any(|l| l.lookup.table.name == table.name) {
        return Err(Error::request_with_help(
            format!("two lookups are called `{}`", table.name),
            "name one: --lookup 'NAME=FILE'",
        ));
    }
    checker.add_lookup(Arc::new(lookup), row_keys, written, request.no_match);
    Ok(())
}

/// The keys of the rows, and the values of those of the lookup.
type Sides = (Vec<Typed>, Vec<(Kind, Column)>);

fn sides(table: &Table, written: &Arc<SourceText>, checker: &mut Checker) -> Result<Sides, Error> {
    let on = parser::parse(written)?;
    let mut equalities = Vec::new();
    split(written, &on, &mut equalities)?;
    let (mut row_keys, mut keys) = (Vec::new(), Vec::new());
    for (a, b) in equalities {
        let mut first = None;
        let mut found = false;
        for (row_side, own_side) in [(a, b), (b, a)] {
            let both = own_key(table, written, own_side)
                .and_then(|own| Ok((checker.lookup_key(written, row_side)?, own)));
            match both {
                Ok((of_rows, own)) => {
                    row_keys.push(of_rows);
                    keys.push(own);
                    found = true;
                    break;
                }
                Err(mistake) => {
                    first.get_or_insert(mistake);
                }
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
    Ok((row_keys, keys))
}

/// That keys stand twice, with their lines.
fn ensure_single(lookup: &Lookup, doubled: &[[u32; 2]]) -> Result<(), Error> {
    let table = &lookup.table;
    let counted = if table.in_rows { "rows" } else { "lines" };
    let one = |pair: &[u32; 2]| {
        let key = lookup.key(pair[0] as usize).unwrap_or_default();
        let [a, b] = pair.map(|row| table.lines[row as usize]);
        format!("'{}' on {counted} {a} and {b}", key_text(&key))
    };
    if doubled.is_empty() {
        return Ok(());
    }
    let shown: Vec<String> = doubled.iter().take(SHOWN).map(one).collect();
    let more = doubled.len().saturating_sub(SHOWN);
    let more = if more > 0 { format!(", and {more} more") } else { String::new() };
    Err(Error::request_with_help(
        format!("keys stand twice in the lookup {}: {}{more}", table.name, shown.join(", ")),
        "rows would be doubled: join by more keys with `and`, or mend the lookup; --doubled first takes the first line of each key",
    ))
}

/// The equalities of `a = b and c = d`.
fn split<'a>(
    written: &Arc<SourceText>,
    expr: &'a Expr,
    out: &mut Vec<(&'a Expr, &'a Expr)>,
) -> Result<(), Diagnostic> {
    match &expr.node {
        Node::Binary(Operator::And, a, b) => {
            split(written, a, out)?;
            split(written, b, out)
        }
        Node::Binary(Operator::Compare(Comparison::Equal), a, b) => {
            out.push((a, b));
            Ok(())
        }
        _ => Err(Diagnostic::new(written, expr.span.clone(), "a lookup is joined by equalities")
            .label("write 'column of the rows = column of the lookup', several with `and`")),
    }
}

/// One side of an equality, worked out for the rows of the lookup.
fn own_key(
    table: &Table,
    written: &Arc<SourceText>,
    expr: &Expr,
) -> Result<(Kind, Column), Diagnostic> {
    let mut checker = Checker::new(table.columns.clone(), &[]).map_err(|mut all| all.remove(0))?;
    checker.own_name.clone_from(&table.name);
    let value = checker.row_value(written, expr)?;
    let mut lowering = Lowering::new(&checker);
    let built = lowering.value(value, Target::Row);
    let row = lowering.finish().row;
    let inputs: Vec<&Column> = checker.inputs.iter().map(|&i| &table.data[i]).collect();
    let mut evaluator = Evaluator::new(&row);
    evaluator.run(&row, &inputs, table.lines.len()).map_err(|o| {
        Diagnostic::new(written, expr.span.clone(), format!("`{}` is too large", o.text))
    })?;
    Ok((built.kind, evaluator.column(built.operand, &inputs).clone()))
}
