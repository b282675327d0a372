//! Runs a program: registers that are kept and refilled from batch to batch.
//!
//! A batch costs one loop a step and no allocation once the first one has passed. What a step remembers of texts
//! (tests already made, codes in another dictionary) is kept with it, so that a function of a category runs once
//! a label. Divisions by zero give missing, and are counted on the rows that use them.
//!
//! ```
//! # use oeuvre_columns::{InMemory, Kind, Source};
//! # let rows = InMemory::from_texts(
//! #     &[("fare", Kind::Number { scale: 2 }), ("passengers", Kind::Number { scale: 0 })],
//! #     &[
//! #         &["12.00", "3"],
//! #         &["8.00", "0"],
//! #     ],
//! # )?;
//! use oeuvre_core::{Plan, Request, run};
//!
//! // fare, passengers: 12.00 3; 8.00 0
//! let request = Request::of(&[], &["count(fare / passengers)"]);
//! let plan = Plan::new(&request, rows.columns())?;
//! let (table, _) = run(&plan, &rows, 1)?;
//! assert_eq!(table.cell(0, 0).to_string(), "1");
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

use super::kernels;
use super::program::{Memory, Operand, Program, Step, Use};
use oeuvre_columns::column::Column;
use oeuvre_columns::column::dictionary::{Dictionary, Followed};
use oeuvre_columns::value::{Overflow, Value};
use std::collections::HashSet;
use std::sync::Arc;

/// More texts of a calculation than this are not kept from one batch to the next.
#[cfg(not(test))]
const MANY_TEXTS: usize = 1 << 16;
/// Few in tests, so that these see both.
#[cfg(test)]
const MANY_TEXTS: usize = 2;

/// Why a program stopped.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StepOverflow {
    /// The calculation whose result did not fit.
    pub text: Arc<str>,
    /// What it outgrew.
    pub overflow: Overflow,
}

impl StepOverflow {
    /// That the result of this calculation did not fit.
    pub(crate) fn of(text: &Arc<str>) -> impl Fn(Overflow) -> StepOverflow + Copy {
        |overflow| StepOverflow { text: text.clone(), overflow }
    }
}

/// The registers of a program, and what it remembers between batches.
#[derive(Clone, Debug, Default)]
pub struct Evaluator {
    registers: Vec<Column>,
    memos: Vec<Vec<u8>>,
    maps: Vec<Vec<Followed>>,
    known: Vec<Vec<Value>>,
    rows_found: Vec<Vec<i32>>,
    choices: Vec<u8>,
    /// Steps whose texts nobody knows by their codes from one batch to the next.
    forgets: Vec<bool>,
    /// How many rows have come since a step's texts were begun.
    since: Vec<u64>,
    /// Divisions by zero on rows that use their result, by step.
    pub zero_divisions: Vec<u64>,
    /// Those of which it is not known yet: the step, and the rows.
    waiting: Vec<(usize, Vec<usize>)>,
}

/// Whether so many texts, of so many rows, are better begun anew than looked up: there are many, and hardly any has come
/// twice.
pub(crate) fn are_unlike(texts: usize, rows: u64) -> bool {
    texts > MANY_TEXTS && rows <= (texts + texts / 8) as u64
}

fn from<'a>(registers: &'a [Column], operand: Operand, inputs: &[&'a Column]) -> &'a Column {
    match operand {
        Operand::Input(i) => inputs[i],
        Operand::Step(i) => &registers[i],
    }
}

impl Evaluator {
    /// Registers for a program.
    pub fn new(program: &Program) -> Evaluator {
        let n = program.steps.len();
        Evaluator {
            registers: vec![Column::default(); n],
            memos: vec![Vec::new(); n],
            maps: vec![Vec::new(); n],
            known: vec![Vec::new(); n],
            rows_found: vec![Vec::new(); n],
            choices: Vec::new(),
            forgets: vec![false; n],
            since: vec![0; n],
            zero_divisions: vec![0; n],
            waiting: Vec::new(),
        }
    }

    /// Lets go of the texts of some steps when there are many, hardly two of them alike, which nobody but other steps and whoever follows
    /// dictionaries knows by their codes.
    pub(crate) fn forgetting(mut self, forgets: Vec<bool>) -> Evaluator {
        self.forgets = forgets;
        self
    }

    /// Begins the texts of a step anew where that is better than looking them up, and all that other steps remember of them.
    fn forget(&mut self, program: &Program, step: usize, rows: usize) {
        let is_unlike = are_unlike(self.registers[step].dictionary.len(), self.since[step]);
        self.since[step] += rows as u64;
        if !self.forgets[step] || !is_unlike {
            return;
        }
        self.since[step] = rows as u64;
        self.registers[step].dictionary = Dictionary::default();
        for (user, it) in program.steps.iter().enumerate() {
            if it.args.contains(&Operand::Step(step)) {
                self.memos[user].clear();
                self.maps[user].clear();
                self.known[user].clear();
                self.rows_found[user].clear();
            }
        }
    }

    /// Runs all steps over some columns of `rows` values each.
    ///
    /// # Errors
    /// The calculation that overflowed; what was worked out before it is of no use then.
    pub fn run(
        &mut self,
        program: &Program,
        inputs: &[&Column],
        rows: usize,
    ) -> Result<(), StepOverflow> {
        self.run_steps(program, 0..program.steps.len(), inputs, rows)
    }

    /// Runs some of the steps; those before them have run.
    ///
    /// # Errors
    /// The calculation that overflowed.
    pub fn run_steps(
        &mut self,
        program: &Program,
        steps: std::ops::Range<usize>,
        inputs: &[&Column],
        rows: usize,
    ) -> Result<(), StepOverflow> {
        for (i, step) in program.steps.iter().enumerate().take(steps.end).skip(steps.start) {
            self.forget(program, i, rows);
            let mut out = std::mem::take(&mut self.registers[i]);
            let registers = &self.registers;
            let args: Vec<&Column> =
                step.args.iter().map(|&a| from(registers, a, inputs)).collect();
            let mut memory = Memory {
                memo: &mut self.memos[i],
                maps: &mut self.maps[i],
                known: &mut self.known[i],
                rows_found: &mut self.rows_found[i],
                choices: &mut self.choices,
            };
            let done = kernels::run(step, &args, rows, &mut out, &mut memory);
            self.registers[i] = out;
            let zeros =
                done.map_err(|overflow| StepOverflow { text: step.text.clone(), overflow })?;
            if zeros > 0 {
                let hits = self.zero_divided(step, inputs, rows);
                match program.uses(i) {
                    Use::Always => self.zero_divisions[i] += hits.len() as u64,
                    Use::Where(_) => self.waiting.push((i, hits)),
                }
            }
        }
        if steps.end == program.steps.len() {
            self.settle(program, inputs);
        }
        Ok(())
    }

    /// Makes some values of a step missing, after it has run.
    pub fn blank(&mut self, step: usize, places: &[bool]) {
        self.registers[step].data.blank(places);
    }

    fn get<'a>(&'a self, operand: Operand, inputs: &[&'a Column]) -> &'a Column {
        from(&self.registers, operand, inputs)
    }

    /// The rows on which a step divides by zero.
    fn zero_divided(&self, step: &Step, inputs: &[&Column], rows: usize) -> Vec<usize> {
        let dividend = self.get(step.args[0], inputs);
        let divisor = self.get(step.args[1], inputs);
        let is_hit = |&r: &usize| kernels::is_zero(divisor, r) && !dividend.data.is_missing(r);
        (0..rows).filter(is_hit).collect()
    }

    /// Counts the divisions by zero that waited for the conditions of an `if`, now that all steps have run.
    fn settle(&mut self, program: &Program, inputs: &[&Column]) {
        let waiting = std::mem::take(&mut self.waiting);
        if waiting.is_empty() {
            return;
        }
        let mut used = vec![false; program.steps.len()];
        for (step, rows) in waiting {
            // What uses a step comes after it, so that the last is looked at first.
            let mut around = vec![step];
            let mut seen = HashSet::from([step]);
            let mut next = 0;
            while let Some(&one) = around.get(next) {
                next += 1;
                if let Use::Where(by) = program.uses(one) {
                    around.extend(by.iter().map(|u| u.step).filter(|&s| seen.insert(s)));
                }
            }
            around.sort_unstable_by(|a, b| b.cmp(a));
            for row in rows {
                for &one in &around {
                    used[one] = match program.uses(one) {
                        Use::Always => true,
                        Use::Where(by) => by.iter().any(|u| {
                            used[u.step] && u.conditions.iter().all(|c| self.is(*c, inputs, row))
                        }),
                    };
                }
                self.zero_divisions[step] += u64::from(used[step]);
            }
        }
    }

    /// Whether a condition has the truth that is needed; a missing one is false.
    fn is(&self, (condition, truth): (Operand, bool), inputs: &[&Column], row: usize) -> bool {
        kernels::truth(self.get(condition, inputs), row).unwrap_or(false) == truth
    }

    /// The column of an operand, after [`Evaluator::run`].
    pub fn column<'a>(&'a self, operand: Operand, inputs: &[&'a Column]) -> &'a Column {
        self.get(operand, inputs)
    }
}
