//! From requests to a finished report: everything is planned before anything is read, then one pass a source
//! brings the rows to all parts.

use super::file::{Mistakes, Written};
use super::prepared::{
    FigureAt, Found, HeadlineAt, Job, MadeOf, Prepared, PreparedCheck, PreparedPart, WantedAt,
};
use crate::args::style::{columns_of, ensure_fits, ensure_fits_columns};
use crate::chart::{doubts, ensure_drawn, in_words, runs_along_periods};
use crate::failure::Failure;
use crate::parts::KeptParts;
use oeuvre_columns::names::{all_of, nearest};
use oeuvre_columns::{Kind, SavedTable, Source, Value};
use oeuvre_core::{
    ChangesRequest, Checked, ColumnsTop, Error, Figure, Grid, Ledger, Plan, Request, Section,
    cell_named, changes, respelt_all, run_all,
};
use oeuvre_data::settled;
use oeuvre_render::{ChartLook, Document, Named, Part, PartType, Settings, Style, TextSettings};
use std::collections::BTreeSet;
use std::path::Path;

/// What the columns of a headline are called that compare it with another figure.
const DIFFERENCE: &str = "difference";
const GROWTH: &str = "growth";

/// A report that has been run.
pub(crate) struct Finished {
    title: Option<String>,
    text: Option<String>,
    parts: Vec<FinishedPart>,
    checks: Vec<(Option<String>, Checked)>,
    notes: Vec<(String, Vec<String>)>,
    /// The accounts of the rows of checks, with what they are called.
    others: Vec<(String, Ledger)>,
}

struct FinishedPart {
    name: String,
    title: Option<String>,
    text: Option<String>,
    shows: PartType,
    grid: Grid,
    style: Style,
    ledger: Ledger,
    chart: Option<ChartLook>,
    explained: Vec<Section>,
}

/// What a job has made.
struct Done {
    grid: Grid,
    ledger: Ledger,
    style: Style,
    explained: Vec<Section>,
}

/// Runs a report; with a folder for its parts what has not changed is not read again.
pub(crate) fn run(
    prepared: &mut Prepared,
    threads: usize,
    parts_in: Option<&Path>,
) -> Result<Finished, Failure> {
    ensure_sound(prepared)?;
    let mut done: Vec<Option<Done>> = prepared.jobs.iter().map(|_| None).collect();
    let mut told = Vec::new();
    for source in 0..prepared.sources.len() {
        if let Some(folder) = parts_in {
            told.extend(of_parts(prepared, source, folder, threads, &mut done)?);
        }
        let jobs = &prepared.jobs;
        let is_open = |job: &usize| jobs[*job].source == source && done[*job].is_none();
        let of_source: Vec<usize> = (0..jobs.len()).filter(is_open).collect();
        let mut groups: Vec<Vec<usize>> = Vec::new();
        for job in of_source {
            let same = |g: &&mut Vec<usize>| {
                jobs[g[0]].request.one_spelling == jobs[job].request.one_spelling
            };
            match groups.iter_mut().find(same) {
                Some(group) => group.push(job),
                None => groups.push(vec![job]),
            }
        }
        let open = &mut prepared.sources[source];
        let files = &open.files;
        let made = settled(open.input.as_mut(), |input| {
            let mut made = Vec::new();
            for group in &groups {
                let requests: Vec<Request> =
                    group.iter().map(|&job| jobs[job].request.clone()).collect();
                let worked = match requests[0].one_spelling.is_empty() {
                    true => worked(&requests, input, threads)?,
                    false => {
                        let (source, requests) = respelt_all(input, &requests, threads)?;
                        worked(&requests, &source, threads)?
                    }
                };
                for (&job, (plan, grid, ledger)) in group.iter().zip(worked) {
                    made.push((job, done_of(&jobs[job], &plan, (grid, ledger), files)));
                }
            }
            Ok::<_, Error>(made)
        })?;
        for (job, it) in made {
            done[job] = Some(it);
        }
    }
    let mut finished = finish(prepared, &done.into_iter().flatten().collect::<Vec<_>>())?;
    finished.notes.extend(told.into_iter().map(|text| (text, Vec::new())));
    Ok(finished)
}

/// What is kept of a job's table, with what is told of a chart and how it was worked out.
fn done_of(job: &Job, plan: &Plan, (grid, mut ledger): (Grid, Ledger), files: &[String]) -> Done {
    let style = job.style.clone();
    if let Some(look) = &job.chart {
        ledger.notes.extend(doubts(look, plan, &grid, &style));
    }
    let explained = oeuvre_core::explain(&job.request, plan, files);
    Done { grid, ledger, style, explained }
}

/// Answers those jobs of a source from parts for which they serve, and says which files were read for them.
fn of_parts(
    prepared: &mut Prepared,
    source: usize,
    folder: &Path,
    threads: usize,
    done: &mut [Option<Done>],
) -> Result<Option<String>, Failure> {
    let (jobs, open) = (&prepared.jobs, &mut prepared.sources[source]);
    let mut served = Vec::new();
    for job in (0..jobs.len()).filter(|&job| jobs[job].source == source) {
        let request = &jobs[job].request;
        if settled(open.input.as_mut(), |input| KeptParts::serve(request, input))? {
            served.push(job);
        }
    }
    if served.is_empty() {
        return Ok(None);
    }
    let files = &open.files;
    let Some(kept) = KeptParts::of(folder, (files, &open.options), threads) else {
        return Ok(Some(format!("{}: read again each time", files.join(", "))));
    };
    // Kept are the same parts whether figures are read or handed on.
    let of_reading = |&job: &usize| Request { for_reading: true, ..jobs[job].request.clone() };
    let requests: Vec<Request> = served.iter().map(of_reading).collect();
    let (tables, read) = kept.tables(&requests.iter().collect::<Vec<_>>())?;
    for (&job, of_kept) in served.iter().zip(tables) {
        let made = (of_kept.grid, of_kept.ledger);
        done[job] = Some(done_of(&jobs[job], &of_kept.plan, made, files));
    }
    let is_read =
        |(place, file): &(usize, &String)| read.contains(place) || prepared.read.contains(*file);
    let names: Vec<&str> =
        files.iter().enumerate().filter(is_read).map(|(_, file)| file.as_str()).collect();
    let n = files.len();
    Ok(Some(match (names.as_slice(), n) {
        ([], 1) => format!("{} has not changed, and was not read again", files[0]),
        ([_], 1) => format!("{} was read, and what it comes to is kept", files[0]),
        ([], _) => format!("of {n} files none has changed, and none was read again"),
        (all, _) if all.len() == n => {
            format!("all {n} files were read, and what they come to is kept")
        }
        ([one], _) => format!("of {n} files only {one} was read; the others have not changed"),
        (some, _) => {
            let names = some.join(", ");
            format!("of {n} files only {names} were read; the others have not changed")
        }
    }))
}

/// Plans requests over the same rows, and runs them in one pass.
fn worked(
    requests: &[Request],
    source: &dyn Source,
    threads: usize,
) -> Result<Vec<(Plan, Grid, Ledger)>, Error> {
    let kept = requests.iter().map(|r| ColumnsTop::find(r, source, threads));
    let kept: Vec<(Request, ColumnsTop)> = kept.collect::<Result<_, _>>()?;
    let plans = kept.iter().map(|(r, _)| Plan::new(r, source.columns()));
    let plans: Vec<Plan> = plans.collect::<Result<_, _>>()?;
    let tables = run_all(&plans.iter().collect::<Vec<_>>(), source, threads)?;
    let arranged = plans.into_iter().zip(tables).zip(&kept);
    let arranged = arranged.map(|((plan, (mut grid, mut ledger)), (_, top))| {
        top.arrange(&mut grid, &mut ledger);
        (plan, grid, ledger)
    });
    Ok(arranged.collect())
}

/// Plans all jobs, and tells all mistakes of all parts; no row is read but those from which kinds are guessed.
pub(crate) fn ensure_sound(prepared: &mut Prepared) -> Result<(), Error> {
    let mut mistakes = Mistakes::default();
    let mut columns: Vec<Vec<Named>> = vec![Vec::new(); prepared.jobs.len()];
    for source in 0..prepared.sources.len() {
        let (jobs, formats) = (&prepared.jobs, &prepared.formats);
        let found = settled(prepared.sources[source].input.as_mut(), |input| {
            let (mut mistakes, mut found) = (Mistakes::default(), Vec::new());
            for (number, job) in jobs.iter().enumerate().filter(|(_, job)| job.source == source) {
                let planned = planned(job, input, formats).map_err(|e| job.places.place(e));
                found.extend(mistakes.take(planned)?.map(|named| (number, named)));
            }
            mistakes.none()?;
            Ok::<_, Error>(found)
        });
        for (job, (named, in_time)) in mistakes.take(found)?.into_iter().flatten() {
            columns[job] = named;
            let job = &mut prepared.jobs[job];
            job.request.every_period |= in_time && job.chart.is_some();
        }
    }
    // The formats of the report hold for the columns that they name; those of a table stand before them.
    for (job, columns) in prepared.jobs.iter_mut().zip(&columns).filter(|(job, _)| !job.figures) {
        let fits = |name: &str| columns.iter().any(|column| column.is_called(name));
        let of_report = prepared.formats.iter().filter(|(name, _)| fits(name));
        let of_report = of_report.map(|(name, pattern)| (name.clone(), pattern.value.clone()));
        job.style.formats.splice(0..0, of_report);
    }
    ensure_figures(prepared, &columns, &mut mistakes)?;
    if mistakes.0.is_empty() {
        ensure_formats(prepared, &columns, &mut mistakes);
    }
    mistakes.none()
}

/// The columns of a job's table.
fn planned(
    job: &Job,
    source: &dyn Source,
    formats: &[(String, Written)],
) -> Result<(Vec<Named>, bool), Error> {
    let plan = Plan::new(&job.request, source.columns())?;
    if let Some(look) = &job.chart {
        ensure_drawn(look, &plan)?;
    }
    // What is wrong with a format of the report is told where it stands.
    for (name, pattern) in formats.iter().chain(&job.formats) {
        let fits: Vec<Named> =
            columns_of(&plan).into_iter().filter(|c| c.is_called(name)).collect();
        ensure_format(name, pattern, &fits)?;
    }
    if !job.figures {
        ensure_fits(&job.style, &plan)?;
    }
    let points = job.chart.as_ref().is_some_and(|look| look.points);
    let in_time = runs_along_periods(&plan, job.request.by.len()) && !points;
    Ok((columns_of(&plan), in_time))
}

/// That a pattern is one for each of some columns of that name.
fn ensure_format(name: &str, pattern: &Written, columns: &[Named]) -> Result<(), Error> {
    for column in columns {
        let formats = vec![(name.to_owned(), pattern.value.clone())];
        let style = Style { formats, ..Style::default() };
        let of_kinds = |error: Error| match error {
            Error::Request { message, help, .. } => {
                let it = pattern.mistake(super::keys::as_keys(&message)).of_kinds();
                Error::from(help.into_iter().fold(it, |it, help| it.help(help)))
            }
            other => other,
        };
        ensure_fits_columns(&style, std::slice::from_ref(column)).map_err(of_kinds)?;
    }
    Ok(())
}

/// Checks formats of headlines, and the cells that checks name.
fn ensure_figures(
    prepared: &mut Prepared,
    columns: &[Vec<Named>],
    mistakes: &mut Mistakes,
) -> Result<(), Error> {
    let Prepared { parts, jobs, checks, sources, formats, .. } = prepared;
    for part in parts {
        let MadeOf::Figure(it) = &mut part.made_of else { continue };
        let HeadlineAt { heading, figure, format, style, .. } = it.as_mut();
        let Some(column) = columns[figure.0].get(figure.1) else { continue };
        let column = Named { heading: heading.clone(), ..column.clone() };
        for (name, pattern) in formats.iter().filter(|(name, _)| column.is_called(name)) {
            mistakes.take(ensure_format(name, pattern, std::slice::from_ref(&column)))?;
            style.formats.push((heading.clone(), pattern.value.clone()));
        }
        if let Some(pattern) = format {
            mistakes.take(ensure_format(heading, pattern, std::slice::from_ref(&column)))?;
            style.formats.push((heading.clone(), pattern.value.clone()));
        }
    }
    for check in checks {
        let Found::Cell { job, result, at } = &check.found else { continue };
        let job = &jobs[*job];
        let results: Vec<&Named> =
            columns[check_job(&check.found)].iter().filter(|c| !c.key).collect();
        let names: Vec<&str> = results.iter().map(|c| c.heading.as_str()).collect();
        match result {
            Some(name)
                if !results.iter().any(|c| c.is_called(&name.value)) && !results.is_empty() =>
            {
                let it = name.mistake(format!("the table has no result `{}`", name.value));
                mistakes.add(match nearest(&name.value, names.iter().copied()).first() {
                    Some(near) => it.label(format!("did you mean `{near}`?")),
                    None => it.help(format!("its results are {}", all_of(&names))),
                });
            }
            None if names.len() > 1 => {
                let it = check.places.mistake("the table has several results");
                mistakes.add(it.help(format!("say which: that = \"{}\"", names[0])));
            }
            _ => {}
        }
        let input = sources[job.source].input.as_ref();
        let texts: Vec<_> = at.iter().map(|(written, _)| written.clone()).collect();
        if mistakes.0.is_empty() {
            mistakes.take(Plan::with_keys(&job.request, input.columns(), &texts))?;
        }
    }
    Ok(())
}

fn check_job(found: &Found) -> usize {
    match found {
        Found::Figure(at) => at.0,
        Found::Cell { job, .. } => *job,
    }
}

/// That each format of the report is that of some column.
fn ensure_formats(prepared: &Prepared, columns: &[Vec<Named>], mistakes: &mut Mistakes) {
    let of_jobs = prepared.jobs.iter().zip(columns).filter(|(job, _)| !job.figures);
    let mut all: Vec<Named> = of_jobs.flat_map(|(_, columns)| columns.iter().cloned()).collect();
    for part in &prepared.parts {
        if let MadeOf::Figure(it) = &part.made_of
            && let Some(column) = columns[it.figure.0].get(it.figure.1)
        {
            all.push(Named { heading: it.heading.clone(), ..column.clone() });
        }
    }
    // What a part that is not run would have is not known.
    if prepared.is_partial {
        return;
    }
    for (name, pattern) in &prepared.formats {
        if all.iter().any(|column| column.is_called(name))
            || pattern.within.file.name != prepared.file
        {
            continue;
        }
        let names: Vec<&str> = all.iter().map(|c| c.heading.as_str()).collect();
        let it = pattern.mistake(format!("no part has a column `{name}`"));
        mistakes.add(match nearest(name, names.iter().copied()).first() {
            Some(near) => it.label(format!("did you mean `{near}`?")),
            None => it,
        });
    }
}

/// Puts the parts and the checks of a report together.
fn finish(prepared: &Prepared, done: &[Done]) -> Result<Finished, Error> {
    let parts: Result<_, Error> =
        prepared.parts.iter().map(|part| finish_part(part, &prepared.jobs, done)).collect();
    let mut of_checks: Vec<String> = Vec::new();
    let mut checks = Vec::new();
    for check in &prepared.checks {
        checks.push((check.name.clone(), finish_check(check, prepared, done, &mut of_checks)?));
    }
    let mut notes: Vec<_> = of_checks.into_iter().map(|text| (text, Vec::new())).collect();
    let called = figures_called(prepared);
    for (job, done) in done.iter().enumerate().filter(|(job, _)| prepared.jobs[*job].figures) {
        let called: Vec<_> = called.iter().filter(|(at, _)| at.0 == job).collect();
        for note in done.ledger.told() {
            let is_of = |(at, _): &&&(FigureAt, String)| {
                let column = done.grid.columns.get(at.1);
                column.is_some_and(|column| note.text.contains(&column.calc))
            };
            let of: Vec<_> = called.iter().filter(is_of).map(|(_, name)| name.clone()).collect();
            notes.push((note.text.clone(), of));
        }
    }
    Ok(Finished {
        title: prepared.title.clone(),
        text: prepared.text.clone(),
        parts: parts?,
        checks,
        notes,
        others: accounts_of_checks(prepared, done),
    })
}

/// What each figure that stands alone is called where it is read.
fn figures_called(prepared: &Prepared) -> Vec<(FigureAt, String)> {
    let mut called = Vec::new();
    for part in &prepared.parts {
        let MadeOf::Figure(it) = &part.made_of else { continue };
        called.push((it.figure, it.heading.clone()));
        let beside = it.beside.iter();
        called.extend(beside.map(|(name, at)| (*at, format!("{}: {name}", it.heading))));
    }
    for check in &prepared.checks {
        let name = check.name.as_ref().unwrap_or(&check.that);
        called.extend(check.figures().map(|at| (at, format!("the check {name}"))));
    }
    called
}

/// The accounts of the rows of checks; of rows that no part shows with the names of their files.
fn accounts_of_checks(prepared: &Prepared, done: &[Done]) -> Vec<(String, Ledger)> {
    let source = |job: usize| prepared.jobs[job].source;
    let shown: BTreeSet<usize> = prepared
        .parts
        .iter()
        .map(|part| match &part.made_of {
            MadeOf::Job(job) => source(*job),
            MadeOf::Figure(it) => source(it.figure.0),
        })
        .collect();
    let jobs: BTreeSet<usize> =
        prepared.checks.iter().flat_map(PreparedCheck::figures).map(|at| at.0).collect();
    let account = |job: usize| {
        let name = match shown.contains(&source(job)) || shown.is_empty() {
            true => "Checks".to_owned(),
            false => format!("Checks of {}", prepared.sources[source(job)].files.join(", ")),
        };
        (name, done[job].ledger.clone())
    };
    jobs.into_iter().map(account).collect()
}

/// The figure of a job.
fn figure(done: &[Done], (job, column): FigureAt) -> Figure {
    Figure::of(&done[job].grid, column)
}

fn finish_part(part: &PreparedPart, jobs: &[Job], done: &[Done]) -> Result<FinishedPart, Error> {
    let mut chart = None;
    let (grid, style, ledger, explained) = match &part.made_of {
        MadeOf::Job(job) => {
            let it = &done[*job];
            chart.clone_from(&jobs[*job].chart);
            if let (Some(chart), Some(at)) = (&mut chart, part.correlation) {
                let said = in_words(&figure(done, at).value, &it.grid);
                let caption = chart.caption.take();
                chart.caption = Some(caption.map_or(said.clone(), |c| format!("{c} {said}")));
            }
            (it.grid.clone(), it.style.clone(), it.ledger.clone(), it.explained.clone())
        }
        MadeOf::Figure(it) => {
            let (job, column) = it.figure;
            let (grid, style) = headline(it, done)?;
            let ledger = Ledger { notes: Vec::new(), ..done[job].ledger.clone() };
            (grid, style, ledger, of_figure(&done[job].explained, column))
        }
    };
    let (name, title, text) = (part.name.clone(), part.title.clone(), part.text.clone());
    let shows = part.shows;
    Ok(FinishedPart { name, title, text, shows, grid, style, ledger, chart, explained })
}

/// A headline as a table of one line: the figure, and where it is compared the other one, the difference and the
/// growth. All but the growth read by one pattern.
fn headline(it: &HeadlineAt, done: &[Done]) -> Result<(Grid, Style), Error> {
    let now = figure(done, it.figure);
    let mut style = it.style.clone();
    let mut figures = vec![(it.heading.clone(), now.clone())];
    if let Some((name, before)) = &it.beside {
        let before = figure(done, *before);
        let none = |kind, share| Figure { kind, value: Value::Missing, share, quotient: None };
        let [difference, growth] = now.change_from(&before)?;
        let difference = difference.unwrap_or_else(|| none(now.kind, now.share));
        let growth = growth.unwrap_or_else(|| none(Kind::Float, true));
        if let Some((_, pattern)) = style.formats.last().cloned() {
            style.formats.push((name.clone(), pattern.clone()));
            style.formats.push((DIFFERENCE.to_owned(), pattern));
        }
        figures.push((name.clone(), before));
        figures.push((DIFFERENCE.to_owned(), difference));
        figures.push((GROWTH.to_owned(), growth));
    }
    Ok((Grid::of_figures(&figures), style))
}

fn finish_check(
    check: &PreparedCheck,
    prepared: &Prepared,
    done: &[Done],
    notes: &mut Vec<String>,
) -> Result<Checked, Error> {
    if let (WantedAt::Table(file, saved), Found::Cell { job, .. }) = (&check.wanted, &check.found) {
        return unchanged(check, (file, saved), &done[*job], notes);
    }
    let found = match &check.found {
        Found::Figure(at) => figure(done, *at),
        Found::Cell { job, result, at } => {
            let (it, of) = (&done[*job], &prepared.jobs[*job]);
            let source = prepared.sources[of.source].input.as_ref();
            let reads_as = |heading: &str, value: &Value| it.style.reads_as(heading, value);
            let cell = cell_named(&it.grid, &of.request, source, at, &reads_as);
            let (line, position) = cell.map_err(|e| check.places.place(e))?;
            let is_it = |c: &oeuvre_core::ResultColumn| {
                let name = result.as_ref().map(|r| r.value.trim());
                let is_called =
                    |n: &str| n == c.heading || n == c.calc || n.trim_matches('"') == c.heading;
                c.position == position && name.is_none_or(is_called)
            };
            match it.grid.columns.iter().position(is_it) {
                Some(column) => Figure::at(&it.grid, line, column),
                None => return Err(check.places.mistake("the table has no such result").into()),
            }
        }
    };
    let wanted = match &check.wanted {
        WantedAt::Known(value) => Figure::known(value.clone()),
        WantedAt::Figure(at) => figure(done, *at),
        WantedAt::Table(..) => Figure::known(Value::Missing),
    };
    let checked = check.terms.checked(check.that.clone(), &found, &wanted);
    checked.map_err(|e| placed_check(check, e))
}

/// How many figures that changed a check names.
const CHANGES_NAMED: usize = 5;

/// Compares a table with what was written of it earlier.
fn unchanged(
    check: &PreparedCheck,
    (file, saved): (&str, &SavedTable),
    done: &Done,
    notes: &mut Vec<String>,
) -> Result<Checked, Error> {
    let mut json = Vec::new();
    let style = Style::default();
    let Ok(format) = "json".parse() else { return Err(Error::request("there is no JSON")) };
    let text = TextSettings::default();
    let settings =
        Settings { style: &style, format, text, with_ledger: false, beside: None, threads: 1 };
    // A format says how a table reads, and names its columns along the top.
    let document = Document::of_table(&done.grid, &done.ledger, &done.style);
    oeuvre_render::write_document(&document, settings, &mut json)
        .map_err(|e| Error::request(e.to_string()))?;
    let now = oeuvre_data::saved_tables("", &String::from_utf8_lossy(&json), &[])?;
    let names = [file.to_owned(), "this run".to_owned()];
    let request = ChangesRequest {
        tolerance: check.terms.tolerance,
        only_changed: true,
        names,
        ..ChangesRequest::default()
    };
    let found = changes(std::slice::from_ref(saved), &now, &request)?;
    let grid = &found.grid;
    for line in (0..grid.lines.len()).take(CHANGES_NAMED) {
        let cell = |column: usize| match grid.cell(line, column) {
            Value::Missing => "no value".to_owned(),
            value => value.to_string(),
        };
        let first = grid.columns.len() - 6;
        let keys: Vec<String> = (0..=first).map(cell).collect();
        notes.push(format!("{}: was {}, is {}", keys.join(", "), cell(first + 1), cell(first + 2)));
    }
    let different = found.changed + found.alone[0] + found.alone[1];
    let number = |n: u64| Value::Number(oeuvre_columns::Decimal::new(i128::from(n), 0));
    Ok(Checked {
        that: format!("{}: figures and lines that differ", check.that),
        found: number(different),
        wanted: number(0),
        difference: number(different),
        holds: different == 0,
    })
}

/// Figures that cannot be compared, told at the check.
fn placed_check(check: &PreparedCheck, error: Error) -> Error {
    match error {
        Error::Diagnostics(mistakes) => {
            let why = mistakes.first().map_or(String::new(), |m| format!(": {}", m.message));
            check.places.mistake(format!("these figures cannot be compared{why}")).into()
        }
        other => check.places.place(other),
    }
}

/// Of the explanation of several figures what belongs to one of them: that of the rows, and its own.
fn of_figure(sections: &[Section], figure: usize) -> Vec<Section> {
    // Rows and groups stand before the results.
    let of_results = sections.get(2 + figure);
    sections.first().into_iter().chain(of_results).cloned().collect()
}

impl Finished {
    /// It as a document, with explanations where these are wanted.
    pub(crate) fn document(&self, stamp: Option<String>, explains: bool) -> Document<'_> {
        let part = |part: &'_ FinishedPart| -> (String, Vec<Section>) {
            let heading = match part.shows {
                PartType::Headline => part.grid.columns[0].heading.clone(),
                _ => part.title.clone().unwrap_or_else(|| part.name.clone()),
            };
            (heading, part.explained.clone())
        };
        Document {
            is_report: true,
            title: self.title.clone(),
            text: self.text.clone(),
            stamp,
            parts: self.parts.iter().map(FinishedPart::part).collect(),
            checks: self.checks.iter().map(|(name, check)| (name.clone(), check)).collect(),
            notes: self.notes.clone(),
            others: self.others.iter().map(|(name, ledger)| (name.clone(), ledger)).collect(),
            explained: if explains { self.parts.iter().map(part).collect() } else { Vec::new() },
        }
    }
}

impl FinishedPart {
    fn part(&self) -> Part<'_> {
        Part {
            name: self.name.clone(),
            title: match self.shows {
                PartType::Headline => Some(self.grid.columns[0].heading.clone()),
                _ => self.title.clone(),
            },
            text: self.text.clone(),
            shows: self.shows,
            grid: &self.grid,
            style: &self.style,
            ledger: &self.ledger,
            chart: self.chart.as_ref(),
        }
    }
}

/// What each part of a report would do, in plain sentences; no row is read but those from which kinds are guessed.
pub(crate) fn explain(prepared: &mut Prepared) -> Result<Vec<(String, Vec<Section>)>, Error> {
    ensure_sound(prepared)?;
    let mut of_jobs: Vec<Vec<Section>> = Vec::new();
    for job in &prepared.jobs {
        let source = &prepared.sources[job.source];
        let plan = Plan::new(&job.request, source.input.columns())?;
        of_jobs.push(oeuvre_core::explain(&job.request, &plan, &source.files));
    }
    let part = |part: &PreparedPart| match &part.made_of {
        MadeOf::Job(job) => {
            (part.title.clone().unwrap_or_else(|| part.name.clone()), of_jobs[*job].clone())
        }
        MadeOf::Figure(it) => (it.heading.clone(), of_figure(&of_jobs[it.figure.0], it.figure.1)),
    };
    let mut all: Vec<(String, Vec<Section>)> = prepared.parts.iter().map(part).collect();
    if !prepared.checks.is_empty() {
        let lines = prepared.checks.iter().map(|check| format!("that {}", check.that)).collect();
        all.push((
            "Checks".to_owned(),
            vec![Section { title: "What must agree".to_owned(), lines }],
        ));
    }
    Ok(all)
}
