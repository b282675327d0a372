//! The second pass: aggregates whose condition compares each row with a result of its group, such as
//! `min(fare where fare > mean(fare))`.
//!
//! The condition means the group that the figure stands for, and so a row is judged once for each
//! level of the table: by the mean of its line, of its subtotal, of all rows.

use super::groups::Grouper;
use super::kept::{KeptSet, by_periods, kept_sets};
use super::scope::evaluate;
use super::worker::{Gathered, Worker, only_where, result_overflow, run};
use crate::aggregate::{Rows, State};
use crate::error::Error;
use crate::language::resolve::Built;
use crate::plan::Plan;
use crate::rows::column::{Batch, Column};
use crate::rows::evaluator::Evaluator;
use crate::source::{Reader, Source};
use crate::value::calendar::Unit;

/// The states of late aggregates: by the keys of the level, then by aggregate.
pub(crate) struct LateStates {
    sets: Vec<KeptSet>,
    states: Vec<Vec<Box<dyn State>>>,
}

impl LateStates {
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

/// A level of the table in the second pass.
struct Depth {
    /// The group of the level for each of the table's groups, both counted from 1.
    map: Vec<u32>,
    groups: usize,
    /// The results that late conditions use, group by group.
    results: Vec<Column>,
}

/// Makes the second pass, if the plan needs one.
pub(crate) fn gather(
    plan: &Plan,
    source: &dyn Source,
    threads: usize,
    scopes: &[Gathered],
) -> Result<Option<LateStates>, Error> {
    if plan.resolved.late_aggregates.is_empty() {
        return Ok(None);
    }
    let mut depths = Vec::new();
    let sets = kept_sets(plan);
    let all: Vec<usize> = (0..plan.resolved.keys().len()).collect();
    let mut finest = None;
    for set in &sets {
        // What happens here is entered in the ledger when the table is put together.
        let level = if set.periods.is_empty() {
            evaluate(&plan.resolved, scopes, 0, &set.keys, None, None)?
        } else {
            let finest = match &mut finest {
                Some(known) => known,
                new => new.insert(evaluate(&plan.resolved, scopes, 0, &all, None, None)?),
            };
            let by_period = by_periods(plan, finest, &set.periods);
            evaluate(&plan.resolved, scopes, 0, &set.keys, Some(&by_period.members), None)?
        };
        let result = |b: &Built| level.column(b.operand).clone();
        let results = plan.resolved.late_inputs.iter().map(result).collect();
        depths.push(Depth { results, groups: level.groups, map: level.map });
    }
    let table = &scopes[0].grouper;
    let readers = source.scan(&plan.resolved.inputs, threads.max(1))?;
    let work = |reader| work(plan, reader, table, &sets, &depths);
    let all: Vec<Result<LateStates, Error>> = std::thread::scope(|scope| {
        let handles: Vec<_> =
            readers.into_iter().map(|reader| scope.spawn(move || work(reader))).collect();
        let join = |h: std::thread::ScopedJoinHandle<'_, _>| {
            h.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))
        };
        handles.into_iter().map(join).collect()
    });
    source.ensure_unchanged()?;
    let mut merged: Option<LateStates> = None;
    for one in all {
        let one = one?;
        match &mut merged {
            None => merged = Some(one),
            Some(mine) => {
                for (mine, theirs) in
                    mine.states.iter_mut().flatten().zip(one.states.iter().flatten())
                {
                    // Groups have the same numbers in all workers.
                    let same: Vec<u32> =
                        (0..=depths.iter().map(|d| d.groups).max().unwrap_or(0) as u32).collect();
                    mine.merge(theirs.as_ref(), &same).map_err(result_overflow)?;
                }
            }
        }
    }
    Ok(merged)
}

fn work(
    plan: &Plan,
    mut reader: Box<dyn Reader + '_>,
    table: &Grouper,
    sets: &[KeptSet],
    depths: &[Depth],
) -> Result<LateStates, Error> {
    let resolved = &plan.resolved;
    let mut worker = Worker::new(plan);
    let mut grouper = Grouper::new(resolved.keys().iter().map(|k| k.kind));
    let mut table = table.clone();
    let mut states: Vec<Vec<Box<dyn State>>> = Vec::new();
    for depth in depths {
        let fresh = resolved.late_aggregates.iter().map(|l| {
            let kinds: Vec<_> = l.args.iter().map(|a| a.kind).collect();
            let mut state = l.aggregate.state(&kinds);
            state.resize(depth.groups + 1);
            state
        });
        states.push(fresh.collect());
    }
    let mut evaluators: Vec<Evaluator> =
        depths.iter().map(|_| Evaluator::new(&resolved.late)).collect();
    let (mut batch, mut kept, mut groups) = (Batch::default(), Vec::new(), Vec::new());
    let (mut located, mut some) = (Vec::new(), Vec::new());
    while reader.next(&mut batch)? {
        if plan.filter.is_some() || plan.drops() {
            worker.keep(plan, &mut batch, &mut kept)?;
        }
        if batch.rows == 0 {
            continue;
        }
        let inputs: Vec<&Column> = batch.columns.iter().collect();
        run(&mut worker.row, &resolved.row, &inputs, batch.rows)?;
        let keys: Vec<&Column> =
            resolved.keys().iter().map(|k| worker.row.column(k.operand, &inputs)).collect();
        grouper.number(&keys, batch.rows, &mut groups);
        let known = located.len();
        grouper.locate(&mut table, &keys, known, &mut located);
        for ((depth, states), evaluator) in depths.iter().zip(&mut states).zip(&mut evaluators) {
            let of_level: Vec<u32> = groups
                .iter()
                .map(|&g| depth.map.get(located[g as usize] as usize).copied().unwrap_or(0))
                .collect();
            let places: Vec<u32> = of_level.iter().map(|&g| g.saturating_sub(1)).collect();
            let results: Vec<Column> = depth.results.iter().map(|c| c.gather(&places)).collect();
            let late: Vec<&Column> = inputs.iter().copied().chain(&results).collect();
            run(evaluator, &resolved.late, &late, batch.rows)?;
            for (plan, state) in resolved.late_aggregates.iter().zip(states) {
                only_where(&of_level, evaluator.column(plan.condition, &late), &mut some);
                let args: Vec<&Column> =
                    plan.args.iter().map(|a| worker.row.column(a.operand, &inputs)).collect();
                let rows = Rows { groups: &some, args: &args, piece: batch.piece };
                state.update(rows).map_err(result_overflow)?;
            }
        }
    }
    Ok(LateStates { sets: sets.to_vec(), states })
}
