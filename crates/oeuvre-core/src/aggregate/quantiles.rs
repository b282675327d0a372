//! `median`, `percentile`, `quartile`, `largest` and `smallest`: values by their place in the order.
//!
//! With n values in order, counted from 1, the percentile p stands at place `(n - 1) p / 100 + 1` (inclusive) or
//! `(n + 1) p / 100` (exclusive), and between two places it is interpolated: methods 7 and 6 of Hyndman and Fan,
//! "Sample Quantiles in Statistical Packages", The American Statistician 50 (1996). The nearest rank is place
//! `ceil(n p / 100)`, their method 1. The state is that of `values/`: memory grows with the different values.
//! Missing where there are none, or no such place.
//!
//! ```
//! # use oeuvre_columns::{InMemory, Kind, Source};
//! # let rows = InMemory::from_texts(
//! #     &[("delay_min", Kind::Number { scale: 0 })],
//! #     &[
//! #         &["1"],
//! #         &["2"],
//! #         &["3"],
//! #         &["4"],
//! #         &[""],
//! #     ],
//! # )?;
//! use oeuvre_core::{Plan, Request, run};
//!
//! // delay_min: 1; 2; 3; 4; (missing)
//! let request = Request::of(&[], &["median(delay_min)", "percentile(delay_min, 90)", "largest(delay_min, 2)", "largest(delay_min, 5)"]);
//! let plan = Plan::new(&request, rows.columns())?;
//! let (table, _) = run(&plan, &rows, 1)?;
//! assert_eq!(table.cell(0, 0).to_string(), "2.5");
//! assert_eq!(table.cell(0, 1).to_string(), "3.7");
//! assert_eq!(table.cell(0, 2).to_string(), "3");
//! assert_eq!(table.cell(0, 3).to_string(), "");
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

use super::extremes::{column_of, float_from_key};
use super::values::Values;
use super::{Additivity, ArgumentProblem, GroupAggregate, Overflow, Ratio, number, whole_column};
use num_bigint::BigInt;
use oeuvre_columns::column::{Column, Data};
use oeuvre_columns::value::Kind;
use oeuvre_columns::value::decimal::{Decimal, MAX_DIGITS, big_pow10};
use oeuvre_columns::value::exact::{decimal_ratio, f64_to_ratio, ratio_to_f64};
use std::collections::HashMap;
use std::sync::Arc;

/// How a percentile that falls between two values is found.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Method {
    /// Interpolated, from the smallest value at 0 to the largest at 100.
    Inclusive,
    /// Interpolated, as if one more value lay beyond each end; missing beyond the ends.
    Exclusive,
    /// The value at the nearest rank.
    Nearest,
}

impl Method {
    /// All of them, with the words of the language.
    pub const ALL: [(&'static str, Method); 3] = [
        ("inclusive", Method::Inclusive),
        ("exclusive", Method::Exclusive),
        ("nearest", Method::Nearest),
    ];
}

/// The percentile `percent` of the values present. Missing when there are none.
#[derive(PartialEq, Eq, Hash)]
pub struct Percentile {
    /// From 0 to 100.
    pub percent: Decimal,
    /// What is done between two values.
    pub method: Method,
    /// Why lines do not add up.
    pub note: &'static str,
}

impl Percentile {
    /// Where the percentile stands among `n` values, counted from 0: the place below, and how far
    /// from it to the next one, as a fraction.
    fn place(&self, n: u64) -> Option<(u64, BigInt, BigInt)> {
        let unit = big_pow10(self.percent.scale) * 100;
        let p = BigInt::from(self.percent.mantissa);
        let (whole, rest) = match self.method {
            Method::Inclusive => split(p * (n - 1), &unit),
            Method::Exclusive => {
                let (whole, rest) = split(p * (n + 1), &unit);
                if whole == 0 || whole > n || (whole == n && rest != BigInt::from(0)) {
                    return None;
                }
                (whole - 1, rest)
            }
            Method::Nearest => {
                let (whole, rest) = split(p * n, &unit);
                let rank = whole + u64::from(rest != BigInt::from(0));
                (rank.max(1) - 1, BigInt::from(0))
            }
        };
        Some((whole, rest, unit))
    }
}

fn split(a: BigInt, unit: &BigInt) -> (u64, BigInt) {
    let whole = &a / unit;
    let rest = a - &whole * unit;
    (u64::try_from(whole).unwrap_or(0), rest)
}

/// `a + (b - a) rest / unit`, rounded once.
fn between(a: i128, b: i128, rest: &BigInt, unit: &BigInt, kind: Kind) -> f64 {
    let small = || {
        let Kind::Number { scale } = kind else { return None };
        let (rest, unit) = (i128::try_from(rest).ok()?, i128::try_from(unit).ok()?);
        let sum = a.checked_mul(unit - rest)?.checked_add(b.checked_mul(rest)?)?;
        decimal_ratio(Decimal::new(sum, scale), Decimal::new(unit, 0))
    };
    if let Some(figure) = small() {
        return figure;
    }
    let exact = |v: i128| match kind {
        Kind::Number { scale } => (BigInt::from(v), big_pow10(scale)),
        _ => f64_to_ratio(float_from_key(v as i64)).unwrap_or_default(),
    };
    let ((na, da), (nb, db)) = (exact(a), exact(b));
    let numerator = &na * &db * (unit - rest) + nb * &da * rest;
    ratio_to_f64(&numerator, &(da * db * unit)).unwrap_or(f64::NAN)
}

impl GroupAggregate for Percentile {
    type State = Values;

    fn result(&self, args: &[Kind]) -> Result<Kind, ArgumentProblem> {
        number(args, 0).map(|_| Kind::Float)
    }
    fn finish(&self, state: &Values, args: &[Kind]) -> Result<Column, Overflow> {
        // Many groups have as many values as others.
        let mut places = HashMap::new();
        let found = state.for_each_group(|group| {
            let n = group.count();
            let place = || (n > 0).then(|| self.place(n)).flatten();
            let Some((place, rest, unit)) = places.entry(n).or_insert_with(place) else {
                return f64::NAN;
            };
            let (below, above) = (group.at(*place), group.at((*place + 1).min(n - 1)));
            between(below, above, rest, unit, args[0])
        });
        Ok(Column::from(Data::F64(found)))
    }
    fn ratio(&self, args: &[Kind]) -> Option<Ratio> {
        let Kind::Number { scale } = args[0] else { return None };
        // Between two values of the column's scale lie at most so many hundredths of the percent.
        let scale = scale.checked_add(self.percent.scale + 2).filter(|s| *s <= MAX_DIGITS)?;
        let (percent, method) = (self.percent, self.method);
        let exact = ExactPercentile { of: Percentile { percent, method, note: "" }, scale };
        Some(Ratio { numerator: Arc::new(exact), denominator: None })
    }
    fn question(&self) -> Option<String> {
        let (percent, one) = (self.percent, Decimal::new(1, 0));
        if percent <= Decimal::new(0, 0) || percent >= one {
            return None;
        }
        let hundred = Decimal::new(percent.mantissa * 100, percent.scale).trimmed();
        let percent = percent.trimmed();
        Some(format!("takes the {percent}th percent of 100; was {hundred} meant?"))
    }
    fn additivity(&self) -> Additivity {
        Additivity::Note(self.note)
    }
}

/// A percentile as the exact decimal that it is.
#[derive(PartialEq, Eq, Hash)]
struct ExactPercentile {
    of: Percentile,
    scale: u8,
}

impl GroupAggregate for ExactPercentile {
    type State = Values;

    fn result(&self, _: &[Kind]) -> Result<Kind, ArgumentProblem> {
        Ok(Kind::Number { scale: self.scale })
    }
    fn finish(&self, state: &Values, _: &[Kind]) -> Result<Column, Overflow> {
        let found = state.for_each_group(|group| {
            let n = group.count();
            let (place, rest, unit) = (n > 0).then(|| self.of.place(n)).flatten()?;
            let (a, b) = (group.at(place), group.at((place + 1).min(n - 1)));
            let exact = BigInt::from(a) * &unit + (BigInt::from(b) - a) * rest;
            i128::try_from(exact).ok().filter(|v| *v != i128::MIN)
        });
        Ok(whole_column(found.iter().copied()))
    }
    fn additivity(&self) -> Additivity {
        Additivity::Additive
    }
}

/// The n-th largest or smallest value, equal ones counted one by one. Missing when there are fewer.
#[derive(PartialEq, Eq, Hash)]
pub struct Nth {
    /// From 1.
    pub n: u64,
    /// From the largest down.
    pub largest: bool,
}

impl GroupAggregate for Nth {
    type State = Values;

    fn result(&self, args: &[Kind]) -> Result<Kind, ArgumentProblem> {
        match args[0] {
            Kind::Text => Err(ArgumentProblem::NotANumber(0)),
            kind => Ok(kind),
        }
    }
    fn finish(&self, state: &Values, args: &[Kind]) -> Result<Column, Overflow> {
        let found = state.for_each_group(|group| {
            let count = group.count();
            (self.n <= count)
                .then(|| group.at(if self.largest { count - self.n } else { self.n - 1 }))
        });
        Ok(column_of(args[0], found.iter().copied()))
    }
    fn additivity(&self) -> Additivity {
        Additivity::Note("a single value among all rows, not a sum of the lines")
    }
}

#[cfg(test)]
mod tests {
    use crate::testing::{rows, value};
    use proptest::prelude::*;

    proptest! {
        #![proptest_config(ProptestConfig { cases: 100, ..ProptestConfig::default() })]

        /// By the formulas above, on values put in order by hand.
        #[test]
        fn a_percentile_stands_at_its_place(mut values in proptest::collection::vec(-50i64..50, 1..12), percent in 0u32..=100) {
            let texts: Vec<String> = values.iter().map(i64::to_string).collect();
            let rows = rows(&format!("x:0\n{}", texts.join("\n")));
            values.sort_unstable();
            let n = values.len() as i64;
            let p = i64::from(percent);
            // Places in hundredths, from 1 on.
            let between = |place: i64| {
                let (whole, part) = (place / 100, place % 100);
                let at = |i: i64| values.get(i as usize - 1).copied();
                let (low, high) = (at(whole)?, at(whole + i64::from(part > 0))?);
                Some((low * (100 - part) + high * part) as f64 / 100.0)
            };
            let inclusive = between((n - 1) * p + 100);
            let exclusive = Some((n + 1) * p).filter(|place| (100..=n * 100).contains(place)).and_then(between);
            let nearest = values[((n * p).div_euclid(100) + i64::from(n * p % 100 > 0)).max(1) as usize - 1];
            let given = |method: &str| value(&rows, &format!("percentile(x, {percent} method {method})"));
            prop_assert_eq!(given("inclusive").parse().ok(), inclusive);
            prop_assert_eq!(given("exclusive").parse().ok(), exclusive);
            prop_assert_eq!(given("nearest"), nearest.to_string());
            prop_assert_eq!(value(&rows, "largest(x, 2)"), values.iter().rev().nth(1).map_or("-".into(), i64::to_string));
            prop_assert_eq!(value(&rows, "smallest(x, 2)"), values.get(1).map_or("-".into(), |v| v.to_string()));
        }
    }
}
