//! Report files: one TOML file that says every table, detail, headline and check of a report.
//!
//! ```text
//! file.rs (text with places) → definition.rs (what it says; keys.rs reads the keys that are options)
//!   → prepared.rs (given.rs, rows.rs: values, open files, requests) → run.rs (plans, one pass a source, a document)
//! ```
//!
//! A key that is an option needs nothing here: it is read by the option's own definition. `save.rs` goes the other
//! way, from a command line to a file.

mod definition;
mod file;
mod given;
mod keys;
mod prepared;
mod rows;
mod run;
pub(crate) mod save;
mod sections;

pub(crate) use definition::{Definition, read};
pub(crate) use prepared::{Asked, MadeOf, prepare};
pub(crate) use run::{ensure_sound, explain, run};
