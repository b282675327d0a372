//! `oeuvre demo`: data of a made-up ferry company, and what can be asked of it.

use crate::args::DemoArgs;
use crate::deliver::deliver;
use crate::demo::{self, FILES};
use crate::environment;
use crate::failure::Failure;
use crate::report;
use crate::run::summarize;
use oeuvre_core::{ChangesRequest, Error, Request, Show, SourceText, Totals, changes};
use oeuvre_data::ReadOptions;
use oeuvre_render::{Format, Settings, Style, TextSettings};
use std::io::{self, BufRead, BufReader, Write};
use std::path::Path;

/// A question with the request that answers it.
struct Question {
    asks: &'static str,
    by: &'static str,
    show: &'static [&'static str],
    filter: Option<&'static str>,
    sort: Option<&'static str>,
    totals: Totals,
}

/// Requests of more rows than this are not answered right away.
const MOST_ROWS_SHOWN: u64 = 100_000;

const QUESTIONS: [Question; 4] = [
    Question {
        asks: "How much does each route bring in, and who travels on it?",
        by: "route",
        show: &[
            "Bookings: count()",
            "Revenue: sum(fare * passengers)",
            "Customers: count(distinct customer_id)",
        ],
        filter: Some("status = 'sailed'"),
        sort: Some("Revenue desc"),
        totals: Totals::Grand,
    },
    Question {
        asks: "How does it grow from year to year, and when is the season?",
        by: "year(sailed_on),quarter_name(sailed_on)",
        show: &[
            "Passengers: sum(passengers)",
            "Revenue: sum(fare * passengers)",
            "Mean fare: mean(fare)",
        ],
        filter: Some("status = 'sailed'"),
        sort: None,
        totals: Totals::All,
    },
    Question {
        asks: "Which vessels are late?",
        by: "vessel",
        show: &[
            "Sailings with a delay noted: count(delay_min)",
            "Median: median(delay_min)",
            "Mean: mean(delay_min)",
            "Worst: max(delay_min)",
        ],
        filter: None,
        sort: Some("Mean desc"),
        totals: Totals::Grand,
    },
    Question {
        asks: "How are tickets bought, and how many bookings are cancelled?",
        by: "channel",
        show: &[
            "Bookings: count()",
            "Cancelled: count(where status = 'cancelled')",
            "Cancelled part: count(where status = 'cancelled') / count()",
        ],
        filter: None,
        sort: None,
        totals: Totals::Grand,
    },
];

impl Question {
    fn request(&self) -> Request {
        Request {
            show: self.show.iter().map(|s| Show::parse("--show", s)).collect(),
            by: vec![SourceText::new("--by", self.by)],
            filters: self.filter.iter().map(|f| SourceText::new("--where", *f)).collect(),
            sort: self.sort.map(|s| SourceText::new("--sort", s)),
            totals: self.totals,
            for_reading: true,
            ..Request::default()
        }
    }

    /// The command that asks the question.
    fn command(&self, file: &str) -> String {
        let quoted = |s: &str| {
            if s.contains('\'') { format!("\"{s}\"") } else { format!("'{s}'") }
        };
        let mut lines = vec![format!("oeuvre summary {file} --by {}", quoted(self.by))];
        if let Some(filter) = self.filter {
            lines.push(format!("--where {}", quoted(filter)));
        }
        lines.extend(self.show.iter().map(|s| format!("--show {}", quoted(s))));
        let sort = self.sort.map(|s| format!("--sort {} ", quoted(s))).unwrap_or_default();
        let totals = if self.totals == Totals::All { "--totals" } else { "--totals=grand" };
        lines.push(format!("{sort}{totals}"));
        lines.join(" \\\n    ")
    }
}

pub(crate) fn run(args: &DemoArgs) -> Result<(), Failure> {
    let dir = &args.dir;
    let shown = dir.display().to_string();
    let failed = |e: io::Error| Failure::writing(&shown, &e);
    refuse_strangers(dir)?;
    std::fs::create_dir_all(dir).map_err(failed)?;
    let mut revenue = 0;
    deliver(Some(&dir.join(FILES[0].0)), |out| {
        revenue = demo::bookings(args.rows, out)?;
        Ok(())
    })?;
    deliver(Some(&dir.join(FILES[1].0)), demo::routes)?;
    deliver(Some(&dir.join(FILES[2].0)), demo::targets)?;
    deliver(Some(&dir.join(FILES[3].0)), |out| demo::report(revenue, out))?;
    let mut page = Vec::new();
    write_page(args, &mut page)?;
    deliver(None, |out| out.write_all(&page))
}

fn write_page(args: &DemoArgs, page: &mut Vec<u8>) -> Result<(), Failure> {
    let bookings = args.dir.join(FILES[0].0).display().to_string();
    let failed = |e: io::Error| Failure::writing("standard output", &e);
    let dir = args.dir.display();
    writeln!(page, "The bookings of a made-up ferry company are in {dir}:\n").map_err(failed)?;
    for (name, what) in FILES {
        writeln!(page, "  {name:<13} {what}").map_err(failed)?;
    }
    if args.rows <= MOST_ROWS_SHOWN {
        for question in &QUESTIONS {
            writeln!(page, "\n\n{}\n\n$ {}\n", question.asks, question.command(&bookings))
                .map_err(failed)?;
            let files = std::slice::from_ref(&bookings);
            let (grid, ledger, _) = summarize(
                files,
                ReadOptions::default(),
                &question.request(),
                (environment::threads(), false),
                &Style::default(),
            )?;
            let text = TextSettings {
                width_cols: environment::terminal_width(),
                color: environment::color(environment::Color::Auto, &io::stdout()),
            };
            let style = Style::default();
            let settings = Settings {
                style: &style,
                format: Format::default(),
                text,
                with_ledger: false,
                beside: None,
                threads: 1,
            };
            oeuvre_render::write(&grid, &ledger, settings, page).map_err(failed)?;
        }
    }
    let report = args.dir.join(FILES[3].0).display().to_string();
    if args.rows <= MOST_ROWS_SHOWN {
        write_report(&args.dir, &report, page)?;
    }
    writeln!(page, "\n\nTry next:\n").map_err(failed)?;
    for line in [
        format!(
            "oeuvre summary {bookings} --by 'ticket,weekday(sailed_on)' --show 'sum(passengers)' --totals"
        ),
        format!("oeuvre report {report} --given month=2025-07"),
        format!(
            "oeuvre summary {bookings} --by route --show 'sum(fare)' --where \"sailed_on during '2025-Q3'\" --as csv"
        ),
        "oeuvre summary --help".to_owned(),
    ] {
        writeln!(page, "  {line}").map_err(failed)?;
    }
    Ok(())
}

/// What the report is written as, beside its file.
const DOCUMENTS: [&str; 4] = ["monthly.html", "monthly.xlsx", "november.json", "december.json"];

/// Two months whose reports are compared, by the file of each.
const MONTHS: [(&str, &str); 2] = [("2025-11", "november.json"), ("2025-12", "december.json")];

/// Runs the report into a page and a workbook, and traces one of its figures.
fn write_report(dir: &Path, report: &str, page: &mut Vec<u8>) -> Result<(), Failure> {
    let failed = |e: io::Error| Failure::writing("standard output", &e);
    let threads = environment::threads();
    let definition = report::read(Path::new(report))?;
    writeln!(page, "\n\nThe monthly report, as a page and as a workbook:\n").map_err(failed)?;
    let mut checks = String::new();
    for name in &DOCUMENTS[..2] {
        let to = dir.join(name);
        let Some(format) = Format::of_ending(name) else { continue };
        let none = &[];
        let for_reading = format.is_for_reading();
        let asked = report::Asked {
            files: none,
            given: none,
            only: none,
            for_reading,
            threads,
            parts_in: None,
        };
        let finished = report::run(&mut report::prepare(&definition, asked)?, threads, None)?;
        let document = finished.document(None, format.explains());
        let (style, text) = (Style::default(), TextSettings::default());
        let settings =
            Settings { style: &style, format, text, with_ledger: true, beside: None, threads: 1 };
        deliver(Some(&to), |out| oeuvre_render::write_document(&document, settings, out))?;
        writeln!(page, "$ oeuvre report {report} --to {}", to.display()).map_err(failed)?;
        checks = oeuvre_render::document_checks_text(&document, false);
    }
    writeln!(page, "\n{checks}").map_err(failed)?;
    let (table, at) = ("revenue-by-coast", "coast = North, quarter = 2025-Q3");
    writeln!(page, "Where one of its figures comes from:\n").map_err(failed)?;
    writeln!(page, "$ oeuvre trace {report} --in {table} --at '{at}' --first 3\n")
        .map_err(failed)?;
    let (trace, style) = super::trace::of_report(&definition, table, at, threads)?;
    let text = TextSettings { width_cols: environment::terminal_width(), color: false };
    let settings = Settings {
        style: &style,
        format: Format::default(),
        text,
        with_ledger: false,
        beside: None,
        threads: 1,
    };
    oeuvre_render::write_trace(&trace, settings, 3, page).map_err(failed)?;
    write_changes(dir, report, &definition, page)
}

/// Compares the delays of two months: the report of each as JSON, and what changed between them.
fn write_changes(
    dir: &Path,
    report: &str,
    definition: &report::Definition,
    page: &mut Vec<u8>,
) -> Result<(), Failure> {
    let failed = |e: io::Error| Failure::writing("standard output", &e);
    let threads = environment::threads();
    writeln!(page, "\n\nWhat changed in the delays from November to December:\n")
        .map_err(failed)?;
    let (style, text) = (Style::default(), TextSettings::default());
    let mut saved = Vec::new();
    for (month, name) in MONTHS {
        let to = dir.join(name);
        let Some(format) = Format::of_ending(name) else { continue };
        let given = [format!("month={month}")];
        let asked = report::Asked {
            files: &[],
            given: &given,
            only: &[],
            for_reading: false,
            threads,
            parts_in: None,
        };
        let finished = report::run(&mut report::prepare(definition, asked)?, threads, None)?;
        let document = finished.document(None, false);
        let settings =
            Settings { style: &style, format, text, with_ledger: true, beside: None, threads: 1 };
        deliver(Some(&to), |out| oeuvre_render::write_document(&document, settings, out))?;
        let shown = to.display().to_string();
        writeln!(page, "$ oeuvre report {report} --given month={month} --to {shown}")
            .map_err(failed)?;
        saved.push((oeuvre_data::read_saved(&shown, &[], ReadOptions::default())?, shown));
    }
    let [(old, old_name), (new, new_name)] = saved.as_slice() else { return Ok(()) };
    let filter = "part = 'delays' and vessel = 'Kittiwake'";
    writeln!(page, "$ oeuvre compare {old_name} {new_name} --only-changed --where \"{filter}\"\n")
        .map_err(failed)?;
    let request = ChangesRequest {
        filters: vec![SourceText::new("--where", filter)],
        only_changed: true,
        names: [old_name.clone(), new_name.clone()],
        ..ChangesRequest::default()
    };
    let found = changes(old, new, &request)?;
    let style = Style { formats: super::compare::formats(&found), ..style };
    let text = TextSettings { width_cols: environment::terminal_width(), color: false };
    let settings = Settings {
        style: &style,
        format: Format::default(),
        text,
        with_ledger: false,
        beside: None,
        threads: 1,
    };
    oeuvre_render::write(&found.grid, &found.ledger, settings, page).map_err(failed)
}

/// Files of the same name that are not the demo's are not written over.
fn refuse_strangers(dir: &Path) -> Result<(), Failure> {
    let stranger = DOCUMENTS.map(|name| dir.join(name)).into_iter().find(|path| path.exists());
    if let (Some(path), false) = (stranger, dir.join(FILES[3].0).exists()) {
        return Err(is_there(&path).into());
    }
    for (name, _) in FILES {
        let path = dir.join(name);
        let Ok(file) = std::fs::File::open(&path) else { continue };
        let mut first = String::new();
        let _ = BufReader::new(io::Read::take(file, 4096)).read_line(&mut first);
        if first.trim_end() != demo::heading(name) {
            return Err(is_there(&path).into());
        }
    }
    Ok(())
}

fn is_there(path: &Path) -> Error {
    Error::request_with_help(
        format!("{} is there already, and is not a file of the demo", path.display()),
        "name another folder: oeuvre demo DIR",
    )
}
