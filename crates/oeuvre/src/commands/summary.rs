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
    let request = args.request.to_request(&options)?;
    let threads = args.output.threads.map_or_else(surroundings::threads, usize::from);
    args.output.format()?;
    let look = args.look.to_look()?;
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
    let format = output.format()?;
    let stdout = io::stdout();
    let to_file = output.to.is_some();
    let settings = Settings {
        look,
        format,
        text: TextSettings {
            width_cols: output
                .width
                .or_else(|| if to_file { None } else { surroundings::terminal_width() }),
            color: !to_file && surroundings::color(output.color, &stdout),
        },
        with_ledger: !output.quiet,
    };
    deliver(output.to.as_deref(), |out| oeuvre_render::write(grid, ledger, settings, out))?;
    if !output.quiet {
        let mut text = oeuvre_render::ledger_text(ledger);
        if surroundings::terminal_width().is_some() && !to_file {
            // Below the table, not as a part of it.
            text.insert(0, '\n');
        }
        io::stderr()
            .write_all(text.as_bytes())
            .map_err(|e| Failure::writing("standard error", &e))?;
    }
    Ok(())
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
    let Some(path) = to else {
        let mut out = BufWriter::with_capacity(1 << 16, io::stdout().lock());
        return write(&mut out)
            .and_then(|()| out.flush())
            .map_err(|e| Failure::writing("standard output", &e));
    };
    let name = path.display().to_string();
    let failed = |e: io::Error| Failure::writing(&name, &e);
    let folder = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let mut file =
        tempfile::Builder::new().prefix(".oeuvre-").tempfile_in(folder).map_err(failed)?;
    {
        let mut out = BufWriter::with_capacity(1 << 16, file.as_file_mut());
        write(&mut out).and_then(|()| out.flush()).map_err(failed)?;
    }
    permit_reading(file.as_file(), path).map_err(failed)?;
    file.persist(path).map_err(|e| failed(e.error))?;
    Ok(())
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
