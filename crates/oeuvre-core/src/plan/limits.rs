//! Which rows a plan can want at all, so that a source that knows its rows without reading them need not read all.
//!
//! Only what is plainly the same is taken from the condition on rows: comparisons of a column of numbers, dates or
//! times with a value, that all must hold. Where the condition looks at texts nothing is: what is said of labels that
//! meet no row is said of all rows.

use super::Plan;
use crate::rows::program::{Op, Operand, Program};
use oeuvre_columns::value::{Comparison, Kind, Value};
use oeuvre_columns::{Limits, Range};

impl Plan {
    /// What must hold of the rows that count; no ranges where all rows are wanted.
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
                    | Op::And
                    | Op::Or
                    | Op::Not
                    | Op::IsMissing
            )
        };
        let watches_texts = !self.watches.filter_texts.is_empty();
        if watches_texts || !program.steps.iter().all(|step| is_plain(&step.op)) {
            return Limits::default();
        }
        let mut ranges = Vec::new();
        let mut conditions = vec![condition];
        while let Some(operand) = conditions.pop() {
            let Operand::Step(step) = operand else { continue };
            let step = &program.steps[step];
            match (&step.op, &step.args[..]) {
                (Op::And, args) => conditions.extend(args),
                (Op::Compare(how), &[a, b]) => {
                    let found = range(program, (a, b), *how)
                        .or_else(|| range(program, (b, a), turned(*how)));
                    ranges.extend(found.map(|range| self.of_source(range)));
                }
                (Op::OneOf(set), &[a]) => {
                    if let (Some(input), [kind]) = (input(program, a), &step.arg_kinds[..])
                        && let (Some(&low), Some(&high)) = (set.iter().next(), set.iter().last())
                        && let (Some(low), Some(high)) = (value(*kind, low), value(*kind, high))
                    {
                        let range = Range { column: input, low: Some(low), high: Some(high) };
                        ranges.push(self.of_source(range));
                    }
                }
                _ => {}
            }
        }
        let looked_at = program.steps.iter().flat_map(|step| &step.args);
        let mut columns: Vec<usize> = looked_at
            .filter_map(|arg| match arg {
                Operand::Input(input) => Some(self.inputs[*input]),
                Operand::Step(_) => None,
            })
            .collect();
        columns.sort_unstable();
        columns.dedup();
        Limits { columns, ranges }
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
    #[case("x in (3, 9, 4) and y is missing", "0 3..9", "0 1")]
    #[case("x > 1 or y > 1", "", "0 1")]
    #[case("x <> 1", "", "0")]
    #[case("not (x > 1)", "", "0")]
    #[case("x + y > 1 and x > 1", "", "")]
    #[case("t = 'a' and x > 1", "", "")]
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
        let found: Vec<String> = limits
            .ranges
            .iter()
            .map(|r| format!("{} {}..{}", r.column, side(&r.low), side(&r.high)))
            .collect();
        let of: Vec<String> = limits.columns.iter().map(ToString::to_string).collect();
        assert_eq!((found.join("; "), of.join(" ")), (ranges.to_owned(), columns.to_owned()));
    }
}
