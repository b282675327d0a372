//! `oeuvre explain`: a request in plain sentences. Only the start of the files is read.

use super::Failure;
use super::summary::deliver;
use crate::args::ExplainArgs;
use crate::args::look::ensure_fits;
use oeuvre_core::{Error, Plan, Source};
use oeuvre_data::CsvSource;
use oeuvre_render::escape_controls;

pub(crate) fn run(args: &ExplainArgs) -> Result<(), Failure> {
    let detail = args.detail;
    let args = &args.summary;
    let options = args.reading.to_options()?;
    let (mut request, look) = args.to_request(&options)?;
    if detail {
        if !request.by.is_empty() || !request.across.is_empty() {
            let message = "--by and --across group rows, and a listing keeps each of them";
            return Err(Error::request_with_help(message, "leave out --detail, or the keys").into());
        }
        request = args.rows.to_request(&args.reading.to_options()?)?;
    }
    let source = CsvSource::open(&args.files, options)?;
    let plan = Plan::new(&request, source.columns())?;
    ensure_fits(&look, &plan)?;
    let mut text = String::new();
    for section in oeuvre_core::explain(&request, &plan, &args.files) {
        text.push_str(&format!("{}\n", escape_controls(&section.title)));
        for line in section.lines {
            text.push_str(&format!("    {}\n", escape_controls(&line)));
        }
        text.push('\n');
    }
    deliver(args.output.to.as_deref(), |out| {
        out.write_all(text.trim_end().as_bytes()).and_then(|()| out.write_all(b"\n"))
    })
}
