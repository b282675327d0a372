//! How many rows came in each group, counted once for all states that are to know it.
//!
//! Where groups are few, counting takes as long as adding up. A count of the rows, `count()`, and what a sum or a mean is of are
//! the same numbers wherever no value is missing, so that they are counted here, and told to the states now and then.

use crate::aggregate::State;

/// Up to so many groups, group 0 included, rows are counted here: their counts stay in a near cache.
const FEW: usize = if cfg!(test) { 4 } else { 1 << 12 };
/// Rows that follow each other are counted apart: none waits for what the one before it has written.
const APART: usize = 2;
/// After so many rows they are told, so that no count overflows.
const MOST_ROWS: usize = if cfg!(test) { 16 } else { 1 << 30 };

/// Rows that were counted, and which states do not know of them yet.
#[derive(Default)]
pub(super) struct RowCounts {
    /// Of each group, in parts.
    of_groups: Vec<[u32; APART]>,
    rows: usize,
    /// The states that wait to be told, by their places.
    waiting: Vec<usize>,
    /// Those that wait to be told of the rows that come now.
    now: Vec<usize>,
}

impl RowCounts {
    /// Whether rows of so many groups are counted here.
    pub(super) fn are_for(groups: usize) -> bool {
        groups <= FEW
    }

    /// A state has not counted the rows that come now.
    pub(super) fn waits(&mut self, state: usize) {
        self.now.push(state);
    }

    /// Counts the rows that come now, for the states that wait; what others wait for is told them before.
    pub(super) fn add<'s>(
        &mut self,
        rows: &[u32],
        groups: usize,
        states: impl FnOnce() -> Vec<&'s mut dyn State>,
    ) {
        if self.now != self.waiting || self.rows + rows.len() > MOST_ROWS {
            self.tell(states());
        }
        std::mem::swap(&mut self.now, &mut self.waiting);
        self.now.clear();
        self.of_groups.resize(self.of_groups.len().max(groups), [0; APART]);
        self.rows += rows.len();
        let of_groups = &mut self.of_groups[..];
        let (chunks, rest) = rows.as_chunks::<APART>();
        for chunk in chunks {
            for (part, &group) in chunk.iter().enumerate() {
                of_groups[group as usize][part] += 1;
            }
        }
        rest.iter().for_each(|&group| of_groups[group as usize][0] += 1);
    }

    /// Tells the states that wait; all states stand in their order.
    pub(super) fn tell(&mut self, mut states: Vec<&mut dyn State>) {
        if self.rows > 0 {
            let counts: Vec<u64> = self
                .of_groups
                .iter()
                .map(|parts| parts.iter().copied().map(u64::from).sum())
                .collect();
            self.waiting.iter().for_each(|&state| states[state].count_rows(&counts));
        }
        self.of_groups.clear();
        (self.rows, self.waiting) = (0, Vec::new());
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::aggregate::count::Counts;
    use oeuvre_columns::column::Column;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn states_that_wait_are_told_of_their_rows_and_no_others(
            batches in proptest::collection::vec((proptest::collection::vec(0u32..4, 0..12), any::<[bool; 2]>()), 0..8),
        ) {
            let mut counts = [Counts::default(), Counts::default()];
            let mut plain = [[0u64; 4]; 2];
            let mut untold = RowCounts::default();
            for (rows, waits) in &batches {
                for state in (0..2).filter(|&state| waits[state]) {
                    untold.waits(state);
                    rows.iter().for_each(|&group| plain[state][group as usize] += 1);
                }
                counts.iter_mut().for_each(|state| state.0.resize(4));
                let [one, other] = &mut counts;
                untold.add(rows, 4, || vec![one as &mut dyn State, other]);
            }
            let [one, other] = &mut counts;
            untold.tell(vec![one, other]);
            for (counts, plain) in counts.iter().zip(plain) {
                let counted: Vec<u64> = (0..4).map(|group| counts.0.at(group)).collect();
                prop_assert_eq!(counted, plain);
            }
        }

        #[test]
        fn what_is_not_counted_and_told_later_comes_to_what_is_counted(
            batches in proptest::collection::vec(
                proptest::collection::vec((0u32..3, prop_oneof![20 => Just(Some(i64::MAX / 3)), 20 => (-9i64..9).prop_map(Some), 1 => Just(None)]), 0..40),
                0..6,
            ),
            is_one in any::<bool>(),
        ) {
            use crate::aggregate::{Rows, count::Count, sums::Sum, Aggregate};
            use oeuvre_columns::column::{Data, MISSING_I64};
            use oeuvre_columns::value::Kind;
            let kinds = [Kind::Number { scale: 0 }];
            for aggregate in [&Sum as &dyn Aggregate, &Count] {
                let (mut plain, mut told) = (aggregate.state(&kinds), aggregate.state(&kinds));
                plain.resize(3);
                told.resize(3);
                for rows in &batches {
                    let groups: Vec<u32> = rows.iter().map(|it| if is_one { 1 } else { it.0 }).collect();
                    let values = rows.iter().map(|it| it.1.unwrap_or(MISSING_I64)).collect();
                    let column = Column::from(Data::I64(values));
                    let rows = Rows { groups: &groups, args: &[&column], piece: 0 };
                    plain.update(rows).unwrap();
                    if told.update_uncounted(rows).unwrap() {
                        let mut counts = [0u64; 3];
                        groups.iter().for_each(|&group| counts[group as usize] += 1);
                        told.count_rows(&counts);
                    }
                }
                let result = |state: &dyn State| {
                    let column = aggregate.finish(state, &kinds).unwrap();
                    [0, 1].map(|group| column.value(kinds[0], group).to_string())
                };
                prop_assert_eq!(result(plain.as_ref()), result(told.as_ref()));
            }
        }
    }
}
