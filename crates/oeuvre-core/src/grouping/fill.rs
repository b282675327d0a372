//! Lines and cells without rows: periods between the first and the last, and categories that only a lookup knows.
//!
//! They are added as groups in which nothing was counted, so that every aggregate gives for them what it gives
//! for no rows. The lines of each axis are filled by themselves, key by key from the outermost: a filled key
//! stands in every group of the keys before it; what is new there stands with the labels that the keys behind it
//! have elsewhere, or that the lookup gives them. Where both axes have keys, every cell of the lines and columns
//! shown is then one in which nothing was counted, if not more. Only what can be is added: a month lies in its
//! quarter, a route goes with its coast as the lookup has it, and nothing stands beside a missing label.
//!
//! The cost grows with the cells that are added, and more than can be meant is an error before any is made.
//!
//! ```
//! # use oeuvre_columns::{InMemory, Kind, Source};
//! # let rows = InMemory::from_texts(
//! #     &[("sailed_on", Kind::Date), ("fare", Kind::Number { scale: 2 })],
//! #     &[
//! #         &["2025-01-09", "10.00"],
//! #         &["2025-03-01", "15.00"],
//! #     ],
//! # )?;
//! use oeuvre_core::{Plan, Request, run};
//!
//! // sailed_on, fare: 2025-01-09 10.00; 2025-03-01 15.00
//! let request = Request { every_period: true, ..Request::of(&["month(sailed_on)"], &["count()", "sum(fare)"]) };
//! let plan = Plan::new(&request, rows.columns())?;
//! let (table, _) = run(&plan, &rows, 1)?;
//! assert_eq!(table.label(1, 0).map(|month| month.to_string()), Some("2025-02".into()));
//! assert_eq!(table.cell(1, 0).to_string(), "0");
//! assert_eq!(table.cell(1, 1).to_string(), "");
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

use super::codes::Codes;
use super::states::GroupStates;
use crate::error::Error;
use crate::plan::{Fill, KeyPlan, Plan};
use crate::rows::program::Operand;
use oeuvre_columns::column::interner::Interner;
use oeuvre_columns::value::calendar::{Part, Period, Unit};
use oeuvre_columns::value::{Kind, Value};
use std::collections::{BTreeSet, HashMap, HashSet};
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
pub(crate) fn fill(plan: &Plan, gathered: &mut GroupStates) -> Result<(), Error> {
    if plan.fill.iter().all(Option::is_none) {
        return Ok(());
    }
    let keys = plan.keys();
    let codes = gathered.grouper.key_codes();
    let groups = gathered.grouper.groups() - 1;
    let counted = |g: &usize| gathered.counts.0.at(g + 1) > 0;
    let present: BTreeSet<Tuple> = (0..groups)
        .filter(counted)
        .map(|g| codes.iter().map(|of_key| of_key.at(g)).collect())
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
                let values = plan.labels[k].as_ref().map(|l| &l.1);
                let codes = &mut gathered.grouper.codes[k];
                values.into_iter().flatten().map(|v| code(codes, v)).collect()
            }
        });
    }
    let can_be = CanBe::new(plan, gathered);
    let by = plan.by_keys;
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
    gathered.resize(gathered.grouper.groups());
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
        let alone = |j: usize| plan.fill[j].is_some() || can_be.lookups[j].is_some();
        let end = match alone(k) {
            true => k + 1,
            false => (k + 1..range.end).find(|&j| alone(j)).unwrap_or(range.end),
        };
        // Keys that are not filled stand only behind what is filled: with the labels that they have
        // together elsewhere, one of a lookup with those that it has there.
        let mut before: BTreeSet<&[u32]> = new.iter().map(Vec::as_slice).collect();
        if plan.fill[k].is_some() {
            before.extend(here.iter().map(|t| &t[..at]));
            before.extend((at == 0).then_some(&[] as &[u32]));
        }
        let elsewhere: BTreeSet<&[u32]> = match alone(k) {
            true => BTreeSet::new(),
            false => here.iter().map(|t| &t[at..end - range.start]).collect(),
        };
        let elsewhere: Vec<&[u32]> = elsewhere.into_iter().collect();
        let labels = |prefix: &[u32]| match alone(k) {
            true => can_be.labels(range.start..k, prefix, &filled[k]),
            false => &[],
        };
        let each = before.iter().map(|p| labels(p).len() + elsewhere.len());
        let candidates = each.fold(0, usize::saturating_add);
        if candidates > 4 * MOST_CELLS {
            return Err(too_many(candidates));
        }
        let mut next = BTreeSet::new();
        for prefix in before {
            for tail in labels(prefix).chunks(1).chain(elsewhere.iter().copied()) {
                let tuple: Tuple = prefix.iter().chain(tail).copied().collect();
                if can_be.holds(&tuple, range.start..end) {
                    next.insert(tuple);
                }
            }
        }
        k = end;
        let known: HashSet<&[u32]> = here.iter().map(|t| &t[..k - range.start]).collect();
        new = next.into_iter().filter(|t| !known.contains(t.as_slice())).collect();
    }
    Ok(here.into_iter().chain(new).collect())
}

/// Which labels can stand together.
struct CanBe<'a> {
    keys: &'a [KeyPlan],
    kinds: Vec<Kind>,
    /// For each key the indexes in the calendar of its codes.
    indexes: Vec<Vec<i32>>,
    /// For each key of a lookup what it has.
    lookups: Vec<Option<OfLookup>>,
    /// The keys of a lookup that has several, and the codes that they have together in its rows.
    together: Vec<(Vec<usize>, HashSet<Tuple>)>,
}

/// What a lookup has for a key.
struct OfLookup {
    /// The keys of the same lookup that stand before it on its axis.
    before: Vec<usize>,
    /// The codes of the key beside those of the keys before it.
    labels: HashMap<Tuple, Vec<u32>>,
}

impl<'a> CanBe<'a> {
    fn new(plan: &'a Plan, gathered: &mut GroupStates) -> CanBe<'a> {
        let keys = plan.keys();
        let kinds: Vec<Kind> = keys.iter().map(|k| k.kind).collect();
        let mut together = Vec::new();
        let mut lookups: Vec<Option<OfLookup>> = keys.iter().map(|_| None).collect();
        let across = |k: usize| k >= plan.by_keys;
        for lookup in 0..plan.lookups.len() {
            let of_lookup = |k: &usize| plan.labels[*k].as_ref().is_some_and(|l| l.0 == lookup);
            let own: Vec<usize> = (0..keys.len()).filter(of_lookup).collect();
            let columns: Vec<Vec<u32>> = own
                .iter()
                .map(|&k| {
                    let values = plan.labels[k].as_ref().map(|l| &l.1);
                    let codes = &mut gathered.grouper.codes[k];
                    values.into_iter().flatten().map(|v| code(codes, v)).collect()
                })
                .collect();
            let rows = columns.first().map_or(0, Vec::len);
            let tuples: HashSet<Tuple> =
                (0..rows).map(|r| columns.iter().map(|c| c[r]).collect()).collect();
            for (at, &k) in own.iter().enumerate() {
                let before: Vec<usize> = (0..at).filter(|&i| across(own[i]) == across(k)).collect();
                let pairs: BTreeSet<(Tuple, u32)> = tuples
                    .iter()
                    .map(|t| (before.iter().map(|&i| t[i]).collect(), t[at]))
                    .collect();
                let mut labels: HashMap<Tuple, Vec<u32>> = HashMap::new();
                for (beside, label) in pairs {
                    labels.entry(beside).or_default().push(label);
                }
                let before = before.into_iter().map(|i| own[i]).collect();
                lookups[k] = Some(OfLookup { before, labels });
            }
            if own.len() > 1 {
                together.push((own, tuples));
            }
        }
        let indexes = gathered.grouper.codes.iter().map(|codes| match codes {
            Codes::Whole(i) => std::iter::once(0).chain(i.values().map(|v| v as i32)).collect(),
            Codes::Text(_) => Vec::new(),
        });
        let indexes = indexes.collect();
        CanBe { keys, kinds, indexes, lookups, together }
    }

    /// The labels that the key at the end of a range may have behind a prefix, of those that it is filled
    /// with, which are in order where they are periods: not many more than `holds` lets pass.
    fn labels<'b>(&'b self, range: Range<usize>, prefix: &[u32], filled: &'b [u32]) -> &'b [u32] {
        let key = range.end;
        let code = |k: usize| prefix[k - range.start];
        if prefix.contains(&0) {
            return &[];
        }
        if let Some(lookup) = &self.lookups[key] {
            let beside: Tuple = lookup.before.iter().map(|&k| code(k)).collect();
            return lookup.labels.get(&beside).map_or(&[], Vec::as_slice);
        }
        let (Some(date), Kind::Period(_) | Kind::Date) = (self.keys[key].date, self.kinds[key])
        else {
            return filled;
        };
        let (first, last, _) = self.days(date, code, range.clone());
        let days = |&c: &u32| days_of(self.kinds[key], self.indexes[key][c as usize]);
        let from = filled.partition_point(|c| days(c).1 < first);
        let end = filled.partition_point(|c| days(c).0 <= last);
        &filled[from..end.max(from)]
    }

    /// Whether labels of the keys in a range, given from its start, can stand together.
    fn holds(&self, tuple: &[u32], range: Range<usize>) -> bool {
        if tuple.contains(&0) {
            return false;
        }
        let code = |k: usize| tuple[k - range.start];
        let of_lookups = self.together.iter().all(|(keys, tuples)| {
            // Keys of one axis stand together by the labels that they were given.
            keys.iter().any(|k| !range.contains(k))
                || tuples.contains(&keys.iter().map(|&k| code(k)).collect::<Tuple>())
        });
        of_lookups
            && range.clone().all(|k| match self.keys[k].date {
                // Once for each date, at its first key.
                Some(date)
                    if range.clone().find(|&j| self.keys[j].date == Some(date)) == Some(k) =>
                {
                    self.in_time(date, code, range.clone())
                }
                _ => true,
            })
    }

    /// The first and the last day of what the keys of one date in a range have in common, and the parts of
    /// the calendar that they name.
    fn days(
        &self,
        date: Operand,
        code: impl Fn(usize) -> u32,
        range: Range<usize>,
    ) -> (i32, i32, Vec<(Part, i32)>) {
        let (mut first, mut last) = (i32::MIN, i32::MAX);
        let mut parts = Vec::new();
        for k in range.filter(|&k| self.keys[k].date == Some(date)) {
            let index = self.indexes[k][code(k) as usize];
            match self.kinds[k] {
                Kind::Part(part) => parts.push((part, index)),
                kind => {
                    let (from, to) = days_of(kind, index);
                    (first, last) = (first.max(from), last.min(to));
                }
            }
        }
        (first, last, parts)
    }

    /// Whether there is a day that lies in all periods and parts of one date.
    fn in_time(&self, date: Operand, code: impl Fn(usize) -> u32, range: Range<usize>) -> bool {
        let (first, last, parts) = self.days(date, code, range);
        if parts.is_empty() {
            return first <= last;
        }
        // Without a period: within a year every month has every weekday, and its quarter.
        let first = if first == i32::MIN { Unit::Year.first_day(2000) } else { first };
        let last = last.min(first.saturating_add(366));
        (first..=last).any(|day| parts.iter().all(|&(part, index)| part.of_day(day) == index))
    }
}

/// The first and the last day of a label, by its index in the calendar.
fn days_of(kind: Kind, index: i32) -> (i32, i32) {
    match kind {
        Kind::Period(unit) => {
            let period = Period { unit, index };
            (period.first_day(), period.last_day())
        }
        Kind::Date => (index, index),
        _ => (i32::MIN, i32::MAX),
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
    let indexes: Vec<i128> =
        used.iter().filter(|c| **c > 0).map(|&c| interner.value(c - 1)).collect();
    let (first, last) = match (kind, indexes.iter().min(), indexes.iter().max()) {
        (Kind::Part(part), ..) => (0, part.labels().len() as i128 - 1),
        (_, Some(&first), Some(&last)) => (first, last),
        _ => return Ok(Vec::new()),
    };
    if last - first >= MOST_PERIODS {
        let label = |index: i128| match kind {
            Kind::Period(unit) => Period { unit, index: index as i32 }.to_string(),
            _ => Period { unit: Unit::Day, index: index as i32 }.to_string(),
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

#[cfg(test)]
mod tests {
    use crate::testing::{answer, rows, shown};
    use crate::{Request, SourceText};
    use rstest::rstest;

    fn filled(by: &[&str], across: &[&str]) -> Request {
        let columns_by = across.iter().map(|k| SourceText::new("--columns-by", *k)).collect();
        Request { every_period: true, columns_by, ..Request::of(by, &["count()"]) }
    }

    #[rstest]
    #[case("2025-01-31|a;2025-04-01|a", &["month(d)"], "2025-01 = 1; 2025-02 = 0; 2025-03 = 0; 2025-04 = 1")]
    #[case("2024-12-30|a;2025-01-13|a", &["week(d)"], "2025-W01 = 1; 2025-W02 = 0; 2025-W03 = 1")]
    #[case("2025-01-06|a;2025-01-08|a", &["weekday(d)"],
        "Monday = 1; Tuesday = 0; Wednesday = 1; Thursday = 0; Friday = 0; Saturday = 0; Sunday = 0")]
    // A month lies in its quarter, and in no other.
    #[case("2025-03-01|a;2025-05-01|a", &["quarter(d)", "month(d)"], "2025-Q1 2025-03 = 1; 2025-Q2 2025-04 = 0; 2025-Q2 2025-05 = 1")]
    // Within each label all periods of the whole table.
    #[case("2025-01-01|a;2025-03-01|b", &["k", "month(d)"],
        "a 2025-01 = 1; a 2025-02 = 0; a 2025-03 = 0; b 2025-01 = 0; b 2025-02 = 0; b 2025-03 = 1")]
    #[case("2025-01-01|a;|b", &["month(d)"], "2025-01 = 1; (missing) = 1")]
    #[case("2025-01-01|a", &["month(d)"], "2025-01 = 1")]
    fn periods_between_the_first_and_the_last_are_lines(
        #[case] data: &str,
        #[case] by: &[&str],
        #[case] expected: &str,
    ) {
        let rows = rows(&format!("d:date k\n{}", data.replace(';', "\n")));
        assert_eq!(shown(&answer(&rows, &filled(by, &[])).unwrap().0), expected);
    }

    #[test]
    fn every_cell_of_a_pivot_is_filled() {
        let data = "d:date k\n2025-01-01|a\n2025-03-01|b\n";
        let (grid, _) = answer(&rows(data), &filled(&["k"], &["month(d)"])).unwrap();
        assert_eq!(shown(&grid), "a = 1 0 0; b = 0 0 1");
    }

    #[test]
    fn more_periods_than_can_be_meant_are_an_error_before_any_is_made() {
        let data = "d:date k\n0001-01-01|a\n9999-01-01|a\n";
        let error = answer(&rows(data), &filled(&["day(d)"], &[])).err().unwrap().to_string();
        assert!(error.contains("day(d)"), "{error}");
    }
    /// Whatever the kind of the key, labels that a lookup alone has are lines of their own.
    #[rstest]
    #[case("x", "b|a|d")]
    #[case("x:0", "2|1|3")]
    #[case("x:date", "2025-01-02|2025-01-01|2025-01-03")]
    #[case("x:time", "2025-01-01T02:00:00|2025-01-01T01:00:00|2025-01-01T03:00:00")]
    #[case("x:bool", "true|false")]
    fn labels_of_a_lookup_are_lines(#[case] column: &str, #[case] labels: &str) {
        use oeuvre_columns::{Source, Table, column::Batch};
        let labels: Vec<&str> = labels.split('|').collect();
        let listed = rows(&format!("{}\n{}", column.replace('x', "code"), labels.join("\n")));
        let mut batch = Batch::default();
        listed.scan(&[0], 1).unwrap()[0].next(&mut batch).unwrap();
        let lines = (1..=batch.rows as u64).collect();
        let table = Table {
            name: "l".into(),
            columns: listed.columns(),
            data: batch.columns,
            lines,
            in_rows: false,
        };
        let lookup = crate::LookupRequest {
            table: table.into(),
            on: SourceText::new("--match", "x = code"),
            no_match: crate::NoMatch::Blank,
            doubled: crate::Doubled::Stop,
            notes: Vec::new(),
        };
        let every = vec![SourceText::new("--every", "code")];
        let request =
            Request { lookups: vec![lookup], every, ..Request::of(&["code"], &["count()"]) };
        let (grid, _) = answer(&rows(&format!("{column}\n{0}\n{0}", labels[0])), &request).unwrap();
        let mut expected: Vec<String> = labels
            .iter()
            .enumerate()
            .map(|(i, l)| format!("{l} = {}", if i == 0 { 2 } else { 0 }))
            .collect();
        expected.sort();
        assert_eq!(shown(&grid), expected.join("; "));
    }
}
