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

use crate::column::{Batch, Column};
use crate::note::Note;
use crate::problem::ReadError;
use crate::schema::ColumnInfo;
use crate::value::Value;

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

    /// More columns that can be scanned, beyond those of [`Source::columns`]: the file that a row stands in (a
    /// text) first, its line or row there (a whole number) last, and between them what else says where it stands
    /// (whole numbers). Empty where rows have no such place.
    fn location_columns(&self) -> Vec<LocationColumn> {
        Vec::new()
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

    /// As [`Source::scan`], for somebody who wants only some of the rows. Others may be passed over unseen, where
    /// the source knows of them without reading them: they are counted in [`Account::unseen`].
    ///
    /// # Errors
    /// As for [`Source::scan`].
    fn scan_within<'a>(
        &'a self,
        columns: &[usize],
        readers: usize,
        bounds: &Bounds,
    ) -> Result<Vec<Box<dyn Reader + 'a>>, ReadError> {
        let _ = bounds;
        self.scan(columns, readers)
    }
}

/// A column that says where a row stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct LocationColumn {
    /// Its place, to be scanned.
    pub place: usize,
    /// What it says: `file`, `line`, `row`.
    pub heading: &'static str,
}

/// Which rows of a pass are wanted: those within the limits of anybody who takes part in it.
#[derive(Clone, Debug, Default)]
pub struct Bounds {
    /// For each who takes part what must hold of a row; where one has no limits, all rows are wanted.
    pub of: Vec<Limits>,
}

/// What must hold of the rows that somebody wants.
#[derive(Clone, Debug, Default)]
pub struct Limits {
    /// All columns that the condition behind these limits compares, by their places: it may be passed over for
    /// rows alone that have a value in each of them, because rows without are counted apart.
    pub columns: Vec<usize>,
    /// All of these hold.
    pub ranges: Vec<Range>,
    /// All of these hold, too. What a label means that has no row, and which labels are almost the same as one that
    /// is asked for, is told of all rows: rows may be passed over by these alone where each text has a row among
    /// those that are given, and so are all rows whose text [is plainly the same](crate::names::plain_label) as one.
    pub texts: Vec<OneOf>,
    /// Columns that have no value.
    pub blank: Vec<usize>,
    /// Columns that have a value.
    pub filled: Vec<usize>,
}

impl Limits {
    /// Whether nothing is asked of a row.
    pub fn is_empty(&self) -> bool {
        let Limits { columns: _, ranges, texts, blank, filled } = self;
        ranges.is_empty() && texts.is_empty() && blank.is_empty() && filled.is_empty()
    }
}

/// Texts of which a column has one in the rows that are wanted.
#[derive(Clone, Debug, PartialEq)]
pub struct OneOf {
    /// The column, by its place.
    pub column: usize,
    /// The texts.
    pub texts: Vec<String>,
}

/// Values that a column has in the rows that are wanted: from `low` to `high`, both included.
#[derive(Clone, Debug, PartialEq)]
pub struct Range {
    /// The column, by its place.
    pub column: usize,
    /// The lowest, if there is one.
    pub low: Option<Value>,
    /// The highest, if there is one.
    pub high: Option<Value>,
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

    /// Begins the texts of a column of its batches anew, where it has no memory of codes that they had; whether it did. From
    /// then on codes mean other texts, of a dictionary with another [`id`](crate::column::dictionary::Texts::id).
    fn begin_texts_anew(&mut self, column: &mut Column) -> bool {
        let _ = column;
        false
    }
}

/// What readers passed over or made whole.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Account {
    /// Records that could not be read and were skipped, as was asked for.
    pub unreadable: u64,
    /// Records that were too short and were padded, as was asked for.
    pub padded: u64,
    /// Rows that nobody wanted and that were passed over unread: see [`Source::scan_within`].
    pub unseen: u64,
    /// Lines of totals in a table that Oeuvre wrote, which are no rows.
    pub totals: u64,
}

impl Account {
    /// Adds another reader's account.
    pub fn add(&mut self, other: Account) {
        self.unreadable += other.unreadable;
        self.padded += other.padded;
        self.unseen += other.unseen;
        self.totals += other.totals;
    }
}
