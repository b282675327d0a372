//! Rows that came in twice: values that stand on two rows of a column in which nearly all differ, and rows that are
//! equal in every column.
//!
//! Both need the lines of the rows, and so a pass of their own, which is made only where there is something to
//! find: a value met twice where at least 99 in 100 differ, or no column at all whose values all differ.

use crate::error::Error;
use crate::pass::{Consumer, Pass, Share};
use oeuvre_columns::column::dictionary::fold;
use oeuvre_columns::column::{Batch, Column, Data};
use oeuvre_columns::names::{grouped, visible_label};
use oeuvre_columns::{Kind, Source, Value};
use std::collections::BTreeMap;
use std::hash::{BuildHasher, RandomState};

/// How many doubled values or rows are named, and how many lines of each.
const NAMED: usize = 3;
const LINES: usize = 4;

/// The lines of some values of some columns, in words; what stands before each column is its place.
pub(super) fn doubled_lines(
    source: &dyn Source,
    threads: usize,
    kinds: &[Kind],
    doubled: &[(usize, Vec<Value>)],
) -> Result<BTreeMap<usize, String>, Error> {
    let mut said = BTreeMap::new();
    for (column, values) in doubled {
        let named = &values[..values.len().min(NAMED)];
        let mut texts: Vec<String> = named
            .iter()
            .map(|v| match v {
                Value::Text(t) => visible_label(t),
                other => other.to_string(),
            })
            .collect();
        if let Some(line) = source.location_columns().last() {
            let find = Find { columns: [*column, line.place], kind: kinds[*column], values: named };
            let mut found = Pass::over(source, threads).serve(&find)?.share;
            for (text, lines) in texts.iter_mut().zip(&mut found) {
                lines.sort_unstable();
                let all: Vec<String> =
                    lines.iter().take(LINES).map(|(_, line)| line.to_string()).collect();
                let more = if lines.len() > LINES { ", …" } else { "" };
                text.push_str(&format!(" on {}s {}{more}", line.heading, all.join(", ")));
            }
        }
        let n = values.len() as u64;
        let stand = if n == 1 { "value stands" } else { "values stand" };
        let more = if values.len() > NAMED { ", …" } else { "" };
        said.insert(
            *column,
            format!(
                "nearly all differ, but {} {stand} on several rows: {}{more}",
                grouped(n),
                texts.join("; ")
            ),
        );
    }
    Ok(said)
}

/// Finds the rows of some values: the piece and the line of each.
struct Find<'v> {
    columns: [usize; 2],
    kind: Kind,
    values: &'v [Value],
}

impl Share for Vec<Vec<(u64, i128)>> {
    fn absorb(&mut self, other: Self, _: usize) -> Result<(), Error> {
        self.iter_mut().zip(other).for_each(|(mine, theirs)| mine.extend(theirs));
        Ok(())
    }
}

impl Consumer for Find<'_> {
    type Share = Vec<Vec<(u64, i128)>>;

    fn columns(&self) -> &[usize] {
        &self.columns
    }

    fn share(&self) -> Self::Share {
        vec![Vec::new(); self.values.len()]
    }

    fn take(&self, share: &mut Self::Share, batch: &mut Batch) -> Result<(), Error> {
        let [column, lines] = &batch.columns[..] else { return Ok(()) };
        let lines = lines.data.to_i128();
        for (value, found) in self.values.iter().zip(share) {
            let rows = (0..batch.rows).filter(|&row| column.value(self.kind, row) == *value);
            found.extend(rows.map(|row| (batch.piece, lines[row])));
        }
        Ok(())
    }
}

/// How many rows are equal to an earlier one in every column, in words with some lines; `None` for none.
pub(super) fn equal_rows(source: &dyn Source, threads: usize) -> Result<Option<String>, Error> {
    let infos = source.columns();
    let place = source.location_columns();
    // The name of a row's file is no part of the row.
    let is_own = |c: &usize| place.is_empty() || infos[*c].name != "source_file";
    let mut wanted: Vec<usize> = (0..infos.len()).filter(is_own).collect();
    let columns = wanted.len();
    let counted = place.last().map_or("line", |last| last.heading);
    wanted.extend(place.first().into_iter().chain(place.last()).map(|c| c.place));
    let hashes = Hashes { wanted, columns, seed: RandomState::new().hash_one(0u8) };
    let Hashed { mut rows, files, .. } = Pass::over(source, threads).serve(&hashes)?.share;
    rows.sort_unstable();
    let mut pairs: Vec<(u64, [(i128, usize); 2])> = Vec::new();
    let mut doubled = 0u64;
    for run in rows.chunk_by(|a, b| a.0 == b.0).filter(|run| run.len() > 1) {
        doubled += run.len() as u64 - 1;
        pairs.push((run[0].1, [(run[0].2, run[0].3), (run[1].2, run[1].3)]));
    }
    if doubled == 0 {
        return Ok(None);
    }
    pairs.sort_unstable();
    let (is, rows) = if doubled == 1 { ("is", "row") } else { ("are", "rows") };
    let named = |&(_, [(a, of_a), (b, of_b)]): &(u64, [(i128, usize); 2])| match files.len() {
        0 | 1 => format!("{counted}s {a} and {b}"),
        _ => format!("{counted} {a} of {} and {counted} {b} of {}", files[of_a], files[of_b]),
    };
    let named: Vec<String> = pairs.iter().take(NAMED).map(named).collect();
    let such = match place.is_empty() {
        false => format!(", such as {}", named.join(", ")),
        true => String::new(),
    };
    Ok(Some(format!(
        "{} {rows} {is} equal to an earlier one in every column{such}",
        grouped(doubled)
    )))
}

/// Hashes of whole rows, each with its piece and line.
struct Hashes {
    wanted: Vec<usize>,
    columns: usize,
    seed: u64,
}

/// What a worker has hashed.
#[derive(Default)]
struct Hashed {
    rows: Vec<(u128, u64, i128, usize)>,
    /// The names of the files, by the last part of a row.
    files: Vec<String>,
    /// The hashes of the texts of each column, by code.
    texts: Vec<Vec<u64>>,
}

impl Share for Hashed {
    fn absorb(&mut self, other: Hashed, _: usize) -> Result<(), Error> {
        let map: Vec<usize> = other.files.iter().map(|name| self.file(name)).collect();
        let row =
            |(hash, piece, line, file)| (hash, piece, line, map.get(file).copied().unwrap_or(0));
        self.rows.extend(other.rows.into_iter().map(row));
        Ok(())
    }
}

impl Hashed {
    /// The number of a file.
    fn file(&mut self, name: &str) -> usize {
        self.files.iter().position(|known| known == name).unwrap_or_else(|| {
            self.files.push(name.to_owned());
            self.files.len() - 1
        })
    }
}

impl Hashes {
    /// The hash of each value of a column.
    fn of_column(&self, column: &Column, texts: &mut Vec<u64>, row: usize) -> u64 {
        if column.data.is_missing(row) {
            return 1;
        }
        let whole = |n: i128| fold(n as u64 ^ self.seed, (n >> 64) as u64 ^ !self.seed | 1);
        match &column.data {
            Data::I64(v) => whole(i128::from(v[row])),
            Data::I128(v) => whole(v[row]),
            Data::F64(v) => whole(i128::from(v[row].to_bits())),
            Data::I32(v) => whole(i128::from(v[row])),
            Data::Bool(v) => whole(i128::from(v[row])),
            Data::Codes(v) => {
                for code in texts.len()..column.dictionary.len() {
                    let text = column.dictionary.text(code as u32);
                    let hash = text.as_bytes().chunks(8).fold(self.seed, |hash, chunk| {
                        let mut word = [0; 8];
                        word[..chunk.len()].copy_from_slice(chunk);
                        fold(hash ^ u64::from_le_bytes(word), PI ^ chunk.len() as u64)
                    });
                    texts.push(hash);
                }
                texts[v[row] as usize]
            }
        }
    }
}

/// An odd constant from the digits of pi.
const PI: u64 = 0x243f_6a88_85a3_08d3;

impl Consumer for Hashes {
    type Share = Hashed;

    fn columns(&self) -> &[usize] {
        &self.wanted
    }

    fn share(&self) -> Hashed {
        Hashed { texts: vec![Vec::new(); self.columns], ..Hashed::default() }
    }

    fn take(&self, share: &mut Hashed, batch: &mut Batch) -> Result<(), Error> {
        // Behind the columns the file, the same for a batch, and the line.
        let lines = batch.columns.get(self.columns + 1).map(|c| c.data.to_i128());
        let name = batch.columns.get(self.columns).filter(|_| batch.rows > 0);
        let file = match name.map(|c| c.value(Kind::Text, 0)) {
            Some(Value::Text(name)) => share.file(&name),
            _ => 0,
        };
        for row in 0..batch.rows {
            let (mut a, mut b) = (self.seed, !self.seed);
            for (column, texts) in batch.columns[..self.columns].iter().zip(&mut share.texts) {
                let value = self.of_column(column, texts, row);
                (a, b) =
                    (fold(a ^ value, PI), fold(b.rotate_left(29) ^ value, PI.rotate_left(32) | 1));
            }
            let line = lines.as_ref().map_or(0, |lines| lines[row]);
            share.rows.push((u128::from(a) << 64 | u128::from(b), batch.piece, line, file));
        }
        Ok(())
    }
}
