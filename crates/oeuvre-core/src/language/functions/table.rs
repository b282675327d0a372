//! The words that look at other cells, a row each.

use super::{Call, Function, Lines, Share, TableCall, Takes};
use crate::language::ast::ClauseWord;
use crate::window::moving::Moving;
use crate::window::rank::Rank;
use crate::window::running::Running;
use crate::window::step::Step;
use crate::window::tile::Tile;
use crate::window::{Calc, Given, Gives, Taking, Ties};

const WALK: &[ClauseWord] =
    &[ClauseWord::Along, ClauseWord::Within, ClauseWord::Asc, ClauseWord::Desc];

/// The value so many steps back.
fn back(given: &Given) -> Calc {
    Calc::walked(Step(i64::from(given.number)))
}

macro_rules! word {
    ($call:expr, $name:literal, $usage:literal, $meaning:literal, $missing:expr, $example:literal, $args:expr, $clauses:expr) => {
        Function {
            name: $name,
            aliases: &[],
            usage: $usage,
            meaning: $meaning,
            missing: $missing,
            example: $example,
            arguments: $args,
            clauses: $clauses,
            share: Share::Never,
            call: Call::Table($call),
        }
    };
}

/// The words, in the order in which the help lists them.
pub(super) static ROWS: &[Function] = &[
    word!(
        TableCall::compares(|g| Calc::compared(Rank(g.ties.unwrap_or(Ties::Gap)))),
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
        TableCall::compares(|g| Calc::compared(Tile(g.number))),
        "tile",
        "tile(x, 4)",
        "the bucket of x, 1 to n, largest first unless asc; as equal in size as can be, earlier ones take the extra cells",
        "missing where x is; missing values are in no bucket",
        "tile(sum(fare), 4)",
        (2, 2),
        WALK
    ),
    word!(
        TableCall::walks(Takes::Anything, back),
        "lag",
        "lag(x) or lag(x, 12 along K within L)",
        "x one step back, or n steps; along a period one step is one period of the calendar",
        "missing before the first; along a period without rows x of no rows",
        "lag(sum(fare))",
        (1, 2),
        WALK
    )
    .reads(Share::AsArgument),
    word!(
        TableCall::walks(Takes::Anything, |g| Calc::walked(Step(-i64::from(g.number)))),
        "lead",
        "lead(x) or lead(x, 12 along K within L)",
        "x one step ahead, or n steps",
        "missing after the last; along a period without rows x of no rows",
        "lead(sum(fare))",
        (1, 2),
        WALK
    )
    .reads(Share::AsArgument),
    word!(
        TableCall { gives: Gives::Change, ..TableCall::walks(Takes::Numbers, back) },
        "change",
        "change(x) or change(x, 12 along K within L)",
        "x less its value one step back, or n steps",
        "missing where either is",
        "change(sum(fare))",
        (1, 2),
        WALK
    )
    .reads(Share::AsArgument),
    word!(
        TableCall { gives: Gives::Growth, ..TableCall::walks(Takes::Numbers, back) },
        "growth",
        "growth(x) or growth(x, 12 along K within L)",
        "the change of x over its value one step back, or n steps",
        "missing where either is, and where the earlier value is 0",
        "growth(sum(fare))",
        (1, 2),
        WALK
    )
    .reads(Share::Always),
    word!(
        TableCall::walks(Takes::Numbers, |g| {
            Calc::walked(Running(g.taking.unwrap_or(Taking::Sum)))
        }),
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
    )
    .reads(Share::AsArgument),
    word!(
        TableCall::walks(Takes::Numbers, |g| {
            let Given { number: steps, at_least, .. } = *g;
            let taking = g.taking.unwrap_or(Taking::Mean);
            Calc::walked(Moving { steps, taking, at_least })
        }),
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
    )
    .reads(Share::AsArgument),
    word!(
        TableCall {
            gives: Gives::Share,
            lines: Lines::AsArgument,
            ..TableCall::at_keys(Takes::Numbers)
        },
        "share",
        "share(x) or share(x within K)",
        "x over its total, worked out from the rows at the keys named: of everything, of a parent, of a row, of a column",
        "missing where either is, and where the total is 0",
        "share(sum(fare))",
        (1, 1),
        &[ClauseWord::Within]
    )
    .reads(Share::Always),
    word!(
        TableCall::at_keys(Takes::Anything),
        "total",
        "total(x) or total(x within K)",
        "x worked out from all rows that share the keys named, or from all rows",
        "as x itself",
        "total(sum(fare))",
        (1, 1),
        &[ClauseWord::Within]
    )
    .reads(Share::AsArgument),
];
