//! A request over files: planned, run, and planned again where a column turns out to be of another kind.

use crate::args::look::ensure_fits;
use oeuvre_core::{Error, Grid, Ledger, Plan, Request, Source};
use oeuvre_data::{CsvOptions, CsvSource};
use oeuvre_render::Look;

/// Plans a request and does something with the plan. Kinds are guessed from the first rows: a plan whose
/// mistake lies in them is made again when all rows have been looked at, and work that met a value of
/// another kind is done again, so that the answer never depends on the guess.
pub(crate) fn planned<T>(
    source: &mut CsvSource,
    request: &Request,
    look: &Look,
    mut work: impl FnMut(Plan, &CsvSource) -> Result<T, Error>,
) -> Result<T, Error> {
    let mut settled = false;
    loop {
        let plan = Plan::new(request, source.columns())
            .and_then(|plan| ensure_fits(look, &plan).map(|()| plan));
        let plan = match plan {
            Ok(plan) => plan,
            Err(error) if !settled && error.is_of_kinds() => {
                settled = true;
                if source.settle() {
                    continue;
                }
                return Err(error);
            }
            Err(error) => return Err(error),
        };
        match work(plan, source) {
            Err(Error::Widen { column, to }) => source.widen(column, &to),
            done => return done,
        }
    }
}

/// Runs a request for a summary over files.
pub(crate) fn summarize(
    files: &[String],
    options: CsvOptions,
    request: &Request,
    threads: usize,
    look: &Look,
) -> Result<(Grid, Ledger), Error> {
    let mut source = CsvSource::open(files, options)?;
    planned(&mut source, request, look, |plan, source| oeuvre_core::run(&plan, source, threads))
}
