//! Parquet files: groups of rows, claimed by readers one after the other.
//!
//! Texts are asked for as dictionaries, so that a column of categories costs what it has labels. Times of 96 bits,
//! as old writers made them, are asked for in microseconds: in nanoseconds they would end in the year 2262.

use super::statistics::wanted_groups;
use super::{Known, Rows, RowsOf, Shared, damaged, pass, projection};
use crate::bytes::Opened;
use crate::fence::fenced;
use crate::file_rows::{Counted, FilePass, FileRows, Wanted};
use crate::kinds::Columns;
use crate::options::ReadOptions;
use arrow_array::{RecordBatch, RecordBatchOptions};
use arrow_schema::{DataType, Field, Schema, TimeUnit};
use bytes::Bytes;
use oeuvre_columns::{Note, ReadError};
use parquet::arrow::ProjectionMask;
use parquet::arrow::arrow_reader::{
    ArrowReaderMetadata, ArrowReaderOptions, ParquetRecordBatchReader,
    ParquetRecordBatchReaderBuilder,
};
use parquet::basic::Type;
use parquet::errors::ParquetError;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};

/// So many rows are read at a time.
const ROWS: usize = 16 << 10;
/// More rows than this has no group: what is counted without being read would be counted without end.
const MOST_ROWS: u64 = 1 << 40;
/// A piece's number is that of its group, with so many bits below it for the batches of the group.
const BATCH_BITS: u32 = 20;

/// Whether a file begins as a Parquet file does.
pub(crate) fn is_parquet(head: &[u8]) -> bool {
    head.starts_with(b"PAR1")
}

/// One file.
pub(crate) struct ParquetFile {
    known: Known,
    pub(super) metadata: ArrowReaderMetadata,
    /// For each group of rows how many stand before it.
    before: Vec<u64>,
}

impl ParquetFile {
    /// A file, from its bytes.
    ///
    /// # Errors
    /// What is wrong with its description at the end.
    pub(crate) fn new(name: &str, opened: Opened) -> Result<ParquetFile, ReadError> {
        let file = Shared(Arc::new(opened));
        let bytes = Bytes::from_owner(file.clone());
        let read = fenced(|| {
            let options = ArrowReaderOptions::new();
            let found = ArrowReaderMetadata::load(&bytes, options.clone())?;
            let wanted = Arc::new(wanted_types(&found));
            match wanted == *found.schema() {
                true => Ok::<_, ParquetError>(found),
                // Where that cannot be had, as it is.
                false => ArrowReaderMetadata::try_new(
                    found.metadata().clone(),
                    options.with_schema(wanted),
                )
                .or(Ok(found)),
            }
        });
        let metadata = read.map_err(|e| damaged(name, "Parquet file", e))?;
        let mut rows = 0u64;
        let mut before = Vec::new();
        for group in metadata.metadata().row_groups() {
            before.push(rows);
            let of_group = u64::try_from(group.num_rows()).ok().filter(|n| *n <= MOST_ROWS);
            let said = || format!("a group is said to have {} rows", group.num_rows());
            rows += of_group.ok_or_else(|| damaged(name, "Parquet file", said()))?;
        }
        let known = Known::new(name, file, metadata.schema())?;
        Ok(ParquetFile { known, metadata, before })
    }
}

/// The types in which columns are asked for.
fn wanted_types(found: &ArrowReaderMetadata) -> Schema {
    let parquet = found.metadata().file_metadata().schema_descr();
    let roots: Vec<Option<Type>> = parquet
        .root_schema()
        .get_fields()
        .iter()
        .map(|field| field.is_primitive().then(|| field.get_physical_type()))
        .collect();
    let fields = found.schema().fields().iter().enumerate().map(|(at, field)| {
        let physical = roots.get(at).copied().flatten();
        let wanted = match (field.data_type(), physical) {
            (DataType::Timestamp(TimeUnit::Nanosecond, zone), Some(Type::INT96)) => {
                DataType::Timestamp(TimeUnit::Microsecond, zone.clone())
            }
            // Half the bytes, and mostly all there is.
            (DataType::Decimal128(precision @ 1..=18, scale), Some(_)) => {
                DataType::Decimal64(*precision, *scale)
            }
            (DataType::Utf8 | DataType::LargeUtf8 | DataType::Utf8View, Some(_)) => {
                DataType::Dictionary(Box::new(DataType::Int32), Box::new(DataType::Utf8))
            }
            (other, _) => other.clone(),
        };
        Arc::new(Field::new(field.name(), wanted, field.is_nullable()))
    });
    Schema::new(fields.collect::<Vec<_>>())
}

/// What readers of one pass share.
struct Groups<'a> {
    file: &'a ParquetFile,
    /// The places of the wanted columns in the file.
    places: Vec<usize>,
    /// For each group of rows whether any row of it can be wanted.
    wanted: Vec<bool>,
    next: AtomicUsize,
    stop: AtomicBool,
}

/// A reader's group of rows.
struct Claims<'a> {
    groups: Arc<Groups<'a>>,
    group: usize,
    reader: Option<Reader>,
    /// The batches and the rows of the group that were given.
    batches: u64,
    given: u64,
    unseen: u64,
}

/// Where the batches of a group come from.
enum Reader {
    Columns(Box<ParquetRecordBatchReader>),
    /// No column is wanted: so many rows are left.
    Count(usize),
}

impl Claims<'_> {
    fn begin(&self) -> Result<Reader, ParquetError> {
        let (groups, file) = (&self.groups, self.groups.file);
        let of_group = file.metadata.metadata().row_group(self.group);
        if groups.places.is_empty() {
            return Ok(Reader::Count(of_group.num_rows() as usize));
        }
        let parquet = file.metadata.metadata().file_metadata().schema_descr();
        let mask = ProjectionMask::roots(parquet, groups.places.iter().copied());
        let bytes = Bytes::from_owner(file.known.file.clone());
        let reader =
            ParquetRecordBatchReaderBuilder::new_with_metadata(bytes, file.metadata.clone())
                .with_row_groups(vec![self.group])
                .with_projection(mask)
                .with_batch_size(ROWS)
                .build()?;
        Ok(Reader::Columns(Box::new(reader)))
    }

    /// The next rows of the group; `None` at its end.
    fn of_group(&mut self) -> Result<Option<RecordBatch>, String> {
        if self.reader.is_none() {
            self.reader = Some(fenced(|| self.begin())?);
        }
        match &mut self.reader {
            Some(Reader::Columns(reader)) => fenced(|| reader.next().transpose()),
            Some(Reader::Count(left)) => {
                let rows = (*left).min(ROWS);
                *left -= rows;
                let options = RecordBatchOptions::new().with_row_count(Some(rows));
                let schema = Arc::new(Schema::empty());
                let batch = RecordBatch::try_new_with_options(schema, Vec::new(), &options);
                Ok(batch.ok().filter(|_| rows > 0))
            }
            None => Ok(None),
        }
    }
}

impl RowsOf for Claims<'_> {
    fn next(&mut self) -> Result<Option<Rows>, ReadError> {
        loop {
            if self.reader.is_none() {
                if self.groups.stop.load(Ordering::Acquire) {
                    return Ok(None);
                }
                self.group = self.groups.next.fetch_add(1, Ordering::Relaxed);
                let Some(&wanted) = self.groups.wanted.get(self.group) else { return Ok(None) };
                (self.batches, self.given) = (0, 0);
                if !wanted {
                    let of_group = self.groups.file.metadata.metadata().row_group(self.group);
                    self.unseen += of_group.num_rows() as u64;
                    continue;
                }
            }
            let read = self.of_group().map_err(|error| {
                let row = self.groups.file.before[self.group] + self.given;
                let at = format!("{error} (in row group {}, behind row {row})", self.group + 1);
                self.groups.file.known.damaged("Parquet file", at)
            });
            let Some(batch) = read? else {
                self.reader = None;
                continue;
            };
            let first = self.groups.file.before[self.group] + self.given + 1;
            self.batches += 1;
            self.given += batch.num_rows() as u64;
            let group = Some(self.group as u64 + 1);
            return Ok(Some(Rows { piece: self.piece(), batch, first, group }));
        }
    }

    fn piece(&self) -> u64 {
        (self.group as u64) << BATCH_BITS | self.batches
    }

    fn unseen(&self) -> u64 {
        self.unseen
    }

    fn stop(&self) {
        self.groups.stop.store(true, Ordering::Release);
    }
}

impl FileRows for ParquetFile {
    fn headings(&self) -> &[String] {
        &self.known.headings
    }

    fn counted(&self) -> Counted {
        Counted::RowsOfGroups
    }

    fn look(&self, _: usize, order: &[Option<usize>], columns: &mut Columns) {
        self.known.look(order, columns);
    }

    fn scan<'a>(&'a self, wanted: Wanted<'a>) -> Result<Box<dyn FilePass<'a> + 'a>, ReadError> {
        let groups = Arc::new(Groups {
            file: self,
            places: projection(&wanted),
            wanted: wanted_groups(&self.metadata, &self.known.naturals, &wanted),
            next: AtomicUsize::new(0),
            stop: AtomicBool::new(false),
        });
        pass(&self.known, wanted, move || {
            let groups = groups.clone();
            Box::new(Claims { groups, group: 0, reader: None, batches: 0, given: 0, unseen: 0 })
        })
    }

    fn pieces(&self, _: usize) -> usize {
        self.before.len()
    }

    fn bytes(&self) -> u64 {
        self.known.file.as_ref().len() as u64
    }

    fn contents(&self) -> &[u8] {
        self.known.file.as_ref()
    }

    fn ensure_unchanged(&self) -> Result<(), ReadError> {
        self.known.file.0.ensure_unchanged()
    }

    fn notes(&self, options: &ReadOptions) -> Vec<Note> {
        self.known.notes(&options.zone.name)
    }
}
