//! From a plan and rows to the finished table.
//!
//! One pass brings the rows into groups, another one the rows again that are compared with results of their
//! groups; coarser levels are merged from the finest groups, and the table is put together. No step depends on
//! which worker saw which rows.

use crate::error::Error;
use crate::grid::Grid;
use crate::grouping::{Gathered, fill, gather, gather_one, second_pass};
use crate::ledger::Ledger;
use crate::plan::Plan;
use crate::table::{alike_keys, assemble, texts_of_lines};
use oeuvre_columns::Source;

/// Runs a plan over rows with this many threads (at least one).
///
/// # Errors
/// What is wrong with the data, an overflow, or [`Error::Again`] when a column must be read as
/// another kind: the caller then plans and runs again.
pub fn run(plan: &Plan, source: &dyn Source, threads: usize) -> Result<(Grid, Ledger), Error> {
    finished(plan, source, threads, gather_one(plan, source, threads)?)
}

/// Runs several plans over the same rows in one pass: what each gives is what [`run`] gives for it.
///
/// # Errors
/// As for [`run`]; of several problems the first in the order of the rows.
pub fn run_all(
    plans: &[&Plan],
    source: &dyn Source,
    threads: usize,
) -> Result<Vec<(Grid, Ledger)>, Error> {
    let gathered = gather(plans, source, threads)?;
    let each = plans.iter().zip(gathered);
    each.map(|(plan, gathered)| finished(plan, source, threads, gathered)).collect()
}

/// From the groups of a plan to its table.
fn finished(
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
