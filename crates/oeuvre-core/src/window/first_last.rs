//! `first` and `last` over cells: the value at an end of a walk, on every cell of it.
//!
//! Missing values are passed over; missing where there is none. Over rows the same words are an aggregate
//! (`aggregate/first_last.rs`).
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
//! let request = Request::of(&["month"], &["first(sum(fare) along month)"]);
//! let plan = Plan::new(&request, rows.columns())?;
//! let (table, _) = run(&plan, &rows, 1)?;
//! let shown: Vec<String> = (0..table.lines.len()).map(|line| table.cell(line, 0).to_string()).collect();
//! assert_eq!(shown, ["10.00", "10.00", "10.00"]);
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

use super::partition::Partitions;
use super::{Argument, Said, Walks, pick, runs};
use oeuvre_columns::column::NO_NUMBER;
use oeuvre_columns::column::{Column, Data};
use oeuvre_columns::value::{Kind, Overflow};

/// The first or last value present among the cells that count, on every cell of its partition.
#[derive(PartialEq, Eq, Hash)]
pub(crate) struct FirstLast {
    /// The last.
    pub(crate) last: bool,
}

impl Walks for FirstLast {
    fn result(&self, x: Kind) -> Kind {
        x
    }

    fn work_out(&self, cells: &Partitions<'_>, of: &Argument<'_>) -> Result<Column, Overflow> {
        let counts = |cell: usize| match of.condition.map(|c| &c.data) {
            Some(Data::Bool(v)) => v[cell] == 1,
            _ => true,
        };
        let mut from = vec![NO_NUMBER; cells.number.len()];
        for run in runs(cells.order(), &cells.number) {
            let good = |c: &&u32| !of.x.data.is_missing(**c as usize) && counts(**c as usize);
            let found = if self.last { run.iter().rev().find(good) } else { run.iter().find(good) };
            if let Some(&source) = found {
                run.iter().for_each(|&cell| from[cell as usize] = source);
            }
        }
        Ok(pick(of.x, &from))
    }

    fn said(&self, said: &Said) -> String {
        let Said { of, order, again, .. } = said;
        format!("{of} at the {} {order}{again}", if self.last { "end" } else { "start" })
    }
}

#[cfg(test)]
mod tests {
    use super::super::testing::{NO, walked, whole};
    use super::*;

    #[test]
    fn the_ends_of_a_walk_are_the_first_and_the_last_value_present() {
        let (partition, values) = ([0, 0, 0, 1, 1, 1], [NO, 7, 3, 2, 9, NO]);
        let given = |last| walked(&FirstLast { last }, &partition, &values, None);
        assert_eq!(given(false), whole(&[7, 7, 7, 2, 2, 2]));
        assert_eq!(given(true), whole(&[3, 3, 3, 9, 9, 9]));
    }
}
