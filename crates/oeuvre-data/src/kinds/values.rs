//! Single fields: which kind they are of, and their values.
//!
//! A field is read as people write it: signs on either side, currencies, thousands in groups of three, percent,
//! ISO dates and dates in three orders. What could be two things is neither until more is known: digits with a
//! zero in front are a code, `03/04/2025` keeps both orders. These functions look at one field at a time; the
//! loops of `csv/fast.rs` take the usual forms before them, and a test holds them to the same values.

use crate::options::{DateOrder, Zone};
use oeuvre_columns::column::marks::Mark;
use oeuvre_columns::value::calendar::{self, parse_date, parse_time};
use oeuvre_columns::value::decimal::{Decimal, MAX_DIGITS};
use oeuvre_columns::value::pattern::{DatePattern, month_of_name, two_digit_year};

/// A set of date orders.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Orders(u8);

impl Orders {
    pub(crate) const NONE: Orders = Orders(0);
    pub(crate) const ALL: Orders = Orders(7);

    pub(crate) const fn only(order: DateOrder) -> Orders {
        Orders(1 << order as u8)
    }
    pub(crate) const fn with(self, order: DateOrder) -> Orders {
        Orders(self.0 | 1 << order as u8)
    }
    pub(crate) const fn and(self, other: Orders) -> Orders {
        Orders(self.0 & other.0)
    }
    pub(crate) const fn has(self, order: DateOrder) -> bool {
        self.0 >> order as u8 & 1 == 1
    }
    pub(crate) const fn is_none(self) -> bool {
        self.0 == 0
    }
    /// More than one is left: a date could be read two ways.
    pub(crate) const fn is_open(self) -> bool {
        self.0.count_ones() > 1
    }
}

/// What a column holds, as far as its values have shown.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Shape {
    /// Nothing but missing values so far.
    Unknown,
    /// Exact numbers with up to this many digits after the point.
    Number(u8),
    /// Numbers with exponents, or with more digits than exact ones can have.
    Float,
    /// `true` and `false`.
    Boolean,
    /// Dates that can be read in any of these orders.
    Date(Orders),
    /// ISO dates with a time.
    DateTime,
    /// Anything.
    Text,
}

impl Shape {
    /// The narrowest shape that holds the values of both.
    pub(crate) fn join(self, other: Shape) -> Shape {
        use Shape::*;
        match (self, other) {
            (a, b) if a == b => a,
            (Unknown, a) | (a, Unknown) => a,
            (Number(a), Number(b)) => Number(a.max(b)),
            (Number(_) | Float, Number(_) | Float) => Float,
            (Date(a), Date(b)) if !a.and(b).is_none() => Date(a.and(b)),
            (Date(_), DateTime) | (DateTime, Date(_)) => DateTime,
            _ => Text,
        }
    }
}

/// What a number looks like beyond its digits.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) enum Parsed {
    Exact(Decimal),
    Float(f64),
    /// Digits with zeros in front, such as a postal code: text unless asked for as a number.
    Code(Decimal),
}

/// Whether a binary64, shown with as many digits as a number has, is that number: then nothing of it is lost.
pub(crate) fn keeps_digits(number: Decimal, value: f64) -> bool {
    /// Binary64 keeps so many digits of any number.
    const ALWAYS: usize = 15;
    let mantissa = number.mantissa.unsigned_abs().to_string();
    let digits = mantissa.trim_end_matches('0').as_bytes();
    if digits.len() <= ALWAYS {
        return true;
    }
    let shown = format!("{:.*e}", digits.len() - 1, value.abs());
    shown.bytes().take_while(|b| *b != b'e').filter(u8::is_ascii_digit).eq(digits.iter().copied())
}

const CURRENCY_SIGNS: [char; 12] = ['$', '€', '£', '¥', '₹', '₽', '₩', '₺', '₫', '₴', '฿', '₱'];

/// Reads a number as people write it: a sign, a currency sign or a three-letter currency code on
/// either side, thousands separators in groups of three, brackets or a trailing minus for
/// negatives, a percent sign, an exponent.
pub(crate) fn parse_number(text: &str, decimal: char) -> Option<Parsed> {
    plain_number(text, decimal).or_else(|| dressed_number(text, decimal))
}

/// A number of digits alone, with a minus and places after the point perhaps, as most are.
fn plain_number(text: &str, decimal: char) -> Option<Parsed> {
    /// So many digits, and one more, fit 64 bits whatever they are.
    const MOST: usize = 18;
    let unsigned = text.strip_prefix('-').unwrap_or(text).as_bytes();
    if unsigned.len() > MOST + 1 || !unsigned.first()?.is_ascii_digit() {
        return None;
    }
    let (mut mantissa, mut point) = (0u64, None);
    for (at, &byte) in unsigned.iter().enumerate() {
        match byte {
            b'0'..=b'9' => mantissa = mantissa * 10 + u64::from(byte - b'0'),
            0..=127 if char::from(byte) == decimal && point.is_none() => point = Some(at),
            _ => return None,
        }
    }
    let scale = match point {
        // Digits with zeros in front are a code, and what has no digit behind its point is looked at again.
        None if unsigned.len() > MOST || unsigned.len() > 1 && unsigned[0] == b'0' => return None,
        None => 0,
        Some(at) if at + 1 == unsigned.len() => return None,
        Some(at) => unsigned.len() - at - 1,
    };
    let mantissa = i128::from(mantissa);
    let mantissa = if text.starts_with('-') { -mantissa } else { mantissa };
    Some(Parsed::Exact(Decimal::new(mantissa, scale as u8)))
}

/// A number with whatever people write around it.
fn dressed_number(text: &str, decimal: char) -> Option<Parsed> {
    let mut rest = text.trim();
    let mut negative = false;
    if let Some(inner) = rest.strip_prefix('(').and_then(|r| r.strip_suffix(')')) {
        negative = true;
        rest = inner.trim();
    }
    let strip_sign = |rest: &mut &str, negative: &mut bool| -> bool {
        for (sign, minus) in [('-', true), ('−', true), ('+', false)] {
            if let Some(r) = rest.strip_prefix(sign) {
                *rest = r.trim_start();
                *negative = minus;
                return true;
            }
        }
        false
    };
    let mut signed = negative;
    if !signed {
        signed = strip_sign(&mut rest, &mut negative);
    }
    rest = strip_currency(rest);
    if !signed {
        signed = strip_sign(&mut rest, &mut negative);
    }
    let mut percent = false;
    if let Some(r) = rest.strip_suffix('%') {
        percent = true;
        rest = r.trim_end();
    }
    if !signed && let Some(r) = rest.strip_suffix(['-', '−']) {
        negative = true;
        rest = r.trim_end();
    }
    if rest.len() > 2000 || !rest.starts_with(|c: char| c.is_ascii_digit() || c == decimal) {
        return None;
    }
    let plain_code =
        rest.len() > 1 && rest.starts_with('0') && rest.bytes().all(|b| b.is_ascii_digit());
    let (digits, exponent) = match rest.find(['e', 'E']) {
        Some(at) => (&rest[..at], Some(&rest[at + 1..])),
        None => (rest, None),
    };
    let plain = without_separators(digits, decimal)?;
    // A percent is two places less, so that the number is rounded once.
    let places = if percent { -2 } else { 0 };
    let float = |exponent: i32| -> Option<Parsed> {
        let sign = if negative { "-" } else { "" };
        let value: f64 = format!("{sign}{plain}e{}", exponent.checked_add(places)?).parse().ok()?;
        value.is_finite().then_some(Parsed::Float(value))
    };
    if let Some(exponent) = exponent {
        return float(exponent.parse().ok()?);
    }
    match plain.parse::<Decimal>() {
        Ok(mut number) => {
            if negative {
                number.mantissa = -number.mantissa;
            }
            if percent {
                number.scale = number.scale.checked_add(2).filter(|s| *s <= MAX_DIGITS)?;
            }
            Some(if plain_code { Parsed::Code(number) } else { Parsed::Exact(number) })
        }
        Err(()) => float(0),
    }
}

fn strip_currency(text: &str) -> &str {
    let code = |s: &str| s.len() == 3 && s.bytes().all(|b| b.is_ascii_uppercase());
    if let Some(rest) = text.strip_prefix(CURRENCY_SIGNS) {
        return rest.trim_start();
    }
    if let Some(rest) = text.strip_suffix(CURRENCY_SIGNS) {
        return rest.trim_end();
    }
    if let Some((head, rest)) = text.split_once(' ')
        && code(head)
    {
        return rest.trim_start();
    }
    if let Some((rest, tail)) = text.rsplit_once(' ')
        && code(tail)
    {
        return rest.trim_end();
    }
    text
}

/// Digits with a point, thousands separators taken out; `None` when the groups are not of three.
fn without_separators(digits: &str, decimal: char) -> Option<String> {
    let (whole, fraction) = match digits.split_once(decimal) {
        Some((w, f)) => (w, Some(f)),
        None => (digits, None),
    };
    let mut plain = String::with_capacity(digits.len());
    let is_separator =
        |c: char| c != decimal && matches!(c, ',' | '.' | '\'' | '’' | '\u{a0}' | '\u{202f}' | ' ');
    match whole.find(is_separator) {
        None => plain.push_str(whole),
        // A first group of zero, or with a zero in front, is never one of thousands.
        Some(at) if at > 0 && whole.starts_with('0') => return None,
        Some(at) => {
            let separator = whole[at..].chars().next()?;
            for (i, group) in whole.split(separator).enumerate() {
                if (i == 0 && !(1..=3).contains(&group.len())) || (i > 0 && group.len() != 3) {
                    return None;
                }
                plain.push_str(group);
            }
        }
    }
    if let Some(fraction) = fraction {
        plain.push('.');
        plain.push_str(fraction);
    }
    let digits_only = plain.bytes().all(|b| b.is_ascii_digit() || b == b'.');
    (digits_only && plain.bytes().any(|b| b.is_ascii_digit())).then_some(plain)
}

/// Whether a text is a number by the other decimal sign alone: `0,250`, `12,5` and `1.234,50` beside a point.
pub(crate) fn is_of_other_sign(text: &str, decimal: char) -> bool {
    text.as_bytes().contains(&(other_sign(decimal) as u8))
        && parse_number(text, decimal).is_none()
        && parse_number(text, other_sign(decimal)).is_some()
}

/// Whether a number can be read two ways: it has one sign, and three digits behind it that could be a group of
/// thousands.
pub(crate) fn reads_two_ways(text: &str) -> bool {
    let is_sign = |b: &u8| matches!(b, b'.' | b',');
    let Some(at) = text.as_bytes().iter().position(is_sign) else { return false };
    let before = text[..at].bytes().rev().take_while(u8::is_ascii_digit).count();
    let after = text[at + 1..].bytes().take_while(u8::is_ascii_digit).count();
    let zero = text[at - before..].starts_with('0');
    (1..=3).contains(&before)
        && after == 3
        && !zero
        && !text.as_bytes()[at + 1..].iter().any(is_sign)
}

/// Whether a number shows which sign is the decimal one where others read two ways: one with a sign does, and
/// beside signs that are taken to part thousands also one without.
pub(crate) fn settles(text: &str, thousands: bool) -> bool {
    let signed = text.bytes().any(|b| matches!(b, b'.' | b','));
    if signed { !reads_two_ways(text) } else { thousands }
}

/// The currency that is written beside a number, if one is.
pub(crate) fn currency_of(text: &str) -> Option<Mark> {
    if text.bytes().all(|b| b.is_ascii_digit() || matches!(b, b'.' | b',' | b'-')) {
        return None;
    }
    if let Some(sign) = text.chars().find(|c| CURRENCY_SIGNS.contains(c)) {
        // A sign that is that of one currency alone is the same as its code.
        let code = match sign {
            '€' => "EUR",
            '£' => "GBP",
            '₹' => "INR",
            sign => return Some(Mark::currency(sign.encode_utf8(&mut [0; 4]))),
        };
        return Some(Mark::currency(code));
    }
    let letters = text.trim_matches(|c: char| !c.is_ascii_uppercase());
    (letters.len() == 3 && letters.bytes().all(|b| b.is_ascii_uppercase()))
        .then(|| Mark::currency(letters))
}

/// The decimal sign that is not this one.
pub(crate) fn other_sign(decimal: char) -> char {
    if decimal == ',' { '.' } else { ',' }
}

/// Reads `true` or `false` in any case.
pub(crate) fn parse_boolean(text: &str) -> Option<bool> {
    let text = text.trim();
    match () {
        () if text.eq_ignore_ascii_case("true") => Some(true),
        () if text.eq_ignore_ascii_case("false") => Some(false),
        () => None,
    }
}

/// How the dates of a file are written, as far as it is known.
#[derive(Clone, Copy)]
pub(crate) struct DateWays<'a> {
    /// The orders that are left.
    pub(crate) orders: Orders,
    /// The pattern that was given.
    pub(crate) pattern: Option<&'a DatePattern>,
    /// The zone of times with an offset.
    pub(crate) zone: &'a Zone,
}

/// The orders in which a date can be read, with the day that each gives. ISO dates and dates with the name of a
/// month read in every order. Separators are `/`, `.` or `-`, beside names also spaces and commas; years have
/// four digits, or two where day or month come first.
pub(crate) fn parse_any_date(text: &str) -> Option<(Orders, [Option<i32>; 3])> {
    let text = text.trim();
    if let Some(day) = parse_date(text) {
        return Some((Orders::ALL, [Some(day); 3]));
    }
    if text.len() > 20 || !text.bytes().any(|b| b.is_ascii_digit()) {
        return None;
    }
    if text.bytes().any(|b| b.is_ascii_alphabetic()) {
        return date_with_name(text).map(|day| (Orders::ALL, [Some(day); 3]));
    }
    let separator = *text.as_bytes().iter().find(|b| !b.is_ascii_digit())?;
    if !matches!(separator, b'/' | b'.' | b'-') || text.len() > 10 {
        return None;
    }
    let mut parts = text.split(separator as char);
    let (a, b, c) = (parts.next()?, parts.next()?, parts.next()?);
    let digits = |s: &str| s.bytes().all(|b| b.is_ascii_digit());
    if parts.next().is_some() || ![a, b, c].into_iter().all(digits) || b.is_empty() || b.len() > 2 {
        return None;
    }
    let mut days = [None; 3];
    if a.len() == 4 && (1..=2).contains(&c.len()) {
        days[DateOrder::Ymd as usize] = day_of(a, number(b), c);
    } else if matches!(c.len(), 2 | 4) && (1..=2).contains(&a.len()) {
        days[DateOrder::Dmy as usize] = day_of(c, number(b), a);
        days[DateOrder::Mdy as usize] = day_of(c, number(a), b);
    }
    let mut orders = Orders::NONE;
    for order in [DateOrder::Dmy, DateOrder::Mdy, DateOrder::Ymd] {
        if days[order as usize].is_some() {
            orders = orders.with(order);
        }
    }
    (!orders.is_none()).then_some((orders, days))
}

fn number(digits: &str) -> u32 {
    digits.parse().unwrap_or(0)
}

/// The day of a year of two or four digits, a month and a day of one or two.
fn day_of(year: &str, month: u32, day: &str) -> Option<i32> {
    let year_number = number(year) as i32;
    let year = if year.len() == 2 { two_digit_year(year_number) } else { year_number };
    calendar::date(year, month, number(day))
}

/// The day of a date with the English name of its month: `05-Jan-2025`, `5 January 25`, `Jan 5, 2025`.
fn date_with_name(text: &str) -> Option<i32> {
    let mut parts = text.split([' ', '-', '/', '.', ',']).filter(|part| !part.is_empty());
    let (a, b, c) = (parts.next()?, parts.next()?, parts.next()?);
    let digits = |s: &str, most: usize| s.len() <= most && s.bytes().all(|b| b.is_ascii_digit());
    let year = |s: &str| matches!(s.len(), 2 | 4) && digits(s, 4);
    if parts.next().is_some() {
        return None;
    }
    if digits(a, 2) && year(c) {
        return day_of(c, month_of_name(b)?, a);
    }
    if digits(b, 2) && year(c) {
        return day_of(c, month_of_name(a)?, b);
    }
    (a.len() == 4 && digits(a, 4) && digits(c, 2)).then(|| day_of(a, month_of_name(b)?, c))?
}

/// The day of a date, read in one of the orders that are left or by the pattern; `None` when it is no date, or
/// would narrow the orders.
pub(crate) fn date_in(text: &str, ways: DateWays<'_>) -> Option<i32> {
    if let Some(pattern) = ways.pattern.filter(|p| !p.has_time()) {
        if let Some((day, _)) = pattern.read(text.trim()) {
            return Some(day);
        }
        return parse_date(text.trim());
    }
    let (possible, days) = parse_any_date(text)?;
    if possible.and(ways.orders) != ways.orders {
        return None;
    }
    [DateOrder::Dmy, DateOrder::Mdy, DateOrder::Ymd]
        .into_iter()
        .find(|o| ways.orders.has(*o))
        .and_then(|o| days[o as usize])
}

/// Microseconds of a datetime as the wall clock of the zone: ISO, or a date in one of the orders, with or without
/// a time; the offset in minutes where it has one.
pub(crate) fn datetime_in(text: &str, ways: DateWays<'_>) -> Option<(i64, Option<i16>)> {
    let text = text.trim();
    if let Some(pattern) = ways.pattern.filter(|p| p.has_time())
        && let Some((day, time)) = pattern.read(text)
    {
        return Some((i64::from(day) * calendar::DAY_MICROS + time, None));
    }
    // A date may have spaces in it; the time stands behind the last one.
    let split =
        text.split_once(['T', 't']).filter(|(day, _)| day.ends_with(|c: char| c.is_ascii_digit()));
    let (day, time) = match split.or_else(|| text.rsplit_once(' ').filter(|(_, t)| t.contains(':')))
    {
        Some((day, time)) => (day, Some(time)),
        None => (text, None),
    };
    let orders = match ways.orders.is_open() {
        true => Orders::only(DateOrder::Ymd),
        false => ways.orders,
    };
    let day = i64::from(date_in(day, DateWays { orders, ..ways })?) * calendar::DAY_MICROS;
    let Some(time) = time else { return Some((day, None)) };
    let (time, offset) = split_offset(time)?;
    let at = day + parse_time(time)?;
    match offset {
        None => Some((at, None)),
        Some(minutes) => {
            let instant = at - i64::from(minutes) * 60_000_000;
            Some((ways.zone.wall_clock(instant)?, Some(minutes)))
        }
    }
}

/// A time of day and its offset in minutes, as RFC 3339 has it; `None` where the offset is none.
fn split_offset(time: &str) -> Option<(&str, Option<i16>)> {
    if let Some(time) = time.strip_suffix(['Z', 'z']) {
        return Some((time, Some(0)));
    }
    let Some(at) = time.find(['+', '-', '\u{2212}']) else { return Some((time, None)) };
    let sign = time[at..].chars().next()?;
    let (hours, minutes) = time[at + sign.len_utf8()..].split_once(':').or_else(|| {
        let digits = &time[at + sign.len_utf8()..];
        (digits.len() == 4 && digits.is_ascii()).then(|| digits.split_at(2))
    })?;
    let two = |s: &str, limit: i16| -> Option<i16> {
        let ok = s.len() == 2 && s.bytes().all(|b| b.is_ascii_digit());
        s.parse().ok().filter(|n| ok && *n < limit)
    };
    let total = two(hours, 24)? * 60 + two(minutes, 60)?;
    Some((&time[..at], Some(if sign == '+' { total } else { -total })))
}

/// What a text shows of its column. Missing texts must have been taken out.
pub(crate) fn shape_of(text: &str, decimal: char, ways: DateWays<'_>) -> Shape {
    match parse_number(text, decimal) {
        Some(Parsed::Exact(number)) => return Shape::Number(number.scale),
        Some(Parsed::Float(_)) => return Shape::Float,
        Some(Parsed::Code(_)) if ways.pattern.is_none() => return Shape::Text,
        _ => {}
    }
    if parse_boolean(text).is_some() {
        return Shape::Boolean;
    }
    if ways.pattern.is_some() && date_in(text, ways).is_some() {
        return Shape::Date(Orders::ALL);
    }
    if let Some((possible, _)) = parse_any_date(text) {
        return match possible.and(ways.orders) {
            none if none.is_none() || ways.pattern.is_some() => Shape::Text,
            left => Shape::Date(left),
        };
    }
    if datetime_in(text, ways).is_some() { Shape::DateTime } else { Shape::Text }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case("12", "12")]
    #[case("-12.50", "-12.50")]
    #[case(" 12.5 ", "12.5")]
    #[case("1,234,567.89", "1234567.89")]
    #[case("1 234", "1234")]
    #[case("1'234.5", "1234.5")]
    #[case("€1,234.50", "1234.50")]
    #[case("-$5", "-5")]
    #[case("$-5", "-5")]
    #[case("12.00 €", "12.00")]
    #[case("EUR 12", "12")]
    #[case("12 USD", "12")]
    #[case("(12.00)", "-12.00")]
    #[case("12.00-", "-12.00")]
    #[case("5%", "0.05")]
    #[case(".5", "0.5")]
    #[case("0.5", "0.5")]
    #[case("0", "0")]
    fn numbers_are_read_as_people_write_them(#[case] text: &str, #[case] value: &str) {
        match parse_number(text, '.') {
            Some(Parsed::Exact(n)) => assert_eq!(n.to_string(), value),
            other => panic!("{text}: {other:?}"),
        }
    }

    #[rstest]
    #[case("1,23")]
    #[case("12,34,567")]
    #[case("1.2.3")]
    #[case("abc")]
    #[case("12abc")]
    #[case("-")]
    #[case("--5")]
    #[case("2025-03-14")]
    #[case("1e")]
    #[case("")]
    #[case("1,,234")]
    #[case("0x10")]
    #[case("inf")]
    #[case("NaN")]
    fn what_is_no_number_is_not_taken_for_one(#[case] text: &str) {
        assert_eq!(parse_number(text, '.'), None, "{text}");
    }

    #[rstest]
    #[case("0.1", true)]
    #[case("123456789012345000000", true)]
    // As other programs write a binary64, with 17 and 20 digits.
    #[case("0.10000000000000001", true)]
    #[case("0.10000000000000000555", true)]
    #[case("-9007199254740993", false)]
    #[case("99999999999999999.99", false)]
    #[case("0.12345678901234567890", false)]
    fn digits_are_lost_only_where_binary64_shows_others(#[case] text: &str, #[case] kept: bool) {
        let number: Decimal = text.parse().unwrap();
        assert_eq!(keeps_digits(number, text.parse().unwrap()), kept);
    }

    #[rstest]
    #[case("1e3", Shape::Float)]
    #[case("00123", Shape::Text)]
    #[case("0012.5", Shape::Number(1))]
    #[case("TRUE", Shape::Boolean)]
    #[case("2025-03-14", Shape::Date(Orders::ALL))]
    #[case("14/03/2025", Shape::Date(Orders::only(DateOrder::Dmy)))]
    #[case("03/14/2025", Shape::Date(Orders::only(DateOrder::Mdy)))]
    #[case("03/04/2025", Shape::Date(Orders::only(DateOrder::Dmy).with(DateOrder::Mdy)))]
    #[case("2025/03/14", Shape::Date(Orders::only(DateOrder::Ymd)))]
    #[case("2025-03-14T09:30", Shape::DateTime)]
    #[case("31/02/2025", Shape::Text)]
    #[case("SKE", Shape::Text)]
    fn a_text_shows_its_shape(#[case] text: &str, #[case] shape: Shape) {
        let zone = Zone::default();
        let ways = DateWays { orders: Orders::ALL, pattern: None, zone: &zone };
        assert_eq!(shape_of(text, '.', ways), shape);
    }

    #[test]
    fn a_decimal_comma_turns_the_signs_around() {
        let read = |t| match parse_number(t, ',') {
            Some(Parsed::Exact(n)) => n.to_string(),
            other => format!("{other:?}"),
        };
        assert_eq!(
            (read("1.234,50"), read("12,5"), read("1234")),
            ("1234.50".into(), "12.5".into(), "1234".into())
        );
    }

    proptest! {
        #[test]
        fn plain_numbers_are_those_that_may_be_dressed(
            text in "-?[0-9]{0,20}[.,]?[0-9]{0,3}", decimal in prop_oneof![Just('.'), Just(',')],
        ) {
            if let Some(plain) = plain_number(&text, decimal) {
                let dressed = dressed_number(&text, decimal).unwrap();
                // With as many places.
                prop_assert_eq!(format!("{plain:?}"), format!("{dressed:?}"));
            }
        }
    }

    #[test]
    fn shapes_join_in_any_order() {
        let shapes = [
            Shape::Unknown,
            Shape::Number(0),
            Shape::Number(2),
            Shape::Float,
            Shape::Boolean,
            Shape::DateTime,
            Shape::Text,
            Shape::Date(Orders::ALL),
            Shape::Date(Orders::only(DateOrder::Dmy)),
            Shape::Date(Orders::only(DateOrder::Mdy)),
        ];
        for a in shapes {
            for b in shapes {
                assert_eq!(a.join(b), b.join(a));
            }
        }
    }
}
