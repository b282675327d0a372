//! `running`: from the start of a walk to each cell.
//!
//! ```
//! # use oeuvre_columns::{InMemory, Kind, Source};
//! # let rows = InMemory::from_texts(
//! #     &[("month", Kind::Text), ("fare", Kind::Number { scale: 2 })],
//! #     &[
//! #         &["2025-01", "10.00"],
//! #         &["2025-02", "15.00"],
//! #         &["2025-04", "12.00"],
//! #     ],
//! # )?;
//! use oeuvre_core::{Plan, Request, run};
//!
//! // month, fare: 2025-01 10.00; 2025-02 15.00; 2025-04 12.00
//! let request = Request::of(&["month"], &["running(sum(fare) taking max)"]);
//! let plan = Plan::new(&request, rows.columns())?;
//! let (table, _) = run(&plan, &rows, 1)?;
//! let shown: Vec<String> = (0..table.lines.len()).map(|line| table.cell(line, 0).to_string()).collect();
//! assert_eq!(shown, ["10.00", "15.00", "15.00"]);
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

use super::partition::{Partitions, Steps};
use super::{Argument, Calc, Parts, Said, Taking, Walks};
use oeuvre_columns::at_once;
use oeuvre_columns::column::NO_NUMBER;
use oeuvre_columns::column::{Column, Data, MISSING_I64};
use oeuvre_columns::value::{Kind, Overflow};
use std::ops::Range;

/// What is made of the values from the start to here. Missing values are passed over; missing until there is
/// one, save for counts.
#[derive(PartialEq, Eq, Hash)]
pub(crate) struct Running(pub(crate) Taking);

impl Walks for Running {
    fn result(&self, x: Kind) -> Kind {
        self.0.result(x)
    }

    fn work_out(&self, cells: &Partitions<'_>, of: &Argument<'_>) -> Result<Column, Overflow> {
        if let (Taking::Sum, Data::I64(v), true) = (self.0, &of.x.data, cells.in_order)
            && let Some(sums) = running_in_order(&cells.number, v)
        {
            return Ok(Column::from(Data::I64(sums)));
        }
        if let (Taking::Sum, Data::I64(v), Some(steps), None, None) =
            (self.0, &of.x.data, &cells.steps, &cells.calendar, of.condition)
            && let Some(sums) = running_by_steps(steps, &cells.number, v, of.threads)
        {
            return Ok(Column::from(Data::I64(sums)));
        }
        cells.over(of.x, of.kind, self.0, None)
    }

    fn enters(&self, _: i64, at: usize, here: usize) -> bool {
        at <= here
    }

    fn parts(&self) -> Parts {
        match self.0 {
            Taking::Mean => Parts::Mean {
                sum: Calc::walked(Running(Taking::Sum)),
                count: Calc::walked(Running(Taking::Count)),
            },
            _ => Parts::None,
        }
    }

    fn said(&self, said: &Said) -> String {
        let Said { of, order, again, .. } = said;
        format!("{} of {of} from the start to here, {order}{again}", self.0.name())
    }
}

/// Running sums of cells that are walked as they stand, in one go; `None` when one does not fit.
fn running_in_order(partition: &[u32], values: &[i64]) -> Option<Vec<i64>> {
    let partitions = partition.iter().filter(|p| **p != NO_NUMBER).max();
    // Missing until there is a value.
    let mut sums = vec![MISSING_I64; partitions.map_or(0, |p| *p as usize + 1)];
    let mut out = Vec::with_capacity(values.len());
    for (&partition, &value) in partition.iter().zip(values) {
        let Some(sum) = sums.get_mut(partition as usize) else {
            out.push(MISSING_I64);
            continue;
        };
        if value != MISSING_I64 {
            let before = if *sum == MISSING_I64 { 0 } else { *sum };
            *sum = before.checked_add(value).filter(|s| *s != MISSING_I64)?;
        }
        out.push(*sum);
    }
    Some(out)
}

/// Running sums of cells whose steps are few, without putting them in order: what the steps before have come to is
/// where each step begins. Threads take as many cells each; where those of a step begin follows from what it has come to
/// in the cells before. `None` when a sum does not fit.
fn running_by_steps(
    steps: &Steps<'_>,
    number: &[u32],
    values: &[i64],
    threads: usize,
) -> Option<Vec<i64>> {
    let each = values.len().div_ceil(threads.max(1)).max(1);
    let shares = (0..values.len()).step_by(each).map(|at| at..(at + each).min(values.len()));
    let of_share = |cells: Range<usize>| {
        let (mut sums, mut fits) = (vec![MISSING_I64; steps.all], true);
        let mut each = values[cells.clone()].iter();
        steps.of_cells(number, cells, |step| {
            if let (Some(sum), Some(&value)) = (sums.get_mut(step as usize), each.next()) {
                fits &= add(sum, value);
            }
        });
        (sums, fits)
    };
    let shares: Vec<Range<usize>> = shares.collect();
    let mut all = at_once(shares.clone(), threads, of_share);
    // Where a step begins: what the steps before it, and those before it in its own one, have come to.
    let mut fits = all.iter().all(|(_, fits)| *fits);
    let mut before = MISSING_I64;
    for step in 0..steps.all {
        if step % steps.each == 0 {
            before = MISSING_I64;
        }
        for (sums, _) in &mut all {
            let of_step = std::mem::replace(&mut sums[step], before);
            fits &= add(&mut before, of_step);
        }
    }
    if !fits {
        return None;
    }
    let mut out = vec![0; values.len()];
    let all = out.chunks_mut(each).zip(shares).zip(all).collect();
    let fit = at_once(all, threads, |((out, cells), (mut sums, mut fits))| {
        let mut each = values[cells.clone()].iter().zip(out);
        steps.of_cells(number, cells, |step| {
            let Some((&value, out)) = each.next() else { return };
            *out = match sums.get_mut(step as usize) {
                Some(sum) => {
                    fits &= add(sum, value);
                    *sum
                }
                None => MISSING_I64,
            };
        });
        fits
    });
    fit.into_iter().all(|fits| fits).then_some(out)
}

/// Adds a value, unless it is missing, to a sum, which is missing until there is one; whether it fits.
#[inline(always)]
fn add(sum: &mut i64, value: i64) -> bool {
    if value == MISSING_I64 {
        return true;
    }
    let before = if *sum == MISSING_I64 { 0 } else { *sum };
    let (after, is_too_large) = before.overflowing_add(value);
    *sum = after;
    !is_too_large && after != MISSING_I64
}

#[cfg(test)]
mod tests {
    use super::super::testing::{NO, walked, whole};
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(Taking::Sum, [NO, 7, 10, 2, 2, 11])]
    #[case(Taking::Max, [NO, 7, 7, 2, 2, 9])]
    #[case(Taking::Min, [NO, 7, 3, 2, 2, 2])]
    #[case(Taking::Count, [0, 1, 2, 1, 1, 2])]
    fn values_run_up_in_each_partition(#[case] taking: Taking, #[case] expected: [i64; 6]) {
        let given = walked(&Running(taking), &[0, 0, 0, 1, 1, 1], &[NO, 7, 3, 2, NO, 9], None);
        assert_eq!(given, whole(&expected));
    }

    #[test]
    fn sums_that_outgrow_64_bits_go_on_in_128() {
        let most = i64::MAX;
        let given = walked(&Running(Taking::Sum), &[0, 0], &[most, most], None);
        assert_eq!(given[1].to_string(), "18446744073709551614");
    }
}
