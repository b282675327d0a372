//! Headings in rows, as outputs with merged cells have them: labels along the top over the columns that share them.
//!
//! The first row holds the result where there is one alone, else the outermost labels; the last one stands right
//! above the figures. A key, and a total along the top, reaches down over the rows that are not its own.

use crate::layout::{Layout, Slot};
use oeuvre_columns::Value;
use std::ops::Range;

/// A heading over some columns.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Span {
    /// What it says.
    pub(crate) text: String,
    /// The columns below it, by their places among the slots.
    pub(crate) slots: Range<usize>,
    /// Over how many rows of headings it reaches.
    pub(crate) rows: usize,
    /// The note that it is marked with.
    pub(crate) mark: Option<usize>,
    /// Whether figures or labels stand right below it.
    pub(crate) last: bool,
}

/// Labels along the top, from the outermost; `None` where a position sums over the key.
type Path = Vec<Option<Value>>;

/// The rows of headings from the top.
pub(crate) fn heading_rows(layout: &Layout<'_>) -> Vec<Vec<Span>> {
    let grid = layout.grid;
    let pivot = !grid.across.is_empty() && !layout.is_long();
    let one = layout.results_per_position() == 1;
    let across = if pivot { grid.across.len() } else { 0 };
    let count = across + 1;
    let mut rows: Vec<Vec<Span>> = vec![Vec::new(); count];
    let mut paths: Vec<Option<Path>> = vec![None; count];
    for (place, &slot) in layout.slots.iter().enumerate() {
        let own = crate::cells::escape_controls(layout.own_heading(slot));
        let column = match slot {
            Slot::Result(column) if pivot => column,
            _ => {
                let mark = layout.heading_mark(slot);
                let slots = place..place + 1;
                rows[0].push(Span { text: own, slots, rows: count, mark, last: true });
                continue;
            }
        };
        let position = grid.columns[column].position;
        let depth = (grid.positions[position].depth as usize).min(across);
        // From the top: one result first, then labels down to where a total ends, then several results; each with
        // the labels that the columns below it share.
        let mut parts: Vec<(String, usize, Path)> = Vec::new();
        if one {
            parts.push((own.clone(), 1, Vec::new()));
        }
        for key in 0..across.min(depth + 1) {
            let mut label = String::new();
            layout.push_position_label(&mut label, position, key);
            let path = (0..=key).map(|k| grid.position_label(position, k)).collect();
            parts.push((label, if key == depth { across - key } else { 1 }, path));
        }
        if !one {
            parts.push((own, 1, Vec::new()));
        }
        let (mut row, count) = (0, parts.len());
        for (i, (text, reach, path)) in parts.into_iter().enumerate() {
            let last = i + 1 == count;
            match rows[row].last_mut() {
                Some(span)
                    if !last && span.slots.end == place && paths[row].as_ref() == Some(&path) =>
                {
                    span.slots.end += 1;
                }
                _ => {
                    let mark = layout.heading_mark(slot).filter(|_| last);
                    rows[row].push(Span { text, slots: place..place + 1, rows: reach, mark, last });
                    paths[row] = Some(path);
                }
            }
            row += reach;
        }
    }
    rows
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Style;
    use crate::testing::{any_table, pivot, table};
    use oeuvre_core::{Request, Totals};
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    // One result stands over everything, and a total reaches down.
    #[case("year(d),k", &["sum(x)"], "f:3 sum(x)>4; 2024>2 2025>1 Total:2; KEL SKE SKE")]
    #[case("year(d)", &["sum(x)", "n: count()"], "f:2 2024>2 2025>2 Total>2; sum(x) n sum(x) n sum(x) n")]
    fn headings_stand_over_what_shares_them(
        #[case] across: &str,
        #[case] show: &[&str],
        #[case] expected: &str,
    ) {
        let rows = [
            ["SKE", "2024-05-01", "4.00", "1"],
            ["SKE", "2025-05-01", "-2.00", "1"],
            ["KEL", "2024-05-01", "1.50", "1"],
        ];
        let request = Request { totals: Totals::Grand, ..pivot(&["f"], across, show) };
        let (grid, _) = table(&rows, &request);
        let style = Style::default();
        let drawn = |span: &Span| {
            let wide = if span.last { String::new() } else { format!(">{}", span.slots.len()) };
            let high = if span.rows > 1 { format!(":{}", span.rows) } else { String::new() };
            format!("{}{wide}{high}", span.text)
        };
        let rows = heading_rows(&Layout::new(&grid, &style));
        let line = |row: &Vec<Span>| row.iter().map(drawn).collect::<Vec<_>>().join(" ");
        assert_eq!(rows.iter().map(line).collect::<Vec<_>>().join("; "), expected);
    }

    proptest! {
        /// Headings fill their rows: over each column every row of headings is covered exactly once.
        #[test]
        fn every_column_is_covered_once_a_row((grid, _) in any_table()) {
            let style = Style::default();
            let layout = Layout::new(&grid, &style);
            let rows = heading_rows(&layout);
            let mut covered = vec![vec![0; layout.slots.len()]; rows.len()];
            for (at, row) in rows.iter().enumerate() {
                for span in row {
                    for line in &mut covered[at..at + span.rows] {
                        line[span.slots.clone()].iter_mut().for_each(|n| *n += 1);
                    }
                    prop_assert_eq!(span.last, at + span.rows == rows.len());
                }
            }
            prop_assert!(covered.iter().flatten().all(|&n| n == 1), "{:?}", rows);
        }
    }
}
