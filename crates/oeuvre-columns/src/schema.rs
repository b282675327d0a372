//! What a source says of its columns, and tables that are read whole.
//!
//! ```
//! use oeuvre_columns::{ColumnInfo, Kind};
//!
//! let fare = ColumnInfo::new("fare", Kind::Number { scale: 2 });
//! assert_eq!((fare.name.as_str(), fare.note), ("fare", None));
//! ```

use crate::column::Column;
use crate::value::Kind;

/// A column of the rows.
#[derive(Clone, Debug)]
pub struct ColumnInfo {
    /// Its heading.
    pub name: String,
    /// What it holds: of all its rows, as far as they have been looked at.
    pub kind: Kind,
    /// Why it is not what most of its values look like, with the place of the value to blame.
    pub note: Option<String>,
}

impl ColumnInfo {
    /// A column about which there is nothing more to say.
    pub fn new(name: impl Into<String>, kind: Kind) -> ColumnInfo {
        ColumnInfo { name: name.into(), kind, note: None }
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
}
