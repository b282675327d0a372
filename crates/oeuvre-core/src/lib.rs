//! The calculation behind Oeuvre: from rows in columns to a finished table.
//!
//! ```text
//! request → plan (names, levels and kinds checked) → scan → row calculations → groups
//!         → aggregates → levels merged → results → grid + ledger
//! ```
//!
//! Not here: file formats, terminals, command lines, drawing, the clock, the environment. Rows come
//! in through [`oeuvre_columns::Source`], the finished [`Grid`] and [`Ledger`] go out.

pub mod aggregate;
mod describe;
mod error;
mod grid;
mod grouping;
pub mod language;
mod ledger;
mod listing;
mod pass;
pub mod plan;
mod profile;
mod request;
pub mod rows;
mod run;
mod same;
mod stack;
mod table;
mod trace;
pub mod window;

pub use describe::{Section, explain};
pub use error::{Cause, Diagnostic, Error, SourceText};
pub use grid::{Grid, Heading, Line, LineKind, RatioColumns, ResultColumn};
pub use ledger::{Entry, Ledger, LookupAccount};
pub use listing::{Parts, list, list_in_parts};
pub use plan::{Fill, Plan, ResultPlan, SortBy, SortPlan};
pub use profile::{LooksLike, profile};
pub use request::{LookupRequest, Request, Show, Totals, TotalsAt};
pub use rows::lookup::{Lookup, NoMatch};
pub use run::{run, run_all};
pub use trace::{AtLabel, Entered, ReadsAs, Trace, Traced, trace};
