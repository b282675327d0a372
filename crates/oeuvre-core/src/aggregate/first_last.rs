//! `first` and `last`: the value of the first or last row, in the order of the file or along another column.
//!
//! The state keeps for each group the best place so far with its value. That rows come from several readers does
//! not matter: a row's place in all rows comes with it ([`super::Ordinal`]). Missing where no row is left.
//!
//! ```
//! # use oeuvre_columns::{InMemory, Kind, Source};
//! # let rows = InMemory::from_texts(
//! #     &[("sailed_on", Kind::Date), ("fare", Kind::Number { scale: 2 })],
//! #     &[
//! #         &["2025-03-02", "12.50"],
//! #         &["2025-03-01", "8.00"],
//! #         &["2025-03-03", ""],
//! #     ],
//! # )?;
//! use oeuvre_core::{Plan, Request, run};
//!
//! // sailed_on, fare: 2025-03-02 12.50; 2025-03-01 8.00; 2025-03-03 (missing)
//! let request = Request::of(&[], &["last(fare)", "first(fare along sailed_on)"]);
//! let plan = Plan::new(&request, rows.columns())?;
//! let (table, _) = run(&plan, &rows, 1)?;
//! assert_eq!(table.cell(0, 0).to_string(), "8.00");
//! assert_eq!(table.cell(0, 1).to_string(), "8.00");
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

use super::encoding::{Damaged, Decoder, Encoder, Locals};
use super::extremes::{column_of, float_key};
use super::{Additivity, ArgumentProblem, GroupAggregate, GroupState, Ordinal, Overflow, Rows};
use oeuvre_columns::column::dictionary::{Dictionary, Followed, MISSING_CODE};
use oeuvre_columns::column::{Column, Data};
use oeuvre_columns::room::lengthen;
use oeuvre_columns::value::{Kind, text_order};
use std::cmp::Ordering;
use std::ops::Range;

/// `first(x along d)` and `last(x along d)`. Rows in which `x` or `d` is missing are left out;
/// rows that tie along `d` are taken in the order of the file. Missing when there are none.
#[derive(PartialEq, Eq, Hash)]
pub struct FirstLast {
    /// The last one instead of the first.
    pub last: bool,
}

/// A value: a whole number that stands for it, or a code of the state's own texts.
type Word = i128;

#[derive(Clone, Copy)]
struct Ends {
    first: (Word, Ordinal, Word),
    last: (Word, Ordinal, Word),
    any: bool,
}

const NONE: Ends = Ends { first: (0, Ordinal::FIRST, 0), last: (0, Ordinal::FIRST, 0), any: false };

#[derive(Clone)]
pub(crate) struct FirstLastState {
    ends: Vec<Ends>,
    /// The texts of the value and of what is walked along.
    texts: Dictionary,
    value_map: Followed,
    along_map: Followed,
    along_is_text: bool,
    value_is_text: bool,
}

/// The word of a value; texts are added to the dictionary through `map`.
fn word(column: &Column, row: usize, map: &[u32]) -> Option<Word> {
    if column.data.is_missing(row) {
        return None;
    }
    Some(match &column.data {
        Data::I64(v) => i128::from(v[row]),
        Data::I128(v) => v[row],
        Data::F64(v) => i128::from(float_key(v[row])),
        Data::Codes(v) => i128::from(map[v[row] as usize]),
        Data::I32(v) => i128::from(v[row]),
        Data::Bool(v) => i128::from(v[row]),
    })
}

impl FirstLastState {
    fn new(value_is_text: bool, along_is_text: bool) -> FirstLastState {
        FirstLastState {
            ends: Vec::new(),
            texts: Dictionary::default(),
            value_map: Followed::default(),
            along_map: Followed::default(),
            along_is_text,
            value_is_text,
        }
    }

    fn order(&self, a: (Word, Ordinal), b: (Word, Ordinal)) -> Ordering {
        let along = if self.along_is_text {
            text_order(self.texts.text(a.0 as u32), self.texts.text(b.0 as u32))
        } else {
            a.0.cmp(&b.0)
        };
        along.then(a.1.cmp(&b.1))
    }

    fn take(&mut self, group: u32, entry: (Word, Ordinal, Word)) {
        let ends = self.ends[group as usize];
        let place = (entry.0, entry.1);
        let before = !ends.any || self.order(place, (ends.first.0, ends.first.1)).is_lt();
        let after = !ends.any || self.order(place, (ends.last.0, ends.last.1)).is_gt();
        let ends = &mut self.ends[group as usize];
        if before {
            ends.first = entry;
        }
        if after {
            ends.last = entry;
        }
        ends.any = true;
    }
}

impl GroupState for FirstLastState {
    const FAMILY: &'static str = "ends";

    fn of(args: &[Kind]) -> Self {
        FirstLastState::new(args[0] == Kind::Text, args.get(1) == Some(&Kind::Text))
    }
    fn resize(&mut self, groups: usize) {
        lengthen(&mut self.ends, groups, NONE);
    }

    fn update(&mut self, rows: Rows<'_>) -> Result<(), Overflow> {
        self.texts.follow(&rows.args[0].dictionary, &mut self.value_map);
        if let Some(along) = rows.args.get(1) {
            self.texts.follow(&along.dictionary, &mut self.along_map);
        }
        for (row, &g) in rows.groups.iter().enumerate().filter(|(_, g)| **g != 0) {
            let along = match rows.args.get(1) {
                Some(along) => word(along, row, &self.along_map),
                None => Some(0),
            };
            if let (Some(value), Some(along)) = (word(rows.args[0], row, &self.value_map), along) {
                self.take(g, (along, rows.ordinal(row), value));
            }
        }
        Ok(())
    }

    fn merge(&mut self, other: &Self, map: &[u32]) -> Result<(), Overflow> {
        let codes = self.texts.absorb(&other.texts);
        let here = |word: Word, text: bool| {
            if text { i128::from(codes[word as usize]) } else { word }
        };
        for (&to, ends) in map.iter().zip(&other.ends).filter(|(to, e)| **to != 0 && e.any) {
            for (along, ordinal, value) in [ends.first, ends.last] {
                let along = here(along, self.along_is_text);
                let value = here(value, self.value_is_text);
                self.take(to, (along, ordinal, value));
            }
        }
        Ok(())
    }

    fn fresh(&self) -> Self {
        FirstLastState::new(self.value_is_text, self.along_is_text)
    }

    fn size_bytes(&self) -> usize {
        size_of_val(self.ends.as_slice()) + self.texts.size_bytes()
    }

    fn encode(&self, groups: Range<u32>, to: &mut Encoder) {
        let ends = &self.ends[groups.start as usize..groups.end as usize];
        let mut locals = Locals::default();
        let both = |e: &Ends| [e.first, e.last];
        for (along, _, value) in ends.iter().filter(|e| e.any).flat_map(both) {
            if self.along_is_text {
                locals.of(along as u32);
            }
            if self.value_is_text {
                locals.of(value as u32);
            }
        }
        to.texts(&locals, &self.texts);
        let mut word = |to: &mut Encoder, word: Word, is_text: bool| match is_text {
            true => to.signed(i128::from(locals.of(word as u32))),
            false => to.signed(word),
        };
        to.count(ends.len());
        for ends in ends {
            to.unsigned(u128::from(ends.any));
            for (along, ordinal, value) in both(ends).into_iter().filter(|_| ends.any) {
                word(to, along, self.along_is_text);
                ordinal.encode(to);
                word(to, value, self.value_is_text);
            }
        }
    }

    fn decode(&mut self, from: &mut Decoder<'_>) -> Result<(), Damaged> {
        let codes = from.texts(&mut self.texts)?;
        let n = from.groups()?;
        GroupState::resize(self, n + 1);
        let word = |from: &mut Decoder<'_>, arg: usize, is_text: bool| match is_text {
            false => from.value(&[arg]),
            true => {
                let code = usize::try_from(from.signed()?).ok().and_then(|w| codes.get(w));
                code.map(|&code| Word::from(code)).ok_or(Damaged)
            }
        };
        let (along_is_text, value_is_text) = (self.along_is_text, self.value_is_text);
        for ends in &mut self.ends[1..] {
            if from.unsigned()? == 0 {
                continue;
            }
            let mut end = || {
                let along = word(from, 1, along_is_text)?;
                Ok((along, Ordinal::decode(from)?, word(from, 0, value_is_text)?))
            };
            *ends = Ends { first: end()?, last: end()?, any: true };
        }
        Ok(())
    }
}

impl GroupAggregate for FirstLast {
    type State = FirstLastState;

    fn result(&self, args: &[Kind]) -> Result<Kind, ArgumentProblem> {
        Ok(args[0])
    }
    fn finish(&self, state: &FirstLastState, args: &[Kind]) -> Result<Column, Overflow> {
        let found = state;
        let words = found
            .ends
            .iter()
            .skip(1)
            .map(|e| e.any.then_some(if self.last { e.last.2 } else { e.first.2 }));
        if args[0] == Kind::Text {
            let codes = words.map(|w| w.map_or(MISSING_CODE, |w| w as u32)).collect();
            return Ok(Column::coded(Data::Codes(codes), found.texts.clone()));
        }
        Ok(column_of(args[0], words))
    }
    fn additivity(&self) -> Additivity {
        Additivity::Note(if self.last {
            "the value of the last row, not a sum of the lines"
        } else {
            "the value of the first row, not a sum of the lines"
        })
    }
}

#[cfg(test)]
mod tests {
    use crate::testing::{rows, table};
    use rstest::rstest;

    const DATA: &str = "k d:date x:2 t\na|2025-03-01|1.00|one\na|2025-01-01||two\na|2025-01-01|3.00|three\nb|||four\na||9.00|five\n";

    #[rstest]
    #[case("first(x)", "a = 1.00; b = -")]
    #[case("last(x)", "a = 9.00; b = -")]
    // Of rows that tie along the date the first in the file; rows without either are left out.
    #[case("first(x along d)", "a = 3.00; b = -")]
    #[case("last(x along d)", "a = 1.00; b = -")]
    #[case("first(t along d)", "a = two; b = -")]
    #[case("first(t along x)", "a = one; b = -")]
    #[case("last(t along t)", "a = two; b = four")]
    #[case("last(x where x < 9)", "a = 3.00; b = -")]
    fn the_ends_of_the_rows_of_a_group(#[case] calc: &str, #[case] expected: &str) {
        assert_eq!(table(&rows(DATA), &["k"], &[calc]), expected);
    }
}
