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

/// Runs with different threads and pieces and gives the one answer.
fn same_answer(folder: &Folder, file: &str, ask: &[&str]) -> (String, i32) {
    let mut answers = Vec::new();
    for (threads, bytes) in [("1", "1000000"), ("2", "300"), ("7", "64"), ("3", "1")] {
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
        let run = folder.run(&args).no_panic();
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
