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

static LIMIT: AtomicU64 = AtomicU64::new(u64::MAX);
static THREAD: OnceLock<Thread> = OnceLock::new();
static AWAKE: AtomicBool = AtomicBool::new(false);

/// Lets go of the pages of files that are read.
static LET_GO_OF_INPUT: OnceLock<fn()> = OnceLock::new();

/// Keeps the process within so many bytes, from the first piece in the file on.
pub(crate) fn keep(bytes: u64, let_go_of_input: fn()) {
    let _ = LET_GO_OF_INPUT.set(let_go_of_input);
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
    // Where the system does not say, pages are let go of each time.
    let resident = || counts.as_ref().and_then(resident).unwrap_or((0, u64::MAX));
    // The program itself and its libraries.
    let mut program = None;
    loop {
        if !AWAKE.load(Relaxed) {
            std::thread::park();
            continue;
        }
        std::thread::sleep(PAUSE);
        let limit = LIMIT.load(Relaxed);
        let (own, of_files) = resident();
        let most = (limit - limit / 16).saturating_sub(own).max(limit / 8);
        let enough = |of_files: u64, program: Option<u64>, part: u64| {
            of_files.saturating_sub(program.unwrap_or(0)) <= part
        };
        if enough(of_files, program, most) {
            continue;
        }
        // Until a quarter is free again; if that is not to be had, files that are read take it.
        let mut turn = 0..region::STRETCHES;
        while turn.next().is_some() && !enough(resident().1, program, most / 4 * 3) {
            region::let_go();
        }
        if turn.is_empty() && !enough(resident().1, program, most / 4 * 3) {
            if let Some(let_go_of_input) = LET_GO_OF_INPUT.get() {
                let_go_of_input();
            }
            let left = resident().1;
            program = Some(program.map_or(left, |known: u64| known.min(left)));
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
