//! Files of records with separators: CSV and TSV as RFC 4180 has them, and their relatives.

mod columns;
mod fast;
mod headings;
pub(crate) mod marks;
mod reader;
mod records;
pub(crate) mod values;

use crate::input::{Opened, open};
use columns::{ColumnReader, orders_of};
use marks::{Dialect, Marks};
use oeuvre_core::rows::column::{Batch, Column, Data};
use oeuvre_core::value::calendar;
use oeuvre_core::{
    ColumnInfo, ColumnShape, DataProblem, Error, Kind, Reader, Source, Table, nearest,
};
use reader::{Pass, PieceReader};
use records::Records;
use std::sync::Arc;
pub use values::{DEFAULT_MISSING, DateOrder, Forced, Shape};

/// What to do with records that have too few or too many fields.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Uneven {
    /// Stop with an error that names the line.
    #[default]
    Stop,
    /// Fill short records with missing values; long ones are errors.
    Blank,
    /// Leave such records out and count them.
    LeaveOut,
}

/// How to read.
#[derive(Clone, Debug)]
pub struct CsvOptions {
    /// Between fields; found out from the first records when not given.
    pub separator: Option<u8>,
    /// Around fields; `None` when quotes are ordinary characters.
    pub quote: Option<u8>,
    /// Records of another length.
    pub uneven: Uneven,
    /// The encoding's name as in the WHATWG Encoding Standard; UTF-8, or UTF-16 by its byte-order
    /// mark, when not given.
    pub encoding: Option<String>,
    /// Headings to use instead of the first line's.
    pub headings: Option<Vec<String>>,
    /// Whether the first line holds headings.
    pub first_line_is_headings: bool,
    /// Kinds that were asked for, by heading.
    pub kinds: Vec<(String, Forced)>,
    /// Texts that stand for no value, beside the blank field.
    pub missing: Vec<String>,
    /// Such texts of single columns: heading and text.
    pub missing_of: Vec<(String, String)>,
    /// Texts that are values in single columns after all: heading and text.
    pub not_missing_of: Vec<(String, String)>,
    /// The order of dates that are not in ISO form.
    pub dates: Option<DateOrder>,
    /// The decimal sign, `.` or `,`.
    pub decimal: char,
    /// Bytes in a piece of work; no result depends on it.
    pub piece_bytes: usize,
}

impl Default for CsvOptions {
    fn default() -> Self {
        CsvOptions {
            separator: None,
            quote: Some(b'"'),
            uneven: Uneven::Stop,
            encoding: None,
            headings: None,
            first_line_is_headings: true,
            kinds: Vec::new(),
            missing_of: Vec::new(),
            not_missing_of: Vec::new(),
            missing: values::DEFAULT_MISSING.iter().map(|&t| t.to_owned()).collect(),
            dates: None,
            decimal: '.',
            // With its marks and columns a piece stays in a core's second-level cache.
            piece_bytes: 256 << 10,
        }
    }
}

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
pub struct CsvSource {
    files: Vec<FileData>,
    columns: Vec<ColumnState>,
    options: CsvOptions,
    /// With several files the name of each row's file is a last column.
    names_files: bool,
}

/// Marks a [`ColumnShape`] of numbers by the decimal sign that is not the file's.
const OTHER_SIGN: u64 = 1 << 32;

/// The column that names the file of each row.
const SOURCE_FILE: &str = "source_file";

impl CsvSource {
    /// Opens files with the same columns, in the order in which their rows are to be stacked. `-` is
    /// standard input.
    ///
    /// # Errors
    /// What is wrong with a file or its headings.
    pub fn open(names: &[String], options: CsvOptions) -> Result<CsvSource, Error> {
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
        let mut source = CsvSource { files, columns, options, names_files };
        source.sample();
        Ok(source)
    }

    /// The files' names.
    pub fn files(&self) -> impl Iterator<Item = &str> {
        self.files.iter().map(|f| f.name.as_str())
    }

    /// Sets a column's shape, as [`Error::Widen`] says.
    pub fn widen(&mut self, column: usize, to: &ColumnShape) {
        let state = &mut self.columns[column];
        if to.0 & OTHER_SIGN != 0 {
            state.turn_sign(to.1.as_deref().cloned());
            return;
        }
        state.shape = Shape::decode(to.0);
        state.reason = to.1.as_deref().cloned();
        let iso = |text: &str| calendar::parse_date(text.trim()).is_some();
        if let (Shape::Date(_), Some(reason)) = (state.shape, &state.reason)
            && !iso(reason.message.trim_matches('\''))
        {
            state.ambiguous.get_or_insert_with(|| reason.message.trim_matches('\'').to_owned());
        }
    }

    /// After a pass: dates of the columns read that still can be read two ways.
    ///
    /// # Errors
    /// The first such column, with the two readings.
    fn ensure_unambiguous(&self, read: &[usize]) -> Result<(), Error> {
        for column in read.iter().filter_map(|&c| self.columns.get(c)) {
            if let (Shape::Date(orders), Some(example)) = (column.shape, &column.ambiguous)
                && orders.is_open()
            {
                return Err(self.ambiguous(column, example));
            }
        }
        Ok(())
    }

    /// Looks at all rows, so that no kind is a guess any more; whether one has changed by that.
    pub fn settle(&mut self) -> bool {
        let all: Vec<usize> = (0..self.columns.len()).collect();
        let mut changed = false;
        loop {
            let read = self.scan(&all, 1).and_then(|readers| {
                let mut batch = Batch::default();
                for mut reader in readers {
                    while reader.next(&mut batch)? {}
                }
                Ok(())
            });
            match read {
                Err(Error::Widen { column, to }) => {
                    self.widen(column, &to);
                    changed = true;
                }
                // What else is wrong with the rows is told when they are read for good.
                _ => return changed,
            }
        }
    }

    fn ambiguous(&self, column: &ColumnState, example: &str) -> Error {
        let readings = values::parse_any_date(example).map(|(_, days)| {
            let day = |o: DateOrder| days[o as usize].map(oeuvre_core::value::calendar::date_text);
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

    /// What a text would be, were it a column of its own: `number`, `boolean`, `date`, `datetime`,
    /// `code` (zeros in front of a whole number) or `text`.
    pub fn looks_like(&self, text: &str) -> &'static str {
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

    /// What the reader has noticed about columns, each with what deals with it.
    pub fn warnings(&self) -> Vec<(String, String)> {
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

    /// Reads all columns of all rows, with the line of each row.
    ///
    /// # Errors
    /// What is wrong with the file.
    pub fn read_whole(mut self, name: &str) -> Result<Table, Error> {
        let lines = self.record_lines();
        loop {
            match self.read_once() {
                Ok(data) => {
                    let columns = Source::columns(&self);
                    self.ensure_unambiguous(&(0..self.columns.len()).collect::<Vec<_>>())?;
                    return Ok(Table { name: name.to_owned(), columns, data, lines });
                }
                Err(Error::Widen { column, to }) => self.widen(column, &to),
                Err(error) => return Err(error),
            }
        }
    }

    fn read_once(&self) -> Result<Vec<Column>, Error> {
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
) -> Result<usize, Error> {
    columns.iter().position(|c| c.name == name).ok_or_else(|| {
        let near = nearest(name, columns.iter().map(|c| c.name.as_str()));
        let help = match near.first() {
            Some(near) => format!("did you mean `{near}`?"),
            None => example.to_owned(),
        };
        Error::request_with_help(format!("{option}: there is no column `{name}`"), help)
    })
}

/// The texts that stand for no value, column by column.
fn settle_missing(columns: &mut [ColumnState], options: &CsvOptions) -> Result<(), Error> {
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
) -> Result<Vec<usize>, Error> {
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

    fn ensure_unchanged(&self) -> Result<(), Error> {
        self.files.iter().try_for_each(|f| f.opened.ensure_unchanged())
    }

    fn ensure_sound(&self, columns: &[usize]) -> Result<(), Error> {
        self.ensure_unambiguous(columns)
    }

    fn remarks(&self, columns: &[usize]) -> Vec<String> {
        let used = columns.iter().filter_map(|&c| self.columns.get(c));
        used.filter_map(|c| c.remark()).collect()
    }

    fn place_columns(&self) -> Option<[usize; 2]> {
        Some([self.columns.len(), self.columns.len() + 1])
    }

    fn scan<'a>(
        &'a self,
        columns: &[usize],
        readers: usize,
    ) -> Result<Vec<Box<dyn Reader + 'a>>, Error> {
        let pass = std::sync::Arc::new(Pass::new(&self.files, self.options.piece_bytes));
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
