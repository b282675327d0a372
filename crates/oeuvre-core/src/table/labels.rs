//! Labels as people write them, found among those of a key.

use crate::error::Error;
use crate::grouping::GroupStates;
use crate::plan::Plan;
use crate::request::AtLabel;
use oeuvre_columns::value::Value;

/// What `--at` means by a missing label.
pub(crate) const MISSING: &str = "(missing)";

/// How many labels are looked at for one like a label that is not there.
const MOST_LABELS: usize = 2000;

/// How a label of a key, by its heading, reads; `None` where it reads as it is.
pub type ReadsAs<'a> = &'a dyn Fn(&str, &Value) -> Option<String>;

/// The label that a text means.
pub(crate) fn label_of(
    plan: &Plan,
    gathered: &GroupStates,
    key: usize,
    label: &AtLabel,
    reads_as: ReadsAs<'_>,
) -> Result<Value, Error> {
    let codes = &gathered.grouper.codes[key];
    let it = &plan.keys()[key];
    if !label.quoted && label.text == MISSING {
        return Ok(Value::Missing);
    }
    let column = codes.column(it.kind, 0..codes.len() as u32);
    let number = label.text.parse::<oeuvre_columns::Decimal>().ok();
    let values = || (1..codes.len()).map(|c| column.value(it.kind, c));
    let raw = |value: &Value| match value {
        Value::Number(n) => Some(*n) == number,
        value => value.to_string() == label.text,
    };
    if let Some(found) = values().find(raw) {
        return Ok(found);
    }
    let mut read =
        values().filter(|v| reads_as(&it.heading, v).is_some_and(|text| text == label.text));
    if let Some(found) = read.next() {
        return match read.next() {
            None => Ok(found),
            Some(other) => Err(Error::request_with_help(
                format!("`{}` may be {found} or {other} of {}", label.text, it.heading),
                "name the label as it is without --format",
            )),
        };
    }
    let mut some: Vec<Value> = values().take(MOST_LABELS).collect();
    some.sort_by(Value::label_order);
    let labels: Vec<String> = some.iter().map(Value::to_string).collect();
    let near = crate::error::nearest(&label.text, labels.iter().map(String::as_str));
    let help = match near.first() {
        Some(near) => format!("did you mean {near}?"),
        None if labels.is_empty() => "no row that counts has a label there".to_owned(),
        None => {
            let some: Vec<&str> = labels.iter().take(5).map(String::as_str).collect();
            format!("its labels are such as {}", some.join(", "))
        }
    };
    Err(Error::request_with_help(format!("{} has no label `{}`", it.heading, label.text), help))
}

/// The code of a label among those of a key.
pub(crate) fn code_of(
    plan: &Plan,
    gathered: &GroupStates,
    key: usize,
    label: &Value,
) -> Option<u32> {
    let codes = &gathered.grouper.codes[key];
    let kind = plan.keys()[key].kind;
    let column = codes.column(kind, 0..codes.len() as u32);
    (0..codes.len() as u32).find(|&c| column.value(kind, c as usize) == *label)
}
