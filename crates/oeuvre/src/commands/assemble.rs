//! `oeuvre assemble`: the table of all rows from parts of them, or one part of several.

use crate::args::parts::AssembleArgs;
use crate::environment;
use crate::failure::Failure;
use crate::parts::{ENDING, Joined, Part, join};
use crate::present::present_explained;
use crate::run::{explained, summarize_rows};
use oeuvre_core::{Request, with_checks};
use oeuvre_render::Style;
use std::path::PathBuf;

pub(crate) fn run(args: &AssembleArgs) -> Result<(), Failure> {
    let threads = args.output.threads.map_or_else(environment::threads, usize::from);
    let mut parts = Vec::new();
    for path in &args.parts {
        parts.push((path.display().to_string(), Part::read(path)?));
    }
    let mut style = Style::default();
    let joined = join(
        parts,
        |part| {
            let options = part.asks.options()?;
            style = options.to_style()?;
            let request = options.to_request_with(part.lookups.clone())?;
            Ok(Request { for_reading: true, ..request })
        },
        threads,
    )?;
    let is_part = |to: &&PathBuf| to.extension().is_some_and(|ending| ending == ENDING);
    if let Some(to) = args.output.to.as_ref().filter(is_part) {
        joined.into_part().write(to)?;
        return Ok(());
    }
    let format = args.output.format()?;
    let files = joined.files();
    let Joined { request, mut rows, tally, .. } = joined;
    let (grid, ledger, sections) = match tally {
        Some((plans, tally)) => {
            let all: Vec<_> = plans.iter().collect();
            crate::args::style::ensure_fits(&style, all[0])?;
            let made = tally.finish(&all, &rows, threads)?;
            let (grid, ledger) = with_checks(&request, made)?;
            let sections = explained(format.explains(), &request, all[0], &files);
            (grid, ledger, sections)
        }
        None => {
            let how = (threads, format.explains());
            summarize_rows(&mut rows, &files, &request, how, &style)?
        }
    };
    present_explained(&args.output, &style, (&grid, &ledger), sections)
}
