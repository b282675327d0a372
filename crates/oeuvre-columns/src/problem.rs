//! What can be wrong with data, in words for the person who asked.
//!
//! A problem says where (file, line, heading), what was found, and the way out; the program draws it, and here
//! it is one line. Whoever reads rows makes them; a calculation has the errors of its own crate.
//!
//! ```
//! use oeuvre_columns::DataProblem;
//!
//! let it = DataProblem::in_file("bookings.csv", "'tbd' is not a date")
//!     .at_line(7)
//!     .in_column("sailed_on")
//!     .help("if it stands for no value: --missing tbd");
//! assert_eq!(it.to_string(), "bookings.csv, line 7, column `sailed_on`: 'tbd' is not a date");
//! ```

use std::fmt;

/// A mistake in the data or in how it is to be read.
#[derive(Clone, Debug, Default)]
pub struct DataProblem {
    /// The file as it was named, if one is to blame.
    pub file: Option<String>,
    /// The line in it, from 1.
    pub line: Option<u64>,
    /// Whether that is a row: of a file that has no lines.
    pub in_rows: bool,
    /// The heading of the column.
    pub column: Option<String>,
    /// What was found, and what was expected.
    pub message: String,
    /// Ways out, each a line with something that can be typed.
    pub help: Vec<String>,
}

impl DataProblem {
    /// A problem with what was asked for, rather than with a file.
    pub fn new(message: impl Into<String>) -> DataProblem {
        DataProblem { message: message.into(), ..Default::default() }
    }

    /// A problem with a file.
    pub fn in_file(file: impl Into<String>, message: impl Into<String>) -> DataProblem {
        DataProblem { file: Some(file.into()), message: message.into(), ..Default::default() }
    }

    /// At a line, counted from 1.
    pub fn at_line(mut self, line: u64) -> DataProblem {
        self.line = Some(line);
        self
    }

    /// At a row, counted from 1, of a file that has no lines.
    pub fn at_row(mut self, row: u64) -> DataProblem {
        (self.line, self.in_rows) = (Some(row), true);
        self
    }

    /// The line or the row in words; empty where there is none.
    pub fn place(&self) -> String {
        let counted = if self.in_rows { "row" } else { "line" };
        self.line.map_or(String::new(), |line| format!("{counted} {line}"))
    }

    /// In a column.
    pub fn in_column(mut self, column: impl Into<String>) -> DataProblem {
        self.column = Some(column.into());
        self
    }

    /// With a way out.
    pub fn help(mut self, help: impl Into<String>) -> DataProblem {
        self.help.push(help.into());
        self
    }
}

impl PartialEq for DataProblem {
    fn eq(&self, other: &Self) -> bool {
        self.message == other.message && self.line == other.line && self.column == other.column
    }
}
impl Eq for DataProblem {}

impl fmt::Display for DataProblem {
    /// One line; the program draws the long form.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let line = self.line.map(|_| self.place());
        let column = self.column.as_ref().map(|column| format!("column `{column}`"));
        let place: Vec<String> = [self.file.clone(), line, column].into_iter().flatten().collect();
        if !place.is_empty() {
            write!(f, "{}: ", place.join(", "))?;
        }
        f.write_str(&self.message)
    }
}

/// Why a pass over the rows ended early.
#[derive(Clone, Debug)]
pub enum ReadError {
    /// Something is wrong with the data.
    Problem(Box<DataProblem>),
    /// The source has learnt that its columns are other than it said: the pass is to be made again, once it
    /// has taken that in.
    Again,
}

impl From<DataProblem> for ReadError {
    fn from(problem: DataProblem) -> ReadError {
        ReadError::Problem(Box::new(problem))
    }
}

/// An error that may ask for another pass: how whoever settles the kinds of columns sees the errors of the rest.
pub trait Retry {
    /// Whether the source asked for the pass to be made again.
    fn is_again(&self) -> bool;
    /// Whether it lies in what kind a column is: a guess that more rows may change.
    fn is_of_kinds(&self) -> bool;
    /// Whether it may be that a column is not known yet.
    fn is_of_columns(&self) -> bool {
        false
    }
}

impl Retry for ReadError {
    fn is_again(&self) -> bool {
        matches!(self, ReadError::Again)
    }

    fn is_of_kinds(&self) -> bool {
        false
    }
}
