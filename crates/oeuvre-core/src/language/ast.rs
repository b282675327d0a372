//! The syntax of a calculation, with the place of every part in its text.
//!
//! Nothing is known here of columns or functions: a name is a name. There is one way to visit the parts of a
//! calculation ([`Expr::parts`]); of a call these are its arguments, and clauses are looked at by who knows them.

use oeuvre_columns::value::Comparison;
use oeuvre_columns::value::decimal::Decimal;
use std::ops::Range;

/// A calculation or a part of one.
#[derive(Clone, Debug, PartialEq)]
pub struct Expr {
    /// What it is.
    pub node: Node,
    /// Byte range in the text.
    pub span: Range<usize>,
}

impl Expr {
    /// The parts that it is made of, in their order; of a call its arguments, without the clauses.
    pub fn parts(&self) -> Vec<&Expr> {
        match &self.node {
            Node::Number(_)
            | Node::Text(_)
            | Node::Boolean(_)
            | Node::Missing
            | Node::Name { .. } => Vec::new(),
            Node::Negate(a) | Node::Not(a) | Node::IsMissing { value: a, .. } => vec![a],
            Node::Binary(_, a, b) | Node::During { value: a, period: b } => vec![a, b],
            Node::Between { value, low, high, .. } => vec![value, low, high],
            Node::In { value, list, .. } => std::iter::once(&**value).chain(list).collect(),
            Node::Call(call) => call.args.iter().collect(),
        }
    }

    /// A plain number, with a minus or without; `None` for anything else.
    pub fn constant_number(&self) -> Option<Decimal> {
        match &self.node {
            Node::Number(n) => Some(*n),
            Node::Negate(inner) => {
                inner.constant_number().map(|n| Decimal::new(-n.mantissa, n.scale))
            }
            _ => None,
        }
    }
}

/// What a part of a calculation is.
#[derive(Clone, Debug, PartialEq)]
pub enum Node {
    /// `12.50`
    Number(Decimal),
    /// `'sailed'`
    Text(String),
    /// `true`, `false`
    Boolean(bool),
    /// `missing`
    Missing,
    /// A column or a named calculation, with the lookup's name before it where one was written.
    Name {
        /// The lookup, in `routes.name`.
        table: Option<String>,
        /// The name itself.
        name: String,
    },
    /// `-x`
    Negate(Box<Expr>),
    /// `not x`
    Not(Box<Expr>),
    /// `a + b`, `a = b`, `a and b`
    Binary(Operator, Box<Expr>, Box<Expr>),
    /// `x in (a, b)`, `x not in (a, b)`
    In {
        /// What is looked for.
        value: Box<Expr>,
        /// Where.
        list: Vec<Expr>,
        /// `not in`.
        negated: bool,
    },
    /// `x between a and b`
    Between {
        /// What is compared.
        value: Box<Expr>,
        /// The lowest that counts.
        low: Box<Expr>,
        /// The highest that counts.
        high: Box<Expr>,
        /// `not between`.
        negated: bool,
    },
    /// `x is missing`, `x is not missing`
    IsMissing {
        /// What is looked at.
        value: Box<Expr>,
        /// `is not missing`.
        negated: bool,
    },
    /// `d during '2025-Q1'`
    During {
        /// The date.
        value: Box<Expr>,
        /// The period or range of periods, as written.
        period: Box<Expr>,
    },
    /// `sum(fare where status = 'sailed')`
    Call(Box<Call>),
}

/// A function with what stands in its parentheses.
#[derive(Clone, Debug, PartialEq)]
pub struct Call {
    /// The function's name as written.
    pub name: String,
    /// Where the name stands.
    pub name_span: Range<usize>,
    /// What it is given.
    pub args: Vec<Expr>,
    /// Where `distinct` stands before the arguments, if it does.
    pub distinct: Option<Range<usize>>,
    /// `where …` and the other clauses.
    pub clauses: Vec<Clause>,
}

impl Call {
    /// The values, and behind them so many parameters, such as the 90 of `percentile(x, 90)`.
    pub fn split_parameters(&self, parameters: usize) -> (&[Expr], &[Expr]) {
        self.args.split_at(self.args.len() - parameters.min(self.args.len()))
    }
}

/// A clause inside the parentheses of a function.
#[derive(Clone, Debug, PartialEq)]
pub struct Clause {
    /// Which.
    pub word: ClauseWord,
    /// What follows it.
    pub args: Vec<Expr>,
    /// Byte range in the text.
    pub span: Range<usize>,
}

impl Clause {
    /// The word after a clause that takes one: `exclusive` in `method exclusive`.
    pub fn choice(&self) -> &str {
        match self.args.first().map(|a| &a.node) {
            Some(Node::Name { name, .. }) => name,
            Some(Node::Text(text)) => text,
            Some(Node::Call(call)) => &call.name,
            _ => "",
        }
    }
}

/// The words that open a clause.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum ClauseWord {
    /// `where CONDITION`
    Where,
    /// `per KEYS`
    Per,
    /// `along KEYS`
    Along,
    /// `within KEYS`
    Within,
    /// `taking AGGREGATE`
    Taking,
    /// `method NAME`
    Method,
    /// `ties NAME`
    Ties,
    /// `asc`
    Asc,
    /// `desc`
    Desc,
    /// `at least N`
    AtLeast,
}

impl ClauseWord {
    /// All of them.
    pub const ALL: [ClauseWord; 10] = [
        ClauseWord::Where,
        ClauseWord::Per,
        ClauseWord::Along,
        ClauseWord::Within,
        ClauseWord::Taking,
        ClauseWord::Method,
        ClauseWord::Ties,
        ClauseWord::Asc,
        ClauseWord::Desc,
        ClauseWord::AtLeast,
    ];

    /// The word as written.
    pub const fn text(self) -> &'static str {
        match self {
            ClauseWord::Where => "where",
            ClauseWord::Per => "per",
            ClauseWord::Along => "along",
            ClauseWord::Within => "within",
            ClauseWord::Taking => "taking",
            ClauseWord::Method => "method",
            ClauseWord::Ties => "ties",
            ClauseWord::Asc => "asc",
            ClauseWord::Desc => "desc",
            ClauseWord::AtLeast => "at least",
        }
    }

    /// The clause that a word opens, whatever its case.
    pub fn from_text(text: &str) -> Option<ClauseWord> {
        Self::ALL.into_iter().find(|w| w.text().eq_ignore_ascii_case(text))
    }
}

/// The operators that stand between two values.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Operator {
    /// `+`
    Add,
    /// `-`
    Subtract,
    /// `*`
    Multiply,
    /// `/`
    Divide,
    /// A comparison.
    Compare(Comparison),
    /// `and`
    And,
    /// `or`
    Or,
}

impl Operator {
    /// The operator as written.
    pub const fn text(self) -> &'static str {
        match self {
            Operator::Add => "+",
            Operator::Subtract => "-",
            Operator::Multiply => "*",
            Operator::Divide => "/",
            Operator::Compare(c) => c.text(),
            Operator::And => "and",
            Operator::Or => "or",
        }
    }
}

#[cfg(test)]
mod tests {
    use crate::SourceText;
    use crate::language::parser::parse;
    use rstest::rstest;

    #[rstest]
    #[case("a", "")]
    #[case("-a", "a")]
    #[case("a + b * c", "a|b * c")]
    #[case("a between b and c + 1", "a|b|c + 1")]
    #[case("a not in (1, 'x')", "a|1|'x'")]
    #[case("not a is missing", "a is missing")]
    #[case("d during '2025'", "d|'2025'")]
    #[case("percentile(x, 90 where y method nearest)", "x|90")]
    fn parts_are_those_that_a_calculation_is_made_of(#[case] calc: &str, #[case] parts: &str) {
        let expr = parse(&SourceText::new("here", calc)).unwrap();
        assert_eq!(expr.span, 0..calc.len());
        let texts: Vec<&str> = expr.parts().iter().map(|p| &calc[p.span.clone()]).collect();
        assert_eq!(texts.join("|"), parts);
    }

    #[rstest]
    #[case("1.50", Some("1.50"))]
    #[case("-2", Some("-2"))]
    #[case("--2", Some("2"))]
    #[case("1 + 1", None)]
    #[case("x", None)]
    fn a_constant_is_a_plain_number(#[case] calc: &str, #[case] expected: Option<&str>) {
        let number = parse(&SourceText::new("here", calc)).unwrap().constant_number();
        assert_eq!(number.map(|n| n.to_string()).as_deref(), expected);
    }
}
