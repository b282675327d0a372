//! What is compared, and how.

use super::output::OutputArgs;
use super::reading::ReadingArgs;
use super::style::StyleArgs;
use crate::complete;

#[derive(clap::Args, Debug)]
#[command(disable_help_flag = true)]
#[command(after_help = "All options: oeuvre compare --help")]
pub(crate) struct CompareArgs {
    /// The older result, as --as json has written it; or CSV with --by, or rows with --rows.
    #[arg(value_name = "OLD")]
    pub(crate) old: String,
    /// The newer one.
    #[arg(value_name = "NEW")]
    pub(crate) new: String,
    /// Compare two files of rows, and not two results.
    ///
    /// Compare two files of rows, and not two results: which rows were added, removed or changed, and in which columns.
    #[arg(long, help_heading = "What to compare")]
    pub(crate) rows: bool,
    /// The columns by which lines are joined; JSON knows its own.
    #[arg(long, value_name = "KEYS", help_heading = "What to compare", add = complete::columns())]
    pub(crate) by: Vec<String>,
    /// Which lines are compared, by their keys: "month < '2025-03'".
    ///
    /// Which lines are compared, by their keys, whose labels are texts here: --where "month < '2025-03'"; repeatable,
    /// all must hold.
    #[arg(long = "where", value_name = "COND", help_heading = "What to compare")]
    pub(crate) filters: Vec<String>,
    /// How far figures may be apart and still be the same: 0.01, or 0.5%.
    #[arg(long, value_name = "T", help_heading = "What to compare")]
    pub(crate) tolerance: Option<String>,
    /// Leave out what is the same.
    #[arg(long, help_heading = "What to compare")]
    pub(crate) only_changed: bool,
    /// End with status 3 where anything changed.
    #[arg(long, help_heading = "What to compare")]
    pub(crate) must_agree: bool,
    #[command(flatten)]
    pub(crate) style: StyleArgs,
    #[command(flatten)]
    pub(crate) reading: ReadingArgs,
    #[command(flatten)]
    pub(crate) output: OutputArgs,
}
