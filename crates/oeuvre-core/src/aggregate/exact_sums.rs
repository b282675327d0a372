//! Sums of values and of their products for each group, exact, in as few bytes as they need.
//!
//! Whole numbers are added in 64 bits, all in 128 as soon as one sum does not fit, and then in 320: that holds 2^64 products of
//! two numbers of 128 bits. Binary64 numbers are added in whole units of 2^-84, in 128 bits, and their products in units of 2^-168, in 256
//! bits: that holds what business figures come to, from less than a billionth to billions. What it does not hold is added to a
//! [`FloatSum`] beside.
//!
//! Of `N` values a row the products are, in this order, those of [`FACTORS`], as many as are wanted.

use super::Rows;
use super::encoding::{Damaged, Decoder, Encoder};
use super::float_sum::{FloatSum, parts};
use super::times::{Times, add_one};
use super::words::{Number, Words, in_units};
use num_bigint::BigInt;
use oeuvre_columns::column::ahead::{SOON, ask_for, is_far};
use oeuvre_columns::column::{Data, MISSING_I64, MISSING_I128};
use oeuvre_columns::room::lengthen;
use oeuvre_columns::value::Kind;
use oeuvre_columns::value::decimal::big_pow10;
use std::ops::Range;

/// Which values are multiplied with each other.
pub(super) const FACTORS: [(usize, usize); 3] = [(0, 0), (1, 1), (0, 1)];

/// The sums of one group: of values, and of products.
#[derive(Clone, Copy)]
struct Of<S, Q, const N: usize, const P: usize> {
    values: [S; N],
    products: [Q; P],
}

impl<S: Number, Q: Number, const N: usize, const P: usize> Default for Of<S, Q, N, P> {
    fn default() -> Self {
        Of { values: [S::default(); N], products: [Q::default(); P] }
    }
}

impl<S: Number, Q: Number, const N: usize, const P: usize> Of<S, Q, N, P> {
    /// Changes the sums of one group all together, or not at all where one does not fit.
    #[inline]
    fn change(
        &mut self,
        add: impl Fn(&mut S, usize) -> bool,
        add_product: impl Fn(&mut Q, (usize, usize), usize) -> bool,
    ) -> bool {
        let mut it = *self;
        let fits = it.values.iter_mut().enumerate().all(|(at, sum)| add(sum, at))
            && it
                .products
                .iter_mut()
                .zip(FACTORS)
                .enumerate()
                .all(|(at, (sum, factors))| add_product(sum, factors, at));
        if fits {
            *self = it;
        }
        fits
    }
    #[inline]
    fn add_row(&mut self, row: [i128; N]) -> bool {
        self.change(
            |sum, at| sum.add_whole(row[at]),
            |sum, (a, b), _| sum.add_product(row[a], row[b]),
        )
    }
    #[inline]
    fn add(&mut self, other: &Self) -> bool {
        self.change(|sum, at| sum.add(&other.values[at]), |sum, _, at| sum.add(&other.products[at]))
    }
    fn totals(&self) -> ([BigInt; N], [BigInt; P]) {
        (self.values.each_ref().map(S::big), self.products.each_ref().map(Q::big))
    }
    #[inline]
    fn add_any<T: Number>(&mut self, other: &Alike<T, N, P>) -> bool {
        self.change(
            |sum, at| sum.add_any(&other.values[at]),
            |sum, _, at| sum.add_any(&other.products[at]),
        )
    }
    /// The same of a larger size.
    fn larger<T: Number>(smaller: &Alike<T, N, P>) -> Self {
        let mut it = Of::default();
        it.add_any(smaller);
        it
    }
    fn add_totals(&mut self, values: &[BigInt; N], products: &[BigInt; P]) -> bool {
        self.change(|sum, at| sum.add_big(&values[at]), |sum, _, at| sum.add_big(&products[at]))
    }
}

type Alike<T, const N: usize, const P: usize> = Of<T, T, N, P>;

/// How many rows have all of `N` values, and the sums of these and of `P` products.
#[derive(Clone)]
pub(super) struct Summed<const N: usize, const P: usize> {
    pub(super) times: Times,
    pub(super) sums: Sums<N, P>,
}

#[derive(Clone)]
pub(super) enum Sums<const N: usize, const P: usize> {
    Whole(WholeSums<N, P>),
    Float(FloatSums<N, P>),
}

/// The sums of a group, in the units of the values and their products.
pub(super) struct Totals<const N: usize, const P: usize> {
    pub(super) n: u64,
    pub(super) values: [BigInt; N],
    pub(super) products: [BigInt; P],
    /// How many units one is, of each value.
    pub(super) units: [BigInt; N],
}

impl<const N: usize, const P: usize> Summed<N, P> {
    pub(super) fn of(args: &[Kind]) -> Self {
        Summed::new(args[0] == Kind::Float)
    }

    fn new(is_float: bool) -> Self {
        let sums = match is_float {
            true => Sums::Float(FloatSums::default()),
            false => Sums::Whole(WholeSums::default()),
        };
        Summed { times: Times::default(), sums }
    }

    pub(super) fn fresh(&self) -> Self {
        Summed::new(matches!(self.sums, Sums::Float(_)))
    }

    pub(super) fn resize(&mut self, groups: usize) {
        self.times.resize(groups);
        match &mut self.sums {
            Sums::Whole(sums) => sums.resize(groups),
            Sums::Float(sums) => sums.resize(groups),
        }
    }

    pub(super) fn size_bytes(&self) -> usize {
        let sums = match &self.sums {
            Sums::Whole(sums) => sums.size_bytes(),
            Sums::Float(sums) => sums.size_bytes(),
        };
        sums + self.times.size_bytes()
    }

    pub(super) fn update(&mut self, Rows { groups, args, .. }: Rows<'_>) {
        let times = &mut self.times;
        let data: [&Data; N] = std::array::from_fn(|arg| &args[arg].data);
        match &mut self.sums {
            Sums::Whole(sums) => {
                if let Some(values) =
                    all(data.map(|it| if let Data::I64(v) = it { Some(&v[..]) } else { None }))
                {
                    return sums.add_rows(groups, times, row_of(values, |v| *v != MISSING_I64));
                }
                let values = data.map(Data::to_i128);
                sums.add_rows(
                    groups,
                    times,
                    row_of(values.each_ref().map(|v| &v[..]), |v| *v != MISSING_I128),
                );
            }
            Sums::Float(sums) => {
                if let Some(values) =
                    all(data.map(|it| if let Data::F64(v) = it { Some(&v[..]) } else { None }))
                {
                    sums.add_rows(groups, times, row_of(values, |v| !v.is_nan()));
                }
            }
        }
    }

    pub(super) fn merge(&mut self, other: &Self, map: &[u32]) {
        self.times.merge(&other.times, map);
        match (&mut self.sums, &other.sums) {
            (Sums::Whole(mine), Sums::Whole(theirs)) => mine.merge(theirs, map),
            (Sums::Float(mine), Sums::Float(theirs)) => mine.merge(theirs, map),
            _ => {}
        }
    }

    /// Those of each group but group 0, of arguments of these kinds.
    pub(super) fn totals(&self, args: &[Kind]) -> impl Iterator<Item = Totals<N, P>> {
        let scale = |arg: usize| if let Kind::Number { scale } = args[arg] { scale } else { 0 };
        let units: [BigInt; N] = std::array::from_fn(|arg| big_pow10(scale(arg)));
        self.times.iter().enumerate().skip(1).map(move |(group, n)| match &self.sums {
            Sums::Whole(sums) => {
                let (values, products) = sums.totals(group);
                Totals { n, values, products, units: units.clone() }
            }
            Sums::Float(sums) => {
                let (values, products, unit) = sums.totals(group);
                Totals { n, values, products, units: std::array::from_fn(|_| unit.clone()) }
            }
        })
    }

    /// Writes down how many rows each group has, and its sums.
    pub(super) fn encode(&self, groups: Range<u32>, to: &mut Encoder) {
        to.count(groups.len());
        for group in groups.map(|group| group as usize) {
            self.times.encode(group, to);
            match &self.sums {
                Sums::Whole(sums) => sums.encode(group, to),
                Sums::Float(sums) => sums.encode(group, to),
            }
        }
    }

    /// Reads what was written down.
    pub(super) fn decode(&mut self, from: &mut Decoder<'_>) -> Result<(), Damaged> {
        let groups = from.groups()?;
        self.resize(1);
        for _ in 0..groups {
            self.times.decode_next(from)?;
            match &mut self.sums {
                Sums::Whole(sums) => sums.decode_next(from)?,
                Sums::Float(sums) => sums.decode_next(from)?,
            }
        }
        Ok(())
    }
}

/// All columns, where each has values of one kind.
fn all<T, const N: usize>(columns: [Option<&[T]>; N]) -> Option<[&[T]; N]> {
    columns.iter().all(Option::is_some).then(|| columns.map(Option::unwrap_or_default))
}

/// The values of a row, where all are there.
fn row_of<T: Copy + Into<V>, V, const N: usize>(
    columns: [&[T]; N],
    is_there: impl Fn(&T) -> bool,
) -> impl Fn(usize) -> Option<[V; N]> {
    move |row| {
        let all = columns.iter().all(|column| is_there(&column[row]));
        all.then(|| columns.map(|column| column[row].into()))
    }
}

/// Sums of whole numbers.
#[derive(Clone, Default)]
pub(super) struct WholeSums<const N: usize, const P: usize>(Whole<N, P>);

/// All in 64 bits while all fit, then in 128, then in 320.
#[derive(Clone)]
enum Whole<const N: usize, const P: usize> {
    Short(Vec<Alike<i64, N, P>>),
    Long(Vec<Alike<i128, N, P>>),
    Longest(Vec<Alike<Words<5>, N, P>>),
}

impl<const N: usize, const P: usize> Default for Whole<N, P> {
    fn default() -> Self {
        Whole::Short(Vec::new())
    }
}

/// What to do with sums of whichever size.
macro_rules! of_any_size {
    ($sums:expr, $of:ident => $what:expr) => {
        match $sums {
            Whole::Short($of) => $what,
            Whole::Long($of) => $what,
            Whole::Longest($of) => $what,
        }
    };
}

impl<const N: usize, const P: usize> WholeSums<N, P> {
    pub(super) fn resize(&mut self, groups: usize) {
        of_any_size!(&mut self.0, sums => lengthen(sums, groups, Of::default()));
    }

    fn len(&self) -> usize {
        of_any_size!(&self.0, sums => sums.len())
    }

    pub(super) fn size_bytes(&self) -> usize {
        of_any_size!(&self.0, sums => size_of_val(sums.as_slice()))
    }

    /// Goes over to sums of the next size; false where they have the largest, that no rows outgrow.
    fn grow(&mut self) -> bool {
        self.0 = match &self.0 {
            Whole::Short(sums) => Whole::Long(sums.iter().map(Of::larger).collect()),
            Whole::Long(sums) => Whole::Longest(sums.iter().map(Of::larger).collect()),
            Whole::Longest(_) => return false,
        };
        true
    }

    /// Adds the values of rows, each to its group, and counts them; rows without all of them are none.
    pub(super) fn add_rows(
        &mut self,
        groups: &[u32],
        times: &mut Times,
        row: impl Fn(usize) -> Option<[i128; N]>,
    ) {
        let mut done = 0;
        loop {
            let left = groups.iter().enumerate().skip(done);
            let of_row = |(at, &group): (usize, &u32)| (group, groups.get(at + SOON), row(at));
            let added =
                of_any_size!(&mut self.0, sums => add_to_each(sums, times, left.map(of_row)));
            match added {
                Ok(()) => return,
                Err(fitting) if self.grow() => done += fitting,
                Err(_) => return,
            }
        }
    }

    /// Adds the sums of other groups, each to the one its group is mapped to; at 0 to none.
    pub(super) fn merge(&mut self, others: &Self, map: &[u32]) {
        let mut done = 0;
        loop {
            let merged = of_any_size!(&others.0, theirs => {
                of_any_size!(&mut self.0, mine => merge_each(mine, theirs, map, done))
            });
            match merged {
                Ok(()) => return,
                Err(fitting) if self.grow() => done += fitting,
                Err(_) => return,
            }
        }
    }

    /// The sums of a group.
    pub(super) fn totals(&self, group: usize) -> ([BigInt; N], [BigInt; P]) {
        of_any_size!(&self.0, sums => sums[group].totals())
    }

    /// Adds to the sums of a group.
    pub(super) fn add(
        &mut self,
        group: usize,
        values: &[BigInt; N],
        products: &[BigInt; P],
    ) -> Result<(), Damaged> {
        while !of_any_size!(&mut self.0, sums => sums[group].add_totals(values, products)) {
            if !self.grow() {
                return Err(Damaged);
            }
        }
        Ok(())
    }

    pub(super) fn encode(&self, group: usize, to: &mut Encoder) {
        let (values, products) = self.totals(group);
        values.iter().chain(&products).for_each(|sum| to.big(sum));
    }

    /// Reads the sums of one more group.
    pub(super) fn decode_next(&mut self, from: &mut Decoder<'_>) -> Result<(), Damaged> {
        let group = self.len();
        self.resize(group + 1);
        let (mut values, mut products) =
            (std::array::from_fn(|_| BigInt::ZERO), std::array::from_fn(|_| BigInt::ZERO));
        for (of, sum) in values.iter_mut().enumerate() {
            *sum = from.big_value(&[of])?;
        }
        for ((a, b), sum) in FACTORS.into_iter().zip(&mut products) {
            *sum = from.big_value(&[a, b])?;
        }
        self.add(group, &values, &products)
    }
}

/// Adds rows to their groups, up to the first one that does not fit: how many rows did.
fn add_to_each<'g, T: Number, const N: usize, const P: usize>(
    sums: &mut [Alike<T, N, P>],
    times: &mut Times,
    rows: impl Iterator<Item = (u32, Option<&'g u32>, Option<[i128; N]>)>,
) -> Result<(), usize> {
    let (far, (low, carried)) = (is_far(sums), times.parts());
    for (at, (group, soon, row)) in rows.enumerate() {
        if far && let Some(&soon) = soon {
            ask_for(sums, soon as usize);
            ask_for(low, soon as usize);
        }
        // What counts in no group may come to anything.
        if row.is_some_and(|row| !sums[group as usize].add_row(row) && group != 0) {
            return Err(at);
        }
        add_one(low, carried, group, row.is_some());
    }
    Ok(())
}

/// Merges groups from one on, up to the first one that does not fit: how many did.
fn merge_each<A: Number, B: Number, const N: usize, const P: usize>(
    mine: &mut [Alike<A, N, P>],
    theirs: &[Alike<B, N, P>],
    map: &[u32],
    from: usize,
) -> Result<(), usize> {
    let mut pairs = map.iter().zip(theirs).skip(from);
    let is_wrong = |(&to, theirs)| to != 0 && !mine[to as usize].add_any(theirs);
    pairs.position(is_wrong).map_or(Ok(()), Err)
}

/// The units of sums of binary64 numbers are 2 to minus this; of products 2 to minus twice this.
const UNIT: u32 = 84;

type Units<const N: usize, const P: usize> = Of<i128, Words<4>, N, P>;
type Beside<const N: usize, const P: usize> = ([FloatSum; N], [FloatSum; P]);

/// Sums of binary64 numbers.
#[derive(Clone)]
pub(super) struct FloatSums<const N: usize, const P: usize> {
    near: Vec<Units<N, P>>,
    /// What does not fit, of as many groups as have it and those before them.
    beside: Vec<Beside<N, P>>,
}

impl<const N: usize, const P: usize> Default for FloatSums<N, P> {
    fn default() -> Self {
        FloatSums { near: Vec::new(), beside: Vec::new() }
    }
}

impl<const N: usize, const P: usize> FloatSums<N, P> {
    pub(super) fn resize(&mut self, groups: usize) {
        lengthen(&mut self.near, groups, Of::default());
    }

    pub(super) fn len(&self) -> usize {
        self.near.len()
    }

    pub(super) fn size_bytes(&self) -> usize {
        let limbs =
            |it: &Beside<N, P>| it.0.iter().chain(&it.1).map(FloatSum::size_bytes).sum::<usize>();
        size_of_val(self.near.as_slice())
            + size_of_val(self.beside.as_slice())
            + self.beside.iter().map(limbs).sum::<usize>()
    }

    /// Adds the values of rows, each to its group, and counts them; rows without all of them are none.
    pub(super) fn add_rows(
        &mut self,
        groups: &[u32],
        times: &mut Times,
        row: impl Fn(usize) -> Option<[f64; N]>,
    ) {
        let (far, (low, carried)) = (is_far(&self.near), times.parts());
        for (at, &group) in groups.iter().enumerate() {
            if far && let Some(&soon) = groups.get(at + SOON) {
                ask_for(&self.near, soon as usize);
                ask_for(low, soon as usize);
            }
            let Some(row) = row(at) else { continue };
            add_one(low, carried, group, true);
            if !self.near[group as usize].add_floats(row) && group != 0 {
                let (values, products) = self.beside(group as usize);
                values.iter_mut().zip(row).for_each(|(sum, value)| sum.add(value));
                let factors = products.iter_mut().zip(FACTORS);
                factors.for_each(|(sum, (a, b))| sum.add_product(row[a], row[b]));
            }
        }
    }

    fn beside(&mut self, group: usize) -> &mut Beside<N, P> {
        lengthen(&mut self.beside, group + 1, nothing_beside());
        &mut self.beside[group]
    }

    /// Adds the sums of other groups, each to the one its group is mapped to; at 0 to none.
    pub(super) fn merge(&mut self, others: &Self, map: &[u32]) {
        for (from, &to) in map.iter().enumerate().take(others.len()).filter(|(_, to)| **to != 0) {
            let (from, to) = (&others.near[from], to as usize);
            if !self.near[to].add(from) {
                from.add_beside(self.beside(to));
            }
        }
        for (from, &to) in others.beside.iter().zip(map).filter(|(_, to)| **to != 0) {
            if from.0.iter().chain(&from.1).all(FloatSum::is_zero) {
                continue;
            }
            let (values, products) = self.beside(to as usize);
            values.iter_mut().zip(&from.0).for_each(|(sum, more)| sum.merge(more));
            products.iter_mut().zip(&from.1).for_each(|(sum, more)| sum.merge(more));
        }
    }

    /// The sums of a group in some unit, those of products in its square, and how many of the unit one is.
    pub(super) fn totals(&self, group: usize) -> ([BigInt; N], [BigInt; P], BigInt) {
        let (values, products) = self.near[group].totals();
        match self.beside.get(group) {
            Some(beside) if !beside.0.iter().chain(&beside.1).all(FloatSum::is_zero) => {
                let (values, products) = self.whole(group);
                let unit = FloatSum::denominator();
                // Products are counted in the same units as their factors: bring them to their squares.
                let products = products.each_ref().map(|sum| sum.numerator() * &unit);
                (values.each_ref().map(FloatSum::numerator), products, unit)
            }
            _ => (values, products, BigInt::from(1) << UNIT),
        }
    }

    /// The binary64 nearest to the first sum of a group; none that is too large.
    pub(super) fn nearest(&self, group: usize) -> Option<f64> {
        if self.beside.len() <= group {
            // A whole number becomes the nearest binary64, and a power of two changes no digit of that.
            const SIZE: f64 = 1.0 / (1u128 << UNIT) as f64;
            return Some(self.near[group].values[0] as f64 * SIZE);
        }
        self.whole(group).0[0].to_f64()
    }

    /// The sums of a group, with what does not fit.
    fn whole(&self, group: usize) -> Beside<N, P> {
        let mut all = self.beside.get(group).cloned().unwrap_or_else(nothing_beside);
        self.near[group].add_beside(&mut all);
        all
    }

    pub(super) fn encode(&self, group: usize, to: &mut Encoder) {
        let (values, products) = self.whole(group);
        values.iter().chain(&products).for_each(|sum| sum.encode(to));
    }

    /// Reads the sums of one more group.
    pub(super) fn decode_next(&mut self, from: &mut Decoder<'_>) -> Result<(), Damaged> {
        let group = self.len();
        self.resize(group + 1);
        let mut sums = nothing_beside();
        for sum in sums.0.iter_mut().chain(&mut sums.1) {
            *sum = FloatSum::decode(from)?;
        }
        let near = |sum: &mut i128, at: usize| sums.0[at].add_to(sum, UNIT);
        let product = |sum: &mut Words<4>, _, at: usize| sums.1[at].add_to(sum, 2 * UNIT);
        if !self.near[group].change(near, product) {
            *self.beside(group) = sums;
        }
        Ok(())
    }
}

fn nothing_beside<const N: usize, const P: usize>() -> Beside<N, P> {
    (std::array::from_fn(|_| FloatSum::default()), std::array::from_fn(|_| FloatSum::default()))
}

impl<const N: usize, const P: usize> Units<N, P> {
    /// Adds the values of a row; false, and nothing, where a sum does not fit, or a value is no whole number of units.
    #[inline]
    fn add_floats(&mut self, row: [f64; N]) -> bool {
        let mut whole = [(0, 0, false); N];
        for (whole, value) in whole.iter_mut().zip(row) {
            let Some((mantissa, exponent)) = parts(value) else { continue };
            let Some((mantissa, power)) = in_units(mantissa.into(), exponent + i64::from(UNIT))
            else {
                return false;
            };
            *whole = (mantissa, power, value < 0.0);
        }
        self.change(
            |sum, at| {
                let (mantissa, power, is_negative) = whole[at];
                sum.add_shifted(mantissa, power, is_negative)
            },
            |sum, (a, b), _| {
                let (a, b) = (whole[a], whole[b]);
                // Mantissas have 53 bits.
                sum.add_shifted(a.0 * b.0, a.1 + b.1, a.2 != b.2)
            },
        )
    }

    /// Adds all to sums that hold everything.
    fn add_beside(&self, (values, products): &mut Beside<N, P>) {
        fn add(sum: &mut FloatSum, number: &impl Number, unit: u32) {
            let (words, is_negative) = number.parts();
            for (word, power) in words.zip((-i64::from(unit)..).step_by(64)).filter(|it| it.0 > 0) {
                sum.add_scaled(word.into(), power, is_negative);
            }
        }
        values.iter_mut().zip(&self.values).for_each(|(sum, number)| add(sum, number, UNIT));
        let products = products.iter_mut().zip(&self.products);
        products.for_each(|(sum, number)| add(sum, number, 2 * UNIT));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use oeuvre_columns::column::Column;
    use oeuvre_columns::value::exact::{f64_to_ratio, ratio_to_f64};
    use proptest::prelude::*;

    const GROUPS: usize = 4;
    type Totalled = ([BigInt; 2], [BigInt; 3]);
    type Parts<T> = Vec<Vec<(u32, Option<[T; 2]>)>>;

    fn parts<T: std::fmt::Debug + Copy>(
        value: impl Strategy<Value = T> + Clone,
    ) -> impl Strategy<Value = Parts<T>> {
        let row = (0..GROUPS as u32, proptest::option::of([value.clone(), value]));
        proptest::collection::vec(proptest::collection::vec(row, 0..12), 1..4)
    }

    /// The sums of each group of all parts, with big numbers.
    fn plainly<T: Copy>(parts: &Parts<T>, big: impl Fn(T) -> BigInt) -> Vec<(u64, Totalled)> {
        let of_group = |group: u32| {
            let rows = parts.iter().flatten().filter(|row| row.0 == group);
            let rows: Vec<[BigInt; 2]> = rows.filter_map(|row| Some(row.1?.map(&big))).collect();
            let sum = |of: &dyn Fn(&[BigInt; 2]) -> BigInt| rows.iter().map(of).sum::<BigInt>();
            let values = [sum(&|row| row[0].clone()), sum(&|row| row[1].clone())];
            (rows.len() as u64, (values, FACTORS.map(|(a, b)| sum(&|row| &row[a] * &row[b]))))
        };
        (1..GROUPS as u32).map(of_group).collect()
    }

    /// The sums of all parts, some of them merged into the others; and the same written down and read.
    fn summed<T: Copy>(
        kind: Kind,
        parts: &Parts<T>,
        data: impl Fn(Vec<Option<T>>) -> Data,
    ) -> [Summed<2, 3>; 2] {
        let empty = || {
            let mut sums = Summed::of(&[kind; 2]);
            sums.resize(GROUPS);
            sums
        };
        let mut all = empty();
        for (at, part) in parts.iter().enumerate() {
            let groups: Vec<u32> = part.iter().map(|row| row.0).collect();
            let column = |arg: usize| part.iter().map(|row| Some(row.1?[arg])).collect();
            let args = [0, 1].map(|arg| Column::from(data(column(arg))));
            let rows = Rows { groups: &groups, args: &args.each_ref(), piece: 0 };
            let mut some = empty();
            match at {
                0 | 2 => all.update(rows),
                _ => some.update(rows),
            }
            if at == 1 {
                std::mem::swap(&mut all, &mut some);
            }
            all.merge(&some, &[0, 1, 2, 3]);
        }
        let (mut bytes, mut read) = (Encoder::default(), all.fresh());
        all.encode(1..GROUPS as u32, &mut bytes);
        read.decode(&mut Decoder::new(&bytes.into_bytes())).unwrap();
        [all, read]
    }

    fn number() -> impl Strategy<Value = i128> + Clone {
        let edge = prop_oneof![
            Just(i128::from(i64::MAX)),
            Just(i128::from(i64::MIN)),
            Just(i128::MAX),
            Just(i128::MIN + 1)
        ];
        prop_oneof![
            -9i128..9,
            any::<i64>().prop_map(i128::from),
            any::<i32>().prop_map(i128::from),
            any::<i128>(),
            edge
        ]
    }

    fn float() -> impl Strategy<Value = f64> + Clone {
        let any =
            any::<u64>().prop_map(f64::from_bits).prop_filter("finite", |value| value.is_finite());
        prop_oneof![
            Just(0.0),
            Just(0.1),
            Just(-1e12),
            Just(8e12),
            Just(1e-9),
            Just(-5e-324),
            Just(f64::MAX),
            any,
            (-1e6..1e6f64),
            (1i32..99_999, 1i32..9).prop_map(|(a, b)| f64::from(a) / f64::from(b)),
        ]
    }

    proptest! {
        #[test]
        fn whole_sums_are_those_of_big_numbers(parts in parts(number())) {
            let data = |values: Vec<Option<i128>>| {
                let near = |value: &Option<i128>| match value {
                    Some(value) => i64::try_from(*value).ok().filter(|value| *value != MISSING_I64),
                    None => Some(MISSING_I64),
                };
                match values.iter().map(near).collect() {
                    Some(near) => Data::I64(near),
                    None => Data::I128(values.iter().map(|value| value.unwrap_or(MISSING_I128)).collect()),
                }
            };
            let kind = Kind::Number { scale: 0 };
            for sums in summed(kind, &parts, data) {
                for (is, (n, totals)) in sums.totals(&[kind; 2]).zip(plainly(&parts, BigInt::from)) {
                    prop_assert_eq!((is.n, (is.values, is.products)), (n, totals));
                }
            }
        }

        #[test]
        fn sums_of_binary64_are_those_of_big_numbers(parts in parts(float())) {
            let data = |values: Vec<Option<f64>>| {
                Data::F64(values.iter().map(|value| value.unwrap_or(f64::NAN)).collect())
            };
            // In units of the smallest binary64.
            let smallest = BigInt::from(1) << 1074;
            let big = |value: f64| {
                let (numerator, denominator) = f64_to_ratio(value).unwrap();
                numerator * &smallest / denominator
            };
            for sums in summed(Kind::Float, &parts, data) {
                let all = sums.totals(&[Kind::Float; 2]).zip(plainly(&parts, big));
                for (group, (is, (n, (values, products)))) in (1..).zip(all) {
                    let [unit, _] = is.units;
                    prop_assert_eq!(is.n, n);
                    let nearest = ratio_to_f64(&values[0], &smallest).filter(|sum| sum.is_finite());
                    prop_assert_eq!(is.values.map(|sum| sum * &smallest), values.map(|sum| sum * &unit));
                    let (unit, smallest) = (&unit * &unit, &smallest * &smallest);
                    let products = products.map(|sum| sum * &unit);
                    prop_assert_eq!(is.products.map(|sum| sum * &smallest), products);
                    let Sums::Float(sums) = &sums.sums else { unreachable!() };
                    prop_assert_eq!(sums.nearest(group), nearest);
                }
            }
        }
    }
}
