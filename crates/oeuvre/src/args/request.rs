//! The request: what to group, what to show.

use super::cell;
use super::choice::choice;
use super::reading::{ReadingArgs, value_for, word};
use crate::complete;
use oeuvre_columns::quoting::outside_quotes;
use oeuvre_core::language::columns_of_list;
use oeuvre_core::{
    Check, Doubled, Error, LookupRequest, NoMatch, Request, Show, SourceText, Totals, TotalsAt,
};
use oeuvre_data::{ReadOptions, files_named, open, read_whole, stem_of};
use std::path::Path;
use std::sync::Arc;

/// Options that say what is asked of the rows.
#[derive(clap::Args, Debug)]
#[command(next_help_heading = "What to show")]
pub(crate) struct RowsArgs {
    /// A result to show; repeatable.
    ///
    /// `Heading: calculation` names it, as in --show 'Revenue: sum(fare * passengers)'. A column of
    /// numbers means its sum in a summary. Without --show a summary counts the rows, and detail shows all
    /// columns.
    #[arg(long, value_name = "CALC", add = complete::calculations())]
    show: Vec<String>,
    /// Name a calculation for use in the others; repeatable.
    ///
    /// As in --let 'revenue: sum(fare * passengers)' --show 'revenue / count()'; `=` may stand for `:`.
    #[arg(long = "let", value_name = "NAME: CALC", add = complete::calculations())]
    lets: Vec<String>,
    #[command(flatten)]
    lookups: LookupArgs,
    #[command(flatten)]
    counted: CountedArgs,
    /// Which lines are shown, when results are known.
    ///
    /// Which lines are shown, after the results are known; repeatable, all must hold.
    ///
    /// As in --lines-where 'rank(revenue within coast) <= 3'. Totals of a summary still cover all rows counted;
    /// where there are any, a line for the rest makes up the difference.
    #[arg(long, value_name = "COND", add = complete::calculations())]
    lines_where: Vec<String>,
    /// The order of the lines: 'sum(fare) desc, route'.
    ///
    /// The order of the lines, as in 'sum(fare) desc, route'; by label unless said.
    #[arg(long, value_name = "KEYS", add = complete::calculations())]
    sort: Option<String>,
    /// Show the N largest lines, or the first by --sort.
    ///
    /// Show the N lines with the largest first result, or the first N by --sort.
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u64).range(1..))]
    top: Option<u64>,
    /// Show the N lines with the smallest first result, or the last N by --sort.
    #[arg(hide_short_help = true, long, value_name = "N", value_parser = clap::value_parser!(u64).range(1..))]
    bottom: Option<u64>,
}

/// Options that add the columns of other tables.
#[derive(clap::Args, Debug, Default)]
#[command(next_help_heading = "What to show")]
pub(crate) struct LookupArgs {
    /// Add the columns of a second file; each needs a --match.
    ///
    /// As in --lookup routes.csv --match 'route = code' --by coast. Its columns are also known as
    /// routes.name, by the file's stem, or by a name of your own: --lookup 'lines=routes.csv'.
    #[arg(long, value_name = "FILE")]
    lookup: Vec<String>,
    /// How rows find theirs in the lookup: 'route = code'.
    ///
    /// Which row of a lookup a row gets: column of the rows = column of the lookup, several with `and`.
    #[arg(long = "match", value_name = "COND", add = complete::calculations())]
    matches: Vec<String>,
    /// Rows without a match in a lookup: blank (unless said), leave-out or stop.
    ///
    /// For one lookup alone: --no-match 'routes=leave-out'.
    #[arg(hide_short_help = true, long, value_name = "WHAT")]
    no_match: Vec<String>,
    /// Keys that stand twice in a lookup: stop (unless said), or first to take the first of their lines.
    #[arg(hide_short_help = true, long, value_name = "WHAT")]
    doubled: Vec<String>,
}

/// Options that say which rows are counted, and which labels are one.
#[derive(clap::Args, Debug, Default)]
#[command(next_help_heading = "What to show")]
pub(crate) struct CountedArgs {
    /// Join labels that differ only in case or spaces.
    ///
    /// Take labels of a column that differ only in case, spaces or Unicode form for one; repeatable.
    ///
    /// As in --one-spelling 'route,vessel'. They are shown in the spelling that most rows have; texts that are
    /// compared with the column and keys of lookups follow it. A column of a lookup: --one-spelling routes.name.
    #[arg(long, value_name = "COLUMNS", add = complete::columns())]
    one_spelling: Vec<String>,
    /// Which rows are counted: "status = 'sailed'".
    ///
    /// Which rows are counted, before anything is grouped; repeatable, all must hold.
    ///
    /// As in --where "status = 'sailed' and fare > 0". A row for which the condition is neither true nor
    /// false, because a value is missing, is left out, and the ledger says how many.
    #[arg(long = "where", value_name = "COND", add = complete::calculations())]
    filters: Vec<String>,
}

impl CountedArgs {
    /// The conditions as they were written.
    pub(crate) fn filters(&self) -> &[String] {
        &self.filters
    }

    /// A request for the rows that the options ask for.
    pub(crate) fn to_request(&self) -> Result<Request, Error> {
        Ok(Request {
            one_spelling: columns(&self.one_spelling)?,
            filters: written("--where", &self.filters),
            ..Request::default()
        })
    }
}

/// Options that say how rows are grouped.
#[derive(clap::Args, Debug)]
#[command(next_help_heading = "How to group")]
pub(crate) struct GroupArgs {
    /// Categories down the side, outermost first.
    ///
    /// Columns or calculations on each row, separated by commas, as in --by 'route,month(sailed_on)'.
    #[arg(long, value_name = "KEYS", add = complete::calculations())]
    by: Vec<String>,
    /// Categories along the top, outermost first.
    ///
    /// Categories or periods along the top, outermost first, as in --columns-by 'quarter(sailed_on)'.
    #[arg(long, value_name = "KEYS", add = complete::calculations())]
    columns_by: Vec<String>,
    /// Show the N largest along the top, and the others as one column.
    ///
    /// Show the N labels along the top with the largest first result, and the others as one column, worked out from
    /// its rows.
    #[arg(hide_short_help = true, long, value_name = "N", value_parser = clap::value_parser!(u64).range(1..))]
    columns_top: Option<u64>,
    /// Show periods without rows, too.
    ///
    /// Show periods without rows, too, from the first to the last.
    #[arg(long)]
    every_period: bool,
    /// Show the categories of a lookup that have no rows, too, as in --every name; repeatable.
    #[arg(hide_short_help = true, long, value_name = "KEYS")]
    every: Vec<String>,
    /// Sort lines by their figures in one column along the top, as in --sort-column 'year = 2025'.
    #[arg(hide_short_help = true, long, value_name = "KEY = LABEL", requires = "sort")]
    sort_column: Option<String>,
    /// A known figure that the result must agree with, as in 'sum(fare) = 48316.38 +- 0.5%'; repeatable.
    ///
    /// Worked out over all rows counted, whatever lines are shown; `=`, `>=` or `<=`, with a tolerance or without.
    /// What does not hold is told with the figure found, the one wanted and their difference, and the exit status is 3.
    #[arg(hide_short_help = true, long, value_name = "CALC = VALUE", add = complete::calculations())]
    check: Vec<String>,
    /// What the line is called that makes up for the lines not shown; Rest unless said.
    #[arg(hide_short_help = true, long, value_name = "TEXT")]
    rest_label: Option<String>,
    /// Total lines and columns: all, or =sub, =grand.
    ///
    /// Total lines and columns, recalculated from the rows: all, or --totals=sub, --totals=grand.
    #[arg(long, value_name = "WHICH", num_args = 0..=1, require_equals = true, default_missing_value = "all", default_value = "none", hide_default_value = true, hide_possible_values = true, value_parser = choice::<Totals>())]
    totals: Totals,
    /// Total lines and columns stand before what they total.
    #[arg(hide_short_help = true, long)]
    totals_first: bool,
    /// Write one line for each cell of a table with --columns-by.
    #[arg(hide_short_help = true, long)]
    pub(crate) long: bool,
}

impl LookupArgs {
    /// The names of the lookups, in their order.
    pub(crate) fn names(&self) -> Vec<String> {
        self.lookup.iter().map(|text| name_and_file(text).0).collect()
    }

    /// The lookups, read whole, with their files meant from a folder or from where the program runs.
    pub(crate) fn read(
        &self,
        reading: &ReadingArgs,
        folder: Option<&Path>,
    ) -> Result<Vec<LookupRequest>, Error> {
        if self.lookup.len() != self.matches.len() {
            return Err(Error::request_with_help(
                format!(
                    "{} --lookup and {} --match: each lookup needs one",
                    self.lookup.len(),
                    self.matches.len()
                ),
                "write --lookup FILE --match 'column of the rows = column of the lookup'",
            ));
        }
        let names = self.names();
        let mut lookups = Vec::new();
        for (text, on) in self.lookup.iter().zip(&self.matches) {
            let (name, file) = name_and_file(text);
            let options = reading.to_lookup_options(&names, &name)?;
            let of = |values| {
                value_for(values, &names, Some(&name)).or_else(|| value_for(values, &names, None))
            };
            let terms = LookupTerms {
                on: SourceText::new("--match", on.clone()),
                no_match: of(&self.no_match)
                    .map_or(Ok(NoMatch::Blank), |w| word("--no-match", w))?,
                doubled: of(&self.doubled).map_or(Ok(Doubled::Stop), |w| word("--doubled", w))?,
            };
            lookups.push(terms.read(&name, file, folder, options)?);
        }
        Ok(lookups)
    }
}

/// How rows find theirs in a lookup.
pub(crate) struct LookupTerms {
    pub(crate) on: Arc<SourceText>,
    pub(crate) no_match: NoMatch,
    pub(crate) doubled: Doubled,
}

impl LookupTerms {
    /// Reads a lookup whole.
    pub(crate) fn read(
        self,
        name: &str,
        file: &str,
        folder: Option<&Path>,
        options: ReadOptions,
    ) -> Result<LookupRequest, Error> {
        let files = files_named(&[file.to_owned()], folder)?;
        let mut input = open(&files, options)?;
        let table = read_whole(input.as_mut(), name)?;
        let all: Vec<usize> = (0..table.columns.len()).collect();
        let LookupTerms { on, no_match, doubled } = self;
        Ok(LookupRequest {
            notes: input.notes(&all),
            table: Arc::new(table),
            on,
            no_match,
            doubled,
        })
    }
}

impl RowsArgs {
    /// The options on lookups.
    pub(crate) fn lookups(&self) -> &LookupArgs {
        &self.lookups
    }

    /// The options on which rows are counted.
    pub(crate) fn counted(&self) -> &CountedArgs {
        &self.counted
    }

    /// The names of the lookups, in their order.
    pub(crate) fn lookup_names(&self) -> Vec<String> {
        self.lookups.names()
    }

    /// The request that the options make: a detail of the rows.
    pub(crate) fn to_request(&self, reading: &ReadingArgs) -> Result<Request, Error> {
        self.to_request_with(self.lookups.read(reading, None)?)
    }

    /// As [`RowsArgs::to_request`], with lookups that are read already.
    pub(crate) fn to_request_with(&self, lookups: Vec<LookupRequest>) -> Result<Request, Error> {
        let mut lets = Vec::new();
        for text in &self.lets {
            let (name, calc) = named(text).ok_or_else(|| {
                Error::request_with_help(
                    format!("--let '{text}' has no name"),
                    "write --let 'NAME: CALC', such as --let 'revenue: sum(fare)'",
                )
            })?;
            if name.is_empty() {
                return Err(Error::request(format!("--let '{text}' has an empty name")));
            }
            lets.push((name.clone(), SourceText::new(format!("--let {name}"), calc)));
        }
        Ok(Request {
            listing: true,
            show: self.show.iter().flat_map(|t| Show::parse_all("--show", t)).collect(),
            lets,
            lookups,
            sort: self.sort.as_ref().map(|t| SourceText::new("--sort", t.clone())),
            lines_where: written("--lines-where", &self.lines_where),
            top: self.top,
            bottom: self.bottom,
            ..self.counted.to_request()?
        })
    }
}

/// The name and the calculation of `name: calc` or `name=calc`: the first sign outside quotes parts them.
pub(crate) fn named(text: &str) -> Option<(String, &str)> {
    let (at, ..) = outside_quotes(text).find(|o| matches!(o.1, ':' | '='))?;
    let name = text[..at].trim();
    let bare = name.strip_prefix('"').and_then(|n| n.strip_suffix('"'));
    let name = bare.map_or_else(|| name.to_owned(), |n| n.replace("\"\"", "\""));
    Some((name, text[at + 1..].trim_start()))
}

/// The name of a lookup and its file, of `FILE` or `NAME=FILE`.
pub(crate) fn name_and_file(text: &str) -> (String, &str) {
    match text.split_once('=') {
        // What has a slash in it is the beginning of a path or an address.
        Some((name, file)) if !name.contains('/') && !Path::new(text).exists() => {
            (name.trim().to_owned(), file.trim())
        }
        _ => (stem_of(text), text),
    }
}

/// Columns of a list, each perhaps in double quotes, perhaps with the name of a lookup before it.
fn columns(texts: &[String]) -> Result<Vec<(Option<String>, String)>, Error> {
    let mut all = Vec::new();
    for text in texts {
        all.extend(
            columns_of_list("--one-spelling", text).map_err(|m| Error::Diagnostics(vec![m]))?,
        );
    }
    Ok(all)
}

fn written(origin: &str, texts: &[String]) -> Vec<Arc<SourceText>> {
    texts.iter().map(|t| SourceText::new(origin, t.clone())).collect()
}

impl GroupArgs {
    /// Groups the rows of a request.
    pub(crate) fn group(&self, request: Request) -> Result<Request, Error> {
        let columns_by = written("--columns-by", &self.columns_by);
        let sort_column = match &self.sort_column {
            Some(text) => cell::read("--sort-column", text, &columns_by)?,
            None => Vec::new(),
        };
        let checks: Result<_, Error> =
            self.check.iter().map(|text| Check::parse("--check", text)).collect();
        Ok(Request {
            listing: false,
            by: written("--by", &self.by),
            columns_by,
            sort_column,
            checks: checks?,
            columns_top: self.columns_top,
            every_period: self.every_period,
            every: written("--every", &self.every),
            rest_label: self.rest_label.clone(),
            totals: self.totals,
            totals_at: if self.totals_first { TotalsAt::Top } else { TotalsAt::Bottom },
            ..request
        })
    }
}
