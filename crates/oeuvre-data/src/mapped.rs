//! Mapped files that other programs may change.
//!
//! Reading a gigabyte through a buffer takes about half as long again as mapping it, and a quarter of what the
//! fastest requests are to take at all. What mapping costs is that the bytes may change behind it: a file that
//! is shortened has pages without anything behind them, and touching one raises SIGBUS. Here such a signal
//! ends the program with a message and exit status 1 in place of a crash, and [`Stamp`] tells changes that
//! raise no signal. Files on a network are read through a buffer: there a signal may also mean that the
//! connection was lost.

use memmap2::Mmap;
use std::collections::BTreeMap;
use std::fs::File;
use std::io;
use std::sync::{Mutex, PoisonError};
use std::time::SystemTime;

/// A file mapped read-only.
pub(crate) struct Mapped {
    // It goes before the mapping does.
    _listed: Listed,
    map: Mmap,
    #[cfg(target_os = "linux")]
    _watch: Option<guard::Watch>,
}

/// Where mapped files stand in memory, by the address where each begins.
static ALL: Mutex<BTreeMap<usize, usize>> = Mutex::new(BTreeMap::new());

/// That a mapped file stands among all, as long as it is mapped.
struct Listed(usize);

impl Listed {
    fn new(map: &Mmap) -> Listed {
        let start = map.as_ptr() as usize;
        ALL.lock().unwrap_or_else(PoisonError::into_inner).insert(start, map.len());
        Listed(start)
    }
}

impl Drop for Listed {
    fn drop(&mut self) {
        ALL.lock().unwrap_or_else(PoisonError::into_inner).remove(&self.0);
    }
}

/// Lets go of the pages of all mapped files that are at hand; they come back when they are read. For when memory is
/// short.
pub fn let_go_of_files() {
    // While the list is held, what stands in it is mapped.
    for (&start, &len) in ALL.lock().unwrap_or_else(PoisonError::into_inner).iter() {
        let_go(start, len);
    }
}

/// Lets go of the pages of a part of a mapped file.
#[allow(unsafe_code)]
fn let_go(start: usize, len: usize) {
    // SAFETY: whoever calls has it mapped, read-only and shared with its file: a page comes from there again.
    #[cfg(target_os = "linux")]
    unsafe {
        libc::madvise(start as *mut libc::c_void, len, libc::MADV_DONTNEED)
    };
    #[cfg(not(target_os = "linux"))]
    let _ = (start, len);
}

impl Mapped {
    /// Lets go of the pages that hold some bytes, which begin with one of them; they come back when they are read.
    pub(crate) fn let_go(&self, range: std::ops::Range<usize>) {
        let some = &self.map[range];
        let_go(some.as_ptr() as usize, some.len());
    }
}

impl std::ops::Deref for Mapped {
    type Target = [u8];
    fn deref(&self) -> &[u8] {
        &self.map
    }
}

/// Maps a file that is not empty; `None` where it is better read: on a network, or when very many files are
/// mapped already. `name` is what a message calls it; without one the file is nobody else's.
#[allow(unsafe_code)]
pub(crate) fn map(file: &File, name: Option<&str>) -> io::Result<Option<Mapped>> {
    #[cfg(target_os = "linux")]
    if name.is_some() && is_remote(file) {
        return Ok(None);
    }
    // SAFETY: the map is read-only and never handed out mutably. The bytes may all the same change behind it
    // when another program writes to the file; they are only ever looked at as bytes (every text is checked
    // to be UTF-8 where it is taken out, and copied), so that a change can at worst make a figure wrong or
    // an error appear, and `Stamp` then tells the change in place of either. A page that is gone raises
    // SIGBUS, which `guard` turns into an orderly end.
    let map = unsafe { Mmap::map(file)? };
    #[cfg(target_os = "linux")]
    {
        let watch = match name {
            Some(name) => match guard::Watch::new(&map, name) {
                Some(watch) => Some(watch),
                None => return Ok(None),
            },
            None => None,
        };
        Ok(Some(Mapped { _listed: Listed::new(&map), map, _watch: watch }))
    }
    #[cfg(not(target_os = "linux"))]
    {
        let _ = name;
        Ok(Some(Mapped { _listed: Listed::new(&map), map }))
    }
}

/// Whether a file lies on a file system of another machine, or of a program.
#[cfg(target_os = "linux")]
fn is_remote(file: &File) -> bool {
    // From linux/magic.h: NFS, SMB, CIFS, SMB2, Coda, AFS, 9P, Ceph, FUSE.
    const REMOTE: [u32; 9] = [
        0x6969,
        0x517b,
        0xff53_4d42,
        0xfe53_4d42,
        0x7375_7245,
        0x5346_414f,
        0x0102_1997,
        0x00c3_6400,
        0x6573_5546,
    ];
    rustix::fs::fstatfs(file).is_ok_and(|s| REMOTE.contains(&(s.f_type as u32)))
}

/// The size and time of a file when it was opened. It stays open with it: closing it would let go of what others in
/// this process have locked in the same file.
pub(crate) struct Stamp {
    pub(crate) file: File,
    len: u64,
    modified: Option<SystemTime>,
}

impl Stamp {
    /// Of an open file.
    pub(crate) fn new(file: File) -> io::Result<Stamp> {
        let it = file.metadata()?;
        Ok(Stamp { file, len: it.len(), modified: it.modified().ok() })
    }

    /// Whether the file is still what it was.
    pub(crate) fn holds(&self) -> bool {
        self.file
            .metadata()
            .is_ok_and(|now| now.len() == self.len && now.modified().ok() == self.modified)
    }
}

#[cfg(target_os = "linux")]
mod guard {
    //! What happens on SIGBUS.

    use std::sync::Once;
    use std::sync::atomic::{AtomicPtr, AtomicUsize, Ordering};

    /// Mapped bytes, and what is said when they are gone.
    struct Slot {
        start: AtomicUsize,
        end: AtomicUsize,
        text: AtomicPtr<u8>,
        text_len: AtomicUsize,
    }

    /// As many files as are mapped at once; a signal handler can take no lock, and so they stand in a table.
    const SLOTS: usize = 1024;
    static TABLE: [Slot; SLOTS] = [const {
        Slot {
            start: AtomicUsize::new(0),
            end: AtomicUsize::new(0),
            text: AtomicPtr::new(std::ptr::null_mut()),
            text_len: AtomicUsize::new(0),
        }
    }; SLOTS];
    static INSTALL: Once = Once::new();

    /// Mapped bytes that are watched as long as this lives.
    pub(super) struct Watch(usize);

    impl Watch {
        /// Watches some bytes; `None` when the table is full.
        pub(super) fn new(bytes: &[u8], name: &str) -> Option<Watch> {
            INSTALL.call_once(install);
            let start = bytes.as_ptr() as usize;
            let free = |slot: &&(usize, &Slot)| {
                slot.1.end.compare_exchange(0, 1, Ordering::AcqRel, Ordering::Relaxed).is_ok()
            };
            let (at, slot) = TABLE.iter().enumerate().find(|s| free(&s))?;
            let name: String =
                name.chars().map(|c| if c.is_control() { '\u{fffd}' } else { c }).collect();
            let text = format!("error: {name}: {}\n", super::CHANGED);
            // Kept for good: the handler may be reading it when the watch ends.
            let text: &'static mut [u8] = Box::leak(text.into_bytes().into_boxed_slice());
            slot.text.store(text.as_mut_ptr(), Ordering::Release);
            slot.text_len.store(text.len(), Ordering::Release);
            slot.end.store(start + bytes.len().next_multiple_of(1 << 16), Ordering::Release);
            slot.start.store(start, Ordering::Release);
            Some(Watch(at))
        }
    }

    impl Drop for Watch {
        fn drop(&mut self) {
            let slot = &TABLE[self.0];
            slot.start.store(0, Ordering::Release);
            slot.end.store(0, Ordering::Release);
        }
    }

    #[allow(unsafe_code)]
    fn install() {
        // SAFETY: the action is a plain function that does only what a signal handler may do: it reads
        // atomics, writes to standard error, and ends the process or restores the default action.
        unsafe {
            let mut action: libc::sigaction = std::mem::zeroed();
            action.sa_sigaction = on_bus
                as extern "C" fn(libc::c_int, *mut libc::siginfo_t, *mut libc::c_void)
                as usize;
            action.sa_flags = libc::SA_SIGINFO;
            libc::sigemptyset(&mut action.sa_mask);
            libc::sigaction(libc::SIGBUS, &action, std::ptr::null_mut());
        }
    }

    #[allow(unsafe_code)]
    extern "C" fn on_bus(_: libc::c_int, info: *mut libc::siginfo_t, _: *mut libc::c_void) {
        // SAFETY: the kernel gives a valid `info` to an action with SA_SIGINFO. The texts are never freed.
        // `write`, `_exit` and `signal` are async-signal-safe (POSIX.1-2017, 2.4.3).
        unsafe {
            let at = (*info).si_addr() as usize;
            for slot in &TABLE {
                let start = slot.start.load(Ordering::Acquire);
                if start != 0 && at >= start && at < slot.end.load(Ordering::Acquire) {
                    let text = slot.text.load(Ordering::Acquire);
                    let len = slot.text_len.load(Ordering::Acquire);
                    libc::write(2, text.cast_const().cast(), len);
                    libc::_exit(1);
                }
            }
            // Not of ours: the default action, when the instruction is tried again.
            libc::signal(libc::SIGBUS, libc::SIG_DFL);
        }
    }
}

/// What is said of a file that has changed.
pub(crate) const CHANGED: &str = "the file changed while it was read";
