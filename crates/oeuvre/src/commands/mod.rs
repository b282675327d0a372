//! One file a command.

mod demo;
mod detail;
mod explain;
mod functions;
mod profile;
pub(crate) mod summary;
mod trace;

use crate::args::{Args, Command};
use clap::CommandFactory;
use oeuvre_core::{DataProblem, Error};
use std::io;

/// Why a command did not end well.
pub(crate) enum Failure {
    /// What to tell the person.
    Error(Error),
    /// Whoever reads the output has closed it.
    BrokenPipe,
}

impl From<Error> for Failure {
    fn from(error: Error) -> Failure {
        Failure::Error(error)
    }
}

impl Failure {
    /// A failure to write.
    pub(crate) fn writing(to: &str, error: &io::Error) -> Failure {
        if error.kind() == io::ErrorKind::BrokenPipe {
            return Failure::BrokenPipe;
        }
        Failure::Error(DataProblem::in_file(to, format!("cannot be written: {error}")).into())
    }
}

/// Runs what was typed.
pub(crate) fn run(args: Args) -> Result<(), Failure> {
    match args.command {
        Command::Demo(args) => demo::run(&args),
        Command::Summary(args) => summary::run(&args),
        Command::Detail(args) => detail::run(&args),
        Command::Profile(args) => profile::run(&args),
        Command::Explain(args) => explain::run(&args),
        Command::Trace(args) => trace::run(&args),
        Command::Functions(args) => functions::run(&args),
        Command::Completions { shell } => {
            clap_complete::generate(shell, &mut Args::command(), "oeuvre", &mut io::stdout());
            Ok(())
        }
    }
}
