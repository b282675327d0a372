//! `lag` and `lead`: the value some steps away; and what `change` and `growth` compare with.
//!
//! Along a period a step is one of the calendar: a month without rows has the value of no rows.
//!
//! ```
//! # use oeuvre_columns::{InMemory, Kind, Source};
//! # let rows = InMemory::from_texts(
//! #     &[("sailed_on", Kind::Date), ("fare", Kind::Number { scale: 2 })],
//! #     &[
//! #         &["2025-01-09", "10.00"],
//! #         &["2025-02-01", "15.00"],
//! #     ],
//! # )?;
//! use oeuvre_core::{Plan, Request, run};
//!
//! // sailed_on, fare: 2025-01-09 10.00; 2025-02-01 15.00
//! let request = Request::of(&["month(sailed_on)"], &["change(sum(fare))"]);
//! let plan = Plan::new(&request, rows.columns())?;
//! let (table, _) = run(&plan, &rows, 1)?;
//! let shown: Vec<String> = (0..table.lines.len()).map(|line| table.cell(line, 0).to_string()).collect();
//! assert_eq!(shown, ["", "5.00"]);
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

use super::partition::Partitions;
use super::{Argument, Gives, Parts, Said, Walks, pick, runs};
use oeuvre_columns::column::Column;
use oeuvre_columns::column::NO_NUMBER;
use oeuvre_columns::column::far::Scattered;
use oeuvre_columns::value::{Kind, Overflow};

/// The value so many steps back; ahead where negative. A step is one of the calendar where a period is
/// walked: a period without a cell, but within the range of the table, has the value of no rows.
#[derive(PartialEq, Eq, Hash)]
pub(crate) struct Step(pub(crate) i64);

impl Walks for Step {
    fn result(&self, x: Kind) -> Kind {
        x
    }

    fn work_out(&self, cells: &Partitions<'_>, of: &Argument<'_>) -> Result<Column, Overflow> {
        let mut with_empty = of.x.clone();
        let empty_cell = of.x.data.len() as u32;
        with_empty.push(of.kind, of.empty);
        let mut from = Scattered::new(cells.number.len(), NO_NUMBER);
        for run in runs(cells.order(), &cells.number) {
            match &cells.calendar {
                None => {
                    for (i, &cell) in run.iter().enumerate() {
                        let there = i as i64 - self.0;
                        if let Some(&source) = usize::try_from(there).ok().and_then(|t| run.get(t))
                        {
                            from.put(cell, source);
                        }
                    }
                }
                Some(calendar) => {
                    let back = if calendar.backwards { -self.0 } else { self.0 };
                    for &cell in run {
                        let there = i64::from(calendar.indexes[cell as usize]) - back;
                        match calendar.find(run, there) {
                            Some(source) => from.put(cell, source),
                            None if calendar.covers(there) => from.put(cell, empty_cell),
                            None => {}
                        }
                    }
                }
            }
        }
        Ok(pick(&with_empty, &from.finish()))
    }

    fn enters(&self, steps: i64, at: usize, here: usize) -> bool {
        steps == self.0 || at == here
    }

    fn parts(&self) -> Parts {
        Parts::OfArgument
    }

    fn said(&self, said: &Said) -> String {
        let Said { of, order, again, .. } = said;
        let (steps, also) = (said.steps(self.0.abs()), said.also());
        match said.gives {
            Gives::Change => format!("{of} less its value {steps} before, {order}{again}{also}"),
            Gives::Growth => {
                format!("{of} less its value {steps} before, over that value, {order}{again}{also}")
            }
            _ if self.0 < 0 => format!("{of} {steps} ahead, {order}{again}{also}"),
            _ => format!("{of} {steps} before, {order}{again}{also}"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::testing::{NO, walked, whole};
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(1, None, [NO, 5, 7, NO, 2, NO])]
    #[case(2, None, [NO, NO, 5, NO, NO, 2])]
    #[case(-1, None, [7, 3, NO, NO, 9, NO])]
    // Places 1, 2, 4 and 1, 3, 4: a month without rows has the value of no rows.
    #[case(1, Some([1, 2, 4, 1, 3, 4]), [NO, 5, 0, NO, 0, NO])]
    #[case(-2, Some([1, 2, 4, 1, 3, 4]), [0, 3, NO, NO, NO, NO])]
    fn a_step_is_one_of_the_walk_or_of_the_calendar(
        #[case] back: i64,
        #[case] places: Option<[i32; 6]>,
        #[case] expected: [i64; 6],
    ) {
        let places = places.as_ref().map(|p| &p[..]);
        let given = walked(&Step(back), &[0, 0, 0, 1, 1, 1], &[5, 7, 3, 2, NO, 9], places);
        assert_eq!(given, whole(&expected));
    }
}
