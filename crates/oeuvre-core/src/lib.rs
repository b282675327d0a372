//! The calculation behind Oeuvre: from rows in columns to a finished table.
//!
//! ```text
//! request → plan (names, levels and kinds checked) → pass over the rows → groups with states
//!         → merged → rolled up to lines and totals → table words → lines kept and sorted → grid + ledger
//! ```
//!
//! A [`Request`] is what was asked for, a [`Plan`] is that checked against the columns of a source, and [`run`]
//! makes the [`Grid`] and the [`Ledger`] of it. The same plan is listed ([`list`]), told ([`explain`]) and traced
//! ([`trace`]), so that none of them can say anything else than what was worked out.
//!
//! Not here: file formats, terminals, command lines, drawing, the clock, the environment. Rows come in through
//! [`oeuvre_columns::Source`].
//!
//! ```
//! # use oeuvre_columns::{InMemory, Kind, Source};
//! # let rows = InMemory::from_texts(
//! #     &[("route", Kind::Text), ("fare", Kind::Number { scale: 2 })],
//! #     &[
//! #         &["SKE", "12.50"],
//! #         &["KEL", "8.00"],
//! #         &["SKE", "7.00"],
//! #         &["SKE", ""],
//! #     ],
//! # )?;
//! use oeuvre_core::{Plan, Request, Totals, run};
//!
//! // route, fare: SKE 12.50; KEL 8.00; SKE 7.00; SKE (missing)
//! let request = Request { totals: Totals::Grand, ..Request::of(&["route"], &["sum(fare)", "mean(fare)"]) };
//! let plan = Plan::new(&request, rows.columns())?;
//! let (table, _) = run(&plan, &rows, 1)?;
//! assert_eq!(table.cell(0, 0).to_string(), "8.00");
//! assert_eq!(table.cell(1, 0).to_string(), "19.50");
//! assert_eq!(table.cell(1, 1).to_string(), "9.75");
//! assert_eq!(table.cell(2, 0).to_string(), "27.50");
//! assert_eq!(table.lines[2].kind, oeuvre_core::LineKind::Grand);
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

pub mod aggregate;
mod changes;
mod checks;
mod columns_top;
mod describe;
mod error;
mod grid;
mod grouping;
pub mod language;
mod ledger;
mod listing;
mod notice;
mod pass;
pub mod plan;
mod profile;
mod request;
mod respelt;
pub mod rows;
mod run;
mod same;
mod spelling;
mod stack;
mod table;
mod tally;
#[cfg(test)]
mod testing;
mod trace;
pub mod window;

pub use changes::{Changes, ChangesRequest, changes, row_changes};
pub use checks::{Terms, plan_of_checks, run_checked, run_with_checks, tolerance_of, with_checks};
pub use columns_top::ColumnsTop;
pub use describe::{Section, explain};
pub use error::{Cause, Diagnostic, Error, FileText, Given, Givens, SourceText, Within};
pub use grid::{Figure, Grid, Heading, Line, LineKind, Lines, RatioColumns, ResultColumn};
pub use ledger::{Checked, Entry, Ledger, LookupAccount};
pub use listing::{Parts, list, list_in_parts};
pub use plan::{Fill, Plan, ResultPlan, SortBy, SortPlan, wider};
pub use profile::{LooksLike, profile};
pub use request::{AtLabel, Check, Doubled, LookupRequest, Request, Show, Totals, TotalsAt};
pub use respelt::{Respelt, respelt, respelt_all};
pub use rows::lookup::{Lookup, NoMatch};
pub use run::{run, run_all};
pub use spelling::{Spelling, Spellings};
pub use table::ReadsAs;
pub use tally::{Tally, decode_column, encode_column};
pub use trace::{Entered, Trace, Traced, cell_named, trace};
