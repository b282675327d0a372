//! Group numbers: the values of each key as codes, and the codes of all keys as one number.
//!
//! Keys are taken in one after the other: the number after `d` keys is that of the pair (number after `d - 1`
//! keys, code of key `d`). So the groups of fewer keys come for nothing. Codes and numbers are a worker's own,
//! given as values come; merging maps them ([`Grouper::absorb`]), and what is shown is put in label order at the
//! end ([`Codes::ranks`]), so that no result depends on who met a value first.

use super::sequence::{Ranks, Sequence};
use crate::aggregate::encoding::{Damaged, Decoder, Encoder};
use crate::aggregate::extremes::{column_of, float_key};
use oeuvre_columns::column::dictionary::{Dictionary, MISSING_CODE};
use oeuvre_columns::column::interner::{Interner, Pairs};
use oeuvre_columns::column::label_order;
use oeuvre_columns::column::{Column, Data, MISSING_BOOL, MISSING_I64, MISSING_I128};
use oeuvre_columns::value::Kind;

/// The distinct values of a key. Code 0 is missing.
#[derive(Clone, Debug)]
pub(crate) enum Codes {
    /// Code `c` is text `c - 1`.
    Text(Dictionary),
    /// Code `c` is number `c - 1`.
    Whole(Interner),
}

impl Codes {
    pub(crate) fn new(kind: Kind) -> Codes {
        match kind {
            Kind::Text => Codes::Text(Dictionary::default()),
            _ => Codes::Whole(Interner::default()),
        }
    }

    pub(crate) fn len(&self) -> usize {
        1 + match self {
            Codes::Text(d) => d.len(),
            Codes::Whole(i) => i.len(),
        }
    }

    /// The codes of a batch. Texts keep the codes of the column, whose dictionary is taken over
    /// when the worker is done.
    fn of(&mut self, column: &Column, out: &mut Vec<u32>) {
        out.clear();
        macro_rules! intern {
            ($values:expr, $missing:pat, $intern:expr) => {
                out.extend($values.iter().map(|&v| match v {
                    $missing => 0,
                    v => 1 + $intern(v),
                }))
            };
        }
        match (self, &column.data) {
            // MISSING_CODE is the largest u32: it wraps to 0.
            (Codes::Text(_), Data::Codes(v)) => out.extend(v.iter().map(|&c| c.wrapping_add(1))),
            (Codes::Whole(i), Data::I64(v)) => i.intern_all(v, 1, 0, out),
            (Codes::Whole(i), Data::I128(v)) => intern!(v, MISSING_I128, |v| i.intern_wide(v)),
            (Codes::Whole(i), Data::I32(v)) => i.intern_all(v, 1, 0, out),
            (Codes::Whole(i), Data::Bool(v)) => {
                intern!(v, MISSING_BOOL, |v| i.intern(i64::from(v)))
            }
            (Codes::Whole(i), Data::F64(v)) => out
                .extend(v.iter().map(|&v| if v.is_nan() { 0 } else { 1 + i.intern(float_key(v)) })),
            _ => {}
        }
    }

    /// The codes that another worker's codes have here.
    pub(crate) fn absorb(&mut self, other: &Codes) -> Vec<u32> {
        let map = match (self, other) {
            (Codes::Text(mine), Codes::Text(theirs)) => mine.absorb(theirs),
            (Codes::Whole(mine), Codes::Whole(theirs)) => mine.absorb(theirs),
            _ => Vec::new(),
        };
        std::iter::once(0).chain(map.into_iter().map(|c| c + 1)).collect()
    }

    /// For each code its place in label order; missing comes last.
    pub(crate) fn ranks(&self) -> Ranks {
        let order = match self {
            Codes::Text(d) => label_order::ordered(d),
            Codes::Whole(i) if i.is_ordered() => return Ranks::counted(i.len()),
            Codes::Whole(i) => i.ordered(),
        };
        let order: Vec<u32> = order.into_iter().map(|code| code + 1).collect();
        Ranks::of_order(&order)
    }

    /// A column of the values of some codes.
    pub(crate) fn column(&self, kind: Kind, codes: impl Iterator<Item = u32> + Clone) -> Column {
        match self {
            Codes::Text(d) => {
                Column::coded(Data::Codes(codes.map(|c| c.wrapping_sub(1)).collect()), d.clone())
            }
            Codes::Whole(i) => match (kind, i.narrow()) {
                // As they stand, without asking of each how many bits it needs.
                (Kind::Number { .. } | Kind::DateTime, Some(values))
                    if !values.contains(&MISSING_I64) =>
                {
                    let value = |code: u32| match code {
                        0 => MISSING_I64,
                        code => values[code as usize - 1],
                    };
                    Column::from(Data::I64(codes.map(value).collect()))
                }
                _ => {
                    let value = |code: u32| code.checked_sub(1).map(|code| i.value(code));
                    column_of(kind, codes.map(value))
                }
            },
        }
    }

    /// Writes the values down, in the order of their codes.
    fn encode(&self, to: &mut Encoder) {
        to.count(self.len() - 1);
        match self {
            Codes::Text(d) => d.iter().for_each(|text| to.text(text)),
            Codes::Whole(i) => i.values().for_each(|value| to.signed(value)),
        }
    }

    /// Reads what was written down into codes without any, of the key of this number.
    fn decode(&mut self, from: &mut Decoder<'_>, key: usize) -> Result<(), Damaged> {
        for expected in 0..from.count()? {
            let code = match self {
                Codes::Text(d) => d.intern(from.text()?),
                Codes::Whole(i) => i.intern_wide(from.value(&[key])?),
            };
            if code as usize != expected {
                return Err(Damaged);
            }
        }
        Ok(())
    }

    fn take_dictionary(&mut self, column: &Column) {
        if let Codes::Text(d) = self {
            *d = column.dictionary.clone();
        }
    }
}

/// The group numbers of one worker, or of all after merging.
#[derive(Clone, Debug)]
pub(crate) struct Grouper {
    pub(crate) codes: Vec<Codes>,
    /// One for each key but the first.
    pub(crate) pairs: Vec<Pairs>,
    /// How many texts the column of the first key has had, until its dictionary is taken over.
    texts: usize,
    /// Whether each row is given a group of its own, as long as several keys are put aside before anything is asked of them.
    lists: bool,
    scratch: Vec<u32>,
}

/// What the numbers of another worker are here.
pub(super) struct Renumbered {
    /// Those of the groups of all keys but the last, counted from 0; of the only key its codes.
    pub(super) before: Vec<u32>,
    /// The codes of the last key; `None` where it is the only one.
    pub(super) last: Option<Vec<u32>>,
}

/// Adds pairs of other numbers and codes; the number that each has here.
fn renumbered(mine: &mut Pairs, theirs: &Pairs, numbers: &[u32], codes: &[u32]) -> Vec<u32> {
    let number =
        |&(number, code): &(u32, u32)| mine.number(numbers[number as usize], codes[code as usize]);
    theirs.pairs().iter().map(number).collect()
}

impl Grouper {
    pub(crate) fn new(kinds: impl Iterator<Item = Kind>) -> Grouper {
        let codes: Vec<Codes> = kinds.map(Codes::new).collect();
        let pairs = vec![Pairs::default(); codes.len().saturating_sub(1)];
        Grouper { codes, pairs, texts: 0, lists: false, scratch: Vec::new() }
    }

    /// The groups of numbers in their order, of one key.
    pub(super) fn of_ordered(numbers: Vec<i64>) -> Grouper {
        let codes = vec![Codes::Whole(Interner::of_ordered(numbers))];
        Grouper { codes, pairs: Vec::new(), texts: 0, lists: false, scratch: Vec::new() }
    }

    /// The numbers of the only key in the order of their codes; none where it is another.
    pub(super) fn numbers(&self) -> &[i64] {
        match &self.codes[..] {
            [Codes::Whole(numbers)] => numbers.narrow().unwrap_or_default(),
            _ => &[],
        }
    }

    /// The numbers of the only key, and their codes in their order; `None` for other keys, and numbers of more than 64
    /// bits.
    pub(super) fn numbers_in_order(&self) -> Option<(&[i64], Vec<u32>)> {
        match &self.codes[..] {
            [Codes::Whole(numbers)] => Some((numbers.narrow()?, numbers.ordered())),
            _ => None,
        }
    }

    /// Whether the numbers of the only key have come in no order.
    pub(super) fn is_in_no_order(&self) -> bool {
        let numbers = self.numbers();
        let steps_back = numbers.windows(2).filter(|pair| pair[1] < pair[0]).count();
        steps_back > numbers.len() / 16
    }

    /// About how many bytes of memory the codes take; texts are their column's.
    pub(super) fn size_bytes(&self) -> usize {
        let of_codes = |codes: &Codes| match codes {
            Codes::Text(_) => 0,
            Codes::Whole(numbers) => numbers.size_bytes(),
        };
        self.codes.iter().map(of_codes).sum::<usize>()
            + self.pairs.iter().map(Pairs::size_bytes).sum::<usize>()
    }

    /// How many groups there are, group 0 included. Some may have no rows.
    pub(crate) fn groups(&self) -> usize {
        1 + match (self.pairs.last(), self.codes.first()) {
            (Some(pairs), _) => pairs.len(),
            (None, Some(codes)) => codes.len().max(1 + self.texts),
            (None, None) => 1,
        }
    }

    /// The group of each row, counted from 1; new ones are added. Missing keys make a group, as other values do.
    pub(crate) fn number(&mut self, keys: &[&Column], rows: usize, out: &mut Vec<u32>) {
        let Some((first, rest)) = keys.split_first() else {
            out.clear();
            out.resize(rows, 1);
            return;
        };
        self.codes[0].of(first, out);
        // The column may know texts that the worker does not: they bound the codes.
        let mut bound = self.codes[0].len().max(first.dictionary.len() + 1);
        for (i, key) in rest.iter().enumerate() {
            let mut codes = std::mem::take(&mut self.scratch);
            self.codes[i + 1].of(key, &mut codes);
            let pairs = &mut self.pairs[i];
            if self.lists && i + 1 == rest.len() {
                pairs.list(out, &codes);
            } else {
                pairs.ensure(bound, self.codes[i + 1].len().max(key.dictionary.len() + 1));
                pairs.number_all(out, &codes);
            }
            bound = pairs.len();
            self.scratch = codes;
        }
        for number in out.iter_mut() {
            *number += 1;
        }
        // Where it is the only one, group numbers are the codes themselves: the count of groups must keep up.
        self.texts = self.texts.max(first.dictionary.len());
    }

    /// For each group from `from` on (group 0 counted) the group of another grouper over the
    /// same keys that has its values; 0 where that has none. The texts are those of the key columns.
    pub(crate) fn locate(
        &self,
        other: &mut Grouper,
        keys: &[&Column],
        from: usize,
        out: &mut Vec<u32>,
    ) {
        for group in from..self.groups() {
            let Some(number) = (group as u32).checked_sub(1) else {
                out.push(0);
                continue;
            };
            let mut codes = vec![0u32; self.codes.len()];
            let mut rest = number;
            for depth in (1..self.codes.len()).rev() {
                (rest, codes[depth]) = self.pairs[depth - 1].pairs()[rest as usize];
            }
            if let Some(first) = codes.first_mut() {
                *first = rest;
            }
            let mut found = Some(0);
            for (depth, &code) in codes.iter().enumerate() {
                let there = match (&self.codes[depth], &mut other.codes[depth]) {
                    _ if code == 0 => Some(0),
                    (Codes::Text(_), Codes::Text(d)) => {
                        d.find(keys[depth].dictionary.text(code - 1).as_bytes()).map(|c| c + 1)
                    }
                    (Codes::Whole(i), Codes::Whole(theirs)) => {
                        Some(1 + theirs.intern_wide(i.value(code - 1)))
                    }
                    _ => None,
                };
                found = match (depth, found, there) {
                    (0, _, there) => there,
                    (_, Some(number), Some(code)) => other.pairs[depth - 1].find(number, code),
                    _ => None,
                };
            }
            out.push(found.map_or(0, |n| n + 1));
        }
    }

    /// The group of a tuple of codes, counted from 1; it is added when it is new.
    pub(crate) fn add(&mut self, tuple: &[u32]) -> u32 {
        let Some((&first, rest)) = tuple.split_first() else { return 1 };
        let (mut number, mut bound) = (first, self.codes[0].len());
        for (i, &code) in rest.iter().enumerate() {
            self.pairs[i].ensure(bound, self.codes[i + 1].len());
            number = self.pairs[i].number(number, code);
            bound = self.pairs[i].len();
        }
        number + 1
    }

    /// Takes over the dictionaries of the key columns, once the worker is done.
    pub(crate) fn finish(&mut self, keys: &[&Column]) {
        for (codes, key) in self.codes.iter_mut().zip(keys) {
            codes.take_dictionary(key);
        }
    }

    /// Takes in another worker's groups: the group that each of its groups is here.
    pub(crate) fn absorb(&mut self, other: &Grouper) -> Vec<u32> {
        let Some(Renumbered { mut before, last }) = self.absorb_keys(other) else {
            return vec![0, 1];
        };
        if let (Some(mine), Some(pairs), Some(codes)) =
            (self.pairs.last_mut(), other.pairs.last(), last)
        {
            before = renumbered(mine, pairs, &before, &codes);
        }
        std::iter::once(0).chain(before.into_iter().map(|n| n + 1)).collect()
    }

    /// Takes in the values of another worker's keys, and its groups of all keys but the last; `None` without a key.
    pub(super) fn absorb_keys(&mut self, other: &Grouper) -> Option<Renumbered> {
        let both = self.codes.iter_mut().zip(&other.codes);
        let mut maps: Vec<Vec<u32>> = both.map(|(mine, theirs)| mine.absorb(theirs)).collect();
        let last = (maps.len() > 1).then(|| maps.pop()).flatten();
        let mut maps = maps.into_iter();
        let (mut before, mut bound) = (maps.next()?, self.codes[0].len());
        for (i, mine) in self.pairs.iter_mut().enumerate() {
            mine.ensure(bound, self.codes[i + 1].len());
            if let Some(codes) = maps.next() {
                before = renumbered(mine, &other.pairs[i], &before, &codes);
            }
            bound = mine.len();
        }
        Some(Renumbered { before, last })
    }

    /// The pairs that the last key makes with the keys before it; `None` where there is no second key.
    pub(super) fn last_pairs(&self) -> Option<&Pairs> {
        self.pairs.last()
    }

    /// Whether rows that come have groups of their own.
    pub(super) fn lists(&self) -> bool {
        self.lists
    }

    /// From now on rows have groups of their own, or are found theirs again; there is no group of all keys yet.
    pub(super) fn set_lists(&mut self, lists: bool) {
        self.lists = lists;
    }

    /// Makes other pairs those of the last key with the keys before it, of which there is more than one.
    pub(super) fn set_last_pairs(&mut self, pairs: Pairs) {
        if let Some(last) = self.pairs.last_mut() {
            *last = pairs;
        }
    }

    /// Writes the groups down.
    pub(crate) fn encode(&self, to: &mut Encoder) {
        self.codes.iter().for_each(|codes| codes.encode(to));
        for pairs in &self.pairs {
            to.count(pairs.len());
            for &(number, code) in pairs.pairs() {
                to.unsigned(u128::from(number));
                to.unsigned(u128::from(code));
            }
        }
    }

    /// Reads groups that were written down, over keys of these kinds; the values of each are multiplied as is said.
    pub(crate) fn decode(
        kinds: impl Iterator<Item = Kind>,
        from: &mut Decoder<'_>,
    ) -> Result<Grouper, Damaged> {
        let mut it = Grouper::new(kinds);
        for (key, codes) in it.codes.iter_mut().enumerate() {
            codes.decode(from, key)?;
        }
        let mut bound = it.codes.first().map_or(0, Codes::len);
        for (pairs, codes) in it.pairs.iter_mut().zip(it.codes.iter().skip(1)) {
            pairs.ensure(bound, codes.len());
            for expected in 0..from.count()? {
                let number = pairs.number(from.code(bound)?, from.code(codes.len())?);
                if number as usize != expected {
                    return Err(Damaged);
                }
            }
            bound = pairs.len();
        }
        Ok(it)
    }

    /// The code of each key for each group, group 0 left out.
    pub(crate) fn key_codes(&self) -> Vec<Sequence> {
        let n = self.codes.len();
        if n == 0 {
            return Vec::new();
        }
        if n == 1 {
            return vec![Sequence::counted(self.codes[0].len())];
        }
        let mut columns = vec![Sequence::counted(0); n];
        let mut numbers: Vec<u32> = (0..self.pairs[n - 2].len() as u32).collect();
        for depth in (1..n).rev() {
            let pairs = self.pairs[depth - 1].pairs();
            columns[depth] = numbers.iter().map(|&p| pairs[p as usize].1).collect();
            numbers = numbers.iter().map(|&p| pairs[p as usize].0).collect();
        }
        columns[0] = Sequence::Listed(numbers);
        columns
    }
}

const _: () = assert!(MISSING_CODE == u32::MAX);

#[cfg(test)]
mod tests {
    use super::*;
    use oeuvre_columns::value::Value;
    use proptest::prelude::*;
    use std::collections::{BTreeMap, BTreeSet};

    const KINDS: [Kind; 2] = [Kind::Text, Kind::Number { scale: 0 }];
    type Row = (Option<u8>, Option<i64>);

    fn columns(rows: &[Row]) -> [Column; 2] {
        let text = |r: &Row| r.0.map_or(Value::Missing, |t| Value::Text(format!("t{t}").into()));
        let number = |r: &Row| {
            let decimal = |n| Value::Number(oeuvre_columns::Decimal::new(i128::from(n), 0));
            r.1.map_or(Value::Missing, decimal)
        };
        [
            Column::from_values(KINDS[0], &rows.iter().map(text).collect::<Vec<_>>()),
            Column::from_values(KINDS[1], &rows.iter().map(number).collect::<Vec<_>>()),
        ]
    }

    /// A worker's groups, and the number of each row.
    fn numbered(rows: &[Row]) -> (Grouper, Vec<u32>) {
        let (mut grouper, mut numbers) = (Grouper::new(KINDS.into_iter()), Vec::new());
        let columns = columns(rows);
        let keys = [&columns[0], &columns[1]];
        grouper.number(&keys, rows.len(), &mut numbers);
        grouper.finish(&keys);
        (grouper, numbers)
    }

    /// The labels of each group, counted from 1.
    fn labels(grouper: &Grouper) -> Vec<[String; 2]> {
        let codes = grouper.key_codes();
        let column = |key: usize| grouper.codes[key].column(KINDS[key], codes[key].iter());
        let both = [column(0), column(1)];
        (0..codes[0].len())
            .map(|g| [0, 1].map(|k| both[k].value(KINDS[k], g).to_string()))
            .collect()
    }

    fn row() -> impl Strategy<Value = Row> {
        (proptest::option::of(0u8..4), proptest::option::of(-3i64..3))
    }

    proptest! {
        #[test]
        fn rows_are_in_one_group_where_all_their_keys_are_the_same(
            first in proptest::collection::vec(row(), 1..20), second in proptest::collection::vec(row(), 1..20),
        ) {
            let (mut merged, mut numbers) = numbered(&first);
            let (other, theirs) = numbered(&second);
            let map = merged.absorb(&other);
            numbers.extend(theirs.iter().map(|&n| map[n as usize]));
            let rows: Vec<Row> = first.into_iter().chain(second).collect();
            let groups: BTreeSet<Row> = rows.iter().copied().collect();
            let of_rows: BTreeMap<Row, u32> = rows.iter().copied().zip(numbers.iter().copied()).collect();
            prop_assert!(rows.iter().zip(&numbers).all(|(row, number)| of_rows[row] == *number));
            prop_assert_eq!(of_rows.values().collect::<BTreeSet<_>>().len(), groups.len());
            prop_assert!(numbers.iter().all(|&n| n >= 1 && (n as usize) < merged.groups()));
            let labels = labels(&merged);
            for (row, &number) in rows.iter().zip(&numbers) {
                let text = row.0.map_or(String::new(), |t| format!("t{t}"));
                let whole = row.1.map_or(String::new(), |n| n.to_string());
                prop_assert_eq!(&labels[number as usize - 1], &[text, whole]);
            }
            // Ranks put the codes of a key in label order, missing last.
            let ranks = merged.codes[1].ranks();
            let mut by_rank: Vec<u32> = (0..merged.codes[1].len() as u32).collect();
            by_rank.sort_by_key(|&c| ranks.of(c));
            let ordered = merged.codes[1].column(KINDS[1], by_rank.iter().copied());
            let values: Vec<Value> = (0..by_rank.len()).map(|c| ordered.value(KINDS[1], c)).collect();
            prop_assert!(values.is_sorted_by(|a, b| a.label_order(b).is_le()), "{:?}", values);
        }
    }

    #[test]
    fn a_group_is_found_by_its_labels_in_another_grouper() {
        let rows = [(Some(1), Some(5)), (None, Some(5)), (Some(2), None)];
        let (here, _) = numbered(&rows[..2]);
        let (mut there, _) = numbered(&[rows[2], rows[0]]);
        let (columns, mut found) = (columns(&rows), Vec::new());
        here.locate(&mut there, &[&columns[0], &columns[1]], 0, &mut found);
        assert_eq!(found, [0, 2, 0]); // group 0, the first row's, and one that the other does not have
    }
}
