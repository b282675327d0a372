//! A report on its way: parts become jobs, and figures by themselves results of the job over their rows.
//!
//! What is wrong with a part ends that part alone; it is told with what is wrong with the others.

use super::definition::{
    HeadlineDefinition, PartDefinition, Rows, ShowDefinition, Shows, TableWords,
};
use super::file::{Mistakes, Written};
use super::given::{filled, filled_text};
use super::keys::Places;
use super::prepared::{
    Asked, FigureAt, Found, HeadlineAt, Job, MadeOf, PreparedCheck, PreparedPart, WantedAt,
};
use super::rows::{Context, Of, OptionsOf, Sources};
use crate::args::chart::ChartOptions;
use crate::args::reading::ReadingArgs;
use crate::args::request::{GroupArgs, RowsArgs};
use crate::args::style::StyleArgs;
use crate::chart::{correlation, request_of};
use oeuvre_core::language::parser::parse_list;
use oeuvre_core::{AtLabel, Diagnostic, Error, Givens, Request, Show, SourceText, Terms};
use oeuvre_render::{PartType, Style};
use std::collections::HashMap;
use std::sync::Arc;

/// A report on its way.
pub(super) struct Making<'a> {
    pub(super) of: &'a Of<'a>,
    pub(super) asked: Asked<'a>,
    pub(super) sources: Sources,
    pub(super) mistakes: Mistakes,
    pub(super) jobs: Vec<Job>,
    pub(super) parts: Vec<PreparedPart>,
    pub(super) checks: Vec<PreparedCheck>,
    /// The job of the figures over some rows, by what is the same of these.
    pub(super) of_rows: HashMap<String, usize>,
}

/// The options of a table or a detail.
struct TableOf<'a> {
    rows: &'a RowsArgs,
    /// None for a detail.
    group: Option<&'a GroupArgs>,
    style: &'a StyleArgs,
    reading: &'a ReadingArgs,
    words: &'a TableWords,
    places: &'a Places,
    chart: Option<&'a ChartOptions>,
}

impl Making<'_> {
    /// A text with what is given in it.
    pub(super) fn filled(&self, written: Option<&Written>) -> Result<Option<String>, Error> {
        Ok(written.map(|written| filled(written, self.of.given)).transpose()?)
    }

    /// Makes a part.
    ///
    /// # Errors
    /// What cannot be read; mistakes in the file are noted.
    pub(super) fn part(&mut self, part: &PartDefinition) -> Result<(), Error> {
        let made = self.made(part);
        let made = self.mistakes.take(made)?;
        self.parts.extend(made);
        Ok(())
    }

    fn made(&mut self, part: &PartDefinition) -> Result<PreparedPart, Error> {
        let title = self.filled(part.title.as_ref())?;
        let text = self.filled(part.text.as_ref())?;
        let mut correlation = None;
        let (made_of, shows) = match &part.shows {
            Shows::Table(keys, words) => {
                let (places, it) = (&keys.places, &keys.args);
                let (rows, style, reading) = (&it.rows, &it.style, &it.reading);
                let group = Some(&it.group);
                let table = TableOf { rows, group, style, reading, words, places, chart: None };
                (MadeOf::Job(self.table(&part.rows, &table)?), PartType::Table)
            }
            Shows::Detail(keys, words) => {
                let (places, it) = (&keys.places, &keys.args);
                let (rows, style, reading) = (&it.rows, &it.style, &it.reading);
                let (group, chart) = (None, None);
                let table = TableOf { rows, group, style, reading, words, places, chart };
                (MadeOf::Job(self.table(&part.rows, &table)?), PartType::Detail)
            }
            Shows::Chart(keys, words, caption) => {
                let (places, it) = (&keys.places, &keys.args.table);
                let (rows, style, reading) = (&it.rows, &it.style, &it.reading);
                let (group, chart) = (Some(&it.group), Some(&keys.args.chart));
                let table = TableOf { rows, group, style, reading, words, places, chart };
                let job = self.table(&part.rows, &table)?;
                let mut look = keys.args.chart.to_look()?;
                look.caption = self.filled(caption.as_ref())?;
                for name in look.bars.iter_mut().chain(&mut look.lines).chain(&mut look.targets) {
                    *name = self.heading(name, places)?;
                }
                if look.points {
                    correlation = self.correlation(&part.rows, job, places)?;
                }
                self.jobs[job].chart = Some(look);
                (MadeOf::Job(job), PartType::Chart)
            }
            Shows::Headline(headline) => {
                (MadeOf::Figure(Box::new(self.headline(&part.rows, headline)?)), PartType::Headline)
            }
        };
        let name = part.name.clone();
        Ok(PreparedPart { name, title, text, shows, made_of, correlation })
    }

    /// The named calculations: those of the report, but for those that a table names anew.
    fn lets(&self, own: &[(String, Arc<SourceText>)]) -> Vec<(String, Arc<SourceText>)> {
        let of_report = self.of.definition.lets.iter();
        let of_report = of_report.filter(|(name, _)| own.iter().all(|(own, _)| own != name));
        let of_report = of_report.map(|it| self.named(it));
        of_report.chain(own.iter().cloned()).collect()
    }

    fn named(&self, (name, text): &(String, Written)) -> (String, Arc<SourceText>) {
        (name.clone(), text.source(&format!("let {name}"), self.of.given))
    }

    /// The job of a table or a detail.
    fn table(&mut self, rows: &Rows, it: &TableOf<'_>) -> Result<usize, Error> {
        let given = self.of.given;
        let placed = |error| it.places.place(error);
        let options = OptionsOf {
            counted: it.rows.counted(),
            lookups: it.rows.lookups(),
            reading: it.reading,
            places: it.places,
        };
        let context = self.sources.context(self.of, rows, Some(options))?;
        let request = it.rows.to_request_with(context.lookups.clone()).map_err(placed)?;
        let request = match it.group {
            Some(group) => group.group(request).map_err(placed)?,
            None => request,
        };
        let mut request = request.map_texts(&mut |text| it.places.attach(text, given));
        let mut style = it.style.to_style().map_err(placed)?;
        style.long = it.group.is_some_and(|group| group.long);
        // Texts of a chart's own stand behind those that are shown.
        if let Some(chart) = it.chart {
            request = request_of(chart, request);
            for heading in request.show.iter_mut().filter_map(|show| show.heading.as_mut()) {
                *heading = self.heading(heading, it.places)?;
            }
            request = request.map_texts(&mut |text| it.places.attach(text, given));
        }
        let mut formats = it.words.formats.clone();
        for show in &it.words.show {
            formats.extend(self.show(show, &mut request, &mut style)?);
        }
        style.formats.extend(formats.iter().map(|(name, text)| (name.clone(), text.value.clone())));
        let own: Vec<_> = it.words.lets.iter().map(|it| self.named(it)).collect();
        request.lets.extend(own);
        request.lets = self.lets(&request.lets);
        request.for_reading = self.asked.for_reading;
        request.filters.splice(0..0, context.filters.iter().cloned());
        let known = std::mem::take(&mut request.one_spelling);
        request.one_spelling.clone_from(&context.one_spelling);
        request
            .one_spelling
            .extend(known.into_iter().filter(|c| !context.one_spelling.contains(c)));
        for (_, label) in &mut request.sort_column {
            given_label(label, given);
        }
        self.checks_of(&context, &mut request, it.places)?;
        let (source, figures, places) = (context.source, false, it.places.clone());
        let chart = None;
        self.jobs.push(Job { source, request, style, figures, formats, chart, places });
        Ok(self.jobs.len() - 1)
    }

    /// A heading that an option has, with what is given in it.
    fn heading(&self, text: &str, places: &Places) -> Result<String, Error> {
        filled_text(text, self.of.given).map_err(|message| places.mistake(message).into())
    }

    /// The correlation of the points of a chart.
    fn correlation(
        &mut self,
        rows: &Rows,
        job: usize,
        places: &Places,
    ) -> Result<Option<FigureAt>, Error> {
        let request = self.jobs[job].request.clone();
        let Some(calc) = correlation(&request) else { return Ok(None) };
        // The source is open, and the lookups are those of the chart.
        let context =
            Context { source: self.jobs[job].source, ..self.sources.context(self.of, rows, None)? };
        Ok(Some(self.figure(&context, &request, calc, places)?))
    }

    /// Takes the checks of a request for those of the report.
    fn checks_of(
        &mut self,
        context: &Context,
        request: &mut Request,
        places: &Places,
    ) -> Result<(), Error> {
        for check in std::mem::take(&mut request.checks) {
            let found = self.figure(context, request, check.calc.clone(), places)?;
            let wanted = self.figure(context, request, check.value.clone(), places)?;
            self.checks.push(PreparedCheck {
                name: None,
                that: check.written.clone(),
                terms: Terms { how: check.how, tolerance: check.tolerance },
                found: Found::Figure(found),
                wanted: WantedAt::Figure(wanted),
                places: places.clone(),
            });
        }
        Ok(())
    }

    /// Adds a result to a request, and how it looks; gives its format.
    fn show(
        &self,
        show: &ShowDefinition,
        request: &mut Request,
        style: &mut Style,
    ) -> Result<Option<(String, Written)>, Error> {
        match show {
            ShowDefinition::Typed(text) => {
                for mut show in Show::parse_all("--show", &text.value) {
                    let at = text.value.rfind(&show.calc.text).unwrap_or(0);
                    let calc = text.part(at..at + show.calc.text.len());
                    show.calc = calc.source("--show", self.of.given);
                    if let Some(heading) = &show.heading {
                        let at = text.value.find(heading.as_str()).unwrap_or(0);
                        show.heading = self.filled(Some(&text.part(at..at + heading.len())))?;
                    }
                    request.show.push(show);
                }
                Ok(None)
            }
            ShowDefinition::Parts { heading, calc, format, bars, shade, line } => {
                let heading = self.filled(heading.as_ref())?;
                let name = heading.clone().unwrap_or_else(|| calc.value.clone());
                style.bars.extend(bars.then(|| name.clone()));
                style.shades.extend(shade.then(|| name.clone()));
                style.lines.extend(line.then(|| name.clone()));
                request.show.push(Show { heading, calc: calc.source("--show", self.of.given) });
                Ok(format.clone().map(|format| (name, format)))
            }
        }
    }

    /// A figure over the rows of a request, all of them together: a result of the job that has the others of the
    /// same rows.
    pub(super) fn figure(
        &mut self,
        context: &Context,
        of: &Request,
        calc: Arc<SourceText>,
        places: &Places,
    ) -> Result<FigureAt, Error> {
        if parse_list(&calc).is_ok_and(|list| list.len() > 1) {
            let it = Diagnostic::new(&calc, 0..calc.text.len(), "these are several figures");
            return Err(it.label("one is expected here").into());
        }
        let job = *self.of_rows.entry(same_rows(context.source, of)).or_insert_with(|| {
            let request = of.over_all(Vec::new());
            let (source, places) = (context.source, places.clone());
            let (style, formats) = (Style::default(), Vec::new());
            let (figures, chart) = (true, None);
            self.jobs.push(Job { source, request, style, figures, formats, chart, places });
            self.jobs.len() - 1
        });
        self.jobs[job].request.show.push(Show { heading: None, calc });
        Ok((job, self.jobs[job].request.show.len() - 1))
    }

    /// A request over the rows of a section without a table.
    pub(super) fn over_rows(&mut self, rows: &Rows) -> Result<(Context, Request), Error> {
        let options = rows.options.as_deref().map(|keys| OptionsOf {
            counted: &keys.args.counted,
            lookups: &keys.args.lookups,
            reading: &keys.args.reading,
            places: &keys.places,
        });
        let context = self.sources.context(self.of, rows, options)?;
        let own = match options {
            Some(options) => {
                let own = options.counted.to_request().map_err(|e| options.places.place(e))?;
                own.map_texts(&mut |text| options.places.attach(text, self.of.given))
            }
            None => Request::default(),
        };
        let filters = context.filters.iter().cloned().chain(own.filters).collect();
        let one_spelling = context.one_spelling.iter().cloned().chain(own.one_spelling).collect();
        let lookups = context.lookups.clone();
        let lets = self.lets(&[]);
        let request = Request { filters, one_spelling, lookups, lets, ..Request::default() };
        Ok((context, request))
    }

    fn headline(&mut self, rows: &Rows, it: &HeadlineDefinition) -> Result<HeadlineAt, Error> {
        let (context, request) = self.over_rows(rows)?;
        let given = self.of.given;
        let heading = self.filled(it.heading.as_ref())?;
        let figure = self.figure(&context, &request, it.calc.source("calc", given), &it.places)?;
        let mut with = None;
        if let Some(beside) = &it.beside {
            let mut request = request.clone();
            if let Some(filters) = &beside.filters {
                let own = filters.iter().map(|f| f.source("where", given));
                request.filters = context.filters.iter().cloned().chain(own).collect();
            }
            let calc = beside.calc.as_ref().unwrap_or(&it.calc).source("calc", given);
            let other = self.figure(&context, &request, calc, &it.places)?;
            let heading = self.filled(beside.heading.as_ref())?;
            with = Some((heading.unwrap_or_else(|| "compared with".to_owned()), other));
        }
        Ok(HeadlineAt {
            heading: heading.unwrap_or_else(|| it.calc.value.clone()),
            figure,
            beside: with,
            style: Style::default(),
            format: it.format.clone(),
        })
    }
}

/// What is the same for requests over the same rows that name the same calculations, and differs for all others.
fn same_rows(source: usize, request: &Request) -> String {
    let texts = |list: &[Arc<SourceText>]| list.iter().map(|t| t.text.clone()).collect::<Vec<_>>();
    let lookups = request.lookups.iter();
    let lookups = lookups.map(|l| (Arc::as_ptr(&l.table), &l.on.text, &l.no_match));
    let lookups: Vec<_> = lookups.collect();
    let lets: Vec<_> = request.lets.iter().map(|(name, text)| (name, &text.text)).collect();
    format!(
        "{source} {lookups:?} {lets:?} {:?} {:?}",
        texts(&request.filters),
        request.one_spelling
    )
}

/// A label that is a value's name behind a `$`, as that value.
pub(super) fn given_label(label: &mut AtLabel, given: &Givens) {
    if let (false, Some(name)) = (label.quoted, label.text.strip_prefix('$'))
        && let Some(value) = given.get(name)
    {
        label.text = value.to_string();
    }
}
