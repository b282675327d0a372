//! What a calculation across cells is, once it is built.

use super::Built;
use crate::aggregate::Aggregate;
use crate::rows::program::Operand;
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
    /// What is walked; in a summary keys, in a detail values of the rows. Empty for the default of
    /// words that compare (the siblings), and in a detail for the order of the file.
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
    /// The same result of the groups, at the keys of `within` alone.
    Total(Built),
    /// An aggregate over the cells.
    Aggregate(Arc<dyn Aggregate>),
}

/// What is made of several values on a walk.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
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
}

/// What equal values do in a rank.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
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
