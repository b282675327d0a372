//! `oeuvre profile`: what the columns hold, and what will hurt.

use crate::args::{ProfileArgs, ensure_files};
use crate::environment;
use crate::failure::Failure;
use crate::present::present;
use oeuvre_core::{Error, respelt};
use oeuvre_data::{files_named, open, settled};
use oeuvre_render::Style;

pub(crate) fn run(args: &ProfileArgs) -> Result<(), Failure> {
    let threads = args.output.threads.map_or_else(environment::threads, usize::from);
    ensure_files(&args.files, "--where")?;
    let request = args.counted.to_request()?;
    let files = files_named(&args.files, None)?;
    let mut input = open(&files, args.reading.to_options(&[])?)?;
    let (grid, ledger) = settled(input.as_mut(), |input| -> Result<_, Error> {
        let looks_like = |text: &str| input.looks_like(text);
        if request.one_spelling.is_empty() {
            let warnings = input.warnings();
            return oeuvre_core::profile(input, threads, &looks_like, &warnings, &request);
        }
        let (source, request) = respelt(input, &request, threads)?;
        oeuvre_core::profile(&source, threads, &looks_like, &input.warnings(), &request)
    })?;
    present(&args.output, &Style::default(), &grid, &ledger)
}
