//! Cells named by their keys and labels: `route = SKE, month = 2025-03`.

use oeuvre_columns::quoting::outside_quotes;
use oeuvre_core::{AtLabel, Error, Show, SourceText};
use std::sync::Arc;

/// Keys as written, each with its label.
pub(crate) type Keys = Vec<(Arc<SourceText>, AtLabel)>;

/// Reads `route = SKE, "a key" = 'a label'`: each key as written, with its label.
///
/// A bare label is that of the only key down the side; `Total` alone names no key.
pub(crate) fn read(option: &str, text: &str, by: &[Arc<SourceText>]) -> Result<Keys, Error> {
    let mut out = Vec::new();
    let mut rest = text.trim();
    if rest == "Total" {
        return Ok(out);
    }
    let bare = !rest.is_empty() && key_end(rest).is_none() && !rest.contains(['\'', ',']);
    if let ([by], true) = (by, bare) {
        let only = Show::parse_all(option, &by.text);
        let is_key = only.iter().any(|k| k.calc.text.trim() == rest);
        if let ([key], false) = (only.as_slice(), is_key || by.text.contains(',')) {
            let name = key.heading.as_ref().map(|h| format!("\"{}\"", h.replace('"', "\"\"")));
            let key = SourceText::new(option, name.unwrap_or_else(|| key.calc.text.clone()));
            return Ok(vec![(key, AtLabel { text: rest.to_owned(), quoted: false })]);
        }
    }
    while !rest.is_empty() {
        let problem = |what: &str| {
            Error::request_with_help(
                format!("{option} '{}' {what}", text.trim()),
                format!(
                    "write {option} 'KEY = LABEL', such as {option} 'route = SKE, month = 2025-03'; a label with a comma or quotes stands in single quotes, a key with signs in double quotes"
                ),
            )
        };
        let end = key_end(rest).ok_or_else(|| problem("names no label"))?;
        let key = SourceText::new(option, rest[..end].trim());
        rest = rest[end + 1..].trim_start();
        let label = if rest.starts_with('\'') {
            let (label, len) =
                quoted(rest).ok_or_else(|| problem("has a quote that is not closed"))?;
            rest = rest[len..].trim_start();
            if !rest.is_empty() && !rest.starts_with(',') {
                return Err(problem("goes on behind a label in quotes"));
            }
            AtLabel { text: label, quoted: true }
        } else {
            let end = rest.find(',').unwrap_or(rest.len());
            let label = rest[..end].trim().to_owned();
            rest = &rest[end..];
            AtLabel { text: label, quoted: false }
        };
        out.push((key, label));
        rest = rest.strip_prefix(',').unwrap_or(rest).trim_start();
    }
    Ok(out)
}

/// Where the key ends: at the first equals sign outside quotes and parentheses.
fn key_end(text: &str) -> Option<usize> {
    outside_quotes(text).find(|o| o.1 == '=' && o.2 == 0).map(|o| o.0)
}

/// A text in single quotes, in which a doubled quote stands for itself, and how long it is with them.
fn quoted(text: &str) -> Option<(String, usize)> {
    let mut out = String::new();
    let mut chars = text.char_indices().skip(1).peekable();
    while let Some((at, c)) = chars.next() {
        match c {
            '\'' if chars.peek().is_some_and(|n| n.1 == '\'') => {
                chars.next();
                out.push(c);
            }
            '\'' => return Some((out, at + 1)),
            c => out.push(c),
        }
    }
    None
}
