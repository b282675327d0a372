//! Patterns that say how figures and dates read: those of Unicode CLDR (UTS #35, parts 3 and 4).
//!
//! A pattern is read once and checked against the kind of its column, so that a mistake in it is told before any
//! row is read.

mod date;
mod number;
mod signs;

pub use signs::Signs;

pub(crate) use date::DatePattern;
pub(crate) use number::NumberPattern;

use crate::cells::Quotient;
use oeuvre_columns::{Kind, Value};

/// How the values of a column read.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Pattern {
    /// Of numbers.
    Number(NumberPattern),
    /// Of dates, times and periods.
    Date(DatePattern),
}

impl Pattern {
    /// Reads a pattern for values of a kind.
    ///
    /// # Errors
    /// What is wrong with it, in words.
    pub(crate) fn parse(text: &str, kind: Kind) -> Result<Pattern, String> {
        match kind {
            Kind::Number { .. } | Kind::Float => NumberPattern::parse(text).map(Pattern::Number),
            // What has no value this time may have had others, or will.
            Kind::Nothing => NumberPattern::parse(text)
                .map(Pattern::Number)
                .or_else(|_| DatePattern::parse(text).map(Pattern::Date)),
            Kind::Date | Kind::DateTime | Kind::Period(_) => {
                DatePattern::parse(text).map(Pattern::Date)
            }
            other => {
                Err(format!("{} has no pattern; numbers, dates and periods have", other.describe()))
            }
        }
    }

    /// The unit that it writes around figures: a sign of currency, `%`; empty for none.
    pub(crate) fn unit(&self) -> String {
        match self {
            Pattern::Number(pattern) => pattern.unit(),
            Pattern::Date(_) => String::new(),
        }
    }

    /// Adds a value, whose quotient may be known, as the pattern says; false where it does not apply.
    pub(crate) fn push(&self, out: &mut String, value: &Value, of: Quotient) -> bool {
        match self {
            Pattern::Number(pattern) => pattern.push(out, value, of),
            Pattern::Date(pattern) => pattern.push(out, value),
        }
    }
}
