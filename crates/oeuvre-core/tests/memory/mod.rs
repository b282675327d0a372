//! Rows in memory as a source, for tests of the core alone.

// Every test file uses a part of this.
#![allow(dead_code, unreachable_pub)]

use oeuvre_columns::column::{Batch, Column};
use oeuvre_columns::{Account, ColumnInfo, Reader, Source, Value};
use oeuvre_core::{Grid, Ledger, Plan, Request, run};
use std::sync::{Mutex, Once};

/// Everything runs where memory is short: what is larger than a kilobyte lies in a file, once two of them are used.
#[global_allocator]
static MEMORY: oeuvre_memory::Memory<1024> = oeuvre_memory::Memory::new();
static SHORT: Once = Once::new();

/// From here on it is.
pub fn be_short() {
    SHORT.call_once(|| {
        oeuvre_memory::limit(4096, &std::env::temp_dir(), || {}, oeuvre_columns::room::is_aside)
            .unwrap();
        oeuvre_columns::room::allow(4096);
    });
}

/// A table in memory, read in batches of a given size.
pub struct Table {
    pub columns: Vec<ColumnInfo>,
    pub rows: Vec<Vec<Value>>,
    pub batch_rows: usize,
}

struct TableReader<'a> {
    table: &'a Table,
    wanted: Vec<usize>,
    next: &'a Mutex<usize>,
}

impl Reader for TableReader<'_> {
    fn next(&mut self, batch: &mut Batch) -> Result<bool, oeuvre_columns::ReadError> {
        let at = {
            let mut next = self.next.lock().unwrap();
            let at = *next;
            *next += self.table.batch_rows;
            at
        };
        let end = (at + self.table.batch_rows).min(self.table.rows.len());
        if at >= end {
            return Ok(false);
        }
        batch.rows = end - at;
        batch.piece = at as u64;
        batch.columns.resize_with(self.wanted.len(), Column::default);
        for (out, &column) in batch.columns.iter_mut().zip(&self.wanted) {
            let kind = self.table.columns[column].kind;
            let values: Vec<Value> =
                self.table.rows[at..end].iter().map(|r| r[column].clone()).collect();
            let dictionary = std::mem::take(&mut out.dictionary);
            let mut fresh = Column::from_values(kind, &[]);
            fresh.dictionary = dictionary;
            for value in &values {
                fresh.push(kind, value);
            }
            *out = fresh;
        }
        Ok(true)
    }
    fn piece(&self) -> u64 {
        0
    }
    fn account(&self) -> Account {
        Account::default()
    }
}

/// Readers borrow the counter of their pass, which lives as long as the table.
pub struct Pass<'a>(pub &'a Table, pub &'a Mutex<usize>);

impl Source for Pass<'_> {
    fn columns(&self) -> Vec<ColumnInfo> {
        self.0.columns.clone()
    }
    fn scan<'a>(
        &'a self,
        columns: &[usize],
        readers: usize,
    ) -> Result<Vec<Box<dyn Reader + 'a>>, oeuvre_columns::ReadError> {
        be_short();
        *self.1.lock().unwrap() = 0;
        let reader = || TableReader { table: self.0, wanted: columns.to_vec(), next: self.1 };
        Ok((0..readers).map(|_| -> Box<dyn Reader + 'a> { Box::new(reader()) }).collect())
    }
}

pub fn answer(table: &Table, request: &Request, threads: usize) -> (Grid, Ledger) {
    let plan = Plan::new(request, table.columns.clone()).unwrap();
    run(&plan, &Pass(table, &Mutex::new(0)), threads).unwrap()
}
