//! Comma- and tab-separated values: one heading line, raw values.

use crate::layout::Layout;
use crate::look::Look;
use oeuvre_core::{Grid, Value};
use std::fmt::Write as _;
use std::io::{self, Write};

pub(crate) fn write(
    grid: &Grid,
    look: &Look,
    separator: u8,
    out: &mut dyn Write,
) -> io::Result<()> {
    let layout = Layout::new(grid, look);
    let mut record = String::new();
    let alone = layout.slots.len() == 1;
    for i in 0..layout.slots.len() {
        if i > 0 {
            record.push(separator as char);
        }
        push_field(&mut record, layout.heading(i), separator, false);
    }
    record.push('\n');
    for &row in &layout.rows {
        for (i, &slot) in layout.slots.iter().enumerate() {
            if i > 0 {
                record.push(separator as char);
            }
            match layout.raw(row, slot) {
                Value::Text(text) => push_field(&mut record, &text, separator, alone),
                // A line of one blank field would read as no line at all.
                Value::Missing => push_field(&mut record, "", separator, alone),
                // No figure, date or period has a sign in it that needs quotes.
                value => {
                    let _ = write!(record, "{value}");
                }
            }
        }
        record.push('\n');
        if record.len() > 1 << 15 {
            out.write_all(record.as_bytes())?;
            record.clear();
        }
    }
    out.write_all(record.as_bytes())
}

/// Adds a field, in quotes where it needs them (RFC 4180, 2.6 and 2.7).
fn push_field(record: &mut String, field: &str, separator: u8, alone: bool) {
    let special = |b: u8| b == separator || matches!(b, b'"' | b'\n' | b'\r');
    let quoted = field.bytes().any(special)
        || field.starts_with(' ')
        || field.ends_with(' ')
        || (alone && field.is_empty());
    if !quoted {
        record.push_str(field);
        return;
    }
    record.push('"');
    for c in field.chars() {
        if c == '"' {
            record.push('"');
        }
        record.push(c);
    }
    record.push('"');
}
