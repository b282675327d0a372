//! Quotients as the two exact numbers that they were made of, so that they can be rounded from these.
//!
//! A binary64 is nearest to its quotient, but rounding it once more to a few digits can go wrong at a half:
//! 3/200 is 0.015, and its binary64 a little less. What is divided, a mean, a median or a share of exact numbers
//! is found here as a numerator and a denominator, as deep as quotients are multiplied or divided further;
//! `None` for what has no exact value.

use super::{AggregateNode, Checker, Id, Level, TreeNode, Typed, Window};
use crate::rows::program::Op;
use crate::same::Alike;
use crate::window::{Calc, Parts};
use oeuvre_columns::value::decimal::{Decimal, MAX_DIGITS};
use oeuvre_columns::value::{Kind, Value};

/// How deeply quotients of quotients are followed.
const DEEPEST: usize = 6;

/// A whole number.
const WHOLE: Kind = Kind::Number { scale: 0 };

impl Checker {
    /// A calculation as a numerator and a denominator, both exact; [`Value::Missing`] where one of them does
    /// not fit 38 digits.
    pub(crate) fn ratio_of(&mut self, of: Typed) -> Option<[Typed; 2]> {
        self.ratio(of, DEEPEST)
    }

    fn ratio(&mut self, of: Typed, deep: usize) -> Option<[Typed; 2]> {
        if let Kind::Number { .. } = of.kind {
            return Some([of, self.one()]);
        }
        if of.kind != Kind::Float || deep == 0 {
            return None;
        }
        match self.tree.node(of.id).clone() {
            TreeNode::Column(_) => None,
            TreeNode::Aggregate(node) => self.ratio_of_aggregate(of.id, &node),
            TreeNode::Window(window) => self.ratio_of_window(&window, deep),
            TreeNode::Apply { op, args } => self.ratio_of_operation(of.id, &op, &args, deep),
        }
    }

    fn ratio_of_operation(
        &mut self,
        of: Id,
        op: &Op,
        args: &[Typed],
        deep: usize,
    ) -> Option<[Typed; 2]> {
        match (op, args) {
            (Op::ToFloat, &[x]) => self.ratio(x, deep - 1),
            (Op::Negate, &[x]) => {
                let [n, d] = self.ratio(x, deep - 1)?;
                let text = self.tree.text(of).clone();
                Some([self.tree.apply(&text, Op::Negate, &[n], n.kind), d])
            }
            (Op::Divide, &[x, y]) if x.kind != Kind::Float && y.kind != Kind::Float => Some([x, y]),
            (Op::Divide, &[x, y]) => {
                let [a, b] = self.ratio(x, deep - 1)?;
                let [c, d] = self.ratio(y, deep - 1)?;
                Some([self.product(a, d)?, self.product(b, c)?])
            }
            (Op::Multiply, &[x, y]) => {
                let [a, b] = self.ratio(x, deep - 1)?;
                let [c, d] = self.ratio(y, deep - 1)?;
                Some([self.product(a, c)?, self.product(b, d)?])
            }
            _ => None,
        }
    }

    fn one(&mut self) -> Typed {
        self.tree.constant("1", Value::Number(Decimal::new(1, 0)), WHOLE)
    }

    /// A product that is missing where it does not fit.
    fn product(&mut self, a: Typed, b: Typed) -> Option<Typed> {
        let (Kind::Number { scale: x }, Kind::Number { scale: y }) = (a.kind, b.kind) else {
            return None;
        };
        let one = self.one();
        if a == one {
            return Some(b);
        }
        if b == one {
            return Some(a);
        }
        let scale = x.checked_add(y).filter(|s| *s <= MAX_DIGITS)?;
        Some(self.tree.apply("", Op::MultiplyIfFits, &[a, b], Kind::Number { scale }))
    }

    fn ratio_of_aggregate(&mut self, of: Id, node: &AggregateNode) -> Option<[Typed; 2]> {
        let kinds = Self::kinds(&node.args);
        let parts = node.aggregate.ratio(&kinds)?;
        let text = self.tree.text(of).clone();
        let mut add = |aggregate: std::sync::Arc<dyn crate::aggregate::Aggregate>| {
            let kind = aggregate.result(&kinds).ok()?;
            let node = AggregateNode { aggregate: Alike(aggregate), ..node.clone() };
            Some(self.tree.add(TreeNode::Aggregate(node), kind, &text))
        };
        let numerator = add(parts.numerator)?;
        let denominator = match parts.denominator {
            Some(aggregate) => add(aggregate)?,
            None => self.one(),
        };
        Some([numerator, denominator])
    }

    /// Of windows that give the very value of another cell, and of means on a walk.
    fn ratio_of_window(&mut self, window: &Window<Typed>, deep: usize) -> Option<[Typed; 2]> {
        let x = *window.args.first()?;
        let parts = match &window.calc {
            Calc::Walked(function) => function.parts(),
            Calc::Total => Parts::OfArgument,
            Calc::Compared(_) | Calc::Aggregate(_) => Parts::None,
        };
        match parts {
            Parts::Mean { sum, count } if matches!(x.kind, Kind::Number { .. }) => {
                let mut made = |calc: Calc, kind: Kind| {
                    let it = Window { calc, kind, ..window.clone() };
                    self.tree.add(TreeNode::Window(it), kind, &window.text)
                };
                Some([made(sum, x.kind), made(count, WHOLE)])
            }
            Parts::OfArgument => {
                let both = self.ratio(x, deep - 1)?;
                Some(both.map(|b| {
                    // What is the same everywhere is so at other cells, too.
                    if self.tree.level(b.id) == Level::Constant {
                        return b;
                    }
                    let it = Window { args: vec![b], kind: b.kind, ..window.clone() };
                    self.tree.add(TreeNode::Window(it), b.kind, &window.text)
                }))
            }
            _ => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use crate::Request;
    use crate::testing::{answer, rows};
    use rstest::rstest;

    #[rstest]
    #[case("mean(x)", Some("156.29/2"))]
    #[case("sum(x) / count()", Some("156.29/2.00"))]
    #[case("portion(x > 78.14)", Some("1/2"))]
    #[case("stdev(x)", None)]
    fn a_figure_to_be_read_has_the_parts_that_it_is_made_of(
        #[case] calc: &str,
        #[case] parts: Option<&str>,
    ) {
        let request = Request { for_reading: true, ..Request::of(&[], &[calc]) };
        let (grid, _) = answer(&rows("x:2\n78.14\n78.15\n"), &request).unwrap();
        let found = grid.quotient(0, 0).map(|(n, d)| format!("{n}/{d}"));
        assert_eq!(found.as_deref(), parts);
    }
}
