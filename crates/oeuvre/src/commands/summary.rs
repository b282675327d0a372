//! `oeuvre summary`: group rows and show results.

use super::Failure;
use crate::args::SummaryArgs;
use crate::args::look::ensure_fits;
use crate::args::output::OutputArgs;
use crate::surroundings;
use oeuvre_core::{Error, Grid, Ledger, Plan, Request, Source};
use oeuvre_data::{CsvOptions, CsvSource};
use oeuvre_render::{Look, Settings, TextSettings};
use std::io::{self, BufWriter, Write};
use std::path::Path;

pub(crate) fn run(args: &SummaryArgs) -> Result<(), Failure> {
    let options = args.reading.to_options()?;
    let (mut request, look) = args.to_request(&options)?;
    request.for_reading = args.output.format()?.is_for_reading();
    let threads = args.output.threads.map_or_else(surroundings::threads, usize::from);
    let fits = |plan: &Plan| ensure_fits(&look, plan);
    let (grid, ledger) = summarize(&args.files, options, &request, threads, &fits)?;
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
    deliver(output.to.as_deref(), |out| oeuvre_render::write(grid, ledger, settings, out))?;
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

/// Plans and runs a request over files. When a column turns out to be of another kind than its first
/// values say, it is planned and run again, so that the answer does not depend on the first values.
pub(crate) fn summarize(
    files: &[String],
    options: CsvOptions,
    request: &Request,
    threads: usize,
    fits: &dyn Fn(&Plan) -> Result<(), Error>,
) -> Result<(Grid, Ledger), Error> {
    let mut source = CsvSource::open(files, options)?;
    loop {
        let plan = Plan::new(request, source.columns())?;
        fits(&plan)?;
        match oeuvre_core::run(&plan, &source, threads) {
            Ok(done) => {
                source.ensure_unambiguous(&plan.resolved.inputs)?;
                return Ok(done);
            }
            Err(Error::Widen { column, to }) => source.widen(column, &to),
            Err(error) => return Err(error),
        }
    }
}

/// Writes to a file, under a temporary name that is then renamed, or to standard output.
pub(crate) fn deliver(
    to: Option<&Path>,
    write: impl FnOnce(&mut dyn Write) -> io::Result<()>,
) -> Result<(), Failure> {
    let name = to.map_or_else(|| "standard output".to_owned(), |path| path.display().to_string());
    deliver_all(to, |out| write(out).map_err(|e| Failure::writing(&name, &e)))
}

/// As [`deliver`], for what may fail in other ways too; nothing is left of a file then.
pub(crate) fn deliver_all<T>(
    to: Option<&Path>,
    write: impl FnOnce(&mut dyn Write) -> Result<T, Failure>,
) -> Result<T, Failure> {
    let Some(path) = to else {
        let mut out = BufWriter::with_capacity(1 << 16, io::stdout().lock());
        let done = write(&mut out)?;
        out.flush().map_err(|e| Failure::writing("standard output", &e))?;
        return Ok(done);
    };
    let name = path.display().to_string();
    let failed = |e: io::Error| Failure::writing(&name, &e);
    let folder = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let mut file =
        tempfile::Builder::new().prefix(".oeuvre-").tempfile_in(folder).map_err(failed)?;
    let done = {
        let mut out = BufWriter::with_capacity(1 << 16, file.as_file_mut());
        let done = write(&mut out)?;
        out.flush().map_err(failed)?;
        done
    };
    permit_reading(file.as_file(), path).map_err(failed)?;
    file.persist(path).map_err(|e| failed(e.error))?;
    Ok(done)
}

/// A temporary file is its owner's alone; a result has the permissions of the file it replaces, or
/// those that a new file gets.
#[cfg(unix)]
fn permit_reading(file: &std::fs::File, path: &Path) -> io::Result<()> {
    use std::os::unix::fs::PermissionsExt;
    let mode = match std::fs::metadata(path) {
        Ok(old) => old.permissions().mode(),
        Err(_) => 0o644,
    };
    file.set_permissions(std::fs::Permissions::from_mode(mode))
}

#[cfg(not(unix))]
fn permit_reading(_: &std::fs::File, _: &Path) -> io::Result<()> {
    Ok(())
}
