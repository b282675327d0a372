//! What fields said that their values do not: which text stood for no value, which currency was written.
//!
//! A reader puts a mark beside a value of which readers of the result may have to be told: few rows have any, so
//! that they are a list beside the column and not a column. They stay with their rows when rows are left out, and
//! so can be counted among the rows that count.
//!
//! ```
//! use oeuvre_columns::column::chosen::Chosen;
//! use oeuvre_columns::column::marks::{Mark, Marks};
//!
//! let mut marks = Marks::default();
//! marks.put(0, Mark::Missing(2));
//! marks.put(3, Mark::currency("EUR"));
//! let mut rows = Chosen::default();
//! rows.choose_true(&[0, 1, 0, 1]);
//! marks.keep_chosen(&rows);
//! assert_eq!(marks.iter().collect::<Vec<_>>(), [(1, Mark::currency("EUR"))]);
//! assert_eq!(Mark::currency("EUR").to_string(), "EUR");
//! ```

use super::chosen::Chosen;
use std::fmt;
use std::sync::Arc;

/// What a field said beside its value.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Mark {
    /// It held a text that stands for no value: the place of it in [`Marks::texts`].
    Missing(u16),
    /// Its file does not have the column at all.
    Lacking,
    /// A currency: its code or sign, in UTF-8 from the first byte on.
    Currency([u8; 4]),
    /// A time with an offset from UTC, in minutes.
    Offset(i16),
}

impl Mark {
    /// A currency of up to four bytes.
    pub fn currency(text: &str) -> Mark {
        let mut bytes = [0; 4];
        bytes.iter_mut().zip(text.bytes()).for_each(|(to, from)| *to = from);
        Mark::Currency(bytes)
    }
}

impl fmt::Display for Mark {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Mark::Missing(n) => write!(f, "missing text {n}"),
            Mark::Lacking => f.write_str("lacking"),
            Mark::Currency(bytes) => {
                let end = bytes.iter().position(|&b| b == 0).unwrap_or(bytes.len());
                f.write_str(&String::from_utf8_lossy(&bytes[..end]))
            }
            Mark::Offset(0) => f.write_str("UTC"),
            Mark::Offset(minutes) => {
                let sign = if *minutes < 0 { '-' } else { '+' };
                let m = minutes.unsigned_abs();
                write!(f, "{sign}{:02}:{:02}", m / 60, m % 60)
            }
        }
    }
}

/// The marks of a column's values.
#[derive(Clone, Debug, Default)]
pub struct Marks {
    /// Row and mark, in the order of the rows.
    at: Vec<(u32, Mark)>,
    /// The texts that stand for no value.
    pub texts: Arc<Vec<String>>,
}

impl Marks {
    /// No marks yet, of a column for which these texts stand for no value.
    pub fn of(texts: Arc<Vec<String>>) -> Marks {
        Marks { at: Vec::new(), texts }
    }

    /// Puts a mark on a row, which must not come before one that has a mark.
    pub fn put(&mut self, row: u32, mark: Mark) {
        self.at.push((row, mark));
    }

    /// Takes all marks off.
    pub fn clear(&mut self) {
        self.at.clear();
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.at.is_empty()
    }

    /// Rows with their marks, in the order of the rows.
    pub fn iter(&self) -> impl Iterator<Item = (u32, Mark)> + '_ {
        self.at.iter().copied()
    }

    /// Keeps the marks of some rows, which are numbered anew.
    pub fn keep_chosen(&mut self, rows: &Chosen) {
        let mut number = rows.numbers();
        self.at.retain_mut(|(row, _)| {
            let chosen = number(*row);
            *row = chosen.unwrap_or(*row);
            chosen.is_some()
        });
    }
}
