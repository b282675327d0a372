//! `stdev`, `stdev_pop`, `variance`, `variance_pop`: spread, from exact sums of squares.
//!
//! With `n` values, their sum `s` and the sum of their squares `q`, the sample variance is
//! `(n q - s²) / (n (n - 1))` and the population variance `(n q - s²) / n²` (ISO 3534-1). The formula is famous
//! for losing digits in floating point; here every part of it is exact, and the fraction is rounded once at the
//! end. Missing where there are too few values: fewer than two of a sample, none of a population.
//!
//! ```
//! # use oeuvre_columns::{InMemory, Kind, Source};
//! # let rows = InMemory::from_texts(
//! #     &[("delay_min", Kind::Number { scale: 0 })],
//! #     &[
//! #         &["2"],
//! #         &["4"],
//! #         &["4"],
//! #         &["4"],
//! #         &["5"],
//! #         &["5"],
//! #         &["7"],
//! #         &["9"],
//! #     ],
//! # )?;
//! use oeuvre_core::{Plan, Request, run};
//!
//! // delay_min: 2; 4; 4; 4; 5; 5; 7; 9
//! let request = Request::of(&[], &["stdev_pop(delay_min)", "variance(delay_min)"]);
//! let plan = Plan::new(&request, rows.columns())?;
//! let (table, _) = run(&plan, &rows, 1)?;
//! assert_eq!(table.cell(0, 0).to_string(), "2");
//! assert_eq!(table.cell(0, 1).to_string(), format!("{}", 32.0 / 7.0));
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

use super::encoding::{Damaged, Decoder, Encoder};
use super::exact_sums::{Summed, Sums, Totals};
use super::{
    Additivity, ArgumentProblem, GroupAggregate, GroupState, Overflow, Rows, finite, number,
};
use num_bigint::BigInt;
use oeuvre_columns::column::{Column, Data};
use oeuvre_columns::value::Kind;
use oeuvre_columns::value::exact::{ratio_to_f64, sqrt_ratio_to_f64};
use std::ops::Range;

/// A measure of spread.
#[derive(PartialEq, Eq, Hash)]
pub struct Spread {
    /// Over `n - 1` (a sample) rather than over `n` (the whole population).
    pub sample: bool,
    /// The square root of the variance.
    pub root: bool,
}

/// How many values there are, their sum and that of their squares.
#[derive(Clone)]
pub(crate) struct Moments(Summed<1, 1>);

impl GroupState for Moments {
    const FAMILY: &'static str = "moments";

    fn of(args: &[Kind]) -> Self {
        Moments(Summed::of(args))
    }
    fn resize(&mut self, groups: usize) {
        self.0.resize(groups);
    }
    fn update(&mut self, rows: Rows<'_>) -> Result<(), Overflow> {
        self.0.update(rows);
        Ok(())
    }
    fn merge(&mut self, other: &Self, map: &[u32]) -> Result<(), Overflow> {
        self.0.merge(&other.0, map);
        Ok(())
    }
    fn fresh(&self) -> Self {
        Moments(self.0.fresh())
    }
    fn size_bytes(&self) -> usize {
        self.0.size_bytes()
    }

    // Whole numbers have a layout of their own: those that need more bits than most stand behind all others.
    fn encode(&self, groups: Range<u32>, to: &mut Encoder) {
        let Sums::Whole(sums) = &self.0.sums else { return self.0.encode(groups, to) };
        to.count(groups.len());
        let mut wide = Vec::new();
        for (at, g) in (1u32..).zip(groups) {
            let (n, ([sum], [squares])) = (self.0.times.at(g as usize), sums.totals(g as usize));
            match (i128::try_from(&sum), words_of(&squares)) {
                (Ok(sum), Some((low, high))) => {
                    to.unsigned(n.into());
                    to.signed(sum);
                    to.unsigned(low);
                    to.unsigned(high.into());
                }
                _ => {
                    (0..4).for_each(|_| to.unsigned(0));
                    wide.push((at, n, sum, squares));
                }
            }
        }
        to.count(wide.len());
        for (at, n, sum, squares) in wide {
            to.unsigned(at.into());
            to.unsigned(n.into());
            to.big(&sum);
            to.big(&squares);
        }
    }

    fn decode(&mut self, from: &mut Decoder<'_>) -> Result<(), Damaged> {
        let Summed { times, sums: Sums::Whole(sums) } = &mut self.0 else {
            return self.0.decode(from);
        };
        let n = from.groups()?;
        times.resize(n + 1);
        sums.resize(n + 1);
        let factor = BigInt::from(from.factor(0));
        for g in 1..=n {
            times.add(g as u32, from.times()?);
            let sum = from.value(&[0])?;
            let low = BigInt::from(from.unsigned()?);
            let squares = low + (BigInt::from(from.times()?) << 128u32);
            sums.add(g, &[sum.into()], &[squares * &factor * &factor])?;
        }
        for _ in 0..from.count()? {
            let g = from.code(n + 1)?;
            times.add(g, from.times()?);
            let (sum, squares) = (from.big_value(&[0])?, from.big_value(&[0, 0])?);
            sums.add(g as usize, &[sum], &[squares])?;
        }
        Ok(())
    }
}

/// The lowest 128 bits of a number of up to 176 that is not below zero, and the others: what is written in one piece.
fn words_of(squares: &BigInt) -> Option<(u128, u64)> {
    let mut words = squares.iter_u64_digits();
    let [low, middle, high] = std::array::from_fn(|_| words.next().unwrap_or(0));
    let is_all = words.next().is_none() && high < 1 << 48;
    is_all.then(|| (u128::from(low) | u128::from(middle) << 64, high))
}

impl Spread {
    /// From `n`, the sum, and the sum of squares.
    fn of(&self, Totals { n, values, products, units }: Totals<1, 1>) -> Result<f64, Overflow> {
        let ([sum], [squares], [unit]) = (values, products, units);
        let divisor = if self.sample { n.saturating_sub(1) } else { n };
        if n == 0 || divisor == 0 {
            return Ok(f64::NAN);
        }
        let numerator = BigInt::from(n) * squares - &sum * &sum;
        let denominator = BigInt::from(n) * divisor * &unit * &unit;
        let of = if self.root { sqrt_ratio_to_f64 } else { ratio_to_f64 };
        finite(of(&numerator, &denominator).unwrap_or(f64::NAN))
    }
}

impl GroupAggregate for Spread {
    type State = Moments;

    fn result(&self, args: &[Kind]) -> Result<Kind, ArgumentProblem> {
        number(args, 0).map(|_| Kind::Float)
    }
    fn finish(&self, state: &Moments, args: &[Kind]) -> Result<Column, Overflow> {
        let spreads: Result<_, _> = state.0.totals(args).map(|totals| self.of(totals)).collect();
        Ok(Column::from(Data::F64(spreads?)))
    }
    fn additivity(&self) -> Additivity {
        Additivity::Note("the spread of all rows, not a sum of the lines")
    }
}

#[cfg(test)]
mod tests {
    use crate::testing::{rows, value};
    use rstest::rstest;

    #[rstest]
    #[case("variance(x)", "1|2|3|4", "1.6666666666666667")]
    #[case("variance_pop(x)", "1|2|3|4", "1.25")]
    #[case("stdev_pop(x)", "2|2|2", "0")]
    #[case("variance(x)", "5", "-")]
    #[case("variance_pop(x)", "5", "0")]
    // The textbook formula in binary64 gives 0 or less for these.
    #[case("variance(x)", "1000000000001|1000000000002|1000000000003", "1")]
    #[case(
        "variance_pop(x)",
        "9223372036854775807|-9223372036854775807",
        "85070591730234615847396907784232501249"
    )]
    fn spread_is_that_of_exact_sums(
        #[case] calc: &str,
        #[case] values: &str,
        #[case] expected: &str,
    ) {
        for column in ["x:0", "x:4"] {
            if column == "x:4" && values.len() > 40 {
                continue;
            }
            let rows = rows(&format!("{column}\n{}", values.replace('|', "\n")));
            let given = value(&rows, calc);
            let same = given == expected || given.parse() == expected.parse::<f64>();
            assert!(same, "{calc} of {values}: {given}");
        }
    }

    #[rstest]
    #[case("stdev(x)", "1e-200|3e-200", "1.414213562373095e-200")]
    #[case("variance(x)", "0.5|1.5", "0.5")]
    fn binary64_values_lose_nothing_either(
        #[case] calc: &str,
        #[case] values: &str,
        #[case] expected: &str,
    ) {
        let rows = rows(&format!("x:float\n{}", values.replace('|', "\n")));
        assert_eq!(value(&rows, calc), expected);
    }
}
