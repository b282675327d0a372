//! Putting cells or rows in order by several columns at once.
//!
//! Each column becomes one whole number a cell that sorts as its values do ([`Ordinals`]), and the numbers are
//! sorted digit by digit, from the last column to the first. That is stable, so that what the columns leave open
//! keeps its order; it needs no comparison, and its time grows with the cells alone. Where partition and value
//! fit one word together, they are sorted as that ([`Packed`]).
//!
//! If you change how a kind sorts, change [`Ordinals::of`] with `Value::label_order`: a test compares them.

use oeuvre_columns::column::dictionary::MISSING_CODE;
use oeuvre_columns::column::digits::{FEW, sorted_by_digits, width};
use oeuvre_columns::column::far::gathered;
use oeuvre_columns::column::label_order;
use oeuvre_columns::column::{Column, Data};

/// A column as numbers that sort as its values do; missing values come last.
#[derive(Clone, Debug)]
pub(crate) struct Ordinals {
    values: Numbers,
    /// No number is larger.
    pub(crate) largest: u64,
}

/// The numbers, in half the memory where all fit.
#[derive(Clone, Debug)]
pub(crate) enum Numbers {
    Short(Vec<u32>),
    Long(Vec<u64>),
}

/// Runs an expression on the list of numbers, whichever it is.
macro_rules! on_numbers {
    ($ordinals:expr, $values:ident => $body:expr) => {
        match $ordinals.numbers() {
            $crate::window::order::Numbers::Short($values) => $body,
            $crate::window::order::Numbers::Long($values) => $body,
        }
    };
}
pub(crate) use on_numbers;

/// The ordinal of missing values, where the column has any.
fn missing_after(largest: u64) -> u64 {
    largest + 1
}

impl Ordinals {
    /// Of numbers of which none is larger than one.
    pub(crate) fn new(values: impl Iterator<Item = u64>, largest: u64) -> Ordinals {
        let values = match u32::try_from(largest) {
            Ok(_) => Numbers::Short(values.map(|value| value as u32).collect()),
            Err(_) => Numbers::Long(values.collect()),
        };
        Ordinals { values, largest }
    }

    /// Of no cells.
    pub(crate) fn none() -> Ordinals {
        Ordinals { values: Numbers::Short(Vec::new()), largest: 0 }
    }

    /// Numbers that sort already.
    pub(crate) fn of_codes(values: impl Iterator<Item = u32>) -> Ordinals {
        let values: Vec<u32> = values.collect();
        let largest = values.iter().copied().max().unwrap_or(0).into();
        Ordinals { values: Numbers::Short(values), largest }
    }

    /// The number of each cell.
    pub(crate) fn numbers(&self) -> &Numbers {
        &self.values
    }

    /// The number of a cell.
    #[inline]
    pub(crate) fn of_cell(&self, cell: u32) -> u64 {
        match &self.values {
            Numbers::Short(values) => u64::from(values[cell as usize]),
            Numbers::Long(values) => values[cell as usize],
        }
    }

    /// The numbers in 32 bits, where they fit; else all as it was.
    pub(crate) fn into_short(self) -> Result<Vec<u32>, Ordinals> {
        match self.values {
            Numbers::Short(values) => Ok(values),
            Numbers::Long(_) => Err(self),
        }
    }

    /// Whether two cells have the same value.
    pub(crate) fn same(&self, a: u32, b: u32) -> bool {
        self.of_cell(a) == self.of_cell(b)
    }

    /// The numbers of a column; the largest values come first where `descending`, missing ones stay
    /// last.
    pub(crate) fn of(column: &Column, descending: bool) -> Ordinals {
        match &column.data {
            Data::I64(v) => near(v, |&x| (x != i64::MIN).then_some(x), descending),
            Data::I128(v) => whole(v.iter().map(|&x| (x != i128::MIN).then_some(x)), descending),
            Data::I32(v) => near(v, |&x| (x != i32::MIN).then_some(i64::from(x)), descending),
            Data::Bool(v) => whole(v.iter().map(|&x| (x < 2).then_some(i128::from(x))), descending),
            Data::F64(v) => whole(
                v.iter().map(|&x| {
                    (!x.is_nan()).then(|| i128::from(crate::aggregate::extremes::float_key(x)))
                }),
                descending,
            ),
            Data::Codes(v) => {
                let d = &column.dictionary;
                let mut places = vec![0i128; d.len()];
                let (mut place, mut last) = (0, None);
                for &code in &label_order::ordered(d) {
                    let is_same =
                        d.is_list() && last.is_some_and(|last| d.text(last) == d.text(code));
                    place += i128::from(!is_same);
                    places[code as usize] = place;
                    last = Some(code);
                }
                whole(
                    v.iter().map(|&c| (c != MISSING_CODE).then(|| places[c as usize])),
                    descending,
                )
            }
        }
    }
}

impl Ordinals {
    /// Whether the values of a column grow from each cell to the next one, so that no two are the same.
    pub(crate) fn are_grown(column: &Column) -> bool {
        fn grow<T: PartialOrd>(values: &[T]) -> bool {
            values.is_sorted_by(|a, b| a < b)
        }
        // What is missing is the least there is.
        match &column.data {
            Data::I64(v) => v.first().is_none_or(|&x| x != i64::MIN) && grow(v),
            Data::I32(v) => v.first().is_none_or(|&x| x != i32::MIN) && grow(v),
            _ => false,
        }
    }

    /// Those of some cells, in their order.
    pub(crate) fn gather(&self, cells: &[u32]) -> Ordinals {
        let values = match &self.values {
            Numbers::Short(values) => Numbers::Short(gathered(values, cells, self.largest as u32)),
            Numbers::Long(values) => Numbers::Long(gathered(values, cells, self.largest)),
        };
        Ordinals { values, largest: self.largest }
    }
}

/// How the numbers of a column that fits 64 bits follow from its values.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Span {
    low: i64,
    high: i64,
    descending: bool,
}

impl Span {
    /// Of some values; `None` where there are none, or where they lie as far apart as they can, so that a missing one has
    /// no number behind them.
    pub(crate) fn of(values: impl Iterator<Item = Option<i64>>, descending: bool) -> Option<Span> {
        let (mut low, mut high) = (i64::MAX, i64::MIN);
        for v in values.flatten() {
            (low, high) = (low.min(v), high.max(v));
        }
        let has_numbers = low <= high && high.wrapping_sub(low) as u64 != u64::MAX;
        has_numbers.then_some(Span { low, high, descending })
    }

    /// No number is larger: that of a missing value.
    pub(crate) fn largest(self) -> u64 {
        missing_after(self.high.wrapping_sub(self.low) as u64)
    }

    /// The number of a value.
    #[inline(always)]
    pub(crate) fn number(self, value: Option<i64>) -> u64 {
        match value {
            None => self.largest(),
            Some(v) if self.descending => self.high.wrapping_sub(v) as u64,
            Some(v) => v.wrapping_sub(self.low) as u64,
        }
    }
}

/// As [`whole`], of numbers in 64 bits.
fn near<T>(values: &[T], value: impl Fn(&T) -> Option<i64> + Copy, descending: bool) -> Ordinals {
    match Span::of(values.iter().map(value), descending) {
        Some(span) => Ordinals::new(values.iter().map(|v| span.number(value(v))), span.largest()),
        None => whole(values.iter().map(|v| value(v).map(i128::from)), descending),
    }
}

fn widened<T: Copy + Into<u64>>(value: &T) -> u64 {
    (*value).into()
}

fn whole(values: impl Iterator<Item = Option<i128>> + Clone, descending: bool) -> Ordinals {
    let (mut low, mut high) = (i128::MAX, i128::MIN);
    for v in values.clone().flatten() {
        low = low.min(v);
        high = high.max(v);
    }
    if low > high {
        return Ordinals::new(values.map(|_| 0), 0);
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
            Ordinals::new(values.map(one), missing)
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
            Ordinals::new(values.map(one), missing)
        }
    }
}

/// Cells in order by columns that fit one word together.
pub(crate) struct Packed {
    /// In order: the word, and behind it the cell.
    packed: Vec<u64>,
    cell_bits: u32,
}

impl Packed {
    /// The cells of each partition in order by a column; `None` when these do not fit. Partitions count
    /// up to `partitions`, which stands for no partition. The column is let go before the sorting, which
    /// needs as much memory again.
    pub(crate) fn new(partition: &[u32], partitions: u64, values: Ordinals) -> Option<Packed> {
        let cells = partition.len();
        let value_bits = width(values.largest);
        let bits = width(partitions) + value_bits;
        let cell_bits = width(cells.max(1) as u64 - 1);
        if bits + cell_bits > u64::BITS || cells < FEW {
            return None;
        }
        let pack = |(cell, (&p, v)): (usize, (&u32, u64))| {
            (u64::from(p).min(partitions) << value_bits | v) << cell_bits | cell as u64
        };
        let packed = on_numbers!(values, values => {
            partition.iter().zip(values.iter().map(widened)).enumerate().map(pack).collect()
        });
        drop(values);
        let packed = match bits {
            0 => packed,
            _ => sorted_by_digits(packed, |it: u64| it >> cell_bits, bits),
        };
        Some(Packed { packed, cell_bits })
    }

    /// Each cell with its word, in order.
    pub(crate) fn iter(&self) -> impl Iterator<Item = (u64, u32)> + '_ {
        let cells = (1u64 << self.cell_bits) - 1;
        self.packed.iter().map(move |it| (it >> self.cell_bits, (it & cells) as u32))
    }
}

/// The cells in order by some columns, the first counts most; what they leave open keeps its order.
pub(crate) fn sorted(cells: usize, by: &[&Ordinals]) -> Vec<u32> {
    // A column of one value alone decides nothing.
    let by: Vec<&Ordinals> = by.iter().copied().filter(|o| o.largest > 0).collect();
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
                .fold(0u64, |word, o| word << width(o.largest).min(63) | o.of_cell(cell as u32))
        };
        if bits > 0 {
            order = by_words(order, word, bits);
        }
        end = start;
    }
    order
}

fn by_words(order: Vec<u32>, word: impl Fn(usize) -> u64, bits: u32) -> Vec<u32> {
    // Word and cell in 64 bits, where they fit, are half as much to move.
    let cell_bits = width((order.len() as u64).saturating_sub(1));
    if bits + cell_bits <= u64::BITS {
        let cells = (1u64 << cell_bits) - 1;
        let packed =
            order.iter().map(|&cell| word(cell as usize) << cell_bits | u64::from(cell)).collect();
        let sorted = sorted_by_digits(packed, |it: u64| it >> cell_bits, bits);
        return sorted.into_iter().map(|it| (it & cells) as u32).collect();
    }
    let pairs: Vec<(u64, u32)> = order.iter().map(|&cell| (word(cell as usize), cell)).collect();
    sorted_by_digits(pairs, |it: (u64, u32)| it.0, bits).into_iter().map(|it| it.1).collect()
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
                Ordinals::new(values.into_iter(), largest)
            };
            let by = [column(|c| c.0), column(|c| c.1), column(|c| c.2)];
            let mut plain: Vec<u32> = (0..cells.len() as u32).collect();
            plain.sort_by_key(|&i| cells[i as usize]);
            prop_assert_eq!(sorted(cells.len(), &by.iter().collect::<Vec<_>>()), plain);
        }

        #[test]
        fn ordinals_sort_as_values_do(values in proptest::collection::vec(proptest::option::of(prop_oneof![-9i128..9, any::<i64>().prop_map(|v| i128::from(v.max(-i64::MAX))), any::<i128>().prop_map(|v| v >> 1)]), 1..60), narrow in any::<bool>(), descending in any::<bool>()) {
            let values: Vec<Option<i128>> = match narrow {
                true => values.into_iter().map(|v| v.map(|v| v.clamp(-i128::from(i64::MAX), i128::from(i64::MAX)))).collect(),
                false => values,
            };
            let column = match narrow {
                true => Column::from(Data::I64(values.iter().map(|v| v.map_or(i64::MIN, |v| v as i64)).collect())),
                false => Column::from(Data::I128(values.iter().map(|v| v.unwrap_or(i128::MIN)).collect())),
            };
            let it = Ordinals::of(&column, descending);
            let cells = || values.iter().zip((0u32..).map(|cell| it.of_cell(cell)));
            for (a, x) in cells() {
                prop_assert!(x <= it.largest);
                for (b, y) in cells() {
                    let expected = match (a, b) {
                        (None, None) => std::cmp::Ordering::Equal,
                        (None, _) => std::cmp::Ordering::Greater,
                        (_, None) => std::cmp::Ordering::Less,
                        (a, b) if descending => b.cmp(a),
                        (a, b) => a.cmp(b),
                    };
                    prop_assert_eq!(x.cmp(&y), expected);
                }
            }
        }
    }
}
