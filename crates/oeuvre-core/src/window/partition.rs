//! Cells in partitions and in their order: what a word that walks from cell to cell is given.
//!
//! The order is worked out when a word first asks for it, and once for all words that walk alike. Along a period
//! a walk is one of the calendar: periods without a cell are steps, too ([`Calendar`]).

use super::order::{Ordinals, Span, sorted};
use super::{Walks, partition_bound, partition_ordinals, runs};
use oeuvre_columns::column::{Column, Data, MISSING_I32, NO_NUMBER};
use std::borrow::Cow;
use std::cell::OnceCell;
use std::ops::Range;

/// Cells, the partition of each, and the order in which those of a partition are walked.
pub struct Partitions<'a> {
    /// The partition of each cell; [`NO_NUMBER`] for one that is not walked.
    pub(crate) number: Cow<'a, [u32]>,
    /// Empty where the cells are walked as they stand, until it is needed.
    order: OnceCell<Vec<u32>>,
    /// Whether the cells are walked as they stand.
    pub(super) in_order: bool,
    /// The steps of the walk, where they are few.
    pub(super) steps: Option<Steps<'a>>,
    /// The calendar, where a period is walked.
    pub(super) calendar: Option<Calendar>,
    /// Cells whose place owes to the order of the cells alone.
    pub(crate) ties_broken: u64,
}

/// A column that a walk follows.
pub(crate) enum By<'a> {
    /// Days, and how numbers to sort by follow from them.
    Days(&'a [i32], Span),
    /// Numbers to sort by.
    Numbers(Ordinals),
}

impl<'a> By<'a> {
    /// A column, the largest values first where `descending`.
    pub(crate) fn of(column: &'a Column, descending: bool) -> By<'a> {
        let span = match &column.data {
            Data::I32(days) => Span::of(days.iter().map(day), descending).map(|span| (days, span)),
            _ => None,
        };
        match span {
            Some((days, span)) => By::Days(days, span),
            None => By::Numbers(Ordinals::of(column, descending)),
        }
    }

    fn largest(&self) -> u64 {
        match self {
            By::Days(_, span) => span.largest(),
            By::Numbers(numbers) => numbers.largest,
        }
    }

    fn into_ordinals(self) -> Ordinals {
        match self {
            By::Days(days, span) => {
                Ordinals::new(days.iter().map(|d| span.number(day(d))), span.largest())
            }
            By::Numbers(numbers) => numbers,
        }
    }
}

/// How many cells of a partition, in their order, are the same as the one before or behind by all columns.
fn tied(order: &[u32], number: &[u32], by: Vec<Ordinals>) -> u64 {
    // Brought into that order, so that neighbours stand beside each other.
    let mut alike = vec![true; order.len()];
    for column in by {
        let column = column.gather(order);
        let behind_first = alike.iter_mut().zip(0..).skip(1);
        behind_first.for_each(|(alike, at)| *alike &= column.same(at - 1, at));
    }
    let mut begin = 0;
    let of_run = |run: &[u32]| {
        let cells = begin..begin + run.len();
        begin = cells.end;
        let behind = |at: usize| at + 1 < cells.end && alike[at + 1];
        cells.clone().filter(|&at| (at > cells.start && alike[at]) || behind(at)).count() as u64
    };
    runs(order, number).map(of_run).sum()
}

/// A day, unless it is missing.
fn day(day: &i32) -> Option<i64> {
    (*day != MISSING_I32).then_some(i64::from(*day))
}

/// The steps of a walk, many cells on each: those of one step are walked as they stand.
pub(super) struct Steps<'a> {
    by: StepsBy<'a>,
    /// How many steps a partition has.
    pub(super) each: usize,
    /// How many all partitions have.
    pub(super) all: usize,
}

/// Where the step of a cell stands.
enum StepsBy<'a> {
    /// It follows from its day.
    Days(&'a [i32], Span),
    /// The step of each cell, counted through all partitions; [`NO_NUMBER`] for one that is not walked.
    Cells(Vec<u32>),
}

impl<'a> Steps<'a> {
    /// The steps of cells by one column, whose memory becomes theirs; the column again where they are not few.
    fn new(number: &[u32], by: By<'a>) -> Result<Steps<'a>, By<'a>> {
        /// So many counts stay in a near cache.
        const MOST: usize = 1 << 20;
        let each = usize::try_from(by.largest()).unwrap_or(usize::MAX).saturating_add(1);
        let partitions = usize::try_from(partition_bound(number)).unwrap_or(usize::MAX);
        let all = each.saturating_mul(partitions);
        if all > MOST || all > number.len() / 4 {
            return Err(by);
        }
        let by = match by {
            By::Days(days, span) => StepsBy::Days(days, span),
            By::Numbers(numbers) => {
                let mut of_cell = numbers.into_short().map_err(By::Numbers)?;
                for (step, &partition) in of_cell.iter_mut().zip(number) {
                    *step = step_at(partition, each, *step);
                }
                StepsBy::Cells(of_cell)
            }
        };
        Ok(Steps { by, each, all })
    }

    /// Gives the step of some cells, counted through all partitions, to a function; [`NO_NUMBER`] for one that is not walked.
    #[inline(always)]
    pub(super) fn of_cells(&self, number: &[u32], cells: Range<usize>, mut take: impl FnMut(u32)) {
        match &self.by {
            StepsBy::Days(days, span) => {
                for (&partition, d) in number[cells.clone()].iter().zip(&days[cells]) {
                    take(step_at(partition, self.each, span.number(day(d)) as u32));
                }
            }
            StepsBy::Cells(of_cell) => of_cell[cells].iter().for_each(|&step| take(step)),
        }
    }

    /// How many cells are on each step.
    fn cells(&self, number: &[u32]) -> Vec<u32> {
        let mut cells = vec![0; self.all];
        self.of_cells(number, 0..number.len(), |step| {
            if let Some(cells) = cells.get_mut(step as usize) {
                *cells += 1;
            }
        });
        cells
    }

    /// The cells in their order.
    fn order(&self, number: &[u32]) -> Vec<u32> {
        let mut at = 0;
        let mut places: Vec<u32> = Vec::with_capacity(self.all);
        for cells in self.cells(number) {
            places.push(at);
            at += cells;
        }
        let mut order = vec![0; number.len()];
        let mut cell = 0;
        self.of_cells(number, 0..number.len(), |step| {
            // Those that are not walked stand behind all others.
            let place = places.get_mut(step as usize).unwrap_or(&mut at);
            order[*place as usize] = cell;
            *place += 1;
            cell += 1;
        });
        order
    }
}

/// The step of a cell of a partition whose steps are so many.
#[inline(always)]
fn step_at(partition: u32, each: usize, step: u32) -> u32 {
    if partition == NO_NUMBER { NO_NUMBER } else { partition * each as u32 + step }
}

/// Periods that are walked one calendar step at a time.
pub(crate) struct Calendar {
    /// The period of each cell, counted as [`oeuvre_columns::value::calendar::Period::index`] is.
    pub(crate) indexes: Vec<i32>,
    /// The first and the last period of the whole table.
    pub(crate) range: (i32, i32),
    /// From the last to the first.
    pub(crate) backwards: bool,
}

impl<'a> Partitions<'a> {
    /// Partitions walked by some columns, of which the first counts most. What they leave open is decided by the
    /// order of the cells; where that is what was asked for, it `is_settled`.
    pub(crate) fn new(
        number: Cow<'a, [u32]>,
        by: Vec<By<'a>>,
        is_settled: bool,
        calendar: Option<Calendar>,
    ) -> Partitions<'a> {
        let mut it = Partitions {
            number,
            order: OnceCell::new(),
            in_order: by.is_empty(),
            steps: None,
            calendar,
            ties_broken: 0,
        };
        if by.is_empty() {
            return it;
        }
        // Few steps are not sorted.
        let by = match <[By<'_>; 1]>::try_from(by) {
            Ok([one]) => match Steps::new(&it.number, one) {
                Ok(steps) => {
                    if !is_settled {
                        let cells = steps.cells(&it.number);
                        let tied = cells.iter().filter(|n| **n > 1);
                        it.ties_broken = tied.map(|n| u64::from(*n)).sum();
                    }
                    it.steps = Some(steps);
                    return it;
                }
                Err(one) => vec![one],
            },
            Err(by) => by,
        };
        let by: Vec<Ordinals> = by.into_iter().map(By::into_ordinals).collect();
        let partitions = partition_ordinals(&it.number);
        let all: Vec<&Ordinals> = std::iter::once(&partitions).chain(&by).collect();
        let order = sorted(it.number.len(), &all);
        if !is_settled {
            it.ties_broken = tied(&order, &it.number, by);
        }
        it.order = order.into();
        it
    }

    /// The cells in the order in which they are walked, partition by partition.
    pub(super) fn order(&self) -> &[u32] {
        self.order.get_or_init(|| match &self.steps {
            Some(steps) => steps.order(&self.number),
            None => sorted(self.number.len(), &[&partition_ordinals(&self.number)]),
        })
    }

    /// The cells that enter a word's result at one of them, in the order in which they are walked.
    pub(crate) fn entering(&self, word: &dyn Walks, cell: u32) -> Vec<u32> {
        let mine = self.number[cell as usize];
        let ours = |c: &u32| mine != NO_NUMBER && self.number[*c as usize] == mine;
        let run: Vec<u32> = self.order().iter().copied().filter(ours).collect();
        let Some(here) = run.iter().position(|&c| c == cell) else { return Vec::new() };
        // How far each cell is from this one, in steps: of the calendar, or of the walk.
        let steps = |at: usize| match &self.calendar {
            Some(Calendar { indexes, backwards, .. }) => {
                let far = i64::from(indexes[cell as usize]) - i64::from(indexes[run[at] as usize]);
                if *backwards { -far } else { far }
            }
            None => here as i64 - at as i64,
        };
        (0..run.len()).filter(|&at| word.enters(steps(at), at, here)).map(|at| run[at]).collect()
    }
}

impl Calendar {
    /// The cell of a run that has a period.
    pub(super) fn find(&self, run: &[u32], index: i64) -> Option<u32> {
        let at = |cell: u32| i64::from(self.indexes[cell as usize]);
        let found = match self.backwards {
            false => run.partition_point(|&cell| at(cell) < index),
            true => run.partition_point(|&cell| at(cell) > index),
        };
        run.get(found).copied().filter(|&cell| at(cell) == index)
    }

    pub(super) fn covers(&self, index: i64) -> bool {
        (i64::from(self.range.0)..=i64::from(self.range.1)).contains(&index)
    }
}

#[cfg(test)]
mod tests {
    use super::super::running::Running;
    use super::super::{Argument, Taking};
    use super::*;
    use oeuvre_columns::column::{Column, Data, MISSING_I64};
    use oeuvre_columns::{Kind, Value};
    use proptest::prelude::*;

    type Cell = (u32, Option<i64>, Option<i64>);

    proptest! {
        #[test]
        fn few_steps_are_walked_as_many_are(
            cells in proptest::collection::vec((0u32..4, proptest::option::of(-3i64..9), proptest::option::of(-99i64..99)), 200..400),
            [is_settled, by_days, down] in any::<[bool; 3]>(),
            threads in 1usize..4,
        ) {
            let number: Vec<u32> = cells.iter().map(|c| if c.0 == 3 { NO_NUMBER } else { c.0 }).collect();
            let values = |of: fn(&Cell) -> Option<i64>| {
                Column::from(Data::I64(cells.iter().map(|c| of(c).unwrap_or(MISSING_I64)).collect()))
            };
            let (numbers, x) = (values(|c| c.1), values(|c| c.2));
            let days = cells.iter().map(|c| c.1.map_or(MISSING_I32, |day| day as i32)).collect();
            let by = if by_days { Column::from(Data::I32(days)) } else { numbers };
            let nothing = By::Numbers(Ordinals::of_codes(cells.iter().map(|_| 0)));
            let few = Partitions::new(number[..].into(), vec![By::of(&by, down)], is_settled, None);
            let by = vec![By::Numbers(Ordinals::of(&by, down)), nothing];
            let many = Partitions::new(number[..].into(), by, is_settled, None);
            prop_assert!(few.steps.is_some() && many.steps.is_none());
            let walked = |it: &Partitions<'_>| runs(it.order(), &it.number).map(<[u32]>::to_vec).collect::<Vec<_>>();
            prop_assert_eq!(walked(&few), walked(&many));
            prop_assert_eq!(few.ties_broken, many.ties_broken);
            let kind = Kind::Number { scale: 0 };
            let of = Argument { x: &x, kind, condition: None, empty: &Value::Missing, threads };
            let [few, many] = [few, many].map(|it| Running(Taking::Sum).work_out(&it, &of).unwrap());
            for cell in 0..cells.len() {
                prop_assert_eq!(few.value(kind, cell), many.value(kind, cell));
            }
        }
    }
}
