//! `first` and `last`: the value of the first or last row, in the order of the file or along another column.
//!
//! The state keeps for each group the first or the last row so far with its value. That rows come from several readers does
//! not matter: a row's place in all rows comes with it ([`super::Ordinal`]). Missing where no row is left. While what is kept
//! fits 64 bits, and with the pieces of the rows written down once, a group takes 16 bytes, and 24 along a column.
//!
//! ```
//! # use oeuvre_columns::{InMemory, Kind, Source};
//! # let rows = InMemory::from_texts(
//! #     &[("sailed_on", Kind::Date), ("fare", Kind::Number { scale: 2 })],
//! #     &[
//! #         &["2025-03-02", "12.50"],
//! #         &["2025-03-01", "8.00"],
//! #         &["2025-03-03", ""],
//! #     ],
//! # )?;
//! use oeuvre_core::{Plan, Request, run};
//!
//! // sailed_on, fare: 2025-03-02 12.50; 2025-03-01 8.00; 2025-03-03 (missing)
//! let request = Request::of(&[], &["last(fare)", "first(fare along sailed_on)"]);
//! let plan = Plan::new(&request, rows.columns())?;
//! let (table, _) = run(&plan, &rows, 1)?;
//! assert_eq!(table.cell(0, 0).to_string(), "8.00");
//! assert_eq!(table.cell(0, 1).to_string(), "8.00");
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

use super::encoding::{Damaged, Decoder, Encoder, Locals};
use super::extremes::{column_of, float_key, whole_at};
use super::{Additivity, ArgumentProblem, GroupAggregate, GroupState, Ordinal, Overflow, Rows};
use oeuvre_columns::column::ahead::{SOON, ask_for, is_far};
use oeuvre_columns::column::dictionary::{Dictionary, Followed, MISSING_CODE};
use oeuvre_columns::column::{Column, Data, MISSING_BOOL, MISSING_I32, MISSING_I64, MISSING_I128};
use oeuvre_columns::room::lengthen;
use oeuvre_columns::value::{Kind, text_order};
use std::borrow::Cow;
use std::cmp::Ordering;
use std::collections::HashMap;
use std::ops::Range;

/// `first(x along d)` and `last(x along d)`. Rows in which `x` or `d` is missing are left out;
/// rows that tie along `d` are taken in the order of the file. Missing when there are none.
#[derive(PartialEq, Eq, Hash)]
pub struct FirstLast {
    /// The last one instead of the first.
    pub last: bool,
}

/// A value: a whole number that stands for it, or a code of the state's own texts. `()` where there is none.
trait Word: Copy + Ord + Send + Sync + 'static {
    /// Of no value.
    const NONE: Self;

    /// As a whole number.
    fn whole(self) -> i128;

    /// From a whole number that it holds.
    fn of(whole: i128) -> Self;

    /// The code of a text.
    fn code(self) -> u32 {
        self.whole() as u32
    }
}

impl Word for () {
    const NONE: () = ();
    fn whole(self) -> i128 {
        0
    }
    fn of(_: i128) {}
}

impl Word for i64 {
    const NONE: i64 = 0;
    fn whole(self) -> i128 {
        self.into()
    }
    fn of(whole: i128) -> i64 {
        whole as i64
    }
}

impl Word for i128 {
    const NONE: i128 = 0;
    fn whole(self) -> i128 {
        self
    }
    fn of(whole: i128) -> i128 {
        whole
    }
}

/// Where a row stands: its piece, by the place in the list of those, and its place there.
#[derive(Clone, Copy)]
struct Place {
    piece: u32,
    row: u32,
}

/// The row at the end of a group: what it is walked along by, and its value.
#[derive(Clone, Copy)]
struct End<A, V> {
    along: A,
    value: V,
    place: Place,
}

/// No piece has this number.
const NO_PIECE: u32 = u32::MAX;

impl<A: Word, V: Word> End<A, V> {
    const NONE: End<A, V> =
        End { along: A::NONE, value: V::NONE, place: Place { piece: NO_PIECE, row: 0 } };

    fn is_none(&self) -> bool {
        self.place.piece == NO_PIECE
    }

    /// With words of other types, which hold these.
    fn with<B: Word, W: Word>(self) -> End<B, W> {
        End {
            along: B::of(self.along.whole()),
            value: W::of(self.value.whole()),
            place: self.place,
        }
    }
}

/// The ends of all groups, in the order of the rows or along a column; wide from the first value on that needs more than 64
/// bits.
#[derive(Clone)]
enum Held {
    OfRows(Vec<End<(), i64>>),
    OfRowsWide(Vec<End<(), i128>>),
    Along(Vec<End<i64, i64>>),
    AlongWide(Vec<End<i128, i128>>),
}

/// Does the same with the ends, whatever their words are.
macro_rules! with_ends {
    ($held:expr, $ends:ident => $done:expr) => {
        match $held {
            Held::OfRows($ends) => $done,
            Held::OfRowsWide($ends) => $done,
            Held::Along($ends) => $done,
            Held::AlongWide($ends) => $done,
        }
    };
}

impl Held {
    fn is_along(&self) -> bool {
        matches!(self, Held::Along(_) | Held::AlongWide(_))
    }

    /// Goes over to 128 bits.
    fn widen(&mut self) {
        match self {
            Held::OfRows(ends) => {
                *self = Held::OfRowsWide(ends.iter().map(|end| end.with()).collect());
            }
            Held::Along(ends) => {
                *self = Held::AlongWide(ends.iter().map(|end| end.with()).collect());
            }
            Held::OfRowsWide(_) | Held::AlongWide(_) => {}
        }
    }
}

#[derive(Clone)]
pub(crate) struct FirstLastState {
    held: Held,
    order: Order,
    value_map: Followed,
    along_map: Followed,
    value_is_text: bool,
}

/// What rows are put in order by.
#[derive(Clone)]
struct Order {
    /// The last row is kept, not the first.
    last: bool,
    /// The first place of each piece that rows have come from.
    pieces: Vec<Ordinal>,
    /// The texts of the value and of what is walked along.
    texts: Dictionary,
    along_is_text: bool,
}

impl Order {
    fn compare<A: Word, V>(&self, a: &End<A, V>, b: &End<A, V>) -> Ordering {
        let along = match self.along_is_text && a.along != b.along {
            true => text_order(self.texts.text(a.along.code()), self.texts.text(b.along.code())),
            false => a.along.cmp(&b.along),
        };
        along.then_with(|| match a.place.piece == b.place.piece {
            true => a.place.row.cmp(&b.place.row),
            false => self.ordinal(a.place).cmp(&self.ordinal(b.place)),
        })
    }

    fn ordinal(&self, place: Place) -> Ordinal {
        self.pieces[place.piece as usize].on_by(place.row)
    }

    #[inline]
    fn take<A: Word, V: Word>(&self, end: &mut End<A, V>, row: End<A, V>) {
        if end.is_none() {
            *end = row;
            return;
        }
        let order = self.compare(&row, end);
        if if self.last { order.is_gt() } else { order.is_lt() } {
            *end = row;
        }
    }

    /// Takes rows in; their values, and what they are walked along by, are `None` where they are missing.
    fn take_all<A: Word, V: Word>(
        &self,
        ends: &mut [End<A, V>],
        (groups, piece): (&[u32], u32),
        value: impl Fn(usize) -> Option<V>,
        along: impl Fn(usize) -> Option<A>,
    ) {
        let far = is_far(ends);
        for (row, &group) in groups.iter().enumerate() {
            if far && let Some(&soon) = groups.get(row + SOON) {
                ask_for(ends, soon as usize);
            }
            if group != 0
                && let (Some(value), Some(along)) = (value(row), along(row))
            {
                let place = Place { piece, row: row as u32 };
                self.take(&mut ends[group as usize], End { along, value, place });
            }
        }
    }

    /// The number of a piece, which is the last one or new.
    fn piece(&mut self, begins: Ordinal) -> u32 {
        if self.pieces.last() != Some(&begins) {
            self.pieces.push(begins);
        }
        self.pieces.len() as u32 - 1
    }

    /// The numbers that the pieces of another have here.
    fn absorb(&mut self, theirs: &[Ordinal]) -> Vec<u32> {
        let mut known: HashMap<Ordinal, u32> = self.pieces.iter().copied().zip(0..).collect();
        let pieces = &mut self.pieces;
        let number = |&piece: &Ordinal| {
            *known.entry(piece).or_insert_with(|| {
                pieces.push(piece);
                pieces.len() as u32 - 1
            })
        };
        theirs.iter().map(number).collect()
    }
}

/// The codes and the pieces of another state, as they are here.
struct Here<'h> {
    codes: &'h [u32],
    pieces: &'h [u32],
    along_is_text: bool,
    value_is_text: bool,
}

impl Here<'_> {
    fn of<A: Word, V: Word>(&self, end: End<A, V>) -> End<A, V> {
        let Place { piece, row } = end.place;
        let place = Place { piece: self.pieces[piece as usize], row };
        End {
            along: self.word(end.along, self.along_is_text),
            value: self.word(end.value, self.value_is_text),
            place,
        }
    }

    fn word<W: Word>(&self, word: W, is_text: bool) -> W {
        if is_text { W::of(self.codes[word.code() as usize].into()) } else { word }
    }
}

/// The words of a column's values in 64 bits, [`MISSING_I64`] for missing ones; `None` where one does not fit. Texts have the
/// codes of `map`.
fn words<'c>(column: &'c Column, map: &[u32]) -> Option<Cow<'c, [i64]>> {
    fn each<'c, T: Copy>(values: &[T], word: impl Fn(T) -> Option<i64>) -> Option<Cow<'c, [i64]>> {
        Some(values.iter().map(|&v| word(v).unwrap_or(MISSING_I64)).collect())
    }
    match &column.data {
        Data::I64(v) => Some(Cow::Borrowed(v)),
        Data::I128(v) => {
            let word = |&v: &i128| match v {
                MISSING_I128 => Some(MISSING_I64),
                v => i64::try_from(v).ok().filter(|&v| v != MISSING_I64),
            };
            v.iter().map(word).collect::<Option<Vec<i64>>>().map(Cow::Owned)
        }
        Data::F64(v) => each(v, |v| (!v.is_nan()).then(|| float_key(v))),
        Data::Codes(v) => each(v, |v| (v != MISSING_CODE).then(|| map[v as usize].into())),
        Data::I32(v) => each(v, |v| (v != MISSING_I32).then(|| v.into())),
        Data::Bool(v) => each(v, |v| (v != MISSING_BOOL).then(|| v.into())),
    }
}

/// The words of a column's values in 128 bits.
fn wide_words(column: &Column, map: &[u32]) -> Vec<Option<i128>> {
    let code = |&code: &u32| (code != MISSING_CODE).then(|| map[code as usize].into());
    match &column.data {
        Data::Codes(codes) => codes.iter().map(code).collect(),
        data => (0..data.len()).map(|row| whole_at(data, row)).collect(),
    }
}

impl FirstLastState {
    fn new(
        last: bool,
        is_along: bool,
        [value_is_text, along_is_text]: [bool; 2],
    ) -> FirstLastState {
        let held = if is_along { Held::Along(Vec::new()) } else { Held::OfRows(Vec::new()) };
        let order = Order { last, pieces: Vec::new(), texts: Dictionary::default(), along_is_text };
        let (value_map, along_map) = (Followed::default(), Followed::default());
        FirstLastState { held, order, value_map, along_map, value_is_text }
    }

    fn groups(&self) -> usize {
        with_ends!(&self.held, ends => ends.len())
    }

    /// The end of a group; `None` where it has no row.
    fn end(&self, group: usize) -> Option<End<i128, i128>> {
        let end = with_ends!(&self.held, ends => ends[group].with());
        Some(end).filter(|end| !end.is_none())
    }
}

impl GroupState for FirstLastState {
    const FAMILY: &'static str = "ends";

    fn of(args: &[Kind]) -> Self {
        GroupAggregate::state(&FirstLast { last: false }, args)
    }
    fn resize(&mut self, groups: usize) {
        with_ends!(&mut self.held, ends => lengthen(ends, groups, End::NONE));
    }

    fn update(&mut self, rows: Rows<'_>) -> Result<(), Overflow> {
        let (value, along) = (rows.args[0], rows.args.get(1));
        self.order.texts.follow(&value.dictionary, &mut self.value_map);
        if let Some(along) = along {
            self.order.texts.follow(&along.dictionary, &mut self.along_map);
        }
        let piece = self.order.piece(rows.ordinal(0));
        let (order, groups) = (&self.order, (rows.groups, piece));
        if let Held::OfRows(_) | Held::Along(_) = self.held {
            let values = words(value, &self.value_map);
            let alongs = along.map(|along| words(along, &self.along_map));
            let is_there = |word: &i64| *word != MISSING_I64;
            match (&mut self.held, values, alongs) {
                (Held::OfRows(ends), Some(values), _) => {
                    let value = |row: usize| Some(values[row]).filter(is_there);
                    order.take_all(ends, groups, value, |_| Some(()));
                    return Ok(());
                }
                (Held::Along(ends), Some(values), Some(Some(alongs))) => {
                    let value = |row: usize| Some(values[row]).filter(is_there);
                    let along = |row: usize| Some(alongs[row]).filter(is_there);
                    order.take_all(ends, groups, value, along);
                    return Ok(());
                }
                _ => self.held.widen(),
            }
        }
        let values = wide_words(value, &self.value_map);
        let value = |row: usize| values[row];
        match &mut self.held {
            Held::OfRowsWide(ends) => order.take_all(ends, groups, value, |_| Some(())),
            Held::AlongWide(ends) => {
                let alongs = along.map(|along| wide_words(along, &self.along_map));
                let along = |row: usize| alongs.as_ref().and_then(|alongs| alongs[row]);
                order.take_all(ends, groups, value, along);
            }
            Held::OfRows(_) | Held::Along(_) => {}
        }
        Ok(())
    }

    fn merge(&mut self, other: &Self, map: &[u32]) -> Result<(), Overflow> {
        fn each<A: Word, V: Word>(
            (mine, order): (&mut [End<A, V>], &Order),
            theirs: &[End<A, V>],
            map: &[u32],
            here: &Here<'_>,
        ) {
            let groups = map.iter().zip(theirs);
            for (&to, end) in groups.filter(|(to, end)| **to != 0 && !end.is_none()) {
                order.take(&mut mine[to as usize], here.of(*end));
            }
        }
        let here = Here {
            codes: &self.order.texts.absorb(&other.order.texts),
            pieces: &self.order.absorb(&other.order.pieces),
            along_is_text: self.order.along_is_text,
            value_is_text: self.value_is_text,
        };
        let mut theirs = Cow::Borrowed(&other.held);
        if std::mem::discriminant(&self.held) != std::mem::discriminant(&*theirs) {
            self.held.widen();
            theirs.to_mut().widen();
        }
        let order = &self.order;
        match (&mut self.held, &*theirs) {
            (Held::OfRows(mine), Held::OfRows(ends)) => each((mine, order), ends, map, &here),
            (Held::OfRowsWide(mine), Held::OfRowsWide(ends)) => {
                each((mine, order), ends, map, &here);
            }
            (Held::Along(mine), Held::Along(ends)) => each((mine, order), ends, map, &here),
            (Held::AlongWide(mine), Held::AlongWide(ends)) => each((mine, order), ends, map, &here),
            _ => unreachable!("states of one aggregate are of one kind"),
        }
        Ok(())
    }

    fn fresh(&self) -> Self {
        let are_texts = [self.value_is_text, self.order.along_is_text];
        FirstLastState::new(self.order.last, self.held.is_along(), are_texts)
    }

    fn size_bytes(&self) -> usize {
        let ends = with_ends!(&self.held, ends => size_of_val(ends.as_slice()));
        ends + size_of_val(self.order.pieces.as_slice()) + self.order.texts.size_bytes()
    }

    fn looks_values_up(&self) -> bool {
        self.value_is_text || self.order.along_is_text
    }

    fn encode(&self, groups: Range<u32>, to: &mut Encoder) {
        let all = || groups.clone().map(|group| self.end(group as usize));
        let mut locals = Locals::default();
        for end in all().flatten() {
            if self.order.along_is_text {
                locals.of(end.along.code());
            }
            if self.value_is_text {
                locals.of(end.value.code());
            }
        }
        to.texts(&locals, &self.order.texts);
        let mut word = |to: &mut Encoder, word: i128, is_text: bool| match is_text {
            true => to.signed(i128::from(locals.of(word.code()))),
            false => to.signed(word),
        };
        to.count(groups.len());
        for end in all() {
            to.unsigned(u128::from(end.is_some()));
            let Some(end) = end else { continue };
            if self.held.is_along() {
                word(to, end.along, self.order.along_is_text);
            }
            self.order.ordinal(end.place).encode(to);
            word(to, end.value, self.value_is_text);
        }
    }

    fn decode(&mut self, from: &mut Decoder<'_>) -> Result<(), Damaged> {
        let codes = from.texts(&mut self.order.texts)?;
        let n = from.groups()?;
        GroupState::resize(self, n + 1);
        let word = |from: &mut Decoder<'_>, arg: usize, is_text: bool| match is_text {
            false => from.value(&[arg]),
            true => {
                let code = usize::try_from(from.signed()?).ok().and_then(|w| codes.get(w));
                code.map(|&code| i128::from(code)).ok_or(Damaged)
            }
        };
        let is_near = |word: i128| i64::try_from(word).is_ok_and(|word| word != MISSING_I64);
        let mut pieces = HashMap::new();
        for group in 1..=n {
            if from.unsigned()? == 0 {
                continue;
            }
            let along = match self.held.is_along() {
                true => word(from, 1, self.order.along_is_text)?,
                false => 0,
            };
            let (begins, row) = Ordinal::decode(from)?.in_piece();
            let new = || {
                self.order.pieces.push(begins);
                self.order.pieces.len() as u32 - 1
            };
            let piece = *pieces.entry(begins).or_insert_with(new);
            let value = word(from, 0, self.value_is_text)?;
            let end = End { along, value, place: Place { piece, row } };
            if !is_near(along) || !is_near(value) {
                self.held.widen();
            }
            with_ends!(&mut self.held, ends => ends[group] = end.with());
        }
        Ok(())
    }
}

impl GroupAggregate for FirstLast {
    type State = FirstLastState;

    fn result(&self, args: &[Kind]) -> Result<Kind, ArgumentProblem> {
        Ok(args[0])
    }
    fn family(&self) -> &'static str {
        if self.last { "last" } else { "first" }
    }
    fn state(&self, args: &[Kind]) -> FirstLastState {
        let is_text = |arg: usize| args.get(arg) == Some(&Kind::Text);
        FirstLastState::new(self.last, args.len() > 1, [is_text(0), is_text(1)])
    }
    fn finish(&self, state: &FirstLastState, args: &[Kind]) -> Result<Column, Overflow> {
        let words = (1..state.groups().max(1)).map(|g| state.end(g).map(|end| end.value));
        if args[0] == Kind::Text {
            let codes = words.map(|w| w.map_or(MISSING_CODE, Word::code)).collect();
            return Ok(Column::coded(Data::Codes(codes), state.order.texts.clone()));
        }
        Ok(column_of(args[0], words))
    }
    fn additivity(&self) -> Additivity {
        Additivity::Note(if self.last {
            "the value of the last row, not a sum of the lines"
        } else {
            "the value of the first row, not a sum of the lines"
        })
    }
}

#[cfg(test)]
mod tests {
    use crate::testing::{rows, table};
    use rstest::rstest;

    const DATA: &str = "k d:date x:2 t\na|2025-03-01|1.00|one\na|2025-01-01||two\na|2025-01-01|3.00|three\nb|||four\na||9.00|five\n";

    #[rstest]
    #[case("first(x)", "a = 1.00; b = -")]
    #[case("last(x)", "a = 9.00; b = -")]
    // Of rows that tie along the date the first in the file; rows without either are left out.
    #[case("first(x along d)", "a = 3.00; b = -")]
    #[case("last(x along d)", "a = 1.00; b = -")]
    #[case("first(t along d)", "a = two; b = -")]
    #[case("first(t along x)", "a = one; b = -")]
    #[case("last(t along t)", "a = two; b = four")]
    #[case("last(x where x < 9)", "a = 3.00; b = -")]
    fn the_ends_of_the_rows_of_a_group(#[case] calc: &str, #[case] expected: &str) {
        assert_eq!(table(&rows(DATA), &["k"], &[calc]), expected);
    }
    /// Values and what is walked along that need more than 64 bits, from the first row on or later.
    #[rstest]
    #[case("first(x along d)", "a = 7; b = -99999999999999999999")]
    #[case("last(x along d)", "a = 99999999999999999999; b = -99999999999999999999")]
    #[case("first(d along x)", "a = 1; b = 5")]
    #[case("last(d along x)", "a = 99999999999999999999; b = 5")]
    #[case("first(t along d)", "a = q; b = s")]
    fn ends_of_any_size(#[case] calc: &str, #[case] expected: &str) {
        let data = "k d:0 x:0 t\na|1|7|q\na|99999999999999999999|99999999999999999999|r\nb|5|-99999999999999999999|s\na|3|8|u\n";
        assert_eq!(table(&rows(data), &["k"], &[calc]), expected);
        assert_eq!(table(&rows(data).in_batches(1), &["k"], &[calc]), expected);
    }
}
