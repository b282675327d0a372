//! Where rows come from: the one small trait between readers and the engine.
//!
//! A pass asks a [`Source`] for several [`Reader`]s at once and gives each to a thread. Which reader gets which
//! rows is left to the source; that no result depends on it is the business of [`Batch::piece`], which says
//! where a batch stands. To add a source, implement both; `InMemory` is the smallest example, the reader of
//! separated files the largest.
//!
//! Columns are asked for by their places, so that what a request does not use is never read. A column's kind is
//! what [`Source::columns`] says before the pass: a reader that meets a value of another kind ends the pass with
//! [`ReadError::Again`].

use crate::column::Batch;
use crate::note::Note;
use crate::problem::ReadError;
use crate::schema::ColumnInfo;

/// Rows that can be read, several readers at a time.
///
/// ```
/// use oeuvre_columns::{Account, ColumnInfo, Kind, ReadError, Reader, Source};
/// use oeuvre_columns::column::{Batch, Column, Data};
///
/// /// The whole numbers below a bound.
/// struct Below(i64);
///
/// impl Source for Below {
///     fn columns(&self) -> Vec<ColumnInfo> {
///         vec![ColumnInfo::new("n", Kind::Number { scale: 0 })]
///     }
///     fn scan<'a>(
///         &'a self,
///         columns: &[usize],
///         _readers: usize,
///     ) -> Result<Vec<Box<dyn Reader + 'a>>, ReadError> {
///         Ok(vec![Box::new(Once { below: Some(self.0), columns: columns.len() })])
///     }
/// }
///
/// struct Once {
///     below: Option<i64>,
///     columns: usize,
/// }
///
/// impl Reader for Once {
///     fn next(&mut self, batch: &mut Batch) -> Result<bool, ReadError> {
///         let Some(below) = self.below.take() else { return Ok(false) };
///         batch.rows = below as usize;
///         batch.columns = vec![Column::from(Data::I64((0..below).collect())); self.columns];
///         Ok(below > 0)
///     }
///     fn piece(&self) -> u64 {
///         0
///     }
///     fn account(&self) -> Account {
///         Account::default()
///     }
/// }
///
/// let mut batch = Batch::default();
/// assert!(Below(3).scan(&[0], 2)?[0].next(&mut batch)?);
/// assert_eq!(batch.columns[0].data.to_i128(), [0, 1, 2]);
/// # Ok::<(), ReadError>(())
/// ```
pub trait Source: Sync {
    /// The columns, in the order of the rows. Headings differ from each other.
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

    /// How much there is to read, for those who wait. Nothing depends on it.
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

    /// Says, after a pass, whether the columns that were read (by their places) can be relied on.
    ///
    /// # Errors
    /// A column that still can be read two ways.
    fn ensure_sound(&self, columns: &[usize]) -> Result<(), ReadError> {
        let _ = columns;
        Ok(())
    }

    /// The time zone whose wall clock times with an offset were read by.
    fn zone(&self) -> &str {
        "UTC"
    }

    /// What readers should be told of how columns (by their places) were read; empty for nothing.
    fn notes(&self, columns: &[usize]) -> Vec<Note> {
        let _ = columns;
        Vec::new()
    }

    /// Opens readers that share one pass over the rows; between them they give every row once. Only the columns
    /// asked for (by their places) are read, and come in that order; none may be asked for, and then batches have
    /// rows and no columns. There may be fewer readers than asked for, but at least one.
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

    /// What was passed over so far by this reader alone.
    fn account(&self) -> Account;
}

/// What readers passed over or made whole.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Account {
    /// Records that could not be read and were skipped, as was asked for.
    pub unreadable: u64,
    /// Records that were too short and were padded, as was asked for.
    pub padded: u64,
}

impl Account {
    /// Adds another reader's account.
    pub fn add(&mut self, other: Account) {
        self.unreadable += other.unreadable;
        self.padded += other.padded;
    }
}
