//! The state behind all that needs the values themselves.
//!
//! A group's values are held as pairs of a value's code and how often it occurs, so that memory grows with the
//! distinct values and not with the rows; where there is one group, the code alone says which. What an aggregate makes of them it makes at the end, once a group, in
//! the order of the values ([`Values::for_each_sorted`]): what it finds depends on no order of rows.
//!
//! A value that is no text stands as a whole number: a decimal as its digits at the scale of its kind, a date as
//! its days, a binary64 as the key of `extremes.rs` that sorts as it does. [`Values::value_of`] gives it as a
//! value again; take that unless the whole number serves.

use super::encoding::{Damaged, Decoder, Encoder, Locals};
use super::extremes::{column_of, float_key};
use super::{GroupState, Overflow, Rows};
use oeuvre_columns::column::dictionary::{Dictionary, MISSING_CODE};
use oeuvre_columns::column::interner::{Interner, Pairs};
use oeuvre_columns::column::{Column, Data, MISSING_BOOL, MISSING_I32, MISSING_I128, NO_NUMBER};
use oeuvre_columns::value::text_order;
use oeuvre_columns::value::{Kind, Value};
use std::ops::Range;

/// What the codes of values stand for.
#[derive(Clone)]
pub(crate) enum ValueCodes {
    Whole(Interner),
    /// With the codes that the texts of the column have here.
    Text(Dictionary, Vec<u32>),
}

impl ValueCodes {
    pub(crate) fn new(kind: Kind) -> ValueCodes {
        match kind {
            Kind::Text => ValueCodes::Text(Dictionary::default(), Vec::new()),
            _ => ValueCodes::Whole(Interner::default()),
        }
    }

    pub(crate) fn fresh(&self) -> ValueCodes {
        match self {
            ValueCodes::Text(..) => ValueCodes::new(Kind::Text),
            ValueCodes::Whole(_) => ValueCodes::Whole(Interner::default()),
        }
    }

    pub(crate) fn len(&self) -> usize {
        match self {
            ValueCodes::Whole(i) => i.len(),
            ValueCodes::Text(d, _) => d.len(),
        }
    }

    /// The codes of a column's values; new ones are added. Missing values have the missing code.
    pub(crate) fn codes(&mut self, column: &Column, codes: &mut Vec<u32>) {
        codes.clear();
        macro_rules! intern {
            ($values:expr, $missing:pat, $intern:expr) => {
                codes.extend($values.iter().map(|&v| match v {
                    $missing => MISSING_CODE,
                    v => $intern(v),
                }))
            };
        }
        match self {
            ValueCodes::Whole(known) => {
                match &column.data {
                    Data::I64(v) => known.intern_all(v, 0, MISSING_CODE, codes),
                    Data::I128(v) => intern!(v, MISSING_I128, |v| known.intern_wide(v)),
                    Data::I32(v) => intern!(v, MISSING_I32, |v| known.intern(i64::from(v))),
                    Data::Bool(v) => intern!(v, MISSING_BOOL, |v| known.intern(i64::from(v))),
                    Data::F64(v) => codes.extend(v.iter().map(|&v| {
                        if v.is_nan() { MISSING_CODE } else { known.intern(float_key(v)) }
                    })),
                    Data::Codes(_) => {}
                }
            }
            ValueCodes::Text(known, map) => {
                if let Data::Codes(v) = &column.data {
                    known.follow(&column.dictionary, map);
                    intern!(v, MISSING_CODE, |v| map[v as usize]);
                }
            }
        }
    }

    /// The codes in the order of their values.
    fn ordered(&self) -> Vec<u32> {
        match self {
            ValueCodes::Whole(i) => i.ordered(),
            ValueCodes::Text(d, _) => {
                let mut codes: Vec<u32> = (0..d.len() as u32).collect();
                codes.sort_by(|&a, &b| text_order(d.text(a), d.text(b)));
                codes
            }
        }
    }

    /// About how much memory the values take.
    pub(crate) fn size_bytes(&self) -> usize {
        match self {
            ValueCodes::Whole(i) => i.size_bytes(),
            ValueCodes::Text(d, map) => d.size_bytes() + size_of_val(map.as_slice()),
        }
    }

    /// Writes some values down.
    pub(super) fn encode(&self, locals: &Locals, to: &mut Encoder) {
        match self {
            ValueCodes::Whole(i) => {
                to.count(locals.codes().len());
                locals.codes().iter().for_each(|&code| to.signed(i.values()[code as usize]));
            }
            ValueCodes::Text(d, _) => to.texts(locals, d),
        }
    }

    /// Reads values that were written down: the code of each here.
    pub(super) fn decode(&mut self, from: &mut Decoder<'_>) -> Result<Vec<u32>, Damaged> {
        match self {
            ValueCodes::Whole(i) => {
                (0..from.count()?).map(|_| Ok(i.intern_wide(from.value(&[0])?))).collect()
            }
            ValueCodes::Text(d, _) => from.texts(d),
        }
    }

    /// The value of a code, as one of a kind.
    pub(crate) fn value(&self, kind: Kind, code: u32) -> Value {
        match self {
            ValueCodes::Whole(i) => {
                let one = std::iter::once(Some(i.values()[code as usize]));
                column_of(kind, one).value(kind, 0)
            }
            ValueCodes::Text(d, _) => Value::Text(d.text(code).into()),
        }
    }

    /// The codes that the values of another have here; new ones are added.
    pub(crate) fn absorb(&mut self, other: &ValueCodes) -> Option<Vec<u32>> {
        match (self, other) {
            (ValueCodes::Whole(mine), ValueCodes::Whole(theirs)) => Some(mine.absorb(theirs)),
            (ValueCodes::Text(mine, _), ValueCodes::Text(theirs, _)) => Some(mine.absorb(theirs)),
            _ => None,
        }
    }
}

/// The values of each group with how often each occurs.
#[derive(Clone)]
pub(crate) struct Values {
    groups: usize,
    known: ValueCodes,
    /// While there are several groups, the pairs of a group and a code; the pair of the only one is the code.
    pairs: Option<Pairs>,
    /// How often each pair occurs, which some codes of the only group may not at all.
    times: Vec<u64>,
    codes: Vec<u32>,
}

impl Values {
    pub(crate) fn new(kind: Kind) -> Values {
        Values {
            groups: 0,
            known: ValueCodes::new(kind),
            pairs: None,
            times: Vec::new(),
            codes: Vec::new(),
        }
    }

    /// Makes room for the pairs of all groups with all codes.
    fn ensure(&mut self) {
        match &mut self.pairs {
            Some(pairs) => pairs.ensure(self.groups, self.known.len()),
            None => self.times.resize(self.known.len(), 0),
        }
    }

    /// Adds a value to a group, so many times.
    #[inline]
    fn add(&mut self, group: u32, code: u32, n: u64) {
        match &mut self.pairs {
            Some(pairs) => add_pair(pairs, &mut self.times, group, code, n),
            None => self.times[code as usize] += n,
        }
    }

    /// The group and the code of a pair.
    fn pair(&self, pair: u32) -> (u32, u32) {
        match &self.pairs {
            Some(pairs) => pairs.pairs()[pair as usize],
            None => (1, pair),
        }
    }

    /// Each group with each of its codes, and how often it occurs.
    fn entries(&self) -> impl Iterator<Item = (u32, u32, u64)> + Clone + '_ {
        let occurring = self.times.iter().zip(0..).filter(|(n, _)| **n > 0);
        occurring.map(|(&n, pair)| {
            let (group, code) = self.pair(pair);
            (group, code, n)
        })
    }

    /// Calls with the values of each group but group 0, in the order of the groups, and in each in label order.
    /// A group without values is called with none.
    pub(crate) fn for_each_sorted<T>(&self, mut take: impl FnMut(Sorted<'_>) -> T) -> Vec<T> {
        if self.groups == 2 {
            return vec![take(Sorted { values: self, pairs: &self.sorted_of_one() })];
        }
        let pairs = self.pairs.as_ref().map_or(&[][..], Pairs::pairs);
        let mut starts = vec![0usize; self.groups + 1];
        for &(g, _) in pairs {
            starts[g as usize + 1] += 1;
        }
        for g in 0..self.groups {
            starts[g + 1] += starts[g];
        }
        // Codes in the order of their values, then pairs in the order of their codes: as many as each code has.
        let codes = self.known.ordered();
        let mut ends = vec![0u32; codes.len()];
        for &(_, code) in pairs {
            ends[code as usize] += 1;
        }
        let mut end = 0;
        for &code in &codes {
            end += ends[code as usize];
            ends[code as usize] = end;
        }
        let mut order = vec![0u32; pairs.len()];
        for (pair, &(_, code)) in pairs.iter().enumerate() {
            ends[code as usize] -= 1;
            order[ends[code as usize] as usize] = pair as u32;
        }
        let mut places = vec![0u32; order.len()];
        let mut next = starts.clone();
        for p in order {
            let g = pairs[p as usize].0 as usize;
            places[next[g]] = p;
            next[g] += 1;
        }
        (1..self.groups)
            .map(|g| take(Sorted { values: self, pairs: &places[starts[g]..starts[g + 1]] }))
            .collect()
    }

    /// The pairs of the only group beside group 0, in the order of their values.
    fn sorted_of_one(&self) -> Vec<u32> {
        let codes = self.known.ordered().into_iter();
        let Some(pairs) = &self.pairs else {
            return codes.filter(|&code| self.times[code as usize] > 0).collect();
        };
        let mut pair_of = vec![NO_NUMBER; self.known.len()];
        for (&(group, code), pair) in pairs.pairs().iter().zip(0..) {
            if group == 1 {
                pair_of[code as usize] = pair;
            }
        }
        codes.map(|code| pair_of[code as usize]).filter(|&pair| pair != NO_NUMBER).collect()
    }

    fn value(&self, pair: u32) -> i128 {
        self.number(self.pair(pair).1)
    }

    /// The whole number that stands for a value.
    pub(crate) fn number(&self, code: u32) -> i128 {
        match &self.known {
            ValueCodes::Whole(i) => i.values()[code as usize],
            ValueCodes::Text(..) => 0,
        }
    }

    /// Each value of each group once: the group and the value by pair, and how many groups there are.
    pub(crate) fn each_once(&self, kind: Kind) -> (Vec<u32>, Column, usize) {
        let entries = self.entries();
        let groups = entries.clone().map(|entry| entry.0).collect();
        let column = match &self.known {
            ValueCodes::Text(d, _) => {
                Column::coded(Data::Codes(entries.map(|entry| entry.1).collect()), d.clone())
            }
            ValueCodes::Whole(i) => {
                column_of(kind, entries.map(|entry| Some(i.values()[entry.1 as usize])))
            }
        };
        (groups, column, self.groups.max(1))
    }

    /// The values of some codes, as a column of the kind that the state was made for.
    pub(crate) fn column_of(&self, kind: Kind, codes: &[u32]) -> Column {
        match &self.known {
            ValueCodes::Whole(i) => {
                column_of(kind, codes.iter().map(|&code| Some(i.values()[code as usize])))
            }
            ValueCodes::Text(d, _) => Column::coded(Data::Codes(codes.to_vec()), d.clone()),
        }
    }

    /// The value of a code, as one of the kind that the state was made for.
    pub(crate) fn value_of(&self, kind: Kind, code: u32) -> Value {
        self.known.value(kind, code)
    }

    /// The texts, when the values are texts.
    pub(crate) fn texts(&self) -> Option<&Dictionary> {
        match &self.known {
            ValueCodes::Text(d, _) => Some(d),
            ValueCodes::Whole(_) => None,
        }
    }
}

#[inline]
fn add_pair(pairs: &mut Pairs, times: &mut Vec<u64>, group: u32, code: u32, n: u64) {
    let pair = pairs.number(group, code) as usize;
    if pair == times.len() {
        times.push(n);
    } else {
        times[pair] += n;
    }
}

/// The values of one group in their order.
pub(crate) struct Sorted<'a> {
    values: &'a Values,
    pairs: &'a [u32],
}

impl Sorted<'_> {
    /// How many values there are, equal ones counted one by one.
    pub(crate) fn count(&self) -> u64 {
        self.pairs.iter().map(|&p| self.values.times[p as usize]).sum()
    }

    /// The number at a place counted from 0, which there must be.
    pub(crate) fn at(&self, place: u64) -> i128 {
        let mut seen = 0;
        let pair = self.pairs.iter().find(|&&p| {
            seen += self.values.times[p as usize];
            seen > place
        });
        pair.map_or(0, |&p| self.values.value(p))
    }

    /// The codes of the values with how often each occurs.
    pub(crate) fn codes(&self) -> impl Iterator<Item = (u32, u64)> {
        let values = self.values;
        self.pairs.iter().map(|&p| (values.pair(p).1, values.times[p as usize]))
    }
}

impl GroupState for Values {
    const FAMILY: &'static str = "values";

    fn of(args: &[Kind]) -> Self {
        Values::new(args[0])
    }
    fn resize(&mut self, groups: usize) {
        self.groups = self.groups.max(groups);
        if self.groups > 2 && self.pairs.is_none() {
            let of_one = std::mem::take(&mut self.times);
            let pairs = self.pairs.insert(Pairs::default());
            pairs.ensure(self.groups, self.known.len());
            for (n, code) in of_one.into_iter().zip(0..).filter(|(n, _)| *n > 0) {
                add_pair(pairs, &mut self.times, 1, code, n);
            }
        }
    }

    fn update(&mut self, rows: Rows<'_>) -> Result<(), Overflow> {
        self.known.codes(rows.args[0], &mut self.codes);
        self.ensure();
        let codes = &self.codes;
        let counted =
            rows.groups.iter().zip(codes).filter(|(g, code)| **code != MISSING_CODE && **g != 0);
        match &mut self.pairs {
            Some(pairs) => {
                counted.for_each(|(&g, &code)| add_pair(pairs, &mut self.times, g, code, 1));
            }
            None => counted.for_each(|(_, &code)| self.times[code as usize] += 1),
        }
        Ok(())
    }

    fn merge(&mut self, other: &Self, map: &[u32]) -> Result<(), Overflow> {
        let Some(codes) = self.known.absorb(&other.known) else { return Ok(()) };
        self.ensure();
        for (group, code, n) in other.entries() {
            let group = map[group as usize];
            if group != 0 {
                self.add(group, codes[code as usize], n);
            }
        }
        Ok(())
    }

    fn fresh(&self) -> Self {
        Values { known: self.known.fresh(), ..Values::new(Kind::Boolean) }
    }

    fn size_bytes(&self) -> usize {
        let pairs = self.pairs.as_ref().map_or(0, Pairs::size_bytes);
        self.known.size_bytes() + pairs + size_of_val(self.times.as_slice())
    }

    fn encode(&self, groups: Range<u32>, to: &mut Encoder) {
        let mut locals = Locals::default();
        let mut of_group: Vec<Vec<(u32, u64)>> = vec![Vec::new(); groups.len()];
        for (group, code, n) in self.entries() {
            if groups.contains(&group) {
                of_group[(group - groups.start) as usize].push((locals.of(code), n));
            }
        }
        self.known.encode(&locals, to);
        to.count(groups.len());
        for list in of_group {
            to.count(list.len());
            for (code, n) in list {
                to.unsigned(u128::from(code));
                to.unsigned(u128::from(n));
            }
        }
    }

    fn decode(&mut self, from: &mut Decoder<'_>) -> Result<(), Damaged> {
        let codes = self.known.decode(from)?;
        let n = from.groups()?;
        GroupState::resize(self, n + 1);
        self.ensure();
        for group in 1..=n as u32 {
            for _ in 0..from.count()? {
                let code = codes[from.code(codes.len())? as usize];
                self.add(group, code, from.times()?);
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use oeuvre_columns::column::MISSING_I64;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn values_come_in_their_order_group_by_group_however_they_were_merged(
            values in proptest::collection::vec((0u32..4, proptest::option::of(-5i64..5)), 0..40),
            cut in 0usize..40,
        ) {
            let kind = Kind::Number { scale: 1 };
            let state = |some: &[(u32, Option<i64>)]| {
                let mut state = Values::new(kind);
                let groups: Vec<u32> = some.iter().map(|v| v.0).collect();
                let column = Data::I64(some.iter().map(|v| v.1.unwrap_or(MISSING_I64)).collect());
                let args = [&Column::from(column)];
                GroupState::resize(&mut state, 4);
                GroupState::update(&mut state, Rows { groups: &groups, args: &args, piece: 0 }).unwrap();
                state
            };
            let (first, second) = values.split_at(cut.min(values.len()));
            let mut merged = state(second);
            GroupState::merge(&mut merged, &state(first), &[0, 1, 2, 3]).unwrap();
            let found = merged.for_each_sorted(|group| {
                let counted: u64 = group.codes().map(|c| c.1).sum();
                assert_eq!(counted, group.count());
                (0..group.count()).map(|place| group.at(place) as i64).collect::<Vec<_>>()
            });
            for group in 1..4u32 {
                let mut plain: Vec<i64> = values.iter().filter(|v| v.0 == group).filter_map(|v| v.1).collect();
                plain.sort_unstable();
                prop_assert_eq!(&found[group as usize - 1], &plain);
            }
        }
    }
}
