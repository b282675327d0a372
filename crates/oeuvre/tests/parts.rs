//! Parts: made of some of the rows, taken together to what all rows give.

mod common;
use common::Folder;
use common::requests::REQUESTS;
use proptest::prelude::*;
use rstest::rstest;

const BOOKINGS: &str = include_str!("data/bookings.csv");

/// A folder with the bookings in several files: each ends before one of some rows.
fn split(cuts: &[usize]) -> (Folder, Vec<String>) {
    let folder = Folder::new();
    let (head, body) = BOOKINGS.split_once('\n').unwrap();
    let lines: Vec<&str> = body.lines().collect();
    let mut cuts: Vec<usize> = cuts.iter().map(|cut| cut % (lines.len() + 1)).collect();
    cuts.extend([0, lines.len()]);
    cuts.sort_unstable();
    let mut names = Vec::new();
    for (n, ends) in cuts.windows(2).enumerate() {
        names.push(format!("b{n}.csv"));
        folder.write(&names[n], format!("{head}\n{}\n", lines[ends[0]..ends[1]].join("\n")));
    }
    folder.write("routes.csv", "code,coast\nSKE,North\nKEL,West\nHAV,North\nOLD,East\n");
    (folder, names)
}

/// Makes a part of each file, with places or without.
fn make(folder: &Folder, asked: &str, files: &[String], placed: bool) -> Vec<String> {
    let part = |(n, file): (usize, &String)| {
        let place = if placed { format!(" --place {}", 10 * n + 3) } else { String::new() };
        folder.line(&format!("part {file} {asked}{place} --to p{n}.oeu --quiet")).ok();
        format!("p{n}.oeu")
    };
    files.iter().enumerate().map(part).collect()
}

/// Requests for a summary, without the words that name the rows.
fn requests() -> Vec<String> {
    let more = [
        "--by coast,route --lookup routes.csv --match 'route = code' --show 'sum(fare)' --every coast --totals",
        "--by route --columns-by 'month(sailed_on)' --columns-top 2 --show 'mean(fare)'",
        "--by note --one-spelling note --show 'count()'",
        "--by 'month(sailed_on)' --every-period --show 'growth(sum(fare)), running(count())'",
        "--by route --show 'sum(fare)' --check 'count() >= 1' --sort 'sum(fare) desc' --top 2 --totals",
        "--by source_file,route --show 'max(sum(fare) per route), at_max(route, fare)'",
        "--show 'correlation(fare, passengers), count(), 100 / sum(passengers - 2)'",
    ];
    let known = REQUESTS.iter().filter_map(|asked| asked.strip_prefix("summary FILE "));
    known.chain(more).map(str::to_owned).collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]
    #[test]
    fn parts_give_what_all_rows_give(
        cuts in proptest::collection::vec(0usize..300, 0..5), asked in 0usize..23, placed in any::<bool>(),
        joins in proptest::collection::vec((any::<usize>(), any::<bool>()), 0..4), kind in 0usize..4,
    ) {
        let requests = requests();
        let asked = &requests[asked % requests.len()];
        let (folder, files) = split(&cuts);
        // One file by itself has no column that names it.
        prop_assume!(files.len() > 1 || !asked.contains("source_file"));
        let how = ["", "--as csv", "--as json", "--as html"][kind];
        let whole = folder.line(&format!("summary {} {asked} {how} --notes all", files.join(" ")));
        let mut parts = make(&folder, asked, &files, placed);
        // Some of them two and two first; with places in any order.
        for (n, (at, turned)) in joins.into_iter().enumerate() {
            if parts.len() < 2 {
                break;
            }
            let at = at % (parts.len() - 1);
            let mut two = [parts[at].clone(), parts[at + 1].clone()];
            if placed && turned {
                two.reverse();
            }
            folder.line(&format!("assemble {} --to j{n}.oeu", two.join(" "))).ok();
            parts.splice(at..at + 2, [format!("j{n}.oeu")]);
        }
        if placed {
            parts.reverse();
        }
        let found = folder.line(&format!("assemble {} {how} --notes all", parts.join(" ")));
        prop_assert_eq!(found.code, whole.code, "{}", found.stderr);
        prop_assert_eq!(found.stdout, whole.stdout, "{}", asked);
        prop_assert_eq!(found.stderr, whole.stderr, "{}", asked);
    }
}

#[rstest]
#[case::twice("p0.oeu p0.oeu", "p0.oeu is given twice", "name each part once")]
#[case::joined("p01.oeu p1.oeu", "the rows of b1.csv are in p01.oeu and in p1.oeu", "once")]
#[case::again("p1.oeu p1again.oeu", "the rows of b1.csv are in p1.oeu and in p1again.oeu", "once")]
#[case::asked("p0.oeu other.oeu", "p0.oeu asks --by route, other.oeu --by note", "the same")]
#[case::lookup(
    "l0.oeu l1.oeu",
    "the lookup routes of l1.oeu is not the same as that of l0.oeu",
    "again"
)]
#[case::places("at3.oeu p1.oeu", "p1.oeu has no place, and others have one", "--place N")]
#[case::place("at3.oeu also3.oeu", "at3.oeu and also3.oeu are both at place 3", "another --place")]
#[case::none("b0.csv", "b0.csv: this is no part", "oeuvre part")]
#[case::version("new.oeu", "this part is of version 99", "make it again")]
#[case::short("short.oeu", "short.oeu: this part is damaged", "make it again")]
#[case::damaged("damaged.oeu", "damaged.oeu: this part is damaged", "make it again")]
#[case::texts(
    "p0.oeu texts.oeu",
    "fare is a number with 2 digits behind its point in p0.oeu, and text in texts.oeu",
    "p0.oeu again with --as-in texts.oeu"
)]
fn parts_that_do_not_fit_are_refused(#[case] parts: &str, #[case] said: &str, #[case] help: &str) {
    let (folder, files) = split(&[100]);
    let asked = "--by route --show 'sum(fare), count(distinct fare)'";
    make(&folder, asked, &files, false);
    folder.line("assemble p0.oeu p1.oeu --to p01.oeu").ok();
    // Made again by several threads, of small pieces.
    let pieces = "--piece-bytes 300 --threads 3";
    folder.line(&format!("part b1.csv {asked} {pieces} --to p1again.oeu --quiet")).ok();
    folder
        .line(
            "part b1.csv --by note --show 'sum(fare), count(distinct fare)' --to other.oeu --quiet",
        )
        .ok();
    folder.line(&format!("part b0.csv {asked} --place 3 --to at3.oeu --quiet")).ok();
    folder.line(&format!("part b1.csv {asked} --place 3 --to also3.oeu --quiet")).ok();
    let lookup = "--lookup routes.csv --match 'route = code' --by coast --show 'count()'";
    folder.line(&format!("part b0.csv {lookup} --to l0.oeu --quiet")).ok();
    folder.write("routes.csv", "code,coast\nSKE,South\n");
    folder.line(&format!("part b1.csv {lookup} --to l1.oeu --quiet")).ok();
    folder.write("t.csv", "route,fare\nSKE,later\n");
    // A text is no number to be added up.
    folder.line("part t.csv --by route --show 'sum(fare)' --to t.oeu --quiet").error();
    folder.line("part t.csv --by route --show 'count(distinct fare)' --to texts.oeu --quiet").ok();
    if parts.ends_with("texts.oeu") {
        folder
            .line("part b0.csv --by route --show 'count(distinct fare)' --to p0.oeu --quiet")
            .ok();
    }
    let bytes = std::fs::read(folder.path("p0.oeu")).unwrap();
    folder.write("short.oeu", &bytes[..bytes.len() / 2]);
    let changed = |at: usize, byte: u8| {
        let mut bytes = bytes.clone();
        bytes[at] = byte;
        bytes
    };
    folder.write("new.oeu", changed(b"oeuvre part\n".len(), 99));
    folder.write("damaged.oeu", changed(60, bytes[60] ^ 1));
    let told = folder.line(&format!("assemble {parts}")).error();
    assert!(told.contains(said) && told.contains(help), "{told}");
}

#[test]
fn columns_are_read_as_in_another_part() {
    let folder = Folder::new();
    folder.write("a.csv", "route,fare\nSKE,7\n");
    folder.write("b.csv", "route,fare\nSKE,12.50\nKEL,8\n");
    let asked = "--by 'text(fare)' --show 'count(), sum(fare)'";
    folder.line(&format!("part a.csv {asked} --to a.oeu --quiet")).ok();
    folder.line(&format!("part b.csv {asked} --to b.oeu --quiet")).ok();
    // Numbers get the digits of others, but what was made of them stays as it is.
    let told = folder.line("assemble a.oeu b.oeu").error();
    assert!(told.contains("make a.oeu again with --as-in b.oeu"), "{told}");
    folder.line(&format!("part a.csv {asked} --as-in b.oeu --to a.oeu --quiet")).ok();
    let whole = folder.line(&format!("summary a.csv b.csv {asked}")).fine();
    assert_eq!(folder.line("assemble a.oeu b.oeu").fine(), whole);
    // Where no text is made of them they are brought together.
    for file in ["a", "b"] {
        folder
            .line(&format!(
                "part {file}.csv --show 'sum(fare), median(fare)' --to {file}.oeu --quiet"
            ))
            .ok();
    }
    let sums = folder.line("assemble a.oeu b.oeu --as csv --quiet").ok();
    assert_eq!(sums, "sum(fare),median(fare)\n27.50,8\n");
}

#[test]
fn each_part_is_read_as_its_file_wants() {
    let folder = Folder::new();
    folder.write("a.csv", "route,fare\nSKE,7.50\n");
    folder.write("b.csv", "route;fare\nSKE;12,25\nKEL;n.a.\n");
    let asked = "--by route --show 'sum(fare)'";
    folder.line(&format!("part a.csv {asked} --to a.oeu --quiet")).ok();
    folder.line(&format!("part b.csv {asked} --decimal , --missing n.a. --to b.oeu --quiet")).ok();
    let sums = folder.line("assemble a.oeu b.oeu --as csv --quiet").ok();
    assert_eq!(sums, "route,sum(fare)\nKEL,\nSKE,19.75\n");
    // By whose clock times are read is the same for all.
    folder
        .line(&format!("part b.csv {asked} --zone Europe/Oslo --missing n.a. --to b.oeu --quiet"))
        .ok();
    let told = folder.line("assemble a.oeu b.oeu").error();
    assert!(told.contains("a.oeu asks no --zone, b.oeu --zone Europe/Oslo"), "{told}");
}

#[test]
fn a_part_is_told_and_goes_to_a_file_of_its_own() {
    let (folder, _) = split(&[]);
    let run = folder.line("part b0.csv --by route --show 'sum(fare)' --to p.oeu");
    assert_eq!((run.code, run.stdout.as_str()), (0, ""));
    assert!(run.stderr.starts_with("p.oeu holds what its rows come to, "), "{}", run.stderr);
    let kept =
        folder.line("part b0.csv --by route --show 'count(where fare > mean(fare))' --to k.oeu");
    assert!(kept.stderr.starts_with("k.oeu holds its rows, "), "{}", kept.stderr);
    for (line, said) in [
        ("part b0.csv --by route", "name it: --to bookings-07.oeu"),
        ("part b0.csv --by route --to p.csv", "name it: --to bookings-07.oeu"),
        ("part b0.csv --by route --as csv --to p.oeu", "oeuvre assemble p.oeu --as csv"),
        ("part b0.csv --by rout --show 'count()' --to q.oeu", "rout"),
    ] {
        let told = folder.line(line).error();
        assert!(told.contains(said), "{told}");
    }
    let told = folder.line("summary p.oeu --by route").error();
    assert!(
        told.contains("this is a part of a summary") && told.contains("oeuvre assemble"),
        "{told}"
    );
    assert!(!folder.names().contains(&"q.oeu".to_owned()), "nothing is left of what failed");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(32))]
    /// Whatever stands in a file, it is read or refused; the checksum is mended, so that what is behind it is looked at.
    #[test]
    fn bytes_of_anything_are_refused_but_never_a_crash(
        changes in proptest::collection::vec((14usize..4000, any::<u8>()), 0..6), cut in 0usize..4000, mend in any::<bool>(),
    ) {
        let (folder, files) = split(&[]);
        make(&folder, "--by route --show 'median(fare), list(route)'", &files, false);
        let mut bytes = std::fs::read(folder.path("p0.oeu")).unwrap();
        for (at, byte) in changes {
            if let Some(b) = bytes.get_mut(at) {
                *b = byte;
            }
        }
        bytes.truncate(bytes.len() - cut % bytes.len() / 8);
        if mend && bytes.len() > 40 {
            bytes.truncate(bytes.len() - 16);
            let sum = oeuvre_data::fingerprint(&bytes);
            bytes.extend(sum.to_le_bytes());
        }
        folder.write("p0.oeu", bytes);
        folder.line("assemble p0.oeu").no_panic();
        folder.line("assemble p0.oeu --to q.oeu").no_panic();
    }
}

const REPORT: &str = "
[data]
files = ['b0.csv', 'b1.csv', 'b2.csv']
[given]
least = { default = 10 }
[let]
large = 'count(where fare >= $least)'
[[table]]
name = 'routes'
by = 'route'
show = ['sum(fare)', 'count(delay_min)', 'median(fare)']
totals = true
[[table]]
name = 'large'
by = 'month(sailed_on)'
show = 'large'
[[table]]
name = 'above'
by = 'route'
show = 'count(where fare > mean(fare))'
[[detail]]
name = 'first'
show = ['booking_id', 'fare']
sort = 'booking_id'
top = 3
[[check]]
that = 'count()'
at-least = 1
";

/// What a report gives as JSON, and which files it says were read.
fn report(folder: &Folder, more: &str) -> (serde_json::Value, Option<String>) {
    let (table, _) = folder.line(&format!("report r.toml --as json {more}")).fine();
    let mut all: serde_json::Value = serde_json::from_str(&table).unwrap();
    let mut said = None;
    all["ledger"]["notes"].as_array_mut().unwrap().retain(|note| {
        let text = note["note"].as_str().unwrap();
        if text.contains("3 files") {
            said = Some(text.to_owned());
        }
        !text.contains("3 files")
    });
    (all, said)
}

#[test]
fn files_that_have_not_changed_are_not_read_again() {
    let (folder, _) = split(&[90, 180]);
    folder.write("r.toml", REPORT);
    let (whole, none) = report(&folder, "");
    assert_eq!(none, None);
    let kept = |given: &str| report(&folder, &format!("--parts-in kept {given}"));
    let (first, said) = kept("");
    assert_eq!(first, whole);
    assert!(said.unwrap().contains("all 3 files were read, and what they come to is kept"));
    let parts = || std::fs::read_dir(folder.path("kept")).unwrap().count();
    let made = parts();
    let (again, said) = kept("");
    assert_eq!((&again, parts()), (&whole, made));
    assert!(said.unwrap().contains("none has changed"));
    // One with another time and the same bytes is not read for its rows, either.
    let touch = |name: &str, seconds: u64| {
        let time = std::time::UNIX_EPOCH + std::time::Duration::from_secs(seconds);
        let file = std::fs::File::options().append(true).open(folder.path(name)).unwrap();
        file.set_modified(time).unwrap();
    };
    touch("b1.csv", 1_700_000_000);
    assert!(kept("").1.unwrap().contains("none has changed"));
    // One that has changed is read again, and said.
    let text = folder.read("b1.csv").replace(",SKE,", ",KEL,");
    folder.write("b1.csv", &text);
    touch("b1.csv", 1_700_000_001);
    let (changed, said) = kept("");
    assert!(said.unwrap().contains("only b1.csv was read"));
    assert_eq!(changed, report(&folder, "").0);
    assert!(changed != whole);
    // A value that is given makes new parts for what uses it, and those alone.
    let before = parts();
    let (given, said) = kept("--given least=20");
    assert!(said.unwrap().contains("all 3 files were read"));
    assert_eq!((given, parts()), (report(&folder, "--given least=20").0, before + 3));
    // A part that is damaged is made again.
    for entry in std::fs::read_dir(folder.path("kept")).unwrap() {
        std::fs::write(entry.unwrap().path(), "x").unwrap();
    }
    assert_eq!(kept("").0, changed);
}

#[test]
fn files_whose_columns_hold_more_are_brought_together() {
    let folder = Folder::new();
    folder.write("b0.csv", "route,fare\nSKE,7\n");
    folder.write("b1.csv", "route,fare\nSKE,12.50\nKEL,8\n");
    folder.write("b2.csv", "route,fare\nKEL,late\n");
    folder.write(
        "r.toml",
        "[data]\nfiles = ['b0.csv', 'b1.csv', 'b2.csv']\n[[table]]\nname = 't'\nby = 'text(fare)'\nshow = 'count()'\n",
    );
    let whole = report(&folder, "").0;
    for _ in 0..2 {
        assert_eq!(report(&folder, "--parts-in kept").0, whole);
    }
}
