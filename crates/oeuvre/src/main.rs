//! The `oeuvre` program: flags and wiring. Calculation lives in `oeuvre-core`, file formats in
//! `oeuvre-data`, drawing in `oeuvre-render`.

mod args;
mod chart;
mod commands;
mod complete;
mod deliver;
mod demo;
mod environment;
mod failure;
mod messages;
mod parts;
mod present;
mod progress;
mod report;
mod run;

use clap::FromArgMatches;
use std::process::ExitCode;

/// Where all memory comes from: it is limited by `--memory`.
#[global_allocator]
static MEMORY: oeuvre_memory::Memory = oeuvre_memory::Memory::new();

fn main() -> ExitCode {
    clap_complete::CompleteEnv::with_factory(args::command).var(complete::VARIABLE).complete();
    let parsed = args::command().try_get_matches().and_then(|matches| {
        let args = args::Args::from_arg_matches(&matches)?;
        Ok((args, matches))
    });
    let (args, matches) = match parsed {
        Ok(parsed) => parsed,
        Err(error) => args::elsewhere(error).exit(),
    };
    let color = args.color();
    // What was typed matters to a request that is saved.
    let typed = matches.subcommand().map_or(&matches, |(_, typed)| typed);
    if args.output().is_some_and(|output| output.no_progress) {
        progress::say_nothing();
    }
    let limited = args.output().map_or(Ok(()), args::output::OutputArgs::limit);
    let done = limited.map_err(Into::into).and_then(|()| commands::run(args, typed));
    progress::clear();
    match done {
        Ok(()) => ExitCode::SUCCESS,
        Err(failure) => {
            environment::end_if_interrupted();
            messages::report(&failure, color)
        }
    }
}
