//! What stands after `along` and `within`: keys of the table, longer periods of them, and in a listing
//! values of the rows.

use super::{At, CELLS, Checked, Checker, Context, Id, Level, Reference, TreeNode, Typed};
use crate::error::{Diagnostic, SourceText, all_of};
use crate::language::ast::{Call as CallNode, ClauseWord, Expr, Node};
use crate::language::functions::{self, Call, RowCall};
use crate::rows::program::Op;
use crate::window::Layout;
use oeuvre_columns::value::Kind;
use oeuvre_columns::value::calendar::Unit;
use std::sync::Arc;

/// The period that a function of the language gives.
fn unit_of(name: &str) -> Option<Unit> {
    match functions::find(name).map(|f| &f.call) {
        Some(Call::Row(RowCall::Period(unit))) => Some(*unit),
        _ => None,
    }
}

impl Checker {
    /// The unit and the date of a node that makes a period.
    fn period_of(&self, id: Id) -> Option<(Unit, Typed)> {
        match self.tree.node(id) {
            TreeNode::Apply { op: Op::ToPeriod(unit), args } => Some((*unit, args[0])),
            _ => None,
        }
    }

    /// What a calculation after `along` or `within` refers to.
    fn reference(&mut self, at: At<'_>, walked: Option<usize>) -> Checked<Reference<Typed>> {
        if self.listing {
            return Ok(Reference::Value(self.check(at.at(CELLS))?));
        }
        let finer = |it: &Self, unit: Unit| {
            walked.is_some_and(
                |k| matches!(it.keys[k].value.kind, Kind::Period(fine) if fine.nests_in(unit)),
            )
        };
        if let Node::Name { table: None, name } = &at.expr.node {
            if let Some(k) = self.key_called(at, name)? {
                return Ok(Reference::Key(k));
            }
            let of_layout =
                Layout::of_word(name).filter(|_| !self.column_places.contains_key(name));
            if let Some(layout) = of_layout {
                return Ok(Reference::Layout(layout));
            }
            if let (Some(unit), Some(key)) = (unit_of(name).filter(|&u| finer(self, u)), walked) {
                return Ok(Reference::Period { key, unit });
            }
        }
        if matches!(self.level(at), Ok(Level::Row))
            && let Ok(value) = self.check(at.at(Context::Row))
        {
            if let Some(k) = self.keys.iter().position(|k| k.value.id == value.id) {
                return Ok(Reference::Key(k));
            }
            if let (Some((unit, date)), Some(key)) = (self.period_of(value.id), walked)
                && finer(self, unit)
                && self.period_of(self.keys[key].value.id).is_some_and(|w| w.1 == date)
            {
                return Ok(Reference::Period { key, unit });
            }
        }
        // A key that was changed on the way, such as that of --columns-top, keeps its calculation as its heading.
        let text = &at.written.text[at.expr.span.clone()];
        if let Some(k) = self.keys.iter().position(|k| k.heading == text.trim()) {
            return Ok(Reference::Key(k));
        }
        let keys: Vec<&str> = self.keys.iter().map(|k| k.heading.as_str()).collect();
        let it = at.mistake("this is no key of the table");
        Err(match keys.as_slice() {
            [] => it.label("the table has no keys: add --by or --columns-by"),
            _ => it.label(format!("the keys are {}", all_of(&keys))),
        })
    }

    /// The key that a calculation is, or that it names by its heading or its function.
    ///
    /// # Errors
    /// A mistake in it, or a name that stands for several keys.
    pub(crate) fn key_meant(
        &mut self,
        written: &Arc<SourceText>,
        expr: &Expr,
    ) -> Checked<Option<usize>> {
        let at = At { written, expr, context: CELLS };
        if let Node::Name { table: None, name } = &expr.node
            && !self.listing
            && !self.is_named(name)
            && !self.column_places.contains_key(name)
            && let Some(key) = self.key_called(at, name)?
        {
            return Ok(Some(key));
        }
        self.key_of(written, expr)
    }

    /// The key with a heading, or the only one that a function of that name makes.
    fn key_called(&self, at: At<'_>, name: &str) -> Checked<Option<usize>> {
        if let Some(k) = self.keys.iter().position(|k| k.heading == *name) {
            return Ok(Some(k));
        }
        let opening = format!("{name}(");
        let called: Vec<usize> =
            (0..self.keys.len()).filter(|&k| self.keys[k].heading.starts_with(&opening)).collect();
        match called.as_slice() {
            [] => Ok(None),
            [one] => Ok(Some(*one)),
            _ => Err(at
                .mistake(format!("`{name}` stands for several keys"))
                .label("write the key as it stands in --by or --columns-by")),
        }
    }

    /// The key of the table that a text names: as it stands in `--by` or `--columns-by`, or the function
    /// that makes it.
    ///
    /// # Errors
    /// When there is no such key.
    pub(crate) fn key_named(&mut self, written: &Arc<SourceText>) -> Checked<usize> {
        let expr = crate::language::parser::parse(written)?;
        let at = At { written, expr: &expr, context: CELLS };
        match self.reference(at, None)? {
            Reference::Key(key) => Ok(key),
            _ => Err(at.mistake("this is no key of the table")),
        }
    }

    /// The key that is walked unless one is named: the period of the shortest unit, of several the
    /// innermost, else the innermost of --by.
    fn walked_by_default(&self) -> Option<usize> {
        let keys = &self.keys;
        let length = |k: usize| match keys[k].value.kind {
            Kind::Period(unit) => Some(unit.length()),
            _ => None,
        };
        let shortest = (0..keys.len()).filter_map(length).min();
        let finest = (0..keys.len()).rev().find(|&k| shortest.is_some() && length(k) == shortest);
        finest.or(match self.by_keys {
            0 => keys.len().checked_sub(1),
            n => Some(n - 1),
        })
    }

    /// The cells of a window: what is walked and what must be shared.
    pub(super) fn over(&mut self, at: At<'_>, call: &CallNode, walks: bool) -> Checked<Over> {
        let clause = |word| call.clauses.iter().find(|c| c.word == word);
        let mut along = Vec::new();
        for expr in clause(ClauseWord::Along).map_or(&[][..], |c| &c.args) {
            along.push(self.reference(at.on(expr), None)?);
        }
        if along.is_empty() && walks && !self.listing {
            along.extend(self.walked_by_default().map(Reference::Key));
        }
        let walked = match along.as_slice() {
            [] => self.walked_by_default(),
            [.., Reference::Key(k)] => Some(*k),
            _ => None,
        };
        let within = match clause(ClauseWord::Within) {
            None => None,
            Some(c) => {
                let mut all = Vec::new();
                for expr in &c.args {
                    let reference = self.reference(at.on(expr), walked)?;
                    if let (Reference::Layout(_), true) = (reference, self.keys.is_empty()) {
                        return Err(at.on(expr).mistake("the table has one line and one column"));
                    }
                    if along.contains(&reference) && !self.listing {
                        return Err(at
                            .on(expr)
                            .mistake("this key is walked, and so it cannot be shared")
                            .label(
                                "it stands after `along`, or is walked unless another is named",
                            ));
                    }
                    all.push(reference);
                }
                Some(all)
            }
        };
        let descending = match (clause(ClauseWord::Asc), clause(ClauseWord::Desc)) {
            (Some(_), Some(desc)) => {
                let it = Diagnostic::new(at.written, desc.span.clone(), "both `asc` and `desc`");
                return Err(it.label("one of the two"));
            }
            (asc, desc) => desc.map(|_| true).or(asc.map(|_| false)),
        };
        Ok((along, within, descending))
    }
}

/// What is walked, what must be shared, and whether from the largest on.
type Over = (Vec<Reference<Typed>>, Option<Vec<Reference<Typed>>>, Option<bool>);

#[cfg(test)]
mod tests {
    use crate::Request;
    use crate::testing::{refusal, rows, table};
    use rstest::rstest;

    const DATA: &str =
        "k d:date x:0\na|2024-12-01|1\na|2025-01-01|2\nb|2025-01-01|4\nb|2025-02-01|8\n";

    #[rstest]
    // A key is named by its heading, its calculation, or the function that makes it.
    #[case("running(sum(x) along month)", "running(sum(x) along month(d))")]
    #[case(
        "running(sum(x) along month within year)",
        "running(sum(x) along month(d) within year(d))"
    )]
    #[case("running(sum(x))", "running(sum(x) along month within k)")]
    #[case("lag(sum(x) along month)", "lag(sum(x) along month(d) within k)")]
    #[case("rank(sum(x))", "rank(sum(x) within k)")]
    fn keys_are_named_in_several_ways(#[case] one: &str, #[case] other: &str) {
        let by = ["k", "month(d)"];
        assert_eq!(table(&rows(DATA), &by, &[one]), table(&rows(DATA), &by, &[other]));
    }

    #[rstest]
    #[case(&["k"], "running(sum(x) along month)", "this is no key of the table [the keys are `k`]")]
    #[case(&["month(d)"], "running(sum(x) along month within week)", "this is no key of the table")]
    #[case(&["month(d)", "month(d + 40)"], "running(sum(x) along month)", "`month`")]
    #[case(&["k"], "running(sum(x) along sum(x))", "")]
    fn what_is_no_key_is_said(#[case] by: &[&str], #[case] calc: &str, #[case] said: &str) {
        let told = refusal(&rows(DATA), &Request::of(by, &[calc]));
        assert!(told.contains(said), "{told}");
    }

    #[test]
    fn a_key_that_is_a_column_is_meant_before_one_that_a_function_of_that_name_makes() {
        let rows = rows("month d:date x:0\nJ|2025-01-01|1\nF|2025-02-01|2\n");
        let counts = table(&rows, &["month", "month(d)"], &["count(within month)"]);
        assert_eq!(counts, "F 2025-02 = 1; J 2025-01 = 1");
    }
}
