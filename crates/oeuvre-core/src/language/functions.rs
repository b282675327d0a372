//! The table of functions: one row each, which feeds the parser, the checks, the help and the docs.
//!
//! If you add a function: a row here, and either a loop behind it (`rows/kernels.rs`, built in
//! `language/resolve/`) or an aggregate in `aggregate/`. Nothing else knows functions by name.
//!
//! It is long because it is uniform: one table that is read from top to bottom, which parts would hide.

use super::ast::{Call as CallNode, ClauseWord};
use crate::aggregate::Aggregate;
use crate::aggregate::at::At;
use crate::aggregate::count::Count;
use crate::aggregate::distinct::Distinct as CountDistinct;
use crate::aggregate::ends::End;
use crate::aggregate::extremes::{Max, Min, Range};
use crate::aggregate::frequent::{List, Mode, Product};
use crate::aggregate::list::ListAll;
use crate::aggregate::moments::Spread;
use crate::aggregate::once::Once;
use crate::aggregate::portion::Portion;
use crate::aggregate::quantiles::{Method, Nth, Percentile};
use crate::aggregate::sums::{Mean, Sum};
use crate::aggregate::two::Two;
use crate::rows::scalar::Scalar;
use crate::value::calendar::{Part, Unit};
use crate::value::decimal::Decimal;
use std::sync::Arc;

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
    Aggregate(AggregateCall),
    /// Worked out on the finished table, or over the rows of a detail.
    Table(Word),
}

/// How an aggregate is made.
pub struct AggregateCall {
    /// Makes the aggregate from what was given beside the values.
    make: fn(&Given) -> Result<Arc<dyn Aggregate>, &'static str>,
    /// How many of the arguments, from the last, are such numbers.
    pub parameters: usize,
    /// What `distinct` before the argument makes of it.
    pub distinct: Distinct,
}

/// What `distinct` before its argument makes of an aggregate.
#[derive(Clone, Copy)]
pub enum Distinct {
    /// Nothing that has a meaning.
    Refused,
    /// The same: the largest of the different values is the largest.
    Same,
    /// An aggregate of its own.
    Own(fn() -> Arc<dyn Aggregate>),
    /// The same aggregate over the values, each taken once.
    Once,
}

impl AggregateCall {
    /// The aggregate of a call with its parameters.
    ///
    /// # Errors
    /// What was expected as parameters.
    pub fn instance(&self, call: &CallNode) -> Result<Arc<dyn Aggregate>, &'static str> {
        let plain = (self.make)(&Given::of(call, self.parameters))?;
        Ok(match self.distinct {
            _ if call.distinct.is_none() => plain,
            Distinct::Refused | Distinct::Same => plain,
            Distinct::Own(make) => make(),
            Distinct::Once => Arc::new(Once(plain)),
        })
    }
}

/// The words that look at other cells of the table.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Word {
    /// `rank(x)`
    Rank,
    /// `tile(x, 4)`
    Tile,
    /// `lag(x)`
    Lag,
    /// `lead(x)`
    Lead,
    /// `change(x)`
    Change,
    /// `growth(x)`
    Growth,
    /// `running(x)`
    Running,
    /// `moving(x, 3)`
    Moving,
    /// `share(x)`
    Share,
    /// `total(x)`
    Total,
}

impl Word {
    /// Whether it walks from cell to cell along a key, rather than comparing or adding them up.
    pub const fn walks(self) -> bool {
        matches!(
            self,
            Word::Lag | Word::Lead | Word::Change | Word::Growth | Word::Running | Word::Moving
        )
    }
}

/// What an aggregate is given beside values.
#[derive(Clone, Debug, Default)]
pub struct Given {
    /// Numbers, such as the 90 of `percentile(x, 90)`.
    pub numbers: Vec<Decimal>,
    /// The word after `method`.
    pub method: Option<String>,
}

impl Given {
    /// What a call gives beside its values.
    fn of(call: &CallNode, parameters: usize) -> Given {
        let method = call.clauses.iter().find(|c| c.word == ClauseWord::Method);
        let zero = Decimal::new(0, 0);
        let parameters = call.split_parameters(parameters).1;
        Given {
            numbers: parameters.iter().map(|p| p.constant_number().unwrap_or(zero)).collect(),
            method: method.map(|c| c.choice().to_owned()),
        }
    }

    /// A whole number from 1 on.
    fn place(&self) -> Result<u64, &'static str> {
        let number = self.numbers.first().and_then(|n| n.rescale(0)).map(|n| n.mantissa);
        number
            .and_then(|n| u64::try_from(n).ok())
            .filter(|n| *n >= 1)
            .ok_or("a whole number from 1 on")
    }

    fn method(&self) -> Result<Method, &'static str> {
        let Some(word) = &self.method else { return Ok(Method::Inclusive) };
        let known = Method::ALL.iter().find(|(name, _)| name.eq_ignore_ascii_case(word));
        known.map(|(_, m)| *m).ok_or("`inclusive`, `exclusive` or `nearest` after `method`")
    }
}

/// The functions over single values.
#[derive(Clone, Debug)]
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
    /// `fiscal_year(d, 4)`: the unit is made from the month.
    Fiscal {
        /// The quarter rather than the year.
        quarter: bool,
    },
    /// `band(x, 10)`
    Band,
    /// `matches(text, 'regex')`
    Matches,
    /// A function of single values.
    Scalar(Scalar),
}

const WHERE: &[ClauseWord] = &[ClauseWord::Where, ClauseWord::Per, ClauseWord::Within];
const WHERE_ALONG: &[ClauseWord] =
    &[ClauseWord::Where, ClauseWord::Along, ClauseWord::Per, ClauseWord::Within];
const WHERE_METHOD: &[ClauseWord] =
    &[ClauseWord::Where, ClauseWord::Method, ClauseWord::Per, ClauseWord::Within];
const WALK: &[ClauseWord] =
    &[ClauseWord::Along, ClauseWord::Within, ClauseWord::Asc, ClauseWord::Desc];
const SKIPPED: &str = "missing values are left out; missing when none is left";
const MISSING: &str = "missing where the date is";

macro_rules! aggregate {
    ($name:literal, $aliases:expr, $usage:literal, $meaning:literal, $missing:expr, $example:literal, $args:expr, $clauses:expr, $of:expr, $distinct:expr) => {
        Function {
            name: $name,
            aliases: $aliases,
            usage: $usage,
            meaning: $meaning,
            missing: $missing,
            example: $example,
            arguments: $args,
            clauses: $clauses,
            call: Call::Aggregate(AggregateCall {
                make: |_| Ok(Arc::new($of)),
                parameters: 0,
                distinct: $distinct,
            }),
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

macro_rules! word {
    ($word:expr, $name:literal, $usage:literal, $meaning:literal, $missing:expr, $example:literal, $args:expr, $clauses:expr) => {
        Function {
            name: $name,
            aliases: &[],
            usage: $usage,
            meaning: $meaning,
            missing: $missing,
            example: $example,
            arguments: $args,
            clauses: $clauses,
            call: Call::Table($word),
        }
    };
}

/// All functions, in the order in which the help lists them.
pub static FUNCTIONS: &[Function] = &[
    aggregate!(
        "count",
        &[],
        "count(), count(x) or count(distinct x)",
        "rows; with x, the rows in which x is present",
        "count() counts every row; count(x) leaves out missing values; 0 when none is left",
        "count(where fare > 100)",
        (0, 1),
        WHERE,
        Count,
        Distinct::Own(|| Arc::new(CountDistinct))
    ),
    aggregate!(
        "sum",
        &[],
        "sum(x) or sum(distinct x)",
        "the exact sum",
        SKIPPED,
        "sum(fare * passengers)",
        (1, 1),
        WHERE,
        Sum,
        Distinct::Once
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
        Mean,
        Distinct::Once
    ),
    Function {
        name: "median",
        aliases: &[],
        usage: "median(x)",
        meaning: "the middle value, or the mean of the two in the middle",
        missing: SKIPPED,
        example: "median(delay_min)",
        arguments: (1, 1),
        clauses: WHERE,
        call: Call::Aggregate(AggregateCall {
            make: |_| {
                Ok(Arc::new(Percentile {
                    percent: Decimal::new(50, 0),
                    method: Method::Inclusive,
                    note: "the median of all rows, not a sum of the lines",
                }))
            },
            parameters: 0,
            distinct: Distinct::Once,
        }),
    },
    aggregate!(
        "mode",
        &[],
        "mode(x)",
        "the most frequent value; of several the first in label order",
        SKIPPED,
        "mode(channel)",
        (1, 1),
        WHERE,
        Mode,
        Distinct::Once
    ),
    Function {
        name: "percentile",
        aliases: &[],
        usage: "percentile(x, 90) or percentile(x, 90 method exclusive)",
        meaning: "the value below which so many percent lie, interpolated; methods: inclusive, exclusive, nearest",
        missing: SKIPPED,
        example: "percentile(delay_min, 90)",
        arguments: (2, 2),
        clauses: WHERE_METHOD,
        call: Call::Aggregate(AggregateCall {
            make: |given| {
                let percent = given.numbers[0];
                if percent < Decimal::new(0, 0) || percent > Decimal::new(100, 0) {
                    return Err("a number from 0 to 100");
                }
                let note = "a percentile of all rows, not a sum of the lines";
                Ok(Arc::new(Percentile { percent, method: given.method()?, note }))
            },
            parameters: 1,
            distinct: Distinct::Once,
        }),
    },
    Function {
        name: "quartile",
        aliases: &[],
        usage: "quartile(x, 1) or quartile(x, 1 method exclusive)",
        meaning: "the first, second or third quartile; 0 and 4 are the smallest and the largest value",
        missing: SKIPPED,
        example: "quartile(fare, 3)",
        arguments: (2, 2),
        clauses: WHERE_METHOD,
        call: Call::Aggregate(AggregateCall {
            make: |given| {
                let number = given.numbers[0].rescale(0).filter(|n| (0..=4).contains(&n.mantissa));
                let percent =
                    Decimal::new(number.ok_or("a whole number from 0 to 4")?.mantissa * 25, 0);
                let note = "a quartile of all rows, not a sum of the lines";
                Ok(Arc::new(Percentile { percent, method: given.method()?, note }))
            },
            parameters: 1,
            distinct: Distinct::Once,
        }),
    },
    Function {
        name: "largest",
        aliases: &[],
        usage: "largest(x, 2)",
        meaning: "the n-th largest value, equal ones counted one by one",
        missing: "missing values are left out; missing when fewer than n are left",
        example: "largest(fare, 2)",
        arguments: (2, 2),
        clauses: WHERE,
        call: Call::Aggregate(AggregateCall {
            make: |given| Ok(Arc::new(Nth { n: given.place()?, largest: true })),
            parameters: 1,
            distinct: Distinct::Once,
        }),
    },
    Function {
        name: "smallest",
        aliases: &[],
        usage: "smallest(x, 2)",
        meaning: "the n-th smallest value, equal ones counted one by one",
        missing: "missing values are left out; missing when fewer than n are left",
        example: "smallest(fare, 2 where fare > 0)",
        arguments: (2, 2),
        clauses: WHERE,
        call: Call::Aggregate(AggregateCall {
            make: |given| Ok(Arc::new(Nth { n: given.place()?, largest: false })),
            parameters: 1,
            distinct: Distinct::Once,
        }),
    },
    aggregate!(
        "product",
        &[],
        "product(x)",
        "the product of the values, a binary64 number",
        SKIPPED,
        "product(1 + extras / 1000 where booking_id < 1000040)",
        (1, 1),
        WHERE,
        Product,
        Distinct::Once
    ),
    aggregate!(
        "weighted_mean",
        &[],
        "weighted_mean(x, weight)",
        "the mean of x, each value counted with its weight",
        "rows in which either is missing are left out; missing when the weights add up to 0",
        "weighted_mean(fare, passengers)",
        (2, 2),
        WHERE,
        Two::WeightedMean,
        Distinct::Refused
    ),
    aggregate!(
        "at_max",
        &[],
        "at_max(label, x)",
        "the label of the row with the largest x; those that tie are all given",
        "rows in which either is missing are left out",
        "at_max(vessel, delay_min)",
        (2, 2),
        WHERE,
        At { largest: true },
        Distinct::Refused
    ),
    aggregate!(
        "at_min",
        &[],
        "at_min(label, x)",
        "the label of the row with the smallest x; those that tie are all given",
        "rows in which either is missing are left out",
        "at_min(route, fare)",
        (2, 2),
        WHERE,
        At { largest: false },
        Distinct::Refused
    ),
    aggregate!(
        "portion",
        &[],
        "portion(condition)",
        "the share of rows for which the condition holds",
        "rows for which it is neither true nor false are left out",
        "portion(status = 'cancelled')",
        (1, 1),
        WHERE,
        Portion,
        Distinct::Refused
    ),
    aggregate!(
        "correlation",
        &[],
        "correlation(x, y)",
        "Pearson's correlation of two values, -1 to 1",
        "rows in which either is missing are left out; missing when one does not vary",
        "correlation(fare, passengers)",
        (2, 2),
        WHERE,
        Two::Correlation,
        Distinct::Refused
    ),
    aggregate!(
        "slope",
        &[],
        "slope(x, y)",
        "by how much y grows with x, on the least-squares line",
        "rows in which either is missing are left out; missing when x does not vary",
        "slope(passengers, vehicles)",
        (2, 2),
        WHERE,
        Two::Slope,
        Distinct::Refused
    ),
    aggregate!(
        "intercept",
        &[],
        "intercept(x, y)",
        "y where x is 0, on the least-squares line",
        "rows in which either is missing are left out; missing when x does not vary",
        "intercept(passengers, vehicles)",
        (2, 2),
        WHERE,
        Two::Intercept,
        Distinct::Refused
    ),
    aggregate!(
        "list",
        &[],
        "list(x) or list(distinct x)",
        "the values in the order of the rows, at most 1,000, with commas between",
        SKIPPED,
        "list(distinct ticket)",
        (1, 1),
        WHERE,
        ListAll,
        Distinct::Own(|| Arc::new(List))
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
        Min,
        Distinct::Same
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
        Max,
        Distinct::Same
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
        Range,
        Distinct::Same
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
        Spread { sample: true, root: true },
        Distinct::Once
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
        Spread { sample: false, root: true },
        Distinct::Once
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
        Spread { sample: true, root: false },
        Distinct::Once
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
        Spread { sample: false, root: false },
        Distinct::Once
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
        End { last: false },
        Distinct::Refused
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
        End { last: true },
        Distinct::Refused
    ),
    word!(
        Word::Rank,
        "rank",
        "rank(x) or rank(x asc within K ties close)",
        "the place of x among its siblings, largest first unless asc; ties: gap (1 2 2 4), close (1 2 2 3), apart (1 2 3 4) or mean (1 2.5 2.5 4)",
        "missing where x is; missing values take no place",
        "rank(sum(fare))",
        (1, 1),
        &[
            ClauseWord::Along,
            ClauseWord::Within,
            ClauseWord::Asc,
            ClauseWord::Desc,
            ClauseWord::Ties
        ]
    ),
    word!(
        Word::Tile,
        "tile",
        "tile(x, 4)",
        "the bucket of x, 1 to n, largest first unless asc; as equal in size as can be, earlier ones take the extra cells",
        "missing where x is; missing values are in no bucket",
        "tile(sum(fare), 4)",
        (2, 2),
        WALK
    ),
    word!(
        Word::Lag,
        "lag",
        "lag(x) or lag(x, 12 along K within L)",
        "x one step back, or n steps; along a period one step is one period of the calendar",
        "missing before the first; along a period without rows x of no rows",
        "lag(sum(fare))",
        (1, 2),
        WALK
    ),
    word!(
        Word::Lead,
        "lead",
        "lead(x) or lead(x, 12 along K within L)",
        "x one step ahead, or n steps",
        "missing after the last; along a period without rows x of no rows",
        "lead(sum(fare))",
        (1, 2),
        WALK
    ),
    word!(
        Word::Change,
        "change",
        "change(x) or change(x, 12 along K within L)",
        "x less its value one step back, or n steps",
        "missing where either is",
        "change(sum(fare))",
        (1, 2),
        WALK
    ),
    word!(
        Word::Growth,
        "growth",
        "growth(x) or growth(x, 12 along K within L)",
        "the change of x over its value one step back, or n steps",
        "missing where either is, and where the earlier value is 0",
        "growth(sum(fare))",
        (1, 2),
        WALK
    ),
    word!(
        Word::Running,
        "running",
        "running(x along K within L) or running(x taking max)",
        "the sum of x from the start of the walk to here; taking: mean, min, max or count instead",
        "missing values are passed over; missing until there is one",
        "running(sum(fare))",
        (1, 1),
        &[
            ClauseWord::Along,
            ClauseWord::Within,
            ClauseWord::Taking,
            ClauseWord::Asc,
            ClauseWord::Desc
        ]
    ),
    word!(
        Word::Moving,
        "moving",
        "moving(x, 3) or moving(x, 12 taking sum at least 6)",
        "the mean of x here and on the steps before, n together; taking: sum, min, max or count instead",
        "missing until n values are there, or as many as `at least` says; taking count 0 of none",
        "moving(sum(fare), 3)",
        (2, 2),
        &[
            ClauseWord::Along,
            ClauseWord::Within,
            ClauseWord::Taking,
            ClauseWord::AtLeast,
            ClauseWord::Asc,
            ClauseWord::Desc
        ]
    ),
    word!(
        Word::Share,
        "share",
        "share(x) or share(x within K)",
        "x over its total, worked out from the rows at the keys named: of everything, of a parent, of a row, of a column",
        "missing where either is, and where the total is 0",
        "share(sum(fare))",
        (1, 1),
        &[ClauseWord::Within]
    ),
    word!(
        Word::Total,
        "total",
        "total(x) or total(x within K)",
        "x worked out from all rows that share the keys named, or from all rows",
        "as x itself",
        "total(sum(fare))",
        (1, 1),
        &[ClauseWord::Within]
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
        "max(day(sailed_on))",
        (1, 1),
        RowCall::Period(Unit::Day)
    ),
    row!(
        "week",
        "week(d)",
        "the ISO week, Monday to Sunday",
        MISSING,
        "max(week(sailed_on))",
        (1, 1),
        RowCall::Period(Unit::Week)
    ),
    row!(
        "month",
        "month(d)",
        "the month of a year",
        MISSING,
        "count(distinct month(sailed_on))",
        (1, 1),
        RowCall::Period(Unit::Month)
    ),
    row!(
        "quarter",
        "quarter(d)",
        "the quarter of a year",
        MISSING,
        "min(quarter(sailed_on))",
        (1, 1),
        RowCall::Period(Unit::Quarter)
    ),
    row!(
        "half",
        "half(d)",
        "the half of a year",
        MISSING,
        "max(half(sailed_on))",
        (1, 1),
        RowCall::Period(Unit::Half)
    ),
    row!(
        "year",
        "year(d)",
        "the year",
        MISSING,
        "count(distinct year(sailed_on))",
        (1, 1),
        RowCall::Period(Unit::Year)
    ),
    row!(
        "weekday",
        "weekday(d)",
        "Monday to Sunday, whatever the week",
        MISSING,
        "mode(weekday(sailed_on))",
        (1, 1),
        RowCall::Part(Part::Weekday)
    ),
    row!(
        "month_name",
        "month_name(d)",
        "January to December, whatever the year",
        MISSING,
        "mode(month_name(sailed_on))",
        (1, 1),
        RowCall::Part(Part::MonthName)
    ),
    row!(
        "quarter_name",
        "quarter_name(d)",
        "Q1 to Q4, whatever the year",
        MISSING,
        "mode(quarter_name(sailed_on))",
        (1, 1),
        RowCall::Part(Part::QuarterName)
    ),
    row!(
        "floor",
        "floor(x)",
        "the largest whole number that is not above x",
        "missing where x is",
        "sum(floor(fare))",
        (1, 1),
        RowCall::Scalar(Scalar::Floor)
    ),
    row!(
        "ceiling",
        "ceiling(x)",
        "the smallest whole number that is not below x",
        "missing where x is",
        "sum(ceiling(fare))",
        (1, 1),
        RowCall::Scalar(Scalar::Ceiling)
    ),
    row!(
        "sign",
        "sign(x)",
        "-1, 0 or 1",
        "missing where x is",
        "sum(sign(fare))",
        (1, 1),
        RowCall::Scalar(Scalar::Sign)
    ),
    row!(
        "sqrt",
        "sqrt(x)",
        "the square root",
        "missing where x is, and for negatives",
        "sqrt(count())",
        (1, 1),
        RowCall::Scalar(Scalar::Sqrt)
    ),
    row!(
        "power",
        "power(x, y)",
        "x to the power of y",
        "missing where either is",
        "power(1.05, 3)",
        (2, 2),
        RowCall::Scalar(Scalar::Power)
    ),
    row!(
        "ln",
        "ln(x)",
        "the natural logarithm",
        "missing where x is, and unless it is above 0",
        "ln(count())",
        (1, 1),
        RowCall::Scalar(Scalar::Ln)
    ),
    row!(
        "exp",
        "exp(x)",
        "e to the power of x",
        "missing where x is",
        "exp(1)",
        (1, 1),
        RowCall::Scalar(Scalar::Exp)
    ),
    row!(
        "mod",
        "mod(a, b)",
        "what is left of a after whole multiples of b, with the sign of a",
        "missing where either is, and where b is 0",
        "count(where mod(booking_id, 10) = 0)",
        (2, 2),
        RowCall::Scalar(Scalar::Mod)
    ),
    row!(
        "band",
        "band(x, 10) or band(x, 0, 50, 100)",
        "the range that a number lies in, from its lower bound to under its upper one",
        "missing where x is",
        "max(band(fare, 50))",
        (2, 100),
        RowCall::Band
    ),
    row!(
        "lower",
        "lower(t)",
        "in lower case",
        "missing where t is",
        "count(distinct lower(channel))",
        (1, 1),
        RowCall::Scalar(Scalar::Lower)
    ),
    row!(
        "upper",
        "upper(t)",
        "in upper case",
        "missing where t is",
        "min(upper(channel))",
        (1, 1),
        RowCall::Scalar(Scalar::Upper)
    ),
    row!(
        "trim",
        "trim(t)",
        "without spaces at both ends",
        "missing where t is",
        "count(distinct trim(vessel))",
        (1, 1),
        RowCall::Scalar(Scalar::Trim)
    ),
    row!(
        "length",
        "length(t)",
        "how many characters",
        "missing where t is",
        "max(length(note))",
        (1, 1),
        RowCall::Scalar(Scalar::Length)
    ),
    row!(
        "left",
        "left(t, n)",
        "the first n characters",
        "missing where either is",
        "count(distinct left(vessel, 1))",
        (2, 2),
        RowCall::Scalar(Scalar::Left)
    ),
    row!(
        "right",
        "right(t, n)",
        "the last n characters",
        "missing where either is",
        "max(right(vessel, 3))",
        (2, 2),
        RowCall::Scalar(Scalar::Right)
    ),
    row!(
        "replace",
        "replace(t, old, new)",
        "with every `old` replaced by `new`",
        "missing where one of them is",
        "max(replace(vessel, 'Sea', 'River'))",
        (3, 3),
        RowCall::Scalar(Scalar::Replace)
    ),
    row!(
        "concat",
        "concat(a, b, …)",
        "texts one behind the other",
        "missing ones are left out",
        "max(concat(route, ' ', vessel))",
        (1, 50),
        RowCall::Scalar(Scalar::Concat)
    ),
    row!(
        "contains",
        "contains(t, part)",
        "whether the text holds the part, as written",
        "missing where either is",
        "count(where contains(note, 'dogs'))",
        (2, 2),
        RowCall::Scalar(Scalar::Contains)
    ),
    row!(
        "starts_with",
        "starts_with(t, part)",
        "whether the text begins so",
        "missing where either is",
        "count(where starts_with(vessel, 'Sea'))",
        (2, 2),
        RowCall::Scalar(Scalar::StartsWith)
    ),
    row!(
        "ends_with",
        "ends_with(t, part)",
        "whether the text ends so",
        "missing where either is",
        "count(where ends_with(vessel, 'n'))",
        (2, 2),
        RowCall::Scalar(Scalar::EndsWith)
    ),
    row!(
        "matches",
        "matches(t, 'regex')",
        "whether the regular expression is found in the text",
        "missing where the text is",
        "count(where matches(note, '^two .*small$'))",
        (2, 2),
        RowCall::Matches
    ),
    row!(
        "fiscal_year",
        "fiscal_year(d, 4)",
        "the fiscal year that starts in that month, such as 2024/25",
        MISSING,
        "max(fiscal_year(sailed_on, 4))",
        (2, 2),
        RowCall::Fiscal { quarter: false }
    ),
    row!(
        "fiscal_quarter",
        "fiscal_quarter(d, 4)",
        "the quarter of that fiscal year",
        MISSING,
        "max(fiscal_quarter(sailed_on, 4))",
        (2, 2),
        RowCall::Fiscal { quarter: true }
    ),
    row!(
        "monthday",
        "monthday(d)",
        "1 to 31",
        MISSING,
        "max(monthday(sailed_on))",
        (1, 1),
        RowCall::Scalar(Scalar::MonthDay)
    ),
    row!(
        "hour",
        "hour(t)",
        "0 to 23",
        "missing where the time is",
        "mode(hour(booked_at))",
        (1, 1),
        RowCall::Scalar(Scalar::Hour)
    ),
    row!(
        "start",
        "start(p)",
        "the first day of a period",
        "missing where the period is",
        "min(start(quarter(sailed_on)))",
        (1, 1),
        RowCall::Scalar(Scalar::Start)
    ),
    row!(
        "end",
        "end(p)",
        "the last day of a period",
        "missing where the period is",
        "max(end(quarter(sailed_on)))",
        (1, 1),
        RowCall::Scalar(Scalar::End)
    ),
    row!(
        "add_months",
        "add_months(d, n)",
        "the same day n months later, or the last of that month",
        "missing where either is",
        "max(add_months(sailed_on, 1))",
        (2, 2),
        RowCall::Scalar(Scalar::AddMonths)
    ),
    row!(
        "number",
        "number(t)",
        "the number that a text writes",
        "missing where it writes none",
        "sum(number(right(text(booking_id), 1)))",
        (1, 1),
        RowCall::Scalar(Scalar::Number)
    ),
    row!(
        "date",
        "date(t, 'dd.MM.yyyy')",
        "the date that a text writes in a pattern of yyyy, yy, MM, M, dd and d",
        "missing where it writes none",
        "date('24.12.2025', 'dd.MM.yyyy')",
        (2, 2),
        RowCall::Scalar(Scalar::Date)
    ),
    row!(
        "text",
        "text(x)",
        "any value as a text",
        "missing where x is",
        "max(text(passengers))",
        (1, 1),
        RowCall::Scalar(Scalar::Text)
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
