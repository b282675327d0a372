//! Syntax to programs: names looked up, levels and kinds checked, before any row is read.
//!
//! A calculation is built at one of three places: for the filter on rows, for each row, or for each
//! group. An aggregate is the door from the group to the rows: its arguments are built for rows, and
//! its result is an input of the group's program.

use super::ast::{Call as CallNode, Clause, ClauseWord, Comparison, Expr, Node, Operator};
use super::functions::{self, Call, Function, Given, RowCall};
use super::parser;
use crate::aggregate::sums::Sum;
use crate::aggregate::values::SumDistinct;
use crate::aggregate::{Additivity, Aggregate, ArgumentProblem};
use crate::error::{Mistake, Written, all_of, either, nearest};
use crate::lookup::Lookup;
use crate::plan::Fill;
use crate::rows::program::{FetchColumn, FindRow, Op, Operand, Program, Step, TextTest};
use crate::rows::scalar::{Expect, Scalar};
use crate::value::calendar::{Period, Unit, parse_date, parse_datetime};
use crate::value::decimal::{Decimal, MAX_DIGITS};
use crate::value::{BandBound, Bands, Kind, Value};
use std::sync::Arc;

/// A column of the rows.
#[derive(Clone, Debug)]
pub struct ColumnInfo {
    /// Its heading.
    pub name: String,
    /// What it holds.
    pub kind: Kind,
    /// Why it is not what most of its values look like, with the place of the value to blame.
    pub note: Option<String>,
}

/// A named calculation.
#[derive(Clone, Debug)]
struct Named {
    name: String,
    written: Arc<Written>,
    expr: Expr,
}

/// The levels of a calculation.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Level {
    /// The same everywhere.
    Constant,
    /// One value for each row.
    Row,
    /// One value for each group of rows.
    Group,
}

/// Which program a calculation is built into.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Place {
    Filter,
    Row,
    /// Rows again, when the results of the table's groups are known.
    Late,
    /// The groups of a scope.
    Group(usize),
}

/// The groups of the table.
const TABLE: usize = 0;

/// A calculation that has been built.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Built {
    /// Where its values are.
    pub operand: Operand,
    /// What they are.
    pub kind: Kind,
}

/// The state behind one or several aggregates.
pub struct StatePlan {
    /// The aggregate that makes it.
    pub aggregate: Arc<dyn Aggregate>,
    /// Its arguments in the row program.
    pub args: Vec<Built>,
    /// The condition inside the aggregate.
    pub condition: Option<Operand>,
}

/// An aggregate, finished from a state.
pub struct AggregatePlan {
    /// Finishes the state.
    pub aggregate: Arc<dyn Aggregate>,
    /// Where the state comes from.
    pub from: From,
    /// The kind of the result.
    pub kind: Kind,
}

/// Where the state of an aggregate comes from.
pub enum From {
    /// From rows: the state's number in its scope.
    Rows(usize),
    /// From rows, in a second pass: the number of the late aggregate.
    Late(usize),
    /// From the groups of a finer scope, whose results are taken in like rows.
    Groups {
        /// The scope.
        scope: usize,
        /// The arguments in the scope's group program.
        args: Vec<Built>,
        /// The condition in it.
        condition: Option<Operand>,
    },
}

/// An aggregate whose condition compares rows with a result of their group: it needs a second pass.
pub struct LatePlan {
    /// The aggregate.
    pub aggregate: Arc<dyn Aggregate>,
    /// Its arguments in the row program.
    pub args: Vec<Built>,
    /// The condition in the late program.
    pub condition: Operand,
}

/// Inputs of the late program from here on are results of groups, until [`Resolver::seal`].
const LATE_INPUT: usize = 1 << 24;

/// Groups of rows, with what is worked out for each.
#[derive(Default)]
pub struct Scope {
    /// What rows are grouped by: the keys of the scope around it first, then its own.
    pub keys: Vec<KeyPlan>,
    /// How many of the keys are those of the scope around it.
    pub outer: usize,
    /// Over the keys, then the aggregates.
    pub group: Program,
    /// The states to keep for each group.
    pub states: Vec<StatePlan>,
    /// The inputs of the group program behind the keys.
    pub aggregates: Vec<AggregatePlan>,
}

/// A key that rows are grouped by.
#[derive(Clone, Debug)]
pub struct KeyPlan {
    /// What readers see.
    pub heading: String,
    /// Where its values are, in the row program.
    pub operand: Operand,
    /// What they are.
    pub kind: Kind,
}

/// Builds programs from calculations.
pub struct Resolver {
    columns: Vec<ColumnInfo>,
    lets: Vec<Named>,
    open: Vec<String>,
    guards: Vec<(Operand, bool)>,
    /// The name that the columns' own table has, as it may stand before a dot.
    pub own_name: String,
    /// The tables whose columns are added to each row.
    pub lookups: Vec<Lookup>,
    /// The source columns that are needed; the programs' inputs are places in this list.
    pub inputs: Vec<usize>,
    /// Over the inputs: the filter on rows.
    pub filter: Program,
    /// Over the inputs: keys, arguments and conditions of aggregates.
    pub row: Program,
    /// Over the inputs, and behind them the late inputs: conditions that hold a result.
    pub late: Program,
    /// The results of the table's groups that late conditions use.
    pub late_inputs: Vec<Built>,
    /// Aggregates that need a second pass.
    pub late_aggregates: Vec<LatePlan>,
    in_late: bool,
    /// The groups of the table, and the finer ones inside aggregates with `per`.
    pub scopes: Vec<Scope>,
    /// What readers should be told, such as a name that hides a column.
    pub remarks: Vec<String>,
}

type Resolved<T> = Result<T, Mistake>;

impl Resolver {
    /// A resolver over some columns. Named calculations may use each other in any order.
    ///
    /// # Errors
    /// A named calculation that cannot be read, or a name given twice.
    pub fn new(
        columns: Vec<ColumnInfo>,
        lets: &[(String, Arc<Written>)],
    ) -> Result<Resolver, Vec<Mistake>> {
        let (mut named, mut mistakes) = (Vec::<Named>::new(), Vec::new());
        let mut remarks = Vec::new();
        for (name, written) in lets {
            if named.iter().any(|n| n.name == *name) {
                let message = format!("the name `{name}` is given twice");
                mistakes.push(Mistake::new(written, 0..written.text.len(), message));
            }
            if columns.iter().any(|c| c.name == *name) {
                remarks.push(format!("the calculation `{name}` hides the column of that name"));
            }
            match parser::parse(written) {
                Ok(expr) => {
                    named.push(Named { name: name.clone(), written: written.clone(), expr })
                }
                Err(mistake) => mistakes.push(mistake),
            }
        }
        if !mistakes.is_empty() {
            return Err(mistakes);
        }
        Ok(Resolver {
            columns,
            lets: named,
            open: Vec::new(),
            guards: Vec::new(),
            own_name: String::new(),
            lookups: Vec::new(),
            inputs: Vec::new(),
            filter: Program::default(),
            row: Program::default(),
            late: Program::default(),
            late_inputs: Vec::new(),
            late_aggregates: Vec::new(),
            in_late: false,
            scopes: vec![Scope::default()],
            remarks,
        })
    }

    /// The columns of the rows.
    pub fn columns(&self) -> &[ColumnInfo] {
        &self.columns
    }

    /// Gives the late inputs their places behind the inputs, once all of these are known.
    pub fn seal(&mut self) {
        let behind = self.inputs.len();
        let place = |operand: &mut Operand| {
            if let Operand::Input(i) = operand
                && *i >= LATE_INPUT
            {
                *i = *i - LATE_INPUT + behind;
            }
        };
        for step in &mut self.late.steps {
            step.args.iter_mut().for_each(place);
            step.guards.iter_mut().for_each(|g| place(&mut g.0));
        }
        self.late_aggregates.iter_mut().for_each(|l| place(&mut l.condition));
    }

    /// Keeps all values of a calculation on rows, with how often each occurs, as one more state of
    /// the table.
    ///
    /// # Errors
    /// A mistake in it.
    pub fn keep_values(&mut self, written: &Arc<Written>) -> Resolved<()> {
        let expr = parser::parse(written)?;
        let built = self.build(written, &expr, Place::Row)?;
        let plan =
            StatePlan { aggregate: Arc::new(SumDistinct), args: vec![built], condition: None };
        self.scopes[TABLE].states.push(plan);
        Ok(())
    }

    /// The labels that a lookup lists for a key: a column of its own, or one that its rows are found by.
    pub fn lookup_labels(&self, key: Operand) -> Option<Fill> {
        if let Operand::Step(i) = key
            && let Op::Fetch(fetch) = &self.row.steps[i].op
        {
            let lookup = self.lookups.iter().position(|l| Arc::ptr_eq(&l.table, &fetch.table))?;
            let (column, kind) =
                (&fetch.table.data[fetch.column], fetch.table.columns[fetch.column].kind);
            let values = (0..fetch.table.lines.len()).map(|r| column.value(kind, r)).collect();
            return Some(Fill::Labels { values, lookup: Some(lookup) });
        }
        let found = self.row.steps.iter().chain(&self.filter.steps).find_map(|s| match &s.op {
            Op::FindRow(FindRow(lookup)) if s.args == [key] && s.arg_kinds == [Kind::Text] => {
                Some(lookup)
            }
            _ => None,
        })?;
        let mut keys: Vec<&String> = found.places.keys().collect();
        keys.sort();
        let values = keys.into_iter().map(|k| Value::Text(k.as_str().into())).collect();
        Some(Fill::Labels { values, lookup: None })
    }

    /// Builds a value for each row.
    ///
    /// # Errors
    /// A mistake in it.
    pub fn row_value(&mut self, written: &Arc<Written>, expr: &Expr) -> Resolved<Built> {
        self.build(written, expr, Place::Row)
    }

    /// The row of a lookup that each row finds: in the filter's program or in that of the rows.
    ///
    /// # Errors
    /// A mistake in the keys.
    pub fn lookup_row(&mut self, lookup: usize, in_filter: bool) -> Resolved<Operand> {
        let place = if in_filter { Place::Filter } else { Place::Row };
        self.find_row(lookup, place).map(|b| b.operand)
    }

    fn find_row(&mut self, lookup: usize, place: Place) -> Resolved<Built> {
        let (written, keys) =
            (self.lookups[lookup].written.clone(), self.lookups[lookup].row_keys.clone());
        let mut args = Vec::new();
        for key in &keys {
            // The keys mean the columns of the rows, whatever named calculations there are.
            let lets = std::mem::take(&mut self.lets);
            let built = self.build(&written, key, place);
            self.lets = lets;
            args.push(built?);
        }
        let places = FindRow(Arc::new(self.lookups[lookup].clone()));
        Ok(self.step(place, &written.text, Op::FindRow(places), &args, Kind::Date))
    }

    /// A column of a lookup, by its name and perhaps the lookup's.
    fn lookup_column(
        &mut self,
        written: &Arc<Written>,
        expr: &Expr,
        table: Option<&str>,
        name: &str,
        place: Place,
    ) -> Resolved<Option<Built>> {
        let mut found = Vec::new();
        for (i, lookup) in self.lookups.iter().enumerate() {
            if table.is_none_or(|t| t == lookup.table.name)
                && let Some(column) = lookup.table.columns.iter().position(|c| c.name == name)
            {
                found.push((i, column));
            }
        }
        if let [(first, _), (second, _), ..] = found[..] {
            let names = [first, second].map(|i| format!("{}.{name}", self.lookups[i].table.name));
            let message = format!("`{name}` stands in two lookups");
            return Err(Mistake::new(written, expr.span.clone(), message)
                .label(format!("write {}", either(&names))));
        }
        let Some(&(lookup, column)) = found.first() else { return Ok(None) };
        let table = self.lookups[lookup].table.clone();
        let kind = table.columns[column].kind;
        let row = self.find_row(lookup, place)?;
        let op = Op::Fetch(FetchColumn { table, column });
        Ok(Some(self.step(place, &written.text[expr.span.clone()], op, &[row], kind)))
    }

    /// Builds the condition that rows must meet.
    ///
    /// # Errors
    /// A mistake in it.
    pub fn filter(&mut self, written: &Arc<Written>) -> Resolved<Operand> {
        let expr = parser::parse(written)?;
        self.condition(written, &expr, Place::Filter)
    }

    /// Whether an input is needed beyond the filter.
    pub fn used_after_filter(&self, input: usize) -> bool {
        let is = |o: &Operand| *o == Operand::Input(input);
        self.row.steps.iter().chain(&self.late.steps).any(|s| s.args.iter().any(is))
            || self.late_aggregates.iter().any(|l| l.args.iter().any(|a| is(&a.operand)))
            || self.scopes.iter().any(|scope| {
                scope.keys.iter().any(|k| is(&k.operand))
                    || scope.states.iter().any(|s| {
                        s.args.iter().any(|a| is(&a.operand)) || s.condition.is_some_and(|c| is(&c))
                    })
            })
    }

    /// One condition that holds where all of some conditions on rows do; `None` for none.
    pub fn all(&mut self, conditions: &[Operand]) -> Option<Operand> {
        let (first, rest) = conditions.split_first()?;
        Some(rest.iter().fold(*first, |all, &next| {
            let both = [all, next].map(|operand| Built { operand, kind: Kind::Boolean });
            self.step(Place::Filter, "--where", Op::And, &both, Kind::Boolean).operand
        }))
    }

    /// Adds the keys of a list; all keys must be added before the first result is built.
    ///
    /// # Errors
    /// A mistake in one of them.
    pub fn add_keys(&mut self, written: &Arc<Written>) -> Resolved<()> {
        for expr in parser::parse_list(written)? {
            if self.level(written, &expr)? == Level::Group {
                return Err(Mistake::new(written, expr.span, "rows cannot be grouped by a result")
                    .label("this needs the groups to be made already")
                    .help("group by a column or by a calculation on each row, such as month(sailed_on)"));
            }
            let built = self.build(written, &expr, Place::Row)?;
            if self.keys().iter().any(|k| k.operand == built.operand) {
                let text = &written.text[expr.span.clone()];
                return Err(Mistake::new(
                    written,
                    expr.span.clone(),
                    format!("the key `{text}` is given twice"),
                ));
            }
            let heading = heading_of(written, &expr);
            let key = KeyPlan { heading, operand: built.operand, kind: built.kind };
            self.scopes[TABLE].keys.push(key);
        }
        Ok(())
    }

    /// Builds a result for each group. A calculation on rows that gives a number means its sum.
    /// The second part is the heading it suggests, the third why lines need not add up.
    ///
    /// # Errors
    /// A mistake in it.
    pub fn result(
        &mut self,
        written: &Arc<Written>,
        expr: &Expr,
    ) -> Resolved<(Built, String, Option<String>)> {
        let text = heading_of(written, expr);
        if let Some(key) = self.key_of(written, expr)? {
            let note = Some(format!("`{text}` is a key"));
            return Ok((key, text, note));
        }
        if self.level(written, expr)? == Level::Row {
            let built = self.build(written, expr, Place::Row)?;
            return match built.kind {
                kind if kind.is_number() => Ok((
                    self.aggregate(TABLE, Arc::new(Sum), vec![built], None, kind),
                    format!("sum of {text}"),
                    None,
                )),
                kind => Err(self.row_value_outside(written, expr, kind)),
            };
        }
        let built = self.build(written, expr, Place::Group(TABLE))?;
        let note = self.note(written, expr);
        Ok((built, text, note))
    }

    /// The key that a calculation is, if it is one.
    ///
    /// # Errors
    /// A mistake in it.
    pub fn key_of(&mut self, written: &Arc<Written>, expr: &Expr) -> Resolved<Option<Built>> {
        self.key_in(TABLE, written, expr)
    }

    fn key_in(
        &mut self,
        scope: usize,
        written: &Arc<Written>,
        expr: &Expr,
    ) -> Resolved<Option<Built>> {
        if self.scopes[scope].keys.is_empty() || self.level(written, expr)? != Level::Row {
            return Ok(None);
        }
        let built = self.probe(|it| it.build(written, expr, Place::Row))?;
        let keys = &self.scopes[scope].keys;
        let place = keys.iter().position(|k| k.operand == built.operand);
        Ok(place.map(|i| Built { operand: Operand::Input(i), kind: keys[i].kind }))
    }

    /// Why the lines of a result need not add up to its total; `None` where they do.
    fn note(&self, written: &Arc<Written>, expr: &Expr) -> Option<String> {
        match &expr.node {
            Node::Name { table: None, name } => {
                let named = self.lets.iter().find(|n| n.name == *name)?;
                self.note(&named.written, &named.expr)
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
            Node::Call(call) if call.clauses.iter().any(|c| self.holds_result(c)) => {
                Some("worked out with a condition that means each line's own result".into())
            }
            Node::Call(call) if call.clauses.iter().any(|c| c.word == ClauseWord::Per) => {
                Some("worked out from the groups after `per`, not a sum of the lines".into())
            }
            Node::Call(call) => match functions::find(&call.name).map(|f| &f.call) {
                Some(Call::Aggregate { make, parameters }) => match make(&given(call, *parameters))
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

    /// Whether a condition inside an aggregate holds a result of the group.
    fn holds_result(&self, clause: &Clause) -> bool {
        fn holds(it: &Resolver, e: &Expr) -> bool {
            match &e.node {
                Node::Name { table: None, name } => {
                    it.lets.iter().any(|n| n.name == *name && holds(it, &n.expr))
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
                    matches!(function, Some(Call::Aggregate { .. }))
                        || call.args.iter().any(|e| holds(it, e))
                }
                _ => false,
            }
        }
        clause.word == ClauseWord::Where && clause.args.iter().any(|e| holds(self, e))
    }

    // ---- names and levels ------------------------------------------------------------------

    fn named(&self, name: &str) -> Option<Named> {
        self.lets.iter().find(|n| n.name == name).cloned()
    }

    /// Goes into a named calculation, unless it is being built already.
    fn enter<T>(
        &mut self,
        written: &Arc<Written>,
        expr: &Expr,
        named: &Named,
        inside: impl FnOnce(&mut Self, &Arc<Written>, &Expr) -> Resolved<T>,
    ) -> Resolved<T> {
        if self.open.contains(&named.name) {
            let start = self.open.iter().position(|n| *n == named.name).unwrap_or(0);
            let mut circle = self.open[start..].to_vec();
            circle.push(named.name.clone());
            return Err(Mistake::new(
                written,
                expr.span.clone(),
                "these calculations go round in a circle",
            )
            .label(circle.join(" → ")));
        }
        self.open.push(named.name.clone());
        let result = inside(self, &named.written, &named.expr);
        self.open.pop();
        result
    }

    /// The level of a calculation.
    ///
    /// # Errors
    /// An unknown name or function.
    pub fn level(&mut self, written: &Arc<Written>, expr: &Expr) -> Resolved<Level> {
        let of = |it: &mut Self, parts: &[&Expr]| -> Resolved<Level> {
            let mut highest = Level::Constant;
            for part in parts {
                highest = highest.max(it.level(written, part)?);
            }
            Ok(highest)
        };
        match &expr.node {
            Node::Number(_) | Node::Text(_) | Node::Boolean(_) | Node::Missing => {
                Ok(Level::Constant)
            }
            Node::Name { table: None, name } if self.named(name).is_some() => {
                let Some(named) = self.named(name) else { return Ok(Level::Constant) };
                self.enter(written, expr, &named, |it, w, e| it.level(w, e))
            }
            Node::Name { .. } => Ok(Level::Row),
            Node::Negate(a) | Node::Not(a) | Node::IsMissing { value: a, .. } => of(self, &[a]),
            Node::Binary(_, a, b) | Node::During { value: a, period: b } => of(self, &[a, b]),
            Node::Between { value, low, high, .. } => of(self, &[value, low, high]),
            Node::In { value, list, .. } => {
                let mut parts: Vec<&Expr> = list.iter().collect();
                parts.push(value);
                of(self, &parts)
            }
            Node::Call(call) => match self.function(written, call)?.call {
                Call::Aggregate { .. } => Ok(Level::Group),
                Call::Row(_) => of(self, &call.args.iter().collect::<Vec<_>>()),
            },
        }
    }

    fn function(&self, written: &Arc<Written>, call: &CallNode) -> Resolved<&'static Function> {
        functions::find(&call.name).ok_or_else(|| {
            let message = format!("there is no function `{}`", call.name);
            let mut mistake = Mistake::new(written, call.name_span.clone(), message);
            let near = nearest(&call.name, functions::names());
            if self.columns.iter().any(|c| c.name == call.name) {
                mistake.label =
                    format!("`{}` is a column; a sign such as * may be missing", call.name);
            } else if !near.is_empty() {
                mistake.label = format!("did you mean {}?", either(&near));
            }
            mistake
        })
    }

    fn column(
        &mut self,
        written: &Arc<Written>,
        expr: &Expr,
        table: Option<&str>,
        name: &str,
        place: Place,
    ) -> Resolved<Built> {
        let mistake = |message: String| Mistake::new(written, expr.span.clone(), message);
        let own = table.is_none_or(|t| !self.own_name.is_empty() && t == self.own_name);
        let of_rows = own && self.columns.iter().any(|c| c.name == name);
        if !of_rows {
            if let Some(built) = self.lookup_column(written, expr, table, name, place)? {
                return Ok(built);
            }
            if let Some(table) = table
                && !own
            {
                let known = self.lookups.iter().find(|l| l.table.name == table);
                return Err(match known {
                    Some(l) => {
                        let names: Vec<&str> =
                            l.table.columns.iter().map(|c| c.name.as_str()).collect();
                        mistake(format!("the lookup `{table}` has no column `{name}`"))
                            .label(format!("its columns are {}", all_of(&names)))
                    }
                    None => mistake(format!("there is no lookup `{table}`"))
                        .label("a name before a dot is that of a lookup"),
                });
            }
        }
        let Some(at) = self.columns.iter().position(|c| c.name == name) else {
            let known: Vec<&str> = self
                .columns
                .iter()
                .map(|c| c.name.as_str())
                .chain(self.lets.iter().map(|n| n.name.as_str()))
                .chain(
                    self.lookups
                        .iter()
                        .flat_map(|l| l.table.columns.iter().map(|c| c.name.as_str())),
                )
                .collect();
            let near = nearest(name, known.iter().copied());
            let mut it = mistake(format!("there is no column `{name}`"));
            if !near.is_empty() {
                it.label = format!("did you mean {}?", either(&near));
            } else {
                it.label = "not found".into();
                it = it.help(format!("the columns are {}", all_of(&known)));
            }
            if functions::find(name).is_some() {
                it = it.help(format!("`{name}` is a function: write {name}(…)"));
            }
            if written.text[expr.span.clone()].starts_with('"') {
                it = it.help(format!("double quotes mark a name; text is written '{name}'"));
            }
            return Err(it);
        };
        let input = self.inputs.iter().position(|&i| i == at).unwrap_or_else(|| {
            self.inputs.push(at);
            self.inputs.len() - 1
        });
        Ok(Built { operand: Operand::Input(input), kind: self.columns[at].kind })
    }

    fn row_value_outside(&self, written: &Arc<Written>, expr: &Expr, kind: Kind) -> Mistake {
        let text = &written.text[expr.span.clone()];
        let it = Mistake::new(
            written,
            expr.span.clone(),
            format!("`{text}` has a value on each row, and a group has many rows"),
        )
        .label(format!("this is {} for each row", kind.describe()));
        let it = match kind {
            kind if kind.is_number() => {
                it.help(format!("inside an aggregate: sum({text}), mean({text}), max({text})"))
            }
            Kind::Boolean => it.help(format!("how many rows meet it: count(where {text})")),
            _ => it.help(format!(
                "how many different ones: distinct({text}); the rows that have one: count({text})"
            )),
        };
        it.help(format!("as a category of its own: --by \"{text}\""))
    }

    // ---- building --------------------------------------------------------------------------

    fn program(&mut self, place: Place) -> &mut Program {
        match place {
            Place::Filter => &mut self.filter,
            Place::Row => &mut self.row,
            Place::Late => &mut self.late,
            Place::Group(scope) => &mut self.scopes[scope].group,
        }
    }

    fn step(&mut self, place: Place, text: &str, op: Op, args: &[Built], kind: Kind) -> Built {
        let guards = if matches!(op, Op::Divide) { self.guards.clone() } else { Vec::new() };
        let program = self.program(place);
        let constant = |a: &Built| matches!(a.operand, Operand::Step(i) if matches!(program.steps[i].op, Op::Constant(_)));
        let constant_args = args.iter().map(constant).collect();
        let step = Step {
            op,
            constant_args,
            args: args.iter().map(|a| a.operand).collect(),
            arg_kinds: args.iter().map(|a| a.kind).collect(),
            kind,
            guards,
            text: Arc::from(text),
        };
        Built { operand: self.program(place).add(step), kind }
    }

    fn constant(&mut self, place: Place, text: &str, value: Value, kind: Kind) -> Built {
        self.step(place, text, Op::Constant(value), &[], kind)
    }

    /// What the table's rows are grouped by.
    pub fn keys(&self) -> &[KeyPlan] {
        &self.scopes[TABLE].keys
    }

    /// Adds an aggregate over rows and gives the group program's input.
    fn aggregate(
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

    fn add_aggregate(&mut self, scope: usize, plan: AggregatePlan) -> Built {
        let it = &mut self.scopes[scope];
        let kind = plan.kind;
        it.aggregates.push(plan);
        Built { operand: Operand::Input(it.keys.len() + it.aggregates.len() - 1), kind }
    }

    /// A scope finer than another by the keys of `per`.
    fn finer(&mut self, scope: usize, written: &Arc<Written>, exprs: &[Expr]) -> Resolved<usize> {
        let mut keys = self.scopes[scope].keys.clone();
        let outer = keys.len();
        for expr in exprs {
            if self.level(written, expr)? == Level::Group {
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

    fn condition(
        &mut self,
        written: &Arc<Written>,
        expr: &Expr,
        place: Place,
    ) -> Resolved<Operand> {
        let built = self.build(written, expr, place)?;
        if built.kind != Kind::Boolean {
            let message = format!("expected a condition, found {}", built.kind.describe());
            return Err(Mistake::new(written, expr.span.clone(), message)
                .label("this is neither true nor false")
                .help("compare it with something: =, <>, <, >, in (…), is missing"));
        }
        Ok(built.operand)
    }

    fn build(&mut self, written: &Arc<Written>, expr: &Expr, place: Place) -> Resolved<Built> {
        let text = &written.text[expr.span.clone()];
        if let Place::Group(scope) = place
            && let Some(key) = self.key_in(scope, written, expr)?
        {
            return Ok(key);
        }
        match &expr.node {
            Node::Number(n) => {
                let n = n.trimmed();
                Ok(self.constant(place, text, Value::Number(n), Kind::Number { scale: n.scale }))
            }
            Node::Text(t) => {
                Ok(self.constant(place, text, Value::Text(Arc::from(t.as_str())), Kind::Text))
            }
            Node::Boolean(b) => Ok(self.constant(place, text, Value::Boolean(*b), Kind::Boolean)),
            Node::Missing => {
                let kind = Kind::Number { scale: 0 };
                Ok(self.constant(place, text, Value::Missing, kind))
            }
            Node::Name { table, name } => {
                if table.is_none()
                    && let Some(named) = self.named(name)
                {
                    return self.enter(written, expr, &named, |it, w, e| it.build(w, e, place));
                }
                if let Place::Group(_) = place {
                    let built = self
                        .probe(|it| it.column(written, expr, table.as_deref(), name, Place::Row))?;
                    return Err(self.row_value_outside(written, expr, built.kind));
                }
                self.column(written, expr, table.as_deref(), name, place)
            }
            Node::Negate(a) => {
                let a = self.number(written, a, place)?;
                Ok(self.step(place, text, Op::Negate, &[a], a.kind))
            }
            Node::Not(a) => {
                let operand = self.condition(written, a, place)?;
                let a = Built { operand, kind: Kind::Boolean };
                Ok(self.step(place, text, Op::Not, &[a], Kind::Boolean))
            }
            Node::Binary(operator, a, b) => self.binary(written, expr, *operator, a, b, place),
            Node::In { value, list, negated } => {
                self.in_list(written, expr, value, list, *negated, place)
            }
            Node::Between { value, low, high, negated } => {
                let low =
                    self.compare(written, expr, value, Comparison::GreaterEqual, low, place)?;
                let high =
                    self.compare(written, expr, value, Comparison::LessEqual, high, place)?;
                let both = self.step(place, text, Op::And, &[low, high], Kind::Boolean);
                Ok(self.negated(place, text, both, *negated))
            }
            Node::IsMissing { value, negated } => {
                let value = self.build(written, value, place)?;
                let is = self.step(place, text, Op::IsMissing, &[value], Kind::Boolean);
                Ok(self.negated(place, text, is, *negated))
            }
            Node::During { value, period } => self.during(written, expr, value, period, place),
            Node::Call(call) => {
                let function = self.function(written, call)?;
                self.check_arguments(written, expr, call, function)?;
                match &function.call {
                    Call::Row(row) => self.row_call(written, expr, call, row, place),
                    Call::Aggregate { make, parameters } => {
                        self.aggregate_call(written, expr, call, *make, *parameters, place)
                    }
                }
            }
        }
    }

    fn negated(&mut self, place: Place, text: &str, it: Built, negated: bool) -> Built {
        if negated { self.step(place, text, Op::Not, &[it], Kind::Boolean) } else { it }
    }

    fn number(&mut self, written: &Arc<Written>, expr: &Expr, place: Place) -> Resolved<Built> {
        let built = self.build(written, expr, place)?;
        if built.kind.is_number() {
            return Ok(built);
        }
        let text = &written.text[expr.span.clone()];
        let message = format!("expected a number, found {}", built.kind.describe());
        let mut it = Mistake::new(written, expr.span.clone(), message)
            .label(format!("`{text}` is {}", built.kind.describe()));
        if let Node::Name { table: None, name } = &expr.node
            && built.kind == Kind::Text
            && self.columns.iter().any(|c| c.name == *name)
        {
            it = it.help(self.type_help(name, "number"));
        }
        Err(it)
    }

    /// What to do about a column that should be of another kind.
    fn type_help(&self, name: &str, kind: &str) -> String {
        match self.columns.iter().find(|c| c.name == name).and_then(|c| c.note.as_ref()) {
            Some(note) => {
                format!(
                    "it is text because of {note}; if that stands for no value, name it with --missing"
                )
            }
            None => format!(
                "if it should hold {kind}s: --type '{name}={kind}' names the first value that is none"
            ),
        }
    }

    fn as_float(&mut self, place: Place, text: &str, it: Built) -> Built {
        match it.kind {
            Kind::Number { .. } => self.step(place, text, Op::ToFloat, &[it], Kind::Float),
            _ => it,
        }
    }

    fn at_scale(&mut self, place: Place, text: &str, it: Built, scale: u8) -> Built {
        match it.kind {
            Kind::Number { scale: own } if own < scale => {
                self.step(place, text, Op::ScaleUp(scale - own), &[it], Kind::Number { scale })
            }
            _ => it,
        }
    }

    /// Brings numbers to one kind: the largest scale, or binary64 where one of them is.
    fn align(&mut self, place: Place, text: &str, all: &mut [Built]) -> Kind {
        let scale = all
            .iter()
            .map(|b| if let Kind::Number { scale } = b.kind { scale } else { 0 })
            .max()
            .unwrap_or(0);
        let float = all.iter().any(|b| b.kind == Kind::Float);
        for it in all.iter_mut() {
            *it = if float {
                self.as_float(place, text, *it)
            } else {
                self.at_scale(place, text, *it, scale)
            };
        }
        if float { Kind::Float } else { Kind::Number { scale } }
    }

    fn binary(
        &mut self,
        written: &Arc<Written>,
        expr: &Expr,
        operator: Operator,
        a: &Expr,
        b: &Expr,
        place: Place,
    ) -> Resolved<Built> {
        let text = &written.text[expr.span.clone()];
        let op = match operator {
            Operator::And | Operator::Or => {
                let both = [self.condition(written, a, place)?, self.condition(written, b, place)?];
                let both = both.map(|operand| Built { operand, kind: Kind::Boolean });
                let op = if operator == Operator::And { Op::And } else { Op::Or };
                return Ok(self.step(place, text, op, &both, Kind::Boolean));
            }
            Operator::Compare(how) => return self.compare(written, expr, a, how, b, place),
            Operator::Add => Op::Add,
            Operator::Subtract => Op::Subtract,
            Operator::Multiply => Op::Multiply,
            Operator::Divide => Op::Divide,
        };
        let mut both = [self.number(written, a, place)?, self.number(written, b, place)?];
        if operator == Operator::Multiply {
            if let [Kind::Number { scale: x }, Kind::Number { scale: y }] = both.map(|b| b.kind)
                && x + y <= MAX_DIGITS
            {
                return Ok(self.step(place, text, op, &both, Kind::Number { scale: x + y }));
            }
            both = both.map(|b| self.as_float(place, text, b));
            return Ok(self.step(place, text, op, &both, Kind::Float));
        }
        let kind = self.align(place, text, &mut both);
        let kind = if operator == Operator::Divide { Kind::Float } else { kind };
        Ok(self.step(place, text, op, &both, kind))
    }

    /// Builds a calculation beside one of a known kind: text beside a date is read as a date.
    fn beside(
        &mut self,
        written: &Arc<Written>,
        expr: &Expr,
        kind: Kind,
        place: Place,
    ) -> Resolved<Built> {
        let text = &written.text[expr.span.clone()];
        if matches!(expr.node, Node::Missing) {
            return Ok(self.constant(place, text, Value::Missing, kind));
        }
        let Node::Text(t) = &expr.node else { return self.build(written, expr, place) };
        let (value, expected) = match kind {
            Kind::Date => match (parse_date(t), parse_datetime(t)) {
                (None, Some(time)) => (Some((Value::DateTime(time), Kind::DateTime)), ""),
                (day, _) => (day.map(|d| (Value::Date(d), kind)), "a date such as '2025-03-14'"),
            },
            Kind::DateTime => match (parse_date(t), parse_datetime(t)) {
                (Some(day), _) => (Some((Value::Date(day), Kind::Date)), ""),
                (_, time) => (
                    time.map(|t| (Value::DateTime(t), kind)),
                    "a date and time such as '2025-03-14T09:30'",
                ),
            },
            Kind::Period(unit) => (
                Period::parse_of(unit, t).map(|p| (Value::Period(p), kind)),
                match unit {
                    Unit::Day => "a day such as '2025-03-14'",
                    Unit::Week => "a week such as '2025-W14'",
                    Unit::Month => "a month such as '2025-03'",
                    Unit::Quarter => "a quarter such as '2025-Q1'",
                    Unit::Half => "a half-year such as '2025-H1'",
                    Unit::Year => "a year such as '2025'",
                    Unit::FiscalQuarter(_) => "a quarter such as '2024/25-Q1'",
                    Unit::FiscalYear(_) => "a business year such as '2024/25'",
                },
            ),
            Kind::Part(part) => (
                part.parse(t).map(|i| (Value::Part(part, i), kind)),
                "its name, such as 'Monday', 'March' or 'Q1'",
            ),
            _ => return self.build(written, expr, place),
        };
        match value {
            Some((value, kind)) => Ok(self.constant(place, text, value, kind)),
            None => Err(Mistake::new(
                written,
                expr.span.clone(),
                format!("expected {expected}, found {text}"),
            )
            .label("cannot be compared")),
        }
    }

    fn compare(
        &mut self,
        written: &Arc<Written>,
        expr: &Expr,
        a: &Expr,
        how: Comparison,
        b: &Expr,
        place: Place,
    ) -> Resolved<Built> {
        // A literal takes its kind from what it stands beside.
        if matches!(a.node, Node::Text(_) | Node::Missing)
            && !matches!(b.node, Node::Text(_) | Node::Missing)
        {
            return self.compare(written, expr, b, how.flipped(), a, place);
        }
        let text = &written.text[expr.span.clone()];
        if matches!(b.node, Node::Missing) {
            let mut it = Mistake::new(written, expr.span.clone(), "nothing is equal to missing");
            it = it.label("this would never hold");
            return Err(it.help("write `is missing` or `is not missing`"));
        }
        let left = self.build(written, a, place)?;
        if let (Kind::Text, Node::Text(t)) = (left.kind, &b.node) {
            let (t, key) = (t.clone(), format!("{}{t}", how.text()));
            let test = TextTest { key, test: Arc::new(move |s| how.holds(s.cmp(t.as_str()))) };
            return Ok(self.step(place, text, Op::Test(test), &[left], Kind::Boolean));
        }
        let right = self.beside(written, b, left.kind, place)?;
        let mut both = [left, right];
        match both.map(|b| b.kind) {
            [x, y] if x.is_number() && y.is_number() => {
                self.align(place, text, &mut both);
            }
            [Kind::Date, Kind::DateTime] => {
                both[0] = self.step(place, text, Op::DateToTime, &[left], Kind::DateTime);
            }
            [Kind::DateTime, Kind::Date] => {
                both[1] = self.step(place, text, Op::DateToTime, &[right], Kind::DateTime);
            }
            [Kind::Date, Kind::Period(Unit::Day)] | [Kind::Period(Unit::Day), Kind::Date] => {}
            [x, y] if x == y => {}
            [x, y] => {
                let message = format!("{} cannot be compared with {}", x.describe(), y.describe());
                let (l, r) = (&written.text[a.span.clone()], &written.text[b.span.clone()]);
                let mut it = Mistake::new(written, expr.span.clone(), message).label(format!(
                    "`{l}` is {}, `{r}` is {}",
                    x.describe(),
                    y.describe()
                ));
                if let (Kind::Date | Kind::DateTime | Kind::Period(_), Kind::Number { .. }) = (x, y)
                {
                    it = it.help(
                        "dates and periods are written in quotes: '2025-03-14', '2025-03', '2025'",
                    );
                } else if x == Kind::Text && y.is_number() {
                    it = it.help(format!("text is written in quotes: {l} {} '{r}'", how.text()));
                }
                return Err(it);
            }
        }
        Ok(self.step(place, text, Op::Compare(how), &both, Kind::Boolean))
    }

    fn in_list(
        &mut self,
        written: &Arc<Written>,
        expr: &Expr,
        value: &Expr,
        list: &[Expr],
        negated: bool,
        place: Place,
    ) -> Resolved<Built> {
        let text = &written.text[expr.span.clone()];
        let texts: Option<std::collections::BTreeSet<String>> = list
            .iter()
            .map(|e| if let Node::Text(t) = &e.node { Some(t.clone()) } else { None })
            .collect();
        let left = self.build(written, value, place)?;
        if let (Kind::Text, Some(texts)) = (left.kind, texts) {
            let key = format!("in {texts:?}");
            let test = TextTest { key, test: Arc::new(move |s| texts.contains(s)) };
            let it = self.step(place, text, Op::Test(test), &[left], Kind::Boolean);
            return Ok(self.negated(place, text, it, negated));
        }
        let mut any: Option<Built> = None;
        for item in list {
            let one = self.compare(written, expr, value, Comparison::Equal, item, place)?;
            any = Some(match any {
                Some(any) => self.step(place, text, Op::Or, &[any, one], Kind::Boolean),
                None => one,
            });
        }
        let any = any.unwrap_or(left);
        Ok(self.negated(place, text, any, negated))
    }

    fn during(
        &mut self,
        written: &Arc<Written>,
        expr: &Expr,
        value: &Expr,
        period: &Expr,
        place: Place,
    ) -> Resolved<Built> {
        let text = &written.text[expr.span.clone()];
        let dates = self.build(written, value, place)?;
        let dates = match dates.kind {
            Kind::Date | Kind::Period(Unit::Day) => Built { kind: Kind::Date, ..dates },
            Kind::DateTime => self.step(place, text, Op::TimeToDate, &[dates], Kind::Date),
            kind => {
                let message = format!("`during` takes a date, found {}", kind.describe());
                return Err(
                    Mistake::new(written, value.span.clone(), message).label("this is no date")
                );
            }
        };
        let Node::Text(range) = &period.node else {
            return Err(Mistake::new(
                written,
                period.span.clone(),
                "expected a period after `during`",
            )
            .label("write it in quotes, such as '2025-Q1' or '2024-10..2025-03'"));
        };
        let (first, last) = range.split_once("..").unwrap_or((range, range));
        let (Some(first), Some(last)) = (Period::parse(first.trim()), Period::parse(last.trim()))
        else {
            return Err(Mistake::new(written, period.span.clone(), format!("'{range}' is no period")).label(
                "2025, 2025-H1, 2025-Q1, 2025-03, 2025-W14, 2025-03-14, or two of them with .. between",
            ));
        };
        if first.first_day() > last.last_day() {
            return Err(Mistake::new(
                written,
                period.span.clone(),
                "this range ends before it begins",
            ));
        }
        let mut end = |day: i32, how: Comparison| {
            let day = self.constant(place, text, Value::Date(day), Kind::Date);
            self.step(place, text, Op::Compare(how), &[dates, day], Kind::Boolean)
        };
        let from = end(first.first_day(), Comparison::GreaterEqual);
        let to = end(last.last_day(), Comparison::LessEqual);
        Ok(self.step(place, text, Op::And, &[from, to], Kind::Boolean))
    }

    fn check_arguments(
        &self,
        written: &Arc<Written>,
        expr: &Expr,
        call: &CallNode,
        function: &Function,
    ) -> Resolved<()> {
        let (least, most) = function.arguments;
        let n = call.args.len();
        if n < least || n > most {
            let found = match n {
                0 => "none".to_owned(),
                n => n.to_string(),
            };
            let expected = match (least, most) {
                (1, 1) => "one argument".to_owned(),
                (a, b) if a == b => format!("{a} arguments"),
                (a, b) if b < 100 => format!("{a} or {b} arguments"),
                (a, _) => format!("at least {a} arguments"),
            };
            let message = format!("`{}` takes {expected}, found {found}", function.name);
            return Err(Mistake::new(written, expr.span.clone(), message)
                .label(format!("write {}", function.usage)));
        }
        for clause in &call.clauses {
            if !function.clauses.contains(&clause.word) {
                let words: Vec<&str> = function.clauses.iter().map(|c| c.text()).collect();
                let takes = if words.is_empty() { "no clauses".to_owned() } else { either(&words) };
                let message = format!("`{}` does not take `{}`", function.name, clause.word.text());
                return Err(Mistake::new(written, clause.span.clone(), message)
                    .label(format!("it takes {takes}")));
            }
        }
        for (i, clause) in call.clauses.iter().enumerate() {
            if call.clauses[..i].iter().any(|c| c.word == clause.word) {
                let message = format!("`{}` is written twice", clause.word.text());
                return Err(Mistake::new(written, clause.span.clone(), message)
                    .label("join the two with `and`"));
            }
        }
        Ok(())
    }

    fn row_call(
        &mut self,
        written: &Arc<Written>,
        expr: &Expr,
        call: &CallNode,
        row: &RowCall,
        place: Place,
    ) -> Resolved<Built> {
        let text = &written.text[expr.span.clone()];
        match *row {
            RowCall::If => self.if_call(written, expr, call, place),
            RowCall::Coalesce => {
                let (args, kind) = self.same_kind(written, expr, &call.args, place)?;
                Ok(self.step(place, text, Op::Coalesce, &args, kind))
            }
            RowCall::Extreme { largest } => {
                let (args, kind) = self.same_kind(written, expr, &call.args, place)?;
                Ok(self.step(place, text, Op::Extreme { largest }, &args, kind))
            }
            RowCall::Absolute => {
                let a = self.number(written, &call.args[0], place)?;
                Ok(self.step(place, text, Op::Absolute, &[a], a.kind))
            }
            RowCall::Round => {
                let a = self.number(written, &call.args[0], place)?;
                let digits = match call.args.get(1).map(|d| (&d.node, d)) {
                    None => 0,
                    Some((Node::Number(Decimal { mantissa, scale: 0 }), _))
                        if (0..=12).contains(mantissa) =>
                    {
                        *mantissa as u8
                    }
                    Some((_, d)) => {
                        let message = "expected how many digits to keep after the point";
                        return Err(Mistake::new(written, d.span.clone(), message)
                            .label("a whole number from 0 to 12"));
                    }
                };
                match a.kind {
                    Kind::Number { scale } if scale <= digits => Ok(a),
                    _ => Ok(self.step(
                        place,
                        text,
                        Op::Round(digits),
                        &[a],
                        Kind::Number { scale: digits },
                    )),
                }
            }
            RowCall::Period(unit) => {
                let a = self.date(written, call, place)?;
                Ok(self.step(place, text, Op::ToPeriod(unit), &[a], Kind::Period(unit)))
            }
            RowCall::Part(part) => {
                let a = self.date(written, call, place)?;
                Ok(self.step(place, text, Op::ToPart(part), &[a], Kind::Part(part)))
            }
            RowCall::Fiscal { quarter } => {
                let a = self.date(written, call, place)?;
                let month = constant_number(&call.args[1])
                    .and_then(|n| n.rescale(0))
                    .filter(|n| (1..=12).contains(&n.mantissa));
                let Some(month) = month.map(|n| n.mantissa as u8) else {
                    let span = call.args[1].span.clone();
                    return Err(Mistake::new(
                        written,
                        span,
                        "expected the month in which the year starts",
                    )
                    .label("a whole number from 1 to 12"));
                };
                let unit =
                    if quarter { Unit::FiscalQuarter(month) } else { Unit::FiscalYear(month) };
                Ok(self.step(place, text, Op::ToPeriod(unit), &[a], Kind::Period(unit)))
            }
            RowCall::Band => {
                let a = self.number(written, &call.args[0], place)?;
                let bands = bands(written, &call.args[1..])?;
                let scalar = Scalar::Band(bands);
                Ok(self.step(place, text, Op::Scalar(scalar), &[a], Kind::Band(bands)))
            }
            RowCall::Matches => {
                let pattern = &call.args[1];
                let Node::Text(regex) = &pattern.node else {
                    return Err(Mistake::new(
                        written,
                        pattern.span.clone(),
                        "expected a regular expression",
                    )
                    .label("write it in single quotes"));
                };
                let regex =
                    regex::RegexBuilder::new(regex).size_limit(1 << 20).build().map_err(|e| {
                        let reason = e.to_string();
                        let reason =
                            reason.lines().last().unwrap_or_default().trim_start_matches("error: ");
                        Mistake::new(
                            written,
                            pattern.span.clone(),
                            "this regular expression cannot be read",
                        )
                        .label(reason.to_owned())
                    })?;
                self.scalar(written, expr, &call.args[..1], Scalar::Matches(regex), place)
            }
            RowCall::Scalar(ref scalar) => {
                self.scalar(written, expr, &call.args, scalar.clone(), place)
            }
        }
    }

    /// Builds a function of single values.
    fn scalar(
        &mut self,
        written: &Arc<Written>,
        expr: &Expr,
        exprs: &[Expr],
        scalar: Scalar,
        place: Place,
    ) -> Resolved<Built> {
        let text = &written.text[expr.span.clone()];
        let expects = scalar.expects();
        let mut args = Vec::new();
        for (i, arg) in exprs.iter().enumerate() {
            let expect = expects[i.min(expects.len() - 1)];
            let built = match expect {
                Expect::Date | Expect::Period => self.beside(written, arg, Kind::Date, place)?,
                Expect::DateTime => self.beside(written, arg, Kind::DateTime, place)?,
                _ => self.build(written, arg, place)?,
            };
            if !expect.takes(built.kind) {
                let message =
                    format!("expected {}, found {}", expect.describe(), built.kind.describe());
                let mut it = Mistake::new(written, arg.span.clone(), message)
                    .label(format!("this is {}", built.kind.describe()));
                if expect == Expect::Text {
                    let part = &written.text[arg.span.clone()];
                    it = it.help(format!("as a text: text({part})"));
                }
                return Err(it);
            }
            args.push(built);
        }
        let kinds: Vec<Kind> = args.iter().map(|a| a.kind).collect();
        let kind = scalar.result(&kinds);
        Ok(self.step(place, text, Op::Scalar(scalar), &args, kind))
    }

    fn date(&mut self, written: &Arc<Written>, call: &CallNode, place: Place) -> Resolved<Built> {
        let arg = &call.args[0];
        let built = self.beside(written, arg, Kind::Date, place)?;
        match built.kind {
            Kind::Date | Kind::DateTime | Kind::Period(Unit::Day) => Ok(built),
            kind => {
                let message = format!("`{}` takes a date, found {}", call.name, kind.describe());
                let mut it =
                    Mistake::new(written, arg.span.clone(), message).label("this is no date");
                if let Node::Name { name, .. } = &arg.node {
                    it = it.help(self.type_help(name, "date"));
                }
                Err(it)
            }
        }
    }

    /// Builds values that must be of one kind.
    fn same_kind(
        &mut self,
        written: &Arc<Written>,
        expr: &Expr,
        exprs: &[Expr],
        place: Place,
    ) -> Resolved<(Vec<Built>, Kind)> {
        // The first that is no literal says what the literals are.
        let lead = exprs.iter().find(|e| !matches!(e.node, Node::Missing | Node::Text(_)));
        let lead = match lead.or_else(|| exprs.iter().find(|e| !matches!(e.node, Node::Missing))) {
            Some(lead) => self.build(written, lead, place)?.kind,
            None => Kind::Number { scale: 0 },
        };
        let mut built = Vec::new();
        for e in exprs {
            built.push(self.beside(written, e, lead, place)?);
        }
        let text = &written.text[expr.span.clone()];
        if built.iter().all(|b| b.kind.is_number()) {
            let kind = self.align(place, text, &mut built);
            return Ok((built, kind));
        }
        if let Some(i) = built.iter().position(|b| b.kind != lead) {
            let message =
                format!("{} and {} do not go together", lead.describe(), built[i].kind.describe());
            return Err(Mistake::new(written, exprs[i].span.clone(), message)
                .label(format!("expected {}", lead.describe())));
        }
        Ok((built, lead))
    }

    fn if_call(
        &mut self,
        written: &Arc<Written>,
        expr: &Expr,
        call: &CallNode,
        place: Place,
    ) -> Resolved<Built> {
        let text = &written.text[expr.span.clone()];
        if call.args.len().is_multiple_of(2) {
            return Err(Mistake::new(
                written,
                expr.span.clone(),
                "this `if` does not say what holds otherwise",
            )
            .label("after pairs of a condition and a value comes one last value"));
        }
        let pairs = call.args.len() / 2;
        let mut conditions = Vec::new();
        for i in 0..pairs {
            conditions.push(self.condition(written, &call.args[2 * i], place)?);
        }
        let values: Vec<Expr> = call
            .args
            .iter()
            .enumerate()
            .filter(|(i, _)| i % 2 == 1 || *i == call.args.len() - 1)
            .map(|(_, e)| e.clone())
            .collect();
        // A division by zero in a branch that is not taken is nobody's concern, so that the
        // branches are built under guards.
        let before = self.guards.len();
        let mut built = Vec::new();
        let lead = {
            let (_, kind) = self.probe(|it| it.same_kind(written, expr, &values, place))?;
            kind
        };
        for (i, value) in values.iter().enumerate() {
            self.guards.truncate(before);
            self.guards.extend(conditions.iter().take(i).map(|&c| (c, false)));
            if let Some(&own) = conditions.get(i) {
                self.guards.push((own, true));
            }
            built.push(self.beside(written, value, lead, place)?);
        }
        self.guards.truncate(before);
        if lead.is_number() {
            self.align(place, text, &mut built);
        }
        let mut args = Vec::new();
        for (i, value) in built.iter().enumerate() {
            if let Some(&operand) = conditions.get(i) {
                args.push(Built { operand, kind: Kind::Boolean });
            }
            args.push(*value);
        }
        Ok(self.step(place, text, Op::If, &args, lead))
    }

    /// Builds something only to learn of it, and leaves nothing behind.
    fn probe<T>(&mut self, build: impl FnOnce(&mut Self) -> Resolved<T>) -> Resolved<T> {
        let lengths = |it: &Self| {
            [
                it.filter.steps.len(),
                it.row.steps.len(),
                it.inputs.len(),
                it.scopes.len(),
                it.late.steps.len(),
                it.late_inputs.len(),
                it.late_aggregates.len(),
            ]
        };
        let before = lengths(self);
        let of_scope = |s: &Scope| [s.group.steps.len(), s.states.len(), s.aggregates.len()];
        let scopes: Vec<[usize; 3]> = self.scopes.iter().map(of_scope).collect();
        let result = build(self);
        self.filter.steps.truncate(before[0]);
        self.row.steps.truncate(before[1]);
        self.inputs.truncate(before[2]);
        self.scopes.truncate(before[3]);
        self.late.steps.truncate(before[4]);
        self.late_inputs.truncate(before[5]);
        self.late_aggregates.truncate(before[6]);
        for (scope, [steps, states, aggregates]) in self.scopes.iter_mut().zip(scopes) {
            scope.group.steps.truncate(steps);
            scope.states.truncate(states);
            scope.aggregates.truncate(aggregates);
        }
        result
    }

    fn aggregate_call(
        &mut self,
        written: &Arc<Written>,
        expr: &Expr,
        call: &CallNode,
        make: fn(&Given) -> Result<Arc<dyn Aggregate>, &'static str>,
        parameters: usize,
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
            Place::Late => {}
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
        let Place::Group(scope) = place else { return Err(mistake(String::new())) };
        // Where the arguments are built: on each row, or for the groups of a finer scope.
        let per = call.clauses.iter().find(|c| c.word == ClauseWord::Per);
        let inner = match per {
            Some(clause) => Place::Group(self.finer(scope, written, &clause.args)?),
            None => Place::Row,
        };
        let guards = std::mem::take(&mut self.guards);
        let mut args = Vec::new();
        let values = call.args.len() - parameters.min(call.args.len());
        for arg in &call.args[..values] {
            args.push(self.build(written, arg, inner)?);
        }
        for parameter in &call.args[values..] {
            if !matches!(constant_number(parameter), Some(_)) {
                let span = parameter.span.clone();
                return Err(Mistake::new(written, span, "expected a number here")
                    .label("a plain number, the same for all rows"));
            }
        }
        let aggregate = make(&given(call, parameters)).map_err(|expected| {
            let place = call.args.get(values).unwrap_or(expr);
            Mistake::new(written, place.span.clone(), format!("`{}` needs {expected}", call.name))
        })?;
        if aggregate.family().starts_with("at_") && args[0].kind != Kind::Text {
            let text = &written.text[expr.span.clone()];
            args[0] = self.step(inner, text, Op::Scalar(Scalar::Text), &[args[0]], Kind::Text);
        }
        if aggregate.family() == "two" && args.iter().any(|a| a.kind == Kind::Float) {
            // Both in binary64, where one of them is.
            let text = &written.text[expr.span.clone()];
            args = args.into_iter().map(|a| self.as_float(inner, text, a)).collect();
        }
        let mut condition = None;
        let mut late = None;
        for clause in &call.clauses {
            match clause.word {
                ClauseWord::Method | ClauseWord::Per => {}
                ClauseWord::Where
                    if inner == Place::Row
                        && self.level(written, &clause.args[0])? == Level::Group =>
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
        let kind = aggregate.result(&kinds).map_err(|problem| {
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
            Mistake::new(
                written,
                arg.span.clone(),
                format!("`{}` takes numbers, and `{text}` is {found}", call.name),
            )
            .label(format!("this is {found}"))
            .help(format!(
                "how many different ones: distinct({text}); the rows that have one: count({text})"
            ))
            .help(self.type_help(text, "number"))
        })?;
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
}

/// A plain number, with a minus or without.
fn constant_number(expr: &Expr) -> Option<Decimal> {
    match &expr.node {
        Node::Number(n) => Some(*n),
        Node::Negate(inner) => constant_number(inner).map(|n| Decimal::new(-n.mantissa, n.scale)),
        _ => None,
    }
}

/// The ranges that `band` is given: one width, or bounds in ascending order.
fn bands(written: &Arc<Written>, exprs: &[Expr]) -> Resolved<&'static Bands> {
    let mut bounds: Vec<Decimal> = Vec::new();
    for expr in exprs {
        let number = constant_number(expr).ok_or_else(|| {
            Mistake::new(written, expr.span.clone(), "expected a number here")
                .label("a width, or bounds from the lowest to the highest")
        })?;
        let ordered = bounds.last().is_none_or(|last| *last < number);
        if !ordered || (exprs.len() == 1 && number <= Decimal::new(0, 0)) {
            let message = "these ranges cannot be made";
            return Err(Mistake::new(written, expr.span.clone(), message)
                .label("a width is above 0, and bounds come from the lowest to the highest"));
        }
        bounds.push(number);
    }
    let bound = |d: &Decimal| BandBound { mantissa: d.mantissa, scale: d.scale };
    let bands = match bounds.as_slice() {
        [width] => Bands::Width(bound(width)),
        all => Bands::Bounds(all.iter().map(bound).collect()),
    };
    // Kinds are copied everywhere; the few ranges of a request live as long as the program.
    Ok(Box::leak(Box::new(bands)))
}

/// What an aggregate is given beside its values.
fn given(call: &CallNode, parameters: usize) -> Given {
    let values = call.args.len() - parameters.min(call.args.len());
    let method = call.clauses.iter().find(|c| c.word == ClauseWord::Method).map(|c| {
        match c.args.first().map(|a| &a.node) {
            Some(Node::Name { name, .. }) => name.clone(),
            Some(Node::Text(text)) => text.clone(),
            _ => String::new(),
        }
    });
    let zero = Decimal::new(0, 0);
    let numbers = call.args[values..].iter().map(|a| constant_number(a).unwrap_or(zero)).collect();
    Given { numbers, method }
}

const OTHERWISE: &str = "worked out from all rows, not a sum of the lines";

/// What readers see above a calculation that has no heading of its own: a column's bare name, else
/// the calculation as written.
fn heading_of(written: &Written, expr: &Expr) -> String {
    match &expr.node {
        Node::Name { table: None, name } => name.clone(),
        _ => written.text[expr.span.clone()].split_whitespace().collect::<Vec<_>>().join(" "),
    }
}
