//! The checked tree to programs: where each node is worked out, and from which columns.
//!
//! A node is lowered to a *target*: the filter, the rows, the second pass over the rows, groups, or the cells of
//! the table; once for each target that asks for it. What is a result of groups is worked out in their program
//! and enters that of the table as one column; what looks at other cells is a column of its own, worked out
//! between two steps of the table program.
//!
//! If you add a kind of node: say in `Lowering::lower` what becomes of it at each target.

use super::{
    AggregatePlan, Built, From, Grouping, KeyPlan, Programs, SecondPassPlan, StatePlan, TableInput,
    ValuesWatch,
};
use crate::aggregate::{Additivity, Aggregate};
use crate::language::check::{AggregateNode, Checker, Id, Key, Level, TreeNode, Typed};
use crate::rows::program::{Op, Operand, Program, Step};
use crate::stack;
use crate::window::Window;
use oeuvre_columns::value::Kind;
use std::collections::HashMap;
use std::sync::Arc;

/// Which program a node is lowered to.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(crate) enum Target {
    /// The filter on rows.
    Filter,
    /// Rows that count.
    Row,
    /// Rows again, when the results of the table's groups are known.
    SecondPass,
    /// The groups of a grouping.
    Group(usize),
    /// The cells of the table, or the rows of a detail.
    Table,
}

/// The grouping of the table.
const TABLE: usize = 0;

/// Programs in the making.
pub(crate) struct Lowering<'c> {
    checker: &'c Checker,
    /// The place of a column among the inputs.
    input_places: HashMap<usize, usize>,
    known: HashMap<(Id, Target, bool), Operand>,
    table_places: HashMap<Built, usize>,
    finer: HashMap<(usize, Vec<Id>), usize>,
    programs: Programs,
    /// The nodes of the keys of each grouping.
    keys: Vec<Vec<Id>>,
}

impl<'c> Lowering<'c> {
    pub(crate) fn new(checker: &'c Checker) -> Lowering<'c> {
        let places = checker.inputs.iter().enumerate().map(|(place, &column)| (column, place));
        let mut it = Lowering {
            checker,
            input_places: places.collect(),
            known: HashMap::new(),
            table_places: HashMap::new(),
            finer: HashMap::new(),
            programs: Programs { groupings: vec![Grouping::default()], ..Programs::default() },
            keys: vec![Vec::new()],
        };
        for key in &checker.keys {
            let key = it.key(key);
            it.programs.groupings[TABLE].keys.push(key);
        }
        it.keys[TABLE] = checker.keys.iter().map(|k| k.value.id).collect();
        it
    }

    /// The programs, complete: which of their divisions are used where is known now.
    pub(crate) fn finish(self) -> Programs {
        let mut it = self.programs;
        let groups = it.groupings.iter_mut().map(|g| &mut g.group);
        let rows = [&mut it.filter, &mut it.row, &mut it.second_pass, &mut it.table];
        rows.into_iter().chain(groups).for_each(Program::finish);
        it
    }

    fn key(&mut self, key: &Key) -> KeyPlan {
        let Built { operand, kind } = self.value(key.value, Target::Row);
        let (mut period, mut date) = (None, (kind == Kind::Date).then_some(operand));
        if let TreeNode::Apply { op, args } = self.checker.tree.node(key.value.id)
            && matches!(op, Op::ToPeriod(_) | Op::ToPart(_))
        {
            let of = self.value(args[0], Target::Row).operand;
            date = Some(of);
            if let Op::ToPeriod(unit) = op {
                period = Some((*unit, of));
            }
        }
        KeyPlan { heading: key.heading.clone(), operand, kind, period, date }
    }

    fn program(&mut self, target: Target) -> &mut Program {
        match target {
            Target::Filter => &mut self.programs.filter,
            Target::Row => &mut self.programs.row,
            Target::SecondPass => &mut self.programs.second_pass,
            Target::Table => &mut self.programs.table,
            Target::Group(grouping) => &mut self.programs.groupings[grouping].group,
        }
    }

    /// Lowers a value that is used for its own sake.
    pub(crate) fn value(&mut self, value: Typed, target: Target) -> Built {
        let operand = self.operand(value, target, false);
        if let Operand::Step(step) = operand {
            self.program(target).use_always(step);
        }
        Built { operand, kind: value.kind }
    }

    /// Lowers a value. In a branch of an `if` on cells the divisions count only where it is taken, and so they
    /// are made in the table program, which knows the condition: only what it cannot make enters as it is.
    fn operand(&mut self, value: Typed, target: Target, in_branch: bool) -> Operand {
        let key = (value.id, target, in_branch && target == Target::Table);
        if let Some(known) = self.known.get(&key) {
            return *known;
        }
        // Calculations may use each other thousands deep.
        let operand = stack::with_room(|| match self.entered(value, target, in_branch) {
            Some(operand) => operand,
            None => self.made(value, target, in_branch),
        });
        self.known.insert(key, operand);
        operand
    }

    /// A value that comes from elsewhere: a key of the groups, a result of groups, a value of a row.
    fn entered(&mut self, value: Typed, target: Target, in_branch: bool) -> Option<Operand> {
        let key_of = |it: &Self, grouping: usize| {
            it.keys[grouping].iter().position(|k| *k == value.id).map(Operand::Input)
        };
        match target {
            Target::Filter | Target::Row => None,
            Target::Group(grouping) => key_of(self, grouping),
            Target::SecondPass => match self.checker.tree.node(value.id) {
                TreeNode::Aggregate(_) => {
                    let result = self.value(value, Target::Group(TABLE));
                    let known = self.programs.second_pass_inputs.iter().position(|b| *b == result);
                    let at = known.unwrap_or_else(|| {
                        self.programs.second_pass_inputs.push(result);
                        self.programs.second_pass_inputs.len() - 1
                    });
                    Some(Operand::Input(self.checker.inputs.len() + at))
                }
                _ => None,
            },
            Target::Table => {
                if let Some(operand) = key_of(self, TABLE) {
                    let key = Built { operand, kind: value.kind };
                    return Some(self.table_input(TableInput::Group(key), Some(key)));
                }
                let whole = matches!(
                    self.checker.tree.node(value.id),
                    TreeNode::Column(_)
                        | TreeNode::Aggregate(_)
                        | TreeNode::Apply { op: Op::Fetch(_), .. }
                );
                // What is made on the way to a calculation, such as a number brought to binary64, is made here.
                let written = self.checker.tree.calc(value.id).is_some();
                if !whole && (in_branch || !written) {
                    return None;
                }
                match self.checker.tree.level(value.id) {
                    Level::Row if self.checker.listing => {
                        let row = self.value(value, Target::Row);
                        Some(self.table_input(TableInput::Row(row), Some(row)))
                    }
                    Level::Group => Some(self.group_input(value)),
                    _ => None,
                }
            }
        }
    }

    /// A result of the groups as a column of the table program, with the calculation that it is.
    fn group_input(&mut self, value: Typed) -> Operand {
        let group = self.value(value, Target::Group(TABLE));
        let input = self.table_input(TableInput::Group(group), Some(group));
        if let Operand::Input(i) = input {
            let tree = &self.checker.tree;
            let calc = || tree.calc(value.id).unwrap_or_else(|| tree.text(value.id)).clone();
            self.programs.table_calcs[i].get_or_insert_with(calc);
        }
        input
    }

    /// Adds an input of the table program, or finds the one of the same column.
    fn table_input(&mut self, input: TableInput, column: Option<Built>) -> Operand {
        if let Some(known) = column.and_then(|c| self.table_places.get(&c)) {
            return Operand::Input(*known);
        }
        if let Some(column) = column {
            self.table_places.insert(column, self.programs.table_inputs.len());
        }
        self.programs.table_inputs.push(input);
        self.programs.table_calcs.push(None);
        self.programs.steps_before.push(self.programs.table.steps.len());
        Operand::Input(self.programs.table_inputs.len() - 1)
    }

    /// Makes a value in the program itself.
    fn made(&mut self, value: Typed, target: Target, in_branch: bool) -> Operand {
        let checker = self.checker;
        match checker.tree.node(value.id) {
            TreeNode::Column(column) => Operand::Input(self.input_places[column]),
            TreeNode::Window(window) => self.window(window),
            TreeNode::Aggregate(node) => match target {
                Target::Group(grouping) => self.aggregate(node, value, grouping),
                _ => unreachable!("an aggregate is a result of groups"),
            },
            TreeNode::Apply { op, args } => {
                let branch = |i: usize| *op == Op::If && (i % 2 == 1 || i + 1 == args.len());
                let lowered = args.iter().enumerate();
                let lowered: Vec<Operand> = lowered
                    .map(|(i, &arg)| self.operand(arg, target, in_branch || branch(i)))
                    .collect();
                let program = self.program(target);
                let constant = |o: &Operand| matches!(o, Operand::Step(i) if matches!(program.steps[*i].op, Op::Constant(_)));
                let step = Step {
                    op: op.clone(),
                    constant_args: lowered.iter().map(constant).collect(),
                    args: lowered,
                    arg_kinds: args.iter().map(|a| a.kind).collect(),
                    kind: value.kind,
                    text: checker.tree.text(value.id).clone(),
                };
                program.add(step)
            }
        }
    }

    /// A calculation across cells, behind what it takes.
    fn window(&mut self, window: &Window<Typed>) -> Operand {
        let window = window.map(|value| self.value(value, Target::Table));
        self.table_input(TableInput::Window(window), None)
    }

    /// An aggregate as an input of the program of its groups.
    fn aggregate(&mut self, node: &AggregateNode, value: Typed, grouping: usize) -> Operand {
        let inner = match node.per.is_empty() {
            true => Target::Row,
            false => Target::Group(self.finer(grouping, &node.per)),
        };
        let args: Vec<Built> = node.args.iter().map(|&a| self.value(a, inner)).collect();
        let condition = node.condition.map(|c| self.value(c, inner).operand);
        let aggregate = node.aggregate.0.clone();
        let tree = &self.checker.tree;
        let text = tree.calc(value.id).unwrap_or_else(|| tree.text(value.id)).clone();
        let from = match (node.second_pass, inner) {
            (Some(second_pass), _) => {
                let condition = self.value(second_pass, Target::SecondPass).operand;
                let plan = SecondPassPlan {
                    aggregate: aggregate.clone(),
                    args,
                    condition,
                    text: text.clone(),
                };
                self.programs.second_pass_aggregates.push(plan);
                From::SecondPass(self.programs.second_pass_aggregates.len() - 1)
            }
            (None, Target::Group(finer)) => From::Groups { grouping: finer, args, condition },
            (None, _) => {
                // What counts values says itself how many there are.
                if !args.is_empty() && aggregate.additivity() != Additivity::Counted {
                    let names = vec![text.clone()];
                    self.programs.values.push(ValuesWatch { names, args: args.clone(), condition });
                }
                From::Rows(self.state(grouping, &aggregate, (args, condition), &text))
            }
        };
        let it = &mut self.programs.groupings[grouping];
        it.aggregates.push(AggregatePlan { aggregate, from, kind: value.kind, text });
        Operand::Input(it.keys.len() + it.aggregates.len() - 1)
    }

    /// The state that an aggregate over rows is finished from; those of one family share it.
    fn state(
        &mut self,
        grouping: usize,
        aggregate: &Arc<dyn Aggregate>,
        (args, condition): (Vec<Built>, Option<Operand>),
        text: &Arc<str>,
    ) -> usize {
        let it = &mut self.programs.groupings[grouping];
        let same = |s: &StatePlan| {
            s.aggregate.family() == aggregate.family() && s.args == args && s.condition == condition
        };
        it.states.iter().position(same).unwrap_or_else(|| {
            let (aggregate, text) = (aggregate.clone(), text.clone());
            it.states.push(StatePlan { aggregate, args, condition, text });
            it.states.len() - 1
        })
    }

    /// The grouping that is finer than another by some keys; the same groups serve several aggregates.
    fn finer(&mut self, around: usize, per: &[Typed]) -> usize {
        let own: Vec<Id> = per.iter().map(|k| k.id).collect();
        if let Some(known) = self.finer.get(&(around, own.clone())) {
            return *known;
        }
        let mut keys = self.programs.groupings[around].keys.clone();
        let outer = keys.len();
        for &value in per {
            let heading = self.checker.tree.text(value.id).to_string();
            keys.push(self.key(&Key { heading, value }));
        }
        self.programs.groupings.push(Grouping { keys, outer, ..Grouping::default() });
        self.keys.push([&self.keys[around][..], &own].concat());
        self.finer.insert((around, own), self.programs.groupings.len() - 1);
        self.programs.groupings.len() - 1
    }
}

#[cfg(test)]
mod tests {
    use crate::testing::{answer, rows, shown, value};
    use crate::{Plan, Request, SourceText};
    use oeuvre_columns::Source;
    use rstest::rstest;

    const DATA: &str = "k x:0 y:0\na|1|2\na|3|0\nb|5|2\n";

    #[rstest]
    // The filter, the rows, the second pass, groups, and the table each have a program of their own.
    #[case(&["sum(x + y)"], [0, 1, 0, 0, 0])]
    #[case(&["sum(x + y)", "max(x + y)"], [0, 1, 0, 0, 0])]
    #[case(&["sum(x) / 2 + 1"], [0, 0, 0, 2, 0])]
    #[case(&["rank(sum(x)) + 1"], [0, 0, 0, 0, 1])]
    fn steps_stand_where_they_are_worked_out(#[case] show: &[&str], #[case] steps: [usize; 5]) {
        let plan = Plan::new(&Request::of(&["k"], show), rows(DATA).columns()).unwrap();
        let it = &plan.programs;
        let programs = [&it.filter, &it.row, &it.second_pass, &it.groupings[0].group, &it.table];
        let lens = programs.map(|p| p.steps.len());
        assert!(
            lens.iter().zip(steps).all(|(found, least)| (*found > 0) == (least > 0)),
            "{lens:?}"
        );
    }

    #[test]
    fn a_calculation_means_the_same_wherever_it_is_worked_out() {
        let rows = rows(DATA);
        let request = Request {
            filters: vec![SourceText::new("--where", "if(y = 0, 1, x / y) >= 1")],
            ..Request::of(
                &[],
                &["sum(if(y = 0, 1, x / y))", "count(where if(y = 0, 1, x / y) >= 1)"],
            )
        };
        assert_eq!(shown(&answer(&rows, &request).unwrap().0), "3.5 2");
        // Of groups, and of rows in a second pass.
        assert_eq!(value(&rows, "count(where x > if(sum(y) = 0, 1, sum(x) / sum(y)))"), "2");
        assert_eq!(value(&rows, "if(sum(y) = 0, 1, sum(x) / sum(y))"), "2.25");
    }
}
