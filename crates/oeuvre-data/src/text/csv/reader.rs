//! One pass over the files by several readers.
//!
//! The files are cut into pieces of equal size, which readers claim in order. A record belongs to the
//! piece that its first byte lies in. Whether a piece starts inside quotes follows from the number of
//! quotes before it, which readers pass on from piece to piece. So as not to wait for it, a reader
//! first takes its piece to start outside quotes and finds the marks; the records that it finds hold
//! an even number of quotes, so that only those at both ends of the piece are left to count. When the
//! number arrives and the piece turns out to start inside quotes, its marks are found again. Nothing is
//! ever read on a guess alone.

use super::columns::{ColumnReader, Trouble};
use super::marks::{self, Found, Marks};
use super::records::Records;
use super::{CsvSource, FileData, Uneven};
use crate::kinds::Finding;
use crate::options::Forced;
use oeuvre_columns::column::{Batch, Column, Data};
use oeuvre_columns::{Account, DataProblem, ReadError, Reader};
use std::sync::atomic::{AtomicBool, AtomicU8, AtomicUsize, Ordering};
use std::sync::{Arc, OnceLock};

/// What readers of one pass share.
pub(super) struct Pass<'a> {
    files: &'a [FileData],
    piece_bytes: usize,
    /// The number of each file's first piece, and of all pieces.
    firsts: Vec<usize>,
    next: AtomicUsize,
    /// For each piece: 0 unknown, 2 it starts outside quotes, 3 inside.
    states: Vec<AtomicU8>,
    /// A reader found a problem; pieces not yet claimed come after it.
    stop: AtomicBool,
    readers: AtomicUsize,
    /// The line breaks in each piece, counted when lines are asked for.
    breaks: Vec<OnceLock<u64>>,
}

impl<'a> Pass<'a> {
    pub(super) fn new(files: &'a [FileData], piece_bytes: usize) -> Pass<'a> {
        let mut firsts = vec![0];
        for file in files {
            let bytes = file.opened.bytes.len() - file.body;
            firsts.push(firsts[firsts.len() - 1] + bytes.div_ceil(piece_bytes));
        }
        let pieces = firsts[files.len()];
        let states: Vec<AtomicU8> = (0..=pieces).map(|_| AtomicU8::new(0)).collect();
        for &first in &firsts {
            states[first].store(2, Ordering::Relaxed);
        }
        Pass {
            files,
            piece_bytes,
            firsts,
            next: AtomicUsize::new(0),
            states,
            stop: AtomicBool::new(false),
            readers: AtomicUsize::new(1),
            breaks: (0..pieces).map(|_| OnceLock::new()).collect(),
        }
    }

    /// The lines on which the records of a piece start, from 1; `start` is where the first one does.
    fn lines(&self, piece: usize, file: usize, start: usize, records: &Records<'_>) -> Vec<i64> {
        let data = &self.files[file];
        let count = |from: usize, to: usize| {
            data.opened.bytes[from..to].iter().filter(|&&b| b == b'\n').count() as u64
        };
        let from = |piece: usize| data.body + (piece - self.firsts[file]) * self.piece_bytes;
        let before: u64 = (self.firsts[file]..piece)
            .map(|p| *self.breaks[p].get_or_init(|| count(from(p), from(p + 1))))
            .sum();
        let mut line = line_of(&data.opened.bytes, data.body) + before + count(from(piece), start);
        let mut at = 0;
        (0..records.rows())
            .map(|row| {
                let start = records.field(0, row).0;
                line += records.data[at..start].iter().filter(|&&b| b == b'\n').count() as u64;
                at = start;
                line as i64
            })
            .collect()
    }

    pub(super) fn pieces(&self) -> usize {
        self.firsts[self.files.len()]
    }

    pub(super) fn set_readers(&self, readers: usize) {
        self.readers.store(readers, Ordering::Relaxed);
    }

    /// The next piece: its number, its file, and the bytes in which its records start.
    fn claim(&self) -> Option<(usize, usize, std::ops::Range<usize>)> {
        if self.stop.load(Ordering::Acquire) {
            return None;
        }
        let piece = self.next.fetch_add(1, Ordering::Relaxed);
        if piece >= self.pieces() {
            return None;
        }
        let file = self.firsts.partition_point(|&f| f <= piece) - 1;
        let data = &self.files[file];
        let from = data.body + (piece - self.firsts[file]) * self.piece_bytes;
        let to = (from + self.piece_bytes).min(data.opened.bytes.len());
        Some((piece, file, from..to))
    }

    /// Whether a piece starts inside quotes, when that is known already.
    fn known_inside(&self, piece: usize) -> Option<bool> {
        match self.states[piece].load(Ordering::Acquire) {
            0 => None,
            state => Some(state & 1 == 1),
        }
    }

    /// Whether a piece starts inside quotes. `odd` says whether the number of quotes in it is odd,
    /// and is passed on to the piece after it.
    fn starts_inside(&self, piece: usize, odd: bool) -> bool {
        let mut spins = 0u32;
        let state = loop {
            let state = self.states[piece].load(Ordering::Acquire);
            if state != 0 {
                break state;
            }
            // The reader of the piece before has claimed it already, and will say.
            spins += 1;
            if spins < 100 { std::hint::spin_loop() } else { std::thread::yield_now() }
        };
        // The first piece of the next file starts outside, whatever the end of this one.
        if !self.firsts.contains(&(piece + 1)) {
            self.states[piece + 1].store(state ^ u8::from(odd), Ordering::Release);
        }
        state & 1 == 1
    }
}

/// A reader of one pass.
pub(super) struct PieceReader<'a> {
    source: &'a CsvSource,
    pass: Arc<Pass<'a>>,
    columns: Vec<usize>,
    readers: Vec<ColumnReader>,
    /// The file that the readers are set to.
    file: usize,
    marks: Marks,
    piece: u64,
    unreadable: u64,
    padded: u64,
    /// A problem behind the records of the last batch.
    pending: Option<ReadError>,
}

impl<'a> PieceReader<'a> {
    pub(super) fn new(
        source: &'a CsvSource,
        pass: Arc<Pass<'a>>,
        columns: &[usize],
    ) -> PieceReader<'a> {
        let readers = columns
            .iter()
            .map(|&c| source.column_reader(c.min(source.columns.states().len() - 1)))
            .collect();
        PieceReader {
            source,
            pass,
            columns: columns.to_vec(),
            readers,
            file: 0,
            marks: Marks::default(),
            piece: 0,
            unreadable: 0,
            padded: 0,
            pending: None,
        }
    }

    /// Reads the records of a piece into the batch; false when none starts in it.
    fn fill(
        &mut self,
        file: usize,
        range: std::ops::Range<usize>,
        batch: &mut Batch,
    ) -> Result<bool, ReadError> {
        let data = &self.source.files[file];
        if file != self.file {
            self.file = file;
            for (reader, &column) in self.readers.iter_mut().zip(&self.columns) {
                if column < self.source.columns.states().len() {
                    reader.reading = self.source.columns.reading(column, file);
                }
            }
        }
        let bytes = &data.opened.bytes[..];
        let marked = self.mark_as_it_starts(data, range);
        let Some((start, found)) = marked else { return Ok(false) };
        let rest = until_limit(&bytes[start..]);
        // What is wrong further on is told when the records before it have been taken: so that of
        // several problems the first is told, wherever the pieces are cut.
        let ends = match found {
            Found::Records { next, .. } if next == rest.len() && start + next < bytes.len() => {
                let message = "this record is longer than 4 GiB";
                let it = DataProblem::in_file(data.name.clone(), message);
                self.pending = Some(it.at_line(line_of(bytes, start)).into());
                None
            }
            Found::Records { ends, .. } => Some(ends),
            _ => {
                self.pending = Some(problem_at(&data.name, bytes, start, &found));
                None
            }
        };
        let uneven = self.source.options.uneven;
        let piece = regular(rest, &mut self.marks, ends, data.width, uneven);
        if let Some((at, fields)) = piece.bad {
            self.pending = Some(ragged_record(data, start + at, fields));
        }
        self.unreadable += piece.skipped;
        self.padded += piece.padded;
        let records = Records {
            data: rest,
            quote: data.dialect.quote,
            marks: &self.marks,
            width: data.width,
            starts: &piece.starts,
        };
        batch.rows = records.rows();
        batch.piece = self.piece;
        batch.columns.resize_with(self.columns.len(), Column::default);
        let lines = || self.pass.lines(self.piece as usize, file, start, &records);
        let columns = (self.columns.as_slice(), self.readers.as_mut_slice());
        let first = read_columns(self.source, columns, &records, data, batch, lines);
        if let Some((row, i, trouble)) = first {
            self.pending = Some(self.error(file, start, self.columns[i], trouble));
            let before: Vec<u32> = (0..row).collect();
            batch.rows = row as usize;
            batch.columns.iter_mut().for_each(|c| c.retain(&before));
        }
        Ok(batch.rows > 0)
    }

    /// Finds the marks of the records that start in a piece, as it starts inside quotes or outside.
    fn mark_as_it_starts(
        &mut self,
        data: &FileData,
        range: std::ops::Range<usize>,
    ) -> Option<(usize, Found)> {
        let bytes = &data.opened.bytes[..];
        let piece = self.piece as usize;
        let guess = self.pass.known_inside(piece).unwrap_or(false);
        let marked = self.mark(data, &range, guess);
        let Some(quote) = data.dialect.quote else { return marked };
        let odd = match &marked {
            Some((start, Found::Records { next, .. })) => {
                // The records between hold an even number.
                let next = start + next;
                marks::odd_quotes(&bytes[range.start..*start], quote)
                    ^ marks::odd_quotes(&bytes[range.end..next.max(range.end)], quote)
            }
            _ => marks::odd_quotes(&bytes[range.clone()], quote),
        };
        let inside = self.pass.starts_inside(piece, odd);
        if inside == guess { marked } else { self.mark(data, &range, inside) }
    }

    /// Finds the marks of the records that start in a range: where the first one starts, and what was
    /// found. `None` when none starts there.
    fn mark(
        &mut self,
        data: &FileData,
        range: &std::ops::Range<usize>,
        inside: bool,
    ) -> Option<(usize, Found)> {
        let start = if range.start == data.body {
            range.start
        } else {
            first_record(&data.opened.bytes, range, inside, data.dialect.quote)?
        };
        let rest = until_limit(&data.opened.bytes[start..]);
        let found = marks::scan(rest, range.end - start, data.dialect, &mut self.marks);
        Some((start, found))
    }

    fn error(&self, file: usize, start: usize, column: usize, trouble: Trouble) -> ReadError {
        let data = &self.source.files[file];
        let name = &self.source.columns.states()[column].name;
        let line = line_of(&data.opened.bytes, start + place_of(&trouble));
        let at = |message: String| {
            DataProblem::in_file(data.name.clone(), message).at_line(line).in_column(name.clone())
        };
        match trouble {
            Trouble::Widen { to, text, .. } => {
                let reason = at(format!("'{}'", text.escape_debug()));
                let finding = Finding::Shape(to, reason);
                self.source.columns.note(self.piece, (column, file), finding);
                ReadError::Again
            }
            Trouble::OtherSign { text, .. } => {
                let reason = at(format!("'{}'", text.escape_debug()));
                let finding = Finding::OtherSign(reason);
                self.source.columns.note(self.piece, (column, file), finding);
                ReadError::Again
            }
            Trouble::NotOfType { text, .. } => {
                let forced = self.source.columns.states()[column].forced;
                let (expected, help) = match forced {
                    Some(Forced::Number) => ("a number", "if it stands for no value: --missing"),
                    Some(Forced::Date) => ("a date", "if day and month are the other way: --dates"),
                    Some(Forced::DateTime) => {
                        ("a date with a time", "expected such as 2025-03-14T09:30")
                    }
                    _ => (
                        "true or false",
                        "compare a text column with what it holds: status = 'yes'",
                    ),
                };
                let shown: String = text.chars().take(60).collect();
                let it = at(format!("'{}' is not {expected}", shown.escape_debug()));
                let help = match help {
                    "if it stands for no value: --missing" => {
                        format!("if it stands for no value: --missing '{}'", shown.escape_debug())
                    }
                    other => other.to_owned(),
                };
                it.help(help).into()
            }
            Trouble::NotUtf8 { bytes, .. }
                if self.source.options.of_file(file).encoding.is_none() =>
            {
                let text = encoding_rs::WINDOWS_1252.decode(&bytes).0;
                let finding = Finding::Encoding(at(format!("'{}'", text.escape_debug())));
                self.source.columns.note(self.piece, (column, file), finding);
                ReadError::Again
            }
            Trouble::NotUtf8 { .. } => at("the text is not valid UTF-8".into())
                .help("name the encoding, such as --encoding windows-1252")
                .into(),
        }
    }
}

/// Reads the columns of some records; of what is wrong the first, with its row and its column.
fn read_columns(
    source: &CsvSource,
    (columns, readers): (&[usize], &mut [ColumnReader]),
    records: &Records<'_>,
    data: &FileData,
    batch: &mut Batch,
    lines: impl Fn() -> Vec<i64>,
) -> Option<(u32, usize, Trouble)> {
    let mut first: Option<(u32, usize, Trouble)> = None;
    for (i, (reader, out)) in readers.iter_mut().zip(&mut batch.columns).enumerate() {
        let column = columns[i];
        if column > source.columns.states().len() {
            out.data = Data::I64(lines());
            continue;
        }
        if column == source.columns.states().len() {
            let code = out.dictionary.intern(&data.name);
            out.data = Data::Codes(vec![code; batch.rows]);
            continue;
        }
        reader.prepare(out);
        let Some(place) = data.order[column] else {
            reader.lack(batch.rows, out);
            continue;
        };
        if let Err((row, trouble)) = reader.read(records, place, out)
            && first.as_ref().is_none_or(|f| (row, place_of(&trouble)) < (f.0, place_of(&f.2)))
        {
            first = Some((row, i, trouble));
        }
    }
    first
}

/// Marks are 32-bit numbers: one piece with its last record reaches at most so far.
fn until_limit(data: &[u8]) -> &[u8] {
    &data[..data.len().min(u32::MAX as usize - 64)]
}

fn place_of(trouble: &Trouble) -> usize {
    match trouble {
        Trouble::Widen { at, .. }
        | Trouble::OtherSign { at, .. }
        | Trouble::NotOfType { at, .. }
        | Trouble::NotUtf8 { at, .. } => *at,
    }
}

impl Reader for PieceReader<'_> {
    fn next(&mut self, batch: &mut Batch) -> Result<bool, ReadError> {
        loop {
            if let Some(error) = self.pending.take() {
                return Err(error);
            }
            let Some((piece, file, range)) = self.pass.claim() else { return Ok(false) };
            self.piece = piece as u64;
            let some = self.fill(file, range, batch)?;
            if self.pending.is_some() {
                self.pass.stop.store(true, Ordering::Release);
            }
            if some {
                return Ok(true);
            }
        }
    }

    fn piece(&self) -> u64 {
        self.piece
    }

    fn account(&self) -> Account {
        Account { unreadable: self.unreadable, padded: self.padded }
    }
}

/// Where the first record starts in a range that does not begin a file.
fn first_record(
    bytes: &[u8],
    range: &std::ops::Range<usize>,
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

fn ragged_record(data: &FileData, at: usize, fields: usize) -> ReadError {
    let plural = if fields == 1 { "field" } else { "fields" };
    let message = format!("this record has {fields} {plural}, the headings are {}", data.width);
    let mut it =
        DataProblem::in_file(data.name.clone(), message).at_line(line_of(&data.opened.bytes, at));
    if fields < data.width {
        it = it.help("--uneven blank takes what lacks as missing");
    } else {
        it = it.help("a field that holds the separator must be in quotes");
    }
    if let Some(help) = &data.title_help {
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
    use super::super::CsvSource;
    use crate::options::{Forced, ReadOptions, Uneven};
    use oeuvre_columns::column::Batch;
    use oeuvre_columns::{Kind, ReadError, Reader, Source, Value};
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
        let source = CsvSource::open(&[file.path().display().to_string()], options)?;
        let all: Vec<usize> = (0..columns).collect();
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
                let rows = (0..batch.rows).map(|row| all.iter().map(|&c| text(row, c)).collect());
                out.push((batch.piece, rows.collect::<Rows>()));
            };
            (out, error)
        };
        let mut pieces = Vec::new();
        let mut problem: Option<(u64, ReadError)> = None;
        std::thread::scope(|scope| {
            let readers = source.scan(&all, readers).unwrap();
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
