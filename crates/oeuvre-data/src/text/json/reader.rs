//! One pass over a JSON file by several readers.
//!
//! Readers claim records by the piece. Lines are cut at line feeds, which stand in no JSON string, by every reader
//! for itself; the objects of a list are parted under a lock, which takes a fraction of what reading them does. Of
//! the records of a piece the values of the wanted columns are put side by side, as fields with marks at their
//! ends, and read as those of other texts are.

use super::JsonFile;
use super::layout::{Form, Layout};
use super::tokens::{Cursor, Kind, Value, Wrong, compact, plain_number, unescape};
use super::tree::{Tree, Trouble, Visitor};
use crate::bytes::Bytes;
use crate::file_rows::{FilePass, FileReader, Want, Wanted};
use crate::kinds::Finding;
use crate::kinds::values::Shape;
use crate::passed::Passed;
use crate::text::columns::ColumnReader;
use crate::text::records;
use crate::text::trouble::{Place, told};
use oeuvre_columns::column::{Batch, Column, Data};
use oeuvre_columns::{Account, ReadError};
use std::ops::Range;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

/// Where records are, claimed one piece after the other.
pub(super) struct Records<'a> {
    bytes: &'a Bytes,
    layout: &'a Layout,
    at: usize,
    ended: bool,
    /// What is wrong behind the records that were given last.
    wrong: Option<(usize, Wrong)>,
    piece: u64,
}

/// The records of a piece: where each starts and ends.
pub(super) struct Piece<'a> {
    pub(super) number: u64,
    pub(super) bytes: &'a [u8],
    pub(super) places: Vec<(usize, usize)>,
}

impl<'a> Records<'a> {
    pub(super) fn new(bytes: &'a Bytes, layout: &'a Layout, piece: u64) -> Records<'a> {
        Records { bytes, layout, at: layout.body, ended: false, wrong: None, piece }
    }

    /// The records of the next so many bytes, or more where one is longer; `None` when there are no more.
    ///
    /// # Errors
    /// Where a record starts that is none.
    pub(super) fn next(&mut self, bytes: usize) -> Result<Option<Piece<'a>>, (usize, Wrong)> {
        if let Some(wrong) = self.wrong.take() {
            self.ended = true;
            return Err(wrong);
        }
        if self.ended {
            return Ok(None);
        }
        let all = self.bytes;
        let mut there = self.at + bytes;
        loop {
            let head = all.head(there);
            let whole = head.len() < there || all.is_whole();
            let head = if whole { all.head(usize::MAX) } else { head };
            let mut places = Vec::new();
            let from = self.at;
            let done = match self.layout.form {
                Form::Lines => self.lines(head, whole, from + bytes, &mut places),
                Form::List | Form::Sequence => self.objects(head, from + bytes, &mut places),
            };
            match done {
                Ok(()) => {}
                // The record goes on where the bytes have not come yet.
                Err((_, Wrong::Ends)) if !whole && places.is_empty() => {
                    there += (there - from).max(bytes);
                    continue;
                }
                Err((_, Wrong::Ends)) if !whole => {}
                Err(wrong) if places.is_empty() => {
                    self.ended = true;
                    return Err(wrong);
                }
                Err(wrong) => self.wrong = Some(wrong),
            }
            if places.is_empty() && self.ended {
                return Ok(None);
            }
            self.piece += 1;
            return Ok(Some(Piece { number: self.piece, bytes: head, places }));
        }
    }

    /// Takes lines until `until`.
    fn lines(
        &mut self,
        head: &[u8],
        whole: bool,
        until: usize,
        places: &mut Vec<(usize, usize)>,
    ) -> Result<(), (usize, Wrong)> {
        while self.at < until {
            if self.at >= head.len() {
                self.ended = whole;
                return if whole { Ok(()) } else { Err((self.at, Wrong::Ends)) };
            }
            let end = match memchr::memchr(b'\n', &head[self.at..]) {
                Some(end) => self.at + end,
                None if whole => head.len(),
                None => return Err((self.at, Wrong::Ends)),
            };
            let line = &head[self.at..end];
            if let Some(first) = line.iter().position(|b| !matches!(b, b' ' | b'\t' | b'\r')) {
                places.push((self.at + first, end));
            }
            self.at = end + 1;
        }
        Ok(())
    }

    /// Takes objects until `until`, and what stands between them.
    fn objects(
        &mut self,
        head: &[u8],
        until: usize,
        places: &mut Vec<(usize, usize)>,
    ) -> Result<(), (usize, Wrong)> {
        let is_list = self.layout.form == Form::List;
        while self.at < until {
            let mut cursor = Cursor::new(head, self.at);
            let at = |cursor: &Cursor<'_>| cursor.at;
            match cursor.peek() {
                Err(Wrong::Ends) if !is_list && self.bytes.is_whole() => {
                    self.ended = true;
                    return Ok(());
                }
                Err(wrong) => return Err((at(&cursor), wrong)),
                Ok(b']') if is_list => return self.end_of_list(cursor),
                Ok(b'{') => {}
                Ok(_) => return Err((cursor.at, Wrong::Expected(cursor.at, "an object"))),
            }
            let start = cursor.at;
            cursor.value().map_err(|wrong| (start, wrong))?;
            let end = cursor.at;
            if is_list {
                match cursor.peek() {
                    Ok(b',') => {
                        cursor.at += 1;
                        // A comma behind the last one is none.
                        if let Ok(b']') = cursor.peek() {
                            let wrong = Wrong::Expected(cursor.at, "an object");
                            return Err((cursor.at, wrong));
                        }
                    }
                    Ok(b']') => {}
                    Ok(_) => {
                        return Err((start, Wrong::Expected(cursor.at, "`,` or `]`")));
                    }
                    Err(wrong) => return Err((start, wrong)),
                }
            }
            places.push((start, end));
            self.at = cursor.at;
        }
        Ok(())
    }

    /// The list ends: behind one that is the whole text nothing stands.
    fn end_of_list(&mut self, mut cursor: Cursor<'_>) -> Result<(), (usize, Wrong)> {
        cursor.at += 1;
        if !self.layout.inside && cursor.peek().is_ok() {
            return Err((cursor.at, Wrong::Expected(cursor.at, "nothing behind the list")));
        }
        self.ended = true;
        Ok(())
    }
}

/// What readers of one pass share.
struct Shared<'a> {
    file: &'a JsonFile,
    wanted: Wanted<'a>,
    records: Mutex<Records<'a>>,
    /// The next piece of a file of lines.
    next: AtomicUsize,
    passed: Passed,
    /// A reader found a problem; pieces not yet claimed come after it.
    stop: AtomicBool,
    /// A line and where it starts, from which others are counted.
    counted: Mutex<(usize, u64)>,
}

/// A pass over a file.
pub(super) struct Pass<'a>(Arc<Shared<'a>>);

impl<'a> Pass<'a> {
    pub(super) fn new(file: &'a JsonFile, wanted: Wanted<'a>) -> Pass<'a> {
        Pass(Arc::new(Shared {
            records: Mutex::new(Records::new(&file.opened.bytes, &file.layout, 0)),
            passed: Passed::new(&file.opened.bytes, file.layout.body),
            file,
            wanted,
            next: AtomicUsize::new(0),
            stop: AtomicBool::new(false),
            counted: Mutex::new((0, 1)),
        }))
    }
}

impl<'a> FilePass<'a> for Pass<'a> {
    fn reader(&self) -> Box<dyn FileReader + 'a> {
        let (wanted, file) = (&self.0.wanted, self.0.file);
        let mut fields = Fields {
            slots: vec![NOT_WANTED; file.tree.columns.len()],
            points: Vec::new(),
            values: Vec::new(),
            seen: vec![0; file.tree.columns.len()],
            record: 0,
        };
        let mut readers = Vec::new();
        for want in wanted.wants.iter() {
            let Want::Values { column, place } = *want else {
                readers.push(None);
                continue;
            };
            let reading = wanted.columns.reading(column, wanted.file);
            let numeric = matches!(reading.shape, Shape::Number(_) | Shape::Float);
            // The same column may be wanted twice; it is read from the same field.
            let slot = &mut fields.slots[file.shown[place]];
            if *slot == NOT_WANTED {
                *slot = fields.points.len() as u32;
                fields.points.push(numeric && reading.decimal == ',');
                fields.values.push(None);
            }
            let missing = wanted.columns.states()[column].missing.clone();
            readers.push(Some((*slot as usize, ColumnReader::new(reading, missing))));
        }
        Box::new(JsonReader {
            shared: self.0.clone(),
            readers,
            fields,
            data: Vec::new(),
            marks: Vec::new(),
            piece: 0,
            account: Account::default(),
            pending: None,
        })
    }
}

const NOT_WANTED: u32 = u32::MAX;

/// The values of the wanted columns in a record.
struct Fields {
    /// For each column of the file its place among those wanted.
    slots: Vec<u32>,
    /// For each wanted one whether its numbers are written with a comma.
    points: Vec<bool>,
    values: Vec<Option<Value>>,
    /// For each column of the file the record that it was last seen in.
    seen: Vec<u64>,
    record: u64,
}

impl Visitor for Fields {
    #[inline]
    fn value(&mut self, column: usize, value: Value, _: &[u8]) {
        let slot = self.slots[column];
        if slot != NOT_WANTED {
            self.values[slot as usize] = Some(value);
        }
    }

    #[inline]
    fn again(&mut self, column: usize) -> bool {
        std::mem::replace(&mut self.seen[column], self.record) == self.record
    }
}

/// A reader of one pass.
struct JsonReader<'a> {
    shared: Arc<Shared<'a>>,
    /// One for each column that is wanted, with its place among the fields.
    readers: Vec<Option<(usize, ColumnReader)>>,
    fields: Fields,
    /// Scratch: the fields of a piece.
    data: Vec<u8>,
    /// Where each of them ends.
    marks: Vec<u32>,
    piece: u64,
    account: Account,
    /// A problem behind the records of the last batch.
    pending: Option<ReadError>,
}

/// Fields are marked in 32 bits: a piece with longer ones is cut.
const LONGEST: usize = u32::MAX as usize - (1 << 20);

impl JsonReader<'_> {
    /// Reads the records of a piece into the batch; false when there are none.
    fn fill(&mut self, piece: &Piece<'_>, batch: &mut Batch) -> bool {
        let shared = self.shared.clone();
        let file = shared.file;
        self.data.clear();
        self.marks.clear();
        let mut starts = Vec::with_capacity(piece.places.len());
        for &(start, end) in &piece.places {
            match self.record(piece.bytes, start, end) {
                Ok(true) => starts.push(start),
                Ok(false) => self.account.totals += 1,
                Err(trouble) => {
                    self.pending = Some(match trouble {
                        // All names are known, and it still does not fit: learning from it says why.
                        Trouble::Unknown if file.complete => {
                            let cursor = &mut Cursor::new(&piece.bytes[..end], start);
                            let cells = file.layout.is_row(cursor).map_err(Trouble::from);
                            let learnt = cells.and_then(|_| Tree::new().learn(cursor));
                            file.problem(start, &learnt.err().unwrap_or(Trouble::Unknown)).into()
                        }
                        Trouble::Unknown => {
                            let finding = Finding::Columns;
                            shared.wanted.columns.note(shared.wanted.file, self.piece, 0, finding);
                            ReadError::Again
                        }
                        trouble => file.problem(start, &trouble).into(),
                    });
                    break;
                }
            }
            if self.data.len() > LONGEST {
                let what = "the values of these records are longer than 4 GiB";
                let it = oeuvre_columns::DataProblem::in_file(file.name.clone(), what);
                self.pending = Some(it.at_line(shared.line_of(start)).into());
                break;
            }
        }
        // So that the last fields are read as fast as the others.
        self.data.extend([b'\n'; 32]);
        let width = self.fields.points.len() + 1;
        let no_starts: &[u32] = &[];
        let records = records::Records {
            data: &self.data,
            quote: None,
            marks: &self.marks,
            kept: &records::Kept::all(width),
            starts: no_starts,
            level: shared.wanted.options.instructions.level(),
        };
        batch.rows = starts.len();
        let mut first: Option<(u32, usize, crate::text::columns::Trouble)> = None;
        let wants = shared.wanted.wants.iter();
        for ((want, reader), out) in wants.zip(&mut self.readers).zip(&mut batch.columns) {
            match (want, reader) {
                (Want::Values { column, .. }, Some((slot, reader))) => {
                    reader.prepare(out);
                    if let Err((row, trouble)) = reader.read(&records, *slot, out)
                        && first
                            .as_ref()
                            .is_none_or(|f| (row, trouble.place()) < (f.0, f.2.place()))
                    {
                        first = Some((row, *column, trouble));
                    }
                }
                (Want::Number, _) => out.data = Data::I64(shared.lines(piece.bytes, &starts)),
                // The stack fills it.
                _ => *out = Column { data: Data::I64(Vec::new()), ..std::mem::take(out) },
            }
        }
        if let Some((row, column, trouble)) = first {
            let line = shared.line_of(starts[row as usize]);
            let place = Place { file: &file.name, line, in_rows: false, piece: self.piece, column };
            // JSON is UTF-8; where it is not, somebody has to say what it is.
            self.pending = Some(told(trouble, place, &shared.wanted, true));
            batch.keep_first(row as usize);
        }
        batch.rows > 0
    }

    /// Puts the fields of a record behind the others; false for a line of totals.
    fn record(&mut self, all: &[u8], start: usize, end: usize) -> Result<bool, Trouble> {
        let file = self.shared.file;
        let bytes = &all[..end];
        let mut cursor = Cursor::new(bytes, start);
        if !file.layout.is_row(&mut cursor)? {
            return Ok(false);
        }
        self.fields.record += 1;
        self.fields.values.fill(None);
        // The fast way looks at a few bytes more than the record has.
        match file.tree.read_usual(all, cursor.at, &mut self.fields).filter(|&at| at <= end) {
            Some(at) => cursor.at = at,
            None => {
                self.fields.values.fill(None);
                file.tree.read(&mut cursor, &mut self.fields)?;
            }
        }
        if file.layout.written {
            cursor.take(b'}', "`}`")?;
        }
        if cursor.peek().is_ok() {
            return Err(Wrong::Expected(cursor.at, "nothing behind the object").into());
        }
        let Fields { values, points, .. } = &self.fields;
        for (value, &comma) in values.iter().zip(points) {
            if let Some(value) = value {
                let text = value.text(bytes);
                match value.kind {
                    Kind::Null => {}
                    Kind::String { escaped: true } => unescape(text, &mut self.data),
                    Kind::List => compact(text, &mut self.data),
                    Kind::Number => {
                        let from = self.data.len();
                        plain_number(text, &mut self.data);
                        if comma && let Some(at) = memchr::memchr(b'.', &self.data[from..]) {
                            self.data[from + at] = b',';
                        }
                    }
                    _ => self.data.extend_from_slice(text),
                }
            }
            self.marks.push(self.data.len() as u32);
            self.data.push(b'\n');
        }
        // A last field that nobody reads: what ends a line of records with separators is no part of it.
        self.marks.push(self.data.len() as u32);
        self.data.push(b'\n');
        Ok(true)
    }
}

impl<'a> Shared<'a> {
    /// Where the lines of a piece of a file of lines start.
    fn range(&self, piece: usize) -> Range<usize> {
        let from = self.file.layout.body + piece * self.wanted.options.piece_bytes;
        from..from + self.wanted.options.piece_bytes
    }

    /// The lines that start in the next piece of a file of lines.
    fn claim_lines(&self) -> Option<Piece<'a>> {
        let all = &self.file.opened.bytes;
        let number = self.next.fetch_add(1, Ordering::Relaxed);
        let Range { start: from, end: until } = self.range(number);
        // The last line may end far behind the piece, where the bytes have not come yet.
        let mut beyond = 1 << 16;
        'more: loop {
            let head = all.head(until + beyond);
            let whole = head.len() < until + beyond || all.is_whole();
            let bytes = if whole { all.head(usize::MAX) } else { head };
            if from >= bytes.len() {
                return None;
            }
            let mut places = Vec::with_capacity(1024);
            let mut start = from;
            if number > 0 && bytes[from - 1] != b'\n' {
                start = match memchr::memchr(b'\n', &bytes[from..]) {
                    Some(end) => from + end + 1,
                    None => bytes.len(),
                };
            }
            while start < until.min(bytes.len()) {
                let end = match memchr::memchr(b'\n', &bytes[start..]) {
                    Some(end) => start + end,
                    None if whole => bytes.len(),
                    None => {
                        beyond *= 4;
                        continue 'more;
                    }
                };
                let line = &bytes[start..end];
                if let Some(first) = line.iter().position(|b| !matches!(b, b' ' | b'\t' | b'\r')) {
                    places.push((start + first, end));
                }
                start = end + 1;
            }
            return Some(Piece { number: number as u64, bytes, places });
        }
    }

    /// The line of a byte, from 1.
    fn line_of(&self, at: usize) -> u64 {
        self.lines(self.file.opened.bytes.head(at), &[at])[0] as u64
    }

    /// The lines of some places, which ascend.
    fn lines(&self, bytes: &[u8], places: &[usize]) -> Vec<i64> {
        let mut known = self.counted.lock().unwrap_or_else(PoisonError::into_inner);
        let (mut from, mut line) = *known;
        if places.first().is_some_and(|&first| first < from) {
            (from, line) = (0, 1);
        }
        let lines = places
            .iter()
            .map(|&at| {
                line += bytes[from..at].iter().filter(|&&b| b == b'\n').count() as u64;
                from = at;
                line as i64
            })
            .collect();
        if from > known.0 {
            *known = (from, line);
        }
        lines
    }
}

impl FileReader for JsonReader<'_> {
    fn next(&mut self, batch: &mut Batch) -> Result<bool, ReadError> {
        loop {
            if let Some(error) = self.pending.take() {
                return Err(error);
            }
            let shared = self.shared.clone();
            if shared.stop.load(Ordering::Acquire) {
                return Ok(false);
            }
            let claimed = if shared.file.layout.form == Form::Lines {
                let claimed = shared.claim_lines();
                self.piece = claimed.as_ref().map_or(self.piece, |piece| piece.number);
                Ok(claimed)
            } else {
                let mut records = shared.records.lock().unwrap_or_else(PoisonError::into_inner);
                let claimed = records.next(shared.wanted.options.piece_bytes);
                self.piece = records.piece;
                claimed
            };
            let piece = match claimed {
                Ok(Some(piece)) => piece,
                Ok(None) => return Ok(false),
                Err((start, wrong)) => {
                    shared.stop.store(true, Ordering::Release);
                    self.piece += 1;
                    return Err(shared.file.problem(start, &Trouble::Wrong(wrong)).into());
                }
            };
            self.piece = piece.number;
            let some = self.fill(&piece, batch);
            if shared.file.layout.form == Form::Lines {
                shared.passed.done(&shared.file.opened.bytes, shared.range(piece.number as usize));
            }
            if self.pending.is_some() {
                shared.stop.store(true, Ordering::Release);
            }
            if some {
                return Ok(true);
            }
        }
    }

    fn piece(&self) -> u64 {
        self.piece
    }

    fn remembers_codes(&self) -> bool {
        false
    }

    fn account(&self) -> Account {
        self.account
    }
}
