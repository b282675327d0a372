//! The second pass: aggregates whose condition compares each row with a result of its group, such as
//! `min(fare where fare > mean(fare))`.
//!
//! The condition means the group that the figure stands for, and so a row is judged once for each level of the
//! table: by the mean of its line, of its subtotal, of all rows. That the rows are read twice is the cost; a
//! request without such a condition reads them once.
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
//! use oeuvre_core::{Plan, Request, run};
//!
//! // route, fare: SKE 12.50; KEL 8.00; SKE 7.00; SKE (missing)
//! let request = Request::of(&["route"], &["count(where fare > mean(fare))"]);
//! let plan = Plan::new(&request, rows.columns())?;
//! let (table, _) = run(&plan, &rows, 1)?;
//! let shown: Vec<String> = (0..table.lines.len()).map(|line| table.cell(line, 0).to_string()).collect();
//! assert_eq!(shown, ["0", "1"]);
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

use super::codes::Grouper;
use super::key_sets::{KeySet, by_periods, key_sets};
use super::rollup::{Map, roll_up};
use super::states::{GroupStates, merge_all, only_where};
use crate::aggregate::{Rows, State};
use crate::error::Error;
use crate::pass::{Consumer, Pass, RowWork, Share};
use crate::plan::{Built, Plan};
use crate::rows::evaluator::{Evaluator, StepOverflow};
use oeuvre_columns::Limits;
use oeuvre_columns::Source;
use oeuvre_columns::column::{Batch, Column};
use oeuvre_columns::value::calendar::Unit;
use std::sync::Arc;

/// The states of second-pass aggregates: by the keys of the level, then by aggregate.
pub(crate) struct SecondPassStates {
    sets: Vec<KeySet>,
    states: Vec<Vec<Box<dyn State>>>,
}

impl SecondPassStates {
    /// The states at a level.
    pub(crate) fn at(
        &self,
        kept: &[usize],
        periods: &[(usize, Unit)],
    ) -> Option<&[Box<dyn State>]> {
        let at = self.sets.iter().position(|s| s.keys == kept && s.periods == periods)?;
        Some(&self.states[at])
    }
}

/// A level of the table, with the results that second-pass conditions use.
struct LevelResults {
    /// From the table's groups to those of the level.
    map: Map,
    groups: usize,
    /// The results, group by group.
    results: Vec<Column>,
}

/// Makes the second pass, if the plan needs one.
///
/// # Errors
/// As the first pass.
pub(crate) fn second_pass(
    plan: &Plan,
    source: &dyn Source,
    threads: usize,
    groups: &[GroupStates],
) -> Result<Option<SecondPassStates>, Error> {
    if plan.second_pass_aggregates.is_empty() {
        return Ok(None);
    }
    let sets = key_sets(plan);
    let levels = level_results(plan, groups, &sets)?;
    let again = Again { plan, table: &groups[0].grouper, levels: &levels };
    let states = Pass::over(source, threads).serve(&again)?.share.states;
    Ok(Some(SecondPassStates { sets, states }))
}

/// The results that second-pass conditions use, at each level.
fn level_results(
    plan: &Plan,
    groups: &[GroupStates],
    sets: &[KeySet],
) -> Result<Vec<LevelResults>, Error> {
    let all: Vec<usize> = (0..plan.keys().len()).collect();
    let mut finest = None;
    let mut levels = Vec::new();
    for set in sets {
        // What happens here is entered in the ledger when the table is put together.
        let level = if set.periods.is_empty() {
            roll_up(plan, groups, 0, &set.keys, None, None)?
        } else {
            let finest = match &mut finest {
                Some(known) => known,
                new => new.insert(roll_up(plan, groups, 0, &all, None, None)?),
            };
            let by_period = by_periods(plan, finest, &set.periods);
            roll_up(plan, groups, 0, &set.keys, Some(&by_period.members), None)?
        };
        let result = |b: &Built| level.column(b.operand).clone();
        let results = plan.second_pass_inputs.iter().map(result).collect();
        levels.push(LevelResults { results, groups: level.groups, map: level.map });
    }
    Ok(levels)
}

/// The rows again, as a consumer of a pass.
struct Again<'a> {
    plan: &'a Plan,
    table: &'a Grouper,
    levels: &'a [LevelResults],
}

/// What a worker keeps of them.
struct AgainShare {
    rows: RowWork,
    /// The groups of the worker's rows, and their numbers in the table.
    grouper: Grouper,
    table: Grouper,
    located: Vec<u32>,
    /// Every group of the largest level, in order.
    same: Vec<u32>,
    /// By level, then by aggregate.
    states: Vec<Vec<Box<dyn State>>>,
    /// What each aggregate is, for messages.
    names: Vec<Arc<str>>,
    evaluators: Vec<Evaluator>,
    /// Scratch: the group of each row, and of those for which the condition holds.
    groups: Vec<u32>,
    some: Vec<u32>,
}

impl Consumer for Again<'_> {
    type Share = AgainShare;

    fn columns(&self) -> &[usize] {
        &self.plan.inputs
    }

    fn limits(&self) -> Limits {
        self.plan.limits()
    }

    fn share(&self) -> AgainShare {
        let plan = self.plan;
        let fresh = |level: &LevelResults| {
            let states = plan.second_pass_aggregates.iter().map(|l| {
                let kinds: Vec<_> = l.args.iter().map(|a| a.kind).collect();
                let mut state = l.aggregate.state(&kinds);
                state.resize(level.groups + 1);
                state
            });
            states.collect()
        };
        AgainShare {
            rows: RowWork::new(plan),
            grouper: Grouper::new(plan.keys().iter().map(|k| k.kind)),
            table: self.table.clone(),
            located: Vec::new(),
            same: (0..=self.levels.iter().map(|l| l.groups).max().unwrap_or(0) as u32).collect(),
            states: self.levels.iter().map(fresh).collect(),
            names: plan.second_pass_aggregates.iter().map(|it| it.text.clone()).collect(),
            evaluators: self.levels.iter().map(|_| Evaluator::new(&plan.second_pass)).collect(),
            groups: Vec::new(),
            some: Vec::new(),
        }
    }

    fn take(&self, share: &mut AgainShare, batch: &mut Batch) -> Result<(), Error> {
        let plan = self.plan;
        let AgainShare { rows, grouper, table, located, states, evaluators, groups, some, .. } =
            share;
        let Some(selected) = rows.select(plan, batch)? else { return Ok(()) };
        let inputs: Vec<&Column> = selected.batch.columns.iter().collect();
        let keys: Vec<&Column> = plan.keys().iter().map(|k| selected.column(k.operand)).collect();
        grouper.number(&keys, selected.batch.rows, groups);
        let known = located.len();
        grouper.locate(table, &keys, known, located);
        for ((level, states), evaluator) in self.levels.iter().zip(states).zip(evaluators) {
            let of_level: Vec<u32> =
                groups.iter().map(|&g| level.map.of(located[g as usize])).collect();
            let places: Vec<u32> = of_level.iter().map(|&g| g.saturating_sub(1)).collect();
            let results: Vec<Column> = level.results.iter().map(|c| c.gather(&places)).collect();
            let second_pass: Vec<&Column> = inputs.iter().copied().chain(&results).collect();
            evaluator.run(&plan.second_pass, &second_pass, selected.batch.rows)?;
            for (plan, state) in plan.second_pass_aggregates.iter().zip(states) {
                only_where(&of_level, evaluator.column(plan.condition, &second_pass), some);
                let args: Vec<&Column> =
                    plan.args.iter().map(|a| selected.column(a.operand)).collect();
                let rows = Rows { groups: some, args: &args, piece: selected.batch.piece };
                state.update(rows).map_err(StepOverflow::of(&plan.text))?;
            }
        }
        Ok(())
    }
}

impl Share for AgainShare {
    fn absorb(&mut self, other: AgainShare, threads: usize) -> Result<(), Error> {
        // Groups have the same numbers in all workers.
        let (mine, theirs) = (self.states.iter_mut().flatten(), other.states.iter().flatten());
        let named = mine.zip(theirs).zip(self.names.iter().cycle());
        let named = named.map(|((mine, theirs), name)| (mine.as_mut() as _, theirs.as_ref(), name));
        Ok(merge_all(named, &self.same, threads)?)
    }
}

#[cfg(test)]
mod tests {
    use crate::testing::{answer, rows, shown};
    use crate::{Request, Totals};
    use rstest::rstest;

    /// Each level judges its rows by its own result: of 1, 3 and 8 the mean is 4, of 1 and 3 it is 2.
    #[rstest]
    #[case("count(where x > mean(x))", "a = 1; b = 0; Total = 1")]
    #[case("sum(x where x <= mean(x))", "a = 1; b = 8; Total = 4")]
    #[case("max(x where x < max(x))", "a = 1; b = -; Total = 3")]
    #[case("count(where x = max(x) or x = min(x))", "a = 2; b = 1; Total = 2")]
    #[case("count(where x > mean(x)) + count()", "a = 3; b = 1; Total = 4")]
    fn a_row_is_judged_once_for_each_level(#[case] calc: &str, #[case] expected: &str) {
        let request = Request { totals: Totals::Grand, ..Request::of(&["k"], &[calc]) };
        let (grid, ledger) = answer(&rows("k x:0\na|1\na|3\nb|8\n"), &request).unwrap();
        assert_eq!((shown(&grid).as_str(), ledger.read), (expected, 3), "rows are counted once");
    }
}
