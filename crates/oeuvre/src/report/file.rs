//! The text of a report file: values with their places, and the mistakes that were found in it.
//!
//! TOML is read into a tree whose nodes know where they stand. A text in it may be written with escapes, so that a
//! place in the text is not at the same distance in the file: [`Written`] has the way back for each byte.

use oeuvre_columns::names::nearest;
use oeuvre_core::{Diagnostic, Error, FileText, Givens, SourceText, Within};
use std::collections::HashSet;
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

/// A report file.
pub(super) struct File {
    /// Its name and its text.
    pub(super) text: Arc<FileText>,
    /// The text as one in which mistakes are marked.
    whole: Arc<SourceText>,
    /// The folder that its paths are meant from.
    pub(super) folder: PathBuf,
}

impl File {
    /// Reads a file.
    pub(super) fn open(path: &Path) -> Result<File, Error> {
        let name = path.display().to_string();
        let problem = |e: std::io::Error| {
            oeuvre_columns::DataProblem::in_file(name.clone(), format!("cannot be read: {e}"))
        };
        let bytes = std::fs::read(path).map_err(problem)?;
        let text = String::from_utf8(bytes).map_err(|_| {
            oeuvre_columns::DataProblem::in_file(name.clone(), "is no text in UTF-8, as TOML is")
        })?;
        // A byte-order mark is passed over, as blanks of the same length, so that places stay what they are.
        let text = match text.strip_prefix('\u{feff}') {
            Some(rest) => format!("   {rest}"),
            None => text,
        };
        let folder = path.parent().map(Path::to_owned).unwrap_or_default();
        let whole = SourceText::new(name.clone(), text.clone());
        Ok(File { text: Arc::new(FileText { name, text }), whole, folder })
    }

    /// A mistake at a place of the file.
    pub(super) fn mistake(&self, span: Range<usize>, message: impl Into<String>) -> Diagnostic {
        Diagnostic::new(&self.whole, span, message)
    }

    /// The text of a value with its place.
    pub(super) fn written(&self, value: &Spanned<DeValue<'_>>) -> Option<Written> {
        let span = value.span();
        let raw = &self.text.text[span.clone()];
        let (value, places) = match value.get_ref() {
            DeValue::String(text) => (text.to_string(), places_of(raw, span.start, text)),
            DeValue::Integer(number) if number.radix() == 10 => {
                let text = raw.replace('_', "");
                let places = places_of(raw, span.start, &text);
                (text, places)
            }
            DeValue::Float(_) | DeValue::Datetime(_) => {
                let text = raw.replace('_', "");
                let places = places_of(raw, span.start, &text);
                (text, places)
            }
            DeValue::Boolean(truth) => {
                let text = truth.to_string();
                let places = places_of(raw, span.start, &text);
                (text, places)
            }
            _ => return None,
        };
        Some(Written { value, within: Within { file: self.text.clone(), places }, span })
    }
}

/// A text in a report file.
#[derive(Clone, Debug)]
pub(crate) struct Written {
    pub(super) value: String,
    pub(super) within: Within,
    /// Where it stands, its quotes included.
    pub(super) span: Range<usize>,
}

impl Written {
    /// A mistake in it.
    pub(super) fn mistake(&self, message: impl Into<String>) -> Diagnostic {
        let text = self.source("", &Arc::default());
        Diagnostic::new(&text, 0..self.value.len(), message)
    }

    /// A part of it.
    pub(super) fn part(&self, range: Range<usize>) -> Written {
        let places = self.within.places.get(range.start..=range.end).unwrap_or(&self.within.places);
        Written {
            value: self.value[range].to_owned(),
            within: Within { file: self.within.file.clone(), places: places.into() },
            span: self.span.clone(),
        }
    }

    /// Several with commas between them, each with its own place; `None` of none.
    pub(super) fn joined(all: &[Written]) -> Option<Written> {
        let (first, rest) = all.split_first()?;
        let mut value = first.value.clone();
        let mut places = first.within.places.to_vec();
        for next in rest {
            // Where one ends is where the comma stands.
            let end = places.pop().unwrap_or_default();
            places.extend([end, end]);
            value.push_str(", ");
            value.push_str(&next.value);
            places.extend(next.within.places.iter());
        }
        let span = first.span.start..all[all.len() - 1].span.end;
        let within = Within { file: first.within.file.clone(), places: places.into() };
        Some(Written { value, within, span })
    }

    /// It as a text of a request.
    pub(super) fn source(&self, origin: &str, given: &Arc<Givens>) -> Arc<SourceText> {
        Arc::new(SourceText {
            origin: origin.to_owned(),
            text: self.value.clone(),
            within: Some(self.within.clone()),
            given: Some(given.clone()),
        })
    }
}

/// Where each byte of a text stands that is written so in the file from some place on, and where it ends.
fn places_of(raw: &str, start: usize, text: &str) -> Arc<[usize]> {
    let quote = ["\"\"\"", "'''", "\"", "'"].into_iter().find(|quote| raw.starts_with(quote));
    let mut places = Vec::with_capacity(text.len() + 1);
    let (mut at, end) = match quote {
        Some(quote) => (quote.len(), raw.len().saturating_sub(quote.len())),
        None => (0, raw.len()),
    };
    let bytes = raw.as_bytes();
    if quote.is_some_and(|q| q.len() == 3) {
        // A line feed right behind the opening quotes is none of the text.
        at += usize::from(bytes.get(at) == Some(&b'\r'));
        at += usize::from(bytes.get(at) == Some(&b'\n'));
    }
    let escapes = quote.is_some_and(|q| q.starts_with('"'));
    while at < end && places.len() < text.len() {
        let here = start + at;
        if escapes && bytes[at] == b'\\' {
            let digits = match bytes.get(at + 1) {
                Some(b'x') => 2,
                Some(b'u') => 4,
                Some(b'U') => 8,
                // The line goes on, and what is blank before it is none of the text.
                Some(b' ' | b'\t' | b'\r' | b'\n') => {
                    at += 1;
                    at += raw[at..].len() - raw[at..].trim_start().len();
                    continue;
                }
                _ => 0,
            };
            let len = text[places.len()..].chars().next().map_or(1, char::len_utf8);
            places.extend(std::iter::repeat_n(here, len));
            at += 2 + digits;
        } else if quote.is_none() && bytes[at] == b'_' {
            at += 1;
        } else {
            places.push(here);
            at += 1;
        }
    }
    if places.len() != text.len() {
        places = vec![start; text.len()];
    }
    places.push(start + end);
    places.into()
}

/// Where a mistake stands: its file, or the text by itself, and the place in it.
fn place(mistake: &Diagnostic) -> (&str, Range<usize>) {
    match &mistake.written.within {
        Some(within) => (&within.file.name, within.range(&mistake.span)),
        None => (&mistake.written.origin, mistake.span.clone()),
    }
}

/// The mistakes of a file, told in one go.
#[derive(Default)]
pub(super) struct Mistakes(pub(super) Vec<Diagnostic>);

impl Mistakes {
    pub(super) fn add(&mut self, mistake: Diagnostic) {
        self.0.push(mistake);
    }

    /// That there are none; one that was found on several ways is told once.
    pub(super) fn none(self) -> Result<(), Error> {
        let mut seen = HashSet::new();
        let mut told = self.0;
        told.retain(|mistake| {
            let (file, place) = place(mistake);
            seen.insert((mistake.message.clone(), file.to_owned(), place))
        });
        if told.is_empty() { Ok(()) } else { Err(Error::Diagnostics(told)) }
    }

    /// Takes in what went wrong, and gives what went well.
    pub(super) fn take<T>(&mut self, done: Result<T, Error>) -> Result<Option<T>, Error> {
        match done {
            Ok(done) => Ok(Some(done)),
            Err(Error::Diagnostics(mistakes)) => {
                self.0.extend(mistakes);
                Ok(None)
            }
            Err(other) => Err(other),
        }
    }
}

/// A table of the file: `[data]`, one `[[table]]`, or one in braces.
#[derive(Clone, Copy)]
pub(super) struct Section<'a> {
    pub(super) file: &'a Arc<File>,
    pub(super) table: &'a DeTable<'a>,
    /// Where it begins.
    start: usize,
    end: usize,
}

impl<'a> Section<'a> {
    pub(super) fn root(file: &'a Arc<File>, table: &'a DeTable<'a>) -> Section<'a> {
        Section { file, table, start: 0, end: 0 }
    }

    fn inner(&self, value: &'a Spanned<DeValue<'a>>) -> Option<Section<'a>> {
        let DeValue::Table(table) = value.get_ref() else { return None };
        let Range { start, end } = value.span();
        // Where a table goes on over lines, its first one names it.
        let line = self.file.text.text[start..].find('\n').map_or(end, |n| start + n);
        Some(Section { file: self.file, table, start, end: end.min(line).max(start) })
    }

    /// Where it begins: the place for what lacks in it.
    pub(super) fn header(&self) -> Range<usize> {
        self.start..self.end
    }

    /// Where it begins, in bytes.
    pub(super) fn start(&self) -> usize {
        self.start
    }

    pub(super) fn get(&self, key: &str) -> Option<&'a Spanned<DeValue<'a>>> {
        self.table.iter().find(|(name, _)| name.get_ref() == key).map(|(_, value)| value)
    }

    /// Its keys and values.
    pub(super) fn entries(
        &self,
    ) -> impl Iterator<Item = (&'a str, Range<usize>, &'a Spanned<DeValue<'a>>)> + use<'a> {
        self.table.iter().map(|(name, value)| (name.get_ref().as_ref(), name.span(), value))
    }

    /// A text.
    pub(super) fn text(&self, key: &str, mistakes: &mut Mistakes) -> Option<Written> {
        let value = self.get(key)?;
        match value.get_ref() {
            DeValue::Table(_) | DeValue::Array(_) | DeValue::Boolean(_) => {
                mistakes.add(self.is_not(key, value, "a text"));
                None
            }
            _ => self.file.written(value),
        }
    }

    /// A list of texts, or one alone.
    pub(super) fn texts(&self, key: &str, mistakes: &mut Mistakes) -> Vec<Written> {
        self.values(key)
            .filter_map(|value| match self.file.written(value) {
                Some(text) => Some(text),
                None => {
                    mistakes.add(self.is_not(key, value, "a text, or a list of texts"));
                    None
                }
            })
            .collect()
    }

    /// The values of a list, or the one value.
    pub(super) fn values(&self, key: &str) -> impl Iterator<Item = &'a Spanned<DeValue<'a>>> {
        let value = self.get(key);
        let list = match value.map(Spanned::get_ref) {
            Some(DeValue::Array(list)) => Some(list),
            _ => None,
        };
        let alone = if list.is_some() { None } else { value };
        list.into_iter().flat_map(|list| list.iter()).chain(alone)
    }

    /// Tables in a list, or the one table.
    pub(super) fn sections(&self, key: &str, mistakes: &mut Mistakes) -> Vec<Section<'a>> {
        self.values(key)
            .filter_map(|value| {
                let inner = self.inner(value);
                if inner.is_none() {
                    mistakes.add(self.is_not(key, value, "a table"));
                }
                inner
            })
            .collect()
    }

    /// A table by itself.
    pub(super) fn section(&self, key: &str, mistakes: &mut Mistakes) -> Option<Section<'a>> {
        let value = self.get(key)?;
        let inner = self.inner(value);
        if inner.is_none() {
            mistakes.add(self.is_not(key, value, "a table"));
        }
        inner
    }

    /// A table among the values of a list.
    pub(super) fn of_value(&self, value: &'a Spanned<DeValue<'a>>) -> Option<Section<'a>> {
        self.inner(value)
    }

    pub(super) fn is_not(
        &self,
        key: &str,
        value: &Spanned<DeValue<'_>>,
        expected: &str,
    ) -> Diagnostic {
        let found = match value.get_ref() {
            DeValue::String(_) => "a text",
            DeValue::Integer(_) | DeValue::Float(_) => "a number",
            DeValue::Boolean(_) => "a truth",
            DeValue::Datetime(_) => "a date",
            DeValue::Array(_) => "a list",
            DeValue::Table(_) => "a table",
        };
        self.file
            .mistake(value.span(), format!("`{key}` is {found}"))
            .label(format!("expected {expected}"))
    }

    /// Tells keys that are not known.
    pub(super) fn ensure_known(&self, known: &[&str], mistakes: &mut Mistakes) {
        for (key, span, _) in self.entries().filter(|(key, ..)| !known.contains(key)) {
            mistakes.add(self.unknown(key, span, known));
        }
    }

    /// The mistake of a key that is not known.
    pub(super) fn unknown(&self, key: &str, span: Range<usize>, known: &[&str]) -> Diagnostic {
        let it = self.file.mistake(span, format!("there is no key `{key}` here"));
        let elsewhere = oeuvre_core::language::elsewhere::option(&format!("--{key}"));
        let elsewhere = elsewhere.map(|o| o.trim_start_matches('-')).filter(|o| known.contains(o));
        match elsewhere.or_else(|| nearest(key, known.iter().copied()).first().copied()) {
            Some(near) => it.label(format!("did you mean `{near}`?")),
            None => it.help(format!("the keys here are {}", oeuvre_columns::names::all_of(known))),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("'sum(fare)'", "sum(fare)")]
    #[case("\"a \\\"b\\\" c\"", "a \"b\" c")]
    #[case("\"\\u00e9t\\u00E9 $x\"", "été $x")]
    #[case("\"\"\"\na\nb\"\"\"", "a\nb")]
    #[case("\"\"\"a \\\n   b\"\"\"", "a b")]
    #[case("'''\na'b'''", "a'b")]
    #[case("1_000.50", "1000.50")]
    fn each_byte_of_a_text_knows_its_place(#[case] raw: &str, #[case] text: &str) {
        let places = places_of(raw, 7, text);
        assert_eq!(places.len(), text.len() + 1);
        for (at, c) in text.char_indices().filter(|(_, c)| c.is_ascii_alphanumeric()) {
            assert!(raw[places[at] - 7..].starts_with(c), "{c} of {raw}");
        }
        assert!(places.windows(2).all(|two| two[0] <= two[1]), "{places:?}");
    }
}
