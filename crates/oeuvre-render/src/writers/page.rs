//! A quiet ruled table for reading in a terminal or a plain-text mail.
//!
//! A column is as wide as its widest cell; headings of results take several lines where they do not fit. Where the page
//! is narrower, long labels are shortened first, and then columns go on in blocks below, each with the keys before
//! it: no figure is left out for want of room.
//! Width is counted in columns of characters (Unicode Standard Annex 11), so that wide characters align. The cost
//! is a few passes over the cells shown.

use crate::TextSettings;
use crate::cells::escape_controls;
use crate::draw::{BAR_WIDTH, bar_text, heat_text, step, trend_text};
use crate::layout::{Layout, Row, Slot};
use crate::ledger::wrapped;
use crate::style::Style;
use anstyle::{Ansi256Color, AnsiColor, Color};
use oeuvre_columns::Kind;
use oeuvre_core::{Grid, LineKind};
use std::io::{self, Write};
use unicode_width::{UnicodeWidthChar, UnicodeWidthStr};

/// Between columns.
const GAP: usize = 2;
/// Labels are not cut shorter than this.
const SHORTEST_LABEL: usize = 10;

const BOLD: anstyle::Style = anstyle::Style::new().bold();
const DIM: anstyle::Style = anstyle::Style::new().dimmed();
/// Behind figures from the smallest to the largest: sand to orange, with black figures on it.
const SHADES: [u8; 5] = [230, 229, 222, 215, 208];

/// Headings are not broken into lines on a page without a limit, where all fit so many columns of characters.
const ROOM_FOR_HEADINGS: usize = 120;

/// A column with its width on the page.
#[derive(Clone)]
struct Wide {
    slot: Slot,
    /// Of the figures and of the marks behind them.
    width: usize,
    /// Room for marks behind the figures.
    marks: usize,
    /// Room for a bar or a shade behind these.
    drawn: usize,
}

impl Wide {
    fn all(&self) -> usize {
        self.width + self.drawn
    }
}

/// How this table is drawn.
struct Page<'a> {
    layout: &'a Layout<'a>,
    color: bool,
}

/// Draws a table.
pub(super) fn write(
    grid: &Grid,
    style: &Style,
    settings: TextSettings,
    out: &mut dyn Write,
) -> io::Result<()> {
    let layout = Layout::new(grid, style);
    let page = Page { layout: &layout, color: settings.color };
    let limit = settings.width_cols;
    let blocks = match limit {
        Some(limit) => blocks(&layout, page.measure(Some(limit)), limit.max(1)),
        None => vec![page.measure(None)],
    };
    for (i, mut columns) in blocks.into_iter().enumerate() {
        if i > 0 {
            writeln!(out)?;
        }
        page.widen_for_spans(&mut columns, limit);
        page.write_block(&columns, out)?;
    }
    for (i, note) in grid.notes.iter().enumerate() {
        let mark = superscript(i + 1);
        let indent = mark.width() + 1;
        let room = limit.map_or(usize::MAX, |limit| limit.saturating_sub(indent).max(1));
        for (line, text) in wrapped(&escape_controls(note), room).into_iter().enumerate() {
            let begin = if line == 0 { format!("{mark} ") } else { " ".repeat(indent) };
            let mut line = format!("{begin}{text}");
            shorten(&mut line, limit.unwrap_or(usize::MAX));
            writeln!(out, "{}", page.paint(DIM, &line))?;
        }
    }
    Ok(())
}

impl Page<'_> {
    /// Writes all lines of some columns that stand beside each other.
    fn write_block(&self, columns: &[Wide], out: &mut dyn Write) -> io::Result<()> {
        let (layout, grid) = (self.layout, self.layout.grid);
        let rule = self.paint(DIM, &"─".repeat(page_width(columns)));
        for line in self.heading_lines(columns) {
            writeln!(out, "{}", self.paint(BOLD, line.trim_end()))?;
        }
        writeln!(out, "{rule}")?;
        let mut text = String::new();
        for (at, row) in layout.rows.iter().enumerate() {
            let kind = grid.lines[row.line].kind;
            let above = at.checked_sub(1).map(|a| grid.lines[layout.rows.at(a).line].kind);
            if kind == LineKind::Grand && above.is_some_and(|k| k != LineKind::Grand) {
                text.push_str(&rule);
                text.push('\n');
            }
            self.push_line(&mut text, columns, row);
            // Room after the lines of an outer group that its subtotal closes, and before the next one
            // when subtotals stand on top.
            if let Some(next) = layout.rows.get(at + 1).map(|r| grid.lines[r.line].kind) {
                let line = |k: LineKind| matches!(k, LineKind::Group | LineKind::Rest);
                let closes = kind == LineKind::Subtotal && line(next);
                let opens = line(kind) && next == LineKind::Subtotal;
                let bottom = grid.lines.get(0).is_some_and(|l| line(l.kind));
                if !layout.is_long() && ((closes && bottom) || (opens && !bottom)) {
                    text.push('\n');
                }
                if kind == LineKind::Grand && next != LineKind::Grand {
                    text.push_str(&rule);
                    text.push('\n');
                }
            }
            if text.len() > 1 << 15 {
                out.write_all(text.as_bytes())?;
                text.clear();
            }
        }
        out.write_all(text.as_bytes())
    }

    fn paint(&self, style: anstyle::Style, text: &str) -> String {
        if self.color && !text.is_empty() {
            format!("{style}{text}{style:#}")
        } else {
            text.to_owned()
        }
    }

    /// Adds a line with its cells in their columns.
    fn push_line(&self, out: &mut String, columns: &[Wide], row: Row) {
        let layout = self.layout;
        // A shade ends at its cell, and so the styles of a line are opened cell by cell.
        let bold = layout.is_total(row.line);
        let mut text = String::new();
        let mut drawn = String::new();
        for (i, column) in columns.iter().enumerate() {
            if i > 0 {
                drawn.push_str(&" ".repeat(GAP));
            }
            text.clear();
            layout.push_read(&mut text, row, column.slot);
            shorten(&mut text, column.width - column.marks);
            let fill = " ".repeat(column.width - column.marks - text.width());
            let mark = layout.mark(row, column.slot).map(superscript).unwrap_or_default();
            let after = " ".repeat(column.marks - mark.width());
            let shade = layout.shade(row, column.slot).filter(|_| layout.has_shades(column.slot));
            let figure = match layout.is_right(column.slot) {
                true => format!("{fill}{text}{mark}{after}"),
                false => format!("{text}{mark}{after}{fill}"),
            };
            match shade {
                Some(shade) if self.color => {
                    let style = anstyle::Style::new()
                        .fg_color(Some(Color::Ansi(AnsiColor::Black)))
                        .bg_color(Some(Color::Ansi256(Ansi256Color(SHADES[step(shade)]))));
                    drawn.push_str(&format!("{style}{figure}{style:#}"));
                }
                _ if bold && !figure.trim().is_empty() => {
                    drawn.push_str(&self.paint(BOLD, &figure))
                }
                _ => drawn.push_str(&figure),
            }
            if layout.has_bars(column.slot) {
                let bar = layout.bar(row, column.slot).map(|(from, to)| bar_text(from, to));
                drawn.push_str(&format!(" {:<BAR_WIDTH$}", bar.unwrap_or_default()));
            }
            if let Some(trend) = layout.trend(row, column.slot) {
                drawn.push_str(&format!("  {}", trend_text(&trend)));
            }
            if layout.has_shades(column.slot) && !self.color {
                drawn.push(' ');
                drawn.push(shade.map_or(' ', heat_text));
            }
        }
        out.push_str(drawn.trim_end());
        out.push('\n');
    }

    /// Widths by what stands in the columns. Headings of results take several lines where they do not fit in one.
    fn measure(&self, limit: Option<usize>) -> Vec<Wide> {
        let pivot = !self.layout.grid.across.is_empty() && !self.layout.is_long();
        if !pivot {
            let whole = self.measure_with(|heading, _| heading.width());
            if page_width(&whole) <= limit.unwrap_or(ROOM_FOR_HEADINGS) {
                return whole;
            }
        }
        self.measure_with(heading_width)
    }

    fn measure_with(&self, heading_width: impl Fn(&str, bool) -> usize) -> Vec<Wide> {
        let layout = self.layout;
        let mut text = String::new();
        let one = |&slot: &Slot| {
            let many = !layout.grid.across.is_empty() && matches!(slot, Slot::Result(_));
            let mut width = heading_width(&self.bottom(slot), many);
            let mut marks = layout.heading_mark(slot).map_or(0, |m| superscript(m).width());
            for row in layout.rows.iter() {
                text.clear();
                layout.push_read(&mut text, row, slot);
                width = width.max(text.width());
                if let Some(mark) = layout.mark(row, slot) {
                    marks = marks.max(superscript(mark).width());
                }
            }
            let bars = if layout.has_bars(slot) { BAR_WIDTH + 1 } else { 0 };
            let shade = if layout.has_shades(slot) && !self.color { 2 } else { 0 };
            let trend = layout.trend_of(slot).map_or(0, |_| layout.trend_length() + 2);
            Wide { slot, width: width + marks, marks, drawn: bars + shade + trend }
        };
        layout.slots.iter().map(one).collect()
    }

    /// What stands above a column in spans, from the top, without its own heading.
    fn above(&self, slot: Slot) -> Vec<String> {
        let grid = self.layout.grid;
        let Slot::Result(column) = slot else { return Vec::new() };
        if grid.across.is_empty() || self.layout.is_long() {
            return Vec::new();
        }
        let position = grid.columns[column].position;
        let mut labels: Vec<String> = (0..grid.across.len())
            .map(|key| {
                let mut text = String::new();
                self.layout.push_position_label(&mut text, position, key);
                text
            })
            .collect();
        if self.layout.results_per_position() == 1 {
            labels.insert(0, escape_controls(self.layout.own_heading(slot)));
            labels.pop();
        }
        labels
    }

    /// What stands right above the figures of a column: of one result the innermost label, of several
    /// the result.
    fn bottom(&self, slot: Slot) -> String {
        let grid = self.layout.grid;
        match slot {
            Slot::Result(column)
                if !grid.across.is_empty()
                    && !self.layout.is_long()
                    && self.layout.results_per_position() == 1 =>
            {
                let mut text = String::new();
                let position = grid.columns[column].position;
                self.layout.push_position_label(&mut text, position, grid.across.len() - 1);
                text
            }
            _ => escape_controls(self.layout.own_heading(slot)),
        }
    }

    /// The spans of a line of headings: the columns from and to, and what stands above them.
    fn spans(&self, columns: &[Wide], level: usize) -> Vec<(usize, usize, String)> {
        let above: Vec<Vec<String>> = columns.iter().map(|c| self.above(c.slot)).collect();
        let mut out = Vec::new();
        let mut at = 0;
        while at < columns.len() {
            let Some(label) = above[at].get(level).cloned() else {
                at += 1;
                continue;
            };
            let mut end = at + 1;
            while end < columns.len() && above[end].get(..=level) == above[at].get(..=level) {
                end += 1;
            }
            out.push((at, end, label));
            at = end;
        }
        out
    }

    fn levels(&self, columns: &[Wide]) -> usize {
        columns.iter().map(|c| self.above(c.slot).len()).max().unwrap_or(0)
    }

    /// Makes the last column under a heading wide enough for it, as far as the page has room.
    fn widen_for_spans(&self, columns: &mut [Wide], limit: Option<usize>) {
        for level in 0..self.levels(columns) {
            for (from, to, label) in self.spans(columns, level) {
                let lacking = label.width().saturating_sub(page_width(&columns[from..to]));
                let room = limit.map_or(lacking, |l| l.saturating_sub(page_width(columns)));
                columns[to - 1].width += lacking.min(room);
            }
        }
    }

    /// The lines of the headings, from the top.
    fn heading_lines(&self, columns: &[Wide]) -> Vec<String> {
        let mut out = Vec::new();
        for level in 0..self.levels(columns) {
            let mut line = String::new();
            let mut done = 0;
            for (from, to, label) in self.spans(columns, level) {
                while done < from {
                    line.push_str(&" ".repeat(columns[done].all() + GAP));
                    done += 1;
                }
                let width = page_width(&columns[from..to]);
                let mut label = label;
                shorten(&mut label, width);
                let spare = width - label.width();
                // A rule to both sides shows how far a heading reaches.
                if to - from > 1 && spare >= 4 && !label.is_empty() {
                    let left = (spare - 2) / 2;
                    line.push_str(&"─".repeat(left));
                    line.push_str(&format!(" {label} "));
                    line.push_str(&"─".repeat(spare - 2 - left));
                } else {
                    // Above the figures alone, not above what is drawn behind them.
                    let behind = if to - from == 1 { columns[from].drawn } else { 0 };
                    let before = spare.saturating_sub(behind);
                    line.push_str(&format!(
                        "{}{label}{}",
                        " ".repeat(before),
                        " ".repeat(spare - before)
                    ));
                }
                done = to;
                if done < columns.len() {
                    line.push_str(&" ".repeat(GAP));
                }
            }
            out.push(line);
        }
        let wrapped: Vec<Vec<String>> =
            columns.iter().map(|c| wrap(&self.bottom(c.slot), c.width - c.marks)).collect();
        let height = wrapped.iter().map(Vec::len).max().unwrap_or(1);
        out.extend((0..height).map(|row| {
            let mut line = String::new();
            for (i, (column, lines)) in columns.iter().zip(&wrapped).enumerate() {
                if i > 0 {
                    line.push_str(&" ".repeat(GAP));
                }
                // Short headings stand at the bottom.
                let text = (row + lines.len()).checked_sub(height).and_then(|r| lines.get(r));
                let text = text.map_or("", String::as_str);
                let fill = " ".repeat((column.width - column.marks).saturating_sub(text.width()));
                let mark = self.layout.heading_mark(column.slot).filter(|_| row + 1 == height);
                let mark = mark.map(superscript).unwrap_or_default();
                let after = " ".repeat(column.marks - mark.width() + column.drawn);
                if self.layout.is_right(column.slot) {
                    line.push_str(&format!("{fill}{text}{mark}{after}"));
                } else {
                    line.push_str(&format!("{text}{mark}{fill}{after}"));
                }
            }
            line
        }));
        out
    }
}

/// Where a heading may be broken: at spaces, and behind the brackets of a calculation. The first part of
/// each pair says whether a space stands before it.
fn pieces(heading: &str) -> Vec<(bool, &str)> {
    let mut out = Vec::new();
    for word in heading.split(' ') {
        let (mut spaced, mut rest) = (true, word);
        // Not for a few characters, such as the bracket of `count()`, nor behind that of `(missing)`.
        let bracket = |text: &str| text.char_indices().skip(1).find(|c| c.1 == '(').map(|c| c.0);
        while let Some(at) = bracket(rest).filter(|at| rest.len() > at + 4) {
            out.push((spaced, &rest[..=at]));
            (spaced, rest) = (false, &rest[at + 1..]);
        }
        out.push((spaced, rest));
    }
    out
}

/// The widest line that a heading of up to three lines needs. One of `many` that stand beside each other
/// is broken into two where it can be.
fn heading_width(heading: &str, many: bool) -> usize {
    let longest = pieces(heading).iter().map(|p| p.1.width()).max().unwrap_or(0);
    let whole = heading.width();
    if many {
        return longest.max(whole.div_ceil(2)).min(whole);
    }
    if whole <= 18 { whole } else { longest.max(whole.div_ceil(2)).max(12) }
}

/// A heading in lines of at most this width; a longer piece is cut.
fn wrap(heading: &str, width: usize) -> Vec<String> {
    let mut lines: Vec<String> = Vec::new();
    for (spaced, piece) in pieces(heading) {
        let space = usize::from(spaced);
        match lines.last_mut() {
            Some(line) if line.width() + space + piece.width() <= width => {
                if spaced {
                    line.push(' ');
                }
                line.push_str(piece);
            }
            _ => lines.push(piece.to_owned()),
        }
    }
    for line in &mut lines {
        shorten(line, width);
    }
    lines
}

fn page_width(columns: &[Wide]) -> usize {
    columns.iter().map(Wide::all).sum::<usize>() + GAP * columns.len().saturating_sub(1)
}

/// The columns in blocks that fit the page: in one, with long labels shortened where that is enough, else in several
/// below each other, each with the keys before it (in a detail the first column).
fn blocks(layout: &Layout<'_>, columns: Vec<Wide>, limit: usize) -> Vec<Vec<Wide>> {
    let over = page_width(&columns).saturating_sub(limit);
    let mut whole = columns.clone();
    shorten_labels(layout, &mut whole, over);
    if page_width(&whole) <= limit {
        return vec![whole];
    }
    let is_key = |c: &Wide| !matches!(c.slot, Slot::Result(_));
    let keys = columns.iter().take_while(|c| is_key(c)).count();
    let keys = if keys == 0 { 1 } else { keys }.min(columns.len() - 1);
    let mut keys = columns[..keys].to_vec();
    let too_wide = page_width(&keys).saturating_sub(limit / 2);
    shorten_labels(layout, &mut keys, too_wide);
    let room = limit.saturating_sub(page_width(&keys) + GAP);
    // The results of a position stay together where they fit.
    let position = |c: &Wide| match c.slot {
        Slot::Result(c) if !layout.grid.across.is_empty() && !layout.is_long() => {
            Some(layout.grid.columns[c].position)
        }
        _ => None,
    };
    let rest = &columns[keys.len()..];
    let mut units: Vec<&[Wide]> = Vec::new();
    for of_position in rest.chunk_by(|a, b| position(a).is_some() && position(a) == position(b)) {
        match page_width(of_position) <= room {
            true => units.push(of_position),
            false => units.extend(of_position.chunks(1)),
        }
    }
    let mut all: Vec<Vec<Wide>> = Vec::new();
    let mut used = 0;
    for unit in units {
        let width = page_width(unit) + GAP;
        match all.last_mut() {
            Some(block) if used + width <= limit => block.extend_from_slice(unit),
            _ => {
                used = page_width(&keys);
                all.push([keys.as_slice(), unit].concat());
            }
        }
        used += width;
    }
    all.iter_mut().for_each(|block| squeeze(layout, block, limit));
    all
}

/// Makes a block fit a page that is too narrow even for its keys and one column: labels are cut, then the keys
/// are left out, and what is still too wide is cut.
fn squeeze(layout: &Layout<'_>, block: &mut Vec<Wide>, limit: usize) {
    while page_width(block) > limit {
        let over = page_width(block) - limit;
        let is_text = |c: &&mut Wide| layout.kind(c.slot) == Kind::Text && c.width > c.marks + 1;
        if let Some(widest) = block.iter_mut().filter(is_text).max_by_key(|c| c.width) {
            widest.width = widest.width.saturating_sub(over).max(widest.marks + 1);
        } else if block.len() > 1 {
            block.remove(0);
        } else {
            let only = &mut block[0];
            only.drawn = 0;
            only.marks = only.marks.min(limit.saturating_sub(1));
            only.width = limit;
        }
    }
}

/// Whether a column holds labels: of a key, or of a listing's own columns. What a calculation gives is not cut where it
/// can stand in a block of its own.
fn is_label(layout: &Layout<'_>, slot: Slot) -> bool {
    let plain = match slot {
        Slot::Result(r) => layout.grid.columns.get(r).is_some_and(|c| c.plain),
        _ => true,
    };
    plain && layout.kind(slot) == Kind::Text
}

/// Makes the widest labels narrower until so much is won, or none is wider than [`SHORTEST_LABEL`]; gives what
/// was won.
fn shorten_labels(layout: &Layout<'_>, columns: &mut [Wide], over: usize) -> usize {
    let is_long = |c: &&mut Wide| is_label(layout, c.slot) && c.width > SHORTEST_LABEL;
    let mut long: Vec<&mut Wide> = columns.iter_mut().filter(is_long).collect();
    let won = |long: &[&mut Wide], width: usize| -> usize {
        long.iter().map(|c| c.width.saturating_sub(width)).sum()
    };
    // The greatest width for all of them that wins enough.
    let (mut width, mut above) =
        (SHORTEST_LABEL, long.iter().map(|c| c.width).max().unwrap_or(SHORTEST_LABEL));
    while width < above {
        let middle = (width + above).div_ceil(2);
        if won(&long, middle) >= over { width = middle } else { above = middle - 1 }
    }
    // What is won too much goes to the first ones.
    let mut spare = won(&long, width).saturating_sub(over);
    let all = won(&long, width) - spare;
    for column in long.iter_mut().filter(|c| c.width > width) {
        column.width = width + usize::from(spare > 0);
        spare = spare.saturating_sub(1);
    }
    all
}

/// Cuts a text to a width, with a sign that it was cut.
fn shorten(text: &mut String, width: usize) {
    if text.width() <= width {
        return;
    }
    let mut used = 0;
    let mut end = 0;
    for (at, c) in text.char_indices() {
        let next = used + c.width().unwrap_or(0);
        if next + 1 > width {
            break;
        }
        used = next;
        end = at + c.len_utf8();
    }
    text.truncate(end);
    if width > 0 {
        text.push('…');
    }
}

fn superscript(number: usize) -> String {
    const DIGITS: [char; 10] = ['⁰', '¹', '²', '³', '⁴', '⁵', '⁶', '⁷', '⁸', '⁹'];
    number.to_string().bytes().map(|b| DIGITS[usize::from(b - b'0')]).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use oeuvre_columns::Value;
    use oeuvre_columns::column::Column;
    use oeuvre_core::{Heading, Line, Lines, ResultColumn};
    use proptest::prelude::*;

    const NUMBER: Kind = Kind::Number { scale: 2 };

    /// A table of a key and results: texts and numbers in turn.
    fn grid(labels: &[String], texts: &[Vec<String>], numbers: &[Vec<i64>]) -> Grid {
        let line = Line { kind: LineKind::Group, depth: 1 };
        let of_texts = |texts: &[String]| {
            let values: Vec<Value> = texts.iter().map(|t| Value::Text(t.as_str().into())).collect();
            Column::from_values(Kind::Text, &values)
        };
        let numbers = numbers.iter().map(|of_column| {
            let value = |&n: &i64| Value::Number(oeuvre_columns::Decimal::new(n.into(), 2));
            (NUMBER, Column::from_values(NUMBER, &of_column.iter().map(value).collect::<Vec<_>>()))
        });
        let texts = texts.iter().map(|of_column| (Kind::Text, of_texts(of_column)));
        let columns = texts.chain(numbers).enumerate().map(|(result, (kind, cells))| {
            let one = Grid::of_one(&format!("result {result}"), kind, false, &Value::Missing);
            ResultColumn { result, cells: cells.into(), ..one.columns[0].clone() }
        });
        Grid {
            by: vec![Heading { name: "key".into(), kind: Kind::Text }],
            labels: vec![of_texts(labels)],
            lines: Lines::same(line, labels.len()),
            positions: Lines::same(Line { kind: LineKind::Group, depth: 0 }, 1),
            columns: columns.collect(),
            ..Grid::default()
        }
    }

    fn drawn(grid: &Grid, width_cols: Option<usize>) -> String {
        let mut out = Vec::new();
        write(grid, &Style::default(), TextSettings { width_cols, color: false }, &mut out)
            .unwrap();
        String::from_utf8(out).unwrap()
    }

    fn any_grid() -> impl Strategy<Value = Grid> {
        let label = "[a-z é漢]{0,6}([a-z]{1,30}|漢{1,9})?";
        (1usize..5, 0usize..5, 0usize..4).prop_flat_map(move |(lines, texts, numbers)| {
            let labels = prop::collection::vec(label, lines);
            let texts = prop::collection::vec(prop::collection::vec(label, lines), texts);
            let number = -10_000_000i64..10_000_000;
            let numbers = prop::collection::vec(prop::collection::vec(number, lines), numbers);
            (labels, texts, numbers).prop_map(|(l, t, n)| grid(&l, &t, &n))
        })
    }

    proptest! {
        /// No line is wider than the page, figures are never cut, and a page that is wide enough is as one
        /// without a limit.
        #[test]
        fn a_page_keeps_to_its_width(grid in any_grid()) {
            let whole = drawn(&grid, None);
            let widest = whole.lines().map(UnicodeWidthStr::width).max().unwrap_or(0);
            for width in 1..widest + 2 {
                let text = drawn(&grid, Some(width));
                for line in text.lines() {
                    prop_assert!(line.width() <= width, "{line:?} at {width}");
                    let cut = line.split_whitespace().filter(|w| w.ends_with('…'));
                    for word in cut.filter(|_| width > 20) {
                        prop_assert!(!word.starts_with(|c: char| c.is_ascii_digit()), "{word:?}");
                    }
                }
                prop_assert!(width < widest || text == whole, "{text}\n{whole}");
            }
        }

        /// As when the widest of the labels is made narrower again and again, of several the last.
        #[test]
        fn labels_are_shortened_from_the_widest_on(grid in any_grid(), over in 0usize..150) {
            let style = Style::default();
            let layout = Layout::new(&grid, &style);
            let mut columns = Page { layout: &layout, color: false }.measure_with(heading_width);
            let mut plain: Vec<usize> = columns.iter().map(|c| c.width).collect();
            let mut won = 0;
            while won < over {
                let long = |i: &usize| is_label(&layout, columns[*i].slot) && plain[*i] > SHORTEST_LABEL;
                let Some(widest) = (0..plain.len()).filter(long).max_by_key(|&i| plain[i]) else { break };
                plain[widest] -= 1;
                won += 1;
            }
            prop_assert_eq!(shorten_labels(&layout, &mut columns, over), won);
            prop_assert_eq!(columns.iter().map(|c| c.width).collect::<Vec<_>>(), plain);
        }
    }

    #[test]
    fn a_text_is_cut_at_its_width_with_a_sign() {
        for (text, width, expected) in [
            ("Kittiwake", 9, "Kittiwake"),
            ("Kittiwake", 8, "Kittiwa…"),
            ("Kittiwake", 1, "…"),
            ("Kittiwake", 0, ""),
            // A character of two columns that would be cut in half is left out.
            ("漢字", 3, "漢…"),
            ("漢字", 2, "…"),
            ("e\u{301}e\u{301}", 1, "…"),
        ] {
            let mut cut = text.to_owned();
            shorten(&mut cut, width);
            assert_eq!(cut, expected, "{text} at {width}");
        }
    }
}
