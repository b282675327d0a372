//! Readers that turn files into batches of typed columns for `oeuvre-core`.
//!
//! Not here: grouping, calculation, rendering.

mod csv;
mod input;
mod mapped;

pub use csv::{CsvOptions, CsvSource, DEFAULT_MISSING, DateOrder, Forced, Shape, Uneven};
