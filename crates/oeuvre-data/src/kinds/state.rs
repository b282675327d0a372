//! One column of texts, as far as its values have shown what it is.

use super::values::{self, DateWays, Orders, Shape};
use crate::options::{Forced, Zone};
use oeuvre_columns::DataProblem;
use oeuvre_columns::value::calendar;
use oeuvre_columns::value::decimal::MAX_DIGITS;
use oeuvre_columns::value::pattern::DatePattern;
use std::borrow::Cow;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

/// A column of texts, as far as its values have shown what it is.
#[derive(Clone)]
pub(crate) struct ColumnState {
    /// Its heading.
    pub(crate) name: String,
    /// What it holds; the orders of its dates are those of each file.
    pub(crate) shape: Shape,
    /// What it was asked to hold with `--kind`.
    pub(crate) forced: Option<Forced>,
    /// Texts that stand for no value; most columns share them.
    pub(crate) missing: Arc<Vec<String>>,
    /// How each file writes it.
    pub(super) files: Vec<Ways>,
    /// Why the column is not what most of its values look like.
    pub(super) reason: Option<DataProblem>,
    /// Whether a number was met that has more digits than its binary64.
    pub(super) rounded: Arc<AtomicBool>,
}

/// How one file writes the values of a column.
#[derive(Clone)]
pub(super) struct Ways {
    /// The decimal sign.
    pub(super) decimal: char,
    /// The value that shows that it is not that of the file.
    pub(super) other_sign: Option<DataProblem>,
    /// The orders in which its dates can be read.
    pub(super) orders: Orders,
    /// The pattern of its dates, where it was said.
    pub(super) pattern: Option<Arc<DatePattern>>,
    /// A date that can be read two ways, as long as both are possible.
    pub(super) ambiguous: Option<String>,
    /// A number with three digits behind its only sign.
    pub(super) three_digits: Option<DataProblem>,
    /// Whether another number has shown which sign that is.
    pub(super) settled: Arc<AtomicBool>,
}

/// What a look at some values has found.
pub(super) enum Guess {
    /// The first value that is a number by the other decimal sign alone.
    OtherSign(usize, String),
    /// The shape is set.
    Done {
        /// The first of few values that most others are unlike; of binary64 numbers the one that made them that.
        odd: Option<(usize, String)>,
        /// A number that can be read two ways, where none shows which is meant.
        three_digits: Option<(usize, String)>,
    },
}

/// So many values are looked at of a column that is known to be text.
const LOOK_AT_TEXTS: usize = 100;

impl ColumnState {
    /// Widens the shape by some values of a file.
    pub(super) fn guess_once<'t>(
        &mut self,
        file: usize,
        (pattern, zone): (Option<&DatePattern>, &Zone),
        texts: impl Iterator<Item = (usize, Cow<'t, str>)>,
    ) -> Guess {
        // Numbers, truths, dates and texts: how many, and the first that is none.
        let mut counts = [0usize; 4];
        let mut first_other: [Option<(usize, String)>; 4] = Default::default();
        let mut first_float = None;
        // A number that reads two ways; whether one with a sign, and one without, shows which way.
        let (mut three_digits, mut settled) = (None, [false; 2]);
        let ways = &mut self.files[file];
        for (at, text) in texts {
            if self.shape == Shape::Text && counts.iter().sum::<usize>() > LOOK_AT_TEXTS {
                break;
            }
            let trimmed = text.trim();
            if trimmed.is_empty() || self.missing.iter().any(|m| m == trimmed) {
                continue;
            }
            let numeric = matches!(self.shape, Shape::Unknown | Shape::Number(_) | Shape::Float);
            if numeric && ways.other_sign.is_none() && values::is_of_other_sign(&text, ways.decimal)
            {
                return Guess::OtherSign(at, trimmed.to_owned());
            }
            let dates = DateWays { orders: ways.orders, pattern, zone };
            let found = values::shape_of(&text, ways.decimal, dates);
            let is_number = matches!(found, Shape::Number(_) | Shape::Float);
            if self.forced.is_some() && !is_number {
                continue;
            }
            if is_number {
                if values::reads_two_ways(trimmed) {
                    three_digits.get_or_insert_with(|| (at, trimmed.to_owned()));
                } else {
                    settled[usize::from(!values::settles(trimmed, false))] = true;
                }
            }
            let class = match found {
                Shape::Number(_) | Shape::Float | Shape::Unknown => 0,
                Shape::Boolean => 1,
                Shape::Date(_) | Shape::DateTime => 2,
                Shape::Text => 3,
            };
            counts[class] += 1;
            for (other, first) in first_other.iter_mut().enumerate() {
                if other != class && first.is_none() {
                    *first = Some((at, trimmed.to_owned()));
                }
            }
            if let Shape::Date(o) = found {
                if o.is_open() && o != Orders::ALL {
                    // ISO dates leave all three orders open, and harm nobody.
                    ways.ambiguous.get_or_insert_with(|| trimmed.to_owned());
                }
                ways.orders = o;
            }
            let shape = self.shape.join(forget_orders(found));
            if shape == Shape::Float && shape != self.shape {
                first_float = Some((at, trimmed.to_owned()));
            }
            self.shape = shape;
        }
        let all: usize = counts.iter().sum();
        let most = counts.iter().enumerate().max_by_key(|c| c.1).map_or(3, |c| c.0);
        let few = self.shape == Shape::Text && most != 3 && counts[most] * 10 >= all * 9;
        Guess::Done {
            odd: match self.shape {
                Shape::Float => first_float,
                _ => first_other[most].take().filter(|_| few),
            },
            three_digits: three_digits.filter(|(_, text): &(usize, String)| {
                !settled[0] && (!settled[1] || text.contains(self.files[file].decimal))
            }),
        }
    }

    /// Sets the shape that a value of a file has shown.
    pub(super) fn widen(&mut self, file: usize, shape: Shape, reason: DataProblem) {
        let ways = &mut self.files[file];
        if let Shape::Date(orders) = shape {
            ways.orders = orders;
            let text = reason.message.trim_matches('\'').trim();
            if calendar::parse_date(text).is_none()
                && values::parse_any_date(text).is_some_and(|(o, _)| o != Orders::ALL)
            {
                ways.ambiguous.get_or_insert(text.to_owned());
            }
        }
        let shape = forget_orders(shape);
        // A number by the one sign after one by the other: the first of them is to blame.
        let turned = ways.other_sign.clone().filter(|_| shape == Shape::Text);
        if shape != self.shape {
            self.reason = Some(turned.unwrap_or(reason));
        }
        self.shape = shape;
    }

    /// Takes the other decimal sign for the column's in a file, whose values are looked at anew.
    pub(super) fn turn_sign(&mut self, file: usize, shown_by: DataProblem) {
        let ways = &mut self.files[file];
        ways.decimal = values::other_sign(ways.decimal);
        ways.other_sign = Some(shown_by);
    }

    /// What readers should be told of numbers that have too many digits.
    pub(super) fn digits(&self) -> Option<String> {
        let reason = self.reason.as_ref().filter(|_| self.shape == Shape::Float)?;
        let text = reason.message.trim_matches('\'');
        let has_exponent = text.contains(['e', 'E']);
        if has_exponent && !self.rounded.load(Ordering::Relaxed) {
            return None;
        }
        let digits = text.bytes().filter(u8::is_ascii_digit).count();
        let because = match has_exponent {
            true => {
                "has an exponent, and numbers with more digits are rounded; written out it would leave all exact"
            }
            false if digits > usize::from(MAX_DIGITS) => "needs more than 38",
            false => "and others together need more than 38",
        };
        let place = reason.place();
        Some(format!(
            "{} is calculated in binary64, with 15 to 17 digits: {text} on {place} {because}",
            self.name
        ))
    }
}

/// A shape without the orders of dates, which are those of a file.
fn forget_orders(shape: Shape) -> Shape {
    if let Shape::Date(_) = shape { Shape::Date(Orders::ALL) } else { shape }
}
