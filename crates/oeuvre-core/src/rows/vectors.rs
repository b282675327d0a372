//! What the kernels write into and compare with: vectors that are kept, and the order of two values on a row.

use oeuvre_columns::column::{Column, Data};
use oeuvre_columns::value::decimal::Decimal;
use oeuvre_columns::value::exact::decimal_ratio;
use oeuvre_columns::value::text_order;
use std::cmp::Ordering;

macro_rules! reuse {
    ($name:ident, $variant:ident, $type:ty) => {
        /// The column's own vector, emptied, or a new one of the right type.
        pub(super) fn $name(data: &mut Data) -> &mut Vec<$type> {
            if !matches!(data, Data::$variant(_)) {
                *data = Data::$variant(Vec::new());
            }
            match data {
                Data::$variant(v) => {
                    v.clear();
                    v
                }
                _ => unreachable!("set just above"),
            }
        }
    };
}
reuse!(i64s, I64, i64);
reuse!(i128s, I128, i128);
reuse!(f64s, F64, f64);
reuse!(i32s, I32, i32);
reuse!(bools, Bool, u8);
reuse!(codes, Codes, u32);

/// The order of two values of one kind on a row; both are present.
pub(super) fn order(a: &Column, b: &Column, row: usize) -> Ordering {
    match (&a.data, &b.data) {
        (Data::I64(x), Data::I64(y)) => x[row].cmp(&y[row]),
        (Data::I32(x), Data::I32(y)) => x[row].cmp(&y[row]),
        (Data::F64(x), Data::F64(y)) => x[row].total_cmp(&y[row]),
        (Data::Bool(x), Data::Bool(y)) => x[row].cmp(&y[row]),
        (Data::Codes(x), Data::Codes(y)) => {
            text_order(a.dictionary.text(x[row]), b.dictionary.text(y[row]))
        }
        (Data::I128(x), Data::I128(y)) => x[row].cmp(&y[row]),
        (Data::I64(x), Data::I128(y)) => i128::from(x[row]).cmp(&y[row]),
        (Data::I128(x), Data::I64(y)) => x[row].cmp(&i128::from(y[row])),
        _ => Ordering::Equal,
    }
}

pub(super) fn ratio(x: i128, y: i128) -> f64 {
    decimal_ratio(Decimal::new(x, 0), Decimal::new(y, 0)).unwrap_or(f64::NAN)
}
