//! What is known of rows that are counted apart from others: which files they are of, and what is to be told of how
//! they were read, so that it is told of all together as it would be in one run.

use oeuvre_columns::Note;
use twox_hash::XxHash3_128;

/// What is known of the rows of some files.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Facts {
    /// The files, in their order.
    pub files: Vec<FileFacts>,
    /// What was seen of the columns that were read.
    pub of_columns: Vec<ColumnFact>,
    /// What is told of each file beside.
    pub of_files: Vec<Note>,
}

/// A file, to know the same one again.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FileFacts {
    /// As it was named.
    pub name: String,
    /// How many bytes its rows are made of, and what they come to: nothing where it has no bytes of its own.
    pub content: Option<(u64, u128)>,
    /// Columns and values that stand in the names of its folders.
    pub keys: Vec<(String, String)>,
    /// Whether its rows are counted as such, because it has no lines.
    pub in_rows: bool,
}

/// What is told of how a column was read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ColumnFact {
    /// The column.
    pub column: String,
    /// Whether it is told once of all files: of the first that shows it.
    pub once: bool,
    /// What is told where the file is the only one, and where it is among others.
    pub told: [Note; 2],
}

/// What some bytes come to: equal ones to the same, others to something else.
pub fn fingerprint(bytes: &[u8]) -> u128 {
    XxHash3_128::oneshot(bytes)
}

impl Facts {
    /// The notes on all rows, of what is known of parts of them in their order; `columns` are those that are used.
    pub fn notes(all: &[&Facts], columns: &[String]) -> Vec<Note> {
        let files = all.iter().map(|facts| facts.files.len()).sum::<usize>();
        let mut notes = Vec::new();
        for column in columns {
            let of_column =
                || all.iter().flat_map(|f| &f.of_columns).filter(|f| f.column == *column);
            let note = |fact: &ColumnFact| fact.told[usize::from(files > 1)].clone();
            notes.extend(of_column().filter(|fact| !fact.once).map(note));
            notes.extend(of_column().find(|fact| fact.once).map(note));
        }
        let files: Vec<&FileFacts> = all.iter().flat_map(|facts| &facts.files).collect();
        notes.extend(crate::stack::same_files(&files));
        notes.extend(all.iter().flat_map(|facts| facts.of_files.iter().cloned()));
        notes
    }
}
