//! The bytes of a file, standard input or a compressed file, as one slice.
//!
//! Regular files are mapped. What cannot be mapped (a pipe, a compressed file, another encoding) is
//! written once to memory or, when it is large, to a temporary file that has no name, because a pass
//! may have to be made again when a column turns out to be of another kind. Large compressed files and pipes
//! are read while they still come ([`crate::growing`]): [`Bytes::head`] waits for what is needed.

use crate::growing::Growing;
use crate::mapped::{CHANGED, Mapped, Stamp, map};
use oeuvre_columns::names::nearest;
use oeuvre_columns::{DataProblem, ReadError};
use std::fs::File;
use std::io::{self, Read, Write};
use std::path::Path;

/// Copies up to this size stay in memory.
const IN_MEMORY: usize = 64 << 20;
/// What comes as a stream and is shorter than this is waited for; the rest is read while it comes.
const WAITED_FOR: u64 = 4 << 20;

/// Bytes to be read, possibly several times.
pub(crate) enum Bytes {
    Mapped(Mapped),
    Owned(Vec<u8>),
    Growing(Growing),
}

impl std::ops::Deref for Bytes {
    type Target = [u8];
    /// All of them; what still comes is waited for.
    fn deref(&self) -> &[u8] {
        match self {
            Bytes::Mapped(map) => map,
            Bytes::Owned(bytes) => bytes,
            Bytes::Growing(growing) => growing.head(usize::MAX),
        }
    }
}

impl Bytes {
    /// So many of the first bytes, or all if there are fewer; only these are waited for.
    pub(crate) fn head(&self, bytes: usize) -> &[u8] {
        match self {
            Bytes::Growing(growing) => growing.head(bytes),
            all => &all[..bytes.min(all.len())],
        }
    }

    /// Whether all bytes are there.
    pub(crate) fn is_whole(&self) -> bool {
        match self {
            Bytes::Growing(growing) => growing.is_whole(),
            _ => true,
        }
    }

    /// How many there are, as far as is known without waiting.
    pub(crate) fn expected(&self) -> usize {
        match self {
            Bytes::Growing(growing) => growing.there(),
            all => all.len(),
        }
    }
}

/// A file's bytes: mapped, or read where that is better. An empty file cannot be mapped. `name` is what
/// a message calls it; without one the file is nobody else's.
fn bytes_of(file: &mut File, name: Option<&str>) -> io::Result<Bytes> {
    if file.metadata()?.len() == 0 {
        return Ok(Bytes::Owned(Vec::new()));
    }
    match map(file, name)? {
        Some(mapped) => Ok(Bytes::Mapped(mapped)),
        None => {
            let mut spool = Spool::new();
            io::copy(file, &mut spool)?;
            spool.finish()
        }
    }
}

/// Bytes to be read, and the file that they must stay those of.
pub(crate) struct Opened {
    pub(crate) bytes: Bytes,
    stamp: Option<(String, Stamp)>,
}

impl Opened {
    /// Bytes that are nobody else's: copied, or made from what a file holds.
    pub(crate) fn copied(bytes: Bytes) -> Opened {
        Opened { bytes, stamp: None }
    }

    /// Whether they are what stands in the file.
    #[cfg(feature = "databases")]
    pub(crate) fn is_as_on_disk(&self) -> bool {
        self.stamp.is_some() && matches!(self.bytes, Bytes::Mapped(_))
    }

    /// What it holds, read as another encoding.
    pub(crate) fn decoded(self, name: &str, encoding: &str) -> Result<Opened, ReadError> {
        self.ensure_unchanged()?;
        Ok(Opened::copied(decode(name, self.bytes, Some(encoding))?))
    }

    /// An error when the file has changed since it was opened.
    pub(crate) fn ensure_unchanged(&self) -> Result<(), ReadError> {
        if let Some((name, stamp)) = &self.stamp
            && !stamp.holds()
        {
            return Err(changed(name));
        }
        match &self.bytes {
            Bytes::Growing(growing) => growing.ensure_sound(),
            _ => Ok(()),
        }
    }
}

fn changed(name: &str) -> ReadError {
    DataProblem::in_file(name, CHANGED)
        .help("run it again when nothing writes to the file, or on a copy of it")
        .into()
}

/// Takes bytes in until they are all there.
pub(crate) struct Spool {
    memory: Vec<u8>,
    file: Option<File>,
}

impl Spool {
    pub(crate) fn new() -> Spool {
        Spool { memory: Vec::new(), file: None }
    }

    pub(crate) fn finish(mut self) -> io::Result<Bytes> {
        match &mut self.file {
            None => Ok(Bytes::Owned(self.memory)),
            Some(file) => {
                file.write_all(&self.memory)?;
                bytes_of(file, None)
            }
        }
    }
}

impl Write for Spool {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.memory.extend_from_slice(bytes);
        if self.memory.len() > IN_MEMORY {
            if self.file.is_none() {
                self.file = Some(tempfile::tempfile()?);
            }
            if let Some(file) = &mut self.file {
                file.write_all(&self.memory)?;
            }
            self.memory.clear();
        }
        Ok(bytes.len())
    }
    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

fn io_problem(name: &str, error: &io::Error) -> ReadError {
    let message = match error.kind() {
        io::ErrorKind::NotFound => "there is no such file".to_owned(),
        io::ErrorKind::PermissionDenied => "the file may not be read".to_owned(),
        _ => error.to_string(),
    };
    let it = DataProblem::in_file(name, message);
    match near_file(name).filter(|_| error.kind() == io::ErrorKind::NotFound) {
        Some(near) => it.help(format!("did you mean `{near}`?")).into(),
        None => it.into(),
    }
}

/// The file in the folder of a name that is called most like it.
fn near_file(name: &str) -> Option<String> {
    let path = Path::new(name);
    let folder = path.parent()?;
    let of = if folder.as_os_str().is_empty() { Path::new(".") } else { folder };
    let files = std::fs::read_dir(of).ok()?.flatten();
    let files: Vec<String> = files.filter_map(|f| f.file_name().into_string().ok()).collect();
    let near = nearest(path.file_name()?.to_str()?, files.iter().map(String::as_str));
    Some(folder.join(near.first()?).display().to_string())
}

/// Opens a file, or standard input for `-`, and unpacks it where it is compressed.
pub(crate) fn open(name: &str) -> Result<Opened, ReadError> {
    let problem = |e: io::Error| io_problem(name, &e);
    if name == "-" {
        return Ok(Opened::copied(stream(name, io::stdin())?)).and_then(|it| unpacked(name, it));
    }
    let file = File::open(name).map_err(problem)?;
    let kind = file.metadata().map_err(problem)?.file_type();
    if kind.is_dir() {
        return Err(DataProblem::in_file(name, "this is a folder, not a file")
            .help(format!("name the files in it: {}/*.csv", name.trim_end_matches('/')))
            .into());
    }
    let opened = match kind.is_file() {
        true => {
            let mut stamp = Stamp::new(file).map_err(problem)?;
            let bytes = bytes_of(&mut stamp.file, Some(name)).map_err(problem)?;
            Opened { bytes, stamp: Some((name.to_owned(), stamp)) }
        }
        false => Opened::copied(stream(name, file)?),
    };
    unpacked(name, opened)
}

/// What a stream gives: whole where it is short, else while it comes.
fn stream(name: &str, mut from: impl Read + Send + 'static) -> Result<Bytes, ReadError> {
    let problem = |e: io::Error| io_problem(name, &e);
    let mut head = Vec::new();
    (&mut from).take(WAITED_FOR).read_to_end(&mut head).map_err(problem)?;
    if (head.len() as u64) < WAITED_FOR {
        return Ok(Bytes::Owned(head));
    }
    Ok(Bytes::Growing(Growing::start(name, head, from, "cannot be read").map_err(problem)?))
}

/// What is compressed is unpacked.
pub(crate) fn unpacked(name: &str, opened: Opened) -> Result<Opened, ReadError> {
    let Opened { bytes, stamp } = opened;
    let unpacked = |bytes: Bytes,
                    of: fn(Raw) -> io::Result<Box<dyn Read + Send>>|
     -> Result<Bytes, ReadError> {
        let what = "the compressed file cannot be read";
        let problem =
            |e: io::Error| ReadError::from(DataProblem::in_file(name, format!("{what}: {e}")));
        let mut from = of(Raw { bytes, at: 0 }).map_err(problem)?;
        let mut head = Vec::new();
        from.by_ref().take(WAITED_FOR).read_to_end(&mut head).map_err(problem)?;
        match (head.len() as u64) < WAITED_FOR {
            true => Ok(Bytes::Owned(head)),
            false => Ok(Bytes::Growing(Growing::start(name, head, from, what).map_err(problem)?)),
        }
    };
    let plain = match bytes.head(4) {
        [0x1f, 0x8b, ..] => {
            unpacked(bytes, |raw| Ok(Box::new(flate2::bufread::MultiGzDecoder::new(raw))))?
        }
        [0x28, 0xb5, 0x2f, 0xfd] => {
            unpacked(bytes, |raw| Ok(Box::new(zstd::stream::read::Decoder::with_buffer(raw)?)))?
        }
        _ => bytes,
    };
    let opened = Opened { bytes: plain, stamp };
    // What was copied is no longer the file's, and must be right by now.
    if let Bytes::Owned(_) = opened.bytes {
        opened.ensure_unchanged()?;
        return Ok(Opened::copied(opened.bytes));
    }
    Ok(opened)
}

/// The bytes of a compressed file, read from the front.
struct Raw {
    bytes: Bytes,
    at: usize,
}

impl Read for Raw {
    fn read(&mut self, to: &mut [u8]) -> io::Result<usize> {
        let from = io::BufRead::fill_buf(self)?;
        let n = from.len().min(to.len());
        to[..n].copy_from_slice(&from[..n]);
        self.at += n;
        Ok(n)
    }
}

impl io::BufRead for Raw {
    fn fill_buf(&mut self) -> io::Result<&[u8]> {
        const STEP: usize = 256 << 10;
        Ok(&self.bytes.head(self.at + STEP)[self.at..])
    }

    fn consume(&mut self, n: usize) {
        self.at += n;
    }
}

impl Opened {
    /// As text of lines in UTF-8, from the encoding that was named or that its first bytes show.
    ///
    /// # Errors
    /// What is no text.
    pub(crate) fn text(self, name: &str, encoding: Option<&str>) -> Result<Opened, ReadError> {
        let Opened { bytes, stamp } = self;
        let was_owned = matches!(bytes, Bytes::Owned(_));
        let text = end_lines(name, {
            let text = decode(name, bytes, encoding)?;
            refuse_other_formats(name, text.head(4096))?;
            text
        })?;
        let copied = !was_owned && matches!(text, Bytes::Owned(_));
        let opened = Opened { bytes: text, stamp };
        match copied {
            true => {
                opened.ensure_unchanged()?;
                Ok(Opened::copied(opened.bytes))
            }
            false => Ok(opened),
        }
    }
}

/// Lines that end in lone carriage returns, as some old programs write them, get line feeds; in quotes,
/// too, where they are breaks of a text.
fn end_lines(name: &str, raw: Bytes) -> Result<Bytes, ReadError> {
    let problem = |e: io::Error| io_problem(name, &e);
    let head = raw.head(1 << 16);
    let first = head.iter().position(|&b| matches!(b, b'\n' | b'\r'));
    let returns = first.is_some_and(|at| head[at] == b'\r' && head.get(at + 1) != Some(&b'\n'));
    if !returns || raw.contains(&b'\n') {
        return Ok(raw);
    }
    let mut spool = Spool::new();
    for piece in raw.chunks(1 << 16) {
        let piece: Vec<u8> = piece.iter().map(|&b| if b == b'\r' { b'\n' } else { b }).collect();
        spool.write_all(&piece).map_err(problem)?;
    }
    spool.finish().map_err(problem)
}

/// Another encoding to UTF-8. A byte-order mark of UTF-16 is believed.
fn decode(name: &str, raw: Bytes, encoding: Option<&str>) -> Result<Bytes, ReadError> {
    let encoding = match (encoding, raw.head(2)) {
        (Some(label), _) => match encoding_rs::Encoding::for_label(label.as_bytes()) {
            Some(encoding) => encoding,
            None => {
                let common =
                    "common ones are utf-8, windows-1252, iso-8859-15, utf-16le, shift_jis, gbk";
                let it = DataProblem::new(format!("there is no encoding `{label}`"));
                return Err(it.help(common).into());
            }
        },
        (None, [0xff, 0xfe]) => encoding_rs::UTF_16LE,
        (None, [0xfe, 0xff]) => encoding_rs::UTF_16BE,
        _ => return Ok(raw),
    };
    if encoding == encoding_rs::UTF_8 {
        return Ok(raw);
    }
    if let (Bytes::Growing(growing), _) = (&raw, raw.len()) {
        growing.ensure_sound()?;
    }
    let problem = |e: io::Error| io_problem(name, &e);
    let mut decoder = encoding.new_decoder();
    let (mut spool, mut text) = (Spool::new(), vec![0u8; 1 << 16]);
    let mut rest = &raw[..];
    let mut bad = false;
    loop {
        let (result, read, written, replaced) = decoder.decode_to_utf8(rest, &mut text, true);
        bad |= replaced;
        spool.write_all(&text[..written]).map_err(problem)?;
        rest = &rest[read..];
        if result == encoding_rs::CoderResult::InputEmpty {
            break;
        }
    }
    if bad {
        let message = format!("some bytes are not valid in the encoding {}", encoding.name());
        return Err(DataProblem::in_file(name, message)
            .help("name another one with --encoding")
            .into());
    }
    spool.finish().map_err(problem)
}

const ROWS_ARE_READ_FROM: &str =
    "rows are read from CSV and its kin, JSON, Parquet, Arrow, XLSX and ODS";
const NOT_BUILT_FOR_IT: &str = "this program was built without such files; write it as CSV";

/// A file of another format gives itself away by its first bytes.
fn refuse_other_formats(name: &str, bytes: &[u8]) -> Result<(), ReadError> {
    let (what, help) = match &bytes[..bytes.len().min(8)] {
        [0x89, b'P', b'N', b'G', ..] => ("a PNG picture", ROWS_ARE_READ_FROM),
        [0xff, 0xd8, 0xff, ..] => ("a JPEG picture", ROWS_ARE_READ_FROM),
        [b'%', b'P', b'D', b'F', ..] => ("a PDF document", ROWS_ARE_READ_FROM),
        [b'P', b'K', 3, 4, ..] => ("a ZIP archive, perhaps a workbook", NOT_BUILT_FOR_IT),
        [0xd0, 0xcf, 0x11, 0xe0, ..] => (
            "an old workbook or document, or one that is locked with a password",
            "save it as XLSX or ODS, without a password",
        ),
        [b'P', b'A', b'R', b'1', ..] => ("a Parquet file", NOT_BUILT_FOR_IT),
        [b'A', b'R', b'R', b'O', b'W', b'1', ..] => ("an Arrow file", NOT_BUILT_FOR_IT),
        [b'S', b'Q', b'L', b'i', b't', b'e', ..] => ("an SQLite database", NOT_BUILT_FOR_IT),
        // A version is behind the line that names it.
        _ if bytes.starts_with(b"oeuvre part\n") && bytes.get(12).is_some_and(|&v| v < b' ') => {
            ("a part of a summary", "oeuvre assemble makes a table of it, and of others with it")
        }
        _ if bytes[..bytes.len().min(4096)].contains(&0) => (
            "a binary file",
            "is it UTF-16? say --encoding utf-16le; rows are read from CSV and its kin, JSON, Parquet, Arrow, XLSX and ODS",
        ),
        _ => return Ok(()),
    };
    Err(DataProblem::in_file(name, format!("this is {what}, not a text file of rows"))
        .help(help)
        .into())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn opened(content: &[u8], encoding: Option<&str>) -> Result<Vec<u8>, String> {
        let file = tempfile::NamedTempFile::new().unwrap();
        std::fs::write(file.path(), content).unwrap();
        let name = file.path().display().to_string();
        match open(&name).and_then(|opened| opened.text(&name, encoding)) {
            Ok(opened) => Ok(opened.bytes.to_vec()),
            Err(ReadError::Problem(it)) => Err(format!("{} {:?}", it.message, it.help)),
            Err(ReadError::Again) => panic!("nothing is guessed here"),
        }
    }

    fn gzip(content: &[u8]) -> Vec<u8> {
        let mut encoder = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        encoder.write_all(content).unwrap();
        encoder.finish().unwrap()
    }

    #[rstest]
    #[case(b"a,b\n".to_vec(), None, "a,b\n")]
    #[case(gzip(b"a,b\n"), None, "a,b\n")]
    // Several members of one file are read one after the other.
    #[case([gzip(b"a\n"), gzip(b"1\n")].concat(), None, "a\n1\n")]
    #[case(zstd::encode_all(&b"a,b\n"[..], 1).unwrap(), None, "a,b\n")]
    #[case(b"\xff\xfea\x00\n\x00".to_vec(), None, "a\n")]
    #[case(b"\xfe\xff\x00a\x00\n".to_vec(), None, "a\n")]
    #[case(b"caf\xe9\n".to_vec(), Some("windows-1252"), "café\n")]
    #[case(gzip(b"caf\xe9\n"), Some("latin1"), "café\n")]
    // Lone carriage returns are line breaks where there are no others.
    #[case(b"a\r1\r".to_vec(), None, "a\n1\n")]
    #[case(b"a\r\n1\r\n".to_vec(), None, "a\r\n1\r\n")]
    #[case(Vec::new(), None, "")]
    fn whatever_a_file_is_written_as_its_text_comes_out(
        #[case] content: Vec<u8>,
        #[case] encoding: Option<&str>,
        #[case] expected: &str,
    ) {
        assert_eq!(opened(&content, encoding), Ok(expected.as_bytes().to_vec()));
    }

    #[rstest]
    #[case(b"%PDF-1.7 ...", None, "a PDF document")]
    #[case(b"PK\x03\x04....", None, "a ZIP archive, perhaps a workbook")]
    #[case(b"\x89PNG\r\n", None, "a PNG picture")]
    #[case(b"a\x00b", None, "is it UTF-16? say --encoding utf-16le")]
    #[case(b"\x1f\x8b\x08\x00", None, "the compressed file cannot be read")]
    #[case(b"a\n", Some("klingon"), "there is no encoding `klingon`")]
    #[case(b"\x81\n", Some("shift_jis"), "not valid in the encoding Shift_JIS")]
    fn what_is_no_text_is_named_for_what_it_is(
        #[case] content: &[u8],
        #[case] encoding: Option<&str>,
        #[case] said: &str,
    ) {
        let error = opened(content, encoding).unwrap_err();
        assert!(error.contains(said), "{error}");
    }

    #[test]
    fn what_is_spooled_is_the_same_in_memory_and_beyond() {
        for pieces in [1usize, 70] {
            let mut spool = Spool::new();
            let piece: Vec<u8> = (0..1 << 20).map(|i| (i % 251) as u8).collect();
            (0..pieces).for_each(|_| spool.write_all(&piece).unwrap());
            let bytes = spool.finish().unwrap();
            assert_eq!(bytes.len(), pieces << 20);
            assert!(bytes.chunks(1 << 20).all(|chunk| chunk == piece));
            assert_eq!(matches!(bytes, Bytes::Owned(_)), pieces == 1);
        }
    }

    #[test]
    fn a_file_that_has_changed_is_told() {
        let file = tempfile::NamedTempFile::new().unwrap();
        std::fs::write(file.path(), "a\n1\n").unwrap();
        let opened = open(&file.path().display().to_string()).unwrap();
        assert!(opened.ensure_unchanged().is_ok());
        std::fs::write(file.path(), "a\n1\n2\n").unwrap();
        assert!(opened.ensure_unchanged().is_err());
        assert!(Opened::copied(Bytes::Owned(Vec::new())).ensure_unchanged().is_ok());
    }
}
