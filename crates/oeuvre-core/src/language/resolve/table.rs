//! The words that look at other cells: which cells they walk, compare or add up.
//!
//! Such a calculation is built into the *table program*, which runs over the cells of one level of the
//! table (or over the rows of a detail). Its inputs are results of groups (or values of rows), and
//! windows: columns that are worked out across cells from earlier columns of the same program. Their
//! order is that in which they were built, and so a window may take what an earlier one gives.

use super::{
    Built, Calc, Level, Place, RED_ZONE, Reference, Resolved, Resolver, STACK_PIECE, TABLE,
    TableInput, Taking, Ties, Window,
};
use crate::aggregate::sums::Sum;
use crate::error::{Mistake, Written, either};
use crate::language::ast::{Call as CallNode, ClauseWord, Expr, Node};
use crate::language::elsewhere;
use crate::language::functions::{self, AggregateCall, Call, Word};
use crate::rows::program::{Op, Operand};
use crate::value::Kind;
use std::sync::Arc;

/// The value that a clause's word stands for.
fn choice<T: Copy>(
    written: &Arc<Written>,
    call: &CallNode,
    word: ClauseWord,
    all: &[(&'static str, T)],
) -> Resolved<Option<T>> {
    let Some(clause) = call.clauses.iter().find(|c| c.word == word) else { return Ok(None) };
    let found = clause.choice();
    let known = all.iter().find(|(name, _)| name.eq_ignore_ascii_case(found));
    known.map(|(_, it)| Some(*it)).ok_or_else(|| {
        let names: Vec<&str> = all.iter().map(|a| a.0).collect();
        let message = format!("`{}` takes {}", word.text(), either(&names));
        let label = match elsewhere::ties(found).filter(|_| word == ClauseWord::Ties) {
            Some(ours) => format!("write `ties {ours}`"),
            None => format!("`{found}` is none"),
        };
        Mistake::new(written, clause.span.clone(), message).label(label)
    })
}

/// How many values are enough for `moving`, where that is said.
fn at_least(written: &Arc<Written>, call: &CallNode, steps: u32) -> Resolved<Option<u32>> {
    let Some(clause) = call.clauses.iter().find(|c| c.word == ClauseWord::AtLeast) else {
        return Ok(None);
    };
    let number = clause.args.first().and_then(Expr::constant_number);
    let number = number.and_then(|n| n.rescale(0)).and_then(|n| u32::try_from(n.mantissa).ok());
    match number.filter(|n| (1..=steps).contains(n)) {
        Some(n) => Ok(Some(n)),
        None => Err(Mistake::new(
            written,
            clause.span.clone(),
            "expected how many values are enough after `at least`",
        )
        .label(format!("a whole number from 1 to {steps}"))),
    }
}

impl Resolver {
    /// Adds an input of the table program, or finds the same one.
    pub(super) fn table_input(&mut self, input: TableInput) -> Built {
        let (built, same) = match &input {
            TableInput::Group(b) | TableInput::Row(b) => {
                // A place may be that of an input that was taken back.
                let known = self.table_places.get(b).copied();
                let same = |i: &usize| {
                    let input = self.table_inputs.get(*i);
                    matches!(input, Some(TableInput::Group(known) | TableInput::Row(known)) if known == b)
                };
                (*b, known.filter(same))
            }
            TableInput::Window(w) => (Built { operand: Operand::Input(0), kind: w.kind }, None),
        };
        let at = same.unwrap_or_else(|| {
            if !matches!(input, TableInput::Window(_)) {
                self.table_places.insert(built, self.table_inputs.len());
            }
            self.table_inputs.push(input);
            self.table_calcs.push(None);
            self.table_inputs.len() - 1
        });
        Built { operand: Operand::Input(at), kind: built.kind }
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
        if self.is_guarded() && !self.enters_whole(expr) {
            return Ok(None);
        }
        if self.listing && level == Level::Row {
            let built = self.build(written, expr, Place::Row)?;
            return Ok(Some(self.table_input(TableInput::Row(built))));
        }
        if level == Level::Group {
            let built = self.build(written, expr, Place::Group(TABLE))?;
            return Ok(Some(self.group_input(built, written, expr.span.clone())));
        }
        Ok(None)
    }

    /// Whether a branch of an `if` on cells is being built: its divisions count only where it is taken, and
    /// so they are made in the table program, which knows the condition.
    fn is_guarded(&self) -> bool {
        self.guards.iter().any(|g| g.0 == Place::Table)
    }

    /// Whether a part of a branch cannot be made in the table program: an aggregate or a column.
    fn enters_whole(&self, expr: &Expr) -> bool {
        match &expr.node {
            Node::Name { table: None, name } => !self.is_named(name),
            Node::Name { .. } => true,
            Node::Call(call) => {
                let function = functions::find(&call.name).map(|f| &f.call);
                matches!(function, Some(Call::Aggregate(_)))
            }
            _ => false,
        }
    }

    /// Builds with no `if` around: what looks at other cells is worked out for all of them.
    fn unguarded<T>(&mut self, build: impl FnOnce(&mut Self) -> Resolved<T>) -> Resolved<T> {
        let guards = std::mem::take(&mut self.guards);
        let built = build(self);
        self.guards = guards;
        built
    }

    /// A value of each cell. In a summary a number of each row means its sum.
    pub(super) fn cell_value(&mut self, written: &Arc<Written>, expr: &Expr) -> Resolved<Built> {
        if let Some(group) = self.group_sum(written, expr)? {
            return Ok(self.group_input(group, written, expr.span.clone()));
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

    /// Adds a result of the groups to what the table program is given, with the calculation that it is.
    fn group_input(
        &mut self,
        group: Built,
        written: &Arc<Written>,
        span: std::ops::Range<usize>,
    ) -> Built {
        let input = self.table_input(TableInput::Group(group));
        if let Operand::Input(i) = input.operand {
            let text = written.text[span].trim();
            self.table_calcs[i].get_or_insert_with(|| Written::new(written.place.clone(), text));
        }
        input
    }

    pub(super) fn window(&mut self, mut window: Window) -> Built {
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
                    "a condition on the lines of the table: --lines-where '{}'",
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
                .label("the table has one line; add --by or --columns-by"));
        }
        if matches!(word, Word::Share | Word::Total) {
            return self.share_or_total(written, expr, call, word);
        }
        let x = self.unguarded(|it| it.cell_value(written, &call.args[0]))?;
        let numeric = !matches!(word, Word::Rank | Word::Tile | Word::Lag | Word::Lead);
        let taking = choice(written, call, ClauseWord::Taking, &Taking::ALL)?;
        let any = matches!(taking, Some(Taking::Min | Taking::Max | Taking::Count));
        if numeric && !any && !x.kind.is_number() {
            let argument = call.args[0].span.clone();
            let message = format!("`{}` takes a number, found {}", call.name, x.kind.describe());
            return Err(Mistake::new(written, argument, message)
                .label(format!("this is {}", x.kind.describe()))
                .of_kinds());
        }
        let number = |default: u32| -> Resolved<u32> {
            let Some(arg) = call.args.get(1) else { return Ok(default) };
            let number = arg.constant_number().and_then(|n| n.rescale(0)).map(|n| n.mantissa);
            number.and_then(|n| u32::try_from(n).ok()).filter(|n| *n >= 1).ok_or_else(|| {
                Mistake::new(written, arg.span.clone(), "expected a whole number from 1 on")
                    .label("how many")
            })
        };
        let (along, within, descending) = self.over(written, call, word.walks())?;
        // The siblings differ in the innermost key: that all of them share it leaves each alone.
        let innermost = Reference::Key(
            self.by_keys.checked_sub(1).unwrap_or(self.keys().len().saturating_sub(1)),
        );
        if !self.listing && along.is_empty() && within.iter().flatten().any(|r| *r == innermost) {
            let clause = call.clauses.iter().find(|c| c.word == ClauseWord::Within);
            let span = clause.map_or(expr.span.clone(), |c| c.span.clone());
            return Err(Mistake::new(
                written,
                span,
                "each line would be compared with itself alone",
            )
            .label("the lines differ in this key")
            .help("name the keys around it, or after `along` what is compared"));
        }
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
        let made = |taking: Taking| match taking {
            Taking::Sum | Taking::Min | Taking::Max => x.kind,
            Taking::Mean => Kind::Float,
            Taking::Count => whole,
        };
        Ok(match word {
            Word::Rank => {
                let ties = choice(written, call, ClauseWord::Ties, &Ties::ALL)?;
                let ties = ties.unwrap_or(Ties::Gap);
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
                let taking = taking.unwrap_or(Taking::Sum);
                self.window(window(Calc::Running(taking), made(taking)))
            }
            _ => {
                let taking = taking.unwrap_or(Taking::Mean);
                let steps = number(1)?;
                let at_least = at_least(written, call, steps)?;
                self.window(window(Calc::Moving { steps, taking, at_least }, made(taking)))
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
        let x = self.unguarded(|it| it.cell_value(written, arg))?;
        if word == Word::Share && !x.kind.is_number() || self.listing && !x.kind.is_number() {
            let message = format!("`{}` takes a number, found {}", call.name, x.kind.describe());
            return Err(Mistake::new(written, arg.span.clone(), message)
                .label(format!("this is {}", x.kind.describe()))
                .of_kinds());
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

    /// An aggregate over the cells of the table, or over the rows of a detail.
    pub(super) fn aggregate_of_cells(
        &mut self,
        written: &Arc<Written>,
        expr: &Expr,
        call: &CallNode,
        of_call: &'static AggregateCall,
    ) -> Resolved<Built> {
        if let Some(per) = call.clauses.iter().find(|c| c.word == ClauseWord::Per) {
            return Err(Mistake::new(
                written,
                per.span.clone(),
                "`per` takes rows into smaller groups",
            )
            .label("in a detail, and over the cells of a table, write `within` instead"));
        }
        if self.keys().is_empty() && !self.listing {
            return Err(self.aggregate_in_aggregate(written, expr, call));
        }
        let text = &written.text[expr.span.clone()];
        let of = call.args.first().map_or("", |a| &written.text[a.span.clone()]);
        let (values, _) = call.split_parameters(of_call.parameters);
        let mut level = Level::Constant;
        for arg in values {
            level = level.max(self.level(written, arg)?);
        }
        if !self.listing && level < Level::Group {
            // Of the rows themselves: the same result at the keys after `within`.
            let mut alone = call.clone();
            alone.clauses.retain(|c| c.word != ClauseWord::Within);
            let group = self.aggregate_call(written, expr, &alone, of_call, Place::Group(TABLE))?;
            // What is worked out for each group is the call without `within`.
            let clause = call.clauses.iter().find(|c| c.word == ClauseWord::Within);
            let span = clause.map_or(expr.span.end..expr.span.end, |c| c.span.clone());
            let text = &written.text;
            let alone =
                [&text[expr.span.start..span.start], &text[span.end..expr.span.end]].concat();
            let alone = Written::new(written.place.clone(), alone);
            let x = self.group_input(group, &alone, 0..alone.text.len());
            let text = &written.text[expr.span.clone()];
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
        for arg in values {
            args.push(self.unguarded(|it| it.cell_value(written, arg))?);
        }
        let aggregate = self.make(written, expr, call, of_call, Place::Table, &mut args)?;
        let mut condition = None;
        if let Some(clause) = call.clauses.iter().find(|c| c.word == ClauseWord::Where) {
            let it = &clause.args[0];
            condition = Some(self.unguarded(|r| r.condition(written, it, Place::Table))?);
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

    /// Whether a result reads as a share of something, and so in percent.
    pub fn is_share(&self, expr: &Expr) -> bool {
        match &expr.node {
            Node::Name { table: None, name } => {
                let Some(named) = self.lets.get(name) else { return false };
                if let Some(known) = self.remembered().shares.get(name) {
                    return *known;
                }
                let is = stacker::maybe_grow(RED_ZONE, STACK_PIECE, || self.is_share(&named.expr));
                self.remembered().shares.insert(name.clone(), is);
                is
            }
            Node::Negate(a) => self.is_share(a),
            Node::Binary(
                crate::language::ast::Operator::Add | crate::language::ast::Operator::Subtract,
                a,
                b,
            ) => self.is_share(a) && self.is_share(b),
            Node::Call(call) => match functions::find(&call.name).map(|f| (&f.call, f.name)) {
                Some((Call::Table(Word::Share | Word::Growth), _)) | Some((_, "portion")) => true,
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
