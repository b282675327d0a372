//! The columns of all rows that count, put together from what the workers have read.
//!
//! Workers keep pieces in whatever order they come; at the end they are sorted by their place in the file and
//! joined, a column at a time and several columns at once. Texts keep the codes of their worker until then.

use crate::error::Error;
use crate::pass::{Consumer, RowWork, Share};
use crate::plan::Plan;
use crate::rows::program::Operand;
use oeuvre_columns::Limits;
use oeuvre_columns::at_once;
use oeuvre_columns::column::dictionary::{Dictionary, MISSING_CODE};
use oeuvre_columns::column::{Batch, Column, Data};
use std::mem::discriminant;
use std::ops::Range;

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
    /// The whole columns, in the order of the rows; as many at a time as there are threads, unless there are so
    /// few rows that a thread costs more than a column.
    pub(super) fn join(mut self, inputs: usize, threads: usize) -> (usize, Vec<Column>) {
        self.chunks.sort_by_key(|chunk| chunk.piece);
        let rows = self.chunks.iter().map(|chunk| chunk.rows.len()).sum();
        let mut out: Vec<Column> = Vec::new();
        let threads = if rows < WORTH_A_THREAD { 1 } else { threads };
        while out.len() < inputs {
            let now = out.len()..(out.len() + threads).min(inputs);
            // Blocks are let go as they are joined, so that few columns are held twice.
            let column =
                |i| self.blocks.iter_mut().map(|b| std::mem::take(&mut b.columns[i])).collect();
            let blocks: Vec<Vec<Data>> = now.clone().map(column).collect();
            let it = &self;
            let join = |(i, blocks): (usize, Vec<Data>)| it.join_column(i, &blocks, rows);
            out.extend(at_once(now.zip(blocks).collect(), threads, join));
        }
        (rows, out)
    }

    /// One column of its blocks.
    fn join_column(&self, input: usize, blocks: &[Data], rows: usize) -> Column {
        // The first worker's texts serve as they are.
        let mut dictionary =
            self.texts.first().map_or_else(Dictionary::default, |t| t[input].clone());
        let absorb = |texts: &Vec<Dictionary>| dictionary.absorb(&texts[input]);
        let maps: Vec<Vec<u32>> = self.texts.iter().map(absorb).collect();
        let mut data: Option<Data> = None;
        for chunk in &self.chunks {
            let from = &blocks[chunk.block];
            let data = data.get_or_insert_with(|| empty_like(from, rows));
            let map = &maps[self.blocks[chunk.block].worker];
            match (data, from) {
                (Data::Codes(to), Data::Codes(from)) => {
                    let mapped = |&code: &u32| match code {
                        MISSING_CODE => MISSING_CODE,
                        code => map[code as usize],
                    };
                    to.extend(from[chunk.rows.clone()].iter().map(mapped));
                }
                (data, from) => append(data, from, chunk.rows.clone()),
            }
        }
        Column::coded(data.unwrap_or_default(), dictionary)
    }
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
