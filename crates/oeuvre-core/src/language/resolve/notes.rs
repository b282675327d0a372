//! Why the lines of a result need not add up to its total.

use super::{OTHERWISE, RED_ZONE, Resolver, STACK_PIECE};
use crate::aggregate::Additivity;
use crate::error::Written;
use crate::language::ast::{Clause, ClauseWord, Expr, Node, Operator};
use crate::language::functions::{self, Call, Word};
use std::sync::Arc;

impl Resolver {
    /// Why the lines of a result need not add up to its total; `None` where they do.
    pub(super) fn note(&self, written: &Arc<Written>, expr: &Expr) -> Option<String> {
        match &expr.node {
            Node::Name { table: None, name } => {
                let named = self.lets.get(name)?;
                if let Some(known) = self.remembered().notes.get(name) {
                    return known.clone();
                }
                let note = stacker::maybe_grow(RED_ZONE, STACK_PIECE, || {
                    self.note(&named.written, &named.expr)
                });
                self.remembered().notes.insert(name.clone(), note.clone());
                note
            }
            Node::Binary(Operator::Add | Operator::Subtract, a, b) => {
                self.note(written, a).or_else(|| self.note(written, b))
            }
            Node::Negate(a) => self.note(written, a),
            Node::Binary(Operator::Multiply, a, b) | Node::Binary(Operator::Divide, a, b)
                if matches!(b.node, Node::Number(_)) =>
            {
                self.note(written, a)
            }
            Node::Binary(Operator::Multiply, a, b) if matches!(a.node, Node::Number(_)) => {
                self.note(written, b)
            }
            Node::Binary(Operator::Divide, ..) => {
                Some("a ratio of the figures on its own line, not a sum of the lines".into())
            }
            Node::Call(call) if self.looks_at_cells(expr) => {
                match functions::find(&call.name).map(|f| &f.call) {
                    // A place is no amount, and nobody adds places up.
                    Some(Call::Table(Word::Rank | Word::Tile)) => None,
                    // Shares of what adds up add up themselves.
                    Some(Call::Table(Word::Share)) => {
                        call.args.first().and_then(|a| self.note(written, a))
                    }
                    Some(Call::Table(word)) if word.walks() => {
                        Some("that of the totals themselves, not a sum of the lines".into())
                    }
                    _ => Some("worked out across the cells, not a sum of the lines".into()),
                }
            }
            Node::Call(call) if call.clauses.iter().any(|c| self.holds_result(c)) => {
                Some("worked out with a condition that means each line's own result".into())
            }
            Node::Call(call) if call.clauses.iter().any(|c| c.word == ClauseWord::Per) => {
                Some("worked out from the groups after `per`, not a sum of the lines".into())
            }
            Node::Call(call) => match functions::find(&call.name).map(|f| &f.call) {
                Some(Call::Aggregate(of)) => match of
                    .instance(call)
                    .map_or(Additivity::Additive, |a| a.additivity())
                {
                    Additivity::Additive => None,
                    Additivity::Note(note) => {
                        let what =
                            call.args.first().map_or("value", |a| &written.text[a.span.clone()]);
                        Some(note.replace("{}", what))
                    }
                },
                _ => Some(OTHERWISE.into()),
            },
            _ => Some(OTHERWISE.into()),
        }
    }

    /// Whether a call is worked out across the cells of the table.
    fn looks_at_cells(&self, expr: &Expr) -> bool {
        let Node::Call(call) = &expr.node else { return false };
        match functions::find(&call.name).map(|f| &f.call) {
            Some(Call::Table(_)) => true,
            Some(Call::Aggregate(_)) => {
                let clause = |word| call.clauses.iter().any(|c| c.word == word);
                let in_condition = Clause {
                    word: ClauseWord::Where,
                    args: call.args.clone(),
                    span: expr.span.clone(),
                };
                !clause(ClauseWord::Per)
                    && (clause(ClauseWord::Within) || self.holds_result(&in_condition))
            }
            _ => false,
        }
    }

    /// Whether a condition inside an aggregate holds a result of the group.
    pub(super) fn holds_result(&self, clause: &Clause) -> bool {
        fn holds(it: &Resolver, e: &Expr) -> bool {
            match &e.node {
                Node::Name { table: None, name } => {
                    let Some(named) = it.lets.get(name) else { return false };
                    if let Some(known) = it.remembered().holds.get(name) {
                        return *known;
                    }
                    let is = stacker::maybe_grow(RED_ZONE, STACK_PIECE, || holds(it, &named.expr));
                    it.remembered().holds.insert(name.clone(), is);
                    is
                }
                Node::Negate(a) | Node::Not(a) | Node::IsMissing { value: a, .. } => holds(it, a),
                Node::Binary(_, a, b) | Node::During { value: a, period: b } => {
                    holds(it, a) || holds(it, b)
                }
                Node::Between { value, low, high, .. } => {
                    holds(it, value) || holds(it, low) || holds(it, high)
                }
                Node::In { value, list, .. } => {
                    holds(it, value) || list.iter().any(|e| holds(it, e))
                }
                Node::Call(call) => {
                    let function = functions::find(&call.name).map(|f| &f.call);
                    matches!(function, Some(Call::Aggregate(_) | Call::Table(_)))
                        || call.args.iter().any(|e| holds(it, e))
                }
                _ => false,
            }
        }
        clause.word == ClauseWord::Where && clause.args.iter().any(|e| holds(self, e))
    }
}
