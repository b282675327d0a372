//! `oeuvre trace`: the rows behind one cell.

use crate::args::{TraceArgs, cell};
use crate::deliver::deliver_as;
use crate::environment;
use crate::failure::Failure;
use crate::present::settings;
use crate::run::planned;
use oeuvre_data::open;
use oeuvre_render::write_trace;

pub(crate) fn run(args: &TraceArgs) -> Result<(), Failure> {
    let of = &args.summary;
    let options = of.to_options()?;
    let (request, style) = of.to_request()?;
    let at = cell::read("--at", &args.at, &request.by)?;
    let threads = of.output.threads.map_or_else(environment::threads, usize::from);
    let settings = settings(&of.output, &style)?;
    let mut input = open(&of.files, options)?;
    let reads_as = |heading: &str, value: &oeuvre_columns::Value| style.reads_as(heading, value);
    let trace = planned(input.as_mut(), (&request, threads), &style, |plan, request, input| {
        oeuvre_core::trace(plan, request, input, threads, &at, &reads_as)
    })?;
    let to = of.output.to.as_deref();
    deliver_as(to, settings.format, |out| write_trace(&trace, settings, args.first, out))
}
