//! What tests beside the code share: rows and tables as short texts.

use crate::{Error, Grid, Ledger, LineKind, Plan, Request, SourceText, list, run};
use oeuvre_columns::value::calendar::Unit;
use oeuvre_columns::{InMemory, Kind, Source};

/// Rows from a text: headings with their kinds (`route fare:2 sailed_on:date`), then a row a line, with bars
/// between values. Nothing between two bars is a missing value.
pub(crate) fn rows(text: &str) -> InMemory {
    let (head, body) = text.split_once('\n').unwrap_or((text, ""));
    let column = |heading: &'_ str| {
        let (name, kind) = heading.split_once(':').unwrap_or((heading, "text"));
        let kind = match kind {
            "text" => Kind::Text,
            "date" => Kind::Date,
            "time" => Kind::DateTime,
            "bool" => Kind::Boolean,
            "float" => Kind::Float,
            "month" => Kind::Period(Unit::Month),
            digits => Kind::Number { scale: digits.parse().unwrap() },
        };
        (name.to_owned(), kind)
    };
    let columns: Vec<(String, Kind)> = head.split_whitespace().map(column).collect();
    let columns: Vec<(&str, Kind)> = columns.iter().map(|c| (c.0.as_str(), c.1)).collect();
    let lines = body.lines().filter(|l| !l.trim().is_empty());
    let values: Vec<Vec<&str>> =
        lines.map(|line| line.split('|').map(str::trim).collect()).collect();
    let values: Vec<&[&str]> = values.iter().map(Vec::as_slice).collect();
    InMemory::from_texts(&columns, &values).unwrap()
}

/// A table as a text: lines with semicolons between them, each with its labels (`Total`, `Rest` where it is
/// one) and, behind an equals sign, its cells; `-` is a missing one.
pub(crate) fn shown(grid: &Grid) -> String {
    let line = |at: usize| {
        let mut labels: Vec<String> = (0..grid.by.len())
            .filter_map(|key| grid.label(at, key))
            .map(|l| if l.is_missing() { "(missing)".into() } else { l.to_string() })
            .collect();
        match grid.lines[at].kind {
            LineKind::Group => {}
            LineKind::Rest => labels.push("Rest".into()),
            LineKind::Subtotal | LineKind::Grand => labels.push("Total".into()),
        }
        let cells = (0..grid.columns.len()).map(|column| match grid.cell(at, column) {
            value if value.is_missing() => "-".to_owned(),
            value => value.to_string(),
        });
        let cells: Vec<String> = cells.collect();
        match labels.as_slice() {
            [] => cells.join(" "),
            labels => format!("{} = {}", labels.join(" "), cells.join(" ")),
        }
    };
    (0..grid.lines.len()).map(line).collect::<Vec<_>>().join("; ")
}

/// Runs a request over rows: in one batch with one thread, and in many with several, which must come to the
/// same.
pub(crate) fn answer(rows: &InMemory, request: &Request) -> Result<(Grid, Ledger), Error> {
    let plan = Plan::new(request, rows.columns())?;
    let run = |rows: &InMemory, threads: usize| match request.listing {
        true => list(&plan, rows, threads),
        false => run(&plan, rows, threads),
    };
    let (grid, ledger) = run(rows, 1)?;
    let (again, _) = run(&rows.clone().in_batches(2), 3)?;
    assert_eq!(shown(&grid), shown(&again), "in other batches");
    Ok((grid, ledger))
}

/// The table of some results by some keys, as [`shown`].
pub(crate) fn table(rows: &InMemory, by: &[&str], show: &[&str]) -> String {
    shown(&answer(rows, &Request::of(by, show)).unwrap().0)
}

/// One result over all rows.
pub(crate) fn value(rows: &InMemory, calc: &str) -> String {
    table(rows, &[], &[calc])
}

/// What is said of a request that is refused, with its help in brackets.
pub(crate) fn refusal(rows: &InMemory, request: &Request) -> String {
    match answer(rows, request) {
        Ok((grid, _)) => panic!("answered: {}", shown(&grid)),
        Err(Error::Diagnostics(all)) => {
            let said = all.iter().map(|m| format!("{} [{}] {:?}", m.message, m.label, m.help));
            said.collect::<Vec<_>>().join("; ")
        }
        Err(Error::Request { message, help, .. }) => format!("{message} {help:?}"),
        Err(error) => error.to_string(),
    }
}

/// A calculation on each row.
pub(crate) fn on_rows(calc: &str) -> Request {
    Request { listing: true, ..Request::of(&[], &[calc]) }
}

/// The kind of the first result of a request, over rows as for [`rows`].
pub(crate) fn kind(text: &str, request: &Request) -> Kind {
    Plan::new(request, rows(text).columns()).unwrap().results[0].built.kind
}

/// A text of a request.
pub(crate) fn text(text: &str) -> std::sync::Arc<SourceText> {
    SourceText::new("here", text)
}
