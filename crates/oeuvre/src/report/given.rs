//! Values that are given when a report is run: `[given]` and `--given NAME=VALUE`.
//!
//! In a calculation `$name` stands for the value as if its text stood in quotes there, and is never read as a part
//! of the calculation. In titles, texts, headings and names of files it is replaced by how the value reads, and `$$`
//! stands for a dollar.

use super::file::{File, Mistakes, Section, Written};
use oeuvre_columns::names::{either, nearest};
use oeuvre_columns::value::calendar::{Period, parse_date};
use oeuvre_columns::{Choice, Value, choices};
use oeuvre_core::{Diagnostic, Error, Given, Givens};
use std::ops::Range;
use toml::de::DeValue;

choices! {
    /// The kind of a value that is given.
    pub(super) enum GivenKind {
        Number = "number": "A number",
        Text = "text": "A text",
        Date = "date": "A date, such as 2025-03-01",
        Period = "period": "A period, such as 2025-03 or 2025-Q1",
    }
}

/// A value that may be given.
pub(super) struct GivenDefinition {
    pub(super) name: String,
    pub(super) span: Range<usize>,
    pub(super) default: Option<Default>,
    pub(super) one_of: Vec<String>,
    pub(super) kind: GivenKind,
}

/// What holds when it is not given.
pub(super) enum Default {
    Value(Written),
    /// Worked out over the rows of the report.
    Calc(Written),
}

/// Reads `[given]`.
pub(super) fn read(section: Section<'_>, mistakes: &mut Mistakes) -> Vec<GivenDefinition> {
    let mut all = Vec::new();
    for (name, span, value) in section.entries() {
        if !is_name(name) {
            let it =
                section.file.mistake(span.clone(), format!("`{name}` cannot stand behind a $"));
            mistakes.add(it.label("expected letters, digits and _"));
        }
        let Some(inner) = section.of_value(value) else {
            // Its default alone.
            match section.file.written(value) {
                Some(text) => all.push(GivenDefinition {
                    name: name.to_owned(),
                    span,
                    kind: kind_of(value.get_ref()),
                    default: Some(Default::Value(text)),
                    one_of: Vec::new(),
                }),
                None => mistakes.add(section.is_not(name, value, "a default, or a table")),
            }
            continue;
        };
        inner.ensure_known(super::sections::OF_GIVEN, mistakes);
        let of_default = inner.get("default");
        let default = match of_default.and_then(|value| inner.of_value(value)) {
            Some(calc) => {
                calc.ensure_known(&["calc"], mistakes);
                calc.text("calc", mistakes).map(Default::Calc)
            }
            None => inner.text("default", mistakes).map(Default::Value),
        };
        let kind = match inner.text("kind", mistakes) {
            Some(text) => text.value.parse().unwrap_or_else(|()| {
                let names: Vec<&str> = GivenKind::ALL.iter().map(|c| c.1).collect();
                let it = section
                    .file
                    .mistake(text.span.clone(), format!("there is no kind `{}`", text.value));
                mistakes.add(it.label(format!("expected {}", either(&names))));
                GivenKind::Text
            }),
            None => of_default.map_or(GivenKind::Text, |value| kind_of(value.get_ref())),
        };
        let one_of = inner.texts("one-of", mistakes).into_iter().map(|t| t.value).collect();
        all.push(GivenDefinition { name: name.to_owned(), span, default, one_of, kind });
    }
    all
}

fn is_name(name: &str) -> bool {
    name.chars().all(|c| c.is_alphanumeric() || c == '_')
        && !name.starts_with(|c: char| c.is_ascii_digit())
        && !name.is_empty()
}

/// The kind of a default.
fn kind_of(value: &DeValue<'_>) -> GivenKind {
    match value {
        DeValue::Integer(_) | DeValue::Float(_) => GivenKind::Number,
        DeValue::Datetime(_) => GivenKind::Date,
        _ => GivenKind::Text,
    }
}

/// Values that are worked out, each with the calculation.
pub(super) type Open<'a> = Vec<(&'a GivenDefinition, &'a Written)>;

/// What is known before any row is read: what was given, and defaults that are values. The others are named.
pub(super) fn known<'a>(
    file: &File,
    definitions: &'a [GivenDefinition],
    given: &[String],
) -> Result<(Givens, Open<'a>), Error> {
    let mut values = Givens::new();
    let mut mistakes = Mistakes::default();
    for text in given {
        let help = "write --given NAME=VALUE, such as --given month=2025-03";
        let Some((name, value)) = text.split_once('=') else {
            return Err(Error::request_with_help(format!("--given '{text}' has no value"), help));
        };
        let name = name.trim();
        let Some(definition) = definitions.iter().find(|d| d.name == name) else {
            let names: Vec<&str> = definitions.iter().map(|d| d.name.as_str()).collect();
            let help = match nearest(name, names.iter().copied()).first() {
                Some(near) => format!("did you mean `{near}`?"),
                None if names.is_empty() => "the report takes no values".to_owned(),
                None => format!("it takes {}", oeuvre_columns::names::all_of(&names)),
            };
            let message = format!("--given {name}: the report knows no such value");
            return Err(Error::request_with_help(message, help));
        };
        let value = definition
            .value(value)
            .map_err(|problem| Error::request(format!("--given {name}: {problem}")))?;
        values.insert(name.to_owned(), value);
    }
    let mut open = Vec::new();
    for definition in
        definitions.iter().filter(|d| !values.contains_key(&d.name)).collect::<Vec<_>>()
    {
        match &definition.default {
            Some(Default::Value(text)) => match definition.value(&text.value) {
                Ok(value) => {
                    values.insert(definition.name.clone(), value);
                }
                Err(problem) => mistakes.add(file.mistake(text.span.clone(), problem)),
            },
            Some(Default::Calc(calc)) => open.push((definition, calc)),
            None => {
                let name = &definition.name;
                let message = format!("`{name}` has no default, and is not given");
                let it = file.mistake(definition.span.clone(), message);
                mistakes.add(it.help(format!("give it: --given {name}=VALUE")));
            }
        }
    }
    mistakes.none()?;
    Ok((values, open))
}

impl GivenDefinition {
    /// A text as a value of its kind.
    fn value(&self, text: &str) -> Result<Given, String> {
        let text = text.trim();
        if !self.one_of.is_empty() && !self.one_of.iter().any(|one| one == text) {
            return Err(format!(
                "`{text}` is not among {}",
                oeuvre_columns::names::all_of(&self.one_of)
            ));
        }
        let is_none = |what: &str| format!("`{text}` is no {what}");
        match self.kind {
            GivenKind::Number => text.parse().map(Given::Number).map_err(|()| is_none("number")),
            GivenKind::Date if parse_date(text).is_none() => {
                Err(is_none("date, such as 2025-03-01"))
            }
            GivenKind::Period if Period::parse(text).is_none() => {
                Err(is_none("period, such as 2025-03, 2025-Q1 or 2025"))
            }
            _ => Ok(Given::Text(text.to_owned())),
        }
    }

    /// A value that was worked out.
    pub(super) fn found(&self, value: &Value) -> Result<Given, String> {
        match value {
            Value::Missing => Err("no row has a value to work it out from".to_owned()),
            Value::Number(number) => Ok(Given::Number(*number)),
            other => self.value(&other.to_string()),
        }
    }
}

/// A text in which `$name` is replaced by how the value reads.
pub(super) fn filled(written: &Written, givens: &Givens) -> Result<String, Diagnostic> {
    filled_text(&written.value, givens).map_err(|message| written.mistake(message))
}

/// As [`filled`], of a text by itself; what is wrong in words.
pub(super) fn filled_text(text: &str, givens: &Givens) -> Result<String, String> {
    let mut out = String::new();
    let mut rest = text;
    while let Some(at) = rest.find('$') {
        out.push_str(&rest[..at]);
        rest = &rest[at + 1..];
        if let Some(behind) = rest.strip_prefix('$') {
            out.push('$');
            rest = behind;
            continue;
        }
        let len = rest.find(|c: char| !c.is_alphanumeric() && c != '_').unwrap_or(rest.len());
        let name = &rest[..len];
        // An amount in dollars is no name.
        if name.is_empty() || name.starts_with(|c: char| c.is_ascii_digit()) {
            out.push('$');
            continue;
        }
        match givens.get(name) {
            Some(value) => out.push_str(&value.to_string()),
            None => {
                let near = nearest(name, givens.keys().map(String::as_str));
                return Err(match near.first() {
                    Some(near) => format!("no value `${name}` is given; did you mean `${near}`?"),
                    None => format!("no value `${name}` is given; $$ stands for a dollar"),
                });
            }
        }
        rest = &rest[len..];
    }
    out.push_str(rest);
    Ok(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("Revenue in $month", Ok("Revenue in 2025-03"))]
    #[case("$month.csv, $limit", Ok("2025-03.csv, 1.50"))]
    #[case("at $5 a seat, in $$", Ok("at $5 a seat, in $"))]
    #[case("$mnth", Err("no value `$mnth` is given; did you mean `$month`?"))]
    fn names_behind_a_dollar_read_as_their_values(
        #[case] text: &str,
        #[case] expected: Result<&str, &str>,
    ) {
        let month = Given::Text("2025-03".into());
        let limit = Given::Number("1.50".parse().unwrap());
        let givens = Givens::from([("month".into(), month), ("limit".into(), limit)]);
        let found = filled_text(text, &givens);
        assert_eq!(found.as_deref().map_err(String::as_str), expected);
    }
}
