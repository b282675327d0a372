//! Files of typed columns: Parquet, and Arrow IPC as file and as stream.
//!
//! They hold lines and the rest. Totals are left out: whoever reads the file would count them twice. Figures keep
//! their scale, dates are dates, periods their ISO text; a label that is missing is a null. Listings are written in
//! groups of rows as they come ([`Sink`]); their whole numbers have 64 bits, those of tables as many as they need.

use super::{FileType, Writer};
use crate::Settings;
use crate::document::Document;
use crate::layout::{Layout, Row, Slot};
use crate::style::Style;
use arrow_array::builder::{
    BooleanBuilder, Date32Builder, Decimal128Builder, Float64Builder, Int64Builder, StringBuilder,
    StringDictionaryBuilder, TimestampMicrosecondBuilder,
};
use arrow_array::types::Int32Type;
use arrow_array::{ArrayRef, RecordBatch};
use arrow_ipc::CompressionType;
use arrow_ipc::writer::{FileWriter, IpcWriteOptions, StreamWriter};
use arrow_schema::{DataType, Field, Schema, TimeUnit};
use oeuvre_columns::{Kind, Value};
use oeuvre_core::{Grid, LineKind, Plan};
use parquet::arrow::ArrowWriter;
use parquet::basic::{Compression, ZstdLevel};
use parquet::file::properties::WriterProperties;
use std::io::{self, Write};
use std::sync::{Arc, Mutex, PoisonError};

/// So many rows make a batch.
const ROWS: usize = 16 << 10;
/// So many rows make a group in Parquet.
const GROUP_ROWS: usize = 250_000;

/// What holds the columns.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Container {
    Parquet,
    ArrowFile,
    ArrowStream,
}

/// Files of typed columns.
pub(super) struct Columnar {
    file_type: FileType,
    container: Container,
}

/// Parquet, compressed with Zstandard.
pub(super) const PARQUET: Columnar = Columnar::of("parquet", &["parquet"], Container::Parquet);
/// Arrow IPC, as a file.
pub(super) const ARROW: Columnar = Columnar::of("arrow", &["arrow"], Container::ArrowFile);
/// Arrow IPC, as a stream.
pub(super) const ARROWS: Columnar = Columnar::of("arrows", &["arrows"], Container::ArrowStream);

impl Columnar {
    const fn of(
        name: &'static str,
        endings: &'static [&'static str],
        container: Container,
    ) -> Columnar {
        let of = FileType::of(name, endings);
        Columnar { file_type: FileType { is_binary: true, holds_several: false, ..of }, container }
    }
}

impl Writer for Columnar {
    fn file_type(&self) -> &FileType {
        &self.file_type
    }

    fn leaves_out(&self, grid: &Grid, style: &Style) -> Option<String> {
        let layout = Layout::new(grid, style);
        let left = layout.rows.iter().filter(|row| !is_held(&layout, *row)).count();
        let name = self.file_type.name;
        match left {
            0 => None,
            1 => Some(format!("1 total is not in the {name} file: read back it would count twice")),
            n => Some(format!(
                "{n} totals are not in the {name} file: read back they would count twice"
            )),
        }
    }

    fn write(
        &self,
        document: &Document<'_>,
        _: Settings<'_>,
        out: &mut dyn Write,
    ) -> io::Result<()> {
        for part in &document.parts {
            let layout = Layout::new(part.grid, part.style);
            let rows: Vec<Row> = layout.rows.iter().filter(|row| is_held(&layout, *row)).collect();
            let types = layout.slots.iter().map(|slot| data_type(&layout, *slot, &rows));
            let fields = types
                .enumerate()
                .map(|(at, data_type)| Field::new(layout.heading(at), data_type, true));
            let schema = Arc::new(Schema::new(fields.collect::<Vec<_>>()));
            let mut sink = Sink::new(self.container, schema.clone())?;
            for some in rows.chunks(ROWS) {
                sink.put(&batch(&layout, some, &schema)?, out)?;
            }
            sink.finish(out)?;
        }
        Ok(())
    }

    fn streams_rows(&self) -> bool {
        true
    }

    fn sink(&self, plan: &Plan) -> Option<io::Result<Sink>> {
        let fields = plan.results.iter().map(|result| {
            // What cannot be known before all rows are seen is as wide as it may be.
            let data_type = match result.built.kind {
                Kind::Number { scale: 0 } | Kind::RowNumber => DataType::Int64,
                Kind::Number { scale } => DataType::Decimal128(38, scale as i8),
                kind => of_kind(kind, false),
            };
            Field::new(&result.heading, data_type, true)
        });
        let schema = Arc::new(Schema::new(fields.collect::<Vec<_>>()));
        Some(Sink::new(self.container, schema))
    }
}

/// Whether a line is one that is held: no total, neither down nor across.
fn is_held(layout: &Layout<'_>, row: Row) -> bool {
    let grid = layout.grid;
    let is_line = matches!(grid.lines[row.line].kind, LineKind::Group | LineKind::Rest);
    let across = || {
        let position = &grid.positions[row.position];
        position.depth as usize == grid.across.len() || position.kind == LineKind::Rest
    };
    is_line && (!layout.is_long() || across())
}

/// The type of the values of a kind that is no exact number.
fn of_kind(kind: Kind, whole: bool) -> DataType {
    match kind {
        Kind::Float => DataType::Float64,
        Kind::Boolean => DataType::Boolean,
        Kind::Date => DataType::Date32,
        Kind::DateTime => DataType::Timestamp(TimeUnit::Microsecond, None),
        Kind::RowNumber | Kind::Number { .. } => DataType::Int64,
        _ if whole => DataType::Dictionary(Box::new(DataType::Int32), Box::new(DataType::Utf8)),
        _ => DataType::Utf8,
    }
}

/// The type of a column whose values are all there.
fn data_type(layout: &Layout<'_>, slot: Slot, rows: &[Row]) -> DataType {
    let Kind::Number { scale } = layout.kind(slot) else { return of_kind(layout.kind(slot), true) };
    let largest = rows.iter().map(|row| match layout.raw(*row, slot) {
        Value::Number(n) => n.rescale(scale).map_or(u128::MAX, |n| n.mantissa.unsigned_abs()),
        _ => 0,
    });
    let largest = largest.max().unwrap_or(0);
    match scale {
        0 if largest <= i64::MAX as u128 => DataType::Int64,
        // So many digits have 64 bits.
        _ if largest < 10u128.pow(18) => DataType::Decimal128(18.max(scale), scale as i8),
        _ => DataType::Decimal128(38, scale as i8),
    }
}

/// A value of a cell; missing where the line sums over the key, but for the word of the rest.
fn value(layout: &Layout<'_>, row: Row, slot: Slot) -> Value {
    match (slot, layout.kind(slot)) {
        (Slot::Result(_), _) => layout.raw(row, slot),
        (_, kind) => match layout.label(row, slot) {
            Some(label) => label,
            None if of_kind(kind, false) == DataType::Utf8 => layout.raw(row, slot),
            None => Value::Missing,
        },
    }
}

/// Some rows as a batch.
fn batch(layout: &Layout<'_>, rows: &[Row], schema: &Arc<Schema>) -> io::Result<RecordBatch> {
    let columns = layout.slots.iter().zip(schema.fields()).map(|(slot, field)| {
        let values = rows.iter().map(|row| value(layout, *row, *slot));
        array(field.data_type(), values).map_err(|why| {
            io::Error::other(format!("{} cannot be written as typed columns: {why}", field.name()))
        })
    });
    let columns = columns.collect::<io::Result<Vec<ArrayRef>>>()?;
    RecordBatch::try_new(schema.clone(), columns).map_err(io::Error::other)
}

/// Values as an array of a type.
fn array(data_type: &DataType, values: impl Iterator<Item = Value>) -> Result<ArrayRef, String> {
    macro_rules! built {
        ($builder:expr, $($value:pat => $put:expr),+) => {{
            let mut builder = $builder;
            for value in values {
                match value {
                    $($value => builder.append_value($put),)+
                    _ => builder.append_null(),
                }
            }
            Ok(Arc::new(builder.finish()))
        }};
    }
    match data_type {
        DataType::Int64 => {
            let mut builder = Int64Builder::new();
            for value in values {
                match value {
                    Value::Number(n) => builder.append_value(whole(n)?),
                    Value::Missing => builder.append_null(),
                    other => builder.append_option(other.to_string().parse().ok()),
                }
            }
            Ok(Arc::new(builder.finish()))
        }
        DataType::Decimal128(precision, scale) => {
            let mut builder = Decimal128Builder::new()
                .with_precision_and_scale(*precision, *scale)
                .map_err(|e| e.to_string())?;
            for value in values {
                match value {
                    Value::Number(n) => {
                        let n =
                            n.rescale(*scale as u8).ok_or("a number has more than 38 digits")?;
                        builder.append_value(n.mantissa);
                    }
                    _ => builder.append_null(),
                }
            }
            Ok(Arc::new(builder.finish()))
        }
        DataType::Float64 => built!(Float64Builder::new(), Value::Float(f) => f),
        DataType::Boolean => built!(BooleanBuilder::new(), Value::Boolean(b) => b),
        DataType::Date32 => built!(Date32Builder::new(), Value::Date(d) => d),
        DataType::Timestamp(..) => {
            built!(TimestampMicrosecondBuilder::new(), Value::DateTime(t) => t)
        }
        DataType::Dictionary(..) => {
            let mut builder = StringDictionaryBuilder::<Int32Type>::new();
            for value in values {
                match value {
                    Value::Missing => builder.append_null(),
                    Value::Text(text) => builder.append_value(&*text),
                    other => builder.append_value(other.to_string()),
                }
            }
            Ok(Arc::new(builder.finish()))
        }
        _ => {
            let mut builder = StringBuilder::new();
            for value in values {
                match value {
                    Value::Missing => builder.append_null(),
                    Value::Text(text) => builder.append_value(&*text),
                    other => builder.append_value(other.to_string()),
                }
            }
            Ok(Arc::new(builder.finish()))
        }
    }
}

/// A whole number in 64 bits.
fn whole(n: oeuvre_columns::Decimal) -> Result<i64, String> {
    let whole = n.rescale(0).and_then(|n| i64::try_from(n.mantissa).ok());
    whole.ok_or_else(|| format!("{n} needs more than 64 bits; --as csv holds it"))
}

/// Takes batches of rows, and writes them in groups as they fill.
pub struct Sink {
    schema: Arc<Schema>,
    pipe: Pipe,
    into: Into,
}

enum Into {
    Parquet(Box<ArrowWriter<Pipe>>),
    File(Box<FileWriter<Pipe>>),
    Stream(Box<StreamWriter<Pipe>>),
}

/// What has been written and not yet given on.
#[derive(Clone, Default)]
struct Pipe(Arc<Mutex<Vec<u8>>>);

impl Write for Pipe {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).extend_from_slice(bytes);
        Ok(bytes.len())
    }
    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl Sink {
    fn new(container: Container, schema: Arc<Schema>) -> io::Result<Sink> {
        let pipe = Pipe::default();
        let options =
            || IpcWriteOptions::default().try_with_compression(Some(CompressionType::ZSTD));
        let into = match container {
            Container::Parquet => {
                let level = ZstdLevel::try_new(3).map_err(io::Error::other)?;
                let properties = WriterProperties::builder()
                    .set_compression(Compression::ZSTD(level))
                    .set_max_row_group_row_count(Some(GROUP_ROWS))
                    .set_created_by(concat!("oeuvre ", env!("CARGO_PKG_VERSION")).to_owned())
                    .build();
                let writer = ArrowWriter::try_new(pipe.clone(), schema.clone(), Some(properties));
                Into::Parquet(Box::new(writer.map_err(io::Error::other)?))
            }
            Container::ArrowFile => {
                let options = options().map_err(io::Error::other)?;
                let writer = FileWriter::try_new_with_options(pipe.clone(), &schema, options);
                Into::File(Box::new(writer.map_err(io::Error::other)?))
            }
            Container::ArrowStream => {
                let options = options().map_err(io::Error::other)?;
                let writer = StreamWriter::try_new_with_options(pipe.clone(), &schema, options);
                Into::Stream(Box::new(writer.map_err(io::Error::other)?))
            }
        };
        Ok(Sink { schema, pipe, into })
    }

    /// What makes rows to what [`Sink::take`] takes.
    pub fn maker(&self) -> Maker {
        Maker(self.schema.clone())
    }

    /// Takes rows, and writes what is full.
    ///
    /// # Errors
    /// What cannot be written.
    pub fn take(&mut self, made: &Made, out: &mut dyn Write) -> io::Result<()> {
        self.put(&made.0, out)
    }

    fn put(&mut self, batch: &RecordBatch, out: &mut dyn Write) -> io::Result<()> {
        match &mut self.into {
            Into::Parquet(writer) => writer.write(batch).map_err(io::Error::other)?,
            Into::File(writer) => writer.write(batch).map_err(io::Error::other)?,
            Into::Stream(writer) => writer.write(batch).map_err(io::Error::other)?,
        }
        self.drain(out)
    }

    /// Writes the end.
    ///
    /// # Errors
    /// What cannot be written.
    pub fn finish(mut self, out: &mut dyn Write) -> io::Result<()> {
        match &mut self.into {
            Into::Parquet(writer) => {
                writer.finish().map_err(io::Error::other)?;
            }
            Into::File(writer) => writer.finish().map_err(io::Error::other)?,
            Into::Stream(writer) => writer.finish().map_err(io::Error::other)?,
        }
        self.drain(out)
    }

    fn drain(&mut self, out: &mut dyn Write) -> io::Result<()> {
        let mut written = self.pipe.0.lock().unwrap_or_else(PoisonError::into_inner);
        out.write_all(&written)?;
        written.clear();
        Ok(())
    }
}

/// Makes rows of a listing to what a [`Sink`] takes; several threads may do so at once.
pub struct Maker(Arc<Schema>);

impl Maker {
    /// Makes the rows of a part.
    ///
    /// # Errors
    /// A number that has no room.
    pub fn made(&self, grid: &Grid, style: &Style) -> io::Result<Made> {
        let layout = Layout::new(grid, style);
        batch(&layout, &layout.rows.iter().collect::<Vec<_>>(), &self.0).map(Made)
    }
}

/// Rows of a listing on their way to a file.
pub struct Made(RecordBatch);
