//! The loops behind the steps of a program.
//!
//! Each operation picks its loop by the types of its columns, once a batch, and runs it over slices: no test of
//! an option or a kind a row. Exact numbers are worked out in 64 bits where all fit, and once more in 128 where
//! one does not; what does not fit 128 is an overflow.
//!
//! If you add an operation: an [`Op`] in `program.rs`, its loop here, and its meaning in
//! `language/check/`. What is missing in gives missing out, unless the operation says otherwise. `expressions.rs`
//! compares random calculations with a plain evaluator of single values: add the operation there.

use super::choices::{choose_extreme, choose_if, choose_present, pick};
use super::lookup::{Lookup, push_key};
use super::program::{FetchColumn, FindRow, Memory, Op, Set, Step, TextTest};
use super::scalar::Scalar;
use super::times::{days, later, starts_of_days, steps_between, time_between, to_part, to_period};
use super::vectors::{bools, codes, f64s, i32s, i64s, i128s, ratio};
use oeuvre_columns::column::dictionary::MISSING_CODE;
use oeuvre_columns::column::{Column, Data, MISSING_BOOL, MISSING_I32, MISSING_I64, MISSING_I128};
use oeuvre_columns::value::decimal::{Decimal, div_half_away, pow10};
use oeuvre_columns::value::exact::{decimal_to_f64, round_f64, round_quotient};
use oeuvre_columns::value::{Comparison, Kind, Overflow, Value, text_order};

/// Whole numbers up to this are exact in binary64.
const EXACT: u64 = 1 << 53;

/// The truth of a condition on a row; `None` where it is missing.
pub(crate) fn truth(column: &Column, row: usize) -> Option<bool> {
    match &column.data {
        Data::Bool(v) if v[row] != MISSING_BOOL => Some(v[row] == 1),
        _ => None,
    }
}

/// Whether a number is zero.
pub(crate) fn is_zero(column: &Column, row: usize) -> bool {
    match &column.data {
        Data::I64(v) => v[row] == 0,
        Data::I128(v) => v[row] == 0,
        Data::F64(v) => v[row] == 0.0,
        _ => false,
    }
}

/// Runs a step; gives the number of divisions by zero.
pub(crate) fn run(
    step: &Step,
    args: &[&Column],
    rows: usize,
    out: &mut Column,
    memory: &mut Memory<'_>,
) -> Result<u64, Overflow> {
    match &step.op {
        Op::Constant(value) => constant(step.kind, value, rows, out),
        Op::ScaleUp(n) => {
            let unit = pow10(u32::from(*n)).ok_or(Overflow::Digits)?;
            scale_up(&args[0].data, unit, &mut out.data)?;
        }
        Op::ToFloat => to_float(args[0], step.arg_kinds[0], &mut out.data),
        Op::Add => whole2(args, out, i64::overflowing_add, i128::checked_add, |a, b| a + b)?,
        Op::Subtract => whole2(args, out, i64::overflowing_sub, i128::checked_sub, |a, b| a - b)?,
        Op::Multiply => whole2(args, out, i64::overflowing_mul, i128::checked_mul, |a, b| a * b)?,
        Op::MultiplyIfFits => out.data = products_that_fit(args),
        Op::Divide => return divide(args, &mut out.data),
        Op::Negate => whole1(args[0], out, i64::overflowing_neg, i128::checked_neg, |x| -x)?,
        Op::Absolute => {
            let narrow = |x: i64| (x.wrapping_abs(), x == MISSING_I64);
            whole1(args[0], out, narrow, i128::checked_abs, f64::abs)?;
        }
        Op::Round(n) => round(args[0], step.arg_kinds[0], *n, out)?,
        Op::RoundRatio(n) => round_ratio(step, args, *n, rows, out)?,
        Op::Compare(how) => compare(args, *how, bools(&mut out.data)),
        Op::Test(test) => memoized(test, args[0], out, memory),
        Op::OneOf(values) => one_of(values, &args[0].data, rows, bools(&mut out.data)),
        Op::And => bool2(args, bools(&mut out.data), and),
        Op::Or => bool2(args, bools(&mut out.data), or),
        Op::Not => bool2(&[args[0], args[0]], bools(&mut out.data), |a, _| not(a)),
        Op::IsMissing => {
            let out = bools(&mut out.data);
            out.extend((0..rows).map(|r| u8::from(args[0].data.is_missing(r))));
        }
        Op::If => {
            choose_if(args, rows, memory.choices);
            pick(args, step.kind, rows, out, memory);
        }
        Op::Coalesce => {
            choose_present(args, rows, memory.choices);
            pick(args, step.kind, rows, out, memory);
        }
        Op::Extreme { largest } => {
            choose_extreme(args, *largest, rows, memory.choices);
            pick(args, step.kind, rows, out, memory);
        }
        Op::ToPeriod(unit) => to_period(*unit, &args[0].data, &mut out.data),
        Op::ToPart(part) => to_part(*part, &args[0].data, &mut out.data),
        Op::DateToTime => starts_of_days(&args[0].data, &mut out.data),
        Op::TimeToDate => days(&args[0].data, &mut out.data, |d| d),
        Op::StepsBetween => steps_between(&args[0].data, &args[1].data, &mut out.data),
        Op::TimeBetween => time_between(&args[0].data, &args[1].data, &mut out.data),
        Op::Later => later(step, args, rows, out)?,
        Op::FindRow(FindRow(lookup)) => find_rows(lookup, step, args, rows, &mut out.data, memory),
        Op::Fetch(FetchColumn { table, column }) => fetch(&table.data[*column], &args[0].data, out),
        Op::Scalar(scalar) => apply(scalar, step, args, rows, out, memory)?,
    }
    Ok(0)
}

// Where neither decides, the larger one of two truths does: missing is the largest. Without a branch many are worked out at
// once.
const _: () = assert!(MISSING_BOOL == 2);

/// Three-valued and.
fn and(a: u8, b: u8) -> u8 {
    if (a == 0) | (b == 0) { 0 } else { a.max(b) }
}

/// Three-valued or.
fn or(a: u8, b: u8) -> u8 {
    if (a == 1) | (b == 1) { 1 } else { a.max(b) }
}

/// Three-valued not.
fn not(a: u8) -> u8 {
    if a == MISSING_BOOL { a } else { 1 - a }
}

/// Products, missing where they do not fit.
fn products_that_fit(args: &[&Column]) -> Data {
    let (a, b) = (args[0].data.to_i128(), args[1].data.to_i128());
    narrowest(a.into_iter().zip(b).map(|(x, y)| match (x, y) {
        (MISSING_I128, _) | (_, MISSING_I128) => None,
        _ => x.checked_mul(y).filter(|z| *z != MISSING_I128),
    }))
}

fn constant(kind: Kind, value: &Value, rows: usize, out: &mut Column) {
    if out.data.is_empty() || matches!((&out.data, kind), (Data::I64(_), Kind::Text)) {
        out.data = Data::empty(kind);
        out.push(kind, value);
    }
    match &mut out.data {
        Data::I64(v) => v.resize(rows, v[0]),
        Data::I128(v) => v.resize(rows, v[0]),
        Data::F64(v) => v.resize(rows, v[0]),
        Data::Codes(v) => v.resize(rows, v[0]),
        Data::I32(v) => v.resize(rows, v[0]),
        Data::Bool(v) => v.resize(rows, v[0]),
    }
}

fn scale_up(data: &Data, unit: i128, out: &mut Data) -> Result<(), Overflow> {
    if let (Data::I64(v), Ok(unit)) = (data, i64::try_from(unit)) {
        let mut bad = false;
        i64s(out).extend(v.iter().map(|&x| {
            let (y, over) = x.overflowing_mul(unit);
            let missing = x == MISSING_I64;
            bad |= !missing & (over | (y == MISSING_I64));
            if missing { MISSING_I64 } else { y }
        }));
        if !bad {
            return Ok(());
        }
    }
    let wide = data.to_i128();
    let out = i128s(out);
    for x in wide {
        out.push(if x == MISSING_I128 {
            x
        } else {
            x.checked_mul(unit).ok_or(Overflow::Digits)?
        });
    }
    Ok(())
}

fn to_float(column: &Column, kind: Kind, out: &mut Data) {
    let scale = if let Kind::Number { scale } = kind { scale } else { 0 };
    let out = f64s(out);
    let float = |x: i128| decimal_to_f64(Decimal::new(x, scale));
    match &column.data {
        Data::I64(v) => out.extend(
            v.iter().map(|&x| if x == MISSING_I64 { f64::NAN } else { float(i128::from(x)) }),
        ),
        Data::I128(v) => {
            out.extend(v.iter().map(|&x| if x == MISSING_I128 { f64::NAN } else { float(x) }));
        }
        Data::F64(v) => out.extend_from_slice(v),
        _ => {}
    }
}

/// So many rows are first looked at together.
const BLOCK: usize = 64;

/// What is not 0 where a number needs more than 32 bits, as a missing one does.
fn beyond_32_bits(x: i64) -> u64 {
    (x as u64).wrapping_add(1 << 31) >> 32
}

fn whole2(
    args: &[&Column],
    out: &mut Column,
    narrow: impl Fn(i64, i64) -> (i64, bool),
    wide: impl Fn(i128, i128) -> Option<i128>,
    float: impl Fn(f64, f64) -> f64,
) -> Result<(), Overflow> {
    let small = |x: u32, y: u32| narrow(x.into(), y.into()).0;
    match (&args[0].data, &args[1].data) {
        (Data::F64(a), Data::F64(b)) => {
            let mut bad = false;
            f64s(&mut out.data).extend(a.iter().zip(b).map(|(&x, &y)| {
                let z = float(x, y);
                bad |= z.is_infinite();
                z
            }));
            return if bad { Err(Overflow::Binary) } else { Ok(()) };
        }
        (Data::I64(a), Data::I64(b)) => {
            let mut bad = false;
            let out = i64s(&mut out.data);
            out.reserve(a.len());
            for (a, b) in a.chunks(BLOCK).zip(b.chunks(BLOCK)) {
                let pairs = || a.iter().zip(b).map(|(&x, &y)| (x, y));
                if pairs().fold(0, |any, (x, y)| any | x | y) as u64 >> 31 == 0 {
                    // None is missing or negative, and no result is too large: the lower halves are all there is.
                    out.extend(pairs().map(|(x, y)| small(x as u32, y as u32)));
                    continue;
                }
                if pairs().fold(0, |any, (x, y)| any | beyond_32_bits(x) | beyond_32_bits(y)) == 0 {
                    // None is missing, and no result is too large here either.
                    out.extend(pairs().map(|(x, y)| narrow(x, y).0));
                    continue;
                }
                out.extend(pairs().map(|(x, y)| {
                    let missing = (x == MISSING_I64) | (y == MISSING_I64);
                    let (z, over) = narrow(x, y);
                    bad |= !missing & (over | (z == MISSING_I64));
                    if missing { MISSING_I64 } else { z }
                }));
            }
            if !bad {
                return Ok(());
            }
        }
        _ => {}
    }
    // What does not fit 64 bits is worked out in 128.
    let (a, b) = (args[0].data.to_i128(), args[1].data.to_i128());
    let out = i128s(&mut out.data);
    for (x, y) in a.into_iter().zip(b) {
        out.push(if x == MISSING_I128 || y == MISSING_I128 {
            MISSING_I128
        } else {
            wide(x, y).filter(|z| *z != MISSING_I128).ok_or(Overflow::Digits)?
        });
    }
    Ok(())
}

fn whole1(
    arg: &Column,
    out: &mut Column,
    narrow: impl Fn(i64) -> (i64, bool),
    wide: impl Fn(i128) -> Option<i128>,
    float: impl Fn(f64) -> f64,
) -> Result<(), Overflow> {
    whole2(&[arg, arg], out, |x, _| narrow(x), |x, _| wide(x), |x, _| float(x))
}

fn divide(args: &[&Column], out: &mut Data) -> Result<u64, Overflow> {
    let mut zeros = 0;
    match (&args[0].data, &args[1].data) {
        (Data::F64(a), Data::F64(b)) => {
            let out = f64s(out);
            for (&x, &y) in a.iter().zip(b) {
                zeros += u64::from(y == 0.0);
                let z = if y == 0.0 { f64::NAN } else { x / y };
                if z.is_infinite() {
                    return Err(Overflow::Binary);
                }
                out.push(z);
            }
        }
        (Data::I64(a), Data::I64(b)) => f64s(out).extend(a.iter().zip(b).map(|(&x, &y)| {
            if x == MISSING_I64 || y == MISSING_I64 || y == 0 {
                zeros += u64::from(y == 0);
                f64::NAN
            } else if x.unsigned_abs() <= EXACT && y.unsigned_abs() <= EXACT {
                x as f64 / y as f64 // both exact: one IEEE division rounds correctly
            } else {
                ratio(i128::from(x), i128::from(y))
            }
        })),
        (a, b) => {
            let (a, b) = (a.to_i128(), b.to_i128());
            f64s(out).extend(a.into_iter().zip(b).map(|(x, y)| {
                zeros += u64::from(y == 0);
                if x == MISSING_I128 || y == MISSING_I128 { f64::NAN } else { ratio(x, y) }
            }));
        }
    }
    Ok(zeros)
}

fn round(arg: &Column, kind: Kind, digits: u8, out: &mut Column) -> Result<(), Overflow> {
    let result = Kind::Number { scale: digits };
    if let Kind::Number { scale } = kind {
        let wide = arg.data.to_i128();
        let Some(unit) = pow10(u32::from(scale.saturating_sub(digits))) else {
            return Err(Overflow::Digits);
        };
        let rounded = wide.into_iter().map(|x| {
            (x != MISSING_I128).then(|| if unit == 1 { x } else { div_half_away(x, unit) })
        });
        out.data = narrowest(rounded);
        return Ok(());
    }
    out.data = Data::empty(result);
    if let Data::F64(v) = &arg.data {
        for &x in v {
            let number = if x.is_nan() {
                Value::Missing
            } else {
                Value::Number(round_f64(x, digits).ok_or(Overflow::Digits)?)
            };
            out.push(result, &number);
        }
    }
    Ok(())
}

/// Quotients rounded from their numerators and denominators.
fn round_ratio(
    step: &Step,
    args: &[&Column],
    digits: u8,
    rows: usize,
    out: &mut Column,
) -> Result<(), Overflow> {
    out.data = Data::empty(step.kind);
    let kinds = &step.arg_kinds;
    for row in 0..rows {
        let number = match (args[0].value(kinds[0], row), args[1].value(kinds[1], row)) {
            (Value::Number(n), Value::Number(d)) if d.mantissa != 0 => {
                Value::Number(round_quotient(n, d, digits).ok_or(Overflow::Digits)?)
            }
            _ => match args[2].value(kinds[2], row) {
                Value::Float(x) => Value::Number(round_f64(x, digits).ok_or(Overflow::Digits)?),
                _ => Value::Missing,
            },
        };
        out.push(step.kind, &number);
    }
    Ok(())
}

/// Whole numbers in 64 bits where all of them fit.
fn narrowest(values: impl Iterator<Item = Option<i128>>) -> Data {
    let mut narrow = Vec::new();
    let mut wide = Vec::new();
    for v in values {
        match v.map(i64::try_from) {
            _ if !wide.is_empty() => wide.push(v.unwrap_or(MISSING_I128)),
            None => narrow.push(MISSING_I64),
            Some(Ok(n)) if n != MISSING_I64 => narrow.push(n),
            Some(_) => {
                wide = Data::I64(std::mem::take(&mut narrow)).to_i128();
                wide.push(v.unwrap_or(MISSING_I128));
            }
        }
    }
    if wide.is_empty() { Data::I64(narrow) } else { Data::I128(wide) }
}

fn compare(args: &[&Column], how: Comparison, out: &mut Vec<u8>) {
    macro_rules! each {
        ($a:expr, $b:expr, $missing:expr, $order:expr) => {
            out.extend($a.iter().zip($b.iter()).map(|(&x, &y)| {
                if $missing(x) || $missing(y) { MISSING_BOOL } else { u8::from($order(x, y)) }
            }))
        };
    }
    macro_rules! typed {
        ($a:expr, $b:expr, $missing:expr) => {
            match how {
                Comparison::Equal => each!($a, $b, $missing, |x, y| x == y),
                Comparison::NotEqual => each!($a, $b, $missing, |x, y| x != y),
                Comparison::Less => each!($a, $b, $missing, |x, y| x < y),
                Comparison::LessEqual => each!($a, $b, $missing, |x, y| x <= y),
                Comparison::Greater => each!($a, $b, $missing, |x, y| x > y),
                Comparison::GreaterEqual => each!($a, $b, $missing, |x, y| x >= y),
            }
        };
    }
    match (&args[0].data, &args[1].data) {
        (Data::I64(a), Data::I64(b)) => typed!(a, b, |x: i64| x == MISSING_I64),
        (Data::I32(a), Data::I32(b)) => typed!(a, b, |x: i32| x == MISSING_I32),
        (Data::F64(a), Data::F64(b)) => typed!(a, b, |x: f64| x.is_nan()),
        (Data::Bool(a), Data::Bool(b)) => typed!(a, b, |x: u8| x == MISSING_BOOL),
        (Data::Codes(a), Data::Codes(b)) => {
            let (ta, tb) = (&args[0].dictionary, &args[1].dictionary);
            out.extend(a.iter().zip(b).map(|(&x, &y)| {
                if x == MISSING_CODE || y == MISSING_CODE {
                    MISSING_BOOL
                } else {
                    u8::from(match how {
                        Comparison::Equal => ta.text(x) == tb.text(y),
                        Comparison::NotEqual => ta.text(x) != tb.text(y),
                        how => how.holds(text_order(ta.text(x), tb.text(y))),
                    })
                }
            }));
        }
        (a, b) => {
            let (a, b) = (a.to_i128(), b.to_i128());
            typed!(a, b, |x: i128| x == MISSING_I128);
        }
    }
}

fn bool2(args: &[&Column], out: &mut Vec<u8>, op: impl Fn(u8, u8) -> u8) {
    if let (Data::Bool(a), Data::Bool(b)) = (&args[0].data, &args[1].data) {
        out.extend(a.iter().zip(b).map(|(&x, &y)| op(x, y)));
    }
}

/// Tests texts, each different one once.
fn memoized(test: &TextTest, arg: &Column, out: &mut Column, memory: &mut Memory<'_>) {
    let Data::Codes(codes) = &arg.data else { return };
    let known = memory.memo.len();
    let texts = known..arg.dictionary.len();
    memory.memo.extend(texts.map(|c| u8::from(test.holds(arg.dictionary.text(c as u32)))));
    let memo = &memory.memo[..];
    let result = |&c: &u32| memo.get(c as usize).copied().unwrap_or(MISSING_BOOL);
    bools(&mut out.data).extend(codes.iter().map(result));
}

/// Whether each value is one of some.
fn one_of(values: &Set<i128>, data: &Data, rows: usize, out: &mut Vec<u8>) {
    fn each<T: Copy + PartialEq + Into<i128>>(
        v: &[T],
        missing: T,
        values: &Set<i128>,
        out: &mut Vec<u8>,
    ) {
        let one =
            |x: T| if x == missing { MISSING_BOOL } else { u8::from(values.contains(&x.into())) };
        out.extend(v.iter().map(|&x| one(x)));
    }
    match data {
        Data::I64(v) => each(v, MISSING_I64, values, out),
        Data::I128(v) => each(v, MISSING_I128, values, out),
        Data::I32(v) => each(v, MISSING_I32, values, out),
        _ => out.resize(rows, MISSING_BOOL),
    }
}

/// Finds the row of each key; each distinct text is looked for once.
fn find_rows(
    lookup: &Lookup,
    step: &Step,
    args: &[&Column],
    rows: usize,
    out: &mut Data,
    memory: &mut Memory<'_>,
) {
    let out = i32s(out);
    let find = |key: &str| lookup.row(key).map_or(MISSING_I32, |row| row as i32);
    if let [only] = args
        && let Data::Codes(codes) = &only.data
    {
        let found = &mut *memory.rows_found;
        found.extend(
            (found.len()..only.dictionary.len()).map(|c| find(only.dictionary.text(c as u32))),
        );
        out.extend(codes.iter().map(|&c| found.get(c as usize).copied().unwrap_or(MISSING_I32)));
        return;
    }
    if let ([only], [Kind::Number { scale }]) = (args, &step.arg_kinds[..])
        && let Some(numbers) = lookup.by_number(*scale)
    {
        let row = |n: Option<i128>| n.map_or(MISSING_I32, |n| numbers.row(n));
        match &only.data {
            Data::I64(v) => {
                out.extend(v.iter().map(|&n| row((n != MISSING_I64).then_some(i128::from(n)))));
                return;
            }
            Data::I128(v) => {
                out.extend(v.iter().map(|&n| row((n != MISSING_I128).then_some(n))));
                return;
            }
            _ => {}
        }
    }
    let mut key = String::new();
    for row in 0..rows {
        key.clear();
        let mut parts = args.iter().zip(&step.arg_kinds);
        let whole = parts.all(|(a, &kind)| push_key(&mut key, &a.value(kind, row)));
        out.push(if whole { find(&key) } else { MISSING_I32 });
    }
}

/// Takes the values of a column at the rows found.
fn fetch(column: &Column, rows: &Data, out: &mut Column) {
    let Data::I32(rows) = rows else { return };
    if out.dictionary.len() != column.dictionary.len() {
        out.dictionary = column.dictionary.clone();
    }
    macro_rules! at {
        ($values:expr, $missing:expr) => {
            rows.iter().map(|&r| if r == MISSING_I32 { $missing } else { $values[r as usize] })
        };
    }
    match &column.data {
        Data::I64(v) => i64s(&mut out.data).extend(at!(v, MISSING_I64)),
        Data::I128(v) => i128s(&mut out.data).extend(at!(v, MISSING_I128)),
        Data::F64(v) => f64s(&mut out.data).extend(at!(v, f64::NAN)),
        Data::Codes(v) => codes(&mut out.data).extend(at!(v, MISSING_CODE)),
        Data::I32(v) => i32s(&mut out.data).extend(at!(v, MISSING_I32)),
        Data::Bool(v) => bools(&mut out.data).extend(at!(v, MISSING_BOOL)),
    }
}

/// Calls a function of single values for each row, or once for each text when only one argument is
/// not the same on all rows, and that one is a text.
fn apply(
    scalar: &Scalar,
    step: &Step,
    args: &[&Column],
    rows: usize,
    out: &mut Column,
    memory: &mut Memory<'_>,
) -> Result<(), Overflow> {
    let values = |row: usize| -> Vec<Value> {
        args.iter().zip(&step.arg_kinds).map(|(a, &kind)| a.value(kind, row)).collect()
    };
    let dictionary = std::mem::take(&mut out.dictionary);
    *out = Column::coded(Data::empty(step.kind), dictionary);
    let varies: Vec<usize> = (0..args.len()).filter(|&i| !step.constant_args[i]).collect();
    if let [only] = varies[..]
        && let Data::Codes(codes) = &args[only].data
        && rows > 0
    {
        let texts = &args[only].dictionary;
        let mut given = values(0);
        for code in memory.known.len()..texts.len() {
            given[only] = Value::Text(texts.text(code as u32).into());
            memory.known.push(scalar.apply(&given)?);
        }
        given[only] = Value::Missing;
        let missing = scalar.apply(&given)?;
        for &code in codes {
            out.push(step.kind, memory.known.get(code as usize).unwrap_or(&missing));
        }
        return Ok(());
    }
    for row in 0..rows {
        out.push(step.kind, &scalar.apply(&values(row))?);
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use crate::Request;
    use crate::testing::{answer, rows, value};
    use rstest::rstest;

    const MAX: i64 = i64::MAX;

    #[rstest]
    // What leaves 64 bits, on one row of several, goes on in 128.
    #[case("max(n + 1)", "9223372036854775808")]
    #[case("max(n * n)", "85070591730234615847396907784232501249")]
    #[case("max(-n - 2)", "-3")]
    #[case("min(-n - 2)", "-9223372036854775809")]
    #[case("max(n * n * 2 - n * n)", "85070591730234615847396907784232501249")]
    #[case("max(abs(-n))", "9223372036854775807")]
    // Rounding, from the exact quotient where there is one; more digits than there are change nothing.
    #[case("max(round(n / 2, 1))", "4611686018427387903.5")]
    #[case("max(round(1.2550 * 10, 1))", "12.6")]
    #[case("max(round(-1.25, 1))", "-1.3")]
    #[case("max(round(7, 3))", "7")]
    fn exact_numbers_outgrow_64_bits_without_a_step(#[case] calc: &str, #[case] expected: &str) {
        let rows = rows(&format!("n:0\n1\n{MAX}\n"));
        assert_eq!(value(&rows, calc), expected);
    }

    #[rstest]
    #[case("max(n * n * n)", "`n * n * n` is too large: exact numbers hold up to 38 digits")]
    #[case("max(exp(n))", "`exp(n)` is too large: binary64 numbers reach to about 1.8e308")]
    #[case("max(date('9999-12-31', 'yyyy-MM-dd') + n)", "lies outside the calendar")]
    fn what_cannot_be_held_names_its_calculation(#[case] calc: &str, #[case] said: &str) {
        let rows = rows(&format!("n:0\n1\n{MAX}\n"));
        let error = answer(&rows, &Request::of(&[], &[calc])).err().unwrap().to_string();
        assert!(error.contains(said), "{error}");
    }
}
