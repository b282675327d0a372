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
