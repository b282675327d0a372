//! A request over rows: planned, run, and planned again where a column turns out to be of another kind.

use crate::args::style::ensure_fits;
use oeuvre_columns::Source;
use oeuvre_core::{ColumnsTop, Error, Grid, Ledger, Plan, Request, Section, respelt};
use oeuvre_data::{Input, ReadOptions, files_named, name_shown, open, settled};
use oeuvre_render::Style;

/// Plans a request and does something with the plan, until the kinds of its columns are settled.
pub(crate) fn planned<T>(
    input: &mut dyn Input,
    (request, threads): (&Request, usize),
    style: &Style,
    mut work: impl FnMut(&Plan, &Request, &dyn Source, &ColumnsTop) -> Result<T, Error>,
) -> Result<T, Error> {
    settled(input, |input| {
        let mut planned = |request: &Request, source: &dyn Source| {
            // What cannot be asked for is told before the rows are read for it.
            if request.columns_top.is_some() {
                Plan::new(request, source.columns())?;
            }
            let (request, top) = ColumnsTop::find(request, source, threads)?;
            let request = &request;
            let plan = Plan::new(request, source.columns())?;
            ensure_fits(style, &plan)?;
            work(&plan, request, source, &top)
        };
        if request.one_spelling.is_empty() {
            return planned(request, input);
        }
        // What cannot be asked for is told before the rows are read for it.
        Plan::new(request, input.columns())?;
        let (source, request) = respelt(input, request, threads)?;
        planned(&request, &source)
    })
}

/// Runs a request for a summary over files, and says how its figures are worked out where that is wanted.
pub(crate) fn summarize(
    files: &[String],
    options: ReadOptions,
    request: &Request,
    (threads, explains): (usize, bool),
    style: &Style,
) -> Result<(Grid, Ledger, Vec<Section>), Error> {
    let files = files_named(files, None)?;
    let mut input = open(&files, options)?;
    summarize_rows(input.as_mut(), &files, request, (threads, explains), style)
}

/// As [`summarize`], over rows of some files that are open.
pub(crate) fn summarize_rows(
    input: &mut dyn Input,
    files: &[String],
    request: &Request,
    (threads, explains): (usize, bool),
    style: &Style,
) -> Result<(Grid, Ledger, Vec<Section>), Error> {
    planned(input, (request, threads), style, |plan, request, input, top| {
        let (mut grid, mut ledger) = oeuvre_core::run_with_checks(plan, request, input, threads)?;
        top.arrange(&mut grid, &mut ledger);
        Ok((grid, ledger, explained(explains, request, plan, files)))
    })
}

/// How figures are worked out from the rows of some files, where that is wanted.
pub(crate) fn explained(
    explains: bool,
    request: &Request,
    plan: &Plan,
    files: &[String],
) -> Vec<Section> {
    if !explains {
        return Vec::new();
    }
    let shown: Vec<String> = files.iter().map(|file| name_shown(file)).collect();
    oeuvre_core::explain(request, plan, &shown)
}
