//! Cells in partitions and in their order: what a word that walks from cell to cell is given.
//!
//! The order is worked out when a word first asks for it, and once for all words that walk alike. Along a period
//! a walk is one of the calendar: periods without a cell are steps, too ([`Calendar`]).

use super::order::{Ordinals, sorted};
use super::{Walks, partition_ordinals, runs};
use oeuvre_columns::column::NO_NUMBER;
use std::cell::OnceCell;

/// Cells, the partition of each, and the order in which those of a partition are walked.
pub struct Partitions {
    /// The partition of each cell; [`NO_NUMBER`] for one that is not walked.
    pub(crate) number: Vec<u32>,
    /// Empty where the cells are walked as they stand, until it is needed.
    order: OnceCell<Vec<u32>>,
    /// Whether the cells are walked as they stand.
    pub(super) in_order: bool,
    /// The calendar, where a period is walked.
    pub(super) calendar: Option<Calendar>,
    /// Cells whose place owes to the order of the cells alone.
    pub(crate) ties_broken: u64,
}

/// Periods that are walked one calendar step at a time.
pub(crate) struct Calendar {
    /// The period of each cell, counted as [`oeuvre_columns::value::calendar::Period::index`] is.
    pub(crate) indexes: Vec<i32>,
    /// The first and the last period of the whole table.
    pub(crate) range: (i32, i32),
    /// From the last to the first.
    pub(crate) backwards: bool,
}

impl Partitions {
    /// Partitions walked by some columns, of which the first counts most.
    pub(crate) fn new(number: Vec<u32>, by: &[Ordinals], calendar: Option<Calendar>) -> Partitions {
        let in_order = by.is_empty();
        if in_order {
            return Partitions {
                number,
                order: OnceCell::new(),
                in_order,
                calendar,
                ties_broken: 0,
            };
        }
        let partitions = partition_ordinals(&number);
        let all: Vec<&Ordinals> = std::iter::once(&partitions).chain(by).collect();
        let order = sorted(number.len(), &all);
        let same = |a: u32, b: u32| by.iter().all(|o| o.values[a as usize] == o.values[b as usize]);
        let tied = |run: &[u32]| -> u64 {
            let equal = run.chunk_by(|&a, &b| same(a, b)).filter(|e| e.len() > 1);
            equal.map(|e| e.len() as u64).sum()
        };
        let ties_broken = runs(&order, &number).map(tied).sum();
        Partitions { number, order: order.into(), in_order, calendar, ties_broken }
    }

    /// The cells in the order in which they are walked, partition by partition.
    pub(super) fn order(&self) -> &[u32] {
        self.order.get_or_init(|| sorted(self.number.len(), &[&partition_ordinals(&self.number)]))
    }

    /// The cells that enter a word's result at one of them, in the order in which they are walked.
    pub(crate) fn entering(&self, word: &dyn Walks, cell: u32) -> Vec<u32> {
        let mine = self.number[cell as usize];
        let ours = |c: &u32| mine != NO_NUMBER && self.number[*c as usize] == mine;
        let run: Vec<u32> = self.order().iter().copied().filter(ours).collect();
        let Some(here) = run.iter().position(|&c| c == cell) else { return Vec::new() };
        // How far each cell is from this one, in steps: of the calendar, or of the walk.
        let steps = |at: usize| match &self.calendar {
            Some(Calendar { indexes, backwards, .. }) => {
                let far = i64::from(indexes[cell as usize]) - i64::from(indexes[run[at] as usize]);
                if *backwards { -far } else { far }
            }
            None => here as i64 - at as i64,
        };
        (0..run.len()).filter(|&at| word.enters(steps(at), at, here)).map(|at| run[at]).collect()
    }
}

impl Calendar {
    /// The cell of a run that has a period.
    pub(super) fn find(&self, run: &[u32], index: i64) -> Option<u32> {
        let at = |cell: u32| i64::from(self.indexes[cell as usize]);
        let found = match self.backwards {
            false => run.partition_point(|&cell| at(cell) < index),
            true => run.partition_point(|&cell| at(cell) > index),
        };
        run.get(found).copied().filter(|&cell| at(cell) == index)
    }

    pub(super) fn covers(&self, index: i64) -> bool {
        (i64::from(self.range.0)..=i64::from(self.range.1)).contains(&index)
    }
}
