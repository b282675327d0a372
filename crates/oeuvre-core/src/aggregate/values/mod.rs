//! The state behind all that needs the values themselves.
//!
//! ```text
//! values that come again → counted, by group and code (codes.rs, counted.rs)
//! values hardly two of which are the same → sorted runs (runs.rs, in_runs.rs)
//! ```
//!
//! A state begins with the first and goes over to the second when it turns out that nearly every row has a value of its
//! own. Either way memory grows with the different values and not with the rows; runs take about what the values take, a
//! few times less than codes. What an aggregate makes of them it makes at the end, once a group
//! ([`Values::for_each_group`]): what it finds depends on no order of rows.
//!
//! A value that is no text stands as a whole number: a decimal as its digits at the scale of its kind, a date as its
//! days, a binary64 as the key of `extremes.rs` that sorts as it does.

mod codes;
mod counted;
mod in_runs;
mod item;
mod runs;

pub(crate) use codes::ValueCodes;
pub(crate) use in_runs::InRuns;
pub(crate) use item::{Item, column_of_items};
pub(crate) use runs::{Runs, Store};

use super::encoding::{Damaged, Decoder, Encoder, Locals};
use super::extremes::column_of;
use super::{GroupState, Overflow, Rows};
use counted::Counted;
use in_runs::Group;
use oeuvre_columns::column::dictionary::MISSING_CODE;
use oeuvre_columns::column::{Column, Data};
use oeuvre_columns::value::Kind;
use std::borrow::Cow;
use std::ops::Range;

/// The values of each group with how often each occurs.
#[derive(Clone)]
pub(crate) struct Values {
    groups: usize,
    held: Held,
    /// How many values have come; none where values that need more than 64 bits are among them: runs have none.
    seen: Option<u64>,
    codes: Vec<u32>,
}

#[derive(Clone)]
enum Held {
    Counted(Box<Counted>),
    Runs(InRuns),
}

impl Values {
    pub(crate) fn new(kind: Kind) -> Values {
        Values::of_codes(ValueCodes::new(kind))
    }

    fn of_codes(known: ValueCodes) -> Values {
        let held = Held::Counted(Box::new(Counted::new(known)));
        Values { groups: 0, held, seen: Some(0), codes: Vec::new() }
    }

    fn are_runs(&self) -> bool {
        matches!(self.held, Held::Runs(_))
    }

    /// Goes over to runs where nearly every row has a value of its own.
    fn settle(&mut self) {
        if let Held::Counted(counted) = &self.held
            && InRuns::are_worth_it(counted.len(), self.seen)
        {
            self.take_runs();
        }
    }

    /// Goes over to runs, unless there are values that these do not hold.
    fn take_runs(&mut self) -> bool {
        if let Held::Counted(counted) = &self.held {
            match InRuns::of(&counted.known, counted.entries()) {
                Some(runs) => self.held = Held::Runs(runs),
                None => self.seen = None,
            }
        }
        self.are_runs()
    }

    /// Goes back to counting, for values that runs do not hold.
    fn count(&mut self) {
        if let Held::Runs(runs) = &self.held {
            let (known, entries) = runs.coded(self.groups);
            let mut counted = Counted::new(known);
            counted.resize(self.groups);
            counted.ensure();
            entries.into_iter().for_each(|(group, code, n)| counted.add(group, code, n));
            self.held = Held::Counted(Box::new(counted));
            self.seen = None;
        }
    }

    /// Calls with the values of each group but group 0, in the order of the groups. A group without values is called with none.
    pub(crate) fn for_each_group<'a, T>(
        &'a self,
        mut take: impl FnMut(Sorted<'a, '_>) -> T,
    ) -> Vec<T> {
        match &self.held {
            Held::Counted(of) => of.for_each_group(|pairs| take(Sorted::Counted { of, pairs })),
            Held::Runs(runs) => {
                let each = (1..self.groups as u32).map(|group| runs.of_group(group));
                each.map(|of| take(Sorted::Runs(of))).collect()
            }
        }
    }

    /// Each value of each group once: the group and the value by pair, and how many groups there are.
    pub(crate) fn each_once(&self, kind: Kind) -> (Vec<u32>, Column, usize) {
        let count = self.groups.max(1);
        let (groups, column) = match &self.held {
            Held::Counted(counted) => {
                let entries = counted.entries();
                let groups = entries.clone().map(|entry| entry.0).collect();
                let column = match &counted.known {
                    ValueCodes::Text(d, _) => {
                        let codes = entries.map(|entry| entry.1).collect();
                        Column::coded(Data::Codes(codes), d.clone())
                    }
                    ValueCodes::Whole(i) => {
                        column_of(kind, entries.map(|entry| Some(i.value(entry.1))))
                    }
                };
                (groups, column)
            }
            Held::Runs(runs) => {
                let entries = runs.entries(count);
                let groups = entries.clone().map(|entry| entry.0).collect();
                (groups, column_of_items(kind, entries.map(|entry| Some(entry.1))))
            }
        };
        (groups, column, count)
    }
}

/// The values of one group in their order.
pub(crate) enum Sorted<'a, 'p> {
    Counted { of: &'a Counted, pairs: &'p [u32] },
    Runs(Group<'a>),
}

impl<'a> Sorted<'a, '_> {
    /// How many values there are, equal ones counted one by one.
    pub(crate) fn count(&self) -> u64 {
        match self {
            Sorted::Counted { of, pairs } => pairs.iter().map(|&p| of.pair(p).2).sum(),
            Sorted::Runs(of) => of.count(),
        }
    }

    /// The number at a place counted from 0, which there must be.
    pub(crate) fn at(&self, place: u64) -> i128 {
        match self {
            Sorted::Counted { of, pairs } => {
                let mut seen = 0;
                let pair = pairs.iter().find(|&&p| {
                    seen += of.pair(p).2;
                    seen > place
                });
                pair.map_or(0, |&p| of.item(p).number())
            }
            Sorted::Runs(of) => of.at(place),
        }
    }

    /// The different values with how often each occurs: numbers in their order, texts in any.
    pub(crate) fn each(&self) -> impl Iterator<Item = (Item<'a>, u64)> + Clone {
        let many = match self {
            Sorted::Counted { pairs, .. } => pairs.len(),
            Sorted::Runs(of) => of.len(),
        };
        (0..many).map(|at| match self {
            Sorted::Counted { of, pairs } => (of.item(pairs[at]), of.pair(pairs[at]).2),
            Sorted::Runs(of) => of.get(at),
        })
    }

    /// The different values in label order, with how often each occurs.
    pub(crate) fn in_label_order(&self) -> Vec<(Item<'a>, u64)> {
        let mut all: Vec<_> = self.each().collect();
        if let Sorted::Runs(_) = self {
            all.sort_by(|a, b| a.0.order(b.0));
        }
        all
    }

    /// As [`Sorted::in_label_order`], the values as a column of their kind.
    pub(crate) fn column(&self, kind: Kind) -> (Column, Vec<u64>) {
        if let Sorted::Counted { of, pairs } = self
            && let ValueCodes::Text(texts, _) = &of.known
        {
            let pairs = pairs.iter().map(|&p| of.pair(p));
            let (codes, times) = pairs.map(|(_, code, n)| (code, n)).unzip();
            return (Column::coded(Data::Codes(codes), texts.clone()), times);
        }
        if kind != Kind::Text {
            // Numbers are in their order.
            let column = column_of_items(kind, self.each().map(|it| Some(it.0)));
            return (column, self.each().map(|it| it.1).collect());
        }
        let all = self.in_label_order();
        let column = column_of_items(kind, all.iter().map(|it| Some(it.0)));
        (column, all.into_iter().map(|it| it.1).collect())
    }
}

impl GroupState for Values {
    const FAMILY: &'static str = "values";

    fn of(args: &[Kind]) -> Self {
        Values::new(args[0])
    }
    fn resize(&mut self, groups: usize) {
        self.groups = self.groups.max(groups);
        if let Held::Counted(counted) = &mut self.held {
            counted.resize(self.groups);
        }
    }

    fn update(&mut self, rows: Rows<'_>) -> Result<(), Overflow> {
        let (groups, column) = (rows.groups, rows.args[0]);
        if let Held::Runs(runs) = &mut self.held {
            if runs.update(rows) {
                return Ok(());
            }
            self.count();
        }
        let Held::Counted(counted) = &mut self.held else { return Ok(()) };
        let codes = &mut self.codes;
        counted.known.codes(column, codes);
        counted.ensure();
        let each = groups.iter().zip(&*codes);
        counted.add_all(each.filter(|(g, code)| **code != MISSING_CODE && **g != 0));
        self.seen = self.seen.map(|seen| seen + groups.len() as u64);
        self.settle();
        Ok(())
    }

    fn merge(&mut self, other: &Self, map: &[u32]) -> Result<(), Overflow> {
        // Both are brought to one form: to runs where one of them is, and these hold the values.
        let mut other = Cow::Borrowed(other);
        if (self.are_runs() || other.are_runs())
            && !(self.take_runs() && (other.are_runs() || other.to_mut().take_runs()))
        {
            self.count();
            if other.are_runs() {
                other.to_mut().count();
            }
        }
        match (&mut self.held, &other.held) {
            (Held::Runs(mine), Held::Runs(theirs)) => mine.absorb(theirs, map),
            (Held::Counted(mine), Held::Counted(theirs)) => {
                let Some(codes) = mine.known.absorb(&theirs.known) else { return Ok(()) };
                mine.ensure();
                for (group, code, n) in theirs.entries() {
                    let group = map[group as usize];
                    if group != 0 {
                        mine.add(group, codes[code as usize], n);
                    }
                }
                self.seen = self.seen.zip(other.seen).map(|(a, b)| a + b);
                self.settle();
            }
            _ => {}
        }
        Ok(())
    }

    fn fresh(&self) -> Self {
        Values::of_codes(match &self.held {
            Held::Counted(counted) => counted.known.fresh(),
            Held::Runs(runs) => runs.no_codes(),
        })
    }

    fn size_bytes(&self) -> usize {
        match &self.held {
            Held::Counted(counted) => counted.size_bytes(),
            Held::Runs(runs) => runs.size_bytes(),
        }
    }

    fn values(&self) -> usize {
        match &self.held {
            Held::Counted(counted) => counted.len(),
            Held::Runs(runs) => runs.len(),
        }
    }

    fn holds_values(&self) -> bool {
        true
    }

    fn encode(&self, groups: Range<u32>, to: &mut Encoder) {
        match &self.held {
            Held::Counted(counted) => {
                let mut locals = Locals::default();
                let mut of_group: Vec<Vec<(u32, u64)>> = vec![Vec::new(); groups.len()];
                for (group, code, n) in counted.entries() {
                    if groups.contains(&group) {
                        of_group[(group - groups.start) as usize].push((locals.of(code), n));
                    }
                }
                counted.known.encode(&locals, to);
                to.count(groups.len());
                for list in of_group {
                    to.count(list.len());
                    for (code, n) in list {
                        to.unsigned(u128::from(code));
                        to.unsigned(u128::from(n));
                    }
                }
            }
            Held::Runs(runs) => runs.encode(groups, true, to),
        }
    }

    fn decode(&mut self, from: &mut Decoder<'_>) -> Result<(), Damaged> {
        let Held::Counted(counted) = &mut self.held else { return Ok(()) };
        let codes = counted.known.decode(from)?;
        let n = from.groups()?;
        self.groups = self.groups.max(n + 1);
        counted.resize(n + 1);
        counted.ensure();
        for group in 1..=n as u32 {
            for _ in 0..from.count()? {
                let code = codes[from.code(codes.len())? as usize];
                let times = from.times()?;
                counted.add(group, code, times);
                self.seen = self.seen.map(|seen| seen.saturating_add(times));
            }
        }
        self.settle();
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
            let found = merged.for_each_group(|group| {
                let counted: u64 = group.each().map(|it| it.1).sum();
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
