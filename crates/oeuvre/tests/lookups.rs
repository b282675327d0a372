//! Lookups: a second file whose columns are added to each row.

mod common;
use common::Folder;
use rstest::rstest;

fn folder() -> Folder {
    let folder = Folder::with(
        "b.csv",
        "route,sailed_on,fare\nSKE,2025-01-05,10\nSKE,2025-02-05,20\nHAV,2025-01-09,5\nXCH,2025-01-09,7\n,2025-03-01,1\n",
    );
    folder.write(
        "routes.csv",
        "code,name,coast\nSKE,Skerry Sound,North\nHAV,Havn Crossing,North\nNES,Nesse Ferry,South\n",
    );
    folder.write("targets.csv", "month,coast,target\n2025-01,North,100\n2025-02,North,200\n");
    folder
}

const ROUTES: [&str; 4] = ["--lookup", "routes.csv", "--match", "route = code"];

fn ask(folder: &Folder, options: &[&str]) -> String {
    let mut all = ROUTES.to_vec();
    all.extend_from_slice(options);
    folder.csv("b.csv", &all)
}

#[rstest]
#[case(&["--by", "coast,name", "--show", "fare"], "coast,name,sum of fare\nNorth,Havn Crossing,5\nNorth,Skerry Sound,30\n(missing),(missing),8\n")]
#[case(&["--by", "routes.coast", "--show", "count()"], "routes.coast,count()\nNorth,3\n(missing),2\n")]
#[case(&["--where", "coast = 'North'", "--show", "fare"], "sum of fare\n35\n")]
#[case(&["--no-match", "leave-out", "--show", "fare"], "sum of fare\n35\n")]
#[case(&["--show", "count(distinct name)", "--show", "max(length(name))"], "count(distinct name),max(length(name))\n2,13\n")]
fn columns_of_a_lookup_are_used_like_any_other(#[case] options: &[&str], #[case] expected: &str) {
    assert_eq!(ask(&folder(), options), expected);
}

#[rstest]
#[case(&["--by", "route", "--every", "route"], "route,rows,sum of fare\nHAV,1,5\nNES,0,\nSKE,2,30\nXCH,1,7\n(missing),1,1\n")]
#[case(&["--by", "coast,name", "--every", "coast,name"], "coast,name,rows,sum of fare\nNorth,Havn Crossing,1,5\nNorth,Skerry Sound,2,30\nSouth,Nesse Ferry,0,\n(missing),(missing),2,8\n")]
#[case(&["--by", "coast,month(sailed_on)", "--every-period", "--where", "fare <> 20", "--totals=sub"], "coast,month(sailed_on),rows,sum of fare\nNorth,2025-01,2,15\nNorth,2025-02,0,\nNorth,2025-03,0,\nNorth,Total,2,15\n(missing),2025-01,1,7\n(missing),2025-03,1,1\n(missing),Total,2,8\n")]
#[case(&["--by", "quarter_name(sailed_on)", "--every-period"], "quarter_name(sailed_on),rows,sum of fare\nQ1,5,43\nQ2,0,\nQ3,0,\nQ4,0,\n")]
fn categories_and_periods_without_rows_are_lines_when_asked_for(
    #[case] options: &[&str],
    #[case] expected: &str,
) {
    let mut all = vec!["--show", "rows: count()", "--show", "fare"];
    all.extend_from_slice(options);
    assert_eq!(ask(&folder(), &all), expected);
}

#[test]
fn a_lookup_may_need_several_keys_and_the_columns_of_another() {
    let out = ask(
        &folder(),
        &[
            "--lookup",
            "goals=targets.csv",
            "--match",
            "month(sailed_on) = month and routes.coast = goals.coast",
            "--by",
            "month(sailed_on)",
            "--show",
            "fare",
            "--show",
            "t: max(target)",
        ],
    );
    assert_eq!(out, "month(sailed_on),sum of fare,t\n2025-01,22,100\n2025-02,20,200\n2025-03,1,\n");
}

#[test]
fn the_ledger_names_the_codes_without_a_match_and_the_lines_not_used() {
    let folder = folder();
    let ledger = |options: &[&str]| {
        let mut all = vec!["summary", "b.csv", "--show", "count()"];
        all.extend(ROUTES);
        all.extend_from_slice(options);
        folder.run(&all).fine().1.split_whitespace().collect::<Vec<_>>().join(" ")
    };
    assert!(ledger(&[]).starts_with(
        "rows read 5 without a match in routes 2 counted all the same: (missing) (1), XCH (1) rows of routes not used 1 counted 5"
    ));
    assert!(ledger(&["--no-match", "leave-out", "--where", "fare < 10"]).starts_with(
        "rows read 5 left out 2 by --where without a match in routes 2 left out: (missing) (1), XCH (1) \
         rows of routes not used 2 counted 1"
    ));
}

#[rstest]
#[case(&["--lookup", "routes.csv", "--match", "route = code", "--no-match", "stop"], "2 rows have no match in routes: '(missing)' (1), 'XCH' (1)")]
#[case(&["--lookup", "targets.csv", "--match", "route = coast"], "keys stand twice in the lookup targets: 'North' on lines 2 and 3")]
#[case(&["--lookup", "routes.csv", "--match", "route = cod"], "there is no column `cod`")]
#[case(&["--lookup", "routes.csv", "--match", "route > code"], "a lookup is joined by equalities")]
#[case(&["--lookup", "routes.csv"], "each lookup needs one")]
#[case(&["--by", "route", "--every", "fare"], "this is no key of the table")]
#[case(&["--by", "route", "--every", "route"], "no lookup lists these categories")]
#[case(&["--lookup", "nowhere.csv", "--match", "route = code"], "there is no such file")]
#[case(&["--lookup", "routes.csv", "--match", "route = code", "--by", "routes.nam"], "the lookup `routes` has no column `nam`")]
#[case(&["--lookup", "routes.csv", "--match", "route = code", "--lookup", "g=targets.csv", "--match", "month(sailed_on) = month and routes.coast = g.coast", "--by", "coast"], "`coast` stands in two lookups")]
fn what_is_wrong_with_a_lookup_is_said(#[case] options: &[&str], #[case] message: &str) {
    let mut all = vec!["summary", "b.csv"];
    all.extend_from_slice(options);
    let error = folder().run(&all).error();
    assert!(error.contains(message), "{error}");
}
