//! `oeuvre trace`: the rows behind one cell.

use crate::args::report::of_report as report_named;
use crate::args::{TraceArgs, cell};
use crate::deliver::deliver_as;
use crate::environment;
use crate::failure::Failure;
use crate::present::settings;
use crate::report::{self, MadeOf};
use crate::run::planned;
use clap::ArgMatches;
use oeuvre_columns::Value;
use oeuvre_columns::names::{all_of, nearest};
use oeuvre_core::{Error, Trace};
use oeuvre_data::{files_named, open};
use oeuvre_render::{Style, write_trace};
use std::path::Path;

pub(crate) fn run(args: &TraceArgs, typed: &ArgMatches) -> Result<(), Failure> {
    let of = &args.summary;
    if let Some((report, files)) =
        report_named(&of.files, typed, &["given", "table", "at", "first"])?
    {
        return trace_report(args, report, files);
    }
    if args.table.is_some() {
        let message = "--in names a table of a report file";
        let help = "name the file: oeuvre trace monthly.toml --in NAME --at 'route = SKE'";
        return Err(Error::request_with_help(message, help).into());
    }
    let options = of.to_options()?;
    let (request, style) = of.to_request()?;
    let at = cell::read("--at", &args.at, &request.by)?;
    let threads = of.output.threads.map_or_else(environment::threads, usize::from);
    let settings = settings(&of.output, &style)?;
    let files = files_named(&of.files, None)?;
    let mut input = open(&files, options)?;
    let reads_as = |heading: &str, value: &oeuvre_columns::Value| style.reads_as(heading, value);
    let trace =
        planned(input.as_mut(), (&request, threads), &style, |plan, request, input, top| {
            let labels = top.labels(&at);
            let mut trace = oeuvre_core::trace(plan, request, input, threads, &labels, &reads_as)?;
            top.tell(&mut trace);
            Ok(trace)
        })?;
    let to = of.output.to.as_deref();
    deliver_as(to, settings.format, |out| write_trace(&trace, settings, args.first, out))
}

/// Traces a cell of a table of a report.
fn trace_report(args: &TraceArgs, path: &str, files: &[String]) -> Result<(), Failure> {
    let of = &args.summary;
    let threads = of.output.threads.map_or_else(environment::threads, usize::from);
    let definition = report::read(Path::new(path))?;
    let tables = definition.tables();
    let name = match (&args.table, tables.as_slice()) {
        (Some(name), _) if tables.contains(&name.as_str()) => name.clone(),
        (None, [only]) => (*only).to_owned(),
        (None, _) => {
            let message = format!("{path} has several tables: {}", all_of(&tables));
            return Err(Error::request_with_help(message, "say which: --in NAME").into());
        }
        (Some(name), _) => {
            let help = match nearest(name, tables.iter().copied()).first() {
                Some(near) => format!("did you mean `{near}`?"),
                None => format!("its tables are {}", all_of(&tables)),
            };
            let message = format!("--in {name}: the report has no table of this name");
            return Err(Error::request_with_help(message, help).into());
        }
    };
    let asked = (files, args.given.given.as_slice());
    let (trace, style) = cell_of_report(&definition, asked, (&name, &args.at), threads)?;
    let settings = settings(&of.output, &style)?;
    let to = of.output.to.as_deref();
    deliver_as(to, settings.format, |out| write_trace(&trace, settings, args.first, out))
}

/// A cell of a table of a report over its own files, and how it looks.
pub(super) fn of_report(
    definition: &report::Definition,
    table: &str,
    at: &str,
    threads: usize,
) -> Result<(Trace, Style), Failure> {
    cell_of_report(definition, (&[], &[]), (table, at), threads)
}

fn cell_of_report(
    definition: &report::Definition,
    (files, given): (&[String], &[String]),
    (table, at): (&str, &str),
    threads: usize,
) -> Result<(Trace, Style), Failure> {
    let only = [table.to_owned()];
    let asked =
        report::Asked { files, given, only: &only, for_reading: true, threads, parts_in: None };
    let mut prepared = report::prepare(definition, asked)?;
    report::ensure_sound(&mut prepared)?;
    let Some(MadeOf::Job(job)) = prepared.parts.first().map(|part| &part.made_of) else {
        return Err(Error::request("a trace is of a table").into());
    };
    let job = &prepared.jobs[*job];
    let at = cell::read("--at", at, &job.request.by)?;
    let style = job.style.clone();
    let reads_as = |heading: &str, value: &Value| style.reads_as(heading, value);
    let source = &mut prepared.sources[job.source];
    let request = (&job.request, threads);
    let trace = planned(source.input.as_mut(), request, &style, |plan, request, input, top| {
        let labels = top.labels(&at);
        let mut trace = oeuvre_core::trace(plan, request, input, threads, &labels, &reads_as)?;
        top.tell(&mut trace);
        Ok(trace)
    })?;
    Ok((trace, style))
}
