//! The words that look at other cells: which cells they walk, compare or add up.
//!
//! Such a calculation is built into the *table program*, which runs over the cells of one level of the
//! table (or over the rows of a listing). Its inputs are results of groups (or values of rows), and
//! windows: columns that are worked out across cells from earlier columns of the same program. Their
//! order is that in which they were built, and so a window may take what an earlier one gives.

use super::{Built, Level, Place, Resolved, Resolver, TABLE, constant_number, given};
use crate::aggregate::sums::Sum;
use crate::aggregate::{Aggregate, ArgumentProblem};
use crate::error::{Mistake, Written, all_of, either};
use crate::language::ast::{Call as CallNode, Clause, ClauseWord, Expr, Node};
use crate::language::functions::{self, Call, Given, RowCall, Word};
use crate::rows::program::{Op, Operand};
use crate::value::Kind;
use crate::value::calendar::Unit;
use std::sync::Arc;

/// A column that the table program is given.
#[derive(Clone)]
pub enum TableInput {
    /// A result of the groups, in the group program of the table.
    Group(Built),
    /// A value of each row, in the row program.
    Row(Built),
    /// Worked out across the cells.
    Window(Window),
}

/// A calculation across cells.
#[derive(Clone)]
pub struct Window {
    /// What is worked out.
    pub calc: Calc,
    /// What it takes, in the table program.
    pub args: Vec<Built>,
    /// Which cells count, in the table program.
    pub condition: Option<Operand>,
    /// What is walked; in a summary keys, in a listing values of the rows. Empty for the default of
    /// words that compare (the siblings), and in a listing for the order of the file.
    pub along: Vec<Reference>,
    /// What must be shared; `None` where nothing was said.
    pub within: Option<Vec<Reference>>,
    /// `desc` (true) or `asc`.
    pub descending: Option<bool>,
    /// What it gives.
    pub kind: Kind,
    /// The calculation as written.
    pub text: Arc<str>,
    /// What it takes, as written.
    pub of: Arc<str>,
    /// How many steps of the table program must have run before it.
    pub steps_before: usize,
}

/// What a window works out.
#[derive(Clone)]
pub enum Calc {
    /// The place among the cells compared.
    Rank(Ties),
    /// The bucket, of so many.
    Tile(u32),
    /// The value so many steps back; ahead where negative.
    Step(i64),
    /// From the start of the walk to here.
    Running(Using),
    /// Over the last so many steps.
    Moving {
        /// How many, this one included.
        steps: u32,
        /// What is made of them.
        using: Using,
        /// Also where there are fewer.
        partial: bool,
    },
    /// The value at the end of the walk, or at its start.
    End {
        /// The end.
        last: bool,
    },
    /// The same result of the groups, at the keys of `within` alone.
    Total(Built),
    /// An aggregate over the cells.
    Aggregate(Arc<dyn Aggregate>),
}

/// What is made of several values on a walk.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Using {
    /// Their sum.
    Sum,
    /// Their mean.
    Mean,
    /// The smallest.
    Min,
    /// The largest.
    Max,
    /// How many there are.
    Count,
}

impl Using {
    /// All of them with their names.
    pub const ALL: [(&'static str, Using); 5] = [
        ("sum", Using::Sum),
        ("mean", Using::Mean),
        ("min", Using::Min),
        ("max", Using::Max),
        ("count", Using::Count),
    ];
}

/// What equal values do in a rank.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Ties {
    /// They share a place, and as many places are left out after it: 1 2 2 4.
    Skip,
    /// They share a place: 1 2 2 3.
    Dense,
    /// They have places of their own, in the order of the cells: 1 2 3 4.
    Unique,
    /// They share the mean of their places: 1 2.5 2.5 4.
    Mean,
}

impl Ties {
    /// All of them with their names.
    pub const ALL: [(&'static str, Ties); 4] = [
        ("skip", Ties::Skip),
        ("dense", Ties::Dense),
        ("unique", Ties::Unique),
        ("mean", Ties::Mean),
    ];
}

/// What is walked or shared.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Reference {
    /// A key of the table.
    Key(usize),
    /// The longer period that the period of a key lies in.
    Period {
        /// The key.
        key: usize,
        /// The unit of the longer period.
        unit: Unit,
    },
    /// A value in the table program.
    Value(Built),
}

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

/// The word after a clause that takes one.
fn word_of(clause: &Clause) -> &str {
    match clause.args.first().map(|a| &a.node) {
        Some(Node::Name { name, .. }) => name,
        Some(Node::Text(text)) => text,
        Some(Node::Call(call)) => &call.name,
        _ => "",
    }
}

/// The value that a clause's word stands for.
fn choice<T: Copy>(
    written: &Arc<Written>,
    call: &CallNode,
    word: ClauseWord,
    all: &[(&'static str, T)],
) -> Resolved<Option<T>> {
    let Some(clause) = call.clauses.iter().find(|c| c.word == word) else { return Ok(None) };
    let found = word_of(clause);
    let known = all.iter().find(|(name, _)| name.eq_ignore_ascii_case(found));
    known.map(|(_, it)| Some(*it)).ok_or_else(|| {
        let names: Vec<&str> = all.iter().map(|a| a.0).collect();
        let message = format!("`{}` takes {}", word.text(), either(&names));
        Mistake::new(written, clause.span.clone(), message).label(format!("`{found}` is none"))
    })
}

impl Resolver {
    /// Adds an input of the table program, or finds the same one.
    fn table_input(&mut self, input: TableInput) -> Built {
        let (built, same) = match &input {
            TableInput::Group(b) | TableInput::Row(b) => (
                *b,
                self.table_inputs.iter().position(|i| {
                    matches!(i, TableInput::Group(known) | TableInput::Row(known) if known == b)
                }),
            ),
            TableInput::Window(w) => {
                (Built { operand: Operand::Input(0), kind: w.kind }, None)
            }
        };
        let at = same.unwrap_or_else(|| {
            self.table_inputs.push(input);
            self.table_inputs.len() - 1
        });
        Built { operand: Operand::Input(at), kind: built.kind }
    }

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

    /// What a calculation at the level of groups or rows is to the table program; `None` for what is
    /// built there.
    pub(super) fn enter_table(
        &mut self,
        written: &Arc<Written>,
        expr: &Expr,
    ) -> Resolved<Option<Built>> {
        if let Some(key) = self.key_in(TABLE, written, expr)? {
            return Ok(Some(self.table_input(TableInput::Group(key))));
        }
        let level = self.level(written, expr)?;
        if self.listing && level == Level::Row {
            let built = self.build(written, expr, Place::Row)?;
            return Ok(Some(self.table_input(TableInput::Row(built))));
        }
        if level == Level::Group {
            let built = self.build(written, expr, Place::Group(TABLE))?;
            return Ok(Some(self.table_input(TableInput::Group(built))));
        }
        Ok(None)
    }

    /// A value of each cell. In a summary a number of each row means its sum.
    pub(super) fn cell_value(&mut self, written: &Arc<Written>, expr: &Expr) -> Resolved<Built> {
        if let Some(group) = self.group_sum(written, expr)? {
            return Ok(self.table_input(TableInput::Group(group)));
        }
        self.build(written, expr, Place::Table)
    }

    /// The sum of a number of each row; `None` for anything else.
    fn group_sum(&mut self, written: &Arc<Written>, expr: &Expr) -> Resolved<Option<Built>> {
        if self.listing
            || self.level(written, expr)? != Level::Row
            || self.key_of(written, expr)?.is_some()
        {
            return Ok(None);
        }
        let built = self.build(written, expr, Place::Row)?;
        if !built.kind.is_number() {
            return Err(self.row_value_outside(written, expr, built.kind));
        }
        Ok(Some(self.aggregate(TABLE, Arc::new(Sum), vec![built], None, built.kind)))
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
            if let Some(k) = self.keys().iter().position(|k| k.heading == *name) {
                return Ok(Reference::Key(k));
            }
            let opening = format!("{name}(");
            let called: Vec<usize> = (0..self.keys().len())
                .filter(|&k| self.keys()[k].heading.starts_with(&opening))
                .collect();
            match called.as_slice() {
                [] => {}
                [one] => return Ok(Reference::Key(*one)),
                _ => {
                    let message = format!("`{name}` stands for several keys");
                    return Err(Mistake::new(written, expr.span.clone(), message)
                        .label("write the key as it stands in --by or --across"));
                }
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
            [] => it.label("the table has no keys: add --by or --across"),
            _ => it.label(format!("the keys are {}", all_of(&keys))),
        })
    }

    /// The key of the table that a text names: as it stands in `--by` or `--across`, or the function
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

    /// The parts of a calculation that are results of groups, as large as can be; of one that looks at
    /// no other cells that is the calculation itself.
    ///
    /// # Errors
    /// A mistake in it.
    pub fn group_parts(
        &mut self,
        written: &Arc<Written>,
        expr: &Expr,
        out: &mut Vec<(Arc<Written>, Expr)>,
    ) -> Resolved<()> {
        if self.key_of(written, expr)?.is_some() {
            return Ok(());
        }
        match self.level(written, expr)? {
            Level::Constant => return Ok(()),
            Level::Row | Level::Group => {
                let text = |w: &Written, e: &Expr| w.text[e.span.clone()].trim().to_owned();
                let mine = text(written, expr);
                if !out.iter().any(|(w, e)| text(w, e) == mine) {
                    out.push((written.clone(), expr.clone()));
                }
                return Ok(());
            }
            Level::Table => {}
        }
        if let Node::Name { table: None, name } = &expr.node
            && let Some(named) = self.named(name)
        {
            return self.group_parts(&named.written, &named.expr, out);
        }
        let parts: Vec<&Expr> = match &expr.node {
            Node::Negate(a) | Node::Not(a) | Node::IsMissing { value: a, .. } => vec![a],
            Node::Binary(_, a, b) | Node::During { value: a, period: b } => vec![a, b],
            Node::Between { value, low, high, .. } => vec![value, low, high],
            Node::In { value, list, .. } => std::iter::once(&**value).chain(list).collect(),
            Node::Call(call) => {
                let conditions = call.clauses.iter().filter(|c| c.word == ClauseWord::Where);
                call.args.iter().chain(conditions.flat_map(|c| &c.args)).collect()
            }
            _ => Vec::new(),
        };
        for part in parts {
            self.group_parts(written, part, out)?;
        }
        Ok(())
    }

    /// The key that is walked unless one is named: the finest period, else the innermost of --by.
    fn walked_by_default(&self) -> Option<usize> {
        let keys = self.keys();
        let period = |k: &usize| matches!(keys[*k].kind, Kind::Period(_));
        let periods: Vec<usize> = (0..keys.len()).filter(period).collect();
        let finest = periods
            .iter()
            .copied()
            .rev()
            .find(|&k| !periods.iter().any(|&other| other != k && self.is_coarser(k, other)));
        finest.or(match self.by_keys {
            0 => keys.len().checked_sub(1),
            n => Some(n - 1),
        })
    }

    /// The cells of a window: what is walked and what must be shared.
    #[allow(clippy::type_complexity)]
    fn over(
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

    fn window(&mut self, mut window: Window) -> Built {
        window.steps_before = self.table.steps.len();
        self.table_input(TableInput::Window(window))
    }

    /// Builds one of the words of the table.
    pub(super) fn table_call(
        &mut self,
        written: &Arc<Written>,
        expr: &Expr,
        call: &CallNode,
        word: Word,
        place: Place,
    ) -> Resolved<Built> {
        let text = &written.text[expr.span.clone()];
        let of = call.args.first().map_or("", |a| &written.text[a.span.clone()]);
        if place != Place::Table {
            let message = format!("`{}` looks at other cells of the table", call.name);
            let it = Mistake::new(written, call.name_span.clone(), message)
                .label("known only when the table is made");
            return Err(match place {
                Place::Filter => it.help(format!(
                    "a condition on the lines of the table: --keep '{}'",
                    written.text
                )),
                _ => it.help(
                    "name the result with --let and write this around it, outside the aggregate",
                ),
            });
        }
        if self.keys().is_empty() && !self.listing && !matches!(word, Word::Share | Word::Total) {
            let message = format!("`{}` has nothing to compare with", call.name);
            return Err(Mistake::new(written, expr.span.clone(), message)
                .label("the table has one line; add --by or --across"));
        }
        if matches!(word, Word::Share | Word::Total) {
            return self.share_or_total(written, expr, call, word);
        }
        let x = self.cell_value(written, &call.args[0])?;
        let numeric = !matches!(word, Word::Rank | Word::Tile | Word::Lag | Word::Lead);
        let using = choice(written, call, ClauseWord::Using, &Using::ALL)?;
        let any = matches!(using, Some(Using::Min | Using::Max | Using::Count));
        if numeric && !any && !x.kind.is_number() {
            let argument = call.args[0].span.clone();
            let message = format!("`{}` takes a number, found {}", call.name, x.kind.describe());
            return Err(Mistake::new(written, argument, message)
                .label(format!("this is {}", x.kind.describe())));
        }
        let number = |default: u32| -> Resolved<u32> {
            let Some(arg) = call.args.get(1) else { return Ok(default) };
            let number = constant_number(arg).and_then(|n| n.rescale(0)).map(|n| n.mantissa);
            number.and_then(|n| u32::try_from(n).ok()).filter(|n| *n >= 1).ok_or_else(|| {
                Mistake::new(written, arg.span.clone(), "expected a whole number from 1 on")
                    .label("how many")
            })
        };
        let (along, within, descending) = self.over(written, call, word.walks())?;
        let window = |calc: Calc, kind: Kind| Window {
            calc,
            args: vec![x],
            condition: None,
            along: along.clone(),
            within: within.clone(),
            descending,
            kind,
            text: Arc::from(text),
            of: Arc::from(of),
            steps_before: 0,
        };
        let whole = Kind::Number { scale: 0 };
        let made = |using: Using| match using {
            Using::Sum | Using::Min | Using::Max => x.kind,
            Using::Mean => Kind::Float,
            Using::Count => whole,
        };
        Ok(match word {
            Word::Rank => {
                let ties = choice(written, call, ClauseWord::Ties, &Ties::ALL)?;
                let ties = ties.unwrap_or(Ties::Skip);
                let scale = u8::from(ties == Ties::Mean);
                self.window(window(Calc::Rank(ties), Kind::Number { scale }))
            }
            Word::Tile => self.window(window(Calc::Tile(number(1)?), whole)),
            Word::Lag | Word::Change | Word::Growth => {
                let lag = self.window(window(Calc::Step(i64::from(number(1)?)), x.kind));
                if word == Word::Lag {
                    return Ok(lag);
                }
                let change = self.step(Place::Table, text, Op::Subtract, &[x, lag], x.kind);
                if word == Word::Change {
                    return Ok(change);
                }
                self.step(Place::Table, text, Op::Divide, &[change, lag], Kind::Float)
            }
            Word::Lead => self.window(window(Calc::Step(-i64::from(number(1)?)), x.kind)),
            Word::Running => {
                let using = using.unwrap_or(Using::Sum);
                self.window(window(Calc::Running(using), made(using)))
            }
            _ => {
                let using = using.unwrap_or(Using::Mean);
                let partial = call.clauses.iter().any(|c| c.word == ClauseWord::Partial);
                let steps = number(1)?;
                self.window(window(Calc::Moving { steps, using, partial }, made(using)))
            }
        })
    }

    fn share_or_total(
        &mut self,
        written: &Arc<Written>,
        expr: &Expr,
        call: &CallNode,
        word: Word,
    ) -> Resolved<Built> {
        let text = &written.text[expr.span.clone()];
        let arg = &call.args[0];
        let of = &written.text[arg.span.clone()];
        if !self.listing && self.level(written, arg)? == Level::Table {
            let message = format!("`{}` works its figure out again from rows", call.name);
            return Err(Mistake::new(written, arg.span.clone(), message)
                .label("this looks at other cells, and has no rows of its own")
                .help(format!(
                    "as the sum over the cells: sum({})",
                    &written.text[arg.span.clone()]
                )));
        }
        let (_, within, _) = self.over(written, call, false)?;
        let x = self.cell_value(written, arg)?;
        if word == Word::Share && !x.kind.is_number() || self.listing && !x.kind.is_number() {
            let message = format!("`{}` takes a number, found {}", call.name, x.kind.describe());
            return Err(Mistake::new(written, arg.span.clone(), message)
                .label(format!("this is {}", x.kind.describe())));
        }
        let calc = match x.operand {
            _ if self.listing => Calc::Aggregate(Arc::new(Sum)),
            Operand::Input(i) => match &self.table_inputs[i] {
                TableInput::Group(group) => Calc::Total(*group),
                _ => unreachable!("a result of groups is an input of its own"),
            },
            // A constant: the same everywhere.
            Operand::Step(_) => Calc::Aggregate(Arc::new(crate::aggregate::extremes::Max)),
        };
        let total = self.window(Window {
            calc,
            args: vec![x],
            condition: None,
            along: Vec::new(),
            within: Some(within.unwrap_or_default()),
            descending: None,
            kind: x.kind,
            text: Arc::from(text),
            of: Arc::from(of),
            steps_before: 0,
        });
        if word == Word::Total {
            return Ok(total);
        }
        Ok(self.step(Place::Table, text, Op::Divide, &[x, total], Kind::Float))
    }

    /// An aggregate over the cells of the table, or over the rows of a listing.
    pub(super) fn aggregate_of_cells(
        &mut self,
        written: &Arc<Written>,
        expr: &Expr,
        call: &CallNode,
        make: fn(&Given) -> Result<Arc<dyn Aggregate>, &'static str>,
        parameters: usize,
    ) -> Resolved<Built> {
        if let Some(per) = call.clauses.iter().find(|c| c.word == ClauseWord::Per) {
            return Err(Mistake::new(
                written,
                per.span.clone(),
                "`per` takes rows into smaller groups",
            )
            .label("in a listing, and over the cells of a table, write `within` instead"));
        }
        if self.keys().is_empty() && !self.listing {
            return Err(self.aggregate_in_aggregate(written, expr, call));
        }
        let text = &written.text[expr.span.clone()];
        let of = call.args.first().map_or("", |a| &written.text[a.span.clone()]);
        let values = call.args.len() - parameters.min(call.args.len());
        let mut level = Level::Constant;
        for arg in &call.args[..values] {
            level = level.max(self.level(written, arg)?);
        }
        if !self.listing && level < Level::Group {
            // Of the rows themselves: the same result at the keys after `within`.
            let mut alone = call.clone();
            alone.clauses.retain(|c| c.word != ClauseWord::Within);
            let group =
                self.aggregate_call(written, expr, &alone, make, parameters, Place::Group(TABLE))?;
            let x = self.table_input(TableInput::Group(group));
            let (_, within, _) = self.over(written, call, false)?;
            return Ok(self.window(Window {
                calc: Calc::Total(group),
                args: vec![x],
                condition: None,
                along: Vec::new(),
                within: Some(within.unwrap_or_default()),
                descending: None,
                kind: group.kind,
                text: Arc::from(text),
                of: Arc::from(of),
                steps_before: 0,
            }));
        }
        let mut args = Vec::new();
        for arg in &call.args[..values] {
            args.push(self.cell_value(written, arg)?);
        }
        let aggregate =
            self.make(written, expr, call, make, parameters, Place::Table, &mut args)?;
        let mut condition = None;
        if let Some(clause) = call.clauses.iter().find(|c| c.word == ClauseWord::Where) {
            condition = Some(self.condition(written, &clause.args[0], Place::Table)?);
        }
        let end = match functions::find(&call.name).map(|f| f.name) {
            Some("first") => Some(false),
            Some("last") => Some(true),
            _ => None,
        };
        let (along, within, descending) = self.over(written, call, end.is_some())?;
        let kinds: Vec<Kind> = args.iter().map(|a| a.kind).collect();
        let kind = aggregate
            .result(&kinds)
            .map_err(|p| self.argument_problem(written, expr, call, &kinds, p))?;
        let calc = match end {
            Some(last) => Calc::End { last },
            None => Calc::Aggregate(aggregate),
        };
        let within = if end.is_some() { within } else { Some(within.unwrap_or_default()) };
        Ok(self.window(Window {
            calc,
            args,
            condition,
            along,
            within,
            descending,
            kind,
            text: Arc::from(text),
            of: Arc::from(of),
            steps_before: 0,
        }))
    }

    /// Makes an aggregate, with its arguments in the shape that it takes.
    #[allow(clippy::too_many_arguments)]
    pub(super) fn make(
        &mut self,
        written: &Arc<Written>,
        expr: &Expr,
        call: &CallNode,
        make: fn(&Given) -> Result<Arc<dyn Aggregate>, &'static str>,
        parameters: usize,
        place: Place,
        args: &mut Vec<Built>,
    ) -> Resolved<Arc<dyn Aggregate>> {
        let values = call.args.len() - parameters.min(call.args.len());
        for parameter in &call.args[values..] {
            if constant_number(parameter).is_none() {
                let span = parameter.span.clone();
                return Err(Mistake::new(written, span, "expected a number here")
                    .label("a plain number, the same for all rows"));
            }
        }
        let aggregate = make(&given(call, parameters)).map_err(|expected| {
            let place = call.args.get(values).unwrap_or(expr);
            Mistake::new(written, place.span.clone(), format!("`{}` needs {expected}", call.name))
        })?;
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
                    .label("such as status = 'cancelled'");
            }
        };
        let arg = call.args.get(at).unwrap_or(expr);
        let text = &written.text[arg.span.clone()];
        let found = kinds.get(at).map_or("nothing", |k| k.describe());
        let message = format!("`{}` takes numbers, and `{text}` is {found}", call.name);
        Mistake::new(written, arg.span.clone(), message)
            .label(format!("this is {found}"))
            .help(format!(
                "how many different ones: distinct({text}); the rows that have one: count({text})"
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

    /// Whether a result reads as a share of something, and so in percent.
    pub fn is_share(&self, expr: &Expr) -> bool {
        match &expr.node {
            Node::Name { table: None, name } => {
                self.lets.iter().find(|n| n.name == *name).is_some_and(|n| self.is_share(&n.expr))
            }
            Node::Negate(a) => self.is_share(a),
            Node::Binary(
                crate::language::ast::Operator::Add | crate::language::ast::Operator::Subtract,
                a,
                b,
            ) => self.is_share(a) && self.is_share(b),
            Node::Call(call) => match functions::find(&call.name).map(|f| (&f.call, f.name)) {
                Some((Call::Table(Word::Share | Word::Growth), _)) | Some((_, "rate")) => true,
                Some((Call::Table(Word::Rank | Word::Tile), _)) => false,
                Some((Call::Table(_), _))
                | Some((
                    _,
                    "mean" | "median" | "min" | "max" | "sum" | "first" | "last" | "largest"
                    | "smallest" | "percentile" | "quartile" | "range" | "stdev" | "abs" | "round",
                )) => call.args.first().is_some_and(|a| self.is_share(a)),
                _ => false,
            },
            _ => false,
        }
    }
}
