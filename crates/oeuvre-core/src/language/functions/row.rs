//! The functions of single values, a row each.

use super::{Call, Function, RowCall, Share};
use crate::rows::scalar::Scalar;
use oeuvre_columns::value::calendar::{Part, Unit};

const MISSING: &str = "missing where the date is";

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
            share: Share::Never,
            call: Call::Row($call),
        }
    };
}

/// The functions, in the order in which the help lists them.
pub(super) static ROWS: &[Function] = &[
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
    )
    .reads(Share::AsArgument),
    row!(
        "round",
        "round(x) or round(x, n)",
        "rounded to n digits after the point, halves away from zero; n is 0 when left out",
        "missing where x is",
        "round(mean(fare), 2)",
        (1, 2),
        RowCall::Round
    )
    .reads(Share::AsArgument),
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
