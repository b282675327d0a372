//! Columns by their names, and what is said when there is none.
//!
//! A name is looked up among named calculations, then the columns of the rows, then those of lookups; the same
//! order everywhere. That a column is no value of a group is the mistake that people make most, and its answer
//! names the aggregates that serve.

use super::{At, Checked, Checker, TreeNode, Typed};
use crate::error::{Cause, Diagnostic, SourceText, all_of, either, nearest};
use crate::language::ast::Node;
use crate::language::functions;
use oeuvre_columns::names::{missing_texts, shell_quoted};
use oeuvre_columns::value::Kind;
use oeuvre_columns::{Note, Topic};

impl Checker {
    /// A column by its name, perhaps with its table before a dot.
    pub(super) fn column(&mut self, at: At<'_>, table: Option<&str>, name: &str) -> Checked<Typed> {
        if let Some(table) = table
            && self.lookups.iter().all(|l| l.lookup.table.name != table)
        {
            // An object's member is a column of the rows whose name has a dot.
            let whole = format!("{table}.{name}");
            if self.column_places.contains_key(&whole) {
                return self.column(at, None, &whole);
            }
        }
        let own = table.is_none_or(|t| !self.own_name.is_empty() && t == self.own_name);
        let of_rows = own && self.column_places.contains_key(name);
        if !of_rows {
            if let Some(built) = self.lookup_column(at, table, name)? {
                return Ok(built);
            }
            if let Some(table) = table
                && !own
            {
                return Err(self.no_lookup_column(at, table, name));
            }
        }
        let Some(column) = self.column_places.get(name).copied() else {
            return Err(self.no_column(at, name));
        };
        // In its own calculation a heading is no name: `route: upper(route)`.
        let is_own = |h: &SourceText| h.origin == at.written.origin && h.text == at.written.text;
        if let Some(heading) = self.headings.get(name).filter(|h| !is_own(&h.written))
            && heading.expr.node != at.expr.node
        {
            let text = format!("`{name}` in {} is the column, not the heading", at.written.origin);
            self.notes.push(Note::new(Topic::Request, text));
        }
        let before = self.tree.len();
        let kind = self.columns[column].kind;
        let value = self.tree.add(TreeNode::Column(column), kind, at.text());
        if self.tree.len() > before {
            self.inputs.push(column);
        }
        Ok(value)
    }

    /// The mistake of a column that a lookup has not, or of a lookup that there is not.
    fn no_lookup_column(&self, at: At<'_>, table: &str, name: &str) -> Diagnostic {
        if let Some(known) = self.lookups.iter().find(|l| l.lookup.table.name == table) {
            let columns = &known.lookup.table.columns;
            let names: Vec<&str> = columns.iter().map(|c| c.name.as_str()).collect();
            return at
                .mistake(format!("the lookup `{table}` has no column `{name}`"))
                .label(format!("its columns are {}", all_of(&names)));
        }
        let it = at.mistake(format!("there is no lookup `{table}`")).because(Cause::NoSuchColumn);
        let dotted = self.columns.iter().map(|c| c.name.as_str()).filter(|n| n.contains('.'));
        match &nearest(&format!("{table}.{name}"), dotted)[..] {
            [] => it.label("a name before a dot is that of a lookup"),
            near => it.label(format!("did you mean {}?", either(near))),
        }
    }

    /// The mistake of a column that there is not, with those that there are.
    fn no_column(&self, at: At<'_>, name: &str) -> Diagnostic {
        let of_lookups = self.lookups.iter().flat_map(|l| &l.lookup.table.columns);
        let known: Vec<&str> = self
            .columns
            .iter()
            .map(|c| c.name.as_str())
            .chain(self.lets.keys().chain(self.headings.keys()).map(String::as_str))
            .chain(of_lookups.map(|c| c.name.as_str()))
            .collect();
        let near = nearest(name, known.iter().copied());
        let it = at.mistake(format!("there is no column `{name}`"));
        let mut it = it.because(Cause::NoSuchColumn);
        if !near.is_empty() {
            it.label = format!("did you mean {}?", either(&near));
        } else {
            it.label = "not found".into();
            it = it.help(format!("the columns are {}", all_of(&known)));
        }
        if functions::find(name).is_some() {
            it = it.help(format!("`{name}` is a function: write {name}(…)"));
        }
        if at.text().starts_with('"') {
            it = it.help(format!("double quotes mark a name; text is written '{name}'"));
        }
        it
    }

    /// The mistake of a column outside an aggregate, with the aggregates that serve its kind.
    pub(super) fn row_value_outside(&self, at: At<'_>, kind: Kind) -> Diagnostic {
        let text = at.text();
        let it = at
            .mistake(format!("`{text}` has a value on each row, and a group has many rows"))
            .label(format!("this is {} for each row", kind.describe()))
            .of_kinds();
        let it = match kind {
            kind if kind.is_number() => {
                it.help(format!("inside an aggregate: sum({text}), mean({text}), max({text})"))
            }
            Kind::Boolean => it.help(format!("how many rows meet it: count(where {text})")),
            _ => it.help(format!(
                "how many different ones: count(distinct {text}); the rows that have one: count({text})"
            )),
        };
        let it = it.help(format!("as a category of its own: --by {}", shell_quoted(text)));
        match self.odd_help(at) {
            Some(help) => it.help(help),
            None => it,
        }
    }

    /// What to do about a column that is text because of few values; `None` for any other calculation.
    pub(super) fn odd_help(&self, at: At<'_>) -> Option<String> {
        let Node::Name { table: None, name } = &at.expr.node else { return None };
        let column = self.columns.iter().find(|c| c.name == *name && c.kind == Kind::Text)?;
        column.odd.as_ref().map(|_| self.type_help(name, "number"))
    }

    /// What to do about a column that should be of another kind.
    pub(super) fn type_help(&self, name: &str, kind: &str) -> String {
        let bare = name.strip_prefix('"').and_then(|n| n.strip_suffix('"'));
        let name = bare.map_or_else(|| name.to_owned(), |n| n.replace("\"\"", "\""));
        let odd = self.columns.iter().find(|c| c.name == name).and_then(|c| c.odd.as_ref());
        match odd {
            Some(odd) => format!(
                "it is text because of {odd}; if that stands for no value: --missing {}",
                shell_quoted(&missing_texts(Some(&name), &[&odd.text]))
            ),
            None => format!(
                "if it should hold {kind}s: --kind {} names the first value that is none",
                shell_quoted(&format!("{name}={kind}"))
            ),
        }
    }
}
