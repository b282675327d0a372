//! Text files: a folder for each way of writing records, and what they share.
//!
//! Whatever a record looks like, its fields are found first ([`records`]) and then read a column at a time
//! ([`columns`], [`fast`]). What their texts are is found out in `kinds/`.

pub(crate) mod columns;
pub(crate) mod csv;
mod fast;
pub(crate) mod headings;
pub(crate) mod json;
pub(crate) mod records;
pub(crate) mod trouble;
