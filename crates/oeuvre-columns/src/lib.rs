//! The leaf of Oeuvre: values and their kinds, typed columns with the dictionaries of their texts, and the
//! contract between whoever reads rows and whoever calculates with them.
//!
//! A source of rows ([`Source`]) says which columns it has and of which [`Kind`] each is, and hands out
//! [`Reader`]s that refill a [`column::Batch`] until no row is left. Everything that reads (files, databases,
//! memory) and everything that calculates needs this crate and no more of the other side.
//!
//! Not here: the language, files, printing.
//!
//! ```
//! use oeuvre_columns::{InMemory, Kind, Source, column::Batch};
//!
//! let rows = InMemory::from_texts(
//!     &[("route", Kind::Text), ("fare", Kind::Number { scale: 2 })],
//!     &[&["SKE", "12.50"], &["KEL", "8.00"]],
//! )?;
//! let mut readers = rows.scan(&[1], 1)?; // the second column alone
//! let mut batch = Batch::default();
//! let mut cents = 0;
//! while readers[0].next(&mut batch)? {
//!     cents += batch.columns[0].data.to_i128().iter().sum::<i128>();
//! }
//! assert_eq!(cents, 2050);
//! # Ok::<(), oeuvre_columns::ReadError>(())
//! ```

mod at_once;
mod choice;
pub mod column;
pub mod instructions;
mod memory;
pub mod names;
mod note;
mod problem;
pub mod quoting;
pub mod room;
mod saved;
mod schema;
mod source;
pub mod value;
pub mod work;

pub use at_once::{at_once, in_order};
pub use choice::Choice;
pub use memory::InMemory;
pub use note::{Note, Topic};
pub use problem::{DataProblem, ReadError, Retry};
pub use saved::SavedTable;
pub use schema::{ColumnInfo, OddValue, Table};
pub use source::{Account, Bounds, Limits, LocationColumn, OneOf, Range, Reader, Size, Source};
pub use value::decimal::Decimal;
pub use value::{Kind, Value};
