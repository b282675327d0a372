//! A set of bits for each group: what `count(distinct x)` keeps of values that lie near each other, or have codes.
//!
//! While sets are short, as where there are few routes or kinds of ticket, or days of many customers, there are as many words for
//! each group, and nothing else. Else each is as long as it needs to be, as far as that is worth its memory
//! ([`Bits::are_mostly_empty`]).

use oeuvre_columns::column::ahead::{ask_for, is_far};
use oeuvre_columns::room::{self, lengthen};

/// Numbers lie near each other when so many bits hold them; further apart, where many have turned out to, but never further
/// than the last.
const NEAR: u64 = if cfg!(test) { 1 << 12 } else { 1 << 22 };
const FARTHEST: u64 = 1 << 30;
/// No number below a base may come round to places behind it.
pub(super) const HIGHEST_BASE: i64 = i64::MAX - FARTHEST as i64;
/// So many values say whether they lie near each other: when so many bits, from the first to the last, hold each of them.
pub(super) const MANY: usize = if cfg!(test) { 8 } else { 1 << 17 };
const BITS_FOR_EACH: usize = 128;
/// Sets of bits always take so much (2 MiB), up to the next so much for each value that is set (64 MiB, and 256 where
/// many are known), and beyond it this much: what a pair takes.
const LEAST_WORDS: usize = 1 << 18;
const WORDS_AT_FIRST: usize = 128;
const MORE_WORDS: usize = 8 << 20;
const MOST_WORDS: usize = 32 << 20;
const WORDS_FOR_EACH: usize = 4;
/// Sets that have as many words each have no more than so many, and all together no more than so many (64 MiB).
const MOST_EACH: usize = if cfg!(test) { 8 } else { 64 };
const MOST_ROWS: usize = if cfg!(test) { 64 } else { 8 << 20 };
/// Sets of fewer words than these are small pieces of ordinary memory, which cannot be put away: all together they take no more
/// than one of so many bytes that may be taken. Each takes some words more than it has bits for.
const LONG_SET: usize = 1 << 10;
const OF_SHORT_SETS: usize = 8;
const AROUND_SET: usize = 5;

/// A set of bits for each group, as far as they reach.
#[derive(Clone)]
pub(super) struct Bits {
    sets: Sets,
    /// Words of all sets, and of the longest.
    words: usize,
    pub(super) longest: usize,
    /// So many bits hold numbers near each other.
    pub(super) near: u64,
    /// How many words there were when the bits were counted last.
    counted: usize,
}

/// The bits of all groups.
#[derive(Clone)]
enum Sets {
    /// So many words each: no set reaches further.
    Rows { each: usize, words: Vec<u64> },
    /// As many words as each needs.
    Lists(Vec<Vec<u64>>),
}

impl Bits {
    pub(super) fn of_groups(groups: usize) -> Bits {
        let sets = Sets::Rows { each: 1, words: vec![0; groups] };
        Bits { sets, words: 0, longest: 1, near: NEAR, counted: 0 }
    }

    /// Makes room for so many groups.
    pub(super) fn resize(&mut self, groups: usize) {
        match &mut self.sets {
            Sets::Rows { each, words } if *each == 1 || rows_may_be(groups, *each) => {
                lengthen(words, groups.saturating_mul(*each), 0);
                self.words = words.len();
            }
            _ => {
                let lists = self.lists();
                lists.resize(groups.max(lists.len()), Vec::new());
            }
        }
    }

    fn groups(&self) -> usize {
        match &self.sets {
            Sets::Rows { each, words } => words.len() / each,
            Sets::Lists(lists) => lists.len(),
        }
    }

    /// Whether a word is enough for each.
    pub(super) fn are_words(&self) -> bool {
        matches!(self.sets, Sets::Rows { each: 1, .. })
    }

    /// About how many bytes of memory they take.
    pub(super) fn size_bytes(&self) -> usize {
        match &self.sets {
            Sets::Rows { words, .. } => size_of_val(words.as_slice()),
            Sets::Lists(lists) => size_of_val(lists.as_slice()) + self.words * 8,
        }
    }

    /// The words of each group; none where no bit is set.
    pub(super) fn each(&self) -> impl Iterator<Item = &[u64]> {
        let of_group = |group: usize| match &self.sets {
            Sets::Rows { each, words } => trimmed(&words[group * each..][..*each]),
            Sets::Lists(lists) => &lists[group][..],
        };
        (0..self.groups()).map(of_group)
    }

    /// The sets, of as many words as each needs.
    fn lists(&mut self) -> &mut Vec<Vec<u64>> {
        if let Sets::Rows { .. } = &self.sets {
            let lists: Vec<Vec<u64>> = self.each().map(<[u64]>::to_vec).collect();
            self.words = lists.iter().map(Vec::len).sum();
            self.longest = lists.iter().map(Vec::len).max().unwrap_or(0).max(1);
            self.sets = Sets::Lists(lists);
        }
        match &mut self.sets {
            Sets::Lists(lists) => lists,
            Sets::Rows { .. } => unreachable!("they have just become lists"),
        }
    }

    /// Gives each set so many words, of which those that it has stand some words further on; false where they are lists, or
    /// would be too long.
    fn widen(&mut self, longest: usize, shift: usize) -> bool {
        let groups = self.groups();
        let Sets::Rows { each, words } = &mut self.sets else { return false };
        // Some words more, where they may be, so that sets that grow along the rows are seldom moved.
        let wide = [longest.max(*each + *each / 4), longest];
        let Some(wide) = wide.into_iter().find(|wide| rows_may_be(groups, *wide)) else {
            return false;
        };
        let mut wider = vec![0; groups * wide];
        for (to, from) in wider.chunks_exact_mut(wide).zip(words.chunks_exact(*each)) {
            to[shift..shift + *each].copy_from_slice(from);
        }
        (self.words, self.longest) = (wider.len(), wide);
        self.sets = Sets::Rows { each: wide, words: wider };
        true
    }

    /// Whether the sets are larger than what the caches of one core hold.
    pub(super) fn are_far(&self) -> bool {
        match &self.sets {
            Sets::Rows { words, .. } => is_far(words),
            Sets::Lists(_) => self.words > 64 << 10,
        }
    }

    /// Asks for the bit of a number that will be added soon.
    #[inline]
    pub(super) fn ask_for(&self, group: u32, place: u64) {
        match &self.sets {
            Sets::Rows { each, words } => {
                ask_for(words, group as usize * each + ((place >> 6) as usize).min(each - 1));
            }
            Sets::Lists(lists) => {
                if let Some(list) = lists.get(group as usize) {
                    ask_for(list, (place >> 6) as usize);
                }
            }
        }
    }

    /// Sets a bit.
    #[inline]
    pub(super) fn add(&mut self, group: u32, place: u64) {
        match self.word(group, place) {
            Some(word) => *word |= bit(place),
            None => self.add_further(group, place),
        }
    }

    /// As [`Bits::add`], unless that takes more room than it may; whether it was added.
    #[inline]
    pub(super) fn add_in_room(&mut self, group: u32, place: u64) -> bool {
        match self.word(group, place) {
            Some(word) => {
                *word |= bit(place);
                true
            }
            None => self.add_where_it_may(group, place),
        }
    }

    /// The word of a place, where there is one.
    #[inline]
    fn word(&mut self, group: u32, place: u64) -> Option<&mut u64> {
        match &mut self.sets {
            Sets::Lists(lists) => lists[group as usize].get_mut((place >> 6) as usize),
            Sets::Rows { each, words } => {
                let at = (place >> 6) as usize;
                (at < *each).then(|| &mut words[group as usize * *each + at])
            }
        }
    }

    #[cold]
    fn add_further(&mut self, group: u32, place: u64) {
        let word = (place >> 6) as usize;
        if self.widen(word + 1, 0) {
            return self.add(group, place);
        }
        let row = &mut self.lists()[group as usize];
        let more = if word < row.len() { 0 } else { grow(row, word + 1) };
        row[word] |= bit(place);
        let longest = row.len();
        self.words += more;
        self.longest = self.longest.max(longest);
    }

    #[cold]
    fn add_where_it_may(&mut self, group: u32, place: u64) -> bool {
        let words = (place >> 6) as usize + 1;
        if self.widen(words, 0) {
            self.add(group, place);
            return true;
        }
        if self.are_sparse(self.groups(), words) {
            return false;
        }
        let row = &mut self.lists()[group as usize];
        let more = words.saturating_sub(row.len());
        let may = self.may_take(more, words);
        if may {
            self.add_further(group, place);
        }
        may
    }

    /// Whether so many groups, one of which needs so many words, would need a list each for few bits: only then are bits counted.
    #[cold]
    pub(super) fn are_sparse(&self, groups: usize, longest: usize) -> bool {
        let Sets::Rows { each, words } = &self.sets else { return false };
        let are_many = groups.saturating_mul(longest.max(*each)) > MOST_ROWS;
        are_many && *each > 1 && self.set() * WORDS_FOR_EACH < words.len()
    }

    /// Whether there may be so many words more, where the longest set has so many.
    #[cold]
    fn may_take(&mut self, more: usize, longest: usize) -> bool {
        let words = self.words + more;
        let taken = words + AROUND_SET * self.groups();
        let are_short = taken < LONG_SET * self.groups();
        if are_short && taken > room::bytes() / OF_SHORT_SETS / size_of::<u64>() {
            return false;
        }
        if words <= LEAST_WORDS.max(self.counted + self.counted / 4) {
            return true;
        }
        let all = self.groups().saturating_mul(longest.max(self.longest));
        if self.near > NEAR && all <= MOST_WORDS {
            return true;
        }
        self.counted = self.words;
        let set = self.set();
        words <= MORE_WORDS.min(set * WORDS_AT_FIRST).max(set * WORDS_FOR_EACH)
    }

    /// Whether so many values are near each other over so many bits; then others that are a little further away are, too:
    /// numbers that grow along the rows go on.
    pub(super) fn are_worth_it(&mut self, span: i64, values: usize) -> bool {
        let Some(bits) = usize::try_from(span).ok().filter(|_| span as u64 <= FARTHEST) else {
            return false;
        };
        let words = self.groups().saturating_mul(bits / 64 + 1);
        let are = values >= MANY
            && bits / BITS_FOR_EACH <= values
            && words <= MOST_WORDS.min(values.saturating_mul(WORDS_AT_FIRST));
        if are {
            self.near = self.near.max((4 * bits as u64).min(FARTHEST));
        }
        are
    }

    /// How many bits are set.
    pub(super) fn set(&self) -> usize {
        self.each().flatten().map(|word| word.count_ones() as usize).sum()
    }

    /// Adds the bits of a set to a group, so many words further on.
    pub(super) fn add_all(&mut self, group: u32, words: &[u64], shift: usize) {
        let words = trimmed(words);
        if words.is_empty() {
            return;
        }
        let longest = words.len() + shift;
        if (longest <= self.longest || self.widen(longest, 0))
            && let Sets::Rows { each, words: all } = &mut self.sets
        {
            let row = &mut all[group as usize * *each + shift..];
            row.iter_mut().zip(words).for_each(|(to, from)| *to |= from);
            return;
        }
        let row = &mut self.lists()[group as usize];
        let more = match words.len() + shift {
            needed if row.len() < needed => grow(row, needed),
            _ => 0,
        };
        row.iter_mut().skip(shift).zip(words).for_each(|(to, from)| *to |= from);
        let longest = row.len();
        self.words += more;
        self.longest = self.longest.max(longest);
    }

    /// Makes room for a number before or behind those from a base on, and says its place; `None` where it lies too
    /// far away.
    #[cold]
    pub(super) fn reach(&mut self, base: &mut Option<i64>, value: i64) -> Option<u64> {
        let low = value & !63;
        let Some(from) = *base else {
            if low > HIGHEST_BASE {
                return None;
            }
            *base = Some(low);
            return Some((value - low) as u64);
        };
        let longest = self.longest as i128;
        let end = (i128::from(from) + 64 * longest).max(i128::from(value) + 1);
        let span = end - i128::from(low.min(from));
        if span > i128::from(self.near)
            && !i64::try_from(span).is_ok_and(|span| self.are_worth_it(span, self.set()))
        {
            return None;
        }
        if value >= from {
            return Some((value - from) as u64);
        }
        // Lists some way further down, so that numbers that come down one by one cost little.
        let further = if let Sets::Rows { .. } = self.sets { 0 } else { longest * 32 };
        let spare = (i128::from(from) - further).max(end - i128::from(self.near));
        let low = (spare.max(i128::from(i64::MIN)) as i64 & !63).min(low);
        let words = ((from - low) / 64) as usize;
        let sets = self.each().filter(|words| !words.is_empty()).count();
        if !self.may_take(words.saturating_mul(sets), words + longest as usize) {
            return None;
        }
        self.shift(words);
        *base = Some(low);
        Some((value - low) as u64)
    }

    /// Moves all bits so many words further on.
    fn shift(&mut self, words: usize) {
        if self.widen(self.longest + words, words) {
            return;
        }
        let (mut more, mut longest) = (0, self.longest);
        for row in self.lists().iter_mut().filter(|row| !row.is_empty()) {
            row.splice(0..0, std::iter::repeat_n(0, words));
            more += words;
            longest = longest.max(row.len());
        }
        self.words += more;
        self.longest = longest;
    }

    /// Whether pairs would take less.
    pub(super) fn are_mostly_empty(&mut self) -> bool {
        !self.are_words() && !self.may_take(0, 0)
    }

    /// The places of each group.
    pub(super) fn entries(&self) -> impl Iterator<Item = (u32, u64)> + '_ {
        self.each().enumerate().flat_map(|(group, row)| {
            row.iter().enumerate().flat_map(move |(at, &word)| {
                let mut left = word;
                std::iter::from_fn(move || {
                    let bit = left.trailing_zeros();
                    left &= left.wrapping_sub(1);
                    (bit < 64).then_some((group as u32, at as u64 * 64 + u64::from(bit)))
                })
            })
        })
    }
}

/// Whether so many groups may have so many words each.
fn rows_may_be(groups: usize, each: usize) -> bool {
    let words = groups.saturating_mul(each);
    let room = room::bytes() / OF_SHORT_SETS / size_of::<u64>();
    each <= MOST_EACH && words <= MOST_ROWS.min(room)
}

/// Words up to the last that has a bit.
fn trimmed(words: &[u64]) -> &[u64] {
    &words[..words.iter().rposition(|word| *word != 0).map_or(0, |last| last + 1)]
}

/// The bit of a place in its word.
fn bit(place: u64) -> u64 {
    1 << (place & 63)
}

/// Makes a row at least so long; how many words were added.
fn grow(row: &mut Vec<u64>, words: usize) -> usize {
    let before = row.len();
    // Long ones grow by less: most of what they have is all they will.
    let spare = if before < 1 << 13 { before / 2 } else { before / 8 };
    row.resize(words.max(before + spare), 0);
    row.len() - before
}
