//! Aggregates: their arguments for rows, or for the groups of a finer scope.

use super::{
    AggregatePlan, Built, From, KeyPlan, LATE_INPUT, LatePlan, Level, Place, Resolved, Resolver,
    Scope, StatePlan, TABLE, heading_of,
};
use crate::aggregate::{Aggregate, ArgumentProblem};
use crate::error::{Mistake, Written};
use crate::language::ast::{Call as CallNode, ClauseWord, Expr};
use crate::language::functions::AggregateCall;
use crate::rows::program::{Op, Operand};
use crate::value::Kind;
use std::sync::Arc;

impl Resolver {
    /// Adds an aggregate over rows and gives the group program's input.
    pub(super) fn aggregate(
        &mut self,
        scope: usize,
        aggregate: Arc<dyn Aggregate>,
        args: Vec<Built>,
        condition: Option<Operand>,
        kind: Kind,
    ) -> Built {
        let it = &mut self.scopes[scope];
        let same = |s: &StatePlan| {
            s.aggregate.family() == aggregate.family() && s.args == args && s.condition == condition
        };
        let state = it.states.iter().position(same).unwrap_or_else(|| {
            it.states.push(StatePlan { aggregate: aggregate.clone(), args, condition });
            it.states.len() - 1
        });
        self.add_aggregate(scope, AggregatePlan { aggregate, from: From::Rows(state), kind })
    }

    pub(super) fn add_aggregate(&mut self, scope: usize, plan: AggregatePlan) -> Built {
        let it = &mut self.scopes[scope];
        let kind = plan.kind;
        it.aggregates.push(plan);
        Built { operand: Operand::Input(it.keys.len() + it.aggregates.len() - 1), kind }
    }

    /// A scope finer than another by the keys of `per`.
    pub(super) fn finer(
        &mut self,
        scope: usize,
        written: &Arc<Written>,
        exprs: &[Expr],
    ) -> Resolved<usize> {
        let mut keys = self.scopes[scope].keys.clone();
        let outer = keys.len();
        for expr in exprs {
            if self.level(written, expr)? >= Level::Group {
                return Err(Mistake::new(
                    written,
                    expr.span.clone(),
                    "rows cannot be grouped by a result",
                )
                .label("`per` takes columns and calculations on each row"));
            }
            let built = self.build(written, expr, Place::Row)?;
            keys.push(KeyPlan {
                heading: heading_of(written, expr),
                operand: built.operand,
                kind: built.kind,
            });
        }
        // The same groups serve several aggregates.
        let operands = |keys: &[KeyPlan]| keys.iter().map(|k| k.operand).collect::<Vec<_>>();
        let same = self.scopes.iter().position(|s| {
            s.outer == outer && operands(&s.keys) == operands(&keys) && !s.keys.is_empty()
        });
        if let Some(known) = same.filter(|&s| s != TABLE) {
            return Ok(known);
        }
        self.scopes.push(Scope { keys, outer, ..Scope::default() });
        Ok(self.scopes.len() - 1)
    }

    pub(super) fn aggregate_call(
        &mut self,
        written: &Arc<Written>,
        expr: &Expr,
        call: &CallNode,
        of: &'static AggregateCall,
        place: Place,
    ) -> Resolved<Built> {
        if place == Place::Late {
            let built = self.build(written, expr, Place::Group(TABLE))?;
            let known = self.late_inputs.iter().position(|b| *b == built);
            let at = known.unwrap_or_else(|| {
                self.late_inputs.push(built);
                self.late_inputs.len() - 1
            });
            return Ok(Built { operand: Operand::Input(LATE_INPUT + at), kind: built.kind });
        }
        let mistake = |message: String| Mistake::new(written, expr.span.clone(), message);
        match place {
            Place::Late | Place::Table => {}
            Place::Filter => {
                return Err(mistake("a condition on rows cannot use a result of groups".into())
                    .label("known only after the rows are grouped"));
            }
            Place::Row => {
                return Err(mistake(format!(
                    "`{}` stands where each row has a value of its own",
                    call.name
                ))
                .label("an aggregate inside an aggregate or a key")
                .help(format!(
                    "of the results of smaller groups: mean({} per route), max(count() per customer_id)",
                    &written.text[expr.span.clone()]
                )));
            }
            Place::Group(_) => {}
        }
        if place == Place::Table {
            return self.aggregate_of_cells(written, expr, call, of);
        }
        let Place::Group(scope) = place else { return Err(mistake(String::new())) };
        // Where the arguments are built: on each row, or for the groups of a finer scope.
        let per = call.clauses.iter().find(|c| c.word == ClauseWord::Per);
        let inner = match per {
            Some(clause) => Place::Group(self.finer(scope, written, &clause.args)?),
            None => Place::Row,
        };
        let guards = std::mem::take(&mut self.guards);
        let mut args = Vec::new();
        for arg in call.split_parameters(of.parameters).0 {
            args.push(self.build(written, arg, inner)?);
        }
        let aggregate = self.make(written, expr, call, of, inner, &mut args)?;
        let mut condition = None;
        let mut late = None;
        for clause in &call.clauses {
            match clause.word {
                ClauseWord::Method | ClauseWord::Per | ClauseWord::Within => {}
                ClauseWord::Where
                    if inner == Place::Row
                        && self.level(written, &clause.args[0])? >= Level::Group =>
                {
                    if scope != TABLE || self.in_late {
                        let span = clause.span.clone();
                        return Err(Mistake::new(
                            written,
                            span,
                            "a condition that holds a result cannot stand inside another, or inside `per`",
                        )
                        .label("known only after the rows of this group are counted"));
                    }
                    self.in_late = true;
                    let built = self.condition(written, &clause.args[0], Place::Late);
                    self.in_late = false;
                    late = Some(built?);
                }
                ClauseWord::Where => {
                    condition = Some(self.condition(written, &clause.args[0], inner)?);
                }
                _ => {
                    for along in &clause.args {
                        args.push(self.build(written, along, inner)?);
                    }
                    if clause.args.len() > 1 {
                        return Err(Mistake::new(
                            written,
                            clause.span.clone(),
                            "`along` takes one column here",
                        ));
                    }
                }
            }
        }
        self.guards = guards;
        let kinds: Vec<Kind> = args.iter().map(|a| a.kind).collect();
        let kind = aggregate
            .result(&kinds)
            .map_err(|p| self.argument_problem(written, expr, call, &kinds, p))?;
        if let Some(condition) = late {
            self.late_aggregates.push(LatePlan { aggregate: aggregate.clone(), args, condition });
            let from = From::Late(self.late_aggregates.len() - 1);
            return Ok(self.add_aggregate(scope, AggregatePlan { aggregate, from, kind }));
        }
        Ok(match inner {
            Place::Group(finer) => {
                let from = From::Groups { scope: finer, args, condition };
                self.add_aggregate(scope, AggregatePlan { aggregate, from, kind })
            }
            _ => self.aggregate(scope, aggregate, args, condition, kind),
        })
    }

    /// Makes an aggregate, with its arguments in the shape that it takes.
    pub(super) fn make(
        &mut self,
        written: &Arc<Written>,
        expr: &Expr,
        call: &CallNode,
        of: &AggregateCall,
        place: Place,
        args: &mut Vec<Built>,
    ) -> Resolved<Arc<dyn Aggregate>> {
        let (values, numbers) = call.split_parameters(of.parameters);
        for parameter in numbers {
            if parameter.constant_number().is_none() {
                let span = parameter.span.clone();
                return Err(Mistake::new(written, span, "expected a number here")
                    .label("a plain number, the same for all rows"));
            }
        }
        let aggregate = of.instance(call).map_err(|expected| {
            let place = call.args.get(values.len()).unwrap_or(expr);
            Mistake::new(written, place.span.clone(), format!("`{}` needs {expected}", call.name))
        })?;
        let kinds: Vec<Kind> = args.iter().map(|a| a.kind).collect();
        if let Err(ArgumentProblem::NotACondition(at)) = aggregate.result(&kinds) {
            args[at] = self.fitted(place, args[at], Kind::Boolean);
        }
        let text = &written.text[expr.span.clone()];
        if aggregate.family().starts_with("at_") && args[0].kind != Kind::Text {
            let op = Op::Scalar(crate::rows::scalar::Scalar::Text);
            args[0] = self.step(place, text, op, &[args[0]], Kind::Text);
        }
        if aggregate.family() == "two" && args.iter().any(|a| a.kind == Kind::Float) {
            // Both in binary64, where one of them is.
            *args = args.iter().map(|a| self.as_float(place, text, *a)).collect();
        }
        Ok(aggregate)
    }

    /// What is wrong with an argument of an aggregate.
    pub(super) fn argument_problem(
        &self,
        written: &Arc<Written>,
        expr: &Expr,
        call: &CallNode,
        kinds: &[Kind],
        problem: ArgumentProblem,
    ) -> Mistake {
        let at = match problem {
            ArgumentProblem::NotANumber(at) => at,
            ArgumentProblem::NotACondition(at) => {
                let arg = call.args.get(at).unwrap_or(expr);
                let message = format!("`{}` takes a condition", call.name);
                return Mistake::new(written, arg.span.clone(), message)
                    .label("such as status = 'cancelled'")
                    .of_kinds();
            }
        };
        let arg = call.args.get(at).unwrap_or(expr);
        let text = &written.text[arg.span.clone()];
        let found = kinds.get(at).map_or("nothing", |k| k.describe());
        let message = format!("`{}` takes numbers, and `{text}` is {found}", call.name);
        Mistake::new(written, arg.span.clone(), message)
            .label(format!("this is {found}"))
            .of_kinds()
            .help(format!(
                "how many different ones: count(distinct {text}); the rows that have one: count({text})"
            ))
            .help(self.type_help(text, "number"))
    }

    /// An aggregate of an aggregate where there are no cells to run over.
    pub(super) fn aggregate_in_aggregate(
        &self,
        written: &Arc<Written>,
        expr: &Expr,
        call: &CallNode,
    ) -> Mistake {
        let inner = call.args.first().unwrap_or(expr);
        let text = &written.text[inner.span.clone()];
        let message = format!("`{}` is given a result, and the table has one line", call.name);
        Mistake::new(written, inner.span.clone(), message)
            .label("an aggregate inside an aggregate")
            .help(format!(
                "of the results of smaller groups: {}({text} per route), max(count() per customer_id)",
                call.name
            ))
            .help("over the lines of the table: add --by")
    }
}
