//! Report files: one TOML file that says every table, detail, headline and check of a report.
//!
//! ```text
//! file.rs (text with places) → definition.rs (what it says; keys.rs reads the keys that are options)
//!   → prepare.rs (given.rs, rows.rs: values, open files; making.rs, checks.rs: requests) → prepared.rs
//!   → run.rs (plans, one pass a source, a document)
//! ```
//!
//! A key that is an option needs nothing here: it is read by the option's own definition. `save.rs` goes the other
//! way, from a command line to a file.

mod checks;
mod definition;
mod file;
mod given;
mod keys;
mod making;
mod prepare;
mod prepared;
mod rows;
mod run;
pub(crate) mod save;
mod sections;

pub(crate) use definition::{Definition, read};
pub(crate) use prepare::prepare;
pub(crate) use prepared::{Asked, MadeOf};
pub(crate) use run::{ensure_sound, explain, run};
