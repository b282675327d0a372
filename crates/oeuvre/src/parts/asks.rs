//! A request as a part carries it: the options that were typed, in the order of the help, without those that say where
//! the result goes.

use crate::args::reading::HOW_TO_READ;
use crate::args::report::{NOT_ASKED, is_typed, typed_texts};
use crate::args::request::name_and_file;
use crate::args::{Args, Command, SummaryArgs};
use clap::{ArgAction, ArgMatches, FromArgMatches};
use oeuvre_core::Error;

/// The options of a request, each with its values.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Asks(pub(crate) Vec<(String, Vec<String>)>);

/// Options of parts themselves.
const OF_PARTS: [&str; 2] = ["place", "as-in"];

impl Asks {
    /// What was typed for a part.
    pub(crate) fn typed(typed: &ArgMatches) -> Asks {
        let all = crate::args::command();
        let Some(command) = all.find_subcommand("part") else { return Asks::default() };
        let mut asks = Vec::new();
        for option in command.get_arguments() {
            let Some(long) = option.get_long() else { continue };
            // How a file is read is a matter of that file; by whose clock, of all.
            let of_file = option.get_help_heading() == Some(HOW_TO_READ) && long != "zone";
            let is_asked = !NOT_ASKED.contains(&long) && !OF_PARTS.contains(&long) && !of_file;
            if !is_asked || !is_typed(typed, option.get_id().as_str()) {
                continue;
            }
            let values = match option.get_action() {
                ArgAction::SetTrue => Vec::new(),
                _ => typed_texts(typed, option.get_id().as_str()),
            };
            // A lookup is known by its name: its rows are in the part, wherever they came from.
            let values = values.into_iter().map(|value| match long {
                "lookup" => name_and_file(&value).0,
                _ => value,
            });
            asks.push((long.to_owned(), values.collect()));
        }
        Asks(asks)
    }

    /// The options of a summary that asks it.
    ///
    /// # Errors
    /// An option that this program does not know.
    pub(crate) fn options(&self) -> Result<SummaryArgs, Error> {
        let mut words = vec!["oeuvre".to_owned(), "summary".to_owned(), "rows.csv".to_owned()];
        for (option, values) in &self.0 {
            if values.is_empty() {
                words.push(format!("--{option}"));
            }
            words.extend(values.iter().map(|value| format!("--{option}={value}")));
        }
        let unknown = |_| Error::request("a part asks for what this program does not know");
        let matches = crate::args::command().try_get_matches_from(words).map_err(unknown)?;
        match Args::from_arg_matches(&matches).map_err(unknown)?.command {
            Command::Summary(command) => Ok(command.summary),
            _ => Err(Error::request("a part asks for no summary")),
        }
    }

    /// Where it differs from another: what each asks.
    pub(crate) fn difference(&self, other: &Asks) -> Option<[String; 2]> {
        let of = |asks: &Asks, option: &str| {
            let found = asks.0.iter().find(|asked| asked.0 == option)?;
            let shown = |value: &String| {
                format!("--{option} {}", oeuvre_columns::names::shell_quoted(value))
            };
            Some(match found.1.as_slice() {
                [] => format!("--{option}"),
                values => values.iter().map(shown).collect::<Vec<_>>().join(" "),
            })
        };
        let options = self.0.iter().chain(&other.0).map(|asked| &asked.0);
        for option in options {
            let both = [self, other].map(|asks| of(asks, option));
            if both[0] != both[1] {
                return Some(both.map(|it| it.unwrap_or_else(|| format!("no --{option}"))));
            }
        }
        None
    }
}
