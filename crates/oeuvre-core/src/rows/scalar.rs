//! Functions of single values, for what is not worth a loop of its own.
//!
//! Each is a plain function from values to a value. Over texts it is called once for each distinct text, so that
//! a function of a category costs what the category has labels, not rows.
//!
//! If you add one: a variant with its arms here, and a row in `language/functions/row.rs`.
//!
//! ```
//! use oeuvre_columns::{Kind, Value};
//! use oeuvre_core::rows::scalar::Scalar;
//!
//! let text = |t: &str| Value::Text(t.into());
//! assert_eq!(Scalar::Upper.result(&[Kind::Text]), Kind::Text);
//! assert_eq!(Scalar::Upper.apply(&[text("ske")]), Ok(text("SKE")));
//! assert_eq!(Scalar::Upper.apply(&[Value::Missing]), Ok(Value::Missing));
//! ```

use oeuvre_columns::value::calendar::{
    DAY_MICROS, FIRST_DAY, LAST_DAY, civil_from_days, days_from_civil, days_in_month,
};
use oeuvre_columns::value::decimal::{Decimal, pow10};
use oeuvre_columns::value::exact::decimal_to_f64;
use oeuvre_columns::value::pattern::DatePattern;
use oeuvre_columns::value::{Bands, BandsId, Kind, Overflow, Value};
use std::sync::Arc;

/// A regular expression; two are the same where they are written the same.
#[derive(Clone, Debug)]
pub struct Pattern(pub regex::Regex);

impl PartialEq for Pattern {
    fn eq(&self, other: &Pattern) -> bool {
        self.0.as_str() == other.0.as_str()
    }
}

impl Eq for Pattern {}

impl std::hash::Hash for Pattern {
    fn hash<H: std::hash::Hasher>(&self, state: &mut H) {
        self.0.as_str().hash(state);
    }
}

/// A function of single values.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Scalar {
    /// The largest whole number that is not above x.
    Floor,
    /// The smallest whole number that is not below x.
    Ceiling,
    /// -1, 0 or 1.
    Sign,
    /// Square root; missing for negatives.
    Sqrt,
    /// x to the power of y.
    Power,
    /// Natural logarithm; missing unless positive.
    Ln,
    /// e to the power of x.
    Exp,
    /// What is left of a after whole multiples of b, with the sign of a (ISO SQL).
    Mod,
    /// The range that a number lies in.
    Band(BandsId, Arc<Bands>),
    /// Lower case.
    Lower,
    /// Upper case.
    Upper,
    /// Without spaces at both ends.
    Trim,
    /// Characters.
    Length,
    /// The first characters.
    Left,
    /// The last characters.
    Right,
    /// Every occurrence of one text replaced by another.
    Replace,
    /// Texts one behind the other; missing ones are left out.
    Concat,
    /// Whether a text holds another.
    Contains,
    /// Whether a text begins with another.
    StartsWith,
    /// Whether a text ends with another.
    EndsWith,
    /// Whether a regular expression is found in a text.
    Matches(Pattern),
    /// 1 to 31.
    MonthDay,
    /// 0 to 23.
    Hour,
    /// The first day of a period.
    Start,
    /// The last day of a period.
    End,
    /// The same day so many months later, or the last of that month.
    AddMonths,
    /// A number written as a text; missing where it is none.
    Number,
    /// A date written as a text in a pattern; missing where it is none.
    Date,
    /// Any value as a text.
    Text,
}

/// What an argument must be.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Expect {
    /// A number.
    Number,
    /// Text.
    Text,
    /// A date, with or without a time.
    Date,
    /// A datetime.
    DateTime,
    /// A period or a date.
    Period,
    /// Anything.
    Any,
}

impl Expect {
    /// Whether a kind will do.
    pub fn takes(self, kind: Kind) -> bool {
        match self {
            Expect::Number => kind.is_number(),
            Expect::Text => kind == Kind::Text,
            Expect::Date => matches!(kind, Kind::Date | Kind::DateTime | Kind::Period(_)),
            Expect::DateTime => kind == Kind::DateTime,
            Expect::Period => matches!(kind, Kind::Period(_) | Kind::Date),
            Expect::Any => true,
        }
    }

    /// The kind that what has no value is taken for; `None` where any will do.
    pub const fn kind(self) -> Option<Kind> {
        match self {
            Expect::Number => Some(Kind::Number { scale: 0 }),
            Expect::Text => Some(Kind::Text),
            Expect::Date | Expect::Period => Some(Kind::Date),
            Expect::DateTime => Some(Kind::DateTime),
            Expect::Any => None,
        }
    }

    /// The expectation in words.
    pub const fn describe(self) -> &'static str {
        match self {
            Expect::Number => "a number",
            Expect::Text => "text",
            Expect::Date => "a date",
            Expect::DateTime => "a date with a time",
            Expect::Period => "a period",
            Expect::Any => "a value",
        }
    }
}

impl Scalar {
    /// What the arguments must be; the last one stands for all further ones.
    pub const fn expects(&self) -> &'static [Expect] {
        use Expect::*;
        match self {
            Scalar::Lower | Scalar::Upper | Scalar::Trim | Scalar::Length => &[Text],
            Scalar::Left | Scalar::Right => &[Text, Number],
            Scalar::Replace
            | Scalar::Contains
            | Scalar::StartsWith
            | Scalar::EndsWith
            | Scalar::Matches(_)
            | Scalar::Number
            | Scalar::Date => &[Text],
            Scalar::MonthDay => &[Date],
            Scalar::Hour => &[DateTime],
            Scalar::Start | Scalar::End => &[Period],
            Scalar::AddMonths => &[Date, Number],
            Scalar::Concat | Scalar::Text => &[Any],
            _ => &[Number],
        }
    }

    /// The kind of the result.
    pub fn result(&self, args: &[Kind]) -> Kind {
        match self {
            Scalar::Floor | Scalar::Ceiling | Scalar::Sign | Scalar::Length => {
                Kind::Number { scale: 0 }
            }
            Scalar::MonthDay | Scalar::Hour => Kind::Number { scale: 0 },
            Scalar::Sqrt | Scalar::Power | Scalar::Ln | Scalar::Exp | Scalar::Number => Kind::Float,
            Scalar::Mod => match (args[0], args[1]) {
                (Kind::Number { scale: a }, Kind::Number { scale: b }) => {
                    Kind::Number { scale: a.max(b) }
                }
                _ => Kind::Float,
            },
            Scalar::Band(id, _) => Kind::Band(*id),
            Scalar::Contains | Scalar::StartsWith | Scalar::EndsWith | Scalar::Matches(_) => {
                Kind::Boolean
            }
            Scalar::Start | Scalar::End | Scalar::AddMonths | Scalar::Date => Kind::Date,
            _ => Kind::Text,
        }
    }

    /// The function's value. Missing arguments give missing, but for [`Scalar::Concat`].
    ///
    /// # Errors
    /// [`Overflow`] when a number does not fit.
    pub fn apply(&self, args: &[Value]) -> Result<Value, Overflow> {
        if !matches!(self, Scalar::Concat) && args.iter().any(Value::is_missing) {
            return Ok(Value::Missing);
        }
        let a = Args(args);
        match self {
            Scalar::Floor => step(&args[0], |q, r| if r < 0 { q - 1 } else { q }, f64::floor),
            Scalar::Ceiling => step(&args[0], |q, r| if r > 0 { q + 1 } else { q }, f64::ceil),
            Scalar::Sign => Ok(count(match a.float(0) {
                x if x > 0.0 => 1,
                x if x < 0.0 => -1,
                _ => 0,
            })),
            Scalar::Sqrt => real(a.float(0).sqrt()),
            Scalar::Power => real(a.float(0).powf(a.float(1))),
            Scalar::Ln if a.float(0) <= 0.0 => Ok(Value::Missing),
            Scalar::Ln => real(a.float(0).ln()),
            Scalar::Exp => real(a.float(0).exp()),
            Scalar::Mod => remainder(a),
            Scalar::Band(id, bands) => {
                bands.of(&args[0]).map(|i| Value::Band(*id, i)).ok_or(Overflow::Digits)
            }
            Scalar::Lower => owned(a.text(0).to_lowercase()),
            Scalar::Upper => owned(a.text(0).to_uppercase()),
            Scalar::Trim => owned(a.text(0).trim().to_owned()),
            Scalar::Length => Ok(count(a.text(0).chars().count() as i64)),
            Scalar::Left => owned(a.text(0).chars().take(a.whole(1).max(0) as usize).collect()),
            Scalar::Right => {
                let n = a.text(0).chars().count();
                owned(
                    a.text(0).chars().skip(n.saturating_sub(a.whole(1).max(0) as usize)).collect(),
                )
            }
            Scalar::Replace if a.text(1).is_empty() => owned(a.text(0).to_owned()),
            Scalar::Replace => owned(a.text(0).replace(a.text(1), a.text(2))),
            Scalar::Concat => owned(args.iter().map(Value::to_string).collect()),
            Scalar::Contains => Ok(Value::Boolean(a.text(0).contains(a.text(1)))),
            Scalar::StartsWith => Ok(Value::Boolean(a.text(0).starts_with(a.text(1)))),
            Scalar::EndsWith => Ok(Value::Boolean(a.text(0).ends_with(a.text(1)))),
            Scalar::Matches(pattern) => Ok(Value::Boolean(pattern.0.is_match(a.text(0)))),
            Scalar::MonthDay => Ok(count(i64::from(civil_from_days(a.day(0)).2))),
            Scalar::Hour => match &args[0] {
                Value::DateTime(t) => Ok(count(t.rem_euclid(DAY_MICROS) / 3_600_000_000)),
                _ => Ok(Value::Missing),
            },
            Scalar::Start => in_range(i64::from(a.day(0))),
            Scalar::End => in_range(i64::from(match &args[0] {
                Value::Period(p) => p.last_day(),
                _ => a.day(0),
            })),
            Scalar::AddMonths => add_months(a.day(0), a.whole(1)),
            Scalar::Number => {
                Ok(parse_number(a.text(0).trim()).map_or(Value::Missing, Value::Float))
            }
            Scalar::Date => {
                let pattern = DatePattern::parse(a.text(1)).ok();
                let read = pattern.and_then(|p| p.read(a.text(0).trim()));
                Ok(read.map_or(Value::Missing, |(day, _)| Value::Date(day)))
            }
            Scalar::Text => owned(args[0].to_string()),
        }
    }
}

/// The arguments of a function, read as what it expects.
#[derive(Clone, Copy)]
struct Args<'a>(&'a [Value]);

impl<'a> Args<'a> {
    fn text(self, i: usize) -> &'a str {
        if let Some(Value::Text(t)) = self.0.get(i) { t } else { "" }
    }

    fn float(self, i: usize) -> f64 {
        match self.0.get(i) {
            Some(Value::Number(d)) => decimal_to_f64(*d),
            Some(Value::Float(f)) => *f,
            _ => f64::NAN,
        }
    }

    fn whole(self, i: usize) -> i64 {
        let limit = i64::from(i32::MAX);
        (self.float(i).trunc() as i64).clamp(-limit, limit)
    }

    fn day(self, i: usize) -> i32 {
        match self.0.get(i) {
            Some(Value::Date(d)) => *d,
            Some(Value::DateTime(t)) => t.div_euclid(DAY_MICROS) as i32,
            Some(Value::Period(p)) => p.first_day(),
            _ => 0,
        }
    }
}

/// A binary64 result; missing where there is none.
fn real(v: f64) -> Result<Value, Overflow> {
    match v {
        v if v.is_infinite() => Err(Overflow::Binary),
        v if v.is_nan() => Ok(Value::Missing),
        v => Ok(Value::Float(v)),
    }
}

fn count(n: i64) -> Value {
    Value::Number(Decimal::new(i128::from(n), 0))
}

fn owned(t: String) -> Result<Value, Overflow> {
    Ok(Value::Text(Arc::from(t)))
}

/// A date of the calendar.
fn in_range(d: i64) -> Result<Value, Overflow> {
    let fits = (i64::from(FIRST_DAY)..=i64::from(LAST_DAY)).contains(&d);
    if fits { Ok(Value::Date(d as i32)) } else { Err(Overflow::Calendar) }
}

fn remainder(a: Args<'_>) -> Result<Value, Overflow> {
    let (Value::Number(x), Value::Number(y)) = (&a.0[0], &a.0[1]) else {
        return real(a.float(0) % a.float(1));
    };
    let scale = x.scale.max(y.scale);
    let (Some(x), Some(y)) = (x.rescale(scale), y.rescale(scale)) else {
        return Err(Overflow::Digits);
    };
    let rest = x.mantissa.checked_rem(y.mantissa);
    Ok(rest.map_or(Value::Missing, |r| Value::Number(Decimal::new(r, scale))))
}

fn add_months(day: i32, n: i64) -> Result<Value, Overflow> {
    let (year, month, of_month) = civil_from_days(day);
    let months = i64::from(year) * 12 + i64::from(month) - 1 + n;
    let (year, month) = (months.div_euclid(12), months.rem_euclid(12) as u32 + 1);
    if !(1..=9999).contains(&year) {
        return Err(Overflow::Calendar);
    }
    let last = days_in_month(year as i32, month);
    in_range(i64::from(days_from_civil(year as i32, month, of_month.min(last))))
}

/// A number brought to a whole one.
fn step(
    value: &Value,
    exact: impl Fn(i128, i128) -> i128,
    float: impl Fn(f64) -> f64,
) -> Result<Value, Overflow> {
    match value {
        Value::Number(d) => {
            let unit = pow10(u32::from(d.scale)).ok_or(Overflow::Digits)?;
            Ok(Value::Number(Decimal::new(exact(d.mantissa / unit, d.mantissa % unit), 0)))
        }
        Value::Float(f) => {
            let whole = float(*f);
            if whole.abs() >= 1e38 {
                Err(Overflow::Digits)
            } else {
                Ok(Value::Number(Decimal::new(whole as i128, 0)))
            }
        }
        _ => Ok(Value::Missing),
    }
}

/// Reads a number as people write it: commas between groups of three digits are passed over, one behind which
/// there are not three is a decimal comma, and of a point and a comma the one that comes last is the decimal sign.
fn parse_number(text: &str) -> Option<f64> {
    let (point, comma) = (text.rfind('.'), text.rfind(','));
    let groups_of_three = |text: &str, sign: char| {
        let whole = text.split(['.', ',']).next().map_or(0, str::len);
        let mut groups = text[whole..].split(sign).skip(1);
        groups.all(|g| g.chars().take_while(char::is_ascii_digit).count() == 3)
    };
    let plain = match (point, comma) {
        (_, None) => text.to_owned(),
        (Some(point), Some(comma)) if comma > point => text.replace('.', "").replace(',', "."),
        (None, Some(_)) if !groups_of_three(text, ',') => text.replacen(',', ".", 1),
        _ => text.replace(',', ""),
    };
    plain.parse().ok().filter(|n: &f64| n.is_finite())
}

#[cfg(test)]
mod tests {
    use super::*;
    use oeuvre_columns::value::Bands;
    use oeuvre_columns::value::calendar::parse_date;
    use rstest::rstest;

    /// A value from a text: a number, a date, a text in quotes, or nothing.
    fn value(text: &str) -> Value {
        match text.strip_prefix('\'').and_then(|t| t.strip_suffix('\'')) {
            Some(text) => Value::Text(text.into()),
            None if text.is_empty() => Value::Missing,
            None => match (parse_date(text), text.parse()) {
                (Some(day), _) => Value::Date(day),
                (None, Ok(number)) => Value::Number(number),
                (None, Err(())) => Value::Float(text.parse().unwrap()),
            },
        }
    }

    #[rstest]
    #[case(Scalar::Floor, &["-0.5"], "-1")]
    #[case(Scalar::Floor, &["7"], "7")]
    #[case(Scalar::Floor, &["-2.5e0"], "-3")]
    #[case(Scalar::Ceiling, &["-0.5"], "0")]
    #[case(Scalar::Ceiling, &["0.01"], "1")]
    #[case(Scalar::Sign, &["-0.01"], "-1")]
    #[case(Scalar::Sign, &["0.00"], "0")]
    #[case(Scalar::Sqrt, &["2.25"], "1.5")]
    #[case(Scalar::Sqrt, &["-1"], "")]
    #[case(Scalar::Power, &["-2", "3"], "-8")]
    #[case(Scalar::Power, &["-2", "0.5"], "")]
    #[case(Scalar::Ln, &["0"], "")]
    #[case(Scalar::Ln, &["1"], "0")]
    #[case(Scalar::Mod, &["-7", "3"], "-1")]
    #[case(Scalar::Mod, &["7.50", "-2"], "1.50")]
    #[case(Scalar::Mod, &["7", "0"], "")]
    #[case(Scalar::Mod, &["7.5e0", "2"], "1.5")]
    #[case(Scalar::Lower, &["'ÄÖ ẞ'"], "äö ß")]
    #[case(Scalar::Trim, &["' a b '"], "a b")]
    #[case(Scalar::Length, &["'né'"], "2")]
    #[case(Scalar::Left, &["'naïve'", "3"], "naï")]
    #[case(Scalar::Left, &["'ab'", "-1"], "")]
    #[case(Scalar::Right, &["'naïve'", "3"], "ïve")]
    #[case(Scalar::Right, &["'ab'", "99"], "ab")]
    #[case(Scalar::Replace, &["'aaa'", "'aa'", "'b'"], "ba")]
    #[case(Scalar::Replace, &["'aaa'", "''", "'b'"], "aaa")]
    #[case(Scalar::Concat, &["'a'", "", "1.50"], "a1.50")]
    #[case(Scalar::Contains, &["'Kittiwake'", "'wake'"], "true")]
    #[case(Scalar::StartsWith, &["'Kittiwake'", "'kit'"], "false")]
    #[case(Scalar::EndsWith, &["'Kittiwake'", "''"], "true")]
    #[case(Scalar::MonthDay, &["2024-02-29"], "29")]
    #[case(Scalar::AddMonths, &["2024-01-31", "1"], "2024-02-29")]
    #[case(Scalar::AddMonths, &["2024-03-31", "-1"], "2024-02-29")]
    #[case(Scalar::Start, &["2024-02-29"], "2024-02-29")]
    #[case(Scalar::Number, &["' 1,234.5 '"], "1234.5")]
    #[case(Scalar::Number, &["'1,5'"], "1.5")]
    #[case(Scalar::Number, &["'1.234,50'"], "1234.5")]
    #[case(Scalar::Number, &["'1,234,567'"], "1234567")]
    #[case(Scalar::Number, &["'inf'"], "")]
    #[case(Scalar::Number, &["'two'"], "")]
    #[case(Scalar::Date, &["'31.12.24'", "'dd.MM.yy'"], "2024-12-31")]
    #[case(Scalar::Date, &["'31.02.24'", "'dd.MM.yy'"], "")]
    #[case(Scalar::Text, &["1.50"], "1.50")]
    fn a_function_gives(#[case] function: Scalar, #[case] args: &[&str], #[case] expected: &str) {
        let args: Vec<Value> = args.iter().map(|text| value(text)).collect();
        let given = function.apply(&args).unwrap();
        assert_eq!(given.to_string(), expected, "{function:?} of {args:?}");
        // What a column of them holds is of the kind that was said.
        let kinds = args.iter().map(|a| match a {
            Value::Number(n) => Kind::Number { scale: n.scale },
            Value::Float(_) => Kind::Float,
            Value::Date(_) => Kind::Date,
            _ => Kind::Text,
        });
        let kind = function.result(&kinds.collect::<Vec<_>>());
        let column =
            oeuvre_columns::column::Column::from_values(kind, std::slice::from_ref(&given));
        assert_eq!(column.value(kind, 0), given, "{kind:?}");
        for missing in 0..args.len() {
            let mut some = args.clone();
            some[missing] = Value::Missing;
            let missing = function.apply(&some).unwrap().is_missing();
            assert_eq!(missing, function != Scalar::Concat, "{function:?} of {some:?}");
        }
    }

    #[rstest]
    #[case(Scalar::Exp, &["1000"], Overflow::Binary)]
    #[case(Scalar::Power, &["10", "400"], Overflow::Binary)]
    #[case(Scalar::AddMonths, &["9999-12-31", "1"], Overflow::Calendar)]
    #[case(Scalar::AddMonths, &["0001-01-01", "-1"], Overflow::Calendar)]
    #[case(Scalar::AddMonths, &["2024-01-01", "99999999999999999999"], Overflow::Calendar)]
    fn what_does_not_fit_is_an_overflow(
        #[case] function: Scalar,
        #[case] args: &[&str],
        #[case] expected: Overflow,
    ) {
        let args: Vec<Value> = args.iter().map(|text| value(text)).collect();
        assert_eq!(function.apply(&args), Err(expected));
    }

    #[test]
    fn a_range_holds_its_lower_bound_and_not_its_upper_one() {
        use oeuvre_columns::value::{BandBound, BandsId};
        let bounds = [(0, 0), (105, 1)].map(|(mantissa, scale)| BandBound { mantissa, scale });
        let bands = Bands::Bounds(bounds.to_vec());
        let band = Scalar::Band(BandsId::of(bands.clone()), Arc::new(bands));
        let label = |text: &str| band.apply(&[value(text)]).unwrap().to_string();
        let ranges = ["under 0", "0 to under 10.5", "10.5 and over"];
        assert_eq!(["-0.01", "0", "10.4999", "10.5"].map(label), [0, 1, 1, 2].map(|i| ranges[i]));
    }
}
