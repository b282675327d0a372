//! What takes more memory than it may, against the same with memory enough.

use crate::{Request, median};
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

const REQUESTS: [Request; 14] = [
    Request {
        name: "sum and count of each booking",
        command: "summary",
        options: &["--by", "booking_id", "--show", "sum(fare)", "--show", "count()"],
        limit: Some(3.0),
    },
    Request {
        name: "distinct unique texts by route, with totals",
        command: "summary",
        options: &[
            "--by",
            "route",
            "--show",
            "count(distinct concat(text(booking_id), '-', route))",
            "--totals",
        ],
        limit: Some(3.0),
    },
    Request {
        name: "median of unique products by route, with totals",
        command: "summary",
        options: &["--by", "route", "--show", "median(fare * booking_id)", "--totals"],
        limit: Some(3.0),
    },
    Request {
        name: "most frequent of unique texts by route",
        command: "summary",
        options: &["--by", "route", "--show", "mode(concat(text(booking_id), '-', route))"],
        limit: Some(3.0),
    },
    Request {
        name: "detail sorted by fare with a rank within route",
        command: "detail",
        options: &[
            "--show",
            "booking_id,route,fare",
            "--show",
            "rank(fare within route)",
            "--sort",
            "fare",
        ],
        limit: Some(3.0),
    },
    Request {
        name: "count of each unique product, in no order",
        command: "summary",
        options: &["--by", "fare * booking_id", "--show", "count()", "--show", "sum(fare)"],
        limit: Some(3.0),
    },
    Request {
        name: "sum of each customer, in no order",
        command: "summary",
        options: &["--by", "customer_id", "--show", "sum(fare)"],
        limit: None,
    },
    Request {
        name: "sum of each customer and day, in no order",
        command: "summary",
        options: &["--by", "customer_id,sailed_on", "--show", "sum(fare)"],
        limit: Some(3.0),
    },
    Request {
        name: "sum of each booking and route",
        command: "summary",
        options: &["--by", "booking_id,route", "--show", "sum(fare)"],
        limit: Some(3.0),
    },
    Request {
        name: "sum of each unique text",
        command: "summary",
        options: &["--by", "concat(text(booking_id), '-', route)", "--show", "sum(fare)"],
        limit: Some(3.0),
    },
    Request {
        name: "distinct routes of each customer",
        command: "summary",
        options: &["--by", "customer_id", "--show", "count(distinct route)"],
        limit: Some(3.0),
    },
    Request {
        name: "sum of each customer by channel, in columns",
        command: "summary",
        options: &["--by", "customer_id", "--columns-by", "channel", "--show", "sum(fare)"],
        limit: None,
    },
    Request {
        name: "first and last fare of each customer along a time",
        command: "summary",
        options: &[
            "--by",
            "customer_id",
            "--show",
            "first(fare along booked_at)",
            "--show",
            "last(fare along booked_at)",
        ],
        limit: None,
    },
    Request {
        name: "vessel of the largest fare of each customer",
        command: "summary",
        options: &["--by", "customer_id", "--show", "at_max(vessel, fare)"],
        limit: None,
    },
];

/// Prints how much longer each request takes with ten bytes a row than with memory enough, and that it gives the same.
pub(crate) fn report(program: &Path, dir: &Path, file: &Path, rows: u64, rounds: usize) {
    let limit = format!("{}K", (rows * 10) >> 10);
    let answer = dir.join("answer.csv");
    let run = |request: &Request, memory: &str| -> (Duration, Vec<u8>) {
        let started = Instant::now();
        let status = Command::new(program)
            .arg(request.command)
            .arg(file)
            .args(request.options)
            .args(["--quiet", "--as", "csv", "--memory", memory, "--to"])
            .arg(&answer)
            .stdout(Stdio::null())
            .status();
        assert!(status.is_ok_and(|s| s.success()), "{} failed", request.name);
        let took = started.elapsed();
        (took, std::fs::read(&answer).expect("the answer was written"))
    };
    for request in &REQUESTS {
        let mut ratios = Vec::new();
        for round in 0..=rounds {
            let (enough, short) = (run(request, "64G"), run(request, &limit));
            assert!(enough.1 == short.1, "{} gives something else", request.name);
            // The first round warms the cache.
            if round > 0 {
                ratios.push(short.0.as_secs_f64() / enough.0.as_secs_f64());
            }
        }
        let ratio = median(ratios.into_iter());
        let wanted = request.limit.map(|most| format!(" (at most {most} wanted)"));
        let wanted = wanted.unwrap_or_default();
        println!("{} in {limit}: {ratio:.2} times{wanted}", request.name);
    }
}
