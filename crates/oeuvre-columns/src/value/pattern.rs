//! Dates as people write them: patterns of Unicode's date fields (UTS 35), and English names of months.
//!
//! Understood are `yyyy`, `yy`, `y`, `MM`, `M`, `MMM` (Jan), `MMMM` (January), `dd`, `d`, `HH`, `H`, `mm` and
//! `ss`; what stands in single quotes, and every other character, stands for itself. Two-digit years are those
//! from 1970 to 2069.
//!
//! ```
//! use oeuvre_columns::value::calendar::{date, DAY_MICROS};
//! use oeuvre_columns::value::pattern::DatePattern;
//!
//! let pattern = DatePattern::parse("dd-MMM-yy").unwrap();
//! assert_eq!(pattern.read("05-Jan-25"), date(2025, 1, 5).map(|day| (day, 0)));
//! assert_eq!(pattern.read("05-13-25"), None);
//! assert!(DatePattern::parse("dd.QQQ").is_err());
//! assert!(DatePattern::parse("dd.mm.yyyy").is_err()); // a month is MM
//! let stamp = DatePattern::parse("yyyyMMdd HHmm").unwrap();
//! assert_eq!(stamp.read("20250105 0930"), date(2025, 1, 5).map(|day| (day, (9 * 60 + 30) * 60_000_000)));
//! ```

use super::calendar::{Part, date};

/// The year that two digits stand for.
pub fn two_digit_year(year: i32) -> i32 {
    if year < 70 { 2000 + year } else { 1900 + year }
}

/// The month, from 1, that an English name or its first three letters stand for, in any case.
pub fn month_of_name(name: &str) -> Option<u32> {
    let name = name.strip_suffix('.').unwrap_or(name);
    let is_name = |label: &&str| {
        label.eq_ignore_ascii_case(name) || name.len() == 3 && label[..3].eq_ignore_ascii_case(name)
    };
    let place = Part::MonthName.labels().iter().position(is_name);
    place.map(|place| place as u32 + 1)
}

/// A part of a pattern.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
enum Field {
    /// A number: its letter, and how many digits it has; 0 for as many as there are.
    Number(char, usize),
    /// The name of a month.
    MonthName,
    /// A character that stands for itself.
    Literal(char),
}

/// What fields cannot be meant so: a slip such as `dd.mm.yyyy` would read every date as one in January.
fn mistake(fields: &[Field]) -> Option<&'static str> {
    let count = |letter: char| {
        let is = |f: &&Field| match f {
            Field::Number(c, _) => *c == letter,
            Field::MonthName => letter == 'M',
            Field::Literal(_) => false,
        };
        fields.iter().filter(is).count()
    };
    let without = |letter, other| count(letter) > 0 && count(other) == 0;
    match () {
        () if without('m', 'H') => Some("it has minutes, mm, without an hour, HH: a month is MM"),
        () if count('y') == 0 => Some("it has no year: yyyy or yy"),
        () if "yMdHms".chars().any(|letter| count(letter) > 1) => Some("it has a field twice"),
        () if without('d', 'M') => Some("it has a day without a month: MM or MMM"),
        () if without('s', 'm') => Some("it has seconds, ss, without minutes, mm"),
        () => None,
    }
}

/// A pattern of date fields.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct DatePattern {
    fields: Vec<Field>,
}

impl DatePattern {
    /// Reads a pattern.
    ///
    /// # Errors
    /// What in it is not understood.
    pub fn parse(pattern: &str) -> Result<DatePattern, String> {
        let mut fields = Vec::new();
        let mut letters = pattern.chars().peekable();
        while let Some(c) = letters.next() {
            if c == '\'' {
                let quoted = std::iter::from_fn(|| letters.next().filter(|&c| c != '\''));
                fields.extend(quoted.map(Field::Literal));
                continue;
            }
            let mut n = 1;
            while letters.next_if_eq(&c).is_some() {
                n += 1;
            }
            fields.extend(match (c, n) {
                ('y', 1) => vec![Field::Number('y', 0)],
                ('y', 2 | 4) | ('M' | 'd' | 'H' | 'm' | 's', 2) => vec![Field::Number(c, n)],
                ('M' | 'd' | 'H' | 'm' | 's', 1) => vec![Field::Number(c, 0)],
                ('M', 3 | 4) => vec![Field::MonthName],
                (c, n) if c.is_ascii_alphabetic() => {
                    let letters = String::from(c).repeat(n);
                    return Err(format!(
                        "`{letters}` is not understood: year yyyy or yy, month MM or MMM, day dd, hour HH, minute mm, second ss"
                    ));
                }
                (c, n) => vec![Field::Literal(c); n],
            });
        }
        match mistake(&fields) {
            Some(mistake) => Err(mistake.to_owned()),
            None => Ok(DatePattern { fields }),
        }
    }

    /// Whether it has a time of day.
    pub fn has_time(&self) -> bool {
        self.fields.iter().any(|f| matches!(f, Field::Number('H' | 'm' | 's', _)))
    }

    /// The day that a text stands for, in days since 1970-01-01, and the microseconds after its midnight;
    /// `None` where it does not fit the pattern.
    pub fn read(&self, text: &str) -> Option<(i32, i64)> {
        let (mut rest, mut year, mut month, mut day) = (text, None, 1u32, 1u32);
        let mut clock = [0i64; 3];
        for field in &self.fields {
            match *field {
                Field::Literal(c) => rest = rest.strip_prefix(c)?,
                Field::MonthName => {
                    let end = rest.find(|c: char| !c.is_alphabetic()).unwrap_or(rest.len());
                    month = month_of_name(&rest[..end])?;
                    rest = &rest[end..];
                }
                Field::Number(letter, digits) => {
                    let most = match (letter, digits) {
                        ('y', 0) => 4,
                        (_, 0) => 2,
                        (_, n) => n,
                    };
                    let len = rest.bytes().take(most).take_while(u8::is_ascii_digit).count();
                    if len == 0 || (digits > 0 && len != digits) {
                        return None;
                    }
                    let number: u32 = rest[..len].parse().ok()?;
                    rest = &rest[len..];
                    match letter {
                        'y' if digits == 2 => year = Some(two_digit_year(number as i32)),
                        'y' => year = Some(number as i32),
                        'M' => month = number,
                        'd' => day = number,
                        'H' if number < 24 => clock[0] = i64::from(number),
                        'm' if number < 60 => clock[1] = i64::from(number),
                        's' if number < 60 => clock[2] = i64::from(number),
                        _ => return None,
                    }
                }
            }
        }
        let seconds = (clock[0] * 60 + clock[1]) * 60 + clock[2];
        rest.is_empty()
            .then(|| date(year?, month, day))
            .flatten()
            .map(|day| (day, seconds * 1_000_000))
    }
}
