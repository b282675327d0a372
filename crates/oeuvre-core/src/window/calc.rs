//! What may be worked out across cells, and what a function across cells is.
//!
//! The contracts are [`Compares`] and [`Walks`]; a [`Window`] is one of them with what it takes and which cells
//! it looks at, over nodes of the checked tree first and over columns of the table program later.

use super::order::Ordinals;
use super::partition::Partitions;
use super::places::Places;
use crate::aggregate::AggregateRef;
use crate::same::{Alike, Same};
use oeuvre_columns::column::{Column, Data};
use oeuvre_columns::value::calendar::Unit;
use oeuvre_columns::value::{Kind, Overflow, Value};
use std::borrow::Cow;
use std::collections::BTreeSet;
use std::sync::Arc;

/// What a window works out.
#[derive(Clone, PartialEq, Eq, Hash)]
pub enum Calc {
    /// A place among cells that are compared.
    Compared(Alike<dyn Compares>),
    /// Something on a walk from cell to cell.
    Walked(Alike<dyn Walks>),
    /// The result of groups that is taken, worked out at the keys of `within` alone.
    Total,
    /// An aggregate over the cells.
    Aggregate(AggregateRef),
}

impl Calc {
    /// A function that compares.
    pub(crate) fn compared(function: impl Compares + 'static) -> Calc {
        Calc::Compared(Alike(Arc::new(function)))
    }

    /// A function that walks.
    pub(crate) fn walked(function: impl Walks + 'static) -> Calc {
        Calc::Walked(Alike(Arc::new(function)))
    }
}

/// A function that compares cells by their values.
pub trait Compares: Same + Send + Sync {
    /// The kind of what it gives for values of a kind.
    fn result(&self, x: Kind) -> Kind;

    /// What it gives at each cell: as many values as there are cells, missing for cells in no partition and, as a
    /// rule, for missing values.
    fn work_out(&self, cells: &Cells<'_>) -> Compared;

    /// What it does, in words that follow on the name of a result: see what `rank` and `running` say.
    fn said(&self, said: &Said) -> String;
}

/// Cells to be compared.
pub struct Cells<'a> {
    /// The values.
    pub x: &'a Column,
    /// Which cells are compared with each other.
    pub(crate) partition: &'a [u32],
    /// The order of the cells, which decides where values leave it open.
    pub(crate) position: &'a Ordinals,
    /// From the smallest on.
    pub ascending: bool,
}

/// Places or buckets, and how many cells owe theirs to the order of the cells alone.
pub struct Compared {
    /// The places.
    pub(crate) places: Places,
    /// How many.
    pub ties_broken: u64,
}

impl Compared {
    /// Places that are made.
    pub(crate) fn made(places: Vec<i64>, ties_broken: u64) -> Compared {
        Compared { places: Places::Made(Column::from(Data::I64(places))), ties_broken }
    }

    /// A place for each of the cells that were compared.
    pub fn column(self, cells: &Cells<'_>) -> Column {
        match self.places {
            Places::Made(column) => column,
            Places::Counted(counted) => {
                counted.of(0..cells.partition.len(), cells.partition, &cells.x.data)
            }
        }
    }
}

/// A function that walks from cell to cell.
pub trait Walks: Same + Send + Sync {
    /// The kind of what it gives for values of a kind.
    fn result(&self, x: Kind) -> Kind;

    /// What it gives at each cell: as many values as there are cells, missing for cells in no partition.
    ///
    /// # Errors
    /// What cannot be held.
    fn work_out(&self, cells: &Partitions<'_>, of: &Argument<'_>) -> Result<Column, Overflow>;

    /// Whether a cell enters at another one: it stands so many steps before it, and after it where negative.
    /// Both places are in the order of the walk.
    fn enters(&self, steps: i64, at: usize, here: usize) -> bool {
        let _ = (steps, at, here);
        true
    }

    /// How an exact quotient on the walk is one of exact parts.
    fn parts(&self) -> Parts {
        Parts::None
    }

    /// What it does, in words.
    fn said(&self, said: &Said) -> String;
}

/// What a walk is given.
pub struct Argument<'a> {
    /// The values.
    pub x: &'a Column,
    /// Their kind.
    pub kind: Kind,
    /// Which cells count; all of them without one.
    pub condition: Option<&'a Column>,
    /// The value of a period without rows.
    pub empty: &'a Value,
    /// How many threads may work on it.
    pub threads: usize,
}

/// The exact parts of a quotient on a walk.
pub enum Parts {
    /// There are none.
    None,
    /// The same of the parts of the argument.
    OfArgument,
    /// Of exact values a sum over a count.
    Mean {
        /// The sum.
        sum: Calc,
        /// The count.
        count: Calc,
    },
}

/// What a function is given beside its value.
#[derive(Clone, Copy, Debug, Default)]
pub struct Given {
    /// A whole number from 1 on.
    pub number: u32,
    /// What is made of several values.
    pub taking: Option<Taking>,
    /// What equal values do.
    pub ties: Option<Ties>,
    /// How many values are enough.
    pub at_least: Option<u32>,
}

/// What is given of what a window works out.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Gives {
    /// That itself.
    Itself,
    /// The value less it.
    Change,
    /// The change over it.
    Growth,
    /// The value over it.
    Share,
}

/// The words for the cells that a function looks at, in which it is told.
pub struct Said {
    /// What it takes.
    pub of: String,
    /// The cells that are compared.
    pub among: String,
    /// `, in its own column`, where that is so.
    pub column: &'static str,
    /// Largest or smallest, which come first.
    pub way: &'static str,
    /// The order of a walk.
    pub order: String,
    /// Where a walk starts again.
    pub again: String,
    /// The unit of a calendar that is walked.
    pub calendar: Option<&'static str>,
    /// What is given of what is worked out.
    pub gives: Gives,
}

impl Said {
    /// So many steps in words: `one month`, `3 steps`.
    pub fn steps(&self, n: i64) -> String {
        match (self.calendar, n) {
            (Some(unit), 1) => format!("one {unit}"),
            (None, 1) => "one step".to_owned(),
            (unit, n) => format!("{n} {}s", unit.unwrap_or("step")),
        }
    }

    /// What a walk along a calendar does about periods without rows; empty for other walks.
    pub fn also(&self) -> String {
        let also = self.calendar.map(|unit| format!("; a {unit} without rows is a step, too"));
        also.unwrap_or_default()
    }
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

    /// The kind of what it makes of values of a kind.
    pub fn result(self, x: Kind) -> Kind {
        match self {
            Taking::Sum | Taking::Min | Taking::Max => x,
            Taking::Mean => Kind::Float,
            Taking::Count => Kind::Number { scale: 0 },
        }
    }

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
    /// The part of the layout that it follows, if it does.
    pub(crate) fn layout(&self) -> Option<Layout> {
        self.within.iter().flatten().find_map(|r| match r {
            Reference::Layout(layout) => Some(*layout),
            _ => None,
        })
    }

    /// The window at a level of the table that keeps some keys: what follows the layout is keys there.
    pub(crate) fn at_level(&self, kept: &[usize], by_keys: usize) -> Cow<'_, Window<V>> {
        let follows = |r: &Reference<V>| matches!(r, Reference::Layout(_));
        let Some(within) = self.within.as_ref().filter(|w| w.iter().any(follows)) else {
            return Cow::Borrowed(self);
        };
        let mut all: Vec<Reference<V>> = Vec::new();
        let mut keys = BTreeSet::new();
        for reference in within {
            match reference {
                Reference::Layout(layout) => keys.extend(layout.keys(kept, by_keys)),
                Reference::Key(key) => {
                    keys.insert(*key);
                }
                other => all.push(*other),
            }
        }
        all.splice(0..0, keys.into_iter().map(Reference::Key));
        Cow::Owned(Window { within: Some(all), ..self.clone() })
    }

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

/// A part of the layout whose figure a cell is set against, wherever the cell stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Layout {
    /// The total column of the cell's line.
    Line,
    /// The grand total line of its column.
    Column,
    /// The subtotal around its line.
    Subtotal,
}

impl Layout {
    /// The part of a word after `within`.
    pub(crate) fn of_word(word: &str) -> Option<Layout> {
        match word.to_ascii_lowercase().as_str() {
            "line" => Some(Layout::Line),
            "column" => Some(Layout::Column),
            "subtotal" => Some(Layout::Subtotal),
            _ => None,
        }
    }

    /// Its word.
    pub const fn word(self) -> &'static str {
        match self {
            Layout::Line => "line",
            Layout::Column => "column",
            Layout::Subtotal => "subtotal",
        }
    }

    /// The keys that cells share with it at a level that keeps some keys, of which the first `by_keys` of all
    /// stand down the side.
    pub(crate) fn keys(self, kept: &[usize], by_keys: usize) -> Vec<usize> {
        let (by, across): (Vec<usize>, Vec<usize>) = kept.iter().partition(|k| **k < by_keys);
        match self {
            Layout::Line => by,
            Layout::Column => across,
            Layout::Subtotal => {
                let around = by.len().saturating_sub(1);
                by[..around].iter().chain(&across).copied().collect()
            }
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
    /// What follows the layout.
    Layout(Layout),
}

impl<V: Copy> Reference<V> {
    fn map<W>(self, to: &mut impl FnMut(V) -> W) -> Reference<W> {
        match self {
            Reference::Key(key) => Reference::Key(key),
            Reference::Period { key, unit } => Reference::Period { key, unit },
            Reference::Value(value) => Reference::Value(to(value)),
            Reference::Layout(layout) => Reference::Layout(layout),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn said(calendar: Option<&'static str>) -> Said {
        let text = String::new;
        let (column, way, gives) = ("", "largest", Gives::Itself);
        Said {
            of: text(),
            among: text(),
            column,
            way,
            order: text(),
            again: text(),
            calendar,
            gives,
        }
    }

    #[rstest]
    #[case(None, 1, "one step", "")]
    #[case(None, 3, "3 steps", "")]
    #[case(Some("month"), 1, "one month", "; a month without rows is a step, too")]
    #[case(Some("month"), 12, "12 months", "; a month without rows is a step, too")]
    fn steps_are_those_of_the_walk(
        #[case] calendar: Option<&'static str>,
        #[case] n: i64,
        #[case] steps: &str,
        #[case] also: &str,
    ) {
        let said = said(calendar);
        assert_eq!((said.steps(n).as_str(), said.also().as_str()), (steps, also));
    }

    #[test]
    fn words_are_chosen_by_their_names() {
        assert!(Taking::ALL.iter().all(|(name, taking)| taking.name() == *name));
        assert_eq!(Taking::Mean.result(Kind::Text), Kind::Float);
        assert_eq!(Taking::Max.result(Kind::Date), Kind::Date);
        assert!(Ties::ALL.iter().map(|t| t.0).eq(["gap", "close", "apart", "mean"]));
    }

    #[test]
    fn the_same_over_other_values_keeps_what_is_walked() {
        let window = Window {
            calc: Calc::Total,
            args: vec![1, 2],
            condition: Some(3),
            along: vec![Reference::Value(4), Reference::Key(0)],
            within: Some(vec![Reference::Period { key: 1, unit: Unit::Year }]),
            descending: Some(true),
            kind: Kind::Float,
            text: "t".into(),
            of: "x".into(),
        };
        let mapped = window.map(|v| v * 10);
        assert_eq!((mapped.args, mapped.condition), (vec![10, 20], Some(30)));
        assert_eq!(mapped.along, [Reference::Value(40), Reference::Key(0)]);
        assert_eq!(mapped.within, Some(vec![Reference::Period { key: 1, unit: Unit::Year }]));
    }
}
