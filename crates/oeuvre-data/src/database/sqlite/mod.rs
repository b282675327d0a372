//! SQLite: a file that holds tables.
//!
//! It is opened for reading alone, and all passes see what stood in it when it was opened: they share one
//! transaction, and further connections begin theirs while nobody can complete one that writes. Where its last
//! changes were folded into the file and nobody writes, it is opened as one that does not change, so that nothing is
//! put beside it. A value has its own type there; the declared type of a column says what that is meant to be: whole
//! numbers as truths, digits of a scale, texts that are no numbers.

mod ranges;
mod says;

use super::kept::{Condition, condition, kept};
use super::{
    Base, Declared, Known, SAMPLE, Sample, Seen, TableRows, chosen, ensure_reads,
    one_after_the_other, places, quoted,
};
use crate::bytes::Opened;
use crate::cells::channel::{Channel, Filling};
use crate::cells::{Block, MakeBlocks, write_number};
use crate::fence::fenced;
use crate::file_rows::{Want, Wanted};
use crate::kinds::values::Shape;
use crate::options::ReadOptions;
use oeuvre_columns::{DataProblem, ReadError};
use rusqlite::types::ValueRef;
use rusqlite::{Connection, OpenFlags};
use std::io::Write;
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

/// Whether a file begins as a database does.
pub(crate) fn is_sqlite(head: &[u8]) -> bool {
    head.starts_with(b"SQLite format 3\0")
}

/// A table of a file.
struct SqliteTable {
    shared: Arc<Shared>,
    /// What the rows are selected from.
    from: String,
    /// The columns as the database calls them.
    columns: Vec<String>,
    /// What the number of a row in the table is called, where it has one.
    row_number: Option<&'static str>,
}

/// What threads share.
struct Shared {
    connection: Mutex<Connection>,
    /// More of them, for readers that read at once; they see what the first one does.
    more: Mutex<Vec<Connection>>,
    /// How one more can be opened; `None` where it could see what was written since.
    address: Option<String>,
    /// The file. It is closed behind the connections: closing it lets go of what they have locked, because locks
    /// are those of a process (POSIX, fcntl).
    opened: Opened,
    /// Whether the file must stay as it is: where changes are kept beside it, they may be folded in meanwhile.
    stays: bool,
    /// A copy of what came as a stream.
    _copy: Option<tempfile::NamedTempFile>,
}

/// Behind a table: its rows in the order in which they stand.
const PLAIN: &str = " NOT INDEXED";

/// What makes the texts of a column's values.
#[derive(Clone, Copy, PartialEq)]
enum Writes {
    Plain,
    /// Nought and one are truths.
    Truths,
    /// So many digits stand behind the point, at least.
    Digits(u8),
}

/// Opens the table that was named, the only one there is, or a query.
///
/// # Errors
/// What is wrong with the file or the query.
pub(crate) fn open(
    name: &str,
    opened: Opened,
    table: Option<&str>,
    options: &ReadOptions,
) -> Result<TableRows, ReadError> {
    let shared = guarded(name, || connected(name, opened))?;
    let connection = shared.connection.lock().unwrap_or_else(PoisonError::into_inner);
    let (shown, from) = match &options.query {
        Some(query) => {
            ensure_reads(name, query)?;
            // A comment at its end ends with its line.
            let query = query.trim().trim_end_matches(';');
            (name.to_owned(), format!("({query}\n)"))
        }
        None => {
            let tables = guarded(name, || tables(&connection))?;
            let names: Vec<String> = tables.iter().map(|(table, _)| table.clone()).collect();
            let table = chosen(name, table, &names)?;
            // In the order in which they were written, whatever columns are read.
            let is_table = tables.iter().any(|(name, is)| *name == table && *is);
            let plain = if is_table { PLAIN } else { "" };
            (format!("{name}#{table}"), format!("{}{plain}", quoted(&table)))
        }
    };
    // By the query itself: inside of another one, names that stand twice are given others.
    let select = match &options.query {
        Some(query) => query.clone(),
        None => format!("SELECT * FROM {from}"),
    };
    let (columns, declared) = guarded(&shown, || described(&connection, &select))?;
    let mut known = Known::new(&shown, declared)?;
    known.sample = guarded(&shown, || sample(&connection, &from, &columns, &known))?;
    let row_number = row_number(&connection, &from, &columns);
    drop(connection);
    let shared = Arc::new(shared);
    Ok(TableRows::new(known, SqliteTable { shared, from, columns, row_number }))
}

/// What the number of a row in a table is called, where it has one that is no column.
fn row_number(connection: &Connection, from: &str, columns: &[String]) -> Option<&'static str> {
    let is_free = |name: &&str| !columns.iter().any(|c| c.eq_ignore_ascii_case(name));
    let name = ["rowid", "_rowid_", "oid"].into_iter().find(is_free)?;
    let asked = format!("SELECT {name} FROM {from} ORDER BY {name} DESC LIMIT 1");
    let is_table = from.ends_with(PLAIN);
    // A table that keeps its rows by another key has none; one that a module makes up may have any.
    let is_whole = |row: &rusqlite::Row<'_>| Ok(matches!(row.get_ref(0)?, ValueRef::Integer(_)));
    (is_table && connection.query_row(&asked, [], is_whole) == Ok(true)).then_some(name)
}

/// Opens the file for reading, and begins the transaction of all passes.
fn connected(name: &str, opened: Opened) -> rusqlite::Result<Shared> {
    let unwritable = |e: std::io::Error| {
        rusqlite::Error::SqliteFailure(
            rusqlite::ffi::Error::new(rusqlite::ffi::SQLITE_CANTOPEN),
            Some(format!("a temporary file cannot be written: {e}")),
        )
    };
    let in_place = opened.is_as_on_disk() && Path::new(name).is_file();
    let mut copy = None;
    if !in_place {
        let mut file = tempfile::NamedTempFile::new().map_err(unwritable)?;
        file.write_all(&opened.bytes).map_err(unwritable)?;
        copy = Some(file);
    }
    let path = copy.as_ref().map_or(Path::new(name), |copy| copy.path());
    // The bytes 18 and 19 say whether changes are kept beside the file until they are folded in.
    let beside = opened.bytes.get(18..20) == Some(&[2, 2]);
    let log = Path::new(&format!("{}-wal", path.display())).exists();
    let fixed = copy.is_some() || (beside && !log);
    let how = if fixed { "immutable=1" } else { "mode=ro" };
    let address = format!("file:{}?{how}", as_uri(path));
    let connection = begun(&address, Duration::from_secs(10))?;
    // While one transaction reads, nobody's is completed, but where changes are kept beside the file.
    let address = (fixed || !beside).then_some(address);
    let connection = Mutex::new(connection);
    let (more, stays) = (Mutex::default(), address.is_some());
    Ok(Shared { connection, more, address, opened, stays, _copy: copy })
}

/// A connection in a transaction that reads; it waits so long for somebody who writes.
fn begun(address: &str, patience: Duration) -> rusqlite::Result<Connection> {
    let flags = OpenFlags::SQLITE_OPEN_READ_ONLY
        | OpenFlags::SQLITE_OPEN_NO_MUTEX
        | OpenFlags::SQLITE_OPEN_URI;
    let connection = Connection::open_with_flags(address, flags)?;
    connection.busy_timeout(patience)?;
    connection.execute_batch("PRAGMA query_only = 1; PRAGMA trusted_schema = 0; BEGIN")?;
    // The transaction begins with the first look.
    connection.query_row("SELECT count(*) FROM sqlite_schema", [], |row| row.get::<_, i64>(0))?;
    Ok(connection)
}

/// A path in an address: RFC 3986, section 2.1.
fn as_uri(path: &Path) -> String {
    let mut uri = String::new();
    for &byte in path.as_os_str().as_encoded_bytes() {
        match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'/' | b'-' | b'_' | b'.' | b'~' => {
                uri.push(char::from(byte));
            }
            _ => uri.push_str(&format!("%{byte:02X}")),
        }
    }
    uri
}

/// The tables and views there are, and which are tables.
fn tables(connection: &Connection) -> rusqlite::Result<Vec<(String, bool)>> {
    let mut tables = connection.prepare(
        "SELECT name, type = 'table' AND sql NOT LIKE 'CREATE VIRTUAL%' FROM sqlite_schema WHERE type IN ('table', 'view') \
         AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\' ORDER BY name",
    )?;
    let tables = tables.query_map([], |row| Ok((row.get(0)?, row.get(1)?)))?;
    tables.collect()
}

/// The columns as the database calls them, and what it says of them.
fn described(
    connection: &Connection,
    select: &str,
) -> rusqlite::Result<(Vec<String>, Vec<Declared>)> {
    let statement = connection.prepare(select)?;
    let mut names = Vec::new();
    let mut declared = Vec::new();
    for column in statement.columns() {
        names.push(column.name().to_owned());
        declared.push(Declared {
            heading: column.name().split_whitespace().collect::<Vec<_>>().join(" "),
            shape: shape_of(column.decl_type().unwrap_or_default()),
            loose: true,
        });
    }
    Ok((names, declared))
}

/// What a declared type says of values: SQLite itself goes by such parts of names.
fn shape_of(declared: &str) -> Shape {
    let upper = declared.to_ascii_uppercase();
    if upper.contains("BOOL") {
        return Shape::Boolean;
    }
    if upper.contains("CHAR") || upper.contains("TEXT") || upper.contains("CLOB") {
        return Shape::Text;
    }
    if let Some((kind, rest)) = upper.split_once('(')
        && matches!(kind.trim(), "DECIMAL" | "NUMERIC")
        && let Some((_, scale)) = rest.trim_end_matches([')', ' ']).split_once(',')
        && let Ok(scale) = scale.trim().parse::<u8>()
        && scale <= 30
    {
        return Shape::Number(scale);
    }
    Shape::Unknown
}

/// How the values of columns are written.
fn writes(declared: &[Declared]) -> Vec<Writes> {
    let of = |d: &Declared| match d.shape {
        Shape::Boolean => Writes::Truths,
        _ => Writes::Plain,
    };
    declared.iter().map(of).collect()
}

/// Writes a value as a file of texts has it.
fn write_value(value: ValueRef<'_>, writes: Writes, seen: &Seen, block: &mut Block) {
    match value {
        ValueRef::Null => {}
        ValueRef::Integer(n @ (0 | 1)) if writes == Writes::Truths => {
            block.text().extend_from_slice(if n == 1 { b"true" } else { b"false" });
        }
        ValueRef::Integer(n) => {
            let mut digits = itoa::Buffer::new();
            block.text().extend_from_slice(digits.format(n).as_bytes());
        }
        ValueRef::Real(n) if n.is_finite() => {
            let from = block.text().len();
            let digits = if let Writes::Digits(digits) = writes { digits } else { 0 };
            write_number(n, digits, block.text());
            block.point_from(from);
        }
        ValueRef::Real(_) => Seen::add(&seen.not_numbers),
        ValueRef::Text(text) => block.text().extend_from_slice(text),
        ValueRef::Blob(_) => Seen::add(&seen.bytes),
    }
}

/// The first rows, as texts.
fn sample(
    connection: &Connection,
    from: &str,
    columns: &[String],
    known: &Known,
) -> rusqlite::Result<Sample> {
    let writes = writes(&known.declared);
    let mut statement = connection.prepare(&format!("SELECT * FROM {from} LIMIT {SAMPLE}"))?;
    let mut rows = statement.query([])?;
    let mut sample = Vec::new();
    let mut block = Block::new(columns.len());
    while let Some(row) = rows.next()? {
        block.clear();
        for (at, (&writes, seen)) in writes.iter().zip(known.seen.iter()).enumerate() {
            write_value(row.get_ref(at)?, writes, seen, &mut block);
            block.end_cell();
        }
        block.end_row(1);
        sample.push((0..columns.len()).map(|at| block.cell(0, at).to_owned()).collect());
    }
    Ok(sample)
}

/// What is read of each row: the places of the columns in the table, and for each column of it how its values are
/// written and what was seen of them.
struct Cells {
    places: Vec<usize>,
    writes: Vec<Writes>,
    seen: Arc<Vec<Seen>>,
}

impl Cells {
    /// Takes a row into a block.
    fn take(&self, row: &rusqlite::Row<'_>, block: &mut Block) -> rusqlite::Result<()> {
        for (at, &place) in self.places.iter().enumerate() {
            write_value(row.get_ref(at)?, self.writes[place], &self.seen[place], block);
            block.end_cell();
        }
        Ok(())
    }
}

/// Fills blocks with the rows of a query; how many there were, or `None` where nobody wanted the rest.
fn fill(
    connection: &Connection,
    query: &str,
    cells: &Cells,
    filling: &mut Filling,
) -> rusqlite::Result<Option<u64>> {
    let mut statement = connection.prepare(query)?;
    let mut rows = statement.query([])?;
    let mut given = 0;
    let Some(mut block) = filling.block() else { return Ok(None) };
    while let Some(row) = rows.next()? {
        cells.take(row, &mut block)?;
        given += 1;
        if !block.end_row(given) {
            if !filling.pass_on(block) {
                return Ok(None);
            }
            block = match filling.block() {
                Some(block) => block,
                None => return Ok(None),
            };
        }
    }
    Ok((block.rows() == 0 || filling.pass_on(block)).then_some(given))
}

/// How many rows a table has.
fn count(connection: &Connection, from: &str) -> rusqlite::Result<u64> {
    let count = format!("SELECT count(*) FROM {from}");
    connection.query_row(&count, [], |row| row.get::<_, i64>(0).map(|n| n as u64))
}

/// Does some work; what is wrong is told in words, also where the library panics on damaged bytes.
fn guarded<T>(name: &str, work: impl FnOnce() -> rusqlite::Result<T>) -> Result<T, ReadError> {
    match fenced(|| Ok::<_, String>(work())) {
        Ok(done) => done.map_err(|error| problem(name, &error)),
        Err(said) => {
            let it = DataProblem::in_file(name, format!("the database cannot be read: {said}"));
            Err(it.help("it may be cut off, damaged or encrypted: copy it again").into())
        }
    }
}

/// What is wrong, in words.
fn problem(name: &str, error: &rusqlite::Error) -> ReadError {
    use rusqlite::ErrorCode;
    let said = match error {
        rusqlite::Error::SqliteFailure(_, Some(said)) => said.clone(),
        rusqlite::Error::SqlInputError { msg, sql, offset, .. } => {
            let at = usize::try_from(*offset).ok().and_then(|at| sql.get(at..));
            match at.filter(|rest| !rest.is_empty()) {
                Some(rest) => {
                    let near: String = rest.chars().take(30).collect();
                    format!("{msg} (before `{near}`)")
                }
                None => msg.clone(),
            }
        }
        other => other.to_string(),
    };
    let it = |message: String| DataProblem::in_file(name, message);
    match error.sqlite_error_code() {
        Some(ErrorCode::NotADatabase | ErrorCode::DatabaseCorrupt) => {
            it(format!("the database cannot be read: {said}"))
                .help("it may be cut off, damaged or encrypted: copy it again")
        }
        Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked) => {
            it("somebody writes to the database".to_owned()).help("run it again when they are done")
        }
        Some(ErrorCode::ReadOnly | ErrorCode::AuthorizationForStatementDenied) => {
            it(format!("the query would change the database: {said}"))
                .help("only queries that read rows are run")
        }
        Some(ErrorCode::CannotOpen | ErrorCode::PermissionDenied) => {
            it(format!("the database cannot be opened: {said}"))
        }
        _ => it(format!("the query cannot be run: {said}")),
    }
    .into()
}

impl SqliteTable {
    /// The condition on the rows that anybody wants, where some can be left out.
    fn condition(&self, name: &str, wanted: &Wanted<'_>) -> Result<Option<String>, ReadError> {
        let asked = condition(&kept(wanted), &says::Says(&self.columns));
        let Some(Condition { wanted, some }) = asked else { return Ok(None) };
        let connection = self.shared.connection.lock().unwrap_or_else(PoisonError::into_inner);
        let has_row = |is: &String| {
            let query = format!("SELECT EXISTS (SELECT 1 FROM {} WHERE {is})", self.from);
            connection.query_row(&query, [], |row| row.get::<_, bool>(0))
        };
        for is in &some {
            if !guarded(name, || has_row(is))? {
                return Ok(None);
            }
        }
        Ok(Some(wanted))
    }

    /// How values of the table are written for what is wanted.
    fn cells(&self, known: &Known, wanted: &Wanted<'_>) -> Cells {
        let mut writes = writes(&known.declared);
        for want in wanted.wants.iter() {
            if let Want::Values { column, place } = *want
                && let Shape::Number(digits) = wanted.columns.reading(column, wanted.file).shape
            {
                writes[place] = Writes::Digits(digits.min(2));
            }
        }
        Cells { places: places(wanted), writes, seen: known.seen.clone() }
    }
}

impl Base for SqliteTable {
    fn start<'a>(&self, known: &Known, wanted: &Wanted<'_>) -> Result<MakeBlocks<'a>, ReadError> {
        let (condition, cells) = (self.condition(&known.name, wanted)?, self.cells(known, wanted));
        let read: Vec<String> = cells.places.iter().map(|&at| quoted(&self.columns[at])).collect();
        let read = if read.is_empty() { "1".to_owned() } else { read.join(", ") };
        // What a row is called by is known only where all come one after the other.
        let one_by_one = wanted.wants.contains(&Want::Number) || self.shared.address.is_none();
        if let Some(row_number) = self.row_number.filter(|_| !one_by_one) {
            let ranges =
                ranges::Ranges::new(self, &known.name, (&read, row_number), condition, cells)?;
            return Ok(ranges.pass());
        }
        let is_where = condition.as_ref().map_or(String::new(), |is| format!(" WHERE {is}"));
        let query = format!("SELECT {read} FROM {}{is_where}", self.from);
        let (shared, from, name) = (self.shared.clone(), self.from.clone(), known.name.clone());
        let channel = Channel::start(cells.places.clone(), move |filling| {
            let connection = shared.connection.lock().unwrap_or_else(PoisonError::into_inner);
            guarded(&name, || {
                let given = fill(&connection, &query, &cells, filling)?;
                match given.filter(|_| condition.is_some()) {
                    Some(given) => Ok(count(&connection, &from)?.saturating_sub(given)),
                    None => Ok(0),
                }
            })
        });
        Ok(one_after_the_other(channel))
    }

    fn ensure_unchanged(&self) -> Result<(), ReadError> {
        match self.shared.stays {
            true => self.shared.opened.ensure_unchanged(),
            false => Ok(()),
        }
    }

    fn bytes(&self) -> u64 {
        self.shared.opened.bytes.len() as u64
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("BOOLEAN", Shape::Boolean)]
    #[case("VARCHAR(20)", Shape::Text)]
    #[case("decimal(10, 2)", Shape::Number(2))]
    #[case("NUMERIC", Shape::Unknown)]
    #[case("DATE", Shape::Unknown)]
    #[case("", Shape::Unknown)]
    fn declared_types_say_what_is_meant(#[case] declared: &str, #[case] shape: Shape) {
        assert_eq!(shape_of(declared), shape);
    }
}
