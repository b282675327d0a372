//! Numbers: digits, with a minus or without, and a point at a known place or none.

#[cfg(target_arch = "x86_64")]
use super::avx2;
use super::{Fields, LANES, Staged, ZEROS, beyond_nine, pairs_of};
use oeuvre_columns::column::MISSING_I64;

/// Digits with a minus or without, and a point before the last so many of them (at most 7) where there are any; whether
/// the processor has AVX2.
pub(super) struct Fixed<const AVX2: bool>(pub(super) u32);

#[allow(unsafe_code)]
impl<const AVX2: bool> Staged<i64> for Fixed<AVX2> {
    #[inline(always)]
    fn read(&self, fields: &mut Fields<'_>, out: &mut [i64; LANES]) -> bool {
        if self.0 == 0 && fields.longest <= 4 {
            fields.put_last_four();
            #[cfg(target_arch = "x86_64")]
            if AVX2 {
                let Fields { starts, ends, last_four, .. } = fields;
                // SAFETY: only said where the processor has it.
                return unsafe { avx2::read_four(starts, ends, last_four, out) };
            }
            read_four(fields, out);
            return true;
        }
        // The words in which the fields end, the last one first.
        fields.put_before(0, 0);
        match fields.longest {
            #[cfg(target_arch = "x86_64")]
            // SAFETY: only said where the processor has it.
            0..=8 if AVX2 => unsafe {
                return avx2::read_word(&fields.lens, &fields.words[0], self.0, out);
            },
            0..=8 => read_words::<1>(fields, self.0, out),
            9..=16 => {
                fields.put_before(1, 8);
                read_words::<2>(fields, self.0, out);
            }
            _ => {
                fields.put_before(1, 8);
                fields.put_before(2, 16);
                read_words::<3>(fields, self.0, out);
            }
        }
        true
    }
}

/// Whole numbers of up to four characters: twice as many at a time.
#[inline(always)]
fn read_four(fields: &Fields<'_>, out: &mut [i64; LANES]) {
    let mut numbers = [0i32; LANES];
    for (lane, made) in numbers.iter_mut().enumerate() {
        let (start, end, word) = (fields.starts[lane], fields.ends[lane], fields.last_four[lane]);
        let chars = end.max(start) - start;
        // The bytes before the last so many are not looked at.
        let kept = |chars: u32| {
            if chars > 0 { u32::MAX << (32u32.wrapping_sub(chars << 3) & 31) } else { 0 }
        };
        let first = |chars: u32| (word >> (32u32.wrapping_sub(chars << 3) & 31)) & 0xff;
        let is_negative = first(chars) == u32::from(b'-');
        let digits = chars - u32::from(is_negative & (chars > 0));
        // Zeros in front make a code, which is not for this path.
        let is_code = (digits > 1) & (first(digits) == u32::from(b'0'));
        let each = (word ^ ZEROS as u32) & kept(digits);
        let odd = (each.wrapping_add(0x7676_7676) | each) & 0x8080_8080;
        let pairs = (each << 3).wrapping_add(each << 1).wrapping_add(each >> 8) & 0x00ff_00ff;
        let number = ((pairs & 0xff) * 100 + (pairs >> 16)) as i32;
        let is_fine = (digits > 0) & !is_code & (odd == 0);
        let number = if is_negative { -number } else { number };
        *made = if is_fine { number } else { i32::MIN };
    }
    for (out, number) in out.iter_mut().zip(numbers) {
        *out = if number == i32::MIN { MISSING_I64 } else { i64::from(number) };
    }
}

/// Numbers of fields that end in so many words.
#[inline(always)]
fn read_words<const WORDS: usize>(fields: &Fields<'_>, scale: u32, out: &mut [i64; LANES]) {
    let words = &fields.words;
    for lane in 0..LANES {
        let len = fields.lens[lane];
        let mut low = words[0][lane];
        let mut middle = if WORDS > 1 { words[1][lane] } else { 0 };
        let mut high = if WORDS > 2 { words[2][lane] } else { 0 };
        let is_negative = byte_before([low, middle, high], len) == u64::from(b'-');
        // The digits, and the point where there is one.
        let chars = len.wrapping_sub(u64::from(is_negative));
        let (digits, mut is_fine);
        if scale == 0 {
            digits = chars;
            let first = byte_before([low, middle, high], chars);
            // Zeros in front make a code, which is not for this path.
            is_fine = (chars >= 1) & !((chars > 1) & (first == u64::from(b'0')));
        } else {
            digits = chars.wrapping_sub(1);
            is_fine = chars >= u64::from(scale) + 2;
            is_fine &= (low >> (56 - 8 * scale)) & 0xff == u64::from(b'.');
            // The digits before the point move on to its place.
            let fraction = u64::MAX << (64 - 8 * scale);
            low = (low & fraction) | ((low << 8 | middle >> 56) & !fraction);
            middle = middle << 8 | high >> 56;
            high <<= 8;
        }
        // 18 digits fit 64 bits.
        is_fine &= (len <= 8 * WORDS as u64) & (digits <= 18);
        let (mut number, mut is_odd) = number_of(low, digits, 0);
        if WORDS > 1 {
            let (middle, middle_odd) = number_of(middle, digits, 1);
            number = number.wrapping_add(middle.wrapping_mul(100_000_000));
            is_odd |= middle_odd;
        }
        if WORDS > 2 {
            let (high, high_odd) = number_of(high, digits, 2);
            number = number.wrapping_add(high.wrapping_mul(10_000_000_000_000_000));
            is_odd |= high_odd;
        }
        is_fine &= is_odd == 0;
        let number = number as i64;
        let number = if is_negative { number.wrapping_neg() } else { number };
        out[lane] = if is_fine { number } else { MISSING_I64 };
    }
}

/// The byte so many before the end of some words, the last one first; anything where there are none or more.
#[inline(always)]
fn byte_before(words: [u64; 3], bytes: u64) -> u64 {
    let mut byte = 0;
    for (word, place) in words.into_iter().zip(1..) {
        let up = (64 * place as u64).wrapping_sub(bytes << 3);
        byte |= if up < 64 { word >> up } else { 0 };
    }
    byte & 0xff
}

/// The number that the last of so many digits write, of which a word has those before the last `8 * place`; and what
/// is not 0 where some are no digits.
#[inline(always)]
fn number_of(word: u64, digits: u64, place: i64) -> (u64, u64) {
    // Where the word has fewer than eight of them.
    let before = (64 * (place + 1)).wrapping_sub((digits as i64) << 3).max(0) as u64;
    let kept = if before < 64 { u64::MAX << before } else { 0 };
    let digits = (word ^ ZEROS) & kept;
    let pairs = pairs_of(digits) & 0x00ff_00ff_00ff_00ff;
    // A hundred times each, and the one behind it added.
    let hundreds = (pairs << 6).wrapping_add(pairs << 5).wrapping_add(pairs << 2);
    let fours = hundreds.wrapping_add(pairs >> 16) & 0x0000_ffff_0000_ffff;
    let number = (fours & 0xffff).wrapping_mul(10_000).wrapping_add(fours >> 32);
    (number & 0xffff_ffff, beyond_nine(digits))
}
