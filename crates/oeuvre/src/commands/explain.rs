//! `oeuvre explain`: a request in plain sentences. Only the start of the files is read.

use super::Failure;
use super::summary::deliver;
use crate::args::SummaryArgs;
use crate::args::look::ensure_fits;
use oeuvre_core::{Plan, Source};
use oeuvre_data::CsvSource;
use oeuvre_render::escape_controls;

pub(crate) fn run(args: &SummaryArgs) -> Result<(), Failure> {
    let options = args.reading.to_options()?;
    let (request, look) = args.to_request(&options)?;
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
