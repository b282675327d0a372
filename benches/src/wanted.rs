//! All ratios that are wanted, in one table: what falls short stands beside what is wanted.
//!
//! Each line compares whole commands that run in turns, and gives the median of the rounds. What a request takes at
//! best is measured by programs written by hand for one request each, where [`BY_HAND`] names them.

use crate::{csv_rows, median};
use std::fmt::Write as _;
use std::fs::File;
use std::io::{BufWriter, Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Instant;

/// Where a program answers the six requests, called with `q1` to `q6` and the file of bookings.
const BY_HAND: &str = "OEUVRE_BENCHES_BY_HAND";
/// The rows that these programs are written for, where they are others than those of the demo.
const BY_HAND_ROWS: &str = "OEUVRE_BENCHES_BY_HAND_ROWS";

const CSV: [&str; 3] = ["--as", "csv", "--quiet"];

/// The six requests, each with the most times the program written by hand that it may take, and what that is called
/// with.
const SIX: [(&str, f64, &[&str]); 6] = [
    ("q1", 1.8, &["summary", "--by", "route", "--show", "count()", "--show", "sum(fare)"]),
    (
        "q2",
        2.2,
        &[
            "summary",
            "--by",
            "route,month(sailed_on)",
            "--where",
            "status = 'sailed'",
            "--show",
            "sum(fare * passengers)",
        ],
    ),
    (
        "q3",
        1.8,
        &[
            "summary",
            "--by",
            "vessel",
            "--show",
            "median(delay_min)",
            "--show",
            "mean(delay_min)",
            "--show",
            "count(delay_min)",
        ],
    ),
    (
        "q4hash",
        2.2,
        &[
            "summary",
            "--by",
            "customer_id",
            "--show",
            "sum(fare * passengers)",
            "--sort",
            "sum(fare * passengers) desc",
            "--top",
            "20",
        ],
    ),
    (
        "q5",
        2.0,
        &[
            "summary",
            "--by",
            "month(sailed_on)",
            "--show",
            "count(distinct customer_id)",
            "--totals",
        ],
    ),
    (
        "q6",
        2.2,
        &[
            "detail",
            "--show",
            "booking_id,route,sailed_on,fare",
            "--show",
            "rank(fare within route)",
            "--show",
            "running(fare along sailed_on, booking_id within route)",
        ],
    ),
];

/// A command with its arguments.
type Line = Vec<String>;

struct Table {
    rounds: usize,
}

impl Table {
    /// Compares two commands in turns; adds a line and gives the ratio.
    fn compare(&self, what: &str, wanted: f64, ours: &Line, other: &Line) -> f64 {
        let ratio = |_| seconds(ours) / seconds(other);
        // The first round warms the cache.
        ratio(0);
        let ratio = median((0..self.rounds).map(ratio));
        self.line(what, ratio, wanted);
        ratio
    }

    fn line(&self, what: &str, ratio: f64, wanted: f64) {
        let short = if ratio > wanted { "short" } else { "" };
        let line = format!("{what:<58}{ratio:>8.2}{wanted:>8.2}  {short}");
        println!("{}", line.trim_end());
    }
}

/// Prints the table; `file` has so many bookings.
pub(crate) fn report(program: &Path, dir: &Path, file: &Path, rows: u64, rounds: usize) {
    let table = Table { rounds };
    println!("{:<58}{:>8}{:>8}", "times", "is", "wanted");
    let with = |request: &[&str], file: &Path| {
        let (command, options) = request.split_first().expect("a request has a command");
        let program = program.display().to_string();
        let mut line = vec![program, (*command).to_owned(), file.display().to_string()];
        line.extend(options.iter().chain(&CSV).map(|s| (*s).to_owned()));
        line
    };
    match std::env::var(BY_HAND) {
        Ok(by_hand) => {
            let mut product = 1.0;
            let own = std::env::var_os(BY_HAND_ROWS).map(PathBuf::from);
            let file = own.as_deref().unwrap_or(file);
            for (name, wanted, request) in SIX {
                let other = vec![by_hand.clone(), name.to_owned(), file.display().to_string()];
                product *= table.compare(name, wanted, &with(request, file), &other);
            }
            table.line("geometric mean of the six", product.powf(1.0 / 6.0), 2.0);
        }
        Err(_) => println!("the six requests: {BY_HAND} names no programs written by hand"),
    }
    let sum = ["summary", "--by", "k", "--show", "sum(amount)"];
    let short = amounts(dir, 7);
    for characters in [9, 12, 18] {
        let long = amounts(dir, characters);
        let what = format!("amounts of {characters} characters, against 7");
        table.compare(&what, 1.3, &with(&sum, &long), &with(&sum, &short));
    }
    let million = first_rows(dir, file, 1_000_000.min(rows));
    let [customers, routes] = lookups(dir, &million);
    let number = [
        "summary",
        "--lookup",
        &customers,
        "--match",
        "customer_id = id",
        "--by",
        "customers.region",
        "--show",
        "sum(fare)",
    ];
    let grouped = ["summary", "--by", "customer_id", "--show", "sum(fare)", "--top", "20"];
    let what = "lookup by a number, against grouping by it";
    table.compare(what, 1.5, &with(&number, &million), &with(&grouped, &million));
    let text = [
        "summary",
        "--lookup",
        &routes,
        "--match",
        "route = code",
        "--by",
        "routes.coast",
        "--show",
        "sum(fare)",
    ];
    let grouped = ["summary", "--by", "route", "--show", "sum(fare)"];
    let what = "lookup by a text, against grouping by it";
    table.compare(what, 1.5, &with(&text, &million), &with(&grouped, &million));
    let counts = counts(&million);
    let counts: Vec<&str> =
        std::iter::once("summary").chain(counts.iter().map(String::as_str)).collect();
    let what = "profile, against counts and sums of the columns";
    table.compare(what, 4.0, &with(&["profile"], &million), &with(&counts, &million));
    let pivot = |results: &[&str]| {
        let mut line = vec!["summary", "--by", "route", "--columns-by", "month(sailed_on)"];
        results.iter().for_each(|result| line.extend(["--show", result]));
        with(&line, file)
    };
    let five = pivot(&["sum(fare)", "count()", "mean(fare)", "sum(passengers)", "max(fare)"]);
    table.compare("pivot of five results, against one", 1.5, &five, &pivot(&["sum(fare)"]));
    table.line(
        "five tables of a report, against the slowest alone",
        crate::report(program, dir, rounds),
        2.0,
    );
    let wide = wide(dir);
    let me = std::env::current_exe().expect("this program has a place").display().to_string();
    let lines = vec![me, "lines".to_owned(), wide.display().to_string()];
    let one = with(&["summary", "--by", "c0", "--show", "count()"], &wide);
    table.compare("one of 200 columns, against counting line feeds", 2.0, &one, &lines);
    if rows >= 10_000_000 {
        let tenth = first_rows(dir, file, rows / 10);
        for (name, _, request) in SIX {
            let most = if matches!(name, "q4hash" | "q6") { 13.0 } else { 11.0 };
            let what = format!("{name} on {rows} rows, against a tenth of them");
            table.compare(&what, most, &with(request, file), &with(request, &tenth));
        }
    }
    let few = first_rows(dir, file, 10);
    let start = median((0..=4 * rounds).map(|_| seconds(&with(SIX[0].2, &few)) * 1000.0));
    table.line("start-up: a request of ten rows, in milliseconds", start, 10.0);
}

/// Counts line feeds on two threads: what reading a file takes at least.
pub(crate) fn count_lines(file: &str) {
    let length = std::fs::metadata(file).expect("the file is there").len();
    let half = |from: u64, to: u64| {
        let mut part = File::open(file).expect("the file is there");
        part.seek(SeekFrom::Start(from)).expect("files can be read anywhere");
        let mut part = part.take(to - from);
        let mut buffer = vec![0u8; 256 << 10];
        let mut lines = 0;
        loop {
            match part.read(&mut buffer).expect("the file can be read") {
                0 => return lines,
                n => lines += memchr::memchr_iter(b'\n', &buffer[..n]).count(),
            }
        }
    };
    let lines = std::thread::scope(|scope| {
        let first = scope.spawn(|| half(0, length / 2));
        half(length / 2, length) + first.join().expect("counting does not fail")
    });
    println!("{lines}");
}

fn seconds(line: &Line) -> f64 {
    let started = Instant::now();
    let (program, args) = line.split_first().expect("a line has a program");
    let status = Command::new(program).args(args).stdout(Stdio::null()).status();
    assert!(status.is_ok_and(|s| s.success()), "{} failed", line.join(" "));
    started.elapsed().as_secs_f64()
}

/// A file that is written once.
fn written(dir: &Path, name: &str, write: impl FnOnce(&mut BufWriter<File>)) -> PathBuf {
    let file = dir.join(name);
    if !file.exists() {
        let to = File::create(&file).expect("the temporary folder can be written");
        let mut to = BufWriter::new(to);
        write(&mut to);
        to.flush().expect("the temporary folder can be written");
    }
    file
}

/// Numbers without a pattern that one can see.
fn scattered(n: u64) -> u64 {
    let mixed = (n ^ (n >> 31)).wrapping_mul(0x9e37_79b9_7f4a_7c15);
    (mixed ^ (mixed >> 29)).wrapping_mul(0xbf58_476d_1ce4_e5b9)
}

/// Three million amounts of so many characters, the point among them.
fn amounts(dir: &Path, characters: u32) -> PathBuf {
    written(dir, &format!("amounts-{characters}.csv"), |to| {
        writeln!(to, "k,amount").expect("it can be written");
        let lowest = 10u64.pow(characters - 2);
        for row in 0..3_000_000u64 {
            let amount = lowest + scattered(row) % (9 * lowest);
            let key = b"abcdefg"[(row % 7) as usize] as char;
            writeln!(to, "{key},{}.{:02}", amount / 100, amount % 100).expect("it can be written");
        }
    })
}

/// The first rows of a file that has at least so many.
fn first_rows(dir: &Path, file: &Path, rows: u64) -> PathBuf {
    written(dir, &format!("first-{rows}.csv"), |to| {
        let mut records = csv::ReaderBuilder::new()
            .has_headers(false)
            .from_path(file)
            .expect("the rows are there");
        let mut writer = csv::Writer::from_writer(to);
        for record in records.byte_records().take(rows as usize + 1) {
            let record = record.expect("the rows are well formed");
            writer.write_byte_record(&record).expect("it can be written");
        }
        writer.flush().expect("it can be written");
    })
}

/// A lookup of the customers of some bookings, and one of their routes.
fn lookups(dir: &Path, bookings: &Path) -> [String; 2] {
    let keys = |place: usize| {
        let mut keys: Vec<String> =
            csv_rows(bookings).map(|r| r[place].to_owned()).filter(|k| !k.is_empty()).collect();
        keys.sort();
        keys.dedup();
        keys
    };
    let customers = written(dir, "customers.csv", |to| {
        writeln!(to, "id,region").expect("it can be written");
        for (key, n) in keys(7).iter().zip(0..) {
            writeln!(to, "{key},region {}", n % 20).expect("it can be written");
        }
    });
    let routes = written(dir, "routes.csv", |to| {
        writeln!(to, "code,coast").expect("it can be written");
        for (key, n) in keys(3).iter().zip(0..) {
            writeln!(to, "{key},coast {}", n % 3).expect("it can be written");
        }
    });
    [customers, routes].map(|file| file.display().to_string())
}

/// What a profile is compared with: a count of each column, and the sums of the numbers.
fn counts(bookings: &Path) -> Vec<String> {
    let mut records = csv::Reader::from_path(bookings).expect("the rows are there");
    let names: Vec<String> =
        records.headers().expect("there are headings").iter().map(str::to_owned).collect();
    let counts = names.iter().map(|name| format!("count({name})"));
    let sums = ["passengers", "vehicles", "fare", "extras", "delay_min"]
        .map(|name| format!("sum({name})"));
    counts.chain(sums).flat_map(|calc| ["--show".to_owned(), calc]).collect()
}

/// 200 columns of whole numbers, 200,000 rows.
fn wide(dir: &Path) -> PathBuf {
    written(dir, "wide.csv", |to| {
        let heading: Vec<String> = (0..200).map(|column| format!("c{column}")).collect();
        writeln!(to, "{}", heading.join(",")).expect("it can be written");
        for row in 0..200_000u64 {
            let mut line = (row % 7).to_string();
            (1..200).for_each(|column| {
                _ = write!(line, ",{}", scattered(row % 500 * 200 + column) % 100_000)
            });
            writeln!(to, "{line}").expect("it can be written");
        }
    })
}
