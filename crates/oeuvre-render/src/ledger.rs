//! The ledger in words: as aligned lines, and as one sentence. The entries and their words are the core's.
//!
//! ```
//! use oeuvre_core::Ledger;
//!
//! let ledger = Ledger { read: 20_000, counted: 20_000, ..Ledger::default() };
//! let text = oeuvre_render::ledger_text(&ledger, Default::default());
//! assert!(text.starts_with("rows read    20,000\ncounted      20,000\n"));
//! ```

use crate::cells::{Figures, escape_controls, grouped};
use crate::document::{Document, PartType};
use oeuvre_columns::Value;
use oeuvre_core::{Checked, Entry, Ledger};
use std::fmt::Write as _;
use unicode_width::UnicodeWidthStr;

/// How a ledger is written as lines.
#[derive(Clone, Copy, Debug, Default)]
pub struct LedgerSettings {
    /// Whether all notes are written, and not the most telling alone.
    pub all_notes: bool,
    /// The columns of characters that a note may take.
    pub width_cols: Option<usize>,
}

/// How many notes are written where not all are.
const NOTES: usize = 10;

/// What a note begins with; its further lines stand below its text.
const NOTE: &str = "note: ";

/// The ledger as aligned lines, for standard error, with the most telling notes or all.
pub fn ledger_text(ledger: &Ledger, settings: LedgerSettings) -> String {
    let mut out = String::new();
    push_entries(&mut out, &ledger.entries());
    let notes = ledger.told();
    let shown = if settings.all_notes { notes.len() } else { NOTES.min(notes.len()) };
    for note in &notes[..shown] {
        write_note(&mut out, &note.text, settings.width_cols);
    }
    if shown < notes.len() {
        let more = format!("and {} more: --notes all shows them", notes.len() - shown);
        write_note(&mut out, &more, settings.width_cols);
    }
    out
}

/// Adds entries as aligned lines.
fn push_entries(out: &mut String, entries: &[Entry]) {
    let label = |e: &Entry| format!("{}{}", if e.part { "  " } else { "" }, e.label);
    let labels = entries.iter().map(|e| label(e).len()).max().unwrap_or(0);
    let counts = entries.iter().map(|e| grouped(e.count).len()).max().unwrap_or(0);
    for e in entries {
        let (label, count) = (label(e), grouped(e.count));
        let line = format!("{label:<labels$}  {count:>counts$}  {}", escape_controls(&e.detail));
        out.push_str(line.trim_end());
        out.push('\n');
    }
}

/// The ledger of a document, for standard error: the account of each set of rows that parts counted, what each
/// table shows, and the most telling notes, or all.
pub fn document_ledger_text(document: &Document<'_>, settings: LedgerSettings) -> String {
    let alone = document.others.is_empty() && document.notes.is_empty();
    if let ([part], true) = (document.parts.as_slice(), alone) {
        return ledger_text(part.ledger, settings);
    }
    let mut out = String::new();
    let accounts = document.accounts();
    for account in &accounts {
        if accounts.len() > 1 {
            let _ = writeln!(out, "{}", escape_controls(&account.names.join(", ")));
        }
        push_entries(&mut out, &account.entries);
        for part in account.parts.iter().filter(|p| p.shows != PartType::Headline) {
            let entries = entries_text(&part.ledger.entries_of_table());
            let _ = writeln!(out, "{}: {entries}", escape_controls(part.heading()));
        }
    }
    let told = document.told();
    let shown = if settings.all_notes { told.len() } else { NOTES.min(told.len()) };
    for (note, parts) in &told[..shown] {
        write_note(&mut out, &format!("{note}{}", told_of_parts(parts)), settings.width_cols);
    }
    if shown < told.len() {
        let more = format!("and {} more: --notes all shows them", told.len() - shown);
        write_note(&mut out, &more, settings.width_cols);
    }
    out
}

/// The checks of a document, a line each.
pub fn document_checks_text(document: &Document<'_>, color: bool) -> String {
    let lines = document.checks.iter().map(|(name, check)| (name.as_deref(), *check));
    lines.map(|(name, check)| painted_check(name, check, color)).collect()
}

/// The checks of a ledger, a line each: that it holds, or what was found, wanted, and their difference.
pub fn checks_text(ledger: &Ledger, color: bool) -> String {
    ledger.checks.iter().map(|check| painted_check(None, check, color)).collect()
}

fn painted_check(name: Option<&str>, check: &Checked, color: bool) -> String {
    let bold = anstyle::Style::new().bold();
    let line = check_line(name, check);
    match color && !check.holds {
        true => format!("{bold}{line}{bold:#}\n"),
        false => format!("{line}\n"),
    }
}

/// A check in a line, with its name where it has one.
pub(crate) fn check_line(name: Option<&str>, check: &Checked) -> String {
    let name = name.map_or(String::new(), |name| format!("{}: ", escape_controls(name)));
    let that = name + &escape_controls(&check.that);
    if check.holds {
        return format!("check holds: {that}");
    }
    let (found, wanted) = (figure_text(&check.found), figure_text(&check.wanted));
    let difference = match &check.difference {
        Value::Missing => String::new(),
        value => format!(", difference {}", figure_text(value)),
    };
    format!("check does not hold: {that}: found {found}, wanted {wanted}{difference}")
}

/// A figure of a check.
pub(crate) fn figure_text(value: &Value) -> String {
    match value {
        Value::Missing => "no value".to_owned(),
        Value::Float(f) => f.to_string(),
        value => {
            let mut text = String::new();
            Figures::for_largest(1.0).push(&mut text, value, None);
            text
        }
    }
}

/// Which parts a note holds for, behind it; nothing where it holds for all.
pub(crate) fn told_of_parts(parts: &[&str]) -> String {
    match parts {
        [] => String::new(),
        parts => format!(" (in {})", escape_controls(&parts.join(", "))),
    }
}

/// Writes a note, in lines that fit the width.
fn write_note(out: &mut String, text: &str, width: Option<usize>) {
    let room = width.map_or(usize::MAX, |w| w.saturating_sub(NOTE.len()).max(20));
    for (i, line) in wrapped(&escape_controls(text), room).iter().enumerate() {
        let begin = if i == 0 { NOTE } else { &" ".repeat(NOTE.len()) };
        out.push_str(begin);
        out.push_str(line);
        out.push('\n');
    }
}

/// A text in lines of so many columns, broken between words; a longer word has a line of its own.
pub(crate) fn wrapped(text: &str, room: usize) -> Vec<String> {
    let mut lines: Vec<String> = vec![String::new()];
    let mut used = 0;
    for word in text.split(' ') {
        let width = word.width();
        if used > 0 && used + 1 + width > room {
            lines.push(String::new());
            used = 0;
        }
        if let Some(line) = lines.last_mut() {
            if used > 0 {
                line.push(' ');
                used += 1;
            }
            line.push_str(word);
            used += width;
        }
    }
    lines
}

/// The notes as they stand in documents: all of them.
pub(crate) fn notes(ledger: &Ledger) -> impl Iterator<Item = &str> {
    ledger.told().into_iter().map(|note| note.text.as_str())
}

/// The ledger as one sentence, for documents.
pub(crate) fn ledger_sentence(ledger: &Ledger) -> String {
    format!("Ledger: {}.", entries_text(&ledger.entries()))
}

/// Entries of a ledger one after the other.
pub(crate) fn entries_text(entries: &[Entry]) -> String {
    let parts: Vec<String> = entries
        .iter()
        .map(|e| {
            let detail = if e.detail.is_empty() { String::new() } else { format!(" {}", e.detail) };
            format!("{} {}{detail}", e.label, grouped(e.count))
        })
        .collect();
    escape_controls(&parts.join("; "))
}
