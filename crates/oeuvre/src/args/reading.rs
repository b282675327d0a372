//! How the files are read.

use super::choice::choice;
use oeuvre_core::Error;
use oeuvre_data::{DateOrder, Forced, ReadOptions, Uneven};

/// Options that say how to read.
#[derive(clap::Args, Debug)]
#[command(next_help_heading = "How to read")]
pub(crate) struct ReadingArgs {
    /// What a column holds: number, text, boolean, date or datetime; repeatable, as in 'fare=number'.
    #[arg(long = "kind", value_name = "COL=KIND")]
    kinds: Vec<String>,
    /// More texts that stand for no value, separated by commas, as in 'unknown,?'; repeatable.
    ///
    /// They are added to those that are known: the blank field, NA, N/A, n/a, null, NULL, - and the error
    /// texts of spreadsheets such as #DIV/0!. For one column: --missing 'delay_min=unknown'. A text with a
    /// comma or = in it stands in single quotes.
    #[arg(long, value_name = "TEXTS")]
    missing: Vec<String>,
    /// Texts that are values after all, as in --not-missing 'country=NA'; repeatable.
    #[arg(long, value_name = "TEXTS")]
    not_missing: Vec<String>,
    /// The order of day, month and year in dates such as 03/04/2025: dmy, mdy or ymd.
    #[arg(long, value_name = "ORDER", value_parser = choice::<DateOrder>())]
    dates: Option<DateOrder>,
    /// The decimal sign, a point or a comma.
    #[arg(long, value_name = "SIGN", default_value = ".", value_parser = [".", ","])]
    decimal: String,
    /// Between fields: a sign, or tab; found out from the first records unless said.
    #[arg(long, value_name = "SIGN")]
    separator: Option<String>,
    /// Around fields: a sign, or none to take quotes as ordinary characters.
    #[arg(long, value_name = "SIGN", default_value = "\"")]
    quote: String,
    /// Records with too few or too many fields: stop, blank or leave-out.
    #[arg(long, value_name = "WHAT", default_value = "stop", value_parser = choice::<Uneven>())]
    uneven: Uneven,
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

/// Reads `unknown,?` or `delay_min=unknown,?`: the column, where one is named, and the texts. Single or
/// double quotes protect a comma or an equals sign; a doubled one stands for itself.
fn texts_of(text: &str) -> (Option<String>, Vec<String>) {
    let mut column = None;
    let (mut texts, mut current, mut quoted) = (Vec::new(), String::new(), false);
    let mut put = |current: &mut String, quoted: &mut bool| {
        let it = std::mem::take(current);
        let it = if std::mem::take(quoted) { it } else { it.trim().to_owned() };
        if !it.is_empty() {
            texts.push(it);
        }
    };
    let mut chars = text.chars().peekable();
    while let Some(c) = chars.next() {
        match c {
            '\'' | '"' if current.trim().is_empty() && !quoted => {
                (current, quoted) = (String::new(), true);
                while let Some(inner) = chars.next() {
                    if inner != c || chars.next_if_eq(&c).is_some() {
                        current.push(inner);
                    } else {
                        break;
                    }
                }
                while chars.next_if(|c| c.is_whitespace()).is_some() {}
            }
            ',' => put(&mut current, &mut quoted),
            '=' if column.is_none() && !(quoted && current.is_empty()) => {
                let name = std::mem::take(&mut current);
                column =
                    Some(if std::mem::take(&mut quoted) { name } else { name.trim().to_owned() });
            }
            c => current.push(c),
        }
    }
    put(&mut current, &mut quoted);
    (column, texts)
}

impl ReadingArgs {
    /// The options for the reader.
    pub(crate) fn to_options(&self) -> Result<ReadOptions, Error> {
        let list = |text: &String| text.split(',').map(|t| t.trim().to_owned()).collect::<Vec<_>>();
        let separator = self.separator.as_deref().map(|s| sign("--separator", s)).transpose()?;
        let mut options = ReadOptions { separator, ..ReadOptions::default() };
        options.quote = if self.quote.eq_ignore_ascii_case("none") {
            None
        } else {
            Some(sign("--quote", &self.quote)?)
        };
        if options.quote.is_some() && options.quote == options.separator {
            return Err(Error::request("--quote and --separator are the same sign"));
        }
        options.uneven = self.uneven;
        options.encoding.clone_from(&self.encoding);
        options.headings = self.headings.as_ref().map(list);
        options.first_line_is_headings = !self.no_headings;
        for text in &self.missing {
            let (column, texts) = texts_of(text);
            match column {
                Some(column) => {
                    options.missing_of.extend(texts.into_iter().map(|t| (column.clone(), t)));
                }
                None => options.missing.extend(texts),
            }
        }
        for text in &self.not_missing {
            let (column, texts) = texts_of(text);
            match column {
                Some(column) => {
                    options.not_missing_of.extend(texts.into_iter().map(|t| (column.clone(), t)));
                }
                None => options.missing.retain(|m| !texts.contains(m)),
            }
        }
        options.dates = self.dates;
        options.decimal = if self.decimal == "," { ',' } else { '.' };
        if let Some(bytes) = self.piece_bytes {
            options.piece_bytes = bytes.max(1);
        }
        for text in &self.kinds {
            let kinds = "number, text, boolean, date and datetime";
            let Some((column, kind)) = text.rsplit_once('=') else {
                return Err(Error::request_with_help(
                    format!("--kind '{text}' has no kind"),
                    format!("write --kind 'COL=KIND'; the kinds are {kinds}"),
                ));
            };
            let kind = kind.trim().to_ascii_lowercase();
            let forced: Forced = kind.parse().map_err(|()| {
                Error::request_with_help(
                    format!("--kind '{text}': there is no kind `{kind}`"),
                    format!("the kinds are {kinds}"),
                )
            })?;
            options.kinds.push((column.trim().to_owned(), forced));
        }
        Ok(options)
    }
}
