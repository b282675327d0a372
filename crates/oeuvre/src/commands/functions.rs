//! `oeuvre functions`: the words of the language, from the table that the parser uses, with their
//! examples worked out on the demo data.

use crate::args::FunctionsArgs;
use crate::deliver::deliver;
use crate::demo;
use crate::failure::Failure;
use crate::run::summarize;
use oeuvre_columns::names::nearest;
use oeuvre_core::language::clauses::{self, CLAUSES, ClauseRow, ExampleIn};
use oeuvre_core::language::elsewhere;
use oeuvre_core::language::functions::{Call, Function, all, find, names};
use oeuvre_core::{Error, Request, Show, SourceText};
use oeuvre_data::ReadOptions;
use std::fmt::Write as _;

/// How many bookings the examples are worked out on: those that the demo writes.
const ROWS: u64 = 20_000;

pub(crate) fn run(args: &FunctionsArgs) -> Result<(), Failure> {
    let word = args.word.join(" ");
    let text = match (find(&word), clauses::find(&word)) {
        (Some(function), _) => detail(function, &examples(&[Example::of(function)])?[0]),
        (None, Some(clause)) => clause_detail(clause, &examples(&[Example::of_clause(clause)])?[0]),
        (None, None) if !word.is_empty() => match found(&word) {
            text if text.is_empty() => return Err(unknown(&word).into()),
            text => text,
        },
        _ if args.markdown => {
            let all: Vec<&Function> = all().collect();
            let functions = examples(&all.iter().map(|f| Example::of(f)).collect::<Vec<_>>())?;
            let clauses = examples(&CLAUSES.iter().map(Example::of_clause).collect::<Vec<_>>())?;
            markdown(&all, &functions, &clauses)
        }
        _ => list(),
    };
    deliver(None, |out| out.write_all(text.as_bytes()))
}

/// Where a function stands among the [`PARTS`].
fn part(function: &Function) -> usize {
    match function.call {
        Call::Aggregate(_) => 0,
        Call::Table(_) => 1,
        Call::Row(_) => 2,
    }
}

const PARTS: [&str; 3] = [
    "For each group of rows",
    "On the finished table, or over the rows of a detail",
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
        for f in all().filter(|f| part(f) == i) {
            let _ = writeln!(text, "  {:<16} {}", f.name, f.meaning);
        }
        text.push('\n');
    }
    let _ = writeln!(text, "{CLAUSES_TITLE}:");
    for c in CLAUSES {
        let _ = writeln!(text, "  {:<16} {}", c.word, c.meaning);
    }
    text.push_str("\noeuvre functions WORD says more about one, with an example.\n");
    text
}

const CLAUSES_TITLE: &str = "Inside the parentheses of a function";

/// The words in whose description a word stands, or that are called so elsewhere; empty for none.
fn found(word: &str) -> String {
    let small = word.to_lowercase();
    let ours = elsewhere::function(word).or_else(|| elsewhere::clause(word));
    let says = |texts: &[&str]| texts.iter().any(|t| t.to_lowercase().contains(&small));
    let named = |name: &str| ours.is_some_and(|ours| ours.contains(&format!("{name}(")));
    let functions = all().filter(|f| named(f.name) || says(&[f.name, f.meaning, f.usage]));
    let clauses = CLAUSES.iter().filter(|c| says(&[c.word, c.meaning, c.usage]));
    let lines = functions.map(|f| (f.name, f.meaning));
    let lines: Vec<(&str, &str)> = lines.chain(clauses.map(|c| (c.word, c.meaning))).collect();
    let mut text = match ours {
        Some(ours) => format!("`{word}` is written {} here\n", ours.replace('`', "")),
        None => String::new(),
    };
    for (name, meaning) in &lines {
        let _ = writeln!(text, "  {name:<16} {meaning}");
    }
    if !lines.is_empty() {
        text.push_str("\noeuvre functions WORD says more about one, with an example.\n");
    }
    text
}

/// There is no such word; what may be meant.
fn unknown(word: &str) -> Error {
    let ours = elsewhere::function(word)
        .or_else(|| elsewhere::clause(word))
        .map(|ours| ours.replace('`', ""));
    let all = names().chain(CLAUSES.iter().map(|c| c.word));
    let help = match (ours, nearest(word, all).first()) {
        (Some(ours), _) => format!("write {ours}"),
        (None, Some(near)) => format!("did you mean `{near}`?"),
        (None, None) => "oeuvre functions lists all of them".to_owned(),
    };
    Error::request_with_help(format!("there is no function `{word}`"), help)
}

fn clause_detail(c: &ClauseRow, result: &str) -> String {
    let mut text = format!("{}\n    {}\n", c.usage, c.meaning);
    let taking: Vec<&str> =
        all().filter(|f| f.clauses.iter().any(|w| w.text() == c.word)).map(|f| f.name).collect();
    if !taking.is_empty() {
        let _ = writeln!(text, "stands in\n    {}", taking.join(", "));
    }
    let table = in_table(c.example_in);
    let _ = writeln!(text, "on the demo data{table}\n    {} gives {result}", c.example);
    text
}

/// Where an example stands, in words.
fn in_table(place: ExampleIn) -> &'static str {
    match place {
        ExampleIn::Months => ", in a table by month, for 2023-03",
        ExampleIn::Detail => ", in a detail, on the first row",
        ExampleIn::OneLine => "",
    }
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
    let table = in_table(Example::of(f).place);
    let _ = writeln!(text, "on the demo data{table}\n    {} gives {result}", f.example);
    text
}

fn markdown(all: &[&Function], results: &[String], of_clauses: &[String]) -> String {
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
    let _ = write!(
        text,
        "\n## {CLAUSES_TITLE}\n\n| written | means | example | its result |\n|---|---|---|---|\n"
    );
    for (c, result) in CLAUSES.iter().zip(of_clauses) {
        let table = in_table(c.example_in).trim_start_matches(", ");
        let table = if table.is_empty() { String::new() } else { format!(" ({table})") };
        let _ = writeln!(
            text,
            "| `{}` | {} | `{}` | {}{table} |",
            plain(c.usage),
            plain(c.meaning),
            plain(c.example),
            plain(result)
        );
    }
    text
}

/// A calculation to be worked out on the demo data.
struct Example {
    calc: &'static str,
    place: ExampleIn,
}

impl Example {
    fn of(function: &Function) -> Example {
        let place = if part(function) == 1 { ExampleIn::Months } else { ExampleIn::OneLine };
        Example { calc: function.example, place }
    }

    fn of_clause(clause: &ClauseRow) -> Example {
        Example { calc: clause.example, place: clause.example_in }
    }
}

/// The results of the functions' examples on the demo data.
fn examples(all: &[Example]) -> Result<Vec<String>, Failure> {
    let folder = tempfile::tempdir().map_err(|e| Failure::writing("the temporary folder", &e))?;
    let path = folder.path().join("bookings.csv");
    deliver(Some(&path), |out| demo::bookings(ROWS, out).map(|_| ()))?;
    let file = path.display().to_string();
    let mut results = vec![String::new(); all.len()];
    for place in [ExampleIn::OneLine, ExampleIn::Months, ExampleIn::Detail] {
        let chosen: Vec<usize> = (0..all.len()).filter(|&i| all[i].place == place).collect();
        if chosen.is_empty() {
            continue;
        }
        let in_months = place == ExampleIn::Months;
        let by = if in_months { vec![SourceText::new("example", EXAMPLE_KEY)] } else { Vec::new() };
        let line = if in_months { EXAMPLE_LINE } else { 0 };
        let show = chosen.iter().map(|&i| Show::parse("example", all[i].calc)).collect();
        let listing = place == ExampleIn::Detail;
        let request = Request { show, by, listing, ..Request::default() };
        let (grid, ..) = summarize(
            std::slice::from_ref(&file),
            ReadOptions::default(),
            &request,
            (1, false),
            &oeuvre_render::Style::default(),
        )?;
        for (column, i) in chosen.into_iter().enumerate() {
            results[i] = grid.cell(line, column).to_string();
        }
    }
    Ok(results)
}
