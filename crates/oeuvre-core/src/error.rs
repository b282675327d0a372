//! What can go wrong, in words for the person who asked.
//!
//! A [`Diagnostic`] is a mistake in a calculation, with its place in the text; an [`Error`] is that, a problem
//! with the data, or a request that cannot be met. Messages say what was found and what was expected, in lower
//! case and without a full stop; help says a way out that can be typed. Nothing decides by the text of a message:
//! what somebody must know is in [`Cause`] or in the variant.
//!
//! ```
//! # use oeuvre_columns::{InMemory, Kind, Source};
//! # let rows = InMemory::from_texts(&[("fare", Kind::Number { scale: 2 })], &[&["12.50"]])?;
//! use oeuvre_core::{Error, Plan, Request};
//!
//! let Err(Error::Diagnostics(mistakes)) = Plan::new(&Request::of(&[], &["sum(fair)"]), rows.columns())
//! else {
//!     panic!("there is no such column")
//! };
//! assert_eq!(mistakes[0].message, "there is no column `fair`");
//! assert_eq!(mistakes[0].span, 4..8);
//! # Ok::<(), Error>(())
//! ```

use crate::rows::evaluator::StepOverflow;
pub(crate) use oeuvre_columns::names::{all_of, either, nearest};
use oeuvre_columns::value::Overflow;
use oeuvre_columns::{DataProblem, Decimal, ReadError, Retry};
use std::collections::BTreeMap;
use std::fmt;
use std::ops::Range;
use std::sync::Arc;

/// A calculation as somebody wrote it, and where: `--show`, `--let revenue`, a key of a report.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct SourceText {
    /// Where it was written, in the words of the command line or the report file.
    pub origin: String,
    /// The text.
    pub text: String,
    /// Its place in a file, where it stands in one.
    pub within: Option<Within>,
    /// What the names with a `$` in it stand for.
    pub given: Option<Arc<Givens>>,
}

/// A place of a text in a file.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Within {
    /// The file, with its text.
    pub file: Arc<FileText>,
    /// Where each byte of the text stands in the file, in bytes, and behind them where the text ends.
    pub places: Arc<[usize]>,
}

impl Within {
    /// The place in the file of a range of the text.
    pub fn range(&self, span: &Range<usize>) -> Range<usize> {
        let end = self.places.len().saturating_sub(1);
        let at = |i: usize| self.places.get(i.min(end)).copied().unwrap_or(0);
        at(span.start)..at(span.end)
    }
}

/// A file that calculations stand in.
#[derive(Debug, PartialEq, Eq, Hash)]
pub struct FileText {
    /// Its name.
    pub name: String,
    /// What it holds.
    pub text: String,
}

/// Values that are given when a report is run, by the names that stand for them behind a `$`.
pub type Givens = BTreeMap<String, Given>;

/// A value that is given when a report is run: it stands in a calculation as a value, and is never read as a part
/// of one.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Given {
    /// A number.
    Number(Decimal),
    /// A text, which may stand for a date or a period.
    Text(String),
}

impl fmt::Display for Given {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Given::Number(number) => number.fmt(f),
            Given::Text(text) => f.write_str(text),
        }
    }
}

impl SourceText {
    /// A text and where it was written.
    pub fn new(origin: impl Into<String>, text: impl Into<String>) -> Arc<SourceText> {
        let (within, given) = (None, None);
        Arc::new(SourceText { origin: origin.into(), text: text.into(), within, given })
    }

    /// The text of a calculation that is made of this one: what is given stays the same.
    pub(crate) fn derived(&self, text: impl Into<String>) -> Arc<SourceText> {
        let (origin, given) = (self.origin.clone(), self.given.clone());
        Arc::new(SourceText { origin, text: text.into(), within: None, given })
    }
}

/// A mistake in a calculation, with the place in its text.
#[derive(Clone, Debug)]
pub struct Diagnostic {
    /// The text it stands in.
    pub written: Arc<SourceText>,
    /// Byte range in that text.
    pub span: Range<usize>,
    /// What was found, in one line.
    pub message: String,
    /// What to say under the marked place.
    pub label: String,
    /// Ways out, each a line.
    pub help: Vec<String>,
    /// What lies behind it.
    pub cause: Cause,
}

/// What lies behind a mistake, where that matters to somebody.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Cause {
    /// Nothing but the request itself.
    #[default]
    Request,
    /// A name that no column has.
    NoSuchColumn,
    /// What kind a column is, which may have been guessed.
    Kinds,
}

impl Diagnostic {
    /// A mistake at a place in a text.
    pub fn new(
        written: &Arc<SourceText>,
        span: Range<usize>,
        message: impl Into<String>,
    ) -> Diagnostic {
        Diagnostic {
            written: written.clone(),
            span,
            message: message.into(),
            label: String::new(),
            help: Vec::new(),
            cause: Cause::Request,
        }
    }

    /// One that lies in what kind a column is.
    pub fn of_kinds(self) -> Diagnostic {
        self.because(Cause::Kinds)
    }

    /// With what lies behind it.
    pub fn because(mut self, cause: Cause) -> Diagnostic {
        self.cause = cause;
        self
    }

    /// With words under the marked place.
    pub fn label(mut self, label: impl Into<String>) -> Diagnostic {
        self.label = label.into();
        self
    }

    /// With a way out.
    pub fn help(mut self, help: impl Into<String>) -> Diagnostic {
        self.help.push(help.into());
        self
    }
}

/// Why a request gives no table.
#[derive(Clone, Debug)]
pub enum Error {
    /// One or more calculations are wrong.
    Diagnostics(Vec<Diagnostic>),
    /// The data is wrong, or is not what the request says.
    Data(Box<DataProblem>),
    /// The request asks for something that cannot be.
    Request {
        /// What is wrong with it.
        message: String,
        /// Ways out, each a line.
        help: Vec<String>,
        /// Whether it lies in what kind a column is, which may have been guessed.
        of_kinds: bool,
    },
    /// The source asks for another pass.
    Again,
}

impl Error {
    /// A request that cannot be met.
    pub fn request(message: impl Into<String>) -> Error {
        Error::Request { message: message.into(), help: Vec::new(), of_kinds: false }
    }

    /// A request that cannot be met, with a way out.
    pub fn request_with_help(message: impl Into<String>, help: impl Into<String>) -> Error {
        Error::Request { message: message.into(), help: vec![help.into()], of_kinds: false }
    }
}

impl From<StepOverflow> for Error {
    /// A result that outgrew its kind.
    fn from(it: StepOverflow) -> Error {
        let what = format!("`{}`", it.text);
        let (message, help) = match it.overflow {
            Overflow::Digits => (
                format!("{what} is too large: exact numbers hold up to 38 digits"),
                "binary64 holds larger numbers, with 15 digits: divide a factor by 1 to calculate in it",
            ),
            Overflow::Binary => (
                format!("{what} is too large: binary64 numbers reach to about 1.8e308"),
                "leave out the largest values with --where, or divide them first",
            ),
            Overflow::Calendar => (
                format!(
                    "{what} lies outside the calendar, which runs from 0001-01-01 to 9999-12-31"
                ),
                "look at the smallest and the largest value of its columns with oeuvre profile",
            ),
            Overflow::Listed => (
                format!("{what} lists more than 1,000 values in one cell"),
                "list(distinct x) gives each value once; oeuvre detail keeps every row",
            ),
        };
        Error::request_with_help(message, help)
    }
}

impl Retry for Error {
    fn is_again(&self) -> bool {
        matches!(self, Error::Again)
    }

    fn is_of_kinds(&self) -> bool {
        match self {
            Error::Diagnostics(all) => all.iter().any(|m| m.cause == Cause::Kinds),
            Error::Request { of_kinds, .. } => *of_kinds,
            _ => false,
        }
    }

    fn is_of_columns(&self) -> bool {
        match self {
            Error::Diagnostics(all) => all.iter().any(|m| m.cause == Cause::NoSuchColumn),
            // Options that name columns.
            Error::Data(problem) => problem.file.is_none(),
            _ => false,
        }
    }
}

impl From<ReadError> for Error {
    fn from(error: ReadError) -> Error {
        match error {
            ReadError::Problem(problem) => Error::Data(problem),
            ReadError::Again => Error::Again,
        }
    }
}

impl From<DataProblem> for Error {
    fn from(problem: DataProblem) -> Error {
        Error::Data(Box::new(problem))
    }
}

impl From<Diagnostic> for Error {
    fn from(mistake: Diagnostic) -> Error {
        Error::Diagnostics(vec![mistake])
    }
}

impl fmt::Display for Error {
    /// One line; the program draws the long form.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Error::Diagnostics(all) => {
                let messages: Vec<&str> = all.iter().map(|m| m.message.as_str()).collect();
                f.write_str(&messages.join("; "))
            }
            Error::Data(problem) => problem.fmt(f),
            Error::Request { message, .. } => f.write_str(message),
            Error::Again => f.write_str("the rows must be read again"),
        }
    }
}

impl std::error::Error for Error {}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(Overflow::Digits, "38 digits")]
    #[case(Overflow::Binary, "1.8e308")]
    #[case(Overflow::Calendar, "9999-12-31")]
    #[case(Overflow::Listed, "1,000 values")]
    fn what_is_too_large_names_the_limit_and_a_way_out(#[case] it: Overflow, #[case] limit: &str) {
        let step = StepOverflow { text: "a * a".into(), overflow: it };
        let Error::Request { message, help, of_kinds } = Error::from(step) else { panic!() };
        assert!(message.starts_with("`a * a` ") && message.contains(limit), "{message}");
        assert!(help.len() == 1 && !of_kinds, "{help:?}");
    }

    #[test]
    fn a_pass_is_made_again_only_where_the_source_asks_and_kinds_are_told_from_the_cause() {
        let mistake = Diagnostic::new(&SourceText::new("--show", "x"), 0..1, "m");
        assert!(Error::from(ReadError::Again).is_again());
        assert!(
            !Error::from(mistake.clone()).is_again() && !Error::from(mistake.clone()).is_of_kinds()
        );
        let all = Error::Diagnostics(vec![mistake.clone(), mistake.of_kinds()]);
        assert!(all.is_of_kinds());
        assert_eq!(all.to_string(), "m; m");
        let data = Error::from(DataProblem::in_file("b.csv", "odd").at_line(3));
        assert_eq!(data.to_string(), "b.csv, line 3: odd");
    }
}
