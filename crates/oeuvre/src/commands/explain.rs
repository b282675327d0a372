//! `oeuvre explain`: a request in plain sentences. Only the start of the files is read.

use crate::args::ExplainArgs;
use crate::args::report::of_report;
use crate::args::style::ensure_fits;
use crate::deliver::deliver;
use crate::environment;
use crate::failure::Failure;
use crate::report;
use clap::ArgMatches;
use oeuvre_core::{Error, Plan};
use oeuvre_data::{files_named, name_shown, open, settled};
use oeuvre_render::{escape_controls, write_sections};
use std::path::Path;

pub(crate) fn run(args: &ExplainArgs, typed: &ArgMatches) -> Result<(), Failure> {
    if let Some((report, files)) = of_report(&args.summary.files, typed, &["given", "only"])? {
        return explain_report(args, report, files);
    }
    let detail = args.detail;
    let args = &args.summary;
    let options = args.to_options()?;
    let (mut request, style) = args.to_request()?;
    if detail {
        if !request.by.is_empty() || !request.columns_by.is_empty() {
            let message = "--by and --columns-by group rows, and detail keeps each of them";
            return Err(Error::request_with_help(message, "leave out --detail, or the keys").into());
        }
        request = args.rows.to_request(&args.reading)?;
    }
    let files = files_named(&args.files, None)?;
    let mut input = open(&files, options)?;
    let shown: Vec<String> = files.iter().map(|file| name_shown(file)).collect();
    // No more is read than the sample from which kinds are guessed, and so no spelling is counted.
    let sections = settled(input.as_mut(), |input| {
        let plan = Plan::new(&request, input.columns())?;
        ensure_fits(&style, &plan)?;
        Ok::<_, Error>(oeuvre_core::explain(&request, &plan, &shown))
    })?;
    let output = &args.output;
    let width = output.width.or_else(environment::terminal_width).unwrap_or(usize::MAX);
    deliver(output.to.as_deref(), |out| write_sections(&sections, width, out))
}

/// Explains every part of a report.
fn explain_report(args: &ExplainArgs, path: &str, files: &[String]) -> Result<(), Failure> {
    let definition = report::read(Path::new(path))?;
    let output = &args.summary.output;
    let threads = output.threads.map_or_else(environment::threads, usize::from);
    let (given, only) = (&args.given.given, &args.given.only);
    let asked = report::Asked { files, given, only, for_reading: true, threads, parts_in: None };
    let mut prepared = report::prepare(&definition, asked)?;
    let explained = report::explain(&mut prepared)?;
    let width = output.width.or_else(environment::terminal_width).unwrap_or(usize::MAX);
    deliver(output.to.as_deref(), |out| {
        for (i, (name, sections)) in explained.iter().enumerate() {
            let above = if i > 0 { "\n\n" } else { "" };
            writeln!(out, "{above}{}\n", escape_controls(name))?;
            write_sections(sections, width, out)?;
        }
        Ok(())
    })
}
