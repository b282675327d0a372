//! A report whose files are open and whose requests are made: what each part asks of which rows.
//!
//! A part with a table is a job of its own. Figures that stand alone (headlines, both sides of checks) over the same
//! rows are results of one job. What a job's request says keeps its place in the file.

use super::definition::{
    CheckDefinition, Definition, HeadlineDefinition, PartDefinition, ShowDefinition, Shows,
    TableWords, Wanted,
};
use super::file::{Mistakes, Written};
use super::given::{filled, known};
use super::keys::Places;
use super::rows::{Context, Of, OpenSource, OptionsOf, Sources};
use crate::args::cell;
use crate::args::style::StyleArgs;
use oeuvre_columns::names::nearest;
use oeuvre_columns::{Decimal, Value};
use oeuvre_core::language::parser::{parse, parse_list};
use oeuvre_core::{AtLabel, Error, Given, Givens, Request, Show, SourceText, Terms};
use oeuvre_render::{PartType, Style};
use std::sync::Arc;

/// What is asked of a report.
#[derive(Clone, Copy)]
pub(crate) struct Asked<'a> {
    /// Files in place of those of the report.
    pub(crate) files: &'a [String],
    /// Values that are given.
    pub(crate) given: &'a [String],
    /// The parts and checks that are wanted; all where none is named.
    pub(crate) only: &'a [String],
    /// Whether figures are to be read.
    pub(crate) for_reading: bool,
    pub(crate) threads: usize,
}

/// A report ready to run.
pub(crate) struct Prepared {
    pub(crate) title: Option<String>,
    pub(crate) text: Option<String>,
    pub(crate) sources: Vec<OpenSource>,
    pub(crate) jobs: Vec<Job>,
    pub(crate) parts: Vec<PreparedPart>,
    pub(crate) checks: Vec<PreparedCheck>,
    /// Charts that are left out.
    pub(crate) charts: Vec<String>,
    /// Formats by heading, for every part that has it; with the place of each.
    pub(super) formats: Vec<(String, Written)>,
    /// Whether not all of its parts are wanted.
    pub(super) is_partial: bool,
    /// The name of the report file.
    pub(super) file: String,
}

/// A request over some rows.
pub(crate) struct Job {
    pub(crate) source: usize,
    pub(crate) request: Request,
    pub(crate) style: Style,
    /// Whether its results are figures by themselves.
    pub(crate) figures: bool,
    /// Its own formats with their places.
    pub(super) formats: Vec<(String, Written)>,
    pub(super) places: Places,
}

/// A figure: the job that works it out, and which of its results it is.
pub(crate) type FigureAt = (usize, usize);

/// A part to be shown.
pub(crate) struct PreparedPart {
    pub(crate) name: String,
    pub(crate) title: Option<String>,
    pub(crate) text: Option<String>,
    pub(crate) shows: PartType,
    pub(crate) made_of: MadeOf,
}

/// What a part is made of.
pub(crate) enum MadeOf {
    /// The table of a job.
    Job(usize),
    Figure(Box<HeadlineAt>),
}

/// A figure with its heading, and another one beside it.
pub(crate) struct HeadlineAt {
    pub(crate) heading: String,
    pub(crate) figure: FigureAt,
    pub(crate) beside: Option<(String, FigureAt)>,
    pub(crate) style: Style,
    /// Its own pattern.
    pub(crate) format: Option<Written>,
}

/// A check to be made.
pub(crate) struct PreparedCheck {
    pub(crate) name: Option<String>,
    pub(crate) that: String,
    pub(crate) terms: Terms,
    pub(crate) found: Found,
    pub(crate) wanted: WantedAt,
    pub(super) places: Places,
}

/// Where the figure of a check is found.
pub(crate) enum Found {
    Figure(FigureAt),
    /// In a cell of a part's table.
    Cell {
        job: usize,
        result: Option<Written>,
        at: Vec<(Arc<SourceText>, AtLabel)>,
    },
}

/// What a check wants.
pub(crate) enum WantedAt {
    Known(Value),
    Figure(FigureAt),
}

/// Makes the requests of a report.
pub(crate) fn prepare(definition: &Definition, asked: Asked<'_>) -> Result<Prepared, Error> {
    let (values, open) = known(&definition.file, &definition.given, asked.given)?;
    let mut given = Arc::new(values);
    let mut sources = Sources::default();
    if !open.is_empty() {
        let of = Of { definition, files: asked.files, given: &given };
        let context = sources.context(&of, &super::definition::Rows::default(), None)?;
        let calcs: Vec<&Written> = open.iter().map(|(_, calc)| *calc).collect();
        let found = figures(definition, &mut sources, &context, &calcs, &given, asked.threads)?;
        let mut all = Givens::clone(&given);
        for ((definition, calc), value) in open.iter().zip(found) {
            let value: Given = definition.found(&value).map_err(|problem| calc.mistake(problem))?;
            all.insert(definition.name.clone(), value);
        }
        given = Arc::new(all);
    }
    let of = Of { definition, files: asked.files, given: &given };
    let mut making = Making {
        of: &of,
        asked,
        sources,
        mistakes: Mistakes::default(),
        jobs: Vec::new(),
        parts: Vec::new(),
        checks: Vec::new(),
        wants_all: asked.only.is_empty(),
    };
    making.ensure_named()?;
    let title = making.filled(definition.title.as_ref());
    let text = making.filled(definition.text.as_ref());
    for part in &definition.parts {
        if making.is_wanted(&part.name) || making.is_checked(&part.name) {
            making.part(part)?;
        }
    }
    for check in &definition.checks {
        if making.wants_all || check.name.as_ref().is_some_and(|name| making.is_wanted(name)) {
            making.check(check)?;
        }
    }
    making.mistakes.none()?;
    let charts =
        definition.charts.iter().filter(|c| asked.only.is_empty() || asked.only.contains(c));
    let (parts, jobs, checks) = (making.parts, making.jobs, making.checks);
    let charts = charts.cloned().collect();
    let formats = definition.formats.clone();
    let sources = making.sources.all;
    let (is_partial, file) = (!asked.only.is_empty(), definition.file.text.name.clone());
    Ok(Prepared { title, text, sources, jobs, parts, checks, charts, formats, is_partial, file })
}

/// Some figures over all rows of a context.
fn figures(
    definition: &Definition,
    sources: &mut Sources,
    context: &Context,
    calcs: &[&Written],
    given: &Arc<Givens>,
    threads: usize,
) -> Result<Vec<Value>, Error> {
    let show = calcs.iter().map(|c| Show { heading: None, calc: c.source("default", given) });
    // What needs a value that is still worked out cannot be used for it; a mistake in it is told later.
    let lets = definition.lets.iter();
    let lets = lets.map(|(name, text)| (name.clone(), text.source(&format!("let {name}"), given)));
    let lets = lets.filter(|(_, text)| parse(text).is_ok());
    let request = Request {
        show: show.collect(),
        lets: lets.collect(),
        lookups: context.lookups.clone(),
        filters: context.filters.clone(),
        one_spelling: context.one_spelling.clone(),
        ..Request::default()
    };
    let input = sources.all[context.source].input.as_mut();
    let style = Style::default();
    let grid = crate::run::planned(input, (&request, threads), &style, |plan, _, source| {
        Ok(oeuvre_core::run(plan, source, threads)?.0)
    })?;
    Ok((0..grid.columns.len()).map(|column| grid.cell(0, column)).collect())
}

/// A report on its way.
struct Making<'a> {
    of: &'a Of<'a>,
    asked: Asked<'a>,
    sources: Sources,
    mistakes: Mistakes,
    jobs: Vec<Job>,
    parts: Vec<PreparedPart>,
    checks: Vec<PreparedCheck>,
    wants_all: bool,
}

impl Making<'_> {
    fn is_wanted(&self, name: &str) -> bool {
        self.wants_all || self.asked.only.iter().any(|only| only == name)
    }

    /// Whether a wanted check speaks of a part.
    fn is_checked(&self, part: &str) -> bool {
        let of = |c: &&CheckDefinition| c.cell.as_ref().is_some_and(|(name, _)| name.value == part);
        let mut checks = self.of.definition.checks.iter().filter(of);
        checks.any(|c| c.name.as_ref().is_some_and(|name| self.is_wanted(name)))
    }

    /// That each name that was asked for is that of a part or a check.
    fn ensure_named(&self) -> Result<(), Error> {
        let definition = self.of.definition;
        let parts = definition.parts.iter().map(|p| p.name.as_str());
        let checks = definition.checks.iter().filter_map(|c| c.name.as_deref());
        let charts = definition.charts.iter().map(String::as_str);
        let names: Vec<&str> = parts.chain(checks).chain(charts).collect();
        let unknown = self.asked.only.iter().find(|only| !names.contains(&only.as_str()));
        if let Some(only) = unknown {
            let help = match nearest(only, names.iter().copied()).first() {
                Some(near) => format!("did you mean `{near}`?"),
                None => format!("it has {}", oeuvre_columns::names::all_of(&names)),
            };
            let message = format!("--only {only}: the report has no part of this name");
            return Err(Error::request_with_help(message, help));
        }
        Ok(())
    }

    /// A text with what is given in it.
    fn filled(&mut self, written: Option<&Written>) -> Option<String> {
        match filled(written?, self.of.given) {
            Ok(text) => Some(text),
            Err(mistake) => {
                self.mistakes.add(mistake);
                None
            }
        }
    }

    fn part(&mut self, part: &PartDefinition) -> Result<(), Error> {
        let title = self.filled(part.title.as_ref());
        let text = self.filled(part.text.as_ref());
        let (made_of, shows) = match &part.shows {
            Shows::Table(keys, words) => {
                let rows = &keys.args.rows;
                let options = OptionsOf {
                    counted: rows.counted(),
                    lookups: rows.lookups(),
                    reading: &keys.args.reading,
                    places: &keys.places,
                };
                let context = self.sources.context(self.of, &part.rows, Some(options));
                let Some(context) = self.mistakes.take(context)? else { return Ok(()) };
                let request = rows.to_request_with(context.lookups.clone());
                let request = request.and_then(|request| keys.args.group.group(request));
                let request = request.map_err(|e| keys.places.place(e));
                let Some(request) = self.mistakes.take(request)? else { return Ok(()) };
                let long = keys.args.group.long;
                let job =
                    self.table(&context, request, (&keys.args.style, long), words, &keys.places)?;
                let Some(job) = job else { return Ok(()) };
                (MadeOf::Job(job), PartType::Table)
            }
            Shows::Detail(keys, words) => {
                let rows = &keys.args.rows;
                let options = OptionsOf {
                    counted: rows.counted(),
                    lookups: rows.lookups(),
                    reading: &keys.args.reading,
                    places: &keys.places,
                };
                let context = self.sources.context(self.of, &part.rows, Some(options));
                let Some(context) = self.mistakes.take(context)? else { return Ok(()) };
                let request = rows.to_request_with(context.lookups.clone());
                let request = request.map_err(|e| keys.places.place(e));
                let Some(request) = self.mistakes.take(request)? else { return Ok(()) };
                let job =
                    self.table(&context, request, (&keys.args.style, false), words, &keys.places)?;
                let Some(job) = job else { return Ok(()) };
                (MadeOf::Job(job), PartType::Detail)
            }
            Shows::Headline(headline) => {
                let Some(made_of) = self.headline(part, headline)? else { return Ok(()) };
                (made_of, PartType::Headline)
            }
        };
        let name = part.name.clone();
        self.parts.push(PreparedPart { name, title, text, shows, made_of });
        Ok(())
    }

    /// The named calculations: those of the report, but for those that a table names anew.
    fn lets(&self, own: &[(String, Arc<SourceText>)]) -> Vec<(String, Arc<SourceText>)> {
        let of_report = self.of.definition.lets.iter();
        let of_report = of_report.filter(|(name, _)| own.iter().all(|(own, _)| own != name));
        let source = |(name, text): &(String, Written)| {
            (name.clone(), text.source(&format!("let {name}"), self.of.given))
        };
        of_report.map(source).chain(own.iter().cloned()).collect()
    }

    /// The job of a table or a detail.
    fn table(
        &mut self,
        context: &Context,
        request: Request,
        (style, long): (&StyleArgs, bool),
        words: &TableWords,
        places: &Places,
    ) -> Result<Option<usize>, Error> {
        let given = self.of.given;
        let mut request = request.map_texts(&mut |text| places.attach(text, given));
        let style = style.to_style().map_err(|e| places.place(e));
        let Some(mut style) = self.mistakes.take(style)? else { return Ok(None) };
        style.long = long;
        let mut formats = words.formats.clone();
        for show in &words.show {
            formats.extend(self.show(show, &mut request, &mut style));
        }
        let named = words.lets.iter();
        let source = |(name, text): &(String, Written)| {
            (name.clone(), text.source(&format!("let {name}"), given))
        };
        request.lets.extend(named.map(source));
        request.lets = self.lets(&request.lets);
        style.formats.extend(formats.iter().map(|(name, text)| (name.clone(), text.value.clone())));
        request.for_reading = self.asked.for_reading;
        request.filters.splice(0..0, context.filters.iter().cloned());
        for it in &context.one_spelling {
            if !request.one_spelling.contains(it) {
                request.one_spelling.push(it.clone());
            }
        }
        for (_, label) in &mut request.sort_column {
            given_label(label, given);
        }
        // Checks are those of the report.
        let checks = std::mem::take(&mut request.checks);
        for check in checks {
            let terms = Terms { how: check.how, tolerance: check.tolerance };
            let found = self.figure(context, &request, check.calc.clone(), places)?;
            let wanted = self.figure(context, &request, check.value.clone(), places)?;
            let (Some(found), Some(wanted)) = (found, wanted) else { continue };
            self.checks.push(PreparedCheck {
                name: None,
                that: check.written.clone(),
                terms,
                found: Found::Figure(found),
                wanted: WantedAt::Figure(wanted),
                places: places.clone(),
            });
        }
        let (source, figures, places) = (context.source, false, places.clone());
        self.jobs.push(Job { source, request, style, figures, formats, places });
        Ok(Some(self.jobs.len() - 1))
    }

    /// Adds a result to a request, and how it looks; gives its format.
    fn show(
        &mut self,
        show: &ShowDefinition,
        request: &mut Request,
        style: &mut Style,
    ) -> Option<(String, Written)> {
        match show {
            ShowDefinition::Typed(text) => {
                let typed = Show::parse_all("--show", &text.value);
                for mut show in typed {
                    let at = text.value.rfind(&show.calc.text).unwrap_or(0);
                    let calc = text.part(at..at + show.calc.text.len());
                    show.calc = calc.source("--show", self.of.given);
                    if let Some(heading) = &show.heading {
                        let place = text.value.find(heading.as_str()).unwrap_or(0);
                        let heading = text.part(place..place + heading.len());
                        show.heading = self.filled(Some(&heading));
                    }
                    request.show.push(show);
                }
                None
            }
            ShowDefinition::Parts { heading, calc, format, bars, shade } => {
                let heading = self.filled(heading.as_ref());
                let name = heading.clone().unwrap_or_else(|| calc.value.clone());
                style.bars.extend(bars.then(|| name.clone()));
                style.shades.extend(shade.then(|| name.clone()));
                request.show.push(Show { heading, calc: calc.source("--show", self.of.given) });
                format.clone().map(|format| (name, format))
            }
        }
    }

    /// A figure over the rows of a request, all of them together: a result of the job that has the others of the
    /// same rows.
    fn figure(
        &mut self,
        context: &Context,
        of: &Request,
        calc: Arc<SourceText>,
        places: &Places,
    ) -> Result<Option<FigureAt>, Error> {
        if parse_list(&calc).is_ok_and(|list| list.len() > 1) {
            let it = oeuvre_core::Diagnostic::new(
                &calc,
                0..calc.text.len(),
                "these are several figures",
            );
            self.mistakes.add(it.label("one is expected here"));
            return Ok(None);
        }
        let show = Show { heading: None, calc };
        let texts =
            |list: &[Arc<SourceText>]| list.iter().map(|t| t.text.clone()).collect::<Vec<_>>();
        let same = |job: &Job| {
            let (a, b) = (&job.request, of);
            let lookups = a.lookups.len() == b.lookups.len()
                && a.lookups.iter().zip(&b.lookups).all(|(a, b)| {
                    Arc::ptr_eq(&a.table, &b.table)
                        && a.on.text == b.on.text
                        && a.no_match == b.no_match
                });
            let lets = a.lets.len() == b.lets.len()
                && a.lets.iter().zip(&b.lets).all(|(a, b)| a.0 == b.0 && a.1.text == b.1.text);
            job.figures
                && job.source == context.source
                && texts(&a.filters) == texts(&b.filters)
                && a.one_spelling == b.one_spelling
                && lookups
                && lets
        };
        let job = match self.jobs.iter().position(same) {
            Some(job) => job,
            None => {
                let request = Request { for_reading: false, ..of.over_all(Vec::new()) };
                let (source, places) = (context.source, places.clone());
                self.jobs.push(Job {
                    source,
                    request,
                    style: Style::default(),
                    figures: true,
                    formats: Vec::new(),
                    places,
                });
                self.jobs.len() - 1
            }
        };
        self.jobs[job].request.show.push(show);
        Ok(Some((job, self.jobs[job].request.show.len() - 1)))
    }

    /// A request over the rows of a section without a table.
    fn over_rows(
        &mut self,
        rows: &super::definition::Rows,
    ) -> Result<Option<(Context, Request)>, Error> {
        let options = rows.options.as_deref().map(|keys| OptionsOf {
            counted: &keys.args.counted,
            lookups: &keys.args.lookups,
            reading: &keys.args.reading,
            places: &keys.places,
        });
        let context = self.sources.context(self.of, rows, options);
        let Some(context) = self.mistakes.take(context)? else { return Ok(None) };
        let own = match options {
            Some(options) => {
                let own = options.counted.to_request().map_err(|e| options.places.place(e));
                let Some(own) = self.mistakes.take(own)? else { return Ok(None) };
                own.map_texts(&mut |text| options.places.attach(text, self.of.given))
            }
            None => Request::default(),
        };
        let filters = context.filters.iter().cloned().chain(own.filters).collect();
        let one_spelling = context.one_spelling.iter().cloned().chain(own.one_spelling).collect();
        let lookups = context.lookups.clone();
        let lets = self.lets(&[]);
        let request = Request { filters, one_spelling, lookups, lets, ..Request::default() };
        Ok(Some((context, request)))
    }

    fn headline(
        &mut self,
        part: &PartDefinition,
        it: &HeadlineDefinition,
    ) -> Result<Option<MadeOf>, Error> {
        let Some((context, request)) = self.over_rows(&part.rows)? else { return Ok(None) };
        let given = self.of.given;
        let heading = match self.filled(it.heading.as_ref()) {
            Some(heading) => heading,
            None => it.calc.value.clone(),
        };
        let calc = it.calc.source("calc", given);
        let Some(figure) = self.figure(&context, &request, calc, &it.places)? else {
            return Ok(None);
        };
        let mut with_beside = None;
        if let Some(beside) = &it.beside {
            let mut request = request.clone();
            if let Some(filters) = &beside.filters {
                let own = filters.iter().map(|f| f.source("where", given));
                request.filters = context.filters.iter().cloned().chain(own).collect();
            }
            let calc = beside.calc.as_ref().unwrap_or(&it.calc).source("calc", given);
            let Some(other) = self.figure(&context, &request, calc, &it.places)? else {
                return Ok(None);
            };
            let heading = self.filled(beside.heading.as_ref());
            with_beside = Some((heading.unwrap_or_else(|| "compared with".to_owned()), other));
        }
        let style = Style::default();
        Ok(Some(MadeOf::Figure(Box::new(HeadlineAt {
            heading,
            figure,
            beside: with_beside,
            style,
            format: it.format.clone(),
        }))))
    }

    fn check(&mut self, it: &CheckDefinition) -> Result<(), Error> {
        let given = self.of.given;
        let Some((context, request)) = self.over_rows(&it.rows)? else { return Ok(()) };
        let mut that = String::new();
        let found = match &it.cell {
            None => {
                let Some(calc) = &it.that else { return Ok(()) };
                that.push_str(&calc.value);
                let calc = calc.source("that", given);
                let Some(figure) = self.figure(&context, &request, calc, &it.places)? else {
                    return Ok(());
                };
                Found::Figure(figure)
            }
            Some((name, at)) => {
                let Some(part) = self.parts.iter().find(|p| p.name == name.value) else {
                    let names: Vec<&str> =
                        self.of.definition.parts.iter().map(|p| p.name.as_str()).collect();
                    let it = name.mistake(format!("no table is called `{}`", name.value));
                    self.mistakes.add(match nearest(&name.value, names.iter().copied()).first() {
                        Some(near) => it.label(format!("did you mean `{near}`?")),
                        None => it,
                    });
                    return Ok(());
                };
                let MadeOf::Job(job) = part.made_of else {
                    self.mistakes.add(name.mistake("this is no table"));
                    return Ok(());
                };
                let by = self.jobs[job].request.by.clone();
                let keys = match at {
                    None => Ok(Vec::new()),
                    Some(at) => cell::read("at", &at.value, &by).map_err(|e| match e {
                        Error::Request { message, help, .. } => {
                            let it = at.mistake(message);
                            Error::from(help.into_iter().fold(it, |it, help| it.help(help)))
                        }
                        other => other,
                    }),
                };
                let Some(mut keys) = self.mistakes.take(keys)? else { return Ok(()) };
                for (written, label) in &mut keys {
                    given_label(label, given);
                    if let Some(at) = at {
                        let place = at.value.find(&written.text).unwrap_or(0);
                        let end = (place + written.text.len()).min(at.value.len());
                        let place = if at.value.is_char_boundary(end) { place..end } else { 0..0 };
                        if at.value[place.clone()] == written.text {
                            *written = at.part(place).source("at", given);
                        }
                    }
                }
                that.push_str(&name.value);
                if let Some(at) = at {
                    that.push_str(&format!(" at {}", at.value));
                }
                if let Some(result) = &it.that {
                    that.push_str(&format!(": {}", result.value));
                }
                Found::Cell { job, result: it.that.clone(), at: keys }
            }
        };
        let how = it.terms.how.text();
        let wanted = match &it.wanted {
            Wanted::Date(text) => {
                that.push_str(&format!(" {how} {}", text.value));
                WantedAt::Known(Value::Text(text.value.as_str().into()))
            }
            Wanted::Calc(text) => {
                that.push_str(&format!(" {how} {}", text.value));
                match text.value.replace('_', "").parse::<Decimal>() {
                    Ok(number) => WantedAt::Known(Value::Number(number)),
                    Err(()) => {
                        let calc = text.source("equals", given);
                        let Some(figure) = self.figure(&context, &request, calc, &it.places)?
                        else {
                            return Ok(());
                        };
                        WantedAt::Figure(figure)
                    }
                }
            }
            Wanted::SameAs { calc, rows } => {
                let Some((context, request)) = self.over_rows(rows)? else { return Ok(()) };
                that.push_str(&format!(" = {}", calc.value));
                if rows.files.is_some() {
                    let files = &self.sources.all[context.source].files;
                    that.push_str(&format!(" of {}", files.join(", ")));
                }
                let source = calc.source("calc", given);
                let Some(figure) = self.figure(&context, &request, source, &it.places)? else {
                    return Ok(());
                };
                WantedAt::Figure(figure)
            }
        };
        if let Some(tolerance) = &it.tolerance {
            that.push_str(&format!(" \u{b1} {}", tolerance.value));
        }
        let (name, terms, places) = (it.name.clone(), it.terms, it.places.clone());
        self.checks.push(PreparedCheck { name, that, terms, found, wanted, places });
        Ok(())
    }
}

/// A label that is a value's name behind a `$`, as that value.
fn given_label(label: &mut AtLabel, given: &Givens) {
    if let (false, Some(name)) = (label.quoted, label.text.strip_prefix('$'))
        && let Some(value) = given.get(name)
    {
        label.text = value.to_string();
    }
}
