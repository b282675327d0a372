//! Comma- and tab-separated values (RFC 4180): one heading line, raw values.
//!
//! What listings of millions of rows are made of (decimals, dates, texts that need no quotes) is written straight
//! from its column; everything else goes by way of the layout. A test compares both.

use super::{FileType, PartWriter, Writer};
use crate::Settings;
use crate::document::Document;
use crate::layout::{Layout, Row, Slot};
use crate::row_buffer::{FewDates, Field, LANES, Lanes, MOST_SCALE, RowBuffer, Short, date};
use crate::style::Style;
use oeuvre_columns::column::dictionary::{Dictionary, MISSING_CODE};
use oeuvre_columns::column::{Data, MISSING_I32, MISSING_I64};
use oeuvre_columns::{Kind, Value, in_order, work};
use oeuvre_core::{Grid, LineKind};
use std::io::{self, Write};
use std::ops::Range;
use std::sync::{Mutex, PoisonError};

/// So much is gathered before it is written.
const BUFFER: usize = 1 << 15;

/// Values with a sign between them.
pub(super) struct Separated {
    file_type: FileType,
    separator: u8,
}

/// Comma-separated values, RFC 4180.
pub(super) const CSV: Separated = Separated::of("csv", b',', &["csv"]);
/// Tab-separated values.
pub(super) const TSV: Separated = Separated::of("tsv", b'\t', &["tsv"]);

impl Separated {
    const fn of(name: &'static str, separator: u8, endings: &'static [&'static str]) -> Separated {
        let file_type = FileType { holds_several: false, ..FileType::of(name, endings) };
        Separated { file_type, separator }
    }

    /// Between fields: where numbers have signs of their own, a comma may be one of them.
    fn separator(&self, style: &Style) -> u8 {
        if self.separator == b',' && style.signs.is_some() { b';' } else { self.separator }
    }
}

impl Writer for Separated {
    fn file_type(&self) -> &FileType {
        &self.file_type
    }
    fn write(
        &self,
        document: &Document<'_>,
        settings: Settings<'_>,
        out: &mut dyn Write,
    ) -> io::Result<()> {
        for part in &document.parts {
            let layout = Layout::new(part.grid, part.style);
            let headings: Vec<&str> = (0..layout.slots.len()).map(|i| layout.heading(i)).collect();
            self.headings(&headings, part.style, out)?;
            let fields = layout.slots.len() as u64;
            let told = |rows: usize| work::done(rows as u64 * fields * work::FIELD);
            rows(&layout, self.separator(part.style), settings.threads, told, out)?;
        }
        Ok(())
    }
    fn parts(&self) -> Option<&dyn PartWriter> {
        Some(self)
    }
}

impl PartWriter for Separated {
    fn headings(&self, headings: &[&str], style: &Style, out: &mut dyn Write) -> io::Result<()> {
        let separator = self.separator(style);
        let mut record = Vec::new();
        for (i, heading) in headings.iter().enumerate() {
            if i > 0 {
                record.push(separator);
            }
            push_field(&mut record, heading, separator, false);
        }
        record.push(b'\n');
        out.write_all(&record)
    }

    fn lines(&self, grid: &Grid, style: &Style, out: &mut dyn Write) -> io::Result<()> {
        rows(&Layout::new(grid, style), self.separator(style), 1, |_| {}, out)
    }
}

/// Where the fields of a column come from. What listings of millions of rows are made of is written
/// straight from its column.
enum Source<'a> {
    Decimals(&'a [i64], u8),
    Dates(&'a [i32]),
    /// Dates that are made already, from the first of them on.
    FewDates(&'a [i32], i32),
    /// The codes of texts that are made already.
    FewTexts(&'a [u32]),
    /// The codes, their texts, and those that are bounded and need no quotes; none are told where there are many.
    Texts(&'a [u32], &'a Dictionary, Vec<Option<Field>>),
    /// Anything else, a value at a time.
    Values(Slot),
}

/// A column as it is written.
struct Written<'a> {
    source: Source<'a>,
    separator: u8,
    /// What ends its fields.
    end: u8,
    /// A field without a value.
    blank: Field,
    /// Whether it is the only one.
    alone: bool,
}

/// Up to so many texts are looked at once, instead of each time.
const FEW_TEXTS: usize = 4096;

impl<'a> Written<'a> {
    /// A column, and the place where its fields are made.
    fn new(layout: &Layout<'a>, slot: Slot, separator: u8, end: u8) -> (Written<'a>, Lanes) {
        let alone = layout.slots.len() == 1;
        // A line of one blank field would read as no line at all.
        let blank = Field::of(if alone { b"\"\"" } else { b"" }, end).unwrap_or(Field::NONE);
        let (source, lanes) = Self::source(layout, slot, separator, (end, blank));
        (Written { source, separator, end, blank, alone }, lanes)
    }

    fn source(
        layout: &Layout<'a>,
        slot: Slot,
        separator: u8,
        (end, blank): (u8, Field),
    ) -> (Source<'a>, Lanes) {
        let grid = layout.grid;
        let column = match slot {
            _ if layout.is_long() => None,
            Slot::Result(r) => grid.columns.get(r).map(|c| (&*c.cells, c.kind)),
            // Labels are values where no line is a total and none is missing.
            Slot::Key(k) => Some((&grid.labels[k], grid.by[k].kind)).filter(|(labels, _)| {
                grid.lines.are_all(LineKind::Group) && !labels.data.any_missing()
            }),
            Slot::Across(_) => None,
        };
        let Some((cells, kind)) = column else { return (Source::Values(slot), Lanes::new()) };
        match (&cells.data, kind) {
            (Data::I64(v), Kind::Number { scale })
                if layout.signs().is_none() && scale <= MOST_SCALE =>
            {
                (Source::Decimals(v, scale), Lanes::of_figures(scale, end))
            }
            (Data::I32(v), Kind::Date) => match FewDates::of(v, end) {
                Some(few) => (Source::FewDates(v, few.first), Lanes::of_few(few.made, blank)),
                None => (Source::Dates(v), Lanes::new()),
            },
            (Data::Codes(v), _) => {
                let few = cells.dictionary.len() <= FEW_TEXTS.min(v.len());
                let plain = |t: &str| match needs_quotes(t, separator, layout.slots.len() == 1) {
                    true => None,
                    false => Field::of(t.as_bytes(), end),
                };
                let plain: Vec<Option<Field>> = cells
                    .dictionary
                    .iter()
                    .take(if few { FEW_TEXTS } else { 0 })
                    .map(plain)
                    .collect();
                let short = |field: &Option<Field>| field.as_ref().and_then(Field::short);
                match plain.iter().map(short).collect::<Option<Vec<Short>>>() {
                    Some(short) if few => (Source::FewTexts(v), Lanes::of_few(short, blank)),
                    _ => (Source::Texts(v, &cells.dictionary, plain), Lanes::new()),
                }
            }
            _ => (Source::Values(slot), Lanes::new()),
        }
    }

    /// The fields of some rows; those that are long lie in `long`.
    fn fill(
        &self,
        layout: &Layout<'_>,
        rows: &[Row],
        lanes: &mut Lanes,
        long: &mut Vec<u8>,
    ) -> io::Result<()> {
        match &self.source {
            Source::Decimals(v, scale) => {
                let mut mantissas = [0; LANES];
                match lines(rows) {
                    Some(lines) => mantissas[..rows.len()].copy_from_slice(&v[lines]),
                    None => mantissas.iter_mut().zip(rows).for_each(|(m, row)| *m = v[row.line]),
                }
                if !lanes.set_figures(&mantissas, &self.blank) {
                    for (field, mantissa) in lanes.fields.iter_mut().zip(mantissas) {
                        match mantissa {
                            MISSING_I64 => *field = self.blank,
                            mantissa => field.set_decimal(mantissa, *scale, self.end),
                        }
                    }
                }
            }
            Source::FewDates(v, first) => {
                lanes.pick(rows.iter().map(|row| v[row.line].wrapping_sub(*first) as u32));
            }
            Source::Dates(v) => {
                for (field, row) in lanes.fields.iter_mut().zip(rows) {
                    *field = match v[row.line] {
                        MISSING_I32 => self.blank,
                        day => date(day, self.end),
                    };
                }
            }
            Source::FewTexts(v) => {
                lanes.pick(rows.iter().map(|row| v[row.line]));
            }
            Source::Texts(v, texts, plain) => {
                for (field, row) in lanes.fields.iter_mut().zip(rows) {
                    let code = v[row.line];
                    match plain.get(code as usize) {
                        Some(Some(made)) => *field = *made,
                        _ if code == MISSING_CODE => *field = self.blank,
                        _ => *field = self.text(texts.text(code), long),
                    }
                }
            }
            Source::Values(slot) => {
                for (field, row) in lanes.fields.iter_mut().zip(rows) {
                    *field = self.value(layout, *row, *slot, long)?;
                }
            }
        }
        Ok(())
    }

    /// A field of any text.
    fn text(&self, text: &str, long: &mut Vec<u8>) -> Field {
        let start = long.len();
        push_field(long, text, self.separator, self.alone);
        long.push(self.end);
        Field::long(&(start..long.len()))
    }

    /// A field of any value.
    fn value(
        &self,
        layout: &Layout<'_>,
        row: Row,
        slot: Slot,
        long: &mut Vec<u8>,
    ) -> io::Result<Field> {
        Ok(match layout.raw(row, slot) {
            Value::Text(text) => self.text(&text, long),
            Value::Missing => self.blank,
            value => match layout.signs().filter(|_| layout.kind(slot).is_number()) {
                // All digits there are, but with the signs that were asked for.
                Some(signs) => {
                    self.text(&signs.write(&layout.with_groups(row, slot, &value)), long)
                }
                // No figure, date or period has a sign in it that needs quotes.
                None => {
                    let start = long.len();
                    write!(long, "{value}")?;
                    long.push(self.end);
                    Field::long(&(start..long.len()))
                }
            },
        })
    }
}

/// The lines of some rows, where they are one behind the other.
fn lines(rows: &[Row]) -> Option<Range<usize>> {
    let first = rows.first()?.line;
    let follow = rows.iter().zip(first..).all(|(row, line)| row.line == line);
    follow.then_some(first..first + rows.len())
}

/// So many parts are worth several threads.
const WORTH_A_THREAD: usize = if cfg!(test) { 2 } else { 8 };
/// So many rows are written at a time.
const PART_ROWS: usize = if cfg!(test) { 2 * LANES } else { 64 * LANES };

/// What a part of the rows is made with, which serves again.
struct Scratch {
    /// Of each column.
    lanes: Vec<Lanes>,
    /// Fields that are long.
    long: Vec<u8>,
    rows: Vec<Row>,
    written: RowBuffer,
}

fn rows(
    layout: &Layout<'_>,
    separator: u8,
    threads: usize,
    told: impl Fn(usize),
    out: &mut dyn Write,
) -> io::Result<()> {
    let last = layout.slots.len().saturating_sub(1);
    let made = (layout.slots.iter().enumerate()).map(|(i, &slot)| {
        Written::new(layout, slot, separator, if i == last { b'\n' } else { separator })
    });
    let (columns, lanes): (Vec<Written<'_>>, Vec<Lanes>) = made.unzip();
    let fresh = || Scratch {
        lanes: lanes.clone(),
        long: Vec::new(),
        rows: Vec::with_capacity(LANES),
        written: RowBuffer::new(BUFFER),
    };
    let make = |part: usize, scratch: &mut Scratch| {
        let Scratch { lanes, long, rows, written } = scratch;
        let begins = part * PART_ROWS;
        let ends = (begins + PART_ROWS).min(layout.rows.len());
        written.clear();
        for first in (begins..ends).step_by(LANES) {
            rows.clear();
            rows.extend((first..ends.min(first + LANES)).map(|at| layout.rows.at(at)));
            long.clear();
            for (column, lanes) in columns.iter().zip(&mut *lanes) {
                column.fill(layout, rows, lanes, long)?;
            }
            written.rows(rows.len(), lanes, long);
        }
        Ok::<(), io::Error>(())
    };
    let parts = layout.rows.len().div_ceil(PART_ROWS);
    if threads < 2 || parts < WORTH_A_THREAD {
        let mut scratch = fresh();
        return (0..parts).try_for_each(|part| {
            make(part, &mut scratch)?;
            out.write_all(scratch.written.written())?;
            told(PART_ROWS);
            Ok(())
        });
    }
    let used = Mutex::new(Vec::new());
    let of_used = || used.lock().unwrap_or_else(PoisonError::into_inner);
    let made = |part| {
        let mut scratch = of_used().pop().unwrap_or_else(fresh);
        let made = make(part, &mut scratch);
        (made, scratch)
    };
    let mut written = Ok(());
    in_order(parts, threads, made, |(made, scratch): (io::Result<()>, Scratch)| {
        written = made.and_then(|()| out.write_all(scratch.written.written()));
        of_used().push(scratch);
        told(PART_ROWS);
        written.is_ok()
    });
    written
}

/// Whether a field must stand in quotes (RFC 4180, 2.6); `alone` where it is the only one of its line.
fn needs_quotes(field: &str, separator: u8, alone: bool) -> bool {
    let special = |b: u8| b == separator || matches!(b, b'"' | b'\n' | b'\r');
    field.bytes().any(special)
        || field.starts_with(' ')
        || field.ends_with(' ')
        || (alone && field.is_empty())
}

/// Adds a field, in quotes where it needs them, which are doubled inside (RFC 4180, 2.7).
fn push_field(record: &mut Vec<u8>, field: &str, separator: u8, alone: bool) {
    if !needs_quotes(field, separator, alone) {
        record.extend_from_slice(field.as_bytes());
        return;
    }
    record.push(b'"');
    for b in field.bytes() {
        if b == b'"' {
            record.push(b'"');
        }
        record.push(b);
    }
    record.push(b'"');
}
