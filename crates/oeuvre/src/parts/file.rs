//! The file of a part: a line that names it, a version, the length of what follows, that compressed, and a checksum.
//!
//! What is read is as hostile as any file: nothing is taken to be there that was not read, and no more memory is taken
//! than a fixed multiple of the file.

use super::asks::Asks;
use crate::deliver::deliver;
use crate::failure::Failure;
use oeuvre_columns::{Choice, DataProblem, Kind, Note, Table, Topic};
use oeuvre_core::aggregate::encoding::{Damaged, Decoder, Encoder};
use oeuvre_core::{Doubled, LookupRequest, NoMatch, SourceText, decode_column, encode_column};
use oeuvre_data::{ColumnFact, Facts, FileFacts, fingerprint};
use std::io::Read;
use std::path::Path;
use std::sync::Arc;

/// How the file of a part ends.
pub(crate) const ENDING: &str = "oeu";
/// The version of the layout: it changes whenever the layout does.
pub(crate) const VERSION: u8 = 2;
/// How a file of a part begins.
const BEGINS: &[u8] = b"oeuvre part\n";
/// What was compressed is no larger than so many times as much: what would be is written as it is.
const MOST_TIMES: usize = 64;

/// What is known of the rows of one part that was made from files.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Leaf {
    /// Its place among all, where that was said.
    pub(crate) place: Option<u64>,
    /// What its rows come to: no two parts have the same.
    pub(crate) id: u128,
    pub(crate) facts: Facts,
    /// Its rows, where they are kept.
    pub(crate) rows: Option<Vec<u8>>,
}

/// A part.
#[derive(Clone, Debug)]
pub(crate) struct Part {
    pub(crate) asks: Asks,
    /// Its columns with their kinds, in the order of the first file.
    pub(crate) columns: Vec<(String, Kind)>,
    /// Those that are used, by their names.
    pub(crate) used: Vec<String>,
    /// The zone whose clock was read.
    pub(crate) zone: String,
    pub(crate) lookups: Vec<LookupRequest>,
    pub(crate) leaves: Vec<Leaf>,
    /// What its rows have come to, unless they are kept.
    pub(crate) tally: Option<Vec<u8>>,
}

impl Part {
    /// The bytes of its file.
    fn to_bytes(&self) -> Vec<u8> {
        let mut to = Encoder::default();
        self.encode(&mut to);
        let raw = to.into_bytes();
        let compressed = zstd::bulk::compress(&raw, 1).unwrap_or_default();
        let is_worth = !compressed.is_empty()
            && compressed.len() < raw.len()
            && raw.len() <= compressed.len().saturating_mul(MOST_TIMES);
        let mut bytes = BEGINS.to_vec();
        bytes.push(VERSION);
        bytes.push(u8::from(is_worth));
        bytes.extend_from_slice(&(raw.len() as u64).to_le_bytes());
        bytes.extend_from_slice(if is_worth { &compressed } else { &raw });
        let checksum = fingerprint(&bytes);
        bytes.extend_from_slice(&checksum.to_le_bytes());
        bytes
    }

    /// Writes the file of a part, and gives its size.
    ///
    /// # Errors
    /// What cannot be written; then nothing is left of it.
    pub(crate) fn write(&self, path: &Path) -> Result<u64, Failure> {
        let bytes = self.to_bytes();
        deliver(Some(path), |out| out.write_all(&bytes))?;
        Ok(bytes.len() as u64)
    }

    /// Reads the file of a part.
    ///
    /// # Errors
    /// A file that cannot be read, is no part, is damaged, or of another version.
    pub(crate) fn read(path: &Path) -> Result<Part, Failure> {
        let name = path.display().to_string();
        let problem = |message: String| DataProblem::in_file(&name, message);
        let bytes = std::fs::read(path)
            .map_err(|error| Failure::Error(problem(format!("cannot be read: {error}")).into()))?;
        Part::of_bytes(&bytes).map_err(|wrong| {
            let it = problem(wrong.said());
            Failure::Error(wrong.help().map_or(it.clone(), |help| it.help(help)).into())
        })
    }

    /// Reads the bytes of a part.
    fn of_bytes(bytes: &[u8]) -> Result<Part, Wrong> {
        let rest = bytes.strip_prefix(BEGINS).ok_or(Wrong::NoPart)?;
        let (&[version, compressed], rest) = rest.split_first_chunk().ok_or(Wrong::Damaged)?;
        if version != VERSION {
            return Err(Wrong::Version(version));
        }
        let (rest, checksum) = rest.split_last_chunk::<16>().ok_or(Wrong::Damaged)?;
        let before = &bytes[..bytes.len() - checksum.len()];
        if fingerprint(before).to_le_bytes() != *checksum {
            return Err(Wrong::Damaged);
        }
        let (length, body) = rest.split_first_chunk::<8>().ok_or(Wrong::Damaged)?;
        let length = usize::try_from(u64::from_le_bytes(*length)).map_err(|_| Wrong::Damaged)?;
        if compressed == 0 {
            return Part::decode(body).map_err(|Damaged| Wrong::Damaged);
        }
        if length > body.len().saturating_mul(MOST_TIMES) {
            return Err(Wrong::Damaged);
        }
        let mut raw = Vec::with_capacity(length);
        let decoder = zstd::stream::read::Decoder::with_buffer(body).map_err(|_| Wrong::Damaged)?;
        let read = decoder.take(length as u64 + 1).read_to_end(&mut raw);
        if read.map_err(|_| Wrong::Damaged)? != length {
            return Err(Wrong::Damaged);
        }
        Part::decode(&raw).map_err(|Damaged| Wrong::Damaged)
    }

    fn encode(&self, to: &mut Encoder) {
        to.count(self.asks.0.len());
        for (option, values) in &self.asks.0 {
            to.text(option);
            texts(values, to);
        }
        to.count(self.columns.len());
        for (name, kind) in &self.columns {
            to.text(name);
            to.text(&kind_text(*kind));
        }
        texts(&self.used, to);
        to.text(&self.zone);
        to.count(self.lookups.len());
        self.lookups.iter().for_each(|lookup| encode_lookup(lookup, to));
        to.count(self.leaves.len());
        for leaf in &self.leaves {
            to.unsigned(leaf.place.map_or(0, |place| 1 + u128::from(place)));
            to.unsigned(leaf.id);
            encode_facts(&leaf.facts, to);
            optional(leaf.rows.as_deref(), to);
        }
        optional(self.tally.as_deref(), to);
    }

    fn decode(bytes: &[u8]) -> Result<Part, Damaged> {
        let from = &mut Decoder::new(bytes);
        let asks = many(from, |from| Ok((from.text()?.to_owned(), read_texts(from)?)))?;
        let columns = many(from, |from| {
            Ok((from.text()?.to_owned(), kind_of(from.text()?).ok_or(Damaged)?))
        })?;
        let used = read_texts(from)?;
        let zone = from.text()?.to_owned();
        let lookups = many(from, decode_lookup)?;
        let leaves = many(from, |from| {
            let place = match from.unsigned()? {
                0 => None,
                place => Some(u64::try_from(place - 1).map_err(|_| Damaged)?),
            };
            let id = from.unsigned()?;
            Ok(Leaf { place, id, facts: decode_facts(from)?, rows: read_optional(from)? })
        })?;
        let tally = read_optional(from)?;
        match from.is_done() {
            true => Ok(Part { asks: Asks(asks), columns, used, zone, lookups, leaves, tally }),
            false => Err(Damaged),
        }
    }
}

/// What is wrong with the bytes of a part.
#[derive(Debug, PartialEq)]
pub(crate) enum Wrong {
    NoPart,
    Damaged,
    Version(u8),
}

impl Wrong {
    fn said(&self) -> String {
        match self {
            Wrong::NoPart => "this is no part".to_owned(),
            Wrong::Damaged => "this part is damaged".to_owned(),
            Wrong::Version(version) => {
                format!("this part is of version {version}; this program reads version {VERSION}")
            }
        }
    }

    fn help(&self) -> Option<&'static str> {
        match self {
            Wrong::NoPart => Some("oeuvre part … --to FILE.oeu makes one"),
            Wrong::Damaged | Wrong::Version(_) => Some("make it again with oeuvre part"),
        }
    }
}

/// Several things, each read by itself.
fn many<'a, T>(
    from: &mut Decoder<'a>,
    one: impl Fn(&mut Decoder<'a>) -> Result<T, Damaged>,
) -> Result<Vec<T>, Damaged> {
    (0..from.count()?).map(|_| one(from)).collect()
}

fn texts(texts: &[String], to: &mut Encoder) {
    to.count(texts.len());
    texts.iter().for_each(|text| to.text(text));
}

fn read_texts(from: &mut Decoder<'_>) -> Result<Vec<String>, Damaged> {
    many(from, |from| Ok(from.text()?.to_owned()))
}

fn optional(bytes: Option<&[u8]>, to: &mut Encoder) {
    to.unsigned(u128::from(bytes.is_some()));
    bytes.into_iter().for_each(|bytes| to.bytes(bytes));
}

fn read_optional(from: &mut Decoder<'_>) -> Result<Option<Vec<u8>>, Damaged> {
    Ok(match from.unsigned()? {
        0 => None,
        _ => Some(from.bytes()?.to_vec()),
    })
}

/// The kinds that columns of rows have, in a word.
const KINDS: [(&str, Kind); 6] = [
    ("nothing", Kind::Nothing),
    ("float", Kind::Float),
    ("text", Kind::Text),
    ("boolean", Kind::Boolean),
    ("date", Kind::Date),
    ("datetime", Kind::DateTime),
];

/// A kind as a part has it; numbers with how many digits stand behind their point.
pub(super) fn kind_text(kind: Kind) -> String {
    match kind {
        Kind::Number { scale } => format!("number {scale}"),
        other => KINDS.iter().find(|known| known.1 == other).map_or("text", |k| k.0).to_owned(),
    }
}

pub(super) fn kind_of(text: &str) -> Option<Kind> {
    if let Some(scale) = text.strip_prefix("number ") {
        let scale = scale.parse().ok().filter(|scale| *scale <= 38)?;
        return Some(Kind::Number { scale });
    }
    KINDS.iter().find(|known| known.0 == text).map(|known| known.1)
}

fn encode_note(note: &Note, to: &mut Encoder) {
    to.text(note.topic.name());
    to.text(&note.text);
}

fn decode_note(from: &mut Decoder<'_>) -> Result<Note, Damaged> {
    let topic: Topic = from.text()?.parse().map_err(|()| Damaged)?;
    Ok(Note::new(topic, from.text()?))
}

pub(super) fn encode_facts(facts: &Facts, to: &mut Encoder) {
    to.count(facts.files.len());
    for file in &facts.files {
        to.text(&file.name);
        let (length, content) = file.content.unwrap_or_default();
        to.unsigned(u128::from(file.content.is_some()));
        to.unsigned(u128::from(length));
        to.unsigned(content);
        to.count(file.keys.len());
        for (key, value) in &file.keys {
            to.text(key);
            to.text(value);
        }
        to.unsigned(u128::from(file.in_rows));
    }
    to.count(facts.of_columns.len());
    for fact in &facts.of_columns {
        to.text(&fact.column);
        to.unsigned(u128::from(fact.once));
        fact.told.iter().for_each(|note| encode_note(note, to));
    }
    to.count(facts.of_files.len());
    facts.of_files.iter().for_each(|note| encode_note(note, to));
}

fn decode_facts(from: &mut Decoder<'_>) -> Result<Facts, Damaged> {
    let files = many(from, |from| {
        let name = from.text()?.to_owned();
        let is_known = from.unsigned()? != 0;
        let content = (from.word()?, from.unsigned()?);
        let keys = many(from, |from| Ok((from.text()?.to_owned(), from.text()?.to_owned())))?;
        let in_rows = from.unsigned()? != 0;
        Ok(FileFacts { name, content: is_known.then_some(content), keys, in_rows })
    })?;
    let of_columns = many(from, |from| {
        let (column, once) = (from.text()?.to_owned(), from.unsigned()? != 0);
        Ok(ColumnFact { column, once, told: [decode_note(from)?, decode_note(from)?] })
    })?;
    Ok(Facts { files, of_columns, of_files: many(from, decode_note)? })
}

fn encode_lookup(lookup: &LookupRequest, to: &mut Encoder) {
    let table = &lookup.table;
    to.text(&table.name);
    to.text(&lookup.on.text);
    to.text(lookup.no_match.name());
    to.text(lookup.doubled.name());
    to.count(lookup.notes.len());
    lookup.notes.iter().for_each(|note| encode_note(note, to));
    to.unsigned(u128::from(table.in_rows));
    to.count(table.lines.len());
    table.lines.iter().for_each(|&line| to.unsigned(u128::from(line)));
    to.count(table.columns.len());
    for (info, column) in table.columns.iter().zip(&table.data) {
        to.text(&info.name);
        to.text(&kind_text(info.kind));
        encode_column(column, to);
    }
}

fn decode_lookup(from: &mut Decoder<'_>) -> Result<LookupRequest, Damaged> {
    let name = from.text()?.to_owned();
    let on = SourceText::new("--match", from.text()?);
    let no_match: NoMatch = from.text()?.parse().map_err(|()| Damaged)?;
    let doubled: Doubled = from.text()?.parse().map_err(|()| Damaged)?;
    let notes = many(from, decode_note)?;
    let in_rows = from.unsigned()? != 0;
    let lines = many(from, Decoder::word)?;
    let columns = many(from, |from| {
        let name = from.text()?.to_owned();
        let kind = kind_of(from.text()?).ok_or(Damaged)?;
        let column = decode_column(from)?;
        let fits = column.data.len() == lines.len() && column.data.fits(kind);
        if fits { Ok((oeuvre_columns::ColumnInfo::new(name, kind), column)) } else { Err(Damaged) }
    })?;
    let (columns, data) = columns.into_iter().unzip();
    let table = Arc::new(Table { name, columns, data, lines, in_rows });
    Ok(LookupRequest { table, on, no_match, doubled, notes })
}

/// What the rows of a lookup come to, to know whether two are the same.
pub(super) fn lookup_id(lookup: &LookupRequest) -> u128 {
    let mut to = Encoder::default();
    encode_lookup(lookup, &mut to);
    fingerprint(&to.into_bytes())
}
