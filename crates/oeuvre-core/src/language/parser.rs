//! Tokens to syntax: a Pratt parser.
//!
//! Operators bind by their place in one table (V. Pratt, "Top Down Operator Precedence", 1973); the language
//! reference in docs/ has the same order. Nesting is limited, so that no text can exhaust the stack, and the time
//! grows with the length of the text.
//!
//! ```
//! use oeuvre_core::SourceText;
//! use oeuvre_core::language::parser::parse;
//!
//! let error = parse(&SourceText::new("--show", "sum(fare")).unwrap_err();
//! assert_eq!(error.span, 8..8);
//! assert!(parse(&SourceText::new("--show", "a + b * c = 3 and not d")).is_ok());
//! ```

use super::ast::{Call, Clause, ClauseWord, Expr, Node, Operator};
use super::elsewhere;
use super::lexer::{Spanned, Token, tokens};
use crate::error::{Diagnostic, SourceText};
use oeuvre_columns::value::Comparison;
use std::ops::Range;
use std::sync::Arc;

/// How deeply a calculation may be nested. Deeper ones would be mistakes of a program that
/// writes calculations, and the limit keeps any text from overflowing the stack.
const DEEPEST: usize = 250;
/// How many operators a calculation may have, for the same reason: a row of them is a deep tree.
const MOST_OPERATORS: usize = 1000;

/// The precedence of `not`: it takes in a comparison, but no `and`.
const NOT: u8 = 3;
/// The precedence of comparisons, which do not chain.
const COMPARISON: u8 = 4;

/// Reads one calculation.
///
/// # Errors
/// The first thing that does not belong where it stands, with its place and what was expected.
pub fn parse(written: &Arc<SourceText>) -> Result<Expr, Diagnostic> {
    let mut all = parse_list(written)?;
    match all.len() {
        1 => Ok(all.remove(0)),
        _ => {
            let second = all[1].span.clone();
            Err(Diagnostic::new(written, second, "a second calculation follows the first")
                .label("only one is expected here"))
        }
    }
}

/// Reads calculations separated by commas; there is at least one.
///
/// # Errors
/// As for [`parse`].
pub fn parse_list(written: &Arc<SourceText>) -> Result<Vec<Expr>, Diagnostic> {
    let mut parser = Parser::new(written)?;
    let list = parser.list()?;
    parser.expect_end()?;
    Ok(list)
}

/// Reads calculations separated by commas, each followed by `asc`, `desc` or neither. The second part of each
/// pair is true for `desc`, `None` where neither was written.
///
/// # Errors
/// As for [`parse`].
pub fn parse_sort(written: &Arc<SourceText>) -> Result<Vec<(Expr, Option<bool>)>, Diagnostic> {
    let mut parser = Parser::new(written)?;
    let mut out = Vec::new();
    loop {
        let expr = parser.expr(0)?;
        let direction = match parser.clause_word() {
            Some(ClauseWord::Asc) => Some(false),
            Some(ClauseWord::Desc) => Some(true),
            _ => None,
        };
        if direction.is_some() {
            parser.advance();
        }
        out.push((expr, direction));
        if !parser.take(",") {
            break;
        }
    }
    parser.expect_end()?;
    Ok(out)
}

struct Parser<'a> {
    written: &'a Arc<SourceText>,
    tokens: Vec<Spanned>,
    at: usize,
    depth: usize,
    operators: usize,
}

impl<'a> Parser<'a> {
    fn new(written: &'a Arc<SourceText>) -> Result<Parser<'a>, Diagnostic> {
        let tokens = tokens(written)?;
        if tokens.len() == 1 {
            return Err(Diagnostic::new(written, 0..written.text.len(), "there is nothing here")
                .label("expected a column or a calculation"));
        }
        Ok(Parser { written, tokens, at: 0, depth: 0, operators: 0 })
    }

    fn peek(&self) -> &Token {
        &self.tokens[self.at].token
    }

    fn span(&self) -> Range<usize> {
        self.tokens[self.at].span.clone()
    }

    fn advance(&mut self) -> Spanned {
        let token = self.tokens[self.at].clone();
        self.at = (self.at + 1).min(self.tokens.len() - 1);
        token
    }

    fn take(&mut self, sign: &str) -> bool {
        let found = matches!(self.peek(), Token::Sign(s) if *s == sign);
        if found {
            self.advance();
        }
        found
    }

    fn word_is(&self, word: &str) -> bool {
        matches!(self.peek(), Token::Word(w) if w.eq_ignore_ascii_case(word))
    }

    fn take_word(&mut self, word: &str) -> bool {
        let found = self.word_is(word);
        if found {
            self.advance();
        }
        found
    }

    /// The token `ahead` places after the current one.
    fn peek_at(&self, ahead: usize) -> Option<&Token> {
        self.tokens.get(self.at + ahead).map(|t| &t.token)
    }

    fn clause_word(&self) -> Option<ClauseWord> {
        let Token::Word(word) = self.peek() else { return None };
        match self.peek_at(1) {
            Some(Token::Word(next)) if word.eq_ignore_ascii_case("at") => {
                next.eq_ignore_ascii_case("least").then_some(ClauseWord::AtLeast)
            }
            _ => ClauseWord::from_text(word),
        }
    }

    fn mistake(&self, span: Range<usize>, message: impl Into<String>) -> Diagnostic {
        Diagnostic::new(self.written, span, message)
    }

    /// What stands at the current place, for a message.
    fn found(&self) -> String {
        match self.peek() {
            Token::End => "the end".to_owned(),
            _ => format!("`{}`", &self.written.text[self.span()]),
        }
    }

    fn expect(&mut self, sign: &str, after: &str) -> Result<(), Diagnostic> {
        if self.take(sign) {
            return Ok(());
        }
        let message = format!("expected `{sign}` {after}, found {}", self.found());
        Err(self.mistake(self.span(), message).label(format!("`{sign}` is missing here")))
    }

    fn expect_end(&self) -> Result<(), Diagnostic> {
        if matches!(self.peek(), Token::End) {
            return Ok(());
        }
        let found = self.found();
        let mut mistake = self.mistake(self.span(), format!("{found} is not expected here"));
        mistake.label = match self.peek() {
            Token::Sign(")") => "no ( is open".to_owned(),
            Token::Word(_) if self.clause_word().is_some() => {
                let word = self.clause_word().map_or("", ClauseWord::text);
                format!("`{word}` belongs inside the parentheses of a function")
            }
            Token::Word(_) | Token::Quoted(_) => self.of_elsewhere().unwrap_or_else(|| {
                "a name with a space or a sign in it is written in double quotes".to_owned()
            }),
            _ => "an operator such as + or `and` is missing before it".to_owned(),
        };
        Err(mistake)
    }

    /// What is written here for the word at the current place, where it is one of elsewhere.
    fn of_elsewhere(&self) -> Option<String> {
        let Token::Word(word) = self.peek() else { return None };
        let ours = elsewhere::clause(word)?;
        if let (true, Some(Token::Word(name) | Token::Quoted(name))) =
            (word.eq_ignore_ascii_case("as"), self.peek_at(1))
        {
            let before = self.written.text[..self.span().start].trim();
            return Some(format!("write the name before it: '{name}: {before}'"));
        }
        Some(format!("write {ours}"))
    }

    fn list(&mut self) -> Result<Vec<Expr>, Diagnostic> {
        let mut list = vec![self.expr(0)?];
        while self.take(",") {
            list.push(self.expr(0)?);
        }
        Ok(list)
    }

    fn expr(&mut self, min: u8) -> Result<Expr, Diagnostic> {
        self.depth += 1;
        if self.depth > DEEPEST {
            return Err(self
                .mistake(self.span(), "this calculation is nested too deeply")
                .label(format!("at most {DEEPEST} levels"))
                .help("name a part of it with --let"));
        }
        let mut left = self.prefix()?;
        while let Some((operator, precedence)) = self.infix() {
            if precedence < min {
                break;
            }
            self.operators += 1;
            if self.operators > MOST_OPERATORS {
                return Err(self
                    .mistake(self.span(), "this calculation is too long")
                    .label(format!("at most {MOST_OPERATORS} operators"))
                    .help("name a part of it with --let, or use `in (…)`"));
            }
            left = self.binary(left, operator, precedence)?;
            if precedence == COMPARISON && self.infix().is_some_and(|(_, p)| p == COMPARISON) {
                return Err(self
                    .mistake(self.span(), "comparisons do not chain")
                    .label("join them with `and`, or use `between`"));
            }
        }
        self.depth -= 1;
        Ok(left)
    }

    /// The operator at the current place and its precedence.
    fn infix(&self) -> Option<(Infix, u8)> {
        use Infix::{Between, During, In, Is, Plain};
        Some(match self.peek() {
            Token::Sign("+") => (Plain(Operator::Add), 5),
            Token::Sign("-") => (Plain(Operator::Subtract), 5),
            Token::Sign("*") => (Plain(Operator::Multiply), 6),
            Token::Sign("/") => (Plain(Operator::Divide), 6),
            Token::Sign("=") => (Plain(Operator::Compare(Comparison::Equal)), COMPARISON),
            Token::Sign("<>") => (Plain(Operator::Compare(Comparison::NotEqual)), COMPARISON),
            Token::Sign("<") => (Plain(Operator::Compare(Comparison::Less)), COMPARISON),
            Token::Sign("<=") => (Plain(Operator::Compare(Comparison::LessEqual)), COMPARISON),
            Token::Sign(">") => (Plain(Operator::Compare(Comparison::Greater)), COMPARISON),
            Token::Sign(">=") => (Plain(Operator::Compare(Comparison::GreaterEqual)), COMPARISON),
            Token::Word(w) => match w.to_ascii_lowercase().as_str() {
                "and" => (Plain(Operator::And), 2),
                "or" => (Plain(Operator::Or), 1),
                "in" => (In(false), COMPARISON),
                "between" => (Between(false), COMPARISON),
                "is" => (Is, COMPARISON),
                "during" => (During, COMPARISON),
                "not" => match self.tokens.get(self.at + 1).map(|t| &t.token) {
                    Some(Token::Word(w)) if w.eq_ignore_ascii_case("in") => (In(true), COMPARISON),
                    Some(Token::Word(w)) if w.eq_ignore_ascii_case("between") => {
                        (Between(true), COMPARISON)
                    }
                    _ => return None,
                },
                _ => return None,
            },
            _ => return None,
        })
    }

    fn binary(&mut self, left: Expr, infix: Infix, precedence: u8) -> Result<Expr, Diagnostic> {
        let start = left.span.start;
        self.advance();
        let node = match infix {
            Infix::Plain(operator) => {
                let right = self.expr(precedence + 1)?;
                Node::Binary(operator, Box::new(left), Box::new(right))
            }
            Infix::In(negated) => {
                if negated {
                    self.advance();
                }
                self.expect("(", "after `in`")?;
                let list = self.list()?;
                self.expect(")", "after the list")?;
                Node::In { value: Box::new(left), list, negated }
            }
            Infix::Between(negated) => {
                if negated {
                    self.advance();
                }
                let low = self.expr(COMPARISON + 1)?;
                if !self.take_word("and") {
                    let message =
                        format!("expected `and` after `between …`, found {}", self.found());
                    return Err(self
                        .mistake(self.span(), message)
                        .label("write `between lowest and highest`"));
                }
                let high = self.expr(COMPARISON + 1)?;
                let (value, low, high) = (Box::new(left), Box::new(low), Box::new(high));
                Node::Between { value, low, high, negated }
            }
            Infix::Is => {
                let negated = self.take_word("not");
                if !self.take_word("missing") {
                    let message = format!("expected `missing` after `is`, found {}", self.found());
                    return Err(self
                        .mistake(self.span(), message)
                        .label("write `is missing` or `is not missing`; to compare, write ="));
                }
                Node::IsMissing { value: Box::new(left), negated }
            }
            Infix::During => {
                let period = self.expr(COMPARISON + 1)?;
                Node::During { value: Box::new(left), period: Box::new(period) }
            }
        };
        let end = self.tokens[self.at - 1].span.end;
        Ok(Expr { node, span: start..end })
    }

    fn prefix(&mut self) -> Result<Expr, Diagnostic> {
        let Spanned { token, span } = self.advance();
        let start = span.start;
        let node = match token {
            Token::Number(n) => Node::Number(n),
            Token::Text(t) => Node::Text(t),
            Token::Quoted(name) => self.name(None, name),
            Token::Sign("(") => {
                let mut inner = self.expr(0)?;
                self.expect(")", "to close the parenthesis")?;
                inner.span = start..self.tokens[self.at - 1].span.end;
                return Ok(inner);
            }
            Token::Sign("-") => Node::Negate(Box::new(self.expr(7)?)),
            Token::Sign("+") => return self.expr(7),
            Token::Word(word) => match word.to_ascii_lowercase().as_str() {
                "not" => Node::Not(Box::new(self.expr(NOT)?)),
                "true" => Node::Boolean(true),
                "false" => Node::Boolean(false),
                "missing" => Node::Missing,
                _ if matches!(self.peek(), Token::Sign("(")) => self.call(word, span)?,
                _ => self.name(None, word),
            },
            token => {
                self.at -= usize::from(token != Token::End);
                let message = format!("expected a column or a calculation, found {}", self.found());
                let label = match self.peek() {
                    Token::Sign("*") => "for all rows the parentheses stay empty: count()",
                    _ => "something is missing here",
                };
                return Err(self.mistake(span, message).label(label));
            }
        };
        let end = self.tokens[self.at.saturating_sub(1)].span.end.max(start);
        Ok(Expr { node, span: start..end })
    }

    /// A name, and the column after it where it is a lookup's, or that of an object; its own name may have
    /// dots, too.
    fn name(&mut self, table: Option<String>, name: String) -> Node {
        let mut behind: Vec<String> = Vec::new();
        while table.is_none() && matches!(self.peek(), Token::Sign(".")) {
            let (Some(Token::Word(part)) | Some(Token::Quoted(part))) =
                self.tokens.get(self.at + 1).map(|t| &t.token)
            else {
                break;
            };
            behind.push(part.clone());
            self.advance();
            self.advance();
        }
        match behind.is_empty() {
            true => Node::Name { table, name },
            false => Node::Name { table: Some(name), name: behind.join(".") },
        }
    }

    fn call(&mut self, name: String, name_span: Range<usize>) -> Result<Node, Diagnostic> {
        self.advance();
        let mut args = Vec::new();
        let mut clauses = Vec::new();
        let distinct = self.distinct_follows().then(|| self.advance().span);
        if !matches!(self.peek(), Token::Sign(")")) {
            if !self.clause_follows() {
                args = self.list()?;
            }
            while let Some(word) = self.clause_word() {
                clauses.push(self.clause(word)?);
            }
        }
        if !matches!(self.peek(), Token::Sign(")" | ",")) && !matches!(self.peek(), Token::End) {
            let message = format!("expected `,` or `)` in `{name}(…)`, found {}", self.found());
            let label = self.of_elsewhere().unwrap_or_else(|| "not expected here".to_owned());
            return Err(self.mistake(self.span(), message).label(label));
        }
        self.expect(")", &format!("to close `{name}(`"))?;
        Ok(Node::Call(Box::new(Call { name, name_span, args, distinct, clauses })))
    }

    /// Whether a clause stands where the first argument may: a word of a clause that is not a name
    /// used as an argument, such as in `sum(along)`.
    fn clause_follows(&self) -> bool {
        self.clause_word().is_some()
            && !matches!(self.peek_at(1), Some(Token::Sign(_)) | Some(Token::End))
    }

    /// Whether `distinct` stands before the arguments. Before a closing parenthesis, a sign, or a word
    /// that goes on from a value it is a column of that name; a parenthesis it opens can only be that of
    /// its argument.
    fn distinct_follows(&self) -> bool {
        let goes_on = |word: &str| {
            let words = ["in", "is", "between", "and", "or", "during", "at"];
            words.iter().any(|w| w.eq_ignore_ascii_case(word))
                || ClauseWord::from_text(word).is_some()
                || word.eq_ignore_ascii_case("not")
                    && matches!(self.peek_at(2), Some(Token::Word(w)) if w.eq_ignore_ascii_case("in") || w.eq_ignore_ascii_case("between"))
        };
        self.word_is("distinct")
            && match self.peek_at(1) {
                Some(Token::Sign(sign)) => *sign == "(",
                Some(Token::End) | None => false,
                Some(Token::Word(word)) => {
                    // A column that is called like such a word is one where nothing follows it.
                    !goes_on(word) || matches!(self.peek_at(2), Some(Token::Sign(")" | ",")))
                }
                Some(_) => true,
            }
    }

    fn clause(&mut self, word: ClauseWord) -> Result<Clause, Diagnostic> {
        let start = self.span().start;
        self.advance();
        let args = match word {
            ClauseWord::Where => vec![self.expr(0)?],
            ClauseWord::Per | ClauseWord::Along | ClauseWord::Within => self.list()?,
            ClauseWord::Taking | ClauseWord::Method | ClauseWord::Ties => {
                vec![self.expr(COMPARISON)?]
            }
            ClauseWord::AtLeast => {
                self.advance();
                vec![self.expr(COMPARISON)?]
            }
            ClauseWord::Asc | ClauseWord::Desc => Vec::new(),
        };
        Ok(Clause { word, args, span: start..self.tokens[self.at - 1].span.end })
    }
}

#[derive(Clone, Copy)]
enum Infix {
    Plain(Operator),
    In(bool),
    Between(bool),
    Is,
    During,
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn read(text: &str) -> Result<Expr, Diagnostic> {
        parse(&SourceText::new("--show", text))
    }

    /// Writes an expression back with every parenthesis, so that precedence can be seen.
    fn full(e: &Expr) -> String {
        match &e.node {
            Node::Number(n) => n.to_string(),
            Node::Text(t) => format!("'{t}'"),
            Node::Boolean(b) => b.to_string(),
            Node::Missing => "missing".into(),
            Node::Name { table: Some(t), name } => format!("{t}.{name}"),
            Node::Name { table: None, name } => name.clone(),
            Node::Negate(x) => format!("-{}", full(x)),
            Node::Not(x) => format!("not {}", full(x)),
            Node::Binary(o, a, b) => format!("({} {} {})", full(a), o.text(), full(b)),
            Node::In { value, list, negated } => {
                let items: Vec<_> = list.iter().map(full).collect();
                format!(
                    "({}{} in {})",
                    full(value),
                    if *negated { " not" } else { "" },
                    items.join("|")
                )
            }
            Node::Between { value, low, high, .. } => {
                format!("({} between {} {})", full(value), full(low), full(high))
            }
            Node::IsMissing { value, negated } => format!("({} is {negated})", full(value)),
            Node::During { value, period } => format!("({} during {})", full(value), full(period)),
            Node::Call(c) => {
                let mut parts: Vec<_> = c.args.iter().map(full).collect();
                for clause in &c.clauses {
                    let args: Vec<_> = clause.args.iter().map(full).collect();
                    parts.push(format!("{}:{}", clause.word.text(), args.join("|")));
                }
                let distinct = if c.distinct.is_some() { "distinct " } else { "" };
                format!("{}[{distinct}{}]", c.name, parts.join(" "))
            }
        }
    }

    #[rstest]
    #[case("1 + 2 * 3 - 4", "((1 + (2 * 3)) - 4)")]
    #[case("a or b and not c = d", "(a or (b and not (c = d)))")]
    #[case("-a * b", "(-a * b)")]
    #[case("x between 1 and 2 and y", "((x between 1 2) and y)")]
    #[case("x not in ('a', 'b')", "(x not in 'a'|'b')")]
    #[case("x is not missing or y is missing", "((x is true) or (y is false))")]
    #[case("d during '2025-Q1'", "(d during '2025-Q1')")]
    #[case("sum(fare * 2 where status = 'sailed')", "sum[(fare * 2) where:(status = 'sailed')]")]
    #[case("count(where fare > 100)", "count[where:(fare > 100)]")]
    #[case("first(x along d, e desc)", "first[x along:d|e desc:]")]
    #[case("routes.name", "routes.name")]
    #[case("\"Ship date\"", "Ship date")]
    #[case("'it''s'", "'it's'")]
    #[case("sum(along)", "sum[along]")]
    #[case("moving(at, 3 taking sum at least 2)", "moving[at 3 taking:sum at least:2]")]
    #[case("count(distinct x)", "count[distinct x]")]
    #[case("count(DISTINCT (x + 1))", "count[distinct (x + 1)]")]
    #[case("sum(distinct \"a b\" where y)", "sum[distinct a b where:y]")]
    #[case("sum(distinct)", "sum[distinct]")]
    #[case("sum(distinct - 1)", "sum[(distinct - 1)]")]
    #[case("count(distinct where x > 1)", "count[distinct where:(x > 1)]")]
    #[case("portion(distinct not in (1))", "portion[(distinct not in 1)]")]
    #[case("count(distinct within)", "count[distinct within]")]
    fn precedence_and_clauses_are_as_documented(#[case] text: &str, #[case] tree: &str) {
        assert_eq!(full(&read(text).unwrap()), tree);
    }

    #[rstest]
    #[case("", "there is nothing here")]
    #[case("sum(fare", "expected `)` to close `sum(`, found the end")]
    #[case("fare)", "`)` is not expected here")]
    #[case("a = b = c", "comparisons do not chain")]
    #[case("'abc", "this text does not end")]
    #[case("1.2.3", "`1.2.3` is not a number")]
    #[case("a b", "`b` is not expected here")]
    #[case("x is 3", "expected `missing` after `is`, found `3`")]
    #[case("x between 1", "expected `and` after `between …`, found the end")]
    #[case("a + ", "expected a column or a calculation, found the end")]
    #[case("* a", "expected a column or a calculation, found `*`")]
    #[case("“x”", "`“` is a typographic quotation mark")]
    fn a_mistake_says_what_was_found(#[case] text: &str, #[case] message: &str) {
        assert_eq!(read(text).unwrap_err().message, message);
    }

    #[test]
    fn nesting_has_a_limit_instead_of_a_crash() {
        for text in
            ["(".repeat(100_000), "-".repeat(100_000), "1+".repeat(100_000), "not ".repeat(9999)]
        {
            assert!(read(&text).is_err());
        }
    }

    proptest! {
        #[test]
        fn no_text_makes_it_panic_and_every_place_lies_in_the_text(text in "\\PC{0,40}") {
            if let Err(m) = read(&text) {
                prop_assert!(m.span.end <= text.len() && text.is_char_boundary(m.span.start) && text.is_char_boundary(m.span.end));
            }
        }

        #[test]
        fn no_soup_of_its_own_words_makes_it_panic(
            words in proptest::collection::vec(proptest::sample::select(vec![
                "sum", "(", ")", ",", "'a'", "\"b\"", "1", "-", "and", "not", "in", "between", "is",
                "missing", "where", "per", "along", "desc", "during", ".", "=", "<>", "x", "+", "if",
                "distinct", "at", "least", "taking",
            ]), 0..25)
        ) {
            let _ = read(&words.join(" "));
        }
    }
}
