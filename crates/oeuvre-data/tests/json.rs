//! JSON against a plain reference: whatever records hold and wherever pieces are cut, their values come out.

use oeuvre_columns::column::Batch;
use oeuvre_columns::{Kind, ReadError, Value};
use oeuvre_data::{Forced, Input, ReadOptions, open_bytes, settled};
use proptest::prelude::*;
use serde_json::{Map, Value as Json};

/// A value of a member: texts with letters of every kind, numbers, truths, objects, lists, and none.
fn value() -> impl Strategy<Value = Json> {
    let leaf = prop_oneof![
        Just(Json::Null),
        any::<bool>().prop_map(Json::from),
        any::<i32>().prop_map(Json::from),
        "[ -~\\n\"\\\\é🚢]{0,12}".prop_map(Json::from),
    ];
    let list = prop::collection::vec(any::<u8>(), 0..3).prop_map(Json::from);
    let object = prop::collection::btree_map("[de]", leaf.clone(), 0..3);
    prop_oneof![4 => leaf, 1 => list, 1 => object.prop_map(|o| Json::Object(o.into_iter().collect()))]
}

/// The columns of a record as texts: members of objects by both names, lists as the JSON that they are.
fn flat(record: &Map<String, Json>, prefix: &str, out: &mut Vec<(String, String)>) {
    for (name, value) in record {
        let name = format!("{prefix}{name}");
        match value {
            Json::Object(inner) => flat(inner, &format!("{name}."), out),
            Json::Null => {}
            Json::String(text) if text.trim().is_empty() => {}
            Json::String(text) => out.push((name, text.clone())),
            other => out.push((name, other.to_string())),
        }
    }
}

/// All rows as columns with a value, every column as a text.
fn read(bytes: &[u8], piece_bytes: usize, readers: usize) -> Vec<Vec<(String, String)>> {
    let options = |kinds: Vec<(String, Forced)>| ReadOptions {
        piece_bytes,
        missing: Vec::new(),
        kinds,
        ..ReadOptions::default()
    };
    let mut names = open_bytes("x.json", bytes.to_vec(), options(Vec::new())).unwrap();
    names.look_for_columns().unwrap();
    let texts: Vec<_> = names.columns().into_iter().map(|c| (c.name, Forced::Text)).collect();
    let mut input = open_bytes("x.json", bytes.to_vec(), options(texts)).unwrap();
    settled(input.as_mut(), |input: &dyn Input| {
        let columns = input.columns();
        let all: Vec<usize> = (0..columns.len()).collect();
        let mut pieces = Vec::new();
        for mut reader in input.scan(&all, readers)? {
            let mut batch = Batch::default();
            while reader.next(&mut batch)? {
                let row = |row: usize| {
                    let value = |c: usize| match batch.columns[c].value(Kind::Text, row) {
                        Value::Text(text) => Some((columns[c].name.clone(), text.to_string())),
                        _ => None,
                    };
                    all.iter().filter_map(|&c| value(c)).collect()
                };
                pieces.push((batch.piece, (0..batch.rows).map(row).collect::<Vec<_>>()));
            }
        }
        pieces.sort_by_key(|piece| piece.0);
        Ok::<_, ReadError>(pieces.into_iter().flat_map(|piece| piece.1).collect())
    })
    .unwrap()
}

proptest! {
    #[test]
    fn what_was_written_is_read(
        records in prop::collection::vec(prop::collection::btree_map("[abc]", value(), 1..4), 1..12),
        piece_bytes in 1usize..200,
        readers in 1usize..4,
    ) {
        let mut records: Vec<Map<String, Json>> =
            records.into_iter().map(|r| r.into_iter().collect()).collect();
        // A table has a column.
        records[0].insert("z".to_owned(), Json::from(1));
        let expected: Vec<Vec<(String, String)>> = records
            .iter()
            .map(|record| {
                let mut row = Vec::new();
                flat(record, "", &mut row);
                row.sort();
                row
            })
            .collect();
        let texts: Vec<String> =
            records.iter().map(|r| Json::Object(r.clone()).to_string()).collect();
        let list = serde_json::to_string_pretty(&records).unwrap();
        for text in [texts.join("\n"), format!("[{}]", texts.join(" ,\n")), list, texts.concat()] {
            let mut rows = read(text.as_bytes(), piece_bytes, readers);
            rows.iter_mut().for_each(|row| row.sort());
            prop_assert_eq!(&rows, &expected, "{}", text);
        }
    }
}
