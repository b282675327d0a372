//! From what a section says of its rows to sources that are open and lookups that are read.
//!
//! Sections that read the same files in the same way share a source, and so a pass; a lookup is read once, whoever
//! uses it.

use super::definition::{ColumnDefinition, Definition, LookupDefinition, Rows};
use super::file::Written;
use super::given::filled;
use super::keys::{Places, as_keys, at};
use crate::args::reading::{ReadingArgs, date_form, word};
use crate::args::request::{CountedArgs, LookupArgs, LookupTerms};
use oeuvre_core::{Doubled, Error, Givens, LookupRequest, NoMatch, SourceText};
use oeuvre_data::{Forced, Input, ReadOptions, files_named, open};
use std::collections::HashMap;
use std::path::Path;
use std::sync::Arc;

/// Rows that are open.
pub(crate) struct OpenSource {
    /// What it is made of, to know the same one again.
    key: String,
    /// The names of its files.
    pub(crate) files: Vec<String>,
    /// How they are read.
    pub(crate) options: ReadOptions,
    pub(crate) input: Box<dyn Input>,
}

/// All sources of a report.
#[derive(Default)]
pub(super) struct Sources {
    pub(super) all: Vec<OpenSource>,
    lookups: HashMap<String, LookupRequest>,
}

/// Options on rows, wherever they stand.
#[derive(Clone, Copy)]
pub(super) struct OptionsOf<'a> {
    pub(super) counted: &'a CountedArgs,
    pub(super) lookups: &'a LookupArgs,
    pub(super) reading: &'a ReadingArgs,
    pub(super) places: &'a Places,
}

/// The rows that a part is made of.
#[derive(Clone)]
pub(super) struct Context {
    /// Which source.
    pub(super) source: usize,
    pub(super) lookups: Vec<LookupRequest>,
    /// The conditions of the report, without those of the part.
    pub(super) filters: Vec<Arc<SourceText>>,
    /// Labels that are one, by what the report says.
    pub(super) one_spelling: Vec<(Option<String>, String)>,
}

/// What is the same for all sections.
pub(super) struct Of<'a> {
    pub(super) definition: &'a Definition,
    /// Files that were named on the command line, in place of those of the report.
    pub(super) files: &'a [String],
    pub(super) given: &'a Arc<Givens>,
}

impl Sources {
    /// The rows of a section: its own where it names files, else those of the report.
    pub(super) fn context(
        &mut self,
        of: &Of<'_>,
        rows: &Rows,
        own: Option<OptionsOf<'_>>,
    ) -> Result<Context, Error> {
        let data = &of.definition.data;
        let of_data = data.options.as_deref().map(|keys| OptionsOf {
            counted: &keys.args.counted,
            lookups: &keys.args.lookups,
            reading: &keys.args.reading,
            places: &keys.places,
        });
        let is_own = rows.files.is_some();
        let own_reading = own.filter(|o| is_own || o.places.has_any::<ReadingArgs>());
        let reading = own_reading.or(if is_own { None } else { of_data });
        let columns =
            if is_own || !rows.columns.is_empty() { &rows.columns } else { &data.columns };
        // Lookups: those of the section where it names any, else those of the report with its rows.
        let own_lookups =
            !rows.lookups.is_empty() || own.is_some_and(|o| !o.lookups.names().is_empty());
        let (tables, typed) = match (own_lookups, is_own) {
            (true, _) => (rows.lookups.as_slice(), own),
            (false, true) => (&[][..], None),
            (false, false) => (data.lookups.as_slice(), of_data),
        };
        let mut names: Vec<String> = typed.map_or(Vec::new(), |t| t.lookups.names());
        names.extend(tables.iter().map(LookupDefinition::called));
        let none = ReadingArgs::default();
        let reading_args = reading.map_or(&none, |r| r.reading);
        let placed = |error: Error| match reading {
            Some(of) => of.places.place(error),
            None => error,
        };
        let mut options = reading_args.to_options(&names).map_err(placed)?;
        add_columns(columns, &names, None, &mut options)?;
        let source = self.source(of, rows, options, is_own);
        let source = source.map_err(|e| at_column(of.definition, columns, e)).map_err(placed)?;
        let mut lookups = Vec::new();
        if let Some(typed) = typed.filter(|t| !t.lookups.names().is_empty()) {
            let read = typed.lookups.read(reading_args, Some(&of.definition.file.folder));
            for mut lookup in read.map_err(|e| typed.places.place(e))? {
                lookup.on = typed.places.attach(&lookup.on, of.given);
                lookups.push(lookup);
            }
        }
        for table in tables {
            lookups.push(self.lookup(of, table, (reading_args, columns), &names)?);
        }
        let mut context =
            Context { source, lookups, filters: Vec::new(), one_spelling: Vec::new() };
        if let Some(of_data) = of_data.filter(|_| !is_own) {
            let request = of_data.counted.to_request().map_err(|e| of_data.places.place(e))?;
            let attached = request.filters.iter().map(|f| of_data.places.attach(f, of.given));
            context.filters = attached.collect();
            context.one_spelling = request.one_spelling;
        }
        Ok(context)
    }

    /// The source of some files, opened where it is not yet.
    fn source(
        &mut self,
        of: &Of<'_>,
        rows: &Rows,
        mut options: ReadOptions,
        is_own: bool,
    ) -> Result<usize, Error> {
        let folder = Some(of.definition.file.folder.as_path());
        let none = Vec::new();
        let named = match (is_own, of.files.is_empty()) {
            (true, _) => rows.files.as_ref().unwrap_or(&none),
            (false, true) => of.definition.data.files.as_ref().unwrap_or(&none),
            (false, false) => &none,
        };
        let mut files = Vec::new();
        for (name, reading) in named {
            let text = filled(name, of.given)?;
            let found = files_named(&[text], folder).map_err(|e| at(name, e.into()))?;
            if let Some(keys) = reading.as_ref().filter(|r| r.places.has_any::<ReadingArgs>()) {
                let own = keys.args.to_options(&[]).map_err(|e| keys.places.place(e))?;
                let places = files.len()..files.len() + found.len();
                options.of_files.extend(places.map(|place| (place, own.clone())));
            }
            files.extend(found);
        }
        if !is_own && !of.files.is_empty() {
            files = files_named(of.files, None)?;
        }
        if files.is_empty() {
            let it = of.definition.file.mistake(0..0, "the report names no files");
            let it = it.help(
                "write files = [\"bookings.csv\"] below [data], or name them behind the report",
            );
            return Err(Error::Diagnostics(vec![it]));
        }
        let key = format!("{files:?} {options:?}");
        if let Some(known) = self.all.iter().position(|source| source.key == key) {
            return Ok(known);
        }
        let input = open(&files, options.clone())?;
        self.all.push(OpenSource { key, files, options, input });
        Ok(self.all.len() - 1)
    }

    fn lookup(
        &mut self,
        of: &Of<'_>,
        table: &LookupDefinition,
        (reading, columns): (&ReadingArgs, &[ColumnDefinition]),
        names: &[String],
    ) -> Result<LookupRequest, Error> {
        let name = table.called();
        let mut options = match table.reading.places.has_any::<ReadingArgs>() {
            true => {
                let options = table.reading.args.to_options(&[]);
                let options = options.map_err(|e| table.reading.places.place(e))?;
                ReadOptions { lookup: Some(name.clone()), ..options }
            }
            false => reading.to_lookup_options(names, &name)?,
        };
        add_columns(columns, names, Some(&name), &mut options)?;
        add_columns(&table.columns, &[], None, &mut options)?;
        let file = filled(&table.file, of.given)?;
        let no_match = match &table.no_match {
            Some(text) => word("--no-match", &text.value).map_err(|e| at(text, e))?,
            None => NoMatch::Blank,
        };
        let doubled = match &table.doubled {
            Some(text) => word("--doubled", &text.value).map_err(|e| at(text, e))?,
            None => Doubled::Stop,
        };
        let on = table.on.source("--match", of.given);
        let key = format!("{name} {file} {options:?}");
        if let Some(known) = self.lookups.get(&key) {
            return Ok(LookupRequest { on, no_match, doubled, ..known.clone() });
        }
        let terms = LookupTerms { on, no_match, doubled };
        let folder: Option<&Path> = Some(&of.definition.file.folder);
        let read = terms.read(&name, &file, folder, options).map_err(|e| at(&table.file, e))?;
        self.lookups.insert(key, read.clone());
        Ok(read)
    }
}

/// What is wrong with a column, told where the file speaks of it.
fn at_column(definition: &Definition, columns: &[ColumnDefinition], error: Error) -> Error {
    let Error::Data(problem) = &error else { return error };
    let named = |c: &&ColumnDefinition| problem.message.contains(&format!("`{}`", c.name));
    match columns.iter().find(named) {
        Some(column) if problem.file.is_none() => {
            let message = as_keys(&problem.message);
            let it = definition.file.mistake(column.span.clone(), message);
            let help = problem.help.iter().map(|h| as_keys(h));
            Error::from(help.fold(it, |it, help| it.help(help)))
        }
        _ => error,
    }
}

/// Adds what is said of single columns. With the name of a lookup before it a column is that lookup's.
fn add_columns(
    columns: &[ColumnDefinition],
    lookups: &[String],
    lookup: Option<&str>,
    options: &mut ReadOptions,
) -> Result<(), Error> {
    for column in columns {
        let named =
            column.name.split_once('.').filter(|(name, _)| lookups.iter().any(|l| l == name));
        let name = match (named, lookup) {
            (None, None) => column.name.clone(),
            (Some((of, rest)), Some(lookup)) if of == lookup => rest.to_owned(),
            _ => continue,
        };
        if let Some(kind) = &column.kind {
            let forced: Forced = word("kind", &kind.value).map_err(|e| at(kind, e))?;
            options.kinds.push((name.clone(), forced));
        }
        let with_name = |text: &Written| (name.clone(), text.value.clone());
        options.missing_of.extend(column.missing.iter().map(with_name));
        options.not_missing_of.extend(column.not_missing.iter().map(with_name));
        if let Some(dates) = &column.dates {
            let form = date_form(&dates.value).map_err(|e| at(dates, e))?;
            options.dates_of.push((name.clone(), form));
        }
    }
    Ok(())
}
