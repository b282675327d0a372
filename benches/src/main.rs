//! How fast is the whole program, in ratios that hold when the machine's speed drifts?
//!
//! Every request is run in turns with two others: a plain loop of the csv crate over the same file
//! (one thread, `read_byte_record`), and the simple request (count and sum by route). The medians of
//! the ratios, round by round, are printed. Results are checked before anything is timed.

#![allow(clippy::print_stdout)]

mod formats;
mod memory;
mod tables;
mod wanted;

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

/// A request with its name, its options, and the most times the simple request it may take.
struct Request {
    name: &'static str,
    command: &'static str,
    options: &'static [&'static str],
    limit: Option<f64>,
}

const SIMPLE: Request = Request {
    name: "count and sum by route",
    command: "summary",
    options: &["--by", "route", "--show", "count()", "--show", "sum(fare)"],
    limit: None,
};

const REQUESTS: [Request; 7] = [
    Request {
        name: "sum of a product by route and month, sailed only",
        command: "summary",
        options: &[
            "--by",
            "route,month(sailed_on)",
            "--show",
            "sum(fare * passengers)",
            "--where",
            "status = 'sailed'",
        ],
        limit: None,
    },
    Request {
        name: "median delay by vessel",
        command: "summary",
        options: &["--by", "vessel", "--show", "median(delay_min)"],
        limit: Some(1.5),
    },
    Request {
        name: "distinct customers by month",
        command: "summary",
        options: &["--by", "month(sailed_on)", "--show", "count(distinct customer_id)"],
        limit: Some(3.0),
    },
    Request {
        name: "sum of a product by customer",
        command: "summary",
        options: &["--by", "customer_id", "--show", "sum(fare * passengers)"],
        limit: Some(4.0),
    },
    Request {
        name: "count and sum by route across months, with totals",
        command: "summary",
        options: &[
            "--by",
            "route",
            "--columns-by",
            "month(sailed_on)",
            "--show",
            "count()",
            "--show",
            "sum(fare)",
            "--totals",
        ],
        limit: Some(1.6),
    },
    Request {
        name: "detail with rank and running total within route",
        command: "detail",
        options: &[
            "--show",
            "booking_id,route,fare",
            "--show",
            "rank(fare within route)",
            "--show",
            "running(fare within route)",
        ],
        limit: Some(8.0),
    },
    Request {
        name: "detail of three columns, streamed",
        command: "detail",
        options: &["--show", "booking_id,route,fare"],
        limit: None,
    },
];

fn main() {
    let mut args = std::env::args().skip(1);
    if let (Some("lines"), Some(file)) = (args.next().as_deref(), args.next()) {
        return wanted::count_lines(&file);
    }
    let mut args = std::env::args().skip(1);
    let rows = args.next().and_then(|n| n.parse().ok()).unwrap_or(10_000_000u64);
    let rounds = args.next().and_then(|n| n.parse().ok()).unwrap_or(5usize);
    let dir = std::env::temp_dir().join(format!("oeuvre-benches-{rows}"));
    let program = program();
    let file = dir.join("bookings.csv");
    if !file.exists() {
        let started = Instant::now();
        let status = Command::new(&program)
            .arg("demo")
            .arg(&dir)
            .args(["--rows", &rows.to_string()])
            .stdout(Stdio::null())
            .status();
        assert!(status.is_ok_and(|s| s.success()), "the demo data could not be written");
        println!("wrote {rows} rows in {:.1} s", started.elapsed().as_secs_f64());
    }
    check(&program, &file, rows);
    // Some of it alone, where that is asked for.
    match std::env::args().nth(3).as_deref() {
        Some("formats") => return formats::report(&program, &dir, &file, rounds),
        Some("memory") => return memory::report(&program, &dir, &file, rows, rounds),
        Some("tables") => return tables::report(&program, &dir, &file, rounds),
        Some("wanted") => return wanted::report(&program, &dir, &file, rows, rounds),
        _ => {}
    }
    let mut loops = Vec::new();
    let mut simple = Vec::new();
    let mut others: Vec<Vec<Duration>> = vec![Vec::new(); REQUESTS.len()];
    for round in 0..=rounds {
        let plain = csv_loop(&file, rows);
        let first = run(&program, &file, &SIMPLE);
        let rest: Vec<Duration> = REQUESTS.iter().map(|r| run(&program, &file, r)).collect();
        // The first round warms the cache.
        if round > 0 {
            loops.push(plain);
            simple.push(first);
            for (all, one) in others.iter_mut().zip(rest) {
                all.push(one);
            }
        }
    }
    println!("{rows} rows, {rounds} rounds, medians");
    println!(
        "five tables of a report: {:.2} times the slowest of them alone (at most 2 wanted)",
        report(&program, &dir, rounds)
    );
    println!(
        "csv crate's loop {:.3} s; {} {:.3} s: {:.1} times as fast (at least 6 wanted)",
        median(loops.iter().map(Duration::as_secs_f64)),
        SIMPLE.name,
        median(simple.iter().map(Duration::as_secs_f64)),
        median(loops.iter().zip(&simple).map(|(a, b)| a.as_secs_f64() / b.as_secs_f64())),
    );
    for (request, times) in REQUESTS.iter().zip(&others) {
        let ratio =
            median(times.iter().zip(&simple).map(|(a, b)| a.as_secs_f64() / b.as_secs_f64()));
        let limit = request.limit.map(|l| format!(" (at most {l} wanted)")).unwrap_or_default();
        println!("{}: {ratio:.2} times the simple request{limit}", request.name);
    }
    formats::report(&program, &dir, &file, rounds);
    tables::report(&program, &dir, &file, rounds);
    wanted::report(&program, &dir, &file, rows, rounds);
}

/// Five tables of one report over the same rows.
const REPORT: &str = r#"
[data]
files = ["bookings.csv"]
where = "status = 'sailed'"
[[table]]
name = "routes"
by = "route"
show = ["count()", "sum(fare * passengers)"]
totals = "all"
[[table]]
name = "pivot"
by = "route"
columns-by = "year(sailed_on)"
show = ["sum(fare)", "mean(fare)"]
totals = "all"
[[table]]
name = "delays"
by = "vessel"
show = ["median(delay_min)", "max(delay_min)"]
[[table]]
name = "channels"
by = ["channel", "ticket"]
show = ["count()", "mean(fare where passengers > 2)"]
[[table]]
name = "months"
where = "fare > 0"
by = "month(sailed_on)"
show = ["sum(fare * passengers)", "running(sum(passengers))"]
"#;

/// How much longer a report takes than the slowest of its tables alone: the median of several rounds.
fn report(program: &Path, dir: &Path, rounds: usize) -> f64 {
    let file = dir.join("five.toml");
    std::fs::write(&file, REPORT).expect("the report file can be written");
    let run = |only: Option<&str>| {
        let started = Instant::now();
        let only = only.map_or(Vec::new(), |name| vec!["--only", name]);
        let status = Command::new(program)
            .arg("report")
            .arg(&file)
            .args(only)
            .args(["--quiet", "--as", "json"])
            .stdout(Stdio::null())
            .status();
        assert!(status.is_ok_and(|s| s.success()), "the report failed");
        started.elapsed().as_secs_f64()
    };
    let names = ["routes", "pivot", "delays", "channels", "months"];
    let round = |_| {
        let slowest = names.iter().map(|name| run(Some(name))).fold(0.0, f64::max);
        run(None) / slowest
    };
    // The first round warms the cache.
    round(0);
    median((1..=rounds).map(round))
}

/// The records of a file of rows, as texts.
fn csv_rows(file: &Path) -> impl Iterator<Item = csv::StringRecord> {
    let rows = csv::Reader::from_path(file).expect("the rows are there");
    rows.into_records().map(|row| row.expect("the rows are well formed"))
}

/// The program beside this one.
fn program() -> PathBuf {
    let beside = std::env::current_exe().ok().and_then(|p| Some(p.parent()?.join("oeuvre")));
    match beside {
        Some(path) if path.exists() => path,
        _ => panic!("build it first: cargo build --release -p oeuvre"),
    }
}

fn run(program: &Path, file: &Path, request: &Request) -> Duration {
    let started = Instant::now();
    let status = Command::new(program)
        .arg(request.command)
        .arg(file)
        .args(request.options)
        .args(["--quiet", "--as", "csv"])
        .stdout(Stdio::null())
        .status();
    assert!(status.is_ok_and(|s| s.success()), "{} failed", request.name);
    started.elapsed()
}

fn csv_loop(file: &Path, rows: u64) -> Duration {
    let started = Instant::now();
    let mut reader = csv::Reader::from_path(file).expect("the demo file opens");
    let mut record = csv::ByteRecord::new();
    let mut n = 0;
    while reader.read_byte_record(&mut record).expect("the demo file is well formed") {
        n += 1;
    }
    assert_eq!(n, rows);
    started.elapsed()
}

/// The simple request agrees with sums made here, in whole cents.
fn check(program: &Path, file: &Path, rows: u64) {
    let output = Command::new(program)
        .arg("summary")
        .arg(file)
        .args(["--show", "count()", "--show", "sum(fare)", "--quiet", "--as", "csv"])
        .output()
        .expect("the program runs");
    let mut cents = 0i64;
    let mut reader = csv::Reader::from_path(file).expect("the demo file opens");
    for record in reader.byte_records() {
        let record = record.expect("the demo file is well formed");
        let fare = std::str::from_utf8(&record[10]).expect("fares are ASCII").replace('.', "");
        cents += fare.parse::<i64>().expect("fares have two decimals");
    }
    let expected = format!("count(),sum(fare)\n{rows},{}.{:02}\n", cents / 100, cents % 100);
    assert_eq!(String::from_utf8_lossy(&output.stdout), expected);
}

fn median(values: impl Iterator<Item = f64>) -> f64 {
    let mut values: Vec<f64> = values.collect();
    values.sort_by(f64::total_cmp);
    values[values.len() / 2]
}
