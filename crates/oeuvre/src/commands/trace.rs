//! `oeuvre trace`: the rows behind one cell.

use crate::args::TraceArgs;
use crate::deliver::deliver_as;
use crate::environment;
use crate::failure::Failure;
use crate::present::settings;
use crate::run::planned;
use oeuvre_core::{AtLabel, Error, SourceText};
use oeuvre_data::open;
use oeuvre_render::write_trace;
use std::sync::Arc;

pub(crate) fn run(args: &TraceArgs) -> Result<(), Failure> {
    let of = &args.summary;
    let options = of.to_options()?;
    let (request, style) = of.to_request()?;
    let at = cell(&args.at)?;
    let threads = of.output.threads.map_or_else(environment::threads, usize::from);
    let settings = settings(&of.output, &style)?;
    let mut input = open(&of.files, options)?;
    let reads_as = |heading: &str, value: &oeuvre_columns::Value| style.reads_as(heading, value);
    let trace = planned(input.as_mut(), (&request, threads), &style, |plan, request, input| {
        oeuvre_core::trace(plan, request, input, threads, &at, &reads_as)
    })?;
    let to = of.output.to.as_deref();
    deliver_as(to, settings.format, |out| write_trace(&trace, settings, args.first, out))
}

/// Reads `route = SKE, "a key" = 'a label'`: each key as written, with its label.
fn cell(text: &str) -> Result<Vec<(Arc<SourceText>, AtLabel)>, Error> {
    let mut out = Vec::new();
    let mut rest = text.trim();
    while !rest.is_empty() {
        let problem = |what: &str| {
            Error::request_with_help(
                format!("--at '{}' {what}", text.trim()),
                "write --at 'KEY = LABEL', such as --at 'route = SKE, month = 2025-03'; a label with a comma or quotes stands in single quotes, a key with signs in double quotes",
            )
        };
        let end = key_end(rest).ok_or_else(|| problem("names no label"))?;
        let key = SourceText::new("--at", rest[..end].trim());
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
    let (mut quote, mut depth) = (None, 0);
    for (at, c) in text.char_indices() {
        match (quote, c) {
            (None, '\'' | '"') => quote = Some(c),
            (Some(q), _) if q == c => quote = None,
            (None, '(') => depth += 1,
            (None, ')') => depth -= 1,
            (None, '=') if depth <= 0 => return Some(at),
            _ => {}
        }
    }
    None
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
