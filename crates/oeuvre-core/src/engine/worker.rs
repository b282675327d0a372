//! One thread's share of the rows: calculate, group, accumulate.

use super::groups::Grouper;
use crate::aggregate::count::Counts;
use crate::aggregate::{Overflow, Rows, State};
use crate::error::Error;
use crate::language::resolve::Scope;
use crate::ledger::{Ledger, LookupAccount};
use crate::plan::Plan;
use crate::rows::column::{Batch, Column, Data};
use crate::rows::evaluator::{Evaluator, StepOverflow};
use crate::rows::lookup::{key_text, push_key};
use crate::rows::program::{Operand, Program, Step};
use crate::source::Reader;
use std::collections::{BTreeSet, HashMap};

/// Everything a worker has gathered.
pub(crate) struct Worker {
    /// For each scope of the plan.
    scopes: Vec<Gathered>,
    filter: Evaluator,
    pub(crate) row: Evaluator,
    read: u64,
    left_out: u64,
    left_out_missing: u64,
    found: Vec<Found>,
}

/// A batch that has been taken in: the rows that count.
pub(crate) struct Taken<'a> {
    pub(crate) batch: &'a Batch,
    row: &'a Evaluator,
}

impl<'a> Taken<'a> {
    /// A column of the row program.
    pub(crate) fn column(&self, operand: Operand) -> &'a Column {
        match operand {
            Operand::Input(i) => &self.batch.columns[i],
            step => self.row.column(step, &[]),
        }
    }
}

/// What a lookup did for a worker's rows.
#[derive(Clone, Default)]
struct Found {
    unmatched: u64,
    keys: HashMap<String, u64>,
    used: Vec<bool>,
}

impl Found {
    /// Takes in what some rows have found; `on` says which of them count.
    fn take(&mut self, rows: &Column, step: &Step, keys: &[&Column], on: impl Fn(usize) -> bool) {
        let Data::I32(found) = &rows.data else { return };
        for (row, &place) in found.iter().enumerate().filter(|(row, _)| on(*row)) {
            if let Some(used) = self.used.get_mut(place as u32 as usize) {
                *used = true;
                continue;
            }
            self.unmatched += 1;
            let mut key = String::new();
            let mut parts = keys.iter().zip(&step.arg_kinds);
            if !parts.all(|(k, &kind)| push_key(&mut key, &k.value(kind, row))) {
                key = "(missing)".to_owned();
            }
            *self.keys.entry(key).or_default() += 1;
        }
    }
}

/// The groups of a scope with their states.
pub(crate) struct Gathered {
    pub(crate) grouper: Grouper,
    /// Rows counted in each group.
    pub(crate) counts: Counts,
    pub(crate) states: Vec<Box<dyn State>>,
    /// Groups that are shown although nothing was counted in them.
    pub(crate) forced: BTreeSet<u32>,
}

impl Worker {
    pub(crate) fn new(plan: &Plan) -> Worker {
        let it = &plan.resolved;
        let gather = |scope: &Scope| Gathered {
            grouper: Grouper::new(scope.keys.iter().map(|k| k.kind)),
            counts: Counts::default(),
            forced: BTreeSet::new(),
            states: scope
                .states
                .iter()
                .map(|s| s.aggregate.state(&s.args.iter().map(|a| a.kind).collect::<Vec<_>>()))
                .collect(),
        };
        Worker {
            scopes: it.scopes.iter().map(gather).collect(),
            filter: Evaluator::new(&it.filter),
            row: Evaluator::new(&it.row),
            read: 0,
            left_out: 0,
            left_out_missing: 0,
            found: it
                .lookups
                .iter()
                .map(|l| Found {
                    used: vec![false; l.lookup.table.lines.len()],
                    ..Found::default()
                })
                .collect(),
        }
    }

    /// Reads and takes in all batches that the reader gives; each is also given to `also`, when its row
    /// program has run.
    pub(crate) fn work(
        &mut self,
        plan: &Plan,
        reader: &mut dyn Reader,
        also: &mut dyn FnMut(Taken<'_>) -> Result<(), Error>,
    ) -> Result<(), Error> {
        let mut batch = Batch::default();
        let mut kept = Vec::new();
        let mut groups = Vec::new();
        let mut some = Vec::new();
        while reader.next(&mut batch)? {
            self.read += batch.rows as u64;
            if plan.filter.is_some() || plan.drops() {
                self.keep(plan, &mut batch, &mut kept)?;
            }
            if batch.rows > 0 {
                self.take(plan, &batch, &mut groups, &mut some)?;
                also(Taken { batch: &batch, row: &self.row })?;
            }
        }
        let inputs: Vec<&Column> = batch.columns.iter().collect();
        if inputs.len() == plan.resolved.inputs.len() {
            for (scope, plan) in self.scopes.iter_mut().zip(&plan.resolved.scopes) {
                let keys: Vec<&Column> =
                    plan.keys.iter().map(|k| self.row.column(k.operand, &inputs)).collect();
                scope.grouper.finish(&keys);
            }
        }
        Ok(())
    }

    /// Drops the rows that do not meet the condition.
    pub(crate) fn keep(
        &mut self,
        plan: &Plan,
        batch: &mut Batch,
        kept: &mut Vec<u32>,
    ) -> Result<(), Error> {
        let inputs: Vec<&Column> = batch.columns.iter().collect();
        run(&mut self.filter, &plan.resolved.filter, &inputs, batch.rows)?;
        let (mut n, mut missing) = (batch.rows, 0);
        kept.clear();
        kept.extend(0..batch.rows as u32);
        if let Some(condition) = plan.filter
            && let Data::Bool(truths) = &self.filter.column(condition, &inputs).data
        {
            // Every row is written, and the place moves on only for those that are kept.
            n = 0;
            for (row, &truth) in truths.iter().enumerate().take(batch.rows) {
                kept[n] = row as u32;
                n += usize::from(truth == 1);
                missing += u64::from(truth > 1);
            }
            kept.truncate(n);
        }
        self.left_out += (batch.rows - n) as u64;
        self.left_out_missing += missing;
        for (i, &found) in plan.found.iter().enumerate().filter(|(i, _)| plan.drops_unmatched(*i)) {
            let rows = self.filter.column(found, &inputs);
            let step = step_of(&plan.resolved.filter, found);
            let keys: Vec<&Column> =
                step.args.iter().map(|&a| self.filter.column(a, &inputs)).collect();
            let mut on = vec![false; batch.rows];
            kept.iter().for_each(|&row| on[row as usize] = true);
            self.found[i].take(rows, step, &keys, |row| on[row]);
            kept.retain(|&row| !rows.data.is_missing(row as usize));
        }
        if kept.len() < batch.rows {
            for (i, column) in batch.columns.iter_mut().enumerate() {
                if plan.resolved.used_after_filter(i) {
                    column.data.retain(kept);
                }
            }
            batch.rows = kept.len();
        }
        Ok(())
    }

    fn take(
        &mut self,
        plan: &Plan,
        batch: &Batch,
        groups: &mut Vec<u32>,
        some: &mut Vec<u32>,
    ) -> Result<(), Error> {
        let resolved = &plan.resolved;
        let inputs: Vec<&Column> = batch.columns.iter().collect();
        run(&mut self.row, &resolved.row, &inputs, batch.rows)?;
        for (i, &found) in plan.found.iter().enumerate().filter(|(i, _)| !plan.drops_unmatched(*i))
        {
            let step = step_of(&resolved.row, found);
            let keys: Vec<&Column> =
                step.args.iter().map(|&a| self.row.column(a, &inputs)).collect();
            self.found[i].take(self.row.column(found, &inputs), step, &keys, |_| true);
        }
        for (scope, plan) in self.scopes.iter_mut().zip(&resolved.scopes) {
            scope.take(plan, &self.row, &inputs, batch, groups, some)?;
        }
        Ok(())
    }

    /// Takes in what another worker has gathered.
    pub(crate) fn absorb(&mut self, other: Worker) -> Result<(), Error> {
        for (mine, theirs) in self.scopes.iter_mut().zip(&other.scopes) {
            let map = mine.grouper.absorb(&theirs.grouper);
            let n = mine.grouper.groups();
            mine.counts.resize(n);
            mine.counts.merge(&theirs.counts, &map).map_err(result_overflow)?;
            for (mine, theirs) in mine.states.iter_mut().zip(&theirs.states) {
                mine.resize(n);
                mine.merge(theirs.as_ref(), &map).map_err(result_overflow)?;
            }
        }
        for (mine, theirs) in self.found.iter_mut().zip(other.found) {
            mine.unmatched += theirs.unmatched;
            mine.used.iter_mut().zip(theirs.used).for_each(|(a, b)| *a |= b);
            for (key, n) in theirs.keys {
                *mine.keys.entry(key).or_default() += n;
            }
        }
        self.read += other.read;
        self.left_out += other.left_out;
        self.left_out_missing += other.left_out_missing;
        for (mine, theirs) in [(&mut self.filter, &other.filter), (&mut self.row, &other.row)] {
            for (a, b) in mine.zero_divisions.iter_mut().zip(&theirs.zero_divisions) {
                *a += b;
            }
        }
        Ok(())
    }

    /// The account of the rows.
    pub(crate) fn ledger(&self, plan: &Plan) -> Ledger {
        let mut ledger = Ledger {
            read: self.read,
            filtered: plan.filter.is_some(),
            left_out: self.left_out,
            left_out_missing: self.left_out_missing,
            counted: self.scopes[0].counts.0.iter().skip(1).sum(),
            lookups: self.lookup_accounts(plan),
            ..Ledger::default()
        };
        let programs = [(&plan.resolved.filter, &self.filter), (&plan.resolved.row, &self.row)];
        for (program, evaluator) in programs {
            note_zero_divisions(program, evaluator, &mut ledger);
        }
        ledger
    }

    fn lookup_accounts(&self, plan: &Plan) -> Vec<LookupAccount> {
        let one = |(i, found): (usize, &Found)| {
            let mut keys: Vec<(String, u64)> =
                found.keys.iter().map(|(k, n)| (key_text(k), *n)).collect();
            keys.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
            LookupAccount {
                name: plan.resolved.lookups[i].lookup.table.name.clone(),
                unmatched: found.unmatched,
                dropped: plan.drops_unmatched(i),
                keys,
                unused: found.used.iter().filter(|u| !**u).count() as u64,
            }
        };
        self.found.iter().enumerate().map(one).collect()
    }

    pub(crate) fn into_scopes(mut self) -> Vec<Gathered> {
        // Without a single row the states have not been told of the groups yet.
        for scope in &mut self.scopes {
            let groups = scope.grouper.groups();
            scope.counts.resize(groups);
            scope.states.iter_mut().for_each(|s| s.resize(groups));
        }
        self.scopes
    }
}

impl Gathered {
    /// The groups that are shown, counted from 0: those with rows, and those that are forced.
    pub(crate) fn present(&self, always: bool) -> Vec<u32> {
        let counted = |g: &u32| self.counts.0.get(*g as usize + 1).is_some_and(|&n| n > 0);
        (0..self.grouper.groups() as u32 - 1)
            .filter(|g| always || counted(g) || self.forced.contains(&(g + 1)))
            .collect()
    }

    /// Takes in a batch.
    fn take(
        &mut self,
        plan: &Scope,
        row: &Evaluator,
        inputs: &[&Column],
        batch: &Batch,
        groups: &mut Vec<u32>,
        some: &mut Vec<u32>,
    ) -> Result<(), Error> {
        let keys: Vec<&Column> = plan.keys.iter().map(|k| row.column(k.operand, inputs)).collect();
        self.grouper.number(&keys, batch.rows, groups);
        let n = self.grouper.groups();
        let piece = batch.piece;
        self.counts.resize(n);
        self.counts.update(Rows { groups, args: &[], piece }).map_err(result_overflow)?;
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
            state.update(Rows { groups, args: &args, piece }).map_err(result_overflow)?;
        }
        Ok(())
    }
}

/// The groups of the rows for which a condition holds; the others go to the waste group.
pub(crate) fn only_where(groups: &[u32], condition: &Column, some: &mut Vec<u32>) {
    some.clear();
    if let Data::Bool(truths) = &condition.data {
        some.extend(groups.iter().zip(truths).map(|(&g, &t)| g * u32::from(t == 1)));
    }
}

/// The step that makes a column.
fn step_of(program: &Program, operand: Operand) -> &Step {
    match operand {
        Operand::Step(i) => &program.steps[i],
        Operand::Input(_) => unreachable!("the rows of a lookup are found by a step"),
    }
}

/// Enters divisions by zero into the ledger, under the words of the calculation.
pub(crate) fn note_zero_divisions(program: &Program, evaluator: &Evaluator, ledger: &mut Ledger) {
    for (step, &n) in program.steps.iter().zip(&evaluator.zero_divisions).filter(|(_, n)| **n > 0) {
        match ledger.divisions_by_zero.iter_mut().find(|d| *d.0 == *step.text) {
            Some(known) => known.1 += n,
            None => ledger.divisions_by_zero.push((step.text.to_string(), n)),
        }
    }
}

/// Runs a program, with an overflow as an error that names the calculation.
pub(crate) fn run(
    evaluator: &mut Evaluator,
    program: &Program,
    inputs: &[&Column],
    rows: usize,
) -> Result<(), Error> {
    evaluator.run(program, inputs, rows).map_err(step_overflow)
}

/// The error for what outgrew its kind.
pub(crate) fn overflow(what: &str, overflow: Overflow) -> Error {
    let (message, help) = match overflow {
        Overflow::Digits => (
            format!("{what} is too large: exact numbers hold up to 38 digits"),
            "binary64 holds larger numbers, with 15 digits: divide a factor by 1 to calculate in it",
        ),
        Overflow::Binary => (
            format!("{what} is too large: binary64 numbers reach to about 1.8e308"),
            "leave out the largest values with --where, or divide them first",
        ),
        Overflow::Calendar => (
            format!("{what} lies outside the calendar, which runs from 0001-01-01 to 9999-12-31"),
            "look at the smallest and the largest value of its columns with oeuvre profile",
        ),
        Overflow::Listed => (
            format!("{what} lists more than 1,000 values in one cell"),
            "list(distinct x) gives each value once; oeuvre detail keeps every row",
        ),
    };
    Error::request_with_help(message, help)
}

/// The error for a result of a group that outgrew its kind.
pub(crate) fn result_overflow(it: Overflow) -> Error {
    overflow("a result", it)
}

/// The error for a step of a program.
pub(crate) fn step_overflow(it: StepOverflow) -> Error {
    overflow(&format!("`{}`", it.text), it.overflow)
}
