//! `first` and `last`: the value of the first or last row, in the order of the file or along another column.
//!
//! The state keeps for each group the first and the last row so far with its value. That rows come from several readers does
//! not matter: a row's place in all rows comes with it ([`super::Ordinal`]). Missing where no row is left. While what is kept
//! fits 64 bits, and with the pieces of the rows written down once, a group takes 48 bytes.
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

/// A value: a whole number that stands for it, or a code of the state's own texts.
trait Word: Copy + Ord + Into<i128> + Send + Sync + 'static {
    /// Of no value.
    const NONE: Self;

    /// The code of a text.
    fn code(self) -> u32 {
        self.into() as u32
    }
}

impl Word for i64 {
    const NONE: i64 = 0;
}

impl Word for i128 {
    const NONE: i128 = 0;
}

/// Where a row stands: its piece, by the place in the list of those, and its place there.
#[derive(Clone, Copy)]
struct Place {
    piece: u32,
    row: u32,
}

/// A row at the end of a group, and its value.
#[derive(Clone, Copy)]
struct End<W> {
    along: W,
    value: W,
    place: Place,
}

/// The first and the last row of a group.
type Ends<W> = [End<W>; 2];

/// The words of a column that there is not.
const NO_WORDS: Option<Cow<'_, [i64]>> = Some(Cow::Borrowed(&[]));

/// No piece has this number.
const NO_PIECE: u32 = u32::MAX;

impl<W: Word> End<W> {
    const NONE: End<W> =
        End { along: W::NONE, value: W::NONE, place: Place { piece: NO_PIECE, row: 0 } };

    fn is_none(&self) -> bool {
        self.place.piece == NO_PIECE
    }
}

/// The ends of all groups.
#[derive(Clone)]
enum Held {
    Near(Vec<Ends<i64>>),
    /// From the first value on that needs more than 64 bits.
    Wide(Vec<Ends<i128>>),
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
    /// The first place of each piece that rows have come from.
    pieces: Vec<Ordinal>,
    /// The texts of the value and of what is walked along.
    texts: Dictionary,
    along_is_text: bool,
}

impl Order {
    fn compare<W: Word>(&self, a: &End<W>, b: &End<W>) -> Ordering {
        let along = match self.along_is_text && a.along != b.along {
            true => text_order(self.texts.text(a.along.code()), self.texts.text(b.along.code())),
            false => a.along.cmp(&b.along),
        };
        along.then_with(|| self.ordinal(a.place).cmp(&self.ordinal(b.place)))
    }

    fn ordinal(&self, place: Place) -> Ordinal {
        self.pieces[place.piece as usize].on_by(place.row)
    }

    #[inline]
    fn take<W: Word>(&self, ends: &mut Ends<W>, row: End<W>) {
        let [first, last] = ends;
        if first.is_none() {
            *ends = [row; 2];
        } else if self.compare(&row, first).is_lt() {
            *first = row;
        } else if self.compare(&row, last).is_gt() {
            *last = row;
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
    fn new(value_is_text: bool, along_is_text: bool) -> FirstLastState {
        FirstLastState {
            held: Held::Near(Vec::new()),
            order: Order { pieces: Vec::new(), texts: Dictionary::default(), along_is_text },
            value_map: Followed::default(),
            along_map: Followed::default(),
            value_is_text,
        }
    }

    /// Goes over to 128 bits.
    fn widen(&mut self) -> (&mut Vec<Ends<i128>>, &mut Order) {
        if let Held::Near(ends) = &self.held {
            let wide = |end: End<i64>| End {
                along: end.along.into(),
                value: end.value.into(),
                place: end.place,
            };
            self.held = Held::Wide(ends.iter().map(|ends| ends.map(wide)).collect());
        }
        match &mut self.held {
            Held::Wide(ends) => (ends, &mut self.order),
            Held::Near(_) => unreachable!("it has just gone over"),
        }
    }

    fn groups(&self) -> usize {
        match &self.held {
            Held::Near(ends) => ends.len(),
            Held::Wide(ends) => ends.len(),
        }
    }

    /// The ends of some groups; `None` for those without a row.
    fn ends(&self, groups: Range<usize>) -> impl Iterator<Item = Option<Ends<i128>>> + Clone + '_ {
        groups.map(|group| {
            let ends = match &self.held {
                Held::Near(ends) => ends[group].map(|end| End {
                    along: end.along.into(),
                    value: end.value.into(),
                    place: end.place,
                }),
                Held::Wide(ends) => ends[group],
            };
            (!ends[0].is_none()).then_some(ends)
        })
    }
}

impl GroupState for FirstLastState {
    const FAMILY: &'static str = "ends";

    fn of(args: &[Kind]) -> Self {
        FirstLastState::new(args[0] == Kind::Text, args.get(1) == Some(&Kind::Text))
    }
    fn resize(&mut self, groups: usize) {
        match &mut self.held {
            Held::Near(ends) => lengthen(ends, groups, [End::NONE; 2]),
            Held::Wide(ends) => lengthen(ends, groups, [End::NONE; 2]),
        }
    }

    fn update(&mut self, rows: Rows<'_>) -> Result<(), Overflow> {
        let (value, along) = (rows.args[0], rows.args.get(1));
        self.order.texts.follow(&value.dictionary, &mut self.value_map);
        if let Some(along) = along {
            self.order.texts.follow(&along.dictionary, &mut self.along_map);
        }
        let piece = self.order.piece(rows.ordinal(0));
        let place = |row: usize| Place { piece, row: row as u32 };
        let each = rows.groups.iter().enumerate();
        if let Held::Near(ends) = &mut self.held
            && let Some(values) = words(value, &self.value_map)
            && let Some(alongs) = along.map_or(NO_WORDS, |along| words(along, &self.along_map))
        {
            let far = is_far(ends);
            for (row, &group) in each {
                if far && let Some(&soon) = rows.groups.get(row + SOON) {
                    ask_for(ends, soon as usize);
                }
                let along = alongs.get(row).copied().unwrap_or(0);
                let row = End { along, value: values[row], place: place(row) };
                if group != 0 && row.value != MISSING_I64 && row.along != MISSING_I64 {
                    self.order.take(&mut ends[group as usize], row);
                }
            }
            return Ok(());
        }
        let values = wide_words(value, &self.value_map);
        let alongs = along.map(|along| wide_words(along, &self.along_map));
        let (ends, order) = self.widen();
        for (row, &group) in each.filter(|(_, group)| **group != 0) {
            let along = alongs.as_ref().map_or(Some(0), |alongs| alongs[row]);
            if let (Some(value), Some(along)) = (values[row], along) {
                order.take(&mut ends[group as usize], End { along, value, place: place(row) });
            }
        }
        Ok(())
    }

    fn merge(&mut self, other: &Self, map: &[u32]) -> Result<(), Overflow> {
        fn each<W: Word>(
            (mine, order): (&mut [Ends<W>], &Order),
            theirs: &[Ends<W>],
            map: &[u32],
            here: impl Fn(End<W>) -> End<W>,
        ) {
            let groups = map.iter().zip(theirs);
            for (&to, ends) in groups.filter(|(to, ends)| **to != 0 && !ends[0].is_none()) {
                let (mine, [first, last]) = (&mut mine[to as usize], ends.map(&here));
                if mine[0].is_none() {
                    *mine = [first, last];
                } else {
                    order.take(mine, first);
                    order.take(mine, last);
                }
            }
        }
        let codes = self.order.texts.absorb(&other.order.texts);
        let pieces = self.order.absorb(&other.order.pieces);
        let (along_is_text, value_is_text) = (self.order.along_is_text, self.value_is_text);
        let place = |place: Place| Place { piece: pieces[place.piece as usize], ..place };
        if let (Held::Near(mine), Held::Near(theirs)) = (&mut self.held, &other.held) {
            let code =
                |word: i64, is_text| if is_text { codes[word as usize].into() } else { word };
            each((mine, &self.order), theirs, map, |end| End {
                along: code(end.along, along_is_text),
                value: code(end.value, value_is_text),
                place: place(end.place),
            });
            return Ok(());
        }
        let mut other = Cow::Borrowed(other);
        if let Held::Near(_) = other.held {
            other.to_mut().widen();
        }
        let Held::Wide(theirs) = &other.held else { return Ok(()) };
        let code = |word: i128, is_text| if is_text { codes[word as usize].into() } else { word };
        let (mine, order) = self.widen();
        each((mine, order), theirs, map, |end| End {
            along: code(end.along, along_is_text),
            value: code(end.value, value_is_text),
            place: place(end.place),
        });
        Ok(())
    }

    fn fresh(&self) -> Self {
        FirstLastState::new(self.value_is_text, self.order.along_is_text)
    }

    fn size_bytes(&self) -> usize {
        let ends = match &self.held {
            Held::Near(ends) => size_of_val(ends.as_slice()),
            Held::Wide(ends) => size_of_val(ends.as_slice()),
        };
        ends + size_of_val(self.order.pieces.as_slice()) + self.order.texts.size_bytes()
    }

    fn looks_values_up(&self) -> bool {
        self.value_is_text || self.order.along_is_text
    }

    fn encode(&self, groups: Range<u32>, to: &mut Encoder) {
        let all = || self.ends(groups.start as usize..groups.end as usize);
        let mut locals = Locals::default();
        for end in all().flatten().flatten() {
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
        for ends in all() {
            to.unsigned(u128::from(ends.is_some()));
            for end in ends.into_iter().flatten() {
                word(to, end.along, self.order.along_is_text);
                self.order.ordinal(end.place).encode(to);
                word(to, end.value, self.value_is_text);
            }
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
        let (along_is_text, value_is_text) = (self.order.along_is_text, self.value_is_text);
        let mut pieces = HashMap::new();
        for group in 1..=n {
            if from.unsigned()? == 0 {
                continue;
            }
            let mut end = |order: &mut Order| {
                let along = word(from, 1, along_is_text)?;
                let (begins, row) = Ordinal::decode(from)?.in_piece();
                let new = || {
                    order.pieces.push(begins);
                    order.pieces.len() as u32 - 1
                };
                let piece = *pieces.entry(begins).or_insert_with(new);
                let place = Place { piece, row };
                Ok(End { along, value: word(from, 0, value_is_text)?, place })
            };
            let both = [end(&mut self.order)?, end(&mut self.order)?];
            let near = |end: End<i128>| {
                let near = |word| i64::try_from(word).ok().filter(|&word| word != MISSING_I64);
                Some(End { along: near(end.along)?, value: near(end.value)?, place: end.place })
            };
            match (&mut self.held, near(both[0]).zip(near(both[1]))) {
                (Held::Near(ends), Some((first, last))) => ends[group] = [first, last],
                _ => self.widen().0[group] = both,
            }
        }
        Ok(())
    }
}

impl GroupAggregate for FirstLast {
    type State = FirstLastState;

    fn result(&self, args: &[Kind]) -> Result<Kind, ArgumentProblem> {
        Ok(args[0])
    }
    fn finish(&self, state: &FirstLastState, args: &[Kind]) -> Result<Column, Overflow> {
        let words = (state.ends(1..state.groups().max(1)))
            .map(|ends| ends.map(|ends| ends[usize::from(self.last)].value));
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
