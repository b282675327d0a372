//! Columns of lookups, and the labels that a lookup lists.

use super::{At, Checked, Checker, Context, Level, TreeNode, Typed};
use crate::error::{SourceText, either};
use crate::language::ast::Expr;
use crate::rows::lookup::{Lookup, NoMatch, push_key};
use crate::rows::program::{FetchColumn, FindRow, Op};
use crate::spelling::Spelling;
use oeuvre_columns::value::{Kind, Value};
use std::sync::Arc;

/// A lookup, and how the rows find theirs in it.
#[derive(Clone, Debug)]
pub struct Joined {
    /// The lookup.
    pub lookup: Arc<Lookup>,
    /// The keys on the side of the rows.
    pub row_keys: Vec<Typed>,
    /// The row of the lookup that each row finds.
    pub found: Typed,
    /// The text that they stand in.
    pub written: Arc<SourceText>,
    /// What happens to rows without a match.
    pub no_match: NoMatch,
}

impl Checker {
    /// The lookup that lists the labels of a key, and the label in each of its rows: a column of its own, or
    /// the one that its rows are found by.
    pub(crate) fn lookup_labels(&self, key: Typed) -> Option<(usize, Vec<Value>)> {
        if let TreeNode::Apply { op: Op::Fetch(fetch), .. } = self.tree.node(key.id) {
            let lookup =
                self.lookups.iter().position(|l| Arc::ptr_eq(&l.lookup.table, &fetch.table))?;
            let (column, kind) =
                (&fetch.table.data[fetch.column], fetch.table.columns[fetch.column].kind);
            let values = (0..fetch.table.lines.len()).map(|r| column.value(kind, r)).collect();
            return Some((lookup, values));
        }
        let finds = |l: &Joined| matches!(l.row_keys.as_slice(), [only] if only.id == key.id);
        let at = self.lookups.iter().position(finds)?;
        let found = &self.lookups[at].lookup;
        let (own, column) = &found.keys[0];
        let rows = 0..found.table.lines.len();
        let values: Option<Vec<Value>> = rows
            .map(|row| match (column.value(*own, row), key.kind) {
                (Value::Number(n), Kind::Number { scale }) => n.rescale(scale).map(Value::Number),
                (Value::Missing, _) => Some(Value::Missing),
                (value, Kind::Text) => {
                    let mut text = String::new();
                    push_key(&mut text, &value).then(|| Value::Text(text.as_str().into()))
                }
                (value, kind) => (*own == kind).then_some(value),
            })
            .collect();
        values.map(|values| (at, values))
    }

    /// A key on the side of the rows: a calculation on each row, named ones among them; a name that is not one for
    /// rows means the column of that name.
    ///
    /// # Errors
    /// A mistake in it.
    pub(crate) fn lookup_key(&mut self, written: &Arc<SourceText>, expr: &Expr) -> Checked<Typed> {
        let at = At { written, expr, context: Context::Row };
        if self.level(at).is_ok_and(|level| level <= Level::Row)
            && let Ok(key) = self.check(at)
        {
            return Ok(key);
        }
        let lets = std::mem::take(&mut self.lets);
        self.known.forget(at);
        let checked = self.check(at);
        self.lets = lets;
        checked
    }

    /// The one spelling of the labels of a value, where it is a column that has one.
    pub(crate) fn spelling_of(&self, value: Typed) -> Option<&Spelling> {
        match self.tree.node(value.id) {
            TreeNode::Column(place) => self.spellings.as_ref()?.get(place),
            _ => None,
        }
    }

    /// Adds a lookup, whose rows are found by some keys.
    pub(crate) fn add_lookup(
        &mut self,
        lookup: Arc<Lookup>,
        row_keys: Vec<Typed>,
        written: &Arc<SourceText>,
        no_match: NoMatch,
    ) {
        let op = Op::FindRow(FindRow(lookup.clone()));
        let found = self.tree.apply(&written.text, op, &row_keys, Kind::RowNumber);
        self.lookups.push(Joined { lookup, row_keys, found, written: written.clone(), no_match });
    }

    /// A column of a lookup, by its name and perhaps the lookup's.
    pub(super) fn lookup_column(
        &mut self,
        at: At<'_>,
        table: Option<&str>,
        name: &str,
    ) -> Checked<Option<Typed>> {
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
            return Err(at
                .mistake(format!("`{name}` stands in two lookups"))
                .label(format!("write {}", either(&names))));
        }
        let Some(&(lookup, column)) = found.first() else { return Ok(None) };
        let (row, table) = (self.lookups[lookup].found, self.lookups[lookup].lookup.table.clone());
        let kind = table.columns[column].kind;
        let op = Op::Fetch(FetchColumn { table, column });
        Ok(Some(self.tree.apply(at.text(), op, &[row], kind)))
    }
}
