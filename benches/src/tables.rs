//! The simple request on workbooks and databases, against what the libraries alone take to hand over the same cells.

use crate::{SIMPLE, median, run};
use calamine::Reader;
use std::fs::File;
use std::io::{BufRead, BufReader, Read, Write};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::{Duration, Instant};

/// Where a PostgreSQL server may be used: `postgresql://user@host/database`, with its password in `PGPASSWORD`.
const SERVER: &str = "OEUVRE_BENCHES_POSTGRES";
/// So many rows go into workbooks.
const ROWS: usize = 500_000;

/// Prints how they compare.
pub(crate) fn report(program: &Path, dir: &Path, csv: &Path, rounds: usize) {
    let base = sqlite(dir, csv);
    let alone = || sqlite_alone(&base);
    compare("SQLite", rounds, 1.3, &|| run(program, &base, &SIMPLE), &alone);
    match std::env::var(SERVER) {
        Ok(address) => {
            filled(&address, csv);
            let table = PathBuf::from(format!("{address}#oeuvre_bookings"));
            let alone = || postgres_alone(&address);
            compare("PostgreSQL", rounds, 1.3, &|| run(program, &table, &SIMPLE), &alone);
        }
        Err(_) => println!("PostgreSQL: {SERVER} names no server"),
    }
    for ending in ["xlsx", "ods"] {
        let book = book(program, dir, csv, ending);
        let alone = || book_alone(&book);
        compare(ending, rounds, 1.2, &|| run(program, &book, &SIMPLE), &alone);
    }
}

fn compare(
    what: &str,
    rounds: usize,
    wanted: f64,
    ours: &dyn Fn() -> Duration,
    alone: &dyn Fn() -> Duration,
) {
    let mut ratios = Vec::new();
    for round in 0..=rounds {
        let (alone, ours) = (alone().as_secs_f64(), ours().as_secs_f64());
        // The first round warms the cache.
        if round > 0 {
            ratios.push(ours / alone);
        }
    }
    let ratio = median(ratios.into_iter());
    println!("{what}: {ratio:.2} times the library alone (at most {wanted} wanted)");
}

const TYPES: [(&str, &str); 15] = [
    ("booking_id", "INTEGER"),
    ("booked_at", "TIMESTAMP"),
    ("sailed_on", "DATE"),
    ("route", "TEXT"),
    ("vessel", "TEXT"),
    ("ticket", "TEXT"),
    ("channel", "TEXT"),
    ("customer_id", "INTEGER"),
    ("passengers", "INTEGER"),
    ("vehicles", "INTEGER"),
    ("fare", "NUMERIC(8,2)"),
    ("extras", "NUMERIC(8,2)"),
    ("status", "TEXT"),
    ("delay_min", "TEXT"),
    ("note", "TEXT"),
];

fn created(table: &str) -> String {
    let columns: Vec<String> = TYPES.iter().map(|(name, of)| format!("{name} {of}")).collect();
    format!("CREATE TABLE {table} ({})", columns.join(", "))
}

/// The rows as an SQLite file.
fn sqlite(dir: &Path, csv: &Path) -> PathBuf {
    let file = dir.join("bookings.sqlite");
    if file.exists() {
        return file;
    }
    let mut base = rusqlite::Connection::open(&file).expect("the temporary folder can be written");
    base.execute_batch("PRAGMA journal_mode = off; PRAGMA synchronous = off").expect("it is ours");
    base.execute_batch(&created("bookings")).expect("it is new");
    let filling = base.transaction().expect("it is ours");
    {
        let marks = vec!["?"; TYPES.len()].join(", ");
        let insert = format!("INSERT INTO bookings VALUES ({marks})");
        let mut insert = filling.prepare(&insert).expect("it was just made");
        let mut rows = csv::Reader::from_path(csv).expect("the rows are there");
        let mut record = csv::StringRecord::new();
        while rows.read_record(&mut record).expect("the rows are sound") {
            let values = record.iter().map(|field| (!field.is_empty()).then_some(field));
            insert.execute(rusqlite::params_from_iter(values)).expect("the rows fit");
        }
    }
    filling.commit().expect("it is ours");
    file
}

/// The library's own loop over the same columns.
fn sqlite_alone(file: &Path) -> Duration {
    let started = Instant::now();
    let base = rusqlite::Connection::open(file).expect("it was just written");
    let mut rows = base.prepare("SELECT route, fare FROM bookings").expect("it was just written");
    let mut rows = rows.query([]).expect("it was just written");
    let mut bytes = 0;
    while let Some(row) = rows.next().expect("it was just written") {
        let route = row.get_ref(0).expect("there are two");
        let fare = row.get_ref(1).expect("there are two");
        bytes += route.as_str().map_or(0, str::len) + usize::from(fare.as_f64().is_ok());
    }
    assert!(bytes > 0);
    started.elapsed()
}

fn client(address: &str) -> postgres::Client {
    let mut config: postgres::Config = address.parse().expect("the variable holds an address");
    if let Ok(password) = std::env::var("PGPASSWORD") {
        config.password(password);
    }
    config.connect(postgres::NoTls).expect("the server can be reached")
}

/// The rows as a table of the server.
fn filled(address: &str, csv: &Path) {
    let mut client = client(address);
    let known = client.query("SELECT 1 FROM pg_class WHERE relname = 'oeuvre_bookings'", &[]);
    if !known.expect("the server answers").is_empty() {
        return;
    }
    client.batch_execute(&created("oeuvre_bookings")).expect("the user may make tables");
    let mut to = client.copy_in("COPY oeuvre_bookings FROM STDIN CSV HEADER").expect("it is new");
    let mut rows = BufReader::with_capacity(1 << 20, File::open(csv).expect("the rows are there"));
    loop {
        let some = rows.fill_buf().expect("the rows can be read");
        if some.is_empty() {
            break;
        }
        to.write_all(some).expect("the server takes them");
        let n = some.len();
        rows.consume(n);
    }
    to.finish().expect("the rows fit");
    client.batch_execute("VACUUM ANALYZE oeuvre_bookings").expect("it is ours");
}

/// The driver handing over the same columns.
fn postgres_alone(address: &str) -> Duration {
    let started = Instant::now();
    let mut client = client(address);
    let query = "COPY (SELECT route, fare FROM oeuvre_bookings) TO STDOUT (FORMAT binary)";
    let mut rows = client.copy_out(query).expect("it was just filled");
    let mut bytes = 0;
    loop {
        let n = rows.fill_buf().expect("the server answers").len();
        if n == 0 {
            break;
        }
        bytes += n;
        rows.consume(n);
    }
    assert!(bytes > 0);
    started.elapsed()
}

/// The first rows as a workbook, written by the program itself.
fn book(program: &Path, dir: &Path, csv: &Path, ending: &str) -> PathBuf {
    let file = dir.join(format!("first.{ending}"));
    if !file.exists() {
        let part = dir.join("first.csv");
        let rows = BufReader::new(File::open(csv).expect("the rows are there"));
        let mut out = std::io::BufWriter::new(
            File::create(&part).expect("the temporary folder can be written"),
        );
        for line in rows.lines().take(ROWS + 1) {
            writeln!(out, "{}", line.expect("the rows are text")).expect("there is room");
        }
        out.flush().expect("there is room");
        let mut writing = Command::new(program);
        writing.arg("detail").arg(&part).arg("--quiet").arg("--to").arg(&file);
        assert!(writing.status().is_ok_and(|s| s.success()), "{ending} could not be written");
    }
    file
}

/// The library's own loop over the cells.
fn book_alone(file: &Path) -> Duration {
    let started = Instant::now();
    let mut bytes = Vec::new();
    File::open(file).expect("it was just written").read_to_end(&mut bytes).expect("it can be read");
    let bytes = std::io::Cursor::new(bytes);
    let mut cells = 0;
    if file.extension().is_some_and(|ending| ending == "xlsx") {
        let mut book = calamine::Xlsx::new(bytes).expect("it was just written");
        let sheet = book.sheet_names()[0].clone();
        let mut reader = book.worksheet_cells_reader(&sheet).expect("it was just written");
        while let Some(cell) = reader.next_cell().expect("it was just written") {
            cells += usize::from(*cell.get_value() != calamine::DataRef::Empty);
        }
    } else {
        let mut book = calamine::Ods::new(bytes).expect("it was just written");
        let sheet = book.sheet_names()[0].clone();
        let range = book.worksheet_range(&sheet).expect("it was just written");
        cells = range.used_cells().count();
    }
    assert!(cells > 0);
    started.elapsed()
}
