//! A limit on memory: what grows past it lies in an unnamed temporary file, and is brought in where it is used.
//!
//! ```text
//! a large piece of memory → ordinary memory while there is room for it (lib.rs; the largest pieces are kept for whoever
//! asks next: kept.rs), else a place in the file (region.rs), a long one with a file of its own (own.rs); pages are let
//! go of whenever too many of them have been brought in (keeper.rs)
//! ```
//!
//! Whatever the program makes (groups, values, rows, lines of the table) is made of large pieces and many small ones,
//! and the large ones are what grows with the data. So the limit is kept in the one place where pieces come from, and
//! nothing that works on them knows of it: results are the same bytes with any limit. What is left to whoever writes
//! such work is to go through large pieces in order, and not here and there: a page that was let go of costs a
//! microsecond where the system still has it at hand, and a disk access where it has not.
//!
//! The file has no name from the first moment on, so that nothing is left of a program that is killed. Room on the disk
//! is taken before it is used: a full disk ends the program with a message, and not with a signal.
//!
//! ```no_run
//! #[global_allocator]
//! static MEMORY: oeuvre_memory::Memory = oeuvre_memory::Memory::new();
//!
//! oeuvre_memory::limit(1 << 30, &std::env::temp_dir(), || {}, || false)?;
//! let large = vec![0u8; 3 << 30]; // lies in the file
//! assert!(oeuvre_memory::spilled() >= 3 << 30);
//! # drop(large);
//! # Ok::<(), std::io::Error>(())
//! ```
//!
//! On Linux alone; elsewhere there is no limit.

#[cfg(target_os = "linux")]
mod keeper;
#[cfg(target_os = "linux")]
mod kept;
#[cfg(target_os = "linux")]
mod own;
#[cfg(target_os = "linux")]
mod region;

use std::alloc::{GlobalAlloc, Layout, System};
use std::io;
use std::path::Path;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicUsize, Ordering::Relaxed};

/// Where memory comes from: a `#[global_allocator]`. Pieces of less than `LARGE` bytes never go to the file.
pub struct Memory<const LARGE: usize = 8192>;

/// How many bytes of ordinary memory large pieces may take.
static MOST: AtomicUsize = AtomicUsize::new(usize::MAX);
/// How many they take.
static HELD: AtomicUsize = AtomicUsize::new(0);
/// Whether the piece that a thread asks for is put aside.
static IS_ASIDE: OnceLock<fn() -> bool> = OnceLock::new();
/// Such a piece goes to the file as soon as large pieces take one of so many bytes that they may.
const OF_ASIDE: usize = 8;

/// Limits what this process takes to about so many bytes, beside the files that it has mapped; what is more lies in a
/// temporary file in a folder. There is one limit: a later one replaces it, in the folder of the first. `let_go_of_input`
/// is called when pages of files that are read take too much of it, and lets go of those. `is_aside` says whether the
/// piece that this thread asks for is one that is put aside: ordinary memory is rather for others.
///
/// # Errors
/// The file cannot be made there.
pub fn limit(
    bytes: u64,
    folder: &Path,
    let_go_of_input: fn(),
    is_aside: fn() -> bool,
) -> io::Result<()> {
    #[cfg(target_os = "linux")]
    {
        region::open(folder)?;
        let _ = IS_ASIDE.set(is_aside);
        keeper::keep(bytes, let_go_of_input);
        // The other half is for the pages of the file that are in use, and for what is small.
        MOST.store(usize::try_from(bytes / 2).unwrap_or(usize::MAX), Relaxed);
    }
    #[cfg(not(target_os = "linux"))]
    let _ = (bytes, folder, let_go_of_input, is_aside);
    Ok(())
}

/// How many bytes lay in the file when they were most; 0 where nothing had to.
pub fn spilled() -> u64 {
    #[cfg(target_os = "linux")]
    return region::most();
    #[cfg(not(target_os = "linux"))]
    0
}

impl<const LARGE: usize> Default for Memory<LARGE> {
    fn default() -> Self {
        Memory::new()
    }
}

impl<const LARGE: usize> Memory<LARGE> {
    /// Memory whose pieces are large from so many bytes on: what batches of rows are made of, unless said.
    pub const fn new() -> Self {
        Memory
    }

    /// Enters that a piece of ordinary memory grows or shrinks; whether it may.
    #[inline]
    fn may_hold(before: usize, now: usize) -> bool {
        let weight = |size: usize| if size < LARGE { 0 } else { size };
        let (before, now) = (weight(before), weight(now));
        if now > before {
            let held = HELD.fetch_add(now - before, Relaxed);
            let most = MOST.load(Relaxed);
            let is_aside = IS_ASIDE.get().is_some_and(|is_aside| is_aside());
            let most = if is_aside { most / OF_ASIDE } else { most };
            if held.saturating_add(now - before) > most {
                HELD.fetch_sub(now - before, Relaxed);
                return false;
            }
        } else if now < before {
            // Small pieces come and go on all threads: none of them waits for the others.
            HELD.fetch_sub(before - now, Relaxed);
        }
        true
    }

    /// A piece of zeros in the file; in ordinary memory past the limit where the file has no place for it.
    ///
    /// # Safety
    /// As for [`GlobalAlloc::alloc`].
    #[cfg(target_os = "linux")]
    #[allow(unsafe_code)]
    unsafe fn in_file(layout: Layout) -> *mut u8 {
        if let Some(piece) = region::take(layout) {
            keeper::wake();
            return piece;
        }
        HELD.fetch_add(if layout.size() < LARGE { 0 } else { layout.size() }, Relaxed);
        // SAFETY: as the caller says.
        unsafe { Ordinary.alloc_zeroed(layout) }
    }
}

/// Ordinary memory: the system's allocator, for all but the largest pieces.
#[cfg(target_os = "linux")]
struct Ordinary;

#[cfg(target_os = "linux")]
impl Ordinary {
    /// Whether a piece is one of those that are kept.
    #[inline]
    fn is_largest(size: usize, align: usize) -> bool {
        size >= kept::FROM && align <= kept::ALIGNED
    }
}

// SAFETY: by its size and alignment alone each piece comes from one of two places and goes back there. What is kept is
// handed out as the system's allocator would: pieces do not overlap, are aligned, zero where that is asked for, and null
// where there is no memory; nothing there unwinds.
#[allow(unsafe_code)]
#[cfg(target_os = "linux")]
unsafe impl GlobalAlloc for Ordinary {
    #[inline]
    unsafe fn alloc(&self, layout: Layout) -> *mut u8 {
        match Self::is_largest(layout.size(), layout.align()) {
            true => kept::take(layout.size(), false),
            // SAFETY: as the caller says.
            false => unsafe { System.alloc(layout) },
        }
    }

    #[inline]
    unsafe fn alloc_zeroed(&self, layout: Layout) -> *mut u8 {
        match Self::is_largest(layout.size(), layout.align()) {
            true => kept::take(layout.size(), true),
            // SAFETY: as the caller says.
            false => unsafe { System.alloc_zeroed(layout) },
        }
    }

    #[inline]
    unsafe fn dealloc(&self, piece: *mut u8, layout: Layout) {
        match Self::is_largest(layout.size(), layout.align()) {
            // SAFETY: so it was made.
            true => unsafe { kept::give_back(piece, layout.size()) },
            // SAFETY: all others are the system's.
            false => unsafe { System.dealloc(piece, layout) },
        }
    }

    #[inline]
    unsafe fn realloc(&self, piece: *mut u8, layout: Layout, size: usize) -> *mut u8 {
        let (was, is) = (
            Self::is_largest(layout.size(), layout.align()),
            Self::is_largest(size, layout.align()),
        );
        if !was && !is {
            // SAFETY: a piece of the system's, as the caller says.
            return unsafe { System.realloc(piece, layout, size) };
        }
        if was && is {
            // SAFETY: so it was made.
            let moved = unsafe { kept::resize(piece, layout.size(), size) };
            if !moved.is_null() {
                return moved;
            }
        }
        // SAFETY: the caller gives a size that is not zero and does not overflow with this alignment.
        let other = unsafe { Layout::from_size_align_unchecked(size, layout.align()) };
        // SAFETY: the same; two pieces that do not overlap, of at least so many bytes each, of which the old one is not
        // used again.
        unsafe {
            let moved = self.alloc(other);
            if !moved.is_null() {
                std::ptr::copy_nonoverlapping(piece, moved, layout.size().min(size));
                self.dealloc(piece, layout);
            }
            moved
        }
    }
}

// SAFETY: pieces come from ordinary memory or from the region of the file, which keeps to the same contract, and
// go back to where they came from: the region alone has addresses of its range. Neither unwinds: a lock is never
// poisoned, since nothing below it panics, and a file that cannot grow ends the process.
#[allow(unsafe_code)]
#[cfg(target_os = "linux")]
unsafe impl<const LARGE: usize> GlobalAlloc for Memory<LARGE> {
    #[inline]
    unsafe fn alloc(&self, layout: Layout) -> *mut u8 {
        if layout.size() < LARGE || Self::may_hold(0, layout.size()) {
            // SAFETY: as the caller says.
            return unsafe { Ordinary.alloc(layout) };
        }
        // SAFETY: as the caller says.
        unsafe { Self::in_file(layout) }
    }

    #[inline]
    unsafe fn alloc_zeroed(&self, layout: Layout) -> *mut u8 {
        if layout.size() < LARGE || Self::may_hold(0, layout.size()) {
            // SAFETY: as the caller says.
            return unsafe { Ordinary.alloc_zeroed(layout) };
        }
        // SAFETY: as the caller says; new places in the file are zero.
        unsafe { Self::in_file(layout) }
    }

    #[inline]
    unsafe fn dealloc(&self, piece: *mut u8, layout: Layout) {
        if region::has(piece) {
            // SAFETY: the region has this address, and so made the piece.
            return unsafe { region::give_back(piece, layout.size()) };
        }
        Self::may_hold(layout.size(), 0);
        // SAFETY: all others are ordinary memory.
        unsafe { Ordinary.dealloc(piece, layout) };
    }

    #[inline]
    unsafe fn realloc(&self, piece: *mut u8, layout: Layout, size: usize) -> *mut u8 {
        let in_file = region::has(piece);
        if !in_file && Self::may_hold(layout.size(), size) {
            // SAFETY: a piece of ordinary memory, as the caller says.
            return unsafe { Ordinary.realloc(piece, layout, size) };
        }
        // SAFETY: the region has this address, and so made the piece.
        if in_file && unsafe { region::resize(piece, layout.size(), size) } {
            return piece;
        }
        // SAFETY: the caller gives a size that is not zero and does not overflow with this alignment.
        let grown = unsafe { Layout::from_size_align_unchecked(size, layout.align()) };
        // SAFETY: the same.
        let moved = unsafe { Self::in_file(grown) };
        if !moved.is_null() {
            // SAFETY: two pieces that do not overlap, of at least so many bytes each; the old one is not used again.
            unsafe {
                std::ptr::copy_nonoverlapping(piece, moved, layout.size().min(size));
                self.dealloc(piece, layout);
            }
        }
        moved
    }
}

// SAFETY: everything is left to the system's allocator.
#[allow(unsafe_code)]
#[cfg(not(target_os = "linux"))]
unsafe impl<const LARGE: usize> GlobalAlloc for Memory<LARGE> {
    unsafe fn alloc(&self, layout: Layout) -> *mut u8 {
        // SAFETY: as the caller says.
        unsafe { System.alloc(layout) }
    }
    unsafe fn alloc_zeroed(&self, layout: Layout) -> *mut u8 {
        // SAFETY: as the caller says.
        unsafe { System.alloc_zeroed(layout) }
    }
    unsafe fn dealloc(&self, piece: *mut u8, layout: Layout) {
        // SAFETY: as the caller says.
        unsafe { System.dealloc(piece, layout) };
    }
    unsafe fn realloc(&self, piece: *mut u8, layout: Layout, size: usize) -> *mut u8 {
        // SAFETY: as the caller says.
        unsafe { System.realloc(piece, layout, size) }
    }
}
