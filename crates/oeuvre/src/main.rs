//! The `oeuvre` program: flags and wiring. Calculation lives in `oeuvre-core`, file formats in
//! `oeuvre-data`, drawing in `oeuvre-render`.

mod args;
mod commands;
mod complete;
mod deliver;
mod demo;
mod environment;
mod failure;
mod messages;
mod present;
mod run;

use clap::{CommandFactory, Parser};
use std::process::ExitCode;

fn main() -> ExitCode {
    clap_complete::CompleteEnv::with_factory(args::Args::command)
        .var(complete::VARIABLE)
        .complete();
    let args = match args::Args::try_parse() {
        Ok(args) => args,
        Err(error) => args::elsewhere(error).exit(),
    };
    let color = args.color();
    match commands::run(args) {
        Ok(()) => ExitCode::SUCCESS,
        Err(failure) => messages::report(&failure, color),
    }
}
