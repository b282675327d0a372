//! What the codes of values stand for: whole numbers, or texts.

use super::super::encoding::{Damaged, Decoder, Encoder, Locals};
use super::super::extremes::{column_of, float_key};
use super::item::Item;
use oeuvre_columns::column::dictionary::{Dictionary, Followed, MISSING_CODE};
use oeuvre_columns::column::interner::Interner;
use oeuvre_columns::column::label_order;
use oeuvre_columns::column::{Column, Data, MISSING_BOOL, MISSING_I128};
use oeuvre_columns::value::{Kind, Value};

/// What the codes of values stand for.
#[derive(Clone)]
pub(crate) enum ValueCodes {
    Whole(Interner),
    /// With the codes that the texts of the column have here.
    Text(Dictionary, Followed),
}

impl ValueCodes {
    pub(crate) fn new(kind: Kind) -> ValueCodes {
        match kind {
            Kind::Text => ValueCodes::Text(Dictionary::default(), Followed::default()),
            _ => ValueCodes::Whole(Interner::default()),
        }
    }

    pub(crate) fn fresh(&self) -> ValueCodes {
        match self {
            ValueCodes::Text(..) => ValueCodes::new(Kind::Text),
            ValueCodes::Whole(_) => ValueCodes::Whole(Interner::default()),
        }
    }

    pub(crate) fn len(&self) -> usize {
        match self {
            ValueCodes::Whole(i) => i.len(),
            ValueCodes::Text(d, _) => d.len(),
        }
    }

    /// The codes of a column's values; new ones are added. Missing values have the missing code.
    pub(crate) fn codes(&mut self, column: &Column, codes: &mut Vec<u32>) {
        codes.clear();
        macro_rules! intern {
            ($values:expr, $missing:pat, $intern:expr) => {
                codes.extend($values.iter().map(|&v| match v {
                    $missing => MISSING_CODE,
                    v => $intern(v),
                }))
            };
        }
        match self {
            ValueCodes::Whole(known) => {
                match &column.data {
                    Data::I64(v) => known.intern_all(v, 0, MISSING_CODE, codes),
                    Data::I128(v) => intern!(v, MISSING_I128, |v| known.intern_wide(v)),
                    Data::I32(v) => known.intern_all(v, 0, MISSING_CODE, codes),
                    Data::Bool(v) => intern!(v, MISSING_BOOL, |v| known.intern(i64::from(v))),
                    Data::F64(v) => codes.extend(v.iter().map(|&v| {
                        if v.is_nan() { MISSING_CODE } else { known.intern(float_key(v)) }
                    })),
                    Data::Codes(_) => {}
                }
            }
            ValueCodes::Text(known, map) => {
                if let Data::Codes(v) = &column.data {
                    known.follow(&column.dictionary, map);
                    intern!(v, MISSING_CODE, |v| map[v as usize]);
                }
            }
        }
    }

    /// The code of a value of the type that these are for; a new one is added.
    pub(super) fn code(&mut self, item: Item<'_>) -> u32 {
        match (self, item) {
            (ValueCodes::Text(texts, _), Item::Text(text)) => texts.intern(text),
            (ValueCodes::Whole(known), item) => known.intern_wide(item.number()),
            (ValueCodes::Text(..), Item::Whole(_)) => MISSING_CODE,
        }
    }

    /// The codes in the order of their values.
    pub(super) fn ordered(&self) -> Vec<u32> {
        match self {
            ValueCodes::Whole(i) => i.ordered(),
            ValueCodes::Text(d, _) => label_order::ordered(d),
        }
    }

    /// About how much memory the values take.
    pub(crate) fn size_bytes(&self) -> usize {
        match self {
            ValueCodes::Whole(i) => i.size_bytes(),
            ValueCodes::Text(d, map) => d.size_bytes() + size_of_val(&**map),
        }
    }

    /// Writes some values down.
    pub(in super::super) fn encode(&self, locals: &Locals, to: &mut Encoder) {
        match self {
            ValueCodes::Whole(i) => {
                to.count(locals.codes().len());
                locals.codes().iter().for_each(|&code| to.signed(i.value(code)));
            }
            ValueCodes::Text(d, _) => to.texts(locals, d),
        }
    }

    /// Reads values that were written down: the code of each here.
    pub(in super::super) fn decode(&mut self, from: &mut Decoder<'_>) -> Result<Vec<u32>, Damaged> {
        match self {
            ValueCodes::Whole(i) => {
                (0..from.count()?).map(|_| Ok(i.intern_wide(from.value(&[0])?))).collect()
            }
            ValueCodes::Text(d, _) => from.texts(d),
        }
    }

    /// The value of a code, as one of a kind.
    pub(crate) fn value(&self, kind: Kind, code: u32) -> Value {
        match self {
            ValueCodes::Whole(i) => {
                let one = std::iter::once(Some(i.value(code)));
                column_of(kind, one).value(kind, 0)
            }
            ValueCodes::Text(d, _) => Value::Text(d.text(code).into()),
        }
    }

    /// The codes that the values of another have here; new ones are added.
    pub(crate) fn absorb(&mut self, other: &ValueCodes) -> Option<Vec<u32>> {
        match (self, other) {
            (ValueCodes::Whole(mine), ValueCodes::Whole(theirs)) => Some(mine.absorb(theirs)),
            (ValueCodes::Text(mine, _), ValueCodes::Text(theirs, _)) => Some(mine.absorb(theirs)),
            _ => None,
        }
    }
}
