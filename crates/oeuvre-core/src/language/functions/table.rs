//! The words that look at other cells, a row each.

use super::{Call, Function, Share, Word};
use crate::language::ast::ClauseWord;

const WALK: &[ClauseWord] =
    &[ClauseWord::Along, ClauseWord::Within, ClauseWord::Asc, ClauseWord::Desc];

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
            share: Share::Never,
            call: Call::Table($word),
        }
    };
}

/// The words, in the order in which the help lists them.
pub(super) static ROWS: &[Function] = &[
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
    )
    .reads(Share::AsArgument),
    word!(
        Word::Lead,
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
        Word::Change,
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
        Word::Growth,
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
    )
    .reads(Share::AsArgument),
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
    )
    .reads(Share::AsArgument),
    word!(
        Word::Share,
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
        Word::Total,
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
