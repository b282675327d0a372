//! `oeuvre detail`: keep every row and add calculated columns.

use crate::args::{DetailCommand, ensure_files};
use crate::deliver::deliver_all;
use crate::environment;
use crate::failure::Failure;
use crate::present::{present_explained, settings, tell};
use crate::report::save;
use crate::run::planned;
use clap::ArgMatches;
use oeuvre_core::{Grid, Parts};
use oeuvre_data::{files_named, open};
use oeuvre_render::{PartType, write_part, write_part_headings};
use std::io;

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
    let ledger = deliver_all(to, true, |out| {
        let mut problem: Option<io::Error> = None;
        let ledger = planned(input.as_mut(), (&request, threads), &style, |plan, _, input, _| {
            let mut begun = false;
            let mut put = |bytes: Vec<u8>| {
                if problem.is_some() {
                    return false;
                }
                let done = if begun {
                    Ok(())
                } else {
                    begun = true;
                    write_part_headings(plan, &settings, out)
                };
                match done.and_then(|()| out.write_all(&bytes)) {
                    Ok(()) => true,
                    Err(e) => {
                        problem = Some(e);
                        false
                    }
                }
            };
            let format = |grid: &Grid| write_part(grid, &settings);
            let parts = Parts { make: &format, take: &mut put };
            let ledger = oeuvre_core::list_in_parts(plan, input, threads, parts)?;
            // A table without rows still has its headings; nothing is written after a problem.
            put(Vec::new());
            Ok(ledger)
        })?;
        match problem {
            Some(e) => Err(Failure::writing(&name, &e)),
            None => Ok(ledger),
        }
    })?;
    save::save(&command.save, PartType::Detail, typed)?;
    tell(&args.output, &ledger)
}
