//! Runs of whole numbers, or of texts: what a state keeps where hardly two values are the same.

use super::super::Rows;
use super::super::encoding::Encoder;
use super::super::extremes::float_key;
use super::codes::ValueCodes;
use super::item::Item;
use super::runs::{OfGroup, Runs, Texts, Wholes};
use oeuvre_columns::column::dictionary::MISSING_CODE;
use oeuvre_columns::column::{Column, Data, MISSING_BOOL, MISSING_I32, MISSING_I64, MISSING_I128};
use oeuvre_columns::room;
use oeuvre_columns::value::Kind;
use std::ops::Range;

/// So many different values at least are kept in runs.
#[cfg(not(test))]
const MANY: usize = 1 << 17;
/// Few in tests, so that these see both.
#[cfg(test)]
const MANY: usize = 8;
/// A value that comes no more often than that is worth no place of its own in a table.
const SELDOM: u64 = 3;
/// Nor where a table of all of them, in which they stand in no order, takes more than one of so many bytes of memory, unless it
/// comes much more often.
const OF_TABLE: usize = 4;
const OFTEN: u64 = 64;
/// About how many bytes a value takes there.
const IN_TABLE: usize = 24;

/// The values of groups, most of which differ.
#[derive(Clone)]
pub(crate) enum InRuns {
    /// Whole numbers of 64 bits.
    Wholes(Runs<Wholes>),
    Texts(Runs<Texts>),
}

/// The different values of one group: numbers in their order, texts in that of their bytes.
#[derive(Clone, Copy)]
pub(crate) enum Group<'a> {
    Wholes(OfGroup<'a, Wholes>),
    Texts(OfGroup<'a, Texts>),
}

impl InRuns {
    /// Whether so many different values, of as many as have come, are better kept in runs than each by a code. How
    /// many have come is not known where some need more than 64 bits: runs have no such.
    pub(crate) fn are_worth_it(different: usize, seen: Option<u64>) -> bool {
        let is_large = different.saturating_mul(IN_TABLE) > room::bytes() / OF_TABLE;
        let often = if is_large { OFTEN } else { SELDOM };
        let seldom = |seen: u64| seen <= (different as u64).saturating_mul(often);
        different >= MANY && seen.is_some_and(seldom)
    }

    /// Whole numbers, each with its group.
    pub(crate) fn of_wholes(entries: impl Iterator<Item = (u32, i64)>) -> InRuns {
        let mut runs = Runs::default();
        entries.for_each(|(group, number)| runs.add(group, number, 1));
        InRuns::Wholes(runs)
    }

    /// Values that have codes, each with its group and how often it occurs; none where one needs more than 64 bits.
    pub(crate) fn of(
        known: &ValueCodes,
        entries: impl Iterator<Item = (u32, u32, u64)>,
    ) -> Option<InRuns> {
        match known {
            ValueCodes::Text(texts, _) => {
                let mut runs = Runs::default();
                entries.for_each(|(group, code, n)| runs.add(group, texts.text(code), n));
                Some(InRuns::Texts(runs))
            }
            ValueCodes::Whole(known) => {
                if known.values().any(|value| i64::try_from(value).is_err()) {
                    return None;
                }
                let mut runs = Runs::default();
                entries.for_each(|(group, code, n)| runs.add(group, known.value(code) as i64, n));
                Some(InRuns::Wholes(runs))
            }
        }
    }

    /// Codes for such values, of which there are none yet.
    pub(crate) fn no_codes(&self) -> ValueCodes {
        ValueCodes::new(match self {
            InRuns::Wholes(_) => Kind::Number { scale: 0 },
            InRuns::Texts(_) => Kind::Text,
        })
    }

    /// Takes in a batch; none of it, and false, where a value needs more than 64 bits.
    pub(crate) fn update(&mut self, rows: Rows<'_>) -> bool {
        match self {
            InRuns::Wholes(runs) => add_wholes(runs, rows.groups, rows.args[0]),
            InRuns::Texts(runs) => {
                if let Data::Codes(codes) = &rows.args[0].data {
                    let texts = &rows.args[0].dictionary;
                    let each = rows.groups.iter().zip(codes);
                    let each = each.filter(|it| *it.0 != 0 && *it.1 != MISSING_CODE);
                    each.for_each(|(&group, &code)| runs.add(group, texts.text(code), 1));
                }
                true
            }
        }
    }

    /// Adds the values of other groups: group `g` there goes to `map[g]` here, and to none at 0.
    pub(crate) fn absorb(&mut self, other: &InRuns, map: &[u32]) {
        match (self, other) {
            (InRuns::Wholes(mine), InRuns::Wholes(theirs)) => mine.absorb(theirs, map),
            (InRuns::Texts(mine), InRuns::Texts(theirs)) => mine.absorb(theirs, map),
            _ => {}
        }
    }

    /// The values of a group.
    pub(crate) fn of_group(&self, group: u32) -> Group<'_> {
        match self {
            InRuns::Wholes(runs) => Group::Wholes(runs.of_group(group)),
            InRuns::Texts(runs) => Group::Texts(runs.of_group(group)),
        }
    }

    /// Each group of so many, group 0 left out, with each of its values, and how often it occurs.
    pub(crate) fn entries(
        &self,
        groups: usize,
    ) -> impl Iterator<Item = (u32, Item<'_>, u64)> + Clone {
        (1..groups as u32).flat_map(|group| {
            let of = self.of_group(group);
            (0..of.len()).map(move |at| {
                let (item, n) = of.get(at);
                (group, item, n)
            })
        })
    }

    /// The values with codes, and each entry with that of its value.
    pub(crate) fn coded(&self, groups: usize) -> (ValueCodes, Vec<(u32, u32, u64)>) {
        let mut known = self.no_codes();
        let code = |(group, item, n)| (group, known.code(item), n);
        let entries = self.entries(groups).map(code).collect();
        (known, entries)
    }

    /// Writes some groups down as states of values do; how often each occurs is written where that is `counted`.
    pub(crate) fn encode(&self, groups: Range<u32>, counted: bool, to: &mut Encoder) {
        let each = || groups.clone().map(|group| self.of_group(group));
        to.count(each().map(Group::len).sum());
        for of in each() {
            for (item, _) in (0..of.len()).map(|at| of.get(at)) {
                match item {
                    Item::Whole(number) => to.signed(number),
                    Item::Text(text) => to.text(text),
                }
            }
        }
        to.count(groups.len());
        let mut code = 0;
        for of in each() {
            to.count(of.len());
            for (_, n) in (0..of.len()).map(|at| of.get(at)) {
                to.unsigned(code);
                if counted {
                    to.unsigned(u128::from(n));
                }
                code += 1;
            }
        }
    }

    /// How many values there are, some of them several times.
    pub(crate) fn len(&self) -> usize {
        match self {
            InRuns::Wholes(runs) => runs.len(),
            InRuns::Texts(runs) => runs.len(),
        }
    }

    /// About how many bytes of memory they take.
    pub(crate) fn size_bytes(&self) -> usize {
        match self {
            InRuns::Wholes(runs) => runs.size_bytes(),
            InRuns::Texts(runs) => runs.size_bytes(),
        }
    }
}

impl<'a> Group<'a> {
    /// How many different values there are.
    pub(crate) fn len(self) -> usize {
        match self {
            Group::Wholes(of) => of.len(),
            Group::Texts(of) => of.len(),
        }
    }

    /// One of them, and how often it occurs.
    pub(crate) fn get(self, at: usize) -> (Item<'a>, u64) {
        match self {
            Group::Wholes(of) => {
                let (number, n) = of.get(at);
                (Item::Whole(i128::from(number)), n)
            }
            Group::Texts(of) => {
                let (text, n) = of.get(at);
                (Item::Text(text), n)
            }
        }
    }

    /// How many values there are, equal ones counted one by one.
    pub(crate) fn count(self) -> u64 {
        match self {
            Group::Wholes(of) => of.count(),
            Group::Texts(of) => of.count(),
        }
    }

    /// The number at a place among all, counted from 0; 0 where there is none.
    pub(crate) fn at(self, place: u64) -> i128 {
        match self {
            Group::Wholes(of) => of.at(place).map_or(0, i128::from),
            Group::Texts(_) => 0,
        }
    }
}

/// Adds whole numbers; none, and false, where one does not fit 64 bits.
fn add_wholes(runs: &mut Runs<Wholes>, groups: &[u32], column: &Column) -> bool {
    fn each<T: Copy>(
        runs: &mut Runs<Wholes>,
        (groups, values): (&[u32], &[T]),
        whole: impl Fn(T) -> Option<i64>,
    ) {
        for (&group, &value) in groups.iter().zip(values).filter(|it| *it.0 != 0) {
            if let Some(whole) = whole(value) {
                runs.add(group, whole, 1);
            }
        }
    }
    match &column.data {
        Data::I64(v) => each(runs, (groups, v), |v| (v != MISSING_I64).then_some(v)),
        Data::I128(v) => {
            if v.iter().any(|&v| v != MISSING_I128 && i64::try_from(v).is_err()) {
                return false;
            }
            each(runs, (groups, v), |v| i64::try_from(v).ok());
        }
        Data::I32(v) => {
            each(runs, (groups, v), |v| (v != MISSING_I32).then_some(i64::from(v)));
        }
        Data::Bool(v) => {
            each(runs, (groups, v), |v| (v != MISSING_BOOL).then_some(i64::from(v)));
        }
        Data::F64(v) => each(runs, (groups, v), |v| (!v.is_nan()).then(|| float_key(v))),
        Data::Codes(_) => {}
    }
    true
}
