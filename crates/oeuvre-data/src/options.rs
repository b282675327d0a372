//! How files are read: everything that can be said with options, with what holds when nothing is said.
//!
//! ```
//! use oeuvre_data::ReadOptions;
//!
//! let european = ReadOptions { decimal: Some(','), ..ReadOptions::default() };
//! assert_eq!(european.quote, Some(b'"'));
//! assert!(european.missing.contains(&"n/a".to_string()));
//! ```

#[cfg(feature = "web")]
use crate::web::WebOptions;
use jiff::tz::TimeZone;
use oeuvre_columns::Kind;
use oeuvre_columns::choices;
use oeuvre_columns::instructions::Instructions;
use oeuvre_columns::value::pattern::DatePattern;
use std::sync::Arc;

/// Texts that stand for no value unless others are named: the blank field is always one.
pub(crate) const DEFAULT_MISSING: &[&str] = &[
    "NA", "N/A", "n/a", "null", "NULL", "-", "#DIV/0!", "#N/A", "#NAME?", "#NULL!", "#NUM!",
    "#REF!", "#VALUE!", "#SPILL!", "#CALC!",
];

choices! {
    /// How dates with slashes, points or hyphens are written, day, month and year.
    pub enum DateOrder {
        Dmy = "dmy": "Day first: 31/12/2025",
        Mdy = "mdy": "Month first: 12/31/2025",
        Ymd = "ymd": "Year first: 2025/12/31",
    }
}

/// How dates are written.
#[derive(Clone, Debug)]
pub enum DateForm {
    /// In numbers, in this order.
    Order(DateOrder),
    /// By a pattern of Unicode's date fields, beside ISO dates.
    Pattern(Arc<DatePattern>),
}

choices! {
    /// What to do with columns that some of several files lack.
    #[derive(Default)]
    pub enum Lacking {
        #[default]
        Stop = "stop": "Stop and name the column and the file",
        Blank = "blank": "Take them as missing there",
    }
}

choices! {
    /// A kind that was asked for with `--kind`.
    pub enum Forced {
        Number = "number": "Exact numbers, or binary64 where a value needs it",
        Text = "text": "Text, whatever it looks like",
        Boolean = "boolean": "True and false",
        Date = "date": "Dates",
        DateTime = "datetime": "Dates with a time",
    }
}

choices! {
    /// What to do with records that have too few or too many fields.
    #[derive(Default)]
    pub enum Uneven {
        #[default]
        Stop = "stop": "Stop and name the line",
        Blank = "blank": "Take what lacks as missing",
        LeaveOut = "leave-out": "Leave them out and count them",
    }
}

/// A time zone of the IANA time zone database, UTC unless named.
#[derive(Clone, Debug)]
pub struct Zone {
    pub(crate) name: String,
    zone: TimeZone,
}

impl Default for Zone {
    fn default() -> Zone {
        Zone { name: "UTC".to_owned(), zone: TimeZone::UTC }
    }
}

impl Zone {
    /// The zone of a name such as `Europe/Copenhagen`; `None` where there is none.
    pub fn named(name: &str) -> Option<Zone> {
        let zone = TimeZone::get(name).ok()?;
        let name = zone.iana_name().unwrap_or(name).to_owned();
        Some(Zone { name, zone })
    }

    /// Names of zones, for messages that suggest one.
    pub fn names() -> Vec<String> {
        jiff::tz::db().available().map(|name| name.to_string()).collect()
    }

    /// The wall clock at an instant, both in microseconds since 1970-01-01T00:00; `None` outside the years of
    /// the calendar.
    pub(crate) fn wall_clock(&self, instant: i64) -> Option<i64> {
        let at = jiff::Timestamp::from_microsecond(instant).ok()?;
        Some(instant + i64::from(self.zone.to_offset(at).seconds()) * 1_000_000)
    }
}

/// How databases are asked.
#[derive(Clone, Default)]
pub struct DatabaseOptions {
    /// The user, where the address names none.
    pub user: Option<String>,
    /// The password of whoever asks.
    pub password: Option<String>,
    /// The lines of the password file, in their order.
    pub passwords: Vec<PasswordLine>,
    /// Whether and how what is sent is encrypted, where the address does not say.
    pub encryption: Option<String>,
    /// A file of certificates of those who vouch for servers, in PEM; the usual ones when not given. It is read when a
    /// server is asked.
    pub certificates: Option<std::path::PathBuf>,
    /// Called when a server is asked for the first time: whoever can be interrupted sees to it that
    /// [`crate::cancel_queries`] is called then.
    pub connected: Option<fn()>,
}

impl std::fmt::Debug for DatabaseOptions {
    /// Without what is secret.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "DatabaseOptions {{ {} passwords }}", self.passwords.len())
    }
}

/// A line of a password file: for whom a password is. `*` stands for all.
#[derive(Clone)]
pub struct PasswordLine {
    /// The host, its port, the database and the user.
    pub of: [String; 4],
    /// The password.
    pub password: String,
}

/// How to read.
#[derive(Clone, Debug)]
pub struct ReadOptions {
    /// Between fields; found out from the first records when not given.
    pub separator: Option<u8>,
    /// Around fields; `None` when quotes are ordinary characters.
    pub quote: Option<u8>,
    /// Records of another length.
    pub uneven: Uneven,
    /// The encoding's name as in the WHATWG Encoding Standard; UTF-8, or UTF-16 by its byte-order
    /// mark, when not given.
    pub encoding: Option<String>,
    /// Headings to use instead of the first line's.
    pub headings: Option<Vec<String>>,
    /// Whether the first line holds headings.
    pub first_line_is_headings: bool,
    /// Kinds that were asked for, by heading.
    pub kinds: Vec<(String, Forced)>,
    /// Texts that stand for no value, beside the blank field.
    pub missing: Vec<String>,
    /// Such texts of single columns: heading and text.
    pub missing_of: Vec<(String, String)>,
    /// Texts that are values in single columns after all: heading and text.
    pub not_missing_of: Vec<(String, String)>,
    /// How dates are written that are not in ISO form; found out for each file when not given.
    pub dates: Option<DateForm>,
    /// How the dates of single columns are written: heading and form.
    pub dates_of: Vec<(String, DateForm)>,
    /// How single files, by their place among the names, are read otherwise: what is said here of separators,
    /// quotes, encoding, headings, decimal sign, dates and lines above the headings holds for them instead.
    pub of_files: Vec<(usize, ReadOptions)>,
    /// The decimal sign, `.` or `,`; found out for each file when not given.
    pub decimal: Option<char>,
    /// Lines above the headings.
    pub skip_lines: u64,
    /// A query that gives the rows of a database, in place of one of its tables.
    pub query: Option<String>,
    /// Columns that some of several files lack.
    pub lacking: Lacking,
    /// The zone whose wall clock times with an offset are read by.
    pub zone: Zone,
    /// The longest that may be held whole, and the longest file that is fetched.
    pub most_bytes: u64,
    /// How files are fetched from servers.
    #[cfg(feature = "web")]
    pub web: Arc<WebOptions>,
    /// How databases are asked.
    #[cfg(feature = "databases")]
    pub databases: Arc<DatabaseOptions>,
    /// The name of the lookup that is read, for messages that name an option; `None` for the rows.
    pub lookup: Option<String>,
    /// Kinds that columns have in other rows, with which these are brought together: by heading.
    pub expected: Vec<(String, Kind)>,
    /// Whether the files are some of several, so that the file of each row is a column even of one.
    pub of_many: bool,
    /// Told, while a pass goes on, how many of how many bytes have been read, about.
    pub progress: Option<fn(u64, u64)>,
    /// Bytes in a piece of work; no result depends on it.
    pub piece_bytes: usize,
    /// Which instructions of the processor may be used; no result depends on it either.
    pub instructions: Instructions,
}

impl ReadOptions {
    /// What was said of how values are read, as a text that is the same where the same was said.
    pub fn as_said(&self) -> String {
        let said = ReadOptions {
            expected: Vec::new(),
            progress: None,
            #[cfg(feature = "web")]
            web: Arc::default(),
            #[cfg(feature = "databases")]
            databases: Arc::default(),
            piece_bytes: 0,
            instructions: Instructions::Auto,
            ..self.clone()
        };
        format!("{said:?}")
    }

    /// How a file is read, by its place among the names.
    pub fn of_file(&self, file: usize) -> &ReadOptions {
        self.of_files.iter().find(|(at, _)| *at == file).map_or(self, |(_, options)| options)
    }

    /// The columns that options name.
    pub(crate) fn columns_named(&self) -> impl Iterator<Item = &String> {
        let kinds = self.kinds.iter().map(|(name, _)| name);
        let missing = self.missing_of.iter().chain(&self.not_missing_of).map(|(name, _)| name);
        kinds.chain(missing).chain(self.dates_of.iter().map(|(name, _)| name))
    }

    /// A reading option as it is typed for what is read here.
    pub(crate) fn typed(&self, option: &str, value: &str) -> String {
        match &self.lookup {
            Some(lookup) => format!("{option} '{lookup}={value}'"),
            None if value.contains([' ', ';']) => format!("{option} '{value}'"),
            None => format!("{option} {value}"),
        }
    }
}

impl Default for ReadOptions {
    fn default() -> Self {
        ReadOptions {
            separator: None,
            quote: Some(b'"'),
            uneven: Uneven::Stop,
            encoding: None,
            headings: None,
            first_line_is_headings: true,
            kinds: Vec::new(),
            missing_of: Vec::new(),
            not_missing_of: Vec::new(),
            missing: DEFAULT_MISSING.iter().map(|&t| t.to_owned()).collect(),
            dates: None,
            dates_of: Vec::new(),
            of_files: Vec::new(),
            decimal: None,
            skip_lines: 0,
            query: None,
            lacking: Lacking::Stop,
            zone: Zone::default(),
            most_bytes: 4 << 30,
            #[cfg(feature = "web")]
            web: Arc::default(),
            #[cfg(feature = "databases")]
            databases: Arc::default(),
            lookup: None,
            expected: Vec::new(),
            of_many: false,
            progress: None,
            // With its marks and columns a piece stays in a core's second-level cache.
            piece_bytes: 256 << 10,
            instructions: Instructions::Auto,
        }
    }
}
