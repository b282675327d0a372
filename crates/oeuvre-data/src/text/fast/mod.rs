//! The usual forms of values, read without looking at them one byte at a time.
//!
//! Each loop takes the fields of one column, writes the values that it can read for certain, and
//! lists the records of the others at the start of `slow`: blank fields are missing, anything else
//! unusual is looked at by `columns.rs`.
//!
//! Texts are looked up one by one (`texts.rs`). Numbers and dates are read many at a time (`numbers.rs`, `dates.rs`):
//! first the words in which the fields end are put aside in rows, then loops without a branch make values of them, which
//! the compiler turns into the vector instructions of several processors, picked at run time. Loads one by one are
//! as fast as any: instructions that gather are slow on many processors, and much slower where they are made safe.
//!
//! If you teach a loop another form, the tests at the end compare it with the plain reading of
//! `kinds/values.rs` on random fields: it may leave a field, but never read it otherwise.

#[cfg(target_arch = "x86_64")]
mod avx2;
mod dates;
mod numbers;
mod texts;

use super::records::{Edges, Records};
use dates::{DateTimes, Dates};
use numbers::Fixed;
use oeuvre_columns::column::ahead::ask_for;
use oeuvre_columns::column::dictionary::{FIRST_ALIAS, MISSING_CODE, Texts};
use oeuvre_columns::column::{MISSING_I32, MISSING_I64};
use oeuvre_columns::instructions::Level;
pub(super) use texts::FewTexts;
use texts::Known;

/// Declares a loop that is compiled for the baseline processor and for one with AVX2 and the bit manipulation
/// instructions; its constant says for which. With 512 bits the compiler gathers, which made these loops slower than 256 do.
macro_rules! for_newer_processors {
    ($(#[$doc:meta])* $name:ident, $body:ident, ($($arg:ident: $type:ty),*)) => {
        $(#[$doc])*
        #[allow(unsafe_code)]
        pub(super) fn $name(records: &Records<'_>, column: usize, $($arg: $type),*) -> usize {
            #[cfg(target_arch = "x86_64")]
            {
                #[target_feature(enable = "avx2,bmi1,bmi2,lzcnt,popcnt")]
                fn newer(records: &Records<'_>, column: usize, $($arg: $type),*) -> usize {
                    $body::<true>(records, column, $($arg),*)
                }
                if records.level >= Level::Avx2 {
                    // SAFETY: a level is only given where the processor has its features.
                    return unsafe { newer(records, column, $($arg),*) };
                }
            }
            $body::<false>(records, column, $($arg),*)
        }
    };
}

for_newer_processors!(
    /// Numbers with exactly `scale` digits after the point (at most 7); with `None` all fields are left.
    numbers, numbers_body, (scale: Option<u8>, out: &mut [i64], slow: &mut Vec<u32>)
);
for_newer_processors!(
    /// Dates as `YYYY-MM-DD`.
    dates, dates_body, (out: &mut [i32], slow: &mut Vec<u32>)
);
for_newer_processors!(
    /// Instants as `YYYY-MM-DDThh:mm:ss`.
    datetimes, datetimes_body, (out: &mut [i64], slow: &mut Vec<u32>)
);
for_newer_processors!(
    /// Texts of up to 16 bytes that the dictionary has.
    texts, texts_body, (dictionary: (&Texts, &mut FewTexts), out: &mut [u32], slow: &mut Vec<u32>)
);

/// Leaves all fields that are not blank.
pub(super) fn none(records: &Records<'_>, column: usize, slow: &mut Vec<u32>) -> usize {
    let mut nothing = vec![0u8; records.rows()];
    each(records, column, &mut nothing, slow, 0, Nothing)
}

/// How far ahead a field's bytes are asked for: some ten records of the usual length, which is as
/// long as the second-level cache takes to answer.
const AHEAD: usize = 1024;

/// The usual form of a kind of value. A trait and not a closure, because a closure is not always
/// compiled into the loop, and then lacks its instructions.
trait Form<T> {
    /// The value of the field between two places, which is not blank; `None` when it looks unusual.
    fn read(&self, data: &[u8], start: usize, end: usize) -> Option<T>;
}

/// Reads the column's field of each record that is not blank, and writes what comes back.
#[inline(always)]
fn each<T: Copy>(
    records: &Records<'_>,
    column: usize,
    out: &mut [T],
    slow: &mut Vec<u32>,
    missing: T,
    read: impl Form<T>,
) -> usize {
    let rows = records.rows();
    if column == 0 && !records.starts.is_empty() {
        // Some records were blank or of another length: rare enough to be left to the slow path.
        out.fill(missing);
        slow.clear();
        slow.extend(0..rows as u32);
        return rows;
    }
    if slow.len() < rows {
        slow.resize(rows, 0);
    }
    let mut left = 0;
    let slow_rows = &mut slow[..rows];
    let data = records.data;
    let Edges { stride, before, end, is_last } = records.kept.edges(column);
    assert!(end < stride && before.is_none_or(|before| before < stride));
    let mut record_start = 0;
    for (row, (record, slot)) in records.marks.chunks_exact(stride).zip(out).enumerate() {
        let start = before.map_or(record_start, |before| record[before] as usize + 1);
        let mut end = record[end] as usize;
        if is_last && end > start && data[end - 1] == b'\r' {
            end -= 1;
        }
        record_start = record[stride - 1] as usize + 1;
        ask_for(data, start + AHEAD);
        // Every record is written to the list; it counts only when the place moves on.
        slow_rows[left] = row as u32;
        *slot = if start < end {
            let value = read.read(data, start, end);
            left += usize::from(value.is_none());
            value.unwrap_or(missing)
        } else {
            missing
        };
    }
    left
}

/// As [`each`], of a form that says of blank fields too what they are, and of which hardly a field is unusual.
#[inline(always)]
fn each_found<T: Copy>(
    records: &Records<'_>,
    column: usize,
    out: &mut [T],
    slow: &mut Vec<u32>,
    missing: T,
    form: impl Form<T>,
) -> usize {
    let Edges { stride, before, end, is_last } = records.kept.edges(column);
    // Between two others, as most are, a field is as long as its marks say.
    let (Some(before), false, []) = (before, is_last, records.starts) else {
        return each(records, column, out, slow, missing, form);
    };
    assert!(end < stride && before < stride);
    slow.resize(slow.len().max(records.rows()), 0);
    let mut left = 0;
    for (row, (record, slot)) in records.marks.chunks_exact(stride).zip(out).enumerate() {
        *slot = match form.read(records.data, record[before] as usize + 1, record[end] as usize) {
            Some(value) => value,
            None => {
                slow[left] = row as u32;
                left += 1;
                missing
            }
        };
    }
    left
}

/// So many fields are read at once.
const LANES: usize = 64;

/// The fields of some records, and what is put aside of their bytes.
struct Fields<'a> {
    data: &'a [u8],
    starts: [u32; LANES],
    ends: [u32; LANES],
    lens: [u64; LANES],
    /// The longest.
    longest: u64,
    /// Whether the data has 24 bytes before the end of each and behind its start.
    are_inside: bool,
    /// Words of each field: which ones, the form says.
    words: [[u64; LANES]; 3],
    /// The last four bytes of each field, and what stands before where it is shorter.
    last_four: [u32; LANES],
}

/// The length of a field that is read one by one, too near an end of the data for whole words.
const UNREADABLE: u64 = u32::MAX as u64;

impl<'a> Fields<'a> {
    /// No fields yet, of some data.
    fn of(data: &'a [u8]) -> Fields<'a> {
        let (nothing, none) = ([0; LANES], [0; LANES]);
        Fields {
            data,
            starts: none,
            ends: none,
            lens: nothing,
            longest: 0,
            are_inside: false,
            words: [nothing; 3],
            last_four: none,
        }
    }

    /// Finds the fields of a column in records with these marks; of how many fields there are, the others are blank.
    #[inline(always)]
    fn find(&mut self, marks: &[u32], edges: Edges, first_start: u32, own_starts: &[u32]) {
        let Edges { stride, before, end, is_last } = edges;
        // So that this need not be looked at for each record.
        assert!(end < stride && before.is_none_or(|before| before < stride));
        let rows = marks.len() / stride;
        if rows < LANES {
            self.starts = [0; LANES];
            self.ends = [0; LANES];
        }
        let ends = self.ends.iter_mut().zip(marks.chunks_exact(stride));
        ends.for_each(|(to, record)| *to = record[end]);
        match before {
            Some(before) => {
                let starts = self.starts.iter_mut().zip(marks.chunks_exact(stride));
                starts.for_each(|(to, record)| *to = record[before].wrapping_add(1));
            }
            None => {
                self.starts[0] = first_start;
                let starts = self.starts[1..].iter_mut().zip(marks.chunks_exact(stride));
                starts.for_each(|(to, record)| *to = record[stride - 1].wrapping_add(1));
                let own = self.starts.iter_mut().zip(own_starts);
                own.for_each(|(to, start)| *to = *start);
                // One more than there are.
                if let Some(start) = self.starts.get_mut(rows) {
                    *start = 0;
                }
            }
        }
        if is_last {
            for (start, end) in self.starts.iter().zip(&mut self.ends) {
                let returns = *end > *start && self.data[*end as usize - 1] == b'\r';
                *end -= u32::from(returns);
            }
        }
        let (mut longest, mut first_end, mut last) = (0, u32::MAX, 0);
        for ((len, &end), &start) in self.lens.iter_mut().zip(&self.ends).zip(&self.starts) {
            first_end = first_end.min(end);
            last = last.max(start).max(end);
            // What a record lacks ends before it starts.
            let length = end.max(start) - start;
            longest = longest.max(length);
            *len = u64::from(length);
        }
        self.longest = u64::from(longest);
        // As far as anybody looks before an end and behind a start.
        self.are_inside = first_end >= 24 && last as usize + 24 <= self.data.len();
    }

    /// The bytes from a place on that lies up to eight behind the start of a field, or up to 24 before its end; `None`
    /// where the data has not as many.
    #[inline(always)]
    #[allow(unsafe_code)]
    fn bytes<const N: usize>(&self, at: usize) -> Option<[u8; N]> {
        const { assert!(N <= 16) };
        if self.are_inside {
            debug_assert!(at + N <= self.data.len());
            // SAFETY: so many bytes are there, around all fields of the block.
            return Some(unsafe { self.data.as_ptr().add(at).cast::<[u8; N]>().read_unaligned() });
        }
        self.data.get(at..at.wrapping_add(N)).and_then(|bytes| bytes.first_chunk().copied())
    }

    /// Puts aside, as words of a number, those that begin so many bytes (at most 8) behind the starts of the fields.
    #[inline(always)]
    fn put_from(&mut self, which: usize, behind: usize) {
        for lane in 0..LANES {
            match self.bytes(self.starts[lane] as usize + behind) {
                Some(bytes) => self.words[which][lane] = u64::from_le_bytes(bytes),
                None => self.leave(lane),
            }
        }
    }

    /// Puts aside, as words of a number, those that end so many bytes (at most 16) before the ends of the fields; 0 where
    /// that is before the data, so that what is read there is no digit.
    #[inline(always)]
    fn put_before(&mut self, which: usize, before: usize) {
        for lane in 0..LANES {
            let bytes = self.bytes((self.ends[lane] as usize).wrapping_sub(before + 8));
            self.words[which][lane] = u64::from_le_bytes(bytes.unwrap_or_default());
        }
    }

    /// Puts the last four bytes aside; 0 where there are not as many in the data, so that what is read there is no digit.
    #[inline(always)]
    fn put_last_four(&mut self) {
        for lane in 0..LANES {
            let bytes = self.bytes((self.ends[lane] as usize).wrapping_sub(4));
            self.last_four[lane] = u32::from_le_bytes(bytes.unwrap_or_default());
        }
    }

    /// A field that is not blank is read one by one.
    #[cold]
    fn leave(&mut self, lane: usize) {
        if self.lens[lane] != 0 {
            self.lens[lane] = UNREADABLE;
        }
    }
}

/// A form of which many fields are read at once.
trait Staged<T> {
    /// Puts aside what is needed of the fields, and reads them. Blank fields are missing, and those that look unusual, too;
    /// false where there is none of these.
    fn read(&self, fields: &mut Fields<'_>, out: &mut [T; LANES]) -> bool;
}

/// As [`each`], many records at a time.
#[inline(always)]
fn each_staged<T: Copy + PartialEq>(
    records: &Records<'_>,
    column: usize,
    out: &mut [T],
    slow: &mut Vec<u32>,
    missing: T,
    form: impl Staged<T>,
) -> usize {
    let rows = records.rows();
    if slow.len() < rows {
        slow.resize(rows, 0);
    }
    let edges = records.kept.edges(column);
    let stride = edges.stride;
    let mut fields = Fields::of(records.data);
    let mut last = [missing; LANES];
    let (mut left, mut first_start) = (0, 0);
    let blocks = records.marks.chunks(LANES * stride).zip(out[..rows].chunks_mut(LANES));
    for (block, (marks, out)) in blocks.enumerate() {
        let own_starts = records.starts.get(block * LANES..).unwrap_or_default();
        fields.find(marks, edges, first_start, own_starts);
        first_start = marks.last().map_or(0, |mark| mark.wrapping_add(1));
        let any_odd = match out.first_chunk_mut() {
            Some(values) => form.read(&mut fields, values),
            None => {
                let any_odd = form.read(&mut fields, &mut last);
                out.copy_from_slice(&last[..out.len()]);
                any_odd
            }
        };
        if !any_odd {
            continue;
        }
        // No usual value is the missing one.
        let is_odd = |(value, &len): (&T, &u64)| (*value == missing) & (len != 0);
        if !out.iter().zip(&fields.lens).fold(false, |any, lane| any | is_odd(lane)) {
            continue;
        }
        for (lane, _) in out.iter().zip(&fields.lens).enumerate().filter(|it| is_odd(it.1)) {
            slow[left] = (block * LANES + lane) as u32;
            left += 1;
        }
    }
    left
}

/// Nothing is usual.
struct Nothing;

impl<T> Form<T> for Nothing {
    #[inline(always)]
    fn read(&self, _: &[u8], _: usize, _: usize) -> Option<T> {
        None
    }
}

#[inline(always)]
fn numbers_body<const AVX2: bool>(
    records: &Records<'_>,
    column: usize,
    scale: Option<u8>,
    out: &mut [i64],
    slow: &mut Vec<u32>,
) -> usize {
    match scale {
        None => each(records, column, out, slow, MISSING_I64, Nothing),
        // Known when the loop is compiled, the shifts cost nothing: of whole numbers, and of money with two digits.
        Some(0) => each_staged(records, column, out, slow, MISSING_I64, Fixed::<AVX2>(0)),
        Some(2) => each_staged(records, column, out, slow, MISSING_I64, Fixed::<AVX2>(2)),
        Some(scale) => {
            each_staged(records, column, out, slow, MISSING_I64, Fixed::<AVX2>(u32::from(scale)))
        }
    }
}

#[inline(always)]
fn dates_body<const AVX2: bool>(
    records: &Records<'_>,
    column: usize,
    out: &mut [i32],
    slow: &mut Vec<u32>,
) -> usize {
    each_staged(records, column, out, slow, MISSING_I32, Dates::<AVX2>)
}

#[inline(always)]
fn datetimes_body<const AVX2: bool>(
    records: &Records<'_>,
    column: usize,
    out: &mut [i64],
    slow: &mut Vec<u32>,
) -> usize {
    each_staged(records, column, out, slow, MISSING_I64, DateTimes::<AVX2>)
}

#[inline(always)]
fn texts_body<const AVX2: bool>(
    records: &Records<'_>,
    column: usize,
    (dictionary, few): (&Texts, &mut FewTexts),
    out: &mut [u32],
    slow: &mut Vec<u32>,
) -> usize {
    let is_few = few.take(dictionary, records.quote);
    let (short, long) = if few.are_short() { (few.short(), None) } else { (None, few.long()) };
    match (is_few, short, long) {
        (true, Some(short), _) => each_found(records, column, out, slow, MISSING_CODE, short),
        (true, _, Some(long)) => each_found(records, column, out, slow, MISSING_CODE, long),
        _ => {
            let known = Known::of(dictionary, records.quote);
            each(records, column, out, slow, MISSING_CODE, known)
        }
    }
}

const ZEROS: u64 = 0x3030_3030_3030_3030;

/// What is not 0 where a byte is more than 9.
#[inline(always)]
fn beyond_nine(bytes: u64) -> u64 {
    (bytes.wrapping_add(0x7676_7676_7676_7676) | bytes) & 0x8080_8080_8080_8080
}

/// Pairs of digits as numbers: each byte ten times and the one behind it added; those at even places count.
#[inline(always)]
fn pairs_of(digits: u64) -> u64 {
    // Shifts, which all vector instructions have, in place of a product.
    (digits << 3).wrapping_add(digits << 1).wrapping_add(digits >> 8)
}

const _: () = assert!(MISSING_CODE > FIRST_ALIAS && MISSING_I64 < 0);

#[cfg(test)]
mod tests {
    use super::*;
    use crate::text::records::Kept;
    use oeuvre_columns::Decimal;
    use oeuvre_columns::column::dictionary::Dictionary;
    use oeuvre_columns::instructions::levels;
    use oeuvre_columns::value::calendar::{parse_date, parse_datetime};
    use proptest::prelude::*;

    /// What a loop makes of a column, and what it leaves.
    type Read = (Vec<i64>, Vec<u32>);

    const SCALES: [Option<u8>; 5] = [None, Some(0), Some(1), Some(2), Some(7)];

    /// What all loops make of a column: of numbers, dates, instants and texts.
    fn all_of(
        data: &[u8],
        marks: &[u32],
        (kept, column): (&Kept, usize),
        level: Level,
        dictionaries: &[Dictionary],
    ) -> Vec<Read> {
        let records = Records { data, quote: Some(b'"'), marks, kept, starts: &[], level };
        let rows = records.rows();
        let mut slow = Vec::new();
        let mut all = Vec::new();
        for scale in SCALES {
            let mut out = vec![1i64; rows];
            let left = numbers(&records, column, scale, &mut out, &mut slow);
            all.push((out, slow[..left].to_vec()));
        }
        let mut out = vec![1i32; rows];
        let left = dates(&records, column, &mut out, &mut slow);
        all.push((out.into_iter().map(i64::from).collect(), slow[..left].to_vec()));
        let mut out = vec![1i64; rows];
        let left = datetimes(&records, column, &mut out, &mut slow);
        all.push((out, slow[..left].to_vec()));
        for dictionary in dictionaries {
            let mut out = vec![1u32; rows];
            let few = &mut FewTexts::default();
            let left = texts(&records, column, (dictionary, few), &mut out, &mut slow);
            all.push((out.into_iter().map(i64::from).collect(), slow[..left].to_vec()));
        }
        all
    }

    /// Fields in records of so many, with the marks of all.
    fn written(fields: &[String], width: usize, returns: bool) -> (Vec<u8>, Vec<u32>) {
        let (mut data, mut marks) = (Vec::new(), Vec::new());
        for record in fields.chunks_exact(width) {
            for (i, field) in record.iter().enumerate() {
                data.extend_from_slice(field.as_bytes());
                if i + 1 == width && returns && field.len() % 2 == 0 {
                    data.push(b'\r');
                }
                marks.push(data.len() as u32);
                data.push(if i + 1 == width { b'\n' } else { b',' });
            }
        }
        (data, marks)
    }

    /// Some fields, each read as what it is at all levels: the values, or `None` where they are left.
    fn read_as(fields: &[String], which: usize) -> Vec<Option<i64>> {
        let (mut data, marks) = written(fields, 1, false);
        data.extend(b"what stands behind the last field");
        let read = |level| all_of(&data, &marks, (&Kept::all(1), 0), level, &[]).swap_remove(which);
        let all: Vec<Read> = levels().map(read).collect();
        assert!(all.windows(2).all(|pair| pair[0] == pair[1]));
        let (values, slow) = &all[0];
        let value = |(row, value): (usize, &i64)| (!slow.contains(&(row as u32))).then_some(*value);
        values.iter().enumerate().map(value).collect()
    }

    proptest! {
        #[test]
        fn a_fast_number_is_right_or_left_alone(
            texts in proptest::collection::vec("-?[0-9]{0,20}(\\.[0-9]{0,8})?[ x-]?", 1..80), which in 1usize..5,
        ) {
            for (text, fast) in texts.iter().zip(read_as(&texts, which)) {
                if let Some(fast) = fast {
                    if text.is_empty() {
                        prop_assert_eq!(fast, MISSING_I64);
                        continue;
                    }
                    let exact: Decimal = text.parse().unwrap();
                    prop_assert_eq!(Some(exact.scale), SCALES[which]);
                    prop_assert_eq!(i128::from(fast), exact.mantissa);
                }
            }
        }

        #[test]
        fn short_numbers_are_right_or_left_alone(
            texts in proptest::collection::vec("-?[0-9]{0,4}|[1-9][0-9]{0,3}|-[1-9][0-9]{0,2}|[-0-9x:/ ]{0,4}", 1..80),
        ) {
            let texts: Vec<String> = texts.into_iter().map(|text| text[..text.len().min(4)].to_owned()).collect();
            for (row, (text, fast)) in texts.iter().zip(read_as(&texts, 1)).enumerate() {
                let usual = text.parse::<i64>().ok().filter(|number| number.to_string() == *text);
                match (fast, usual) {
                    (Some(fast), _) if text.is_empty() => prop_assert_eq!(fast, MISSING_I64),
                    // A zero with a minus is one.
                    (Some(fast), None) => prop_assert_eq!((fast, text.as_str()), (0, "-0")),
                    (Some(fast), Some(usual)) => prop_assert_eq!(fast, usual),
                    // The first ones stand too near the start of the data.
                    (None, usual) => prop_assert!(usual.is_none() || row < 4, "{text}"),
                }
            }
        }

        #[test]
        fn usual_numbers_take_the_fast_path(
            wholes in proptest::collection::vec(0i64..10_000_000_000_000_000, 3..80), digits in 1u32..17, cents in 0i64..100
        ) {
            // The first ones stand too near the start of the data.
            let wholes: Vec<i64> = wholes.iter().map(|n| n % 10i64.pow(digits)).collect();
            let all = |text: fn(i64, i64) -> String| wholes.iter().map(|&n| text(n, cents)).collect::<Vec<_>>();
            let value = |n: &i64| Some(n * 100 + cents);
            let read = read_as(&all(|n, cents| format!("{n}.{cents:02}")), 3);
            prop_assert_eq!(&read[24.min(read.len())..], &wholes[24.min(read.len())..].iter().map(value).collect::<Vec<_>>());
            let read = read_as(&all(|n, cents| format!("-{n}.{cents:02}")), 3);
            let minus = |n: &i64| value(n).map(|n| -n);
            prop_assert_eq!(&read[24.min(read.len())..], &wholes[24.min(read.len())..].iter().map(minus).collect::<Vec<_>>());
            let read = read_as(&all(|n, _| n.to_string()), 1);
            prop_assert_eq!(&read[24.min(read.len())..], &wholes[24.min(read.len())..].iter().map(|&n| Some(n)).collect::<Vec<_>>());
        }

        /// Whatever the processor has and whichever marks are kept.
        #[test]
        fn all_versions_say_the_same(
            fields in proptest::collection::vec(
                prop_oneof![
                    "-?[0-9]{0,18}(\\.[0-9]{0,4})?", "-?[0-9]{1,7}\\.[0-9]{2}", "[1-9][0-9]{0,8}", "",
                    "20[0-9]{2}-[01][0-9]-[0-3][0-9]", "[0-9]{4}-[0-9]{2}-[0-9]{2}", "2000-02-29|1900-02-29|2023-02-29",
                    "20[0-9]{2}-0[0-9]-[0-3][0-9][T ][012][0-9]:[0-5][0-9]:[0-6][0-9]",
                    "SKE-HAV", "[a-z]{1,17}", "Tern|Fulmar|Northern Gannet|Kittiwake of 16|a\0|a",
                ],
                48..300,
            ),
            returns in any::<bool>(),
        ) {
            const WIDTH: usize = 3;
            let (data, marks) = written(&fields, WIDTH, returns);
            let dictionaries = [
                &["SKE-HAV", "Tern", "Fulmar", "a", "b", "\"b"][..],
                &["SKE-HAV", "Tern", "Northern Gannet", "Kittiwake of 16", "Kittiwakes of 16", "a\0", "a"],
            ].map(|texts| {
                let mut dictionary = Dictionary::default();
                texts.iter().for_each(|text| _ = dictionary.intern(text));
                dictionary
            });
            let keep = |columns: &[usize]| Kept::around(WIDTH, columns.iter().copied(), false);
            for column in 0..WIDTH {
                let plain = all_of(&data, &marks, (&Kept::all(WIDTH), column), Level::Plain, &dictionaries);
                for level in levels() {
                    for kept in [Kept::all(WIDTH), keep(&[column]), keep(&[column, 1])] {
                        let few = marks.iter().enumerate().filter(|(i, _)| kept.has(i % WIDTH));
                        let few: Vec<u32> = few.map(|(_, &mark)| mark).collect();
                        let read = all_of(&data, &few, (&kept, column), level, &dictionaries);
                        prop_assert_eq!(&read, &plain, "{:?} {:?}", level, kept);
                    }
                }
                // And what they say is right.
                let field = |row: usize| fields[row * WIDTH + column].as_str();
                for (which, (values, slow)) in plain.iter().enumerate() {
                    for (row, &value) in values.iter().enumerate().filter(|(row, _)| !slow.contains(&(*row as u32))) {
                        let text = field(row);
                        match which {
                            0..5 if text.is_empty() => prop_assert_eq!(value, MISSING_I64),
                            0..5 => {
                                let exact: Decimal = text.parse().unwrap();
                                prop_assert_eq!((Some(exact.scale), exact.mantissa), (SCALES[which], i128::from(value)));
                            }
                            5 => prop_assert_eq!(value, i64::from(parse_date(text).unwrap_or(MISSING_I32))),
                            6 => prop_assert_eq!(value, parse_datetime(text).unwrap_or(MISSING_I64)),
                            _ if text.is_empty() => prop_assert_eq!(value, i64::from(MISSING_CODE)),
                            _ => prop_assert_eq!(dictionaries[which - 7].text(value as u32), text),
                        }
                    }
                }
            }
        }

        #[test]
        fn usual_dates_take_the_fast_path(
            y in 1u32..10_000, m in 1u32..13, d in 1u32..29, h in 0u32..24, junk in "[0-9:T-]{0,3}"
        ) {
            let date = format!("{y:04}-{m:02}-{d:02}");
            let time = format!("{date}T{h:02}:{m:02}:5{}", y % 10);
            let texts = [date.clone() + &junk, time.clone(), time.clone()];
            let (mut data, marks) = written(&texts, 1, false);
            data.extend(b"what stands behind the last field");
            for level in levels() {
                let all = all_of(&data, &marks, (&Kept::all(1), 0), level, &[]);
                let fine = junk.is_empty();
                prop_assert_eq!(fine.then(|| all[5].0[0] as i32), parse_date(&texts[0]).filter(|_| fine));
                prop_assert_eq!(Some(all[6].0[1]), parse_datetime(&time));
                prop_assert_eq!(&all[6].1[..], &[0][..if texts[0].len() == 19 { 0 } else { 1 }]);
            }
        }
    }
}
