//! From a plan and rows to the finished table.
//!
//! One pass brings the rows into groups, another one the rows again that are compared with results of their
//! groups; coarser levels are merged from the finest groups, and the table is put together. No step depends on
//! which worker saw which rows.

use crate::error::Error;
use crate::grid::Grid;
use crate::grouping::{fill, gather, second_pass};
use crate::ledger::Ledger;
use crate::plan::Plan;
use crate::table::assemble;
use oeuvre_columns::Source;

/// Runs a plan over rows with this many threads (at least one).
///
/// # Errors
/// What is wrong with the data, an overflow, or [`Error::Again`] when a column must be read as
/// another kind: the caller then plans and runs again.
pub fn run(plan: &Plan, source: &dyn Source, threads: usize) -> Result<(Grid, Ledger), Error> {
    let (mut groups, mut ledger) = gather(plan, source, threads)?;
    source.ensure_sound(&plan.inputs)?;
    fill(plan, &mut groups[0])?;
    let late = second_pass(plan, source, threads, &groups)?;
    let grid = assemble(plan, &groups, late.as_ref(), &mut ledger)?;
    Ok((grid, ledger))
}
