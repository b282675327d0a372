//! Every aggregate agrees with a slow plain reference, on random tables with missing values, at none,
//! one and three keys, on every total, for one and several threads and batches of any size.

mod memory;

use memory::{Table, answer};
use num_bigint::BigInt;
use oeuvre_columns::value::exact::{decimal_to_f64, f64_to_ratio, ratio_to_f64, sqrt_ratio_to_f64};
use oeuvre_columns::{ColumnInfo, Decimal, Kind, Value};
use oeuvre_core::{Grid, LineKind, Request, Show, SourceText, Totals};
use proptest::prelude::*;

/// One aggregate in the language, and worked out plainly from the rows of a group.
type Plain = fn(&[&Vec<Value>]) -> Value;

const ROUTE: usize = 0;
const VESSEL: usize = 1;
const GRADE: usize = 2;
const FARE: usize = 3;
const SPEED: usize = 4;
const DAY: usize = 5;

fn present<'a>(rows: &[&'a Vec<Value>], column: usize) -> Vec<&'a Value> {
    rows.iter().map(|r| &r[column]).filter(|v| !v.is_missing()).collect()
}

fn cents(rows: &[&Vec<Value>]) -> Vec<i128> {
    present(rows, FARE)
        .into_iter()
        .map(|v| if let Value::Number(d) = v { d.mantissa } else { 0 })
        .collect()
}

fn speeds(rows: &[&Vec<Value>]) -> Vec<f64> {
    present(rows, SPEED)
        .into_iter()
        .map(|v| if let Value::Float(f) = v { *f } else { 0.0 })
        .collect()
}

fn money(mantissa: i128) -> Value {
    Value::Number(Decimal::new(mantissa, 2))
}

fn whole(n: usize) -> Value {
    Value::Number(Decimal::new(n as i128, 0))
}

fn float(value: Option<f64>) -> Value {
    value.map_or(Value::Missing, Value::Float)
}

fn over(numerator: BigInt, denominator: BigInt) -> Value {
    float(ratio_to_f64(&numerator, &denominator))
}

/// n, sum and sum of squared distances from the mean, times n, as the definition has it.
fn spread(rows: &[&Vec<Value>], sample: bool, root: bool) -> Value {
    let x = cents(rows);
    let n = x.len() as i128;
    let below = if sample { n - 1 } else { n };
    if n == 0 || below == 0 {
        return Value::Missing;
    }
    let sum: i128 = x.iter().sum();
    // Each distance is (n x - sum) / n.
    let squares: BigInt = x.iter().map(|x| BigInt::from(n * x - sum).pow(2)).sum();
    let denominator = BigInt::from(n) * n * below * 10_000;
    let of = if root { sqrt_ratio_to_f64 } else { ratio_to_f64 };
    float(of(&squares, &denominator))
}

fn exact_sum(values: &[f64]) -> (BigInt, BigInt) {
    let unit = BigInt::from(1) << 1074;
    let parts = values.iter().map(|&v| {
        let (n, d) = f64_to_ratio(v).unwrap();
        n * &unit / d
    });
    (parts.sum(), unit)
}

fn median(rows: &[&Vec<Value>]) -> Value {
    let mut x = cents(rows);
    x.sort();
    match x.len() {
        0 => Value::Missing,
        n => over(BigInt::from(x[(n - 1) / 2] + x[n / 2]), BigInt::from(200)),
    }
}

fn along(rows: &[&Vec<Value>], last: bool) -> Value {
    let mut both: Vec<&&Vec<Value>> =
        rows.iter().filter(|r| !r[FARE].is_missing() && !r[DAY].is_missing()).collect();
    both.sort_by(|a, b| a[DAY].label_order(&b[DAY]));
    let it = if last { both.last() } else { both.first() };
    it.map_or(Value::Missing, |r| r[FARE].clone())
}

/// The rows in groups of equal values.
fn by<'a>(rows: &[&'a Vec<Value>], columns: &[usize]) -> Vec<Vec<&'a Vec<Value>>> {
    let mut groups: Vec<Vec<&Vec<Value>>> = Vec::new();
    for &row in rows {
        let same = |g: &&mut Vec<&Vec<Value>>| columns.iter().all(|&c| g[0][c] == row[c]);
        match groups.iter_mut().find(same) {
            Some(group) => group.push(row),
            None => groups.push(vec![row]),
        }
    }
    groups
}

/// Fare and grade of the rows that have both.
fn pairs(rows: &[&Vec<Value>]) -> Vec<(i128, i128)> {
    let whole = |v: &Value| if let Value::Number(d) = v { Some(d.mantissa) } else { None };
    rows.iter().filter_map(|r| Some((whole(&r[FARE])?, whole(&r[GRADE])?))).collect()
}

fn at(rows: &[&Vec<Value>], largest: bool) -> Value {
    let both: Vec<_> =
        rows.iter().filter(|r| !r[VESSEL].is_missing() && !r[FARE].is_missing()).collect();
    let order = |a: &&&&Vec<Value>, b: &&&&Vec<Value>| a[FARE].label_order(&b[FARE]);
    let best = if largest { both.iter().max_by(order) } else { both.iter().min_by(order) };
    let Some(best) = best else { return Value::Missing };
    let mut labels: Vec<&Value> =
        both.iter().filter(|r| r[FARE] == best[FARE]).map(|r| &r[VESSEL]).collect();
    labels.sort_by(|a, b| a.label_order(b));
    labels.dedup();
    Value::Text(labels.iter().map(|v| v.to_string()).collect::<Vec<_>>().join(", ").into())
}

fn smallest(rows: &[&Vec<Value>], column: usize) -> Option<Value> {
    present(rows, column).into_iter().cloned().min_by(Value::label_order)
}

const AGGREGATES: &[(&str, Plain)] = &[
    ("count()", |r| whole(r.len())),
    ("count(fare)", |r| whole(present(r, FARE).len())),
    ("count(vessel)", |r| whole(present(r, VESSEL).len())),
    (
        "sum(fare)",
        |r| if cents(r).is_empty() { Value::Missing } else { money(cents(r).iter().sum()) },
    ),
    ("sum(-fare * 2)", |r| {
        if cents(r).is_empty() {
            Value::Missing
        } else {
            money(cents(r).iter().map(|c| -2 * c).sum())
        }
    }),
    ("mean(fare)", |r| {
        over(cents(r).iter().map(|&c| BigInt::from(c)).sum(), BigInt::from(100 * cents(r).len()))
    }),
    ("sum(speed)", |r| {
        let (n, d) = exact_sum(&speeds(r));
        if speeds(r).is_empty() { Value::Missing } else { over(n, d) }
    }),
    ("mean(speed)", |r| {
        let (n, d) = exact_sum(&speeds(r));
        over(n, d * speeds(r).len())
    }),
    ("median(fare)", median),
    ("min(fare)", |r| cents(r).into_iter().min().map_or(Value::Missing, money)),
    ("max(fare)", |r| cents(r).into_iter().max().map_or(Value::Missing, money)),
    ("range(fare)", |r| match (cents(r).into_iter().max(), cents(r).into_iter().min()) {
        (Some(a), Some(b)) => money(a - b),
        _ => Value::Missing,
    }),
    ("min(speed)", |r| float(speeds(r).into_iter().min_by(f64::total_cmp))),
    ("min(sailed_on)", |r| smallest(r, DAY).unwrap_or(Value::Missing)),
    ("max(vessel)", |r| {
        let texts = present(r, VESSEL).into_iter().map(Value::to_string);
        // As the lines are ordered: case folded, then as written.
        let texts = texts.max_by_key(|t: &String| (t.to_lowercase(), t.clone()));
        texts.map_or(Value::Missing, |t| Value::Text(t.into()))
    }),
    ("count(distinct fare)", |r| {
        whole(cents(r).into_iter().collect::<std::collections::BTreeSet<_>>().len())
    }),
    ("count(distinct vessel)", |r| {
        whole(
            present(r, VESSEL)
                .into_iter()
                .map(Value::to_string)
                .collect::<std::collections::BTreeSet<_>>()
                .len(),
        )
    }),
    ("sum(distinct fare)", |r| {
        let different: std::collections::BTreeSet<_> = cents(r).into_iter().collect();
        if different.is_empty() { Value::Missing } else { money(different.into_iter().sum()) }
    }),
    ("stdev(fare)", |r| spread(r, true, true)),
    ("stdev_pop(fare)", |r| spread(r, false, true)),
    ("variance(fare)", |r| spread(r, true, false)),
    ("variance_pop(fare)", |r| spread(r, false, false)),
    ("first(fare)", |r| present(r, FARE).first().map_or(Value::Missing, |v| (*v).clone())),
    ("last(vessel)", |r| present(r, VESSEL).last().map_or(Value::Missing, |v| (*v).clone())),
    ("first(fare along sailed_on)", |r| along(r, false)),
    ("last(fare along sailed_on)", |r| along(r, true)),
    ("sum(fare where vessel = 'Gannet')", |r| {
        let some: Vec<_> =
            r.iter().copied().filter(|r| r[VESSEL] == Value::Text("Gannet".into())).collect();
        if cents(&some).is_empty() { Value::Missing } else { money(cents(&some).iter().sum()) }
    }),
    ("count(where fare > 0)", |r| whole(cents(r).into_iter().filter(|c| *c > 0).count())),
    ("sum(fare) / count()", |r| match cents(r).len() {
        0 => Value::Missing,
        _ => over(cents(r).iter().map(|&c| BigInt::from(c)).sum(), BigInt::from(100 * r.len())),
    }),
    ("min(fare where fare > mean(fare))", |r| {
        let x = cents(r);
        let (n, sum) = (x.len() as i128, x.iter().map(|&c| BigInt::from(c)).sum::<BigInt>());
        // Compared as the language does: the exact fare, and the mean, both as binary64.
        let mean = ratio_to_f64(&sum, &BigInt::from(n * 100));
        let above = |c: &&i128| mean.is_some_and(|m| decimal_to_f64(Decimal::new(**c, 2)) > m);
        x.iter().filter(above).min().map_or(Value::Missing, |&c| money(c))
    }),
    ("count(where fare = max(fare) and vessel is not missing)", |r| {
        let most = cents(r).into_iter().max();
        whole(
            r.iter()
                .filter(|r| !r[VESSEL].is_missing() && Some(r[FARE].clone()) == most.map(money))
                .count(),
        )
    }),
    ("max(sum(fare) per vessel)", |r| {
        let sums = by(r, &[VESSEL])
            .into_iter()
            .filter(|g| !cents(g).is_empty())
            .map(|g| cents(&g).iter().sum::<i128>());
        sums.max().map_or(Value::Missing, money)
    }),
    ("median(count() per vessel, grade)", |r| {
        let mut n: Vec<i128> = by(r, &[VESSEL, GRADE]).iter().map(|g| g.len() as i128).collect();
        n.sort();
        match n.len() {
            0 => Value::Missing,
            len => over(BigInt::from(n[(len - 1) / 2] + n[len / 2]), BigInt::from(2)),
        }
    }),
    ("sum(max(count() per grade) per vessel where count() > 1)", |r| {
        let most = by(r, &[VESSEL])
            .into_iter()
            .filter(|g| g.len() > 1)
            .map(|g| by(&g, &[GRADE]).iter().map(Vec::len).max().unwrap_or(0));
        let all: Vec<usize> = most.collect();
        if all.is_empty() { Value::Missing } else { whole(all.iter().sum()) }
    }),
    ("mode(vessel)", |r| {
        let texts: Vec<String> = present(r, VESSEL).into_iter().map(Value::to_string).collect();
        let times = |t: &str| texts.iter().filter(|o| *o == t).count();
        let mut labels: Vec<Value> = texts.iter().map(|t| Value::Text(t.as_str().into())).collect();
        labels.sort_by(Value::label_order);
        let most = texts.iter().map(|t| times(t)).max();
        labels.into_iter().find(|l| Some(times(&l.to_string())) == most).unwrap_or(Value::Missing)
    }),
    ("list(distinct grade)", |r| {
        let set: std::collections::BTreeSet<String> =
            present(r, GRADE).into_iter().map(Value::to_string).collect();
        let all: Vec<String> = set.into_iter().collect();
        if all.is_empty() { Value::Missing } else { Value::Text(all.join(", ").into()) }
    }),
    ("percentile(fare, 30)", |r| {
        let mut x = cents(r);
        x.sort();
        let Some(last) = x.len().checked_sub(1) else { return Value::Missing };
        let (at, rest) = (last * 3 / 10, (last * 3 % 10) as i128);
        let next = x[(at + 1).min(last)];
        over(BigInt::from(x[at]) * (10 - rest) + BigInt::from(next) * rest, BigInt::from(1000))
    }),
    ("percentile(fare, 30 method nearest)", |r| {
        let mut x = cents(r);
        x.sort();
        if x.is_empty() {
            return Value::Missing;
        }
        over(BigInt::from(x[(x.len() * 3).div_ceil(10) - 1]), BigInt::from(100))
    }),
    ("percentile(fare, 30 method exclusive)", |r| {
        let mut x = cents(r);
        x.sort();
        let (at, rest) = ((x.len() + 1) * 3 / 10, ((x.len() + 1) * 3 % 10) as i128);
        if at < 1 || at > x.len() || (at == x.len() && rest > 0) {
            return Value::Missing;
        }
        let next = x[at.min(x.len() - 1)];
        over(BigInt::from(x[at - 1]) * (10 - rest) + BigInt::from(next) * rest, BigInt::from(1000))
    }),
    ("largest(fare, 2)", |r| {
        let mut x = cents(r);
        x.sort();
        x.iter().rev().nth(1).map_or(Value::Missing, |&c| money(c))
    }),
    ("smallest(fare, 2)", |r| {
        let mut x = cents(r);
        x.sort();
        x.get(1).map_or(Value::Missing, |&c| money(c))
    }),
    ("weighted_mean(fare, grade)", |r| {
        let both = pairs(r);
        let sum = |f: fn(&(i128, i128)) -> BigInt| -> BigInt { both.iter().map(f).sum() };
        over(sum(|p| BigInt::from(p.0) * p.1), sum(|p| BigInt::from(p.1)) * 100)
    }),
    ("slope(grade, fare)", |r| {
        // By distances from the means, each times n.
        let both = pairs(r);
        let n = both.len() as i128;
        let (sx, sy): (i128, i128) =
            (both.iter().map(|p| p.1).sum(), both.iter().map(|p| p.0).sum());
        let dx = |p: &(i128, i128)| BigInt::from(n * p.1 - sx);
        let dy = |p: &(i128, i128)| BigInt::from(p.0) * n - sy;
        over(
            both.iter().map(|p| dx(p) * dy(p)).sum(),
            both.iter().map(|p| dx(p) * dx(p)).sum::<BigInt>() * 100,
        )
    }),
    ("at_max(vessel, fare)", |r| at(r, true)),
    ("at_min(vessel, fare)", |r| at(r, false)),
    ("portion(fare > 0)", |r| {
        let known = cents(r);
        if known.is_empty() {
            return Value::Missing;
        }
        Value::Float(known.iter().filter(|c| **c > 0).count() as f64 / known.len() as f64)
    }),
    ("product(grade)", |r| {
        let all: Vec<i128> = present(r, GRADE)
            .into_iter()
            .map(|v| if let Value::Number(d) = v { d.mantissa } else { 0 })
            .collect();
        if all.is_empty() {
            Value::Missing
        } else {
            over(all.iter().map(|&g| BigInt::from(g)).product(), 1.into())
        }
    }),
    ("coalesce(sum(fare), 0)", |r| money(cents(r).iter().sum())),
];

fn text() -> impl Strategy<Value = Value> {
    prop_oneof![
        1 => Just(Value::Missing),
        5 => proptest::sample::select(vec!["Gannet", "gannet", "Puffin", "Sea Otter of the far north", "é"])
            .prop_map(|t| Value::Text(t.into())),
    ]
}

fn row() -> impl Strategy<Value = Vec<Value>> {
    let some = |missing: u32, of: BoxedStrategy<Value>| prop_oneof![missing => Just(Value::Missing), 9 => of];
    let grade = some(1, (0i128..3).prop_map(|g| Value::Number(Decimal::new(g, 0))).boxed());
    let fare = some(
        2,
        prop_oneof![-500i128..500, Just(0), Just(i128::from(i64::MAX)), Just(i128::MAX >> 40)]
            .prop_map(money)
            .boxed(),
    );
    let speed = some(
        2,
        prop_oneof![Just(0.1), Just(1e300), Just(-1e300), Just(3.0e-300), -9.0f64..9.0]
            .prop_map(Value::Float)
            .boxed(),
    );
    let day = some(1, (20_000i32..20_004).prop_map(Value::Date).boxed());
    (text(), text(), grade, fare, speed, day).prop_map(|(a, b, c, d, e, f)| vec![a, b, c, d, e, f])
}

fn columns() -> Vec<ColumnInfo> {
    let column = ColumnInfo::new;
    vec![
        column("route", Kind::Text),
        column("vessel", Kind::Text),
        column("grade", Kind::Number { scale: 0 }),
        column("fare", Kind::Number { scale: 2 }),
        column("speed", Kind::Float),
        column("sailed_on", Kind::Date),
    ]
}

/// The rows that a line stands for.
fn rows_of<'a>(
    grid: &Grid,
    line: usize,
    keys: &[usize],
    rows: &'a [Vec<Value>],
) -> Vec<&'a Vec<Value>> {
    rows.iter()
        .filter(|row| {
            keys.iter().enumerate().all(|(k, &column)| {
                grid.label(line, k).is_none_or(|label| label.label_order(&row[column]).is_eq())
            })
        })
        .collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(150))]
    #[test]
    fn aggregates_agree_with_the_plain_reference(rows in proptest::collection::vec(row(), 0..40), batch_rows in 1usize..9) {
        let table = Table { columns: columns(), rows, batch_rows };
        for (by, keys) in [("", vec![]), ("route", vec![ROUTE]), ("route,vessel,grade", vec![ROUTE, VESSEL, GRADE])] {
            let request = Request {
                show: AGGREGATES.iter().map(|(text, _)| Show::parse("--show", text)).collect(),
                by: if by.is_empty() { vec![] } else { vec![SourceText::new("--by", by)] },
                totals: Totals::All,
                ..Request::default()
            };
            let (grid, ledger) = answer(&table, &request, 1);
            let (again, _) = answer(&Table { batch_rows: 3, rows: table.rows.clone(), columns: columns() }, &request, 3);
            prop_assert_eq!(ledger.read, table.rows.len() as u64);
            prop_assert_eq!(grid.lines.len(), again.lines.len());
            let mut seen = 0;
            for line in 0..grid.lines.len() {
                let rows = rows_of(&grid, line, &keys, &table.rows);
                if grid.lines[line].kind == LineKind::Group {
                    seen += rows.len();
                    prop_assert!(!rows.is_empty() || keys.is_empty());
                }
                for (column, (text, plain)) in AGGREGATES.iter().enumerate() {
                    let cell = grid.cell(line, column);
                    let expected = plain(&rows);
                    prop_assert_eq!(&cell, &expected, "{} on line {} by {}", text, line, by);
                    prop_assert_eq!(&cell, &again.cell(line, column), "{} with three threads", text);
                }
            }
            prop_assert_eq!(seen, table.rows.len());
        }
    }

    #[test]
    fn the_ledger_adds_up(rows in proptest::collection::vec(row(), 0..60), batch_rows in 1usize..9, threads in 1usize..4) {
        let request = Request {
            show: vec![Show::parse("--show", "count()"), Show::parse("--show", "fare / grade")],
            by: vec![SourceText::new("--by", "vessel")],
            filters: vec![SourceText::new("--where", "fare > 0 and route <> 'Puffin'")],
            totals: Totals::Grand,
            ..Request::default()
        };
        let table = Table { columns: columns(), rows, batch_rows };
        let (grid, ledger) = answer(&table, &request, threads);
        let fare = |r: &Vec<Value>| if let Value::Number(d) = &r[FARE] { Some(d.mantissa > 0) } else { None };
        let route = |r: &Vec<Value>| if let Value::Text(t) = &r[ROUTE] { Some(&**t != "Puffin") } else { None };
        let truth = |r: &Vec<Value>| match (fare(r), route(r)) {
            (Some(false), _) | (_, Some(false)) => Some(false),
            (Some(true), Some(true)) => Some(true),
            _ => None,
        };
        let counted = table.rows.iter().filter(|r| truth(r) == Some(true)).count() as u64;
        let missing = table.rows.iter().filter(|r| truth(r).is_none()).count() as u64;
        prop_assert_eq!(ledger.read, table.rows.len() as u64);
        prop_assert_eq!(ledger.left_out + ledger.counted, ledger.read);
        prop_assert_eq!((ledger.counted, ledger.left_out_missing), (counted, missing));
        let lines = grid.lines.len();
        prop_assert_eq!(ledger.lines.0 + ledger.lines.1, lines as u64);
        prop_assert_eq!(ledger.cells.0 + ledger.cells.1, (lines * 2) as u64);
        let zeros = table.rows.iter()
            .filter(|r| truth(r) == Some(true) && r[GRADE] == Value::Number(Decimal::new(0, 0))).count() as u64;
        prop_assert_eq!(ledger.divisions_by_zero.iter().map(|d| d.1).sum::<u64>(), zeros);
        // The lines' counts add up to the total's, which is what the ledger counted.
        let count = |line: usize| match grid.cell(line, 0) { Value::Number(d) => d.mantissa as u64, _ => 0 };
        let sum: u64 = (0..lines).filter(|&l| grid.lines[l].kind == LineKind::Group).map(count).sum();
        prop_assert_eq!(sum, counted);
        prop_assert_eq!(count(lines - 1), counted);
    }
}

#[test]
fn the_reference_itself_is_right_on_a_worked_example() {
    // Worked by hand: 2, 4, 4, 4, 5, 5, 7, 9 has mean 5; the squared distances add up to 32, over 8 is
    // 4, and the root of that 2. The middle two are 4 and 5.
    let rows: Vec<Vec<Value>> = [200, 400, 400, 400, 500, 500, 700, 900]
        .into_iter()
        .map(|c| {
            let mut row = vec![Value::Missing; 6];
            row[FARE] = money(c);
            row
        })
        .collect();
    let rows: Vec<&Vec<Value>> = rows.iter().collect();
    assert_eq!(spread(&rows, false, true), Value::Float(2.0));
    assert_eq!(median(&rows), Value::Float(4.5));
    assert_eq!(decimal_to_f64(Decimal::new(45, 1)), 4.5);
}
