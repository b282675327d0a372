//! What can be typed: one derive struct for each section of the help.
//!
//! Structs are shared by the commands that take the same options, and turn themselves into what the crates want
//! (`to_options`, `to_request`, `to_style`); nothing else reads them.

pub(crate) mod cell;
pub(crate) mod chart;
mod choice;
pub(crate) mod compare;
pub(crate) mod output;
pub(crate) mod parts;
pub(crate) mod reading;
pub(crate) mod report;
pub(crate) mod request;
pub(crate) mod style;

use clap::builder::{Resettable, Str, StringValueParser, TypedValueParser};
use clap::{CommandFactory, Parser, Subcommand};
use std::path::PathBuf;

/// What a chart takes from a summary and seldom needs: its short help leaves it to the long one.
const SELDOM_IN_CHARTS: [&str; 8] = [
    "one_spelling",
    "lines_where",
    "every_period",
    "missing",
    "dates",
    "decimal",
    "caption",
    "quiet",
];

/// All that can be typed, as it is helped with.
pub(crate) fn command() -> clap::Command {
    let command = Args::command().mut_subcommand("chart", |chart| {
        chart.mut_args(|arg| match SELDOM_IN_CHARTS.contains(&arg.get_id().as_str()) {
            true => arg.hide_short_help(true),
            false => arg,
        })
    });
    command.mut_subcommands(|command| command.mut_args(with_minus))
}

/// A calculation may begin with a minus, as in --show '-fare', but not with two: that is an option.
fn with_minus(arg: clap::Arg) -> clap::Arg {
    // What the help calls so is written in the language of calculations.
    const CALCULATIONS: [&str; 4] = ["CALC", "CALC = VALUE", "COND", "KEYS"];
    let names = arg.get_value_names().unwrap_or_default();
    if !names.iter().any(|name| CALCULATIONS.contains(&name.as_str())) {
        return arg;
    }
    let calculation = StringValueParser::new().try_map(|text| match text.strip_prefix("--") {
        Some(_) => Err("an option stands here, where a calculation belongs"),
        None => Ok(text),
    });
    arg.allow_hyphen_values(true).value_parser(calculation)
}

/// Exact, explained summary tables from business rows.
#[derive(Parser, Debug)]
#[command(name = "oeuvre", version, about, max_term_width = 100, disable_help_subcommand = true)]
#[command(after_help = "Start with: oeuvre demo")]
pub(crate) struct Args {
    #[command(subcommand)]
    pub(crate) command: Command,
}

#[derive(Subcommand, Debug)]
pub(crate) enum Command {
    /// Write the demo data of a made-up ferry company and show what can be asked of it.
    Demo(DemoArgs),
    /// Say what the columns hold, and what in them will hurt.
    ///
    /// Example: oeuvre profile bookings.csv
    Profile(Box<ProfileArgs>),
    /// Group rows and show results.
    ///
    /// Example: oeuvre summary bookings.csv --by route --show 'count()' --show 'sum(fare)' --totals
    Summary(Box<SummaryCommand>),
    /// Keep every row and add calculated columns.
    ///
    /// Example: oeuvre detail bookings.csv --show booking_id,fare --show 'rank(fare within route)'
    Detail(Box<DetailCommand>),
    /// Draw the figures of a summary; takes what summary takes.
    ///
    /// Example: oeuvre chart bookings.csv --by 'month(sailed_on)' --bars 'sum(fare)' --to fares.svg
    Chart(Box<ChartCommand>),
    /// Say what changed between two results, or between two files of rows.
    ///
    /// Example: oeuvre compare last.json this.json --only-changed
    Compare(Box<compare::CompareArgs>),
    /// Run a report file: every table, detail, headline and check in it.
    ///
    /// Example: oeuvre report monthly.toml --to monthly.html
    Report(Box<report::ReportArgs>),
    /// Write what the rows of some files come to, to take it together with others later; takes what summary takes.
    ///
    /// Example: oeuvre part bookings-07.csv --by route --show 'sum(fare)' --to bookings-07.oeu
    Part(Box<parts::PartCommand>),
    /// Make the table of all rows from parts of them.
    ///
    /// Example: oeuvre assemble bookings-*.oeu
    Assemble(Box<parts::AssembleArgs>),
    /// Show the rows behind one cell of a summary, and the calculation made again on them.
    ///
    /// Takes what summary takes. Example: oeuvre trace bookings.csv --by route --show 'mean(fare)' --at 'route = SKE'
    Trace(Box<TraceArgs>),
    /// List the words of the language, or explain one with an example.
    Functions(FunctionsArgs),
    /// Say in plain sentences what a summary would do; takes what summary takes.
    Explain(Box<ExplainArgs>),
    /// Write what a shell needs to complete command lines, columns of files among them.
    ///
    /// For bash: source <(oeuvre completions bash), in ~/.bashrc. Others: zsh, fish, elvish, powershell.
    Completions {
        /// Which shell.
        shell: clap_complete::Shell,
    },
    /// Write the man pages into a folder.
    ///
    /// As in: oeuvre manual ~/.local/share/man/man1
    Manual(ManualArgs),
}

impl Args {
    /// Where results go and how to run, of commands that read rows or results.
    pub(crate) fn output(&self) -> Option<&output::OutputArgs> {
        match &self.command {
            Command::Profile(args) => Some(&args.output),
            Command::Summary(args) => Some(&args.summary.output),
            Command::Detail(args) => Some(&args.detail.output),
            Command::Chart(args) => Some(&args.summary.output),
            Command::Compare(args) => Some(&args.output),
            Command::Report(args) => Some(&args.output),
            Command::Part(args) => Some(&args.summary.output),
            Command::Assemble(args) => Some(&args.output),
            Command::Trace(args) => Some(&args.summary.output),
            Command::Explain(args) => Some(&args.summary.output),
            Command::Demo(_)
            | Command::Functions(_)
            | Command::Completions { .. }
            | Command::Manual(_) => None,
        }
    }

    /// When messages are in colour.
    pub(crate) fn color(&self) -> crate::environment::Color {
        self.output().map_or(crate::environment::Color::Auto, |output| output.color)
    }
}

#[derive(clap::Args, Debug)]
pub(crate) struct DemoArgs {
    /// The folder to write to; it is made when it is not there.
    #[arg(default_value = "oeuvre-demo", value_name = "DIR")]
    pub(crate) dir: PathBuf,
    /// How many bookings to write.
    ///
    /// The same number always gives the same rows.
    #[arg(long, value_name = "N", default_value_t = 20_000, value_parser = clap::value_parser!(u64).range(1..=1_000_000_000))]
    pub(crate) rows: u64,
}

#[derive(clap::Args, Debug)]
pub(crate) struct ManualArgs {
    /// The folder to write to; it is made when it is not there.
    #[arg(value_name = "DIR")]
    pub(crate) dir: PathBuf,
}

#[derive(clap::Args, Debug)]
pub(crate) struct FunctionsArgs {
    /// The function, or the word inside its parentheses, to explain.
    #[arg(value_name = "WORD")]
    pub(crate) word: Vec<String>,
    /// Write all of them with their examples as a Markdown page.
    #[arg(long)]
    pub(crate) markdown: bool,
}

#[derive(clap::Args, Debug)]
#[command(disable_help_flag = true)]
#[command(
    after_help = "All options: oeuvre profile --help; words of calculations: oeuvre functions"
)]
#[command(after_long_help = "The words of calculations: oeuvre functions")]
pub(crate) struct ProfileArgs {
    /// The files with the rows, folders of them, or addresses; - is standard input.
    #[arg(required = true, value_name = "FILE")]
    pub(crate) files: Vec<String>,
    #[command(flatten)]
    pub(crate) counted: request::CountedArgs,
    #[command(flatten)]
    pub(crate) reading: reading::ReadingArgs,
    #[command(flatten)]
    pub(crate) output: output::OutputArgs,
}

#[derive(clap::Args, Debug)]
#[command(disable_help_flag = true)]
#[command(
    after_help = "All options: oeuvre summary --help; words of calculations: oeuvre functions"
)]
#[command(after_long_help = "The words of calculations: oeuvre functions")]
pub(crate) struct SummaryCommand {
    #[command(flatten)]
    pub(crate) summary: SummaryArgs,
    #[command(flatten)]
    pub(crate) save: report::SaveArgs,
}

#[derive(clap::Args, Debug)]
#[command(disable_help_flag = true)]
#[command(after_help = "All options: oeuvre chart --help; words of calculations: oeuvre functions")]
#[command(after_long_help = "The words of calculations: oeuvre functions")]
pub(crate) struct ChartCommand {
    #[command(flatten)]
    pub(crate) chart: chart::ChartOptions,
    #[command(flatten)]
    pub(crate) words: chart::ChartWords,
    #[command(flatten)]
    pub(crate) summary: SummaryArgs,
    #[command(flatten)]
    pub(crate) save: report::SaveArgs,
}

#[derive(clap::Args, Debug)]
pub(crate) struct SummaryArgs {
    /// The files with the rows, folders of them, or addresses; - is standard input.
    ///
    /// Several files with the same headings are stacked, and `source_file` is then a column. Files
    /// compressed with gzip or zstd are read as they are. A sheet or a table stands behind #:
    /// 'book.xlsx#Bookings', 'harbour.sqlite#bookings', 'postgresql://analyst@host/harbour#bookings'.
    // Its heading is said, or a struct that stands before this one in a command would give it its own.
    #[arg(required = true, value_name = "FILE", help_heading = Resettable::<Str>::Reset)]
    pub(crate) files: Vec<String>,
    #[command(flatten)]
    pub(crate) rows: request::RowsArgs,
    #[command(flatten)]
    pub(crate) group: request::GroupArgs,
    #[command(flatten)]
    pub(crate) style: style::StyleArgs,
    #[command(flatten)]
    pub(crate) reading: reading::ReadingArgs,
    #[command(flatten)]
    pub(crate) output: output::OutputArgs,
}

#[derive(clap::Args, Debug)]
#[command(disable_help_flag = true)]
#[command(
    after_help = "All options: oeuvre explain --help; words of calculations: oeuvre functions"
)]
pub(crate) struct ExplainArgs {
    #[command(flatten)]
    pub(crate) summary: SummaryArgs,
    #[command(flatten)]
    pub(crate) given: report::GivenArgs,
    /// Say what detail would do with these options, instead of summary.
    #[arg(long, help_heading = "What to show")]
    pub(crate) detail: bool,
}

#[derive(clap::Args, Debug)]
#[command(disable_help_flag = true)]
#[command(after_help = "All options: oeuvre trace --help; words of calculations: oeuvre functions")]
pub(crate) struct TraceArgs {
    #[command(flatten)]
    pub(crate) summary: SummaryArgs,
    #[command(flatten)]
    pub(crate) given: report::GivenArgs,
    /// The table of a report file whose cell is meant.
    #[arg(hide_short_help = true, long = "in", value_name = "NAME", help_heading = "What to show")]
    pub(crate) table: Option<String>,
    /// The cell by its keys: 'route = SKE, month = 2025-03'.
    ///
    /// The cell by its keys with their labels: 'route = SKE, month = 2025-03'. Keys that are left out, from the innermost, mean the total over them. A label with a comma stands in
    /// single quotes; rows without a category have the label (missing).
    #[arg(
        long,
        value_name = "KEYS",
        default_value = "",
        hide_default_value = true,
        help_heading = "What to show"
    )]
    pub(crate) at: String,
    /// How many of the rows, and of the cells that entered, to show as text.
    #[arg(
        hide_short_help = true,
        long,
        value_name = "N",
        default_value_t = 40,
        help_heading = "What to show"
    )]
    pub(crate) first: usize,
}

impl SummaryArgs {
    /// How the rows are read.
    pub(crate) fn to_options(&self) -> Result<oeuvre_data::ReadOptions, oeuvre_core::Error> {
        ensure_files(&self.files, "--by")?;
        self.reading.to_options(&self.rows.lookup_names())
    }

    /// The request and the look that the options make.
    pub(crate) fn to_request(
        &self,
    ) -> Result<(oeuvre_core::Request, oeuvre_render::Style), oeuvre_core::Error> {
        let request = self.group.group(self.rows.to_request(&self.reading)?)?;
        Ok((request, self.to_style()?))
    }

    /// The request, with lookups that are read already.
    pub(crate) fn to_request_with(
        &self,
        lookups: Vec<oeuvre_core::LookupRequest>,
    ) -> Result<oeuvre_core::Request, oeuvre_core::Error> {
        self.group.group(self.rows.to_request_with(lookups)?)
    }

    /// The look.
    pub(crate) fn to_style(&self) -> Result<oeuvre_render::Style, oeuvre_core::Error> {
        Ok(oeuvre_render::Style { long: self.group.long, ..self.style.to_style()? })
    }
}

#[derive(clap::Args, Debug)]
#[command(disable_help_flag = true)]
#[command(
    after_help = "All options: oeuvre detail --help; words of calculations: oeuvre functions"
)]
#[command(after_long_help = "The words of calculations: oeuvre functions")]
pub(crate) struct DetailCommand {
    #[command(flatten)]
    pub(crate) detail: DetailArgs,
    #[command(flatten)]
    pub(crate) save: report::SaveArgs,
}

#[derive(clap::Args, Debug)]
pub(crate) struct DetailArgs {
    /// The files with the rows, folders of them, or addresses; - is standard input.
    // Its heading is said, or a struct that stands before this one in a command would give it its own.
    #[arg(required = true, value_name = "FILE", help_heading = Resettable::<Str>::Reset)]
    pub(crate) files: Vec<String>,
    #[command(flatten)]
    pub(crate) rows: request::RowsArgs,
    #[command(flatten)]
    pub(crate) style: style::StyleArgs,
    #[command(flatten)]
    pub(crate) reading: reading::ReadingArgs,
    #[command(flatten)]
    pub(crate) output: output::OutputArgs,
}

/// A mistake where a name among the files is none, and may be a key or the word of an option.
pub(crate) fn ensure_files(files: &[String], keys: &str) -> Result<(), oeuvre_core::Error> {
    for name in files.iter().filter(|name| !std::path::Path::new(name).exists()) {
        let help = match name.as_str() {
            "none" | "grand" | "sub" | "all" => format!("which totals: --totals={name}"),
            name if name != "-" && !name.contains(['.', '/', '\\', '*']) => {
                format!("if it is a column: {keys} {}", oeuvre_columns::names::shell_quoted(name))
            }
            _ => continue,
        };
        let message = format!("{name}: there is no such file");
        return Err(oeuvre_core::Error::request_with_help(message, help));
    }
    Ok(())
}

/// The answer to an option that is called otherwise here.
pub(crate) fn elsewhere(mut error: clap::Error) -> clap::Error {
    use clap::error::{ContextKind, ContextValue, ErrorKind};
    if error.kind() == ErrorKind::UnknownArgument
        && let Some(ContextValue::String(typed)) = error.get(ContextKind::InvalidArg)
        && let Some(ours) = oeuvre_core::language::elsewhere::option(typed)
        && has_option(ours)
    {
        let tip = format!("write {ours}");
        error.remove(ContextKind::SuggestedArg);
        error.insert(ContextKind::Suggested, ContextValue::StyledStrs(vec![tip.into()]));
    }
    error
}

/// Whether the command that was typed has an option.
fn has_option(option: &str) -> bool {
    let all = command();
    let command = std::env::args().find_map(|word| all.find_subcommand(&word).cloned());
    let name = option.trim_start_matches('-');
    command.is_some_and(|c| c.get_arguments().any(|a| a.get_long() == Some(name)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_definitions_hold_together() {
        command().debug_assert();
    }

    #[test]
    fn every_option_has_help_and_a_value_name() {
        for command in super::command().get_subcommands() {
            for arg in command.get_arguments().filter(|a| !a.is_hide_set() && a.get_id() != "help")
            {
                let id = arg.get_id();
                assert!(arg.get_help().is_some(), "{} {id} has no help", command.get_name());
                let help = arg.get_help().unwrap().to_string();
                assert!(
                    !help.ends_with('.') || arg.is_positional() || help.len() < 100,
                    "{id}: {help}"
                );
                if arg.get_action().takes_values() {
                    let names = arg.get_value_names().unwrap_or_default();
                    assert!(!names.is_empty(), "{} {id} has no value name", command.get_name());
                }
            }
        }
    }
}
