//! Parts: what one is made of, and how parts are taken together.

use super::SummaryArgs;
use super::output::OutputArgs;
use std::path::PathBuf;

#[derive(clap::Args, Debug)]
#[command(disable_help_flag = true)]
#[command(after_help = "All options: oeuvre part --help; what parts are for: docs/parts.md")]
#[command(after_long_help = "What parts are for, and their layout: docs/parts.md")]
pub(crate) struct PartCommand {
    #[command(flatten)]
    pub(crate) summary: SummaryArgs,
    /// The place of these rows among those of all parts, as in --place 7; parts are then given in any order.
    ///
    /// The place of these rows among those of all parts. Parts with places may be given in any order; without, the
    /// order on the command line is that of their rows.
    #[arg(long, value_name = "N", help_heading = "Of parts")]
    pub(crate) place: Option<u64>,
    /// Take columns to hold what they hold in another part, as where it has texts or more digits.
    #[arg(long, value_name = "PART", help_heading = "Of parts")]
    pub(crate) as_in: Option<PathBuf>,
}

#[derive(clap::Args, Debug)]
#[command(disable_help_flag = true)]
#[command(after_help = "What parts are for: docs/parts.md")]
pub(crate) struct AssembleArgs {
    /// The parts, in the order of their rows unless they have places.
    #[arg(required = true, value_name = "PART")]
    pub(crate) parts: Vec<PathBuf>,
    #[command(flatten)]
    pub(crate) output: OutputArgs,
}
