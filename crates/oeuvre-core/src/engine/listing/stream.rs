//! Rows that stand for themselves: read, worked out, and given on in the order of the file.

use super::{Parts, account_rows, blank, kept_rows, part};
use crate::engine::worker::{Taken, Worker, note_zero_divisions, step_overflow};
use crate::engine::{Kept, account_of, read};
use crate::error::Error;
use crate::grid::Grid;
use crate::language::resolve::TableInput;
use crate::ledger::Ledger;
use crate::plan::Plan;
use crate::rows::column::Column;
use crate::rows::evaluator::Evaluator;
use crate::rows::program::Operand;
use crate::source::{Reader, Source};
use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::mpsc;

pub(super) fn stream(
    plan: &Plan,
    source: &dyn Source,
    threads: usize,
    parts: Parts<'_>,
) -> Result<Ledger, Error> {
    // The first pass finds what would stop the second.
    let (worker, account, ()) =
        read(plan, source, threads, |worker: &mut Worker, reader: &mut dyn Reader| {
            let mut table = Evaluator::new(&plan.resolved.table);
            worker.work(plan, reader, &mut |taken| run_table(plan, &taken, &mut table))
        })?;
    let mut ledger = account_of(plan, source, &worker, account)?;
    source.ensure_sound(&plan.resolved.inputs)?;
    drop(worker);
    let stop = AtomicBool::new(false);
    let next_worker = AtomicUsize::new(0);
    let (send, receive) = mpsc::sync_channel::<Message>(2 * threads);
    let Parts { format, write } = parts;
    let shown = std::thread::scope(|scope| {
        let work = {
            let (stop, next_worker) = (&stop, &next_worker);
            move || {
                let send = send;
                read(plan, source, threads, |worker: &mut Worker, reader: &mut dyn Reader| {
                    let me = next_worker.fetch_add(1, Ordering::Relaxed);
                    let mut table = Evaluator::new(&plan.resolved.table);
                    let mut kept = Shown::default();
                    let done = worker.work(plan, reader, &mut |taken| {
                        run_table(plan, &taken, &mut table)?;
                        let grid = part_of(plan, &taken, &table);
                        kept.rows += grid.lines.len() as u64;
                        kept.blank += blank(&grid);
                        let message = Message::Part(me, taken.batch.piece, format(&grid));
                        if stop.load(Ordering::Relaxed) || send.send(message).is_err() {
                            stop.store(true, Ordering::Relaxed);
                            return Err(Error::request("stopped"));
                        }
                        Ok(())
                    });
                    let _ = send.send(Message::Done(me));
                    done.map(|()| {
                        note_zero_divisions(&plan.resolved.table, &table, &mut kept.ledger);
                        kept
                    })
                })
            }
        };
        let handle = scope.spawn(work);
        let mut waiting: BTreeMap<u64, Vec<u8>> = BTreeMap::new();
        // The last piece that each worker has given; later ones come after it.
        let mut last: Vec<Option<u64>> = vec![Some(0); threads];
        let mut heard = vec![false; threads];
        for message in receive {
            match message {
                Message::Part(worker, piece, bytes) => {
                    waiting.insert(piece, bytes);
                    (last[worker], heard[worker]) = (Some(piece), true);
                }
                Message::Done(worker) => (last[worker], heard[worker]) = (None, true),
            }
            // A worker that has not been heard of may still give the first piece.
            let safe =
                last.iter().zip(&heard).filter_map(|(l, &h)| l.map(|l| if h { l } else { 0 }));
            let safe = safe.min().unwrap_or(u64::MAX);
            let ready = heard.iter().all(|&h| h) || safe == u64::MAX;
            while ready && let Some(first) = waiting.first_entry().filter(|e| *e.key() <= safe) {
                let bytes = first.remove();
                if !stop.load(Ordering::Relaxed) && !write(bytes) {
                    stop.store(true, Ordering::Relaxed);
                }
            }
        }
        for (_, bytes) in waiting {
            if !stop.load(Ordering::Relaxed) && !write(bytes) {
                stop.store(true, Ordering::Relaxed);
            }
        }
        handle.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))
    });
    if stop.load(Ordering::Relaxed) {
        return Ok(ledger);
    }
    let (_, _, shown) = shown?;
    ledger.add_divisions(&shown.ledger);
    account_rows(plan, &mut ledger, shown.rows, shown.blank);
    Ok(ledger)
}

enum Message {
    /// The worker, the piece, what is to be written.
    Part(usize, u64, Vec<u8>),
    Done(usize),
}

/// What a worker has shown.
#[derive(Default)]
struct Shown {
    rows: u64,
    blank: u64,
    ledger: Ledger,
}

impl Kept for Shown {
    fn absorb(&mut self, other: Shown) {
        self.rows += other.rows;
        self.blank += other.blank;
        self.ledger.add_divisions(&other.ledger);
    }
}

/// The inputs of the table program for a batch.
fn inputs<'a>(plan: &Plan, taken: &Taken<'a>) -> Vec<&'a Column> {
    let input = |input: &TableInput| match input {
        TableInput::Row(b) | TableInput::Group(b) => taken.column(b.operand),
        TableInput::Window(_) => unreachable!("rows that are compared are not streamed"),
    };
    plan.resolved.table_inputs.iter().map(input).collect()
}

fn run_table(plan: &Plan, taken: &Taken<'_>, table: &mut Evaluator) -> Result<(), Error> {
    table.run(&plan.resolved.table, &inputs(plan, taken), taken.batch.rows).map_err(step_overflow)
}

/// The part of the table that a batch makes.
fn part_of(plan: &Plan, taken: &Taken<'_>, table: &Evaluator) -> Grid {
    let inputs = inputs(plan, taken);
    let rows = taken.batch.rows;
    let get = |operand: Operand| table.column(operand, &inputs);
    let kept: Option<Vec<u32>> = (!plan.keep.is_empty()).then(|| kept_rows(plan, rows, get));
    let columns = plan.results.iter().map(|r| match &kept {
        Some(kept) => get(r.built.operand).gather(kept),
        None => get(r.built.operand).clone(),
    });
    part(plan, kept.as_ref().map_or(rows, Vec::len), columns.collect())
}
