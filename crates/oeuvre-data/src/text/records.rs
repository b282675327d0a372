//! The records of a piece, with the marks where their fields end: fields by column and row, without a copy.

use oeuvre_columns::instructions::{Instructions, Level};
use std::borrow::Cow;

/// The records of a piece: where each field ends.
pub(crate) struct Records<'a> {
    pub(crate) data: &'a [u8],
    pub(crate) quote: Option<u8>,
    /// The marks that are kept of each record, one record after the other.
    pub(crate) marks: &'a [u32],
    /// Which ones these are.
    pub(crate) kept: &'a Kept,
    /// Where each record starts, when that is not right behind the mark before; then all marks are kept.
    pub(crate) starts: &'a [u32],
    /// Which instructions may be used.
    pub(crate) level: Level,
}

/// Which marks are kept of each record: one for the end of each field, or only those on both sides of some.
#[derive(Clone, Debug, Default)]
pub(crate) struct Kept {
    /// Fields in a record.
    width: usize,
    /// Marks that are kept of a record.
    stride: usize,
    /// For each field the place of the mark at its end among those that are kept; empty where all are.
    places: Vec<u32>,
}

/// Where the marks around a column's field stand among those of a record.
#[derive(Clone, Copy)]
pub(super) struct Edges {
    /// Marks of a record.
    pub(super) stride: usize,
    /// The mark before the field; `None` where that is the last one of the record before.
    pub(super) before: Option<usize>,
    /// The mark at its end.
    pub(super) end: usize,
    /// Whether the field is the last of its record.
    pub(super) is_last: bool,
}

impl Kept {
    /// All marks of records of so many fields.
    pub(crate) fn all(width: usize) -> Kept {
        Kept { width, stride: width, places: Vec::new() }
    }

    /// The marks around some fields of records of so many; there is one at least. `starts` says whether it is asked
    /// where records start.
    pub(crate) fn around(width: usize, fields: impl Iterator<Item = usize>, starts: bool) -> Kept {
        let mut is_kept = vec![false; width];
        for field in fields {
            is_kept[field] = true;
            is_kept[field.checked_sub(1).unwrap_or(width - 1)] = true;
        }
        if starts || !is_kept.contains(&true) {
            is_kept[width - 1] = true;
        }
        let mut stride = 0;
        let places = is_kept.iter().map(|&kept| {
            stride += usize::from(kept);
            if kept { stride as u32 - 1 } else { u32::MAX }
        });
        let places = places.collect();
        Kept { width, stride, places }
    }

    /// How many marks of a record are kept.
    pub(crate) fn stride(&self) -> usize {
        self.stride
    }

    /// Whether the mark at the end of a field is kept.
    pub(crate) fn has(&self, field: usize) -> bool {
        self.places.get(field).is_none_or(|&place| place != u32::MAX)
    }

    fn place(&self, field: usize) -> usize {
        match self.places.get(field) {
            None => field,
            Some(&place) => {
                assert!(place != u32::MAX, "the mark behind field {field} is not kept");
                place as usize
            }
        }
    }

    /// Where the marks around a column's field stand; both are kept.
    #[inline]
    pub(super) fn edges(&self, column: usize) -> Edges {
        Edges {
            stride: self.stride,
            before: column.checked_sub(1).map(|before| self.place(before)),
            end: self.place(column),
            is_last: column + 1 == self.width,
        }
    }
}

impl<'a> Records<'a> {
    /// Records that were written here: without quotes, with all marks.
    pub(crate) fn written(data: &'a [u8], marks: &'a [u32], kept: &'a Kept) -> Records<'a> {
        let level = Instructions::Auto.level();
        Records { data, quote: None, marks, kept, starts: &[], level }
    }

    pub(crate) fn rows(&self) -> usize {
        self.marks.len() / self.kept.stride.max(1)
    }

    /// Where a record starts; the marks at the ends of records are kept.
    pub(crate) fn start(&self, row: usize) -> usize {
        match self.starts.get(row) {
            Some(&start) => start as usize,
            None if row == 0 => 0,
            None => self.marks[row * self.kept.stride - 1] as usize + 1,
        }
    }

    /// Start and length of the column's field in a record.
    pub(crate) fn field(&self, column: usize, row: usize) -> (usize, usize) {
        let Edges { stride, before, end, is_last } = self.kept.edges(column);
        let record = row * stride;
        let start = match before {
            Some(before) => self.marks[record + before] as usize + 1,
            None => self.start(row),
        };
        let mut end = self.marks[record + end] as usize;
        if is_last && end > start && self.data[end - 1] == b'\r' {
            end -= 1;
        }
        (start, end.saturating_sub(start))
    }

    /// The text of a field, without its quotes.
    pub(crate) fn text(&self, start: usize, len: usize) -> Cow<'a, [u8]> {
        unquote(&self.data[start..start + len], self.quote)
    }

    /// As [`Records::text`], with U+FFFD for what is not UTF-8: for looking at what a field may be.
    pub(crate) fn lossy(&self, start: usize, len: usize) -> Cow<'a, str> {
        match self.text(start, len) {
            Cow::Borrowed(bytes) => String::from_utf8_lossy(bytes),
            Cow::Owned(bytes) => Cow::Owned(String::from_utf8_lossy(&bytes).into_owned()),
        }
    }
}

/// A field without its quotes, doubled ones made single.
pub(crate) fn unquote(field: &[u8], quote: Option<u8>) -> Cow<'_, [u8]> {
    let Some(q) = quote.filter(|q| field.first() == Some(q)) else { return Cow::Borrowed(field) };
    let inner = field[1..].strip_suffix(&[q]).unwrap_or(&field[1..]);
    if !inner.contains(&q) {
        return Cow::Borrowed(inner);
    }
    let mut out = Vec::with_capacity(inner.len());
    let mut bytes = inner.iter();
    while let Some(&b) = bytes.next() {
        out.push(b);
        if b == q {
            bytes.next();
        }
    }
    Cow::Owned(out)
}
