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

/// From so many rows on, a column is worth a thread of its own.
const WORTH_A_THREAD: usize = 16_384;

/// The columns of the rows that count, in pieces, until all are read.
#[derive(Default)]
pub(super) struct Columns {
    /// The piece, and for each input its values.
    pub(super) chunks: Vec<(u64, usize, Vec<Data>)>,
    /// For each input the texts, by worker.
    pub(super) texts: Vec<Vec<Dictionary>>,
    /// Which of them each chunk uses.
    pub(super) worker_of: Vec<usize>,
}

impl Columns {
    /// Adds what another worker has read.
    fn absorb(&mut self, other: Columns) {
        let before = self.texts.len();
        self.chunks.extend(other.chunks);
        self.worker_of.extend(other.worker_of.iter().map(|w| w + before));
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
        let Columns { chunks, texts, worker_of } = &mut share.columns;
        let texts = &mut texts[0];
        let data = self.operands.iter().enumerate().map(|(i, &operand)| {
            let column = selected.column(operand);
            // The reader's texts are followed, not shared: it would copy them to add to them.
            for code in texts[i].len()..column.dictionary.len() {
                texts[i].intern(column.dictionary.text(code as u32));
            }
            column.data.clone()
        });
        let data: Vec<Data> = data.collect();
        chunks.push((selected.batch.piece, selected.batch.rows, data));
        worker_of.push(0);
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
        let mut order: Vec<usize> = (0..self.chunks.len()).collect();
        order.sort_by_key(|&c| self.chunks[c].0);
        let rows = self.chunks.iter().map(|c| c.1).sum();
        let mut out: Vec<Column> = Vec::new();
        let threads = if rows < WORTH_A_THREAD { 1 } else { threads };
        while out.len() < inputs {
            let now = out.len()..(out.len() + threads).min(inputs);
            // Chunks are let go as they are joined, so that few columns are held twice.
            let chunks: Vec<Vec<Data>> = now
                .clone()
                .map(|i| order.iter().map(|&c| std::mem::take(&mut self.chunks[c].2[i])).collect())
                .collect();
            let (texts, worker_of, order) = (&self.texts, &self.worker_of, &order);
            let join = |(i, chunks): (usize, Vec<Data>)| {
                let texts: Vec<&Dictionary> = texts.iter().map(|t| &t[i]).collect();
                join_column(chunks, order.iter().map(|&c| worker_of[c]), &texts, rows)
            };
            out.extend(at_once(now.zip(chunks).collect(), threads, join));
        }
        (rows, out)
    }
}

/// One column of its chunks, each with the number of the worker whose texts it uses.
fn join_column(
    chunks: Vec<Data>,
    workers: impl Iterator<Item = usize>,
    texts: &[&Dictionary],
    rows: usize,
) -> Column {
    let mut dictionary = Dictionary::default();
    let maps: Vec<Vec<u32>> = texts
        .iter()
        .map(|of_worker| {
            // The first worker's texts serve as they are.
            if dictionary.is_empty() {
                dictionary = (*of_worker).clone();
            }
            dictionary.absorb(of_worker)
        })
        .collect();
    let mut data: Option<Data> = None;
    for (mut chunk, worker) in chunks.into_iter().zip(workers) {
        if let Data::Codes(codes) = &mut chunk {
            for code in codes.iter_mut().filter(|c| **c != MISSING_CODE) {
                *code = maps[worker][*code as usize];
            }
        }
        match &mut data {
            None => {
                reserve(&mut chunk, rows);
                data = Some(chunk);
            }
            Some(data) => append(data, chunk),
        }
    }
    Column::coded(data.unwrap_or_default(), dictionary)
}

fn reserve(data: &mut Data, rows: usize) {
    match data {
        Data::I64(v) => v.reserve_exact(rows.saturating_sub(v.len())),
        Data::I128(v) => v.reserve_exact(rows.saturating_sub(v.len())),
        Data::F64(v) => v.reserve_exact(rows.saturating_sub(v.len())),
        Data::Codes(v) => v.reserve_exact(rows.saturating_sub(v.len())),
        Data::I32(v) => v.reserve_exact(rows.saturating_sub(v.len())),
        Data::Bool(v) => v.reserve_exact(rows.saturating_sub(v.len())),
    }
}

/// Appends a chunk; one of 64-bit numbers may follow one that needed 128, and the other way round.
fn append(data: &mut Data, chunk: Data) {
    match (&mut *data, chunk) {
        (Data::I64(a), Data::I64(b)) => a.extend(b),
        (Data::F64(a), Data::F64(b)) => a.extend(b),
        (Data::Codes(a), Data::Codes(b)) => a.extend(b),
        (Data::I32(a), Data::I32(b)) => a.extend(b),
        (Data::Bool(a), Data::Bool(b)) => a.extend(b),
        (_, chunk) => {
            let mut wide = data.to_i128();
            wide.extend(chunk.to_i128());
            *data = Data::I128(wide);
        }
    }
}
