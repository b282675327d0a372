//! A table as a sheet: title, headings that span what they stand over, lines with their totals set off.

use super::cells::{LineLook, Remarks, Styles, of_heading, of_line, put, put_text};
use super::formats;
use super::surface::{Drawn, Look, Pages, Place, Surface};
use crate::document::{Part, PartType, paragraphs};
use crate::headings::heading_rows;
use crate::layout::{Layout, Row, Slot};
use oeuvre_core::LineKind;
use std::collections::HashMap;
use std::io;
use unicode_width::UnicodeWidthStr;

/// Columns are not made wider than this, in characters.
const WIDEST: usize = 60;
/// So many columns fit a page upright.
const UPRIGHT: usize = 7;

/// How many lines and columns the sheet of a table takes.
pub(crate) fn size(part: &Part<'_>) -> (usize, usize) {
    let layout = Layout::new(part.grid, part.style);
    let above = top(part, true) as usize + heading_rows(&layout).len();
    (above + layout.rows.len(), layout.slots.len())
}

/// The line of the first headings.
fn top(part: &Part<'_>, titled: bool) -> u32 {
    let texts = part.text.as_deref().map_or(0, |text| paragraphs(text).count() as u32);
    match u32::from(titled) + texts {
        0 => 0,
        n => n + 1,
    }
}

/// Writes a table into a sheet of its own.
pub(crate) fn write(
    part: &Part<'_>,
    titled: bool,
    styles: &Styles,
    remarks: &mut Remarks,
    sheet: &mut dyn Surface,
) -> io::Result<()> {
    let layout = Layout::new(part.grid, part.style);
    let mut row = 0;
    if titled {
        put_text(sheet, (row, 0), part.heading(), &styles.title, remarks)?;
        row += 1;
    }
    for paragraph in part.text.as_deref().into_iter().flat_map(paragraphs) {
        put_text(sheet, (row, 0), &paragraph, &styles.soft, remarks)?;
        row += 1;
    }
    let first = top(part, titled);
    let marks = Marks { part };
    let below = headings(&layout, first, &marks, remarks, sheet)?;
    lines(&layout, below, &marks, remarks, sheet)?;
    drawn(&layout, below, sheet)?;
    if part.chart.is_some() {
        let at = (1, layout.slots.len() as u16 + 1);
        sheet.chart(part, below, at, &|| part.scene_below_title())?;
    }
    trends(&layout, below, sheet)?;
    widths(&layout, sheet)?;
    let keys = layout.slots.iter().filter(|s| !matches!(s, Slot::Result(_))).count() as u16;
    let beside = if part.shows == PartType::Detail { 0 } else { keys };
    sheet.pages(Pages {
        frozen: (below, beside),
        repeated: (first, below.saturating_sub(1).max(first)),
        wide: layout.slots.len() > UPRIGHT,
    })?;
    Ok(())
}

/// Notes that figures are marked with, as those of cells.
struct Marks<'a> {
    part: &'a Part<'a>,
}

impl Marks<'_> {
    fn put(
        &self,
        mark: Option<usize>,
        (row, column): Place,
        sheet: &mut dyn Surface,
    ) -> io::Result<()> {
        if let Some(text) = mark.and_then(|m| self.part.grid.notes.get(m - 1)) {
            let text = super::cells::fitting(text).0;
            sheet.note((row, column), &text)?;
        }
        Ok(())
    }
}

/// Writes the headings from a line on, and gives the line below them.
fn headings(
    layout: &Layout<'_>,
    first: u32,
    marks: &Marks<'_>,
    remarks: &mut Remarks,
    sheet: &mut dyn Surface,
) -> io::Result<u32> {
    let rows = heading_rows(layout);
    for (row, spans) in (first..).zip(&rows) {
        for span in spans {
            let slot = layout.slots[span.slots.start];
            let format = of_heading(span.last, layout.is_right(slot));
            let column = span.slots.start as u16;
            let (last_row, last_column) = (row + span.rows as u32 - 1, span.slots.end as u16 - 1);
            if (last_row, last_column) == (row, column) {
                put_text(sheet, (row, column), &span.text, &format, remarks)?;
            } else {
                let (text, cut) = super::cells::fitting(&span.text);
                remarks.texts_cut += u64::from(cut);
                sheet.merged((row, column), (last_row, last_column), &text, &format)?;
            }
            marks.put(span.mark, (row, column), sheet)?;
        }
    }
    Ok(first + rows.len() as u32)
}

fn lines(
    layout: &Layout<'_>,
    first: u32,
    marks: &Marks<'_>,
    remarks: &mut Remarks,
    sheet: &mut dyn Surface,
) -> io::Result<()> {
    let number_formats: Vec<Option<String>> =
        layout.slots.iter().map(|&slot| formats::of_column(layout, slot)).collect();
    let mut formats: HashMap<(LineLook, usize), Look> = HashMap::new();
    let mut read = String::new();
    for (at, row) in (first..).zip(layout.rows.iter()) {
        let look = look(layout, row);
        for (place, &slot) in layout.slots.iter().enumerate() {
            let right = layout.is_right(slot);
            let number_format = number_formats[place].as_deref();
            let format =
                formats.entry((look, place)).or_insert_with(|| of_line(look, number_format, right));
            read.clear();
            let cell = (at, place as u16);
            match slot {
                Slot::Result(_) => {
                    let value = layout.raw(row, slot);
                    let as_it_reads = number_format.is_none() || value.is_missing();
                    if as_it_reads {
                        layout.push_read(&mut read, row, slot);
                    }
                    // What has no format that means the same is written as it reads.
                    let patterned = layout.pattern(slot).is_some() && number_format.is_none();
                    if patterned && !value.is_missing() {
                        put_text(sheet, cell, &read, format, remarks)?;
                    } else {
                        put(sheet, cell, &value, &read, format, remarks)?;
                    }
                }
                _ => label(layout, row, slot, cell, format, remarks, sheet)?,
            }
            marks.put(layout.mark(row, slot), cell, sheet)?;
        }
    }
    Ok(())
}

/// Writes a label; the same one on every line, so that lines can be sorted and filtered.
fn label(
    layout: &Layout<'_>,
    row: Row,
    slot: Slot,
    cell: Place,
    format: &Look,
    remarks: &mut Remarks,
    sheet: &mut dyn Surface,
) -> io::Result<()> {
    let mut read = String::new();
    match slot {
        Slot::Key(key) => layout.push_whole_label(&mut read, row, key),
        _ => layout.push_read(&mut read, row, slot),
    }
    let typed = layout.label(row, slot).filter(|v| !v.is_missing());
    match typed {
        Some(value)
            if layout.pattern(slot).is_none() || formats::of_column(layout, slot).is_some() =>
        {
            put(sheet, cell, &value, &read, format, remarks)
        }
        _ if read.is_empty() => sheet.blank(cell, format),
        _ => put_text(sheet, cell, &read, format, remarks),
    }
}

fn look(layout: &Layout<'_>, row: Row) -> LineLook {
    match layout.grid.lines[row.line].kind {
        LineKind::Group => LineLook::Group,
        LineKind::Subtotal => LineLook::Subtotal,
        LineKind::Grand => LineLook::Total,
        LineKind::Rest => LineLook::Rest,
    }
}

/// Bars and shades in cells: the figures of one result share a scale, totals have none.
fn drawn(layout: &Layout<'_>, first: u32, sheet: &mut dyn Surface) -> io::Result<()> {
    let mut ranges: Vec<Vec<(u32, u32, u16)>> = vec![Vec::new(); layout.results_per_position()];
    // The first of the columns of each result.
    let mut slots: Vec<Option<Slot>> = vec![None; layout.results_per_position()];
    for (place, &slot) in layout.slots.iter().enumerate() {
        let Slot::Result(column) = slot else { continue };
        if !layout.has_bars(slot) && !layout.has_shades(slot) {
            continue;
        }
        let result = layout.grid.columns.get(column).map_or(column, |c| c.result);
        let is_drawn = |row: &Row| layout.shade(*row, slot).is_some();
        let mut at = 0;
        while at < layout.rows.len() {
            let run =
                (at..layout.rows.len()).take_while(|&at| is_drawn(&layout.rows.at(at))).count();
            if run > 0 {
                let line = |line: usize| first + line as u32;
                ranges[result].push((line(at), line(at + run - 1), place as u16));
                slots[result].get_or_insert(slot);
            }
            at += run.max(1);
        }
    }
    for (ranges, slot) in ranges.iter().zip(slots) {
        let Some(slot) = slot else { continue };
        if layout.has_bars(slot) {
            sheet.drawn(Drawn::Bars, ranges)?;
        }
        if layout.has_shades(slot) {
            sheet.drawn(Drawn::Shades, ranges)?;
        }
    }
    Ok(())
}

/// Small lines of the workbook's own behind the lines, where the figures of one result stand side by side.
fn trends(layout: &Layout<'_>, first: u32, sheet: &mut dyn Surface) -> io::Result<()> {
    let Some(&last) = layout.slots.last() else { return Ok(()) };
    if layout.trend_of(last).is_none() || layout.results_per_position() != 1 {
        return Ok(());
    }
    let is_figure = |slot: &Slot| match slot {
        Slot::Result(column) => {
            let position = layout.grid.columns[*column].position;
            layout.grid.positions[position].kind == LineKind::Group
        }
        _ => false,
    };
    let from = layout.slots.iter().position(is_figure);
    let to = layout.slots.iter().rposition(is_figure);
    let (Some(from), Some(to)) = (from, to) else { return Ok(()) };
    let column = layout.slots.len() as u16;
    sheet.width(column, 18.0)?;
    for line in (first..).take(layout.rows.len()) {
        sheet.trend(line, (from as u16, to as u16), column)?;
    }
    Ok(())
}

/// Columns as wide as what stands in them.
fn widths(layout: &Layout<'_>, sheet: &mut dyn Surface) -> io::Result<()> {
    let mut widths: Vec<usize> = vec![6; layout.slots.len()];
    for span in heading_rows(layout).iter().flatten().filter(|s| s.last) {
        // Headings are broken between words.
        let words = span.text.split(' ').map(UnicodeWidthStr::width).max().unwrap_or(0);
        let whole = span.text.width().min(18);
        let width = &mut widths[span.slots.start];
        *width = (*width).max(words).max(whole);
    }
    let mut text = String::new();
    for row in layout.rows.iter() {
        for (width, &slot) in widths.iter_mut().zip(&layout.slots) {
            text.clear();
            layout.push_read(&mut text, row, slot);
            *width = (*width).max(text.width());
        }
    }
    for (place, width) in widths.into_iter().enumerate() {
        sheet.width(place as u16, width.min(WIDEST) as f64 + 2.0)?;
    }
    Ok(())
}
