//! Labels of keys that differ only in what people do not see or do not mean: case, spaces, Unicode form.

use super::texts::quoted;
use super::{Note, column_of, grouped, visible};
use crate::grouping::{Codes, GroupStates};
use crate::ledger::LookupAccount;
use crate::plan::{Built, LookupPlan, Plan};
use crate::rows::program::{Op, Operand};
use oeuvre_columns::Topic;
use oeuvre_columns::names::plain_label;
use oeuvre_columns::value::Kind;
use std::collections::{HashMap, HashSet};

/// How many sets of such labels are named, and how many labels of each.
const NAMED: usize = 3;
const OF_EACH: usize = 5;

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
        notes.extend(alike_labels(plan, &key.heading, key.operand, codes, rows));
    }
    notes
}

fn alike_labels<'a>(
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
    alike_told(heading, column.as_deref(), sets.into_values().map(|codes| {
        let of = |code: u32| texts[code as usize].as_ref().map(|t| (t.to_string(), counts[code as usize]));
        codes.into_iter().filter_map(of).filter(|l| l.1 > 0).collect()
    }))
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

/// The note of some sets of labels, each with its count.
fn alike_told(
    heading: &str,
    column: Option<&str>,
    sets: impl Iterator<Item = Vec<(String, u64)>>,
) -> Option<Note> {
    let mut sets: Vec<Vec<(String, u64)>> = sets.filter(|set| set.len() > 1).collect();
    for set in &mut sets {
        set.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
    }
    let size = |set: &Vec<(String, u64)>| set.iter().map(|l| l.1).sum::<u64>();
    sets.sort_by(|a, b| size(b).cmp(&size(a)).then_with(|| a.cmp(b)));
    if sets.is_empty() {
        return None;
    }
    let one = |set: &Vec<(String, u64)>| {
        let labels: Vec<String> = set
            .iter()
            .take(OF_EACH)
            .map(|(label, n)| format!("{} {}", visible(label), grouped(*n)))
            .collect();
        let more = if set.len() > OF_EACH { " and more" } else { "" };
        format!("{}{more}", labels.join(" and "))
    };
    let named: Vec<String> = sets.iter().take(NAMED).map(one).collect();
    let more = match sets.len().saturating_sub(NAMED) {
        0 => String::new(),
        n => format!(", and {n} more"),
    };
    let advice =
        column.map_or(String::new(), |c| format!("; as one: --one-spelling {}", quoted(c)));
    let text = format!(
        "{heading} has labels that differ only in case, spaces or Unicode form: {}{more}{advice}",
        named.join("; ")
    );
    Some(Note::new(Topic::Alike, text))
}

/// The column that a key is or is made of: one of the rows, or one of a lookup with the lookup's name.
fn name_of(plan: &Plan, operand: Operand) -> Option<String> {
    if let Some(column) = column_of(plan, operand) {
        return Some(column.to_owned());
    }
    let Operand::Step(step) = operand else { return None };
    let step = &plan.row.steps[step];
    if let Op::Fetch(of) = &step.op {
        return Some(format!("{}.{}", of.table.name, of.table.columns[of.column].name));
    }
    let mut texts = step.args.iter().zip(&step.arg_kinds).filter(|(_, kind)| **kind == Kind::Text);
    let (first, _) = texts.next()?;
    name_of(plan, *first).filter(|_| texts.next().is_none())
}

/// Keys of rows without a match that differ from one of the lookup's only in case, spaces or Unicode form.
pub(crate) fn alike_lookup_keys(
    plan: &Plan,
    lookup: &LookupPlan,
    account: &LookupAccount,
) -> Option<Note> {
    if account.keys.is_empty() {
        return None;
    }
    let [(Kind::Text, _)] = lookup.lookup.keys.as_slice() else { return None };
    let mut known: HashMap<String, &str> = HashMap::new();
    for key in lookup.lookup.rows.keys() {
        let named = known.entry(plain_label(key).into_owned()).or_insert(key);
        if key.as_str() < *named {
            *named = key;
        }
    }
    let alike = account.keys.iter().filter_map(|(key, n)| {
        known.get(&*plain_label(key)).map(|theirs| (key.as_str(), *theirs, *n))
    });
    let alike: Vec<(&str, &str, u64)> = alike.collect();
    let (first, theirs, n) = alike.first()?;
    let more = match alike.len() - 1 {
        0 => String::new(),
        n => format!(", and {n} more like it"),
    };
    let column = found_by(plan, lookup).and_then(|b| name_of(plan, b.operand));
    let advice =
        column.map_or(String::new(), |c| format!("; as one: --one-spelling {}", quoted(&c)));
    let text = format!(
        "{} ({}) has no match in {}, which has {}{more}{advice}",
        visible(first),
        grouped(*n),
        account.name,
        visible(theirs)
    );
    Some(Note::new(Topic::Alike, text))
}

/// What a lookup with one key is found by, where that is worked out on the rows that count.
fn found_by(plan: &Plan, lookup: &LookupPlan) -> Option<Built> {
    let Operand::Step(step) = lookup.found else { return None };
    let program = if plan.drops() && lookup.no_match == crate::rows::lookup::NoMatch::LeaveOut {
        &plan.filter
    } else {
        &plan.row
    };
    let operand = *program.steps.get(step)?.args.first()?;
    // In the filter a step is not one of the rows' program; columns are the same in both.
    matches!(operand, Operand::Input(_)).then_some(Built { operand, kind: Kind::Text })
}
