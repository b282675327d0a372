//! Lines and cells without rows: periods between the first and the last, and categories that only a lookup
//! knows.
//!
//! They are added as groups in which nothing was counted, so that every aggregate gives for them what it
//! gives for no rows. The lines of each axis are filled by themselves, key by key from the outermost: a filled
//! key stands in every group of the keys before it; what is new there stands with the labels that the keys
//! behind it have elsewhere, or that the lookup gives them. Where both axes have keys, every cell of the lines and columns shown is then
//! one in which nothing was counted, if not more. Only what can be is added: a month lies in its quarter, a
//! route goes with its coast as the lookup has it, and nothing stands beside a missing label.

use super::groups::Codes;
use super::worker::Gathered;
use crate::error::Error;
use crate::plan::{Fill, KeyFacts, Plan};
use crate::rows::interner::Interner;
use crate::value::calendar::{Part, Period, Unit};
use crate::value::{Kind, Value};
use std::collections::{BTreeSet, HashSet};
use std::ops::Range;

/// The most periods that are filled in: more would be a mistake in a date.
const MOST_PERIODS: i128 = 100_000;
/// The most cells that are filled in: nobody reads more, and they would take gigabytes.
const MOST_CELLS: usize = 5_000_000;

/// The codes of some keys, the first of an axis on; 0 is a missing label.
type Tuple = Vec<u32>;

/// Adds the groups that the plan asks for.
///
/// # Errors
/// More periods or cells than can be meant.
pub(crate) fn fill(plan: &Plan, gathered: &mut Gathered) -> Result<(), Error> {
    if plan.fill.iter().all(Option::is_none) {
        return Ok(());
    }
    let keys = plan.resolved.keys();
    let codes = gathered.grouper.key_codes();
    let groups = gathered.grouper.groups() - 1;
    let counted = |g: &usize| gathered.counts.0.get(g + 1).is_some_and(|&n| n > 0);
    let present: BTreeSet<Tuple> = (0..groups)
        .filter(counted)
        .map(|g| codes.iter().map(|of_key| of_key[g]).collect())
        .collect();
    let mut filled = Vec::new();
    for (k, key) in keys.iter().enumerate() {
        filled.push(match &plan.fill[k] {
            None => Vec::new(),
            Some(Fill::Periods) => {
                let used: BTreeSet<u32> = present.iter().map(|t| t[k]).collect();
                periods(&key.heading, key.kind, &used, &mut gathered.grouper.codes[k])?
            }
            Some(Fill::Labels) => {
                let values = plan.key_facts[k].lookup.as_ref().map(|l| &l.1);
                let codes = &mut gathered.grouper.codes[k];
                values.into_iter().flatten().map(|v| code(codes, v)).collect()
            }
        });
    }
    let can_be = CanBe::new(plan, gathered);
    let by = plan.resolved.by_keys;
    let side = axis(0..by, plan, &filled, &present, &can_be)?;
    let top = axis(by..keys.len(), plan, &filled, &present, &can_be)?;
    if side.len().saturating_mul(top.len()) > 4 * MOST_CELLS {
        return Err(too_many(side.len().saturating_mul(top.len())));
    }
    let mut added = 0;
    for line in &side {
        for column in &top {
            let tuple: Tuple = line.iter().chain(column).copied().collect();
            if present.contains(&tuple) || !can_be.holds(&tuple, 0..keys.len()) {
                continue;
            }
            added += 1;
            if added > MOST_CELLS {
                return Err(too_many(added));
            }
            let group = gathered.grouper.add(&tuple);
            gathered.forced.insert(group);
        }
    }
    let groups = gathered.grouper.groups();
    gathered.counts.0.resize(groups, 0);
    gathered.states.iter_mut().for_each(|s| s.resize(groups));
    Ok(())
}

fn too_many(cells: usize) -> Error {
    Error::request_with_help(
        format!("--every-period and --every would add more than {cells} cells without rows"),
        "leave out a key with many labels, or ask for fewer periods with --where",
    )
}

/// The lines of an axis: those that are there, and those that are filled in. One that is empty has no keys.
fn axis(
    range: Range<usize>,
    plan: &Plan,
    filled: &[Vec<u32>],
    present: &BTreeSet<Tuple>,
    can_be: &CanBe<'_>,
) -> Result<BTreeSet<Tuple>, Error> {
    let here: BTreeSet<Tuple> = present.iter().map(|t| t[range.clone()].to_vec()).collect();
    // What is filled so far, each as long as the keys that have been looked at.
    let mut new: BTreeSet<Tuple> = BTreeSet::new();
    let mut k = range.start;
    while k < range.end {
        let at = k - range.start;
        let mut next = BTreeSet::new();
        if plan.fill[k].is_some() {
            let before: BTreeSet<&[u32]> =
                here.iter().map(|t| &t[..at]).chain(new.iter().map(Vec::as_slice)).collect();
            let before: Vec<&[u32]> =
                if at == 0 { vec![&[]] } else { before.into_iter().collect() };
            if before.len().saturating_mul(filled[k].len()) > 4 * MOST_CELLS {
                return Err(too_many(before.len().saturating_mul(filled[k].len())));
            }
            for prefix in before {
                for &code in &filled[k] {
                    let tuple: Tuple = prefix.iter().copied().chain([code]).collect();
                    if can_be.holds(&tuple, range.start..k + 1) {
                        next.insert(tuple);
                    }
                }
            }
            k += 1;
        } else {
            // Keys that are not filled stand with the labels that they have together elsewhere, one of a
            // lookup with those that it has.
            let of_lookup = |j: usize| can_be.labels[j].is_some();
            let end = match of_lookup(k) {
                true => k + 1,
                false => (k + 1..range.end)
                    .find(|&j| plan.fill[j].is_some() || of_lookup(j))
                    .unwrap_or(range.end),
            };
            let span = at..end - range.start;
            let labels: BTreeSet<&[u32]> = match &can_be.labels[k] {
                Some(labels) => labels.iter().map(std::slice::from_ref).collect(),
                None => here.iter().map(|t| &t[span.clone()]).collect(),
            };
            if new.len().saturating_mul(labels.len()) > 4 * MOST_CELLS {
                return Err(too_many(new.len().saturating_mul(labels.len())));
            }
            for prefix in &new {
                for labels in &labels {
                    let tuple: Tuple = prefix.iter().chain(*labels).copied().collect();
                    if can_be.holds(&tuple, range.start..end) {
                        next.insert(tuple);
                    }
                }
            }
            k = end;
        }
        let known: HashSet<&[u32]> = here.iter().map(|t| &t[..k - range.start]).collect();
        new = next.into_iter().filter(|t| !known.contains(t.as_slice())).collect();
    }
    Ok(here.into_iter().chain(new).collect())
}

/// Which labels can stand together.
struct CanBe<'a> {
    facts: &'a [KeyFacts],
    kinds: Vec<Kind>,
    /// For each key the places in the calendar of its codes.
    places: Vec<Vec<i32>>,
    /// For each key of a lookup the codes of its labels there.
    labels: Vec<Option<Vec<u32>>>,
    /// The keys of a lookup, and the codes that they have together in its rows.
    together: Vec<(Vec<usize>, HashSet<Tuple>)>,
}

impl<'a> CanBe<'a> {
    fn new(plan: &'a Plan, gathered: &mut Gathered) -> CanBe<'a> {
        let keys = plan.resolved.keys();
        let kinds: Vec<Kind> = keys.iter().map(|k| k.kind).collect();
        let mut together = Vec::new();
        let mut labels = vec![None; keys.len()];
        for lookup in 0..plan.resolved.lookups.len() {
            let of_lookup =
                |k: &usize| plan.key_facts[*k].lookup.as_ref().is_some_and(|l| l.0 == lookup);
            let own: Vec<usize> = (0..keys.len()).filter(of_lookup).collect();
            let columns: Vec<Vec<u32>> = own
                .iter()
                .map(|&k| {
                    let values = plan.key_facts[k].lookup.as_ref().map(|l| &l.1);
                    let codes = &mut gathered.grouper.codes[k];
                    values.into_iter().flatten().map(|v| code(codes, v)).collect()
                })
                .collect();
            for (&k, codes) in own.iter().zip(&columns) {
                labels[k] = Some(codes.clone());
            }
            let rows = columns.first().map_or(0, Vec::len);
            let tuples = (0..rows).map(|r| columns.iter().map(|c| c[r]).collect()).collect();
            together.push((own, tuples));
        }
        let places = gathered.grouper.codes.iter().map(|codes| match codes {
            Codes::Whole(i) => {
                std::iter::once(0).chain(i.values().iter().map(|&v| v as i32)).collect()
            }
            Codes::Text(_) => Vec::new(),
        });
        let places = places.collect();
        CanBe { facts: &plan.key_facts, kinds, places, labels, together }
    }

    /// Whether labels of the keys in a range, given from its start, can stand together.
    fn holds(&self, tuple: &[u32], range: Range<usize>) -> bool {
        if tuple.contains(&0) {
            return false;
        }
        let code = |k: usize| tuple[k - range.start];
        for (keys, tuples) in &self.together {
            let here: Vec<usize> = (0..keys.len()).filter(|&i| range.contains(&keys[i])).collect();
            if here.len() < 2 {
                continue;
            }
            let fits = |t: &Tuple| here.iter().all(|&i| t[i] == code(keys[i]));
            let known = match here.len() == keys.len() {
                true => tuples.contains(&keys.iter().map(|&k| code(k)).collect::<Tuple>()),
                false => tuples.iter().any(fits),
            };
            if !known {
                return false;
            }
        }
        range.clone().all(|k| match self.facts[k].date {
            // Once for each date, at its first key.
            Some(date) if range.clone().find(|&j| self.facts[j].date == Some(date)) == Some(k) => {
                self.in_time(date, code, range.clone())
            }
            _ => true,
        })
    }

    /// Whether there is a day that lies in all periods and parts of one date.
    fn in_time(
        &self,
        date: crate::rows::program::Operand,
        code: impl Fn(usize) -> u32,
        range: Range<usize>,
    ) -> bool {
        let (mut first, mut last) = (i32::MIN, i32::MAX);
        let mut parts: Vec<(Part, i32)> = Vec::new();
        for k in range.filter(|&k| self.facts[k].date == Some(date)) {
            let place = self.places[k][code(k) as usize];
            match self.kinds[k] {
                Kind::Period(unit) => {
                    let period = Period { unit, index: place };
                    (first, last) = (first.max(period.first_day()), last.min(period.last_day()));
                }
                Kind::Date => (first, last) = (first.max(place), last.min(place)),
                Kind::Part(part) => parts.push((part, place)),
                _ => {}
            }
        }
        if first > last {
            return false;
        }
        if parts.is_empty() {
            return true;
        }
        // All parts come again within four years and a leap day.
        let first = if first == i32::MIN { Unit::Year.first_day(2000) } else { first };
        let last = last.min(first.saturating_add(1461));
        (first..=last).any(|day| parts.iter().all(|&(part, place)| part.of_day(day) == place))
    }
}

/// The codes of all periods from the first to the last, or of all parts of the calendar.
fn periods(
    heading: &str,
    kind: Kind,
    used: &BTreeSet<u32>,
    codes: &mut Codes,
) -> Result<Vec<u32>, Error> {
    let Codes::Whole(interner) = codes else { return Ok(Vec::new()) };
    let places: Vec<i128> =
        used.iter().filter(|c| **c > 0).map(|&c| interner.values()[c as usize - 1]).collect();
    let (first, last) = match (kind, places.iter().min(), places.iter().max()) {
        (Kind::Part(part), ..) => (0, part.labels().len() as i128 - 1),
        (_, Some(&first), Some(&last)) => (first, last),
        _ => return Ok(Vec::new()),
    };
    if last - first >= MOST_PERIODS {
        let label = |place: i128| match kind {
            Kind::Period(unit) => Period { unit, index: place as i32 }.to_string(),
            _ => String::new(),
        };
        return Err(Error::request_with_help(
            format!(
                "--every-period: from {} to {} there are {} of {heading}, and more than {MOST_PERIODS} are not shown",
                label(first),
                label(last),
                last - first + 1
            ),
            "is the first or the last date a mistake? leave it out with --where, or take longer periods",
        ));
    }
    let intern = |i: &mut Interner, v: i128| 1 + i.intern_wide(v);
    Ok((first..=last).map(|v| intern(interner, v)).collect())
}

/// The code of a label; 0 for a missing one.
fn code(codes: &mut Codes, value: &Value) -> u32 {
    match (codes, value) {
        (Codes::Text(d), Value::Text(t)) => 1 + d.intern(t),
        (Codes::Whole(i), Value::Number(n)) => 1 + i.intern_wide(n.mantissa),
        (Codes::Whole(i), Value::Date(d)) => 1 + i.intern_wide(i128::from(*d)),
        (Codes::Whole(i), Value::DateTime(t)) => 1 + i.intern_wide(i128::from(*t)),
        (Codes::Whole(i), Value::Boolean(b)) => 1 + i.intern_wide(i128::from(*b)),
        _ => 0,
    }
}
