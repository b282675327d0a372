//! Sorting whole numbers digit by digit, from the lowest to the highest: without a comparison, in a time that grows with
//! what is sorted alone. What is equal keeps its order.
//!
//! ```
//! use oeuvre_columns::column::digits::{sorted_by_digits, width};
//!
//! let fares = vec![(850u64, 'a'), (700, 'b'), (850, 'c')];
//! let sorted = sorted_by_digits(fares, |it| it.0, width(850));
//! assert_eq!(sorted, [(700, 'b'), (850, 'a'), (850, 'c')]);
//! ```

/// Bits sorted in one pass: a table of 2048 counts stays in the nearest cache.
const DIGIT_BITS: u32 = 11;
/// Fewer than that are sorted sooner by comparing.
pub const FEW: usize = 1 << DIGIT_BITS;

/// The bits that numbers up to a largest one need.
pub fn width(largest: u64) -> u32 {
    u64::BITS - largest.leading_zeros()
}

/// Sorts by a word, of which no more than so many of the lowest bits are set.
pub fn sorted_by_digits<T: Copy + Default>(
    mut now: Vec<T>,
    word: impl Fn(T) -> u64,
    bits: u32,
) -> Vec<T> {
    if now.len() < FEW {
        now.sort_by_key(|it| word(*it));
        return now;
    }
    let mut next = vec![T::default(); now.len()];
    let passes = bits.div_ceil(DIGIT_BITS).max(1);
    // Digits of equal width: 17 bits are two passes of nine, not one of eleven and one of six.
    let digit_bits = bits.div_ceil(passes);
    for shift in (0..bits).step_by(digit_bits.max(1) as usize) {
        let mask = (1u64 << digit_bits) - 1;
        let digit = |it: T| (word(it) >> shift & mask) as usize;
        let mut places = vec![0usize; 1 << digit_bits];
        now.iter().for_each(|&it| places[digit(it)] += 1);
        let mut at = 0;
        for place in &mut places {
            at += std::mem::replace(place, at);
        }
        for &it in &now {
            let place = &mut places[digit(it)];
            next[*place] = it;
            *place += 1;
        }
        std::mem::swap(&mut now, &mut next);
    }
    now
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn the_order_is_that_of_a_stable_sort(words in proptest::collection::vec(any::<u64>(), 0..300), shift in 0u32..64, many in any::<bool>()) {
            let copies = if many { 30 } else { 1 };
            let words = (0..copies).flat_map(|n| words.iter().map(move |word| word.rotate_left(n)));
            let words: Vec<(u64, usize)> = words.map(|word| word >> shift).zip(0..).collect();
            let mut plain = words.clone();
            plain.sort_by_key(|it| it.0);
            prop_assert_eq!(sorted_by_digits(words, |it| it.0, 64 - shift), plain);
        }
    }
}
