//! The file types that tables are written as: one file each, and a row in [`WRITERS`].
//!
//! If you add one: a [`Writer`] in a file of its own, and a row. The names that `--as` takes, the endings of
//! files, the help, and what is written part by part follow from it; tests run every writer there is into full
//! disks and closed pipes, and hold names and endings apart. A writer for reading takes cells from
//! `Layout::push_read`, one for handing on from `Layout::raw`; what cells hold is untrusted, and escaped here as
//! the format needs it.
//!
//! ```
//! use oeuvre_render::Format;
//!
//! assert_eq!(Format::of_ending("fares.TSV").map(Format::name), Some("tsv"));
//! assert!("json".parse::<Format>().is_ok_and(|format| !format.is_for_reading()));
//! ```

#[cfg(feature = "columnar")]
pub(crate) mod columnar;
#[cfg(feature = "html")]
mod html;
mod json;
mod markdown;
mod page;
#[cfg(feature = "png")]
mod png;
mod separated;
mod svg;
mod text;
mod trace;
#[cfg(any(feature = "ods", feature = "xlsx"))]
mod workbook;

use crate::Settings;
use crate::document::{Document, Part};
use crate::style::Style;
#[cfg(feature = "columnar")]
use oeuvre_core::Plan;
use oeuvre_core::{Grid, Ledger, Trace};
use std::fmt;
use std::io::{self, Write};
use std::str::FromStr;

/// What a type of file is called, and what it can.
#[derive(Clone, Copy, Debug)]
pub(crate) struct FileType {
    /// What `--as` calls it.
    name: &'static str,
    /// The endings of file names that stand for it.
    endings: &'static [&'static str],
    /// Whether figures are rounded for people, rather than handed on whole.
    is_for_reading: bool,
    /// Whether it is no text, and so never fit for a terminal.
    is_binary: bool,
    /// Whether it makes control characters visible itself, as what is drawn for a terminal does.
    escapes: bool,
    /// Whether it shows how each figure is worked out.
    explains: bool,
    /// Whether it draws charts, and nothing else.
    draws: bool,
    /// Whether a document of several parts is one file.
    holds_several: bool,
}

impl FileType {
    /// Text that hands figures on whole; what else it is stands beside it.
    const fn of(name: &'static str, endings: &'static [&'static str]) -> FileType {
        FileType {
            name,
            endings,
            is_for_reading: false,
            is_binary: false,
            escapes: false,
            explains: false,
            draws: false,
            holds_several: true,
        }
    }

    /// Whether charts are drawn in it, and are not tables of their figures.
    fn shows_charts(&self) -> bool {
        self.draws || self.is_for_reading || self.explains
    }
}

/// Writes tables as one type of file.
pub(crate) trait Writer: Sync {
    /// What type of file that is.
    fn file_type(&self) -> &FileType;

    /// What it has no room for in a document, and the way out; told before anything is written.
    fn refuses(&self, document: &Document<'_>) -> Option<(String, String)> {
        let _ = document;
        None
    }

    /// The files that stand beside a document, each with its name and what it holds.
    fn files_beside(
        &self,
        document: &Document<'_>,
        settings: Settings<'_>,
    ) -> Vec<(String, Vec<u8>)> {
        let _ = (document, settings);
        Vec::new()
    }

    /// Writes a document whole.
    fn write(
        &self,
        document: &Document<'_>,
        settings: Settings<'_>,
        out: &mut dyn Write,
    ) -> io::Result<()>;

    /// How a table of rows is written part by part; `None` for what must see it whole.
    fn parts(&self) -> Option<&dyn PartWriter> {
        None
    }

    /// Whether it takes the rows of a listing as they come, although it is no text.
    fn streams_rows(&self) -> bool {
        false
    }

    /// What of a table is not in the file, in words.
    fn leaves_out(&self, grid: &Grid, style: &Style) -> Option<String> {
        let _ = (grid, style);
        None
    }

    /// What takes the rows of a listing as they come, where they are no text; `None` for other types.
    #[cfg(feature = "columnar")]
    fn sink(&self, plan: &Plan) -> Option<io::Result<columnar::Sink>> {
        let _ = plan;
        None
    }

    /// Writes a traced cell: its rows alone, unless there is room for more.
    fn write_trace(
        &self,
        trace: &Trace,
        settings: Settings<'_>,
        most: usize,
        out: &mut dyn Write,
    ) -> io::Result<()> {
        let _ = most;
        let (ledger, style) = (Ledger::default(), Style::default());
        let settings = Settings { style: &style, with_ledger: false, ..settings };
        self.write(&Document::of_table(&trace.rows, &ledger, &style), settings, out)
    }
}

/// Writes tables part by part.
pub(crate) trait PartWriter: Sync {
    /// Writes what comes before the first part.
    fn headings(&self, headings: &[&str], style: &Style, out: &mut dyn Write) -> io::Result<()>;

    /// Writes the lines of a part.
    fn lines(&self, grid: &Grid, style: &Style, out: &mut dyn Write) -> io::Result<()>;
}

/// All writers, in the order in which they are named.
static WRITERS: &[&dyn Writer] = &[
    &text::Text,
    &separated::CSV,
    &separated::TSV,
    &json::Json,
    &json::Lines,
    &markdown::Markdown,
    #[cfg(feature = "columnar")]
    &columnar::PARQUET,
    #[cfg(feature = "columnar")]
    &columnar::ARROW,
    #[cfg(feature = "columnar")]
    &columnar::ARROWS,
    #[cfg(feature = "html")]
    &html::Html,
    #[cfg(feature = "xlsx")]
    &workbook::XLSX,
    #[cfg(feature = "ods")]
    &workbook::ODS,
    &svg::Svg,
    #[cfg(feature = "png")]
    &png::Png,
];

/// An output format.
#[derive(Clone, Copy)]
pub struct Format(pub(crate) &'static dyn Writer);

impl Default for Format {
    /// The one for reading on a terminal.
    fn default() -> Format {
        Format(&text::Text)
    }
}

impl fmt::Debug for Format {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

impl FromStr for Format {
    type Err = ();

    fn from_str(name: &str) -> Result<Format, ()> {
        Format::all().find(|f| f.name() == name).ok_or(())
    }
}

impl Format {
    /// All formats.
    pub fn all() -> impl Iterator<Item = Format> {
        WRITERS.iter().map(|writer| Format(*writer))
    }

    /// What it is called.
    pub fn name(self) -> &'static str {
        self.0.file_type().name
    }

    /// The format that a file name's ending stands for, whatever its case.
    pub fn of_ending(name: &str) -> Option<Format> {
        let ending = name.rsplit_once('.')?.1.to_ascii_lowercase();
        Format::all().find(|f| f.0.file_type().endings.contains(&ending.as_str()))
    }

    /// Whether figures are rounded for people, rather than handed on whole.
    pub fn is_for_reading(self) -> bool {
        self.0.file_type().is_for_reading
    }

    /// Whether it is no text, and so never fit for a terminal.
    pub fn is_binary(self) -> bool {
        self.0.file_type().is_binary
    }

    /// Whether it makes control characters visible itself.
    pub fn escapes(self) -> bool {
        self.0.file_type().escapes
    }

    /// Whether it shows how each figure is worked out.
    pub fn explains(self) -> bool {
        self.0.file_type().explains
    }

    /// Whether a document of several parts is one file.
    pub fn holds_several(self) -> bool {
        self.0.file_type().holds_several
    }

    /// Whether it draws charts, and nothing else.
    pub fn draws(self) -> bool {
        self.0.file_type().draws
    }

    /// The ending of a file of this type.
    pub fn ending(self) -> &'static str {
        self.0.file_type().endings[0]
    }

    /// Whether charts are drawn in it, and are not tables of their figures.
    pub fn shows_charts(self) -> bool {
        self.0.file_type().shows_charts()
    }

    /// What of a document cannot be written as it, and the way out; asked before anything is written.
    pub fn refuses(self, document: &Document<'_>) -> Option<(String, String)> {
        let name = self.name();
        if self.draws() && document.parts.iter().any(|part| part.chart.is_none()) {
            let message = format!("{name} is a drawing, and this is a table");
            return Some((message, format!("draw it: oeuvre chart … --to FILE.{name}")));
        }
        let misleading = || document.parts.iter().find_map(Part::misleads);
        let misleading = if self.shows_charts() { misleading() } else { None };
        misleading.or_else(|| self.0.refuses(document))
    }

    /// What of a table is not in the file, in words.
    pub fn leaves_out(self, grid: &Grid, style: &Style) -> Option<String> {
        self.0.leaves_out(grid, style)
    }

    /// What takes the rows of a listing as they come, where they are no text; `None` for other types.
    #[cfg(feature = "columnar")]
    pub fn sink(self, plan: &Plan) -> Option<io::Result<columnar::Sink>> {
        self.0.sink(plan)
    }

    /// Whether tables of rows are written part by part.
    pub fn streams(self) -> bool {
        self.0.parts().is_some() || self.0.streams_rows()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::TextSettings;
    use crate::layout::{Layout, Slot};
    use crate::testing::any_table;
    use oeuvre_columns::Value;
    use proptest::prelude::*;
    use serde_json::Value as Json;
    use std::collections::HashSet;

    fn settings(style: &Style, format: Format) -> Settings<'_> {
        Settings {
            style,
            format,
            text: TextSettings::default(),
            with_ledger: true,
            beside: None,
            threads: 1,
        }
    }

    fn written(grid: &Grid, style: &Style, name: &str) -> String {
        let (format, mut out) = (name.parse().unwrap(), Vec::new());
        crate::write(grid, &Ledger::default(), settings(style, format), &mut out).unwrap();
        String::from_utf8(out).unwrap()
    }

    /// A cell as JSON has it, as a text: exact numbers keep their digits, missing is nothing.
    fn text(cell: Option<&Json>) -> String {
        match cell {
            None | Some(Json::Null) => String::new(),
            Some(Json::String(text)) => text.clone(),
            Some(other) => other.to_string(),
        }
    }

    /// Numbers in JSON are those of JSON, and may be written otherwise.
    fn same(json: &str, raw: &str) -> bool {
        json == raw || json.parse::<f64>().is_ok_and(|a| raw.parse::<f64>().is_ok_and(|b| a == b))
    }

    #[test]
    fn no_two_file_types_share_a_name_or_an_ending() {
        let mut seen = HashSet::new();
        for writer in WRITERS {
            let FileType { name, endings, .. } = *writer.file_type();
            assert!(seen.insert(name.to_owned()), "{name}");
            assert_eq!(name.parse::<Format>().map(Format::name), Ok(name));
            for ending in endings {
                assert!(seen.insert(format!(".{ending}")), "{ending} stands twice");
                let found = Format::of_ending(&format!("a.b.{}", ending.to_uppercase()));
                assert_eq!(found.map(Format::name), Some(name));
            }
        }
        assert!(Format::of_ending("csv").is_none() && Format::of_ending("a.").is_none());
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 150, ..ProptestConfig::default() })]

        /// Whatever the file type, a cell has the value that the layout gives; what is read is a table again.
        #[test]
        fn every_file_type_carries_the_same_cells((grid, _) in any_table(), long in any::<bool>()) {
            let style = Style { long, ..Style::default() };
            let layout = Layout::new(&grid, &style);
            let raw = |row, slot| layout.raw(row, slot).to_string();
            for (name, separator) in [("csv", b','), ("tsv", b'\t')] {
                let text = written(&grid, &style, name);
                let mut reader = csv::ReaderBuilder::new().delimiter(separator).from_reader(text.as_bytes());
                let headings: Vec<String> = reader.headers().unwrap().iter().map(str::to_owned).collect();
                if layout.slots.is_empty() {
                    continue;
                }
                prop_assert!(headings.iter().enumerate().all(|(i, h)| *h == layout.heading(i)), "{headings:?}");
                prop_assert_eq!(headings.iter().collect::<HashSet<_>>().len(), layout.slots.len());
                let records: Vec<csv::StringRecord> = reader.records().map(Result::unwrap).collect();
                prop_assert_eq!(records.len(), layout.rows.len(), "{}", text);
                for (record, row) in records.iter().zip(layout.rows.iter()) {
                    for (field, &slot) in record.iter().zip(&layout.slots) {
                        prop_assert_eq!(field, raw(row, slot));
                    }
                }
            }
            let document: Json = serde_json::from_str(&written(&grid, &style, "json")).unwrap();
            let lines: Vec<Json> =
                written(&grid, &style, "jsonl").lines().map(|l| serde_json::from_str(l).unwrap()).collect();
            let member = if grid.of_rows { "rows" } else { "lines" };
            prop_assert_eq!(document[member].as_array(), Some(&lines));
            prop_assert_eq!(lines.len(), layout.rows.len());
            for (line, row) in lines.iter().zip(layout.rows.iter()) {
                let cells = if grid.of_rows { line } else { &line["cells"] };
                for (place, &slot) in layout.slots.iter().enumerate() {
                    let cell = cells.get(layout.heading(place));
                    if matches!(slot, Slot::Result(_)) || layout.label(row, slot).is_some_and(|l| !l.is_missing()) {
                        prop_assert!(same(&text(cell), &raw(row, slot)), "{cell:?} {}", raw(row, slot));
                    } else {
                        prop_assert!(cell.is_none_or(Json::is_null), "{cell:?}");
                    }
                }
            }
            // A pipe table has a line for each row, with as many cells each, whatever they hold.
            let markdown = written(&grid, &style, "markdown");
            let pipes = |line: &str| line.replace("\\\\", "").replace("\\|", "").matches('|').count();
            let table: Vec<&str> = markdown.lines().take_while(|l| l.starts_with('|')).collect();
            prop_assert_eq!(table.len(), layout.rows.len() + 2, "{}", markdown);
            prop_assert!(table.iter().all(|l| pipes(l) == layout.slots.len() + 1 || layout.slots.is_empty()));
            prop_assert!(!markdown.contains('<') || !markdown.contains("<b>"));
            // Nothing that a cell holds steers a terminal.
            let page = written(&grid, &style, "text");
            let steers = [&page, &markdown].iter().any(|text| text.contains('\u{1b}'));
            prop_assert!(!steers);
        }

        /// A table in parts is the table whole.
        #[test]
        fn parts_put_together_are_the_whole((grid, _) in any_table()) {
            let style = Style::default();
            for format in Format::all().filter(|f| f.0.parts().is_some() && grid.of_rows) {
                let settings = settings(&style, format);
                let headings: Vec<&str> = grid.columns.iter().map(|c| c.heading.as_str()).collect();
                let mut out = Vec::new();
                format.0.parts().unwrap().headings(&headings, &Style::default(), &mut out).unwrap();
                let lines = grid.lines.len();
                for range in [0..lines / 2, lines / 2..lines] {
                    let mut part = grid.clone();
                    part.lines.truncate(range.len());
                    part.columns.iter_mut().for_each(|c| c.cells = c.cells.slice(range.clone()).into());
                    out.extend(crate::write_part(&part, &settings, None));
                }
                prop_assert_eq!(String::from_utf8(out).unwrap(), written(&grid, &style, format.name()));
            }
        }
    }

    /// A disk that is full after so many bytes.
    struct Full(usize);

    impl Write for Full {
        fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
            let taken = bytes.len().min(self.0);
            self.0 -= taken;
            if taken == 0 { Err(io::ErrorKind::StorageFull.into()) } else { Ok(taken) }
        }
        fn flush(&mut self) -> io::Result<()> {
            Ok(())
        }
    }

    #[test]
    fn every_writer_says_that_its_output_failed_wherever_that_was() {
        let grid =
            Grid::of_one("sum(fare)", oeuvre_columns::Kind::Text, false, &Value::Text("a".into()));
        let style = Style::default();
        for format in Format::all() {
            let mut all = Vec::new();
            let settings_of = settings(&style, format);
            crate::write(&grid, &Ledger::default(), settings_of, &mut all).unwrap();
            let whole = all.len();
            // What is made in memory is written in one go.
            let step = if format.is_binary() { 101 } else { 1 };
            let into = |room| {
                let mut out = Full(room);
                crate::write(&grid, &Ledger::default(), settings(&style, format), &mut out)
            };
            assert!(into(whole).is_ok(), "{format:?}");
            for room in (0..whole).step_by(step) {
                let error = into(room).expect_err(format.name());
                assert_eq!(
                    error.kind(),
                    io::ErrorKind::StorageFull,
                    "{format:?} after {room} bytes"
                );
            }
        }
    }
}
