//! What of a file a pass has behind it.
//!
//! A mapped file costs at its end what it cost on the way: each of its pages has an entry in a table that one thread clears
//! when the file is unmapped, a sixth of the time of the simplest requests. So those who read the pieces let go of the
//! pages behind them, all at once and on all threads. What is looked at again, such as for the line of a problem, comes
//! from the file again.

use crate::bytes::Bytes;
use std::ops::Range;
use std::sync::atomic::{AtomicUsize, Ordering};

/// Pages are let go so many bytes at a time: each time all processors are told.
const SPAN: usize = 4 << 20;

/// How many bytes of each span of a file have been read in one pass; nothing where letting go gains nothing.
pub(crate) struct Passed(Vec<AtomicUsize>);

impl Passed {
    /// A pass over what stands behind a place.
    pub(crate) fn new(bytes: &Bytes, body: usize) -> Passed {
        let Bytes::Mapped(mapped) = bytes else { return Passed(Vec::new()) };
        let passed =
            Passed((0..mapped.len().div_ceil(SPAN)).map(|_| AtomicUsize::new(0)).collect());
        passed.done(bytes, 0..body);
        passed
    }

    /// Some bytes have been read; no byte is named twice. Who reads the last ones of a span lets go of its pages.
    pub(crate) fn done(&self, bytes: &Bytes, range: Range<usize>) {
        let Bytes::Mapped(mapped) = bytes else { return };
        let mut at = range.start;
        while at < range.end {
            let number = at / SPAN;
            let span = number * SPAN..((number + 1) * SPAN).min(mapped.len());
            let upto = range.end.min(span.end);
            let Some(read) = self.0.get(number).filter(|_| at < upto) else { return };
            let read = read.fetch_add(upto - at, Ordering::Relaxed) + (upto - at);
            if read == span.len() {
                mapped.let_go(span);
            }
            at = upto;
        }
    }
}

#[cfg(all(test, target_os = "linux"))]
mod tests {
    use super::*;
    use crate::mapped::map;
    use rstest::rstest;
    use std::io::Write;

    /// How many KiB of a mapping are at hand.
    fn at_hand(bytes: &[u8]) -> usize {
        let maps = std::fs::read_to_string("/proc/self/smaps").unwrap();
        let start = format!("{:x}-", bytes.as_ptr() as usize);
        let here = maps.lines().skip_while(|line| !line.starts_with(&start));
        let rss = here.into_iter().find_map(|line| line.strip_prefix("Rss:")).unwrap();
        rss.trim().trim_end_matches(" kB").parse().unwrap()
    }

    #[rstest]
    #[case(7, 256 << 10)]
    #[case(4096, 5 << 20)]
    #[case(0, 40 << 20)]
    fn pages_behind_a_pass_are_let_go_and_come_back(#[case] body: usize, #[case] piece: usize) {
        let written: Vec<u8> = (0..(9 << 20) + 123u32).map(|i| (i % 251) as u8).collect();
        let mut file = tempfile::tempfile().unwrap();
        file.write_all(&written).unwrap();
        let bytes = Bytes::Mapped(map(&file, None).unwrap().unwrap());
        for _ in 0..2 {
            let passed = Passed::new(&bytes, body);
            let mut pieces: Vec<usize> = (body..written.len()).step_by(piece).collect();
            // Readers end in another order than they began.
            let half = pieces.len() / 2;
            pieces.rotate_left(half);
            assert_eq!(bytes[..], written[..]);
            assert!(at_hand(&bytes) > 9 << 10);
            pieces.into_iter().for_each(|at| passed.done(&bytes, at..at + piece));
            assert_eq!(at_hand(&bytes), 0);
        }
    }
}
