//! Syntax to the checked tree: names looked up, levels and kinds checked, before any row is read.
//!
//! A calculation is checked in a context: on each row, for groups of rows, or for the cells of the table. An
//! aggregate is the door from groups to rows: its arguments are checked on rows, or for the smaller groups that
//! `per` makes. Each part is checked once for each context, however often it is used, so that the time grows with
//! the length of a request; what comes out is nodes of the [`Tree`], which know nothing of the context.
//!
//! If you add a kind of syntax: `Checker::level` says at which level it has a value, and `check_node` what
//! becomes of it in each context. A mistake is a [`Diagnostic`] at the part that has to be changed, with a way out that
//! can be typed; where it hangs on what kind a column is, say so ([`Diagnostic::of_kinds`]): the kind may be a
//! guess that more rows change.
//!
//! ```
//! # use oeuvre_columns::{InMemory, Kind, Source};
//! # let rows = InMemory::from_texts(&[("fare", Kind::Number { scale: 2 })], &[&["12.50"]])?;
//! use oeuvre_core::{Plan, Request};
//!
//! let error = Plan::new(&Request::of(&[], &["sum(fare) + fare"]), rows.columns()).err().unwrap();
//! assert_eq!(error.to_string(), "`fare` has a value on each row, and a group has many rows");
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

mod aggregates;
mod calls;
mod columns;
mod lookups;
mod operators;
mod ratios;
mod references;
mod table;
mod tree;

use crate::window::{Reference, Window};
pub use lookups::Joined;
pub use tree::{AggregateNode, Id, Level, Node as TreeNode, Tree, Typed};

use super::ast::ClauseWord;
use super::ast::{Call as CallNode, Expr, Node};
use super::elsewhere;
use super::functions::{self, Call, Function};
use super::parser;
use crate::aggregate::sums::Sum;
use crate::error::{Diagnostic, SourceText, either, nearest};
use crate::request::Show;
use crate::rows::program::Op;
use crate::same::Alike;
use crate::spelling::Spellings;
use oeuvre_columns::value::{Kind, Value};
use oeuvre_columns::{ColumnInfo, Note, Topic};
use std::collections::{BTreeMap, HashMap};
use std::hash::{Hash, Hasher};
use std::mem::Discriminant;
use std::sync::Arc;

/// A named calculation.
#[derive(Debug)]
pub struct Named {
    /// Its name.
    pub name: String,
    /// The text that it stands in.
    pub written: Arc<SourceText>,
    /// The calculation.
    pub expr: Expr,
}

/// Where a calculation is checked.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(crate) enum Context {
    /// On each row, before any is left out.
    Filter,
    /// On each row that counts.
    Row,
    /// On each row again, when the results of the table's groups are known.
    SecondPass,
    /// For groups of rows: those of the table, or finer ones inside `per`.
    Groups {
        /// Which groups.
        of: usize,
        /// Whether that is inside a second-pass condition.
        second_pass: bool,
    },
}

/// The groups of the table, whose cells may look at each other.
const TABLE: usize = 0;

/// For the cells of the table.
const CELLS: Context = Context::Groups { of: TABLE, second_pass: false };

/// A key that rows are grouped by.
#[derive(Clone, Debug)]
pub struct Key {
    /// What readers see.
    pub heading: String,
    /// Its values on the rows.
    pub value: Typed,
}

/// A part of a text, told apart by where it stands.
#[derive(Clone, Debug)]
pub(crate) struct Part {
    written: Arc<SourceText>,
    start: usize,
    end: usize,
    node: Discriminant<Node>,
}

impl Part {
    pub(crate) fn of(written: &Arc<SourceText>, expr: &Expr) -> Part {
        let (start, end) = (expr.span.start, expr.span.end);
        Part { written: written.clone(), start, end, node: std::mem::discriminant(&expr.node) }
    }
}

impl PartialEq for Part {
    fn eq(&self, other: &Part) -> bool {
        Arc::ptr_eq(&self.written, &other.written)
            && (self.start, self.end, self.node) == (other.start, other.end, other.node)
    }
}

impl Eq for Part {}

impl Hash for Part {
    fn hash<H: Hasher>(&self, state: &mut H) {
        (Arc::as_ptr(&self.written), self.start, self.end, self.node).hash(state);
    }
}

/// A part that is being checked: the text it stands in, its syntax, and the context.
#[derive(Clone, Copy)]
pub(crate) struct At<'e> {
    pub(crate) written: &'e Arc<SourceText>,
    pub(crate) expr: &'e Expr,
    pub(crate) context: Context,
}

impl<'e> At<'e> {
    /// Another part of the same text in the same context.
    pub(crate) fn on(self, expr: &'e Expr) -> At<'e> {
        At { expr, ..self }
    }

    /// The same part in another context.
    pub(crate) fn at(self, context: Context) -> At<'e> {
        At { context, ..self }
    }

    /// The part as written.
    pub(crate) fn text(self) -> &'e str {
        &self.written.text[self.expr.span.clone()]
    }

    /// The text that it stands in as a condition on lines, as a shell takes it.
    fn as_lines_where(self) -> String {
        let text = self.written.text.replace('\'', r"'\''");
        format!("a condition on the lines of the table: --lines-where '{text}'")
    }

    /// A mistake in it.
    pub(crate) fn mistake(self, message: impl Into<String>) -> Diagnostic {
        Diagnostic::new(self.written, self.expr.span.clone(), message)
    }
}

/// What is known of the syntax: the node of each part that was checked, and the window that each word of the
/// table was made into.
#[derive(Default)]
pub struct CheckedParts {
    parts: HashMap<(Part, Context), Typed>,
    levels: HashMap<Part, Level>,
    windows: HashMap<Part, Id>,
}

impl CheckedParts {
    /// Forgets what is known of a part and of those in it.
    pub(crate) fn forget(&mut self, at: At<'_>) {
        let span = &at.expr.span;
        let inside = |part: &Part| {
            Arc::ptr_eq(&part.written, at.written)
                && span.start <= part.start
                && part.end <= span.end
        };
        self.parts.retain(|(part, _), _| !inside(part));
        self.levels.retain(|part, _| !inside(part));
    }

    /// The window that a call was made into, where it is one that looks at other cells.
    pub fn window(&self, written: &Arc<SourceText>, expr: &Expr) -> Option<Id> {
        self.windows.get(&Part::of(written, expr)).copied()
    }
}

/// Checks calculations, and makes nodes of them.
pub struct Checker {
    columns: Vec<ColumnInfo>,
    column_places: HashMap<String, usize>,
    /// The named calculations.
    pub lets: BTreeMap<String, Arc<Named>>,
    /// Headings of results and keys, which are names where nothing else has the name.
    headings: BTreeMap<String, Arc<Named>>,
    /// The names that are being checked.
    open: Vec<String>,
    /// The name that the columns' own table has, as it may stand before a dot.
    pub own_name: String,
    /// The tables whose columns are added to each row.
    pub lookups: Vec<Joined>,
    /// All nodes.
    pub tree: Tree,
    /// What is known of the syntax.
    pub known: CheckedParts,
    /// The columns that are needed, in the order in which they were met.
    pub inputs: Vec<usize>,
    /// What the table's rows are grouped by.
    pub keys: Vec<Key>,
    /// How many of the table's keys stand down the side; the others stand along the top.
    pub by_keys: usize,
    /// Whether rows are listed, each a cell of its own, instead of being grouped.
    pub listing: bool,
    /// The nodes that groups are made by: those of the table first, then those of `per`.
    groupings: Vec<Vec<Id>>,
    /// What readers should be told, such as a name that hides a column.
    pub notes: Vec<Note>,
    /// The one spelling of the labels of columns.
    pub spellings: Option<Spellings>,
}

type Checked<T> = Result<T, Diagnostic>;

/// A result as it was asked for.
pub struct CheckedResult {
    /// Its values.
    pub value: Typed,
    /// The heading it suggests.
    pub heading: String,
}

impl Checker {
    /// A checker over some columns. Named calculations may use each other in any order.
    ///
    /// # Errors
    /// A named calculation that cannot be read, or a name given twice.
    pub fn new(
        columns: Vec<ColumnInfo>,
        lets: &[(String, Arc<SourceText>)],
    ) -> Result<Checker, Vec<Diagnostic>> {
        let (mut named, mut mistakes) = (BTreeMap::<String, Arc<Named>>::new(), Vec::new());
        let column_places: HashMap<String, usize> =
            columns.iter().enumerate().map(|(i, c)| (c.name.clone(), i)).collect();
        let mut notes = Vec::new();
        for (name, written) in lets {
            if named.contains_key(name) {
                let message = format!("the name `{name}` is given twice");
                mistakes.push(Diagnostic::new(written, 0..written.text.len(), message));
            }
            if column_places.contains_key(name) {
                let text = format!("the calculation `{name}` hides the column of that name");
                notes.push(Note::new(Topic::Request, text));
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
        Ok(Checker {
            columns,
            column_places,
            lets: named,
            headings: BTreeMap::new(),
            open: Vec::new(),
            own_name: String::new(),
            lookups: Vec::new(),
            tree: Tree::default(),
            known: CheckedParts::default(),
            inputs: Vec::new(),
            keys: Vec::new(),
            by_keys: 0,
            listing: false,
            groupings: vec![Vec::new()],
            notes,
            spellings: None,
        })
    }

    /// Takes the heading of a calculation for a name of it, where nothing else is called so.
    pub(crate) fn add_heading(&mut self, heading: &str, written: &Arc<SourceText>) {
        if let Ok([expr]) = parser::parse_list(written).as_deref() {
            let (name, written) = (heading.to_owned(), written.clone());
            let named = Arc::new(Named { name: name.clone(), written, expr: expr.clone() });
            self.headings.entry(name).or_insert(named);
        }
    }

    /// The calculation that a heading names, unless a column hides it.
    fn heading_named(&self, name: &str) -> Option<&Arc<Named>> {
        let of_lookup =
            |l: &Joined| l.lookup.table.columns.iter().any(|column| column.name == name);
        let hidden = self.column_places.contains_key(name) || self.lookups.iter().any(of_lookup);
        self.headings.get(name).filter(|_| !hidden)
    }

    /// All names of calculations, headings among them.
    pub(crate) fn all_names(&self) -> BTreeMap<String, Arc<Named>> {
        let mut names = self.lets.clone();
        for name in self.headings.keys().filter(|name| !self.lets.contains_key(*name)) {
            names.extend(self.heading_named(name).map(|named| (name.clone(), named.clone())));
        }
        names
    }

    /// The columns of the rows.
    pub fn columns(&self) -> &[ColumnInfo] {
        &self.columns
    }

    /// A value on each row.
    ///
    /// # Errors
    /// A mistake in it.
    pub fn row_value(&mut self, written: &Arc<SourceText>, expr: &Expr) -> Checked<Typed> {
        self.check(At { written, expr, context: Context::Row })
    }

    /// A condition that rows must meet.
    ///
    /// # Errors
    /// A mistake in it.
    pub fn filter(&mut self, written: &Arc<SourceText>) -> Checked<Typed> {
        let expr = parser::parse(written)?;
        self.condition(At { written, expr: &expr, context: Context::Filter })
    }

    /// One condition that holds where all of some conditions do; `None` for none.
    pub fn all(&mut self, conditions: &[Typed]) -> Option<Typed> {
        let (first, rest) = conditions.split_first()?;
        let and =
            |all, next: &Typed| self.tree.apply("--where", Op::And, &[all, *next], Kind::Boolean);
        Some(rest.iter().fold(*first, and))
    }

    /// Adds the keys of a list; all keys must be added before the first result is checked.
    ///
    /// # Errors
    /// A mistake in one of them.
    pub fn add_keys(&mut self, written: &Arc<SourceText>) -> Checked<()> {
        for Show { heading, calc } in Show::parse_all(&written.origin, &written.text) {
            match heading {
                // Where the text is only a calculation, mistakes point into it as it is.
                None => self.add_keys_called(None, written)?,
                Some(heading) => self.add_keys_called(Some(&heading), &calc)?,
            }
        }
        Ok(())
    }

    /// Adds the keys of a list, or one that has a heading.
    fn add_keys_called(&mut self, heading: Option<&str>, written: &Arc<SourceText>) -> Checked<()> {
        let list = parser::parse_list(written)?;
        if let (Some(heading), Some(second)) = (heading, list.get(1)) {
            let message = "one heading for several keys";
            return Err(Diagnostic::new(written, second.span.clone(), message)
                .label(format!("`{heading}:` names one; give each its own --by")));
        }
        for expr in list {
            let at = At { written, expr: &expr, context: Context::Row };
            if self.level(at)? >= Level::Group {
                return Err(at
                    .mistake("rows cannot be grouped by a result")
                    .label("this needs the groups to be made already")
                    .help("group by a column or by a calculation on each row, such as month(sailed_on)"));
            }
            let value = self.check(at)?;
            if self.keys.iter().any(|k| k.value.id == value.id) {
                return Err(at.mistake(format!("the key `{}` is given twice", at.text())));
            }
            let heading = heading.map_or_else(|| heading_of(written, &expr), str::to_owned);
            self.keys.push(Key { heading, value });
            self.groupings[TABLE].push(value.id);
        }
        Ok(())
    }

    /// A result for each group. A calculation on rows that gives a number means its sum.
    ///
    /// # Errors
    /// A mistake in it.
    pub fn result(&mut self, written: &Arc<SourceText>, expr: &Expr) -> Checked<CheckedResult> {
        let at = At { written, expr, context: CELLS };
        let heading = heading_of(written, expr);
        if !self.listing && self.key_of(written, expr)?.is_none() && self.level(at)? == Level::Row {
            let heading = format!("sum of {heading}");
            return Ok(CheckedResult { value: self.cell_value(at)?, heading });
        }
        Ok(CheckedResult { value: self.check(at)?, heading })
    }

    /// A condition that lines must meet to be shown.
    ///
    /// # Errors
    /// A mistake in it.
    pub fn lines_where(&mut self, written: &Arc<SourceText>) -> Checked<Typed> {
        let expr = parser::parse(written)?;
        self.condition(At { written, expr: &expr, context: CELLS })
    }

    /// The key that a calculation is, if it is one.
    ///
    /// # Errors
    /// A mistake in it.
    pub fn key_of(&mut self, written: &Arc<SourceText>, expr: &Expr) -> Checked<Option<usize>> {
        let key = self.key_in(TABLE, At { written, expr, context: CELLS })?;
        Ok(key.and_then(|key| self.groupings[TABLE].iter().position(|&k| k == key.id)))
    }

    /// A calculation on rows that some groups are made by.
    fn key_in(&mut self, grouping: usize, at: At<'_>) -> Checked<Option<Typed>> {
        if self.groupings[grouping].is_empty() || self.level(at)? != Level::Row {
            return Ok(None);
        }
        let value = self.check(at.at(Context::Row))?;
        Ok(self.groupings[grouping].contains(&value.id).then_some(value))
    }

    /// Whether a name is that of a named calculation.
    pub fn is_named(&self, name: &str) -> bool {
        self.lets.contains_key(name)
    }

    /// The named calculation that a name stands for.
    pub(crate) fn named(&self, expr: &Expr) -> Option<Arc<Named>> {
        match &expr.node {
            Node::Name { table: None, name } => {
                self.lets.get(name).or_else(|| self.heading_named(name)).cloned()
            }
            _ => None,
        }
    }

    /// Goes into a named calculation, unless it is being checked already.
    fn enter<T>(
        &mut self,
        at: At<'_>,
        named: &Named,
        inside: impl FnOnce(&mut Self, At<'_>) -> Checked<T>,
    ) -> Checked<T> {
        if let Some(start) = self.open.iter().position(|n| *n == named.name) {
            let mut circle = self.open[start..].to_vec();
            circle.push(named.name.clone());
            let it = at.mistake("these calculations go round in a circle");
            return Err(it.label(circle.join(" → ")));
        }
        self.open.push(named.name.clone());
        // Names may use each other thousands deep.
        let result = crate::stack::with_room(|| {
            inside(self, At { written: &named.written, expr: &named.expr, context: at.context })
        });
        self.open.pop();
        result
    }

    /// The level of a calculation.
    ///
    /// # Errors
    /// An unknown name or function.
    pub(crate) fn level(&mut self, at: At<'_>) -> Checked<Level> {
        let part = Part::of(at.written, at.expr);
        if let Some(known) = self.known.levels.get(&part) {
            return Ok(*known);
        }
        let level = match &at.expr.node {
            Node::Name { .. } => match self.named(at.expr) {
                Some(named) => self.enter(at, &named, |it, at| it.level(at))?,
                None => Level::Row,
            },
            Node::Call(call) => match self.function(at, call)?.call {
                Call::Table(_) => Level::Table,
                Call::Aggregate(_) if self.listing => Level::Table,
                Call::Aggregate(_) => {
                    let clause = |word| call.clauses.iter().any(|c| c.word == word);
                    let of_cells =
                        self.highest(at, &call.args)? >= Level::Group || clause(ClauseWord::Within);
                    match !clause(ClauseWord::Per) && of_cells {
                        true => Level::Table,
                        false => Level::Group,
                    }
                }
                Call::Row(_) => self.highest(at, &call.args)?,
            },
            _ => self.highest(at, at.expr.parts())?,
        };
        self.known.levels.insert(part, level);
        Ok(level)
    }

    /// The level of a calculation of the request.
    ///
    /// # Errors
    /// An unknown name or function.
    pub(crate) fn level_of(&mut self, written: &Arc<SourceText>, expr: &Expr) -> Checked<Level> {
        self.level(At { written, expr, context: Context::Row })
    }

    /// The highest level of some calculations.
    fn highest<'e>(
        &mut self,
        at: At<'e>,
        parts: impl IntoIterator<Item = &'e Expr>,
    ) -> Checked<Level> {
        let mut highest = Level::Constant;
        for part in parts {
            highest = highest.max(self.level(at.on(part))?);
        }
        Ok(highest)
    }

    fn function(&self, at: At<'_>, call: &CallNode) -> Checked<&'static Function> {
        functions::find(&call.name).ok_or_else(|| {
            let message = format!("there is no function `{}`", call.name);
            let mut mistake = Diagnostic::new(at.written, call.name_span.clone(), message);
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

    // ---- checking --------------------------------------------------------------------------

    fn condition(&mut self, at: At<'_>) -> Checked<Typed> {
        let value = self.check(at)?;
        let value = self.fitted(value, Kind::Boolean);
        if value.kind != Kind::Boolean {
            return Err(at
                .mistake(format!("expected a condition, found {}", value.kind.describe()))
                .label("this is neither true nor false")
                .of_kinds()
                .help("compare it with something: =, <>, <, >, in (…), is missing"));
        }
        Ok(value)
    }

    /// Checks a calculation, or finds it checked before.
    fn check(&mut self, at: At<'_>) -> Checked<Typed> {
        let part = (Part::of(at.written, at.expr), at.context);
        if let Some(known) = self.known.parts.get(&part) {
            return Ok(*known);
        }
        let value = match self.entered(at)? {
            Some(value) => value,
            None => self.check_node(at)?,
        };
        let is_name = matches!(at.expr.node, Node::Name { .. });
        self.tree.wrote(value.id, at.text(), is_name);
        self.known.parts.insert(part, value);
        Ok(value)
    }

    /// What a calculation on rows is to groups: a key of theirs, and in a detail any value of a row.
    fn entered(&mut self, at: At<'_>) -> Checked<Option<Typed>> {
        let Context::Groups { of, .. } = at.context else { return Ok(None) };
        if let Some(key) = self.key_in(of, at)? {
            return Ok(Some(key));
        }
        if self.listing && self.level(at)? == Level::Row {
            return self.check(at.at(Context::Row)).map(Some);
        }
        Ok(None)
    }

    fn check_node(&mut self, at: At<'_>) -> Checked<Typed> {
        let text = at.text();
        match &at.expr.node {
            Node::Number(n) => {
                let n = n.trimmed();
                Ok(self.tree.constant(text, Value::Number(n), Kind::Number { scale: n.scale }))
            }
            Node::Text(t) => {
                Ok(self.tree.constant(text, Value::Text(Arc::from(t.as_str())), Kind::Text))
            }
            Node::Boolean(b) => Ok(self.tree.constant(text, Value::Boolean(*b), Kind::Boolean)),
            Node::Missing => Ok(self.tree.constant(text, Value::Missing, Kind::Nothing)),
            Node::Name { table, name } => {
                if let Some(named) = self.named(at.expr) {
                    return self.enter(at, &named, |it, at| it.check(at));
                }
                let value = self.column(at, table.as_deref(), name)?;
                match at.context {
                    Context::Groups { .. } => Err(self.row_value_outside(at, value.kind)),
                    _ => Ok(value),
                }
            }
            Node::Negate(a) => {
                let a = self.number(at.on(a))?;
                Ok(self.tree.apply(text, Op::Negate, &[a], a.kind))
            }
            Node::Not(a) => {
                let a = self.condition(at.on(a))?;
                Ok(self.tree.apply(text, Op::Not, &[a], Kind::Boolean))
            }
            Node::Binary(operator, a, b) => self.binary(at, *operator, a, b),
            Node::In { value, list, negated } => self.in_list(at, value, list, *negated),
            Node::Between { value, low, high, negated } => {
                let both = self.between(at, [value, low, high])?;
                Ok(self.negated(at, both, *negated))
            }
            Node::IsMissing { value, negated } => {
                let value = self.check(at.on(value))?;
                let is = self.tree.apply(text, Op::IsMissing, &[value], Kind::Boolean);
                Ok(self.negated(at, is, *negated))
            }
            Node::During { value, period } => self.during(at, value, period),
            Node::Call(call) => {
                let function = self.function(at, call)?;
                self.check_arguments(at, call, function)?;
                match &function.call {
                    Call::Row(row) => self.row_call(at, call, row),
                    Call::Table(word) => self.table_call(at, call, word),
                    Call::Aggregate(of) => self.aggregate_call(at, call, of),
                }
            }
        }
    }

    /// The kinds of some values.
    fn kinds(values: &[Typed]) -> Vec<Kind> {
        values.iter().map(|v| v.kind).collect()
    }

    /// The exact sum of a value of each row.
    fn sum_of(&mut self, at: At<'_>, value: Typed) -> Typed {
        let sum = AggregateNode {
            aggregate: Alike(Arc::new(Sum)),
            args: vec![value],
            condition: None,
            second_pass: None,
            per: Vec::new(),
        };
        let sum = self.tree.add(TreeNode::Aggregate(sum), value.kind, at.text());
        self.tree.wrote(sum.id, at.text(), false);
        sum
    }
}

/// What readers see above a calculation that has no heading of its own: a column's bare name, else
/// the calculation as written.
fn heading_of(written: &SourceText, expr: &Expr) -> String {
    match &expr.node {
        Node::Name { table: None, name } => name.clone(),
        _ => written.text[expr.span.clone()].split_whitespace().collect::<Vec<_>>().join(" "),
    }
}

#[cfg(test)]
mod tests {
    use crate::testing::{refusal, rows, text, value};
    use crate::{Plan, Request};
    use oeuvre_columns::Source;
    use rstest::rstest;

    const ROWS: &str = "route fare:2 sailed_on:date\n";

    fn with_lets(lets: &[(&str, &str)], show: &str) -> Request {
        let lets = lets.iter().map(|(name, calc)| ((*name).to_owned(), text(calc))).collect();
        Request { lets, ..Request::of(&["route"], &[show]) }
    }

    #[rstest]
    // A name is of the level at which it is used; rows are added up.
    #[case(&[("double", "2 * fare")], "double", "sum(2 * fare)")]
    #[case(&[("double", "2 * fare")], "mean(double)", "mean(2 * fare)")]
    #[case(&[("a", "b"), ("b", "fare")], "sum(a + b)", "sum(fare + fare)")]
    #[case(&[("m", "month(sailed_on)")], "count(distinct m)", "count(distinct month(sailed_on))")]
    fn a_name_means_what_it_was_given(
        #[case] lets: &[(&str, &str)],
        #[case] show: &str,
        #[case] same: &str,
    ) {
        let data = rows(&format!("{ROWS}a|1.50|2025-01-01\nb|2.00|2025-02-01\na||2025-02-03\n"));
        let (grid, _) = crate::testing::answer(&data, &with_lets(lets, show)).unwrap();
        assert_eq!(crate::testing::shown(&grid), crate::testing::table(&data, &["route"], &[same]));
    }

    #[rstest]
    #[case(&[("a", "b + 1"), ("b", "a")], "a", "a → b → a")]
    #[case(&[("a", "fare +")], "count()", "expected")]
    #[case(&[("a", "fair")], "sum(a)", "there is no column `fair`")]
    #[case(&[], "fare + sum(fare)", "`fare` has a value on each row, and a group has many rows")]
    #[case(&[("a", "mean(fare)")], "sum(a * fare)", "`fare` has a value on each row")]
    fn a_mistake_in_a_name_is_told_where_it_stands(
        #[case] lets: &[(&str, &str)],
        #[case] show: &str,
        #[case] said: &str,
    ) {
        let told = refusal(&rows(ROWS), &with_lets(lets, show));
        assert!(told.contains(said), "{told}");
    }

    #[test]
    fn equal_parts_are_one_node_however_they_are_written() {
        let nodes = |show: &[&str]| {
            let plan = Plan::new(&Request::of(&["route"], show), rows(ROWS).columns()).unwrap();
            plan.calculations.tree.len()
        };
        let one = nodes(&["sum(fare * 2)"]);
        assert_eq!(nodes(&["sum(fare * 2)", "b: sum( fare*2 )", "c: SUM(\"fare\" * 2.0 )"]), one);
        assert!(nodes(&["sum(fare * 2)", "sum(fare * 3)"]) > one);
    }

    #[test]
    fn a_constant_is_the_same_at_every_level() {
        let data = rows(&format!("{ROWS}a|1.50|2025-01-01\nb|2.00|2025-02-01\n"));
        assert_eq!(value(&data, "1 + 1"), "2");
        assert_eq!(value(&data, "sum(1 + 1)"), "4");
    }
}
