//! From a plan and rows to the finished table.
//!
//! Workers share one pass over the rows. Each has its own group numbers and states; these are
//! merged, coarser levels are merged from the finest one, and the table is put together. No step
//! depends on which worker saw which rows.

mod assemble;
mod entered;
mod fill;
mod groups;
mod kept;
mod late;
mod levels;
mod lines;
mod listing;
mod partitions;
mod scope;
mod trace;
mod tree;
mod worker;

use crate::error::Error;
use crate::grid::Grid;
use crate::ledger::Ledger;
use crate::plan::Plan;
use crate::rows::lookup::NoMatch;
use crate::source::{Account, Reader, Source};
use worker::{Gathered, Worker};

pub use listing::{Parts, list};
pub use trace::{AtLabel, Entered, ReadsAs, Trace, Traced, trace};

/// Runs a plan over rows with this many threads (at least one).
///
/// # Errors
/// What is wrong with the data, an overflow, or [`Error::Widen`] when a column must be read as
/// another kind: the caller then plans and runs again.
pub fn run(plan: &Plan, source: &dyn Source, threads: usize) -> Result<(Grid, Ledger), Error> {
    let (mut scopes, mut ledger) = gather(plan, source, threads)?;
    source.ensure_sound(&plan.resolved.inputs)?;
    fill::fill(plan, &mut scopes[0])?;
    let late = late::gather(plan, source, threads, &scopes)?;
    let grid = assemble::assemble(plan, &scopes, late.as_ref(), &mut ledger)?;
    Ok((grid, ledger))
}

/// Reads all rows into the groups and states of the plan.
pub(crate) fn gather(
    plan: &Plan,
    source: &dyn Source,
    threads: usize,
) -> Result<(Vec<Gathered>, Ledger), Error> {
    let (worker, account, ()) =
        read(plan, source, threads, |worker, reader| worker.work(plan, reader, &mut |_| Ok(())))?;
    let ledger = account_of(plan, source, &worker, account)?;
    Ok((worker.into_scopes(), ledger))
}

/// What a pass leaves beside what its workers have gathered: merged in any order.
pub(crate) trait Kept: Send + Default {
    /// Takes in what another worker has kept.
    fn absorb(&mut self, other: Self);
}

impl Kept for () {
    fn absorb(&mut self, (): ()) {}
}

/// Makes one pass over the rows, by several workers, and merges what they have gathered and kept.
pub(crate) fn read<K: Kept>(
    plan: &Plan,
    source: &dyn Source,
    threads: usize,
    work: impl Fn(&mut Worker, &mut dyn Reader) -> Result<K, Error> + Sync,
) -> Result<(Worker, Account, K), Error> {
    let readers = source.scan(&plan.resolved.inputs, threads.max(1))?;
    let work = |mut reader: Box<dyn Reader + '_>| {
        let mut worker = Worker::new(plan);
        let done = work(&mut worker, reader.as_mut());
        (done.map(|kept| (worker, kept)), reader.piece(), reader.account())
    };
    let results: Vec<_> = if readers.len() == 1 {
        readers.into_iter().map(work).collect()
    } else {
        std::thread::scope(|scope| {
            let work = &work;
            let handles: Vec<_> =
                readers.into_iter().map(|reader| scope.spawn(move || work(reader))).collect();
            handles
                .into_iter()
                .map(|h| h.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)))
                .collect()
        })
    };
    // Of several problems, the first in the order of the rows is the one to tell: pieces before it have
    // all been taken, so that it is the same one whatever the number of threads.
    let mut account = Account::default();
    let mut workers = Vec::new();
    let mut problem: Option<(u64, Error)> = None;
    for (done, piece, reader_account) in results {
        account.add(&reader_account);
        match done {
            Ok(worker) => workers.push(worker),
            Err(error) if problem.as_ref().is_none_or(|p| piece < p.0) => {
                problem = Some((piece, error));
            }
            Err(_) => {}
        }
    }
    // What was read of rows that have changed means nothing, a problem neither.
    source.ensure_unchanged()?;
    if let Some((_, error)) = problem {
        return Err(error);
    }
    let mut workers = workers.into_iter();
    let Some((mut first, mut kept)) = workers.next() else {
        return Err(Error::request("there is nothing to read"));
    };
    for (other, more) in workers {
        first.absorb(other)?;
        kept.absorb(more);
    }
    Ok((first, account, kept))
}

/// The account of a pass.
pub(crate) fn account_of(
    plan: &Plan,
    source: &dyn Source,
    worker: &Worker,
    account: Account,
) -> Result<Ledger, Error> {
    let mut ledger = worker.ledger(plan);
    ledger.unreadable = account.unreadable;
    ledger.padded = account.padded;
    let columns = source.columns();
    let name = |column: usize| columns.get(plan.resolved.inputs[column]).map(|c| c.name.clone());
    ledger.read_as_missing = account
        .read_as_missing
        .into_iter()
        .map(|(column, text, n)| (name(column).unwrap_or_default(), text, n))
        .collect();
    ledger.remarks.clone_from(&plan.resolved.remarks);
    ledger.remarks.extend(source.remarks(&plan.resolved.inputs));
    for (account, lookup) in ledger.lookups.iter().zip(&plan.resolved.lookups) {
        if account.unmatched > 0 && lookup.no_match == NoMatch::Stop {
            let keys: Vec<String> =
                account.keys.iter().take(5).map(|(k, n)| format!("'{k}' ({n})")).collect();
            return Err(Error::request_with_help(
                format!(
                    "{} rows have no match in {}: {}",
                    account.unmatched,
                    account.name,
                    keys.join(", ")
                ),
                "--no-match blank counts such rows, --no-match leave-out leaves them out",
            ));
        }
    }
    Ok(ledger)
}
