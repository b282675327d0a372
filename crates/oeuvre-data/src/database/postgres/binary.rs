//! What the server sends: rows of COPY in binary, and the text that stands for each value.
//!
//! The format is that of the server's manual (COPY, binary format): a header, then for each row the number of its
//! fields, and each field with its length before it. Numbers have their most significant byte first. A `numeric` is
//! a list of digits to the base of 10,000, with how many stand before the point and how many decimal digits behind.

use super::super::Seen;
use super::Column;
use super::failures::told_of_io;
use crate::cells::Block;
use crate::options::Zone;
use oeuvre_columns::value::calendar::civil_from_days;
use oeuvre_columns::{DataProblem, ReadError};
use std::io::{BufRead, Write};

/// How the values of a column are sent.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Kind {
    Truth,
    /// Whole numbers of two, four or eight bytes.
    Whole,
    /// Numbers without a sign, of four bytes.
    Unsigned,
    Numeric,
    Float,
    Text,
    /// Texts that are padded with blanks.
    Padded,
    /// A text behind a byte that says which version it is.
    Versioned,
    Uuid,
    Day,
    Time {
        zoned: bool,
    },
    Clock,
}

/// Days and microseconds are counted from the beginning of 2000.
const DAYS_TO_2000: i64 = 10_957;
const DAY: i64 = 86_400_000_000;
/// 1900-01-01, in days since 1970.
const DAY_1900: i64 = -25_567;
/// The years 1 to 9999, in days since 1970.
const CALENDAR: std::ops::RangeInclusive<i64> = -719_162..=2_932_896;

/// The rows of a COPY.
pub(super) struct Rows<'r, 'n> {
    from: &'r mut dyn BufRead,
    name: &'n str,
    begun: bool,
    /// A field that came in pieces.
    field: Vec<u8>,
    given: u64,
}

impl<'r, 'n> Rows<'r, 'n> {
    pub(super) fn new(from: &'r mut dyn BufRead, name: &'n str) -> Rows<'r, 'n> {
        Rows { from, name, begun: false, field: Vec::new(), given: 0 }
    }

    fn io(&self, error: std::io::Error) -> ReadError {
        told_of_io(self.name, error)
    }

    fn broken(&self) -> ReadError {
        let it = DataProblem::in_file(self.name, "the server's answer makes no sense");
        it.at_row(self.given + 1).help("is it a PostgreSQL server?").into()
    }

    fn bytes<const N: usize>(&mut self) -> Result<[u8; N], ReadError> {
        let mut bytes = [0; N];
        let buffer = self.from.fill_buf();
        match buffer {
            Ok(buffer) if buffer.len() >= N => {
                bytes.copy_from_slice(&buffer[..N]);
                self.from.consume(N);
                Ok(bytes)
            }
            Ok(_) => match self.from.read_exact(&mut bytes) {
                Ok(()) => Ok(bytes),
                Err(error) => Err(self.io(error)),
            },
            Err(error) => Err(self.io(error)),
        }
    }

    /// The header, of which nothing matters here.
    fn begin(&mut self) -> Result<(), ReadError> {
        let signature: [u8; 11] = self.bytes()?;
        if &signature != b"PGCOPY\n\xff\r\n\0" {
            return Err(self.broken());
        }
        let _: [u8; 4] = self.bytes()?;
        let more = u32::from_be_bytes(self.bytes()?);
        for _ in 0..more {
            let _: [u8; 1] = self.bytes()?;
        }
        self.begun = true;
        Ok(())
    }

    /// Puts the cells of the next row into a block; false when there are no more.
    ///
    /// # Errors
    /// What has gone wrong at the server, or between it and here.
    pub(super) fn next(
        &mut self,
        (columns, places, seen): (&[Column], &[usize], &[Seen]),
        zone: &Zone,
        block: &mut Block,
    ) -> Result<bool, ReadError> {
        if !self.begun {
            self.begin()?;
        }
        let fields = i16::from_be_bytes(self.bytes()?);
        if fields == -1 {
            // What is still to come says that all is well, or not.
            while !self.from.fill_buf().map_err(|e| told_of_io(self.name, e))?.is_empty() {
                let n = self.from.fill_buf().map_or(0, <[u8]>::len);
                self.from.consume(n);
            }
            return Ok(false);
        }
        if usize::try_from(fields) != Ok(places.len()) {
            return Err(self.broken());
        }
        for &place in places {
            let length = i32::from_be_bytes(self.bytes()?);
            if length >= 0 {
                let sound =
                    self.cell(length as usize, (columns[place].kind, &seen[place]), zone, block)?;
                if !sound {
                    return Err(self.broken());
                }
                if columns[place].other.is_some() {
                    Seen::add(&seen[place].as_text);
                }
            }
            block.end_cell();
        }
        if block.is_too_long() {
            let it = DataProblem::in_file(self.name, "this row is longer than 4 GiB");
            return Err(it.at_row(self.given + 1).into());
        }
        self.given += 1;
        Ok(true)
    }

    /// Writes a field of so many bytes; false where these make no sense.
    fn cell(
        &mut self,
        length: usize,
        (kind, seen): (Kind, &Seen),
        zone: &Zone,
        block: &mut Block,
    ) -> Result<bool, ReadError> {
        let there = self.from.fill_buf().map_err(|e| told_of_io(self.name, e))?;
        if there.len() >= length {
            let sound = write(&there[..length], (kind, seen), zone, block);
            self.from.consume(length);
            return Ok(sound);
        }
        let mut field = std::mem::take(&mut self.field);
        field.clear();
        let mut left = length;
        while left > 0 {
            let there = self.from.fill_buf().map_err(|e| told_of_io(self.name, e))?;
            if there.is_empty() {
                return Err(self.broken());
            }
            let n = there.len().min(left);
            field.extend_from_slice(&there[..n]);
            self.from.consume(n);
            left -= n;
        }
        let sound = write(&field, (kind, seen), zone, block);
        self.field = field;
        Ok(sound)
    }
}

fn write_whole(number: i64, out: &mut Vec<u8>) {
    let mut digits = itoa::Buffer::new();
    out.extend_from_slice(digits.format(number).as_bytes());
}

/// Writes a value; false where its bytes make no sense.
fn write(bytes: &[u8], (kind, seen): (Kind, &Seen), zone: &Zone, block: &mut Block) -> bool {
    let from = block.text().len();
    let out = block.text();
    match (kind, bytes) {
        (Kind::Truth, [truth]) => {
            out.extend_from_slice(if *truth != 0 { b"true" } else { b"false" });
        }
        (Kind::Whole, &[a, b]) => write_whole(i64::from(i16::from_be_bytes([a, b])), out),
        (Kind::Whole, &[a, b, c, d]) => {
            write_whole(i64::from(i32::from_be_bytes([a, b, c, d])), out);
        }
        (Kind::Whole, bytes) => match bytes.try_into() {
            Ok(bytes) => write_whole(i64::from_be_bytes(bytes), out),
            Err(_) => return false,
        },
        (Kind::Unsigned, &[a, b, c, d]) => {
            write_whole(i64::from(u32::from_be_bytes([a, b, c, d])), out);
        }
        (Kind::Numeric, bytes) => {
            let Some(number) = Numeric::of(bytes) else { return false };
            match number.is_finite() {
                true => number.write(out),
                false => Seen::add(&seen.not_numbers),
            }
            block.point_from(from);
        }
        (Kind::Float, bytes) => {
            let (finite, text) = match *bytes {
                [a, b, c, d] => {
                    let n = f32::from_be_bytes([a, b, c, d]);
                    (n.is_finite(), short(&n, f64::from(n)))
                }
                _ => match bytes.try_into() {
                    Ok(bytes) => {
                        let n = f64::from_be_bytes(bytes);
                        (n.is_finite(), short(&n, n))
                    }
                    Err(_) => return false,
                },
            };
            match finite {
                true => out.extend_from_slice(text.as_bytes()),
                false => Seen::add(&seen.not_numbers),
            }
            block.point_from(from);
        }
        (Kind::Text, bytes) => out.extend_from_slice(bytes),
        (Kind::Padded, bytes) => {
            let blank = bytes.iter().rev().take_while(|&&b| b == b' ').count();
            out.extend_from_slice(&bytes[..bytes.len() - blank]);
        }
        (Kind::Versioned, [_, text @ ..]) => out.extend_from_slice(text),
        (Kind::Uuid, bytes) if bytes.len() == 16 => {
            for (at, byte) in bytes.iter().enumerate() {
                if matches!(at, 4 | 6 | 8 | 10) {
                    out.push(b'-');
                }
                // Writing to memory does not fail.
                let _ = write!(out, "{byte:02x}");
            }
        }
        (Kind::Day, &[a, b, c, d]) => {
            let day = i64::from(i32::from_be_bytes([a, b, c, d])) + DAYS_TO_2000;
            write_day(day, seen, out);
        }
        (Kind::Time { zoned }, bytes) => match bytes.try_into() {
            Ok(bytes) => write_time(i64::from_be_bytes(bytes), zoned.then_some(zone), seen, out),
            Err(_) => return false,
        },
        (Kind::Clock, bytes) => match bytes.try_into() {
            Ok(bytes) => write_clock(i64::from_be_bytes(bytes), out),
            Err(_) => return false,
        },
        _ => return false,
    }
    true
}

/// A binary64 or binary32 as the shortest decimal, with an exponent where there would be many noughts.
fn short(number: &(impl std::fmt::Display + std::fmt::LowerExp), value: f64) -> String {
    match value == 0.0 || (1e-7..1e17).contains(&value.abs()) {
        true => number.to_string(),
        false => format!("{number:e}"),
    }
}

/// Writes two digits.
fn two(number: u32, out: &mut Vec<u8>) {
    out.extend([b'0' + (number / 10 % 10) as u8, b'0' + (number % 10) as u8]);
}

/// Writes a day, counted from 1970; false outside the calendar.
fn write_day(day: i64, seen: &Seen, out: &mut Vec<u8>) -> bool {
    if !CALENDAR.contains(&day) {
        Seen::add(&seen.no_dates);
        return false;
    }
    if day < DAY_1900 {
        Seen::add(&seen.early);
    }
    let (year, month, day) = civil_from_days(day as i32);
    two(year as u32 / 100, out);
    two(year as u32 % 100, out);
    out.push(b'-');
    two(month, out);
    out.push(b'-');
    two(day, out);
    true
}

/// Writes a time, in microseconds since 2000; an instant as the clock in a zone shows it.
fn write_time(micros: i64, zone: Option<&Zone>, seen: &Seen, out: &mut Vec<u8>) {
    // The ends stand for infinity.
    let since_1970 = match micros {
        i64::MIN | i64::MAX => None,
        micros => micros.checked_add(DAYS_TO_2000 * DAY),
    };
    let shown = match (since_1970, zone) {
        (Some(micros), Some(zone)) => {
            Seen::add(&seen.zoned);
            zone.wall_clock(micros)
        }
        (micros, _) => micros,
    };
    let Some(micros) = shown else { return Seen::add(&seen.no_dates) };
    if write_day(micros.div_euclid(DAY), seen, out) {
        out.push(b'T');
        write_clock(micros.rem_euclid(DAY), out);
    }
}

/// Writes a time of day, in microseconds.
fn write_clock(micros: i64, out: &mut Vec<u8>) {
    let seconds = (micros / 1_000_000) as u32;
    two(seconds / 3600, out);
    out.push(b':');
    two(seconds / 60 % 60, out);
    out.push(b':');
    two(seconds % 60, out);
    let rest = micros % 1_000_000;
    if rest > 0 {
        // Writing to memory does not fail.
        let _ = write!(out, ".{rest:06}");
        while out.last() == Some(&b'0') {
            out.pop();
        }
    }
}

/// A number as the server sends it.
struct Numeric<'b> {
    /// Of two bytes each, to the base of 10,000.
    digits: &'b [u8],
    /// The power of the first one.
    weight: i32,
    sign: u16,
    /// Decimal digits behind the point.
    scale: usize,
}

impl<'b> Numeric<'b> {
    const NEGATIVE: u16 = 0x4000;

    fn of(bytes: &'b [u8]) -> Option<Numeric<'b>> {
        let &[a, b, c, d, e, f, g, h, ref digits @ ..] = bytes else { return None };
        let count = usize::from(u16::from_be_bytes([a, b]));
        let number = Numeric {
            digits,
            weight: i32::from(i16::from_be_bytes([c, d])),
            sign: u16::from_be_bytes([e, f]),
            scale: usize::from(u16::from_be_bytes([g, h])),
        };
        let sound =
            digits.len() == 2 * count && (0..count).all(|at| number.digit(at as i32) < 10_000);
        sound.then_some(number)
    }

    fn is_finite(&self) -> bool {
        matches!(self.sign, 0 | Numeric::NEGATIVE)
    }

    /// The digit at a place; those that are not sent are nought.
    fn digit(&self, at: i32) -> u16 {
        let at = usize::try_from(at).unwrap_or(usize::MAX);
        match self.digits.get(at.saturating_mul(2)..).and_then(|rest| rest.get(..2)) {
            Some(&[a, b]) => u16::from_be_bytes([a, b]),
            _ => 0,
        }
    }

    /// Writes it with all its digits.
    fn write(&self, out: &mut Vec<u8>) {
        if self.sign == Numeric::NEGATIVE && !self.digits.is_empty() {
            out.push(b'-');
        }
        match self.weight < 0 {
            true => out.push(b'0'),
            false => {
                write_whole(i64::from(self.digit(0)), out);
                for at in 1..=self.weight {
                    self.four(at, out);
                }
            }
        }
        if self.scale > 0 {
            out.push(b'.');
            let from = out.len();
            let mut at = self.weight + 1;
            // Noughts before the first digit that was sent.
            let mut before = -(self.weight + 1);
            while out.len() < from + self.scale {
                if before > 0 {
                    out.extend_from_slice(b"0000");
                    before -= 1;
                    at = 0;
                    continue;
                }
                self.four(at, out);
                at += 1;
            }
            out.truncate(from + self.scale);
        }
    }

    fn four(&self, at: i32, out: &mut Vec<u8>) {
        let digit = u32::from(self.digit(at));
        two(digit / 100, out);
        two(digit % 100, out);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::collection::vec;
    use proptest::prelude::*;
    use rstest::rstest;

    /// A number as the server sends it: digits, weight, sign, scale.
    fn sent(digits: &[u16], weight: i16, sign: u16, scale: u16) -> Vec<u8> {
        let head = [digits.len() as u16, weight as u16, sign, scale];
        head.iter().chain(digits).flat_map(|n| n.to_be_bytes()).collect()
    }

    fn text(kind: Kind, bytes: &[u8]) -> Option<String> {
        let mut block = Block::new(1);
        let seen = Seen::default();
        let zone = Zone::named("Europe/Copenhagen").unwrap();
        write(bytes, (kind, &seen), &zone, &mut block)
            .then(|| String::from_utf8_lossy(block.text()).into_owned())
    }

    #[rstest]
    #[case(&[12, 3000], 0, 0, 2, "12.30")]
    #[case(&[12], 0, 0, 0, "12")]
    #[case(&[], 0, 0, 3, "0.000")]
    #[case(&[1, 0, 5], 2, 0, 0, "100000005")]
    #[case(&[1], 2, 0, 0, "100000000")]
    #[case(&[5000], -1, 0, 1, "0.5")]
    #[case(&[1], -2, 0, 8, "0.00000001")]
    #[case(&[1], -3, 0, 12, "0.000000000001")]
    #[case(&[1, 2345, 6789, 0, 100], 1, 0x4000, 12, "-12345.678900000100")]
    #[case(&[], 0, 0xc000, 0, "")]
    fn numbers_keep_all_their_digits(
        #[case] digits: &[u16],
        #[case] weight: i16,
        #[case] sign: u16,
        #[case] scale: u16,
        #[case] expected: &str,
    ) {
        assert_eq!(
            text(Kind::Numeric, &sent(digits, weight, sign, scale)).as_deref(),
            Some(expected)
        );
    }

    const KINDS: [Kind; 13] = [
        Kind::Truth,
        Kind::Whole,
        Kind::Unsigned,
        Kind::Numeric,
        Kind::Float,
        Kind::Text,
        Kind::Padded,
        Kind::Versioned,
        Kind::Uuid,
        Kind::Day,
        Kind::Time { zoned: false },
        Kind::Time { zoned: true },
        Kind::Clock,
    ];

    proptest! {
        /// What a server that is none may send is refused or a text; the lengths of fields, too.
        #[test]
        fn bytes_of_anything_make_a_text_or_none(bytes in vec(any::<u8>(), 0..40), at in 0..KINDS.len()) {
            let _ = text(KINDS[at], &bytes);
            let mut sent = b"PGCOPY\n\xff\r\n\0\0\0\0\0\0\0\0\0".to_vec();
            sent.extend(&bytes);
            let mut from = &sent[..];
            let mut rows = Rows::new(&mut from, "server");
            let column = Column { name: "n".into(), kind: KINDS[at], other: None, told: None };
            let (seen, zone) = ([Seen::default()], Zone::default());
            let mut block = Block::new(1);
            while let Ok(true) = rows.next((std::slice::from_ref(&column), &[0], &seen), &zone, &mut block) {
                block.end_row(1);
            }
        }

        /// A number comes out as it was written.
        #[test]
        fn numbers_are_what_was_sent(whole in "0|[1-9][0-9]{0,30}", part in "[0-9]{0,20}", negative: bool) {
            // Parted into digits to the base of 10,000, from the point on.
            let padded = format!("{}{whole}", "0".repeat((4 - whole.len() % 4) % 4));
            let behind = format!("{part}{}", "0".repeat((4 - part.len() % 4) % 4));
            let digits: Vec<u16> = (padded + &behind).as_bytes().chunks(4)
                .map(|four| std::str::from_utf8(four).unwrap().parse().unwrap()).collect();
            let weight = whole.len().div_ceil(4) as i16 - 1;
            let sign = if negative { 0x4000 } else { 0 };
            let point = if part.is_empty() { "" } else { "." };
            let minus = if negative { "-" } else { "" };
            let found = text(Kind::Numeric, &sent(&digits, weight, sign, part.len() as u16));
            prop_assert_eq!(found, Some(format!("{minus}{whole}{point}{part}")));
        }
    }

    #[rstest]
    #[case(Kind::Truth, &[1], Some("true"))]
    #[case(Kind::Whole, &[0xff, 0xfe], Some("-2"))]
    #[case(Kind::Whole, &[0x7f, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff], Some("9223372036854775807"))]
    #[case(Kind::Whole, &[1, 2, 3], None)]
    #[case(Kind::Unsigned, &[0xff, 0xff, 0xff, 0xff], Some("4294967295"))]
    #[case(Kind::Float, &0.1f32.to_be_bytes(), Some("0.1"))]
    #[case(Kind::Float, &1e300f64.to_be_bytes(), Some("1e300"))]
    #[case(Kind::Float, &f64::NAN.to_be_bytes(), Some(""))]
    #[case(Kind::Padded, b"SKE   ", Some("SKE"))]
    #[case(Kind::Versioned, b"\x01{}", Some("{}"))]
    #[case(Kind::Day, &9131i32.to_be_bytes(), Some("2024-12-31"))]
    #[case(Kind::Day, &i32::MAX.to_be_bytes(), Some(""))]
    #[case(Kind::Day, &(-730_119i32).to_be_bytes(), Some("0001-01-01"))]
    #[case(Kind::Time { zoned: false }, &86_399_500_000i64.to_be_bytes(), Some("2000-01-01T23:59:59.5"))]
    #[case(Kind::Time { zoned: true }, &0i64.to_be_bytes(), Some("2000-01-01T01:00:00"))]
    #[case(Kind::Time { zoned: false }, &i64::MIN.to_be_bytes(), Some(""))]
    #[case(Kind::Clock, &30_600_000_000i64.to_be_bytes(), Some("08:30:00"))]
    #[case(Kind::Uuid, &[0x12; 16], Some("12121212-1212-1212-1212-121212121212"))]
    #[case(Kind::Numeric, &[0, 9, 0], None)]
    fn values_are_written_as_texts_have_them(
        #[case] kind: Kind,
        #[case] bytes: &[u8],
        #[case] expected: Option<&str>,
    ) {
        assert_eq!(text(kind, bytes).as_deref(), expected);
    }
}
