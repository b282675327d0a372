//! Syntax to programs: names looked up, levels and kinds checked, before any row is read.
//!
//! A calculation is built at one of three places: for the filter on rows, for each row, or for each
//! group. An aggregate is the door from the group to the rows: its arguments are built for rows, and
//! its result is an input of the group's program.

mod aggregates;
mod calls;
mod columns;
mod lookups;
pub use lookups::Joined;
mod notes;
mod operators;
mod ratios;
mod references;
mod table;
mod window;

pub use window::{Calc, Reference, TableInput, Taking, Ties, Window};

use super::ast::ClauseWord;
use super::ast::{Call as CallNode, Expr, Node};
use super::elsewhere;
use super::functions::{self, Call, Function};
use super::parser;
use crate::aggregate::Aggregate;
use crate::aggregate::count::Count;
use crate::aggregate::once::Once;
use crate::error::{Mistake, Written, either, nearest};
use crate::rows::column::ColumnInfo;
use crate::rows::program::{Op, Operand, Program, Step};
use crate::value::{Kind, Value};
use std::collections::{BTreeMap, HashMap};
use std::sync::{Arc, Mutex, MutexGuard};

/// A named calculation.
#[derive(Debug)]
struct Named {
    name: String,
    written: Arc<Written>,
    expr: Expr,
}

/// What has been found out of named calculations, so that each is looked at once however often it is used.
#[derive(Default)]
struct Remembered {
    levels: HashMap<String, Level>,
    built: HashMap<(String, Place), Built>,
    /// The keys of `built` in the order in which they came, so that they can be taken back.
    order: Vec<(String, Place)>,
    notes: HashMap<String, Option<String>>,
    holds: HashMap<String, bool>,
    shares: HashMap<String, bool>,
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
    /// Worked out across the cells of the table, or across the rows of a detail.
    Table,
}

/// Which program a calculation is built into.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(crate) enum Place {
    Filter,
    Row,
    /// Rows again, when the results of the table's groups are known.
    Late,
    /// The groups of a scope.
    Group(usize),
    /// The cells of the table, or the rows of a detail.
    Table,
}

/// The groups of the table.
const TABLE: usize = 0;

/// A calculation that has been built.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
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
#[derive(Clone)]
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
    /// The places of columns by name, and of columns among the inputs.
    column_places: HashMap<String, usize>,
    input_places: HashMap<usize, usize>,
    table_places: HashMap<Built, usize>,
    lets: BTreeMap<String, Arc<Named>>,
    remembered: Mutex<Remembered>,
    open: Vec<String>,
    /// Conditions of the `if`s around what is built, each in the program of its place.
    guards: Vec<(Place, Operand, bool)>,
    /// The name that the columns' own table has, as it may stand before a dot.
    pub own_name: String,
    /// The tables whose columns are added to each row.
    pub lookups: Vec<Joined>,
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
    /// How many of the table's keys stand down the side; the others stand along the top.
    pub by_keys: usize,
    /// Whether rows are listed, each a cell of its own, instead of being grouped.
    pub listing: bool,
    /// Whether all inputs are kept for the rows that count, to be shown.
    pub traced: bool,
    /// Over the cells of one level of the table, or over the rows of a detail.
    pub table: Program,
    /// What the table program is given.
    pub table_inputs: Vec<TableInput>,
    /// For each of these that is a result of groups, the calculation that it is.
    pub table_calcs: Vec<Option<Arc<Written>>>,
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
        let (mut named, mut mistakes) = (BTreeMap::<String, Arc<Named>>::new(), Vec::new());
        let column_places: HashMap<String, usize> =
            columns.iter().enumerate().map(|(i, c)| (c.name.clone(), i)).collect();
        let mut remarks = Vec::new();
        for (name, written) in lets {
            if named.contains_key(name) {
                let message = format!("the name `{name}` is given twice");
                mistakes.push(Mistake::new(written, 0..written.text.len(), message));
            }
            if column_places.contains_key(name) {
                remarks.push(format!("the calculation `{name}` hides the column of that name"));
            }
            match parser::parse(written) {
                Ok(expr) => {
                    let it = Named { name: name.clone(), written: written.clone(), expr };
                    named.insert(name.clone(), Arc::new(it));
                }
                Err(mistake) => mistakes.push(mistake),
            }
        }
        if !mistakes.is_empty() {
            return Err(mistakes);
        }
        Ok(Resolver {
            columns,
            column_places,
            input_places: HashMap::new(),
            table_places: HashMap::new(),
            lets: named,
            remembered: Mutex::default(),
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
            by_keys: 0,
            listing: false,
            traced: false,
            table: Program::default(),
            table_inputs: Vec::new(),
            table_calcs: Vec::new(),
            scopes: vec![Scope::default()],
            remarks,
        })
    }

    fn remembered(&self) -> MutexGuard<'_, Remembered> {
        self.remembered.lock().unwrap_or_else(|poisoned| poisoned.into_inner())
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
        let plan = StatePlan {
            aggregate: Arc::new(Once(Arc::new(Count))),
            args: vec![built],
            condition: None,
        };
        self.scopes[TABLE].states.push(plan);
        Ok(())
    }

    /// Builds a value for each row.
    ///
    /// # Errors
    /// A mistake in it.
    pub fn row_value(&mut self, written: &Arc<Written>, expr: &Expr) -> Resolved<Built> {
        self.build(written, expr, Place::Row)
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
        self.traced
            || self.row.steps.iter().chain(&self.late.steps).any(|s| s.args.iter().any(is))
            || self
                .table_inputs
                .iter()
                .any(|i| matches!(i, TableInput::Row(built) if is(&built.operand)))
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
            if self.level(written, &expr)? >= Level::Group {
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
        if self.listing {
            return Ok((self.build(written, expr, Place::Table)?, text, None));
        }
        if self.key_of(written, expr)?.is_some() {
            let note = Some(format!("`{text}` is a key"));
            return Ok((self.build(written, expr, Place::Table)?, text, note));
        }
        if self.level(written, expr)? == Level::Row {
            return Ok((self.cell_value(written, expr)?, format!("sum of {text}"), None));
        }
        let built = self.build(written, expr, Place::Table)?;
        let note = self.note(written, expr);
        Ok((built, text, note))
    }

    /// Builds the condition that lines must meet to be shown.
    ///
    /// # Errors
    /// A mistake in it.
    pub fn keep(&mut self, written: &Arc<Written>) -> Resolved<Operand> {
        let expr = parser::parse(written)?;
        self.condition(written, &expr, Place::Table)
    }

    /// The key that a calculation is, if it is one.
    ///
    /// # Errors
    /// A mistake in it.
    pub fn key_of(&mut self, written: &Arc<Written>, expr: &Expr) -> Resolved<Option<Built>> {
        self.key_in(TABLE, written, expr)
    }

    pub(super) fn key_in(
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

    /// Whether a name is that of a named calculation.
    pub fn is_named(&self, name: &str) -> bool {
        self.lets.contains_key(name)
    }

    fn named(&self, name: &str) -> Option<Arc<Named>> {
        self.lets.get(name).cloned()
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
        // Names may use each other thousands deep.
        let result = stacker::maybe_grow(RED_ZONE, STACK_PIECE, || {
            inside(self, &named.written, &named.expr)
        });
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
                if let Some(known) = self.remembered().levels.get(name) {
                    return Ok(*known);
                }
                let level = self.enter(written, expr, &named, |it, w, e| it.level(w, e))?;
                self.remembered().levels.insert(name.clone(), level);
                Ok(level)
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
                Call::Table(_) => Ok(Level::Table),
                Call::Aggregate(_) if self.listing => Ok(Level::Table),
                Call::Aggregate(_) => {
                    let per = call.clauses.iter().any(|c| c.word == ClauseWord::Per);
                    let args = of(self, &call.args.iter().collect::<Vec<_>>())?;
                    let of_cells = call.clauses.iter().any(|c| c.word == ClauseWord::Within);
                    Ok(if !per && (args >= Level::Group || of_cells) {
                        Level::Table
                    } else {
                        Level::Group
                    })
                }
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
            } else if let Some(ours) = elsewhere::function(&call.name) {
                mistake.label = format!("write {ours}");
            } else if !near.is_empty() {
                mistake.label = format!("did you mean {}?", either(&near));
            }
            mistake
        })
    }

    // ---- building --------------------------------------------------------------------------

    fn program(&mut self, place: Place) -> &mut Program {
        match place {
            Place::Filter => &mut self.filter,
            Place::Row => &mut self.row,
            Place::Late => &mut self.late,
            Place::Table => &mut self.table,
            Place::Group(scope) => &mut self.scopes[scope].group,
        }
    }

    fn program_of(&self, place: Place) -> &Program {
        match place {
            Place::Filter => &self.filter,
            Place::Row => &self.row,
            Place::Late => &self.late,
            Place::Table => &self.table,
            Place::Group(scope) => &self.scopes[scope].group,
        }
    }

    fn step(&mut self, place: Place, text: &str, op: Op, args: &[Built], kind: Kind) -> Built {
        // A step can only look at its own program.
        let here = self.guards.iter().filter(|g| g.0 == place && matches!(op, Op::Divide));
        let guards = here.map(|g| (g.1, g.2)).collect();
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

    fn condition(
        &mut self,
        written: &Arc<Written>,
        expr: &Expr,
        place: Place,
    ) -> Resolved<Operand> {
        let built = self.build(written, expr, place)?;
        let built = self.fitted(place, built, Kind::Boolean);
        if built.kind != Kind::Boolean {
            let message = format!("expected a condition, found {}", built.kind.describe());
            return Err(Mistake::new(written, expr.span.clone(), message)
                .label("this is neither true nor false")
                .of_kinds()
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
        if place == Place::Table
            && let Some(input) = self.enter_table(written, expr)?
        {
            return Ok(input);
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
            Node::Missing => Ok(self.constant(place, text, Value::Missing, Kind::Nothing)),
            Node::Name { table, name } => {
                if table.is_none()
                    && let Some(named) = self.named(name)
                {
                    return self.named_built(written, expr, &named, place);
                }
                if let Place::Group(_) | Place::Table = place {
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
                let both = self.between(written, expr, [value, low, high], place)?;
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
                    Call::Table(word) => self.table_call(written, expr, call, *word, place),
                    Call::Aggregate(of) => self.aggregate_call(written, expr, call, of, place),
                }
            }
        }
    }

    /// Builds a named calculation, or finds it built before; not under an `if`, where its divisions count
    /// under the condition alone.
    fn named_built(
        &mut self,
        written: &Arc<Written>,
        expr: &Expr,
        named: &Named,
        place: Place,
    ) -> Resolved<Built> {
        let key = (named.name.clone(), place);
        let plain = self.guards.is_empty();
        if let (true, Some(known)) = (plain, self.remembered().built.get(&key)) {
            return Ok(*known);
        }
        let built = self.enter(written, expr, named, |it, w, e| it.build(w, e, place))?;
        if plain {
            let mut remembered = self.remembered();
            remembered.built.insert(key.clone(), built);
            remembered.order.push(key);
        }
        Ok(built)
    }

    /// Takes back what was remembered after a moment.
    fn forget(&mut self, moment: usize) {
        let mut remembered = self.remembered();
        let remembered = &mut *remembered;
        for key in remembered.order.drain(moment..) {
            remembered.built.remove(&key);
        }
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
                it.table.steps.len(),
                it.table_inputs.len(),
            ]
        };
        let before = lengths(self);
        let of_scope = |s: &Scope| [s.group.steps.len(), s.states.len(), s.aggregates.len()];
        let scopes: Vec<[usize; 3]> = self.scopes.iter().map(of_scope).collect();
        let remembered = self.remembered().order.len();
        let result = build(self);
        self.forget(remembered);
        self.filter.steps.truncate(before[0]);
        self.row.steps.truncate(before[1]);
        for input in self.inputs.drain(before[2]..) {
            self.input_places.remove(&input);
        }
        self.scopes.truncate(before[3]);
        self.late.steps.truncate(before[4]);
        self.late_inputs.truncate(before[5]);
        self.late_aggregates.truncate(before[6]);
        self.table.steps.truncate(before[7]);
        self.table_inputs.truncate(before[8]);
        self.table_calcs.truncate(before[8]);
        for (scope, [steps, states, aggregates]) in self.scopes.iter_mut().zip(scopes) {
            scope.group.steps.truncate(steps);
            scope.states.truncate(states);
            scope.aggregates.truncate(aggregates);
        }
        result
    }
}

/// Where less of the stack than this is left, a piece of this size is added.
const RED_ZONE: usize = 256 << 10;
const STACK_PIECE: usize = 4 << 20;

const OTHERWISE: &str = "worked out from all rows, not a sum of the lines";

/// What readers see above a calculation that has no heading of its own: a column's bare name, else
/// the calculation as written.
fn heading_of(written: &Written, expr: &Expr) -> String {
    match &expr.node {
        Node::Name { table: None, name } => name.clone(),
        _ => written.text[expr.span.clone()].split_whitespace().collect::<Vec<_>>().join(" "),
    }
}
