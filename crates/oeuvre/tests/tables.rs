//! Tables with keys along the top, words that look at other cells, lines left out, and how cells read.

mod common;
use common::Folder;
use rstest::rstest;

const ROWS: &str = "coast,route,sailed_on,fare
North,SKE,2025-01-05,10.00
North,SKE,2025-01-20,30.00
North,HAV,2025-01-07,20.00
North,HAV,2025-03-02,25.50
South,BRY,2025-01-09,40.00
South,BRY,2025-02-11,
South,STR,2025-03-15,5.25
,XXX,2025-02-01,7.00
";

fn summary(options: &[&str]) -> String {
    let folder = Folder::with("b.csv", ROWS);
    let mut args = vec!["summary", "b.csv", "--quiet"];
    args.extend(options);
    folder.run(&args).ok()
}

fn csv(options: &[&str]) -> String {
    summary(&[options, &["--as", "csv"]].concat())
}

#[test]
fn keys_along_the_top_have_spans_subtotals_and_totals() {
    let table = summary(&[
        "--by",
        "coast,route",
        "--columns-by",
        "month(sailed_on)",
        "--show",
        "fare,count()",
        "--totals=all",
    ]);
    assert_eq!(
        table,
        "                  ─── 2025-01 ───  ─── 2025-02 ───  ─── 2025-03 ───  ──── Total ────
                  sum of           sum of           sum of           sum of
coast      route    fare  count()    fare  count()    fare  count()    fare  count()
────────────────────────────────────────────────────────────────────────────────────
North      HAV     20.00        1                    25.50        1   45.50        2
           SKE     40.00        2                                     40.00        2
           Total   60.00        3                    25.50        1   85.50        4

South      BRY     40.00        1                1                    40.00        2
           STR                                        5.25        1    5.25        1
           Total   40.00        1                1    5.25        1   45.25        3

(missing)  XXX                       7.00        1                     7.00        1
           Total                     7.00        1                     7.00        1
────────────────────────────────────────────────────────────────────────────────────
Total             100.00        4    7.00        2   30.75        2  137.75        8
"
    );
}

#[rstest]
// Parts of a heading are joined, also of two keys along the top.
#[case(&["--by", "coast", "--columns-by", "quarter(sailed_on),month(sailed_on)", "--show", "n: count()", "--totals"],
"coast,2025-Q1 / 2025-01 / n,2025-Q1 / 2025-02 / n,2025-Q1 / 2025-03 / n,2025-Q1 / Total / n,Total / n
North,3,,1,4,4
South,1,1,1,3,3
(missing),,1,,1,1
Total,4,2,2,8,8
")]
// One line a cell; totals are lines, too.
#[case(&["--by", "coast", "--columns-by", "month(sailed_on)", "--show", "n: count()", "--totals", "--long"],
"coast,month(sailed_on),n
North,2025-01,3
North,2025-03,1
North,Total,4
South,2025-01,1
South,2025-02,1
South,2025-03,1
South,Total,3
(missing),2025-02,1
(missing),Total,1
Total,2025-01,4
Total,2025-02,2
Total,2025-03,2
Total,Total,8
")]
// No keys down the side.
#[case(&["--columns-by", "month(sailed_on)", "--show", "fare", "--show", "running(fare)"],
"2025-01 / sum of fare,2025-01 / running(fare),2025-02 / sum of fare,2025-02 / running(fare),2025-03 / sum of fare,2025-03 / running(fare)
100.00,100.00,7.00,107.00,30.75,137.75
")]
// A key along the top turned round, and above totals.
#[case(&["--by", "coast", "--columns-by", "month(sailed_on)", "--sort", "month(sailed_on) desc", "--totals=grand", "--totals-first"],
"coast,Total / rows,2025-03 / rows,2025-02 / rows,2025-01 / rows
Total,8,2,2,4
North,4,1,,3
South,3,1,1,1
(missing),1,,1,
")]
// A month without rows is a step: nothing was counted in it.
#[case(&["--by", "route,month(sailed_on)", "--where", "route = 'HAV'", "--show", "before: lag(count())", "--show", "lag(fare)"],
"route,month(sailed_on),before,lag(fare)
HAV,2025-01,,
HAV,2025-03,0,
")]
#[case(&["--by", "month(sailed_on)", "--where", "route = 'HAV'", "--show", "fare", "--show", "lag(fare)", "--every-period"],
"month(sailed_on),sum of fare,lag(fare)
2025-01,20.00,
2025-02,,20.00
2025-03,25.50,
")]
// Places with ties: BRY 40, SKE 40, HAV 45.50, STR 5.25, XXX 7.
#[case(&["--by", "route", "--show", "gap: rank(fare)", "--show", "close: rank(fare ties close)", "--show", "apart: rank(fare ties apart)", "--show", "mean: rank(fare ties mean)", "--show", "up: rank(fare asc)", "--show", "tile: tile(fare, 2)"],
"route,gap,close,apart,mean,up,tile
BRY,2,2,2,2.5,3,1
HAV,1,1,1,1.0,5,1
SKE,2,2,3,2.5,3,1
STR,5,4,5,5.0,1,2
XXX,4,3,4,4.0,2,2
")]
// A walk follows the lines as they stand, or the values.
#[case(&["--by", "route", "--sort", "fare desc", "--show", "fare", "--show", "running(fare)", "--show", "up: running(fare asc)"],
"route,sum of fare,running(fare),up
HAV,45.50,45.50,137.75
BRY,40.00,85.50,52.25
SKE,40.00,125.50,92.25
XXX,7.00,132.50,12.25
STR,5.25,137.75,5.25
")]
// The calendar is walked whatever the order of the lines.
#[case(&["--by", "month(sailed_on)", "--sort", "sum(fare) desc", "--show", "fare", "--show", "lag(fare)", "--show", "running(fare)"],
"month(sailed_on),sum of fare,lag(fare),running(fare)
2025-01,100.00,,100.00
2025-03,30.75,7.00,137.75
2025-02,7.00,100.00,107.00
")]
// An order by a walk: the walk follows the labels.
#[case(&["--by", "route", "--sort", "running(fare) desc", "--show", "running(fare)"],
"route,running(fare)
XXX,137.75
STR,130.75
SKE,125.50
HAV,85.50
BRY,40.00
")]
// Which one was it, over the lines.
#[case(&["--by", "coast", "--show", "at_max(coast, fare)", "--show", "most: max(fare)", "--show", "of lines: max(sum(fare))"],
"coast,\"at_max(coast, fare)\",most,of lines
North,North,30.00,85.50
South,South,40.00,85.50
(missing),,7.00,85.50
")]
// Shares of a parent, a row and a column; the total line has no single coast.
#[case(&["--by", "coast,route", "--show", "total(fare within coast)", "--show", "mean(fare within coast)", "--totals=grand", "--where", "coast is not missing"],
"coast,route,total(fare within coast),mean(fare within coast)
North,HAV,85.50,21.375
North,SKE,85.50,21.375
South,BRY,45.25,22.625
South,STR,45.25,22.625
Total,,,
")]
fn a_table_is_as_worked_out_by_hand(#[case] options: &[&str], #[case] expected: &str) {
    let folder = Folder::with("b.csv", ROWS);
    let run = folder.run(&[&["summary", "b.csv", "--quiet", "--as", "csv"], options].concat());
    assert_eq!(run.ok(), expected);
}

#[rstest]
#[case(&["--by", "route", "--top", "2", "--totals"], "route,sum of fare\nHAV,45.50\nBRY,40.00\nRest,52.25\nTotal,137.75\n")]
#[case(&["--by", "route", "--top", "2"], "route,sum of fare\nHAV,45.50\nBRY,40.00\n")]
#[case(&["--by", "route", "--bottom", "1", "--totals", "--rest-label", "others"], "route,sum of fare\nothers,132.50\nSTR,5.25\nTotal,137.75\n")]
#[case(&["--by", "route", "--top", "1", "--bottom", "1"], "route,sum of fare\nHAV,45.50\nRest,87.00\nSTR,5.25\n")]
#[case(&["--by", "route", "--top", "9", "--totals"], "route,sum of fare\nHAV,45.50\nBRY,40.00\nSKE,40.00\nXXX,7.00\nSTR,5.25\nTotal,137.75\n")]
#[case(&["--by", "route", "--sort", "count(), route desc", "--top", "2"], "route,sum of fare\nXXX,7.00\nSTR,5.25\n")]
#[case(&["--by", "coast,route", "--lines-where", "rank(fare within coast) <= 1", "--totals=sub"],
 "coast,route,sum of fare\nNorth,HAV,45.50\nNorth,Rest,40.00\nNorth,Total,85.50\nSouth,BRY,40.00\nSouth,Rest,5.25\nSouth,Total,45.25\n(missing),XXX,7.00\n(missing),Total,7.00\n")]
// A group none of whose lines is shown is part of the rest around it.
#[case(&["--by", "coast,route", "--lines-where", "sum(fare) > 40", "--totals"],
 "coast,route,sum of fare\nNorth,HAV,45.50\nNorth,Rest,40.00\nNorth,Total,85.50\nRest,,52.25\nTotal,,137.75\n")]
#[case(&["--by", "route", "--lines-where", "sum(fare) > 1000"], "route,sum of fare\n")]
fn lines_are_left_out_and_the_rest_makes_up_for_them(
    #[case] options: &[&str],
    #[case] expected: &str,
) {
    assert_eq!(csv(&[options, &["--show", "fare"]].concat()), expected);
}

#[test]
fn the_ledger_tells_of_ties_and_of_what_is_not_shown() {
    let folder = Folder::with("b.csv", ROWS);
    let ledger = folder
        .run(&[
            "summary",
            "b.csv",
            "--by",
            "route",
            "--show",
            "fare",
            "--show",
            "rank(fare ties apart)",
            "--top",
            "2",
            "--totals",
        ])
        .fine()
        .1;
    for said in [
        "ties broken      2  at the cut of --top; the order of the labels decides",
        "ties broken      2  rank(fare ties apart); in the order of the labels",
        "lines not shown  3  together on the line for the rest",
    ] {
        let squeezed = |t: &str| t.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(squeezed(&ledger).contains(&squeezed(said)), "{said}\n{ledger}");
    }
}

#[rstest]
#[case(&["--by", "coast", "--show", "Fares: fare", "--format", "Fares: #,##0.0 €;(#)"], "85.5 €")]
#[case(&["--by", "coast", "--show", "fare", "--format", "sum of fare: 0%"], "8550%")]
#[case(&["--by", "quarter(sailed_on)", "--format", "quarter(sailed_on): QQQ yyyy"], "Q1 2025")]
#[case(&["--by", "coast", "--columns-by", "month(sailed_on)", "--format", "month(sailed_on): MMM"], "Jan")]
#[case(&["--by", "coast", "--columns-by", "month(sailed_on)", "--blank", "none"], "none")]
#[case(&["--by", "coast", "--show", "share(fare)"], "62.1%")]
#[case(&["--by", "coast", "--show", "share(count())", "--format", "share(count()): 0.000"], "0.375")]
#[case(&["--by", "route", "--show", "fare", "--cell-bars", "sum of fare"], "45.50 ██████████\n")]
#[case(&["--by", "route", "--show", "fare", "--cell-bars", "fare"], "40.00 ████████▊\n")]
#[case(&["--by", "route", "--show", "fare", "--cell-shade", "fare"], "45.50 █\n")]
#[case(&["--by", "route", "--show", "fare", "--cell-shade", "fare", "--color", "always"], "\u{1b}[48;5;208m")]
#[case(&["--by", "coast", "--columns-by", "month(sailed_on)", "--show", "fare", "--width", "30"], "coast          2025-03")]
#[case(&["--by", "coast", "--show", "fare", "--as", "markdown", "--columns-by", "month(sailed_on)"], "| coast | 2025-01<br>sum of fare |")]
#[case(&["--by", "coast", "--show", "fare", "--as", "json", "--columns-by", "month(sailed_on)", "--totals"], r#""result":"sum of fare","under":{"month(sailed_on)":"2025-01"}}"#)]
#[case(&["--by", "coast", "--as", "json", "--top", "1", "--totals"], r#"{"role":"rest","cells":{"rows":4}}"#)]
fn cells_read_as_asked(#[case] options: &[&str], #[case] expected: &str) {
    let out = summary(options);
    assert!(out.contains(expected), "{out}");
}

#[rstest]
#[case(&["--show", "rank(fare)"], "`rank` has nothing to compare with", "add --by or --columns-by")]
#[case(&["--by", "route", "--show", "lag(fare along coast)"], "this is no key of the table", "the keys are `route`")]
#[case(&["--by", "route", "--show", "lag(fare, 0)"], "expected a whole number from 1 on", "")]
#[case(&["--by", "route", "--show", "running(fare taking median)"], "`taking` takes", "sum")]
#[case(&["--by", "route", "--show", "rank(fare ties odd)"], "`ties` takes", "gap")]
#[case(&["--by", "route", "--show", "running(fare within route)"], "this key is walked", "")]
#[case(&["--by", "coast,route", "--show", "rank(fare within route)"], "compared with itself alone", "after `along`")]
#[case(&["--by", "route", "--show", "share(rank(fare))"], "works its figure out again from rows", "sum(rank(fare))")]
#[case(&["--by", "route", "--show", "running(max(coast))"], "`running` takes a number", "found text")]
#[case(&["--by", "route", "--show", "sum(fare where rank(fare) = 1)"], "`rank` looks at other cells", "--let")]
#[case(&["--by", "route", "--where", "rank(fare) = 1"], "`rank` looks at other cells", "--lines-where")]
#[case(&["--by", "rank(fare)"], "rows cannot be grouped by a result", "")]
#[case(&["--by", "route", "--lines-where", "fare"], "has a value on each row", "")]
#[case(&["--by", "route", "--lines-where", "sum(fare)"], "expected a condition", "")]
#[case(&["--top", "3"], "choose among lines", "add --by")]
#[case(&["--by", "route", "--format", "Fare: 0"], "the table has no column `Fare`", "its columns are")]
#[case(&["--by", "route", "--format", "rows: zero"], "--format 'rows: zero'", "#,##0.00")]
#[case(&["--by", "route", "--format", "route: 0"], "text has no pattern", "")]
#[case(&["--by", "route", "--cell-bars", "route"], "the table has no column `route`", "rows")]
fn a_mistake_says_what_to_write(
    #[case] options: &[&str],
    #[case] message: &str,
    #[case] way_out: &str,
) {
    let folder = Folder::with("b.csv", ROWS);
    let error = folder.run(&[&["summary", "b.csv"], options].concat()).error();
    assert!(error.contains(message) && error.contains(way_out), "{error}");
}

/// A key that is a number, and one that is a condition, are walked and compared like any other.
#[test]
fn any_kind_of_key_is_walked() {
    let out = csv(&[
        "--by",
        "fare > 20,band(fare, 10)",
        "--show",
        "n: count()",
        "--show",
        "running(count())",
        "--show",
        "rank(count() within \"fare > 20\")",
    ]);
    assert!(out.contains("true,30 to under 40,1,2,1"), "{out}");
}

#[test]
fn many_threads_and_small_pieces_change_nothing() {
    let folder = Folder::new();
    folder.run(&["demo"]).fine();
    let file = folder.path("oeuvre-demo/bookings.csv");
    let file = file.to_str().unwrap();
    let run = |more: &[&str]| {
        let options = [
            "summary",
            file,
            "--by",
            "route",
            "--columns-by",
            "quarter(sailed_on)",
            "--totals",
            "--top",
            "5",
            "--as",
            "csv",
            "--quiet",
            "--show",
            "sum(fare)",
            "--show",
            "rank(mean(fare))",
            "--show",
            "moving(sum(fare), 3)",
            "--show",
            "share(count() within route)",
        ];
        folder.run(&[&options, more].concat()).ok()
    };
    let one = run(&["--threads", "1"]);
    assert_eq!(one, run(&["--threads", "3", "--piece-bytes", "999"]));
    assert_eq!(one.lines().count(), 8);
}

#[rstest]
// The medians are 12, 30 and 7, of all rows 12; the means 12, 30 and 7, of all rows 98/6.
#[case("round(share(median(fare)), 1)", ["1.0", "2.5", "0.6"])]
#[case("round(share(mean(fare)), 2)", ["0.73", "1.84", "0.43"])]
#[case("round(total(median(fare)) / 2, 2)", ["6.00", "6.00", "6.00"])]
fn shares_and_totals_are_rounded_from_their_exact_parts(
    #[case] calc: &str,
    #[case] values: [&str; 3],
) {
    let folder = Folder::with("m.csv", "k,fare\na,10\na,14\nb,30\nb,30\nc,5\nc,9\n");
    let out = folder.csv("m.csv", &["--by", "k", "--show", &format!("x: {calc}")]);
    let [a, b, c] = values;
    assert_eq!(out, format!("k,x\na,{a}\nb,{b}\nc,{c}\n"));
}
