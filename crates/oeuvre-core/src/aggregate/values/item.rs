//! A value as states hold it, and columns of such.

use super::super::extremes::column_of;
use oeuvre_columns::column::dictionary::{Dictionary, MISSING_CODE};
use oeuvre_columns::column::{Column, Data};
use oeuvre_columns::value::{Kind, Value, text_order};
use std::cmp::Ordering;

/// A value: the whole number that stands for it, or a text.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Item<'a> {
    Whole(i128),
    Text(&'a str),
}

impl Item<'_> {
    /// The whole number; 0 for a text.
    pub(crate) fn number(self) -> i128 {
        match self {
            Item::Whole(number) => number,
            Item::Text(_) => 0,
        }
    }

    /// Its place against another one in label order.
    pub(crate) fn order(self, other: Item<'_>) -> Ordering {
        match (self, other) {
            (Item::Text(a), Item::Text(b)) => text_order(a, b),
            (a, b) => a.number().cmp(&b.number()),
        }
    }

    /// It as a value of a kind.
    pub(crate) fn value(self, kind: Kind) -> Value {
        column_of_items(kind, std::iter::once(Some(self))).value(kind, 0)
    }
}

/// Some values as a column of the kind that they are of.
pub(crate) fn column_of_items<'a>(
    kind: Kind,
    items: impl Iterator<Item = Option<Item<'a>>> + Clone,
) -> Column {
    if kind != Kind::Text {
        return column_of(kind, items.map(|item| item.map(Item::number)));
    }
    let mut texts = Dictionary::default();
    let code = |item| match item {
        Some(Item::Text(text)) => texts.intern(text),
        _ => MISSING_CODE,
    };
    let codes = items.map(code).collect();
    Column::coded(Data::Codes(codes), texts)
}
