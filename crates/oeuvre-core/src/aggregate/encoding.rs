//! States written down: for memory that is short, and for parts of the data that are counted elsewhere.
//!
//! A state is a version (one byte, [`VERSION`]) and what its type writes, which is numbers and texts:
//!
//! - a whole number is written in groups of 7 bits, the lowest first, each with its top bit set but for the last;
//!   one with a sign with that sign in its lowest bit (zigzag),
//! - a text is its length in bytes and these,
//! - of several things first comes how many there are.
//!
//! Values that stand for codes are written with the codes that the groups use, so that a range of groups can be
//! read by itself.
//!
//! Who reads says by what values are multiplied, where they were written with fewer digits behind their point than
//! they have here, and where parts of the rows stand in the order of all.

use num_bigint::{BigInt, Sign};
use oeuvre_columns::column::NO_NUMBER;
use oeuvre_columns::column::dictionary::Dictionary;

/// The version of the layout: it changes whenever the layout does.
pub const VERSION: u8 = 2;

/// What was read is not what was written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Damaged;

/// Bytes in the making.
#[derive(Default)]
pub struct Encoder {
    bytes: Vec<u8>,
}

impl Encoder {
    /// The bytes written so far.
    pub fn into_bytes(self) -> Vec<u8> {
        self.bytes
    }

    pub(crate) fn version(&mut self) {
        self.bytes.push(VERSION);
    }

    /// A whole number.
    pub fn unsigned(&mut self, mut value: u128) {
        while value > 0x7f {
            self.bytes.push(value as u8 | 0x80);
            value >>= 7;
        }
        self.bytes.push(value as u8);
    }

    /// How many things come.
    pub fn count(&mut self, count: usize) {
        self.unsigned(count as u128);
    }

    /// A whole number with a sign.
    pub fn signed(&mut self, value: i128) {
        self.unsigned(((value << 1) ^ (value >> 127)) as u128);
    }

    /// A whole number of any size.
    pub(crate) fn big(&mut self, value: &BigInt) {
        let (sign, bytes) = value.to_bytes_le();
        self.unsigned(u128::from(sign == Sign::Minus));
        self.count(bytes.len());
        self.bytes.extend_from_slice(&bytes);
    }

    /// A text.
    pub fn text(&mut self, text: &str) {
        self.bytes(text.as_bytes());
    }

    /// Some bytes.
    pub fn bytes(&mut self, bytes: &[u8]) {
        self.count(bytes.len());
        self.bytes.extend_from_slice(bytes);
    }

    /// What is written by itself, so that it can be read by itself, or passed over.
    pub fn inner(&mut self, write: impl FnOnce(&mut Encoder)) {
        let mut inner = Encoder::default();
        write(&mut inner);
        self.bytes(&inner.bytes);
    }
}

/// Codes in the order in which they are met, numbered anew from 0: those that some groups use.
#[derive(Default)]
pub(crate) struct Locals {
    /// By code; [`NO_NUMBER`] where it was not met.
    known: Vec<u32>,
    codes: Vec<u32>,
}

impl Locals {
    /// The new number of a code.
    pub(crate) fn of(&mut self, code: u32) -> u32 {
        let at = code as usize;
        if at >= self.known.len() {
            self.known.resize((at + 1).next_power_of_two(), NO_NUMBER);
        }
        if self.known[at] == NO_NUMBER {
            self.known[at] = self.codes.len() as u32;
            self.codes.push(code);
        }
        self.known[at]
    }

    /// The codes by their new numbers.
    pub(crate) fn codes(&self) -> &[u32] {
        &self.codes
    }
}

impl Encoder {
    /// The texts that some codes stand for.
    pub(crate) fn texts(&mut self, locals: &Locals, texts: &Dictionary) {
        self.count(locals.codes().len());
        for &code in locals.codes() {
            self.text(texts.text(code));
        }
    }
}

impl Decoder<'_> {
    /// Texts, added to a dictionary: the code of each there.
    pub(crate) fn texts(&mut self, to: &mut Dictionary) -> Result<Vec<u32>, Damaged> {
        (0..self.count()?).map(|_| Ok(to.intern(self.text()?))).collect()
    }

    /// How often something occurred: no data has so many rows that adding such numbers up overflows.
    pub(crate) fn times(&mut self) -> Result<u64, Damaged> {
        self.word().and_then(|n| if n < 1 << 48 { Ok(n) } else { Err(Damaged) })
    }
}

/// Bytes on their way back.
pub struct Decoder<'a> {
    bytes: &'a [u8],
    reads: Reads<'a>,
}

/// How what was written is read.
#[derive(Clone, Copy, Default)]
pub(crate) struct Reads<'a> {
    /// For each argument by what its values are multiplied; 1 where nothing is said.
    pub(crate) factors: &'a [i128],
    /// For each part of the rows where it stands among all; none where they stand as they were written.
    pub(crate) parts: &'a [u32],
    /// How many groups there are, where that is known.
    pub(crate) groups: Option<usize>,
}

impl<'a> Decoder<'a> {
    /// Reads some bytes.
    pub fn new(bytes: &'a [u8]) -> Decoder<'a> {
        Decoder { bytes, reads: Reads::default() }
    }

    /// How it reads.
    pub(crate) fn reads(&self) -> Reads<'a> {
        self.reads
    }

    /// The same bytes, read otherwise.
    pub(crate) fn reading(self, reads: Reads<'a>) -> Decoder<'a> {
        Decoder { reads, ..self }
    }

    /// What was written by itself: it is read as this is.
    ///
    /// # Errors
    /// Fewer bytes than are said to be there.
    pub fn inner(&mut self) -> Result<Decoder<'a>, Damaged> {
        let n = self.count()?;
        Ok(Decoder { bytes: self.take(n)?, reads: self.reads })
    }

    /// The value of an argument, or a sum of such values; with several arguments one of products of theirs.
    pub(crate) fn value(&mut self, args: &[usize]) -> Result<i128, Damaged> {
        let value = self.signed()?;
        args.iter()
            .try_fold(value, |value, &arg| value.checked_mul(self.factor(arg)))
            .ok_or(Damaged)
    }

    /// As [`Decoder::value`], of any size.
    pub(crate) fn big_value(&mut self, args: &[usize]) -> Result<BigInt, Damaged> {
        let value = self.big()?;
        Ok(args.iter().fold(value, |value, &arg| value * self.factor(arg)))
    }

    /// By what the values of an argument are multiplied.
    pub(crate) fn factor(&self, arg: usize) -> i128 {
        self.reads.factors.get(arg).copied().unwrap_or(1)
    }

    /// Where a part of the rows stands among all.
    pub(crate) fn part(&self, part: u32) -> Result<u32, Damaged> {
        match self.reads.parts {
            [] => Ok(part),
            parts => parts.get(part as usize).copied().ok_or(Damaged),
        }
    }

    /// Whether all has been read.
    pub fn is_done(&self) -> bool {
        self.bytes.is_empty()
    }

    pub(crate) fn version(&mut self) -> Result<(), Damaged> {
        match self.take(1)? {
            [VERSION] => Ok(()),
            _ => Err(Damaged),
        }
    }

    fn take(&mut self, n: usize) -> Result<&'a [u8], Damaged> {
        let (taken, rest) = self.bytes.split_at_checked(n).ok_or(Damaged)?;
        self.bytes = rest;
        Ok(taken)
    }

    /// A whole number.
    ///
    /// # Errors
    /// No such number.
    pub fn unsigned(&mut self) -> Result<u128, Damaged> {
        let mut value = 0u128;
        for shift in (0..).step_by(7) {
            let byte = self.take(1)?[0];
            let part = u128::from(byte & 0x7f);
            if shift > 126 || (shift == 126 && part > 3) {
                return Err(Damaged);
            }
            value |= part << shift;
            if byte & 0x80 == 0 {
                break;
            }
        }
        Ok(value)
    }

    /// A number of 64 bits.
    ///
    /// # Errors
    /// No number of 64 bits.
    pub fn word(&mut self) -> Result<u64, Damaged> {
        u64::try_from(self.unsigned()?).map_err(|_| Damaged)
    }

    /// How many things come: never more than there are bytes left.
    ///
    /// # Errors
    /// More than there can be.
    pub fn count(&mut self) -> Result<usize, Damaged> {
        let count = usize::try_from(self.unsigned()?).map_err(|_| Damaged)?;
        if count > self.bytes.len() { Err(Damaged) } else { Ok(count) }
    }

    /// How many groups come: those that are known to be there.
    pub(crate) fn groups(&mut self) -> Result<usize, Damaged> {
        let count = self.count()?;
        if self.reads.groups.is_none_or(|groups| groups == count) {
            Ok(count)
        } else {
            Err(Damaged)
        }
    }

    /// A code below a bound.
    ///
    /// # Errors
    /// None below the bound.
    pub fn code(&mut self, bound: usize) -> Result<u32, Damaged> {
        let code = u32::try_from(self.unsigned()?).map_err(|_| Damaged)?;
        if (code as usize) < bound { Ok(code) } else { Err(Damaged) }
    }

    /// A whole number with a sign.
    ///
    /// # Errors
    /// No such number.
    pub fn signed(&mut self) -> Result<i128, Damaged> {
        let value = self.unsigned()?;
        Ok((value >> 1) as i128 ^ -((value & 1) as i128))
    }

    /// A whole number of any size.
    pub(crate) fn big(&mut self) -> Result<BigInt, Damaged> {
        let sign = if self.unsigned()? == 0 { Sign::Plus } else { Sign::Minus };
        let n = self.count()?;
        Ok(BigInt::from_bytes_le(sign, self.take(n)?))
    }

    /// A text.
    ///
    /// # Errors
    /// No text.
    pub fn text(&mut self) -> Result<&'a str, Damaged> {
        std::str::from_utf8(self.bytes()?).map_err(|_| Damaged)
    }

    /// Some bytes.
    ///
    /// # Errors
    /// Fewer bytes than are said to be there.
    pub fn bytes(&mut self) -> Result<&'a [u8], Damaged> {
        let n = self.count()?;
        self.take(n)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn what_is_written_is_read(
            unsigned in any::<u128>(), signed in any::<i128>(), bytes in proptest::collection::vec(any::<u8>(), 0..40),
            text in "\\PC{0,12}", times in 0u64..1 << 48,
        ) {
            let big = BigInt::from_signed_bytes_le(&bytes);
            let mut encoder = Encoder::default();
            encoder.unsigned(unsigned);
            encoder.signed(signed);
            encoder.big(&big);
            encoder.text(&text);
            encoder.unsigned(u128::from(times));
            let written = encoder.into_bytes();
            let mut decoder = Decoder::new(&written);
            prop_assert_eq!(decoder.unsigned().ok(), Some(unsigned));
            prop_assert_eq!(decoder.signed().ok(), Some(signed));
            prop_assert_eq!(decoder.big().ok(), Some(big));
            prop_assert_eq!(decoder.text().ok(), Some(text.as_str()));
            prop_assert_eq!((decoder.times().ok(), decoder.is_done()), (Some(times), true));
        }
    }

    #[test]
    fn what_no_data_can_hold_is_damaged() {
        let mut encoder = Encoder::default();
        encoder.unsigned(1 << 48);
        let bytes = encoder.into_bytes();
        assert!(Decoder::new(&bytes).times().is_err() && Decoder::new(&bytes).count().is_err());
        assert!(
            Decoder::new(&bytes).code(9).is_err() && Decoder::new(&[0xff; 30]).unsigned().is_err()
        );
        assert!(Decoder::new(&[2, 0xff, 0xfe]).text().is_err(), "no UTF-8");
    }
}
