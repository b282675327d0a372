//! `mode`, `list(distinct x)` and `product`: over the different values and how often each occurs.
//!
//! All three are finished from the state of `values/`, which keeps the values themselves. Missing where there
//! are none.
//!
//! ```
//! # use oeuvre_columns::{InMemory, Kind, Source};
//! # let rows = InMemory::from_texts(
//! #     &[("route", Kind::Text), ("channel", Kind::Text)],
//! #     &[
//! #         &["SKE", "web"],
//! #         &["SKE", "desk"],
//! #         &["SKE", "web"],
//! #     ],
//! # )?;
//! use oeuvre_core::{Plan, Request, run};
//!
//! // route, channel: SKE web; SKE desk; SKE web
//! let request = Request::of(&["route"], &["mode(channel)", "list(distinct channel)"]);
//! let plan = Plan::new(&request, rows.columns())?;
//! let (table, _) = run(&plan, &rows, 1)?;
//! assert_eq!(table.cell(0, 0).to_string(), "web");
//! assert_eq!(table.cell(0, 1).to_string(), "desk, web");
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

use super::extremes::float_from_key;
use super::values::{Item, Values, column_of_items};
use super::{Additivity, ArgumentProblem, GroupAggregate, Overflow, number};
use num_bigint::BigInt;
use oeuvre_columns::column::dictionary::MISSING_CODE;
use oeuvre_columns::column::{Column, Data};
use oeuvre_columns::value::Kind;
use oeuvre_columns::value::decimal::Decimal;
use oeuvre_columns::value::exact::{f64_to_ratio, ratio_to_f64};

/// The value that occurs most often; of several the first in label order. Missing when there are none.
#[derive(PartialEq, Eq, Hash)]
pub struct Mode;
/// The different values in label order, with `, ` between them. Missing when there are none.
#[derive(PartialEq, Eq, Hash)]
pub struct List;
/// The product of the values present, correct to the last digit of binary64 but for ties closer than
/// 2^-190. Missing when there are none.
#[derive(PartialEq, Eq, Hash)]
pub struct Product;

impl GroupAggregate for Mode {
    type State = Values;

    fn result(&self, args: &[Kind]) -> Result<Kind, ArgumentProblem> {
        Ok(args[0])
    }
    fn finish(&self, state: &Values, args: &[Kind]) -> Result<Column, Overflow> {
        let modes = state.for_each_group(|group| {
            let mut best: Option<(u64, Item<'_>)> = None;
            for (item, times) in group.each() {
                let earlier = |b: Item<'_>| item.order(b).is_lt();
                if best.is_none_or(|b| times > b.0 || times == b.0 && earlier(b.1)) {
                    best = Some((times, item));
                }
            }
            best.map(|b| b.1)
        });
        Ok(column_of_items(args[0], modes.into_iter()))
    }
    fn additivity(&self) -> Additivity {
        Additivity::Note("the most frequent value of all rows, not a sum of the lines")
    }
}

impl GroupAggregate for List {
    type State = Values;

    fn result(&self, _: &[Kind]) -> Result<Kind, ArgumentProblem> {
        Ok(Kind::Text)
    }
    fn finish(&self, state: &Values, args: &[Kind]) -> Result<Column, Overflow> {
        let mut out = Column::from(Data::Codes(Vec::new()));
        let lists = state.for_each_group(|group| {
            let label = |(item, _): (Item<'_>, u64)| item.value(args[0]).to_string();
            let labels: Vec<String> = group.in_label_order().into_iter().map(label).collect();
            labels.join(", ")
        });
        let codes = lists
            .iter()
            .map(|l| if l.is_empty() { MISSING_CODE } else { out.dictionary.intern(l) });
        out.data = Data::Codes(codes.collect());
        Ok(out)
    }
    fn additivity(&self) -> Additivity {
        Additivity::Note("a list of all rows")
    }
}

/// A number with its exponent, cut to 256 bits after each step.
struct Scaled {
    mantissa: BigInt,
    exponent: i64,
}

impl Scaled {
    fn times(&mut self, factor: &BigInt) {
        self.mantissa *= factor;
        let over = self.mantissa.bits() as i64 - 256;
        if over > 0 {
            self.mantissa >>= over as u64;
            self.exponent += over;
        }
    }

    fn to_f64(&self) -> Option<f64> {
        let one = BigInt::from(1);
        match self.exponent {
            e if e > 2000 => None,
            e if e >= 0 => ratio_to_f64(&(&self.mantissa << e as u64), &one),
            e if e < -4000 => Some(0.0),
            e => ratio_to_f64(&self.mantissa, &(one << (-e) as u64)),
        }
        .filter(|v| v.is_finite())
    }
}

impl GroupAggregate for Product {
    type State = Values;

    fn result(&self, args: &[Kind]) -> Result<Kind, ArgumentProblem> {
        number(args, 0).map(|_| Kind::Float)
    }
    fn finish(&self, state: &Values, args: &[Kind]) -> Result<Column, Overflow> {
        let mut overflow = false;
        let products = state.for_each_group(|group| {
            if group.count() == 0 {
                return f64::NAN;
            }
            let mut product = Scaled { mantissa: BigInt::from(1), exponent: 0 };
            for (item, times) in group.each() {
                let value = item.number();
                let mut factor = Scaled { mantissa: BigInt::from(1), exponent: 0 };
                match args[0] {
                    // Cut to 256 bits like the product.
                    Kind::Number { scale } => {
                        let d = Decimal::new(value, scale).trimmed();
                        let unit = BigInt::from(10).pow(u32::from(d.scale));
                        factor.mantissa = (BigInt::from(d.mantissa) << 320u32) / unit;
                        factor.exponent = -320;
                        factor.times(&BigInt::from(1));
                    }
                    // A whole number over a power of two, however small.
                    _ => {
                        let (n, d) = f64_to_ratio(float_from_key(value as i64)).unwrap_or_default();
                        factor.mantissa = n;
                        factor.exponent = -(d.trailing_zeros().unwrap_or(0) as i64);
                    }
                }
                // By squaring: `times` may be millions.
                let mut power = factor;
                let mut left = times;
                while left > 0 {
                    if left & 1 == 1 {
                        product.exponent += power.exponent;
                        let mantissa = power.mantissa.clone();
                        product.times(&mantissa);
                    }
                    let mantissa = power.mantissa.clone();
                    power.exponent *= 2;
                    power.times(&mantissa);
                    left >>= 1;
                    if power.exponent.abs() > 1 << 40 {
                        break;
                    }
                }
            }
            product.to_f64().unwrap_or_else(|| {
                overflow = true;
                f64::NAN
            })
        });
        if overflow { Err(Overflow::Binary) } else { Ok(Column::from(Data::F64(products))) }
    }
    fn rounds_once(&self) -> bool {
        false
    }
    fn additivity(&self) -> Additivity {
        Additivity::Note("the product of all rows, not a sum of the lines")
    }
}

#[cfg(test)]
mod tests {
    use crate::testing::{rows, value};
    use rstest::rstest;

    #[rstest]
    // Of several that are as frequent the first in label order, whatever the order of rows.
    #[case("x", "b|a|b|a", "mode(x)", "a")]
    #[case("x:2", "2|10|10", "mode(x)", "10.00")]
    #[case("x", "b|A|a|b", "list(distinct x)", "A, a, b")]
    #[case("x:date", "2025-02-01|2025-01-01", "list(distinct x)", "2025-01-01, 2025-02-01")]
    #[case("x:2", "0.50|-4|3", "product(x)", "-6")]
    #[case("x:float", "1e200|1e200|1e-300", "product(x)", "1e100")]
    #[case("x:0", "0|5", "product(x)", "0")]
    #[case("x:2", "1.10|1.10|1.10", "product(x)", "1.331")]
    #[case("x:float", "5e-324|2e300", "product(x)", "9.881312916824931e-24")]
    fn the_different_values_and_how_often_each_occurs(
        #[case] column: &str,
        #[case] values: &str,
        #[case] calc: &str,
        #[case] expected: &str,
    ) {
        let given = value(&rows(&format!("{column}\n{}", values.replace('|', "\n"))), calc);
        let close = given
            .parse::<f64>()
            .is_ok_and(|a| expected.parse::<f64>().is_ok_and(|b| (a - b).abs() <= 1e-15 * b.abs()));
        assert!(given == expected || close, "{given}");
    }

    #[test]
    fn a_product_beyond_binary64_is_an_error() {
        let data = rows("x:float\n1e200\n1e200\n");
        let error =
            crate::testing::answer(&data, &crate::Request::of(&[], &["product(x)"])).err().unwrap();
        assert!(error.to_string().contains("1.8e308"), "{error}");
    }
}
