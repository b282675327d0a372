//! Text as codes: each distinct text is stored once and stands for itself by a number.
//!
//! Grouping and comparing work on codes, and a function of a text is called once for each distinct text, so that
//! a category costs what it has labels and not what it has rows. Up to 16 bytes a text is compared as one 128-bit
//! word; longer ones, and all where there are millions, by hash, then byte by byte. The hash is seeded at random,
//! so that no file can be written to make it slow; no result depends on the seed, because codes are given in the
//! order texts are first met.
//!
//! A dictionary of a worker knows nothing of that of another: whoever merges them maps codes
//! ([`Dictionary::absorb`], [`Dictionary::follow`]).
//!
//! ```
//! use oeuvre_columns::column::dictionary::Dictionary;
//!
//! let mut routes = Dictionary::default();
//! assert_eq!([routes.intern("SKE"), routes.intern("KEL"), routes.intern("SKE")], [0, 1, 0]);
//! let mut other = Dictionary::default();
//! other.intern("KEL");
//! other.intern("AAL");
//! assert_eq!(routes.absorb(&other), [1, 2]); // KEL is known, AAL is new
//! assert_eq!(routes.text(2), "AAL");
//! ```

use super::ahead::{SOON, ask_for, is_far};
use super::tags::Tags;
use crate::room;
use std::hash::{BuildHasher, RandomState};
use std::sync::{Arc, OnceLock};

/// The code of a missing text.
pub const MISSING_CODE: u32 = u32::MAX;
/// Codes from here on are aliases: texts that stand for something else, such as `n/a`.
pub const FIRST_ALIAS: u32 = u32::MAX - 1024;

#[derive(Clone, Copy)]
struct Slot {
    /// The word that stands for the text, in halves: so a slot takes three quarters of what it would as a whole.
    low: u64,
    high: u64,
    /// `u32::MAX` in an empty slot.
    len: u32,
    code: u32,
}

impl Slot {
    #[inline(always)]
    fn key(&self) -> u128 {
        u128::from(self.high) << 64 | u128::from(self.low)
    }
}

/// Up to this many slots (48 KiB) at most one in eight is used.
const SPARSE_SLOTS: usize = 2048;
/// From so many slots on (24 MiB), which no cache holds, three in four are used.
const DENSE_SLOTS: usize = 1 << 20;
/// More than so many slots are not made: behind three million texts, hashes stand for all.
const MOST_SLOTS: usize = if cfg!(test) { 1 << 10 } else { 1 << 22 };
/// Nor do slots take more than one to so many bytes of the memory that there is.
const OF_MEMORY: usize = 32;

/// How many slots are made at most.
fn most_slots() -> usize {
    let slots = room::bytes() / OF_MEMORY / size_of::<Slot>();
    slots.clamp(SPARSE_SLOTS, MOST_SLOTS.max(SPARSE_SLOTS)).next_power_of_two().min(MOST_SLOTS)
}

const EMPTY: Slot = Slot { low: 0, high: 0, len: u32::MAX, code: 0 };

/// A growing set of texts, numbered from 0 in the order in which they came. A clone shares them until one
/// of the two grows, so that columns that are picked from one another hold their texts once.
#[derive(Clone, Default)]
pub struct Dictionary {
    texts: Arc<Texts>,
}

/// The texts of a [`Dictionary`].
#[derive(Clone)]
pub struct Texts {
    arena: String,
    ends: Vec<usize>,
    aliases: Vec<(String, u32)>,
    /// Where the texts are, while they are not very many.
    slots: Vec<Slot>,
    used: usize,
    /// And afterwards.
    tags: Tags,
    /// That of all dictionaries.
    seed: u64,
    /// No two that were begun have the same.
    id: u64,
    /// Whether it holds texts that are not found, which may be there several times.
    is_list: bool,
}

/// What hashes are seeded with: the same for all dictionaries, so that one of two can be made of their hashes.
fn seed() -> u64 {
    static SEED: OnceLock<u64> = OnceLock::new();
    *SEED.get_or_init(|| RandomState::new().hash_one(0u8))
}

impl Default for Texts {
    fn default() -> Self {
        Texts {
            arena: String::new(),
            ends: Vec::new(),
            aliases: Vec::new(),
            slots: vec![EMPTY; 16],
            used: 0,
            tags: Tags::default(),
            seed: seed(),
            id: RandomState::new().hash_one(0u8),
            is_list: false,
        }
    }
}

impl std::fmt::Debug for Dictionary {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_list().entries((0..self.len() as u32).map(|c| self.text(c))).finish()
    }
}

/// Both halves of a 128-bit product, folded: mixes every bit of `a` and `b` into the result, for hashing.
#[inline(always)]
pub fn fold(a: u64, b: u64) -> u64 {
    let product = u128::from(a) * u128::from(b);
    (product as u64) ^ (product >> 64) as u64
}

/// An odd constant from the digits of pi.
const PI: u64 = 0x243f_6a88_85a3_08d3;

impl std::ops::Deref for Dictionary {
    type Target = Texts;

    fn deref(&self) -> &Texts {
        &self.texts
    }
}

impl Dictionary {
    /// The code of a text, which is added when it is new.
    pub fn intern(&mut self, text: &str) -> u32 {
        match self.find(text.as_bytes()) {
            Some(code) => code,
            None => Arc::make_mut(&mut self.texts).add(text),
        }
    }

    /// Adds all texts of another one from a code on, behind those that are here and whether or not they are: nothing is
    /// looked up. They are not found, and several codes may mean the same text ([`Texts::is_list`]). For columns whose values
    /// are shown, or put in order, and not compared by their codes.
    pub fn list(&mut self, other: &Texts, from: usize) {
        if from < other.len() {
            Arc::make_mut(&mut self.texts).add_list(other, from);
        }
    }

    /// Makes a text stand for alias number `n`, counted from 0 in the order of the calls: [`Texts::find`] then
    /// gives `FIRST_ALIAS + n`. Does nothing when the text is there already.
    pub fn alias(&mut self, text: &str) {
        if self.find(text.as_bytes()).is_none() {
            Arc::make_mut(&mut self.texts).add_alias(text);
        }
    }

    /// The codes that the texts of another dictionary have here; new ones are added.
    pub fn absorb(&mut self, other: &Dictionary) -> Vec<u32> {
        let mut followed = Followed::default();
        self.follow(other, &mut followed);
        followed.codes
    }

    /// Goes on with an [`Dictionary::absorb`] of a dictionary that has grown since, or was begun anew: `followed` gets
    /// the codes of the texts that it does not have yet.
    pub fn follow(&mut self, other: &Dictionary, followed: &mut Followed) {
        if followed.of != Some(other.id) || followed.codes.len() > other.len() {
            *followed = Followed { codes: Vec::new(), of: Some(other.id) };
        }
        if followed.codes.is_empty() && !self.tags.is_empty() && !other.tags.is_empty() {
            followed.codes = Arc::make_mut(&mut self.texts).join(&other.texts);
            return;
        }
        let new = followed.codes.len()..other.len();
        let codes = new.map(|code| {
            if self.is_far() {
                self.ask_for(other.text((code + SOON) as u32));
            }
            self.intern(other.text(code as u32))
        });
        followed.codes.extend(codes);
    }
}

/// The codes that the texts of a dictionary have in another one, which follows it.
#[derive(Clone, Debug, Default)]
pub struct Followed {
    codes: Vec<u32>,
    /// Which dictionary was followed: no two that were begun have the same seed.
    of: Option<u64>,
}

impl std::ops::Deref for Followed {
    type Target = [u32];

    fn deref(&self) -> &[u32] {
        &self.codes
    }
}

impl Texts {
    /// About how many bytes of memory the texts take.
    pub fn size_bytes(&self) -> usize {
        self.arena.capacity()
            + size_of_val(self.ends.as_slice())
            + size_of_val(self.slots.as_slice())
            + self.tags.size_bytes()
    }

    /// What no other dictionary that was begun has.
    pub fn id(&self) -> u64 {
        self.id
    }

    /// Whether it has texts of [`Dictionary::list`]: then several codes may mean the same text.
    pub fn is_list(&self) -> bool {
        self.is_list
    }

    /// How many distinct texts there are.
    pub fn len(&self) -> usize {
        self.ends.len()
    }

    /// Whether no text has been added.
    pub fn is_empty(&self) -> bool {
        self.ends.is_empty()
    }

    /// The text of a code. An unknown code or [`MISSING_CODE`] gives an empty text.
    pub fn text(&self, code: u32) -> &str {
        let code = code as usize;
        match self.ends.get(code) {
            Some(&end) => {
                let start = if code == 0 { 0 } else { self.ends[code - 1] };
                &self.arena[start..end]
            }
            None => "",
        }
    }

    /// The word that stands for a text: the text itself up to 16 bytes, else its hash.
    fn key(&self, text: &[u8]) -> u128 {
        if text.len() <= 16 {
            let mut word = [0u8; 16];
            word[..text.len()].copy_from_slice(text);
            return u128::from_le_bytes(word);
        }
        let mut hash = self.seed ^ text.len() as u64;
        for chunk in text.chunks(8) {
            let mut word = [0u8; 8];
            word[..chunk.len()].copy_from_slice(chunk);
            hash = fold(u64::from_le_bytes(word) ^ hash, PI ^ self.seed.rotate_left(32));
        }
        u128::from(hash) << 64 | u128::from(fold(hash, PI))
    }

    #[inline(always)]
    fn slot(&self, key: u128, len: u32) -> usize {
        let low = key as u64 ^ self.seed;
        let high = (key >> 64) as u64 ^ u64::from(len);
        fold(low ^ high.rotate_left(29), PI ^ high) as usize
    }

    /// The code of a text of at most 16 bytes, given as a little-endian word padded with zeros.
    #[inline(always)]
    pub fn find_word(&self, word: u128, len: u32) -> Option<u32> {
        let mask = self.slots.len() - 1;
        let mut at = self.slot(word, len) & mask;
        loop {
            let slot = &self.slots[at];
            if slot.key() == word && slot.len == len {
                return Some(slot.code);
            }
            if slot.len == u32::MAX {
                return match self.tags.is_empty() {
                    true => None,
                    false => self.find_tagged(word, &word.to_le_bytes()[..len as usize]),
                };
            }
            at = (at + 1) & mask;
        }
    }

    /// The code of a text with its key, where they are very many.
    #[cold]
    fn find_tagged(&self, key: u128, text: &[u8]) -> Option<u32> {
        let hash = self.slot(key, text.len() as u32) as u64;
        self.tags.find(hash, |code| self.slot_text(code).as_bytes() == text)
    }

    /// Whether there are more slots than the caches of one core hold.
    fn is_far(&self) -> bool {
        is_far(&self.slots) || !self.tags.is_empty()
    }

    /// Asks for the slot of a text that will be looked for soon.
    #[inline]
    fn ask_for(&self, text: &str) {
        let at = self.slot(self.key(text.as_bytes()), text.len() as u32);
        match self.tags.is_empty() {
            true => ask_for(&self.slots, at & (self.slots.len() - 1)),
            false => self.tags.ask_for(at as u64),
        }
    }

    /// The code of a text, or `None` when it has not been added.
    pub fn find(&self, text: &[u8]) -> Option<u32> {
        let len = u32::try_from(text.len()).ok()?;
        let key = self.key(text);
        if len <= 16 {
            return self.find_word(key, len);
        }
        let mask = self.slots.len() - 1;
        let mut at = self.slot(key, len) & mask;
        loop {
            let slot = &self.slots[at];
            if slot.len == u32::MAX {
                return self.find_tagged(key, text);
            }
            if slot.key() == key && slot.len == len && self.slot_text(slot.code).as_bytes() == text
            {
                return Some(slot.code);
            }
            at = (at + 1) & mask;
        }
    }

    fn slot_text(&self, code: u32) -> &str {
        if code >= FIRST_ALIAS {
            return &self.aliases[(code - FIRST_ALIAS) as usize].0;
        }
        self.text(code)
    }

    fn add(&mut self, text: &str) -> u32 {
        let code = self.push(text);
        self.insert(text, code);
        code
    }

    /// Adds a text, which cannot be found yet.
    fn push(&mut self, text: &str) -> u32 {
        let code = self.ends.len() as u32;
        self.arena.push_str(text);
        self.ends.push(self.arena.len());
        code
    }

    fn add_list(&mut self, other: &Texts, from: usize) {
        let start = if from == 0 { 0 } else { other.ends[from - 1] };
        let (texts, ends) = (&other.arena[start..], &other.ends[from..]);
        let before = self.arena.len();
        self.arena.push_str(texts);
        room::make_room(&mut self.ends, ends.len());
        self.ends.extend(ends.iter().map(|end| end - start + before));
        self.is_list = true;
    }

    fn add_alias(&mut self, text: &str) {
        let code = FIRST_ALIAS + self.aliases.len() as u32;
        self.aliases.push((text.to_owned(), code));
        self.insert(text, code);
    }

    /// The text of alias number `n`.
    pub fn alias_text(&self, n: usize) -> &str {
        self.aliases.get(n).map_or("", |(t, _)| t)
    }

    /// How many aliases there are.
    pub fn aliases(&self) -> usize {
        self.aliases.len()
    }

    fn insert(&mut self, text: &str, code: u32) {
        // Small dictionaries are kept sparse: a second look at a slot is a branch that the processor
        // cannot foresee.
        let most = match self.slots.len() {
            few @ ..SPARSE_SLOTS => few / 8,
            many @ DENSE_SLOTS.. => many / 4 * 3,
            some => some / 2,
        };
        let key = self.key(text.as_bytes());
        if !self.tags.is_empty() {
            return self.tags.put(self.slot(key, text.len() as u32) as u64, code);
        }
        if self.used + 1 > most && self.slots.len() >= most_slots() {
            return self.tag_all();
        }
        if self.used + 1 > most {
            let grown = vec![EMPTY; self.slots.len() * 2];
            let old = std::mem::replace(&mut self.slots, grown);
            for slot in old.into_iter().filter(|s| s.len != u32::MAX) {
                self.put(slot);
            }
        }
        let (low, high) = (key as u64, (key >> 64) as u64);
        self.put(Slot { low, high, len: text.len() as u32, code });
        self.used += 1;
    }

    /// Lets hashes stand for all texts, the last one included.
    #[cold]
    fn tag_all(&mut self) {
        (self.tags, self.slots) = (Tags::default(), vec![EMPTY]);
        let texts = (0..).zip(self.iter());
        let aliases = self.aliases.iter().map(|(text, code)| (*code, text.as_str()));
        let hash = |text: &str| self.slot(self.key(text.as_bytes()), text.len() as u32) as u64;
        let hashes = texts.chain(aliases).map(|(code, text)| (hash(text), code));
        self.tags = Tags::of(hashes, self.len() + self.aliases.len());
    }

    /// Takes in the texts of another one, where hashes stand for those of both: the code that each has here. Both are gone
    /// through in the order of their hashes, and in that of their codes: nothing is looked up here and there but texts that
    /// may be the same.
    fn join(&mut self, other: &Texts) -> Vec<u32> {
        let mut codes = vec![MISSING_CODE; other.len()];
        let theirs = || other.tags.iter().filter(|(_, code)| *code < FIRST_ALIAS);
        for (tag, code) in theirs() {
            let text = other.text(code);
            let known = self.tags.find_tag(tag, |mine| self.slot_text(mine) == text);
            codes[code as usize] = known.unwrap_or(MISSING_CODE);
        }
        let first = self.len() as u32;
        let is_new = |code: &u32| *code == MISSING_CODE;
        self.tags.make_room(codes.iter().filter(|code| is_new(code)).count());
        for (code, text) in codes.iter_mut().zip(other.iter()).filter(|(code, _)| is_new(code)) {
            *code = self.push(text);
        }
        for (tag, code) in theirs() {
            let here = codes[code as usize];
            if (first..FIRST_ALIAS).contains(&here) {
                self.tags.put_tag(tag, here);
            }
        }
        codes
    }

    fn put(&mut self, slot: Slot) {
        let mask = self.slots.len() - 1;
        let mut at = self.slot(slot.key(), slot.len) & mask;
        while self.slots[at].len != u32::MAX {
            at = (at + 1) & mask;
        }
        self.slots[at] = slot;
    }

    /// The texts in the order of their codes.
    pub fn iter(&self) -> impl Iterator<Item = &str> + Clone {
        (0..self.len() as u32).map(|c| self.text(c))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn texts_that_share_their_first_bytes_or_zeros_stay_apart() {
        let mut d = Dictionary::default();
        let texts = ["", "\0", "\0\0", "a", "a\0", "abcdefghijklmnop", "abcdefghijklmnopq"];
        for (i, t) in texts.iter().enumerate() {
            assert_eq!(d.intern(t), i as u32);
        }
        for (i, t) in texts.iter().enumerate() {
            assert_eq!((d.intern(t), d.text(i as u32)), (i as u32, *t));
        }
        d.alias("n/a");
        d.alias("a rather long missing marker");
        assert_eq!(d.find(b"n/a"), Some(FIRST_ALIAS));
        assert_eq!(d.find(b"a rather long missing marker"), Some(FIRST_ALIAS + 1));
        assert_eq!(d.len(), texts.len());
    }

    #[test]
    fn listed_texts_are_neither_looked_for_nor_found() {
        let (mut all, mut some) = (Dictionary::default(), Dictionary::default());
        ["SKE", "", "KEL"].iter().for_each(|text| _ = some.intern(text));
        assert!(!all.is_list());
        all.list(&some, 0);
        all.list(&some, 1);
        all.list(&some, 3);
        assert_eq!(all.iter().collect::<Vec<_>>(), ["SKE", "", "KEL", "", "KEL"]);
        assert_eq!((all.is_list(), all.find(b"KEL")), (true, None));
        assert_eq!(Dictionary::default().absorb(&all), [0, 1, 2, 1, 2]);
    }

    proptest! {
        #[test]
        fn texts_of_another_one_get_the_codes_of_a_plain_list(
            first in proptest::collection::vec("[abc]{0,6}", 0..500), second in proptest::collection::vec("[abc]{0,6}[0-9]?", 0..500),
        ) {
            let (mut d, mut other) = (Dictionary::default(), Dictionary::default());
            d.alias("abba");
            first.iter().for_each(|text| _ = d.intern(text));
            second.iter().for_each(|text| _ = other.intern(text));
            let mut plain = d.clone();
            let expected: Vec<u32> = other.iter().map(|text| plain.intern(text)).collect();
            prop_assert_eq!(d.absorb(&other), &expected[..]);
            prop_assert!(d.iter().eq(plain.iter()));
            prop_assert!(other.iter().zip(&expected).all(|(text, &code)| d.find(text.as_bytes()) == Some(code)));
            // What has come in before is known.
            prop_assert_eq!(d.absorb(&other), expected);
        }

        #[test]
        fn codes_agree_with_a_plain_list(texts in proptest::collection::vec("[ab\\PC]{0,20}", 0..200)) {
            let (mut d, mut plain) = (Dictionary::default(), Vec::<String>::new());
            for t in &texts {
                let code = plain.iter().position(|p| p == t).unwrap_or_else(|| { plain.push(t.clone()); plain.len() - 1 });
                prop_assert_eq!(d.intern(t) as usize, code);
                prop_assert_eq!(d.find(t.as_bytes()), Some(code as u32));
            }
        }
    }
}
