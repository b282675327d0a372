//! PostgreSQL: a server that holds tables.
//!
//! ```text
//! address → connection (address.rs, tls.rs, session.rs) → columns and their types
//!         → COPY in binary of the wanted columns and rows → values as texts (binary.rs)
//! ```
//!
//! Everything is read in one transaction that only reads and sees one state of the tables, however many passes
//! there are. Types that have no value of a table (lists, rows in rows, lengths of time) are read as the text that
//! the server writes for them.

mod address;
mod binary;
mod failures;
mod session;
mod tls;

pub use session::cancel_queries;

use super::kept::{Bound, Condition, Dialect, condition, kept};
use super::{
    Base, Declared, Known, SAMPLE, Seen, TableRows, ensure_reads, one_after_the_other, places,
    quoted,
};
use crate::cells::MakeBlocks;
use crate::cells::channel::{Channel, Filling};
use crate::file_rows::Wanted;
use crate::kinds::values::Shape;
use crate::names::name_shown;
use crate::options::{ReadOptions, Zone};
use address::Address;
use binary::{Kind, Rows};
use oeuvre_columns::{DataProblem, Note, ReadError, Topic};
use session::Session;
use std::sync::{Arc, Mutex, PoisonError};

/// A table of a server.
struct PostgresTable {
    session: Arc<Mutex<Session>>,
    /// What the rows are selected from.
    from: String,
    columns: Arc<Vec<Column>>,
    zone: Zone,
    /// Whether the server keeps texts in UTF-8: in others, some cannot be said.
    utf8: bool,
}

/// A column of a table.
struct Column {
    /// As the server calls it.
    name: String,
    kind: Kind,
    /// The name of its type, where that is none of ours.
    other: Option<String>,
    /// What it holds, where that is no value of a table and told.
    told: Option<String>,
}

impl Column {
    /// What is selected of it.
    fn expression(&self) -> String {
        let name = quoted(&self.name);
        match (&self.other, self.kind) {
            (Some(_), Kind::Numeric) => format!("{name}::numeric"),
            (Some(_), _) => format!("{name}::text"),
            (None, _) => name,
        }
    }
}

/// The server's way to say what is handed on.
struct Says<'c> {
    columns: &'c [Column],
    /// Whether all texts can be said.
    utf8: bool,
}

impl Dialect for Says<'_> {
    fn has_value(&self, place: usize, shape: Shape) -> Option<String> {
        let column = &self.columns[place];
        if column.other.is_some() {
            return None;
        }
        let name = self.column(place);
        match (column.kind, shape) {
            (Kind::Whole, Shape::Number(_)) => Some(format!("{name} IS NOT NULL")),
            // Neither infinite nor no number.
            (Kind::Numeric, Shape::Number(_)) => {
                Some(format!("({name} IS NOT NULL AND {name} - {name} = 0)"))
            }
            (Kind::Day, Shape::Date(_)) => {
                Some(format!("{name} BETWEEN DATE '0001-01-01' AND DATE '9999-12-31'"))
            }
            (Kind::Time { zoned: false }, Shape::DateTime) => Some(format!(
                "{name} BETWEEN TIMESTAMP '0001-01-01' AND TIMESTAMP '9999-12-31 23:59:59.999999'"
            )),
            (Kind::Text | Kind::Padded, Shape::Text) if self.utf8 => {
                Some(format!("btrim({}) <> ''", self.text(place)))
            }
            _ => None,
        }
    }

    fn compared(&self, place: usize, bound: &Bound) -> Option<(String, String)> {
        let value = match (bound, self.columns[place].kind) {
            (Bound::Number(n), Kind::Whole | Kind::Numeric) => n.clone(),
            (Bound::Day(day), Kind::Day) => format!("DATE '{day}'"),
            (Bound::Time(time), Kind::Time { zoned: false }) => format!("TIMESTAMP '{time}'"),
            _ => return None,
        };
        Some((self.column(place), value))
    }

    fn text(&self, place: usize) -> String {
        format!("({}::text COLLATE \"C\")", self.column(place))
    }

    fn is_beyond_ascii(&self, text: &str) -> String {
        format!("{text} ~ '[^ -~]'")
    }

    fn literal(&self, text: &str) -> String {
        format!("E'{}'", text.replace('\\', "\\\\").replace('\'', "''"))
    }

    fn column(&self, place: usize) -> String {
        quoted(&self.columns[place].name)
    }
}

/// Opens the table that was named, the only one that may be read, or a query.
///
/// # Errors
/// Why the server cannot be asked, or what is wrong with the query.
pub(crate) fn open(
    name: &str,
    table: Option<&str>,
    options: &ReadOptions,
) -> Result<TableRows, ReadError> {
    let shown = name_shown(name);
    let address = Address::parse(name, &options.databases)?;
    let mut session = Session::connect(&shown, &address, &options.databases)?;
    let (shown, from) = match &options.query {
        Some(query) => {
            ensure_reads(&shown, query)?;
            // A comment at its end ends with its line.
            let query = query.trim().trim_end_matches(';');
            (shown, format!("({query}\n) AS \"query\""))
        }
        None => {
            let (schema, table) = session.table(&shown, table)?;
            let name = format!("{shown}#{schema}.{table}");
            (name, format!("{}.{}", quoted(&schema), quoted(&table)))
        }
    };
    let columns = session.columns(&shown, &from)?;
    let declared: Vec<Declared> = columns.iter().map(|(_, declared)| declared.clone()).collect();
    let mut known = Known::new(&shown, declared)?;
    let columns: Vec<Column> = columns.into_iter().map(|(column, _)| column).collect();
    let all: Vec<usize> = (0..columns.len()).collect();
    let query = format!("SELECT {} FROM {from} LIMIT {SAMPLE}", selected(&columns, &all));
    let mut sample = Vec::new();
    session.copy(&shown, &query, |rows| {
        let mut block = crate::cells::Block::new(columns.len());
        loop {
            block.clear();
            if !rows.next((&columns, &all, &known.seen), &options.zone, &mut block)? {
                return Ok(true);
            }
            block.end_row(1);
            sample.push((0..columns.len()).map(|at| block.cell(0, at).to_owned()).collect());
        }
    })?;
    known.sample = sample;
    let utf8 = session.is_utf8(&shown)?;
    let table = PostgresTable {
        utf8,
        session: Arc::new(Mutex::new(session)),
        from,
        columns: Arc::new(columns),
        zone: options.zone.clone(),
    };
    Ok(TableRows::new(known, table))
}

/// The expressions of some columns.
fn selected(columns: &[Column], places: &[usize]) -> String {
    let all: Vec<String> = places.iter().map(|&at| columns[at].expression()).collect();
    all.join(", ")
}

/// Fills blocks with rows; whether all of them were wanted, and how many.
fn fill(
    rows: &mut Rows<'_, '_>,
    of: (&[Column], &[usize], &[Seen]),
    zone: &Zone,
    (filling, given): (&mut Filling, &mut u64),
) -> Result<bool, ReadError> {
    let Some(mut block) = filling.block() else { return Ok(false) };
    while rows.next(of, zone, &mut block)? {
        *given += 1;
        if !block.end_row(*given) {
            if !filling.pass_on(block) {
                return Ok(false);
            }
            block = match filling.block() {
                Some(block) => block,
                None => return Ok(false),
            };
        }
    }
    Ok(block.rows() == 0 || filling.pass_on(block))
}

/// Whether each of some conditions holds of some row.
fn have_rows(
    session: &mut Session,
    name: &str,
    from: &str,
    conditions: &[String],
) -> Result<bool, ReadError> {
    for condition in conditions {
        let query = format!("SELECT EXISTS (SELECT 1 FROM {from} WHERE {condition})::int::bigint");
        if session.count(name, &query)? == 0 {
            return Ok(false);
        }
    }
    Ok(true)
}

impl Base for PostgresTable {
    fn start<'a>(&self, known: &Known, wanted: &Wanted<'_>) -> Result<MakeBlocks<'a>, ReadError> {
        let places = places(wanted);
        let query = format!("SELECT {} FROM {}", selected(&self.columns, &places), self.from);
        let says = Says { columns: &self.columns, utf8: self.utf8 };
        let (condition, from) = (condition(&kept(wanted), &says), self.from.clone());
        let (session, columns) = (self.session.clone(), self.columns.clone());
        let (seen, name, zone) = (known.seen.clone(), known.name.clone(), self.zone.clone());
        let of_rows = places.clone();
        let channel = Channel::start(places, move |filling| {
            let mut session = session.lock().unwrap_or_else(PoisonError::into_inner);
            let (mut query, mut leaves_out) = (query, false);
            if let Some(Condition { wanted, some }) = condition
                && have_rows(&mut session, &name, &from, &some)?
            {
                query.push_str(&format!(" WHERE {wanted}"));
                leaves_out = true;
            }
            let mut given = 0;
            session.copy(&name, &query, |rows| {
                fill(rows, (&columns, &of_rows, &seen), &zone, (filling, &mut given))
            })?;
            if !leaves_out {
                return Ok(0);
            }
            let all = session.count(&name, &format!("SELECT count(*) FROM {from}"))?;
            Ok(all.saturating_sub(given))
        });
        Ok(one_after_the_other(channel))
    }

    fn notes(&self, known: &Known) -> Vec<Note> {
        let of = known.headings.iter().zip(known.seen.iter()).zip(self.columns.iter());
        let told = of.filter_map(|((heading, seen), column)| {
            let what = column.told.as_ref().filter(|_| seen.is_as_text())?;
            let text =
                format!("{heading} holds {what}, read as the text that the server writes for them");
            Some(Note::new(Topic::Reading, text))
        });
        told.collect()
    }
}

/// The problem of a server, by the name that it is shown by.
fn problem(name: &str, message: String) -> DataProblem {
    DataProblem::in_file(name, message)
}
