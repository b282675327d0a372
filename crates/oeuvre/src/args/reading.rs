//! How the files are read.

use oeuvre_core::Error;
use oeuvre_data::{CsvOptions, DateOrder, Forced, Ragged};

/// Options that say how to read.
#[derive(clap::Args, Debug)]
#[command(next_help_heading = "How to read")]
pub(crate) struct ReadingArgs {
    /// What a column holds: number, text, boolean, date or datetime; repeatable, as in 'fare=number'.
    #[arg(long = "type", value_name = "COL=KIND")]
    types: Vec<String>,
    /// Texts that stand for no value, separated by commas; the blank field always does.
    ///
    /// Unless said: NA, N/A, n/a, null, NULL, - and the error texts of spreadsheets such as #DIV/0!.
    #[arg(long, value_name = "TEXTS")]
    missing: Option<String>,
    /// The order of day, month and year in dates such as 03/04/2025: dmy, mdy or ymd.
    #[arg(long, value_name = "ORDER")]
    dates: Option<Dates>,
    /// The decimal sign, a point or a comma.
    #[arg(long, value_name = "SIGN", default_value = ".", value_parser = [".", ","])]
    decimal: String,
    /// Between fields: a sign, or tab; found out from the first records unless said.
    #[arg(long, value_name = "SIGN")]
    separator: Option<String>,
    /// Around fields: a sign, or none to take quotes as ordinary characters.
    #[arg(long, value_name = "SIGN", default_value = "\"")]
    quote: String,
    /// Records with too few or too many fields: error, pad or skip.
    #[arg(long, value_name = "WHAT", default_value = "error")]
    ragged: RaggedLines,
    /// The encoding of the files, such as windows-1252; UTF-8 unless said.
    #[arg(long, value_name = "NAME")]
    encoding: Option<String>,
    /// Headings to use instead of the first line's, separated by commas.
    #[arg(long, value_name = "NAMES")]
    headings: Option<String>,
    /// The first line holds values, not headings.
    #[arg(long)]
    no_headings: bool,
    /// Bytes in a piece of work; no result depends on it.
    #[arg(long, value_name = "BYTES", hide = true)]
    piece_bytes: Option<usize>,
}

#[derive(clap::ValueEnum, Clone, Copy, Debug)]
enum Dates {
    /// Day first: 31/12/2025.
    Dmy,
    /// Month first: 12/31/2025.
    Mdy,
    /// Year first: 2025/12/31.
    Ymd,
}

#[derive(clap::ValueEnum, Clone, Copy, Debug)]
enum RaggedLines {
    /// Stop and name the line.
    Error,
    /// Take what lacks as missing.
    Pad,
    /// Leave them out and count them.
    Skip,
}

fn sign(option: &str, text: &str) -> Result<u8, Error> {
    match text.as_bytes() {
        _ if text.eq_ignore_ascii_case("tab") || text == "\\t" => Ok(b'\t'),
        [byte] if byte.is_ascii() && !matches!(byte, b'\n' | b'\r') => Ok(*byte),
        _ => Err(Error::request_with_help(
            format!("{option} '{text}' is not one sign"),
            "write one ASCII character, or tab",
        )),
    }
}

impl ReadingArgs {
    /// The options for the reader.
    pub(crate) fn to_options(&self) -> Result<CsvOptions, Error> {
        let list = |text: &String| text.split(',').map(|t| t.trim().to_owned()).collect::<Vec<_>>();
        let separator = self.separator.as_deref().map(|s| sign("--separator", s)).transpose()?;
        let mut options = CsvOptions { separator, ..CsvOptions::default() };
        options.quote = if self.quote.eq_ignore_ascii_case("none") {
            None
        } else {
            Some(sign("--quote", &self.quote)?)
        };
        if options.quote.is_some() && options.quote == options.separator {
            return Err(Error::request("--quote and --separator are the same sign"));
        }
        options.ragged = match self.ragged {
            RaggedLines::Error => Ragged::Error,
            RaggedLines::Pad => Ragged::Pad,
            RaggedLines::Skip => Ragged::Skip,
        };
        options.encoding.clone_from(&self.encoding);
        options.headings = self.headings.as_ref().map(list);
        options.first_line_is_headings = !self.no_headings;
        if let Some(missing) = &self.missing {
            options.missing = list(missing).into_iter().filter(|t| !t.is_empty()).collect();
        }
        options.dates = self.dates.map(|d| match d {
            Dates::Dmy => DateOrder::Dmy,
            Dates::Mdy => DateOrder::Mdy,
            Dates::Ymd => DateOrder::Ymd,
        });
        options.decimal = if self.decimal == "," { ',' } else { '.' };
        if let Some(bytes) = self.piece_bytes {
            options.piece_bytes = bytes.max(1);
        }
        for text in &self.types {
            let kinds = "number, text, boolean, date and datetime";
            let Some((column, kind)) = text.rsplit_once('=') else {
                return Err(Error::request_with_help(
                    format!("--type '{text}' has no kind"),
                    format!("write --type 'COL=KIND'; the kinds are {kinds}"),
                ));
            };
            let forced = match kind.trim().to_ascii_lowercase().as_str() {
                "number" => Forced::Number,
                "text" => Forced::Text,
                "boolean" => Forced::Boolean,
                "date" => Forced::Date,
                "datetime" => Forced::DateTime,
                other => {
                    return Err(Error::request_with_help(
                        format!("--type '{text}': there is no kind `{other}`"),
                        format!("the kinds are {kinds}"),
                    ));
                }
            };
            options.types.push((column.trim().to_owned(), forced));
        }
        Ok(options)
    }
}
