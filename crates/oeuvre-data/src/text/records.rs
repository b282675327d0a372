//! The records of a piece, with the marks where their fields end: fields by column and row, without a copy.

use std::borrow::Cow;

/// The records of a piece: where each field ends.
pub(crate) struct Records<'a> {
    pub(crate) data: &'a [u8],
    pub(crate) quote: Option<u8>,
    /// One mark a field, one record after the other.
    pub(crate) marks: &'a [u32],
    /// Fields in a record.
    pub(crate) width: usize,
    /// Where each record starts, when that is not right behind the mark before.
    pub(crate) starts: &'a [u32],
}

impl<'a> Records<'a> {
    pub(crate) fn rows(&self) -> usize {
        self.marks.len() / self.width.max(1)
    }

    /// Start and length of the column's field in a record.
    pub(crate) fn field(&self, column: usize, row: usize) -> (usize, usize) {
        let record = &self.marks[row * self.width..(row + 1) * self.width];
        let start = match (column, self.starts.get(row)) {
            (0, Some(&start)) => start as usize,
            (0, None) if row == 0 => 0,
            (0, None) => self.marks[row * self.width - 1] as usize + 1,
            _ => record[column - 1] as usize + 1,
        };
        let mut end = record[column] as usize;
        if column + 1 == self.width && end > start && self.data[end - 1] == b'\r' {
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
