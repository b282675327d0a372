//! Values that hardly ever come twice: in sorted runs.
//!
//! Where nearly all values differ, a table of them costs several times what they take themselves, and each row goes to
//! another place of it. Here rows are put one behind the other; so many of them are sorted and become a *run*, and runs
//! are merged once, at the end. Few numbers of each of many groups wait until there are many more, or all. Everything is gone through in order, so that it may as well lie on a disk.
//!
//! A run is cut into the stretches of its groups. Whoever takes groups into others only names the stretches anew, as
//! long as those of one run stay apart; nothing is copied, and totals share the values of their lines.
//!
//! Rows that are to be listed, which differ by their places, are kept in the same way.

use oeuvre_columns::column::digits::{sorted_by_digits, width};
use oeuvre_columns::{room, work};
use std::cmp::Reverse;
use std::collections::BinaryHeap;
use std::collections::binary_heap::PeekMut;
use std::ops::Range;
use std::sync::{Arc, OnceLock};

/// So many values are sorted at once: a few megabytes.
#[cfg(not(test))]
const SORTED_AT_ONCE: usize = 1 << 18;
/// Few in tests, here and below, so that these see many runs.
#[cfg(test)]
const SORTED_AT_ONCE: usize = 16;
/// And texts of so many bytes.
const BYTES_AT_ONCE: usize = 1 << 23;
/// So many runs are worth merging, beside the first.
#[cfg(not(test))]
const MANY_RUNS: usize = 16;
#[cfg(test)]
const MANY_RUNS: usize = 2;
/// Where groups have no more than so many values each in what would be a run, so many values are better sorted later; they take one
/// in so many of the bytes that there are.
const MANY_OF_GROUP: usize = 16;
const LATER: usize = if cfg!(test) { 32 } else { 1 << 23 };
const OF_WAITING: usize = 16;
/// About how many bytes a value takes while it waits and is sorted.
const WHILE_SORTED: usize = 64;
/// A number that comes no more often is put there as often as it comes.
const FEW_TIMES: u64 = 4;
/// Up to so many stretches of a run that meet in others become runs of their own; more are sorted again.
const FEW_STRETCHES: usize = 64;

/// Whenever so many more were put together it is said how far the work is.
const MANY_VALUES: usize = 1 << 16;

/// A list of values of one type.
pub(crate) trait Store: Clone + Default + Send + Sync {
    /// A value.
    type Item<'a>: Copy + Ord
    where
        Self: 'a;
    /// So many of a group are kept at most, the first ones.
    const MOST: usize = usize::MAX;
    fn len(&self) -> usize;
    fn get(&self, at: usize) -> Self::Item<'_>;
    /// Whether the value at a place is this one.
    fn is(&self, at: usize, item: Self::Item<'_>) -> bool;
    fn push(&mut self, item: Self::Item<'_>);
    fn size_bytes(&self) -> usize;
    /// The places of all values in the order of their groups, and in each in their own.
    fn order(&self, groups: &[u32]) -> Vec<u32>;
    /// Whether many are put in order by their digits, with little work for each.
    const BY_DIGITS: bool = false;
    /// Gives group and value in that order, where this is done without their places; else false.
    fn each_in_order(&self, _: &[u32], _: impl FnMut(u32, Self::Item<'_>)) -> bool {
        false
    }
}

/// Whole numbers.
#[derive(Clone, Default)]
pub(crate) struct Wholes(Vec<i64>);

/// Texts, one behind the other; their order is that of their bytes, which is the cheapest there is.
#[derive(Clone, Default)]
pub(crate) struct Texts {
    bytes: String,
    ends: Vec<usize>,
}

impl Store for Wholes {
    type Item<'a> = i64;
    const BY_DIGITS: bool = true;

    fn len(&self) -> usize {
        self.0.len()
    }
    fn get(&self, at: usize) -> i64 {
        self.0[at]
    }
    fn is(&self, at: usize, item: i64) -> bool {
        self.0[at] == item
    }
    fn push(&mut self, item: i64) {
        self.0.push(item);
    }
    fn size_bytes(&self) -> usize {
        size_of_val(self.0.as_slice())
    }
    fn order(&self, groups: &[u32]) -> Vec<u32> {
        let Some(packing) = self.packing(groups) else {
            // Group, value and place in one word of twice as many bits.
            let word = |((&group, &value), place): ((&u32, &i64), u128)| {
                let value = value.cast_unsigned() ^ 1 << 63;
                u128::from(group) << 96 | u128::from(value) << 32 | place
            };
            let words = groups.iter().zip(&self.0).zip(0..).map(word);
            let mut words: Vec<u128> = words.collect();
            words.sort_unstable();
            return words.into_iter().map(|word| word as u32).collect();
        };
        let words: Vec<(u64, u32)> = self.packed(groups, packing).zip(0..).collect();
        let words = sorted_words(words, |it| it.0, packing.bits);
        words.into_iter().map(|it| it.1).collect()
    }
    fn each_in_order(&self, groups: &[u32], mut each: impl FnMut(u32, i64)) -> bool {
        let Some(packing) = self.packing(groups) else { return false };
        let words: Vec<u64> = self.packed(groups, packing).collect();
        let value = u64::MAX.checked_shr(u64::BITS - packing.of_values).unwrap_or(0);
        for word in sorted_words(words, |it| it, packing.bits) {
            let group = word.checked_shr(packing.of_values).unwrap_or(0);
            each(group as u32, packing.low.wrapping_add((word & value).cast_signed()));
        }
        true
    }
}

/// How group and value fit one word.
#[derive(Clone, Copy)]
struct Packing {
    /// The smallest value.
    low: i64,
    /// The bits of how far the others are from it; those of the group lie above.
    of_values: u32,
    bits: u32,
}

impl Wholes {
    /// How the values fit one word with their groups; `None` where they do not.
    fn packing(&self, groups: &[u32]) -> Option<Packing> {
        let low = self.0.iter().copied().min().unwrap_or(0);
        let high = self.0.iter().copied().max().unwrap_or(0);
        let most = groups.iter().copied().max().unwrap_or(0);
        let of_values = width(high.wrapping_sub(low).cast_unsigned());
        let bits = of_values + width(u64::from(most));
        (bits <= u64::BITS).then_some(Packing { low, of_values, bits })
    }

    fn packed(&self, groups: &[u32], packing: Packing) -> impl Iterator<Item = u64> {
        groups.iter().zip(&self.0).map(move |(&group, &value)| {
            let value = value.wrapping_sub(packing.low).cast_unsigned();
            u64::from(group).checked_shl(packing.of_values).unwrap_or(0) | value
        })
    }
}

/// As [`sorted_by_digits`]; what is sorted already, such as numbers that count up, is left as it is.
fn sorted_words<T: Copy + Default>(
    list: Vec<T>,
    word: impl Fn(T) -> u64 + Copy,
    bits: u32,
) -> Vec<T> {
    if list.is_sorted_by_key(|it| word(*it)) { list } else { sorted_by_digits(list, word, bits) }
}

impl Store for Texts {
    type Item<'a> = &'a str;

    fn len(&self) -> usize {
        self.ends.len()
    }
    fn get(&self, at: usize) -> &str {
        let start = if at == 0 { 0 } else { self.ends[at - 1] };
        &self.bytes[start..self.ends[at]]
    }
    fn is(&self, at: usize, item: &str) -> bool {
        self.get(at) == item
    }
    fn push(&mut self, item: &str) {
        self.bytes.push_str(item);
        self.ends.push(self.bytes.len());
    }
    fn size_bytes(&self) -> usize {
        self.bytes.len() + size_of_val(self.ends.as_slice())
    }
    fn order(&self, groups: &[u32]) -> Vec<u32> {
        // Group, the first bytes behind those that all have, and place in one word: most texts differ there.
        let all = || (0..self.len()).map(|at| self.get(at).as_bytes());
        let first = all().next().unwrap_or_default();
        let same = |text: &[u8]| first.iter().zip(text).take_while(|(a, b)| a == b).count();
        let skip = all().map(same).min().unwrap_or(0);
        let word = |(&group, place): (&u32, u32)| {
            let mut next = [0u8; 8];
            let text = &self.get(place as usize).as_bytes()[skip..];
            next.iter_mut().zip(text).for_each(|(to, from)| *to = *from);
            u128::from(group) << 96 | u128::from(u64::from_be_bytes(next)) << 32 | u128::from(place)
        };
        let mut words: Vec<u128> = groups.iter().zip(0..).map(word).collect();
        words.sort_unstable();
        let mut order: Vec<u32> = words.iter().map(|word| *word as u32).collect();
        let mut from = 0;
        for alike in words.chunk_by(|a, b| a >> 32 == b >> 32) {
            let to = from + alike.len();
            if alike.len() > 1 {
                let order = &mut order[from..to];
                order.sort_by(|&a, &b| self.get(a as usize).cmp(self.get(b as usize)));
            }
            from = to;
        }
        order
    }
}

/// Values with how often each occurs, in the order of a run.
#[derive(Clone, Default)]
struct Data<S> {
    items: S,
    /// Nothing while each occurs once.
    times: Vec<u64>,
}

impl<S: Store> Data<S> {
    fn push(&mut self, item: S::Item<'_>, times: u64) {
        if times != 1 && self.times.is_empty() {
            self.times.resize(self.items.len(), 1);
        }
        if times != 1 || !self.times.is_empty() {
            self.times.push(times);
        }
        self.items.push(item);
    }

    /// The last value has occurred so many times more.
    fn again(&mut self, times: u64) {
        self.times.resize(self.items.len(), 1);
        if let Some(last) = self.times.last_mut() {
            *last += times;
        }
    }

    fn times(&self, at: usize) -> u64 {
        self.times.get(at).copied().unwrap_or(1)
    }
}

/// Where the values of a group stand.
#[derive(Clone, Copy, Default)]
struct Stretch {
    group: u32,
    from: usize,
    to: usize,
}

impl Stretch {
    fn range(self) -> Range<usize> {
        self.from..self.to
    }
}

/// Sorted values: the stretches of their groups in ascending order.
#[derive(Clone)]
struct Run<S> {
    /// How many values there are.
    len: usize,
    stretches: Vec<Stretch>,
    data: Arc<Data<S>>,
}

/// A run while it is written.
struct Writing<S> {
    stretches: Vec<Stretch>,
    data: Data<S>,
}

impl<S: Store> Writing<S> {
    fn new() -> Writing<S> {
        Writing { stretches: Vec::new(), data: Data::default() }
    }

    /// Adds what comes next in order; the same value again is counted.
    fn add(&mut self, group: u32, item: S::Item<'_>, times: u64) {
        let at = self.data.items.len();
        if at.is_multiple_of(MANY_VALUES) {
            work::part((MANY_VALUES as u64) * work::MERGED);
        }
        match self.stretches.last_mut().filter(|last| last.group == group) {
            Some(_) if self.data.items.is(at - 1, item) => return self.data.again(times),
            Some(last) if last.range().len() >= S::MOST => return,
            Some(last) => last.to += 1,
            None => self.stretches.push(Stretch { group, from: at, to: at + 1 }),
        }
        self.data.push(item, times);
    }

    fn done(self) -> Run<S> {
        Run { len: self.data.items.len(), stretches: self.stretches, data: Arc::new(self.data) }
    }
}

/// The values of groups, most of which differ.
#[derive(Clone)]
pub(crate) struct Runs<S> {
    /// Not sorted yet: the group of each, the last of these, and the values.
    groups: Vec<u32>,
    last: u32,
    fresh: Data<S>,
    runs: Vec<Run<S>>,
    /// All of them in one, once somebody wants that.
    one: OnceLock<Run<S>>,
}

/// The values of one group in their order.
pub(crate) struct OfGroup<'a, S> {
    data: &'a Data<S>,
    from: usize,
    to: usize,
}

impl<S> Clone for OfGroup<'_, S> {
    fn clone(&self) -> Self {
        *self
    }
}

impl<S> Copy for OfGroup<'_, S> {}

impl<S: Store> Default for Runs<S> {
    fn default() -> Self {
        let (groups, fresh, runs) = (Vec::new(), Data::default(), Vec::new());
        Runs { groups, last: 0, fresh, runs, one: OnceLock::new() }
    }
}

impl<S: Store> Runs<S> {
    /// Adds a value to a group, so many times.
    #[inline]
    pub(crate) fn add(&mut self, group: u32, item: S::Item<'_>, times: u64) {
        // What is put in order by its digits needs no place to find how often it comes.
        if S::BY_DIGITS && (2..=FEW_TIMES).contains(&times) {
            return (0..times).for_each(|_| self.add(group, item, 1));
        }
        self.groups.push(group);
        self.last = self.last.max(group);
        self.fresh.push(item, times);
        let many = self.groups.len();
        let is_full = many >= SORTED_AT_ONCE
            || many.is_multiple_of(1024) && self.fresh.items.size_bytes() > BYTES_AT_ONCE;
        if is_full && !self.may_wait() {
            self.settle();
        }
    }

    /// Whether what is not sorted yet is better sorted later, with more: a run of few values of each of many groups is hardly
    /// shorter than they are, and has to be sorted again for other groups.
    fn are_scattered(&self) -> bool {
        S::BY_DIGITS && self.last as usize > self.groups.len() / MANY_OF_GROUP
    }

    /// Whether it may be.
    fn may_wait(&self) -> bool {
        let many = self.groups.len();
        self.are_scattered() && many < LATER.min(room::bytes() / OF_WAITING / WHILE_SORTED)
    }

    /// Sorts what is not sorted yet.
    fn settle(&mut self) {
        self.one = OnceLock::new();
        if !self.groups.is_empty() {
            let run = sorted(&self.groups, &self.fresh);
            self.runs.push(run);
            self.groups = Vec::new();
            self.last = 0;
            self.fresh = Data::default();
            self.merge();
        }
    }

    /// Merges runs that have become many and together as long as the first: a value that comes in each of them is then
    /// kept once. So all are never much more than twice as long as they need be, and a value is seldom merged.
    fn merge(&mut self) {
        let Some((first, rest)) = self.runs.split_first() else { return };
        if rest.len() >= MANY_RUNS && rest.iter().map(|run| run.len).sum::<usize>() >= first.len {
            self.runs = vec![merged(&self.runs.iter().collect::<Vec<_>>())];
        }
    }

    /// Adds the values of other groups: group `g` there goes to `map[g]` here, and to none at 0.
    pub(crate) fn absorb(&mut self, other: &Runs<S>, map: &[u32]) {
        let mut rest = None;
        let runs: Vec<&Run<S>> = match other.one.get() {
            Some(one) => vec![one],
            None => {
                if other.are_scattered() {
                    self.one = OnceLock::new();
                    for (at, &group) in other.groups.iter().enumerate() {
                        if let to @ 1.. = map[group as usize] {
                            self.add(to, other.fresh.items.get(at), other.fresh.times(at));
                        }
                    }
                } else if !other.groups.is_empty() {
                    rest = Some(sorted(&other.groups, &other.fresh));
                }
                other.runs.iter().chain(&rest).collect()
            }
        };
        if runs.is_empty() {
            return;
        }
        self.settle();
        for run in runs {
            let mapped =
                run.stretches.iter().map(|it| Stretch { group: map[it.group as usize], ..*it });
            let stretches: Vec<Stretch> = mapped.filter(|it| it.group != 0).collect();
            let most = stretches.iter().map(|it| it.group).max().unwrap_or(0).into();
            let mut stretches = sorted_words(stretches, |it| it.group.into(), width(most));
            let meet = |pair: &[Stretch]| pair[0].group == pair[1].group;
            if stretches.len() > FEW_STRETCHES && stretches.windows(2).any(meet) {
                for stretch in stretches {
                    for at in stretch.range() {
                        self.add(stretch.group, run.data.items.get(at), run.data.times(at));
                    }
                }
                continue;
            }
            // The first stretch of each group makes a run, the second ones another, and so on.
            while !stretches.is_empty() {
                let mut before = 0;
                let first = |it: &mut Stretch| std::mem::replace(&mut before, it.group) != it.group;
                let stretches: Vec<Stretch> = stretches.extract_if(.., first).collect();
                let len = stretches.iter().map(|it| it.range().len()).sum();
                self.runs.push(Run { len, stretches, data: run.data.clone() });
            }
        }
        self.settle();
    }

    /// All values in one run.
    fn one(&self) -> &Run<S> {
        self.one.get_or_init(|| {
            let rest = (!self.groups.is_empty()).then(|| sorted(&self.groups, &self.fresh));
            let runs: Vec<&Run<S>> = self.runs.iter().chain(&rest).collect();
            if let [run] = runs[..] { run.clone() } else { merged(&runs) }
        })
    }

    /// The values of a group.
    pub(crate) fn of_group(&self, group: u32) -> OfGroup<'_, S> {
        let Run { stretches, data, .. } = self.one();
        let range = match stretches.binary_search_by_key(&group, |it| it.group) {
            Ok(at) => stretches[at].range(),
            Err(_) => 0..0,
        };
        OfGroup { data, from: range.start, to: range.end }
    }

    /// How many values there are, some of them in several runs.
    pub(crate) fn len(&self) -> usize {
        self.groups.len() + self.runs.iter().map(|run| run.len).sum::<usize>()
    }

    /// About how many bytes of memory they take.
    pub(crate) fn size_bytes(&self) -> usize {
        let of = |data: &Data<S>| data.items.size_bytes() + size_of_val(data.times.as_slice());
        // Several runs may be stretches of the same values.
        let each = |data: &Data<S>| of(data) / data.items.len().max(1);
        let runs: usize = self.runs.iter().map(|run| each(&run.data) * run.len).sum();
        size_of_val(self.groups.as_slice()) + of(&self.fresh) + runs
    }
}

impl<'a, S: Store> OfGroup<'a, S> {
    /// How many different values there are.
    pub(crate) fn len(&self) -> usize {
        self.to - self.from
    }

    /// One of them, and how often it occurs.
    pub(crate) fn get(&self, at: usize) -> (S::Item<'a>, u64) {
        (self.data.items.get(self.from + at), self.data.times(self.from + at))
    }

    /// How many values there are, equal ones counted one by one.
    pub(crate) fn count(&self) -> u64 {
        match self.data.times.get(self.from..self.to) {
            Some(times) => times.iter().sum(),
            None => self.len() as u64,
        }
    }

    /// The value at a place among all, counted from 0.
    pub(crate) fn at(&self, place: u64) -> Option<S::Item<'a>> {
        let at = match self.data.times.get(self.from..self.to) {
            None => place as usize,
            Some(times) => {
                let mut seen = 0;
                times.iter().position(|n| {
                    seen += n;
                    seen > place
                })?
            }
        };
        (at < self.len()).then(|| self.get(at).0)
    }
}

/// A run of values that are in no order.
fn sorted<S: Store>(groups: &[u32], fresh: &Data<S>) -> Run<S> {
    let mut out = Writing::new();
    if fresh.times.is_empty()
        && fresh.items.each_in_order(groups, |group, item| out.add(group, item, 1))
    {
        return out.done();
    }
    for at in fresh.items.order(groups) {
        let at = at as usize;
        out.add(groups[at], fresh.items.get(at), fresh.times(at));
    }
    out.done()
}

/// Where a run is: what is left of its stretches.
struct Cursor<'a, S> {
    stretches: std::slice::Iter<'a, Stretch>,
    group: u32,
    range: Range<usize>,
    data: &'a Data<S>,
}

impl<'a, S: Store> Cursor<'a, S> {
    fn of(run: &'a Run<S>) -> Cursor<'a, S> {
        Cursor { stretches: run.stretches.iter(), group: 0, range: 0..0, data: &run.data }
    }

    fn next(&mut self) -> Option<(u32, S::Item<'a>, u64)> {
        let at = match self.range.next() {
            Some(at) => at,
            None => {
                let next = self.stretches.next()?;
                (self.group, self.range) = (next.group, next.range());
                self.range.next()?
            }
        };
        Some((self.group, self.data.items.get(at), self.data.times(at)))
    }
}

/// Several runs as one.
fn merged<S: Store>(runs: &[&Run<S>]) -> Run<S> {
    match runs {
        [] => Writing::new().done(),
        [one] => (*one).clone(),
        [one, other] => merged_two(one, other),
        // Few are merged in pairs: what comes next of two is found with one comparison.
        [one, other, rest @ ..] if rest.len() <= 2 => {
            let rest = merged(rest);
            merged_two(&merged_two(one, other), &rest)
        }
        many => merged_many(many),
    }
}

fn merged_two<S: Store>(one: &Run<S>, other: &Run<S>) -> Run<S> {
    let mut out = Writing::new();
    let (mut one, mut other) = (Cursor::of(one), Cursor::of(other));
    let (mut first, mut second) = (one.next(), other.next());
    loop {
        let (group, item, times) = match (first, second) {
            (Some(a), Some(b)) if (b.0, b.1) < (a.0, a.1) => {
                second = other.next();
                b
            }
            (Some(a), _) => {
                first = one.next();
                a
            }
            (None, Some(b)) => {
                second = other.next();
                b
            }
            (None, None) => return out.done(),
        };
        out.add(group, item, times);
    }
}

fn merged_many<S: Store>(runs: &[&Run<S>]) -> Run<S> {
    let mut cursors: Vec<Cursor<'_, S>> = runs.iter().map(|run| Cursor::of(run)).collect();
    let mut heads = BinaryHeap::new();
    for (at, cursor) in cursors.iter_mut().enumerate() {
        if let Some((group, item, times)) = cursor.next() {
            heads.push(Reverse((group, item, at, times)));
        }
    }
    let mut out = Writing::new();
    while let Some(mut head) = heads.peek_mut() {
        let Reverse((group, item, at, times)) = *head;
        out.add(group, item, times);
        match cursors[at].next() {
            Some((group, item, times)) => *head = Reverse((group, item, at, times)),
            None => {
                PeekMut::pop(head);
            }
        }
    }
    out.done()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::BTreeMap;

    #[test]
    fn values_that_come_again_after_all_are_kept_about_once() {
        let mut runs = Runs::<Wholes>::default();
        (0..20_000).for_each(|row| runs.add(1, row % 100, 1));
        let counted = runs.of_group(1);
        assert_eq!((counted.len(), counted.count(), counted.get(7)), (100, 20_000, (7, 200)));
        // A hundred values with how often each comes are 1,600 bytes.
        assert!(runs.size_bytes() < 8 * 1600, "{}", runs.size_bytes());
    }

    proptest! {
        /// By comparing, by digits, and where group and value do not fit a word.
        #[test]
        fn wholes_are_put_in_the_order_of_their_groups_and_their_own(
            values in proptest::collection::vec((1u32..4, any::<i64>()), 0..60),
            shift in prop_oneof![Just(0u32), 0u32..64],
            many in any::<bool>(),
        ) {
            let far = |value: i64, nth: usize| (value >> shift) ^ nth as i64;
            let copies = if many { 50 } else { 1 };
            let (groups, wholes): (Vec<u32>, Vec<i64>) = (0..copies)
                .flat_map(|nth| values.iter().map(move |it| (it.0, far(it.1, nth))))
                .unzip();
            let mut plain: Vec<u32> = (0..groups.len() as u32).collect();
            plain.sort_by_key(|&at| (groups[at as usize], wholes[at as usize]));
            let in_order: Vec<(u32, i64)> =
                plain.iter().map(|&at| (groups[at as usize], wholes[at as usize])).collect();
            let wholes = Wholes(wholes);
            prop_assert_eq!(wholes.order(&groups), plain);
            let mut each = Vec::new();
            if wholes.each_in_order(&groups, |group, value| each.push((group, value))) {
                prop_assert_eq!(each, in_order);
            }
        }

        #[test]
        fn runs_hold_what_a_plain_map_holds_however_they_were_put_together(
            values in proptest::collection::vec((1u32..5, "[aAb\u{e9}]{0,2}|same first bytes [ab]", 1u64..3), 0..60),
            cuts in proptest::collection::vec(0usize..60, 0..4),
            map in proptest::collection::vec(0u32..3, 5),
        ) {
            let (mut whole, mut texts) = (Runs::<Wholes>::default(), Runs::<Texts>::default());
            let mut taken = (Runs::<Wholes>::default(), Runs::<Texts>::default());
            let mut plain: BTreeMap<(u32, &str), u64> = BTreeMap::new();
            for (i, (group, text, times)) in values.iter().enumerate() {
                if cuts.contains(&i) {
                    whole.settle();
                    texts.settle();
                }
                whole.add(*group, text.len() as i64 - 1, *times);
                texts.add(*group, text, *times);
                let to = map[*group as usize];
                if to != 0 {
                    *plain.entry((to, text)).or_default() += times;
                }
            }
            taken.0.absorb(&whole, &map);
            taken.1.absorb(&texts, &map);
            let mut lengths: BTreeMap<(u32, i64), u64> = BTreeMap::new();
            for ((group, text), times) in &plain {
                *lengths.entry((*group, text.len() as i64 - 1)).or_default() += times;
            }
            fn all<'a, S: Store>(runs: &'a Runs<S>) -> Vec<((u32, S::Item<'a>), u64)> {
                (1..3).flat_map(|group| {
                    let of = runs.of_group(group);
                    let places: Vec<_> = (0..of.count()).filter_map(|place| of.at(place)).collect();
                    let each: Vec<_> = (0..of.len()).map(|at| of.get(at)).collect();
                    let again = each.iter().flat_map(|it| std::iter::repeat_n(it.0, it.1 as usize));
                    assert!(again.eq(places));
                    each.into_iter().map(move |(item, times)| ((group, item), times))
                })
                .collect()
            }
            prop_assert!(all(&taken.0).into_iter().eq(lengths));
            prop_assert!(all(&taken.1).into_iter().eq(plain));
        }
    }
}
