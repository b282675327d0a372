//! Files of their own for long pieces, which are closed by a thread of its own.
//!
//! A file system tells some disks which blocks are free, at about a gigabyte a second, and whoever touches a page of a
//! file that is being cut waits until that is done. A piece with its own file holds nobody up: giving it back is taking
//! its file out of the mapping, and the rest is done beside the work.
//!
//! Whoever hands out memory cannot ask for much: files stand in lists of fixed length. Where those are full, or no file
//! can be opened, a piece lies in the file of all.

use rustix::fd::{AsRawFd, BorrowedFd, OwnedFd, RawFd};
use rustix::mm::{MapFlags, ProtFlags};
use std::ffi::c_void;
use std::io;
use std::path::Path;
use std::sync::atomic::{AtomicUsize, Ordering::Relaxed};
use std::sync::{Mutex, MutexGuard, OnceLock, PoisonError};
use std::thread::Thread;

/// Pieces from so many bytes on have their own file.
pub(crate) const FROM: usize = 1 << 25;
/// How many files are open at most.
const MOST: usize = 128;

struct Files {
    /// By the place whose they are.
    of_places: [Option<(usize, OwnedFd)>; MOST],
    /// What is to be closed.
    given_back: [Option<OwnedFd>; MOST],
}

static FILES: Mutex<Files> =
    Mutex::new(Files { of_places: [const { None }; MOST], given_back: [const { None }; MOST] });
/// How many files are still to be closed.
static CLOSING: AtomicUsize = AtomicUsize::new(0);
static THREAD: OnceLock<Thread> = OnceLock::new();

fn files() -> MutexGuard<'static, Files> {
    FILES.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Starts the thread that closes files.
pub(crate) fn start() {
    let thread = std::thread::Builder::new().name("files".into()).stack_size(1 << 16);
    if THREAD.get().is_none()
        && let Ok(handle) = thread.spawn(close_all)
    {
        let _ = THREAD.set(handle.thread().clone());
    }
}

fn close_all() {
    loop {
        let next = files().given_back.iter_mut().find_map(Option::take);
        match next {
            Some(file) => {
                drop(file);
                CLOSING.fetch_sub(1, Relaxed);
            }
            None => std::thread::park(),
        }
    }
}

/// Whether files are being closed, whose room on the disk will soon be free.
pub(crate) fn is_closing() -> bool {
    CLOSING.load(Relaxed) > 0
}

/// Maps a new file over a place, so many bytes of it; whether one was to be had.
///
/// # Errors
/// The system did not map it, and what is at the place now is not known.
///
/// # Safety
/// The place is part of a mapping, and nobody uses what is there.
#[allow(unsafe_code)]
pub(crate) unsafe fn open(at: usize, room: usize, folder: &Path) -> io::Result<bool> {
    // Without somebody who closes files, nothing is gained.
    if THREAD.get().is_none() {
        return Ok(false);
    }
    let Ok(file) = tempfile::tempfile_in(folder) else { return Ok(false) };
    let mut files = files();
    let Some(free) = files.of_places.iter_mut().find(|file| file.is_none()) else {
        return Ok(false);
    };
    // SAFETY: as the caller says.
    unsafe { map(at, room, &file, 0) }?;
    *free = Some((at, file.into()));
    Ok(true)
}

/// The file of a place that has one.
pub(crate) fn of(at: usize) -> Option<RawFd> {
    let files = files();
    let mut known = files.of_places.iter().flatten();
    known.find(|file| file.0 == at).map(|file| file.1.as_raw_fd())
}

/// Has the file of a place closed, which is no longer mapped.
pub(crate) fn close(at: usize) {
    let mut files = files();
    let of_place = |file: &Option<(usize, OwnedFd)>| file.as_ref().is_some_and(|it| it.0 == at);
    let Some((_, file)) = files.of_places.iter_mut().find(|it| of_place(it)).and_then(Option::take)
    else {
        return;
    };
    // As many may wait to be closed as are open; more are closed here.
    let Some(free) = files.given_back.iter_mut().find(|file| file.is_none()) else {
        drop(files);
        return drop(file);
    };
    *free = Some(file);
    CLOSING.fetch_add(1, Relaxed);
    drop(files);
    if let Some(thread) = THREAD.get() {
        thread.unpark();
    }
}

/// Maps a file from an offset on, in place of what was mapped at an address.
///
/// # Safety
/// So many bytes there are part of a mapping, and nobody uses what is there.
#[allow(unsafe_code)]
pub(crate) unsafe fn map(
    at: usize,
    len: usize,
    file: impl rustix::fd::AsFd,
    offset: usize,
) -> io::Result<()> {
    let access = ProtFlags::READ | ProtFlags::WRITE;
    let flags = MapFlags::SHARED | MapFlags::NORESERVE | MapFlags::FIXED;
    // SAFETY: as the caller says; nothing is read or written there but what was given room in the file before.
    unsafe { rustix::mm::mmap(at as *mut c_void, len, access, flags, file, offset as u64) }?;
    Ok(())
}

/// A file that is open for as long as its piece is in use.
///
/// # Safety
/// It is one of [`of`], and its piece is not given back meanwhile.
#[allow(unsafe_code)]
pub(crate) unsafe fn borrowed(file: RawFd) -> BorrowedFd<'static> {
    // SAFETY: as the caller says.
    unsafe { BorrowedFd::borrow_raw(file) }
}
