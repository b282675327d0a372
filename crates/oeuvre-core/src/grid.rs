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
#[derive(Clone, Copy, Debug)]
pub struct Line {
    /// What it is.
    pub kind: LineKind,
    /// How many of its labels are set, from the outermost: all for a group, fewer for a total.
    pub depth: u32,
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
    pub cells: Column,
    /// The cells as numerators and denominators, where they are exact quotients.
    pub ratio: Option<RatioColumns>,
    /// Marked cells: line, and place in [`Grid::notes`].
    pub marks: BTreeMap<u32, usize>,
}

/// The numerators and denominators of a column of quotients; missing where they are not known.
#[derive(Clone, Debug)]
pub struct RatioColumns {
    /// What is divided, with its kind.
    pub numerator: (Kind, Column),
    /// By what.
    pub denominator: (Kind, Column),
}

/// The finished table.
#[derive(Clone, Debug, Default)]
pub struct Grid {
    /// Whether its lines are rows, each as it was read, instead of groups.
    pub of_rows: bool,
    /// The keys down the side.
    pub by: Vec<Heading>,
    /// The lines in the order in which they are shown.
    pub lines: Vec<Line>,
    /// For each key, the label of each line. On total lines the labels beyond [`Line::depth`] mean
    /// nothing.
    pub labels: Vec<Column>,
    /// The keys along the top.
    pub across: Vec<Heading>,
    /// What stands along the top, from the left; a single group without labels when there are no keys
    /// along the top.
    pub positions: Vec<Line>,
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
            (kind, one(kind, Value::Number(number)))
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
            cells: one(it.kind, it.value.clone()),
            ratio: it
                .quotient
                .map(|(a, b)| RatioColumns { numerator: exact(a), denominator: exact(b) }),
            marks: BTreeMap::new(),
        };
        let columns = figures.iter().enumerate().map(column).collect();
        Grid { lines: vec![line], positions: vec![line], columns, ..Grid::default() }
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
        let of = |(kind, column): &(Kind, Column)| match column.value(*kind, line) {
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
