//! A listing: every row is a cell of its own, and keeps its place in the file unless it is sorted.
//!
//! Where each row stands for itself, rows are streamed: read, worked out, given on (`stream.rs`). As a later
//! value may still turn out to be of another kind, a first pass makes sure that none does, so that nothing is
//! written that would have to be taken back. Where rows are compared, the columns that this needs are held in
//! memory whole, typed, eight bytes a value or less (`columns.rs`); the table is given on in parts all the same.
//!
//! ```
//! # use oeuvre_columns::{InMemory, Kind, Source};
//! # let rows = InMemory::from_texts(
//! #     &[("route", Kind::Text), ("fare", Kind::Number { scale: 2 })],
//! #     &[&["SKE", "12.50"], &["KEL", "8.00"], &["SKE", "7.00"]],
//! # )?;
//! use oeuvre_core::{Plan, Request, list};
//!
//! // route, fare: SKE 12.50; KEL 8.00; SKE 7.00
//! let show = ["route", "rank(fare within route)"];
//! let request = Request { listing: true, ..Request::of(&[], &show) };
//! let (table, ledger) = list(&Plan::new(&request, rows.columns())?, &rows, 1)?;
//! assert_eq!(table.cell(2, 1).to_string(), "2"); // the second largest of SKE
//! assert_eq!(ledger.counted, 3);
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

mod columns;
mod stream;
mod texts;

use crate::error::Error;
use crate::grid::{Grid, Line, LineKind, Lines, RatioColumns, ResultColumn};
use crate::ledger::Ledger;
use crate::pass::{Done, Pass, note_zero_divisions};
use crate::plan::{Plan, SortBy};
use crate::plan::{Reference, TableInput, Window};
use crate::rows::evaluator::{Evaluator, StepOverflow};
use crate::rows::program::Operand;
use crate::window::order::{Ordinals, sorted};
use crate::window::partition::{By, Partitions};
use crate::window::{self, Argument, Calc, Cells, Counted, Places};
use columns::{InBlocks, WORTH_A_THREAD};
pub(crate) use columns::{Keep, KeepShare};
use oeuvre_columns::Source;
use oeuvre_columns::column::NO_NUMBER;
use oeuvre_columns::column::dictionary::MISSING_CODE;
use oeuvre_columns::column::far;
use oeuvre_columns::column::interner::{Interner, Pairs};
use oeuvre_columns::column::{Column, Data};
use oeuvre_columns::value::{Kind, Value};
use oeuvre_columns::{at_once, in_order, work};
use std::collections::{BTreeMap, HashMap, HashSet};
use std::ops::Range;
use std::sync::Arc;
use stream::stream;
use texts::compared;

/// Takes a table in parts, in their order, each a grid with the same columns.
pub struct Parts<'a, T> {
    /// Makes something of a part; called by several threads.
    pub make: &'a (dyn Fn(&Grid) -> T + Sync),
    /// Takes what was made; false to stop.
    pub take: &'a mut dyn FnMut(T) -> bool,
}

/// Rows in one part: enough to make threads worthwhile, few enough to hold several.
const PART_ROWS: usize = 1 << 13;

/// Runs the plan of a listing.
///
/// # Errors
/// As [`crate::run`].
pub fn list(plan: &Plan, source: &dyn Source, threads: usize) -> Result<(Grid, Ledger), Error> {
    let done = Pass::over(source, threads).serve(&keep(plan))?;
    list_of(plan, source, threads, done)
}

/// The rows that the plan of a listing wants, as a consumer of a pass.
pub(crate) fn keep(plan: &Plan) -> Keep<'_> {
    let compared = compared(plan);
    let is_listed = |(input, _)| !compared.contains(&Operand::Input(input));
    let operands = of_rows(plan).map(|(_, operand)| operand).collect();
    Keep { plan, operands, listed: of_rows(plan).map(is_listed).collect() }
}

/// The inputs of the table program that are worked out row by row.
fn of_rows(plan: &Plan) -> impl Iterator<Item = (usize, Operand)> + '_ {
    plan.table_inputs.iter().enumerate().filter_map(|(i, input)| match input {
        TableInput::Row(b) | TableInput::Group(b) => Some((i, b.operand)),
        TableInput::Window(_) => None,
    })
}

/// The table of a listing whose rows have been read.
pub(crate) fn list_of(
    plan: &Plan,
    source: &dyn Source,
    threads: usize,
    done: Done<KeepShare>,
) -> Result<(Grid, Ledger), Error> {
    let (whole, mut ledger) = AllRows::of(plan, source, threads.max(1), done)?;
    let shown = whole.shown();
    let grid = whole.part(0..shown);
    account_rows(plan, &mut ledger, shown as u64, blank(&grid));
    Ok((grid, ledger))
}

/// Runs the plan of a listing, and gives it on in parts.
///
/// # Errors
/// As [`crate::run`].
pub fn list_in_parts<T: Send>(
    plan: &Plan,
    source: &dyn Source,
    threads: usize,
    parts: Parts<'_, T>,
) -> Result<Ledger, Error> {
    let threads = threads.max(1);
    let compares = !plan.sort.is_empty()
        || plan.top.is_some()
        || plan.bottom.is_some()
        || plan.table_inputs.iter().any(|i| matches!(i, TableInput::Window(_)));
    if !compares {
        return stream(plan, source, threads, parts);
    }
    let done = Pass::over(source, threads).serve(&keep(plan))?;
    let (whole, mut ledger) = AllRows::of(plan, source, threads, done)?;
    let shown = whole.shown();
    let blanks = give(shown, threads, &|range| whole.part(range), parts);
    account_rows(plan, &mut ledger, shown as u64, blanks);
    Ok(ledger)
}

/// The rows that meet the conditions of `--lines-where`.
fn kept_rows<'a>(plan: &Plan, rows: usize, get: impl Fn(Operand) -> &'a Column) -> Vec<u32> {
    let mut kept: Vec<u32> = (0..rows as u32).collect();
    for &condition in &plan.lines_where {
        if let Data::Bool(truths) = &get(condition).data {
            kept.retain(|&row| truths[row as usize] == 1);
        }
    }
    kept
}

/// Some rows of the table as a grid of their own.
fn part(plan: &Plan, rows: usize, columns: Vec<Column>) -> Grid {
    let columns = columns.into_iter().zip(&plan.results).enumerate().map(|(i, (cells, result))| {
        ResultColumn {
            heading: result.heading.clone(),
            calc: result.calc().to_owned(),
            position: 0,
            result: i,
            plain: result.plain,
            share: result.share,
            heading_mark: None,
            kind: result.built.kind,
            cells: cells.into(),
            ratio: None,
            marks: BTreeMap::new(),
        }
    });
    Grid {
        of_rows: true,
        lines: Lines::same(Line { kind: LineKind::Group, depth: 0 }, rows),
        positions: Lines::same(Line { kind: LineKind::Group, depth: 0 }, 1),
        columns: columns.collect(),
        ..Grid::default()
    }
}

fn blank(grid: &Grid) -> u64 {
    grid.columns.iter().map(|c| c.cells.data.count_missing() as u64).sum()
}

fn account_rows(plan: &Plan, ledger: &mut Ledger, rows: u64, blank: u64) {
    ledger.listing = true;
    ledger.lines = (rows, 0);
    ledger.not_shown = (ledger.counted.saturating_sub(rows), false);
    ledger.cells = (rows * plan.results.len() as u64 - blank, blank);
}

/// Gives parts on in their order, made by several threads.
fn give<T: Send>(
    rows: usize,
    threads: usize,
    chunk: &(dyn Fn(Range<usize>) -> Grid + Sync),
    parts: Parts<'_, T>,
) -> u64 {
    let Parts { make, take } = parts;
    let mut blanks = 0;
    let made = |at: usize| {
        let grid = chunk(at * PART_ROWS..((at + 1) * PART_ROWS).min(rows));
        (make(&grid), (grid.lines.len() * grid.columns.len()) as u64, blank(&grid))
    };
    in_order(rows.div_ceil(PART_ROWS), threads, made, |(made, fields, n)| {
        blanks += n;
        work::done(fields * work::FIELD);
        take(made)
    });
    blanks
}

/// All rows, with what has been worked out for them.
struct AllRows<'a> {
    plan: &'a Plan,
    rows: usize,
    /// The inputs of the table program; empty where nothing needs them whole.
    given: Vec<Column>,
    /// Whether the values of those that walks follow last grow from row to row.
    grown: HashMap<Operand, bool>,
    /// Those of them that are only shown, and stay where they are.
    in_blocks: HashMap<usize, InBlocks>,
    /// Those whose places follow from other columns where they are shown.
    ranked: HashMap<usize, Ranked>,
    table: Evaluator,
    /// The rows that are shown, in their order; `None` for all of them as they come.
    order: Option<Vec<u32>>,
    /// Of many rows that are shown in another order the columns in that order.
    in_order: HashMap<Operand, Column>,
}

/// The number of each row's combination of the values of some columns.
enum Within {
    /// The codes of a column.
    Codes(Operand),
    Made(Vec<u32>),
}

/// Places that follow from partition and value of a row.
struct Ranked {
    counted: Counted,
    within: Arc<Within>,
    x: Operand,
}

/// A window's places, and how many rows owe theirs to the order of the file.
type Worked = Result<(Places, u64), Error>;

impl<'a> AllRows<'a> {
    /// Works out what compares rows that have been read.
    fn of(
        plan: &'a Plan,
        source: &dyn Source,
        threads: usize,
        done: Done<KeepShare>,
    ) -> Result<(AllRows<'a>, Ledger), Error> {
        let of_rows: Vec<(usize, Operand)> = of_rows(plan).collect();
        let mut ledger = done.share.rows.ledger(plan, source, &done.account)?;
        source.ensure_sound(&plan.inputs)?;
        let columns = done.share.columns;
        let (rows, in_blocks) = columns.in_order(of_rows.len(), threads);
        if rows > u32::MAX as usize - 2 {
            return Err(Error::request_with_help(
                "a detail that compares rows holds at most 4 billion of them",
                "leave rows out with --where",
            ));
        }
        let in_blocks = of_rows.iter().map(|(i, _)| *i).zip(in_blocks);
        let mut it = AllRows {
            plan,
            rows,
            given: vec![Column::default(); plan.table_inputs.len()],
            grown: HashMap::new(),
            in_blocks: in_blocks.collect(),
            ranked: HashMap::new(),
            table: Evaluator::new(&plan.table),
            order: None,
            in_order: HashMap::new(),
        };
        let count = rows as u64;
        let windows = plan.table_inputs.iter().filter(|it| matches!(it, TableInput::Window(_)));
        let compared = count * windows.count() as u64 * work::COMPARED;
        let sorted = count * plan.sort.len() as u64 * work::SORTED;
        let results = plan.results.len() as u64;
        let copied = count * of_rows.len() as u64 * work::COPIED;
        let gathered = if plan.sort.is_empty() { 0 } else { count * results * work::GATHERED };
        let written = count * results * work::FIELD;
        work::expect(2 * copied + compared + sorted + gathered + written);
        work::done(copied);
        // Of few rows a thread costs more than it does.
        let threads = if rows < WORTH_A_THREAD { 1 } else { threads };
        it.join(threads);
        work::done(copied);
        it.work_out(threads, &mut ledger)?;
        note_zero_divisions(&plan.table, &it.table, &mut ledger);
        it.order = it.order(&mut ledger);
        work::done(sorted);
        it.put_in_order(threads);
        Ok((it, ledger))
    }

    /// Brings the columns of many rows into the order in which these are shown.
    fn put_in_order(&mut self, threads: usize) {
        let Some(order) = self.order.as_ref().filter(|order| far::are_many(order.len())) else {
            return;
        };
        let results = self.plan.results.iter();
        let operands = results.flat_map(|r| {
            std::iter::once(r.built.operand).chain(r.ratio.iter().flatten().map(|b| b.operand))
        });
        let mut known = HashSet::new();
        let operands = operands.filter(|&operand| known.insert(operand));
        let columns = operands.map(|operand| (operand, self.column(operand))).collect();
        let gathered = |(operand, column): (Operand, &Column)| {
            let column = column.gather(order);
            work::done(order.len() as u64 * work::GATHERED);
            (operand, column)
        };
        self.in_order = at_once(columns, threads, gathered).into_iter().collect();
    }

    /// How many rows are shown.
    fn shown(&self) -> usize {
        self.order.as_ref().map_or(self.rows, Vec::len)
    }

    /// Some of the rows that are shown.
    fn part(&self, range: Range<usize>) -> Grid {
        let picked: Option<&[u32]> = self.order.as_ref().map(|o| &o[range.clone()]);
        let pick = |operand: Operand| {
            if let Some(column) = self.in_order.get(&operand) {
                return column.slice(range.clone());
            }
            if let Operand::Input(i) = operand {
                if let Some(column) = self.in_blocks.get(&i) {
                    return column.slice(range.clone());
                }
                if let Some(Ranked { counted, within, x }) = self.ranked.get(&i) {
                    return counted.of(range.clone(), self.numbers(within), &self.column(*x).data);
                }
            }
            let column = self.column(operand);
            match picked {
                Some(rows) => column.gather(rows),
                None => column.slice(range.clone()),
            }
        };
        let columns = self.plan.results.iter().map(|r| pick(r.built.operand));
        let mut grid = part(self.plan, range.len(), columns.collect());
        for (column, result) in grid.columns.iter_mut().zip(&self.plan.results) {
            column.ratio = result.ratio.map(|both| {
                let [numerator, denominator] = both.map(|b| (b.kind, pick(b.operand).into()));
                RatioColumns { numerator, denominator }
            });
        }
        grid
    }

    fn column(&self, operand: Operand) -> &Column {
        match operand {
            Operand::Input(i) => &self.given[i],
            step => self.table.column(step, &[]),
        }
    }

    fn run_steps(&mut self, steps: Range<usize>) -> Result<(), Error> {
        if steps.is_empty() {
            return Ok(());
        }
        let inputs: Vec<&Column> = self.given.iter().collect();
        Ok(self.table.run_steps(&self.plan.table, steps, &inputs, self.rows)?)
    }

    /// Runs the table program and its windows; those that do not need one another at the same time.
    fn work_out(&mut self, threads: usize, ledger: &mut Ledger) -> Result<(), Error> {
        let plan = self.plan;
        let all: Vec<(usize, &Window)> = plan
            .table_inputs
            .iter()
            .enumerate()
            .filter_map(|(i, input)| match input {
                TableInput::Window(w) => Some((i, w)),
                _ => None,
            })
            .collect();
        let needed = needed_whole(plan);
        let mut done = 0;
        let mut at = 0;
        while at < all.len() {
            let first = all[at].0;
            let before = plan.steps_before[first];
            self.run_steps(done..before)?;
            done = done.max(before);
            let free = |(i, w): &&(usize, &Window)| {
                plan.steps_before[*i] <= done
                    && operands(w).all(|o| !matches!(o, Operand::Input(i) if i >= first))
            };
            let together = 1 + all[at + 1..].iter().take(threads - 1).take_while(free).count();
            let batch = &all[at..at + together];
            let it = &*self;
            // Windows within the same columns share the numbers of their partitions.
            let mut within: Vec<Vec<Operand>> = Vec::new();
            for (_, window) in batch {
                let columns = it.within(window);
                if !within.contains(&columns) {
                    within.push(columns);
                }
            }
            let numbers = at_once(within.iter().collect(), threads, |w| it.partition(w));
            let partitions: HashMap<_, _> =
                within.iter().zip(numbers.into_iter().map(Arc::new)).collect();
            let results = at_once(batch.iter().collect(), threads, |(_, window)| {
                it.window(window, it.numbers(&partitions[&it.within(window)]), threads)
            });
            for ((i, window), result) in batch.iter().zip(results) {
                let (places, ties) = result?;
                let x = window.args.first().map(|arg| arg.operand);
                match (places, x) {
                    (Places::Counted(counted), Some(x)) => {
                        let within = partitions[&self.within(window)].clone();
                        if needed.contains(&Operand::Input(*i)) {
                            let (numbers, x) = (self.numbers(&within), &self.column(x).data);
                            self.given[*i] = counted.of(0..self.rows, numbers, x);
                        } else {
                            self.ranked.insert(*i, Ranked { counted, within, x });
                        }
                    }
                    (Places::Made(column), _) => self.given[*i] = column,
                    (Places::Counted(_), None) => {}
                }
                if ties > 0 {
                    let text = format!("{}; in the order of the file", window.text);
                    ledger.ties_broken.push((text, ties));
                }
            }
            at += together;
            work::done((together * self.rows) as u64 * work::COMPARED);
        }
        self.run_steps(done..plan.table.steps.len())
    }

    fn window(&self, window: &Window, partition: &[u32], threads: usize) -> Worked {
        let position = Ordinals::none();
        let arg = |i: usize| self.column(window.args[i].operand);
        let too_large = |o| Error::from(StepOverflow::of(&window.text)(o));
        match &window.calc {
            Calc::Compared(function) => {
                let ascending = window.descending == Some(false);
                let (x, position) = (arg(0), &position);
                let done = function.work_out(&Cells { x, partition, position, ascending });
                Ok((done.places, done.ties_broken))
            }
            Calc::Total => Ok((Places::Made(Column::default()), 0)),
            Calc::Aggregate(aggregate) => {
                let args: Vec<&Column> =
                    window.args.iter().map(|a| self.column(a.operand)).collect();
                let kinds: Vec<Kind> = window.args.iter().map(|a| a.kind).collect();
                let from: Option<Vec<u32>> =
                    window.condition.map(|c| match &self.column(c.operand).data {
                        Data::Bool(v) => partition
                            .iter()
                            .zip(v)
                            .map(|(&p, &t)| if t == 1 { p } else { NO_NUMBER })
                            .collect(),
                        _ => partition.to_vec(),
                    });
                let from = from.as_deref().unwrap_or(partition);
                window::aggregate(&**aggregate, &args, &kinds, from, partition)
                    .map(|column| (Places::Made(column), 0))
                    .map_err(too_large)
            }
            Calc::Walked(function) => {
                let x = arg(0);
                let descending = window.descending == Some(true);
                let mut along: Vec<Operand> = window.along.iter().filter_map(value).collect();
                if along.is_empty() && window.descending.is_some() {
                    along.push(window.args[0].operand);
                }
                // Rows that stand in the order of the last one need not be put in it.
                let is_settled = !descending && along.last().is_some_and(|&o| self.is_grown(o, 1));
                if is_settled {
                    along.pop();
                }
                let by = along.into_iter().map(|o| By::of(self.column(o), descending)).collect();
                let cells = Partitions::new(partition.into(), by, is_settled, None);
                let condition = window.condition.map(|c| self.column(c.operand));
                let (kind, empty) = (window.args[0].kind, &Value::Missing);
                let argument = Argument { x, kind, condition, empty, threads };
                let column = function.work_out(&cells, &argument);
                Ok((Places::Made(column.map_err(too_large)?), cells.ties_broken))
            }
        }
    }

    /// The columns after `within`.
    fn within(&self, window: &Window) -> Vec<Operand> {
        window.within.iter().flatten().filter_map(value).collect()
    }

    /// Joins the columns of the rows that are needed whole.
    fn join(&mut self, threads: usize) {
        let mut needed = needed_whole(self.plan);
        let follows = self.plan.table_inputs.iter().filter_map(|input| match input {
            TableInput::Window(window) => window.along.last().and_then(value),
            _ => None,
        });
        let of_rows =
            |o: &Operand| matches!(o, Operand::Input(i) if self.in_blocks.contains_key(i));
        let follows: HashSet<Operand> = follows.filter(of_rows).collect();
        self.grown = follows.into_iter().map(|o| (o, self.is_grown(o, threads))).collect();
        needed.extend(self.grown.iter().filter(|(_, grown)| !**grown).map(|(o, _)| *o));
        let is_needed = |i: &usize, _: &mut InBlocks| needed.contains(&Operand::Input(*i));
        let mut whole: Vec<(usize, InBlocks)> = self.in_blocks.extract_if(is_needed).collect();
        // What was put aside is let go as it is joined, so that few columns are held twice: the widest go last, into the
        // memory of the others.
        whole.sort_by_key(|(i, column)| (column.width(), *i));
        let rows = self.rows;
        let joined = at_once(whole, threads, |(i, column)| (i, column.slice(0..rows)));
        for (i, column) in joined {
            self.given[i] = column;
        }
    }

    /// Whether the values of a column grow from each row to the next one.
    fn is_grown(&self, operand: Operand, threads: usize) -> bool {
        match (self.grown.get(&operand), operand) {
            (Some(known), _) => *known,
            (None, Operand::Input(i)) if self.in_blocks.contains_key(&i) => {
                self.in_blocks[&i].are_grown(threads)
            }
            (None, other) => Ordinals::are_grown(self.column(other)),
        }
    }

    /// The number of each row.
    fn numbers<'b>(&'b self, within: &'b Within) -> &'b [u32] {
        match within {
            Within::Made(numbers) => numbers,
            Within::Codes(operand) => match &self.column(*operand).data {
                Data::Codes(codes) => codes,
                _ => &[],
            },
        }
    }

    /// The number of each row's combination of the values of some columns.
    fn partition(&self, within: &[Operand]) -> Within {
        if let [one] = within
            && let Data::Codes(codes) = &self.column(*one).data
            && !codes.contains(&MISSING_CODE)
        {
            return Within::Codes(*one);
        }
        let mut numbers: Option<Vec<u32>> = None;
        for operand in within {
            let codes = codes(self.column(*operand));
            numbers = Some(match numbers {
                None => codes,
                Some(before) => {
                    let most = |list: &[u32]| list.iter().max().map_or(1, |m| *m as usize + 1);
                    let mut pairs = Pairs::default();
                    pairs.ensure(most(&before), most(&codes));
                    before.iter().zip(&codes).map(|(&a, &b)| pairs.number(a, b)).collect()
                }
            });
        }
        Within::Made(numbers.unwrap_or_else(|| vec![0; self.rows]))
    }

    /// The rows that are shown, in their order; `None` for all of them as they come.
    fn order(&self, ledger: &mut Ledger) -> Option<Vec<u32>> {
        let plan = self.plan;
        let cuts = plan.top.is_some() || plan.bottom.is_some();
        if plan.lines_where.is_empty() && plan.sort.is_empty() && !cuts {
            return None;
        }
        let kept = kept_rows(plan, self.rows, |o| self.column(o));
        let by: Vec<Ordinals> = plan
            .sort
            .iter()
            .filter_map(|s| match s.by {
                SortBy::Result(o) => {
                    Some(Ordinals::of(&self.column(o).gather(&kept), s.descending))
                }
                SortBy::Key(_) => None,
            })
            .collect();
        let order = sorted(kept.len(), &by.iter().collect::<Vec<_>>());
        let same = |a: u32, b: u32| by.iter().all(|o| o.same(a, b));
        if !by.is_empty() {
            let equal = order.chunk_by(|&a, &b| same(a, b)).filter(|e| e.len() > 1);
            let ties: u64 = equal.map(|e| e.len() as u64).sum();
            if ties > 0 {
                ledger.ties_broken.push(("--sort; in the order of the file".to_owned(), ties));
            }
        }
        let mut rows: Vec<u32> = order.iter().map(|&at| kept[at as usize]).collect();
        if cuts {
            // Rows without a value are neither the largest nor the smallest.
            if let Some(SortBy::Result(o)) = plan.sort.first().map(|s| s.by) {
                let column = self.column(o);
                rows.retain(|&row| !column.data.is_missing(row as usize));
            }
            let take = |n: Option<u64>| n.map_or(0, |n| n.min(rows.len() as u64) as usize);
            let (top, bottom) = (take(plan.top), take(plan.bottom));
            let from = rows.len().saturating_sub(bottom).max(top);
            rows.drain(top..from);
        }
        Some(rows)
    }
}

/// The columns of rows and windows that must be there whole: those that are worked with or compared, and all of them
/// where rows are left out or put in another order. The last column of a walk must where its values do not grow.
fn needed_whole(plan: &Plan) -> HashSet<Operand> {
    let mut needed: HashSet<Operand> =
        plan.table.steps.iter().flat_map(|step| step.args.iter().copied()).collect();
    for input in &plan.table_inputs {
        let TableInput::Window(window) = input else { continue };
        let last = window.along.len().saturating_sub(1);
        let along = window.along[..last].iter().filter_map(value);
        let within = window.within.iter().flatten().filter_map(value);
        needed.extend(along.chain(within));
        needed.extend(window.args.iter().chain(&window.condition).map(|built| built.operand));
        if window.descending == Some(true) {
            needed.extend(window.along.last().and_then(value));
        }
    }
    let cuts = plan.top.is_some() || plan.bottom.is_some();
    if cuts || !plan.sort.is_empty() || !plan.lines_where.is_empty() {
        needed.extend((0..plan.table_inputs.len()).map(Operand::Input));
    }
    needed
}

/// The column of the rows that a reference names.
fn value(reference: &Reference) -> Option<Operand> {
    match reference {
        Reference::Value(built) => Some(built.operand),
        _ => None,
    }
}

/// All operands that a window takes.
fn operands(window: &Window) -> impl Iterator<Item = Operand> {
    window
        .args
        .iter()
        .map(|a| a.operand)
        .chain(window.condition.map(|c| c.operand))
        .chain(window.along.iter().filter_map(value))
        .chain(window.within.iter().flatten().filter_map(value))
}

/// Small numbers that stand for the values of a column, equal ones for equal values.
fn codes(column: &Column) -> Vec<u32> {
    let mut interner = Interner::default();
    let mut code = |missing: bool, value: i128| {
        if missing { 0 } else { 1 + interner.intern_wide(value) }
    };
    match &column.data {
        // The largest code is missing: it wraps to 0.
        Data::Codes(v) => v.iter().map(|c| c.wrapping_add(1)).collect(),
        Data::Bool(v) => v.iter().map(|&b| u32::from(b)).collect(),
        Data::I64(v) => v.iter().map(|&x| code(x == i64::MIN, i128::from(x))).collect(),
        Data::I128(v) => v.iter().map(|&x| code(x == i128::MIN, x)).collect(),
        Data::I32(v) => v.iter().map(|&x| code(x == i32::MIN, i128::from(x))).collect(),
        Data::F64(v) => {
            let key = crate::aggregate::extremes::float_key;
            v.iter()
                .map(|&x| code(x.is_nan(), if x.is_nan() { 0 } else { i128::from(key(x)) }))
                .collect()
        }
    }
}

#[cfg(test)]
mod tests {
    use crate::testing::{answer, rows, shown};
    use crate::{Grid, Parts, Plan, Request, SourceText, list_in_parts};
    use oeuvre_columns::Source;
    use rstest::rstest;

    const DATA: &str = "k x:0\nb|3\na|1\nb|\na|3\n";

    fn listing(show: &[&str], sort: Option<&str>, keep: Option<&str>) -> Request {
        Request {
            listing: true,
            sort: sort.map(|s| SourceText::new("--sort", s)),
            lines_where: keep.map(|k| SourceText::new("--lines-where", k)).into_iter().collect(),
            ..Request::of(&[], show)
        }
    }

    #[rstest]
    #[case(&["k", "x"], None, None, "b 3; a 1; b -; a 3")]
    #[case(&["k", "x"], Some("x desc, k"), None, "a 3; b 3; a 1; b -")]
    #[case(&["x", "lag(x)"], None, None, "3 -; 1 3; - 1; 3 -")]
    #[case(&["x", "rank(x within k)"], Some("k"), None, "1 2; 3 1; 3 1; - -")]
    #[case(&["x", "sum(x within k)"], None, Some("x > 1"), "3 3; 3 4")]
    #[case(&["k", "running(x within k)"], None, Some("rank(x) <= 2"), "b 3; a 4")]
    #[case(&["x + 1"], None, Some("k = 'z'"), "")]
    fn rows_keep_their_place_unless_they_are_sorted(
        #[case] show: &[&str],
        #[case] sort: Option<&str>,
        #[case] keep: Option<&str>,
        #[case] expected: &str,
    ) {
        let (grid, ledger) = answer(&rows(DATA), &listing(show, sort, keep)).unwrap();
        assert_eq!(shown(&grid), expected);
        assert_eq!(ledger.lines.0 + ledger.not_shown.0, 4);
    }

    #[rstest]
    #[case(None)]
    #[case(Some("n desc"))]
    fn parts_come_in_order_and_stop_when_told(#[case] sort: Option<&str>) {
        let count = 100_000;
        let data: String = (0..count).map(|n| format!("\n{n}")).collect();
        let rows = rows(&format!("n:0{data}")).in_batches(7_000);
        let plan = Plan::new(&listing(&["n"], sort, None), rows.columns()).unwrap();
        let make = |grid: &Grid| (grid.lines.len(), grid.cell(0, 0).to_string());
        for stop_after in [usize::MAX, 2] {
            let mut parts: Vec<(usize, String)> = Vec::new();
            let mut take = |part| {
                parts.push(part);
                parts.len() < stop_after
            };
            list_in_parts(&plan, &rows, 2, Parts { make: &make, take: &mut take }).unwrap();
            let mut at = 0;
            for (lines, first) in &parts {
                let expected = if sort.is_some() { count - 1 - at } else { at };
                assert_eq!(*first, expected.to_string());
                at += lines;
            }
            assert!(if stop_after == 2 { parts.len() == 2 && at < count } else { at == count });
        }
    }
}
