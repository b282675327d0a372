//! Parts: what some of the rows have come to, in a file of its own, to be taken together with others later.
//!
//! ```text
//! request + files → part (make.rs) → file (file.rs) ─┐
//! request + other files → part → file ───────────────┴→ joined (join.rs) → the table of all rows, or a part again
//! ```
//!
//! A part carries its request as it was typed, so that parts of different requests are known; what its rows have come
//! to, or the rows themselves where a condition compares them with a result; what is known of its files; and the
//! lookups. Joined, parts give what one run over all their rows gives, the ledger included. The layout is told in
//! docs/parts.md; [`file::VERSION`] changes whenever it does.

mod asks;
mod file;
mod join;
mod kept;
mod make;
mod source;

pub(crate) use asks::Asks;
pub(crate) use file::{ENDING, Part};
pub(crate) use join::{Joined, join};
pub(crate) use kept::KeptParts;
pub(crate) use make::{Making, make};
