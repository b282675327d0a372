//! Rows in groups: the codes of their keys, the states of their aggregates, and results at fewer keys.
//!
//! ```text
//! keys of a batch → codes (codes.rs) → group numbers → rows counted (row_counts.rs), states updated (states.rs), by
//! worker (gather.rs)
//!   → put aside in the order of the key where they outgrow memory (aside.rs)
//!   → merged → filled where lines without rows are wanted (fill.rs) → rolled up to fewer keys (rollup.rs)
//! ```
//!
//! The pass over the rows and the table need this: the one fills groups, the other reads them at its levels. A
//! row costs one look-up a key and one update a state; everything behind the pass grows with the groups.
//!
//! ```
//! # use oeuvre_columns::{InMemory, Kind, Source};
//! # let rows = InMemory::from_texts(
//! #     &[("route", Kind::Text), ("year", Kind::Number { scale: 0 }), ("fare", Kind::Number { scale: 2 })],
//! #     &[
//! #         &["SKE", "2024", "12.50"],
//! #         &["KEL", "2024", "8.00"],
//! #         &["SKE", "2025", "7.00"],
//! #     ],
//! # )?;
//! use oeuvre_core::{Plan, Request, run};
//!
//! // route, year, fare: SKE 2024 12.50; KEL 2024 8.00; SKE 2025 7.00
//! let request = Request::of(&["route", "year"], &["sum(fare)"]);
//! let plan = Plan::new(&request, rows.columns())?;
//! let (table, _) = run(&plan, &rows, 1)?;
//! assert_eq!(table.lines.len(), 3); // only the groups that have rows
//! assert_eq!(table.cell(0, 0).to_string(), "8.00");
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

mod aside;
mod codes;
mod fill;
mod gather;
mod key_sets;
mod rollup;
mod row_counts;
mod second_pass;
mod sequence;
mod states;

pub(crate) use codes::Codes;
pub(crate) use fill::fill;
pub(crate) use gather::{Gathered, Groups, GroupsShare, gather_one};
pub(crate) use key_sets::{
    Depths, KeySet, Numbering, by_periods, in_time, keys_of, keys_of_level, period_codes,
};
pub(crate) use rollup::{Members, Rollup, of_no_rows, roll_up};
pub(crate) use second_pass::{SecondPassStates, second_pass};
pub(crate) use sequence::{Ranks, Sequence};
pub(crate) use states::GroupStates;
