//! Groups with a state for each that is wanted of them.

use super::codes::{Codes, Grouper};
use super::row_counts::RowCounts;
use super::sequence::Sequence;
use crate::aggregate::count::Counts;
use crate::aggregate::encoding::{Damaged, Decoder, Encoder, Reads};
use crate::aggregate::{Rows, State};
use crate::error::Error;
use crate::pass::Selected;
use crate::plan::{Grouping, StatePlan, Widening, factors_of, widening};
use crate::rows::evaluator::StepOverflow;
use crate::rows::program::Operand;
use oeuvre_columns::at_once;
use oeuvre_columns::column::{Column, Data};
use oeuvre_columns::work;
use std::collections::BTreeSet;
use std::sync::Arc;

/// What counts and states are of, in this order, for messages.
pub(super) type Names = Arc<[Arc<str>]>;

/// The groups of a grouping with their states.
pub(crate) struct GroupStates {
    pub(crate) grouper: Grouper,
    /// Rows counted in each group.
    pub(crate) counts: Counts,
    pub(crate) states: Vec<Box<dyn State>>,
    names: Names,
    /// Groups that are shown although nothing was counted in them.
    pub(crate) forced: BTreeSet<u32>,
    /// Rows that counts and states have yet to be told of, while rows come.
    untold: RowCounts,
}

impl GroupStates {
    pub(super) fn new(plan: &Grouping) -> GroupStates {
        let state =
            |s: &StatePlan| s.aggregate.state(&s.args.iter().map(|a| a.kind).collect::<Vec<_>>());
        let grouper = Grouper::new(plan.keys.iter().map(|k| k.kind));
        let texts = plan.states.iter().map(|state| state.text.clone());
        let names = std::iter::once("count()".into()).chain(texts).collect();
        let states = plan.states.iter().map(state).collect();
        GroupStates::of(grouper, Counts::default(), states, names)
    }

    /// Groups with their counts and states.
    pub(super) fn of(
        grouper: Grouper,
        counts: Counts,
        states: Vec<Box<dyn State>>,
        names: Names,
    ) -> GroupStates {
        let (forced, untold) = (BTreeSet::new(), RowCounts::default());
        GroupStates { grouper, counts, states, names, forced, untold }
    }

    /// What counts and states are of, in this order.
    pub(super) fn names(&self) -> &Names {
        &self.names
    }

    pub(super) fn encode(&self, to: &mut Encoder) {
        let groups = 1..self.grouper.groups() as u32;
        to.inner(|to| self.grouper.encode(to));
        let states = self.states.iter().map(AsRef::as_ref);
        for state in std::iter::once(&self.counts as &dyn State).chain(states) {
            to.inner(|to| state.encode(groups.clone(), to));
        }
    }

    pub(super) fn decode(
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

    /// About how many bytes of memory go when they are put aside: of several keys, the values stay.
    pub(super) fn going_bytes(&self) -> usize {
        /// What a pair takes, and what it takes with its place in a table.
        const LISTED: usize = size_of::<(u32, u32)>();
        const PAIR: usize = 40;
        let of_states = self.states.iter().map(|state| state.size_bytes());
        let known_by = match self.grouper.last_pairs() {
            Some(pairs) => pairs.len() * if self.grouper.lists() { LISTED } else { PAIR },
            None => self.grouper.size_bytes(),
        };
        known_by + State::size_bytes(&self.counts) + of_states.sum::<usize>()
    }

    /// Takes the groups out; nothing is to be asked of what is left.
    pub(super) fn take(&mut self) -> GroupStates {
        GroupStates {
            grouper: std::mem::replace(&mut self.grouper, Grouper::new(std::iter::empty())),
            counts: std::mem::take(&mut self.counts),
            states: std::mem::take(&mut self.states),
            names: self.names.clone(),
            forced: std::mem::take(&mut self.forced),
            untold: std::mem::take(&mut self.untold),
        }
    }

    /// Counts and states are told of all rows: to be done before anything is asked of them.
    pub(super) fn tell_rows(&mut self) {
        self.untold.tell(all_of(&mut self.counts, &mut self.states));
    }

    /// About how much work two workers' groups were to take together, and their table is to make.
    pub(crate) fn work(&self) -> (u64, u64) {
        let groups = self.grouper.groups() as u64;
        let (keys, states) = (self.grouper.codes.len() as u64, self.states.len() as u64);
        let results: u64 = self.states.iter().map(|state| work_of(state.as_ref(), groups)).sum();
        let fields = groups * (keys * (work::LABEL + work::FIELD) + states * work::FIELD);
        (groups * keys * work::JOINED + self.merging(), results + fields)
    }

    /// About how much work it is to take the states together with others.
    pub(super) fn merging(&self) -> u64 {
        let groups = self.grouper.groups() as u64;
        groups * (1 + self.states.len() as u64) * work::JOINED
    }

    /// About how much work the totals of all groups are.
    pub(super) fn of_totals(&self) -> u64 {
        let results = self.states.iter().map(|state| work_of(state.as_ref(), 1));
        self.merging() + results.sum::<u64>()
    }

    /// Whether no state holds more of a group than a few numbers, or texts that many share: sets and lists of values are not
    /// merged in order, and texts not without looking each up.
    pub(super) fn are_plain(&self) -> bool {
        const OF_GROUP: usize = if cfg!(test) { 1 << 20 } else { 256 };
        let most = OF_GROUP * self.grouper.groups();
        let is_plain = |state: &dyn State| {
            // In tests these are put aside, too.
            (cfg!(test) || !state.holds_values()) && state.size_bytes() <= most
        };
        self.states.iter().all(|state| is_plain(state.as_ref()))
    }

    /// Takes in the groups that another worker has seen.
    pub(super) fn absorb(
        &mut self,
        theirs: &GroupStates,
        threads: usize,
    ) -> Result<(), StepOverflow> {
        let map = self.grouper.absorb(&theirs.grouper);
        self.merge(theirs, &map, threads)
    }

    /// Takes in the states of other groups, each as its group is mapped to those here.
    pub(super) fn merge(
        &mut self,
        theirs: &GroupStates,
        map: &[u32],
        threads: usize,
    ) -> Result<(), StepOverflow> {
        self.resize(self.grouper.groups());
        let mine = all_of(&mut self.counts, &mut self.states).into_iter();
        let states = theirs.states.iter().map(AsRef::as_ref);
        let theirs = std::iter::once(&theirs.counts as &dyn State).chain(states);
        let named = mine.zip(theirs).zip(&*self.names);
        merge_all(named.map(|((mine, theirs), name)| (mine, theirs, name)), map, threads)
    }

    /// The groups that are shown, counted from 0: those with rows, and those that are forced.
    pub(crate) fn present(&self, always: bool) -> Sequence {
        let groups = self.grouper.groups() - 1;
        // Groups that were only just made have no count yet.
        let counts = self.counts.0.iter().skip(1).chain(std::iter::repeat(0)).take(groups);
        if always || counts.clone().all(|n| n > 0) {
            return Sequence::counted(groups);
        }
        let is_shown = |g: u32, n: u64| n > 0 || self.forced.contains(&(g + 1));
        (0..).zip(counts).filter(|&(g, n)| is_shown(g, n)).map(|(g, _)| g).collect()
    }

    /// Takes the rows of a batch that count into their groups.
    pub(super) fn accumulate(
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
        let are_few = RowCounts::are_for(n);
        self.counts.resize(n);
        match are_few {
            true => self.untold.waits(0),
            false => {
                self.tell_rows();
                let counted = self.counts.update(Rows { groups, args: &[], piece });
                counted.map_err(StepOverflow::of(&self.names[0]))?;
            }
        }
        let mut current: Option<Operand> = None;
        for (at, (state, plan)) in self.states.iter_mut().zip(&plan.states).enumerate() {
            state.resize(n);
            let args: Vec<&Column> =
                plan.args.iter().map(|a| row.column(a.operand, inputs)).collect();
            let too_large = StepOverflow::of(&plan.text);
            let Some(condition) = plan.condition else {
                let rows = Rows { groups, args: &args, piece };
                match are_few {
                    true if state.update_uncounted(rows).map_err(too_large)? => {
                        self.untold.waits(1 + at);
                    }
                    true => {}
                    false => state.update(rows).map_err(too_large)?,
                }
                continue;
            };
            if current != Some(condition) {
                only_where(groups, row.column(condition, inputs), some);
                current = Some(condition);
            }
            state.update(Rows { groups: some, args: &args, piece }).map_err(too_large)?;
        }
        if are_few {
            let GroupStates { counts, states, untold, .. } = self;
            untold.add(groups, n, || all_of(counts, states));
        }
        Ok(())
    }
}

/// The counts of the rows, and the states, in this order.
fn all_of<'s>(counts: &'s mut Counts, states: &'s mut [Box<dyn State>]) -> Vec<&'s mut dyn State> {
    let states = states.iter_mut().map(|state| state.as_mut() as &mut dyn State);
    std::iter::once(counts as &mut dyn State).chain(states).collect()
}

/// About how much work the results of a state are.
pub(super) fn work_of(state: &dyn State, groups: u64) -> u64 {
    // Values are put together when somebody looks at them.
    groups * work::RESULT + state.values() as u64 * (work::MERGED + work::LOOKED_AT)
}

/// Merges states with others, each as the groups are mapped; large ones at once.
pub(super) fn merge_all<'a>(
    pairs: impl Iterator<Item = (&'a mut dyn State, &'a dyn State, &'a Arc<str>)>,
    map: &[u32],
    threads: usize,
) -> Result<(), StepOverflow> {
    /// So many bytes are merged in the time in which a thread starts.
    const WORTH_A_THREAD: usize = 1 << 17;
    let pairs: Vec<_> = pairs.collect();
    let bytes: usize = pairs.iter().map(|(_, theirs, _)| theirs.size_bytes()).sum();
    let threads = if bytes < WORTH_A_THREAD { 1 } else { threads };
    let merge = |(mine, theirs, name): (&mut dyn State, &dyn State, &Arc<str>)| {
        mine.merge(theirs, map).map_err(StepOverflow::of(name))
    };
    let merged = at_once(pairs, threads, merge);
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
