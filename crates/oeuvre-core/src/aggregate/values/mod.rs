//! The state behind all that needs the values themselves.
//!
//! ```text
//! values that come again → counted, by group and code (codes.rs, counted.rs)
//! values hardly two of which are the same → sorted runs (runs.rs)
//! ```
//!
//! A state begins with the first and goes over to the second when it turns out that nearly every row has a value of its
//! own: so memory grows with the different values and not with the rows, and never with more than what they take. What
//! an aggregate makes of them it makes at the end, once a group, in the order of the values
//! ([`Values::for_each_sorted`]): what it finds depends on no order of rows.
//!
//! A value that is no text stands as a whole number: a decimal as its digits at the scale of its kind, a date as its
//! days, a binary64 as the key of `extremes.rs` that sorts as it does.

mod codes;
mod counted;
pub(crate) mod runs;

pub(crate) use codes::ValueCodes;

use super::encoding::{Damaged, Decoder, Encoder, Locals};
use super::extremes::{column_of, float_key};
use super::{GroupState, Overflow, Rows};
use counted::Counted;
use oeuvre_columns::column::dictionary::{Dictionary, MISSING_CODE};
use oeuvre_columns::column::{Column, Data, MISSING_BOOL, MISSING_I32, MISSING_I64, MISSING_I128};
use oeuvre_columns::value::{Kind, Value};
use runs::{Label, OfGroup, Runs, Store, Texts, Wholes};
use std::borrow::Cow;
use std::ops::Range;

/// From so many different values on, of which each comes less often than [`SELDOM`], they are kept in runs.
#[cfg(not(test))]
pub(crate) const MANY: usize = 1 << 17;
/// Few in tests, so that these see both.
#[cfg(test)]
pub(crate) const MANY: usize = 8;
/// A value that comes no more often than that is worth no place of its own in a table.
pub(crate) const SELDOM: u64 = 3;

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
    Wholes(Runs<Wholes>),
    Texts(Runs<Texts>),
}

/// A value: the whole number that stands for it, or a text.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Item<'a> {
    Whole(i128),
    Text(&'a str),
}

impl Item<'_> {
    /// The whole number; 0 for a text.
    pub(crate) fn number(self) -> i128 {
        match self {
            Item::Whole(number) => number,
            Item::Text(_) => 0,
        }
    }
}

/// Some values as a column of the kind that they are of.
pub(crate) fn column_of_items<'a>(
    kind: Kind,
    items: impl Iterator<Item = Option<Item<'a>>> + Clone,
) -> Column {
    if kind != Kind::Text {
        return column_of(kind, items.map(|item| item.map(Item::number)));
    }
    let mut texts = Dictionary::default();
    let code = |item| match item {
        Some(Item::Text(text)) => texts.intern(text),
        _ => MISSING_CODE,
    };
    let codes = items.map(code).collect();
    Column::coded(Data::Codes(codes), texts)
}

/// A value of a kind.
pub(crate) fn value_of_item(kind: Kind, item: Item<'_>) -> Value {
    column_of_items(kind, std::iter::once(Some(item))).value(kind, 0)
}

/// Adds the values of rows to runs of whole numbers; none, and false, where one does not fit 64 bits.
pub(crate) fn add_wholes(groups: &[u32], column: &Column, mut add: impl FnMut(u32, i64)) -> bool {
    macro_rules! each {
        ($values:expr, $missing:pat, $whole:expr) => {
            for (&group, &value) in groups.iter().zip($values).filter(|it| *it.0 != 0) {
                match value {
                    $missing => {}
                    value => match $whole(value) {
                        Some(whole) => add(group, whole),
                        None => return false,
                    },
                }
            }
        };
    }
    match &column.data {
        Data::I64(v) => each!(v, MISSING_I64, Some),
        Data::I128(v) => {
            let fits = |v: i128| i64::try_from(v).ok();
            if v.iter().any(|&v| v != MISSING_I128 && fits(v).is_none()) {
                return false;
            }
            each!(v, MISSING_I128, fits)
        }
        Data::I32(v) => each!(v, MISSING_I32, |v| Some(i64::from(v))),
        Data::Bool(v) => each!(v, MISSING_BOOL, |v| Some(i64::from(v))),
        Data::F64(v) => {
            for (&group, &value) in groups.iter().zip(v).filter(|it| *it.0 != 0 && !it.1.is_nan()) {
                add(group, float_key(value));
            }
        }
        Data::Codes(_) => {}
    }
    true
}

/// Adds the texts of rows to runs of texts.
pub(crate) fn add_texts(groups: &[u32], column: &Column, mut add: impl FnMut(u32, &str)) {
    let Data::Codes(codes) = &column.data else { return };
    let counted = groups.iter().zip(codes).filter(|it| *it.0 != 0 && *it.1 != MISSING_CODE);
    counted.for_each(|(&group, &code)| add(group, column.dictionary.text(code)));
}

impl Values {
    pub(crate) fn new(kind: Kind) -> Values {
        Values::of_codes(ValueCodes::new(kind))
    }

    fn of_codes(known: ValueCodes) -> Values {
        let held = Held::Counted(Box::new(Counted::new(known)));
        Values { groups: 0, held, seen: Some(0), codes: Vec::new() }
    }

    /// Goes over to runs where nearly every row has a value of its own.
    fn settle(&mut self) {
        if let (Held::Counted(counted), Some(seen)) = (&self.held, self.seen)
            && counted.len() >= MANY
            && seen <= (counted.len() as u64).saturating_mul(SELDOM)
        {
            self.take_runs();
        }
    }

    fn are_runs(&self) -> bool {
        !matches!(self.held, Held::Counted(_))
    }

    /// Goes over to runs, unless there are values that these do not hold.
    fn take_runs(&mut self) -> bool {
        let Held::Counted(counted) = &self.held else { return true };
        match &counted.known {
            ValueCodes::Text(texts, _) => {
                let mut runs = Runs::default();
                let each = counted.entries();
                each.for_each(|(group, code, n)| runs.add(group, Label(texts.text(code)), n));
                self.held = Held::Texts(runs);
            }
            ValueCodes::Whole(known) => {
                if known.values().any(|value| i64::try_from(value).is_err()) {
                    self.seen = None;
                    return false;
                }
                let mut runs = Runs::default();
                let each = counted.entries();
                each.for_each(|(group, code, n)| runs.add(group, known.value(code) as i64, n));
                self.held = Held::Wholes(runs);
            }
        }
        true
    }

    /// Goes back to counting, for values that runs do not hold.
    fn count(&mut self) {
        if let Held::Wholes(runs) = &self.held {
            self.seen = None;
            let mut counted = Box::new(Counted::new(ValueCodes::new(Kind::Boolean)));
            counted.resize(self.groups);
            for (of, group) in runs.of_groups(self.groups).zip(1..) {
                for (value, n) in (0..of.len()).map(|at| of.get(at)) {
                    add_number(&mut counted, group, i128::from(value), n);
                }
            }
            self.held = Held::Counted(counted);
        }
    }

    /// Calls with the values of each group but group 0, in the order of the groups, and in each in label order.
    /// A group without values is called with none.
    pub(crate) fn for_each_sorted<'a, T>(
        &'a self,
        mut take: impl FnMut(Sorted<'a, '_>) -> T,
    ) -> Vec<T> {
        match &self.held {
            Held::Counted(of) => of.for_each_sorted(|pairs| take(Sorted::Counted { of, pairs })),
            Held::Wholes(runs) => {
                runs.of_groups(self.groups).map(|of| take(Sorted::Wholes(of))).collect()
            }
            Held::Texts(runs) => {
                runs.of_groups(self.groups).map(|of| take(Sorted::Texts(of))).collect()
            }
        }
    }

    /// Each value of each group once: the group and the value by pair, and how many groups there are.
    pub(crate) fn each_once(&self, kind: Kind) -> (Vec<u32>, Column, usize) {
        fn of_runs<S: Store>(runs: &Runs<S>, groups: usize) -> Vec<u32> {
            let of = runs.of_groups(groups).zip(1..);
            of.flat_map(|(of, group)| std::iter::repeat_n(group, of.len())).collect()
        }
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
            Held::Wholes(runs) => {
                let each = runs.of_groups(count).flat_map(|of| {
                    (0..of.len()).map(move |at| Some(Item::Whole(i128::from(of.get(at).0))))
                });
                (of_runs(runs, count), column_of_items(kind, each))
            }
            Held::Texts(runs) => {
                let each = runs
                    .of_groups(count)
                    .flat_map(|of| (0..of.len()).map(move |at| Some(Item::Text(of.get(at).0.0))));
                (of_runs(runs, count), column_of_items(kind, each))
            }
        };
        (groups, column, count)
    }
}

/// Adds a whole number to a group, so many times.
fn add_number(to: &mut Counted, group: u32, value: i128, n: u64) {
    if let ValueCodes::Whole(known) = &mut to.known {
        let code = known.intern_wide(value);
        to.ensure();
        to.add(group, code, n);
    }
}

/// The values of one group in their order.
pub(crate) enum Sorted<'a, 'p> {
    Counted { of: &'a Counted, pairs: &'p [u32] },
    Wholes(OfGroup<'a, Wholes>),
    Texts(OfGroup<'a, Texts>),
}

impl<'a> Sorted<'a, '_> {
    /// How many values there are, equal ones counted one by one.
    pub(crate) fn count(&self) -> u64 {
        match self {
            Sorted::Counted { of, pairs } => pairs.iter().map(|&p| of.pair(p).2).sum(),
            Sorted::Wholes(of) => of.count(),
            Sorted::Texts(of) => of.count(),
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
                pair.map_or(0, |&p| Self::item(of, p).number())
            }
            Sorted::Wholes(of) => of.at(place).map_or(0, i128::from),
            Sorted::Texts(_) => 0,
        }
    }

    /// How many different values there are.
    pub(crate) fn len(&self) -> usize {
        match self {
            Sorted::Counted { pairs, .. } => pairs.len(),
            Sorted::Wholes(of) => of.len(),
            Sorted::Texts(of) => of.len(),
        }
    }

    /// The different values with how often each occurs.
    pub(crate) fn each(&self) -> impl Iterator<Item = (Item<'a>, u64)> {
        (0..self.len()).map(|at| match self {
            Sorted::Counted { of, pairs } => (Self::item(of, pairs[at]), of.pair(pairs[at]).2),
            Sorted::Wholes(of) => {
                let (value, n) = of.get(at);
                (Item::Whole(i128::from(value)), n)
            }
            Sorted::Texts(of) => {
                let (text, n) = of.get(at);
                (Item::Text(text.0), n)
            }
        })
    }

    /// The different values, as a column of their kind.
    pub(crate) fn column(&self, kind: Kind) -> Column {
        if let Sorted::Counted { of, pairs } = self
            && let ValueCodes::Text(texts, _) = &of.known
        {
            let codes = pairs.iter().map(|&p| of.pair(p).1).collect();
            return Column::coded(Data::Codes(codes), texts.clone());
        }
        let items: Vec<Option<Item<'_>>> = self.each().map(|it| Some(it.0)).collect();
        column_of_items(kind, items.into_iter())
    }

    fn item(of: &'a Counted, pair: u32) -> Item<'a> {
        let code = of.pair(pair).1;
        match &of.known {
            ValueCodes::Whole(known) => Item::Whole(known.value(code)),
            ValueCodes::Text(texts, _) => Item::Text(texts.text(code)),
        }
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
        match &mut self.held {
            Held::Texts(runs) => {
                add_texts(groups, column, |group, text| runs.add(group, Label(text), 1));
                return Ok(());
            }
            Held::Wholes(runs) => {
                if add_wholes(groups, column, |group, value| runs.add(group, value, 1)) {
                    return Ok(());
                }
                self.count();
            }
            Held::Counted(_) => {}
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
            (Held::Wholes(mine), Held::Wholes(theirs)) => mine.absorb(theirs, map),
            (Held::Texts(mine), Held::Texts(theirs)) => mine.absorb(theirs, map),
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
            Held::Wholes(_) => ValueCodes::new(Kind::Boolean),
            Held::Texts(_) => ValueCodes::new(Kind::Text),
        })
    }

    fn size_bytes(&self) -> usize {
        match &self.held {
            Held::Counted(counted) => counted.size_bytes(),
            Held::Wholes(runs) => runs.size_bytes(),
            Held::Texts(runs) => runs.size_bytes(),
        }
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
            Held::Wholes(runs) => {
                runs.encode(groups, true, to, |value, to| to.signed(i128::from(value)));
            }
            Held::Texts(runs) => runs.encode(groups, true, to, |label, to| to.text(label.0)),
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
            let found = merged.for_each_sorted(|group| {
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
