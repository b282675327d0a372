//! Calculations across cells: ranks, walks, and aggregates written on every cell.
//!
//! The same loops serve the cells of a table and the rows of a detail. They know nothing of keys: a cell has a
//! *partition* (which cells it is compared with or walks among; [`NO_NUMBER`] for a cell without a meaning there)
//! and, for walks, a place in an order. Each gives one value a cell. Putting cells in order costs time that grows
//! with the cells alone (`order.rs` sorts by digits); the loops behind it touch each cell a few times.
//!
//! To add a word: a file here that says what it works out, which cells enter, and how it is told ([`Compares`]
//! for words that compare values, [`Walks`] for words that go from cell to cell), and a row in
//! `language/functions/table.rs`. Partitions, calendars and the words for the cells come from the caller.
//!
//! ```
//! # use oeuvre_columns::{InMemory, Kind, Source};
//! # let rows = InMemory::from_texts(
//! #     &[("month", Kind::Text), ("fare", Kind::Number { scale: 2 })],
//! #     &[
//! #         &["2025-01", "10.00"],
//! #         &["2025-02", "15.00"],
//! #         &["2025-04", "12.00"],
//! #     ],
//! # )?;
//! use oeuvre_core::{Plan, Request, run};
//!
//! // month, fare: 2025-01 10.00; 2025-02 15.00; 2025-04 12.00
//! let request = Request::of(&["month"], &["running(sum(fare))"]);
//! let plan = Plan::new(&request, rows.columns())?;
//! let (table, _) = run(&plan, &rows, 1)?;
//! let shown: Vec<String> = (0..table.lines.len()).map(|line| table.cell(line, 0).to_string()).collect();
//! assert_eq!(shown, ["10.00", "25.00", "37.00"]);
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

mod calc;
pub(crate) mod first_last;
mod frame;
pub(crate) mod moving;
pub(crate) mod order;
pub(crate) mod partition;
mod places;
pub(crate) mod rank;
pub(crate) mod running;
pub(crate) mod step;
pub(crate) mod tile;

pub use calc::{
    Argument, Calc, Cells, Compared, Compares, Given, Gives, Layout, Parts, Reference, Said,
    Taking, Ties, Walks, Window,
};
pub(crate) use places::{Counted, Places};

use crate::aggregate::{Aggregate, Overflow, Rows, update_with_all};
use oeuvre_columns::column::Column;
use oeuvre_columns::column::NO_NUMBER;
use oeuvre_columns::value::Kind;
use order::Ordinals;

/// The values of some cells, missing for [`NO_NUMBER`].
pub(crate) fn pick(column: &Column, cells: &[u32]) -> Column {
    column.gather(cells)
}

/// The number above all partitions, which stands for cells that take no part.
pub(crate) fn partition_bound(partition: &[u32]) -> u64 {
    partition.iter().filter(|p| **p != NO_NUMBER).max().map_or(0, |p| u64::from(*p) + 1)
}

/// The partitions as numbers to sort by; cells that take no part come last.
pub(crate) fn partition_ordinals(partition: &[u32]) -> Ordinals {
    let largest = partition_bound(partition);
    let one = |p: &u32| if *p == NO_NUMBER { largest } else { u64::from(*p) };
    Ordinals::new(partition.iter().map(one), largest)
}

/// The runs of one partition in an order of all cells that sorts by it; cells that take no part, which come last, are left
/// out. How many cells a partition has is counted, so that nobody looks at the cells in that order.
pub(crate) fn runs<'a>(order: &'a [u32], partition: &[u32]) -> impl Iterator<Item = &'a [u32]> {
    let mut cells = vec![0u32; usize::try_from(partition_bound(partition)).unwrap_or(0)];
    partition.iter().filter(|p| **p != NO_NUMBER).for_each(|p| cells[*p as usize] += 1);
    let mut left = order;
    cells.into_iter().filter(|n| *n > 0).map(move |n| {
        let (run, rest) = left.split_at(n as usize);
        left = rest;
        run
    })
}

/// An aggregate over the cells `from`, by partition, written on the cells `to`: what a cell gets is
/// the aggregate of the partition that it names.
pub(crate) fn aggregate(
    aggregate: &dyn Aggregate,
    args: &[&Column],
    kinds: &[Kind],
    from: &[u32],
    to: &[u32],
) -> Result<Column, Overflow> {
    let partitions = from.iter().chain(to).filter(|p| **p != NO_NUMBER).max().map_or(0, |p| p + 1);
    let mut state = aggregate.state(kinds);
    state.resize(partitions as usize + 1);
    let groups: Vec<u32> = from.iter().map(|p| p.wrapping_add(1)).collect();
    update_with_all(state.as_mut(), Rows { groups: &groups, args, piece: 0 })?;
    let finished = aggregate.finish(state.as_ref(), kinds)?;
    Ok(pick(&finished, to))
}

/// What the tests of the words share.
#[cfg(test)]
mod testing {
    use super::partition::{Calendar, Partitions};
    use super::{Argument, Walks};
    use oeuvre_columns::column::{Column, Data, MISSING_I64};
    use oeuvre_columns::{Decimal, Kind, Value};

    pub(super) const WHOLE: Kind = Kind::Number { scale: 0 };
    pub(super) const NO: i64 = MISSING_I64;

    /// What a word gives over whole numbers that are walked as they stand: `NO` is missing. Where each has a
    /// period, periods without a cell have the value 0.
    pub(super) fn walked(
        word: &dyn Walks,
        partition: &[u32],
        values: &[i64],
        periods: Option<&[i32]>,
    ) -> Vec<Value> {
        let x = Column::from(Data::I64(values.to_vec()));
        let range = |p: &[i32]| {
            (p.iter().copied().min().unwrap_or(0), p.iter().copied().max().unwrap_or(0))
        };
        let calendar =
            periods.map(|p| Calendar { indexes: p.to_vec(), range: range(p), backwards: false });
        let empty = match periods {
            Some(_) => Value::Number(Decimal::new(0, 0)),
            None => Value::Missing,
        };
        let cells = Partitions::new(partition.into(), Vec::new(), false, calendar);
        let of = Argument { x: &x, kind: WHOLE, condition: None, empty: &empty, threads: 1 };
        let column = word.work_out(&cells, &of).unwrap();
        (0..values.len()).map(|cell| column.value(word.result(WHOLE), cell)).collect()
    }

    /// Whole numbers as values.
    pub(super) fn whole(values: &[i64]) -> Vec<Value> {
        let one = |&v: &i64| match v {
            NO => Value::Missing,
            v => Value::Number(Decimal::new(i128::from(v), 0)),
        };
        values.iter().map(one).collect()
    }
}
