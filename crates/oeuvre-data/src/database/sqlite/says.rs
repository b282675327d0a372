//! How SQLite says what is handed on to it.

use super::super::kept::{Bound, Dialect};
use super::super::quoted;
use crate::kinds::values::Shape;

/// The columns as the database calls them.
pub(super) struct Says<'c>(pub(super) &'c [String]);

impl Dialect for Says<'_> {
    fn has_value(&self, place: usize, shape: Shape) -> Option<String> {
        let c = self.column(place);
        match shape {
            // Neither infinite: there, no number is `NULL`.
            Shape::Number(_) | Shape::Float => Some(format!(
                "typeof({c}) = 'integer' OR (typeof({c}) = 'real' AND abs({c}) <= 1.7976931348623157e308)"
            )),
            // A day of the calendar, with a time where it has one that it knows itself.
            Shape::Date(_) | Shape::DateTime => Some(format!(
                "typeof({c}) = 'text' AND (length({c}) = 10 AND date({c}) = {c} \
                 OR length({c}) = 19 AND datetime({c}) = replace({c}, 'T', ' '))"
            )),
            Shape::Text => Some(format!("typeof({c}) = 'text' AND trim({c}) <> ''")),
            _ => None,
        }
    }

    fn compared(&self, place: usize, bound: &Bound) -> Option<(String, String)> {
        /// So many digits are the same as binary64.
        const DIGITS: usize = 15;
        let column = self.column(place);
        match bound {
            Bound::Number(n) if n.contains('.') && n.len() > DIGITS => None,
            Bound::Number(n) => Some((column, n.clone())),
            // By the day alone, because the sign before the time may be another one.
            Bound::Day(at) | Bound::Time(at) => {
                let day = at.get(..10).unwrap_or(at);
                Some((format!("substr({column}, 1, 10)"), format!("'{day}'")))
            }
        }
    }

    fn text(&self, place: usize) -> String {
        format!("({} COLLATE BINARY)", self.column(place))
    }

    fn is_beyond_ascii(&self, text: &str) -> String {
        format!("{text} GLOB '*[^ -~]*'")
    }

    fn literal(&self, text: &str) -> String {
        format!("'{}'", text.replace('\'', "''"))
    }

    fn column(&self, place: usize) -> String {
        quoted(&self.0[place])
    }
}

#[cfg(test)]
mod tests {
    use super::super::super::kept::{Part, Wish, condition};
    use super::*;

    #[test]
    fn conditions_leave_out_only_what_is_known() {
        let low = Some(Bound::Number("12.5".into()));
        let between = Part::Between { place: 0, low, high: None };
        let wish = Wish { compared: vec![(0, Shape::Number(2))], parts: vec![between] };
        let columns = ["fa\"re".to_owned()];
        let asked = condition(&vec![wish], &Says(&columns)).unwrap();
        assert!(asked.some.is_empty());
        assert!(
            asked.wanted.starts_with("(((typeof(\"fa\"\"re\") = 'integer' OR"),
            "{}",
            asked.wanted
        );
        assert!(
            asked.wanted.ends_with("IS NOT TRUE OR ((\"fa\"\"re\" >= 12.5)))"),
            "{}",
            asked.wanted
        );
        let of = Part::OneOf { place: 0, texts: vec!["O'Hara  St".into()] };
        let wish = Wish { compared: vec![(0, Shape::Text)], parts: vec![of] };
        let asked = condition(&vec![wish], &Says(&["name".to_owned()])).unwrap();
        assert!(asked.wanted.contains("IN ('o''harast')"), "{}", asked.wanted);
        assert_eq!(asked.some.len(), 1);
    }
}
