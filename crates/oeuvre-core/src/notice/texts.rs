//! Texts in conditions that no row has, and labels that differ from one in what people do not see or mean.

use super::{Note, Plan, column_of, plural};
use crate::aggregate::encoding::{Damaged, Decoder, Encoder};
use crate::plan::TextsWatch;
use oeuvre_columns::Topic;
use oeuvre_columns::column::dictionary::Dictionary;
use oeuvre_columns::column::{Column, Data};
use oeuvre_columns::names::{as_name, grouped, nearest, plain_label, shell_quoted, visible_label};
use std::collections::{HashMap, HashSet};

/// What lines that are no rows are called in files that people hand over.
const TOTALS: [&str; 4] = ["total", "totals", "grand total", "subtotal"];

/// What is told of a label that may be that of a total among the rows.
pub(crate) fn total_among_rows<'a>(
    heading: &str,
    labels: impl Iterator<Item = (&'a str, u64)>,
) -> Option<Note> {
    let is_total = |label: &str| TOTALS.contains(&&*plain_label(label.trim_end_matches(':')));
    let may_be = |label: &str| {
        label.len() < 16 && label.trim_start().starts_with(['T', 't', 'G', 'g', 'S', 's'])
    };
    let mut found = labels.filter(|(label, _)| may_be(label) && is_total(label));
    let (label, n) = found.next()?;
    let rows = plural(n, "row", "rows");
    let text = format!(
        "{heading} has a label {}, {} {rows}: a total of the file may be counted among its rows",
        visible_label(label),
        grouped(n)
    );
    Some(Note::new(Topic::Twice, text))
}

/// How many rows of a column have each code, in parts that add up; nothing where there are many codes for its rows.
pub(super) fn counted_codes(column: &Column, counted: &mut Vec<[u32; 4]>) {
    counted.clear();
    let Data::Codes(codes) = &column.data else { return };
    if column.dictionary.len() > codes.len() / 4 {
        return;
    }
    counted.resize(column.dictionary.len(), [0; 4]);
    for (row, &code) in codes.iter().enumerate() {
        if let Some(count) = counted.get_mut(code as usize) {
            count[row % 4] += 1;
        }
    }
}

/// The labels of a column that is compared with texts, each with how many rows have it.
#[derive(Clone, Default)]
pub(crate) struct Texts {
    labels: Vec<String>,
    /// In four parts that add up: rows of one label often follow each other, and would wait for each other.
    counts: Vec<[u64; 4]>,
}

impl Texts {
    /// Labels that have been counted elsewhere.
    pub(crate) fn of(labels: impl Iterator<Item = (String, u64)>) -> Texts {
        let (labels, counts) = labels.map(|(label, n)| (label, [n, 0, 0, 0])).unzip();
        Texts { labels, counts }
    }

    pub(crate) fn look_at(&mut self, column: &Column) {
        let Data::Codes(codes) = &column.data else { return };
        self.learn(&column.dictionary);
        for (row, &code) in codes.iter().enumerate() {
            if let Some(count) = self.counts.get_mut(code as usize) {
                count[row % 4] += 1;
            }
        }
    }

    /// As if the rows had been looked at of which so many have each code: see [`counted_codes`].
    pub(super) fn add(&mut self, texts: &Dictionary, counted: &[[u32; 4]]) {
        self.learn(texts);
        for (count, more) in self.counts.iter_mut().zip(counted) {
            count[0] += more.iter().map(|&n| u64::from(n)).sum::<u64>();
        }
    }

    /// Takes in the texts that are new.
    fn learn(&mut self, texts: &Dictionary) {
        let new = self.labels.len()..texts.len();
        self.labels.extend(new.map(|code| texts.text(code as u32).to_owned()));
        self.counts.resize(self.labels.len(), [0; 4]);
    }

    pub(super) fn encode(&self, to: &mut Encoder) {
        to.count(self.labels.len());
        for (label, n) in self.labels.iter().zip(&self.counts) {
            to.text(label);
            to.unsigned(u128::from(n.iter().sum::<u64>()));
        }
    }

    pub(super) fn decode(from: &mut Decoder<'_>) -> Result<Texts, Damaged> {
        let count = from.count()?;
        let one = |_| Ok((from.text()?.to_owned(), from.times()?));
        let labels: Vec<(String, u64)> = (0..count).map(one).collect::<Result<_, _>>()?;
        Ok(Texts::of(labels.into_iter()))
    }

    pub(crate) fn absorb(&mut self, other: &Texts) {
        let mut places: HashMap<String, usize> =
            self.labels.iter().cloned().enumerate().map(|(i, l)| (l, i)).collect();
        for (label, n) in other.labels.iter().zip(&other.counts) {
            match places.get(label) {
                Some(&at) => self.counts[at][0] += n.iter().sum::<u64>(),
                None => {
                    places.insert(label.clone(), self.labels.len());
                    self.labels.push(label.clone());
                    self.counts.push(*n);
                }
            }
        }
    }

    /// The labels that rows have, the most frequent first.
    pub(crate) fn counted(&self) -> Vec<(&str, u64)> {
        // A label that no row counted has is one of the file all the same, and none of these rows.
        let all = self
            .labels
            .iter()
            .map(String::as_str)
            .zip(self.counts.iter().map(|n| n.iter().sum::<u64>()));
        let mut labels: Vec<(&str, u64)> = all.filter(|(_, n)| *n > 0).collect();
        labels.sort_by(|a, b| b.1.cmp(&a.1).then(a.0.cmp(b.0)));
        labels
    }

    /// `whose` are the rows that were looked at.
    pub(crate) fn notes(&self, plan: &Plan, watch: &TextsWatch, whose: &str) -> Vec<Note> {
        let column = column_of(plan, watch.operand);
        let name = column.unwrap_or(&watch.name);
        let labels = self.counted();
        let one_spelling =
            column.map_or(String::new(), |c| format!("; as one: --one-spelling {}", quoted(c)));
        let (mut notes, mut seen) = (Vec::new(), HashSet::new());
        for text in watch.texts.iter().filter(|t| seen.insert(&***t)) {
            let plain = plain_label(text);
            let alike: Vec<&(&str, u64)> = labels
                .iter()
                .filter(|(label, _)| *label != &**text && plain_label(label) == plain)
                .collect();
            let known = labels.iter().find(|(label, _)| *label == &**text);
            let told = |(label, n): &(&str, u64)| {
                let rows = plural(*n, "row", "rows");
                format!("{}, {} {rows}", visible_label(label), grouped(*n))
            };
            let all = |alike: &[&(&str, u64)]| {
                alike.iter().map(|l| told(l)).collect::<Vec<_>>().join(", and ")
            };
            if known.is_none() && !labels.is_empty() {
                let said = match alike.is_empty() {
                    false => format!("; there is {}{one_spelling}", all(&alike)),
                    true => {
                        let near = nearest(text, labels.iter().map(|l| l.0));
                        let near = labels.iter().find(|l| near.first() == Some(&l.0));
                        near.map_or(String::new(), |near| format!("; there is {}", told(near)))
                    }
                };
                let text = format!("no {whose} has {name} = {}{said}", visible_label(text));
                notes.push(Note::new(Topic::NoSuchLabel, text));
            } else if !alike.is_empty() {
                let text = format!(
                    "{name} = {} does not hold for {}: they differ only in case, spaces or Unicode form{one_spelling}",
                    visible_label(text),
                    all(&alike)
                );
                notes.push(Note::new(Topic::Alike, text));
            }
        }
        notes
    }
}

/// A column as an option that takes a list of them has it.
pub(crate) fn quoted(column: &str) -> String {
    // A name with spaces or signs alone is one all the same.
    let list = column.contains([',', '.', '"', '(']);
    shell_quoted(&if list { as_name(column) } else { column.to_owned() })
}
