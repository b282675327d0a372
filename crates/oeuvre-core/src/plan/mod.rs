//! A request as the programs, groupings and states that a run needs: data, made once and never changed.
//!
//! A request is checked whole first ([`crate::language::check`]), then lowered: each node of the checked tree
//! gets its place in a program. Everything behind the plan (the pass, the table, a listing, explain, trace) reads
//! it, and none of them looks at the text of a calculation again. Making it costs time that grows with the length
//! of the request, not with the rows.
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
//! let request = Request::of(&["route"], &["sum(fare)", "mean(fare)"]);
//! let plan = Plan::new(&request, rows.columns())?;
//! let (table, _) = run(&plan, &rows, 1)?;
//! assert_eq!(plan.keys()[0].heading, "route");
//! assert_eq!(plan.programs.groupings[0].states.len(), 1); // one state serves both
//! assert_eq!(table.cell(0, 0).to_string(), "8.00");
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

mod limits;
mod lookups;
mod lower;
mod make;
mod notes;
mod watches;
mod widening;

use crate::aggregate::Aggregate;
use crate::error::SourceText;
use crate::language::ast::Expr;
use crate::language::check::{CheckedParts, Named, Tree};
use crate::request::{AtLabel, Totals, TotalsAt};
use crate::rows::lookup::{Lookup, NoMatch};
use crate::rows::program::{Operand, Program};
use crate::window;
use oeuvre_columns::ColumnInfo;
use oeuvre_columns::Note;
use oeuvre_columns::value::calendar::Unit;
use oeuvre_columns::value::{Kind, Value};
use std::collections::{BTreeMap, HashSet};
use std::sync::Arc;

pub(crate) use watches::texts;
pub use watches::{DaysWatch, TextsWatch, ValuesWatch, Watches};
pub use widening::wider;
pub(crate) use widening::{Widening, factors_of, fits, widening};

/// A column of a program.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Built {
    /// Where its values are.
    pub operand: Operand,
    /// What they are.
    pub kind: Kind,
}

/// A calculation across cells, over columns of the table program.
pub type Window = window::Window<Built>;
/// What it walks or what must be shared.
pub type Reference = window::Reference<Built>;

/// The state behind one or several aggregates.
pub struct StatePlan {
    /// The aggregate that makes it.
    pub aggregate: Arc<dyn Aggregate>,
    /// Its arguments in the row program.
    pub args: Vec<Built>,
    /// The condition inside the aggregate.
    pub condition: Option<Operand>,
    /// The calculation that asked for it first, for messages.
    pub text: Arc<str>,
}

/// An aggregate, finished from a state.
pub struct AggregatePlan {
    /// Finishes the state.
    pub aggregate: Arc<dyn Aggregate>,
    /// Where the state comes from.
    pub from: From,
    /// The kind of the result.
    pub kind: Kind,
    /// The calculation that it is.
    pub text: Arc<str>,
}

/// Where the state of an aggregate comes from.
#[derive(Clone)]
pub enum From {
    /// From rows: the state's number in its grouping.
    Rows(usize),
    /// From rows, in a second pass: the number of the second-pass aggregate.
    SecondPass(usize),
    /// From the groups of a finer grouping, whose results are taken in like rows.
    Groups {
        /// The grouping.
        grouping: usize,
        /// The arguments in its group program.
        args: Vec<Built>,
        /// The condition in it.
        condition: Option<Operand>,
    },
}

/// An aggregate whose condition compares rows with a result of their group: it needs a second pass.
pub struct SecondPassPlan {
    /// The aggregate.
    pub aggregate: Arc<dyn Aggregate>,
    /// Its arguments in the row program.
    pub args: Vec<Built>,
    /// The condition in the second-pass program.
    pub condition: Operand,
    /// The calculation that it is.
    pub text: Arc<str>,
}

/// Groups of rows, with what is worked out for each.
#[derive(Default)]
pub struct Grouping {
    /// What rows are grouped by: the keys of the grouping around it first, then its own.
    pub keys: Vec<KeyPlan>,
    /// How many of the keys are those of the grouping around it.
    pub outer: usize,
    /// Over the keys, then the aggregates.
    pub group: Program,
    /// The states to keep for each group.
    pub states: Vec<StatePlan>,
    /// The inputs of the group program behind the keys.
    pub aggregates: Vec<AggregatePlan>,
}

/// A key that rows are grouped by.
#[derive(Clone, Debug)]
pub struct KeyPlan {
    /// What readers see.
    pub heading: String,
    /// Where its values are, in the row program.
    pub operand: Operand,
    /// What they are.
    pub kind: Kind,
    /// The period that it makes of a date, and the date.
    pub period: Option<(Unit, Operand)>,
    /// The date that it is a period or a part of, or is itself.
    pub date: Option<Operand>,
}

/// A lookup, and how the rows find theirs in it.
pub struct LookupPlan {
    /// The lookup.
    pub lookup: Arc<Lookup>,
    /// The equalities that join it to the rows.
    pub on: Arc<SourceText>,
    /// What happens to rows without a match.
    pub no_match: NoMatch,
    /// The row of the lookup that each row finds: in the filter program where rows without a match are left
    /// out, else in that of the rows.
    pub found: Operand,
}

/// A column that the table program is given.
#[derive(Clone)]
pub enum TableInput {
    /// A result of the groups, in the group program of the table.
    Group(Built),
    /// A value of each row, in the row program.
    Row(Built),
    /// Worked out across the cells.
    Window(Window),
}

/// A result to be shown.
#[derive(Clone, Debug)]
pub struct ResultPlan {
    /// What readers see.
    pub heading: String,
    /// Where its values are, in the table program.
    pub built: Built,
    /// Its numerator and denominator, exact, for figures that are read: where they are known.
    pub ratio: Option<[Built; 2]>,
    /// Whether it is a column of the rows, listed as it is.
    pub plain: bool,
    /// Whether it reads as a share of something, and so in percent.
    pub share: bool,
    /// Why lines need not add up to their total; `None` where they do.
    pub note: Option<String>,
    /// Whether a binary64 result is the nearest to its exact value.
    pub rounded_once: bool,
    /// The text that the calculation stands in.
    pub written: Arc<SourceText>,
    /// The calculation.
    pub expr: Expr,
    /// Whether it gives a number on each row, which was added up.
    pub sums_rows: bool,
}

impl ResultPlan {
    /// The calculation as written.
    pub fn calc(&self) -> &str {
        self.written.text[self.expr.span.clone()].trim()
    }
}

/// What lines are ordered by.
#[derive(Clone, Copy, Debug)]
pub enum SortBy<V = Operand> {
    /// A key: orders the siblings that differ in it.
    Key(usize),
    /// A result, in the table program: orders siblings at every depth.
    Result(V),
}

/// One of the sort orders, the first counts most.
#[derive(Clone, Copy, Debug)]
pub struct SortPlan<V = Operand> {
    /// By what.
    pub by: SortBy<V>,
    /// Largest or last first.
    pub descending: bool,
}

/// What a key is filled with where there are no rows.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Fill {
    /// The periods from the first to the last, or all parts of the calendar.
    Periods,
    /// The labels that a lookup has.
    Labels,
}

/// The lookup that lists the labels of a key, and the label in each of its rows.
pub type Labels = Option<(usize, Vec<Value>)>;

/// The calculations of a request, checked: what they were made into, for those who explain them.
pub struct Calculations {
    /// All nodes.
    pub tree: Tree,
    /// What is known of the syntax.
    pub known: CheckedParts,
    /// The named calculations.
    pub lets: BTreeMap<String, Arc<Named>>,
}

/// The programs of a plan.
#[derive(Default)]
pub struct Programs {
    /// Over the inputs: the filter on rows.
    pub filter: Program,
    /// Over the inputs: keys, arguments and conditions of aggregates.
    pub row: Program,
    /// Over the inputs, and behind them the second-pass inputs: conditions that hold a result.
    pub second_pass: Program,
    /// The results of the table's groups that second-pass conditions use.
    pub second_pass_inputs: Vec<Built>,
    /// Aggregates that need a second pass.
    pub second_pass_aggregates: Vec<SecondPassPlan>,
    /// The groups of the table, and the finer ones inside aggregates with `per`.
    pub groupings: Vec<Grouping>,
    /// Over the cells of one level of the table, or over the rows of a detail.
    pub table: Program,
    /// What the table program is given.
    pub table_inputs: Vec<TableInput>,
    /// For each of these that is a result of groups, the calculation that it is.
    pub table_calcs: Vec<Option<Arc<str>>>,
    /// For each of these how many steps of the table program must have run before it.
    pub steps_before: Vec<usize>,
    /// What aggregates of rows take, with their words.
    pub values: Vec<ValuesWatch>,
}

/// All that a run needs to know.
pub struct Plan {
    /// The columns of the source.
    pub columns: Vec<ColumnInfo>,
    /// Those that are needed; the inputs of the programs over rows are places in this list.
    pub inputs: Vec<usize>,
    /// Which inputs are needed beyond the filter.
    pub needed: Vec<bool>,
    /// The tables whose columns are added to each row.
    pub lookups: Vec<LookupPlan>,
    /// The condition that rows must meet, in the filter program.
    pub condition: Option<Operand>,
    /// What is worked out, and over what.
    pub programs: Programs,
    /// How many of the table's keys stand down the side; the others stand along the top.
    pub by_keys: usize,
    /// Whether rows are listed, each a cell of its own, instead of being grouped.
    pub listing: bool,
    /// The results.
    pub results: Vec<ResultPlan>,
    /// For each key what it is filled with.
    pub fill: Vec<Option<Fill>>,
    /// For each key the labels that a lookup lists of it, where any key is filled.
    pub labels: Vec<Labels>,
    /// The order of lines.
    pub sort: Vec<SortPlan>,
    /// The column along the top by whose figures lines are sorted: keys with their labels, the outermost first.
    pub sort_column: Vec<(usize, AtLabel)>,
    /// Which lines are shown, in the table program.
    pub lines_where: Vec<Operand>,
    /// How many lines to show from the first.
    pub top: Option<u64>,
    /// How many lines to show from the last.
    pub bottom: Option<u64>,
    /// What the line is called that makes up for those not shown.
    pub rest_label: String,
    /// Total lines.
    pub totals: Totals,
    /// Where they stand.
    pub totals_at: TotalsAt,
    /// What readers should be told, such as a name that hides a column.
    pub notes: Vec<Note>,
    /// What the pass over the rows watches beside its work.
    pub watches: Watches,
    /// The calculations that all this was made of.
    pub calculations: Calculations,
}

impl std::ops::Deref for Plan {
    type Target = Programs;

    fn deref(&self) -> &Programs {
        &self.programs
    }
}

impl Plan {
    /// What the table's rows are grouped by.
    pub fn keys(&self) -> &[KeyPlan] {
        &self.groupings[0].keys
    }

    /// Whether rows without a match in a lookup are left out.
    pub fn drops_unmatched(&self, lookup: usize) -> bool {
        self.lookups[lookup].no_match == NoMatch::LeaveOut
    }

    /// Whether an input is needed beyond the filter.
    pub(crate) fn needs(&self, input: usize) -> bool {
        self.needed.get(input).is_none_or(|needed| *needed)
    }

    /// Whether any row may be left out.
    pub(crate) fn filters(&self) -> bool {
        self.condition.is_some() || self.drops()
    }

    /// Whether any lookup leaves rows out.
    pub fn drops(&self) -> bool {
        self.lookups.iter().any(|l| l.no_match == NoMatch::LeaveOut)
    }

    /// The inputs of the table program across cells that a result uses, the outermost first.
    pub fn windows_of(&self, operand: Operand) -> Vec<usize> {
        let mut inputs = self.inputs_of(operand);
        inputs.retain(|&i| matches!(self.table_inputs[i], TableInput::Window(_)));
        inputs
    }

    /// The results of groups that a result is worked out from, in the table program.
    pub fn group_inputs(&self, operand: Operand) -> Vec<usize> {
        let mut inputs = self.inputs_of(operand);
        inputs.retain(|&i| self.table_calcs[i].is_some());
        inputs
    }

    /// All inputs of the table program that a result is worked out from, each once, in the order of the
    /// calculation.
    fn inputs_of(&self, operand: Operand) -> Vec<usize> {
        let (mut out, mut waiting) = (Vec::new(), vec![operand]);
        let mut seen = HashSet::new();
        while let Some(operand) = waiting.pop() {
            if !seen.insert(operand) {
                continue;
            }
            match operand {
                Operand::Step(i) => waiting.extend(self.table.steps[i].args.iter().rev()),
                Operand::Input(i) => {
                    out.push(i);
                    if let TableInput::Window(w) = &self.table_inputs[i] {
                        let args = w.args.iter().rev().map(|a| a.operand);
                        waiting.extend(w.condition.map(|c| c.operand).into_iter().chain(args));
                    }
                }
            }
        }
        out
    }

    /// The result of groups that an input of the table program is.
    pub fn group_of(&self, operand: Operand) -> Option<Built> {
        match operand {
            Operand::Input(i) => match self.table_inputs[i] {
                TableInput::Group(built) => Some(built),
                _ => None,
            },
            Operand::Step(_) => None,
        }
    }

    /// Whether any line may be left out.
    pub fn cuts(&self) -> bool {
        !self.lines_where.is_empty() || self.top.is_some() || self.bottom.is_some()
    }

    /// Whether one key is the longer period of another key of the same date.
    pub fn is_coarser(&self, coarse: usize, fine: usize) -> bool {
        let period = |k: usize| self.keys()[k].period;
        period(fine).zip(period(coarse)).is_some_and(|(f, c)| f.1 == c.1 && f.0.nests_in(c.0))
    }
}

#[cfg(test)]
mod tests {
    use crate::testing::rows;
    use crate::{Plan, Request, SourceText};
    use oeuvre_columns::Source;
    use rstest::rstest;

    const ROWS: &str = "k m d:date x:2 y:0 unused\n";

    fn plan(by: &[&str], show: &[&str]) -> Plan {
        let filters = vec![SourceText::new("--where", "m = 'p'")];
        let request = Request { filters, ..Request::of(by, show) };
        Plan::new(&request, rows(ROWS).columns()).unwrap()
    }

    #[rstest]
    // What can be finished from one state shares it; conditions and arguments tell states apart.
    #[case(&["sum(x)", "mean(x)", "sum(x) / count(x)"], 2)]
    #[case(&["median(x)", "percentile(x, 90)", "mode(x)", "list(distinct x)"], 1)]
    #[case(&["min(x)", "max(x)", "range(x)"], 1)]
    #[case(&["sum(x)", "sum(x where y > 0)", "sum(x where y > 0) + 1"], 2)]
    #[case(&["sum(x)", "sum(x + 0)", "sum(y)"], 3)]
    #[case(&["rank(sum(x))", "share(sum(x))", "running(sum(x))"], 1)]
    fn states_are_shared(#[case] show: &[&str], #[case] states: usize) {
        assert_eq!(plan(&["k"], show).programs.groupings[0].states.len(), states);
    }

    #[test]
    fn only_columns_that_are_used_are_read_and_those_of_the_filter_are_known() {
        let plan = plan(&["k"], &["sum(x)"]);
        let mut read: Vec<(&str, bool)> = plan
            .inputs
            .iter()
            .zip(&plan.needed)
            .map(|(&i, &n)| (plan.columns[i].name.as_str(), n))
            .collect();
        read.sort_unstable();
        assert_eq!(read, [("k", true), ("m", false), ("x", true)]);
    }

    #[test]
    fn a_longer_period_of_the_same_date_is_coarser() {
        let plan = plan(&["year(d)", "month(d)", "week(d)", "k"], &["count()"]);
        let coarser = |a: usize, b: usize| plan.is_coarser(a, b);
        assert!(coarser(0, 1) && !coarser(1, 0) && !coarser(0, 3) && !coarser(1, 1));
        // Weeks lie across months.
        assert!(!coarser(1, 2));
    }

    #[test]
    fn the_windows_of_a_result_are_told_from_the_outermost() {
        let plan = plan(&["k"], &["rank(running(sum(x)))", "sum(x)"]);
        let windows: Vec<usize> =
            plan.results.iter().map(|r| plan.windows_of(r.built.operand).len()).collect();
        assert_eq!(windows, [2, 0]);
        assert_eq!(plan.group_inputs(plan.results[0].built.operand).len(), 1);
        assert!(!plan.cuts() && !plan.drops());
    }
}
