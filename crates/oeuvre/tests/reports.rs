//! Report files: what they show is what the commands show, mistakes are told at their place, checks speak, and what
//! is written is read back by other libraries.

mod common;
use calamine::{Data, Reader, Xlsx};
use common::Folder;
use rstest::rstest;
use std::io::Read;

const BOOKINGS: &str = "id,sailed_on,route,status,passengers,fare\n\
    1,2024-12-30,SKE,sailed,2,10.50\n2,2025-01-02,SKE,sailed,1,12.00\n3,2025-01-05,KEL,sailed,4,30.25\n\
    4,2025-02-01,KEL,cancelled,2,30.25\n5,2025-02-03,SKE,sailed,3,11.00\n6,2025-02-09,=1+1,sailed,1,5.00\n\
    7,2025-02-11,<b>x</b>,sailed,1,\n";
const ROUTES: &str = "code,name,coast\nSKE,Skerry Sound,North\nKEL,Kelda Outer,Islands\n";

/// The head of most reports here.
const DATA: &str = "[data]\nfiles = [\"bookings.csv\"]\n";

const MONTHLY: &str = r##"
title = "Traffic in $month"
text = "First.\n\nSecond."
[data]
files = ["bookings.csv"]
where = "status = 'sailed'"
lookup = [{ file = "routes.csv", match = "route = code" }]
[given]
month = { default = { calc = "max(month(sailed_on))" } }
[let]
revenue = "sum(fare * passengers)"
[format]
revenue = "#,##0.0 €"
[[headline]]
heading = "Revenue"
calc = "revenue"
where = "month(sailed_on) = $month"
beside = { heading = "before", where = "month(sailed_on) = '2025-01'" }
[[table]]
name = "coasts"
title = "Revenue by coast"
text = "Of $month and before."
by = "coast"
columns-by = "month(sailed_on)"
show = ["revenue", { heading = "Share", calc = "share(revenue)", cell-shade = true }]
totals = true
[[detail]]
name = "rows"
show = ["id", "route", "sailed_on", "fare"]
sort = "id"
top = 6
[[check]]
name = "known"
that = "revenue"
equals = 192
tolerance = "0.5%"
"##;

fn folder(report: &str) -> Folder {
    let folder = Folder::with("bookings.csv", BOOKINGS);
    folder.write("routes.csv", ROUTES);
    folder.write("r.toml", report);
    folder
}

#[test]
fn a_report_shows_its_parts_in_their_order_and_holds_its_checks() {
    let (page, said) = folder(MONTHLY).line("report r.toml").fine();
    // 3 x 11.00 and 5.00 in February against 12.00 and 4 x 30.25 in January.
    let places = [
        "Traffic in 2025-02",
        "First.",
        "Revenue  38.0 €   before: 133.0 € (\u{2212}71.4%)",
        "Revenue by coast",
        "Of 2025-02 and before.",
        "121.0 €",
        "Total",
        "rows",
        "30.25",
    ];
    let mut from = 0;
    for text in places {
        let at = page[from..].find(text).unwrap_or_else(|| panic!("{text} in {page}"));
        from += at;
    }
    assert!(said.contains("check holds: known: revenue = 192 \u{b1} 0.5%"), "{said}");
    assert!(said.contains("left out") && said.contains(" 1  by --where"), "{said}");
}

/// What a report shows of a request is what the command gives.
#[rstest]
#[case::plain("--by route --show 'sum(fare)' --totals")]
#[case::pivot(
    "--by route,status --columns-by 'quarter(sailed_on)' --show 'Fares: sum(fare), Rows: count()' --totals=sub"
)]
#[case::lookup(
    "--lookup routes.csv --match 'route = code' --no-match leave-out --by coast --show 'sum(fare * passengers)'"
)]
#[case::named(
    "--lookup 'lines=routes.csv' --match 'route = code' --let 'rev: sum(fare)' --by lines.coast --show 'rev' --sort 'rev desc' --top 1 --totals"
)]
#[case::conditions(
    "--where \"status = 'sailed'\" --where 'fare > 5' --by route --show count() --lines-where 'count() > 1' --rest-label Others --totals"
)]
#[case::reading(
    "--missing 'status=cancelled' --kind route=text --by status --show count() --format 'count(): 0.0'"
)]
#[case::dollar("--by route --show 'US$ a seat: mean(fare)'")]
#[case::long("--by route --columns-by 'month(sailed_on)' --long --every-period")]
#[case::checked("--by route --check 'sum(fare) = 99 +- 1%' --check 'count() >= 7'")]
fn a_saved_request_gives_the_same_bytes(#[case] options: &str) {
    let folder = folder("");
    std::fs::create_dir(folder.path("sub")).unwrap();
    let asked = format!("summary bookings.csv {options} --quiet");
    let csv = folder.line(&format!("{asked} --as csv --save-report sub/s.toml")).stdout;
    assert_eq!(
        folder.line("report sub/s.toml --quiet --as csv").stdout,
        csv,
        "{}",
        folder.read("sub/s.toml")
    );
    let text = folder.line(&asked).stdout;
    assert_eq!(
        folder.line("report sub/s.toml --quiet").stdout,
        text,
        "{}",
        folder.read("sub/s.toml")
    );
    // Nothing is replaced without being asked.
    let error = folder.line(&format!("{asked} --save-report sub/s.toml")).error();
    assert!(error.contains("--replace"), "{error}");
    folder.line(&format!("{asked} --replace --save-report sub/s.toml")).no_panic();
}

#[test]
fn a_saved_detail_gives_the_same_bytes() {
    let folder = folder("");
    let asked = "detail bookings.csv --show id,route --show 'rank(fare within route)' --sort 'id desc' --top 3 --quiet --as csv";
    let csv = folder.line(&format!("{asked} --save-report s.toml")).ok();
    assert_eq!(folder.line("report s.toml --quiet --as csv").ok(), csv);
}

#[test]
fn all_parts_are_what_they_are_alone() {
    let folder = folder(MONTHLY);
    let table = "summary bookings.csv --quiet --as csv --where \"status = 'sailed'\" --lookup routes.csv \
        --match 'route = code' --by coast --columns-by 'month(sailed_on)' --show 'revenue: sum(fare * passengers)' \
        --show 'Share: share(revenue)' --totals";
    let table = folder.line(table).ok();
    assert_eq!(folder.line("report r.toml --only coasts --quiet --as csv").ok(), table);
    folder.line("report r.toml --to out/ --as csv --quiet").fine();
    assert_eq!(folder.read("out/coasts.csv"), table);
    assert_eq!(
        folder.read("out/headline-1.csv"),
        "Revenue,before,difference,growth\n38.00,133.00,-95.00,-0.7142857142857143\n"
    );
    folder.write("out/old.csv", "a\n");
    let (_, said) = folder.line("report r.toml --to out/ --as csv").fine();
    assert!(said.contains("note: out/ also holds `old.csv`, not of this run"), "{said}");
    let error = folder.line("report r.toml --as csv").error();
    assert!(error.contains("--to DIR/ --as csv") && error.contains("--only headline-1"), "{error}");
    let error = folder.line("report r.toml --only coast").error();
    assert!(error.contains("did you mean `coasts`?"), "{error}");
}

/// A mistake is told at its place; nothing is written.
#[rstest]
#[case::key("titel = 'x'\n", "r.toml:1:1", "did you mean `title`?")]
#[case::nested(
    "[[table]]\nby = 'route'\ncolumn-by = 'x'\n",
    "r.toml:3:1",
    "did you mean `columns-by`?"
)]
#[case::elsewhere(
    "[[table]]\nby = 'route'\nhaving = 'x'\n",
    "r.toml:3:1",
    "did you mean `lines-where`?"
)]
#[case::toml("[[table]\n", "r.toml:1", "this is no TOML")]
#[case::kind("[[table]]\ntop = [1, 2]\n", "r.toml:2:7", "expected one value")]
#[case::choice("[[table]]\ntotals = 'some'\n", "r.toml:2:10", "`none`, `grand`, `sub` or `all`")]
#[case::syntax("[let]\na = \"sum(fare\"\n", "r.toml:2:14", "expected `)`")]
#[case::name("[[table]]\nby = [\"route\",\n  \"roote\"]\n", "r.toml:3:4", "did you mean `route`")]
#[case::escaped("[[table]]\nshow = \"\\\"Sum\\\" : sum(fair)\"\n", "r.toml:2:23", "`fair`")]
#[case::list(
    "[[table]]\nby = 'route'\nsort = ['count()', 'roote desc']\n",
    "r.toml:3:21",
    "did you mean `route`"
)]
#[case::several_lines("[[table]]\nshow = '''\nsum(\n  fair)'''\n", "r.toml:4:3", "`fair`")]
#[case::in_a_result("[[table]]\nshow = [{ calc = 'mean(route)' }]\n", "r.toml:2:24", "route")]
#[case::format(
    "[format]\nfares = '0.0'\n[[table]]\nby = 'route'\n",
    "r.toml:2:10",
    "no part has a column `fares`"
)]
#[case::pattern(
    "[[table]]\nby = 'route'\nshow = 'sum(fare)'\nformat = { 'sum(fare)' = '0#' }\n",
    "r.toml:4:27",
    "digits that always show"
)]
#[case::twice(
    "[[table]]\nname = 'a'\n[[detail]]\nname = 'a'\n",
    "r.toml:4:8",
    "two parts are called `a`"
)]
#[case::check("[[check]]\nthat = 'count()'\n", "r.toml:1:1", "no known figure")]
#[case::tolerance(
    "[[check]]\nthat = 'count()'\nequals = 1\ntolerance = 'little'\n",
    "r.toml:4:13",
    "0.5%"
)]
#[case::given(
    "title = '$mnth'\n[given]\nmonth = '2025-01'\n[[table]]\n",
    "r.toml:1:10",
    "did you mean `$month`?"
)]
#[case::given_calc(
    "[given]\nmonth = '2025-01'\n[[table]]\nshow = 'count(where month(sailed_on) = $mnth)'\n",
    "r.toml:4:40",
    "did you mean `$month`?"
)]
#[case::not_given(
    "[given]\nmonth = { kind = 'period' }\n[[table]]\n",
    "r.toml:2:1",
    "--given month="
)]
#[case::column(
    "[data]\nfiles = 'bookings.csv'\n[data.columns]\nfair = 'number'\n[[table]]\n",
    "r.toml:4:1",
    "did you mean `fare`?"
)]
#[case::lookup(
    "[data]\nfiles = 'bookings.csv'\nlookup = [{ file = 'routes.csv' }]\n[[table]]\n",
    "r.toml:3:11",
    "`match` is needed"
)]
#[case::nothing("title = 'x'\n", "r.toml:1:1", "shows nothing")]
#[case::cell(
    "[[table]]\nname = 'a'\nby = 'route'\n[[check]]\nin = 'a'\nthat = 'rows'\nat = 'roote = SKE'\nequals = 1\n",
    "r.toml:7:7",
    "route"
)]
#[case::unchanged(
    "[[check]]\nthat = 'count()'\nunchanged-since = 'last.json'\n",
    "r.toml:3:20",
    "last.json cannot be read"
)]
fn a_mistake_is_told_at_its_place(#[case] report: &str, #[case] place: &str, #[case] said: &str) {
    let data = if report.contains("[data]") { "" } else { DATA };
    // Keys of the file stand before its tables.
    let report = match report.find('[') {
        Some(0) | None if data.is_empty() => report.to_owned(),
        Some(at) => format!("{}{}{data}", &report[..at], &report[at..]),
        None => format!("{report}{data}"),
    };
    let folder = folder(&report);
    let error = folder.line("report r.toml --to out.html").error();
    assert!(error.contains(place) && error.contains(said), "{error}");
    assert!(!folder.path("out.html").exists());
}

#[test]
fn several_mistakes_are_told_in_one_go() {
    let report = "titel = 'x'\n[data]\nfiles = 'bookings.csv'\n[let]\na = 'sum('\n[[table]]\ntop = 'many'\n\
        show = { calc = 'count()', from = 'x' }\n";
    let error = folder(report).line("report r.toml").error();
    assert_eq!(error.matches("error:").count(), 4, "{error}");
    let report = "[data]\nfiles = 'bookings.csv'\n[[table]]\nby = 'roote'\n[[table]]\nby = 'statu'\n[[check]]\nthat = 'sum(fair)'\nequals = 1\n";
    let error = folder(report).line("report r.toml").error();
    assert_eq!(error.matches("error:").count(), 3, "{error}");
}

#[rstest]
#[case("that = 'sum(fare)'\nequals = 99\n", 0, "holds: sum(fare) = 99")]
#[case("that = 'sum(fare)'\nequals = 98\n", 3, "found 99.00, wanted 98, difference 1.00")]
#[case("that = 'sum(fare)'\nequals = 98\ntolerance = '2%'\n", 0, "holds")]
#[case("that = 'sum(fare)'\nat-least = 100\ntolerance = 1\n", 0, "holds")]
#[case("that = 'sum(fare)'\nat-most = 98.99\n", 3, "difference 0.01")]
#[case("that = 'max(sailed_on)'\nequals = 2025-02-11\n", 0, "holds")]
#[case("that = 'count()'\nequals = 'count(distinct id)'\n", 0, "holds")]
#[case("that = 'sum(fare)'\nwhere = \"route = 'SKE'\"\nequals = 33.50\n", 0, "holds")]
#[case(
    "that = 'count()'\nsame-as = { calc = 'sum(n)', files = 'books.csv' }\n",
    3,
    "found 7, wanted 8, difference -1"
)]
#[case(
    "that = 'count()'\nsame-as = { calc = 'sum(n)', files = 'books.csv', where = \"kind = 'a'\" }\n",
    0,
    "= sum(n) of books.csv"
)]
#[case(
    "in = 't'\nat = 'route = SKE'\nthat = 'Fares'\nequals = 33.50\n",
    0,
    "t at route = SKE: Fares = 33.50"
)]
#[case("in = 't'\nthat = 'Fares'\nequals = 99\n", 0, "holds")]
#[case(
    "in = 't'\nat = 'route = KEL'\nthat = 'Rows'\nequals = 3\n",
    3,
    "found 2, wanted 3, difference -1"
)]
fn a_check_says_what_it_found(#[case] check: &str, #[case] code: i32, #[case] said: &str) {
    let table = "[[table]]\nname = 't'\nby = 'route'\nshow = ['Fares: sum(fare)', 'Rows: count()']\ntotals = true\n";
    let folder = folder(&format!("{DATA}{table}[[check]]\n{check}"));
    folder.write("books.csv", "kind,n\na,7\nb,1\n");
    let run = folder.line("report r.toml --quiet --to out.json");
    assert_eq!(run.code, code, "{}", run.stderr);
    assert!(run.stderr.contains(said), "{}", run.stderr);
    // All is written all the same.
    let document: serde_json::Value = serde_json::from_str(&folder.read("out.json")).unwrap();
    assert_eq!(document["checks"][0]["holds"], code == 0);
    assert_eq!(document["parts"][0]["lines"].as_array().unwrap().len(), 5);
}

#[test]
fn figures_that_cannot_be_compared_are_a_mistake() {
    let report = format!("{DATA}[[check]]\nthat = 'max(sailed_on)'\nequals = 5\n");
    let error = folder(&report).line("report r.toml").error();
    assert!(error.contains("cannot be compared") && error.contains("r.toml:3:1"), "{error}");
}

#[test]
fn what_is_given_is_a_value_and_never_a_part_of_a_calculation() {
    let report = format!(
        "title = 'Of $month, for $$5 and $limit'\n{DATA}[given]\nmonth = {{ default = '2025-01', one-of = ['2025-01', '2025-02', \"2025' or 'a\"] }}\nlimit = 12.00\n\
         [[table]]\nby = 'route'\nshow = 'Fares of $month: sum(fare where month(sailed_on) = $month and fare > $limit)'\n"
    );
    let folder = folder(&report);
    let page = folder.line("report r.toml --quiet").ok();
    assert!(
        page.starts_with("Of 2025-01, for $5 and 12.00\n") && page.contains("Fares of 2025-01"),
        "{page}"
    );
    assert!(page.contains("30.25") && !page.contains("12.00\n\n12.00"), "{page}");
    let page = folder.line("report r.toml --quiet --given month=2025-02 --given limit=5").ok();
    assert!(page.contains("11.00") && page.contains("30.25"), "{page}");
    // What stands in quotes there is compared, and is no condition.
    let hostile = folder.run(&["report", "r.toml", "--given", "month=2025' or 'a"]).error();
    assert!(hostile.contains("month"), "{hostile}");
    for (given, said) in [
        ("month=2024-07", "not among"),
        ("mnth=1", "did you mean `month`?"),
        ("limit=x", "no number"),
        ("month", "no value"),
    ] {
        let error = folder.run(&["report", "r.toml", "--given", given]).error();
        assert!(error.contains(said), "{error}");
    }
}

#[test]
fn other_files_name_calculations_for_many_reports() {
    let folder = folder(
        "use = ['company.toml']\n[data]\nfiles = 'bookings.csv'\n[let]\nseats = 'sum(passengers)'\n[[table]]\nby = 'coast'\nshow = ['revenue', 'seats']\n",
    );
    let company = "[let]\nrevenue = 'sum(fare * passengers)'\nseats = 'broken('\n[format]\nrevenue = '0.0'\n[[data.lookup]]\nfile = 'routes.csv'\nmatch = 'route = code'\n";
    folder.write("company.toml", company.replace("broken(", "0"));
    let page = folder.line("report r.toml --quiet").ok();
    assert!(page.contains("181.5") && page.contains("North"), "{page}");
    folder.write("other.toml", "[let]\nrevenue = '1'\n");
    folder.write(
        "r.toml",
        folder.read("r.toml").replace("'company.toml'", "'company.toml', 'other.toml'"),
    );
    let error = folder.line("report r.toml").error();
    assert!(
        error.contains("company.toml and other.toml both give the calculation `revenue`"),
        "{error}"
    );
}

#[test]
fn files_are_found_from_the_folder_of_the_report_and_by_patterns() {
    let folder = folder("");
    std::fs::create_dir(folder.path("sub")).unwrap();
    folder.write("sub/a-1.csv", "route;fare\nSKE;1,50\n");
    folder.write("sub/a-2.csv", "route,fare\nKEL,2.50\n");
    folder.write("sub/s.toml", "[data]\nfiles = [{ file = 'a-1.csv', decimal = ',' }, 'a-[2-9].csv']\n[[table]]\nshow = 'sum(fare)'\n");
    assert_eq!(folder.line("report sub/s.toml --quiet --as csv").ok(), "sum(fare)\n4.00\n");
    // Those on the command line stand in their place, and are meant from where it was typed.
    assert_eq!(
        folder.line("report sub/s.toml bookings.csv --quiet --as csv").ok(),
        "sum(fare)\n99.00\n"
    );
    let error = folder.line("report sub/s.toml 'none-*.csv'").error();
    assert!(error.contains("no file is called like none-*.csv"), "{error}");
    assert_eq!(
        folder.line("summary 'sub/a-2*.csv' --show 'sum(fare)' --quiet --as csv").ok(),
        "sum(fare)\n2.50\n"
    );
}

#[test]
fn dates_of_one_column_are_read_in_their_own_order() {
    let folder = Folder::with("d.csv", "a,b\n03/04/2025,03/04/2025\n");
    folder.write("r.toml", "[data]\nfiles = 'd.csv'\n[data.columns]\na = { dates = 'dmy' }\nb = { kind = 'date', dates = 'mdy' }\n[[detail]]\n");
    assert_eq!(folder.line("report r.toml --quiet --as csv").ok(), "a,b\n2025-04-03,2025-03-04\n");
}

#[test]
fn a_report_is_explained_and_traced() {
    let folder = folder(MONTHLY);
    let said = folder.line("explain r.toml").ok();
    for text in [
        "Revenue by coast",
        "revenue",
        "counted only where status = 'sailed'",
        "that revenue = 192",
    ] {
        assert!(said.contains(text), "{text}: {said}");
    }
    let trace = folder.line("trace r.toml --in coasts --at 'coast = North, month = 2025-02'").ok();
    assert!(
        trace.contains("33.0") && trace.contains("agrees") && trace.contains("bookings.csv"),
        "{trace}"
    );
    let error = folder.line("trace r.toml --in coats").error();
    assert!(error.contains("did you mean `coasts`?"), "{error}");
    let error = folder.line("explain r.toml --by route").error();
    assert!(error.contains("by = …"), "{error}");
    let error = folder.line("trace bookings.csv --in x").error();
    assert!(error.contains("report file"), "{error}");
}

#[test]
fn what_is_written_does_not_depend_on_threads_or_on_the_clock() {
    let folder = folder(MONTHLY);
    for name in ["a.html", "a.xlsx", "a.json", "a.md"] {
        let written = |threads: &str| {
            folder.run(&["report", "r.toml", "--quiet", "--threads", threads, "--to", name]).fine();
            std::fs::read(folder.path(name)).unwrap()
        };
        let first = written("1");
        std::thread::sleep(std::time::Duration::from_millis(2));
        assert_eq!(first, written("3"), "{name}");
    }
    folder.line("report r.toml --quiet --stamp --to s.html").fine();
    assert!(folder.read("s.html").contains("Made on 2"));
}

#[test]
fn a_page_is_one_file_whose_texts_are_inert() {
    let folder = folder(MONTHLY);
    folder.line("report r.toml --to p.html").fine();
    let page = folder.read("p.html");
    for tag in ["<script", "<link", "src=", "http:", "https:", "<b>x</b>", "javascript"] {
        assert!(!page.contains(tag), "{tag}");
    }
    for part in [
        "<h1>Traffic in 2025-02</h1>",
        "scope=\"col\"",
        "scope=\"row\"",
        "scope=\"colgroup\"",
        "<caption>",
        "&lt;b&gt;x&lt;/b&gt;",
        "38.0 €",
        "<details>",
        "data-shade=",
        "does not hold",
        "1 by --where",
    ] {
        let absent = matches!(part, "does not hold" | "1 by --where");
        assert_eq!(page.contains(part), !absent, "{part}\n{page}");
    }
    // Each mark leads to a note that is there.
    for link in page.split("href=\"#").skip(1).map(|l| l.split('"').next().unwrap()) {
        assert!(page.contains(&format!("id=\"{link}\"")), "{link}");
    }
    folder
        .line("summary bookings.csv --by route --show 'mean(fare)' --totals --quiet --to t.html")
        .fine();
    assert!(folder.read("t.html").contains("How each figure is worked out"));
}

/// The text of a part of a workbook.
fn part(path: &std::path::Path, name: &str) -> String {
    let mut book = zip::ZipArchive::new(std::fs::File::open(path).unwrap()).unwrap();
    let mut text = String::new();
    book.by_name(name).unwrap().read_to_string(&mut text).unwrap();
    text
}

#[test]
fn a_workbook_holds_numbers_dates_and_inert_texts() {
    let folder = folder(MONTHLY);
    folder.line("report r.toml --to b.xlsx").fine();
    let path = folder.path("b.xlsx");
    let mut book: Xlsx<_> = calamine::open_workbook(&path).unwrap();
    assert_eq!(book.sheet_names(), ["Overview", "Revenue by coast", "rows", "Notes"]);
    let rows = book.worksheet_range("rows").unwrap();
    let cell =
        |row: u32, column: u32| rows.get_value((row, column)).cloned().unwrap_or(Data::Empty);
    assert_eq!(cell(2, 0), Data::String("id".into()));
    assert_eq!(cell(5, 3), Data::Float(30.25));
    assert!(matches!(cell(3, 2), Data::DateTime(_)), "{:?}", cell(3, 2));
    assert_eq!(cell(7, 1), Data::String("=1+1".into()));
    assert_eq!(cell(8, 3), Data::Empty);
    let coasts = book.worksheet_range("Revenue by coast").unwrap();
    let figure = |value: f64| coasts.cells().any(|(_, _, cell)| *cell == Data::Float(value));
    assert!(figure(33.0) && figure(121.0) && figure(192.0), "{coasts:?}");
    // A missing value is no zero.
    assert!(!figure(0.0), "{coasts:?}");
    let sheet = part(&path, "xl/worksheets/sheet2.xml");
    for xml in ["<mergeCell ref=", "state=\"frozen\"", "<pageSetup", "colorScale"] {
        assert!(sheet.contains(xml), "{xml}: {sheet}");
    }
    assert!(
        !sheet.contains("<f>") && part(&path, "xl/styles.xml").contains("#,##0.0&quot; €&quot;")
    );
    let notes = book.worksheet_range("Notes").unwrap();
    let notes: Vec<String> = notes.cells().map(|(_, _, value)| value.to_string()).collect();
    assert!(
        notes.iter().any(|n| n == "rows read")
            && notes.iter().any(|n| n.starts_with("How each figure")),
        "{notes:?}"
    );
}

#[test]
fn what_a_workbook_cannot_hold_is_text_or_refused() {
    let long = "x".repeat(40_000);
    let folder = Folder::with(
        "n.csv",
        format!("k,n,d\na,12345678901234567890,1850-01-01\n{long},0.5,2025-01-01\n"),
    );
    folder.line("detail n.csv --to n.xlsx").fine();
    let mut book: Xlsx<_> = calamine::open_workbook(folder.path("n.xlsx")).unwrap();
    let name = book.sheet_names()[0].clone();
    let rows = book.worksheet_range(&name).unwrap();
    assert_eq!(rows.get_value((1, 1)), Some(&Data::String("12345678901234567890.0".into())));
    assert_eq!(rows.get_value((1, 2)), Some(&Data::String("1850-01-01".into())));
    assert_eq!(rows.get_value((2, 0)).unwrap().to_string().chars().count(), 32_767);
    let notes = book.worksheet_range("Notes").unwrap();
    let notes = notes.cells().map(|(_, _, value)| value.to_string()).collect::<Vec<_>>().join("\n");
    for said in ["more digits than", "before the calendar", "longer than a cell"] {
        assert!(notes.contains(said), "{notes}");
    }
    let wide: String = (0..16_400).map(|i| format!("{i}\n")).collect();
    folder.write("w.csv", format!("c\n{wide}"));
    let error = folder.line("summary w.csv --columns-by c --quiet --to w.xlsx").error();
    assert!(error.contains("16384") && error.contains("--as csv"), "{error}");
    assert!(!folder.path("w.xlsx").exists());
}
