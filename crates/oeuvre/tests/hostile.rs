//! Bytes and words that nobody would write on purpose: no panic, no different answer by threads or
//! pieces.

mod common;
use common::Folder;
use proptest::prelude::*;
use std::sync::LazyLock;

/// The demo, written once.
static DEMO: LazyLock<Vec<u8>> = LazyLock::new(|| {
    let folder = Folder::new();
    folder.run(&["demo", "d", "--rows", "400"]).fine();
    std::fs::read(folder.path("d/bookings.csv")).unwrap()
});

const ASK: [&str; 9] = [
    "--by",
    "route,month(sailed_on)",
    "--show",
    "sum(fare * passengers)",
    "--show",
    "median(delay_min)",
    "--show",
    "last(note)",
    "--totals",
];

/// Runs with different threads, pieces and instructions of the processor, and gives the one answer.
fn same_answer(folder: &Folder, file: &str, ask: &[&str]) -> (String, i32) {
    let mut answers = Vec::new();
    for (threads, bytes, instructions) in
        [("1", "1000000", "plain"), ("2", "300", "avx2"), ("7", "64", "plain"), ("3", "1", "auto")]
    {
        let mut args = vec![
            "summary",
            file,
            "--as",
            "csv",
            "--quiet",
            "--threads",
            threads,
            "--piece-bytes",
            bytes,
        ];
        args.extend_from_slice(ask);
        let run = folder.run_set(&args, &[("OEUVRE_INSTRUCTIONS", instructions)]).no_panic();
        answers.push((if run.code == 0 { run.stdout } else { run.stderr }, run.code));
    }
    assert!(answers.windows(2).all(|w| w[0] == w[1]), "{answers:#?}");
    answers.swap_remove(0)
}

#[test]
fn the_same_bytes_come_out_for_any_number_of_threads_and_any_size_of_pieces() {
    let folder = Folder::with("b.csv", &*DEMO);
    let (answer, code) = same_answer(&folder, "b.csv", &ASK);
    assert!(code == 0 && answer.lines().count() > 100, "{answer}");
    let all = [
        "--by",
        "booking_id",
        "--show",
        "first(status)",
        "--show",
        "mean(fare)",
        "--sort",
        "mean(fare) desc",
    ];
    assert_eq!(same_answer(&folder, "b.csv", &all).0.lines().count(), 401);
    // Few of the columns, and all of them, with instants and blank fields.
    let few = ["--by", "vessel", "--show", "count()", "--show", "max(booked_at)"];
    assert_eq!(same_answer(&folder, "b.csv", &few).1, 0);
    let many = [
        "--by",
        "booking_id,booked_at,sailed_on,route,vessel,ticket,channel,customer_id",
        "--show",
        "sum(passengers + vehicles)",
        "--show",
        "sum(fare + extras)",
        "--show",
        "max(delay_min)",
        "--show",
        "first(note)",
    ];
    // Some notes have line breaks.
    let (answer, code) = same_answer(&folder, "b.csv", &many);
    assert!(code == 0 && answer.lines().count() > 400, "{answer}");
}

#[test]
fn instructions_that_are_not_known_are_told() {
    let folder = Folder::with("b.csv", "a\n1\n").with_env("OEUVRE_INSTRUCTIONS", "avx512");
    let run = folder.run(&["summary", "b.csv"]);
    assert_eq!(run.code, 1);
    let said = ["OEUVRE_INSTRUCTIONS 'avx512' is not known", "`auto`, `avx2` or `plain`"];
    assert!(said.iter().all(|words| run.stderr.contains(words)), "{}", run.stderr);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]
    #[test]
    fn a_truncated_or_damaged_file_is_read_or_refused_the_same_way(
        cut in 0usize..30_000, damage in proptest::collection::vec((0usize..30_000, any::<u8>()), 0..4)
    ) {
        let mut bytes = DEMO[..cut.min(DEMO.len())].to_vec();
        for (at, byte) in damage {
            if let Some(b) = bytes.get_mut(at) {
                *b = byte;
            }
        }
        same_answer(&Folder::with("b.csv", bytes), "b.csv", &ASK);
    }

    #[test]
    fn random_bytes_are_read_or_refused(bytes in proptest::collection::vec(any::<u8>(), 0..400)) {
        let folder = Folder::with("b.csv", bytes);
        folder.run(&["summary", "b.csv"]).no_panic();
        folder.run(&["summary", "b.csv", "--quote", "none", "--uneven", "leave-out", "--encoding", "latin1", "--no-headings", "--by", "column_1"]).no_panic();
    }

    #[test]
    fn a_soup_of_separators_and_quotes_gives_one_answer(text in "[ab1,.;\"\n\r-]{0,120}") {
        let folder = Folder::with("b.csv", format!("a,b\n{text}"));
        same_answer(&folder, "b.csv", &["--by", "a", "--show", "count(b)", "--uneven", "blank"]);
    }

    #[test]
    fn any_words_as_a_calculation_are_answered_or_refused(text in "\\PC{0,30}") {
        let folder = Folder::with("b.csv", "a,b\n1,x\n");
        folder.run(&["summary", "b.csv", &format!("--show={text}"), &format!("--where={text}")]).no_panic();
    }
}

/// Names and labels that a table written as JSON uses itself.
const NAMES: [&str; 10] =
    ["line", "role", "kind", "cells", "position", "Total", "lines", "under", "a\"b", "Total / x"];

proptest! {
    #![proptest_config(ProptestConfig::with_cases(32))]
    #[test]
    fn a_table_written_as_json_is_read_back_whatever_its_names(
        names in proptest::sample::subsequence(NAMES.to_vec(), 4),
        rows in proptest::collection::vec((0usize..10, 0usize..10, 0i32..100), 1..12),
        across in any::<bool>(), long in any::<bool>(),
    ) {
        let quoted = |s: &str| format!("\"{}\"", s.replace('"', "\"\""));
        let heading = names.iter().map(|n| quoted(n)).collect::<Vec<_>>().join(",");
        let line = |r: &(usize, usize, i32)| format!("{},{},{},{}\n", quoted(NAMES[r.0]), quoted(NAMES[r.1]), r.2, r.2);
        let folder = Folder::with("b.csv", format!("{heading}\n{}", rows.iter().map(line).collect::<String>()));
        let keys: Vec<String> = names.iter().map(|n| quoted(n)).collect();
        let mut args = vec!["summary", "b.csv", "--quiet", "--show", keys[2].as_str(), "--totals", "--by", keys[0].as_str()];
        args.extend([if across { "--columns-by" } else { "--by" }, keys[1].as_str()]);
        args.extend(long.then_some("--long"));
        let csv = folder.run(&[args.as_slice(), &["--as", "csv"]].concat()).ok();
        let json: serde_json::Value = serde_json::from_str(&folder.run(&[args.as_slice(), &["--as", "json"]].concat()).ok()).unwrap();
        let lines = folder.run(&[args.as_slice(), &["--as", "jsonl"]].concat()).ok();
        let lines: Vec<serde_json::Value> = lines.lines().map(|l| serde_json::from_str(l).unwrap()).collect();
        prop_assert_eq!(json["lines"].as_array().unwrap(), &lines);
        let columns: Vec<&str> = json["columns"].as_array().unwrap().iter().map(|c| c["name"].as_str().unwrap()).collect();
        let mut records = csv.split_terminator('\n');
        let heading: Vec<String> = columns.iter().map(|c| if c.contains('"') { quoted(c) } else { (*c).to_owned() }).collect();
        let heading = heading.join(",");
        prop_assert_eq!(records.next(), Some(heading.as_str()));
        prop_assert_eq!(records.count(), lines.len());
        // Every cell is there under its name, and the total of all rows is found by its role alone.
        let sum: i32 = rows.iter().map(|r| r.2).sum();
        let total = lines.iter().rev().find(|l| l["role"] == "total" && l.get("place").is_none_or(|p| p == "total")).unwrap();
        let of_all = json["columns"].as_array().unwrap().iter().filter(|c| c["role"] == "result").find(|c| !across || long || c["place"] == "total").unwrap();
        prop_assert_eq!(&total["cells"][of_all["name"].as_str().unwrap()], &serde_json::Value::from(sum));
        for line in &lines {
            let cells = line["cells"].as_object().unwrap();
            prop_assert!(cells.keys().all(|k| columns.contains(&k.as_str())));
        }
    }
}

/// Values that no option expects.
const ODD: [&str; 16] = [
    "",
    " ",
    "-",
    "--",
    "=",
    "'",
    "\"",
    "x=y",
    ",",
    "1e999",
    "-1",
    "99999999999999999999",
    "\u{202e}\u{1b}[31m",
    "日本 é",
    "(((((((",
    "*:[?",
];

/// Every option of a command with values that it does not expect: an answer or an error in little time and
/// memory, never a panic, a signal or a hang.
#[test]
#[cfg(unix)]
fn no_option_takes_the_program_down() {
    let folder = Folder::with("b.csv", "grp,d,v\na,2025-01-05,1.50\nb,2025-02-05,\n,,3\n");
    folder.write("l.csv", "code,name\na,Ann\n");
    let long = "x".repeat(50_000);
    let odd: Vec<&str> = ODD.iter().copied().chain([long.as_str()]).collect();
    let jobs: Vec<(String, String, &str)> = ["summary", "detail", "trace", "explain", "profile"]
        .iter()
        .flat_map(|command| {
            let help = folder.run(&[command, "--help"]).ok();
            let options: Vec<String> = help
                .lines()
                .filter_map(|l| l.trim_start().strip_prefix("--"))
                .filter_map(|l| l.split_once([' ', '[']))
                .map(|(name, _)| format!("--{}", name.trim()))
                // Where to is not tried: any name will do there.
                .filter(|name| name != "--to" && name != "--threads")
                .collect();
            let odd = odd.clone();
            options.into_iter().flat_map(move |option| {
                odd.clone()
                    .into_iter()
                    .map(move |value| (command.to_string(), option.clone(), value))
            })
        })
        .collect();
    assert!(jobs.len() > 1500);
    let next = std::sync::atomic::AtomicUsize::new(0);
    let next = &next;
    std::thread::scope(|scope| {
        for _ in 0..2 {
            scope.spawn(|| {
                while let Some((command, option, value)) =
                    jobs.get(next.fetch_add(1, std::sync::atomic::Ordering::Relaxed))
                {
                    let mut args = vec!["b.csv".to_owned(), "--show".into(), "v".into()];
                    if command == "profile" {
                        args.truncate(1);
                    } else if command != "detail" {
                        args.extend(["--by".into(), "grp".into()]);
                    }
                    if option == "--match" {
                        args.extend(["--lookup".into(), "l.csv".into()]);
                    }
                    args.push(format!("{option}={value}"));
                    let begun = std::time::Instant::now();
                    let output = std::process::Command::new("sh")
                        .args(["-c", "ulimit -v 3000000; exec \"$@\"", "sh"])
                        .arg(common::program())
                        .arg(command)
                        .args(&args)
                        .current_dir(folder.path("."))
                        .stdin(std::process::Stdio::null())
                        .output()
                        .unwrap();
                    let said = String::from_utf8_lossy(&output.stderr);
                    let fine =
                        matches!(output.status.code(), Some(0..=2)) && !said.contains("panicked");
                    assert!(
                        fine,
                        "{command} {option}={value:.60}: {:?}\n{said:.600}",
                        output.status
                    );
                    assert!(begun.elapsed().as_secs() < 20, "{command} {option}={value:.60}");
                }
            });
        }
    });
}
