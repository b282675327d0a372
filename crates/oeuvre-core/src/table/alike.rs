//! Labels of the table's keys that differ only in what people do not see or do not mean.

use crate::grouping::{GroupStates, Sequence};
use crate::notice::{Texts, alike_labels, name_of, total_among_rows};
use crate::plan::{Plan, TableInput, TextsWatch, texts};
use crate::rows::program::Operand;
use oeuvre_columns::Note;
use oeuvre_columns::column::dictionary::MISSING_CODE;
use oeuvre_columns::column::{Column, Data};
use oeuvre_columns::names::plain_label;
use oeuvre_columns::value::Kind;
use std::collections::{HashMap, HashSet};

/// What is to be told of the labels of the table's keys.
pub(crate) fn alike_keys(plan: &Plan, groups: &GroupStates) -> Vec<Note> {
    let mut notes = Vec::new();
    if plan.keys().iter().all(|key| key.kind != Kind::Text) {
        return notes;
    }
    let keys = groups.grouper.key_codes();
    for (k, (key, of_groups)) in plan.keys().iter().zip(&keys).enumerate() {
        if key.kind != Kind::Text {
            continue;
        }
        let labels = Counted::new(groups, k, of_groups);
        notes.extend(total_among_rows(&key.heading, labels.iter()));
        notes.extend(alike_in_key(plan, &key.heading, key.operand, &labels));
    }
    notes
}

/// Texts that keys are compared with where lines are chosen or results worked out, and that no label equals.
pub(crate) fn texts_of_lines(plan: &Plan, groups: &GroupStates) -> Vec<Note> {
    let (of_groups, of_table) = (texts(&plan.groupings[0].group), texts(&plan.table));
    if of_groups.is_empty() && of_table.is_empty() {
        return Vec::new();
    }
    let keys = groups.grouper.key_codes();
    let key_of_group = |operand: Operand| match operand {
        Operand::Input(k) if k < keys.len() => Some(k),
        _ => None,
    };
    let key_of_table = |operand: Operand| match operand {
        Operand::Input(i) => match plan.table_inputs.get(i)? {
            TableInput::Group(built) => key_of_group(built.operand),
            _ => None,
        },
        Operand::Step(_) => None,
    };
    let of_groups = of_groups.into_iter().filter_map(|w| Some((key_of_group(w.operand)?, w)));
    let of_table = of_table.into_iter().filter_map(|w| Some((key_of_table(w.operand)?, w)));
    let mut notes = Vec::new();
    for (k, watch) in of_groups.chain(of_table).collect::<Vec<_>>() {
        let labels = Counted::new(groups, k, &keys[k]);
        let key = &plan.keys()[k];
        let watch = TextsWatch { operand: key.operand, name: key.heading.as_str().into(), ..watch };
        let labels = Texts::of(labels.iter().map(|(label, n)| (label.to_owned(), n)));
        notes.extend(labels.notes(plan, &watch, "line"));
    }
    notes
}

/// The labels of a key of texts, with how many rows have each.
struct Counted {
    labels: Column,
    counts: Vec<u64>,
}

impl Counted {
    /// The labels of a key, by the codes of its groups.
    fn new(groups: &GroupStates, key: usize, of_groups: &Sequence) -> Counted {
        let codes = &groups.grouper.codes[key];
        let mut counts = vec![0u64; codes.len()];
        // Group 0 is nobody's.
        for (code, n) in of_groups.iter().zip(groups.counts.0.iter().skip(1)) {
            if let Some(count) = counts.get_mut(code as usize) {
                *count += n;
            }
        }
        Counted { labels: codes.column(Kind::Text, 0..codes.len() as u32), counts }
    }

    /// The labels that rows have.
    fn iter(&self) -> impl Iterator<Item = (&str, u64)> {
        let codes = if let Data::Codes(codes) = &self.labels.data { &codes[..] } else { &[] };
        let present =
            codes.iter().zip(&self.counts).filter(|(c, n)| **c != MISSING_CODE && **n > 0);
        present.map(|(&code, &n)| (self.labels.dictionary.text(code), n))
    }
}

fn alike_in_key(plan: &Plan, heading: &str, operand: Operand, labels: &Counted) -> Option<Note> {
    let hashes: Vec<u64> = labels.iter().map(|(label, _)| plain_hash(label)).collect();
    let repeated = repeated(&hashes);
    let mut sets: HashMap<String, Vec<(String, u64)>> = HashMap::new();
    for ((label, n), _) in labels.iter().zip(&hashes).filter(|(_, hash)| repeated.contains(hash)) {
        sets.entry(plain_label(label).into_owned()).or_default().push((label.to_owned(), n));
    }
    let column = name_of(plan, operand);
    alike_labels(heading, column.as_deref(), sets.into_values())
}

/// A hash of a label's plain form.
fn plain_hash(label: &str) -> u64 {
    // FNV-1a, of the bytes of the plain form; that of an ASCII label is not written down for it.
    let mut hash = 0xcbf2_9ce4_8422_2325u64;
    let mut take = |b: u8| hash = (hash ^ u64::from(b)).wrapping_mul(0x0100_0000_01b3);
    if label.is_ascii() {
        for (i, word) in label.split_ascii_whitespace().enumerate() {
            if i > 0 {
                take(b' ');
            }
            word.bytes().for_each(|b| take(b.to_ascii_lowercase()));
        }
    } else {
        plain_label(label).bytes().for_each(take);
    }
    hash | 1
}

/// The hashes that may come more than once: a bit each, many more of them than hashes, so that few are taken for
/// one that came before and none that did is missed.
fn repeated(hashes: &[u64]) -> HashSet<u64> {
    let size = (hashes.len() * 16).next_power_of_two().max(64);
    let mut bits = vec![0u64; size / 64];
    let mut found = HashSet::new();
    for &hash in hashes {
        let at = (hash ^ hash >> 32) as usize & (size - 1);
        if bits[at / 64] >> (at % 64) & 1 == 1 {
            found.insert(at);
        }
        bits[at / 64] |= 1 << (at % 64);
    }
    let place = |hash: u64| (hash ^ hash >> 32) as usize & (size - 1);
    hashes.iter().copied().filter(|&h| found.contains(&place(h))).collect()
}
