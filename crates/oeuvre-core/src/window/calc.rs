//! What may be worked out across cells.

use crate::aggregate::AggregateRef;
use oeuvre_columns::value::Kind;
use oeuvre_columns::value::calendar::Unit;
use std::sync::Arc;

/// What a window works out.
#[derive(Clone, PartialEq, Eq, Hash)]
pub enum Calc {
    /// The place among the cells compared.
    Rank(Ties),
    /// The bucket, of so many.
    Tile(u32),
    /// The value so many steps back; ahead where negative.
    Step(i64),
    /// From the start of the walk to here.
    Running(Taking),
    /// Over the last so many steps.
    Moving {
        /// How many, this one included.
        steps: u32,
        /// What is made of them.
        taking: Taking,
        /// How many values are enough; all of them unless said. From 1 down a count of none is 0.
        at_least: Option<u32>,
    },
    /// The value at the end of the walk, or at its start.
    End {
        /// The end.
        last: bool,
    },
    /// The result of groups that is taken, worked out at the keys of `within` alone.
    Total,
    /// An aggregate over the cells.
    Aggregate(AggregateRef),
}

/// What is made of several values on a walk.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Taking {
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

impl Taking {
    /// All of them with their names.
    pub const ALL: [(&'static str, Taking); 5] = [
        ("sum", Taking::Sum),
        ("mean", Taking::Mean),
        ("min", Taking::Min),
        ("max", Taking::Max),
        ("count", Taking::Count),
    ];

    /// Its name.
    pub fn name(self) -> &'static str {
        Taking::ALL.iter().find(|a| a.1 == self).map_or("", |a| a.0)
    }
}

/// What equal values do in a rank.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Ties {
    /// They share a place, and as many places are left out after it: 1 2 2 4.
    Gap,
    /// They share a place: 1 2 2 3.
    Close,
    /// They have places of their own, in the order of the cells: 1 2 3 4.
    Apart,
    /// They share the mean of their places: 1 2.5 2.5 4.
    Mean,
}

impl Ties {
    /// All of them with their names.
    pub const ALL: [(&'static str, Ties); 4] =
        [("gap", Ties::Gap), ("close", Ties::Close), ("apart", Ties::Apart), ("mean", Ties::Mean)];
}

/// A calculation across cells, over values `V`: nodes of the tree, or columns of the table program.
#[derive(Clone, PartialEq, Eq, Hash)]
pub struct Window<V> {
    /// What is worked out.
    pub calc: Calc,
    /// What it takes.
    pub args: Vec<V>,
    /// Which cells count.
    pub condition: Option<V>,
    /// What is walked; in a summary keys, in a detail values of the rows. Empty for the default of
    /// words that compare (the siblings), and in a detail for the order of the file.
    pub along: Vec<Reference<V>>,
    /// What must be shared; `None` where nothing was said.
    pub within: Option<Vec<Reference<V>>>,
    /// `desc` (true) or `asc`.
    pub descending: Option<bool>,
    /// What it gives.
    pub kind: Kind,
    /// The calculation as written.
    pub text: Arc<str>,
    /// What it takes, as written.
    pub of: Arc<str>,
}

impl<V: Copy> Window<V> {
    /// The same over other values.
    pub(crate) fn map<W>(&self, mut to: impl FnMut(V) -> W) -> Window<W> {
        let args = self.args.iter().map(|&v| to(v)).collect();
        let condition = self.condition.map(&mut to);
        let mut references = |all: &[Reference<V>]| -> Vec<Reference<W>> {
            all.iter().map(|r| r.map(&mut to)).collect()
        };
        Window {
            calc: self.calc.clone(),
            args,
            condition,
            along: references(&self.along),
            within: self.within.as_deref().map(references),
            descending: self.descending,
            kind: self.kind,
            text: self.text.clone(),
            of: self.of.clone(),
        }
    }
}

/// What is walked or shared.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Reference<V> {
    /// A key of the table.
    Key(usize),
    /// The longer period that the period of a key lies in.
    Period {
        /// The key.
        key: usize,
        /// The unit of the longer period.
        unit: Unit,
    },
    /// A value of each row.
    Value(V),
}

impl<V: Copy> Reference<V> {
    fn map<W>(self, to: &mut impl FnMut(V) -> W) -> Reference<W> {
        match self {
            Reference::Key(key) => Reference::Key(key),
            Reference::Period { key, unit } => Reference::Period { key, unit },
            Reference::Value(value) => Reference::Value(to(value)),
        }
    }
}
