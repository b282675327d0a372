//! From what a report file says to requests over open files.

use super::definition::{CheckDefinition, Definition, Rows};
use super::file::{Mistakes, Written};
use super::given::known;
use super::making::Making;
use super::prepared::{Asked, Prepared};
use super::rows::{Context, Of, Sources};
use crate::failure::Failure;
use crate::parts::KeptParts;
use oeuvre_columns::Value;
use oeuvre_columns::names::{all_of, nearest};
use oeuvre_core::language::parser::parse;
use oeuvre_core::{Error, Given, Givens, Request, Show};
use oeuvre_render::Style;
use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;

/// Makes the requests of a report.
pub(crate) fn prepare(definition: &Definition, asked: Asked<'_>) -> Result<Prepared, Failure> {
    let (values, open) = known(&definition.file, &definition.given, asked.given)?;
    let mut given = Arc::new(values);
    let mut sources = Sources::default();
    let mut read = BTreeSet::new();
    if !open.is_empty() {
        let of = Of { definition, files: asked.files, given: &given };
        let context = sources.context(&of, &Rows::default(), None)?;
        let calcs: Vec<&Written> = open.iter().map(|(_, calc)| *calc).collect();
        let found =
            figures(definition, &mut sources, (&context, &calcs, &given), (asked, &mut read))?;
        let mut all = Givens::clone(&given);
        for ((definition, calc), value) in open.iter().zip(found) {
            let value: Given =
                definition.found(&value).map_err(|problem| Error::from(calc.mistake(problem)))?;
            all.insert(definition.name.clone(), value);
        }
        given = Arc::new(all);
    }
    let of = Of { definition, files: asked.files, given: &given };
    let only = Only { definition, names: asked.only };
    only.ensure_known()?;
    let mut making = Making {
        of: &of,
        asked,
        sources,
        mistakes: Mistakes::default(),
        jobs: Vec::new(),
        parts: Vec::new(),
        checks: Vec::new(),
        of_rows: HashMap::new(),
    };
    let [title, text] = [&definition.title, &definition.text].map(|it| making.filled(it.as_ref()));
    let title = making.mistakes.take(title)?.flatten();
    let text = making.mistakes.take(text)?.flatten();
    for part in definition.parts.iter().filter(|part| only.takes_part(&part.name)) {
        making.part(part)?;
    }
    for check in definition.checks.iter().filter(|check| only.takes_check(check)) {
        making.check(check)?;
    }
    making.mistakes.none()?;
    let (parts, jobs, checks) = (making.parts, making.jobs, making.checks);
    let formats = definition.formats.clone();
    let sources = making.sources.all;
    let (is_partial, file) = (!asked.only.is_empty(), definition.file.text.name.clone());
    Ok(Prepared { title, text, sources, jobs, parts, checks, formats, is_partial, file, read })
}

/// The parts and checks that are wanted: all where none is named.
struct Only<'a> {
    definition: &'a Definition,
    names: &'a [String],
}

impl Only<'_> {
    fn takes(&self, name: &str) -> bool {
        self.names.is_empty() || self.names.iter().any(|only| only == name)
    }

    fn takes_check(&self, check: &CheckDefinition) -> bool {
        self.names.is_empty() || check.name.as_ref().is_some_and(|name| self.takes(name))
    }

    /// Whether a part is wanted, by itself or by a check of one of its cells.
    fn takes_part(&self, part: &str) -> bool {
        let of_part =
            |c: &&CheckDefinition| c.cell.as_ref().is_some_and(|(name, _)| name.value == part);
        let mut checks = self.definition.checks.iter().filter(of_part);
        self.takes(part) || checks.any(|check| self.takes_check(check))
    }

    /// That each name is that of a part or a check.
    fn ensure_known(&self) -> Result<(), Error> {
        let parts = self.definition.parts.iter().map(|p| p.name.as_str());
        let checks = self.definition.checks.iter().filter_map(|c| c.name.as_deref());
        let names: Vec<&str> = parts.chain(checks).collect();
        let Some(only) = self.names.iter().find(|only| !names.contains(&only.as_str())) else {
            return Ok(());
        };
        let help = match nearest(only, names.iter().copied()).first() {
            Some(near) => format!("did you mean `{near}`?"),
            None => format!("it has {}", all_of(&names)),
        };
        let message = format!("--only {only}: the report has no part of this name");
        Err(Error::request_with_help(message, help))
    }
}

/// Some figures over all rows of a context.
fn figures(
    definition: &Definition,
    sources: &mut Sources,
    (context, calcs, given): (&Context, &[&Written], &Arc<Givens>),
    (asked, read): (Asked<'_>, &mut BTreeSet<String>),
) -> Result<Vec<Value>, Failure> {
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
    let (open, threads) = (&mut sources.all[context.source], asked.threads);
    let style = Style::default();
    let of_files = (open.files.as_slice(), &open.options);
    let grid = match asked.parts_in.map(|folder| KeptParts::of(folder, of_files, threads)) {
        Some(Some(kept)) if request.one_spelling.is_empty() => {
            let request = Request { for_reading: true, ..request };
            let (tables, places) = kept.tables(&[&request])?;
            read.extend(places.into_iter().map(|place| open.files[place].clone()));
            tables.into_iter().map(|table| table.grid).next().unwrap_or_default()
        }
        _ => {
            let input = open.input.as_mut();
            crate::run::planned(input, (&request, threads), &style, |plan, _, source, _| {
                Ok(oeuvre_core::run(plan, source, threads)?.0)
            })?
        }
    };
    Ok((0..grid.columns.len()).map(|column| grid.cell(0, column)).collect())
}
