//! The levels of the table: the cells at some of its keys, with what is worked out across them.
//!
//! A level is made when something asks for it and kept: a total asks for the same cells at fewer keys, an
//! aggregate over cells for those of the lines. On each, the table program runs with its windows in turn: a
//! window may take what the steps before it have made, and steps behind it take the window, which is why words
//! nest in arithmetic and in each other.
//!
//! If you add something that looks at other cells, it becomes a window here; where it has no meaning on a total
//! (nothing to compare, nothing to walk), say so by a [`Mask`], and the cell stays blank in all that uses it.

use super::tree::Trees;
use crate::error::Error;
use crate::grouping::{
    Depths, GroupStates, KeySet, Members, Numbering, Ranks, Rollup, SecondPassStates, by_periods,
    in_time, keys_of_level, of_no_rows, period_codes, roll_up,
};
use crate::ledger::Ledger;
use crate::pass::note_zero_divisions;
use crate::plan::{Built, From, Reference, TableInput, Window};
use crate::plan::{Plan, SortBy};
use crate::rows::evaluator::{Evaluator, StepOverflow};
use crate::rows::program::Operand;
use crate::window::Calc;
use crate::window::{self, Argument, Cells, Layout, pick};
use oeuvre_columns::column::NO_NUMBER;
use oeuvre_columns::column::{Column, Data};
use oeuvre_columns::value::calendar::Unit;
use oeuvre_columns::value::{Kind, Value};
use oeuvre_columns::work;
use std::collections::HashMap;
use std::rc::Rc;
use std::sync::Arc;

/// The cells at some keys.
pub(crate) struct LevelResults<'g> {
    pub(crate) cells: Rc<Rollup<'g>>,
    pub(super) windows: Vec<Column>,
    pub(super) table: Evaluator,
}

impl LevelResults<'_> {
    /// A column of the table program.
    pub(crate) fn column<'a>(&'a self, plan: &'a Plan, operand: Operand) -> &'a Column {
        column(plan, &self.cells, &self.windows, &self.table, operand)
    }

    /// The results of an aggregate, where a column of the table program is one.
    pub(crate) fn aggregate(&self, plan: &Plan, operand: Operand) -> Option<&Arc<Column>> {
        let Operand::Input(i) = operand else { return None };
        match &plan.table_inputs[i] {
            TableInput::Group(b) => self.cells.aggregate(b.operand),
            TableInput::Row(_) | TableInput::Window(_) => None,
        }
    }
}

fn column<'a>(
    plan: &'a Plan,
    cells: &'a Rollup<'_>,
    windows: &'a [Column],
    table: &'a Evaluator,
    operand: Operand,
) -> &'a Column {
    match operand {
        Operand::Input(i) => match &plan.table_inputs[i] {
            TableInput::Group(b) | TableInput::Row(b) => cells.column(b.operand),
            TableInput::Window(_) => &windows[i],
        },
        step => table.column(step, &[]),
    }
}

/// All levels of a table, made as they are asked for.
pub(crate) struct Levels<'a> {
    pub(super) plan: &'a Plan,
    group_states: &'a [GroupStates],
    second_pass: Option<&'a SecondPassStates>,
    pub(super) trees: &'a Trees,
    /// For each key the places of its codes in label order.
    pub(crate) ranks: Rc<[Ranks]>,
    /// For each key down the side, the place of each node among all lines of its depth, where lines are
    /// ordered by more than their labels.
    pub(crate) line_places: Option<Vec<Vec<u32>>>,
    evaluated: HashMap<Vec<usize>, Rc<Rollup<'a>>>,
    /// Of groups taken together their totals over the keys along the top, by their numbers.
    rest_lines: Option<Rc<Rollup<'a>>>,
    made: HashMap<Depths, Rc<LevelResults<'a>>>,
    /// The group program's columns for no rows.
    of_no_rows: Option<(Vec<Column>, Evaluator)>,
    /// Ties broken, by level.
    ties: HashMap<Depths, Vec<(String, u64)>>,
}

impl<'a> Levels<'a> {
    pub(crate) fn new(
        plan: &'a Plan,
        group_states: &'a [GroupStates],
        second_pass: Option<&'a SecondPassStates>,
        trees: &'a Trees,
        ranks: Vec<Ranks>,
    ) -> Levels<'a> {
        Levels {
            plan,
            group_states,
            second_pass,
            trees,
            ranks: ranks.into(),
            line_places: None,
            evaluated: HashMap::new(),
            rest_lines: None,
            made: HashMap::new(),
            of_no_rows: None,
            ties: HashMap::new(),
        }
    }

    /// Orders the lines that are walked by more than their labels; what was made before is made anew.
    pub(crate) fn order_lines(&mut self, places: Vec<Vec<u32>>) {
        self.line_places = Some(places);
        self.made.clear();
        self.ties.clear();
    }

    /// The level of so many keys.
    pub(crate) fn level(&mut self, depths: Depths) -> Result<Rc<LevelResults<'a>>, Error> {
        if let Some(known) = self.made.get(&depths) {
            return Ok(known.clone());
        }
        let cells = self.evaluated(&keys_of_level(self.plan.by_keys, depths))?;
        let level = Rc::new(self.make(cells, Some(depths))?);
        self.made.insert(depths, level.clone());
        Ok(level)
    }

    /// The level of so many keys, where it is needed.
    pub(crate) fn level_if(
        &mut self,
        needed: bool,
        depths: Depths,
    ) -> Result<Option<Rc<LevelResults<'a>>>, Error> {
        if needed { self.level(depths).map(Some) } else { Ok(None) }
    }

    /// The cells of groups taken together, by their number and the first so many keys along the top.
    /// `known` are the codes that all groups of a number share: key, then code by number.
    pub(crate) fn together(
        &mut self,
        members: &Members,
        across: usize,
        known: &[(usize, Vec<u32>)],
    ) -> Result<LevelResults<'a>, Error> {
        let it = self.plan;
        let kept: Vec<usize> = (it.by_keys..it.by_keys + across).collect();
        let mut cells = roll_up(it, self.group_states, 0, &kept, Some(members), None)?;
        cells.periods = self.shared_periods(members, &cells)?;
        let by_line =
            |i: &TableInput| matches!(i, TableInput::Window(w) if w.layout() == Some(Layout::Line));
        if it.table_inputs.iter().any(by_line) {
            let lines = roll_up(it, self.group_states, 0, &[], Some(members), None)?;
            self.rest_lines = Some(Rc::new(lines));
        }
        // A condition that means a line's own result has no meaning here, nor what is worked out from it.
        let everywhere = vec![true; cells.groups];
        for step in second_pass_steps(self.plan).into_iter().enumerate().filter(|s| s.1) {
            cells.evaluator.blank(step.0, &everywhere);
        }
        for (key, codes) in known {
            cells.kept.push(*key);
            cells.path.push(cells.start.iter().map(|n| codes[n as usize]).collect());
        }
        self.make(Rc::new(cells), None)
    }

    /// The longer periods that windows are shared in, of groups taken together: that in which all groups of
    /// a number lie, else none.
    #[allow(clippy::type_complexity)]
    fn shared_periods(
        &mut self,
        members: &Members,
        cells: &Rollup<'_>,
    ) -> Result<Vec<((usize, Unit), Vec<u32>)>, Error> {
        let mut all: Vec<(usize, Unit)> = Vec::new();
        for input in &self.plan.table_inputs {
            if let TableInput::Window(Window { within: Some(within), .. }) = input {
                all.extend(KeySet::of(within).periods);
            }
        }
        // A key along the top is kept, and has its periods as everywhere.
        all.retain(|p| p.0 < self.plan.by_keys);
        all.sort();
        all.dedup();
        if all.is_empty() {
            return Ok(Vec::new());
        }
        let keys: Vec<usize> = (0..self.plan.keys().len()).collect();
        let finest = self.evaluated(&keys)?;
        let mut out = Vec::new();
        for (key, unit) in all {
            let codes = period_codes(self.plan, &finest, key, unit).unwrap_or_default();
            let mut of_number: Vec<Option<u32>> = vec![None; members.count];
            for (group, &number) in members.of_group.iter().enumerate() {
                let (Some(known), Some(cell)) = (
                    of_number.get_mut(number as usize),
                    finest.map.of(group as u32 + 1).checked_sub(1),
                ) else {
                    continue;
                };
                // Rows without a date lie in no period.
                let code = match codes[cell as usize] {
                    0 => NO_NUMBER,
                    code => code,
                };
                *known = Some(match *known {
                    Some(before) if before != code => NO_NUMBER,
                    _ => code,
                });
            }
            let code = |n: u32| of_number.get(n as usize).copied().flatten().unwrap_or(NO_NUMBER);
            out.push(((key, unit), cells.start.iter().map(code).collect()));
        }
        Ok(out)
    }

    fn evaluated(&mut self, kept: &[usize]) -> Result<Rc<Rollup<'a>>, Error> {
        if let Some(known) = self.evaluated.get(kept) {
            return Ok(known.clone());
        }
        let second_pass = self.second_pass.and_then(|l| l.at(kept, &[]));
        let cells = Rc::new(roll_up(self.plan, self.group_states, 0, kept, None, second_pass)?);
        self.evaluated.insert(kept.to_vec(), cells.clone());
        Ok(cells)
    }

    /// Runs the table program over some cells. Without `depths` they are no level, and only totals have
    /// a meaning there.
    fn make(
        &mut self,
        cells: Rc<Rollup<'a>>,
        depths: Option<Depths>,
    ) -> Result<LevelResults<'a>, Error> {
        let plan = self.plan;
        let program = &plan.table;
        let mut table = Evaluator::new(program);
        let mut windows = vec![Column::default(); plan.table_inputs.len()];
        let mut masks = Masks::new(plan);
        if depths.is_none() {
            masks.of_rest(plan, cells.groups);
        }
        let mut done = 0;
        for (i, input) in plan.table_inputs.iter().enumerate() {
            let TableInput::Window(window) = input else { continue };
            let before = plan.steps_before[i];
            run_table(plan, &cells, &windows, &mut table, done..before)?;
            masks.pass_on(plan, &mut table, done..before);
            done = done.max(before);
            let now = Now { cells: &cells, windows: &windows, table: &table, depths };
            let (mut column, own) = match (depths, window.layout()) {
                (None, Some(layout)) => self.of_rest(window, &now, layout)?,
                _ => self.window(&window.at_level(&cells.kept, plan.by_keys), &now)?,
            };
            masks.inputs[i] = masks.of_window(window, own);
            if let Some(mask) = &masks.inputs[i] {
                column.data.blank(mask);
            }
            windows[i] = column;
            work::done(cells.groups as u64 * work::COMPARED);
        }
        run_table(plan, &cells, &windows, &mut table, done..program.steps.len())?;
        masks.pass_on(plan, &mut table, done..program.steps.len());
        Ok(LevelResults { cells, windows, table })
    }

    /// What a word that follows the layout gives on lines for the rest: each is its own line, and the subtotal
    /// around it is that of the innermost group that it stands in.
    fn of_rest(
        &mut self,
        window: &Window,
        now: &Now<'_>,
        layout: Layout,
    ) -> Result<(Column, Mask), Error> {
        let by_keys = self.plan.by_keys;
        let group = self.plan.group_of(window.args[0].operand);
        if window.calc != Calc::Total {
            return Ok(nowhere(window.kind, now.cells.groups));
        }
        if let (Layout::Line, Some(lines), Some(group)) = (layout, self.rest_lines.clone(), group) {
            let mut numbering = Numbering::default();
            let there = numbering.number(&[lines.start.to_vec()], lines.groups);
            let here = [now.cells.start.to_vec()];
            let column = lines.column(group.operand);
            return Ok(self.at_numbers(&mut numbering, &there, &here, now, column));
        }
        let (by, across): (Vec<usize>, Vec<usize>) =
            now.cells.kept.iter().partition(|k| **k < by_keys);
        let most = if layout == Layout::Subtotal { by.len() } else { 0 };
        let mut found: Option<(Column, Vec<bool>)> = None;
        for n in (0..=most).rev() {
            let keys = by[..n].iter().chain(&across);
            let within = Some(keys.map(|&k| Reference::Key(k)).collect());
            let (column, own) = self.total(&Window { within, ..window.clone() }, now)?;
            let blank = own.map_or_else(|| vec![false; now.cells.groups], |own| own.to_vec());
            match &mut found {
                None => found = Some((column, blank)),
                Some((known, lacks)) => {
                    for cell in (0..blank.len()).filter(|&cell| lacks[cell] && !blank[cell]) {
                        known.set(window.kind, cell, &column.value(window.kind, cell));
                    }
                    lacks.iter_mut().zip(blank).for_each(|(lack, blank)| *lack &= blank);
                }
            }
        }
        let (column, lacks) = found.unwrap_or_default();
        Ok((column, mask(lacks.into_iter())))
    }

    /// What a window gives, and where it has no meaning.
    fn window(&mut self, window: &Window, now: &Now<'_>) -> Result<(Column, Mask), Error> {
        let n = now.cells.groups;
        let blank = || nowhere(window.kind, n);
        if window.calc == Calc::Total {
            return self.total(window, now);
        }
        let Some(depths) = now.depths else { return Ok(blank()) };
        let without = |partition: &[u32]| mask(partition.iter().map(|p| *p == NO_NUMBER));
        let arg = |i: usize| now.column(self.plan, window.args[i].operand).clone();
        let text = || window.text.to_string();
        match &window.calc {
            Calc::Total => Ok(blank()),
            Calc::Aggregate(_) => self.over_cells(window, now, depths),
            Calc::Compared(function) => {
                let Some(partition) = self.compared(window, now, depths) else {
                    return Ok(blank());
                };
                let position = self.position(now);
                let ascending = window.descending == Some(false);
                let (x, partition, position) = (&arg(0), &partition[..], &position);
                let cells = Cells { x, partition, position, ascending };
                let done = function.work_out(&cells);
                if done.ties_broken > 0 {
                    self.note_ties(depths, text(), done.ties_broken);
                }
                Ok((done.column(&cells), without(partition)))
            }
            Calc::Walked(function) => {
                let Some(walked) = self.partitions(window, now) else { return Ok(blank()) };
                let empty = self.empty(window.args[0])?;
                let condition = window.condition.map(|c| now.column(self.plan, c.operand));
                let (x, kind, empty) = (&arg(0), window.args[0].kind, &empty);
                let of = Argument { x, kind, condition, empty, threads: 1 };
                let column = function.work_out(&walked, &of);
                let column = column.map_err(StepOverflow::of(&window.text))?;
                Ok((column, without(&walked.number)))
            }
        }
    }

    fn note_ties(&mut self, depths: Depths, text: String, n: u64) {
        let text = format!("{text}; in the order of the labels");
        self.ties.entry(depths).or_default().push((text, n));
    }

    /// The value of an argument for no rows; missing where it is not a result of rows.
    fn empty(&mut self, arg: Built) -> Result<Value, Error> {
        let it = &self.plan;
        let Operand::Input(i) = arg.operand else { return Ok(Value::Missing) };
        let TableInput::Group(group) = &it.table_inputs[i] else { return Ok(Value::Missing) };
        if self.of_no_rows.is_none() {
            let inputs = of_no_rows(it, 0)?;
            let mut evaluator = Evaluator::new(&it.groupings[0].group);
            let columns: Vec<&Column> = inputs.iter().collect();
            evaluator.run(&it.groupings[0].group, &columns, 1)?;
            self.of_no_rows = Some((inputs, evaluator));
        }
        let Some((inputs, evaluator)) = &self.of_no_rows else { return Ok(Value::Missing) };
        let columns: Vec<&Column> = inputs.iter().collect();
        Ok(evaluator.column(group.operand, &columns).value(group.kind, 0))
    }

    /// The same result at the keys of `within`.
    pub(super) fn total(
        &mut self,
        window: &Window,
        now: &Now<'_>,
    ) -> Result<(Column, Mask), Error> {
        let Some(group) = self.plan.group_of(window.args[0].operand) else {
            return Ok(nowhere(window.kind, now.cells.groups));
        };
        let within = window.within.clone().unwrap_or_default();
        let Some(here) = self.codes(now.cells, &within) else {
            return Ok(nowhere(window.kind, now.cells.groups));
        };
        let set = KeySet::of(&within);
        let mut numbering = Numbering::default();
        let coarse = if set.periods.is_empty() {
            self.evaluated(&set.keys)?
        } else {
            // The finest groups, by the longer periods that they lie in.
            let all: Vec<usize> = (0..self.plan.keys().len()).collect();
            let finest = self.evaluated(&all)?;
            let by = by_periods(self.plan, &finest, &set.periods);
            let second_pass = self.second_pass.and_then(|l| l.at(&set.keys, &set.periods));
            let mut cells = roll_up(
                self.plan,
                self.group_states,
                0,
                &set.keys,
                Some(&by.members),
                second_pass,
            )?;
            cells.periods = set
                .periods
                .iter()
                .zip(&by.codes)
                .map(|(&p, codes)| (p, cells.start.iter().map(|n| codes[n as usize]).collect()))
                .collect();
            Rc::new(cells)
        };
        let there = self.codes(&coarse, &within).unwrap_or_default();
        let numbers = numbering.number(&there, coarse.groups);
        Ok(self.at_numbers(&mut numbering, &numbers, &here, now, coarse.column(group.operand)))
    }

    /// An aggregate over the cells of the lines that share what stands after `within`.
    fn over_cells(
        &mut self,
        window: &Window,
        now: &Now<'_>,
        depths: Depths,
    ) -> Result<(Column, Mask), Error> {
        let Calc::Aggregate(aggregate) = &window.calc else {
            return Ok(nowhere(window.kind, now.cells.groups));
        };
        let it = &self.plan;
        let of_lines = match it.by_keys {
            0 => Depths { by: 0, across: it.keys().len() },
            by => Depths { by, across: depths.across },
        };
        let within = window.within.clone().unwrap_or_default();
        let Some(here) = self.codes(now.cells, &within) else {
            return Ok(nowhere(window.kind, now.cells.groups));
        };
        let kinds: Vec<Kind> = window.args.iter().map(|a| a.kind).collect();
        let mut numbering = Numbering::default();
        let level = if of_lines == depths { None } else { Some(self.level(of_lines)?) };
        let (cells, columns, truths) = match &level {
            None => (
                now.cells,
                self.columns(window, |o| now.column(self.plan, o)),
                window.condition.map(|c| now.column(self.plan, c.operand)),
            ),
            Some(level) => (
                &*level.cells,
                self.columns(window, |o| level.column(self.plan, o)),
                window.condition.map(|c| level.column(self.plan, c.operand)),
            ),
        };
        let there = self.codes(cells, &within).unwrap_or_default();
        let mut from = numbering.number(&there, cells.groups);
        if let Some(Column { data: Data::Bool(v), .. }) = truths {
            from.iter_mut().zip(v).for_each(|(p, &t)| *p = if t == 1 { *p } else { NO_NUMBER });
        }
        let to = numbering.number(&here, now.cells.groups);
        // In the order of the labels, so that what depends on the order is the same in every run.
        let order = self.label_order(cells);
        let from: Vec<u32> = order.iter().map(|&c| from[c as usize]).collect();
        let columns: Vec<Column> = columns.iter().map(|c| c.gather(&order)).collect();
        let args: Vec<&Column> = columns.iter().collect();
        let column = window::aggregate(&**aggregate, &args, &kinds, &from, &to)
            .map_err(StepOverflow::of(&window.text))?;
        let nowhere = mask(to.iter().map(|p| *p == NO_NUMBER));
        Ok((column, nowhere))
    }

    fn columns<'b>(&self, window: &Window, get: impl Fn(Operand) -> &'b Column) -> Vec<&'b Column> {
        window.args.iter().map(|a| get(a.operand)).collect()
    }

    /// Whether results walk the lines in the order in which they stand. Where that order depends on such
    /// a walk itself, all walks follow the labels.
    pub(crate) fn follows_lines(&self) -> bool {
        let it = &self.plan;
        let by_key = |r: &Reference| matches!(r, Reference::Key(k) if *k < it.by_keys && !in_time(it.keys()[*k].kind));
        let walks = |i: usize| match &it.table_inputs[i] {
            TableInput::Window(w) => {
                matches!(w.calc, Calc::Walked(_)) && w.along.iter().any(by_key)
            }
            _ => false,
        };
        let ordered = self.plan.sort.iter().any(|s| match s.by {
            SortBy::Result(_) => true,
            SortBy::Key(_) => s.descending,
        });
        let by_a_walk = self.plan.sort.iter().any(|s| match s.by {
            SortBy::Result(operand) => self.plan.windows_of(operand).into_iter().any(walks),
            SortBy::Key(_) => false,
        });
        ordered && !by_a_walk && (0..it.table_inputs.len()).any(walks)
    }

    /// Enters what happened on the levels that are shown.
    pub(crate) fn account(&self, shown: &[Depths], ledger: &mut Ledger) {
        for depths in shown {
            let Some(level) = self.made.get(depths) else { continue };
            ledger.add_divisions(&level.cells.ledger);
            note_zero_divisions(&self.plan.table, &level.table, ledger);
            for (text, n) in self.ties.get(depths).into_iter().flatten() {
                match ledger.ties_broken.iter_mut().find(|t| t.0 == *text) {
                    Some(known) => known.1 += n,
                    None => ledger.ties_broken.push((text.clone(), *n)),
                }
            }
        }
    }
}

/// The cells at which something has no meaning, as a word of the table on a line where there is nothing to
/// compare or walk; `None` for none.
pub(super) type Mask = Option<Rc<Vec<bool>>>;

/// A mask of some cells.
pub(super) fn mask(cells: impl Iterator<Item = bool>) -> Mask {
    let cells: Vec<bool> = cells.collect();
    cells.contains(&true).then(|| Rc::new(cells))
}

/// A column without a meaning at any of so many cells.
fn nowhere(kind: Kind, cells: usize) -> (Column, Mask) {
    let column = pick(&Column::from(Data::empty(kind)), &vec![NO_NUMBER; cells]);
    (column, mask(std::iter::repeat_n(true, cells)))
}

fn either(a: Mask, b: Mask) -> Mask {
    match (a, b) {
        (Some(a), Some(b)) if Rc::ptr_eq(&a, &b) => Some(a),
        (Some(a), Some(b)) => Some(Rc::new(a.iter().zip(b.iter()).map(|(a, b)| a | b).collect())),
        (a, b) => a.or(b),
    }
}

/// Which steps of the group program are worked out from an aggregate whose condition holds a result.
fn second_pass_steps(plan: &Plan) -> Vec<bool> {
    let mut second_pass: Vec<bool> = Vec::new();
    for step in &plan.groupings[0].group.steps {
        second_pass.push(step.args.iter().any(|&arg| in_second_pass(plan, &second_pass, arg)));
    }
    second_pass
}

fn in_second_pass(plan: &Plan, steps: &[bool], operand: Operand) -> bool {
    let grouping = &plan.groupings[0];
    match operand {
        Operand::Step(i) => steps[i],
        Operand::Input(i) => i
            .checked_sub(grouping.keys.len())
            .is_some_and(|i| matches!(grouping.aggregates[i].from, From::SecondPass(_))),
    }
}

/// Where the parts of a table program have no meaning: what is worked out from such a part has none either,
/// which is not the same as a missing value.
struct Masks {
    inputs: Vec<Mask>,
    steps: Vec<Mask>,
}

impl Masks {
    fn new(plan: &Plan) -> Masks {
        let it = &plan;
        Masks { inputs: vec![None; it.table_inputs.len()], steps: vec![None; it.table.steps.len()] }
    }

    /// On a rest, results that hold a condition with a result have no meaning.
    fn of_rest(&mut self, plan: &Plan, cells: usize) {
        let second_pass = second_pass_steps(plan);
        let everywhere = mask(std::iter::repeat_n(true, cells));
        for (input, mask) in plan.table_inputs.iter().zip(&mut self.inputs) {
            if let TableInput::Group(b) = input
                && in_second_pass(plan, &second_pass, b.operand)
            {
                mask.clone_from(&everywhere);
            }
        }
    }

    fn of(&self, operand: Operand) -> Mask {
        match operand {
            Operand::Input(i) => self.inputs[i].clone(),
            Operand::Step(i) => self.steps[i].clone(),
        }
    }

    /// The mask of a window: its own, and where what it looks at has none. An aggregate and a total look at other
    /// cells, whatever their own.
    fn of_window(&self, window: &Window, own: Mask) -> Mask {
        if matches!(window.calc, Calc::Aggregate(_) | Calc::Total) {
            return own;
        }
        let parts = window.args.iter().chain(&window.condition).map(|v| v.operand);
        parts.fold(own, |all, part| either(all, self.of(part)))
    }

    /// Passes masks on to steps that have run, whose values are made missing there.
    fn pass_on(&mut self, plan: &Plan, table: &mut Evaluator, steps: std::ops::Range<usize>) {
        for i in steps {
            let args = &plan.table.steps[i].args;
            let mask = args.iter().fold(None, |all, &arg| either(all, self.of(arg)));
            if let Some(mask) = &mask {
                table.blank(i, mask);
            }
            self.steps[i] = mask;
        }
    }
}

/// The cells of the level that is being worked out, with what has been worked out for them so far.
pub(super) struct Now<'b> {
    pub(super) cells: &'b Rollup<'b>,
    pub(super) windows: &'b [Column],
    pub(super) table: &'b Evaluator,
    pub(super) depths: Option<Depths>,
}

impl Now<'_> {
    pub(super) fn column<'c>(&'c self, plan: &'c Plan, operand: Operand) -> &'c Column {
        column(plan, self.cells, self.windows, self.table, operand)
    }
}

fn run_table(
    plan: &Plan,
    cells: &Rollup<'_>,
    windows: &[Column],
    table: &mut Evaluator,
    steps: std::ops::Range<usize>,
) -> Result<(), Error> {
    if steps.is_empty() {
        return Ok(());
    }
    let nobody = Evaluator::default();
    let inputs: Vec<&Column> = (0..windows.len())
        .map(|i| column(plan, cells, windows, &nobody, Operand::Input(i)))
        .collect();
    Ok(table.run_steps(&plan.table, steps, &inputs, cells.groups)?)
}

#[cfg(test)]
mod tests {
    use crate::testing::{answer, rows, shown, table};
    use crate::{Request, Totals};
    use rstest::rstest;

    const DATA: &str = "k m x:0\na|p|1\na|q|5\nb|p|4\nb|q|2\nc|q|\n";

    #[rstest]
    // Words nest in arithmetic and in each other.
    #[case("rank(sum(x) - lag(sum(x) along k))", "a p = -; a q = -; b p = 1; b q = 2; c q = -")]
    #[case("running(rank(sum(x)) along k)", "a p = 2; a q = 1; b p = 3; b q = 3; c q = 3")]
    #[case("lag(lag(count() along k) along k)", "a p = -; a q = -; b p = -; b q = -; c q = 1")]
    #[case(
        "sum(x) = max(sum(x) within k)",
        "a p = false; a q = true; b p = true; b q = false; c q = -"
    )]
    #[case(
        "share(sum(x) within m) > 0.5",
        "a p = false; a q = true; b p = true; b q = false; c q = -"
    )]
    #[case(
        "total(sum(x) within m) - total(sum(x))",
        "a p = -7; a q = -5; b p = -7; b q = -5; c q = -5"
    )]
    fn words_take_what_words_have_made(#[case] calc: &str, #[case] expected: &str) {
        assert_eq!(table(&rows(DATA), &["k", "m"], &[calc]), expected);
    }

    #[rstest]
    // A total is compared with its likes; where there is nothing to walk it is blank, in all that uses it.
    #[case(
        "rank(sum(x))",
        "a p = 2; a q = 1; a Total = 2; b p = 1; b q = 2; b Total = 1; Total = -"
    )]
    #[case(
        "running(sum(x) along m)",
        "a p = 1; a q = 5; a Total = -; b p = 6; b q = 8; b Total = -; Total = -"
    )]
    #[case(
        "if(running(sum(x) along m) > 0, 1, 0)",
        "a p = 1; a q = 1; a Total = -; b p = 1; b q = 1; b Total = -; Total = -"
    )]
    #[case(
        "share(sum(x) within k)",
        "a p = 0.2; a q = 0.8; a Total = 1; b p = 0.75; b q = 0.25; b Total = 1; Total = -"
    )]
    fn on_totals_a_word_compares_totals_or_has_no_meaning(
        #[case] calc: &str,
        #[case] expected: &str,
    ) {
        let rows = rows("k m x:0\na|p|1\na|q|4\nb|p|6\nb|q|2\n");
        let request = Request { totals: Totals::All, ..Request::of(&["k", "m"], &[calc]) };
        let given = shown(&answer(&rows, &request).unwrap().0);
        assert_eq!(given, expected);
    }
}
