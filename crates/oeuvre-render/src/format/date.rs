//! Date patterns: `d MMM yyyy`, `'Q'Q yyyy` (UTS #35 part 4, Date Field Symbol Table). A period reads
//! as its first day does. Names are English.

use oeuvre_columns::Value;
use oeuvre_columns::value::calendar::{Part, Period, Unit, civil_from_days, date_text};
use std::fmt::Write as _;

/// A date pattern.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct DatePattern {
    fields: Vec<Field>,
}

#[derive(Clone, Debug, PartialEq)]
enum Field {
    Text(String),
    /// A letter and how often it stands.
    Part(char, usize),
}

const LETTERS: &str = "yMdEQwYHms";

impl DatePattern {
    /// Reads a pattern.
    ///
    /// # Errors
    /// What is wrong with it, in words.
    pub(crate) fn parse(text: &str) -> Result<DatePattern, String> {
        let mut fields: Vec<Field> = Vec::new();
        let mut chars = text.chars().peekable();
        let literal = |fields: &mut Vec<Field>, c: char| match fields.last_mut() {
            Some(Field::Text(text)) => text.push(c),
            _ => fields.push(Field::Text(c.to_string())),
        };
        let mut quoted = false;
        while let Some(c) = chars.next() {
            match c {
                '\'' if chars.peek() == Some(&'\'') => {
                    chars.next();
                    literal(&mut fields, '\'');
                }
                '\'' => quoted = !quoted,
                c if quoted => literal(&mut fields, c),
                c if LETTERS.contains(c) => match fields.last_mut() {
                    Some(Field::Part(last, n)) if *last == c => *n += 1,
                    _ => fields.push(Field::Part(c, 1)),
                },
                c if c.is_ascii_alphabetic() => {
                    return Err(format!(
                        "`{c}` is no part of a date; y M d E Q w Y H m s are, and a text is written in single quotes"
                    ));
                }
                c => literal(&mut fields, c),
            }
        }
        if quoted {
            return Err("a quote is not closed".into());
        }
        if !fields.iter().any(|f| matches!(f, Field::Part(..))) {
            return Err("it shows no part of the date, such as MMM yyyy".into());
        }
        Ok(DatePattern { fields })
    }

    /// The pattern in the language of workbooks, where it can be said there.
    #[cfg(any(feature = "ods", feature = "xlsx"))]
    pub(crate) fn sheet_format(&self) -> Option<String> {
        let mut out = String::new();
        let mut named = false;
        for field in &self.fields {
            let text = match field {
                Field::Text(text) => {
                    let quoted = |c: char| match c {
                        '"' => "\\\"".to_owned(),
                        c => format!("\"{c}\""),
                    };
                    text.chars().map(quoted).collect::<String>().replace("\"\"", "")
                }
                Field::Part('y', 2) => "yy".to_owned(),
                Field::Part('y', _) => "yyyy".to_owned(),
                Field::Part('M', n) => "m".repeat((*n).min(4)),
                Field::Part('d', n) => "d".repeat((*n).min(2)),
                Field::Part('E', n) => if *n >= 4 { "dddd" } else { "ddd" }.to_owned(),
                Field::Part('H', n) => "h".repeat((*n).min(2)),
                // Minutes are told from months by the hour before them alone.
                Field::Part('m', n) if out.contains('h') => "m".repeat((*n).min(2)),
                Field::Part('s', n) => "s".repeat((*n).min(2)),
                Field::Part(..) => return None,
            };
            named |= matches!(field, Field::Part('M', 3..) | Field::Part('E', _));
            out.push_str(&text);
        }
        // Names are English here, and there those of the reader's language unless one is named.
        Some(if named { format!("[$-409]{out}") } else { out })
    }

    /// Adds a date, a time or a period; false for anything else.
    pub(crate) fn push(&self, out: &mut String, value: &Value) -> bool {
        let (days, seconds) = match value {
            Value::Date(d) => (*d, 0),
            Value::DateTime(micros) => {
                let seconds = micros.div_euclid(1_000_000);
                (seconds.div_euclid(86_400) as i32, seconds.rem_euclid(86_400))
            }
            Value::Period(p) => (p.first_day(), 0),
            _ => return false,
        };
        let (year, month, day) = civil_from_days(days);
        for field in &self.fields {
            let (letter, n) = match field {
                Field::Text(text) => {
                    out.push_str(text);
                    continue;
                }
                Field::Part(letter, n) => (*letter, *n),
            };
            let digits = |out: &mut String, number: i64| {
                let _ = write!(out, "{number:0n$}");
            };
            let name = |out: &mut String, name: &str| {
                out.push_str(if n >= 4 { name } else { &name[..3] });
            };
            match letter {
                'y' if n == 2 => digits(out, i64::from(year.rem_euclid(100))),
                'y' => digits(out, i64::from(year)),
                'M' if n >= 3 => name(out, Part::MonthName.labels()[month as usize - 1]),
                'M' => digits(out, i64::from(month)),
                'd' => digits(out, i64::from(day)),
                // 1970-01-01 was a Thursday.
                'E' => name(out, Part::Weekday.labels()[(days + 3).rem_euclid(7) as usize]),
                'Q' if n >= 3 => {
                    let _ = write!(out, "Q{}", month.div_ceil(3));
                }
                'Q' => digits(out, i64::from(month.div_ceil(3))),
                'w' | 'Y' => {
                    // The ISO week's year is that of its Thursday.
                    let index = Unit::Week.of_day(days);
                    let week = Period { unit: Unit::Week, index };
                    let thursday = civil_from_days(week.first_day() + 3).0;
                    let text = week.to_string();
                    match letter {
                        'Y' if n == 2 => digits(out, i64::from(thursday.rem_euclid(100))),
                        'Y' => digits(out, i64::from(thursday)),
                        _ => digits(
                            out,
                            text.rsplit('W').next().and_then(|w| w.parse().ok()).unwrap_or(0),
                        ),
                    }
                }
                'H' => digits(out, seconds / 3600),
                'm' => digits(out, seconds / 60 % 60),
                's' => digits(out, seconds % 60),
                _ => out.push_str(&date_text(days)),
            }
        }
        true
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("d MMM yyyy", "2025-03", "1 Mar 2025")]
    #[case("MMMM yy", "2025-03", "March 25")]
    #[case("QQQ yyyy", "2025-Q2", "Q2 2025")]
    #[case("'quarter' Q", "2025-Q2", "quarter 2")]
    #[case("'week' w/YYYY", "2025-W01", "week 1/2025")]
    #[case("w/YY", "2025-W01", "1/25")]
    #[case("EEE dd.MM.yyyy", "2025-03-14", "Fri 14.03.2025")]
    #[case("EEEE", "2025-03-14", "Friday")]
    #[case("yyyy", "2025-H2", "2025")]
    fn periods_read_as_the_pattern_says(
        #[case] pattern: &str,
        #[case] period: &str,
        #[case] text: &str,
    ) {
        let mut out = String::new();
        let period = Period::parse(period).unwrap();
        assert!(DatePattern::parse(pattern).unwrap().push(&mut out, &Value::Period(period)));
        assert_eq!(out, text);
    }

    #[test]
    fn times_have_hours_and_minutes() {
        let mut out = String::new();
        let noon = Value::DateTime(43_200_000_000 + 60_000_000);
        assert!(DatePattern::parse("yyyy-MM-dd HH:mm").unwrap().push(&mut out, &noon));
        assert_eq!(out, "1970-01-01 12:01");
    }

    #[rstest]
    #[case("xyz")]
    #[case("'yyyy'")]
    #[case("yyyy '")]
    fn what_is_no_pattern_is_said(#[case] pattern: &str) {
        assert!(DatePattern::parse(pattern).is_err());
    }
}
