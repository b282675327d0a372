//! Files of records with separators: CSV and TSV as RFC 4180 has them, and their relatives.

mod columns;
mod fast;
mod headings;
pub(crate) mod marks;
mod reader;
mod records;
pub(crate) mod values;

use crate::bytes::{Opened, open};
use crate::input::Input;
use crate::options::{DateOrder, Forced, ReadOptions, Uneven};
use columns::{ColumnReader, orders_of};
use marks::{Dialect, Marks};
use oeuvre_columns::column::{Batch, Column, Data};
use oeuvre_columns::names::nearest;
use oeuvre_columns::value::calendar;
use oeuvre_columns::{ColumnInfo, DataProblem, Kind, ReadError, Reader, Size, Source};
use reader::{Pass, PieceReader};
use records::Records;
use std::sync::{Arc, Mutex, PoisonError};
use values::Shape;

/// How much of the first file is looked at to guess kinds. A wrong guess costs time, never a result.
const SAMPLE_BYTES: usize = 256 << 10;

/// One file.
struct FileData {
    name: String,
    opened: Opened,
    dialect: Dialect,
    /// Where the first record behind the headings starts.
    body: usize,
    /// For each column of the source, its place in this file's records.
    order: Vec<usize>,
    /// Fields in a record.
    width: usize,
}

/// A column of the source.
#[derive(Clone)]
struct ColumnState {
    name: String,
    shape: Shape,
    forced: Option<Forced>,
    /// Texts that stand for no value; most columns share them.
    missing: Arc<Vec<String>>,
    /// Why the column is not what its first values looked like.
    reason: Option<DataProblem>,
    /// The decimal sign.
    decimal: char,
    /// The value that shows that it is not that of the file.
    other_sign: Option<DataProblem>,
    /// Two readings of a date, as long as both are possible.
    ambiguous: Option<String>,
}

/// Rows from one or several files with the same columns.
pub(crate) struct CsvSource {
    files: Vec<FileData>,
    columns: Vec<ColumnState>,
    options: ReadOptions,
    /// With several files the name of each row's file is a last column.
    names_files: bool,
    /// What the last pass has found out.
    learnt: Mutex<Option<Learnt>>,
}

/// What a pass has found out of a column, in the first piece that showed it.
struct Learnt {
    piece: u64,
    column: usize,
    what: Finding,
}

/// What may be found out.
#[derive(Clone)]
enum Finding {
    /// Its values have another shape.
    Shape(Shape, DataProblem),
    /// Its decimal sign is the one that is not the file's.
    OtherSign(DataProblem),
}

/// The column that names the file of each row.
const SOURCE_FILE: &str = "source_file";

impl CsvSource {
    /// Opens files with the same columns, in the order in which their rows are to be stacked. `-` is
    /// standard input.
    ///
    /// # Errors
    /// What is wrong with a file or its headings.
    pub(crate) fn open(names: &[String], options: ReadOptions) -> Result<CsvSource, ReadError> {
        let mut files = Vec::new();
        let mut columns: Vec<ColumnState> = Vec::new();
        for name in names {
            let opened = open(name, options.encoding.as_deref())?;
            let head = headings::read(name, &opened.bytes, &options)?;
            if files.is_empty() {
                columns = head.names.iter().map(|n| ColumnState::new(n)).collect();
            }
            let order = if files.is_empty() {
                (0..head.names.len()).collect()
            } else {
                order_of(name, &columns, &head.names, names)?
            };
            files.push(FileData {
                name: name.clone(),
                opened,
                dialect: head.dialect,
                body: head.body,
                order,
                width: head.names.len(),
            });
        }
        settle_missing(&mut columns, &options)?;
        columns.iter_mut().for_each(|c| c.decimal = options.decimal);
        for (name, forced) in &options.kinds {
            let example = "name a heading of the file, such as in --kind 'fare=number'";
            let at = column_named(&columns, name, "--kind", example)?;
            let column = &mut columns[at];
            column.forced = Some(*forced);
            column.shape = match forced {
                Forced::Number => Shape::Number(0),
                Forced::Text => Shape::Text,
                Forced::Boolean => Shape::Boolean,
                Forced::Date => Shape::Date(orders_of(options.dates)),
                Forced::DateTime => Shape::DateTime,
            };
        }
        let names_files = files.len() > 1 && columns.iter().all(|c| c.name != SOURCE_FILE);
        let learnt = Mutex::default();
        let mut source = CsvSource { files, columns, options, names_files, learnt };
        source.sample();
        Ok(source)
    }

    /// Takes down what a reader has found out; what stands first in the rows counts.
    fn note(&self, piece: u64, column: usize, what: Finding) {
        let mut learnt = self.learnt.lock().unwrap_or_else(PoisonError::into_inner);
        if learnt.as_ref().is_none_or(|known| piece < known.piece) {
            *learnt = Some(Learnt { piece, column, what });
        }
    }

    /// Sets a column's shape.
    fn widen(&mut self, column: usize, shape: Shape, reason: DataProblem) {
        let state = &mut self.columns[column];
        state.shape = shape;
        let iso = |text: &str| calendar::parse_date(text.trim()).is_some();
        let text = reason.message.trim_matches('\'').to_owned();
        if matches!(shape, Shape::Date(_)) && !iso(&text) {
            state.ambiguous.get_or_insert(text);
        }
        state.reason = Some(reason);
    }

    /// After a pass: dates of the columns read that still can be read two ways.
    ///
    /// # Errors
    /// The first such column, with the two readings.
    fn ensure_unambiguous(&self, read: &[usize]) -> Result<(), ReadError> {
        for column in read.iter().filter_map(|&c| self.columns.get(c)) {
            if let (Shape::Date(orders), Some(example)) = (column.shape, &column.ambiguous)
                && orders.is_open()
            {
                return Err(self.ambiguous(column, example));
            }
        }
        Ok(())
    }

    fn ambiguous(&self, column: &ColumnState, example: &str) -> ReadError {
        let readings = values::parse_any_date(example).map(|(_, days)| {
            let day =
                |o: DateOrder| days[o as usize].map(oeuvre_columns::value::calendar::date_text);
            (day(DateOrder::Dmy).unwrap_or_default(), day(DateOrder::Mdy).unwrap_or_default())
        });
        let (dmy, mdy) = readings.unwrap_or_default();
        DataProblem::in_file(
            self.files[0].name.clone(),
            format!("every date here can be read two ways: '{example}' is {dmy} or {mdy}"),
        )
        .in_column(column.name.clone())
        .help("say which with --dates dmy (day first) or --dates mdy (month first)")
        .into()
    }

    /// Guesses the columns' shapes from the first records.
    fn sample(&mut self) {
        let Some(file) = self.files.first() else { return };
        let data = &file.opened.bytes[file.body..];
        let data = &data[..data.len().min(u32::MAX as usize - 1)];
        let mut marks = Marks::default();
        // Problems are told by the pass over the rows, in their order.
        let found = marks::scan(data, SAMPLE_BYTES.min(data.len()), file.dialect, &mut marks);
        let ends = if let marks::Found::Records { ends, .. } = found { Some(ends) } else { None };
        let piece = reader::regular(data, &mut marks, ends, file.width, Uneven::LeaveOut);
        let records = Records {
            data,
            quote: file.dialect.quote,
            marks: &marks,
            width: file.width,
            starts: &piece.starts,
        };
        let orders = orders_of(self.options.dates);
        for (index, column) in self.columns.iter_mut().enumerate() {
            if matches!(column.forced, Some(f) if f != Forced::Number) {
                continue;
            }
            let mut shape = column.shape;
            let first_shape = shape;
            let mut again = true;
            while again {
                again = false;
                let mut row = 0;
                while row < records.rows() {
                    row += 1;
                    let row = row - 1;
                    let (start, len) = records.field(file.order[index], row);
                    if len == 0 || shape == Shape::Text {
                        continue;
                    }
                    let bytes = records.text(start, len);
                    let text = String::from_utf8_lossy(&bytes);
                    let trimmed = text.trim();
                    if trimmed.is_empty() || column.missing.iter().any(|m| m == trimmed) {
                        continue;
                    }
                    let found = values::shape_of(&text, column.decimal, orders);
                    let numeric = matches!(shape, Shape::Unknown | Shape::Number(_) | Shape::Float);
                    if numeric
                        && column.other_sign.is_none()
                        && values::is_of_other_sign(&text, column.decimal)
                    {
                        let line = reader::line_of(&file.opened.bytes, file.body + start);
                        let it = DataProblem::in_file(file.name.clone(), format!("'{trimmed}'"));
                        column.turn_sign(Some(it.at_line(line)));
                        shape = first_shape;
                        again = true;
                        break;
                    }
                    if column.forced.is_some() && !matches!(found, Shape::Number(_) | Shape::Float)
                    {
                        continue;
                    }
                    if let Shape::Date(o) = found
                        && o.is_open()
                        && o != values::Orders::ALL
                    {
                        // ISO dates leave all three orders open, and harm nobody.
                        column.ambiguous.get_or_insert_with(|| trimmed.to_owned());
                    }
                    shape = shape.join(found);
                }
            }
            column.shape = shape;
        }
    }

    fn read_once(&self) -> Result<Vec<Column>, ReadError> {
        let infos = Source::columns(self);
        let wanted: Vec<usize> = (0..infos.len()).collect();
        let mut out: Vec<Column> =
            infos.iter().map(|c| Column::from(Data::empty(c.kind))).collect();
        let mut batch = Batch::default();
        for mut reader in self.scan(&wanted, 1)? {
            while reader.next(&mut batch)? {
                for ((to, from), info) in out.iter_mut().zip(&batch.columns).zip(&infos) {
                    for row in 0..batch.rows {
                        to.push(info.kind, &from.value(info.kind, row));
                    }
                }
            }
        }
        Ok(out)
    }

    /// The line of each record.
    fn record_lines(&self) -> Vec<u64> {
        let mut lines = Vec::new();
        for file in &self.files {
            let data = &file.opened.bytes[file.body..];
            let data = &data[..data.len().min(u32::MAX as usize - 64)];
            let mut marks = Marks::default();
            marks::scan(data, data.len(), file.dialect, &mut marks);
            let piece = reader::regular(data, &mut marks, None, file.width, self.options.uneven);
            let (mut line, mut at) = (reader::line_of(&file.opened.bytes, file.body), 0);
            for start in piece.starts {
                let breaks = data[at..start as usize].iter().filter(|&&b| b == b'\n').count();
                line += breaks as u64;
                at = start as usize;
                lines.push(line);
            }
        }
        lines
    }

    fn column_reader(&self, column: usize) -> ColumnReader {
        let state = &self.columns[column];
        ColumnReader {
            shape: state.shape,
            forced: state.forced,
            decimal: state.decimal,
            other_sign: state.other_sign.is_some(),
            orders: orders_of(self.options.dates),
            missing: state.missing.clone(),
            missing_counts: vec![0; state.missing.len()],
            slow: Vec::new(),
        }
    }
}

impl ColumnState {
    /// Takes the other decimal sign for the column's, and starts to look at its values anew.
    fn turn_sign(&mut self, shown_by: Option<DataProblem>) {
        self.decimal = values::other_sign(self.decimal);
        self.other_sign = Some(shown_by.unwrap_or_default());
        if self.forced.is_none() {
            self.shape = Shape::Unknown;
        } else {
            self.shape = Shape::Number(0);
        }
    }

    /// What readers should be told of how the column was read.
    fn remark(&self) -> Option<String> {
        if let (Some(by), Shape::Number(_) | Shape::Float) = (&self.other_sign, self.shape) {
            return Some(format!(
                "{} is read with `{}` as its decimal sign, since {} on line {} can have no thousands; if it is text: --kind '{}=text'",
                self.name,
                self.decimal,
                by.message,
                by.line.unwrap_or(0),
                self.name
            ));
        }
        let reason = self.reason.as_ref()?;
        let text = reason.message.trim_matches('\'');
        let digits = self.shape == Shape::Float && !text.contains(['e', 'E']);
        digits.then(|| {
            format!(
                "{} is calculated in binary64, with 15 to 17 digits: {text} on line {} and others together need more than 38",
                self.name,
                reason.line.unwrap_or(0)
            )
        })
    }

    fn new(name: &str) -> ColumnState {
        ColumnState {
            name: name.to_owned(),
            shape: Shape::Unknown,
            forced: None,
            missing: Arc::default(),
            decimal: '.',
            other_sign: None,
            reason: None,
            ambiguous: None,
        }
    }
}

/// The place of a column that an option names.
fn column_named(
    columns: &[ColumnState],
    name: &str,
    option: &str,
    example: &str,
) -> Result<usize, ReadError> {
    columns.iter().position(|c| c.name == name).ok_or_else(|| {
        let near = nearest(name, columns.iter().map(|c| c.name.as_str()));
        let help = match near.first() {
            Some(near) => format!("did you mean `{near}`?"),
            None => example.to_owned(),
        };
        DataProblem::new(format!("{option}: there is no column `{name}`")).help(help).into()
    })
}

/// The texts that stand for no value, column by column.
fn settle_missing(columns: &mut [ColumnState], options: &ReadOptions) -> Result<(), ReadError> {
    let mut seen = std::collections::HashSet::new();
    let shared: Vec<String> =
        options.missing.iter().filter(|m| seen.insert(m.as_str())).cloned().collect();
    let shared = Arc::new(shared);
    for column in columns.iter_mut() {
        column.missing = shared.clone();
    }
    let example = "a text with = in it stands in single quotes inside";
    for (name, text) in &options.missing_of {
        let at = column_named(columns, name, "--missing", example)?;
        let missing = Arc::make_mut(&mut columns[at].missing);
        if !missing.contains(text) {
            missing.push(text.clone());
        }
    }
    for (name, text) in &options.not_missing_of {
        let at = column_named(columns, name, "--not-missing", example)?;
        Arc::make_mut(&mut columns[at].missing).retain(|m| m != text);
    }
    Ok(())
}

/// The kind that the core sees.
fn kind_of(shape: Shape) -> Kind {
    match shape {
        Shape::Unknown => Kind::Nothing,
        Shape::Number(scale) => Kind::Number { scale },
        Shape::Float => Kind::Float,
        Shape::Boolean => Kind::Boolean,
        Shape::Date(_) => Kind::Date,
        Shape::DateTime => Kind::DateTime,
        Shape::Text => Kind::Text,
    }
}

/// Where the source's columns stand in another file.
fn order_of(
    name: &str,
    columns: &[ColumnState],
    headings: &[String],
    names: &[String],
) -> Result<Vec<usize>, ReadError> {
    if let Some(extra) = headings.iter().find(|h| columns.iter().all(|c| c.name != **h)) {
        let message = format!("the column `{extra}` is not in {}", names[0]);
        return Err(DataProblem::in_file(name, message)
            .help("files that are stacked have the same headings, in any order")
            .into());
    }
    columns
        .iter()
        .map(|c| {
            headings.iter().position(|h| *h == c.name).ok_or_else(|| {
                let message = format!("the column `{}` of {} is missing here", c.name, names[0]);
                DataProblem::in_file(name, message)
                    .help("files that are stacked have the same headings, in any order")
                    .into()
            })
        })
        .collect()
}

impl Source for CsvSource {
    fn columns(&self) -> Vec<ColumnInfo> {
        let mut columns: Vec<ColumnInfo> = self
            .columns
            .iter()
            .map(|c| ColumnInfo {
                name: c.name.clone(),
                kind: kind_of(c.shape),
                note: c.reason.as_ref().map(|r| {
                    let (file, line) =
                        (r.file.as_deref().unwrap_or("the file"), r.line.unwrap_or(0));
                    format!("{file}, line {line}: {}", r.message)
                }),
            })
            .collect();
        if self.names_files {
            columns.push(ColumnInfo { name: SOURCE_FILE.into(), kind: Kind::Text, note: None });
        }
        columns
    }

    fn size(&self) -> Size {
        let bytes = self.files.iter().map(|f| (f.opened.bytes.len() - f.body) as u64);
        Size { rows: None, bytes: Some(bytes.sum()) }
    }

    fn ensure_unchanged(&self) -> Result<(), ReadError> {
        self.files.iter().try_for_each(|f| f.opened.ensure_unchanged())
    }

    fn ensure_sound(&self, columns: &[usize]) -> Result<(), ReadError> {
        self.ensure_unambiguous(columns)
    }

    fn remarks(&self, columns: &[usize]) -> Vec<String> {
        let used = columns.iter().filter_map(|&c| self.columns.get(c));
        used.filter_map(|c| c.remark()).collect()
    }

    fn location_columns(&self) -> Option<[usize; 2]> {
        Some([self.columns.len(), self.columns.len() + 1])
    }

    fn scan<'a>(
        &'a self,
        columns: &[usize],
        readers: usize,
    ) -> Result<Vec<Box<dyn Reader + 'a>>, ReadError> {
        *self.learnt.lock().unwrap_or_else(PoisonError::into_inner) = None;
        let pass = Arc::new(Pass::new(&self.files, self.options.piece_bytes));
        // More readers than pieces would only be started to stop.
        let readers = readers.min(pass.pieces()).max(1);
        pass.set_readers(readers);
        Ok((0..readers)
            .map(|_| -> Box<dyn Reader + 'a> {
                Box::new(PieceReader::new(self, pass.clone(), columns))
            })
            .collect())
    }
}

impl Input for CsvSource {
    fn learn(&mut self) {
        let learnt = self.learnt.get_mut().unwrap_or_else(PoisonError::into_inner).take();
        match learnt {
            Some(Learnt { column, what: Finding::Shape(shape, reason), .. }) => {
                self.widen(column, shape, reason);
            }
            Some(Learnt { column, what: Finding::OtherSign(reason), .. }) => {
                self.columns[column].turn_sign(Some(reason));
            }
            None => {}
        }
    }

    fn looks_like(&self, text: &str) -> &'static str {
        if let Some(values::Parsed::Code(_)) = values::parse_number(text, self.options.decimal) {
            return "code";
        }
        match values::shape_of(text, self.options.decimal, orders_of(self.options.dates)) {
            Shape::Number(_) | Shape::Float => "number",
            Shape::Boolean => "boolean",
            Shape::Date(_) => "date",
            Shape::DateTime => "datetime",
            Shape::Text | Shape::Unknown => "text",
        }
    }

    fn warnings(&self) -> Vec<(String, String)> {
        let open = |c: &&ColumnState| matches!(c.shape, Shape::Date(o) if o.is_open());
        self.columns
            .iter()
            .filter(open)
            .filter_map(|c| {
                let example = c.ambiguous.as_ref()?;
                let text = format!(
                    "dates such as '{example}' can be read two ways: --dates dmy or --dates mdy"
                );
                Some((c.name.clone(), text))
            })
            .chain(self.columns.iter().filter_map(|c| Some((c.name.clone(), c.remark()?))))
            .collect()
    }

    fn rows_whole(&self) -> Result<(Vec<Column>, Vec<u64>), ReadError> {
        let data = self.read_once()?;
        self.ensure_unambiguous(&(0..self.columns.len()).collect::<Vec<_>>())?;
        Ok((data, self.record_lines()))
    }
}
