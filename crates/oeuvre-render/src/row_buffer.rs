//! Rows as bytes, many a second: fields of a bounded length are written where they belong, without asking for room
//! each time.
//!
//! Room for the bounded fields of a whole row is made once. Each is put together in a few words and copied as such,
//! so that no field costs a call; what is behind it is overwritten by the next one. A test compares with what
//! values say of themselves.

use oeuvre_columns::Value;
use oeuvre_columns::column::MISSING_I32;
use oeuvre_columns::value::calendar::civil_from_days;

/// A bounded field takes so many bytes at most.
pub(crate) const WIDEST: usize = 32;
/// A decimal with more digits behind its point is not bounded.
pub(crate) const MOST_SCALE: u8 = 18;

/// The digits of 00 to 99.
const PAIRS: [[u8; 2]; 100] = {
    let mut pairs = [[0; 2]; 100];
    let mut n = 0;
    while n < 100 {
        pairs[n] = [b'0' + (n / 10) as u8, b'0' + (n % 10) as u8];
        n += 1;
    }
    pairs
};

/// Rows, as they are written.
pub(crate) struct RowBuffer {
    bytes: Vec<u8>,
    len: usize,
}

/// A bounded field.
#[derive(Clone, Copy)]
pub(crate) struct Field {
    bytes: [u8; WIDEST],
    len: usize,
}

impl Field {
    /// A field of a text that is short enough.
    pub(crate) fn of(text: &[u8]) -> Option<Field> {
        let mut bytes = [0; WIDEST];
        bytes.get_mut(..text.len())?.copy_from_slice(text);
        Some(Field { bytes, len: text.len() })
    }
}

impl RowBuffer {
    /// A buffer that takes so many bytes before it grows.
    pub(crate) fn new(bytes: usize) -> RowBuffer {
        RowBuffer { bytes: vec![0; bytes], len: 0 }
    }

    /// Makes room for a row of so many bounded fields.
    #[inline]
    pub(crate) fn room(&mut self, fields: usize) {
        self.reserve(fields * (WIDEST + 1) + 1);
    }

    #[inline]
    fn reserve(&mut self, bytes: usize) {
        if self.bytes.len() - self.len < bytes {
            self.grow(bytes);
        }
    }

    #[cold]
    fn grow(&mut self, bytes: usize) {
        self.bytes.resize((self.len + bytes).max(self.bytes.len() * 2), 0);
    }

    /// Adds a byte, for which there is room.
    #[inline]
    pub(crate) fn byte(&mut self, byte: u8) {
        self.bytes[self.len] = byte;
        self.len += 1;
    }

    /// Adds a bounded field, for which there is room.
    #[inline]
    pub(crate) fn field(&mut self, field: &Field) {
        self.bytes[self.len..self.len + WIDEST].copy_from_slice(&field.bytes);
        self.len += field.len;
    }

    /// Adds a field of any length, behind which so many bounded ones may follow.
    pub(crate) fn any(&mut self, field: &[u8], following: usize) {
        self.reserve(field.len());
        self.bytes[self.len..self.len + field.len()].copy_from_slice(field);
        self.len += field.len();
        self.room(following);
    }

    /// Adds a whole number with so many of its digits behind the point, [`MOST_SCALE`] at most; there is room.
    #[inline]
    pub(crate) fn decimal(&mut self, mantissa: i64, scale: u8) {
        // 20 digits, a point and a sign.
        let mut made = [0u8; 2 * WIDEST];
        let mut at = WIDEST;
        let mut put = |at: &mut usize, bytes: &[u8]| {
            *at -= bytes.len();
            made[*at..*at + bytes.len()].copy_from_slice(bytes);
        };
        let mut left = mantissa.unsigned_abs();
        if scale > 0 {
            let mut digits = scale;
            while digits > 1 {
                put(&mut at, &PAIRS[(left % 100) as usize]);
                left /= 100;
                digits -= 2;
            }
            if digits == 1 {
                put(&mut at, &[b'0' + (left % 10) as u8]);
                left /= 10;
            }
            put(&mut at, b".");
        }
        while left >= 100 {
            put(&mut at, &PAIRS[(left % 100) as usize]);
            left /= 100;
        }
        match left {
            10.. => put(&mut at, &PAIRS[left as usize]),
            _ => put(&mut at, &[b'0' + left as u8]),
        }
        if mantissa < 0 {
            put(&mut at, b"-");
        }
        let to = &mut self.bytes[self.len..self.len + WIDEST];
        to.copy_from_slice(&made[at..at + WIDEST]);
        self.len += WIDEST - at;
    }

    /// What was written.
    pub(crate) fn written(&self) -> &[u8] {
        &self.bytes[..self.len]
    }

    /// Begins anew.
    pub(crate) fn clear(&mut self) {
        self.len = 0;
    }
}

/// Dates in ISO form, each made once where they are few.
pub(crate) struct Dates {
    first: i32,
    made: Vec<Field>,
}

impl Dates {
    /// The dates that a column has.
    pub(crate) fn of(days: &[i32]) -> Dates {
        /// A dozen years.
        const MOST: usize = 4400;
        let present = || days.iter().copied().filter(|&day| day != MISSING_I32);
        let (first, last) =
            present().fold((i32::MAX, i32::MIN), |(a, b), day| (a.min(day), b.max(day)));
        let few = i64::from(last) - i64::from(first) < MOST.min(days.len()) as i64;
        let made = match few && first <= last {
            true => (first..=last).map(date).collect(),
            false => Vec::new(),
        };
        Dates { first, made }
    }

    /// A date.
    #[inline]
    pub(crate) fn field(&self, day: i32) -> Field {
        match self.made.get(day.wrapping_sub(self.first) as u32 as usize) {
            Some(field) => *field,
            None => date(day),
        }
    }
}

/// A date in ISO form.
fn date(days: i32) -> Field {
    let (year, month, day) = civil_from_days(days);
    if !(0..10_000).contains(&year) {
        let written = Value::Date(days).to_string();
        return Field::of(written.as_bytes()).unwrap_or(Field { bytes: [0; WIDEST], len: 0 });
    }
    let ([a, b], [c, d]) = (PAIRS[year as usize / 100], PAIRS[year as usize % 100]);
    let ([e, f], [g, h]) = (PAIRS[month as usize], PAIRS[day as usize]);
    let mut field = Field { bytes: [0; WIDEST], len: 10 };
    field.bytes[..10].copy_from_slice(&[a, b, c, d, b'-', e, f, b'-', g, h]);
    field
}

#[cfg(test)]
mod tests {
    use super::*;
    use oeuvre_columns::Decimal;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn figures_and_dates_are_written_as_their_values_are(
            mantissas in proptest::collection::vec(prop_oneof![any::<i64>(), -99_999i64..99_999], 1..40),
            scale in 0u8..=MOST_SCALE,
            days in proptest::collection::vec(-720_000i32..2_940_000, 1..40),
            near in 0i32..20_000,
        ) {
            let mut out = RowBuffer::new(0);
            let mut expected = String::new();
            for &mantissa in &mantissas {
                out.room(1);
                out.decimal(mantissa, scale);
                out.byte(b'\n');
                expected += &format!("{}\n", Decimal::new(i128::from(mantissa), scale));
            }
            let near: Vec<i32> = (near..near + 30).collect();
            for days in [&days, &near] {
                let dates = Dates::of(days);
                for &day in days {
                    out.room(1);
                    out.field(&dates.field(day));
                    out.any(b";", 1);
                    out.byte(b'\n');
                    expected += &format!("{};\n", Value::Date(day));
                }
            }
            prop_assert_eq!(String::from_utf8(out.written().to_vec()).unwrap(), expected);
        }
    }

    #[test]
    fn a_field_that_is_too_long_is_none() {
        assert!(Field::of(&[b'x'; WIDEST]).is_some());
        assert!(Field::of(&[b'x'; WIDEST + 1]).is_none());
    }
}
