//! A table as a sheet: title, headings that span what they stand over, lines with their totals set off.

use super::cells::{LineLook, Place, Remarks, Styles, of_heading, of_line, put, put_text};
use super::formats;
use crate::document::{Part, PartType, paragraphs};
use crate::headings::heading_rows;
use crate::layout::{Layout, Row, Slot};
use oeuvre_core::LineKind;
use rust_xlsxwriter::utility::row_col_to_cell;
use rust_xlsxwriter::{
    ConditionalFormat2ColorScale, ConditionalFormatDataBar, Format, Note, Sparkline, Worksheet,
    XlsxError,
};
use std::collections::HashMap;
use unicode_width::UnicodeWidthStr;

/// Columns are not made wider than this, in characters.
const WIDEST: usize = 60;
/// So many columns fit a page upright.
const UPRIGHT: usize = 7;
/// A4, as the format counts paper.
const A4: u8 = 9;

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
    sheet: &mut Worksheet,
) -> Result<(), XlsxError> {
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
    if let Some(look) = part.chart {
        super::drawn::write(part, look, below, sheet)?;
    }
    trends(&layout, below, sheet)?;
    widths(&layout, sheet)?;
    let keys = layout.slots.iter().filter(|s| !matches!(s, Slot::Result(_))).count() as u16;
    let beside = if part.shows == PartType::Detail { 0 } else { keys };
    sheet.set_freeze_panes(below, beside)?;
    sheet.set_paper_size(A4);
    sheet.set_print_fit_to_pages(1, 0);
    sheet.set_repeat_rows(first, below.saturating_sub(1).max(first))?;
    if layout.slots.len() > UPRIGHT {
        sheet.set_landscape();
    }
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
        sheet: &mut Worksheet,
    ) -> Result<(), XlsxError> {
        if let Some(text) = mark.and_then(|m| self.part.grid.notes.get(m - 1)) {
            let text = super::cells::fitting(text).0;
            let lines = text.len().div_ceil(38) as u32 + 1;
            let note = Note::new(text).set_author("Oeuvre").add_author_prefix(false);
            sheet.insert_note(row, column, &note.set_width(260).set_height(18 * lines.max(2)))?;
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
    sheet: &mut Worksheet,
) -> Result<u32, XlsxError> {
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
                sheet.merge_range(row, column, last_row, last_column, &text, &format)?;
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
    sheet: &mut Worksheet,
) -> Result<(), XlsxError> {
    let number_formats: Vec<Option<String>> =
        layout.slots.iter().map(|&slot| formats::of_column(layout, slot)).collect();
    let mut formats: HashMap<(LineLook, usize), Format> = HashMap::new();
    let mut read = String::new();
    for (at, &row) in (first..).zip(&layout.rows) {
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
    format: &Format,
    remarks: &mut Remarks,
    sheet: &mut Worksheet,
) -> Result<(), XlsxError> {
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
        _ if read.is_empty() => sheet.write_blank(cell.0, cell.1, format).map(|_| ()),
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

/// Bars and shades in cells, by the rules of the format: the figures of one result share a scale, totals have none.
fn drawn(layout: &Layout<'_>, first: u32, sheet: &mut Worksheet) -> Result<(), XlsxError> {
    let mut ranges: Vec<Vec<String>> = vec![Vec::new(); layout.results_per_position()];
    // The first of the columns of each result, and its first cell.
    let mut slots: Vec<Option<(Slot, Place)>> = vec![None; layout.results_per_position()];
    for (place, &slot) in layout.slots.iter().enumerate() {
        let Slot::Result(column) = slot else { continue };
        if !layout.has_bars(slot) && !layout.has_shades(slot) {
            continue;
        }
        let result = layout.grid.columns.get(column).map_or(column, |c| c.result);
        let is_drawn = |row: &Row| layout.shade(*row, slot).is_some();
        let mut at = 0;
        while at < layout.rows.len() {
            let run = layout.rows[at..].iter().take_while(|row| is_drawn(row)).count();
            if run > 0 {
                let cell = |line: usize| row_col_to_cell(first + line as u32, place as u16);
                ranges[result].push(format!("{}:{}", cell(at), cell(at + run - 1)));
                slots[result].get_or_insert((slot, (first + at as u32, place as u16)));
            }
            at += run.max(1);
        }
    }
    for (ranges, slot) in ranges.iter().zip(slots) {
        let Some((slot, (row, column))) = slot else { continue };
        let all = ranges.join(" ");
        if layout.has_bars(slot) {
            let bars = ConditionalFormatDataBar::new()
                .set_fill_color(0x009f_c9cf)
                .set_negative_fill_color(0x00c9_8a86)
                .set_solid_fill(true)
                .set_border_off(true)
                .set_multi_range(&all);
            sheet.add_conditional_format(row, column, row, column, &bars)?;
        }
        if layout.has_shades(slot) {
            let shades = ConditionalFormat2ColorScale::new()
                .set_minimum_color(0x00f4_f8ef)
                .set_maximum_color(0x0097_bf72)
                .set_multi_range(&all);
            sheet.add_conditional_format(row, column, row, column, &shades)?;
        }
    }
    Ok(())
}

/// Small lines of the workbook's own behind the lines, where the figures of one result stand side by side.
fn trends(layout: &Layout<'_>, first: u32, sheet: &mut Worksheet) -> Result<(), XlsxError> {
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
    let name = sheet.name();
    let column = layout.slots.len() as u16;
    sheet.set_column_width(column, 18)?;
    for line in (first..).take(layout.rows.len()) {
        let range = (name.as_str(), line, from as u16, line, to as u16);
        let small = Sparkline::new().set_range(range).set_sparkline_color(0x000a_5563);
        sheet.add_sparkline(line, column, &small)?;
    }
    Ok(())
}

/// Columns as wide as what stands in them.
fn widths(layout: &Layout<'_>, sheet: &mut Worksheet) -> Result<(), XlsxError> {
    let mut widths: Vec<usize> = vec![6; layout.slots.len()];
    for span in heading_rows(layout).iter().flatten().filter(|s| s.last) {
        // Headings are broken between words.
        let words = span.text.split(' ').map(UnicodeWidthStr::width).max().unwrap_or(0);
        let whole = span.text.width().min(18);
        let width = &mut widths[span.slots.start];
        *width = (*width).max(words).max(whole);
    }
    let mut text = String::new();
    for &row in &layout.rows {
        for (width, &slot) in widths.iter_mut().zip(&layout.slots) {
            text.clear();
            layout.push_read(&mut text, row, slot);
            *width = (*width).max(text.width());
        }
    }
    for (place, width) in widths.into_iter().enumerate() {
        sheet.set_column_width(place as u16, width.min(WIDEST) as f64 + 2.0)?;
    }
    Ok(())
}
