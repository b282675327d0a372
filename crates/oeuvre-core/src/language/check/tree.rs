//! The checked tree: what each part of a calculation is, once for all parts that are equal.
//!
//! A node says what is worked out and from which nodes, never where: the same node may be worked out for
//! rows, for groups or for the cells of the table, which is the plan's business. Nodes are told apart by what
//! they are (`Eq` and `Hash`), and keep the words in which they were written first, for messages.

use crate::aggregate::AggregateRef;
use crate::rows::program::Op;
use crate::window::Window;
use indexmap::IndexMap;
use indexmap::map::Entry;
use oeuvre_columns::value::{Kind, Value};
use std::sync::Arc;

/// A node of the tree.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Id(u32);

/// A node with the kind of its values.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Typed {
    /// The node.
    pub id: Id,
    /// What its values are.
    pub kind: Kind,
}

/// The levels of a calculation.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
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

/// What a node works out.
#[derive(Clone, PartialEq, Eq, Hash)]
pub enum Node {
    /// A column of the rows, by its place in the source.
    Column(usize),
    /// An operation on values that stand beside each other.
    Apply {
        /// What is done.
        op: Op,
        /// To what.
        args: Vec<Typed>,
    },
    /// An aggregate over rows, or over the groups that `per` makes.
    Aggregate(AggregateNode),
    /// Worked out across cells.
    Window(Window<Typed>),
}

/// An aggregate with what it takes.
#[derive(Clone, PartialEq, Eq, Hash)]
pub struct AggregateNode {
    /// The aggregate.
    pub aggregate: AggregateRef,
    /// Its arguments, on rows; with `per`, for the groups.
    pub args: Vec<Typed>,
    /// Which of these count.
    pub condition: Option<Typed>,
    /// The same where the condition holds a result of the group.
    pub second_pass: Option<Typed>,
    /// What rows are grouped by first, beside the keys around.
    pub per: Vec<Typed>,
}

/// What is known of a node beside what it is.
struct Facts {
    level: Level,
    text: Arc<str>,
    /// The calculation that it is, where one is written so, by its name where it has one.
    calc: Option<Calc>,
}

/// A calculation as written.
struct Calc {
    text: Arc<str>,
    is_name: bool,
}

/// All nodes of a request.
#[derive(Default)]
pub struct Tree {
    nodes: IndexMap<(Node, Kind), Facts>,
}

impl Tree {
    /// Adds a node, or finds an equal one; `text` is what is said of it in messages.
    pub(crate) fn add(&mut self, node: Node, kind: Kind, text: &str) -> Typed {
        let level = self.level_of(&node);
        let at = match self.nodes.entry((node, kind)) {
            Entry::Occupied(known) => known.index(),
            Entry::Vacant(new) => {
                let at = new.index();
                new.insert(Facts { level, text: Arc::from(text), calc: None });
                at
            }
        };
        Typed { id: Id(at as u32), kind }
    }

    /// Adds an operation.
    pub(crate) fn apply(&mut self, text: &str, op: Op, args: &[Typed], kind: Kind) -> Typed {
        self.add(Node::Apply { op, args: args.to_vec() }, kind, text)
    }

    /// Adds a value that is the same everywhere.
    pub(crate) fn constant(&mut self, text: &str, value: Value, kind: Kind) -> Typed {
        self.apply(text, Op::Constant(value), &[], kind)
    }

    fn level_of(&self, node: &Node) -> Level {
        match node {
            Node::Column(_) => Level::Row,
            Node::Apply { op: Op::FindRow(_), .. } => Level::Row,
            Node::Apply { args, .. } => {
                args.iter().map(|a| self.level(a.id)).max().unwrap_or(Level::Constant)
            }
            Node::Aggregate(_) => Level::Group,
            Node::Window(_) => Level::Table,
        }
    }

    /// How many nodes there are.
    pub(crate) fn len(&self) -> usize {
        self.nodes.len()
    }

    /// What a node works out.
    pub fn node(&self, id: Id) -> &Node {
        match self.nodes.get_index(id.0 as usize) {
            Some(((node, _), _)) => node,
            None => unreachable!("ids are of their own tree"),
        }
    }

    /// At which level a node has a value.
    pub fn level(&self, id: Id) -> Level {
        self.nodes[id.0 as usize].level
    }

    /// Says that a node is a calculation, or a part of one, that stands in a text.
    pub(crate) fn wrote(&mut self, id: Id, text: &str, is_name: bool) {
        let calc = &mut self.nodes[id.0 as usize].calc;
        if calc.as_ref().is_none_or(|known| is_name && !known.is_name) {
            *calc = Some(Calc { text: Arc::from(text.trim()), is_name });
        }
    }

    /// The calculation that a node is; `None` where it is only a part of how one is worked out.
    pub(crate) fn calc(&self, id: Id) -> Option<&Arc<str>> {
        self.nodes[id.0 as usize].calc.as_ref().map(|c| &c.text)
    }

    /// A node in the words in which it was written first.
    pub fn text(&self, id: Id) -> &Arc<str> {
        &self.nodes[id.0 as usize].text
    }
}
