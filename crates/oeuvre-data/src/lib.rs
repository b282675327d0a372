//! Readers that turn files into batches of typed columns.
//!
//! ```text
//! names → open (which format?) → an input: bytes → records → columns → batches
//! ```
//!
//! Not here: the language, grouping, calculation, rendering.

mod bytes;
mod input;
mod mapped;
mod open;
mod options;
mod text;

pub use input::{Input, read_whole, settled};
pub use open::open;
pub use options::{DateOrder, Forced, ReadOptions, Uneven};
