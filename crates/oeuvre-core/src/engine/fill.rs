//! Lines without rows: periods between the first and the last, and categories that only a lookup knows.
//!
//! They are added as groups in which nothing was counted, so that every aggregate gives for them what it
//! gives for no rows.

use super::groups::Codes;
use super::worker::Gathered;
use crate::plan::{Fill, Plan};
use crate::rows::interner::Interner;
use crate::value::{Kind, Value};
use std::collections::BTreeSet;

/// The most periods that are filled in: more would be a mistake in a date.
const MOST_PERIODS: i128 = 100_000;

/// Adds the groups that the plan asks for.
pub(crate) fn fill(plan: &Plan, gathered: &mut Gathered) {
    if plan.fill.iter().all(Option::is_none) {
        return;
    }
    let keys = plan.resolved.keys();
    let n = keys.len();
    let counts = gathered.counts.0.clone();
    let codes = gathered.grouper.key_codes();
    let groups = gathered.grouper.groups() as u32 - 1;
    let present: Vec<u32> =
        (0..groups).filter(|&g| counts.get(g as usize + 1).is_some_and(|&c| c > 0)).collect();
    let tuples: BTreeSet<Vec<u32>> =
        present.iter().map(|&g| codes.iter().map(|of_key| of_key[g as usize]).collect()).collect();
    // The codes that each key is filled with; for a lookup's column one for each of its rows.
    let fills: Vec<Vec<u32>> = (0..n)
        .map(|k| match &plan.fill[k] {
            None => Vec::new(),
            Some(Fill::Periods) => {
                let used: BTreeSet<u32> = tuples.iter().map(|t| t[k]).collect();
                periods(keys[k].kind, &used, &mut gathered.grouper.codes[k])
            }
            Some(Fill::Labels { values, .. }) => {
                values.iter().map(|v| code(&mut gathered.grouper.codes[k], v)).collect()
            }
        })
        .collect();
    // Prefixes grow key by key; one that cannot be completed is no line.
    let mut prefixes: BTreeSet<Vec<u32>> = BTreeSet::from([Vec::new()]);
    for k in 0..n {
        let mut next: BTreeSet<Vec<u32>> = tuples.iter().map(|t| t[..=k].to_vec()).collect();
        for prefix in &prefixes {
            for (row, &code) in fills[k].iter().enumerate() {
                // Keys of one lookup go together as they do in its rows.
                let together = (0..k).all(|j| match (&plan.fill[j], &plan.fill[k]) {
                    (
                        Some(Fill::Labels { lookup: Some(a), .. }),
                        Some(Fill::Labels { lookup: Some(b), .. }),
                    ) if a == b => fills[j][row] == prefix[j],
                    _ => true,
                });
                if together {
                    next.insert(prefix.iter().copied().chain([code]).collect());
                }
            }
        }
        prefixes = next;
    }
    for tuple in prefixes.iter().filter(|p| !tuples.contains(*p)) {
        let group = gathered.grouper.add(tuple);
        gathered.forced.insert(group);
    }
    let groups = gathered.grouper.groups();
    gathered.counts.0.resize(groups, 0);
    gathered.states.iter_mut().for_each(|s| s.resize(groups));
}

/// The codes of all periods from the first to the last, or of all parts of the calendar.
fn periods(kind: Kind, used: &BTreeSet<u32>, codes: &mut Codes) -> Vec<u32> {
    let Codes::Whole(interner) = codes else { return Vec::new() };
    let places: Vec<i128> =
        used.iter().filter(|c| **c > 0).map(|&c| interner.values()[c as usize - 1]).collect();
    let (first, last) = match (kind, places.iter().min(), places.iter().max()) {
        (Kind::Part(part), ..) => (0, part.labels().len() as i128 - 1),
        (_, Some(&first), Some(&last)) if last - first <= MOST_PERIODS => (first, last),
        _ => return Vec::new(),
    };
    let intern = |i: &mut Interner, v: i128| 1 + i.intern_wide(v);
    (first..=last).map(|v| intern(interner, v)).collect()
}

/// The code of a label; 0 for a missing one.
fn code(codes: &mut Codes, value: &Value) -> u32 {
    match (codes, value) {
        (Codes::Text(d), Value::Text(t)) => 1 + d.intern(t),
        (Codes::Whole(i), Value::Number(n)) => 1 + i.intern_wide(n.mantissa),
        (Codes::Whole(i), Value::Date(d)) => 1 + i.intern_wide(i128::from(*d)),
        (Codes::Whole(i), Value::Boolean(b)) => 1 + i.intern_wide(i128::from(*b)),
        _ => 0,
    }
}
