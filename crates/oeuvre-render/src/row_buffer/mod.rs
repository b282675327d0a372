//! Rows as bytes, many a second: fields of a bounded length are put together in a few words, a column of some rows at a
//! time, and rows are made of them by copying whole words, so that no field costs a call or a guess about its length.
//!
//! Room for the bounded fields of a whole row is made once; what is behind a field is overwritten by the next one. Figures
//! are made many at a time (`figures.rs`), dates and few texts once each. A test compares with what values say of
//! themselves.

mod dates;
mod figures;

pub(crate) use dates::{FewDates, date};
use figures::{Figures, MOST_DECIMALS, ZEROS};
use oeuvre_columns::instructions::Instructions;
use std::ops::Range;

/// A bounded field takes so many bytes at most, with the byte that ends it.
const WIDEST: usize = 32;
/// A decimal with more digits behind its point is not bounded.
pub(crate) const MOST_SCALE: u8 = 18;
/// So many rows are put together at a time.
pub(crate) const LANES: usize = 64;
/// The length of a field that is not bounded: its bytes say where it is.
const LONG: usize = usize::MAX;

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

/// Ten to the power of 0 to 8.
const POWERS: [u64; 9] = {
    let mut powers = [1; 9];
    let mut n = 1;
    while n < 9 {
        powers[n] = powers[n - 1] * 10;
        n += 1;
    }
    powers
};

/// Rows, as they are written.
pub(crate) struct RowBuffer {
    bytes: Vec<u8>,
    len: usize,
}

/// A short field takes so many bytes, of which the last one is its length.
const SHORT: usize = 16;

/// A short field, with the byte that ends it.
#[derive(Clone, Copy)]
pub(crate) struct Short([u8; SHORT]);

/// The fields of a column, of some rows at a time.
#[derive(Clone)]
pub(crate) struct Lanes {
    made: Made,
    /// Where the column has figures, what makes them.
    figures: Option<Box<Figures>>,
    /// The short fields that a column chooses from; the last one is blank.
    table: Vec<Short>,
    /// Which of them each row has.
    picks: [u32; LANES],
    /// Fields of any kind.
    pub(crate) fields: Vec<Field>,
}

/// What the fields of some rows are made as.
#[derive(Clone, Copy)]
enum Made {
    /// Figures.
    Figures,
    /// Some of few.
    Picks,
    /// Fields of any kind.
    Fields,
}

impl Lanes {
    /// Fields of any kind.
    pub(crate) fn new() -> Lanes {
        let fields = vec![Field::NONE; LANES];
        Lanes { made: Made::Fields, figures: None, table: Vec::new(), picks: [0; LANES], fields }
    }

    /// Figures of a scale and the byte that ends each.
    pub(crate) fn of_figures(scale: u8, end: u8) -> Lanes {
        let made = |_| Box::new(Figures::new(scale, end, Instructions::Auto.level()));
        let figures = (scale <= MOST_DECIMALS).then_some(()).map(made);
        Lanes { figures, ..Lanes::new() }
    }

    /// Some of these fields, and a blank one.
    pub(crate) fn of_few(mut table: Vec<Short>, blank: Field) -> Lanes {
        table.extend(blank.short());
        Lanes { table, ..Lanes::new() }
    }

    /// Makes figures at once; false where they are not of the kind that is.
    pub(crate) fn set_figures(&mut self, mantissas: &[i64; LANES], blank: &Field) -> bool {
        let set = |figures: &mut Box<Figures>| figures.set(mantissas, &blank.bytes[..blank.len]);
        let are_set = self.figures.as_mut().is_some_and(set);
        self.made = if are_set { Made::Figures } else { Made::Fields };
        are_set
    }

    /// Chooses for each row one of few fields, or the blank one where there is none of that number.
    #[inline(always)]
    pub(crate) fn pick(&mut self, numbers: impl Iterator<Item = u32>) {
        self.made = Made::Picks;
        let blank = self.table.len().saturating_sub(1) as u32;
        self.picks.iter_mut().zip(numbers).for_each(|(pick, n)| *pick = n.min(blank));
    }

    /// Writes the field of a row, which is not a long one, where there is room for the widest; the place behind it.
    #[inline(always)]
    fn put(&self, row: usize, out: &mut [u8], at: usize) -> usize {
        match (self.made, &self.figures) {
            (Made::Figures, Some(figures)) => figures.put(row, out, at),
            (Made::Picks, _) => {
                let Short(bytes) = &self.table[self.picks[row] as usize];
                out[at..at + SHORT].copy_from_slice(bytes);
                at + usize::from(bytes[SHORT - 1])
            }
            _ => {
                let Field { bytes, len } = &self.fields[row];
                out[at..at + WIDEST].copy_from_slice(bytes);
                at + len
            }
        }
    }

    /// Where the field of a row lies, if it is a long one.
    fn long(&self, row: usize) -> Option<Range<usize>> {
        let field = &self.fields[row];
        let is_long = matches!(self.made, Made::Fields) && field.len == LONG;
        is_long.then(|| {
            let [start, end] = [0, 8].map(|at| {
                let bytes = field.bytes[at..].first_chunk::<8>();
                bytes.map_or(0, |bytes| u64::from_le_bytes(*bytes) as usize)
            });
            start..end
        })
    }
}

/// A field, with the byte that ends it.
#[derive(Clone, Copy)]
pub(crate) struct Field {
    bytes: [u8; WIDEST],
    len: usize,
}

impl Field {
    /// A field of nothing.
    pub(crate) const NONE: Field = Field { bytes: [0; WIDEST], len: 0 };

    /// A field of a text that is short enough, and of the byte that ends it.
    pub(crate) fn of(text: &[u8], end: u8) -> Option<Field> {
        let mut field = Field { len: text.len() + 1, ..Field::NONE };
        *field.bytes.get_mut(text.len())? = end;
        field.bytes[..text.len()].copy_from_slice(text);
        Some(field)
    }

    /// The same in half the room, where it fits.
    pub(crate) fn short(&self) -> Option<Short> {
        let mut short = Short([0; SHORT]);
        (self.len < SHORT).then(|| {
            short.0.copy_from_slice(&self.bytes[..SHORT]);
            short.0[SHORT - 1] = self.len as u8;
            short
        })
    }

    /// A field of any length, which lies there among the long ones of its rows.
    pub(crate) fn long(at: &Range<usize>) -> Field {
        let mut field = Field { len: LONG, ..Field::NONE };
        field.bytes[..8].copy_from_slice(&(at.start as u64).to_le_bytes());
        field.bytes[8..16].copy_from_slice(&(at.end as u64).to_le_bytes());
        field
    }

    /// Becomes a whole number with so many of its digits behind the point, [`MOST_SCALE`] at most.
    #[inline(always)]
    pub(crate) fn set_decimal(&mut self, mantissa: i64, scale: u8, end: u8) {
        self.bytes[0] = b'-';
        let mut at = usize::from(mantissa < 0);
        let value = mantissa.unsigned_abs();
        match scale {
            0 => at = self.put_whole(at, value),
            // Known when the loop is compiled, the divisions by it cost little.
            2 => {
                at = self.put_whole(at, value / 100);
                let [a, b] = PAIRS[(value % 100) as usize];
                self.bytes[at..at + 4].copy_from_slice(&[b'.', a, b, end]);
                self.len = at + 4;
                return;
            }
            1..=8 => {
                let power = POWERS[usize::from(scale)];
                at = self.put_whole(at, value / power);
                self.bytes[at] = b'.';
                let digits = eight_digits(value % power) | ZEROS;
                self.put_word(at + 1, digits >> (64 - 8 * u32::from(scale)));
                at += 1 + usize::from(scale);
            }
            _ => at = self.put_slowly(at, value, usize::from(scale)),
        }
        self.bytes[at] = end;
        self.len = at + 1;
    }

    /// Puts a whole number there; the place behind it.
    #[inline(always)]
    fn put_whole(&mut self, at: usize, value: u64) -> usize {
        const MOST: u64 = 100_000_000;
        if value < MOST {
            return self.put_first(at, value);
        }
        if value < MOST * MOST {
            let at = self.put_first(at, value / MOST);
            self.put_word(at, eight_digits(value % MOST) | ZEROS);
            return at + 8;
        }
        self.put_slowly(at, value, 0)
    }

    /// Puts a number of up to eight digits there, without zeros in front.
    #[inline(always)]
    fn put_first(&mut self, at: usize, value: u64) -> usize {
        let digits = eight_digits(value);
        // At least one stays.
        let leading = (digits.trailing_zeros() / 8).min(7);
        self.put_word(at, (digits | ZEROS) >> (8 * leading));
        at + 8 - leading as usize
    }

    #[inline(always)]
    fn put_word(&mut self, at: usize, word: u64) {
        self.bytes[at..at + 8].copy_from_slice(&word.to_le_bytes());
    }

    /// Puts a number with so many of its digits behind the point there, a digit at a time; the place behind it.
    #[cold]
    fn put_slowly(&mut self, at: usize, value: u64, scale: usize) -> usize {
        let mut left = value;
        // 20 digits and a point.
        let mut made = [0; 21];
        let mut first = made.len();
        let mut digits = 0;
        while left > 0 || digits <= scale {
            if digits == scale && scale > 0 {
                first -= 1;
                made[first] = b'.';
            }
            first -= 1;
            made[first] = b'0' + (left % 10) as u8;
            left /= 10;
            digits += 1;
        }
        let made = &made[first..];
        self.bytes[at..at + made.len()].copy_from_slice(made);
        at + made.len()
    }
}

/// The eight digits of a number below a hundred million, the first one in the lowest byte: halves, quarters and
/// digits of all are made at once.
#[inline(always)]
fn eight_digits(value: u64) -> u64 {
    let fours = (value / 10_000) | (value % 10_000) << 32;
    // n / 100 for n below 10,000, and n / 10 for n below 100.
    let hundreds = ((fours * 5243) >> 19) & 0x0000_007f_0000_007f;
    let twos = hundreds | (fours - hundreds * 100) << 16;
    let tens = ((twos * 103) >> 10) & 0x000f_000f_000f_000f;
    tens | (twos - tens * 10) << 8
}

impl RowBuffer {
    /// A buffer that takes so many bytes before it grows.
    pub(crate) fn new(bytes: usize) -> RowBuffer {
        RowBuffer { bytes: vec![0; bytes], len: 0 }
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

    /// Adds rows: of each column as many fields, of which the long ones lie elsewhere.
    pub(crate) fn rows(&mut self, rows: usize, columns: &[Lanes], long: &[u8]) {
        let widest = columns.len() * WIDEST;
        self.reserve(rows * widest);
        if long.is_empty() {
            // What is written and how far stays in registers.
            let (bytes, mut at) = (&mut self.bytes[..], self.len);
            for row in 0..rows.min(LANES) {
                for column in columns {
                    at = column.put(row, bytes, at);
                }
            }
            self.len = at;
            return;
        }
        for row in 0..rows.min(LANES) {
            for (i, column) in columns.iter().enumerate() {
                let Some(place) = column.long(row) else {
                    self.len = column.put(row, &mut self.bytes, self.len);
                    continue;
                };
                let bytes = &long[place];
                // What follows in this row and the others keeps its room.
                self.reserve(bytes.len() + (rows - row) * widest - i * WIDEST);
                self.bytes[self.len..self.len + bytes.len()].copy_from_slice(bytes);
                self.len += bytes.len();
            }
        }
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

#[cfg(test)]
mod tests {
    use super::*;
    use oeuvre_columns::instructions::levels;
    use oeuvre_columns::{Decimal, Value};
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn figures_and_dates_are_written_as_their_values_are(
            mantissas in proptest::collection::vec(
                prop_oneof![
                    1 => any::<i64>(),
                    1 => Just(i64::MIN),
                    9 => -99_999i64..99_999,
                    9 => -99_999_999i64..99_999_999,
                    1 => (0u32..19, -2i64..3).prop_map(|(power, near)| 10i64.pow(power) + near),
                ],
                1..LANES,
            ),
            scale in 0u8..=MOST_SCALE,
            days in proptest::collection::vec(-720_000i32..2_940_000, 1..LANES),
            near in 0i32..20_000,
            texts in proptest::collection::vec(prop_oneof!["[a-z]{0,31}", "[a-z]{32,200}"], 1..LANES),
        ) {
            let mut out = RowBuffer::new(0);
            let mut expected = String::new();
            let rows = mantissas.len().min(days.len()).min(texts.len());
            let near: Vec<i32> = (near..near + rows as i32).collect();
            let blank = Field::of(b"", b';').unwrap();
            for (days, level) in [&days[..rows], &near].into_iter().zip(levels().cycle()) {
                let figures = Figures::new(scale.min(MOST_DECIMALS), b';', level);
                let figures = (scale <= MOST_DECIMALS).then(|| Box::new(figures));
                let mut columns = [Lanes { figures, ..Lanes::new() }, Lanes::new(), Lanes::new()];
                let mut given = [0; LANES];
                given[..rows].copy_from_slice(&mantissas[..rows]);
                let fits = mantissas[..rows].iter().all(|m| {
                    *m == i64::MIN || m.unsigned_abs() / 10u64.pow(scale.into()) < 100_000_000
                });
                prop_assert_eq!(columns[0].set_figures(&given, &blank), fits && scale <= MOST_DECIMALS);
                if let Some(few) = FewDates::of(days, b';') {
                    columns[1] = Lanes::of_few(few.made, blank);
                    columns[1].pick(days.iter().map(|day| (day - few.first) as u32));
                } else {
                    (0..rows).for_each(|row| columns[1].fields[row] = date(days[row], b';'));
                }
                let mut long = Vec::new();
                for row in 0..rows {
                    match mantissas[row] {
                        i64::MIN => columns[0].fields[row] = blank,
                        mantissa => columns[0].fields[row].set_decimal(mantissa, scale, b';'),
                    }
                    columns[2].fields[row] = Field::of(texts[row].as_bytes(), b'\n').unwrap_or_else(|| {
                        let start = long.len();
                        long.extend_from_slice(texts[row].as_bytes());
                        long.push(b'\n');
                        Field::long(&(start..long.len()))
                    });
                    let figure = match mantissas[row] {
                        i64::MIN => String::new(),
                        mantissa => Decimal::new(i128::from(mantissa), scale).to_string(),
                    };
                    expected += &format!("{figure};{};{}\n", Value::Date(days[row]), texts[row]);
                }
                out.rows(rows, &columns, &long);
            }
            prop_assert_eq!(String::from_utf8(out.written().to_vec()).unwrap(), expected);
        }
    }

    #[test]
    fn a_field_that_is_too_long_is_none() {
        assert!(Field::of(&[b'x'; WIDEST - 1], b',').is_some());
        assert!(Field::of(&[b'x'; WIDEST], b',').is_none());
    }
}
