//! `oeuvre summary`: group rows and show results.

use crate::args::SummaryArgs;
use crate::environment;
use crate::failure::Failure;
use crate::present::present;
use crate::run::summarize;

pub(crate) fn run(args: &SummaryArgs) -> Result<(), Failure> {
    let options = args.to_options()?;
    let (mut request, style) = args.to_request()?;
    request.for_reading = args.output.format()?.is_for_reading();
    let threads = args.output.threads.map_or_else(environment::threads, usize::from);
    let (grid, ledger) = summarize(&args.files, options, &request, threads, &style)?;
    present(&args.output, &style, &grid, &ledger)
}
