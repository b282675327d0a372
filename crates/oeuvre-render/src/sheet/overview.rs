//! The first sheet of a report, with what stands alone, and the last one, with its ledger and explanations.

use super::cells::{Remarks, Styles, put, put_text};
use super::surface::Surface;
use crate::document::{Document, PartType, paragraphs};
use crate::headline::Headline;
use crate::ledger::{entries_text, figure_text, told_of_parts};
use oeuvre_columns::Value;
use std::io;

/// How wide a column of texts is, in characters.
const OF_TEXT: f64 = 44.0;
const OF_FIGURES: f64 = 18.0;
const OF_DETAIL: f64 = 90.0;

/// Writes title, texts, headlines and checks.
pub(crate) fn write(
    document: &Document<'_>,
    styles: &Styles,
    remarks: &mut Remarks,
    sheet: &mut dyn Surface,
) -> io::Result<()> {
    sheet.width(0, OF_TEXT)?;
    for column in 1..5 {
        sheet.width(column, OF_FIGURES)?;
    }
    put_text(sheet, (0, 0), document.heading(), &styles.title, remarks)?;
    let mut row = 1;
    for text in document
        .stamp
        .iter()
        .cloned()
        .chain(document.text.as_deref().into_iter().flat_map(paragraphs))
    {
        put_text(sheet, (row, 0), &text, &styles.soft, remarks)?;
        row += 1;
    }
    row += 1;
    for part in document.parts.iter().filter(|p| p.shows == PartType::Headline) {
        let headline = Headline::of(part.grid, part.style);
        for text in part.text.as_deref().into_iter().flat_map(paragraphs) {
            put_text(sheet, (row, 0), &text, &styles.soft, remarks)?;
            row += 1;
        }
        put_text(sheet, (row, 0), &headline.heading, &styles.plain, remarks)?;
        let layout = crate::layout::Layout::new(part.grid, part.style);
        let (line, slot) = (layout.rows.at(0), layout.slots[0]);
        let value = layout.raw(line, slot);
        let format = match super::formats::of_column(&layout, slot) {
            Some(format) => styles.large.with_format(format),
            None => styles.large.clone(),
        };
        put(sheet, (row, 1), &value, &headline.figure, &format, remarks)?;
        if let Some(beside) = &headline.beside {
            put_text(sheet, (row, 2), beside, &styles.soft, remarks)?;
        }
        row += 1;
    }
    if !document.checks.is_empty() {
        row += 1;
        checks(document, row, styles, remarks, sheet)?;
    }
    Ok(())
}

/// Writes the checks from a line on, and gives the line below them.
fn checks(
    document: &Document<'_>,
    first: u32,
    styles: &Styles,
    remarks: &mut Remarks,
    sheet: &mut dyn Surface,
) -> io::Result<u32> {
    let right = super::cells::of_heading(true, true);
    for (column, heading) in (0..).zip(["Check", "Found", "Wanted", "Difference", "Outcome"]) {
        let format = if matches!(column, 1..=3) {
            right.clone()
        } else {
            super::cells::of_heading(true, false)
        };
        put_text(sheet, (first, column), heading, &format, remarks)?;
    }
    let mut row = first + 1;
    for (name, check) in &document.checks {
        let that = match name {
            Some(name) => format!("{name}: {}", check.that),
            None => check.that.clone(),
        };
        put_text(sheet, (row, 0), &that, &styles.wrapped, remarks)?;
        for (column, value) in (1..).zip([&check.found, &check.wanted, &check.difference]) {
            let read = if value.is_missing() { String::new() } else { figure_text(value) };
            let format = match value {
                Value::Number(n) => styles.plain.with_format(of_scale(n.scale)),
                _ => styles.plain.clone(),
            };
            put(sheet, (row, column), value, &read, &format, remarks)?;
        }
        let (outcome, format) = match check.holds {
            true => ("holds", &styles.plain),
            false => ("does not hold", &styles.heading),
        };
        put_text(sheet, (row, 4), outcome, format, remarks)?;
        row += 1;
    }
    Ok(row)
}

/// The format of exact numbers with so many decimals.
fn of_scale(scale: u8) -> String {
    let decimals = "0".repeat(usize::from(scale));
    if scale == 0 { "#,##0".to_owned() } else { format!("#,##0.{decimals}") }
}

/// Writes ledger, notes and explanations.
pub(crate) fn write_notes(
    document: &Document<'_>,
    styles: &Styles,
    remarks: &Remarks,
    sheet: &mut dyn Surface,
) -> io::Result<()> {
    let mut cut = Remarks::default();
    sheet.width(0, OF_TEXT)?;
    sheet.width(1, OF_FIGURES)?;
    sheet.width(2, OF_DETAIL)?;
    let mut row = 0;
    if !document.is_report && !document.checks.is_empty() {
        row = checks(document, row, styles, &mut cut, sheet)? + 1;
    }
    put_text(sheet, (row, 0), "Ledger", &styles.title, &mut cut)?;
    row += 1;
    let accounts = document.accounts();
    for account in &accounts {
        if accounts.len() > 1 {
            put_text(sheet, (row, 0), &account.names.join(", "), &styles.heading, &mut cut)?;
            row += 1;
        }
        for entry in &account.entries {
            put_text(sheet, (row, 0), &entry.label, &styles.plain, &mut cut)?;
            sheet.number((row, 1), entry.count as f64, &styles.plain.with_format("#,##0"))?;
            put_text(sheet, (row, 2), &entry.detail, &styles.wrapped, &mut cut)?;
            row += 1;
        }
        for part in account.parts.iter().filter(|p| p.shows != PartType::Headline) {
            let what = if document.parts.len() > 1 { part.heading() } else { "shown" };
            put_text(sheet, (row, 0), what, &styles.plain, &mut cut)?;
            let text = entries_text(&part.ledger.entries_of_table());
            put_text(sheet, (row, 2), &text, &styles.wrapped, &mut cut)?;
            row += 1;
        }
    }
    let told = document.told();
    let notes = remarks.notes().into_iter();
    let notes: Vec<String> =
        notes.chain(told.iter().map(|(n, parts)| format!("{n}{}", told_of_parts(parts)))).collect();
    if !notes.is_empty() {
        row += 1;
        put_text(sheet, (row, 0), "Notes", &styles.title, &mut cut)?;
        for note in notes {
            row += 1;
            put_text(sheet, (row, 0), &note, &styles.plain, &mut cut)?;
        }
        row += 1;
    }
    if !document.explained.is_empty() {
        row += 1;
        put_text(sheet, (row, 0), "How each figure is worked out", &styles.title, &mut cut)?;
    }
    for (name, sections) in &document.explained {
        row += 1;
        put_text(sheet, (row, 0), name, &styles.heading, &mut cut)?;
        for section in sections {
            row += 1;
            put_text(sheet, (row, 0), &section.title, &styles.plain, &mut cut)?;
            for line in &section.lines {
                put_text(sheet, (row, 2), line, &styles.wrapped, &mut cut)?;
                row += 1;
            }
        }
    }
    Ok(())
}
