//! Some work on each of a few things, by several threads at once.
//!
//! ```
//! assert_eq!(oeuvre_columns::at_once(vec![3, 4], 2, |side| side * side), [9, 16]);
//! ```

use crate::room;
use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering::Relaxed};
use std::sync::{Mutex, PoisonError, mpsc};

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
    let is_aside = room::is_aside();
    let take_too = || if is_aside { room::aside(take) } else { take() };
    let mut made: Vec<(usize, R)> = std::thread::scope(|scope| {
        let others: Vec<_> = (1..more).map(|_| scope.spawn(take_too)).collect();
        let mut made = take();
        for other in others {
            made.extend(other.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)));
        }
        made
    });
    made.sort_by_key(|(place, _)| *place);
    made.into_iter().map(|(_, made)| made).collect()
}

/// What some work makes of each number below a count, by several threads, given on in their order as it comes; false stops
/// the work. Little is made ahead of what is taken. A panic goes on where it was asked for.
///
/// ```
/// let mut all = Vec::new();
/// oeuvre_columns::in_order(3, 2, |number| number * 2, |made| {
///     all.push(made);
///     true
/// });
/// assert_eq!(all, [0, 2, 4]);
/// ```
pub fn in_order<T: Send>(
    count: usize,
    threads: usize,
    make: impl Fn(usize) -> T + Sync,
    mut take: impl FnMut(T) -> bool,
) {
    let (next, stop) = (AtomicUsize::new(0), AtomicBool::new(false));
    let (send, receive) = mpsc::sync_channel::<(usize, T)>(2 * threads);
    std::thread::scope(|scope| {
        for _ in 0..threads.clamp(1, count.max(1)) {
            let (send, next, stop, make) = (send.clone(), &next, &stop, &make);
            scope.spawn(move || {
                loop {
                    let at = next.fetch_add(1, Relaxed);
                    let is_over = at >= count || stop.load(Relaxed);
                    if is_over || send.send((at, make(at))).is_err() {
                        return;
                    }
                }
            });
        }
        drop(send);
        let (mut waiting, mut wanted) = (BTreeMap::new(), 0);
        for (at, made) in receive {
            waiting.insert(at, made);
            while let Some(made) = waiting.remove(&wanted) {
                wanted += 1;
                if !stop.load(Relaxed) && !take(made) {
                    stop.store(true, Relaxed);
                }
            }
        }
    });
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
        let mut taken = Vec::new();
        let take = |made| {
            taken.push(made);
            taken.len() < 5
        };
        in_order(things, threads, |thing| thing * thing, take);
        assert_eq!(taken, expected[..things.min(5)]);
    }
}
