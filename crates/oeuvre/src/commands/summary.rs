//! `oeuvre summary`: group rows and show results.

use crate::args::SummaryArgs;
use crate::args::output::OutputArgs;
use crate::deliver::deliver_as;
use crate::failure::Failure;
use crate::run::summarize;
use crate::surroundings;
use oeuvre_core::{Grid, Ledger};
use oeuvre_render::{Look, Settings, TextSettings};
use std::io::{self, Write};

pub(crate) fn run(args: &SummaryArgs) -> Result<(), Failure> {
    let options = args.reading.to_options()?;
    let (mut request, look) = args.to_request(&options)?;
    request.for_reading = args.output.format()?.is_for_reading();
    let threads = args.output.threads.map_or_else(surroundings::threads, usize::from);
    let (grid, ledger) = summarize(&args.files, options, &request, threads, &look)?;
    present(&args.output, &look, &grid, &ledger)
}

/// Writes a table where and as what the options say, and the ledger.
pub(crate) fn present(
    output: &OutputArgs,
    look: &Look,
    grid: &Grid,
    ledger: &Ledger,
) -> Result<(), Failure> {
    let settings = settings(output, look)?;
    deliver_as(output.to.as_deref(), settings.format, |out| {
        oeuvre_render::write(grid, ledger, settings, out)
    })?;
    tell(output, ledger)
}

/// How the options and the terminal say that a table is drawn.
pub(crate) fn settings<'a>(output: &OutputArgs, look: &'a Look) -> Result<Settings<'a>, Failure> {
    let to_file = output.to.is_some();
    let width = || if to_file { None } else { surroundings::terminal_width() };
    Ok(Settings {
        look,
        format: output.format()?,
        text: TextSettings {
            width_cols: output.width.or_else(width),
            color: !to_file && surroundings::color(output.color, &io::stdout()),
        },
        with_ledger: !output.quiet,
    })
}

/// Writes the ledger to standard error.
pub(crate) fn tell(output: &OutputArgs, ledger: &Ledger) -> Result<(), Failure> {
    if output.quiet {
        return Ok(());
    }
    let mut text = oeuvre_render::ledger_text(ledger);
    if surroundings::terminal_width().is_some() && output.to.is_none() {
        // Below the table, not as a part of it.
        text.insert(0, '\n');
    }
    io::stderr().write_all(text.as_bytes()).map_err(|e| Failure::writing("standard error", &e))
}
