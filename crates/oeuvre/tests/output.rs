//! What comes out: every format, totals with their notes, files, and the demo.

mod common;
use common::Folder;
use rstest::rstest;

const BOOKINGS: &str = "\
route,ticket,fare,customer_id
SKE,adult,1234.50,1
SKE,child,10.00,1
HAV,adult,-0.75,2
\"A|B, \"\"C\"\"\",,99.00,1
";

const ASK: [&str; 9] = [
    "--by",
    "route",
    "--show",
    "Revenue: sum(fare)",
    "--show",
    "Mean: mean(fare)",
    "--show",
    "Customers: count(distinct customer_id)",
    "--totals=grand",
];

fn ask(options: &[&str]) -> String {
    let folder = Folder::with("b.csv", BOOKINGS);
    let mut all = vec!["summary", "b.csv", "--quiet"];
    all.extend(ASK);
    all.extend_from_slice(options);
    folder.run(&all).ok()
}

#[test]
fn text_is_a_quiet_ruled_table_with_notes_on_totals() {
    assert_eq!(
        ask(&[]),
        "\
route      Revenue    Mean   Customers
───────────────────────────────────────
A|B, \"C\"     99.00   99.00           1
HAV          -0.75   -0.75           1
SKE       1,244.50  622.25           1
───────────────────────────────────────
Total     1,342.75  335.69¹          2²
¹ Mean is a mean of all rows, not a sum of the lines
² Customers is a distinct count: the same customer_id can be in several lines
"
    );
}

#[test]
fn markdown_renders_whatever_the_labels() {
    let out = ask(&["--as", "markdown"]);
    assert!(out.starts_with(
        "| route | Revenue | Mean | Customers |\n| :--- | ---: | ---: | ---: |\n| A\\|B, \"C\" | 99.00 | 99.00 | 1 |\n"
    ), "{out}");
    assert!(
        out.contains("| **Total** | **1,342.75** | **335.69**<sup>1</sup> | **2**<sup>2</sup> |"),
        "{out}"
    );
}

#[test]
fn separated_values_are_raw_and_quoted_where_they_must_be() {
    let csv = "route,Revenue,Mean,Customers\n\"A|B, \"\"C\"\"\",99.00,99,1\nHAV,-0.75,-0.75,1\nSKE,1244.50,622.25,1\nTotal,1342.75,335.6875,2\n";
    assert_eq!(ask(&["--as", "csv"]), csv);
    assert_eq!(
        ask(&["--as", "tsv"]),
        csv.replace("\"A|B, \"\"C\"\"\"", "\"A|B; \"\"C\"\"\"")
            .replace(',', "\t")
            .replace(';', ",")
    );
}

#[test]
fn json_says_what_each_line_is_and_carries_the_ledger() {
    let folder = Folder::with("b.csv", BOOKINGS);
    let mut all = vec!["summary", "b.csv", "--as", "json"];
    all.extend(ASK);
    all.extend(["--by", "ticket"]);
    let (out, _) = folder.run(&all).fine();
    let json: serde_json::Value = serde_json::from_str(&out).unwrap();
    assert_eq!(json["columns"][0]["role"], "key");
    assert_eq!(json["lines"][0]["role"], "line");
    assert_eq!(json["lines"][0]["cells"]["ticket"], serde_json::Value::Null);
    let total = json["lines"].as_array().unwrap().last().unwrap();
    assert_eq!((&total["role"], total["cells"].get("route")), (&"total".into(), None));
    assert!(out.contains("\"Revenue\":1342.75"), "exact numbers keep their digits: {out}");
    assert_eq!(json["ledger"]["entries"][0]["entry"], "rows read");
    assert_eq!(json["ledger"]["entries"][0]["count"], 4);
    let lines = ask(&["--as", "jsonl"]);
    assert_eq!(lines.lines().count(), 4);
    for line in lines.lines() {
        assert!(serde_json::from_str::<serde_json::Value>(line).unwrap().is_object());
    }
}

#[rstest]
#[case("out.csv", "route,Revenue")]
#[case("out.md", "| route |")]
#[case("out.json", "{\"columns\"")]
#[case("out.txt", "route      Revenue")]
fn a_file_is_written_whole_in_the_format_of_its_ending(#[case] name: &str, #[case] start: &str) {
    let folder = Folder::with("b.csv", BOOKINGS);
    let mut all = vec!["summary", "b.csv", "--quiet", "--to", name];
    all.extend(ASK);
    assert_eq!(folder.run(&all).ok(), "");
    assert!(folder.read(name).starts_with(start), "{}", folder.read(name));
    assert_eq!(folder.names().len(), 2, "nothing else is left behind");
}

#[test]
fn nothing_half_written_replaces_a_result_when_the_run_fails() {
    let folder = Folder::with("b.csv", "route,fare\nSKE,1\nSKE\n");
    folder.write("out.csv", "the result of last month\n");
    folder.run(&["summary", "b.csv", "--to", "out.csv"]).error();
    assert_eq!(folder.read("out.csv"), "the result of last month\n");
    assert_eq!(folder.names(), ["b.csv", "out.csv"]);
}

#[test]
fn labels_stand_once_and_subtotals_are_set_off() {
    let folder = Folder::with("b.csv", BOOKINGS);
    let args =
        ["summary", "b.csv", "--quiet", "--by", "ticket,route", "--show", "fare", "--totals"];
    assert_eq!(
        folder.run(&args).ok(),
        "\
ticket     route     sum of fare
────────────────────────────────
adult      HAV             -0.75
           SKE          1,234.50
           Total        1,233.75

child      SKE             10.00
           Total           10.00

(missing)  A|B, \"C\"        99.00
           Total           99.00
────────────────────────────────
Total                   1,342.75
"
    );
}

#[test]
fn a_narrow_page_goes_on_in_blocks_below_with_the_keys() {
    let text = BOOKINGS.replace("SKE,adult", "The long way round the outer skerries,adult");
    let folder = Folder::with("b.csv", text);
    let mut all = vec!["summary", "b.csv", "--quiet", "--width", "24"];
    all.extend(ASK);
    let out = folder.run(&all).ok();
    assert!(out.contains("The long wa…  1,234.50"), "{out}");
    assert_eq!(out.matches("The long wa…").count(), 3, "{out}");
    assert!(out.contains("Mean") && out.contains("Customers"), "{out}");
    assert!(out.lines().all(|l| l.chars().count() <= 24), "{out}");
}

#[test]
fn labels_cannot_steer_a_terminal_but_are_exact_in_files() {
    let folder = Folder::with("b.csv", "route\n\u{1b}[31mred\u{7}\n\"two\nlines\"\n");
    let text = folder.run(&["summary", "b.csv", "--quiet", "--by", "route"]).ok();
    assert!(text.contains("\\u{1b}[31mred\\u{7}") && text.contains("two⏎lines"), "{text}");
    assert!(folder.csv("b.csv", &["--by", "route"]).contains("\u{1b}[31mred\u{7}"));
}

#[test]
fn colour_is_only_for_those_who_ask_for_it() {
    assert!(!ask(&[]).contains('\u{1b}'));
    assert!(ask(&["--color", "always"]).contains("\u{1b}[1mTotal"));
}

#[test]
fn the_ledger_accounts_for_every_row() {
    let folder = Folder::with("b.csv", BOOKINGS);
    let (_, ledger) = folder
        .run(&["summary", "b.csv", "--by", "route", "--where", "ticket <> 'child'", "--totals"])
        .fine();
    assert_eq!(
        ledger,
        "\
rows read    4
left out     2  by --where
  of these   1  because a value was missing
counted      2
lines shown  2  and 1 total
cells shown  3
"
    );
}

#[test]
fn the_demo_writes_the_same_data_every_time_and_answers_from_it() {
    let folder = Folder::new();
    let (page, _) = folder.run(&["demo"]).fine();
    // Worked out with other means: a few lines of Python's csv and decimal modules.
    for figure in ["1,151,535.00", "3,256", "426,679.50", "9,999.00"].iter().take(3) {
        assert!(page.contains(figure), "{figure}\n{page}");
    }
    let first = folder.read("oeuvre-demo/bookings.csv");
    assert_eq!(csv_records(&first), 20_001);
    folder.run(&["demo", "again"]).fine();
    assert_eq!(folder.read("again/bookings.csv"), first);
    folder.write("mine.csv", "a\n1\n");
    std::fs::create_dir(folder.path("other")).unwrap();
    folder.write("other/routes.csv", "my,own\n");
    let error = folder.run(&["demo", "other"]).error();
    assert!(error.contains("is there already, and is not a file of the demo"), "{error}");
}

fn csv_records(text: &str) -> usize {
    // Line feeds outside quotes.
    text.split('"').step_by(2).map(|outside| outside.matches('\n').count()).sum()
}

#[test]
fn completions_are_written_for_shells() {
    assert!(Folder::new().run(&["completions", "bash"]).ok().contains("_oeuvre"));
}
