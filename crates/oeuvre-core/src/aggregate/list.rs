//! `list`: all values in the order of the rows, for groups of a few.
//!
//! More than [`MOST_LISTED`] are an error that names the way out: nobody reads a cell with more, and memory
//! would grow with the rows. Missing values are left out; missing where none is left.
//!
//! ```
//! # use oeuvre_columns::{InMemory, Kind, Source};
//! # let rows = InMemory::from_texts(
//! #     &[("route", Kind::Text), ("fare", Kind::Number { scale: 2 })],
//! #     &[
//! #         &["SKE", "12.50"],
//! #         &["KEL", "8.00"],
//! #         &["SKE", "7.00"],
//! #         &["SKE", ""],
//! #     ],
//! # )?;
//! use oeuvre_core::{Plan, Request, run};
//!
//! // route, fare: SKE 12.50; KEL 8.00; SKE 7.00; SKE (missing)
//! let request = Request::of(&["route"], &["list(fare)"]);
//! let plan = Plan::new(&request, rows.columns())?;
//! let (table, _) = run(&plan, &rows, 1)?;
//! let shown: Vec<String> = (0..table.lines.len()).map(|line| table.cell(line, 0).to_string()).collect();
//! assert_eq!(shown, ["8.00", "12.50, 7.00"]);
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

use super::encoding::{Damaged, Decoder, Encoder, Locals};
use super::values::{Runs, Store, ValueCodes};
use super::{Additivity, ArgumentProblem, GroupAggregate, GroupState, Ordinal, Overflow, Rows};
use oeuvre_columns::column::dictionary::MISSING_CODE;
use oeuvre_columns::column::digits::{sorted_by_digits, width};
use oeuvre_columns::column::{Column, Data};
use oeuvre_columns::value::Kind;
use std::ops::Range;

/// All values present in the order of the rows, with `, ` between them. Missing when there are none; more
/// than [`MOST_LISTED`] are an error.
#[derive(PartialEq, Eq, Hash)]
pub struct ListAll;

/// The most values that one cell lists: nobody reads more.
pub const MOST_LISTED: usize = 1000;

/// The values of each group in the order of their rows. Of a group with too many only one more than can be
/// listed is kept, so that memory does not grow with the rows.
#[derive(Clone)]
pub(crate) struct Listed {
    groups: usize,
    rows: Runs<Placed>,
    known: ValueCodes,
    codes: Vec<u32>,
}

/// Rows: the place of each, and the code of its value.
#[derive(Clone, Default)]
pub(crate) struct Placed {
    places: Vec<Ordinal>,
    codes: Vec<u32>,
}

impl Store for Placed {
    type Item<'a> = (Ordinal, u32);

    const MOST: usize = MOST_LISTED + 1;

    fn len(&self) -> usize {
        self.places.len()
    }
    fn get(&self, at: usize) -> (Ordinal, u32) {
        (self.places[at], self.codes[at])
    }
    fn is(&self, at: usize, item: (Ordinal, u32)) -> bool {
        self.get(at) == item
    }
    fn push(&mut self, (place, code): (Ordinal, u32)) {
        self.places.push(place);
        self.codes.push(code);
    }
    fn size_bytes(&self) -> usize {
        size_of_val(self.places.as_slice()) + size_of_val(self.codes.as_slice())
    }
    fn order(&self, groups: &[u32]) -> Vec<u32> {
        let mut order: Vec<u32> = (0..groups.len() as u32).collect();
        // Batches mostly come in the order of their rows.
        if !self.places.is_sorted() {
            order.sort_by_key(|&at| self.get(at as usize));
        }
        let most = groups.iter().copied().max().unwrap_or(0);
        sorted_by_digits(order, |at| groups[at as usize].into(), width(most.into()))
    }
}

impl Listed {
    fn new(known: ValueCodes) -> Listed {
        Listed { groups: 0, rows: Runs::default(), known, codes: Vec::new() }
    }

    /// The rows of a group, by their places and the codes of their values.
    fn of_group(&self, group: u32) -> impl ExactSizeIterator<Item = (Ordinal, u32)> + '_ {
        let of = self.rows.of_group(group);
        (0..of.len()).map(move |at| of.get(at).0)
    }
}

impl GroupState for Listed {
    const FAMILY: &'static str = "list";

    fn of(args: &[Kind]) -> Self {
        Listed::new(ValueCodes::new(args[0]))
    }
    fn resize(&mut self, groups: usize) {
        self.groups = self.groups.max(groups);
    }

    fn update(&mut self, rows: Rows<'_>) -> Result<(), Overflow> {
        let mut codes = std::mem::take(&mut self.codes);
        self.known.codes(rows.args[0], &mut codes);
        for (row, (&group, &code)) in rows.groups.iter().zip(&codes).enumerate() {
            if group != 0 && code != MISSING_CODE {
                self.rows.add(group, (rows.ordinal(row), code), 1);
            }
        }
        self.codes = codes;
        Ok(())
    }

    fn merge(&mut self, other: &Self, map: &[u32]) -> Result<(), Overflow> {
        let Some(codes) = self.known.absorb(&other.known) else { return Ok(()) };
        if codes.iter().copied().eq(0..codes.len() as u32) {
            self.rows.absorb(&other.rows, map);
            return Ok(());
        }
        for (group, &to) in (0..).zip(map).take(other.groups).filter(|(_, to)| **to != 0) {
            for (place, code) in other.of_group(group) {
                self.rows.add(to, (place, codes[code as usize]), 1);
            }
        }
        Ok(())
    }

    fn fresh(&self) -> Self {
        Listed::new(self.known.fresh())
    }

    fn size_bytes(&self) -> usize {
        self.rows.size_bytes() + self.known.size_bytes()
    }

    fn holds_values(&self) -> bool {
        true
    }

    fn values(&self) -> usize {
        self.rows.len()
    }

    fn encode(&self, groups: Range<u32>, to: &mut Encoder) {
        let mut locals = Locals::default();
        groups.clone().flat_map(|group| self.of_group(group)).for_each(|(_, code)| {
            locals.of(code);
        });
        self.known.encode(&locals, to);
        to.count(groups.len());
        for group in groups {
            let rows = self.of_group(group);
            to.count(rows.len());
            for (place, code) in rows {
                place.encode(to);
                to.unsigned(u128::from(locals.of(code)));
            }
        }
    }

    fn decode(&mut self, from: &mut Decoder<'_>) -> Result<(), Damaged> {
        let codes = self.known.decode(from)?;
        let n = from.groups()?;
        GroupState::resize(self, n + 1);
        for group in 1..=n as u32 {
            for _ in 0..from.count()? {
                let place = Ordinal::decode(from)?;
                self.rows.add(group, (place, codes[from.code(codes.len())? as usize]), 1);
            }
        }
        Ok(())
    }
}

impl GroupAggregate for ListAll {
    type State = Listed;

    fn result(&self, _: &[Kind]) -> Result<Kind, ArgumentProblem> {
        Ok(Kind::Text)
    }
    fn finish(&self, state: &Listed, args: &[Kind]) -> Result<Column, Overflow> {
        let listed = state;
        let mut out = Column::from(Data::Codes(Vec::new()));
        let mut texts = Vec::with_capacity(listed.groups.saturating_sub(1));
        for rows in (1..listed.groups as u32).map(|group| listed.of_group(group)) {
            if rows.len() > MOST_LISTED {
                return Err(Overflow::Listed);
            }
            if rows.len() == 0 {
                texts.push(MISSING_CODE);
                continue;
            }
            let value = |(_, code)| listed.known.value(args[0], code).to_string();
            let values: Vec<String> = rows.map(value).collect();
            texts.push(out.dictionary.intern(&values.join(", ")));
        }
        out.data = Data::Codes(texts);
        Ok(out)
    }
    fn additivity(&self) -> Additivity {
        Additivity::Note("a list of all rows")
    }
}
