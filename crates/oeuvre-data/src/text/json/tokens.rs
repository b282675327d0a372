//! The parts of a JSON text (RFC 8259), found without taking them apart: where a value starts and ends, and what it
//! is. Nothing is copied, and nothing is believed: every step says what was expected where it finds something else.

use memchr::{memchr2, memchr3};

/// What a value is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Kind {
    /// Between quotes, which are not part of it; with escapes or without.
    String { escaped: bool },
    /// Digits and what goes with them.
    Number,
    /// `true` or `false`.
    Truth,
    /// `null`.
    Null,
    /// An object, with its braces.
    Object,
    /// A list, with its brackets.
    List,
}

/// A value in a text.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Value {
    pub(super) kind: Kind,
    pub(super) start: usize,
    pub(super) end: usize,
}

impl Value {
    /// Its text, without quotes.
    pub(super) fn text<'t>(&self, bytes: &'t [u8]) -> &'t [u8] {
        &bytes[self.start..self.end]
    }
}

/// What is wrong with a text.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Wrong {
    /// It ends before the value does.
    Ends,
    /// Something else was expected at this place.
    Expected(usize, &'static str),
    /// Objects and lists in each other, deeper than anybody writes.
    Deep(usize),
}

/// So deep may objects and lists stand in each other.
pub(super) const DEEPEST: usize = 200;

/// A place in a text that moves on.
#[derive(Clone, Copy)]
pub(super) struct Cursor<'t> {
    pub(super) bytes: &'t [u8],
    pub(super) at: usize,
}

impl<'t> Cursor<'t> {
    pub(super) fn new(bytes: &'t [u8], at: usize) -> Cursor<'t> {
        Cursor { bytes, at }
    }

    /// The next byte that is no white space.
    #[inline]
    pub(super) fn peek(&mut self) -> Result<u8, Wrong> {
        loop {
            match self.bytes.get(self.at) {
                Some(b' ' | b'\t' | b'\n' | b'\r') => self.at += 1,
                Some(&byte) => return Ok(byte),
                None => return Err(Wrong::Ends),
            }
        }
    }

    /// Takes one byte behind white space.
    #[inline]
    pub(super) fn take(&mut self, byte: u8, expected: &'static str) -> Result<(), Wrong> {
        if self.peek()? != byte {
            return Err(Wrong::Expected(self.at, expected));
        }
        self.at += 1;
        Ok(())
    }

    /// A string, whose opening quote is here.
    #[inline]
    pub(super) fn string(&mut self) -> Result<Value, Wrong> {
        let start = self.at + 1;
        let mut at = start;
        let mut escaped = false;
        loop {
            // Most are short: a few bytes are looked at before the search is set up.
            let near = self.bytes.get(at..at + 8).unwrap_or(&[]);
            let found = near.iter().position(|&b| b == b'"' || b == b'\\');
            let found = match found {
                Some(found) => at + found,
                None => {
                    let from = at + near.len();
                    from + memchr2(b'"', b'\\', &self.bytes[from..]).ok_or(Wrong::Ends)?
                }
            };
            if self.bytes[found] == b'"' {
                self.at = found + 1;
                return Ok(Value { kind: Kind::String { escaped }, start, end: found });
            }
            escaped = true;
            at = found + 2;
            if at > self.bytes.len() {
                return Err(Wrong::Ends);
            }
        }
    }

    /// A value, of which objects and lists are passed over whole.
    #[inline]
    pub(super) fn value(&mut self) -> Result<Value, Wrong> {
        let first = self.peek()?;
        let start = self.at;
        let kind = match first {
            b'"' => return self.string(),
            b'-' | b'0'..=b'9' => {
                self.at += 1;
                while let Some(b'0'..=b'9' | b'.' | b'e' | b'E' | b'+' | b'-') =
                    self.bytes.get(self.at)
                {
                    self.at += 1;
                }
                Kind::Number
            }
            b'{' => {
                self.skip_nested()?;
                Kind::Object
            }
            b'[' => {
                self.skip_nested()?;
                Kind::List
            }
            b't' => self.word(b"true", Kind::Truth)?,
            b'f' => self.word(b"false", Kind::Truth)?,
            b'n' => self.word(b"null", Kind::Null)?,
            _ => return Err(Wrong::Expected(start, "a value")),
        };
        Ok(Value { kind, start, end: self.at })
    }

    fn word(&mut self, word: &'static [u8], kind: Kind) -> Result<Kind, Wrong> {
        let there = &self.bytes[self.at..(self.at + word.len()).min(self.bytes.len())];
        if there == word {
            self.at += word.len();
            return Ok(kind);
        }
        match word.starts_with(there) {
            true => Err(Wrong::Ends),
            false => Err(Wrong::Expected(self.at, "a value")),
        }
    }

    /// Passes over an object or a list: to the bracket that closes the one here. What is in it is looked at when
    /// it is read.
    fn skip_nested(&mut self) -> Result<(), Wrong> {
        let mut closing = [0u8; DEEPEST];
        let mut depth = 0;
        loop {
            match self.peek()? {
                b'"' => {
                    self.string()?;
                    continue;
                }
                open @ (b'{' | b'[') => {
                    let Some(slot) = closing.get_mut(depth) else {
                        return Err(Wrong::Deep(self.at));
                    };
                    *slot = if open == b'{' { b'}' } else { b']' };
                    depth += 1;
                }
                close @ (b'}' | b']') => {
                    if closing[depth - 1] != close {
                        let expected = if close == b'}' { "`]`" } else { "`}`" };
                        return Err(Wrong::Expected(self.at, expected));
                    }
                    depth -= 1;
                    if depth == 0 {
                        self.at += 1;
                        return Ok(());
                    }
                }
                b',' | b':' => {}
                // A number or a word.
                _ => {
                    let rest = &self.bytes[self.at..];
                    let next = memchr3(b',', b'}', b']', rest).ok_or(Wrong::Ends)?;
                    if next == 0 {
                        return Err(Wrong::Expected(self.at, "a value"));
                    }
                    self.at += next;
                    continue;
                }
            }
            self.at += 1;
        }
    }
}

/// A string without its escapes, appended; bytes that are no UTF-8 stay what they are.
pub(super) fn unescape(text: &[u8], out: &mut Vec<u8>) {
    let mut rest = text;
    while let Some(at) = memchr::memchr(b'\\', rest) {
        out.extend_from_slice(&rest[..at]);
        rest = &rest[at + 1..];
        let Some((&escape, behind)) = rest.split_first() else { return };
        rest = behind;
        let plain = match escape {
            b'n' => b'\n',
            b't' => b'\t',
            b'r' => b'\r',
            b'b' => 8,
            b'f' => 12,
            b'u' => {
                let (letter, behind) = unicode(rest);
                rest = behind;
                let mut buffer = [0; 4];
                out.extend_from_slice(letter.encode_utf8(&mut buffer).as_bytes());
                continue;
            }
            other => other,
        };
        out.push(plain);
    }
    out.extend_from_slice(rest);
}

/// The letter of `\uXXXX`, or of two of them that are one letter; half a letter is U+FFFD.
fn unicode(text: &[u8]) -> (char, &[u8]) {
    let unit = |text: &[u8]| {
        let digits = text.get(..4).and_then(|d| std::str::from_utf8(d).ok())?;
        u16::from_str_radix(digits, 16).ok()
    };
    let Some(first) = unit(text) else { return (char::REPLACEMENT_CHARACTER, text) };
    let behind = &text[4..];
    if let Some(second) = behind.strip_prefix(b"\\u").and_then(unit)
        && let Some(Ok(letter)) = char::decode_utf16([first, second]).next()
        && letter as u32 > 0xffff
    {
        return (letter, &behind[6..]);
    }
    (char::from_u32(u32::from(first)).unwrap_or(char::REPLACEMENT_CHARACTER), behind)
}

/// A list without the white space between its parts, which says nothing; appended.
pub(super) fn compact(text: &[u8], out: &mut Vec<u8>) {
    let (mut quoted, mut escaped) = (false, false);
    for &byte in text {
        if quoted || !byte.is_ascii_whitespace() {
            out.push(byte);
        }
        match byte {
            b'"' if !escaped => quoted = !quoted,
            b'\\' if quoted => escaped = !escaped,
            _ => {}
        }
        escaped &= byte == b'\\';
    }
}

/// A number with an exponent as plain digits, where these are few enough to be exact; appended.
pub(super) fn plain_number(text: &[u8], out: &mut Vec<u8>) {
    let exponent = text.iter().position(|b| matches!(b, b'e' | b'E'));
    let expanded = exponent.and_then(|at| expand(&text[..at], &text[at + 1..]));
    out.extend_from_slice(expanded.as_deref().unwrap_or(text));
}

/// A number times a power of ten, in plain digits; `None` where it is none, or needs too many digits.
fn expand(number: &[u8], exponent: &[u8]) -> Option<Vec<u8>> {
    let exponent: i32 = std::str::from_utf8(exponent).ok()?.parse().ok()?;
    let (sign, digits) = match number.strip_prefix(b"-") {
        Some(digits) => (&b"-"[..], digits),
        None => (&b""[..], number),
    };
    let point = digits.iter().position(|&b| b == b'.').unwrap_or(digits.len());
    let mut all: Vec<u8> = digits.iter().copied().filter(|&b| b != b'.').collect();
    if all.is_empty() || !all.iter().all(u8::is_ascii_digit) || !(-38..=38).contains(&exponent) {
        return None;
    }
    // Where the point comes to stand among the digits.
    let mut point = point as i32 + exponent;
    while point < 1 {
        all.insert(0, b'0');
        point += 1;
    }
    while (all.len() as i32) < point {
        all.push(b'0');
    }
    let (whole, fraction) = all.split_at(point as usize);
    let zeros = whole.iter().take_while(|&&b| b == b'0').count().min(whole.len() - 1);
    let whole = &whole[zeros..];
    if whole.len() + fraction.len() > 38 {
        return None;
    }
    let mut out = [sign, whole].concat();
    if !fraction.is_empty() {
        out.push(b'.');
        out.extend_from_slice(fraction);
    }
    Some(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case(r#""a\"b" ,"#, Kind::String { escaped: true }, r#"a\"b"#)]
    #[case("  -1.5e3}", Kind::Number, "-1.5e3")]
    #[case("true", Kind::Truth, "true")]
    #[case("null,", Kind::Null, "null")]
    #[case(r#"{"a":[1,{"b":"]}"}]} x"#, Kind::Object, r#"{"a":[1,{"b":"]}"}]}"#)]
    #[case("[ ] ", Kind::List, "[ ]")]
    fn a_value_is_found(#[case] text: &str, #[case] kind: Kind, #[case] value: &str) {
        let found = Cursor::new(text.as_bytes(), 0).value().unwrap();
        assert_eq!((found.kind, found.text(text.as_bytes())), (kind, value.as_bytes()));
    }

    #[rstest]
    #[case("\"abc", Wrong::Ends)]
    #[case("\"abc\\", Wrong::Ends)]
    #[case("[1, {", Wrong::Ends)]
    #[case("tru", Wrong::Ends)]
    #[case("trux", Wrong::Expected(0, "a value"))]
    #[case("[1}", Wrong::Expected(2, "`]`"))]
    #[case(")", Wrong::Expected(0, "a value"))]
    fn what_is_wrong_is_told(#[case] text: &str, #[case] wrong: Wrong) {
        assert_eq!(Cursor::new(text.as_bytes(), 0).value(), Err(wrong));
    }

    #[test]
    fn depth_has_an_end() {
        let deep = "[".repeat(100_000);
        let found = Cursor::new(deep.as_bytes(), 0).value();
        assert_eq!(found, Err(Wrong::Deep(DEEPEST)));
    }

    #[rstest]
    #[case(r"a\n\u00e9\ud83d\udea2\/", "a\né🚢/")]
    #[case(r"\ud83d!", "\u{fffd}!")]
    #[case(r"\u12", "\u{fffd}12")]
    #[case(r"\", "")]
    fn escapes_are_taken_out(#[case] text: &str, #[case] plain: &str) {
        let mut out = Vec::new();
        unescape(text.as_bytes(), &mut out);
        assert_eq!(String::from_utf8(out).unwrap(), plain);
    }

    #[rstest]
    #[case("[1, 2]", "[1,2]")]
    #[case("[ \"a  b\\\" c\" ,\n { } ]", "[\"a  b\\\" c\",{}]")]
    fn lists_are_written_close(#[case] text: &str, #[case] close: &str) {
        let mut out = Vec::new();
        compact(text.as_bytes(), &mut out);
        assert_eq!(String::from_utf8(out).unwrap(), close);
    }

    #[rstest]
    #[case("1.25e2", "125")]
    #[case("-1.25E-3", "-0.00125")]
    #[case("5e3", "5000")]
    #[case("0.1e1", "1")]
    #[case("1e300", "1e300")]
    #[case("1e", "1e")]
    #[case("12.50", "12.50")]
    fn exponents_are_written_out_where_that_is_exact(#[case] text: &str, #[case] plain: &str) {
        let mut out = Vec::new();
        plain_number(text.as_bytes(), &mut out);
        assert_eq!(String::from_utf8(out).unwrap(), plain);
    }

    proptest! {
        #[test]
        fn whatever_the_bytes_nothing_breaks(bytes in prop::collection::vec(any::<u8>(), 0..60)) {
            let mut cursor = Cursor::new(&bytes, 0);
            if let Ok(value) = cursor.value() {
                prop_assert!(value.end <= bytes.len() && cursor.at <= bytes.len());
            }
            unescape(&bytes, &mut Vec::new());
            plain_number(&bytes, &mut Vec::new());
        }

        #[test]
        fn strings_come_out_as_they_went_in(text in ".{0,20}") {
            let json = serde_json::to_string(&text).unwrap();
            let value = Cursor::new(json.as_bytes(), 0).value().unwrap();
            let mut out = Vec::new();
            unescape(value.text(json.as_bytes()), &mut out);
            prop_assert_eq!(String::from_utf8(out).unwrap(), text);
        }
    }
}
