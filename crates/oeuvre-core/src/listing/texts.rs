//! Which texts of a listing are known by their codes.
//!
//! A column whose texts are only shown, or put in order, need not have one code for each text: nobody looks whether it is there
//! already, and where hardly any comes twice, readers and steps begin their texts anew from time to time.

use super::{of_rows, operands};
use crate::plan::{Plan, TableInput};
use crate::rows::program::{Operand, Step};
use std::collections::HashSet;

/// The columns that more is done with than show them or put them in order.
pub(super) fn compared(plan: &Plan) -> HashSet<Operand> {
    let mut compared: HashSet<Operand> =
        plan.table.steps.iter().flat_map(|step| step.args.iter().copied()).collect();
    for input in &plan.table_inputs {
        if let TableInput::Window(window) = input {
            compared.extend(operands(window));
        }
    }
    compared.extend(&plan.lines_where);
    compared
}

/// For each column of the source whether nothing of the plan remembers its codes from batch to batch.
pub(super) fn follows_texts(plan: &Plan) -> Vec<bool> {
    let known = known_by_code(plan);
    (0..plan.inputs.len()).map(|i| !known.contains(&Operand::Input(i))).collect()
}

/// For each step of the row program whether its texts may be begun anew.
pub(super) fn forgets(plan: &Plan) -> Vec<bool> {
    let known = known_by_code(plan);
    let steps = plan.row.steps.iter().enumerate();
    steps.map(|(i, step)| step.is_text_of_values() && !known.contains(&Operand::Step(i))).collect()
}

/// The columns of which a plan remembers from batch to batch what their codes mean, beside steps that work out values of
/// their own.
fn known_by_code(plan: &Plan) -> HashSet<Operand> {
    let inputs = |steps: &[Step]| -> Vec<Operand> {
        let is_input = |operand: &Operand| matches!(operand, Operand::Input(_));
        steps.iter().flat_map(|step| step.args.iter().copied()).filter(is_input).collect()
    };
    let mut known: HashSet<Operand> = inputs(&plan.filter.steps).into_iter().collect();
    known.extend(inputs(&plan.row.steps));
    let others = plan.row.steps.iter().filter(|step| !step.is_of_values());
    known.extend(others.flat_map(|step| step.args.iter().copied()));
    let texts = plan.watches.row_texts.iter().chain(&plan.watches.filter_texts);
    known.extend(texts.map(|watch| watch.operand));
    let values = plan.watches.values.iter().flat_map(|watch| &watch.args);
    known.extend(values.map(|arg| arg.operand));
    known.extend(plan.watches.days.iter().map(|watch| watch.operand));
    let compared = compared(plan);
    let of_rows = of_rows(plan).filter(|(input, _)| compared.contains(&Operand::Input(*input)));
    known.extend(of_rows.map(|(_, operand)| operand));
    known
}
