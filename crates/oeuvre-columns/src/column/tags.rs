//! Where many texts are: their codes by a part of their hash.
//!
//! A table with the texts themselves answers with one look, and takes three times the memory of this one. Where there are
//! millions of texts, hardly any of which comes again, it is the memory that is waited for. So here stand eight bytes for
//! each, and whoever looks for a text compares it with those whose part of the hash is the same: hardly ever another one.
//!
//! The higher a hash, the further back it stands. So a larger table is made of a smaller one, and one of two, from the first
//! slot to the last, without a look at the texts.

use super::ahead::{SOON, ask_for};

/// A table from hashes to codes, at most three quarters full.
#[derive(Clone, Default)]
pub(super) struct Tags {
    /// The higher half of the hash, and the code; [`NONE`] where there is none. There are a power of two of them.
    slots: Vec<(u32, u32)>,
    used: usize,
}

/// No text has it.
const NONE: u32 = u32::MAX;

impl Tags {
    /// The codes of hashes, with room for half as many again at least.
    pub(super) fn of(hashes: impl Iterator<Item = (u64, u32)> + Clone, count: usize) -> Tags {
        let mut it = Tags::with_room(count);
        let mut soon = hashes.clone().skip(SOON);
        for (hash, code) in hashes {
            if let Some((hash, _)) = soon.next() {
                it.ask_for(hash);
            }
            it.put(hash, code);
        }
        it
    }

    fn with_room(count: usize) -> Tags {
        let slots = vec![(0, NONE); (2 * count).next_power_of_two().max(2)];
        Tags { slots, used: 0 }
    }

    /// Makes room for so many more, and half as many again as there are then.
    pub(super) fn make_room(&mut self, more: usize) {
        let count = self.used + more;
        if count > self.slots.len() / 4 * 3 {
            let old = std::mem::replace(self, Tags::with_room(count));
            old.iter().for_each(|(tag, code)| self.put_tag(tag, code));
        }
    }

    /// The parts of hashes with their codes, the lowest first but for a few.
    pub(super) fn iter(&self) -> impl Iterator<Item = (u32, u32)> + '_ {
        self.slots.iter().copied().filter(|slot| slot.1 != NONE)
    }

    /// Where a part of a hash is looked for first.
    #[inline]
    fn first(&self, tag: u32) -> usize {
        ((u64::from(tag) * self.slots.len() as u64) >> 32) as usize
    }

    /// Whether nothing stands here.
    pub(super) fn is_empty(&self) -> bool {
        self.used == 0
    }

    /// Adds the code of a hash.
    pub(super) fn put(&mut self, hash: u64, code: u32) {
        self.make_room(1);
        self.put_tag(tag(hash), code);
    }

    /// Adds the code of a part of a hash; there must be room.
    pub(super) fn put_tag(&mut self, tag: u32, code: u32) {
        let mask = self.slots.len() - 1;
        let mut at = self.first(tag);
        while self.slots[at].1 != NONE {
            at = (at + 1) & mask;
        }
        self.slots[at] = (tag, code);
        self.used += 1;
    }

    /// The code that is the right one, of those that may be.
    pub(super) fn find(&self, hash: u64, is_it: impl Fn(u32) -> bool) -> Option<u32> {
        self.find_tag(tag(hash), is_it)
    }

    /// The code that is the right one, of those with that part of a hash.
    pub(super) fn find_tag(&self, wanted: u32, is_it: impl Fn(u32) -> bool) -> Option<u32> {
        let mask = self.slots.len().checked_sub(1)?;
        let mut at = self.first(wanted);
        loop {
            match self.slots[at] {
                (_, NONE) => return None,
                (tag, code) if tag == wanted && is_it(code) => return Some(code),
                _ => at = (at + 1) & mask,
            }
        }
    }

    /// Asks for the slot of a hash that will be looked for soon.
    pub(super) fn ask_for(&self, hash: u64) {
        ask_for(&self.slots, self.first(tag(hash)));
    }

    /// How many bytes of memory it takes.
    pub(super) fn size_bytes(&self) -> usize {
        size_of_val(self.slots.as_slice())
    }
}

/// The part of a hash that is kept.
#[inline]
fn tag(hash: u64) -> u32 {
    (hash >> 32) as u32
}
