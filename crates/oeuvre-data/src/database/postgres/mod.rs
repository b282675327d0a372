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

use super::{
    Base, Between, Bound, Declared, Kept, Known, SAMPLE, Seen, TableRows, ensure_reads, kept,
    places, quoted,
};
use crate::cells::channel::{Channel, Filling};
use crate::file_rows::Wanted;
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

    /// The condition of a range of it, and the one that it has a value in it; `None` where its order may be another
    /// one than ours.
    fn condition(&self, between: &Between) -> Option<(String, String)> {
        if self.other.is_some() {
            return None;
        }
        let name = quoted(&self.name);
        let ready = match self.kind {
            Kind::Whole => format!("{name} IS NOT NULL"),
            // Neither infinite nor no number.
            Kind::Numeric => format!("({name} IS NOT NULL AND {name} - {name} = 0)"),
            Kind::Day => format!("{name} BETWEEN DATE '0001-01-01' AND DATE '9999-12-31'"),
            Kind::Time { zoned: false } => {
                format!(
                    "{name} BETWEEN TIMESTAMP '0001-01-01' AND TIMESTAMP '9999-12-31 23:59:59.999999'"
                )
            }
            _ => return None,
        };
        let literal = |bound: &Bound| match (bound, self.kind) {
            (Bound::Number(n), Kind::Whole | Kind::Numeric) => Some(n.clone()),
            (Bound::Day(day), Kind::Day) => Some(format!("DATE '{day}'")),
            (Bound::Time(time), Kind::Time { .. }) => Some(format!("TIMESTAMP '{time}'")),
            _ => None,
        };
        let mut holds = Vec::new();
        for (bound, sign) in [(&between.low, ">="), (&between.high, "<=")] {
            if let Some(bound) = bound {
                holds.push(format!("{name} {sign} {}", literal(bound)?));
            }
        }
        let holds = if holds.is_empty() { "true".to_owned() } else { holds.join(" AND ") };
        Some((ready, holds))
    }
}

/// The condition for the rows that are kept; `None` where it cannot be handed on.
fn condition(kept: &Kept, columns: &[Column]) -> Option<String> {
    let mut all = Vec::new();
    for betweens in kept {
        let parts: Option<Vec<(String, String)>> =
            betweens.iter().map(|b| columns[b.place].condition(b)).collect();
        let (ready, holds): (Vec<String>, Vec<String>) = parts?.into_iter().unzip();
        // What is not known is kept: `NULL` is neither.
        all.push(format!("(({}) IS NOT TRUE OR ({}))", ready.join(" AND "), holds.join(" AND ")));
    }
    (!all.is_empty()).then(|| all.join(" OR "))
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
    let table = PostgresTable {
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

impl Base for PostgresTable {
    fn start(&self, known: &Known, wanted: &Wanted<'_>) -> Channel {
        let places = places(wanted);
        let mut query = format!("SELECT {} FROM {}", selected(&self.columns, &places), self.from);
        let mut count = None;
        if let Some(condition) = condition(&kept(wanted), &self.columns) {
            query.push_str(&format!(" WHERE {condition}"));
            count = Some(format!("SELECT count(*) FROM {}", self.from));
        }
        let (session, columns) = (self.session.clone(), self.columns.clone());
        let (seen, name, zone) = (known.seen.clone(), known.name.clone(), self.zone.clone());
        let of_rows = places.clone();
        Channel::start(places, move |filling| {
            let mut session = session.lock().unwrap_or_else(PoisonError::into_inner);
            let mut given = 0;
            session.copy(&name, &query, |rows| {
                fill(rows, (&columns, &of_rows, &seen), &zone, (filling, &mut given))
            })?;
            match count {
                Some(count) => Ok(session.count(&name, &count)?.saturating_sub(given)),
                None => Ok(0),
            }
        })
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
