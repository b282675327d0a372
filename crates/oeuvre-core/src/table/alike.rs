//! Labels of the table's keys that differ only in what people do not see or do not mean.

use crate::grouping::{Codes, GroupStates};
use crate::notice::{alike_labels, name_of};
use crate::plan::Plan;
use crate::rows::program::Operand;
use oeuvre_columns::Note;
use oeuvre_columns::names::plain_label;
use oeuvre_columns::value::Kind;
use std::collections::{HashMap, HashSet};

/// What is to be told of the labels of the table's keys.
pub(crate) fn alike_keys(plan: &Plan, groups: &GroupStates) -> Vec<Note> {
    let keys = groups.grouper.key_codes();
    let mut notes = Vec::new();
    for ((key, codes), of_groups) in plan.keys().iter().zip(&groups.grouper.codes).zip(&keys) {
        if key.kind != Kind::Text {
            continue;
        }
        // Group 0 is nobody's.
        let rows = of_groups.iter().zip(groups.counts.0.iter().skip(1));
        notes.extend(alike_in_key(plan, &key.heading, key.operand, codes, rows));
    }
    notes
}

fn alike_in_key<'a>(
    plan: &Plan,
    heading: &str,
    operand: Operand,
    codes: &Codes,
    rows: impl Iterator<Item = (&'a u32, &'a u64)>,
) -> Option<Note> {
    let labels = codes.column(Kind::Text, 0..codes.len() as u32);
    let label = |code: u32| match labels.value(Kind::Text, code as usize) {
        oeuvre_columns::Value::Text(text) => Some(text),
        _ => None,
    };
    let texts: Vec<_> = (0..codes.len() as u32).map(label).collect();
    let hashes: Vec<u64> = texts.iter().map(|t| t.as_ref().map_or(0, |t| plain_hash(t))).collect();
    let repeated = repeated(&hashes);
    let mut sets: HashMap<String, Vec<u32>> = HashMap::new();
    for (code, (text, hash)) in texts.iter().zip(&hashes).enumerate() {
        if let Some(text) = text.as_ref().filter(|_| repeated.contains(hash)) {
            sets.entry(plain_label(text).into_owned()).or_default().push(code as u32);
        }
    }
    sets.retain(|_, codes| codes.len() > 1);
    if sets.is_empty() {
        return None;
    }
    let mut counts = vec![0u64; texts.len()];
    for (&code, &n) in rows {
        if let Some(count) = counts.get_mut(code as usize) {
            *count += n;
        }
    }
    let column = name_of(plan, operand);
    alike_labels(
        heading,
        column.as_deref(),
        sets.into_values().map(|codes| {
            let of = |code: u32| {
                texts[code as usize].as_ref().map(|t| (t.to_string(), counts[code as usize]))
            };
            codes.into_iter().filter_map(of).filter(|l| l.1 > 0).collect()
        }),
    )
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
