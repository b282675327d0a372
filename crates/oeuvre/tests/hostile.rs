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
        folder.run(&["summary", "b.csv", "--quote", "none", "--ragged", "skip", "--encoding", "latin1", "--no-headings", "--by", "column_1"]).no_panic();
    }

    #[test]
    fn a_soup_of_separators_and_quotes_gives_one_answer(text in "[ab1,.;\"\n\r-]{0,120}") {
        let folder = Folder::with("b.csv", format!("a,b\n{text}"));
        same_answer(&folder, "b.csv", &["--by", "a", "--show", "count(b)", "--ragged", "pad"]);
    }

    #[test]
    fn any_words_as_a_calculation_are_answered_or_refused(text in "\\PC{0,30}") {
        let folder = Folder::with("b.csv", "a,b\n1,x\n");
        folder.run(&["summary", "b.csv", &format!("--show={text}"), &format!("--where={text}")]).no_panic();
    }
}
