//! What is known of rows that are counted apart from others: which files they are of, and what is to be told of how
//! they were read, so that it is told of all together as it would be in one run.

use oeuvre_columns::{Note, Topic, at_once};
use std::collections::{HashMap, HashSet};
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

/// As [`fingerprint`], of many bytes: what all their pieces come to, which are looked at by all threads.
pub fn fingerprint_of_file(bytes: &[u8]) -> u128 {
    /// Whatever the number of threads, pieces are of one size.
    const PIECE: usize = 1 << 22;
    let threads = std::thread::available_parallelism().map_or(1, |n| n.get());
    let found = at_once(bytes.chunks(PIECE).collect(), threads, fingerprint);
    let all: Vec<u8> = found.into_iter().flat_map(u128::to_le_bytes).collect();
    fingerprint(&all)
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
        notes.extend(same_files(&files));
        notes.extend(all.iter().flat_map(|facts| facts.of_files.iter().cloned()));
        notes
    }
}

/// What is told of files that hold the same, or are given twice.
pub(crate) fn same_files(files: &[&FileFacts]) -> Vec<Note> {
    let mut notes = Vec::new();
    // What has no bytes of its own, a sheet or a table of a database, is known by its name.
    let mut tables: HashSet<&str> = HashSet::new();
    for file in files.iter().filter(|file| file.in_rows) {
        if !tables.insert(&file.name) {
            let text = format!("{} is given twice, and its rows are counted twice", file.name);
            notes.push(Note::new(Topic::Twice, text));
        }
    }
    let mut known: HashMap<(u64, u128), &FileFacts> = HashMap::new();
    for file in files {
        let Some(content) = file.content else { continue };
        let first = *known.entry(content).or_insert(file);
        // Months that hold the same stand in folders of their own.
        if std::ptr::eq(first, *file) || first.keys != file.keys {
            continue;
        }
        let text = match first.name == file.name {
            true => format!("{} is given twice, and its rows are counted twice", file.name),
            false => format!(
                "{} and {} hold the same, and their rows are counted twice",
                first.name, file.name
            ),
        };
        notes.push(Note::new(Topic::Twice, text));
    }
    notes
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_are_the_same_where_all_their_bytes_are() {
        let mut bytes = vec![7u8; 9 << 20];
        let before = fingerprint_of_file(&bytes);
        assert_eq!(before, fingerprint_of_file(&bytes.clone()));
        for at in [0, 4 << 20, (9 << 20) - 1] {
            bytes[at] ^= 1;
            assert_ne!(fingerprint_of_file(&bytes), before, "byte {at}");
            bytes[at] ^= 1;
        }
        assert_ne!(fingerprint_of_file(&bytes[1..]), before);
        assert_eq!(fingerprint_of_file(&[]), fingerprint(&[]));
    }
}
