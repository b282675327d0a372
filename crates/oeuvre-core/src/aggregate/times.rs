//! How often something occurred in each group, in a byte a group.
//!
//! Most of many groups are small: a line for each booking counts one row a line. So each group has a byte, and whenever
//! that has gone round, the group carries one: no more often than once in 256 rows, however the rows are distributed.

use super::encoding::{Damaged, Decoder, Encoder};
use oeuvre_columns::column::ahead::{SOON, ask_for, is_far};
use oeuvre_columns::room::lengthen;
use std::collections::BTreeMap;

/// A whole number for each group. No data has so many rows that one overflows.
#[derive(Clone, Debug, Default)]
pub(crate) struct Times {
    /// The lowest byte of each.
    low: Vec<u8>,
    carried: Carried,
}

/// How often the byte of a group has gone round, of those where it has.
#[derive(Clone, Debug, Default)]
pub(crate) struct Carried(BTreeMap<u32, u64>);

/// What a byte holds.
const ROUND: u64 = 1 << 8;

impl Carried {
    /// The byte of a group goes round so many times.
    #[cold]
    #[inline(never)]
    fn add(&mut self, group: u32, rounds: u64) {
        let it = self.0.entry(group).or_default();
        *it = it.wrapping_add(rounds);
    }
}

/// Adds one to the byte of a group, or nothing.
#[inline(always)]
pub(crate) fn add_one(low: &mut [u8], carried: &mut Carried, group: u32, is_one: bool) {
    let it = &mut low[group as usize];
    let (more, is_round) = it.overflowing_add(u8::from(is_one));
    *it = more;
    if is_round {
        carried.add(group, 1);
    }
}

/// Takes one away from the byte of a group, or nothing: as many are added to it later on.
#[inline(always)]
pub(crate) fn take_one_away(low: &mut [u8], carried: &mut Carried, group: u32, is_one: bool) {
    let it = &mut low[group as usize];
    let (less, is_round) = it.overflowing_sub(u8::from(is_one));
    *it = less;
    if is_round {
        carried.add(group, u64::MAX);
    }
}

impl Times {
    /// The lowest bytes and what was carried, for [`add_one`] in a loop of one's own.
    pub(crate) fn parts(&mut self) -> (&mut [u8], &mut Carried) {
        (&mut self.low, &mut self.carried)
    }

    /// How many groups have one, group 0 included.
    fn len(&self) -> usize {
        self.low.len()
    }

    /// That of a group; 0 where there is none.
    #[inline]
    pub(crate) fn at(&self, group: usize) -> u64 {
        let low = self.low.get(group).map_or(0, |&low| low.into());
        match self.carried.0.is_empty() {
            true => low,
            false => number(low, self.carried.0.get(&(group as u32))),
        }
    }

    /// Those of all groups, group 0 first.
    pub(crate) fn iter(&self) -> impl Iterator<Item = u64> + Clone + '_ {
        let mut carried = self.carried.0.iter();
        let mut next = carried.next();
        (0..).zip(&self.low).map(move |(group, &low)| match next {
            Some((&of, rounds)) if of == group => {
                next = carried.next();
                number(low.into(), Some(rounds))
            }
            _ => low.into(),
        })
    }

    /// How many bytes they take.
    pub(crate) fn size_bytes(&self) -> usize {
        self.low.len() + self.carried.0.len() * size_of::<(u32, u64)>()
    }

    /// Makes room for so many groups, group 0 included.
    pub(crate) fn resize(&mut self, groups: usize) {
        lengthen(&mut self.low, groups, 0);
    }

    /// Adds to the number of a group.
    #[inline]
    pub(crate) fn add(&mut self, group: u32, more: u64) {
        let it = &mut self.low[group as usize];
        let (low, is_round) = it.overflowing_add(more as u8);
        *it = low;
        let rounds = more / ROUND + u64::from(is_round);
        if rounds > 0 {
            self.carried.add(group, rounds);
        }
    }

    /// Adds one for the group of each row.
    pub(crate) fn add_rows(&mut self, groups: &[u32]) {
        let (low, carried) = self.parts();
        let far = is_far(low);
        for (row, &group) in groups.iter().enumerate() {
            if far && let Some(&soon) = groups.get(row + SOON) {
                ask_for(low, soon as usize);
            }
            add_one(low, carried, group, true);
        }
    }

    /// Adds one for each row of which that is so, in its group.
    pub(crate) fn add_where(&mut self, rows: impl Iterator<Item = (u32, bool)>) {
        let (low, carried) = self.parts();
        rows.for_each(|(group, is_one)| add_one(low, carried, group, is_one));
    }

    /// Adds so many for each group, group 0 first.
    pub(crate) fn add_each(&mut self, of_groups: &[u64]) {
        let some = (0..).zip(of_groups).filter(|(_, more)| **more > 0);
        some.for_each(|(group, &more)| self.add(group, more));
    }

    /// Adds the numbers of other groups, each to the one its group is mapped to; at 0 to none.
    pub(crate) fn merge(&mut self, others: &Times, map: &[u32]) {
        let some = map.iter().zip(others.iter()).filter(|(to, _)| **to != 0);
        some.for_each(|(&to, more)| self.add(to, more));
    }

    /// Writes down that of a group.
    pub(crate) fn encode(&self, group: usize, to: &mut Encoder) {
        to.unsigned(u128::from(self.at(group)));
    }

    /// Reads that of one more group.
    pub(crate) fn decode_next(&mut self, from: &mut Decoder<'_>) -> Result<(), Damaged> {
        let (group, times) = (self.len(), from.times()?);
        self.resize(group + 1);
        self.add(group as u32, times);
        Ok(())
    }
}

fn number(low: u64, rounds: Option<&u64>) -> u64 {
    rounds.map_or(low, |rounds| rounds.saturating_mul(ROUND).saturating_add(low))
}

impl FromIterator<u64> for Times {
    fn from_iter<I: IntoIterator<Item = u64>>(numbers: I) -> Times {
        let mut times = Times::default();
        for (group, n) in (0..).zip(numbers) {
            times.low.push(0);
            times.add(group, n);
        }
        times
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Small numbers, and those where bytes go round.
    fn number() -> impl Strategy<Value = u64> {
        let edge = prop_oneof![Just(1u64 << 8), Just(1 << 16), Just(1 << 32), Just(1 << 47)];
        prop_oneof![0u64..3, edge.prop_flat_map(|edge| edge - 4..edge + 4)]
    }

    proptest! {
        /// Against plain lists.
        #[test]
        fn a_byte_and_what_was_carried_are_the_number(
            numbers in proptest::collection::vec(number(), 1..20),
            others in proptest::collection::vec(number(), 1..20),
            rows in proptest::collection::vec((any::<prop::sample::Index>(), any::<bool>()), 0..900),
            maps in proptest::collection::vec(any::<prop::sample::Index>(), 20),
        ) {
            let mut plain = numbers.clone();
            let mut times: Times = numbers.iter().copied().collect();
            let other: Times = others.iter().copied().collect();
            let groups: Vec<u32> =
                rows.iter().map(|(group, _)| group.index(plain.len()) as u32).collect();
            let map: Vec<u32> = maps.iter().map(|to| to.index(plain.len()) as u32).collect();

            times.add_rows(&groups);
            groups.iter().for_each(|&group| plain[group as usize] += 1);
            let ones = || groups.iter().copied().zip(rows.iter().map(|(_, is_one)| *is_one));
            times.add_where(ones());
            ones().for_each(|(group, is_one)| plain[group as usize] += u64::from(is_one));
            times.merge(&other, &map);
            let some = map.iter().zip(&others).filter(|(to, _)| **to != 0);
            some.for_each(|(&to, n)| plain[to as usize] += n);

            prop_assert_eq!(&times.iter().collect::<Vec<_>>(), &plain);
            let each: Vec<u64> = (0..=plain.len()).map(|group| times.at(group)).collect();
            prop_assert_eq!(&each[..plain.len()], &plain);
            prop_assert_eq!(each[plain.len()], 0);
        }
    }

    #[test]
    fn what_no_data_has_stops_at_the_largest_number() {
        let mut times: Times = [u64::MAX, u64::MAX - 1].into_iter().collect();
        times.add(0, u64::MAX);
        times.add(1, 1);
        assert_eq!(times.iter().collect::<Vec<_>>(), [u64::MAX, u64::MAX]);
    }
}
