//! `min`, `max` and `range`: the ends of the values.
//!
//! Numbers by value, dates in time, text in label order, which is the order of lines. Missing values are left
//! out; missing where none is left. The state is two values a group, so that all three share one.
//!
//! ```
//! # use oeuvre_columns::{InMemory, Kind, Source};
//! # let rows = InMemory::from_texts(
//! #     &[("route", Kind::Text), ("fare", Kind::Number { scale: 2 })],
//! #     &[
//! #         &["SKE", "12.50"],
//! #         &["KEL", "8.00"],
//! #         &["SKE", "7.00"],
//! #         &["SKE", ""],
//! #     ],
//! # )?;
//! use oeuvre_core::{Plan, Request, run};
//!
//! // route, fare: SKE 12.50; KEL 8.00; SKE 7.00; SKE (missing)
//! let request = Request::of(&["route"], &["min(fare)", "max(fare)", "range(fare)"]);
//! let plan = Plan::new(&request, rows.columns())?;
//! let (table, _) = run(&plan, &rows, 1)?;
//! assert_eq!(table.cell(1, 0).to_string(), "7.00");
//! assert_eq!(table.cell(1, 1).to_string(), "12.50");
//! assert_eq!(table.cell(1, 2).to_string(), "5.50");
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

use super::encoding::{Damaged, Decoder, Encoder, Locals};
use super::{
    Additivity, ArgumentProblem, GroupAggregate, GroupState, Overflow, Rows, finite, number,
    whole_column,
};
use oeuvre_columns::column::dictionary::{Dictionary, Followed, MISSING_CODE};
use oeuvre_columns::column::{Column, Data, MISSING_BOOL, MISSING_I32, MISSING_I64, MISSING_I128};
use oeuvre_columns::room::lengthen;
use oeuvre_columns::value::{Kind, text_order};
use std::cmp::Ordering;

/// The smallest or the largest value present: numbers by value, dates in time, text in label order. Missing
/// when there are none.
#[derive(PartialEq, Eq, Hash)]
pub struct Extreme {
    /// The largest.
    pub largest: bool,
}
/// The largest less the smallest; for dates the days between them.
#[derive(PartialEq, Eq, Hash)]
pub struct Range;

/// A whole number that sorts as a binary64 does.
pub(crate) fn float_key(value: f64) -> i64 {
    let bits = (value + 0.0).to_bits() as i64; // -0 becomes 0
    bits ^ (((bits >> 63) as u64) >> 1) as i64
}

/// The binary64 of a [`float_key`].
pub(crate) fn float_from_key(key: i64) -> f64 {
    f64::from_bits((key ^ (((key >> 63) as u64) >> 1) as i64) as u64)
}

/// The smallest and the largest value of each group.
#[derive(Clone)]
pub(crate) enum Extremes {
    /// Anything that sorts as a whole number, while all of them fit 64 bits: half as much memory to look up. Empty groups
    /// have the smallest above the largest.
    Near(Vec<(i64, i64)>),
    /// As these, in 128 bits.
    Whole(Vec<(i128, i128)>),
    /// Codes of an own dictionary.
    Text { found: Vec<(u32, u32)>, texts: Dictionary, map: Followed },
}

const NONE_NEAR: (i64, i64) = (i64::MAX, i64::MIN);
const NONE: (i128, i128) = (i128::MAX, i128::MIN);
const NO_TEXT: (u32, u32) = (MISSING_CODE, MISSING_CODE);

impl Extremes {
    fn text() -> Extremes {
        Extremes::Text { found: Vec::new(), texts: Dictionary::default(), map: Followed::default() }
    }

    /// Goes over to 128 bits.
    fn widen(&mut self) {
        if let Extremes::Near(ends) = self {
            *self = Extremes::Whole(ends.iter().map(|&ends| wide(ends)).collect());
        }
    }

    /// The ends of the groups; of texts none.
    fn whole(&self) -> impl Iterator<Item = (i128, i128)> + Clone + '_ {
        let (near, whole) = match self {
            Extremes::Near(near) => (&near[..], &[][..]),
            Extremes::Whole(whole) => (&[][..], &whole[..]),
            Extremes::Text { .. } => (&[][..], &[][..]),
        };
        near.iter().map(|&ends| wide(ends)).chain(whole.iter().copied())
    }

    fn take_texts(found: &mut [(u32, u32)], texts: &Dictionary, group: u32, code: u32) {
        let it = &mut found[group as usize];
        let order = |a: u32, b: u32| text_order(texts.text(a), texts.text(b));
        if it.0 == MISSING_CODE || (it.0 != code && order(code, it.0) == Ordering::Less) {
            it.0 = code;
        }
        if it.1 == MISSING_CODE || (it.1 != code && order(code, it.1) == Ordering::Greater) {
            it.1 = code;
        }
    }
}

/// The number that stands for a value; none of a missing one, and of a text.
pub(super) fn whole_at(values: &Data, row: usize) -> Option<i128> {
    let word = match values {
        Data::I64(v) => v[row].into(),
        Data::I128(v) => v[row],
        Data::I32(v) => v[row].into(),
        Data::Bool(v) => v[row].into(),
        Data::F64(v) => float_key(v[row]).into(),
        Data::Codes(_) => return None,
    };
    (!values.is_missing(row)).then_some(word)
}

fn wide((low, high): (i64, i64)) -> (i128, i128) {
    if low > high { NONE } else { (low.into(), high.into()) }
}

impl GroupState for Extremes {
    const FAMILY: &'static str = "extremes";

    fn of(args: &[Kind]) -> Self {
        match args[0] {
            Kind::Text => Extremes::text(),
            _ => Extremes::Near(Vec::new()),
        }
    }
    fn resize(&mut self, groups: usize) {
        match self {
            Extremes::Near(s) => lengthen(s, groups, NONE_NEAR),
            Extremes::Whole(s) => lengthen(s, groups, NONE),
            Extremes::Text { found, .. } => lengthen(found, groups, NO_TEXT),
        }
    }

    fn update(&mut self, rows: Rows<'_>) -> Result<(), Overflow> {
        let column = rows.args[0];
        if let Data::I128(v) = &column.data
            && v.iter().any(|&v| v != MISSING_I128 && i64::try_from(v).is_err())
        {
            self.widen();
        }
        match self {
            Extremes::Near(states) => {
                macro_rules! take {
                    ($values:expr, $missing:expr, $key:expr) => {
                        for (&g, &v) in rows.groups.iter().zip($values) {
                            let state = &mut states[g as usize];
                            // A missing value changes neither end.
                            let (is_missing, v) = ($missing(v), $key(v));
                            state.0 = state.0.min(if is_missing { i64::MAX } else { v });
                            state.1 = state.1.max(if is_missing { i64::MIN } else { v });
                        }
                    };
                }
                match &column.data {
                    Data::I64(v) => take!(v, |v| v == MISSING_I64, |v: i64| v),
                    Data::I128(v) => take!(v, |v| v == MISSING_I128, |v: i128| v as i64),
                    Data::I32(v) => take!(v, |v| v == MISSING_I32, i64::from),
                    Data::Bool(v) => take!(v, |v| v == MISSING_BOOL, i64::from),
                    Data::F64(v) => take!(v, f64::is_nan, float_key),
                    Data::Codes(_) => {}
                }
            }
            Extremes::Whole(states) => {
                for (row, &g) in rows.groups.iter().enumerate() {
                    if let Some(v) = whole_at(&column.data, row) {
                        let state = &mut states[g as usize];
                        *state = (state.0.min(v), state.1.max(v));
                    }
                }
            }
            Extremes::Text { found, texts, map } => {
                let Data::Codes(codes) = &column.data else { return Ok(()) };
                texts.follow(&column.dictionary, map);
                for (&g, &code) in
                    rows.groups.iter().zip(codes).filter(|(_, c)| **c != MISSING_CODE)
                {
                    Self::take_texts(found, texts, g, map[code as usize]);
                }
            }
        }
        Ok(())
    }

    fn merge(&mut self, other: &Self, map: &[u32]) -> Result<(), Overflow> {
        if let Extremes::Whole(_) = other {
            self.widen();
        }
        match (self, other) {
            (Extremes::Near(mine), Extremes::Near(theirs)) => {
                for (&to, from) in map.iter().zip(theirs) {
                    let mine = &mut mine[to as usize];
                    *mine = (mine.0.min(from.0), mine.1.max(from.1));
                }
            }
            (Extremes::Whole(mine), theirs) => {
                for (&to, from) in map.iter().zip(theirs.whole()) {
                    let mine = &mut mine[to as usize];
                    *mine = (mine.0.min(from.0), mine.1.max(from.1));
                }
            }
            (Extremes::Text { found, texts, .. }, Extremes::Text { found: f, texts: t, .. }) => {
                let codes = texts.absorb(t);
                for (&to, from) in map.iter().zip(f).filter(|(_, f)| **f != NO_TEXT) {
                    Self::take_texts(found, texts, to, codes[from.0 as usize]);
                    Self::take_texts(found, texts, to, codes[from.1 as usize]);
                }
            }
            _ => {}
        }
        Ok(())
    }

    fn fresh(&self) -> Self {
        match self {
            Extremes::Near(_) | Extremes::Whole(_) => Extremes::Near(Vec::new()),
            Extremes::Text { .. } => Extremes::text(),
        }
    }

    fn size_bytes(&self) -> usize {
        match self {
            Extremes::Near(s) => size_of_val(s.as_slice()),
            Extremes::Whole(s) => size_of_val(s.as_slice()),
            Extremes::Text { found, texts, map } => {
                size_of_val(found.as_slice()) + texts.size_bytes() + size_of_val(&**map)
            }
        }
    }

    fn looks_values_up(&self) -> bool {
        matches!(self, Extremes::Text { .. })
    }

    fn encode(&self, groups: std::ops::Range<u32>, to: &mut Encoder) {
        to.count(groups.len());
        let groups = groups.start as usize..groups.end as usize;
        match self {
            Extremes::Near(_) | Extremes::Whole(_) => {
                for (low, high) in self.whole().skip(groups.start).take(groups.len()) {
                    to.signed(low);
                    to.signed(high);
                }
            }
            Extremes::Text { found, texts, .. } => {
                let mut locals = Locals::default();
                // 0 where there is none.
                let mut local = |code| match code {
                    MISSING_CODE => 0,
                    code => locals.of(code) + 1,
                };
                let codes: Vec<[u32; 2]> =
                    found[groups].iter().map(|&(low, high)| [local(low), local(high)]).collect();
                to.texts(&locals, texts);
                codes.iter().flatten().for_each(|&code| to.unsigned(u128::from(code)));
            }
        }
    }

    fn decode(&mut self, from: &mut Decoder<'_>) -> Result<(), Damaged> {
        let n = from.groups()?;
        GroupState::resize(self, n + 1);
        if !matches!(self, Extremes::Text { .. }) {
            for group in 1..=n {
                let ends = (from.signed()?, from.signed()?);
                // That there is none is said by numbers that are not multiplied.
                if ends.0 > ends.1 {
                    continue;
                }
                let scaled = |value: i128| value.checked_mul(from.factor(0));
                let ends = scaled(ends.0).zip(scaled(ends.1)).ok_or(Damaged)?;
                let near = i64::try_from(ends.0).ok().zip(i64::try_from(ends.1).ok());
                if near.is_none() {
                    self.widen();
                }
                match (&mut *self, near) {
                    (Extremes::Near(s), Some(near)) => s[group] = near,
                    (Extremes::Whole(s), _) => s[group] = ends,
                    _ => {}
                }
            }
            return Ok(());
        }
        match self {
            Extremes::Near(_) | Extremes::Whole(_) => {}
            Extremes::Text { found, texts, .. } => {
                let codes = from.texts(texts)?;
                let mut code = || match from.code(codes.len() + 1)? {
                    0 => Ok(MISSING_CODE),
                    local => Ok(codes[local as usize - 1]),
                };
                for it in &mut found[1..] {
                    *it = (code()?, code()?);
                }
            }
        }
        Ok(())
    }
}

/// A column of a kind from whole numbers that stand for its values.
pub(crate) fn column_of(kind: Kind, values: impl Iterator<Item = Option<i128>> + Clone) -> Column {
    match kind {
        Kind::Number { .. } | Kind::DateTime | Kind::Nothing => whole_column(values),
        Kind::Float => Column::from(Data::F64(
            values.map(|v| v.map_or(f64::NAN, |v| float_from_key(v as i64))).collect(),
        )),
        Kind::Boolean => {
            Column::from(Data::Bool(values.map(|v| v.map_or(MISSING_BOOL, |v| v as u8)).collect()))
        }
        _ => Column::from(Data::I32(values.map(|v| v.map_or(MISSING_I32, |v| v as i32)).collect())),
    }
}

fn finish(state: &Extremes, kind: Kind, largest: bool) -> Column {
    match state {
        Extremes::Near(_) | Extremes::Whole(_) => {
            let end = |(low, high)| (low <= high).then_some(if largest { high } else { low });
            column_of(kind, state.whole().skip(1).map(end))
        }
        Extremes::Text { found, texts, .. } => {
            let codes = found.iter().skip(1).map(|f| if largest { f.1 } else { f.0 });
            Column::coded(Data::Codes(codes.collect()), texts.clone())
        }
    }
}

impl GroupAggregate for Extreme {
    type State = Extremes;

    fn result(&self, args: &[Kind]) -> Result<Kind, ArgumentProblem> {
        Ok(args[0])
    }
    fn finish(&self, state: &Extremes, args: &[Kind]) -> Result<Column, Overflow> {
        Ok(finish(state, args[0], self.largest))
    }
    fn additivity(&self) -> Additivity {
        Additivity::Note(match self.largest {
            true => "the largest value of all rows, not a sum of the lines",
            false => "the smallest value of all rows, not a sum of the lines",
        })
    }
}

impl GroupAggregate for Range {
    type State = Extremes;

    fn result(&self, args: &[Kind]) -> Result<Kind, ArgumentProblem> {
        match args[0] {
            Kind::Date => Ok(Kind::Number { scale: 0 }),
            _ => number(args, 0),
        }
    }
    fn finish(&self, state: &Extremes, args: &[Kind]) -> Result<Column, Overflow> {
        if let Extremes::Text { .. } = state {
            return Err(Overflow::Digits);
        }
        let ends = state.whole().skip(1);
        if args[0] == Kind::Float {
            let range = |(low, high): (i128, i128)| {
                if low > high {
                    return Ok(f64::NAN);
                }
                finite(float_from_key(high as i64) - float_from_key(low as i64))
            };
            let ranges: Result<Vec<f64>, Overflow> = ends.map(range).collect();
            return Ok(Column::from(Data::F64(ranges?)));
        }
        let is_wide = |(low, high): (i128, i128)| low <= high && high.checked_sub(low).is_none();
        if ends.clone().any(is_wide) {
            return Err(Overflow::Digits);
        }
        Ok(whole_column(ends.map(|(low, high)| (low <= high).then(|| high - low))))
    }
    fn additivity(&self) -> Additivity {
        Additivity::Note("the range of all rows, not a sum of the lines")
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{rows, value};
    use proptest::prelude::*;
    use rstest::rstest;

    proptest! {
        #[test]
        fn keys_of_binary64_sort_as_they_do(a in any::<f64>(), b in any::<f64>()) {
            prop_assume!(!a.is_nan() && !b.is_nan());
            prop_assert_eq!(float_key(a).cmp(&float_key(b)), a.partial_cmp(&b).unwrap());
            prop_assert_eq!(float_from_key(float_key(a)), a);
        }
    }

    #[rstest]
    #[case("x:2", "1.50||-2", "min(x)", "-2.00")]
    #[case("x:2", "1.50||-2", "range(x)", "3.50")]
    #[case("x:float", "0.5|-1e300", "max(x)", "0.5")]
    #[case("x:float", "0.5|0.25", "range(x)", "0.25")]
    #[case("x:date", "2025-03-01|2025-02-27", "range(x)", "2")]
    // In label order case counts only where nothing else does.
    #[case("x", "b|A|a", "min(x)", "A")]
    #[case("x", "b|A|B", "max(x)", "b")]
    #[case("x:bool", "true|false", "min(x)", "false")]
    #[case("x:2", "|", "max(x)", "-")]
    #[case(
        "x:0",
        "99999999999999999999999999999999999999|1",
        "max(x)",
        "99999999999999999999999999999999999999"
    )]
    fn the_ends_of_the_values(
        #[case] column: &str,
        #[case] values: &str,
        #[case] calc: &str,
        #[case] expected: &str,
    ) {
        // A second column, so that a missing value is a row all the same.
        let lines: Vec<String> = values.split('|').map(|v| format!("{v}|k")).collect();
        let rows = rows(&format!("{column} k\n{}", lines.join("\n")));
        assert_eq!(value(&rows, calc), expected);
    }
}
