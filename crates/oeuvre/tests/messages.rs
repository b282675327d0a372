//! Diagnostics in calculations: every message as it is drawn.

mod common;
use common::Folder;
use rstest::rstest;

const FILE: &str = "route,fare,status,sailed_on,Ship date\nSKE,1.5,sailed,2025-01-01,2025-01-02\n";

fn error(args: &[&str]) -> String {
    let mut all = vec!["summary", "b.csv"];
    all.extend_from_slice(args);
    Folder::with("b.csv", FILE).run(&all).error()
}

#[rstest]
#[case("sum(fare", "expected `)` to close `sum(`, found the end", "missing here")]
#[case(
    "sum(sum(fare))",
    "`sum` is given a result, and the table has one line",
    "an aggregate inside an aggregate"
)]
#[case(
    "mean(sum(fare) per sum(fare))",
    "rows cannot be grouped by a result",
    "`per` takes columns"
)]
#[case(
    "max(min(fare where fare > mean(fare)) per route)",
    "a condition that holds a result cannot stand inside another, or inside `per`",
    ""
)]
#[case("mean(fare per route)", "`fare` has a value on each row", "")]
#[case("count(where fare)", "expected a condition, found a number", "compare it with something")]
#[case("count(where sailed_on > 2025)", "a date cannot be compared with a number", "'2025-03-14'")]
#[case(
    "count(where sailed_on > 'soon')",
    "expected a date such as '2025-03-14', found 'soon'",
    "cannot be compared"
)]
#[case("count(where month(sailed_on) = '2025-Q1')", "expected a month such as '2025-03'", "")]
#[case(
    "count(where month(sailed_on) = quarter(sailed_on))",
    "a month cannot be compared with a quarter",
    ""
)]
#[case("count(where sailed_on during 'May')", "'May' is no period", "2025-Q1")]
#[case("count(where route = \"SKE\")", "there is no column `SKE`", "text is written 'SKE'")]
#[case(
    "count(where status = sailed)",
    "there is no column `sailed`",
    "text is written in single quotes: 'sailed'"
)]
#[case("sum(fare along sailed_on)", "`sum` does not take `along`", "it takes `where`")]
#[case("month(route)", "`month` takes a date, found text", "--kind route=date")]
#[case("if(fare > 1, 2, 3, 4)", "this `if` does not say what holds otherwise", "")]
#[case("routes.name", "there is no lookup `routes`", "")]
#[case(
    "Two: count(), sum(fare)",
    "one heading for several calculations",
    "give each its own --show"
)]
fn a_mistake_is_drawn_with_a_way_out(
    #[case] show: &str,
    #[case] message: &str,
    #[case] way_out: &str,
) {
    let error = error(&["--show", show]);
    assert!(
        error.contains(message) && error.contains(way_out) && error.contains("--> --show"),
        "{error}"
    );
}

#[rstest]
#[case(&["--where", "sum(fare) > 3"], "a condition on rows cannot use a result of groups")]
#[case(&["--by", "sum(fare)"], "rows cannot be grouped by a result")]
#[case(&["--by", "route,route"], "the key `route` is given twice")]
#[case(&["--let", "a=b", "--let", "b=a", "--show", "a"], "a → b → a")]
#[case(&["--let", "a=1", "--let", "a=2"], "the name `a` is given twice")]
#[case(&["--let", "nothing"], "has no name")]
#[case(&["--show", "x(", "--where", "y("], "y(")]
#[case(&["--check", "sum(fare) = abc"], "there is no column `abc`")]
#[case(&["--check", "sum(fare), count() = 3"], "is several figures")]
#[case(&["--check", "fare > 3"], "has no =, >= or <= before a known figure")]
#[case(&["--dates", "dd.mm.yyyy"], "a month is MM")]
#[case(&["--dates", "dMy,dMy"], "a field twice")]
#[case(&["--dates", "dd yyyy"], "a day without a month")]
#[case(&["--to", "out.xyz"], "the ending of out.xyz names no file type")]
#[case(&["--to", "no/such/folder/out.csv"], "cannot be written")]
fn other_options_are_checked_too(#[case] args: &[&str], #[case] message: &str) {
    let error = error(args);
    assert!(error.contains(message), "{error}");
}

#[test]
fn the_place_is_marked_under_the_calculation() {
    assert_eq!(
        error(&["--show", "sum(fare) + mean(fair)"]),
        "error: there is no column `fair`
 --> --show:1:18
  |
1 | sum(fare) + mean(fair)
  |                  ^^^^ did you mean `fare`?
"
    );
}

#[test]
fn several_mistakes_are_shown_at_once() {
    let error = error(&["--show", "sum(fair)", "--show", "meen(fare)"]);
    assert!(error.contains("`fair`") && error.contains("`meen`"), "{error}");
}

#[test]
fn a_wrong_command_line_ends_with_two_and_a_missing_file_with_one() {
    let folder = Folder::new();
    assert_eq!(folder.run(&["summary"]).code, 2);
    assert_eq!(folder.run(&["sumary", "x"]).code, 2);
    let error = folder.run(&["summary", "nowhere.csv"]).error();
    assert!(error.contains("nowhere.csv: there is no such file"), "{error}");
}

/// What a message says to write is written, and works: the mistake, the words of the message, and the request
/// that they lead to.
#[rstest]
#[case(&["--show", "sum(fair)"], "did you mean `fare`?", &["--show", "sum(fare)"])]
#[case(&["--show", "summ(fare)"], "did you mean `sum`", &["--show", "sum(fare)"])]
#[case(&["--show", "sum(route)"], "count(distinct route)", &["--show", "count(distinct route)"])]
#[case(&["--show", "sum(route)"], "count(route)", &["--show", "count(route)"])]
#[case(&["--show", "route"], "--by route", &["--by", "route"])]
#[case(&["--show", "fare / sum(fare)"], "sum(fare), mean(fare), max(fare)", &["--show", "sum(fare), mean(fare), max(fare)"])]
#[case(&["--show", "mean(sum(fare))"], "mean(sum(fare) per route)", &["--show", "mean(sum(fare) per route)"])]
#[case(&["--show", "count(where route = 3)"], "route = '3'", &["--show", "count(where route = '3')"])]
#[case(&["--show", "count(where sailed_on > 2025)"], "'2025-03-14'", &["--show", "count(where sailed_on > '2025-03-14')"])]
#[case(&["--show", "count(where fare = missing)"], "`is missing`", &["--show", "count(where fare is missing)"])]
#[case(&["--show", "count(where status = sailed)"], "'sailed'", &["--show", "count(where status = 'sailed')"])]
#[case(&["--show", "count(where status = \"sailed\")"], "'sailed'", &["--show", "count(where status = 'sailed')"])]
#[case(&["--show", "sum(fare, 2)"], "write sum(x)", &["--show", "sum(fare)"])]
#[case(&["--show", "month(route)"], "--kind route=date", &["--kind", "sailed_on=date", "--show", "max(month(sailed_on))"])]
#[case(&["--show", "max(sailed_on + sailed_on)"], "add_months(d, 3)", &["--show", "max(add_months(sailed_on, 3))"])]
#[case(&["--show", "max(sailed_on + 1.5)"], "round(1.5)", &["--show", "max(sailed_on + round(1.5))"])]
#[case(&["--where", "sum(fare) > 3"], "--lines-where 'sum(fare) > 3'", &["--by", "route", "--lines-where", "sum(fare) > 3"])]
#[case(&["--where", "rank(sum(fare)) < 3"], "--lines-where 'rank(sum(fare)) < 3'", &["--by", "route", "--lines-where", "rank(sum(fare)) < 3"])]
// As a shell takes it, quotes and all.
#[case(&["--where", "max(route) > 'A'"], r"--lines-where 'max(route) > '\''A'\'''", &["--by", "route", "--lines-where", "max(route) > 'A'"])]
#[case(&["--top", "3"], "--by", &["--by", "route", "--top", "3"])]
#[case(&["--every-period"], "--by 'month(date)'", &["--by", "month(sailed_on)", "--every-period"])]
#[case(&["--let", "sum(fare)"], "--let 'revenue: sum(fare)'", &["--let", "revenue=sum(fare)"])]
#[case(&["--kind", "fare"], "--kind 'COL=KIND'", &["--kind", "fare=number"])]
#[case(&["--kind", "fair=text"], "did you mean `fare`?", &["--kind", "fare=text"])]
#[case(&["--format", "fare #"], "--format 'revenue: #,##0.00'", &["--show", "revenue: sum(fare)", "--format", "revenue: #,##0.00"])]
#[case(&["--headings", "a,b"], "--headings 'route,fare,status,sailed_on,Ship date'", &["--headings", "route,fare,status,sailed_on,Ship date"])]
#[case(&["--separator", "::"], "write one ASCII character, or tab", &["--separator", ","])]
#[case(&["--encoding", "klingon"], "windows-1252", &["--encoding", "windows-1252"])]
#[case(&["--to", "out.xyz"], "--as: text, csv", &["--to", "out.xyz", "--as", "csv"])]
#[case(&["--lookup", "c.csv", "--match", "route = code", "--lookup", "c.csv", "--match", "route = code"], "--lookup 'NAME=FILE'",
    &["--lookup", "c.csv", "--match", "route = code", "--lookup", "again=c.csv", "--match", "route = again.code"])]
#[case(&["--lookup", "twice.csv", "--match", "route = code"], "more keys with `and`",
    &["--lookup", "twice.csv", "--match", "route = code and status = name"])]
#[case(&["--lookup", "cc.csv", "--match", "route = code"], "did you mean `c.csv`?", &["--lookup", "c.csv", "--match", "route = code"])]
fn what_a_message_says_to_write_works(
    #[case] mistake: &[&str],
    #[case] words: &str,
    #[case] then: &[&str],
) {
    let folder = Folder::with("b.csv", FILE);
    folder.write("c.csv", "code,name\nSKE,Skerry\n");
    folder.write("twice.csv", "code,name\nSKE,Skerry\nSKE,sailed\n");
    let error = folder.run(&[&["summary", "b.csv"], mistake].concat()).error();
    assert!(error.contains(words), "{error}");
    folder.run(&[&["summary", "b.csv"], then].concat()).fine();
}

/// The same for what the rows have to do with it: a file, what is said of it, and the options that it leads to.
#[rstest]
#[case("a,b\n1,2\n3\n", "--uneven blank", &["--uneven", "blank"])]
#[case("a,b\n1,2\n3\n", "--uneven leave-out", &["--uneven", "leave-out"])]
#[case("a,b\n1,5\" pipe\n", "--quote none", &["--quote", "none"])]
#[case("a,a\n1,2\n", "--headings 'a,a_2'", &["--headings", "a,a_2"])]
#[case("a,\n1,2\n", "--headings 'a,column_2'", &["--headings", "a,column_2"])]
#[case("a,b\n01/02/2025,1\n", "--dates dmy", &["--dates", "dmy"])]
#[case("Bookings\na,b\n1,2\n", "--skip-lines 1", &["--skip-lines", "1"])]
#[case("a,b\n1,2\nn.a.,2\n", "--missing 'n.a.'", &["--kind", "a=number", "--missing", "n.a."])]
fn what_a_message_about_a_file_says_to_write_works(
    #[case] content: &str,
    #[case] words: &str,
    #[case] then: &[&str],
) {
    // One byte a character, as an old program would write it.
    let bytes: Vec<u8> = content.chars().map(|c| c as u8).collect();
    let folder = Folder::with("f.csv", bytes);
    let ask = ["detail", "f.csv", "--quiet"];
    let mistake: &[&str] = if then[0] == "--kind" { &then[..2] } else { &[] };
    let error = folder.run(&[&ask, mistake].concat()).error();
    assert!(error.contains(words), "{error}");
    folder.run(&[&ask, then].concat()).ok();
}

#[test]
fn a_calculation_may_begin_with_a_minus_and_no_option_is_taken_for_one() {
    let folder = Folder::with("b.csv", FILE);
    let told = ["detail", "b.csv", "--show", "-fare", "--where", "-fare < 0", "--quiet"];
    assert_eq!(folder.run(&[&told[..], &["--as", "csv"]].concat()).ok(), "-fare\n-1.5\n");
    let run = folder.run(&["summary", "b.csv", "--show", "--totals"]).no_panic();
    let told = "an option stands here, where a calculation belongs";
    assert!(run.code == 2 && run.stderr.contains(told), "{}", run.stderr);
}
