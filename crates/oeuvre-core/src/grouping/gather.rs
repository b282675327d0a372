//! The pass that brings rows into groups: one share of them a worker, merged at the end.
//!
//! A share numbers the groups of the rows it sees, and keeps a state for each that its plan wants; where they outgrow
//! memory it puts them aside. Merging takes the groups of one share into another by their values; which share saw
//! which rows changes nothing.

use super::aside::{Aside, take_in};
use super::states::GroupStates;
use crate::aggregate::encoding::{Damaged, Decoder, Encoder};
use crate::error::Error;
use crate::ledger::Ledger;
use crate::pass::{Consumer, Pass, RowWork, Share};
use crate::plan::{Plan, TableInput};
use crate::rows::program::{Operand, Step};
use oeuvre_columns::Limits;
use oeuvre_columns::Source;
use oeuvre_columns::column::{Batch, Column};
use oeuvre_columns::room;
use oeuvre_columns::work;

/// The groups of a plan, and the account of the rows.
pub(crate) type Gathered = (Vec<GroupStates>, Ledger);

/// Reads all rows into the groups and states of a plan.
///
/// # Errors
/// What is wrong with the data, and what cannot be held.
pub(crate) fn gather_one(
    plan: &Plan,
    source: &dyn Source,
    threads: usize,
) -> Result<Gathered, Error> {
    let done = Pass::over(source, threads).serve(&Groups::new(plan, threads))?;
    done.share.expect_work(plan, threads);
    let ledger = done.share.rows.ledger(plan, source, &done.account)?;
    Ok((done.share.into_groups(threads)?, ledger))
}

/// The groups of a plan, as a consumer of a pass.
pub(crate) struct Groups<'p> {
    plan: &'p Plan,
    /// Steps of the row program whose texts only states take.
    forgets: Vec<bool>,
    /// How many bytes the groups of one worker may take before they are put aside.
    room: usize,
}

impl<'p> Groups<'p> {
    /// The groups of a plan, of which so many shares are kept at once.
    pub(crate) fn new(plan: &'p Plan, shares: usize) -> Groups<'p> {
        /// What groups take when they are looked at may soon be twice as much, and growing tables are there twice.
        const OF_MEMORY: usize = 6;
        let room = room::bytes() / OF_MEMORY / shares.max(1);
        Groups { plan, forgets: only_in_states(plan), room }
    }
}

/// The steps of the row program whose texts go into states and further steps alone: no key has them, and nobody watches
/// them.
fn only_in_states(plan: &Plan) -> Vec<bool> {
    let steps = &plan.row.steps;
    let mut only: Vec<bool> = steps.iter().map(Step::is_text_of_values).collect();
    let keys = plan.groupings.iter().flat_map(|grouping| &grouping.keys).map(|key| key.operand);
    let watched = plan.watches.row_texts.iter().map(|watch| watch.operand);
    let others = steps.iter().filter(|step| !step.is_of_values());
    for operand in keys.chain(watched).chain(others.flat_map(|step| step.args.iter().copied())) {
        if let Operand::Step(step) = operand {
            only[step] = false;
        }
    }
    only
}

/// The groups that a worker has seen.
pub(crate) struct GroupsShare {
    pub(crate) rows: RowWork,
    groupings: Vec<GroupStates>,
    aside: Vec<Aside>,
    /// Scratch: the group of each row, and of those for which a condition holds.
    groups: Vec<u32>,
    some: Vec<u32>,
}

impl Consumer for Groups<'_> {
    type Share = GroupsShare;

    fn columns(&self) -> &[usize] {
        &self.plan.inputs
    }

    fn limits(&self) -> Limits {
        self.plan.limits()
    }

    fn chooses_by(&self) -> Option<&Plan> {
        Some(self.plan)
    }

    fn share(&self) -> GroupsShare {
        GroupsShare {
            rows: RowWork::new(self.plan).forgetting(self.forgets.clone()),
            groupings: self.plan.groupings.iter().map(GroupStates::new).collect(),
            aside: self.plan.groupings.iter().map(|_| Aside::default()).collect(),
            groups: Vec::new(),
            some: Vec::new(),
        }
    }

    fn take(&self, share: &mut GroupsShare, batch: &mut Batch) -> Result<(), Error> {
        let GroupsShare { rows, groupings, aside, groups, some } = share;
        if let Some(selected) = rows.select(self.plan, batch)? {
            let inputs: Vec<&Column> = selected.batch.columns.iter().collect();
            for ((states, aside), plan) in groupings.iter_mut().zip(aside).zip(&self.plan.groupings)
            {
                states.accumulate(plan, selected, &inputs, (&mut *groups, &mut *some))?;
                aside.take(states, plan, self.room)?;
            }
        }
        Ok(())
    }

    fn finish(&self, share: &mut GroupsShare, batch: &Batch) -> Result<(), Error> {
        let inputs: Vec<&Column> = batch.columns.iter().collect();
        let groupings = share.groupings.iter_mut().zip(&mut share.aside);
        for ((states, aside), plan) in groupings.zip(&self.plan.groupings) {
            let keys: Vec<&Column> =
                plan.keys.iter().map(|k| share.rows.row.column(k.operand, &inputs)).collect();
            aside.finish(states, plan)?;
            states.grouper.finish(&keys);
            states.tell_rows();
        }
        Ok(())
    }
}

impl Share for GroupsShare {
    fn absorb(&mut self, other: GroupsShare, threads: usize) -> Result<(), Error> {
        self.rows.absorb(other.rows, threads)?;
        let mine = self.groupings.iter_mut().zip(&mut self.aside);
        for ((mine, my_aside), (theirs, their_aside)) in
            mine.zip(other.groupings.into_iter().zip(other.aside))
        {
            let has_numbers = theirs.grouper.last_pairs().is_some() && !their_aside.is_empty();
            let numbers = has_numbers.then(|| mine.grouper.absorb_keys(&theirs.grouper)).flatten();
            my_aside.absorb(their_aside, numbers.as_ref())?;
            take_in(mine, theirs, threads)?;
        }
        Ok(())
    }
}

impl GroupsShare {
    /// Writes down what was seen.
    pub(crate) fn encode(&self, plan: &Plan, to: &mut Encoder) {
        to.inner(|to| self.rows.encode(plan, to));
        self.groupings.iter().for_each(|groups| to.inner(|to| groups.encode(to)));
    }

    /// Reads what was written down for a plan over columns of narrower kinds.
    pub(crate) fn decode(
        (own, plan): (&Plan, &Plan),
        from: &mut Decoder<'_>,
    ) -> Result<GroupsShare, Damaged> {
        let mut it = Groups::new(plan, 1).share();
        it.rows = RowWork::decode(plan, &mut from.inner()?)?;
        let each = own.groupings.iter().zip(&plan.groupings);
        for (groups, both) in it.groupings.iter_mut().zip(each) {
            *groups = GroupStates::decode(both, &mut from.inner()?)?;
        }
        Ok(it)
    }

    /// Tells the states of all groups: of those whose rows were all left out, or where there was no row, they do not
    /// know yet. What was put aside comes back.
    ///
    /// # Errors
    /// What cannot be held.
    pub(crate) fn settle(&mut self, threads: usize) -> Result<(), Error> {
        for (states, aside) in self.groupings.iter_mut().zip(&mut self.aside) {
            if !aside.is_empty() {
                aside.settle(states, threads)?;
            }
            states.resize(states.grouper.groups());
        }
        Ok(())
    }

    /// Says how much work is left behind the rows.
    pub(crate) fn expect_work(&self, plan: &Plan, threads: usize) {
        for groups in &self.groupings {
            let (joined, table) = groups.work();
            work::expect(joined + table);
            // What the workers have is taken together by now; one alone has nothing to take.
            work::done(if threads > 1 { joined } else { 0 });
        }
        let compared = plan.table_inputs.iter().filter(|it| matches!(it, TableInput::Window(_)));
        let lines = self.groupings[0].grouper.groups() as u64;
        let each = compared.count() as u64 * work::COMPARED + plan.sort.len() as u64 * work::SORTED;
        work::expect(lines * each);
        // Totals are merged from the lines.
        let levels = [plan.totals.grand(), plan.totals.sub() && plan.by_keys > 1];
        let levels = levels.into_iter().filter(|is_shown| *is_shown).count() as u64;
        work::expect(levels * self.groupings.iter().map(GroupStates::of_totals).sum::<u64>());
    }

    /// The groups, when all rows have been seen.
    ///
    /// # Errors
    /// What cannot be held.
    pub(crate) fn into_groups(mut self, threads: usize) -> Result<Vec<GroupStates>, Error> {
        self.settle(threads)?;
        Ok(self.groupings)
    }
}

#[cfg(test)]
mod tests {
    use super::{Aside, Groups};
    use crate::pass::Pass;
    use crate::run::finished;
    use crate::testing::{rows, text};
    use crate::{Plan, Request, Totals, run};
    use oeuvre_columns::Source;
    use proptest::prelude::*;
    use rstest::rstest;

    /// A table with its lines as texts, and whether something was put aside.
    fn in_room(text: &str, request: &Request, room: usize, threads: usize) -> (String, bool) {
        let rows = rows(text).in_batches(3);
        let plan = Plan::new(request, rows.columns()).unwrap();
        let mut groups = Groups::new(&plan, threads);
        groups.room = room;
        let done = Pass::over(&rows, threads).serve(&groups).unwrap();
        let ledger = done.share.rows.ledger(&plan, &rows, &done.account).unwrap();
        let is_short = !done.share.aside.iter().all(Aside::is_empty);
        let groups = done.share.into_groups(threads).unwrap();
        let (grid, _) = finished(&plan, &rows, threads, (groups, ledger)).unwrap();
        (crate::testing::shown(&grid), is_short)
    }

    const SEVERAL: [&[&str]; 4] =
        [&["t", "n"], &["n", "t"], &["t", "n", "u"], &["n", "m", "t", "u"]];

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
            "stdev(x)",
            "max(x)",
            "last(x along x)",
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

    proptest! {
        #![proptest_config(ProptestConfig { cases: 64, ..ProptestConfig::default() })]

        #[test]
        fn what_is_put_aside_of_several_keys_comes_to_the_same(
            values in proptest::collection::vec(
                (proptest::option::weighted(0.9, 0u8..4), proptest::option::weighted(0.9, -4i64..4), 0u8..3, 0i64..9), 1..80),
            keys in proptest::sample::select(&SEVERAL[..]),
            threads in 1usize..4, has_totals in any::<bool>(),
        ) {
            let shown = |value: Option<String>| value.unwrap_or_default();
            let line = |(t, n, u, x): &(Option<u8>, Option<i64>, u8, i64)| {
                let (t, n) = (shown(t.map(|t| format!("t{t}"))), shown(n.map(|n| n.to_string())));
                format!("{t}|{n}|{}|u{u}|{x}", x % 2)
            };
            let lines: Vec<String> = values.iter().map(line).collect();
            let data = format!("t n:0 m:0 u x:0\n{}", lines.join("\n"));
            let totals = if has_totals { Totals::All } else { Totals::None };
            let request = Request { by: keys.iter().map(|k| text(k)).collect(), totals, ..request() };
            let plain = rows(&data);
            let plan = Plan::new(&request, plain.columns()).unwrap();
            let expected = crate::testing::shown(&run(&plan, &plain, 1).unwrap().0);
            let (found, is_aside) = in_room(&data, &request, 0, threads);
            prop_assert_eq!(&found, &expected);
            prop_assert!(is_aside);
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
        let (short, is_short) = in_room(&text, &request(), 0, 1);
        assert_eq!(is_short, put_aside);
        assert_eq!((short, false), in_room(&text, &request(), usize::MAX, 1));
    }

    #[test]
    fn groups_that_no_piece_merges_now_add_nothing() {
        let show = [
            "sum(x)",
            "stdev(x)",
            "sum(y)",
            "stdev(y)",
            "range(x)",
            "correlation(y, z)",
            "at_max(t, y)",
            "first(t)",
            "last(x along y)",
            "portion(y > 3)",
        ];
        let request = Request { totals: Totals::None, ..Request::of(&["k"], &show) };
        let line = |i: u32| {
            let far = "3".repeat(37);
            format!("{}|{far}|{}.5|{}|t{}", i * 37 % 41, i % 9, i % 7, i % 3)
        };
        let lines: Vec<String> = (0..120).map(line).collect();
        let data = format!("k:0 x:0 y:float z:1 t\n{}", lines.join("\n"));
        let (short, is_short) = in_room(&data, &request, 0, 2);
        assert_eq!((short, is_short), (in_room(&data, &request, usize::MAX, 1).0, true));
    }

    #[test]
    fn a_text_alone_stays_whole() {
        let data = "k l:0 x:0\nb|2|1\na|1|2\nb|1|3\na|2|4\n";
        let request = Request { by: vec![text("k")], ..request() };
        let (short, is_short) = in_room(data, &request, 0, 2);
        assert_eq!((short, is_short), in_room(data, &request, usize::MAX, 2));
        assert!(!is_short);
    }
}
