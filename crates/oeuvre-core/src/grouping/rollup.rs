//! Working out a grouping at some of its keys: states merged to the coarser groups, aggregates finished, those
//! over finer groups first, and the group program run.
//!
//! No row is read: a mean of all routes is the mean of all rows, from the states of the routes. The cost is one
//! merge a finest group and state.
//!
//! ```
//! # use oeuvre_columns::{InMemory, Kind, Source};
//! # let rows = InMemory::from_texts(
//! #     &[("route", Kind::Text), ("fare", Kind::Number { scale: 2 })],
//! #     &[
//! #         &["SKE", "12.50"],
//! #         &["KEL", "8.00"],
//! #         &["SKE", "7.00"],
//! #         &["SKE", ""],
//! #     ],
//! # )?;
//! use oeuvre_core::{Plan, Request, Totals, run};
//!
//! // route, fare: SKE 12.50; KEL 8.00; SKE 7.00; SKE (missing)
//! let request = Request { totals: Totals::Grand, ..Request::of(&["route"], &["mean(fare)"]) };
//! let plan = Plan::new(&request, rows.columns())?;
//! let (table, _) = run(&plan, &rows, 1)?;
//! assert_eq!(table.cell(0, 0).to_string(), "8");
//! assert_eq!(table.cell(1, 0).to_string(), "9.75");
//! // The total is 27.50 / 3, and no mean of means.
//! assert_eq!(table.cell(2, 0).to_string(), format!("{}", 27.5 / 3.0));
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

use super::codes::Codes;
use super::sequence::{Ranks, Sequence};
use super::states::{GroupStates, only_where, work_of};
use crate::aggregate::{Aggregate, Overflow, Rows, State, update_with_all};
use crate::error::Error;
use crate::ledger::Ledger;
use crate::pass::note_zero_divisions;
use crate::plan::{Built, From, Plan};
use crate::rows::evaluator::{Evaluator, StepOverflow};
use crate::rows::program::{Operand, Program};
use oeuvre_columns::column::Column;
use oeuvre_columns::column::NO_NUMBER;
use oeuvre_columns::column::interner::Pairs;
use oeuvre_columns::value::calendar::Unit;
use oeuvre_columns::value::{Kind, Value};
use oeuvre_columns::work;
use std::cell::OnceCell;
use std::collections::hash_map::Entry;
use std::collections::{HashMap, HashSet};
use std::sync::Arc;

/// Groups taken together, or left out, before any key is looked at.
pub(crate) struct Members {
    /// For each group of the grouping, counted from 0, its number; [`NO_NUMBER`] for none.
    pub(crate) of_group: Vec<u32>,
    /// How many numbers there are.
    pub(crate) count: usize,
}

/// The group at fewer keys of each group of a grouping, both counted from 1; 0 for those that are not there.
pub(crate) struct Map(Sequence);

impl Map {
    /// Of groups that are there, counted from 0, their numbers at fewer keys, counted from 0 too.
    fn new(all: usize, present: &Sequence, numbers: &Sequence) -> Map {
        // The group before the first one would be that without a value of the key, which nothing has.
        if all > 0 && present.len() + 1 == all && present.counts_from(1) && numbers.is_counted() {
            return Map(Sequence::counted(all));
        }
        if present.len() == all {
            return Map(numbers.iter().map(|number| number + 1).collect());
        }
        let mut map = vec![0; all];
        present.iter().zip(numbers.iter()).for_each(|(g, number)| map[g as usize] = number + 1);
        Map(Sequence::Listed(map))
    }

    /// Of a group, counted from 1; of none where it is 0.
    pub(crate) fn of(&self, group: u32) -> u32 {
        group.checked_sub(1).map_or(0, |group| self.0.at(group as usize))
    }

    /// Of each group.
    pub(crate) fn each(&self) -> impl ExactSizeIterator<Item = u32> + '_ {
        self.0.iter()
    }
}

/// A grouping at some of its keys.
pub(crate) struct Rollup<'a> {
    /// The keys that are kept.
    pub(crate) kept: Vec<usize>,
    /// What [`Members`] say of each group; 0 without them.
    pub(crate) start: Sequence,
    /// The code of each kept key, group by group.
    pub(crate) path: Vec<Sequence>,
    pub(crate) map: Map,
    /// The longer periods of keys that are not kept, where the groups taken together have one: key and
    /// unit, then code by group.
    pub(crate) periods: Vec<((usize, Unit), Vec<u32>)>,
    /// How many groups there are.
    pub(crate) groups: usize,
    /// The labels of all keys, which are made where somebody looks at them.
    codes: &'a [Codes],
    kinds: Vec<Kind>,
    labels: Vec<OnceCell<Column>>,
    /// The inputs of the group program behind the keys.
    aggregated: Vec<Arc<Column>>,
    /// The group program, run.
    pub(crate) evaluator: Evaluator,
    /// Divisions by zero, of this grouping and of the finer ones that it took in.
    pub(crate) ledger: Ledger,
}

/// Works a grouping out at the keys that are kept, in ascending order, with the states of its second-pass aggregates
/// there. Groups are numbered in the order of the finest groups.
pub(crate) fn roll_up<'a>(
    plan: &Plan,
    group_states: &'a [GroupStates],
    index: usize,
    kept: &[usize],
    members: Option<&Members>,
    second_pass: Option<&[Box<dyn State>]>,
) -> Result<Rollup<'a>, Error> {
    let mut ledger = Ledger::default();
    let (grouping, gathered) = (&plan.groupings[index], &group_states[index]);
    let chained = grouping.aggregates.iter().any(|a| matches!(a.from, From::Groups { .. }));
    let how = (grouping.keys.is_empty(), chained);
    let numbered = Numbered::new(how, gathered, kept, members);
    let groups = numbered.groups;
    let states = numbered.states(gathered)?;
    let mut aggregated: Vec<Arc<Column>> = Vec::new();
    let mut finer_levels: HashMap<usize, Rollup<'_>> = HashMap::new();
    for aggregate in &grouping.aggregates {
        let column = match &aggregate.from {
            From::Rows(state) => {
                let args = kinds(&grouping.states[*state].args);
                work::step(work_of(states.of(*state), groups as u64), || {
                    states.finish(aggregate.aggregate.as_ref(), *state, &args)
                })
            }
            From::SecondPass(i) => match second_pass {
                Some(states) => {
                    let args = kinds(&plan.second_pass_aggregates[*i].args);
                    aggregate.aggregate.finish(states[*i].as_ref(), &args)
                }
                // The first time nothing uses it yet; and what is made up of several lines has no
                // result of its own that its rows were compared with.
                None => {
                    let none = vec![Value::Missing; groups];
                    Ok(Column::from_values(aggregate.kind, &none))
                }
            },
            From::Groups { grouping: finer, args, condition } => {
                // One level serves all aggregates over it.
                let inner = match finer_levels.entry(*finer) {
                    Entry::Occupied(known) => &*known.into_mut(),
                    Entry::Vacant(new) => {
                        let own = plan.groupings[*finer].outer..plan.groupings[*finer].keys.len();
                        let kept: Vec<usize> = kept.iter().copied().chain(own).collect();
                        let members =
                            members.map(|m| finer_members(group_states, index, *finer, m));
                        let level =
                            roll_up(plan, group_states, *finer, &kept, members.as_ref(), None)?;
                        ledger.add_divisions(&level.ledger);
                        &*new.insert(level)
                    }
                };
                let states = (gathered, &group_states[*finer]);
                let belongs = numbered.belonging(states, inner, kept, members.is_some());
                let of = (args.as_slice(), *condition);
                let over = (aggregate.aggregate.as_ref(), of, groups);
                over_groups(over, inner, &group_states[*finer], &belongs)
            }
        };
        let column = column.map_err(StepOverflow::of(&aggregate.text))?;
        aggregated.push(Arc::new(column));
    }
    let Numbered { start, path, map, .. } = numbered;
    let mut rollup = Rollup {
        kept: kept.to_vec(),
        start,
        path,
        map,
        periods: Vec::new(),
        groups,
        codes: &gathered.grouper.codes,
        kinds: grouping.keys.iter().map(|key| key.kind).collect(),
        labels: vec![OnceCell::new(); grouping.keys.len()],
        aggregated,
        evaluator: Evaluator::default(),
        ledger,
    };
    rollup.run(&grouping.group)?;
    Ok(rollup)
}

/// An aggregate with its arguments and its condition, and over how many groups.
type Over<'a> = (&'a dyn Aggregate, (&'a [Built], Option<Operand>), usize);

/// An aggregate over the results of finer groups, each of which belongs to one of its own.
fn over_groups(
    (aggregate, (args, condition), groups): Over<'_>,
    inner: &Rollup<'_>,
    finer: &GroupStates,
    belongs: &[u32],
) -> Result<Column, Overflow> {
    // In label order, so that the first and the last are the same in every run.
    let order = inner.label_order(finer, &inner.kept);
    let numbers: Vec<u32> = order.iter().map(|&g| belongs[g as usize] + 1).collect();
    let of = |operand: Operand| inner.column(operand).gather(&order);
    let args_of: Vec<Column> = args.iter().map(|a| of(a.operand)).collect();
    let args_of: Vec<&Column> = args_of.iter().collect();
    let mut some = Vec::new();
    let groups_of: &[u32] = match condition {
        Some(condition) => {
            only_where(&numbers, &of(condition), &mut some);
            &some
        }
        None => &numbers,
    };
    let mut state = aggregate.state(&kinds(args));
    state.resize(groups + 1);
    let rows = Rows { groups: groups_of, args: &args_of, piece: 0 };
    update_with_all(state.as_mut(), rows)?;
    aggregate.finish(state.as_ref(), &kinds(args))
}

fn kinds(args: &[Built]) -> Vec<Kind> {
    args.iter().map(|a| a.kind).collect()
}

/// The groups of a grouping, numbered by the keys that are kept.
struct Numbered {
    groups: usize,
    start: Sequence,
    path: Vec<Sequence>,
    map: Map,
    /// From the number by the keys before a kept key, and its code, to the number with it, where finer groups look for
    /// theirs.
    chain: Vec<Pairs>,
}

impl Numbered {
    fn new(
        (without_keys, chained): (bool, bool),
        gathered: &GroupStates,
        kept: &[usize],
        members: Option<&Members>,
    ) -> Numbered {
        let codes = gathered.grouper.key_codes();
        // Groups that only rows left out would have belonged to are dropped. Without keys there is always
        // one group, so that a count of nothing is 0.
        let mut present = gathered.present(without_keys);
        let mut numbers = Sequence::same(0, present.len());
        if let Some(members) = members {
            let of_group = |g: u32| members.of_group[g as usize];
            present = present.iter().filter(|&g| of_group(g) != NO_NUMBER).collect();
            numbers = present.iter().map(of_group).collect();
        }
        let mut chain: Vec<Pairs> = Vec::new();
        let mut groups = members.map_or(1, |m| m.count);
        for (depth, &key) in kept.iter().enumerate() {
            let of_key = |g: u32| codes[key].at(g as usize);
            // No two groups have all keys in common: behind the last one each is its own.
            if members.is_none() && depth + 1 == codes.len() {
                if chained {
                    let each = numbers.iter().zip(present.iter());
                    let each = each.map(|(number, g)| (number, of_key(g)));
                    chain.push(Pairs::of_ordered(each.collect()));
                }
                groups = present.len();
                numbers = Sequence::counted(groups);
                break;
            }
            let bounds = (groups, gathered.grouper.codes[key].len());
            let each = numbers.iter().zip(present.iter()).map(|(number, g)| (number, of_key(g)));
            let (pairs, numbered) = Pairs::numbering(each, bounds);
            numbers = numbered;
            groups = pairs.len();
            chain.push(pairs);
        }
        let map = Map::new(gathered.grouper.groups() - 1, &present, &numbers);
        let of_key = |&key: &usize| codes[key].of(&present).scattered(&numbers, groups);
        let path = kept.iter().map(of_key).collect();
        let start = match members {
            // Also for members without a group.
            _ if kept.is_empty() => Sequence::counted(groups),
            Some(members) => {
                let of_group: Sequence =
                    present.iter().map(|g| members.of_group[g as usize]).collect();
                of_group.scattered(&numbers, groups)
            }
            None => Sequence::same(0, groups),
        };
        Numbered { groups, start, path, map, chain }
    }

    /// The states of the groups here. Groups as they are need no merging.
    fn states<'a>(&self, gathered: &'a GroupStates) -> Result<StatesHere<'a>, StepOverflow> {
        let all = &gathered.states[..];
        if !self.are_as_they_are() {
            return Ok(StatesHere { all, merged: self.merged(gathered)?, here: None });
        }
        let some = self.groups < self.map.each().len();
        Ok(StatesHere { all, merged: Vec::new(), here: some.then(|| self.here()) })
    }

    /// The states, taken together.
    fn merged(&self, gathered: &GroupStates) -> Result<Vec<Box<dyn State>>, StepOverflow> {
        let map: Vec<u32> = std::iter::once(0).chain(self.map.each()).collect();
        let merged = |(state, name): (&dyn State, &Arc<str>)| {
            let mut coarse = state.fresh();
            coarse.resize(self.groups + 1);
            coarse.merge(state, &map).map_err(StepOverflow::of(name))?;
            Ok(coarse)
        };
        let named = gathered.states.iter().map(AsRef::as_ref).zip(&gathered.names()[1..]);
        let merged = named.map(merged).collect();
        work::done(gathered.merging());
        merged
    }

    /// Whether the groups here are those of the grouping in their order, of which few may be left out.
    fn are_as_they_are(&self) -> bool {
        let mut last = 0;
        let is_next = |number: u32| {
            last += 1;
            number == last
        };
        let in_order = self.map.each().filter(|number| *number != 0).all(is_next);
        in_order && last as usize == self.groups && self.groups >= self.map.each().len() / 2
    }

    /// The groups of the grouping that are here, counted from 0.
    fn here(&self) -> Sequence {
        (0..).zip(self.map.each()).filter(|it| it.1 != 0).map(|it| it.0).collect()
    }

    /// The group here that each group of a finer grouping belongs to.
    fn belonging(
        &self,
        (here, finer): (&GroupStates, &GroupStates),
        inner: &Rollup<'_>,
        kept: &[usize],
        of_members: bool,
    ) -> Vec<u32> {
        let mut belongs = if of_members { inner.start.to_vec() } else { vec![0; inner.groups] };
        for (depth, (pairs, &key)) in self.chain.iter().zip(kept).enumerate() {
            let to_here = here.grouper.codes[key].clone().absorb(&finer.grouper.codes[key]);
            for (number, code) in belongs.iter_mut().zip(inner.path[depth].iter()) {
                *number = pairs.find(*number, to_here[code as usize]).unwrap_or(0);
            }
        }
        belongs
    }
}

/// The states of some groups.
struct StatesHere<'a> {
    /// Those of all groups.
    all: &'a [Box<dyn State>],
    /// Those of the groups here, where they were merged.
    merged: Vec<Box<dyn State>>,
    /// The groups that are here, where they were not, and are not all.
    here: Option<Sequence>,
}

impl StatesHere<'_> {
    /// A state.
    fn of(&self, state: usize) -> &dyn State {
        self.merged.get(state).unwrap_or(&self.all[state]).as_ref()
    }

    /// What an aggregate makes of a state: a value for each group that is here.
    fn finish(
        &self,
        aggregate: &dyn Aggregate,
        state: usize,
        args: &[Kind],
    ) -> Result<Column, Overflow> {
        let mut column = aggregate.finish(self.of(state), args)?;
        match &self.here {
            Some(Sequence::Listed(here)) => column.data.retain(here),
            Some(Sequence::Even { first, step: 1, len }) => {
                column.data.keep(*first as usize..*first as usize + len);
            }
            Some(here) => column.data.retain(&here.to_vec()),
            None => {}
        }
        Ok(column)
    }
}

/// What members of a grouping are in a finer one: each finer group goes where the group around it goes.
fn finer_members(
    group_states: &[GroupStates],
    index: usize,
    finer: usize,
    members: &Members,
) -> Members {
    let (outer, inner) = (&group_states[index].grouper, &group_states[finer].grouper);
    let keys = outer.codes.len();
    let codes = inner.key_codes();
    let to_outer: Vec<Vec<u32>> =
        (0..keys).map(|k| outer.codes[k].clone().absorb(&inner.codes[k])).collect();
    let of_group = (0..inner.groups() - 1).map(|g| {
        let number = (0..keys).try_fold(0u32, |number, k| {
            let code = to_outer[k][codes[k].at(g) as usize];
            if k == 0 { Some(code) } else { outer.pairs[k - 1].find(number, code) }
        });
        number.and_then(|n| members.of_group.get(n as usize).copied()).unwrap_or(NO_NUMBER)
    });
    Members { of_group: of_group.collect(), count: members.count }
}

/// The results of the groups for no rows at all.
pub(crate) fn of_no_rows(plan: &Plan, index: usize) -> Result<Vec<Column>, Error> {
    let grouping = &plan.groupings[index];
    let mut inputs: Vec<Column> =
        grouping.keys.iter().map(|k| Column::from_values(k.kind, &[Value::Missing])).collect();
    for aggregate in &grouping.aggregates {
        let args = match &aggregate.from {
            From::Rows(state) => &grouping.states[*state].args,
            From::SecondPass(i) => &plan.second_pass_aggregates[*i].args,
            From::Groups { args, .. } => args,
        };
        let kinds: Vec<Kind> = args.iter().map(|a| a.kind).collect();
        let mut state = aggregate.aggregate.state(&kinds);
        state.resize(2);
        let finished = aggregate.aggregate.finish(state.as_ref(), &kinds);
        inputs.push(finished.map_err(StepOverflow::of(&aggregate.text))?);
    }
    Ok(inputs)
}

impl Rollup<'_> {
    /// Runs the group program.
    fn run(&mut self, program: &Program) -> Result<(), Error> {
        let mut evaluator = Evaluator::new(program);
        let args = program.steps.iter().flat_map(|step| &step.args);
        let used: HashSet<usize> = args
            .filter_map(|arg| if let Operand::Input(i) = arg { Some(*i) } else { None })
            .collect();
        let none = Column::default();
        let inputs = 0..self.labels.len() + self.aggregated.len();
        let column = |i| if used.contains(&i) { self.column(Operand::Input(i)) } else { &none };
        evaluator.run(program, &inputs.map(column).collect::<Vec<_>>(), self.groups)?;
        note_zero_divisions(program, &evaluator, &mut self.ledger);
        self.evaluator = evaluator;
        Ok(())
    }

    /// A column of the group program.
    pub(crate) fn column(&self, operand: Operand) -> &Column {
        match (operand, self.aggregate(operand)) {
            (_, Some(column)) => column,
            (Operand::Input(key), None) => self.labels_of(key),
            (step, None) => self.evaluator.column(step, &[]),
        }
    }

    /// The results of an aggregate, where a column of the group program is one.
    pub(crate) fn aggregate(&self, operand: Operand) -> Option<&Arc<Column>> {
        let Operand::Input(input) = operand else { return None };
        self.aggregated.get(input.checked_sub(self.labels.len())?)
    }

    /// The labels of a key, group by group; missing where it is not kept.
    pub(crate) fn labels_of(&self, key: usize) -> &Column {
        self.labels[key].get_or_init(|| {
            let (codes, kind) = (&self.codes[key], self.kinds[key]);
            match self.codes(key) {
                Some(of_groups) => codes.column(kind, of_groups.iter()),
                None => codes.column(kind, std::iter::repeat_n(0, self.groups)),
            }
        })
    }

    /// The codes of a key, group by group; `None` when it is not kept.
    pub(crate) fn codes(&self, key: usize) -> Option<&Sequence> {
        self.kept.iter().position(|&k| k == key).map(|at| &self.path[at])
    }

    /// The groups in the order of their labels, key by key.
    fn label_order(&self, gathered: &GroupStates, kept: &[usize]) -> Vec<u32> {
        let ranks: Vec<Ranks> = kept.iter().map(|&k| gathered.grouper.codes[k].ranks()).collect();
        let mut order: Vec<u32> = (0..self.groups as u32).collect();
        let rank = |g: u32| {
            let codes = self.path.iter().zip(&ranks);
            codes.map(|(codes, ranks)| ranks.of(codes.at(g as usize))).collect::<Vec<_>>()
        };
        order.sort_by_cached_key(|&g| rank(g));
        order
    }
}

#[cfg(test)]
mod tests {
    use crate::testing::{answer, rows, shown, table};
    use crate::{Request, Totals};
    use rstest::rstest;

    const DATA: &str = "coast route month fare:2\nwest|SKE|1|4.00\nwest|SKE|2|8.00\nwest|KEL|1|1.00\neast|AAL|2|2.00\neast||2|\n|AAL|1|3.00\n";

    /// A total is what the same calculation gives where the key is left out.
    #[rstest]
    #[case("sum(fare)")]
    #[case("mean(fare)")]
    #[case("median(fare)")]
    #[case("count(distinct month)")]
    #[case("sum(fare) / count()")]
    #[case("max(sum(fare) per month)")]
    #[case("mean(count() per route, month)")]
    #[case("list(fare)")]
    #[case("count(where fare > mean(fare))")]
    #[case("first(fare along month)")]
    #[case("stdev(fare)")]
    fn a_total_is_worked_out_from_its_rows(#[case] calc: &str) {
        let rows = rows(DATA);
        let totals = Request { totals: Totals::All, ..Request::of(&["coast", "route"], &[calc]) };
        let given = shown(&answer(&rows, &totals).unwrap().0);
        let coasts = table(&rows, &["coast"], &[calc]);
        let all = table(&rows, &[], &[calc]);
        let lines: Vec<&str> = given.split("; ").collect();
        for coast in coasts.split("; ") {
            let (label, figure) = coast.split_once(" = ").unwrap();
            assert!(lines.contains(&&*format!("{label} Total = {figure}")), "{coast}: {given}");
        }
        assert_eq!(lines.last(), Some(&&*format!("Total = {all}")));
    }
}
