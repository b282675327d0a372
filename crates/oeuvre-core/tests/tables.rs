//! Every word that looks at other cells agrees with a slow plain reference, on random tables with holes,
//! ties and missing values, along keys down the side and along the top, on lines and on totals; and lines
//! with their rest make the total.

mod memory;

use memory::{Pass, Table, answer};
use num_bigint::BigInt;
use oeuvre_columns::value::calendar::{Period, Unit};
use oeuvre_columns::value::exact::ratio_to_f64;
use oeuvre_columns::{ColumnInfo, Decimal, Kind, Value};
use oeuvre_core::{Grid, LineKind, Parts, Plan, Request, Show, SourceText, Totals, list};
use proptest::prelude::*;
use std::collections::BTreeSet;
use std::sync::Mutex;

const COAST: usize = 0;
const ROUTE: usize = 1;
const MONTH: usize = 2;
const FARE: usize = 3;
/// Stands for the year of a cell's month.
const YEAR: usize = 9;

/// A cell: for each key its label, `None` where it is summed over.
type Key = [Option<Value>; 3];

/// The rows with the month in place of the day, and the cells of all levels.
struct Model {
    rows: Vec<Vec<Value>>,
}

/// What is worked out of some rows, in the place of `x`.
type Inner = fn(&[&Vec<Value>]) -> Option<i128>;

fn sum(rows: &[&Vec<Value>]) -> Option<i128> {
    let cents = rows
        .iter()
        .filter_map(|r| if let Value::Number(d) = &r[FARE] { Some(d.mantissa) } else { None });
    cents.reduce(|a, b| a + b)
}

fn count(rows: &[&Vec<Value>]) -> Option<i128> {
    Some(rows.len() as i128)
}

fn year(label: &Value) -> Value {
    match label {
        Value::Period(p) => {
            let index = Unit::Year.of_day(p.first_day());
            Value::Period(Period { unit: Unit::Year, index })
        }
        _ => Value::Missing,
    }
}

fn label(cell: &Key, key: usize) -> Option<Value> {
    if key == YEAR { cell[MONTH].as_ref().map(year) } else { cell[key].clone() }
}

fn place(cell: &Key) -> Option<i32> {
    if let Some(Value::Period(p)) = &cell[MONTH] { Some(p.index) } else { None }
}

impl Model {
    fn of(&self, cell: &Key) -> Vec<&Vec<Value>> {
        let inside = |r: &&Vec<Value>| (0..3).all(|k| cell[k].as_ref().is_none_or(|l| *l == r[k]));
        self.rows.iter().filter(inside).collect()
    }

    /// The cells of the same level, in label order.
    fn level(&self, like: &Key) -> Vec<Key> {
        let mut cells: Vec<Key> = Vec::new();
        for row in &self.rows {
            let cell: Key = std::array::from_fn(|k| like[k].as_ref().map(|_| row[k].clone()));
            if !cells.contains(&cell) {
                cells.push(cell);
            }
        }
        cells.sort_by(|a, b| {
            let order = |k: usize| match (&a[k], &b[k]) {
                (Some(a), Some(b)) => a.label_order(b),
                _ => std::cmp::Ordering::Equal,
            };
            order(0).then(order(1)).then(order(2))
        });
        cells
    }

    /// The cells of the level that share some keys with a cell; `None` when it has one of them not.
    fn sharing(&self, cell: &Key, keys: &[usize]) -> Option<Vec<Key>> {
        if keys.iter().any(|&k| label(cell, k).is_none()) {
            return None;
        }
        let same = |c: &Key| keys.iter().all(|&k| label(c, k) == label(cell, k));
        Some(self.level(cell).into_iter().filter(same).collect())
    }

    /// The siblings that a rank compares.
    fn siblings(&self, cell: &Key, along: &[usize], within: Option<&[usize]>) -> Option<Vec<Key>> {
        let walked: Vec<usize> = match along {
            [] if cell[ROUTE].is_some() => vec![ROUTE],
            [] if cell[COAST].is_some() => vec![COAST],
            [] => return None,
            all => all.to_vec(),
        };
        if walked.iter().any(|&k| cell[k].is_none() || within.is_some_and(|w| w.contains(&k))) {
            return None;
        }
        let top = |k: usize| k == MONTH;
        let kept = (0..3).filter(|&k| cell[k].is_some() && !walked.contains(&k));
        let other = |k: &usize| within.is_none() || walked.iter().all(|&w| top(w) != top(*k));
        let mut shared: Vec<usize> = kept.filter(other).collect();
        shared.extend(within.unwrap_or_default());
        self.sharing(cell, &shared)
    }

    /// The cells that are walked, in their order.
    fn walk(&self, cell: &Key, along: usize, within: &[usize]) -> Option<Vec<Key>> {
        cell[along].as_ref()?;
        let mut shared: Vec<usize> = (0..3).filter(|&k| cell[k].is_some() && k != along).collect();
        shared.extend(within);
        if along == MONTH {
            place(cell)?;
            return Some(
                self.sharing(cell, &shared)?.into_iter().filter(|c| place(c).is_some()).collect(),
            );
        }
        self.sharing(cell, &shared)
    }

    /// `x` so many steps before a cell.
    fn back(&self, x: Inner, cell: &Key, along: usize, steps: i32) -> Option<i128> {
        let walk = self.walk(cell, along, &[])?;
        if along != MONTH {
            let here = walk.iter().position(|c| c == cell)? as i32;
            return usize::try_from(here - steps)
                .ok()
                .and_then(|at| walk.get(at))
                .and_then(|c| x(&self.of(c)));
        }
        let there = place(cell)? - steps;
        match walk.iter().find(|c| place(c) == Some(there)) {
            Some(found) => x(&self.of(found)),
            None => {
                let all: Vec<i32> = self.level(cell).iter().filter_map(place).collect();
                let inside = (*all.iter().min()?..=*all.iter().max()?).contains(&there);
                inside.then(|| x(&[])).flatten()
            }
        }
    }

    /// The values of `x` on the last steps of a walk.
    fn last(&self, x: Inner, cell: &Key, along: usize, steps: i32) -> Vec<Option<i128>> {
        (0..steps)
            .rev()
            .map(|s| if s == 0 { x(&self.of(cell)) } else { self.back(x, cell, along, s) })
            .collect()
    }
}

fn money(cents: Option<i128>) -> Value {
    cents.map_or(Value::Missing, |c| Value::Number(Decimal::new(c, 2)))
}

fn whole(n: Option<i128>) -> Value {
    n.map_or(Value::Missing, |n| Value::Number(Decimal::new(n, 0)))
}

fn over(a: Option<i128>, b: Option<i128>) -> Value {
    let (Some(a), Some(b)) = (a, b) else { return Value::Missing };
    ratio_to_f64(&BigInt::from(a), &BigInt::from(b)).map_or(Value::Missing, Value::Float)
}

/// Places among values of which the larger come first.
fn rank(m: &Model, cell: &Key, cells: Option<Vec<Key>>, ties: &str, ascending: bool) -> Value {
    let (Some(cells), Some(mine)) = (cells, sum(&m.of(cell))) else { return Value::Missing };
    let sign = if ascending { -1 } else { 1 };
    let values: Vec<i128> = cells.iter().filter_map(|c| sum(&m.of(c))).map(|v| v * sign).collect();
    let mine = mine * sign;
    let above = values.iter().filter(|v| **v > mine).count() as i128;
    let equal = values.iter().filter(|v| **v == mine).count() as i128;
    let earlier = cells
        .iter()
        .take_while(|c| *c != cell)
        .filter(|c| sum(&m.of(c)).map(|v| v * sign) == Some(mine))
        .count() as i128;
    match ties {
        "dense" => whole(Some(
            1 + values.iter().filter(|v| **v > mine).collect::<BTreeSet<_>>().len() as i128,
        )),
        "unique" => whole(Some(1 + above + earlier)),
        "mean" => Value::Number(Decimal::new((2 * above + 1 + equal) * 5, 1)),
        _ => whole(Some(above + 1)),
    }
}

fn tile(m: &Model, cell: &Key, cells: Option<Vec<Key>>, n: usize) -> Value {
    let Some(cells) = cells else { return Value::Missing };
    let mut valued: Vec<(i128, &Key)> =
        cells.iter().filter_map(|c| Some((-sum(&m.of(c))?, c))).collect();
    valued.sort_by_key(|v| v.0);
    // Bucket by bucket, the first ones one larger.
    let (size, extra) = (valued.len() / n, valued.len() % n);
    let mut left = valued.iter();
    for bucket in 1..=n {
        let take = size + usize::from(bucket <= extra);
        if left.by_ref().take(take).any(|v| v.1 == cell) {
            return whole(Some(bucket as i128));
        }
    }
    Value::Missing
}

fn running(m: &Model, cell: &Key, walk: Option<Vec<Key>>, of: fn(&[i128]) -> Value) -> Value {
    let Some(walk) = walk else { return Value::Missing };
    let here = walk.iter().position(|c| c == cell).unwrap();
    let values: Vec<i128> = walk[..=here].iter().filter_map(|c| sum(&m.of(c))).collect();
    if values.is_empty() { Value::Missing } else { of(&values) }
}

fn mean(values: &[i128]) -> Value {
    over(Some(values.iter().sum()), Some(100 * values.len() as i128))
}

fn all_of(values: Vec<Option<i128>>, of: fn(&[i128]) -> Value) -> Value {
    let all: Option<Vec<i128>> = values.into_iter().collect();
    all.map_or(Value::Missing, |all| of(&all))
}

/// The result at fewer keys.
fn total(m: &Model, cell: &Key, keys: &[usize]) -> Option<i128> {
    if keys.iter().any(|&k| label(cell, k).is_none()) {
        return None;
    }
    let of_row = |r: &Vec<Value>, k: usize| if k == YEAR { year(&r[MONTH]) } else { r[k].clone() };
    let same = |r: &&Vec<Value>| keys.iter().all(|&k| label(cell, k) == Some(of_row(r, k)));
    sum(&m.rows.iter().filter(same).collect::<Vec<_>>())
}

/// The cells of the lines that an aggregate over cells takes in.
fn lines(m: &Model, cell: &Key, within: &[usize]) -> Option<Vec<Key>> {
    let like: Key = [Some(Value::Missing), Some(Value::Missing), cell[MONTH].clone()];
    if within.iter().any(|&k| label(cell, k).is_none()) {
        return None;
    }
    let same = |c: &Key| within.iter().all(|&k| label(c, k) == label(cell, k));
    Some(m.level(&like).into_iter().filter(same).collect())
}

type Plain = fn(&Model, &Key) -> Value;

const WORDS: &[(&str, Plain)] = &[
    ("rank(sum(fare))", |m, c| rank(m, c, m.siblings(c, &[], None), "skip", false)),
    ("rank(sum(fare) asc ties close)", |m, c| rank(m, c, m.siblings(c, &[], None), "dense", true)),
    ("rank(sum(fare) ties apart)", |m, c| rank(m, c, m.siblings(c, &[], None), "unique", false)),
    ("rank(sum(fare) ties mean within month)", |m, c| {
        rank(m, c, m.siblings(c, &[], Some(&[MONTH])), "mean", false)
    }),
    ("rank(sum(fare) within coast)", |m, c| {
        rank(m, c, m.siblings(c, &[], Some(&[COAST])), "skip", false)
    }),
    ("rank(sum(fare) along month)", |m, c| {
        rank(m, c, m.siblings(c, &[MONTH], None), "skip", false)
    }),
    ("rank(sum(fare) along coast, route)", |m, c| {
        rank(m, c, m.siblings(c, &[COAST, ROUTE], None), "skip", false)
    }),
    ("rank(sum(fare) along route, month within coast)", |m, c| {
        rank(m, c, m.siblings(c, &[ROUTE, MONTH], Some(&[COAST])), "skip", false)
    }),
    ("tile(sum(fare), 3)", |m, c| tile(m, c, m.siblings(c, &[], None), 3)),
    ("tile(sum(fare), 2 along month)", |m, c| tile(m, c, m.siblings(c, &[MONTH], None), 2)),
    ("lag(sum(fare))", |m, c| money(m.back(sum, c, MONTH, 1))),
    ("lag(count(), 2)", |m, c| whole(m.back(count, c, MONTH, 2))),
    ("lead(sum(fare))", |m, c| money(m.back(sum, c, MONTH, -1))),
    ("lag(sum(fare) along route)", |m, c| money(m.back(sum, c, ROUTE, 1))),
    ("lead(count(), 2 along coast)", |m, c| whole(m.back(count, c, COAST, -2))),
    ("lag(sum(fare) desc)", |m, c| money(m.back(sum, c, MONTH, -1))),
    ("change(sum(fare))", |m, c| {
        money(sum(&m.of(c)).zip(m.back(sum, c, MONTH, 1)).map(|(a, b)| a - b))
    }),
    ("growth(sum(fare), 12)", |m, c| {
        let (now, then) = (sum(&m.of(c)), m.back(sum, c, MONTH, 12));
        over(now.zip(then).map(|(a, b)| a - b), then.filter(|t| *t != 0))
    }),
    ("running(sum(fare))", |m, c| {
        running(m, c, m.walk(c, MONTH, &[]), |v| money(Some(v.iter().sum())))
    }),
    ("running(sum(fare) along month within year)", |m, c| {
        running(m, c, m.walk(c, MONTH, &[YEAR]), |v| money(Some(v.iter().sum())))
    }),
    ("running(sum(fare) along route)", |m, c| {
        running(m, c, m.walk(c, ROUTE, &[]), |v| money(Some(v.iter().sum())))
    }),
    ("running(sum(fare) along route taking mean)", |m, c| {
        running(m, c, m.walk(c, ROUTE, &[]), mean)
    }),
    ("running(sum(fare) taking max)", |m, c| {
        running(m, c, m.walk(c, MONTH, &[]), |v| money(v.iter().copied().max()))
    }),
    ("running(sum(fare) along route desc)", |m, c| {
        let walk = m.walk(c, ROUTE, &[]).map(|mut walk| {
            walk.sort_by_key(|c| sum(&m.of(c)).map_or((1, 0), |v| (0, -v)));
            walk
        });
        running(m, c, walk, |v| money(Some(v.iter().sum())))
    }),
    ("moving(sum(fare), 3)", |m, c| match m.walk(c, MONTH, &[]) {
        Some(_) => all_of(m.last(sum, c, MONTH, 3), mean),
        None => Value::Missing,
    }),
    ("moving(count(), 2 taking sum)", |m, c| match m.walk(c, MONTH, &[]) {
        Some(_) => all_of(m.last(count, c, MONTH, 2), |v| whole(Some(v.iter().sum()))),
        None => Value::Missing,
    }),
    ("moving(sum(fare), 3 taking min at least 1 along route)", |m, c| {
        match m.walk(c, ROUTE, &[]) {
            Some(_) => money(m.last(sum, c, ROUTE, 3).into_iter().flatten().min()),
            None => Value::Missing,
        }
    }),
    ("moving(sum(fare), 4 taking max at least 1)", |m, c| match m.walk(c, MONTH, &[]) {
        Some(_) => money(m.last(sum, c, MONTH, 4).into_iter().flatten().max()),
        None => Value::Missing,
    }),
    ("share(sum(fare))", |m, c| over(sum(&m.of(c)), total(m, c, &[]).filter(|t| *t != 0))),
    ("share(sum(fare) within coast)", |m, c| {
        over(sum(&m.of(c)), total(m, c, &[COAST]).filter(|t| *t != 0))
    }),
    ("total(sum(fare) within coast, month)", |m, c| money(total(m, c, &[COAST, MONTH]))),
    ("total(sum(fare) within year)", |m, c| money(total(m, c, &[YEAR]))),
    ("sum(fare within month)", |m, c| money(total(m, c, &[MONTH]))),
    ("mean(sum(fare) within coast)", |m, c| {
        let cells = lines(m, c, &[COAST]).unwrap_or_default();
        let values: Vec<i128> = cells.iter().filter_map(|c| sum(&m.of(c))).collect();
        if values.is_empty() { Value::Missing } else { mean(&values) }
    }),
    ("max(count())", |m, c| {
        whole(lines(m, c, &[]).unwrap_or_default().iter().filter_map(|c| count(&m.of(c))).max())
    }),
    ("sum(sum(fare) where rank(sum(fare)) = 1)", |m, c| {
        let first = |c: &Key| rank(m, c, m.siblings(c, &[], None), "skip", false) == whole(Some(1));
        let cells = lines(m, c, &[]).unwrap_or_default();
        money(cells.iter().filter(|c| first(c)).filter_map(|c| sum(&m.of(c))).reduce(|a, b| a + b))
    }),
    ("first(sum(fare) along month)", |m, c| {
        let walk = m.walk(c, MONTH, &[]).unwrap_or_default();
        money(walk.iter().find_map(|c| sum(&m.of(c))))
    }),
    ("last(sum(fare) along route)", |m, c| {
        let walk = m.walk(c, ROUTE, &[]).unwrap_or_default();
        money(walk.iter().rev().find_map(|c| sum(&m.of(c))))
    }),
    ("sum(fare) - lag(sum(fare)) > 0", |m, c| match sum(&m.of(c)).zip(m.back(sum, c, MONTH, 1)) {
        Some((a, b)) => Value::Boolean(a > b),
        None => Value::Missing,
    }),
    ("running(lag(sum(fare)))", |m, c| match m.walk(c, MONTH, &[]) {
        Some(walk) => {
            let here = walk.iter().position(|o| o == c).unwrap();
            let before = walk[..=here].iter().filter_map(|c| m.back(sum, c, MONTH, 1));
            money(before.reduce(|a, b| a + b))
        }
        None => Value::Missing,
    }),
];

fn columns() -> Vec<ColumnInfo> {
    let column = ColumnInfo::new;
    vec![
        column("coast", Kind::Text),
        column("route", Kind::Text),
        column("sailed_on", Kind::Date),
        column("fare", Kind::Number { scale: 2 }),
    ]
}

fn rows() -> impl Strategy<Value = Vec<Vec<Value>>> {
    let text = |words: &'static [&'static str]| {
        prop_oneof![
            9 => proptest::sample::select(words).prop_map(|w| Value::Text(w.into())),
            1 => Just(Value::Missing),
        ]
    };
    // Months of two years with holes between them; some rows have no day.
    let day = prop_oneof![
        9 => proptest::sample::select(&[19_723, 19_760, 19_800, 19_830, 20_100, 20_120, 20_190][..]).prop_map(Value::Date),
        1 => Just(Value::Missing),
    ];
    let fare = prop_oneof![
        6 => (-3i128..4).prop_map(|c| Value::Number(Decimal::new(c * 500, 2))),
        1 => Just(Value::Missing),
    ];
    let row = (text(&["North", "south", "West"]), text(&["AAL", "bry", "FYR", "Kel"]), day, fare);
    proptest::collection::vec(row.prop_map(|(a, b, c, d)| vec![a, b, c, d]), 1..28)
}

fn month(value: &Value) -> Value {
    match value {
        Value::Date(d) => {
            Value::Period(Period { unit: Unit::Month, index: Unit::Month.of_day(*d) })
        }
        _ => Value::Missing,
    }
}

fn request(show: &[&str]) -> Request {
    Request {
        by: vec![SourceText::new("--by", "coast,route")],
        columns_by: vec![SourceText::new("--columns-by", "month(sailed_on)")],
        show: show.iter().map(|s| Show::parse("--show", s)).collect(),
        totals: Totals::All,
        ..Request::default()
    }
}

/// The cell of a table at a line and a position.
fn key(grid: &Grid, line: usize, position: usize) -> Key {
    [grid.label(line, 0), grid.label(line, 1), grid.position_label(position, 0)]
}

/// Calculations of any words in any nesting, some of them mistakes.
fn calculation() -> impl Strategy<Value = String> {
    const LEAVES: [&str; 8] = [
        "sum(fare)",
        "count()",
        "mean(fare)",
        "max(fare)",
        "sum(fare)",
        "2",
        "fare",
        "month(sailed_on)",
    ];
    const WORDS: [&str; 30] = [
        "rank(X)",
        "rank(X asc ties mean)",
        "rank(X ties apart within coast)",
        "rank(X along month)",
        "rank(X along coast, route within month)",
        "tile(X, 3)",
        "tile(X, 4000000000 asc)",
        "lag(X)",
        "lag(X, 4000000000 along route)",
        "lead(X, 2 desc)",
        "change(X)",
        "growth(X, 12)",
        "running(X)",
        "running(X along route desc)",
        "running(X along month within year taking max)",
        "running(X along coast taking count)",
        "moving(X, 3)",
        "moving(X, 4000000000 at least 1)",
        "moving(X, 2 taking min along route)",
        "share(X)",
        "share(X within coast, month)",
        "total(X within year)",
        "first(X along month)",
        "last(X along route within coast)",
        "mean(X within coast)",
        "median(X)",
        "count(X where X > 1)",
        "percentile(X, 90 within month)",
        "if(X > Y, X, Y)",
        "coalesce(X, Y)",
    ];
    proptest::sample::select(&LEAVES[..]).prop_map(str::to_owned).prop_recursive(4, 24, 3, |inner| {
        let word = proptest::sample::select(&WORDS[..]);
        prop_oneof![
            4 => (word, inner.clone(), inner.clone()).prop_map(|(w, x, y)| w.replace('X', &x).replace('Y', &y)),
            1 => (inner.clone(), proptest::sample::select(&["+", "-", "*", "/", ">"][..]), inner)
                .prop_map(|(a, o, b)| format!("({a} {o} {b})")),
        ]
    })
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 1500, ..ProptestConfig::default() })]

    #[test]
    fn no_calculation_makes_it_panic(rows in rows(), calc in calculation(), keep in calculation(), listing in any::<bool>(), shape in 0..4usize) {
        let table = Table { columns: columns(), rows, batch_rows: 4 };
        let keys = |place: &str, keys: &str| vec![SourceText::new(place, keys)];
        let request = Request {
            listing,
            show: vec![Show::parse("--show", &calc)],
            lines_where: if shape == 3 { keys("--lines-where", &keep) } else { Vec::new() },
            by: if !listing && shape != 1 { keys("--by", "coast,route") } else { Vec::new() },
            columns_by: if !listing && shape != 2 { keys("--columns-by", "month(sailed_on)") } else { Vec::new() },
            totals: Totals::All,
            every_period: shape == 0,
            ..Request::default()
        };
        // A mistake is told; anything else is worked out.
        if let Ok(plan) = Plan::new(&request, columns()) {
            let next = Mutex::new(0);
            let source = Pass(&table, &next);
            if listing {
                let _ = list(&plan, &source, 2);
            } else {
                let _ = oeuvre_core::run(&plan, &source, 2);
                let _ = Plan::new(&request, columns())
                    .and_then(|plan| oeuvre_core::trace(&plan, &request, &source, 1, &[], &|_, _| None));
            }
            let _ = oeuvre_core::explain(&request, &plan, &["b.csv".to_owned()]);
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 60, ..ProptestConfig::default() })]

    #[test]
    fn words_across_cells_agree_with_plain_ones(rows in rows(), threads in 1usize..4, batch_rows in 1usize..9, sorted in any::<bool>()) {
        let model = Model {
            rows: rows.iter().map(|r| { let mut r = r.clone(); r[MONTH] = month(&r[MONTH]); r }).collect(),
        };
        let table = Table { columns: columns(), rows, batch_rows };
        let words: Vec<&str> = WORDS.iter().map(|w| w.0).collect();
        let sort = sorted.then(|| SourceText::new("--sort", "sum(fare) desc"));
        let (grid, _) = answer(&table, &Request { sort, ..request(&words) }, threads);
        // Walks along the lines follow their order; all else is the same in any.
        let follows = |word: &str| {
            !word.starts_with("rank") && (word.contains("along route") || word.contains("along coast"))
        };
        for line in 0..grid.lines.len() {
            for (c, column) in grid.columns.iter().enumerate() {
                let key = key(&grid, line, column.position);
                let exists = model.level(&key).contains(&key);
                let (word, plain) = WORDS[column.result];
                if sorted && follows(word) {
                    continue;
                }
                let expected = if exists { plain(&model, &key) } else { Value::Missing };
                prop_assert_eq!(grid.cell(line, c), expected, "{} at {:?}", word, key);
            }
        }
    }

    #[test]
    fn lines_and_their_rest_make_the_total(
        rows in rows(),
        top in proptest::option::of(1u64..4),
        bottom in proptest::option::of(1u64..3),
        keep in any::<bool>(),
        sub in any::<bool>(),
    ) {
        let table = Table { columns: columns(), rows: rows.clone(), batch_rows: 5 };
        let request = Request {
            lines_where: if keep { vec![SourceText::new("--lines-where", "rank(sum(fare) within coast) <= 1")] } else { Vec::new() },
            top,
            bottom,
            totals: if sub { Totals::All } else { Totals::Grand },
            ..request(&["count()", "sum(fare)", "max(fare)", "share(count())"])
        };
        let (grid, ledger) = answer(&table, &request, 2);
        let lines = |kinds: &[LineKind]| -> Vec<usize> {
            (0..grid.lines.len()).filter(|&l| kinds.contains(&grid.lines[l].kind)).collect()
        };
        let parts = lines(&[LineKind::Group, LineKind::Rest]);
        let grand = lines(&[LineKind::Grand])[0];
        for (c, column) in grid.columns.iter().enumerate() {
            let number = |l: usize| match grid.cell(l, c) {
                Value::Number(d) => d.mantissa,
                _ => 0,
            };
            match column.result {
                0 | 1 => prop_assert_eq!(parts.iter().map(|&l| number(l)).sum::<i128>(), number(grand)),
                2 => {
                    // Not a sum: from the rows, on the rest as anywhere.
                    let most = parts.iter().map(|&l| grid.cell(l, c)).filter(|v| !v.is_missing()).max_by(Value::label_order);
                    prop_assert_eq!(most.unwrap_or(Value::Missing), grid.cell(grand, c));
                }
                _ => {
                    let share = |l: usize| if let Value::Float(f) = grid.cell(l, c) { f } else { 0.0 };
                    let sum: f64 = parts.iter().map(|&l| share(l)).sum();
                    prop_assert!((sum - share(grand)).abs() < 1e-9);
                }
            }
        }
        let groups = lines(&[LineKind::Group]).len() as u64;
        prop_assert_eq!(ledger.lines.0, groups);
        if !keep && (top.is_some() || bottom.is_some()) {
            prop_assert!(groups <= top.unwrap_or(0) + bottom.unwrap_or(0));
        }
        let tuples: BTreeSet<String> = rows.iter().map(|r| format!("{:?}{:?}", r[COAST], r[ROUTE])).collect();
        prop_assert_eq!(groups + ledger.not_shown.0, tuples.len() as u64);
    }

    #[test]
    fn a_listing_agrees_with_a_plain_one(rows in rows(), threads in 1usize..4, batch_rows in 1usize..9) {
        const CALCS: [&str; 10] = [
            "fare",
            "rank(fare within route)",
            "rank(fare asc ties apart)",
            "running(fare within route)",
            "running(fare along sailed_on within route)",
            "lag(fare, 2)",
            "moving(fare, 2 taking sum at least 1 within coast)",
            "sum(fare within route, coast)",
            "share(fare within coast)",
            "fare - mean(fare within route)",
        ];
        let table = Table { columns: columns(), rows: rows.clone(), batch_rows };
        let request = Request {
            listing: true,
            show: CALCS.iter().map(|s| Show::parse("--show", s)).collect(),
            ..Request::default()
        };
        let plan = Plan::new(&request, columns()).unwrap();
        let next = Mutex::new(0);
        let (grid, ledger) = list(&plan, &Pass(&table, &next), threads).unwrap();
        prop_assert_eq!(ledger.lines.0, rows.len() as u64);
        let fare = |r: &Vec<Value>| if let Value::Number(d) = &r[FARE] { Some(d.mantissa) } else { None };
        for (i, row) in rows.iter().enumerate() {
            let same = |keys: &[usize]| -> Vec<usize> {
                (0..rows.len()).filter(|&j| keys.iter().all(|&k| rows[j][k] == row[k])).collect()
            };
            let mine = fare(row);
            let sum = |list: &[usize]| list.iter().filter_map(|&j| fare(&rows[j])).reduce(|a, b| a + b);
            let by_day = {
                let mut list = same(&[ROUTE]);
                list.sort_by(|&a, &b| rows[a][MONTH].label_order(&rows[b][MONTH]));
                let at = list.iter().position(|&j| j == i).unwrap();
                sum(&list[..=at])
            };
            let before: Vec<usize> = same(&[COAST]).into_iter().filter(|&j| j <= i).collect();
            let route = same(&[ROUTE]);
            let expected = [
                money(mine),
                whole(mine.map(|m| 1 + route.iter().filter(|&&j| fare(&rows[j]).is_some_and(|f| f > m)).count() as i128)),
                whole(mine.map(|m| {
                    let earlier = |j: usize| fare(&rows[j]).is_some_and(|f| f < m || f == m && j < i);
                    1 + (0..rows.len()).filter(|&j| earlier(j)).count() as i128
                })),
                money(sum(&route.iter().copied().filter(|&j| j <= i).collect::<Vec<_>>())),
                money(by_day),
                money(i.checked_sub(2).and_then(|j| fare(&rows[j]))),
                money(sum(&before[before.len().saturating_sub(2)..])),
                money(sum(&same(&[ROUTE, COAST]))),
                over(mine, sum(&same(&[COAST])).filter(|s| *s != 0)),
                {
                    let values: Vec<i128> = route.iter().filter_map(|&j| fare(&rows[j])).collect();
                    match (mine, mean(&values)) {
                        (Some(m), Value::Float(f)) => Value::Float(m as f64 / 100.0 - f),
                        _ => Value::Missing,
                    }
                },
            ];
            for (c, value) in expected.into_iter().enumerate() {
                prop_assert_eq!(grid.cell(i, c), value, "{} on row {}", CALCS[c], i);
            }
        }
        // In parts, and streamed where no row looks at another, the same rows come in the same order.
        for calcs in [&CALCS[..], &CALCS[..1]] {
            let show = calcs.iter().map(|s| Show::parse("--show", s)).collect();
            let plan = Plan::new(&Request { show, ..request.clone() }, columns()).unwrap();
            let mut given = Vec::new();
            let format = |grid: &Grid| -> Vec<u8> {
                let line = |l: usize| (0..grid.columns.len()).map(|c| format!("{} ", grid.cell(l, c))).collect::<String>();
                (0..grid.lines.len()).map(|l| line(l) + "\n").collect::<String>().into_bytes()
            };
            let mut write = |bytes: Vec<u8>| { given.extend(bytes); true };
            let parts = Parts { make: &format, take: &mut write };
            oeuvre_core::list_in_parts(&plan, &Pass(&table, &next), threads, parts).unwrap();
            let whole: String = (0..rows.len())
                .map(|l| (0..calcs.len()).map(|c| format!("{} ", grid.cell(l, c))).collect::<String>() + "\n")
                .collect();
            prop_assert_eq!(String::from_utf8(given).unwrap(), whole);
        }
    }
}
