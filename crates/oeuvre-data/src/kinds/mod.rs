//! The kinds of columns that are read from texts: guessed, found to be others, settled.
//!
//! A text says nothing of its kind, so that a column's [`Shape`] is guessed from its first values and grows
//! when a pass meets a value that does not fit. What has been found out is noted while the pass still runs
//! (readers share the columns), and taken in between passes: [`Columns::note`], then [`Columns::learn`]. The
//! finding that stands first in the rows counts, so that the outcome does not depend on threads. A wrong guess
//! costs one more pass, never a result.
//!
//! Every reader of texts needs this, whatever its files look like: it brings the texts, and this says what
//! they are. If you add a shape: [`Shape`] and its reading are in `values.rs`, [`kind_of`] says what the
//! core sees, and a reader's columns fill it.

pub(crate) mod values;

use crate::options::{DateOrder, Forced, ReadOptions};
use oeuvre_columns::names::nearest;
use oeuvre_columns::value::calendar;
use oeuvre_columns::{ColumnInfo, DataProblem, Kind, ReadError};
use std::borrow::Cow;
use std::collections::HashSet;
use std::sync::{Arc, Mutex, PoisonError};
use values::{Orders, Shape};

/// A column of texts, as far as its values have shown what it is.
#[derive(Clone)]
pub(crate) struct ColumnState {
    /// Its heading.
    pub(crate) name: String,
    /// What it holds.
    pub(crate) shape: Shape,
    /// What it was asked to hold with `--kind`.
    pub(crate) forced: Option<Forced>,
    /// Texts that stand for no value; most columns share them.
    pub(crate) missing: Arc<Vec<String>>,
    /// The decimal sign.
    pub(crate) decimal: char,
    /// The value that shows that it is not that of the file.
    pub(crate) other_sign: Option<DataProblem>,
    /// Why the column is not what its first values looked like.
    reason: Option<DataProblem>,
    /// A date that can be read two ways, as long as both are possible.
    ambiguous: Option<String>,
}

/// The columns of a source of texts.
pub(crate) struct Columns {
    states: Vec<ColumnState>,
    /// The order of dates, where it was asked for.
    dates: Option<DateOrder>,
    /// The decimal sign of the file.
    decimal: char,
    /// What the last pass has found out.
    learnt: Mutex<Option<Learnt>>,
}

/// What a pass has found out of a column, in the first piece that showed it.
struct Learnt {
    piece: u64,
    column: usize,
    what: Finding,
}

/// What may be found out of a column, each with the value that shows it: its text in quotes, and its line.
#[derive(Clone)]
pub(crate) enum Finding {
    /// Its values have another shape.
    Shape(Shape, DataProblem),
    /// Its decimal sign is the one that is not the file's.
    OtherSign(DataProblem),
}

impl Columns {
    /// Columns of which nothing is known but what the options say.
    ///
    /// # Errors
    /// An option that names a column that is not there.
    pub(crate) fn new(headings: &[String], options: &ReadOptions) -> Result<Columns, ReadError> {
        let mut seen = HashSet::new();
        let missing = options.missing.iter().filter(|m| seen.insert(m.as_str())).cloned();
        let missing = Arc::new(missing.collect());
        let decimal = options.decimal;
        let state = |name: &String| ColumnState::new(name, &missing, decimal);
        let states = headings.iter().map(state).collect();
        let mut columns =
            Columns { states, dates: options.dates, decimal, learnt: Mutex::default() };
        let example = "a text with = in it stands in single quotes inside";
        for (name, text) in &options.missing_of {
            let state = columns.named(name, "--missing", example)?;
            if !state.missing.contains(text) {
                Arc::make_mut(&mut state.missing).push(text.clone());
            }
        }
        for (name, text) in &options.not_missing_of {
            let state = columns.named(name, "--not-missing", example)?;
            Arc::make_mut(&mut state.missing).retain(|m| m != text);
        }
        let example = "name a heading of the file, such as in --kind 'fare=number'";
        for (name, forced) in &options.kinds {
            let shape = match forced {
                Forced::Number => Shape::Number(0),
                Forced::Text => Shape::Text,
                Forced::Boolean => Shape::Boolean,
                Forced::Date => Shape::Date(columns.orders()),
                Forced::DateTime => Shape::DateTime,
            };
            let state = columns.named(name, "--kind", example)?;
            (state.forced, state.shape) = (Some(*forced), shape);
        }
        Ok(columns)
    }

    /// The column that an option names.
    fn named(
        &mut self,
        name: &str,
        option: &str,
        example: &str,
    ) -> Result<&mut ColumnState, ReadError> {
        match self.states.iter().position(|c| c.name == name) {
            Some(at) => Ok(&mut self.states[at]),
            None => {
                let near = nearest(name, self.states.iter().map(|c| c.name.as_str()));
                let help = match near.first() {
                    Some(near) => format!("did you mean `{near}`?"),
                    None => example.to_owned(),
                };
                let message = format!("{option}: there is no column `{name}`");
                Err(DataProblem::new(message).help(help).into())
            }
        }
    }

    /// The columns, in their order.
    pub(crate) fn states(&self) -> &[ColumnState] {
        &self.states
    }

    /// The orders in which dates may be read.
    pub(crate) fn orders(&self) -> Orders {
        self.dates.map_or(Orders::ALL, Orders::only)
    }

    /// What the core sees of the columns.
    pub(crate) fn infos(&self) -> Vec<ColumnInfo> {
        let note = |reason: &DataProblem| {
            let file = reason.file.as_deref().unwrap_or("the file");
            format!("{file}, line {}: {}", reason.line.unwrap_or(0), reason.message)
        };
        let info = |c: &ColumnState| ColumnInfo {
            note: c.reason.as_ref().map(note),
            ..ColumnInfo::new(&c.name, kind_of(c.shape))
        };
        self.states.iter().map(info).collect()
    }

    /// Guesses the shape of a column from some of its values. `texts` gives them from the first on, each time
    /// it is called, with the place of each; `problem` names such a place for messages.
    pub(crate) fn guess<'t, T: Iterator<Item = (usize, Cow<'t, str>)>>(
        &mut self,
        column: usize,
        texts: impl Fn() -> T,
        problem: impl Fn(usize, String) -> DataProblem,
    ) {
        let orders = self.orders();
        let state = &mut self.states[column];
        if matches!(state.forced, Some(f) if f != Forced::Number) {
            return;
        }
        let first_shape = state.shape;
        // Once more when the column turns out to have the other decimal sign.
        while let Some(turned_at) = state.guess_once(orders, texts()) {
            let (at, text) = turned_at;
            state.turn_sign(problem(at, format!("'{text}'")));
            state.shape = first_shape;
        }
    }

    /// Takes down what a reader has found out; what stands first in the rows counts.
    pub(crate) fn note(&self, piece: u64, column: usize, what: Finding) {
        let mut learnt = self.learnt.lock().unwrap_or_else(PoisonError::into_inner);
        if learnt.as_ref().is_none_or(|known| piece < known.piece) {
            *learnt = Some(Learnt { piece, column, what });
        }
    }

    /// Forgets what an earlier pass has noted: a new one begins.
    pub(crate) fn begin_pass(&self) {
        *self.learnt.lock().unwrap_or_else(PoisonError::into_inner) = None;
    }

    /// Takes in what the last pass has noted.
    pub(crate) fn learn(&mut self) {
        let learnt = self.learnt.get_mut().unwrap_or_else(PoisonError::into_inner).take();
        let Some(Learnt { column, what, .. }) = learnt else { return };
        let state = &mut self.states[column];
        match what {
            Finding::Shape(shape, reason) => state.widen(shape, reason),
            Finding::OtherSign(reason) => state.turn_sign(reason),
        }
    }

    /// After a pass: dates of the columns read that still can be read two ways.
    ///
    /// # Errors
    /// The first such column, with the two readings; `file` is what the message names.
    pub(crate) fn ensure_unambiguous(&self, read: &[usize], file: &str) -> Result<(), ReadError> {
        for column in read.iter().filter_map(|&c| self.states.get(c)) {
            if let (Shape::Date(orders), Some(example)) = (column.shape, &column.ambiguous)
                && orders.is_open()
            {
                return Err(two_readings(file, &column.name, example));
            }
        }
        Ok(())
    }

    /// What readers should be told of how some columns were read.
    pub(crate) fn remarks(&self, columns: &[usize]) -> Vec<String> {
        let used = columns.iter().filter_map(|&c| self.states.get(c));
        used.filter_map(ColumnState::remark).collect()
    }

    /// What has been noticed about columns, each with what deals with it.
    pub(crate) fn warnings(&self) -> Vec<(String, String)> {
        let ambiguous = self.states.iter().filter_map(|c| {
            let open = matches!(c.shape, Shape::Date(o) if o.is_open());
            let example = c.ambiguous.as_ref().filter(|_| open)?;
            let text = format!(
                "dates such as '{example}' can be read two ways: --dates dmy or --dates mdy"
            );
            Some((c.name.clone(), text))
        });
        let remarks = self.states.iter().filter_map(|c| Some((c.name.clone(), c.remark()?)));
        ambiguous.chain(remarks).collect()
    }

    /// The kind that a text would have, in a word: see [`crate::Input::looks_like`].
    pub(crate) fn looks_like(&self, text: &str) -> &'static str {
        if let Some(values::Parsed::Code(_)) = values::parse_number(text, self.decimal) {
            return "code";
        }
        match values::shape_of(text, self.decimal, self.orders()) {
            Shape::Number(_) | Shape::Float => "number",
            Shape::Boolean => "boolean",
            Shape::Date(_) => "date",
            Shape::DateTime => "datetime",
            Shape::Text | Shape::Unknown => "text",
        }
    }
}

impl ColumnState {
    fn new(name: &str, missing: &Arc<Vec<String>>, decimal: char) -> ColumnState {
        ColumnState {
            name: name.to_owned(),
            shape: Shape::Unknown,
            forced: None,
            missing: missing.clone(),
            decimal,
            other_sign: None,
            reason: None,
            ambiguous: None,
        }
    }

    /// Widens the shape by some values; gives the first that is a number by the other decimal sign alone.
    fn guess_once<'t>(
        &mut self,
        orders: Orders,
        texts: impl Iterator<Item = (usize, Cow<'t, str>)>,
    ) -> Option<(usize, String)> {
        for (at, text) in texts {
            if self.shape == Shape::Text {
                break;
            }
            let trimmed = text.trim();
            if trimmed.is_empty() || self.missing.iter().any(|m| m == trimmed) {
                continue;
            }
            let numeric = matches!(self.shape, Shape::Unknown | Shape::Number(_) | Shape::Float);
            if numeric && self.other_sign.is_none() && values::is_of_other_sign(&text, self.decimal)
            {
                return Some((at, trimmed.to_owned()));
            }
            let found = values::shape_of(&text, self.decimal, orders);
            if self.forced.is_some() && !matches!(found, Shape::Number(_) | Shape::Float) {
                continue;
            }
            if let Shape::Date(o) = found
                && o.is_open()
                && o != Orders::ALL
            {
                // ISO dates leave all three orders open, and harm nobody.
                self.ambiguous.get_or_insert_with(|| trimmed.to_owned());
            }
            self.shape = self.shape.join(found);
        }
        None
    }

    /// Sets the shape that a value has shown.
    fn widen(&mut self, shape: Shape, reason: DataProblem) {
        self.shape = shape;
        let text = reason.message.trim_matches('\'').to_owned();
        if matches!(shape, Shape::Date(_)) && calendar::parse_date(text.trim()).is_none() {
            self.ambiguous.get_or_insert(text);
        }
        self.reason = Some(reason);
    }

    /// Takes the other decimal sign for the column's, and starts to look at its values anew.
    fn turn_sign(&mut self, shown_by: DataProblem) {
        self.decimal = values::other_sign(self.decimal);
        self.other_sign = Some(shown_by);
        self.shape = if self.forced.is_none() { Shape::Unknown } else { Shape::Number(0) };
    }

    /// What readers should be told of how the column was read.
    fn remark(&self) -> Option<String> {
        if let (Some(by), Shape::Number(_) | Shape::Float) = (&self.other_sign, self.shape) {
            return Some(format!(
                "{} is read with `{}` as its decimal sign, since {} on line {} can have no thousands; if it is text: --kind '{}=text'",
                self.name,
                self.decimal,
                by.message,
                by.line.unwrap_or(0),
                self.name
            ));
        }
        let reason = self.reason.as_ref()?;
        let text = reason.message.trim_matches('\'');
        let digits = self.shape == Shape::Float && !text.contains(['e', 'E']);
        digits.then(|| {
            format!(
                "{} is calculated in binary64, with 15 to 17 digits: {text} on line {} and others together need more than 38",
                self.name,
                reason.line.unwrap_or(0)
            )
        })
    }
}

/// The error of a date that can be read two ways.
fn two_readings(file: &str, column: &str, example: &str) -> ReadError {
    let readings = values::parse_any_date(example).map(|(_, days)| {
        let day = |o: DateOrder| days[o as usize].map(calendar::date_text);
        (day(DateOrder::Dmy).unwrap_or_default(), day(DateOrder::Mdy).unwrap_or_default())
    });
    let (dmy, mdy) = readings.unwrap_or_default();
    let message = format!("every date here can be read two ways: '{example}' is {dmy} or {mdy}");
    DataProblem::in_file(file, message)
        .in_column(column)
        .help("say which with --dates dmy (day first) or --dates mdy (month first)")
        .into()
}

/// The kind that the core sees.
fn kind_of(shape: Shape) -> Kind {
    match shape {
        Shape::Unknown => Kind::Nothing,
        Shape::Number(scale) => Kind::Number { scale },
        Shape::Float => Kind::Float,
        Shape::Boolean => Kind::Boolean,
        Shape::Date(_) => Kind::Date,
        Shape::DateTime => Kind::DateTime,
        Shape::Text => Kind::Text,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// What a column turns out to be when its values are learnt one by one, as passes would.
    fn learnt(guessed_from: &[&str], then: &[&str], options: &ReadOptions) -> Columns {
        let mut columns = Columns::new(&["x".to_owned()], options).unwrap();
        let texts = || guessed_from.iter().map(|&t| Cow::Borrowed(t)).enumerate();
        let problem = |at: usize, message: String| {
            DataProblem::in_file("f.csv", message).at_line(at as u64 + 2)
        };
        columns.guess(0, texts, problem);
        for (i, text) in then.iter().enumerate() {
            let orders = columns.orders();
            let state = &columns.states()[0];
            let found = values::shape_of(text, state.decimal, orders);
            let to = state.shape.join(found);
            if to != state.shape {
                let reason = problem(100 + i, format!("'{text}'"));
                columns.note(i as u64, 0, Finding::Shape(to, reason));
                columns.learn();
            }
        }
        columns
    }

    #[rstest]
    #[case(&["1", "2.50"], &[], Kind::Number { scale: 2 }, None)]
    #[case(&["1", "2.50"], &["2.505"], Kind::Number { scale: 3 }, Some("line 102: '2.505'"))]
    #[case(&["", "n/a"], &["7"], Kind::Number { scale: 0 }, Some("line 102"))]
    #[case(&["1"], &["1e5"], Kind::Float, Some("'1e5'"))]
    #[case(&["1"], &["one"], Kind::Text, Some("'one'"))]
    #[case(&["007"], &[], Kind::Text, None)]
    #[case(&["true", "no"], &[], Kind::Text, None)]
    #[case(&["2025-01-31"], &["2025-01-31T10:00"], Kind::DateTime, Some("T10:00"))]
    #[case(&[], &[], Kind::Nothing, None)]
    fn a_kind_grows_with_the_values_and_says_which_one_showed_it(
        #[case] guessed_from: &[&str],
        #[case] then: &[&str],
        #[case] kind: Kind,
        #[case] note: Option<&str>,
    ) {
        let columns = learnt(guessed_from, then, &ReadOptions::default());
        let info = columns.infos().remove(0);
        assert_eq!(info.kind, kind);
        match note {
            None => assert_eq!(info.note, None),
            Some(part) => {
                assert!(info.note.as_deref().is_some_and(|n| n.contains(part)), "{:?}", info.note)
            }
        }
    }

    #[test]
    fn of_several_findings_the_first_in_the_rows_counts_and_a_new_pass_forgets() {
        let mut columns =
            Columns::new(&["x".to_owned(), "y".to_owned()], &ReadOptions::default()).unwrap();
        let found = |text: &str| DataProblem::in_file("f.csv", text).at_line(1);
        columns.note(7, 0, Finding::Shape(Shape::Text, found("'late'")));
        columns.note(3, 1, Finding::Shape(Shape::Boolean, found("'early'")));
        columns.note(5, 0, Finding::Shape(Shape::Float, found("'between'")));
        columns.learn();
        let kinds: Vec<Kind> = columns.infos().iter().map(|c| c.kind).collect();
        assert_eq!(kinds, [Kind::Nothing, Kind::Boolean]);
        columns.note(1, 0, Finding::Shape(Shape::Text, found("'old'")));
        columns.begin_pass();
        columns.learn();
        assert_eq!(columns.infos()[0].kind, Kind::Nothing);
    }

    #[rstest]
    #[case(&["03/04/2025", "05/06/2025"], true)]
    #[case(&["03/04/2025", "31/06/2025", "31/07/2025"], false)]
    #[case(&["2025-04-03"], false)]
    fn dates_that_can_be_read_two_ways_are_an_error_only_where_no_value_settles_it(
        #[case] dates: &[&str],
        #[case] open: bool,
    ) {
        let columns = learnt(dates, &[], &ReadOptions::default());
        let ambiguous = columns.ensure_unambiguous(&[0], "f.csv");
        assert_eq!((ambiguous.is_err(), columns.warnings().len()), (open, usize::from(open)));
        if let Err(ReadError::Problem(it)) = ambiguous {
            let said = format!("{it} {:?}", it.help);
            assert!(
                said.contains("'03/04/2025' is 2025-04-03 or 2025-03-04")
                    && said.contains("--dates dmy"),
                "{said}"
            );
        }
        assert!(columns.ensure_unambiguous(&[], "f.csv").is_ok(), "nobody reads it");
        let told = ReadOptions { dates: Some(DateOrder::Dmy), ..ReadOptions::default() };
        assert!(learnt(dates, &[], &told).ensure_unambiguous(&[0], "f.csv").is_ok());
    }

    #[test]
    fn a_column_of_the_other_decimal_sign_is_read_by_it_and_says_so() {
        let columns = learnt(&["0,250", "1,5"], &[], &ReadOptions::default());
        assert_eq!(
            (columns.states()[0].decimal, columns.infos()[0].kind),
            (',', Kind::Number { scale: 3 })
        );
        assert!(
            columns.remarks(&[0])[0].contains("x is read with `,` as its decimal sign"),
            "{:?}",
            columns.remarks(&[0])
        );
        assert!(columns.remarks(&[]).is_empty());
    }

    #[rstest]
    #[case(ReadOptions { kinds: vec![("fair".into(), Forced::Number)], ..ReadOptions::default() }, "--kind: there is no column `fair`", "did you mean `fare`?")]
    #[case(ReadOptions { missing_of: vec![("z".into(), "-".into())], ..ReadOptions::default() }, "--missing: there is no column `z`", "single quotes")]
    #[case(ReadOptions { not_missing_of: vec![("z".into(), "-".into())], ..ReadOptions::default() }, "--not-missing: there is no column `z`", "single quotes")]
    fn an_option_for_a_column_that_is_not_there_is_refused(
        #[case] options: ReadOptions,
        #[case] message: &str,
        #[case] help: &str,
    ) {
        let Err(ReadError::Problem(it)) = Columns::new(&["fare".to_owned()], &options) else {
            panic!("refused")
        };
        assert!(it.message == message && it.help[0].contains(help), "{it:?}");
    }

    #[rstest]
    #[case("1,234.50", "number")]
    #[case("0042", "code")]
    #[case("true", "boolean")]
    #[case("31.12.2025", "date")]
    #[case("2025-12-31 08:00", "datetime")]
    #[case("SKE", "text")]
    fn a_text_looks_like_what_a_column_of_it_would_be(#[case] text: &str, #[case] looks: &str) {
        assert_eq!(learnt(&[], &[], &ReadOptions::default()).looks_like(text), looks);
    }
}
