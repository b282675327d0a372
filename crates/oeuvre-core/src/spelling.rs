//! How labels are spelt where several spellings of one are joined: see `respelt.rs` for what counts them.

use oeuvre_columns::names::{grouped, plain_label, visible_label};
use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

/// The one spelling of each label of a column.
#[derive(Debug, Default)]
pub struct Spelling {
    /// By plain form.
    one: HashMap<String, Arc<str>>,
    /// What was joined, in words.
    pub(crate) joined: Vec<String>,
}

impl Spelling {
    /// The spelling of some labels, each with how many rows have it.
    pub(crate) fn new(labels: &[(&str, u64)]) -> Spelling {
        let mut sets: BTreeMap<String, Vec<(&str, u64)>> = BTreeMap::new();
        for &(label, n) in labels {
            sets.entry(plain_label(label).into_owned()).or_default().push((label, n));
        }
        let mut spelling = Spelling::default();
        for (plain, mut set) in sets {
            set.sort_by(|a, b| b.1.cmp(&a.1).then(a.0.cmp(b.0)));
            let one: Arc<str> = Arc::from(set[0].0.trim());
            let others: Vec<String> = set
                .iter()
                .filter(|(label, _)| *label != &*one)
                .map(|(label, n)| format!("{} {}", visible_label(label), grouped(*n)))
                .collect();
            if !others.is_empty() {
                let is = if others.len() == 1 { "is" } else { "are" };
                spelling.joined.push(format!(
                    "{} {is} taken as {}",
                    others.join(" and "),
                    visible_label(&one)
                ));
            }
            spelling.one.insert(plain, one);
        }
        spelling
    }

    /// How a label is spelt; one that no row has, as it is.
    pub(crate) fn of<'a>(&'a self, label: &'a str) -> &'a str {
        self.one.get(&*plain_label(label)).map_or(label, |one| one)
    }
}

/// The spellings of the columns of a source, by their places.
pub type Spellings = Arc<BTreeMap<usize, Spelling>>;
