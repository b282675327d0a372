//! `oeuvre profile`: what the columns hold, and what will hurt.

use super::summary::present;
use crate::args::ProfileArgs;
use crate::failure::Failure;
use crate::surroundings;
use oeuvre_core::Error;
use oeuvre_data::CsvSource;
use oeuvre_render::Look;

pub(crate) fn run(args: &ProfileArgs) -> Result<(), Failure> {
    let threads = args.output.threads.map_or_else(surroundings::threads, usize::from);
    let mut source = CsvSource::open(&args.files, args.reading.to_options()?)?;
    loop {
        let looks_like = |text: &str| source.looks_like(text);
        match oeuvre_core::profile(&source, threads, &looks_like, &source.warnings()) {
            Ok((grid, ledger)) => return present(&args.output, &Look::default(), &grid, &ledger),
            Err(Error::Widen { column, to }) => source.widen(column, &to),
            Err(error) => return Err(error.into()),
        }
    }
}
