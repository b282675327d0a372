//! The table in a sheet: where its headings stand, which columns it has, its rows.
//!
//! The first row with cells has the headings. One that is alone in its row, above rows with more, is a title, and
//! named as such. Headings over several columns (a cell that was merged, with blank ones behind it) go with the
//! row below: `2025-Q1 / revenue`. Blank rows are none, wherever they stand.

use super::cell::Cell;
use crate::cells::Block;
use crate::options::ReadOptions;
use crate::text::headings;
use oeuvre_columns::{DataProblem, ReadError};
use std::collections::BTreeMap;

/// So many rows are looked at to find the headings.
const LOOK: usize = 20;

/// The table of a sheet.
#[derive(Debug, Default)]
pub(super) struct Table {
    pub(super) headings: Vec<String>,
    /// Its rows.
    pub(super) blocks: Vec<Block>,
    /// For each column whether it has numbers with a point, whose sign is sure.
    pub(super) has_numbers: Vec<bool>,
    /// Cells to the right of the last heading: how many, and the first.
    pub(super) beside: Option<(u64, String)>,
    /// Formulas without a result: how many, and the first.
    pub(super) unworked: Option<(u64, String)>,
    /// Blank cells above years that were taken for parts of the headings before them.
    pub(super) spanned: Vec<(u32, u32)>,
}

/// A row that is kept until it is known where the headings are: its cells, as texts.
struct Early {
    /// From 0.
    row: u32,
    cells: BTreeMap<u32, Text>,
}

/// A cell that is kept.
#[derive(Clone)]
struct Text {
    text: Vec<u8>,
    /// Whether it may be a heading.
    label: bool,
    /// Whether it is a number with a point.
    point: bool,
}

/// Makes a table of the cells of a sheet, which come row by row.
pub(super) struct Maker<'a> {
    /// The file and its sheet.
    name: &'a str,
    options: &'a ReadOptions,
    early: Vec<Early>,
    /// The columns of the table in the sheet, ascending, once they are known.
    columns: Option<Vec<u32>>,
    table: Table,
    /// Columns inside the table that have no heading.
    unheaded: Vec<u32>,
    block: Block,
    /// The row whose cells come, and the cell of it that comes next.
    row: u32,
    next: usize,
    open: bool,
    bytes: usize,
    /// Whether any cell held something.
    filled: bool,
    /// Whether headings stand in one row, whatever they look like.
    one_row: bool,
}

impl<'a> Maker<'a> {
    pub(super) fn new(name: &'a str, options: &'a ReadOptions) -> Maker<'a> {
        Maker {
            name,
            options,
            early: Vec::new(),
            columns: None,
            table: Table::default(),
            unheaded: Vec::new(),
            block: Block::default(),
            row: 0,
            next: 0,
            open: false,
            bytes: 0,
            filled: false,
            one_row: false,
        }
    }

    /// Headings stand in one row, whatever they look like.
    pub(super) fn with_one_row_of_headings(self) -> Maker<'a> {
        Maker { one_row: true, ..self }
    }

    /// Whether no cell held anything.
    pub(super) fn is_blank(&self) -> bool {
        !self.filled
    }

    /// Takes down a formula without a result.
    pub(super) fn unworked(&mut self, row: u32, column: u32) {
        if u64::from(row) >= self.options.skip_lines {
            let at = || format!("{}{}", column_name(column), row + 1);
            self.table.unworked.get_or_insert_with(|| (0, at())).0 += 1;
        }
    }

    fn problem(&self, row: u32, message: String) -> DataProblem {
        DataProblem::in_file(self.name, message).at_row(u64::from(row) + 1)
    }

    /// Takes a cell; both are counted from 0. Cells come in their order.
    ///
    /// # Errors
    /// What is wrong with the headings; a sheet that takes too much memory.
    pub(super) fn cell(&mut self, row: u32, column: u32, cell: &Cell<'_>) -> Result<(), ReadError> {
        if *cell == Cell::Blank {
            return Ok(());
        }
        self.filled = true;
        if u64::from(row) < self.options.skip_lines {
            return Ok(());
        }
        if self.columns.is_none() {
            let known = self.early.last().is_some_and(|early| early.row == row);
            if !known && self.early.len() == LOOK {
                self.begin()?;
                return self.cell(row, column, cell);
            }
            if !known {
                self.early.push(Early { row, cells: BTreeMap::new() });
            }
            let mut text = Vec::new();
            cell.write(&mut text);
            self.ensure_room(text.len())?;
            let point = matches!(cell, Cell::Number(n) if n.fract() != 0.0);
            if let Some(early) = self.early.last_mut() {
                early.cells.insert(column, Text { text, label: cell.is_label(), point });
            }
            return Ok(());
        }
        let place = match self.place(row, column)? {
            Some(place) => place,
            None => return Ok(()),
        };
        let from = self.block.text().len();
        cell.write(self.block.text());
        if let Cell::Number(n) = cell
            && n.fract() != 0.0
        {
            self.point(place, from);
        }
        self.block.end_cell();
        self.next += 1;
        self.ensure_fits(row)
    }

    /// Takes down that the cell whose text begins there is a number with a point.
    fn point(&mut self, place: usize, from: usize) {
        self.table.has_numbers[place] = true;
        self.block.point_from(from);
    }

    /// Which cell of the row a column is; those before it are complete. `None` where the table has none.
    fn place(&mut self, row: u32, column: u32) -> Result<Option<usize>, ReadError> {
        let columns = self.columns.as_deref().unwrap_or_default();
        let at = match columns.get(self.next) {
            Some(&next) if self.open && self.row == row && next == column => self.next,
            _ => match columns.binary_search(&column) {
                Ok(at) => at,
                Err(_) => {
                    self.outside(row, column)?;
                    return Ok(None);
                }
            },
        };
        if !self.open || self.row != row {
            self.end_row();
            (self.open, self.row) = (true, row);
        }
        // A cell that comes twice, or late, is none that a workbook may have.
        if at < self.next {
            return Ok(None);
        }
        while self.next < at {
            self.block.end_cell();
            self.next += 1;
        }
        Ok(Some(at))
    }

    /// A cell where the table has no column.
    fn outside(&mut self, row: u32, column: u32) -> Result<(), ReadError> {
        if self.unheaded.contains(&column) {
            let name = column_name(column);
            let it = self.problem(row, format!("column {name} has a value here, and no heading"));
            let it = it.help("write a heading above it, or name all: --headings 'a,b,c'");
            return Err(it.into());
        }
        match &mut self.table.beside {
            Some((cells, _)) => *cells += 1,
            none => *none = Some((1, format!("{}{}", column_name(column), row + 1))),
        }
        Ok(())
    }

    fn ensure_room(&mut self, bytes: usize) -> Result<(), ReadError> {
        self.bytes += bytes;
        if self.bytes as u64 > self.options.most_bytes {
            return Err(too_large(self.name, self.options.most_bytes));
        }
        Ok(())
    }

    fn ensure_fits(&self, row: u32) -> Result<(), ReadError> {
        if self.block.is_too_long() {
            return Err(self.problem(row, "this row is longer than 4 GiB".to_owned()).into());
        }
        Ok(())
    }

    /// Completes the row whose cells came.
    fn end_row(&mut self) {
        if !self.open {
            return;
        }
        self.open = false;
        let width = self.table.headings.len();
        while self.next < width {
            self.block.end_cell();
            self.next += 1;
        }
        self.next = 0;
        if !self.block.end_row(u64::from(self.row) + 1) {
            self.end_block();
        }
    }

    fn end_block(&mut self) {
        let mut block = std::mem::replace(&mut self.block, Block::new(self.table.headings.len()));
        block.finish();
        self.bytes += block.bytes();
        self.table.blocks.push(block);
    }

    /// The table, when all cells have come.
    ///
    /// # Errors
    /// As [`Maker::cell`]; a sheet without headings.
    pub(super) fn finish(mut self) -> Result<Table, ReadError> {
        if self.columns.is_none() {
            self.begin()?;
        }
        self.end_row();
        if self.block.rows() > 0 {
            self.end_block();
        }
        self.ensure_room(0)?;
        Ok(self.table)
    }

    /// Finds the headings, and takes the rows below them that came already.
    fn begin(&mut self) -> Result<(), ReadError> {
        let early = std::mem::take(&mut self.early);
        let Some(first) = early.first() else {
            let what = match self.options.skip_lines {
                0 => "the sheet is empty",
                _ => "nothing is left behind --skip-lines",
            };
            let it = DataProblem::in_file(self.name, what);
            return Err(it.help("a first row with the headings is expected").into());
        };
        let from_headings = self.options.first_line_is_headings;
        if from_headings && self.options.headings.is_none() {
            self.ensure_no_title(&early)?;
        }
        let (deep, spanned) = match (from_headings, self.one_row) {
            (true, false) => depth(&early),
            (true, true) => (1, Vec::new()),
            (false, _) => (0, Vec::new()),
        };
        self.table.spanned = spanned;
        let (names, columns) = match from_headings {
            true => names_of(&early[..deep]),
            false => {
                let mut all: Vec<u32> =
                    early.iter().flat_map(|e| e.cells.keys().copied()).collect();
                all.sort_unstable();
                all.dedup();
                ((1..=all.len()).map(|i| format!("column_{i}")).collect(), all)
            }
        };
        let names: Vec<String> = names;
        let last = columns.last().copied().unwrap_or(0);
        self.unheaded = (0..last).filter(|c| columns.binary_search(c).is_err()).collect();
        let mut names = names;
        let mut columns = columns;
        if let Some(given) = &self.options.headings {
            // Who names all columns means those without a heading, too.
            let below = &early[deep.min(early.len())..];
            let used = |c: &u32| below.iter().any(|e| e.cells.contains_key(c));
            let also: Vec<u32> = self.unheaded.iter().copied().filter(used).collect();
            if given.len() == names.len() + also.len() {
                columns.extend(also);
                columns.sort_unstable();
                self.unheaded.retain(|c| columns.binary_search(c).is_err());
                names.clone_from(given);
            }
            if given.len() != names.len() {
                let message =
                    format!("--headings names {}, the first row has {}", given.len(), names.len());
                let help = format!("name all of them: --headings '{}'", names.join(","));
                return Err(self.problem(first.row, message).help(help).into());
            }
            names.clone_from(given);
        }
        headings::check(&names, |message| self.problem(first.row, message), None)?;
        self.table.has_numbers = vec![false; names.len()];
        self.block = Block::new(names.len());
        self.table.headings = names;
        self.columns = Some(columns);
        for Early { row, cells } in early.into_iter().skip(deep) {
            for (column, cell) in cells {
                if let Some(place) = self.place(row, column)? {
                    let from = self.block.text().len();
                    self.block.text().extend_from_slice(&cell.text);
                    if cell.point {
                        self.point(place, from);
                    }
                    self.block.end_cell();
                    self.next += 1;
                }
            }
        }
        Ok(())
    }

    /// A first row with one cell above rows with more, that are alike, is a title.
    fn ensure_no_title(&self, early: &[Early]) -> Result<(), ReadError> {
        let above = early.iter().take_while(|e| e.cells.len() == 1).count();
        let below = &early[above.min(early.len())..];
        if above == 0 || below.len() < 2 {
            return Ok(());
        }
        let message = "this row looks like a title: those below it have more cells";
        let it = self.problem(early[0].row, message.to_owned());
        Err(it.help(headings::skip(below[0].row as usize)).into())
    }
}

/// How many of the first rows are headings: more than one where one has blanks behind a heading, the row below has
/// labels for all of them, and other values than labels stand below these. Where texts alone stand below, that row
/// may be one of the table. Blanks above years are given, too: there the file must say that they are merged.
fn depth(early: &[Early]) -> (usize, Vec<(u32, u32)>) {
    let (mut deep, mut spanned) = (1, Vec::new());
    while deep + 1 < early.len().min(5) {
        let (above, below) = (&early[deep - 1], &early[deep]);
        let (Some(first), Some(last)) = (above.cells.keys().next(), below.cells.keys().next_back())
        else {
            break;
        };
        let gaps: Vec<u32> = (*first..=*last).filter(|c| !above.cells.contains_key(c)).collect();
        let is_label = |row: &Early, c: &u32| row.cells.get(c).is_some_and(|cell| cell.label);
        let are_filled = gaps.iter().all(|c| is_label(below, c));
        let all_labels = below.cells.values().all(|cell| cell.label);
        let is_value =
            |row: &Early| gaps.iter().any(|c| row.cells.get(c).is_some_and(|cell| !cell.label));
        let values_below = early[deep + 1..].iter().any(is_value);
        let adjacent = above.row + 1 == below.row;
        if gaps.is_empty() || !are_filled || !all_labels || !adjacent || !values_below {
            break;
        }
        // A year may also be a value.
        let is_year = |c: &u32| below.cells[c].text.iter().all(u8::is_ascii_digit);
        spanned.extend(gaps.into_iter().filter(is_year).map(|column| (above.row, column)));
        deep += 1;
    }
    (deep, spanned)
}

/// The headings of columns, with those above that stand over several; and the columns.
fn names_of(rows: &[Early]) -> (Vec<String>, Vec<u32>) {
    let mut columns: Vec<u32> = rows.iter().flat_map(|r| r.cells.keys().copied()).collect();
    columns.sort_unstable();
    columns.dedup();
    let name = |&column: &u32| {
        let mut parts: Vec<String> = Vec::new();
        for (at, row) in rows.iter().enumerate() {
            let is_last = at + 1 == rows.len();
            // A heading over several columns stands in the first of them.
            let cell = match row.cells.get(&column) {
                Some(cell) => Some(cell),
                None if is_last => None,
                None => row.cells.range(..column).next_back().map(|(_, cell)| cell),
            };
            let below = rows[at + 1..].iter().any(|r| r.cells.contains_key(&column));
            let own = row.cells.contains_key(&column);
            if let Some(cell) = cell.filter(|_| own || below) {
                let text = String::from_utf8_lossy(&cell.text);
                parts.push(text.split_whitespace().collect::<Vec<_>>().join(" "));
            }
        }
        parts.join(" / ")
    };
    (columns.iter().map(name).collect(), columns)
}

/// The letters of a column, from 0: A, B, … Z, AA.
fn column_name(column: u32) -> String {
    let mut name = Vec::new();
    let mut left = column + 1;
    while left > 0 {
        name.push(b'A' + ((left - 1) % 26) as u8);
        left = (left - 1) / 26;
    }
    name.reverse();
    name.into_iter().map(char::from).collect()
}

/// The error of what cannot be held.
pub(super) fn too_large(name: &str, most_bytes: u64) -> ReadError {
    let it = DataProblem::in_file(name, format!("there are more than {most_bytes} bytes in it"));
    it.help("--most-bytes raises the limit, as in --most-bytes 20G").into()
}
