//! The file as memory: one mapping of a file without a name, in which pieces have places.
//!
//! The mapping is made once and is larger than any file; the file grows below it. A place has the size of a power of
//! two, so that places that are given back serve again, and a large one has room to grow where it stands: lists that
//! grow are not copied. What of a place is in use has room on the disk; what is given back is cut out of the file.
//!
//! No list is kept of free places: a free place says itself which is the next one, since whoever hands out memory
//! cannot ask for some. A place that serves a long piece has another file mapped over it meanwhile ([`own`]).

use crate::own;
use rustix::fd::BorrowedFd;
use rustix::fs::FallocateFlags;
use rustix::mm::{MapFlags, ProtFlags};
use std::alloc::Layout;
use std::fs::File;
use std::io;
use std::os::fd::AsFd;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU8, AtomicU64, AtomicUsize, Ordering::Relaxed};
use std::sync::{Mutex, MutexGuard, OnceLock, PoisonError};
use std::time::Duration;

/// The smallest place, and in what steps the file is given room: two pages.
const STEP: usize = 1 << 13;
/// As much memory as is set apart for the file: no piece of it is real until it is used.
const RANGE: usize = 1 << 42;
/// From so many bytes on a place has room to grow.
const GROWS: usize = 1 << 20;
/// To so many times its size.
const ROOM: usize = 16;
/// Added to the size of a place that has its own file.
const OWN: u8 = 1 << 7;
/// So much of the file stays in the system's memory, mostly.
const LITTLE: u64 = 1 << 30;

/// How long it waits for room that is soon free.
const CLOSES: Duration = Duration::from_millis(1);

static START: AtomicUsize = AtomicUsize::new(0);
static END: AtomicUsize = AtomicUsize::new(0);
/// How many bytes are in use, and how many were when they were most.
static USED: AtomicU64 = AtomicU64::new(0);
static MOST: AtomicU64 = AtomicU64::new(0);
static REGION: OnceLock<Region> = OnceLock::new();

/// The mapped file.
struct Region {
    file: File,
    folder: PathBuf,
    /// The logarithm of the size of each place, at the step at which it begins; [`OWN`] more where it has its own file.
    sizes: &'static [AtomicU8],
    places: Mutex<Places>,
}

/// Which places there are.
struct Places {
    /// Where those begin that were never handed out.
    next: usize,
    /// By the logarithm of their size the first free place, from which the others follow; 0 for none.
    free: [usize; usize::BITS as usize],
}

/// Makes the file and its mapping, unless there is one.
pub(crate) fn open(folder: &Path) -> io::Result<()> {
    if REGION.get().is_some() {
        return Ok(());
    }
    let file = tempfile::tempfile_in(folder)?;
    // A file that may not grow that far is a disk that is full, and no signal.
    // SAFETY: a signal is ignored; whoever writes too much is told by what writing gives.
    #[allow(unsafe_code)]
    unsafe {
        libc::signal(libc::SIGXFSZ, libc::SIG_IGN)
    };
    let (start, len) = mapped(&file)?;
    let places = Places { next: start, free: [0; usize::BITS as usize] };
    let region =
        Region { file, folder: folder.to_owned(), sizes: sizes(len)?, places: Mutex::new(places) };
    if REGION.set(region).is_ok() {
        END.store(start + len, Relaxed);
        START.store(start, Relaxed);
        own::start();
    }
    Ok(())
}

/// Maps as much of the file as the system lets us: where the mapping starts, at a whole step, and its length.
#[allow(unsafe_code)]
fn mapped(file: &File) -> io::Result<(usize, usize)> {
    let mut len = RANGE;
    loop {
        let (access, flags) =
            (ProtFlags::READ | ProtFlags::WRITE, MapFlags::SHARED | MapFlags::NORESERVE);
        // SAFETY: a new mapping at an address that the system chooses, of a file that nobody else can open. Nothing is
        // read or written there but what was given room in the file before.
        match unsafe { rustix::mm::mmap(std::ptr::null_mut(), len, access, flags, file.as_fd(), 0) }
        {
            Ok(start) => {
                // The file begins where its mapping does, and places at whole steps.
                let start = start as usize;
                BASE.store(start, Relaxed);
                let first = start.next_multiple_of(STEP);
                return Ok((first, len - STEP));
            }
            Err(_) if len > 1 << 34 => len /= 2,
            Err(error) => return Err(error.into()),
        }
    }
}

/// Where the first byte of the file is mapped.
static BASE: AtomicUsize = AtomicUsize::new(0);

/// A list of small numbers, one for each step.
#[allow(unsafe_code)]
fn sizes(len: usize) -> io::Result<&'static [AtomicU8]> {
    let (access, flags) =
        (ProtFlags::READ | ProtFlags::WRITE, MapFlags::PRIVATE | MapFlags::NORESERVE);
    // SAFETY: a new mapping of zeros at an address that the system chooses, which is never taken away.
    unsafe {
        let start = rustix::mm::mmap_anonymous(std::ptr::null_mut(), len / STEP, access, flags)?;
        Ok(std::slice::from_raw_parts(start.cast(), len / STEP))
    }
}

/// Whether a piece lies in the file.
#[inline]
pub(crate) fn has(piece: *mut u8) -> bool {
    let at = piece as usize;
    at < END.load(Relaxed) && at >= START.load(Relaxed)
}

/// How many bytes lay in the file when they were most.
pub(crate) fn most() -> u64 {
    MOST.load(Relaxed)
}

/// How many do now.
pub(crate) fn used() -> u64 {
    USED.load(Relaxed)
}

/// A place for a piece, all zeros; none where no address is left, or the system has no memory.
pub(crate) fn take(layout: Layout) -> Option<*mut u8> {
    let region = REGION.get().filter(|_| layout.align() <= STEP)?;
    let size = layout.size().max(STEP);
    let room = if size < GROWS { size } else { size.saturating_mul(ROOM) };
    let room = room.checked_next_power_of_two()?;
    let log = room.trailing_zeros() as usize;
    let (at, mut has) = region.place(log)?;
    if size >= own::FROM {
        if has == 0 {
            region.give_room(at, 0, STEP);
            has = STEP;
        }
        // SAFETY: the place is nobody's yet.
        #[allow(unsafe_code)]
        let has_own = unsafe { own::open(at, room, &region.folder) }.ok()?;
        if has_own {
            region.sizes[region.step(at)].store(log as u8 | OWN, Relaxed);
            region.give_room(at, 0, size);
            return Some(at as *mut u8);
        }
    }
    region.give_room(at, has, size);
    Some(at as *mut u8)
}

/// Makes a piece larger or smaller where it stands, if there is room.
///
/// # Safety
/// The piece is one of [`take`], of this size.
#[allow(unsafe_code)]
pub(crate) unsafe fn resize(piece: *mut u8, before: usize, size: usize) -> bool {
    let Some(region) = REGION.get() else { return false };
    let (at, before, size) = (piece as usize, before.max(STEP), size.max(STEP));
    if size > 1 << region.log(at) {
        return false;
    }
    if size > before {
        region.give_room(at, before, size);
    } else {
        region.cut_out(at, size, before);
    }
    true
}

/// Takes a piece back.
///
/// # Safety
/// The piece is one of [`take`], of this size, and not used again.
#[allow(unsafe_code)]
pub(crate) unsafe fn give_back(piece: *mut u8, size: usize) {
    let Some(region) = REGION.get() else { return };
    let (at, log) = (piece as usize, region.log(piece as usize));
    if region.has_own(at) {
        // SAFETY: nobody uses the piece any more, and the place is part of the file of all, as before.
        if unsafe { own::map(at, 1 << log, &region.file, region.offset(at)) }.is_err() {
            // The system has no memory: what is there stays, and is used no more.
            return;
        }
        own::close(at);
        region.sizes[region.step(at)].store(log as u8, Relaxed);
        USED.fetch_sub(size.next_multiple_of(STEP) as u64, Relaxed);
    } else {
        // The next one that takes the place expects zeros; its first step stays in the file.
        region.cut_out(at, STEP, size.max(STEP));
    }
    USED.fetch_sub(STEP as u64, Relaxed);
    // SAFETY: the piece has at least a step, which is no longer anybody's.
    unsafe {
        std::ptr::write_bytes(piece, 0, STEP);
        let mut places = region.places();
        piece.cast::<usize>().write(places.free[log]);
        places.free[log] = at;
    }
}

/// In how many stretches pages are let go of.
pub(crate) const STRETCHES: usize = 16;

/// Lets go of the pages of a stretch of the file, of the next one each time; they come back when they are used.
pub(crate) fn let_go() {
    static TURN: AtomicUsize = AtomicUsize::new(0);
    let Some(region) = REGION.get() else { return };
    let (start, end) = (START.load(Relaxed), region.places().next);
    let stretch = ((end - start) / STRETCHES).next_multiple_of(STEP);
    let from = start + TURN.fetch_add(1, Relaxed) % STRETCHES * stretch;
    let to = (from + stretch).min(end);
    if from < to {
        // SAFETY: the mapping is shared with the file, which has what was written; the pages come from there again.
        #[allow(unsafe_code)]
        let _ = unsafe {
            rustix::mm::madvise(from as *mut _, to - from, rustix::mm::Advice::LinuxDontNeed)
        };
    }
}

impl Region {
    /// A place of a size, and how much of it has room in the file of all already, and is zero; `None` where no address
    /// is left.
    fn place(&self, log: usize) -> Option<(usize, usize)> {
        let mut places = self.places();
        let at = places.free[log];
        if at == 0 {
            let at = places.next;
            if 1 << log > END.load(Relaxed) - at {
                return None;
            }
            places.next += 1 << log;
            drop(places);
            self.sizes[self.step(at)].store(log as u8, Relaxed);
            return Some((at, 0));
        }
        // SAFETY: a free place has its first step in the file, and there the address of the next one.
        #[allow(unsafe_code)]
        unsafe {
            let first = at as *mut usize;
            places.free[log] = first.read();
            first.write(0);
        }
        drop(places);
        USED.fetch_add(STEP as u64, Relaxed);
        Some((at, STEP))
    }

    /// The logarithm of the size of a place.
    fn log(&self, at: usize) -> usize {
        usize::from(self.sizes[self.step(at)].load(Relaxed) & !OWN)
    }

    /// Whether the piece at a place has its own file.
    fn has_own(&self, at: usize) -> bool {
        self.sizes[self.step(at)].load(Relaxed) & OWN != 0
    }

    /// Where an address is in the file of all.
    fn offset(&self, at: usize) -> usize {
        at - BASE.load(Relaxed)
    }

    /// The file in which the piece at a place lies, and the offset there at which it begins.
    #[allow(unsafe_code)]
    fn file_of(&self, at: usize) -> (BorrowedFd<'_>, usize) {
        match self.has_own(at).then(|| own::of(at)).flatten() {
            // SAFETY: whoever asks has the piece, which is not given back meanwhile.
            Some(file) => (unsafe { own::borrowed(file) }, 0),
            None => (self.file.as_fd(), self.offset(at)),
        }
    }

    fn places(&self) -> MutexGuard<'_, Places> {
        self.places.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The number of the step at an address.
    fn step(&self, at: usize) -> usize {
        (at - START.load(Relaxed)) / STEP
    }

    /// The bytes of a file, from one size to another of a piece that begins at an offset, whole steps alone.
    fn bytes(offset: usize, from: usize, to: usize) -> (u64, u64) {
        let begins = offset + from.next_multiple_of(STEP);
        (begins as u64, (to.next_multiple_of(STEP) - from.next_multiple_of(STEP)) as u64)
    }

    /// Gives a place that has room for some bytes room for more.
    fn give_room(&self, at: usize, from: usize, to: usize) {
        let (file, offset) = self.file_of(at);
        let (begins, bytes) = Self::bytes(offset, from, to);
        if bytes == 0 {
            return;
        }
        while let Err(error) = rustix::fs::fallocate(file, FallocateFlags::empty(), begins, bytes) {
            match error {
                rustix::io::Errno::INTR => {}
                // There is room as soon as what was given back is cut off.
                rustix::io::Errno::NOSPC if own::is_closing() => {
                    std::thread::sleep(CLOSES);
                }
                // A file system that cannot set room aside.
                rustix::io::Errno::OPNOTSUPP | rustix::io::Errno::NOSYS => {
                    match written(file, begins, bytes) {
                        Ok(()) => break,
                        Err(error) => self.end(&error),
                    }
                }
                error => self.end(&error.into()),
            }
        }
        // While there is little, all of it stays at hand: the system makes pages in one go more cheaply than one by
        // one where they are first touched. More would have to be written to the disk twice.
        if used() < LITTLE {
            let _ = written(file, begins, bytes);
        }
        let used = USED.fetch_add(bytes, Relaxed) + bytes;
        MOST.fetch_max(used, Relaxed);
    }

    /// Takes the room of a place away from one size on.
    fn cut_out(&self, at: usize, from: usize, to: usize) {
        let (file, offset) = self.file_of(at);
        let (begins, bytes) = Self::bytes(offset, from, to);
        if bytes == 0 {
            return;
        }
        let flags = FallocateFlags::PUNCH_HOLE | FallocateFlags::KEEP_SIZE;
        if rustix::fs::fallocate(file, flags, begins, bytes).is_err() {
            let _ = written(file, begins, bytes);
        }
        USED.fetch_sub(bytes, Relaxed);
    }

    /// Ends the program: there is no memory, and nobody who could be told in another way.
    #[allow(unsafe_code)]
    fn end(&self, error: &io::Error) -> ! {
        use io::ErrorKind::{FileTooLarge, QuotaExceeded, StorageFull};
        let full = matches!(error.kind(), FileTooLarge | QuotaExceeded | StorageFull);
        let why = match full {
            true => "is full".to_owned(),
            false => format!("cannot be used ({error})"),
        };
        let text = format!(
            "error: {} {why}: temporary files have {} MiB there, for what takes more memory than --memory allows\n  \
             = help: make room there, or name a folder on another disk with --spill-to, or allow more with --memory\n",
            self.folder.display().to_string().replace(char::is_control, "\u{fffd}"),
            used() >> 20,
        );
        let _ = rustix::io::write(rustix::stdio::stderr(), text.as_bytes());
        // SAFETY: ends the process; whatever others hold is let go of by the system. What is written to a file has no
        // name yet.
        unsafe { libc::_exit(1) }
    }
}

/// Gives a file room by writing zeros.
fn written(file: BorrowedFd<'_>, begins: u64, bytes: u64) -> io::Result<()> {
    const AT_ONCE: usize = 1 << 17;
    static ZEROS: [u8; AT_ONCE] = [0; AT_ONCE];
    let (mut at, end) = (begins, begins + bytes);
    while at < end {
        let now = (end - at).min(AT_ONCE as u64) as usize;
        match rustix::io::pwrite(file, &ZEROS[..now], at) {
            Ok(0) => return Err(io::ErrorKind::WriteZero.into()),
            Ok(some) => at += some as u64,
            Err(rustix::io::Errno::INTR) => {}
            Err(error) => return Err(error.into()),
        }
    }
    Ok(())
}
