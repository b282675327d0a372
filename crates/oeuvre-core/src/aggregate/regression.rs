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
use super::exact_sums::{Summed, Totals};
use super::{
    Additivity, ArgumentProblem, GroupAggregate, GroupState, Overflow, Rows, Shape, finite, number,
};
use num_bigint::{BigInt, Sign};
use oeuvre_columns::column::{Column, Data};
use oeuvre_columns::value::Kind;
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

/// n and the sums of x, y, xx, yy, xy.
#[derive(Clone)]
pub(crate) struct Sums(Summed<2, 3>);

impl GroupState for Sums {
    const FAMILY: &'static str = "regression";

    fn of(args: &[Kind]) -> Self {
        Sums(Summed::of(args))
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
        Sums(self.0.fresh())
    }
    fn size_bytes(&self) -> usize {
        self.0.size_bytes()
    }
    fn encode(&self, groups: Range<u32>, to: &mut Encoder) {
        self.0.encode(groups, to);
    }
    fn decode(&mut self, from: &mut Decoder<'_>) -> Result<(), Damaged> {
        self.0.decode(from)
    }
}

impl Regression {
    /// From n and the sums as fractions: x over `ux`, y over `uy`, products over their product.
    fn of(self, Totals { n, values, products, units }: Totals<2, 3>) -> Option<f64> {
        let ([x, y], [xx, yy, xy], [ux, uy]) = (values, products, &units);
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
        let figure = |totals| finite(self.of(totals).unwrap_or(f64::NAN));
        let values: Result<_, _> = state.0.totals(args).map(figure).collect();
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
