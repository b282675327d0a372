//! Who sees to it that few pages of the file are in memory: a thread of its own, which sleeps until the first piece lies
//! there.
//!
//! The system counts how much memory the process has, and how much of that are pages of files. When these have grown by
//! as much as the limit leaves for them, all pages of our file are let go of; those that are in use come back at once,
//! for a microsecond each. Which pages are old nobody has to know.

use crate::region;
use rustix::fs::{Mode, OFlags};
use std::os::fd::OwnedFd;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering::Relaxed};
use std::thread::Thread;
use std::time::Duration;

/// How often it looks: in this time, what two processors bring in is small beside the smallest limit.
const PAUSE: Duration = Duration::from_millis(1);

static LIMIT: AtomicU64 = AtomicU64::new(u64::MAX);
static THREAD: OnceLock<Thread> = OnceLock::new();
static AWAKE: AtomicBool = AtomicBool::new(false);

/// Keeps the process within so many bytes, from the first piece in the file on.
pub(crate) fn keep(bytes: u64) {
    LIMIT.store(bytes, Relaxed);
    if THREAD.get().is_none()
        && let Ok(handle) =
            std::thread::Builder::new().name("memory".into()).stack_size(1 << 16).spawn(watch)
    {
        let _ = THREAD.set(handle.thread().clone());
    }
}

/// There are pieces in the file now.
pub(crate) fn wake() {
    if !AWAKE.load(Relaxed)
        && !AWAKE.swap(true, Relaxed)
        && let Some(thread) = THREAD.get()
    {
        thread.unpark();
    }
}

fn watch() {
    let flags = OFlags::RDONLY | OFlags::CLOEXEC;
    let counts = rustix::fs::open("/proc/self/statm", flags, Mode::empty()).ok();
    let mut base = None;
    loop {
        if !AWAKE.load(Relaxed) {
            std::thread::park();
            continue;
        }
        std::thread::sleep(PAUSE);
        let limit = LIMIT.load(Relaxed);
        // Where the system does not say, pages are let go of each time.
        let (own, of_files) = counts.as_ref().and_then(resident).unwrap_or((0, u64::MAX));
        let base = base.get_or_insert(of_files);
        let most = (limit - limit / 16).saturating_sub(own).max(limit / 16);
        *base = of_files.min(*base);
        if of_files - *base > most {
            // Until a quarter is free again; what is left after a whole turn are other files.
            let mut left = of_files;
            for _ in 0..16 {
                region::let_go();
                left = counts.as_ref().and_then(resident).map_or(0, |r| r.1);
                if left - (*base).min(left) <= most / 4 * 3 {
                    break;
                }
            }
            *base = left.saturating_sub(most / 4 * 3).max(*base);
        }
    }
}

/// How many bytes of the process's own memory, and of files, it has at hand.
fn resident(counts: &OwnedFd) -> Option<(u64, u64)> {
    let mut text = [0u8; 128];
    let read = rustix::io::pread(counts, &mut text, 0).ok()?;
    let text = std::str::from_utf8(&text[..read]).ok()?;
    let mut pages = text.split(' ').skip(1).map_while(|pages| pages.parse::<u64>().ok());
    let (all, of_files) = (pages.next()?, pages.next()?);
    let page = rustix::param::page_size() as u64;
    Some((all.saturating_sub(of_files) * page, of_files * page))
}
