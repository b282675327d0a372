//! A plan in plain sentences: which rows, in which order, and what each figure means. Written from the
//! plan that would be run, so that it cannot say anything else.

use crate::error::Written;
use crate::language::ast::{Call as CallNode, ClauseWord, Expr, Node, Operator};
use crate::language::functions::{self, Call};
use crate::lookup::Unmatched;
use crate::plan::{Plan, SortBy};
use crate::request::{Request, Totals};
use crate::value::Kind;
use std::sync::Arc;

/// A part of the explanation.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Section {
    /// What it is about.
    pub title: String,
    /// Sentences, one a line.
    pub lines: Vec<String>,
}

/// Explains a plan that was made of a request over some files.
pub fn explain(request: &Request, plan: &Plan, files: &[String]) -> Vec<Section> {
    let mut sections = vec![rows(request, plan, files), groups(plan)];
    sections.extend(plan.results.iter().map(|r| {
        let mut lines = Vec::new();
        let mut named = Vec::new();
        describe(request, &r.written, &r.expr, &mut lines, &mut named);
        if r.sums_rows {
            lines.insert(0, "a value on each row, and so added up: the exact sum over the rows of a line".into());
        }
        if r.built.kind == Kind::Float {
            lines.push("given as a binary64 number, rounded once from exact parts".into());
        }
        if plan.totals != Totals::None {
            lines.push(match &r.note {
                None => "on a total: worked out again from all its rows, which is what its lines add up to".into(),
                Some(note) => format!("on a total: worked out again from all its rows; {note}"),
            });
        }
        let calc = r.written.text[r.expr.span.clone()].trim();
        let title =
            if calc == r.heading { calc.to_owned() } else { format!("{} = {calc}", r.heading) };
        Section { title, lines }
    }));
    sections.push(order(request, plan));
    sections
}

fn rows(request: &Request, plan: &Plan, files: &[String]) -> Section {
    let it = &plan.resolved;
    let mut lines = vec![match files {
        [one] => format!("read from {one}"),
        many => format!("read from {} files, one after the other: {}", many.len(), many.join(", ")),
    }];
    let used: Vec<&str> = it.inputs.iter().map(|&i| it.columns()[i].name.as_str()).collect();
    if !used.is_empty() {
        lines.push(format!("columns used: {}", used.join(", ")));
    }
    for lookup in &it.lookups {
        let on = &lookup.written.text;
        lines.push(format!("each row gets the columns of {} where {on}", lookup.table.name));
        lines.push(match lookup.unmatched {
            Unmatched::Keep => {
                "    a row without a match is kept, these columns are missing".into()
            }
            Unmatched::Drop => {
                "    a row without a match is left out, after the conditions below".into()
            }
            Unmatched::Error => "    a row without a match stops the run".to_owned(),
        });
    }
    for filter in &request.filters {
        lines.push(format!("counted only where {}", filter.text));
    }
    if !request.filters.is_empty() {
        lines.push("    where a missing value leaves that open, the row is left out, and the ledger says how many".into());
    } else {
        lines.push("all rows are counted".into());
    }
    Section { title: "Rows".into(), lines }
}

fn groups(plan: &Plan) -> Section {
    let keys: Vec<&str> = plan.resolved.keys().iter().map(|k| k.heading.as_str()).collect();
    let mut lines = match keys.as_slice() {
        [] => vec!["not grouped: one line over all rows".to_owned()],
        [one] => vec![format!("one line for each {one}")],
        [first, rest @ ..] => vec![format!(
            "one line for each {first}, and in it for each {}",
            rest.join(", and in that for each ")
        )],
    };
    if !keys.is_empty() {
        lines.push("rows without a category are a line of their own, (missing), the last".into());
    }
    lines.push(
        match plan.totals {
            Totals::None => "no totals",
            Totals::Grand => "a total over all rows counted",
            Totals::Sub => "a total for each group of lines",
            Totals::All => "a total for each group of lines, and one over all rows counted",
        }
        .into(),
    );
    Section { title: "Lines".into(), lines }
}

fn order(request: &Request, plan: &Plan) -> Section {
    let mut lines = Vec::new();
    for sort in &plan.sort {
        let by = match sort.by {
            SortBy::Key(key) => plan.resolved.keys()[key].heading.clone(),
            SortBy::Result(_) => "a result".into(),
        };
        let way = if sort.descending { "largest or last first" } else { "smallest or first first" };
        lines.push(format!("by {by}, {way}, among the lines of the same group"));
    }
    if let Some(sort) = &request.sort {
        lines.push(format!("as asked for: {}", sort.text));
    }
    let by_label = "by label: numbers by value, text with case folded, time in time";
    lines.push(match lines.is_empty() {
        true => by_label.into(),
        false => format!("what that leaves open, {by_label}"),
    });
    Section { title: "Order".into(), lines }
}

/// Describes a calculation, and the named ones that it uses, each once.
fn describe(
    request: &Request,
    written: &Arc<Written>,
    expr: &Expr,
    lines: &mut Vec<String>,
    named: &mut Vec<String>,
) {
    let text = |e: &Expr| written.text[e.span.clone()].trim().to_owned();
    match &expr.node {
        Node::Name { table: None, name } => {
            let found = request.lets.iter().find(|(n, _)| n == name);
            let Some((_, definition)) = found.filter(|_| !named.contains(name)) else { return };
            named.push(name.clone());
            lines.push(format!("{name} is {}", definition.text.trim()));
            if let Ok(inner) = crate::language::parser::parse(definition) {
                describe(request, definition, &inner, lines, named);
            }
        }
        Node::Binary(Operator::Divide, a, b) => {
            lines.push(format!(
                "{} divided by {}, both of the same line; missing where the second is 0",
                text(a),
                text(b)
            ));
            describe(request, written, a, lines, named);
            describe(request, written, b, lines, named);
        }
        Node::Binary(_, a, b) => {
            describe(request, written, a, lines, named);
            describe(request, written, b, lines, named);
        }
        Node::Negate(a) | Node::Not(a) | Node::IsMissing { value: a, .. } => {
            describe(request, written, a, lines, named);
        }
        Node::Call(call) => {
            if let Some(function) = functions::find(&call.name) {
                let is_aggregate = matches!(function.call, Call::Aggregate { .. });
                lines.push(format!("{}: {}; {}", text(expr), function.meaning, function.missing));
                if is_aggregate {
                    clauses(written, call, lines);
                }
            }
            for arg in &call.args {
                describe(request, written, arg, lines, named);
            }
        }
        _ => {}
    }
}

fn clauses(written: &Arc<Written>, call: &CallNode, lines: &mut Vec<String>) {
    for clause in &call.clauses {
        let args: Vec<String> =
            clause.args.iter().map(|a| written.text[a.span.clone()].trim().to_owned()).collect();
        let args = args.join(", ");
        lines.push(match clause.word {
            ClauseWord::Where => format!("    only over those for which {args}"),
            ClauseWord::Per => {
                format!("    worked out for each {args} first, and then over these results")
            }
            ClauseWord::Along => {
                format!("    in the order of {args}; ties in the order of the file")
            }
            ClauseWord::Method => format!("    by the method {args}"),
            _ => format!("    {} {args}", clause.word.text()),
        });
    }
}
