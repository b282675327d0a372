//! The largest pieces of ordinary memory: in large pages where the system has them, and kept for whoever asks next.
//!
//! A piece that the system makes anew costs its first touch: each page is cleared, counted and entered in a table, a
//! quarter of a microsecond a kilobyte, which was a fifth of the time of a sorted detail. Much of it is made for one step
//! of the work and given back before the next asks for as much. So what is given back stays, and the next piece is cut
//! from it. Where none is long enough, a new one takes the pages of several: the process never grows by what is kept, it
//! is at most what was in use when that was most.
//!
//! Whoever hands out memory cannot ask for some: what is kept stands in a list of fixed length.

use rustix::mm::{Advice, MapFlags, MremapFlags, ProtFlags};
use std::ffi::c_void;
use std::sync::{Mutex, PoisonError};

/// The size of large pages, at whose edges pieces begin and end.
const UNIT: usize = 1 << 21;
/// Pieces from here on come from here: less would leave much of its last page unused.
pub(crate) const FROM: usize = 2 * UNIT;
/// The greatest alignment that pieces here have.
pub(crate) const ALIGNED: usize = UNIT;
/// How many stretches are kept at most.
const STRETCHES: usize = 256;

/// What is kept: stretches of memory, by address, of which no two touch.
struct Kept {
    stretches: [(usize, usize); STRETCHES],
    count: usize,
    /// Bytes of all of them.
    bytes: usize,
    /// Bytes of the pieces in use, and when they were most.
    used: usize,
    most: usize,
}

static KEPT: Mutex<Kept> =
    Mutex::new(Kept { stretches: [(0, 0); STRETCHES], count: 0, bytes: 0, used: 0, most: 0 });

/// A piece, not cleared unless it must be `zeros`; null where the system has no memory.
pub(crate) fn take(size: usize, zeros: bool) -> *mut u8 {
    let Some(len) = size.checked_next_multiple_of(UNIT) else { return std::ptr::null_mut() };
    let mut kept = KEPT.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some(at) = kept.cut(len) {
        kept.used += len;
        drop(kept);
        if zeros {
            // SAFETY: a stretch that was kept is nobody else's, and as long as was asked for.
            #[allow(unsafe_code)]
            unsafe {
                std::ptr::write_bytes(at as *mut u8, 0, size)
            };
        }
        return at as *mut u8;
    }
    // Where the system has none, it may have some for what is kept.
    let Some(at) = made(len).or_else(|| {
        kept.let_go();
        made(len)
    }) else {
        return std::ptr::null_mut();
    };
    kept.uses(len);
    // Its first pages are what the process would have too much of.
    let mut filled = 0;
    while let Some((from, excess)) = kept.excess((len - filled).min(UNIT)) {
        if moved(from, excess, at + filled).is_err() {
            kept.used -= len;
            return std::ptr::null_mut();
        }
        filled += excess;
    }
    drop(kept);
    if zeros {
        // SAFETY: a new piece, of which so much holds what others left.
        #[allow(unsafe_code)]
        unsafe {
            std::ptr::write_bytes(at as *mut u8, 0, filled.min(size))
        };
    }
    at as *mut u8
}

/// Takes a piece back.
///
/// # Safety
/// It is one of [`take`], of this size, and not used again.
#[allow(unsafe_code)]
pub(crate) unsafe fn give_back(piece: *mut u8, size: usize) {
    let len = size.next_multiple_of(UNIT);
    let mut kept = KEPT.lock().unwrap_or_else(PoisonError::into_inner);
    kept.used -= len;
    kept.keep(piece as usize, len);
}

/// A piece with what it holds, made larger or smaller, at the same place or another; null where that is not to be had
/// without copying.
///
/// # Safety
/// It is one of [`take`], of the size before, and used no more unless null comes back.
#[allow(unsafe_code)]
pub(crate) unsafe fn resize(piece: *mut u8, before: usize, size: usize) -> *mut u8 {
    let Some(len) = size.checked_next_multiple_of(UNIT) else { return std::ptr::null_mut() };
    let (at, had) = (piece as usize, before.next_multiple_of(UNIT));
    let mut kept = KEPT.lock().unwrap_or_else(PoisonError::into_inner);
    if len <= had {
        kept.used -= had - len;
        kept.keep(at + len, had - len);
        return piece;
    }
    if kept.cut_at(at + had, len - had) {
        kept.used += len - had;
        return piece;
    }
    let Some(to) = made(len) else { return std::ptr::null_mut() };
    // Pieces that were put together are not moved as one everywhere: then the caller copies.
    if moved(at, had, to).is_err() {
        unmade(to + had, len - had);
        return std::ptr::null_mut();
    }
    kept.uses(len - had);
    while let Some((from, excess)) = kept.excess(usize::MAX) {
        unmade(from, excess);
    }
    to as *mut u8
}

impl Kept {
    /// Cuts so many bytes from the shortest stretch that has them.
    fn cut(&mut self, len: usize) -> Option<usize> {
        let all = self.stretches[..self.count].iter().enumerate();
        let long = all.filter(|(_, (_, has))| *has >= len);
        let (which, &(at, _)) = long.min_by_key(|(_, (_, has))| *has)?;
        self.shorten(which, len);
        Some(at)
    }

    /// Cuts so many bytes from the stretch that begins at an address; whether there is one that has them.
    fn cut_at(&mut self, at: usize, len: usize) -> bool {
        let all = &mut self.stretches[..self.count];
        let Ok(which) = all.binary_search_by_key(&at, |(at, _)| *at) else { return false };
        if all[which].1 < len {
            return false;
        }
        self.shorten(which, len);
        true
    }

    /// Keeps a stretch, put together with those beside it; where there are too many, the system has it back.
    fn keep(&mut self, at: usize, len: usize) {
        if len == 0 {
            return;
        }
        let which = self.stretches[..self.count].partition_point(|(before, _)| *before < at);
        let after = which < self.count && self.stretches[which].0 == at + len;
        let before = which > 0 && self.stretches[which - 1].0 + self.stretches[which - 1].1 == at;
        match (before, after) {
            (true, true) => {
                self.stretches[which - 1].1 += len + self.stretches[which].1;
                self.remove(which);
            }
            (true, false) => self.stretches[which - 1].1 += len,
            (false, true) => self.stretches[which] = (at, len + self.stretches[which].1),
            (false, false) if self.count == STRETCHES => return unmade(at, len),
            (false, false) => {
                self.stretches.copy_within(which..self.count, which + 1);
                self.stretches[which] = (at, len);
                self.count += 1;
            }
        }
        self.bytes += len;
    }

    /// Takes so many of the first bytes from a stretch that has them.
    fn shorten(&mut self, which: usize, len: usize) {
        let (at, has) = self.stretches[which];
        match has == len {
            true => self.remove(which),
            false => self.stretches[which] = (at + len, has - len),
        }
        self.bytes -= len;
    }

    fn remove(&mut self, which: usize) {
        self.stretches.copy_within(which + 1..self.count, which);
        self.count -= 1;
    }

    /// Gives all that is kept back to the system.
    fn let_go(&mut self) {
        self.stretches[..self.count].iter().for_each(|&(at, len)| unmade(at, len));
        (self.count, self.bytes) = (0, 0);
    }

    /// So much more is in use than before.
    fn uses(&mut self, more: usize) {
        self.used += more;
        self.most = self.most.max(self.used);
    }

    /// Takes, from the last stretch, what the process would become larger by than it ever was, so many bytes at most: where
    /// it stands, and how much. A unit lies in one mapping, however many were put together.
    fn excess(&mut self, most: usize) -> Option<(usize, usize)> {
        let excess = (self.used + self.bytes).saturating_sub(self.most).min(most);
        let (at, has) = *self.stretches[..self.count].last()?;
        let len = has.min(excess);
        match has == len {
            true => self.count -= 1,
            false => self.stretches[self.count - 1].1 -= len,
        }
        self.bytes -= len;
        (len > 0).then_some((at + has - len, len))
    }
}

/// The system did not move pages.
#[derive(Debug)]
struct NotMoved;

/// Brings the pages of one mapping to another place, of which nobody has touched any. Where it fails, it is not known
/// whether there is still something at that place: it is never used.
#[allow(unsafe_code)]
fn moved(from: usize, len: usize, to: usize) -> Result<(), NotMoved> {
    let (flags, from, to) = (MremapFlags::MAYMOVE, from as *mut c_void, to as *mut c_void);
    // SAFETY: both are mappings of [`made`], what is moved is the caller's or kept no longer, and the place is known to
    // nobody yet.
    let done = unsafe { rustix::mm::mremap_fixed(from, len, len, flags, to) };
    done.map(|_| ()).map_err(|_| NotMoved)
}

/// New memory, at the edge of a large page; `None` where the system has none.
#[allow(unsafe_code)]
fn made(len: usize) -> Option<usize> {
    let (access, flags) = (ProtFlags::READ | ProtFlags::WRITE, MapFlags::PRIVATE);
    let more = len.checked_add(UNIT)?;
    // SAFETY: a new mapping of zeros at an address that the system chooses.
    let all =
        unsafe { rustix::mm::mmap_anonymous(std::ptr::null_mut(), more, access, flags) }.ok()?;
    let start = (all as usize).next_multiple_of(UNIT);
    // What stands before and behind is not needed.
    unmade(all as usize, start - all as usize);
    unmade(start + len, all as usize + more - (start + len));
    // SAFETY: advice about pages that are nobody's yet; where it is not taken, pages are small.
    let _ = unsafe { rustix::mm::madvise(start as *mut c_void, len, Advice::LinuxHugepage) };
    Some(start)
}

/// Gives memory back to the system.
#[allow(unsafe_code)]
fn unmade(at: usize, len: usize) {
    if len > 0 {
        // SAFETY: a part of a mapping of [`made`] that nobody has or is kept no longer. Should it fail, it stays.
        let _ = unsafe { rustix::mm::munmap(at as *mut c_void, len) };
    }
}
