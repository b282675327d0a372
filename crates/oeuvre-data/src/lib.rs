//! Readers that turn files into batches of typed columns.
//!
//! ```text
//! names → bytes (of a file, a pipe, a server) → open (which format?) → the rows of each file, stacked → batches
//! ```
//!
//! A format is what [`open`] knows it by and one file's rows (`file_rows.rs`); `stack.rs` stacks files of any
//! formats, and `kinds/` settles what their columns hold. Texts are in `text/`, typed columns in `columnar/`.
//!
//! A command opens what was named ([`open`]) and does its work inside [`settled`], which starts it again when a
//! column turns out to be of another kind than its first values looked like.
//!
//! Not here: the language, grouping, calculation, rendering.
//!
//! ```
//! use oeuvre_columns::{Kind, column::Batch};
//! use oeuvre_data::{ReadOptions, open, settled};
//!
//! let file = std::env::temp_dir().join(format!("oeuvre-example-{}.csv", std::process::id()));
//! std::fs::write(&file, "route,fare\nSKE,12.50\nKEL,8\n").unwrap();
//! let mut input = open(&[file.display().to_string()], ReadOptions::default())?;
//! let cents = settled(input.as_mut(), |input| {
//!     assert_eq!(input.columns()[1].kind, Kind::Number { scale: 2 });
//!     let mut batch = Batch::default();
//!     let mut cents = 0;
//!     for mut reader in input.scan(&[1], 1)? {
//!         while reader.next(&mut batch)? {
//!             cents += batch.columns[0].data.to_i128().iter().sum::<i128>();
//!         }
//!     }
//!     Ok::<_, oeuvre_columns::ReadError>(cents)
//! })?;
//! assert_eq!(cents, 2050);
//! # std::fs::remove_file(&file).unwrap();
//! # Ok::<(), oeuvre_columns::ReadError>(())
//! ```

mod bytes;
#[cfg(any(feature = "databases", feature = "workbooks"))]
mod cells;
#[cfg(feature = "columnar")]
mod columnar;
#[cfg(feature = "databases")]
mod database;
mod facts;
#[cfg(any(feature = "columnar", feature = "databases", feature = "workbooks"))]
mod fence;
mod file_rows;
mod growing;
mod input;
mod kinds;
mod mapped;
mod names;
mod open;
mod options;
mod passed;
mod saved;
mod stack;
mod text;
#[cfg(feature = "web")]
mod web;
#[cfg(feature = "workbooks")]
mod workbook;

#[cfg(feature = "databases")]
pub use database::cancel_queries;
pub use facts::{ColumnFact, Facts, FileFacts, fingerprint, fingerprint_of_file};
pub use input::{Input, read_whole, settled};
pub use kinds::wider_kind;
pub use mapped::let_go_of_files;
pub use names::{files_named, is_address, name_shown, stem_of};
pub use oeuvre_columns::instructions::Instructions;
pub use open::{open, open_bytes};
pub use options::{
    DatabaseOptions, DateForm, DateOrder, Forced, Lacking, PasswordLine, ReadOptions, Uneven, Zone,
};
pub use saved::{read_saved, saved_checks, saved_tables};
#[cfg(feature = "web")]
pub use web::{Credential, Secret, WebOptions};
