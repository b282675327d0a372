//! Labels that differ only in case, spaces or Unicode form, taken for one where that is asked for.
//!
//! A first pass counts the labels of the columns; each set of labels that are plainly the same gets the spelling
//! that most rows have (of equals the first in text order, without spaces at its ends). From then on the source
//! gives that spelling alone, so that keys, distinct counts and listings know no other; texts that are compared
//! with such a column, and keys of lookups that its values find, follow it.
//!
//! ```
//! # use oeuvre_columns::{InMemory, Kind};
//! use oeuvre_core::{Plan, Request, respelt, run};
//!
//! let rows = InMemory::from_texts(&[("route", Kind::Text)], &[&["SKE"], &["ske "], &["SKE"], &["KEL"]])?;
//! let request = Request { one_spelling: vec![(None, "route".into())], ..Request::of(&["route"], &["count()"]) };
//! let (source, request) = respelt(&rows, &request, 1)?;
//! let plan = Plan::new(&request, oeuvre_columns::Source::columns(&source))?;
//! let (table, ledger) = run(&plan, &source, 1)?;
//! assert_eq!(table.cell(1, 0).to_string(), "3");
//! assert_eq!(ledger.notes[0].text, "route: 'ske ' 1 is taken as 'SKE'");
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

use crate::error::Error;
use crate::notice::Texts;
use crate::pass::{Consumer, Pass, Share};
use crate::request::Request;
use crate::spelling::{Spelling, Spellings};
use oeuvre_columns::column::dictionary::{Dictionary, MISSING_CODE};
use oeuvre_columns::column::{Batch, Column, Data};
use oeuvre_columns::names::{all_of, nearest};
use oeuvre_columns::{
    Account, ColumnInfo, Kind, LocationColumn, Note, ReadError, Reader, Size, Source, Table, Topic,
};
use std::collections::BTreeMap;
use std::sync::Arc;

/// A source whose labels have one spelling.
pub struct Respelt<'a> {
    source: &'a dyn Source,
    spellings: Spellings,
    lookups: Vec<Note>,
}

/// A source with one spelling of the labels of the columns that a request names, and the request that goes with it.
///
/// # Errors
/// A column that is not there or holds no texts; what is wrong with the rows.
pub fn respelt<'a>(
    source: &'a dyn Source,
    request: &Request,
    threads: usize,
) -> Result<(Respelt<'a>, Request), Error> {
    let (source, mut requests) = respelt_all(source, std::slice::from_ref(request), threads)?;
    match requests.pop() {
        Some(request) => Ok((source, request)),
        None => unreachable!("there is one request"),
    }
}

/// As [`respelt`], for several requests that name the same columns: the labels are counted once for all of them.
///
/// # Errors
/// As for [`respelt`].
pub fn respelt_all<'a>(
    source: &'a dyn Source,
    requests: &[Request],
    threads: usize,
) -> Result<(Respelt<'a>, Vec<Request>), Error> {
    let columns = source.columns();
    let (mut places, mut requests) = (Vec::new(), requests.to_vec());
    let mut notes = Vec::new();
    for request in &mut requests {
        for (lookup, name) in std::mem::take(&mut request.one_spelling) {
            let of_lookup = |l: &&mut crate::LookupRequest| match &lookup {
                Some(lookup) => l.table.name == *lookup,
                None => l.table.columns.iter().any(|c| c.name == name),
            };
            // A member of an object is a column whose name has a dot.
            let has_lookup = |of: &str| request.lookups.iter().any(|l| l.table.name == of);
            let own_name = match &lookup {
                None => Some(name.clone()),
                Some(of) if !has_lookup(of) => Some(format!("{of}.{name}")),
                Some(_) => None,
            };
            let own = columns.iter().position(|c| Some(&c.name) == own_name.as_ref());
            match (own, request.lookups.iter_mut().find(of_lookup)) {
                (Some(place), _) => {
                    ensure_text(&columns[place])?;
                    places.push(place);
                }
                (None, Some(of)) => {
                    of.table = Arc::new(respelt_table(&of.table, &name, &mut notes)?);
                }
                (None, None) => return Err(no_column(&columns, lookup.as_deref(), &name)),
            }
        }
    }
    places.sort_unstable();
    places.dedup();
    let mut seen = std::collections::HashSet::new();
    notes.retain(|note: &Note| seen.insert(note.clone()));
    let mut spellings = BTreeMap::new();
    if !places.is_empty() {
        let counted = Pass::over(source, threads).serve(&Labels(places.clone()))?.share;
        for (place, texts) in places.into_iter().zip(&counted) {
            spellings.insert(place, Spelling::new(&texts.counted()));
        }
    }
    let spellings: Spellings = Arc::new(spellings);
    for request in &mut requests {
        request.spellings = Some(spellings.clone());
    }
    Ok((Respelt { source, spellings, lookups: notes }, requests))
}

fn ensure_text(column: &ColumnInfo) -> Result<(), Error> {
    match column.kind {
        Kind::Text | Kind::Nothing => Ok(()),
        kind => Err(Error::request_with_help(
            format!(
                "--one-spelling: `{}` is {}, and has no spellings",
                column.name,
                kind.describe()
            ),
            "name a column of texts",
        )),
    }
}

fn no_column(columns: &[ColumnInfo], lookup: Option<&str>, name: &str) -> Error {
    if let Some(lookup) = lookup {
        return Error::request(format!("--one-spelling: there is no column `{lookup}.{name}`"));
    }
    let names: Vec<&str> = columns.iter().map(|c| c.name.as_str()).collect();
    let help = match nearest(name, names.iter().copied()).first() {
        Some(near) => format!("did you mean `{near}`?"),
        None => format!("the columns are {}", all_of(&names)),
    };
    Error::request_with_help(format!("--one-spelling: there is no column `{name}`"), help)
}

/// A lookup's table with one spelling of a column.
fn respelt_table(table: &Table, name: &str, notes: &mut Vec<Note>) -> Result<Table, Error> {
    let Some(place) = table.columns.iter().position(|c| c.name == name) else {
        return Err(no_column(&table.columns, None, name));
    };
    ensure_text(&table.columns[place])?;
    let mut table = table.clone();
    let mut texts = Texts::default();
    texts.look_at(&table.data[place]);
    let spelling = Spelling::new(&texts.counted());
    let told = |j: &String| Note::new(Topic::Joined, format!("{}.{name}: {j}", table.name));
    notes.extend(spelling.joined.iter().map(told));
    let mut out = Column::default();
    let mut map = Vec::new();
    respell(&table.data[place], &spelling, &mut map, &mut out);
    table.data[place] = out;
    Ok(table)
}

/// Brings the codes of a column to those of one spelling; `map` knows the codes that were met before.
fn respell(column: &Column, spelling: &Spelling, map: &mut Vec<u32>, out: &mut Column) {
    let Data::Codes(codes) = &column.data else {
        out.data = column.data.clone();
        return;
    };
    let texts: &Dictionary = &column.dictionary;
    for code in map.len()..texts.len() {
        map.push(out.dictionary.intern(spelling.of(texts.text(code as u32))));
    }
    if !matches!(out.data, Data::Codes(_)) {
        out.data = Data::Codes(Vec::new());
    }
    if let Data::Codes(to) = &mut out.data {
        to.clear();
        to.extend(codes.iter().map(|&c| if c == MISSING_CODE { c } else { map[c as usize] }));
    }
}

impl Source for Respelt<'_> {
    fn columns(&self) -> Vec<ColumnInfo> {
        self.source.columns()
    }
    fn location_columns(&self) -> Vec<LocationColumn> {
        self.source.location_columns()
    }
    fn is_repeatable(&self) -> bool {
        self.source.is_repeatable()
    }
    fn size(&self) -> Size {
        self.source.size()
    }
    fn ensure_unchanged(&self) -> Result<(), ReadError> {
        self.source.ensure_unchanged()
    }
    fn ensure_sound(&self, columns: &[usize]) -> Result<(), ReadError> {
        self.source.ensure_sound(columns)
    }
    fn zone(&self) -> &str {
        self.source.zone()
    }

    fn notes(&self, columns: &[usize]) -> Vec<Note> {
        let mut notes = self.source.notes(columns);
        notes.extend(self.lookups.iter().cloned());
        let infos = self.source.columns();
        for (place, spelling) in self.spellings.iter().filter(|s| columns.contains(s.0)) {
            let name = &infos[*place].name;
            let told = |j: &String| Note::new(Topic::Joined, format!("{name}: {j}"));
            notes.extend(spelling.joined.iter().map(told));
        }
        notes
    }

    fn scan<'a>(
        &'a self,
        columns: &[usize],
        readers: usize,
    ) -> Result<Vec<Box<dyn Reader + 'a>>, ReadError> {
        let readers = self.source.scan(columns, readers)?;
        let spellings: Vec<Option<&Spelling>> =
            columns.iter().map(|c| self.spellings.get(c)).collect();
        let respell = |reader| -> Box<dyn Reader + 'a> {
            let maps = vec![Vec::new(); spellings.len()];
            let spellings = spellings.clone();
            Box::new(Respelling { reader, spellings, maps, inner: Batch::default() })
        };
        Ok(readers.into_iter().map(respell).collect())
    }
}

/// A reader whose labels are brought to one spelling.
struct Respelling<'a> {
    reader: Box<dyn Reader + 'a>,
    spellings: Vec<Option<&'a Spelling>>,
    maps: Vec<Vec<u32>>,
    inner: Batch,
}

impl Reader for Respelling<'_> {
    fn next(&mut self, batch: &mut Batch) -> Result<bool, ReadError> {
        batch.columns.resize_with(self.spellings.len(), Column::default);
        self.inner.columns.resize_with(self.spellings.len(), Column::default);
        // A column that stays as it is must be the same one at each refill.
        let swap = |batch: &mut Batch, inner: &mut Batch, spellings: &[Option<&Spelling>]| {
            let both = batch.columns.iter_mut().zip(&mut inner.columns);
            both.zip(spellings)
                .filter(|(_, s)| s.is_none())
                .for_each(|((a, b), _)| std::mem::swap(a, b));
        };
        swap(batch, &mut self.inner, &self.spellings);
        let more = self.reader.next(&mut self.inner);
        swap(batch, &mut self.inner, &self.spellings);
        (batch.rows, batch.piece) = (self.inner.rows, self.inner.piece);
        if !more? {
            return Ok(false);
        }
        for (i, spelling) in self.spellings.iter().enumerate() {
            if let Some(spelling) = spelling {
                let (from, to) = (&mut self.inner.columns[i], &mut batch.columns[i]);
                respell(from, spelling, &mut self.maps[i], to);
                std::mem::swap(&mut from.marks, &mut to.marks);
            }
        }
        Ok(true)
    }

    fn piece(&self) -> u64 {
        self.reader.piece()
    }

    fn account(&self) -> Account {
        self.reader.account()
    }
}

/// Counts the labels of some columns.
struct Labels(Vec<usize>);

impl Share for Vec<Texts> {
    fn absorb(&mut self, other: Vec<Texts>, _: usize) -> Result<(), Error> {
        self.iter_mut().zip(&other).for_each(|(mine, theirs)| mine.absorb(theirs));
        Ok(())
    }
}

impl Consumer for Labels {
    type Share = Vec<Texts>;

    fn columns(&self) -> &[usize] {
        &self.0
    }

    fn share(&self) -> Vec<Texts> {
        vec![Texts::default(); self.0.len()]
    }

    fn take(&self, share: &mut Vec<Texts>, batch: &mut Batch) -> Result<(), Error> {
        share.iter_mut().zip(&batch.columns).for_each(|(texts, column)| texts.look_at(column));
        Ok(())
    }
}
