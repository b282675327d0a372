//! `at_max` and `at_min`: the label that goes with the largest or smallest value.
//!
//! The state keeps the best value of each group, and the labels that have it. Several that tie are all given, so
//! that no answer hangs on the order of rows.
//!
//! ```
//! # use oeuvre_columns::{InMemory, Kind, Source};
//! # let rows = InMemory::from_texts(
//! #     &[("vessel", Kind::Text), ("route", Kind::Text), ("fare", Kind::Number { scale: 2 })],
//! #     &[
//! #         &["Tern", "SKE", "9.00"],
//! #         &["Tern", "AAL", "9.00"],
//! #         &["Fulmar", "KEL", "2.00"],
//! #     ],
//! # )?;
//! use oeuvre_core::{Plan, Request, run};
//!
//! // vessel, route, fare: Tern SKE 9.00; Tern AAL 9.00; Fulmar KEL 2.00
//! let request = Request::of(&["vessel"], &["at_max(route, fare)"]);
//! let plan = Plan::new(&request, rows.columns())?;
//! let (table, _) = run(&plan, &rows, 1)?;
//! let shown: Vec<String> = (0..table.lines.len()).map(|line| table.cell(line, 0).to_string()).collect();
//! assert_eq!(shown, ["KEL", "AAL, SKE"]);
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

use super::encoding::{Damaged, Decoder, Encoder, Locals};
use super::extremes::whole_at;
use super::{Additivity, ArgumentProblem, GroupAggregate, GroupState, Overflow, Rows, Shape};
use oeuvre_columns::column::dictionary::{Dictionary, Followed, MISSING_CODE};
use oeuvre_columns::column::{Column, Data};
use oeuvre_columns::room::lengthen;
use oeuvre_columns::value::{Kind, text_order};
use std::ops::Range;

/// The labels of the rows with the largest (or smallest) value; several that tie are all given, in
/// label order, with `, ` between them. Rows in which either is missing are left out. Missing when
/// there are none. The first argument must be text.
#[derive(PartialEq, Eq, Hash)]
pub struct LabelAtExtreme {
    /// The largest.
    pub largest: bool,
}

/// The best value of each group so far, and the labels that have it.
#[derive(Clone)]
pub(crate) struct Best {
    values: Vec<i128>,
    /// The first label that was found with the value; none of a group without values.
    labels: Vec<u32>,
    /// The group, the label, and the value of those that were found beside it; some of them are doubled, and some are of
    /// a value that is the best no more.
    others: Vec<(u32, u32, i128)>,
    /// So many of them are to be there before such are taken out.
    room: usize,
    texts: Dictionary,
    map: Followed,
    largest: bool,
}

/// Up to so many labels are kept without a look at them.
const FEW_OTHERS: usize = if cfg!(test) { 2 } else { 1 << 10 };

impl Best {
    fn take(&mut self, group: u32, value: i128, label: u32) {
        // Smaller is larger with the sign turned around.
        let value = if self.largest { value } else { value.wrapping_neg() };
        let (best, its) = (&mut self.values[group as usize], &mut self.labels[group as usize]);
        if *its == MISSING_CODE || value > *best {
            (*best, *its) = (value, label);
        } else if value == *best && label != *its {
            self.others.push((group, label, value));
            // They are looked at when there are about as many again: each a few times, however many tie.
            if self.others.len() >= self.room {
                self.others = self.standing();
                self.room = 2 * self.others.len() + FEW_OTHERS;
            }
        }
    }

    /// The other labels that have the best value of their group, each once, in the order of the groups.
    fn standing(&self) -> Vec<(u32, u32, i128)> {
        let best = |it: &&(u32, u32, i128)| {
            let group = it.0 as usize;
            self.values[group] == it.2 && self.labels[group] != it.1
        };
        let mut others: Vec<_> = self.others.iter().filter(best).copied().collect();
        others.sort_unstable();
        others.dedup();
        others
    }

    /// Calls with some groups in their order: the best value, its sign turned around for the smallest, and all labels that
    /// have it.
    fn for_each(&self, groups: Range<u32>, mut call: impl FnMut(i128, &[u32])) {
        let others = self.standing();
        let mut others = &others[others.partition_point(|it| it.0 < groups.start)..];
        let mut labels = Vec::new();
        for group in groups {
            labels.clear();
            labels.extend(Some(self.labels[group as usize]).filter(|label| *label != MISSING_CODE));
            let (of_group, rest) = others.split_at(others.partition_point(|it| it.0 == group));
            labels.extend(of_group.iter().map(|it| it.1));
            others = rest;
            call(self.values[group as usize], &labels);
        }
    }
}

impl GroupState for Best {
    const FAMILY: &'static str = "label_at_extreme";

    fn of(_: &[Kind]) -> Self {
        Best {
            values: Vec::new(),
            labels: Vec::new(),
            others: Vec::new(),
            room: FEW_OTHERS,
            texts: Dictionary::default(),
            map: Followed::default(),
            largest: false,
        }
    }
    fn resize(&mut self, groups: usize) {
        lengthen(&mut self.values, groups, 0);
        lengthen(&mut self.labels, groups, MISSING_CODE);
    }
    fn update(&mut self, rows: Rows<'_>) -> Result<(), Overflow> {
        let (labels, values) = (rows.args[0], rows.args[1]);
        let Data::Codes(codes) = &labels.data else { return Ok(()) };
        self.texts.follow(&labels.dictionary, &mut self.map);
        for (row, &g) in rows.groups.iter().enumerate().filter(|(_, g)| **g != 0) {
            let value = whole_at(&values.data, row).filter(|_| codes[row] != MISSING_CODE);
            if let Some(value) = value {
                let label = self.map[codes[row] as usize];
                self.take(g, value, label);
            }
        }
        Ok(())
    }
    fn merge(&mut self, other: &Self, map: &[u32]) -> Result<(), Overflow> {
        let codes = self.texts.absorb(&other.texts);
        let sign = if self.largest { 1 } else { -1 };
        let groups = map.iter().zip(&other.values).zip(&other.labels);
        for ((&to, value), &label) in groups {
            if to != 0 && label != MISSING_CODE {
                self.take(to, value.wrapping_mul(sign), codes[label as usize]);
            }
        }
        for &(group, label, value) in &other.standing() {
            let to = map[group as usize];
            if to != 0 {
                self.take(to, value.wrapping_mul(sign), codes[label as usize]);
            }
        }
        Ok(())
    }
    fn fresh(&self) -> Self {
        Best { largest: self.largest, ..Best::of(&[]) }
    }

    fn size_bytes(&self) -> usize {
        size_of_val(self.values.as_slice())
            + size_of_val(self.labels.as_slice())
            + size_of_val(self.others.as_slice())
            + self.texts.size_bytes()
    }
    fn looks_values_up(&self) -> bool {
        true
    }

    fn encode(&self, groups: Range<u32>, to: &mut Encoder) {
        let mut locals = Locals::default();
        self.for_each(groups.clone(), |_, labels| {
            labels.iter().for_each(|&label| {
                locals.of(label);
            });
        });
        to.texts(&locals, &self.texts);
        to.count(groups.len());
        self.for_each(groups, |value, labels| {
            to.signed(value);
            to.count(labels.len());
            labels.iter().for_each(|&label| to.unsigned(u128::from(locals.of(label))));
        });
    }
    fn decode(&mut self, from: &mut Decoder<'_>) -> Result<(), Damaged> {
        let codes = from.texts(&mut self.texts)?;
        let n = from.groups()?;
        GroupState::resize(self, n + 1);
        for group in 1..=n as u32 {
            // Its sign is turned around already where that is to be.
            let value = from.value(&[1])?;
            let value = if self.largest { value } else { value.wrapping_neg() };
            for _ in 0..from.count()? {
                self.take(group, value, codes[from.code(codes.len())? as usize]);
            }
        }
        Ok(())
    }
}

impl GroupAggregate for LabelAtExtreme {
    type State = Best;

    fn result(&self, args: &[Kind]) -> Result<Kind, ArgumentProblem> {
        match (args[0], args[1]) {
            (_, Kind::Text) => Err(ArgumentProblem::NotANumber(1)),
            _ => Ok(Kind::Text),
        }
    }
    fn family(&self) -> &'static str {
        if self.largest { "at_max" } else { "at_min" }
    }
    fn state(&self, args: &[Kind]) -> Best {
        Best { largest: self.largest, ..Best::of(args) }
    }
    fn finish(&self, state: &Best, _: &[Kind]) -> Result<Column, Overflow> {
        let mut dictionary = Dictionary::default();
        let mut codes = Vec::with_capacity(state.labels.len().saturating_sub(1));
        state.for_each(1..state.labels.len().max(1) as u32, |_, labels| {
            let mut texts: Vec<&str> = labels.iter().map(|&l| state.texts.text(l)).collect();
            texts.sort_by(|a, b| text_order(a, b));
            texts.dedup();
            codes.push(match &texts[..] {
                [] => MISSING_CODE,
                [one] => dictionary.intern(one),
                several => dictionary.intern(&several.join(", ")),
            });
        });
        Ok(Column::coded(Data::Codes(codes), dictionary))
    }
    fn shape(&self) -> Shape {
        Shape::LabelFirst
    }
    fn additivity(&self) -> Additivity {
        Additivity::Note("the label of all rows")
    }
}

#[cfg(test)]
mod tests {
    use crate::testing::{rows, table};
    use rstest::rstest;

    #[rstest]
    #[case("at_max(t, x)", "a = q, r; b = -; c = s")]
    #[case("at_min(t, x)", "a = p; b = -; c = s")]
    #[case("at_max(t, x where x < 9)", "a = p; b = -; c = s")]
    // A label that is no text reads as one; equal ones stand once.
    #[case("at_max(x, x)", "a = 9; b = 5; c = 2")]
    fn the_labels_of_the_best_value(#[case] calc: &str, #[case] expected: &str) {
        let data = "k t x:0\na|r|9\na|p|1\na|q|9\na|r|9\nb||5\nb|t|\nc|s|2\n";
        assert_eq!(table(&rows(data), &["k"], &[calc]), expected);
    }
    #[test]
    fn labels_that_tie_are_kept_once_and_those_of_lower_values_go() {
        let labels = ["p", "q", "r", "s", "q", "p", "t", "s", "r", "q"];
        let lines =
            |value: i64| labels.map(|label| format!("a|{label}|{value}\nb|x|{value}\n")).concat();
        let data = format!("k t x:0\n{}{}{}a|y|2\n", lines(1), lines(2), lines(0));
        let shown = table(&rows(&data).in_batches(3), &["k"], &["at_max(t, x)", "at_min(t, x)"]);
        assert_eq!(shown, "a = p, q, r, s, t, y p, q, r, s, t; b = x x");
    }
}
