//! A quiet ruled table for reading in a terminal or a plain-text mail.

use crate::TextSettings;
use crate::cells::escape_controls;
use crate::layout::{Layout, Slot};
use anstyle::Style;
use oeuvre_core::{Grid, LineKind};
use std::io::{self, Write};
use unicode_width::{UnicodeWidthChar, UnicodeWidthStr};

/// Between columns.
const GAP: usize = 2;
/// Labels are not cut shorter than this.
const SHORTEST_LABEL: usize = 10;

const BOLD: Style = Style::new().bold();
const DIM: Style = Style::new().dimmed();

/// A column with its width on the page.
struct Wide {
    slot: Slot,
    width: usize,
    /// Room for marks behind the figures.
    marks: usize,
}

pub(crate) fn write(grid: &Grid, settings: TextSettings, out: &mut dyn Write) -> io::Result<()> {
    let layout = Layout::new(grid);
    let mut columns = measure(&layout);
    let cut = settings.width_cols.map_or(0, |limit| fit(&layout, &mut columns, limit));
    let total: usize = page_width(&columns);
    let paint = |style: Style, text: &str| -> String {
        if settings.color && !text.is_empty() {
            format!("{style}{text}{style:#}")
        } else {
            text.to_owned()
        }
    };
    let rule = paint(DIM, &"─".repeat(total));
    let headings: Vec<String> =
        columns.iter().map(|c| escape_controls(layout.heading(c.slot))).collect();
    for line in heading_lines(&layout, &columns, &headings) {
        writeln!(out, "{}", paint(BOLD, line.trim_end()))?;
    }
    writeln!(out, "{rule}")?;
    let mut text = String::new();
    let mut page = String::new();
    for line in 0..grid.lines.len() {
        let kind = grid.lines[line].kind;
        let below = line > 0 && grid.lines[line - 1].kind != LineKind::Grand;
        if kind == LineKind::Grand && below {
            page.push_str(&rule);
            page.push('\n');
        }
        let mut drawn = String::new();
        for (i, column) in columns.iter().enumerate() {
            if i > 0 {
                drawn.push_str(&" ".repeat(GAP));
            }
            text.clear();
            layout.push_read(&mut text, line, column.slot);
            shorten(&mut text, column.width - column.marks);
            let fill = column.width - column.marks - text.width();
            let mark = layout.mark(line, column.slot).map(superscript).unwrap_or_default();
            let after = column.marks - mark.width();
            let right = layout.is_right(column.slot);
            if right {
                drawn.push_str(&" ".repeat(fill));
            }
            drawn.push_str(&text);
            drawn.push_str(&mark);
            drawn.push_str(&" ".repeat(after));
            if !right {
                drawn.push_str(&" ".repeat(fill));
            }
        }
        let drawn = drawn.trim_end();
        page.push_str(&if kind == LineKind::Group { drawn.to_owned() } else { paint(BOLD, drawn) });
        page.push('\n');
        // Room after the lines of an outer group that its subtotal closes, and before the next one
        // when subtotals stand on top.
        if let Some(next) = grid.lines.get(line + 1) {
            let closes = kind == LineKind::Subtotal && next.kind == LineKind::Group;
            let opens = kind == LineKind::Group && next.kind == LineKind::Subtotal;
            let bottom = grid.lines.first().is_some_and(|l| l.kind == LineKind::Group);
            if (closes && bottom) || (opens && !bottom) {
                page.push('\n');
            }
            if kind == LineKind::Grand {
                page.push_str(&rule);
                page.push('\n');
            }
        }
        if page.len() > 1 << 15 {
            out.write_all(page.as_bytes())?;
            page.clear();
        }
    }
    out.write_all(page.as_bytes())?;
    for (i, note) in grid.notes.iter().enumerate() {
        writeln!(
            out,
            "{}",
            paint(DIM, &format!("{} {}", superscript(i + 1), escape_controls(note)))
        )?;
    }
    if cut > 0 {
        let (is, columns) = if cut == 1 { ("is", "column") } else { ("are", "columns") };
        writeln!(
            out,
            "{}",
            paint(
                BOLD,
                &format!(
                    "→ {cut} more {columns} {is} not shown: the page is too narrow; --as csv has all"
                )
            )
        )?;
    }
    Ok(())
}

/// Widths by what stands in the columns; headings of results may take several lines.
fn measure(layout: &Layout<'_>) -> Vec<Wide> {
    let mut text = String::new();
    layout
        .slots
        .iter()
        .map(|&slot| {
            let mut width = heading_width(&escape_controls(layout.heading(slot)));
            let mut marks = 0;
            for line in 0..layout.grid.lines.len() {
                text.clear();
                layout.push_read(&mut text, line, slot);
                width = width.max(text.width());
                if let Some(mark) = layout.mark(line, slot) {
                    marks = marks.max(superscript(mark).width());
                }
            }
            Wide { slot, width: width + marks, marks }
        })
        .collect()
}

/// The widest line that a heading of up to three lines needs.
fn heading_width(heading: &str) -> usize {
    let longest_word = heading.split(' ').map(UnicodeWidthStr::width).max().unwrap_or(0);
    let whole = heading.width();
    if whole <= 18 { whole } else { longest_word.max(whole.div_ceil(2)).max(12) }
}

/// The lines of the headings, from the top; short ones stand at the bottom.
fn heading_lines(layout: &Layout<'_>, columns: &[Wide], headings: &[String]) -> Vec<String> {
    let wrapped: Vec<Vec<String>> =
        columns.iter().zip(headings).map(|(c, h)| wrap(h, c.width - c.marks)).collect();
    let height = wrapped.iter().map(Vec::len).max().unwrap_or(1);
    (0..height)
        .map(|row| {
            let mut line = String::new();
            for (i, (column, lines)) in columns.iter().zip(&wrapped).enumerate() {
                if i > 0 {
                    line.push_str(&" ".repeat(GAP));
                }
                let text = (row + lines.len()).checked_sub(height).and_then(|r| lines.get(r));
                let text = text.map_or("", String::as_str);
                let fill = " ".repeat((column.width - column.marks).saturating_sub(text.width()));
                let marks = " ".repeat(column.marks);
                if layout.is_right(column.slot) {
                    line.push_str(&format!("{fill}{text}{marks}"));
                } else {
                    line.push_str(&format!("{text}{fill}{marks}"));
                }
            }
            line
        })
        .collect()
}

/// Words in lines of at most this width; a longer word is cut.
fn wrap(heading: &str, width: usize) -> Vec<String> {
    let mut lines: Vec<String> = Vec::new();
    for word in heading.split(' ') {
        match lines.last_mut() {
            Some(line) if line.width() + 1 + word.width() <= width => {
                line.push(' ');
                line.push_str(word);
            }
            _ => lines.push(word.to_owned()),
        }
    }
    for line in &mut lines {
        shorten(line, width);
    }
    lines
}

fn page_width(columns: &[Wide]) -> usize {
    columns.iter().map(|c| c.width).sum::<usize>() + GAP * columns.len().saturating_sub(1)
}

/// Makes the columns fit: long labels are shortened first, then columns are left out from the right.
/// Gives the number of columns left out.
fn fit(layout: &Layout<'_>, columns: &mut Vec<Wide>, limit: usize) -> usize {
    let mut over = page_width(columns).saturating_sub(limit);
    while over > 0 {
        let widest = columns
            .iter_mut()
            .filter(|c| !layout.is_right(c.slot) && c.width > SHORTEST_LABEL)
            .max_by_key(|c| c.width);
        let Some(column) = widest else { break };
        column.width -= 1;
        over -= 1;
    }
    let before = columns.len();
    while columns.len() > 1 && page_width(columns) > limit {
        columns.pop();
    }
    if let [only] = columns.as_mut_slice() {
        only.width = only.width.min(limit.max(only.marks + 1));
    }
    before - columns.len()
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
