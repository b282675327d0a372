//! The rows of joined parts as a source: what is known of their columns, and the rows themselves where they are kept.

use super::file::Leaf;
use oeuvre_columns::column::dictionary::{Followed, MISSING_CODE};
use oeuvre_columns::column::{Batch, Column, Data};
use oeuvre_columns::value::exact::decimal_to_f64;
use oeuvre_columns::{
    Account, ColumnInfo, DataProblem, Decimal, Kind, Note, ReadError, Reader, Source, Value,
};
use oeuvre_core::aggregate::encoding::{Damaged, Decoder, Encoder};
use oeuvre_core::{decode_column, encode_column};
use oeuvre_data::{Facts, Input};
use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

/// No batch that a reader gives has so many rows.
const MOST_ROWS: usize = 1 << 26;

/// The rows of joined parts.
pub(crate) struct OfParts {
    pub(super) columns: Vec<(String, Kind)>,
    pub(super) zone: String,
    pub(super) leaves: Vec<Leaf>,
    /// The batches of all leaves in their order, where rows are kept.
    batches: Vec<Kept>,
    /// What was passed over when these were read.
    account: Account,
}

/// Some rows that are kept.
struct Kept {
    rows: usize,
    /// Columns with their kinds, by name.
    columns: HashMap<String, (Kind, Column)>,
}

impl OfParts {
    /// The rows of some leaves, in their order.
    pub(super) fn new(
        columns: Vec<(String, Kind)>,
        zone: String,
        leaves: Vec<Leaf>,
    ) -> Result<OfParts, Damaged> {
        let (mut batches, mut account) = (Vec::new(), Account::default());
        for rows in leaves.iter().filter_map(|leaf| leaf.rows.as_deref()) {
            decode_rows(rows, &mut batches, &mut account)?;
        }
        Ok(OfParts { columns, zone, leaves, batches, account })
    }
}

/// Writes down rows as they come: batch by batch the columns with their names and kinds.
pub(super) fn encode_rows(
    source: &dyn Source,
    places: &[usize],
    kind_text: impl Fn(Kind) -> String,
) -> Result<Vec<u8>, ReadError> {
    let infos = source.columns();
    let (mut to, mut account) = (Encoder::default(), Account::default());
    let (mut batches, mut kept) = (Encoder::default(), Batch::default());
    // One reader gives the rows in their order.
    for mut reader in source.scan(places, 1)? {
        while reader.next(&mut kept)? {
            batches.inner(|to| {
                to.count(kept.rows);
                to.count(places.len());
                for (&place, column) in places.iter().zip(&kept.columns) {
                    to.text(&infos[place].name);
                    to.text(&kind_text(infos[place].kind));
                    to.inner(|to| encode_column(&of_batch(column), to));
                }
            });
        }
        account.add(reader.account());
    }
    for n in [account.unreadable, account.padded, account.totals] {
        to.unsigned(u128::from(n));
    }
    to.bytes(&batches.into_bytes());
    source.ensure_unchanged()?;
    source.ensure_sound(places)?;
    Ok(to.into_bytes())
}

/// A column with the texts alone that its batch has.
fn of_batch(column: &Column) -> Column {
    let Data::Codes(codes) = &column.data else { return column.clone() };
    let mut known = HashMap::new();
    let mut out = Column::from(Data::empty(Kind::Text));
    let local = |&code: &u32| match code {
        MISSING_CODE => code,
        code => *known
            .entry(code)
            .or_insert_with(|| out.dictionary.intern(column.dictionary.text(code))),
    };
    let codes = codes.iter().map(local).collect();
    out.data = Data::Codes(codes);
    out.marks = column.marks.clone();
    out
}

fn decode_rows(
    bytes: &[u8],
    batches: &mut Vec<Kept>,
    account: &mut Account,
) -> Result<(), Damaged> {
    let mut whole = Decoder::new(bytes);
    let [unreadable, padded, totals] = [whole.word()?, whole.word()?, whole.word()?];
    account.add(Account { unreadable, padded, totals, unseen: 0 });
    let mut from = whole.inner()?;
    while !from.is_done() {
        let mut from = from.inner()?;
        let rows = usize::try_from(from.word()?).map_err(|_| Damaged)?;
        let mut columns = HashMap::new();
        for _ in 0..from.count()? {
            let name = from.text()?.to_owned();
            let kind = super::file::kind_of(from.text()?).ok_or(Damaged)?;
            let column = decode_column(&mut from.inner()?)?;
            if column.data.len() != rows || !column.data.fits(kind) {
                return Err(Damaged);
            }
            columns.insert(name, (kind, column));
        }
        // Rows without a column are only counted, and cost nothing, however many they are said to be.
        if !from.is_done() || (columns.is_empty() && rows > MOST_ROWS) {
            return Err(Damaged);
        }
        batches.push(Kept { rows, columns });
    }
    Ok(())
}

/// Whether values of a kind can be given as those of another one.
pub(super) fn can_widen(from: Kind, to: Kind) -> bool {
    match (from, to) {
        _ if from == to => true,
        (Kind::Nothing, _) => true,
        (Kind::Number { scale: a }, Kind::Number { scale: b }) => a <= b,
        (Kind::Number { .. }, Kind::Float) | (Kind::Date, Kind::DateTime) => true,
        _ => false,
    }
}

/// A column as one of a wider kind.
fn widened(column: &Column, from: Kind, to: Kind) -> Result<Column, ReadError> {
    if from == to {
        return Ok(column.clone());
    }
    let too_large = || ReadError::from(DataProblem::new("a number is too large to be joined"));
    let mut out = Column::from(Data::empty(to));
    for row in 0..column.data.len() {
        let value = match (column.value(from, row), to) {
            (Value::Missing, _) => Value::Missing,
            (Value::Number(n), Kind::Number { scale }) => {
                Value::Number(n.rescale(scale).ok_or_else(too_large)?)
            }
            (Value::Number(n), _) => {
                Value::Float(decimal_to_f64(Decimal::new(n.mantissa, n.scale)))
            }
            (Value::Date(day), _) => {
                Value::DateTime(i64::from(day) * oeuvre_columns::value::calendar::DAY_MICROS)
            }
            (other, _) => other,
        };
        out.push(to, &value);
    }
    out.marks = column.marks.clone();
    Ok(out)
}

impl Source for OfParts {
    fn columns(&self) -> Vec<ColumnInfo> {
        self.columns.iter().map(|(name, kind)| ColumnInfo::new(name, *kind)).collect()
    }

    fn zone(&self) -> &str {
        &self.zone
    }

    fn notes(&self, columns: &[usize]) -> Vec<Note> {
        let facts: Vec<&Facts> = self.leaves.iter().map(|leaf| &leaf.facts).collect();
        let names: Vec<String> =
            columns.iter().filter_map(|&at| self.columns.get(at)).map(|c| c.0.clone()).collect();
        Facts::notes(&facts, &names)
    }

    fn scan<'a>(
        &'a self,
        columns: &[usize],
        readers: usize,
    ) -> Result<Vec<Box<dyn Reader + 'a>>, ReadError> {
        let next = Arc::new(AtomicUsize::new(0));
        let reader = |place: usize| -> Box<dyn Reader + 'a> {
            Box::new(OfPartsReader {
                rows: self,
                columns: columns.to_vec(),
                next: next.clone(),
                // The first one has passed over what was passed over when the rows were read.
                account: if place == 0 { self.account } else { Account::default() },
                piece: 0,
            })
        };
        Ok((0..readers.clamp(1, self.batches.len().max(1))).map(reader).collect())
    }
}

/// One of the readers of a pass; each batch goes to whoever comes first.
struct OfPartsReader<'a> {
    rows: &'a OfParts,
    columns: Vec<usize>,
    next: Arc<AtomicUsize>,
    account: Account,
    piece: u64,
}

impl Reader for OfPartsReader<'_> {
    fn next(&mut self, batch: &mut Batch) -> Result<bool, ReadError> {
        let at = self.next.fetch_add(1, Ordering::Relaxed);
        let Some(kept) = self.rows.batches.get(at) else { return Ok(false) };
        batch.columns.resize_with(self.columns.len(), Column::default);
        for (&place, out) in self.columns.iter().zip(&mut batch.columns) {
            let (name, kind) = &self.rows.columns[place];
            let column = match kept.columns.get(name) {
                Some((own, column)) => widened(column, *own, *kind)?,
                None => Column::from_values(*kind, &vec![Value::Missing; kept.rows]),
            };
            // A reader's texts keep their codes from batch to batch.
            let mut codes = Followed::default();
            out.dictionary.follow(&column.dictionary, &mut codes);
            out.data = match column.data {
                Data::Codes(own) => {
                    let here = |code: &u32| codes.get(*code as usize).copied();
                    Data::Codes(own.iter().map(|code| here(code).unwrap_or(MISSING_CODE)).collect())
                }
                data => data,
            };
            out.marks = column.marks;
        }
        (batch.rows, batch.piece, self.piece) = (kept.rows, at as u64, at as u64);
        Ok(true)
    }

    fn piece(&self) -> u64 {
        self.piece
    }

    fn account(&self) -> Account {
        self.account
    }
}

impl Input for OfParts {
    fn learn(&mut self) -> Result<(), ReadError> {
        Ok(())
    }

    fn looks_like(&self, _: &str) -> &'static str {
        "text"
    }

    fn warnings(&self) -> Vec<(String, String)> {
        Vec::new()
    }

    fn facts(&self, _: &[usize]) -> Facts {
        Facts::default()
    }

    fn rows_whole(&self) -> Result<(Vec<Column>, Vec<u64>), ReadError> {
        Err(DataProblem::new("a part is no lookup").into())
    }
}
