//! The groups of rows with their states: one share of them a worker, merged at the end.
//!
//! A share numbers the groups of the rows it sees, and keeps a state for each that its plan wants. Merging takes
//! the groups of one share into another by their values; which share saw which rows changes nothing.

use super::aside::Aside;
use super::codes::{Codes, Grouper};
use crate::aggregate::count::Counts;
use crate::aggregate::encoding::{Damaged, Decoder, Encoder, Reads};
use crate::aggregate::{Overflow, Rows, State};
use crate::error::Error;
use crate::ledger::Ledger;
use crate::pass::{Consumer, Pass, RowWork, Selected, Share};
use crate::plan::{Grouping, Plan, Widening, factors_of, widening};
use crate::rows::program::{Op, Operand};
use oeuvre_columns::Limits;
use oeuvre_columns::Source;
use oeuvre_columns::at_once;
use oeuvre_columns::column::{Batch, Column, Data};
use oeuvre_columns::room;
use oeuvre_columns::value::Kind;
use std::collections::BTreeSet;

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
    let ledger = done.share.rows.ledger(plan, source, &done.account)?;
    Ok((done.share.into_groups(threads)?, ledger))
}

/// The groups of a plan, as a consumer of a pass.
pub(crate) struct Groups<'p> {
    plan: &'p Plan,
    /// Steps of the row program whose texts only states take.
    forgets: Vec<bool>,
    /// How many bytes the groups of one worker may take before they are put aside.
    pub(super) room: usize,
}

impl<'p> Groups<'p> {
    /// The groups of a plan, of which so many shares are kept at once.
    pub(crate) fn new(plan: &'p Plan, shares: usize) -> Groups<'p> {
        // Half of the memory is for whatever else there is.
        let room = room::bytes() / 2 / shares.max(1);
        Groups { plan, forgets: only_in_states(plan), room }
    }
}

/// The steps of the row program whose texts go into states and further steps alone: no key has them, and nobody watches
/// them.
fn only_in_states(plan: &Plan) -> Vec<bool> {
    let steps = &plan.row.steps;
    let mut only: Vec<bool> = steps
        .iter()
        .map(|step| matches!(step.op, Op::Scalar(_)) && step.kind == Kind::Text)
        .collect();
    let keys = plan.groupings.iter().flat_map(|grouping| &grouping.keys).map(|key| key.operand);
    let watched = plan.watches.row_texts.iter().map(|watch| watch.operand);
    let others = steps.iter().filter(|step| !matches!(step.op, Op::Scalar(_)));
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
        for (states, plan) in share.groupings.iter_mut().zip(&self.plan.groupings) {
            let keys: Vec<&Column> =
                plan.keys.iter().map(|k| share.rows.row.column(k.operand, &inputs)).collect();
            states.grouper.finish(&keys);
        }
        Ok(())
    }
}

impl Share for GroupsShare {
    fn absorb(&mut self, other: GroupsShare, threads: usize) -> Result<(), Error> {
        self.rows.absorb(other.rows, threads)?;
        for (mine, theirs) in self.groupings.iter_mut().zip(&other.groupings) {
            mine.absorb(theirs, threads)?;
        }
        for (mine, theirs) in self.aside.iter_mut().zip(other.aside) {
            mine.absorb(theirs)?;
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

    /// How many pieces were put aside.
    #[cfg(test)]
    pub(super) fn put_aside(&self) -> usize {
        self.aside.iter().map(Aside::pieces).sum()
    }

    /// Tells the states of all groups: of those whose rows were all left out, or where there was no row, they do not
    /// know yet. What was put aside comes back.
    ///
    /// # Errors
    /// What cannot be held.
    pub(crate) fn settle(&mut self, threads: usize) -> Result<(), Error> {
        for (states, aside) in self.groupings.iter_mut().zip(&mut self.aside) {
            aside.settle(states, threads)?;
            states.resize(states.grouper.groups());
        }
        Ok(())
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

/// The groups of a grouping with their states.
pub(crate) struct GroupStates {
    pub(crate) grouper: Grouper,
    /// Rows counted in each group.
    pub(crate) counts: Counts,
    pub(crate) states: Vec<Box<dyn State>>,
    /// Groups that are shown although nothing was counted in them.
    pub(crate) forced: BTreeSet<u32>,
}

impl GroupStates {
    pub(super) fn new(plan: &Grouping) -> GroupStates {
        GroupStates {
            grouper: Grouper::new(plan.keys.iter().map(|k| k.kind)),
            counts: Counts::default(),
            forced: BTreeSet::new(),
            states: plan
                .states
                .iter()
                .map(|s| s.aggregate.state(&s.args.iter().map(|a| a.kind).collect::<Vec<_>>()))
                .collect(),
        }
    }

    fn encode(&self, to: &mut Encoder) {
        let groups = 1..self.grouper.groups() as u32;
        to.inner(|to| self.grouper.encode(to));
        let states = self.states.iter().map(AsRef::as_ref);
        for state in std::iter::once(&self.counts as &dyn State).chain(states) {
            to.inner(|to| state.encode(groups.clone(), to));
        }
    }

    fn decode(
        (own, plan): (&Grouping, &Grouping),
        from: &mut Decoder<'_>,
    ) -> Result<GroupStates, Damaged> {
        let mut it = GroupStates::new(plan);
        let kinds = own.keys.iter().zip(&plan.keys).map(|(own, key)| (own.kind, key.kind));
        let factor = |(own, kind)| match widening(own, kind) {
            Some(Widening::By(factor)) => factor,
            _ => 1,
        };
        let factors: Vec<i128> = kinds.clone().map(factor).collect();
        let inner = from.inner()?;
        let reads = inner.reads();
        let mut inner = inner.reading(Reads { factors: &factors, ..reads });
        it.grouper = Grouper::decode(kinds.clone().map(|(own, _)| own), &mut inner)?;
        for (codes, (own, kind)) in it.grouper.codes.iter_mut().zip(kinds) {
            // A key without any value is of any kind.
            if own != kind && codes.len() == 1 {
                *codes = Codes::new(kind);
            }
        }
        let groups = it.grouper.groups();
        let reads = Reads { groups: Some(groups - 1), ..reads };
        State::decode(&mut it.counts, &mut from.inner()?.reading(reads))?;
        for (state, (own, plan)) in it.states.iter_mut().zip(own.states.iter().zip(&plan.states)) {
            let inner = from.inner()?;
            match factors_of(&own.args, &plan.args) {
                Some(factors) => {
                    state.decode(&mut inner.reading(Reads { factors: &factors, ..reads }))?;
                }
                None => state.resize(groups),
            }
        }
        Ok(it)
    }

    /// Makes room for so many groups, group 0 included.
    pub(super) fn resize(&mut self, groups: usize) {
        self.counts.resize(groups);
        self.states.iter_mut().for_each(|state| state.resize(groups));
    }

    /// About how many bytes of memory rows touch here and there.
    pub(super) fn bytes_at_random(&self) -> usize {
        /// What a state has of a group at most; more are lists of values, whose ends alone are touched.
        const OF_GROUP: usize = 32;
        let most = OF_GROUP * self.grouper.groups();
        let of_states = self.states.iter().map(|state| state.size_bytes().min(most));
        self.grouper.size_bytes() + State::size_bytes(&self.counts) + of_states.sum::<usize>()
    }

    /// Takes in the groups that another worker has seen.
    pub(super) fn absorb(&mut self, theirs: &GroupStates, threads: usize) -> Result<(), Overflow> {
        let map = self.grouper.absorb(&theirs.grouper);
        self.resize(self.grouper.groups());
        let counts: (&mut dyn State, &dyn State) = (&mut self.counts, &theirs.counts);
        let states = self.states.iter_mut().zip(&theirs.states);
        let states =
            states.map(|(mine, theirs)| (mine.as_mut() as &mut dyn State, theirs.as_ref()));
        merge_all(std::iter::once(counts).chain(states), &map, threads)
    }

    /// The groups that are shown, counted from 0: those with rows, and those that are forced.
    pub(crate) fn present(&self, always: bool) -> Vec<u32> {
        let counted = |g: &u32| self.counts.0.get(*g as usize + 1).is_some_and(|&n| n > 0);
        let groups = self.grouper.groups() as u32 - 1;
        let mut present = Vec::with_capacity(groups as usize);
        let is_shown = |g: &u32| always || counted(g) || self.forced.contains(&(g + 1));
        present.extend((0..groups).filter(is_shown));
        present
    }

    /// Takes the rows of a batch that count into their groups.
    fn accumulate(
        &mut self,
        plan: &Grouping,
        Selected { batch, row }: Selected<'_>,
        inputs: &[&Column],
        (groups, some): (&mut Vec<u32>, &mut Vec<u32>),
    ) -> Result<(), Error> {
        let keys: Vec<&Column> = plan.keys.iter().map(|k| row.column(k.operand, inputs)).collect();
        self.grouper.number(&keys, batch.rows, groups);
        let n = self.grouper.groups();
        let piece = batch.piece;
        self.counts.resize(n);
        self.counts.update(Rows { groups, args: &[], piece })?;
        let mut current: Option<Operand> = None;
        for (state, plan) in self.states.iter_mut().zip(&plan.states) {
            state.resize(n);
            let args: Vec<&Column> =
                plan.args.iter().map(|a| row.column(a.operand, inputs)).collect();
            let groups: &[u32] = match plan.condition {
                None => groups,
                Some(condition) => {
                    if current != Some(condition) {
                        only_where(groups, row.column(condition, inputs), some);
                        current = Some(condition);
                    }
                    some
                }
            };
            state.update(Rows { groups, args: &args, piece })?;
        }
        Ok(())
    }
}

/// Merges states with others, each as the groups are mapped; large ones at once.
pub(super) fn merge_all<'a>(
    pairs: impl Iterator<Item = (&'a mut dyn State, &'a dyn State)>,
    map: &[u32],
    threads: usize,
) -> Result<(), Overflow> {
    /// So many bytes are merged in the time in which a thread starts.
    const WORTH_A_THREAD: usize = 1 << 17;
    let pairs: Vec<_> = pairs.collect();
    let bytes: usize = pairs.iter().map(|(_, theirs)| theirs.size_bytes()).sum();
    let threads = if bytes < WORTH_A_THREAD { 1 } else { threads };
    let merged = at_once(pairs, threads, |(mine, theirs)| mine.merge(theirs, map));
    // Of several problems always the same one.
    merged.into_iter().collect()
}

/// The groups of the rows for which a condition holds; the others go to group 0.
pub(crate) fn only_where(groups: &[u32], condition: &Column, some: &mut Vec<u32>) {
    some.clear();
    if let Data::Bool(truths) = &condition.data {
        some.extend(groups.iter().zip(truths).map(|(&g, &t)| g * u32::from(t == 1)));
    }
}
