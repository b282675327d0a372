//! Which lines and columns a table has and how each cell reads: the one step behind every output.
//!
//! A [`Slot`] is a column and a [`Row`] a line as outputs see them: of a pivot one for each cell with `long`,
//! else as the grid has them. Headings, notes, bars and shades are asked for by slot and row; a writer that works
//! one out itself is a mistake, because the next one would work it out otherwise. Laying out costs nothing but
//! the lists; a cell is made when it is asked for.
//!
//! ```
//! use oeuvre_columns::{Kind, Value};
//! use oeuvre_core::Grid;
//! use oeuvre_render::{Style, layout::Layout};
//!
//! let grid = Grid::of_one("share", Kind::Float, true, &Value::Float(0.256));
//! let style = Style::default();
//! let layout = Layout::new(&grid, &style);
//! let (row, slot) = (layout.rows.at(0), layout.slots[0]);
//! let mut read = String::new();
//! layout.push_read(&mut read, row, slot);
//! assert_eq!((read.as_str(), layout.raw(row, slot)), ("25.6%", Value::Float(0.256)));
//! ```

use crate::cells::{Figures, TOTAL, is_figure, push_label};
use crate::format::{Pattern, Signs};
use crate::style::Style;
use oeuvre_columns::column::Data;
use oeuvre_columns::{Kind, Value};
use oeuvre_core::{Grid, LineKind};
use std::collections::{HashMap, HashSet};

/// A column as outputs see it: first the keys, then the results.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Slot {
    /// Labels of a key down the side.
    Key(usize),
    /// Labels of a key along the top, where each cell has a line of its own.
    Across(usize),
    /// Cells of a result: a column of the grid, or a result where each cell has a line of its own.
    Result(usize),
}

/// A line as outputs see it.
#[derive(Clone, Copy, Debug)]
pub struct Row {
    /// The line of the grid.
    pub line: usize,
    /// The position along the top, where each cell has a line of its own.
    pub position: usize,
}

/// The lines of a layout, from the top: all of the grid take no room of their own.
pub struct Rows {
    /// How many lines the grid has.
    lines: usize,
    /// The cells that have lines of their own, where they do.
    cells: Option<Vec<Row>>,
}

impl Rows {
    /// How many there are.
    pub fn len(&self) -> usize {
        self.cells.as_ref().map_or(self.lines, Vec::len)
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The one at a place, which must be one of them.
    pub fn at(&self, place: usize) -> Row {
        match &self.cells {
            Some(cells) => cells[place],
            None => Row { line: place, position: 0 },
        }
    }

    /// The one at a place, where there is one.
    pub fn get(&self, place: usize) -> Option<Row> {
        (place < self.len()).then(|| self.at(place))
    }

    /// One after the other.
    pub fn iter(&self) -> impl DoubleEndedIterator<Item = Row> + ExactSizeIterator + Clone {
        (0..self.len()).map(|place| self.at(place))
    }
}

/// How the figures of a result read.
struct Reading {
    figures: Figures,
    pattern: Option<Pattern>,
    /// The smallest and the largest figure, totals left out.
    extent: (f64, f64),
    bars: bool,
    shade: bool,
}

/// A grid laid out.
pub struct Layout<'a> {
    /// What is laid out.
    pub grid: &'a Grid,
    /// The columns from left to right.
    pub slots: Vec<Slot>,
    /// The lines from the top.
    pub rows: Rows,
    style: &'a Style,
    /// By the number of the result.
    results: Vec<Reading>,
    keys: Vec<Option<Pattern>>,
    across: Vec<Option<Pattern>>,
    headings: Vec<String>,
}

/// What stands between the parts of a heading in files.
const PARTS: &str = " / ";

impl<'a> Layout<'a> {
    /// Lays a grid out.
    pub fn new(grid: &'a Grid, style: &'a Style) -> Layout<'a> {
        let long = style.long && !grid.across.is_empty();
        let keys = (0..grid.by.len()).map(Slot::Key);
        let of_columns = grid.columns.iter().map(|c| c.result + 1).max().unwrap_or(0);
        let count = of_columns.max(grid.results.len());
        let (slots, cells) = if long {
            let across = (0..grid.across.len()).map(Slot::Across);
            let slots = keys.chain(across).chain((0..count).map(Slot::Result)).collect();
            // A cell that no row has anything to say of is no line.
            let filled = |line: usize, position: usize| {
                (0..count).any(|r| {
                    let cells = &grid.columns[position * count + r].cells.data;
                    !cells.is_missing(line)
                })
            };
            let cells = (0..grid.lines.len())
                .flat_map(|line| (0..grid.positions.len()).map(move |position| (line, position)))
                .filter(|&(line, position)| filled(line, position))
                .map(|(line, position)| Row { line, position })
                .collect();
            (slots, Some(cells))
        } else {
            let slots = keys.chain((0..grid.columns.len()).map(Slot::Result)).collect();
            (slots, None)
        };
        let results = (0..count).map(|r| reading(grid, style, r, count)).collect();
        let of_keys = |all: &[oeuvre_core::Heading]| -> Vec<Option<Pattern>> {
            all.iter().map(|k| style.pattern(&k.name, &k.name, k.kind)).collect()
        };
        let mut it = Layout {
            grid,
            slots,
            rows: Rows { lines: grid.lines.len(), cells },
            style,
            results,
            keys: of_keys(&grid.by),
            across: of_keys(&grid.across),
            headings: Vec::new(),
        };
        it.headings = it.file_headings();
        it
    }

    /// The columns' names in files: the parts of each heading joined, no two the same.
    fn file_headings(&self) -> Vec<String> {
        let mut taken = HashSet::new();
        // The number that a heading gets next, so that many of one name do not try all numbers again.
        let mut numbers: HashMap<String, usize> = HashMap::new();
        let name = |&slot: &Slot| {
            let heading = self.heading_parts(slot).join(PARTS);
            let mut name = heading.clone();
            while !taken.insert(name.clone()) {
                let n = numbers.entry(heading.clone()).or_insert(1);
                *n += 1;
                name = format!("{heading} ({n})");
            }
            name
        };
        self.slots.iter().map(name).collect()
    }

    /// What stands above a column, from the top: the labels of its position, then its own name.
    pub fn heading_parts(&self, slot: Slot) -> Vec<String> {
        let mut parts = Vec::new();
        if let (Slot::Result(c), false) = (slot, self.is_long()) {
            let position = self.grid.columns[c].position;
            for key in 0..self.grid.across.len() {
                let mut text = String::new();
                self.push_position_label(&mut text, position, key);
                if !text.is_empty() {
                    parts.push(text);
                }
            }
        }
        parts.push(self.own_heading(slot).to_owned());
        parts
    }

    /// A column's name in files, by its place among the slots: its headings from the top with ` / ` between
    /// them, with a number where two would be the same.
    pub fn heading(&self, place: usize) -> &str {
        &self.headings[place]
    }

    /// What stands right above a column.
    pub fn own_heading(&self, slot: Slot) -> &'a str {
        match slot {
            Slot::Key(k) => &self.grid.by[k].name,
            Slot::Across(k) => &self.grid.across[k].name,
            Slot::Result(r) => match self.grid.columns.get(r) {
                Some(column) => &column.heading,
                None => &self.grid.results[r].name,
            },
        }
    }

    /// Adds the label of a position under a key along the top.
    pub fn push_position_label(&self, out: &mut String, position: usize, key: usize) {
        match self.grid.position_label(position, key) {
            Some(label) => push_patterned(out, &label, self.across[key].as_ref()),
            None if key == self.grid.positions[position].depth as usize => out.push_str(TOTAL),
            None => {}
        }
    }

    /// Whether each cell has a line of its own.
    pub fn is_long(&self) -> bool {
        self.style.long && !self.grid.across.is_empty()
    }

    /// How many results each position has.
    pub fn results_per_position(&self) -> usize {
        self.results.len()
    }

    /// The column of the grid that a cell stands in.
    fn column(&self, row: Row, result: usize) -> usize {
        if self.is_long() { row.position * self.results.len() + result } else { result }
    }

    fn result_of(&self, column: usize) -> &Reading {
        &self.results[self.grid.columns.get(column).map_or(column, |c| c.result)]
    }

    /// The kind of a column's values.
    pub fn kind(&self, slot: Slot) -> Kind {
        match slot {
            Slot::Key(k) => self.grid.by[k].kind,
            Slot::Across(k) => self.grid.across[k].kind,
            Slot::Result(r) => match self.grid.columns.get(r) {
                Some(column) => column.kind,
                None => self.grid.results[r].kind,
            },
        }
    }

    /// Whether a column stands to the right.
    pub fn is_right(&self, slot: Slot) -> bool {
        is_figure(self.kind(slot))
    }

    /// The raw value of a cell: what files carry. Total lines have `Total` in the first key column
    /// that they sum over and nothing behind it.
    pub fn raw(&self, row: Row, slot: Slot) -> Value {
        let label = |label: Option<Value>, total: bool, word: &str| match label {
            Some(Value::Missing) => Value::Text(crate::cells::MISSING.into()),
            Some(label) => label,
            None if total => Value::Text(word.into()),
            None => Value::Missing,
        };
        match slot {
            Slot::Key(k) => {
                let total = k == self.grid.lines[row.line].depth as usize;
                label(self.grid.label(row.line, k), total, self.word(row.line))
            }
            Slot::Across(k) => {
                let total = k == self.grid.positions[row.position].depth as usize;
                label(self.grid.position_label(row.position, k), total, TOTAL)
            }
            Slot::Result(r) => self.grid.cell(row.line, self.column(row, r)),
        }
    }

    /// The label of a cell of a key; `None` where the line or the position sums over the key.
    pub fn label(&self, row: Row, slot: Slot) -> Option<Value> {
        match slot {
            Slot::Key(k) => self.grid.label(row.line, k),
            Slot::Across(k) => self.grid.position_label(row.position, k),
            Slot::Result(_) => None,
        }
    }

    /// What stands in the key column that a line sums over.
    fn word(&self, line: usize) -> &str {
        match self.grid.lines[line].kind {
            LineKind::Rest => &self.grid.rest_label,
            _ => TOTAL,
        }
    }

    /// Adds a cell as it reads. A label that is the same as on the line above is left out.
    pub fn push_read(&self, out: &mut String, row: Row, slot: Slot) {
        let Some(signs) = self.style.signs.filter(|_| self.kind(slot).is_number()) else {
            return self.push_plain(out, row, slot);
        };
        let mut text = String::new();
        self.push_plain(&mut text, row, slot);
        out.push_str(&signs.write(&text));
    }

    /// A number with all its digits, and groups where its column has them for reading.
    pub(crate) fn with_groups(&self, row: Row, slot: Slot, value: &Value) -> String {
        let text = value.to_string();
        let plain = match slot {
            Slot::Result(r) => self.grid.columns[self.column(row, r)].plain,
            _ => true,
        };
        if plain || text.contains(['e', 'E']) { text } else { crate::cells::with_groups(&text) }
    }

    /// The signs in numbers, where they were asked for.
    pub fn signs(&self) -> Option<Signs> {
        self.style.signs
    }

    /// Adds the label of a key as it reads, also where the line above has the same.
    pub fn push_whole_label(&self, out: &mut String, row: Row, key: usize) {
        match self.grid.label(row.line, key) {
            Some(label) => push_patterned(out, &label, self.keys[key].as_ref()),
            None => self.push_plain(out, row, Slot::Key(key)),
        }
    }

    /// The number pattern that the figures of a column are written by, where one was asked for.
    pub(crate) fn pattern(&self, slot: Slot) -> Option<&Pattern> {
        match slot {
            Slot::Key(k) => self.keys[k].as_ref(),
            Slot::Across(k) => self.across[k].as_ref(),
            Slot::Result(r) => self.result_of(r).pattern.as_ref(),
        }
    }

    /// Whether the values of a column read as they stand in the rows.
    pub(crate) fn is_plain(&self, slot: Slot) -> bool {
        matches!(slot, Slot::Result(r) if self.grid.columns.get(r).is_some_and(|c| c.plain))
    }

    /// How many digits after the point the binary64 figures of a column show where no pattern says so.
    pub(crate) fn float_digits(&self, slot: Slot) -> usize {
        match slot {
            Slot::Result(r) => self.result_of(r).figures.float_digits,
            _ => 0,
        }
    }

    /// As [`Layout::push_read`], with a comma between groups of digits and a point before the decimals.
    fn push_plain(&self, out: &mut String, row: Row, slot: Slot) {
        match slot {
            Slot::Key(k) => match self.grid.label(row.line, k) {
                Some(_) if self.repeats(row.line, k) => {}
                Some(label) => push_patterned(out, &label, self.keys[k].as_ref()),
                None if k == self.grid.lines[row.line].depth as usize => {
                    out.push_str(&crate::cells::escape_controls(self.word(row.line)));
                }
                None => {}
            },
            Slot::Across(k) => self.push_position_label(out, row.position, k),
            Slot::Result(r) => {
                let column = self.column(row, r);
                let value = self.grid.cell(row.line, column);
                let reading = self.result_of(column);
                if value.is_missing() {
                    out.push_str(&self.style.blank);
                    return;
                }
                if self.grid.columns[column].plain && reading.pattern.is_none() {
                    push_label(out, &value);
                    return;
                }
                let of = self.grid.quotient(row.line, column);
                if !reading.pattern.as_ref().is_some_and(|p| p.push(out, &value, of)) {
                    reading.figures.push(out, &value, of);
                }
            }
        }
    }

    /// The number of the note that a cell is marked with, from 1.
    pub fn mark(&self, row: Row, slot: Slot) -> Option<usize> {
        match slot {
            Slot::Result(r) => {
                let marks = &self.grid.columns[self.column(row, r)].marks;
                marks.get(&(row.line as u32)).map(|n| n + 1)
            }
            _ => None,
        }
    }

    /// The number of the note that a heading is marked with, from 1.
    pub fn heading_mark(&self, slot: Slot) -> Option<usize> {
        match slot {
            Slot::Result(r) if !self.is_long() => self.grid.columns[r].heading_mark.map(|n| n + 1),
            _ => None,
        }
    }

    /// Whether the cells of a column have bars.
    pub fn has_bars(&self, slot: Slot) -> bool {
        matches!(slot, Slot::Result(r) if self.result_of(r).bars)
    }

    /// Whether the cells of a column are shaded.
    pub fn has_shades(&self, slot: Slot) -> bool {
        matches!(slot, Slot::Result(r) if self.result_of(r).shade)
    }

    /// Where the bar of a cell starts and ends, as parts of its width from 0 to 1; bars of one result share a
    /// scale that holds 0. `None` on totals and where there is no figure.
    pub fn bar(&self, row: Row, slot: Slot) -> Option<(f64, f64)> {
        let Slot::Result(r) = slot else { return None };
        let (value, (low, high)) = self.drawn(row, r)?;
        let (low, high) = (low.min(0.0), high.max(0.0));
        let at = |v: f64| if high > low { (v - low) / (high - low) } else { 0.0 };
        Some((at(value.min(0.0)), at(value.max(0.0))))
    }

    /// How strongly a cell is shaded, from 0 for the smallest figure of the result to 1 for the largest; `None` on
    /// totals and where there is no figure.
    pub fn shade(&self, row: Row, slot: Slot) -> Option<f64> {
        let Slot::Result(r) = slot else { return None };
        let (value, (low, high)) = self.drawn(row, r)?;
        Some(if high > low { (value - low) / (high - low) } else { 1.0 })
    }

    fn drawn(&self, row: Row, result: usize) -> Option<(f64, (f64, f64))> {
        let column = self.column(row, result);
        let group = self.is_group(row.line) && {
            let position = self.grid.columns[column].position;
            self.grid.positions[position].kind == LineKind::Group
        };
        let value = number(&self.grid.columns[column].cells.data, row.line)?;
        group.then_some((value, self.result_of(column).extent))
    }

    /// The figures of a line along the top, totals left out, where a column is the last of a result that has a small
    /// line there: each as a part of its line's range from 0 to 1, `None` for a gap. A line of equal figures runs
    /// through the middle.
    pub fn trend(&self, row: Row, slot: Slot) -> Option<Vec<Option<f64>>> {
        let Slot::Result(last) = slot else { return None };
        let result = self.trend_of(slot)?;
        let grid = self.grid;
        let of_result = |c: &usize| {
            let column = &grid.columns[*c];
            column.result == result && grid.positions[column.position].kind == LineKind::Group
        };
        let figure = |c: usize| number(&grid.columns[c].cells.data, row.line);
        let figures: Vec<Option<f64>> = (0..=last).filter(of_result).map(figure).collect();
        let (low, high) = figures
            .iter()
            .flatten()
            .fold((f64::INFINITY, f64::NEG_INFINITY), |(a, b), v| (a.min(*v), b.max(*v)));
        let part = |v: f64| if high > low { (v - low) / (high - low) } else { 0.5 };
        Some(figures.into_iter().map(|v| v.map(part)).collect())
    }

    /// The result whose small line stands in a column: its last one.
    pub(crate) fn trend_of(&self, slot: Slot) -> Option<usize> {
        let Slot::Result(column) = slot else { return None };
        if self.grid.across.is_empty() || self.is_long() {
            return None;
        }
        let it = &self.grid.columns[column];
        let is_last = column + self.results.len() >= self.grid.columns.len();
        (is_last && Style::names(&self.style.lines, &it.heading, &it.calc)).then_some(it.result)
    }

    /// How many figures a small line has.
    pub(crate) fn trend_length(&self) -> usize {
        self.grid.positions.iter().filter(|p| p.kind == LineKind::Group).count()
    }

    /// Whether a line's labels down to a key are those of the line above.
    fn repeats(&self, line: usize, key: usize) -> bool {
        // The innermost key differs from line to line anyway.
        if self.is_long() || line == 0 || key + 1 == self.grid.by.len() && self.is_group(line) {
            return false;
        }
        (0..=key).all(|k| {
            let above = self.grid.label(line - 1, k);
            above.is_some() && above == self.grid.label(line, k)
        })
    }

    /// Whether a line is a total.
    pub fn is_total(&self, line: usize) -> bool {
        matches!(self.grid.lines[line].kind, LineKind::Subtotal | LineKind::Grand)
    }

    /// Whether a line is that of a group, not a total or a rest.
    pub fn is_group(&self, line: usize) -> bool {
        self.grid.lines[line].kind == LineKind::Group
    }
}

fn push_patterned(out: &mut String, value: &Value, pattern: Option<&Pattern>) {
    if value.is_missing() || !pattern.is_some_and(|p| p.push(out, value, None)) {
        push_label(out, value);
    }
}

/// A figure for drawing; its scale is that of its column.
fn number(data: &Data, line: usize) -> Option<f64> {
    match data {
        _ if data.is_missing(line) => None,
        Data::I64(v) => Some(v[line] as f64),
        Data::I128(v) => Some(v[line] as f64),
        Data::F64(v) => Some(v[line]),
        _ => None,
    }
}

fn reading(grid: &Grid, style: &Style, result: usize, count: usize) -> Reading {
    // Results come position by position.
    let columns = || grid.columns.iter().skip(result).step_by(count.max(1));
    let Some(first) = columns().next() else {
        let (figures, extent) = (Figures::for_largest(0.0), (0.0, 0.0));
        return Reading { figures, pattern: None, extent, bars: false, shade: false };
    };
    let (mut largest, mut extent) = (0.0f64, (f64::INFINITY, f64::NEG_INFINITY));
    let bars = Style::names(&style.bars, &first.heading, &first.calc);
    let shade = Style::names(&style.shades, &first.heading, &first.calc);
    for column in columns() {
        if let Data::F64(v) = &column.cells.data {
            largest = v.iter().filter(|v| !v.is_nan()).fold(largest, |m, v| m.max(v.abs()));
        }
        if (bars || shade) && grid.positions[column.position].kind == LineKind::Group {
            let lines = (0..grid.lines.len()).filter(|&l| grid.lines[l].kind == LineKind::Group);
            for v in lines.filter_map(|l| number(&column.cells.data, l)) {
                extent = (extent.0.min(v), extent.1.max(v));
            }
        }
    }
    let pattern = style.pattern(&first.heading, &first.calc, first.kind);
    let share = || Pattern::parse("0.0%", Kind::Float).ok().filter(|_| first.share);
    let pattern = pattern.or_else(share);
    Reading { figures: Figures::for_largest(largest), pattern, extent, bars, shade }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{any_table, pivot, table};
    use oeuvre_core::{Request, Totals};
    use proptest::prelude::*;
    use rstest::rstest;

    const ROWS: [[&str; 4]; 5] = [
        ["SKE", "2024-05-01", "4.00", "1"],
        ["SKE", "2025-05-01", "-2.00", "2"],
        ["KEL", "2024-05-01", "1000.50", "3"],
        ["KEL", "2024-06-01", "", "4"],
        ["", "2024-05-01", "1.00", "5"],
    ];

    /// The cells as they read, line by line with bars between.
    fn read(grid: &Grid, style: &Style) -> String {
        let layout = Layout::new(grid, style);
        let line = |row: Row| {
            let cell = |&slot: &Slot| {
                let mut out = String::new();
                layout.push_read(&mut out, row, slot);
                out
            };
            layout.slots.iter().map(cell).collect::<Vec<_>>().join("|")
        };
        layout.rows.iter().map(line).collect::<Vec<_>>().join("; ")
    }

    #[rstest]
    #[case(Request::of(&["k"], &["sum(x)"]), "KEL|1,000.50; SKE|2.00; (missing)|1.00")]
    // A label stands once, above the lines that share it.
    #[case(Request { totals: Totals::All, ..Request::of(&["k", "year(d)"], &["sum(x)"]) },
        "KEL|2024|1,000.50; |Total|1,000.50; SKE|2024|4.00; |2025|-2.00; |Total|2.00; (missing)|2024|1.00; |Total|1.00; Total||1,003.50")]
    #[case(pivot(&["k"], "year(d)", &["sum(x)"]), "KEL|1,000.50|; SKE|4.00|-2.00; (missing)|1.00|")]
    #[case(Request::of(&["k"], &["share(sum(x))"]), "KEL|99.7%; SKE|0.2%; (missing)|0.1%")]
    #[case(Request { listing: true, ..Request::of(&[], &["k", "x", "2 * x"]) },
        "SKE|4.00|8.00; SKE|-2.00|-4.00; KEL|1000.50|2,001.00; KEL||; |1.00|2.00")]
    fn cells_read_as_people_expect(#[case] request: Request, #[case] expected: &str) {
        let (grid, _) = table(&ROWS, &request);
        let given = read(&grid, &Style::default());
        let lines: Vec<&str> = given.split("; ").map(str::trim).collect();
        let expected: Vec<&str> = expected.split("; ").map(str::trim).collect();
        assert_eq!(lines, expected);
    }

    #[test]
    fn in_long_form_each_cell_with_anything_to_say_has_a_line() {
        let (grid, _) = table(&ROWS, &pivot(&["k"], "year(d)", &["sum(x)", "count()"]));
        let style = Style { long: true, blank: "-".into(), ..Style::default() };
        let expected =
            "KEL|2024|1,000.50|2; SKE|2024|4.00|1; SKE|2025|-2.00|1; (missing)|2024|1.00|1";
        assert_eq!(read(&grid, &style), expected);
        let layout = Layout::new(&grid, &style);
        assert_eq!(
            (0..4).map(|i| layout.heading(i)).collect::<Vec<_>>(),
            ["k", "year(d)", "sum(x)", "count()"]
        );
        assert!(
            layout.is_long()
                && !layout.is_right(layout.slots[0])
                && layout.is_right(layout.slots[2])
        );
    }

    #[test]
    fn bars_share_a_scale_that_holds_zero_and_shades_run_from_the_smallest_to_the_largest() {
        let rows = [["a", "", "-1.00", ""], ["b", "", "3.00", ""], ["c", "", "1.00", ""]];
        let (grid, _) =
            table(&rows, &Request { totals: Totals::Grand, ..Request::of(&["k"], &["sum(x)"]) });
        let style = Style {
            bars: vec!["sum(x)".into()],
            shades: vec!["sum(x)".into()],
            ..Style::default()
        };
        let layout = Layout::new(&grid, &style);
        let (figures, all) = (layout.slots[1], |f: &dyn Fn(Row) -> String| {
            layout.rows.iter().map(&f).collect::<Vec<_>>()
        });
        assert!(
            layout.has_bars(figures)
                && layout.has_shades(figures)
                && !layout.has_bars(layout.slots[0])
        );
        let bars = all(&|row| format!("{:?}", layout.bar(row, figures)));
        assert_eq!(bars, ["Some((0.0, 0.25))", "Some((0.25, 1.0))", "Some((0.25, 0.5))", "None"]);
        let shades = all(&|row| format!("{:?}", layout.shade(row, figures)));
        assert_eq!(shades, ["Some(0.0)", "Some(1.0)", "Some(0.5)", "None"]);
    }

    #[test]
    fn headings_in_files_are_told_apart() {
        let (grid, _) = table(&ROWS, &pivot(&["k"], "year(d)", &["k: sum(x)", "k: count()"]));
        let style = Style::default();
        let layout = Layout::new(&grid, &style);
        let headings: Vec<&str> = (0..layout.slots.len()).map(|i| layout.heading(i)).collect();
        assert_eq!(headings, ["k", "2024 / k (2)", "2024 / k (3)", "2025 / k (2)", "2025 / k (3)"]);
        assert_eq!(layout.heading_parts(layout.slots[3]), ["2025", "k (2)"]);
    }

    proptest! {
        #[test]
        fn a_label_is_left_out_only_where_the_line_above_has_it((grid, _) in any_table()) {
            let style = Style::default();
            let layout = Layout::new(&grid, &style);
            let mut above: Vec<String> = vec![String::new(); grid.by.len()];
            for row in layout.rows.iter() {
                for (key, above) in above.iter_mut().enumerate() {
                    let (mut read, label) = (String::new(), layout.label(row, Slot::Key(key)));
                    layout.push_read(&mut read, row, Slot::Key(key));
                    match label {
                        Some(label) => {
                            let mut plain = String::new();
                            push_label(&mut plain, &label);
                            prop_assert!(read == plain || read.is_empty() && *above == plain, "{read} {plain}");
                            *above = plain;
                        }
                        None => above.clear(),
                    }
                }
            }
        }
    }
}
