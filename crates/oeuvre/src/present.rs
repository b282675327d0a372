//! Tables and ledgers, put where and drawn as the options and the terminal say.
//!
//! A command that makes a table of rows ends here. One that reads no rows has no ledger: it writes with
//! `deliver.rs`, as `functions` does.

use crate::args::output::{Notes, OutputArgs};
use crate::deliver::deliver_as;
use crate::environment;
use crate::failure::Failure;
use oeuvre_core::{Grid, Ledger};
use oeuvre_render::{LedgerSettings, Settings, Style, TextSettings};
use std::io::{self, Write};

/// Writes a table where and as what the options say, and the ledger.
pub(crate) fn present(
    output: &OutputArgs,
    style: &Style,
    grid: &Grid,
    ledger: &Ledger,
) -> Result<(), Failure> {
    let settings = settings(output, style)?;
    deliver_as(output.to.as_deref(), settings.format, |out| {
        oeuvre_render::write(grid, ledger, settings, out)
    })?;
    tell(output, ledger)
}

/// How the options and the terminal say that a table is drawn.
pub(crate) fn settings<'a>(output: &OutputArgs, style: &'a Style) -> Result<Settings<'a>, Failure> {
    let to_file = output.to.is_some();
    let width = || if to_file { None } else { environment::terminal_width() };
    Ok(Settings {
        style,
        format: output.format()?,
        text: TextSettings {
            width_cols: output.width.or_else(width),
            color: !to_file && environment::color(output.color, &io::stdout()),
        },
        with_ledger: !output.quiet,
    })
}

/// Writes the ledger to standard error.
pub(crate) fn tell(output: &OutputArgs, ledger: &Ledger) -> Result<(), Failure> {
    let color = environment::color(output.color, &io::stderr());
    let checks = oeuvre_render::checks_text(ledger, color);
    let told = |text: &str| {
        io::stderr().write_all(text.as_bytes()).map_err(|e| Failure::writing("standard error", &e))
    };
    if output.quiet {
        told(&checks)?;
        return if ledger.holds() { Ok(()) } else { Err(Failure::Check) };
    }
    let width = || environment::stderr_width();
    let mut text = oeuvre_render::ledger_text(
        ledger,
        LedgerSettings {
            all_notes: output.notes == Notes::All,
            width_cols: output.width.or_else(width),
        },
    );
    if environment::terminal_width().is_some() && output.to.is_none() {
        // Below the table, not as a part of it.
        text.insert(0, '\n');
    }
    text.push_str(&checks);
    told(&text)?;
    if ledger.holds() { Ok(()) } else { Err(Failure::Check) }
}
