//! What stands after `along` and `within`: keys of the table, longer periods of them, and in a listing
//! values of the rows.

use super::{Built, Level, Place, Reference, Resolved, Resolver};
use crate::error::{Mistake, Written, all_of};
use crate::language::ast::{Call as CallNode, ClauseWord, Expr, Node};
use crate::language::functions::{self, Call, RowCall};
use crate::rows::program::{Op, Operand};
use crate::value::Kind;
use crate::value::calendar::Unit;
use std::sync::Arc;

/// Whether every period of one unit lies in one period of another.
fn nests(fine: Unit, coarse: Unit) -> bool {
    use Unit::*;
    match (fine, coarse) {
        (a, b) if a == b => false,
        (Day, _) => true,
        (Month, Quarter | Half | Year | FiscalQuarter(_) | FiscalYear(_)) => true,
        (Quarter, Half | Year) | (Half, Year) => true,
        (Quarter, FiscalYear(m)) => m % 3 == 1,
        (FiscalQuarter(a), FiscalYear(b)) => a == b,
        _ => false,
    }
}

/// The period that a function of the language gives.
fn unit_of(name: &str) -> Option<Unit> {
    match functions::find(name).map(|f| &f.call) {
        Some(Call::Row(RowCall::Period(unit))) => Some(*unit),
        _ => None,
    }
}

impl Resolver {
    /// Whether one key is the longer period of another key of the same date.
    pub fn is_coarser(&self, coarse: usize, fine: usize) -> bool {
        let unit = |k: usize| match self.keys()[k].kind {
            Kind::Period(unit) => Some(unit),
            _ => None,
        };
        let date = |k: usize| self.period_of(self.keys()[k].operand).map(|p| p.1);
        unit(fine).zip(unit(coarse)).is_some_and(|(f, c)| nests(f, c))
            && date(coarse).is_some()
            && date(coarse) == date(fine)
    }

    /// The unit and the date of a step that makes a period.
    fn period_of(&self, operand: Operand) -> Option<(Unit, Operand)> {
        let Operand::Step(step) = operand else { return None };
        let step = &self.row.steps[step];
        match step.op {
            Op::ToPeriod(unit) => Some((unit, step.args[0])),
            _ => None,
        }
    }

    /// The date that a key is a period or a part of, or is itself.
    pub fn date_of_key(&self, key: usize) -> Option<Operand> {
        let it = &self.keys()[key];
        match (it.kind, it.operand) {
            (Kind::Date, operand) => Some(operand),
            (_, Operand::Step(i)) => match self.row.steps[i].op {
                Op::ToPeriod(_) | Op::ToPart(_) => Some(self.row.steps[i].args[0]),
                _ => None,
            },
            _ => None,
        }
    }

    /// What a calculation after `along` or `within` refers to.
    fn reference(
        &mut self,
        written: &Arc<Written>,
        expr: &Expr,
        walked: Option<usize>,
    ) -> Resolved<Reference> {
        if self.listing {
            return Ok(Reference::Value(self.build(written, expr, Place::Table)?));
        }
        let finer = |it: &Self, unit: Unit| {
            walked.is_some_and(
                |k| matches!(it.keys()[k].kind, Kind::Period(fine) if nests(fine, unit)),
            )
        };
        if let Node::Name { table: None, name } = &expr.node {
            if let Some(k) = self.key_called(written, expr, name)? {
                return Ok(Reference::Key(k));
            }
            if let (Some(unit), Some(key)) = (unit_of(name).filter(|&u| finer(self, u)), walked) {
                return Ok(Reference::Period { key, unit });
            }
        }
        if matches!(self.level(written, expr), Ok(Level::Row))
            && let Ok(key) = self.key_of(written, expr)
        {
            if let Some(Built { operand: Operand::Input(k), .. }) = key {
                return Ok(Reference::Key(k));
            }
            let built = self.probe(|it| {
                let built = it.build(written, expr, Place::Row)?;
                Ok(it.period_of(built.operand))
            })?;
            if let (Some((unit, date)), Some(key)) = (built, walked)
                && finer(self, unit)
                && self.period_of(self.keys()[key].operand).is_some_and(|w| w.1 == date)
            {
                return Ok(Reference::Period { key, unit });
            }
        }
        let keys: Vec<&str> = self.keys().iter().map(|k| k.heading.as_str()).collect();
        let message = "this is no key of the table";
        let it = Mistake::new(written, expr.span.clone(), message);
        Err(match keys.as_slice() {
            [] => it.label("the table has no keys: add --by or --columns-by"),
            _ => it.label(format!("the keys are {}", all_of(&keys))),
        })
    }

    /// The key that a calculation is, or that it names by its heading or its function.
    ///
    /// # Errors
    /// A mistake in it, or a name that stands for several keys.
    pub fn key_meant(&mut self, written: &Arc<Written>, expr: &Expr) -> Resolved<Option<usize>> {
        if let Node::Name { table: None, name } = &expr.node
            && !self.listing
            && !self.is_named(name)
            && !self.column_places.contains_key(name)
            && let Some(key) = self.key_called(written, expr, name)?
        {
            return Ok(Some(key));
        }
        Ok(match self.key_of(written, expr)?.map(|k| k.operand) {
            Some(Operand::Input(key)) => Some(key),
            _ => None,
        })
    }

    /// The key with a heading, or the only one that a function of that name makes.
    fn key_called(
        &self,
        written: &Arc<Written>,
        expr: &Expr,
        name: &str,
    ) -> Resolved<Option<usize>> {
        if let Some(k) = self.keys().iter().position(|k| k.heading == *name) {
            return Ok(Some(k));
        }
        let opening = format!("{name}(");
        let called: Vec<usize> = (0..self.keys().len())
            .filter(|&k| self.keys()[k].heading.starts_with(&opening))
            .collect();
        match called.as_slice() {
            [] => Ok(None),
            [one] => Ok(Some(*one)),
            _ => {
                let message = format!("`{name}` stands for several keys");
                Err(Mistake::new(written, expr.span.clone(), message)
                    .label("write the key as it stands in --by or --columns-by"))
            }
        }
    }

    /// The key of the table that a text names: as it stands in `--by` or `--columns-by`, or the function
    /// that makes it.
    ///
    /// # Errors
    /// When there is no such key.
    pub fn key_named(&mut self, written: &Arc<Written>) -> Resolved<usize> {
        let expr = crate::language::parser::parse(written)?;
        match self.reference(written, &expr, None)? {
            Reference::Key(key) => Ok(key),
            _ => Err(Mistake::new(written, expr.span, "this is no key of the table")),
        }
    }

    /// The key that is walked unless one is named: the period of the shortest unit, of several the
    /// innermost, else the innermost of --by.
    fn walked_by_default(&self) -> Option<usize> {
        let keys = self.keys();
        let length = |k: usize| match keys[k].kind {
            Kind::Period(unit) => Some(unit.length()),
            _ => None,
        };
        let shortest = (0..keys.len()).filter_map(length).min();
        let finest = (0..keys.len()).rev().find(|&k| shortest.is_some() && length(k) == shortest);
        finest.or(match self.by_keys {
            0 => keys.len().checked_sub(1),
            n => Some(n - 1),
        })
    }

    /// The cells of a window: what is walked and what must be shared.
    #[allow(clippy::type_complexity)]
    pub(super) fn over(
        &mut self,
        written: &Arc<Written>,
        call: &CallNode,
        walks: bool,
    ) -> Resolved<(Vec<Reference>, Option<Vec<Reference>>, Option<bool>)> {
        let clause = |word| call.clauses.iter().find(|c| c.word == word);
        let mut along = Vec::new();
        for expr in clause(ClauseWord::Along).map_or(&[][..], |c| &c.args) {
            along.push(self.reference(written, expr, None)?);
        }
        if along.is_empty() && walks && !self.listing {
            along.extend(self.walked_by_default().map(Reference::Key));
        }
        let walked = match along.as_slice() {
            [] => self.walked_by_default(),
            [.., Reference::Key(k)] => Some(*k),
            _ => None,
        };
        let within = match clause(ClauseWord::Within) {
            None => None,
            Some(c) => {
                let mut all = Vec::new();
                for expr in &c.args {
                    let reference = self.reference(written, expr, walked)?;
                    if along.contains(&reference) && !self.listing {
                        let message = "this key is walked, and so it cannot be shared";
                        return Err(Mistake::new(written, expr.span.clone(), message).label(
                            "it stands after `along`, or is walked unless another is named",
                        ));
                    }
                    all.push(reference);
                }
                Some(all)
            }
        };
        let descending = match (clause(ClauseWord::Asc), clause(ClauseWord::Desc)) {
            (Some(_), Some(desc)) => {
                return Err(Mistake::new(written, desc.span.clone(), "both `asc` and `desc`")
                    .label("one of the two"));
            }
            (asc, desc) => desc.map(|_| true).or(asc.map(|_| false)),
        };
        Ok((along, within, descending))
    }
}
