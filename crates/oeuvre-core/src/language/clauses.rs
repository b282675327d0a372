//! The words that open a clause inside the parentheses of a function, with what they mean.
//!
//! The rows feed the help and the docs; which function takes which clause stands in the function's own row.
//!
//! ```
//! use oeuvre_core::language::clauses;
//!
//! assert_eq!(clauses::find("WHERE").map(|row| row.word), Some("where"));
//! assert!(clauses::find("having").is_none());
//! ```

/// Where the example of a clause stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ExampleIn {
    /// In a summary of one line.
    OneLine,
    /// In a table by month.
    Months,
    /// In a detail.
    Detail,
}

/// A word of the clauses.
pub struct ClauseRow {
    /// The word as written.
    pub word: &'static str,
    /// How it is written.
    pub usage: &'static str,
    /// What it means, in a sentence.
    pub meaning: &'static str,
    /// A calculation over the demo data that uses it.
    pub example: &'static str,
    /// Where the example stands.
    pub example_in: ExampleIn,
}

/// All clauses, in the order in which the help lists them. `distinct` is none, but stands inside the
/// parentheses as they do.
pub static CLAUSES: &[ClauseRow] = &[
    ClauseRow {
        word: "distinct",
        usage: "count(distinct x), sum(distinct x), list(distinct x)",
        meaning: "each different value is taken once; before the argument of an aggregate of one value, and with a condition over the rows that it leaves",
        example: "count(distinct customer_id where status = 'sailed')",
        example_in: ExampleIn::OneLine,
    },
    ClauseRow {
        word: "where",
        usage: "sum(x where condition)",
        meaning: "only over the rows for which the condition holds; it may hold a result, taken at the same group",
        example: "min(fare where fare > mean(fare))",
        example_in: ExampleIn::OneLine,
    },
    ClauseRow {
        word: "per",
        usage: "median(sum(x) per K)",
        meaning: "worked out for each K first, and then over these results",
        example: "median(sum(fare) per route)",
        example_in: ExampleIn::OneLine,
    },
    ClauseRow {
        word: "along",
        usage: "running(x along K)",
        meaning: "the key that is walked, down the side or along the top, everything else held fixed; the table's finest period unless said, else its innermost --by key",
        example: "running(sum(fare) along month)",
        example_in: ExampleIn::Months,
    },
    ClauseRow {
        word: "within",
        usage: "share(x within K), rank(x within K)",
        meaning: "the keys whose label must be shared: a total is taken at them, a rank or a walk starts again at each",
        example: "running(sum(fare) along month within year)",
        example_in: ExampleIn::Months,
    },
    ClauseRow {
        word: "taking",
        usage: "running(x taking max), moving(x, 3 taking sum)",
        meaning: "what is made of the values on the way: sum, mean, min, max or count",
        example: "running(sum(fare) taking max)",
        example_in: ExampleIn::Months,
    },
    ClauseRow {
        word: "at least",
        usage: "moving(x, 12 at least 6)",
        meaning: "how many values are enough; all of them unless said",
        example: "moving(sum(fare), 12 at least 2)",
        example_in: ExampleIn::Months,
    },
    ClauseRow {
        word: "ties",
        usage: "rank(x ties close)",
        meaning: "what equal values do: gap (1 2 2 4), close (1 2 2 3), apart (1 2 3 4, in the order of the lines) or mean (1 2.5 2.5 4); gap unless said",
        example: "rank(count(where fare > 9000) ties close)",
        example_in: ExampleIn::Months,
    },
    ClauseRow {
        word: "method",
        usage: "percentile(x, 90 method exclusive)",
        meaning: "how a percentile is taken between two values: inclusive, exclusive or nearest; inclusive unless said",
        example: "percentile(delay_min, 90 method nearest)",
        example_in: ExampleIn::OneLine,
    },
    ClauseRow {
        word: "asc",
        usage: "rank(x asc)",
        meaning: "from the smallest on",
        example: "rank(sum(fare) asc)",
        example_in: ExampleIn::Months,
    },
    ClauseRow {
        word: "desc",
        usage: "running(x along K desc)",
        meaning: "from the largest on; along a period from the last to the first",
        example: "running(sum(fare) along month desc)",
        example_in: ExampleIn::Months,
    },
];

/// The row of a word, whatever its case.
pub fn find(word: &str) -> Option<&'static ClauseRow> {
    CLAUSES.iter().find(|c| c.word.eq_ignore_ascii_case(word))
}

#[cfg(test)]
mod tests {
    use super::super::ast::ClauseWord;
    use super::*;

    #[test]
    fn every_clause_of_the_parser_has_a_row() {
        for word in ClauseWord::ALL {
            assert!(find(word.text()).is_some(), "{}", word.text());
        }
    }
}
