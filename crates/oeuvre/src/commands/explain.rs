//! `oeuvre explain`: a request in plain sentences. Only the start of the files is read.

use crate::args::ExplainArgs;
use crate::args::style::ensure_fits;
use crate::deliver::deliver;
use crate::environment;
use crate::failure::Failure;
use oeuvre_core::{Error, Plan};
use oeuvre_data::{open, settled};
use oeuvre_render::write_sections;

pub(crate) fn run(args: &ExplainArgs) -> Result<(), Failure> {
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
    let mut input = open(&args.files, options)?;
    // No more is read than the sample from which kinds are guessed, and so no spelling is counted.
    let sections = settled(input.as_mut(), |input| {
        let plan = Plan::new(&request, input.columns())?;
        ensure_fits(&style, &plan)?;
        Ok::<_, Error>(oeuvre_core::explain(&request, &plan, &args.files))
    })?;
    let output = &args.output;
    let width = output.width.or_else(environment::terminal_width).unwrap_or(usize::MAX);
    deliver(output.to.as_deref(), |out| write_sections(&sections, width, out))
}
