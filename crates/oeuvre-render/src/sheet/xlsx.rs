//! A workbook of ISO/IEC 29500, by the library that writes it.

use super::book::Book;
use super::surface::{Align, Drawn, Edge, Look, Pages, Place, Surface};
use crate::chart::Scene;
use crate::document::Part;
use oeuvre_columns::Value;
use rust_xlsxwriter::utility::row_col_to_cell;
use rust_xlsxwriter::{
    Color, ConditionalFormat2ColorScale, ConditionalFormatDataBar, DocProperties, ExcelDateTime,
    Format, FormatAlign, FormatBorder, Note, Sparkline, Workbook, Worksheet, XlsxError,
};
use std::collections::HashMap;
use std::io;

/// The ink of what stands back.
const SOFT: Color = Color::RGB(0x0055_606b);
/// Lines between cells.
const RULE: Color = Color::RGB(0x00cf_d5db);
/// A4, as the format counts paper.
const A4: u8 = 9;

/// A workbook.
pub(crate) struct Xlsx(Workbook);

impl Xlsx {
    /// A workbook with a title. The library sets a time of its own unless it is given one, and so it is given a
    /// fixed one: same table, same bytes.
    pub(crate) fn new(title: &str) -> io::Result<Xlsx> {
        let mut book = Workbook::new();
        let epoch = ExcelDateTime::from_ymd(2000, 1, 1).map_err(io::Error::other)?;
        let properties = DocProperties::new().set_title(title).set_creation_datetime(&epoch);
        book.set_properties(&properties);
        Ok(Xlsx(book))
    }

    /// Its bytes.
    pub(crate) fn finish(mut self) -> io::Result<Vec<u8>> {
        self.0.save_to_buffer().map_err(io::Error::other)
    }
}

impl Book for Xlsx {
    fn sheet(
        &mut self,
        name: &str,
        fill: &mut dyn FnMut(&mut dyn Surface) -> io::Result<()>,
    ) -> io::Result<()> {
        let mut sheet = Sheet { sheet: Worksheet::new(), formats: HashMap::new() };
        sheet.sheet.set_name(name).map_err(io::Error::other)?;
        fill(&mut sheet)?;
        self.0.push_worksheet(sheet.sheet);
        Ok(())
    }
}

/// A sheet.
struct Sheet {
    sheet: Worksheet,
    formats: HashMap<Look, Format>,
}

fn done<T>(result: Result<T, XlsxError>) -> io::Result<()> {
    result.map(|_| ()).map_err(io::Error::other)
}

fn format_of(look: &Look) -> Format {
    let mut format = Format::new();
    if look.bold {
        format = format.set_bold();
    }
    if look.italic {
        format = format.set_italic();
    }
    if look.soft {
        format = format.set_font_color(SOFT);
    }
    if look.size > 0 {
        format = format.set_font_size(look.size);
    }
    format = match look.align {
        Align::Own => format,
        Align::Left => format.set_align(FormatAlign::Left),
        Align::Center => format.set_align(FormatAlign::Center),
        Align::Right => format.set_align(FormatAlign::Right),
    };
    if look.at_top {
        format = format.set_align(FormatAlign::Top);
    }
    if look.wrapped {
        format = format.set_text_wrap();
    }
    format = match look.above {
        Edge::None => format,
        Edge::Soft => format.set_border_top(FormatBorder::Thin).set_border_top_color(RULE),
        Edge::Thin => format.set_border_top(FormatBorder::Thin),
        Edge::Medium => format.set_border_top(FormatBorder::Medium),
    };
    format = match look.below {
        Edge::None => format,
        Edge::Soft => format.set_border_bottom(FormatBorder::Thin).set_border_bottom_color(RULE),
        Edge::Thin => format.set_border_bottom(FormatBorder::Thin),
        Edge::Medium => format.set_border_bottom(FormatBorder::Medium),
    };
    match &look.number_format {
        Some(number_format) => format.set_num_format(number_format),
        None => format,
    }
}

impl Sheet {
    /// The sheet, with the format of a look.
    fn with(&mut self, look: &Look) -> (&mut Worksheet, &Format) {
        if !self.formats.contains_key(look) {
            self.formats.insert(look.clone(), format_of(look));
        }
        (&mut self.sheet, &self.formats[look])
    }
}

impl Surface for Sheet {
    fn text(&mut self, (row, column): Place, text: &str, look: &Look) -> io::Result<()> {
        let (sheet, format) = self.with(look);
        done(sheet.write_string_with_format(row, column, text, format))
    }

    fn number(&mut self, (row, column): Place, number: f64, look: &Look) -> io::Result<()> {
        let (sheet, format) = self.with(look);
        done(sheet.write_number_with_format(row, column, number, format))
    }

    fn truth(&mut self, (row, column): Place, truth: bool, look: &Look) -> io::Result<()> {
        let (sheet, format) = self.with(look);
        done(sheet.write_boolean_with_format(row, column, truth, format))
    }

    fn date(&mut self, place: Place, days: f64, _: &Value, look: &Look) -> io::Result<()> {
        self.number(place, days, look)
    }

    fn blank(&mut self, (row, column): Place, look: &Look) -> io::Result<()> {
        let (sheet, format) = self.with(look);
        done(sheet.write_blank(row, column, format))
    }

    fn merged(&mut self, first: Place, last: Place, text: &str, look: &Look) -> io::Result<()> {
        let (sheet, format) = self.with(look);
        done(sheet.merge_range(first.0, first.1, last.0, last.1, text, format))
    }

    fn note(&mut self, (row, column): Place, text: &str) -> io::Result<()> {
        let lines = text.len().div_ceil(38) as u32 + 1;
        let note = Note::new(text).set_author("Oeuvre").add_author_prefix(false);
        let note = note.set_width(260).set_height(18 * lines.max(2));
        done(self.sheet.insert_note(row, column, &note))
    }

    fn width(&mut self, column: u16, characters: f64) -> io::Result<()> {
        done(self.sheet.set_column_width(column, characters))
    }

    fn pages(&mut self, pages: Pages) -> io::Result<()> {
        let sheet = &mut self.sheet;
        done(sheet.set_freeze_panes(pages.frozen.0, pages.frozen.1))?;
        sheet.set_paper_size(A4);
        sheet.set_print_fit_to_pages(1, 0);
        done(sheet.set_repeat_rows(pages.repeated.0, pages.repeated.1))?;
        if pages.wide {
            sheet.set_landscape();
        }
        Ok(())
    }

    /// By the rules of the format.
    fn drawn(&mut self, drawn: Drawn, ranges: &[(u32, u32, u16)]) -> io::Result<()> {
        let Some(&(row, _, column)) = ranges.first() else { return Ok(()) };
        let cells = |&(first, last, column): &(u32, u32, u16)| {
            format!("{}:{}", row_col_to_cell(first, column), row_col_to_cell(last, column))
        };
        let all = ranges.iter().map(cells).collect::<Vec<_>>().join(" ");
        let sheet = &mut self.sheet;
        match drawn {
            Drawn::Bars => {
                let bars = ConditionalFormatDataBar::new()
                    .set_fill_color(0x009f_c9cf)
                    .set_negative_fill_color(0x00c9_8a86)
                    .set_solid_fill(true)
                    .set_border_off(true)
                    .set_multi_range(&all);
                done(sheet.add_conditional_format(row, column, row, column, &bars))
            }
            Drawn::Shades => {
                let shades = ConditionalFormat2ColorScale::new()
                    .set_minimum_color(0x00f4_f8ef)
                    .set_maximum_color(0x0097_bf72)
                    .set_multi_range(&all);
                done(sheet.add_conditional_format(row, column, row, column, &shades))
            }
        }
    }

    fn trend(&mut self, line: u32, figures: (u16, u16), at: u16) -> io::Result<()> {
        let name = self.sheet.name();
        let range = (name.as_str(), line, figures.0, line, figures.1);
        let small = Sparkline::new().set_range(range).set_sparkline_color(0x000a_5563);
        done(self.sheet.add_sparkline(line, at, &small))
    }

    fn chart(
        &mut self,
        part: &Part<'_>,
        first: u32,
        _: Place,
        _: &dyn Fn() -> Option<Scene>,
    ) -> io::Result<()> {
        match part.chart {
            Some(look) => done(super::drawn::write(part, look, first, &mut self.sheet)),
            None => Ok(()),
        }
    }
}
