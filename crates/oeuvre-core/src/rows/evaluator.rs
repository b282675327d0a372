//! Runs a program: registers that are kept and refilled from batch to batch.

use super::column::Column;
use super::kernels;
use super::program::{Memory, Operand, Program, Step};
use crate::value::{Overflow, Value};
use std::sync::Arc;

/// Why a program stopped.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StepOverflow {
    /// The calculation whose result did not fit.
    pub text: Arc<str>,
    /// What it outgrew.
    pub overflow: Overflow,
}

/// The registers of a program, and what it remembers between batches.
#[derive(Clone, Debug, Default)]
pub struct Evaluator {
    registers: Vec<Column>,
    memos: Vec<Vec<u8>>,
    maps: Vec<Vec<Vec<u32>>>,
    known: Vec<Vec<Value>>,
    rows_found: Vec<Vec<i32>>,
    choices: Vec<u8>,
    /// Divisions by zero, by step.
    pub zero_divisions: Vec<u64>,
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
            zero_divisions: vec![0; n],
        }
    }

    /// Runs all steps over some columns of `rows` values each.
    ///
    /// # Errors
    /// The calculation that overflowed.
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
                self.zero_divisions[i] += self.used_zero_divisions(step, inputs, rows);
            }
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

    /// How many of a step's divisions by zero are on rows that use the result.
    fn used_zero_divisions(&self, step: &Step, inputs: &[&Column], rows: usize) -> u64 {
        let divisor = self.get(step.args[1], inputs);
        let dividend = self.get(step.args[0], inputs);
        let used = |row: usize| {
            step.guards.iter().all(|&(guard, truth)| {
                kernels::truth(self.get(guard, inputs), row) == Some(truth)
                    || (!truth && kernels::truth(self.get(guard, inputs), row).is_none())
            })
        };
        let is_hit = |&row: &usize| {
            kernels::is_zero(divisor, row) && !dividend.data.is_missing(row) && used(row)
        };
        (0..rows).filter(is_hit).count() as u64
    }

    /// The column of an operand, after [`Evaluator::run`].
    pub fn column<'a>(&'a self, operand: Operand, inputs: &[&'a Column]) -> &'a Column {
        self.get(operand, inputs)
    }
}
