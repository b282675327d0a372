//! The rows for which a condition holds.

use oeuvre_columns::column::MISSING_BOOL;

/// For the lowest bits of eight truths, the places of those that are set, from below; and how many these are.
const SET: [([u8; 8], u8); 256] = {
    let mut all = [([0; 8], 0); 256];
    let mut bits = 0;
    while bits < 256 {
        let mut place = 0;
        while place < 8 {
            if bits >> place & 1 == 1 {
                all[bits].0[all[bits].1 as usize] = place;
                all[bits].1 += 1;
            }
            place += 1;
        }
        bits += 1;
    }
    all
};

/// Finds the rows of which a condition is true; for how many a value is missing that it needs.
///
/// Eight are looked up at a time, whatever is true of them: there is no branch to guess.
pub(super) fn keep_true(truths: &[u8], kept: &mut Vec<u32>) -> u64 {
    const LOWEST: u64 = 0x0101_0101_0101_0101;
    const _: () = assert!(MISSING_BOOL == 2);
    // The lowest bits of eight bytes, next to each other.
    let bits = |bytes: u64| (bytes & LOWEST).wrapping_mul(0x0102_0408_1020_4080) >> 56;
    let (eights, rest) = truths.as_chunks::<8>();
    let (mut n, mut missing) = (0, 0);
    let mut first = 0u32;
    // Eight are written each time, and the place moves on only for those that are kept.
    kept.resize(truths.len() + 8, 0);
    for eight in eights {
        let word = u64::from_le_bytes(*eight);
        let (places, count) = &SET[bits(word) as usize];
        if let Some(to) = kept[n..].first_chunk_mut::<8>() {
            for (to, &place) in to.iter_mut().zip(places) {
                *to = first + u32::from(place);
            }
        }
        n += usize::from(*count);
        missing += u64::from(bits(word >> 1).count_ones());
        first += 8;
    }
    for (row, &truth) in (first..).zip(rest) {
        kept[n] = row;
        n += usize::from(truth == 1);
        missing += u64::from(truth == MISSING_BOOL);
    }
    kept.truncate(n);
    missing
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn rows_are_those_of_a_plain_loop(truths in proptest::collection::vec(0u8..3, 0..70), before in 0usize..90) {
            let mut kept = vec![7; before];
            let missing = keep_true(&truths, &mut kept);
            let expected: Vec<u32> = (0..).zip(&truths).filter(|(_, t)| **t == 1).map(|(row, _)| row).collect();
            prop_assert_eq!(kept, expected);
            prop_assert_eq!(missing, truths.iter().filter(|t| **t == 2).count() as u64);
        }
    }
}
