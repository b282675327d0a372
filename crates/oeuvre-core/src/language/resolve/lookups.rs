//! Columns of lookups, and the labels that a lookup lists.

use super::{Built, Place, Resolved, Resolver};
use crate::error::{Mistake, Written, either};
use crate::language::ast::Expr;
use crate::rows::lookup::{Lookup, NoMatch, push_key};
use crate::rows::program::{FetchColumn, FindRow, Op, Operand};
use crate::value::{Kind, Value};
use std::sync::Arc;

/// A lookup, and how the rows find theirs in it.
#[derive(Clone, Debug)]
pub struct Joined {
    /// The lookup.
    pub lookup: Arc<Lookup>,
    /// The keys on the side of the rows.
    pub row_keys: Vec<Expr>,
    /// The text that they stand in.
    pub written: Arc<Written>,
    /// What happens to rows without a match.
    pub no_match: NoMatch,
}

impl Resolver {
    /// The lookup that lists the labels of a key, and the label in each of its rows: a column of its own, or
    /// the one that its rows are found by.
    pub fn lookup_labels(&self, key: Operand) -> Option<(usize, Vec<Value>)> {
        if let Operand::Step(i) = key
            && let Op::Fetch(fetch) = &self.row.steps[i].op
        {
            let lookup =
                self.lookups.iter().position(|l| Arc::ptr_eq(&l.lookup.table, &fetch.table))?;
            let (column, kind) =
                (&fetch.table.data[fetch.column], fetch.table.columns[fetch.column].kind);
            let values = (0..fetch.table.lines.len()).map(|r| column.value(kind, r)).collect();
            return Some((lookup, values));
        }
        let (found, kind) =
            self.row.steps.iter().chain(&self.filter.steps).find_map(|s| match &s.op {
                Op::FindRow(FindRow(lookup)) if s.args == [key] => Some((lookup, s.arg_kinds[0])),
                _ => None,
            })?;
        let lookup = self.lookups.iter().position(|l| Arc::ptr_eq(&l.lookup, found))?;
        let (own, column) = &found.keys[0];
        let rows = 0..found.table.lines.len();
        let values: Option<Vec<Value>> = rows
            .map(|row| match (column.value(*own, row), kind) {
                (Value::Number(n), Kind::Number { scale }) => n.rescale(scale).map(Value::Number),
                (Value::Missing, _) => Some(Value::Missing),
                (value, Kind::Text) => {
                    let mut text = String::new();
                    push_key(&mut text, &value).then(|| Value::Text(text.as_str().into()))
                }
                (value, kind) => (*own == kind).then_some(value),
            })
            .collect();
        values.map(|values| (lookup, values))
    }

    /// The row of a lookup that each row finds: in the filter's program or in that of the rows.
    ///
    /// # Errors
    /// A mistake in the keys.
    pub fn lookup_row(&mut self, lookup: usize, in_filter: bool) -> Resolved<Operand> {
        let place = if in_filter { Place::Filter } else { Place::Row };
        self.find_row(lookup, place).map(|b| b.operand)
    }

    pub(super) fn find_row(&mut self, lookup: usize, place: Place) -> Resolved<Built> {
        let (written, keys) =
            (self.lookups[lookup].written.clone(), self.lookups[lookup].row_keys.clone());
        let mut args = Vec::new();
        for key in &keys {
            // The keys mean the columns of the rows, whatever named calculations there are.
            let lets = std::mem::take(&mut self.lets);
            let built = self.build(&written, key, place);
            self.lets = lets;
            args.push(built?);
        }
        let places = FindRow(self.lookups[lookup].lookup.clone());
        Ok(self.step(place, &written.text, Op::FindRow(places), &args, Kind::Date))
    }

    /// A column of a lookup, by its name and perhaps the lookup's.
    pub(super) fn lookup_column(
        &mut self,
        written: &Arc<Written>,
        expr: &Expr,
        table: Option<&str>,
        name: &str,
        place: Place,
    ) -> Resolved<Option<Built>> {
        let mut found = Vec::new();
        for (i, lookup) in self.lookups.iter().enumerate() {
            if table.is_none_or(|t| t == lookup.lookup.table.name)
                && let Some(column) =
                    lookup.lookup.table.columns.iter().position(|c| c.name == name)
            {
                found.push((i, column));
            }
        }
        if let [(first, _), (second, _), ..] = found[..] {
            let names =
                [first, second].map(|i| format!("{}.{name}", self.lookups[i].lookup.table.name));
            let message = format!("`{name}` stands in two lookups");
            return Err(Mistake::new(written, expr.span.clone(), message)
                .label(format!("write {}", either(&names))));
        }
        let Some(&(lookup, column)) = found.first() else { return Ok(None) };
        let table = self.lookups[lookup].lookup.table.clone();
        let kind = table.columns[column].kind;
        let row = self.find_row(lookup, place)?;
        let op = Op::Fetch(FetchColumn { table, column });
        Ok(Some(self.step(place, &written.text[expr.span.clone()], op, &[row], kind)))
    }
}
