//! What a source says of its columns, and tables that are read whole.

use crate::column::Column;
use crate::value::Kind;

/// A column of the rows.
#[derive(Clone, Debug)]
pub struct ColumnInfo {
    /// Its heading.
    pub name: String,
    /// What it holds.
    pub kind: Kind,
    /// Why it is not what most of its values look like, with the place of the value to blame.
    pub note: Option<String>,
}

/// A table read whole.
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
