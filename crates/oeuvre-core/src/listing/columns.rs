//! The columns of all rows that count, put together from what the workers have read.
//!
//! Workers keep pieces in whatever order they come; at the end they are sorted by their place in the file. Columns that
//! are compared are joined, several at once; others stay where they are, and their parts are put together when they are
//! asked for. Texts keep the codes of their worker until then.

use super::texts::{follows_texts, forgets};
use crate::error::Error;
use crate::pass::{Consumer, RowWork, Share};
use crate::plan::Plan;
use crate::rows::program::Operand;
use oeuvre_columns::Limits;
use oeuvre_columns::at_once;
use oeuvre_columns::column::dictionary::{Dictionary, MISSING_CODE};
use oeuvre_columns::column::{Batch, Column, Data, MISSING_I32, MISSING_I64, NO_NUMBER};
use std::mem::discriminant;
use std::ops::Range;
use std::sync::Arc;

/// From so many rows on, a column is worth a thread of its own.
pub(super) const WORTH_A_THREAD: usize = 16_384;
/// Rows are put aside in blocks of so many: large pieces of memory, which cost less to make and serve again.
const BLOCK_ROWS: usize = 1 << 20;

/// The columns of the rows that count, in blocks, until all are read.
#[derive(Default)]
pub(super) struct Columns {
    blocks: Vec<Block>,
    chunks: Vec<Chunk>,
    /// For each input the texts, by worker.
    texts: Vec<Vec<Kept>>,
    /// The inputs whose numbers have turned out to lie far apart.
    far: Vec<bool>,
}

/// The texts of a column that a worker has kept.
#[derive(Clone, Default)]
struct Kept {
    texts: Dictionary,
    /// Of columns that are only shown or put in order: the dictionary that was listed last, and what its first code became.
    listed: Option<(u64, usize)>,
}

impl Kept {
    /// Keeps the texts of a column; by how much their codes are higher here.
    fn take(&mut self, texts: &Dictionary, is_listed: bool) -> u32 {
        if !is_listed {
            // The reader's texts are followed, not shared: it would copy them to add to them.
            for code in self.texts.len()..texts.len() {
                self.texts.intern(texts.text(code as u32));
            }
            return 0;
        }
        let first = match self.listed {
            Some((of, first)) if of == texts.id() => first,
            // Begun anew.
            _ => self.texts.len(),
        };
        self.listed = Some((texts.id(), first));
        self.texts.list(texts, self.texts.len() - first);
        first as u32
    }
}

/// Rows that a worker has put aside, in whatever order it read them.
struct Block {
    worker: usize,
    rows: usize,
    /// For each input its values.
    columns: Vec<Held>,
}

impl Block {
    /// A block for rows like these; numbers in 32 bits unless they lie `far` apart.
    fn of(columns: &[&Data], far: &[bool], room: usize) -> Block {
        let held = |(data, &far): (&&Data, &bool)| match data {
            Data::I64(values) if !far => {
                let first = values.iter().find(|v| **v != MISSING_I64).copied().unwrap_or(0);
                Held::Near(first.saturating_sub(1 << 31), Vec::with_capacity(room))
            }
            other => Held::AsRead(empty_like(other, room)),
        };
        Block { worker: 0, rows: 0, columns: columns.iter().zip(far).map(held).collect() }
    }

    /// Adds rows, if all fit; else the block is as it was.
    fn put(&mut self, columns: &[&Data]) -> bool {
        let mut all = self.columns.iter_mut().zip(columns);
        let fit = all.all(|(held, data)| match (held, data) {
            (Held::Near(low, near), Data::I64(values)) => put_near(*low, near, values),
            (Held::AsRead(to), from) if discriminant(to) == discriminant(*from) => {
                append(to, from, 0..from.len());
                true
            }
            _ => false,
        });
        if !fit {
            self.columns.iter_mut().for_each(|held| held.truncate(self.rows));
        }
        fit
    }
}

/// A column of a block.
enum Held {
    AsRead(Data),
    /// Numbers in half the memory: how far above a lowest one they lie, [`NO_NUMBER`] where one is missing.
    Near(i64, Vec<u32>),
}

impl Default for Held {
    fn default() -> Held {
        Held::AsRead(Data::default())
    }
}

impl Held {
    fn truncate(&mut self, rows: usize) {
        match self {
            Held::AsRead(data) => data.truncate(rows),
            Held::Near(_, near) => near.truncate(rows),
        }
    }

    /// Bytes of a value.
    fn width(&self) -> usize {
        match self {
            Held::AsRead(data) => data.width(),
            Held::Near(..) => size_of::<i64>(),
        }
    }

    /// A number; missing where there is none.
    fn number(&self, row: usize) -> i64 {
        match self {
            Held::AsRead(Data::I64(v)) => v[row],
            Held::AsRead(Data::I32(v)) if v[row] != MISSING_I32 => v[row].into(),
            Held::Near(low, near) => number(*low, near[row]),
            Held::AsRead(_) => MISSING_I64,
        }
    }
}

/// The number so far above a lowest one.
#[inline(always)]
fn number(low: i64, above: u32) -> i64 {
    if above == NO_NUMBER { MISSING_I64 } else { low.wrapping_add(above.into()) }
}

/// Adds numbers as how far they lie above a lowest one; whether all fit.
fn put_near(low: i64, near: &mut Vec<u32>, values: &[i64]) -> bool {
    let mut fit = true;
    near.extend(values.iter().map(|&value| {
        let above = value.wrapping_sub(low) as u64;
        let is_missing = value == MISSING_I64;
        fit &= is_missing | ((value >= low) & (above < u64::from(NO_NUMBER)));
        if is_missing { NO_NUMBER } else { above as u32 }
    }));
    fit
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
        let has_room = self.blocks.last().is_some_and(|block| block.rows + rows <= BLOCK_ROWS);
        let is_put = has_room && self.blocks.last_mut().is_some_and(|block| block.put(columns));
        if !is_put {
            self.far.resize(columns.len(), false);
            if let (true, Some(block)) = (has_room, self.blocks.last()) {
                // Numbers that did not fit would hardly fit another time.
                for ((far, held), data) in self.far.iter_mut().zip(&block.columns).zip(columns) {
                    *far |= matches!((held, data), (Held::Near(..), Data::I64(_)));
                }
            }
            // The first one grows with the rows, so that few of them take little.
            let room = if self.blocks.is_empty() { 0 } else { BLOCK_ROWS.max(rows) };
            let mut block = Block::of(columns, &self.far, room);
            if !block.put(columns) {
                block = Block::of(columns, &vec![true; columns.len()], room);
                block.put(columns);
            }
            self.blocks.push(block);
        }
        let number = self.blocks.len() - 1;
        let block = &mut self.blocks[number];
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
    /// For each of them whether it is only shown, or put in order: then nobody asks whether two of its texts have one code.
    pub(super) listed: Vec<bool>,
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

    fn follows_texts(&self) -> Vec<bool> {
        follows_texts(self.plan)
    }

    fn share(&self) -> KeepShare {
        let texts = vec![Kept::default(); self.operands.len()];
        let columns = Columns { texts: vec![texts], ..Columns::default() };
        KeepShare { rows: RowWork::new(self.plan).forgetting(forgets(self.plan)), columns }
    }

    fn take(&self, share: &mut KeepShare, batch: &mut Batch) -> Result<(), Error> {
        let Some(selected) = share.rows.select(self.plan, batch)? else { return Ok(()) };
        let mut moved: Vec<Option<Data>> = Vec::new();
        let columns = self.operands.iter().map(|&operand| selected.column(operand));
        let columns: Vec<&Column> = columns.collect();
        let kept = share.columns.texts[0].iter_mut().zip(&columns).zip(&self.listed);
        for ((kept, column), &is_listed) in kept {
            let higher = kept.take(&column.dictionary, is_listed);
            moved.push(match &column.data {
                Data::Codes(codes) if higher > 0 => {
                    let moved =
                        |&code: &u32| if code == MISSING_CODE { code } else { code + higher };
                    Some(Data::Codes(codes.iter().map(moved).collect()))
                }
                _ => None,
            });
        }
        let data = moved.iter().zip(&columns);
        let data: Vec<&Data> =
            data.map(|(moved, column)| moved.as_ref().unwrap_or(&column.data)).collect();
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
    /// The columns in the order of the rows, as they were put aside; several at once.
    pub(super) fn in_order(self, inputs: usize, threads: usize) -> (usize, Vec<InBlocks>) {
        /// No more texts than these of a column that is only shown are brought to one code each.
        const FEW_TEXTS: usize = if cfg!(test) { 4 } else { 1 << 16 };
        let Columns { mut blocks, mut chunks, mut texts, far: _ } = self;
        chunks.sort_by_key(|chunk| chunk.piece);
        let mut rows = 0;
        let start = |chunk: &Chunk| {
            let start = rows;
            rows += chunk.rows.len();
            start
        };
        let starts = chunks.iter().map(start).collect();
        let workers = blocks.iter().map(|block| block.worker).collect();
        let places = Arc::new(RowPlaces { starts, chunks, workers });
        let column = |input: usize| -> (Vec<Dictionary>, Vec<Held>) {
            let texts =
                texts.iter_mut().map(|of_worker| std::mem::take(&mut of_worker[input].texts));
            let blocks = blocks.iter_mut().map(|block| std::mem::take(&mut block.columns[input]));
            (texts.collect(), blocks.collect())
        };
        let columns = (0..inputs).map(column).collect();
        let one = |(texts, blocks): (Vec<Dictionary>, Vec<Held>)| {
            let are_listed = texts.iter().any(|texts| texts.is_list());
            let are_many = texts.iter().map(|texts| texts.len()).sum::<usize>() > FEW_TEXTS;
            let mut dictionary = Dictionary::default();
            // Where they need not be found, there is nothing to look up; of few texts each has one code all the same.
            let stay_listed = are_listed && are_many;
            let map = |(worker, texts): (usize, Dictionary)| {
                let higher = dictionary.len() as u32;
                match worker {
                    // The first worker's texts serve as they are.
                    0 if stay_listed || !are_listed => dictionary = texts,
                    _ if stay_listed => dictionary.list(&texts, 0),
                    _ => return Codes::Mapped(dictionary.absorb(&texts)),
                }
                Codes::Higher(higher)
            };
            let maps = texts.into_iter().enumerate().map(map).collect();
            InBlocks { blocks, dictionary, maps, places: places.clone() }
        };
        let threads = if rows < WORTH_A_THREAD { 1 } else { threads };
        (rows, at_once(columns, threads, one))
    }
}

/// Where the rows stand, in their order.
struct RowPlaces {
    /// The first row of each chunk.
    starts: Vec<usize>,
    chunks: Vec<Chunk>,
    /// The worker of each block.
    workers: Vec<usize>,
}

/// A column in the blocks in which it was put aside.
pub(super) struct InBlocks {
    blocks: Vec<Held>,
    dictionary: Dictionary,
    /// For each worker the codes of its texts in the dictionary.
    maps: Vec<Codes>,
    places: Arc<RowPlaces>,
}

/// What the codes of a worker have become.
enum Codes {
    Mapped(Vec<u32>),
    /// So much higher ones.
    Higher(u32),
}

impl InBlocks {
    /// Bytes of a value.
    pub(super) fn width(&self) -> usize {
        self.blocks.iter().map(Held::width).max().unwrap_or(0)
    }

    /// Some rows, in their order.
    pub(super) fn slice(&self, rows: Range<usize>) -> Column {
        let RowPlaces { starts, chunks, workers } = &*self.places;
        let mut data: Option<Data> = None;
        let first = starts.partition_point(|start| *start <= rows.start).saturating_sub(1);
        for (start, chunk) in starts.iter().zip(chunks).skip(first) {
            if *start >= rows.end {
                break;
            }
            let of_chunk = rows.start.max(*start) - start..(rows.end - start).min(chunk.rows.len());
            let here = chunk.rows.start + of_chunk.start..chunk.rows.start + of_chunk.end;
            let held = &self.blocks[chunk.block];
            let data = data.get_or_insert_with(|| match held {
                Held::AsRead(from) => empty_like(from, rows.len()),
                Held::Near(..) => Data::I64(Vec::with_capacity(rows.len())),
            });
            let map = &self.maps[workers[chunk.block]];
            match (data, held) {
                (Data::Codes(to), Held::AsRead(Data::Codes(from))) => {
                    let mapped = |&code: &u32| match (code, map) {
                        (MISSING_CODE, _) => MISSING_CODE,
                        (code, Codes::Mapped(map)) => map[code as usize],
                        (code, Codes::Higher(by)) => code + by,
                    };
                    to.extend(from[here].iter().map(mapped));
                }
                (data, Held::AsRead(from)) => append(data, from, here),
                (Data::I64(to), Held::Near(low, from)) => {
                    to.extend(from[here].iter().map(|&above| number(*low, above)));
                }
                (data, Held::Near(low, from)) => {
                    let from: Vec<i64> = from[here].iter().map(|&a| number(*low, a)).collect();
                    let rows = 0..from.len();
                    append(data, &Data::I64(from), rows);
                }
            }
        }
        Column::coded(data.unwrap_or_default(), self.dictionary.clone())
    }

    /// Whether the values grow from each row to the next one, so that no two are the same; several threads look.
    pub(super) fn are_grown(&self, threads: usize) -> bool {
        let chunks = &self.places.chunks;
        let shares = chunks.chunks(chunks.len().div_ceil(threads.max(1)).max(1)).collect();
        let ends = at_once(shares, threads, |chunks: &[Chunk]| {
            let mut last = None;
            let grow = |chunk: &Chunk| match &self.blocks[chunk.block] {
                // What is missing is the least there is, or the largest above a lowest one.
                Held::AsRead(Data::I64(v)) => grow(&v[chunk.rows.clone()], |&v| v, &mut last),
                Held::AsRead(Data::I32(v)) => {
                    grow(&v[chunk.rows.clone()], |&v| i64::from(v), &mut last)
                }
                Held::Near(low, v) => grow(&v[chunk.rows.clone()], |&v| number(*low, v), &mut last),
                Held::AsRead(_) => false,
            };
            let first = chunks.iter().find(|chunk| !chunk.rows.is_empty());
            let first = first.map(|chunk| self.blocks[chunk.block].number(chunk.rows.start));
            chunks.iter().all(grow).then_some((first, last))
        });
        // Each share begins above the one before it; what is missing is above nothing.
        let mut before = MISSING_I64;
        ends.into_iter().all(|share| match share {
            Some((Some(first), Some(last))) => {
                let follows = before < first;
                before = last;
                follows
            }
            Some(_) => true,
            None => false,
        })
    }
}

/// Whether values grow on from a last one, which becomes the last of them.
fn grow<T: Copy + PartialOrd>(
    values: &[T],
    value: impl Fn(&T) -> i64,
    last: &mut Option<i64>,
) -> bool {
    let (Some(first), Some(end)) = (values.first(), values.last()) else { return true };
    let (first, end) = (value(first), value(end));
    let follows = last.is_none_or(|last| last < first) && first <= end;
    *last = Some(end);
    follows && values.is_sorted_by(|a, b| a < b)
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
            steps in proptest::collection::vec(
                prop_oneof![30 => 1i64..4, 1 => -2i64..1, 1 => 1i64 << 31..1 << 34],
                80,
            ),
            blank in prop_oneof![0usize..80, Just(usize::MAX)],
            first in -3i64..4,
            (from, len) in (0usize..80, 1usize..80),
            threads in 1usize..4,
        ) {
            // Two workers, who read pieces of the file in any order and know its texts by other codes.
            let mut workers = [0, 1].map(|_| Columns {
                texts: vec![vec![Kept::default(); 3]],
                ..Columns::default()
            });
            let mut values = Vec::new();
            let mut value = first;
            for (piece, &(worker, rows)) in pieces.iter().enumerate().rev() {
                let start: usize = pieces[..piece].iter().map(|(_, rows)| rows).sum();
                let value = |row: usize| match row == blank {
                true => MISSING_I64,
                false => first + steps[..row].iter().sum::<i64>(),
            };
                let numbers = (start..start + rows).map(value).collect::<Vec<i64>>();
                let it = &mut workers[worker];
                let texts = numbers.iter().map(|n| it.texts[0][1].texts.intern(&n.to_string())).collect();
                let day = |n: &i64| if *n == MISSING_I64 { MISSING_I32 } else { *n as i32 };
                let days = Data::I32(numbers.iter().map(day).collect());
                it.put(piece as u64, rows, &[&Data::I64(numbers), &Data::Codes(texts), &days]);
            }
            let rows: usize = pieces.iter().map(|(_, rows)| rows).sum();
            for (row, step) in steps.iter().take(rows).enumerate() {
                values.push(if row == blank { MISSING_I64 } else { value });
                value += step;
            }
            let [mut columns, other] = workers;
            columns.absorb(other);
            let (count, columns) = columns.in_order(3, 2);
            prop_assert_eq!(count, rows);
            let part = from.min(rows - 1)..(from + len).min(rows).max(from.min(rows - 1) + 1);
            let numbers = columns[0].slice(part.clone());
            prop_assert_eq!(numbers.data.to_i128(), Data::I64(values[part.clone()].to_vec()).to_i128());
            let texts = columns[1].slice(part.clone());
            let Data::Codes(codes) = &texts.data else { unreachable!() };
            let read: Vec<String> = codes.iter().map(|&c| texts.dictionary.text(c).to_owned()).collect();
            prop_assert_eq!(read, values[part].iter().map(i64::to_string).collect::<Vec<_>>());
            let has_all = !values.contains(&MISSING_I64);
            let grown = has_all && values.is_sorted_by(|a, b| a < b);
            prop_assert_eq!(columns[0].are_grown(threads), grown);
            let grown = has_all && values.is_sorted_by(|&a, &b| (a as i32) < b as i32);
            prop_assert_eq!(columns[2].are_grown(threads), grown);
            prop_assert!(!columns[1].are_grown(threads));
        }
    }
}
