//! The usual forms of values, eight fields at a time, for processors with AVX-512.
//!
//! The fields of eight records are gathered into the lanes of a few registers: where they start and end, and the
//! bytes before their ends (numbers, dates) or behind their starts (texts). Lanes that look unusual are read one by
//! one as everywhere, so that this only ever says what the plain loops say; the tests compare both on random fields.
//! In `benches/`, counting and adding by a text takes two thirds of the time that it takes without.

#![allow(unsafe_code)]

use super::{Dates, Fixed, Form, Known, Whole};
use crate::text::records::Records;
use oeuvre_columns::column::dictionary::Texts;
use oeuvre_columns::value::calendar::{days_from_civil, days_in_month};
use std::arch::x86_64::*;
use std::sync::OnceLock;

/// Whether this processor has what is used here.
pub(super) fn is_here() -> bool {
    static HERE: OnceLock<bool> = OnceLock::new();
    *HERE.get_or_init(|| {
        is_x86_feature_detected!("avx512f")
            && is_x86_feature_detected!("avx512bw")
            && is_x86_feature_detected!("avx512dq")
            && is_x86_feature_detected!("avx512vl")
            && is_x86_feature_detected!("avx2")
            && is_x86_feature_detected!("bmi1")
            && is_x86_feature_detected!("bmi2")
            && is_x86_feature_detected!("lzcnt")
            && is_x86_feature_detected!("popcnt")
    })
}

/// Fields lie at least so far from both ends of the data, so that whole words can be read around them.
pub(super) const MARGIN: usize = 16;

/// A form of which eight fields are read at once.
pub(super) trait Eight<T>: Form<T> {
    /// Reads eight fields and says which lanes it could not read; blank ones are missing.
    ///
    /// # Safety
    /// The processor has what [`is_here`] asks for; each field lies in the data, [`MARGIN`] bytes from its ends,
    /// which are less than 2 GiB apart.
    unsafe fn eight(&self, data: &[u8], starts: __m256i, ends: __m256i, out: &mut [T; 8]) -> u8;
}

/// The places before the fields of eight records from a row on, plus one, and their ends.
///
/// # Safety
/// As for [`Eight::eight`]; the records have these rows, and there is a mark before the first of the fields.
#[inline(always)]
pub(super) unsafe fn places(
    records: &Records<'_>,
    column: usize,
    row: usize,
) -> (__m256i, __m256i) {
    let first = row * records.width + column;
    debug_assert!(first > 0 && first + 7 * records.width < records.marks.len());
    // SAFETY: the marks of seven more records lie behind the first one, and one mark before it.
    unsafe {
        let lanes = _mm256_setr_epi32(0, 1, 2, 3, 4, 5, 6, 7);
        let steps = _mm256_mullo_epi32(lanes, _mm256_set1_epi32(records.width as i32));
        let marks = records.marks.as_ptr().add(first).cast::<i32>();
        let ends = _mm256_i32gather_epi32::<4>(marks, steps);
        let starts = _mm256_i32gather_epi32::<4>(marks.sub(1), steps);
        (_mm256_add_epi32(starts, _mm256_set1_epi32(1)), ends)
    }
}

/// The lowest and the highest of the ends: those of the first and the last lane.
#[inline(always)]
pub(super) fn ends_of(records: &Records<'_>, column: usize, row: usize) -> (usize, usize) {
    let end = |row: usize| records.marks[row * records.width + column] as usize;
    (end(row), end(row + 7))
}

/// Eight-byte words so many bytes from places.
#[inline(always)]
unsafe fn words(data: &[u8], places: __m256i, from: i32) -> __m512i {
    // SAFETY: the caller says that the words lie in the data.
    unsafe {
        let at = _mm256_add_epi32(places, _mm256_set1_epi32(from));
        _mm512_i32gather_epi64::<1>(at, data.as_ptr().cast())
    }
}

/// A number in all lanes.
#[inline(always)]
unsafe fn whole(n: i64) -> __m512i {
    // SAFETY: no memory is looked at.
    unsafe { _mm512_set1_epi64(n) }
}

/// The first byte of fields of so many bytes, which are the last ones of two words.
#[inline(always)]
unsafe fn first_of(low: __m512i, high: __m512i, length: __m512i) -> __m512i {
    // SAFETY: no memory is looked at. What is shifted by 64 and more is nought, also by what is less than none.
    unsafe {
        let bits = _mm512_slli_epi64::<3>(length);
        let of_low = _mm512_srlv_epi64(low, _mm512_sub_epi64(whole(64), bits));
        let of_high = _mm512_srlv_epi64(high, _mm512_sub_epi64(whole(128), bits));
        _mm512_and_si512(_mm512_or_si512(of_low, of_high), whole(0xff))
    }
}

/// The values of digits, of the bytes that are kept.
#[inline(always)]
unsafe fn values(word: __m512i, kept: __m512i) -> __m512i {
    // SAFETY: no memory is looked at.
    unsafe {
        let digits = _mm512_sub_epi8(word, _mm512_set1_epi8(b'0' as i8));
        _mm512_and_si512(digits, kept)
    }
}

/// The number that the eight digits of each lane write, their values in its bytes.
#[inline(always)]
unsafe fn number_of(digits: __m512i) -> __m512i {
    // SAFETY: no memory is looked at.
    unsafe {
        let pairs = _mm512_maddubs_epi16(digits, _mm512_set1_epi16(0x010a));
        let fours = _mm512_madd_epi16(pairs, _mm512_set1_epi32(0x0001_0064));
        let upper = _mm512_mul_epu32(fours, _mm512_set1_epi64(10_000));
        _mm512_add_epi64(upper, _mm512_srli_epi64::<32>(fours))
    }
}

/// Digits of up to 16 characters, with a point before the last `scale` of them (up to 7) where there are any.
#[inline(always)]
unsafe fn numbers(
    data: &[u8],
    starts: __m256i,
    ends: __m256i,
    scale: u32,
    out: &mut [i64; 8],
) -> u8 {
    // SAFETY: the words that are read end where a field does, at least 16 bytes behind the start of the data.
    unsafe {
        let (zero, ones) = (_mm512_setzero_si512(), whole(-1));
        let length = _mm512_cvtepi32_epi64(_mm256_sub_epi32(ends, starts));
        let blank = _mm512_cmple_epi64_mask(length, zero);
        let mut low = words(data, ends, -8);
        let long = _mm512_cmpgt_epi64_mask(length, whole(8));
        let mut high = if long == 0 { zero } else { words(data, ends, -16) };
        let first = first_of(low, high, length);
        let negative = _mm512_cmpeq_epi64_mask(first, whole(i64::from(b'-')));
        let mut digits = _mm512_mask_sub_epi64(length, negative, length, whole(1));
        let mut fine = _mm512_cmple_epi64_mask(length, whole(16));
        if scale == 0 {
            fine &= _mm512_cmpge_epi64_mask(digits, whole(1));
            // Zeros in front make a code, which is not for this path.
            let several = _mm512_cmpgt_epi64_mask(digits, whole(1));
            let first = first_of(low, high, digits);
            fine &= !(several & _mm512_cmpeq_epi64_mask(first, whole(i64::from(b'0'))));
        } else {
            fine &= _mm512_cmpge_epi64_mask(digits, whole(i64::from(scale) + 2));
            let at = _mm_cvtsi32_si128(56 - 8 * scale as i32);
            let point = _mm512_and_si512(_mm512_srl_epi64(low, at), whole(0xff));
            fine &= _mm512_cmpeq_epi64_mask(point, whole(i64::from(b'.')));
            digits = _mm512_sub_epi64(digits, whole(1));
            // The digits before the point move on to its place.
            let fraction = whole((u64::MAX << (64 - 8 * scale)) as i64);
            let carried = _mm512_srli_epi64::<56>(high);
            let moved = _mm512_or_si512(_mm512_slli_epi64::<8>(low), carried);
            low = _mm512_ternarylogic_epi64::<0xca>(fraction, low, moved);
            high = _mm512_slli_epi64::<8>(high);
        }
        let bits = _mm512_slli_epi64::<3>(digits);
        let kept_low = _mm512_max_epi64(_mm512_sub_epi64(whole(64), bits), zero);
        let low = values(low, _mm512_sllv_epi64(ones, kept_low));
        let nine = _mm512_set1_epi8(9);
        let mut odd = _mm512_cmpgt_epu8_mask(low, nine);
        let mut number = number_of(low);
        if long != 0 {
            let kept = _mm512_sllv_epi64(ones, _mm512_sub_epi64(whole(128), bits));
            let high = values(high, kept);
            odd |= _mm512_cmpgt_epu8_mask(high, nine);
            let upper = _mm512_mul_epu32(number_of(high), whole(100_000_000));
            number = _mm512_add_epi64(number, upper);
        }
        if odd != 0 {
            let odd = _mm512_movm_epi8(odd);
            fine &= !_mm512_test_epi64_mask(odd, odd);
        }
        let number = _mm512_mask_sub_epi64(number, negative, zero, number);
        let missing = whole(oeuvre_columns::column::MISSING_I64);
        let number = _mm512_mask_mov_epi64(missing, fine & !blank, number);
        _mm512_storeu_si512(out.as_mut_ptr().cast(), number);
        !fine & !blank
    }
}

impl Eight<i64> for Whole {
    #[inline(always)]
    unsafe fn eight(&self, data: &[u8], starts: __m256i, ends: __m256i, out: &mut [i64; 8]) -> u8 {
        // SAFETY: as the caller says.
        unsafe { numbers(data, starts, ends, 0, out) }
    }
}

impl Eight<i64> for Fixed {
    #[inline(always)]
    unsafe fn eight(&self, data: &[u8], starts: __m256i, ends: __m256i, out: &mut [i64; 8]) -> u8 {
        // SAFETY: as the caller says.
        unsafe { numbers(data, starts, ends, self.0, out) }
    }
}

/// What is no day of a year.
const NO_DAY: i32 = i32::MIN;

/// The first days of years, doubled, and one more in a leap year; the days of a year before each day, by whether
/// it is a leap year and by month and day as a number of four digits (below 2048).
struct Calendar {
    years: Vec<i32>,
    days: Vec<i32>,
}

fn calendar() -> &'static Calendar {
    static CALENDAR: OnceLock<Calendar> = OnceLock::new();
    CALENDAR.get_or_init(|| {
        let leap = |year: i32| i32::from(days_in_month(year, 2) == 29);
        let year = |year: i32| days_from_civil(year.max(1), 1, 1) << 1 | leap(year.max(1));
        let day = |n: i32| {
            let (year, month, day) = (2000 + (1 - n / 2048), n % 2048 / 100, n % 2048 % 100);
            let is_one = (1..=12).contains(&month) && day >= 1;
            match is_one && day as u32 <= days_in_month(year, month as u32) {
                true => {
                    days_from_civil(year, month as u32, day as u32) - days_from_civil(year, 1, 1)
                }
                false => NO_DAY,
            }
        };
        Calendar { years: (0..10_000).map(year).collect(), days: (0..4096).map(day).collect() }
    })
}

impl Eight<i32> for Dates {
    #[inline(always)]
    unsafe fn eight(&self, data: &[u8], starts: __m256i, ends: __m256i, out: &mut [i32; 8]) -> u8 {
        let calendar = calendar();
        // SAFETY: the words that are read begin where a field does and end where one does; what is looked up has
        // been bounded by what the tables hold.
        unsafe {
            let length = _mm256_sub_epi32(ends, starts);
            let blank = _mm256_cmple_epi32_mask(length, _mm256_setzero_si256());
            let mut fine = _mm256_cmpeq_epi32_mask(length, _mm256_set1_epi32(10));
            // YYYY-MM- and YY-MM-DD
            let (front, back) = (words(data, starts, 0), words(data, ends, -8));
            let hyphens = _mm512_and_si512(front, whole(0xff00_00ff_0000_0000u64 as i64));
            fine &= _mm512_cmpeq_epi64_mask(hyphens, whole(0x2d00_002d_0000_0000));
            let year = _mm512_and_si512(front, whole(0xffff_ffff));
            let month = _mm512_srli_epi64::<8>(front);
            let month = _mm512_and_si512(month, whole(0x0000_ffff_0000_0000));
            let day = _mm512_and_si512(back, whole(0xffff_0000_0000_0000u64 as i64));
            let digits = _mm512_or_si512(_mm512_or_si512(year, month), day);
            let digits = _mm512_sub_epi8(digits, _mm512_set1_epi8(b'0' as i8));
            let odd = _mm512_cmpgt_epu8_mask(digits, _mm512_set1_epi8(9));
            if odd != 0 {
                let odd = _mm512_movm_epi8(odd);
                fine &= !_mm512_test_epi64_mask(odd, odd);
            }
            let pairs = _mm512_maddubs_epi16(digits, _mm512_set1_epi16(0x010a));
            // The year below, month and day above.
            let fours = _mm512_madd_epi16(pairs, _mm512_set1_epi32(0x0001_0064));
            let year = _mm512_cvtepi64_epi32(fours);
            let day = _mm512_cvtepi64_epi32(_mm512_srli_epi64::<32>(fours));
            fine &= _mm256_cmpgt_epi32_mask(year, _mm256_setzero_si256());
            fine &= _mm256_cmplt_epi32_mask(day, _mm256_set1_epi32(2048));
            let nothing = _mm256_setzero_si256();
            let years = calendar.years.as_ptr();
            let of_year = _mm256_mmask_i32gather_epi32::<4>(nothing, fine, year, years);
            let leap = _mm256_and_si256(of_year, _mm256_set1_epi32(1));
            let day = _mm256_add_epi32(_mm256_slli_epi32::<11>(leap), day);
            let of_day =
                _mm256_mmask_i32gather_epi32::<4>(nothing, fine, day, calendar.days.as_ptr());
            fine &= _mm256_cmpneq_epi32_mask(of_day, _mm256_set1_epi32(NO_DAY));
            let days = _mm256_add_epi32(_mm256_srai_epi32::<1>(of_year), of_day);
            let missing = _mm256_set1_epi32(oeuvre_columns::column::MISSING_I32);
            let days = _mm256_mask_mov_epi32(missing, fine & !blank, days);
            _mm256_storeu_si256(out.as_mut_ptr().cast(), days);
            !fine & !blank
        }
    }
}

/// Places of the table of few texts.
const PLACES: usize = 512;
/// So many texts are few.
const FEW: usize = 96;
/// The longest of them: a byte is left for the length.
const LONGEST: usize = 15;
/// As long as this they fit one word with their length.
const SHORTEST: usize = 7;

/// Few short texts, each at a place of its own.
pub(super) struct FewTexts {
    /// A text as one or two words, its length in the last byte; nothing of length 0. One place behind the other.
    first: Vec<u64>,
    /// The second words; none where one is enough.
    second: Vec<u64>,
    codes: Vec<u32>,
    factor: u64,
}

impl FewTexts {
    /// The table of some texts; `None` where they are too many or too alike.
    pub(super) fn of(texts: &Texts, quote: Option<u8>) -> Option<FewTexts> {
        if texts.len() > FEW || texts.is_empty() {
            return None;
        }
        // What begins with a quote means something else in a file.
        let is_plain = |text: &[u8]| {
            text.len() <= LONGEST && text.first().is_some_and(|first| Some(*first) != quote)
        };
        let plain = || {
            let all = (0..texts.len() as u32).map(|code| (code, texts.text(code).as_bytes()));
            all.filter(|(_, text)| is_plain(text))
        };
        let shortest = plain().all(|(_, text)| text.len() <= SHORTEST);
        // Odd numbers without a pattern.
        let mut factor = 0x9e37_79b9_7f4a_7c15u64;
        'factors: for _ in 0..32 {
            let mut table = FewTexts {
                first: vec![0; PLACES],
                second: if shortest { Vec::new() } else { vec![0; PLACES] },
                codes: vec![0; PLACES],
                factor,
            };
            for (code, text) in plain() {
                let mut bytes = [0; 16];
                bytes[..text.len()].copy_from_slice(text);
                let word = u128::from_le_bytes(bytes);
                let length = (text.len() as u64) << 56;
                let key = match shortest {
                    true => (word as u64 | length, 0),
                    false => (word as u64, (word >> 64) as u64 | length),
                };
                let at = place(key.0, key.1, factor);
                if table.first[at] != 0 {
                    factor = factor.wrapping_mul(0xd134_2543_de82_ef95).wrapping_add(2) | 1;
                    continue 'factors;
                }
                (table.first[at], table.codes[at]) = (key.0, code);
                if let Some(second) = table.second.get_mut(at) {
                    *second = key.1;
                }
            }
            return Some(table);
        }
        None
    }

    /// Whether one word is enough for each.
    pub(super) fn are_shortest(&self) -> bool {
        self.second.is_empty()
    }
}

/// Where a text stands in the table.
fn place(low: u64, high: u64, factor: u64) -> usize {
    let mixed = (low ^ high.rotate_left(21)).wrapping_mul(factor);
    (mixed >> (64 - PLACES.trailing_zeros())) as usize
}

/// Up to 16 bytes that a dictionary has, with the table of those that are short: whether one word is enough for each.
pub(super) struct KnownFew<'a, const SHORTEST_ONLY: bool> {
    pub(super) known: Known<'a>,
    pub(super) few: FewTexts,
}

impl<const SHORTEST_ONLY: bool> Form<u32> for KnownFew<'_, SHORTEST_ONLY> {
    #[inline(always)]
    fn read(&self, data: &[u8], start: usize, end: usize) -> Option<u32> {
        self.known.read(data, start, end)
    }
}

impl<const SHORTEST_ONLY: bool> Eight<u32> for KnownFew<'_, SHORTEST_ONLY> {
    #[inline(always)]
    unsafe fn eight(&self, data: &[u8], starts: __m256i, ends: __m256i, out: &mut [u32; 8]) -> u8 {
        let few = &self.few;
        // SAFETY: the words that are read begin where a field does or eight bytes behind, at least 16 bytes before
        // the end of the data; a place is less than the tables have.
        unsafe {
            let zero = _mm512_setzero_si512();
            let ones = whole(-1);
            let length = _mm512_cvtepi32_epi64(_mm256_sub_epi32(ends, starts));
            let blank = _mm512_cmple_epi64_mask(length, zero);
            let bits = _mm512_slli_epi64::<3>(length);
            // What is shifted by 64 and more is nought.
            let kept = _mm512_max_epi64(_mm512_sub_epi64(whole(64), bits), zero);
            let mut low = _mm512_and_si512(words(data, starts, 0), _mm512_srlv_epi64(ones, kept));
            let mut high = _mm512_slli_epi64::<56>(length);
            let longest = if SHORTEST_ONLY { SHORTEST } else { LONGEST };
            let mut fine = _mm512_cmple_epi64_mask(length, whole(longest as i64));
            let mut mixed = low;
            if SHORTEST_ONLY {
                low = _mm512_or_si512(low, high);
                mixed = low;
            } else {
                if _mm512_cmpgt_epi64_mask(length, whole(8)) != 0 {
                    let kept = _mm512_max_epi64(_mm512_sub_epi64(whole(128), bits), zero);
                    let behind = words(data, starts, 8);
                    let behind = _mm512_and_si512(behind, _mm512_srlv_epi64(ones, kept));
                    high = _mm512_or_si512(high, behind);
                }
                mixed = _mm512_xor_si512(mixed, _mm512_rol_epi64::<21>(high));
            }
            let mixed = _mm512_mullo_epi64(mixed, whole(few.factor as i64));
            let at = _mm512_srli_epi64::<{ 64 - PLACES.trailing_zeros() }>(mixed);
            let at = _mm512_cvtepi64_epi32(at);
            let keys = _mm512_i32gather_epi64::<8>(at, few.first.as_ptr().cast());
            fine &= _mm512_cmpeq_epi64_mask(keys, low);
            if !SHORTEST_ONLY {
                let keys = _mm512_i32gather_epi64::<8>(at, few.second.as_ptr().cast());
                fine &= _mm512_cmpeq_epi64_mask(keys, high);
            }
            let codes = _mm256_i32gather_epi32::<4>(few.codes.as_ptr().cast(), at);
            let missing =
                _mm256_set1_epi32(oeuvre_columns::column::dictionary::MISSING_CODE as i32);
            let codes = _mm256_mask_mov_epi32(missing, fine & !blank, codes);
            _mm256_storeu_si256(out.as_mut_ptr().cast(), codes);
            !fine & !blank
        }
    }
}
