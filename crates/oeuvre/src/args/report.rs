//! Report files: which one, what is given to it, and how a request is saved as one.

use super::output::OutputArgs;
use clap::ArgMatches;
use clap::parser::ValueSource;
use oeuvre_core::Error;
use std::collections::HashSet;
use std::path::PathBuf;

/// A report file to begin with.
const EXAMPLE: &str = "A report file to begin with; every option of summary is a key of [[table]]:

  title = \"Revenue\"
  [data]
  files = [\"bookings.csv\"]
  where = \"status = 'sailed'\"
  [[table]]
  name = \"routes\"
  by = [\"route\"]
  show = [\"Revenue: sum(fare * passengers)\", \"count()\"]
  totals = true
  [[check]]
  that = \"sum(fare * passengers)\"
  at-least = 1000000

All keys: docs/reports.md. A request that was typed becomes such a file with --save-report.";

/// Options that say nothing of what is asked.
pub(crate) const NOT_ASKED: &[&str] = &[
    "to",
    "as",
    "threads",
    "memory",
    "spill-to",
    "width",
    "quiet",
    "no-progress",
    "notes",
    "color",
    "save-report",
    "replace",
    "piece-bytes",
    "help",
];

#[derive(clap::Args, Debug)]
#[command(disable_help_flag = true)]
#[command(
    after_help = "All options: oeuvre report --help; what a report file holds: docs/reports.md"
)]
#[command(after_long_help = EXAMPLE)]
pub(crate) struct ReportArgs {
    /// The report file, in TOML.
    #[arg(value_name = "FILE.toml")]
    pub(crate) report: PathBuf,
    /// Files with the rows, in place of those that the report names.
    #[arg(value_name = "FILE")]
    pub(crate) files: Vec<String>,
    /// A value that the report takes, as in month=2025-03; repeatable.
    ///
    /// A value that the report takes in its section `given`, where it stands for $month; repeatable. The first = parts
    /// the name from the value.
    #[arg(long, value_name = "NAME=VALUE", help_heading = "Of a report file")]
    pub(crate) given: Vec<String>,
    /// The one part of the report to run, by its name; repeatable.
    #[arg(long, value_name = "PART", help_heading = "Of a report file")]
    pub(crate) only: Vec<String>,
    /// Keep what each file comes to in a folder, so that files that have not changed are not read again.
    ///
    /// Keep what each file comes to in a folder, so that files that have not changed (size, time, and where only the time
    /// has, their content) are not read again. The folder may be deleted at any time.
    #[arg(long, value_name = "DIR", help_heading = "Of a report file")]
    pub(crate) parts_in: Option<PathBuf>,
    /// Write when the report was made at its top.
    #[arg(long, help_heading = "Where to and how")]
    pub(crate) stamp: bool,
    #[command(flatten)]
    pub(crate) output: OutputArgs,
}

/// Options that say what of a report is run.
#[derive(clap::Args, Debug, Default)]
#[command(next_help_heading = "Of a report file")]
pub(crate) struct GivenArgs {
    /// A value that the report takes, as in month=2025-03; repeatable.
    ///
    /// A value that the report takes in its section `given`, where it stands for $month; repeatable. The first = parts
    /// the name from the value.
    #[arg(hide_short_help = true, long, value_name = "NAME=VALUE")]
    pub(crate) given: Vec<String>,
    /// The one part of the report to run, by its name; repeatable.
    #[arg(hide_short_help = true, long, value_name = "PART")]
    pub(crate) only: Vec<String>,
}

/// Options that save a request as a report file.
#[derive(clap::Args, Debug)]
#[command(next_help_heading = "Of a report file")]
pub(crate) struct SaveArgs {
    /// Save the request as a report file, too, to run it again: oeuvre report FILE.
    ///
    /// Save the request as a report file, too, to run it again with oeuvre report FILE. Paths are written as they are
    /// meant from the folder of that file.
    #[arg(hide_short_help = true, long, value_name = "FILE")]
    pub(crate) save_report: Option<PathBuf>,
    /// Let --save-report replace a file.
    #[arg(hide_short_help = true, long, requires = "save_report")]
    pub(crate) replace: bool,
}

/// The report file that is named first among some files, and the other files. Options that say what a report says
/// itself, which are all but `own` and those on output, are refused.
pub(crate) fn of_report<'a>(
    files: &'a [String],
    typed: &ArgMatches,
    own: &[&str],
) -> Result<Option<(&'a str, &'a [String])>, Error> {
    let Some((first, rest)) = files.split_first() else { return Ok(None) };
    if !first.to_ascii_lowercase().ends_with(".toml") {
        let given = ["given", "only"].into_iter().find(|id| is_typed(typed, id));
        return match given {
            None => Ok(None),
            Some(option) => Err(Error::request_with_help(
                format!("--{option} belongs to a report file"),
                "name one, such as monthly.toml, before the files",
            )),
        };
    }
    let on_output = [
        "to",
        "file_type",
        "threads",
        "memory",
        "spill_to",
        "width",
        "quiet",
        "no_progress",
        "notes",
        "color",
        "files",
    ];
    // Structs of options are among the ids, too.
    let all = super::command();
    let options =
        all.get_subcommands().flat_map(|c| c.get_arguments()).map(|a| a.get_id().as_str());
    let options: HashSet<&str> = options.collect();
    let typed_ids = typed.ids().map(clap::Id::as_str).filter(|id| options.contains(id));
    let mut others = typed_ids.filter(|id| is_typed(typed, id));
    match others.find(|id| !on_output.contains(id) && !own.contains(id)) {
        None => Ok(Some((first, rest))),
        Some(id) => {
            let option = id.replace('_', "-");
            Err(Error::request_with_help(
                format!("{first} says itself what is asked, and --{option} would change that"),
                format!("write it in the file: {option} = …"),
            ))
        }
    }
}

/// Whether an option was typed.
pub(crate) fn is_typed(typed: &ArgMatches, id: &str) -> bool {
    typed.try_contains_id(id).unwrap_or(false)
        && typed.value_source(id) == Some(ValueSource::CommandLine)
        && typed.try_get_raw(id).is_ok_and(|raw| raw.is_some())
}

/// The texts of an option, as they were typed.
pub(crate) fn typed_texts(typed: &ArgMatches, id: &str) -> Vec<String> {
    let raw = typed.try_get_raw(id).ok().flatten();
    raw.map_or(Vec::new(), |raw| raw.map(|v| v.to_string_lossy().into_owned()).collect())
}
