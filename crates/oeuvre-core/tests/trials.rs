//! What trials found wrong, held against plain references on random tables: several calculations in one request
//! are what each is alone, every cell can be traced, rests and longer periods, lines without rows, rounding.

mod memory;

use memory::{Pass, Table};
use num_bigint::BigInt;
use oeuvre_columns::value::calendar::{Period, Unit};
use oeuvre_columns::value::exact::round_quotient;
use oeuvre_columns::{ColumnInfo, Decimal, Kind, Value};
use oeuvre_core::{AtLabel, Grid, LineKind, Plan, Request, Show, SourceText, Totals, run, trace};
use proptest::prelude::*;
use std::collections::{BTreeSet, HashMap, HashSet};
use std::sync::Mutex;

const DAY: usize = 1;
const FARE: usize = 2;

fn columns() -> Vec<ColumnInfo> {
    let column = ColumnInfo::new;
    vec![column("grp", Kind::Text), column("d", Kind::Date), column("v", Kind::Number { scale: 2 })]
}

/// Rows with labels in mixed case and as hard to tell apart as can be, in days with gaps.
fn rows() -> impl Strategy<Value = Vec<Vec<Value>>> {
    const LABELS: [&str; 9] = ["a", "A", "b", "=a", "<= b", "Rest", "Total", "(missing)", "ä"];
    let text = prop_oneof![
        9 => proptest::sample::select(&LABELS[..]).prop_map(|w| Value::Text(w.into())),
        1 => Just(Value::Missing),
    ];
    let day = prop_oneof![
        9 => proptest::sample::select(&[19_723, 19_760, 19_761, 19_800, 19_990, 20_100, 20_120][..]).prop_map(Value::Date),
        1 => Just(Value::Missing),
    ];
    let fare = prop_oneof![
        8 => (-3i128..9).prop_map(|c| Value::Number(Decimal::new(c * 125, 2))),
        1 => Just(Value::Missing),
    ];
    proptest::collection::vec((text, day, fare).prop_map(|(a, b, c)| vec![a, b, c]), 1..25)
}

fn table(rows: Vec<Vec<Value>>, batch_rows: usize) -> Table {
    Table { columns: columns(), rows, batch_rows }
}

fn asked(by: &str, show: &[String]) -> Request {
    Request {
        by: if by.is_empty() { Vec::new() } else { vec![SourceText::new("--by", by)] },
        show: show.iter().map(|s| Show::parse("--show", s)).collect(),
        ..Request::default()
    }
}

fn grid(request: &Request, table: &Table, threads: usize) -> Result<Grid, String> {
    let plan = Plan::new(request, columns()).map_err(|e| e.to_string())?;
    let next = Mutex::new(0);
    run(&plan, &Pass(table, &next), threads).map(|r| r.0).map_err(|e| e.to_string())
}

const BYS: [&str; 6] =
    ["", "grp", "month(d)", "grp,month(d)", "week(d),grp", "fiscal_quarter(d, 4),year(d)"];
const CALCS: [&str; 26] = [
    "count(where grp < '=a')",
    "count(where grp <= 'a')",
    "count(where grp <= '=a')",
    "count(where grp = 'a')",
    "count(where grp = 'A')",
    "count(where grp in ('a', 'b'))",
    "count(where grp in ('a, b'))",
    "sum(v where grp > 'A')",
    "sum(v where v > 1)",
    "sum(v where v >= 1)",
    "sum(distinct v)",
    "max(grp)",
    "min(grp)",
    "last(grp along grp)",
    "list(distinct grp)",
    "mode(grp)",
    "round(mean(v))",
    "round(mean(v), 1)",
    "round(median(v), 1)",
    "round(sum(v) / count(v), 1)",
    "round(percentile(v, 10), 2)",
    "percentile(v, 90)",
    "min(v where v > mean(v))",
    "median(sum(v) per month(d))",
    "max(d) - min(d)",
    "count(where contains(grp, 'a'))",
];
const WORDS: [&str; 6] = ["X", "rank(X)", "running(X)", "share(X)", "if(X > 1, X, 0)", "total(X)"];

/// A calculation, perhaps with a word of the table around it.
fn calculation() -> impl Strategy<Value = String> {
    (proptest::sample::select(&CALCS[..]), proptest::sample::select(&WORDS[..]))
        .prop_map(|(calc, word)| word.replace('X', calc))
}

fn cents(rows: &[&Vec<Value>]) -> Vec<i128> {
    let one =
        |r: &&Vec<Value>| if let Value::Number(d) = &r[FARE] { Some(d.mantissa) } else { None };
    rows.iter().filter_map(one).collect()
}

/// The first and the last day of a label.
fn days_of(label: &Value) -> Option<(i32, i32)> {
    match label {
        Value::Period(p) => Some((p.first_day(), p.last_day())),
        Value::Date(d) => Some((*d, *d)),
        _ => None,
    }
}

fn period(value: &Value, unit: Unit) -> Option<Period> {
    match value {
        Value::Date(d) => Some(Period { unit, index: unit.of_day(*d) }),
        Value::Period(p) => Some(Period { unit, index: unit.of_day(p.first_day()) }),
        _ => None,
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 600, ..ProptestConfig::default() })]

    #[test]
    fn calculations_in_one_request_are_what_each_is_alone(
        rows in rows(), by in proptest::sample::select(&BYS[..]),
        calcs in proptest::collection::vec(calculation(), 2..7), threads in 1usize..3, batch in 1usize..9,
    ) {
        let table = table(rows, batch);
        let alone: Vec<Result<Grid, String>> =
            calcs.iter().map(|c| grid(&asked(by, std::slice::from_ref(c)), &table, 1)).collect();
        let good: Vec<String> =
            calcs.iter().zip(&alone).filter(|(_, g)| g.is_ok()).map(|(c, _)| c.clone()).collect();
        if good.is_empty() {
            return Ok(());
        }
        let together = grid(&asked(by, &good), &table, threads).unwrap();
        for (column, one) in alone.iter().flatten().enumerate() {
            prop_assert_eq!(one.lines.len(), together.lines.len());
            for line in 0..one.lines.len() {
                prop_assert_eq!(one.cell(line, 0), together.cell(line, column), "{}", good[column]);
            }
        }
    }

    #[test]
    fn every_cell_can_be_traced_and_agrees(
        rows in rows(), calc in calculation(), cut in 0u8..4, across in any::<bool>(),
    ) {
        let table = table(rows, 5);
        let request = Request {
            columns_by: if across { vec![SourceText::new("--columns-by", "month(d)")] } else { Vec::new() },
            totals: Totals::All,
            top: (cut & 1 == 1).then_some(2),
            bottom: (cut & 2 == 2).then_some(1),
            ..asked("grp", &[calc, "count()".to_owned()])
        };
        let Ok(shown) = grid(&request, &table, 1) else { return Ok(()) };
        for (l, line) in shown.lines.iter().enumerate() {
            for p in 0..shown.positions.len() {
                let mut at = Vec::new();
                let label = |value: Value| match value {
                    Value::Missing => AtLabel { text: "(missing)".into(), quoted: false },
                    value => AtLabel { text: value.to_string(), quoted: true },
                };
                match shown.label(l, 0) {
                    Some(value) => at.push((SourceText::new("--at", "grp"), label(value))),
                    None if line.kind == LineKind::Rest => {
                        at.push((SourceText::new("--at", "grp"), AtLabel { text: "Rest".into(), quoted: false }));
                    }
                    None => {}
                }
                if across && let Some(value) = shown.position_label(p, 0) {
                    at.push((SourceText::new("--at", "month"), label(value)));
                }
                let count = shown.cell(l, p * 2 + 1);
                if count.is_missing() {
                    continue;
                }
                let plan = Plan::new(&request, columns()).unwrap();
                let next = Mutex::new(0);
                let traced = trace(&plan, &request, &Pass(&table, &next), 1, &at, &|_, _| None);
                let traced = traced.map_err(|e| TestCaseError::fail(format!("{e} at {at:?}")))?;
                prop_assert!(traced.shown);
                for (i, result) in traced.results.iter().enumerate() {
                    prop_assert_eq!(&result.in_table, &shown.cell(l, p * 2 + i), "{:?} {}", at, result.heading);
                    // A condition that means a line's own result is blank on a rest.
                    let blank = line.kind == LineKind::Rest;
                    prop_assert!(result.parts.iter().all(|part| part.agrees() || blank && part.in_table.is_missing()), "{:?} at {:?}", result, at);
                }
                let rows = Value::Number(Decimal::new(traced.rows.lines.len() as i128, 0));
                prop_assert_eq!(rows, count);
            }
        }
    }

    #[test]
    fn rests_and_longer_periods_are_those_of_their_rows(rows in rows(), keep in -2i128..12) {
        let table = table(rows.clone(), 7);
        let calcs = ["total(v within year)", "total(min(v where v > mean(v)) within year)", "sum(v)"];
        let request = Request {
            totals: Totals::Grand,
            lines_where: vec![SourceText::new("--lines-where", format!("coalesce(sum(v), 0) > {keep}"))],
            ..asked("month(d)", &calcs.map(str::to_owned))
        };
        let shown = grid(&request, &table, 2).unwrap();
        let of_year = |year: Option<Period>| -> Vec<&Vec<Value>> {
            rows.iter().filter(|r| period(&r[DAY], Unit::Year) == year).collect()
        };
        let months: BTreeSet<Option<Period>> = (0..shown.lines.len())
            .filter_map(|l| shown.label(l, 0))
            .map(|label| period(&label, Unit::Month))
            .collect();
        for l in 0..shown.lines.len() {
            let hidden: Vec<&Vec<Value>> = rows.iter().filter(|r| !months.contains(&period(&r[DAY], Unit::Month))).collect();
            let year = match (shown.lines[l].kind, shown.label(l, 0)) {
                (_, Some(label)) => Some(period(&label, Unit::Year)),
                (LineKind::Rest, _) => {
                    let years: BTreeSet<Option<Period>> = hidden.iter().map(|r| period(&r[DAY], Unit::Year)).collect();
                    // Rows without a date lie in no year.
                    years.first().copied().filter(|y| years.len() == 1 && y.is_some())
                }
                _ => None,
            };
            let money = |c: Option<i128>| c.map_or(Value::Missing, |c| Value::Number(Decimal::new(c, 2)));
            let Some(year) = year else {
                prop_assert!(shown.cell(l, 0).is_missing() && shown.cell(l, 1).is_missing());
                continue;
            };
            let all = cents(&of_year(year));
            let n = all.len() as i128;
            prop_assert_eq!(shown.cell(l, 0), money(all.iter().copied().reduce(|a, b| a + b)));
            let sum: i128 = all.iter().sum();
            let above = all.iter().copied().filter(|c| c * n > sum).min();
            prop_assert_eq!(shown.cell(l, 1), money(above));
        }
    }

    #[test]
    fn lines_without_rows_are_all_that_can_be_and_no_others(
        rows in rows(), by in proptest::sample::select(&["month(d)", "grp,month(d)", "month(d),grp", "quarter(d),month(d)", "grp,quarter(d),month(d)", "year(d),grp,month(d)", "d", "month(d),d", "grp,week(d),day(d)"][..]),
    ) {
        let table = table(rows.clone(), 4);
        let plain = grid(&asked(by, &["count()".to_owned()]), &table, 1).unwrap();
        let filled = grid(&Request { every_period: true, ..asked(by, &["count()".to_owned()]) }, &table, 1).unwrap();
        let keys = filled.by.len();
        let lines = |g: &Grid| -> Vec<(Vec<Value>, Value)> {
            (0..g.lines.len()).map(|l| ((0..keys).map(|k| g.label(l, k).unwrap()).collect(), g.cell(l, 0))).collect()
        };
        let (before, after) = (lines(&plain), lines(&filled));
        for line in &before {
            prop_assert!(after.contains(line), "{:?} is lost", line);
        }
        let zero = Value::Number(Decimal::new(0, 0));
        let heads: HashSet<String> =
            after.iter().flat_map(|a| (1..=keys).map(|k| format!("{:?}", &a.0[..k]))).collect();
        for (labels, count) in after.iter().filter(|a| a.1 == zero || !before.contains(a)) {
            prop_assert_eq!(count, &zero);
            prop_assert!(labels.iter().all(|l| !l.is_missing()), "{:?}", labels);
            let days = labels.iter().filter_map(days_of);
            let (first, last) = days.fold((i32::MIN, i32::MAX), |all, d| (all.0.max(d.0), all.1.min(d.1)));
            prop_assert!(first <= last, "{:?} cannot be", labels);
        }
        // In every group of the keys before it a period has all of its kind that lie in the table's range.
        // Beside a key without any label nothing is added: a missing label stands on lines with rows alone.
        let unlabelled = |k: usize| before.iter().all(|b| b.0[k].is_missing());
        prop_assume!(!(0..keys).any(unlabelled));
        for k in 0..keys {
            let unit = match filled.by[k].kind {
                Kind::Period(unit) => unit,
                Kind::Date => Unit::Day,
                _ => continue,
            };
            let days: Vec<i32> = rows.iter().filter_map(|r| if let Value::Date(d) = r[DAY] { Some(d) } else { None }).collect();
            let (Some(&first), Some(&last)) = (days.iter().min(), days.iter().max()) else { continue };
            let groups: HashMap<String, &[Value]> =
                after.iter().map(|a| (format!("{:?}", &a.0[..k]), &a.0[..k])).collect();
            for labels in groups.into_values().filter(|l| !l.iter().any(Value::is_missing)) {
                for index in unit.of_day(first)..=unit.of_day(last) {
                    let own = Period { unit, index };
                    let fits = labels.iter().filter_map(days_of).all(|(first, last)| first <= own.last_day() && own.first_day() <= last);
                    let mut there = labels.to_vec();
                    there.push(if filled.by[k].kind == Kind::Date { Value::Date(index) } else { Value::Period(own) });
                    prop_assert!(!fits || heads.contains(&format!("{there:?}")), "{:?} is not there", there);
                }
            }
        }
    }

    #[test]
    fn quotients_are_rounded_as_written_on_paper(a in any::<i64>(), b in any::<i32>(), x in 0u8..12, y in 0u8..12, digits in 0u8..9) {
        prop_assume!(b != 0);
        let found = round_quotient(Decimal::new(i128::from(a), x), Decimal::new(i128::from(b), y), digits).unwrap();
        // a 10^y 10^digits / (b 10^x), the half away from zero.
        let n = BigInt::from(a) * BigInt::from(10).pow(u32::from(y + digits)) * b.signum();
        let d = BigInt::from(b).magnitude() * num_bigint::BigUint::from(10u8).pow(u32::from(x));
        let d = BigInt::from(d);
        let two = BigInt::from(2);
        let mantissa = BigInt::from(found.mantissa);
        let off: BigInt = (&mantissa * &d - &n) * &two;
        prop_assert!(off.magnitude() <= d.magnitude());
        if off.magnitude() == d.magnitude() {
            prop_assert!(mantissa.magnitude() * d.magnitude() > *n.magnitude());
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 4000, ..ProptestConfig::default() })]

    #[test]
    fn no_function_panics_whatever_it_is_given(
        function in 0usize..1000,
        args in proptest::collection::vec(proptest::sample::select(&ARGS[..]), 0..5),
        clause in proptest::sample::select(&CLAUSES[..]), distinct in any::<bool>(),
        by in proptest::sample::select(&["", "grp", "month(d)"][..]), listing in any::<bool>(), rows in rows(),
    ) {
        let all: Vec<_> = oeuvre_core::language::functions::all().collect();
        let name = all[function % all.len()].name;
        let distinct = if distinct { "distinct " } else { "" };
        let calc = format!("{name}({distinct}{}{clause})", args.join(", "));
        let table = table(rows, 6);
        for show in [calc.clone(), format!("round({calc}, 2)"), format!("sum({calc})"), format!("rank({calc})")] {
            let request = Request {
                listing,
                for_reading: true,
                ..asked(if listing { "" } else { by }, std::slice::from_ref(&show))
            };
            let Ok(plan) = Plan::new(&request, columns()) else { continue };
            let next = Mutex::new(0);
            if listing {
                let _ = oeuvre_core::list(&plan, &Pass(&table, &next), 2);
            } else {
                let _ = run(&plan, &Pass(&table, &next), 2);
            }
            let _ = oeuvre_core::explain(&request, &plan, &["a.csv".to_owned()]);
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 600, ..ProptestConfig::default() })]

    #[test]
    fn what_explain_says_is_so_in_the_table(
        rows in rows(), by in proptest::sample::select(&["", "grp", "grp,month(d)", "quarter(d)"][..]),
        across in proptest::sample::select(&["", "year(d)", "year(d),weekday(d)"][..]),
        totals in proptest::sample::select(&[Totals::None, Totals::Grand, Totals::Sub, Totals::All][..]),
        every_period in any::<bool>(), sort in any::<bool>(), filter in any::<bool>(),
    ) {
        let every_period = every_period && (by.contains('(') || !across.is_empty());
        let request = Request {
            columns_by: if across.is_empty() { Vec::new() } else { vec![SourceText::new("--columns-by", across)] },
            totals,
            every_period,
            sort: sort.then(|| SourceText::new("--sort", "count() desc")),
            filters: if filter { vec![SourceText::new("--where", "v > 1")] } else { Vec::new() },
            ..asked(by, &["count()".to_owned()])
        };
        let plan = Plan::new(&request, columns()).unwrap();
        let said: Vec<String> = oeuvre_core::explain(&request, &plan, &["a.csv".to_owned()])
            .into_iter()
            .flat_map(|section| section.lines)
            .collect();
        let says = |text: &str| said.iter().any(|line| line.contains(text));
        let table = table(rows, 6);
        let (shown, ledger) = run(&plan, &Pass(&table, &Mutex::new(0)), 2).unwrap();
        let has = |list: &oeuvre_core::Lines, kind| list.iter().any(|l| l.kind == kind);
        if ledger.counted == 0 {
            return Ok(());
        }
        prop_assert_eq!(says("for each group of lines"), has(&shown.lines, LineKind::Subtotal), "{:?}", said);
        let of_columns = says("for each group of columns") || says("and of columns");
        prop_assert_eq!(of_columns, has(&shown.positions, LineKind::Subtotal), "{:?}", said);
        let over_all = says("over all rows counted") || says("over all of them") || says("over all lines and all columns");
        let grand = has(&shown.lines, LineKind::Grand) || has(&shown.positions, LineKind::Grand);
        prop_assert_eq!(over_all && !(by.is_empty() && across.is_empty()), grand, "{:?}", said);
        prop_assert_eq!(says("all rows are counted"), !filter);
        if says("all rows are counted") {
            prop_assert_eq!(ledger.counted, ledger.read);
        }
        prop_assert_eq!(says("one line over all rows"), by.is_empty());
        if says("a cell without rows is blank") {
            let zero = Value::Number(Decimal::new(0, 0));
            let none = (0..shown.columns.len()).all(|c| (0..shown.lines.len()).all(|l| shown.cell(l, c) != zero));
            prop_assert!(none, "{:?}", said);
        }
        if says("(missing), the last") && !by.is_empty() {
            let groups: Vec<usize> = (0..shown.lines.len()).filter(|&l| shown.lines[l].kind == LineKind::Group).collect();
            let missing: Vec<bool> = groups.iter().map(|&l| shown.label(l, 0).is_some_and(|v| v.is_missing())).collect();
            prop_assert!(missing.windows(2).all(|w| !w[0] || w[1]), "{:?}", said);
        }
        prop_assert_eq!(says("without rows are shown, too"), every_period);
    }
}

/// What functions may be given.
const ARGS: [&str; 30] = [
    "v",
    "grp",
    "d",
    "0",
    "-1",
    "1",
    "2.5",
    "12",
    "99999999999999999999999999999999999999",
    "0.00000000000000000000000000000000000001",
    "''",
    "'x'",
    "'2025-01-01'",
    "'9999-12-31'",
    "'2025-03'",
    "'('",
    "'yyyy-MM-dd'",
    "missing",
    "true",
    "month(d)",
    "weekday(d)",
    "v > 1",
    "d > '2024-01-01'",
    "sum(v)",
    "mean(v)",
    "v / 0",
    "1e9",
    "power(10, 300)",
    "d + 2000000",
    "text(v)",
];
const CLAUSES: [&str; 12] = [
    "",
    "",
    "",
    " where v > 1",
    " where v > mean(v)",
    " per grp",
    " along d",
    " within grp",
    " along month within year",
    " taking max",
    " ties apart",
    " method nearest",
];
