//! A workbook of ISO/IEC 26300 (OpenDocument 1.3): an archive of XML files.
//!
//! `mimetype` stands first and unpacked, so that the file can be known by its first bytes; `content.xml` has the
//! sheets, with the styles that their cells use; `styles.xml` the pages, `settings.xml` what does not move. The
//! standard has neither bars nor small lines in cells; charts are pictures.

mod styles;

use super::book::Book;
use super::surface::{Drawn, Look, Pages, Place, Surface};
use crate::chart::{Scene, svg};
use crate::document::Part;
use oeuvre_columns::Value;
use std::collections::{BTreeSet, HashMap};
use std::fmt::Write as _;
use std::io::{self, Cursor, Write};
use styles::{Styles, centimetres, escaped};
use zip::write::SimpleFileOptions;
use zip::{CompressionMethod, ZipWriter};

const MIME: &str = "application/vnd.oasis.opendocument.spreadsheet";
/// The name spaces that are used.
const SPACES: &str = "xmlns:office=\"urn:oasis:names:tc:opendocument:xmlns:office:1.0\" \
    xmlns:style=\"urn:oasis:names:tc:opendocument:xmlns:style:1.0\" \
    xmlns:text=\"urn:oasis:names:tc:opendocument:xmlns:text:1.0\" \
    xmlns:table=\"urn:oasis:names:tc:opendocument:xmlns:table:1.0\" \
    xmlns:draw=\"urn:oasis:names:tc:opendocument:xmlns:drawing:1.0\" \
    xmlns:fo=\"urn:oasis:names:tc:opendocument:xmlns:xsl-fo-compatible:1.0\" \
    xmlns:xlink=\"http://www.w3.org/1999/xlink\" \
    xmlns:dc=\"http://purl.org/dc/elements/1.1/\" \
    xmlns:meta=\"urn:oasis:names:tc:opendocument:xmlns:meta:1.0\" \
    xmlns:number=\"urn:oasis:names:tc:opendocument:xmlns:datastyle:1.0\" \
    xmlns:svg=\"urn:oasis:names:tc:opendocument:xmlns:svg-compatible:1.0\" \
    xmlns:config=\"urn:oasis:names:tc:opendocument:xmlns:config:1.0\" \
    xmlns:ooo=\"http://openoffice.org/2004/office\" office:version=\"1.3\"";
const HEAD: &str = "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n";

/// A workbook.
pub(crate) struct Ods {
    title: String,
    sheets: usize,
    tables: String,
    styles: Styles,
    settings: String,
    pictures: Vec<String>,
}

impl Ods {
    /// A workbook with a title.
    pub(crate) fn new(title: &str) -> Ods {
        Ods {
            title: title.to_owned(),
            sheets: 0,
            tables: String::new(),
            styles: Styles::default(),
            settings: String::new(),
            pictures: Vec::new(),
        }
    }

    /// Its bytes.
    pub(crate) fn finish(self) -> io::Result<Vec<u8>> {
        let mut archive = ZipWriter::new(Cursor::new(Vec::new()));
        // Without a time of its own: same table, same bytes.
        let plain = SimpleFileOptions::default().compression_method(CompressionMethod::Stored);
        let packed = SimpleFileOptions::default().compression_method(CompressionMethod::Deflated);
        let mut part = |name: &str, options: SimpleFileOptions, text: &str| -> io::Result<()> {
            archive.start_file(name, options).map_err(io::Error::other)?;
            archive.write_all(text.as_bytes())
        };
        part("mimetype", plain, MIME)?;
        part("META-INF/manifest.xml", packed, &self.manifest())?;
        part("content.xml", packed, &self.content())?;
        part("styles.xml", packed, &pages())?;
        part("settings.xml", packed, &self.settings())?;
        let title = escaped(&self.title);
        let meta = format!(
            "{HEAD}<office:document-meta {SPACES}><office:meta><dc:title>{title}</dc:title>\
             </office:meta></office:document-meta>"
        );
        part("meta.xml", packed, &meta)?;
        for (number, picture) in (1..).zip(&self.pictures) {
            part(&format!("Pictures/chart{number}.svg"), packed, picture)?;
        }
        Ok(archive.finish().map_err(io::Error::other)?.into_inner())
    }

    fn manifest(&self) -> String {
        let mut parts = vec![("/".to_owned(), MIME)];
        for name in ["content.xml", "styles.xml", "settings.xml", "meta.xml"] {
            parts.push((name.to_owned(), "text/xml"));
        }
        for number in 1..=self.pictures.len() {
            parts.push((format!("Pictures/chart{number}.svg"), "image/svg+xml"));
        }
        let entry = |(path, kind): &(String, &str)| {
            format!(
                "<manifest:file-entry manifest:full-path=\"{path}\" manifest:media-type=\"{kind}\"/>"
            )
        };
        let entries: String = parts.iter().map(entry).collect();
        format!(
            "{HEAD}<manifest:manifest \
             xmlns:manifest=\"urn:oasis:names:tc:opendocument:xmlns:manifest:1.0\" \
             manifest:version=\"1.3\">{entries}</manifest:manifest>"
        )
    }

    fn content(&self) -> String {
        format!(
            "{HEAD}<office:document-content {SPACES}><office:automatic-styles>{}\
             </office:automatic-styles><office:body><office:spreadsheet>{}</office:spreadsheet>\
             </office:body></office:document-content>",
            self.styles.xml, self.tables
        )
    }

    fn settings(&self) -> String {
        format!(
            "{HEAD}<office:document-settings {SPACES}><office:settings>\
             <config:config-item-set config:name=\"ooo:view-settings\">\
             <config:config-item-map-indexed config:name=\"Views\"><config:config-item-map-entry>\
             <config:config-item config:name=\"ViewId\" config:type=\"string\">view1</config:config-item>\
             <config:config-item-map-named config:name=\"Tables\">{}</config:config-item-map-named>\
             </config:config-item-map-entry></config:config-item-map-indexed></config:config-item-set>\
             </office:settings></office:document-settings>",
            self.settings
        )
    }
}

/// Pages of A4, upright and lying, onto whose width a sheet is brought; and the styles of sheets that use them.
fn pages() -> String {
    let layout = |name: &str, width: &str, height: &str, lies: &str| {
        format!(
            "<style:page-layout style:name=\"{name}\"><style:page-layout-properties \
             fo:page-width=\"{width}\" fo:page-height=\"{height}\" \
             style:print-orientation=\"{lies}\" fo:margin=\"1.8cm\" style:scale-to-X=\"1\" \
             style:scale-to-Y=\"0\"/></style:page-layout>"
        )
    };
    format!(
        "{HEAD}<office:document-styles {SPACES}><office:automatic-styles>{}{}\
         </office:automatic-styles><office:master-styles>\
         <style:master-page style:name=\"Upright\" style:page-layout-name=\"pm1\"/>\
         <style:master-page style:name=\"Lying\" style:page-layout-name=\"pm2\"/>\
         </office:master-styles></office:document-styles>",
        layout("pm1", "21cm", "29.7cm", "portrait"),
        layout("pm2", "29.7cm", "21cm", "landscape"),
    )
}

/// A text as paragraphs, with its blanks.
fn paragraphs(text: &str) -> String {
    let mut out = String::new();
    for line in text.split('\n') {
        out.push_str("<text:p>");
        let mut rest = line;
        while let Some(at) = rest.find(['\t', ' ']) {
            let blanks = rest[at..].bytes().take_while(|&b| b == b' ').count();
            out.push_str(&escaped(&rest[..at]));
            match blanks {
                0 => out.push_str("<text:tab/>"),
                1 if at > 0 => out.push(' '),
                n => _ = write!(out, "<text:s text:c=\"{n}\"/>"),
            }
            rest = &rest[at + blanks.max(1)..];
        }
        out.push_str(&escaped(rest));
        out.push_str("</text:p>");
    }
    out
}

/// What a cell holds.
enum Held {
    Text(String),
    Number(f64),
    Truth(bool),
    Date(String),
    Blank,
}

struct Cell {
    place: Place,
    held: Held,
    look: Look,
    behind: Option<u32>,
}

/// A sheet.
#[derive(Default)]
struct Sheet {
    cells: Vec<Cell>,
    merged: HashMap<Place, Place>,
    notes: HashMap<Place, String>,
    widths: HashMap<u16, u32>,
    pages: Option<Pages>,
    charts: Vec<(Place, Scene)>,
}

impl Sheet {
    fn put(&mut self, place: Place, held: Held, look: &Look) -> io::Result<()> {
        self.cells.push(Cell { place, held, look: look.clone(), behind: None });
        Ok(())
    }
}

impl Surface for Sheet {
    fn text(&mut self, place: Place, text: &str, look: &Look) -> io::Result<()> {
        self.put(place, Held::Text(text.to_owned()), look)
    }

    fn number(&mut self, place: Place, number: f64, look: &Look) -> io::Result<()> {
        self.put(place, Held::Number(number), look)
    }

    fn truth(&mut self, place: Place, truth: bool, look: &Look) -> io::Result<()> {
        self.put(place, Held::Truth(truth), look)
    }

    fn date(&mut self, place: Place, _: f64, value: &Value, look: &Look) -> io::Result<()> {
        self.put(place, Held::Date(value.to_string()), look)
    }

    fn blank(&mut self, place: Place, look: &Look) -> io::Result<()> {
        self.put(place, Held::Blank, look)
    }

    fn merged(&mut self, first: Place, last: Place, text: &str, look: &Look) -> io::Result<()> {
        self.merged.insert(first, last);
        self.text(first, text, look)
    }

    fn note(&mut self, place: Place, text: &str) -> io::Result<()> {
        self.notes.insert(place, text.to_owned());
        Ok(())
    }

    fn width(&mut self, column: u16, characters: f64) -> io::Result<()> {
        self.widths.insert(column, (characters * 100.0) as u32);
        Ok(())
    }

    fn pages(&mut self, pages: Pages) -> io::Result<()> {
        self.pages = Some(pages);
        Ok(())
    }

    /// Shades are what stands behind the figures; bars there are none.
    fn drawn(&mut self, drawn: Drawn, ranges: &[(u32, u32, u16)]) -> io::Result<()> {
        if drawn == Drawn::Bars {
            return Ok(());
        }
        let mut columns: HashMap<u16, Vec<(u32, u32)>> = HashMap::new();
        for &(first, last, column) in ranges {
            columns.entry(column).or_default().push((first, last));
        }
        let is_in = |(row, column): Place| {
            let of = columns.get(&column);
            of.is_some_and(|ranges| {
                let at = ranges.partition_point(|&(_, last)| last < row);
                ranges.get(at).is_some_and(|&(first, _)| first <= row)
            })
        };
        let mut ends: Option<(f64, f64)> = None;
        for cell in self.cells.iter().filter(|cell| is_in(cell.place)) {
            if let Held::Number(n) = cell.held {
                let (low, high) = ends.unwrap_or((n, n));
                ends = Some((low.min(n), high.max(n)));
            }
        }
        let Some((low, high)) = ends else { return Ok(()) };
        for cell in self.cells.iter_mut().filter(|cell| is_in(cell.place)) {
            if let Held::Number(n) = cell.held {
                let part = if high > low { (n - low) / (high - low) } else { 1.0 };
                cell.behind = Some(shade(part));
            }
        }
        Ok(())
    }

    fn trend(&mut self, _: u32, _: (u16, u16), _: u16) -> io::Result<()> {
        Ok(())
    }

    fn chart(
        &mut self,
        _: &Part<'_>,
        _: u32,
        at: Place,
        scene: &dyn Fn() -> Option<Scene>,
    ) -> io::Result<()> {
        self.charts.extend(scene().map(|scene| (at, scene)));
        Ok(())
    }
}

/// Between the lightest and the darkest shade.
fn shade(part: f64) -> u32 {
    let between = |low: u32, high: u32| {
        (f64::from(low) + part * (f64::from(high) - f64::from(low))).round() as u32
    };
    between(0xf4, 0x97) << 16 | between(0xf8, 0xbf) << 8 | between(0xef, 0x72)
}

impl Book for Ods {
    fn sheet(
        &mut self,
        name: &str,
        fill: &mut dyn FnMut(&mut dyn Surface) -> io::Result<()>,
    ) -> io::Result<()> {
        let mut sheet = Sheet::default();
        fill(&mut sheet)?;
        let named = escaped(name);
        let wide = sheet.pages.is_some_and(|pages| pages.wide);
        let page = if wide { "Lying" } else { "Upright" };
        self.sheets += 1;
        let number = self.sheets;
        let _ = write!(
            self.styles.xml,
            "<style:style style:name=\"ta{number}\" style:family=\"table\" \
             style:master-page-name=\"{page}\"><style:table-properties table:display=\"true\"/></style:style>"
        );
        let _ = write!(
            self.tables,
            "<table:table table:name=\"{named}\" table:style-name=\"ta{number}\">"
        );
        self.shapes(&sheet);
        self.rows(&mut sheet);
        self.tables.push_str("</table:table>");
        if let Some(pages) = sheet.pages {
            self.settings.push_str(&unmoved(&named, pages.frozen));
        }
        Ok(())
    }
}

impl Ods {
    /// Charts, as pictures.
    fn shapes(&mut self, sheet: &Sheet) {
        if sheet.charts.is_empty() {
            return;
        }
        self.tables.push_str("<table:shapes>");
        for ((row, column), scene) in &sheet.charts {
            self.pictures.push(svg(scene, true));
            let before =
                (0..*column).map(|c| centimetres(sheet.widths.get(&c).copied().unwrap_or(1000)));
            let _ = write!(
                self.tables,
                "<draw:frame svg:x=\"{:.2}cm\" svg:y=\"{:.2}cm\" svg:width=\"{:.2}cm\" \
                 svg:height=\"{:.2}cm\"><draw:image xlink:href=\"Pictures/chart{}.svg\" \
                 xlink:type=\"simple\" xlink:show=\"embed\" xlink:actuate=\"onLoad\"/>\
                 <svg:title>{}</svg:title><svg:desc>{}</svg:desc></draw:frame>",
                before.sum::<f64>(),
                f64::from(*row) * 0.45,
                scene.width * 2.54 / 96.0,
                scene.height * 2.54 / 96.0,
                self.pictures.len(),
                escaped(&scene.title),
                escaped(&scene.description),
            );
        }
        self.tables.push_str("</table:shapes>");
    }

    /// Columns and rows.
    fn rows(&mut self, sheet: &mut Sheet) {
        // Of two cells in one place the later one counts.
        sheet.cells.sort_by_key(|cell| cell.place);
        let columns = sheet
            .cells
            .iter()
            .map(|cell| cell.place.1)
            .chain(sheet.merged.values().map(|last| last.1));
        for column in 0..=columns.max().unwrap_or(0) {
            let width = sheet.widths.get(&column).copied().unwrap_or(1000);
            let style = self.styles.width(width);
            let _ = write!(self.tables, "<table:table-column table:style-name=\"co{style}\"/>");
        }
        let mut covered: BTreeSet<Place> = BTreeSet::new();
        for (&(top, left), &(bottom, right)) in &sheet.merged {
            let all =
                (top..=bottom).flat_map(|row| (left..=right).map(move |column| (row, column)));
            covered.extend(all.filter(|&place| place != (top, left)));
        }
        let repeated = sheet.pages.map(|pages| pages.repeated);
        let mut cells = sheet.cells.iter().peekable();
        let last = cells.clone().last().map_or(0, |cell| cell.place.0);
        let mut row = 0;
        while row <= last {
            if repeated.is_some_and(|(first, _)| first == row) {
                self.tables.push_str("<table:table-header-rows>");
            }
            self.tables.push_str("<table:table-row>");
            let begun = self.tables.len();
            let mut column = 0;
            loop {
                let cell = cells.next_if(|cell| cell.place.0 == row);
                let until = cell.map_or(u16::MAX, |cell| cell.place.1);
                let covers = covered.range((row, column)..(row, until)).copied();
                for (_, at) in covers.collect::<Vec<_>>() {
                    self.gap(at - column);
                    self.tables.push_str("<table:covered-table-cell/>");
                    column = at + 1;
                }
                let Some(cell) = cell else { break };
                if cells.peek().is_some_and(|next| next.place == cell.place) {
                    continue;
                }
                self.gap(until - column);
                self.cell(sheet, cell);
                column = until + 1;
            }
            // A row has a cell.
            if self.tables.len() == begun {
                self.gap(1);
            }
            self.tables.push_str("</table:table-row>");
            if repeated.is_some_and(|(_, last)| last == row) {
                self.tables.push_str("</table:table-header-rows>");
            }
            row += 1;
        }
        // Headings without a line below them.
        if repeated.is_some_and(|(first, end)| first <= last && end > last) {
            self.tables.push_str("</table:table-header-rows>");
        }
    }

    /// Cells that hold nothing.
    fn gap(&mut self, cells: u16) {
        match cells {
            0 => {}
            1 => self.tables.push_str("<table:table-cell/>"),
            n => {
                let _ = write!(
                    self.tables,
                    "<table:table-cell table:number-columns-repeated=\"{n}\"/>"
                );
            }
        }
    }

    fn cell(&mut self, sheet: &Sheet, cell: &Cell) {
        let style = self.styles.cell(&cell.look, cell.behind);
        let out = &mut self.tables;
        let _ = write!(out, "<table:table-cell table:style-name=\"ce{style}\"");
        if let Some(&(bottom, right)) = sheet.merged.get(&cell.place) {
            let (top, left) = cell.place;
            let _ = write!(
                out,
                " table:number-columns-spanned=\"{}\" table:number-rows-spanned=\"{}\"",
                right - left + 1,
                bottom - top + 1
            );
        }
        let mut text = String::new();
        match &cell.held {
            Held::Text(held) => {
                out.push_str(" office:value-type=\"string\"");
                text = paragraphs(held);
            }
            Held::Number(number) => {
                let percent = cell.look.number_format.as_ref().is_some_and(|f| f.contains('%'));
                let kind = if percent { "percentage" } else { "float" };
                let _ = write!(out, " office:value-type=\"{kind}\" office:value=\"{number}\"");
            }
            Held::Truth(truth) => {
                let _ =
                    write!(out, " office:value-type=\"boolean\" office:boolean-value=\"{truth}\"");
            }
            Held::Date(date) => {
                let _ = write!(out, " office:value-type=\"date\" office:date-value=\"{date}\"");
            }
            Held::Blank => {}
        }
        out.push('>');
        if let Some(note) = sheet.notes.get(&cell.place) {
            let _ = write!(out, "<office:annotation>{}</office:annotation>", paragraphs(note));
        }
        out.push_str(&text);
        out.push_str("</table:table-cell>");
    }
}

/// What does not move when a sheet is scrolled.
fn unmoved(named: &str, (rows, columns): (u32, u16)) -> String {
    let item = |name: &str, kind: &str, value: u32| {
        format!(
            "<config:config-item config:name=\"{name}\" config:type=\"{kind}\">{value}</config:config-item>"
        )
    };
    let mut items = String::new();
    for (side, far, at) in
        [("Horizontal", "PositionRight", u32::from(columns)), ("Vertical", "PositionBottom", rows)]
    {
        if at > 0 {
            items.push_str(&item(&format!("{side}SplitMode"), "short", 2));
            items.push_str(&item(&format!("{side}SplitPosition"), "int", at));
            items.push_str(&item(far, "int", at));
        }
    }
    format!(
        "<config:config-item-map-entry config:name=\"{named}\">{items}</config:config-item-map-entry>"
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("a  b<c", "<text:p>a<text:s text:c=\"2\"/>b&lt;c</text:p>")]
    #[case(" a\tb", "<text:p><text:s text:c=\"1\"/>a<text:tab/>b</text:p>")]
    #[case("a\nb", "<text:p>a</text:p><text:p>b</text:p>")]
    #[case("=1+1", "<text:p>=1+1</text:p>")]
    fn texts_keep_their_blanks(#[case] text: &str, #[case] expected: &str) {
        assert_eq!(paragraphs(text), expected);
    }
}
