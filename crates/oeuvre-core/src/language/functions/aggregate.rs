//! The aggregates, a row each.

use super::{AggregateCall, Call, Distinct, Function, OverCells, SKIPPED, Share};
use crate::aggregate::count::Count;
use crate::aggregate::distinct::Distinct as CountDistinct;
use crate::aggregate::extremes::{Extreme, Range};
use crate::aggregate::first_last::FirstLast;
use crate::aggregate::frequent::{List, Mode, Product};
use crate::aggregate::label_at_extreme::LabelAtExtreme;
use crate::aggregate::list::ListAll;
use crate::aggregate::moments::Spread;
use crate::aggregate::portion::Portion;
use crate::aggregate::quantiles::{Method, Nth, Percentile};
use crate::aggregate::regression::Regression;
use crate::aggregate::sums::{Mean, Sum};
use crate::language::ast::ClauseWord;
use oeuvre_columns::value::decimal::Decimal;
use std::sync::Arc;

const WHERE: &[ClauseWord] = &[ClauseWord::Where, ClauseWord::Per, ClauseWord::Within];
const WHERE_ALONG: &[ClauseWord] =
    &[ClauseWord::Where, ClauseWord::Along, ClauseWord::Per, ClauseWord::Within];
const WHERE_METHOD: &[ClauseWord] =
    &[ClauseWord::Where, ClauseWord::Method, ClauseWord::Per, ClauseWord::Within];

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
            share: Share::Never,
            call: Call::Aggregate(AggregateCall {
                make: |_| Ok(Arc::new($of)),
                parameters: 0,
                over_cells: OverCells::Itself,
                distinct: $distinct,
            }),
        }
    };
}

/// The aggregates, in the order in which the help lists them.
pub(super) static ROWS: &[Function] = &[
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
    )
    .reads(Share::AsArgument),
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
    )
    .reads(Share::AsArgument),
    Function {
        name: "median",
        aliases: &[],
        usage: "median(x)",
        meaning: "the middle value, or the mean of the two in the middle",
        missing: SKIPPED,
        example: "median(delay_min)",
        arguments: (1, 1),
        clauses: WHERE,
        share: Share::Never,
        call: Call::Aggregate(AggregateCall {
            make: |_| {
                Ok(Arc::new(Percentile {
                    percent: Decimal::new(50, 0),
                    method: Method::Inclusive,
                    note: "the median of all rows, not a sum of the lines",
                }))
            },
            parameters: 0,
            over_cells: OverCells::Itself,
            distinct: Distinct::Once,
        }),
    }
    .reads(Share::AsArgument),
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
        share: Share::Never,
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
            over_cells: OverCells::Itself,
            distinct: Distinct::Once,
        }),
    }
    .reads(Share::AsArgument),
    Function {
        name: "quartile",
        aliases: &[],
        usage: "quartile(x, 1) or quartile(x, 1 method exclusive)",
        meaning: "the first, second or third quartile; 0 and 4 are the smallest and the largest value",
        missing: SKIPPED,
        example: "quartile(fare, 3)",
        arguments: (2, 2),
        clauses: WHERE_METHOD,
        share: Share::Never,
        call: Call::Aggregate(AggregateCall {
            make: |given| {
                let number = given.numbers[0].rescale(0).filter(|n| (0..=4).contains(&n.mantissa));
                let percent =
                    Decimal::new(number.ok_or("a whole number from 0 to 4")?.mantissa * 25, 0);
                let note = "a quartile of all rows, not a sum of the lines";
                Ok(Arc::new(Percentile { percent, method: given.method()?, note }))
            },
            parameters: 1,
            over_cells: OverCells::Itself,
            distinct: Distinct::Once,
        }),
    }
    .reads(Share::AsArgument),
    Function {
        name: "largest",
        aliases: &[],
        usage: "largest(x, 2)",
        meaning: "the n-th largest value, equal ones counted one by one",
        missing: "missing values are left out; missing when fewer than n are left",
        example: "largest(fare, 2)",
        arguments: (2, 2),
        clauses: WHERE,
        share: Share::Never,
        call: Call::Aggregate(AggregateCall {
            make: |given| Ok(Arc::new(Nth { n: given.place()?, largest: true })),
            parameters: 1,
            over_cells: OverCells::Itself,
            distinct: Distinct::Once,
        }),
    }
    .reads(Share::AsArgument),
    Function {
        name: "smallest",
        aliases: &[],
        usage: "smallest(x, 2)",
        meaning: "the n-th smallest value, equal ones counted one by one",
        missing: "missing values are left out; missing when fewer than n are left",
        example: "smallest(fare, 2 where fare > 0)",
        arguments: (2, 2),
        clauses: WHERE,
        share: Share::Never,
        call: Call::Aggregate(AggregateCall {
            make: |given| Ok(Arc::new(Nth { n: given.place()?, largest: false })),
            parameters: 1,
            over_cells: OverCells::Itself,
            distinct: Distinct::Once,
        }),
    }
    .reads(Share::AsArgument),
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
        Regression::WeightedMean,
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
        LabelAtExtreme { largest: true },
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
        LabelAtExtreme { largest: false },
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
    )
    .reads(Share::Always),
    aggregate!(
        "correlation",
        &[],
        "correlation(x, y)",
        "Pearson's correlation of two values, -1 to 1",
        "rows in which either is missing are left out; missing when one does not vary",
        "correlation(fare, passengers)",
        (2, 2),
        WHERE,
        Regression::Correlation,
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
        Regression::Slope,
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
        Regression::Intercept,
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
        Extreme { largest: false },
        Distinct::Same
    )
    .reads(Share::AsArgument),
    aggregate!(
        "max",
        &[],
        "max(x)",
        "the largest value: number, date or text",
        SKIPPED,
        "max(sailed_on)",
        (1, 1),
        WHERE,
        Extreme { largest: true },
        Distinct::Same
    )
    .reads(Share::AsArgument),
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
    )
    .reads(Share::AsArgument),
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
    )
    .reads(Share::AsArgument),
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
        FirstLast { last: false },
        Distinct::Refused
    )
    .reads(Share::AsArgument)
    .over_cells(OverCells::End { last: false }),
    aggregate!(
        "last",
        &[],
        "last(x) or last(x along d)",
        "the value on the last row, in the order of the file or of d",
        SKIPPED,
        "last(fare along sailed_on)",
        (1, 1),
        WHERE_ALONG,
        FirstLast { last: true },
        Distinct::Refused
    )
    .reads(Share::AsArgument)
    .over_cells(OverCells::End { last: true }),
];
