//! What a source says of its columns, and tables that are read whole.
//!
//! ```
//! use oeuvre_columns::{ColumnInfo, Kind};
//!
//! let fare = ColumnInfo::new("fare", Kind::Number { scale: 2 });
//! assert_eq!((fare.name.as_str(), fare.odd), ("fare", None));
//! ```

use crate::column::Column;
use crate::value::Kind;
use std::fmt;

/// A column of the rows.
#[derive(Clone, Debug)]
pub struct ColumnInfo {
    /// Its heading.
    pub name: String,
    /// What it holds: of all its rows, as far as they have been looked at.
    pub kind: Kind,
    /// The first of few values because of which it is not what most others look like.
    pub odd: Option<OddValue>,
}

/// A value that is unlike most others of its column.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OddValue {
    /// It as it stands in the file.
    pub text: String,
    /// Where it stands in the file: `line 7`.
    pub place: String,
    /// The file, where there are several.
    pub file: Option<String>,
}

impl fmt::Display for OddValue {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "'{}' on {}", self.text.escape_debug(), self.place)?;
        match &self.file {
            Some(file) => write!(f, " of {file}"),
            None => Ok(()),
        }
    }
}

impl ColumnInfo {
    /// A column about which there is nothing more to say.
    pub fn new(name: impl Into<String>, kind: Kind) -> ColumnInfo {
        ColumnInfo { name: name.into(), kind, odd: None }
    }
}

/// A table read whole, as a lookup is: its columns are of one length, that of `lines`.
#[derive(Clone, Debug, Default)]
pub struct Table {
    /// What it is called in calculations: the file's stem unless said.
    pub name: String,
    /// Its columns.
    pub columns: Vec<ColumnInfo>,
    /// Their values.
    pub data: Vec<Column>,
    /// The line of each row in its file, from 1.
    pub lines: Vec<u64>,
    /// Whether these are rows, of a file that has no lines.
    pub in_rows: bool,
}
