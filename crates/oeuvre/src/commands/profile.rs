//! `oeuvre profile`: what the columns hold, and what will hurt.

use crate::args::ProfileArgs;
use crate::failure::Failure;
use crate::present::present;
use crate::surroundings;
use oeuvre_core::Error;
use oeuvre_data::{open, settled};
use oeuvre_render::Look;

pub(crate) fn run(args: &ProfileArgs) -> Result<(), Failure> {
    let threads = args.output.threads.map_or_else(surroundings::threads, usize::from);
    let mut input = open(&args.files, args.reading.to_options()?)?;
    let (grid, ledger) = settled(input.as_mut(), |input| -> Result<_, Error> {
        let looks_like = |text: &str| input.looks_like(text);
        oeuvre_core::profile(input, threads, &looks_like, &input.warnings())
    })?;
    present(&args.output, &Look::default(), &grid, &ledger)
}
