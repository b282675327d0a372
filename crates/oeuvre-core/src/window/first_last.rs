//! `first` and `last` over cells: the value at an end of a walk.

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

    fn work_out(&self, cells: &Partitions, of: &Argument<'_>) -> Result<Column, Overflow> {
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
