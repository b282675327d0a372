//! Files whose rows are stacked, whatever their formats.
//!
//! Columns are matched by name. What their kinds are is settled over all files together; a file is asked only for
//! its own rows. What no file holds is added here: the file that a row stands in, and the keys that stand in the
//! names of folders (`year=2025/month=07`).

use crate::facts::{Facts, FileFacts, fingerprint_of_file, same_files};
use crate::file_rows::{Counted, FilePass, FileReader, FileRows, Want, Wanted};
use crate::input::Input;
use crate::kinds::{Columns, Learnt};
use crate::options::{Lacking, ReadOptions};
use crate::text::columns::ColumnReader;
use crate::text::records::{Kept, Records};
use indexmap::IndexSet;
use oeuvre_columns::column::dictionary::Dictionary;
use oeuvre_columns::column::marks::Mark;
use oeuvre_columns::column::{Batch, Column, Data, MISSING_I64};
use oeuvre_columns::{
    Account, Bounds, ColumnInfo, DataProblem, Kind, LocationColumn, Note, ReadError, Reader, Size,
    Source,
};
use std::borrow::Cow;
use std::collections::HashMap;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, OnceLock};

/// A file of the stack.
struct Stacked {
    name: String,
    rows: Box<dyn FileRows>,
    /// For each column of the stack its place in the file; `None` where the file lacks it.
    order: Vec<Option<usize>>,
    /// Values that the names of its folders give to columns of the stack.
    keys: Vec<(usize, String)>,
}

/// A file before it is stacked.
pub(crate) struct Opened {
    /// As it was named.
    pub(crate) name: String,
    /// Its rows.
    pub(crate) rows: Box<dyn FileRows>,
    /// Columns and values that stand in the names of its folders.
    pub(crate) keys: Vec<(String, String)>,
}

/// The rows of one or several files.
pub(crate) struct Stack {
    files: Vec<Stacked>,
    columns: Columns,
    options: ReadOptions,
    /// With several files the name of each row's file is a last column.
    names_files: bool,
}

/// The column that names the file of each row.
const SOURCE_FILE: &str = "source_file";

/// The bits of a piece's number below those of its file: rows of a later file come later.
const PIECE_BITS: u32 = 40;

impl Stack {
    /// Stacks files in their order.
    ///
    /// # Errors
    /// A column that a file lacks; options that name a column that is not there.
    pub(crate) fn new(mut opened: Vec<Opened>, options: ReadOptions) -> Result<Stack, ReadError> {
        let known: IndexSet<String> = opened.iter().flat_map(headings).collect();
        // A column that an option names may come late in the rows.
        if options.columns_named().any(|name| !known.contains(name)) {
            opened.iter_mut().try_for_each(|file| file.rows.look_for_columns())?;
        }
        let names: Vec<String> = opened.iter().map(|f| f.name.clone()).collect();
        let decimals = opened.iter().map(|f| f.rows.decimal()).collect();
        let heads: Vec<Vec<String>> = opened.iter().map(headings).collect();
        if options.lacking == Lacking::Stop && !opened.iter().any(|f| f.rows.may_lack_columns()) {
            ensure_same(&names, &heads)?;
        }
        let all = all_headings(&heads);
        let has_texts = opened.iter().any(|f| f.rows.holds_texts());
        let mut columns = Columns::new(&all, &names, decimals, (has_texts, &options))?;
        let places: HashMap<&String, usize> =
            all.iter().enumerate().map(|(at, name)| (name, at)).collect();
        let mut files: Vec<Stacked> = Vec::new();
        for (place, file) in opened.into_iter().enumerate() {
            let Opened { name, rows, keys } = file;
            let mut order = vec![None; all.len()];
            for (at, heading) in rows.headings().iter().enumerate() {
                order[places[heading]] = Some(at);
            }
            let keys: Vec<(usize, String)> = keys
                .into_iter()
                .map(|(key, value)| (places[&key], value))
                .filter(|(column, _)| order[*column].is_none())
                .collect();
            rows.look(place, &order, &mut columns);
            for (column, value) in &keys {
                let text = || std::iter::once((0, Cow::Borrowed(value.as_str())));
                let problem =
                    |_: usize, message: String| DataProblem::in_file(name.clone(), message);
                columns.guess((*column, place), text, problem);
            }
            files.push(Stacked { name, rows, order, keys });
        }
        let several = files.len() > 1 || options.of_many;
        let names_files = several && all.iter().all(|name| name != SOURCE_FILE);
        Ok(Stack { files, columns, options, names_files })
    }

    /// Stacks the files anew, when one has turned out to have more columns: what was learnt is learnt again.
    fn stack_again(&mut self) -> Result<(), ReadError> {
        let names: Vec<String> =
            self.columns.states().iter().map(|state| state.name.clone()).collect();
        let opened = std::mem::take(&mut self.files).into_iter().map(|file| Opened {
            name: file.name,
            rows: file.rows,
            keys: file.keys.into_iter().map(|(at, value)| (names[at].clone(), value)).collect(),
        });
        let options = self.options.clone();
        *self = Stack::new(opened.collect(), options)?;
        Ok(())
    }

    /// Where the columns that say where a row stands begin.
    fn location(&self) -> usize {
        self.columns.states().len()
    }

    /// What the rows are counted by.
    fn counted(&self) -> Counted {
        let mut all = self.files.iter().map(|f| f.rows.counted());
        let first = all.next().unwrap_or(Counted::Lines);
        match all.all(|c| c == first) {
            true => first,
            false => Counted::RowsOfGroups,
        }
    }

    /// What each file is known by; the bytes of those alone that are looked at.
    fn file_facts(&self, looked_at: impl Fn(usize) -> bool) -> Vec<FileFacts> {
        let names: Vec<&String> = self.columns.states().iter().map(|state| &state.name).collect();
        let facts = |file: &Stacked| {
            let bytes = file.rows.contents();
            let keys = file.keys.iter().map(|(at, value)| (names[*at].clone(), value.clone()));
            let is_known = !bytes.is_empty() && looked_at(bytes.len());
            FileFacts {
                name: file.name.clone(),
                content: is_known.then(|| (bytes.len() as u64, fingerprint_of_file(bytes))),
                keys: keys.collect(),
                in_rows: bytes.is_empty() && file.rows.counted() == Counted::Rows,
            }
        };
        self.files.iter().map(facts).collect()
    }

    /// Of several files those that hold the same: given twice, or a copy.
    fn same_files(&self) -> Vec<Note> {
        if self.files.len() < 2 {
            return Vec::new();
        }
        let mut lengths: HashMap<usize, usize> = HashMap::new();
        self.files.iter().for_each(|f| *lengths.entry(f.rows.contents().len()).or_default() += 1);
        // Bytes of another length than all others are not the same.
        let facts = self.file_facts(|length| lengths.get(&length).is_some_and(|n| *n > 1));
        same_files(&facts.iter().collect::<Vec<_>>())
    }

    /// What a pass wants of a file: for each column that is scanned.
    fn wants(&self, file: &Stacked, scanned: &[usize]) -> Arc<[Want]> {
        let location = self.location();
        let want = |&column: &usize| match column {
            c if c < location => match file.order[c] {
                Some(place) => Want::Values { column: c, place },
                None => Want::Nothing,
            },
            c if c == location => Want::Nothing,
            c if c == location + 1 => Want::Group,
            _ => Want::Number,
        };
        scanned.iter().map(want).collect()
    }
}

/// The headings of a file, with those that the names of its folders give.
fn headings(file: &Opened) -> Vec<String> {
    let mut all = file.rows.headings().to_vec();
    for (key, _) in &file.keys {
        if !all.contains(key) {
            all.push(key.clone());
        }
    }
    all
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
    let of_first: IndexSet<&String> = first.iter().collect();
    for (name, headings) in names.iter().skip(1).zip(others) {
        let of_this: IndexSet<&String> = headings.iter().collect();
        let (column, without, with) = match headings.iter().find(|c| !of_first.contains(c)) {
            Some(extra) => (extra, &names[0], name),
            None => match first.iter().find(|c| !of_this.contains(c)) {
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

impl Source for Stack {
    fn columns(&self) -> Vec<ColumnInfo> {
        let mut columns = self.columns.infos();
        if self.names_files {
            columns.push(ColumnInfo::new(SOURCE_FILE, Kind::Text));
        }
        columns
    }

    fn size(&self) -> Size {
        Size { rows: None, bytes: Some(self.files.iter().map(|f| f.rows.bytes()).sum()) }
    }

    fn ensure_unchanged(&self) -> Result<(), ReadError> {
        self.files.iter().try_for_each(|f| f.rows.ensure_unchanged())
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
        notes.extend(self.files.iter().flat_map(|f| f.rows.notes(&self.options)));
        notes
    }

    fn location_columns(&self) -> Vec<LocationColumn> {
        let at = |place: usize, heading: &'static str| LocationColumn {
            place: self.location() + place,
            heading,
        };
        match self.counted() {
            Counted::Lines => vec![at(0, "file"), at(2, "line")],
            Counted::Rows => vec![at(0, "file"), at(2, "row")],
            Counted::RowsOfGroups => vec![at(0, "file"), at(1, "row group"), at(2, "row")],
        }
    }

    fn scan<'a>(
        &'a self,
        columns: &[usize],
        readers: usize,
    ) -> Result<Vec<Box<dyn Reader + 'a>>, ReadError> {
        self.scan_within(columns, readers, &Bounds::default())
    }

    fn scan_within<'a>(
        &'a self,
        columns: &[usize],
        readers: usize,
        bounds: &Bounds,
    ) -> Result<Vec<Box<dyn Reader + 'a>>, ReadError> {
        self.columns.begin_pass();
        // More readers than pieces would only be started to stop.
        let mut pieces = 0;
        for file in &self.files {
            pieces += file.rows.pieces(self.options.piece_bytes);
            if pieces >= readers {
                break;
            }
        }
        let pass = Arc::new(StackPass {
            stack: self,
            scanned: columns.to_vec(),
            bounds: Arc::new(bounds.clone()),
            files: self.files.iter().map(|_| OnceLock::new()).collect(),
            stop: AtomicBool::new(false),
        });
        let reader = || -> Box<dyn Reader + 'a> {
            Box::new(StackReader {
                pass: pass.clone(),
                file: 0,
                reader: None,
                piece: 0,
                account: Account::default(),
            })
        };
        Ok((0..readers.min(pieces).max(1)).map(|_| reader()).collect())
    }
}

/// A pass over a file, once somebody has begun it.
type Begun<'a> = Result<Box<dyn FilePass<'a> + 'a>, ReadError>;

/// What readers of one pass share.
struct StackPass<'a> {
    stack: &'a Stack,
    scanned: Vec<usize>,
    bounds: Arc<Bounds>,
    /// The pass over each file, begun by the reader that comes to it first.
    files: Vec<OnceLock<Begun<'a>>>,
    /// A reader found a problem; files not yet begun come after it.
    stop: AtomicBool,
}

impl<'a> StackPass<'a> {
    /// A reader of a file.
    fn reader(&self, file: usize) -> Result<Box<dyn FileReader + 'a>, ReadError> {
        let stack = self.stack;
        let begin = || {
            let stacked = &stack.files[file];
            stacked.rows.scan(Wanted {
                file,
                wants: stack.wants(stacked, &self.scanned),
                columns: &stack.columns,
                options: &stack.options,
                bounds: self.bounds.clone(),
            })
        };
        match self.files[file].get_or_init(begin) {
            Ok(pass) => Ok(pass.reader()),
            Err(error) => Err(error.clone()),
        }
    }

    /// Tells whoever waits how far a piece of a file lies behind the first.
    fn tell(&self, file: usize, piece: u64) {
        let Some(progress) = self.stack.options.progress else { return };
        let files = &self.stack.files;
        let bytes = |files: &[Stacked]| files.iter().map(|f| f.rows.bytes()).sum::<u64>();
        let before = bytes(&files[..file.min(files.len())]);
        let here = files.get(file).map_or(0, |f| {
            let pieces = f.rows.pieces(self.stack.options.piece_bytes).max(1) as u128;
            let read = u128::from(f.rows.bytes()) * u128::from(piece).min(pieces) / pieces;
            read as u64
        });
        progress(before + here, bytes(files));
    }

    /// Fills the columns that no file holds.
    fn fill(&self, file: usize, batch: &mut Batch) {
        let stack = self.stack;
        let (stacked, states) = (&stack.files[file], stack.location());
        for (&scanned, out) in self.scanned.iter().zip(&mut batch.columns) {
            if scanned == states {
                let code = out.dictionary.intern(&stacked.name);
                out.data = Data::Codes(vec![code; batch.rows]);
            } else if scanned == states + 1 && stacked.rows.counted() != Counted::RowsOfGroups {
                out.data = Data::I64(vec![MISSING_I64; batch.rows]);
            } else if scanned < states && stacked.order[scanned].is_none() {
                let state = &stack.columns.states()[scanned];
                let reading = stack.columns.reading(scanned, file);
                let mut reader = ColumnReader::new(reading, state.missing.clone());
                reader.prepare(out);
                let key = stacked.keys.iter().find(|(column, _)| *column == scanned);
                match key {
                    Some((_, text)) => repeat(&mut reader, text, batch.rows, out),
                    None => reader.lack(batch.rows, out),
                }
            }
        }
    }
}

/// Fills a column with one value, from its text.
fn repeat(reader: &mut ColumnReader, text: &str, rows: usize, out: &mut Column) {
    let ends = [text.len() as u32, text.len() as u32 + 1];
    let mut data = text.as_bytes().to_vec();
    data.extend(b"\n\n");
    let kept = Kept::all(2);
    let records = Records { starts: &[0], ..Records::written(&data, &ends, &kept) };
    // The text was looked at when the kind was guessed, and kinds only grow.
    let read = reader.read(&records, 0, out).is_ok() && out.data.len() == 1;
    let missing = !read || out.data.is_missing(0);
    match read {
        true => out.data = out.data.gather(&vec![0; rows]),
        false => reader.lack(rows, out),
    }
    out.marks.clear();
    if missing {
        (0..rows as u32).for_each(|row| out.marks.put(row, Mark::Lacking));
    }
}

/// One of the readers of a pass.
struct StackReader<'a> {
    pass: Arc<StackPass<'a>>,
    file: usize,
    /// The reader of that file, once begun.
    reader: Option<Box<dyn FileReader + 'a>>,
    piece: u64,
    /// What was passed over in the files before.
    account: Account,
}

impl Reader for StackReader<'_> {
    fn next(&mut self, batch: &mut Batch) -> Result<bool, ReadError> {
        loop {
            let reader = match &mut self.reader {
                Some(reader) => reader,
                None => {
                    let pass = &self.pass;
                    if self.file >= pass.files.len() || pass.stop.load(Ordering::Acquire) {
                        return Ok(false);
                    }
                    self.piece = (self.file as u64) << PIECE_BITS;
                    let begun = pass.reader(self.file);
                    if begun.is_err() {
                        pass.stop.store(true, Ordering::Release);
                    }
                    self.reader.insert(begun?)
                }
            };
            batch.columns.resize_with(self.pass.scanned.len(), Column::default);
            let read = reader.next(batch);
            self.piece = (self.file as u64) << PIECE_BITS | reader.piece();
            match read {
                Ok(true) => {
                    let piece = reader.piece();
                    batch.piece = self.piece;
                    self.pass.fill(self.file, batch);
                    self.pass.tell(self.file, piece);
                    return Ok(true);
                }
                Ok(false) => {
                    self.account.add(reader.account());
                    self.reader = None;
                    self.file += 1;
                    self.pass.tell(self.file, 0);
                }
                Err(error) => {
                    self.pass.stop.store(true, Ordering::Release);
                    return Err(error);
                }
            }
        }
    }

    fn piece(&self) -> u64 {
        self.piece
    }

    fn account(&self) -> Account {
        let mut account = self.account;
        if let Some(reader) = &self.reader {
            account.add(reader.account());
        }
        account
    }

    fn begin_texts_anew(&mut self, column: &mut Column) -> bool {
        let may = self.reader.as_ref().is_some_and(|reader| !reader.remembers_codes());
        if may {
            column.dictionary = Dictionary::default();
        }
        may
    }
}

impl Input for Stack {
    fn learn(&mut self) -> Result<(), ReadError> {
        match self.columns.learn() {
            Some(Learnt::Encoding(file, shown)) => self.files[file].rows.decode_anew(shown),
            Some(Learnt::Columns) => self.look_for_columns(),
            None => Ok(()),
        }
    }

    fn look_for_columns(&mut self) -> Result<(), ReadError> {
        for file in &mut self.files {
            file.rows.look_for_columns()?;
        }
        self.stack_again()
    }

    fn knows_its_columns(&self) -> bool {
        self.files.iter().all(|f| f.rows.knows_its_columns())
    }

    fn looks_like(&self, text: &str) -> &'static str {
        self.columns.looks_like(text)
    }

    fn warnings(&self) -> Vec<(String, String)> {
        self.columns.warnings()
    }

    fn counts_rows(&self) -> bool {
        self.counted() != Counted::Lines
    }

    fn facts(&self, columns: &[usize]) -> Facts {
        Facts {
            files: self.file_facts(|_| true),
            of_columns: columns.iter().flat_map(|&column| self.columns.facts(column)).collect(),
            of_files: self.files.iter().flat_map(|f| f.rows.notes(&self.options)).collect(),
        }
    }

    fn rows_whole(&self) -> Result<(Vec<Column>, Vec<u64>), ReadError> {
        let infos = Source::columns(self);
        let mut wanted: Vec<usize> = (0..self.location()).collect();
        if self.names_files {
            wanted.push(self.location());
        }
        wanted.push(self.location() + 2);
        let mut out: Vec<Column> =
            infos.iter().map(|c| Column::from(Data::empty(c.kind))).collect();
        let mut numbers = Vec::new();
        let mut batch = Batch::default();
        // One reader, which keeps the codes of its texts from batch to batch.
        for mut reader in self.scan(&wanted, 1)? {
            while reader.next(&mut batch)? {
                for (to, from) in out.iter_mut().zip(&batch.columns) {
                    to.append(from);
                }
                if let Some(Data::I64(of_rows)) = batch.columns.last().map(|c| &c.data) {
                    numbers.extend(of_rows.iter().map(|&n| n as u64));
                }
            }
        }
        for (to, from) in out.iter_mut().zip(&mut batch.columns) {
            to.dictionary = std::mem::take(&mut from.dictionary);
        }
        // What was read of rows that have changed, or broke off, means nothing.
        self.ensure_unchanged()?;
        let all: Vec<usize> = (0..self.location()).collect();
        self.ensure_sound(&all)?;
        Ok((out, numbers))
    }
}
