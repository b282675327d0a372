//! `count(distinct x)`: how many different values there are.
//!
//! Each group has a set of bits, one for each value's code: a month of a million customers takes as many bits,
//! and a row one bit. Where there are many groups with few values each, such sets would be mostly empty; then
//! pairs of group and code are kept instead. Missing values are no value; a group without any gives 0. What it
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

use super::encoding::{Damaged, Decoder, Encoder, Locals};
use super::values::ValueCodes;
use super::{Additivity, ArgumentProblem, GroupAggregate, GroupState, Overflow, Rows};
use oeuvre_columns::column::dictionary::MISSING_CODE;
use oeuvre_columns::column::interner::Pairs;
use oeuvre_columns::column::{Column, Data};
use oeuvre_columns::value::Kind;
use std::ops::Range;

/// How many different values there are. 0 when there are none.
#[derive(PartialEq, Eq, Hash)]
pub struct Distinct;

/// Sets of bits may take this much (64 MiB), and beyond it this much for each value that is set: what
/// a pair takes.
const ALWAYS_WORDS: usize = 8 << 20;
const WORDS_FOR_EACH: usize = 4;

#[derive(Clone)]
enum Sets {
    /// For each group a bit for each code, as far as they reach.
    Bits { rows: Vec<Vec<u64>>, words: usize, set: usize },
    /// Group and code.
    Pairs(Pairs),
}

#[derive(Clone)]
pub(crate) struct Seen {
    groups: usize,
    known: ValueCodes,
    sets: Sets,
    codes: Vec<u32>,
}

impl Seen {
    fn new(known: ValueCodes) -> Seen {
        let sets = Sets::Bits { rows: Vec::new(), words: 0, set: 0 };
        Seen { groups: 0, known, sets, codes: Vec::new() }
    }

    fn add(&mut self, entries: impl Iterator<Item = (u32, u32)>) {
        match &mut self.sets {
            Sets::Pairs(pairs) => {
                pairs.ensure(self.groups, self.known.len());
                for (group, code) in entries {
                    pairs.number(group, code);
                }
            }
            Sets::Bits { rows, words, set } => {
                for (group, code) in entries {
                    let row = &mut rows[group as usize];
                    let (word, bit) = ((code >> 6) as usize, 1u64 << (code & 63));
                    if word >= row.len() {
                        let grown = (word + 1).max(row.len() + row.len() / 2);
                        *words += grown - row.len();
                        row.resize(grown, 0);
                    }
                    *set += usize::from(row[word] & bit == 0);
                    row[word] |= bit;
                }
            }
        }
        self.thin_out();
    }

    /// Goes over to pairs when the sets are mostly empty.
    fn thin_out(&mut self) {
        let Sets::Bits { rows, words, set } = &self.sets else { return };
        if *words <= ALWAYS_WORDS + set * WORDS_FOR_EACH {
            return;
        }
        let mut pairs = Pairs::default();
        pairs.ensure(self.groups, self.known.len());
        for (group, code) in entries(rows) {
            pairs.number(group, code);
        }
        self.sets = Sets::Pairs(pairs);
    }
}

/// The codes of each group.
fn entries(rows: &[Vec<u64>]) -> impl Iterator<Item = (u32, u32)> {
    rows.iter().enumerate().flat_map(|(group, row)| {
        row.iter().enumerate().flat_map(move |(at, &word)| {
            let mut left = word;
            std::iter::from_fn(move || {
                let bit = left.trailing_zeros();
                left &= left.wrapping_sub(1);
                (bit < 64).then_some((group as u32, at as u32 * 64 + bit))
            })
        })
    })
}

impl GroupState for Seen {
    const FAMILY: &'static str = "distinct";

    fn of(args: &[Kind]) -> Self {
        Seen::new(ValueCodes::new(args[0]))
    }
    fn resize(&mut self, groups: usize) {
        self.groups = self.groups.max(groups);
        if let Sets::Bits { rows, .. } = &mut self.sets {
            rows.resize(self.groups, Vec::new());
        }
    }

    fn update(&mut self, rows: Rows<'_>) -> Result<(), Overflow> {
        let mut codes = std::mem::take(&mut self.codes);
        self.known.codes(rows.args[0], &mut codes);
        let present = |&(&g, &code): &(&u32, &u32)| g != 0 && code != MISSING_CODE;
        self.add(rows.groups.iter().zip(&codes).filter(present).map(|(&g, &code)| (g, code)));
        self.codes = codes;
        Ok(())
    }

    fn merge(&mut self, other: &Self, map: &[u32]) -> Result<(), Overflow> {
        let Some(codes) = self.known.absorb(&other.known) else { return Ok(()) };
        let here = |(group, code): (u32, u32)| (map[group as usize], codes[code as usize]);
        let kept = |(group, _): &(u32, u32)| *group != 0;
        match &other.sets {
            Sets::Bits { rows, .. } => self.add(entries(rows).map(here).filter(kept)),
            Sets::Pairs(pairs) => self.add(pairs.pairs().iter().copied().map(here).filter(kept)),
        }
        Ok(())
    }

    fn fresh(&self) -> Self {
        Seen::new(self.known.fresh())
    }

    fn size_bytes(&self) -> usize {
        let sets = match &self.sets {
            Sets::Bits { rows, words, .. } => size_of_val(rows.as_slice()) + words * 8,
            Sets::Pairs(pairs) => pairs.size_bytes(),
        };
        self.known.size_bytes() + sets
    }

    fn encode(&self, groups: Range<u32>, to: &mut Encoder) {
        let mut locals = Locals::default();
        let mut of_group: Vec<Vec<u32>> = vec![Vec::new(); groups.len()];
        let mut add = |(group, code): (u32, u32)| {
            if groups.contains(&group) {
                of_group[(group - groups.start) as usize].push(locals.of(code));
            }
        };
        match &self.sets {
            Sets::Bits { rows, .. } => entries(rows).for_each(&mut add),
            Sets::Pairs(pairs) => pairs.pairs().iter().copied().for_each(&mut add),
        }
        self.known.encode(&locals, to);
        to.count(groups.len());
        for list in of_group {
            to.count(list.len());
            list.iter().for_each(|&code| to.unsigned(u128::from(code)));
        }
    }

    fn decode(&mut self, from: &mut Decoder<'_>) -> Result<(), Damaged> {
        let codes = self.known.decode(from)?;
        let n = from.count()?;
        GroupState::resize(self, n + 1);
        let mut all = Vec::new();
        for group in 1..=n as u32 {
            for _ in 0..from.count()? {
                all.push((group, codes[from.code(codes.len())? as usize]));
            }
        }
        self.add(all.into_iter());
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
            Sets::Bits { rows, .. } => {
                for (count, row) in counts.iter_mut().zip(rows) {
                    *count = row.iter().map(|w| i64::from(w.count_ones())).sum();
                }
            }
            Sets::Pairs(pairs) => {
                pairs.pairs().iter().for_each(|&(g, _)| counts[g as usize] += 1);
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

    #[test]
    fn many_groups_with_far_apart_values_go_over_to_pairs_and_count_the_same() {
        let mut seen = Seen::new(ValueCodes::new(Kind::Number { scale: 0 }));
        let n = 40_000u32;
        seen.resize(n as usize + 1);
        let values: Vec<i64> = (0..i64::from(n)).collect();
        let column = Column::from(Data::I64(values));
        let groups: Vec<u32> = (1..=n).collect();
        seen.update(Rows { groups: &groups, args: &[&column], piece: 0 }).unwrap();
        assert!(
            matches!(seen.sets, Sets::Pairs(_)),
            "40,000 sets of up to 40,000 bits are mostly empty"
        );
        // Where they are not, each bit that is set is counted once, so that they stay sets.
        let mut dense = Seen::new(ValueCodes::new(Kind::Number { scale: 0 }));
        dense.resize(2);
        for piece in 0..2 {
            let groups = vec![1; n as usize];
            dense.update(Rows { groups: &groups, args: &[&column], piece }).unwrap();
        }
        assert!(matches!(dense.sets, Sets::Bits { set, .. } if set == n as usize));
        let mut one = seen.fresh();
        one.resize(2);
        one.merge(&seen, &vec![1; n as usize + 1]).unwrap();
        let counts = |s: &dyn State| match Distinct.finish(s, &[]).unwrap().data {
            Data::I64(v) => v,
            _ => Vec::new(),
        };
        assert_eq!(counts(one.as_ref()), [i64::from(n)]);
        assert_eq!(counts(&seen), vec![1; n as usize]);
    }
}
