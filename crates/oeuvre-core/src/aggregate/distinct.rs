//! `count(distinct x)`: how many different values there are.
//!
//! Each group has a set of bits, one for each value: a month of a million customers takes as many bits, and a row
//! sets one; where values are few, a word a group is all there is. Whole numbers that lie near each other are places in it themselves, from the start within four millions,
//! and further apart where many have turned out to lie near; other values are numbered as they come. Where such sets
//! would be mostly empty, pairs of group and code are kept instead. Values, or pairs, hardly two of which are the same are
//! put into sorted runs, as those of `values/` are. Missing values are no value; a group without any gives 0. What it
//! counts does not add up over lines, and so a total is counted from the sets, merged.
//!
//! ```
//! # use oeuvre_columns::{InMemory, Kind, Source};
//! # let rows = InMemory::from_texts(
//! #     &[("vessel", Kind::Text), ("route", Kind::Text)],
//! #     &[
//! #         &["Tern", "SKE"],
//! #         &["Fulmar", "KEL"],
//! #         &["Tern", "AAL"],
//! #         &["Tern", "SKE"],
//! #     ],
//! # )?;
//! use oeuvre_core::{Plan, Request, run};
//!
//! // vessel, route: Tern SKE; Fulmar KEL; Tern AAL; Tern SKE
//! let request = Request::of(&["vessel"], &["count(distinct route)"]);
//! let plan = Plan::new(&request, rows.columns())?;
//! let (table, _) = run(&plan, &rows, 1)?;
//! let shown: Vec<String> = (0..table.lines.len()).map(|line| table.cell(line, 0).to_string()).collect();
//! assert_eq!(shown, ["1", "2"]);
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

use super::bits::{Bits, HIGHEST_BASE, MANY};
use super::encoding::{Damaged, Decoder, Encoder, Locals};
use super::values::{InRuns, ValueCodes};
use super::{Additivity, ArgumentProblem, GroupAggregate, GroupState, Overflow, Rows};
use oeuvre_columns::column::ahead::SOON;
use oeuvre_columns::column::dictionary::MISSING_CODE;
use oeuvre_columns::column::interner::Pairs;
use oeuvre_columns::column::{Column, Data, MISSING_I32, MISSING_I64};
use oeuvre_columns::value::Kind;
use std::borrow::Cow;
use std::ops::Range;

/// How many different values there are. 0 when there are none.
#[derive(PartialEq, Eq, Hash)]
pub struct Distinct;

#[derive(Clone)]
enum Sets {
    /// For each group a bit for each number, from a base on: whole numbers that lie near each other. Two such sets
    /// are merged a word at a time.
    Near { base: Option<i64>, bits: Bits },
    /// For each group a bit for each code.
    Coded(Bits),
    /// Group and code.
    Pairs(Pairs),
    /// Values hardly two of which are the same, without codes.
    Runs(InRuns),
}

#[derive(Clone)]
pub(crate) struct Seen {
    groups: usize,
    known: ValueCodes,
    sets: Sets,
    /// How many values have come in codes; none where some need more than 64 bits: runs have no such.
    seen: Option<u64>,
    /// How many values were known when it was looked last whether they lie near each other.
    looked_at: usize,
    codes: Vec<u32>,
}

impl Seen {
    fn new(known: ValueCodes) -> Seen {
        let sets = match &known {
            ValueCodes::Whole(_) => Sets::Near { base: None, bits: Bits::of_groups(0) },
            ValueCodes::Text(..) => Sets::Coded(Bits::of_groups(0)),
        };
        Seen { groups: 0, known, sets, seen: Some(0), looked_at: 0, codes: Vec::new() }
    }

    /// Adds codes to groups.
    fn add(&mut self, entries: impl Iterator<Item = (u32, u32)>) {
        match &mut self.sets {
            Sets::Near { .. } | Sets::Runs(_) => {}
            Sets::Pairs(pairs) => {
                pairs.ensure(self.groups, self.known.len());
                for (group, code) in entries {
                    pairs.number(group, code);
                }
            }
            Sets::Coded(bits) => {
                entries.for_each(|(group, code)| bits.add(group, u64::from(code)));
                if bits.are_mostly_empty() {
                    let mut pairs = Pairs::default();
                    pairs.ensure(self.groups, self.known.len());
                    for (group, code) in bits.entries() {
                        pairs.number(group, code as u32);
                    }
                    self.sets = Sets::Pairs(pairs);
                }
            }
        }
    }

    fn are_runs(&self) -> bool {
        matches!(self.sets, Sets::Runs(_))
    }

    /// Each group with the code of each of its values, where they have codes.
    fn entries(&self) -> Box<dyn Iterator<Item = (u32, u32)> + '_> {
        match &self.sets {
            Sets::Coded(bits) => Box::new(bits.entries().map(|(group, code)| (group, code as u32))),
            Sets::Pairs(pairs) => Box::new(pairs.pairs().iter().copied()),
            Sets::Near { .. } | Sets::Runs(_) => Box::new(std::iter::empty()),
        }
    }

    /// Goes over to runs where nearly every row has a value of its own, or one that its group has not had.
    fn settle(&mut self) {
        let different = match &self.sets {
            Sets::Coded(_) => self.known.len(),
            Sets::Pairs(pairs) => self.known.len().max(pairs.len()),
            Sets::Near { .. } | Sets::Runs(_) => return,
        };
        if InRuns::are_worth_it(different, self.seen) {
            self.take_runs();
        }
    }

    /// Goes over from sets of bits to runs where nearly every number is one that its group has not had.
    fn leave_near(&mut self) -> bool {
        let Sets::Near { base, bits } = &self.sets else { return false };
        if !InRuns::are_worth_it(bits.set(), self.seen) {
            return false;
        }
        let base = base.unwrap_or(0);
        let numbers = bits.entries().map(|(group, place)| (group, base + place as i64));
        self.sets = Sets::Runs(InRuns::of_wholes(numbers));
        true
    }

    /// Goes over to sets of bits where many numbers have turned out to lie near each other: a number in a table of many
    /// millions costs ten times what a bit does.
    fn take_near(&mut self) {
        let (ValueCodes::Whole(known), Sets::Coded(_) | Sets::Pairs(_)) = (&self.known, &self.sets)
        else {
            return;
        };
        let many = known.len();
        if many < MANY.max(2 * self.looked_at) {
            return;
        }
        self.looked_at = many;
        let (low, high) = (known.values().min(), known.values().max());
        let Some((Ok(low), Ok(high))) = low.zip(high).map(|(a, b)| (a.try_into(), b.try_into()))
        else {
            return;
        };
        let (low, high): (i64, i64) = (low, high);
        let base = low & !63;
        let Some(span) = high.checked_sub(base).filter(|_| base <= HIGHEST_BASE) else { return };
        let mut bits = Bits::of_groups(self.groups);
        if !bits.are_worth_it(span, many) {
            return;
        }
        for (group, code) in self.entries() {
            bits.add(group, (known.value(code) - i128::from(base)) as u64);
        }
        self.known = self.known.fresh();
        self.sets = Sets::Near { base: Some(base), bits };
    }

    /// Goes over to runs, unless there are values that these do not hold.
    fn take_runs(&mut self) -> bool {
        self.code();
        if !self.are_runs() {
            match InRuns::of(&self.known, self.entries().map(|(group, code)| (group, code, 1))) {
                Some(runs) => (self.known, self.sets) = (runs.no_codes(), Sets::Runs(runs)),
                None => self.seen = None,
            }
        }
        self.are_runs()
    }

    /// Goes over to codes where the numbers do not lie near each other.
    fn code(&mut self) {
        let Sets::Near { base, bits } = &mut self.sets else { return };
        let base = i128::from(base.unwrap_or(0));
        let mut codes = Vec::new();
        for (group, place) in bits.entries() {
            if let ValueCodes::Whole(known) = &mut self.known {
                codes.push((group, known.intern_wide(base + i128::from(place))));
            }
        }
        self.sets = Sets::Coded(Bits::of_groups(self.groups));
        self.add(codes.into_iter());
    }

    /// Goes back to codes, for values that runs do not hold.
    fn leave_runs(&mut self) {
        if let Sets::Runs(runs) = &self.sets {
            let (known, entries) = runs.coded(self.groups);
            (self.known, self.sets) = (known, Sets::Coded(Bits::of_groups(self.groups)));
            self.add(entries.into_iter().map(|(group, code, _)| (group, code)));
            self.seen = None;
        }
    }

    /// Takes in a batch where there are runs; these are left where they do not hold its values.
    fn take_into_runs(&mut self, rows: Rows<'_>) -> bool {
        let Sets::Runs(runs) = &mut self.sets else { return false };
        let is_in = runs.update(rows);
        if !is_in {
            self.leave_runs();
        }
        is_in
    }

    /// Adds numbers to groups where they lie near those that are known; `None` stands for no number. Otherwise some
    /// may have been added: adding them again changes nothing.
    fn add_near<T>(
        &mut self,
        groups: &[u32],
        values: &[T],
        value: impl Fn(&T) -> Option<i64>,
    ) -> bool {
        let Sets::Near { base, bits } = &mut self.sets else { return false };
        let far = bits.are_far();
        // Without a base every number is looked at.
        let (mut from, mut near) = base.map_or((0, 0), |base| (base, bits.near));
        for (row, (&group, v)) in groups.iter().zip(values).enumerate() {
            if far
                && let (Some(&group), Some(soon)) = (groups.get(row + SOON), values.get(row + SOON))
                && let Some(soon) = value(soon)
            {
                bits.ask_for(group, soon.wrapping_sub(from) as u64);
            }
            let Some(value) = value(v).filter(|_| group != 0) else { continue };
            let mut place = value.wrapping_sub(from) as u64;
            if place >= near {
                match bits.reach(base, value) {
                    Some(reached) => place = reached,
                    None => return false,
                }
                (from, near) = base.map_or((0, 0), |base| (base, bits.near));
            }
            if !bits.add_in_room(group, place) {
                return false;
            }
        }
        !bits.are_mostly_empty()
    }
}

impl GroupState for Seen {
    const FAMILY: &'static str = "distinct";

    fn of(args: &[Kind]) -> Self {
        Seen::new(ValueCodes::new(args[0]))
    }
    fn resize(&mut self, groups: usize) {
        self.groups = self.groups.max(groups);
        if let Sets::Near { bits, .. } = &self.sets
            && bits.are_sparse(groups, 0)
        {
            self.leave_near();
        }
        if let Sets::Near { bits, .. } | Sets::Coded(bits) = &mut self.sets {
            bits.resize(self.groups);
        }
    }

    fn update(&mut self, rows: Rows<'_>) -> Result<(), Overflow> {
        let groups = rows.groups;
        if self.take_into_runs(rows) {
            return Ok(());
        }
        self.seen = self.seen.map(|seen| seen + groups.len() as u64);
        let are_near = match &rows.args[0].data {
            Data::I64(v) => self.add_near(groups, v, |&v| (v != MISSING_I64).then_some(v)),
            Data::I32(v) => {
                let one = |&v: &i32| (v != MISSING_I32).then_some(i64::from(v));
                self.add_near(groups, v, one)
            }
            _ => false,
        };
        if are_near || self.leave_near() && self.take_into_runs(rows) {
            return Ok(());
        }
        self.code();
        let mut codes = std::mem::take(&mut self.codes);
        self.known.codes(rows.args[0], &mut codes);
        let present = |&(&g, &code): &(&u32, &u32)| g != 0 && code != MISSING_CODE;
        self.add(groups.iter().zip(&codes).filter(present).map(|(&g, &code)| (g, code)));
        self.codes = codes;
        if matches!(rows.args[0].data, Data::I64(_) | Data::I32(_)) {
            self.take_near();
        }
        self.settle();
        Ok(())
    }

    fn merge(&mut self, other: &Self, map: &[u32]) -> Result<(), Overflow> {
        self.seen = self.seen.zip(other.seen).map(|(a, b)| a + b);
        if let (Sets::Near { base, bits }, Sets::Near { base: theirs, bits: from }) =
            (&mut self.sets, &other.sets)
        {
            let Some(theirs) = *theirs else { return Ok(()) };
            bits.near = bits.near.max(from.near);
            let longest = from.longest as i64;
            let last = theirs.saturating_add(longest * 64 - 1);
            let reached = |base: &mut Option<i64>, bits: &mut Bits, value: i64| {
                let place = base.map(|base| value.wrapping_sub(base) as u64);
                match place.filter(|place| *place < bits.near) {
                    Some(place) => Some(place),
                    None => bits.reach(base, value),
                }
            };
            let first = reached(base, bits, theirs);
            if first.is_some()
                && reached(base, bits, last).is_some()
                && let Some(mine) = *base
            {
                let shift = ((theirs - mine) / 64) as usize;
                for (&to, row) in map.iter().zip(from.each()).filter(|(to, _)| **to != 0) {
                    bits.add_all(to, row, shift);
                }
                if !bits.are_mostly_empty() {
                    return Ok(());
                }
            }
        }
        // Both are brought to one form: to runs where one of them is, and these hold the values.
        let mut other = Cow::Borrowed(other);
        if (self.are_runs() || other.are_runs())
            && !(self.take_runs() && (other.are_runs() || other.to_mut().take_runs()))
        {
            self.leave_runs();
            if other.are_runs() {
                other.to_mut().leave_runs();
            }
        }
        match (&mut self.sets, &other.sets) {
            (Sets::Runs(mine), Sets::Runs(theirs)) => mine.absorb(theirs, map),
            _ => {
                self.code();
                if let Sets::Near { .. } = other.sets {
                    other.to_mut().code();
                }
                let Some(codes) = self.known.absorb(&other.known) else { return Ok(()) };
                let here = |(group, code): (u32, u32)| (map[group as usize], codes[code as usize]);
                self.add(other.entries().map(here).filter(|(group, _)| *group != 0));
                self.settle();
            }
        }
        Ok(())
    }

    fn fresh(&self) -> Self {
        Seen::new(self.known.fresh())
    }

    fn size_bytes(&self) -> usize {
        let sets = match &self.sets {
            Sets::Near { bits, .. } | Sets::Coded(bits) => bits.size_bytes(),
            Sets::Pairs(pairs) => pairs.size_bytes(),
            Sets::Runs(runs) => runs.size_bytes(),
        };
        self.known.size_bytes() + sets
    }

    fn holds_values(&self) -> bool {
        match &self.sets {
            Sets::Near { bits, .. } | Sets::Coded(bits) => !bits.are_words(),
            Sets::Pairs(_) | Sets::Runs(_) => true,
        }
    }

    fn values(&self) -> usize {
        if let Sets::Runs(runs) = &self.sets { runs.len() } else { 0 }
    }

    fn looks_values_up(&self) -> bool {
        !matches!(self.sets, Sets::Near { .. })
    }

    fn encode(&self, groups: Range<u32>, to: &mut Encoder) {
        match &self.sets {
            Sets::Near { .. } => {
                let mut coded = self.clone();
                coded.code();
                return coded.encode(groups, to);
            }
            Sets::Runs(runs) => return runs.encode(groups, false, to),
            Sets::Coded(_) | Sets::Pairs(_) => {}
        }
        let mut locals = Locals::default();
        let mut of_group: Vec<Vec<u32>> = vec![Vec::new(); groups.len()];
        for (group, code) in self.entries().filter(|entry| groups.contains(&entry.0)) {
            of_group[(group - groups.start) as usize].push(locals.of(code));
        }
        self.known.encode(&locals, to);
        to.count(groups.len());
        for list in of_group {
            to.count(list.len());
            list.iter().for_each(|&code| to.unsigned(u128::from(code)));
        }
    }

    fn decode(&mut self, from: &mut Decoder<'_>) -> Result<(), Damaged> {
        self.code();
        let codes = self.known.decode(from)?;
        let n = from.groups()?;
        GroupState::resize(self, n + 1);
        let mut all = Vec::new();
        for group in 1..=n as u32 {
            for _ in 0..from.count()? {
                all.push((group, codes[from.code(codes.len())? as usize]));
            }
        }
        self.seen = self.seen.map(|seen| seen + all.len() as u64);
        self.add(all.into_iter());
        self.settle();
        Ok(())
    }
}

impl GroupAggregate for Distinct {
    type State = Seen;

    fn result(&self, _: &[Kind]) -> Result<Kind, ArgumentProblem> {
        Ok(Kind::Number { scale: 0 })
    }
    fn finish(&self, state: &Seen, _: &[Kind]) -> Result<Column, Overflow> {
        let seen = state;
        let mut counts = vec![0i64; seen.groups.max(1)];
        match &seen.sets {
            Sets::Near { bits, .. } | Sets::Coded(bits) => {
                for (count, row) in counts.iter_mut().zip(bits.each()) {
                    *count = row.iter().map(|w| i64::from(w.count_ones())).sum();
                }
            }
            Sets::Pairs(pairs) => {
                pairs.pairs().iter().for_each(|&(g, _)| counts[g as usize] += 1);
            }
            Sets::Runs(runs) => {
                for (count, group) in counts.iter_mut().zip(0..).skip(1) {
                    *count = runs.of_group(group).len() as i64;
                }
            }
        }
        counts.remove(0);
        Ok(Column::from(Data::I64(counts)))
    }
    fn additivity(&self) -> Additivity {
        Additivity::Note("a distinct count: the same {} can be in several lines")
    }
}

#[cfg(test)]
mod tests {
    use super::{Distinct, Seen, Sets, ValueCodes};
    use crate::aggregate::Rows;
    use crate::aggregate::{Aggregate, State};
    use oeuvre_columns::Kind;
    use oeuvre_columns::column::{Column, Data};
    use proptest::prelude::*;
    use rstest::rstest;

    fn counts(state: &dyn State) -> Vec<i64> {
        match Distinct.finish(state, &[]).unwrap().data {
            Data::I64(v) => v,
            _ => Vec::new(),
        }
    }

    #[test]
    fn many_groups_with_far_apart_values_go_over_to_pairs_and_count_the_same() {
        let mut seen = Seen::new(ValueCodes::new(Kind::Number { scale: 0 }));
        let n = 40_000u32;
        seen.resize(n as usize + 1);
        // Each often enough for a code.
        let values: Vec<i64> = (0..i64::from(n) * 5).map(|row| row / 5).collect();
        let column = Column::from(Data::I64(values));
        let groups: Vec<u32> = (0..n * 5).map(|row| 1 + row / 5).collect();
        seen.update(Rows { groups: &groups, args: &[&column], piece: 0 }).unwrap();
        assert!(
            matches!(seen.sets, Sets::Pairs(_)),
            "40,000 sets of up to 40,000 bits are mostly empty"
        );
        let mut dense = Seen::new(ValueCodes::new(Kind::Number { scale: 0 }));
        dense.resize(2);
        let groups = vec![1; n as usize * 5];
        dense.update(Rows { groups: &groups, args: &[&column], piece: 0 }).unwrap();
        assert!(matches!(dense.sets, Sets::Near { .. }));
        let mut one = seen.fresh();
        one.resize(2);
        one.merge(&seen, &vec![1; n as usize + 1]).unwrap();
        assert_eq!(counts(one.as_ref()), [i64::from(n)]);
        assert_eq!(counts(&seen), vec![1; n as usize]);
    }

    #[rstest]
    // Millions of numbers in few groups are places in their sets once many are known; in many groups these would be mostly
    // empty, and few numbers are worth none.
    #[case::few(48, 5_000_000, 80_000, Some(true), 60 << 20)]
    #[case::many(5_000, 5_000_000, 80_000, Some(false), 80 << 20)]
    #[case::far(3, 1 << 40, 80_000, None, 60 << 20)]
    #[case::hardly_any(3, 1 << 28, 2_000, None, 1 << 20)]
    fn numbers_are_places_where_their_sets_are_worth_it(
        #[case] groups: u32,
        #[case] numbers: i64,
        #[case] rows: i64,
        #[case] are_near: Option<bool>,
        #[case] bytes: usize,
    ) {
        let mut seen = Seen::new(ValueCodes::new(Kind::Number { scale: 0 }));
        seen.resize(groups as usize + 1);
        // Each comes four times, so that they are no runs.
        let value =
            |row: i64| (row / 4).wrapping_mul(0x9e37_79b9_7f4a_7c15u64 as i64).rem_euclid(numbers);
        let group = |row: i64| 1 + (row / 4) as u32 % groups;
        let mut expected = std::collections::HashSet::new();
        for from in (0..rows * 4).step_by(4_000) {
            let all = from..from + 4_000.min(rows * 4 - from);
            let of: Vec<u32> = all.clone().map(group).collect();
            let values: Vec<i64> = all.map(value).collect();
            expected.extend(of.iter().copied().zip(values.iter().copied()));
            let column = Column::from(Data::I64(values));
            seen.update(Rows { groups: &of, args: &[&column], piece: 0 }).unwrap();
            assert!(seen.size_bytes() < bytes, "{}", seen.size_bytes());
        }
        if let Some(are_near) = are_near {
            assert_eq!(matches!(seen.sets, Sets::Near { .. }), are_near);
        }
        assert_eq!(counts(&seen).iter().sum::<i64>(), expected.len() as i64);
    }

    #[rstest]
    // Each group's numbers lie in a word of its own: as many words for each would be mostly empty.
    #[case::further_words(&[10, 9], true)]
    // And so they would be with more groups.
    #[case::more_groups(&[8, 17], true)]
    #[case::few(&[4, 4], false)]
    fn few_numbers_of_many_groups_are_runs(#[case] groups: &[u32], #[case] are_runs: bool) {
        let mut seen = Seen::new(ValueCodes::new(Kind::Number { scale: 0 }));
        let mut expected = std::collections::BTreeSet::new();
        for &groups in groups {
            seen.resize(groups as usize + 1);
            let of: Vec<u32> = (1..=groups).collect();
            let number = |group: &u32| i64::from(group * 6 / groups * 64 + group % 3);
            let numbers: Vec<i64> = of.iter().map(number).collect();
            expected.extend(of.iter().copied().zip(numbers.clone()));
            let column = Column::from(Data::I64(numbers));
            seen.update(Rows { groups: &of, args: &[&column], piece: 0 }).unwrap();
        }
        assert_eq!(matches!(seen.sets, Sets::Runs(_)), are_runs);
        let each = |group| expected.iter().filter(|it| it.0 == group).count() as i64;
        let last = *groups.iter().max().unwrap();
        assert_eq!(counts(&seen), (1..=last).map(each).collect::<Vec<_>>());
    }

    type Row = (u32, Option<i64>);

    fn seen(rows: &[Row]) -> Seen {
        let mut seen = Seen::new(ValueCodes::new(Kind::Number { scale: 0 }));
        seen.resize(4);
        for rows in rows.chunks(5) {
            let groups: Vec<u32> = rows.iter().map(|r| r.0).collect();
            let column =
                Column::from(Data::I64(rows.iter().map(|r| r.1.unwrap_or(i64::MIN)).collect()));
            seen.update(Rows { groups: &groups, args: &[&column], piece: 0 }).unwrap();
        }
        seen
    }

    fn row() -> impl Strategy<Value = Row> {
        let near = -300i64..300;
        let value = prop_oneof![
            20 => near.clone(), 4 => near.clone().prop_map(|v| v * 20), 4 => near.prop_map(|v| v * 4000), 1 => any::<i64>(), 1 => Just(i64::MIN + 1), 1 => Just(i64::MAX)
        ];
        (0u32..4, proptest::option::weighted(0.9, value))
    }

    proptest! {
        #[test]
        fn values_are_counted_once_wherever_they_lie_and_however_they_come(
            mut rows in proptest::collection::vec(row(), 0..60), at in 0usize..60, are_near in any::<bool>(),
        ) {
            if are_near {
                rows.retain(|(_, v)| v.is_none_or(|v| v.abs() < 300));
            }
            let (first, second) = rows.split_at(at.min(rows.len()));
            let (mut merged, other) = (seen(first), seen(second));
            // Group 3 goes to group 1, and group 2 is left out.
            let map = [0, 1, 0, 1];
            merged.merge(&other, &map).unwrap();
            let mut plain = vec![std::collections::BTreeSet::new(); 4];
            first.iter().for_each(|&(g, v)| plain[g as usize].extend(v));
            second.iter().for_each(|&(g, v)| plain[map[g as usize] as usize].extend(v));
            let expected: Vec<i64> = plain[1..].iter().map(|set| set.len() as i64).collect();
            prop_assert_eq!(counts(&merged), expected);
        }
    }
}
