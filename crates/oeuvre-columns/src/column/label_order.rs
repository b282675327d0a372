//! Texts in their one order ([`text_order`]), many at once.
//!
//! Comparing two of millions of texts waits for memory, twice, and does so for each text as often as their number has
//! binary digits. Here each text gives a word, the next eight bytes of what it is with its case folded, behind those that
//! all have in common; words are sorted without looking at texts, and texts with the same word by what follows.
//!
//! ```
//! use oeuvre_columns::column::dictionary::Dictionary;
//! use oeuvre_columns::column::label_order::ordered;
//!
//! let mut routes = Dictionary::default();
//! ["SKE", "kel", "AAL"].map(|route| routes.intern(route));
//! assert_eq!(ordered(&routes), [2, 1, 0]); // AAL, kel, SKE
//! ```

use super::dictionary::Texts;
use super::digits::sorted_by_digits;
use crate::value::text_order;
use std::collections::HashMap;
use std::ops::Range;

/// So many texts are compared with each other.
const FEW: usize = if cfg!(test) { 3 } else { 32 };

/// Texts with their case folded.
struct Folded<'a> {
    texts: &'a Texts,
    /// Those with letters beyond ASCII; of others each byte is folded when it is looked at.
    others: HashMap<u32, String>,
}

impl Folded<'_> {
    fn of(texts: &Texts) -> Folded<'_> {
        let others = (0..).zip(texts.iter()).filter(|it| !it.1.is_ascii());
        let folded = |text: &str| unicase::UniCase::unicode(text).to_folded_case();
        let others = others.map(|(code, text)| (code, folded(text))).collect();
        Folded { texts, others }
    }

    fn bytes(&self, code: u32) -> &[u8] {
        if self.others.is_empty() {
            return self.texts.text(code).as_bytes();
        }
        self.others.get(&code).map_or(self.texts.text(code), String::as_str).as_bytes()
    }

    /// The eight bytes behind the first so many, the first of them highest; zeros behind the end.
    fn word(&self, code: u32, skip: usize) -> u64 {
        let rest = self.bytes(code).get(skip..).unwrap_or_default();
        let mut word = [0u8; 8];
        match rest.first_chunk::<8>() {
            Some(chunk) => word = *chunk,
            None => word[..rest.len()].copy_from_slice(rest),
        }
        word.make_ascii_lowercase();
        u64::from_be_bytes(word)
    }

    /// How many bytes, behind the first so many, all these texts have in common.
    fn in_common(&self, codes: &[u32], skip: usize) -> usize {
        let Some((&first, rest)) = codes.split_first() else { return 0 };
        let first = self.bytes(first).get(skip..).unwrap_or_default();
        let mut most = first.len();
        for &code in rest {
            let rest = self.bytes(code).get(skip..).unwrap_or_default();
            let pairs = first[..most].iter().zip(rest);
            most = pairs.take_while(|(a, b)| a.eq_ignore_ascii_case(b)).count();
            if most == 0 {
                break;
            }
        }
        most
    }
}

/// The codes of texts in the order of the texts.
pub fn ordered(texts: &Texts) -> Vec<u32> {
    let folded = Folded::of(texts);
    let mut order: Vec<u32> = (0..texts.len() as u32).collect();
    // Stretches that are to be sorted, of texts with so many first bytes in common.
    let mut left: Vec<(Range<usize>, usize)> = vec![(0..order.len(), 0)];
    while let Some((range, skip)) = left.pop() {
        let codes = &mut order[range.clone()];
        let skip = skip + folded.in_common(codes, skip);
        if codes.len() <= FEW || codes.iter().all(|&code| folded.bytes(code).len() <= skip) {
            codes.sort_unstable_by(|&a, &b| text_order(texts.text(a), texts.text(b)));
            continue;
        }
        let words: Vec<(u64, u32)> =
            codes.iter().map(|&code| (folded.word(code, skip), code)).collect();
        let words = sorted_by_digits(words, |it| it.0, u64::BITS);
        codes.iter_mut().zip(&words).for_each(|(code, word)| *code = word.1);
        let mut from = range.start;
        for alike in words.chunk_by(|a, b| a.0 == b.0) {
            let to = from + alike.len();
            if alike.len() > 1 {
                left.push((from..to, skip + size_of::<u64>()));
            }
            from = to;
        }
    }
    order
}

#[cfg(test)]
mod tests {
    use super::ordered;
    use crate::column::dictionary::Dictionary;
    use crate::value::text_order;
    use proptest::prelude::*;

    fn text() -> impl Strategy<Value = String> {
        prop_oneof![
            "[aAbB\0 ]{0,12}",
            "booking (2024|2025)-[0-9]{0,9}",
            "[aÄäßẞſsSKKİiıé€😀]{0,9}",
            "\\PC{0,20}",
        ]
    }

    proptest! {
        #[test]
        fn many_texts_come_in_the_order_in_which_they_are_compared(
            texts in proptest::collection::vec(text(), 0..200),
        ) {
            let mut all = Dictionary::default();
            texts.iter().for_each(|text| { all.intern(text); });
            let mut plain: Vec<u32> = (0..all.len() as u32).collect();
            plain.sort_by(|&a, &b| text_order(all.text(a), all.text(b)));
            prop_assert_eq!(ordered(&all), plain);
        }
    }

    #[test]
    fn texts_of_zeros_and_long_beginnings_keep_their_order() {
        let long = "x".repeat(100_000);
        let ends = ["", "\0", "\0\0", "\0\0\0\0\0\0\0\0\0", "a", "A", "b"];
        let mut all = Dictionary::default();
        ends.iter().rev().for_each(|end| {
            all.intern(&format!("{long}{end}"));
        });
        assert_eq!(ordered(&all), [6, 5, 4, 3, 1, 2, 0]);
    }
}
