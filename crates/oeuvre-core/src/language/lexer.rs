//! Text to tokens.
//!
//! Bytes are looked at once, from the left. A token keeps its byte range; single quotes hold texts and double
//! quotes names, each doubled to stand inside.

use crate::error::{Diagnostic, Given, SourceText, nearest};
use oeuvre_columns::value::decimal::Decimal;
use std::ops::Range;
use std::sync::Arc;

/// One token.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Token {
    Number(Decimal),
    /// In single quotes.
    Text(String),
    /// A bare word: a name, a function or a word of the language.
    Word(String),
    /// A name in double quotes.
    Quoted(String),
    /// An operator or a bracket.
    Sign(&'static str),
    End,
}

/// A token and its byte range.
#[derive(Clone, Debug)]
pub(crate) struct Spanned {
    pub(crate) token: Token,
    pub(crate) span: Range<usize>,
}

const SIGNS: [&str; 14] = ["<>", "<=", ">=", "(", ")", ",", "+", "-", "*", "/", "=", "<", ">", "."];
/// Two signs that mean what another does.
const SAME: [(&str, &str); 2] = [("!=", "<>"), ("==", "=")];
/// Signs that people bring from elsewhere, and what is written here.
const FOREIGN: [(&str, &str); 6] =
    [("&&", "and"), ("||", "or"), ("≠", "<>"), ("≤", "<="), ("≥", ">="), ("!", "not")];

/// Splits a calculation into tokens; the last one is [`Token::End`].
pub(crate) fn tokens(written: &Arc<SourceText>) -> Result<Vec<Spanned>, Diagnostic> {
    let text = written.text.as_str();
    let mut out = Vec::new();
    let mut at = 0;
    while let Some(c) = text[at..].chars().next() {
        let rest = &text[at..];
        let start = at;
        let token = if c.is_whitespace() {
            at += c.len_utf8();
            continue;
        } else if c == '\'' || c == '"' {
            let (value, len) = quoted(written, start, c)?;
            at += len;
            if c == '\'' { Token::Text(value) } else { Token::Quoted(value) }
        } else if c == '$' {
            let (token, len) = given(written, start)?;
            at += len;
            token
        } else if c.is_ascii_digit() || (c == '.' && next_is_digit(rest)) {
            let len = number_len(rest);
            at += len;
            let digits = &text[start..at];
            let number = digits.parse::<Decimal>().map_err(|()| {
                Diagnostic::new(written, start..at, format!("`{digits}` is not a number"))
                    .label("expected digits and at most one point, such as 12.50")
            })?;
            Token::Number(number)
        } else if c.is_alphabetic() || c == '_' {
            let len = rest.find(|c: char| !c.is_alphanumeric() && c != '_').unwrap_or(rest.len());
            at += len;
            Token::Word(rest[..len].to_owned())
        } else if let Some((sign, ours)) = SAME.iter().find(|(s, _)| rest.starts_with(s)) {
            at += sign.len();
            Token::Sign(ours)
        } else if let Some((sign, ours)) = FOREIGN.iter().find(|(s, _)| rest.starts_with(s)) {
            return Err(Diagnostic::new(
                written,
                start..start + sign.len(),
                format!("`{sign}` is not a sign of this language"),
            )
            .label(format!("write `{ours}`")));
        } else if let Some(sign) = SIGNS.iter().find(|s| rest.starts_with(**s)) {
            at += sign.len();
            Token::Sign(sign)
        } else {
            let (message, label) = match c {
                '‘' | '’' | '“' | '”' => (
                    format!("`{c}` is a typographic quotation mark"),
                    "write ' around text and \" around names",
                ),
                '`' => ("a backtick does not quote anything".to_owned(), "write \" around names"),
                '%' => ("`%` is not a sign of this language".to_owned(), "write / 100"),
                '[' | ']' | '{' | '}' => (format!("`{c}` is not used here"), "write ( and )"),
                ';' => ("`;` is not used here".to_owned(), "arguments are separated by `,`"),
                _ => (format!("`{}` is not used here", c.escape_default()), "remove it"),
            };
            return Err(Diagnostic::new(written, start..start + c.len_utf8(), message).label(label));
        };
        out.push(Spanned { token, span: start..at });
    }
    out.push(Spanned { token: Token::End, span: text.len()..text.len() });
    Ok(out)
}

/// What a name behind a `$` stands for, and how long it is.
fn given(written: &SourceText, start: usize) -> Result<(Token, usize), Diagnostic> {
    let rest = &written.text[start + 1..];
    let len = rest.find(|c: char| !c.is_alphanumeric() && c != '_').unwrap_or(rest.len());
    let (name, mark) = (&rest[..len], start..start + 1 + len);
    let mistake = |message: String| Diagnostic::new(&Arc::new(written.clone()), mark, message);
    let Some(givens) = &written.given else {
        return Err(mistake("`$` stands for a value that is given to a report".to_owned())
            .label("write the value itself, a text in single quotes"));
    };
    match givens.get(name) {
        Some(Given::Number(number)) => Ok((Token::Number(*number), 1 + len)),
        Some(Given::Text(text)) => Ok((Token::Text(text.clone()), 1 + len)),
        None => {
            let near = nearest(name, givens.keys().map(String::as_str));
            let help = match near.first() {
                Some(near) => format!("did you mean `${near}`?"),
                None => "name it in [given]".to_owned(),
            };
            Err(mistake(format!("no value `${name}` is given")).help(help))
        }
    }
}

fn next_is_digit(rest: &str) -> bool {
    rest.as_bytes().get(1).is_some_and(u8::is_ascii_digit)
}

/// The length of a number, with letters stuck to it so that the message shows them too.
fn number_len(rest: &str) -> usize {
    rest.find(|c: char| !c.is_alphanumeric() && c != '.' && c != '_').unwrap_or(rest.len())
}

/// Reads a quoted text or name, in which a doubled quote stands for itself.
fn quoted(
    written: &Arc<SourceText>,
    start: usize,
    quote: char,
) -> Result<(String, usize), Diagnostic> {
    let body = &written.text[start + 1..];
    let mut value = String::new();
    let mut chars = body.char_indices().peekable();
    while let Some((i, c)) = chars.next() {
        if c != quote {
            value.push(c);
        } else if chars.peek().is_some_and(|(_, next)| *next == quote) {
            chars.next();
            value.push(quote);
        } else {
            return Ok((value, i + 2));
        }
    }
    let what = if quote == '\'' { "text" } else { "name" };
    Err(Diagnostic::new(written, start..written.text.len(), format!("this {what} does not end"))
        .label(format!("no closing {quote} follows")))
}
