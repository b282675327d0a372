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

use super::count::are_few;
use super::encoding::{Damaged, Decoder, Encoder};
use super::exact_sums::FloatSums;
use super::times::{Times, add_one, take_one_away};
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
pub(crate) struct Sums {
    added: Added,
    /// How many values each sum is of.
    times: Times,
}

/// What was added up.
#[derive(Clone)]
enum Added {
    /// While all fit 64 bits: half as much memory to look up.
    Near(Vec<i64>),
    Whole(Vec<i128>),
    Float(FloatSums<1, 0>),
}

impl Sums {
    pub(crate) fn new(kind: Kind) -> Sums {
        let added = match kind {
            Kind::Float => Added::Float(FloatSums::default()),
            _ => Added::Near(Vec::new()),
        };
        Sums { added, times: Times::default() }
    }

    /// One sum, of so many values.
    pub(crate) fn one(sum: i128, times: u64) -> Sums {
        Sums { added: Added::Whole(vec![0, sum]), times: [0, times].into_iter().collect() }
    }

    /// Goes over to 128 bits.
    fn widen(&mut self) {
        if let Added::Near(sums) = &self.added {
            self.added = Added::Whole(sums.iter().map(|&sum| i128::from(sum)).collect());
        }
    }

    /// Adds values to sums in 64 bits, up to the first one that does not fit: how many were added.
    fn add_near(&mut self, groups: &[u32], values: &[i64]) -> usize {
        let Added::Near(sums) = &mut self.added else { return 0 };
        let (low, carried) = self.times.parts();
        let far = is_far(sums);
        for (row, (&g, &v)) in groups.iter().zip(values).enumerate() {
            if far && let Some(&soon) = groups.get(row + SOON) {
                ask_for(sums, soon as usize);
                ask_for(low, soon as usize);
            }
            let present = v != MISSING_I64;
            let sum = &mut sums[g as usize];
            let Some(added) = sum.checked_add(if present { v } else { 0 }) else { return row };
            *sum = added;
            add_one(low, carried, g, present);
        }
        values.len()
    }

    /// Adds values to sums without counting those that are there; none, and false, where one does not fit.
    fn add_uncounted(&mut self, groups: &[u32], values: &[i64], any_missing: bool) -> bool {
        let Added::Near(sums) = &mut self.added else { return false };
        if !any_missing && let Some(group) = only_group(groups) {
            let sum = &mut sums[group as usize];
            let Ok(all) = i64::try_from(i128::from(*sum) + sum_of(values)) else { return false };
            *sum = all;
            return true;
        }
        for (row, (&group, &value)) in groups.iter().zip(values).enumerate() {
            let sum = &mut sums[group as usize];
            let value = if value == MISSING_I64 { 0 } else { value };
            let Some(added) = sum.checked_add(value) else {
                // Those before are taken away again, the last one first: none of that overflows.
                let before =
                    groups[..row].iter().zip(values).rev().filter(|it| *it.1 != MISSING_I64);
                before.for_each(|(&group, &value)| sums[group as usize] -= value);
                return false;
            };
            *sum = added;
        }
        if any_missing {
            let (low, carried) = self.times.parts();
            for (&group, &value) in groups.iter().zip(values) {
                take_one_away(low, carried, group, value == MISSING_I64);
            }
        }
        true
    }

    /// Adds sums in 64 bits to others, up to the first one that does not fit: how many were added.
    fn merge_near(&mut self, other: &Sums, map: &[u32]) -> usize {
        let (Added::Near(mine), Added::Near(theirs)) = (&mut self.added, &other.added) else {
            return 0;
        };
        for (at, (&to, from)) in map.iter().zip(theirs).enumerate() {
            let sum = &mut mine[to as usize];
            match sum.checked_add(if to == 0 { 0 } else { *from }) {
                Some(added) => *sum = added,
                None => return at,
            }
        }
        map.len().min(theirs.len())
    }

    /// The sums of whole numbers, and how many values each is of; none of binary64.
    fn whole(&self) -> Box<dyn Iterator<Item = (i128, u64)> + '_> {
        match &self.added {
            Added::Near(s) => Box::new(s.iter().map(|&sum| i128::from(sum)).zip(self.times.iter())),
            Added::Whole(s) => Box::new(s.iter().copied().zip(self.times.iter())),
            Added::Float(_) => Box::new(std::iter::empty()),
        }
    }

    /// How many sums there are, that of group 0 included.
    fn len(&self) -> usize {
        match &self.added {
            Added::Near(sums) => sums.len(),
            Added::Whole(sums) => sums.len(),
            Added::Float(sums) => sums.len(),
        }
    }
}

/// The group that all rows are in, if that is one.
fn only_group(groups: &[u32]) -> Option<u32> {
    /// Rows of several groups mostly show that at once.
    const FIRST: usize = 16;
    let (&first, rest) = groups.split_first()?;
    let (near, far) = rest.split_at(rest.len().min(FIRST));
    let others = |groups: &[u32]| groups.iter().fold(0, |others, group| others | (group ^ first));
    (others(near) == 0 && others(far) == 0).then_some(first)
}

/// The sum of values, by the halves of their words: what is added in vector registers and cannot overflow.
fn sum_of(values: &[i64]) -> i128 {
    let half =
        |(high, low): (i64, i64), &value: &i64| (high + (value >> 32), low + (value & 0xffff_ffff));
    let sums = values.chunks(1 << 24).map(|some| some.iter().fold((0, 0), half));
    sums.map(|(high, low)| (i128::from(high) << 32) + i128::from(low)).sum()
}

impl GroupState for Sums {
    const FAMILY: &'static str = "sum";

    fn of(args: &[Kind]) -> Self {
        Sums::new(args[0])
    }
    fn resize(&mut self, groups: usize) {
        self.times.resize(groups);
        match &mut self.added {
            Added::Near(s) => lengthen(s, groups, 0),
            Added::Whole(s) => lengthen(s, groups, 0),
            Added::Float(s) => s.resize(groups),
        }
    }

    fn update(&mut self, rows: Rows<'_>) -> Result<(), Overflow> {
        let mut done = 0;
        if let Data::I64(values) = &rows.args[0].data {
            done = self.add_near(rows.groups, values);
            if done == values.len() {
                return Ok(());
            }
        }
        self.widen();
        let times = &mut self.times;
        match (&mut self.added, &rows.args[0].data) {
            (Added::Whole(sums), Data::I64(values)) => {
                let rows = rows.groups.iter().zip(values).skip(done);
                // 2^64 rows of 64-bit numbers cannot overflow 128 bits.
                for (&g, &v) in rows.filter(|(_, v)| **v != MISSING_I64) {
                    sums[g as usize] += i128::from(v);
                    times.add(g, 1);
                }
            }
            (Added::Whole(sums), Data::I128(values)) => {
                let rows = rows.groups.iter().zip(values);
                for (&g, &v) in rows.filter(|(_, v)| **v != MISSING_I128) {
                    if g != 0 {
                        let sum = &mut sums[g as usize];
                        *sum = sum.checked_add(v).ok_or(Overflow::Digits)?;
                    }
                    times.add(g, 1);
                }
            }
            (Added::Float(sums), Data::F64(values)) => {
                let value = |at: usize| (!f64::is_nan(values[at])).then(|| [values[at]]);
                sums.add_rows(rows.groups, times, value);
            }
            _ => {}
        }
        Ok(())
    }

    fn update_uncounted(&mut self, rows: Rows<'_>) -> Result<bool, Overflow> {
        let missing = rows.args[0].data.count_missing();
        if let Data::I64(values) = &rows.args[0].data
            && are_few(missing, values.len())
            && self.add_uncounted(rows.groups, values, missing > 0)
        {
            return Ok(true);
        }
        self.update(rows).map(|()| false)
    }

    fn count_rows(&mut self, of_groups: &[u64]) {
        self.times.add_each(of_groups);
    }

    fn merge(&mut self, other: &Self, map: &[u32]) -> Result<(), Overflow> {
        let merged = self.merge_near(other, map);
        self.times.merge(&other.times, map);
        let left = &map[merged..map.len().min(other.len())];
        if left.is_empty() {
            return Ok(());
        }
        self.widen();
        match (&mut self.added, &other.added) {
            (Added::Whole(mine), Added::Near(_) | Added::Whole(_)) => {
                let pairs = left.iter().zip(other.whole().skip(merged));
                for (&to, (sum, _)) in pairs.filter(|(to, _)| **to != 0) {
                    let mine = &mut mine[to as usize];
                    *mine = mine.checked_add(sum).ok_or(Overflow::Digits)?;
                }
            }
            (Added::Float(mine), Added::Float(theirs)) => mine.merge(theirs, map),
            _ => {}
        }
        Ok(())
    }

    fn fresh(&self) -> Self {
        Sums::new(match self.added {
            Added::Near(_) | Added::Whole(_) => Kind::Nothing,
            Added::Float(_) => Kind::Float,
        })
    }

    fn size_bytes(&self) -> usize {
        let sums = match &self.added {
            Added::Near(s) => size_of_val(s.as_slice()),
            Added::Whole(s) => size_of_val(s.as_slice()),
            Added::Float(s) => s.size_bytes(),
        };
        sums + self.times.size_bytes()
    }

    fn encode(&self, groups: Range<u32>, to: &mut Encoder) {
        to.count(groups.len());
        for g in groups.map(|g| g as usize) {
            match &self.added {
                Added::Near(s) => to.signed(i128::from(s[g])),
                Added::Whole(s) => to.signed(s[g]),
                Added::Float(s) => s.encode(g, to),
            }
            self.times.encode(g, to);
        }
    }

    fn decode(&mut self, from: &mut Decoder<'_>) -> Result<(), Damaged> {
        let n = from.groups()?;
        self.widen();
        GroupState::resize(self, 1);
        for _ in 0..n {
            match &mut self.added {
                Added::Near(_) => {}
                Added::Whole(s) => s.push(from.value(&[0])?),
                Added::Float(s) => s.decode_next(from)?,
            }
            self.times.decode_next(from)?;
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
        Ok(match &state.added {
            Added::Near(s) => {
                let one = |(&sum, n): (&i64, u64)| (n > 0).then_some(i128::from(sum));
                whole_column(s.iter().zip(state.times.iter()).skip(1).map(one))
            }
            Added::Whole(s) => {
                let one = |(&sum, n): (&i128, u64)| (n > 0).then_some(sum);
                whole_column(s.iter().zip(state.times.iter()).skip(1).map(one))
            }
            Added::Float(s) => {
                let one = |(group, n): (usize, u64)| match n {
                    0 => Ok(f64::NAN),
                    _ => s.nearest(group).ok_or(Overflow::Binary),
                };
                let sums = state.times.iter().enumerate().skip(1).map(one);
                Column::from(Data::F64(sums.collect::<Result<_, _>>()?))
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
        let means = match &state.added {
            Added::Near(_) | Added::Whole(_) => {
                state.whole().skip(1).map(|(sum, n)| whole_mean(sum, n, scale)).collect()
            }
            Added::Float(s) => {
                let mean = |(group, n): (usize, u64)| {
                    let ([sum], [], unit) = s.totals(group);
                    ratio_to_f64(&sum, &(unit * n)).unwrap_or(f64::NAN)
                };
                state.times.iter().enumerate().skip(1).map(mean).collect()
            }
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
        Ok(whole_column(state.times.iter().skip(1).map(count)))
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
