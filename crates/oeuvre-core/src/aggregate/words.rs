//! Whole numbers of so many bits that sums of them fit, and who says no where one does not.

use num_bigint::{BigInt, Sign};

/// A whole number with a sign of so many words, the lowest first, in two's complement.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Words<const W: usize>([u64; W]);

/// What is added up: it says no, and stays as it is, where a sum does not fit.
pub(super) trait Number: Copy + Default {
    /// Adds a magnitude times a power of two, or takes it away.
    fn add_shifted(&mut self, magnitude: u128, power: u32, is_negative: bool) -> bool;
    fn add(&mut self, other: &Self) -> bool;
    fn big(&self) -> BigInt;
    /// The magnitude in words, the lowest first, and whether the number is below zero.
    fn parts(&self) -> (impl Iterator<Item = u64>, bool);

    /// The number, where it has no more than 128 bits.
    fn whole(&self) -> Option<i128> {
        None
    }

    /// Adds a magnitude in words, the lowest first, or takes it away.
    fn add_words(&mut self, words: impl Iterator<Item = u64>, is_negative: bool) -> bool {
        let mut sum = *self;
        let mut words = (0..).step_by(64).zip(words);
        let fits = words.all(|(at, word)| sum.add_shifted(word.into(), at, is_negative));
        if fits {
            *self = sum;
        }
        fits
    }
    /// Adds a number of whichever size.
    #[inline]
    fn add_any(&mut self, other: &impl Number) -> bool {
        match other.whole() {
            Some(whole) => self.add_whole(whole),
            None => {
                let (words, is_negative) = other.parts();
                self.add_words(words, is_negative)
            }
        }
    }
    fn add_whole(&mut self, value: i128) -> bool {
        self.add_shifted(value.unsigned_abs(), 0, value < 0)
    }
    fn add_product(&mut self, a: i128, b: i128) -> bool {
        let is_negative = (a < 0) != (b < 0);
        let (a, b) = (a.unsigned_abs(), b.unsigned_abs());
        match a.checked_mul(b) {
            Some(product) => self.add_shifted(product, 0, is_negative),
            None => {
                let half = |number: u128| [(number & u128::from(u64::MAX), 0), (number >> 64, 64)];
                let mut sum = *self;
                let parts = half(a).into_iter().flat_map(|a| half(b).map(|b| (a, b)));
                let fits = parts
                    .into_iter()
                    .all(|((a, i), (b, j))| sum.add_shifted(a * b, i + j, is_negative));
                if fits {
                    *self = sum;
                }
                fits
            }
        }
    }
    fn add_big(&mut self, value: &BigInt) -> bool {
        self.add_words(value.iter_u64_digits(), value.sign() == Sign::Minus)
    }
}

impl Number for i64 {
    #[inline]
    fn add_shifted(&mut self, magnitude: u128, power: u32, is_negative: bool) -> bool {
        let mut sum = i128::from(*self);
        sum.add_shifted(magnitude, power, is_negative)
            && sum.try_into().is_ok_and(|sum| {
                *self = sum;
                true
            })
    }
    #[inline]
    fn add(&mut self, other: &i64) -> bool {
        self.checked_add(*other).inspect(|&sum| *self = sum).is_some()
    }
    fn big(&self) -> BigInt {
        BigInt::from(*self)
    }
    #[inline]
    fn whole(&self) -> Option<i128> {
        Some((*self).into())
    }
    fn parts(&self) -> (impl Iterator<Item = u64>, bool) {
        (std::iter::once(self.unsigned_abs()), *self < 0)
    }
    #[inline]
    fn add_whole(&mut self, value: i128) -> bool {
        i64::try_from(value).is_ok_and(|value| self.add(&value))
    }
    #[inline]
    fn add_product(&mut self, a: i128, b: i128) -> bool {
        match (i64::try_from(a), i64::try_from(b)) {
            (Ok(a), Ok(b)) => a.checked_mul(b).is_some_and(|product| self.add(&product)),
            _ => false,
        }
    }
}

impl Number for i128 {
    #[inline]
    fn add_shifted(&mut self, magnitude: u128, power: u32, is_negative: bool) -> bool {
        if magnitude == 0 {
            return true;
        }
        if power > magnitude.leading_zeros() {
            return false;
        }
        let shifted = magnitude << power;
        let sum = match is_negative {
            false => self.checked_add_unsigned(shifted),
            true => self.checked_sub_unsigned(shifted),
        };
        sum.inspect(|&sum| *self = sum).is_some()
    }
    #[inline]
    fn add(&mut self, other: &i128) -> bool {
        self.checked_add(*other).inspect(|&sum| *self = sum).is_some()
    }
    fn big(&self) -> BigInt {
        BigInt::from(*self)
    }
    #[inline]
    fn whole(&self) -> Option<i128> {
        Some(*self)
    }
    fn parts(&self) -> (impl Iterator<Item = u64>, bool) {
        let magnitude = self.unsigned_abs();
        ([magnitude as u64, (magnitude >> 64) as u64].into_iter(), *self < 0)
    }
    #[inline]
    fn add_whole(&mut self, value: i128) -> bool {
        self.add(&value)
    }
    #[inline]
    fn add_product(&mut self, a: i128, b: i128) -> bool {
        a.checked_mul(b).is_some_and(|product| self.add(&product))
    }
}

impl<const W: usize> Default for Words<W> {
    fn default() -> Self {
        Words([0; W])
    }
}

impl<const W: usize> Words<W> {
    fn is_negative(&self) -> bool {
        self.0[W - 1] >> 63 == 1
    }
    fn negated(self) -> Self {
        let mut carry = true;
        Words(self.0.map(|word| {
            let (negated, carried) = (!word).overflowing_add(carry.into());
            carry = carried;
            negated
        }))
    }
}

impl<const W: usize> Number for Words<W> {
    #[inline]
    fn add_shifted(&mut self, magnitude: u128, power: u32, is_negative: bool) -> bool {
        let bits = u128::BITS - magnitude.leading_zeros() + power;
        if magnitude == 0 {
            return true;
        }
        if bits >= 64 * W as u32 {
            return false;
        }
        let (first, shift) = ((power / 64) as usize, power % 64);
        let low = magnitude << shift;
        let high = if shift == 0 { 0 } else { (magnitude >> (128 - shift)) as u64 };
        let mut other = Words([0; W]);
        for (word, part) in other.0[first..].iter_mut().zip([low as u64, (low >> 64) as u64, high])
        {
            *word = part;
        }
        self.add(&if is_negative { other.negated() } else { other })
    }
    #[inline]
    fn add(&mut self, other: &Self) -> bool {
        let (mut sum, mut carry) = (*self, false);
        for (mine, theirs) in sum.0.iter_mut().zip(other.0) {
            let (added, one) = mine.overflowing_add(theirs);
            let (added, other) = added.overflowing_add(carry.into());
            (*mine, carry) = (added, one | other);
        }
        let fits =
            self.is_negative() != other.is_negative() || sum.is_negative() == self.is_negative();
        if fits {
            *self = sum;
        }
        fits
    }
    fn big(&self) -> BigInt {
        let bytes: Vec<u8> = self.0.iter().flat_map(|word| word.to_le_bytes()).collect();
        BigInt::from_signed_bytes_le(&bytes)
    }
    fn parts(&self) -> (impl Iterator<Item = u64>, bool) {
        let is_negative = self.is_negative();
        let magnitude = if is_negative { self.negated() } else { *self };
        (magnitude.0.into_iter(), is_negative)
    }
}

/// A magnitude times a power of two, with a power that is none below zero; none where it is no whole number.
#[inline]
pub(super) fn in_units(magnitude: u128, power: i64) -> Option<(u128, u32)> {
    match u32::try_from(power) {
        Ok(power) => Some((magnitude, power)),
        Err(_) if magnitude == 0 => Some((0, 0)),
        Err(_) if -power <= i64::from(magnitude.trailing_zeros()) => Some((magnitude >> -power, 0)),
        Err(_) => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn check<T: Number>(
        bits: u64,
        steps: &[(u128, u32, bool, i128, i128)],
    ) -> Result<(), TestCaseError> {
        let (mut sum, mut exact) = (T::default(), BigInt::from(0));
        let fits = |value: &BigInt| {
            let limit = BigInt::from(1) << (bits - 1);
            *value < limit && *value >= -limit
        };
        let mut others = T::default();
        for &(magnitude, power, is_negative, a, b) in steps {
            let shifted = BigInt::from(magnitude) << power;
            let shifted = if is_negative { -shifted } else { shifted };
            let big = &shifted - a;
            for (way, value) in
                [shifted.clone(), BigInt::from(a), BigInt::from(a) * b, big.clone(), others.big()]
                    .into_iter()
                    .enumerate()
            {
                let added = match way {
                    0 => sum.add_shifted(magnitude, power, is_negative),
                    1 => sum.add_whole(a),
                    2 => sum.add_product(a, b),
                    3 => sum.add_big(&big),
                    _ => sum.add(&others),
                };
                // What fits in the end may not do so on the way there, or have a factor that does not.
                let near = |value: &BigInt| fits(&(value * 4));
                let all_near =
                    [&exact + &value, value.clone(), a.into(), b.into()].iter().all(near);
                let may = if added { fits(&(&exact + &value)) } else { !all_near };
                prop_assert!(may, "{added}");
                if added {
                    exact += value;
                }
                prop_assert_eq!(&sum.big(), &exact);
            }
            let (words, is_negative) = sum.parts();
            let magnitude = words
                .zip((0u64..).step_by(64))
                .map(|(word, at)| BigInt::from(word) << at)
                .sum::<BigInt>();
            prop_assert_eq!(if is_negative { -magnitude } else { magnitude }, exact.clone());
            others = sum;
        }
        Ok(())
    }

    fn number() -> impl Strategy<Value = i128> {
        prop_oneof![
            any::<i128>(),
            any::<i64>().prop_map(i128::from),
            -3i128..3,
            Just(i128::MIN),
            Just(i128::MAX)
        ]
    }

    proptest! {
        /// Against numbers of any size.
        #[test]
        fn sums_are_exact_or_refused(
            steps in proptest::collection::vec(
                ((number(), 0u32..330), any::<bool>(), number(), number()).prop_map(|((m, p), n, a, b)| (m as u128, p, n, a, b)),
                1..12,
            )
        ) {
            check::<i64>(64, &steps)?;
            check::<i128>(128, &steps)?;
            check::<Words<4>>(256, &steps)?;
            check::<Words<5>>(320, &steps)?;
        }
    }
}
