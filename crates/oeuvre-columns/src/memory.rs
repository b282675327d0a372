//! Rows held in memory, as a source.
//!
//! Whoever has rows at hand (a trace that calculates once more over the rows of one cell, an example, a program
//! that embeds the core) gives them to the same pass as the rows of a file. There is one reader, and all rows come
//! in one batch unless smaller ones are wanted: they are in memory anyway, and a scan copies the columns that were
//! asked for, and only those.

use crate::column::{Batch, Column};
use crate::problem::{DataProblem, ReadError};
use crate::schema::ColumnInfo;
use crate::source::{Account, Reader, Source};
use crate::value::calendar::{parse_date, parse_datetime};
use crate::value::{Kind, Value};
use std::collections::BTreeMap;

/// Rows held in memory.
///
/// ```
/// use oeuvre_columns::{InMemory, Kind, Source, column::Batch};
///
/// let rows = InMemory::from_texts(
///     &[("route", Kind::Text), ("fare", Kind::Number { scale: 2 })],
///     &[&["SKE", "12.50"], &["KEL", ""]],
/// )?;
/// let mut batch = Batch::default();
/// let mut readers = rows.scan(&[1], 2)?; // the fares alone
/// assert!(readers[0].next(&mut batch)?);
/// assert_eq!(batch.rows, 2);
/// assert_eq!(batch.columns[0].value(Kind::Number { scale: 2 }, 0).to_string(), "12.50");
/// assert!(batch.columns[0].data.is_missing(1));
/// assert!(!readers[0].next(&mut batch)?);
/// # Ok::<(), oeuvre_columns::ReadError>(())
/// ```
#[derive(Clone, Debug, Default)]
pub struct InMemory {
    columns: Vec<ColumnInfo>,
    rows: usize,
    batch_rows: usize,
    /// The columns that are there, by their place in `columns`.
    data: BTreeMap<usize, Column>,
}

impl InMemory {
    /// Rows of which some columns are there, each with its place among `columns`; the others are missing
    /// on every row. Each column has a value for each of the `rows`.
    pub fn new(
        columns: Vec<ColumnInfo>,
        rows: usize,
        data: impl IntoIterator<Item = (usize, Column)>,
    ) -> InMemory {
        InMemory { columns, rows, batch_rows: rows, data: data.into_iter().collect() }
    }

    /// The same rows, in batches of so many (at least one) rows.
    pub fn in_batches(self, batch_rows: usize) -> InMemory {
        InMemory { batch_rows: batch_rows.max(1), ..self }
    }

    /// Rows from texts, each read as the kind of its column, dates as ISO 8601 has them. An empty text is a
    /// missing value.
    ///
    /// # Errors
    /// A row with too few or too many texts, a text that is not of its column's kind, and a kind that no text
    /// is read as (periods, parts of the calendar, ranges): with the row, counted from 1, and the heading.
    pub fn from_texts(columns: &[(&str, Kind)], rows: &[&[&str]]) -> Result<InMemory, DataProblem> {
        let mut data: Vec<Column> =
            columns.iter().map(|&(_, kind)| Column::from_values(kind, &[])).collect();
        for (row, texts) in rows.iter().enumerate() {
            let line = row as u64 + 1;
            if texts.len() != columns.len() {
                let message = format!("{} values, where {} belong", texts.len(), columns.len());
                return Err(DataProblem::new(message).at_line(line));
            }
            for ((column, &(name, kind)), text) in data.iter_mut().zip(columns).zip(*texts) {
                let value = value_of(kind, text).ok_or_else(|| {
                    let message = format!("'{text}' is not {}", kind.describe());
                    DataProblem::new(message).at_line(line).in_column(name)
                })?;
                column.push(kind, &value);
            }
        }
        let info = |&(name, kind): &(&str, Kind)| ColumnInfo::new(name, kind);
        let columns = columns.iter().map(info).collect();
        Ok(InMemory::new(columns, rows.len(), data.into_iter().enumerate()))
    }
}

/// A text as a value of a kind.
fn value_of(kind: Kind, text: &str) -> Option<Value> {
    if text.is_empty() {
        return Some(Value::Missing);
    }
    match kind {
        Kind::Number { scale } => Some(Value::Number(text.parse().ok()?)).filter(
            |value| matches!(value, Value::Number(number) if number.rescale(scale).is_some()),
        ),
        Kind::Float => text.parse().ok().filter(|f: &f64| f.is_finite()).map(Value::Float),
        Kind::Text => Some(Value::Text(text.into())),
        Kind::Boolean => text.parse().ok().map(Value::Boolean),
        Kind::Date => parse_date(text).map(Value::Date),
        Kind::DateTime => parse_datetime(text).map(Value::DateTime),
        Kind::Period(_) | Kind::Part(_) | Kind::Band(_) | Kind::RowNumber | Kind::Nothing => None,
    }
}

impl Source for InMemory {
    fn columns(&self) -> Vec<ColumnInfo> {
        self.columns.clone()
    }

    fn scan<'a>(
        &'a self,
        columns: &[usize],
        _: usize,
    ) -> Result<Vec<Box<dyn Reader + 'a>>, ReadError> {
        let column = |&i: &usize| {
            self.data.get(&i).cloned().unwrap_or_else(|| {
                let kind = self.columns.get(i).map_or(Kind::Text, |c| c.kind);
                Column::from_values(kind, &vec![Value::Missing; self.rows])
            })
        };
        let columns = columns.iter().map(column).collect();
        Ok(vec![Box::new(Batches { rows: self, columns, next: 0, piece: 0 })])
    }
}

/// The batches of a scan.
struct Batches<'a> {
    rows: &'a InMemory,
    columns: Vec<Column>,
    /// The first row of the next batch.
    next: usize,
    piece: u64,
}

impl Reader for Batches<'_> {
    fn next(&mut self, batch: &mut Batch) -> Result<bool, ReadError> {
        let end = (self.next + self.rows.batch_rows).min(self.rows.rows);
        if self.next == end {
            return Ok(false);
        }
        let all = end - self.next == self.rows.rows;
        batch.columns = match all {
            true => std::mem::take(&mut self.columns),
            false => self.columns.iter().map(|column| column.slice(self.next..end)).collect(),
        };
        (batch.rows, batch.piece) = (end - self.next, self.next as u64);
        (self.piece, self.next) = (self.next as u64, end);
        Ok(true)
    }

    fn piece(&self) -> u64 {
        self.piece
    }

    fn account(&self) -> Account {
        Account::default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::value::calendar::Unit;
    use rstest::rstest;

    #[rstest]
    #[case(Kind::Number { scale: 1 }, "2.55", "line 1, column `x`: '2.55' is not a number")]
    #[case(Kind::Number { scale: 1 }, "two", "line 1, column `x`: 'two' is not a number")]
    #[case(Kind::Float, "inf", "line 1, column `x`: 'inf' is not a number")]
    #[case(Kind::Date, "2025-02-30", "line 1, column `x`: '2025-02-30' is not a date")]
    #[case(Kind::Period(Unit::Month), "2025-02", "line 1, column `x`: '2025-02' is not a month")]
    fn a_text_of_another_kind_is_told_with_its_place(
        #[case] kind: Kind,
        #[case] text: &str,
        #[case] told: &str,
    ) {
        let problem = InMemory::from_texts(&[("x", kind)], &[&[text]]).unwrap_err();
        assert_eq!(problem.to_string(), told);
    }

    #[test]
    fn every_row_has_a_value_for_each_column_and_absent_columns_are_missing() {
        let columns = [("x", Kind::Text), ("y", Kind::Boolean)];
        assert!(InMemory::from_texts(&columns, &[&["a"]]).is_err());
        let infos = columns.iter().map(|c| ColumnInfo::new(c.0, c.1)).collect();
        let texts = Column::from_values(Kind::Text, &[Value::Text("a".into())]);
        let rows = InMemory::new(infos, 1, [(0, texts)]);
        let mut batch = Batch::default();
        assert!(rows.scan(&[1, 0], 1).unwrap()[0].next(&mut batch).unwrap());
        assert_eq!((batch.rows, batch.piece), (1, 0));
        assert!(batch.columns[0].data.is_missing(0));
        assert!(!batch.columns[1].data.is_missing(0));
    }

    #[rstest]
    #[case(0, vec![1, 1, 1])]
    #[case(2, vec![2, 1])]
    #[case(9, vec![3])]
    fn batches_are_as_large_as_wanted(#[case] batch_rows: usize, #[case] sizes: Vec<usize>) {
        let texts: [&[&str]; 3] = [&["a"], &["b"], &["a"]];
        let rows =
            InMemory::from_texts(&[("x", Kind::Text)], &texts).unwrap().in_batches(batch_rows);
        let (mut batch, mut found, mut read) = (Batch::default(), Vec::new(), String::new());
        let mut reader = rows.scan(&[0], 3).unwrap().remove(0);
        while reader.next(&mut batch).unwrap() {
            assert_eq!(batch.piece, reader.piece());
            found.push(batch.rows);
            (0..batch.rows)
                .for_each(|row| read += &batch.columns[0].value(Kind::Text, row).to_string());
        }
        assert_eq!((found, read.as_str()), (sizes, "aba"));
    }
}
