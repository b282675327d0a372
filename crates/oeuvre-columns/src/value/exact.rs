//! From exact whole numbers to correctly rounded binary64.
//!
//! Means, deviations and quotients are worked out as exact fractions and rounded once, to the nearest binary64
//! with ties to even (IEEE 754, 4.3.1), so that they never depend on the order of the rows. The cost is that of a
//! division of whole numbers of as many bits as the fraction has, some hundred nanoseconds; it is paid once a
//! figure, never once a row.
//!
//! ```
//! use num_bigint::BigInt;
//! use oeuvre_columns::Decimal;
//! use oeuvre_columns::value::exact::{ratio_to_f64, round_quotient};
//!
//! assert_eq!(ratio_to_f64(&BigInt::from(1), &BigInt::from(3)), Some(1.0 / 3.0));
//! assert_eq!(ratio_to_f64(&BigInt::from(1), &BigInt::from(0)), None);
//! // 25.50 / 60 is 0.425, whose binary64 is a little less: rounded from the parts it is 0.43.
//! let quotient = round_quotient(Decimal::new(2550, 2), Decimal::new(60, 0), 2);
//! assert_eq!(quotient.map(|q| q.to_string()), Some("0.43".into()));
//! ```

use super::decimal::{Decimal, big_pow10, pow10};
use num_bigint::{BigInt, BigUint, Sign};

/// Whole numbers up to this are exact in binary64.
const EXACT_F64: u128 = 1 << 53;
/// Powers of ten up to this exponent are exact in binary64.
const EXACT_POW10: u8 = 22;

/// The binary64 nearest to `numerator / denominator`; `None` when the denominator is zero.
pub fn ratio_to_f64(numerator: &BigInt, denominator: &BigInt) -> Option<f64> {
    if denominator.sign() == Sign::NoSign {
        return None;
    }
    let negative = (numerator.sign() == Sign::Minus) != (denominator.sign() == Sign::Minus);
    let magnitude = unsigned_ratio(numerator.magnitude(), denominator.magnitude());
    Some(if negative { -magnitude } else { magnitude })
}

fn unsigned_ratio(numerator: &BigUint, denominator: &BigUint) -> f64 {
    if numerator.bits() == 0 {
        return 0.0;
    }
    // So that the quotient has 57 or 58 bits: more than the 53 that are kept.
    let shift = 57 - (numerator.bits() as i64 - denominator.bits() as i64);
    let (quotient, sticky) = shifted_quotient(numerator, denominator, shift);
    round_scaled(quotient, sticky, -shift)
}

/// `numerator * 2^shift / denominator` without what is behind the point, and whether anything is; it has at most 128 bits.
fn shifted_quotient(numerator: &BigUint, denominator: &BigUint, shift: i64) -> (u128, bool) {
    // Most numbers need no more than a division of the processor's.
    let small = |whole: &BigUint, by: i64| {
        let fits = whole.bits() as i64 + by.max(0) <= i64::from(u128::BITS);
        let word = if fits { u128::try_from(whole).ok() } else { None };
        word.map(|word| word << by.max(0))
    };
    if let (Some(n), Some(d)) = (small(numerator, shift), small(denominator, -shift)) {
        return (n / d, n % d != 0);
    }
    let large = |whole: &BigUint, by: i64| whole << by.max(0) as u64;
    let (n, d) = (large(numerator, shift), large(denominator, -shift));
    let quotient = &n / &d;
    let sticky = &quotient * d != n;
    (u128::try_from(quotient).unwrap_or(u128::MAX), sticky)
}

/// The binary64 nearest to the square root of `numerator / denominator`; `None` for a zero
/// denominator or a negative fraction.
pub fn sqrt_ratio_to_f64(numerator: &BigInt, denominator: &BigInt) -> Option<f64> {
    let zero = denominator.sign() == Sign::NoSign;
    if zero || numerator.sign() == Sign::Minus || denominator.sign() == Sign::Minus {
        return None;
    }
    let (numerator, denominator) = (numerator.magnitude(), denominator.magnitude());
    if numerator.bits() == 0 {
        return Some(0.0);
    }
    // An even shift, so that the root of the shifted fraction has 56 or 57 bits.
    let mut shift = 112 - (numerator.bits() as i64 - denominator.bits() as i64);
    shift += shift & 1;
    let (quotient, sticky) = shifted_quotient(numerator, denominator, shift);
    let root = quotient.isqrt();
    Some(round_scaled(root, sticky || root * root != quotient, -shift / 2))
}

/// `(integer + something below one when sticky) * 2^exponent`, rounded to the nearest binary64.
/// The integer has at least 55 bits, so that the sticky part cannot reach the rounding place.
fn round_scaled(integer: u128, sticky: bool, exponent: i64) -> f64 {
    let bits = i64::from(u128::BITS - integer.leading_zeros());
    // Below the normal range fewer bits are kept.
    let top = bits + exponent; // the value is below 2^top
    let keep = (top + 1074).clamp(0, 53);
    let drop = bits - keep;
    let mut kept = (integer >> drop) as u64;
    let half = integer >> (drop - 1) & 1 == 1;
    let below = sticky || i64::from(integer.trailing_zeros()) < drop - 1;
    if half && (below || kept & 1 == 1) {
        kept += 1;
    }
    let scale = exponent + drop;
    if top > 1025 {
        return f64::INFINITY;
    }
    // Two exact steps: the power of two alone may lie below the normal range.
    let first = scale / 2;
    kept as f64 * (first as f64).exp2() * ((scale - first) as f64).exp2()
}

/// The binary64 nearest to a decimal.
pub fn decimal_to_f64(number: Decimal) -> f64 {
    if number.mantissa.unsigned_abs() <= EXACT_F64 && number.scale <= EXACT_POW10 {
        // Both are exact, so that one IEEE division rounds correctly.
        return number.mantissa as f64 / 10f64.powi(i32::from(number.scale));
    }
    ratio_to_f64(&BigInt::from(number.mantissa), &big_pow10(number.scale)).unwrap_or(f64::NAN)
}

/// The binary64 nearest to `a / b`; `None` when `b` is zero.
pub fn decimal_ratio(a: Decimal, b: Decimal) -> Option<f64> {
    if b.mantissa == 0 {
        return None;
    }
    let scale = a.scale.max(b.scale);
    let up = |d: Decimal| {
        pow10(u32::from(scale - d.scale)).and_then(|unit| d.mantissa.checked_mul(unit))
    };
    if let (Some(a), Some(b)) = (up(a), up(b))
        && a.unsigned_abs() <= EXACT_F64
        && b.unsigned_abs() <= EXACT_F64
    {
        return Some(a as f64 / b as f64);
    }
    let big = |d: Decimal| BigInt::from(d.mantissa) * big_pow10(scale - d.scale);
    ratio_to_f64(&big(a), &big(b))
}

/// `numerator / denominator` times `10^digits`, rounded to a whole number, halves away from zero. The
/// denominator must not be zero.
pub fn round_half_away(numerator: BigInt, denominator: BigInt, digits: u32) -> BigInt {
    let negative = (numerator.sign() == Sign::Minus) != (denominator.sign() == Sign::Minus);
    let scaled = numerator.magnitude() * BigUint::from(10u8).pow(digits);
    let unit = denominator.magnitude();
    let quotient = (scaled * 2u8 + unit) / (unit * 2u8);
    let rounded = BigInt::from(quotient);
    if negative { -rounded } else { rounded }
}

/// `a / b` rounded to so many digits after the point, halves away from zero; `None` when `b` is zero or
/// the result has more than 38 digits.
pub fn round_quotient(a: Decimal, b: Decimal, digits: u8) -> Option<Decimal> {
    if b.mantissa == 0 {
        return None;
    }
    let small = || {
        let up = |d: Decimal, by: u8| d.mantissa.checked_mul(pow10(u32::from(by))?);
        let numerator = up(a, b.scale.checked_add(digits)?)?.checked_mul(b.mantissa.signum())?;
        let unit = up(b, a.scale)?.checked_abs()?;
        Some(super::decimal::div_half_away(numerator, unit))
    };
    let mantissa = small().or_else(|| {
        let numerator = BigInt::from(a.mantissa) * big_pow10(b.scale);
        let denominator = BigInt::from(b.mantissa) * big_pow10(a.scale);
        i128::try_from(round_half_away(numerator, denominator, u32::from(digits))).ok()
    })?;
    Some(Decimal::new(mantissa, digits))
}

/// A binary64 rounded from its exact value to so many digits after the point, halves away from zero; `None`
/// for what is not finite or has more than 38 digits.
pub fn round_f64(x: f64, digits: u8) -> Option<Decimal> {
    // Only what has few binary digits behind the point can be a half; all else is nearer to one side,
    // and formatting, which is exact, rounds that right.
    let may_be_half = (x * 2f64.powi(i32::from(digits) + 1)).fract() == 0.0;
    if may_be_half {
        let (numerator, denominator) = f64_to_ratio(x)?;
        let mantissa = round_half_away(numerator, denominator, u32::from(digits));
        return i128::try_from(mantissa).ok().map(|m| Decimal::new(m, digits));
    }
    format!("{x:.*}", usize::from(digits)).parse().ok()
}

/// A binary64 as an exact fraction `(numerator, denominator)`; `None` unless it is finite.
pub fn f64_to_ratio(value: f64) -> Option<(BigInt, BigInt)> {
    if !value.is_finite() {
        return None;
    }
    let bits = value.to_bits();
    let exponent = ((bits >> 52) & 0x7ff) as i64;
    let fraction = bits & ((1 << 52) - 1);
    let (mantissa, power) =
        if exponent == 0 { (fraction, -1074) } else { (fraction | 1 << 52, exponent - 1075) };
    let mut numerator = BigInt::from(mantissa);
    if value < 0.0 {
        numerator = -numerator;
    }
    Some(if power >= 0 {
        (numerator << power as u64, BigInt::from(1))
    } else {
        (numerator, BigInt::from(1) << (-power) as u64)
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case(1, 3, 1.0 / 3.0)]
    #[case(-2, 3, -2.0 / 3.0)]
    #[case(0, 7, 0.0)]
    #[case(9_007_199_254_740_993, 1, 9_007_199_254_740_992.0)] // halfway, to even
    #[case(9_007_199_254_740_995, 1, 9_007_199_254_740_996.0)]
    fn a_fraction_is_rounded_once(#[case] n: i64, #[case] d: i64, #[case] expected: f64) {
        assert_eq!(ratio_to_f64(&n.into(), &d.into()), Some(expected));
    }

    #[test]
    fn the_smallest_numbers_and_the_largest_are_met() {
        let two = BigInt::from(2);
        let tiny = ratio_to_f64(&1.into(), &two.pow(1074)).unwrap();
        assert_eq!(tiny, f64::from_bits(1));
        assert_eq!(ratio_to_f64(&1.into(), &two.pow(1075)), Some(0.0));
        assert_eq!(ratio_to_f64(&3.into(), &two.pow(1075)), Some(f64::from_bits(2)));
        assert_eq!(ratio_to_f64(&two.pow(1025), &1.into()), Some(f64::INFINITY));
        assert_eq!(ratio_to_f64(&1.into(), &0.into()), None);
    }

    proptest! {
        #[test]
        fn quotients_of_exact_numbers_agree_with_ieee(a in -(1i64 << 53)..(1i64 << 53), b in 1i64..(1 << 53)) {
            prop_assert_eq!(ratio_to_f64(&a.into(), &b.into()), Some(a as f64 / b as f64));
        }

        #[test]
        fn roots_of_exact_numbers_agree_with_ieee(a in 0i64..(1 << 53)) {
            prop_assert_eq!(sqrt_ratio_to_f64(&a.into(), &1.into()), Some((a as f64).sqrt()));
        }

        // The root of the square of a fraction is that fraction: it is rounded once, as the fraction is.
        #[test]
        fn roots_of_squares_are_the_fractions(a in any::<u128>(), b in 1..=u128::MAX, less in 0u32..128) {
            let (a, b) = (BigInt::from(a >> less), BigInt::from(b));
            prop_assert_eq!(sqrt_ratio_to_f64(&(&a * &a), &(&b * &b)), ratio_to_f64(&a, &b));
        }

        // Numbers of any size, and of both ways to divide: no neighbour is nearer, and a half goes to the even one.
        #[test]
        fn no_other_number_is_nearer(a in 1..=u128::MAX, b in 1..=u128::MAX, less in (0u32..128, 0u32..128), up in 0u32..300) {
            let (n, d) = (BigInt::from(a >> less.0 | 1) << up, BigInt::from(b >> less.1 | 1));
            let figure = ratio_to_f64(&n, &d).unwrap();
            let distance = |x: f64| {
                let (p, q) = f64_to_ratio(x).unwrap();
                BigInt::from((p * &d - &n * &q).magnitude().clone()) * (BigInt::from(1) << 1200u32) / (q * &d)
            };
            let mine = distance(figure);
            for other in [figure.next_up(), figure.next_down()] {
                let other_distance = distance(other);
                prop_assert!(mine < other_distance || mine == other_distance && figure.to_bits() & 1 == 0);
            }
        }

        #[test]
        fn decimals_agree_with_the_standard_library(m in any::<i128>(), scale in 0u8..=38) {
            let number = Decimal::new(m, scale);
            prop_assert_eq!(decimal_to_f64(number), number.to_string().parse::<f64>().unwrap());
        }

        #[test]
        fn any_finite_number_survives_the_way_to_a_fraction_and_back(bits in any::<u64>()) {
            let value = f64::from_bits(bits);
            prop_assume!(value.is_finite() && value != 0.0);
            let (n, d) = f64_to_ratio(value).unwrap();
            prop_assert_eq!(ratio_to_f64(&n, &d), Some(value));
        }
    }
}
