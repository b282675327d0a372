//! Files of records with separators: CSV and TSV as RFC 4180 has them, and their relatives.
//!
//! ```text
//! bytes → headings (headings.rs) → pieces claimed by readers (reader.rs) → marks of fields (marks.rs)
//!       → records → columns (in `text/`) → batch
//! ```
//!
//! Each file has its own separator and its own order of columns.
//! Only the columns that are asked for are looked at beyond their marks. What the columns hold is the business of
//! `kinds/`; what is wrong with a record is told with its file and line, the first in the order of the rows,
//! however many readers there are.

mod headings;
pub(crate) mod marks;
mod pattern;
mod reader;

use crate::bytes::{Bytes, Opened};
use crate::file_rows::{Counted, FilePass, FileRows, Wanted};
use crate::kinds::{Columns, values};
use crate::options::{ReadOptions, Uneven};
use crate::text::records::{Kept, Records};
use marks::{Dialect, Marks};
use oeuvre_columns::{DataProblem, Note, ReadError, Topic};
use reader::Pass;
use std::borrow::Cow;

/// How much of a file is looked at to guess kinds. A wrong guess costs time, never a result.
const SAMPLE_BYTES: usize = 256 << 10;

/// One file.
pub(crate) struct CsvFile {
    name: String,
    opened: Opened,
    dialect: Dialect,
    headings: Vec<String>,
    /// All marks of a record are kept.
    all: Kept,
    /// Where the first record behind the headings starts.
    body: usize,
    /// The way out where a title may stand above the headings.
    title_help: Option<String>,
    /// The encoding, where it was named.
    encoding: Option<String>,
    /// The field that shows that the file is not UTF-8, where it is read as [`WESTERN`] for that.
    western: Option<DataProblem>,
    /// How the file is read.
    options: ReadOptions,
}

/// The encoding of files that are not UTF-8, unless another is named.
const WESTERN: &str = "windows-1252";

/// The headings stand in the first so many bytes, mostly.
const HEAD: usize = 1 << 20;

impl CsvFile {
    /// A file of records, from its text; `options` are those of the file.
    ///
    /// # Errors
    /// What is wrong with its headings.
    pub(crate) fn new(
        name: &str,
        mut opened: Opened,
        options: &ReadOptions,
    ) -> Result<CsvFile, ReadError> {
        let mut western = None;
        // What still comes is waited for only where the headings reach so far.
        let first = opened.bytes.head(HEAD);
        let read = headings::read(name, first, options);
        let there = read.as_ref().is_ok_and(|head| head.body < first.len());
        let first = if there { first } else { opened.bytes.head(usize::MAX) };
        if options.encoding.is_none() && headings::not_utf8(first, options) {
            opened = opened.decoded(name, WESTERN)?;
            western = Some(DataProblem::in_file(name, "").at_line(options.skip_lines + 1));
        }
        let head = match read {
            Ok(head) if there && western.is_none() => head,
            _ => headings::read(name, &opened.bytes, options)?,
        };
        let headings::Head { names: headings, dialect, body, title_lines } = head;
        Ok(CsvFile {
            name: name.to_owned(),
            opened,
            dialect,
            all: Kept::all(headings.len()),
            headings,
            body,
            title_help: title_lines.map(crate::text::headings::skip),
            encoding: options.encoding.clone(),
            western,
            options: options.clone(),
        })
    }

    /// The first records.
    fn sample<'a>(&'a self, marks: &'a mut Marks, starts: &'a mut Vec<u32>) -> Sample<'a> {
        let data = self.opened.bytes.head(self.body + 2 * SAMPLE_BYTES);
        let data = &data[self.body..];
        let data = &data[..data.len().min(u32::MAX as usize - 1)];
        // Problems are told by the pass over the rows, in their order.
        let level = self.options.instructions.level();
        let found = marks::scan(data, SAMPLE_BYTES.min(data.len()), self.dialect, level, marks);
        let ends = if let marks::Found::Records { ends, .. } = found { Some(ends) } else { None };
        let width = self.headings.len();
        let piece = reader::regular(data, marks, ends, width, Uneven::LeaveOut);
        *starts = piece.starts;
        let (quote, kept) = (self.dialect.quote, &self.all);
        Sample { records: Records { data, quote, marks, kept, starts, level } }
    }
}

impl FileRows for CsvFile {
    fn headings(&self) -> &[String] {
        &self.headings
    }

    fn counted(&self) -> Counted {
        Counted::Lines
    }

    /// The one that was named, or that the first records show: that of most numbers which are so by one sign alone.
    fn decimal(&self) -> char {
        if let Some(named) = self.options.decimal {
            return named;
        }
        let (mut marks, mut starts) = (Marks::default(), Vec::new());
        let Sample { records } = self.sample(&mut marks, &mut starts);
        // Few files have commas in their fields, and only there is anything to be found out.
        let fields = |sign: u8| {
            let all = (0..self.headings.len())
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

    fn look(&self, file: usize, order: &[Option<usize>], columns: &mut Columns) {
        let (mut marks, mut starts) = (Marks::default(), Vec::new());
        let sample = self.sample(&mut marks, &mut starts);
        for (column, field) in order.iter().enumerate() {
            let Some(field) = *field else { continue };
            let texts = || sample.texts(field);
            let problem = |start: usize, message: String| {
                let at = self.body + start;
                let line = reader::line_of(self.opened.bytes.head(at), at);
                DataProblem::in_file(self.name.clone(), message).at_line(line)
            };
            columns.guess((column, file), texts, problem);
        }
    }

    fn scan<'a>(&'a self, wanted: Wanted<'a>) -> Result<Box<dyn FilePass<'a> + 'a>, ReadError> {
        Ok(Box::new(Pass::new(self, wanted)))
    }

    fn pieces(&self, piece_bytes: usize) -> usize {
        match self.opened.bytes.is_whole() {
            true => (self.opened.bytes.len() - self.body).div_ceil(piece_bytes),
            // There is more to come.
            false => usize::MAX / 2,
        }
    }

    fn bytes(&self) -> u64 {
        self.opened.bytes.expected().saturating_sub(self.body) as u64
    }

    fn contents(&self) -> &[u8] {
        let all = &self.opened.bytes[..];
        if self.body < all.len() { all } else { &[] }
    }

    fn ensure_unchanged(&self) -> Result<(), ReadError> {
        self.opened.ensure_unchanged()
    }

    fn decode_anew(&mut self, shown_by: DataProblem) -> Result<(), ReadError> {
        let opened = std::mem::replace(&mut self.opened, Opened::copied(Bytes::Owned(Vec::new())));
        self.opened = opened.decoded(&self.name, WESTERN)?;
        self.body = headings::read(&self.name, &self.opened.bytes, &self.options)?.body;
        self.western = Some(shown_by);
        Ok(())
    }

    fn notes(&self, options: &ReadOptions) -> Vec<Note> {
        let Some(shown) = &self.western else { return Vec::new() };
        let at = match (&shown.column, shown.line) {
            (Some(column), Some(_)) => {
                format!("{} in {column} on {}", shown.message, shown.place())
            }
            _ => "its headings".to_owned(),
        };
        let text = format!(
            "{} is not UTF-8, and is read as {WESTERN}: see {at}; another one: {}",
            if self.name == "-" { "standard input" } else { &self.name },
            options.typed("--encoding", "NAME")
        );
        vec![Note::new(Topic::Reading, text)]
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

#[cfg(test)]
mod tests {
    use super::CsvFile;
    use crate::bytes::{Bytes, Opened};
    use crate::file_rows::FileRows;
    use crate::growing::Growing;
    use crate::open;
    use crate::options::{Forced, ReadOptions, Uneven};
    use oeuvre_columns::column::Batch;
    use oeuvre_columns::{Kind, ReadError, Value};
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
        let mut source = open(&names, options.clone()).map_err(told)?;
        let (columns, lines) =
            crate::settled(source.as_mut(), |input| input.rows_whole()).map_err(told)?;
        let kinds: Vec<Kind> = source.columns().iter().map(|c| c.kind).collect();
        let named = usize::from(contents.len() > 1);
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

    /// Gives rows until it has given five megabytes, and no more before it is let go.
    struct Held(usize, std::sync::mpsc::Receiver<()>);

    impl std::io::Read for Held {
        fn read(&mut self, to: &mut [u8]) -> std::io::Result<usize> {
            const ROWS: &[u8] = b"12.50,SKE\n";
            if self.0 > 5 << 20 {
                let _ = self.1.recv();
                return Ok(0);
            }
            let bytes = ROWS.iter().cycle().skip(self.0 % ROWS.len());
            to.iter_mut().zip(bytes).for_each(|(to, from)| *to = *from);
            self.0 += to.len();
            Ok(to.len())
        }
    }

    #[test]
    fn rows_are_looked_at_while_others_still_come() {
        let (let_go, held) = std::sync::mpsc::channel();
        let bytes = Growing::start("-", b"fare,route\n".to_vec(), Held(0, held), "no").unwrap();
        let opened = Opened::copied(Bytes::Growing(bytes));
        let file = CsvFile::new("-", opened, &ReadOptions::default()).unwrap();
        assert_eq!(
            (file.headings(), file.decimal()),
            (&["fare", "route"].map(String::from)[..], '.')
        );
        assert!(!file.opened.bytes.is_whole());
        let_go.send(()).unwrap();
        assert!(file.opened.bytes.len() > 5 << 20);
    }

    #[test]
    fn only_what_is_asked_for_is_read_with_its_place_where_that_is_wanted() {
        let (_folder, names) = files(&["a,b,c\n1,oops,x\n2,oops,y\n"]);
        let options =
            ReadOptions { kinds: vec![("b".into(), Forced::Number)], ..ReadOptions::default() };
        let source = open(&names, options).unwrap();
        let [file, line] = source.location_columns()[..] else { panic!("a file has lines") };
        let mut batch = Batch::default();
        let mut reader = source.scan(&[2, line.place, file.place], 1).unwrap().remove(0);
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
