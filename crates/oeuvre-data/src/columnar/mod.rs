//! Files of typed columns: Parquet, and Arrow IPC as file and as stream.
//!
//! ```text
//! bytes → batches of Arrow arrays, of the wanted columns alone (parquet.rs, arrow.rs)
//!       → values of the same type, or by their texts (convert.rs) → batch
//! ```
//!
//! Values go from their columns to ours without passing through text where their types agree with what the column
//! is, which is the rule: another type is met where files are stacked that differ, or a kind was asked for.
//! Dictionaries stay codes. What the libraries do with damaged bytes is fenced in: an error, never a crash.

mod arrow;
mod convert;

mod parquet;
mod statistics;
mod types;

pub(crate) use arrow::{ArrowFile, is_arrow_file, is_arrow_stream};
pub(crate) use parquet::{ParquetFile, is_parquet};

use crate::bytes::Opened;
use crate::file_rows::{FilePass, FileReader, Want, Wanted};
use crate::kinds::Columns;
use crate::text::columns::ColumnReader;
use crate::text::trouble::{Place, told};
use arrow_array::RecordBatch;
use arrow_schema::Schema;
use convert::{ArrayReader, Seen};
use oeuvre_columns::column::{Batch, Column, Data};
use oeuvre_columns::{Account, DataProblem, Note, ReadError, Topic};
use std::collections::HashSet;
use std::sync::{Arc, Mutex, PoisonError};
use types::Natural;

/// The bytes of a file, shared with whoever takes values out of them.
#[derive(Clone)]
struct Shared(Arc<Opened>);

impl AsRef<[u8]> for Shared {
    fn as_ref(&self) -> &[u8] {
        &self.0.bytes
    }
}

/// What both kinds of files know of themselves.
struct Known {
    name: String,
    file: Shared,
    headings: Vec<String>,
    naturals: Vec<Natural>,
    /// What was seen of the values of each column in the last pass.
    seen: Mutex<Vec<Seen>>,
}

impl Known {
    fn new(name: &str, file: Shared, schema: &Schema) -> Result<Known, ReadError> {
        let fields = schema.fields();
        let headings: Vec<String> = fields
            .iter()
            .map(|f| f.name().split_whitespace().collect::<Vec<_>>().join(" "))
            .collect();
        let mut seen = HashSet::new();
        for heading in &headings {
            if !seen.insert(heading) {
                let it = DataProblem::in_file(name, format!("the column `{heading}` stands twice"));
                return Err(it.help("columns of a table have names that differ").into());
            }
        }
        if headings.is_empty() {
            return Err(DataProblem::in_file(name, "the file has no columns").into());
        }
        Ok(Known {
            name: name.to_owned(),
            file,
            naturals: fields.iter().map(|f| Natural::of(f.data_type())).collect(),
            seen: Mutex::new(vec![Seen::default(); headings.len()]),
            headings,
        })
    }

    /// What the library has found wrong.
    fn damaged(&self, what: &str, error: impl std::fmt::Display) -> ReadError {
        damaged(&self.name, what, error)
    }

    fn look(&self, order: &[Option<usize>], columns: &mut Columns) {
        for (column, place) in order.iter().enumerate() {
            if let Some(place) = *place {
                columns.typed(column, self.naturals[place].shape());
            }
        }
    }

    /// An error where a column is wanted that holds no values of a table.
    fn ensure_fit(&self, wanted: &Wanted<'_>) -> Result<(), ReadError> {
        for want in wanted.wants.iter() {
            if let Want::Values { place, .. } = *want
                && let Natural::Unfit(what) = self.naturals[place]
            {
                let others: Vec<&str> = self
                    .headings
                    .iter()
                    .zip(&self.naturals)
                    .filter(|(_, natural)| !matches!(natural, Natural::Unfit(_)))
                    .map(|(heading, _)| heading.as_str())
                    .collect();
                let it = DataProblem::in_file(self.name.clone(), format!("it holds {what}"));
                let it = it.in_column(self.headings[place].clone());
                return Err(it
                    .help(format!("columns that can be read: {}", others.join(", ")))
                    .into());
            }
        }
        Ok(())
    }

    fn notes(&self, zone: &str) -> Vec<Note> {
        let seen = self.seen.lock().unwrap_or_else(PoisonError::into_inner);
        let mut notes = Vec::new();
        for (heading, seen) in self.headings.iter().zip(seen.iter()) {
            let name = &self.name;
            if seen.zoned > 0 {
                let text = format!(
                    "{heading} holds instants, read as the clock in {zone} showed; another zone: --zone NAME"
                );
                notes.push(Note::new(Topic::Reading, text));
            }
            let mut say = |n: u64, one: &str, many: &str| {
                if n > 0 {
                    let text = match n {
                        1 => format!("{heading} of {name}: 1 {one}"),
                        _ => format!("{heading} of {name}: {n} {many}"),
                    };
                    notes.push(Note::new(Topic::Reading, text));
                }
            };
            say(
                seen.out_of_calendar,
                "date lies outside the years 1 to 9999 and is taken as missing",
                "dates lie outside the years 1 to 9999 and are taken as missing",
            );
            say(seen.early, "date lies before 1900", "dates lie before 1900");
            say(
                seen.below_micros,
                "time has digits below a microsecond, which are left out",
                "times have digits below a microsecond, which are left out",
            );
            say(
                seen.not_numbers,
                "value is infinite or no number, and is taken as missing",
                "values are infinite or no numbers, and are taken as missing",
            );
        }
        notes
    }
}

fn damaged(name: &str, what: &str, error: impl std::fmt::Display) -> ReadError {
    let error = error.to_string();
    let short: String = error.chars().take(200).collect();
    DataProblem::in_file(name, format!("the {what} cannot be read: {short}"))
        .help("it may be cut off or damaged: fetch or write it again")
        .into()
}

/// Some rows of a file.
struct Rows {
    /// Grows along the file.
    piece: u64,
    batch: RecordBatch,
    /// The row that the first one is, from 1.
    first: u64,
    /// The group of rows that they are of, from 1.
    group: Option<u64>,
}

/// Who gives the rows of a file, one reader of several.
trait RowsOf: Send {
    /// The next rows; `None` when there are no more.
    ///
    /// # Errors
    /// What is wrong with the file.
    fn next(&mut self) -> Result<Option<Rows>, ReadError>;

    /// The piece that was read last.
    fn piece(&self) -> u64;

    /// Rows that were passed over unseen.
    fn unseen(&self) -> u64 {
        0
    }

    /// Nobody is to begin with what comes after the last rows.
    fn stop(&self);
}

/// Makes columns of the rows of a file.
struct TypedReader<'a> {
    known: &'a Known,
    wanted: Wanted<'a>,
    rows: Box<dyn RowsOf + 'a>,
    /// One for each column of values that is wanted, with its place among those that are read.
    readers: Vec<Option<(usize, ArrayReader)>>,
    pending: Option<ReadError>,
}

/// The places in the file of the columns that are wanted, each once, in their order in the file.
fn projection(wanted: &Wanted<'_>) -> Vec<usize> {
    let mut places: Vec<usize> = wanted
        .wants
        .iter()
        .filter_map(|want| match want {
            Want::Values { place, .. } => Some(*place),
            _ => None,
        })
        .collect();
    places.sort_unstable();
    places.dedup();
    places
}

impl<'a> TypedReader<'a> {
    fn new(known: &'a Known, wanted: Wanted<'a>, rows: Box<dyn RowsOf + 'a>) -> TypedReader<'a> {
        let places = projection(&wanted);
        let reader = |want: &Want| {
            let Want::Values { column, place } = *want else { return None };
            let missing = wanted.columns.states()[column].missing.clone();
            let by_text = ColumnReader::new(wanted.columns.reading(column, wanted.file), missing);
            let at = places.binary_search(&place).ok()?;
            Some((at, ArrayReader::new(known.naturals[place].clone(), by_text)))
        };
        let readers = wanted.wants.iter().map(reader).collect();
        TypedReader { known, wanted, rows, readers, pending: None }
    }

    fn fill(&mut self, rows: &Rows, batch: &mut Batch) {
        batch.rows = rows.batch.num_rows();
        let mut first: Option<(u32, usize, crate::text::columns::Trouble)> = None;
        let wants = self.wanted.wants.clone();
        for ((want, reader), out) in wants.iter().zip(&mut self.readers).zip(&mut batch.columns) {
            match (want, reader) {
                (Want::Values { column, .. }, Some((at, reader))) => {
                    if let Err((row, trouble)) = reader.read(rows.batch.column(*at), out)
                        && first.as_ref().is_none_or(|f| row < f.0)
                    {
                        first = Some((row, *column, trouble));
                    }
                }
                (Want::Number, _) => {
                    let numbers = (0..batch.rows as i64).map(|row| rows.first as i64 + row);
                    out.data = Data::I64(numbers.collect());
                }
                (Want::Group, _) if rows.group.is_some() => {
                    out.data = Data::I64(vec![rows.group.unwrap_or(0) as i64; batch.rows]);
                }
                // The stack fills it.
                _ => *out = Column { data: Data::I64(Vec::new()), ..std::mem::take(out) },
            }
        }
        if let Some((row, column, trouble)) = first {
            let line = rows.first + u64::from(row);
            let (file, piece) = (self.known.name.as_str(), rows.piece);
            let place = Place { file, line, in_rows: true, piece, column };
            self.pending = Some(told(trouble, place, &self.wanted, true));
            batch.keep_first(row as usize);
            self.rows.stop();
        }
    }
}

impl FileReader for TypedReader<'_> {
    fn next(&mut self, batch: &mut Batch) -> Result<bool, ReadError> {
        loop {
            if let Some(error) = self.pending.take() {
                return Err(error);
            }
            let Some(rows) = self.rows.next().inspect_err(|_| self.rows.stop())? else {
                return Ok(false);
            };
            self.fill(&rows, batch);
            if batch.rows > 0 {
                return Ok(true);
            }
        }
    }

    fn piece(&self) -> u64 {
        self.rows.piece()
    }

    fn account(&self) -> Account {
        Account { unseen: self.rows.unseen(), ..Account::default() }
    }
}

impl Drop for TypedReader<'_> {
    /// What was seen is told of the file.
    fn drop(&mut self) {
        let mut seen = self.known.seen.lock().unwrap_or_else(PoisonError::into_inner);
        for (want, reader) in self.wanted.wants.iter().zip(&self.readers) {
            if let (Want::Values { place, .. }, Some((_, reader))) = (want, reader) {
                seen[*place].add(reader.seen);
            }
        }
    }
}

/// A pass over a file of typed columns.
struct TypedPass<'a, F> {
    known: &'a Known,
    wanted: Wanted<'a>,
    /// Makes what gives a reader its rows.
    rows: F,
}

impl<'a, F> FilePass<'a> for TypedPass<'a, F>
where
    F: Fn() -> Box<dyn RowsOf + 'a> + Send + Sync,
{
    fn reader(&self) -> Box<dyn FileReader + 'a> {
        Box::new(TypedReader::new(self.known, self.wanted.clone(), (self.rows)()))
    }
}

/// Begins a pass: what the last one has seen is forgotten.
fn pass<'a, F>(
    known: &'a Known,
    wanted: Wanted<'a>,
    rows: F,
) -> Result<Box<dyn FilePass<'a> + 'a>, ReadError>
where
    F: Fn() -> Box<dyn RowsOf + 'a> + Send + Sync + 'a,
{
    known.ensure_fit(&wanted)?;
    known.seen.lock().unwrap_or_else(PoisonError::into_inner).fill(Seen::default());
    Ok(Box::new(TypedPass { known, wanted, rows }))
}
