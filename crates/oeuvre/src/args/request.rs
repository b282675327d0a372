//! The request: what to group, what to show.

use oeuvre_core::{Request, Show, Totals, TotalsAt, Written};

/// Options that say what is asked.
#[derive(clap::Args, Debug)]
#[command(next_help_heading = "What to show")]
pub(crate) struct RequestArgs {
    /// A result to show; repeatable.
    ///
    /// `Heading: calculation` names it, as in --show 'Revenue: sum(fare * passengers)'. A column of
    /// numbers means its sum. Without --show the rows are counted.
    #[arg(long, value_name = "CALC")]
    show: Vec<String>,
    /// Categories down the side, outermost first.
    ///
    /// Columns or calculations on each row, separated by commas, as in --by 'route,month(sailed_on)'.
    #[arg(long, value_name = "KEYS")]
    by: Vec<String>,
    /// Name a calculation for use in the others; repeatable.
    ///
    /// As in --let 'revenue=sum(fare * passengers)' --show 'revenue / count()'.
    #[arg(long = "let", value_name = "NAME=CALC")]
    lets: Vec<String>,
    /// Which rows are counted, before anything is grouped; repeatable, all must hold.
    ///
    /// As in --where "status = 'sailed' and fare > 0". A row for which the condition is neither true nor
    /// false, because a value is missing, is left out, and the ledger says how many.
    #[arg(long = "where", value_name = "COND")]
    filters: Vec<String>,
    /// The order of the lines, as in 'sum(fare) desc, route'; by label unless said.
    #[arg(long, value_name = "KEYS")]
    sort: Option<String>,
    /// Total lines, recalculated from the rows: none, grand, sub or all (when nothing is said after it).
    #[arg(long, value_name = "WHICH", num_args = 0..=1, default_missing_value = "all", default_value = "none", hide_default_value = true)]
    totals: WhichTotals,
    /// Where total lines stand: top or bottom.
    #[arg(long, value_name = "WHERE", default_value = "bottom")]
    totals_at: WhereTotals,
}

#[derive(clap::ValueEnum, Clone, Copy, Debug)]
enum WhichTotals {
    /// No totals.
    None,
    /// One over everything.
    Grand,
    /// One for each group of lines.
    Sub,
    /// Both.
    All,
}

#[derive(clap::ValueEnum, Clone, Copy, Debug)]
enum WhereTotals {
    /// Above what they total.
    Top,
    /// Below what they total.
    Bottom,
}

impl RequestArgs {
    /// The request that the options make.
    pub(crate) fn to_request(&self) -> Result<Request, oeuvre_core::Error> {
        let written = |place: &str, texts: &[String]| {
            texts.iter().map(|t| Written::new(place, t.clone())).collect::<Vec<_>>()
        };
        let mut lets = Vec::new();
        for text in &self.lets {
            let (name, calc) = text.split_once('=').ok_or_else(|| {
                oeuvre_core::Error::request_with_help(
                    format!("--let '{text}' has no name"),
                    "write --let 'NAME=CALC', such as --let 'revenue=sum(fare)'",
                )
            })?;
            let name = name.trim().trim_matches('"');
            if name.is_empty() {
                return Err(oeuvre_core::Error::request(format!(
                    "--let '{text}' has an empty name"
                )));
            }
            lets.push((name.to_owned(), Written::new(format!("--let {name}"), calc.trim_start())));
        }
        Ok(Request {
            show: self.show.iter().map(|t| Show::parse("--show", t)).collect(),
            by: written("--by", &self.by),
            lets,
            filters: written("--where", &self.filters),
            sort: self.sort.as_ref().map(|t| Written::new("--sort", t.clone())),
            totals: match self.totals {
                WhichTotals::None => Totals::None,
                WhichTotals::Grand => Totals::Grand,
                WhichTotals::Sub => Totals::Sub,
                WhichTotals::All => Totals::All,
            },
            totals_at: match self.totals_at {
                WhereTotals::Top => TotalsAt::Top,
                WhereTotals::Bottom => TotalsAt::Bottom,
            },
        })
    }
}
