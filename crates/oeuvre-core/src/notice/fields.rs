//! What fields said beside their values: texts that stand for none, currencies, offsets from UTC.

use super::{Note, Plan, Source};
use crate::aggregate::encoding::{Damaged, Decoder, Encoder};
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
        self.add_all(place, column.marks.iter().map(|(_, mark)| (mark, 1)), &column.marks.texts);
    }

    /// Adds marks of a column for which these texts stand for no value: the same ones for all rows of a source, as a rule.
    fn add_all(
        &mut self,
        place: usize,
        marks: impl Iterator<Item = (Mark, u64)>,
        texts: &Arc<Vec<String>>,
    ) {
        if self.texts[place].is_empty() {
            self.texts[place].clone_from(texts);
        }
        let same = Arc::ptr_eq(&self.texts[place], texts) || self.texts[place] == *texts;
        for (mark, n) in marks {
            let mark = if same { mark } else { self.with_texts(place, mark, texts) };
            self.add(place, mark, n);
        }
    }

    /// A mark of a column for which other texts may stand for no value.
    fn with_texts(&mut self, place: usize, mark: Mark, texts: &[String]) -> Mark {
        match mark {
            Mark::Missing(at) => {
                let text = texts.get(usize::from(at)).cloned().unwrap_or_default();
                missing_mark(Arc::make_mut(&mut self.texts[place]), text)
            }
            other => other,
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
            self.add_all(place, marks.into_iter(), &texts);
        }
    }

    /// Writes down what was met, by column.
    pub(super) fn encode(&self, plan: &Plan, to: &mut Encoder) {
        to.count(self.marks.len());
        for ((marks, texts), &column) in self.marks.iter().zip(&self.texts).zip(&plan.inputs) {
            to.text(plan.columns.get(column).map_or("", |column| &column.name));
            to.count(marks.len());
            for &(mark, n) in marks {
                encode_mark(mark, texts, to);
                to.unsigned(u128::from(n));
            }
        }
    }

    /// Reads what was written down, whatever the order of the columns was.
    pub(super) fn decode(&mut self, plan: &Plan, from: &mut Decoder<'_>) -> Result<(), Damaged> {
        for _ in 0..from.count()? {
            let name = from.text()?;
            let is_it = |&column: &usize| plan.columns.get(column).is_some_and(|c| c.name == name);
            let place = plan.inputs.iter().position(is_it).ok_or(Damaged)?;
            for _ in 0..from.count()? {
                let mark = decode_mark(Arc::make_mut(&mut self.texts[place]), from)?;
                let n = from.times()?;
                self.add(place, mark, n);
            }
        }
        Ok(())
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

/// The mark of a text that stands for no value, among those that are known.
fn missing_mark(texts: &mut Vec<String>, text: String) -> Mark {
    let place = texts.iter().position(|known| *known == text).unwrap_or_else(|| {
        texts.push(text);
        texts.len() - 1
    });
    Mark::Missing(place as u16)
}

/// Writes a mark down; `texts` are those that stand for no value.
pub(crate) fn encode_mark(mark: Mark, texts: &[String], to: &mut Encoder) {
    match mark {
        Mark::Missing(text) => {
            to.unsigned(0);
            to.text(texts.get(usize::from(text)).map_or("", String::as_str));
        }
        Mark::Lacking => to.unsigned(1),
        Mark::Currency(bytes) => {
            to.unsigned(2);
            to.unsigned(u128::from(u32::from_le_bytes(bytes)));
        }
        Mark::Offset(minutes) => {
            to.unsigned(3);
            to.signed(i128::from(minutes));
        }
    }
}

/// Reads a mark; a text that stands for no value is added to those that do.
pub(crate) fn decode_mark(
    texts: &mut Vec<String>,
    from: &mut Decoder<'_>,
) -> Result<Mark, Damaged> {
    Ok(match from.unsigned()? {
        0 if texts.len() < usize::from(u16::MAX) => missing_mark(texts, from.text()?.to_owned()),
        1 => Mark::Lacking,
        2 => {
            let bytes = u32::try_from(from.unsigned()?).map_err(|_| Damaged)?;
            Mark::Currency(bytes.to_le_bytes())
        }
        3 => Mark::Offset(i16::try_from(from.signed()?).map_err(|_| Damaged)?),
        _ => return Err(Damaged),
    })
}
