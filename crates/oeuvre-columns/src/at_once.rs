//! Some work on each of a few things, by several threads at once.
//!
//! ```
//! assert_eq!(oeuvre_columns::at_once(vec![3, 4], 2, |side| side * side), [9, 16]);
//! ```

use std::sync::{Mutex, PoisonError};

/// What some work makes of each thing, in their order: whichever of the threads is ready takes the next one. A panic
/// goes on where it was asked for.
pub fn at_once<T: Send, R: Send>(
    things: Vec<T>,
    threads: usize,
    work: impl Fn(T) -> R + Sync,
) -> Vec<R> {
    let more = threads.min(things.len());
    let next = Mutex::new(things.into_iter().enumerate());
    let claim = || next.lock().unwrap_or_else(PoisonError::into_inner).next();
    let take = || {
        let mut made = Vec::new();
        while let Some((place, thing)) = claim() {
            made.push((place, work(thing)));
        }
        made
    };
    let mut made: Vec<(usize, R)> = std::thread::scope(|scope| {
        let others: Vec<_> = (1..more).map(|_| scope.spawn(take)).collect();
        let mut made = take();
        for other in others {
            made.extend(other.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)));
        }
        made
    });
    made.sort_by_key(|(place, _)| *place);
    made.into_iter().map(|(_, made)| made).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    fn things_come_in_their_order(
        #[values(0, 1, 7)] things: usize,
        #[values(1, 2, 9)] threads: usize,
    ) {
        let expected: Vec<usize> = (0..things).map(|thing| thing * thing).collect();
        assert_eq!(at_once((0..things).collect(), threads, |thing| thing * thing), expected);
    }
}
