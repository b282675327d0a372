//! What fields said beside their values: texts that stand for none, currencies, offsets from UTC.

use super::{Note, Plan, Source};
use oeuvre_columns::Topic;
use oeuvre_columns::column::Column;
use oeuvre_columns::column::marks::Mark;
use oeuvre_columns::names::grouped;
use std::sync::Arc;

/// How often each mark was met, by column; a column has few different ones.
#[derive(Clone)]
pub(crate) struct Fields {
    marks: Vec<Vec<(Mark, u64)>>,
    texts: Vec<Arc<Vec<String>>>,
}

impl Fields {
    pub(super) fn new(columns: usize) -> Fields {
        Fields { marks: vec![Vec::new(); columns], texts: vec![Arc::default(); columns] }
    }

    pub(super) fn look_at(&mut self, place: usize, column: &Column) {
        if column.marks.is_empty() {
            return;
        }
        self.texts[place].clone_from(&column.marks.texts);
        for (_, mark) in column.marks.iter() {
            self.add(place, mark, 1);
        }
    }

    fn add(&mut self, place: usize, mark: Mark, n: u64) {
        let known = &mut self.marks[place];
        match known.iter_mut().find(|(m, _)| *m == mark) {
            Some((_, count)) => *count += n,
            None => known.push((mark, n)),
        }
    }

    pub(super) fn absorb(&mut self, other: Fields) {
        for (place, (marks, texts)) in other.marks.into_iter().zip(other.texts).enumerate() {
            if !marks.is_empty() {
                self.texts[place] = texts;
            }
            marks.into_iter().for_each(|(mark, n)| self.add(place, mark, n));
        }
    }

    /// What a column's missing values were: how often the files lacked the column, and the texts, the most
    /// frequent first.
    pub(crate) fn missing(&self, place: usize) -> (u64, Vec<(&str, u64)>) {
        let mut lacking = 0;
        let mut texts: Vec<(&str, u64)> = Vec::new();
        for (mark, n) in &self.marks[place] {
            match mark {
                Mark::Lacking => lacking = *n,
                Mark::Missing(text) => {
                    texts.extend(
                        self.texts[place].get(usize::from(*text)).map(|t| (t.as_str(), *n)),
                    );
                }
                _ => {}
            }
        }
        texts.sort_by(|a, b| b.1.cmp(&a.1).then(a.0.cmp(b.0)));
        (lacking, texts)
    }

    /// The marks of one sort, the most frequent first, as text.
    fn of(&self, place: usize, sort: impl Fn(Mark) -> bool) -> Vec<(Mark, u64)> {
        let mut found: Vec<(Mark, u64)> =
            self.marks[place].iter().filter(|(m, _)| sort(*m)).copied().collect();
        found.sort_by(|a, b| b.1.cmp(&a.1).then(a.0.cmp(&b.0)));
        found
    }

    pub(super) fn notes(&self, plan: &Plan, source: &dyn Source) -> Vec<Note> {
        let mut notes = Vec::new();
        for (place, &column) in plan.inputs.iter().enumerate() {
            let Some(name) = plan.columns.get(column).map(|c| &c.name) else { continue };
            let told = |found: &[(Mark, u64)]| {
                let each: Vec<String> =
                    found.iter().take(5).map(|(m, n)| format!("{m} {}", grouped(*n))).collect();
                let more = if found.len() > 5 { ", …" } else { "" };
                format!("{}{more}", each.join(", "))
            };
            let currencies = self.of(place, |m| matches!(m, Mark::Currency(_)));
            if currencies.len() > 1 {
                let text = format!(
                    "{name} holds different currencies: {}; they are taken as plain numbers",
                    told(&currencies)
                );
                notes.push(Note::new(Topic::Currencies, text));
            }
            let offsets = self.of(place, |m| matches!(m, Mark::Offset(_)));
            let zone = source.zone();
            match offsets.as_slice() {
                [] => {}
                [(Mark::Offset(0), _)] if zone == "UTC" => notes.push(Note::new(
                    Topic::Zone,
                    format!("{name} holds times in UTC, read as they are; another zone: --zone NAME"),
                )),
                [(one, _)] => notes.push(Note::new(
                    Topic::Zone,
                    format!("{name} holds times of offset {one}, read as the clock in {zone} showed; another zone: --zone NAME"),
                )),
                many => notes.push(Note::new(
                    Topic::Zone,
                    format!(
                        "{name} holds times of different offsets ({}), read as the clock in {zone} showed; another zone: --zone NAME",
                        told(many)
                    ),
                )),
            }
        }
        notes
    }
}
