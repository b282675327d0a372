//! Putting cells or rows in order by several columns at once.
//!
//! Each column becomes one whole number a cell that sorts as its values do, and the numbers are sorted
//! digit by digit, from the last column to the first. That is stable, so that what the columns leave
//! open keeps its order; it needs no comparison, and its time grows with the cells alone.

use crate::rows::column::{Column, Data};
use crate::rows::dictionary::MISSING_CODE;
use crate::value::text_order;

/// A column as numbers that sort as its values do; missing values come last.
#[derive(Clone, Debug)]
pub(crate) struct Ordinals {
    pub(crate) values: Vec<u64>,
    /// No number is larger.
    pub(crate) largest: u64,
}

/// The ordinal of missing values, where the column has any.
fn missing_after(largest: u64) -> u64 {
    largest + 1
}

impl Ordinals {
    /// Numbers that sort already.
    pub(crate) fn of_codes(values: impl Iterator<Item = u32>) -> Ordinals {
        let values: Vec<u64> = values.map(u64::from).collect();
        let largest = values.iter().copied().max().unwrap_or(0);
        Ordinals { values, largest }
    }

    /// The numbers of a column; the largest values come first where `descending`, missing ones stay
    /// last.
    pub(crate) fn of(column: &Column, descending: bool) -> Ordinals {
        match &column.data {
            Data::I64(v) => {
                whole(v.iter().map(|&x| (x != i64::MIN).then_some(i128::from(x))), descending)
            }
            Data::I128(v) => whole(v.iter().map(|&x| (x != i128::MIN).then_some(x)), descending),
            Data::I32(v) => {
                whole(v.iter().map(|&x| (x != i32::MIN).then_some(i128::from(x))), descending)
            }
            Data::Bool(v) => whole(v.iter().map(|&x| (x < 2).then_some(i128::from(x))), descending),
            Data::F64(v) => whole(
                v.iter().map(|&x| {
                    (!x.is_nan()).then(|| i128::from(crate::aggregate::extremes::float_key(x)))
                }),
                descending,
            ),
            Data::Codes(v) => {
                let d = &column.dictionary;
                let mut codes: Vec<u32> = (0..d.len() as u32).collect();
                codes.sort_by(|&a, &b| text_order(d.text(a), d.text(b)));
                let mut places = vec![0i128; d.len()];
                codes.iter().enumerate().for_each(|(i, &c)| places[c as usize] = i as i128);
                whole(
                    v.iter().map(|&c| (c != MISSING_CODE).then(|| places[c as usize])),
                    descending,
                )
            }
        }
    }
}

fn whole(values: impl Iterator<Item = Option<i128>> + Clone, descending: bool) -> Ordinals {
    let (mut low, mut high) = (i128::MAX, i128::MIN);
    for v in values.clone().flatten() {
        low = low.min(v);
        high = high.max(v);
    }
    if low > high {
        return Ordinals { values: values.map(|_| 0).collect(), largest: 0 };
    }
    match high.checked_sub(low).and_then(|span| u64::try_from(span).ok()).filter(|s| *s < u64::MAX)
    {
        Some(span) => {
            let missing = missing_after(span);
            let one = |v: Option<i128>| match v {
                None => missing,
                Some(v) if descending => (high - v) as u64,
                Some(v) => (v - low) as u64,
            };
            Ordinals { values: values.map(one).collect(), largest: missing }
        }
        // Too far apart for 64 bits: their places among each other serve as well.
        None => {
            let mut distinct: Vec<i128> = values.clone().flatten().collect();
            distinct.sort_unstable();
            distinct.dedup();
            let last = distinct.len() as u64 - 1;
            let missing = missing_after(last);
            let one = |v: Option<i128>| match v {
                None => missing,
                Some(v) => {
                    let place = distinct.partition_point(|d| *d < v) as u64;
                    if descending { last - place } else { place }
                }
            };
            Ordinals { values: values.map(one).collect(), largest: missing }
        }
    }
}

/// Bits sorted in one pass: a table of 2048 counts stays in the nearest cache.
const DIGIT_BITS: u32 = 11;

/// The cells in order by some columns, the first counts most; what they leave open keeps its order.
pub(crate) fn sorted(cells: usize, by: &[&Ordinals]) -> Vec<u32> {
    // Neighbouring columns share a word while they fit, which saves passes over the cells.
    let mut order: Vec<u32> = (0..cells as u32).collect();
    let mut end = by.len();
    while end > 0 {
        let mut start = end;
        let mut bits = 0;
        while start > 0 && bits + width(by[start - 1].largest) <= u64::BITS {
            bits += width(by[start - 1].largest);
            start -= 1;
        }
        let word = |cell: usize| {
            by[start..end]
                .iter()
                .fold(0u64, |word, o| word << width(o.largest).min(63) | o.values[cell])
        };
        if bits > 0 {
            order = by_words(order, word, bits);
        }
        end = start;
    }
    order
}

fn width(largest: u64) -> u32 {
    u64::BITS - largest.leading_zeros()
}

fn by_words(order: Vec<u32>, word: impl Fn(usize) -> u64, bits: u32) -> Vec<u32> {
    let mut now: Vec<(u64, u32)> = order.iter().map(|&cell| (word(cell as usize), cell)).collect();
    if now.len() < 1 << DIGIT_BITS {
        now.sort_by_key(|it| it.0);
        return now.into_iter().map(|it| it.1).collect();
    }
    let mut next = vec![(0u64, 0u32); now.len()];
    let mut shift = 0;
    while shift < bits {
        let mask = (1u64 << DIGIT_BITS) - 1;
        let digit = |word: u64| (word >> shift & mask) as usize;
        let mut places = vec![0usize; 1 << DIGIT_BITS];
        now.iter().for_each(|it| places[digit(it.0)] += 1);
        let mut at = 0;
        for place in &mut places {
            at += std::mem::replace(place, at);
        }
        for it in &now {
            let place = &mut places[digit(it.0)];
            next[*place] = *it;
            *place += 1;
        }
        std::mem::swap(&mut now, &mut next);
        shift += DIGIT_BITS;
    }
    now.into_iter().map(|it| it.1).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn the_order_is_that_of_a_stable_sort(
            cells in proptest::collection::vec((0u64..4, prop_oneof![0u64..9, any::<u64>()], any::<u64>()), 0..200),
            many in any::<bool>(),
        ) {
            let cells: Vec<_> = if many { cells.iter().cycle().take(cells.len() * 40).copied().collect() } else { cells };
            let column = |f: fn(&(u64, u64, u64)) -> u64| {
                let values: Vec<u64> = cells.iter().map(f).collect();
                let largest = values.iter().copied().max().unwrap_or(0);
                Ordinals { values, largest }
            };
            let by = [column(|c| c.0), column(|c| c.1), column(|c| c.2)];
            let mut plain: Vec<u32> = (0..cells.len() as u32).collect();
            plain.sort_by_key(|&i| cells[i as usize]);
            prop_assert_eq!(sorted(cells.len(), &by.iter().collect::<Vec<_>>()), plain);
        }

        #[test]
        fn ordinals_sort_as_values_do(values in proptest::collection::vec(proptest::option::of(prop_oneof![-9i128..9, any::<i128>().prop_map(|v| v >> 1)]), 1..60), descending in any::<bool>()) {
            let column = Column::from(Data::I128(values.iter().map(|v| v.unwrap_or(i128::MIN)).collect()));
            let it = Ordinals::of(&column, descending);
            for (a, x) in values.iter().zip(&it.values) {
                prop_assert!(*x <= it.largest);
                for (b, y) in values.iter().zip(&it.values) {
                    let expected = match (a, b) {
                        (None, None) => std::cmp::Ordering::Equal,
                        (None, _) => std::cmp::Ordering::Greater,
                        (_, None) => std::cmp::Ordering::Less,
                        (a, b) if descending => b.cmp(a),
                        (a, b) => a.cmp(b),
                    };
                    prop_assert_eq!(x.cmp(y), expected);
                }
            }
        }
    }
}
