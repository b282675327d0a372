//! The finished table: cells at every level of its keys, what looks across them, lines kept and sorted, totals,
//! the rest, marks.
//!
//! ```text
//! groups with states → tree of labels (tree.rs) → levels of cells (levels.rs), their windows over partitions
//! (partitions.rs) → lines kept, sorted, with totals and rests (lines.rs) → grid with marks (assemble.rs)
//! ```
//!
//! A level is worked out once, when something first asks for it, by merging states of the finest groups; so a
//! total costs what it has groups, and no row is read for it.
//!
//! ```
//! # use oeuvre_columns::{InMemory, Kind, Source};
//! # let rows = InMemory::from_texts(
//! #     &[("coast", Kind::Text), ("route", Kind::Text), ("fare", Kind::Number { scale: 2 })],
//! #     &[
//! #         &["west", "SKE", "12.50"],
//! #         &["west", "KEL", "8.00"],
//! #         &["east", "AAL", "2.00"],
//! #     ],
//! # )?;
//! use oeuvre_core::{Plan, Request, run};
//!
//! // coast, route, fare: west SKE 12.50; west KEL 8.00; east AAL 2.00
//! let request = Request::of(&["coast", "route"], &["sum(fare)", "share(sum(fare) within coast)"]);
//! let plan = Plan::new(&request, rows.columns())?;
//! let (table, _) = run(&plan, &rows, 1)?;
//! assert_eq!(table.cell(0, 0).to_string(), "2.00");
//! assert_eq!(table.cell(1, 0).to_string(), "8.00");
//! assert_eq!(table.cell(2, 0).to_string(), "12.50");
//! assert_eq!(table.label(1, 1).map(|route| route.to_string()), Some("KEL".into()));
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

mod alike;
mod assemble;
mod entered;
mod labels;
mod levels;
mod lines;
mod partitions;
mod tree;

pub(crate) use alike::{alike_keys, texts_of_lines};
pub(crate) use assemble::{Table, assemble, table};
pub(crate) use entered::EnteredCells;
pub use labels::ReadsAs;
pub(crate) use labels::{MISSING, code_of, label_of};
pub(crate) use levels::{LevelResults, Levels};
pub(crate) use lines::shared_codes;
pub(crate) use tree::{Trees, ranks};
