//! What the sheets of a workbook hold: a table, what stands alone, notes; and how single cells are written.

pub(crate) mod cells;
mod drawn;
mod formats;
mod names;
pub(crate) mod overview;
pub(crate) mod table;

pub(crate) use cells::{Remarks, Styles};
pub(crate) use names::Names;
