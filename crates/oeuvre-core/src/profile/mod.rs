//! What the columns hold, and what in them will hurt: one pass over the rows, as a grid.
//!
//! The pass keeps all distinct values of all columns with how often each occurs, as the states of one group; what
//! is told is made of these. So memory grows with the distinct values, not with the rows.
//!
//! ```
//! use oeuvre_columns::{InMemory, Kind};
//!
//! let fares = [("fare", Kind::Number { scale: 2 })];
//! let rows = InMemory::from_texts(&fares, &[&["12.50"], &[""], &["8.00"]])?;
//! let (table, ledger) = oeuvre_core::profile(&rows, 1, &|_| "text", &[], &oeuvre_core::Request::default())?;
//! assert_eq!(table.label(0, 0).map(|name| name.to_string()), Some("fare".into()));
//! assert_eq!(ledger.read, 3);
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

mod rows;

use crate::aggregate::sums::{Mean, Sums};
use crate::aggregate::values::Values;
use crate::aggregate::{Aggregate, Overflow, State};
use crate::error::Error;
use crate::grid::{Grid, Heading, Line, LineKind, Lines, ResultColumn};
use crate::grouping::gather_one;
use crate::ledger::Ledger;
use crate::notice::{alike_labels, total_among_rows};
use crate::plan::Plan;
use crate::request::Request;
use oeuvre_columns::at_once;
use oeuvre_columns::column::{Column, Data};
use oeuvre_columns::names::{
    as_name, grouped, missing_texts, plain_label, shell_quoted, visible_label,
};
use oeuvre_columns::value::{Kind, Value};
use oeuvre_columns::{ColumnInfo, Note, Source, Topic};
use std::borrow::Cow;
use std::collections::{BTreeMap, HashMap};

/// How many of the most frequent values are named.
const FREQUENT: usize = 3;
/// How many values a warning names, and how many an advice does at most.
const NAMED: usize = 3;
const MOST_ADVISED: usize = 12;

/// What a text looks like, in the eyes of whoever reads files.
pub type LooksLike<'a> = &'a (dyn Fn(&str) -> &'static str + Sync);

/// The values of a column in their order, each with how often it occurs. Values are made of them where they are told.
struct Counted {
    kind: Kind,
    values: Column,
    times: Vec<u64>,
}

impl Counted {
    /// How many different ones there are.
    fn len(&self) -> usize {
        self.times.len()
    }

    /// How many rows have one.
    fn present(&self) -> u64 {
        self.times.iter().sum()
    }

    fn value(&self, place: usize) -> Value {
        self.values.value(self.kind, place)
    }

    /// The value of a row, counted from 0, of the rows that have one, in the order of the values.
    fn of_row(&self, row: u64) -> Value {
        let mut seen = 0;
        let found = self.times.iter().position(|n| {
            seen += n;
            seen > row
        });
        found.map_or(Value::Missing, |place| self.value(place))
    }

    fn iter(&self) -> impl Iterator<Item = (Value, u64)> + '_ {
        self.times.iter().enumerate().map(|(place, &n)| (self.value(place), n))
    }
}

/// A text with how often it occurs.
type CountedText = (String, u64);

/// Profiles all columns, of the rows that the conditions of a request leave. `looks_like` names the kind that a text would have (`number`, `date`, `text`
/// and so on); `warnings` are what the source has found, by column.
///
/// # Errors
/// As [`crate::run`].
pub fn profile(
    source: &dyn Source,
    threads: usize,
    looks_like: LooksLike<'_>,
    warnings: &[(String, String)],
    request: &Request,
) -> Result<(Grid, Ledger), Error> {
    let columns = source.columns();
    let plan = Plan::of_values(request, columns.clone())?;
    let (group_states, mut ledger) = gather_one(&plan, source, threads)?;
    let mut out: Vec<Vec<Value>> = vec![Vec::new(); HEADINGS.len()];
    // Lines are those of all rows, and so they are looked for where all are counted.
    let whole = plan.condition.is_none();
    let (mut all_differ, mut doubled, mut said) = (false, Vec::new(), Vec::new());
    let mut missing: HashMap<&str, Vec<(&str, u64)>> = HashMap::new();
    for (column, text, n) in &ledger.read_as_missing {
        missing.entry(column).or_default().push((text, *n));
    }
    let of_column = |i: usize| -> Result<OfColumn, Error> {
        let column = &columns[i];
        // The plan's own count of rows comes first among the states.
        let state = group_states[0].states[i + 1].as_ref();
        let counted = counted(state, column.kind);
        Ok(OfColumn {
            figures: figures(&counted, missing.get(column.name.as_str()), ledger.counted)?,
            all_differ: counted.len() as u64 == ledger.counted,
            doubled: doubled_values(&counted).filter(|_| whole),
            said: hurts(column, &counted, looks_like),
        })
    };
    let all = at_once((0..columns.len()).collect(), threads, of_column);
    for (i, made) in all.into_iter().enumerate() {
        let made = made?;
        for (list, value) in out.iter_mut().zip(made.figures) {
            list.push(value);
        }
        all_differ |= made.all_differ;
        doubled.extend(made.doubled.map(|values| (i, values)));
        said.push(made.said);
    }
    let kinds: Vec<Kind> = columns.iter().map(|c| c.kind).collect();
    let lines_of = rows::doubled_lines(source, threads, &kinds, &doubled)?;
    let given_twice = ledger.notes.iter().any(|note| note.topic == Topic::Twice);
    if whole && !all_differ && !given_twice && ledger.counted > 1 {
        let text = rows::equal_rows(source, threads)?;
        ledger.notes.extend(text.map(|text| Note::new(Topic::Twice, text)));
    }
    let (mut notes, mut marks) = (Vec::new(), BTreeMap::new());
    for (i, (column, mut said)) in columns.iter().zip(said).enumerate() {
        said.extend(lines_of.get(&i).cloned());
        said.extend(warnings.iter().filter(|w| w.0 == column.name).map(|w| w.1.clone()));
        if !said.is_empty() {
            marks.insert(i as u32, notes.len());
            notes.push(format!("{}: {}", column.name, said.join("; ")));
        }
    }
    let mut grid = grid(&columns, &out, notes);
    grid.columns[0].marks = marks;
    // What stands below the table already is not told again, nor how large the table is.
    ledger.notes.retain(|note| !warnings.iter().any(|w| w.1 == note.text));
    ledger.read_as_missing.clear();
    ledger.of_rows_alone = true;
    Ok((grid, ledger))
}

/// What is made of a column.
struct OfColumn {
    figures: [Value; HEADINGS.len()],
    /// Whether it has another value in each row.
    all_differ: bool,
    doubled: Option<Vec<Value>>,
    said: Vec<String>,
}

/// What is said of a column, in the order of [`HEADINGS`].
fn figures(
    counted: &Counted,
    missing: Option<&Vec<(&str, u64)>>,
    rows: u64,
) -> Result<[Value; HEADINGS.len()], Error> {
    let (kind, present) = (counted.kind, counted.present());
    let missing = missing.map_or(&[][..], Vec::as_slice);
    let one = |(text, n): &(&str, u64)| format!("'{text}' {}", grouped(*n));
    let missing_as: Vec<String> = missing.iter().map(one).collect();
    let (mut mean, mut median) = (Value::Missing, Value::Missing);
    if kind.is_number() && present > 0 {
        mean = Value::Float(mean_of(counted)?);
        let two = [counted.of_row((present - 1) / 2), counted.of_row(present / 2)];
        median = mean_of_two(&two, kind)?;
    }
    let text = |place: Option<usize>| match place.filter(|place| *place < counted.len()) {
        Some(place) => Value::Text(shown(&counted.value(place)).into()),
        None => Value::Missing,
    };
    let missing_text = match (rows - present, missing_as.len()) {
        (0, _) => Value::Missing,
        (n, 0) => Value::Text(grouped(n).into()),
        (n, _) => {
            let as_texts: u64 = missing.iter().map(|m| m.1).sum();
            let mut parts = missing_as;
            if n > as_texts {
                parts.push(format!("blank {}", grouped(n - as_texts)));
            }
            Value::Text(format!("{} ({})", grouped(n), parts.join(", ")).into())
        }
    };
    let number = |n: u64| Value::Number(oeuvre_columns::Decimal::new(i128::from(n), 0));
    Ok([
        Value::Text(kind_word(kind).into()),
        number(present),
        missing_text,
        number(counted.len() as u64),
        text(Some(0)),
        text(counted.len().checked_sub(1)),
        mean,
        median,
        Value::Text(frequent(counted, present).into()),
    ])
}

/// The figures as a grid, a line a column.
fn grid(columns: &[ColumnInfo], figures: &[Vec<Value>], notes: Vec<String>) -> Grid {
    let names: Vec<Value> = columns.iter().map(|c| Value::Text(c.name.as_str().into())).collect();
    let mut grid = Grid {
        by: vec![Heading { name: "column".into(), kind: Kind::Text }],
        lines: Lines::same(Line { kind: LineKind::Group, depth: 1 }, columns.len()),
        labels: vec![Column::from_values(Kind::Text, &names)],
        positions: Lines::same(Line { kind: LineKind::Group, depth: 0 }, 1),
        notes,
        ..Grid::default()
    };
    for ((heading, kind), values) in HEADINGS.iter().zip(figures) {
        grid.columns.push(ResultColumn {
            heading: (*heading).to_owned(),
            calc: (*heading).to_owned(),
            position: 0,
            result: grid.columns.len(),
            plain: false,
            share: false,
            heading_mark: None,
            kind: *kind,
            cells: Column::from_values(*kind, values).into(),
            ratio: None,
            marks: BTreeMap::new(),
        });
    }
    grid
}

const WHOLE: Kind = Kind::Number { scale: 0 };

/// The columns of the profile.
const HEADINGS: [(&str, Kind); 9] = [
    ("kind", Kind::Text),
    ("present", WHOLE),
    ("missing", Kind::Text),
    ("distinct", WHOLE),
    ("smallest", Kind::Text),
    ("largest", Kind::Text),
    ("mean", Kind::Float),
    ("median", Kind::Float),
    ("most frequent", Kind::Text),
];

fn kind_word(kind: Kind) -> &'static str {
    match kind {
        Kind::Number { .. } | Kind::Float => "number",
        Kind::Text => "text",
        Kind::Boolean => "boolean",
        Kind::Date => "date",
        Kind::DateTime => "datetime",
        Kind::Nothing => "none",
        _ => "period",
    }
}

/// A value short enough for a table.
fn shown(value: &Value) -> String {
    let text = value.to_string();
    if text.chars().count() <= 24 {
        return text;
    }
    text.chars().take(23).chain(std::iter::once('…')).collect()
}

/// The values of the one group, in their order.
fn counted(state: &dyn State, kind: Kind) -> Counted {
    let values = state.typed().of::<Values>();
    let mut all = values.for_each_group(|group| {
        let (values, times) = group.column(kind);
        Counted { kind, values, times }
    });
    let none = || Counted { kind, values: Column::from(Data::empty(kind)), times: Vec::new() };
    if all.is_empty() { none() } else { all.swap_remove(0) }
}

/// The exact mean of counted numbers, rounded once.
fn mean_of(counted: &Counted) -> Result<f64, Error> {
    let (kind, times) = (counted.kind, &counted.times);
    let sum = match &counted.values.data {
        Data::I64(v) => sum_of(v.iter().map(|&v| i128::from(v)).zip(times)),
        Data::I128(v) => sum_of(v.iter().copied().zip(times)),
        _ => None,
    };
    let column = match sum {
        Some(sum) => Mean.finish(&Sums::one(sum, counted.present()), &[kind]),
        None => {
            let (weight, weights) = match kind {
                Kind::Float => (Kind::Float, Data::F64(times.iter().map(|&n| n as f64).collect())),
                _ => (WHOLE, Data::I64(times.iter().map(|&n| n as i64).collect())),
            };
            let of = crate::aggregate::regression::Regression::WeightedMean;
            return finish(&of, &[kind, weight], &[&counted.values, &Column::from(weights)]);
        }
    };
    Ok(figure(&column.map_err(too_large)?))
}

/// The sum of values that each occur so many times, where it fits.
fn sum_of<'a>(mut values: impl Iterator<Item = (i128, &'a u64)>) -> Option<i128> {
    values.try_fold(0i128, |sum, (v, &n)| sum.checked_add(v.checked_mul(i128::from(n))?))
}

fn too_large(_: Overflow) -> Error {
    Error::request("a mean is too large")
}

/// The one binary64 of a column.
fn figure(column: &Column) -> f64 {
    match column.value(Kind::Float, 0) {
        Value::Float(f) => f,
        _ => f64::NAN,
    }
}

fn mean_of_two(two: &[Value; 2], kind: Kind) -> Result<Value, Error> {
    finish(&Mean, &[kind], &[&Column::from_values(kind, two)]).map(Value::Float)
}

/// An aggregate of some values.
fn finish(aggregate: &dyn Aggregate, kinds: &[Kind], columns: &[&Column]) -> Result<f64, Error> {
    let mut state = aggregate.state(kinds);
    state.resize(2);
    let groups = vec![1; columns[0].data.len()];
    let rows = crate::aggregate::Rows { groups: &groups, args: columns, piece: 0 };
    state.update(rows).map_err(too_large)?;
    Ok(figure(&aggregate.finish(state.as_ref(), kinds).map_err(too_large)?))
}

/// The most frequent values, unless nearly all differ.
fn frequent(counted: &Counted, present: u64) -> String {
    if counted.len() as u64 * 2 > present || counted.len() < 2 {
        return match counted.len() {
            1 => format!("only {}", shown(&counted.value(0))),
            0 => String::new(),
            many if many as u64 == present => "all differ".into(),
            _ => "most differ".into(),
        };
    }
    let mut by_count: Vec<usize> = (0..counted.len()).collect();
    // Stable: label order among equals.
    by_count.sort_by_key(|&place| std::cmp::Reverse(counted.times[place]));
    let one = |&place: &usize| {
        format!("{} ({})", shown(&counted.value(place)), grouped(counted.times[place]))
    };
    by_count.iter().take(FREQUENT).map(one).collect::<Vec<_>>().join(", ")
}

/// The values that stand on several rows of a column of whole numbers or texts, of which nearly all differ.
fn doubled_values(counted: &Counted) -> Option<Vec<Value>> {
    let present = counted.present();
    let of_ids = matches!(counted.kind, Kind::Text | Kind::Number { scale: 0 });
    let distinct = counted.len() as u64;
    let nearly_all = distinct < present && distinct * 100 >= present * 99;
    (of_ids && nearly_all).then(|| {
        let several = (0..counted.len()).filter(|&place| counted.times[place] > 1);
        several.map(|place| counted.value(place)).collect()
    })
}

/// What in a column will hurt, each with what deals with it.
fn hurts(column: &ColumnInfo, counted: &Counted, looks_like: LooksLike<'_>) -> Vec<String> {
    if column.kind.is_number() {
        return Vec::from_iter(negatives(&column.name, counted));
    }
    if column.kind != Kind::Text {
        return Vec::new();
    }
    let texts: Vec<CountedText> = counted.iter().map(|(v, n)| (v.to_string(), n)).collect();
    let mut said = hurting_labels(&column.name, &texts);
    said.extend(odd_texts(column, &texts, looks_like));
    said
}

/// Some values below zero among numbers that are mostly above it.
fn negatives(name: &str, counted: &Counted) -> Option<String> {
    let total = counted.present();
    // In their order those below zero come first.
    let is_below = |place: &usize| match counted.value(*place) {
        Value::Number(n) => n.mantissa < 0,
        Value::Float(f) => f < 0.0,
        _ => false,
    };
    let below: u64 =
        (0..counted.len()).take_while(is_below).map(|place| counted.times[place]).sum();
    (below > 0 && below * 5 < total).then(|| {
        format!(
            "{} negative among mostly positive values, perhaps refunds or credit notes; without them: --where {}",
            grouped(below),
            shell_quoted(&format!("{} >= 0", as_name(name)))
        )
    })
}

/// Totals of the file among its rows, and labels that look alike, as the notes of a summary tell them.
fn hurting_labels(name: &str, texts: &[CountedText]) -> Vec<String> {
    let mut alike: BTreeMap<Cow<'_, str>, Vec<CountedText>> = BTreeMap::new();
    for one in texts {
        alike.entry(plain_label(&one.0)).or_default().push(one.clone());
    }
    let of_file = total_among_rows(name, texts.iter().map(|(text, n)| (text.as_str(), *n)));
    let notes = [of_file, alike_labels(name, Some(name), alike.into_values())];
    // The line of the column has its name already.
    let of_column = |n: Note| n.text.split_once(" has ").map(|(_, text)| text.to_owned());
    notes.into_iter().flatten().filter_map(of_column).collect()
}

/// Texts among what would be numbers or dates, or numbers that are codes.
fn odd_texts(
    column: &ColumnInfo,
    texts: &[CountedText],
    looks_like: LooksLike<'_>,
) -> Option<String> {
    let name = &column.name;
    let total: u64 = texts.iter().map(|t| t.1).sum();
    let mut looks: BTreeMap<&'static str, (u64, Vec<&CountedText>)> = BTreeMap::new();
    for one in texts {
        let it = looks.entry(looks_like(&one.0)).or_default();
        it.0 += one.1;
        it.1.push(one);
    }
    let most = looks.iter().max_by_key(|(_, (n, _))| *n);
    let (&word, (n, _)) = most?;
    if word == "code" {
        return Some(format!(
            "whole numbers with zeros in front are taken as codes; as numbers: --kind {}",
            shell_quoted(&format!("{name}=number"))
        ));
    }
    if word == "text" || *n == total {
        return None;
    }
    let others: Vec<&&CountedText> =
        looks.iter().filter(|(w, _)| **w != word).flat_map(|(_, (_, list))| list).collect();
    let mut named: Vec<String> = others
        .iter()
        .take(NAMED)
        .map(|(text, n)| format!("{} {}", visible_label(text), grouped(*n)))
        .collect();
    if others.len() > NAMED {
        named.push(format!("and {} more texts", grouped((others.len() - NAMED) as u64)));
    }
    let first = match &column.odd {
        Some(odd) => format!(", the first {odd}"),
        None => String::new(),
    };
    // All of them, or the advice would lead to the next one.
    let advice = match others.len() {
        0..=MOST_ADVISED => {
            let texts: Vec<&str> = others.iter().map(|o| o.0.as_str()).collect();
            let texts = shell_quoted(&missing_texts(Some(name), &texts));
            format!("; if these stand for no value: --missing {texts}")
        }
        _ => String::new(),
    };
    Some(format!(
        "{} of {} look like a {word}, but not {}{first}{advice}",
        grouped(*n),
        grouped(total),
        named.join(", "),
    ))
}

#[cfg(test)]
mod tests {
    use crate::Request;
    use crate::testing::{rows, shown};
    use rstest::rstest;

    fn profile(data: &str) -> (String, Vec<String>) {
        let looks_like = |text: &str| if text.parse::<f64>().is_ok() { "number" } else { "text" };
        let (grid, _) =
            super::profile(&rows(data), 1, &looks_like, &[], &Request::default()).unwrap();
        let (again, _) =
            super::profile(&rows(data).in_batches(1), 2, &looks_like, &[], &Request::default())
                .unwrap();
        assert_eq!(shown(&grid), shown(&again));
        (shown(&grid), grid.notes)
    }

    #[rstest]
    // Kind, present, missing, distinct, first, last, mean, median, frequent.
    #[case(
        "x:2 k\n1.50|a\n|a\n2.50|a\n2.50|a\n",
        "x = number 3 1 2 1.50 2.50 2.1666666666666665 2.5 most differ"
    )]
    #[case("x:date k\n2025-01-02|a\n2025-01-01|a\n", "x = date 2 - 2 2025-01-01 2025-01-02 - -")]
    #[case("x:bool k\ntrue|a\n|a\n", "x = boolean 1 1 1 true true - - only true")]
    #[case("x:float k\n|a\n", "x = number 0 1 0 - - - - ")]
    fn a_column_is_told_by_its_values(#[case] data: &str, #[case] told: &str) {
        let (lines, _) = profile(data);
        let line = lines.split("; k = ").next().unwrap();
        assert!(line.starts_with(told), "{line}");
    }

    #[test]
    fn labels_that_differ_in_case_alone_and_numbers_among_texts_hurt() {
        let (_, notes) = profile("t\nSKE\nske\nKEL\n");
        assert!(notes[0].contains("SKE") && notes[0].contains("ske"), "{notes:?}");
        let (_, notes) = profile("t\n12\n13\n14\nunknown\n");
        assert!(notes[0].contains("unknown"), "{notes:?}");
        assert_eq!(profile("t\nSKE\nKEL\n").1, Vec::<String>::new());
    }
}
