//! How a table looks.

use crate::complete;
use oeuvre_core::{Error, Plan};
use oeuvre_render::{Named, Signs, Style};

/// Options that say how a table looks.
#[derive(clap::Args, Debug)]
#[command(next_help_heading = "How it looks")]
pub(crate) struct StyleArgs {
    /// How a column reads: 'revenue: #,##0.00'.
    ///
    /// How a column reads, as in 'revenue: #,##0.00'; repeatable.
    ///
    /// Numbers take Unicode number patterns (#,##0.00, 0.0%, #,##0 €;(#,##0 €)), dates and periods take
    /// date patterns (d MMM yyyy, QQQ yyyy). Halves are rounded away from zero. CSV and JSON carry
    /// the values themselves.
    #[arg(long, value_name = "COLUMN: PATTERN", add = complete::columns())]
    format: Vec<String>,
    /// Draw bars in the cells of a result; repeatable.
    #[arg(hide_short_help = true, long, value_name = "CALC", add = complete::calculations())]
    cell_bars: Vec<String>,
    /// Shade the cells of a result, the larger the darker; repeatable.
    #[arg(hide_short_help = true, long, value_name = "CALC", add = complete::calculations())]
    cell_shade: Vec<String>,
    /// Draw a small line along the top keys at the end of each line of a result; repeatable.
    #[arg(hide_short_help = true, long, value_name = "CALC", add = complete::calculations())]
    cell_line: Vec<String>,
    /// How numbers are to look, by a sample: '1.234,56', '1 234,56' or '1234,5'.
    ///
    /// Sets the sign between groups of digits and the decimal sign in what is for reading, and in CSV, whose fields are
    /// then separated by semicolons. JSON carries the values themselves.
    #[arg(hide_short_help = true, long, value_name = "SAMPLE")]
    number_style: Option<String>,
    /// What stands in cells without a value; nothing unless said.
    #[arg(
        hide_short_help = true,
        long,
        value_name = "TEXT",
        default_value = "",
        hide_default_value = true
    )]
    blank: String,
}

impl StyleArgs {
    /// The look that the options make.
    pub(crate) fn to_style(&self) -> Result<Style, Error> {
        let mut formats = Vec::new();
        for text in &self.format {
            let (name, pattern) = text.split_once(':').ok_or_else(|| {
                Error::request_with_help(
                    format!("--format '{text}' names no column"),
                    "write --format 'COLUMN: PATTERN', such as --format 'revenue: #,##0.00'",
                )
            })?;
            formats.push((name.trim().to_owned(), pattern.trim().to_owned()));
        }
        let signs = match &self.number_style {
            None => None,
            Some(sample) => Some(Signs::of_sample(sample).ok_or_else(|| {
                Error::request_with_help(
                    format!("--number-style '{sample}' does not show how a number is to look"),
                    "write a number with groups and decimals: --number-style '1.234,56'",
                )
            })?),
        };
        Ok(Style {
            formats,
            signs,
            bars: self.cell_bars.clone(),
            shades: self.cell_shade.clone(),
            lines: self.cell_line.clone(),
            blank: self.blank.clone(),
            long: false,
        })
    }
}

/// The columns that a plan makes, as a look may name them.
pub(crate) fn columns_of(plan: &Plan) -> Vec<Named> {
    let keys = plan.keys().iter().map(|k| Named {
        heading: k.heading.clone(),
        calc: k.heading.clone(),
        kind: k.kind,
        key: true,
    });
    let results = plan.results.iter().map(|r| Named {
        heading: r.heading.clone(),
        calc: r.calc().to_owned(),
        kind: r.built.kind,
        key: false,
    });
    results.chain(keys).collect()
}

/// Checks a look against the columns that a plan makes, before any row is read.
pub(crate) fn ensure_fits(style: &Style, plan: &Plan) -> Result<(), Error> {
    ensure_fits_columns(style, &columns_of(plan))
}

/// As [`ensure_fits`], of some columns.
pub(crate) fn ensure_fits_columns(style: &Style, columns: &[Named]) -> Result<(), Error> {
    style.check(columns).map_err(|problem| Error::Request {
        message: problem.message,
        help: vec![problem.help],
        of_kinds: true,
    })
}
