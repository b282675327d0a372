//! profile and explain, as an analyst meets them.

mod common;
use common::Folder;

const HURTS: &str = "route,amount,when,code\nSKE,1,03/04/2025,007\nske,2,05/04/2025,008\nSKE ,oops,05/06/2025,010\nHAV,(3),05/06/2025,\n";

#[test]
fn a_profile_says_what_columns_hold_and_what_will_hurt() {
    let folder = Folder::with("h.csv", HURTS);
    let csv = folder.run(&["profile", "h.csv", "--quiet", "--as", "csv"]).ok();
    assert_eq!(
        csv.lines().take(3).collect::<Vec<_>>(),
        [
            "column,kind,present,missing,distinct,smallest,largest,mean,median,most frequent",
            "route,text,4,,4,HAV,SKE ,,,all differ".replace("SKE ", "\"SKE \"").as_str(),
            "amount,text,4,,4,(3),oops,,,all differ"
        ]
    );
    let text = folder.run(&["profile", "h.csv", "--quiet"]).ok();
    for said in [
        "labels that differ only in case, spaces or Unicode form: 'SKE' 1 and 'SKE ' 1 and 'ske' 1; as one: --one-spelling route",
        "3 of 4 look like a number, but not 'oops' 1; if these stand for no value: --missing amount=oops",
        "dates such as '03/04/2025' can be read two ways: --dates dmy or --dates mdy",
        "as numbers: --kind code=number",
    ] {
        assert!(text.contains(said), "{said}\n{text}");
    }
    let mended = folder
        .run(&["profile", "h.csv", "--quiet", "--as", "csv", "--missing", "oops", "--dates", "dmy"])
        .ok();
    assert!(mended.contains("amount,number,3,1 ('oops' 1),3,-3,2,0,1,all differ"), "{mended}");
    assert!(mended.contains("when,date,4,,3,2025-04-03,2025-06-05"), "{mended}");
}

#[test]
fn a_profile_of_the_demo_is_exact() {
    let folder = Folder::new();
    folder.run(&["demo", "d"]).fine();
    let csv =
        folder.run(&["profile", "d/bookings.csv", "--quiet", "--as", "csv", "--threads", "3"]).ok();
    for line in [
        "fare,number,20000,,1782,-144.80,9999.00,23.377325,19.85,\"19.05 (92), 20.35 (88), 20.55 (87)\"",
        "delay_min,number,17459,\"2,541 ('n/a' 649, blank 1,892)\",39,0,1440,6.338392806002635,4,\"0 (3,483), 1 (1,990), 3 (1,240)\"",
    ] {
        assert!(csv.contains(line), "{csv}");
    }
}

#[test]
fn explain_says_what_is_counted_and_what_each_figure_means() {
    let folder = Folder::with("b.csv", "route,fare,status,n\nSKE,1.5,sailed,2\n");
    folder.write("routes.csv", "code,coast\nSKE,North\n");
    let text = folder
        .run(&[
            "explain",
            "b.csv",
            "--lookup",
            "routes.csv",
            "--match",
            "route = code",
            "--by",
            "coast,route",
            "--where",
            "status = 'sailed'",
            "--let",
            "revenue=sum(fare * n)",
            "--show",
            "Per head: revenue / sum(n)",
            "--show",
            "median(sum(fare) per status)",
            "--show",
            "fare",
            "--sort",
            "fare desc",
            "--totals",
        ])
        .ok();
    for said in [
        "read from b.csv",
        "each row gets the columns of routes where route = code",
        "a row without a match is counted",
        "counted only where status = 'sailed'",
        "one line for each coast, and in it for each route",
        "Per head = revenue / sum(n)",
        "revenue divided by sum(n), both of the same line; missing where the second is 0",
        "revenue is sum(fare * n)",
        "sum(fare * n): the exact sum; missing values are left out",
        "worked out for each status first, and then over these results",
        "a value on each row, and so added up",
        "a ratio of the figures on its own line, not a sum of the lines",
        "as asked for: fare desc",
    ] {
        assert!(text.contains(said), "{said}\n{text}");
    }
    assert!(
        folder
            .run(&["explain", "b.csv", "--show", "sum(fair)"])
            .error()
            .contains("did you mean `fare`?")
    );
}

#[test]
fn explain_says_nothing_that_is_not_so() {
    let folder = Folder::with("b.csv", "k,d,x\na,2025-01-01,1\n");
    folder.write("l.csv", "code,name\na,Ann\n");
    for (options, said, not_said) in [
        (
            &["--by", "k", "--totals=sub"][..],
            "no totals: there are no groups of lines",
            "a total for",
        ),
        (&["--by", "k", "--sort", "sum(x) desc"], "of their own, (missing)\n", "the last"),
        (&["--by", "month(d)", "--every-period"], "month(d) without rows are shown, too", "blank"),
        (
            &["--lookup", "l.csv", "--match", "k = code", "--no-match", "leave-out"],
            "all rows with a match are counted",
            "all rows are",
        ),
        (&["--show", "mean(x)"], "rounded once from exact parts", "zzz"),
        (&["--show", "sum(x) / 3"], "rounded once from exact parts", "zzz"),
        (
            &["--show", "product(x)"],
            "given as a binary64 number\n",
            "rounded once from exact parts",
        ),
        (
            &["--show", "sqrt(sum(x))"],
            "given as a binary64 number\n",
            "rounded once from exact parts",
        ),
        (
            &["--show", "mean(x) * mean(x)"],
            "given as a binary64 number\n",
            "rounded once from exact parts",
        ),
        (
            &["--by", "k", "--show", "count(within k)"],
            "count over the cells with the same k",
            "count of",
        ),
        (
            &["--by", "k", "--columns-by", "month(d)", "--show", "rank(sum(x) along month)"],
            "place of sum(x)",
            "in its own column",
        ),
    ] {
        let text = folder.run(&[&["explain", "b.csv"], options].concat()).ok();
        assert!(text.contains(said) && !text.contains(not_said), "{options:?}\n{text}");
    }
}
