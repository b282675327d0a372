//! Databases: a table, a view or a query of one is a table.
//!
//! ```text
//! name → connection, the columns of the table (sqlite.rs, postgres/) → a query of the wanted columns and rows
//!      → cells as texts, filled by a thread of its own (crate::cells) → typed columns
//! ```
//!
//! Whatever is asked, all passes see the same rows: a database is read in one transaction that only reads. What
//! `--where` asks of numbers and dates is handed on where it is plainly the same there ([`Kept`]); how many rows
//! were left out by that is counted in the same transaction.

mod postgres;
mod sqlite;

pub use postgres::cancel_queries;
pub(crate) use postgres::open as open_postgres;
pub(crate) use sqlite::{is_sqlite, open as open_sqlite};

use crate::cells::CellPass;
use crate::cells::channel::Channel;
use crate::file_rows::{Counted, FilePass, FileRows, Want, Wanted};
use crate::kinds::Columns;
use crate::kinds::values::Shape;
use crate::options::ReadOptions;
use oeuvre_columns::names::nearest;
use oeuvre_columns::{DataProblem, Limits, Note, Range, ReadError, Topic, Value};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

/// So many rows are looked at to guess what a column holds.
const SAMPLE: usize = 500;

/// What a database says of a column.
#[derive(Clone, Debug)]
struct Declared {
    heading: String,
    /// What its type says that it holds; `Unknown` leaves it to the values.
    shape: Shape,
    /// Whether texts may be dates and truths, because there are no types for these.
    loose: bool,
}

/// The first rows of a table, as texts, to guess from.
type Sample = Vec<Vec<String>>;

/// What is known of a table, of whatever database.
struct Known {
    /// The database and the table.
    name: String,
    declared: Vec<Declared>,
    headings: Vec<String>,
    sample: Sample,
    /// What was seen of the values of each column in the last pass.
    seen: Arc<Vec<Seen>>,
}

impl Known {
    /// What is known of columns before a row was read.
    ///
    /// # Errors
    /// Columns without a name, or with the same one.
    fn new(name: &str, declared: Vec<Declared>) -> Result<Known, ReadError> {
        ensure_differ(name, &declared)?;
        Ok(Known {
            name: name.to_owned(),
            headings: declared.iter().map(|d| d.heading.clone()).collect(),
            seen: Arc::new(declared.iter().map(|_| Seen::default()).collect()),
            sample: Sample::new(),
            declared,
        })
    }

    /// A new pass begins.
    fn forget(&self) {
        self.seen.iter().for_each(Seen::forget);
    }

    /// What is told of the values that were seen.
    fn notes(&self, zone: &str) -> Vec<Note> {
        let of = self.headings.iter().zip(self.seen.iter());
        of.flat_map(|(heading, seen)| seen.notes(heading, &self.name, zone)).collect()
    }

    /// Says what is known of the columns: what their types say, and else what the first values look like.
    fn look(&self, file: usize, order: &[Option<usize>], columns: &mut Columns) {
        for (column, place) in order.iter().enumerate() {
            let Some(place) = *place else { continue };
            let Declared { shape, loose, .. } = self.declared[place];
            if shape != Shape::Unknown && !(loose && shape == Shape::Text) {
                columns.typed(column, shape);
                continue;
            }
            let texts = || {
                let cells =
                    (1..).zip(&self.sample).map(|(row, cells)| (row, cells[place].as_str()));
                cells
                    .filter(|(_, text)| !text.is_empty())
                    .map(|(row, text): (usize, &str)| (row, std::borrow::Cow::Borrowed(text)))
            };
            let problem = |row: usize, message: String| {
                DataProblem::in_file(self.name.as_str(), message).at_row(row as u64)
            };
            columns.guess((column, file), texts, problem);
            columns.sure_of_signs(column, file);
            // Digits in a column of texts are codes.
            let guessed = columns.states()[column].shape;
            if shape == Shape::Text && matches!(guessed, Shape::Number(_) | Shape::Float) {
                columns.typed(column, Shape::Text);
            }
        }
    }
}

/// A database that rows come from.
trait Base: Send + Sync {
    /// Begins to fill blocks with what is wanted.
    fn start(&self, known: &Known, wanted: &Wanted<'_>) -> Channel;

    /// An error when what was opened has changed, where that could be seen.
    fn ensure_unchanged(&self) -> Result<(), ReadError> {
        Ok(())
    }

    /// Its bytes, where they are known.
    fn bytes(&self) -> u64 {
        0
    }

    /// What is told beside the values that were seen.
    fn notes(&self, known: &Known) -> Vec<Note> {
        let _ = known;
        Vec::new()
    }
}

/// A table, a view or a query of a database, as rows.
pub(crate) struct TableRows {
    known: Known,
    base: Box<dyn Base>,
}

impl TableRows {
    fn new(known: Known, base: impl Base + 'static) -> TableRows {
        TableRows { known, base: Box::new(base) }
    }

    /// What it is called.
    pub(crate) fn name(&self) -> String {
        self.known.name.clone()
    }
}

impl FileRows for TableRows {
    fn headings(&self) -> &[String] {
        &self.known.headings
    }

    fn counted(&self) -> Counted {
        Counted::Rows
    }

    fn takes_queries(&self) -> bool {
        true
    }

    fn look(&self, file: usize, order: &[Option<usize>], columns: &mut Columns) {
        self.known.look(file, order, columns);
    }

    fn scan<'a>(&'a self, wanted: Wanted<'a>) -> Result<Box<dyn FilePass<'a> + 'a>, ReadError> {
        self.known.forget();
        let blocks = Arc::new(self.base.start(&self.known, &wanted));
        Ok(Box::new(CellPass { name: &self.known.name, wanted, blocks }))
    }

    fn pieces(&self, _: usize) -> usize {
        // How many rows there are is known only when they have come.
        usize::MAX / 2
    }

    fn bytes(&self) -> u64 {
        self.base.bytes()
    }

    fn contents(&self) -> &[u8] {
        &[]
    }

    fn ensure_unchanged(&self) -> Result<(), ReadError> {
        self.base.ensure_unchanged()
    }

    fn notes(&self, options: &ReadOptions) -> Vec<Note> {
        let mut notes = self.known.notes(&options.zone.name);
        notes.extend(self.base.notes(&self.known));
        notes
    }
}

/// A value that a column is compared with.
#[derive(Clone, Debug, PartialEq)]
enum Bound {
    /// A number, as it is written, and with so many digits behind its point.
    Number(String),
    /// A day in ISO form.
    Day(String),
    /// A time in ISO form, to the microsecond.
    Time(String),
}

/// From where to where a column is wanted.
#[derive(Clone, Debug, PartialEq)]
struct Between {
    /// The place of the column in the table.
    place: usize,
    low: Option<Bound>,
    high: Option<Bound>,
}

/// The rows that anybody wants: those for which all of one of these hold; all rows where there are none.
type Kept = Vec<Vec<Between>>;

/// What can be handed on of what is wanted: conditions on columns of numbers and dates alone. A row is left out
/// unseen only where each of these columns has a value in it, so that it is known for what it is left out.
fn kept(wanted: &Wanted<'_>) -> Kept {
    // What a row is called by is its place among all.
    if wanted.wants.contains(&Want::Number) {
        return Kept::new();
    }
    wanted
        .bounds
        .of
        .iter()
        .map(|limits| ranges(limits, wanted))
        .collect::<Option<_>>()
        .unwrap_or_default()
}

/// The ranges of some limits; `None` where they are not all that is asked.
fn ranges(limits: &Limits, wanted: &Wanted<'_>) -> Option<Vec<Between>> {
    let is_known = |column: &usize| limits.ranges.iter().any(|range| range.column == *column);
    if limits.ranges.is_empty() || !limits.columns.iter().all(is_known) {
        return None;
    }
    let between = |range: &Range| {
        let place = wanted.wants.iter().find_map(|want| match *want {
            Want::Values { column, place } if column == range.column => Some(place),
            _ => None,
        })?;
        let state = &wanted.columns.states()[range.column];
        if !state.missing.is_empty() || state.forced.is_some() {
            return None;
        }
        let shape = wanted.columns.reading(range.column, wanted.file).shape;
        let low = range.low.as_ref().map(|value| bound(value, shape));
        let high = range.high.as_ref().map(|value| bound(value, shape));
        // Where one of them cannot be said, nothing is.
        match (low, high) {
            (Some(None), _) | (_, Some(None)) => None,
            (low, high) => Some(Between { place, low: low.flatten(), high: high.flatten() }),
        }
    };
    limits.ranges.iter().map(between).collect()
}

/// A value that a column of a shape is compared with.
fn bound(value: &Value, shape: Shape) -> Option<Bound> {
    match (value, shape) {
        (Value::Number(number), Shape::Number(_)) => Some(Bound::Number(number.to_string())),
        (Value::Date(_), Shape::Date(_)) => Some(Bound::Day(value.to_string())),
        (Value::DateTime(_), Shape::DateTime) => Some(Bound::Time(value.to_string())),
        _ => None,
    }
}

/// The places of the columns that are wanted, each once, ascending.
fn places(wanted: &Wanted<'_>) -> Vec<usize> {
    let values = wanted.wants.iter().filter_map(|want| match want {
        Want::Values { place, .. } => Some(*place),
        _ => None,
    });
    let mut places: Vec<usize> = values.collect();
    places.sort_unstable();
    places.dedup();
    places
}

/// A name as SQL has it.
fn quoted(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

/// Headings must differ, as everywhere.
fn ensure_differ(name: &str, declared: &[Declared]) -> Result<(), ReadError> {
    let mut seen = std::collections::HashSet::new();
    for column in declared {
        if column.heading.is_empty() {
            let it = DataProblem::in_file(name, "a column of the query has no name");
            return Err(it.help("name it: SELECT … AS revenue").into());
        }
        if !seen.insert(&column.heading) {
            let message = format!("the column `{}` stands twice", column.heading);
            let it = DataProblem::in_file(name, message);
            return Err(it.help("name one of them otherwise: SELECT … AS other_name").into());
        }
    }
    Ok(())
}

/// The table that was meant of those there are: the one that was named, or the only one.
fn chosen(name: &str, named: Option<&str>, tables: &[String]) -> Result<String, ReadError> {
    const SHOWN: usize = 12;
    let shown = tables.iter().take(SHOWN).cloned().collect::<Vec<_>>().join(", ");
    let listed = match tables.len() {
        n if n > SHOWN => format!("{shown} and {} more", n - SHOWN),
        _ => shown,
    };
    let it = |message: String| DataProblem::in_file(name, message);
    match (named, tables) {
        (Some(named), _) => {
            let found = tables.iter().find(|t| *t == named).or_else(|| {
                let mut alike = tables.iter().filter(|t| t.to_lowercase() == named.to_lowercase());
                alike.next().filter(|_| alike.next().is_none())
            });
            if let Some(found) = found {
                return Ok(found.clone());
            }
            let near = nearest(named, tables.iter().map(String::as_str));
            let help = match (near.first(), tables.is_empty()) {
                (Some(near), _) => format!("did you mean `{near}`?"),
                (None, true) => "there are no tables in it".to_owned(),
                (None, false) => format!("tables in it: {listed}"),
            };
            Err(it(format!("there is no table `{named}` in it")).help(help).into())
        }
        (None, []) => Err(it("there are no tables in it".to_owned()).into()),
        (None, [only]) => Ok(only.clone()),
        (None, [first, ..]) => {
            Err(it(format!("there are {} tables in it: {listed}", tables.len()))
                .help(format!("name one: '{name}#{first}', or ask with --query 'SELECT …'"))
                .into())
        }
    }
}

/// A query must be one that reads; the database sees to it that it is.
fn ensure_reads(name: &str, query: &str) -> Result<(), ReadError> {
    let bare = query.trim_start().trim_start_matches('(').trim_start();
    let first: String = bare.chars().take_while(|c| c.is_ascii_alphabetic()).collect();
    if matches!(first.to_ascii_uppercase().as_str(), "SELECT" | "WITH" | "VALUES" | "TABLE") {
        return Ok(());
    }
    let message = match first.is_empty() {
        true => "--query holds no query".to_owned(),
        false => format!("--query begins with {first}: only queries that read rows are run"),
    };
    let it = DataProblem::in_file(name, message);
    Err(it.help("as in --query 'SELECT route, fare FROM bookings'").into())
}

/// What was seen of a column's values that is to be told.
#[derive(Debug, Default)]
struct Seen {
    bytes: AtomicU64,
    not_numbers: AtomicU64,
    no_dates: AtomicU64,
    early: AtomicU64,
    zoned: AtomicU64,
    as_text: AtomicU64,
}

impl Seen {
    fn all(&self) -> [&AtomicU64; 6] {
        let Seen { bytes, not_numbers, no_dates, early, zoned, as_text } = self;
        [bytes, not_numbers, no_dates, early, zoned, as_text]
    }

    /// Whether values of a type that is none of ours were read.
    fn is_as_text(&self) -> bool {
        self.as_text.load(Ordering::Relaxed) > 0
    }

    /// A new pass begins.
    fn forget(&self) {
        self.all().iter().for_each(|n| n.store(0, Ordering::Relaxed));
    }

    fn add(count: &AtomicU64) {
        count.fetch_add(1, Ordering::Relaxed);
    }

    /// What is told of a column.
    fn notes(&self, heading: &str, name: &str, zone: &str) -> Vec<Note> {
        let mut notes = Vec::new();
        let mut say = |n: &AtomicU64, one: &str, many: &str| {
            let text = match n.load(Ordering::Relaxed) {
                0 => return,
                1 => format!("{heading} of {name}: 1 {one}"),
                n => format!("{heading} of {name}: {n} {many}"),
            };
            notes.push(Note::new(Topic::Reading, text));
        };
        say(
            &self.bytes,
            "value is bytes without a meaning here and is taken as missing",
            "values are bytes without a meaning here and are taken as missing",
        );
        say(
            &self.not_numbers,
            "value is infinite or no number, and is taken as missing",
            "values are infinite or no numbers, and are taken as missing",
        );
        say(
            &self.no_dates,
            "date is infinite or outside the years 1 to 9999, and is taken as missing",
            "dates are infinite or outside the years 1 to 9999, and are taken as missing",
        );
        say(&self.early, "date lies before 1900", "dates lie before 1900");
        if self.zoned.load(Ordering::Relaxed) > 0 {
            let text = format!(
                "{heading} holds instants, read as the clock in {zone} showed; another zone: --zone NAME"
            );
            notes.push(Note::new(Topic::Reading, text));
        }
        notes
    }
}
