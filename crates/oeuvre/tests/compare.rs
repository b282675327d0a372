//! What changed: planted changes are all told, and nothing else.

mod common;
use common::Folder;
use rstest::rstest;

const OLD: &str = "id,month,route,fare\n1,2025-01,SKE,10.00\n2,2025-01,KEL,20.00\n3,2025-02,SKE,30.00\n4,2025-02,KEL,40.00\n";

/// Two files of rows, with the results of both.
fn folder() -> Folder {
    let folder = Folder::with("old.csv", OLD);
    let new =
        OLD.replace("20.00", "20.10").replace("3,2025-02,SKE,30.00\n", "") + "5,2025-03,SKE,5.00\n";
    folder.write("new.csv", new);
    for name in ["old", "new"] {
        let line = format!(
            "summary {name}.csv --by month,route --show 'Fares: sum(fare)' --show 'Rows: count()' --totals --quiet --to {name}.json"
        );
        folder.line(&line).ok();
    }
    folder
}

#[test]
fn each_change_is_told_with_both_figures() {
    let folder = folder();
    let (table, said) = folder.line("compare old.json new.json --only-changed --as csv").fine();
    let expected = "month,route,figure,old,new,change,growth,outcome\n\
        2025-01,KEL,Fares,20.00,20.10,0.10,0.005,changed\n\
        2025-01,Total,Fares,30.00,30.10,0.10,0.0033333333333333335,changed\n\
        2025-02,Total,Fares,70.00,40.00,-30.00,-0.42857142857142855,changed\n\
        2025-02,Total,Rows,2.00,1.00,-1.00,-0.5,changed\n\
        2025-03,SKE,Fares,,5.00,,,only in new.json\n\
        2025-03,SKE,Rows,,1.00,,,only in new.json\n\
        2025-03,Total,Fares,,5.00,,,only in new.json\n\
        2025-03,Total,Rows,,1.00,,,only in new.json\n\
        Total,Total,Fares,100.00,75.10,-24.90,-0.249,changed\n\
        2025-02,SKE,Fares,30.00,,,,only in old.json\n\
        2025-02,SKE,Rows,1.00,,,,only in old.json\n";
    assert_eq!(table, expected);
    assert!(
        said.contains("5 changed, 7 the same; 1 line only in old.json; 2 lines only in new.json"),
        "{said}"
    );
    assert!(said.contains("month = 2025-01, route = KEL"), "{said}");
}

#[rstest]
#[case("--must-agree", 3)]
#[case("--must-agree --where \"month = '2025-01' and route <> 'Total'\"", 3)]
#[case("--must-agree --where \"month = '2025-01' and route = 'SKE'\"", 0)]
#[case("--must-agree --where \"month = '2025-01'\" --tolerance 0.1", 0)]
#[case("--must-agree --where \"month = '2025-01'\" --tolerance 0.5%", 0)]
#[case("--must-agree --where \"month = '2025-01'\" --tolerance 0.4%", 3)]
#[case("--must-agree --where \"month = '2025-01'\" --tolerance 0.09", 3)]
#[case("", 0)]
fn closed_months_may_not_have_changed(#[case] options: &str, #[case] code: i32) {
    let run = folder().line(&format!("compare old.json new.json {options} --quiet"));
    assert_eq!(run.code, code, "{}", run.stdout);
}

#[test]
fn rows_are_compared_by_their_key() {
    let folder = folder();
    let (table, said) = folder.line("compare --rows old.csv new.csv --by id --as csv").fine();
    let expected = "id,figure,old,new,change,growth,outcome\n2,fare,20.00,20.10,0.10,0.005,changed\n\
        5,(row),,,,,only in new.csv\n3,(row),,,,,only in old.csv\n";
    assert_eq!(table, expected);
    assert!(said.contains("values compared"), "{said}");
    folder.write("twice.csv", format!("{OLD}1,2025-01,SKE,1.00\n"));
    let error = folder.line("compare --rows old.csv twice.csv --by id").error();
    assert!(error.contains("two lines with the keys 1"), "{error}");
    let error = folder.line("compare --rows old.csv new.csv --by ids").error();
    assert!(error.contains("did you mean `id`?"), "{error}");
}

#[test]
fn results_in_csv_say_their_keys_and_others_are_refused() {
    let folder = folder();
    for name in ["old", "new"] {
        folder
            .line(&format!(
                "summary {name}.csv --by route --show 'sum(fare)' --quiet --to {name}-r.csv"
            ))
            .ok();
    }
    let table = folder.line("compare old-r.csv new-r.csv --by route --quiet --as csv").ok();
    assert!(table.contains("KEL,sum(fare),60.00,60.10,0.10,"), "{table}");
    let error = folder.line("compare old-r.csv new-r.csv").error();
    assert!(error.contains("--by"), "{error}");
    folder.write("x.json", "{\"a\": 1}");
    let error = folder.line("compare x.json new.json").error();
    assert!(error.contains("is no result"), "{error}");
    let error = folder.line("compare old.json new.json --where 'mnth = 1'").error();
    assert!(error.contains("did you mean `month`"), "{error}");
}

#[test]
fn a_check_holds_a_table_against_an_earlier_run() {
    let folder = folder();
    let report = |file: &str| {
        format!(
            "[data]\nfiles = '{file}'\n[[table]]\nname = 't'\nby = 'month'\nshow = 'sum(fare)'\n[[check]]\nname = 'all'\nthat = 'sum(fare)'\nat-least = 0\n"
        )
    };
    folder.write("r.toml", report("old.csv"));
    folder.line("report r.toml --quiet --to last.json").fine();
    let since = "[[check]]\nin = 't'\nunchanged-since = 'last.json'\n[[check]]\nname = 'all'\nthat = 'sum(fare)'\nunchanged-since = 'last.json'\n";
    folder.write("r.toml", report("old.csv") + since);
    folder.line("report r.toml --quiet").fine();
    folder.write("r.toml", report("new.csv") + since);
    let run = folder.line("report r.toml");
    assert_eq!(run.code, 3);
    assert!(
        run.stderr.contains("found 3, wanted 0")
            && run.stderr.contains("2025-01, sum(fare): was 30.00, is 30.10"),
        "{}",
        run.stderr
    );
    assert!(run.stderr.contains("found 75.10, wanted 100.00, difference -24.90"), "{}", run.stderr);
}

#[test]
fn figures_without_keys_are_compared_and_no_cell_is_named_for_them() {
    let folder = folder();
    for name in ["old", "new"] {
        folder
            .line(&format!("summary {name}.csv --show 'sum(fare)' --quiet --to {name}.json"))
            .ok();
    }
    let (table, said) = folder.line("compare old.json new.json --as csv").fine();
    assert!(table.contains("sum(fare),100.00,75.10"), "{table}");
    assert!(!said.contains("--at ''"), "{said}");
}
