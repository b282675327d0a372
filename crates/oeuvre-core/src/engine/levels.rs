//! The levels of the table: the cells at some of its keys, with what is worked out across them.
//!
//! A level is made when something asks for it and kept: a total asks for the same cells at fewer keys,
//! an aggregate over cells for those of the lines.

use super::late::LateStates;
use super::scope::{Evaluated, LEFT_OUT, Members, evaluate, of_no_rows};
use super::tree::Trees;
use super::worker::{Gathered, note_zero_divisions, overflow, result_overflow, run};
use crate::error::Error;
use crate::language::resolve::{Built, Calc, Reference, TableInput, Window};
use crate::ledger::Ledger;
use crate::plan::{Plan, SortBy};
use crate::rows::column::{Column, Data};
use crate::rows::interner::Pairs;
use crate::rows::program::{Evaluator, Operand};
use crate::value::calendar::{Period, Unit};
use crate::value::{Kind, Value};
use crate::window::order::Ordinals;
use crate::window::walk::{Calendar, Walk};
use crate::window::{self, NO_CELL, NOWHERE, compare, pick};
use std::collections::HashMap;
use std::rc::Rc;

/// A level of the table: how many keys down the side and along the top its cells have.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(crate) struct Depths {
    pub(crate) by: usize,
    pub(crate) across: usize,
}

/// The sets of keys at which a result may be asked for.
pub(crate) fn kept_sets(plan: &Plan) -> Vec<Vec<usize>> {
    let keys = plan.resolved.keys().len();
    let by = plan.resolved.by_keys;
    let mut sets: Vec<Vec<usize>> = Vec::new();
    for i in 0..=by {
        for j in 0..=keys - by {
            sets.push(kept(by, Depths { by: i, across: j }));
        }
    }
    for input in &plan.resolved.table_inputs {
        if let TableInput::Window(Window { calc: Calc::Total(_), within: Some(within), .. }) = input
        {
            sets.push(keys_of(within));
        }
    }
    sets.sort();
    sets.dedup();
    sets
}

/// The keys of a level.
fn kept(by_keys: usize, depths: Depths) -> Vec<usize> {
    (0..depths.by).chain(by_keys..by_keys + depths.across).collect()
}

/// The keys among some references, in ascending order.
fn keys_of(references: &[Reference]) -> Vec<usize> {
    let key = |r: &Reference| if let Reference::Key(k) = r { Some(*k) } else { None };
    let mut keys: Vec<usize> = references.iter().filter_map(key).collect();
    keys.sort_unstable();
    keys.dedup();
    keys
}

/// The cells at some keys.
pub(crate) struct Level {
    pub(crate) cells: Rc<Evaluated>,
    windows: Vec<Column>,
    table: Evaluator,
}

impl Level {
    /// A column of the table program.
    pub(crate) fn column<'a>(&'a self, plan: &'a Plan, operand: Operand) -> &'a Column {
        column(plan, &self.cells, &self.windows, &self.table, operand)
    }
}

fn column<'a>(
    plan: &'a Plan,
    cells: &'a Evaluated,
    windows: &'a [Column],
    table: &'a Evaluator,
    operand: Operand,
) -> &'a Column {
    match operand {
        Operand::Input(i) => match &plan.resolved.table_inputs[i] {
            TableInput::Group(b) | TableInput::Row(b) => cells.column(b.operand),
            TableInput::Window(_) => &windows[i],
        },
        step => table.column(step, &[]),
    }
}

/// Numbers for combinations of codes, the same in every set of cells.
#[derive(Default)]
struct Numbering {
    chain: Vec<Pairs>,
}

impl Numbering {
    /// The number of each cell's combination; [`NOWHERE`] stays that.
    fn number(&mut self, columns: &[Vec<u32>], cells: usize) -> Vec<u32> {
        let mut numbers = vec![0u32; cells];
        for (i, codes) in columns.iter().enumerate() {
            if self.chain.len() <= i {
                self.chain.push(Pairs::default());
            }
            let most = |list: &[u32]| {
                list.iter().filter(|n| **n != NOWHERE).max().map_or(1, |m| *m as usize + 1)
            };
            self.chain[i].ensure(most(&numbers), most(codes));
            for (number, &code) in numbers.iter_mut().zip(codes) {
                *number = match (*number, code) {
                    (NOWHERE, _) | (_, NOWHERE) => NOWHERE,
                    (number, code) => self.chain[i].number(number, code),
                };
            }
        }
        numbers
    }
}

/// All levels of a table, made as they are asked for.
pub(crate) struct Levels<'a> {
    plan: &'a Plan,
    scopes: &'a [Gathered],
    late: Option<&'a LateStates>,
    trees: &'a Trees,
    /// For each key the places of its codes in label order.
    pub(crate) ranks: Vec<Vec<u32>>,
    /// For each key down the side, the place of each node among all lines of its depth, where lines are
    /// ordered by more than their labels.
    pub(crate) line_places: Option<Vec<Vec<u32>>>,
    evaluated: HashMap<Vec<usize>, Rc<Evaluated>>,
    made: HashMap<Depths, Rc<Level>>,
    /// The group program's columns for no rows.
    of_no_rows: Option<(Vec<Column>, Evaluator)>,
    /// Ties broken, by level.
    ties: HashMap<Depths, Vec<(String, u64)>>,
}

impl<'a> Levels<'a> {
    pub(crate) fn new(
        plan: &'a Plan,
        scopes: &'a [Gathered],
        late: Option<&'a LateStates>,
        trees: &'a Trees,
        ranks: Vec<Vec<u32>>,
    ) -> Levels<'a> {
        Levels {
            plan,
            scopes,
            late,
            trees,
            ranks,
            line_places: None,
            evaluated: HashMap::new(),
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
    pub(crate) fn level(&mut self, depths: Depths) -> Result<Rc<Level>, Error> {
        if let Some(known) = self.made.get(&depths) {
            return Ok(known.clone());
        }
        let cells = self.evaluated(&kept(self.plan.resolved.by_keys, depths))?;
        let level = Rc::new(self.make(cells, Some(depths))?);
        self.made.insert(depths, level.clone());
        Ok(level)
    }

    /// The level of so many keys, where it is needed.
    pub(crate) fn level_if(
        &mut self,
        needed: bool,
        depths: Depths,
    ) -> Result<Option<Rc<Level>>, Error> {
        if needed { self.level(depths).map(Some) } else { Ok(None) }
    }

    /// The cells of groups taken together, by their number and the first so many keys along the top.
    /// `known` are the codes that all groups of a number share: key, then code by number.
    pub(crate) fn together(
        &mut self,
        members: &Members,
        across: usize,
        known: &[(usize, Vec<u32>)],
    ) -> Result<Level, Error> {
        let it = &self.plan.resolved;
        let kept: Vec<usize> = (it.by_keys..it.by_keys + across).collect();
        let mut cells = evaluate(it, self.scopes, 0, &kept, Some(members), self.late)?;
        for (key, codes) in known {
            cells.kept.push(*key);
            cells.path.push(cells.start.iter().map(|&n| codes[n as usize]).collect());
        }
        self.make(Rc::new(cells), None)
    }

    fn evaluated(&mut self, kept: &[usize]) -> Result<Rc<Evaluated>, Error> {
        if let Some(known) = self.evaluated.get(kept) {
            return Ok(known.clone());
        }
        let cells = Rc::new(evaluate(&self.plan.resolved, self.scopes, 0, kept, None, self.late)?);
        self.evaluated.insert(kept.to_vec(), cells.clone());
        Ok(cells)
    }

    /// Runs the table program over some cells. Without `depths` they are no level, and only totals have
    /// a meaning there.
    fn make(&mut self, cells: Rc<Evaluated>, depths: Option<Depths>) -> Result<Level, Error> {
        let plan = self.plan;
        let program = &plan.resolved.table;
        let mut table = Evaluator::new(program);
        let mut windows = vec![Column::default(); plan.resolved.table_inputs.len()];
        let mut done = 0;
        for (i, input) in plan.resolved.table_inputs.iter().enumerate() {
            let TableInput::Window(window) = input else { continue };
            run_table(plan, &cells, &windows, &mut table, done..window.steps_before)?;
            done = done.max(window.steps_before);
            let now = Now { cells: &cells, windows: &windows, table: &table, depths };
            windows[i] = self.window(window, &now)?;
        }
        run_table(plan, &cells, &windows, &mut table, done..program.steps.len())?;
        Ok(Level { cells, windows, table })
    }

    fn window(&mut self, window: &Window, now: &Now<'_>) -> Result<Column, Error> {
        let n = now.cells.groups;
        let blank = || pick(&Column::from(Data::empty(window.kind)), &vec![NO_CELL; n]);
        if let Calc::Total(group) = &window.calc {
            return self.total(window, *group, now);
        }
        let Some(depths) = now.depths else { return Ok(blank()) };
        let arg = |i: usize| now.column(self.plan, window.args[i].operand).clone();
        let text = || window.text.to_string();
        match &window.calc {
            Calc::Total(_) => Ok(blank()),
            Calc::Aggregate(_) => self.over_cells(window, now, depths),
            Calc::Rank(_) | Calc::Tile(_) => {
                let Some(partition) = self.compared(window, now, depths) else {
                    return Ok(blank());
                };
                let ascending = window.descending == Some(false);
                let position = self.position(now, depths);
                let done = match window.calc {
                    Calc::Rank(ties) => {
                        compare::rank(&arg(0), &partition, &position, ascending, ties)
                    }
                    Calc::Tile(n) => compare::tile(&arg(0), &partition, &position, ascending, n),
                    _ => return Ok(blank()),
                };
                if done.ties_broken > 0 {
                    self.note_ties(depths, text(), done.ties_broken);
                }
                Ok(done.column)
            }
            _ => {
                let Some(way) = self.way(window, now) else { return Ok(blank()) };
                let (x, kind) = (arg(0), window.args[0].kind);
                let walk = way.walk();
                let empty = self.empty(window.args[0])?;
                let done = match &window.calc {
                    Calc::Step(back) => Ok(walk.step(&x, kind, *back, &empty)),
                    Calc::Running(using) => walk.running(&x, kind, *using),
                    Calc::Moving { steps, using, partial } => {
                        walk.moving(&x, kind, *using, *steps, *partial, &empty)
                    }
                    Calc::End { last } => {
                        let truths = window.condition.map(|c| now.column(self.plan, c).clone());
                        let holds = |cell: usize| match truths.as_ref().map(|t| &t.data) {
                            Some(Data::Bool(v)) => v[cell] == 1,
                            _ => true,
                        };
                        Ok(walk.end(&x, holds, *last))
                    }
                    _ => Ok(blank()),
                };
                done.map_err(|_| overflow(&format!("`{}`", window.text)))
            }
        }
    }

    fn note_ties(&mut self, depths: Depths, text: String, n: u64) {
        self.ties.entry(depths).or_default().push((text, n));
    }

    /// The value of an argument for no rows; missing where it is not a result of rows.
    fn empty(&mut self, arg: Built) -> Result<Value, Error> {
        let it = &self.plan.resolved;
        let Operand::Input(i) = arg.operand else { return Ok(Value::Missing) };
        let TableInput::Group(group) = &it.table_inputs[i] else { return Ok(Value::Missing) };
        if self.of_no_rows.is_none() {
            let inputs = of_no_rows(it, 0)?;
            let mut evaluator = Evaluator::new(&it.scopes[0].group);
            let columns: Vec<&Column> = inputs.iter().collect();
            run(&mut evaluator, &it.scopes[0].group, &columns, 1)?;
            self.of_no_rows = Some((inputs, evaluator));
        }
        let Some((inputs, evaluator)) = &self.of_no_rows else { return Ok(Value::Missing) };
        let columns: Vec<&Column> = inputs.iter().collect();
        Ok(evaluator.column(group.operand, &columns).value(group.kind, 0))
    }

    /// The codes of the longer periods of a key, cell by cell.
    fn period_codes(&self, cells: &Evaluated, key: usize, unit: Unit) -> Option<Vec<u32>> {
        cells.codes(key)?;
        let Kind::Period(fine) = self.plan.resolved.keys()[key].kind else { return None };
        let Data::I32(places) = &cells.inputs[key].data else { return None };
        let code = |&place: &i32| match place {
            i32::MIN => 0,
            // Any one-to-one code that is not 0 serves.
            index => unit.of_day(Period { unit: fine, index }.first_day()) as u32 ^ 1 << 31,
        };
        Some(places.iter().map(code).collect())
    }

    /// The codes of all references, cell by cell; `None` where one of them is not there.
    fn codes(&self, cells: &Evaluated, references: &[Reference]) -> Option<Vec<Vec<u32>>> {
        references
            .iter()
            .map(|r| match r {
                Reference::Key(k) => cells.codes(*k).map(<[u32]>::to_vec),
                Reference::Period { key, unit } => self.period_codes(cells, *key, *unit),
                Reference::Value(_) => None,
            })
            .collect()
    }

    /// The same result at the keys of `within`.
    fn total(&mut self, window: &Window, group: Built, now: &Now<'_>) -> Result<Column, Error> {
        let within = window.within.clone().unwrap_or_default();
        let Some(here) = self.codes(now.cells, &within) else {
            let none = vec![NO_CELL; now.cells.groups];
            return Ok(pick(&Column::from(Data::empty(window.kind)), &none));
        };
        let keys = keys_of(&within);
        let periods: Vec<Reference> =
            within.iter().filter(|r| matches!(r, Reference::Period { .. })).copied().collect();
        let mut numbering = Numbering::default();
        let coarse = if periods.is_empty() {
            self.evaluated(&keys)?
        } else {
            // The finest groups, by the longer periods that they lie in.
            let all: Vec<usize> = (0..self.plan.resolved.keys().len()).collect();
            let finest = self.evaluated(&all)?;
            let codes = self.codes(&finest, &periods).unwrap_or_default();
            let mut by_period = Numbering::default();
            let numbers = by_period.number(&codes, finest.groups);
            let of_group = finest
                .map
                .iter()
                .skip(1)
                .map(|&cell| match cell.checked_sub(1) {
                    Some(cell) => numbers[cell as usize],
                    None => LEFT_OUT,
                })
                .collect();
            let count = numbers.iter().max().map_or(0, |m| *m as usize + 1);
            let members = Members { of_group, count };
            let cells =
                evaluate(&self.plan.resolved, self.scopes, 0, &keys, Some(&members), self.late)?;
            // The period's codes by number, so that they are found like those of a key.
            let first: Vec<Vec<u32>> = codes
                .iter()
                .map(|of_cell| {
                    let mut of_number = vec![0; count];
                    numbers.iter().zip(of_cell).for_each(|(&n, &c)| of_number[n as usize] = c);
                    cells.start.iter().map(|&n| of_number[n as usize]).collect()
                })
                .collect();
            let there = self.within_codes(&cells, &within, first);
            let numbers = numbering.number(&there, cells.groups);
            let column = cells.column(group.operand);
            return Ok(self.at_numbers(&mut numbering, &numbers, &here, now, column));
        };
        let there = self.codes(&coarse, &within).unwrap_or_default();
        let numbers = numbering.number(&there, coarse.groups);
        Ok(self.at_numbers(&mut numbering, &numbers, &here, now, coarse.column(group.operand)))
    }

    /// The codes of the references where the periods are given in their order.
    fn within_codes(
        &self,
        cells: &Evaluated,
        within: &[Reference],
        periods: Vec<Vec<u32>>,
    ) -> Vec<Vec<u32>> {
        let mut periods = periods.into_iter();
        within
            .iter()
            .map(|r| match r {
                Reference::Key(k) => cells.codes(*k).map(<[u32]>::to_vec).unwrap_or_default(),
                _ => periods.next().unwrap_or_default(),
            })
            .collect()
    }

    fn at_numbers(
        &self,
        numbering: &mut Numbering,
        there: &[u32],
        here: &[Vec<u32>],
        now: &Now<'_>,
        column: &Column,
    ) -> Column {
        let mine = numbering.number(here, now.cells.groups);
        let most = there.iter().max().map_or(0, |m| *m as usize + 1);
        let mut cell_of = vec![NO_CELL; most];
        there.iter().enumerate().for_each(|(cell, &n)| cell_of[n as usize] = cell as u32);
        let from: Vec<u32> =
            mine.iter().map(|&n| cell_of.get(n as usize).copied().unwrap_or(NO_CELL)).collect();
        pick(column, &from)
    }

    /// An aggregate over the cells of the lines that share what stands after `within`.
    fn over_cells(
        &mut self,
        window: &Window,
        now: &Now<'_>,
        depths: Depths,
    ) -> Result<Column, Error> {
        let Calc::Aggregate(aggregate) = &window.calc else { return Ok(Column::default()) };
        let it = &self.plan.resolved;
        let of_lines = match it.by_keys {
            0 => Depths { by: 0, across: it.keys().len() },
            by => Depths { by, across: depths.across },
        };
        let within = window.within.clone().unwrap_or_default();
        let Some(here) = self.codes(now.cells, &within) else {
            let none = vec![NO_CELL; now.cells.groups];
            return Ok(pick(&Column::from(Data::empty(window.kind)), &none));
        };
        let kinds: Vec<Kind> = window.args.iter().map(|a| a.kind).collect();
        let mut numbering = Numbering::default();
        let level = if of_lines == depths { None } else { Some(self.level(of_lines)?) };
        let (cells, columns, truths) = match &level {
            None => (
                now.cells,
                self.columns(window, |o| now.column(self.plan, o)),
                window.condition.map(|c| now.column(self.plan, c)),
            ),
            Some(level) => (
                &*level.cells,
                self.columns(window, |o| level.column(self.plan, o)),
                window.condition.map(|c| level.column(self.plan, c)),
            ),
        };
        let there = self.codes(cells, &within).unwrap_or_default();
        let mut from = numbering.number(&there, cells.groups);
        if let Some(Column { data: Data::Bool(v), .. }) = truths {
            from.iter_mut().zip(v).for_each(|(p, &t)| *p = if t == 1 { *p } else { NOWHERE });
        }
        let to = numbering.number(&here, now.cells.groups);
        // In the order of the labels, so that what depends on the order is the same in every run.
        let order = self.label_order(cells);
        let from: Vec<u32> = order.iter().map(|&c| from[c as usize]).collect();
        let columns: Vec<Column> = columns.iter().map(|c| c.gather(&order)).collect();
        let args: Vec<&Column> = columns.iter().collect();
        window::aggregate(aggregate.as_ref(), &args, &kinds, &from, &to).map_err(result_overflow)
    }

    fn columns<'b>(&self, window: &Window, get: impl Fn(Operand) -> &'b Column) -> Vec<&'b Column> {
        window.args.iter().map(|a| get(a.operand)).collect()
    }

    fn label_order(&self, cells: &Evaluated) -> Vec<u32> {
        let by: Vec<Ordinals> = cells
            .kept
            .iter()
            .zip(&cells.path)
            .map(|(&k, codes)| Ordinals::of_codes(codes.iter().map(|&c| self.ranks[k][c as usize])))
            .collect();
        window::order::sorted(cells.groups, &by.iter().collect::<Vec<_>>())
    }

    /// The cells that a rank compares: those that share the keys after `within`, else the siblings; what
    /// stands on the other axis stays the same.
    fn compared(&self, window: &Window, now: &Now<'_>, depths: Depths) -> Option<Vec<u32>> {
        let it = &self.plan.resolved;
        let kept = &now.cells.kept;
        let walked: Vec<usize> = match window.along.as_slice() {
            // The siblings: the innermost key at this level, of the lines where there are any.
            [] => match (it.by_keys, depths.by, depths.across) {
                (0, _, 0) => return None,
                (0, _, across) => vec![across - 1],
                (_, 0, _) => return None,
                (_, by, _) => vec![by - 1],
            },
            along => keys_of(along),
        };
        let shares = |k: &usize| window.within.iter().flatten().any(|r| *r == Reference::Key(*k));
        // On the totals of what is shared there is nothing to compare.
        if walked.iter().any(|k| !kept.contains(k) || shares(k)) {
            return None;
        }
        let is_by = |k: usize| k < it.by_keys;
        let within = window.within.as_deref();
        let mut shared: Vec<Reference> = kept
            .iter()
            .copied()
            .filter(|k| {
                let other_axis = walked.iter().all(|&w| is_by(w) != is_by(*k));
                !walked.contains(k) && (other_axis || within.is_none())
            })
            .map(Reference::Key)
            .collect();
        shared.extend(within.unwrap_or_default());
        let codes = self.codes(now.cells, &shared)?;
        Some(Numbering::default().number(&codes, now.cells.groups))
    }

    /// The way of a walk: the cells that are walked together, and in which order.
    fn way(&self, window: &Window, now: &Now<'_>) -> Option<Way> {
        let (mut partition, keys) = self.walked(window, now)?;
        let mut by = Vec::new();
        let mut calendar = None;
        for &key in &keys {
            let codes = now.cells.codes(key)?;
            let kind = self.plan.resolved.keys()[key].kind;
            let in_time =
                matches!(kind, Kind::Period(_) | Kind::Part(_) | Kind::Date | Kind::DateTime);
            if in_time {
                // What has no place in time is not walked.
                for (p, &code) in partition.iter_mut().zip(codes) {
                    *p = if code == 0 { NOWHERE } else { *p };
                }
            }
            let down = window.descending == Some(true);
            if let (Some(descending), false) = (window.descending, in_time) {
                let x = now.column(self.plan, window.args[0].operand);
                by.push(Ordinals::of(x, descending));
            }
            by.push(self.key_order(now, key, in_time && down));
            // Several keys walked one after the other have no calendar of their own.
            if let (Kind::Period(_), Data::I32(places), 1) =
                (kind, &now.cells.inputs[key].data, keys.len())
            {
                let present = places.iter().filter(|p| **p != i32::MIN);
                let first = present.clone().min().copied().unwrap_or(0);
                let last = present.max().copied().unwrap_or(-1);
                calendar = Some((places.clone(), (first, last), down));
            }
        }
        Some(Way { partition, by, calendar })
    }

    /// The cells that entered a window at one cell of a level; `None` where it has no meaning there.
    pub(crate) fn entered(
        &mut self,
        window: &Window,
        depths: Depths,
        cell: u32,
    ) -> Result<Option<EnteredCells>, Error> {
        let level = self.level(depths)?;
        let now = Now {
            cells: &level.cells,
            windows: &level.windows,
            table: &level.table,
            depths: Some(depths),
        };
        let mut from = level.clone();
        let cells: Vec<u32> = match &window.calc {
            Calc::Total(group) => {
                let total = self.total(window, *group, &now)?;
                let within = keys_of(window.within.as_deref().unwrap_or_default());
                let shared: Vec<usize> =
                    within.into_iter().filter(|k| level.cells.kept.contains(k)).collect();
                return Ok(Some(EnteredCells {
                    labels: self.key_labels(&level.cells, &shared, &[cell]),
                    kept: shared,
                    heading: "total".to_owned(),
                    kind: window.kind,
                    x: total.gather(&[cell]),
                }));
            }
            Calc::Aggregate(_) => {
                let by_keys = self.plan.resolved.by_keys;
                let across = match by_keys {
                    0 => self.plan.resolved.keys().len(),
                    _ => depths.across,
                };
                from = self.level(Depths { by: by_keys, across })?;
                let within = window.within.clone().unwrap_or_default();
                let (Some(here), Some(there)) =
                    (self.codes(&level.cells, &within), self.codes(&from.cells, &within))
                else {
                    return Ok(None);
                };
                let mut numbering = Numbering::default();
                let there = numbering.number(&there, from.cells.groups);
                let here = numbering.number(&here, level.cells.groups)[cell as usize];
                let mut cells = self.label_order(&from.cells);
                cells.retain(|&c| there[c as usize] == here);
                if let Some(condition) = window.condition
                    && let Data::Bool(truths) = &from.column(self.plan, condition).data
                {
                    cells.retain(|&c| truths[c as usize] == 1);
                }
                cells
            }
            Calc::Rank(_) | Calc::Tile(_) => {
                let Some(partition) = self.compared(window, &now, depths) else { return Ok(None) };
                let x = now.column(self.plan, window.args[0].operand);
                let by = [
                    &Ordinals::of(x, window.descending != Some(false)),
                    &self.position(&now, depths),
                ];
                let mut cells = window::order::sorted(level.cells.groups, &by);
                cells.retain(|&c| partition[c as usize] == partition[cell as usize]);
                cells
            }
            calc => {
                let Some(way) = self.way(window, &now) else { return Ok(None) };
                way.cells(calc, cell)
            }
        };
        let Some(x) = window.args.first() else { return Ok(None) };
        let kept = from.cells.kept.clone();
        Ok(Some(EnteredCells {
            labels: self.key_labels(&from.cells, &kept, &cells),
            kept,
            heading: window.of.to_string(),
            kind: x.kind,
            x: from.column(self.plan, x.operand).gather(&cells),
        }))
    }

    fn key_labels(&self, cells: &Evaluated, keys: &[usize], chosen: &[u32]) -> Vec<Column> {
        keys.iter().map(|&k| cells.inputs[k].gather(chosen)).collect()
    }

    /// The cells that are walked together, and the keys by which.
    fn walked(&self, window: &Window, now: &Now<'_>) -> Option<(Vec<u32>, Vec<usize>)> {
        let it = &self.plan.resolved;
        let along: Vec<usize> = window
            .along
            .iter()
            .filter_map(|r| if let Reference::Key(k) = r { Some(*k) } else { None })
            .collect();
        if along.is_empty() || along.iter().any(|k| !now.cells.kept.contains(k)) {
            return None;
        }
        // A longer period of what is walked is left behind by walking.
        let fixed = now.cells.kept.iter().copied().filter(|k| {
            !along.contains(k) && !along.iter().any(|&walked| it.is_coarser(*k, walked))
        });
        let mut shared: Vec<Reference> = fixed.map(Reference::Key).collect();
        shared.extend(window.within.iter().flatten());
        let codes = self.codes(now.cells, &shared)?;
        Some((Numbering::default().number(&codes, now.cells.groups), along))
    }

    /// The order of a key's labels as it is walked: that of the lines where they have one of their own.
    fn key_order(&self, now: &Now<'_>, key: usize, descending: bool) -> Ordinals {
        if let (Some(places), true) = (&self.line_places, key < self.plan.resolved.by_keys)
            && let Some(nodes) = self.trees.by_nodes(now.cells, key + 1)
        {
            return Ordinals::of_codes(nodes.iter().map(|&node| places[key][node as usize]));
        }
        let codes = now.cells.codes(key).unwrap_or_default();
        let ranks = &self.ranks[key];
        let last = ranks.len() as u32;
        Ordinals::of_codes(codes.iter().map(|&c| {
            let rank = ranks[c as usize];
            if descending { last - rank } else { rank }
        }))
    }

    /// The order of the cells themselves: their labels, key by key.
    fn position(&self, now: &Now<'_>, _: Depths) -> Ordinals {
        let mut places = vec![0u32; now.cells.groups];
        for (place, cell) in self.label_order(now.cells).into_iter().enumerate() {
            places[cell as usize] = place as u32;
        }
        Ordinals::of_codes(places.into_iter())
    }

    /// Whether a result walks the lines in the order in which they stand.
    pub(crate) fn follows_lines(&self) -> bool {
        self.plan.resolved.table_inputs.iter().any(|i| match i {
            TableInput::Window(w) => {
                !matches!(w.calc, Calc::Rank(_) | Calc::Tile(_))
                    && w.along
                        .iter()
                        .any(|r| matches!(r, Reference::Key(k) if *k < self.plan.resolved.by_keys))
            }
            _ => false,
        }) && self.plan.sort.iter().any(|s| match s.by {
            SortBy::Result(_) => true,
            SortBy::Key(_) => s.descending,
        })
    }

    /// Enters what happened on the levels that are shown.
    pub(crate) fn account(&self, shown: &[Depths], ledger: &mut Ledger) {
        for depths in shown {
            let Some(level) = self.made.get(depths) else { continue };
            ledger.add_divisions(&level.cells.ledger);
            note_zero_divisions(&self.plan.resolved.table, &level.table, ledger);
            for (text, n) in self.ties.get(depths).into_iter().flatten() {
                match ledger.ties_broken.iter_mut().find(|t| t.0 == *text) {
                    Some(known) => known.1 += n,
                    None => ledger.ties_broken.push((text.clone(), *n)),
                }
            }
        }
    }
}

/// Some cells with what a window took from them.
pub(crate) struct EnteredCells {
    pub(crate) kept: Vec<usize>,
    /// Their labels, key by key.
    pub(crate) labels: Vec<Column>,
    pub(crate) heading: String,
    pub(crate) kind: Kind,
    pub(crate) x: Column,
}

/// The cells that are walked together, and in which order.
struct Way {
    partition: Vec<u32>,
    by: Vec<Ordinals>,
    /// The place of each cell, the first and the last of all, and whether it is walked backwards.
    calendar: Option<(Vec<i32>, (i32, i32), bool)>,
}

impl Way {
    fn walk(&self) -> Walk<'_> {
        let calendar = self.calendar.as_ref().map(|(places, range, backwards)| Calendar {
            places,
            range: *range,
            backwards: *backwards,
        });
        Walk::new(&self.partition, &self.by.iter().collect::<Vec<_>>(), calendar)
    }

    /// The cells that enter a calculation at one of them.
    fn cells(&self, calc: &Calc, cell: u32) -> Vec<u32> {
        let by: Vec<&Ordinals> = self.by.iter().collect();
        let mut run = window::order::sorted(self.partition.len(), &by);
        let mine = self.partition[cell as usize];
        run.retain(|&c| mine != NOWHERE && self.partition[c as usize] == mine);
        let Some(here) = run.iter().position(|&c| c == cell) else { return Vec::new() };
        // How far each cell is from this one, in steps: of the calendar, or of the walk.
        let steps = |at: usize| match &self.calendar {
            Some((places, _, backwards)) => {
                let far = i64::from(places[cell as usize]) - i64::from(places[run[at] as usize]);
                if *backwards { -far } else { far }
            }
            None => here as i64 - at as i64,
        };
        let enters = |at: usize| match calc {
            Calc::Step(back) => steps(at) == *back || at == here,
            Calc::Running(_) => at <= here,
            Calc::Moving { steps: n, .. } => (0..i64::from(*n)).contains(&steps(at)),
            _ => true,
        };
        (0..run.len()).filter(|&at| enters(at)).map(|at| run[at]).collect()
    }
}

/// The cells at work, with what has been worked out for them so far.
struct Now<'b> {
    cells: &'b Evaluated,
    windows: &'b [Column],
    table: &'b Evaluator,
    depths: Option<Depths>,
}

impl Now<'_> {
    fn column<'c>(&'c self, plan: &'c Plan, operand: Operand) -> &'c Column {
        column(plan, self.cells, self.windows, self.table, operand)
    }
}

fn run_table(
    plan: &Plan,
    cells: &Evaluated,
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
    table
        .run_steps(&plan.resolved.table, steps, &inputs, cells.groups)
        .map_err(|o| overflow(&format!("`{}`", o.text)))
}
