//! One file a command: each opens its input, has the core do the work, and hands the outcome to `present.rs`.
//!
//! If you add one: its file here, its arguments and a row in `args/mod.rs` (`Command`), and an arm in [`run`]; the
//! compiler asks for what lacks, and a test for its help.

mod assemble;
mod chart;
mod compare;
mod completions;
mod demo;
mod detail;
mod explain;
mod functions;
mod manual;
mod part;
mod profile;
mod report;
mod summary;
mod trace;

use crate::args::{Args, Command};
use crate::failure::Failure;
use clap::ArgMatches;

/// Runs what was typed.
pub(crate) fn run(args: Args, typed: &ArgMatches) -> Result<(), Failure> {
    match args.command {
        Command::Demo(args) => demo::run(&args),
        Command::Part(args) => part::run(&args, typed),
        Command::Assemble(args) => assemble::run(&args),
        Command::Summary(args) => summary::run(&args, typed),
        Command::Detail(args) => detail::run(&args, typed),
        Command::Chart(args) => chart::run(&args, typed),
        Command::Compare(args) => compare::run(&args),
        Command::Report(args) => report::run(&args),
        Command::Profile(args) => profile::run(&args),
        Command::Explain(args) => explain::run(&args, typed),
        Command::Trace(args) => trace::run(&args, typed),
        Command::Functions(args) => functions::run(&args),
        Command::Completions { shell } => completions::run(shell),
        Command::Manual(args) => manual::run(&args),
    }
}
