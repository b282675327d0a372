//! Any aggregate of one value over the different values, each taken once: `mean(distinct fare)`.
//!
//! It wraps the aggregate, and gives it each value of a group once, out of the state of `values/`.
//!
//! ```
//! # use oeuvre_columns::{InMemory, Kind, Source};
//! # let rows = InMemory::from_texts(
//! #     &[("fare", Kind::Number { scale: 2 })],
//! #     &[
//! #         &["8.00"],
//! #         &["8.00"],
//! #         &["12.00"],
//! #     ],
//! # )?;
//! use oeuvre_core::{Plan, Request, run};
//!
//! // fare: 8.00; 8.00; 12.00
//! let request = Request::of(&[], &["sum(distinct fare)", "mean(distinct fare)"]);
//! let plan = Plan::new(&request, rows.columns())?;
//! let (table, _) = run(&plan, &rows, 1)?;
//! assert_eq!(table.cell(0, 0).to_string(), "20.00");
//! assert_eq!(table.cell(0, 1).to_string(), "10");
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

use super::values::Values;
use super::{Additivity, AggregateRef, ArgumentProblem, GroupAggregate, Overflow, Rows};
use oeuvre_columns::column::Column;
use oeuvre_columns::value::Kind;

/// An aggregate over the different values. It shares the state of all that keep the values themselves, and
/// gives each value of a group once to the aggregate inside.
#[derive(PartialEq, Eq, Hash)]
pub struct Once(pub AggregateRef);

impl GroupAggregate for Once {
    type State = Values;

    fn result(&self, args: &[Kind]) -> Result<Kind, ArgumentProblem> {
        self.0.result(args)
    }
    fn finish(&self, state: &Values, args: &[Kind]) -> Result<Column, Overflow> {
        let (groups, column, count) = state.each_once(args[0]);
        let mut inner = self.0.state(args);
        inner.resize(count);
        inner.update(Rows { groups: &groups, args: &[&column], piece: 0 })?;
        self.0.finish(inner.as_ref(), args)
    }
    fn question(&self) -> Option<String> {
        self.0.question()
    }
    fn additivity(&self) -> Additivity {
        match self.0.additivity() {
            Additivity::Additive | Additivity::Counted => Additivity::Note(
                "a sum over distinct values: the same value can be in several lines",
            ),
            note => note,
        }
    }
}
