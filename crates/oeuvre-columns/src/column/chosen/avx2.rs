//! Eight values of 32 or 64 bits brought together with AVX2: a fifth of the instructions of eight loads and stores. Its plain
//! twin is in `mod.rs`; what it earns is in benches/README.md.

#![allow(unsafe_code)]

use super::{Cell, SET};
use std::arch::x86_64::*;

/// For four bits the halves of those of four words that are set, from below.
const HALVES: [[u8; 8]; 16] = {
    let mut all = [[0; 8]; 16];
    let mut bits = 0;
    while bits < 16 {
        let (mut place, mut n) = (0, 0);
        while place < 4 {
            if bits >> place & 1 == 1 {
                all[bits][n] = 2 * place;
                all[bits][n + 1] = 2 * place + 1;
                n += 2;
            }
            place += 1;
        }
        bits += 1;
    }
    all
};

/// Eight half words in the order of places, which are below eight.
#[target_feature(enable = "avx2")]
#[inline]
fn ordered(halves: __m256i, places: &[u8; 8]) -> __m256i {
    // SAFETY: the places are an array of eight bytes.
    let places = unsafe { _mm_loadl_epi64(std::ptr::from_ref(places).cast()) };
    _mm256_permutevar8x32_epi32(halves, _mm256_cvtepu8_epi32(places))
}

/// Those of eight values whose bits are set, from below; what is behind them means nothing. False where values have another
/// size, and nothing was done.
#[target_feature(enable = "avx2,popcnt")]
#[inline]
pub(super) fn put_eight<T: Cell>(eight: &[T; 8], bits: u8, to: &mut [T; 8]) -> bool {
    let (from, to) = (eight.as_ptr(), to.as_mut_ptr());
    match size_of::<T>() {
        4 => {
            // SAFETY: eight values of four bytes are read and written, of a type that has no byte without a value.
            unsafe {
                let all = _mm256_loadu_si256(from.cast());
                _mm256_storeu_si256(to.cast(), ordered(all, &SET[usize::from(bits)].0));
            }
            true
        }
        8 => {
            let (low, high) = (bits & 15, bits >> 4);
            // SAFETY: eight values of eight bytes are read, four at a time, and written: four from the first one on, and four
            // from the fifth one on at most, as no more than four bits are set in a half.
            unsafe {
                let (first, second) =
                    (_mm256_loadu_si256(from.cast()), _mm256_loadu_si256(from.add(4).cast()));
                _mm256_storeu_si256(to.cast(), ordered(first, &HALVES[usize::from(low)]));
                let to = to.add(low.count_ones() as usize);
                _mm256_storeu_si256(to.cast(), ordered(second, &HALVES[usize::from(high)]));
            }
            true
        }
        _ => false,
    }
}
