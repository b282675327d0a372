//! A document: what a report, or a single table, is before it is written as anything.
//!
//! Every writer takes it, and computes no figure: tables and headlines come as finished grids, checks as they were
//! found. A headline is a grid of one line as well, which outputs that draw set large.
//!
//! ```
//! use oeuvre_columns::{Kind, Value};
//! use oeuvre_core::{Grid, Ledger};
//! use oeuvre_render::{Document, Style};
//!
//! let kind = Kind::Number { scale: 2 };
//! let grid = Grid::of_one("sum(fare)", kind, false, &Value::Number("12.50".parse().unwrap()));
//! let (ledger, style) = (Ledger::default(), Style::default());
//! let document = Document::of_table(&grid, &ledger, &style);
//! assert!(!document.is_report && document.parts[0].title.is_none());
//! ```

use crate::chart::{ChartData, ChartLook, Scene, draw};
use crate::style::Style;
use oeuvre_core::{Checked, Entry, Grid, Ledger, Section};
use std::collections::HashMap;

/// A document to be written.
#[derive(Clone, Debug, Default)]
pub struct Document<'a> {
    /// Whether it is a whole report, and not one table alone.
    pub is_report: bool,
    /// What stands at its top.
    pub title: Option<String>,
    /// Paragraphs below the title, divided by blank lines.
    pub text: Option<String>,
    /// When it was made, where that was asked for.
    pub stamp: Option<String>,
    /// What it shows, in this order.
    pub parts: Vec<Part<'a>>,
    /// What had to agree with known figures: the name of each check, and what was found.
    pub checks: Vec<(Option<String>, &'a Checked)>,
    /// What readers should be told beside the ledgers of the parts, each with the figures that it holds for: none
    /// where it holds for the whole.
    pub notes: Vec<(String, Vec<String>)>,
    /// The accounts of rows that no part shows, such as those of checks, with what they are for.
    pub others: Vec<(String, &'a Ledger)>,
    /// How the figures are worked out: the name of each part, and its explanation.
    pub explained: Vec<(String, Vec<Section>)>,
}

/// What a part of a document shows.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum PartType {
    /// Lines of groups.
    #[default]
    Table,
    /// Rows.
    Detail,
    /// Lines of groups, drawn.
    Chart,
    /// One figure by itself in the first column, and where there are more, another one that it is compared with,
    /// the difference, and the growth.
    Headline,
}

impl PartType {
    /// What it is called in files.
    pub fn name(self) -> &'static str {
        match self {
            PartType::Table => "table",
            PartType::Detail => "detail",
            PartType::Chart => "chart",
            PartType::Headline => "headline",
        }
    }
}

/// A part of a document.
#[derive(Clone, Debug)]
pub struct Part<'a> {
    /// What it is called; names differ from each other.
    pub name: String,
    /// What stands above it.
    pub title: Option<String>,
    /// Paragraphs above it, divided by blank lines.
    pub text: Option<String>,
    /// What it shows.
    pub shows: PartType,
    /// Its figures.
    pub grid: &'a Grid,
    /// How it looks.
    pub style: &'a Style,
    /// How it is drawn, where it is.
    pub chart: Option<&'a ChartLook>,
    /// The account of its rows.
    pub ledger: &'a Ledger,
}

impl Part<'_> {
    /// It drawn, where it is a chart.
    pub(crate) fn scene(&self) -> Option<Scene> {
        let look = self.chart?;
        let data = ChartData::of(self.grid, self.style, look);
        let title = look.title.clone().or_else(|| self.title.clone());
        Some(draw(&data, &ChartLook { title, ..look.clone() }, self.style.signs))
    }

    /// As [`Part::scene`], without a title of its own, below one that stands there already.
    pub(crate) fn scene_below_title(&self) -> Option<Scene> {
        let look = self.chart?;
        let data = ChartData::of(self.grid, self.style, look);
        let mut scene = draw(
            &data,
            &ChartLook { title: Some(String::new()), ..look.clone() },
            self.style.signs,
        );
        scene.title = self.heading().to_owned();
        Some(scene)
    }

    /// Why it would mislead where it is drawn, and the way out.
    pub(crate) fn misleads(&self) -> Option<(String, String)> {
        let look = self.chart?;
        ChartData::of(self.grid, self.style, look).misleads(look)
    }

    /// What stands above it: its title, or its name.
    pub fn heading(&self) -> &str {
        self.title.as_deref().unwrap_or(&self.name)
    }
}

/// The paragraphs of a text.
pub(crate) fn paragraphs(text: &str) -> impl Iterator<Item = String> + '_ {
    let mut out: Vec<String> = vec![String::new()];
    for line in text.lines().map(str::trim) {
        match (line.is_empty(), out.last_mut()) {
            (true, _) => out.push(String::new()),
            (false, Some(last)) => {
                if !last.is_empty() {
                    last.push(' ');
                }
                last.push_str(line);
            }
            (false, None) => {}
        }
    }
    out.into_iter().filter(|p| !p.is_empty())
}

/// The account of the rows of some parts that counted the same ones.
pub(crate) struct Account<'a> {
    /// What it is for: the headings of the parts, and what else counted these rows.
    pub(crate) names: Vec<&'a str>,
    /// The parts.
    pub(crate) parts: Vec<&'a Part<'a>>,
    /// The entries on their rows.
    pub(crate) entries: Vec<Entry>,
}

impl<'a> Document<'a> {
    /// The document that a table is by itself.
    pub fn of_table(grid: &'a Grid, ledger: &'a Ledger, style: &'a Style) -> Document<'a> {
        let shows = if grid.of_rows { PartType::Detail } else { PartType::Table };
        let name = shows.name().to_owned();
        let (title, text, chart) = (None, None, None);
        let part = Part { name, title, text, shows, grid, style, chart, ledger };
        let checks = ledger.checks.iter().map(|check| (None, check)).collect();
        Document { parts: vec![part], checks, ..Document::default() }
    }

    /// The document that a chart is by itself.
    pub fn of_chart(
        grid: &'a Grid,
        ledger: &'a Ledger,
        style: &'a Style,
        chart: &'a ChartLook,
    ) -> Document<'a> {
        let mut document = Document::of_table(grid, ledger, style);
        for part in &mut document.parts {
            (part.shows, part.chart) = (PartType::Chart, Some(chart));
            part.name = PartType::Chart.name().to_owned();
        }
        document
    }

    /// A part by itself, as a document of one table.
    pub fn of_part(&self, part: usize) -> Document<'a> {
        Document { parts: vec![self.parts[part].clone()], ..Document::default() }
    }

    /// Whether the heading of a part says more than that it is there.
    pub(crate) fn has_headings(&self) -> bool {
        self.parts.len() > 1 || self.parts.iter().any(|p| p.title.is_some())
    }

    /// What stands at the top of a document that needs a title.
    pub(crate) fn heading(&self) -> &str {
        match (&self.title, self.parts.first()) {
            (Some(title), _) => title,
            (None, Some(part)) => part.heading(),
            (None, None) => "Report",
        }
    }

    /// The accounts of the rows, those of parts that counted the same rows together.
    pub(crate) fn accounts(&'a self) -> Vec<Account<'a>> {
        let mut accounts: Vec<Account<'a>> = Vec::new();
        let mut places: HashMap<Vec<Entry>, usize> = HashMap::new();
        let parts = self.parts.iter().map(|p| (p.heading(), p.ledger, Some(p)));
        let others = self.others.iter().map(|(name, ledger)| (name.as_str(), *ledger, None));
        for (name, ledger, part) in parts.chain(others) {
            let at = *places.entry(ledger.entries_of_rows()).or_insert_with_key(|entries| {
                let entries = entries.clone();
                accounts.push(Account { names: Vec::new(), parts: Vec::new(), entries });
                accounts.len() - 1
            });
            let account = &mut accounts[at];
            account.parts.extend(part);
            if !account.names.contains(&name) {
                account.names.push(name);
            }
        }
        accounts
    }

    /// All notes, the most telling of each part first, each once, with the parts that it holds for: none where
    /// it holds for all.
    pub(crate) fn told(&self) -> Vec<(&str, Vec<&str>)> {
        let mut notes: Vec<(&str, Vec<&str>)> = Vec::new();
        let mut places = HashMap::new();
        for (note, of) in &self.notes {
            let at = *places.entry(note.as_str()).or_insert_with(|| {
                notes.push((note, Vec::new()));
                notes.len() - 1
            });
            notes[at].1.extend(of.iter().map(String::as_str));
        }
        let own = notes.len();
        for part in &self.parts {
            for note in part.ledger.told() {
                let at = *places.entry(note.text.as_str()).or_insert_with(|| {
                    notes.push((&note.text, Vec::new()));
                    notes.len() - 1
                });
                notes[at].1.push(part.heading());
            }
        }
        for (at, note) in notes.iter_mut().enumerate() {
            if at >= own && note.1.len() == self.parts.len() {
                note.1.clear();
            }
        }
        notes
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn blank_lines_divide_paragraphs() {
        let text = "\n One\n  line.\n\n\nAnother.\n";
        assert_eq!(paragraphs(text).collect::<Vec<_>>(), ["One line.", "Another."]);
        assert_eq!(paragraphs(" \n").count(), 0);
    }
}
