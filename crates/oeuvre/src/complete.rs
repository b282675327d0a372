//! What can be completed on a command line: the columns of the files that stand on it, and the words of the language.
//!
//! The shell calls the program itself with the line so far (`clap_complete`'s protocol), so that what it offers is
//! what the program knows. Nothing here may fail: where a file cannot be read there is nothing to offer.

use clap_complete::engine::{ArgValueCompleter, CompletionCandidate};
use oeuvre_columns::Source;
use oeuvre_columns::names::as_name;
use oeuvre_core::language::functions::all;
use oeuvre_data::{ReadOptions, open};
use std::ffi::OsStr;
use std::path::Path;

/// The environment variable by which a shell asks.
pub(crate) const VARIABLE: &str = "OEUVRE_COMPLETE";

/// How a value that is a calculation is completed.
pub(crate) fn calculations() -> ArgValueCompleter {
    ArgValueCompleter::new(|current: &OsStr| candidates(current, true))
}

/// How a value that is a list of columns is completed.
pub(crate) fn columns() -> ArgValueCompleter {
    ArgValueCompleter::new(|current: &OsStr| candidates(current, false))
}

fn candidates(current: &OsStr, with_words: bool) -> Vec<CompletionCandidate> {
    let Some(text) = current.to_str() else { return Vec::new() };
    // The last name that has been begun; what stands before it stays.
    let is_part = |c: char| c.is_alphanumeric() || c == '_' || c == '"';
    let start = text
        .rfind(|c: char| !is_part(c))
        .map_or(0, |at| at + text[at..].chars().next().map_or(1, char::len_utf8));
    let (before, begun) = text.split_at(start);
    let begun = begun.trim_start_matches('"').to_lowercase();
    let mut found: Vec<(String, &str)> = Vec::new();
    for column in columns_on_the_line() {
        if column.to_lowercase().starts_with(&begun) {
            found.push((as_name(&column), ""));
        }
    }
    if with_words && !begun.is_empty() {
        for function in all().filter(|f| f.name.starts_with(&begun)) {
            found.push((format!("{}(", function.name), function.meaning));
        }
    }
    found
        .into_iter()
        .map(|(name, help)| {
            let it = CompletionCandidate::new(format!("{before}{name}"));
            if help.is_empty() { it } else { it.help(Some(help.into())) }
        })
        .collect()
}

/// The columns of the files that stand on the line already, lookups among them.
fn columns_on_the_line() -> Vec<String> {
    let words = std::env::args().skip(1).skip_while(|word| word != "--");
    let mut all = Vec::new();
    for word in words {
        let file = match word.split_once('=') {
            Some((_, file)) if !Path::new(&word).exists() => file.to_owned(),
            _ => word,
        };
        // A large file in another encoding would be decoded whole only to be asked its headings.
        if Path::new(&file).is_file()
            && let Ok(input) = open(&[file], ReadOptions::default())
        {
            all.extend(Source::columns(input.as_ref()).into_iter().map(|c| c.name));
        }
    }
    let mut seen = std::collections::HashSet::new();
    all.retain(|name| seen.insert(name.clone()));
    all
}
