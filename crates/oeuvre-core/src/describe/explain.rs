//! A plan in plain sentences: which rows, in which order, and what each figure means.
//!
//! If you add something to a plan that changes a figure or a line, say it here: tests here and
//! in `tests/trials.rs` take what is claimed and check it on the table. Words of the table tell themselves (`Compares::said`,
//! `Walks::said`), aggregates and functions are told by their row in the table of functions.

use crate::error::SourceText;
use crate::language::ast::{Call as CallNode, ClauseWord, Expr, Node, Operator};
use crate::language::check::{TreeNode, Typed};
use crate::language::functions::{self, Call};
use crate::plan::{Fill, Plan, SortBy};
use crate::request::{Request, Totals};
use crate::rows::lookup::NoMatch;
use crate::window::{Calc, Gives, Reference, Said, Window};
use oeuvre_columns::value::Kind;
use std::sync::Arc;

/// A part of the explanation.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Section {
    /// What it is about.
    pub title: String,
    /// Sentences, one a line.
    pub lines: Vec<String>,
}

/// Explains a plan that was made of a request over some files (by their names): sections in the order of the
/// work, with a section for each result that is worked out.
pub fn explain(request: &Request, plan: &Plan, files: &[String]) -> Vec<Section> {
    let mut sections = vec![rows(request, plan, files), groups(plan)];
    sections.extend(plan.results.iter().filter(|r| !r.plain).map(|r| {
        let mut lines = Vec::new();
        let mut named = Vec::new();
        let mut about = About { plan, lines: &mut lines, named: &mut named };
        about.describe(&r.written, &r.expr);
        if r.sums_rows {
            lines.insert(0, "a value on each row, and so added up: the exact sum over the rows of a line".into());
        }
        if r.built.kind == Kind::Float {
            lines.push(match r.rounded_once {
                true => "given as a binary64 number, rounded once from exact parts".into(),
                false => "given as a binary64 number".to_owned(),
            });
        }
        if plan.totals != Totals::None {
            lines.push(match &r.note {
                _ if !plan.windows_of(r.built.operand).is_empty() => {
                    "on a total: worked out among the totals of the same kind; blank where that has no meaning".into()
                }
                None => "on a total: worked out again from all its rows, which is what its lines add up to".into(),
                Some(note) => format!("on a total: worked out again from all its rows; {note}"),
            });
        }
        let calc = r.calc();
        let title =
            if calc == r.heading { calc.to_owned() } else { format!("{} = {calc}", r.heading) };
        Section { title, lines }
    }));
    if let Some(n) = request.columns_top {
        let first = plan.results.first().map_or("the rows", |r| r.heading.as_str());
        sections[1].lines.push(format!("along the top the {n} labels with the largest {first} have a column each, the others one together, worked out from their rows"));
    }
    sections.push(order(request, plan));
    sections.extend(shown(request, plan));
    if !request.checks.is_empty() {
        let over_all = "over all rows counted, whatever lines are shown".to_owned();
        let checks = request.checks.iter().map(|check| format!("that {}", check.written));
        let lines = checks.chain([over_all]).collect();
        sections.push(Section { title: "Checks".into(), lines });
    }
    sections
}

/// Up to so many files are named, each by its name.
const FILES_SHOWN: usize = 6;

fn rows(request: &Request, plan: &Plan, files: &[String]) -> Section {
    let it = &plan;
    let mut lines = vec![match files {
        [one] => format!("read from {one}"),
        [first, second, .., last] if files.len() > FILES_SHOWN => {
            format!(
                "read from {} files, one after the other: {first}, {second}, … {last}",
                files.len()
            )
        }
        many => format!("read from {} files, one after the other: {}", many.len(), many.join(", ")),
    }];
    let used: Vec<&str> = it.inputs.iter().map(|&i| it.columns[i].name.as_str()).collect();
    if !used.is_empty() {
        lines.push(format!("columns used: {}", used.join(", ")));
    }
    for lookup in &it.lookups {
        let on = &lookup.on.text;
        lines.push(format!("each row gets the columns of {} where {on}", lookup.lookup.table.name));
        lines.push(match lookup.no_match {
            NoMatch::Blank => {
                "    a row without a match is counted, these columns are missing".into()
            }
            NoMatch::LeaveOut => {
                "    a row without a match is left out, after the conditions below".into()
            }
            NoMatch::Stop => "    a row without a match stops the run".to_owned(),
        });
    }
    for (lookup, column) in &request.one_spelling {
        let of = lookup.as_ref().map_or(String::new(), |lookup| format!("{lookup}."));
        lines.push(format!(
            "labels of {of}{column} that differ only in case, spaces or Unicode form are one, spelt as most rows have it"
        ));
    }
    for filter in &request.filters {
        lines.push(format!("counted only where {}", filter.text));
    }
    let leaves_out = it.lookups.iter().any(|l| l.no_match == NoMatch::LeaveOut);
    if !request.filters.is_empty() {
        lines.push("    where a missing value leaves that open, the row is left out, and the ledger says how many".into());
    } else if leaves_out {
        lines.push("all rows with a match are counted".into());
    } else {
        lines.push("all rows are counted".into());
    }
    Section { title: "Rows".into(), lines }
}

fn groups(plan: &Plan) -> Section {
    let title = "Lines".to_owned();
    if plan.listing {
        let each = "not grouped: each row that counts is a line of its own";
        return Section { title, lines: vec![each.into()] };
    }
    let keys: Vec<&str> = plan.keys().iter().map(|k| k.heading.as_str()).collect();
    let (by, across) = keys.split_at(plan.by_keys);
    let mut lines = match by {
        [] => vec!["not grouped: one line over all rows".to_owned()],
        [one] => vec![format!("one line for each {one}")],
        [first, rest @ ..] => vec![format!(
            "one line for each {first}, and in it for each {}",
            rest.join(", and in that for each ")
        )],
    };
    match across {
        [] => {}
        [one] => lines.push(format!("along the top one column for each {one}")),
        [first, rest @ ..] => lines.push(format!(
            "along the top columns for each {first}, and in it for each {}",
            rest.join(", and in that for each ")
        )),
    }
    let filled = |fill: Fill| -> Vec<String> {
        let is = |k: &usize| plan.fill[*k].as_ref().is_some_and(|f| *f == fill);
        (0..keys.len()).filter(is).map(|k| keys[k].to_owned()).collect()
    };
    let (periods, labels) = (filled(Fill::Periods), filled(Fill::Labels));
    if !periods.is_empty() {
        lines.push(format!(
            "{} without rows are shown, too, from the first to the last (--every-period)",
            listed(&periods)
        ));
    }
    if !labels.is_empty() {
        lines.push(format!(
            "{} that only a lookup has are shown, too, as it has them together (--every)",
            listed(&labels)
        ));
    }
    match (across.is_empty(), periods.is_empty() && labels.is_empty()) {
        (true, _) => {}
        (false, true) => lines.push("a cell without rows is blank".into()),
        (false, false) => lines
            .push("in a cell without rows nothing was counted; one that cannot be is blank".into()),
    }
    if !keys.is_empty() {
        let by_result = plan.sort.iter().any(|s| matches!(s.by, SortBy::Result(_)));
        let last = if by_result { "" } else { ", the last" };
        lines.push(format!("rows without a category are a line of their own, (missing){last}"));
    }
    let nested = by.len() > 1;
    lines.push(
        match plan.totals {
            Totals::None => "no totals",
            Totals::Grand => "a total over all rows counted",
            Totals::Sub if across.len() < 2 && !nested => "no totals: there are no groups of lines",
            Totals::All if across.is_empty() && !nested => "a total over all rows counted",
            Totals::All if across.len() < 2 && !nested => "totals over all lines and all columns",
            Totals::Sub if across.len() < 2 => "a total for each group of lines",
            Totals::Sub if !nested => "a total for each group of columns",
            Totals::Sub => "a total for each group of lines, and of columns",
            Totals::All if across.len() == 1 => {
                "a total for each group of lines, and totals over all lines and all columns"
            }
            Totals::All if across.len() > 1 && !nested => {
                "a total for each group of columns, and totals over all lines and all columns"
            }
            Totals::All if across.is_empty() => {
                "a total for each group of lines, and one over all rows counted"
            }
            Totals::All => {
                "a total for each group of lines and of columns, and totals over all of them"
            }
        }
        .into(),
    );
    Section { title, lines }
}

/// Which lines are shown, where not all of them are.
fn shown(request: &Request, plan: &Plan) -> Option<Section> {
    if !plan.cuts() {
        return None;
    }
    let mut lines = Vec::new();
    for keep in &request.lines_where {
        lines.push(format!("only those for which {}", keep.text.trim()));
        lines.push("    where a missing value leaves that open, the line is not shown".into());
    }
    let by = match (&request.sort, plan.results.first()) {
        (Some(sort), _) => format!("by {}", sort.text.trim()),
        (None, _) if plan.listing => "in the order of the file".to_owned(),
        (None, Some(first)) => format!("by {}, largest first", first.heading),
        (None, None) => String::new(),
    };
    if let Some(n) = request.top {
        lines.push(format!("of these the first {n}, {by}"));
    }
    if let Some(n) = request.bottom {
        lines.push(format!("of these the last {n}, {by}"));
    }
    if !plan.sort.is_empty() && (request.top.is_some() || request.bottom.is_some()) {
        lines.push("    lines without a value there are among neither; ties at the cut are entered in the ledger".into());
    }
    if !plan.listing {
        lines.push("what looks at other cells is worked out before, over all lines".into());
        let ends = request.top.is_some() && request.bottom.is_some();
        if plan.totals != Totals::None || ends {
            lines.push(format!(
                "what is not shown stands together on a line {}, worked out from its rows; totals cover all rows counted",
                plan.rest_label
            ));
        }
    }
    Some(Section { title: "Lines shown".into(), lines })
}

fn order(request: &Request, plan: &Plan) -> Section {
    let mut lines = Vec::new();
    for sort in &plan.sort {
        let by = match sort.by {
            SortBy::Key(key) => plan.keys()[key].heading.clone(),
            SortBy::Result(_) => "a result".into(),
        };
        let way = if sort.descending { "largest or last first" } else { "smallest or first first" };
        let among = if plan.listing { "" } else { ", among the lines of the same group" };
        lines.push(format!("by {by}, {way}{among}"));
    }
    if let Some(sort) = &request.sort {
        lines.push(format!("as asked for: {}", sort.text));
    }
    for (key, label) in &plan.sort_column {
        let heading = &plan.keys()[*key].heading;
        lines.push(format!("by the figures in the column {heading} = {}", label.text));
    }
    let by_label = match plan.listing {
        true => "as in the file",
        false => "by label: numbers by value, text with case folded, time in time",
    };
    lines.push(match lines.is_empty() {
        true => by_label.into(),
        false => format!("what that leaves open, {by_label}"),
    });
    Section { title: "Order".into(), lines }
}

/// What is said of a calculation.
struct About<'a> {
    plan: &'a Plan,
    lines: &'a mut Vec<String>,
    /// Named calculations that have been described.
    named: &'a mut Vec<String>,
}

impl About<'_> {
    /// Describes a calculation, and the named ones that it uses, each once.
    fn describe(&mut self, written: &Arc<SourceText>, expr: &Expr) {
        let text = |e: &Expr| written.text[e.span.clone()].trim().to_owned();
        match &expr.node {
            Node::Name { table: None, name } => {
                let found = self.plan.calculations.lets.get(name).cloned();
                let Some(named) = found.filter(|_| !self.named.contains(name)) else { return };
                self.named.push(name.clone());
                self.lines.push(format!("{name} is {}", named.written.text.trim()));
                self.describe(&named.written, &named.expr);
            }
            Node::Binary(Operator::Divide, a, b) => {
                self.lines.push(format!(
                    "{} divided by {}, both of the same line; missing where the second is 0",
                    text(a),
                    text(b)
                ));
                self.describe(written, a);
                self.describe(written, b);
            }
            Node::Binary(_, a, b) => {
                self.describe(written, a);
                self.describe(written, b);
            }
            Node::Negate(a) | Node::Not(a) | Node::IsMissing { value: a, .. } => {
                self.describe(written, a);
            }
            Node::Call(call) => {
                if let Some(function) = functions::find(&call.name) {
                    match (self.window(written, expr), &function.call) {
                        (Some(window), _) => self.across_cells(&text(expr), &window, function),
                        (None, of) => {
                            let is_aggregate = matches!(of, Call::Aggregate(_));
                            let (meaning, missing) = (function.meaning, function.missing);
                            self.lines.push(format!("{}: {meaning}; {missing}", text(expr)));
                            if is_aggregate {
                                clauses(written, call, self.lines);
                            }
                        }
                    }
                }
                for arg in &call.args {
                    self.describe(written, arg);
                }
                for clause in call.clauses.iter().filter(|c| c.word == ClauseWord::Where) {
                    self.describe(written, &clause.args[0]);
                }
            }
            _ => {}
        }
    }

    /// The window that a calculation was made into.
    fn window(&self, written: &Arc<SourceText>, expr: &Expr) -> Option<Window<Typed>> {
        let calculations = &self.plan.calculations;
        match calculations.tree.node(calculations.known.window(written, expr)?) {
            TreeNode::Window(window) => Some(window.clone()),
            _ => None,
        }
    }

    /// What a reference is called.
    fn name(&self, reference: &Reference<Typed>) -> String {
        match reference {
            Reference::Key(k) => self.plan.keys()[*k].heading.clone(),
            Reference::Period { unit, .. } => unit.name().to_owned(),
            Reference::Layout(layout) => layout.word().to_owned(),
            // A value of the rows: a column by its name, else as it was written.
            Reference::Value(value) => match self.plan.calculations.tree.node(value.id) {
                TreeNode::Column(column) => self.plan.columns[*column].name.clone(),
                _ => self.plan.calculations.tree.text(value.id).to_string(),
            },
        }
    }

    fn names(&self, references: &[Reference<Typed>]) -> String {
        let names: Vec<String> = references.iter().map(|r| self.name(r)).collect();
        listed(&names)
    }

    /// The cells that are compared.
    fn among(&self, window: &Window<Typed>, same: &str) -> String {
        let what = if self.plan.listing { "rows" } else { "cells" };
        let keys = self.plan.keys();
        match (self.plan.listing, window.along.is_empty(), window.within.is_some()) {
            (true, ..) | (_, _, true) => format!("the {what}{same}"),
            (_, true, _) => match self.plan.by_keys {
                0 => format!("the {what} of the same line"),
                1 => format!("the lines, each {} against the others", keys[0].heading),
                n => {
                    let outer: Vec<String> =
                        keys[..n - 1].iter().map(|k| k.heading.clone()).collect();
                    format!("the lines of the same {}", listed(&outer))
                }
            },
            _ => format!("the {what} along {}", self.names(&window.along)),
        }
    }

    /// Says what a word of the table takes from which cells.
    fn across_cells(&mut self, text: &str, window: &Window<Typed>, function: &functions::Function) {
        let listing = self.plan.listing;
        let what = if listing { "rows" } else { "cells" };
        let keys = self.plan.keys();
        let by_keys = self.plan.by_keys;
        let of = window.of.trim();
        let of_them = if of.is_empty() { String::new() } else { format!(" of {of}") };
        let along = self.names(&window.along);
        let within = window.within.as_deref().unwrap_or_default();
        let same = match within {
            [] => String::new(),
            all => format!(" with the same {}", self.names(all)),
        };
        let way = if window.descending == Some(false) { "smallest" } else { "largest" };
        let among = self.among(window, &same);
        // What `along` names along the top is compared from column to column.
        let along_top =
            window.along.iter().any(|r| matches!(r, Reference::Key(k) if *k >= by_keys));
        let own = keys.len() > by_keys && by_keys > 0 && !along_top;
        let column = if own { ", in its own column" } else { "" };
        let order = match (along.is_empty(), window.descending) {
            (true, None) => "in the order of the file".to_owned(),
            (true, Some(down)) => {
                format!("from the {} {of}", if down { "largest" } else { "smallest" })
            }
            (false, None) => format!("along {along}"),
            (false, Some(down)) => {
                let from = if down { "largest or last" } else { "smallest or first" };
                format!("along {along}, the {from} first")
            }
        };
        let again = match within {
            [] if listing => String::new(),
            [] => "; everything else stays the same".to_owned(),
            all => format!("; it starts again at each {}", self.names(all)),
        };
        let calendar = match window.along.as_slice() {
            [Reference::Key(k)] => match keys[*k].kind {
                Kind::Period(unit) => Some(unit.name()),
                _ => None,
            },
            _ => None,
        };
        let gives = match &function.call {
            Call::Table(word) => word.gives,
            _ => Gives::Itself,
        };
        let words = Said { of: of.to_owned(), among, column, way, order, again, calendar, gives };
        let said = match &window.calc {
            Calc::Compared(function) => function.said(&words),
            Calc::Walked(function) => function.said(&words),
            Calc::Total | Calc::Aggregate(_) => {
                let over = match (gives, within) {
                    (Gives::Share, []) => {
                        format!("{of} divided by its total over all rows counted")
                    }
                    (Gives::Share, _) => format!("{of} divided by its total{same}"),
                    (_, []) => format!("{}{of_them} over all {what}", function.name),
                    _ => format!("{}{of_them} over the {what}{same}", function.name),
                };
                match window.calc {
                    Calc::Total => format!("{over}, worked out again from the rows"),
                    _ => over,
                }
            }
        };
        self.lines.push(format!("{text}: {said}"));
        let missing = function.missing.replace("where x is", &format!("where {of} is"));
        self.lines.push(format!("    {missing}"));
    }
}

/// Names in a row: `a, b and c`.
fn listed(names: &[String]) -> String {
    match names {
        [] => String::new(),
        [one] => one.clone(),
        [all @ .., last] => format!("{} and {last}", all.join(", ")),
    }
}

fn clauses(written: &Arc<SourceText>, call: &CallNode, lines: &mut Vec<String>) {
    if call.distinct.is_some() {
        lines.push(
            "    each different value is taken once, in label order where the order counts".into(),
        );
    }
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

#[cfg(test)]
mod tests {
    use crate::testing::{answer, rows, shown};
    use crate::{LineKind, Plan, Request, SourceText, Totals};
    use oeuvre_columns::{Source, Value};
    use proptest::prelude::*;
    use std::collections::BTreeSet;

    const CALCS: [&str; 16] = [
        "sum(x)",
        "count()",
        "mean(x)",
        "2 * sum(x) - count()",
        "sum(x) / count()",
        "max(x)",
        "count(distinct m)",
        "median(x)",
        "sum(x where m = 'p')",
        "share(sum(x))",
        "rank(sum(x))",
        "portion(x > 3)",
        "sum(x) + 1",
        "list(m)",
        "sum(x) * sum(x)",
        "product(x)",
    ];

    fn told(request: &Request, rows: &dyn Source) -> Vec<(String, Vec<String>)> {
        let plan = Plan::new(request, rows.columns()).unwrap();
        let sections = super::explain(request, &plan, &["b.csv".to_owned()]);
        sections.into_iter().map(|s| (s.title, s.lines)).collect()
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 120, ..ProptestConfig::default() })]

        /// What is said of a result is so in the table.
        #[test]
        fn what_is_said_of_a_figure_is_so(
            data in proptest::collection::vec((0usize..3, 0usize..2, proptest::option::of(-4i64..9)), 1..12),
            calc in proptest::sample::select(&CALCS[..]),
        ) {
            let line = |(k, m, x): &(usize, usize, Option<i64>)| {
                format!("{}|{}|{}", ["a", "b", "c"][*k], ["p", "q"][*m], x.map_or(String::new(), |x| x.to_string()))
            };
            let rows = rows(&format!("k m x:0\n{}", data.iter().map(line).collect::<Vec<_>>().join("\n")));
            let request = Request { totals: Totals::Grand, ..Request::of(&["k"], &[calc]) };
            let told = told(&request, &rows);
            let said: &[String] = &told.iter().find(|s| s.0 == calc).unwrap().1;
            let says = |text: &str| said.iter().any(|l| l.contains(text));
            let (grid, _) = answer(&rows, &request).unwrap();
            let value = |line: usize| match grid.cell(line, 0) {
                Value::Number(n) => Some(n.mantissa),
                _ => None,
            };
            let groups = (0..grid.lines.len()).filter(|&l| grid.lines[l].kind == LineKind::Group);
            let lines: Vec<Option<i128>> = groups.map(value).collect();
            if says("which is what its lines add up to") {
                let total = lines.iter().flatten().sum::<i128>();
                prop_assert_eq!(value(lines.len()).unwrap_or(0), total, "{}: {}", calc, shown(&grid));
            }
            if calc == "sum(x)" || calc == "count()" {
                prop_assert!(says("which is what its lines add up to"));
            }
            if says("worked out again from all its rows") {
                let all = crate::testing::value(&rows, calc);
                let total = grid.cell(lines.len(), 0);
                prop_assert_eq!(if total.is_missing() { "-".into() } else { total.to_string() }, all);
            }
            let words: BTreeSet<&str> = calc.split(|c: char| !c.is_alphanumeric()).collect();
            let used: BTreeSet<&str> =
                ["k", "m", "x"].into_iter().filter(|c| *c == "k" || words.contains(c)).collect();
            let columns = told[0].1.iter().find_map(|l| l.strip_prefix("columns used: ")).unwrap();
            prop_assert_eq!(columns.split(", ").collect::<BTreeSet<_>>(), used, "{}", calc);
        }
    }

    #[test]
    fn every_option_that_changes_lines_is_said() {
        let rows = rows("k m x:0\na|p|1\nb|q|2\n");
        let text = |text: &str| SourceText::new("here", text);
        let request = Request {
            sort: Some(text("sum(x) desc")),
            lines_where: vec![text("sum(x) > 0")],
            top: Some(1),
            bottom: Some(1),
            filters: vec![text("x > 0")],
            rest_label: Some("Others".into()),
            totals: Totals::Grand,
            ..Request::of(&["k"], &["Sum: sum(x)"])
        };
        let said =
            told(&request, &rows).into_iter().map(|s| format!("{}: {}", s.0, s.1.join("; ")));
        let said = said.collect::<Vec<_>>().join("\n");
        for part in
            ["counted only where x > 0", "Sum = sum(x)", "sum(x) > 0", "Others", "first", "last"]
        {
            assert!(said.contains(part), "{part}: {said}");
        }
    }
}
