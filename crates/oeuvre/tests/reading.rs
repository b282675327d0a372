//! Files as they are: separators, quotes, encodings, kinds, missing values, what is wrong with them.

mod common;
use common::Folder;
use rstest::rstest;
use std::io::Write;

/// `route,n,total` by route of a file.
fn totals(folder: &Folder, file: &str, options: &[&str]) -> String {
    let mut all = vec!["--by", "route", "--show", "n: count()", "--show", "total: sum(fare)"];
    all.extend_from_slice(options);
    folder.csv(file, &all)
}

const EXPECTED: &str = "route,n,total\nHAV,1,3.50\nSKE,2,2.25\n";

#[rstest]
#[case::commas("route,fare\nSKE,1.25\nHAV,3.50\nSKE,1.00\n", &[])]
#[case::no_last_line_end("route,fare\nSKE,1.25\nHAV,3.50\nSKE,1.00", &[])]
#[case::crlf("route,fare\r\nSKE,1.25\r\nHAV,3.50\r\nSKE,1.00\r\n", &[])]
#[case::byte_order_mark("\u{feff}route,fare\nSKE,1.25\nHAV,3.50\nSKE,1.00\n", &[])]
#[case::semicolons("route;fare\nSKE;1.25\nHAV;3.50\nSKE;1.00\n", &[])]
#[case::tabs("route\tfare\nSKE\t1.25\nHAV\t3.50\nSKE\t1.00\n", &[])]
#[case::given_separator("route^fare\nSKE^1.25\nHAV^3.50\nSKE^1.00\n", &["--separator", "^"])]
#[case::decimal_comma("route;fare\nSKE;1,25\nHAV;3,50\nSKE;1,00\n", &["--decimal", ","])]
#[case::quotes("\"route\",\"fare\"\n\"SKE\",\"1.25\"\nHAV,\"3.50\"\n\"SKE\",1.00\n", &[])]
#[case::quoted_line_breaks("route,note,fare\nSKE,\"a\nb,\"\"c\"\"\n\",1.25\nHAV,,3.50\nSKE,\"\n\n\",1.00\n", &[])]
#[case::blank_lines("\n\nroute,fare\n\nSKE,1.25\n\nHAV,3.50\nSKE,1.00\n\n\n", &[])]
#[case::headings_trimmed(" route , fare\nSKE,1.25\nHAV,3.50\nSKE,1.00\n", &[])]
#[case::money("route,fare\nSKE,$1.25\nHAV,\"€ 3.50\"\nSKE,1.00 USD\n", &[])]
#[case::short_records("note,route,fare\nx,SKE,1.25\nx,HAV,3.50\nx,SKE,1.00\nx\n", &["--uneven", "blank", "--where", "route is not missing"])]
#[case::skipped_records("route,fare\nSKE,1.25\nHAV\nHAV,3.50\nSKE,1,2,3\nSKE,1.00\n", &["--uneven", "leave-out"])]
#[case::other_headings("a,b\nSKE,1.25\nHAV,3.50\nSKE,1.00\n", &["--headings", "route,fare"])]
#[case::no_headings("SKE,1.25\nHAV,3.50\nSKE,1.00\n", &["--no-headings", "--headings", "route,fare"])]
#[case::ordinary_quotes("route,pipe,fare\nSKE,5\" pipe,1.25\nHAV,\",3.50\nSKE,,1.00\n", &["--quote", "none"])]
fn a_file_is_read(#[case] text: &str, #[case] options: &[&str]) {
    let folder = Folder::with("b.csv", text);
    assert_eq!(totals(&folder, "b.csv", options), EXPECTED);
    for bytes in ["1", "7", "64"] {
        let mut more = options.to_vec();
        more.extend(["--piece-bytes", bytes, "--threads", "3"]);
        assert_eq!(totals(&folder, "b.csv", &more), EXPECTED, "in pieces of {bytes}");
    }
}

#[test]
fn compressed_files_other_encodings_and_standard_input_are_read() {
    let text = "route,fare\nSKE,1.25\nHAV,3.50\nSKE,1.00\n";
    let folder = Folder::new();
    let mut gz = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    gz.write_all(text.as_bytes()).unwrap();
    folder.write("b.csv.gz", gz.finish().unwrap());
    folder.write("b.zst", zstd::encode_all(text.as_bytes(), 1).unwrap());
    let utf16: Vec<u8> =
        std::iter::once(0xfeff).chain(text.encode_utf16()).flat_map(u16::to_le_bytes).collect();
    folder.write("utf16.csv", utf16);
    for file in ["b.csv.gz", "b.zst", "utf16.csv"] {
        assert_eq!(totals(&folder, file, &[]), EXPECTED, "{file}");
    }
    let args = [
        "summary",
        "-",
        "--quiet",
        "--as",
        "csv",
        "--by",
        "route",
        "--show",
        "n: count()",
        "--show",
        "total: sum(fare)",
    ];
    assert_eq!(folder.run_with(&args, text.as_bytes()).ok(), EXPECTED);
    folder.write("latin.csv", b"route,fare\nSk\xe9,1\n");
    let (_, ledger) = folder.run(&["summary", "latin.csv", "--by", "route"]).fine();
    let said = "latin.csv is not UTF-8, and is read as windows-1252: see 'Ské' in route on line 2";
    assert!(ledger.contains(said), "{ledger}");
    // What begins a file of another encoding is two letters in a field.
    folder.write("marked.csv", b"route,fare\n\xff\xfe,1\n");
    let (_, ledger) = folder.run(&["summary", "marked.csv", "--by", "route"]).fine();
    assert!(ledger.contains("see 'ÿþ' in route on line 2"), "{ledger}");
    let error =
        folder.run(&["summary", "latin.csv", "--by", "route", "--encoding", "utf-8"]).error();
    assert!(
        error.contains("latin.csv, line 2, column `route`: the text is not valid UTF-8"),
        "{error}"
    );
    let out = totals(&folder, "latin.csv", &["--encoding", "windows-1252"]);
    assert_eq!(out, "route,n,total\nSké,1,1\n");
}

#[test]
fn several_files_are_stacked_whatever_the_order_of_their_columns() {
    let folder = Folder::with("a.csv", "route,fare\nSKE,1\n");
    folder.write("b.csv", "fare,route\n2.5,HAV\n3,SKE\n");
    let args = [
        "summary",
        "a.csv",
        "b.csv",
        "--quiet",
        "--as",
        "csv",
        "--by",
        "source_file,route",
        "--show",
        "sum(fare)",
    ];
    assert_eq!(
        folder.run(&args).ok(),
        "source_file,route,sum(fare)\na.csv,SKE,1.0\nb.csv,HAV,2.5\nb.csv,SKE,3.0\n"
    );
    folder.write("c.csv", "route,fair\nSKE,1\n");
    let error = folder.run(&["summary", "a.csv", "c.csv"]).error();
    assert!(error.contains("c.csv: the column `fair` is not in a.csv"), "{error}");
}

#[rstest]
#[case::numbers("x\n1\n2.50\n-3\n", "0.50")]
#[case::late_decimals("x\n1\n0.125\n", "1.125")]
#[case::brackets("x\n(1.00)\n5%\n3-\n", "-3.95")]
#[case::thousands("x\n\"1,234.50\"\n\"1,000\"\n", "2234.50")]
#[case::exponents("x\n1e3\n0.5\n", "1000.5")]
#[case::many_digits("x\n0.00000000000000000000000000000000000000000000001\n1\n", "1")]
fn kinds_of_numbers_are_found_out(#[case] text: &str, #[case] sum: &str) {
    let folder = Folder::with("x.csv", text);
    assert_eq!(folder.csv("x.csv", &["--show", "sum(x)"]), format!("sum(x)\n{sum}\n"));
}

#[rstest]
#[case::more_digits(
    "99999999999999999.99\n1e5",
    Some(
        "x is calculated in binary64, with 15 to 17 digits: 1e5 on line 3 has an exponent, and numbers with more digits are rounded; written out it would leave all exact"
    )
)]
#[case::far_more_digits(
    "1e5\n1234567890123456789012345678901234567890",
    Some("1e5 on line 2 has an exponent, and numbers with more digits are rounded")
)]
#[case::one_is_too_long(
    "1234567890123456789012345678901234567890.5\n1",
    Some("1234567890123456789012345678901234567890.5 on line 2 needs more than 38")
)]
#[case::together(
    "12345678901234567890123456789012345.5\n1.252525252525",
    Some("12345678901234567890123456789012345.5 on line 2 and others together need more than 38")
)]
// As other programs write binary64.
#[case::nothing_is_lost("0.10000000000000001\n2.5\n1e-7\n123456789012345000000", None)]
fn digits_that_binary64_does_not_hold_are_told(#[case] values: &str, #[case] note: Option<&str>) {
    let folder = Folder::with("x.csv", format!("x\n{values}\n"));
    for threads in ["1", "2"] {
        let args = ["summary", "x.csv", "--show", "sum(x)", "--threads", threads];
        let (_, said) = folder.run(&args).fine();
        match note {
            Some(note) => assert!(said.contains(note), "{said}"),
            None => assert!(!said.contains("binary64"), "{said}"),
        }
    }
}

#[test]
fn the_answer_does_not_depend_on_the_first_values() {
    // The odd value stands far behind the sample that kinds are guessed from.
    let many = "12\n".repeat(200_000);
    let folder = Folder::with("late.csv", format!("id,x\n{}1,0.5\n", many.replace('\n', ",3\n")));
    assert_eq!(folder.csv("late.csv", &["--show", "sum(x)"]), "sum(x)\n600000.5\n");
    folder.write("text.csv", format!("x,id\n{}oops,1\n", many.replace('\n', ",3\n")));
    let error = folder.run(&["summary", "text.csv", "--show", "sum(x)"]).error();
    assert!(error.contains("it is text because of 'oops' on line 200002; if that stands for no value: --missing x=oops"), "{error}");
    let out = folder.csv("text.csv", &["--show", "sum(x)", "--missing", "oops"]);
    assert_eq!(out, "sum(x)\n2400000\n");
}

#[test]
fn missing_texts_are_counted_and_can_be_named() {
    let folder = Folder::with("m.csv", "route,x\nSKE,1\nNA,n/a\nHAV,#DIV/0!\nSKE,\nSKE,n/a\n");
    let (out, ledger) =
        folder.run(&["summary", "m.csv", "--by", "route", "--show", "x", "--as", "csv"]).fine();
    assert_eq!(out, "route,sum of x\nHAV,\nSKE,1\n(missing),\n");
    for line in [
        "read as missing  2  'n/a' in x",
        "read as missing  1  '#DIV/0!' in x",
        "read as missing  1  'NA' in route",
    ] {
        assert!(ledger.contains(line), "{ledger}");
    }
}

const TEXTS: &str = "route,x\nSKE,1\nNA,none\nHAV,#DIV/0!\nSKE,\nnone,n/a\n\"a,b\",0\n";

#[rstest]
#[case(&["--missing", "none"], "HAV,0\nSKE,1\n\"a,b\",1\n(missing),0\n")]
#[case(&["--missing", "none", "--not-missing", "NA"], "HAV,0\nNA,0\nSKE,1\n\"a,b\",1\n(missing),0\n")]
#[case(&["--missing", "x=none"], "HAV,0\nnone,0\nSKE,1\n\"a,b\",1\n(missing),0\n")]
#[case(&["--missing", "'x'=none, zero", "--not-missing", "route=NA"], "HAV,0\nNA,0\nnone,0\nSKE,1\n\"a,b\",1\n")]
#[case(&["--missing", "none,'a,b'", "--missing", "'x=y'"], "HAV,0\nSKE,1\n(missing),1\n")]
fn missing_texts_are_added_and_taken_off(#[case] options: &[&str], #[case] expected: &str) {
    let folder = Folder::with("m.csv", TEXTS);
    let mut all = vec!["--by", "route", "--show", "count(x)"];
    all.extend_from_slice(options);
    let sorted = |text: &str| {
        let mut lines: Vec<String> = text.lines().skip(1).map(str::to_owned).collect();
        lines.sort();
        lines
    };
    assert_eq!(sorted(&folder.csv("m.csv", &all)), sorted(&format!("\n{expected}")));
    assert!(
        folder
            .run(&["summary", "m.csv", "--missing", "y=none"])
            .error()
            .contains("--missing: there is no column `y`")
    );
}

#[rstest]
#[case("d\n13/02/2025\n01/03/2025\n", &[], "2025-03-01")]
#[case("d\n02/13/2025\n01/03/2025\n", &[], "2025-02-13")]
#[case("d\n01/03/2025\n", &["--dates", "dmy"], "2025-03-01")]
#[case("d\n01/03/2025\n", &["--dates", "mdy"], "2025-01-03")]
#[case("d\n2025/01/03\n", &[], "2025-01-03")]
fn dates_are_read_in_their_order(#[case] text: &str, #[case] options: &[&str], #[case] last: &str) {
    let mut all = vec!["--show", "max(d)"];
    all.extend_from_slice(options);
    assert_eq!(Folder::with("d.csv", text).csv("d.csv", &all), format!("max(d)\n{last}\n"));
}

#[rstest]
#[case::two_readings("d\n01/03/2025\n02/03/2025\n", "max(d)", &["every date here can be read two ways: '01/03/2025' is 2025-03-01 or 2025-01-03", "--dates dmy"])]
#[case::late_contradiction("d\n13/02/2025\n02/13/2025\n", "max(month(d))", &["`month` takes a date, found text"])]
#[case::ragged("a,b\n1,2\n\"x\ny\",2\n3\n", "count()", &["x.csv, line 5: this record has 1 field, the headings are 2", "--uneven blank"])]
#[case::long_record("a,b\n1,2,3\n", "count()", &["this record has 3 fields, the headings are 2", "--uneven leave-out"])]
#[case::stray_quote("a,b\n1,5\" pipe\n2,3\n", "count()", &["line 2: a quote inside a field", "--quote none"])]
#[case::open_quote("a,b\n1,2\n3,\"x\n4,5\n", "count()", &["line 3: a quoted field does not end"])]
#[case::doubled_heading("a,a,\n1,2,3\n", "count()", &["heading 3 of 3 is empty", "--headings 'a,a_2,column_3'"])]
#[case::same_heading("a,a\n1,2\n", "count()", &["the heading `a` stands twice"])]
#[case::no_heading(&"\"".repeat(4000), "count()", &["heading 1 has", "are these rows?"])]
#[case::empty("", "count()", &["x.csv: the file is empty"])]
#[case::picture("\u{89}PNG", "count()", &[])]
fn what_is_wrong_is_said_with_a_way_out(
    #[case] text: &str,
    #[case] show: &str,
    #[case] says: &[&str],
) {
    let folder = Folder::new();
    if text.ends_with("PNG") {
        folder.write("x.csv", b"\x89PNG\r\n\x1a\n\0\0\0\rIHDR");
        let error = folder.run(&["summary", "x.csv"]).error();
        assert!(error.contains("this is a PNG picture, not a text file of rows"), "{error}");
        return;
    }
    folder.write("x.csv", text);
    let error = folder.run(&["summary", "x.csv", "--show", show]).error();
    for part in says {
        assert!(error.contains(part), "{part}\n{error}");
    }
}

#[test]
fn a_kind_that_was_asked_for_names_the_first_value_that_does_not_fit() {
    let folder = Folder::with("t.csv", "code,fare\n007,1\n008,x\n");
    assert_eq!(folder.csv("t.csv", &["--by", "code"]), "code,rows\n007,1\n008,1\n");
    assert_eq!(
        folder.csv("t.csv", &["--show", "sum(code)", "--kind", "code=number"]),
        "sum(code)\n15\n"
    );
    let error =
        folder.run(&["summary", "t.csv", "--show", "sum(fare)", "--kind", "fare=number"]).error();
    assert!(error.contains("t.csv, line 3, column `fare`: 'x' is not a number"), "{error}");
    let error = folder.run(&["summary", "t.csv", "--kind", "fair=number"]).error();
    assert!(
        error.contains("there is no column `fair`") && error.contains("did you mean `fare`?"),
        "{error}"
    );
}

#[test]
fn unusual_files_give_what_they_hold() {
    let folder = Folder::with("header.csv", "route,fare\n");
    assert_eq!(
        folder.csv("header.csv", &["--by", "route", "--show", "fare", "--totals"]),
        "route,sum of fare\nTotal,\n"
    );
    assert_eq!(folder.csv("header.csv", &[]), "rows\n0\n");
    folder.write("one.csv", "x\n1\n\n2\n");
    assert_eq!(
        folder.csv("one.csv", &["--show", "count()", "--show", "sum(x)"]),
        "count(),sum(x)\n2,3\n"
    );
    let names: Vec<String> = (0..500).map(|i| format!("c{i}")).collect();
    let row: Vec<String> = (0..500).map(|i| i.to_string()).collect();
    folder
        .write("wide.csv", format!("{}\n{}\n{}\n", names.join(","), row.join(","), row.join(",")));
    assert_eq!(
        folder.csv("wide.csv", &["--show", "c499", "--show", "c0"]),
        "sum of c499,sum of c0\n998,0\n"
    );
    folder.write("blank.csv", "a,b\n,\n,\n");
    assert_eq!(
        folder.csv("blank.csv", &["--by", "a", "--show", "sum(b)"]),
        "a,sum(b)\n(missing),\n"
    );
}
