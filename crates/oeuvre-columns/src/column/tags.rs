//! Where many texts are: their codes by a part of their hash.
//!
//! A table with the texts themselves answers with one look, and takes three times the memory of this one. Where there are
//! millions of texts, hardly any of which comes again, it is the memory that is waited for. So here stand eight bytes for
//! each, and whoever looks for a text compares it with those whose part of the hash is the same: hardly ever another one.

use super::ahead::{SOON, ask_for};

/// A table from hashes to codes, at most three quarters full.
#[derive(Clone, Default)]
pub(super) struct Tags {
    /// The higher half of the hash, and the code; [`NONE`] where there is none.
    slots: Vec<(u32, u32)>,
    used: usize,
}

/// No text has it.
const NONE: u32 = u32::MAX;

impl Tags {
    /// The codes of hashes, with room for half as many again at least.
    pub(super) fn of(hashes: impl Iterator<Item = (u64, u32)> + Clone, count: usize) -> Tags {
        let slots = vec![(0, NONE); (2 * count).next_power_of_two()];
        let mut it = Tags { slots, used: 0 };
        let mut soon = hashes.clone().skip(SOON);
        for (hash, code) in hashes {
            if let Some((hash, _)) = soon.next() {
                it.ask_for(hash);
            }
            it.put(hash, code);
        }
        it
    }

    /// Whether nothing stands here.
    pub(super) fn is_empty(&self) -> bool {
        self.used == 0
    }

    /// Whether there is no room for another one.
    pub(super) fn is_full(&self) -> bool {
        self.used >= self.slots.len() / 4 * 3
    }

    /// Adds the code of a hash; there must be room.
    pub(super) fn put(&mut self, hash: u64, code: u32) {
        let mask = self.slots.len() - 1;
        let mut at = hash as usize & mask;
        while self.slots[at].1 != NONE {
            at = (at + 1) & mask;
        }
        self.slots[at] = ((hash >> 32) as u32, code);
        self.used += 1;
    }

    /// The code that is the right one, of those that may be.
    pub(super) fn find(&self, hash: u64, is_it: impl Fn(u32) -> bool) -> Option<u32> {
        let mask = self.slots.len().checked_sub(1)?;
        let mut at = hash as usize & mask;
        loop {
            match self.slots[at] {
                (_, NONE) => return None,
                (tag, code) if tag == (hash >> 32) as u32 && is_it(code) => return Some(code),
                _ => at = (at + 1) & mask,
            }
        }
    }

    /// Asks for the slot of a hash that will be looked for soon.
    pub(super) fn ask_for(&self, hash: u64) {
        ask_for(&self.slots, hash as usize & self.slots.len().saturating_sub(1));
    }

    /// How many bytes of memory it takes.
    pub(super) fn size_bytes(&self) -> usize {
        size_of_val(self.slots.as_slice())
    }
}
