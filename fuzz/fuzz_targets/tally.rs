#![no_main]
//! Bytes as what rows have come to, behind the checksum of a part: whatever they are, they are read or damaged, and what was
//! read is a table or an error.

use libfuzzer_sys::fuzz_target;
use oeuvre_columns::{InMemory, Kind, Source};
use oeuvre_core::{Plan, Request, Tally};

const SHOWN: [&str; 9] = [
    "count()",
    "sum(fare)",
    "median(fare)",
    "stdev(fare)",
    "count(distinct route)",
    "mode(route)",
    "max(fare)",
    "first(fare along day)",
    "list(route)",
];

fuzz_target!(|bytes: &[u8]| {
    let columns = [("route", Kind::Text), ("day", Kind::Date), ("fare", Kind::Number { scale: 2 })];
    let Ok(rows) = InMemory::from_texts(&columns, &[&["SKE", "2025-01-31", "12.50"]]) else {
        return;
    };
    let Ok(plan) = Plan::new(&Request::of(&["route", "month(day)"], &SHOWN), rows.columns()) else {
        return;
    };
    let plans = [&plan];
    if let Ok(tally) = Tally::decode(bytes, (&plans, &plans), &[0]) {
        let _ = tally.finish(&plans, &rows, 1);
    }
});
