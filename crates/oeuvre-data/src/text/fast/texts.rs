//! Short texts that a dictionary has.
//!
//! Where a column has few of them, as most have, each stands at a place of its own in a small table that the first level
//! of the cache holds: found with one product and one comparison.

use super::Form;
use oeuvre_columns::column::dictionary::{FIRST_ALIAS, MISSING_CODE, Texts};

/// Up to 16 bytes that a dictionary has.
pub(super) struct Known<'a> {
    dictionary: &'a Texts,
    quote: u32,
}

impl<'a> Known<'a> {
    pub(super) fn of(dictionary: &'a Texts, quote: Option<u8>) -> Known<'a> {
        // A field in quotes is looked at slowly.
        Known { dictionary, quote: quote.map_or(u32::MAX, u32::from) }
    }
}

impl Form<u32> for Known<'_> {
    #[inline(always)]
    fn read(&self, data: &[u8], start: usize, end: usize) -> Option<u32> {
        let word = text_word(data, start, end - start)?;
        if u32::from(word as u8) == self.quote {
            return None;
        }
        self.dictionary.find_word(word, (end - start) as u32).filter(|&code| code < FIRST_ALIAS)
    }
}

/// The low bytes of a word, by their number.
const LOW_BYTES: [u128; 17] = {
    let mut masks = [0; 17];
    let mut n = 1;
    while n <= 16 {
        masks[n] = u128::MAX >> (128 - 8 * n);
        n += 1;
    }
    masks
};

/// A text of up to 16 bytes as a word padded with zeros.
#[inline(always)]
fn text_word(data: &[u8], start: usize, len: usize) -> Option<u128> {
    let mask = LOW_BYTES.get(len)?;
    let bytes = data.get(start..)?.first_chunk::<16>()?;
    Some(u128::from_le_bytes(*bytes) & mask)
}

/// Places of the table of few texts.
const PLACES: usize = 512;
/// So many texts are few.
const FEW: usize = 48;
/// The longest of them.
const LONGEST: usize = 15;
/// As long as this they fit one word.
const SHORT: usize = 8;

/// A text at its place.
#[derive(Clone, Copy)]
#[repr(align(32))]
struct Entry {
    /// Its bytes, the first ones low, and zeros behind them.
    bytes: (u64, u64),
    len: usize,
    code: u32,
}

/// A place without a text, which no field is like.
const NOTHING: Entry = Entry { bytes: (0, 0), len: usize::MAX, code: MISSING_CODE };
/// A blank field is found like a text.
const BLANK: Entry = Entry { bytes: (0, 0), len: 0, code: MISSING_CODE };

/// The bytes of a field among the sixteen that begin with it, by the lowest bits of its length.
const KEPT: [(u64, u64); LONGEST + 1] = {
    let mut kept = [(0, 0); LONGEST + 1];
    let mut n = 1;
    while n <= LONGEST {
        kept[n] = (LOW_BYTES[n] as u64, (LOW_BYTES[n] >> 64) as u64);
        n += 1;
    }
    kept
};

/// Few short texts, each at a place of its own, in memory that is kept from piece to piece.
#[derive(Default)]
pub(crate) struct FewTexts {
    /// As many as there are places, from the first time on.
    entries: Vec<Entry>,
    /// The places that are taken.
    taken: Vec<u16>,
    factor: u64,
    /// Whether none is longer than one word.
    are_short: bool,
}

impl FewTexts {
    /// Becomes the table of some texts; false where they are too many or too alike.
    pub(super) fn take(&mut self, texts: &Texts, quote: Option<u8>) -> bool {
        if texts.len() > FEW || texts.is_empty() {
            return false;
        }
        // What begins with a quote means something else in a file.
        let is_plain = |text: &[u8]| {
            text.len() <= LONGEST && text.first().is_some_and(|first| Some(*first) != quote)
        };
        let plain = || {
            let all = (0..texts.len() as u32).map(|code| (code, texts.text(code).as_bytes()));
            all.filter(|(_, text)| is_plain(text))
        };
        self.entries.resize(PLACES, NOTHING);
        self.are_short = plain().all(|(_, text)| text.len() <= SHORT);
        // Odd numbers without a pattern.
        self.factor = 0x9e37_79b9_7f4a_7c15;
        'factors: for _ in 0..8 {
            for at in self.taken.drain(..) {
                self.entries[usize::from(at)] = NOTHING;
            }
            self.put(BLANK);
            for (code, text) in plain() {
                let mut bytes = [0; 16];
                bytes[..text.len()].copy_from_slice(text);
                let word = u128::from_le_bytes(bytes);
                let bytes = (word as u64, (word >> 64) as u64);
                if !self.put(Entry { bytes, len: text.len(), code }) {
                    let next = self.factor.wrapping_mul(0xd134_2543_de82_ef95).wrapping_add(2);
                    self.factor = next | 1;
                    continue 'factors;
                }
            }
            return true;
        }
        false
    }

    /// Puts a text at its place; false where that is taken.
    fn put(&mut self, entry: Entry) -> bool {
        let at = place(entry.bytes, self.factor);
        let is_free = self.entries[at].len == NOTHING.len;
        if is_free {
            self.entries[at] = entry;
            self.taken.push(at as u16);
        }
        is_free
    }

    /// Whether no text is longer than one word.
    pub(super) fn are_short(&self) -> bool {
        self.are_short
    }

    /// The table, of texts that all are short.
    pub(super) fn short(&self) -> Option<Found<'_, false>> {
        Some(Found { entries: self.entries.first_chunk()?, factor: self.factor })
    }

    /// The table, whatever the texts are.
    pub(super) fn long(&self) -> Option<Found<'_, true>> {
        Some(Found { entries: self.entries.first_chunk()?, factor: self.factor })
    }
}

/// Fields looked up in a table of few texts; whether some of these are longer than one word.
pub(super) struct Found<'a, const LONG: bool> {
    entries: &'a [Entry; PLACES],
    factor: u64,
}

impl<const LONG: bool> Form<u32> for Found<'_, LONG> {
    /// The code of a field; that of a missing one where it is blank.
    #[inline(always)]
    fn read(&self, data: &[u8], start: usize, end: usize) -> Option<u32> {
        let len = end.wrapping_sub(start);
        let bytes = data.get(start..start + 16)?.first_chunk::<16>()?;
        let word = u128::from_le_bytes(*bytes);
        let (low, high) = KEPT[len % KEPT.len()];
        let low = low & word as u64;
        let high = if LONG { high & (word >> 64) as u64 } else { 0 };
        let entry = &self.entries[place((low, high), self.factor)];
        let is_fine = entry.bytes.0 == low && entry.len == len && (!LONG || entry.bytes.1 == high);
        is_fine.then_some(entry.code)
    }
}

/// Where a text stands in the table.
#[inline(always)]
fn place((low, high): (u64, u64), factor: u64) -> usize {
    let mixed = (low ^ high.rotate_left(21)).wrapping_mul(factor);
    (mixed >> (64 - PLACES.trailing_zeros())) as usize % PLACES
}
