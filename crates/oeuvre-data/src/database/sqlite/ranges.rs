//! The rows of a table by ranges of their numbers, which several readers read at once.
//!
//! SQLite keeps the rows of a table by their numbers. A reader takes the next range of them that nobody has, and
//! reads it with a connection of its own, block by block: so no reader waits for another one, and each parses the
//! rows that it has read while they are in its cache. Numbers may lie anywhere: a range with more rows than a block
//! has is read by the same reader in several.

use super::{Cells, Shared, SqliteTable, begun, count, guarded};
use crate::cells::{Block, Blocks, MakeBlocks, Taken, cell_among};
use oeuvre_columns::ReadError;
use rusqlite::{Connection, OptionalExtension};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

/// So many numbers are in a range, or more where that would make too many ranges.
const NUMBERS: u128 = 4096;
/// So many ranges there are at most.
const RANGES: u128 = 1 << 16;
/// So many blocks of a range are told apart: a range has fewer rows than that.
const BLOCKS: u64 = 1 << 40;

/// What the readers of a pass share.
pub(super) struct Ranges {
    shared: Arc<Shared>,
    /// The table, in messages.
    name: String,
    /// What its rows are selected from.
    from: String,
    row_number: &'static str,
    cells: Cells,
    /// Rows behind a number, up to another one.
    query: String,
    /// Whether rows are left out by a condition.
    leaves_out: bool,
    /// The first number and the last one.
    first: i64,
    last: i64,
    /// Numbers in a range.
    step: u128,
    claims: Mutex<Claims>,
    /// Rows that came.
    given: AtomicU64,
}

#[derive(Default)]
struct Claims {
    /// The next range.
    next: u128,
    /// Readers that have a connection.
    readers: usize,
    /// Ranges that are being read.
    open: usize,
    stopped: bool,
    /// Whether the rows that were left out were told.
    told: bool,
}

impl Ranges {
    /// The ranges of a table, of which these columns are read.
    ///
    /// # Errors
    /// Why the database cannot be asked.
    pub(super) fn new(
        table: &SqliteTable,
        name: &str,
        (read, row_number): (&str, &'static str),
        condition: Option<String>,
        cells: Cells,
    ) -> Result<Ranges, ReadError> {
        let from = &table.from;
        let connection = table.shared.connection.lock().unwrap_or_else(PoisonError::into_inner);
        let end = |order: &str| {
            let query =
                format!("SELECT {row_number} FROM {from} ORDER BY {row_number} {order} LIMIT 1");
            connection.query_row(&query, [], |row| row.get::<_, i64>(0))
        };
        let (first, last) = guarded(name, || Ok((end("ASC")?, end("DESC")?)))?;
        let span = (i128::from(last) - i128::from(first)) as u128 + 1;
        let is = condition.as_ref().map_or(String::new(), |is| format!(" AND ({is})"));
        Ok(Ranges {
            shared: table.shared.clone(),
            name: name.to_owned(),
            query: format!(
                "SELECT {read}, {row_number} FROM {from} WHERE {row_number} >= ?1 AND {row_number} <= ?2{is} \
                 ORDER BY {row_number}"
            ),
            from: from.clone(),
            row_number,
            cells,
            leaves_out: condition.is_some(),
            first,
            last,
            step: span.div_ceil(RANGES).max(NUMBERS),
            claims: Mutex::default(),
            given: AtomicU64::new(0),
        })
    }

    /// The pass over them.
    pub(super) fn pass<'a>(self) -> MakeBlocks<'a> {
        let ranges = Arc::new(self);
        Box::new(move || {
            let (block, ranges) = (Some(Block::new(ranges.cells.places.len())), ranges.clone());
            Box::new(RangeReader { ranges, connection: None, range: None, block, took: (0, 0) })
        })
    }

    /// A connection for one more reader: the table's own for the first one, another for others. `None` where the
    /// first one has to do.
    fn connection(&self) -> Option<Held> {
        let mut claims = self.claims();
        claims.readers += 1;
        if claims.readers == 1 {
            return Some(Held::First);
        }
        drop(claims);
        let known = self.shared.more.lock().unwrap_or_else(PoisonError::into_inner).pop();
        // Whoever waits to write waits for the first of us, and lets no others in: that is none to wait for.
        let opened = || begun(self.shared.address.as_deref()?, Duration::ZERO).ok();
        known.or_else(opened).map(Held::Other)
    }

    fn claims(&self) -> std::sync::MutexGuard<'_, Claims> {
        self.claims.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The next range that nobody has: its place and its numbers.
    fn claim(&self) -> Option<Range> {
        let mut claims = self.claims();
        let from = i128::from(self.first) + (claims.next * self.step) as i128;
        if claims.stopped || from > i128::from(self.last) {
            return None;
        }
        let to = (from + self.step as i128 - 1).min(i128::from(self.last));
        let place = claims.next as u64;
        claims.next += 1;
        claims.open += 1;
        // Both lie within the numbers of the table.
        Some(Range { place, from: from as i64, to: to as i64, blocks: 0 })
    }
}

/// A connection that a reader has.
enum Held {
    /// That of the table.
    First,
    /// One of its own.
    Other(Connection),
}

/// A range that is being read.
struct Range {
    place: u64,
    /// The first number that was not read, and the last one.
    from: i64,
    to: i64,
    /// Blocks that were read of it.
    blocks: u64,
}

/// The blocks of one reader.
struct RangeReader {
    ranges: Arc<Ranges>,
    connection: Option<Held>,
    range: Option<Range>,
    /// The block, while nobody reads it.
    block: Option<Block>,
    /// The numbers between which the rows of the last block lie.
    took: (i64, i64),
}

impl RangeReader {
    /// Asks the database; what is wrong is told in words.
    fn ask<T>(
        &self,
        work: impl FnOnce(&Connection) -> rusqlite::Result<T>,
    ) -> Result<T, ReadError> {
        let ranges = &*self.ranges;
        match &self.connection {
            Some(Held::Other(connection)) => guarded(&ranges.name, || work(connection)),
            _ => {
                let first = &ranges.shared.connection;
                let first = first.lock().unwrap_or_else(PoisonError::into_inner);
                guarded(&ranges.name, || work(&first))
            }
        }
    }

    /// Reads the next block of the range that was claimed; what is left of the range.
    fn read(
        &self,
        connection: &Connection,
        block: &mut Block,
        mut range: Range,
    ) -> rusqlite::Result<Option<Range>> {
        let Ranges { query, cells, .. } = &*self.ranges;
        let mut statement = connection.prepare(query)?;
        let mut rows = statement.query([range.from, range.to])?;
        let mut taken = 0;
        while let Some(row) = rows.next()? {
            cells.take(row, block)?;
            taken += 1;
            if !block.end_row(taken) {
                let last: i64 = row.get(cells.places.len().max(1))?;
                if last == range.to {
                    return Ok(None);
                }
                range.from = last + 1;
                return Ok(Some(range));
            }
        }
        Ok(None)
    }

    /// Nobody need claim ranges without rows: the next one to claim is that of the next row behind a number.
    fn skip(&self, connection: &Connection, behind: i64) -> rusqlite::Result<()> {
        let Ranges { from, row_number, first, step, .. } = &*self.ranges;
        let next = format!(
            "SELECT {row_number} FROM {from} WHERE {row_number} > ?1 ORDER BY {row_number} LIMIT 1"
        );
        let next = connection.query_row(&next, [behind], |row| row.get::<_, i64>(0)).optional()?;
        if let Some(next) = next {
            let range = (i128::from(next) - i128::from(*first)) as u128 / step;
            let mut claims = self.ranges.claims();
            claims.next = claims.next.max(range);
        }
        Ok(())
    }

    /// The place of a row among all of the table, by its place in the block that was read last.
    fn place(&self, connection: &Connection, at: u64) -> rusqlite::Result<u64> {
        let Ranges { query, from, row_number, cells, .. } = &*self.ranges;
        let mut statement = connection.prepare(&format!("{query} LIMIT 1 OFFSET ?3"))?;
        let of = [self.took.0, self.took.1, at as i64 - 1];
        let number: i64 = statement.query_row(of, |row| row.get(cells.places.len().max(1)))?;
        let count = format!("SELECT count(*) FROM {from} WHERE {row_number} <= ?1");
        connection.query_row(&count, [number], |row| row.get::<_, i64>(0).map(|n| n as u64))
    }
}

impl<'a> Blocks<'a> for RangeReader {
    fn take(&mut self) -> Result<Option<(u64, Taken<'a>)>, ReadError> {
        let ranges = self.ranges.clone();
        if self.connection.is_none() {
            self.connection = ranges.connection();
            if self.connection.is_none() {
                return Ok(None);
            }
        }
        let mut block = self.block.take().unwrap_or_else(|| Block::new(ranges.cells.places.len()));
        while let Some(range) = self.range.take().or_else(|| ranges.claim()) {
            block.clear();
            let (place, of, blocks) = (range.place, (range.from, range.to), range.blocks);
            let left = self.ask(|connection| self.read(connection, &mut block, range))?;
            self.took = of;
            ranges.given.fetch_add(block.rows() as u64, Ordering::AcqRel);
            self.range = left.map(|range| Range { blocks: range.blocks + 1, ..range });
            if self.range.is_none() {
                ranges.claims().open -= 1;
            }
            if block.rows() > 0 {
                block.finish();
                return Ok(Some((place * BLOCKS + blocks, Taken::Lent(block))));
            }
            self.ask(|connection| self.skip(connection, of.1))?;
        }
        Ok(None)
    }

    fn give_back(&mut self, block: Block) {
        self.block = Some(block);
    }

    fn row(&mut self, number: u64) -> Result<u64, ReadError> {
        self.ask(|connection| self.place(connection, number))
    }

    fn cell_of(&self, place: usize) -> usize {
        cell_among(&self.ranges.cells.places, place)
    }

    fn stop(&self) {
        self.ranges.claims().stopped = true;
    }

    fn unseen(&mut self) -> Result<u64, ReadError> {
        let ranges = &self.ranges;
        let mut claims = ranges.claims();
        // Whoever ends last knows how many came.
        let is_out = self.connection.is_none();
        if is_out || !ranges.leaves_out || claims.stopped || claims.open > 0 || claims.told {
            return Ok(0);
        }
        claims.told = true;
        let all = self.ask(|connection| count(connection, &ranges.from))?;
        Ok(all.saturating_sub(ranges.given.load(Ordering::Acquire)))
    }
}

impl Drop for RangeReader {
    fn drop(&mut self) {
        // The next pass takes it.
        let mut more = self.ranges.shared.more.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(Held::Other(connection)) = self.connection.take() {
            more.push(connection);
        }
    }
}
