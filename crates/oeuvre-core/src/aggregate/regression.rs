//! `weighted_mean`, `correlation`, `slope` and `intercept`: two values on each row.
//!
//! With n rows on which both are present, and the sums of x, y, xx, yy and xy, all exact: the weighted mean is
//! `sum xy / sum y`; Pearson's correlation
//! `(n sum xy - sum x sum y) / sqrt((n sum xx - (sum x)²) (n sum yy - (sum y)²))`; the least-squares line
//! through the points has the slope `(n sum xy - sum x sum y) / (n sum xx - (sum x)²)` and the intercept
//! `(sum y - slope sum x) / n`. Each is rounded once at the end. Missing where there are no rows, or where the
//! values of x (for the correlation those of either) are all the same.
//!
//! ```
//! # use oeuvre_columns::{InMemory, Kind, Source};
//! # let rows = InMemory::from_texts(
//! #     &[("x", Kind::Number { scale: 0 }), ("y", Kind::Number { scale: 0 })],
//! #     &[
//! #         &["1", "3"],
//! #         &["2", "5"],
//! #         &["3", "7"],
//! #         &["4", ""],
//! #     ],
//! # )?;
//! use oeuvre_core::{Plan, Request, run};
//!
//! // x, y: 1 3; 2 5; 3 7; 4 (missing)
//! let request = Request::of(&[], &["slope(x, y)", "intercept(x, y)", "correlation(x, y)", "weighted_mean(x, y)"]);
//! let plan = Plan::new(&request, rows.columns())?;
//! let (table, _) = run(&plan, &rows, 1)?;
//! assert_eq!(table.cell(0, 0).to_string(), "2");
//! assert_eq!(table.cell(0, 1).to_string(), "1");
//! assert_eq!(table.cell(0, 2).to_string(), "1");
//! assert_eq!(table.cell(0, 3).to_string(), format!("{}", 34.0 / 15.0));
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

use super::encoding::{Damaged, Decoder, Encoder};
use super::float_sum::FloatSum;
use super::{
    Additivity, ArgumentProblem, GroupAggregate, GroupState, Overflow, Rows, Shape, finite, number,
};
use num_bigint::{BigInt, Sign};
use oeuvre_columns::column::{Column, Data};
use oeuvre_columns::room::lengthen;
use oeuvre_columns::value::Kind;
use oeuvre_columns::value::decimal::big_pow10;
use oeuvre_columns::value::exact::{ratio_to_f64, sqrt_ratio_to_f64};
use std::ops::Range;

/// Which figure is finished from the sums.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Regression {
    /// The mean of the first, weighted by the second. Missing when the weights add up to zero.
    WeightedMean,
    /// How closely the two go together, -1 to 1. Missing when one of them does not vary.
    Correlation,
    /// By how much the second grows with the first. Missing when the first does not vary.
    Slope,
    /// The second where the first is zero, on the same line.
    Intercept,
}

/// A sum that moves to unlimited size when 128 bits are full.
#[derive(Clone, Default)]
pub(crate) struct Exact {
    small: i128,
    large: Option<Box<BigInt>>,
}

impl Exact {
    fn add(&mut self, value: i128) {
        match self.small.checked_add(value) {
            Some(sum) => self.small = sum,
            None => {
                **self.large.get_or_insert_default() += self.small;
                self.small = value;
            }
        }
    }
    fn add_product(&mut self, a: i128, b: i128) {
        match a.checked_mul(b) {
            Some(product) => self.add(product),
            None => **self.large.get_or_insert_default() += BigInt::from(a) * b,
        }
    }
    fn merge(&mut self, other: &Exact) {
        self.add(other.small);
        if let Some(large) = &other.large {
            **self.large.get_or_insert_default() += &**large;
        }
    }
    fn total(&self) -> BigInt {
        BigInt::from(self.small) + self.large.as_deref().cloned().unwrap_or_default()
    }
}

/// Which arguments are multiplied with each other for each of the sums.
const SUMS: [&[usize]; 5] = [&[0], &[1], &[0, 0], &[1, 1], &[0, 1]];

/// n and the sums of x, y, xx, yy, xy.
#[derive(Clone)]
pub(crate) enum Sums {
    Whole(Vec<(u64, [Exact; 5])>),
    Float(Vec<(u64, [FloatSum; 5])>),
}

impl GroupState for Sums {
    const FAMILY: &'static str = "regression";

    fn of(args: &[Kind]) -> Self {
        if args[0] == Kind::Float { Sums::Float(Vec::new()) } else { Sums::Whole(Vec::new()) }
    }
    fn resize(&mut self, groups: usize) {
        match self {
            Sums::Whole(s) => lengthen(s, groups, Default::default()),
            Sums::Float(s) => lengthen(s, groups, Default::default()),
        }
    }
    fn update(&mut self, rows: Rows<'_>) -> Result<(), Overflow> {
        let (x, y) = (&rows.args[0].data, &rows.args[1].data);
        match self {
            Sums::Whole(states) => {
                let (x, y) = (x.to_i128(), y.to_i128());
                for (row, &g) in rows.groups.iter().enumerate().filter(|(_, g)| **g != 0) {
                    if rows.args.iter().any(|a| a.data.is_missing(row)) {
                        continue;
                    }
                    let (n, sums) = &mut states[g as usize];
                    let (x, y) = (x[row], y[row]);
                    *n += 1;
                    sums[0].add(x);
                    sums[1].add(y);
                    sums[2].add_product(x, x);
                    sums[3].add_product(y, y);
                    sums[4].add_product(x, y);
                }
            }
            Sums::Float(states) => {
                let (Data::F64(x), Data::F64(y)) = (x, y) else { return Ok(()) };
                for ((&g, &x), &y) in rows.groups.iter().zip(x).zip(y) {
                    if g == 0 || x.is_nan() || y.is_nan() {
                        continue;
                    }
                    let (n, sums) = &mut states[g as usize];
                    *n += 1;
                    sums[0].add(x);
                    sums[1].add(y);
                    sums[2].add_product(x, x);
                    sums[3].add_product(y, y);
                    sums[4].add_product(x, y);
                }
            }
        }
        Ok(())
    }
    fn merge(&mut self, other: &Self, map: &[u32]) -> Result<(), Overflow> {
        match (self, other) {
            (Sums::Whole(mine), Sums::Whole(theirs)) => {
                for (&to, (n, sums)) in map.iter().zip(theirs).filter(|(to, _)| **to != 0) {
                    let mine = &mut mine[to as usize];
                    mine.0 += n;
                    mine.1.iter_mut().zip(sums).for_each(|(a, b)| a.merge(b));
                }
            }
            (Sums::Float(mine), Sums::Float(theirs)) => {
                for (&to, (n, sums)) in map.iter().zip(theirs).filter(|(to, _)| **to != 0) {
                    let mine = &mut mine[to as usize];
                    mine.0 += n;
                    mine.1.iter_mut().zip(sums).for_each(|(a, b)| a.merge(b));
                }
            }
            _ => {}
        }
        Ok(())
    }
    fn fresh(&self) -> Self {
        match self {
            Sums::Whole(_) => Sums::Whole(Vec::new()),
            Sums::Float(_) => Sums::Float(Vec::new()),
        }
    }

    fn size_bytes(&self) -> usize {
        match self {
            Sums::Whole(s) => size_of_val(s.as_slice()),
            Sums::Float(s) => {
                let limbs = s.iter().flat_map(|s| &s.1).map(FloatSum::size_bytes);
                size_of_val(s.as_slice()) + limbs.sum::<usize>()
            }
        }
    }
    fn encode(&self, groups: Range<u32>, to: &mut Encoder) {
        to.count(groups.len());
        for g in groups.map(|g| g as usize) {
            match self {
                Sums::Whole(s) => {
                    to.unsigned(u128::from(s[g].0));
                    s[g].1.iter().for_each(|sum| to.big(&sum.total()));
                }
                Sums::Float(s) => {
                    to.unsigned(u128::from(s[g].0));
                    s[g].1.iter().for_each(|sum| sum.encode(to));
                }
            }
        }
    }
    fn decode(&mut self, from: &mut Decoder<'_>) -> Result<(), Damaged> {
        let n = from.groups()?;
        GroupState::resize(self, n + 1);
        for g in 1..=n {
            match self {
                Sums::Whole(s) => {
                    s[g].0 = from.times()?;
                    for (sum, of) in s[g].1.iter_mut().zip(SUMS) {
                        let total = from.big_value(of)?;
                        *sum = Exact { small: 0, large: Some(Box::new(total)) };
                    }
                }
                Sums::Float(s) => {
                    s[g].0 = from.times()?;
                    for sum in &mut s[g].1 {
                        *sum = FloatSum::decode(from)?;
                    }
                }
            }
        }
        Ok(())
    }
}

impl Regression {
    /// From n and the sums as fractions: x over `ux`, y over `uy`, products over their product.
    fn of(self, n: u64, [x, y, xx, yy, xy]: [BigInt; 5], ux: &BigInt, uy: &BigInt) -> Option<f64> {
        let n = BigInt::from(n);
        let together = &n * &xy - &x * &y;
        let (dx, dy) = (&n * &xx - &x * &x, &n * &yy - &y * &y);
        match self {
            Regression::WeightedMean => ratio_to_f64(&xy, &(y * ux)),
            Regression::Correlation => {
                let size = sqrt_ratio_to_f64(&(&together * &together), &(dx * dy))?;
                Some(if together.sign() == Sign::Minus { -size } else { size })
            }
            Regression::Slope => ratio_to_f64(&(together * ux), &(dx * uy)),
            Regression::Intercept => ratio_to_f64(&(y * &xx - x * xy), &(dx * uy)),
        }
    }
}

impl GroupAggregate for Regression {
    type State = Sums;

    fn result(&self, args: &[Kind]) -> Result<Kind, ArgumentProblem> {
        number(args, 0)?;
        number(args, 1).map(|_| Kind::Float)
    }
    fn finish(&self, state: &Sums, args: &[Kind]) -> Result<Column, Overflow> {
        let figure = |it: Option<f64>| finite(it.unwrap_or(f64::NAN));
        let values: Result<Vec<f64>, Overflow> = match state {
            Sums::Whole(states) => {
                let unit = |k: Kind| {
                    if let Kind::Number { scale } = k { big_pow10(scale) } else { 1.into() }
                };
                let (ux, uy) = (unit(args[0]), unit(args[1]));
                let one = |(n, sums): &(u64, [Exact; 5])| {
                    figure(self.of(*n, sums.each_ref().map(Exact::total), &ux, &uy))
                };
                states.iter().skip(1).map(one).collect()
            }
            Sums::Float(states) => {
                let unit = FloatSum::denominator();
                let one = |(n, sums): &(u64, [FloatSum; 5])| {
                    let [x, y, xx, yy, xy] = sums.each_ref().map(FloatSum::numerator);
                    // Products are counted in the same units as their factors: bring them to their squares.
                    let sums = [x, y, xx * &unit, yy * &unit, xy * &unit];
                    figure(self.of(*n, sums, &unit, &unit))
                };
                states.iter().skip(1).map(one).collect()
            }
        };
        Ok(Column::from(Data::F64(values?)))
    }
    fn shape(&self) -> Shape {
        Shape::SameNumbers
    }
    fn additivity(&self) -> Additivity {
        Additivity::Note(match self {
            Regression::WeightedMean => "a mean of all rows, not a sum of the lines",
            _ => "worked out from all rows, not a sum of the lines",
        })
    }
}

#[cfg(test)]
mod tests {
    use crate::testing::{rows, value};
    use rstest::rstest;

    const LINE: &str = "x:0 y:2\n1|3.00\n2|5.00\n4|9.00\n|7.00\n3|\n";
    const FLAT: &str = "x:0 y:2\n2|3.00\n2|5.00\n";

    #[rstest]
    #[case(LINE, "slope(x, y)", "2")]
    #[case(LINE, "intercept(x, y)", "1")]
    #[case(LINE, "correlation(x, y)", "1")]
    #[case(LINE, "correlation(x, -y)", "-1")]
    #[case(LINE, "weighted_mean(y, x)", "7")]
    #[case(LINE, "slope(x, y where x > 9)", "-")]
    // Where x does not vary there is no line, and no correlation; a mean there is.
    #[case(FLAT, "slope(x, y)", "-")]
    #[case(FLAT, "correlation(x, y)", "-")]
    #[case(FLAT, "slope(y, x)", "0")]
    #[case(FLAT, "weighted_mean(y, x)", "4")]
    #[case(FLAT, "weighted_mean(y, x - x)", "-")]
    fn two_values_a_row_give(#[case] data: &str, #[case] calc: &str, #[case] expected: &str) {
        assert_eq!(value(&rows(data), calc), expected);
        // The same in binary64.
        let floats = data.replacen("x:0 y:2", "x:float y:float", 1);
        assert_eq!(value(&rows(&floats), calc), expected, "in binary64");
    }
    #[test]
    fn sums_of_squares_outgrow_128_bits() {
        let line = |n: i64| format!("{n}|{}\n", i128::from(n) * 2 + 1);
        let lines: String =
            [9_000_000_000_000_000_000, 9_100_000_000_000_000_000, 9_200_000_000_000_000_000]
                .map(line)
                .concat();
        let rows = rows(&format!("x:0 y:0\n{lines}"));
        assert_eq!(
            ["slope(x, y)", "intercept(x, y)", "correlation(x, y)"].map(|calc| value(&rows, calc)),
            ["2", "1", "1"]
        );
    }
}
