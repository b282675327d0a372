//! A headline in words: its figure, and how that compares with another one.

use crate::layout::Layout;
use crate::style::Style;
use oeuvre_columns::Value;
use oeuvre_core::Grid;

/// A headline as it reads.
pub(crate) struct Headline {
    /// What the figure is.
    pub(crate) heading: String,
    /// The figure.
    pub(crate) figure: String,
    /// What it is compared with, and the change.
    pub(crate) beside: Option<String>,
}

/// Where a headline has what in its grid.
const FIGURE: usize = 0;
const BESIDE: usize = 1;
const DIFFERENCE: usize = 2;
const GROWTH: usize = 3;

impl Headline {
    /// A grid of one line as a headline.
    pub(crate) fn of(grid: &Grid, style: &Style) -> Headline {
        let layout = Layout::new(grid, style);
        let read = |column: usize| {
            let mut out = String::new();
            layout.push_read(&mut out, layout.rows.at(0), layout.slots[column]);
            out
        };
        let missing = |column: usize| {
            grid.columns.get(column).is_none_or(|_| grid.cell(0, column).is_missing())
        };
        let or_none = |column: usize| match missing(column) {
            true if style.blank.is_empty() => "no value".to_owned(),
            true => style.blank.clone(),
            false => read(column),
        };
        let heading = |column: usize| crate::escape_controls(&grid.columns[column].heading);
        let signed = |column: usize| {
            let text = read(column);
            let positive = match grid.cell(0, column) {
                Value::Number(n) => n.mantissa > 0,
                Value::Float(f) => f > 0.0,
                _ => false,
            };
            match text.strip_prefix('-') {
                Some(number) => format!("\u{2212}{number}"),
                None if positive => format!("+{text}"),
                None => text,
            }
        };
        // Whether it is a share by what it is, or by the pattern that it was given.
        let share = grid.columns[FIGURE].share || read(FIGURE).ends_with('%');
        let beside = (grid.columns.len() > BESIDE).then(|| {
            let change = match (share, missing(DIFFERENCE), missing(GROWTH)) {
                (_, true, _) => String::new(),
                // A change of a share in percent would be taken for one in points.
                (true, ..) => format!(" ({} points)", signed(DIFFERENCE).trim_end_matches('%')),
                (false, false, false) => format!(" ({})", signed(GROWTH)),
                (false, false, true) => format!(" ({})", signed(DIFFERENCE)),
            };
            format!("{}: {}{change}", heading(BESIDE), or_none(BESIDE))
        });
        Headline { heading: heading(FIGURE), figure: or_none(FIGURE), beside }
    }
}
