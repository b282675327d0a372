//! One file a command: each opens its input, has the core do the work, and hands the outcome to `present.rs`.
//!
//! If you add one: its file here, its arguments and a row in `args/mod.rs` (`Command`), and an arm in [`run`]; the
//! compiler asks for what lacks, and a test for its help.

mod completions;
mod demo;
mod detail;
mod explain;
mod functions;
mod manual;
mod profile;
mod summary;
mod trace;

use crate::args::{Args, Command};
use crate::failure::Failure;

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
        Command::Completions { shell } => completions::run(shell),
        Command::Manual(args) => manual::run(&args),
    }
}
