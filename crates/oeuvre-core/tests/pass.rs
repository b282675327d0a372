//! Several plans in one pass over the rows: each gives what it gives alone.

mod memory;

use memory::{Pass, Table};
use oeuvre_columns::{ColumnInfo, Decimal, Kind, Value};
use oeuvre_core::{Grid, Ledger, Plan, Request, Show, SourceText, Totals, run, run_all};
use proptest::prelude::*;
use std::sync::Mutex;

fn columns() -> Vec<ColumnInfo> {
    let column = ColumnInfo::new;
    vec![
        column("grp", Kind::Text),
        column("d", Kind::Date),
        column("v", Kind::Number { scale: 2 }),
        column("w", Kind::Number { scale: 0 }),
    ]
}

fn rows() -> impl Strategy<Value = Vec<Vec<Value>>> {
    let text = prop_oneof![
        9 => proptest::sample::select(&["a", "b", "B", "c"][..]).prop_map(|w| Value::Text(w.into())),
        1 => Just(Value::Missing),
    ];
    let number = |scale: u8| {
        prop_oneof![
            8 => (-3i128..9).prop_map(move |c| Value::Number(Decimal::new(c, scale))),
            1 => Just(Value::Missing),
        ]
    };
    let row = (text, (19_700i32..19_800).prop_map(Value::Date), number(2), number(0));
    proptest::collection::vec(row.prop_map(|(a, b, c, d)| vec![a, b, c, d]), 0..40)
}

/// Requests that share columns, or none, with conditions of their own.
fn request() -> impl Strategy<Value = Request> {
    const WHERE: [&str; 6] =
        ["", "v > 0", "grp = 'a' or w < 3", "d >= '2024-01-01'", "v / w > 0", "upper(grp) = 'B'"];
    const BY: [&str; 4] = ["", "grp", "month(d)", "grp, month(d)"];
    const SHOW: [&str; 6] = [
        "count()",
        "sum(v)",
        "median(w), rank(sum(w))",
        "sum(v) / sum(w)",
        "min(v where v > mean(v))",
        "list(distinct grp), max(d)",
    ];
    let text = |place: &'static str, text: &str| {
        if text.is_empty() { Vec::new() } else { vec![SourceText::new(place, text)] }
    };
    let any = |all: &'static [&'static str]| proptest::sample::select(all);
    let totals = proptest::bool::ANY;
    (any(&WHERE), any(&BY), any(&SHOW), any(&SHOW), totals).prop_map(
        move |(condition, by, first, second, totals)| Request {
            filters: text("--where", condition),
            by: text("--by", by),
            show: vec![Show::parse("--show", first), Show::parse("--show", second)],
            totals: if totals { Totals::All } else { Totals::None },
            ..Request::default()
        },
    )
}

fn said((grid, ledger): &(Grid, Ledger)) -> Vec<String> {
    let lines = (0..grid.lines.len()).map(|line| {
        let cells = (0..grid.columns.len()).map(|c| format!("{:?}", grid.cell(line, c)));
        format!("{:?} {:?}", grid.lines[line].kind, cells.collect::<Vec<_>>())
    });
    lines.chain(ledger.entries().iter().map(|entry| format!("{entry:?}"))).collect()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 160, ..ProptestConfig::default() })]

    #[test]
    fn plans_that_share_a_pass_give_what_each_gives_alone(
        rows in rows(),
        requests in [request(), request(), request()],
        batch_rows in 1usize..20,
        threads in 1usize..4,
    ) {
        let table = Table { columns: columns(), rows, batch_rows };
        let plan = |request: &Request| Plan::new(request, columns());
        let Ok(plans) = requests.iter().map(plan).collect::<Result<Vec<_>, _>>() else { return Ok(()) };
        let next = Mutex::new(0);
        let together = run_all(&plans.iter().collect::<Vec<_>>(), &Pass(&table, &next), threads);
        let alone: Vec<_> =
            plans.iter().map(|plan| run(plan, &Pass(&table, &next), threads)).collect();
        match together {
            Ok(together) => {
                for (one, own) in together.iter().zip(&alone) {
                    prop_assert_eq!(said(one), said(own.as_ref().unwrap()));
                }
            }
            Err(_) => prop_assert!(alone.iter().any(Result::is_err)),
        }
    }
}
