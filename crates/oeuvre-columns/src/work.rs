//! How much of the work behind the rows is done, for whoever says how long the rest takes.
//!
//! Once all rows are read it is known how many groups or rows there are, and so about what is left to be done with them:
//! whoever does it says before how much, and then what is done. The unit is a nanosecond as it was measured on one machine,
//! with memory enough; how long one takes here is known from what was done so far. Nothing that is worked out depends on it.
//!
//! ```
//! use oeuvre_columns::work;
//!
//! work::begin();
//! work::expect(4 * work::FIELD);
//! work::done(work::FIELD);
//! assert_eq!(work::so_far(), (work::FIELD, 4 * work::FIELD));
//! work::step(3 * work::FIELD, || {
//!     work::part(work::FIELD);
//!     assert_eq!(work::so_far(), (2 * work::FIELD, 4 * work::FIELD));
//! });
//! assert_eq!(work::so_far(), (4 * work::FIELD, 4 * work::FIELD));
//! ```

use std::cell::Cell;
use std::sync::atomic::{AtomicU64, Ordering::Relaxed};

/// Taking what two workers have of a group together, a state or a key.
pub const JOINED: u64 = 12;
/// A result of a group, and putting it where it is shown.
pub const RESULT: u64 = 16;
/// A value of a group of which a state holds all: taking it together with others.
pub const MERGED: u64 = 40;
/// And looking at it for a result.
pub const LOOKED_AT: u64 = 5;
/// A label of a line.
pub const LABEL: u64 = 12;
/// What is compared with other lines, a line.
pub const COMPARED: u64 = 40;
/// Bringing a line to its place among the others, a figure that says which it is.
pub const SORTED: u64 = 130;
/// A value that is copied in the order in which it stands.
pub const COPIED: u64 = 10;
/// A value that is brought into the order of the lines.
pub const GATHERED: u64 = 40;
/// A field that is written.
pub const FIELD: u64 = 20;

static EXPECTED: AtomicU64 = AtomicU64::new(0);
static DONE: AtomicU64 = AtomicU64::new(0);

/// All rows are read: nothing behind them is done, and nothing is known to be left.
pub fn begin() {
    EXPECTED.store(0, Relaxed);
    DONE.store(0, Relaxed);
}

/// So much more is to be done.
pub fn expect(work: u64) {
    EXPECTED.fetch_add(work, Relaxed);
}

/// So much of it is done.
pub fn done(work: u64) {
    DONE.fetch_add(work, Relaxed);
}

thread_local! {
    /// What is left of the step that a thread is at.
    static OF_STEP: Cell<u64> = const { Cell::new(0) };
}

/// Takes a step of so much work. Whoever does it may say in between how much of it is done ([`part`]); at the end all of it
/// is.
pub fn step<T>(work: u64, take: impl FnOnce() -> T) -> T {
    let around = OF_STEP.replace(work);
    let taken = take();
    done(OF_STEP.replace(around));
    taken
}

/// So much of the step that this thread is at is done. Outside of steps that is no news.
pub fn part(work: u64) {
    let left = OF_STEP.get();
    OF_STEP.set(left.saturating_sub(work));
    done(work.min(left));
}

/// What is done, and what was to be done, that included.
pub fn so_far() -> (u64, u64) {
    (DONE.load(Relaxed), EXPECTED.load(Relaxed))
}
