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
use crate::grid::{Figure, Grid};
use crate::language::parser::parse_list;
use crate::ledger::{Checked, Ledger};
use crate::plan::Plan;
use crate::request::{Check, Request, Show};
use crate::run::run_all;
use oeuvre_columns::column::Column;
use oeuvre_columns::quoting::outside_quotes;
use oeuvre_columns::value::Comparison;
use oeuvre_columns::{ColumnInfo, Decimal, InMemory, Kind, Source, Value};

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
    let sides = plan_of_checks(request, source)?;
    let plans: Vec<&Plan> = std::iter::once(plan).chain(&sides).collect();
    with_checks(request, run_all(&plans, source, threads)?)
}

/// From the tables of a request and of its checks, where it has any, to its table with what they have found.
///
/// # Errors
/// Figures that cannot be compared.
pub fn with_checks(
    request: &Request,
    mut made: Vec<(Grid, Ledger)>,
) -> Result<(Grid, Ledger), Error> {
    let figures = made.drain(1..).next();
    let Some((grid, mut ledger)) = made.pop() else { unreachable!("there is a plan") };
    let Some((figures, _)) = figures else { return Ok((grid, ledger)) };
    for (check, at) in request.checks.iter().zip((0..).step_by(2)) {
        let (found, wanted) = (Figure::of(&figures, at), Figure::of(&figures, at + 1));
        let terms = Terms { how: check.how, tolerance: check.tolerance };
        ledger.checks.push(terms.checked(check.written.clone(), &found, &wanted)?);
    }
    Ok((grid, ledger))
}

/// A plan for both sides of each check, one after the other. A number on each row is added up, as anywhere else;
/// what cannot be compared is told before any row is read.
///
/// # Errors
/// A mistake in a check.
pub fn plan_of_checks(request: &Request, source: &dyn Source) -> Result<Option<Plan>, Error> {
    if request.checks.is_empty() {
        return Ok(None);
    }
    let written = || request.checks.iter().flat_map(|c| [&c.calc, &c.value]);
    let show = written().map(|calc| Show { heading: None, calc: calc.clone() }).collect();
    let plan = Plan::new(&request.over_all(show), source.columns())?;
    if let Some(calc) = written().find(|calc| parse_list(calc).is_ok_and(|list| list.len() > 1)) {
        return Err(Error::request_with_help(
            format!("--check '{}' is several figures", calc.text),
            "give each of them its own --check",
        ));
    }
    for (check, sides) in request.checks.iter().zip(plan.results.chunks(2)) {
        let none = |side: &crate::plan::ResultPlan| Figure::none(side.built.kind);
        let terms = Terms { how: check.how, tolerance: check.tolerance };
        if let [found, wanted] = sides {
            terms.checked(check.written.clone(), &none(found), &none(wanted))?;
        }
    }
    Ok(Some(plan))
}

impl Request {
    /// Some results over the same rows as those of a request, all of them together.
    pub fn over_all(&self, show: Vec<Show>) -> Request {
        Request {
            show,
            lets: self.lets.clone(),
            lookups: self.lookups.clone(),
            one_spelling: self.one_spelling.clone(),
            spellings: self.spellings.clone(),
            filters: self.filters.clone(),
            ..Request::default()
        }
    }
}

impl Figure {
    /// No figure, where one of a kind is expected.
    fn none(kind: Kind) -> Figure {
        Figure { kind, value: Value::Missing, share: false, quotient: None }
    }

    /// What a calculation on two figures gives, in which they are called `found` and `wanted`.
    fn with(&self, other: &Figure, calc: &str) -> Result<Figure, Error> {
        let columns = [("found", self), ("wanted", other)];
        let infos = columns.map(|(name, f)| ColumnInfo::new(name, f.kind));
        let data =
            columns.map(|(_, f)| Column::from_values(f.kind, std::slice::from_ref(&f.value)));
        let rows = InMemory::new(infos.to_vec(), 1, data.into_iter().enumerate());
        let request = Request { listing: true, ..Request::of(&[], &[calc]) };
        let plan = Plan::new(&request, rows.columns())?;
        Ok(Figure::of(&crate::list(&plan, &rows, 1)?.0, 0))
    }

    /// How far it is from another: the difference, and in percent of the other where that is more than zero; each
    /// `None` where it has no meaning.
    ///
    /// # Errors
    /// A difference that is too large.
    pub fn change_from(&self, before: &Figure) -> Result<[Option<Figure>; 2], Error> {
        if !self.kind.is_number() || !before.kind.is_number() {
            return Ok([None, None]);
        }
        let given = |figure: Figure| (!figure.value.is_missing()).then_some(figure);
        let difference = Figure { share: self.share, ..self.with(before, "found - wanted")? };
        let growth = "if(wanted > 0, (found - wanted) / wanted, missing)";
        let growth = Figure { share: true, ..self.with(before, growth)? };
        Ok([given(difference), given(growth)])
    }
}

/// How a figure is compared with a known one.
#[derive(Clone, Copy, Debug)]
pub struct Terms {
    /// `=`, `>=` or `<=`.
    pub how: Comparison,
    /// How far they may be apart, and whether that is in percent of what is known.
    pub tolerance: Option<(Decimal, bool)>,
}

impl Terms {
    /// Compares two figures. Where one of them is missing they do not agree.
    ///
    /// # Errors
    /// Figures that cannot be compared, such as a number with a text.
    pub fn checked(self, that: String, found: &Figure, wanted: &Figure) -> Result<Checked, Error> {
        let mut as_written = None;
        // A text in quotes may stand for a date or a period, but the values of a column of texts do not.
        if let (Value::Text(text), false) = (&wanted.value, found.kind == Kind::Text) {
            as_written = Some(format!("'{}'", text.replace('\'', "''")));
        }
        let value = as_written.as_deref().unwrap_or("wanted");
        let holds = match (&wanted.value, wanted.kind) {
            // Which text it will be is not known yet.
            (Value::Missing, Kind::Text) => false,
            _ => found.with(wanted, &self.agreement(value))?.value == Value::Boolean(true),
        };
        // A difference that has no meaning is left out.
        let difference = found.with(wanted, &format!("found - {value}"));
        Ok(Checked {
            that,
            found: found.value.clone(),
            wanted: wanted.value.clone(),
            difference: difference.map_or(Value::Missing, |d| d.value),
            holds,
        })
    }

    /// The condition that holds where `found` agrees with a value.
    fn agreement(self, value: &str) -> String {
        let how = self.how.text();
        match self.tolerance {
            None => format!("found {how} {value}"),
            Some((n, of_hundred)) => {
                let most = match of_hundred {
                    true => format!("abs({value}) * {n} / 100"),
                    false => n.to_string(),
                };
                let near = format!("abs(found - {value}) <= {most}");
                match how {
                    "=" => near,
                    _ => format!("found {how} {value} or {near}"),
                }
            }
        }
    }
}

/// How far figures may be apart, of `0.5%` or `10`: the number, and whether it is in percent.
pub fn tolerance_of(text: &str) -> Option<(Decimal, bool)> {
    let (number, of_hundred) = match text.trim().strip_suffix('%') {
        Some(number) => (number.trim(), true),
        None => (text.trim(), false),
    };
    let number: Decimal = number.parse().ok()?;
    (number.mantissa >= 0).then_some((number, of_hundred))
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
                let tolerance = tolerance_of(most);
                let tolerance =
                    tolerance.ok_or_else(|| refused("has a tolerance that is no number"))?;
                (value.trim(), Some(tolerance))
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
