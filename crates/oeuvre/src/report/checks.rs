//! The checks of a report: where both figures of each are found.

use super::definition::{CheckDefinition, Rows, Wanted};
use super::file::Written;
use super::making::{Making, given_label};
use super::prepared::{Found, MadeOf, PreparedCheck, WantedAt};
use super::rows::Context;
use crate::args::cell;
use oeuvre_columns::names::nearest;
use oeuvre_columns::{Decimal, Value};
use oeuvre_core::{Error, Request};
use oeuvre_data::{saved_checks, saved_tables};

/// A side of a check: where its figure is, and how it reads.
type Side<T> = Result<(T, String), Error>;

impl Making<'_> {
    /// Makes a check.
    ///
    /// # Errors
    /// What cannot be read; mistakes in the file are noted.
    pub(super) fn check(&mut self, it: &CheckDefinition) -> Result<(), Error> {
        let made = self.made_check(it);
        let made = self.mistakes.take(made)?;
        self.checks.extend(made);
        Ok(())
    }

    fn made_check(&mut self, it: &CheckDefinition) -> Result<PreparedCheck, Error> {
        let (context, request) = self.over_rows(&it.rows)?;
        if let Wanted::Since(file) = &it.wanted {
            return self.since(it, file, &context, &request);
        }
        let (found, mut that) = match &it.cell {
            None => self.found(it, &context, &request)?,
            Some((table, at)) => self.cell(table, at.as_ref(), it.that.as_ref())?,
        };
        let (wanted, text) = self.wanted(it, &context, &request)?;
        that.push_str(&format!(" {} {text}", it.terms.how.text()));
        if let Some(tolerance) = &it.tolerance {
            that.push_str(&format!(" \u{b1} {}", tolerance.value));
        }
        let (name, terms, places) = (it.name.clone(), it.terms, it.places.clone());
        Ok(PreparedCheck { name, that, terms, found, wanted, places })
    }

    /// A check that nothing changed since an earlier result: of a table as a whole, or of the figure that a check of
    /// the same name found then.
    fn since(
        &mut self,
        it: &CheckDefinition,
        file: &Written,
        context: &Context,
        request: &Request,
    ) -> Result<PreparedCheck, Error> {
        let path = self.of.definition.file.folder.join(&file.value).display().to_string();
        let json = std::fs::read_to_string(&path)
            .map_err(|e| file.mistake(format!("{path} cannot be read: {e}")))?;
        let (name, terms, places) = (it.name.clone(), it.terms, it.places.clone());
        let (found, that, wanted) = match &it.cell {
            Some((_, Some(at))) => {
                let it = at.mistake("an earlier result is compared as a whole");
                return Err(it
                    .help("leave `at` out, or write the known figure with equals")
                    .into());
            }
            Some((table, None)) => {
                let (found, that) = self.cell(table, None, it.that.as_ref())?;
                let mut tables = saved_tables(&path, &json, &[])?;
                let alone = tables.len() == 1;
                let at =
                    tables.iter().position(|t| t.name == table.value || alone && t.name.is_empty());
                let Some(at) = at else {
                    return Err(file
                        .mistake(format!("{path} has no table `{}`", table.value))
                        .into());
                };
                let saved = Box::new(tables.swap_remove(at));
                (found, that, WantedAt::Table(file.value.clone(), saved))
            }
            None => {
                let (found, that) = self.found(it, context, request)?;
                let called = name.clone().unwrap_or_else(|| that.clone());
                let checks = saved_checks(&path, &json)?;
                let Some((_, value)) = checks.into_iter().find(|(n, _)| *n == called) else {
                    return Err(file.mistake(format!("{path} has no check `{called}`")).into());
                };
                (found, that, WantedAt::Known(value))
            }
        };
        let that = format!("{that} unchanged since {}", file.value);
        Ok(PreparedCheck { name, that, terms, found, wanted, places })
    }

    /// A figure over the rows of the check.
    fn found(&mut self, it: &CheckDefinition, context: &Context, request: &Request) -> Side<Found> {
        let Some(calc) = &it.that else {
            return Err(it.places.mistake("`that` is needed here").into());
        };
        let that = format!("{}{}", calc.value, where_of(&it.rows));
        let calc = calc.source("that", self.of.given);
        Ok((Found::Figure(self.figure(context, request, calc, &it.places)?), that))
    }

    /// A cell of a table.
    fn cell(
        &mut self,
        table: &Written,
        at: Option<&Written>,
        result: Option<&Written>,
    ) -> Side<Found> {
        let Some(part) = self.parts.iter().find(|p| p.name == table.value) else {
            let names = self.of.definition.parts.iter().map(|p| p.name.as_str());
            let it = table.mistake(format!("no table is called `{}`", table.value));
            return Err(match nearest(&table.value, names).first() {
                Some(near) => it.label(format!("did you mean `{near}`?")),
                None => it,
            }
            .into());
        };
        let MadeOf::Job(job) = part.made_of else {
            return Err(table.mistake("this is no table").into());
        };
        let mut that = table.value.clone();
        let mut keys = Vec::new();
        if let Some(at) = at {
            that.push_str(&format!(" at {}", at.value));
            let by = &self.jobs[job].request.by;
            keys = cell::read("at", &at.value, by).map_err(|e| super::keys::at(at, e))?;
            for (written, label) in &mut keys {
                given_label(label, self.of.given);
                // The key of a bare label is written nowhere.
                if let Some(place) = at.value.find(&written.text) {
                    let key = at.part(place..place + written.text.len());
                    *written = key.source("at", self.of.given);
                }
            }
        }
        if let Some(result) = result {
            that.push_str(&format!(": {}", result.value));
        }
        Ok((Found::Cell { job, result: result.cloned(), at: keys }, that))
    }

    fn wanted(
        &mut self,
        it: &CheckDefinition,
        context: &Context,
        request: &Request,
    ) -> Side<WantedAt> {
        let given = self.of.given;
        match &it.wanted {
            Wanted::Date(text) => {
                let value = Value::Text(text.value.as_str().into());
                Ok((WantedAt::Known(value), text.value.clone()))
            }
            Wanted::Calc(text) => {
                let wanted = match text.value.parse::<Decimal>() {
                    Ok(number) => WantedAt::Known(Value::Number(number)),
                    Err(()) => {
                        let calc = text.source("equals", given);
                        WantedAt::Figure(self.figure(context, request, calc, &it.places)?)
                    }
                };
                Ok((wanted, text.value.clone()))
            }
            Wanted::Since(file) => Err(file.mistake("a result is compared as a whole").into()),
            Wanted::SameAs { calc, rows } => {
                let (context, request) = self.over_rows(rows)?;
                let mut text = calc.value.clone();
                if rows.files.is_some() {
                    let files = &self.sources.all[context.source].files;
                    text.push_str(&format!(" of {}", files.join(", ")));
                }
                text.push_str(&where_of(rows));
                let source = calc.source("calc", given);
                let figure = self.figure(&context, &request, source, &it.places)?;
                Ok((WantedAt::Figure(figure), text))
            }
        }
    }
}

/// The conditions of a section, in words behind a figure.
fn where_of(rows: &Rows) -> String {
    let filters = rows.options.as_deref().map_or(&[][..], |keys| keys.args.counted.filters());
    match filters {
        [] => String::new(),
        filters => format!(" where {}", filters.join(" and ")),
    }
}
