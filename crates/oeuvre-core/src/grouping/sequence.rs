//! Lists of numbers that take no memory where each is as far from the one before as the second from the first.
//!
//! Groups, their codes and their lines are numbered many times over, and mostly each has the number of its place: with a
//! hundred million groups, lists that say so were a third of all that the table wrote. Whoever collects numbers need not
//! know which they will be.

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
        match self {
            Sequence::Even { first, step, len } => match len {
                0 => true,
                1 => *first == 0,
                _ => (*first, *step) == (0, 1),
            },
            Sequence::Listed(list) => list.iter().copied().eq(0..list.len() as u32),
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

    pub(crate) fn to_vec(&self) -> Vec<u32> {
        match self {
            Sequence::Even { .. } => self.iter().collect(),
            Sequence::Listed(list) => list.clone(),
        }
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
    use super::Sequence;
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
            // Nothing is listed that follows from where it begins.
            prop_assert_eq!(sequence.is_counted(), list.iter().copied().eq(0..list.len() as u32));
            let is_even = matches!(sequence, Sequence::Even { .. });
            prop_assert!(is_even || !tail.is_empty());
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
}
