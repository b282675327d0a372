//! Exact decimal numbers: a whole mantissa and the number of digits after the point.
//!
//! Money is counted in these. Nothing is rounded on the way: where a result needs more than 38 digits, functions
//! give `None` and the caller says so. Binary64 and quotients are in `exact.rs`.

use std::cmp::Ordering;
use std::fmt;
use std::hash::{Hash, Hasher};

/// The most digits a decimal can hold: the largest power of ten that fits 128 bits.
pub const MAX_DIGITS: u8 = 38;

/// `10^exponent`, or `None` when it does not fit 128 bits.
pub fn pow10(exponent: u32) -> Option<i128> {
    10i128.checked_pow(exponent)
}

/// An exact decimal number, `mantissa / 10^scale`.
///
/// The scale is kept as written: `1.50` and `1.5` are equal (and hash alike) but print differently, because
/// money is shown with the digits of the data. `parse` reads digits with a sign and a point, at most 38 of them;
/// anything else is an error.
///
/// ```
/// use oeuvre_columns::Decimal;
/// let fare: Decimal = "12.50".parse().unwrap();
/// assert_eq!((fare.mantissa, fare.scale), (1250, 2));
/// assert_eq!(fare.to_string(), "12.50");
/// assert_eq!(fare, "12.5".parse().unwrap());
/// assert!("12,50".parse::<Decimal>().is_err());
/// ```
#[derive(Clone, Copy, Debug)]
pub struct Decimal {
    /// The number without its point.
    pub mantissa: i128,
    /// How many of its digits stand after the point.
    pub scale: u8,
}

impl Decimal {
    /// A decimal from its parts; a scale above [`MAX_DIGITS`] has no meaning.
    pub const fn new(mantissa: i128, scale: u8) -> Decimal {
        Decimal { mantissa, scale }
    }

    /// The same number with more digits after the point; `None` when it no longer fits.
    /// A smaller scale gives `None` too, unless only zeros would be cut off.
    pub fn rescale(self, scale: u8) -> Option<Decimal> {
        if scale >= self.scale {
            let mantissa = self.mantissa.checked_mul(pow10(u32::from(scale - self.scale))?)?;
            Some(Decimal { mantissa, scale })
        } else {
            let unit = pow10(u32::from(self.scale - scale))?;
            (self.mantissa % unit == 0).then(|| Decimal { mantissa: self.mantissa / unit, scale })
        }
    }

    /// Rounded to `scale` digits after the point, halves to the even neighbour; unchanged when it has no more
    /// digits than that.
    ///
    /// ```
    /// use oeuvre_columns::Decimal;
    /// let rounded = |text: &str| text.parse::<Decimal>().unwrap().round_half_even(1).to_string();
    /// assert_eq!([rounded("0.25"), rounded("0.35"), rounded("-0.25"), rounded("2")], ["0.2", "0.4", "-0.2", "2"]);
    /// ```
    pub fn round_half_even(self, scale: u8) -> Decimal {
        if scale >= self.scale {
            return self;
        }
        let Some(unit) = pow10(u32::from(self.scale - scale)) else {
            return Decimal { mantissa: 0, scale };
        };
        Decimal { mantissa: div_half_even(self.mantissa, unit), scale }
    }

    /// The same number without zeros at the end of its fraction.
    pub fn trimmed(self) -> Decimal {
        let mut it = self;
        while it.scale > 0 && it.mantissa % 10 == 0 {
            it.mantissa /= 10;
            it.scale -= 1;
        }
        it
    }
}

/// `a / b` for a positive `b`, halves to the even neighbour.
pub fn div_half_even(a: i128, b: i128) -> i128 {
    let (q, r) = (a.div_euclid(b), a.rem_euclid(b));
    match r.cmp(&(b - r)) {
        Ordering::Less => q,
        Ordering::Greater => q + 1,
        Ordering::Equal => q + (q & 1),
    }
}

/// `number / unit` for a positive `unit`, halves away from zero.
pub fn div_half_away(number: i128, unit: i128) -> i128 {
    let (q, r) = (number / unit, number % unit);
    if r.unsigned_abs() >= unit.unsigned_abs() - r.unsigned_abs() { q + number.signum() } else { q }
}

impl PartialEq for Decimal {
    fn eq(&self, other: &Self) -> bool {
        self.cmp(other) == Ordering::Equal
    }
}
impl Eq for Decimal {}

impl Hash for Decimal {
    fn hash<H: Hasher>(&self, state: &mut H) {
        let it = self.trimmed();
        (it.mantissa, it.scale).hash(state);
    }
}
impl PartialOrd for Decimal {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}
impl Ord for Decimal {
    /// By value, whatever the scales.
    fn cmp(&self, other: &Self) -> Ordering {
        let scale = self.scale.max(other.scale);
        match (self.rescale(scale), other.rescale(scale)) {
            (Some(a), Some(b)) => a.mantissa.cmp(&b.mantissa),
            // One of them outgrows 128 bits at the common scale, so compare whole parts first.
            _ => {
                let parts = |d: &Decimal| match pow10(u32::from(d.scale)) {
                    Some(unit) => (d.mantissa.div_euclid(unit), d.mantissa.rem_euclid(unit)),
                    None => (if d.mantissa < 0 { -1 } else { 0 }, d.mantissa),
                };
                let ((wa, fa), (wb, fb)) = (parts(self), parts(other));
                wa.cmp(&wb).then_with(|| {
                    let up = |f: i128, s: u8| num_bigint::BigInt::from(f) * big_pow10(scale - s);
                    up(fa, self.scale).cmp(&up(fb, other.scale))
                })
            }
        }
    }
}

/// `10^exponent` without a limit.
pub fn big_pow10(exponent: u8) -> num_bigint::BigInt {
    num_bigint::BigInt::from(10).pow(u32::from(exponent))
}

impl fmt::Display for Decimal {
    /// Writes without allocating: a table of a million lines prints millions of these.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        // 39 digits at most, or 38 behind the point with a zero before it; a point and a sign.
        let mut text = [b'0'; 48];
        let mut at = text.len();
        let mut rest = self.mantissa.unsigned_abs();
        let mut written = 0;
        while rest > 0 || written <= self.scale {
            if written == self.scale && self.scale > 0 {
                at -= 1;
                text[at] = b'.';
            }
            at -= 1;
            // Most numbers fit 64 bits, whose division is much faster.
            let digit = match u64::try_from(rest) {
                Ok(small) => {
                    rest = u128::from(small / 10);
                    (small % 10) as u8
                }
                Err(_) => {
                    let digit = (rest % 10) as u8;
                    rest /= 10;
                    digit
                }
            };
            text[at] = b'0' + digit;
            written += 1;
        }
        if self.mantissa < 0 {
            at -= 1;
            text[at] = b'-';
        }
        f.write_str(std::str::from_utf8(&text[at..]).unwrap_or_default())
    }
}

impl std::str::FromStr for Decimal {
    type Err = ();
    /// Reads `-12.50`: an optional sign, digits, at most one point. No exponent, no separators.
    fn from_str(s: &str) -> Result<Decimal, ()> {
        let (negative, digits) = match s.as_bytes() {
            [b'-', ..] => (true, &s[1..]),
            [b'+', ..] => (false, &s[1..]),
            _ => (false, s),
        };
        let (mut mantissa, mut scale, mut point, mut seen) = (0i128, 0u8, false, false);
        for b in digits.bytes() {
            match b {
                b'0'..=b'9' => {
                    let digit = i128::from(b - b'0');
                    mantissa =
                        mantissa.checked_mul(10).and_then(|m| m.checked_add(digit)).ok_or(())?;
                    seen = true;
                    if point {
                        scale += 1;
                        if scale > MAX_DIGITS {
                            return Err(());
                        }
                    }
                }
                b'.' if !point => point = true,
                _ => return Err(()),
            }
        }
        if !seen || mantissa >= 10i128.pow(u32::from(MAX_DIGITS)) {
            return Err(());
        }
        Ok(Decimal { mantissa: if negative { -mantissa } else { mantissa }, scale })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    proptest! {
        #[test]
        fn any_decimal_prints_as_its_digits_with_a_point(mantissa in any::<i128>(), scale in 0u8..=38) {
            let mut plain = mantissa.unsigned_abs().to_string();
            let scale_chars = usize::from(scale);
            while plain.len() <= scale_chars {
                plain.insert(0, '0');
            }
            if scale > 0 {
                plain.insert(plain.len() - scale_chars, '.');
            }
            let sign = if mantissa < 0 { "-" } else { "" };
            prop_assert_eq!(Decimal::new(mantissa, scale).to_string(), format!("{sign}{plain}"));
        }
    }

    #[rstest]
    #[case("0", "0")]
    #[case("-0.05", "-0.05")]
    #[case("+3.10", "3.10")]
    #[case(".5", "0.5")]
    #[case("99999999999999999999999999999999999999", "99999999999999999999999999999999999999")]
    fn a_decimal_prints_as_written(#[case] text: &str, #[case] printed: &str) {
        assert_eq!(text.parse::<Decimal>().unwrap().to_string(), printed);
    }

    #[rstest]
    #[case("")]
    #[case("-")]
    #[case("1.2.3")]
    #[case("1e5")]
    #[case("999999999999999999999999999999999999999")]
    fn what_is_no_plain_decimal_is_refused(#[case] text: &str) {
        assert!(text.parse::<Decimal>().is_err());
    }

    #[rstest]
    #[case("2.5", "2")]
    #[case("3.5", "4")]
    #[case("-2.5", "-2")]
    #[case("-2.51", "-3")]
    #[case("2.4999", "2")]
    fn halves_round_to_the_even_neighbour(#[case] text: &str, #[case] rounded: &str) {
        assert_eq!(text.parse::<Decimal>().unwrap().round_half_even(0).to_string(), rounded);
    }

    #[test]
    fn order_is_by_value_even_where_the_common_scale_does_not_fit() {
        let huge = Decimal::new(i128::MAX, 0);
        let tiny = Decimal::new(i128::MAX, 38);
        assert!(huge > tiny && Decimal::new(150, 2) == Decimal::new(15, 1));
    }
}
