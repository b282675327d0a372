//! How much memory may be taken, for who can work in another way where it is short, said once for the whole process; and
//! how much long lists take ahead.
//!
//! No result depends on it.

use std::cell::Cell;
use std::sync::atomic::{AtomicUsize, Ordering::Relaxed};

thread_local! {
    static ASIDE: Cell<bool> = const { Cell::new(false) };
}

/// Does some work that puts things aside: the memory that it takes is gone through in order later on, and may rather be put
/// away than what is touched here and there.
pub fn aside<T>(work: impl FnOnce() -> T) -> T {
    struct Back(bool);
    impl Drop for Back {
        fn drop(&mut self) {
            ASIDE.set(self.0);
        }
    }
    let _back = Back(ASIDE.replace(true));
    work()
}

/// Whether this thread puts things aside.
pub fn is_aside() -> bool {
    ASIDE.get()
}

static BYTES: AtomicUsize = AtomicUsize::new(usize::MAX);

/// From now on about so many bytes may be taken; before, as many as there are.
pub fn allow(bytes: usize) {
    BYTES.store(bytes, Relaxed);
}

/// How many bytes may be taken in all.
pub fn bytes() -> usize {
    BYTES.load(Relaxed)
}

/// From so many bytes on a list is long.
const LONG: usize = 1 << 23;

/// Makes a list at least so long, with a value at each new place.
///
/// A long list takes room for an eighth more than it needs: it grows where it stands, or its pages move, so that growing
/// often costs little, and room that is never used costs memory, or the disk where memory is short. A short one doubles.
pub fn lengthen<T: Clone>(list: &mut Vec<T>, len: usize, value: T) {
    if len > list.len() {
        make_room(list, len - list.len());
        list.resize(len, value);
    }
}

/// Sees to it that a list takes some more values, as [`lengthen`] says.
pub fn make_room<T>(list: &mut Vec<T>, more: usize) {
    if more > list.capacity() - list.len() {
        match size_of_val(list.as_slice()) < LONG {
            true => list.reserve(more),
            false => list.reserve_exact(more.max(list.len() / 8)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn work_that_puts_aside_is_known_on_all_its_threads_and_ends() {
        let inside = aside(|| (is_aside(), crate::at_once(vec![(); 8], 2, |()| is_aside())));
        assert_eq!((inside, is_aside()), ((true, vec![true; 8]), false));
        assert!(std::panic::catch_unwind(|| aside(|| panic!())).is_err());
        assert!(!is_aside());
    }

    #[test]
    fn long_lists_take_little_ahead_and_short_ones_double() {
        let mut list = vec![1u8];
        for len in 2..100_000 {
            lengthen(&mut list, len, 2);
        }
        assert_eq!((list.len(), list[0], list[99_998]), (99_999, 1, 2));
        assert!(list.capacity() > 131_000);
        lengthen(&mut list, LONG, 3);
        lengthen(&mut list, LONG + 1, 4);
        assert!((LONG + LONG / 8..LONG + LONG / 4).contains(&list.capacity()));
        lengthen(&mut list, 5, 5);
        assert_eq!((list.len(), list[LONG]), (LONG + 1, 4));
    }
}
