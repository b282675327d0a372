//! The account of every row: what was read, left out and counted, and what was done to values.
//!
//! Everything that leaves a row out, reads a value as missing or puts equal values in an order enters it here, so
//! that a reader can add it up. If you add such a thing, add its entry to [`Ledger::entries`]: every output takes
//! its words from there.
//!
//! ```
//! use oeuvre_core::Ledger;
//!
//! let ledger = Ledger { read: 5, filtered: true, left_out: 2, counted: 3, ..Ledger::default() };
//! let told: Vec<(String, u64)> = ledger.entries().into_iter().map(|e| (e.label, e.count)).collect();
//! assert_eq!(told[..3], [("rows read".into(), 5), ("left out".into(), 2), ("counted".into(), 3)]);
//! ```

use oeuvre_columns::{Note, Value};

/// What a run did with the rows. `read` is `left_out`, what lookups left out, and `counted` together, and `left_out >= left_out_missing`,
/// always.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Ledger {
    /// Rows read.
    pub read: u64,
    /// Records skipped because they could not be read.
    pub unreadable: u64,
    /// Records padded because they were too short.
    pub padded: u64,
    /// Lines of totals in tables that Oeuvre wrote, which are no rows and were passed over.
    pub totals: u64,
    /// Whether there was a condition on rows.
    pub filtered: bool,
    /// Whether the lines are the rows themselves.
    pub listing: bool,
    /// Whether it accounts for rows alone: how large the table is goes without saying.
    pub of_rows_alone: bool,
    /// What is counted where it is no row: figures, in a comparison.
    pub of: Option<&'static str>,
    /// Rows left out by the condition on rows.
    pub left_out: u64,
    /// Of these, rows for which the condition was neither true nor false.
    pub left_out_missing: u64,
    /// What each lookup did.
    pub lookups: Vec<LookupAccount>,
    /// Rows counted.
    pub counted: u64,
    /// Lines of the table without totals, and total lines.
    pub lines: (u64, u64),
    /// Cells with a value, and blank ones.
    pub cells: (u64, u64),
    /// Texts read as missing: column, text, how often.
    pub read_as_missing: Vec<(String, String, u64)>,
    /// Divisions by zero: calculation, how often.
    pub divisions_by_zero: Vec<(String, u64)>,
    /// Lines that were made but are not shown, and whether a line for the rest makes up for them.
    pub not_shown: (u64, bool),
    /// Equal values put in an order all the same: where, and how many.
    pub ties_broken: Vec<(String, u64)>,
    /// Known figures that results must agree with.
    pub checks: Vec<Checked>,
    /// What readers should be told, as it was noticed.
    pub notes: Vec<Note>,
}

/// What a lookup did.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct LookupAccount {
    /// Its name.
    pub name: String,
    /// Rows without a match.
    pub unmatched: u64,
    /// Whether these rows were left out.
    pub dropped: bool,
    /// Their keys, with how many rows have each; the most frequent first.
    pub keys: Vec<(String, u64)>,
    /// Lines of the lookup that no row counted has found.
    pub unused: u64,
    /// Lines of the lookup passed over because their key stood before.
    pub doubled: u64,
}

/// What a check has found.
#[derive(Clone, Debug, PartialEq)]
pub struct Checked {
    /// The check as written.
    pub that: String,
    /// The figure that was worked out.
    pub found: Value,
    /// The figure that was known.
    pub wanted: Value,
    /// The one less the other; missing where they are no numbers.
    pub difference: Value,
    /// Whether they agree.
    pub holds: bool,
}

/// How many keys without a match are named.
const KEYS_SHOWN: usize = 5;

/// One entry of the ledger, in words.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Entry {
    /// What was counted.
    pub label: String,
    /// How many.
    pub count: u64,
    /// More about it.
    pub detail: String,
    /// Whether it is a part of the entry before it.
    pub part: bool,
}

impl Ledger {
    /// Adds the divisions by zero of another account.
    pub(crate) fn add_divisions(&mut self, other: &Ledger) {
        for (text, n) in &other.divisions_by_zero {
            match self.divisions_by_zero.iter_mut().find(|d| d.0 == *text) {
                Some(known) => known.1 += n,
                None => self.divisions_by_zero.push((text.clone(), *n)),
            }
        }
    }

    /// Whether all checks hold.
    pub fn holds(&self) -> bool {
        self.checks.iter().all(|check| check.holds)
    }

    /// The notes, the most telling first, each once.
    pub fn told(&self) -> Vec<&Note> {
        let mut notes: Vec<&Note> = self.notes.iter().collect();
        // Stable: those of one topic stay in the order of the request.
        notes.sort_by_key(|note| note.topic);
        let mut seen = std::collections::HashSet::new();
        notes.retain(|note| seen.insert(*note));
        notes
    }

    /// The entries in the order of the work.
    pub fn entries(&self) -> Vec<Entry> {
        let mut entries = self.entries_of_rows();
        entries.extend(self.entries_of_table());
        entries
    }

    /// The entries on the rows: how many were read, left out, and counted.
    pub fn entries_of_rows(&self) -> Vec<Entry> {
        let mut out = Vec::new();
        let mut add = |label: &str, count: u64, detail: String, part: bool| {
            out.push(Entry { label: label.to_owned(), count, detail, part });
        };
        add(self.of.unwrap_or("rows read"), self.read, String::new(), false);
        if self.unreadable > 0 {
            add("unreadable", self.unreadable, "skipped, not among the rows read".into(), true);
        }
        if self.padded > 0 {
            add("padded", self.padded, "too short; what lacks is missing".into(), true);
        }
        if self.totals > 0 {
            let detail = "not among the rows read: their lines are".into();
            add("totals passed over", self.totals, detail, true);
        }
        if self.filtered {
            add("left out", self.left_out, "by --where".into(), false);
            if self.left_out_missing > 0 {
                let detail = "because a value was missing".into();
                add("of these", self.left_out_missing, detail, true);
            }
        }
        for l in &self.lookups {
            let shown: Vec<String> =
                l.keys.iter().take(KEYS_SHOWN).map(|(key, n)| format!("{key} ({n})")).collect();
            let more = if l.keys.len() > KEYS_SHOWN { ", …" } else { "" };
            let kept = if l.dropped { "left out" } else { "counted all the same" };
            let detail = match shown.len() {
                0 => String::new(),
                _ => format!("{kept}: {}{more}", shown.join(", ")),
            };
            add(&format!("without a match in {}", l.name), l.unmatched, detail, !l.dropped);
            if l.doubled > 0 {
                let detail = "passed over: their keys stand before".to_owned();
                add(&format!("rows of {} doubled", l.name), l.doubled, detail, true);
            }
            if l.unused > l.doubled {
                add(
                    &format!("rows of {} not used", l.name),
                    l.unused - l.doubled,
                    String::new(),
                    true,
                );
            }
        }
        if !self.of_rows_alone {
            add("counted", self.counted, String::new(), false);
        }
        out
    }

    /// The entries on what was made of them: values read as missing, and what the table shows.
    pub fn entries_of_table(&self) -> Vec<Entry> {
        let mut out = Vec::new();
        if self.of_rows_alone {
            return out;
        }
        let mut add = |label: &str, count: u64, detail: String, part: bool| {
            out.push(Entry { label: label.to_owned(), count, detail, part });
        };
        for (column, text, n) in &self.read_as_missing {
            add("read as missing", *n, format!("'{text}' in {column}"), true);
        }
        for (calc, n) in &self.divisions_by_zero {
            add("divisions by zero", *n, format!("in {calc}; missing"), true);
        }
        for (place, n) in &self.ties_broken {
            add("ties broken", *n, place.clone(), true);
        }
        let (lines, totals) = self.lines;
        let detail = match totals {
            0 => String::new(),
            1 => "and 1 total".to_owned(),
            n => format!("and {n} totals"),
        };
        let what = if self.listing { "rows" } else { "lines" };
        add(&format!("{what} shown"), lines, detail, false);
        if let (n @ 1.., rest) = self.not_shown {
            let detail = if rest { "together on the line for the rest" } else { "" };
            add(&format!("{what} not shown"), n, detail.to_owned(), true);
        }
        let (full, blank) = self.cells;
        let detail = if blank == 0 { String::new() } else { format!("and {blank} blank") };
        add("cells shown", full, detail, false);
        out
    }
}
