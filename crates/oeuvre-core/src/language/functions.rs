//! The table of functions: one row each, which feeds the parser, the checks, the help and the docs.
//!
//! If you add a function: a row here, and either a loop behind it (`rows/kernels.rs`, built in
//! `language/resolve.rs`) or an aggregate in `aggregate/`. Nothing else knows functions by name.

use super::ast::ClauseWord;
use crate::aggregate::Aggregate;
use crate::aggregate::count::Count;
use crate::aggregate::ends::End;
use crate::aggregate::extremes::{Max, Min, Range};
use crate::aggregate::moments::Spread;
use crate::aggregate::sums::{Mean, Sum};
use crate::aggregate::values::{Distinct, Median, SumDistinct};
use crate::value::calendar::{Part, Unit};

/// A function of the language.
pub struct Function {
    /// Its name.
    pub name: &'static str,
    /// Other names that are understood.
    pub aliases: &'static [&'static str],
    /// How it is written.
    pub usage: &'static str,
    /// What it gives, in a sentence.
    pub meaning: &'static str,
    /// What it gives for missing values.
    pub missing: &'static str,
    /// A calculation over the demo data that uses it.
    pub example: &'static str,
    /// The fewest and the most arguments.
    pub arguments: (usize, usize),
    /// The clauses it takes.
    pub clauses: &'static [ClauseWord],
    /// What is behind it.
    pub call: Call,
}

/// What is behind a function.
pub enum Call {
    /// One value for each row, or for each group of values of groups.
    Row(RowCall),
    /// One value for each group of rows.
    Aggregate(&'static dyn Aggregate),
}

/// The functions over single values.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RowCall {
    /// `if(c, a, b)`
    If,
    /// `coalesce(a, b)`
    Coalesce,
    /// `greatest`, `least`
    Extreme {
        /// The largest.
        largest: bool,
    },
    /// `abs(x)`
    Absolute,
    /// `round(x, n)`
    Round,
    /// `month(d)`
    Period(Unit),
    /// `weekday(d)`
    Part(Part),
}

const WHERE: &[ClauseWord] = &[ClauseWord::Where];
const WHERE_ALONG: &[ClauseWord] = &[ClauseWord::Where, ClauseWord::Along];
const SKIPPED: &str = "missing values are left out; missing when none is left";
const MISSING: &str = "missing where the date is";

macro_rules! aggregate {
    ($name:literal, $aliases:expr, $usage:literal, $meaning:literal, $missing:expr, $example:literal, $args:expr, $clauses:expr, $of:expr) => {
        Function {
            name: $name,
            aliases: $aliases,
            usage: $usage,
            meaning: $meaning,
            missing: $missing,
            example: $example,
            arguments: $args,
            clauses: $clauses,
            call: Call::Aggregate(&$of),
        }
    };
}

macro_rules! row {
    ($name:literal, $usage:literal, $meaning:literal, $missing:expr, $example:literal, $args:expr, $call:expr) => {
        Function {
            name: $name,
            aliases: &[],
            usage: $usage,
            meaning: $meaning,
            missing: $missing,
            example: $example,
            arguments: $args,
            clauses: &[],
            call: Call::Row($call),
        }
    };
}

/// All functions, in the order in which the help lists them.
pub static FUNCTIONS: &[Function] = &[
    aggregate!(
        "count",
        &[],
        "count() or count(x)",
        "rows; with x, the rows in which x is present",
        "count() counts every row; count(x) leaves out missing values; 0 when none is left",
        "count(where fare > 100)",
        (0, 1),
        WHERE,
        Count
    ),
    aggregate!(
        "sum",
        &[],
        "sum(x)",
        "the exact sum",
        SKIPPED,
        "sum(fare * passengers)",
        (1, 1),
        WHERE,
        Sum
    ),
    aggregate!(
        "mean",
        &["average", "avg"],
        "mean(x)",
        "the sum over the count of values, rounded once",
        SKIPPED,
        "mean(fare)",
        (1, 1),
        WHERE,
        Mean
    ),
    aggregate!(
        "median",
        &[],
        "median(x)",
        "the middle value, or the mean of the two in the middle",
        SKIPPED,
        "median(delay_min)",
        (1, 1),
        WHERE,
        Median
    ),
    aggregate!(
        "min",
        &[],
        "min(x)",
        "the smallest value: number, date or text",
        SKIPPED,
        "min(fare where fare > 0)",
        (1, 1),
        WHERE,
        Min
    ),
    aggregate!(
        "max",
        &[],
        "max(x)",
        "the largest value: number, date or text",
        SKIPPED,
        "max(sailed_on)",
        (1, 1),
        WHERE,
        Max
    ),
    aggregate!(
        "range",
        &[],
        "range(x)",
        "the largest less the smallest; for dates the days between",
        SKIPPED,
        "range(fare)",
        (1, 1),
        WHERE,
        Range
    ),
    aggregate!(
        "distinct",
        &[],
        "distinct(x)",
        "how many different values there are",
        "missing values are left out; 0 when none is left",
        "distinct(customer_id)",
        (1, 1),
        WHERE,
        Distinct
    ),
    aggregate!(
        "sum_distinct",
        &[],
        "sum_distinct(x)",
        "the sum over the different values, each taken once",
        SKIPPED,
        "sum_distinct(fare)",
        (1, 1),
        WHERE,
        SumDistinct
    ),
    aggregate!(
        "stdev",
        &[],
        "stdev(x)",
        "the standard deviation of a sample (divided by n - 1)",
        "missing values are left out; missing when fewer than two are left",
        "stdev(fare)",
        (1, 1),
        WHERE,
        Spread { sample: true, root: true }
    ),
    aggregate!(
        "stdev_pop",
        &[],
        "stdev_pop(x)",
        "the standard deviation of the whole population (divided by n)",
        SKIPPED,
        "stdev_pop(fare)",
        (1, 1),
        WHERE,
        Spread { sample: false, root: true }
    ),
    aggregate!(
        "variance",
        &[],
        "variance(x)",
        "the variance of a sample (divided by n - 1)",
        "missing values are left out; missing when fewer than two are left",
        "variance(fare)",
        (1, 1),
        WHERE,
        Spread { sample: true, root: false }
    ),
    aggregate!(
        "variance_pop",
        &[],
        "variance_pop(x)",
        "the variance of the whole population (divided by n)",
        SKIPPED,
        "variance_pop(fare)",
        (1, 1),
        WHERE,
        Spread { sample: false, root: false }
    ),
    aggregate!(
        "first",
        &[],
        "first(x) or first(x along d)",
        "the value on the first row, in the order of the file or of d",
        SKIPPED,
        "first(fare along sailed_on)",
        (1, 1),
        WHERE_ALONG,
        End { last: false }
    ),
    aggregate!(
        "last",
        &[],
        "last(x) or last(x along d)",
        "the value on the last row, in the order of the file or of d",
        SKIPPED,
        "last(fare along sailed_on)",
        (1, 1),
        WHERE_ALONG,
        End { last: true }
    ),
    row!(
        "if",
        "if(c, a, b) or if(c1, a1, c2, a2, …, otherwise)",
        "the value behind the first condition that holds, else the last one",
        "a condition that is missing does not hold",
        "sum(if(fare < 0, 0, fare))",
        (3, 199),
        RowCall::If
    ),
    row!(
        "coalesce",
        "coalesce(a, b, …)",
        "the first value that is present",
        "missing when all are",
        "mean(coalesce(delay_min, 0))",
        (1, 200),
        RowCall::Coalesce
    ),
    row!(
        "greatest",
        "greatest(a, b, …)",
        "the largest of the values on one row, or of several results",
        "missing values are left out; missing when all are",
        "sum(greatest(fare, extras))",
        (1, 200),
        RowCall::Extreme { largest: true }
    ),
    row!(
        "least",
        "least(a, b, …)",
        "the smallest of the values on one row, or of several results",
        "missing values are left out; missing when all are",
        "sum(least(fare, extras))",
        (1, 200),
        RowCall::Extreme { largest: false }
    ),
    row!(
        "abs",
        "abs(x)",
        "the number without its sign",
        "missing where x is",
        "sum(abs(fare))",
        (1, 1),
        RowCall::Absolute
    ),
    row!(
        "round",
        "round(x) or round(x, n)",
        "rounded to n digits after the point, halves away from zero; n is 0 when left out",
        "missing where x is",
        "round(mean(fare), 2)",
        (1, 2),
        RowCall::Round
    ),
    row!(
        "day",
        "day(d)",
        "the day of a date, as a period",
        MISSING,
        "count()",
        (1, 1),
        RowCall::Period(Unit::Day)
    ),
    row!(
        "week",
        "week(d)",
        "the ISO week, Monday to Sunday",
        MISSING,
        "count()",
        (1, 1),
        RowCall::Period(Unit::Week)
    ),
    row!(
        "month",
        "month(d)",
        "the month of a year",
        MISSING,
        "count()",
        (1, 1),
        RowCall::Period(Unit::Month)
    ),
    row!(
        "quarter",
        "quarter(d)",
        "the quarter of a year",
        MISSING,
        "count()",
        (1, 1),
        RowCall::Period(Unit::Quarter)
    ),
    row!(
        "half",
        "half(d)",
        "the half of a year",
        MISSING,
        "count()",
        (1, 1),
        RowCall::Period(Unit::Half)
    ),
    row!("year", "year(d)", "the year", MISSING, "count()", (1, 1), RowCall::Period(Unit::Year)),
    row!(
        "weekday",
        "weekday(d)",
        "Monday to Sunday, whatever the week",
        MISSING,
        "count()",
        (1, 1),
        RowCall::Part(Part::Weekday)
    ),
    row!(
        "month_of_year",
        "month_of_year(d)",
        "January to December, whatever the year",
        MISSING,
        "count()",
        (1, 1),
        RowCall::Part(Part::MonthOfYear)
    ),
    row!(
        "quarter_of_year",
        "quarter_of_year(d)",
        "Q1 to Q4, whatever the year",
        MISSING,
        "count()",
        (1, 1),
        RowCall::Part(Part::QuarterOfYear)
    ),
];

/// The function of a name, whatever its case.
pub fn find(name: &str) -> Option<&'static Function> {
    let is = |n: &str| n.eq_ignore_ascii_case(name);
    FUNCTIONS.iter().find(|f| is(f.name) || f.aliases.iter().any(|a| is(a)))
}

/// All names that are understood, for suggestions.
pub fn names() -> impl Iterator<Item = &'static str> {
    FUNCTIONS.iter().flat_map(|f| std::iter::once(f.name).chain(f.aliases.iter().copied()))
}
