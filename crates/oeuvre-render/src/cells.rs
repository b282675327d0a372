//! How single values read, and how what they hold is kept from doing harm.
//!
//! For reading, numbers have separators of thousands and shares are percent; files carry the raw value. Control
//! characters of untrusted cells are made visible wherever a terminal may show them.
//!
//! ```
//! assert_eq!(oeuvre_render::escape_controls("SKE\u{1b}[2J"), "SKE\\u{1b}[2J");
//! ```

use oeuvre_columns::value::decimal::Decimal;
use oeuvre_columns::value::exact::{round_f64, round_quotient};
use oeuvre_columns::{Kind, Value};
use std::fmt::Write as _;

/// What a missing category reads as.
pub(crate) const MISSING: &str = "(missing)";
/// What stands in the first key column that a total sums over.
pub(crate) const TOTAL: &str = "Total";

/// Text with control characters made visible, so that data cannot steer a terminal.
pub fn escape_controls(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    push_escaped(&mut out, text);
    out
}

/// Whether a character cannot be seen but changes what is seen: controls, those that reorder what is around
/// them, and those without a width, which make two labels look like one.
fn is_unseen(c: char) -> bool {
    c.is_control()
        || matches!(c,
            '\u{ad}' | '\u{61c}' | '\u{180e}' | '\u{200b}'..='\u{200f}' | '\u{202a}'..='\u{202e}'
            | '\u{2060}'..='\u{2069}' | '\u{feff}')
}

/// What is written for files, on its way to a terminal: controls made visible, but for line feeds and tabs.
pub struct ForTerminal<W: std::io::Write> {
    out: W,
    /// The start of a character that has not come whole.
    begun: Vec<u8>,
}

impl<W: std::io::Write> ForTerminal<W> {
    /// Writes on to another.
    pub fn new(out: W) -> ForTerminal<W> {
        ForTerminal { out, begun: Vec::new() }
    }
}

impl<W: std::io::Write> std::io::Write for ForTerminal<W> {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.begun.extend_from_slice(bytes);
        let whole = match std::str::from_utf8(&self.begun) {
            Ok(text) => text.len(),
            // What is no text at all is passed on with a sign for it.
            Err(e) if e.error_len().is_some() => self.begun.len(),
            Err(e) => e.valid_up_to(),
        };
        let rest = self.begun.split_off(whole);
        let mut text = String::new();
        for c in String::from_utf8_lossy(&self.begun).chars() {
            if is_unseen(c) && !matches!(c, '\n' | '\t') {
                let _ = write!(text, "{}", c.escape_unicode());
            } else {
                text.push(c);
            }
        }
        self.out.write_all(text.as_bytes())?;
        self.begun = rest;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        self.out.flush()
    }
}

fn push_escaped(out: &mut String, text: &str) {
    for c in text.chars() {
        match c {
            '\n' => out.push('⏎'),
            '\t' => out.push(' '),
            c if is_unseen(c) => {
                let _ = write!(out, "{}", c.escape_unicode());
            }
            c => out.push(c),
        }
    }
}

/// The exact quotient that a binary64 is nearest to, where it is known.
pub(crate) type Quotient = Option<(Decimal, Decimal)>;

/// How the figures of a column read: with how many digits after the point.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Figures {
    /// For binary64 numbers.
    pub(crate) float_digits: usize,
}

impl Figures {
    /// Chosen so that the largest figure of a column shows at least four digits.
    pub(crate) fn for_largest(largest: f64) -> Figures {
        let float_digits = match largest {
            l if l >= 1.0 => 2,
            l if l >= 0.001 || l == 0.0 => 4,
            _ => 8,
        };
        Figures { float_digits }
    }

    /// Adds a cell for reading: thousands separated, blank where there is no value.
    pub(crate) fn push(self, out: &mut String, value: &Value, of: Quotient) {
        match value {
            Value::Number(number) => push_grouped(out, &number.to_string()),
            Value::Float(f) if f.abs() < 1e21 => {
                push_grouped(out, &rounded(*f, of, self.float_digits as u8))
            }
            Value::Text(text) => push_escaped(out, text),
            other => {
                let _ = write!(out, "{other}");
            }
        }
    }
}

/// A binary64 to so many digits after the point, halves away from zero.
fn rounded(value: f64, of: Quotient, digits: u8) -> String {
    if let Some(number) = of.and_then(|(a, b)| round_quotient(a, b, digits)) {
        return number.to_string();
    }
    match round_f64(value, digits) {
        Some(number) => number.to_string(),
        None => format!("{value:.*}", usize::from(digits)),
    }
}

/// Adds a label for reading: numbers without separators, so that a year stays a year.
pub(crate) fn push_label(out: &mut String, value: &Value) {
    match value {
        Value::Missing => out.push_str(MISSING),
        Value::Text(text) => push_escaped(out, text),
        other => {
            let _ = write!(out, "{other}");
        }
    }
}

/// Adds a plain number with its whole part in groups of three.
fn push_grouped(out: &mut String, plain: &str) {
    let (sign, digits) = plain.strip_prefix('-').map_or(("", plain), |d| ("-", d));
    let whole = digits.find('.').unwrap_or(digits.len());
    // -0.00 reads as a mistake.
    let zero = digits.bytes().all(|b| matches!(b, b'0' | b'.'));
    if !zero {
        out.push_str(sign);
    }
    for (i, c) in digits[..whole].chars().enumerate() {
        if i > 0 && (whole - i) % 3 == 0 {
            out.push(',');
        }
        out.push(c);
    }
    out.push_str(&digits[whole..]);
}

/// A plain number with its whole part in groups of three.
pub(crate) fn with_groups(plain: &str) -> String {
    let mut out = String::new();
    push_grouped(&mut out, plain);
    out
}

/// A count with its thousands separated.
pub(crate) fn grouped(count: u64) -> String {
    let mut out = String::new();
    push_grouped(&mut out, &Decimal::new(i128::from(count), 0).to_string());
    out
}

/// Whether a kind stands to the right in its column.
pub(crate) fn is_figure(kind: Kind) -> bool {
    kind.is_number()
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Write as _;

    #[test]
    fn a_terminal_is_not_steered_by_what_is_written_for_files() {
        let mut out = Vec::new();
        let mut terminal = ForTerminal::new(&mut out);
        for piece in "a\u{1b}[31m,ä€\u{200b}b\t\n".as_bytes().chunks(1) {
            terminal.write_all(piece).unwrap();
        }
        assert_eq!(String::from_utf8(out).unwrap(), "a\\u{1b}[31m,ä€\\u{200b}b\t\n");
    }
}
