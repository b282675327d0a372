//! What a name stands for: which reader takes it.
//!
//! If you add a format: its reader in a folder of its own, which is an [`Input`], and a row here, before the last
//! one, which takes every name. A reader of texts leaves it to `kinds/` what its columns hold; one whose text
//! can be made into records with separators hands these to `CsvSource::of`, and is done.

use crate::input::Input;
use crate::options::ReadOptions;
use crate::text::csv::CsvSource;
use oeuvre_columns::ReadError;

/// A format that rows are read from.
struct Format {
    /// Whether a name is of this format; the last row takes all that are left.
    takes: fn(&str) -> bool,
    /// Opens names of it, whose rows are stacked.
    open: Open,
}

/// Opens some names as one table.
type Open = fn(&[String], ReadOptions) -> Result<Box<dyn Input>, ReadError>;

/// All formats; the first that takes a name reads it.
const FORMATS: &[Format] = &[Format {
    takes: |_| true,
    open: |names, options| Ok(Box::new(CsvSource::open(names, options)?)),
}];

/// Opens what some names stand for, in the order in which their rows are to be stacked. `-` is standard input.
///
/// # Errors
/// What is wrong with a file.
pub fn open(names: &[String], options: ReadOptions) -> Result<Box<dyn Input>, ReadError> {
    let takes = |format: &&Format| names.iter().all(|name| (format.takes)(name));
    match FORMATS.iter().find(takes) {
        Some(format) => (format.open)(names, options),
        None => unreachable!("the last format takes every name"),
    }
}
