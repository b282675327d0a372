//! `first` and `last`: the value of the first or last row, in the order of the file or along
//! another column.

use super::extremes::{column_of, float_key};
use super::{Additivity, Aggregate, ArgumentProblem, Overflow, Rows, State, own};
use oeuvre_columns::column::dictionary::{Dictionary, MISSING_CODE};
use oeuvre_columns::column::{Column, Data};
use oeuvre_columns::value::{Kind, text_order};
use std::any::Any;
use std::cmp::Ordering;

/// `first(x along d)` and `last(x along d)`. Rows in which `x` or `d` is missing are left out;
/// rows that tie along `d` are taken in the order of the file. Missing when there are none.
#[derive(PartialEq, Eq, Hash)]
pub struct End {
    /// The last one instead of the first.
    pub last: bool,
}

/// A value: a whole number that stands for it, or a code of the state's own texts.
type Word = i128;

#[derive(Clone, Copy)]
struct Ends {
    first: (Word, u64, Word),
    last: (Word, u64, Word),
    any: bool,
}

const NONE: Ends = Ends { first: (0, 0, 0), last: (0, 0, 0), any: false };

#[derive(Clone)]
struct Found {
    ends: Vec<Ends>,
    /// The texts of the value and of what is walked along.
    texts: Dictionary,
    value_map: Vec<u32>,
    along_map: Vec<u32>,
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

impl Found {
    fn new(value_is_text: bool, along_is_text: bool) -> Found {
        Found {
            ends: Vec::new(),
            texts: Dictionary::default(),
            value_map: Vec::new(),
            along_map: Vec::new(),
            along_is_text,
            value_is_text,
        }
    }

    fn order(&self, a: (Word, u64), b: (Word, u64)) -> Ordering {
        let along = if self.along_is_text {
            text_order(self.texts.text(a.0 as u32), self.texts.text(b.0 as u32))
        } else {
            a.0.cmp(&b.0)
        };
        along.then(a.1.cmp(&b.1))
    }

    fn take(&mut self, group: u32, entry: (Word, u64, Word)) {
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

impl State for Found {
    fn resize(&mut self, groups: usize) {
        self.ends.resize(groups.max(self.ends.len()), NONE);
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

    fn merge(&mut self, other: &dyn State, map: &[u32]) -> Result<(), Overflow> {
        let other = own::<Found>(other);
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

    fn fresh(&self) -> Box<dyn State> {
        Box::new(Found::new(self.value_is_text, self.along_is_text))
    }

    fn as_any(&self) -> &dyn Any {
        self
    }
}

impl Aggregate for End {
    fn result(&self, args: &[Kind]) -> Result<Kind, ArgumentProblem> {
        Ok(args[0])
    }
    fn family(&self) -> &'static str {
        "ends"
    }
    fn state(&self, args: &[Kind]) -> Box<dyn State> {
        Box::new(Found::new(args[0] == Kind::Text, args.get(1) == Some(&Kind::Text)))
    }
    fn finish(&self, state: &dyn State, args: &[Kind]) -> Result<Column, Overflow> {
        let found = own::<Found>(state);
        let words = found
            .ends
            .iter()
            .skip(1)
            .map(|e| e.any.then_some(if self.last { e.last.2 } else { e.first.2 }));
        if args[0] == Kind::Text {
            let codes = words.map(|w| w.map_or(MISSING_CODE, |w| w as u32)).collect();
            return Ok(Column { data: Data::Codes(codes), dictionary: found.texts.clone() });
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
