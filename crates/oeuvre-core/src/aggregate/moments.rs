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
use super::float_sum::FloatSum;
use super::{
    Additivity, ArgumentProblem, GroupAggregate, GroupState, Overflow, Rows, finite, number,
};
use num_bigint::BigInt;
use oeuvre_columns::column::{Column, Data, MISSING_I64, MISSING_I128};
use oeuvre_columns::room::lengthen;
use oeuvre_columns::value::Kind;
use oeuvre_columns::value::decimal::big_pow10;
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

/// Count, sum and sum of squares of whole numbers. Sums of squares have 192 bits, enough for 2^64
/// squares of 64-bit numbers; wider numbers go to `wide`.
#[derive(Clone, Default)]
pub(crate) struct Whole {
    n: u64,
    sum: i128,
    squares_low: u128,
    squares_high: u64,
}

#[derive(Clone, Default)]
pub(crate) struct Floats {
    n: u64,
    sum: FloatSum,
    squares: FloatSum,
}

#[derive(Clone)]
pub(crate) enum Moments {
    Whole { states: Vec<Whole>, wide: Vec<(u32, u64, BigInt, BigInt)> },
    Float(Vec<Floats>),
}

impl GroupState for Moments {
    const FAMILY: &'static str = "moments";

    fn of(args: &[Kind]) -> Self {
        if args[0] == Kind::Float {
            Moments::Float(Vec::new())
        } else {
            Moments::Whole { states: Vec::new(), wide: Vec::new() }
        }
    }
    fn resize(&mut self, groups: usize) {
        match self {
            Moments::Whole { states, .. } => lengthen(states, groups, Whole::default()),
            Moments::Float(states) => lengthen(states, groups, Floats::default()),
        }
    }

    fn update(&mut self, rows: Rows<'_>) -> Result<(), Overflow> {
        match (self, &rows.args[0].data) {
            (Moments::Whole { states, .. }, Data::I64(values)) => {
                for (&g, &v) in rows.groups.iter().zip(values) {
                    let present = v != MISSING_I64;
                    let v = if present { v } else { 0 };
                    let state = &mut states[g as usize];
                    state.n += u64::from(present);
                    state.sum += i128::from(v);
                    let square = u128::from(v.unsigned_abs()) * u128::from(v.unsigned_abs());
                    let (low, carry) = state.squares_low.overflowing_add(square);
                    state.squares_low = low;
                    state.squares_high += u64::from(carry);
                }
            }
            (Moments::Whole { wide, .. }, Data::I128(values)) => {
                for (&g, &v) in rows.groups.iter().zip(values).filter(|(_, v)| **v != MISSING_I128)
                {
                    let v = BigInt::from(v);
                    add_wide(wide, g, 1, &v, &(&v * &v));
                }
            }
            (Moments::Float(states), Data::F64(values)) => {
                for (&g, &v) in
                    rows.groups.iter().zip(values).filter(|(g, v)| **g != 0 && !v.is_nan())
                {
                    let state = &mut states[g as usize];
                    state.n += 1;
                    state.sum.add(v);
                    state.squares.add_product(v, v);
                }
            }
            _ => {}
        }
        Ok(())
    }

    fn merge(&mut self, other: &Self, map: &[u32]) -> Result<(), Overflow> {
        match (self, other) {
            (Moments::Whole { states, wide }, Moments::Whole { states: theirs, wide: w }) => {
                for (&to, from) in map.iter().zip(theirs).filter(|(to, _)| **to != 0) {
                    let mine = &mut states[to as usize];
                    mine.n += from.n;
                    mine.sum = mine.sum.checked_add(from.sum).ok_or(Overflow::Digits)?;
                    let (low, carry) = mine.squares_low.overflowing_add(from.squares_low);
                    mine.squares_low = low;
                    mine.squares_high += from.squares_high + u64::from(carry);
                }
                let groups = w.iter().map(|it| (map[it.0 as usize], it));
                for (g, (_, n, sum, squares)) in groups.filter(|(g, _)| *g != 0) {
                    add_wide(wide, g, *n, sum, squares);
                }
            }
            (Moments::Float(mine), Moments::Float(theirs)) => {
                for (&to, from) in map.iter().zip(theirs).filter(|(to, _)| **to != 0) {
                    let mine = &mut mine[to as usize];
                    mine.n += from.n;
                    mine.sum.merge(&from.sum);
                    mine.squares.merge(&from.squares);
                }
            }
            _ => {}
        }
        Ok(())
    }

    fn fresh(&self) -> Self {
        match self {
            Moments::Whole { .. } => Moments::Whole { states: Vec::new(), wide: Vec::new() },
            Moments::Float(_) => Moments::Float(Vec::new()),
        }
    }

    fn size_bytes(&self) -> usize {
        match self {
            Moments::Whole { states, wide } => {
                size_of_val(states.as_slice()) + size_of_val(wide.as_slice())
            }
            Moments::Float(states) => {
                let limbs = states.iter().map(|s| s.sum.size_bytes() + s.squares.size_bytes());
                size_of_val(states.as_slice()) + limbs.sum::<usize>()
            }
        }
    }

    fn encode(&self, groups: Range<u32>, to: &mut Encoder) {
        to.count(groups.len());
        for g in groups.clone().map(|g| g as usize) {
            match self {
                Moments::Whole { states, .. } => {
                    let it = &states[g];
                    to.unsigned(u128::from(it.n));
                    to.signed(it.sum);
                    to.unsigned(it.squares_low);
                    to.unsigned(u128::from(it.squares_high));
                }
                Moments::Float(states) => {
                    to.unsigned(u128::from(states[g].n));
                    states[g].sum.encode(to);
                    states[g].squares.encode(to);
                }
            }
        }
        if let Moments::Whole { wide, .. } = self {
            let wide: Vec<_> = wide.iter().filter(|w| groups.contains(&w.0)).collect();
            to.count(wide.len());
            for (g, n, sum, squares) in wide {
                to.unsigned(u128::from(g - groups.start + 1));
                to.unsigned(u128::from(*n));
                to.big(sum);
                to.big(squares);
            }
        }
    }

    fn decode(&mut self, from: &mut Decoder<'_>) -> Result<(), Damaged> {
        let n = from.groups()?;
        GroupState::resize(self, n + 1);
        for g in 1..=n {
            match self {
                Moments::Whole { states, .. } => {
                    states[g] = Whole {
                        n: from.times()?,
                        sum: from.value(&[0])?,
                        squares_low: from.unsigned()?,
                        squares_high: from.times()?,
                    };
                    states[g].multiply_squares(from.factor(0))?;
                }
                Moments::Float(states) => {
                    states[g] = Floats {
                        n: from.times()?,
                        sum: FloatSum::decode(from)?,
                        squares: FloatSum::decode(from)?,
                    };
                }
            }
        }
        if let Moments::Whole { wide, .. } = self {
            for _ in 0..from.count()? {
                let g = from.code(n + 1)?;
                let (n, sum) = (from.times()?, from.big_value(&[0])?);
                let squares = from.big_value(&[0, 0])?;
                add_wide(wide, g, n, &sum, &squares);
            }
        }
        Ok(())
    }
}

impl Whole {
    /// Multiplies the squares by the square of a factor.
    fn multiply_squares(&mut self, factor: i128) -> Result<(), Damaged> {
        if factor == 1 {
            return Ok(());
        }
        let squares: BigInt = (BigInt::from(self.squares_high) << 128) + self.squares_low;
        let bytes = (squares * factor * factor).to_bytes_le().1;
        let mut words = [0; 24];
        words.get_mut(..bytes.len()).ok_or(Damaged)?.copy_from_slice(&bytes);
        let [mut low, mut high] = [[0; 16], [0; 16]];
        low.copy_from_slice(&words[..16]);
        high[..8].copy_from_slice(&words[16..]);
        self.squares_low = u128::from_le_bytes(low);
        self.squares_high = u128::from_le_bytes(high) as u64;
        Ok(())
    }
}

/// Numbers beyond 64 bits are rare: a list that is kept sorted by group serves them.
fn add_wide(
    wide: &mut Vec<(u32, u64, BigInt, BigInt)>,
    g: u32,
    n: u64,
    sum: &BigInt,
    squares: &BigInt,
) {
    match wide.binary_search_by_key(&g, |w| w.0) {
        Ok(at) => {
            wide[at].1 += n;
            wide[at].2 += sum;
            wide[at].3 += squares;
        }
        Err(at) => wide.insert(at, (g, n, sum.clone(), squares.clone())),
    }
}

impl Spread {
    /// From `n`, the sum, the sum of squares, and `unit²` that both squares are counted in.
    fn of(&self, n: u64, sum: &BigInt, squares: &BigInt, unit: &BigInt) -> Result<f64, Overflow> {
        let divisor = if self.sample { n.saturating_sub(1) } else { n };
        if n == 0 || divisor == 0 {
            return Ok(f64::NAN);
        }
        let numerator = BigInt::from(n) * squares - sum * sum;
        let denominator = BigInt::from(n) * divisor * unit;
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
        let spreads = match state {
            Moments::Whole { states, wide } => {
                let scale = if let Kind::Number { scale } = args[0] { scale } else { 0 };
                let unit = big_pow10(scale).pow(2);
                let mut wide = wide.iter().peekable();
                let mut out = Vec::with_capacity(states.len().saturating_sub(1));
                for (g, state) in states.iter().enumerate() {
                    let mut n = state.n;
                    let mut sum = BigInt::from(state.sum);
                    let mut squares =
                        (BigInt::from(state.squares_high) << 128u32) + state.squares_low;
                    if let Some((_, m, s, q)) = wide.next_if(|w| w.0 as usize == g) {
                        n += m;
                        sum += s;
                        squares += q;
                    }
                    if g > 0 {
                        out.push(self.of(n, &sum, &squares, &unit)?);
                    }
                }
                out
            }
            Moments::Float(states) => {
                // Sums are counted in units of u, squares in units of u too: scale the squares up.
                let unit = FloatSum::denominator();
                let squared = &unit * &unit;
                states
                    .iter()
                    .skip(1)
                    .map(|s| {
                        self.of(s.n, &s.sum.numerator(), &(s.squares.numerator() * &unit), &squared)
                    })
                    .collect::<Result<_, _>>()?
            }
        };
        Ok(Column::from(Data::F64(spreads)))
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
