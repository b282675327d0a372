//! Lists of numbers that take no memory where each is as far from the one before as the second from the first.
//!
//! Groups, their codes and their lines are numbered many times over, and mostly each has the number of its place: with a
//! hundred million groups, lists that say so were a third of all that the table wrote. Whoever collects numbers need not
//! know which they will be.

use oeuvre_columns::column::{Column, NO_NUMBER};
use std::ops::Range;

/// Numbers in an order of their own.
#[derive(Clone, Debug)]
pub(crate) enum Sequence {
    /// So many, from a first one on by the same step; they wrap around.
    Even {
        first: u32,
        step: u32,
        len: usize,
    },
    Listed(Vec<u32>),
}

impl Sequence {
    /// The numbers from 0 on.
    pub(crate) fn counted(len: usize) -> Sequence {
        Sequence::Even { first: 0, step: 1, len }
    }

    /// The same number so many times.
    pub(crate) fn same(number: u32, len: usize) -> Sequence {
        Sequence::Even { first: number, step: 0, len }
    }

    pub(crate) fn len(&self) -> usize {
        match self {
            Sequence::Even { len, .. } => *len,
            Sequence::Listed(list) => list.len(),
        }
    }

    /// The number at a place, which must be one of the list.
    #[inline]
    pub(crate) fn at(&self, place: usize) -> u32 {
        match self {
            Sequence::Even { first, step, len } => {
                assert!(place < *len);
                first.wrapping_add(step.wrapping_mul(place as u32))
            }
            Sequence::Listed(list) => list[place],
        }
    }

    pub(crate) fn iter(
        &self,
    ) -> impl DoubleEndedIterator<Item = u32> + ExactSizeIterator + Clone + '_ {
        (0..self.len()).map(|place| self.at(place))
    }

    /// Whether each number is that of its place.
    pub(crate) fn is_counted(&self) -> bool {
        self.counts_from(0)
    }

    /// Whether the numbers are those from a first one on.
    pub(crate) fn counts_from(&self, start: u32) -> bool {
        match self {
            Sequence::Even { first, step, len } => match len {
                0 => true,
                1 => *first == start,
                _ => (*first, *step) == (start, 1),
            },
            Sequence::Listed(list) => {
                list.iter().zip(start..).all(|(number, expected)| *number == expected)
            }
        }
    }

    /// The numbers at some places, each of which must be one of the list.
    pub(crate) fn of(&self, places: &Sequence) -> Sequence {
        match self.len() == places.len() && places.is_counted() {
            true => self.clone(),
            false => places.iter().map(|place| self.at(place as usize)).collect(),
        }
    }

    /// So many numbers, each at the place that another list says, of which the last one counts; 0 where there is none.
    pub(crate) fn scattered(self, places: &Sequence, len: usize) -> Sequence {
        if self.len() == len && places.is_counted() {
            return self;
        }
        let mut list = vec![0; len];
        places.iter().zip(self.iter()).for_each(|(place, number)| list[place as usize] = number);
        Sequence::Listed(list)
    }

    /// Whether picking the values of a column at these places gives the column.
    pub(crate) fn picks_all(&self, column: &Column) -> bool {
        self.len() == column.data.len() && self.is_counted()
    }

    /// The values of a column at these places; missing where it has none.
    pub(crate) fn pick(&self, column: &Column) -> Column {
        let rows = column.data.len();
        match *self {
            Sequence::Listed(ref list) => column.gather(list),
            Sequence::Even { first, step: 1, len } if first as usize <= rows => {
                let there = (rows - first as usize).min(len);
                let mut picked = column.slice(first as usize..first as usize + there);
                picked.data.add_missing(len - there);
                picked
            }
            Sequence::Even { .. } => column.gather(&self.to_vec()),
        }
    }

    pub(crate) fn to_vec(&self) -> Vec<u32> {
        match self {
            Sequence::Even { .. } => self.iter().collect(),
            Sequence::Listed(list) => list.clone(),
        }
    }

    /// The numbers in a list, which they need not stay in their order in.
    pub(crate) fn listed(&mut self) -> &mut Vec<u32> {
        if let Sequence::Even { .. } = self {
            *self = Sequence::Listed(self.to_vec());
        }
        match self {
            Sequence::Listed(list) => list,
            Sequence::Even { .. } => unreachable!("it was listed"),
        }
    }

    /// The number with which a list stays as even as it is: that before the numbers from 0 on, where there is none.
    pub(crate) fn next(&self) -> u32 {
        match self {
            Sequence::Even { first, step, len } => match len {
                0 => NO_NUMBER,
                1 => first.wrapping_add(1),
                len => first.wrapping_add(step.wrapping_mul(*len as u32)),
            },
            Sequence::Listed(_) => NO_NUMBER,
        }
    }

    /// Adds a number.
    pub(crate) fn push(&mut self, number: u32) {
        match self {
            Sequence::Even { first, step, len } => {
                match *len {
                    0 => *first = number,
                    1 => *step = number.wrapping_sub(*first),
                    at if number != first.wrapping_add(step.wrapping_mul(at as u32)) => {
                        let list = self.listed();
                        list.reserve(list.len() + 1);
                        return list.push(number);
                    }
                    _ => {}
                }
                *len += 1;
            }
            Sequence::Listed(list) => list.push(number),
        }
    }

    /// The numbers at a range of places, which must be in the list.
    pub(crate) fn range(
        &self,
        places: Range<usize>,
    ) -> impl DoubleEndedIterator<Item = u32> + ExactSizeIterator + Clone + '_ {
        places.map(|place| self.at(place))
    }
}

/// For each code of a key the place of its label among all. Missing, which has code 0, comes last.
#[derive(Clone, Debug)]
pub(crate) struct Ranks(Sequence);

impl Ranks {
    /// So many codes beside missing, in the order of their labels.
    pub(crate) fn counted(codes: usize) -> Ranks {
        Ranks(Sequence::counted(codes))
    }

    /// The places of codes that stand in this order, of all but missing.
    pub(crate) fn of_order(order: &[u32]) -> Ranks {
        if order.iter().copied().eq(1..=order.len() as u32) {
            return Ranks::counted(order.len());
        }
        let mut ranks = vec![0; order.len()];
        order.iter().zip(0..).for_each(|(&code, rank)| ranks[code as usize - 1] = rank);
        Ranks(Sequence::Listed(ranks))
    }

    /// How many codes there are, missing among them.
    pub(crate) fn len(&self) -> usize {
        self.0.len() + 1
    }

    /// The place of a code, which there must be.
    #[inline]
    pub(crate) fn of(&self, code: u32) -> u32 {
        match code {
            0 => self.0.len() as u32,
            code => self.0.at(code as usize - 1),
        }
    }
}

impl Default for Sequence {
    fn default() -> Sequence {
        Sequence::counted(0)
    }
}

impl FromIterator<u32> for Sequence {
    fn from_iter<I: IntoIterator<Item = u32>>(numbers: I) -> Sequence {
        let mut numbers = numbers.into_iter();
        let Some(first) = numbers.next() else { return Sequence::counted(0) };
        let Some(second) = numbers.next() else { return Sequence::same(first, 1) };
        let (step, mut len) = (second.wrapping_sub(first), 2);
        while let Some(number) = numbers.next() {
            let even = Sequence::Even { first, step, len: len + 1 };
            if number != even.at(len) {
                let mut list = Vec::with_capacity(len + 1 + numbers.size_hint().0);
                list.extend(even.iter().take(len));
                list.push(number);
                list.extend(numbers);
                return Sequence::Listed(list);
            }
            len += 1;
        }
        Sequence::Even { first, step, len }
    }
}

#[cfg(test)]
mod tests {
    use super::{Ranks, Sequence};
    use oeuvre_columns::column::{Column, Data};
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_sequence_is_the_list_that_it_was_collected_from(
            (first, step) in (any::<u32>(), prop_oneof![Just(0u32), Just(1), any::<u32>()]),
            even in 0usize..9, tail in proptest::collection::vec(any::<u32>(), 0..4),
        ) {
            let number = |at: usize| first.wrapping_add(step.wrapping_mul(at as u32));
            let list: Vec<u32> = (0..even).map(number).chain(tail.iter().copied()).collect();
            let sequence: Sequence = list.iter().copied().collect();
            prop_assert_eq!(sequence.to_vec(), &list[..]);
            prop_assert_eq!(sequence.len(), list.len());
            prop_assert!(sequence.iter().rev().eq(list.iter().rev().copied()));
            let mut pushed = Sequence::counted(0);
            list.iter().for_each(|&number| pushed.push(number));
            prop_assert_eq!(pushed.to_vec(), &list[..]);
            let tail_of: Vec<u32> = sequence.range(1.min(list.len())..list.len()).collect();
            prop_assert_eq!(&tail_of[..], list.get(1..).unwrap_or_default());
            // Nothing is listed that follows from where it begins.
            prop_assert_eq!(sequence.is_counted(), list.iter().copied().eq(0..list.len() as u32));
            for sequence in [sequence, pushed] {
                let is_even = matches!(sequence, Sequence::Even { .. });
                prop_assert!(is_even || !tail.is_empty());
            }
        }

        #[test]
        fn what_is_picked_stands_at_the_places(
            (first, step) in (0u32..9, prop_oneof![Just(1u32), Just(0), Just(2)]), len in 0usize..9,
            values in proptest::collection::vec(any::<i64>(), 0..9),
        ) {
            let column = Column::from(Data::I64(values));
            let places = Sequence::Even { first, step, len };
            let list = places.to_vec();
            let all = |column: Column| column.data.to_i128();
            let expected = all(column.gather(&list));
            prop_assert_eq!(all(places.pick(&column)), &expected[..]);
            prop_assert_eq!(all(Sequence::Listed(list.clone()).pick(&column)), expected);
            let is_whole = list.into_iter().eq(0..column.data.len() as u32);
            prop_assert_eq!(places.picks_all(&column), is_whole);
        }

        #[test]
        fn ranks_are_places_in_an_order(order in order(6)) {
            let ranks = Ranks::of_order(&order);
            prop_assert_eq!(ranks.len(), 7);
            prop_assert_eq!(ranks.of(0), 6);
            prop_assert!(order.iter().zip(0..).all(|(&code, place)| ranks.of(code) == place));
        }

        #[test]
        fn numbers_are_picked_and_scattered_by_place(
            numbers in numbers(5), places in numbers(5),
        ) {
            let (all, at): (Sequence, Sequence) =
                (numbers.iter().copied().collect(), places.iter().copied().collect());
            let picked: Vec<u32> = places.iter().map(|&place| numbers[place as usize]).collect();
            prop_assert_eq!(all.of(&at).to_vec(), picked);
            let mut scattered = [0; 5];
            places.iter().zip(&numbers).for_each(|(&at, &number)| scattered[at as usize] = number);
            prop_assert_eq!(all.scattered(&at, 5).to_vec(), scattered);
        }
    }

    /// So many numbers below their count, often in their order.
    fn numbers(count: u32) -> impl Strategy<Value = Vec<u32>> {
        let any = proptest::collection::vec(0..count, count as usize);
        prop_oneof![Just((0..count).collect()), any]
    }

    /// The numbers from 1 on, in some order.
    fn order(count: u32) -> impl Strategy<Value = Vec<u32>> {
        let in_order: Vec<u32> = (1..=count).collect();
        prop_oneof![Just(in_order.clone()), Just(in_order).prop_shuffle()]
    }
}
