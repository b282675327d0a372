//! Working out a scope at some of its keys: states merged to the coarser groups, aggregates finished,
//! those over finer groups first, and the group program run.

use super::late::LateStates;
use super::worker::{Gathered, note_zero_divisions, only_where, result_overflow, run};
use crate::aggregate::{Rows, State};
use crate::error::Error;
use crate::language::resolve::{From, Resolver};
use crate::ledger::Ledger;
use crate::rows::column::Column;
use crate::rows::interner::Pairs;
use crate::rows::program::Evaluator;
use crate::value::{Kind, Value};

/// A scope at some of its keys.
pub(crate) struct Evaluated {
    /// The code of each kept key, group by group.
    pub(crate) path: Vec<Vec<u32>>,
    /// The group here of each group of the scope, both counted from 1.
    pub(crate) map: Vec<u32>,
    /// How many groups there are.
    pub(crate) groups: usize,
    /// The inputs of the group program.
    pub(crate) inputs: Vec<Column>,
    /// The group program, run.
    pub(crate) evaluator: Evaluator,
}

/// Works a scope out at the keys that are kept, in ascending order. Groups are numbered in the order
/// of the finest groups.
pub(crate) fn evaluate(
    resolved: &Resolver,
    scopes: &[Gathered],
    scope: usize,
    kept: &[usize],
    late: Option<&LateStates>,
    ledger: &mut Ledger,
) -> Result<Evaluated, Error> {
    let (plan, gathered) = (&resolved.scopes[scope], &scopes[scope]);
    let codes = gathered.grouper.key_codes();
    let mut counts = gathered.counts.0.clone();
    counts.resize(gathered.grouper.groups(), 0);
    // Groups that only rows left out would have belonged to are dropped. Without keys there is always
    // one group, so that a count of nothing is 0.
    let present = gathered.present(plan.keys.is_empty());
    let mut numbers: Vec<u32> = vec![0; present.len()];
    let mut chain: Vec<Pairs> = Vec::new();
    let mut groups = 1;
    for &key in kept {
        let mut pairs = Pairs::default();
        pairs.ensure(groups, gathered.grouper.codes[key].len());
        for (number, &g) in numbers.iter_mut().zip(&present) {
            *number = pairs.number(*number, codes[key][g as usize]);
        }
        groups = pairs.len();
        chain.push(pairs);
    }
    let mut map = vec![0u32; counts.len()];
    let mut path: Vec<Vec<u32>> = vec![vec![0; groups]; kept.len()];
    for (&g, &number) in present.iter().zip(&numbers) {
        map[g as usize + 1] = number + 1;
        for (codes_of_key, &key) in path.iter_mut().zip(kept) {
            codes_of_key[number as usize] = codes[key][g as usize];
        }
    }
    // All groups as they are need no merging.
    let same = groups + 1 == counts.len() && map.iter().enumerate().all(|(i, &m)| m == i as u32);
    let mut merged: Vec<Box<dyn State>> = Vec::new();
    for state in gathered.states.iter().filter(|_| !same) {
        let mut coarse = state.fresh();
        coarse.resize(groups + 1);
        coarse.merge(state.as_ref(), &map).map_err(result_overflow)?;
        merged.push(coarse);
    }
    let states: Vec<&dyn State> =
        if same { &gathered.states } else { &merged }.iter().map(|s| s.as_ref()).collect();
    let mut inputs: Vec<Column> = Vec::new();
    for (i, key) in plan.keys.iter().enumerate() {
        let codes_of_key = &gathered.grouper.codes[i];
        inputs.push(match kept.iter().position(|&k| k == i) {
            Some(at) => codes_of_key.column(key.kind, path[at].iter().copied()),
            None => codes_of_key.column(key.kind, std::iter::repeat_n(0, groups)),
        });
    }
    for aggregate in &plan.aggregates {
        let kinds = |args: &[crate::language::resolve::Built]| -> Vec<Kind> {
            args.iter().map(|a| a.kind).collect()
        };
        let column = match &aggregate.from {
            From::Rows(state) => {
                aggregate.aggregate.finish(states[*state], &kinds(&plan.states[*state].args))
            }
            From::Late(i) => match late {
                Some(late) => {
                    let args = kinds(&resolved.late_aggregates[*i].args);
                    aggregate.aggregate.finish(late.states[kept.len()][*i].as_ref(), &args)
                }
                // The first time: nothing uses it yet.
                None => {
                    let none = vec![Value::Missing; groups];
                    Ok(Column::from_values(aggregate.kind, &none))
                }
            },
            From::Groups { scope: finer, args, condition } => {
                let own = resolved.scopes[*finer].outer..resolved.scopes[*finer].keys.len();
                let kept_finer: Vec<usize> = kept.iter().copied().chain(own).collect();
                let inner = evaluate(resolved, scopes, *finer, &kept_finer, None, ledger)?;
                // The group here that each finer group belongs to.
                let mut belongs: Vec<u32> = vec![0; inner.groups];
                for (depth, (pairs, &key)) in chain.iter().zip(kept).enumerate() {
                    let to_here = gathered.grouper.codes[key]
                        .clone()
                        .absorb(&scopes[*finer].grouper.codes[key]);
                    for (number, &code) in belongs.iter_mut().zip(&inner.path[depth]) {
                        *number = pairs.find(*number, to_here[code as usize]).unwrap_or(0);
                    }
                }
                // In label order, so that the first and the last are the same in every run.
                let order = inner.label_order(&scopes[*finer], &kept_finer);
                let numbers: Vec<u32> = order.iter().map(|&g| belongs[g as usize] + 1).collect();
                let columns: Vec<&Column> = inner.inputs.iter().collect();
                let args_of: Vec<Column> = args
                    .iter()
                    .map(|a| inner.evaluator.column(a.operand, &columns).gather(&order))
                    .collect();
                let mut some = Vec::new();
                let groups_of: &[u32] = match condition {
                    Some(condition) => {
                        let truth = inner.evaluator.column(*condition, &columns).gather(&order);
                        only_where(&numbers, &truth, &mut some);
                        &some
                    }
                    None => &numbers,
                };
                let mut state = aggregate.aggregate.state(&kinds(args));
                state.resize(groups + 1);
                let args_of: Vec<&Column> = args_of.iter().collect();
                state
                    .update(Rows { groups: groups_of, args: &args_of, piece: 0 })
                    .map_err(result_overflow)?;
                aggregate.aggregate.finish(state.as_ref(), &kinds(args))
            }
        };
        inputs.push(column.map_err(result_overflow)?);
    }
    let mut evaluator = Evaluator::new(&plan.group);
    let columns: Vec<&Column> = inputs.iter().collect();
    run(&mut evaluator, &plan.group, &columns, groups)?;
    note_zero_divisions(&plan.group, &evaluator, ledger);
    Ok(Evaluated { path, map, groups, inputs, evaluator })
}

impl Evaluated {
    /// The groups in the order of their labels, key by key.
    fn label_order(&self, gathered: &Gathered, kept: &[usize]) -> Vec<u32> {
        let ranks: Vec<Vec<u32>> =
            kept.iter().map(|&k| gathered.grouper.codes[k].ranks()).collect();
        let mut order: Vec<u32> = (0..self.groups as u32).collect();
        let rank = |g: u32| {
            let codes = self.path.iter().zip(&ranks);
            codes.map(|(codes, ranks)| ranks[codes[g as usize] as usize]).collect::<Vec<_>>()
        };
        order.sort_by_cached_key(|&g| rank(g));
        order
    }
}
