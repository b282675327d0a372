//! `list`: all values in the order of the rows, for groups of a few.

use super::values::Known;
use super::{Additivity, Aggregate, ArgumentProblem, Overflow, Rows, State, own};
use oeuvre_columns::column::dictionary::MISSING_CODE;
use oeuvre_columns::column::{Column, Data};
use oeuvre_columns::value::Kind;
use std::any::Any;

/// All values present in the order of the rows, with `, ` between them. Missing when there are none; more
/// than [`MOST_LISTED`] are an error.
#[derive(PartialEq, Eq, Hash)]
pub struct ListAll;

/// The most values that one cell lists: nobody reads more.
pub const MOST_LISTED: usize = 1000;

/// The values of each group by the order of their rows. Of a group with too many only one more than can be
/// listed is kept, so that memory does not grow with the rows.
#[derive(Clone)]
struct Listed {
    groups: Vec<Vec<(u64, u32)>>,
    known: Known,
    codes: Vec<u32>,
}

impl Listed {
    fn new(known: Known) -> Listed {
        Listed { groups: Vec::new(), known, codes: Vec::new() }
    }

    fn add(&mut self, group: u32, entry: (u64, u32)) {
        let list = &mut self.groups[group as usize];
        if list.len() <= MOST_LISTED {
            list.push(entry);
        }
    }
}

impl State for Listed {
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

    fn merge(&mut self, other: &dyn State, map: &[u32]) -> Result<(), Overflow> {
        let other = own::<Listed>(other);
        let Some(codes) = self.known.absorb(&other.known) else { return Ok(()) };
        for (&to, list) in map.iter().zip(&other.groups).filter(|(to, _)| **to != 0) {
            for &(ordinal, code) in list {
                self.add(to, (ordinal, codes[code as usize]));
            }
        }
        Ok(())
    }

    fn fresh(&self) -> Box<dyn State> {
        Box::new(Listed::new(self.known.fresh()))
    }

    fn as_any(&self) -> &dyn Any {
        self
    }
}

impl Aggregate for ListAll {
    fn result(&self, _: &[Kind]) -> Result<Kind, ArgumentProblem> {
        Ok(Kind::Text)
    }
    fn family(&self) -> &'static str {
        "list"
    }
    fn state(&self, args: &[Kind]) -> Box<dyn State> {
        Box::new(Listed::new(Known::new(args[0])))
    }
    fn finish(&self, state: &dyn State, args: &[Kind]) -> Result<Column, Overflow> {
        let listed = own::<Listed>(state);
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
            let values: Vec<String> =
                list.iter().map(|&(_, code)| listed.known.text(args[0], code)).collect();
            texts.push(out.dictionary.intern(&values.join(", ")));
        }
        out.data = Data::Codes(texts);
        Ok(out)
    }
    fn additivity(&self) -> Additivity {
        Additivity::Note("a list of all rows")
    }
}
