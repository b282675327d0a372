//! Files of records with separators: CSV and TSV as RFC 4180 has them, and their relatives.
//!
//! ```text
//! bytes → headings (headings.rs) → pieces claimed by readers (reader.rs) → marks of fields (marks.rs)
//!       → records (records.rs) → columns (columns.rs, fast.rs) → batch
//! ```
//!
//! Several files with the same headings are stacked, each with its own separator and its own order of columns.
//! Only the columns that are asked for are looked at beyond their marks. What the columns hold is the business of
//! `kinds/`; what is wrong with a record is told with its file and line, the first in the order of the rows,
//! however many readers there are.

mod columns;
mod fast;
mod headings;
pub(crate) mod marks;
mod reader;
mod records;

use crate::bytes::{Bytes, Opened, open};
use crate::input::Input;
use crate::kinds::{Columns, values};
use crate::options::{Lacking, ReadOptions, Uneven};
use columns::ColumnReader;
use indexmap::IndexSet;
use marks::{Dialect, Marks};
use oeuvre_columns::column::{Batch, Column, Data};
use oeuvre_columns::{ColumnInfo, DataProblem, Kind, Note, ReadError, Reader, Size, Source, Topic};
use reader::{Pass, PieceReader};
use records::Records;
use std::borrow::Cow;
use std::collections::HashMap;
use std::sync::Arc;

/// How much of the first file is looked at to guess kinds. A wrong guess costs time, never a result.
const SAMPLE_BYTES: usize = 256 << 10;

/// One file.
struct FileData {
    name: String,
    opened: Opened,
    dialect: Dialect,
    /// Where the first record behind the headings starts.
    body: usize,
    /// For each column of the source, its place in this file's records; `None` where it lacks the column.
    order: Vec<Option<usize>>,
    /// Fields in a record.
    width: usize,
    /// The way out where a title may stand above the headings.
    title_help: Option<String>,
    /// The field that shows that the file is not UTF-8, where it is read as [`WESTERN`] for that.
    western: Option<DataProblem>,
}

/// The encoding of files that are not UTF-8, unless another is named.
const WESTERN: &str = "windows-1252";

/// Rows from one or several files with the same columns.
pub(crate) struct CsvSource {
    files: Vec<FileData>,
    columns: Columns,
    options: ReadOptions,
    /// With several files the name of each row's file is a last column.
    names_files: bool,
}

/// The column that names the file of each row.
const SOURCE_FILE: &str = "source_file";

impl CsvSource {
    /// Opens files with the same columns, in the order in which their rows are to be stacked. `-` is
    /// standard input.
    ///
    /// # Errors
    /// What is wrong with a file or its headings; options that name a column that is not there.
    pub(crate) fn open(names: &[String], options: ReadOptions) -> Result<CsvSource, ReadError> {
        let open = |(i, name): (usize, &String)| open(name, options.of_file(i).encoding.as_deref());
        let opened = names.iter().enumerate().map(open).collect::<Result<_, _>>()?;
        CsvSource::of(names, opened, options)
    }

    /// As [`CsvSource::open`], of bytes that are open already: also those that another format was made into.
    ///
    /// # Errors
    /// As for [`CsvSource::open`].
    pub(crate) fn of(
        names: &[String],
        opened: Vec<Opened>,
        options: ReadOptions,
    ) -> Result<CsvSource, ReadError> {
        let mut files: Vec<FileData> = Vec::new();
        let mut heads: Vec<Vec<String>> = Vec::new();
        for (i, (name, mut opened)) in names.iter().zip(opened).enumerate() {
            let mut western = None;
            let options = options.of_file(i);
            let guesses = options.encoding.is_none();
            if guesses && headings::not_utf8(&opened.bytes, options) {
                opened = opened.decoded(name, WESTERN)?;
                western = Some(DataProblem::in_file(name, "").at_line(options.skip_lines + 1));
            }
            let head = headings::read(name, &opened.bytes, options)?;
            let headings::Head { names: headings, dialect, body, title_lines } = head;
            let (width, order) = (headings.len(), Vec::new());
            let title_help = title_lines.map(headings::skip);
            heads.push(headings);
            let name = name.clone();
            files.push(FileData { name, opened, dialect, body, order, width, title_help, western });
        }
        if options.lacking == Lacking::Stop {
            ensure_same(names, &heads)?;
        }
        let all = all_headings(&heads);
        for (file, headings) in files.iter_mut().zip(&heads) {
            file.order = order_of(&all, headings);
        }
        let decimals = files
            .iter()
            .enumerate()
            .map(|(i, f)| options.of_file(i).decimal.unwrap_or_else(|| f.decimal()))
            .collect();
        let columns = Columns::new(&all, names, decimals, &options)?;
        let names_files = files.len() > 1 && all.iter().all(|name| name != SOURCE_FILE);
        let mut source = CsvSource { files, columns, options, names_files };
        source.sample();
        Ok(source)
    }

    /// Guesses the columns' shapes from the first records of each file.
    fn sample(&mut self) {
        for (place, file) in self.files.iter().enumerate() {
            let (mut marks, mut starts) = (Marks::default(), Vec::new());
            let sample = file.sample(&mut marks, &mut starts);
            for column in 0..self.columns.states().len() {
                let Some(field) = file.order[column] else { continue };
                let texts = || sample.texts(field);
                let problem = |start: usize, message: String| {
                    let line = reader::line_of(&file.opened.bytes, file.body + start);
                    DataProblem::in_file(file.name.clone(), message).at_line(line)
                };
                self.columns.guess((column, place), texts, problem);
            }
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

    /// Of several files those that hold the same: given twice, or a copy.
    fn same_files(&self) -> Vec<Note> {
        let ends = |bytes: &[u8]| {
            let n = bytes.len().min(4096);
            (bytes.len(), bytes[..n].to_vec(), bytes[bytes.len() - n..].to_vec())
        };
        let mut known: HashMap<_, Vec<&FileData>> = HashMap::new();
        let mut notes = Vec::new();
        for file in self.files.iter().filter(|f| f.body < f.opened.bytes.len()) {
            let like = known.entry(ends(&file.opened.bytes)).or_default();
            let Some(first) = like.iter().find(|f| f.opened.bytes[..] == file.opened.bytes[..])
            else {
                like.push(file);
                continue;
            };
            let text = match first.name == file.name {
                true => format!("{} is given twice, and its rows are counted twice", file.name),
                false => format!(
                    "{} and {} hold the same, and their rows are counted twice",
                    first.name, file.name
                ),
            };
            notes.push(Note::new(Topic::Twice, text));
        }
        notes
    }

    fn column_reader(&self, column: usize) -> ColumnReader {
        let missing = self.columns.states()[column].missing.clone();
        ColumnReader::new(self.columns.reading(column, 0), missing)
    }
}

impl FileData {
    /// The first records.
    fn sample<'a>(&'a self, marks: &'a mut Marks, starts: &'a mut Vec<u32>) -> Sample<'a> {
        let data = &self.opened.bytes[self.body..];
        let data = &data[..data.len().min(u32::MAX as usize - 1)];
        // Problems are told by the pass over the rows, in their order.
        let found = marks::scan(data, SAMPLE_BYTES.min(data.len()), self.dialect, marks);
        let ends = if let marks::Found::Records { ends, .. } = found { Some(ends) } else { None };
        let piece = reader::regular(data, marks, ends, self.width, Uneven::LeaveOut);
        *starts = piece.starts;
        let (quote, width) = (self.dialect.quote, self.width);
        Sample { records: Records { data, quote, marks, width, starts } }
    }

    /// The decimal sign that the first records show: that of most numbers which are so by one sign alone.
    fn decimal(&self) -> char {
        let (mut marks, mut starts) = (Marks::default(), Vec::new());
        let Sample { records } = self.sample(&mut marks, &mut starts);
        // Few files have commas in their fields, and only there is anything to be found out.
        let fields = |sign: u8| {
            let all = (0..self.width)
                .flat_map(|column| (0..records.rows()).map(move |row| (column, row)));
            let records = &records;
            all.filter_map(move |(column, row)| {
                let (start, len) = records.field(column, row);
                let has = records.data[start..start + len].contains(&sign);
                has.then(|| records.lossy(start, len))
            })
        };
        let commas = fields(b',').filter(|text| values::is_of_other_sign(text, '.')).count();
        if commas == 0 {
            return '.';
        }
        let points = fields(b'.').filter(|text| values::is_of_other_sign(text, ',')).count();
        if commas > points { ',' } else { '.' }
    }
}

/// The first records of a file.
struct Sample<'a> {
    records: Records<'a>,
}

impl<'a> Sample<'a> {
    /// The fields of a column that are not blank, with their places.
    fn texts(&self, field: usize) -> impl Iterator<Item = (usize, Cow<'a, str>)> {
        (0..self.records.rows()).filter_map(move |row| {
            let (start, len) = self.records.field(field, row);
            (len > 0).then(|| (start, self.records.lossy(start, len)))
        })
    }
}

/// The headings of all files, each once, in the order in which they come.
fn all_headings(heads: &[Vec<String>]) -> Vec<String> {
    let mut all = IndexSet::new();
    all.extend(heads.iter().flatten().cloned());
    all.into_iter().collect()
}

/// A mistake where a file lacks a column that another one has.
fn ensure_same(names: &[String], heads: &[Vec<String>]) -> Result<(), ReadError> {
    let Some((first, others)) = heads.split_first() else { return Ok(()) };
    for (name, headings) in names.iter().skip(1).zip(others) {
        let lacks = |of: &[String], column: &String| !of.contains(column);
        let (column, without, with) = match headings.iter().find(|c| lacks(first, c)) {
            Some(extra) => (extra, &names[0], name),
            None => match first.iter().find(|c| lacks(headings, c)) {
                Some(missing) => (missing, name, &names[0]),
                None => continue,
            },
        };
        let message = match with == name {
            true => format!("the column `{column}` is not in {without}"),
            false => format!("the column `{column}` of {with} is missing here"),
        };
        return Err(DataProblem::in_file(name, message)
            .help("files that are stacked have the same headings, in any order")
            .help("--lacking blank takes what a file lacks as missing")
            .into());
    }
    Ok(())
}

/// Where the columns stand in a file that may lack some.
fn order_of(columns: &[String], headings: &[String]) -> Vec<Option<usize>> {
    let places: HashMap<&String, usize> = headings.iter().enumerate().map(|h| (h.1, h.0)).collect();
    columns.iter().map(|column| places.get(column).copied()).collect()
}

impl Source for CsvSource {
    fn columns(&self) -> Vec<ColumnInfo> {
        let mut columns = self.columns.infos();
        if self.names_files {
            columns.push(ColumnInfo::new(SOURCE_FILE, Kind::Text));
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
        self.columns.ensure_unambiguous(columns)
    }

    fn zone(&self) -> &str {
        &self.options.zone.name
    }

    fn notes(&self, columns: &[usize]) -> Vec<Note> {
        let mut notes = self.columns.notes(columns);
        notes.extend(self.same_files());
        for file in &self.files {
            if let Some(shown) = &file.western {
                let at = match (&shown.column, shown.line) {
                    (Some(column), Some(line)) => {
                        format!("{} in {column} on line {line}", shown.message)
                    }
                    _ => "its headings".to_owned(),
                };
                let text = format!(
                    "{} is not UTF-8, and is read as {WESTERN}: see {at}; another one: {}",
                    if file.name == "-" { "standard input" } else { &file.name },
                    self.options.typed("--encoding", "NAME")
                );
                notes.push(Note::new(Topic::Reading, text));
            }
        }
        notes
    }

    fn location_columns(&self) -> Option<[usize; 2]> {
        let columns = self.columns.states().len();
        Some([columns, columns + 1])
    }

    fn scan<'a>(
        &'a self,
        columns: &[usize],
        readers: usize,
    ) -> Result<Vec<Box<dyn Reader + 'a>>, ReadError> {
        self.columns.begin_pass();
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
    fn learn(&mut self) -> Result<(), ReadError> {
        let Some((place, shown)) = self.columns.learn() else { return Ok(()) };
        let options = self.options.of_file(place);
        let file = &mut self.files[place];
        let opened = std::mem::replace(&mut file.opened, Opened::copied(Bytes::Owned(Vec::new())));
        file.opened = opened.decoded(&file.name, WESTERN)?;
        file.body = headings::read(&file.name, &file.opened.bytes, options)?.body;
        file.western = Some(shown);
        Ok(())
    }

    fn looks_like(&self, text: &str) -> &'static str {
        self.columns.looks_like(text)
    }

    fn warnings(&self) -> Vec<(String, String)> {
        self.columns.warnings()
    }

    fn rows_whole(&self) -> Result<(Vec<Column>, Vec<u64>), ReadError> {
        let data = self.read_once()?;
        let all: Vec<usize> = (0..self.columns.states().len()).collect();
        self.ensure_sound(&all)?;
        Ok((data, self.record_lines()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::options::Forced;
    use oeuvre_columns::Value;
    use rstest::rstest;

    /// Files with their contents, as names.
    fn files(contents: &[&str]) -> (tempfile::TempDir, Vec<String>) {
        let folder = tempfile::tempdir().unwrap();
        let names = contents.iter().enumerate().map(|(i, content)| {
            let path = folder.path().join(format!("f{i}.csv"));
            std::fs::write(&path, content).unwrap();
            path.display().to_string()
        });
        let names = names.collect();
        (folder, names)
    }

    /// All rows as texts, with their lines, when all kinds are settled; the last column names the file.
    fn rows(contents: &[&str], options: &ReadOptions) -> Result<Vec<String>, String> {
        let (_folder, names) = files(contents);
        let told = |e: ReadError| match e {
            ReadError::Problem(it) => it.to_string(),
            ReadError::Again => "again".to_owned(),
        };
        let mut source = CsvSource::open(&names, options.clone()).map_err(told)?;
        let (columns, lines) =
            crate::settled(&mut source, |input| input.rows_whole()).map_err(told)?;
        let kinds: Vec<Kind> = Source::columns(&source).iter().map(|c| c.kind).collect();
        let named = usize::from(source.names_files);
        let row = |row: usize| {
            let texts = columns.iter().zip(&kinds).take(columns.len() - named);
            let texts: Vec<String> =
                texts.map(|(c, &kind)| c.value(kind, row).to_string()).collect();
            format!("{}: {}", lines[row], texts.join(" "))
        };
        Ok((0..lines.len()).map(row).collect())
    }

    #[rstest]
    #[case(&["a,b\n1,x\n2,y\n"], &["2: 1 x", "3: 2 y"])]
    #[case(&["a;b\r\n1;x\r\n\r\n2;y"], &["2: 1 x", "4: 2 y"])]
    // Each file has its own separator and its own order of columns.
    #[case(&["a,b\n1,x\n", "b\ta\ny\t2\n"], &["2: 1 x", "2: 2 y"])]
    // A kind that a later file shows is that of all.
    #[case(&["a\n1\n", "a\n2.50\n"], &["2: 1.00", "2: 2.50"])]
    #[case(&["a\n1\n", "a\nx\n"], &["2: 1", "2: x"])]
    #[case(&["a,b\n\"1\n1\",x\ny,z\n"], &["2: 1\n1 x", "4: y z"])]
    #[case(&["a\n"], &[])]
    fn rows_are_those_of_the_files(#[case] contents: &[&str], #[case] expected: &[&str]) {
        assert_eq!(rows(contents, &ReadOptions::default()).unwrap(), expected);
    }

    #[rstest]
    #[case(&["a,b\n1,2\n", "a,c\n1,2\n"], "f1.csv: the column `c` is not in ")]
    #[case(&["a,b\n1,2\n", "a\n1\n"], "f1.csv: the column `b` of ")]
    #[case(&["a,a\n"], "f0.csv, line 1: the heading `a` stands twice")]
    #[case(&["a,b\n1,2\n1\n"], "f0.csv, line 3: ")]
    #[case(&[""], "f0.csv: the file is empty")]
    fn what_is_wrong_names_its_file_and_line(#[case] contents: &[&str], #[case] said: &str) {
        let error = rows(contents, &ReadOptions::default()).unwrap_err();
        assert!(error.contains(said), "{error}");
    }

    #[rstest]
    #[case(Uneven::Blank, &["2: 1 2", "3: 3 "])]
    #[case(Uneven::LeaveOut, &["2: 1 2"])]
    fn uneven_records_are_dealt_with_as_asked(#[case] uneven: Uneven, #[case] expected: &[&str]) {
        let options = ReadOptions { uneven, ..ReadOptions::default() };
        assert_eq!(rows(&["a,b\n1,2\n3\n"], &options).unwrap(), expected);
    }

    #[test]
    fn only_what_is_asked_for_is_read_with_its_place_where_that_is_wanted() {
        let (_folder, names) = files(&["a,b,c\n1,oops,x\n2,oops,y\n"]);
        let options =
            ReadOptions { kinds: vec![("b".into(), Forced::Number)], ..ReadOptions::default() };
        let source = CsvSource::open(&names, options).unwrap();
        let [file, line] = source.location_columns().unwrap();
        let mut batch = Batch::default();
        let mut reader = source.scan(&[2, line, file], 1).unwrap().remove(0);
        // The second column is not what was said of it, and nobody looks.
        assert!(reader.next(&mut batch).unwrap());
        let text = |column: usize, row: usize| batch.columns[column].value(Kind::Text, row);
        assert_eq!(
            (text(0, 1), text(2, 0)),
            (Value::Text("y".into()), Value::Text(names[0].as_str().into()))
        );
        assert_eq!(batch.columns[1].data.to_i128(), [2, 3]);
        assert!(source.size().bytes.is_some_and(|bytes| bytes == 18));
        let error = source.scan(&[1], 1).unwrap()[0].next(&mut batch);
        assert!(
            matches!(error, Err(ReadError::Problem(it)) if it.message == "'oops' is not a number")
        );
    }
}
