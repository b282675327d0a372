//! `oeuvre profile`: what the columns hold, and what will hurt.

use crate::args::ProfileArgs;
use crate::environment;
use crate::failure::Failure;
use crate::present::present;
use oeuvre_core::Error;
use oeuvre_data::{open, settled};
use oeuvre_render::Style;

pub(crate) fn run(args: &ProfileArgs) -> Result<(), Failure> {
    let threads = args.output.threads.map_or_else(environment::threads, usize::from);
    let mut input = open(&args.files, args.reading.to_options(&[])?)?;
    let (grid, ledger) = settled(input.as_mut(), |input| -> Result<_, Error> {
        let looks_like = |text: &str| input.looks_like(text);
        oeuvre_core::profile(input, threads, &looks_like, &input.warnings())
    })?;
    present(&args.output, &Style::default(), &grid, &ledger)
}
