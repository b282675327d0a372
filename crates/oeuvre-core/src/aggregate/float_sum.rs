//! Sums of binary64 numbers without any rounding.
//!
//! A sum is held as a whole number of units of 2^-2148, in limbs of 32 bits that are allocated only over the
//! range in use (the idea of Kulisch's long accumulator: U. Kulisch, "Computer Arithmetic and Validity", 2008).
//! Addition is then exact, so that neither order nor grouping of the rows can change the result. An addition
//! touches two or three limbs; carries wait until there are many of them.

use super::encoding::{Damaged, Decoder, Encoder};
use super::words::{Number, in_units};
use num_bigint::BigInt;
use oeuvre_columns::value::exact::ratio_to_f64;

/// The unit is `2^-UNIT`: the square of the smallest binary64.
const UNIT: i64 = 2148;
/// More limbs than the products of two binary64 numbers reach.
const LIMBS: i64 = 1 << 8;
/// After this many additions carries are settled, long before a limb can overflow.
const SETTLE_EVERY: u32 = 1 << 30;

/// An exact sum of binary64 numbers and of their products.
#[derive(Clone, Debug, Default)]
pub(crate) struct FloatSum {
    /// The place of the first limb, in limbs from the unit.
    low: i64,
    limbs: Vec<i64>,
    additions: u32,
}

impl FloatSum {
    /// Adds a finite number.
    pub(crate) fn add(&mut self, value: f64) {
        if let Some((mantissa, exponent)) = parts(value) {
            self.add_scaled(u128::from(mantissa), exponent, value < 0.0);
        }
    }

    /// Adds the exact product of two finite numbers.
    pub(crate) fn add_product(&mut self, a: f64, b: f64) {
        if let (Some((ma, ea)), Some((mb, eb))) = (parts(a), parts(b)) {
            let negative = (a < 0.0) != (b < 0.0);
            self.add_scaled(u128::from(ma) * u128::from(mb), ea + eb, negative);
        }
    }

    /// Adds a mantissa of up to 106 bits times a power of two, which is no smaller than the unit's.
    pub(super) fn add_scaled(&mut self, mantissa: u128, exponent: i64, negative: bool) {
        let place = exponent + UNIT;
        let (limb, shift) = (place.div_euclid(32), place.rem_euclid(32) as u32);
        // 106 bits shifted by up to 31 need five limbs.
        self.reach(limb, limb + 5);
        let at = (limb - self.low) as usize;
        let low = mantissa << shift;
        let high = if shift == 0 { 0 } else { mantissa >> (128 - shift) };
        for i in 0..5 {
            let part = if i < 4 { (low >> (32 * i)) as u32 } else { high as u32 };
            let part = i64::from(part);
            self.limbs[at + i] += if negative { -part } else { part };
        }
        self.additions += 1;
        if self.additions == SETTLE_EVERY {
            self.settle();
        }
    }

    fn reach(&mut self, low: i64, high: i64) {
        if self.limbs.is_empty() {
            self.low = low;
        }
        if low < self.low {
            let more = (self.low - low) as usize;
            self.limbs.splice(0..0, std::iter::repeat_n(0, more));
            self.low = low;
        }
        let needed = (high - self.low) as usize;
        if self.limbs.len() < needed {
            self.limbs.resize(needed, 0);
        }
    }

    /// Carries what outgrew its limb.
    fn settle(&mut self) {
        let mut carry = 0i64;
        for limb in &mut self.limbs {
            let sum = *limb + carry;
            carry = sum >> 32;
            *limb = sum & 0xffff_ffff;
        }
        if carry != 0 {
            self.limbs.push(carry);
        }
        self.additions = 0;
    }

    /// Adds another sum.
    pub(crate) fn merge(&mut self, other: &FloatSum) {
        if other.limbs.is_empty() {
            return;
        }
        let mut other = other.clone();
        other.settle();
        self.settle();
        self.reach(other.low, other.low + other.limbs.len() as i64);
        let at = (other.low - self.low) as usize;
        for (to, from) in self.limbs[at..].iter_mut().zip(&other.limbs) {
            *to += from;
        }
        self.additions = 1;
    }

    /// The sum as a fraction: a numerator over [`FloatSum::denominator`].
    pub(crate) fn numerator(&self) -> BigInt {
        let mut sum = BigInt::from(0);
        for &limb in self.limbs.iter().rev() {
            sum = (sum << 32) + limb;
        }
        if self.low >= 0 { sum << (self.low * 32) as u64 } else { sum >> (-self.low * 32) as u64 }
    }

    /// Whether nothing was added, or it came to nothing.
    pub(super) fn is_zero(&self) -> bool {
        self.limbs.iter().all(|&limb| limb == 0)
    }

    /// Adds it to a number of units of 2 to minus `unit`; false where it does not fit, or is no whole number of them.
    pub(super) fn add_to(&self, number: &mut impl Number, unit: u32) -> bool {
        let place = |at: usize| (self.low + at as i64) * 32 - UNIT + i64::from(unit);
        let add = |(at, &limb): (usize, &i64)| match in_units(limb.unsigned_abs().into(), place(at))
        {
            Some((magnitude, power)) => number.add_shifted(magnitude, power, limb < 0),
            None => limb == 0,
        };
        self.limbs.iter().enumerate().all(add)
    }

    /// What the numerators are counted in.
    pub(crate) fn denominator() -> BigInt {
        BigInt::from(1) << UNIT as u64
    }

    /// About how much memory its limbs take.
    pub(crate) fn size_bytes(&self) -> usize {
        size_of_val(self.limbs.as_slice())
    }

    /// Writes it down: the place of its first limb, and the limbs with nothing left to carry.
    pub(super) fn encode(&self, to: &mut Encoder) {
        let mut it = self.clone();
        it.settle();
        to.signed(i128::from(it.low));
        to.count(it.limbs.len());
        it.limbs.iter().for_each(|&limb| to.signed(i128::from(limb)));
    }

    /// Reads what was written down.
    pub(super) fn decode(from: &mut Decoder<'_>) -> Result<FloatSum, Damaged> {
        let bounded = |value: i128, most: i64| match i64::try_from(value) {
            Ok(value) if value.abs() <= most => Ok(value),
            _ => Err(Damaged),
        };
        let low = bounded(from.signed()?, LIMBS)?;
        let n = from.count()?;
        if n as i64 > LIMBS {
            return Err(Damaged);
        }
        let limbs = (0..n).map(|_| bounded(from.signed()?, 1 << 33)).collect::<Result<_, _>>()?;
        Ok(FloatSum { low, limbs, additions: 1 })
    }

    /// The binary64 nearest to the sum.
    pub(crate) fn to_f64(&self) -> Option<f64> {
        ratio_to_f64(&self.numerator(), &Self::denominator()).filter(|v| v.is_finite())
    }
}

/// Mantissa and exponent of a finite number other than zero.
#[inline]
pub(super) fn parts(value: f64) -> Option<(u64, i64)> {
    let bits = value.to_bits();
    let exponent = ((bits >> 52) & 0x7ff) as i64;
    let fraction = bits & ((1 << 52) - 1);
    match exponent {
        0x7ff => None,
        0 if fraction == 0 => None,
        0 => Some((fraction, -1074)),
        _ => Some((fraction | 1 << 52, exponent - 1075)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use oeuvre_columns::value::exact::f64_to_ratio;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn sums_are_exact_whatever_the_order(
            bits in proptest::collection::vec(any::<u64>(), 1..20), cut in 0usize..20
        ) {
            let values: Vec<f64> = bits.into_iter().map(f64::from_bits).filter(|v| v.is_finite()).collect();
            let mut exact = BigInt::from(0);
            for &v in &values {
                let (n, d) = f64_to_ratio(v).unwrap();
                exact += n * FloatSum::denominator() / d;
            }
            let (mut a, mut b) = (FloatSum::default(), FloatSum::default());
            for (i, &v) in values.iter().enumerate() {
                if i < cut { a.add(v) } else { b.add(v) }
            }
            b.merge(&a);
            prop_assert_eq!(b.numerator(), exact);
        }
    }
}
