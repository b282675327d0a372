//! What trials found false, lost or silent: each case gave a wrong figure once.

mod common;
use common::Folder;
use rstest::rstest;

/// The CSV of a summary over a file of these lines, without its heading.
#[track_caller]
fn figures(file: &str, options: &[&str]) -> String {
    let folder = Folder::with("a.csv", format!("{}\n", file.replace(" / ", "\n")));
    let out = folder.csv("a.csv", options);
    out.lines().skip(1).collect::<Vec<_>>().join(" / ")
}

#[rstest]
// Two conditions were taken for one.
#[case("t,x / =a,1 / b,1 / a,1 / z,1 / =b,1", &["--show", "count(where t < '=b')", "--show", "count(where t <= 'b')"], "1,4")]
// A quotient, a mean or a median was rounded to the even neighbour, or from its binary64.
#[case("v / 3", &["--show", "round(v/200, 2)", "--show", "round(1/2)", "--show", "round(sum(v)/200, 2)"], "0.02,1,0.02")]
#[case("v / 1 / 2", &["--show", "round(mean(v))", "--show", "round(median(v))", "--show", "round(-mean(v))"], "2,2,-2")]
#[case("v / 0.05 / 0.06", &["--show", "round(mean(v), 2)", "--show", "round(percentile(v, 50), 2)"], "0.06,0.06")]
// Texts had two orders.
#[case("k,d / b,1 / C,1 / a,1", &["--show", "max(k)", "--show", "min(k)", "--show", "last(k along k)", "--show", "count(where k < 'B')"], "C,a,C,1")]
#[case("k / straße / STRASSE / Strand", &["--show", "min(k)", "--show", "max(k)"], "Strand,straße")]
// A time beside a date lost the day.
#[case("d / 2024-12-31T10:00:00 / 2025-01-01T00:00:00", &["--show", "count(where d <= '2024-12-31')", "--show", "count(where d = '2024-12-31')", "--show", "count(where d in ('2024-12-31'))", "--show", "count(where d > '2024-12-31')", "--show", "count(where d <> '2024-12-31')", "--show", "count(where d between '2024-12-31' and '2024-12-31')"], "1,1,1,1,1,1")]
#[case("d / 2024-12-31T10:00:00 / 2025-01-01T00:00:00", &["--show", "count(where d not in ('2024-12-31', '2025-01-01T00:00:00'))", "--show", "count(where d < '2024-12-31T11:00')"], "0,1")]
// A key by the name of its function was refused in --sort.
#[case("d,v / 2024-01-05,1 / 2024-02-05,2", &["--by", "month(d)", "--show", "v", "--sort", "month desc"], "2024-02,2 / 2024-01,1")]
// A column without any value was a number.
#[case("status,v,d / ,1, / ,2,", &["--where", "status = 'done'"], "0")]
#[case("s,v,d / ,1, / ,2,", &["--show", "sum(s)", "--show", "count(where s = 'x')", "--show", "count(where d >= '2024-01-01')", "--show", "count(s)", "--show", "max(s)", "--show", "count(where s in ('a', 'b'))", "--show", "count(where s between 1 and 2)"], ",0,0,0,,0,0")]
#[case("s,v / ,1 / ,2", &["--by", "s", "--by", "month(s)", "--show", "v"], "(missing),(missing),3")]
#[case("s,v / ,1 / ,2", &["--show", "sum(if(s, 1, v))", "--show", "sum(coalesce(s, v))", "--show", "max(length(s))", "--show", "portion(s)", "--show", "sum(s + v)", "--show", "round(sum(s))"], "3,3,,,,")]
#[case("s,v", &["--by", "s", "--show", "sum(v)"], "")]
#[case("s,v", &["--show", "count()", "--show", "sum(v)", "--show", "count(where s = 'x')", "--show", "max(month(s))"], "0,,0,")]
fn a_figure_that_was_wrong(#[case] file: &str, #[case] options: &[&str], #[case] expected: &str) {
    assert_eq!(figures(file, options), expected);
}

#[rstest]
#[case("v / 1.7e308 / 1.7e308", &["--show", "sum(v)"], "binary64 numbers reach to about 1.8e308")]
#[case("v / 1.7e308 / -1.7e308", &["--show", "range(v)"], "binary64 numbers reach to about 1.8e308")]
#[case("v / 1e200 / -1e200", &["--show", "variance(v)"], "binary64 numbers reach to about 1.8e308")]
#[case("d / 9999-12-31", &["--show", "max(d + 1)"], "outside the calendar")]
#[case("d / 9999-12-31", &["--show", "max(end(week(d)))"], "outside the calendar")]
#[case("d / 9999-12-31", &["--show", "max(add_months(d, 1))"], "outside the calendar")]
fn what_cannot_be_held_is_said(#[case] file: &str, #[case] options: &[&str], #[case] said: &str) {
    let folder = Folder::with("a.csv", format!("{}\n", file.replace(" / ", "\n")));
    let error = folder.run(&[&["summary", "a.csv"], options].concat()).error();
    assert!(error.contains(said), "{error}");
}

const RESTS: &str = "d,v / 2024-01-15,1 / 2024-04-15,2 / 2025-01-15,4 / 2025-04-15,8 / ,16";

#[rstest]
// A rest took the total of the rows without a date.
#[case(RESTS, &["--by", "quarter(d)", "--show", "total(v within year)", "--show", "share(v within year)", "--bottom", "2", "--totals"], "Rest,, / 2024-Q1,3,0.3333333333333333 / 2024-Q2,3,0.6666666666666666 / Total,,")]
#[case(RESTS, &["--by", "quarter(d)", "--show", "total(v within year)", "--lines-where", "sum(v) <> 4 and sum(v) < 8", "--where", "d is not missing and v < 8", "--totals"], "2024-Q1,3 / 2024-Q2,3 / Rest,4 / Total,")]
// A condition that holds a result was blank within a longer period.
#[case("d,v / 2024-01-01,1 / 2024-01-02,2 / 2024-02-01,9 / 2025-01-01,5 / 2025-02-01,7", &["--by", "month(d)", "--show", "total(min(v where v > mean(v)) within year)"], "2024-01,9 / 2024-02,9 / 2025-01,7 / 2025-02,7")]
#[case("d,v / 2024-01-01,1 / 2024-01-02,2 / 2024-02-01,9 / 2025-01-01,5 / 2025-02-01,7", &["--by", "year(d),month(d)", "--show", "total(min(v where v > mean(v)) within year)"], "2024,2024-01,9 / 2024,2024-02,9 / 2025,2025-01,7 / 2025,2025-02,7")]
// What is walked without `along` is the shortest unit.
#[case("d,v / 2025-01-06,1 / 2025-01-13,2 / 2025-02-03,4", &["--by", "week(d)", "--columns-by", "month(d)", "--show", "running(v)"], "2025-W02,1, / 2025-W03,3, / 2025-W06,,4")]
#[case("d,v / 2025-01-06,1 / 2025-04-13,2 / 2025-07-03,4", &["--by", "fiscal_quarter(d, 4)", "--by", "year(d)", "--show", "running(v)"], "2024/25-Q4,2025,1 / 2025/26-Q1,2025,3 / 2025/26-Q2,2025,7")]
// No meaning was taken for missing.
#[case("k,n / a,8 / b,1 / c,1", &["--by", "k", "--show", "if(running(share(n) along k desc) <= 0.85, 'A', 'B')", "--totals"], "a,A / b,B / c,B / Total,")]
#[case("k,n / a,8 / b,1 / c,1", &["--by", "k", "--show", "coalesce(rank(n), 0)", "--show", "lag(n) is missing", "--top", "1", "--totals"], "b,2,true / Rest,, / Total,,")]
#[case("d,n / 2025-01-01,1 / ,2", &["--by", "month(d)", "--show", "coalesce(running(n), 9)"], "2025-01,1 / (missing),")]
// Periods and categories without rows.
#[case("d,ch,v / 2025-01-05,web,1 / 2025-03-05,shop,2", &["--by", "month(d),ch", "--show", "count()", "--every-period"], "2025-01,web,1 / 2025-02,shop,0 / 2025-02,web,0 / 2025-03,shop,1")]
#[case("d,ch,v / 2025-01-05,web,1 / 2025-03-05,shop,2 / ,web,3", &["--by", "ch,month(d)", "--show", "count()", "--every-period"], "shop,2025-01,0 / shop,2025-02,0 / shop,2025-03,1 / web,2025-01,1 / web,2025-02,0 / web,2025-03,0 / web,(missing),1")]
#[case("d,v / 2025-01-05,1 / 2025-05-05,2 / ,3", &["--by", "quarter(d),month(d)", "--show", "count()", "--every-period"], "2025-Q1,2025-01,1 / 2025-Q1,2025-02,0 / 2025-Q1,2025-03,0 / 2025-Q2,2025-04,0 / 2025-Q2,2025-05,1 / (missing),(missing),1")]
#[case("d,ch,v / 2025-01-05,web,1 / 2025-03-05,shop,2", &["--by", "ch", "--columns-by", "month(d)", "--show", "count()", "--every-period"], "shop,0,0,1 / web,1,0,0")]
#[case("d,v / 2025-01-30,1 / 2025-02-02,2", &["--by", "d", "--show", "count()", "--every-period"], "2025-01-30,1 / 2025-01-31,0 / 2025-02-01,0 / 2025-02-02,1")]
#[case("d,v / 2025-01-30,1 / 2025-02-02,2", &["--by", "month(d),d", "--show", "count()", "--every-period"], "2025-01,2025-01-30,1 / 2025-01,2025-01-31,0 / 2025-02,2025-02-01,0 / 2025-02,2025-02-02,1")]
#[case("d,ch,v / 2025-01-05,web,1 / 2025-03-05,shop,2", &["--by", "month(d)", "--columns-by", "ch", "--show", "count()", "--every-period"], "2025-01,0,1 / 2025-02,0,0 / 2025-03,1,0")]
fn a_cell_that_was_wrong(#[case] file: &str, #[case] options: &[&str], #[case] expected: &str) {
    assert_eq!(figures(file, options), expected);
}

#[test]
fn categories_of_a_lookup_stand_in_the_combinations_that_it_has() {
    let folder = Folder::with("a.csv", "code,v\nA,1\nC,2\n");
    folder.write("l.csv", "code,grp,name\nA,one,Ann\nB,one,Bob\nC,two,Cid\nD,three,Dan\n");
    let lookup = ["--lookup", "l.csv", "--match", "code = code", "--show", "count()"];
    let csv = |more: &[&str]| folder.csv("a.csv", &[&lookup, more].concat());
    assert_eq!(
        csv(&["--by", "grp,name", "--every", "name"]),
        "grp,name,count()\none,Ann,1\none,Bob,0\nthree,Dan,0\ntwo,Cid,1\n"
    );
    assert_eq!(
        csv(&["--by", "code,name", "--every", "code"]),
        "code,name,count()\nA,Ann,1\nB,Bob,0\nC,Cid,1\nD,Dan,0\n"
    );
    assert_eq!(
        csv(&["--by", "name", "--columns-by", "grp", "--every", "name"]),
        "name,one / count(),three / count(),two / count()\nAnn,1,,\nBob,0,,\nCid,,,1\nDan,,0,\n"
    );
}

#[test]
fn too_many_periods_are_an_error_that_says_so() {
    let folder = Folder::with("a.csv", "d\n0202-01-01\n2025-01-01\n");
    let error = folder.run(&["summary", "a.csv", "--by", "day(d)", "--every-period"]).error();
    assert!(error.contains("from 0202-01-01 to 2025-01-01 there are 665839"), "{error}");
    let error = folder.run(&["summary", "a.csv", "--by", "d", "--every-period"]).error();
    assert!(error.contains("from 0202-01-01 to 2025-01-01 there are 665839"), "{error}");
    let error = folder.run(&["summary", "a.csv", "--every-period"]).error();
    assert!(error.contains("no key is a period"), "{error}");
}

#[test]
fn the_column_that_finds_a_lookup_lists_its_categories_whatever_its_kind() {
    let folder = Folder::with("a.csv", "id,v\n1,5\n3,6\n");
    folder.write("l.csv", "id,name\n1,Ann\n2,Bob\n3,Cid\n");
    let options = ["--lookup", "l.csv", "--match", "id = id", "--by", "id", "--every", "id"];
    assert_eq!(folder.csv("a.csv", &options), "id,rows\n1,1\n2,0\n3,1\n");
    let text = [&options[..], &["--kind", "id=text"]].concat();
    assert_eq!(folder.csv("a.csv", &text), "id,rows\n1,1\n2,0\n3,1\n");
}

#[test]
fn keys_of_a_large_lookup_stand_together_whatever_their_order() {
    let folder = Folder::with("a.csv", "code,v\nc0,1\nc7,2\n");
    let rows = (0..6000).map(|i| format!("c{i},t{},r{}\n", i / 10, i / 1000));
    folder.write("l.csv", format!("code,town,region\n{}", rows.collect::<String>()));
    for by in ["region,town,l.code", "l.code,town,region", "town,region,l.code", "town,code"] {
        let options = ["--lookup", "l.csv", "--match", "code = code", "--every", by, "--by", by];
        let out = folder.csv("a.csv", &options);
        assert_eq!(out.lines().count(), 6001, "{by}");
        assert_eq!(out.lines().filter(|l| l.ends_with(",1")).count(), 2, "{by}");
    }
}

#[test]
fn many_keys_are_no_trouble() {
    let keys: Vec<String> = (0..300).map(|i| format!("k{i}")).collect();
    let folder = Folder::with("a.csv", format!("{},v\n{}1\n", keys.join(","), "a,".repeat(300)));
    let by = keys.join(",");
    let out = folder.csv("a.csv", &["--by", &by, "--show", "v", "--totals"]);
    assert!(out.lines().nth(1).unwrap().ends_with("a,1") && out.lines().count() == 302);
}

#[rstest]
#[case::zeros("0,250 / 0,500 / 1,000", &[], "1.750")]
#[case::zeros_in_front("000,123 / 1,000", &[], "1.123")]
#[case::the_other_way("0.678 / 1.5", &["--decimal", ","], "2.178")]
#[case::thousands("1,250 / 10,500", &[], "11750")]
fn a_group_of_zero_is_never_one_of_thousands(
    #[case] values: &str,
    #[case] options: &[&str],
    #[case] sum: &str,
) {
    let rows: String = values.split(" / ").map(|v| format!("\"{v}\"\n")).collect();
    let folder = Folder::with("a.csv", format!("x\n{rows}"));
    let args = [&["summary", "a.csv", "--as", "csv", "--show", "sum(x)"], options].concat();
    let (out, ledger) = folder.run(&args).fine();
    assert_eq!(out, format!("sum(x)\n{sum}\n"));
    // Said where the sign is not the one that was named, and where thousands could be decimals.
    let (turned, open) =
        (ledger.contains("as its decimal sign, because"), ledger.contains("two ways"));
    assert_eq!((turned, open), (!options.is_empty(), values.starts_with("1,250")), "{ledger}");
    // What fits neither sign is text; late values count as early ones do.
    folder.write("b.csv", format!("x\n{}\"0,250\"\n\"1,5,0\"\n", "\"1,000\"\n".repeat(60_000)));
    let error = folder.run(&["summary", "b.csv", "--show", "sum(x)"]).error();
    assert!(error.contains("`x` is text"), "{error}");
}

#[test]
fn kinds_that_come_late_are_taken_as_they_are() {
    let folder = Folder::with("a.csv", "t,d,b,v\n,,,1\nNA,NA,NA,1\n");
    folder.write("b.csv", "t,d,b,v\nhello,2024-09-26,true,2\n,,,\n");
    folder.write("n.csv", format!("t,d,b,v\n{}", "12,7,5,1\n".repeat(60_000)));
    for (calc, few, many) in [
        ("count(where t = 'hello')", "1", "1"),
        ("max(length(t))", "5", "5"),
        ("max(month(d))", "2024-09", ""),
        ("count(where b)", "1", ""),
    ] {
        for files in
            [["a.csv", "b.csv"], ["b.csv", "a.csv"], ["n.csv", "b.csv"], ["b.csv", "n.csv"]]
        {
            let args = ["summary", files[0], files[1], "--quiet", "--as", "csv", "--show", calc];
            let expected = if files.contains(&"n.csv") { many } else { few };
            let run = folder.run(&args);
            match expected {
                // Numbers with a date or a condition among them are text, in whichever order.
                "" => assert!(run.error().contains("text"), "{calc}"),
                _ => assert_eq!(run.ok().lines().last(), Some(expected), "{calc} {files:?}"),
            }
        }
    }
}

#[test]
fn nothing_is_written_of_a_detail_that_is_refused() {
    let folder = Folder::with("a.csv", "d,v\n03/04/2025,1\n05/04/2025,2\n");
    let error = folder.run(&["detail", "a.csv", "--as", "csv"]).error();
    assert!(error.contains("--dates dmy"), "{error}");
    let error = folder.run(&["trace", "a.csv", "--by", "month(d)", "--show", "v"]).error();
    assert!(error.contains("--dates dmy"), "{error}");
    let error = folder.run(&["trace", "a.csv", "--show", "v", "--format", "w: 0"]).error();
    assert!(error.contains("has no column `w`"), "{error}");
}

#[test]
fn an_empty_pivot_in_long_form_keeps_its_results() {
    let folder = Folder::with("a.csv", "k,m,v\nx,y,1\n");
    let args = ["--by", "k", "--columns-by", "m", "--show", "v", "--where", "v > 1", "--long"];
    assert_eq!(folder.csv("a.csv", &args), "k,m,sum of v\n");
    let json = folder.run(&[&["summary", "a.csv", "--quiet", "--as", "json"], &args[..]].concat());
    assert!(json.ok().contains("\"name\":\"sum of v\",\"role\":\"result\""));
}

#[test]
fn lines_that_end_in_lone_carriage_returns_are_rows() {
    let folder = Folder::with("a.csv", "k,v\rx,1\ry,2\r");
    assert_eq!(
        folder.csv("a.csv", &["--show", "count()", "--show", "v"]),
        "count(),sum of v\n2,3\n"
    );
}

/// A table whose labels are as hard to name as can be.
const HOSTILE: &str =
    "\"a=b\",v\nO'Neill,1\n'quoted',2\n\"x, y\",3\n(missing),4\n,5\nTotal,6\nRest,7\n2025,8\n=,9\n";

#[test]
fn every_label_can_be_named_and_traced() {
    let folder = Folder::with("a.csv", HOSTILE);
    let trace = |at: &str| {
        let args = [
            "trace", "a.csv", "--by", "\"a=b\"", "--show", "v", "--top", "6", "--totals",
            "--quiet", "--at", at,
        ];
        folder.run(&args).ok()
    };
    for (label, sum) in [
        ("O'Neill", 1),
        ("'O''Neill'", 1),
        ("'''quoted'''", 2),
        ("'x, y'", 3),
        ("'(missing)'", 4),
        ("(missing)", 5),
        ("'Total'", 6),
        ("'Rest'", 7),
        ("2025", 8),
        ("'='", 9),
        ("=", 9),
        ("Total", 45),
        ("Rest", 6),
    ] {
        let said = trace(&format!("\"a=b\" = {label}"));
        let line = said.lines().nth(1).unwrap();
        assert!(line.trim_end().ends_with(&format!(" {sum}")), "{label}\n{said}");
        assert!(said.contains("agrees") && !said.contains("mistake"), "{label}\n{said}");
    }
    let folder = Folder::with("a.csv", "d,v\n2025-03-05,1\n2025-04-01,2\n");
    let args = [
        "trace",
        "a.csv",
        "--by",
        "month(d)",
        "--show",
        "v",
        "--format",
        "month(d): MMM yyyy",
        "--at",
        "month = Mar 2025",
    ];
    assert!(folder.run(&args).ok().contains("from its 1 row  1  agrees"));
}

#[test]
fn a_trace_runs_the_very_plan_of_the_table() {
    let folder = Folder::with("a.csv", "k,x\na,1\nb,3\nc,2\n");
    let ask = ["--by", "k", "--show", "sum(x)", "--show", "running(sum(x))", "--top", "3"];
    assert!(folder.csv("a.csv", &ask).ends_with("c,2,5\na,1,6\n"));
    let said = folder.run(&[&["trace", "a.csv", "--at", "k = c"], &ask[..]].concat()).ok();
    let shown = said.split("running(sum(x)) at k = c").nth(1).unwrap();
    assert!(shown.lines().nth(1).unwrap().trim_end().ends_with(" 5"), "{said}");
}
