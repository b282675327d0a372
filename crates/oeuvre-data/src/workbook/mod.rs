//! Workbooks: XLSX and ODS, a sheet of which is a table.
//!
//! ```text
//! bytes → cells of a sheet (book.rs, by the library) → the table in it: its headings, its rows (table.rs)
//!       → blocks of cells in memory (crate::cells) → typed columns
//! ```
//!
//! A sheet is read once and kept as texts, which is a fraction of what a workbook takes otherwise: passes and
//! threads then go over its blocks. Numbers are binary64 in such a file, and become the shortest decimal that
//! reads back the same; dates are numbers with a format of dates; of a formula the stored result counts.

mod book;
mod cell;
mod table;

pub(crate) use book::{Book, is_archive};

use crate::bytes::Opened;
use crate::cells::{Block, Blocks, CellPass, Taken};
use crate::file_rows::{Counted, FilePass, FileRows, Wanted};
use crate::kinds::Columns;
use crate::options::ReadOptions;
use oeuvre_columns::{DataProblem, Note, ReadError, Topic};
use std::borrow::Cow;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use table::Table;

/// So many rows are looked at to guess what a column holds.
const SAMPLE: usize = 500;

/// A sheet, as rows.
pub(crate) struct SheetRows {
    /// The file and the sheet.
    name: String,
    file: Arc<Opened>,
    table: Table,
}

impl SheetRows {
    /// What the first rows say of a column.
    fn guess(&self, (column, place): (usize, usize), file: usize, columns: &mut Columns) {
        let rows = || {
            let all = self.table.blocks.iter();
            all.flat_map(|block| (0..block.rows()).map(move |row| (block, row)))
        };
        let texts = || {
            rows()
                .take(SAMPLE)
                .map(|(block, row)| (block.number(row) as usize, block.cell(row, place)))
                .filter(|(_, text)| !text.is_empty())
                .map(|(number, text)| (number, Cow::Borrowed(text)))
        };
        let problem = |row: usize, message: String| {
            DataProblem::in_file(self.name.as_str(), message).at_row(row as u64)
        };
        columns.guess((column, file), texts, problem);
    }
}

impl FileRows for SheetRows {
    fn headings(&self) -> &[String] {
        &self.table.headings
    }

    fn counted(&self) -> Counted {
        Counted::Rows
    }

    fn holds_texts(&self) -> bool {
        true
    }

    fn look(&self, file: usize, order: &[Option<usize>], columns: &mut Columns) {
        for (column, place) in order.iter().enumerate() {
            let Some(place) = *place else { continue };
            self.guess((column, place), file, columns);
            if self.table.has_numbers[place] {
                columns.sure_of_signs(column, file);
            }
        }
    }

    fn scan<'a>(&'a self, wanted: Wanted<'a>) -> Result<Box<dyn FilePass<'a> + 'a>, ReadError> {
        let kept = Arc::new(Kept {
            blocks: &self.table.blocks,
            next: AtomicUsize::new(0),
            stopped: AtomicBool::new(false),
        });
        let blocks = Box::new(move || Box::new(kept.clone()) as Box<dyn Blocks<'a> + 'a>);
        Ok(Box::new(CellPass { name: &self.name, wanted, blocks }))
    }

    fn pieces(&self, _: usize) -> usize {
        self.table.blocks.len()
    }

    fn bytes(&self) -> u64 {
        self.file.bytes.len() as u64
    }

    fn contents(&self) -> &[u8] {
        // Sheets of one file hold different rows.
        &[]
    }

    fn ensure_unchanged(&self) -> Result<(), ReadError> {
        self.file.ensure_unchanged()
    }

    fn notes(&self, _: &ReadOptions) -> Vec<Note> {
        let mut notes = Vec::new();
        let mut say = |text: String| notes.push(Note::new(Topic::Reading, text));
        if let Some((cells, first)) = &self.table.beside {
            let (cells, are) = match cells {
                1 => ("1 cell".to_owned(), "is"),
                n => (format!("{n} cells"), "are"),
            };
            say(format!(
                "{}: {cells} to the right of the last heading {are} left out, the first in {first}",
                self.name
            ));
        }
        if let Some((formulas, first)) = &self.table.unworked {
            let (formulas, have) = match formulas {
                1 => ("1 formula".to_owned(), "has no stored result and counts"),
                n => (format!("{n} formulas"), "have no stored result and count"),
            };
            say(format!(
                "{}: {formulas} {have} as missing, the first in {first}; open the workbook and save it to have them worked out",
                self.name
            ));
        }
        notes
    }
}

/// The blocks of a sheet, claimed one after the other.
struct Kept<'a> {
    blocks: &'a [Block],
    next: AtomicUsize,
    stopped: AtomicBool,
}

impl<'a> Blocks<'a> for Arc<Kept<'a>> {
    fn take(&mut self) -> Result<Option<(u64, Taken<'a>)>, ReadError> {
        if self.stopped.load(Ordering::Acquire) {
            return Ok(None);
        }
        let at = self.next.fetch_add(1, Ordering::Relaxed);
        let blocks: &'a [Block] = self.blocks;
        Ok(blocks.get(at).map(|block| (at as u64, Taken::Kept(block))))
    }

    fn cell_of(&self, place: usize) -> usize {
        place
    }

    fn stop(&self) {
        self.stopped.store(true, Ordering::Release);
    }
}
