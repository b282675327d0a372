//! How much memory may be taken, for who can work in another way where it is short: said once, for the whole process.
//!
//! No result depends on it.

use std::sync::atomic::{AtomicUsize, Ordering::Relaxed};

static BYTES: AtomicUsize = AtomicUsize::new(usize::MAX);

/// From now on about so many bytes may be taken; before, as many as there are.
pub fn allow(bytes: usize) {
    BYTES.store(bytes, Relaxed);
}

/// How many bytes may be taken in all.
pub fn bytes() -> usize {
    BYTES.load(Relaxed)
}
