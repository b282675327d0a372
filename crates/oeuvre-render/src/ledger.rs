//! The ledger in words: as aligned lines, and as one sentence. The entries and their words are the core's.
//!
//! ```
//! use oeuvre_core::Ledger;
//!
//! let ledger = Ledger { read: 20_000, counted: 20_000, ..Ledger::default() };
//! assert!(oeuvre_render::ledger_text(&ledger).starts_with("rows read    20,000\ncounted      20,000\n"));
//! ```

use crate::cells::{escape_controls, grouped};
use oeuvre_core::Ledger;

/// The ledger as aligned lines, for standard error.
pub fn ledger_text(ledger: &Ledger) -> String {
    let entries = ledger.entries();
    let label = |e: &oeuvre_core::Entry| format!("{}{}", if e.part { "  " } else { "" }, e.label);
    let labels = entries.iter().map(|e| label(e).len()).max().unwrap_or(0);
    let counts = entries.iter().map(|e| grouped(e.count).len()).max().unwrap_or(0);
    let mut out = String::new();
    for e in &entries {
        let line = format!(
            "{:<labels$}  {:>counts$}  {}",
            label(e),
            grouped(e.count),
            escape_controls(&e.detail)
        );
        out.push_str(line.trim_end());
        out.push('\n');
    }
    for remark in &ledger.remarks {
        out.push_str(&format!("note: {}\n", escape_controls(remark)));
    }
    out
}

/// The ledger as one sentence, for documents.
pub(crate) fn ledger_sentence(ledger: &Ledger) -> String {
    let parts: Vec<String> = ledger
        .entries()
        .iter()
        .map(|e| {
            let detail = if e.detail.is_empty() { String::new() } else { format!(" {}", e.detail) };
            format!("{} {}{detail}", e.label, grouped(e.count))
        })
        .collect();
    format!("Ledger: {}.", parts.join("; "))
}
