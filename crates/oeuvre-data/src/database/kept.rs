//! What is handed on to a database of what `--where` asks.
//!
//! A row is left out there only where that is plainly the same as here: each column that the condition compares has a
//! value in it, so that it is known for what the row is left out, and one of the conditions that must hold does not.
//! Rows without are counted apart, and come.
//!
//! What is told of a text that no row has, or of one that is almost the same, is told of all rows. So rows are left
//! out for their texts only where each text that is asked for has a row among those that come, which the database is
//! asked before; and rows whose text differs from one in case and spaces alone come, whatever else holds of them.

use crate::file_rows::{Want, Wanted};
use crate::kinds::values::Shape;
use oeuvre_columns::names::plain_label;
use oeuvre_columns::{Limits, Value};

/// A value that a column is compared with.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Bound {
    /// A number, as it is written.
    Number(String),
    /// A day in ISO form.
    Day(String),
    /// A time in ISO form, to the microsecond.
    Time(String),
}

/// Something that must hold of a row; columns by their places in the table.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Part {
    /// A column lies between two values, both included.
    Between { place: usize, low: Option<Bound>, high: Option<Bound> },
    /// A column has one of these texts.
    OneOf { place: usize, texts: Vec<String> },
    /// A column has no value.
    Blank { place: usize, shape: Shape },
    /// A column has a value.
    Filled { place: usize },
}

/// What must hold of the rows that somebody wants.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Wish {
    /// The columns that are compared, and what they hold.
    pub(super) compared: Vec<(usize, Shape)>,
    /// All of these.
    pub(super) parts: Vec<Part>,
}

/// The rows that anybody wants: those of any of these wishes; all rows where there are none.
pub(super) type Kept = Vec<Wish>;

/// What can be handed on of what is wanted.
pub(super) fn kept(wanted: &Wanted<'_>) -> Kept {
    let is_forced = |want: &Want| match *want {
        // What a row is called by is its place among all; so it is in messages of values that cannot be read.
        Want::Number => true,
        Want::Values { column, .. } => wanted.columns.states()[column].forced.is_some(),
        _ => false,
    };
    if wanted.wants.iter().any(is_forced) {
        return Kept::new();
    }
    let wishes = wanted.bounds.of.iter().map(|limits| wish(limits, wanted));
    wishes.collect::<Option<_>>().unwrap_or_default()
}

/// What somebody wishes; `None` where that is all rows, or cannot be said.
fn wish(limits: &Limits, wanted: &Wanted<'_>) -> Option<Wish> {
    // The place of a column and what it holds, where its values are those of the table.
    let of = |column: usize| {
        let place = wanted.wants.iter().find_map(|want| match *want {
            Want::Values { column: of, place } if of == column => Some(place),
            _ => None,
        })?;
        let is_plain = wanted.columns.states()[column].missing.is_empty();
        is_plain.then(|| (place, wanted.columns.reading(column, wanted.file).shape))
    };
    let compared = limits.columns.iter().map(|&column| of(column)).collect::<Option<_>>()?;
    let mut parts = Vec::new();
    for range in &limits.ranges {
        let (place, shape) = of(range.column)?;
        let low = range.low.as_ref().map(|value| bound(value, shape));
        let high = range.high.as_ref().map(|value| bound(value, shape));
        // One that cannot be said asks for nothing: more rows are no harm.
        if low != Some(None) && high != Some(None) {
            parts.push(Part::Between { place, low: low.flatten(), high: high.flatten() });
        }
    }
    for one_of in &limits.texts {
        let (place, shape) = of(one_of.column)?;
        let can_be_said = |text: &String| !text.trim().is_empty() && !text.contains('\0');
        // Without it, what is told of its texts would be told of fewer rows.
        if shape != Shape::Text || !one_of.texts.iter().all(can_be_said) {
            return None;
        }
        parts.push(Part::OneOf { place, texts: one_of.texts.clone() });
    }
    let blank = limits.blank.iter().filter_map(|&column| of(column));
    parts.extend(blank.map(|(place, shape)| Part::Blank { place, shape }));
    let filled = limits.filled.iter().filter_map(|&column| of(column));
    parts.extend(filled.map(|(place, _)| Part::Filled { place }));
    (!parts.is_empty()).then_some(Wish { compared, parts })
}

/// A value that a column of a shape is compared with.
fn bound(value: &Value, shape: Shape) -> Option<Bound> {
    match (value, shape) {
        (Value::Number(number), Shape::Number(_)) => Some(Bound::Number(number.to_string())),
        (Value::Date(_), Shape::Date(_)) => Some(Bound::Day(value.to_string())),
        (Value::DateTime(_), Shape::DateTime) => Some(Bound::Time(value.to_string())),
        _ => None,
    }
}

/// How a database says it.
pub(super) trait Dialect {
    /// Whether a column plainly has a value of a shape; `None` where that cannot be said.
    fn has_value(&self, place: usize, shape: Shape) -> Option<String>;

    /// A column that has a value, and a value, as they compare; `None` where their order may be another one.
    fn compared(&self, place: usize, bound: &Bound) -> Option<(String, String)>;

    /// A column, so that texts compare byte by byte.
    fn text(&self, place: usize) -> String;

    /// Whether a text holds more than printable ASCII.
    fn is_beyond_ascii(&self, text: &str) -> String;

    /// A text.
    fn literal(&self, text: &str) -> String;

    /// What a column is called.
    fn column(&self, place: usize) -> String;
}

/// The condition on rows.
pub(super) struct Condition {
    /// That somebody wants a row.
    pub(super) wanted: String,
    /// Each of these must hold of some row, or all rows are wanted.
    pub(super) some: Vec<String>,
}

/// What a database is asked; `None` where it is asked for all rows.
pub(super) fn condition(kept: &Kept, dialect: &dyn Dialect) -> Option<Condition> {
    let mut any = Vec::new();
    let mut some = Vec::new();
    for wish in kept {
        let (wanted, of_texts) = say(wish, dialect)?;
        any.push(wanted);
        some.extend(of_texts);
    }
    let wanted = any.join(" OR ");
    (!any.is_empty()).then_some(Condition { wanted, some })
}

/// That somebody's wish is met, and for each text that some row has it.
fn say(wish: &Wish, dialect: &dyn Dialect) -> Option<(String, Vec<String>)> {
    let are_there = wish.compared.iter().map(|(place, shape)| dialect.has_value(*place, *shape));
    let are_there = are_there.collect::<Option<Vec<String>>>()?;
    let mut holds = Vec::new();
    let (mut alike, mut texts_asked) = (Vec::new(), Vec::new());
    for part in &wish.parts {
        match part {
            Part::Between { place, low, high } => {
                for (bound, sign) in [(low, ">="), (high, "<=")] {
                    let compared = bound.as_ref().and_then(|b| dialect.compared(*place, b));
                    holds
                        .extend(compared.map(|(column, value)| format!("{column} {sign} {value}")));
                }
            }
            Part::OneOf { place, texts } => {
                let column = dialect.text(*place);
                let all = |texts: &mut dyn Iterator<Item = String>| {
                    texts.map(|text| dialect.literal(&text)).collect::<Vec<_>>().join(", ")
                };
                let exactly = format!("{column} IN ({})", all(&mut texts.iter().cloned()));
                let bare = |text: &String| plain_label(text).replace(' ', "");
                let bare = all(&mut texts.iter().map(bare));
                let beyond = dialect.is_beyond_ascii(&column);
                alike.push(format!(
                    "NOT ({exactly}) AND ({beyond} OR replace(lower({column}), ' ', '') IN ({bare}))"
                ));
                let is = |text: &String| format!("{column} = {}", dialect.literal(text));
                texts_asked.extend(texts.iter().map(is));
                holds.push(exactly);
            }
            Part::Blank { place, shape } => {
                let has_value = dialect.has_value(*place, *shape);
                holds.extend(has_value.map(|has_value| format!("({has_value}) IS NOT TRUE")));
            }
            Part::Filled { place } => {
                holds.push(format!("{} IS NOT NULL", dialect.column(*place)));
            }
        }
    }
    if holds.is_empty() {
        return None;
    }
    let all = |parts: &[String]| {
        let parts: Vec<String> = parts.iter().map(|part| format!("({part})")).collect();
        if parts.is_empty() { "1 = 1".to_owned() } else { parts.join(" AND ") }
    };
    let (are_there, holds) = (all(&are_there), all(&holds));
    // What is not known is kept: `NULL` is neither.
    let mut wanted = format!("({are_there}) IS NOT TRUE OR ({holds})");
    alike.iter().for_each(|alike| wanted.push_str(&format!(" OR ({alike})")));
    let some = texts_asked.iter().map(|is| format!("{is} AND {are_there} AND {holds}")).collect();
    Some((format!("({wanted})"), some))
}
