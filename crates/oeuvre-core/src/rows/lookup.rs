//! A table whose columns are added to the rows, with the rows of its keys.
//!
//! The table is in memory whole; a row finds its own by the keys as one text, once for each distinct text where
//! there is one key of texts.

use oeuvre_columns::column::Column;
use oeuvre_columns::value::{Kind, Value};
use oeuvre_columns::{Table, choices};
use std::collections::HashMap;
use std::sync::Arc;

choices! {
    /// What happens to rows whose key the lookup does not have.
    #[derive(Default)]
    pub enum NoMatch {
        #[default]
        Blank = "blank": "Count them; the lookup's columns are missing",
        LeaveOut = "leave-out": "Leave them out",
        Stop = "stop": "Stop and name the keys",
    }
}

/// A lookup with the rows of its keys.
#[derive(Clone, Debug)]
pub struct Lookup {
    /// The table.
    pub table: Arc<Table>,
    /// The row of each key.
    pub rows: HashMap<String, u32>,
    /// The keys of its rows.
    pub keys: Vec<(Kind, Column)>,
    /// Lines passed over because their key stood before.
    pub doubled: u64,
}

/// Between the parts of a key.
const BETWEEN: char = '\u{1f}';
/// Adds a part to a key; false where it is missing.
pub(crate) fn push_key(key: &mut String, value: &Value) -> bool {
    if !key.is_empty() {
        key.push(BETWEEN);
    }
    match value {
        Value::Missing => return false,
        Value::Number(n) => key.push_str(&n.trimmed().to_string()),
        other => key.push_str(&other.to_string()),
    }
    true
}

/// A key as a message shows it.
pub(crate) fn key_text(key: &str) -> String {
    key.replace(BETWEEN, ", ")
}
