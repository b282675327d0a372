//! The table of functions: one row each, which feeds the parser, the checks, the help and the docs.
//!
//! If you add a function: a row in the file of its kind, and what it works out, in a file of its own in
//! `aggregate/` or `window/`, or as a scalar in `rows/scalar.rs`. Nothing else knows functions by name, and a
//! test reads the sources to keep it so. What the checks or the table must know of a function (whether it reads
//! in percent, what `distinct` makes of it, which cells it looks at) is a field of the row, never a name
//! somewhere else.
//!
//! ```
//! use oeuvre_core::language::functions::{self, Call};
//!
//! let mean = functions::find("AVG").unwrap(); // whatever its case, and by its other names
//! assert_eq!((mean.name, mean.arguments), ("mean", (1, 1)));
//! assert!(matches!(mean.call, Call::Aggregate(_)));
//! ```

mod aggregate;
mod row;
mod table;

use super::ast::{Call as CallNode, ClauseWord};
use crate::aggregate::Aggregate;
use crate::aggregate::once::Once;
use crate::aggregate::quantiles::Method;
use crate::rows::scalar::Scalar;
use crate::same::Alike;
use crate::window::{self, Calc, Gives};
use oeuvre_columns::value::calendar::{Part, Unit};
use oeuvre_columns::value::decimal::Decimal;
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
    /// Whether it reads as a share of something, and so in percent.
    pub share: Share,
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
    Table(TableCall),
}

/// How an aggregate is made.
pub struct AggregateCall {
    /// Makes the aggregate from what was given beside the values.
    make: fn(&Given) -> Result<Arc<dyn Aggregate>, &'static str>,
    /// How many of the arguments, from the last, are such numbers.
    pub parameters: usize,
    /// What it is over the cells of the table.
    pub over_cells: OverCells,
    /// What `distinct` before the argument makes of it.
    pub distinct: Distinct,
}

/// Whether a result reads as a share of something.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Share {
    /// Whatever it is given.
    Always,
    /// Where its argument does.
    AsArgument,
    /// Never.
    Never,
}

/// The name of the function that gives a part of the calendar that repeats.
pub(crate) fn of_part(part: Part) -> &'static str {
    let gives = |f: &&Function| matches!(&f.call, Call::Row(RowCall::Part(p)) if *p == part);
    all().find(gives).map_or("", |f| f.name)
}

/// What an aggregate is over the cells of the table.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum OverCells {
    /// The same as over rows.
    Itself,
    /// The value at an end of a walk.
    End {
        /// The last.
        last: bool,
    },
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
            Distinct::Once => Arc::new(Once(Alike(plain))),
        })
    }
}

/// How a word of the table is made.
pub struct TableCall {
    /// Which cells it looks at.
    pub looks: Looks,
    /// What it takes.
    pub takes: Takes,
    /// What it works out, from what was given beside the value.
    pub make: fn(&window::Given) -> Calc,
    /// What is given of that.
    pub gives: Gives,
    /// How the figures on the lines relate to the one on their total.
    pub lines: Lines,
}

/// Which cells a word of the table looks at.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Looks {
    /// It compares cells by their values.
    Compares,
    /// It walks from cell to cell along a key.
    Walks,
    /// It takes the same result at fewer keys.
    AtKeys,
}

/// What a word of the table takes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Takes {
    /// Any value: it is passed on or compared.
    Anything,
    /// Numbers, unless what is made of them serves for all kinds.
    Numbers,
}

/// How the figures of a word on the lines relate to the one on their total.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Lines {
    /// A place is no amount, and nobody adds places up.
    Places,
    /// As those of the argument: shares of what adds up add up themselves.
    AsArgument,
    /// The figure on a total is that of the totals.
    OfTotals,
    /// It is worked out across the cells.
    AcrossCells,
}

impl TableCall {
    /// A word that compares cells.
    const fn compares(make: fn(&window::Given) -> Calc) -> TableCall {
        let (looks, takes) = (Looks::Compares, Takes::Anything);
        TableCall { looks, takes, make, gives: Gives::Itself, lines: Lines::Places }
    }

    /// A word that walks.
    const fn walks(takes: Takes, make: fn(&window::Given) -> Calc) -> TableCall {
        TableCall { looks: Looks::Walks, takes, make, gives: Gives::Itself, lines: Lines::OfTotals }
    }

    /// A word that takes the same result at fewer keys.
    const fn at_keys(takes: Takes) -> TableCall {
        let (looks, lines) = (Looks::AtKeys, Lines::AcrossCells);
        TableCall { looks, takes, make: |_| Calc::Total, gives: Gives::Itself, lines }
    }
}

impl Function {
    /// Says whether it reads as a share.
    const fn reads(mut self, share: Share) -> Function {
        self.share = share;
        self
    }

    /// Says what an aggregate is over cells.
    const fn over_cells(mut self, what: OverCells) -> Function {
        if let Call::Aggregate(of) = &mut self.call {
            of.over_cells = what;
        }
        self
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

const SKIPPED: &str = "missing values are left out; missing when none is left";

/// All functions, in the order in which the help lists them.
pub fn all() -> impl Iterator<Item = &'static Function> {
    aggregate::ROWS.iter().chain(table::ROWS).chain(row::ROWS)
}

/// The function of a name or another name, whatever its case; `None` where there is none.
pub fn find(name: &str) -> Option<&'static Function> {
    let is = |n: &str| n.eq_ignore_ascii_case(name);
    all().find(|f| is(f.name) || f.aliases.iter().any(|a| is(a)))
}

/// All names that are understood, for suggestions.
pub fn names() -> impl Iterator<Item = &'static str> {
    all().flat_map(|f| std::iter::once(f.name).chain(f.aliases.iter().copied()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::SourceText;
    use crate::language::clauses;
    use crate::language::parser::parse;
    use std::collections::HashSet;

    /// What is told of a function is right of its row, whichever file it stands in.
    #[test]
    fn every_row_tells_of_its_function_what_is_so() {
        let mut seen = HashSet::new();
        for row in all() {
            let name = row.name;
            for name in std::iter::once(&name).chain(row.aliases) {
                assert!(seen.insert(*name), "{name} stands twice");
                assert!(name.chars().all(|c| c.is_ascii_lowercase() || c == '_'), "{name}");
                assert_eq!(find(&name.to_uppercase()).map(|f| f.name), Some(row.name));
            }
            assert!(row.arguments.0 <= row.arguments.1, "{name}");
            let usages =
                row.usage.split(" or ").all(|usage| usage.starts_with(&format!("{name}(")));
            assert!(usages, "{name} is written {}", row.usage);
            for text in [row.meaning, row.missing] {
                assert!(!text.is_empty() && !text.ends_with('.'), "{name}: {text}");
            }
            let example = parse(&SourceText::new("example", row.example));
            let uses = row.example.contains(&format!("{name}("));
            assert!(example.is_ok() && uses, "{name}: {}", row.example);
            for clause in row.clauses {
                assert!(clauses::find(clause.text()).is_some(), "{name}: {}", clause.text());
            }
            // `distinct` and `method` are of aggregates, cells of words of the table.
            let of_rows = matches!(row.call, Call::Row(_));
            assert!(!of_rows || row.clauses.is_empty(), "{name}");
        }
        assert_eq!(names().count(), seen.len());
    }
}
