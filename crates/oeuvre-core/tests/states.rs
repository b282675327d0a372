//! States of every aggregate, written down and read back: in pieces, in any order, they come to what a plain run
//! comes to.

mod memory;

use oeuvre_columns::column::Column;
use oeuvre_columns::{Decimal, Kind, Value};
use oeuvre_core::SourceText;
use oeuvre_core::aggregate::encoding::{Decoder, Encoder};
use oeuvre_core::aggregate::{Aggregate, Rows, State};
use oeuvre_core::language::ast::Node;
use oeuvre_core::language::functions::{self, Call, Distinct};
use oeuvre_core::language::parser;
use proptest::prelude::*;
use std::sync::Arc;

/// Groups beside group 0.
const GROUPS: u32 = 5;

/// All aggregates with their parameters, and how many values they take.
fn aggregates() -> Vec<(String, Arc<dyn Aggregate>, usize)> {
    let mut out = Vec::new();
    for function in functions::all() {
        let Call::Aggregate(of) = &function.call else { continue };
        let mut texts = vec![function.example.to_owned()];
        if !matches!(of.distinct, Distinct::Refused) {
            texts.push(function.example.replacen('(', "(distinct ", 1));
        }
        if function.name == "percentile" {
            texts.push("percentile(x, 37 method exclusive)".into());
        }
        for text in texts {
            let Ok(expr) = parser::parse(&SourceText::new("test", &*text)) else { continue };
            let Node::Call(call) = &expr.node else { continue };
            // A call of nothing takes no `distinct`.
            if call.args.is_empty() && call.distinct.is_some() {
                continue;
            }
            let Ok(aggregate) = of.instance(call) else { continue };
            let along = usize::from(text.contains(" along "));
            let values = call.split_parameters(of.parameters).0.len() + along;
            out.push((text, aggregate, values));
        }
    }
    out
}

/// A column of a kind from some numbers, of which 0 stands for missing.
fn column(kind: Kind, from: &[u8]) -> Column {
    let value = |&n: &u8| match (n, kind) {
        (0, _) => Value::Missing,
        (n, Kind::Number { scale }) if n % 7 == 0 => {
            Value::Number(Decimal::new(i128::from(n) << 90, scale))
        }
        (n, Kind::Number { scale }) => Value::Number(Decimal::new(i128::from(n) - 40, scale)),
        (n, Kind::Float) => Value::Float((f64::from(n) - 30.0) * 1.1),
        (n, Kind::Boolean) => Value::Boolean(n % 2 == 0),
        (n, Kind::Date) => Value::Date(i32::from(n) * 100),
        (n, _) => Value::Text(format!("text {}", n % 11).into()),
    };
    Column::from_values(kind, &from.iter().map(value).collect::<Vec<_>>())
}

const KINDS: [Kind; 5] =
    [Kind::Number { scale: 2 }, Kind::Float, Kind::Text, Kind::Date, Kind::Boolean];

/// Kinds of arguments that an aggregate takes.
fn kinds_for(aggregate: &dyn Aggregate, values: usize) -> Vec<Vec<Kind>> {
    let mut all: Vec<Vec<Kind>> = vec![Vec::new()];
    for _ in 0..values {
        let with = |before: &Vec<Kind>| KINDS.map(|k| [before.as_slice(), &[k]].concat());
        all = all.iter().flat_map(with).collect();
    }
    // Numbers that meet are of one kind, as the checks bring them to; labels are texts.
    let family = aggregate.family();
    all.retain(|kinds| aggregate.result(kinds).is_ok());
    all.retain(|kinds| family != "regression" || kinds[0] == kinds[1]);
    all.retain(|kinds| !family.starts_with("at_") || kinds[0] == Kind::Text);
    all
}

/// What a state comes to, group by group; the error where it cannot be held.
fn results(aggregate: &dyn Aggregate, state: &dyn State, kinds: &[Kind]) -> Vec<String> {
    let Ok(kind) = aggregate.result(kinds) else { return Vec::new() };
    match aggregate.finish(state, kinds) {
        Ok(column) => {
            (0..GROUPS as usize).map(|g| format!("{:?}", column.value(kind, g))).collect()
        }
        Err(overflow) => vec![format!("{overflow:?}")],
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, ..ProptestConfig::default() })]

    #[test]
    fn states_in_pieces_come_to_what_a_plain_run_comes_to(
        rows in proptest::collection::vec((0..=GROUPS, any::<[u8; 2]>()), 1..60),
        pieces in 1usize..6,
        cut in 1..=GROUPS,
        turned in any::<bool>(),
    ) {
        memory::be_short();
        for (text, aggregate, values) in aggregates() {
            for kinds in kinds_for(aggregate.as_ref(), values) {
                let groups: Vec<u32> = rows.iter().map(|r| r.0).collect();
                let columns: Vec<Column> = kinds.iter().enumerate().map(|(i, &kind)| {
                    column(kind, &rows.iter().map(|r| r.1[i]).collect::<Vec<_>>())
                }).collect();
                let size = rows.len().div_ceil(pieces);
                let state = || {
                    let mut state = aggregate.state(&kinds);
                    state.resize(GROUPS as usize + 1);
                    state
                };
                let mut plain = state();
                let mut parts: Vec<Vec<u8>> = Vec::new();
                for (piece, at) in (0..rows.len()).step_by(size).enumerate() {
                    let range: Vec<u32> = (at..(at + size).min(rows.len())).map(|r| r as u32).collect();
                    let args: Vec<Column> = columns.iter().map(|c| c.gather(&range)).collect();
                    let args: Vec<&Column> = args.iter().collect();
                    let groups = &groups[at..at + range.len()];
                    let batch = Rows { groups, args: &args, piece: piece as u64 };
                    plain.update(batch).unwrap();
                    let mut one = state();
                    one.update(batch).unwrap();
                    // More than a byte a group, and never the sign of a state that has forgotten to count.
                    prop_assert!(one.size_bytes() > GROUPS as usize, "{}", text);
                    // In two ranges of groups.
                    for range in [1..cut, cut..GROUPS + 1] {
                        let mut encoder = Encoder::default();
                        one.encode(range.clone(), &mut encoder);
                        parts.push([&range.start.to_le_bytes()[..], &encoder.into_bytes()].concat());
                    }
                }
                if turned {
                    parts.reverse();
                }
                let mut merged = state();
                for part in &parts {
                    let (start, bytes) = part.split_first_chunk::<4>().unwrap();
                    let start = u32::from_le_bytes(*start);
                    let mut read = aggregate.state(&kinds);
                    let mut decoder = Decoder::new(bytes);
                    prop_assert!(read.decode(&mut decoder).is_ok(), "{}", text);
                    prop_assert!(decoder.is_done());
                    let map: Vec<u32> = (0..=GROUPS).map(|g| if g == 0 { 0 } else { g + start - 1 }).collect();
                    let merging = merged.merge(read.as_ref(), &map);
                    prop_assert!(merging.is_ok(), "{}", text);
                    // Cut short it is damaged, whatever is left.
                    for end in [0, bytes.len() / 2, bytes.len() - 1] {
                        let short = aggregate.state(&kinds).decode(&mut Decoder::new(&bytes[..end]));
                        prop_assert!(short.is_err(), "{} cut to {}", text, end);
                    }
                }
                prop_assert_eq!(
                    results(aggregate.as_ref(), merged.as_ref(), &kinds),
                    results(aggregate.as_ref(), plain.as_ref(), &kinds),
                    "{} of {:?}", text, kinds
                );
            }
        }
    }

    #[test]
    fn bytes_of_anything_are_damaged_but_never_a_crash(bytes in proptest::collection::vec(any::<u8>(), 0..80)) {
        for (_, aggregate, values) in aggregates() {
            for kinds in kinds_for(aggregate.as_ref(), values) {
                let mut bytes = bytes.clone();
                bytes.insert(0, 1);
                let _ = aggregate.state(&kinds).decode(&mut Decoder::new(&bytes));
            }
        }
    }
}
