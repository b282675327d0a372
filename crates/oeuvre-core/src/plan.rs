//! A request with names resolved and levels checked: what the engine runs.

use crate::error::{Error, Mistake, Written};
use crate::language::ast::{Expr, Node};
use crate::language::parser;
use crate::language::resolve::{Built, Level, Place, Resolver, TableInput};
use crate::lookup;
use crate::request::{Request, Totals, TotalsAt};
use crate::rows::column::ColumnInfo;
use crate::rows::lookup::NoMatch;
use crate::rows::program::Operand;
use crate::value::{Kind, Value};
use std::collections::{HashMap, HashSet};
use std::sync::Arc;

/// A result to be shown.
#[derive(Clone, Debug)]
pub struct ResultPlan {
    /// What readers see.
    pub heading: String,
    /// Where its values are, in the table program.
    pub built: Built,
    /// Its numerator and denominator, exact, for figures that are read: where they are known.
    pub ratio: Option<[Built; 2]>,
    /// Whether it is a column of the rows, listed as it is.
    pub plain: bool,
    /// Whether it reads as a share of something, and so in percent.
    pub share: bool,
    /// Why lines need not add up to their total; `None` where they do.
    pub note: Option<String>,
    /// The text that the calculation stands in.
    pub written: Arc<Written>,
    /// The calculation.
    pub expr: Expr,
    /// Whether it gives a number on each row, which was added up.
    pub sums_rows: bool,
}

impl ResultPlan {
    /// The calculation as written.
    pub fn calc(&self) -> &str {
        self.written.text[self.expr.span.clone()].trim()
    }
}

/// What lines are ordered by.
#[derive(Clone, Copy, Debug)]
pub enum SortBy {
    /// A key: orders the siblings that differ in it.
    Key(usize),
    /// A result, in the table program: orders siblings at every depth.
    Result(Operand),
}

/// One of the sort orders, the first counts most.
#[derive(Clone, Copy, Debug)]
pub struct SortPlan {
    /// By what.
    pub by: SortBy,
    /// Largest or last first.
    pub descending: bool,
}

/// What a key is filled with where there are no rows.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Fill {
    /// The periods from the first to the last, or all parts of the calendar.
    Periods,
    /// The labels that a lookup has.
    Labels,
}

/// What is known of a key, for filling.
#[derive(Clone, Debug, Default)]
pub struct KeyFacts {
    /// The date that it is a period or a part of.
    pub date: Option<Operand>,
    /// The lookup that lists its labels, and the label in each of its rows.
    pub lookup: Option<(usize, Vec<Value>)>,
}

/// All that a run needs to know.
pub struct Plan {
    /// The programs, keys, states and aggregates.
    pub resolved: Resolver,
    /// The condition that rows must meet, in the filter program.
    pub filter: Option<Operand>,
    /// For each lookup the row that each row finds: in the filter program where rows without a match
    /// are left out, else in that of the rows.
    pub found: Vec<Operand>,
    /// The results.
    pub results: Vec<ResultPlan>,
    /// For each key what it is filled with.
    pub fill: Vec<Option<Fill>>,
    /// Where a key is filled, what is known of each; else nothing.
    pub key_facts: Vec<KeyFacts>,
    /// The order of lines.
    pub sort: Vec<SortPlan>,
    /// Which lines are shown, in the table program.
    pub keep: Vec<Operand>,
    /// How many lines to show from the first.
    pub top: Option<u64>,
    /// How many lines to show from the last.
    pub bottom: Option<u64>,
    /// What the line is called that makes up for those not shown.
    pub rest_label: String,
    /// Total lines.
    pub totals: Totals,
    /// Where they stand.
    pub totals_at: TotalsAt,
}

impl Plan {
    /// Whether rows without a match in a lookup are left out.
    pub fn drops_unmatched(&self, lookup: usize) -> bool {
        self.resolved.lookups[lookup].no_match == NoMatch::LeaveOut
    }

    /// Whether any lookup leaves rows out.
    pub fn drops(&self) -> bool {
        (0..self.found.len()).any(|i| self.drops_unmatched(i))
    }

    /// Checks a request against the columns.
    ///
    /// # Errors
    /// All mistakes that were found.
    pub fn new(request: &Request, columns: Vec<ColumnInfo>) -> Result<Plan, Error> {
        let mut resolved = Resolver::new(columns, &request.lets).map_err(Error::Mistakes)?;
        resolved.listing = request.listing;
        let mut mistakes: Vec<Mistake> = Vec::new();
        let found = add_lookups(request, &mut resolved)?;
        let mut conditions = Vec::new();
        for written in &request.filters {
            match resolved.filter(written) {
                Ok(condition) => conditions.push(condition),
                Err(mistake) => mistakes.push(mistake),
            }
        }
        let filter = resolved.all(&conditions);
        for written in &request.by {
            resolved.add_keys(written).unwrap_or_else(|m| mistakes.push(m));
        }
        resolved.by_keys = resolved.keys().len();
        for written in &request.columns_by {
            resolved.add_keys(written).unwrap_or_else(|m| mistakes.push(m));
        }
        if !mistakes.is_empty() {
            return Err(Error::Mistakes(mistakes));
        }
        let (fill, key_facts) =
            fills(request, &mut resolved).map_err(|m| Error::Mistakes(vec![m]))?;
        if request.every_period
            && !fill.contains(&Some(Fill::Periods))
            && resolved.keys().iter().all(|k| k.kind != Kind::Nothing)
        {
            return Err(Error::request_with_help(
                "--every-period shows periods without rows, and no key is a period",
                "group by one: --by 'month(date)'",
            ));
        }
        let mut results = all_results(request, &mut resolved, &mut mistakes);
        let sort = order(request, &mut resolved, &results, &mut mistakes);
        let mut keep = Vec::new();
        for written in &request.lines_where {
            match resolved.keep(written) {
                Ok(condition) => keep.push(condition),
                Err(mistake) => mistakes.push(mistake),
            }
        }
        if !mistakes.is_empty() {
            return Err(Error::Mistakes(mistakes));
        }
        if resolved.by_keys == 0
            && !request.listing
            && (!keep.is_empty() || request.top.is_some() || request.bottom.is_some())
        {
            return Err(Error::request_with_help(
                "--lines-where, --top and --bottom choose among lines, and there is only one",
                "add --by; a condition on rows is --where",
            ));
        }
        if request.for_reading {
            for result in results.iter_mut().filter(|r| r.built.kind == Kind::Float) {
                result.ratio = resolved.ratio_of(Place::Table, result.built);
            }
        }
        resolved.seal();
        Ok(Plan {
            fill,
            key_facts,
            resolved,
            filter,
            found,
            results,
            sort,
            keep,
            top: request.top,
            bottom: request.bottom,
            rest_label: request.rest_label.clone().unwrap_or_else(|| "Rest".to_owned()),
            totals: request.totals,
            totals_at: request.totals_at,
        })
    }

    /// The inputs of the table program across cells that a result uses, the outermost first.
    pub fn windows_of(&self, operand: Operand) -> Vec<usize> {
        let mut inputs = self.inputs_of(operand);
        inputs.retain(|&i| matches!(self.resolved.table_inputs[i], TableInput::Window(_)));
        inputs
    }

    /// The results of groups that a result is worked out from, in the table program.
    pub fn group_inputs(&self, operand: Operand) -> Vec<usize> {
        let mut inputs = self.inputs_of(operand);
        inputs.retain(|&i| self.resolved.table_calcs[i].is_some());
        inputs
    }

    /// All inputs of the table program that a result is worked out from, each once, in the order of the
    /// calculation.
    fn inputs_of(&self, operand: Operand) -> Vec<usize> {
        let (mut out, mut waiting) = (Vec::new(), vec![operand]);
        let mut seen = HashSet::new();
        while let Some(operand) = waiting.pop() {
            if !seen.insert(operand) {
                continue;
            }
            match operand {
                Operand::Step(i) => waiting.extend(self.resolved.table.steps[i].args.iter().rev()),
                Operand::Input(i) => {
                    out.push(i);
                    if let TableInput::Window(w) = &self.resolved.table_inputs[i] {
                        let args = w.args.iter().rev().map(|a| a.operand);
                        waiting.extend(w.condition.into_iter().chain(args));
                    }
                }
            }
        }
        out
    }

    /// Whether a binary64 result is the nearest to its exact value: an aggregate, or a quotient of exact numbers.
    pub fn rounded_once(&self, operand: Operand) -> bool {
        let exact = |step: &crate::rows::program::Step| {
            matches!(step.op, crate::rows::program::Op::Divide)
                && step.arg_kinds.iter().all(|k| *k != Kind::Float)
        };
        match operand {
            Operand::Step(i) => exact(&self.resolved.table.steps[i]),
            Operand::Input(i) => match &self.resolved.table_inputs[i] {
                TableInput::Group(b) => {
                    let scope = &self.resolved.scopes[0];
                    match b.operand {
                        Operand::Step(i) => exact(&scope.group.steps[i]),
                        Operand::Input(i) => i
                            .checked_sub(scope.keys.len())
                            .and_then(|i| scope.aggregates.get(i))
                            .is_some_and(|a| a.aggregate.rounds_once()),
                    }
                }
                TableInput::Row(b) => match b.operand {
                    Operand::Step(i) => exact(&self.resolved.row.steps[i]),
                    Operand::Input(_) => false,
                },
                TableInput::Window(_) => false,
            },
        }
    }

    /// Whether any line may be left out.
    pub fn cuts(&self) -> bool {
        !self.keep.is_empty() || self.top.is_some() || self.bottom.is_some()
    }
}

/// Adds the lookups, and gives for each the row that each row finds in it.
fn add_lookups(request: &Request, resolved: &mut Resolver) -> Result<Vec<Operand>, Error> {
    for lookup in &request.lookups {
        let lookup = lookup::joined(lookup, resolved.columns(), &resolved.lookups)?;
        if resolved.lookups.iter().any(|l| l.lookup.table.name == lookup.lookup.table.name) {
            return Err(Error::request_with_help(
                format!("two lookups are called `{}`", lookup.lookup.table.name),
                "name one: --lookup 'NAME=FILE'",
            ));
        }
        resolved.lookups.push(lookup);
    }
    (0..resolved.lookups.len())
        .map(|i| {
            let drop = resolved.lookups[i].no_match == NoMatch::LeaveOut;
            resolved.lookup_row(i, drop).map_err(Error::from)
        })
        .collect()
}

/// The results asked for; without any all columns of a detail, else the rows counted.
fn all_results(
    request: &Request,
    resolved: &mut Resolver,
    mistakes: &mut Vec<Mistake>,
) -> Vec<ResultPlan> {
    let column =
        |c: &ColumnInfo| Written::new("--show", format!("\"{}\"", c.name.replace('"', "\"\"")));
    let asked: Vec<(Option<&str>, Arc<Written>)> = match (request.show.is_empty(), request.listing)
    {
        (false, _) => request.show.iter().map(|s| (s.heading.as_deref(), s.calc.clone())).collect(),
        (true, true) => resolved.columns().iter().map(|c| (None, column(c))).collect(),
        (true, false) => vec![(Some("rows"), Written::new("--show", "count()"))],
    };
    let mut results = Vec::new();
    let mut headings: HashMap<String, usize> =
        resolved.keys().iter().map(|k| (k.heading.clone(), 1)).collect();
    for (heading, written) in &asked {
        add_results(resolved, *heading, written, &mut results, &mut headings)
            .unwrap_or_else(|m| mistakes.push(m));
    }
    results
}

/// The order of the lines: as asked for; where only the ends are shown, by the first result.
fn order(
    request: &Request,
    resolved: &mut Resolver,
    results: &[ResultPlan],
    mistakes: &mut Vec<Mistake>,
) -> Vec<SortPlan> {
    let mut sort = Vec::new();
    if let Some(written) = &request.sort {
        add_sort(resolved, written, results, &mut sort).unwrap_or_else(|m| mistakes.push(m));
    }
    if sort.is_empty()
        && (request.top.is_some() || request.bottom.is_some())
        && let Some(first) = results.first()
    {
        sort.push(SortPlan { by: SortBy::Result(first.built.operand), descending: true });
    }
    sort
}

/// What each key is filled with.
#[allow(clippy::type_complexity)]
fn fills(
    request: &Request,
    resolved: &mut Resolver,
) -> Result<(Vec<Option<Fill>>, Vec<KeyFacts>), Mistake> {
    let keys = resolved.keys().to_vec();
    let mut fill: Vec<Option<Fill>> = keys
        .iter()
        .map(|k| {
            let time = matches!(k.kind, Kind::Period(_) | Kind::Part(_) | Kind::Date);
            (request.every_period && time).then_some(Fill::Periods)
        })
        .collect();
    for written in &request.every {
        for expr in parser::parse_list(written)? {
            let place = match resolved.key_meant(written, &expr)? {
                Some(place) => place,
                None => {
                    let message = "this is no key of the table";
                    return Err(Mistake::new(written, expr.span, message)
                        .label("--every takes what stands in --by or --columns-by"));
                }
            };
            let Some((lookup, _)) = resolved.lookup_labels(keys[place].operand) else {
                return Err(Mistake::new(written, expr.span, "no lookup lists these categories")
                    .label("--every takes a column of a lookup, or the column that finds it"));
            };
            // Outer keys of the same lookup come with it, and those of the other axis: groups that only
            // the lookup has.
            let by = resolved.by_keys;
            let inner = if place < by { place + 1..by } else { place + 1..keys.len() };
            for k in (0..keys.len()).filter(|k| !inner.contains(k)) {
                let of = resolved.lookup_labels(keys[k].operand);
                if of.is_some_and(|of| of.0 == lookup) {
                    fill[k] = Some(Fill::Labels);
                }
            }
        }
    }
    let facts = |k: usize| match fill.iter().any(Option::is_some) {
        true => KeyFacts {
            date: resolved.date_of_key(k),
            lookup: resolved.lookup_labels(keys[k].operand),
        },
        false => KeyFacts::default(),
    };
    let facts = (0..keys.len()).map(facts).collect();
    Ok((fill, facts))
}

fn add_results(
    resolved: &mut Resolver,
    heading: Option<&str>,
    written: &Arc<Written>,
    results: &mut Vec<ResultPlan>,
    headings: &mut HashMap<String, usize>,
) -> Result<(), Mistake> {
    let list = parser::parse_list(written)?;
    if let (Some(heading), Some(second)) = (heading, list.get(1)) {
        return Err(Mistake::new(
            written,
            second.span.clone(),
            "one heading for several calculations",
        )
        .label(format!("`{heading}:` names one; give each its own --show")));
    }
    for expr in &list {
        let key = resolved.key_of(written, expr)?.is_some();
        let sums_rows = !key && !resolved.listing && resolved.level(written, expr)? == Level::Row;
        let (built, suggested, note) = resolved.result(written, expr)?;
        let mut heading = heading.map_or(suggested, str::to_owned);
        // Headings name the figures in files, so that no two may be the same. Each knows the number that
        // it was given last.
        if let Some(&last) = headings.get(&heading) {
            let free = |n: &usize| !headings.contains_key(&format!("{heading} ({n})"));
            let n = (last + 1..).find(free).unwrap_or(last);
            headings.insert(heading.clone(), n);
            heading = format!("{heading} ({n})");
        }
        headings.insert(heading.clone(), 1);
        let (written, expr, share) = (written.clone(), expr.clone(), resolved.is_share(expr));
        let plain = request_plain(resolved, &expr);
        results.push(ResultPlan {
            heading,
            built,
            ratio: None,
            plain,
            share,
            note,
            written,
            expr,
            sums_rows,
        });
    }
    Ok(())
}

/// Whether a calculation is a column of the rows, in a listing.
fn request_plain(resolved: &Resolver, expr: &Expr) -> bool {
    let Node::Name { name, table } = &expr.node else { return false };
    resolved.listing && (table.is_some() || !resolved.is_named(name))
}

fn add_sort(
    resolved: &mut Resolver,
    written: &Arc<Written>,
    results: &[ResultPlan],
    sort: &mut Vec<SortPlan>,
) -> Result<(), Mistake> {
    for (expr, descending) in parser::parse_sort(written)? {
        let text = &written.text[expr.span.clone()];
        let bare = text.trim_matches('"');
        let by = if let Some(result) = results.iter().find(|r| r.heading == bare) {
            SortBy::Result(result.built.operand)
        } else {
            match resolved.key_meant(written, &expr)? {
                Some(key) => SortBy::Key(key),
                None => SortBy::Result(resolved.result(written, &expr)?.0.operand),
            }
        };
        sort.push(SortPlan { by, descending: descending.unwrap_or(false) });
    }
    Ok(())
}
