//! JSON: a list of objects, lines of objects, or objects one after the other.
//!
//! ```text
//! bytes → layout (layout.rs) → records claimed by readers (reader.rs) → their values (tree.rs, tokens.rs)
//!       → records of the wanted columns → columns (in `text/`) → batch
//! ```
//!
//! Objects in objects become columns such as `customer.city`; lists stay the JSON that they are. Values are read
//! as the texts that they are written as, so that a number never passes through binary64 and a text that is a date
//! is one; what is in quotes is looked at as in a file of records with separators. Records name their own columns:
//! those of the first records are known when a file is opened, and when a pass meets others, all records are
//! looked through for names, once.

mod layout;
mod reader;
mod tokens;
mod tree;

use crate::bytes::Opened;
use crate::file_rows::{Counted, FilePass, FileRows, Wanted};
use crate::kinds::Columns;
use crate::options::ReadOptions;
use layout::Layout;
use oeuvre_columns::{DataProblem, ReadError};
use reader::{Pass, Records};
use std::borrow::Cow;
use tokens::{Cursor, Wrong};
use tree::{Tree, Trouble};

pub(crate) use layout::looks_like_json;

/// How much of a file is looked at when it is opened.
const HEAD: usize = 256 << 10;

/// One file.
pub(crate) struct JsonFile {
    name: String,
    opened: Opened,
    layout: Layout,
    tree: Tree,
    headings: Vec<String>,
    /// For each heading its column among all that the tree knows.
    shown: Vec<usize>,
    /// Whether all records have been looked at for columns.
    complete: bool,
    options: ReadOptions,
}

impl JsonFile {
    /// A file of JSON, from its text; of a whole with several lists `table` says which.
    ///
    /// # Errors
    /// What is wrong with its beginning.
    pub(crate) fn new(
        name: &str,
        opened: Opened,
        table: Option<&str>,
        options: &ReadOptions,
    ) -> Result<JsonFile, ReadError> {
        let layout = layout::find(name, &opened.bytes, table)?;
        let mut file = JsonFile {
            name: name.to_owned(),
            opened,
            layout,
            tree: Tree::new(),
            headings: Vec::new(),
            shown: Vec::new(),
            complete: false,
            options: options.clone(),
        };
        file.complete = file.learn(HEAD)?;
        if file.headings.is_empty() && !file.complete {
            file.complete = file.learn(usize::MAX)?;
        }
        if file.headings.is_empty() {
            return Err(DataProblem::in_file(name, "there is no object with a value in it")
                .help("rows are the objects of a list, or one on each line")
                .into());
        }
        Ok(file)
    }

    /// Learns the names in the records that start in the first bytes; whether these were all.
    fn learn(&mut self, bytes: usize) -> Result<bool, ReadError> {
        let mut tree = std::mem::replace(&mut self.tree, Tree::new());
        let mut records = Records::new(&self.opened.bytes, &self.layout, 0);
        let mut looked = 0;
        let all = loop {
            if looked >= bytes {
                break false;
            }
            // What is wrong with a record is told by the pass over the rows, in their order.
            match records.next(HEAD.min(bytes)) {
                Ok(Some(some)) => {
                    for &(start, end) in &some.places {
                        looked = end - self.layout.body;
                        let cursor = &mut Cursor::new(&some.bytes[..end], start);
                        let learnt = match self.layout.is_row(cursor) {
                            Ok(true) => tree.learn(cursor),
                            Ok(false) => Ok(()),
                            Err(wrong) => Err(Trouble::from(wrong)),
                        };
                        if learnt.is_err() {
                            break;
                        }
                    }
                }
                _ => break true,
            }
        };
        self.shown = (0..tree.columns.len()).filter(|&c| tree.columns[c].is_shown()).collect();
        self.headings = self.shown.iter().map(|&c| tree.columns[c].heading.clone()).collect();
        self.tree = tree;
        Ok(all)
    }

    /// The line of a byte, from 1.
    fn line_of(&self, at: usize) -> u64 {
        1 + self.opened.bytes.head(at).iter().filter(|&&b| b == b'\n').count() as u64
    }

    /// What is wrong with a record that starts at a place, in words.
    fn problem(&self, record: usize, trouble: &Trouble) -> DataProblem {
        let at = |at: usize, message: String| {
            DataProblem::in_file(self.name.clone(), message).at_line(self.line_of(at))
        };
        match trouble {
            Trouble::Unknown => at(record, "this record has another form".to_owned()),
            Trouble::Twice(column) => {
                let name = &self.tree.columns[*column].heading;
                at(record, format!("`{name}` stands twice in this object"))
            }
            Trouble::Wrong(wrong) => self.wrong(record, wrong),
        }
    }

    /// What is no JSON, in words.
    fn wrong(&self, record: usize, wrong: &Wrong) -> DataProblem {
        let bytes = self.opened.bytes.head(usize::MAX);
        let (place, message) = match wrong {
            Wrong::Ends => (record, "this is no JSON: it ends inside a value".to_owned()),
            Wrong::Deep(place) => {
                (*place, "objects and lists stand more than 200 deep in each other".to_owned())
            }
            Wrong::Expected(place, expected) => {
                let rest = bytes.get(*place..).unwrap_or(&[]);
                let line = rest.split(|&b| b == b'\n').next().unwrap_or(&[]);
                let shown: String = String::from_utf8_lossy(line).chars().take(20).collect();
                let found = match shown.trim() {
                    "" => "the line ends".to_owned(),
                    shown => format!("found '{}'", shown.escape_debug()),
                };
                (*place, format!("this is no JSON: expected {expected}, {found}"))
            }
        };
        let it = DataProblem::in_file(self.name.clone(), message).at_line(self.line_of(place));
        let rest = bytes.get(place..).unwrap_or(&[]);
        match rest.starts_with(b"NaN") || rest.starts_with(b"Inf") || rest.starts_with(b"-Inf") {
            true => it.help("in JSON a value that is none is written null"),
            false => it,
        }
    }
}

impl FileRows for JsonFile {
    fn headings(&self) -> &[String] {
        &self.headings
    }

    fn counted(&self) -> Counted {
        Counted::Lines
    }

    fn decimal(&self) -> char {
        self.options.decimal.unwrap_or('.')
    }

    fn look(&self, file: usize, order: &[Option<usize>], columns: &mut Columns) {
        for (column, place) in order.iter().enumerate() {
            let Some(place) = *place else { continue };
            let known = &self.tree.columns[self.shown[place]];
            let texts = || {
                let samples = known.samples.iter();
                samples
                    .filter(|(_, text)| !text.is_empty())
                    .map(|(at, text)| (*at, Cow::Borrowed(text.as_str())))
            };
            let problem = |at: usize, message: String| {
                DataProblem::in_file(self.name.clone(), message).at_line(self.line_of(at))
            };
            columns.guess((column, file), texts, problem);
            if known.numbers {
                columns.sure_of_signs(column, file);
            }
        }
    }

    fn scan<'a>(&'a self, wanted: Wanted<'a>) -> Result<Box<dyn FilePass<'a> + 'a>, ReadError> {
        Ok(Box::new(Pass::new(self, wanted)))
    }

    fn pieces(&self, piece_bytes: usize) -> usize {
        match self.opened.bytes.is_whole() {
            true => (self.opened.bytes.len() - self.layout.body).div_ceil(piece_bytes),
            false => usize::MAX / 2,
        }
    }

    fn bytes(&self) -> u64 {
        self.opened.bytes.expected() as u64
    }

    fn contents(&self) -> &[u8] {
        &self.opened.bytes
    }

    fn ensure_unchanged(&self) -> Result<(), ReadError> {
        self.opened.ensure_unchanged()
    }

    fn look_for_columns(&mut self) -> Result<(), ReadError> {
        if !self.complete {
            self.complete = true;
            self.learn(usize::MAX)?;
        }
        Ok(())
    }

    fn knows_its_columns(&self) -> bool {
        self.complete
    }

    fn may_lack_columns(&self) -> bool {
        true
    }
}
