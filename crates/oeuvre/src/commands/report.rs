//! `oeuvre report`: every table, detail, headline and check of a report file.

use crate::args::report::ReportArgs;
use crate::environment;
use crate::failure::Failure;
use crate::present::{Target, present_document};
use crate::report::{Asked, prepare, read, run as run_report};

pub(crate) fn run(args: &ReportArgs) -> Result<(), Failure> {
    let target = Target::of(&args.output)?;
    let threads = args.output.threads.map_or_else(environment::threads, usize::from);
    let definition = read(&args.report)?;
    let asked = Asked {
        files: &args.files,
        given: &args.given,
        only: &args.only,
        for_reading: target.format().is_for_reading(),
        threads,
        parts_in: args.parts_in.as_deref(),
    };
    let mut prepared = prepare(&definition, asked)?;
    target.ensure_holds(prepared.parts.iter().map(|part| (part.name.as_str(), part.shows)))?;
    let finished = run_report(&mut prepared, threads, args.parts_in.as_deref())?;
    let stamp = args.stamp.then(environment::stamp);
    let document = finished.document(stamp, target.format().explains());
    present_document(&args.output, &target, &document)
}
