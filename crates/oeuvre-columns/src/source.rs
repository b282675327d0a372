//! Where rows come from: the one small trait between readers and the engine.

use crate::column::Batch;
use crate::problem::ReadError;
use crate::schema::ColumnInfo;

/// Rows that can be read, several readers at a time.
pub trait Source: Sync {
    /// The columns, in the order of the rows.
    fn columns(&self) -> Vec<ColumnInfo>;

    /// Two more columns that can be scanned, beyond those of [`Source::columns`]: the file that a row
    /// stands in (a text), and its line there (a whole number). `None` where rows have no such place.
    fn location_columns(&self) -> Option<[usize; 2]> {
        None
    }

    /// Whether the rows can be read again, and are the same ones then.
    fn is_repeatable(&self) -> bool {
        true
    }

    /// How much there is to read, for those who wait.
    fn size(&self) -> Size {
        Size::default()
    }

    /// Says whether the rows are still those that were opened.
    ///
    /// # Errors
    /// When they have changed since.
    fn ensure_unchanged(&self) -> Result<(), ReadError> {
        Ok(())
    }

    /// Says, after a pass, whether the columns that were read can be relied on.
    ///
    /// # Errors
    /// A column that still can be read two ways.
    fn ensure_sound(&self, columns: &[usize]) -> Result<(), ReadError> {
        let _ = columns;
        Ok(())
    }

    /// What readers should be told of how columns were read.
    fn remarks(&self, columns: &[usize]) -> Vec<String> {
        let _ = columns;
        Vec::new()
    }

    /// Opens readers that share one pass over the rows; between them they give every row once.
    /// Only the columns asked for are read, and come in that order.
    ///
    /// # Errors
    /// When the rows cannot be opened.
    fn scan<'a>(
        &'a self,
        columns: &[usize],
        readers: usize,
    ) -> Result<Vec<Box<dyn Reader + 'a>>, ReadError>;
}

/// How much there is to read, as far as it is known before.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Size {
    /// Rows.
    pub rows: Option<u64>,
    /// Bytes.
    pub bytes: Option<u64>,
}

/// One of the readers of a pass.
pub trait Reader: Send {
    /// Refills a batch; false when there are no more rows. Batches of one reader come in the order
    /// of the rows, with growing [`Batch::piece`].
    ///
    /// # Errors
    /// What is wrong with the data; of several readers' problems the one with the lowest
    /// [`Reader::piece`] comes first in the data.
    fn next(&mut self, batch: &mut Batch) -> Result<bool, ReadError>;

    /// The piece that was read last, to put problems in order.
    fn piece(&self) -> u64;

    /// What was passed over so far.
    fn account(&self) -> Account;
}

/// What readers passed over or read as missing.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Account {
    /// Records that could not be read and were skipped, as was asked for.
    pub unreadable: u64,
    /// Records that were too short and were padded, as was asked for.
    pub padded: u64,
    /// Texts read as missing: column (place among those asked for), text, how often.
    pub read_as_missing: Vec<(usize, String, u64)>,
}

impl Account {
    /// Adds another reader's account.
    pub fn add(&mut self, other: &Account) {
        self.unreadable += other.unreadable;
        self.padded += other.padded;
        for (column, text, n) in &other.read_as_missing {
            match self.read_as_missing.iter_mut().find(|m| m.0 == *column && m.1 == *text) {
                Some(mine) => mine.2 += n,
                None => self.read_as_missing.push((*column, text.clone(), *n)),
            }
        }
        self.read_as_missing.sort();
    }
}
