//! Steps of days, datetimes and periods: the calendar's arithmetic over columns.
//!
//! Days and periods are whole numbers, so that moving them is adding, and a period of a day is a division or a
//! look-up in the calendar (`oeuvre_columns::value::calendar`).

use super::program::Step;
use super::vectors::{f64s, i32s, i64s, ratio};
use oeuvre_columns::column::{Column, Data, MISSING_I32, MISSING_I64};
use oeuvre_columns::value::calendar::{self, DAY_MICROS, Part, Period, Unit};
use oeuvre_columns::value::{Overflow, Value};
use std::sync::OnceLock;

/// Applies a function of the day to dates or datetimes.
pub(super) fn days(data: &Data, out: &mut Data, f: impl Fn(i32) -> i32) {
    let out = i32s(out);
    match data {
        Data::I32(v) => {
            out.extend(v.iter().map(|&d| if d == MISSING_I32 { MISSING_I32 } else { f(d) }));
        }
        Data::I64(v) => out.extend(v.iter().map(|&t| {
            if t == MISSING_I64 { MISSING_I32 } else { f(t.div_euclid(DAY_MICROS) as i32) }
        })),
        _ => {}
    }
}

/// Dates and periods moved by whole steps, datetimes by days.
pub(super) fn later(
    step: &Step,
    args: &[&Column],
    rows: usize,
    out: &mut Column,
) -> Result<(), Overflow> {
    out.data = Data::empty(step.kind);
    for row in 0..rows {
        let moved =
            match (args[0].value(step.arg_kinds[0], row), args[1].value(step.arg_kinds[1], row)) {
                (Value::Missing, _) | (_, Value::Missing) => Value::Missing,
                (Value::DateTime(t), n) => Value::DateTime(calendar::time_later(t, &n)?),
                (Value::Date(day), Value::Number(n)) => {
                    Value::Date(calendar::later(Unit::Day, day, n.mantissa)?)
                }
                (Value::Period(p), Value::Number(n)) => Value::Period(Period {
                    index: calendar::later(p.unit, p.index, n.mantissa)?,
                    ..p
                }),
                _ => Value::Missing,
            };
        out.push(step.kind, &moved);
    }
    Ok(())
}

/// Steps from the second to the first.
pub(super) fn steps_between(a: &Data, b: &Data, out: &mut Data) {
    let (Data::I32(a), Data::I32(b)) = (a, b) else { return };
    i64s(out).extend(a.iter().zip(b).map(|(&x, &y)| {
        let missing = x == MISSING_I32 || y == MISSING_I32;
        if missing { MISSING_I64 } else { i64::from(x) - i64::from(y) }
    }));
}

/// Days from the second time to the first.
pub(super) fn time_between(a: &Data, b: &Data, out: &mut Data) {
    let (Data::I64(a), Data::I64(b)) = (a, b) else { return };
    f64s(out).extend(a.iter().zip(b).map(|(&x, &y)| {
        let missing = x == MISSING_I64 || y == MISSING_I64;
        let micros = i128::from(x) - i128::from(y);
        if missing { f64::NAN } else { ratio(micros, i128::from(DAY_MICROS)) }
    }));
}

/// The period that each day falls in.
pub(super) fn to_period(unit: Unit, days_of: &Data, out: &mut Data) {
    looked_up(days_of, out, period_table(unit), |d| unit.of_day(d));
}

/// The part of the calendar that each day falls in.
pub(super) fn to_part(part: Part, days_of: &Data, out: &mut Data) {
    looked_up(days_of, out, part_table(part), |d| part.of_day(d));
}

/// A function of the day that a table has for common days.
fn looked_up(days_of: &Data, out: &mut Data, table: &DayTable, f: impl Fn(i32) -> i32) {
    match days_of {
        // A missing day is none of the table: it is asked about only where there is no other.
        Data::I32(v) => i32s(out).extend(v.iter().map(|&d| match table.get(d) {
            Some(found) => found,
            None if d == MISSING_I32 => MISSING_I32,
            None => f(d),
        })),
        _ => days(days_of, out, |d| table.get(d).unwrap_or_else(|| f(d))),
    }
}

/// The days that business data is mostly about, 1960 to 2060, are looked up.
const TABLE_FIRST: i32 = -3653;
const TABLE_DAYS: usize = 36_525;

/// A function of the day, worked out beforehand for common days.
struct DayTable(Vec<i32>);

impl DayTable {
    fn new(f: impl Fn(i32) -> i32) -> DayTable {
        DayTable((0..TABLE_DAYS as i32).map(|i| f(TABLE_FIRST + i)).collect())
    }
    #[inline]
    fn get(&self, day: i32) -> Option<i32> {
        self.0.get(day.wrapping_sub(TABLE_FIRST) as u32 as usize).copied()
    }
}

fn period_table(unit: Unit) -> &'static DayTable {
    static TABLES: [OnceLock<DayTable>; 30] = [const { OnceLock::new() }; 30];
    let place = match unit {
        Unit::Day => 0,
        Unit::Week => 1,
        Unit::Month => 2,
        Unit::Quarter => 3,
        Unit::Half => 4,
        Unit::Year => 5,
        Unit::FiscalQuarter(month) => 5 + usize::from(month.clamp(1, 12)),
        Unit::FiscalYear(month) => 17 + usize::from(month.clamp(1, 12)),
    };
    TABLES[place].get_or_init(|| DayTable::new(|d| unit.of_day(d)))
}

fn part_table(part: Part) -> &'static DayTable {
    static TABLES: [OnceLock<DayTable>; 3] = [const { OnceLock::new() }; 3];
    TABLES[part as usize].get_or_init(|| DayTable::new(|d| part.of_day(d)))
}

/// The first instant of each day.
pub(super) fn starts_of_days(data: &Data, out: &mut Data) {
    if let Data::I32(v) = data {
        let time = |&d: &i32| {
            if d == MISSING_I32 { MISSING_I64 } else { i64::from(d) * DAY_MICROS }
        };
        i64s(out).extend(v.iter().map(time));
    }
}
