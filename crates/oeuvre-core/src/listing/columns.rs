//! The columns of all rows that count, put together from what the workers have read.
//!
//! Workers keep pieces in whatever order they come; at the end they are sorted by their place in the file. Columns that
//! are compared are joined, several at once; others stay where they are, and their parts are put together when they are
//! asked for. Texts keep the codes of their worker until then.

use crate::error::Error;
use crate::pass::{Consumer, RowWork, Share};
use crate::plan::Plan;
use crate::rows::program::Operand;
use oeuvre_columns::Limits;
use oeuvre_columns::at_once;
use oeuvre_columns::column::dictionary::{Dictionary, MISSING_CODE};
use oeuvre_columns::column::{Batch, Column, Data, MISSING_I32};
use std::mem::discriminant;
use std::ops::Range;
use std::sync::Arc;

/// From so many rows on, a column is worth a thread of its own.
const WORTH_A_THREAD: usize = 16_384;
/// Rows are put aside in blocks of so many: large pieces of memory, which cost less to make and serve again.
const BLOCK_ROWS: usize = 1 << 20;

/// The columns of the rows that count, in blocks, until all are read.
#[derive(Default)]
pub(super) struct Columns {
    blocks: Vec<Block>,
    chunks: Vec<Chunk>,
    /// For each input the texts, by worker.
    texts: Vec<Vec<Dictionary>>,
}

/// Rows that a worker has put aside, in whatever order it read them.
struct Block {
    worker: usize,
    rows: usize,
    /// For each input its values.
    columns: Vec<Data>,
}

/// The rows of a piece of the file: where they are.
struct Chunk {
    piece: u64,
    block: usize,
    rows: Range<usize>,
}

impl Columns {
    /// Puts the rows of a piece aside.
    fn put(&mut self, piece: u64, rows: usize, columns: &[&Data]) {
        let fits = |block: &Block| {
            let same = |(a, b): (&Data, &&Data)| discriminant(a) == discriminant(*b);
            block.rows + rows <= BLOCK_ROWS && block.columns.iter().zip(columns).all(same)
        };
        if !self.blocks.last().is_some_and(fits) {
            // The first one grows with the rows, so that few of them take little.
            let room = if self.blocks.is_empty() { 0 } else { BLOCK_ROWS.max(rows) };
            let columns = columns.iter().map(|data| empty_like(data, room)).collect();
            self.blocks.push(Block { worker: 0, rows: 0, columns });
        }
        let number = self.blocks.len() - 1;
        let block = &mut self.blocks[number];
        for (to, from) in block.columns.iter_mut().zip(columns) {
            append(to, from, 0..rows);
        }
        self.chunks.push(Chunk { piece, block: number, rows: block.rows..block.rows + rows });
        block.rows += rows;
    }

    /// Adds what another worker has read.
    fn absorb(&mut self, other: Columns) {
        let (workers, blocks) = (self.texts.len(), self.blocks.len());
        let moved = |chunk: Chunk| Chunk { block: chunk.block + blocks, ..chunk };
        self.chunks.extend(other.chunks.into_iter().map(moved));
        let moved = |block: Block| Block { worker: block.worker + workers, ..block };
        self.blocks.extend(other.blocks.into_iter().map(moved));
        self.texts.extend(other.texts);
    }
}

/// The columns that are shown or compared, as a consumer of a pass.
pub(crate) struct Keep<'a> {
    pub(super) plan: &'a Plan,
    /// The columns of the row program.
    pub(super) operands: Vec<Operand>,
}

/// What a worker has read of them.
pub(crate) struct KeepShare {
    pub(super) rows: RowWork,
    pub(super) columns: Columns,
}

impl Consumer for Keep<'_> {
    type Share = KeepShare;

    fn columns(&self) -> &[usize] {
        &self.plan.inputs
    }

    fn limits(&self) -> Limits {
        self.plan.limits()
    }

    fn chooses_by(&self) -> Option<&Plan> {
        Some(self.plan)
    }

    fn share(&self) -> KeepShare {
        let texts = vec![Dictionary::default(); self.operands.len()];
        let columns = Columns { texts: vec![texts], ..Columns::default() };
        KeepShare { rows: RowWork::new(self.plan), columns }
    }

    fn take(&self, share: &mut KeepShare, batch: &mut Batch) -> Result<(), Error> {
        let Some(selected) = share.rows.select(self.plan, batch)? else { return Ok(()) };
        let columns = self.operands.iter().map(|&operand| selected.column(operand));
        let columns: Vec<&Column> = columns.collect();
        // The reader's texts are followed, not shared: it would copy them to add to them.
        for (texts, column) in share.columns.texts[0].iter_mut().zip(&columns) {
            for code in texts.len()..column.dictionary.len() {
                texts.intern(column.dictionary.text(code as u32));
            }
        }
        let data: Vec<&Data> = columns.iter().map(|column| &column.data).collect();
        share.columns.put(selected.batch.piece, selected.batch.rows, &data);
        Ok(())
    }
}

impl Share for KeepShare {
    fn absorb(&mut self, other: KeepShare, threads: usize) -> Result<(), Error> {
        self.rows.absorb(other.rows, threads)?;
        self.columns.absorb(other.columns);
        Ok(())
    }
}

impl Columns {
    /// The columns in the order of the rows, as they were put aside; several at once, unless there are so few rows that a
    /// thread costs more than a column.
    pub(super) fn in_order(self, inputs: usize, threads: usize) -> (usize, Vec<InBlocks>) {
        let Columns { mut blocks, mut chunks, texts } = self;
        chunks.sort_by_key(|chunk| chunk.piece);
        let mut rows = 0;
        let start = |chunk: &Chunk| {
            let start = rows;
            rows += chunk.rows.len();
            start
        };
        let starts = chunks.iter().map(start).collect();
        let workers = blocks.iter().map(|block| block.worker).collect();
        let places = Arc::new(Places { starts, chunks, workers });
        let threads = if rows < WORTH_A_THREAD { 1 } else { threads };
        let column = |input: usize| -> (usize, Vec<Data>) {
            let blocks = blocks.iter_mut().map(|block| std::mem::take(&mut block.columns[input]));
            (input, blocks.collect())
        };
        let columns = (0..inputs).map(column).collect();
        let one = |(input, blocks): (usize, Vec<Data>)| {
            // The first worker's texts serve as they are.
            let mut dictionary =
                texts.first().map_or_else(Dictionary::default, |t| t[input].clone());
            let maps = texts.iter().map(|texts| dictionary.absorb(&texts[input])).collect();
            InBlocks { blocks, dictionary, maps, places: places.clone() }
        };
        (rows, at_once(columns, threads, one))
    }
}

/// Where the rows stand, in their order.
struct Places {
    /// The first row of each chunk.
    starts: Vec<usize>,
    chunks: Vec<Chunk>,
    /// The worker of each block.
    workers: Vec<usize>,
}

/// A column in the blocks in which it was put aside.
pub(super) struct InBlocks {
    blocks: Vec<Data>,
    dictionary: Dictionary,
    /// For each worker the codes of its texts in the dictionary.
    maps: Vec<Vec<u32>>,
    places: Arc<Places>,
}

impl InBlocks {
    /// Bytes of a value.
    pub(super) fn width(&self) -> usize {
        self.blocks.iter().map(Data::width).max().unwrap_or(0)
    }

    /// Some rows, in their order.
    pub(super) fn slice(&self, rows: Range<usize>) -> Column {
        let Places { starts, chunks, workers } = &*self.places;
        let mut data: Option<Data> = None;
        let first = starts.partition_point(|start| *start <= rows.start).saturating_sub(1);
        for (start, chunk) in starts.iter().zip(chunks).skip(first) {
            if *start >= rows.end {
                break;
            }
            let of_chunk = rows.start.max(*start) - start..(rows.end - start).min(chunk.rows.len());
            let here = chunk.rows.start + of_chunk.start..chunk.rows.start + of_chunk.end;
            let from = &self.blocks[chunk.block];
            let data = data.get_or_insert_with(|| empty_like(from, rows.len()));
            let map = &self.maps[workers[chunk.block]];
            match (data, from) {
                (Data::Codes(to), Data::Codes(from)) => {
                    let mapped = |&code: &u32| match code {
                        MISSING_CODE => MISSING_CODE,
                        code => map[code as usize],
                    };
                    to.extend(from[here].iter().map(mapped));
                }
                (data, from) => append(data, from, here),
            }
        }
        Column::coded(data.unwrap_or_default(), self.dictionary.clone())
    }

    /// Whether the values grow from each row to the next one, so that no two are the same.
    pub(super) fn are_grown(&self) -> bool {
        let mut last = i64::MIN;
        self.places.chunks.iter().all(|chunk| {
            let rows = chunk.rows.clone();
            // What is missing is the least there is.
            match &self.blocks[chunk.block] {
                Data::I64(v) => grow(&v[rows], |&value| value, &mut last),
                Data::I32(v) => {
                    let value = |&value: &i32| match value {
                        MISSING_I32 => i64::MIN,
                        value => value.into(),
                    };
                    grow(&v[rows], value, &mut last)
                }
                _ => false,
            }
        })
    }
}

/// Whether values grow on from a last one, which becomes the last of them.
fn grow<T>(values: &[T], value: impl Fn(&T) -> i64, last: &mut i64) -> bool {
    let before = *last;
    *last = values.last().map_or(before, &value);
    let first = values.first().is_none_or(|first| before < value(first));
    first && values.is_sorted_by(|a, b| value(a) < value(b))
}

/// Nothing yet of the same kind, with room for so many.
fn empty_like(data: &Data, room: usize) -> Data {
    match data {
        Data::I64(_) => Data::I64(Vec::with_capacity(room)),
        Data::I128(_) => Data::I128(Vec::with_capacity(room)),
        Data::F64(_) => Data::F64(Vec::with_capacity(room)),
        Data::Codes(_) => Data::Codes(Vec::with_capacity(room)),
        Data::I32(_) => Data::I32(Vec::with_capacity(room)),
        Data::Bool(_) => Data::Bool(Vec::with_capacity(room)),
    }
}

/// Appends some rows; 64-bit numbers may follow such that needed 128, and the other way round.
fn append(data: &mut Data, from: &Data, rows: Range<usize>) {
    match (&mut *data, from) {
        (Data::I64(a), Data::I64(b)) => a.extend_from_slice(&b[rows]),
        (Data::I128(a), Data::I128(b)) => a.extend_from_slice(&b[rows]),
        (Data::F64(a), Data::F64(b)) => a.extend_from_slice(&b[rows]),
        (Data::Codes(a), Data::Codes(b)) => a.extend_from_slice(&b[rows]),
        (Data::I32(a), Data::I32(b)) => a.extend_from_slice(&b[rows]),
        (Data::Bool(a), Data::Bool(b)) => a.extend_from_slice(&b[rows]),
        (Data::I128(a), b) => a.extend(b.slice(rows).to_i128()),
        (a, b) => {
            let mut wide = a.to_i128();
            wide.extend(b.slice(rows).to_i128());
            *data = Data::I128(wide);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn parts_of_what_was_put_aside_are_those_of_the_whole(
            pieces in proptest::collection::vec((0usize..2, 1usize..9), 1..9),
            steps in proptest::collection::vec(prop_oneof![9 => 1i64..4, 1 => -2i64..1], 80),
            first in -3i64..4,
            (from, len) in (0usize..80, 1usize..80),
        ) {
            // Two workers, who read pieces of the file in any order and know its texts by other codes.
            let mut workers = [0, 1].map(|_| Columns {
                texts: vec![vec![Dictionary::default(); 3]],
                ..Columns::default()
            });
            let mut values = Vec::new();
            let mut value = first;
            for (piece, &(worker, rows)) in pieces.iter().enumerate().rev() {
                let start: usize = pieces[..piece].iter().map(|(_, rows)| rows).sum();
                let value = |row: usize| first + steps[..row].iter().sum::<i64>();
                let numbers = (start..start + rows).map(value).collect::<Vec<i64>>();
                let it = &mut workers[worker];
                let texts = numbers.iter().map(|n| it.texts[0][1].intern(&n.to_string())).collect();
                let days = Data::I32(numbers.iter().map(|&n| n as i32).collect());
                it.put(piece as u64, rows, &[&Data::I64(numbers), &Data::Codes(texts), &days]);
            }
            let rows: usize = pieces.iter().map(|(_, rows)| rows).sum();
            for step in steps.iter().take(rows) {
                values.push(value);
                value += step;
            }
            let [mut columns, other] = workers;
            columns.absorb(other);
            let (count, columns) = columns.in_order(3, 2);
            prop_assert_eq!(count, rows);
            let part = from.min(rows - 1)..(from + len).min(rows).max(from.min(rows - 1) + 1);
            let numbers = columns[0].slice(part.clone());
            prop_assert_eq!(numbers.data.to_i128(), values[part.clone()].iter().map(|&n| i128::from(n)).collect::<Vec<_>>());
            let texts = columns[1].slice(part.clone());
            let Data::Codes(codes) = &texts.data else { unreachable!() };
            let read: Vec<String> = codes.iter().map(|&c| texts.dictionary.text(c).to_owned()).collect();
            prop_assert_eq!(read, values[part].iter().map(i64::to_string).collect::<Vec<_>>());
            let grown = values.is_sorted_by(|a, b| a < b);
            prop_assert_eq!(columns[0].are_grown(), grown);
            prop_assert_eq!(columns[2].are_grown(), grown);
            prop_assert!(!columns[1].are_grown());
        }
    }
}
