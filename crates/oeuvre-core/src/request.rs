//! What was asked for, before any name is looked up. Options and report files become the same request.
//!
//! Texts keep where they were written ([`SourceText`]), so that a mistake is told at its place.
//!
//! ```
//! use oeuvre_core::Show;
//!
//! let show = Show::parse("--show", "Mean fare: mean(fare)");
//! assert_eq!(show.heading.as_deref(), Some("Mean fare"));
//! assert_eq!(show.calc.text, "mean(fare)");
//! assert_eq!(Show::parse("--show", "count(where note = 'a: b')").heading, None);
//! ```

use crate::error::SourceText;
use crate::rows::lookup::NoMatch;
use crate::spelling::Spellings;
use oeuvre_columns::quoting::outside_quotes;
use oeuvre_columns::value::Comparison;
use oeuvre_columns::{Decimal, Note, Table, choices};
use std::sync::Arc;

/// A result to show.
#[derive(Clone, Debug)]
pub struct Show {
    /// The heading, where one was given.
    pub heading: Option<String>,
    /// One calculation, or several separated by commas.
    pub calc: Arc<SourceText>,
}

impl Show {
    /// Reads `Heading: calc` or `calc`; `origin` says where it was written. The language has no colon outside
    /// quotes, so that the first one ends the heading; an empty heading is none, and one in double quotes is what
    /// stands between them, so that it may have a colon.
    pub fn parse(origin: &str, text: &str) -> Show {
        let Some((at, ..)) = outside_quotes(text).find(|o| o.1 == ':') else {
            return Show { heading: None, calc: SourceText::new(origin, text) };
        };
        let heading = text[..at].trim();
        let between = heading.strip_prefix('"').and_then(|rest| rest.strip_suffix('"'));
        // Two quoted words are no quoted heading.
        let between = between.filter(|inside| !inside.replace("\"\"", "").contains('"'));
        let heading = between.map_or_else(|| heading.to_owned(), |t| t.replace("\"\"", "\""));
        Show {
            heading: (!heading.is_empty()).then_some(heading),
            calc: SourceText::new(origin, text[at + 1..].trim_start()),
        }
    }

    /// As [`Show::parse`], of a list in which each has a heading: `A: a, B: b`; any other text is one.
    pub fn parse_all(origin: &str, text: &str) -> Vec<Show> {
        let (mut parts, mut from) = (Vec::new(), 0);
        for (at, ..) in outside_quotes(text).filter(|o| o.1 == ',' && o.2 == 0) {
            parts.push(Show::parse(origin, &text[from..at]));
            from = at + 1;
        }
        parts.push(Show::parse(origin, &text[from..]));
        if parts.iter().all(|p| p.heading.is_some()) {
            parts
        } else {
            vec![Show::parse(origin, text)]
        }
    }
}

/// A label as it was written: in quotes it is always a label; bare it may be that of a line that is none.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AtLabel {
    /// The text.
    pub text: String,
    /// Whether it stood in quotes.
    pub quoted: bool,
}

/// A known figure that a result must agree with.
#[derive(Clone, Debug)]
pub struct Check {
    /// It as written.
    pub written: String,
    /// What is worked out.
    pub calc: Arc<SourceText>,
    /// How the two are compared: `=`, `>=` or `<=`.
    pub how: Comparison,
    /// What is known.
    pub value: Arc<SourceText>,
    /// How far they may be apart, and whether that is in percent of what is known.
    pub tolerance: Option<(Decimal, bool)>,
}

/// A lookup as it was asked for.
#[derive(Clone, Debug)]
pub struct LookupRequest {
    /// The table.
    pub table: Arc<Table>,
    /// The equalities that join it to the rows.
    pub on: Arc<SourceText>,
    /// What happens to rows without a match.
    pub no_match: NoMatch,
    /// What happens to keys that stand twice in it.
    pub doubled: Doubled,
    /// What readers should be told of how it was read.
    pub notes: Vec<Note>,
}

choices! {
    /// What happens to keys that stand twice in a lookup.
    #[derive(Default)]
    pub enum Doubled {
        #[default]
        Stop = "stop": "Stop and name their lines",
        First = "first": "Take the first line of each, and count the others",
    }
}

choices! {
    /// Which total lines and columns to add.
    #[derive(Default)]
    pub enum Totals {
        #[default]
        None = "none": "No totals",
        Grand = "grand": "One over everything",
        Sub = "sub": "One for each group of lines",
        All = "all": "Both",
    }
}

impl Totals {
    /// Whether there is a total over everything.
    pub const fn grand(self) -> bool {
        matches!(self, Totals::Grand | Totals::All)
    }
    /// Whether there are subtotals.
    pub const fn sub(self) -> bool {
        matches!(self, Totals::Sub | Totals::All)
    }
}

/// Where total lines stand.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum TotalsAt {
    /// Above what they total.
    Top,
    /// Below what they total.
    #[default]
    Bottom,
}

/// A table to be made.
#[derive(Clone, Debug, Default)]
pub struct Request {
    /// Whether the figures are to be read, and so rounded, rather than handed on.
    pub for_reading: bool,
    /// Whether the rows are listed instead of grouped.
    pub listing: bool,
    /// The results; without any the rows are counted, and in a detail all columns are shown.
    pub show: Vec<Show>,
    /// Categories down the side, outermost first.
    pub by: Vec<Arc<SourceText>>,
    /// Categories along the top, outermost first.
    pub columns_by: Vec<Arc<SourceText>>,
    /// How many labels along the top keep a column of their own; the others share one.
    pub columns_top: Option<u64>,
    /// Named calculations.
    pub lets: Vec<(String, Arc<SourceText>)>,
    /// Tables whose columns are added to each row.
    pub lookups: Vec<LookupRequest>,
    /// Columns whose labels are taken for one where they are plainly the same, each with the lookup it is of.
    pub one_spelling: Vec<(Option<String>, String)>,
    /// The spellings that were found of them.
    pub spellings: Option<Spellings>,
    /// Conditions on rows; all must hold.
    pub filters: Vec<Arc<SourceText>>,
    /// Periods without rows are lines, too.
    pub every_period: bool,
    /// Keys whose categories in a lookup are lines even without rows.
    pub every: Vec<Arc<SourceText>>,
    /// The order of lines.
    pub sort: Option<Arc<SourceText>>,
    /// The column along the top by whose figures lines are sorted: its keys with their labels, the outermost
    /// first; none for the total column.
    pub sort_column: Vec<(Arc<SourceText>, AtLabel)>,
    /// Conditions on lines; those that do not meet all of them are not shown.
    pub lines_where: Vec<Arc<SourceText>>,
    /// How many lines to show from the first.
    pub top: Option<u64>,
    /// How many lines to show from the last.
    pub bottom: Option<u64>,
    /// What the line is called that makes up for those not shown; `Rest` unless said.
    pub rest_label: Option<String>,
    /// Known figures that results over all rows counted must agree with.
    pub checks: Vec<Check>,
    /// Total lines.
    pub totals: Totals,
    /// Where they stand.
    pub totals_at: TotalsAt,
}

impl Request {
    /// The same request with each text in it replaced by another: by one that knows its place in a file, or what is
    /// given.
    pub fn map_texts(
        mut self,
        replaced: &mut dyn FnMut(&Arc<SourceText>) -> Arc<SourceText>,
    ) -> Request {
        let lets = self.lets.iter_mut().map(|(_, text)| text);
        let shows = self.show.iter_mut().map(|show| &mut show.calc);
        let matches = self.lookups.iter_mut().map(|lookup| &mut lookup.on);
        let columns = self.sort_column.iter_mut().map(|(key, _)| key);
        let checks = self.checks.iter_mut().flat_map(|c| [&mut c.calc, &mut c.value]);
        let lists = [
            &mut self.by,
            &mut self.columns_by,
            &mut self.filters,
            &mut self.every,
            &mut self.lines_where,
        ];
        let lists = lists.into_iter().flatten().chain(&mut self.sort);
        let all = lets.chain(shows).chain(matches).chain(columns).chain(checks).chain(lists);
        for text in all {
            *text = replaced(text);
        }
        self
    }

    /// A summary of some results by some categories, outermost first; what else there is to say is set in the
    /// fields of what this gives.
    ///
    /// ```
    /// use oeuvre_core::{Request, Totals};
    ///
    /// let request = Request { totals: Totals::Grand, ..Request::of(&["route"], &["Mean: mean(fare)"]) };
    /// assert_eq!(request.show[0].heading.as_deref(), Some("Mean"));
    /// ```
    pub fn of(by: &[&str], show: &[&str]) -> Request {
        Request {
            by: by.iter().map(|text| SourceText::new("--by", *text)).collect(),
            show: show.iter().map(|text| Show::parse("--show", text)).collect(),
            ..Request::default()
        }
    }
}
