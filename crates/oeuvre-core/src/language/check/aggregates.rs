//! Aggregates: their arguments on rows, or for the smaller groups that `per` makes.
//!
//! What an aggregate takes and gives is asked of the aggregate; that a condition holds a result of the group, and
//! so needs a second pass over the rows, is found here.

use super::{AggregateNode, At, CELLS, Checked, Checker, Context, Level, TABLE, TreeNode, Typed};
use crate::aggregate::{Additivity, Aggregate, AggregateRef, ArgumentProblem, Shape};
use crate::error::Diagnostic;
use crate::language::ast::{Call as CallNode, Clause, ClauseWord, Expr, Node, Operator};
use crate::language::functions::AggregateCall;
use crate::rows::program::Op;
use crate::rows::scalar::Scalar;
use crate::same::Alike;
use oeuvre_columns::value::Kind;
use oeuvre_columns::{Note, Topic};

impl Checker {
    /// The groups that are finer than some others by the keys of `per`.
    fn finer(&mut self, at: At<'_>, around: usize, exprs: &[Expr]) -> Checked<(usize, Vec<Typed>)> {
        let mut keys = Vec::new();
        for expr in exprs {
            let at = at.on(expr).at(Context::Row);
            if self.level(at)? >= Level::Group {
                return Err(at
                    .mistake("rows cannot be grouped by a result")
                    .label("`per` takes columns and calculations on each row"));
            }
            keys.push(self.check(at)?);
        }
        let mut nodes = self.groupings[around].clone();
        nodes.extend(keys.iter().map(|k| k.id));
        let known = self.groupings.iter().skip(1).position(|g| *g == nodes).map(|i| i + 1);
        let finer = known.unwrap_or_else(|| {
            self.groupings.push(nodes);
            self.groupings.len() - 1
        });
        Ok((finer, keys))
    }

    /// A call of an aggregate, in whatever context it stands.
    pub(super) fn aggregate_call(
        &mut self,
        at: At<'_>,
        call: &CallNode,
        of: &'static AggregateCall,
    ) -> Checked<Typed> {
        match at.context {
            Context::SecondPass => {
                self.check(at.at(Context::Groups { of: TABLE, second_pass: true }))
            }
            Context::Filter => {
                Err(at
                    .mistake("a condition on rows cannot use a result of groups")
                    .label("known only after the rows are grouped")
                    .help(at.as_lines_where()))
            }
            Context::Row => {
                Err(at
                    .mistake(format!(
                        "`{}` stands where each row has a value of its own",
                        call.name
                    ))
                    .label("an aggregate inside an aggregate or a key")
                    .help(format!(
                        "of the results of smaller groups: mean({} per route), max(count() per customer_id)",
                        at.text()
                    )))
            }
            Context::Groups { .. } if at.context == CELLS && self.level(at)? == Level::Table => {
                self.aggregate_of_cells(at, call, of)
            }
            Context::Groups { .. } => self.aggregate_of_rows(at, call, of, at.text()),
        }
    }

    /// An aggregate over the rows of groups, `text` in words.
    pub(super) fn aggregate_of_rows(
        &mut self,
        at: At<'_>,
        call: &CallNode,
        of: &'static AggregateCall,
        text: &str,
    ) -> Checked<Typed> {
        let Context::Groups { of: groups, second_pass } = at.context else {
            unreachable!("rows are grouped before they are aggregated");
        };
        // Where the arguments are checked: on each row, or for finer groups.
        let per = call.clauses.iter().find(|c| c.word == ClauseWord::Per);
        let (inner, per) = match per {
            Some(clause) => {
                let (finer, keys) = self.finer(at, groups, &clause.args)?;
                (Context::Groups { of: finer, second_pass }, keys)
            }
            None => (Context::Row, Vec::new()),
        };
        let inside = at.at(inner);
        let mut args = Vec::new();
        for arg in call.split_parameters(of.parameters).0 {
            args.push(self.check(inside.on(arg))?);
        }
        self.ensure_no_condition(at, call, of, &args)?;
        let aggregate = self.make(at, call, of, &mut args)?;
        let (mut condition, mut second_pass_condition) = (None, None);
        for clause in &call.clauses {
            match clause.word {
                ClauseWord::Method | ClauseWord::Per | ClauseWord::Within => {}
                ClauseWord::Where
                    if inner == Context::Row
                        && self.level(inside.on(&clause.args[0]))? >= Level::Group =>
                {
                    second_pass_condition =
                        Some(self.second_pass_condition(at, clause, groups, second_pass)?);
                }
                ClauseWord::Where => {
                    condition = Some(self.condition(inside.on(&clause.args[0]))?);
                }
                _ => {
                    for along in &clause.args {
                        args.push(self.check(inside.on(along))?);
                    }
                    if clause.args.len() > 1 {
                        return Err(Diagnostic::new(
                            at.written,
                            clause.span.clone(),
                            "`along` takes one column here",
                        ));
                    }
                }
            }
        }
        let kind = self.result_kind(at, call, &*aggregate, &args)?;
        let node =
            AggregateNode { aggregate, args, condition, second_pass: second_pass_condition, per };
        Ok(self.tree.add(TreeNode::Aggregate(node), kind, text))
    }

    /// A mistake where a condition is counted or added up: the rows that meet it may be meant.
    fn ensure_no_condition(
        &self,
        at: At<'_>,
        call: &CallNode,
        of: &AggregateCall,
        args: &[Typed],
    ) -> Checked<()> {
        let [arg] = call.args.as_slice() else { return Ok(()) };
        let is_condition = matches!(
            arg.node,
            Node::Binary(Operator::And | Operator::Or | Operator::Compare(_), ..)
                | Node::Not(_)
                | Node::In { .. }
                | Node::Between { .. }
                | Node::IsMissing { .. }
                | Node::During { .. }
        );
        let is_truth = args.first().is_some_and(|a| a.kind == Kind::Boolean);
        if !is_condition || !is_truth || call.distinct.is_some() {
            return Ok(());
        }
        // What takes any value, such as the most frequent one, takes a truth; what counts does not count it.
        let takes_truths = of.instance(call).is_ok_and(|a| {
            a.result(&[Kind::Boolean]).is_ok() && a.additivity() != Additivity::Counted
        });
        if takes_truths {
            return Ok(());
        }
        let text = at.on(arg).text();
        Err(at
            .on(arg)
            .mistake(format!("`{}` of a condition", call.name))
            .label("true or false on each row")
            .help(format!("how many rows meet it: count(where {text})"))
            .help(format!("the share of rows that meet it: portion({text})"))
            .help(format!("a sum over those rows: sum(x where {text})")))
    }

    /// A condition that holds a result of the group.
    fn second_pass_condition(
        &mut self,
        at: At<'_>,
        clause: &Clause,
        groups: usize,
        second_pass: bool,
    ) -> Checked<Typed> {
        if groups != TABLE || second_pass {
            return Err(Diagnostic::new(
                at.written,
                clause.span.clone(),
                "a condition that holds a result cannot stand inside another, or inside `per`",
            )
            .label("known only after the rows of this group are counted"));
        }
        self.condition(at.on(&clause.args[0]).at(Context::SecondPass))
    }

    /// The kind of an aggregate's result.
    pub(super) fn result_kind(
        &self,
        at: At<'_>,
        call: &CallNode,
        aggregate: &dyn Aggregate,
        args: &[Typed],
    ) -> Checked<Kind> {
        let kinds = Self::kinds(args);
        aggregate.result(&kinds).map_err(|p| self.argument_problem(at, call, &kinds, p))
    }

    /// Makes an aggregate, with its arguments in the shape that it takes.
    pub(super) fn make(
        &mut self,
        at: At<'_>,
        call: &CallNode,
        of: &AggregateCall,
        args: &mut [Typed],
    ) -> Checked<AggregateRef> {
        let (values, numbers) = call.split_parameters(of.parameters);
        for parameter in numbers {
            if parameter.constant_number().is_none() {
                return Err(at
                    .on(parameter)
                    .mistake("expected a number here")
                    .label("a plain number, the same for all rows"));
            }
        }
        let aggregate = of.instance(call).map(Alike).map_err(|expected| {
            let place = call.args.get(values.len()).unwrap_or(at.expr);
            at.on(place).mistake(format!("`{}` needs {expected}", call.name))
        })?;
        if let Err(ArgumentProblem::NotACondition(i)) = aggregate.result(&Self::kinds(args)) {
            args[i] = self.fitted(args[i], Kind::Boolean);
        }
        if let Some(question) = aggregate.question() {
            let text = format!("{} {question}", at.text());
            self.notes.push(Note::new(Topic::Request, text));
        }
        match aggregate.shape() {
            Shape::AsGiven => {}
            Shape::LabelFirst if args[0].kind == Kind::Text => {}
            Shape::LabelFirst => {
                let op = Op::Scalar(Scalar::Text);
                args[0] = self.tree.apply(at.text(), op, &[args[0]], Kind::Text);
            }
            Shape::SameNumbers => {
                // All in binary64, where one of them is.
                if args.iter().any(|a| a.kind == Kind::Float) {
                    for arg in args.iter_mut() {
                        *arg = self.as_float(at.text(), *arg);
                    }
                }
            }
        }
        Ok(aggregate)
    }

    /// What is wrong with an argument of an aggregate.
    fn argument_problem(
        &self,
        at: At<'_>,
        call: &CallNode,
        kinds: &[Kind],
        problem: ArgumentProblem,
    ) -> Diagnostic {
        let place = match problem {
            ArgumentProblem::NotANumber(place) => place,
            ArgumentProblem::NotACondition(place) => {
                let arg = call.args.get(place).unwrap_or(at.expr);
                return at
                    .on(arg)
                    .mistake(format!("`{}` takes a condition", call.name))
                    .label("such as status = 'cancelled'")
                    .of_kinds();
            }
        };
        let arg = at.on(call.args.get(place).unwrap_or(at.expr));
        let text = arg.text();
        let found = kinds.get(place).map_or("nothing", |k| k.describe());
        arg.mistake(format!("`{}` takes numbers, and `{text}` is {found}", call.name))
            .label(format!("this is {found}"))
            .of_kinds()
            .help(format!(
                "how many different ones: count(distinct {text}); the rows that have one: count({text})"
            ))
            .help(self.type_help(text, "number"))
    }

    /// An aggregate of an aggregate where there are no cells to run over.
    pub(super) fn aggregate_in_aggregate(&self, at: At<'_>, call: &CallNode) -> Diagnostic {
        let inner = at.on(call.args.first().unwrap_or(at.expr));
        inner
            .mistake(format!("`{}` is given a result, and the table has one line", call.name))
            .label("an aggregate inside an aggregate")
            .help(format!(
                "of the results of smaller groups: {}({} per route), max(count() per customer_id)",
                call.name,
                inner.text()
            ))
            .help("over the lines of the table: add --by")
    }
}

#[cfg(test)]
mod tests {
    use crate::testing::{kind as kind_of, refusal, rows, table};
    use crate::{Plan, Request};
    use oeuvre_columns::Kind;
    use rstest::rstest;

    const ROWS: &str = "k x:2 n:0 f:float t d:date p:bool\n";

    #[rstest]
    #[case("sum(x)", Kind::Number { scale: 2 })]
    #[case("sum(f)", Kind::Float)]
    #[case("mean(n)", Kind::Float)]
    #[case("count(t)", Kind::Number { scale: 0 })]
    #[case("max(d)", Kind::Date)]
    #[case("range(d)", Kind::Number { scale: 0 })]
    #[case("mode(p)", Kind::Boolean)]
    #[case("list(d)", Kind::Text)]
    #[case("at_max(d, x)", Kind::Text)]
    #[case("median(sum(x) per k)", Kind::Float)]
    #[case("largest(x, 2)", Kind::Number { scale: 2 })]
    #[case("sum(distinct x)", Kind::Number { scale: 2 })]
    fn an_aggregate_gives_values_of_a_kind(#[case] calc: &str, #[case] kind: Kind) {
        assert_eq!(kind_of(ROWS, &Request::of(&[], &[calc])), kind, "{calc}");
    }

    #[rstest]
    #[case("sum(d)", "`sum` takes numbers, and `d` is a date")]
    #[case("portion(x)", "`portion` takes a condition [such as status = 'cancelled']")]
    #[case("percentile(x, n)", "expected a number here [a plain number, the same for all rows]")]
    #[case("percentile(x, 101)", "`percentile` needs a number from 0 to 100")]
    #[case("percentile(x, 50 method middle)", "`inclusive`, `exclusive` or `nearest`")]
    #[case("quartile(x, 5)", "`quartile` needs")]
    #[case("largest(x, 0)", "`largest` needs a whole number from 1 on")]
    #[case("first(x along d, t)", "`along` takes one column here")]
    #[case("sum(count(where sum(x) > mean(x)) per k)", "cannot stand inside another")]
    #[case("count(where x)", "expected a condition, found a number")]
    #[case("weighted_mean(x, t)", "`weighted_mean` takes numbers, and `t` is text")]
    fn an_argument_that_does_not_fit_is_said(#[case] calc: &str, #[case] said: &str) {
        let told = refusal(&rows(ROWS), &Request::of(&[], &[calc]));
        assert!(told.contains(said), "{calc}: {told}");
    }
    #[test]
    fn each_per_makes_groups_of_its_own_and_the_same_ones_once() {
        let rows = rows("k t x:0\na|p|1\na|q|2\nb|p|4\nb|p|8\n");
        let show = [
            "max(sum(x) per k)",
            "max(sum(x) per t)",
            "count(sum(x) per k)",
            "max(sum(x) per k, t)",
        ];
        assert_eq!(table(&rows, &[], &show), "12 13 2 12");
        let request = Request::of(&[], &show);
        let plan = Plan::new(&request, oeuvre_columns::Source::columns(&rows)).unwrap();
        assert_eq!(plan.programs.groupings.len(), 4); // the table's, and three finer ones
    }
}
