//! Which rows a plan can want at all, so that a source that knows its rows without reading them need not read all.
//!
//! Only what is plainly the same is taken from the condition on rows: comparisons of a column with values, and that it
//! has a value or none, that all must hold. What is said of labels that meet no row is said of all rows: where the
//! condition compares a column with texts elsewhere than in such a part, nothing is taken.

use super::Plan;
use crate::rows::program::{Op, Operand, Program, Step, TextTest};
use oeuvre_columns::names::plain_label;
use oeuvre_columns::value::{Comparison, Kind, Value};
use oeuvre_columns::{Limits, OneOf, Range};
use std::collections::HashSet;

impl Plan {
    /// What must hold of the rows that count; empty where all rows are wanted.
    pub(crate) fn limits(&self) -> Limits {
        let Some(condition) = self.condition else { return Limits::default() };
        let program = &self.filter;
        let is_plain = |op: &Op| {
            matches!(
                op,
                Op::Constant(_)
                    | Op::ScaleUp(_)
                    | Op::Compare(_)
                    | Op::OneOf(_)
                    | Op::Test(_)
                    | Op::And
                    | Op::Or
                    | Op::Not
                    | Op::IsMissing
            )
        };
        if !program.steps.iter().all(|step| is_plain(&step.op)) {
            return Limits::default();
        }
        let mut limits = Limits::default();
        let mut conditions = vec![condition];
        while let Some(operand) = conditions.pop() {
            if let Operand::Step(step) = operand {
                match &program.steps[step] {
                    Step { op: Op::And, args, .. } => conditions.extend(args),
                    step => self.add_limit(step, &mut limits),
                }
            }
        }
        // A text that is asked for elsewhere, or twice in two spellings, is looked for among all rows.
        let asked: usize = self.watches.filter_texts.iter().map(|watch| watch.texts.len()).sum();
        let plain = |of: &OneOf| {
            let mut seen = HashSet::new();
            of.texts.iter().all(|text| seen.insert(plain_label(text).into_owned()))
        };
        let taken: usize = limits.texts.iter().map(|of| of.texts.len()).sum();
        if asked != taken || !limits.texts.iter().all(plain) {
            return Limits::default();
        }
        limits.columns = self.compared();
        limits
    }

    /// Adds what a condition asks for, where that is plain.
    fn add_limit(&self, step: &Step, limits: &mut Limits) {
        let program = &self.filter;
        match (&step.op, &step.args[..]) {
            (Op::Compare(how), &[a, b]) => {
                let found =
                    range(program, (a, b), *how).or_else(|| range(program, (b, a), turned(*how)));
                limits.ranges.extend(found.map(|range| self.of_source(range)));
            }
            (Op::OneOf(set), &[a]) => {
                if let (Some(input), [kind]) = (input(program, a), &step.arg_kinds[..])
                    && let (Some(&low), Some(&high)) = (set.iter().next(), set.iter().last())
                    && let (Some(low), Some(high)) = (value(*kind, low), value(*kind, high))
                {
                    let range = Range { column: input, low: Some(low), high: Some(high) };
                    limits.ranges.push(self.of_source(range));
                }
            }
            (Op::Test(test), &[Operand::Input(input)]) if step.arg_kinds[0] == Kind::Text => {
                let texts = match test {
                    TextTest::Compare(Comparison::Equal, text) => vec![text.to_string()],
                    TextTest::OneOf(texts) => texts.iter().cloned().collect(),
                    TextTest::Compare(..) => return,
                };
                limits.texts.push(OneOf { column: self.inputs[input], texts });
            }
            (Op::IsMissing, &[Operand::Input(input)]) => limits.blank.push(self.inputs[input]),
            (Op::Not, &[Operand::Step(of)]) => {
                let of = &program.steps[of];
                if let (Op::IsMissing, &[Operand::Input(input)]) = (&of.op, &of.args[..]) {
                    limits.filled.push(self.inputs[input]);
                }
            }
            _ => {}
        }
    }

    /// The columns whose values the condition compares.
    fn compared(&self) -> Vec<usize> {
        let compares = |step: &&Step| step.op != Op::IsMissing;
        let args = self.filter.steps.iter().filter(compares).flat_map(|step| &step.args);
        let mut columns: Vec<usize> = args
            .filter_map(|arg| match arg {
                Operand::Input(input) => Some(self.inputs[*input]),
                Operand::Step(_) => None,
            })
            .collect();
        columns.sort_unstable();
        columns.dedup();
        columns
    }

    /// A range of an input as one of the source's column.
    fn of_source(&self, range: Range) -> Range {
        Range { column: self.inputs[range.column], ..range }
    }
}

/// The value that a whole number stands for in a set of a kind.
fn value(kind: Kind, n: i128) -> Option<Value> {
    match kind {
        Kind::Number { scale } => Some(Value::Number(oeuvre_columns::Decimal::new(n, scale))),
        Kind::Date => i32::try_from(n).ok().map(Value::Date),
        _ => None,
    }
}

/// The comparison with its sides changed.
fn turned(how: Comparison) -> Comparison {
    match how {
        Comparison::Less => Comparison::Greater,
        Comparison::LessEqual => Comparison::GreaterEqual,
        Comparison::Greater => Comparison::Less,
        Comparison::GreaterEqual => Comparison::LessEqual,
        same => same,
    }
}

/// The column that an operand is, perhaps at another scale.
fn input(program: &Program, operand: Operand) -> Option<usize> {
    match operand {
        Operand::Input(input) => Some(input),
        Operand::Step(step) => {
            let step = &program.steps[step];
            match (&step.op, &step.args[..]) {
                (Op::ScaleUp(_), &[Operand::Input(input)]) => Some(input),
                _ => None,
            }
        }
    }
}

/// The value that an operand always is.
fn constant(program: &Program, operand: Operand) -> Option<&Value> {
    let Operand::Step(step) = operand else { return None };
    let step = &program.steps[step];
    match (&step.op, &step.args[..]) {
        (Op::Constant(value), _) => Some(value),
        (Op::ScaleUp(_), &[of]) => constant(program, of),
        _ => None,
    }
}

/// The values of an input that a comparison with a value allows; what is more than these is no harm.
fn range(program: &Program, (column, with): (Operand, Operand), how: Comparison) -> Option<Range> {
    let column = input(program, column)?;
    let value = constant(program, with)?;
    if !matches!(value, Value::Number(_) | Value::Date(_) | Value::DateTime(_)) {
        return None;
    }
    let value = Some(value.clone());
    let (low, high) = match how {
        Comparison::Equal => (value.clone(), value),
        Comparison::Less | Comparison::LessEqual => (None, value),
        Comparison::Greater | Comparison::GreaterEqual => (value, None),
        Comparison::NotEqual => return None,
    };
    Some(Range { column, low, high })
}

#[cfg(test)]
mod tests {
    use crate::testing::{rows, text};
    use crate::{Plan, Request};
    use oeuvre_columns::Source;
    use rstest::rstest;

    #[rstest]
    #[case("x > 1", "0 1..", "0")]
    #[case("x >= 1.5 and 20 > y", "1 ..20; 0 1.5..", "0 1")]
    #[case("d = '2025-01-31'", "2 2025-01-31..2025-01-31", "2")]
    #[case("x between 2 and 5", "0 ..5; 0 2..", "0")]
    #[case("x in (3, 9, 4) and y is missing", "0 3..9; 1 blank", "0")]
    #[case("x is missing or y > 1", "", "1")]
    #[case("y is not missing and x < 3", "0 ..3; 1 filled", "0")]
    #[case("x > 1 or y > 1", "", "0 1")]
    #[case("x <> 1", "", "0")]
    #[case("not (x > 1)", "", "0")]
    #[case("x + y > 1 and x > 1", "", "")]
    #[case("t = 'a' and x > 1", "0 1..; 3 a", "0 3")]
    #[case("t in ('b', 'a', 'b') and t > 'A'", "3 a|b", "3")]
    #[case("t in ('b', 'B')", "", "")]
    #[case("t <> 'a' and x > 1", "", "")]
    #[case("(t = 'a' or x > 1) and y > 1", "", "")]
    #[case("t > 'a' and x > 1", "0 1..", "0 3")]
    fn what_plainly_must_hold_is_known(
        #[case] filter: &str,
        #[case] ranges: &str,
        #[case] columns: &str,
    ) {
        let rows = rows("x:0 y:0 d:date t:text\n1|2|2025-01-01|a\n");
        let request = Request { filters: vec![text(filter)], ..Request::of(&[], &["count()"]) };
        let limits = Plan::new(&request, rows.columns()).unwrap().limits();
        let side = |v: &Option<oeuvre_columns::Value>| {
            v.as_ref().map_or(String::new(), ToString::to_string)
        };
        let ranges_found = limits
            .ranges
            .iter()
            .map(|r| format!("{} {}..{}", r.column, side(&r.low), side(&r.high)));
        let texts = limits.texts.iter().map(|of| format!("{} {}", of.column, of.texts.join("|")));
        let blank = limits.blank.iter().map(|column| format!("{column} blank"));
        let filled = limits.filled.iter().map(|column| format!("{column} filled"));
        let found: Vec<String> = ranges_found.chain(texts).chain(blank).chain(filled).collect();
        let of: Vec<String> = limits.columns.iter().map(ToString::to_string).collect();
        assert_eq!((found.join("; "), of.join(" ")), (ranges.to_owned(), columns.to_owned()));
    }
}
