//! What some of the rows have come to, as bytes: for rows that are counted elsewhere, or later.
//!
//! A [`Tally`] is what a pass keeps for some plans: the states of their groups, and what was noticed of the rows. It is
//! written down, read, and taken together with others in any order; finished, it gives the tables and ledgers that one
//! pass over all the rows gives. Columns may have turned out to be of narrower kinds where it was written: a tally is
//! read with the plan that it was made with and the one that it is wanted for.
//!
//! A plan that needs the rows a second time, because a condition compares them with a result, has no tally
//! ([`Tally::serves`]): then the rows themselves must be kept.
//!
//! ```
//! # use oeuvre_columns::{InMemory, Kind, Source};
//! # let columns = [("route", Kind::Text), ("fare", Kind::Number { scale: 2 })];
//! # let june = InMemory::from_texts(&columns, &[&["SKE", "12.50"], &["KEL", "8.00"]])?;
//! # let july = InMemory::from_texts(&columns, &[&["SKE", "7.00"]])?;
//! use oeuvre_core::{Plan, Request, Tally};
//!
//! // route, fare: SKE 12.50; KEL 8.00 in June, SKE 7.00 in July
//! let plan = Plan::new(&Request::of(&["route"], &["mean(fare)"]), june.columns())?;
//! let written = [&june, &july].map(|rows| Tally::of(&[&plan], rows, 1).unwrap().encode(&[&plan]));
//! let mut tallies = written.iter().zip([0, 1]).map(|(bytes, place)| {
//!     Tally::decode(bytes, (&[&plan], &[&plan]), &[place]).unwrap()
//! });
//! let mut all = tallies.next().unwrap();
//! all.absorb(tallies.next().unwrap(), 1)?;
//! let (table, ledger) = all.finish(&[&plan], &june, 1)?.remove(0);
//! assert_eq!(table.cell(1, 0).to_string(), "9.75");
//! assert_eq!(ledger.counted, 3);
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

mod columns;

pub use columns::{decode_column, encode_column};

use crate::aggregate::encoding::{Damaged, Decoder, Encoder, Reads};
use crate::error::Error;
use crate::grid::Grid;
use crate::grouping::{Groups, GroupsShare};
use crate::ledger::Ledger;
use crate::pass::{Done, Pass, Share};
use crate::plan::{Plan, fits};
use crate::run::finished;
use oeuvre_columns::{Account, Source};

/// The version of the layout of a tally: it changes whenever the layout does.
const VERSION: u8 = 1;

/// What some rows have come to, for each of some plans.
pub struct Tally {
    each: Vec<Done<GroupsShare>>,
}

impl Tally {
    /// Whether a plan can be worked out from what its rows have come to.
    pub fn serves(plan: &Plan) -> bool {
        !plan.listing && plan.second_pass_aggregates.is_empty()
    }

    /// Whether what one plan has counted can be read for another one, of the same request over columns of kinds that
    /// are as wide or wider.
    pub fn fits(own: &Plan, plan: &Plan) -> bool {
        fits(own, plan)
    }

    /// Counts rows for some plans, in one pass.
    ///
    /// # Errors
    /// As [`crate::run`].
    pub fn of(plans: &[&Plan], source: &dyn Source, threads: usize) -> Result<Tally, Error> {
        let groups: Vec<Groups<'_>> =
            plans.iter().map(|plan| Groups::new(plan, threads * plans.len())).collect();
        let mut each = Pass::over(source, threads).serve_all(&groups)?;
        each.iter_mut().try_for_each(|done| done.share.settle(threads))?;
        plans.iter().try_for_each(|plan| source.ensure_sound(&plan.inputs))?;
        Ok(Tally { each })
    }

    /// Writes it down. `plans` are those that it was made for.
    pub fn encode(&self, plans: &[&Plan]) -> Vec<u8> {
        let mut to = Encoder::default();
        to.unsigned(u128::from(VERSION));
        to.count(self.each.len());
        for (done, plan) in self.each.iter().zip(plans) {
            let Account { unreadable, padded, unseen, totals } = done.account;
            for n in [unreadable, padded, unseen, totals] {
                to.unsigned(u128::from(n));
            }
            done.share.encode(plan, &mut to);
        }
        to.into_bytes()
    }

    /// Reads what was written down. The plans are those that it was made with, and those of the same requests that it
    /// is wanted for; `places` say where each of the parts of the rows that it is of stands among all.
    ///
    /// # Errors
    /// What was read is not what was written for such plans.
    pub fn decode(
        bytes: &[u8],
        (own, plans): (&[&Plan], &[&Plan]),
        places: &[u32],
    ) -> Result<Tally, Damaged> {
        let mut from = Decoder::new(bytes).reading(Reads { parts: places, ..Reads::default() });
        if from.unsigned()? != u128::from(VERSION) || from.count()? != plans.len() {
            return Err(Damaged);
        }
        let mut each = Vec::new();
        for both in own.iter().zip(plans) {
            let mut numbers = [0; 4];
            for n in &mut numbers {
                *n = from.times()?;
            }
            let [unreadable, padded, unseen, totals] = numbers;
            let account = Account { unreadable, padded, unseen, totals };
            let share = GroupsShare::decode((both.0, both.1), &mut from)?;
            each.push(Done { share, account });
        }
        if from.is_done() { Ok(Tally { each }) } else { Err(Damaged) }
    }

    /// Takes in what other rows have come to, for the same plans.
    ///
    /// # Errors
    /// A result that no longer fits.
    pub fn absorb(&mut self, other: Tally, threads: usize) -> Result<(), Error> {
        for (mine, theirs) in self.each.iter_mut().zip(other.each) {
            mine.account.add(theirs.account);
            mine.share.absorb(theirs.share, threads)?;
        }
        Ok(())
    }

    /// The tables and ledgers of all rows. The source gives none of them, and says what is known of their columns.
    ///
    /// # Errors
    /// As [`crate::run`].
    pub fn finish(
        self,
        plans: &[&Plan],
        source: &dyn Source,
        threads: usize,
    ) -> Result<Vec<(Grid, Ledger)>, Error> {
        let each = plans.iter().zip(self.each);
        each.map(|(plan, done)| {
            let ledger = done.share.rows.ledger(plan, source, &done.account)?;
            finished(plan, source, threads, (done.share.into_groups(threads)?, ledger))
        })
        .collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{shown, text};
    use crate::{Request, SourceText, Totals};
    use oeuvre_columns::{InMemory, Kind};
    use proptest::prelude::*;

    /// A route, a day, and a fare in cents; each may be missing.
    type Row = (Option<u8>, Option<u8>, Option<i16>);

    const SHOWN: [&str; 12] = [
        "count()",
        "sum(fare)",
        "mean(fare where fare > 0)",
        "median(fare)",
        "stdev(fare)",
        "count(distinct route)",
        "mode(fare)",
        "max(fare) - min(fare)",
        "first(fare along day)",
        "list(route)",
        "max(sum(fare) per route)",
        "100 / fare",
    ];

    /// Fares without cents have no digits behind their point, unless others need them.
    fn fares(rows: &[Row]) -> u8 {
        if rows.iter().all(|row| row.2.is_none_or(|cents| cents % 100 == 0)) { 0 } else { 2 }
    }

    fn source(rows: &[Row]) -> InMemory {
        let scale = fares(rows);
        let columns =
            [("route", Kind::Text), ("day", Kind::Date), ("fare", Kind::Number { scale })];
        let texts: Vec<[String; 3]> = rows
            .iter()
            .map(|row| {
                let route = row.0.map_or(String::new(), |r| format!("R{r}"));
                let day =
                    row.1.map_or(String::new(), |d| format!("2025-0{}-1{}", 1 + d / 10, d % 10));
                let fare = row.2.map_or(String::new(), |cents| match scale {
                    0 => (cents / 100).to_string(),
                    _ => oeuvre_columns::Decimal::new(i128::from(cents), 2).to_string(),
                });
                [route, day, fare]
            })
            .collect();
        let texts: Vec<Vec<&str>> =
            texts.iter().map(|row| row.iter().map(String::as_str).collect()).collect();
        let texts: Vec<&[&str]> = texts.iter().map(Vec::as_slice).collect();
        InMemory::from_texts(&columns, &texts).unwrap()
    }

    fn row() -> impl Strategy<Value = Row> {
        let cents = prop_oneof![3 => (-9i16..99).prop_map(|n| n * 100), 1 => -900i16..9900];
        (proptest::option::of(0u8..4), proptest::option::of(0u8..40), proptest::option::of(cents))
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(60))]
        #[test]
        fn parts_of_the_rows_come_to_what_all_come_to(
            rows in proptest::collection::vec(row(), 1..60), cuts in proptest::collection::vec(0usize..60, 0..5),
            show in proptest::sample::subsequence(&SHOWN[..], 1..5), by in 0usize..4, across in any::<bool>(),
            filter in any::<bool>(), turned in any::<bool>(), threads in 1usize..3,
        ) {
            let by = [&[][..], &["route"], &["month(day)", "route"], &["fare"]][by];
            let request = Request {
                totals: Totals::All,
                filters: filter.then(|| text("route <> 'R1' and 8 / fare < 99")).into_iter().collect(),
                columns_by: across.then(|| SourceText::new("--columns-by", "quarter(day)")).into_iter().collect(),
                sort: Some(SourceText::new("--sort", "count() desc")),
                top: (!by.is_empty()).then_some(3),
                ..Request::of(by, &[&show[..], &["count()"]].concat())
            };
            let all = source(&rows);
            let plan = Plan::new(&request, all.columns()).unwrap();
            let (grid, ledger) = crate::run(&plan, &all, 1).unwrap();
            let mut cuts: Vec<usize> = cuts.into_iter().map(|cut| cut.min(rows.len())).collect();
            cuts.extend([0, rows.len()]);
            cuts.sort_unstable();
            let mut tallies: Vec<Tally> = Vec::new();
            for (place, ends) in cuts.windows(2).enumerate() {
                let part = source(&rows[ends[0]..ends[1]]);
                let own = Plan::new(&request, part.columns()).unwrap();
                prop_assert!(Tally::serves(&own) && Tally::fits(&own, &plan));
                let bytes = Tally::of(&[&own], &part, threads).unwrap().encode(&[&own]);
                for end in [bytes.len() / 2, bytes.len() - 1] {
                    let short = Tally::decode(&bytes[..end], (&[&own], &[&plan]), &[0]);
                    prop_assert!(short.is_err(), "cut to {end}");
                }
                let read = Tally::decode(&bytes, (&[&own], &[&plan]), &[place as u32]);
                tallies.push(read.unwrap());
            }
            if turned {
                tallies.reverse();
            }
            // Two and two, each pair written and read once more.
            let places: Vec<u32> = (0..cuts.len() as u32).collect();
            while tallies.len() > 1 {
                let mut paired = Vec::new();
                let mut left = tallies.into_iter();
                while let Some(mut one) = left.next() {
                    if let Some(other) = left.next() {
                        one.absorb(other, threads).unwrap();
                    }
                    let bytes = one.encode(&[&plan]);
                    paired.push(Tally::decode(&bytes, (&[&plan], &[&plan]), &places).unwrap());
                }
                tallies = paired;
            }
            let (found, found_ledger) =
                tallies.remove(0).finish(&[&plan], &all, threads).unwrap().remove(0);
            prop_assert_eq!(shown(&found), shown(&grid));
            prop_assert_eq!(&found.notes, &grid.notes);
            prop_assert_eq!(found_ledger, ledger);
        }

        #[test]
        fn bytes_of_anything_are_damaged_but_never_a_crash(
            bytes in proptest::collection::vec(any::<u8>(), 0..120), changed in proptest::collection::vec((0usize..400, any::<u8>()), 1..4),
        ) {
            let rows = source(&[(Some(1), Some(2), Some(350)), (None, Some(4), None)]);
            let plan = Plan::new(&Request::of(&["route", "month(day)"], &SHOWN), rows.columns()).unwrap();
            let plans = [&plan];
            let _ = Tally::decode(&bytes, (&plans, &plans), &[0]);
            let mut whole = Tally::of(&plans, &rows, 1).unwrap().encode(&plans);
            for (at, byte) in changed {
                let at = at % whole.len();
                whole[at] = byte;
            }
            if let Ok(tally) = Tally::decode(&whole, (&plans, &plans), &[0]) {
                let _ = tally.finish(&plans, &rows, 1);
            }
        }
    }
}
