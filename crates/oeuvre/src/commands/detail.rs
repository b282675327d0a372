//! `oeuvre detail`: keep every row and add calculated columns.

use crate::args::{DetailCommand, ensure_files};
use crate::deliver::deliver_all;
use crate::environment;
use crate::failure::Failure;
use crate::present::{ensure_no_terminal, present_explained, settings, tell};
use crate::report::save;
use crate::run::planned;
use clap::ArgMatches;
use oeuvre_columns::Source;
use oeuvre_core::{Error, Grid, Ledger, Parts, Plan};
use oeuvre_data::{files_named, open};
use oeuvre_render::{PartType, Settings, write_part, write_part_headings};
use std::io::{self, Write};
use std::sync::{Mutex, PoisonError};

pub(crate) fn run(command: &DetailCommand, typed: &ArgMatches) -> Result<(), Failure> {
    let args = &command.detail;
    save::ensure_free(&command.save)?;
    ensure_files(&args.files, "--show")?;
    let options = args.reading.to_options(&args.rows.lookup_names())?;
    let mut request = args.rows.to_request(&args.reading)?;
    request.for_reading = args.output.format()?.is_for_reading();
    let style = args.style.to_style()?;
    let threads = args.output.threads.map_or_else(environment::threads, usize::from);
    let settings = settings(&args.output, &style)?;
    let files = files_named(&args.files, None)?;
    let mut input = open(&files, options)?;
    // Formats of one line a row are written part by part; the others need the whole table.
    if !settings.format.streams() {
        let (grid, ledger, explained) =
            planned(input.as_mut(), (&request, threads), &style, |plan, request, input, _| {
                let (grid, ledger) = oeuvre_core::list(plan, input, threads)?;
                Ok((grid, ledger, oeuvre_core::explain(request, plan, &files)))
            })?;
        save::save(&command.save, PartType::Detail, typed)?;
        return present_explained(&args.output, &style, (&grid, &ledger), explained);
    }
    let to = args.output.to.as_deref();
    let name = to.map_or_else(|| "standard output".to_owned(), |p| p.display().to_string());
    ensure_no_terminal(settings.format, to)?;
    let ledger = deliver_all(to, !settings.format.escapes(), |out| {
        let mut problem: Option<io::Error> = None;
        let ledger = planned(input.as_mut(), (&request, threads), &style, |plan, _, input, _| {
            stream(plan, input, threads, &settings, out, &mut problem)
        })?;
        match problem {
            Some(e) => Err(Failure::writing(&name, &e)),
            None => Ok(ledger),
        }
    })?;
    save::save(&command.save, PartType::Detail, typed)?;
    tell(&args.output, &ledger)
}

/// Writes the rows as they come. What cannot be written is left in `problem`, and nothing is written after it.
fn stream(
    plan: &Plan,
    input: &dyn Source,
    threads: usize,
    settings: &Settings<'_>,
    out: &mut dyn Write,
    problem: &mut Option<io::Error>,
) -> Result<Ledger, Error> {
    #[cfg(feature = "columnar")]
    if let Some(sink) = settings.format.sink(plan) {
        return stream_typed(plan, (input, threads), settings, (sink, out), problem);
    }
    let mut begun = false;
    // Memory that parts were written to is used again, so that little of it is new to the processor.
    let used: Mutex<Vec<Vec<u8>>> = Mutex::default();
    let (again, free) = (
        |bytes| used.lock().unwrap_or_else(PoisonError::into_inner).push(bytes),
        || used.lock().unwrap_or_else(PoisonError::into_inner).pop(),
    );
    let mut put = |bytes: Vec<u8>| {
        if problem.is_some() {
            return false;
        }
        let done = match std::mem::replace(&mut begun, true) {
            true => Ok(()),
            false => write_part_headings(plan, settings, out),
        };
        *problem = done.and_then(|()| out.write_all(&bytes)).err();
        again(bytes);
        problem.is_none()
    };
    let format = |grid: &Grid| write_part(grid, settings, free());
    let parts = Parts { make: &format, take: &mut put };
    let ledger = oeuvre_core::list_in_parts(plan, input, threads, parts)?;
    // A table without rows still has its headings.
    put(Vec::new());
    Ok(ledger)
}

/// As [`stream`], into a file of typed columns.
#[cfg(feature = "columnar")]
fn stream_typed(
    plan: &Plan,
    (input, threads): (&dyn Source, usize),
    settings: &Settings<'_>,
    (sink, out): (io::Result<oeuvre_render::Sink>, &mut dyn Write),
    problem: &mut Option<io::Error>,
) -> Result<Ledger, Error> {
    let mut sink = match sink {
        Ok(sink) => sink,
        Err(error) => {
            *problem = Some(error);
            return Ok(Ledger::default());
        }
    };
    let maker = sink.maker();
    let make = |grid: &Grid| maker.made(grid, settings.style);
    let mut take = |made: io::Result<oeuvre_render::Made>| {
        *problem = made.and_then(|made| sink.take(&made, out)).err();
        problem.is_none()
    };
    let parts = Parts { make: &make, take: &mut take };
    let ledger = oeuvre_core::list_in_parts(plan, input, threads, parts)?;
    if problem.is_none() {
        *problem = sink.finish(out).err();
    }
    Ok(ledger)
}
