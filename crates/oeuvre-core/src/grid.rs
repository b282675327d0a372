//! The finished table: what every output is made from. A renderer computes no figure.
//!
//! Lines and positions know what they are (a group, a total, a rest) and how many of their labels are set; cells
//! are typed columns, so that a table of a million lines costs no object a cell. Whoever lays it out asks for
//! labels and cells by line and column.
//!
//! ```
//! use oeuvre_columns::{Kind, Value};
//! use oeuvre_core::Grid;
//!
//! let grid = Grid::of_one("share", Kind::Float, true, &Value::Float(0.25));
//! assert_eq!(grid.cell(0, 0), Value::Float(0.25));
//! assert_eq!(grid.quotient(0, 0), None); // known only where a calculation has exact parts
//! ```

use oeuvre_columns::column::Column;
use oeuvre_columns::value::decimal::Decimal;
use oeuvre_columns::value::{Kind, Value};
use std::collections::BTreeMap;
use std::sync::Arc;

/// A heading of a key.
#[derive(Clone, Debug)]
pub struct Heading {
    /// What readers see.
    pub name: String,
    /// What the labels under it are.
    pub kind: Kind,
}

/// What a line is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LineKind {
    /// The figures of one group.
    Group,
    /// A total over the lines that share their outer labels.
    Subtotal,
    /// The total over everything.
    Grand,
    /// What is not shown of the lines that share its outer labels, or of all lines.
    Rest,
}

/// A line of the table.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Line {
    /// What it is.
    pub kind: LineKind,
    /// How many of its labels are set, from the outermost: all for a group, fewer for a total.
    pub depth: u32,
}

/// The lines of a table, in their order. What many lines one after the other have in common is there once.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Lines(Listed);

#[derive(Clone, Debug, PartialEq, Eq)]
enum Listed {
    /// Runs of the same line, each with the place behind its last one.
    Runs(Vec<(usize, Line)>),
    /// Where runs are short.
    Each(Vec<Line>),
}

/// Runs shorter than this, as a mean, are listed line by line.
const SHORTEST_RUN: usize = 4;
/// So few runs are kept as such however short they are.
const FEW_RUNS: usize = 64;

impl Lines {
    /// The same line so many times.
    pub fn same(line: Line, len: usize) -> Lines {
        Lines(Listed::Runs(if len > 0 { vec![(len, line)] } else { Vec::new() }))
    }

    /// How many there are.
    pub fn len(&self) -> usize {
        match &self.0 {
            Listed::Runs(runs) => runs.last().map_or(0, |run| run.0),
            Listed::Each(lines) => lines.len(),
        }
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The line at a place; `None` behind the last one.
    pub fn get(&self, place: usize) -> Option<&Line> {
        match &self.0 {
            Listed::Runs(runs) => {
                let run = runs.partition_point(|run| run.0 <= place);
                runs.get(run).map(|run| &run.1)
            }
            Listed::Each(lines) => lines.get(place),
        }
    }

    /// All of them.
    pub fn iter(&self) -> impl Iterator<Item = Line> + Clone + '_ {
        let (runs, each) = match &self.0 {
            Listed::Runs(runs) => (&runs[..], &[][..]),
            Listed::Each(lines) => (&[][..], &lines[..]),
        };
        let begins = std::iter::once(0).chain(runs.iter().map(|run| run.0));
        let of_runs = runs.iter().zip(begins);
        let of_runs = of_runs.flat_map(|(run, begins)| std::iter::repeat_n(run.1, run.0 - begins));
        of_runs.chain(each.iter().copied())
    }

    /// Whether all are of one kind.
    pub fn are_all(&self, kind: LineKind) -> bool {
        match &self.0 {
            Listed::Runs(runs) => runs.iter().all(|run| run.1.kind == kind),
            Listed::Each(lines) => lines.iter().all(|line| line.kind == kind),
        }
    }

    /// Adds one.
    pub fn push(&mut self, line: Line) {
        self.push_run(line, 1);
    }

    /// Adds the same line so many times.
    pub fn push_run(&mut self, line: Line, count: usize) {
        match &mut self.0 {
            _ if count == 0 => {}
            Listed::Runs(runs) => match runs.last_mut() {
                Some((end, last)) if *last == line => *end += count,
                last => {
                    let len = last.map_or(0, |last| last.0);
                    runs.push((len + count, line));
                    if runs.len() > FEW_RUNS && runs.len() * SHORTEST_RUN > len + count {
                        *self = Lines(Listed::Each(self.iter().collect()));
                    }
                }
            },
            Listed::Each(lines) => lines.extend(std::iter::repeat_n(line, count)),
        }
    }

    /// Leaves out all but the first so many.
    pub fn truncate(&mut self, len: usize) {
        *self = self.iter().take(len).collect();
    }
}

impl Default for Lines {
    fn default() -> Lines {
        Lines(Listed::Runs(Vec::new()))
    }
}

/// The line at a place, which there must be.
impl std::ops::Index<usize> for Lines {
    type Output = Line;

    fn index(&self, place: usize) -> &Line {
        match self.get(place) {
            Some(line) => line,
            None => panic!("there is no line {place} of {}", self.len()),
        }
    }
}

impl FromIterator<Line> for Lines {
    fn from_iter<I: IntoIterator<Item = Line>>(lines: I) -> Lines {
        let mut all = Lines::default();
        lines.into_iter().for_each(|line| all.push(line));
        all
    }
}

/// A result column.
#[derive(Clone, Debug)]
pub struct ResultColumn {
    /// What readers see above its figures; above that stand the labels of [`Grid::positions`].
    pub heading: String,
    /// The calculation as written.
    pub calc: String,
    /// Its place in [`Grid::positions`].
    pub position: usize,
    /// Which of the results it shows, counted from 0.
    pub result: usize,
    /// Whether the values read as they stand in the rows: numbers that may well be names, without
    /// separators.
    pub plain: bool,
    /// Whether the figures are shares, which read in percent.
    pub share: bool,
    /// Why its figures are not what the columns that it totals add up to: a place in [`Grid::notes`].
    pub heading_mark: Option<usize>,
    /// What the cells are.
    pub kind: Kind,
    /// The cells, one a line.
    pub cells: Arc<Column>,
    /// The cells as numerators and denominators, where they are exact quotients.
    pub ratio: Option<RatioColumns>,
    /// Marked cells: line, and place in [`Grid::notes`].
    pub marks: BTreeMap<u32, usize>,
}

/// The numerators and denominators of a column of quotients; missing where they are not known.
#[derive(Clone, Debug)]
pub struct RatioColumns {
    /// What is divided, with its kind.
    pub numerator: (Kind, Arc<Column>),
    /// By what.
    pub denominator: (Kind, Arc<Column>),
}

/// The finished table.
#[derive(Clone, Debug, Default)]
pub struct Grid {
    /// Whether its lines are rows, each as it was read, instead of groups.
    pub of_rows: bool,
    /// The keys down the side.
    pub by: Vec<Heading>,
    /// The lines in the order in which they are shown.
    pub lines: Lines,
    /// For each key, the label of each line. On total lines the labels beyond [`Line::depth`] mean
    /// nothing.
    pub labels: Vec<Column>,
    /// The keys along the top.
    pub across: Vec<Heading>,
    /// What stands along the top, from the left; a single group without labels when there are no keys
    /// along the top.
    pub positions: Lines,
    /// For each key along the top, the label of each position.
    pub position_labels: Vec<Column>,
    /// The results, also where nothing stands along the top and so no column.
    pub results: Vec<Heading>,
    /// The results, position by position.
    pub columns: Vec<ResultColumn>,
    /// What the key column of a line for the rest says.
    pub rest_label: String,
    /// What marks mean.
    pub notes: Vec<String>,
}

/// A figure by itself.
#[derive(Clone, Debug, PartialEq)]
pub struct Figure {
    /// What it is.
    pub kind: Kind,
    /// It itself.
    pub value: Value,
    /// Whether it is a share, which reads in percent.
    pub share: bool,
    /// The quotient that its binary64 is nearest to, where that is known.
    pub quotient: Option<(Decimal, Decimal)>,
}

impl Figure {
    /// The figure in a column of a table of one line.
    pub fn of(grid: &Grid, column: usize) -> Figure {
        Figure::at(grid, 0, column)
    }

    /// The figure in a cell of a table.
    pub fn at(grid: &Grid, line: usize, column: usize) -> Figure {
        let it = &grid.columns[column];
        let quotient = grid.quotient(line, column);
        Figure { kind: it.kind, value: grid.cell(line, column), share: it.share, quotient }
    }

    /// A figure that is known.
    pub fn known(value: Value) -> Figure {
        let kind = match &value {
            Value::Number(number) => Kind::Number { scale: number.scale },
            Value::Float(_) => Kind::Float,
            Value::Date(_) => Kind::Date,
            Value::DateTime(_) => Kind::DateTime,
            Value::Boolean(_) => Kind::Boolean,
            _ => Kind::Text,
        };
        Figure { kind, value, share: false, quotient: None }
    }
}

impl Grid {
    /// A table of one line and one column, without keys; `share` says whether the value reads in percent.
    pub fn of_one(heading: &str, kind: Kind, share: bool, value: &Value) -> Grid {
        let figure = Figure { kind, share, value: value.clone(), quotient: None };
        Grid::of_figures(&[(heading.to_owned(), figure)])
    }

    /// A table of one line without keys: some figures with their headings.
    pub fn of_figures(figures: &[(String, Figure)]) -> Grid {
        let line = Line { kind: LineKind::Group, depth: 0 };
        let one =
            |kind: Kind, value: Value| Column::from_values(kind, std::slice::from_ref(&value));
        let exact = |number: Decimal| {
            let kind = Kind::Number { scale: number.scale };
            (kind, one(kind, Value::Number(number)).into())
        };
        let column = |(result, (heading, it)): (usize, &(String, Figure))| ResultColumn {
            heading: heading.clone(),
            calc: heading.clone(),
            position: 0,
            result,
            plain: false,
            share: it.share,
            heading_mark: None,
            kind: it.kind,
            cells: one(it.kind, it.value.clone()).into(),
            ratio: it
                .quotient
                .map(|(a, b)| RatioColumns { numerator: exact(a), denominator: exact(b) }),
            marks: BTreeMap::new(),
        };
        let columns = figures.iter().enumerate().map(column).collect();
        Grid {
            lines: Lines::same(line, 1),
            positions: Lines::same(line, 1),
            columns,
            ..Grid::default()
        }
    }

    /// The label of a line under a key; `None` beyond the depth of a total.
    pub fn label(&self, line: usize, key: usize) -> Option<Value> {
        (key < self.lines[line].depth as usize)
            .then(|| self.labels[key].value(self.by[key].kind, line))
    }

    /// The label of a position under a key along the top; `None` beyond the depth of a total.
    pub fn position_label(&self, position: usize, key: usize) -> Option<Value> {
        (key < self.positions[position].depth as usize)
            .then(|| self.position_labels[key].value(self.across[key].kind, position))
    }

    /// The exact quotient that a cell's binary64 is nearest to, where it is known.
    pub fn quotient(&self, line: usize, column: usize) -> Option<(Decimal, Decimal)> {
        let ratio = self.columns[column].ratio.as_ref()?;
        let of = |(kind, column): &(Kind, Arc<Column>)| match column.value(*kind, line) {
            Value::Number(n) => Some(n),
            _ => None,
        };
        let both = (of(&ratio.numerator)?, of(&ratio.denominator)?);
        (both.1.mantissa != 0).then_some(both)
    }

    /// The value of a cell, by line and by place in [`Grid::columns`], which there must be.
    pub fn cell(&self, line: usize, column: usize) -> Value {
        self.columns[column].cells.value(self.columns[column].kind, line)
    }
}

#[cfg(test)]
mod tests {
    use super::{Line, LineKind, Lines};
    use proptest::prelude::*;

    fn runs() -> impl Strategy<Value = Vec<(Line, usize)>> {
        let kind = prop_oneof![Just(LineKind::Group), Just(LineKind::Subtotal)];
        let line = (kind, 0u32..2).prop_map(|(kind, depth)| Line { kind, depth });
        // Long runs stay runs, and many short ones are listed.
        prop_oneof![
            proptest::collection::vec((line.clone(), 0usize..90), 0..6),
            proptest::collection::vec((line, 0usize..3), 0..300),
        ]
    }

    proptest! {
        #[test]
        fn lines_are_those_that_were_added(runs in runs(), cut in 0usize..100) {
            let (mut lines, mut plain) = (Lines::default(), Vec::new());
            for &(line, count) in &runs {
                lines.push_run(line, count);
                plain.extend(std::iter::repeat_n(line, count));
            }
            prop_assert_eq!(lines.len(), plain.len());
            prop_assert_eq!(lines.is_empty(), plain.is_empty());
            prop_assert!(lines.iter().eq(plain.iter().copied()));
            prop_assert!((0..plain.len()).all(|at| lines[at] == plain[at]));
            prop_assert_eq!(lines.get(plain.len()), None);
            let is_group = |line: &Line| line.kind == LineKind::Group;
            prop_assert_eq!(lines.are_all(LineKind::Group), plain.iter().all(is_group));
            let collected: Lines = plain.iter().copied().collect();
            prop_assert!(collected.iter().eq(lines.iter()));
            lines.truncate(cut);
            plain.truncate(cut);
            prop_assert!(lines.iter().eq(plain.iter().copied()));
        }
    }
}
