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

mod state;
pub(crate) mod values;

use crate::facts::ColumnFact;
use crate::options::{DEFAULT_MISSING, DateForm, DateOrder, Forced, ReadOptions, Zone};
use oeuvre_columns::names::{missing_texts, nearest, shell_quoted};
use oeuvre_columns::value::calendar;
use oeuvre_columns::value::exact::decimal_to_f64;
use oeuvre_columns::value::pattern::DatePattern;
use oeuvre_columns::{ColumnInfo, DataProblem, Kind, Note, OddValue, ReadError, Topic};
use state::{ColumnState, Guess, Ways};
use std::borrow::Cow;
use std::collections::HashSet;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use values::{DateWays, Orders, Parsed, Shape};

/// How a reader reads the values of a column in one file.
#[derive(Clone)]
pub(crate) struct Reading {
    /// What the column holds.
    pub(crate) shape: Shape,
    /// What it was asked to hold with `--kind`.
    pub(crate) forced: Option<Forced>,
    /// The decimal sign.
    pub(crate) decimal: char,
    /// Whether that is not the sign of the file.
    pub(crate) other_sign: bool,
    /// Where to say that a number has shown which sign is the decimal one, while that is not known.
    pub(crate) unsettled: Option<Unsettled>,
    /// Where to say that a number has more digits than its binary64.
    rounded: Arc<AtomicBool>,
    orders: Orders,
    pattern: Option<Arc<DatePattern>>,
    zone: Arc<Zone>,
}

/// A column of which every number so far has three digits behind its only sign.
#[derive(Clone)]
pub(crate) struct Unsettled {
    settled: Arc<AtomicBool>,
    /// Whether the sign is taken to part thousands.
    thousands: bool,
}

impl Unsettled {
    /// Takes note of a number that shows which sign is the decimal one.
    pub(crate) fn look_at(&self, number: &str) {
        if values::settles(number.trim(), self.thousands) {
            self.settled.store(true, Ordering::Relaxed);
        }
    }
}

impl Reading {
    /// The wall clock at an instant, both in microseconds; `None` outside the calendar.
    pub(crate) fn wall_clock(&self, instant: i64) -> Option<i64> {
        self.zone.wall_clock(instant)
    }

    /// A number as binary64, and that it has more digits than that is noted; `None` where it is no number.
    pub(crate) fn binary64(&self, text: &str) -> Option<f64> {
        let (value, keeps_digits) = match values::parse_number(text, self.decimal)? {
            Parsed::Float(value) => (value, text.contains(['e', 'E'])),
            Parsed::Code(_) if self.forced.is_none() => return None,
            Parsed::Exact(number) | Parsed::Code(number) => {
                let value = decimal_to_f64(number);
                (value, values::keeps_digits(number, value))
            }
        };
        if !keeps_digits {
            self.rounded.store(true, Ordering::Relaxed);
        }
        Some(value)
    }

    /// How dates are read.
    pub(crate) fn dates(&self) -> DateWays<'_> {
        DateWays { orders: self.orders, pattern: self.pattern.as_deref(), zone: &self.zone }
    }
}

/// The columns of a source of texts.
pub(crate) struct Columns {
    states: Vec<ColumnState>,
    /// The names of its files.
    files: Vec<String>,
    /// The decimal sign of each file.
    decimals: Vec<char>,
    zone: Arc<Zone>,
    /// For messages that name an option.
    options: ReadOptions,
    /// What the last pass has found out.
    learnt: Mutex<Option<Found>>,
}

/// What a pass has found out of a column in a file, in the first piece that showed it.
struct Found {
    /// The file and the piece in it.
    piece: (usize, u64),
    column: usize,
    what: Finding,
}

/// What has been learnt of a file that columns cannot take in: it is left to whoever has its bytes.
pub(crate) enum Learnt {
    /// It is of another encoding, as this field shows.
    Encoding(usize, DataProblem),
    /// It has more columns.
    Columns,
}

/// What may be found out of a column, each with the value that shows it: its text in quotes, and its line.
#[derive(Clone)]
pub(crate) enum Finding {
    /// Its values have another shape.
    Shape(Shape, DataProblem),
    /// Its decimal sign is the one that is not the file's.
    OtherSign(DataProblem),
    /// Its file is of another encoding.
    Encoding(DataProblem),
    /// Its file has columns that nobody knew of.
    Columns,
}

impl Columns {
    /// Columns of which nothing is known but what the options say, in files with these decimal signs; whether any
    /// is of texts, that is, has no types.
    ///
    /// # Errors
    /// An option that names a column that is not there.
    pub(crate) fn new(
        headings: &[String],
        files: &[String],
        decimals: Vec<char>,
        (has_texts, options): (bool, &ReadOptions),
    ) -> Result<Columns, ReadError> {
        let mut seen = HashSet::new();
        // Where there are types, nothing but what was said stands for no value.
        let said = |m: &&String| has_texts || !DEFAULT_MISSING.contains(&m.as_str());
        let missing = options.missing.iter().filter(said);
        let missing = missing.filter(|m| seen.insert(m.as_str())).cloned();
        let missing = Arc::new(missing.collect());
        let mut columns = Columns {
            states: Vec::new(),
            files: files.to_vec(),
            decimals,
            zone: Arc::new(options.zone.clone()),
            options: options.clone(),
            learnt: Mutex::default(),
        };
        let ways = |(file, &decimal): (usize, &char)| {
            let dates = options.of_file(file).dates.as_ref();
            let (orders, pattern) = (orders_of(dates), pattern_of(dates));
            let (other_sign, ambiguous, three_digits) = (None, None, None);
            let settled = Arc::default();
            Ways { decimal, other_sign, orders, pattern, ambiguous, three_digits, settled }
        };
        let ways: Vec<Ways> = columns.decimals.iter().enumerate().map(ways).collect();
        let state = |name: &String| ColumnState {
            name: name.clone(),
            shape: Shape::Unknown,
            forced: None,
            missing: Arc::clone(&missing),
            files: ways.iter().map(|w| Ways { settled: Arc::default(), ..w.clone() }).collect(),
            reason: None,
            rounded: Arc::default(),
        };
        columns.states = headings.iter().map(state).collect();
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
        for (name, form) in &options.dates_of {
            let state = columns.named(name, "dates", "name a heading of the file")?;
            for ways in &mut state.files {
                ways.orders = orders_of(Some(form));
                ways.pattern = pattern_of(Some(form));
            }
        }
        for (name, kind) in &options.expected {
            let known = columns.states.iter_mut().find(|state| state.name == *name);
            if let Some(state) = known {
                state.shape = state.shape.join(shape_of_kind(*kind));
            }
        }
        let example = "name a heading of the file, such as in --kind 'fare=number'";
        for (name, forced) in &options.kinds {
            let shape = match forced {
                Forced::Number => Shape::Number(0),
                Forced::Text => Shape::Text,
                Forced::Boolean => Shape::Boolean,
                Forced::Date => Shape::Date(Orders::ALL),
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

    /// How a column is read in a file.
    pub(crate) fn reading(&self, column: usize, file: usize) -> Reading {
        let state = &self.states[column];
        let ways = &state.files[file];
        let orders = self.orders_in(column, file).0;
        let unsettled = ways.three_digits.as_ref().map(|it| Unsettled {
            settled: ways.settled.clone(),
            thousands: !it.message.contains(ways.decimal),
        });
        Reading {
            shape: if let Shape::Date(_) = state.shape { Shape::Date(orders) } else { state.shape },
            forced: state.forced,
            decimal: ways.decimal,
            other_sign: ways.other_sign.is_some(),
            unsettled: unsettled.filter(|u| !u.settled.load(Ordering::Relaxed)),
            rounded: state.rounded.clone(),
            orders,
            pattern: ways.pattern.clone(),
            zone: self.zone.clone(),
        }
    }

    /// The orders of a column's dates in a file: its own, and where these leave more than one, that of the file's
    /// other columns, or of the column in the other files, where there is just one; and what it was taken from.
    fn orders_in(&self, column: usize, file: usize) -> (Orders, Option<String>) {
        let state = &self.states[column];
        let own = state.files[file].orders;
        if !own.is_open() || own == Orders::ALL || state.files[file].ambiguous.is_none() {
            return (own, None);
        }
        let beside = self.states.iter().filter(|c| matches!(c.shape, Shape::Date(_)));
        let beside = beside.map(|c| (c.files[file].orders, c.name.clone()));
        let elsewhere = state.files.iter().zip(&self.files).map(|(w, f)| (w.orders, f.clone()));
        for others in [beside.collect::<Vec<_>>(), elsewhere.collect()] {
            let mut sure = others.into_iter().filter(|(o, _)| !o.is_open() && !o.is_none());
            if let Some((order, from)) = sure.next()
                && !own.and(order).is_none()
                && sure.all(|(o, _)| o == order)
            {
                return (order, Some(from));
            }
        }
        (own, None)
    }

    /// What the core sees of the columns.
    pub(crate) fn infos(&self) -> Vec<ColumnInfo> {
        let several = self.files.len() > 1;
        let odd = |reason: &DataProblem| OddValue {
            text: reason.message.trim_matches('\'').to_owned(),
            place: reason.place(),
            file: reason.file.clone().filter(|_| several),
        };
        let info = |c: &ColumnState| ColumnInfo {
            odd: c.reason.as_ref().map(odd),
            ..ColumnInfo::new(&c.name, kind_of(c.shape))
        };
        self.states.iter().map(info).collect()
    }

    /// Guesses the shape of a column from some of its values in a file. `texts` gives them from the first on, each
    /// time it is called, with the place of each; `problem` names such a place for messages.
    pub(crate) fn guess<'t, T: Iterator<Item = (usize, Cow<'t, str>)>>(
        &mut self,
        (column, file): (usize, usize),
        texts: impl Fn() -> T,
        problem: impl Fn(usize, String) -> DataProblem,
    ) {
        if matches!(self.states[column].forced, Some(f) if f != Forced::Number) {
            return;
        }
        let zone = self.zone.clone();
        let state = &mut self.states[column];
        let pattern = state.files[file].pattern.clone();
        let first_shape = state.shape;
        // Once more when the column turns out to have the other decimal sign.
        loop {
            let guess = state.guess_once(file, (pattern.as_deref(), &zone), texts());
            let found = |at: usize, text: &str| problem(at, format!("'{}'", text.escape_debug()));
            match guess {
                Guess::OtherSign(at, text) => {
                    state.turn_sign(file, found(at, &text));
                    state.shape = first_shape;
                }
                Guess::Done { odd, three_digits } => {
                    state.reason = state.reason.take().or(odd.map(|(at, text)| found(at, &text)));
                    state.files[file].three_digits = three_digits.map(|(at, t)| found(at, &t));
                    return;
                }
            }
        }
    }

    /// Says of what shape a column is in a file that has types; its values are not texts.
    pub(crate) fn typed(&mut self, column: usize, shape: Shape) {
        let state = &mut self.states[column];
        if state.forced.is_none() {
            state.shape = state.shape.join(shape);
        }
    }

    /// Says that the numbers of a column in a file cannot be read two ways, as those of texts can.
    pub(crate) fn sure_of_signs(&mut self, column: usize, file: usize) {
        self.states[column].files[file].three_digits = None;
    }

    /// Takes down what a reader has found out in a piece of a file; what stands first in the rows counts.
    pub(crate) fn note(&self, file: usize, piece: u64, column: usize, what: Finding) {
        let mut learnt = self.learnt.lock().unwrap_or_else(PoisonError::into_inner);
        let piece = (file, piece);
        if learnt.as_ref().is_none_or(|known| piece < known.piece) {
            *learnt = Some(Found { piece, column, what });
        }
    }

    /// Forgets what an earlier pass has noted: a new one begins.
    pub(crate) fn begin_pass(&self) {
        *self.learnt.lock().unwrap_or_else(PoisonError::into_inner) = None;
    }

    /// Takes in what the last pass has noted; what concerns more than columns is given back.
    pub(crate) fn learn(&mut self) -> Option<Learnt> {
        let learnt = self.learnt.get_mut().unwrap_or_else(PoisonError::into_inner).take();
        let Found { piece: (file, _), column, what } = learnt?;
        if let Finding::Columns = what {
            return Some(Learnt::Columns);
        }
        let state = &mut self.states[column];
        match what {
            Finding::Shape(shape, reason) => state.widen(file, shape, reason),
            Finding::OtherSign(reason) => {
                state.turn_sign(file, reason);
                state.shape = match (state.forced, state.files.len()) {
                    (Some(_), _) => Shape::Number(0),
                    (None, 1) => Shape::Unknown,
                    // The other files go on as they are.
                    (None, _) => state.shape,
                };
            }
            Finding::Encoding(reason) => return Some(Learnt::Encoding(file, reason)),
            Finding::Columns => {}
        }
        None
    }

    /// After a pass: dates of the columns read that still can be read two ways.
    ///
    /// # Errors
    /// The first such column, with the two readings.
    pub(crate) fn ensure_unambiguous(&self, read: &[usize]) -> Result<(), ReadError> {
        for &column in read {
            let Some(state) = self.states.get(column) else { continue };
            if !matches!(state.shape, Shape::Date(_)) {
                continue;
            }
            for (file, ways) in state.files.iter().enumerate() {
                let orders = self.orders_in(column, file).0;
                if let Some(example) = ways.ambiguous.as_ref().filter(|_| orders.is_open()) {
                    return Err(self.two_readings(&self.files[file], &state.name, example));
                }
            }
        }
        Ok(())
    }

    /// What readers should be told of how some columns were read.
    pub(crate) fn notes(&self, columns: &[usize]) -> Vec<Note> {
        let used = columns.iter().filter(|&&c| c < self.states.len());
        let several = self.files.len() > 1;
        let said = used.flat_map(|&c| self.remarks(c, several).into_iter().chain(self.once(c)));
        said.map(|text| Note::new(Topic::Reading, text)).collect()
    }

    /// What readers should be told of how a column was read, whether its files are all there are or not.
    pub(crate) fn facts(&self, column: usize) -> Vec<ColumnFact> {
        let Some(state) = self.states.get(column) else { return Vec::new() };
        let fact = |once: bool, told: [String; 2]| {
            let told = told.map(|text| Note::new(Topic::Reading, text));
            ColumnFact { column: state.name.clone(), once, told }
        };
        let [alone, among] = [false, true].map(|several| self.remarks(column, several));
        let each = alone.into_iter().zip(among).map(|(alone, among)| fact(false, [alone, among]));
        let once = self.once(column).map(|text| fact(true, [text.clone(), text]));
        each.chain(once).collect()
    }

    /// What is said of a column once, whatever files it is in.
    fn once(&self, column: usize) -> impl Iterator<Item = String> {
        self.states[column].digits().into_iter().chain(self.odd(column))
    }

    /// What is said of a column that is text because of few values.
    fn odd(&self, column: usize) -> Option<String> {
        let state = &self.states[column];
        let reason = state.reason.as_ref()?;
        (state.shape == Shape::Text && state.forced.is_none()).then(|| {
            let text = reason.message.trim_matches('\'');
            format!(
                "{} is text because of {} on {}; if that stands for no value: --missing {}",
                state.name,
                reason.message,
                reason.place(),
                shell_quoted(&missing_texts(Some(&state.name), &[text]))
            )
        })
    }

    /// What is said of how a column was read in each file, which is named where there are several.
    fn remarks(&self, column: usize, several: bool) -> Vec<String> {
        let state = &self.states[column];
        let mut said = Vec::new();
        for (file, ways) in state.files.iter().enumerate() {
            let of = if several { format!(" of {}", self.files[file]) } else { String::new() };
            let numbers = matches!(state.shape, Shape::Number(_) | Shape::Float);
            if let (Some(by), true) = (&ways.other_sign, numbers) {
                said.push(format!(
                    "{}{of} is read with `{}` as its decimal sign, because of {} on {}; the other way: {}",
                    state.name,
                    ways.decimal,
                    by.message,
                    by.place(),
                    self.options.typed("--decimal", &values::other_sign(ways.decimal).to_string()),
                ));
            }
            if let Some(it) = ways.three_digits.as_ref().filter(|_| numbers)
                && !ways.settled.load(Ordering::Relaxed)
            {
                let text = it.message.trim_matches('\'');
                let read = |decimal: char| match values::parse_number(text, decimal) {
                    Some(Parsed::Exact(n)) => n.to_string(),
                    _ => text.to_owned(),
                };
                let other = values::other_sign(ways.decimal);
                said.push(format!(
                    "{}{of} can be read two ways: {} on {} is taken as {}, and could be {}; the other way: {}",
                    state.name,
                    it.message,
                    it.place(),
                    read(ways.decimal),
                    read(other),
                    self.options.typed("--decimal", &other.to_string()),
                ));
            }
            let taken = self.orders_in(column, file);
            if let (Some(example), (order, Some(from))) = (&ways.ambiguous, &taken)
                && matches!(state.shape, Shape::Date(_))
            {
                let (form, other) = if order.has(DateOrder::Dmy) {
                    ("day first", "mdy")
                } else {
                    ("month first", "dmy")
                };
                said.push(format!(
                    "{}{of} has dates such as '{example}' that can be read two ways; they are read {form}, as {from} is; the other way: {}",
                    state.name,
                    self.options.typed("--dates", other),
                ));
            }
        }
        said
    }

    /// What has been noticed about columns, each with what deals with it.
    pub(crate) fn warnings(&self) -> Vec<(String, String)> {
        let mut said = Vec::new();
        for (column, state) in self.states.iter().enumerate() {
            for (file, ways) in state.files.iter().enumerate() {
                let open = matches!(state.shape, Shape::Date(_))
                    && self.orders_in(column, file).0.is_open();
                if let Some(example) = ways.ambiguous.as_ref().filter(|_| open) {
                    let text = format!(
                        "dates such as '{example}' can be read two ways: --dates dmy or --dates mdy"
                    );
                    said.push((state.name.clone(), text));
                }
            }
            let told = self.remarks(column, self.files.len() > 1).into_iter().chain(state.digits());
            said.extend(told.map(|text| (state.name.clone(), text)));
        }
        said
    }

    /// The kind that a text would have, in a word: see [`crate::Input::looks_like`].
    pub(crate) fn looks_like(&self, text: &str) -> &'static str {
        let decimal = self.decimals.first().copied().unwrap_or('.');
        let dates = self.options.dates.as_ref();
        let (orders, pattern) = (orders_of(dates), pattern_of(dates));
        let ways = DateWays { orders, pattern: pattern.as_deref(), zone: &self.zone };
        if let Some(Parsed::Code(_)) = values::parse_number(text, decimal) {
            return "code";
        }
        match values::shape_of(text, decimal, ways) {
            Shape::Number(_) | Shape::Float => "number",
            Shape::Boolean => "boolean",
            Shape::Date(_) => "date",
            Shape::DateTime => "datetime",
            Shape::Text | Shape::Unknown => "text",
        }
    }

    /// The error of a date that can be read two ways.
    fn two_readings(&self, file: &str, column: &str, example: &str) -> ReadError {
        let readings = values::parse_any_date(example).map(|(_, days)| {
            let day = |o: DateOrder| days[o as usize].map(calendar::date_text);
            (day(DateOrder::Dmy).unwrap_or_default(), day(DateOrder::Mdy).unwrap_or_default())
        });
        let (dmy, mdy) = readings.unwrap_or_default();
        let message =
            format!("every date here can be read two ways: '{example}' is {dmy} or {mdy}");
        let typed = |order: &str| self.options.typed("--dates", order);
        DataProblem::in_file(file, message)
            .in_column(column)
            .help(format!(
                "say which with {} (day first) or {} (month first)",
                typed("dmy"),
                typed("mdy")
            ))
            .into()
    }
}

/// The orders in which dates may be read before any was seen.
fn orders_of(dates: Option<&DateForm>) -> Orders {
    match dates {
        Some(DateForm::Order(order)) => Orders::only(*order),
        _ => Orders::ALL,
    }
}

/// The pattern of dates, where one was named.
fn pattern_of(dates: Option<&DateForm>) -> Option<Arc<DatePattern>> {
    match dates {
        Some(DateForm::Pattern(pattern)) => Some(pattern.clone()),
        _ => None,
    }
}

/// The kind that holds the values of both: text, where no other does.
pub fn wider_kind(a: Kind, b: Kind) -> Kind {
    kind_of(shape_of_kind(a).join(shape_of_kind(b)))
}

/// The shape behind a kind that the core sees.
fn shape_of_kind(kind: Kind) -> Shape {
    match kind {
        Kind::Nothing => Shape::Unknown,
        Kind::Number { scale } => Shape::Number(scale),
        Kind::Float => Shape::Float,
        Kind::Boolean => Shape::Boolean,
        Kind::Date => Shape::Date(Orders::ALL),
        Kind::DateTime => Shape::DateTime,
        _ => Shape::Text,
    }
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

    /// Columns of one file.
    fn one_file(headings: &[&str], options: &ReadOptions) -> Result<Columns, ReadError> {
        let headings: Vec<String> = headings.iter().map(|&h| h.to_owned()).collect();
        Columns::new(&headings, &["f.csv".to_owned()], vec!['.'], (true, options))
    }

    /// What a column turns out to be when its values are learnt one by one, as passes would.
    fn learnt(guessed_from: &[&str], then: &[&str], options: &ReadOptions) -> Columns {
        let mut columns = one_file(&["x"], options).unwrap();
        let texts = || guessed_from.iter().map(|&t| Cow::Borrowed(t)).enumerate();
        let problem = |at: usize, message: String| {
            DataProblem::in_file("f.csv", message).at_line(at as u64 + 2)
        };
        columns.guess((0, 0), texts, problem);
        for (i, text) in then.iter().enumerate() {
            let reading = columns.reading(0, 0);
            let found = values::shape_of(text, reading.decimal, reading.dates());
            let to = reading.shape.join(found);
            if to != reading.shape {
                let reason = problem(100 + i, format!("'{text}'"));
                columns.note(0, i as u64, 0, Finding::Shape(to, reason));
                columns.learn();
            }
        }
        columns
    }

    #[rstest]
    #[case(&["1", "2.50"], &[], Kind::Number { scale: 2 }, None)]
    #[case(&["1", "2.50"], &["2.505"], Kind::Number { scale: 3 }, Some("'2.505' on line 102"))]
    #[case(&["", "n/a"], &["7"], Kind::Number { scale: 0 }, Some("line 102"))]
    #[case(&["1"], &["1e5"], Kind::Float, Some("'1e5'"))]
    #[case(&["1", "1e5", "2e5"], &[], Kind::Float, Some("'1e5' on line 3"))]
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
            None => assert_eq!(info.odd, None),
            Some(part) => {
                let said = info.odd.map(|odd| odd.to_string());
                assert!(said.as_deref().is_some_and(|n| n.contains(part)), "{said:?}")
            }
        }
    }

    #[test]
    fn of_several_findings_the_first_in_the_rows_counts_and_a_new_pass_forgets() {
        let mut columns = one_file(&["x", "y"], &ReadOptions::default()).unwrap();
        let found = |text: &str| DataProblem::in_file("f.csv", text).at_line(1);
        columns.note(0, 7, 0, Finding::Shape(Shape::Text, found("'late'")));
        columns.note(0, 3, 1, Finding::Shape(Shape::Boolean, found("'early'")));
        columns.note(0, 5, 0, Finding::Shape(Shape::Float, found("'between'")));
        columns.learn();
        let kinds: Vec<Kind> = columns.infos().iter().map(|c| c.kind).collect();
        assert_eq!(kinds, [Kind::Nothing, Kind::Boolean]);
        columns.note(0, 1, 0, Finding::Shape(Shape::Text, found("'old'")));
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
        let ambiguous = columns.ensure_unambiguous(&[0]);
        assert_eq!((ambiguous.is_err(), columns.warnings().len()), (open, usize::from(open)));
        if let Err(ReadError::Problem(it)) = ambiguous {
            let said = format!("{it} {:?}", it.help);
            assert!(
                said.contains("'03/04/2025' is 2025-04-03 or 2025-03-04")
                    && said.contains("--dates dmy"),
                "{said}"
            );
        }
        assert!(columns.ensure_unambiguous(&[]).is_ok(), "nobody reads it");
        let told =
            ReadOptions { dates: Some(DateForm::Order(DateOrder::Dmy)), ..ReadOptions::default() };
        assert!(learnt(dates, &[], &told).ensure_unambiguous(&[0]).is_ok());
    }

    #[test]
    fn a_column_of_the_other_decimal_sign_is_read_by_it_and_says_so() {
        let columns = learnt(&["0,250", "1,5"], &[], &ReadOptions::default());
        assert_eq!(
            (columns.reading(0, 0).decimal, columns.infos()[0].kind),
            (',', Kind::Number { scale: 3 })
        );
        assert!(
            columns.notes(&[0])[0].text.contains("x is read with `,` as its decimal sign"),
            "{:?}",
            columns.notes(&[0])
        );
        assert!(columns.notes(&[]).is_empty());
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
        let Err(ReadError::Problem(it)) = one_file(&["fare"], &options) else { panic!("refused") };
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
