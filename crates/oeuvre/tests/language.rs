//! The calculation language at row and group level, through the built program.

mod common;
use common::Folder;
use rstest::rstest;

const BOOKINGS: &str = "\
route,status,fare,passengers,sailed_on,booked_at,delay_min,paid
SKE,sailed,10.00,2,2025-01-06,2025-01-01T09:30:00,5,true
SKE,sailed,20.50,1,2025-01-07,2025-01-02T23:59:59,n/a,true
HAV,cancelled,-5.00,1,2025-02-28,2025-02-01T00:00:00,,false
HAV,sailed,7.25,3,2025-03-01,2025-02-02T12:00:00,12,
,sailed,1.00,1,2025-12-31,2025-12-30T08:00:00,0,true
SKE,no-show,20.50,,2024-12-30,2024-12-01T10:00:00,3,false
";

/// The result of one calculation over all rows.
fn value(calc: &str) -> String {
    let folder = Folder::with("b.csv", BOOKINGS);
    let out = folder.csv("b.csv", &["--show", &format!("x: {calc}")]);
    out.strip_prefix("x\n").unwrap().trim_end().to_owned()
}

#[rstest]
#[case("count()", "6")]
#[case("count(passengers)", "5")]
#[case("fare", "54.25")]
#[case("sum(fare * passengers)", "58.25")]
#[case("sum(fare) - sum(fare where fare < 0)", "59.25")]
#[case("mean(fare)", "9.041666666666666")]
#[case("median(delay_min)", "4")]
#[case("min(fare where fare > 0)", "1.00")]
#[case("max(sailed_on)", "2025-12-31")]
#[case("min(booked_at)", "2024-12-01T10:00:00")]
#[case("range(sailed_on)", "366")]
#[case("count(distinct route)", "2")]
#[case("sum(distinct fare)", "33.75")]
#[case("first(route along sailed_on)", "SKE")]
#[case("last(fare)", "20.50")]
#[case("average(passengers)", "1.6")]
#[case("sum(if(status = 'sailed', fare, 0))", "38.75")]
#[case("sum(if(fare < 0, 1, fare > 10, 2, 3))", "14")]
#[case("sum(coalesce(passengers, 0) + 1)", "14")]
#[case("round(mean(fare), 2)", "9.04")]
#[case("count(where status in ('sailed', 'no-show'))", "5")]
#[case("count(where status not in ('sailed'))", "2")]
#[case("count(where fare between 1 and 10)", "3")]
#[case("count(where fare not between 1 and 10)", "3")]
#[case("count(where route is missing)", "1")]
#[case("count(where route is not missing)", "5")]
#[case("count(where route <> 'SKE')", "2")]
#[case("count(where paid)", "3")]
#[case("count(where not paid)", "2")]
#[case("count(where paid = false or fare > 20)", "3")]
#[case("count(where passengers in (1, 3))", "4")]
#[case("count(where sailed_on >= '2025-02-28')", "3")]
#[case("count(where '2025-02-28' <= sailed_on)", "3")]
#[case("count(where booked_at < '2025-01-03')", "3")]
#[case("count(where sailed_on > booked_at)", "6")]
#[case("count(where sailed_on during '2025')", "5")]
#[case("count(where sailed_on during '2025-Q1')", "4")]
#[case("count(where sailed_on during '2025-H2')", "1")]
#[case("count(where sailed_on during '2025-W01')", "1")]
#[case("count(where sailed_on during '2025-01..2025-02')", "3")]
#[case("count(where booked_at during '2025-01-02')", "1")]
#[case("count(where month(sailed_on) = '2025-01')", "2")]
#[case("count(where quarter(sailed_on) > '2025-Q1')", "1")]
#[case("count(where weekday(sailed_on) = 'Monday')", "2")]
#[case("count(where month_name(sailed_on) in ('Dec', 'January'))", "4")]
#[case("count(distinct month(sailed_on))", "5")]
#[case("max(week(sailed_on))", "2026-W01")]
#[case("min(half(sailed_on))", "2024-H2")]
#[case("sum(fare) / 0", "\"\"")]
#[case("1 / 3", "0.3333333333333333")]
#[case("min(fare where fare > mean(fare))", "10.00")]
#[case("count(where fare = max(fare))", "2")]
#[case("count(where fare * 2 > mean(fare) + median(fare) and status = 'sailed')", "2")]
#[case("median(sum(fare) per route)", "2.25")]
#[case("mean(sum(fare) per month(sailed_on))", "10.85")]
#[case("max(count() per route)", "3")]
#[case("max(mean(sum(fare) per month(sailed_on)) per route)", "25.5")]
#[case("count(sum(fare) per route where sum(fare) > 2)", "2")]
#[case("count(count() per route, status)", "5")]
#[case("at_max(route, sum(fare) per route)", "SKE")]
#[case("first(sum(fare) per month(sailed_on)) + 1", "21.50")]
#[case("sum(fare) / max(sum(fare) per route)", "1.0637254901960784")]
#[case("mode(route)", "SKE")]
#[case("product(passengers)", "6")]
#[case("smallest(fare, 1 where fare > 0)", "1.00")]
#[case("smallest(sailed_on, 1)", "2024-12-30")]
#[case("weighted_mean(fare, passengers)", "7.28125")]
#[case("at_max(sailed_on, fare)", "\"2024-12-30, 2025-01-07\"")]
#[case("portion(status = 'sailed')", "0.6666666666666666")]
#[case("portion(delay_min > 4)", "0.5")]
#[case("list(distinct route)", "\"HAV, SKE\"")]
#[case("sum(floor(fare))", "53")]
#[case("sum(ceiling(fare))", "56")]
#[case("sum(sign(fare))", "4")]
#[case("round(ln(exp(2)), 6)", "2.000000")]
#[case(
    "list(distinct band(fare, 10))",
    "\"-10 to under 0, 0 to under 10, 10 to under 20, 20 to under 30\""
)]
#[case("list(distinct band(fare, 0, 10.5))", "\"under 0, 0 to under 10.5, 10.5 and over\"")]
#[case("min(concat(route, '/', passengers))", "/1")]
#[case("count(where matches(status, '^(no|can)'))", "2")]
#[case("max(fiscal_year(sailed_on, 4))", "2025/26")]
#[case("min(fiscal_quarter(sailed_on, 4))", "2024/25-Q3")]
#[case("count(where fiscal_year(sailed_on, 4) = '2024/25')", "5")]
#[case("max(hour(booked_at))", "23")]
#[case("min(start(quarter(sailed_on)))", "2024-10-01")]
#[case("max(end(week(sailed_on)))", "2026-01-04")]
#[case("sum(sailed_on - booked_at)", "94")]
#[case("max(sailed_on - '2025-12-30')", "1")]
#[case("max('2026-01-01' - sailed_on) - min('2026-01-01' - sailed_on)", "366")]
#[case("max(sailed_on) - min(sailed_on)", "366")]
#[case("max(month(sailed_on)) - min(month(sailed_on))", "12")]
#[case("max(month(sailed_on) + 1)", "2026-01")]
#[case("min(quarter(sailed_on) - 4)", "2023-Q4")]
#[case("1 + max(sailed_on)", "2026-01-01")]
#[case("max(booked_at) - min(booked_at) > 0", "true")]
#[case("max(booked_at + 0.5) - max(booked_at)", "0.5")]
#[case("mean(distinct passengers)", "2")]
#[case("median(distinct fare where fare > 0)", "8.625")]
#[case("count(distinct route where fare > 20)", "1")]
#[case("largest(distinct passengers, 2)", "2")]
#[case("max(distinct route)", "SKE")]
#[case("list(passengers)", "\"2, 1, 1, 3, 1\"")]
#[case("max(sailed_on + 1)", "2026-01-01")]
#[case("sum(number(text(passengers)))", "8")]
#[case("date('24.12.25', 'dd.MM.yy')", "2025-12-24")]
#[case("max(date(text(sailed_on), 'yyyy-MM-dd'))", "2025-12-31")]
fn a_calculation_gives(#[case] calc: &str, #[case] expected: &str) {
    assert_eq!(value(calc), expected, "{calc}");
}

/// Worked examples that others have published.
#[rstest]
// NIST/SEMATECH e-Handbook of Statistical Methods, 7.2.6.2: the 90th percentile at place p (n + 1).
#[case(
    "95.1772 95.1567 95.1937 95.1959 95.1442 95.0610 95.1591 95.1195 95.1065 95.0925 95.1990 95.1682",
    "round(percentile(x, 90 method exclusive), 4)",
    "95.1981"
)]
// NIST Statistical Reference Datasets, NumAcc1: certified mean 10000002, standard deviation 1.
#[case("10000001 10000003 10000002", "mean(x)", "10000002")]
#[case("10000001 10000003 10000002", "stdev(x)", "1")]
// Worked by hand: distances 0, -0.1 and 0.1 from the mean, squares 0.02 over 2.
#[case("1.2 1.1 1.3", "stdev(x)", "0.1")]
#[case("1.2 1.1 1.3", "variance(x)", "0.01")]
// Hyndman and Fan's methods 7 and 6 on the numbers 1 to 5, by their formulas.
#[case("1 2 3 4 5", "quartile(x, 1)", "2")]
#[case("1 2 3 4 5", "quartile(x, 1 method exclusive)", "1.5")]
#[case("1 2 3 4 5", "percentile(x, 30 method nearest)", "2")]
// Anscombe's first quartet (The American Statistician 27, 1973): r = 0.816, y = 3.00 + 0.500 x.
#[case(
    "10,8.04 8,6.95 13,7.58 9,8.81 11,8.33 14,9.96 6,7.24 4,4.26 12,10.84 7,4.82 5,5.68",
    "round(correlation(x, y), 3)",
    "0.816"
)]
#[case(
    "10,8.04 8,6.95 13,7.58 9,8.81 11,8.33 14,9.96 6,7.24 4,4.26 12,10.84 7,4.82 5,5.68",
    "round(slope(x, y), 3)",
    "0.500"
)]
#[case(
    "10,8.04 8,6.95 13,7.58 9,8.81 11,8.33 14,9.96 6,7.24 4,4.26 12,10.84 7,4.82 5,5.68",
    "round(intercept(x, y), 2)",
    "3.00"
)]
fn published_examples_come_out(#[case] data: &str, #[case] calc: &str, #[case] expected: &str) {
    let headings = if data.contains(',') { "x,y" } else { "x" };
    let folder = Folder::with("p.csv", format!("{headings}\n{}\n", data.replace(' ', "\n")));
    assert_eq!(folder.csv("p.csv", &["--show", &format!("v: {calc}")]), format!("v\n{expected}\n"));
}

#[test]
fn named_calculations_use_each_other_in_any_order() {
    let folder = Folder::with("b.csv", BOOKINGS);
    let out = folder.csv(
        "b.csv",
        &[
            "--let",
            "per head=revenue / sum(passengers)",
            "--let",
            "revenue=sum(fare * passengers)",
            "--show",
            "\"per head\"",
            "--show",
            "revenue",
        ],
    );
    assert_eq!(out, "per head,revenue\n7.28125,58.25\n");
}

#[test]
fn a_name_that_hides_a_column_is_said() {
    let folder = Folder::with("b.csv", BOOKINGS);
    let (out, ledger) = folder
        .run(&[
            "summary",
            "b.csv",
            "--let",
            "fare=sum(passengers)",
            "--show",
            "fare",
            "--as",
            "csv",
        ])
        .fine();
    assert_eq!(out, "fare\n8\n");
    assert!(ledger.contains("the calculation `fare` hides the column of that name"), "{ledger}");
}

#[test]
fn lines_nest_are_ordered_by_label_and_totals_come_from_the_rows() {
    let folder = Folder::with("b.csv", BOOKINGS);
    let by = [
        "--by",
        "route,month(sailed_on)",
        "--show",
        "n: count()",
        "--show",
        "m: mean(fare)",
        "--totals",
    ];
    assert_eq!(
        folder.csv("b.csv", &by),
        "route,month(sailed_on),n,m\n\
         HAV,2025-02,1,-5\nHAV,2025-03,1,7.25\nHAV,Total,2,1.125\n\
         SKE,2024-12,1,20.5\nSKE,2025-01,2,15.25\nSKE,Total,3,17\n\
         (missing),2025-12,1,1\n(missing),Total,1,1\nTotal,,6,9.041666666666666\n"
    );
    let mut top = by.to_vec();
    top.extend(["--totals-first", "--sort", "n desc"]);
    assert_eq!(
        folder.csv("b.csv", &top),
        "route,month(sailed_on),n,m\nTotal,,6,9.041666666666666\n\
         SKE,Total,3,17\nSKE,2025-01,2,15.25\nSKE,2024-12,1,20.5\n\
         HAV,Total,2,1.125\nHAV,2025-02,1,-5\nHAV,2025-03,1,7.25\n\
         (missing),Total,1,1\n(missing),2025-12,1,1\n"
    );
}

#[rstest]
#[case("route", "HAV\nSKE\n(missing)\n")]
#[case("route desc", "SKE\nHAV\n(missing)\n")]
#[case("sum(fare)", "(missing)\nHAV\nSKE\n")]
#[case("max(delay_min where route <> 'HAV') desc, route", "SKE\nHAV\n(missing)\n")]
fn lines_are_sorted_by_keys_and_results(#[case] sort: &str, #[case] order: &str) {
    let folder = Folder::with("b.csv", BOOKINGS);
    let out = folder.csv("b.csv", &["--by", "route", "--sort", sort, "--show", "count()"]);
    let labels: String =
        out.lines().skip(1).map(|l| format!("{}\n", l.split(',').next().unwrap())).collect();
    assert_eq!(labels, order);
}

#[test]
fn labels_sort_by_value_case_folded_and_in_time() {
    let folder =
        Folder::with("k.csv", "n,t,d\n10,b,2025-01-31\n9,A,2024-05-01\n-1,a,2025-01-01\n,B,\n");
    let by = |key: &str| folder.csv("k.csv", &["--by", key, "--show", "count()"]);
    assert_eq!(by("n"), "n,count()\n-1,1\n9,1\n10,1\n(missing),1\n");
    assert_eq!(by("t"), "t,count()\nA,1\na,1\nB,1\nb,1\n");
    assert_eq!(by("weekday(d)"), "weekday(d),count()\nWednesday,2\nFriday,1\n(missing),1\n");
}

#[test]
fn divisions_by_zero_are_missing_and_counted_where_they_are_used() {
    let folder = Folder::with("d.csv", "a,b\n1,0\n2,4\n3,0\n,0\n");
    let ledger = |show: &str, more: &[&str]| {
        let mut args = vec!["summary", "d.csv", "--as", "csv", "--show", show];
        args.extend_from_slice(more);
        folder.run(&args).fine().1
    };
    assert!(ledger("sum(a / b)", &[]).contains("divisions by zero  2  in a / b; missing"));
    for (show, more) in
        [("sum(if(b <> 0, a / b, 0))", &[][..]), ("sum(a / b)", &["--where", "b > 0"])]
    {
        assert!(!ledger(show, more).contains("divisions"), "{show}");
    }
}

#[test]
fn a_division_by_zero_counts_once_a_row_however_often_it_is_used() {
    let folder = Folder::with("d.csv", "a,b,c\n1,0,5\n2,4,5\n3,0,\n4,0,1\n");
    let ledger = |show: &[&str]| {
        let shows = show.iter().flat_map(|s| ["--show", s]);
        let args: Vec<&str> =
            ["summary", "d.csv", "--as", "csv"].into_iter().chain(shows).collect();
        folder.run(&args).fine().1
    };
    let counted = |show: &[&str], n: u32| {
        let said = ledger(show);
        assert!(
            said.contains(&format!("divisions by zero  {n}  in a / b; missing")),
            "{show:?}: {said}"
        );
    };
    counted(&["sum(a / b)", "max(a / b) + mean(a / b)"], 3);
    // In one branch, in both, and in what decides between them.
    counted(&["sum(if(c > 3, a / b, 0))"], 1);
    counted(&["sum(if(c > 3, a / b, 0))", "sum(if(c > 3, 0, a / b))"], 3);
    counted(&["sum(if(c > 3, if(a > 0, a / b, 1), 0))"], 1);
    counted(&["sum(if(a / b > 1, 1, 0))"], 3);
    assert!(!ledger(&["sum(if(c > 3, if(b > 0, a / b, 1), 0))"]).contains("divisions"));
}

#[test]
fn names_that_use_each_other_inside_if_are_looked_at_once() {
    // Each uses the one before it twice: looked at anew each time, two to the power of 60.
    let folder = Folder::with("n.csv", "x,y\n1,2\n3,0\n");
    let lets: Vec<String> = (1..60)
        .map(|i| format!("n{i}=if(n{} > {i}, n{} * 1, n{} + 1)", i - 1, i - 1, i - 1))
        .collect();
    let mut args = vec!["--show", "v: n59", "--let", "n0=sum(x) / count()"];
    args.extend(lets.iter().flat_map(|l| ["--let", l]));
    assert_eq!(folder.csv("n.csv", &args), "v\n60\n");
}

#[test]
fn arithmetic_is_exact_beyond_64_bits_and_overflow_is_an_error() {
    let folder = Folder::with("big.csv", "x\n9223372036854775807\n9223372036854775807\n0.01\n");
    assert_eq!(folder.csv("big.csv", &["--show", "sum(x)"]), "sum(x)\n18446744073709551614.01\n");
    assert_eq!(
        folder.csv("big.csv", &["--show", "max(x * 3)"]),
        "max(x * 3)\n27670116110564327421.00\n"
    );
    let error = folder.run(&["summary", "big.csv", "--show", "max(x * x)"]).error();
    assert!(error.contains("`x * x` is too large: exact numbers hold up to 38 digits"), "{error}");
}

#[rstest]
#[case(&["--show", "Vs: list(v)"], "`list(v)` lists more than 1,000 values in one cell")]
#[case(&["--show", "length(list(v))"], "`list(v)` lists")]
#[case(&["--show", "max(length(list(v)) per v > 0)"], "`list(v)` lists")]
#[case(&["--show", "count(v where v > min(v))", "--show", "list(v where v > min(v))"], "`list(v where v > min(v))` lists")]
#[case(&["--show", "sum(v * 1000000000000000000 * 1000000000000000)"], "`sum(v * 1000000000000000000 * 1000000000000000)` is too large: exact numbers hold up to 38 digits")]
#[case(&["--by", "v", "--show", "sum(v * 1000000000000000000 * 1000000000000000)", "--totals"], "`sum(v * 1000000000000000000 * 1000000000000000)` is too large")]
#[case(&["--show", "sum(v * exp(695))"], "`sum(v * exp(695))` is too large: binary64")]
fn a_result_that_outgrows_its_kind_is_named(#[case] options: &[&str], #[case] expected: &str) {
    let rows: String = (0..20_000).map(|v| format!("{v}\n")).collect();
    let folder = Folder::with("v.csv", format!("v\n{rows}"));
    let error = folder.run(&[&["summary", "v.csv"], options].concat()).error();
    assert!(error.contains(expected), "{error}");
}

#[test]
fn a_key_whose_heading_is_the_column_it_is_made_of_is_not_doubtful() {
    let folder = Folder::with("f.csv", "route,fare\nske,1\n");
    let (_, said) =
        folder.line("summary f.csv --by 'route: upper(route)' --show 'sum(fare)'").fine();
    assert!(!said.contains("not the heading"), "{said}");
}
