//! Whole numbers as codes: the numbers of distinct values, and of distinct pairs of codes.
//!
//! Keys that are no texts are numbered here ([`Interner`]), and several keys together as pairs of what came
//! before and the next key ([`Pairs`]). Business keys are mostly dense (dates, periods, ids that count up), so a
//! window of directly indexed places is tried first, a load and a compare a row, and what lies outside it goes to
//! an open-addressing table. Numbers depend on the order in which values come, and are never shown.
//!
//! ```
//! use oeuvre_columns::column::interner::{Interner, Pairs};
//!
//! let mut days = Interner::default();
//! assert_eq!([days.intern(20_000), days.intern(-5), days.intern(20_000)], [0, 1, 0]);
//! assert_eq!(days.ordered(), [1, 0]); // by value
//!
//! let mut pairs = Pairs::default();
//! pairs.ensure(2, 3); // codes below 2, then below 3
//! assert_eq!([pairs.number(1, 2), pairs.number(0, 0), pairs.number(1, 2)], [0, 1, 0]);
//! assert_eq!(pairs.find(0, 2), None);
//! ```

use super::ahead::{SOON, ask_for, is_far};
use super::dictionary::fold;
use super::{MISSING_I32, MISSING_I64, NO_NUMBER};
use crate::room::make_room;
use std::collections::HashMap;
use std::hash::{BuildHasher, RandomState};

/// A window of this many places need not be full (16 MiB): ids of a million customers are worth it. Few in tests, so
/// that these see what stands outside come in.
const SMALL_WINDOW: usize = if cfg!(test) { 1 << 8 } else { 1 << 22 };
/// But numbers of which there are few take this many places each at most, so that few rows take little.
const PLACES_FOR_EACH: usize = 64;
/// From so many places on a window is long.
const LONG_WINDOW: usize = if cfg!(test) { 1 << 7 } else { 1 << 22 };
/// A window of this many places is always allowed.
const LEAST_WINDOW: usize = 1 << 14;
/// A larger window than a small one must be at least this full: 1 in 8.
const SPARSEST: usize = 8;

/// One number in so many stands outside of the window: it is much that is gone through when the window grows.
const MUCH_OUTSIDE: usize = 16;

/// An open-addressing table from a 64-bit word to a code, at most half full; seeded at random, as dictionaries
/// are, so that no data can be written to make it slow.
#[derive(Clone, Debug)]
pub struct WordTable {
    slots: Vec<(u64, u32)>,
    used: usize,
    seed: u64,
}

impl Default for WordTable {
    fn default() -> Self {
        WordTable {
            slots: vec![(0, NO_NUMBER); 16],
            used: 0,
            seed: RandomState::new().hash_one(1u8) | 1,
        }
    }
}

impl WordTable {
    #[inline]
    fn slot(&self, word: u64) -> usize {
        fold(word ^ self.seed, 0x9e37_79b9_7f4a_7c15 ^ self.seed.rotate_left(32)) as usize
    }

    /// The table of words, no two of which are the same, with their codes.
    fn of(words: &[(u64, u32)]) -> WordTable {
        let slots = vec![(0, NO_NUMBER); (2 * words.len() + 1).next_power_of_two().max(16)];
        let mut it = WordTable { slots, ..WordTable::default() };
        it.used = words.len();
        words.iter().for_each(|&(word, code)| it.put(word, code));
        it
    }

    /// Puts a new word into a slot that is free.
    fn put(&mut self, word: u64, code: u32) {
        let mask = self.slots.len() - 1;
        let mut at = self.slot(word) & mask;
        while self.slots[at].1 != NO_NUMBER {
            at = (at + 1) & mask;
        }
        self.slots[at] = (word, code);
    }

    /// Asks for the place of a word that is soon to be looked for.
    #[inline]
    fn ask_for(&self, word: u64) {
        ask_for(&self.slots, self.slot(word) & (self.slots.len() - 1));
    }

    /// The code of a word; a new word gets `fresh`, and the second part says so.
    #[inline]
    pub fn get_or_insert(&mut self, word: u64, fresh: u32) -> (u32, bool) {
        let mask = self.slots.len() - 1;
        let mut at = self.slot(word) & mask;
        loop {
            let (key, code) = self.slots[at];
            if code == NO_NUMBER {
                break;
            }
            if key == word {
                return (code, false);
            }
            at = (at + 1) & mask;
        }
        self.slots[at] = (word, fresh);
        self.used += 1;
        if self.used * 2 > self.slots.len() {
            self.grow();
        }
        (fresh, true)
    }

    /// The code of a word, or `None` when it has not been added.
    fn get(&self, word: u64) -> Option<u32> {
        let mask = self.slots.len() - 1;
        let mut at = self.slot(word) & mask;
        loop {
            match self.slots[at] {
                (_, NO_NUMBER) => return None,
                (key, code) if key == word => return Some(code),
                _ => at = (at + 1) & mask,
            }
        }
    }

    #[cold]
    fn grow(&mut self) {
        let grown = vec![(0, NO_NUMBER); self.slots.len() * 2];
        let old = std::mem::replace(&mut self.slots, grown);
        old.into_iter().filter(|s| s.1 != NO_NUMBER).for_each(|(word, code)| self.put(word, code));
    }
}

/// Whole numbers of at most 64 bits, one of which says that there is none.
pub trait Narrow: Copy + PartialEq + Into<i64> {
    /// The one that says so.
    const MISSING: Self;
}

impl Narrow for i64 {
    const MISSING: i64 = MISSING_I64;
}

impl Narrow for i32 {
    const MISSING: i32 = MISSING_I32;
}

/// Distinct whole numbers, numbered from 0 in the order in which they came.
#[derive(Clone, Debug, Default)]
pub struct Interner {
    base: i64,
    window: Vec<u32>,
    outside: WordTable,
    /// How many numbers there were when the window last took some in from outside.
    taken_in: usize,
    wide: HashMap<i128, u32>,
    /// Whether no number has its place yet: they came in their order, and nobody has looked for another one.
    unplaced: bool,
    /// By code; [`MISSING_I64`] for those that need more bits, and for itself.
    values: Vec<i64>,
    wide_values: HashMap<u32, i128>,
}

impl Interner {
    /// Numbers in ascending order, each once. They have no places before one is looked for.
    pub fn of_ordered(values: Vec<i64>) -> Interner {
        Interner { unplaced: true, values, ..Interner::default() }
    }

    /// The numbers in the order of their codes, where none needs more than 64 bits.
    pub fn narrow(&self) -> Option<&[i64]> {
        self.wide.is_empty().then_some(&self.values)
    }

    /// Gives each number its place; the codes stay.
    fn place_all(&mut self) {
        self.unplaced = false;
        if let [first, .., last] = self.values[..] {
            // Where one window holds all of them it is made at once.
            let _ = self.reach(first) && self.reach(last);
        }
        for code in 0..self.values.len() {
            let value = self.values[code];
            match self.reach(value) {
                true => self.window[value.wrapping_sub(self.base) as usize] = code as u32,
                false => _ = self.outside.get_or_insert(value as u64, code as u32),
            }
        }
    }

    /// About how many bytes of memory the numbers take.
    pub fn size_bytes(&self) -> usize {
        size_of_val(self.window.as_slice())
            + size_of_val(self.outside.slots.as_slice())
            + self.wide.len() * 80
            + size_of_val(self.values.as_slice())
    }

    /// How many distinct numbers there are.
    pub fn len(&self) -> usize {
        self.values.len()
    }

    /// Whether no number has been added.
    pub fn is_empty(&self) -> bool {
        self.values.is_empty()
    }

    /// The number of a code, which there must be.
    #[inline]
    pub fn value(&self, code: u32) -> i128 {
        match self.values[code as usize] {
            MISSING_I64 => self.wide_values.get(&code).copied().unwrap_or(i128::from(MISSING_I64)),
            value => i128::from(value),
        }
    }

    /// The numbers in the order of their codes.
    pub fn values(&self) -> impl ExactSizeIterator<Item = i128> + Clone + '_ {
        (0..self.values.len() as u32).map(|code| self.value(code))
    }

    /// Whether the codes are in the order of their numbers.
    pub fn is_ordered(&self) -> bool {
        self.unplaced || self.wide.is_empty() && self.values.is_sorted()
    }

    /// The codes in the order of their numbers.
    pub fn ordered(&self) -> Vec<u32> {
        if self.unplaced {
            return (0..self.values.len() as u32).collect();
        }
        // Where every number lies in the window, the window has them in order.
        if self.outside.used == 0
            && self.wide.is_empty()
            && self.window.len() <= SPARSEST * self.values.len()
        {
            return self.window.iter().copied().filter(|&code| code != NO_NUMBER).collect();
        }
        // A number with its code behind it fits one word, where the numbers do not lie too far apart.
        let (low, high) = (self.values().min(), self.values().max());
        let span = low.zip(high).and_then(|(low, high)| high.checked_sub(low)).unwrap_or(i128::MAX);
        let code_bits = usize::BITS - self.values.len().leading_zeros();
        if let (Some(low), true) = (low, span < 1 << (64 - code_bits)) {
            let word = |(value, code): (i128, u64)| ((value - low) as u64) << code_bits | code;
            let mut words: Vec<u64> = self.values().zip(0..).map(word).collect();
            words.sort_unstable();
            let codes = (1 << code_bits) - 1;
            return words.into_iter().map(|word| (word & codes) as u32).collect();
        }
        let mut pairs: Vec<(i128, u32)> = self.values().zip(0..).collect();
        pairs.sort_unstable();
        pairs.into_iter().map(|pair| pair.1).collect()
    }

    /// The code of a number, which is added when it is new.
    #[inline]
    pub fn intern(&mut self, value: i64) -> u32 {
        let place = value.wrapping_sub(self.base) as u64;
        if let Some(&code) = self.window.get(place as usize)
            && code != NO_NUMBER
        {
            return code;
        }
        self.intern_new(value)
    }

    /// The codes of many numbers, which are added when they are new, each as `first` and its code; `none` for missing
    /// ones.
    pub fn intern_all<T: Narrow>(
        &mut self,
        values: &[T],
        first: u32,
        none: u32,
        codes: &mut Vec<u32>,
    ) {
        // Numbers in their order need no places as long as they come so.
        self.unplaced |= self.values.is_empty();
        let in_order = if self.unplaced { self.extend(values, (first, none), codes) } else { 0 };
        let mut values = &values[in_order..];
        if self.is_far() {
            codes.extend(values.iter().enumerate().map(|(row, &value)| {
                if let Some(&soon) = values.get(row + SOON) {
                    self.ask_for(soon.into());
                }
                match value == T::MISSING {
                    true => none,
                    false => first + self.intern(value.into()),
                }
            }));
            return;
        }
        let before = codes.len();
        codes.resize(before + values.len(), none);
        let mut codes = &mut codes[before..];
        loop {
            let known = self.known(values, first, codes);
            let (Some((&new, rest)), Some((code, others))) =
                (values[known..].split_first(), codes[known..].split_first_mut())
            else {
                return;
            };
            *code = first + self.intern_new(new.into());
            (values, codes) = (rest, others);
        }
    }

    /// Writes the codes of numbers as far as they are known and have a place, and leaves those of missing ones; how many
    /// these are.
    fn known<T: Narrow>(&self, values: &[T], first: u32, codes: &mut [u32]) -> usize {
        let (window, base) = (&self.window[..], self.base);
        let unknown = values.iter().zip(codes).position(|(&value, code)| {
            let place = value.into().wrapping_sub(base) as u64;
            match window.get(place as usize) {
                _ if value == T::MISSING => false,
                Some(&known) if known != NO_NUMBER => {
                    *code = first + known;
                    false
                }
                _ => true,
            }
        });
        unknown.unwrap_or(values.len())
    }

    /// Adds the codes of numbers while each is the last one or larger; how many are.
    fn extend<T: Narrow>(
        &mut self,
        values: &[T],
        (first, none): (u32, u32),
        codes: &mut Vec<u32>,
    ) -> usize {
        let mut last = self.values.last().copied().unwrap_or(MISSING_I64);
        let mut code = (first + self.values.len() as u32).wrapping_sub(1);
        for (row, &value) in values.iter().enumerate() {
            if value == T::MISSING {
                codes.push(none);
                continue;
            }
            let value: i64 = value.into();
            if value < last {
                return row;
            }
            if value > last {
                make_room(&mut self.values, 1);
                self.values.push(value);
                (last, code) = (value, code.wrapping_add(1));
            }
            codes.push(code);
        }
        values.len()
    }

    /// Whether the places of numbers are more than a cache holds.
    fn is_far(&self) -> bool {
        is_far(&self.window) || is_far(&self.outside.slots)
    }

    /// Asks for the place of a number that is soon to be looked for.
    #[inline]
    fn ask_for(&self, value: i64) {
        let place = value.wrapping_sub(self.base) as usize;
        match place < self.window.len() {
            true => ask_for(&self.window, place),
            false => self.outside.ask_for(value as u64),
        }
    }

    #[cold]
    #[inline(never)]
    fn intern_new(&mut self, value: i64) -> u32 {
        if self.unplaced {
            self.place_all();
            return self.intern(value);
        }
        let fresh = self.values.len() as u32;
        if self.reach(value) {
            // What the window covers stands nowhere else; it may have come in just now.
            let code = &mut self.window[value.wrapping_sub(self.base) as usize];
            if *code == NO_NUMBER {
                *code = fresh;
                make_room(&mut self.values, 1);
                self.values.push(value);
            }
            return *code;
        }
        let (code, new) = self.outside.get_or_insert(value as u64, fresh);
        if new {
            make_room(&mut self.values, 1);
            self.values.push(value);
        }
        code
    }

    /// Takes in what stands outside and the window covers now, as when numbers that leave a gap fill it later.
    fn take_in(&mut self) {
        if self.outside.used == 0 {
            return;
        }
        self.taken_in = self.values.len();
        let outside = std::mem::take(&mut self.outside);
        let place = |word: u64| (word as i64).wrapping_sub(self.base) as u64 as usize;
        let mut left = Vec::new();
        for (at, &(word, code)) in outside.slots.iter().enumerate() {
            if let Some(soon) = outside.slots.get(at + SOON) {
                ask_for(&self.window, place(soon.0));
            }
            match self.window.get_mut(place(word)) {
                _ if code == NO_NUMBER => {}
                Some(place) => *place = code,
                None => left.push((word, code)),
            }
        }
        self.outside = WordTable::of(&left);
    }

    /// Widens the window to hold a value where that is worth its memory.
    fn reach(&mut self, value: i64) -> bool {
        if self.window.is_empty() {
            self.base = value.saturating_sub(64);
            self.window = vec![NO_NUMBER; 1024];
        }
        let (low, high) =
            (i128::from(self.base), i128::from(self.base) + self.window.len() as i128);
        let v = i128::from(value);
        if v >= low && v < high {
            return true;
        }
        // Grow by half again on the side that is short, so that growing stays cheap; what is long and grows where it
        // stands by less.
        let part = if v < low || self.window.len() < LONG_WINDOW { 2 } else { 8 };
        let spare = (self.window.len() / part) as i128;
        let new_low = if v < low { (v - spare).max(i128::from(i64::MIN)) } else { low };
        let new_high = if v >= high { v + spare + 1 } else { high };
        let needed = (new_high - new_low) as u128;
        let known = self.values.len();
        let small = SMALL_WINDOW.min(LEAST_WINDOW.max(known * PLACES_FOR_EACH));
        let limit = small.max(known * SPARSEST);
        if needed > limit as u128 {
            return false;
        }
        // Whenever the window grows, all that stands outside is gone through: where that is much, only when there is
        // half as much again.
        if self.outside.used > known / MUCH_OUTSIDE && known < self.taken_in + self.taken_in / 2 {
            return false;
        }
        if new_low == low {
            // Where there is room behind it, nothing is moved.
            self.window.reserve_exact(needed as usize - self.window.len());
            self.window.resize(needed as usize, NO_NUMBER);
        } else {
            let mut grown = vec![NO_NUMBER; needed as usize];
            let shift = (low - new_low) as usize;
            grown[shift..shift + self.window.len()].copy_from_slice(&self.window);
            self.window = grown;
        }
        self.base = new_low as i64;
        self.take_in();
        true
    }

    /// The code of a number that may need 128 bits.
    pub fn intern_wide(&mut self, value: i128) -> u32 {
        if let Ok(v) = i64::try_from(value) {
            return self.intern(v);
        }
        if self.unplaced {
            self.place_all();
        }
        let fresh = self.values.len() as u32;
        let code = *self.wide.entry(value).or_insert(fresh);
        if code == fresh {
            self.values.push(MISSING_I64);
            self.wide_values.insert(code, value);
        }
        code
    }

    /// The codes that the numbers of another interner have here; new ones are added.
    pub fn absorb(&mut self, other: &Interner) -> Vec<u32> {
        let far = self.is_far() || other.len() > self.len();
        let intern = |(row, value): (usize, i128)| {
            if far && let Some(&soon) = other.values.get(row + SOON) {
                // One that needs more bits is asked for in vain.
                self.ask_for(soon);
            }
            self.intern_wide(value)
        };
        other.values().enumerate().map(intern).collect()
    }
}

/// The largest directly indexed table of pairs, in places (16 MiB).
const DIRECT_PAIRS: usize = 1 << 22;

/// Distinct pairs of codes, numbered from 0 in the order in which they came.
#[derive(Clone, Debug, Default)]
pub struct Pairs {
    /// Directly indexed by `first << shift | second`, while that is small enough.
    direct: Vec<u32>,
    shift: u32,
    table: Option<WordTable>,
    pairs: Vec<(u32, u32)>,
    /// Whether they are in ascending order, and looked for among each other: there is no table.
    are_ordered: bool,
}

impl Pairs {
    /// Pairs of codes below these bounds that may come several times, and the number of each. Where they come in ascending
    /// order, as groups that were put in order do, nothing is looked up, and there is no table.
    pub fn numbering<N: FromIterator<u32>>(
        pairs: impl Iterator<Item = (u32, u32)> + Clone,
        (firsts, seconds): (usize, usize),
    ) -> (Pairs, N) {
        if pairs.clone().is_sorted() {
            let mut all: Vec<(u32, u32)> = Vec::new();
            let number = |pair| {
                if all.last() != Some(&pair) {
                    all.push(pair);
                }
                all.len() as u32 - 1
            };
            let numbers = pairs.map(number).collect();
            return (Pairs::of_ordered(all), numbers);
        }
        let mut it = Pairs::default();
        it.ensure(firsts, seconds);
        let numbers = pairs.map(|(first, second)| it.number(first, second)).collect();
        (it, numbers)
    }

    /// Pairs no two of which are the same, in this order. Where that is ascending, they have no table until one is added.
    pub fn of_ordered(pairs: Vec<(u32, u32)>) -> Pairs {
        match pairs.is_sorted() {
            true => Pairs { pairs, are_ordered: true, ..Pairs::default() },
            false => Pairs::of_distinct(pairs),
        }
    }

    /// Pairs no two of which are the same, in this order.
    pub fn of_distinct(pairs: Vec<(u32, u32)>) -> Pairs {
        Pairs { table: Some(Self::tabled(&pairs)), pairs, ..Pairs::default() }
    }

    /// The table of all pairs.
    fn tabled(pairs: &[(u32, u32)]) -> WordTable {
        let mut table = WordTable::default();
        for (i, &(a, b)) in pairs.iter().enumerate() {
            table.get_or_insert(u64::from(a) << 32 | u64::from(b), i as u32);
        }
        table
    }

    /// About how many bytes of memory the pairs take.
    pub fn size_bytes(&self) -> usize {
        size_of_val(self.direct.as_slice())
            + self.table.as_ref().map_or(0, |t| size_of_val(t.slots.as_slice()))
            + size_of_val(self.pairs.as_slice())
    }

    /// How many distinct pairs there are.
    pub fn len(&self) -> usize {
        self.pairs.len()
    }

    /// Whether no pair has been added.
    pub fn is_empty(&self) -> bool {
        self.pairs.is_empty()
    }

    /// The pairs in the order of their numbers.
    pub fn pairs(&self) -> &[(u32, u32)] {
        &self.pairs
    }

    /// The number of a pair, or `None` when it has not been added.
    pub fn find(&self, first: u32, second: u32) -> Option<u32> {
        match &self.table {
            None if self.are_ordered => {
                self.pairs.binary_search(&(first, second)).ok().map(|at| at as u32)
            }
            None => {
                let in_range = u64::from(second) < 1 << self.shift;
                let place = (first as usize) << self.shift | second as usize;
                self.direct.get(place).copied().filter(|&n| in_range && n != NO_NUMBER)
            }
            Some(table) => table.get(u64::from(first) << 32 | u64::from(second)),
        }
    }

    /// Makes room for codes below these bounds; to be called before [`Pairs::number`] with codes that large.
    pub fn ensure(&mut self, firsts: usize, seconds: usize) {
        if self.table.is_some() || self.are_ordered {
            return;
        }
        let shift = seconds.max(1).next_power_of_two().trailing_zeros().max(self.shift);
        let needed = firsts.max(1).next_power_of_two() << shift;
        if shift == self.shift && needed <= self.direct.len() {
            return;
        }
        if needed > DIRECT_PAIRS {
            self.direct = Vec::new();
            self.table = Some(Self::tabled(&self.pairs));
            return;
        }
        self.direct = vec![NO_NUMBER; needed];
        self.shift = shift;
        for (i, &(a, b)) in self.pairs.iter().enumerate() {
            self.direct[(a as usize) << shift | b as usize] = i as u32;
        }
    }

    /// The number of a pair, which is added when it is new.
    #[inline]
    pub fn number(&mut self, first: u32, second: u32) -> u32 {
        if self.are_ordered {
            return self.number_ordered(first, second);
        }
        match &mut self.table {
            None => {
                let place = (first as usize) << self.shift | second as usize;
                let number = self.direct[place];
                if number != NO_NUMBER {
                    return number;
                }
                let fresh = self.pairs.len() as u32;
                self.direct[place] = fresh;
                self.pairs.push((first, second));
                fresh
            }
            Some(table) => {
                let fresh = self.pairs.len() as u32;
                let word = u64::from(first) << 32 | u64::from(second);
                let (number, new) = table.get_or_insert(word, fresh);
                if new {
                    self.pairs.push((first, second));
                }
                number
            }
        }
    }

    /// Puts the number of each pair in place of its first code, as [`Pairs::number`] gives it.
    pub fn number_all(&mut self, firsts: &mut [u32], seconds: &[u32]) {
        let (mut firsts, mut seconds) = (firsts, seconds);
        // As far as pairs are known and have a place, nothing else is looked at.
        while !self.direct.is_empty() {
            let place = |first: u32, second: u32| (first as usize) << self.shift | second as usize;
            let mut known = 0;
            for (first, &second) in firsts.iter_mut().zip(seconds) {
                match self.direct.get(place(*first, second)) {
                    Some(&number) if number != NO_NUMBER => *first = number,
                    _ => break,
                }
                known += 1;
            }
            let (Some((first, rest)), Some((&second, others))) =
                (firsts[known..].split_first_mut(), seconds[known..].split_first())
            else {
                return;
            };
            *first = self.number(*first, second);
            (firsts, seconds) = (rest, others);
        }
        for (first, &second) in firsts.iter_mut().zip(seconds) {
            *first = self.number(*first, second);
        }
    }

    /// Adds pairs that may come several times without looking any of them up, each with a number of its own, which is put in
    /// place of its first code. Nothing but [`Pairs::pairs`] and their count is to be asked of them afterwards.
    pub fn list(&mut self, firsts: &mut [u32], seconds: &[u32]) {
        make_room(&mut self.pairs, seconds.len());
        for (first, &second) in firsts.iter_mut().zip(seconds) {
            let number = self.pairs.len() as u32;
            self.pairs.push((std::mem::replace(first, number), second));
        }
    }

    #[cold]
    fn number_ordered(&mut self, first: u32, second: u32) -> u32 {
        if let Some(number) = self.find(first, second) {
            return number;
        }
        self.table = Some(Self::tabled(&self.pairs));
        self.are_ordered = false;
        self.number(first, second)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn numbers_get_the_codes_of_a_plain_list(
            values in prop_oneof![
                proptest::collection::vec(prop_oneof![0i64..100, any::<i64>(), 1_000_000i64..1_100_000], 0..400),
                proptest::collection::vec(-1i64 << 50..1 << 50, 0..400),
                proptest::collection::vec(prop_oneof![99 => 0i64..5_000, 1 => any::<i64>()], 0..900),
                // In their order, with a gap that is filled later.
                (0usize..3_000, 0usize..3_000).prop_map(|(a, b)| {
                    let mut all: Vec<i64> = (0..3_000).collect();
                    all.rotate_left(a);
                    all[..b].reverse();
                    all
                }),
            ]
        ) {
            let (mut it, mut plain) = (Interner::default(), Vec::new());
            for &v in &values {
                let code = plain.iter().position(|&p| p == v).unwrap_or_else(|| { plain.push(v); plain.len() - 1 });
                prop_assert_eq!(it.intern(v) as usize, code);
            }
            prop_assert_eq!(it.len(), plain.len());
            let mut ordered: Vec<u32> = (0..plain.len() as u32).collect();
            ordered.sort_by_key(|&code| plain[code as usize]);
            prop_assert_eq!(it.ordered(), ordered);
            let mut other = Interner::default();
            other.intern_wide(i128::MAX);
            prop_assert_eq!(other.absorb(&it), (1..=plain.len() as u32).collect::<Vec<_>>());
        }

        #[test]
        fn numbers_that_come_in_batches_get_the_codes_of_a_plain_list(
            mut values in prop_oneof![
                proptest::collection::vec(0i64..300, 1..400),
                proptest::collection::vec(prop_oneof![Just(MISSING_I64), any::<i64>()], 1..400),
            ],
            is_sorted in any::<bool>(), late in proptest::collection::vec(any::<proptest::sample::Index>(), 0..3),
            batch in 1usize..100,
        ) {
            if is_sorted {
                values.sort_unstable();
            }
            let late: Vec<i64> = late.iter().map(|at| values[at.index(values.len())]).collect();
            values.extend(late);
            let (mut it, mut plain, mut codes) = (Interner::default(), Vec::new(), Vec::new());
            values.chunks(batch).for_each(|values| it.intern_all(values, 1, 0, &mut codes));
            let code = |&v: &i64| match v {
                MISSING_I64 => 0,
                v => 1 + plain.iter().position(|&p| p == v).unwrap_or_else(|| { plain.push(v); plain.len() - 1 }),
            };
            let expected: Vec<usize> = values.iter().map(code).collect();
            prop_assert!(codes.iter().map(|&code| code as usize).eq(expected));
            prop_assert_eq!(it.is_ordered(), plain.is_sorted());
            prop_assert!(it.values().eq(plain.iter().map(|&v| i128::from(v))));
            prop_assert!(plain.iter().zip(0..).all(|(&v, code)| it.intern(v) == code));
            prop_assert_eq!(it.len(), plain.len());
            let small = |&v: &i64| if v == MISSING_I64 { MISSING_I32 } else { (v % 5000) as i32 };
            let small: Vec<i32> = values.iter().map(small).collect();
            let as_large = |&v: &i32| if v == MISSING_I32 { MISSING_I64 } else { i64::from(v) };
            let large: Vec<i64> = small.iter().map(as_large).collect();
            let (mut of_small, mut of_large) = (Vec::new(), Vec::new());
            let (mut one, mut other) = (Interner::default(), Interner::default());
            small.chunks(batch).for_each(|values| one.intern_all(values, 1, 0, &mut of_small));
            large.chunks(batch).for_each(|values| other.intern_all(values, 1, 0, &mut of_large));
            prop_assert_eq!(of_small, of_large);
        }

        #[test]
        fn pairs_get_the_numbers_of_a_plain_list(
            values in proptest::collection::vec((prop_oneof![0u32..4, 0u32..3000], prop_oneof![0u32..4, 0u32..3000]), 0..300),
            batch in 1usize..100,
        ) {
            let (mut it, mut plain) = (Pairs::default(), Vec::new());
            let (mut firsts, mut seconds) = (0, 0);
            for &v in &values {
                firsts = firsts.max(v.0 as usize + 1);
                seconds = seconds.max(v.1 as usize + 1);
                it.ensure(firsts, seconds);
                let code = plain.iter().position(|&p| p == v).unwrap_or_else(|| { plain.push(v); plain.len() - 1 });
                prop_assert_eq!(it.number(v.0, v.1) as usize, code);
            }
            let (mut all, mut numbers, seconds_of_all): (_, Vec<u32>, Vec<u32>) =
                (Pairs::default(), values.iter().map(|v| v.0).collect(), values.iter().map(|v| v.1).collect());
            all.ensure(firsts, seconds);
            for (firsts, seconds) in numbers.chunks_mut(batch).zip(seconds_of_all.chunks(batch)) {
                all.number_all(firsts, seconds);
            }
            prop_assert_eq!(all.pairs(), it.pairs());
            let (mut listed, mut places) = (Pairs::default(), Vec::new());
            for some in values.chunks(batch) {
                let (mut firsts, seconds): (Vec<u32>, Vec<u32>) = some.iter().copied().unzip();
                listed.list(&mut firsts, &seconds);
                places.extend(firsts);
            }
            prop_assert_eq!(listed.pairs(), &values[..]);
            prop_assert!(places.into_iter().eq(0..values.len() as u32));
            prop_assert!(numbers.iter().map(|&n| it.pairs()[n as usize]).eq(values.iter().copied()));
            let mut sorted = values.clone();
            sorted.sort_unstable();
            for values in [values, sorted] {
                let (it, numbers): (_, Vec<u32>) = Pairs::numbering(values.iter().copied(), (firsts, seconds));
                let each = numbers.iter().map(|&n| it.pairs()[n as usize]);
                prop_assert!(each.eq(values.iter().copied()));
                prop_assert_eq!(it.len(), plain.len());
            }
            // In ascending order, and some more.
            let (more, mut ordered) = (plain.clone(), plain[..plain.len() / 2].to_vec());
            ordered.sort_unstable();
            for (mut it, mut plain) in [(Pairs::of_ordered(ordered.clone()), ordered), (Pairs::of_ordered(plain.clone()), plain)] {
                it.ensure(firsts, seconds);
                for &v in &more {
                    let code = plain.iter().position(|&p| p == v);
                    prop_assert_eq!(it.find(v.0, v.1).map(|n| n as usize), code);
                    let code = code.unwrap_or_else(|| { plain.push(v); plain.len() - 1 });
                    prop_assert_eq!(it.number(v.0, v.1) as usize, code);
                }
                prop_assert_eq!(it.pairs(), &plain[..]);
            }
        }
    }
}
