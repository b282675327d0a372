//! SQLite: a file that holds tables.
//!
//! It is opened for reading alone, and all passes see what stood in it when it was opened: they share one
//! transaction. Where its last changes were folded into the file and nobody writes, it is opened as one that does
//! not change, so that nothing is put beside it. A value has its own type there; the declared type of a column says
//! what that is meant to be: whole numbers as truths, digits of a scale, texts that are no numbers.

use super::{
    Base, Between, Bound, Declared, Kept, Known, SAMPLE, Sample, Seen, TableRows, chosen,
    ensure_reads, kept, places, quoted,
};
use crate::bytes::Opened;
use crate::cells::channel::{Channel, Filling};
use crate::cells::{Block, write_number};
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
}

/// What threads share.
struct Shared {
    connection: Mutex<Connection>,
    /// The bytes, where the file must stay as it is.
    opened: Option<Opened>,
    /// A copy of what came as a stream.
    _copy: Option<tempfile::NamedTempFile>,
}

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
            let plain = if is_table { " NOT INDEXED" } else { "" };
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
    drop(connection);
    let shared = Arc::new(shared);
    Ok(TableRows::new(known, SqliteTable { shared, from, columns }))
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
    let flags = OpenFlags::SQLITE_OPEN_READ_ONLY
        | OpenFlags::SQLITE_OPEN_NO_MUTEX
        | OpenFlags::SQLITE_OPEN_URI;
    let connection = match fixed {
        true => Connection::open_with_flags(format!("file:{}?immutable=1", as_uri(path)), flags)?,
        false => Connection::open_with_flags(format!("file:{}?mode=ro", as_uri(path)), flags)?,
    };
    connection.busy_timeout(std::time::Duration::from_secs(10))?;
    connection.execute_batch("PRAGMA query_only = 1; PRAGMA trusted_schema = 0; BEGIN")?;
    // The transaction begins with the first look.
    connection.query_row("SELECT count(*) FROM sqlite_schema", [], |row| row.get::<_, i64>(0))?;
    let opened = fixed.then_some(opened);
    Ok(Shared { connection: Mutex::new(connection), opened, _copy: copy })
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
        "SELECT name, type = 'table' FROM sqlite_schema WHERE type IN ('table', 'view') \
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

/// The condition for the rows that are kept, where all others have a value in the columns that it looks at.
fn condition(kept: &Kept, columns: &[String]) -> String {
    let one = |between: &Between| {
        let column = quoted(&columns[between.place]);
        // A day and a time compare by their texts, where they are written in ISO form; by the day alone, because
        // the sign before the time may be another one.
        let (ready, compared, literal): (_, _, fn(&Bound) -> String) =
            match between.low.as_ref().or(between.high.as_ref()) {
                Some(Bound::Number(_)) => {
                    (format!("typeof({column}) IN ('integer', 'real')"), column.clone(), |bound| {
                        match bound {
                            Bound::Number(n) | Bound::Day(n) | Bound::Time(n) => n.clone(),
                        }
                    })
                }
                _ => (
                    format!(
                        "typeof({column}) = 'text' AND {column} GLOB \
                         '[0-9][0-9][0-9][0-9]-[0-9][0-9]-[0-9][0-9]*'"
                    ),
                    format!("substr({column}, 1, 10)"),
                    |bound| match bound {
                        Bound::Number(n) | Bound::Day(n) | Bound::Time(n) => {
                            format!("'{}'", n.get(..10).unwrap_or(n))
                        }
                    },
                ),
            };
        let mut holds = Vec::new();
        if let Some(low) = &between.low {
            holds.push(format!("{compared} >= {}", literal(low)));
        }
        if let Some(high) = &between.high {
            holds.push(format!("{compared} <= {}", literal(high)));
        }
        (ready, if holds.is_empty() { "1".to_owned() } else { holds.join(" AND ") })
    };
    let all = |betweens: &Vec<Between>| {
        let parts: Vec<(String, String)> = betweens.iter().map(one).collect();
        let ready: Vec<String> = parts.iter().map(|(ready, _)| format!("({ready})")).collect();
        let holds: Vec<String> = parts.iter().map(|(_, holds)| format!("({holds})")).collect();
        format!("NOT ({}) OR ({})", ready.join(" AND "), holds.join(" AND "))
    };
    kept.iter().map(|k| format!("({})", all(k))).collect::<Vec<_>>().join(" OR ")
}

/// Fills blocks with the rows of a query.
fn fill(
    shared: &Shared,
    (query, count): (&str, Option<&str>),
    (places, writes, seen): (&[usize], &[Writes], &[Seen]),
    filling: &mut Filling,
) -> rusqlite::Result<u64> {
    let connection = shared.connection.lock().unwrap_or_else(PoisonError::into_inner);
    let mut statement = connection.prepare(query)?;
    let mut rows = statement.query([])?;
    let mut given = 0;
    let Some(mut block) = filling.block() else { return Ok(0) };
    while let Some(row) = rows.next()? {
        for (at, &place) in places.iter().enumerate() {
            write_value(row.get_ref(at)?, writes[place], &seen[place], &mut block);
            block.end_cell();
        }
        given += 1;
        if !block.end_row(given) {
            if !filling.pass_on(block) {
                return Ok(0);
            }
            block = match filling.block() {
                Some(block) => block,
                None => return Ok(0),
            };
        }
    }
    if block.rows() > 0 && !filling.pass_on(block) {
        return Ok(0);
    }
    drop(rows);
    match count {
        Some(count) => {
            let all: i64 = connection.query_row(count, [], |row| row.get(0))?;
            Ok((all as u64).saturating_sub(given))
        }
        None => Ok(0),
    }
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

impl Base for SqliteTable {
    fn start(&self, known: &Known, wanted: &Wanted<'_>) -> Channel {
        let (places, kept) = (places(wanted), kept(wanted));
        let read: Vec<String> = places.iter().map(|&at| quoted(&self.columns[at])).collect();
        let read = if read.is_empty() { "1".to_owned() } else { read.join(", ") };
        let mut query = format!("SELECT {read} FROM {}", self.from);
        let mut count = None;
        if !kept.is_empty() {
            query.push_str(&format!(" WHERE {}", condition(&kept, &self.columns)));
            count = Some(format!("SELECT count(*) FROM {}", self.from));
        }
        let (shared, seen, name) = (self.shared.clone(), known.seen.clone(), known.name.clone());
        let mut writes = writes(&known.declared);
        for want in wanted.wants.iter() {
            if let Want::Values { column, place } = *want
                && let Shape::Number(digits) = wanted.columns.reading(column, wanted.file).shape
            {
                writes[place] = Writes::Digits(digits.min(2));
            }
        }
        let of_rows = places.clone();
        Channel::start(places, move |filling| {
            let query = (query.as_str(), count.as_deref());
            guarded(&name, || fill(&shared, query, (&of_rows, &writes, &seen), filling))
        })
    }

    fn ensure_unchanged(&self) -> Result<(), ReadError> {
        self.shared.opened.as_ref().map_or(Ok(()), Opened::ensure_unchanged)
    }

    fn bytes(&self) -> u64 {
        self.shared.opened.as_ref().map_or(0, |opened| opened.bytes.len() as u64)
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

    #[test]
    fn conditions_leave_out_only_what_is_known() {
        let between = |low, high| Between { place: 0, low: Some(low), high };
        let kept = vec![vec![between(Bound::Number("12.5".into()), None)]];
        assert_eq!(
            condition(&kept, &["fa\"re".into()]),
            "(NOT ((typeof(\"fa\"\"re\") IN ('integer', 'real'))) OR ((\"fa\"\"re\" >= 12.5)))"
        );
        let time = Bound::Time("2025-03-01T10:00".into());
        let kept = vec![vec![between(time.clone(), Some(time))]];
        let text = condition(&kept, &["at".into()]);
        assert!(text.contains("substr(\"at\", 1, 10) <= '2025-03-01'"), "{text}");
    }
}
