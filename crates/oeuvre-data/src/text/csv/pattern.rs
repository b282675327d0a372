//! Which of a block's marks are those that are kept, by the number of fields before it.

use crate::text::records::Kept;

/// Marks of a block at most.
const BLOCK: usize = 64;

/// What of the next marks is kept, and which of them end a record, for every number of fields of a record before them.
#[derive(Clone, Debug)]
pub(super) struct Pattern {
    /// From below a bit for each of the marks that come next: whether it is kept, and whether it ends a record.
    next: Vec<(u64, u64)>,
    /// Fields of the record that they end in, by fields before and marks of the block.
    behind: Vec<u32>,
    kept: usize,
}

impl Pattern {
    /// The pattern of records of so many fields, of which some marks are kept.
    pub(super) fn new(width: usize, kept: &Kept) -> Pattern {
        let bits = |field: usize| (u64::from(kept.has(field)), u64::from(field + 1 == width));
        let mut next = vec![(0, 0); width];
        // Each is the one behind it moved on by one.
        let mut behind =
            (0..BLOCK).rev().fold((0, 0), |behind, mark| moved(behind, bits(mark % width)));
        for field in (0..width).rev() {
            behind = moved(behind, bits(field));
            next[field] = behind;
        }
        let behind = (0..width + BLOCK).map(|n| (n % width) as u32).collect();
        Pattern { next, behind, kept: kept.stride() }
    }

    /// How many marks of each record are kept.
    pub(super) fn kept(&self) -> usize {
        self.kept
    }

    /// Whether a block of fields of usual lengths has more than four marks that are kept.
    pub(super) fn are_many(&self) -> bool {
        self.kept * 5 > self.next.len() * 2
    }

    /// Of so many marks behind so many fields of a record: those that are kept, those that end a record, and how many
    /// fields of a record are behind them.
    #[inline(always)]
    pub(super) fn of_block(&self, fields: usize, marks: usize) -> (u64, u64, usize) {
        let (kept, ends) = self.next[fields];
        (kept, ends, self.behind[fields + marks] as usize)
    }
}

fn moved(behind: (u64, u64), first: (u64, u64)) -> (u64, u64) {
    (behind.0 << 1 | first.0, behind.1 << 1 | first.1)
}
