//! Charts through the program: what is drawn, what is refused, and that nothing that is drawn does harm.

mod common;
use common::Folder;
use rstest::rstest;

const ROWS: &str = "route,month,fare,planned,wait\nSKE,2025-01,10.50,9,5\nSKE,2025-02,12.25,11,7000\nKEL,2025-01,7.00,8,3\n\
    KEL,2025-04,9.75,9,4\n<b>&\"x,2025-02,,2,1\n";

fn folder() -> Folder {
    Folder::with("f.csv", ROWS)
}

fn drawn(options: &str) -> String {
    let folder = folder();
    folder.line(&format!("chart f.csv --quote none --quiet --to c.svg {options}")).ok();
    folder.read("c.svg")
}

#[rstest]
// A figure of each category; the missing one is a gap.
#[case("--by route --show 'sum(fare)'", &["<rect class=\"b\"", "sum(fare), SKE: 22.75"], 2)]
// Along periods a line, with the month that has no rows as a gap.
#[case("--by 'month(date(concat(month, ''-01''), ''yyyy-MM-dd''))' --let 'x: 1' --show 'sum(fare)'", &["<circle", "2025-04"], 3)]
#[case("--by route --bars 'sum(fare)' --line 'Wait: mean(wait)'", &["Wait", "font-size=\"14\" text-anchor=\"end\""], 3)]
#[case("--by route --bars 'Fares: sum(fare)' --target 'Planned: sum(planned)'", &["class=\"m\"", "Planned, SKE: 20"], 2)]
#[case("--by route --columns-by month --bars 'sum(fare)' --stacked", &["2025-01", "2025-02", "2025-04"], 4)]
#[case("--by month --panels route --bars 'sum(fare)'", &["SKE", "KEL"], 4)]
#[case("--by route --points 'sum(planned), sum(fare)'", &["Correlation over 2 points", "<circle"], 2)]
#[case("--by route --show 'sum(fare)' --title 'A sentence.' --caption 'Below.'", &["A sentence.", "Below."], 2)]
fn what_is_asked_for_is_drawn(#[case] options: &str, #[case] parts: &[&str], #[case] marks: usize) {
    let options = options
        .replace("''", "\"")
        .replace("\"-01\"", "'-01'")
        .replace("\"yyyy-MM-dd\"", "'yyyy-MM-dd'");
    let options = if options.contains("month(date(") {
        "--by m --let \"m: month(date(concat(month, '-01'), 'yyyy-MM-dd'))\" --show 'sum(fare)'"
            .to_owned()
    } else {
        options
    };
    let svg = drawn(&options);
    for part in parts {
        assert!(svg.contains(part), "{part}\n{svg}");
    }
    let figures = svg.matches("<rect class=\"b\"").count().max(svg.matches("<circle").count());
    assert_eq!(figures, marks, "{svg}");
    assert!(svg.contains("<title>") && svg.contains("<desc>"), "{svg}");
    // What a label holds stays text.
    assert!(!svg.contains("<b>") && !svg.contains("<script"), "{svg}");
}

#[test]
fn figures_go_to_other_formats_as_a_table_and_drawings_want_a_chart() {
    let folder = folder();
    let csv =
        folder.line("chart f.csv --quote none --by route --bars 'sum(fare)' --quiet --as csv").ok();
    assert_eq!(
        csv,
        folder
            .line("summary f.csv --quote none --by route --show 'sum(fare)' --quiet --as csv")
            .ok()
    );
    let error = folder.line("summary f.csv --quote none --by route --to s.svg").error();
    assert!(error.contains("oeuvre chart"), "{error}");
    let text = folder.line("chart f.csv --quote none --by route --bars 'sum(fare)' --quiet").ok();
    assert!(text.contains("22.75") && text.contains('█'), "{text}");
    folder.line("chart f.csv --quote none --by route --bars 'sum(fare)' --quiet --scale 2 --size 600x400 --to p.png").ok();
    let png = std::fs::read(folder.path("p.png")).unwrap();
    // Width and height stand in the header: 1200 and 800 points.
    assert_eq!((&png[1..4], &png[16..24]), (&b"PNG"[..], &[0, 0, 4, 176, 0, 0, 3, 32][..]));
}

#[rstest]
#[case("--by route --bars 'max(month)'", "cannot be drawn")]
#[case("--by route --points 'sum(fare)'", "draws two results")]
#[case(
    "--by month --columns-by wait,fare,planned --bars 'count()' --columns-top 3",
    "takes one key"
)]
fn what_cannot_be_drawn_is_told(#[case] options: &str, #[case] said: &str) {
    let folder = folder();
    let error = folder.line(&format!("chart f.csv --quote none {options} --to c.svg")).error();
    assert!(error.contains(said), "{error}");
    assert!(!folder.path("c.svg").exists());
}

#[test]
fn nine_series_are_too_many_and_the_largest_with_the_rest_are_not() {
    let rows: String = (1..=12).map(|n| format!("x,s{n},{n}\n")).collect();
    let folder = Folder::with("m.csv", format!("k,s,n\n{rows}"));
    let error = folder.line("chart m.csv --by k --columns-by s --bars 'sum(n)' --to c.svg").error();
    assert!(error.contains("--columns-top 7"), "{error}");
    folder
        .line(
            "chart m.csv --by k --columns-by s --bars 'sum(n)' --columns-top 3 --quiet --to c.svg",
        )
        .ok();
    assert_eq!(folder.read("c.svg").matches("<rect class=\"b\"").count(), 4);
    // The rest is worked out from its rows.
    let csv = folder.csv(
        "m.csv",
        &["--by", "k", "--columns-by", "s", "--show", "mean(n)", "--columns-top", "2", "--totals"],
    );
    assert_eq!(
        csv,
        "k,s11 / mean(n),s12 / mean(n),Rest / mean(n),Total / mean(n)\nx,11,12,5.5,6.5\nTotal,11,12,5.5,6.5\n"
    );
    let (_, said) =
        folder.line("summary m.csv --by k --columns-by s --show 'sum(n)' --columns-top 2").fine();
    assert!(said.contains("the 2 largest of 12 are shown, the others together as Rest"), "{said}");
    // Its key is still the key, in calculations and in a trace.
    let asked = "m.csv --by k --columns-by left(s,3) --columns-top 2 --show 'sum(n), share(sum(n) within left(s,3))' --quiet";
    let csv = folder.line(&format!("summary {asked} --as csv")).ok();
    assert!(csv.contains("Rest / sum(n)") && csv.ends_with("x,11,1,12,1,55,1\n"), "{csv}");
    let trace = folder.line(&format!("trace {asked} --at 'k = x, left = Rest'")).ok();
    assert!(trace.contains("left(s,3) = Rest") && trace.contains("from its 10 rows"), "{trace}");
    let json = folder.line(&format!("summary {asked} --as json")).ok();
    assert!(json.contains("{\"left(s,3)\":\"Rest\"}"), "{json}");
}

#[test]
fn a_heading_in_quotes_may_have_a_colon() {
    let folder = folder();
    let csv = folder
        .line(
            "summary f.csv --quote none --show '\"All: \"\"fares\"\"\": count()' --as csv --quiet",
        )
        .ok();
    assert!(csv.starts_with("\"All: \"\"fares\"\"\"\n"), "{csv}");
}

#[test]
fn charts_stand_in_reports() {
    let folder = folder();
    let report = "[data]\nfiles = 'f.csv'\nquote = 'none'\n[[chart]]\nname = 'fares'\ntitle = 'Fares'\nby = 'route'\n\
        bars = 'sum(fare)'\n[[chart]]\nby = 'route'\npoints = 'sum(planned), sum(fare)'\n";
    folder.write("r.toml", report);
    folder.line("report r.toml --to r.html").fine();
    let page = folder.read("r.html");
    for part in
        ["<figure>", "<svg", "Fares", "The figures of this chart", "Correlation over 2 points"]
    {
        assert!(page.contains(part), "{part}");
    }
    folder.line("report r.toml --to r.md").fine();
    assert!(
        folder.read("r.md").contains("](r-fares.svg)")
            && folder.read("r-fares.svg").contains("<svg")
    );
    folder.line("report r.toml --to r.xlsx").fine();
    let book = std::fs::File::open(folder.path("r.xlsx")).unwrap();
    let mut book = zip::ZipArchive::new(book).unwrap();
    let mut xml = String::new();
    std::io::Read::read_to_string(&mut book.by_name("xl/charts/chart1.xml").unwrap(), &mut xml)
        .unwrap();
    assert!(xml.contains("barChart") && xml.contains("$B$4:$B$6"), "{xml}");
    let error = folder.line("report r.toml --to r.svg").error();
    assert!(error.contains("--only"), "{error}");
    folder.line("report r.toml --only fares --quiet --to one.svg").ok();
    assert_eq!(folder.read("one.svg"), folder.read("r-fares.svg"));
}

#[test]
fn a_saved_chart_gives_the_same_picture() {
    let folder = folder();
    let asked = "chart f.csv --quote none --by route --bars 'Fares in $: sum(fare)' --line 'Wait: mean(wait)' --title 'What $ came in' --quiet";
    folder.line(&format!("{asked} --to a.svg --save-report c.toml")).ok();
    folder.line("report c.toml --quiet --to b.svg").ok();
    assert_eq!(folder.read("a.svg"), folder.read("b.svg"), "{}", folder.read("c.toml"));
    assert_eq!(folder.line(asked).ok(), folder.line("report c.toml --quiet").ok());
}

#[test]
fn stacks_that_mislead_are_refused_or_told() {
    let folder = Folder::with("s.csv", "k,s,n\na,x,3\na,y,-1\nb,x,2\nb,y,5\n");
    let asked = "chart s.csv --by k --columns-by s";
    let error =
        folder.line(&format!("{asked} --bars 'sum(n)' --stacked=percent --to p.svg")).error();
    assert!(error.contains("below zero"), "{error}");
    assert!(!folder.path("p.svg").exists());
    let (_, said) = folder.line(&format!("{asked} --bars 'mean(n)' --stacked --to m.svg")).fine();
    assert!(said.contains("the height of stacked bars of mean(n) is no figure"), "{said}");
    let (_, said) = folder.line(&format!("{asked} --bars 'sum(n)' --stacked --to m.svg")).fine();
    assert!(!said.contains("is no figure"), "{said}");
}

#[test]
fn a_report_that_cannot_be_drawn_names_its_charts_and_leaves_nothing() {
    let folder = folder();
    folder.write(
        "r.toml",
        "[data]\nfiles = 'f.csv'\nquote = 'none'\n[[table]]\nname = 'all'\nshow = 'count()'\n[[chart]]\nname = 'fares'\nby = 'route'\nbars = 'sum(fare)'\n",
    );
    let error = folder.line("report r.toml --to out/r.svg").error();
    assert!(error.contains("--only fares"), "{error}");
    assert!(!folder.path("out").exists());
}
