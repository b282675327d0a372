//! Single values and the kinds they have.
//!
//! A [`Kind`] is what a column or a calculation holds, known before any row is read; a [`Value`] is one of
//! them, outside the batches: a constant, a label, a cell on its way to a renderer. Rows by the million are
//! held in [`crate::column`] instead, since a `Value` takes 32 bytes and a branch each time it is looked at.
//!
//! If you add a kind: say how a column holds it (`Data::empty`, `Column::value`, `Column::push`), how it sorts
//! ([`Value::label_order`]) and prints (`Display`), and what the language calls it ([`Kind::describe`]).
//!
//! ```
//! use oeuvre_columns::Value;
//!
//! let mut labels: Vec<Value> = ["oslo", "Bergen", "bergen"].map(|t| Value::Text(t.into())).into();
//! labels.push(Value::Missing);
//! labels.sort_by(Value::label_order);
//! let read: Vec<String> = labels.iter().map(Value::to_string).collect();
//! assert_eq!(read, ["Bergen", "bergen", "oslo", ""]); // what is missing comes last
//! ```

pub mod calendar;
mod comparison;
pub mod decimal;
pub mod exact;
pub mod pattern;

use calendar::{Part, Period, Unit};
pub use comparison::Comparison;
use decimal::Decimal;
use std::cmp::Ordering;
use std::fmt;
use std::hash::{Hash, Hasher};
use std::sync::{Arc, PoisonError, RwLock};

/// A result that cannot be held.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Overflow {
    /// An exact number of more than 38 digits.
    Digits,
    /// A number beyond binary64.
    Binary,
    /// A date or a period outside the years 1 to 9999.
    Calendar,
    /// More values than a cell lists.
    Listed,
}

/// What a column or a calculation holds, known before any row is read.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Kind {
    /// Exact decimals with this many digits after the point.
    Number {
        /// Digits after the point.
        scale: u8,
    },
    /// Binary64 numbers: quotients, means, roots, and data with exponents.
    Float,
    /// Unicode text.
    Text,
    /// True or false.
    Boolean,
    /// Calendar dates.
    Date,
    /// Wall-clock times on calendar dates.
    DateTime,
    /// Periods of one unit.
    Period(Unit),
    /// Parts of the calendar that come again.
    Part(Part),
    /// Ranges of numbers.
    Band(BandsId),
    /// The row of a lookup, by its number; never shown.
    RowNumber,
    /// No value at all: fits every kind, and counts as a number where it is added up.
    Nothing,
}

/// Ranges of numbers, each with its lower bound and without its upper one.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Bands {
    /// Ranges of one width, one of them starting at 0.
    Width(BandBound),
    /// Ranges between bounds in ascending order, and one beyond each end.
    Bounds(Vec<BandBound>),
}

/// Ranges by a number: kinds are copied everywhere, and so they hold this. Equal ranges have the same.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct BandsId(u32);

/// All ranges that were asked for: a few, each once.
static ALL_BANDS: RwLock<Vec<Arc<Bands>>> = RwLock::new(Vec::new());

impl BandsId {
    /// The number of some ranges: a new one unless equal ranges have one.
    pub fn of(bands: Bands) -> BandsId {
        let mut all = ALL_BANDS.write().unwrap_or_else(PoisonError::into_inner);
        let at = all.iter().position(|known| **known == bands).unwrap_or_else(|| {
            all.push(Arc::new(bands));
            all.len() - 1
        });
        BandsId(at as u32)
    }

    /// The ranges that it stands for.
    pub fn bands(self) -> Arc<Bands> {
        ALL_BANDS.read().unwrap_or_else(PoisonError::into_inner)[self.0 as usize].clone()
    }
}

/// A bound of a range: a decimal with its digits as written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct BandBound {
    /// The number without its point.
    pub mantissa: i128,
    /// How many of its digits stand after the point.
    pub scale: u8,
}

impl BandBound {
    fn decimal(self) -> Decimal {
        Decimal::new(self.mantissa, self.scale)
    }
}

impl Bands {
    /// The place of the range that a number lies in, from 0 where there are bounds; `None` for what is no number,
    /// and for a range so far out that its place does not fit.
    pub fn of(&self, value: &Value) -> Option<i32> {
        match (self, value) {
            (Bands::Width(width), Value::Number(x)) => {
                let width = width.decimal();
                let scale = width.scale.max(x.scale);
                let (x, w) = (x.rescale(scale)?.mantissa, width.rescale(scale)?.mantissa);
                i32::try_from(x.div_euclid(w)).ok()
            }
            (Bands::Width(width), Value::Float(x)) => {
                let place = (x / exact::decimal_to_f64(width.decimal())).floor();
                (place.abs() < 1e9).then_some(place as i32)
            }
            (Bands::Bounds(bounds), value) => {
                let below = |b: &BandBound| Value::Number(b.decimal()).label_order(value).is_le();
                Some(bounds.partition_point(below) as i32)
            }
            _ => None,
        }
    }

    /// The range at a place in words, as in `10 to under 20`.
    pub fn label(&self, place: i32) -> String {
        match self {
            Bands::Width(width) => {
                let at = |i: i32| Decimal::new(width.mantissa * i128::from(i), width.scale);
                format!("{} to under {}", at(place), at(place + 1))
            }
            Bands::Bounds(bounds) => {
                let at = |i: usize| bounds[i].decimal();
                match place as usize {
                    0 => format!("under {}", at(0)),
                    i if i >= bounds.len() => format!("{} and over", at(bounds.len() - 1)),
                    i => format!("{} to under {}", at(i - 1), at(i)),
                }
            }
        }
    }
}

impl Kind {
    /// Whether it can be added up. What has no value at all can: it is a number of none.
    pub const fn is_number(self) -> bool {
        matches!(self, Kind::Number { .. } | Kind::Float | Kind::Nothing)
    }

    /// The kind in a reader's words with its article, for messages: `a number`, `text`, `a month`.
    pub const fn describe(self) -> &'static str {
        match self {
            Kind::Number { .. } | Kind::Float => "a number",
            Kind::Text => "text",
            Kind::Boolean => "a condition",
            Kind::Date => "a date",
            Kind::DateTime => "a date with a time",
            Kind::Period(Unit::Day) => "a day",
            Kind::Period(Unit::Week) => "a week",
            Kind::Period(Unit::Month) => "a month",
            Kind::Period(Unit::Quarter) => "a quarter",
            Kind::Period(Unit::Half) => "a half-year",
            Kind::Period(Unit::Year) => "a year",
            Kind::Period(Unit::FiscalQuarter(_)) => "a quarter of a fiscal year",
            Kind::Period(Unit::FiscalYear(_)) => "a fiscal year",
            Kind::Band(_) => "a range",
            Kind::RowNumber => "a row of a lookup",
            Kind::Nothing => "without any value",
            Kind::Part(Part::Weekday) => "a weekday",
            Kind::Part(Part::MonthName) => "a month of the year",
            Kind::Part(Part::QuarterName) => "a quarter of the year",
        }
    }
}

/// One value, outside the batches: a constant, a label, a cell on its way to a renderer.
#[derive(Clone, Debug, PartialEq)]
pub enum Value {
    /// No value.
    Missing,
    /// An exact number.
    Number(Decimal),
    /// A binary64 number; never infinite or not-a-number.
    Float(f64),
    /// Text.
    Text(Arc<str>),
    /// True or false.
    Boolean(bool),
    /// Days since 1970-01-01.
    Date(i32),
    /// Microseconds since 1970-01-01T00:00.
    DateTime(i64),
    /// A period.
    Period(Period),
    /// A part of the calendar, with its place.
    Part(Part, i32),
    /// A range, with its place.
    Band(BandsId, i32),
}

// A binary64 value is never not-a-number.
impl Eq for Value {}

impl Hash for Value {
    fn hash<H: Hasher>(&self, state: &mut H) {
        std::mem::discriminant(self).hash(state);
        match self {
            Value::Missing => {}
            Value::Number(n) => n.hash(state),
            // Both zeros are equal.
            Value::Float(f) => (f + 0.0).to_bits().hash(state),
            Value::Text(t) => t.hash(state),
            Value::Boolean(b) => b.hash(state),
            Value::Date(d) => d.hash(state),
            Value::DateTime(t) => t.hash(state),
            Value::Period(p) => p.hash(state),
            Value::Part(part, i) => (part, i).hash(state),
            Value::Band(bands, i) => (bands, i).hash(state),
        }
    }
}

impl Value {
    /// Whether there is no value.
    pub const fn is_missing(&self) -> bool {
        matches!(self, Value::Missing)
    }

    /// The order of labels on the lines of a table: numbers by value, text with case folded first
    /// and as written where that leaves a tie, time in time, missing last.
    pub fn label_order(&self, other: &Value) -> Ordering {
        use Value::*;
        match (self, other) {
            (Missing, Missing) => Ordering::Equal,
            (Missing, _) => Ordering::Greater,
            (_, Missing) => Ordering::Less,
            (Text(a), Text(b)) => text_order(a, b),
            (Number(a), Number(b)) => a.cmp(b),
            (Float(a), Float(b)) => a.total_cmp(b),
            (Number(a), Float(b)) => exact::decimal_to_f64(*a).total_cmp(b),
            (Float(a), Number(b)) => a.total_cmp(&exact::decimal_to_f64(*b)),
            (Boolean(a), Boolean(b)) => a.cmp(b),
            (Date(a), Date(b)) => a.cmp(b),
            (DateTime(a), DateTime(b)) => a.cmp(b),
            (Period(a), Period(b)) => a.cmp(b),
            (Part(a, x), Part(b, y)) => (a, x).cmp(&(b, y)),
            (Band(_, x), Band(_, y)) => x.cmp(y),
            _ => self.rank().cmp(&other.rank()),
        }
    }

    fn rank(&self) -> u8 {
        match self {
            Value::Boolean(_) => 0,
            Value::Number(_) | Value::Float(_) => 1,
            Value::Date(_) => 2,
            Value::DateTime(_) => 3,
            Value::Period(_) => 4,
            Value::Part(..) | Value::Band(..) => 5,
            Value::Text(_) => 6,
            Value::Missing => 7,
        }
    }
}

/// The one order of texts: case folded (Unicode's full folding), then by code point.
pub fn text_order(a: &str, b: &str) -> Ordering {
    if a.is_ascii() && b.is_ascii() {
        let lower = |b: u8| b.to_ascii_lowercase();
        return a.bytes().map(lower).cmp(b.bytes().map(lower)).then_with(|| a.cmp(b));
    }
    unicase::UniCase::unicode(a).cmp(&unicase::UniCase::unicode(b)).then_with(|| a.cmp(b))
}

/// The shortest text that reads back as the same binary64, without an exponent from 10^-9 to 10^17, the sizes
/// that people meet. What is not finite reads as `NaN` or `inf`.
pub fn float_text(value: f64) -> String {
    let magnitude = value.abs();
    if value != 0.0 && !(1e-9..1e17).contains(&magnitude) {
        format!("{value:e}")
    } else {
        format!("{value}")
    }
}

impl fmt::Display for Value {
    /// The raw value at full precision: what CSV and JSON carry. Missing prints as nothing.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Value::Missing => Ok(()),
            Value::Number(d) => write!(f, "{d}"),
            Value::Float(v) => f.write_str(&float_text(*v)),
            Value::Text(t) => f.write_str(t),
            Value::Boolean(b) => write!(f, "{b}"),
            Value::Date(d) => f.write_str(&calendar::date_text(*d)),
            Value::DateTime(t) => f.write_str(&calendar::datetime_text(*t)),
            Value::Period(p) => write!(f, "{p}"),
            Value::Band(bands, i) => f.write_str(&bands.bands().label(*i)),
            Value::Part(part, i) => {
                f.write_str(part.labels().get(*i as usize).copied().unwrap_or(""))
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn any_value() -> impl Strategy<Value = Value> {
        prop_oneof![
            Just(Value::Missing),
            (-50i128..50, 0u8..3).prop_map(|(n, scale)| Value::Number(Decimal::new(n, scale))),
            (-5.0f64..5.0).prop_map(Value::Float),
            "[aAbBäß]{0,2}".prop_map(|t| Value::Text(t.as_str().into())),
            any::<bool>().prop_map(Value::Boolean),
            (-3i32..3).prop_map(Value::Date),
            (-3i64..3).prop_map(Value::DateTime),
            (-3i32..3).prop_map(|index| Value::Period(Period { unit: Unit::Month, index })),
            (0i32..4).prop_map(|i| Value::Part(Part::QuarterName, i)),
        ]
    }

    proptest! {
        /// What sorting relies on, whatever stands in a column.
        #[test]
        fn the_order_of_labels_is_total(a in any_value(), b in any_value(), c in any_value()) {
            prop_assert_eq!(a.label_order(&b), b.label_order(&a).reverse());
            prop_assert_eq!(a.label_order(&a), Ordering::Equal);
            if a.label_order(&b).is_le() && b.label_order(&c).is_le() {
                prop_assert!(a.label_order(&c).is_le(), "{a:?} {b:?} {c:?}");
            }
            prop_assert!(a.is_missing() || a.label_order(&Value::Missing).is_lt());
            if a == b {
                use std::hash::BuildHasher;
                let hasher = std::hash::RandomState::new();
                prop_assert_eq!(hasher.hash_one(&a), hasher.hash_one(&b));
            }
        }

        #[test]
        fn a_number_lies_in_the_range_that_names_it(n in -500i128..500, width in 1i128..40) {
            let bands = Bands::Width(BandBound { mantissa: width, scale: 1 });
            let value = Decimal::new(n, 1);
            let place = bands.of(&Value::Number(value)).unwrap();
            let label = bands.label(place);
            let (low, high) = label.split_once(" to under ").unwrap();
            let bound = |text: &str| text.parse::<Decimal>().unwrap();
            prop_assert!(bound(low) <= value && value < bound(high), "{value} in {label}");
            prop_assert_eq!(bands.of(&Value::Float(n as f64 / 10.0)).is_some(), true);
        }

        #[test]
        fn a_binary64_reads_back_as_itself(value in any::<f64>()) {
            prop_assume!(value.is_finite());
            prop_assert_eq!(float_text(value).parse::<f64>().unwrap().to_bits(), value.to_bits());
        }
    }

    #[rstest]
    #[case(0.1, "0.1")]
    #[case(-0.0, "-0")]
    #[case(1e16, "10000000000000000")]
    #[case(1e17, "1e17")]
    #[case(1.5e-9, "0.0000000015")]
    #[case(1e-10, "1e-10")]
    fn sizes_that_people_meet_have_no_exponent(#[case] value: f64, #[case] text: &str) {
        assert_eq!(float_text(value), text);
    }

    #[rstest]
    #[case("a", "B", Ordering::Less)]
    #[case("B", "b", Ordering::Less)]
    #[case("straße", "STRASSE", Ordering::Greater)]
    #[case("é", "É", Ordering::Greater)]
    #[case("10", "9", Ordering::Less)]
    fn texts_have_one_order(#[case] a: &str, #[case] b: &str, #[case] order: Ordering) {
        assert_eq!((text_order(a, b), text_order(b, a)), (order, order.reverse()));
    }

    #[test]
    fn equal_ranges_have_one_number_and_what_lies_too_far_out_has_none() {
        let width = || Bands::Width(BandBound { mantissa: 1, scale: 30 });
        assert_eq!(BandsId::of(width()), BandsId::of(width()));
        assert_ne!(BandsId::of(width()), BandsId::of(Bands::Bounds(Vec::new())));
        assert_eq!(*BandsId::of(width()).bands(), width());
        assert_eq!(width().of(&Value::Number(Decimal::new(5, 0))), None);
        assert_eq!(width().of(&Value::Text("5".into())), None);
    }
}
