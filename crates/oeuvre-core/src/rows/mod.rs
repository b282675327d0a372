//! Rows in columns: the programs that calculate over typed columns, a column at a time.
//!
//! A calculation becomes a [`program::Program`] once, when the plan is made; an [`evaluator::Evaluator`] runs it
//! over batch after batch. The same programs serve rows, groups and the cells of the table, which all are columns.
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
//! use oeuvre_core::{Plan, Request, run};
//!
//! // route, fare: SKE 12.50; KEL 8.00; SKE 7.00; SKE (missing)
//! let request = Request::of(&[], &["sum(if(route = 'KEL', 2 * fare, fare))"]);
//! let plan = Plan::new(&request, rows.columns())?;
//! let (table, _) = run(&plan, &rows, 1)?;
//! assert_eq!(table.cell(0, 0).to_string(), "35.50");
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

mod choices;
pub mod evaluator;
#[cfg(test)]
mod expressions;
mod kernels;
pub mod lookup;
pub mod program;
pub mod scalar;
mod times;
mod vectors;
