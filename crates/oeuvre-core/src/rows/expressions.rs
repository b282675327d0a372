//! Random calculations on rows, several in one request, against a plain evaluator of single values.
//!
//! The evaluator says what the language's description says, a value at a time and without any of the program's
//! code for it. If you add an operation: a variant of [`Calc`], how it is written, and what it gives.

use crate::testing::answer;
use crate::{Error, Request};
use oeuvre_columns::value::calendar::parse_date;
use oeuvre_columns::value::exact::{decimal_ratio, decimal_to_f64};
use oeuvre_columns::value::{Comparison, text_order};
use oeuvre_columns::{Decimal, InMemory, Kind, Value};
use proptest::prelude::*;
use std::cmp::Ordering;

/// A calculation, as it is written and as what it gives on a row by the language's description.
#[derive(Clone, Debug)]
enum Calc {
    Column(usize),
    Number(i64, u8),
    Text(&'static str),
    Negative(Box<Calc>),
    Arithmetic(char, Box<[Calc; 2]>),
    Days(Box<[Calc; 2]>),
    Later(Box<Calc>, i32),
    Compare(Comparison, Box<[Calc; 2]>),
    Both(bool, Box<[Calc; 2]>),
    Not(Box<Calc>),
    IsMissing(Box<Calc>),
    Between(Box<[Calc; 3]>),
    In(Box<Calc>, Vec<i64>),
    If(Box<[Calc; 3]>),
    Coalesce(Box<[Calc; 2]>),
    Extreme(bool, Box<[Calc; 2]>),
    Call(&'static str, Box<Calc>),
    Concat(Box<[Calc; 2]>),
}

const COLUMNS: [(&str, Kind); 8] = [
    ("a", Kind::Number { scale: 2 }),
    ("b", Kind::Number { scale: 0 }),
    ("f", Kind::Float),
    ("t", Kind::Text),
    ("u", Kind::Text),
    ("d", Kind::Date),
    ("e", Kind::Date),
    ("p", Kind::Boolean),
];

fn number(value: &Value) -> f64 {
    match value {
        Value::Number(n) => decimal_to_f64(*n),
        Value::Float(f) => *f,
        _ => unreachable!("{value:?} is no number"),
    }
}

fn order(a: &Value, b: &Value) -> Ordering {
    match (a, b) {
        (Value::Number(a), Value::Number(b)) => a.cmp(b),
        (Value::Number(_) | Value::Float(_), _) => number(a).partial_cmp(&number(b)).unwrap(),
        (Value::Text(a), Value::Text(b)) => text_order(a, b),
        (Value::Date(a), Value::Date(b)) => a.cmp(b),
        _ => unreachable!("{a:?} and {b:?}"),
    }
}

fn arithmetic(sign: char, a: &Value, b: &Value) -> Value {
    if let (Value::Number(a), Value::Number(b)) = (a, b) {
        let scale = a.scale.max(b.scale);
        let (x, y) = (a.rescale(scale).unwrap().mantissa, b.rescale(scale).unwrap().mantissa);
        return match sign {
            '+' => Value::Number(Decimal::new(x + y, scale)),
            '-' => Value::Number(Decimal::new(x - y, scale)),
            '*' => Value::Number(Decimal::new(a.mantissa * b.mantissa, a.scale + b.scale)),
            _ => decimal_ratio(*a, *b).map_or(Value::Missing, Value::Float),
        };
    }
    let (x, y) = (number(a), number(b));
    match sign {
        '+' => Value::Float(x + y),
        '-' => Value::Float(x - y),
        '*' => Value::Float(x * y),
        _ if y == 0.0 => Value::Missing,
        _ => Value::Float(x / y),
    }
}

fn truth(value: &Value) -> Option<bool> {
    match value {
        Value::Boolean(b) => Some(*b),
        Value::Missing => None,
        other => unreachable!("{other:?} is no condition"),
    }
}

impl Calc {
    fn written(&self) -> String {
        let all = |parts: &[Calc], between: &str| {
            parts.iter().map(Calc::written).collect::<Vec<_>>().join(between)
        };
        match self {
            Calc::Column(c) => COLUMNS[*c].0.to_owned(),
            Calc::Number(n, scale) => Decimal::new(i128::from(*n), *scale).to_string(),
            Calc::Text(t) => format!("'{t}'"),
            Calc::Negative(x) => format!("-({})", x.written()),
            Calc::Arithmetic(sign, two) => format!("({})", all(&two[..], &format!(" {sign} "))),
            Calc::Days(two) => format!("({})", all(&two[..], " - ")),
            Calc::Later(d, n) => format!("({} + {n})", d.written()),
            Calc::Compare(c, two) => format!("({})", all(&two[..], &format!(" {} ", c.text()))),
            Calc::Both(and, two) => {
                format!("({})", all(&two[..], if *and { " and " } else { " or " }))
            }
            Calc::Not(x) => format!("(not {})", x.written()),
            Calc::IsMissing(x) => format!("({} is missing)", x.written()),
            Calc::Between(three) => {
                let [x, low, high] = &**three;
                format!("({} between {} and {})", x.written(), low.written(), high.written())
            }
            Calc::In(x, items) => {
                let items: Vec<String> = items.iter().map(i64::to_string).collect();
                format!("({} in ({}))", x.written(), items.join(", "))
            }
            Calc::If(three) => format!("if({})", all(&three[..], ", ")),
            Calc::Coalesce(two) => format!("coalesce({})", all(&two[..], ", ")),
            Calc::Extreme(largest, two) => {
                format!("{}({})", if *largest { "greatest" } else { "least" }, all(&two[..], ", "))
            }
            Calc::Call(name, x) => format!("{name}({})", x.written()),
            Calc::Concat(two) => format!("concat({})", all(&two[..], ", ")),
        }
    }

    /// Whether its kind, which is the same on all rows, is binary64.
    fn is_float(&self) -> bool {
        let any = |parts: &[Calc]| parts.iter().any(Calc::is_float);
        match self {
            Calc::Column(c) => COLUMNS[*c].1 == Kind::Float,
            Calc::Arithmetic('/', _) => true,
            Calc::Arithmetic(_, two) | Calc::Coalesce(two) | Calc::Extreme(_, two) => any(&two[..]),
            Calc::If(three) => any(&three[1..]),
            Calc::Negative(x) => x.is_float(),
            Calc::Call(name, x) => *name == "abs" && x.is_float(),
            _ => false,
        }
    }

    fn on(&self, row: &[Value]) -> Value {
        match self.of_some_kind(row) {
            // What is chosen among exact numbers and binary64 ones is always one of the latter.
            Value::Number(n) if self.is_float() => Value::Float(decimal_to_f64(n)),
            value => value,
        }
    }

    fn of_some_kind(&self, row: &[Value]) -> Value {
        let both = |two: &[Calc; 2]| [two[0].on(row), two[1].on(row)];
        let known = |two: &[Calc; 2], f: &dyn Fn(&Value, &Value) -> Value| match both(two) {
            [a, b] if a.is_missing() || b.is_missing() => Value::Missing,
            [a, b] => f(&a, &b),
        };
        let condition = |c: Option<bool>| c.map_or(Value::Missing, Value::Boolean);
        match self {
            Calc::Column(c) => row[*c].clone(),
            Calc::Number(n, scale) => Value::Number(Decimal::new(i128::from(*n), *scale)),
            Calc::Text(t) => Value::Text((*t).into()),
            Calc::Negative(x) => match x.on(row) {
                Value::Number(n) => Value::Number(Decimal::new(-n.mantissa, n.scale)),
                Value::Float(f) => Value::Float(-f),
                other => other,
            },
            Calc::Arithmetic(sign, two) => known(two, &|a, b| arithmetic(*sign, a, b)),
            Calc::Days(two) => known(two, &|a, b| match (a, b) {
                (Value::Date(a), Value::Date(b)) => {
                    Value::Number(Decimal::new(i128::from(a - b), 0))
                }
                _ => unreachable!("dates"),
            }),
            Calc::Later(d, n) => match d.on(row) {
                Value::Date(d) => Value::Date(d + n),
                other => other,
            },
            Calc::Compare(c, two) => known(two, &|a, b| Value::Boolean(c.holds(order(a, b)))),
            // As Kleene has it: what is decided by one side does not need the other.
            Calc::Both(and, two) => match both(two).map(|v| truth(&v)) {
                [a, b] if a == Some(!and) || b == Some(!and) => Value::Boolean(!and),
                [a, b] => condition(a.and(b)),
            },
            Calc::Not(x) => condition(truth(&x.on(row)).map(|t| !t)),
            Calc::IsMissing(x) => Value::Boolean(x.on(row).is_missing()),
            Calc::Between(three) => {
                let [x, low, high] = &**three;
                let compare =
                    |c, a: &Calc, b: &Calc| Calc::Compare(c, Box::new([a.clone(), b.clone()]));
                let low = compare(Comparison::GreaterEqual, x, low);
                let high = compare(Comparison::LessEqual, x, high);
                Calc::Both(true, Box::new([low, high])).on(row)
            }
            Calc::In(x, items) => match x.on(row) {
                Value::Missing => Value::Missing,
                x => Value::Boolean(items.iter().any(|i| number(&x) == *i as f64)),
            },
            Calc::If(three) => match truth(&three[0].on(row)) {
                Some(true) => three[1].on(row),
                _ => three[2].on(row),
            },
            Calc::Coalesce(two) => match both(two) {
                [Value::Missing, b] => b,
                [a, _] => a,
            },
            Calc::Extreme(largest, two) => match both(two) {
                [Value::Missing, x] | [x, Value::Missing] => x,
                [a, b] if (order(&b, &a) == Ordering::Greater) == *largest => b,
                [a, _] => a,
            },
            Calc::Call(name, x) => match (*name, x.on(row)) {
                (_, Value::Missing) => Value::Missing,
                ("abs", Value::Number(n)) => Value::Number(Decimal::new(n.mantissa.abs(), n.scale)),
                ("abs", Value::Float(f)) => Value::Float(f.abs()),
                ("upper", Value::Text(t)) => Value::Text(t.to_uppercase().into()),
                ("length", Value::Text(t)) => {
                    Value::Number(Decimal::new(t.chars().count() as i128, 0))
                }
                (name, x) => unreachable!("{name} of {x:?}"),
            },
            Calc::Concat(two) => {
                let text: String = both(two).iter().map(Value::to_string).collect();
                Value::Text(text.into())
            }
        }
    }
}

fn two(of: BoxedStrategy<Calc>) -> impl Strategy<Value = Box<[Calc; 2]>> {
    (of.clone(), of).prop_map(|(a, b)| Box::new([a, b]))
}

fn three(
    first: BoxedStrategy<Calc>,
    of: BoxedStrategy<Calc>,
) -> impl Strategy<Value = Box<[Calc; 3]>> {
    (first, of.clone(), of).prop_map(|(c, a, b)| Box::new([c, a, b]))
}

/// Calculations of each kind, so deep: numbers, conditions, texts, dates.
fn calcs(depth: u32) -> [BoxedStrategy<Calc>; 4] {
    let column = |all: Vec<usize>| proptest::sample::select(all).prop_map(Calc::Column);
    let constant = (-30i64..30, 0u8..2).prop_map(|(n, scale)| Calc::Number(n, scale));
    let text = proptest::sample::select(vec!["ske", "Kel", ""]).prop_map(Calc::Text);
    if depth == 0 {
        return [
            prop_oneof![3 => column(vec![0, 1, 2]), 1 => constant].boxed(),
            column(vec![7]).boxed(),
            prop_oneof![3 => column(vec![3, 4]), 1 => text].boxed(),
            column(vec![5, 6]).boxed(),
        ];
    }
    let [n, c, t, d] = calcs(depth - 1);
    let signs = proptest::sample::select(vec!['+', '-', '*', '/']);
    let comparisons = proptest::sample::select(vec![
        Comparison::Equal,
        Comparison::NotEqual,
        Comparison::Less,
        Comparison::LessEqual,
        Comparison::Greater,
        Comparison::GreaterEqual,
    ]);
    let items = proptest::collection::vec(-3i64..9, 1..4);
    let call = |name: &'static str, of: &BoxedStrategy<Calc>| {
        of.clone().prop_map(move |x| Calc::Call(name, Box::new(x)))
    };
    let of_any = prop_oneof![n.clone(), c.clone(), t.clone(), d.clone()];
    let pairs = prop_oneof![two(n.clone()), two(t.clone()), two(d.clone())];
    let numbers = prop_oneof![
        2 => n.clone(),
        4 => (signs, two(n.clone())).prop_map(|(sign, two)| Calc::Arithmetic(sign, two)),
        1 => n.clone().prop_map(|x| Calc::Negative(Box::new(x))),
        1 => two(d.clone()).prop_map(Calc::Days),
        1 => three(c.clone(), n.clone()).prop_map(Calc::If),
        1 => two(n.clone()).prop_map(Calc::Coalesce),
        1 => (any::<bool>(), two(n.clone())).prop_map(|(largest, two)| Calc::Extreme(largest, two)),
        1 => call("abs", &n),
        1 => call("length", &t),
    ];
    let conditions = prop_oneof![
        1 => c.clone(),
        4 => (comparisons, pairs).prop_map(|(c, two)| Calc::Compare(c, two)),
        2 => (any::<bool>(), two(c.clone())).prop_map(|(and, two)| Calc::Both(and, two)),
        1 => c.clone().prop_map(|x| Calc::Not(Box::new(x))),
        1 => of_any.prop_map(|x| Calc::IsMissing(Box::new(x))),
        1 => three(n.clone(), n.clone()).prop_map(Calc::Between),
        1 => (n, items).prop_map(|(x, items)| Calc::In(Box::new(x), items)),
    ];
    let texts = prop_oneof![
        2 => t.clone(),
        1 => three(c.clone(), t.clone()).prop_map(Calc::If),
        1 => two(t.clone()).prop_map(Calc::Coalesce),
        1 => two(t.clone()).prop_map(Calc::Concat),
        1 => call("upper", &t),
    ];
    let dates = prop_oneof![
        2 => d.clone(),
        1 => (d.clone(), -400i32..400).prop_map(|(d, n)| Calc::Later(Box::new(d), n)),
        1 => three(c, d.clone()).prop_map(Calc::If),
        1 => two(d).prop_map(Calc::Coalesce),
    ];
    [numbers.boxed(), conditions.boxed(), texts.boxed(), dates.boxed()]
}

fn row() -> impl Strategy<Value = Vec<&'static str>> {
    let of = |all: &[&'static str]| proptest::sample::select(all.to_vec());
    let dates = ["", "2024-02-29", "2025-01-01", "1969-12-31"];
    (
        of(&["", "0", "1.50", "-0.75", "12.25", "1.5"]),
        of(&["", "0", "1", "-3", "7"]),
        of(&["", "0", "0.1", "-2.5e3", "1e-7"]),
        of(&["", "SKE", "ske", "Kel", "Ä"]),
        of(&["", "kel", "SKE", "ß"]),
        (of(&dates), of(&dates)),
        of(&["", "true", "false"]),
    )
        .prop_map(|(a, b, f, t, u, (d, e), p)| vec![a, b, f, t, u, d, e, p])
}

fn read(column: usize, text: &str) -> Value {
    match COLUMNS[column].1 {
        _ if text.is_empty() => Value::Missing,
        Kind::Number { .. } => Value::Number(text.parse().unwrap()),
        Kind::Float => Value::Float(text.parse().unwrap()),
        Kind::Date => Value::Date(parse_date(text).unwrap()),
        Kind::Boolean => Value::Boolean(text == "true"),
        _ => Value::Text(text.into()),
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, ..ProptestConfig::default() })]

    #[test]
    fn calculations_on_rows_are_what_a_plain_evaluator_gives(
        data in proptest::collection::vec(row(), 1..12),
        calcs in proptest::collection::vec(
            calcs(3).into_iter().fold(Just(Calc::Column(0)).boxed(), |all, of| prop_oneof![all, of].boxed()),
            1..4,
        ),
    ) {
        let texts: Vec<&[&str]> = data.iter().map(Vec::as_slice).collect();
        let rows = InMemory::from_texts(&COLUMNS, &texts).unwrap();
        // Headings, so that the same calculation may come twice.
        let show: Vec<String> =
            calcs.iter().enumerate().map(|(i, calc)| format!("r{i}: {}", calc.written())).collect();
        let show: Vec<&str> = show.iter().map(String::as_str).collect();
        let request = Request { listing: true, ..Request::of(&[], &show) };
        let grid = match answer(&rows, &request) {
            Ok((grid, _)) => grid,
            // More digits than exact numbers hold, and figures beyond binary64, are refused.
            Err(Error::Request { message, .. }) if message.contains("too large") => return Ok(()),
            Err(error) => panic!("{show:?}: {error}"),
        };
        for (line, texts) in data.iter().enumerate() {
            let values: Vec<Value> = texts.iter().enumerate().map(|(i, t)| read(i, t)).collect();
            for (column, calc) in calcs.iter().enumerate() {
                let (given, plain) = (grid.cell(line, column), calc.on(&values));
                let same = match (&given, &plain) {
                    (Value::Float(a), Value::Float(b)) => a == b || (a.is_nan() && b.is_nan()),
                    (given, plain) => given == plain,
                };
                prop_assert!(same, "{} on {texts:?}: {given:?}, plainly {plain:?}", calc.written());
            }
        }
    }
}
