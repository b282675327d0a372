//! Tables that were written and are read again, to be compared: their lines with the labels of their keys, and their
//! figures.
//!
//! ```
//! use oeuvre_columns::{SavedTable, Value};
//!
//! let line = (vec!["SKE".to_owned()], vec![Value::Number("12.50".parse().unwrap())]);
//! let table = SavedTable { keys: vec!["route".into()], figures: vec!["sum(fare)".into()], lines: vec![line], ..SavedTable::default() };
//! assert_eq!(table.lines[0].1[0].to_string(), "12.50");
//! ```

use crate::value::Value;

/// A table that was written.
#[derive(Clone, Debug, Default)]
pub struct SavedTable {
    /// The name of the part of a report that it is; empty for a table by itself.
    pub name: String,
    /// The headings of its keys.
    pub keys: Vec<String>,
    /// The headings of its figures.
    pub figures: Vec<String>,
    /// Its lines: a label for each key, as it reads in files, and a value for each figure.
    pub lines: Vec<(Vec<String>, Vec<Value>)>,
}
