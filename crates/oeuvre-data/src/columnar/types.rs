//! What the types of Arrow are to us.

use crate::kinds::values::{Orders, Shape};
use arrow_schema::{DataType, TimeUnit};

/// How the values of an Arrow array are read.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Natural {
    /// Nothing but missing values.
    Nothing,
    /// Whole numbers, and decimals with so many digits behind the point (fewer than none: tens, hundreds).
    Number {
        scale: i8,
    },
    /// Binary64, or less.
    Float,
    Truth,
    /// Days.
    Day,
    /// Points in time: so many a second, and whether they are instants, read as wall clock in a zone.
    Time {
        a_second: i64,
        zoned: bool,
    },
    /// Times of day, so many a second.
    Clock {
        a_second: i64,
    },
    /// Texts.
    Text,
    /// What is no value of a table, in words.
    Unfit(&'static str),
}

impl Natural {
    pub(super) fn of(data_type: &DataType) -> Natural {
        use DataType::*;
        let a_second = |unit: &TimeUnit| -> i64 {
            match unit {
                TimeUnit::Second => 1,
                TimeUnit::Millisecond => 1_000,
                TimeUnit::Microsecond => 1_000_000,
                TimeUnit::Nanosecond => 1_000_000_000,
            }
        };
        match data_type {
            Null => Natural::Nothing,
            Boolean => Natural::Truth,
            Int8 | Int16 | Int32 | Int64 | UInt8 | UInt16 | UInt32 | UInt64 => {
                Natural::Number { scale: 0 }
            }
            Decimal32(_, scale)
            | Decimal64(_, scale)
            | Decimal128(_, scale)
            | Decimal256(_, scale) => Natural::Number { scale: *scale },
            Duration(unit) => Natural::Number { scale: a_second(unit).ilog10() as i8 },
            Float16 | Float32 | Float64 => Natural::Float,
            Date32 => Natural::Day,
            Date64 => Natural::Time { a_second: 1_000, zoned: false },
            Timestamp(unit, zone) => {
                Natural::Time { a_second: a_second(unit), zoned: zone.is_some() }
            }
            Time32(unit) | Time64(unit) => Natural::Clock { a_second: a_second(unit) },
            Utf8 | LargeUtf8 | Utf8View | Binary | LargeBinary | BinaryView => Natural::Text,
            Dictionary(_, values) => match Natural::of(values) {
                Natural::Text => Natural::Text,
                _ => Natural::Unfit("a dictionary of something else than texts"),
            },
            FixedSizeBinary(_) => Natural::Unfit("bytes of one length"),
            List(_) | LargeList(_) | FixedSizeList(..) | ListView(_) | LargeListView(_) => {
                Natural::Unfit("lists")
            }
            Struct(_) => Natural::Unfit("several values in one"),
            Map(..) => Natural::Unfit("maps"),
            Interval(_) => Natural::Unfit("intervals of the calendar"),
            Union(..) => Natural::Unfit("values of several types"),
            RunEndEncoded(..) => Natural::Unfit("runs of values"),
        }
    }

    /// What a column of it is, before other files have a say.
    pub(super) fn shape(&self) -> Shape {
        match self {
            Natural::Nothing => Shape::Unknown,
            Natural::Number { scale } => Shape::Number((*scale).max(0) as u8),
            Natural::Float => Shape::Float,
            Natural::Truth => Shape::Boolean,
            Natural::Day => Shape::Date(Orders::ALL),
            Natural::Time { .. } => Shape::DateTime,
            Natural::Clock { .. } | Natural::Text | Natural::Unfit(_) => Shape::Text,
        }
    }
}
