//! The finished table: cells at every level of its keys, what looks across them, lines kept and sorted, totals,
//! the rest, marks.

mod assemble;
mod entered;
mod levels;
mod lines;
mod partitions;
mod tree;

pub(crate) use assemble::{Table, assemble, table};
pub(crate) use entered::EnteredCells;
pub(crate) use levels::{LevelResults, Levels};
pub(crate) use lines::shared_codes;
pub(crate) use tree::{Trees, ranks};
