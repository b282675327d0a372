//! Arrow IPC: files, whose batches are found from the end, and streams, which are read from the front.

use super::{Known, Rows, RowsOf, Shared, damaged, pass, projection};
use crate::bytes::Opened;
use crate::fence::fenced;
use crate::file_rows::{Counted, FilePass, FileRows, Wanted};
use crate::kinds::Columns;
use crate::options::ReadOptions;
use arrow_array::RecordBatch;
use arrow_buffer::Buffer;
use arrow_ipc::convert::try_fb_to_schema;
use arrow_ipc::reader::{FileDecoder, StreamDecoder, read_footer_length};
use arrow_ipc::{Block, MessageHeader, root_as_footer, root_as_message};
use arrow_schema::Schema;
use oeuvre_columns::{Note, ReadError};
use std::sync::{Arc, Mutex, PoisonError};

/// So many rows are made to columns at a time.
const ROWS: usize = 16 << 10;

/// Whether a file begins as an Arrow file does.
pub(crate) fn is_arrow_file(head: &[u8]) -> bool {
    head.starts_with(b"ARROW1\0\0")
}

/// Whether a file begins as an Arrow stream does: with a message that is a schema.
pub(crate) fn is_arrow_stream(head: &[u8]) -> bool {
    let Some(bytes) = head.strip_prefix(&[0xff; 4]) else { return false };
    matches!(bytes, [_, _, _, 0, 0x10 | 0x0c | 0x14 | 0x18 | 0x1c | 0x20, ..])
}

/// One file or stream.
pub(crate) struct ArrowFile {
    known: Known,
    /// Where its batches are; a stream is read from the front.
    blocks: Option<Blocks>,
}

/// The batches of a file.
struct Blocks {
    schema: Arc<Schema>,
    version: arrow_ipc::MetadataVersion,
    dictionaries: Vec<Block>,
    batches: Vec<Block>,
}

impl ArrowFile {
    /// A file, from its bytes.
    ///
    /// # Errors
    /// What is wrong with its schema.
    pub(crate) fn new(name: &str, opened: Opened) -> Result<ArrowFile, ReadError> {
        let file = Shared(Arc::new(opened));
        let bytes = file.as_ref();
        let (schema, blocks) = match is_arrow_file(bytes) {
            true => {
                let read = fenced(|| blocks(bytes));
                let blocks = read.map_err(|e| damaged(name, "Arrow file", e))?;
                (blocks.schema.clone(), Some(blocks))
            }
            false => {
                let read = fenced(|| {
                    ensure_modest_stream(file.as_ref())
                        .map_err(arrow_schema::ArrowError::IpcError)?;
                    let mut decoder = StreamDecoder::new();
                    let mut buffer = buffer(&file);
                    decoder.decode(&mut buffer)?;
                    decoder.schema().ok_or_else(|| {
                        arrow_schema::ArrowError::IpcError("it ends before its schema".to_owned())
                    })
                });
                (read.map_err(|e| damaged(name, "Arrow stream", e))?, None)
            }
        };
        Ok(ArrowFile { known: Known::new(name, file, &schema)?, blocks })
    }
}

/// The bytes of a file without a copy.
fn buffer(file: &Shared) -> Buffer {
    Buffer::from(bytes::Bytes::from_owner(file.clone()))
}

/// Where the batches of a file are: its last bytes say so.
fn blocks(bytes: &[u8]) -> Result<Blocks, String> {
    let cut = || "it ends too early".to_owned();
    let trailer = bytes.len().checked_sub(10).ok_or_else(cut)?;
    let tail: [u8; 10] = bytes[trailer..].try_into().map_err(|_| cut())?;
    let length = read_footer_length(tail).map_err(|e| e.to_string())?;
    let start = trailer.checked_sub(length).ok_or_else(cut)?;
    let footer = root_as_footer(&bytes[start..trailer]).map_err(|e| e.to_string())?;
    let schema = footer.schema().ok_or("it has no schema")?;
    let schema = try_fb_to_schema(schema).map_err(|e| e.to_string())?;
    Ok(Blocks {
        schema: Arc::new(schema),
        version: footer.version(),
        dictionaries: footer.dictionaries().iter().flatten().copied().collect(),
        batches: footer.recordBatches().iter().flatten().copied().collect(),
    })
}

/// The bytes of a block, where there are as many.
fn of_block(buffer: &Buffer, block: &Block) -> Result<Buffer, String> {
    let length = (block.bodyLength()).checked_add(i64::from(block.metaDataLength()));
    let (start, length) = (usize::try_from(block.offset()), length.map(usize::try_from));
    match (start, length) {
        (Ok(start), Some(Ok(length)))
            if start.checked_add(length).is_some_and(|end| end <= buffer.len()) =>
        {
            Ok(buffer.slice_with_length(start, length))
        }
        _ => Err("a part of it lies behind its end".to_owned()),
    }
}

/// The longest that bytes may become when they are unpacked, as many times their length: nothing that is no attack
/// packs better, and what a file announces is set aside before it is there.
const MOST_PACKED: i64 = 20_000;
/// So many rows may a batch have for each byte of it: eight truths, and a few where all are missing.
const MOST_ROWS: i64 = 8;

/// That a message (its description, and the bytes behind it) asks for no more memory than its bytes can fill.
fn ensure_modest(description: &[u8], body: &[u8]) -> Result<(), String> {
    let message = root_as_message(description).map_err(|e| e.to_string())?;
    let batch = match message.header_type() {
        MessageHeader::RecordBatch => message.header_as_record_batch(),
        MessageHeader::DictionaryBatch => {
            message.header_as_dictionary_batch().and_then(|dictionary| dictionary.data())
        }
        _ => return Ok(()),
    };
    let batch = batch.ok_or("a part of it is no batch of rows")?;
    let mut bytes = 0i64;
    for buffer in batch.buffers().iter().flatten() {
        let (start, length) = (usize::try_from(buffer.offset()), buffer.length());
        if batch.compression().is_none() || length == 0 {
            bytes = bytes.saturating_add(length);
            continue;
        }
        // The first eight bytes say how long the rest is when it is unpacked; -1 that it is not packed.
        let announced = start.ok().and_then(|at| body.get(at..at.checked_add(8)?));
        let announced = announced.and_then(|word| word.try_into().ok()).map(i64::from_le_bytes);
        let announced = announced.ok_or("a part of it lies behind its end")?;
        if announced > length.saturating_mul(MOST_PACKED) {
            return Err(format!("{length} bytes of it are said to be {announced} packed"));
        }
        bytes = bytes.saturating_add(announced.max(length));
    }
    let most = bytes.max(body.len() as i64).saturating_mul(MOST_ROWS).saturating_add(1_000_000);
    match batch.length() {
        rows if (0..=most).contains(&rows) => Ok(()),
        rows => Err(format!("a batch is said to have {rows} rows, and has {bytes} bytes")),
    }
}

/// The description and the body of a block of a file.
fn ensure_modest_block(block: &Block, bytes: &[u8]) -> Result<(), String> {
    let behind = usize::try_from(block.metaDataLength()).unwrap_or(usize::MAX);
    let (description, body) = bytes.split_at_checked(behind).ok_or("it ends too early")?;
    // Its length stands before it, behind a mark in files of today.
    let skip = if description.starts_with(&[0xff; 4]) { 8 } else { 4 };
    ensure_modest(description.get(skip..).ok_or("it ends too early")?, body)
}

/// As [`ensure_modest`], of all messages of a stream that are whole.
fn ensure_modest_stream(bytes: &[u8]) -> Result<(), String> {
    let mut rest = bytes;
    while let Some([0xff, 0xff, 0xff, 0xff, length @ ..]) = rest.get(..8) {
        let length = length.try_into().map(i32::from_le_bytes).unwrap_or(0);
        let Ok(length @ 1..) = usize::try_from(length) else { return Ok(()) };
        let Some(description) = rest.get(8..8 + length) else { return Ok(()) };
        let message = root_as_message(description).map_err(|e| e.to_string())?;
        let body = usize::try_from(message.bodyLength()).map_err(|e| e.to_string())?;
        let behind = &rest[8 + length..];
        ensure_modest(description, &behind[..body.min(behind.len())])?;
        let Some(next) = behind.get(body..) else { return Ok(()) };
        rest = next;
    }
    Ok(())
}

/// What readers of one pass share: the batch that rows are taken from.
struct Batches<'a> {
    file: &'a ArrowFile,
    /// The places of the wanted columns in the file.
    places: Vec<usize>,
    state: Mutex<State>,
}

struct State {
    batch: Option<RecordBatch>,
    /// The rows of it that have been given.
    given: usize,
    /// The rows of all batches that have been given.
    rows: u64,
    piece: u64,
    next: usize,
    stopped: bool,
    from: From,
}

/// Where batches come from.
enum From {
    File(Box<FileDecoder>, Buffer),
    Stream(Box<StreamDecoder>, Buffer),
    /// Nothing has been read.
    Begin,
}

impl Batches<'_> {
    /// The next batch of the file.
    fn decode(&self, state: &mut State) -> Result<Option<RecordBatch>, String> {
        let known = &self.file.known;
        let fit = |schema: &Schema| -> Vec<usize> {
            self.places.iter().copied().filter(|&p| p < schema.fields().len()).collect()
        };
        if let From::Begin = state.from {
            let all = buffer(&known.file);
            state.from = match &self.file.blocks {
                None => From::Stream(Box::default(), all),
                Some(blocks) => {
                    let mut decoder = FileDecoder::new(blocks.schema.clone(), blocks.version)
                        .with_projection(fit(&blocks.schema));
                    for block in &blocks.dictionaries {
                        let bytes = of_block(&all, block)?;
                        ensure_modest_block(block, &bytes)?;
                        decoder.read_dictionary(block, &bytes).map_err(|e| e.to_string())?;
                    }
                    From::File(Box::new(decoder), all)
                }
            };
        }
        match (&mut state.from, &self.file.blocks) {
            (From::File(decoder, all), Some(blocks)) => {
                let Some(block) = blocks.batches.get(state.next) else { return Ok(None) };
                state.next += 1;
                let bytes = of_block(all, block)?;
                ensure_modest_block(block, &bytes)?;
                let read = decoder.read_record_batch(block, &bytes).map_err(|e| e.to_string())?;
                Ok(Some(read.ok_or("a part of it is no batch of rows")?))
            }
            (From::Stream(decoder, rest), _) => {
                match decoder.decode(rest).map_err(|e| e.to_string())? {
                    Some(batch) => {
                        let fields = fit(batch.schema_ref());
                        Ok(Some(batch.project(&fields).map_err(|e| e.to_string())?))
                    }
                    None => {
                        decoder.finish().map_err(|e| e.to_string())?;
                        Ok(None)
                    }
                }
            }
            _ => Ok(None),
        }
    }
}

/// A reader's hold on the batches.
struct Claims<'a> {
    batches: Arc<Batches<'a>>,
    piece: u64,
}

impl RowsOf for Claims<'_> {
    fn next(&mut self) -> Result<Option<Rows>, ReadError> {
        let batches = self.batches.clone();
        let mut state = batches.state.lock().unwrap_or_else(PoisonError::into_inner);
        loop {
            if state.stopped {
                return Ok(None);
            }
            if let Some(batch) = &state.batch
                && state.given < batch.num_rows()
            {
                let take = ROWS.min(batch.num_rows() - state.given);
                let rows = batch.slice(state.given, take);
                state.given += take;
                state.piece += 1;
                self.piece = state.piece;
                let first = state.rows + 1;
                state.rows += take as u64;
                return Ok(Some(Rows { piece: self.piece, batch: rows, first, group: None }));
            }
            let decoded = fenced(|| batches.decode(&mut state));
            match decoded {
                Ok(Some(batch)) => (state.batch, state.given) = (Some(batch), 0),
                Ok(None) => {
                    state.stopped = true;
                    return Ok(None);
                }
                Err(error) => {
                    state.stopped = true;
                    self.piece = state.piece + 1;
                    let what = match batches.file.blocks {
                        Some(_) => "Arrow file",
                        None => "Arrow stream",
                    };
                    let behind = format!("{error} (behind row {})", state.rows);
                    return Err(batches.file.known.damaged(what, behind));
                }
            }
        }
    }

    fn piece(&self) -> u64 {
        self.piece
    }

    fn stop(&self) {
        self.batches.state.lock().unwrap_or_else(PoisonError::into_inner).stopped = true;
    }
}

impl FileRows for ArrowFile {
    fn headings(&self) -> &[String] {
        &self.known.headings
    }

    fn counted(&self) -> Counted {
        Counted::Rows
    }

    fn look(&self, _: usize, order: &[Option<usize>], columns: &mut Columns) {
        self.known.look(order, columns);
    }

    fn scan<'a>(&'a self, wanted: Wanted<'a>) -> Result<Box<dyn FilePass<'a> + 'a>, ReadError> {
        let batches = Arc::new(Batches {
            file: self,
            places: projection(&wanted),
            state: Mutex::new(State {
                batch: None,
                given: 0,
                rows: 0,
                piece: 0,
                next: 0,
                stopped: false,
                from: From::Begin,
            }),
        });
        pass(&self.known, wanted, move || Box::new(Claims { batches: batches.clone(), piece: 0 }))
    }

    fn pieces(&self, piece_bytes: usize) -> usize {
        self.known.file.as_ref().len().div_ceil(piece_bytes)
    }

    fn bytes(&self) -> u64 {
        self.known.file.as_ref().len() as u64
    }

    fn contents(&self) -> &[u8] {
        self.known.file.as_ref()
    }

    fn ensure_unchanged(&self) -> Result<(), ReadError> {
        self.known.file.0.ensure_unchanged()
    }

    fn notes(&self, options: &ReadOptions) -> Vec<Note> {
        self.known.notes(&options.zone.name)
    }
}
