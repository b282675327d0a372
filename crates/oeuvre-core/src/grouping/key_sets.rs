//! The keys, and longer periods of keys, at which results are asked for, and groups taken together by them.
//!
//! A word with `within`, a total, and an aggregate with `per` all ask for groups at some of the keys; what they
//! ask for is listed here once, from the plan, so that each set is rolled up once.

use super::rollup::{Members, Rollup};
use crate::plan::Plan;
use crate::plan::{Reference, TableInput, Window};
use crate::window::Calc;
use crate::window::Layout;
use oeuvre_columns::column::Data;
use oeuvre_columns::column::NO_NUMBER;
use oeuvre_columns::column::interner::Pairs;
use oeuvre_columns::value::Kind;
use oeuvre_columns::value::calendar::{Period, Unit};

/// A level of the table: how many keys down the side and along the top its cells have.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(crate) struct Depths {
    pub(crate) by: usize,
    pub(crate) across: usize,
}

/// Keys, and longer periods of keys, at which a result may be asked for.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct KeySet {
    pub(crate) keys: Vec<usize>,
    pub(crate) periods: Vec<(usize, Unit)>,
}

impl KeySet {
    /// The keys and periods among some references.
    pub(crate) fn of(references: &[Reference]) -> KeySet {
        let period = |r: &Reference| match r {
            Reference::Period { key, unit } => Some((*key, *unit)),
            _ => None,
        };
        KeySet {
            keys: keys_of(references),
            periods: references.iter().filter_map(period).collect(),
        }
    }
}

/// The sets of keys at which a result may be asked for.
pub(crate) fn key_sets(plan: &Plan) -> Vec<KeySet> {
    let keys = plan.keys().len();
    let by = plan.by_keys;
    let mut sets: Vec<KeySet> = Vec::new();
    for i in 0..=by {
        for j in 0..=keys - by {
            let keys = keys_of_level(by, Depths { by: i, across: j });
            sets.push(KeySet { keys, periods: Vec::new() });
        }
    }
    let levels = sets.clone();
    for input in &plan.table_inputs {
        if let TableInput::Window(Window { calc: Calc::Total, within: Some(within), .. }) = input {
            let layouts = within.iter().filter_map(|r| match r {
                Reference::Layout(layout) => Some(*layout),
                _ => None,
            });
            let layouts: Vec<Layout> = layouts.collect();
            if layouts.is_empty() {
                sets.push(KeySet::of(within));
                continue;
            }
            // At each level other keys.
            for level in levels.clone() {
                let KeySet { mut keys, periods } = KeySet::of(within);
                keys.extend(layouts.iter().flat_map(|l| l.keys(&level.keys, by)));
                keys.sort_unstable();
                keys.dedup();
                sets.push(KeySet { keys, periods });
            }
        }
    }
    sets.sort();
    sets.dedup();
    sets
}

/// The groups of the table by longer periods of their keys.
pub(crate) struct ByPeriods {
    /// The number of each group.
    pub(crate) members: Members,
    /// For each period the code that the groups of each number share.
    pub(crate) codes: Vec<Vec<u32>>,
}

/// Takes the finest groups together by the longer periods that they lie in.
pub(crate) fn by_periods(plan: &Plan, finest: &Rollup<'_>, periods: &[(usize, Unit)]) -> ByPeriods {
    let codes: Vec<Vec<u32>> = periods
        .iter()
        .map(|&(key, unit)| period_codes(plan, finest, key, unit).unwrap_or_default())
        .collect();
    let numbers = Numbering::default().number(&codes, finest.groups);
    let of_group = finest.map.each().map(|cell| match cell.checked_sub(1) {
        Some(cell) => numbers[cell as usize],
        None => NO_NUMBER,
    });
    let count = numbers.iter().max().map_or(0, |m| *m as usize + 1);
    let members = Members { of_group: of_group.collect(), count };
    let of_numbers = codes.iter().map(|of_cell| {
        let mut of_number = vec![0; count];
        numbers.iter().zip(of_cell).for_each(|(&n, &c)| of_number[n as usize] = c);
        of_number
    });
    ByPeriods { members, codes: of_numbers.collect() }
}

/// The codes of the longer periods of a key, cell by cell; `None` where the key is not there.
pub(crate) fn period_codes(
    plan: &Plan,
    cells: &Rollup<'_>,
    key: usize,
    unit: Unit,
) -> Option<Vec<u32>> {
    if let Some((_, codes)) = cells.periods.iter().find(|p| p.0 == (key, unit)) {
        return Some(codes.clone());
    }
    cells.codes(key)?;
    let Kind::Period(fine) = plan.keys()[key].kind else { return None };
    let Data::I32(indexes) = &cells.labels_of(key).data else { return None };
    let code = |&index: &i32| match index {
        i32::MIN => 0,
        // Any one-to-one code that is not 0 serves.
        index => unit.of_day(Period { unit: fine, index }.first_day()) as u32 ^ 1 << 31,
    };
    Some(indexes.iter().map(code).collect())
}

/// The keys of a level.
pub(crate) fn keys_of_level(by_keys: usize, depths: Depths) -> Vec<usize> {
    (0..depths.by).chain(by_keys..by_keys + depths.across).collect()
}

/// Whether the labels of a key have an order in time, which is walked whatever the lines do.
pub(crate) fn in_time(kind: Kind) -> bool {
    matches!(kind, Kind::Period(_) | Kind::Part(_) | Kind::Date | Kind::DateTime)
}

/// The keys among some references, in ascending order.
pub(crate) fn keys_of(references: &[Reference]) -> Vec<usize> {
    let key = |r: &Reference| if let Reference::Key(k) = r { Some(*k) } else { None };
    let mut keys: Vec<usize> = references.iter().filter_map(key).collect();
    keys.sort_unstable();
    keys.dedup();
    keys
}

/// Numbers for combinations of codes, the same in every set of cells.
#[derive(Default)]
pub(crate) struct Numbering {
    chain: Vec<Pairs>,
}

impl Numbering {
    /// The number of each cell's combination; [`NO_NUMBER`] stays that.
    pub(crate) fn number(&mut self, columns: &[Vec<u32>], cells: usize) -> Vec<u32> {
        let mut numbers = vec![0u32; cells];
        for (i, codes) in columns.iter().enumerate() {
            if self.chain.len() <= i {
                self.chain.push(Pairs::default());
            }
            let most = |list: &[u32]| {
                list.iter().filter(|n| **n != NO_NUMBER).max().map_or(1, |m| *m as usize + 1)
            };
            self.chain[i].ensure(most(&numbers), most(codes));
            for (number, &code) in numbers.iter_mut().zip(codes) {
                *number = match (*number, code) {
                    (NO_NUMBER, _) | (_, NO_NUMBER) => NO_NUMBER,
                    (number, code) => self.chain[i].number(number, code),
                };
            }
        }
        numbers
    }
}
