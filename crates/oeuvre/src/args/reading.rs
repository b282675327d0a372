//! How the files are read.

use crate::{complete, environment, progress};
use oeuvre_columns::Choice;
use oeuvre_columns::names::{all_of, either, nearest};
use oeuvre_columns::value::pattern::DatePattern;
use oeuvre_core::Error;
use oeuvre_data::{DateForm, DateOrder, Forced, ReadOptions, Zone};
use std::str::FromStr;
use std::sync::Arc;

/// What stands above options that say how to read.
pub(crate) const HOW_TO_READ: &str = "How to read";

/// Options that say how to read.
#[derive(clap::Args, Debug, Default)]
#[command(next_help_heading = HOW_TO_READ)]
pub(crate) struct ReadingArgs {
    /// What a column holds: number, text, boolean, date or datetime; repeatable, as in 'fare=number'.
    ///
    /// A column of a lookup has its name before it: 'targets.amount=number'.
    #[arg(hide_short_help = true, long = "kind", value_name = "COL=KIND", add = complete::columns())]
    kinds: Vec<String>,
    /// More texts that stand for no value: 'unknown,?'.
    ///
    /// More texts that stand for no value, separated by commas, as in 'unknown,?'; repeatable.
    ///
    /// They are added to those that are known: the blank field, NA, N/A, n/a, null, NULL, - and the error
    /// texts of spreadsheets such as #DIV/0!. For one column: --missing 'delay_min=unknown'. A text with a
    /// comma or = in it stands in single quotes.
    #[arg(long, value_name = "TEXTS")]
    missing: Vec<String>,
    /// Texts that are values after all, as in --not-missing 'note=NA'; repeatable.
    #[arg(hide_short_help = true, long, value_name = "TEXTS")]
    not_missing: Vec<String>,
    /// How dates are written: dmy, mdy, ymd, a pattern.
    ///
    /// How dates are written: dmy, mdy or ymd for 03/04/2025, or a pattern such as 'dd.MM.yy'.
    ///
    /// Found out for each file unless said. This option and those below speak of the rows; with the name of a
    /// lookup before the value they speak of that lookup: --dates 'targets=mdy'.
    #[arg(long, value_name = "FORM")]
    dates: Vec<String>,
    /// The decimal sign; found out unless said.
    ///
    /// The decimal sign, a point or a comma; found out for each file unless said.
    #[arg(long, value_name = "SIGN")]
    decimal: Vec<String>,
    /// Between fields: a sign, or tab; found out from the first records unless said.
    #[arg(hide_short_help = true, long, value_name = "SIGN")]
    separator: Vec<String>,
    /// Around fields: a sign, or none to take quotes as ordinary characters; " unless said.
    #[arg(hide_short_help = true, long, value_name = "SIGN")]
    quote: Vec<String>,
    /// Records with too few or too many fields: stop (unless said), blank or leave-out.
    #[arg(hide_short_help = true, long, value_name = "WHAT")]
    uneven: Vec<String>,
    /// The encoding of the files; UTF-8, or windows-1252 where a file is not UTF-8, unless said.
    #[arg(hide_short_help = true, long, value_name = "NAME")]
    encoding: Vec<String>,
    /// Headings to use instead of the first line's, separated by commas.
    #[arg(hide_short_help = true, long, value_name = "NAMES")]
    headings: Vec<String>,
    /// The first line holds values, not headings.
    #[arg(hide_short_help = true, long)]
    no_headings: bool,
    /// How many lines (or rows of a sheet), such as a title, stand above the headings.
    #[arg(hide_short_help = true, long, value_name = "N")]
    skip_lines: Vec<String>,
    /// A query that gives the rows of a database, in place of one of its tables: 'SELECT route, fare FROM bookings'.
    #[arg(hide_short_help = true, long, value_name = "SELECT")]
    query: Vec<String>,
    /// Columns that some of several files lack: stop (unless said), or blank to take them as missing there.
    #[arg(hide_short_help = true, long, value_name = "WHAT")]
    lacking: Vec<String>,
    /// The time zone by whose clock times with an offset are read; UTC unless said.
    #[arg(hide_short_help = true, long, value_name = "NAME")]
    zone: Vec<String>,
    /// The most that may be fetched or held whole, such as 20G; 4G unless said.
    #[arg(hide_short_help = true, long, value_name = "SIZE")]
    most_bytes: Option<String>,
    /// Bytes in a piece of work; no result depends on it.
    #[arg(long, value_name = "BYTES", hide = true)]
    piece_bytes: Option<usize>,
}

/// The value of a reading option for the rows, or for a lookup: the last that speaks of it.
///
/// `NAME=` before a value is a lookup's name where a lookup on this line has it.
pub(crate) fn value_for<'a>(
    values: &'a [String],
    lookups: &[String],
    lookup: Option<&str>,
) -> Option<&'a str> {
    let named = |value: &'a String| match value.split_once('=') {
        Some((name, rest)) if lookups.iter().any(|l| l == name.trim()) => {
            (Some(name.trim()), rest.trim_start())
        }
        _ => (None, value.as_str()),
    };
    values.iter().map(named).rev().find(|(name, _)| *name == lookup).map(|(_, value)| value)
}

/// One of the words that an option takes.
pub(crate) fn word<T: Choice + FromStr<Err = ()>>(option: &str, text: &str) -> Result<T, Error> {
    text.trim().parse().map_err(|()| {
        let words: Vec<&str> = T::ALL.iter().map(|choice| choice.1).collect();
        Error::request_with_help(
            format!("{option} '{text}' is not known"),
            format!("write {}", either(&words)),
        )
    })
}

pub(crate) fn date_form(text: &str) -> Result<DateForm, Error> {
    if let Ok(order) = text.trim().parse::<DateOrder>() {
        return Ok(DateForm::Order(order));
    }
    DatePattern::parse(text).map(|p| DateForm::Pattern(Arc::new(p))).map_err(|problem| {
        Error::request_with_help(
            format!("--dates '{text}': {problem}"),
            "write dmy, mdy or ymd, or a pattern such as --dates 'dd.MM.yy' or --dates 'd MMM yyyy'",
        )
    })
}

fn zone(text: &str) -> Result<Zone, Error> {
    Zone::named(text).ok_or_else(|| {
        let names = Zone::names();
        let near = nearest(text, names.iter().map(String::as_str));
        let help = match near.first() {
            Some(near) => format!("did you mean `{near}`?"),
            None => "a zone is named by its region and city, such as --zone Europe/Oslo".to_owned(),
        };
        Error::request_with_help(format!("--zone: there is no time zone `{text}`"), help)
    })
}

/// A number of bytes: `500M`, `20G`, `1000000`.
pub(super) fn bytes(option: &str, text: &str) -> Result<u64, Error> {
    let upper = text.trim().to_ascii_uppercase();
    let upper = upper.trim_end_matches('B').trim_end_matches('I');
    let shifts = [('K', 10), ('M', 20), ('G', 30), ('T', 40)];
    let unit = shifts.iter().find_map(|(unit, shift)| Some((upper.strip_suffix(*unit)?, *shift)));
    let (digits, shift) = unit.unwrap_or((upper, 0));
    let number = digits.trim().parse::<u64>().ok().filter(|n| n.leading_zeros() > shift);
    number.map(|n| n << shift).ok_or_else(|| {
        let message = format!("{option} '{text}' is no number of bytes");
        Error::request_with_help(message, format!("write {option} 20G, or 500M"))
    })
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
    /// The options for the reader of the rows; `lookups` are the names of the lookups on the line.
    pub(crate) fn to_options(&self, lookups: &[String]) -> Result<ReadOptions, Error> {
        let mut options = self.common(lookups, None)?;
        options.first_line_is_headings = !self.no_headings;
        Ok(options)
    }

    /// The options for the reader of a lookup.
    pub(crate) fn to_lookup_options(
        &self,
        lookups: &[String],
        lookup: &str,
    ) -> Result<ReadOptions, Error> {
        let options = self.common(lookups, Some(lookup))?;
        Ok(ReadOptions { lookup: Some(lookup.to_owned()), ..options })
    }

    fn common(&self, lookups: &[String], lookup: Option<&str>) -> Result<ReadOptions, Error> {
        let whose = Whose { lookups, lookup };
        let of = |values| value_for(values, lookups, lookup);
        let mut options = ReadOptions {
            separator: of(&self.separator).map(|s| sign("--separator", s)).transpose()?,
            ..ReadOptions::default()
        };
        if let Some(quote) = of(&self.quote) {
            let none = quote.eq_ignore_ascii_case("none");
            options.quote = if none { None } else { Some(sign("--quote", quote)?) };
        }
        if options.quote.is_some() && options.quote == options.separator {
            return Err(Error::request("--quote and --separator are the same sign"));
        }
        if let Some(uneven) = of(&self.uneven) {
            options.uneven = word("--uneven", uneven)?;
        }
        options.encoding = of(&self.encoding).map(str::to_owned);
        let list = |text: &str| text.split(',').map(|t| t.trim().to_owned()).collect::<Vec<_>>();
        options.headings = of(&self.headings).map(list);
        options.dates = of(&self.dates).map(date_form).transpose()?;
        options.decimal = of(&self.decimal).map(|text| decimal(text, lookups)).transpose()?;
        if let Some(lines) = of(&self.skip_lines) {
            options.skip_lines = lines.trim().parse().map_err(|_| {
                let message = format!("--skip-lines '{lines}' is no number of lines");
                Error::request_with_help(message, "write --skip-lines 1")
            })?;
        }
        options.query = of(&self.query).map(str::to_owned);
        if let Some(lacking) = of(&self.lacking) {
            options.lacking = word("--lacking", lacking)?;
        }
        // A zone is that of those who read, and so of everything.
        if let Some(name) = of(&self.zone).or_else(|| value_for(&self.zone, lookups, None)) {
            options.zone = zone(name)?;
        }
        if let Some(bytes) = self.piece_bytes {
            options.piece_bytes = bytes.max(1);
        }
        if let Some(named) = environment::instructions() {
            options.instructions = word(environment::INSTRUCTIONS, &named)?;
            options.instructions.allow();
        }
        if let Some(size) = &self.most_bytes {
            options.most_bytes = bytes("--most-bytes", size)?;
        }
        options.progress = progress::of_reading();
        #[cfg(feature = "web")]
        {
            options.web = environment::web();
        }
        #[cfg(feature = "databases")]
        {
            options.databases = environment::databases();
        }
        self.texts_that_are_missing(whose, &mut options);
        for text in &self.kinds {
            options.kinds.extend(kind(text, whose)?);
        }
        Ok(options)
    }

    /// The texts that stand for no value, of all columns and of single ones.
    fn texts_that_are_missing(&self, whose: Whose<'_>, options: &mut ReadOptions) {
        for text in &self.missing {
            let (column, texts) = texts_of(text);
            match column.map(|c| whose.column(&c)) {
                Some(Some(column)) => {
                    options.missing_of.extend(texts.into_iter().map(|t| (column.clone(), t)));
                }
                Some(None) => {}
                None => options.missing.extend(texts),
            }
        }
        for text in &self.not_missing {
            let (column, texts) = texts_of(text);
            match column.map(|c| whose.column(&c)) {
                Some(Some(column)) => {
                    options.not_missing_of.extend(texts.into_iter().map(|t| (column.clone(), t)));
                }
                Some(None) => {}
                None => options.missing.retain(|m| !texts.contains(m)),
            }
        }
    }
}

/// What is read: a lookup by its name, or the rows; and the names of all lookups on the line.
#[derive(Clone, Copy)]
struct Whose<'a> {
    lookups: &'a [String],
    lookup: Option<&'a str>,
}

impl Whose<'_> {
    /// The column that is named of what is read: a lookup's has the lookup's name before it. `None` where it is
    /// another's.
    fn column(self, column: &str) -> Option<String> {
        let is_lookup = |name: &str| self.lookups.iter().any(|l| l == name);
        let named = column.split_once('.').filter(|(name, _)| is_lookup(name));
        match (named, self.lookup) {
            (None, None) => Some(column.to_owned()),
            (Some((name, rest)), Some(lookup)) if name == lookup => Some(rest.to_owned()),
            _ => None,
        }
    }
}

fn decimal(text: &str, lookups: &[String]) -> Result<char, Error> {
    match text {
        "," | "comma" => return Ok(','),
        "." | "point" => return Ok('.'),
        _ => {}
    }
    let help = match text.split_once('=') {
        Some((name, _)) if lookups.is_empty() => format!("there is no lookup `{name}`"),
        Some((name, _)) => format!("there is no lookup `{name}`; there is {}", all_of(lookups)),
        None => "write --decimal , or --decimal .".to_owned(),
    };
    Err(Error::request_with_help(format!("--decimal '{text}' is no decimal sign"), help))
}

/// A column of what is read with its kind, of `COL=KIND`; `None` for a column of something else.
fn kind(text: &str, whose: Whose<'_>) -> Result<Option<(String, Forced)>, Error> {
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
    let column = column.trim();
    let bare = column.strip_prefix('"').and_then(|c| c.strip_suffix('"'));
    let column = bare.map_or_else(|| column.to_owned(), |c| c.replace("\"\"", "\""));
    Ok(whose.column(&column).map(|column| (column, forced)))
}
