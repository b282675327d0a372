//! Calculations over columns: a list of steps, each of which makes one column from earlier ones.
//!
//! The same program type serves rows (over the columns of a batch) and groups (over finished aggregates): a
//! calculation means the same at every level. All choices are made when the program is built; a step is one loop
//! over typed columns. Registers are kept and refilled, so that a batch costs no allocation once the first one
//! has passed.
//!
//! If you add an operation: give it an [`Op`], a loop in `kernels.rs`, and have `language/check/` make nodes
//! of it. Operations are compared part by part to find equal nodes, so that all they depend on is in them.
//!
//! ```
//! use oeuvre_columns::{Kind, Value, column::{Column, Data}};
//! use oeuvre_core::rows::evaluator::Evaluator;
//! use oeuvre_core::rows::program::{Op, Operand, Program, Step};
//!
//! let kind = Kind::Number { scale: 0 };
//! let mut program = Program::default();
//! let sum = program.add(Step {
//!     op: Op::Add,
//!     args: vec![Operand::Input(0), Operand::Input(1)],
//!     arg_kinds: vec![kind; 2],
//!     constant_args: vec![false; 2],
//!     kind,
//!     text: "a + b".into(),
//! });
//! program.use_always(0);
//! program.finish();
//! let (a, b) = (Column::from(Data::I64(vec![1, 2])), Column::from(Data::I64(vec![10, 20])));
//! let mut evaluator = Evaluator::new(&program);
//! evaluator.run(&program, &[&a, &b], 2).unwrap();
//! assert_eq!(evaluator.column(sum, &[&a, &b]).data.to_i128(), [11, 22]);
//! ```

use super::lookup::Lookup;
use super::scalar::Scalar;
use oeuvre_columns::Table;
use oeuvre_columns::column::dictionary::Followed;
use oeuvre_columns::value::calendar::{Part, Unit};
use oeuvre_columns::value::{Comparison, Kind, Value, text_order};
use std::collections::HashSet;
use std::fmt;
use std::hash::{Hash, Hasher};
use std::sync::Arc;

/// What a step does. Numbers that meet in one step have the same scale, or are both binary64. Two steps are
/// the same where what they do is equal, part by part; the texts of calculations say nothing about that.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Operand {
    /// A column that the program is given.
    Input(usize),
    /// The column that an earlier step made.
    Step(usize),
}

/// A test of one text, made once for each distinct text.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum TextTest {
    /// How it compares with a text.
    Compare(Comparison, Arc<str>),
    /// Whether it is one of some texts.
    OneOf(Arc<Set<String>>),
}

/// Some different values, to look others up in.
#[derive(Clone, Debug)]
pub struct Set<T> {
    /// In their order, for comparing sets.
    items: Vec<T>,
    index: HashSet<T>,
}

impl<T: Ord + Hash + Clone> Set<T> {
    /// A set of some values.
    pub fn new(mut items: Vec<T>) -> Set<T> {
        items.sort_unstable();
        items.dedup();
        Set { index: items.iter().cloned().collect(), items }
    }

    /// The values in their order.
    pub fn iter(&self) -> impl Iterator<Item = &T> {
        self.items.iter()
    }

    /// Whether a value is one of them.
    #[inline]
    pub fn contains<Q: Hash + Eq + ?Sized>(&self, value: &Q) -> bool
    where
        T: std::borrow::Borrow<Q>,
    {
        self.index.contains(value)
    }
}

impl<T: PartialEq> PartialEq for Set<T> {
    fn eq(&self, other: &Set<T>) -> bool {
        self.items == other.items
    }
}

impl<T: Eq> Eq for Set<T> {}

impl<T: Hash> Hash for Set<T> {
    fn hash<H: Hasher>(&self, state: &mut H) {
        self.items.hash(state);
    }
}

impl TextTest {
    /// Whether a text passes.
    pub fn holds(&self, text: &str) -> bool {
        match self {
            TextTest::Compare(Comparison::Equal, other) => text == &**other,
            TextTest::Compare(Comparison::NotEqual, other) => text != &**other,
            TextTest::Compare(how, other) => how.holds(text_order(text, other)),
            TextTest::OneOf(texts) => texts.contains(text),
        }
    }
}

/// What a step does. Numbers that meet in one step have the same scale, or are both binary64. Regression steps are
/// the same where what they do is equal, part by part; texts of calculations say nothing about that.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Op {
    /// The same value on every row.
    Constant(Value),
    /// Exact number times `10^n`, to bring it to another scale.
    ScaleUp(u8),
    /// Exact number to binary64.
    ToFloat,
    /// Sum of two numbers.
    Add,
    /// Difference of two numbers.
    Subtract,
    /// Product of two numbers; the scales add up.
    Multiply,
    /// The same of exact numbers, missing where it does not fit.
    MultiplyIfFits,
    /// Quotient of two numbers of one scale, binary64; missing where the divisor is zero.
    Divide,
    /// Minus.
    Negate,
    /// Absolute value.
    Absolute,
    /// Rounded to this many digits after the point, halves away from zero; an exact number.
    Round(u8),
    /// A quotient rounded to this many digits after the point from its numerator and denominator, halves
    /// away from zero; the third argument is the quotient itself, for where the two are not known.
    RoundRatio(u8),
    /// A comparison of two values of one kind; missing where either is.
    Compare(Comparison),
    /// A test of a text; missing where the text is.
    Test(TextTest),
    /// Whether a whole number, a date or a place in the calendar is one of some; missing where it is.
    OneOf(Arc<Set<i128>>),
    /// Three-valued and.
    And,
    /// Three-valued or.
    Or,
    /// Three-valued not.
    Not,
    /// Whether a value is missing; never missing itself.
    IsMissing,
    /// Conditions and values in turns, and a last value: the value behind the first condition that
    /// holds.
    If,
    /// The first value that is present.
    Coalesce,
    /// The largest value present (or the smallest).
    Extreme {
        /// The largest.
        largest: bool,
    },
    /// The period that a date lies in.
    ToPeriod(Unit),
    /// The part of the calendar that a date lies in.
    ToPart(Part),
    /// The first instant of a date.
    DateToTime,
    /// The date of a datetime.
    TimeToDate,
    /// The first date less the second, in days; of periods of one unit, in units.
    StepsBetween,
    /// The first datetime less the second, in days.
    TimeBetween,
    /// A date or a period so many days or units later, a datetime so many days later.
    Later,
    /// A function of single values.
    Scalar(Scalar),
    /// The row of a lookup that has the key; missing where none has.
    FindRow(FindRow),
    /// A column of a lookup, at the rows that were found.
    Fetch(FetchColumn),
}

/// A lookup to find rows in; the same lookup is the very same table.
#[derive(Clone)]
pub struct FindRow(pub Arc<Lookup>);

impl PartialEq for FindRow {
    fn eq(&self, other: &FindRow) -> bool {
        Arc::ptr_eq(&self.0, &other.0)
    }
}

impl Eq for FindRow {}

impl Hash for FindRow {
    fn hash<H: Hasher>(&self, state: &mut H) {
        Arc::as_ptr(&self.0).hash(state);
    }
}

impl fmt::Debug for FindRow {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.0.table.name)
    }
}

impl PartialEq for FetchColumn {
    fn eq(&self, other: &FetchColumn) -> bool {
        Arc::ptr_eq(&self.table, &other.table) && self.column == other.column
    }
}

impl Eq for FetchColumn {}

impl Hash for FetchColumn {
    fn hash<H: Hasher>(&self, state: &mut H) {
        (Arc::as_ptr(&self.table), self.column).hash(state);
    }
}

/// A column of a lookup.
#[derive(Clone)]
pub struct FetchColumn {
    /// The lookup's table.
    pub table: Arc<Table>,
    /// The column in it.
    pub column: usize,
}

impl fmt::Debug for FetchColumn {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}.{}", self.table.name, self.table.columns[self.column].name)
    }
}

/// One step.
#[derive(Clone, Debug)]
pub struct Step {
    /// What it does.
    pub op: Op,
    /// What it does it to.
    pub args: Vec<Operand>,
    /// The kinds of the arguments.
    pub arg_kinds: Vec<Kind>,
    /// Which arguments are the same on all rows.
    pub constant_args: Vec<bool>,
    /// The kind of the result.
    pub kind: Kind,
    /// The calculation in the words of the person who wrote it, for messages.
    pub text: Arc<str>,
}

/// Where the result of a step is used.
#[derive(Clone, Debug, PartialEq)]
pub enum Use {
    /// On every row.
    Always,
    /// On rows where one of these uses it.
    Where(Vec<UsedBy>),
}

/// A step that uses the result of another on some rows.
#[derive(Clone, Debug, PartialEq)]
pub struct UsedBy {
    /// The step.
    pub step: usize,
    /// What must hold there: conditions, each with the truth that is needed. A missing one is false.
    pub conditions: Vec<(Operand, bool)>,
}

/// A list of steps over some inputs.
#[derive(Clone, Debug, Default)]
pub struct Program {
    /// The steps, each using only inputs and earlier steps.
    pub steps: Vec<Step>,
    /// Steps whose results are used for their own sake.
    used: Vec<bool>,
    /// Where the result of each step is used, once the program is finished.
    uses: Vec<Use>,
}

impl Program {
    /// Adds a step.
    pub fn add(&mut self, step: Step) -> Operand {
        self.steps.push(step);
        self.used.push(false);
        Operand::Step(self.steps.len() - 1)
    }

    /// Says that the result of a step is used on every row, whatever else uses it.
    pub fn use_always(&mut self, step: usize) {
        self.used[step] = true;
    }

    /// Where the result of a step is used.
    pub fn uses(&self, step: usize) -> &Use {
        self.uses.get(step).unwrap_or(&Use::Always)
    }

    /// Finds out where each result is used: a division by zero in a branch that is not taken is nobody's
    /// concern. To be called once, when no step is added any more.
    pub fn finish(&mut self) {
        let mut always = self.used.clone();
        let mut sometimes: Vec<Vec<UsedBy>> = vec![Vec::new(); self.steps.len()];
        for (at, step) in self.steps.iter().enumerate().rev() {
            for (i, arg) in step.args.iter().enumerate() {
                let Operand::Step(arg) = *arg else { continue };
                let conditions = step.branch_conditions(i);
                if always[at] && conditions.is_empty() {
                    always[arg] = true;
                } else {
                    sometimes[arg].push(UsedBy { step: at, conditions });
                }
            }
        }
        let one = |(always, sometimes)| if always { Use::Always } else { Use::Where(sometimes) };
        self.uses = always.into_iter().zip(sometimes).map(one).collect();
    }
}

impl Step {
    /// Whether it works out values from values, and remembers nothing of its arguments but what
    /// [`super::evaluator::Evaluator::forgetting`] knows of.
    pub(crate) fn is_of_values(&self) -> bool {
        matches!(self.op, Op::Scalar(_))
    }

    /// Whether these are texts.
    pub(crate) fn is_text_of_values(&self) -> bool {
        self.is_of_values() && self.kind == Kind::Text
    }

    /// Under which conditions a step uses one of its arguments: those of an `if` up to the branch.
    fn branch_conditions(&self, arg: usize) -> Vec<(Operand, bool)> {
        let is_value = arg % 2 == 1 || arg + 1 == self.args.len();
        if self.op != Op::If || !is_value {
            return Vec::new();
        }
        let last = arg + 1 == self.args.len();
        let own = if last { arg } else { arg - 1 };
        let mut out: Vec<(Operand, bool)> =
            (0..own).step_by(2).map(|i| (self.args[i], false)).collect();
        if !last {
            out.push((self.args[own], true));
        }
        out
    }
}

/// What a kernel remembers between batches about one step.
pub(crate) struct Memory<'a> {
    /// Tests of texts already made, by code.
    pub(crate) memo: &'a mut Vec<u8>,
    /// The codes that the arguments' texts have in the result, by argument.
    pub(crate) maps: &'a mut Vec<Followed>,
    /// Results of a function of one text, by code.
    pub(crate) known: &'a mut Vec<Value>,
    /// Rows of a lookup found already, by code of the only key.
    pub(crate) rows_found: &'a mut Vec<i32>,
    /// Scratch.
    pub(crate) choices: &'a mut Vec<u8>,
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn step(op: Op, args: &[Operand]) -> Step {
        let kind = Kind::Number { scale: 0 };
        let (arg_kinds, constant_args) = (vec![kind; args.len()], vec![false; args.len()]);
        Step { op, args: args.to_vec(), arg_kinds, constant_args, kind, text: "x".into() }
    }

    #[test]
    fn a_step_is_used_where_the_branches_that_lead_to_it_are_taken() {
        let (a, condition) = (Operand::Input(0), Operand::Input(1));
        let mut program = Program::default();
        let quotient = program.add(step(Op::Divide, &[a, a]));
        let branch = program.add(step(Op::If, &[condition, quotient, a]));
        let unused = program.add(step(Op::Divide, &[a, a]));
        let Operand::Step(last) = branch else { panic!("a step") };
        program.use_always(last);
        program.finish();
        let Operand::Step(quotient) = quotient else { panic!("a step") };
        let Operand::Step(unused) = unused else { panic!("a step") };
        assert!(matches!(program.uses(last), Use::Always));
        match program.uses(quotient) {
            Use::Where(users) => {
                let users: Vec<_> = users.iter().map(|u| (u.step, u.conditions.clone())).collect();
                assert_eq!(users, [(last, vec![(condition, true)])]);
            }
            other => panic!("{other:?}"),
        }
        assert!(matches!(program.uses(unused), Use::Where(users) if users.is_empty()));
    }

    proptest! {
        #[test]
        fn a_set_holds_what_it_was_made_of(items in proptest::collection::vec(0i64..20, 0..9), other in 0i64..20) {
            let set = Set::new(items.clone());
            prop_assert!(items.iter().all(|i| set.contains(i)));
            prop_assert_eq!(set.contains(&other), items.contains(&other));
            let (mut twice, mut reversed) = (items.clone(), items);
            twice.extend(reversed.clone());
            reversed.reverse();
            prop_assert!(Set::new(twice) == Set::new(reversed));
        }
    }

    #[test]
    fn a_text_is_compared_as_labels_are() {
        let less = TextTest::Compare(Comparison::Less, "Kel".into());
        assert!(less.holds("aal") && less.holds("KEL") && !less.holds("Kel") && !less.holds("kel"));
        let one = TextTest::OneOf(Arc::new(Set::new(vec!["SKE".to_owned()])));
        assert!(one.holds("SKE") && !one.holds("ske"));
    }
}
