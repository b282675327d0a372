//! Frames: what is made of the values on the way to each cell, of all of them or of the last so many steps.
//!
//! `running` and `moving` are this with different frames. Sums are exact and carried along, so that a frame of
//! any length costs two additions a cell; the smallest and the largest of the last steps are kept in a queue from
//! which what is passed is dropped.

use super::order::Ordinals;
use super::partition::Partitions;
use super::{Taking, pick, runs};
use crate::aggregate::Overflow;
use crate::aggregate::float_sum::FloatSum;
use oeuvre_columns::column::NO_NUMBER;
use oeuvre_columns::column::{Column, Data, MISSING_I64, MISSING_I128};
use oeuvre_columns::value::decimal::Decimal;
use oeuvre_columns::value::exact::decimal_ratio;
use oeuvre_columns::value::{Kind, Value};
use std::collections::VecDeque;

/// The last so many steps of a walk.
#[derive(Clone, Copy)]
pub(super) struct Frame<'a> {
    pub(super) steps: u32,
    /// How many values are enough; all of them unless said.
    pub(super) at_least: Option<u32>,
    pub(super) empty: &'a Value,
}

/// How a frame has changed since the cell before.
struct Cells<'a> {
    /// Cells with a value that came in; [`EMPTY_CELL`] for a period without rows.
    entered: &'a [u32],
    /// Those that went out.
    left: &'a [u32],
    /// How many values are in it.
    present: u64,
    moved: Moved,
}

#[derive(Clone, Copy)]
enum Moved {
    /// A new partition.
    Restart,
    Kept,
}

/// A period without a cell whose value of no rows counts.
const EMPTY_CELL: u32 = u32::MAX - 1;

impl Partitions<'_> {
    /// What is made of the values on the way to each cell: all of them, or those in a frame. Missing values are
    /// passed over.
    ///
    /// # Errors
    /// What cannot be held.
    pub(super) fn over(
        &self,
        x: &Column,
        kind: Kind,
        taking: Taking,
        frame: Option<Frame<'_>>,
    ) -> Result<Column, Overflow> {
        match taking {
            Taking::Min | Taking::Max => Ok(self.extreme(x, kind, taking == Taking::Max, frame)),
            Taking::Count => {
                let mut out = vec![MISSING_I64; self.number.len()];
                self.frames(x, frame, |cell, cells, enough| {
                    if enough {
                        out[cell] = cells.present as i64;
                    }
                });
                Ok(Column::from(Data::I64(out)))
            }
            Taking::Sum | Taking::Mean => match &x.data {
                Data::F64(v) => self.float_sums(x, v, taking == Taking::Mean, frame),
                Data::I64(v) => self.whole_sums(x, |i| i128::from(v[i]), kind, taking, frame),
                Data::I128(v) => self.whole_sums(x, |i| v[i], kind, taking, frame),
                _ => Ok(pick(x, &vec![NO_NUMBER; self.number.len()])),
            },
        }
    }

    fn whole_sums(
        &self,
        x: &Column,
        value: impl Fn(usize) -> i128,
        kind: Kind,
        taking: Taking,
        frame: Option<Frame<'_>>,
    ) -> Result<Column, Overflow> {
        let scale = if let Kind::Number { scale } = kind { scale } else { 0 };
        let empty = match frame.map(|f| f.empty) {
            Some(Value::Number(d)) => d.rescale(scale).map_or(0, |d| d.mantissa),
            _ => 0,
        };
        let n = self.number.len();
        let mut means = if taking == Taking::Mean { vec![f64::NAN; n] } else { Vec::new() };
        let mut sums = if taking == Taking::Mean { Vec::new() } else { vec![MISSING_I64; n] };
        let mut wide: Vec<i128> = Vec::new();
        let (mut sum, mut failed) = (Some(0i128), false);
        self.frames(x, frame, |cell, cells, enough| {
            match cells.moved {
                Moved::Restart => sum = Some(0),
                Moved::Kept => {}
            }
            for &i in cells.entered {
                let v = if i == EMPTY_CELL { empty } else { value(i as usize) };
                sum = sum.and_then(|s| s.checked_add(v));
            }
            for &i in cells.left {
                let v = if i == EMPTY_CELL { empty } else { value(i as usize) };
                sum = sum.and_then(|s| s.checked_sub(v));
            }
            let Some(sum) = sum else {
                failed = true;
                return;
            };
            if !enough || cells.present == 0 {
                return;
            }
            if taking == Taking::Mean {
                let count = Decimal::new(cells.present as i128, 0);
                means[cell] = decimal_ratio(Decimal::new(sum, scale), count).unwrap_or(f64::NAN);
                return;
            }
            match i64::try_from(sum) {
                Ok(small) if wide.is_empty() && small != MISSING_I64 => sums[cell] = small,
                _ => {
                    if wide.is_empty() {
                        wide = sums
                            .iter()
                            .map(|&s| if s == MISSING_I64 { MISSING_I128 } else { i128::from(s) })
                            .collect();
                    }
                    wide[cell] = sum;
                }
            }
        });
        if failed {
            return Err(Overflow::Digits);
        }
        Ok(Column::from(match taking {
            Taking::Mean => Data::F64(means),
            _ if !wide.is_empty() => Data::I128(wide),
            _ => Data::I64(sums),
        }))
    }

    fn float_sums(
        &self,
        x: &Column,
        v: &[f64],
        mean: bool,
        frame: Option<Frame<'_>>,
    ) -> Result<Column, Overflow> {
        let empty = match frame.map(|f| f.empty) {
            Some(Value::Float(f)) => *f,
            _ => 0.0,
        };
        let mut out = vec![f64::NAN; self.number.len()];
        let (mut sum, mut failed) = (FloatSum::default(), false);
        self.frames(x, frame, |cell, cells, enough| {
            if matches!(cells.moved, Moved::Restart) {
                sum = FloatSum::default();
            }
            let value = |i: u32| if i == EMPTY_CELL { empty } else { v[i as usize] };
            // The sum is exact, so that what leaves it can be taken away again.
            cells.entered.iter().for_each(|&i| sum.add(value(i)));
            cells.left.iter().for_each(|&i| sum.add(-value(i)));
            if enough && cells.present > 0 {
                let figure = match mean {
                    false => sum.to_f64(),
                    true => oeuvre_columns::value::exact::ratio_to_f64(
                        &sum.numerator(),
                        &(FloatSum::denominator() * num_bigint::BigInt::from(cells.present)),
                    ),
                };
                failed |= figure.is_none();
                out[cell] = figure.unwrap_or(f64::NAN);
            }
        });
        if failed { Err(Overflow::Binary) } else { Ok(Column::from(Data::F64(out))) }
    }

    fn extreme(&self, x: &Column, kind: Kind, largest: bool, frame: Option<Frame<'_>>) -> Column {
        let mut with_empty = x.clone();
        if let Some(frame) = frame {
            with_empty.push(kind, frame.empty);
        }
        let empty_cell = x.data.len() as u32;
        let ordinals = Ordinals::of(&with_empty, largest);
        let mut from = vec![NO_NUMBER; self.number.len()];
        // The cells that may still become the smallest ordinal, in ascending order.
        let mut waiting: VecDeque<u32> = VecDeque::new();
        self.frames(x, frame, |cell, cells, enough| {
            if matches!(cells.moved, Moved::Restart) {
                waiting.clear();
            }
            let ordinal = |i: u32| ordinals.of_cell(i);
            let real = |i: u32| if i == EMPTY_CELL { empty_cell } else { i };
            for i in cells.entered.iter().map(|&i| real(i)) {
                while waiting.back().is_some_and(|&w| ordinal(w) > ordinal(i)) {
                    waiting.pop_back();
                }
                waiting.push_back(i);
            }
            for i in cells.left.iter().map(|&i| real(i)) {
                if waiting.front() == Some(&i) {
                    waiting.pop_front();
                }
            }
            if enough && let Some(&best) = waiting.front() {
                from[cell] = best;
            }
        });
        pick(&with_empty, &from)
    }

    /// Calls back for each cell with the values that have come into its frame and left it.
    fn frames(
        &self,
        x: &Column,
        frame: Option<Frame<'_>>,
        mut each: impl FnMut(usize, Cells<'_>, bool),
    ) {
        let mut inside: VecDeque<u32> = VecDeque::new();
        let mut left = Vec::new();
        let mut entered = Vec::new();
        for run in runs(self.order(), &self.number) {
            let mut moved = Moved::Restart;
            inside.clear();
            let mut present = 0u64;
            let mut before: Option<i64> = None;
            for &cell in run {
                entered.clear();
                left.clear();
                // Periods between the last cell and this one that have no cell come in as empty.
                if let (Some(calendar), Some(frame)) = (&self.calendar, frame) {
                    let here = i64::from(calendar.indexes[cell as usize]);
                    let step = if calendar.backwards { -1 } else { 1 };
                    let first = match before {
                        Some(last) => last + step,
                        // What lies before the first cell, as far as the table reaches.
                        None => here - step * (i64::from(frame.steps) - 1),
                    };
                    // What lies outside the table need not come in, to be counted as nothing.
                    let edge = if calendar.backwards { calendar.range.1 } else { calendar.range.0 };
                    let reach = ((here - i64::from(edge)) * step).max(0);
                    let steps = i64::from(frame.steps).min(reach);
                    let skipped = ((here - first) * step).clamp(0, steps);
                    for i in (1..=skipped).rev() {
                        let covered = calendar.covers(here - step * i);
                        entered.push(if covered && !frame.empty.is_missing() {
                            EMPTY_CELL
                        } else {
                            NO_NUMBER
                        });
                    }
                    before = Some(here);
                }
                entered.push(if x.data.is_missing(cell as usize) { NO_NUMBER } else { cell });
                if let Some(frame) = frame {
                    for &e in &entered {
                        inside.push_back(e);
                        if inside.len() > frame.steps as usize
                            && let Some(out) = inside.pop_front()
                        {
                            left.push(out);
                        }
                    }
                }
                let held = |list: &[u32]| list.iter().filter(|&&i| i != NO_NUMBER).count() as u64;
                present = present + held(&entered) - held(&left);
                entered.retain(|&i| i != NO_NUMBER);
                left.retain(|&i| i != NO_NUMBER);
                let enough = frame.is_none_or(|f| match f.at_least {
                    Some(enough) => enough <= 1 || present >= u64::from(enough),
                    None => present == u64::from(f.steps),
                });
                let cells = Cells { entered: &entered, left: &left, present, moved };
                each(cell as usize, cells, enough);
                moved = Moved::Kept;
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use crate::Request;
    use crate::testing::{answer, rows, shown};
    use proptest::prelude::*;

    const TAKING: [&str; 5] = ["sum", "mean", "min", "max", "count"];

    fn taken(taking: &str, values: &[i64]) -> String {
        let sum: i64 = values.iter().sum();
        match (taking, values) {
            ("count", all) => all.len().to_string(),
            (_, []) => "-".to_owned(),
            ("sum", _) => sum.to_string(),
            ("mean", all) => (sum as f64 / all.len() as f64).to_string(),
            ("min", all) => all.iter().min().unwrap().to_string(),
            (_, all) => all.iter().max().unwrap().to_string(),
        }
    }

    proptest! {
        #[test]
        fn a_frame_holds_the_values_of_the_last_steps(
            values in proptest::collection::vec(proptest::option::of(-9i64..9), 1..14),
            steps in 1usize..6, at_least in 1usize..4, taking in proptest::sample::select(&TAKING[..]),
        ) {
            let at_least = at_least.min(steps);
            let texts: Vec<String> = values.iter().map(|v| v.map_or(String::new(), |v| v.to_string()) + "|k").collect();
            let rows = rows(&format!("x:0 k\n{}", texts.join("\n")));
            let moving = format!("moving(x, {steps} taking {taking} at least {at_least})");
            let running = format!("running(x taking {taking})");
            let request = Request { listing: true, ..Request::of(&[], &[&moving, &running]) };
            let given = shown(&answer(&rows, &request).unwrap().0);
            let plain = (0..values.len()).map(|here| {
                let frame: Vec<i64> = values[(here + 1).saturating_sub(steps)..=here].iter().flatten().copied().collect();
                let start: Vec<i64> = values[..=here].iter().flatten().copied().collect();
                // A count of none is 0 where one value would be enough.
                let enough = frame.len() >= at_least || (taking == "count" && at_least == 1);
                format!("{} {}", if enough { taken(taking, &frame) } else { "-".into() }, taken(taking, &start))
            });
            prop_assert_eq!(given, plain.collect::<Vec<_>>().join("; "), "{} of {:?}", moving, values);
        }
    }
}
