//! Short texts that a dictionary has.
//!
//! Where a column has few of them, as most have, each stands at a place of its own in a small table that the first level
//! of the cache holds: found with one product and one comparison.

use super::{Fields, Form, LANES, Staged};
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
/// The longest of them: a byte is left for the length.
const LONGEST: usize = 15;
/// As long as this they fit one word with their length.
const SHORTEST: usize = 7;

/// Few short texts, each at a place of its own.
pub(super) struct FewTexts {
    /// A text as one or two words, its length in the last byte; nothing of length 0.
    keys: Box<[(u64, u64); PLACES]>,
    codes: Box<[u32; PLACES]>,
    factor: u64,
}

impl FewTexts {
    /// The table of some texts; `None` where they are too many or too alike.
    pub(super) fn of(texts: &Texts, quote: Option<u8>) -> Option<FewTexts> {
        if texts.len() > FEW || texts.is_empty() {
            return None;
        }
        // What begins with a quote means something else in a file.
        let is_plain = |text: &[u8]| {
            text.len() <= LONGEST && text.first().is_some_and(|first| Some(*first) != quote)
        };
        let plain = || {
            let all = (0..texts.len() as u32).map(|code| (code, texts.text(code).as_bytes()));
            all.filter(|(_, text)| is_plain(text))
        };
        // Odd numbers without a pattern.
        let mut factor = 0x9e37_79b9_7f4a_7c15u64;
        let mut table =
            FewTexts { keys: Box::new([(0, 0); PLACES]), codes: Box::new([0; PLACES]), factor };
        'factors: for _ in 0..8 {
            table.factor = factor;
            table.keys.fill((0, 0));
            for (code, text) in plain() {
                let mut bytes = [0; 16];
                bytes[..text.len()].copy_from_slice(text);
                let word = u128::from_le_bytes(bytes);
                let length = (text.len() as u64) << 56;
                let key = match text.len() <= SHORTEST {
                    true => (word as u64 | length, 0),
                    false => (word as u64, (word >> 64) as u64 | length),
                };
                let at = table.place(key);
                if table.keys[at] != (0, 0) {
                    factor = factor.wrapping_mul(0xd134_2543_de82_ef95).wrapping_add(2) | 1;
                    continue 'factors;
                }
                (table.keys[at], table.codes[at]) = (key, code);
            }
            return Some(table);
        }
        None
    }

    /// Where a text stands in the table.
    #[inline(always)]
    fn place(&self, (low, high): (u64, u64)) -> usize {
        let mixed = (low ^ high.rotate_left(21)).wrapping_mul(self.factor);
        (mixed >> (64 - PLACES.trailing_zeros())) as usize
    }
}

impl Staged<u32> for FewTexts {
    #[inline(always)]
    fn read(&self, fields: &mut Fields<'_>, out: &mut [u32; LANES]) {
        // The first eight bytes, and the eight behind them where some are so long.
        fields.put_from(0, 0);
        if fields.longest > SHORTEST as u64 {
            fields.put_from(1, 8);
            self.read_words::<true>(fields, out);
        } else {
            self.read_words::<false>(fields, out);
        }
    }
}

impl FewTexts {
    #[inline(always)]
    fn read_words<const BOTH: bool>(&self, fields: &Fields<'_>, out: &mut [u32; LANES]) {
        let (words, lens) = (&fields.words, &fields.lens);
        let kept = |bytes: u64| if bytes < 8 { (1u64 << (8 * bytes)) - 1 } else { u64::MAX };
        let mut low = [0u64; LANES];
        let mut high = [0u64; LANES];
        for lane in 0..LANES {
            let len = lens[lane];
            let length = len << 56;
            low[lane] = words[0][lane] & kept(len);
            if BOTH {
                let is_short = len <= SHORTEST as u64;
                let behind = words[1][lane] & kept(len.saturating_sub(8)) | length;
                low[lane] |= if is_short { length } else { 0 };
                high[lane] = if is_short { 0 } else { behind };
            } else {
                low[lane] |= length;
            }
        }
        for lane in 0..LANES {
            let key = (low[lane], if BOTH { high[lane] } else { 0 });
            let at = self.place(key) % PLACES;
            let len = lens[lane];
            let is_fine = (self.keys[at] == key) & (len != 0) & (len <= LONGEST as u64);
            out[lane] = if is_fine { self.codes[at] } else { MISSING_CODE };
        }
    }
}
