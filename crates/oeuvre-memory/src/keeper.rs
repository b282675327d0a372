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
const PAUSE: Duration = Duration::from_micros(300);
/// How long it waits where nothing more could be let go of.
const IN_VAIN: Duration = Duration::from_millis(5);

static LIMIT: AtomicU64 = AtomicU64::new(u64::MAX);
static THREAD: OnceLock<Thread> = OnceLock::new();
static AWAKE: AtomicBool = AtomicBool::new(false);

/// Keeps the process within so many bytes, from the first piece in the file on. `let_go_of_input` lets go of the pages of
/// files that are read.
pub(crate) fn keep(bytes: u64, let_go_of_input: fn()) {
    LIMIT.store(bytes, Relaxed);
    if THREAD.get().is_none() {
        let watch = move || watch(let_go_of_input);
        let thread = std::thread::Builder::new().name("memory".into()).stack_size(1 << 16);
        if let Ok(handle) = thread.spawn(watch) {
            let _ = THREAD.set(handle.thread().clone());
        }
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

fn watch(let_go_of_input: fn()) {
    let flags = OFlags::RDONLY | OFlags::CLOEXEC;
    let counts = rustix::fs::open("/proc/self/statm", flags, Mode::empty()).ok();
    // Where the system does not say, pages are let go of each time.
    let resident = || counts.as_ref().and_then(resident).unwrap_or((0, u64::MAX));
    // The program and its libraries, which stay: no file has been mapped yet.
    let program = resident().1;
    loop {
        if !AWAKE.load(Relaxed) {
            std::thread::park();
            continue;
        }
        std::thread::sleep(PAUSE);
        let limit = LIMIT.load(Relaxed);
        let (own, of_files) = resident();
        let most = (limit - limit / 16).saturating_sub(own + program).max(limit / 8) + program;
        if of_files <= most {
            continue;
        }
        // Until a quarter is free again; if that is not to be had, files that are read take it.
        let enough = || resident().1 <= most / 4 * 3;
        let mut turn = 0..region::STRETCHES;
        while turn.next().is_some() && !enough() {
            region::let_go();
        }
        if turn.is_empty() && !enough() {
            let_go_of_input();
            if !enough() {
                std::thread::sleep(IN_VAIN);
            }
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
