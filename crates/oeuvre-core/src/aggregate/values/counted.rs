//! Values that come again and again: each group's with how often each occurs.
//!
//! A row costs one look-up, and memory grows with the different values alone. Where there is one group, the code of a
//! value alone says which; where groups and values are few, each group has a place for each code.

use super::codes::ValueCodes;
use super::item::Item;
use oeuvre_columns::column::NO_NUMBER;
use oeuvre_columns::column::interner::Pairs;

/// The values of each group with how often each occurs.
#[derive(Clone)]
pub(crate) struct Counted {
    pub(super) groups: usize,
    pub(super) known: ValueCodes,
    pairs: Numbers,
    /// How often each pair occurs; some may not at all, unless they are in a table.
    times: Vec<u64>,
    /// How many pairs occur, while there are few.
    few: usize,
}

/// How pairs of a group and a code are numbered.
#[derive(Clone)]
enum Numbers {
    /// By the code, of the only group.
    OfOne,
    /// By the group, and in the lowest so many bits the code.
    Few(u32),
    /// In the order in which they came.
    Many(Pairs),
}

/// So many places for pairs stay in a near cache.
const MOST_PLACES: usize = if cfg!(test) { 1 << 6 } else { 1 << 16 };

impl Counted {
    pub(super) fn new(known: ValueCodes) -> Counted {
        Counted { groups: 0, known, pairs: Numbers::OfOne, times: Vec::new(), few: 0 }
    }

    /// Makes room for this many groups, group 0 included.
    pub(super) fn resize(&mut self, groups: usize) {
        self.groups = self.groups.max(groups);
        if self.groups > 2 && matches!(self.pairs, Numbers::OfOne) {
            self.number_again();
        }
    }

    /// Makes room for the pairs of all groups with all codes.
    pub(super) fn ensure(&mut self) {
        match &mut self.pairs {
            Numbers::OfOne => self.times.resize(self.known.len(), 0),
            Numbers::Few(bits) if *bits < bits_for(self.known.len()) => self.number_again(),
            Numbers::Few(bits) => match self.groups << *bits {
                places if places <= MOST_PLACES => self.times.resize(places, 0),
                _ => self.number_again(),
            },
            Numbers::Many(pairs) => pairs.ensure(self.groups, self.known.len()),
        }
    }

    /// Numbers the pairs there are as suits the groups and codes there are now.
    fn number_again(&mut self) {
        let entries: Vec<(u32, u32, u64)> = self.entries().collect();
        self.times.clear();
        self.few = 0;
        let bits = bits_for(self.known.len());
        self.pairs = match self.groups.checked_shl(bits).is_some_and(|n| n <= MOST_PLACES) {
            true => {
                self.times.resize(self.groups << bits, 0);
                Numbers::Few(bits)
            }
            false => {
                let mut pairs = Pairs::default();
                pairs.ensure(self.groups, self.known.len());
                Numbers::Many(pairs)
            }
        };
        entries.into_iter().for_each(|(group, code, n)| self.add(group, code, n));
    }

    /// Adds values to groups, each once.
    pub(super) fn add_all<'a>(&mut self, entries: impl Iterator<Item = (&'a u32, &'a u32)>) {
        match &mut self.pairs {
            Numbers::OfOne => entries.for_each(|(_, &code)| self.times[code as usize] += 1),
            Numbers::Few(bits) => {
                // Counted in a register: no row waits for what the one before it has written.
                let (mut few, times) = (self.few, &mut self.times[..]);
                entries
                    .for_each(|(&group, &code)| add_few(times, &mut few, group << *bits | code, 1));
                self.few = few;
            }
            Numbers::Many(pairs) => {
                entries.for_each(|(&g, &code)| add_pair(pairs, &mut self.times, g, code, 1));
            }
        }
    }

    /// Adds a value to a group, so many times.
    #[inline]
    pub(super) fn add(&mut self, group: u32, code: u32, n: u64) {
        match &mut self.pairs {
            Numbers::OfOne => self.times[code as usize] += n,
            Numbers::Few(bits) => add_few(&mut self.times, &mut self.few, group << *bits | code, n),
            Numbers::Many(pairs) => add_pair(pairs, &mut self.times, group, code, n),
        }
    }

    /// How many pairs there are.
    pub(super) fn len(&self) -> usize {
        match &self.pairs {
            Numbers::Few(_) => self.few,
            _ => self.times.len(),
        }
    }

    /// The group and the code of a pair, and how often it occurs.
    pub(super) fn pair(&self, pair: u32) -> (u32, u32, u64) {
        let times = self.times[pair as usize];
        match &self.pairs {
            Numbers::OfOne => (1, pair, times),
            Numbers::Few(bits) => (pair >> bits, pair & ((1 << bits) - 1), times),
            Numbers::Many(pairs) => {
                let (group, code) = pairs.pairs()[pair as usize];
                (group, code, times)
            }
        }
    }

    /// The value of a pair.
    pub(super) fn item(&self, pair: u32) -> Item<'_> {
        let code = self.pair(pair).1;
        match &self.known {
            ValueCodes::Whole(known) => Item::Whole(known.value(code)),
            ValueCodes::Text(texts, _) => Item::Text(texts.text(code)),
        }
    }

    /// Each group with each of its codes, and how often it occurs.
    pub(super) fn entries(&self) -> impl Iterator<Item = (u32, u32, u64)> + Clone + '_ {
        (0..self.times.len() as u32).map(|pair| self.pair(pair)).filter(|entry| entry.2 > 0)
    }

    /// Calls with the pairs of each group but group 0, in the order of the groups, and in each in label order.
    pub(super) fn for_each_group<T>(&self, mut take: impl FnMut(&[u32]) -> T) -> Vec<T> {
        if self.groups == 2 {
            return vec![take(&self.sorted_of_one())];
        }
        // Of few pairs those that occur, with their numbers.
        let (few, numbers): (Vec<(u32, u32)>, Vec<u32>);
        let (pairs, numbers) = match &self.pairs {
            Numbers::Many(pairs) => (pairs.pairs(), None),
            _ => {
                let all = (0..self.times.len() as u32).map(|pair| (self.pair(pair), pair));
                let all = all.filter(|((_, _, times), _)| *times > 0);
                (few, numbers) = all.map(|((group, code, _), pair)| ((group, code), pair)).unzip();
                (&few[..], Some(numbers))
            }
        };
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
            places[next[g]] = numbers.as_ref().map_or(p, |numbers| numbers[p as usize]);
            next[g] += 1;
        }
        (1..self.groups).map(|g| take(&places[starts[g]..starts[g + 1]])).collect()
    }

    /// The pairs of the only group beside group 0, in the order of their values.
    fn sorted_of_one(&self) -> Vec<u32> {
        let codes = self.known.ordered().into_iter();
        if matches!(self.pairs, Numbers::OfOne) {
            return codes.filter(|&code| self.times[code as usize] > 0).collect();
        }
        let mut pair_of = vec![NO_NUMBER; self.known.len()];
        for pair in 0..self.times.len() as u32 {
            if let (1, code, 1..) = self.pair(pair) {
                pair_of[code as usize] = pair;
            }
        }
        codes.map(|code| pair_of[code as usize]).filter(|&pair| pair != NO_NUMBER).collect()
    }

    /// About how many bytes of memory they take.
    pub(super) fn size_bytes(&self) -> usize {
        let pairs = if let Numbers::Many(pairs) = &self.pairs { pairs.size_bytes() } else { 0 };
        self.known.size_bytes() + pairs + size_of_val(self.times.as_slice())
    }
}

/// How many bits hold codes below a bound.
fn bits_for(codes: usize) -> u32 {
    codes.max(1).next_power_of_two().trailing_zeros()
}

#[inline]
fn add_few(times: &mut [u64], few: &mut usize, pair: u32, n: u64) {
    let times = &mut times[pair as usize];
    *few += usize::from(*times == 0);
    *times += n;
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
