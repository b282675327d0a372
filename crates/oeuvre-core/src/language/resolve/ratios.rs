//! Quotients as the two exact numbers that they were made of, so that they can be rounded from these.
//!
//! A binary64 is nearest to its quotient, but rounding it once more to a few digits can go wrong at a half:
//! 3/200 is 0.015, and its binary64 a little less. What is divided, a mean, a median or a share of exact numbers
//! is found here as a numerator and a denominator, as deep as quotients are multiplied or divided further;
//! `None` for what has no exact value.

use super::{AggregatePlan, Built, Place, Resolver, TABLE, TableInput};
use crate::language::resolve::{Calc, From, Taking, Window};
use crate::rows::program::{Op, Operand};
use crate::value::decimal::Decimal;
use crate::value::{Kind, Value};

/// How deeply quotients of quotients are followed.
const DEEPEST: usize = 6;

impl Resolver {
    /// A calculation as a numerator and a denominator, both exact; [`Value::Missing`] where one of them does
    /// not fit 38 digits.
    pub(crate) fn ratio_of(&mut self, place: Place, built: Built) -> Option<[Built; 2]> {
        self.ratio(place, built, DEEPEST)
    }

    fn ratio(&mut self, place: Place, built: Built, deep: usize) -> Option<[Built; 2]> {
        if let Kind::Number { .. } = built.kind {
            return Some([built, self.one(place)]);
        }
        if built.kind != Kind::Float || deep == 0 {
            return None;
        }
        let step = match built.operand {
            Operand::Input(i) => return self.ratio_of_input(place, i, deep),
            Operand::Step(i) => self.program(place).steps[i].clone(),
        };
        let arg = |i: usize| Built { operand: step.args[i], kind: step.arg_kinds[i] };
        match step.op {
            Op::ToFloat => self.ratio(place, arg(0), deep - 1),
            Op::Negate => {
                let [n, d] = self.ratio(place, arg(0), deep - 1)?;
                Some([self.step(place, &step.text, Op::Negate, &[n], n.kind), d])
            }
            Op::Divide if arg(0).kind != Kind::Float && arg(1).kind != Kind::Float => {
                Some([arg(0), arg(1)])
            }
            Op::Divide => {
                let [a, b] = self.ratio(place, arg(0), deep - 1)?;
                let [c, d] = self.ratio(place, arg(1), deep - 1)?;
                Some([self.product(place, a, d)?, self.product(place, b, c)?])
            }
            Op::Multiply => {
                let [a, b] = self.ratio(place, arg(0), deep - 1)?;
                let [c, d] = self.ratio(place, arg(1), deep - 1)?;
                Some([self.product(place, a, c)?, self.product(place, b, d)?])
            }
            _ => None,
        }
    }

    fn one(&mut self, place: Place) -> Built {
        let one = Value::Number(Decimal::new(1, 0));
        self.constant(place, "1", one, Kind::Number { scale: 0 })
    }

    /// A product that is missing where it does not fit.
    fn product(&mut self, place: Place, a: Built, b: Built) -> Option<Built> {
        let (Kind::Number { scale: x }, Kind::Number { scale: y }) = (a.kind, b.kind) else {
            return None;
        };
        let one = |it: &Self, x: Built| match x.operand {
            Operand::Step(i) => matches!(
                &it.program_of(place).steps[i].op,
                Op::Constant(Value::Number(n)) if *n == Decimal::new(1, 0)
            ),
            Operand::Input(_) => false,
        };
        if one(self, a) {
            return Some(b);
        }
        if one(self, b) {
            return Some(a);
        }
        let scale = x.checked_add(y).filter(|s| *s <= crate::value::decimal::MAX_DIGITS)?;
        Some(self.step(place, "", Op::MultiplyIfFits, &[a, b], Kind::Number { scale }))
    }

    fn ratio_of_input(&mut self, place: Place, input: usize, deep: usize) -> Option<[Built; 2]> {
        match place {
            Place::Group(scope) => self.ratio_of_aggregate(scope, input),
            Place::Table => match self.table_inputs.get(input)?.clone() {
                TableInput::Group(group) => {
                    let both = self.ratio(Place::Group(TABLE), group, deep - 1)?;
                    Some(both.map(|b| self.table_input(TableInput::Group(b))))
                }
                TableInput::Row(row) => {
                    let both = self.ratio(Place::Row, row, deep - 1)?;
                    Some(both.map(|b| self.table_input(TableInput::Row(b))))
                }
                TableInput::Window(window) => self.ratio_of_window(&window, deep),
            },
            _ => None,
        }
    }

    fn ratio_of_aggregate(&mut self, scope: usize, input: usize) -> Option<[Built; 2]> {
        let it = &self.scopes[scope];
        let plan = it.aggregates.get(input.checked_sub(it.keys.len())?)?;
        let args = match &plan.from {
            From::Rows(state) => &it.states[*state].args,
            From::Late(i) => &self.late_aggregates[*i].args,
            From::Groups { args, .. } => args,
        };
        let kinds: Vec<Kind> = args.iter().map(|a| a.kind).collect();
        let parts = plan.aggregate.ratio(&kinds)?;
        let from = plan.from.clone();
        let mut add = |aggregate: std::sync::Arc<dyn crate::aggregate::Aggregate>| {
            let kind = aggregate.result(&kinds).ok()?;
            Some(self.add_aggregate(scope, AggregatePlan { aggregate, from: from.clone(), kind }))
        };
        let numerator = add(parts.numerator)?;
        let denominator = match parts.denominator {
            Some(aggregate) => add(aggregate)?,
            None => self.one(Place::Group(scope)),
        };
        Some([numerator, denominator])
    }

    /// Of windows that give the very value of another cell, and of means on a walk.
    fn ratio_of_window(&mut self, window: &Window, deep: usize) -> Option<[Built; 2]> {
        let x = *window.args.first()?;
        let mut made = |calc: Calc, x: Built, kind: Kind| {
            self.window(Window { calc, args: vec![x], kind, ..window.clone() })
        };
        match &window.calc {
            Calc::Running(Taking::Mean) if matches!(x.kind, Kind::Number { .. }) => Some([
                made(Calc::Running(Taking::Sum), x, x.kind),
                made(Calc::Running(Taking::Count), x, Kind::Number { scale: 0 }),
            ]),
            Calc::Moving { steps, taking: Taking::Mean, at_least }
                if matches!(x.kind, Kind::Number { .. }) =>
            {
                let calc = |taking| Calc::Moving { steps: *steps, taking, at_least: *at_least };
                Some([
                    made(calc(Taking::Sum), x, x.kind),
                    made(calc(Taking::Count), x, Kind::Number { scale: 0 }),
                ])
            }
            Calc::Total(group) => {
                let both = self.ratio(Place::Group(TABLE), *group, deep - 1)?;
                Some(both.map(|b| {
                    let x = self.table_input(TableInput::Group(b));
                    let it = Window {
                        calc: Calc::Total(b),
                        args: vec![x],
                        kind: b.kind,
                        ..window.clone()
                    };
                    self.window(it)
                }))
            }
            Calc::Step(_) => {
                let both = self.ratio(Place::Table, x, deep - 1)?;
                Some(
                    both.map(|b| {
                        self.window(Window { args: vec![b], kind: b.kind, ..window.clone() })
                    }),
                )
            }
            _ => None,
        }
    }
}
