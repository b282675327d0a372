//! Patterns of Unicode CLDR as the number formats of workbooks (ISO/IEC 29500-1, 18.8.31), where there is one that
//! means the same.

use crate::format::Pattern;
use crate::layout::{Layout, Slot};
use oeuvre_columns::Kind;

/// The number format of a column; `None` where its values are written as they read.
pub(crate) fn of_column(layout: &Layout<'_>, slot: Slot) -> Option<String> {
    if let Some(pattern) = layout.pattern(slot) {
        return match pattern {
            Pattern::Number(pattern) => pattern.sheet_format(),
            // What a period shows of its first day would be taken for that day.
            Pattern::Date(_) if matches!(layout.kind(slot), Kind::Period(_)) => None,
            Pattern::Date(pattern) => pattern.sheet_format(),
        };
    }
    let digits = |n: usize| if n == 0 { String::new() } else { format!(".{}", "0".repeat(n)) };
    // Labels and values of rows read without groups: a year is no amount.
    let plain = !matches!(slot, Slot::Result(_)) || layout.is_plain(slot);
    let whole = if plain { "0" } else { "#,##0" };
    match layout.kind(slot) {
        Kind::Number { scale } => Some(format!("{whole}{}", digits(usize::from(scale)))),
        Kind::Float if plain => Some("General".to_owned()),
        Kind::Float => Some(format!("{whole}{}", digits(layout.float_digits(slot)))),
        Kind::Date => Some("yyyy-mm-dd".to_owned()),
        Kind::DateTime => Some("yyyy-mm-dd hh:mm:ss".to_owned()),
        _ => None,
    }
}
