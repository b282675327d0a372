//! Groups that outgrow memory: put aside in the order of their key, and joined in that order.
//!
//! Rows that come in no order touch their groups here and there. While all groups are at hand nothing is faster; where they
//! outgrow what may be held, each would wait for a page. So a worker whose groups take more than its room puts them
//! aside in the order of their key and begins anew. What was put aside is joined many pieces at a time, from the first
//! group to the last: each piece is gone through in order, and of what they become a stretch is at hand.
//!
//! Groups of one key that is no text (a number, a day) are put aside by its value. Those of several keys are known by two
//! numbers, of the group of all keys but the last and of the last key's value: these a worker gives, and keeps, so that what
//! another one has put aside is numbered anew, each piece by itself, before anything is joined. Where hardly a row finds its
//! group again, none is looked for: each row has a group of its own until it is put aside. Groups of one text stay
//! whole, and so do groups of one key that come in its order, and groups with lists of values, or sets of more than a word
//! holds ([`State::holds_values`](crate::aggregate::State::holds_values)).

use super::codes::{Grouper, Renumbered};
use super::states::GroupStates;
use crate::aggregate::count::Counts;
use crate::aggregate::{Overflow, State};
use crate::plan::Grouping;
use crate::rows::evaluator::StepOverflow;
use oeuvre_columns::at_once;
use oeuvre_columns::column::digits::{sorted_by_digits, width};
use oeuvre_columns::column::interner::Pairs;
use oeuvre_columns::room::{self, aside, make_room};
use std::cmp::Reverse;
use std::collections::BinaryHeap;
use std::collections::binary_heap::PeekMut;
use std::iter::Copied;
use std::ops::RangeInclusive;
use std::slice::Iter;
use std::sync::Arc;

/// What a worker has put aside of a grouping.
#[derive(Default)]
pub(super) struct Aside {
    /// Each in the order of its key, the largest first.
    pieces: Vec<GroupStates>,
    /// From so many groups on it is looked again how much they take.
    next_look: usize,
}

impl Aside {
    /// Whether nothing was put aside.
    pub(super) fn is_empty(&self) -> bool {
        self.pieces.is_empty()
    }

    /// Puts groups aside if they take more than there is room for.
    pub(super) fn take(
        &mut self,
        groups: &mut GroupStates,
        plan: &Grouping,
        room: usize,
    ) -> Result<(), StepOverflow> {
        let count = groups.grouper.groups();
        if count < self.next_look {
            return Ok(());
        }
        self.next_look = count + count / 8;
        if groups.going_bytes() <= room && count < MOST_LISTED || !groups.are_plain() {
            return Ok(());
        }
        let of_several = groups.grouper.last_pairs().is_some();
        // Groups of one key that come in its order are touched in order where they are.
        if !of_several && !groups.grouper.is_in_no_order() {
            return Ok(());
        }
        self.put(groups, plan)
    }

    /// Rows that were given groups of their own are put aside, when all have come.
    pub(super) fn finish(
        &mut self,
        groups: &mut GroupStates,
        plan: &Grouping,
    ) -> Result<(), StepOverflow> {
        match groups.grouper.lists() {
            true => {
                self.put(groups, plan)?;
                groups.grouper.set_lists(false);
                Ok(())
            }
            false => Ok(()),
        }
    }

    /// Puts groups aside, unless they have no order.
    fn put(&mut self, groups: &mut GroupStates, plan: &Grouping) -> Result<(), StepOverflow> {
        groups.tell_rows();
        let rows: u64 = groups.counts.0.iter().sum();
        let Some(piece) = aside(|| in_order(groups, 1))? else { return Ok(()) };
        self.next_look = 0;
        let mut fresh = GroupStates::new(plan);
        if groups.grouper.last_pairs().is_some() {
            // Where hardly a row finds its group, looking for it costs more than another group does.
            let lists = piece.grouper.groups() as u64 >= rows / ROWS_OF_FEW;
            std::mem::swap(&mut fresh.grouper, &mut groups.grouper);
            fresh.grouper.set_lists(lists);
        }
        *groups = fresh;
        self.push(piece)
    }

    /// Takes in what another worker has put aside; what its numbers are here, where there are several keys.
    pub(super) fn absorb(
        &mut self,
        other: Aside,
        numbers: Option<&Renumbered>,
    ) -> Result<(), StepOverflow> {
        other.pieces.into_iter().try_for_each(|piece| match numbers {
            Some(Renumbered { before, last: Some(last) }) => {
                let here = |word: &i64| {
                    let (first, second) = pair(*word);
                    word_of(before[first as usize], last[second as usize])
                };
                let words = piece.grouper.numbers().iter().map(here).collect();
                self.push(aside(|| of_words(words, FIRST, piece, 1))?)
            }
            _ => self.push(piece),
        })
    }

    /// Brings everything that was put aside back to the groups at hand.
    pub(super) fn settle(
        &mut self,
        groups: &mut GroupStates,
        threads: usize,
    ) -> Result<(), StepOverflow> {
        match in_order(groups, threads)? {
            Some(piece) => self.add(piece),
            // Numbers have come that these orders do not hold.
            None => {
                let mut pieces = std::mem::take(&mut self.pieces).into_iter();
                return pieces.try_for_each(|piece| groups.absorb(&piece, threads));
            }
        }
        self.join(threads)?;
        let Some(all) = self.pieces.pop() else { return Ok(()) };
        if groups.grouper.last_pairs().is_none() {
            *groups = all;
            return Ok(());
        }
        let mut grouper = groups.take().grouper;
        let words = all.grouper.numbers();
        let map = [0, 0].into_iter().chain((1..).take(words.len())).collect();
        grouper.set_last_pairs(Pairs::of_ordered(words.iter().map(|&word| pair(word)).collect()));
        *groups = merged(grouper, vec![(all, map)], threads)?;
        Ok(())
    }

    fn add(&mut self, piece: GroupStates) {
        self.pieces.push(piece);
        self.pieces.sort_by_key(|piece| Reverse(piece.grouper.groups()));
    }

    /// Adds a piece, and joins all when they have become many, and the others as large as the first: a group that is in
    /// each of them is then kept once, and none is joined often.
    fn push(&mut self, piece: GroupStates) -> Result<(), StepOverflow> {
        self.add(piece);
        let count = |piece: &GroupStates| piece.grouper.groups();
        match self.pieces.split_first() {
            Some((first, rest))
                if rest.len() >= MANY_PIECES
                    && rest.iter().map(count).sum::<usize>() >= count(first) =>
            {
                self.join(1)
            }
            _ => Ok(()),
        }
    }

    /// Joins all pieces.
    fn join(&mut self, threads: usize) -> Result<(), StepOverflow> {
        if self.pieces.len() > 1 {
            let pieces = std::mem::take(&mut self.pieces);
            self.pieces.push(aside(|| joined(pieces, threads))?);
        }
        Ok(())
    }
}

/// So many pieces are worth joining, beside the first.
const MANY_PIECES: usize = if cfg!(test) { 2 } else { 16 };
/// Groups have so few rows that each row may as well be given one.
const ROWS_OF_FEW: u64 = 3;
/// No more groups than that are given to rows.
const MOST_LISTED: usize = 1 << 30;

/// The group without a value of the key, and the one of its first value.
const WITHOUT: u32 = 1;
const FIRST: u32 = 2;

/// Takes in the groups of another worker. Many that have come in the order of their key are joined in that order: whatever
/// is made of them then stands as they are numbered. Joining copies all of them, so that few are rather added to many.
pub(super) fn take_in(
    mine: &mut GroupStates,
    mut theirs: GroupStates,
    threads: usize,
) -> Result<(), StepOverflow> {
    /// No fewer than one to so many are joined.
    const MANY_MORE: usize = 8;
    let are_few = theirs.grouper.groups() < mine.grouper.groups() / MANY_MORE;
    if are_few || !come_in_order(mine) || !come_in_order(&theirs) {
        return mine.absorb(&theirs, threads);
    }
    let as_ordered = |groups: &mut GroupStates| match groups.grouper.numbers().is_sorted() {
        true => Ok(Some(groups.take())),
        // A few came late.
        false => in_order(groups, threads),
    };
    // Numbers that come in order have one.
    if let (Some(one), Some(other)) = (as_ordered(mine)?, as_ordered(&mut theirs)?) {
        *mine = joined(vec![one, other], threads)?;
    }
    Ok(())
}

/// Whether there are many groups, which have come in the order of their key, or nearly so.
fn come_in_order(groups: &GroupStates) -> bool {
    const MANY: usize = if cfg!(test) { 4 } else { 1 << 16 };
    groups.grouper.numbers().len() >= MANY
        && groups.are_plain()
        && groups.forced.is_empty()
        && !groups.grouper.is_in_no_order()
}

/// Two numbers as one word, and back.
fn word_of(first: u32, second: u32) -> i64 {
    (u64::from(first) << 32 | u64::from(second)) as i64
}

fn pair(word: i64) -> (u32, u32) {
    ((word as u64 >> 32) as u32, word as u32)
}

/// Takes groups out in the order of their key, or of the words that they are known by; `None` where there is no such order.
/// Of several keys the values, and the groups of all but the last, stay.
fn in_order(groups: &mut GroupStates, threads: usize) -> Result<Option<GroupStates>, StepOverflow> {
    if let Some(pairs) = groups.grouper.last_pairs() {
        let words = pairs.pairs().iter().map(|&(first, second)| word_of(first, second)).collect();
        let mut taken = groups.take();
        std::mem::swap(&mut groups.grouper, &mut taken.grouper);
        groups.grouper.set_last_pairs(Pairs::default());
        return of_words(words, 1, taken, threads).map(Some);
    }
    let Some((values, order)) = groups.grouper.numbers_in_order() else { return Ok(None) };
    let mut map = vec![0; groups.grouper.groups()];
    map[WITHOUT as usize] = WITHOUT;
    for (&code, group) in order.iter().zip(FIRST..) {
        map[(FIRST + code) as usize] = group;
    }
    let in_order = order.iter().map(|&code| values[code as usize]).collect();
    let parts = vec![(groups.take(), map)];
    merged(Grouper::of_ordered(in_order), parts, threads).map(Some)
}

/// Groups in the order of the words that they are known by, of which the first is that of the group `first`; those of the
/// same word become one.
fn of_words(
    words: Vec<i64>,
    first: u32,
    groups: GroupStates,
    threads: usize,
) -> Result<GroupStates, StepOverflow> {
    let mut map = vec![0; first as usize + words.len()];
    let mut distinct: Vec<i64> = Vec::new();
    for (word, group) in sorted(words.into_iter().zip(first..).collect()) {
        if distinct.last() != Some(&word) {
            distinct.push(word);
        }
        map[group as usize] = FIRST + distinct.len() as u32 - 1;
    }
    merged(Grouper::of_ordered(distinct), vec![(groups, map)], threads)
}

/// Sorts by words, by digits.
fn sorted(words: Vec<(i64, u32)>) -> Vec<(i64, u32)> {
    let most = |of: fn((u32, u32)) -> u32| words.iter().map(|it| of(pair(it.0))).max().unwrap_or(0);
    let (firsts, seconds) = (width(most(|it| it.0).into()), width(most(|it| it.1).into()));
    // Words with their highest bit set come before the others.
    if firsts == u32::BITS {
        let mut words = words;
        words.sort_unstable();
        return words;
    }
    let word = |it: (i64, u32)| {
        let (first, second) = pair(it.0);
        u64::from(first) << seconds | u64::from(second)
    };
    sorted_by_digits(words, word, firsts + seconds)
}

/// Several pieces as one.
fn joined(pieces: Vec<GroupStates>, threads: usize) -> Result<GroupStates, StepOverflow> {
    let map = |piece: &GroupStates| {
        let mut map = Vec::with_capacity(FIRST as usize + piece.grouper.numbers().len());
        map.extend([0, WITHOUT]);
        map
    };
    let mut maps: Vec<Vec<u32>> = pieces.iter().map(map).collect();
    let mut numbers: Vec<_> =
        pieces.iter().map(|it| it.grouper.numbers().iter().copied()).collect();
    let first = |(at, numbers): (usize, &mut Copied<Iter<'_, i64>>)| {
        numbers.next().map(|number| Reverse((number, at)))
    };
    let mut heads: BinaryHeap<_> = numbers.iter_mut().enumerate().filter_map(first).collect();
    let mut values: Vec<i64> = Vec::new();
    while let Some(mut head) = heads.peek_mut() {
        let Reverse((value, at)) = *head;
        if values.last() != Some(&value) {
            make_room(&mut values, 1);
            values.push(value);
        }
        maps[at].push(FIRST + values.len() as u32 - 1);
        match numbers[at].next() {
            Some(number) => *head = Reverse((number, at)),
            None => {
                PeekMut::pop(head);
            }
        }
    }
    drop(heads);
    merged(Grouper::of_ordered(values), pieces.into_iter().zip(maps).collect(), threads)
}

/// The states of groups, each as its groups are mapped.
fn merged(
    grouper: Grouper,
    parts: Vec<(GroupStates, Vec<u32>)>,
    threads: usize,
) -> Result<GroupStates, StepOverflow> {
    let groups = grouper.groups();
    /// What is to become of a state, and what the parts have of it.
    type Parted<'n> = (Box<dyn State>, Vec<Box<dyn State>>, &'n Arc<str>);
    let names = parts[0].0.names().clone();
    let fresh = parts[0].0.states.iter().zip(&names[1..]);
    let fresh = fresh.map(|(state, name)| (state.fresh(), Vec::new(), name));
    let mut states: Vec<Parted<'_>> = fresh.collect();
    let (mut all_counts, mut counts, mut maps) = (Counts::default(), Vec::new(), Vec::new());
    for (part, map) in parts {
        counts.push(Box::new(part.counts) as Box<dyn State>);
        states.iter_mut().zip(part.states).for_each(|(all, state)| all.1.push(state));
        maps.push(map);
    }
    all_counts.resize(groups);
    merge_in_order(&mut all_counts, counts, &maps, groups).map_err(StepOverflow::of(&names[0]))?;
    let merge = |(mut all, parts, name): Parted<'_>| {
        all.resize(groups);
        let merged = merge_in_order(all.as_mut(), parts, &maps, groups);
        merged.map(|()| all).map_err(StepOverflow::of(name))
    };
    // Of several problems always the same one.
    let states = at_once(states, threads, merge).into_iter().collect::<Result<_, _>>()?;
    Ok(GroupStates::of(grouper, all_counts, states, names.clone()))
}

/// What is worked on at once takes one of so many bytes of memory where groups come in order.
const OF_ORDERED: usize = 16;
/// And where they come in no order: workers do that beside each other.
const OF_UNORDERED: usize = 64;
/// Then all of them are looked through for each stretch: as many stretches as these, no fewer and no more, are worth that.
/// Pieces have them; what is nearly in order already may have many more.
const STRETCHES: RangeInclusive<usize> = if cfg!(test) { 2..=usize::MAX } else { 4..=8 };
/// A stretch is no less than so many groups.
const FEW_GROUPS: usize = if cfg!(test) { 2 } else { 1 << 12 };

/// Merges parts of a state, each as its groups are mapped. A stretch of what they become is made of all parts before the next
/// one: it is touched here and there and again and again, and what lies before and behind it is not.
fn merge_in_order(
    all: &mut dyn State,
    parts: Vec<Box<dyn State>>,
    maps: &[Vec<u32>],
    groups: usize,
) -> Result<(), Overflow> {
    let is_sorted: Vec<bool> = maps.iter().map(|map| map.is_sorted()).collect();
    let all_sorted = is_sorted.iter().all(|is_sorted| *is_sorted);
    let bytes: usize = parts.iter().map(|part| part.size_bytes()).sum();
    let entries: usize = maps.iter().map(Vec::len).sum();
    let of_group = (bytes / entries.max(1)).max(1);
    let part = if all_sorted { OF_ORDERED } else { OF_UNORDERED };
    let stretch = match cfg!(test) {
        true => FEW_GROUPS,
        false => (room::bytes() / part / of_group).clamp(FEW_GROUPS, 1 << 31),
    };
    // For each stretch all maps are gone through; else all groups, for each part.
    let stretches = groups.div_ceil(stretch);
    let of_maps = stretches * entries * 2 * size_of::<u32>();
    let is_dear = !cfg!(test) && of_maps > parts.len() * groups * of_group;
    let in_one = match all_sorted {
        true => stretches == 1 || parts.len() == 1 || is_dear,
        false => !STRETCHES.contains(&stretches),
    };
    if in_one || parts.iter().any(|part| part.looks_values_up()) {
        // What a part had goes as soon as it was merged.
        return parts.into_iter().zip(maps).try_for_each(|(part, map)| all.merge(&*part, map));
    }
    let mut some = vec![0; maps.iter().map(Vec::len).max().unwrap_or(0)];
    let mut done = vec![0; parts.len()];
    for first in (0..groups as u32).step_by(stretch) {
        let end = first.saturating_add(stretch as u32);
        for (at, (part, map)) in parts.iter().zip(maps).enumerate() {
            if !is_sorted[at] {
                let here = |&group: &u32| if (first..end).contains(&group) { group } else { 0 };
                some.iter_mut().zip(map).for_each(|(to, group)| *to = here(group));
                all.merge(part.as_ref(), &some[..map.len()])?;
                some[..map.len()].fill(0);
                continue;
            }
            let from = done[at];
            let to = from + map[from..].partition_point(|&group| group < end);
            if from < to {
                some[from..to].copy_from_slice(&map[from..to]);
                all.merge(part.as_ref(), &some[..map.len()])?;
                some[from..to].fill(0);
            }
            done[at] = to;
        }
    }
    Ok(())
}
