//! The calculation behind Oeuvre: from rows in columns to a finished table.
//!
//! ```text
//! request → plan (names, levels and kinds checked) → scan → row calculations → groups
//!         → aggregates → levels merged → results → grid + ledger
//! ```
//!
//! Not here: file formats, terminals, command lines, drawing, the clock, the environment. Rows come
//! in through [`Source`], the finished [`Grid`] and [`Ledger`] go out.

pub mod aggregate;
mod engine;
mod error;
mod explain;
mod grid;
pub mod language;
mod ledger;
mod lookup;
mod plan;
mod profile;
mod request;
pub mod rows;
mod source;
pub mod value;
mod window;

pub use engine::{AtLabel, Entered, Parts, ReadsAs, Trace, Traced, list, run, trace};
pub use error::{ColumnShape, DataProblem, Error, Mistake, Written, all_of, either, nearest};
pub use explain::{Section, explain};
pub use grid::{Grid, Heading, Line, LineKind, RatioColumns, ResultColumn};
pub use ledger::{Entry, Ledger, LookupAccount};
pub use lookup::LookupRequest;
pub use plan::{Fill, Plan, ResultPlan, SortBy, SortPlan};
pub use profile::{LooksLike, profile};
pub use request::{Request, Show, Totals, TotalsAt};
pub use rows::column::ColumnInfo;
pub use rows::lookup::{Lookup, NoMatch, Table};
pub use source::{Account, Reader, Source};
pub use value::decimal::Decimal;
pub use value::{Kind, Value};
