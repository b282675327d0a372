//! Which columns a table has and how each cell reads: the one step behind every output.

use crate::cells::{Figures, TOTAL, is_figure, push_label};
use oeuvre_core::{Grid, Kind, LineKind, Value};

/// A column as outputs see it: first the keys, then the results.
#[derive(Clone, Copy, Debug)]
pub enum Slot {
    /// Labels of a key.
    Key(usize),
    /// Cells of a result.
    Result(usize),
}

/// A grid laid out.
pub struct Layout<'a> {
    /// What is laid out.
    pub grid: &'a Grid,
    /// The columns from left to right.
    pub slots: Vec<Slot>,
    figures: Vec<Figures>,
}

impl<'a> Layout<'a> {
    /// Lays a grid out.
    pub fn new(grid: &'a Grid) -> Layout<'a> {
        let keys = (0..grid.by.len()).map(Slot::Key);
        let slots = keys.chain((0..grid.columns.len()).map(Slot::Result)).collect();
        let figures = grid.columns.iter().map(|c| {
            let largest = match &c.cells.data {
                oeuvre_core::rows::column::Data::F64(v) => {
                    v.iter().filter(|v| !v.is_nan()).fold(0.0f64, |m, v| m.max(v.abs()))
                }
                _ => 0.0,
            };
            Figures::for_largest(largest)
        });
        Layout { grid, slots, figures: figures.collect() }
    }

    /// What stands above a column.
    pub fn heading(&self, slot: Slot) -> &'a str {
        match slot {
            Slot::Key(k) => &self.grid.by[k].name,
            Slot::Result(r) => &self.grid.columns[r].heading,
        }
    }

    /// The kind of a column's values.
    pub fn kind(&self, slot: Slot) -> Kind {
        match slot {
            Slot::Key(k) => self.grid.by[k].kind,
            Slot::Result(r) => self.grid.columns[r].kind,
        }
    }

    /// Whether a column stands to the right.
    pub fn is_right(&self, slot: Slot) -> bool {
        is_figure(self.kind(slot))
    }

    /// The raw value of a cell: what files carry. Total lines have `Total` in the first key column
    /// that they sum over and nothing behind it.
    pub fn raw(&self, line: usize, slot: Slot) -> Value {
        match slot {
            Slot::Key(k) => match self.grid.label(line, k) {
                Some(Value::Missing) => Value::Text(crate::cells::MISSING.into()),
                Some(label) => label,
                None if k == usize::from(self.grid.lines[line].depth) => Value::Text(TOTAL.into()),
                None => Value::Missing,
            },
            Slot::Result(r) => self.grid.cell(line, r),
        }
    }

    /// Adds a cell as it reads. A label that is the same as on the line above is left out.
    pub fn push_read(&self, out: &mut String, line: usize, slot: Slot) {
        match slot {
            Slot::Key(k) => match self.grid.label(line, k) {
                Some(_) if self.repeats(line, k) => {}
                Some(label) => push_label(out, &label),
                None if k == usize::from(self.grid.lines[line].depth) => out.push_str(TOTAL),
                None => {}
            },
            Slot::Result(r) => self.figures[r].push(out, &self.grid.cell(line, r)),
        }
    }

    /// The number of the note that a cell is marked with, from 1.
    pub fn mark(&self, line: usize, slot: Slot) -> Option<usize> {
        match slot {
            Slot::Key(_) => None,
            Slot::Result(r) => self.grid.columns[r].marks.get(&(line as u32)).map(|n| n + 1),
        }
    }

    /// Whether a line's labels down to a key are those of the line above.
    fn repeats(&self, line: usize, key: usize) -> bool {
        // The innermost key differs from line to line anyway.
        if line == 0 || key + 1 == self.grid.by.len() && self.is_group(line) {
            return false;
        }
        (0..=key).all(|k| {
            let above = self.grid.label(line - 1, k);
            above.is_some() && above == self.grid.label(line, k)
        })
    }

    /// Whether a line is that of a group, not a total.
    pub fn is_group(&self, line: usize) -> bool {
        self.grid.lines[line].kind == LineKind::Group
    }
}
