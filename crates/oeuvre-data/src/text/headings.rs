//! Headings, whatever stands them in a file: they must be there and differ.

use indexmap::IndexSet;
use oeuvre_columns::{DataProblem, ReadError};

/// The longest heading, in bytes: a longer one is no heading, and no message could show it.
const LONGEST: usize = 1000;

/// The help for lines above the headings.
pub(crate) fn skip(lines: usize) -> String {
    format!("where a title stands above the headings: --skip-lines {lines}")
}

/// Headings must be there and differ. `problem` makes a mistake of the place where they stand of a message;
/// `title_lines` says how many lines above them look like titles.
pub(crate) fn check(
    names: &[String],
    problem: impl Fn(String) -> DataProblem,
    title_lines: Option<usize>,
) -> Result<(), ReadError> {
    let example = || {
        let mut seen = IndexSet::new();
        for (i, n) in names.iter().enumerate() {
            let mut new = if n.is_empty() { format!("column_{}", i + 1) } else { n.clone() };
            while seen.contains(&new) {
                new.push_str("_2");
            }
            seen.insert(new);
        }
        let all: Vec<String> = seen.into_iter().collect();
        format!("name all of them: --headings '{}'", all.join(","))
    };
    if let Some(at) = names.iter().position(|n| n.len() > LONGEST) {
        let message = format!("heading {} has {} bytes: are these rows?", at + 1, names[at].len());
        return Err(problem(message)
            .help("a first line with short headings is expected; --no-headings where there is none")
            .into());
    }
    let refused = |message: String| {
        let it = problem(message);
        match title_lines {
            Some(lines) => it.help(skip(lines)).into(),
            None => it.help(example()).into(),
        }
    };
    if let Some(at) = names.iter().position(String::is_empty) {
        return Err(refused(format!("heading {} of {} is empty", at + 1, names.len())));
    }
    let mut sorted: Vec<&String> = names.iter().collect();
    sorted.sort();
    if let Some(twice) = sorted.windows(2).find(|w| w[0] == w[1]) {
        return Err(refused(format!("the heading `{}` stands twice", twice[0])));
    }
    Ok(())
}
