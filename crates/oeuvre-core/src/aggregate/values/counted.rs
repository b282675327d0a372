//! Values that come again and again: each group's with how often each occurs.
//!
//! A row costs one look-up, and memory grows with the different values alone. Where there is one group, the code of a
//! value alone says which.

use super::codes::ValueCodes;
use super::item::Item;
use oeuvre_columns::column::NO_NUMBER;
use oeuvre_columns::column::interner::Pairs;

/// The values of each group with how often each occurs.
#[derive(Clone)]
pub(crate) struct Counted {
    pub(super) groups: usize,
    pub(super) known: ValueCodes,
    /// While there are several groups, the pairs of a group and a code; the pair of the only one is the code.
    pairs: Option<Pairs>,
    /// How often each pair occurs, which some codes of the only group may not at all.
    times: Vec<u64>,
}

impl Counted {
    pub(super) fn new(known: ValueCodes) -> Counted {
        Counted { groups: 0, known, pairs: None, times: Vec::new() }
    }

    /// Makes room for this many groups, group 0 included.
    pub(super) fn resize(&mut self, groups: usize) {
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

    /// Makes room for the pairs of all groups with all codes.
    pub(super) fn ensure(&mut self) {
        match &mut self.pairs {
            Some(pairs) => pairs.ensure(self.groups, self.known.len()),
            None => self.times.resize(self.known.len(), 0),
        }
    }

    /// Adds values to groups, each once.
    pub(super) fn add_all<'a>(&mut self, entries: impl Iterator<Item = (&'a u32, &'a u32)>) {
        match &mut self.pairs {
            Some(pairs) => {
                entries.for_each(|(&g, &code)| add_pair(pairs, &mut self.times, g, code, 1));
            }
            None => entries.for_each(|(_, &code)| self.times[code as usize] += 1),
        }
    }

    /// Adds a value to a group, so many times.
    #[inline]
    pub(super) fn add(&mut self, group: u32, code: u32, n: u64) {
        match &mut self.pairs {
            Some(pairs) => add_pair(pairs, &mut self.times, group, code, n),
            None => self.times[code as usize] += n,
        }
    }

    /// How many pairs there are.
    pub(super) fn len(&self) -> usize {
        self.times.len()
    }

    /// The group and the code of a pair, and how often it occurs.
    pub(super) fn pair(&self, pair: u32) -> (u32, u32, u64) {
        let times = self.times[pair as usize];
        match &self.pairs {
            Some(pairs) => {
                let (group, code) = pairs.pairs()[pair as usize];
                (group, code, times)
            }
            None => (1, pair, times),
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
        (1..self.groups).map(|g| take(&places[starts[g]..starts[g + 1]])).collect()
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

    /// About how many bytes of memory they take.
    pub(super) fn size_bytes(&self) -> usize {
        let pairs = self.pairs.as_ref().map_or(0, Pairs::size_bytes);
        self.known.size_bytes() + pairs + size_of_val(self.times.as_slice())
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
