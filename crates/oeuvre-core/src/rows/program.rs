//! Calculations over columns: a list of steps, each of which makes one column from earlier ones.
//!
//! The same program type serves rows (over the columns of a batch) and groups (over finished
//! aggregates): a calculation means the same at every level. All choices are made when the program
//! is built; a step is one loop over typed columns. Registers are kept and refilled, so that a batch
//! costs no allocation once the first one has passed.
//!
//! If you add an operation: give it an [`Op`], a loop in `kernels.rs`, and have
//! `language/resolve/` build it.

use super::lookup::{Lookup, Table};
use super::scalar::Scalar;
use crate::value::calendar::{Part, Unit};
use crate::value::{Comparison, Kind, Value, text_order};
use std::collections::{HashMap, HashSet};
use std::fmt;
use std::hash::{Hash, Hasher};
use std::sync::Arc;

/// Where a step takes an argument from.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Operand {
    /// A column that the program is given.
    Input(usize),
    /// The column that an earlier step made.
    Step(usize),
}

/// A test of one text, made once for each distinct text.
#[derive(Clone, Debug, PartialEq)]
pub enum TextTest {
    /// How it compares with a text.
    Compare(Comparison, Arc<str>),
    /// Whether it is one of some texts.
    OneOf(Arc<HashSet<String>>),
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

/// What a step does. Numbers that meet in one step have the same scale, or are both binary64. Two steps are
/// the same where what they do is equal, part by part; texts of calculations say nothing about that.
#[derive(Clone, Debug, PartialEq)]
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
    OneOf(Arc<HashSet<i128>>),
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
    /// Conditions under which the result is used at all: a division by zero elsewhere is nobody's
    /// concern. The second part is the truth that is needed.
    pub guards: Vec<(Operand, bool)>,
    /// The calculation in the words of the person who wrote it, for messages.
    pub text: Arc<str>,
}

impl Step {
    /// The same for equal steps; different for most others.
    fn rough_hash(&self) -> u64 {
        let mut hasher = std::hash::DefaultHasher::new();
        std::mem::discriminant(&self.op).hash(&mut hasher);
        self.args.hash(&mut hasher);
        self.guards.hash(&mut hasher);
        self.kind.hash(&mut hasher);
        match &self.op {
            Op::Constant(Value::Text(t)) => t.hash(&mut hasher),
            Op::Constant(Value::Number(n)) => n.trimmed().mantissa.hash(&mut hasher),
            Op::Constant(Value::Date(d)) => d.hash(&mut hasher),
            Op::Constant(Value::Period(p)) => p.hash(&mut hasher),
            Op::Test(TextTest::Compare(how, text)) => (how, text).hash(&mut hasher),
            Op::Fetch(fetch) => fetch.column.hash(&mut hasher),
            _ => {}
        }
        hasher.finish()
    }
}

/// A list of steps over some inputs.
#[derive(Clone, Debug, Default)]
pub struct Program {
    /// The steps, each using only inputs and earlier steps.
    pub steps: Vec<Step>,
    /// Where steps of one hash stand; places beyond the steps are of steps that were taken back.
    known: HashMap<u64, Vec<usize>>,
}

impl Program {
    /// Adds a step, or finds the same one made before.
    pub fn add(&mut self, step: Step) -> Operand {
        let places = self.known.entry(step.rough_hash()).or_default();
        let steps = &self.steps;
        places.retain(|&at| at < steps.len());
        let same = |at: &&usize| {
            let it = &steps[**at];
            it.args == step.args
                && it.kind == step.kind
                && it.arg_kinds == step.arg_kinds
                && it.guards == step.guards
                && it.op == step.op
        };
        if let Some(&at) = places.iter().find(same) {
            return Operand::Step(at);
        }
        places.push(steps.len());
        self.steps.push(step);
        Operand::Step(self.steps.len() - 1)
    }
}

/// What a kernel remembers between batches about one step.
pub(crate) struct Memory<'a> {
    /// Tests of texts already made, by code.
    pub(crate) memo: &'a mut Vec<u8>,
    /// The codes that the arguments' texts have in the result, by argument.
    pub(crate) maps: &'a mut Vec<Vec<u32>>,
    /// Results of a function of one text, by code.
    pub(crate) known: &'a mut Vec<Value>,
    /// Rows of a lookup found already, by code of the only key.
    pub(crate) rows_found: &'a mut Vec<i32>,
    /// Scratch.
    pub(crate) choices: &'a mut Vec<u8>,
}
