//! Databases: a table, a view or a query of one is a table.
//!
//! ```text
//! name → connection, the columns of the table (sqlite.rs, postgres/) → a query of the wanted columns and rows
//!      → cells as texts, filled by a thread of its own (crate::cells) → typed columns
//! ```
//!
//! Whatever is asked, all passes see the same rows: a database is read in one transaction that only reads. What
//! `--where` asks is handed on where it is plainly the same there (kept.rs); how many rows were left out by that is
//! counted in the same transaction.

mod kept;
mod postgres;
mod sqlite;

pub use postgres::cancel_queries;
pub(crate) use postgres::open as open_postgres;
pub(crate) use sqlite::{is_sqlite, open as open_sqlite};

use crate::cells::channel::Channel;
use crate::cells::{CellPass, MakeBlocks};
use crate::file_rows::{Counted, FilePass, FileRows, Want, Wanted};
use crate::kinds::Columns;
use crate::kinds::values::Shape;
use crate::options::ReadOptions;
use oeuvre_columns::names::nearest;
use oeuvre_columns::{DataProblem, Note, ReadError, Topic};
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

/// The blocks of a pass that one thread fills for all readers.
fn one_after_the_other<'a>(channel: Channel) -> MakeBlocks<'a> {
    let channel = Arc::new(channel);
    Box::new(move || Box::new(channel.clone()))
}

/// A database that rows come from.
trait Base: Send + Sync {
    /// Begins to fill blocks with what is wanted, for readers that are made one by one.
    ///
    /// # Errors
    /// Why the database cannot be asked.
    fn start<'a>(&self, known: &Known, wanted: &Wanted<'_>) -> Result<MakeBlocks<'a>, ReadError>;

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
        let blocks = self.base.start(&self.known, &wanted)?;
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
