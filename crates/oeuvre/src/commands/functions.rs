//! `oeuvre functions`: the words of the language, from the table that the parser uses, with their
//! examples worked out on the demo data.

use super::Failure;
use super::summary::{deliver, summarize};
use crate::args::FunctionsArgs;
use crate::demo;
use oeuvre_core::language::functions::{Call, FUNCTIONS, Function, find, names};
use oeuvre_core::{Error, Request, Show, Written, nearest};
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

/// Where a function stands among the [`PARTS`].
fn part(function: &Function) -> usize {
    match function.call {
        Call::Aggregate { .. } => 0,
        Call::Table(_) => 1,
        Call::Row(_) => 2,
    }
}

const PARTS: [&str; 3] = [
    "For each group of rows",
    "On the finished table, or over the rows of a listing",
    "For each row, or between results",
];

/// The table that the examples of the second part stand in.
const EXAMPLE_KEY: &str = "month(sailed_on)";
/// The line that is shown of it, counted from 0.
const EXAMPLE_LINE: usize = 2;

fn list() -> String {
    let mut text = String::new();
    for (i, title) in PARTS.iter().enumerate() {
        let _ = writeln!(text, "{title}:");
        for f in FUNCTIONS.iter().filter(|f| part(f) == i) {
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
    let table = if part(f) == 1 { ", in a table by month, for 2023-03" } else { "" };
    let _ = writeln!(text, "on the demo data{table}\n    {} gives {result}", f.example);
    text
}

fn markdown(all: &[&Function], results: &[String]) -> String {
    let mut text = String::from(
        "# Functions\n\nMade by `oeuvre functions --markdown`; the examples are worked out on the demo data.\n",
    );
    let plain = |s: &str| s.replace('|', "\\|");
    for (i, title) in PARTS.iter().enumerate() {
        let example = match i {
            1 => "in a table by month, for 2023-03",
            _ => "its result",
        };
        let _ = write!(
            text,
            "\n## {title}\n\n| written | gives | missing values | example | {example} |\n|---|---|---|---|---|\n"
        );
        for (f, result) in all.iter().zip(results).filter(|(f, _)| part(f) == i) {
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
    let file = path.display().to_string();
    let mut results = vec![String::new(); functions.len()];
    for on_table in [false, true] {
        let chosen: Vec<usize> =
            (0..functions.len()).filter(|&i| (part(functions[i]) == 1) == on_table).collect();
        if chosen.is_empty() {
            continue;
        }
        let by = if on_table { vec![Written::new("example", EXAMPLE_KEY)] } else { Vec::new() };
        let line = if on_table { EXAMPLE_LINE } else { 0 };
        let show = chosen.iter().map(|&i| Show::parse("example", functions[i].example)).collect();
        let request = Request { show, by, ..Request::default() };
        let (grid, _) = summarize(
            std::slice::from_ref(&file),
            CsvOptions::default(),
            &request,
            1,
            &|_| Ok(()),
        )?;
        for (column, i) in chosen.into_iter().enumerate() {
            results[i] = grid.cell(line, column).to_string();
        }
    }
    Ok(results)
}
