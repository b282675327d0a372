//! The figures of a column, of some rows at a time: loops without a branch, which the compiler turns into vector
//! instructions. Digits are made as pairs in 16 bits, which every processor multiplies many of at once.

use super::{LANES, WIDEST};
use oeuvre_columns::column::MISSING_I64;
use oeuvre_columns::instructions::Level;

/// Figures have so many digits behind the point at most.
pub(super) const MOST_DECIMALS: u8 = 4;
/// Digits before the point are written as two times four.
const FOUR_DIGITS: u32 = 10_000;
/// The first number of nine digits.
const NINE_DIGITS: u64 = 100_000_000;
/// Eight zeros.
pub(super) const ZEROS: u64 = 0x3030_3030_3030_3030;

/// Figures of the same scale as bytes: a sign, digits before the point, and behind them a tail of the point, the digits
/// behind it and what ends a field.
#[derive(Clone)]
pub(super) struct Figures {
    /// Which instructions may be used.
    level: Level,
    scale: u8,
    end: u8,
    /// Digits before the point, eight with zeros in front: the first in the lowest byte.
    digits: [u64; LANES],
    /// How many of them are written.
    whole: [u8; LANES],
    /// 1 where a minus stands in front.
    sign: [u8; LANES],
    /// The first of its bytes in the lowest byte.
    tail: [u64; LANES],
    /// Bytes of sign, digits and tail.
    len: [u8; LANES],
    wholes: [u32; LANES],
    decimals: [u16; LANES],
    /// The first and the last four of the digits before the point.
    fours: [[u16; LANES]; 2],
    pairs: [[u16; LANES]; 4],
}

/// What a figure has to be to be one of these.
struct Found {
    fits: bool,
    any_missing: bool,
}

impl Figures {
    /// Figures of a scale, [`MOST_DECIMALS`] at most, and the byte that ends each.
    pub(super) fn new(scale: u8, end: u8, level: Level) -> Figures {
        Figures {
            level,
            scale,
            end,
            digits: [0; LANES],
            whole: [0; LANES],
            sign: [0; LANES],
            tail: [0; LANES],
            len: [0; LANES],
            wholes: [0; LANES],
            decimals: [0; LANES],
            fours: [[0; LANES]; 2],
            pairs: [[0; LANES]; 4],
        }
    }

    /// Becomes some figures; false where one has more than eight digits before its point. A missing one is `blank`, of up to
    /// eight bytes.
    pub(super) fn set(&mut self, mantissas: &[i64; LANES], blank: &[u8]) -> bool {
        let Found { fits, any_missing } = self.made(mantissas);
        if any_missing {
            let mut bytes = [0; 8];
            bytes[..blank.len()].copy_from_slice(blank);
            for lane in (0..LANES).filter(|&lane| mantissas[lane] == MISSING_I64) {
                (self.sign[lane], self.whole[lane]) = (0, 0);
                (self.tail[lane], self.len[lane]) = (u64::from_le_bytes(bytes), blank.len() as u8);
            }
        }
        fits
    }

    /// Writes the figure of a row where there is room for the widest field; the place behind it.
    #[inline(always)]
    pub(super) fn put(&self, row: usize, out: &mut [u8], at: usize) -> usize {
        let room = out[at..].first_chunk_mut::<WIDEST>();
        let Some(room) = room else { return at };
        // No more than they are: what is known here is not asked for at each step.
        let (sign, whole) = (self.sign[row] & 1, self.whole[row] & 15);
        let (start, point) = (usize::from(sign), usize::from(sign + whole));
        let digits = self.digits[row] >> (64u8.wrapping_sub(8 * whole) & 63);
        room[0] = b'-';
        room[start..start + 8].copy_from_slice(&digits.to_le_bytes());
        room[point..point + 8].copy_from_slice(&self.tail[row].to_le_bytes());
        at + usize::from(self.len[row])
    }

    #[allow(unsafe_code)]
    fn made(&mut self, mantissas: &[i64; LANES]) -> Found {
        #[cfg(target_arch = "x86_64")]
        {
            #[target_feature(enable = "avx2,bmi1,bmi2,lzcnt,popcnt")]
            fn newer(it: &mut Figures, mantissas: &[i64; LANES]) -> Found {
                it.made_by(mantissas)
            }
            if self.level >= Level::Avx2 {
                // SAFETY: a level is only given where the processor has its features.
                return unsafe { newer(self, mantissas) };
            }
        }
        self.made_by(mantissas)
    }

    #[inline(always)]
    fn made_by(&mut self, mantissas: &[i64; LANES]) -> Found {
        match self.scale {
            0 => self.made_of::<0, 1>(mantissas),
            1 => self.made_of::<1, 10>(mantissas),
            2 => self.made_of::<2, 100>(mantissas),
            3 => self.made_of::<3, 1000>(mantissas),
            _ => self.made_of::<4, 10_000>(mantissas),
        }
    }

    /// `POWER` is ten to the power of `SCALE`: divisions by what is known here cost little.
    #[inline(always)]
    fn made_of<const SCALE: u32, const POWER: u64>(&mut self, mantissas: &[i64; LANES]) -> Found {
        let (mut fits, mut any_missing) = (true, false);
        for (lane, &mantissa) in mantissas.iter().enumerate() {
            let is_missing = mantissa == MISSING_I64;
            let value = if is_missing { 0 } else { mantissa.unsigned_abs() };
            let whole = value / POWER;
            fits &= whole < NINE_DIGITS;
            any_missing |= is_missing;
            self.wholes[lane] = whole as u32;
            self.decimals[lane] = (value - whole * POWER) as u16;
            self.sign[lane] = u8::from(mantissa < 0);
        }
        self.make_digits();
        self.make_tails::<SCALE>();
        Found { fits, any_missing }
    }

    #[inline(always)]
    fn make_digits(&mut self) {
        for lane in 0..LANES {
            let whole = self.wholes[lane];
            let first = whole / FOUR_DIGITS;
            self.fours[0][lane] = first as u16;
            self.fours[1][lane] = (whole - first * FOUR_DIGITS) as u16;
        }
        for lane in 0..LANES {
            [self.pairs[0][lane], self.pairs[1][lane]] = pairs_of(self.fours[0][lane]);
            [self.pairs[2][lane], self.pairs[3][lane]] = pairs_of(self.fours[1][lane]);
        }
        for lane in 0..LANES {
            let [a, b, c, d] = [0, 1, 2, 3].map(|pair| u64::from(self.pairs[pair][lane]));
            self.digits[lane] = a | b << 16 | c << 32 | d << 48 | ZEROS;
        }
        for lane in 0..LANES {
            // Compared with a sign, which every processor does many of at once.
            let whole = self.wholes[lane] as i32;
            let from = [9, 99, 999, 9999, 99_999, 999_999, 9_999_999];
            self.whole[lane] = from.iter().fold(1, |len, &n| len + u8::from(whole > n));
        }
    }

    #[inline(always)]
    fn make_tails<const SCALE: u32>(&mut self) {
        let (point, end) = (u64::from(b'.'), u64::from(self.end));
        for lane in 0..LANES {
            let decimals = self.decimals[lane];
            let digits = match SCALE {
                0 => 0,
                1 | 2 => u32::from(pair(decimals) | ZEROS as u16) >> (8 * (2 - SCALE)),
                _ => {
                    let [a, b] = pairs_of(decimals).map(u32::from);
                    (a | b << 16 | ZEROS as u32) >> (8 * (4 - SCALE))
                }
            };
            self.tail[lane] = match SCALE {
                0 => end,
                _ => point | u64::from(digits) << 8 | end << (8 * (SCALE + 1)),
            };
        }
        let behind = if SCALE == 0 { 1 } else { SCALE as u8 + 2 };
        for lane in 0..LANES {
            self.len[lane] = self.sign[lane] + self.whole[lane] + behind;
        }
    }
}

/// The two pairs of digits of a number below 10,000.
#[inline(always)]
fn pairs_of(number: u16) -> [u16; 2] {
    // A hundredth of it.
    let first = ((u32::from(number) * 5243) >> 16) as u16 >> 3;
    [pair(first), pair(number.wrapping_sub(first.wrapping_mul(100)))]
}

/// The two digits of a number below 100, as numbers, the first in the lower byte.
#[inline(always)]
fn pair(number: u16) -> u16 {
    // A tenth of it.
    let tens = ((u32::from(number) * 6554) >> 16) as u16;
    // tens + 256 * (number - 10 * tens)
    (number << 8).wrapping_sub(tens.wrapping_mul(2559))
}
