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
use super::values::ValueCodes;
use super::{Additivity, ArgumentProblem, GroupAggregate, GroupState, Ordinal, Overflow, Rows};
use oeuvre_columns::column::dictionary::MISSING_CODE;
use oeuvre_columns::column::{Column, Data};
use oeuvre_columns::value::Kind;
use std::ops::Range;

/// All values present in the order of the rows, with `, ` between them. Missing when there are none; more
/// than [`MOST_LISTED`] are an error.
#[derive(PartialEq, Eq, Hash)]
pub struct ListAll;

/// The most values that one cell lists: nobody reads more.
pub const MOST_LISTED: usize = 1000;

/// The values of each group by the order of their rows. Of a group with too many only one more than can be
/// listed is kept, so that memory does not grow with the rows.
#[derive(Clone)]
pub(crate) struct Listed {
    groups: Vec<Vec<(Ordinal, u32)>>,
    known: ValueCodes,
    codes: Vec<u32>,
}

impl Listed {
    fn new(known: ValueCodes) -> Listed {
        Listed { groups: Vec::new(), known, codes: Vec::new() }
    }

    fn add(&mut self, group: u32, entry: (Ordinal, u32)) {
        let list = &mut self.groups[group as usize];
        if list.len() <= MOST_LISTED {
            list.push(entry);
        }
    }
}

impl GroupState for Listed {
    const FAMILY: &'static str = "list";

    fn of(args: &[Kind]) -> Self {
        Listed::new(ValueCodes::new(args[0]))
    }
    fn resize(&mut self, groups: usize) {
        self.groups.resize(groups.max(self.groups.len()), Vec::new());
    }

    fn update(&mut self, rows: Rows<'_>) -> Result<(), Overflow> {
        let mut codes = std::mem::take(&mut self.codes);
        self.known.codes(rows.args[0], &mut codes);
        for (row, (&group, &code)) in rows.groups.iter().zip(&codes).enumerate() {
            if group != 0 && code != MISSING_CODE {
                self.add(group, (rows.ordinal(row), code));
            }
        }
        self.codes = codes;
        Ok(())
    }

    fn merge(&mut self, other: &Self, map: &[u32]) -> Result<(), Overflow> {
        let Some(codes) = self.known.absorb(&other.known) else { return Ok(()) };
        for (&to, list) in map.iter().zip(&other.groups).filter(|(to, _)| **to != 0) {
            for &(ordinal, code) in list {
                self.add(to, (ordinal, codes[code as usize]));
            }
        }
        Ok(())
    }

    fn fresh(&self) -> Self {
        Listed::new(self.known.fresh())
    }

    fn size_bytes(&self) -> usize {
        let entries: usize = self.groups.iter().map(|g| size_of_val(g.as_slice())).sum();
        size_of_val(self.groups.as_slice()) + entries + self.known.size_bytes()
    }

    fn holds_values(&self) -> bool {
        true
    }

    fn encode(&self, groups: Range<u32>, to: &mut Encoder) {
        let groups = &self.groups[groups.start as usize..groups.end as usize];
        let mut locals = Locals::default();
        groups.iter().flatten().for_each(|entry| {
            locals.of(entry.1);
        });
        self.known.encode(&locals, to);
        to.count(groups.len());
        for list in groups {
            to.count(list.len());
            for &(ordinal, code) in list {
                ordinal.encode(to);
                to.unsigned(u128::from(locals.of(code)));
            }
        }
    }

    fn decode(&mut self, from: &mut Decoder<'_>) -> Result<(), Damaged> {
        let codes = self.known.decode(from)?;
        let n = from.groups()?;
        GroupState::resize(self, n + 1);
        for list in &mut self.groups[1..] {
            for _ in 0..from.count()? {
                let ordinal = Ordinal::decode(from)?;
                list.push((ordinal, codes[from.code(codes.len())? as usize]));
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
        let mut texts = Vec::with_capacity(listed.groups.len().saturating_sub(1));
        for list in listed.groups.iter().skip(1) {
            if list.len() > MOST_LISTED {
                return Err(Overflow::Listed);
            }
            if list.is_empty() {
                texts.push(MISSING_CODE);
                continue;
            }
            let mut list = list.clone();
            list.sort_unstable();
            let values: Vec<String> = list
                .iter()
                .map(|&(_, code)| listed.known.value(args[0], code).to_string())
                .collect();
            texts.push(out.dictionary.intern(&values.join(", ")));
        }
        out.data = Data::Codes(texts);
        Ok(out)
    }
    fn additivity(&self) -> Additivity {
        Additivity::Note("a list of all rows")
    }
}
