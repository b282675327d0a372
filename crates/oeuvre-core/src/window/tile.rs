//! `tile`: buckets of as equal size as can be.
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
//! let request = Request::of(&["month"], &["tile(sum(fare), 2)"]);
//! let plan = Plan::new(&request, rows.columns())?;
//! let (table, _) = run(&plan, &rows, 1)?;
//! let shown: Vec<String> = (0..table.lines.len()).map(|line| table.cell(line, 0).to_string()).collect();
//! assert_eq!(shown, ["2", "1", "1"]);
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

use super::order::{Ordinals, sorted};
use super::{Cells, Compared, Compares, Said, partition_ordinals, runs};
use oeuvre_columns::Kind;
use oeuvre_columns::column::{Column, MISSING_I64};

/// The bucket of a value, of so many; missing values are in none.
#[derive(PartialEq, Eq, Hash)]
pub(crate) struct Tile(pub(crate) u32);

impl Compares for Tile {
    fn result(&self, _: Kind) -> Kind {
        Kind::Number { scale: 0 }
    }

    fn work_out(&self, cells: &Cells<'_>) -> Compared {
        tile(cells.x, cells.partition, cells.position, cells.ascending, self.0)
    }

    fn said(&self, said: &Said) -> String {
        let Said { of, among, column, way, .. } = said;
        format!(
            "bucket 1 to {} of {of} among {among}{column}, {way} first, of as equal size as can be; earlier buckets take the extra ones",
            self.0
        )
    }
}

/// The bucket of each cell's value in its partition, 1 to `buckets`, as equal in size as can be; the
/// earlier ones take the extra cells. Missing values are in none.
fn tile(
    x: &Column,
    partition: &[u32],
    position: &Ordinals,
    ascending: bool,
    buckets: u32,
) -> Compared {
    let values = Ordinals::of(x, !ascending);
    let order = sorted(partition.len(), &[&partition_ordinals(partition), &values, position]);
    let mut out = vec![MISSING_I64; partition.len()];
    let mut ties_broken = 0;
    let buckets = buckets as usize;
    for run in runs(&order, partition) {
        let present = run.partition_point(|&cell| !x.data.is_missing(cell as usize));
        let (size, extra) = (present / buckets, present % buckets);
        for (i, &cell) in run[..present].iter().enumerate() {
            // The first `extra` buckets hold one more.
            let bucket = match i / (size + 1) {
                b if b < extra => b,
                _ => extra + (i - extra * (size + 1)) / size.max(1),
            };
            out[cell as usize] = bucket as i64 + 1;
        }
        let same_value = |a: u32, b: u32| values.same(a, b);
        for equal in run[..present].chunk_by(|&a, &b| same_value(a, b)) {
            if out[equal[0] as usize] != out[equal[equal.len() - 1] as usize] {
                ties_broken += equal.len() as u64;
            }
        }
    }
    Compared::made(out, ties_broken)
}

#[cfg(test)]
mod tests {
    use super::super::testing::{NO, WHOLE, whole};
    use super::*;
    use oeuvre_columns::column::Data;
    use rstest::rstest;

    #[rstest]
    // Seven values in three buckets: 3, 2 and 2, the largest first.
    #[case(3, false, [3, 1, 2, NO, 1, 3, 2, 1], 0)]
    #[case(3, true, [1, 3, 2, NO, 3, 1, 1, 2], 0)]
    #[case(1, false, [1, 1, 1, NO, 1, 1, 1, 1], 0)]
    #[case(9, false, [7, 2, 4, NO, 1, 6, 5, 3], 0)]
    fn buckets_are_as_equal_as_can_be(
        #[case] buckets: u32,
        #[case] ascending: bool,
        #[case] expected: [i64; 8],
        #[case] ties: u64,
    ) {
        let x = Column::from(Data::I64(vec![1, 8, 4, NO, 9, 2, 3, 5]));
        let (partition, position) = ([0; 8], Ordinals::none());
        let cells = Cells { x: &x, partition: &partition, position: &position, ascending };
        let given = Tile(buckets).work_out(&cells);
        assert_eq!(given.ties_broken, ties);
        let column = given.column(&cells);
        let values: Vec<_> = (0..8).map(|cell| column.value(WHOLE, cell)).collect();
        assert_eq!(values, whole(&expected));
    }
}
