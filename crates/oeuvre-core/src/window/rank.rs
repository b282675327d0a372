//! `rank`: places among cells that are compared.
//!
//! The largest comes first unless `asc` is said. Equal values share a place or not as `ties` says; where they may
//! not, the order of the cells decides, and that is counted for the ledger. Many cells go a shorter way that
//! never looks a cell up again; a test compares both.
//!
//! ```
//! # use oeuvre_columns::{InMemory, Kind, Source};
//! # let rows = InMemory::from_texts(
//! #     &[("month", Kind::Text), ("fare", Kind::Number { scale: 2 })],
//! #     &[
//! #         &["2025-01", "10.00"],
//! #         &["2025-02", "15.00"],
//! #         &["2025-04", "12.00"],
//! #     ],
//! # )?;
//! use oeuvre_core::{Plan, Request, run};
//!
//! // month, fare: 2025-01 10.00; 2025-02 15.00; 2025-04 12.00
//! let request = Request::of(&["month"], &["rank(sum(fare))"]);
//! let plan = Plan::new(&request, rows.columns())?;
//! let (table, _) = run(&plan, &rows, 1)?;
//! let shown: Vec<String> = (0..table.lines.len()).map(|line| table.cell(line, 0).to_string()).collect();
//! assert_eq!(shown, ["3", "1", "2"]);
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

use super::order::{Ordinals, Packed, Span, on_numbers, sorted};
use super::places::{Counted, NO_PLACE, at, value, widened};
use super::{
    Cells, Compared, Compares, Places, Said, Ties, partition_bound, partition_ordinals, runs,
};
use oeuvre_columns::Kind;
use oeuvre_columns::column::digits::width;
use oeuvre_columns::column::far::Scattered;
use oeuvre_columns::column::{Column, Data, MISSING_I64};

/// The place of a value; missing values have none.
#[derive(PartialEq, Eq, Hash)]
pub(crate) struct Rank(pub(crate) Ties);

impl Compares for Rank {
    fn result(&self, _: Kind) -> Kind {
        Kind::Number { scale: u8::from(self.0 == Ties::Mean) }
    }

    fn work_out(&self, cells: &Cells<'_>) -> Compared {
        rank(cells.x, cells.partition, cells.position, cells.ascending, self.0)
    }

    fn said(&self, said: &Said) -> String {
        let ties = match self.0 {
            Ties::Gap => "equal ones share a place and as many are left out after it",
            Ties::Close => "equal ones share a place and none is left out",
            Ties::Apart => {
                "equal ones have places of their own, in the order of the lines; the ledger counts them"
            }
            Ties::Mean => "equal ones share the mean of their places",
        };
        let Said { of, among, column, way, .. } = said;
        format!("place of {of} among {among}{column}, {way} first; {ties}")
    }
}

/// The place of each cell's value in its partition, the first in `ascending` or descending order.
/// Missing values have none. Equal values that need different places take them in the order of
/// `position`.
fn rank(
    x: &Column,
    partition: &[u32],
    position: &Ordinals,
    ascending: bool,
    ties: Ties,
) -> Compared {
    let decides = position.largest > 0;
    let partitions = if decides { 0 } else { partition_bound(partition) };
    // Whole numbers are counted as they stand.
    if let (false, Data::I64(v)) = (decides, &x.data)
        && let Some(span) = Span::of(v.iter().map(value), !ascending)
    {
        let numbers = v.iter().map(|v| span.number(value(v)) as usize);
        match counted(partition, partitions, (span.largest(), numbers.clone()), ties) {
            // Where each place is taken once, who comes first has it.
            Some(counts) if ties == Ties::Apart => return counts.taken(partition, numbers),
            Some(Counts { places, each, .. }) => {
                let places = Places::Counted(Counted { places, each, span });
                return Compared { places, ties_broken: 0 };
            }
            None => {}
        }
    }
    let mut values = Ordinals::of(x, !ascending);
    if !decides {
        let largest = values.largest;
        let ranked = on_numbers!(values, values => {
            let numbers = values.iter().map(|v| *v as usize);
            let counts = counted(partition, partitions, (largest, numbers.clone()), ties);
            counts.map(|counts| counts.taken(partition, numbers))
        });
        if let Some(ranked) = ranked {
            return ranked;
        }
        if let Some(packed) = Packed::new(partition, partitions, values) {
            return rank_packed(&packed, partitions, largest, partition.len(), ties);
        }
        values = Ordinals::of(x, !ascending);
    }
    let order = sorted(partition.len(), &[&partition_ordinals(partition), &values, position]);
    let mut out = vec![MISSING_I64; partition.len()];
    let mut ties_broken = 0;
    for run in runs(&order, partition) {
        let (mut before, mut dense) = (0i64, 0i64);
        for equal in run.chunk_by(|&a, &b| values.same(a, b)) {
            if x.data.is_missing(equal[0] as usize) {
                break;
            }
            let n = equal.len() as i64;
            dense += 1;
            for (i, &cell) in equal.iter().enumerate() {
                out[cell as usize] = match ties {
                    Ties::Gap => before + 1,
                    Ties::Close => dense,
                    Ties::Apart => before + 1 + i as i64,
                    // One digit after the point: the mean of whole numbers in a row ends in .0 or .5.
                    Ties::Mean => (2 * before + 1 + n) * 5,
                };
            }
            if ties == Ties::Apart && n > 1 {
                ties_broken += n as u64;
            }
            before += n;
        }
    }
    Compared::made(out, ties_broken)
}

/// The places of many cells with few values, by partition and number of the value: how many have each says them, and none
/// is put in order.
struct Counts {
    places: Vec<u32>,
    /// How many numbers a partition has.
    each: usize,
    ties: Ties,
    ties_broken: u64,
}

/// Counts the values of each partition; `None` where they are not few, or have places beyond 32 bits.
fn counted(
    partition: &[u32],
    partitions: u64,
    (largest, numbers): (u64, impl Iterator<Item = usize>),
    ties: Ties,
) -> Option<Counts> {
    /// So many counts stay in a near cache.
    const MOST: usize = 1 << 20;
    let missing = usize::try_from(largest).ok()?;
    let each = missing.checked_add(1)?;
    let all = each.checked_mul(usize::try_from(partitions).ok()?)?;
    if all > MOST || all > partition.len() / 4 {
        return None;
    }
    let mut counts = vec![0; all];
    for (&p, v) in partition.iter().zip(numbers) {
        if let Some(count) = counts.get_mut(at(p, each, v)) {
            *count += 1;
        }
    }
    let mut ties_broken = 0;
    for counts in counts.chunks_mut(each) {
        let (mut before, mut dense) = (0, 0);
        for count in &mut counts[..missing] {
            let n = u64::from(*count);
            dense += u64::from(n > 0);
            let place = match ties {
                Ties::Gap | Ties::Apart => before + 1,
                Ties::Close => dense,
                Ties::Mean => (2 * before + 1 + n) * 5,
            };
            *count = u32::try_from(place).ok().filter(|place| *place != NO_PLACE)?;
            ties_broken += if ties == Ties::Apart && n > 1 { n } else { 0 };
            before += n;
        }
        counts[missing] = NO_PLACE;
    }
    Some(Counts { places: counts, each, ties, ties_broken })
}

impl Counts {
    /// The place of each cell, of which the next one has the next where equal ones have places of their own.
    fn taken(mut self, partition: &[u32], numbers: impl Iterator<Item = usize>) -> Compared {
        let is_apart = self.ties == Ties::Apart;
        let place = |(&p, v): (&u32, usize)| match self.places.get_mut(at(p, self.each, v)) {
            Some(next) => {
                let place = *next;
                *next += u32::from(is_apart && place != NO_PLACE);
                widened(place)
            }
            None => MISSING_I64,
        };
        let places = partition.iter().zip(numbers).map(place).collect();
        Compared::made(places, self.ties_broken)
    }
}

/// As [`rank`], of many cells whose partition and value fit one word: read in order, they are never looked
/// up again, which would cost more than the sorting.
fn rank_packed(
    packed: &Packed,
    partitions: u64,
    largest: u64,
    cells: usize,
    ties: Ties,
) -> Compared {
    let mut out = Scattered::new(cells, MISSING_I64);
    let mut ties_broken = 0;
    let value_bits = width(largest);
    let (mut partition, mut word) = (u64::MAX, u64::MAX);
    // Cells of the partition before the equal ones, distinct values so far, equal ones so far.
    let (mut before, mut dense) = (0i64, 0i64);
    let mut equal: Vec<u32> = Vec::new();
    let mut settle = |equal: &mut Vec<u32>, before: i64| {
        let n = equal.len() as i64;
        if ties == Ties::Apart && n > 1 {
            ties_broken += n as u64;
        }
        n + before
    };
    for (next, cell) in packed.iter() {
        if next != word {
            before = settle(&mut equal, before);
            if ties == Ties::Mean {
                let place = (2 * before + 1 - equal.len() as i64) * 5;
                equal.iter().for_each(|&c| out.put(c, place));
            }
            equal.clear();
            if next >> value_bits != partition {
                (partition, before, dense) = (next >> value_bits, 0, 0);
            }
            word = next;
            dense += 1;
        }
        let value = next & ((1u64 << value_bits) - 1);
        // The largest numbers stand for cells that take no part, and for missing values.
        if value == largest || partition == partitions {
            continue;
        }
        let place = match ties {
            Ties::Gap | Ties::Mean => before + 1,
            Ties::Close => dense,
            Ties::Apart => before + 1 + equal.len() as i64,
        };
        out.put(cell, place);
        equal.push(cell);
    }
    before = settle(&mut equal, before);
    if ties == Ties::Mean {
        let place = (2 * before + 1 - equal.len() as i64) * 5;
        equal.iter().for_each(|&c| out.put(c, place));
    }
    Compared::made(out.finish(), ties_broken)
}

#[cfg(test)]
mod tests {
    use super::*;
    use oeuvre_columns::column::NO_NUMBER;
    use proptest::prelude::*;

    proptest! {
        #![proptest_config(ProptestConfig { cases: 40, ..ProptestConfig::default() })]

        #[test]
        fn many_cells_have_the_places_that_few_would_have(
            seed in proptest::collection::vec((0u32..4, prop_oneof![5 => -3i64..9, 1 => Just(MISSING_I64)]), 50..90),
            ascending in any::<bool>(),
            shift in prop_oneof![Just(0), Just(22), Just(58)],
        ) {
            // As many cells as the short way takes, with ties all over.
            let cells: Vec<(u32, i64)> = (0..3000).map(|i| seed[(i * i + i / 7) % seed.len()]).collect();
            let partition: Vec<u32> =
                cells.iter().map(|c| if c.0 == 3 { NO_NUMBER } else { c.0 }).collect();
            // Few values are counted, values further apart packed, and those that need more bits than a word has
            // go the long way.
            let spread = |v: i64| if v == MISSING_I64 { v } else { v << shift };
            let x = Column::from(Data::I64(cells.iter().map(|c| spread(c.1)).collect()));
            let none = Ordinals::none();
            let place = Ordinals::of_codes(0..cells.len() as u32);
            for (_, ties) in Ties::ALL {
                let short = rank(&x, &partition, &none, ascending, ties);
                let long = rank(&x, &partition, &place, ascending, ties);
                prop_assert_eq!(short.ties_broken, long.ties_broken);
                let given = Cells { x: &x, partition: &partition, position: &none, ascending };
                let [short, long] = [short, long].map(|ranked| ranked.column(&given));
                for cell in 0..cells.len() {
                    let kind = oeuvre_columns::Kind::Number { scale: 0 };
                    prop_assert_eq!(short.value(kind, cell), long.value(kind, cell));
                }
            }
        }
    }
}
