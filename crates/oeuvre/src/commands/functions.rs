//! `oeuvre functions`: the words of the language, from the table that the parser uses, with their
//! examples worked out on the demo data.

use super::Failure;
use super::summary::{deliver, summarize};
use crate::args::FunctionsArgs;
use crate::demo;
use oeuvre_core::language::functions::{Call, FUNCTIONS, Function, find, names};
use oeuvre_core::{Error, Request, Show, nearest};
use oeuvre_data::CsvOptions;
use std::fmt::Write as _;

/// How many bookings the examples are worked out on: those that the demo writes.
const ROWS: u64 = 20_000;

pub(crate) fn run(args: &FunctionsArgs) -> Result<(), Failure> {
    let text = match &args.word {
        Some(word) => {
            let function = find(word).ok_or_else(|| {
                let near = nearest(word, names());
                let help = match near.first() {
                    Some(near) => format!("did you mean `{near}`?"),
                    None => "oeuvre functions lists all of them".to_owned(),
                };
                Error::request_with_help(format!("there is no function `{word}`"), help)
            })?;
            let results = examples(&[function])?;
            detail(function, &results[0])
        }
        None if args.markdown => {
            let all: Vec<&Function> = FUNCTIONS.iter().collect();
            markdown(&all, &examples(&all)?)
        }
        None => list(),
    };
    deliver(None, |out| out.write_all(text.as_bytes()))
}

fn is_aggregate(function: &Function) -> bool {
    matches!(function.call, Call::Aggregate { .. })
}

const PARTS: [(bool, &str); 2] =
    [(true, "For each group of rows"), (false, "For each row, or between results")];

fn list() -> String {
    let mut text = String::new();
    for (aggregates, title) in PARTS {
        let _ = writeln!(text, "{title}:");
        for f in FUNCTIONS.iter().filter(|f| is_aggregate(f) == aggregates) {
            let _ = writeln!(text, "  {:<16} {}", f.name, f.meaning);
        }
        text.push('\n');
    }
    text.push_str("oeuvre functions WORD says more about one, with an example.\n");
    text
}

fn detail(f: &Function, result: &str) -> String {
    let mut text = format!("{}\n    {}\n", f.usage, f.meaning);
    let _ = writeln!(text, "missing values\n    {}", f.missing);
    if !f.clauses.is_empty() {
        let clauses: Vec<&str> = f.clauses.iter().map(|c| c.text()).collect();
        let _ = writeln!(text, "takes inside the parentheses\n    {}", clauses.join(", "));
    }
    if !f.aliases.is_empty() {
        let _ = writeln!(text, "also understood\n    {}", f.aliases.join(", "));
    }
    let _ = writeln!(text, "on the demo data\n    {} gives {result}", f.example);
    text
}

fn markdown(all: &[&Function], results: &[String]) -> String {
    let mut text = String::from(
        "# Functions\n\nMade by `oeuvre functions --markdown`; the examples are worked out on the demo data.\n",
    );
    let plain = |s: &str| s.replace('|', "\\|");
    for (aggregates, title) in PARTS {
        let _ = write!(
            text,
            "\n## {title}\n\n| written | gives | missing values | example | its result |\n|---|---|---|---|---|\n"
        );
        for (f, result) in all.iter().zip(results).filter(|(f, _)| is_aggregate(f) == aggregates) {
            let _ = writeln!(
                text,
                "| `{}` | {} | {} | `{}` | {} |",
                plain(f.usage),
                plain(f.meaning),
                plain(f.missing),
                plain(f.example),
                plain(result)
            );
        }
    }
    text
}

/// The results of the functions' examples on the demo data.
fn examples(functions: &[&Function]) -> Result<Vec<String>, Failure> {
    let folder = tempfile::tempdir().map_err(|e| Failure::writing("the temporary folder", &e))?;
    let path = folder.path().join("bookings.csv");
    deliver(Some(&path), |out| demo::bookings(ROWS, out))?;
    let request = Request {
        show: functions.iter().map(|f| Show::parse("example", f.example)).collect(),
        ..Request::default()
    };
    let file = path.display().to_string();
    let (grid, _) = summarize(&[file], CsvOptions::default(), &request, 1)?;
    Ok((0..grid.columns.len()).map(|c| grid.cell(0, c).to_string()).collect())
}
