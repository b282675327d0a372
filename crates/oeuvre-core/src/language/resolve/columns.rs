//! Columns by their names, and what is said when there is none.

use super::{Built, Place, Resolved, Resolver};
use crate::error::{Mistake, Written, all_of, either, nearest};
use crate::language::ast::Expr;
use crate::language::functions;
use crate::rows::program::Operand;
use crate::value::Kind;
use std::sync::Arc;

impl Resolver {
    pub(super) fn column(
        &mut self,
        written: &Arc<Written>,
        expr: &Expr,
        table: Option<&str>,
        name: &str,
        place: Place,
    ) -> Resolved<Built> {
        let mistake = |message: String| Mistake::new(written, expr.span.clone(), message);
        let own = table.is_none_or(|t| !self.own_name.is_empty() && t == self.own_name);
        let of_rows = own && self.column_places.contains_key(name);
        if !of_rows {
            if let Some(built) = self.lookup_column(written, expr, table, name, place)? {
                return Ok(built);
            }
            if let Some(table) = table
                && !own
            {
                let known = self.lookups.iter().find(|l| l.lookup.table.name == table);
                return Err(match known {
                    Some(l) => {
                        let names: Vec<&str> =
                            l.lookup.table.columns.iter().map(|c| c.name.as_str()).collect();
                        mistake(format!("the lookup `{table}` has no column `{name}`"))
                            .label(format!("its columns are {}", all_of(&names)))
                    }
                    None => mistake(format!("there is no lookup `{table}`"))
                        .label("a name before a dot is that of a lookup"),
                });
            }
        }
        let Some(at) = self.column_places.get(name).copied() else {
            let known: Vec<&str> = self
                .columns
                .iter()
                .map(|c| c.name.as_str())
                .chain(self.lets.keys().map(String::as_str))
                .chain(
                    self.lookups
                        .iter()
                        .flat_map(|l| l.lookup.table.columns.iter().map(|c| c.name.as_str())),
                )
                .collect();
            let near = nearest(name, known.iter().copied());
            let mut it = mistake(format!("there is no column `{name}`"));
            if !near.is_empty() {
                it.label = format!("did you mean {}?", either(&near));
            } else {
                it.label = "not found".into();
                it = it.help(format!("the columns are {}", all_of(&known)));
            }
            if functions::find(name).is_some() {
                it = it.help(format!("`{name}` is a function: write {name}(…)"));
            }
            if written.text[expr.span.clone()].starts_with('"') {
                it = it.help(format!("double quotes mark a name; text is written '{name}'"));
            }
            return Err(it);
        };
        let inputs = &mut self.inputs;
        let input = *self.input_places.entry(at).or_insert_with(|| {
            inputs.push(at);
            inputs.len() - 1
        });
        Ok(Built { operand: Operand::Input(input), kind: self.columns[at].kind })
    }

    pub(super) fn row_value_outside(
        &self,
        written: &Arc<Written>,
        expr: &Expr,
        kind: Kind,
    ) -> Mistake {
        let text = &written.text[expr.span.clone()];
        let it = Mistake::new(
            written,
            expr.span.clone(),
            format!("`{text}` has a value on each row, and a group has many rows"),
        )
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
        it.help(format!("as a category of its own: --by \"{text}\""))
    }

    /// What to do about a column that should be of another kind.
    pub(super) fn type_help(&self, name: &str, kind: &str) -> String {
        match self.columns.iter().find(|c| c.name == name).and_then(|c| c.note.as_ref()) {
            Some(note) => {
                format!(
                    "it is text because of {note}; if that stands for no value, name it with --missing"
                )
            }
            None => format!(
                "if it should hold {kind}s: --kind '{name}={kind}' names the first value that is none"
            ),
        }
    }
}
