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

use crate::bytes::{Opened, open};
use crate::input::Input;
use crate::kinds::Columns;
use crate::options::{ReadOptions, Uneven};
use columns::ColumnReader;
use marks::{Dialect, Marks};
use oeuvre_columns::column::{Batch, Column, Data};
use oeuvre_columns::{ColumnInfo, DataProblem, Kind, ReadError, Reader, Size, Source};
use reader::{Pass, PieceReader};
use records::Records;
use std::collections::{HashMap, HashSet};
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
    /// For each column of the source, its place in this file's records.
    order: Vec<usize>,
    /// Fields in a record.
    width: usize,
}

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
        let encoding = options.encoding.as_deref();
        let opened = names.iter().map(|name| open(name, encoding)).collect::<Result<_, _>>()?;
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
        let mut first: Vec<String> = Vec::new();
        for (name, opened) in names.iter().zip(opened) {
            let head = headings::read(name, &opened.bytes, &options)?;
            let width = head.names.len();
            let order = if files.is_empty() {
                first.clone_from(&head.names);
                (0..width).collect()
            } else {
                order_of(name, &first, &head.names, &names[0])?
            };
            let (name, body, dialect) = (name.clone(), head.body, head.dialect);
            files.push(FileData { name, opened, dialect, body, order, width });
        }
        let columns = Columns::new(&first, &options)?;
        let names_files = files.len() > 1 && first.iter().all(|name| name != SOURCE_FILE);
        let mut source = CsvSource { files, columns, options, names_files };
        source.sample();
        Ok(source)
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
        for column in 0..self.columns.states().len() {
            let texts = || {
                let fields = (0..records.rows()).map(|row| records.field(file.order[column], row));
                fields
                    .filter(|&(_, len)| len > 0)
                    .map(|(start, len)| (start, records.lossy(start, len)))
            };
            let problem = |start: usize, message: String| {
                let line = reader::line_of(&file.opened.bytes, file.body + start);
                DataProblem::in_file(file.name.clone(), message).at_line(line)
            };
            self.columns.guess(column, texts, problem);
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
        let state = &self.columns.states()[column];
        ColumnReader {
            shape: state.shape,
            forced: state.forced,
            decimal: state.decimal,
            other_sign: state.other_sign.is_some(),
            orders: self.columns.orders(),
            missing: state.missing.clone(),
            missing_counts: vec![0; state.missing.len()],
            slow: Vec::new(),
        }
    }
}

/// Where the columns of the `first` file stand in another one.
fn order_of(
    name: &str,
    columns: &[String],
    headings: &[String],
    first: &str,
) -> Result<Vec<usize>, ReadError> {
    let problem = |message: String| {
        DataProblem::in_file(name, message)
            .help("files that are stacked have the same headings, in any order")
    };
    let known: HashSet<&String> = columns.iter().collect();
    if let Some(extra) = headings.iter().find(|h| !known.contains(h)) {
        return Err(problem(format!("the column `{extra}` is not in {first}")).into());
    }
    let places: HashMap<&String, usize> = headings.iter().enumerate().map(|h| (h.1, h.0)).collect();
    let place = |column: &String| {
        let missing = || problem(format!("the column `{column}` of {first} is missing here"));
        places.get(column).copied().ok_or_else(|| missing().into())
    };
    columns.iter().map(place).collect()
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
        self.columns.ensure_unambiguous(columns, &self.files[0].name)
    }

    fn remarks(&self, columns: &[usize]) -> Vec<String> {
        self.columns.remarks(columns)
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
    fn learn(&mut self) {
        self.columns.learn();
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
