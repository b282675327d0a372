//! `oeuvre part`: what the rows of some files have come to, in a file of its own.

use crate::args::parts::PartCommand;
use crate::environment;
use crate::failure::Failure;
use crate::messages::tell_line;
use crate::parts::{Asks, ENDING, Making, Part, make};
use clap::ArgMatches;
use oeuvre_core::Error;
use oeuvre_data::{files_named, open};

pub(crate) fn run(command: &PartCommand, typed: &ArgMatches) -> Result<(), Failure> {
    let args = &command.summary;
    let is_part = |to: &&std::path::PathBuf| to.extension().is_some_and(|e| e == ENDING);
    let Some(to) = args.output.to.as_ref().filter(is_part) else {
        return Err(Error::request_with_help(
            "a part is written to a file of its own",
            format!("name it: --to bookings-07.{ENDING}"),
        )
        .into());
    };
    if let Some(format) = args.output.file_type {
        let message = format!("--as {}: a part is no result yet", format.name());
        let help = format!("oeuvre assemble {} --as {}", to.display(), format.name());
        return Err(Error::request_with_help(message, help).into());
    }
    let mut options = args.to_options()?;
    options.of_many = true;
    if let Some(path) = &command.as_in {
        options.expected = Part::read(path)?.columns;
    }
    let (mut request, _) = args.to_request()?;
    request.for_reading = true;
    let threads = args.output.threads.map_or_else(environment::threads, usize::from);
    let files = files_named(&args.files, None)?;
    let mut input = open(&files, options)?;
    let making =
        Making { asks: Asks::typed(typed), request: &request, place: command.place, threads };
    let part = make(input.as_mut(), &making)?;
    let bytes = part.write(to)?;
    if !args.output.quiet {
        let what = if part.tally.is_some() { "what its rows come to" } else { "its rows" };
        tell_line(&format!(
            "{} holds {what}, {} bytes",
            to.display(),
            oeuvre_columns::names::grouped(bytes)
        ));
        let spilled = args.output.spilled();
        if !spilled.is_empty() {
            tell_line(spilled.trim_end());
        }
    }
    Ok(())
}
