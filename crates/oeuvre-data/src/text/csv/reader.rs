//! One pass over a file by several readers.
//!
//! The file is cut into pieces of equal size, which readers claim in order. A record belongs to the
//! piece that its first byte lies in. Whether a piece starts inside quotes follows from the number of
//! quotes before it, which readers pass on from piece to piece. So as not to wait for it, a reader
//! first takes its piece to start outside quotes and finds the marks; the records that it finds hold
//! an even number of quotes, so that only those at both ends of the piece are left to count. When the
//! number arrives and the piece turns out to start inside quotes, its marks are found again. Nothing is
//! ever read on a guess alone.
//!
//! The bytes of a compressed file are read while they still come: a reader waits for those of its piece.

use super::CsvFile;
use super::marks::{self, Found, Marks};
use super::pattern::Pattern;
use crate::file_rows::{FilePass, FileReader, Want, Wanted};
use crate::options::Uneven;
use crate::passed::Passed;
use crate::text::columns::{ColumnReader, Trouble};
use crate::text::records::{Kept, Records};
use crate::text::trouble::{Place, told};
use oeuvre_columns::column::{Batch, Column, Data};
use oeuvre_columns::instructions::Level;
use oeuvre_columns::{Account, DataProblem, ReadError};
use std::ops::Range;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};

/// What readers of one pass share.
struct Shared<'a> {
    file: &'a CsvFile,
    wanted: Wanted<'a>,
    level: Level,
    /// The marks around the wanted columns, where these are few; as long as records are as long as the headings.
    few: Option<(Kept, Pattern)>,
    next: AtomicUsize,
    /// For each piece, as far as is known, whether it starts inside quotes.
    inside: Mutex<Vec<Option<bool>>>,
    /// Told when another piece is known.
    known: Condvar,
    passed: Passed,
    /// A reader found a problem; pieces not yet claimed come after it.
    stop: AtomicBool,
    /// The lines before each piece, counted as far as lines are asked for.
    lines: Mutex<Vec<u64>>,
}

/// A pass over a file.
pub(super) struct Pass<'a>(Arc<Shared<'a>>);

impl<'a> Pass<'a> {
    pub(super) fn new(file: &'a CsvFile, wanted: Wanted<'a>) -> Pass<'a> {
        Pass(Arc::new(Shared {
            file,
            level: wanted.options.instructions.level(),
            few: few_marks(file.headings.len(), &wanted.wants),
            wanted,
            next: AtomicUsize::new(0),
            inside: Mutex::new(vec![Some(false)]),
            known: Condvar::new(),
            passed: Passed::new(&file.opened.bytes, file.body),
            stop: AtomicBool::new(false),
            lines: Mutex::new(vec![line_of(file.opened.bytes.head(file.body), file.body)]),
        }))
    }
}

/// Which marks to keep of each record for what is wanted; `None` for all.
fn few_marks(width: usize, wants: &[Want]) -> Option<(Kept, Pattern)> {
    let places = wants.iter().filter_map(|want| match want {
        Want::Values { place, .. } => Some(*place),
        _ => None,
    });
    let starts = wants.iter().any(|want| matches!(want, Want::Number));
    let kept = Kept::around(width, places, starts);
    // A lone field may be a blank line, which is no record.
    let are_few = width > 1 && kept.stride() * 4 <= width * 3;
    are_few.then(|| {
        let pattern = Pattern::new(width, &kept);
        (kept, pattern)
    })
}

impl<'a> FilePass<'a> for Pass<'a> {
    fn reader(&self) -> Box<dyn FileReader + 'a> {
        let wanted = &self.0.wanted;
        let reader = |want: &Want| match want {
            Want::Values { column, .. } => {
                let missing = wanted.columns.states()[*column].missing.clone();
                Some(ColumnReader::new(wanted.columns.reading(*column, wanted.file), missing))
            }
            _ => None,
        };
        Box::new(PieceReader {
            readers: wanted.wants.iter().map(reader).collect(),
            few: false,
            pause: Pause::default(),
            shared: self.0.clone(),
            marks: Marks::default(),
            piece: 0,
            account: Account::default(),
            pending: None,
        })
    }
}

fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl<'a> Shared<'a> {
    /// Where a piece begins.
    fn from(&self, piece: usize) -> usize {
        self.file.body + piece * self.wanted.options.piece_bytes
    }

    /// The lines on which the records of a piece start, from 1; `start` is where the first one does.
    fn lines(&self, piece: usize, start: usize, bytes: &[u8], records: &Records<'_>) -> Vec<i64> {
        let count =
            |range: Range<usize>| bytes[range].iter().filter(|&&b| b == b'\n').count() as u64;
        let before = {
            let mut lines = locked(&self.lines);
            while lines.len() <= piece {
                let p = lines.len() - 1;
                let line = lines[p] + count(self.from(p)..self.from(p + 1));
                lines.push(line);
            }
            lines[piece]
        };
        let mut line = before + count(self.from(piece)..start);
        let mut at = 0;
        (0..records.rows())
            .map(|row| {
                let start = records.start(row);
                line += records.data[at..start].iter().filter(|&&b| b == b'\n').count() as u64;
                at = start;
                line as i64
            })
            .collect()
    }

    /// The next piece: its number, and the bytes in which its records start.
    fn claim(&self) -> Option<(usize, Range<usize>)> {
        if self.stop.load(Ordering::Acquire) {
            return None;
        }
        let piece = self.next.fetch_add(1, Ordering::Relaxed);
        let from = self.from(piece);
        let to = from + self.wanted.options.piece_bytes;
        let there = self.file.opened.bytes.head(to).len();
        (from < there).then(|| (piece, from..to.min(there)))
    }

    /// Whether a piece starts inside quotes, when that is known already.
    fn known_inside(&self, piece: usize) -> Option<bool> {
        locked(&self.inside).get(piece).copied().flatten()
    }

    /// Whether a piece starts inside quotes. `odd` says whether the number of quotes in it is odd,
    /// and is passed on to the piece after it.
    fn starts_inside(&self, piece: usize, odd: bool) -> bool {
        let mut inside = locked(&self.inside);
        let starts = loop {
            match inside.get(piece).copied().flatten() {
                Some(known) => break known,
                // The reader of the piece before has claimed it already, and will say.
                None => {
                    inside = self.known.wait(inside).unwrap_or_else(PoisonError::into_inner);
                }
            }
        };
        if inside.len() <= piece + 1 {
            inside.resize(piece + 2, None);
        }
        inside[piece + 1] = Some(starts ^ odd);
        self.known.notify_all();
        starts
    }
}

/// A reader of one pass.
struct PieceReader<'a> {
    shared: Arc<Shared<'a>>,
    /// One for each column of values that is wanted.
    readers: Vec<Option<ColumnReader>>,
    marks: Marks,
    /// Whether only few marks of each record were looked for.
    few: bool,
    /// When to look for few again.
    pause: Pause,
    piece: u64,
    account: Account,
    /// A problem behind the records of the last batch.
    pending: Option<ReadError>,
}

/// Where records are of another length, it costs time to look for few marks: that is not done again at once. A piece
/// may also have been taken to start outside quotes when it did not.
#[derive(Default)]
struct Pause {
    left: u32,
    length: u32,
}

impl Pause {
    /// The longest.
    const MOST: u32 = 64;

    fn is_over(&mut self) -> bool {
        let is_over = self.left == 0;
        self.left = self.left.saturating_sub(1);
        is_over
    }

    /// Makes another one, twice as long as the one before.
    fn again(&mut self) {
        self.length = (self.length * 2).clamp(1, Pause::MOST);
        self.left = self.length;
    }

    /// All was as it should be.
    fn end(&mut self) {
        self.length = 0;
    }
}

/// Records that start in a piece: where the first does, and what was found.
type Marked = Option<(usize, Found)>;

impl PieceReader<'_> {
    /// Reads the records of a piece into the batch; false when none starts in it.
    fn fill(&mut self, range: Range<usize>, batch: &mut Batch) -> bool {
        let shared = self.shared.clone();
        let file = shared.file;
        let (bytes, marked) = self.mark_as_it_starts(file, &range);
        let Some((start, found)) = marked else { return false };
        let rest = until_limit(&bytes[start..]);
        // What is wrong further on is told when the records before it have been taken: so that of
        // several problems the first is told, wherever the pieces are cut.
        let ends = match found {
            Found::Records { next, .. } if next == rest.len() && start + next < bytes.len() => {
                let message = "this record is longer than 4 GiB";
                let it = DataProblem::in_file(file.name.clone(), message);
                self.pending = Some(it.at_line(line_of(bytes, start)).into());
                None
            }
            Found::Records { ends, .. } => Some(ends),
            _ => {
                self.pending = Some(problem_at(&file.name, bytes, start, &found));
                None
            }
        };
        let (mut kept, mut piece) = (&file.all, Regular::default());
        match &shared.few {
            // These are of records that are all as long as they should be.
            Some((few, _)) if self.few => kept = few,
            _ => {
                let (width, uneven) = (file.headings.len(), shared.wanted.options.uneven);
                piece = regular(rest, &mut self.marks, ends, width, uneven);
            }
        }
        if let Some((at, fields)) = piece.bad {
            self.pending = Some(ragged_record(file, bytes, start + at, fields));
        }
        self.account.unreadable += piece.skipped;
        self.account.padded += piece.padded;
        let records = Records {
            data: rest,
            quote: file.dialect.quote,
            marks: &self.marks,
            kept,
            starts: &piece.starts,
            level: shared.level,
        };
        batch.rows = records.rows();
        let lines = || shared.lines(self.piece as usize, start, bytes, &records);
        let first = read_columns(&shared.wanted.wants, &mut self.readers, &records, batch, lines);
        if let Some((row, column, trouble)) = first {
            let line = line_of(bytes, start + trouble.place());
            let place = Place { file: &file.name, line, in_rows: false, piece: self.piece, column };
            self.pending = Some(told(trouble, place, &shared.wanted, file.encoding.is_some()));
            batch.keep_first(row as usize);
        }
        batch.rows > 0
    }

    /// Finds the marks of the records that start in a piece, as it starts inside quotes or outside.
    fn mark_as_it_starts<'b>(
        &mut self,
        file: &'b CsvFile,
        range: &Range<usize>,
    ) -> (&'b [u8], Marked) {
        let shared = self.shared.clone();
        let piece = self.piece as usize;
        let guess = shared.known_inside(piece).unwrap_or(false);
        let (bytes, marked) = self.mark(file, range, guess);
        let Some(quote) = file.dialect.quote else { return (bytes, marked) };
        let odd = match &marked {
            Some((start, Found::Records { next, .. })) => {
                // The records between hold an even number.
                let next = start + next;
                marks::odd_quotes(&bytes[range.start..*start], quote, shared.level)
                    ^ marks::odd_quotes(&bytes[range.end..next.max(range.end)], quote, shared.level)
            }
            _ => marks::odd_quotes(&bytes[range.clone()], quote, shared.level),
        };
        let inside = shared.starts_inside(piece, odd);
        if inside == guess { (bytes, marked) } else { self.mark(file, range, inside) }
    }

    /// Finds the marks of the records that start in a range, with the bytes that it has looked at.
    fn mark<'b>(
        &mut self,
        file: &'b CsvFile,
        range: &Range<usize>,
        inside: bool,
    ) -> (&'b [u8], Marked) {
        let all = &file.opened.bytes;
        // The last record may end far behind the piece, where the bytes have not come yet.
        let mut beyond = 1 << 16;
        loop {
            let bytes = all.head(range.end + beyond);
            let whole = bytes.len() < range.end + beyond || all.is_whole();
            let bytes = if whole { all.head(usize::MAX) } else { bytes };
            let start = if range.start == file.body {
                range.start
            } else {
                match first_record(bytes, range, inside, file.dialect.quote) {
                    Some(start) => start,
                    None => return (bytes, None),
                }
            };
            let rest = until_limit(&bytes[start..]);
            let found = self.scan(file, rest, range.end - start);
            match found {
                Found::Records { next, .. } if next < rest.len() => {}
                _ if whole => {}
                _ => {
                    beyond *= 4;
                    continue;
                }
            }
            return (bytes, Some((start, found)));
        }
    }

    /// Finds the marks of the records that start before `until`: few of each, or all.
    fn scan(&mut self, file: &CsvFile, data: &[u8], until: usize) -> Found {
        let (dialect, level) = (file.dialect, self.shared.level);
        self.few = false;
        if let Some((_, pattern)) = &self.shared.few
            && self.pause.is_over()
        {
            let found = marks::scan_for(data, until, dialect, level, pattern, &mut self.marks);
            self.few = found.is_some();
            match found {
                Some(found) => {
                    self.pause.end();
                    return found;
                }
                None => self.pause.again(),
            }
        }
        marks::scan(data, until, dialect, level, &mut self.marks)
    }
}

/// Reads the columns of some records; of what is wrong the first, with its row and its column in the stack.
fn read_columns(
    wants: &[Want],
    readers: &mut [Option<ColumnReader>],
    records: &Records<'_>,
    batch: &mut Batch,
    lines: impl Fn() -> Vec<i64>,
) -> Option<(u32, usize, Trouble)> {
    let mut first: Option<(u32, usize, Trouble)> = None;
    for ((want, reader), out) in wants.iter().zip(readers).zip(&mut batch.columns) {
        match (want, reader) {
            (Want::Values { column, place }, Some(reader)) => {
                reader.prepare(out);
                if let Err((row, trouble)) = reader.read(records, *place, out)
                    && first.as_ref().is_none_or(|f| (row, trouble.place()) < (f.0, f.2.place()))
                {
                    first = Some((row, *column, trouble));
                }
            }
            (Want::Number, _) => out.data = Data::I64(lines()),
            // The stack fills it.
            _ => *out = Column { data: Data::I64(Vec::new()), ..std::mem::take(out) },
        }
    }
    first
}

/// Marks are 32-bit numbers: one piece with its last record reaches at most so far.
fn until_limit(data: &[u8]) -> &[u8] {
    &data[..data.len().min(u32::MAX as usize - 64)]
}

impl FileReader for PieceReader<'_> {
    fn next(&mut self, batch: &mut Batch) -> Result<bool, ReadError> {
        loop {
            if let Some(error) = self.pending.take() {
                return Err(error);
            }
            let Some((piece, range)) = self.shared.claim() else { return Ok(false) };
            self.piece = piece as u64;
            let some = self.fill(range.clone(), batch);
            self.shared.passed.done(&self.shared.file.opened.bytes, range);
            if self.pending.is_some() {
                self.shared.stop.store(true, Ordering::Release);
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

/// Where the first record starts in a range that does not begin a file.
fn first_record(
    bytes: &[u8],
    range: &Range<usize>,
    inside: bool,
    quote: Option<u8>,
) -> Option<usize> {
    let mut inside = inside;
    if !inside && bytes[range.start - 1] == b'\n' {
        return Some(range.start);
    }
    for at in range.clone() {
        let byte = bytes[at];
        if Some(byte) == quote {
            inside = !inside;
        } else if byte == b'\n' && !inside {
            return (at + 1 < range.end).then_some(at + 1);
        }
    }
    None
}

/// What was done to make records regular.
#[derive(Debug, Default)]
pub(super) struct Regular {
    /// Where each record starts, when some were blank or of another length; else empty.
    pub(super) starts: Vec<u32>,
    pub(super) skipped: u64,
    pub(super) padded: u64,
    /// Where a record of another length starts, and how many fields it has: the records end there.
    pub(super) bad: Option<(usize, usize)>,
}

/// Makes sure that each record has `width` marks. Blank lines are no records. When all records are
/// regular, which is the rule, this only looks at the end of each: `ends` says how many marks end
/// one, or is `None` when something is wrong further on.
pub(super) fn regular(
    data: &[u8],
    marks: &mut Marks,
    ends: Option<usize>,
    width: usize,
    uneven: Uneven,
) -> Regular {
    let is_end = |mark: u32| data.get(mark as usize).is_none_or(|&b| b == b'\n');
    // With as many ends as records, none can lie inside one.
    let even = ends.is_some_and(|ends| marks.len() == ends * width)
        && marks.iter().skip(width - 1).step_by(width).all(|&m| is_end(m));
    let mut done = Regular::default();
    if even && width > 1 {
        return done;
    }
    let mut kept = Vec::with_capacity(marks.len());
    let mut start = 0usize;
    let mut first = 0;
    for i in 0..marks.len() {
        if !is_end(marks[i]) {
            continue;
        }
        let (fields, end) = (i + 1 - first, marks[i] as usize);
        let record = &marks[first..=i];
        let blank = fields == 1 && matches!(data[start..end], [] | [b'\r']);
        if !blank && fields == width {
            kept.extend_from_slice(record);
            done.starts.push(start as u32);
        } else if !blank && uneven == Uneven::Blank && fields < width {
            // The carriage return belongs to the line end, not to the last field there is.
            let returns = usize::from(end > start && data[end - 1] == b'\r');
            kept.extend_from_slice(&record[..fields - 1]);
            kept.extend(std::iter::repeat_n((end - returns) as u32, width + 1 - fields));
            done.starts.push(start as u32);
            done.padded += 1;
        } else if !blank && uneven == Uneven::LeaveOut {
            done.skipped += 1;
        } else if !blank {
            done.bad = Some((start, fields));
            break;
        }
        first = i + 1;
        start = end + 1;
    }
    marks.replace(kept);
    done
}

/// The line of a byte, from 1.
pub(super) fn line_of(bytes: &[u8], at: usize) -> u64 {
    1 + bytes[..at.min(bytes.len())].iter().filter(|&&b| b == b'\n').count() as u64
}

fn ragged_record(file: &CsvFile, bytes: &[u8], at: usize, fields: usize) -> ReadError {
    let plural = if fields == 1 { "field" } else { "fields" };
    let width = file.headings.len();
    let message = format!("this record has {fields} {plural}, the headings are {width}");
    let mut it = DataProblem::in_file(file.name.clone(), message).at_line(line_of(bytes, at));
    if fields < width {
        it = it.help("--uneven blank takes what lacks as missing");
    } else {
        it = it.help("a field that holds the separator must be in quotes");
    }
    if let Some(help) = &file.title_help {
        it = it.help(help);
    }
    it.help("--uneven leave-out leaves such records out, and counts them").into()
}

/// The error for quotes that are not right.
pub(super) fn problem_at(name: &str, bytes: &[u8], start: usize, found: &Found) -> ReadError {
    match found {
        Found::StrayQuote(at) => {
            let at = start + at;
            let from =
                bytes[..at].iter().rposition(|&b| b == b'\n' || b == b',').map_or(0, |p| p + 1);
            let to = bytes[at..].iter().position(|&b| b == b'\n').map_or(bytes.len(), |p| at + p);
            let shown =
                String::from_utf8_lossy(&bytes[from.max(at.saturating_sub(20))..to.min(at + 20)]);
            let message = format!("a quote inside a field, near {}", shown.escape_debug());
            DataProblem::in_file(name, message)
                .at_line(line_of(bytes, at))
                .help("inside a quoted field a quote is written twice: \"5\"\" pipe\"")
                .help("--quote none takes quotes as ordinary characters")
                .into()
        }
        _ => {
            // The quote that was opened last, counted from a place that is outside quotes.
            let open = bytes[start..].iter().rposition(|&b| b == b'"').map_or(start, |p| start + p);
            DataProblem::in_file(name, "a quoted field does not end")
                .at_line(line_of(bytes, open))
                .help("the closing quote is missing")
                .help("--quote none takes quotes as ordinary characters")
                .into()
        }
    }
}

#[cfg(test)]
mod tests {
    use crate::open;
    use crate::options::{Forced, ReadOptions, Uneven};
    use oeuvre_columns::column::Batch;
    use oeuvre_columns::{Kind, ReadError, Reader, Value};
    use proptest::prelude::*;
    use rstest::rstest;
    use std::io::Write;

    type Rows = Vec<Vec<String>>;

    /// All rows of a file as texts, in pieces of so many bytes; a missing value is an empty text.
    fn rows(
        bytes: &[u8],
        piece_bytes: usize,
        readers: usize,
        uneven: Uneven,
    ) -> Result<Rows, ReadError> {
        let columns =
            bytes.split(|&b| b == b'\n').next().map_or(1, |l| l.split(|&b| b == b',').count());
        let all: Vec<usize> = (0..columns).collect();
        rows_of(bytes, piece_bytes, readers, uneven, &all)
    }

    /// As [`rows`], of some of the columns.
    fn rows_of(
        bytes: &[u8],
        piece_bytes: usize,
        readers: usize,
        uneven: Uneven,
        wanted: &[usize],
    ) -> Result<Rows, ReadError> {
        let mut file = tempfile::NamedTempFile::new().unwrap();
        file.write_all(bytes).unwrap();
        let columns =
            bytes.split(|&b| b == b'\n').next().map_or(1, |l| l.split(|&b| b == b',').count());
        let options = ReadOptions {
            separator: Some(b','),
            uneven,
            kinds: (0..columns).map(|i| (format!("h{i}"), Forced::Text)).collect(),
            missing: Vec::new(),
            piece_bytes,
            ..ReadOptions::default()
        };
        let source = open(&[file.path().display().to_string()], options)?;
        let read = |mut reader: Box<dyn Reader + '_>| {
            let (mut batch, mut out) = (Batch::default(), Vec::new());
            let error = loop {
                match reader.next(&mut batch) {
                    Ok(true) => {}
                    Ok(false) => break None,
                    Err(error) => break Some((reader.piece(), error)),
                }
                let text = |row: usize, c: usize| match batch.columns[c].value(Kind::Text, row) {
                    Value::Text(text) => text.to_string(),
                    _ => String::new(),
                };
                let columns = 0..wanted.len();
                let rows =
                    (0..batch.rows).map(|row| columns.clone().map(|c| text(row, c)).collect());
                out.push((batch.piece, rows.collect::<Rows>()));
            };
            (out, error)
        };
        let mut pieces = Vec::new();
        let mut problem: Option<(u64, ReadError)> = None;
        std::thread::scope(|scope| {
            let readers = source.scan(wanted, readers).unwrap();
            let handles: Vec<_> =
                readers.into_iter().map(|reader| scope.spawn(|| read(reader))).collect();
            for (out, error) in handles.into_iter().map(|h| h.join().unwrap()) {
                pieces.extend(out);
                if let Some(error) = error
                    && problem.as_ref().is_none_or(|p| error.0 < p.0)
                {
                    problem = Some(error);
                }
            }
        });
        pieces.sort_by_key(|(piece, _)| *piece);
        match problem {
            Some((_, error)) => Err(error),
            None => Ok(pieces.into_iter().flat_map(|(_, rows)| rows).collect()),
        }
    }

    fn table() -> impl Strategy<Value = (Rows, bool, bool, bool)> {
        let field = "[ab,\"\n\r é]{0,4}";
        let rows = (1usize..4).prop_flat_map(move |width| {
            prop::collection::vec(prop::collection::vec(field, width), 0..6)
        });
        (rows, any::<bool>(), any::<bool>(), any::<bool>())
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(48))]

        /// Whatever a plain writer writes and a plain reader reads, this one reads, wherever it is cut.
        #[test]
        fn a_file_cut_at_every_byte_is_what_a_plain_reader_reads((table, all_quoted, crlf, ended) in table()) {
            let width = table.first().map_or(2, Vec::len);
            let mut writer = csv::WriterBuilder::new()
                .quote_style(if all_quoted { csv::QuoteStyle::Always } else { csv::QuoteStyle::Necessary })
                .terminator(if crlf { csv::Terminator::CRLF } else { csv::Terminator::Any(b'\n') })
                .from_writer(Vec::new());
            let mut bytes: Vec<u8> = (0..width).map(|i| format!("h{i}")).collect::<Vec<_>>().join(",").into();
            bytes.push(b'\n');
            table.iter().for_each(|row| writer.write_record(row).unwrap());
            bytes.extend(writer.into_inner().unwrap());
            if !ended && !table.is_empty() {
                bytes.truncate(bytes.len() - if crlf { 2 } else { 1 });
            }
            let plain: Rows = csv::Reader::from_reader(bytes.as_slice())
                .records()
                .map(|record| record.unwrap().iter().map(str::to_owned).collect())
                .collect();
            prop_assert_eq!(&plain, &table);
            // A field of nothing but blanks is missing.
            let text = |field: &String| match field.trim() {
                "" => String::new(),
                _ => field.clone(),
            };
            let expected: Rows = plain.iter().map(|row| row.iter().map(text).collect()).collect();
            for piece_bytes in 1..=bytes.len() {
                for readers in [1, 3] {
                    let read = rows(&bytes, piece_bytes, readers, Uneven::Stop).unwrap();
                    prop_assert_eq!(&read, &expected, "pieces of {} bytes, {} readers", piece_bytes, readers);
                    // Of one column in three the marks of the others are passed over.
                    if let Some(last) = table.first().map(|row| row.len() - 1) {
                        let read = rows_of(&bytes, piece_bytes, readers, Uneven::Stop, &[last]).unwrap();
                        let expected: Rows = expected.iter().map(|row| vec![row[last].clone()]).collect();
                        prop_assert_eq!(&read, &expected, "the last of pieces of {} bytes", piece_bytes);
                    }
                }
            }
        }
    }

    #[rstest]
    // Too short, too long, a quote inside a field, a quote that is not closed: the first one is told, with its line.
    #[case("h0,h1\na,b\nc\nd\"e,f\n", "this record has 1 field, the headings are 2", 3)]
    #[case("h0,h1\na,b\nc,d,e\nf\n", "this record has 3 fields, the headings are 2", 3)]
    #[case("h0,h1\na,b\n\"c\nc\",d\"\nf\n", "a quote inside a field, near d\\\"", 4)]
    #[case("h0,h1\n\"a\na\",b\n\"c,d\n", "a quoted field does not end", 4)]
    fn the_first_problem_is_told_wherever_a_file_is_cut(
        #[case] text: &str,
        #[case] message: &str,
        #[case] line: u64,
        #[values(1, 3)] readers: usize,
    ) {
        for piece_bytes in 1..=text.len() {
            match rows(text.as_bytes(), piece_bytes, readers, Uneven::Stop) {
                Err(ReadError::Problem(problem)) => {
                    assert_eq!((problem.message.as_str(), problem.line), (message, Some(line)));
                }
                other => panic!("pieces of {piece_bytes} bytes: {other:?}"),
            }
        }
    }

    #[rstest]
    fn what_the_last_record_lacks_is_missing(#[values("x,a", "x,a\n,a\nx,a")] before: &str) {
        // The field that is not there stands behind the data, where texts are known already.
        let text = format!("h0,h1\n{before}\na");
        for piece_bytes in 1..=text.len() {
            let read = rows(text.as_bytes(), piece_bytes, 1, Uneven::Blank).unwrap();
            assert_eq!(read.last().unwrap(), &["a", ""]);
        }
    }

    #[rstest]
    #[case(Uneven::LeaveOut, &[["a", "b"], ["f", ""]])]
    #[case(Uneven::Blank, &[["a", "b"], ["c", ""], ["f", ""]])]
    fn uneven_records_are_left_out_or_padded(
        #[case] uneven: Uneven,
        #[case] expected: &[[&str; 2]],
        #[values("\n", "\r\n")] end: &str,
    ) {
        let text = ["h0,h1", "a,b", "c", "", "f,", ""].join(end);
        for piece_bytes in 1..=text.len() {
            assert_eq!(rows(text.as_bytes(), piece_bytes, 2, uneven).unwrap(), expected);
        }
    }
}
