//! How a result reads: why its lines need not add up to their total, and whether it is a share of something.
//!
//! Both are found in the syntax of the calculation, each named calculation once however often it is used. The
//! note stands below a table beside a mark; what adds up has none, so that the mark is worth looking at.
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
//! use oeuvre_core::{Plan, Request, Totals, run};
//!
//! // route, fare: SKE 12.50; KEL 8.00; SKE 7.00; SKE (missing)
//! let request = Request { totals: Totals::Grand, ..Request::of(&["route"], &["mean(fare)", "sum(fare)"]) };
//! let plan = Plan::new(&request, rows.columns())?;
//! let (table, _) = run(&plan, &rows, 1)?;
//! assert_eq!(plan.results[0].note.as_deref(), Some("a mean of all rows, not a sum of the lines"));
//! assert_eq!(plan.results[1].note, None);
//! # let _ = table;
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

use crate::aggregate::Additivity;
use crate::error::SourceText;
use crate::language::ast::{Call as CallNode, ClauseWord, Expr, Node, Operator};
use crate::language::check::{Checker, Level, Named};
use crate::language::functions::{self, Call, Lines, Share};
use crate::stack;
use std::collections::HashMap;
use std::sync::Arc;

const OTHERWISE: &str = "worked out from all rows, not a sum of the lines";
/// Of a sum or difference of what adds up: 5 less a target that is missing is missing, and the 5 counts above.
const IN_PARTS: &str = "not always a sum of the lines: one that lacks a part is blank, and its other part is in the total";

/// What has been found out of named calculations, each once however often it is used.
#[derive(Default)]
pub(super) struct Notes {
    told: HashMap<String, Told>,
    shares: HashMap<String, bool>,
}

/// How the lines of a calculation relate to its total.
#[derive(Clone)]
struct Told {
    /// Why they need not add up to it.
    note: Option<String>,
    /// Whether it may be missing on a line.
    gaps: bool,
}

impl Notes {
    /// Why the lines of a result need not add up to its total; `None` where they do.
    pub(super) fn note(
        &mut self,
        checker: &mut Checker,
        written: &Arc<SourceText>,
        expr: &Expr,
    ) -> Option<String> {
        self.told(checker, written, expr).note
    }

    fn told(&mut self, checker: &mut Checker, written: &Arc<SourceText>, expr: &Expr) -> Told {
        match &expr.node {
            Node::Name { table: None, .. } => {
                let Some(named) = checker.named(expr) else {
                    return Told { note: None, gaps: true };
                };
                if let Some(known) = self.told.get(&named.name) {
                    return known.clone();
                }
                let Named { name, written, expr } = &*named;
                let told = stack::with_room(|| self.told(checker, written, expr));
                self.told.insert(name.clone(), told.clone());
                told
            }
            Node::Binary(Operator::Add | Operator::Subtract, a, b) => {
                let (a, b) = (self.told(checker, written, a), self.told(checker, written, b));
                let gaps = a.gaps || b.gaps;
                let in_parts = || gaps.then(|| IN_PARTS.to_owned());
                Told { note: a.note.or(b.note).or_else(in_parts), gaps }
            }
            Node::Negate(a) => self.told(checker, written, a),
            Node::Binary(Operator::Multiply, a, b) | Node::Binary(Operator::Divide, a, b)
                if matches!(b.node, Node::Number(_)) =>
            {
                self.told(checker, written, a)
            }
            Node::Binary(Operator::Multiply, a, b) if matches!(a.node, Node::Number(_)) => {
                self.told(checker, written, b)
            }
            Node::Binary(Operator::Divide, ..) => {
                let note = "a ratio of the figures on its own line, not a sum of the lines";
                Told { note: Some(note.into()), gaps: true }
            }
            Node::Call(call) => self.told_of_call(checker, written, expr, call),
            _ => Told { note: Some(OTHERWISE.into()), gaps: true },
        }
    }

    fn told_of_call(
        &mut self,
        checker: &mut Checker,
        written: &Arc<SourceText>,
        expr: &Expr,
        call: &CallNode,
    ) -> Told {
        let function = functions::find(&call.name).map(|f| &f.call);
        if checker.level_of(written, expr).is_ok_and(|l| l == Level::Table)
            && !matches!(function, Some(Call::Row(_)))
        {
            let lines = match function {
                Some(Call::Table(word)) => word.lines,
                _ => Lines::AcrossCells,
            };
            let note = match lines {
                Lines::Places => None,
                Lines::AsArgument => call.args.first().and_then(|a| self.note(checker, written, a)),
                Lines::OfTotals => {
                    Some("that of the totals themselves, not a sum of the lines".to_owned())
                }
                Lines::AcrossCells => {
                    Some("worked out across the cells, not a sum of the lines".to_owned())
                }
            };
            return Told { note, gaps: true };
        }
        let mut of_result =
            |c: &Expr| checker.level_of(written, c).is_ok_and(|l| l >= Level::Group);
        let condition = call.clauses.iter().find(|c| c.word == ClauseWord::Where);
        if condition.is_some_and(|c| c.args.iter().any(&mut of_result)) {
            let note = "worked out with a condition that means each line's own result";
            return Told { note: Some(note.into()), gaps: true };
        }
        if call.clauses.iter().any(|c| c.word == ClauseWord::Per) {
            let note = "worked out from the groups after `per`, not a sum of the lines";
            return Told { note: Some(note.into()), gaps: true };
        }
        let Some(Call::Aggregate(of)) = function else {
            return Told { note: Some(OTHERWISE.into()), gaps: true };
        };
        match of.instance(call).map_or(Additivity::Additive, |a| a.additivity()) {
            Additivity::Additive => Told { note: None, gaps: true },
            Additivity::Counted => Told { note: None, gaps: false },
            Additivity::Note(note) => {
                let what = call.args.first().map_or("value", |a| &written.text[a.span.clone()]);
                Told { note: Some(note.replace("{}", what)), gaps: true }
            }
        }
    }

    /// Whether a result reads as a share of something, and so in percent.
    pub(super) fn is_share(&mut self, checker: &Checker, expr: &Expr) -> bool {
        match &expr.node {
            Node::Name { .. } => {
                let Some(named) = checker.named(expr) else { return false };
                if let Some(known) = self.shares.get(&named.name) {
                    return *known;
                }
                let is = stack::with_room(|| self.is_share(checker, &named.expr));
                self.shares.insert(named.name.clone(), is);
                is
            }
            Node::Negate(a) => self.is_share(checker, a),
            Node::Binary(Operator::Add | Operator::Subtract, a, b) => {
                self.is_share(checker, a) && self.is_share(checker, b)
            }
            Node::Call(call) => match functions::find(&call.name).map(|f| f.share) {
                Some(Share::Always) => true,
                Some(Share::AsArgument) => {
                    call.args.first().is_some_and(|a| self.is_share(checker, a))
                }
                _ => false,
            },
            _ => false,
        }
    }
}
