//! Number patterns: `#,##0.00`, `0.0%`, `#,##0.00 €;(#,##0.00 €)` (UTS #35 part 3, Number Format
//! Patterns). Rounding is to the nearest, halves away from zero, from the exact value: that of the decimal, of
//! the quotient where its parts are known, else of the binary64.

use crate::cells::Quotient;
use num_bigint::BigInt;
use oeuvre_columns::Value;
use oeuvre_columns::value::exact::{f64_to_ratio, round_half_away};

/// A number pattern.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct NumberPattern {
    prefix: String,
    suffix: String,
    negative: Option<(String, String)>,
    whole_digits: usize,
    least_fraction: usize,
    most_fraction: usize,
    /// The size of the last group of the whole part, and of those before it; 0 for no groups.
    groups: (usize, usize),
    /// The power of ten that values are multiplied by: 2 for percent, 3 for per mille.
    power: u32,
}

/// The affixes and the digits of a subpattern.
struct Parts {
    prefix: String,
    digits: String,
    suffix: String,
    power: u32,
}

fn parts(text: &str) -> Result<(Parts, &str), String> {
    let mut it =
        Parts { prefix: String::new(), digits: String::new(), suffix: String::new(), power: 0 };
    let (mut quoted, mut rest) = (false, "");
    let mut chars = text.char_indices().peekable();
    while let Some((at, c)) = chars.next() {
        let literal = match c {
            '\'' if chars.peek().is_some_and(|n| n.1 == '\'') => {
                chars.next();
                Some('\'')
            }
            '\'' => {
                quoted = !quoted;
                None
            }
            c if quoted => Some(c),
            ';' => {
                rest = &text[at + 1..];
                break;
            }
            '#' | '0' | ',' | '.' if it.suffix.is_empty() => {
                it.digits.push(c);
                None
            }
            '#' | '0' => return Err(format!("`{c}` stands behind the figure; quote it: '{c}'")),
            '1'..='9' | '@' | 'E' => {
                return Err(format!(
                    "`{c}` is not understood here; a text is written in single quotes"
                ));
            }
            '¤' => {
                return Err(
                    "`¤` stands for no currency here; write its sign, such as € or $".into()
                );
            }
            '%' => {
                it.power = 2;
                Some('%')
            }
            '‰' => {
                it.power = 3;
                Some('‰')
            }
            c => Some(c),
        };
        if let Some(c) = literal {
            if it.digits.is_empty() { it.prefix.push(c) } else { it.suffix.push(c) }
        }
    }
    if quoted {
        return Err("a quote is not closed".into());
    }
    Ok((it, rest))
}

impl NumberPattern {
    /// Reads a pattern.
    ///
    /// # Errors
    /// What is wrong with it, in words.
    pub(crate) fn parse(text: &str) -> Result<NumberPattern, String> {
        let (it, rest) = parts(text)?;
        let negative = match rest {
            "" => None,
            rest => parts(rest).map(|(n, _)| Some((n.prefix, n.suffix)))?,
        };
        let (whole, fraction) = it.digits.split_once('.').unwrap_or((&it.digits, ""));
        let shape = |s: &str, first: char, then: char| {
            s.trim_start_matches(first).chars().all(|c| c == then)
        };
        let bare = whole.replace(',', "");
        if it.digits.is_empty() || !shape(&bare, '#', '0') || !shape(fraction, '0', '#') {
            return Err("a figure is written with 0 for digits that always show and # for others, such as #,##0.00".into());
        }
        if fraction.len() > 30 {
            return Err("more than 30 digits after the point".into());
        }
        let mut sizes = whole.rsplit(',').map(str::len);
        let groups = match (whole.contains(','), sizes.next(), sizes.next()) {
            (false, ..) => (0, 0),
            (_, Some(0), _) => return Err("no digit behind the last comma".into()),
            (_, Some(last), Some(before)) if whole.matches(',').count() > 1 => (last, before),
            (_, last, _) => (last.unwrap_or(3), last.unwrap_or(3)),
        };
        Ok(NumberPattern {
            prefix: it.prefix,
            suffix: it.suffix,
            negative,
            whole_digits: bare.matches('0').count(),
            least_fraction: fraction.matches('0').count(),
            most_fraction: fraction.len(),
            groups,
            power: it.power,
        })
    }

    /// What it writes around figures.
    pub(crate) fn unit(&self) -> String {
        format!("{}{}", self.prefix, self.suffix).trim().to_owned()
    }

    /// The pattern in the language of workbooks, where it can be said there.
    #[cfg(any(feature = "ods", feature = "xlsx"))]
    pub(crate) fn sheet_format(&self) -> Option<String> {
        let whole = match self.groups {
            (0, _) => "0".repeat(self.whole_digits.max(1)),
            (3, 3) if self.whole_digits <= 4 => {
                let digits = format!(
                    "{}{}",
                    "#".repeat(4 - self.whole_digits),
                    "0".repeat(self.whole_digits)
                );
                format!("{},{}", &digits[..1], &digits[1..])
            }
            _ => return None,
        };
        // A format of a workbook multiplies by a hundred, and by nothing else.
        if self.power == 3 {
            return None;
        }
        let mut figure = whole;
        if self.most_fraction > 0 {
            figure.push('.');
            figure.push_str(&"0".repeat(self.least_fraction));
            figure.push_str(&"#".repeat(self.most_fraction - self.least_fraction));
        }
        let literal = |text: &str| -> String {
            let quoted = |c: char| match c {
                '%' if self.power == 2 => "%".to_owned(),
                '"' => "\\\"".to_owned(),
                c => format!("\"{c}\""),
            };
            text.chars().map(quoted).collect::<String>().replace("\"\"", "")
        };
        let side = |(prefix, suffix): (&str, &str)| {
            format!("{}{figure}{}", literal(prefix), literal(suffix))
        };
        let positive = side((&self.prefix, &self.suffix));
        match &self.negative {
            Some((prefix, suffix)) if *prefix != self.prefix || *suffix != self.suffix => {
                Some(format!("{positive};{}", side((prefix, suffix))))
            }
            _ => Some(positive),
        }
    }

    /// Adds a number, from its quotient where that is known; false for anything else.
    pub(crate) fn push(&self, out: &mut String, value: &Value, of: Quotient) -> bool {
        let (numerator, denominator) = match value {
            Value::Float(_) if let Some((a, b)) = of => (
                BigInt::from(a.mantissa) * BigInt::from(10).pow(u32::from(b.scale)),
                BigInt::from(b.mantissa) * BigInt::from(10).pow(u32::from(a.scale)),
            ),
            Value::Number(d) => {
                (BigInt::from(d.mantissa), BigInt::from(10).pow(u32::from(d.scale)))
            }
            Value::Float(f) => match f64_to_ratio(*f) {
                Some(ratio) => ratio,
                None => return false,
            },
            _ => return false,
        };
        let digits = self.power + self.most_fraction as u32;
        let rounded = round_half_away(numerator, denominator, digits);
        let negative = rounded.sign() == num_bigint::Sign::Minus;
        let mut digits = rounded.magnitude().to_string();
        while digits.len() < self.most_fraction + 1 {
            digits.insert(0, '0');
        }
        let (whole, fraction) = digits.split_at(digits.len() - self.most_fraction);
        let whole = whole.trim_start_matches('0');
        let whole = format!("{}{whole}", "0".repeat(self.whole_digits.saturating_sub(whole.len())));
        let mut fraction = fraction;
        while fraction.len() > self.least_fraction && fraction.ends_with('0') {
            fraction = &fraction[..fraction.len() - 1];
        }
        let (prefix, suffix) = match &self.negative {
            // Signs of negatives that are those of other numbers would hide which is which.
            Some((prefix, suffix))
                if negative && (*prefix != self.prefix || *suffix != self.suffix) =>
            {
                (prefix.as_str(), suffix.as_str())
            }
            _ => {
                if negative {
                    out.push('-');
                }
                (self.prefix.as_str(), self.suffix.as_str())
            }
        };
        out.push_str(prefix);
        let (last, before) = self.groups;
        for (i, c) in whole.chars().enumerate() {
            let left = whole.len() - i;
            let at_group = left == last || left > last && before > 0 && (left - last) % before == 0;
            if i > 0 && last > 0 && at_group {
                out.push(',');
            }
            out.push(c);
        }
        if whole.is_empty() && fraction.is_empty() {
            out.push('0');
        }
        if !fraction.is_empty() {
            out.push('.');
            out.push_str(fraction);
        }
        out.push_str(suffix);
        true
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use oeuvre_columns::Decimal;
    use rstest::rstest;

    #[rstest]
    #[case("#,##0.00", "1234567.895", "1,234,567.90")]
    #[case("#,##0.00", "-1234.5", "-1,234.50")]
    #[case("0.00", "0.125", "0.13")]
    #[case("0.00", "0.135", "0.14")]
    #[case("0.00", "-0.125", "-0.13")]
    #[case("#,##0", "2.5", "3")]
    #[case("#,##0", "-0.5", "-1")]
    #[case("0.0;0.0", "-5", "-5.0")]
    #[case("0.0;(0.0)", "-5", "(5.0)")]
    #[case("0.0%", "0.0671", "6.7%")]
    #[case("0.0‰", "0.0671", "67.1‰")]
    #[case("#,##0.00 €;(#,##0.00 €)", "-12", "(12.00 €)")]
    #[case("'about' #,##0", "1234", "about 1,234")]
    #[case("#,##,##0", "12345678", "1,23,45,678")]
    #[case("000", "7", "007")]
    #[case("#.##", "0.5", ".5")]
    #[case("#", "0", "0")]
    #[case("0.###", "1.50", "1.5")]
    #[case("0", "-0.4", "0")]
    #[case("0", "99999999999999999999999999999999999999", "99999999999999999999999999999999999999")]
    fn figures_read_as_the_pattern_says(
        #[case] pattern: &str,
        #[case] value: &str,
        #[case] text: &str,
    ) {
        let pattern = NumberPattern::parse(pattern).unwrap();
        let mut out = String::new();
        assert!(pattern.push(&mut out, &Value::Number(value.parse::<Decimal>().unwrap()), None));
        assert_eq!(out, text);
    }

    #[test]
    fn binary64_is_rounded_from_its_exact_value() {
        let pattern = NumberPattern::parse("0.0").unwrap();
        // 0.25 is exact and a half; 0.35 is a little less than it looks.
        for (value, text) in [(0.25, "0.3"), (0.35, "0.3"), (1e22, "10000000000000000000000.0")] {
            let mut out = String::new();
            assert!(pattern.push(&mut out, &Value::Float(value), None));
            assert_eq!(out, text);
        }
    }

    #[test]
    fn quotients_are_rounded_from_their_parts() {
        let decimal = |text: &str| text.parse::<Decimal>().unwrap();
        let mut out = String::new();
        let of = Some((decimal("3"), decimal("200")));
        assert!(NumberPattern::parse("0.00").unwrap().push(&mut out, &Value::Float(0.015), of));
        assert_eq!(out, "0.02");
    }

    #[rstest]
    #[case("")]
    #[case("abc")]
    #[case("0#")]
    #[case("0.#0")]
    #[case("¤0")]
    #[case("0,")]
    #[case("'0")]
    #[case("0.00E0")]
    fn what_is_no_pattern_is_said(#[case] pattern: &str) {
        assert!(NumberPattern::parse(pattern).is_err());
    }
}
