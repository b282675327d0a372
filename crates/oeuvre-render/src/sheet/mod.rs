//! What the sheets of a workbook hold: a table, what stands alone, notes; and how single cells are written.
//!
//! What is written goes to a [`Surface`], which is a sheet of one type of file or another.

mod book;
pub(crate) mod cells;
#[cfg(feature = "xlsx")]
mod drawn;
mod formats;
mod names;
#[cfg(feature = "ods")]
pub(crate) mod ods;
mod overview;
mod surface;
mod table;
#[cfg(feature = "xlsx")]
pub(crate) mod xlsx;

pub(crate) use book::{refuses, write};
