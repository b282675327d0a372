//! `detail` and `trace`: rows that are kept, and rows behind a cell.

mod common;
use common::Folder;
use rstest::rstest;

const ROWS: &str = "id,route,sailed_on,fare,note
1,SKE,2025-01-05,10.00,
2,HAV,2025-01-07,20.00,\"a, b\"
3,SKE,2025-01-05,30.00,\"two
lines\"
4,SKE,2025-02-01,,=1+1
5,HAV,2025-03-02,20.00,
";

fn detail(options: &[&str]) -> String {
    let folder = Folder::with("b.csv", ROWS);
    folder.run(&[&["detail", "b.csv", "--quiet", "--as", "csv"], options].concat()).ok()
}

#[rstest]
#[case(&["--show", "id,fare * 2"], "id,fare * 2\n1,20.00\n2,40.00\n3,60.00\n4,\n5,40.00\n")]
#[case(&["--show", "id", "--where", "fare > 10", "--lines-where", "route = 'HAV'"], "id\n2\n5\n")]
#[case(&["--show", "id", "--where", "fare > 100"], "id\n")]
#[case(&["--show", "id,rank(fare within route)"], "id,rank(fare within route)\n1,2\n2,1\n3,1\n4,\n5,1\n")]
#[case(&["--show", "id", "--show", "n: rank(id asc ties apart)"], "id,n\n1,1\n2,2\n3,3\n4,4\n5,5\n")]
#[case(&["--show", "id,running(fare within route)"], "id,running(fare within route)\n1,10.00\n2,20.00\n3,40.00\n4,40.00\n5,40.00\n")]
#[case(&["--show", "id", "--show", "last: running(fare along sailed_on desc within route)"], "id,last\n1,10.00\n2,40.00\n3,40.00\n4,\n5,20.00\n")]
#[case(&["--show", "id,sum(fare within route)", "--sort", "route, id desc"], "id,sum(fare within route)\n5,40.00\n2,40.00\n4,40.00\n3,40.00\n1,40.00\n")]
#[case(&["--show", "id,share(fare)"], "id,share(fare)\n1,0.125\n2,0.25\n3,0.375\n4,\n5,0.25\n")]
#[case(&["--show", "id,fare - mean(fare within route)"], "id,fare - mean(fare within route)\n1,-10\n2,0\n3,10\n4,\n5,0\n")]
#[case(&["--show", "id,count(where fare > 10 within route)"], "id,count(where fare > 10 within route)\n1,1\n2,2\n3,1\n4,1\n5,2\n")]
#[case(&["--show", "id,lag(id)", "--show", "lead(fare, 2)"], "id,lag(id),\"lead(fare, 2)\"\n1,,30.00\n2,1,\n3,2,20.00\n4,3,\n5,4,\n")]
#[case(&["--show", "id,moving(fare, 2)"], "id,\"moving(fare, 2)\"\n1,\n2,15\n3,25\n4,\n5,\n")]
#[case(&["--show", "id,tile(fare, 3)"], "id,\"tile(fare, 3)\"\n1,3\n2,1\n3,1\n4,\n5,2\n")]
#[case(&["--show", "id,fare", "--sort", "fare desc", "--top", "1", "--bottom", "1"], "id,fare\n3,30.00\n1,10.00\n")]
#[case(&["--show", "id,first(fare along sailed_on within route)"], "id,first(fare along sailed_on within route)\n1,10.00\n2,20.00\n3,10.00\n4,10.00\n5,20.00\n")]
fn a_listing_is_as_worked_out_by_hand(#[case] options: &[&str], #[case] expected: &str) {
    let shown = detail(options);
    assert_eq!(shown, expected);
    assert_eq!(detail(&[options, &["--threads", "3", "--piece-bytes", "7"]].concat()), expected);
}

#[test]
fn without_a_request_all_columns_are_listed_and_fields_keep_their_quotes() {
    assert_eq!(detail(&[]), ROWS);
    let rows =
        Folder::with("b.csv", ROWS).run(&["detail", "b.csv", "--as", "jsonl", "--quiet"]).ok();
    assert_eq!(
        rows.lines().nth(2),
        Some(r#"{"id":3,"route":"SKE","sailed_on":"2025-01-05","fare":30.00,"note":"two\nlines"}"#)
    );
    let text = Folder::with("b.csv", ROWS).run(&["detail", "b.csv", "--quiet"]).ok();
    assert!(text.contains("two⏎lines"), "{text}");
}

#[test]
fn a_late_value_of_another_kind_leaves_nothing_half_written() {
    let mut rows = String::from("id,x\n");
    (0..60_000).for_each(|i| rows.push_str(&format!("{i},{i}\n")));
    rows.push_str("60000,late\n");
    let folder = Folder::with("b.csv", &rows);
    let out = folder.run(&["detail", "b.csv", "--as", "csv", "--quiet"]).ok();
    assert_eq!(out, rows);
    folder.write("broken.csv", rows.replace("late", "la\"te"));
    let error = folder.run(&["detail", "broken.csv", "--to", "out.csv"]).error();
    assert!(error.contains("line 60002"), "{error}");
    assert!(!folder.names().iter().any(|n| n.contains("out")), "{:?}", folder.names());
}

#[test]
fn the_ledger_counts_rows_and_ties() {
    let run = Folder::with("b.csv", ROWS).run(&[
        "detail",
        "b.csv",
        "--show",
        "id,lag(fare along sailed_on)",
        "--where",
        "id < 5",
        "--top",
        "2",
    ]);
    for said in [
        "rows read 5",
        "left out 1 by --where",
        "counted 4",
        "ties broken 2 lag(fare along sailed_on); in the order of the file",
        "rows shown 2",
        "rows not shown 2",
    ] {
        let ledger = run.stderr.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(ledger.contains(said), "{said}: {ledger}");
    }
}

#[rstest]
#[case(&["detail", "b.csv", "--show", "sum(fare per route)"], "`per` takes rows into smaller groups", "write `within`")]
#[case(&["detail", "b.csv", "--show", "running(note)"], "`running` takes a number", "")]
#[case(&["explain", "b.csv", "--detail", "--by", "route"], "--by and --columns-by group rows", "leave out --detail")]
#[case(&["trace", "b.csv", "--by", "route", "--at", "route = SK"], "route has no label `SK`", "did you mean SKE?")]
#[case(&["trace", "b.csv", "--by", "route,sailed_on", "--at", "sailed_on = 2025-01-05"], "leaves out a key", "route, sailed_on")]
#[case(&["trace", "b.csv", "--by", "route", "--at", "fare = 2"], "this is no key of the table", "the keys are `route`")]
#[case(&["trace", "b.csv", "--by", "route", "--at", "route"], "names no label", "route = SKE")]
#[case(&["trace", "b.csv", "--by", "route", "--at", "route = SKE, route = HAV"], "names `route` twice", "")]
#[case(&["trace", "b.csv", "--by", "route", "--columns-by", "sailed_on", "--at", "route = HAV, sailed_on = 2025-02-01"], "no row that counts has these labels together", "blank")]
fn a_mistake_says_what_to_write(
    #[case] args: &[&str],
    #[case] message: &str,
    #[case] way_out: &str,
) {
    let error = Folder::with("b.csv", ROWS).run(args).error();
    assert!(error.contains(message) && error.contains(way_out), "{error}");
}

#[test]
fn a_trace_names_file_and_line_of_every_row() {
    let folder = Folder::with("a.csv", ROWS);
    folder.write("b.csv", ROWS.replace("5,HAV", "5,SKE"));
    for more in [&["--threads", "1"][..], &["--threads", "3", "--piece-bytes", "9"]] {
        let trace = folder.run(
            &[
                &[
                    "trace",
                    "a.csv",
                    "b.csv",
                    "--by",
                    "route",
                    "--show",
                    "sum(fare)",
                    "--at",
                    "route = SKE",
                    "--as",
                    "csv",
                    "--quiet",
                ],
                more,
            ]
            .concat(),
        );
        // The third record of each file has a line break in it.
        assert_eq!(
            trace.ok(),
            "file,line,route,fare\na.csv,2,SKE,10.00\na.csv,4,SKE,30.00\na.csv,6,SKE,\nb.csv,2,SKE,10.00\nb.csv,4,SKE,30.00\nb.csv,6,SKE,\nb.csv,7,SKE,20.00\n"
        );
    }
}

#[rstest]
#[case(&["--by", "route", "--show", "mean(fare)", "--at", "route = HAV"], "from its 2 rows  20.00  agrees")]
#[case(&["--by", "route", "--show", "min(fare where fare > mean(fare))", "--at", "route = SKE"], "from its 3 rows  30.00  agrees")]
#[case(&["--show", "median(sum(fare) per route)"], "from its 5 rows  40.00  agrees")]
#[case(&["--by", "route", "--show", "sum(fare)", "--totals"], "from its 5 rows  80.00  agrees")]
#[case(&["--by", "route", "--show", "share(sum(fare))", "--at", "route = SKE"], "sum(fare) from its 3 rows  40.00  agrees with 40.00 in the table")]
#[case(&["--by", "month(sailed_on)", "--show", "running(fare)", "--at", "month = 2025-03"], "    2025-01           60.00\n    2025-02\n    2025-03           20.00")]
#[case(&["--by", "month(sailed_on)", "--show", "change(fare)", "--at", "month = 2025-02"], "    2025-01           60.00\n    2025-02\n")]
#[case(&["--by", "route,month(sailed_on)", "--show", "max(sum(fare) within route)", "--at", "route = HAV"], "HAV    2025-01               20.00\n           2025-03               20.00")]
fn a_trace_makes_the_calculation_again(#[case] options: &[&str], #[case] expected: &str) {
    let out = Folder::with("b.csv", ROWS).run(&[&["trace", "b.csv"], options].concat()).ok();
    assert!(out.contains(expected), "{out}");
}

/// More texts than a reader keeps, hardly two of them the same: whatever they are known by meanwhile, each row keeps its own.
#[rstest]
#[case::shown("", &[])]
#[case::sorted_by_another("--sort 'fare desc, booking'", &["ties"])]
#[case::sorted_by_itself("--sort 'ref, label desc'", &["ref"])]
#[case::compared("--show 'first(ref along booking within fare)' --sort ref", &["ref", "first"])]
fn texts_of_many_rows_stay_with_their_rows(#[case] more: &str, #[case] how: &[&str]) {
    const ROWS: u32 = 230_000;
    // Some come twice, and one often.
    let reference = |n: u32| match n % 100 {
        0 => "BK-AGAIN".to_owned(),
        1 => format!("bk-{}", n / 200 * 7919 % 1_000_003),
        _ => format!("BK-{}", u64::from(n) * 7919 % 1_000_003),
    };
    let fare = |n: u32| n % 1_000;
    let mut rows: Vec<(u32, String, u32)> = (0..ROWS).map(|n| (n, reference(n), fare(n))).collect();
    let lines = rows.iter().map(|(n, reference, fare)| format!("{n},{reference},{fare}\n"));
    let text: String = std::iter::once("booking,ref,fare\n".to_owned()).chain(lines).collect();
    let folder = Folder::with("b.csv", text);
    let firsts: Vec<String> = (0..1_000).map(reference).collect();
    if how.contains(&"ties") {
        rows.sort_by_key(|row| (u32::MAX - row.2, row.0));
    }
    if how.contains(&"ref") {
        // In label order: letters of both cases as one, and what is the same then by bytes.
        let fare = |fare: u32| if how.len() > 1 { 0 } else { u32::MAX - fare };
        rows.sort_by_cached_key(|row| (row.1.to_lowercase(), row.1.clone(), fare(row.2), row.0));
    }
    let line = |(n, reference, fare): &(u32, String, u32)| {
        let first = if how.contains(&"first") {
            format!(",{}", firsts[*fare as usize])
        } else {
            String::new()
        };
        format!("{n},{reference},{fare},{reference} at {fare}{first}\n")
    };
    let expected: String = rows.iter().map(line).collect();
    for limits in ["--threads 1", "--threads 2 --memory 64M --piece-bytes 70000"] {
        let label = "--show \"label: concat(ref, ' at ', text(fare))\"";
        let asked = format!(
            "detail b.csv --show booking,ref,fare {label} {more} --as csv --quiet {limits}"
        );
        let given = folder.line(&asked).ok();
        let given = given.split_once('\n').unwrap().1;
        let odd = given.lines().zip(expected.lines()).find(|(given, expected)| given != expected);
        assert_eq!(odd, None, "{asked}");
        assert_eq!(given.len(), expected.len());
    }
}
