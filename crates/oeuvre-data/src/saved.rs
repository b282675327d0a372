//! Results that Oeuvre wrote, read again to be compared: JSON of a table or of a report, or a table in CSV.
//!
//! ```
//! use oeuvre_data::saved_tables;
//!
//! let json = r#"{"columns":[{"name":"route","role":"key","kind":"text"},{"name":"sum(fare)","role":"result","kind":"number"}],
//!     "lines":[{"role":"line","cells":{"route":"SKE","sum(fare)":12.50}}]}"#;
//! let tables = saved_tables("last.json", json, &[])?;
//! assert_eq!(tables[0].lines[0].0, ["SKE"]);
//! assert_eq!(tables[0].lines[0].1[0].to_string(), "12.50");
//! # Ok::<(), oeuvre_columns::ReadError>(())
//! ```

use crate::input::read_whole;
use crate::open::open;
use crate::options::ReadOptions;
use oeuvre_columns::names::nearest;
use oeuvre_columns::{DataProblem, Decimal, ReadError, SavedTable, Value};
use serde_json::{Map, Value as Json};

/// The results that a file holds. In CSV, and in lists of rows, `by` names the keys; in JSON lines know theirs.
///
/// # Errors
/// A file that cannot be read or is no such result; keys that are not there, or needed.
pub fn read_saved(
    name: &str,
    by: &[String],
    options: ReadOptions,
) -> Result<Vec<SavedTable>, ReadError> {
    let problem = |e: std::io::Error| DataProblem::in_file(name, format!("cannot be read: {e}"));
    let bytes = std::fs::read(name).map_err(problem)?;
    let begins = bytes.iter().find(|b| !b.is_ascii_whitespace());
    if begins == Some(&b'{') {
        let text = String::from_utf8(bytes)
            .map_err(|_| DataProblem::in_file(name, "is no text in UTF-8, as JSON is"))?;
        return saved_tables(name, &text, by);
    }
    if by.is_empty() {
        let it = DataProblem::in_file(name, "does not say which of its columns are keys");
        return Err(it.help("name them: --by 'route, month'").into());
    }
    let mut input = open(&[name.to_owned()], options)?;
    let table = read_whole(input.as_mut(), "")?;
    let names: Vec<String> = table.columns.iter().map(|c| c.name.clone()).collect();
    let keys = places(name, by, &names)?;
    let figures: Vec<usize> = (0..names.len()).filter(|c| !keys.contains(c)).collect();
    let value =
        |column: usize, row: usize| table.data[column].value(table.columns[column].kind, row);
    let label = |column: usize, row: usize| match value(column, row) {
        Value::Missing => MISSING.to_owned(),
        value => value.to_string(),
    };
    let line = |row: usize| {
        let labels = keys.iter().map(|&c| label(c, row)).collect();
        (labels, figures.iter().map(|&c| value(c, row)).collect())
    };
    Ok(vec![SavedTable {
        name: String::new(),
        keys: keys.iter().map(|&c| names[c].clone()).collect(),
        figures: figures.iter().map(|&c| names[c].clone()).collect(),
        lines: (0..table.lines.len()).map(line).collect(),
    }])
}

/// What a missing label reads as.
const MISSING: &str = "(missing)";

/// The places of keys among headings.
fn places(file: &str, by: &[String], names: &[String]) -> Result<Vec<usize>, ReadError> {
    let place = |key: &String| {
        names.iter().position(|name| name == key).ok_or_else(|| {
            let it = DataProblem::in_file(file, format!("has no column `{key}`"));
            match nearest(key, names.iter().map(String::as_str)).first() {
                Some(near) => it.help(format!("did you mean `{near}`?")).into(),
                None => ReadError::from(it),
            }
        })
    };
    by.iter().map(place).collect()
}

/// As [`read_saved`], of the JSON of a file.
///
/// # Errors
/// As for [`read_saved`].
pub fn saved_tables(file: &str, json: &str, by: &[String]) -> Result<Vec<SavedTable>, ReadError> {
    let no_result = |why: String| {
        let it = DataProblem::in_file(file, why);
        ReadError::from(it.help("compare takes what --as json has written, or CSV with --by KEYS"))
    };
    let whole: Json =
        serde_json::from_str(json).map_err(|e| no_result(format!("is no JSON: {e}")))?;
    let parts = match whole.get("parts").and_then(Json::as_array) {
        Some(parts) => parts.iter().collect(),
        None => vec![&whole],
    };
    let tables = parts.into_iter().map(|part| {
        table(file, part, by)?.ok_or_else(|| no_result("is no result of Oeuvre".to_owned()))
    });
    tables.collect()
}

/// What the checks of a report found: the name of each, or what it says, and its figure.
///
/// # Errors
/// A file that is no JSON.
pub fn saved_checks(file: &str, json: &str) -> Result<Vec<(String, Value)>, ReadError> {
    let whole: Json = serde_json::from_str(json)
        .map_err(|e| DataProblem::in_file(file, format!("is no JSON: {e}")))?;
    let ledger = whole.get("ledger").and_then(|ledger| ledger.get("checks"));
    let checks = whole.get("checks").or(ledger).and_then(Json::as_array);
    let check = |check: &Json| {
        let name = check.get("name").or_else(|| check.get("that"))?.as_str()?;
        Some((name.to_owned(), value(check.get("found"))))
    };
    Ok(checks.into_iter().flatten().filter_map(check).collect())
}

/// A table; `None` where it is none.
fn table(file: &str, part: &Json, by: &[String]) -> Result<Option<SavedTable>, ReadError> {
    let name = part.get("name").and_then(Json::as_str).unwrap_or_default().to_owned();
    let Some(columns) = part.get("columns").and_then(Json::as_array) else { return Ok(None) };
    let of = |column: &Json, member: &str| {
        column.get(member).and_then(Json::as_str).unwrap_or_default().to_owned()
    };
    let names: Vec<String> = columns.iter().map(|c| of(c, "name")).collect();
    let keys: Vec<usize> = match by.is_empty() {
        true => (0..names.len()).filter(|&c| of(&columns[c], "role") == "key").collect(),
        false => places(file, by, &names)?,
    };
    let figures: Vec<usize> = (0..names.len()).filter(|c| !keys.contains(c)).collect();
    let (rows, flat) = match (part.get("lines"), part.get("rows")) {
        (Some(lines), _) => (lines.as_array(), false),
        (None, rows) => (rows.and_then(Json::as_array), true),
    };
    let Some(rows) = rows else { return Ok(None) };
    if flat && keys.is_empty() {
        let it = DataProblem::in_file(
            file,
            "is a list of rows, and does not say which columns are keys",
        );
        return Err(it.help("name them: --by booking_id").into());
    }
    let empty = Map::new();
    let lines = rows.iter().map(|row| {
        let cells = if flat { row.as_object() } else { row.get("cells").and_then(Json::as_object) };
        let cells = cells.unwrap_or(&empty);
        // The keys that a total sums over are absent.
        let summed = match row.get("role").and_then(Json::as_str) {
            Some("rest") if !flat => "Rest",
            _ => "Total",
        };
        let label = |&c: &usize| match cells.get(&names[c]) {
            None if !flat => summed.to_owned(),
            None | Some(Json::Null) => MISSING.to_owned(),
            Some(Json::String(text)) => text.clone(),
            Some(other) => other.to_string(),
        };
        let labels = keys.iter().map(label).collect();
        (labels, figures.iter().map(|&c| value(cells.get(&names[c]))).collect())
    });
    let lines = lines.collect();
    let heading = |c: &usize| names[*c].clone();
    let (keys, figures) =
        (keys.iter().map(heading).collect(), figures.iter().map(heading).collect());
    Ok(Some(SavedTable { name, keys, figures, lines }))
}

/// A value; numbers keep all their digits.
fn value(cell: Option<&Json>) -> Value {
    match cell {
        None | Some(Json::Null) => Value::Missing,
        Some(Json::Bool(truth)) => Value::Boolean(*truth),
        Some(Json::String(text)) => Value::Text(text.as_str().into()),
        Some(Json::Number(number)) => {
            let text = number.to_string();
            match (text.parse::<Decimal>(), text.parse::<f64>()) {
                (Ok(number), _) => Value::Number(number),
                (Err(()), Ok(number)) => Value::Float(number),
                _ => Value::Text(text.into()),
            }
        }
        Some(other) => Value::Text(other.to_string().into()),
    }
}
