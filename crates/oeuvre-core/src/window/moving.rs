//! `moving`: over each cell and the steps before it.
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
//! let request = Request::of(&["month"], &["moving(sum(fare), 2)"]);
//! let plan = Plan::new(&request, rows.columns())?;
//! let (table, _) = run(&plan, &rows, 1)?;
//! let shown: Vec<String> = (0..table.lines.len()).map(|line| table.cell(line, 0).to_string()).collect();
//! assert_eq!(shown, ["", "12.5", "13.5"]);
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

use super::frame::Frame;
use super::partition::Partitions;
use super::{Argument, Calc, Parts, Said, Taking, Walks};
use oeuvre_columns::column::Column;
use oeuvre_columns::value::{Kind, Overflow};

/// What is made of the values of the last steps together; missing until so many values are there, or as many as
/// `at_least` says; from 1 down a count of none is 0.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) struct Moving {
    /// How many steps, this one included.
    pub(crate) steps: u32,
    /// What is made of them.
    pub(crate) taking: Taking,
    /// How many values are enough; all of them unless said.
    pub(crate) at_least: Option<u32>,
}

impl Walks for Moving {
    fn result(&self, x: Kind) -> Kind {
        self.taking.result(x)
    }

    fn work_out(&self, cells: &Partitions<'_>, of: &Argument<'_>) -> Result<Column, Overflow> {
        let frame = Frame { steps: self.steps, at_least: self.at_least, empty: of.empty };
        cells.over(of.x, of.kind, self.taking, Some(frame))
    }

    fn enters(&self, steps: i64, _: usize, _: usize) -> bool {
        (0..i64::from(self.steps)).contains(&steps)
    }

    fn parts(&self) -> Parts {
        let taking = |taking| Calc::walked(Moving { taking, ..*self });
        match self.taking {
            Taking::Mean => Parts::Mean { sum: taking(Taking::Sum), count: taking(Taking::Count) },
            _ => Parts::None,
        }
    }

    fn said(&self, said: &Said) -> String {
        let few = match self.at_least {
            Some(enough) => format!("missing until there are {enough} values"),
            None => "missing until there are as many values".to_owned(),
        };
        let unit = said.calendar.unwrap_or("step");
        let last = match self.steps {
            1 => format!("this {unit}"),
            n => format!("the last {n} {unit}s, this one included"),
        };
        let Said { of, order, again, .. } = said;
        let also = said.also();
        format!("{} of {of} over {last}; {few}; {order}{again}{also}", self.taking.name())
    }
}

#[cfg(test)]
mod tests {
    use super::super::testing::{NO, walked, whole};
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(2, None, None, [NO, 12, 10, NO, NO, NO])]
    #[case(2, Some(1), None, [5, 12, 10, 2, 2, 9])]
    #[case(3, Some(2), None, [NO, 12, 15, NO, NO, 11])]
    // Places 1, 2, 4 and 1, 3, 4: the month between counts as nothing, and is a step.
    #[case(2, None, Some([1, 2, 4, 1, 3, 4]), [NO, 12, 3, NO, NO, NO])]
    fn the_last_steps_are_added_up(
        #[case] steps: u32,
        #[case] at_least: Option<u32>,
        #[case] places: Option<[i32; 6]>,
        #[case] expected: [i64; 6],
    ) {
        let places = places.as_ref().map(|p| &p[..]);
        let word = Moving { steps, taking: Taking::Sum, at_least };
        let given = walked(&word, &[0, 0, 0, 1, 1, 1], &[5, 7, 3, 2, NO, 9], places);
        assert_eq!(given, whole(&expected));
    }
}
