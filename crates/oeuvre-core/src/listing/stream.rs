//! Rows that stand for themselves: read, worked out, and given on in the order of the file.
//!
//! Workers make parts, and one of them takes these in order; nobody runs further ahead than a few parts, so that
//! memory does not grow with the rows.

use super::texts::{follows_texts, forgets};
use super::{Parts, account_rows, blank, kept_rows, part};
use crate::error::Error;
use crate::grid::Grid;
use crate::ledger::Ledger;
use crate::pass::{Consumer, Pass, RowWork, Selected, Share, note_zero_divisions};
use crate::plan::{Plan, TableInput};
use crate::rows::evaluator::Evaluator;
use crate::rows::program::Operand;
use oeuvre_columns::Limits;
use oeuvre_columns::Source;
use oeuvre_columns::column::{Batch, Column};
use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::mpsc::{self, Receiver, SyncSender};

/// Gives the rows on in parts.
///
/// # Errors
/// As the pass; nothing has been given on then.
pub(super) fn stream<T: Send>(
    plan: &Plan,
    source: &dyn Source,
    threads: usize,
    parts: Parts<'_, T>,
) -> Result<Ledger, Error> {
    // The first pass finds what would stop the second.
    let done = Pass::over(source, threads).serve(&Probe(plan))?;
    let mut ledger = done.share.rows.ledger(plan, source, &done.account)?;
    source.ensure_sound(&plan.inputs)?;
    let stop = AtomicBool::new(false);
    let (send, receive) = mpsc::sync_channel::<Message<T>>(2 * threads);
    let Parts { make, take } = parts;
    let shown = std::thread::scope(|scope| {
        let stop = &stop;
        let work = move || {
            let show = Show { plan, make, stop, send, next: AtomicUsize::new(0) };
            Pass::over(source, threads).serve(&show)
        };
        let handle = scope.spawn(work);
        in_order(receive, threads, stop, take);
        handle.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))
    });
    if stop.load(Ordering::Relaxed) {
        return Ok(ledger);
    }
    let shown = shown?.share;
    ledger.add_divisions(&shown.ledger);
    account_rows(plan, &mut ledger, shown.shown, shown.blank);
    Ok(ledger)
}

/// What a worker tells: a part that it has made, or that it has made all of its parts.
enum Message<T> {
    /// The worker, the piece, what was made of it.
    Part(usize, u64, T),
    /// The worker.
    Done(usize),
}

/// Takes parts in the order of their pieces, as soon as no worker can give an earlier one.
fn in_order<T>(
    receive: Receiver<Message<T>>,
    threads: usize,
    stop: &AtomicBool,
    take: &mut dyn FnMut(T) -> bool,
) {
    let mut give = |made: T| {
        if !stop.load(Ordering::Relaxed) && !take(made) {
            stop.store(true, Ordering::Relaxed);
        }
    };
    let mut waiting: BTreeMap<u64, T> = BTreeMap::new();
    // The last piece that each worker has given; later ones come after it.
    let mut last: Vec<Option<u64>> = vec![Some(0); threads];
    let mut heard = vec![false; threads];
    for message in receive {
        match message {
            Message::Part(worker, piece, made) => {
                waiting.insert(piece, made);
                (last[worker], heard[worker]) = (Some(piece), true);
            }
            Message::Done(worker) => (last[worker], heard[worker]) = (None, true),
        }
        // A worker that has not been heard of may still give the first piece.
        let safe = last.iter().zip(&heard).filter_map(|(l, &h)| l.map(|l| if h { l } else { 0 }));
        let safe = safe.min().unwrap_or(u64::MAX);
        let ready = heard.iter().all(|&h| h) || safe == u64::MAX;
        while ready && let Some(first) = waiting.first_entry().filter(|e| *e.key() <= safe) {
            give(first.remove());
        }
    }
    waiting.into_values().for_each(give);
}

/// All rows, worked out and let go, as a consumer of a pass.
struct Probe<'a>(&'a Plan);

/// What a worker needs for them.
struct ProbeShare {
    rows: RowWork,
    table: Evaluator,
}

impl Consumer for Probe<'_> {
    type Share = ProbeShare;

    fn columns(&self) -> &[usize] {
        &self.0.inputs
    }

    fn limits(&self) -> Limits {
        self.0.limits()
    }

    fn follows_texts(&self) -> Vec<bool> {
        follows_texts(self.0)
    }

    fn share(&self) -> ProbeShare {
        let rows = RowWork::new(self.0).forgetting(forgets(self.0));
        ProbeShare { rows, table: Evaluator::new(&self.0.table) }
    }

    fn take(&self, share: &mut ProbeShare, batch: &mut Batch) -> Result<(), Error> {
        if let Some(selected) = share.rows.select(self.0, batch)? {
            run_table(self.0, selected, &mut share.table)?;
        }
        Ok(())
    }
}

impl Share for ProbeShare {
    fn absorb(&mut self, other: ProbeShare, threads: usize) -> Result<(), Error> {
        self.rows.absorb(other.rows, threads)
    }
}

/// All rows, made into parts and sent, as a consumer of a pass.
struct Show<'a, T> {
    plan: &'a Plan,
    make: &'a (dyn Fn(&Grid) -> T + Sync),
    stop: &'a AtomicBool,
    send: SyncSender<Message<T>>,
    /// The number of the next worker.
    next: AtomicUsize,
}

/// What a worker has shown.
struct Shown<T> {
    worker: usize,
    /// Until the worker has made all of its parts: whoever puts them in order waits for the last sender.
    send: Option<SyncSender<Message<T>>>,
    rows: RowWork,
    table: Evaluator,
    shown: u64,
    blank: u64,
    ledger: Ledger,
}

impl<T: Send> Consumer for Show<'_, T> {
    type Share = Shown<T>;

    fn columns(&self) -> &[usize] {
        &self.plan.inputs
    }

    fn limits(&self) -> Limits {
        self.plan.limits()
    }

    fn follows_texts(&self) -> Vec<bool> {
        follows_texts(self.plan)
    }

    fn share(&self) -> Shown<T> {
        Shown {
            worker: self.next.fetch_add(1, Ordering::Relaxed),
            send: Some(self.send.clone()),
            rows: RowWork::new(self.plan).forgetting(forgets(self.plan)),
            table: Evaluator::new(&self.plan.table),
            shown: 0,
            blank: 0,
            ledger: Ledger::default(),
        }
    }

    fn take(&self, share: &mut Shown<T>, batch: &mut Batch) -> Result<(), Error> {
        let Some(selected) = share.rows.select(self.plan, batch)? else { return Ok(()) };
        run_table(self.plan, selected, &mut share.table)?;
        let grid = part_of(self.plan, selected, &share.table);
        share.shown += grid.lines.len() as u64;
        share.blank += blank(&grid);
        let piece = selected.batch.piece;
        let message = Message::Part(share.worker, piece, (self.make)(&grid));
        let sent = share.send.as_ref().is_some_and(|send| send.send(message).is_ok());
        if self.stop.load(Ordering::Relaxed) || !sent {
            self.stop.store(true, Ordering::Relaxed);
            return Err(Error::request("stopped"));
        }
        Ok(())
    }

    fn finish(&self, share: &mut Shown<T>, _: &Batch) -> Result<(), Error> {
        note_zero_divisions(&self.plan.table, &share.table, &mut share.ledger);
        if let Some(send) = share.send.take() {
            let _ = send.send(Message::Done(share.worker));
        }
        Ok(())
    }
}

impl<T: Send> Share for Shown<T> {
    fn absorb(&mut self, other: Shown<T>, _: usize) -> Result<(), Error> {
        self.shown += other.shown;
        self.blank += other.blank;
        self.ledger.add_divisions(&other.ledger);
        Ok(())
    }
}

/// The inputs of the table program for a batch.
fn inputs<'a>(plan: &Plan, selected: Selected<'a>) -> Vec<&'a Column> {
    let input = |input: &TableInput| match input {
        TableInput::Row(b) | TableInput::Group(b) => selected.column(b.operand),
        TableInput::Window(_) => unreachable!("rows that are compared are not streamed"),
    };
    plan.table_inputs.iter().map(input).collect()
}

fn run_table(plan: &Plan, selected: Selected<'_>, table: &mut Evaluator) -> Result<(), Error> {
    Ok(table.run(&plan.table, &inputs(plan, selected), selected.batch.rows)?)
}

/// The part of the table that a batch makes.
fn part_of(plan: &Plan, selected: Selected<'_>, table: &Evaluator) -> Grid {
    let inputs = inputs(plan, selected);
    let rows = selected.batch.rows;
    let get = |operand: Operand| table.column(operand, &inputs);
    let kept: Option<Vec<u32>> = (!plan.lines_where.is_empty()).then(|| kept_rows(plan, rows, get));
    let columns = plan.results.iter().map(|r| match &kept {
        Some(kept) => get(r.built.operand).gather(kept),
        None => get(r.built.operand).clone(),
    });
    part(plan, kept.as_ref().map_or(rows, Vec::len), columns.collect())
}

#[cfg(test)]
mod tests {
    use crate::testing::rows;
    use crate::{Grid, Parts, Plan, Request, SourceText, list_in_parts};
    use oeuvre_columns::Source;

    #[test]
    fn nothing_is_given_on_of_rows_that_cannot_all_be_worked_out() {
        let lines: String = (0..50_000).map(|n| format!("\n{n}")).collect();
        let rows = rows(&format!("n:0{lines}\n{}", i64::MAX)).in_batches(1000);
        let listing = Request { listing: true, ..Request::of(&[], &["n * n * n"]) };
        let plan =
            |filters| Plan::new(&Request { filters, ..listing.clone() }, rows.columns()).unwrap();
        let given = |plan: &Plan| {
            let mut lines = 0;
            let mut take = |part: usize| {
                lines += part;
                true
            };
            let make = |grid: &Grid| grid.lines.len();
            let done = list_in_parts(plan, &rows, 3, Parts { make: &make, take: &mut take });
            (done.map(|ledger| ledger.lines.0).ok(), lines)
        };
        assert_eq!(given(&plan(Vec::new())), (None, 0));
        let fits = plan(vec![SourceText::new("--where", "n < 50000")]);
        assert_eq!(given(&fits), (Some(50_000), 50_000));
    }
}
