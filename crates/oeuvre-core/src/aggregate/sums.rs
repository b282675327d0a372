//! `sum` and `mean`: exact totals, and means rounded once.
//!
//! Decimals are added as whole numbers, in 64 bits while they fit and in 128 after that; more is an overflow, not
//! a wrong figure. Binary64 values are added without any rounding (`float_sum.rs`), so that the order of rows
//! changes nothing. Missing values are left out; missing where none is left.
//!
//! ```
//! # use oeuvre_columns::{InMemory, Kind, Source};
//! # let rows = InMemory::from_texts(
//! #     &[("route", Kind::Text), ("fare", Kind::Number { scale: 2 })],
//! #     &[
//! #         &["SKE", "12.50"],
//! #         &["KEL", "8.00"],
//! #         &["SKE", "7.00"],
//! #         &["SKE", ""],
//! #     ],
//! # )?;
//! use oeuvre_core::{Plan, Request, run};
//!
//! // route, fare: SKE 12.50; KEL 8.00; SKE 7.00; SKE (missing)
//! let request = Request::of(&["route"], &["sum(fare)", "mean(fare)"]);
//! let plan = Plan::new(&request, rows.columns())?;
//! let (table, _) = run(&plan, &rows, 1)?;
//! assert_eq!(table.cell(1, 0).to_string(), "19.50");
//! assert_eq!(table.cell(1, 1).to_string(), "9.75");
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

use super::encoding::{Damaged, Decoder, Encoder};
use super::float_sum::FloatSum;
use super::{
    Additivity, ArgumentProblem, GroupAggregate, GroupState, Overflow, Ratio, Rows, number,
    whole_column,
};
use num_bigint::BigInt;
use oeuvre_columns::column::ahead::{SOON, ask_for, is_far};
use oeuvre_columns::column::{Column, Data, MISSING_I64, MISSING_I128};
use oeuvre_columns::room::lengthen;
use oeuvre_columns::value::Kind;
use oeuvre_columns::value::decimal::{Decimal, big_pow10};
use oeuvre_columns::value::exact::{decimal_ratio, ratio_to_f64};
use std::ops::Range;
use std::sync::Arc;

/// The sum of the values present: exact for decimals, correctly rounded for binary64. Missing when
/// there are none.
#[derive(PartialEq, Eq, Hash)]
pub struct Sum;
/// The sum over the count of values present, rounded once. Missing when there are none.
#[derive(PartialEq, Eq, Hash)]
pub struct Mean;

/// Sum and count of the values present.
#[derive(Clone)]
pub(crate) enum Sums {
    /// While all fit 64 bits: half as much memory to look up.
    Near(Vec<(i64, u64)>),
    Whole(Vec<(i128, u64)>),
    Float(Vec<(FloatSum, u64)>),
}

impl Sums {
    pub(crate) fn new(kind: Kind) -> Sums {
        if kind == Kind::Float { Sums::Float(Vec::new()) } else { Sums::Near(Vec::new()) }
    }

    /// Goes over to 128 bits.
    fn widen(&mut self) {
        if let Sums::Near(sums) = self {
            *self = Sums::Whole(sums.iter().map(|&(sum, n)| (i128::from(sum), n)).collect());
        }
    }

    /// Adds values to sums in 64 bits, up to the first one that does not fit: how many were added.
    fn add_near(sums: &mut [(i64, u64)], groups: &[u32], values: &[i64]) -> usize {
        let far = is_far(sums);
        for (row, (&g, &v)) in groups.iter().zip(values).enumerate() {
            if far && let Some(&soon) = groups.get(row + SOON) {
                ask_for(sums, soon as usize);
            }
            let present = v != MISSING_I64;
            let sum = &mut sums[g as usize];
            let Some(added) = sum.0.checked_add(if present { v } else { 0 }) else { return row };
            sum.0 = added;
            sum.1 += u64::from(present);
        }
        values.len()
    }

    /// The sums of whole numbers, and how many values each is of; none of binary64.
    fn whole(&self) -> Box<dyn Iterator<Item = (i128, u64)> + '_> {
        match self {
            Sums::Near(s) => Box::new(s.iter().map(|&(sum, n)| (i128::from(sum), n))),
            Sums::Whole(s) => Box::new(s.iter().copied()),
            Sums::Float(_) => Box::new(std::iter::empty()),
        }
    }
}

impl GroupState for Sums {
    const FAMILY: &'static str = "sum";

    fn of(args: &[Kind]) -> Self {
        Sums::new(args[0])
    }
    fn resize(&mut self, groups: usize) {
        match self {
            Sums::Near(s) => lengthen(s, groups, (0, 0)),
            Sums::Whole(s) => lengthen(s, groups, (0, 0)),
            Sums::Float(s) => lengthen(s, groups, Default::default()),
        }
    }

    fn update(&mut self, rows: Rows<'_>) -> Result<(), Overflow> {
        let mut added = 0;
        match (&mut *self, &rows.args[0].data) {
            (Sums::Near(sums), Data::I64(values)) => {
                added = Sums::add_near(sums, rows.groups, values);
                if added == values.len() {
                    return Ok(());
                }
                self.widen();
            }
            (Sums::Near(_), _) => self.widen(),
            _ => {}
        }
        match (self, &rows.args[0].data) {
            (Sums::Whole(sums), Data::I64(values)) => {
                // 2^64 rows of 64-bit numbers cannot overflow 128 bits.
                for (&g, &v) in rows.groups.iter().zip(values).skip(added) {
                    let present = v != MISSING_I64;
                    let sum = &mut sums[g as usize];
                    sum.0 += i128::from(if present { v } else { 0 });
                    sum.1 += u64::from(present);
                }
            }
            (Sums::Whole(sums), Data::I128(values)) => {
                for (&g, &v) in rows.groups.iter().zip(values).filter(|(_, v)| **v != MISSING_I128)
                {
                    let sum = &mut sums[g as usize];
                    if g != 0 {
                        sum.0 = sum.0.checked_add(v).ok_or(Overflow::Digits)?;
                    }
                    sum.1 += 1;
                }
            }
            (Sums::Float(sums), Data::F64(values)) => {
                for (&g, &v) in
                    rows.groups.iter().zip(values).filter(|(g, v)| **g != 0 && !v.is_nan())
                {
                    let sum = &mut sums[g as usize];
                    sum.0.add(v);
                    sum.1 += 1;
                }
            }
            _ => {}
        }
        Ok(())
    }

    fn merge(&mut self, other: &Self, map: &[u32]) -> Result<(), Overflow> {
        let mut merged = 0;
        if let (Sums::Near(mine), Sums::Near(theirs)) = (&mut *self, other) {
            for (&to, from) in map.iter().zip(theirs) {
                let sum = &mut mine[to as usize];
                let Some(added) = sum.0.checked_add(if to == 0 { 0 } else { from.0 }) else {
                    break;
                };
                (sum.0, sum.1) = (added, sum.1 + from.1);
                merged += 1;
            }
            if merged == map.len().min(theirs.len()) {
                return Ok(());
            }
        }
        self.widen();
        match (self, other) {
            (Sums::Whole(mine), Sums::Near(_) | Sums::Whole(_)) => {
                let pairs = map.iter().zip(other.whole()).skip(merged);
                for (&to, from) in pairs.filter(|(to, _)| **to != 0) {
                    let sum = &mut mine[to as usize];
                    sum.0 = sum.0.checked_add(from.0).ok_or(Overflow::Digits)?;
                    sum.1 += from.1;
                }
            }
            (Sums::Float(mine), Sums::Float(theirs)) => {
                for (&to, from) in map.iter().zip(theirs) {
                    mine[to as usize].0.merge(&from.0);
                    mine[to as usize].1 += from.1;
                }
            }
            _ => {}
        }
        Ok(())
    }

    fn fresh(&self) -> Self {
        match self {
            Sums::Near(_) | Sums::Whole(_) => Sums::Near(Vec::new()),
            Sums::Float(_) => Sums::Float(Vec::new()),
        }
    }

    fn size_bytes(&self) -> usize {
        match self {
            Sums::Near(s) => size_of_val(s.as_slice()),
            Sums::Whole(s) => size_of_val(s.as_slice()),
            Sums::Float(s) => {
                size_of_val(s.as_slice()) + s.iter().map(|s| s.0.size_bytes()).sum::<usize>()
            }
        }
    }

    fn encode(&self, groups: Range<u32>, to: &mut Encoder) {
        to.count(groups.len());
        for g in groups.map(|g| g as usize) {
            match self {
                Sums::Near(s) => {
                    to.signed(i128::from(s[g].0));
                    to.unsigned(u128::from(s[g].1));
                }
                Sums::Whole(s) => {
                    to.signed(s[g].0);
                    to.unsigned(u128::from(s[g].1));
                }
                Sums::Float(s) => {
                    s[g].0.encode(to);
                    to.unsigned(u128::from(s[g].1));
                }
            }
        }
    }

    fn decode(&mut self, from: &mut Decoder<'_>) -> Result<(), Damaged> {
        let n = from.groups()?;
        self.widen();
        GroupState::resize(self, n + 1);
        for g in 1..=n {
            match self {
                Sums::Near(_) => {}
                Sums::Whole(s) => s[g] = (from.value(&[0])?, from.times()?),
                Sums::Float(s) => s[g] = (FloatSum::decode(from)?, from.times()?),
            }
        }
        Ok(())
    }
}

impl GroupAggregate for Sum {
    type State = Sums;

    fn result(&self, args: &[Kind]) -> Result<Kind, ArgumentProblem> {
        number(args, 0)
    }
    fn finish(&self, state: &Sums, _: &[Kind]) -> Result<Column, Overflow> {
        Ok(match state {
            Sums::Near(s) => {
                let one = |&(sum, n): &(i64, u64)| (n > 0).then_some(i128::from(sum));
                whole_column(s.iter().skip(1).map(one))
            }
            Sums::Whole(s) => {
                whole_column(s.iter().skip(1).map(|&(sum, n)| (n > 0).then_some(sum)))
            }
            Sums::Float(s) => {
                let one = |(sum, n): &(FloatSum, u64)| match n {
                    0 => Ok(f64::NAN),
                    _ => sum.to_f64().ok_or(Overflow::Binary),
                };
                Column::from(Data::F64(s.iter().skip(1).map(one).collect::<Result<_, _>>()?))
            }
        })
    }
    fn additivity(&self) -> Additivity {
        Additivity::Additive
    }
}

impl GroupAggregate for Mean {
    type State = Sums;

    fn result(&self, args: &[Kind]) -> Result<Kind, ArgumentProblem> {
        number(args, 0).map(|_| Kind::Float)
    }
    fn finish(&self, state: &Sums, args: &[Kind]) -> Result<Column, Overflow> {
        let scale = if let Kind::Number { scale } = args[0] { scale } else { 0 };
        let means = match state {
            Sums::Near(_) | Sums::Whole(_) => {
                state.whole().skip(1).map(|(sum, n)| whole_mean(sum, n, scale)).collect()
            }
            Sums::Float(s) => s
                .iter()
                .skip(1)
                .map(|(sum, n)| ratio_to_f64(&sum.numerator(), &(FloatSum::denominator() * *n)))
                .map(|mean| mean.unwrap_or(f64::NAN))
                .collect(),
        };
        Ok(Column::from(Data::F64(means)))
    }
    fn ratio(&self, args: &[Kind]) -> Option<Ratio> {
        let exact = matches!(args[0], Kind::Number { .. });
        exact.then(|| Ratio { numerator: Arc::new(Sum), denominator: Some(Arc::new(CountAdded)) })
    }
    fn additivity(&self) -> Additivity {
        Additivity::Note("a mean of all rows, not a sum of the lines")
    }
}

/// How many values a sum is of. Missing when there are none.
#[derive(PartialEq, Eq, Hash)]
struct CountAdded;

impl GroupAggregate for CountAdded {
    type State = Sums;

    fn result(&self, _: &[Kind]) -> Result<Kind, ArgumentProblem> {
        Ok(Kind::Number { scale: 0 })
    }
    fn finish(&self, state: &Sums, _: &[Kind]) -> Result<Column, Overflow> {
        let count = |n: u64| (n > 0).then_some(i128::from(n));
        Ok(match state {
            Sums::Near(s) => whole_column(s.iter().skip(1).map(|s| count(s.1))),
            Sums::Whole(s) => whole_column(s.iter().skip(1).map(|s| count(s.1))),
            Sums::Float(s) => whole_column(s.iter().skip(1).map(|s| count(s.1))),
        })
    }
    fn additivity(&self) -> Additivity {
        Additivity::Additive
    }
}

fn whole_mean(sum: i128, n: u64, scale: u8) -> f64 {
    // The count takes the scale of the sum: sum / 10^scale over n is sum over n * 10^scale.
    let count = Decimal::new(i128::from(n), 0);
    if let Some(mean) = count
        .rescale(scale)
        .and_then(|c| decimal_ratio(Decimal::new(sum, 0), Decimal::new(c.mantissa, 0)))
    {
        return mean;
    }
    let denominator = BigInt::from(n) * big_pow10(scale);
    ratio_to_f64(&BigInt::from(sum), &denominator).unwrap_or(f64::NAN)
}

#[cfg(test)]
mod tests {
    use crate::testing::{rows, value};
    use rstest::rstest;

    const WIDE: &str = "99999999999999999999999999999999999999";

    #[rstest]
    // Beyond 64 bits and back, in every order of adding.
    #[case(
        "x:0",
        "9223372036854775807|9223372036854775807|-9223372036854775807",
        "9223372036854775807"
    )]
    #[case("x:2", "0.10|0.20|", "0.30")]
    #[case("x:2", "||", "-")]
    // In binary64 one after the other these come to 0.
    #[case("x:float", "1e16|1|-1e16", "1")]
    #[case("x:float", "0.1|0.2|0.3|-0.6", "2.7755575615628914e-17")]
    fn a_sum_is_exact(#[case] column: &str, #[case] values: &str, #[case] expected: &str) {
        let rows =
            rows(&format!("{column}\n{}", values.replace('|', "\n")).replace("\n\n", "\n \n"));
        assert_eq!(value(&rows, "sum(x)"), expected);
    }

    #[rstest]
    #[case("x:0", "1|2|2", "1.6666666666666667")]
    #[case("x:2", "0.01|0.02", "0.015")]
    #[case("x:float", "1e308|1e308", "100000000000000000000000000000000")]
    fn a_mean_is_rounded_once(#[case] column: &str, #[case] values: &str, #[case] start: &str) {
        let rows = rows(&format!("{column}\n{}", values.replace('|', "\n")));
        let mean = value(&rows, "mean(x)");
        assert!(mean.starts_with(start) || mean == "1e308", "{mean}");
    }

    #[test]
    fn more_than_38_digits_are_an_error_and_not_a_wrong_figure() {
        let data = rows(&format!("x:0 k\n{WIDE}|a\n{WIDE}|b\n"));
        let request = crate::Request::of(&[], &["sum(x)"]);
        let error = crate::testing::answer(&data, &request).err().unwrap().to_string();
        assert!(error.contains("38 digits") || error.contains("too large"), "{error}");
        // What a condition leaves out cannot overflow.
        assert_eq!(value(&data, "sum(x where k = 'a')"), WIDE);
    }
}
