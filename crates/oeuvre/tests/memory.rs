//! Memory that is short: the same results, by way of a file that has no name.

#![cfg(target_os = "linux")]

mod common;
use common::requests::REQUESTS;
use common::{Folder, program};
use rstest::rstest;
use std::fmt::Write;
use std::process::{Command, Stdio};
use std::time::Duration;

const SHORT: &str = "note: memory was short: up to ";

/// A folder with so many bookings, none of which has what another has.
fn many(rows: u64) -> Folder {
    let folder = Folder::new();
    let mut text = String::from("booking_id,route,customer_id,fare,note\n");
    for n in 0..rows {
        // All numbers once each, in no order.
        let mixed = n * 7919 % 1_000_003;
        let route = ["SKE", "KEL", "HAV"][(mixed % 3) as usize];
        let (fare, cents) = (mixed % 9000, n % 100);
        writeln!(text, "{n},{route},{mixed},{fare}.{cents:02},ticket of {mixed}").unwrap();
    }
    folder.write("many.csv", text);
    folder
}

/// What a request gives with a limit, and what it says but for the line on memory, which there must be.
#[track_caller]
fn short(folder: &Folder, asked: &str, limit: &str) -> (String, String) {
    let (given, said) = folder.line(&format!("{asked} --memory {limit}")).fine();
    let (of_memory, said): (Vec<&str>, Vec<&str>) =
        said.split_inclusive('\n').partition(|line| line.starts_with(SHORT));
    assert_eq!(of_memory.len(), 1, "{asked}: {said:?}");
    (given, said.concat())
}

#[test]
fn requests_give_the_same_and_say_the_same_where_memory_is_short() {
    let folder = Folder::new();
    folder.write("bookings.csv", include_str!("data/bookings.csv"));
    let more = [
        "summary FILE --by route --columns-by 'month(sailed_on)' --show 'mean(fare)' --totals --as html",
        "summary FILE --by route --show 'sum(fare)' --as json",
        "profile FILE",
        "explain FILE --by route --show 'sum(fare)'",
    ];
    for asked in REQUESTS.iter().chain(&more) {
        let asked = asked.replace("FILE", "bookings.csv");
        let (given, said) = folder.line(&format!("{asked} --memory 2G")).fine();
        // What explains reads no more than headings and kinds, and rows behind a cell have no account.
        if asked.starts_with("explain") || asked.starts_with("trace") {
            let (short, _) = folder.line(&format!("{asked} --memory 64K")).fine();
            assert_eq!(short, given);
            continue;
        }
        assert_eq!(short(&folder, &asked, "64K"), (given, said), "{asked}");
    }
}

#[rstest]
#[case("summary many.csv --by booking_id --show 'sum(fare)' --show 'count()' --as csv")]
#[case(
    "summary many.csv --by customer_id --show 'sum(fare), share(sum(fare))' --sort 'sum(fare) desc' --top 5 --totals"
)]
#[case(
    "summary many.csv --by route --show 'median(fare * booking_id), percentile(fare * booking_id, 90)' --totals"
)]
#[case("summary many.csv --by route --show 'count(distinct note), mode(note)' --totals")]
#[case(
    "summary many.csv --by route --show \"count(distinct concat(text(booking_id), '-', route)), mode(upper(note))\" --totals"
)]
#[case(
    "summary many.csv --by route --show 'count(distinct fare * booking_id * 99999999999)' --totals"
)]
#[case("summary many.csv --by note --show 'max(fare)' --top 3")]
#[case(
    "detail many.csv --show booking_id,note --show 'rank(fare within route)' --show 'running(fare along customer_id within route)' --sort 'fare desc, note'"
)]
fn many_rows_give_the_same_where_memory_is_short(#[case] asked: &str) {
    let folder = many(60_000);
    let whole = folder.line(&format!("{asked} --memory 2G")).fine();
    assert!(!whole.1.contains(SHORT));
    for threads in [1, 3] {
        let asked = format!("{asked} --threads {threads}");
        assert_eq!(short(&folder, &asked, "4M"), whole, "{asked}");
    }
}

#[test]
fn a_part_of_values_in_runs_is_read_back_as_it_was() {
    let folder = many(200_000);
    let asked =
        "--by route --show 'count(distinct note), median(fare * booking_id), mode(note)' --totals";
    let whole = folder.line(&format!("summary many.csv {asked}")).fine();
    for memory in ["2G", "8M"] {
        let part = format!("part many.csv {asked} --to many.oeu --memory {memory}");
        let (_, said) = folder.line(&part).fine();
        assert_eq!(said.contains(SHORT), memory == "8M", "{said}");
        assert_eq!(folder.line("assemble many.oeu").fine(), whole);
    }
}

#[test]
fn a_folder_that_is_not_there_is_told_before_anything_is_read() {
    let folder = many(10);
    let error = folder.line("summary many.csv --by route --spill-to nowhere").error();
    assert!(error.contains("no temporary file can be used in nowhere"), "{error}");
    assert!(error.contains("--spill-to DIR"), "{error}");
    let error = folder.line("summary many.csv --by route --memory plenty").error();
    assert!(error.contains("--memory 'plenty' is no number of bytes"), "{error}");
    let error = folder.line("summary many.csv --by route --memory 4").error();
    assert!(error.contains("--memory 4 is less than any row takes"), "{error}");
    assert!(error.contains("write --memory 4G"), "{error}");
}

#[test]
fn a_disk_that_is_full_is_an_error_that_leaves_nothing_behind() {
    let folder = many(60_000);
    folder.write("kept.csv", "what was there\n");
    std::fs::create_dir(folder.path("spill")).unwrap();
    let request =
        "summary many.csv --by note --show 'sum(fare)' --memory 4M --spill-to spill --to kept.csv";
    // A file of a megabyte at most, which a full disk looks like.
    let script = format!("ulimit -f 1024; exec \"$0\" {request}");
    let mut command = Command::new("bash");
    command.current_dir(folder.path("")).arg("-c").arg(script).arg(program());
    let output = command.stdin(Stdio::null()).output().unwrap();
    let said = String::from_utf8_lossy(&output.stderr);
    assert_eq!(output.status.code(), Some(1), "{said}");
    assert!(said.starts_with("error: spill is full: temporary files have "), "{said}");
    assert!(said.contains("--spill-to") && said.contains("--memory"), "{said}");
    assert_eq!(folder.names(), ["kept.csv", "many.csv", "spill"]);
    assert_eq!(std::fs::read_dir(folder.path("spill")).unwrap().count(), 0);
    assert_eq!(std::fs::read_to_string(folder.path("kept.csv")).unwrap(), "what was there\n");
}

#[test]
fn nothing_is_left_of_a_run_that_was_killed() {
    let folder = many(60_000);
    std::fs::create_dir(folder.path("spill")).unwrap();
    for wait in [20, 60, 120] {
        let mut command = Command::new(program());
        command.current_dir(folder.path("")).stdout(Stdio::null()).stderr(Stdio::null()).args([
            "detail",
            "many.csv",
            "--sort",
            "fare",
            "--memory",
            "1M",
            "--spill-to",
            "spill",
            "--to",
            "out.csv",
        ]);
        let mut child = command.spawn().unwrap();
        std::thread::sleep(Duration::from_millis(wait));
        // While it runs the file has no name either.
        assert_eq!(std::fs::read_dir(folder.path("spill")).unwrap().count(), 0);
        child.kill().unwrap();
        child.wait().unwrap();
        assert_eq!(std::fs::read_dir(folder.path("spill")).unwrap().count(), 0);
        let _ = std::fs::remove_file(folder.path("out.csv"));
    }
}
