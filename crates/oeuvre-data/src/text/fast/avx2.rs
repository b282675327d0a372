//! Digits of many fields with AVX2, instruction by instruction: bytes next to each other are multiplied and added, which
//! the compiler does not find. Each has its plain twin, which it is compared with, in `numbers.rs` or `dates.rs`; the
//! ratio that it earns is in benches/README.md.

#![allow(unsafe_code)]

use super::{LANES, ZEROS};
use oeuvre_columns::column::MISSING_I64;
use std::arch::x86_64::*;

/// Loads four words or eight half ones.
macro_rules! loaded {
    ($from:expr) => {
        // SAFETY: what is loaded is an array of 32 bytes.
        unsafe { _mm256_loadu_si256(std::ptr::from_ref($from).cast()) }
    };
}

/// Writes 32 bytes.
macro_rules! store {
    ($to:expr, $value:expr) => {
        // SAFETY: what is written to is an array of 32 bytes.
        unsafe { _mm256_storeu_si256(std::ptr::from_mut::<[i64; 4]>($to).cast(), $value) }
    };
}

/// The same word four times.
#[target_feature(enable = "avx2")]
#[inline]
fn words(word: u64) -> __m256i {
    _mm256_set1_epi64x(word as i64)
}

/// Whether any bit is 0.
#[target_feature(enable = "avx2")]
#[inline]
fn is_any_zero(bits: __m256i) -> bool {
    _mm256_testc_si256(bits, words(u64::MAX)) == 0
}

/// What is not 0 where a byte is more than 9.
#[target_feature(enable = "avx2")]
#[inline]
fn beyond_nine(digits: __m256i) -> __m256i {
    _mm256_subs_epu8(digits, _mm256_set1_epi8(9))
}

/// Pairs of digits as numbers, of 16 bits.
#[target_feature(enable = "avx2")]
#[inline]
fn pairs_of(digits: __m256i) -> __m256i {
    _mm256_maddubs_epi16(digits, _mm256_set1_epi16(0x010a))
}

/// Four digits as numbers, of 32 bits, from pairs.
#[target_feature(enable = "avx2")]
#[inline]
fn fours_of(pairs: __m256i) -> __m256i {
    _mm256_madd_epi16(pairs, _mm256_set1_epi32(0x0001_0064))
}

/// As `read_words` of one word: the words in which fields of these lengths end. False where none is blank or unusual.
#[target_feature(enable = "avx2")]
#[inline]
pub(super) fn read_word(
    lens: &[u64; LANES],
    ends: &[u64; LANES],
    scale: u32,
    out: &mut [i64; LANES],
) -> bool {
    let mut all_fine = words(u64::MAX);
    let fields = lens.as_chunks::<4>().0.iter().zip(ends.as_chunks::<4>().0);
    for ((len, word), out) in fields.zip(out.as_chunks_mut::<4>().0) {
        let (len, word) = (loaded!(len), loaded!(word));
        let bits_before = _mm256_sub_epi64(words(64), _mm256_slli_epi64::<3>(len));
        let first = _mm256_and_si256(_mm256_srlv_epi64(word, bits_before), words(0xff));
        // All ones where there is a minus.
        let negative = _mm256_cmpeq_epi64(first, words(u64::from(b'-')));
        let chars = _mm256_add_epi64(len, negative);
        let bits_before = _mm256_sub_epi64(bits_before, _mm256_slli_epi64::<3>(negative));
        let mut fine = _mm256_cmpgt_epi64(words(9), len);
        let (digits, kept);
        if scale == 0 {
            digits = word;
            kept = _mm256_sllv_epi64(words(u64::MAX), bits_before);
            // Zeros in front make a code, which is not for this path.
            let first = _mm256_and_si256(_mm256_srlv_epi64(word, bits_before), words(0xff));
            let is_zero = _mm256_cmpeq_epi64(first, words(u64::from(b'0')));
            let is_code = _mm256_and_si256(is_zero, _mm256_cmpgt_epi64(chars, words(1)));
            let has_any = _mm256_cmpgt_epi64(chars, words(0));
            fine = _mm256_and_si256(fine, _mm256_andnot_si256(is_code, has_any));
        } else {
            let point = 56 - 8 * scale;
            let at_point = _mm256_and_si256(word, words(0xff << point));
            let has_point = _mm256_cmpeq_epi64(at_point, words(u64::from(b'.') << point));
            let has_all = _mm256_cmpgt_epi64(chars, words(u64::from(scale) + 1));
            fine = _mm256_and_si256(fine, _mm256_and_si256(has_point, has_all));
            // The digits before the point move on to its place.
            let fraction = words(u64::MAX << (64 - 8 * scale));
            let whole = _mm256_andnot_si256(fraction, _mm256_slli_epi64::<8>(word));
            digits = _mm256_or_si256(whole, _mm256_and_si256(word, fraction));
            let bits_before = _mm256_add_epi64(bits_before, words(8));
            kept = _mm256_sllv_epi64(words(u64::MAX), bits_before);
        }
        let digits = _mm256_and_si256(_mm256_xor_si256(digits, words(ZEROS)), kept);
        let is_usual = _mm256_cmpeq_epi64(beyond_nine(digits), _mm256_setzero_si256());
        let fours = fours_of(pairs_of(digits));
        let upper = _mm256_mul_epu32(fours, words(10_000));
        let number = _mm256_add_epi64(upper, _mm256_srli_epi64::<32>(fours));
        let number = _mm256_sub_epi64(_mm256_xor_si256(number, negative), negative);
        let fine = _mm256_and_si256(fine, is_usual);
        all_fine = _mm256_and_si256(all_fine, fine);
        store!(out, _mm256_blendv_epi8(words(MISSING_I64 as u64), number, fine));
    }
    is_any_zero(all_fine)
}

/// As `read_four`: the last four bytes of fields of up to four. False where none is blank or unusual.
#[target_feature(enable = "avx2")]
#[inline]
pub(super) fn read_four(
    starts: &[u32; LANES],
    ends: &[u32; LANES],
    last_four: &[u32; LANES],
    out: &mut [i64; LANES],
) -> bool {
    let mut all_fine = words(u64::MAX);
    let edges = starts.as_chunks::<8>().0.iter().zip(ends.as_chunks::<8>().0);
    let fields = edges.zip(last_four.as_chunks::<8>().0);
    for (((start, end), word), out) in fields.zip(out.as_chunks_mut::<8>().0) {
        let (start, end, word) = (loaded!(start), loaded!(end), loaded!(word));
        let each = |n: u32| _mm256_set1_epi32(n as i32);
        // What a record lacks ends before it starts.
        let chars = _mm256_sub_epi32(_mm256_max_epu32(end, start), start);
        let bits_before = _mm256_sub_epi32(each(32), _mm256_slli_epi32::<3>(chars));
        let first = _mm256_and_si256(_mm256_srlv_epi32(word, bits_before), each(0xff));
        let negative = _mm256_cmpeq_epi32(first, each(u32::from(b'-')));
        let chars = _mm256_add_epi32(chars, negative);
        let bits_before = _mm256_sub_epi32(bits_before, _mm256_slli_epi32::<3>(negative));
        let first = _mm256_and_si256(_mm256_srlv_epi32(word, bits_before), each(0xff));
        let is_zero = _mm256_cmpeq_epi32(first, each(u32::from(b'0')));
        // Zeros in front make a code, which is not for this path.
        let is_code = _mm256_and_si256(is_zero, _mm256_cmpgt_epi32(chars, each(1)));
        let kept = _mm256_sllv_epi32(each(u32::MAX), bits_before);
        let digits = _mm256_and_si256(_mm256_xor_si256(word, each(ZEROS as u32)), kept);
        let is_usual = _mm256_cmpeq_epi32(beyond_nine(digits), _mm256_setzero_si256());
        let has_any = _mm256_cmpgt_epi32(chars, each(0));
        let fine = _mm256_andnot_si256(is_code, _mm256_and_si256(has_any, is_usual));
        all_fine = _mm256_and_si256(all_fine, fine);
        let number = fours_of(pairs_of(digits));
        let number = _mm256_sub_epi32(_mm256_xor_si256(number, negative), negative);
        let (low, high) = out.split_at_mut(4);
        if let (Some(low), Some(high)) = (low.first_chunk_mut::<4>(), high.first_chunk_mut::<4>()) {
            let wide = |half: __m128i, fine: __m128i| {
                let (number, fine) = (_mm256_cvtepi32_epi64(half), _mm256_cvtepi32_epi64(fine));
                _mm256_blendv_epi8(words(MISSING_I64 as u64), number, fine)
            };
            let halves = (_mm256_castsi256_si128(number), _mm256_castsi256_si128(fine));
            store!(low, wide(halves.0, halves.1));
            let halves =
                (_mm256_extracti128_si256::<1>(number), _mm256_extracti128_si256::<1>(fine));
            store!(high, wide(halves.0, halves.1));
        }
    }
    is_any_zero(all_fine)
}

/// As `dates_of`.
#[target_feature(enable = "avx2")]
#[inline]
pub(super) fn dates_of(
    lens: &[u64; LANES],
    [front, day]: [&[u64; LANES]; 2],
    (chars, below): (u64, u32),
    out: &mut [u32; LANES],
) {
    let fields = front.as_chunks::<4>().0.iter().zip(day.as_chunks::<4>().0);
    let fields = fields.zip(lens.as_chunks::<4>().0);
    for (((front, day), len), out) in fields.zip(out.as_chunks_mut::<4>().0) {
        let (front, day, len) = (loaded!(front), loaded!(day), loaded!(len));
        let hyphens = _mm256_and_si256(front, words(0xff00_00ff_0000_0000));
        let has_hyphens = _mm256_cmpeq_epi64(hyphens, words(0x2d00_002d_0000_0000));
        let is_as_long = _mm256_cmpeq_epi64(len, words(chars));
        // YYYYMMDD
        let year = _mm256_and_si256(front, words(0xffff_ffff));
        let month = _mm256_srli_epi64::<8>(front);
        let month = _mm256_and_si256(month, words(0x0000_ffff_0000_0000));
        let day = _mm256_sllv_epi64(day, words(u64::from(below)));
        let day = _mm256_and_si256(day, words(0xffff_0000_0000_0000));
        let digits = _mm256_or_si256(_mm256_or_si256(year, month), day);
        let digits = _mm256_xor_si256(digits, words(ZEROS));
        let is_usual = _mm256_cmpeq_epi64(beyond_nine(digits), _mm256_setzero_si256());
        // The year, and 256 times the month with the day.
        let both = _mm256_madd_epi16(pairs_of(digits), words(0x0001_0100_0001_0064));
        let date = _mm256_or_si256(_mm256_slli_epi64::<16>(both), _mm256_srli_epi64::<32>(both));
        let fine = _mm256_and_si256(_mm256_and_si256(has_hyphens, is_as_long), is_usual);
        let date = _mm256_and_si256(date, fine);
        let lower = _mm256_setr_epi32(0, 2, 4, 6, 0, 0, 0, 0);
        let date = _mm256_castsi256_si128(_mm256_permutevar8x32_epi32(date, lower));
        // SAFETY: what is written to is an array of 16 bytes.
        unsafe { _mm_storeu_si128(std::ptr::from_mut::<[u32; 4]>(out).cast(), date) };
    }
}
