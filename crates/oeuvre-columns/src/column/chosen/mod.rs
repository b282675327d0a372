//! Some of the rows of a batch: a bit for each, and the values of these rows alone.
//!
//! Eight rows are looked up at a time, whatever is chosen of them: there is no branch to guess.
//!
//! ```
//! use oeuvre_columns::column::chosen::Chosen;
//!
//! let mut chosen = Chosen::default();
//! // True, false, missing, true.
//! assert_eq!(chosen.choose_true(&[1, 0, 2, 1]), 1);
//! let mut fares = vec![10, 20, 30, 40];
//! chosen.keep(&mut fares);
//! assert_eq!(fares, [10, 40]);
//! chosen.retain(|row| row > 0);
//! assert_eq!(chosen.iter().collect::<Vec<_>>(), [3]);
//! ```

#[cfg(target_arch = "x86_64")]
mod avx2;

use super::MISSING_BOOL;
use crate::instructions::{Instructions, Level};

/// Some of so many rows.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Chosen {
    /// For each eight rows which of them are chosen, the first one in the lowest bit.
    eights: Vec<u8>,
    rows: usize,
    len: usize,
}

/// For eight bits the places of those that are set, from below; and how many these are.
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

/// The lowest bits of eight bytes, next to each other.
fn lowest_bits(bytes: [u8; 8]) -> u8 {
    const LOWEST: u64 = 0x0101_0101_0101_0101;
    let bits = u64::from_le_bytes(bytes) & LOWEST;
    (bits.wrapping_mul(0x0102_0408_1020_4080) >> 56) as u8
}

impl Chosen {
    /// The first ones of so many rows.
    pub fn first(chosen: usize, rows: usize) -> Chosen {
        let mut it = Chosen::default();
        it.choose_all(rows);
        it.retain(|row| row < chosen);
        it
    }

    /// Chooses all of so many rows.
    pub fn choose_all(&mut self, rows: usize) {
        self.eights.clear();
        self.eights.resize(rows / 8, u8::MAX);
        if !rows.is_multiple_of(8) {
            self.eights.push((1 << (rows % 8)) - 1);
        }
        (self.rows, self.len) = (rows, rows);
    }

    /// Chooses the rows of which a condition is true; for how many a value is missing that it needs.
    pub fn choose_true(&mut self, truths: &[u8]) -> u64 {
        const _: () = assert!(MISSING_BOOL == 2);
        self.eights.clear();
        let mut missing = 0;
        let mut put = |truths: [u8; 8]| {
            missing += lowest_bits(truths.map(|truth| truth >> 1)).count_ones();
            self.eights.push(lowest_bits(truths));
        };
        let (eights, rest) = truths.as_chunks::<8>();
        eights.iter().for_each(|eight| put(*eight));
        if !rest.is_empty() {
            let mut eight = [0; 8];
            eight[..rest.len()].copy_from_slice(rest);
            put(eight);
        }
        self.rows = truths.len();
        self.count();
        u64::from(missing)
    }

    fn count(&mut self) {
        self.len = self.eights.iter().map(|bits| bits.count_ones() as usize).sum();
    }

    /// How many rows are chosen.
    pub fn len(&self) -> usize {
        self.len
    }

    /// Whether none is.
    pub fn is_empty(&self) -> bool {
        self.len == 0
    }

    /// Whether a row is chosen.
    pub fn has(&self, row: usize) -> bool {
        self.eights.get(row / 8).is_some_and(|bits| bits >> (row % 8) & 1 == 1)
    }

    /// The rows that are chosen, in their order.
    pub fn iter(&self) -> impl Iterator<Item = u32> + '_ {
        let of_eight = |(at, &bits): (usize, &u8)| {
            let (places, count) = SET[usize::from(bits)];
            places.into_iter().take(count.into()).map(move |place| at as u32 * 8 + u32::from(place))
        };
        self.eights.iter().enumerate().flat_map(of_eight)
    }

    /// Keeps of the rows those that are wanted.
    pub fn retain(&mut self, is_wanted: impl Fn(usize) -> bool) {
        for (at, bits) in self.eights.iter_mut().enumerate() {
            for place in 0..8 {
                if *bits >> place & 1 == 1 && !is_wanted(at * 8 + place) {
                    *bits &= !(1 << place);
                }
            }
        }
        self.count();
    }

    /// What number each row has among those that are chosen, for rows that are asked for in their order.
    pub(super) fn numbers(&self) -> impl FnMut(u32) -> Option<u32> + '_ {
        let (mut eight, mut before) = (0, 0);
        move |row| {
            let (at, place) = (row as usize / 8, row % 8);
            while eight < at {
                before += self.eights.get(eight).map_or(0, |bits| bits.count_ones());
                eight += 1;
            }
            let below = self.eights.get(at).map_or(0, |bits| bits & ((1 << place) - 1));
            self.has(row as usize).then_some(before + below.count_ones())
        }
    }

    /// Keeps the values of the rows that are chosen.
    ///
    /// # Panics
    /// When there are not as many values as rows.
    pub fn keep<T: Cell>(&self, values: &mut Vec<T>) {
        self.keep_with(Instructions::Auto.level(), values);
    }

    /// Makes other values those of the rows that are chosen.
    ///
    /// # Panics
    /// When there are not as many values as rows.
    pub fn copy<T: Cell>(&self, from: &[T], to: &mut Vec<T>) {
        self.copy_with(Instructions::Auto.level(), from, to);
    }

    #[allow(unsafe_code)]
    fn keep_with<T: Cell>(&self, level: Level, values: &mut Vec<T>) {
        assert_eq!(values.len(), self.rows);
        #[cfg(target_arch = "x86_64")]
        {
            #[target_feature(enable = "avx2,popcnt")]
            fn newer<T: Cell>(eights: &[u8], values: &mut [T]) -> usize {
                keep::<T, true>(eights, values)
            }
            if level >= Level::Avx2 {
                // SAFETY: a level is only given where the processor has its features.
                let kept = unsafe { newer(&self.eights, values) };
                return values.truncate(kept);
            }
        }
        let kept = keep::<T, false>(&self.eights, values);
        values.truncate(kept);
    }

    #[allow(unsafe_code)]
    fn copy_with<T: Cell>(&self, level: Level, from: &[T], to: &mut Vec<T>) {
        assert_eq!(from.len(), self.rows);
        let Some(&any) = from.first() else { return to.clear() };
        to.resize(self.len + 8, any);
        #[cfg(target_arch = "x86_64")]
        {
            #[target_feature(enable = "avx2,popcnt")]
            fn newer<T: Cell>(eights: &[u8], from: &[T], to: &mut [T]) {
                copy::<T, true>(eights, from, to);
            }
            if level >= Level::Avx2 {
                // SAFETY: a level is only given where the processor has its features.
                unsafe { newer(&self.eights, from, to) };
                return to.truncate(self.len);
            }
        }
        copy::<T, false>(&self.eights, from, to);
        to.truncate(self.len);
    }
}

/// What stands in a column: a figure whose bytes all mean something, which nobody else can say of a type.
pub trait Cell: Copy + sealed::Figure {}
impl<T: Copy + sealed::Figure> Cell for T {}

mod sealed {
    pub trait Figure {}
    macro_rules! figures {
        ($($type:ty)*) => { $(impl Figure for $type {})* };
    }
    figures!(i64 i128 f64 u32 i32 u8);
}

/// Keeps those of the values that are chosen, in front of all; how many these are.
#[inline(always)]
fn keep<T: Cell, const AVX2: bool>(eights: &[u8], values: &mut [T]) -> usize {
    let mut n = 0;
    for (at, &bits) in eights.iter().enumerate() {
        // The place to write at is never beyond the one that is read: what is read next is still there.
        if let Some(&eight) = values[at * 8..].first_chunk::<8>()
            && let Some(room) = values[n..].first_chunk_mut::<8>()
        {
            n += put::<T, AVX2>(&eight, bits, room);
        } else {
            let (places, count) = SET[usize::from(bits)];
            for place in places.into_iter().take(count.into()) {
                values[n] = values[at * 8 + usize::from(place)];
                n += 1;
            }
        }
    }
    n
}

/// Writes those of the values that are chosen to where there is room for eight more.
#[inline(always)]
fn copy<T: Cell, const AVX2: bool>(eights: &[u8], from: &[T], to: &mut [T]) {
    let mut n = 0;
    for (eight, &bits) in from.chunks(8).zip(eights) {
        let room = to[n..].first_chunk_mut::<8>();
        if let (Some(eight), Some(room)) = (eight.first_chunk::<8>(), room) {
            n += put::<T, AVX2>(eight, bits, room);
        } else {
            let (places, count) = SET[usize::from(bits)];
            for place in places.into_iter().take(count.into()) {
                to[n] = eight[usize::from(place)];
                n += 1;
            }
        }
    }
}

/// Those of eight values whose bits are set, from below, and how many these are. Eight are written each time.
#[inline(always)]
#[allow(unsafe_code)]
fn put<T: Cell, const AVX2: bool>(eight: &[T; 8], bits: u8, room: &mut [T; 8]) -> usize {
    #[cfg(target_arch = "x86_64")]
    // SAFETY: it is only asked for where the processor has AVX2.
    if AVX2 && unsafe { avx2::put_eight(eight, bits, room) } {
        return bits.count_ones() as usize;
    }
    let (places, count) = &SET[usize::from(bits)];
    for (to, place) in room.iter_mut().zip(places) {
        *to = eight[usize::from(*place) % 8];
    }
    usize::from(*count)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::instructions::levels;
    use proptest::prelude::*;

    /// The same with values of each of some types.
    macro_rules! each_width {
        ($($type:ty),*, |$value:ident| $do:block) => {
            $({
                let $value = |row: usize| row as $type;
                $do
            })*
        };
    }

    proptest! {
        #[test]
        fn rows_are_those_of_a_plain_loop(
            truths in proptest::collection::vec(0u8..3, 0..70), before in 0usize..90, every in 1usize..5, first in 0usize..80,
        ) {
            let mut chosen = Chosen::first(before / 2, before);
            prop_assert_eq!(chosen.iter().collect::<Vec<_>>(), (0..before as u32 / 2).collect::<Vec<_>>());
            let missing = chosen.choose_true(&truths);
            let mut expected: Vec<u32> = (0..).zip(&truths).filter(|(_, t)| **t == 1).map(|(row, _)| row).collect();
            prop_assert_eq!(missing, truths.iter().filter(|t| **t == 2).count() as u64);
            for _ in 0..2 {
                prop_assert_eq!((chosen.len(), chosen.is_empty()), (expected.len(), expected.is_empty()));
                prop_assert_eq!(chosen.iter().collect::<Vec<_>>(), &expected[..]);
                let mut numbers = chosen.numbers();
                for row in (0..truths.len() as u32 + 9).step_by(every) {
                    let number = expected.iter().position(|&r| r == row);
                    prop_assert_eq!(numbers(row), number.map(|n| n as u32));
                    prop_assert_eq!(chosen.has(row as usize), number.is_some());
                }
                drop(numbers);
                for level in levels() {
                    each_width!(u8, u32, i64, i128, |value| {
                        // Values that say which rows they are of.
                        let mut values: Vec<_> = (0..truths.len()).map(value).collect();
                        let expected: Vec<_> = expected.iter().map(|&row| value(row as usize)).collect();
                        let mut other = vec![value(7); before];
                        chosen.copy_with(level, &values, &mut other);
                        chosen.keep_with(level, &mut values);
                        prop_assert_eq!((&values, &other), (&expected, &expected));
                    });
                }
                chosen.retain(|row| row >= first);
                expected.retain(|&row| row as usize >= first);
            }
        }
    }
}
