//! A page for a browser: one file without a script and without anything fetched from elsewhere.
//!
//! Its looks are in `page.css`. Texts are escaped by the library that builds the page; control characters and those
//! that reorder others are made visible as everywhere. Nothing here depends on a clock.

use super::{FileType, Writer};
use crate::Settings;
use crate::cells::{escape_controls, grouped};
use crate::chart::svg;
use crate::document::{Document, Part, PartType, paragraphs};
use crate::draw::step;
use crate::headings::heading_rows;
use crate::headline::Headline;
use crate::layout::{Layout, Row, Slot};
use crate::ledger::{figure_text, told_of_parts};
use maud::{DOCTYPE, Markup, PreEscaped, html};
use oeuvre_core::LineKind;
use std::io::{self, Write};
use unicode_width::UnicodeWidthStr;

/// How a page looks: on a screen, on paper, by day and by night.
const STYLE: &str = include_str!("page.css");

/// Tables of more characters a line than this are printed in smaller type, and then in landscape.
const DENSE: usize = 88;
const WIDE: usize = 132;
/// Tables of so few lines are not torn over two pages.
const SHORT: usize = 30;

/// Labels of more characters than this are broken into lines.
const LONG: usize = 44;

/// A page.
pub(super) struct Html;

impl Writer for Html {
    fn file_type(&self) -> &FileType {
        const FILE_TYPE: FileType = FileType {
            is_for_reading: true,
            escapes: true,
            explains: true,
            ..FileType::of("html", &["html", "htm"])
        };
        &FILE_TYPE
    }
    fn write(
        &self,
        document: &Document<'_>,
        settings: Settings<'_>,
        out: &mut dyn Write,
    ) -> io::Result<()> {
        let page = page(document, settings.with_ledger);
        out.write_all(page.into_string().as_bytes())?;
        out.write_all(b"\n")
    }
}

fn page(document: &Document<'_>, with_ledger: bool) -> Markup {
    let title = escape_controls(document.heading());
    html! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                meta name="viewport" content="width=device-width, initial-scale=1";
                meta name="color-scheme" content="light dark";
                meta http-equiv="Content-Security-Policy" content="default-src 'none'; style-src 'unsafe-inline'";
                title { (title) }
                style { (PreEscaped(STYLE)) }
            }
            body {
                header {
                    h1 { (title) }
                    @if let Some(stamp) = &document.stamp { p.stamp { (stamp) } }
                    (text(document.text.as_deref()))
                }
                main {
                    @for group in groups(&document.parts) {
                        @if group[0].1.shows == PartType::Headline {
                            (headlines(group))
                        } @else {
                            @for (number, part) in group { (section(document, number, part)) }
                        }
                    }
                    @if !document.checks.is_empty() { (checks(document)) }
                    @if with_ledger { (ledger(document)) }
                    @if !document.explained.is_empty() { (explained(document)) }
                }
            }
        }
    }
}

/// The parts with their numbers; headlines in a row stand together.
fn groups<'a, 'b>(parts: &'a [Part<'b>]) -> Vec<Vec<(usize, &'a Part<'b>)>> {
    let mut groups: Vec<Vec<(usize, &Part<'_>)>> = Vec::new();
    for (number, part) in parts.iter().enumerate() {
        let headline = |p: &Part<'_>| p.shows == PartType::Headline && p.text.is_none();
        match groups.last_mut() {
            Some(group) if headline(part) && group[0].1.shows == PartType::Headline => {
                group.push((number, part));
            }
            _ => groups.push(vec![(number, part)]),
        }
    }
    groups
}

fn text(text: Option<&str>) -> Markup {
    html! {
        @for paragraph in text.into_iter().flat_map(paragraphs) {
            p.text { (escape_controls(&paragraph)) }
        }
    }
}

fn headlines(parts: Vec<(usize, &Part<'_>)>) -> Markup {
    html! {
        (text(parts[0].1.text.as_deref()))
        div.headlines {
            @for (_, part) in parts {
                @let headline = Headline::of(part.grid, part.style);
                dl.headline {
                    dt { (headline.heading) }
                    dd.figure { (headline.figure) }
                    @if let Some(beside) = headline.beside { dd.beside { (beside) } }
                }
            }
        }
    }
}

/// A table with its title and its notes.
fn section(document: &Document<'_>, number: usize, part: &Part<'_>) -> Markup {
    let layout = Layout::new(part.grid, part.style);
    let id = format!("part-{}", number + 1);
    let mut class = match width(&layout) {
        w if w > WIDE => "wide",
        w if w > DENSE => "dense",
        _ => "",
    }
    .to_owned();
    if layout.rows.len() <= SHORT {
        class.push_str(" short");
    }
    let titled = document.has_headings();
    let heading = escape_controls(part.heading());
    if let Some(scene) = part.scene_below_title() {
        return figure(part, &layout, (&id, &heading), &svg(&scene, false));
    }
    html! {
        section class=(class.trim()) {
            div.scroll tabindex="0" role="region" aria-label=(heading) {
                (table(&layout, &id, (titled.then_some(heading.as_str()), part.text.as_deref())))
            }
            @if !part.grid.notes.is_empty() {
                ol.marks {
                    @for (i, note) in part.grid.notes.iter().enumerate() {
                        li id=(format!("{id}-note-{}", i + 1)) { (escape_controls(note)) }
                    }
                }
            }
        }
    }
}

/// A chart with its title, and its figures folded below it.
fn figure(
    part: &Part<'_>,
    layout: &Layout<'_>,
    (id, heading): (&str, &str),
    drawn: &str,
) -> Markup {
    html! {
        section.chart {
            figure {
                figcaption {
                    h2 { (heading) }
                    (text(part.text.as_deref()))
                }
                (PreEscaped(drawn))
            }
            details {
                summary { "The figures of this chart" }
                div.scroll tabindex="0" role="region" aria-label=(heading) {
                    (table(layout, id, (None, None)))
                }
            }
        }
    }
}

/// How many characters a line of a table has, with two between its columns.
fn width(layout: &Layout<'_>) -> usize {
    let mut text = String::new();
    let column = |&slot: &Slot| {
        let words = layout.own_heading(slot).split(' ').map(UnicodeWidthStr::width).max();
        let cells = layout.rows.iter().map(|row| {
            text.clear();
            layout.push_read(&mut text, row, slot);
            text.width().min(LONG)
        });
        cells.max().max(words).unwrap_or(0) + 2
    };
    layout.slots.iter().map(column).sum()
}

fn table(layout: &Layout<'_>, id: &str, (title, words): (Option<&str>, Option<&str>)) -> Markup {
    let tails = Tails::of(layout);
    html! {
        table id=(id) {
            @if title.is_some() || words.is_some() {
                caption {
                    @if let Some(title) = title { h2 { (title) } }
                    (text(words))
                }
            }
            thead {
                @for row in heading_rows(layout) {
                    tr {
                        @for span in row {
                            @let right = span.last && layout.is_right(layout.slots[span.slots.start]);
                            th scope=(if span.last { "col" } else { "colgroup" })
                                class=(if right { "n" } else if span.last { "t" } else { "over" })
                                colspan=[(span.slots.len() > 1).then_some(span.slots.len())]
                                rowspan=[(span.rows > 1).then_some(span.rows)]
                            { (span.text) (mark(id, span.mark)) }
                        }
                    }
                }
            }
            @for (body, rows) in bodies(layout).into_iter().enumerate() {
                tbody class=[(body > 0).then_some("next")] {
                    @for row in rows { (line(layout, id, &tails, row)) }
                }
            }
        }
    }
}

/// The lines of the table, those of an outer group together: they are not torn from each other on paper where
/// there is room, and have some air between them.
fn bodies(layout: &Layout<'_>) -> Vec<Vec<Row>> {
    let mut bodies: Vec<Vec<Row>> = vec![Vec::new()];
    for (at, row) in layout.rows.iter().enumerate() {
        let kind = |row: Row| layout.grid.lines[row.line].kind;
        let grand = |row: Row| kind(row) == LineKind::Grand;
        let before = at.checked_sub(1).map(|a| layout.rows.at(a));
        let nested = layout.grid.by.len() > 1 && !layout.is_long() && !layout.grid.of_rows;
        let new = before.is_some_and(|before| {
            grand(row) != grand(before)
                || nested && layout.grid.label(row.line, 0) != layout.grid.label(before.line, 0)
        });
        if new {
            bodies.push(Vec::new());
        }
        if let Some(last) = bodies.last_mut() {
            last.push(row);
        }
    }
    bodies
}

fn line(layout: &Layout<'_>, id: &str, tails: &Tails, row: Row) -> Markup {
    let kind = layout.grid.lines[row.line].kind;
    let class = match kind {
        _ if layout.grid.of_rows => None,
        LineKind::Group => None,
        LineKind::Subtotal => Some("sub"),
        LineKind::Grand => Some("total"),
        LineKind::Rest => Some("rest"),
    };
    html! {
        tr class=[class] {
            @for (place, &slot) in layout.slots.iter().enumerate() {
                @let right = layout.is_right(slot);
                @match slot {
                    Slot::Key(key) => { (key_cell(layout, row, slot, key)) }
                    _ => {
                        @let shade = layout.shade(row, slot).filter(|_| layout.has_shades(slot));
                        @let bar = layout.bar(row, slot).filter(|_| layout.has_bars(slot));
                        td class=(if right { "n" } else { "t" })
                            data-shade=[shade.map(step)]
                        {
                            @if let Some((from, to)) = bar {
                                span.bar aria-hidden="true" style=(format!("--from:{from:.3};--to:{to:.3}")) {}
                            }
                            (tails.figure(layout, row, place))
                            (mark(id, layout.mark(row, slot)))
                            @if let Some(trend) = layout.trend(row, slot) { (small_line(&trend)) }
                        }
                    }
                }
            }
        }
    }
}

/// A small line through figures from 0 to 1, with its gaps, and a dot at its end.
fn small_line(figures: &[Option<f64>]) -> Markup {
    let step = 96.0 / figures.len().saturating_sub(1).max(1) as f64;
    let at = |(i, part): (usize, &Option<f64>)| {
        part.map(|part| (2.0 + step * i as f64, 18.0 - 16.0 * part))
    };
    let points: Vec<Option<(f64, f64)>> = figures.iter().enumerate().map(at).collect();
    let runs: Vec<String> = points
        .split(Option::is_none)
        .filter(|run| !run.is_empty())
        .map(|run| {
            let run = run.iter().flatten().map(|(x, y)| format!("{x:.1} {y:.1}"));
            format!("M{}", run.collect::<Vec<_>>().join("L"))
        })
        .collect();
    let last = points.iter().rev().flatten().next();
    html! {
        svg.line viewBox="0 0 100 20" aria-hidden="true" preserveAspectRatio="none" {
            path d=(runs.join("")) {}
            @if let Some((x, y)) = last { circle cx=(format!("{x:.1}")) cy=(format!("{y:.1}")) r="2" {} }
        }
    }
}

/// A label. Where the line above has the same it is there for those who listen, and not to be seen.
fn key_cell(layout: &Layout<'_>, row: Row, slot: Slot, key: usize) -> Markup {
    let (mut seen, mut whole) = (String::new(), String::new());
    layout.push_read(&mut seen, row, slot);
    layout.push_whole_label(&mut whole, row, key);
    let class = match layout.is_right(slot) {
        true => "n",
        // A long label may be broken, a short one is not.
        false if whole.chars().count() > LONG => "t long",
        false => "t",
    };
    html! {
        @if whole.is_empty() {
            td class=(class) {}
        } @else {
            th scope="row" class=(class) {
                @if seen.is_empty() { span.again { (whole) } } @else { (whole) }
            }
        }
    }
}

fn mark(id: &str, mark: Option<usize>) -> Markup {
    html! {
        @if let Some(number) = mark {
            sup { a href=(format!("#{id}-note-{number}")) { (number) } }
        }
    }
}

/// How long the figures of each column are behind the place of their decimal sign, so that the signs stand below
/// each other.
struct Tails(Vec<usize>);

impl Tails {
    fn of(layout: &Layout<'_>) -> Tails {
        let longest = |&slot: &Slot| {
            let mut text = String::new();
            let tails = layout.rows.iter().map(|row| {
                text.clear();
                layout.push_read(&mut text, row, slot);
                tail(layout, &text)
            });
            if layout.is_right(slot) { tails.max().unwrap_or(0) } else { 0 }
        };
        Tails(layout.slots.iter().map(longest).collect())
    }

    /// A figure, with as many blanks as wide as a digit behind it as it is shorter than the longest.
    fn figure(&self, layout: &Layout<'_>, row: Row, place: usize) -> String {
        let slot = layout.slots[place];
        let mut text = String::new();
        layout.push_read(&mut text, row, slot);
        if layout.is_right(slot) && !text.is_empty() {
            let lacking = self.0[place].saturating_sub(tail(layout, &text));
            text.extend(std::iter::repeat_n('\u{2007}', lacking));
        }
        text
    }
}

/// How many characters of a figure stand from the decimal sign on.
fn tail(layout: &Layout<'_>, text: &str) -> usize {
    let sign = layout.signs().map_or('.', crate::Signs::decimal);
    match text.rfind(sign).or_else(|| text.rfind(|c: char| c.is_ascii_digit()).map(|at| at + 1)) {
        Some(at) => text[at..].chars().count(),
        None => 0,
    }
}

fn checks(document: &Document<'_>) -> Markup {
    html! {
        section {
            h2 { "Checks" }
            div.scroll tabindex="0" role="region" aria-label="Checks" {
                table.checks {
                    thead {
                        tr {
                            th scope="col" class="t" { "Check" }
                            th scope="col" class="n" { "Found" }
                            th scope="col" class="n" { "Wanted" }
                            th scope="col" class="n" { "Difference" }
                            th scope="col" class="t" { "Outcome" }
                        }
                    }
                    tbody {
                        @for (name, check) in &document.checks {
                            tr class=(if check.holds { "holds" } else { "fails" }) {
                                th scope="row" class="t" {
                                    @if let Some(name) = name { (escape_controls(name)) ": " }
                                    (escape_controls(&check.that))
                                }
                                td.n { (figure_text(&check.found)) }
                                td.n { (figure_text(&check.wanted)) }
                                td.n { @if !check.difference.is_missing() { (figure_text(&check.difference)) } }
                                td.t { (if check.holds { "holds" } else { "does not hold" }) }
                            }
                        }
                    }
                }
            }
        }
    }
}

fn ledger(document: &Document<'_>) -> Markup {
    let accounts = document.accounts();
    let notes = document.told();
    html! {
        section.ledger {
            h2 { "Ledger" }
            @for account in &accounts {
                @if accounts.len() > 1 {
                    h3 { (escape_controls(&account.names.join(", "))) }
                }
                table.account {
                    tbody {
                        @for entry in &account.entries {
                            tr {
                                th scope="row" class=(if entry.part { "part" } else { "t" }) { (escape_controls(&entry.label)) }
                                td.n { (grouped(entry.count)) }
                                td.t { (escape_controls(&entry.detail)) }
                            }
                        }
                    }
                }
                @let tables: Vec<_> = account.parts.iter().filter(|p| p.shows != PartType::Headline).collect();
                @if !tables.is_empty() {
                    ul {
                        @for part in tables {
                            li {
                                @if document.parts.len() > 1 { b { (escape_controls(part.heading())) } ": " }
                                (crate::ledger::entries_text(&part.ledger.entries_of_table()))
                            }
                        }
                    }
                }
            }
            @if !notes.is_empty() {
                h3 { "Notes" }
                ul.notes {
                    @for (note, parts) in notes {
                        li { (escape_controls(note)) (told_of_parts(&parts)) }
                    }
                }
            }
        }
    }
}

fn explained(document: &Document<'_>) -> Markup {
    html! {
        section.explained {
            h2 { "How each figure is worked out" }
            @for (name, sections) in &document.explained {
                details {
                    summary { (escape_controls(name)) }
                    @for section in sections {
                        h3 { (escape_controls(&section.title)) }
                        ul {
                            @for line in &section.lines {
                                @let depth = (line.len() - line.trim_start().len()) / 4;
                                li class=[(depth > 0).then_some("deeper")] { (escape_controls(line.trim_start())) }
                            }
                        }
                    }
                }
            }
        }
    }
}
