//! `oeuvre summary`: group rows and show results.

use crate::args::SummaryCommand;
use crate::environment;
use crate::failure::Failure;
use crate::present::present_explained;
use crate::report::save;
use crate::run::summarize;
use clap::ArgMatches;
use oeuvre_render::PartType;

pub(crate) fn run(command: &SummaryCommand, typed: &ArgMatches) -> Result<(), Failure> {
    let args = &command.summary;
    save::ensure_free(&command.save)?;
    let options = args.to_options()?;
    let (mut request, style) = args.to_request()?;
    let format = args.output.format()?;
    request.for_reading = format.is_for_reading();
    let threads = args.output.threads.map_or_else(environment::threads, usize::from);
    let (grid, ledger, explained) =
        summarize(&args.files, options, &request, (threads, format.explains()), &style)?;
    save::save(&command.save, PartType::Table, typed)?;
    present_explained(&args.output, &style, (&grid, &ledger), explained)
}
