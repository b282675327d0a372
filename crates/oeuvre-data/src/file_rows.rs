//! What the stack needs of one file's rows, whatever its format.
//!
//! A format implements [`FileRows`] once; [`crate::stack`] stacks such files, settles the kinds of their columns,
//! and adds what is not in the files themselves (their names, the keys of their folders). A pass over the stack
//! goes through the files in order: of each it asks for a [`FilePass`], of which every thread gets a
//! [`FileReader`].

use crate::kinds::Columns;
use crate::options::ReadOptions;
use oeuvre_columns::column::Batch;
use oeuvre_columns::{Account, Bounds, DataProblem, Note, ReadError};
use std::sync::Arc;

/// One file, opened: its headings are known.
pub(crate) trait FileRows: Send + Sync {
    /// The headings, in the order of the file.
    fn headings(&self) -> &[String];

    /// What its rows are counted by.
    fn counted(&self) -> Counted;

    /// Whether texts in it may stand for no value, as in files of texts; elsewhere only those that were named do.
    fn holds_texts(&self) -> bool {
        self.counted() == Counted::Lines
    }

    /// Whether it is a database, which queries are put to.
    fn takes_queries(&self) -> bool {
        false
    }

    /// The decimal sign of the numbers in its texts.
    fn decimal(&self) -> char {
        '.'
    }

    /// Says what is known of its columns before they are read: guesses from its first texts, or their types.
    /// `order` has for each column of the stack its place here.
    fn look(&self, file: usize, order: &[Option<usize>], columns: &mut Columns);

    /// Begins a pass.
    ///
    /// # Errors
    /// A column that cannot be read.
    fn scan<'a>(&'a self, wanted: Wanted<'a>) -> Result<Box<dyn FilePass<'a> + 'a>, ReadError>;

    /// In how many pieces a pass reads it, about: more threads are not worth it.
    fn pieces(&self, piece_bytes: usize) -> usize;

    /// Its bytes, for those who wait.
    fn bytes(&self) -> u64;

    /// The bytes that hold its rows, to tell copies; empty where there are no rows.
    fn contents(&self) -> &[u8];

    /// An error when the file has changed since it was opened.
    ///
    /// # Errors
    /// That it has.
    fn ensure_unchanged(&self) -> Result<(), ReadError>;

    /// Reads it as another encoding from now on, because of a field.
    ///
    /// # Errors
    /// What is wrong with it by that encoding.
    fn decode_anew(&mut self, shown_by: DataProblem) -> Result<(), ReadError> {
        let _ = shown_by;
        Ok(())
    }

    /// Columns that came to light while the rows were read: those of all rows, the known ones first.
    ///
    /// # Errors
    /// What is wrong with the rows.
    fn look_for_columns(&mut self) -> Result<(), ReadError> {
        Ok(())
    }

    /// Whether all its columns are known before its rows are read.
    fn knows_its_columns(&self) -> bool {
        true
    }

    /// Whether rows name their own columns, so that a file may lack what another one has.
    fn may_lack_columns(&self) -> bool {
        false
    }

    /// What readers should be told of how it was read; some of it only where the options are known.
    fn notes(&self, options: &ReadOptions) -> Vec<Note> {
        let _ = options;
        Vec::new()
    }
}

/// What the rows of a file are counted by, in messages and traces.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Counted {
    /// The lines of a text, from 1, the headings' among them.
    Lines,
    /// Rows, from 1.
    Rows,
    /// Rows of groups of rows, both from 1.
    RowsOfGroups,
}

/// What is wanted of a column's place in a batch.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Want {
    /// A column of the stack, by its place in the file.
    Values {
        /// Its place in the stack.
        column: usize,
        /// Its place in the file.
        place: usize,
    },
    /// The line or row of each row, as whole numbers.
    Number,
    /// The group of rows of each row; missing where there are none.
    Group,
    /// Nothing that the file has: the stack fills it.
    Nothing,
}

/// What a pass is to read of a file.
#[derive(Clone)]
pub(crate) struct Wanted<'a> {
    /// The place of the file in the stack.
    pub(crate) file: usize,
    /// What each column of the batches is to be.
    pub(crate) wants: Arc<[Want]>,
    /// How the columns are read, and where to say that they are not what they seemed.
    pub(crate) columns: &'a Columns,
    /// How the whole stack is read.
    pub(crate) options: &'a ReadOptions,
    /// Which rows are wanted at all, where nobody wants all.
    pub(crate) bounds: Arc<Bounds>,
}

/// A pass over one file, which readers share.
pub(crate) trait FilePass<'a>: Send + Sync {
    /// One more reader.
    fn reader(&self) -> Box<dyn FileReader + 'a>;
}

/// One of the readers of a pass over a file; as [`oeuvre_columns::Reader`], of the wanted columns alone.
pub(crate) trait FileReader: Send {
    /// Refills a batch; false when the file has no more rows for this reader.
    ///
    /// # Errors
    /// What is wrong with the file.
    fn next(&mut self, batch: &mut Batch) -> Result<bool, ReadError>;

    /// The piece that was read last, counted in the file.
    fn piece(&self) -> u64;

    /// What was passed over so far.
    fn account(&self) -> Account;

    /// Whether it remembers codes of texts that it has read.
    fn remembers_codes(&self) -> bool {
        true
    }
}
