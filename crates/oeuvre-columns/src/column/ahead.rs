//! Asking for memory that will be looked at soon.
//!
//! Where each row looks at another place of a table that no cache holds, a processor waits for one place after the other,
//! as far as it does not see the next ones itself. Asking for those of some rows further on lets it wait for many at once:
//! with a million groups a third of the time. Where a cache holds the table it costs a little, and so nobody asks.
//!
//! ```
//! use oeuvre_columns::column::ahead::{ask_for, is_far};
//!
//! let sums = vec![0u64; 1 << 20];
//! assert!(is_far(&sums) && !is_far(&sums[..100]));
//! ask_for(&sums, 4711);
//! ask_for(&sums, usize::MAX); // what is not there is not asked for
//! ```

/// So many rows further on it is asked for what they look at: about as long as memory takes to answer.
pub const SOON: usize = 24;
/// What the caches of one core hold, about, in bytes.
const NEAR: usize = 256 << 10;

/// Whether a table is larger than what the caches of one core hold.
#[inline]
pub fn is_far<T>(table: &[T]) -> bool {
    size_of_val(table) > NEAR
}

/// Asks for an item of a table that will be looked at soon. Nothing is read, and one that is not there is no harm.
#[inline(always)]
#[allow(unsafe_code)]
pub fn ask_for<T>(table: &[T], at: usize) {
    #[cfg(target_arch = "x86_64")]
    {
        use std::arch::x86_64::{_MM_HINT_T0, _mm_prefetch};
        // SAFETY: a prefetch reads nothing and cannot fault, whatever the address.
        unsafe { _mm_prefetch::<_MM_HINT_T0>(table.as_ptr().wrapping_add(at).cast()) }
    }
    #[cfg(not(target_arch = "x86_64"))]
    let _ = (table, at);
}
