//! From a plan and rows to the finished table.
//!
//! One pass brings the rows into groups, another one the rows again that are compared with results of their
//! groups; coarser levels are merged from the finest groups, and the table is put together. No step depends on
//! which worker saw which rows.

use crate::error::Error;
use crate::grid::Grid;
use crate::grouping::{Gathered, Groups, GroupsShare, fill, gather_one, second_pass};
use crate::ledger::Ledger;
use crate::listing::{Keep, KeepShare, keep, list_of};
use crate::pass::{Consumer, Done, Pass, Share};
use crate::plan::Plan;
use crate::table::{alike_keys, assemble, texts_of_lines};
use oeuvre_columns::Limits;
use oeuvre_columns::Source;
use oeuvre_columns::column::Batch;

/// Runs a plan over rows with this many threads (at least one).
///
/// # Errors
/// What is wrong with the data, an overflow, or [`Error::Again`] when a column must be read as
/// another kind: the caller then plans and runs again.
pub fn run(plan: &Plan, source: &dyn Source, threads: usize) -> Result<(Grid, Ledger), Error> {
    finished(plan, source, threads, gather_one(plan, source, threads)?)
}

/// Runs several plans over the same rows in one pass, listings among them: what each gives is what [`run`], or
/// [`crate::list`], gives for it.
///
/// # Errors
/// As for [`run`]; of several problems the first in the order of the rows.
pub fn run_all(
    plans: &[&Plan],
    source: &dyn Source,
    threads: usize,
) -> Result<Vec<(Grid, Ledger)>, Error> {
    let shares = threads * plans.len();
    let wants: Vec<Wants<'_>> = plans.iter().map(|plan| Wants::of(plan, shares)).collect();
    let done = Pass::over(source, threads).serve_all(&wants)?;
    for (plan, done) in plans.iter().zip(&done) {
        if let Kept::Groups(share) = &done.share {
            share.expect_work(plan, threads);
        }
    }
    let each = plans.iter().zip(done);
    each.map(|(plan, done)| match done.share {
        Kept::Groups(share) => {
            let ledger = share.rows.ledger(plan, source, &done.account)?;
            finished(plan, source, threads, (share.into_groups(threads)?, ledger))
        }
        Kept::Rows(share) => {
            list_of(plan, source, threads, Done { share: *share, account: done.account })
        }
    })
    .collect()
}

/// What a plan wants of the rows: their groups, or in a listing the rows themselves.
enum Wants<'p> {
    Groups(Groups<'p>),
    Rows(Keep<'p>),
}

/// What a worker keeps of them.
enum Kept {
    Groups(Box<GroupsShare>),
    Rows(Box<KeepShare>),
}

impl<'p> Wants<'p> {
    fn of(plan: &'p Plan, shares: usize) -> Wants<'p> {
        match plan.listing {
            true => Wants::Rows(keep(plan)),
            false => Wants::Groups(Groups::new(plan, shares)),
        }
    }
}

impl Consumer for Wants<'_> {
    type Share = Kept;

    fn columns(&self) -> &[usize] {
        match self {
            Wants::Groups(it) => it.columns(),
            Wants::Rows(it) => it.columns(),
        }
    }

    fn limits(&self) -> Limits {
        match self {
            Wants::Groups(it) => it.limits(),
            Wants::Rows(it) => it.limits(),
        }
    }

    fn chooses_by(&self) -> Option<&Plan> {
        match self {
            Wants::Groups(it) => it.chooses_by(),
            Wants::Rows(it) => it.chooses_by(),
        }
    }

    fn share(&self) -> Kept {
        match self {
            Wants::Groups(it) => Kept::Groups(Box::new(it.share())),
            Wants::Rows(it) => Kept::Rows(Box::new(it.share())),
        }
    }

    fn take(&self, share: &mut Kept, batch: &mut Batch) -> Result<(), Error> {
        match (self, share) {
            (Wants::Groups(it), Kept::Groups(share)) => it.take(share, batch),
            (Wants::Rows(it), Kept::Rows(share)) => it.take(share, batch),
            _ => unreachable!("a share is that of its consumer"),
        }
    }

    fn finish(&self, share: &mut Kept, batch: &Batch) -> Result<(), Error> {
        match (self, share) {
            (Wants::Groups(it), Kept::Groups(share)) => it.finish(share, batch),
            (Wants::Rows(it), Kept::Rows(share)) => it.finish(share, batch),
            _ => unreachable!("a share is that of its consumer"),
        }
    }
}

impl Share for Kept {
    fn absorb(&mut self, other: Kept, threads: usize) -> Result<(), Error> {
        match (self, other) {
            (Kept::Groups(mine), Kept::Groups(theirs)) => mine.absorb(*theirs, threads),
            (Kept::Rows(mine), Kept::Rows(theirs)) => mine.absorb(*theirs, threads),
            _ => unreachable!("the shares of one consumer are alike"),
        }
    }
}

/// From the groups of a plan to its table.
pub(crate) fn finished(
    plan: &Plan,
    source: &dyn Source,
    threads: usize,
    (mut groups, mut ledger): Gathered,
) -> Result<(Grid, Ledger), Error> {
    source.ensure_sound(&plan.inputs)?;
    ledger.notes.extend(alike_keys(plan, &groups[0]));
    ledger.notes.extend(texts_of_lines(plan, &groups[0]));
    fill(plan, &mut groups[0])?;
    let second_pass = second_pass(plan, source, threads, &groups)?;
    let grid = assemble(plan, &groups, second_pass.as_ref(), &mut ledger)?;
    Ok((grid, ledger))
}
