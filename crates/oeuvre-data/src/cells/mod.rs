//! Rows that come cell by cell: from workbooks and databases.
//!
//! ```text
//! sheets, tables → blocks of cells, as texts with a mark where each ends (workbook/, database/)
//!                → typed columns (here, by the readers of texts) → batch
//! ```
//!
//! A cell has its own type, whatever its column is said to be; so it is written as the text that stands for it in
//! a file of texts (a number with all its digits and a point, a date in ISO form), and what a column holds is
//! found out of its values as everywhere. Writing and reading that text costs a fraction of what the libraries
//! behind take for a cell.

#[cfg(feature = "databases")]
pub(crate) mod channel;

use crate::file_rows::{FilePass, FileReader, Want, Wanted};
use crate::kinds::values::Shape;
use crate::text::columns::{ColumnReader, Trouble};
use crate::text::records::{Kept, Records};
use crate::text::trouble::{Place, told};
use oeuvre_columns::column::{Batch, Column, Data};
use oeuvre_columns::{Account, ReadError};
use std::io::Write;

/// So many rows are in a block, or fewer where their cells are long.
pub(crate) const ROWS: usize = 4096;
/// A block with so many bytes takes no more rows.
pub(crate) const BYTES: usize = 1 << 20;
/// Cells are marked in 32 bits: a row longer than that has no place in a block.
const LONGEST: usize = u32::MAX as usize - (1 << 20);

/// Some rows, their cells as texts.
#[derive(Debug, Default)]
pub(crate) struct Block {
    /// The cells, row after row, a byte behind each.
    data: Vec<u8>,
    /// Where each ends.
    marks: Vec<u32>,
    /// The places of the points of cells that are numbers.
    points: Vec<u32>,
    /// What each row is called by.
    numbers: Vec<i64>,
    /// Cells in a row.
    width: usize,
    /// All marks are kept, one more than there are columns.
    kept: Kept,
}

impl Block {
    /// A block for rows of so many cells.
    pub(crate) fn new(width: usize) -> Block {
        Block { width, kept: Kept::all(width + 1), ..Block::default() }
    }

    /// Where the text of the next cell goes.
    pub(crate) fn text(&mut self) -> &mut Vec<u8> {
        &mut self.data
    }

    /// The cell whose text begins there is a number.
    pub(crate) fn point_from(&mut self, from: usize) {
        if let Some(at) = memchr::memchr(b'.', &self.data[from..]) {
            self.points.push((from + at) as u32);
        }
    }

    /// The cell whose text was written is complete.
    pub(crate) fn end_cell(&mut self) {
        self.marks.push(self.data.len() as u32);
        self.data.push(b'\n');
    }

    /// The row whose cells are complete is; whether the block takes another one.
    pub(crate) fn end_row(&mut self, number: u64) -> bool {
        // A last cell that nobody reads: what ends a line of records with separators is no part of it.
        self.end_cell();
        debug_assert_eq!(self.marks.len(), (self.numbers.len() + 1) * (self.width + 1));
        self.numbers.push(number as i64);
        self.numbers.len() < ROWS && self.data.len() < BYTES
    }

    /// Whether the row that is being written is longer than a block can be.
    pub(crate) fn is_too_long(&self) -> bool {
        self.data.len() > LONGEST
    }

    /// How many rows it has.
    pub(crate) fn rows(&self) -> usize {
        self.numbers.len()
    }

    /// Its bytes.
    pub(crate) fn bytes(&self) -> usize {
        self.data.len() + 4 * self.marks.len() + 8 * self.numbers.len()
    }

    /// No row is left.
    pub(crate) fn clear(&mut self) {
        self.data.clear();
        self.marks.clear();
        self.points.clear();
        self.numbers.clear();
    }

    /// No more rows come: what is read of it looks at a few bytes more.
    pub(crate) fn finish(&mut self) {
        self.data.extend([b'\n'; 32]);
    }

    /// The text of a cell.
    pub(crate) fn cell(&self, row: usize, column: usize) -> &str {
        let (start, len) = self.records().field(column, row);
        std::str::from_utf8(&self.data[start..start + len]).unwrap_or("")
    }

    /// What a row is called by.
    pub(crate) fn number(&self, row: usize) -> u64 {
        self.numbers[row] as u64
    }

    /// The texts with commas in the numbers: how a column is read whose other values have them.
    fn with_commas(&self) -> Vec<u8> {
        let mut data = self.data.clone();
        self.points.iter().for_each(|&at| data[at as usize] = b',');
        data
    }

    fn records(&self) -> Records<'_> {
        self.records_in(&self.data)
    }

    fn records_in<'d>(&'d self, data: &'d [u8]) -> Records<'d> {
        Records::written(data, &self.marks, &self.kept)
    }
}

/// Writes the shortest decimal that reads back as the same binary64, with at least so many digits behind the point
/// (none, one or two): digits that a column has anyhow are read the fast way.
///
/// Most numbers have a few digits behind the point: one that is a whole number of hundredths of less than 16 digits is
/// that decimal, because division rounds once, as reading a decimal does, and no two decimals of so few digits are the
/// same binary64.
pub(crate) fn write_number(number: f64, digits: u8, out: &mut Vec<u8>) {
    /// Whole numbers below it have at most 15 digits.
    const MOST: f64 = 1e15;
    let hundredths = (number * 100.0).round();
    if hundredths.abs() < MOST && hundredths / 100.0 == number {
        let hundredths = hundredths as i64;
        if hundredths < 0 {
            out.push(b'-');
        }
        let hundredths = hundredths.unsigned_abs();
        let (whole, part) = (hundredths / 100, (hundredths % 100) as u8);
        let mut written = itoa::Buffer::new();
        out.extend_from_slice(written.format(whole).as_bytes());
        if part > 0 || digits > 0 {
            out.extend([b'.', b'0' + part / 10]);
            if part % 10 > 0 || digits > 1 {
                out.push(b'0' + part % 10);
            }
        }
        return;
    }
    // Writing to memory does not fail.
    let _ = write!(out, "{number}");
}

/// A block, kept or on loan.
pub(crate) enum Taken<'a> {
    /// One of a table that is in memory.
    Kept(&'a Block),
    /// One that goes back when it is read.
    #[cfg_attr(not(feature = "databases"), expect(dead_code, reason = "only databases give these"))]
    Lent(Block),
}

/// Who gives the blocks of a pass to one of its readers.
pub(crate) trait Blocks<'a>: Send {
    /// The next block and its number, which grows; `None` when there are no more.
    ///
    /// # Errors
    /// What is wrong with the table behind the rows that were given.
    fn take(&mut self) -> Result<Option<(u64, Taken<'a>)>, ReadError>;

    /// Takes a block back.
    fn give_back(&mut self, block: Block) {
        drop(block);
    }

    /// What a row of the block that was taken last is called by, where its number is another one.
    ///
    /// # Errors
    /// Why that cannot be found out.
    fn row(&mut self, number: u64) -> Result<u64, ReadError> {
        Ok(number)
    }

    /// In which cell of a row the column at a place in the table stands.
    fn cell_of(&self, place: usize) -> usize;

    /// Nobody is to begin with what comes after the last block.
    fn stop(&self);

    /// Rows that were left out unseen, told once, at the end.
    ///
    /// # Errors
    /// Why that cannot be found out.
    fn unseen(&mut self) -> Result<u64, ReadError> {
        Ok(0)
    }
}

/// The places of the columns that blocks have, ascending: in which cell of a row one stands.
pub(crate) fn cell_among(places: &[usize], place: usize) -> usize {
    places.binary_search(&place).unwrap_or(0)
}

/// Makes the blocks of one more reader.
pub(crate) type MakeBlocks<'a> = Box<dyn Fn() -> Box<dyn Blocks<'a> + 'a> + Send + Sync + 'a>;

/// A pass over the blocks of a table.
pub(crate) struct CellPass<'a> {
    /// The table, in messages.
    pub(crate) name: &'a str,
    pub(crate) wanted: Wanted<'a>,
    /// Makes the blocks of one more reader.
    pub(crate) blocks: MakeBlocks<'a>,
}

impl<'a> FilePass<'a> for CellPass<'a> {
    fn reader(&self) -> Box<dyn FileReader + 'a> {
        let (wanted, blocks) = (self.wanted.clone(), (self.blocks)());
        let reader = |want: &Want| {
            let Want::Values { column, place } = *want else { return None };
            let missing = wanted.columns.states()[column].missing.clone();
            let reading = wanted.columns.reading(column, wanted.file);
            Some((blocks.cell_of(place), ColumnReader::new(reading, missing)))
        };
        Box::new(CellReader {
            name: self.name,
            readers: wanted.wants.iter().map(reader).collect(),
            wanted,
            blocks,
            piece: 0,
            account: Account::default(),
            pending: None,
        })
    }
}

/// A reader of one pass.
struct CellReader<'a> {
    name: &'a str,
    wanted: Wanted<'a>,
    blocks: Box<dyn Blocks<'a> + 'a>,
    /// One for each column that is wanted, with its cell.
    readers: Vec<Option<(usize, ColumnReader)>>,
    piece: u64,
    account: Account,
    /// A problem behind the rows of the last batch.
    pending: Option<ReadError>,
}

impl CellReader<'_> {
    /// Reads the columns of a block.
    ///
    /// # Errors
    /// Why the row of a problem cannot be named.
    fn fill(&mut self, block: &Block, batch: &mut Batch) -> Result<(), ReadError> {
        let records = block.records();
        let has_commas = |cell: &Option<(usize, ColumnReader)>| {
            cell.as_ref().is_some_and(|(_, reader)| reader.reading.decimal == ',')
        };
        let commas = match !block.points.is_empty() && self.readers.iter().any(has_commas) {
            true => Some(block.with_commas()),
            false => None,
        };
        let with_commas = commas.as_ref().map_or(block.records(), |data| block.records_in(data));
        batch.rows = block.rows();
        let mut first: Option<(u32, usize, Trouble)> = None;
        let wants = self.wanted.wants.clone();
        for ((want, reader), out) in wants.iter().zip(&mut self.readers).zip(&mut batch.columns) {
            match (want, reader) {
                (Want::Values { column, .. }, Some((cell, reader))) => {
                    reader.prepare(out);
                    let numeric = matches!(
                        reader.reading.shape,
                        Shape::Unknown | Shape::Number(_) | Shape::Float
                    );
                    let records = match numeric && reader.reading.decimal == ',' {
                        true => &with_commas,
                        false => &records,
                    };
                    if let Err((row, trouble)) = reader.read(records, *cell, out)
                        && first
                            .as_ref()
                            .is_none_or(|f| (row, trouble.place()) < (f.0, f.2.place()))
                    {
                        first = Some((row, *column, trouble));
                    }
                }
                (Want::Number, _) => out.data = Data::I64(block.numbers.clone()),
                // The stack fills it.
                _ => *out = Column { data: Data::I64(Vec::new()), ..std::mem::take(out) },
            }
        }
        if let Some((row, column, trouble)) = first {
            let line = self.blocks.row(block.number(row as usize))?;
            let place = Place { file: self.name, line, in_rows: true, piece: self.piece, column };
            self.pending = Some(told(trouble, place, &self.wanted, true));
            batch.keep_first(row as usize);
            self.blocks.stop();
        }
        Ok(())
    }
}

impl FileReader for CellReader<'_> {
    fn next(&mut self, batch: &mut Batch) -> Result<bool, ReadError> {
        loop {
            if let Some(error) = self.pending.take() {
                return Err(error);
            }
            let Some((piece, block)) = self.blocks.take()? else {
                self.account.unseen += self.blocks.unseen()?;
                return Ok(false);
            };
            self.piece = piece;
            match block {
                Taken::Kept(block) => self.fill(block, batch)?,
                Taken::Lent(block) => {
                    let filled = self.fill(&block, batch);
                    self.blocks.give_back(block);
                    filled?;
                }
            }
            if batch.rows > 0 {
                return Ok(true);
            }
        }
    }

    fn piece(&self) -> u64 {
        self.piece
    }

    fn account(&self) -> Account {
        self.account
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// The shortest decimal is what the language itself writes.
        #[test]
        fn numbers_are_their_shortest_decimals(digits in -10_000_000_000i64..10_000_000_000, scale in 0i32..6, any: f64) {
            for number in [digits as f64 / 10f64.powi(scale), any] {
                prop_assume!(number.is_finite());
                let mut out = Vec::new();
                write_number(number, 0, &mut out);
                let plain = if number == 0.0 { "0".to_owned() } else { number.to_string() };
                prop_assert_eq!(String::from_utf8(out).unwrap(), plain);
            }
        }
    }
}
