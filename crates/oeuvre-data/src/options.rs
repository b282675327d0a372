//! How files are read: everything that can be said with options, with what holds when nothing is said.
//!
//! ```
//! use oeuvre_data::{DateOrder, ReadOptions};
//!
//! let european = ReadOptions { decimal: ',', dates: Some(DateOrder::Dmy), ..ReadOptions::default() };
//! assert_eq!(european.quote, Some(b'"'));
//! assert!(european.missing.contains(&"n/a".to_string()));
//! ```

use oeuvre_columns::choices;

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
    /// The order of dates that are not in ISO form.
    pub dates: Option<DateOrder>,
    /// The decimal sign, `.` or `,`.
    pub decimal: char,
    /// Bytes in a piece of work; no result depends on it.
    pub piece_bytes: usize,
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
            decimal: '.',
            // With its marks and columns a piece stays in a core's second-level cache.
            piece_bytes: 256 << 10,
        }
    }
}
