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
use super::extremes::float_key;
use super::{Additivity, ArgumentProblem, GroupAggregate, GroupState, Overflow, Rows, Shape};
use oeuvre_columns::column::dictionary::{Dictionary, Followed, MISSING_CODE};
use oeuvre_columns::column::{Column, Data};
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

/// The best value so far, and the labels that have it.
#[derive(Clone)]
pub(crate) struct Best {
    /// The value, its labels, and how many of these are to be there before doubled ones are taken out.
    groups: Vec<(i128, Vec<u32>, usize)>,
    texts: Dictionary,
    map: Followed,
    largest: bool,
}

impl Best {
    fn take(&mut self, group: u32, value: i128, labels: &[u32]) {
        // Smaller is larger with the sign turned around.
        let value = if self.largest { value } else { -value };
        let it = &mut self.groups[group as usize];
        if it.1.is_empty() || value > it.0 {
            it.0 = value;
            it.1.clear();
            it.2 = 16;
        }
        if value == it.0 {
            it.1.extend_from_slice(labels);
            // Doubled labels are taken out when there are about as many: each is looked at a few times,
            // however many tie.
            if it.1.len() >= it.2 {
                it.1.sort_unstable();
                it.1.dedup();
                it.2 = 2 * it.1.len() + 16;
            }
        }
    }
}

impl GroupState for Best {
    const FAMILY: &'static str = "label_at_extreme";

    fn of(_: &[Kind]) -> Self {
        let (groups, map) = (Vec::new(), Followed::default());
        Best { groups, texts: Dictionary::default(), map, largest: false }
    }
    fn resize(&mut self, groups: usize) {
        self.groups.resize(groups.max(self.groups.len()), (0, Vec::new(), 16));
    }
    fn update(&mut self, rows: Rows<'_>) -> Result<(), Overflow> {
        let (labels, values) = (rows.args[0], rows.args[1]);
        let Data::Codes(codes) = &labels.data else { return Ok(()) };
        self.texts.follow(&labels.dictionary, &mut self.map);
        for (row, &g) in rows.groups.iter().enumerate().filter(|(_, g)| **g != 0) {
            if codes[row] == MISSING_CODE || values.data.is_missing(row) {
                continue;
            }
            let value = match &values.data {
                Data::I64(v) => i128::from(v[row]),
                Data::I128(v) => v[row],
                Data::F64(v) => i128::from(float_key(v[row])),
                Data::I32(v) => i128::from(v[row]),
                Data::Bool(v) => i128::from(v[row]),
                Data::Codes(_) => continue,
            };
            let label = self.map[codes[row] as usize];
            self.take(g, value, &[label]);
        }
        Ok(())
    }
    fn merge(&mut self, other: &Self, map: &[u32]) -> Result<(), Overflow> {
        let codes = self.texts.absorb(&other.texts);
        for (&to, (value, labels, _)) in
            map.iter().zip(&other.groups).filter(|(t, g)| **t != 0 && !g.1.is_empty())
        {
            let labels: Vec<u32> = labels.iter().map(|&l| codes[l as usize]).collect();
            let value = if self.largest { *value } else { -*value };
            self.take(to, value, &labels);
        }
        Ok(())
    }
    fn fresh(&self) -> Self {
        Best { largest: self.largest, ..Best::of(&[]) }
    }

    fn size_bytes(&self) -> usize {
        let labels: usize = self.groups.iter().map(|g| size_of_val(g.1.as_slice())).sum();
        size_of_val(self.groups.as_slice()) + labels + self.texts.size_bytes()
    }
    fn encode(&self, groups: Range<u32>, to: &mut Encoder) {
        let groups = &self.groups[groups.start as usize..groups.end as usize];
        let mut locals = Locals::default();
        let labels: Vec<Vec<u32>> =
            groups.iter().map(|g| g.1.iter().map(|&code| locals.of(code)).collect()).collect();
        to.texts(&locals, &self.texts);
        to.count(groups.len());
        for (group, labels) in groups.iter().zip(labels) {
            to.signed(group.0);
            to.count(labels.len());
            labels.iter().for_each(|&code| to.unsigned(u128::from(code)));
        }
    }
    fn decode(&mut self, from: &mut Decoder<'_>) -> Result<(), Damaged> {
        let codes = from.texts(&mut self.texts)?;
        let n = from.groups()?;
        GroupState::resize(self, n + 1);
        for group in &mut self.groups[1..] {
            let value = from.value(&[1])?;
            let label = |from: &mut Decoder<'_>| Ok(codes[from.code(codes.len())? as usize]);
            let labels = (0..from.count()?).map(|_| label(from)).collect::<Result<Vec<_>, _>>()?;
            let room = 2 * labels.len() + 16;
            *group = (value, labels, room);
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
        let best = state;
        let mut dictionary = Dictionary::default();
        let codes = best.groups.iter().skip(1).map(|(_, labels, _)| {
            let mut texts: Vec<&str> = labels.iter().map(|&l| best.texts.text(l)).collect();
            texts.sort_by(|a, b| text_order(a, b));
            texts.dedup();
            if texts.is_empty() { MISSING_CODE } else { dictionary.intern(&texts.join(", ")) }
        });
        Ok(Column::coded(Data::Codes(codes.collect()), dictionary))
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
}
