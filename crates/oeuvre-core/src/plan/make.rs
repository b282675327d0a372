//! From a request to a plan: everything is checked first, and lowered when nothing is wrong.
//!
//! All mistakes that can be found are told together. The order matters: lookups add columns, keys must be known
//! before results are checked (mistakes in these are told first), and what is kept, sorted or cut may name any of
//! them.

use super::lower::{Lowering, Target};
use super::notes::Notes;
use super::{
    Built, Calculations, Fill, Labels, LookupPlan, Plan, ResultPlan, SortBy, SortPlan, StatePlan,
    TableInput, Watches, lookups,
};
use crate::aggregate::count::Count;
use crate::aggregate::once::Once;
use crate::error::{Diagnostic, Error, SourceText};
use crate::language::ast::{Expr, Node};
use crate::language::check::{Checker, Level, TreeNode, Typed};
use crate::language::parser;
use crate::request::{AtLabel, Request, Show};
use crate::rows::lookup::NoMatch;
use crate::rows::program::{Op, Operand};
use crate::same::Alike;
use oeuvre_columns::ColumnInfo;
use oeuvre_columns::value::Kind;
use std::collections::HashMap;
use std::sync::Arc;

impl Plan {
    /// Checks a request against the columns of a source.
    ///
    /// # Errors
    /// All mistakes that were found, with their places in the texts of the request.
    pub fn new(request: &Request, columns: Vec<ColumnInfo>) -> Result<Plan, Error> {
        Plan::with_keys(request, columns, &[]).map(|(plan, _)| plan)
    }

    /// A plan that keeps all values of all columns, with how often each occurs, as states of one group: the
    /// second state is that of the first column.
    ///
    /// # Errors
    /// A mistake in the conditions of the request.
    pub fn of_values(request: &Request, columns: Vec<ColumnInfo>) -> Result<Plan, Error> {
        let mut plan = Plan::new(request, columns)?;
        // Behind the columns of the conditions all others.
        let mut places = vec![None; plan.columns.len()];
        for (place, &column) in plan.inputs.iter().enumerate() {
            if let Some(of_column) = places.get_mut(column) {
                *of_column = Some(place);
            }
        }
        for (column, place) in places.iter_mut().enumerate().filter(|it| it.1.is_none()) {
            *place = Some(plan.inputs.len());
            plan.inputs.push(column);
        }
        plan.needed = vec![true; plan.inputs.len()];
        for (place, info) in places.into_iter().zip(&plan.columns) {
            let Some(i) = place else { continue };
            plan.programs.groupings[0].states.push(StatePlan {
                aggregate: Arc::new(Once(Alike(Arc::new(Count)))),
                args: vec![Built { operand: Operand::Input(i), kind: info.kind }],
                condition: None,
                text: info.name.as_str().into(),
            });
        }
        Ok(plan)
    }

    /// As [`Plan::new`], and finds the keys of the table that some texts name.
    ///
    /// # Errors
    /// As for [`Plan::new`]; a text that names no key.
    pub fn with_keys(
        request: &Request,
        columns: Vec<ColumnInfo>,
        named: &[Arc<SourceText>],
    ) -> Result<(Plan, Vec<usize>), Error> {
        let names = columns.iter().map(|c| c.name.clone());
        let of_lookups = request.lookups.iter().flat_map(|l| &l.table.columns);
        let mut names: Vec<String> = names.chain(of_lookups.map(|c| c.name.clone())).collect();
        names.retain(|name| !is_plain_name(name));
        Self::checked(request, columns, named).map_err(|error| with_quotes(error, &names))
    }

    fn checked(
        request: &Request,
        columns: Vec<ColumnInfo>,
        named: &[Arc<SourceText>],
    ) -> Result<(Plan, Vec<usize>), Error> {
        let mut checker = Checker::new(columns, &request.lets).map_err(Error::Diagnostics)?;
        checker.listing = request.listing;
        checker.spellings.clone_from(&request.spellings);
        let checked = Checks::new(request, &mut checker)?;
        let keys: Result<Vec<usize>, Diagnostic> =
            named.iter().map(|written| checker.key_named(written)).collect();
        Ok((checked.lower(request, checker), keys?))
    }
}

/// Whether a name is one without double quotes.
fn is_plain_name(name: &str) -> bool {
    let mut chars = name.chars();
    chars.next().is_some_and(|c| c.is_alphabetic() || c == '_')
        && chars.all(|c| c.is_alphanumeric() || c == '_')
}

/// Adds the way out to mistakes in texts that name a column with spaces or signs without its double quotes.
fn with_quotes(error: Error, names: &[String]) -> Error {
    let Error::Diagnostics(mut mistakes) = error else { return error };
    let mut longest: Vec<&String> = names.iter().filter(|n| !n.trim().is_empty()).collect();
    longest.sort_by_key(|name| std::cmp::Reverse(name.len()));
    for mistake in &mut mistakes {
        let written = &mistake.written;
        let mut quoted = String::new();
        let (mut rest, mut quote, mut found) = (written.text.as_str(), None, false);
        let mut before = None;
        while let Some(c) = rest.chars().next() {
            let starts = quote.is_none() && !before.is_some_and(char::is_alphanumeric);
            let name = longest.iter().find(|n| {
                let behind = rest.get(n.len()..).and_then(|r| r.chars().next());
                starts && rest.starts_with(n.as_str()) && !behind.is_some_and(char::is_alphanumeric)
            });
            if let Some(name) = name {
                quoted.push_str(&format!("\"{}\"", name.replace('"', "\"\"")));
                rest = &rest[name.len()..];
                (found, before) = (true, Some('"'));
                continue;
            }
            match quote {
                None if matches!(c, '\'' | '"') => quote = Some(c),
                Some(q) if q == c => quote = None,
                _ => {}
            }
            quoted.push(c);
            before = Some(c);
            rest = &rest[c.len_utf8()..];
        }
        if found {
            let option = written.origin.split(' ').next().unwrap_or("--show");
            let quoted = quoted.replace('\'', r"'\''");
            mistake.help.insert(
                0,
                format!("a name with spaces or signs stands in double quotes: {option} '{quoted}'"),
            );
        }
    }
    Error::Diagnostics(mistakes)
}

/// A result that has been checked.
struct Asked {
    heading: String,
    value: Typed,
    ratio: Option<[Typed; 2]>,
    plain: bool,
    share: bool,
    note: Option<String>,
    sums_rows: bool,
    written: Arc<SourceText>,
    expr: Expr,
}

/// A request that has been checked.
struct Checks {
    condition: Option<Typed>,
    fill: Vec<Option<Fill>>,
    results: Vec<Asked>,
    sort: Vec<SortPlan<Typed>>,
    sort_column: Vec<(usize, AtLabel)>,
    lines_where: Vec<Typed>,
}

impl Checks {
    fn new(request: &Request, checker: &mut Checker) -> Result<Checks, Error> {
        let mut mistakes: Vec<Diagnostic> = Vec::new();
        for show in &request.show {
            if let Some(heading) = &show.heading {
                checker.add_heading(heading, &show.calc);
            }
        }
        for written in request.by.iter().chain(&request.columns_by) {
            for key in Show::parse_all(&written.origin, &written.text) {
                if let Some(heading) = &key.heading {
                    checker.add_heading(heading, &key.calc);
                }
            }
        }
        for lookup in &request.lookups {
            lookups::add(lookup, checker)?;
        }
        let mut conditions = Vec::new();
        for written in &request.filters {
            match checker.filter(written) {
                Ok(condition) => conditions.push(condition),
                Err(mistake) => mistakes.push(mistake),
            }
        }
        let condition = checker.all(&conditions);
        for written in &request.by {
            checker.add_keys(written).unwrap_or_else(|m| mistakes.push(m));
        }
        checker.by_keys = checker.keys.len();
        for written in &request.columns_by {
            checker.add_keys(written).unwrap_or_else(|m| mistakes.push(m));
        }
        if !mistakes.is_empty() {
            return Err(Error::Diagnostics(mistakes));
        }
        let fill = fills(request, checker)?;
        let results = all_results(request, checker, &mut mistakes);
        let sort = order(request, checker, &results, &mut mistakes);
        let sort_column = sort_column(request, checker, &mut mistakes);
        let mut lines_where = Vec::new();
        for written in &request.lines_where {
            match checker.lines_where(written) {
                Ok(condition) => lines_where.push(condition),
                Err(mistake) => mistakes.push(mistake),
            }
        }
        if !mistakes.is_empty() {
            return Err(Error::Diagnostics(mistakes));
        }
        let cuts = request.top.is_some() || request.bottom.is_some();
        if checker.by_keys == 0 && !request.listing && (!lines_where.is_empty() || cuts) {
            return Err(Error::request_with_help(
                "--lines-where, --top and --bottom choose among lines, and there is only one",
                "add --by; a condition on rows is --where",
            ));
        }
        let mut checks = Checks { condition, fill, results, sort, sort_column, lines_where };
        if request.for_reading {
            for result in checks.results.iter_mut().filter(|r| r.value.kind == Kind::Float) {
                result.ratio = checker.ratio_of(result.value);
            }
        }
        Ok(checks)
    }

    /// Gives each node its place in a program.
    fn lower(self, request: &Request, checker: Checker) -> Plan {
        let labels = labels(&self.fill, &checker);
        let mut lowering = Lowering::new(&checker);
        let condition = self.condition.map(|c| lowering.value(c, Target::Filter).operand);
        let lookups = self.lookups(&checker, &mut lowering);
        let mut results = self.results(&checker, &mut lowering);
        let mut in_table = |v: Typed| lowering.value(v, Target::Table);
        let sort = self.sort.iter().map(|s| SortPlan {
            by: match s.by {
                SortBy::Key(key) => SortBy::Key(key),
                SortBy::Result(value) => SortBy::Result(in_table(value).operand),
            },
            descending: s.descending,
        });
        let sort = sort.collect();
        let lines_where = self.lines_where.iter().map(|&c| in_table(c).operand).collect();
        for (result, asked) in results.iter_mut().zip(&self.results) {
            result.ratio = asked.ratio.map(|both| both.map(&mut in_table));
        }
        let lets = checker.all_names();
        let mut programs = lowering.finish();
        let values = std::mem::take(&mut programs.values);
        let watches = Watches::new(&programs, values);
        let mut plan = Plan {
            columns: checker.columns().to_vec(),
            needed: Vec::new(),
            lookups,
            condition,
            programs,
            by_keys: checker.by_keys,
            listing: checker.listing,
            results,
            fill: self.fill,
            labels,
            sort,
            sort_column: self.sort_column,
            lines_where,
            top: request.top,
            bottom: request.bottom,
            rest_label: request.rest_label.clone().unwrap_or_else(|| "Rest".to_owned()),
            totals: request.totals,
            totals_at: request.totals_at,
            inputs: checker.inputs,
            notes: checker.notes,
            watches,
            calculations: Calculations { tree: checker.tree, known: checker.known, lets },
        };
        plan.needed = needed(&plan);
        plan
    }

    /// The lookups, with the row that each row finds.
    fn lookups(&self, checker: &Checker, lowering: &mut Lowering<'_>) -> Vec<LookupPlan> {
        let mut lookups = Vec::new();
        for joined in &checker.lookups {
            let leaves_out = joined.no_match == NoMatch::LeaveOut;
            let target = if leaves_out { Target::Filter } else { Target::Row };
            lookups.push(LookupPlan {
                lookup: joined.lookup.clone(),
                on: joined.written.clone(),
                no_match: joined.no_match,
                found: lowering.value(joined.found, target).operand,
            });
        }
        lookups
    }

    /// The results, yet without their exact parts.
    fn results(&self, checker: &Checker, lowering: &mut Lowering<'_>) -> Vec<ResultPlan> {
        let one = |asked: &Asked| ResultPlan {
            heading: asked.heading.clone(),
            built: lowering.value(asked.value, Target::Table),
            ratio: None,
            plain: asked.plain,
            share: asked.share,
            note: asked.note.clone(),
            rounded_once: rounded_once(checker, asked.value),
            written: asked.written.clone(),
            expr: asked.expr.clone(),
            sums_rows: asked.sums_rows,
        };
        self.results.iter().map(one).collect()
    }
}

/// Which inputs are needed beyond the filter.
fn needed(plan: &Plan) -> Vec<bool> {
    let mut needed = vec![false; plan.inputs.len()];
    let mut need = |operand: Operand| {
        if let Operand::Input(i) = operand
            && let Some(place) = needed.get_mut(i)
        {
            *place = true;
        }
    };
    for step in plan.row.steps.iter().chain(&plan.second_pass.steps) {
        step.args.iter().for_each(|&a| need(a));
    }
    for input in &plan.table_inputs {
        if let TableInput::Row(built) = input {
            need(built.operand);
        }
    }
    for second_pass in &plan.second_pass_aggregates {
        second_pass.args.iter().for_each(|a| need(a.operand));
    }
    for grouping in &plan.groupings {
        grouping.keys.iter().for_each(|k| need(k.operand));
        for state in &grouping.states {
            state.args.iter().for_each(|a| need(a.operand));
            state.condition.into_iter().for_each(&mut need);
        }
    }
    needed
}

/// Whether a binary64 result is the nearest to its exact value: an aggregate, or a quotient of exact numbers.
fn rounded_once(checker: &Checker, value: Typed) -> bool {
    match checker.tree.node(value.id) {
        TreeNode::Aggregate(node) => node.aggregate.rounds_once(),
        TreeNode::Apply { op: Op::Divide, args } => args.iter().all(|a| a.kind != Kind::Float),
        _ => false,
    }
}

/// The results asked for; without any all columns of a detail, else the rows counted.
fn all_results(
    request: &Request,
    checker: &mut Checker,
    mistakes: &mut Vec<Diagnostic>,
) -> Vec<Asked> {
    let column =
        |c: &ColumnInfo| SourceText::new("--show", format!("\"{}\"", c.name.replace('"', "\"\"")));
    let asked: Vec<(Option<&str>, Arc<SourceText>)> =
        match (request.show.is_empty(), request.listing) {
            (false, _) => {
                request.show.iter().map(|s| (s.heading.as_deref(), s.calc.clone())).collect()
            }
            (true, true) => checker.columns().iter().map(|c| (None, column(c))).collect(),
            (true, false) => vec![(Some("rows"), SourceText::new("--show", "count()"))],
        };
    let mut headings: HashMap<String, usize> =
        checker.keys.iter().map(|k| (k.heading.clone(), 1)).collect();
    let mut notes = Notes::default();
    let mut results = Vec::new();
    for (heading, written) in &asked {
        add_results(checker, *heading, written, &mut results, (&mut headings, &mut notes))
            .unwrap_or_else(|m| mistakes.push(m));
    }
    results
}

fn add_results(
    checker: &mut Checker,
    heading: Option<&str>,
    written: &Arc<SourceText>,
    results: &mut Vec<Asked>,
    (headings, notes): (&mut HashMap<String, usize>, &mut Notes),
) -> Result<(), Diagnostic> {
    let list = parser::parse_list(written)?;
    if let (Some(heading), Some(second)) = (heading, list.get(1)) {
        return Err(Diagnostic::new(
            written,
            second.span.clone(),
            "one heading for several calculations",
        )
        .label(format!("`{heading}:` names one; give each its own --show")));
    }
    for expr in list {
        let key = checker.key_of(written, &expr)?.is_some();
        let level = checker.level_of(written, &expr)?;
        let sums_rows = !key && !checker.listing && level == Level::Row;
        let result = checker.result(written, &expr)?;
        let note = match () {
            () if key => Some(format!("`{}` is a key", result.heading)),
            () if sums_rows || checker.listing => None,
            () => notes.note(checker, written, &expr),
        };
        let wanted = heading.map_or(result.heading, str::to_owned);
        results.push(Asked {
            heading: free_heading(headings, wanted),
            value: result.value,
            ratio: None,
            plain: is_column(checker, &expr),
            share: notes.is_share(checker, &expr),
            note,
            sums_rows,
            written: written.clone(),
            expr,
        });
    }
    Ok(())
}

/// Headings name the figures in files, so that no two may be the same. Each knows the number that it was
/// given last.
fn free_heading(headings: &mut HashMap<String, usize>, mut heading: String) -> String {
    if let Some(&last) = headings.get(&heading) {
        let free = |n: &usize| !headings.contains_key(&format!("{heading} ({n})"));
        let n = (last + 1..).find(free).unwrap_or(last);
        headings.insert(heading.clone(), n);
        heading = format!("{heading} ({n})");
    }
    headings.insert(heading.clone(), 1);
    heading
}

/// Whether a calculation is a column of the rows, in a listing.
fn is_column(checker: &Checker, expr: &Expr) -> bool {
    let Node::Name { name, table } = &expr.node else { return false };
    checker.listing && (table.is_some() || !checker.is_named(name))
}

/// The order of the lines: as asked for; where only the ends are shown, by the first result.
fn order(
    request: &Request,
    checker: &mut Checker,
    results: &[Asked],
    mistakes: &mut Vec<Diagnostic>,
) -> Vec<SortPlan<Typed>> {
    let mut sort = Vec::new();
    if let Some(written) = &request.sort {
        add_sort(checker, written, results, &mut sort).unwrap_or_else(|m| mistakes.push(m));
    }
    // The first rows of a detail are those of the file.
    if sort.is_empty()
        && !request.listing
        && (request.top.is_some() || request.bottom.is_some())
        && let Some(first) = results.first()
    {
        sort.push(SortPlan { by: SortBy::Result(first.value), descending: true });
    }
    sort
}

/// The column along the top by which lines are sorted, from its outermost key on.
fn sort_column(
    request: &Request,
    checker: &mut Checker,
    mistakes: &mut Vec<Diagnostic>,
) -> Vec<(usize, AtLabel)> {
    let mut keys: Vec<(usize, AtLabel)> = Vec::new();
    for (written, label) in &request.sort_column {
        let all = 0..written.text.len();
        match checker.key_named(written) {
            Ok(key) if key < checker.by_keys => {
                let message = "this key stands down the side";
                let label = "--sort-column takes those of --columns-by";
                mistakes.push(Diagnostic::new(written, all, message).label(label));
            }
            Ok(key) => keys.push((key, label.clone())),
            Err(mistake) => mistakes.push(mistake),
        }
    }
    keys.sort_by_key(|k| k.0);
    keys.dedup_by_key(|k| k.0);
    let in_a_row = keys.iter().enumerate().all(|(i, k)| k.0 == checker.by_keys + i);
    if let (false, Some((written, _))) = (in_a_row, request.sort_column.first()) {
        let message = "this leaves out a key of --columns-by that stands outside";
        mistakes.push(Diagnostic::new(written, 0..written.text.len(), message));
    }
    keys
}

fn add_sort(
    checker: &mut Checker,
    written: &Arc<SourceText>,
    results: &[Asked],
    sort: &mut Vec<SortPlan<Typed>>,
) -> Result<(), Diagnostic> {
    for (expr, descending) in parser::parse_sort(written)? {
        let text = &written.text[expr.span.clone()];
        let bare = text.trim_matches('"');
        let by = if let Some(result) = results.iter().find(|r| r.heading == bare) {
            SortBy::Result(result.value)
        } else {
            match checker.key_meant(written, &expr)? {
                Some(key) => SortBy::Key(key),
                None => SortBy::Result(checker.result(written, &expr)?.value),
            }
        };
        sort.push(SortPlan { by, descending: descending.unwrap_or(false) });
    }
    Ok(())
}

/// What each key is filled with.
fn fills(request: &Request, checker: &mut Checker) -> Result<Vec<Option<Fill>>, Error> {
    let keys = checker.keys.clone();
    let in_time = |k: Kind| matches!(k, Kind::Period(_) | Kind::Part(_) | Kind::Date);
    let periods = |kind: Kind| (request.every_period && in_time(kind)).then_some(Fill::Periods);
    let mut fill: Vec<Option<Fill>> = keys.iter().map(|k| periods(k.value.kind)).collect();
    for written in &request.every {
        for expr in parser::parse_list(written)? {
            let Some(place) = checker.key_meant(written, &expr)? else {
                let message = "this is no key of the table";
                return Err(Diagnostic::new(written, expr.span, message)
                    .label("--every takes what stands in --by or --columns-by")
                    .into());
            };
            let Some((lookup, _)) = checker.lookup_labels(keys[place].value) else {
                return Err(Diagnostic::new(
                    written,
                    expr.span,
                    "no lookup lists these categories",
                )
                .label("--every takes a column of a lookup, or the column that finds it")
                .into());
            };
            // Outer keys of the same lookup come with it, and those of the other axis: groups that only
            // the lookup has.
            let by = checker.by_keys;
            let inner = if place < by { place + 1..by } else { place + 1..keys.len() };
            for k in (0..keys.len()).filter(|k| !inner.contains(k)) {
                let of = checker.lookup_labels(keys[k].value);
                if of.is_some_and(|of| of.0 == lookup) {
                    fill[k] = Some(Fill::Labels);
                }
            }
        }
    }
    if request.every_period
        && !fill.contains(&Some(Fill::Periods))
        && keys.iter().all(|k| k.value.kind != Kind::Nothing)
    {
        return Err(Error::request_with_help(
            "--every-period shows periods without rows, and no key is a period",
            "group by one: --by 'month(date)'",
        ));
    }
    Ok(fill)
}

/// The labels that lookups list of the keys, where any key is filled.
fn labels(fill: &[Option<Fill>], checker: &Checker) -> Vec<Labels> {
    match fill.iter().any(Option::is_some) {
        true => checker.keys.iter().map(|k| checker.lookup_labels(k.value)).collect(),
        false => vec![None; fill.len()],
    }
}

#[cfg(test)]
mod tests {
    use crate::testing::{refusal, rows, text};
    use crate::{Plan, Request, Show};
    use oeuvre_columns::{Kind, Source};
    use rstest::rstest;

    const ROWS: &str = "k d:date x:2\n";

    #[rstest]
    #[case(|r: &mut Request| r.by = vec![text("k, k")], "the key `k` is given twice")]
    #[case(|r: &mut Request| r.filters = vec![text("x")], "expected a condition")]
    #[case(|r: &mut Request| r.sort = Some(text("xx")), "`xx`")]
    #[case(|r: &mut Request| r.lines_where = vec![text("sum(x)")], "condition")]
    #[case(|r: &mut Request| r.every = vec![text("k")], "lookup")]
    #[case(|r: &mut Request| r.lets = vec![("a".into(), text("1")), ("a".into(), text("2"))], "`a` is given twice")]
    #[case(|r: &mut Request| r.show.push(Show::parse("--show", "Two: sum(x), count()")), "one heading for several")]
    #[case(|r: &mut Request| { r.listing = true; r.show.clear(); r.by = vec![text("k")]; }, "")]
    fn a_request_that_cannot_be_met_is_refused(
        #[case] change: fn(&mut Request),
        #[case] said: &str,
    ) {
        let mut request = Request::of(&["k"], &["sum(x)"]);
        change(&mut request);
        if said.is_empty() {
            assert!(Plan::new(&request, rows(ROWS).columns()).is_ok());
            return;
        }
        let told = refusal(&rows(ROWS), &request);
        assert!(told.contains(said), "{told}");
    }

    #[test]
    fn all_mistakes_are_told_together() {
        let told = |request: &Request| refusal(&rows(ROWS), request);
        let mut request = Request::of(&["kk"], &["sum(xx)"]);
        request.filters = vec![text("dd > 1")];
        // Results are checked when the keys are known.
        assert!(["`kk`", "`dd`"].iter().all(|m| told(&request).contains(m)), "{}", told(&request));
        let request = Request::of(&["k"], &["sum(xx)", "meen(x)"]);
        assert!(
            ["`xx`", "`meen`"].iter().all(|m| told(&request).contains(m)),
            "{}",
            told(&request)
        );
    }

    #[rstest]
    #[case(&[], false, &["rows"])]
    #[case(&[], true, &["k", "d", "x"])]
    #[case(&["sum(x), mean(x)"], false, &["sum(x)", "mean(x)"])]
    #[case(&["Fares: sum(x)"], false, &["Fares"])]
    #[case(&["x, x * 2"], true, &["x", "x * 2"])]
    fn results_are_those_asked_for_or_what_goes_without_saying(
        #[case] show: &[&str],
        #[case] listing: bool,
        #[case] headings: &[&str],
    ) {
        let request = Request { listing, ..Request::of(&[], show) };
        let plan = Plan::new(&request, rows(ROWS).columns()).unwrap();
        let found: Vec<&str> = plan.results.iter().map(|r| r.heading.as_str()).collect();
        assert_eq!(found, headings);
    }

    #[test]
    fn a_plan_of_values_has_a_state_for_each_column() {
        let plan = Plan::of_values(&Request::default(), rows(ROWS).columns()).unwrap();
        assert_eq!(plan.programs.groupings[0].states.len(), 4);
        assert_eq!(plan.columns[2].kind, Kind::Number { scale: 2 });
    }
}
