//! What tests beside the code share: finished tables of a few rows.

use oeuvre_columns::{InMemory, Kind, Source};
use oeuvre_core::{Grid, Ledger, Plan, Request, SourceText, Totals, TotalsAt, list, run};
use proptest::prelude::*;

/// Labels as data has them, and as an attacker would.
const LABELS: [&str; 9] =
    ["SKE", "", "a,b", "say \"hi\"", "=1+1", "né 漢字", "two\nlines", "x|*y*_", "<b>\u{1b}[2J"];

/// The columns of the rows.
const COLUMNS: [(&str, Kind); 4] =
    [("k", Kind::Text), ("d", Kind::Date), ("x", Kind::Number { scale: 2 }), ("f", Kind::Float)];

/// The table of a request over rows of a text, a date, a decimal and a binary64.
pub(crate) fn table(rows: &[[&str; 4]], request: &Request) -> (Grid, Ledger) {
    let rows: Vec<&[&str]> = rows.iter().map(|row| row.as_slice()).collect();
    let rows = InMemory::from_texts(&COLUMNS, &rows).unwrap();
    let plan = Plan::new(request, rows.columns()).unwrap();
    if request.listing { list(&plan, &rows, 1) } else { run(&plan, &rows, 1) }.unwrap()
}

/// A request with keys along the top.
pub(crate) fn pivot(by: &[&str], across: &str, show: &[&str]) -> Request {
    Request { columns_by: vec![SourceText::new("--columns-by", across)], ..Request::of(by, show) }
}

/// Rows and requests of every shape: keys on either side, totals, details.
pub(crate) fn any_table() -> impl Strategy<Value = (Grid, Ledger)> {
    let of = |all: &'static [&'static str]| proptest::sample::select(all);
    let row = (
        of(&LABELS),
        of(&["", "2025-01-31", "2024-02-29", "2025-02-01"]),
        of(&["", "1.50", "-1234567.89", "0", "1000"]),
        of(&["", "0.1", "-2.5e30", "1e-9"]),
    );
    let request = (
        of(&["", "k", "k,month(d)"]),
        of(&["", "year(d)", "k"]),
        proptest::sample::select(&[Totals::None, Totals::Grand, Totals::All][..]),
        any::<bool>(),
        any::<bool>(),
    );
    (proptest::collection::vec(row, 0..9), request).prop_map(
        |(rows, (by, across, totals, top, listing))| {
            let rows: Vec<[&str; 4]> = rows.into_iter().map(|(k, d, x, f)| [k, d, x, f]).collect();
            let across = if by.starts_with(across) { "" } else { across };
            let show = ["sum(x)", "mean(f)", "Share: share(count())", "max(d)", "at_max(k, x)"];
            let keys: Vec<&str> = by.split_terminator(',').collect();
            let mut request = if across.is_empty() {
                Request::of(&keys, &show)
            } else {
                pivot(&keys, across, &show)
            };
            if listing {
                request = Request { listing, ..Request::of(&[], &["k", "x", "twice: 2 * f", "d"]) };
            } else {
                request.totals = totals;
                request.totals_at = if top { TotalsAt::Top } else { TotalsAt::Bottom };
            }
            table(&rows, &request)
        },
    )
}
