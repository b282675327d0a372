//! Rows from SQLite and PostgreSQL: the same figures as from files, and whatever may go wrong with a server.

mod common;
use common::Folder;
use common::requests::{REQUESTS, answer};
use common::server::{PASSWORD, Server};
use rstest::rstest;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::sync::Arc;
use std::time::{Duration, Instant};

fn made(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/data").join(name)
}

/// A folder with the bookings and a database that others wrote.
fn folder() -> Folder {
    let folder = Folder::new();
    for name in ["bookings.csv", "harbour.sqlite"] {
        folder.write(name, std::fs::read(made(name)).unwrap());
    }
    folder.knows(PASSWORD)
}

const BOOKINGS: &str = "booking_id int PRIMARY KEY, route varchar(40), sailed_on date, \
    booked_at timestamp, fare numeric(9, 2), passengers smallint, delay_min int, member boolean, \
    note text";

/// A server with the bookings in a table of this name.
fn server(table: &str) -> Arc<Server> {
    let server = Server::running();
    server.load(table, BOOKINGS, &made("bookings.csv"));
    server
}

#[rstest]
fn a_table_gives_the_same_bytes_and_the_same_account(#[values(0, 1)] part: usize) {
    let (folder, server) = (folder(), server(&format!("same{part}")));
    let table = format!("{}#same{part}", server.address());
    for asked in REQUESTS.iter().skip(part).step_by(2) {
        let expected = answer(&folder, asked, "bookings.csv", 1);
        for threads in [1, 2] {
            assert_eq!(answer(&folder, asked, &table, threads), expected, "{asked}");
        }
    }
}

#[test]
fn a_database_is_a_lookup_a_report_and_a_stack() {
    let (folder, server) = (folder(), server("stacked"));
    let address = server.address();
    server.sql("harbour", "CREATE TABLE routes (code text, coast text); INSERT INTO routes VALUES ('SKE', 'North'), ('HAV', 'North'), ('KEL', 'West')");
    let coasts = "--match 'route = code' --by routes.coast --show 'count()' --as csv --quiet";
    folder.write("routes.csv", "code,coast\nSKE,North\nHAV,North\nKEL,West\n");
    let expected = folder.line(&format!("summary bookings.csv --lookup routes.csv {coasts}")).ok();
    let of_server =
        format!("summary harbour.sqlite#bookings --lookup 'routes={address}#routes' {coasts}");
    assert_eq!(folder.line(&of_server).ok(), expected);
    let query = format!(
        "summary {address}#stacked --lookup 'routes={address}' --query \"routes=SELECT code, coast FROM routes\" {coasts}"
    );
    assert_eq!(folder.line(&query).ok(), expected);
    let stacked = format!(
        "summary bookings.csv '{address}#stacked' harbour.sqlite#bookings --by source_file --show 'count(), sum(fare)' --as csv --quiet"
    );
    let table = folder.line(&stacked).ok();
    let figures: Vec<&str> = table.lines().skip(1).map(|l| l.split_once(',').unwrap().1).collect();
    assert!(figures.len() == 3 && figures.iter().all(|f| *f == figures[0]), "{table}");
    folder.write("r.toml", format!("[data]\nfiles = [\"{address}\"]\nquery = \"SELECT route, fare FROM stacked\"\n\n[[table]]\nby = \"route\"\nshow = \"sum(fare)\"\n"));
    let report = folder.line("report r.toml --as markdown").fine().0;
    assert!(report.contains("| KEL "), "{report}");
}

#[test]
fn a_saved_request_asks_the_same_server() {
    let (folder, server) = (folder(), server("saved"));
    let asked = format!("{}#saved", server.address());
    let line =
        format!("summary {asked} --by route --show 'sum(fare)' --as csv --save-report s.toml");
    let expected = folder.line(&line).fine().0;
    assert!(folder.read("s.toml").contains(&asked), "{}", folder.read("s.toml"));
    assert!(folder.line("report s.toml --as csv").fine().0.contains(&expected));
}

#[test]
fn a_table_that_is_named_twice_is_told_and_a_lookup_is_called_by_it() {
    let (folder, server) = (folder(), server("twice"));
    let table = format!("'{}#twice'", server.address());
    for rows in [table.as_str(), "harbour.sqlite#bookings"] {
        let said = folder.line(&format!("summary {rows} {rows} --show 'count()'")).fine().1;
        assert!(said.contains("is given twice, and its rows are counted twice"), "{said}");
    }
    server.sql("harbour", "CREATE TABLE ports (code text, since text); INSERT INTO ports VALUES ('SKE', '2020-01-01')");
    let line = format!(
        "summary bookings.csv --lookup '{}#ports' --match 'route = code' --by ports.since --as csv",
        server.address()
    );
    assert!(folder.line(&line).fine().0.contains("2020-01-01,"));
    // A text of a server is one, whatever it looks like.
    let error = folder.line(&format!("{} --show 'max(year(ports.since))'", line)).error();
    assert!(error.contains("found text"), "{error}");
}

/// What a database has of a kind of its own.
#[rstest]
#[case("n", "9223372036854775807,-5,")]
#[case("code", "007,12,n/a")]
#[case("mixed", "1,two,2.5")]
#[case("far", ",0.1,")]
#[case("photo", ",,")]
fn values_of_sqlite_are_what_they_are(#[case] column: &str, #[case] values: &str) {
    let folder = folder();
    let (table, said) =
        folder.line(&format!("detail harbour.sqlite#odd --show '{column}' --as csv")).fine();
    let found: Vec<&str> = table.lines().skip(1).map(|line| line.trim_matches('"')).collect();
    assert_eq!(found.join(","), values);
    let told = ["photo", "far"].contains(&column);
    assert_eq!(said.contains("taken as missing"), told, "{said}");
}

#[rstest]
#[case("harbour.sqlite", "there are 3 tables in it: bookings, dear, odd")]
#[case("harbour.sqlite#booking", "did you mean `bookings`?")]
#[case("harbour.sqlite --query 'DELETE FROM odd'", "only queries that read rows are run")]
#[case("harbour.sqlite --query 'SELECT nope FROM odd'", "no such column: nope")]
#[case("harbour.sqlite --query 'SELECT n, n FROM odd'", "the column `n` stands twice")]
#[case("harbour.sqlite --query 'SELECT load_extension(1)'", "not authorized")]
#[case("cut.sqlite#bookings", "cut.sqlite")]
#[case("bookings.csv --query 'SELECT 1'", "--query asks a database, and this is none")]
fn what_is_wrong_with_a_database_is_told(#[case] rows: &str, #[case] said: &str) {
    let folder = folder();
    let whole = std::fs::read(made("harbour.sqlite")).unwrap();
    folder.write("cut.sqlite", &whole[..9000]);
    let error = folder.line(&format!("summary {rows} --show 'count()'")).error();
    assert!(error.contains(said), "{error}");
}

#[test]
fn a_file_is_left_as_it_is() {
    let folder = folder();
    let connection = rusqlite::Connection::open(folder.path("log.sqlite")).unwrap();
    connection
        .execute_batch(
            "PRAGMA journal_mode = wal; CREATE TABLE t (n); INSERT INTO t VALUES (1), (2)",
        )
        .unwrap();
    // Somebody else has it open, with what is not folded in yet.
    assert_eq!(folder.csv("log.sqlite", &["--show", "sum(n)"]), "sum(n)\n3\n");
    drop(connection);
    let before = (folder.names(), std::fs::read(folder.path("log.sqlite")).unwrap());
    assert_eq!(folder.csv("log.sqlite", &["--show", "sum(n)"]), "sum(n)\n3\n");
    assert_eq!((folder.names(), std::fs::read(folder.path("log.sqlite")).unwrap()), before);
    let bytes = std::fs::read(made("harbour.sqlite")).unwrap();
    folder.csv("harbour.sqlite#bookings", &["--by", "route"]);
    assert_eq!(std::fs::read(folder.path("harbour.sqlite")).unwrap(), bytes);
    // What comes as a stream is a database, too.
    let run =
        folder.run_with(&["summary", "-", "--query", "SELECT fare FROM dear", "--quiet"], &bytes);
    assert!(run.ok().contains("32"));
}

/// While a file is read, whoever writes to it waits: passes and readers see one state of it.
#[test]
fn nobody_changes_a_file_that_is_read() {
    let folder = Folder::new();
    let path = folder.path("busy.sqlite");
    let base = rusqlite::Connection::open(&path).unwrap();
    base.busy_timeout(Duration::ZERO).unwrap();
    base.execute_batch(
        "CREATE TABLE t (n INTEGER); INSERT INTO t VALUES (1);
         CREATE TABLE named (most INTEGER, name TEXT); INSERT INTO named VALUES (2000000, 'two')",
    )
    .unwrap();
    let slow = "WITH RECURSIVE g(n) AS (VALUES (1) UNION ALL SELECT n + 1 FROM g WHERE n < 2000000) \
        SELECT max(g.n) AS most FROM g, t";
    let run = || {
        let mut child = std::process::Command::new(env!("CARGO_BIN_EXE_oeuvre"))
            .current_dir(folder.path(""))
            .args([
                "summary",
                "busy.sqlite",
                "--query",
                slow,
                "--lookup",
                "names=busy.sqlite#named",
            ])
            .args(["--match", "most = names.most", "--by", "names.name", "--quiet"])
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        let mut refused = false;
        while !refused && child.try_wait().unwrap().is_none() {
            refused = base.execute_batch("INSERT INTO t VALUES (2)").is_err();
            std::thread::sleep(Duration::from_millis(5));
        }
        let ended = child.wait_with_output().unwrap();
        (ended.status.success(), refused, String::from_utf8_lossy(&ended.stderr).into_owned())
    };
    // What is written after the file is looked at and before it is locked is noticed, and told: then once more.
    let is_early = |(_, _, said): &(bool, bool, String)| said.contains("the file changed while");
    let ended = (0..20).map(|_| run()).find(|ended| !is_early(ended));
    let (is_fine, refused, said) = ended.expect("it is locked before the next row is written");
    assert!(is_fine, "{said}");
    assert!(refused, "the file was not locked");
}

#[test]
fn types_of_a_server_are_read_as_they_are() {
    let (folder, server) = (folder(), Server::running());
    server.sql("harbour", "
        CREATE TYPE berth AS (name text, long int);
        CREATE DOMAIN money2 AS numeric(12, 2);
        CREATE TABLE kinds (n int, big bigint, wide numeric, fixed money2, f float8, r real, pad char(6), list text[],
            berth berth, raw bytea, span interval, id uuid, doc jsonb, day date, at timestamptz, clock time, price money,
            truth boolean, word text);
        INSERT INTO kinds VALUES
            (1, 9223372036854775807, 12345678901234567890123456789012345.678, -12.3, 0.1, 0.1, 'SKE', '{a,b}',
             ('x', 3), '\\x0102', '1 mon 2 days', '12345678-1234-1234-1234-123456789abc', '{\"a\": 1}', '1850-03-01',
             '2025-07-01 12:00+00', '08:30', '$1,234.50', true, ''),
            (2, -1, 'NaN', 0, 'Infinity', 2.5, 'LIN', NULL, NULL, NULL, NULL, NULL, NULL, 'infinity',
             '2025-01-01 12:00+00', NULL, NULL, false, 'n/a'),
            (3, NULL, 0.001, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, '0044-03-15 BC', NULL, NULL, NULL, NULL, NULL)");
    let table = format!("'{}#kinds'", server.address());
    let column = |name: &str| {
        let line = format!("detail {table} --show n,{name} --as json --zone Europe/Copenhagen");
        let (text, said) = folder.line(&line).fine();
        let values: Vec<String> = text
            .lines()
            .filter_map(|line| line.trim().strip_prefix(&format!("\"{name}\": ")))
            .map(|value| value.trim_matches('"').to_owned())
            .collect();
        let json: serde_json::Value = serde_json::from_str(&text).unwrap();
        let shown = json["rows"].as_array().unwrap().iter().map(|row| match &row[name] {
            serde_json::Value::Null => String::new(),
            serde_json::Value::String(text) => text.clone(),
            other => other.to_string(),
        });
        (if values.len() == 3 { values } else { shown.collect() }, said)
    };
    for (name, values, note) in [
        ("big", "9223372036854775807|-1|", ""),
        ("fixed", "-12.30|0.00|", ""),
        ("f", "0.1||", "1 value is infinite or no number"),
        ("r", "0.1|2.5|", ""),
        ("pad", "SKE|LIN|", ""),
        ("list", "{a,b}||", "list holds lists of text"),
        ("berth", "(x,3)||", "berth holds rows of the type berth"),
        ("raw", "\\x0102||", "raw holds bytes"),
        ("span", "1 mon 2 days||", "span holds lengths of time"),
        ("id", "12345678-1234-1234-1234-123456789abc||", ""),
        ("doc", "{\"a\": 1}||", ""),
        ("day", "1850-03-01||", "2 dates are infinite or outside the years 1 to 9999"),
        (
            "at",
            "2025-07-01T14:00:00|2025-01-01T13:00:00|",
            "read as the clock in Europe/Copenhagen",
        ),
        ("clock", "08:30:00||", ""),
        ("price", "1234.50||", ""),
        ("truth", "true|false|", ""),
        ("word", "|n/a|", ""),
    ] {
        let (found, said) = column(name);
        assert_eq!(found.join("|"), values, "{name}: {said}");
        assert!(said.contains(note), "{name}: {said}");
        // Nothing is told of columns that nobody asked for.
        assert_eq!(
            said.matches("note:").count(),
            usize::from(!note.is_empty()) + usize::from(name == "day"),
            "{name}: {said}"
        );
    }
    let csv = folder.line(&format!("detail {table} --show wide --as csv --quiet")).ok();
    assert_eq!(csv, "wide\n12345678901234567890123456789012345.678\n\"\"\n0.001\n");
}

/// What a condition counts, and what is told of it, but what the rows are read from.
fn counted(folder: &Folder, file: &str, condition: &str) -> (String, Vec<String>) {
    let line = format!(
        "summary {file} --where \"{condition}\" --show 'count(), sum(n), sum(fare)' --as csv"
    );
    let (table, said) = folder.line(&line).fine();
    let own = ["infinite", "no numbers", "read as the text", "is written", "dates", "rows from"];
    let told = said.lines().filter(|line| !own.iter().any(|own| line.contains(own)));
    (table, told.map(str::to_owned).collect())
}

/// Conditions on columns n, fare, day, at and t.
const CONDITIONS: [&str; 24] = [
    "fare between 3 and 5",
    "n > 100 and n <= 200",
    "n in (7, 8, 9) and fare < 1000",
    "day >= '2025-03-01' and day < '2025-04-01'",
    "at >= '2025-01-03T12:00' and at < '2025-01-03T15:00'",
    "fare > 100 or n < 3",
    "day > '2030-01-01' and fare > 1",
    "fare is missing",
    "fare is missing and n > 7",
    "t is missing",
    "day is not missing and n < 100",
    "t = 'Sailed'",
    "t = 'sailed' and fare < 40",
    "t in ('Sailed', 'late') and n between 5 and 500",
    "t in ('Sailed', 'sailed')",
    "t = 'saild'",
    "t = 'late' and n > 4999",
    "t = 'late' and fare is missing",
    "t <> 'Sailed' and n < 50",
    "t = 'it''s' or n = 4",
    "t = 'it''s'",
    "t = 'Fähre' and day is not missing",
    "t = 'back\\\\slash'",
    "t > 'm' and n < 90",
];

#[test]
fn conditions_leave_out_the_same_rows_there_as_here() {
    let (folder, server) = (folder(), Server::running());
    server.sql("harbour", "
        CREATE TABLE gaps (n int, fare numeric, day date, at timestamp, t text);
        INSERT INTO gaps SELECT g, g / 10.0, DATE '2025-01-01' + g, TIMESTAMP '2025-01-01' + g * interval '1 hour',
                (ARRAY['Sailed', 'sailed', 'SAILED ', 'late', 'late', 'it''s', 'Fähre', 'fähre', 'back\\slash', ' ', NULL])[g % 11 + 1]
            FROM generate_series(1, 5000) g;
        INSERT INTO gaps VALUES (NULL, 'NaN', 'infinity', '-infinity'), (7, NULL, NULL, NULL), (8, 'NaN', '-infinity', 'infinity'),
            (9, 3, '20000-01-01', NULL)");
    let table = format!("{}#gaps", server.address());
    folder.line(&format!("detail {table} --as csv --quiet --to gaps.csv")).ok();
    for condition in CONDITIONS {
        let expected = counted(&folder, "gaps.csv", condition);
        assert_eq!(counted(&folder, &table, condition), expected, "{condition}");
    }
}

#[test]
fn rows_of_a_file_that_lie_anywhere_come_in_their_order() {
    let folder = folder();
    let base = rusqlite::Connection::open(folder.path("far.sqlite")).unwrap();
    // Two in a row of their own at each end, many in one range of numbers, others with gaps.
    base.execute_batch(
        "CREATE TABLE gaps (n INTEGER, fare REAL, day TEXT, at TEXT, t TEXT, photo BLOB);
         CREATE INDEX late ON gaps (t, n);
         WITH RECURSIVE g(n) AS (VALUES (1) UNION ALL SELECT n + 1 FROM g WHERE n < 12000)
         INSERT INTO gaps (rowid, n, fare, day, at, t) SELECT
             CASE WHEN n = 1 THEN -9223372036854775807 - 1 WHEN n < 9000 THEN n * 3 ELSE n * 100003 END,
             n, n / 8.0, date('2025-01-01', n || ' days'), datetime('2025-01-01', n || ' hours'),
             CASE n % 7 WHEN 0 THEN 'Sailed' WHEN 1 THEN 'sailed' WHEN 2 THEN 'SAILED ' WHEN 3 THEN 'it''s' WHEN 4 THEN ' '
                 WHEN 5 THEN 'Fähre' ELSE 'late' END FROM g;
         INSERT INTO gaps (rowid, n, fare, day, at, t) VALUES
             (9223372036854775807, 7, NULL, NULL, NULL, NULL), (2000, 8, 9e999, '2025-01-09', NULL, 'back\\slash');
         CREATE TABLE keyed (t TEXT PRIMARY KEY, n INTEGER) WITHOUT ROWID;
         INSERT INTO keyed VALUES ('b', 2), ('a', 1);
         CREATE TABLE named (rowid TEXT, oid TEXT, _rowid_ TEXT); INSERT INTO named VALUES ('x', 'y', 'z');
         CREATE TABLE none (n INTEGER)",
    )
    .unwrap();
    drop(base);
    folder.line("detail far.sqlite#gaps --show n,fare,day,at,t --as csv --quiet --to far.csv").ok();
    let csv = std::fs::read_to_string(folder.path("far.csv")).unwrap();
    assert!(csv.starts_with("n,fare,day,at,t\n1,0.125,2025-01-02,"), "{}", &csv[..200]);
    assert!(csv.ends_with("\n7,,,,\n"), "{}", &csv[csv.len() - 60..]);
    for condition in CONDITIONS {
        for file in ["far.sqlite#gaps", "far.sqlite --query 'SELECT * FROM gaps'"] {
            let expected = counted(&folder, "far.csv", condition);
            assert_eq!(counted(&folder, file, condition), expected, "{file}: {condition}");
        }
    }
    let ordered = "--by t --show 'first(n), last(n), list(distinct day where n < 40)' --as csv";
    let expected = folder.line(&format!("summary far.csv {ordered} --quiet")).ok();
    for threads in 1..=3 {
        let of_table = format!("summary far.sqlite#gaps {ordered} --quiet --threads {threads}");
        assert_eq!(folder.line(&of_table).ok(), expected);
    }
    let base = rusqlite::Connection::open(folder.path("far.sqlite")).unwrap();
    base.execute_batch("UPDATE gaps SET at = 'soon' WHERE n = 10000").unwrap();
    for threads in 1..=3 {
        let forced = format!("--by at --kind at=datetime --threads {threads}");
        let said = folder.line(&format!("summary far.sqlite#gaps {forced}")).error();
        assert!(said.contains("row 10001") && said.contains("soon"), "{said}");
    }
    assert_eq!(folder.csv("far.sqlite#keyed", &["--by", "t"]).lines().count(), 3);
    assert!(folder.csv("far.sqlite#named", &["--by", "oid"]).contains("y,1"));
    assert!(folder.csv("far.sqlite#none", &["--show", "count()"]).contains("\n0\n"));
    // Rows that are left out there are not looked at here.
    base.execute_batch("UPDATE gaps SET photo = x'00' WHERE t = 'late'").unwrap();
    let photos = |condition: &str| {
        let line = format!("summary far.sqlite#gaps --show 'count(photo)' --where \"{condition}\"");
        folder.line(&line).fine().1.contains("bytes without a meaning")
    };
    assert_eq!((photos("t = 'late'"), photos("t = 'Fähre'"), photos("n > 3")), (true, false, true));
    assert!(!photos("n < 5") && photos("t <> 'Fähre'"));
}

#[test]
fn who_may_not_read_is_told_so_and_nothing_secret_is() {
    let server = server("locked");
    server.sql(
        "harbour",
        "
        CREATE ROLE analyst LOGIN PASSWORD 'tide table';
        CREATE TABLE open_to_all (n int); INSERT INTO open_to_all VALUES (1);
        GRANT SELECT ON open_to_all TO analyst;
        CREATE FUNCTION writes() RETURNS int LANGUAGE sql AS 'DELETE FROM open_to_all RETURNING n'",
    );
    let at = format!("127.0.0.1:{}", server.port);
    let analyst = |table: &str| {
        format!("summary 'postgresql://analyst@{at}/harbour{table}' --show 'count()'")
    };
    let folder = Folder::new().knows("tide table");
    assert!(folder.line(&analyst("#open_to_all")).fine().0.contains('1'));
    for (line, said) in [
        (analyst("#locked"), "the user may not read the table public.locked"),
        (analyst("#open_to_al"), "did you mean `public.open_to_all`?"),
        (analyst("?sslmode=sometimes#open_to_all"), "sslmode `sometimes` is not known"),
        (
            format!("summary 'postgresql://analyst:tide-table@{at}/harbour#open_to_all'"),
            "a password does not belong into an address",
        ),
        (format!("summary postgresql://analyst@{at}/harbor#t"), "there is no database `harbor`"),
        (
            format!("summary postgresql://nobody@{at}/harbour --query 'SELECT writes()'"),
            "does not accept the password of the user",
        ),
        (
            analyst(" --query 'SELECT * FROM locked")
                .replace("' --show", "\" --show")
                .replace("harbour ", "harbour' ")
                .replace("--query '", "--query \""),
            "may not read",
        ),
    ] {
        let error = folder.line(&line).error();
        assert!(error.contains(said), "{line}\n{error}");
        assert!(!error.contains("tide"), "{error}");
    }
    let owner = Folder::new().knows(PASSWORD);
    let writing = format!("summary {} --query 'SELECT writes() AS n'", server.address());
    let error = owner.line(&writing).error();
    assert!(error.contains("the query would change the database"), "{error}");
    let wrong = Folder::new().knows("tide tabel");
    let error = wrong.line(&analyst("#open_to_all")).error();
    assert!(error.contains("does not accept the password of the user analyst"), "{error}");
    assert!(error.contains("~/.pgpass") && !error.contains("tabel"), "{error}");
    // No server.
    let error = owner.line("summary postgresql://owner@127.0.0.1:9/harbour#t").error();
    assert!(error.contains("no server can be reached at 127.0.0.1:9"), "{error}");
}

#[test]
#[cfg(unix)]
fn a_password_file_is_used_where_it_is_ones_own() {
    use std::os::unix::fs::PermissionsExt;
    let server = server("filed");
    let folder = Folder::new();
    folder.write(
        "pass",
        format!(
            "# ours\nother.example:*:*:*:no\n*:{}:har*:owner:no\n*:{}:harbour:owner:{PASSWORD}\n",
            server.port, server.port
        ),
    );
    let path = folder.path("pass");
    let folder = folder.with_env("PGPASSFILE", path.to_str().unwrap());
    let line = format!("summary {}#filed --show 'count()' --as csv --quiet", server.address());
    let set =
        |mode: u32| std::fs::set_permissions(&path, std::fs::Permissions::from_mode(mode)).unwrap();
    set(0o600);
    assert_eq!(folder.line(&line).ok(), "count()\n240\n");
    set(0o644);
    let error = folder.line(&line).error();
    assert!(error.contains("the server asks for the password of the user owner"), "{error}");
}

#[test]
fn what_is_sent_is_encrypted_where_that_is_asked() {
    let (folder, server) = (folder(), server("sealed"));
    let at = |host: &str, settings: &str| {
        format!(
            "summary 'postgresql://owner@{host}:{}/harbour?{settings}#sealed' --show 'count()' --as csv --quiet",
            server.port
        )
    };
    let how = "summary ADDRESS --query 'SELECT ssl FROM pg_stat_ssl WHERE pid = pg_backend_pid()' --by ssl --as csv --quiet";
    for (mode, sealed) in [("require", "true"), ("prefer", "true"), ("disable", "false")] {
        let address =
            format!("'postgresql://owner@127.0.0.1:{}/harbour?sslmode={mode}'", server.port);
        let table = folder.line(&how.replace("ADDRESS", &address)).ok();
        assert!(table.contains(&format!("\n{sealed},1")), "{mode}: {table}");
    }
    let error = folder.line(&at("localhost", "sslmode=verify-full")).error();
    assert!(error.contains("nobody who is known vouches for the server"), "{error}");
    let certificate = std::fs::read(server.path("server.crt")).unwrap();
    folder.write("ours.crt", certificate);
    let named = at("localhost", "sslmode=verify-full&sslrootcert=ours.crt");
    assert_eq!(folder.line(&named).ok(), "count()\n240\n");
    // It vouches for another name.
    let error = folder.line(&at("127.0.0.1", "sslmode=verify-full&sslrootcert=ours.crt")).error();
    assert!(error.contains("vouches for the server"), "{error}");
}

/// A query that takes long: rows come, and more rows.
fn slow(server: &Server, marked: &str) -> String {
    format!(
        "summary {} --query 'SELECT g AS n, pg_sleep(0.001)::text AS {marked} FROM generate_series(1, 1000000) g' --show 'sum(n)'",
        server.address()
    )
}

/// Waits until a query of this mark runs, or runs no more.
fn wait_for(server: &Server, marked: &str, runs: bool) {
    let asked = format!(
        "SELECT count(*) FROM pg_stat_activity WHERE state = 'active' AND query LIKE 'COPY%{marked}%'"
    );
    let until = Instant::now() + Duration::from_secs(30);
    while (server.sql("harbour", &asked).trim() != "0") != runs {
        assert!(Instant::now() < until, "the query {marked}: {runs}");
        std::thread::sleep(Duration::from_millis(50));
    }
}

#[test]
fn a_connection_that_is_lost_is_told() {
    let (folder, server) = (folder(), Server::running());
    let words = common::words(&slow(&server, "lost"));
    let child = folder
        .command()
        .args(&words)
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    wait_for(&server, "lost", true);
    server.sql("harbour", "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE query LIKE 'COPY%lost%' AND pid <> pg_backend_pid()");
    let output = child.wait_with_output().unwrap();
    let said = String::from_utf8(output.stderr).unwrap();
    assert!(
        output.status.code() == Some(1) && said.contains("the connection to the server was lost"),
        "{said}"
    );
}

#[test]
fn a_limit_of_the_server_is_told() {
    let (folder, server) = (folder(), Server::running());
    server.sql("harbour", &format!("CREATE ROLE hasty LOGIN PASSWORD '{PASSWORD}'; ALTER ROLE hasty SET statement_timeout = 300"));
    let error = folder.line(&slow(&server, "hasty").replace("owner@", "hasty@")).error();
    assert!(error.contains("the server broke the query off"), "{error}");
}

#[test]
#[cfg(unix)]
fn who_interrupts_ends_the_query_on_the_server() {
    let (folder, server) = (folder(), Server::running());
    let words = common::words(&slow(&server, "broken_off"));
    let mut child =
        folder.command().args(&words).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    wait_for(&server, "broken_off", true);
    let id = child.id().to_string();
    assert!(std::process::Command::new("kill").args(["-INT", &id]).status().unwrap().success());
    assert_eq!(child.wait().unwrap().code(), Some(130));
    wait_for(&server, "broken_off", false);
}
