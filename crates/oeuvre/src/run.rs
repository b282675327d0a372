//! A request over rows: planned, run, and planned again where a column turns out to be of another kind.

use crate::args::style::ensure_fits;
use oeuvre_core::{Error, Grid, Ledger, Plan, Request};
use oeuvre_data::{Input, ReadOptions, open, settled};
use oeuvre_render::Style;

/// Plans a request and does something with the plan, until the kinds of its columns are settled.
pub(crate) fn planned<T>(
    input: &mut dyn Input,
    request: &Request,
    style: &Style,
    mut work: impl FnMut(&Plan, &dyn Input) -> Result<T, Error>,
) -> Result<T, Error> {
    settled(input, |input| {
        let plan = Plan::new(request, input.columns())?;
        ensure_fits(style, &plan)?;
        work(&plan, input)
    })
}

/// Runs a request for a summary over files.
pub(crate) fn summarize(
    files: &[String],
    options: ReadOptions,
    request: &Request,
    threads: usize,
    style: &Style,
) -> Result<(Grid, Ledger), Error> {
    let mut input = open(files, options)?;
    planned(input.as_mut(), request, style, |plan, input| oeuvre_core::run(plan, input, threads))
}
