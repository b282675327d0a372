//! Where fields and records end: separators and line feeds outside quotes, found 64 bytes at a time.
//!
//! Each 64 bytes become three bit masks (separators, line feeds, quotes). A prefix XOR over the quote
//! mask says which bytes lie inside quotes; what is left of the other two are the marks, which are
//! written out as positions. So quoted separators and line breaks cost nothing extra, and where no
//! quote is in sight the XOR is skipped.
//!
//! A quote that RFC 4180 does not allow (`5" pipe`) would turn inside and outside around for the
//! rest of the file; the masks see it at once, and it is reported.
//!
//! Where only some fields of a record are wanted, only the marks around them are written out, as long as every
//! record has as many fields as the first one: the mask of a block and the number of fields before it say which of
//! its marks these are (`pattern.rs`).
//!
//! The loop is written once and compiled for several instruction sets, of which the best is picked
//! at run time. If you change it, the tests compare all of them with a plain state machine.

use super::pattern::Pattern;
use oeuvre_columns::column::ahead::ask_for;
use oeuvre_columns::instructions::Level;

/// The characters that structure a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Dialect {
    /// Between fields.
    pub(crate) separator: u8,
    /// Around fields; `None` when quotes are ordinary characters.
    pub(crate) quote: Option<u8>,
}

impl Found {
    /// The same with so many ends.
    fn ended(self, ends: usize) -> Found {
        match self {
            Found::Records { next, .. } => Found::Records { ends, next },
            other => other,
        }
    }
}

/// Positions, in a buffer that is kept from scan to scan.
#[derive(Clone, Debug, Default)]
pub(crate) struct Marks {
    buffer: Vec<u32>,
    len: usize,
}

impl Marks {
    /// The buffer, with room for one block's marks from place `n` on.
    #[inline(always)]
    fn room(&mut self, n: usize) -> &mut [u32] {
        if self.buffer.len() < n + BLOCK {
            self.grow(n);
        }
        &mut self.buffer
    }

    #[cold]
    fn grow(&mut self, n: usize) {
        self.buffer.resize((n + BLOCK) * 2, 0);
    }

    /// Takes other positions.
    pub(crate) fn replace(&mut self, marks: Vec<u32>) {
        self.len = marks.len();
        self.buffer = marks;
    }
}

impl std::ops::Deref for Marks {
    type Target = [u32];
    fn deref(&self) -> &[u32] {
        &self.buffer[..self.len]
    }
}

/// What a scan found.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Found {
    /// The marks end with the line feed that ends the last record; so many line feeds are marks.
    Records {
        /// Marks that are line feeds (or the end of the data).
        ends: usize,
        /// Where the next record starts.
        next: usize,
    },
    /// A quote at this place is not at the edge of a field.
    StrayQuote(usize),
    /// The data ends inside quotes.
    OpenQuote,
}

/// Finds all marks of the records that start before `until`. The data starts with a record; its end
/// ends a record too. Marks are positions in `data`, which must be shorter than 4 GiB. When something
/// is wrong, the marks before it are there.
pub(crate) fn scan(
    data: &[u8],
    until: usize,
    dialect: Dialect,
    level: Level,
    marks: &mut Marks,
) -> Found {
    (implementation(level).scan)(data, until, dialect, marks)
}

/// As [`scan`], of the marks that a pattern keeps; `None` where the records are not as long as it says, something
/// is wrong, or the processor gains nothing by it.
pub(super) fn scan_for(
    data: &[u8],
    until: usize,
    dialect: Dialect,
    level: Level,
    pattern: &Pattern,
    marks: &mut Marks,
) -> Option<Found> {
    (implementation(level).scan_for?)(data, until, dialect, pattern, marks)
}

/// The number of quotes, modulo two.
pub(crate) fn odd_quotes(data: &[u8], quote: u8, level: Level) -> bool {
    (implementation(level).odd)(data, quote)
}

type Scan = fn(&[u8], usize, Dialect, &mut Marks) -> Found;
type ScanFor = fn(&[u8], usize, Dialect, &Pattern, &mut Marks) -> Option<Found>;

/// One compiled version of the loops.
#[derive(Clone, Copy)]
struct Implementation {
    #[cfg_attr(not(test), allow(dead_code))]
    name: &'static str,
    scan: Scan,
    /// Where the bits of a word can be spread in one instruction.
    scan_for: Option<ScanFor>,
    odd: fn(&[u8], u8) -> bool,
}

fn implementation(level: Level) -> Implementation {
    match level {
        #[cfg(target_arch = "x86_64")]
        Level::Avx2 => x86::AVX2,
        #[cfg(target_arch = "x86_64")]
        Level::Plain => x86::SSE2,
        #[cfg(not(target_arch = "x86_64"))]
        _ => PLAIN,
    }
}

#[cfg_attr(target_arch = "x86_64", allow(dead_code))]
const PLAIN: Implementation = Implementation {
    name: "plain",
    scan: scan_all::<Plain>,
    scan_for: None,
    odd: odd_with::<Plain>,
};

/// How to find bytes in a block of 64.
trait Masks {
    /// Bit `i` says that byte `i` equals `byte`.
    fn eq(block: &[u8; 64], byte: u8) -> u64;
    /// Whether a block has a byte.
    #[inline(always)]
    fn has(block: &[u8; 64], byte: u8) -> bool {
        Self::eq(block, byte) != 0
    }
    /// For every bit, whether an odd number of set bits lie at or below it.
    fn prefix_xor(bits: u64) -> u64;
}

/// How to spread the bits of a word in one instruction.
trait Spread: Masks {
    /// The bits of a mask of which the low bits of a word say, one for each from below, that they stay.
    fn spread(word: u64, mask: u64) -> u64;
}

/// Without vector instructions: eight bytes at a time.
struct Plain;

impl Masks for Plain {
    #[inline(always)]
    fn eq(block: &[u8; 64], byte: u8) -> u64 {
        const LOW: u64 = 0x0101_0101_0101_0101;
        const HIGH: u64 = 0x8080_8080_8080_8080;
        let mut mask = 0;
        for (i, word) in block.as_chunks::<8>().0.iter().enumerate() {
            let x = u64::from_le_bytes(*word) ^ (LOW * u64::from(byte));
            // The high bit of each byte that is zero, exactly.
            let zero = !(((x & !HIGH).wrapping_add(!HIGH)) | x) & HIGH;
            mask |= (zero >> 7).wrapping_mul(0x0102_0408_1020_4080) >> 56 << (8 * i);
        }
        mask
    }
    #[inline(always)]
    fn prefix_xor(mut bits: u64) -> u64 {
        for shift in [1, 2, 4, 8, 16, 32] {
            bits ^= bits << shift;
        }
        bits
    }
}

#[inline(always)]
fn odd_with<M: Masks>(data: &[u8], quote: u8) -> bool {
    let (blocks, rest) = data.as_chunks::<64>();
    let mut count = 0;
    for block in blocks {
        count += M::eq(block, quote).count_ones();
    }
    count += rest.iter().map(|&b| u32::from(b == quote)).sum::<u32>();
    count & 1 == 1
}

/// Room for the marks of one block beyond those counted.
const BLOCK: usize = 64;
/// How far ahead bytes are asked for: further than the processor's own guesses reach.
const AHEAD: usize = 1024;

/// What becomes of the marks of blocks.
trait Take<M> {
    /// Writes those of a block that are wanted; of its marks `lines` end a record. There is room for 64.
    fn take(&mut self, marks: u64, lines: u64, base: usize, out: &mut [u32]);

    /// How many have been written.
    fn taken(&self) -> usize;
}

/// All are written, and line ends are counted.
#[derive(Default)]
struct All {
    taken: usize,
    ends: usize,
}

impl<M> Take<M> for All {
    #[inline(always)]
    fn take(&mut self, marks: u64, lines: u64, base: usize, out: &mut [u32]) {
        self.ends += lines.count_ones() as usize;
        self.taken = write_positions::<8>(marks, base as u32, out, self.taken);
    }

    #[inline(always)]
    fn taken(&self) -> usize {
        self.taken
    }
}

/// Those of a pattern are written.
///
/// `STEP` of them are written at a time, whatever comes: where more are usual in a block, fewer would go around often.
struct OfPattern<'a, const STEP: usize> {
    pattern: &'a Pattern,
    taken: usize,
    /// Fields of the record before this place.
    fields: usize,
    /// Line ends that are not at the end of a record as the pattern has it, or the other way round.
    wrong: u64,
}

impl<M: Spread, const STEP: usize> Take<M> for OfPattern<'_, STEP> {
    #[inline(always)]
    fn take(&mut self, marks: u64, lines: u64, base: usize, out: &mut [u32]) {
        let (kept, ends, behind) = self.pattern.of_block(self.fields, marks.count_ones() as usize);
        self.fields = behind;
        self.wrong |= M::spread(ends, marks) ^ lines;
        self.taken = write_positions::<STEP>(M::spread(kept, marks), base as u32, out, self.taken);
    }

    #[inline(always)]
    fn taken(&self) -> usize {
        self.taken
    }
}

#[inline(always)]
fn scan_all<M: Masks>(data: &[u8], until: usize, dialect: Dialect, marks: &mut Marks) -> Found {
    let mut all = All::default();
    scan_with::<M, All>(data, until, dialect, &mut all, marks).ended(all.ends)
}

#[inline(always)]
fn scan_some<M: Spread>(
    data: &[u8],
    until: usize,
    dialect: Dialect,
    pattern: &Pattern,
    marks: &mut Marks,
) -> Option<Found> {
    match pattern.are_many() {
        true => scan_in_steps::<M, 8>(data, until, dialect, pattern, marks),
        false => scan_in_steps::<M, 4>(data, until, dialect, pattern, marks),
    }
}

#[inline(always)]
fn scan_in_steps<M: Spread, const STEP: usize>(
    data: &[u8],
    until: usize,
    dialect: Dialect,
    pattern: &Pattern,
    marks: &mut Marks,
) -> Option<Found> {
    let mut some = OfPattern::<STEP> { pattern, taken: 0, fields: 0, wrong: 0 };
    let found = scan_with::<M, _>(data, until, dialect, &mut some, marks);
    let as_it_says = some.wrong == 0 && some.fields == 0;
    (as_it_says && matches!(found, Found::Records { .. }))
        .then(|| found.ended(marks.len() / pattern.kept()))
}

/// The marks are found, but the ends are not counted.
#[inline(always)]
fn scan_with<M: Masks, T: Take<M>>(
    data: &[u8],
    until: usize,
    dialect: Dialect,
    take: &mut T,
    marks: &mut Marks,
) -> Found {
    let separator = dialect.separator;
    let quote = dialect.quote.unwrap_or(b'"');
    let quoting = if dialect.quote.is_some() { u64::MAX } else { 0 };
    // Carried from block to block: all ones inside quotes; whether the byte before closes a quote.
    let (mut inside, mut closed) = (0u64, 0u64);
    let mut at = 0;
    // Blocks that end before `until` and the end of the data, and hold no quote, are plain.
    let plain_end = until.min(data.len()).saturating_sub(BLOCK);
    let mut tail = [0u8; BLOCK];
    loop {
        if inside | closed == 0 {
            at = plain_blocks::<M, T>(data, plain_end, at, dialect, take, marks);
        }
        if at >= data.len() {
            break;
        }
        let (block, valid) = block_at(data, at, &mut tail);
        let lines = M::eq(block, b'\n') & valid;
        let both = (M::eq(block, separator) & valid) | lines;
        let quotes = M::eq(block, quote) & valid & quoting;
        let within = M::prefix_xor(quotes) ^ inside;
        inside = 0u64.wrapping_sub(within >> 63);
        let (mut found, mut line_ends) = (both & !within, lines & !within);
        let mut stray = 0;
        if quotes | closed != 0 {
            let before = match at.checked_sub(1).map(|b| data[b]) {
                None => 1,
                Some(byte) => u64::from(byte == separator || byte == b'\n'),
            };
            let returns = M::eq(block, b'\r');
            (stray, closed) = stray_quotes([quotes, within, found, returns, valid], before, closed);
        }
        let last = first_from(line_ends, until.saturating_sub(at + 1));
        if let Some(upto) = last {
            found &= upto;
            line_ends &= upto;
            stray &= upto;
        }
        if stray != 0 {
            let first = at + stray.trailing_zeros() as usize;
            // After a closing quote it is the quote before that is to blame.
            let blame = if data[first] == quote { first } else { first.saturating_sub(1) };
            let before = (stray & stray.wrapping_neg()) - 1;
            take.take(found & before, line_ends & before, at, marks.room(take.taken()));
            marks.len = take.taken();
            return Found::StrayQuote(blame);
        }
        take.take(found, line_ends, at, marks.room(take.taken()));
        if last.is_some() {
            marks.len = take.taken();
            let next = at + BLOCK - found.leading_zeros() as usize;
            return Found::Records { ends: 0, next };
        }
        at += BLOCK;
    }
    marks.len = take.taken();
    if inside != 0 {
        return Found::OpenQuote;
    }
    // The end of the data ends its last record, where that has no line feed.
    if data.last().is_some_and(|&b| b != b'\n') {
        take.take(1, 1, data.len(), marks.room(take.taken()));
        marks.len = take.taken();
    }
    Found::Records { ends: 0, next: data.len() }
}

/// The block at a place, and a bit for each of its bytes; the last ones may stand in a block that is not full.
#[inline(always)]
fn block_at<'a>(data: &'a [u8], at: usize, tail: &'a mut [u8; BLOCK]) -> (&'a [u8; BLOCK], u64) {
    if let Some(block) = data[at..].first_chunk::<BLOCK>() {
        return (block, u64::MAX);
    }
    let left = data.len() - at;
    tail[..left].copy_from_slice(&data[at..]);
    (tail, (1u64 << left) - 1)
}

/// The bits up to and including the first one that is set from a place on.
#[inline(always)]
fn first_from(bits: u64, place: usize) -> Option<u64> {
    let late = if place < BLOCK { bits & (u64::MAX << place) } else { 0 };
    (late != 0).then(|| late ^ late.wrapping_sub(1))
}

/// Blocks without a quote, from one that starts outside quotes: the place behind them.
#[inline(always)]
fn plain_blocks<M: Masks, T: Take<M>>(
    data: &[u8],
    end: usize,
    mut at: usize,
    dialect: Dialect,
    take: &mut T,
    marks: &mut Marks,
) -> usize {
    // What is no quote here is only looked at more closely.
    let quote = dialect.quote.unwrap_or(NEVER);
    while at < end {
        let upto = end.next_multiple_of(BLOCK).min(data.len()).min(at + RUN * BLOCK);
        let (blocks, _) = data[at..upto].as_chunks::<BLOCK>();
        // Room for all marks of a run is looked for once.
        let room = marks.room(take.taken() + blocks.len() * BLOCK);
        let start = at;
        for block in blocks {
            if at >= end || M::has(block, quote) {
                return at;
            }
            ask_for(block, AHEAD);
            let lines = M::eq(block, b'\n');
            let found = M::eq(block, dialect.separator) | lines;
            take.take(found, lines, at, room);
            at += BLOCK;
        }
        if at == start {
            break;
        }
    }
    at
}

/// Blocks that are gone through before room is looked for again.
const RUN: usize = 1024;
/// A byte that no text has.
const NEVER: u8 = 0xff;

/// Quotes that stand where none may, and whether the last byte closes one. A quote opens behind a mark, or
/// behind the one that it doubles; a closing one stands before a mark, a carriage return, or the one that it
/// doubles.
#[inline(always)]
fn stray_quotes(
    [quotes, within, found, returns, valid]: [u64; 5],
    before: u64,
    closed: u64,
) -> (u64, u64) {
    let (opening, closing) = (quotes & within, quotes & !within);
    let after_edge = (found | closing) << 1 | before | closed;
    let after_closing = closing << 1 | closed;
    let stray = (opening & !after_edge) | (after_closing & !(found | quotes | returns) & valid);
    (stray, closing >> 63)
}

/// Writes out the positions of the set bits, so many at a time without looking how many there are.
#[inline(always)]
#[allow(unsafe_code)]
fn write_positions<const STEP: usize>(
    mut bits: u64,
    base: u32,
    marks: &mut [u32],
    n: usize,
) -> usize {
    let count = bits.count_ones() as usize;
    let mut at = n;
    loop {
        let Some(some) = marks[at..].first_chunk_mut::<STEP>() else { return n + count };
        for place in some {
            let position = base.wrapping_add(bits.trailing_zeros());
            // SAFETY: a place that is borrowed mutably is written to. Volatile, so that the compiler writes one by one:
            // else it brings them together in a vector register first, which takes longer.
            unsafe { std::ptr::from_mut(place).write_volatile(position) };
            bits &= bits.wrapping_sub(1);
        }
        at += STEP;
        if at >= n + count {
            return n + count;
        }
    }
}

/// The same loops with vector instructions.
#[cfg(target_arch = "x86_64")]
#[allow(unsafe_code)]
mod x86 {
    use super::{
        Dialect, Found, Implementation, Marks, Masks, Pattern, Spread, odd_with, scan_all,
        scan_some,
    };
    use std::arch::x86_64::*;

    /// 16 bytes at a time: every x86-64 processor.
    struct Sse2;
    /// 32 bytes at a time.
    struct Avx2;

    impl Masks for Sse2 {
        #[inline(always)]
        fn eq(block: &[u8; 64], byte: u8) -> u64 {
            let mut mask = 0;
            for (i, part) in block.as_chunks::<16>().0.iter().enumerate() {
                // SAFETY: SSE2 is part of x86-64; the load is of 16 bytes that the array has.
                let bits = unsafe {
                    let v = _mm_loadu_si128(part.as_ptr().cast());
                    _mm_movemask_epi8(_mm_cmpeq_epi8(v, _mm_set1_epi8(byte as i8)))
                };
                mask |= u64::from(bits as u16) << (16 * i);
            }
            mask
        }
        #[inline(always)]
        fn prefix_xor(bits: u64) -> u64 {
            super::Plain::prefix_xor(bits)
        }
    }

    #[inline(always)]
    fn carryless_prefix_xor(bits: u64) -> u64 {
        // SAFETY: only used by versions that are picked where pclmulqdq is there.
        unsafe {
            let all = _mm_set1_epi8(-1);
            let product = _mm_clmulepi64_si128::<0>(_mm_set_epi64x(0, bits as i64), all);
            _mm_cvtsi128_si64(product) as u64
        }
    }

    impl Masks for Avx2 {
        #[inline(always)]
        fn eq(block: &[u8; 64], byte: u8) -> u64 {
            // SAFETY: only used by the version that is picked where AVX2 is there; the loads are of
            // 64 bytes that the array has.
            unsafe {
                let byte = _mm256_set1_epi8(byte as i8);
                let half = |at: usize| {
                    let v = _mm256_loadu_si256(block.as_ptr().add(at).cast());
                    u64::from(_mm256_movemask_epi8(_mm256_cmpeq_epi8(v, byte)) as u32)
                };
                half(0) | half(32) << 32
            }
        }
        #[inline(always)]
        fn has(block: &[u8; 64], byte: u8) -> bool {
            // SAFETY: as above.
            unsafe {
                let byte = _mm256_set1_epi8(byte as i8);
                let half = |at: usize| {
                    _mm256_cmpeq_epi8(_mm256_loadu_si256(block.as_ptr().add(at).cast()), byte)
                };
                _mm256_movemask_epi8(_mm256_or_si256(half(0), half(32))) != 0
            }
        }
        #[inline(always)]
        fn prefix_xor(bits: u64) -> u64 {
            carryless_prefix_xor(bits)
        }
    }

    impl Spread for Avx2 {
        #[inline(always)]
        fn spread(word: u64, mask: u64) -> u64 {
            // SAFETY: only used by the version that is picked where BMI2 is there.
            unsafe { _pdep_u64(word, mask) }
        }
    }

    macro_rules! version {
        ($features:literal, $masks:ty, $scan:ident, $scan_for:ident, $odd:ident) => {
            fn $scan(data: &[u8], until: usize, dialect: Dialect, marks: &mut Marks) -> Found {
                #[target_feature(enable = $features)]
                fn inner(data: &[u8], until: usize, dialect: Dialect, marks: &mut Marks) -> Found {
                    scan_all::<$masks>(data, until, dialect, marks)
                }
                // SAFETY: only picked where the processor has these features.
                unsafe { inner(data, until, dialect, marks) }
            }
            fn $scan_for(
                data: &[u8],
                until: usize,
                dialect: Dialect,
                pattern: &Pattern,
                marks: &mut Marks,
            ) -> Option<Found> {
                #[target_feature(enable = $features)]
                fn inner(
                    data: &[u8],
                    until: usize,
                    dialect: Dialect,
                    pattern: &Pattern,
                    marks: &mut Marks,
                ) -> Option<Found> {
                    scan_some::<$masks>(data, until, dialect, pattern, marks)
                }
                // SAFETY: as above.
                unsafe { inner(data, until, dialect, pattern, marks) }
            }
            fn $odd(data: &[u8], quote: u8) -> bool {
                #[target_feature(enable = $features)]
                fn inner(data: &[u8], quote: u8) -> bool {
                    odd_with::<$masks>(data, quote)
                }
                // SAFETY: as above.
                unsafe { inner(data, quote) }
            }
        };
    }
    version!("avx2,bmi1,bmi2,popcnt,pclmulqdq", Avx2, scan_avx2, some_avx2, odd_avx2);
    pub(super) const AVX2: Implementation =
        Implementation { name: "avx2", scan: scan_avx2, scan_for: Some(some_avx2), odd: odd_avx2 };
    pub(super) const SSE2: Implementation = Implementation {
        name: "sse2",
        scan: scan_all::<Sse2>,
        scan_for: None,
        odd: odd_with::<Sse2>,
    };
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::text::records::Kept;
    use oeuvre_columns::instructions::levels;
    use proptest::prelude::*;

    const COMMAS: Dialect = Dialect { separator: b',', quote: Some(b'"') };

    /// One byte at a time.
    fn slowly(data: &[u8], until: usize, dialect: Dialect) -> (Vec<u32>, Found) {
        let (mut marks, mut ends, mut inside) = (Vec::new(), 0, false);
        let edge = |i: usize| data[i] == dialect.separator || data[i] == b'\n';
        for i in 0..data.len() {
            if Some(data[i]) == dialect.quote {
                if !inside {
                    // The quote before it, if any, was a closing one: then this is the second of two.
                    let before = i.checked_sub(1);
                    let fine = before.is_none_or(|b| edge(b) || data[b] == data[i]);
                    if !fine {
                        return (marks, Found::StrayQuote(i));
                    }
                } else if i + 1 < data.len()
                    && !edge(i + 1)
                    && data[i + 1] != b'\r'
                    && data[i + 1] != data[i]
                {
                    return (marks, Found::StrayQuote(i));
                }
                inside = !inside;
            } else if !inside && edge(i) {
                marks.push(i as u32);
                if data[i] == b'\n' {
                    ends += 1;
                    if i + 1 >= until {
                        return (marks, Found::Records { ends, next: i + 1 });
                    }
                }
            }
        }
        if inside {
            return (marks, Found::OpenQuote);
        }
        if data.last().is_some_and(|&b| b != b'\n') {
            marks.push(data.len() as u32);
            ends += 1;
        }
        (marks, Found::Records { ends, next: data.len() })
    }

    /// The marks that are kept of each record; `None` where some are of another length.
    fn few_of(data: &[u8], marks: &[u32], width: usize, kept: &Kept) -> Option<Vec<u32>> {
        let is_end = |mark: u32| data.get(mark as usize).is_none_or(|&b| b == b'\n');
        let as_they_should =
            marks.iter().enumerate().all(|(i, &m)| is_end(m) == (i % width == width - 1));
        let few = marks.iter().enumerate().filter(|(i, _)| kept.has(i % width)).map(|(_, &m)| m);
        (as_they_should && marks.len().is_multiple_of(width)).then(|| few.collect())
    }

    fn check(data: &[u8], until: usize, dialect: Dialect) {
        let (marks, found) = slowly(data, until, dialect);
        for it in levels().map(implementation).chain([PLAIN]) {
            let mut mine = Marks::default();
            let result = (it.scan)(data, until, dialect, &mut mine);
            assert_eq!(result, found, "{} on {:?}", it.name, String::from_utf8_lossy(data));
            if found != Found::OpenQuote {
                assert_eq!(&mine[..], marks, "{} on {:?}", it.name, String::from_utf8_lossy(data));
            }
            for (width, fields) in [(2, &[0][..]), (3, &[1]), (3, &[]), (4, &[2, 3]), (70, &[9])] {
                let kept = Kept::around(width, fields.iter().copied(), width == 4);
                let few = matches!(found, Found::Records { .. })
                    .then(|| few_of(data, &marks, width, &kept))
                    .flatten();
                let mut mine = Marks::default();
                let Some(scan_for) = it.scan_for else { continue };
                let result = scan_for(data, until, dialect, &Pattern::new(width, &kept), &mut mine);
                let result = result.map(|result| {
                    assert_eq!(result, found, "{} on {:?}", it.name, String::from_utf8_lossy(data));
                    mine.to_vec()
                });
                assert_eq!(result, few, "{} on {:?}", it.name, String::from_utf8_lossy(data));
            }
            let odd = data.iter().filter(|&&b| b == b'"').count() % 2 == 1;
            assert_eq!((it.odd)(data, b'"'), odd, "{}", it.name);
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(2000))]
        #[test]
        fn every_version_agrees_with_one_byte_at_a_time(
            data in proptest::collection::vec(proptest::sample::select(b"ab,,\n\"\"\r;".to_vec()), 0..300),
            until in 0usize..320,
        ) {
            check(&data, until, COMMAS);
            check(&data, until, Dialect { separator: b';', quote: None });
        }

        #[test]
        fn well_formed_files_agree_at_every_length(
            fields in proptest::collection::vec("[a-z]{0,9}|\"[a-z,\\n]{0,40}\"", 1..60), cut in 0usize..400
        ) {
            let mut text = String::new();
            for (i, field) in fields.iter().enumerate() {
                text.push_str(field);
                text.push(if i % 3 == 2 { '\n' } else { ',' });
            }
            check(text.as_bytes(), cut.min(text.len()), COMMAS);
        }

        #[test]
        fn few_marks_of_each_record_are_those_of_all(
            records in proptest::collection::vec(("[a-z]{0,40}", "[a-z]{0,9}|\"[a-z,\\n]{0,90}\"", "[0-9]{0,3}"), 1..40),
            ended in any::<bool>(), cut in 0usize..900,
        ) {
            let text: Vec<String> = records.into_iter().map(|(a, b, c)| format!("{a},{b},{c}")).collect();
            let text = text.join("\n") + if ended { "\n" } else { "" };
            check(text.as_bytes(), cut.min(text.len()), COMMAS);
        }
    }
}
