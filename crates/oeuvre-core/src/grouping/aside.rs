//! Groups that outgrow memory: put aside in the order of their key, and joined in that order.
//!
//! Rows that come in no order touch their groups here and there. While all groups are at hand nothing is faster; where they
//! outgrow what may be held, each would wait for a page. So a worker whose groups take more than its room puts them
//! aside in the order of their key and begins anew. What was put aside is joined two by two, of about the same size,
//! from the first group to the last: each is written as often as the number of pieces has binary digits, and always in order.
//!
//! Groups of one key that is no text (a number, a day) are put aside; those of other keys stay whole, and so do groups that
//! come in the order of their key.

use super::codes::Grouper;
use super::states::{GroupStates, merge_all};
use crate::aggregate::count::Counts;
use crate::aggregate::{Overflow, State};
use crate::plan::Grouping;
use std::cmp::Reverse;
use std::collections::BTreeSet;

/// What a worker has put aside of a grouping.
#[derive(Default)]
pub(super) struct Aside {
    /// Each in the order of its key, the largest first.
    pieces: Vec<GroupStates>,
    /// From so many groups on it is looked again how much they take.
    next_look: usize,
}

impl Aside {
    /// How many pieces there are.
    #[cfg(test)]
    pub(super) fn pieces(&self) -> usize {
        self.pieces.len()
    }

    /// Puts groups aside if they take more than there is room for.
    pub(super) fn take(
        &mut self,
        groups: &mut GroupStates,
        plan: &Grouping,
        room: usize,
    ) -> Result<(), Overflow> {
        let count = groups.grouper.groups();
        if count < self.next_look {
            return Ok(());
        }
        self.next_look = count + count / 8;
        // Groups that come in order are touched in order where they are.
        if groups.bytes_at_random() <= room || !groups.grouper.is_in_no_order() {
            return Ok(());
        }
        match in_order(groups)? {
            Some(piece) => {
                *groups = GroupStates::new(plan);
                self.next_look = 0;
                self.push(piece)
            }
            None => Ok(()),
        }
    }

    /// Takes in what another worker has put aside.
    pub(super) fn absorb(&mut self, other: Aside) -> Result<(), Overflow> {
        other.pieces.into_iter().try_for_each(|piece| self.push(piece))
    }

    /// Brings everything that was put aside back to the groups at hand.
    pub(super) fn settle(
        &mut self,
        groups: &mut GroupStates,
        threads: usize,
    ) -> Result<(), Overflow> {
        if self.pieces.is_empty() {
            return Ok(());
        }
        match in_order(groups)? {
            Some(piece) => self.add(piece),
            // Numbers have come that these orders do not hold.
            None => {
                let mut pieces = std::mem::take(&mut self.pieces).into_iter();
                return pieces.try_for_each(|piece| groups.absorb(&piece, threads));
            }
        }
        while self.pieces.len() > 1 {
            self.join_last(threads)?;
        }
        self.pieces.pop().into_iter().for_each(|all| *groups = all);
        Ok(())
    }

    fn add(&mut self, piece: GroupStates) {
        self.pieces.push(piece);
        self.pieces.sort_by_key(|piece| Reverse(piece.grouper.groups()));
    }

    /// Adds a piece, and joins the last ones while they are of about the same size.
    fn push(&mut self, piece: GroupStates) -> Result<(), Overflow> {
        self.add(piece);
        let count = |piece: &GroupStates| piece.grouper.groups();
        while let [.., larger, last] = &self.pieces[..]
            && count(larger) < count(last) / 2 * 3
        {
            self.join_last(1)?;
        }
        Ok(())
    }

    /// Joins the two smallest.
    fn join_last(&mut self, threads: usize) -> Result<(), Overflow> {
        if let (Some(one), Some(other)) = (self.pieces.pop(), self.pieces.pop()) {
            self.add(joined(&one, &other, threads)?);
        }
        Ok(())
    }
}

/// The group without a value of the key, and the one of its first value.
const WITHOUT: u32 = 1;
const FIRST: u32 = 2;

/// Groups in the order of their key; `None` where it has no such order.
fn in_order(groups: &GroupStates) -> Result<Option<GroupStates>, Overflow> {
    let Some((values, order)) = groups.grouper.numbers_in_order() else { return Ok(None) };
    let mut map = vec![0; groups.grouper.groups()];
    map[WITHOUT as usize] = WITHOUT;
    for (&code, group) in order.iter().zip(FIRST..) {
        map[(FIRST + code) as usize] = group;
    }
    let in_order = order.iter().map(|&code| values[code as usize]).collect();
    merged(Grouper::of_ordered(in_order), &[(groups, &map)], 1).map(Some)
}

/// Two pieces as one.
fn joined(one: &GroupStates, other: &GroupStates, threads: usize) -> Result<GroupStates, Overflow> {
    let (left, right) = (one.grouper.numbers(), other.grouper.numbers());
    let mut values: Vec<i64> = Vec::with_capacity(left.len().max(right.len()));
    let map = |values: &[i64]| {
        let mut map = Vec::with_capacity(FIRST as usize + values.len());
        map.extend([0, WITHOUT]);
        map
    };
    let (mut of_left, mut of_right) = (map(left), map(right));
    let (mut l, mut r) = (0, 0);
    while l < left.len() || r < right.len() {
        let value = match (left.get(l), right.get(r)) {
            (Some(&a), Some(&b)) => a.min(b),
            (Some(&only), None) | (None, Some(&only)) => only,
            (None, None) => break,
        };
        let group = FIRST + values.len() as u32;
        if left.get(l) == Some(&value) {
            of_left.push(group);
            l += 1;
        }
        if right.get(r) == Some(&value) {
            of_right.push(group);
            r += 1;
        }
        values.push(value);
    }
    let parts = [(one, &of_left[..]), (other, &of_right[..])];
    merged(Grouper::of_ordered(values), &parts, threads)
}

/// The states of groups, each as its groups are mapped.
fn merged(
    grouper: Grouper,
    parts: &[(&GroupStates, &[u32])],
    threads: usize,
) -> Result<GroupStates, Overflow> {
    let all = grouper.groups();
    let states = parts[0].0.states.iter().map(|state| state.fresh()).collect();
    let mut out =
        GroupStates { grouper, counts: Counts::default(), states, forced: BTreeSet::new() };
    out.resize(all);
    for (part, map) in parts {
        let counts: (&mut dyn State, &dyn State) = (&mut out.counts, &part.counts);
        let states = out.states.iter_mut().zip(&part.states);
        let states = states.map(|(mine, theirs)| (&mut **mine as &mut dyn State, theirs.as_ref()));
        merge_all(std::iter::once(counts).chain(states), map, threads)?;
    }
    Ok(out)
}

#[cfg(test)]
mod tests {
    use super::super::states::Groups;
    use crate::pass::Pass;
    use crate::run::finished;
    use crate::testing::{rows, text};
    use crate::{Plan, Request, Totals, run};
    use oeuvre_columns::Source;
    use proptest::prelude::*;
    use rstest::rstest;

    /// A table with its lines as texts, and how often something was put aside.
    fn in_room(text: &str, request: &Request, room: usize, threads: usize) -> (String, usize) {
        let rows = rows(text).in_batches(3);
        let plan = Plan::new(request, rows.columns()).unwrap();
        let mut groups = Groups::new(&plan, threads);
        groups.room = room;
        let done = Pass::over(&rows, threads).serve(&groups).unwrap();
        let ledger = done.share.rows.ledger(&plan, &rows, &done.account).unwrap();
        let pieces = done.share.put_aside();
        let groups = done.share.into_groups(threads).unwrap();
        let (grid, _) = finished(&plan, &rows, threads, (groups, ledger)).unwrap();
        (crate::testing::shown(&grid), pieces)
    }

    fn request() -> Request {
        let show = [
            "sum(x)",
            "count()",
            "median(x)",
            "count(distinct x)",
            "first(x)",
            "share(sum(x))",
            "rank(sum(x))",
            "count(x where x > mean(x))",
        ];
        Request { totals: Totals::Grand, ..Request::of(&["k"], &show) }
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 64, ..ProptestConfig::default() })]

        #[test]
        fn what_is_put_aside_comes_to_the_same(
            values in proptest::collection::vec((proptest::option::weighted(0.9, -40i64..40), 0i64..9), 1..80),
            far in any::<bool>(),
            threads in 1usize..4,
        ) {
            let by = if far { 1 << 40 } else { 1 };
            let line = |(k, x): &(Option<i64>, i64)| {
                format!("{}|{x}", k.map_or(String::new(), |k| (k * by).to_string()))
            };
            let lines: Vec<String> = values.iter().map(line).collect();
            let text = format!("k:0 x:0\n{}", lines.join("\n"));
            let plain = rows(&text);
            let plan = Plan::new(&request(), plain.columns()).unwrap();
            let expected = crate::testing::shown(&run(&plan, &plain, 1).unwrap().0);
            prop_assert_eq!(&in_room(&text, &request(), 0, threads).0, &expected);
        }
    }

    #[rstest]
    #[case::in_no_order("5 2 9 1 7 3 8 2 5 4 6 1", true)]
    #[case::in_order("1 2 3 4 5 6 7 8 9 10 11 12", false)]
    // Missing keys are a group, and what needs more than 64 bits has no such order.
    #[case::missing("5 2 - 1 - 3 8 2 5 4 6 1", true)]
    #[case::wide("5 99999999999999999999 2 1 9 3 8 2 5 4 6 1", false)]
    #[case::wide_later("5 2 9 1 7 3 8 2 5 4 99999999999999999999 1", true)]
    fn only_numbers_in_no_order_are_put_aside(#[case] keys: &str, #[case] put_aside: bool) {
        let line = |key: &str| format!("{}|{}", key.trim_matches('-'), key.len());
        let lines: Vec<String> = keys.split(' ').map(line).collect();
        let text = format!("k:0 x:0\n{}", lines.join("\n"));
        let (short, pieces) = in_room(&text, &request(), 0, 1);
        assert_eq!(pieces > 0, put_aside);
        assert_eq!((short, 0), in_room(&text, &request(), usize::MAX, 1));
    }

    #[test]
    fn other_keys_stay_whole() {
        let data = "k l:0 x:0\nb|2|1\na|1|2\nb|1|3\na|2|4\n";
        for by in [vec!["k"], vec!["k", "l"]] {
            let request = Request { by: by.iter().map(|k| text(k)).collect(), ..request() };
            let (short, pieces) = in_room(data, &request, 0, 2);
            assert_eq!((short, pieces), in_room(data, &request, usize::MAX, 2));
        }
    }
}
