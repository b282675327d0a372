//! `oeuvre trace`: the rows behind one cell.

use super::Failure;
use super::summary::{deliver, settings};
use crate::args::TraceArgs;
use crate::surroundings;
use oeuvre_core::{Error, Written};
use oeuvre_data::CsvSource;
use oeuvre_render::write_trace;
use std::sync::Arc;

pub(crate) fn run(args: &TraceArgs) -> Result<(), Failure> {
    let of = &args.summary;
    let options = of.reading.to_options()?;
    let (request, look) = of.to_request(&options)?;
    let at = cell(&args.at)?;
    let threads = of.output.threads.map_or_else(surroundings::threads, usize::from);
    let settings = settings(&of.output, &look)?;
    let mut source = CsvSource::open(&of.files, options)?;
    let trace = loop {
        match oeuvre_core::trace(&request, &source, threads, &at) {
            Ok(trace) => break trace,
            Err(Error::Widen { column, to }) => source.widen(column, &to),
            Err(error) => return Err(error.into()),
        }
    };
    let to = of.output.to.as_deref();
    deliver(to, |out| write_trace(&trace, settings, args.first, out))
}

/// Reads `route = SKE, month = 2025-03`: each key as written, with its label.
fn cell(text: &str) -> Result<Vec<(Arc<Written>, String)>, Error> {
    let mut parts = vec![String::new()];
    let mut quote = None;
    let mut depth = 0;
    for c in text.chars() {
        match (quote, c) {
            (None, '\'' | '"') => quote = Some(c),
            (Some(q), _) if q == c => quote = None,
            (None, '(') => depth += 1,
            (None, ')') => depth -= 1,
            (None, ',') if depth == 0 => {
                parts.push(String::new());
                continue;
            }
            _ => {}
        }
        parts.last_mut().unwrap_or(&mut String::new()).push(c);
    }
    let part = |part: &String| {
        let (key, label) = part.split_once('=').ok_or_else(|| {
            Error::request_with_help(
                format!("--at '{}' names no label", part.trim()),
                "write --at 'KEY = LABEL', such as --at 'route = SKE, month = 2025-03'",
            )
        })?;
        let label = label.trim();
        let bare = label.strip_prefix('\'').and_then(|l| l.strip_suffix('\''));
        Ok((Written::new("--at", key.trim()), bare.unwrap_or(label).to_owned()))
    };
    parts.iter().filter(|p| !p.trim().is_empty()).map(part).collect()
}
