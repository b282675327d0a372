//! Known figures that a result must agree with.
//!
//! A check is a calculation over all rows counted, whatever lines are shown, beside the figure that is known. Both
//! sides, their difference and whether they agree are results like any other, so that a check is as exact as the
//! figures are.
//!
//! ```
//! # use oeuvre_columns::{InMemory, Kind, Source};
//! # let rows = InMemory::from_texts(&[("fare", Kind::Number { scale: 2 })], &[&["12.50"], &["7.00"]])?;
//! use oeuvre_core::{Check, Request, run_checked};
//!
//! let checks = [Check::parse("--check", "sum(fare) = 19.60 +- 1%")?, Check::parse("--check", "count() >= 3")?];
//! let request = Request { checks: checks.to_vec(), ..Request::of(&[], &["sum(fare)"]) };
//! let (_, ledger) = run_checked(&request, &rows, 1)?;
//! assert!(ledger.checks[0].holds && !ledger.checks[1].holds);
//! assert_eq!(ledger.checks[1].difference.to_string(), "-1");
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

use crate::error::{Error, SourceText};
use crate::grid::Grid;
use crate::language::parser::parse_list;
use crate::ledger::{Checked, Ledger};
use crate::plan::Plan;
use crate::request::{Check, Request, Show, Totals};
use crate::run::run_all;
use oeuvre_columns::quoting::outside_quotes;
use oeuvre_columns::value::Comparison;
use oeuvre_columns::{Decimal, Source, Value};

/// Results of a check: the figure, the known one, whether they agree; and their difference where there is one.
const RESULTS: usize = 3;

/// Plans a request and runs it with its checks, in one pass over the rows.
///
/// # Errors
/// As [`Plan::new`] and [`crate::run`].
pub fn run_checked(
    request: &Request,
    source: &dyn Source,
    threads: usize,
) -> Result<(Grid, Ledger), Error> {
    run_with_checks(&Plan::new(request, source.columns())?, request, source, threads)
}

/// As [`run_checked`], of a request that is planned already.
///
/// # Errors
/// As [`run_checked`].
pub fn run_with_checks(
    plan: &Plan,
    request: &Request,
    source: &dyn Source,
    threads: usize,
) -> Result<(Grid, Ledger), Error> {
    if request.checks.is_empty() {
        return crate::run(plan, source, threads);
    }
    let sides = sides(request, source)?;
    let mut shows: Vec<Show> = Vec::new();
    let mut with_difference = Vec::new();
    for (check, [calc, value]) in request.checks.iter().zip(&sides) {
        shows.extend([calc, value, &agreement(check, calc, value)].map(|text| shown(text)));
        let difference = shown(&format!("({calc}) - ({value})"));
        // A difference that has no meaning is left out.
        let alone = Request { show: vec![difference.clone()], ..over_all(request) };
        let has_one = Plan::new(&alone, source.columns()).is_ok();
        with_difference.push(has_one);
        shows.extend(has_one.then_some(difference));
    }
    let checks = Plan::new(&Request { show: shows, ..over_all(request) }, source.columns())?;
    let mut both = run_all(&[plan, &checks], source, threads)?;
    let Some((figures, _)) = both.pop() else { unreachable!("there are two plans") };
    let Some((grid, mut ledger)) = both.pop() else { unreachable!("there are two plans") };
    let mut at = 0;
    for (check, has_difference) in request.checks.iter().zip(with_difference) {
        let cell = |i: usize| figures.cell(0, at + i);
        ledger.checks.push(Checked {
            that: check.written.clone(),
            found: cell(0),
            wanted: cell(1),
            holds: cell(2) == Value::Boolean(true),
            difference: if has_difference { cell(RESULTS) } else { Value::Missing },
        });
        at += RESULTS + usize::from(has_difference);
    }
    Ok((grid, ledger))
}

/// A calculation of a check, as a result.
fn shown(text: &str) -> Show {
    Show { heading: None, calc: SourceText::new("--check", text) }
}

/// Both sides of each check as they are worked out: a number on each row is added up, as anywhere else. Mistakes
/// are told here, where they were written.
fn sides(request: &Request, source: &dyn Source) -> Result<Vec<[String; 2]>, Error> {
    let written = || request.checks.iter().flat_map(|c| [&c.calc, &c.value]);
    let show = written().map(|calc| Show { heading: None, calc: calc.clone() }).collect();
    let plan = Plan::new(&Request { show, ..over_all(request) }, source.columns())?;
    if let Some(calc) = written().find(|calc| parse_list(calc).is_ok_and(|list| list.len() > 1)) {
        return Err(Error::request_with_help(
            format!("--check '{}' is several figures", calc.text),
            "give each of them its own --check",
        ));
    }
    let mut texts = plan.results.iter().map(|result| match result.sums_rows {
        true => format!("sum({})", result.calc()),
        false => result.calc().to_owned(),
    });
    Ok(std::iter::from_fn(|| Some([texts.next()?, texts.next()?])).collect())
}

/// The same rows as those of a request, all of them together.
fn over_all(request: &Request) -> Request {
    Request {
        for_reading: false,
        by: Vec::new(),
        columns_by: Vec::new(),
        every_period: false,
        every: Vec::new(),
        sort: None,
        sort_column: Vec::new(),
        lines_where: Vec::new(),
        top: None,
        bottom: None,
        totals: Totals::None,
        checks: Vec::new(),
        ..request.clone()
    }
}

/// The condition that a check is.
fn agreement(check: &Check, calc: &str, value: &str) -> String {
    let how = check.how.text();
    let difference = format!("(({calc}) - ({value}))");
    match &check.tolerance {
        None => format!("({calc}) {how} ({value})"),
        Some((n, of_hundred)) => {
            let most = match of_hundred {
                true => format!("abs({value}) * {n} / 100"),
                false => n.to_string(),
            };
            let near = format!("abs{difference} <= {most}");
            match how {
                "=" => near,
                _ => format!("({calc}) {how} ({value}) or {near}"),
            }
        }
    }
}

impl Check {
    /// Reads `CALC = VALUE`, `CALC >= VALUE` or `CALC <= VALUE`, perhaps with a tolerance behind: `+- 0.5%`. The
    /// last comparison outside brackets divides.
    ///
    /// # Errors
    /// What is wrong with it, with the way out.
    pub fn parse(origin: &str, text: &str) -> Result<Check, Error> {
        let refused = |what: &str| {
            Error::request_with_help(
                format!("{origin} '{text}' {what}"),
                format!(
                    "write {origin} 'CALC = VALUE', such as {origin} 'sum(fare) = 48316.38 +- 0.5%'"
                ),
            )
        };
        let (at, ..) = outside_quotes(text)
            .filter(|o| o.1 == '=' && o.2 == 0)
            .last()
            .ok_or_else(|| refused("has no =, >= or <= before a known figure"))?;
        let (end, how) = match text[..at].chars().next_back() {
            Some('<') => (at - 1, Comparison::LessEqual),
            Some('>') => (at - 1, Comparison::GreaterEqual),
            Some('=') => (at - 1, Comparison::Equal),
            Some('!') => return Err(refused("says what the figure is not")),
            _ => (at, Comparison::Equal),
        };
        let (calc, rest) = (text[..end].trim(), text[at + 1..].trim());
        let tolerance = rest.split_once("+-").or_else(|| rest.split_once('±'));
        let (value, tolerance) = match tolerance {
            None => (rest, None),
            Some((value, most)) => {
                let most = most.trim();
                let (number, of_hundred) = match most.strip_suffix('%') {
                    Some(number) => (number.trim(), true),
                    None => (most, false),
                };
                let number: Decimal =
                    number.parse().map_err(|()| refused("has a tolerance that is no number"))?;
                (value.trim(), Some((number, of_hundred)))
            }
        };
        if calc.is_empty() || value.is_empty() {
            return Err(refused("lacks one of its sides"));
        }
        // A figure is copied from where it has its thousands separated.
        let plain = value.replace(',', "");
        let value = if plain.parse::<Decimal>().is_ok() { plain } else { value.to_owned() };
        Ok(Check {
            written: text.trim().to_owned(),
            calc: SourceText::new(origin, calc),
            how,
            value: SourceText::new(origin, value),
            tolerance,
        })
    }
}
