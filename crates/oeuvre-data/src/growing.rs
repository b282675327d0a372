//! Bytes that are read while they still come: what a decompressor or a pipe gives.
//!
//! They are written to a temporary file without a name, which is mapped once, as long as it may ever become;
//! what has been written is published, and only that is ever looked at. So whoever reads works beside whoever
//! unpacks, memory does not grow with the file, and a second pass finds everything there. One thread unpacks and
//! another writes: the first is what everybody waits for.

use memmap2::{Mmap, MmapOptions};
use oeuvre_columns::{DataProblem, ReadError};
use std::fs::File;
use std::io::{self, Read, Write};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};

/// The longest that what comes may be: addresses are set aside for so much (4 TiB).
const LONGEST: usize = 1 << 42;
/// So much is written and published at a time.
const STEP: usize = 256 << 10;
/// So many pieces of it may be on their way.
const BUFFERS: usize = 16;

/// Bytes that come.
pub(crate) struct Growing {
    map: Mmap,
    shared: Arc<Shared>,
}

/// What the thread that writes tells those that read.
struct Shared {
    state: Mutex<State>,
    came: Condvar,
    /// Nobody reads any more.
    stop: AtomicBool,
}

#[derive(Default)]
struct State {
    there: usize,
    whole: bool,
    /// How many wait for more.
    waiting: usize,
    problem: Option<Box<DataProblem>>,
}

impl Shared {
    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Growing {
    /// Takes bytes from somewhere, behind the first ones; `what` says what is wrong where that fails.
    ///
    /// # Errors
    /// There is no place for a temporary file, or no addresses to map it.
    pub(crate) fn start(
        name: &str,
        head: Vec<u8>,
        from: impl Read + Send + 'static,
        what: &'static str,
    ) -> io::Result<Growing> {
        let mut file = tempfile::tempfile()?;
        file.write_all(&head)?;
        let map = map(&file)?;
        let state = State { there: head.len(), ..State::default() };
        let shared = Arc::new(Shared {
            state: Mutex::new(state),
            came: Condvar::new(),
            stop: AtomicBool::new(false),
        });
        let (told, name) = (shared.clone(), name.to_owned());
        std::thread::spawn(move || {
            let problem = take(file, from, &told).err();
            let mut state = told.state();
            state.problem = problem
                .map(|e| Box::new(DataProblem::in_file(name.as_str(), format!("{what}: {e}"))));
            state.whole = true;
            drop(state);
            told.came.notify_all();
        });
        Ok(Growing { map, shared })
    }

    /// So many of the first bytes, or all if there are fewer.
    pub(crate) fn head(&self, bytes: usize) -> &[u8] {
        let mut state = self.shared.state();
        while state.there < bytes && !state.whole {
            state.waiting += 1;
            state = self.shared.came.wait(state).unwrap_or_else(PoisonError::into_inner);
            state.waiting -= 1;
        }
        &self.map[..state.there.min(bytes)]
    }

    /// Whether all bytes have come.
    pub(crate) fn is_whole(&self) -> bool {
        self.shared.state().whole
    }

    /// How many have come.
    pub(crate) fn there(&self) -> usize {
        self.shared.state().there
    }

    /// What has gone wrong so far.
    ///
    /// # Errors
    /// That.
    pub(crate) fn ensure_sound(&self) -> Result<(), ReadError> {
        match &self.shared.state().problem {
            Some(problem) => Err(ReadError::Problem(problem.clone())),
            None => Ok(()),
        }
    }
}

impl Drop for Growing {
    fn drop(&mut self) {
        // The thread may be waiting for a pipe, and is not waited for.
        self.shared.stop.store(true, Ordering::Release);
    }
}

/// Takes what comes, while another thread writes it to the file: unpacking is what everybody waits for.
fn take(file: File, mut from: impl Read, shared: &Shared) -> io::Result<()> {
    let (filled, to_write) = sync_channel(BUFFERS);
    let (written, empty) = sync_channel(BUFFERS);
    std::thread::scope(|scope| {
        let writer = scope.spawn(move || write(file, &to_write, &written, shared));
        let mut made = 0;
        let took = loop {
            let mut buffer = match made < BUFFERS {
                true => vec![0; STEP],
                // Its end is told by what it returns.
                false => match empty.recv() {
                    Ok(buffer) => buffer,
                    Err(_) => break Ok(()),
                },
            };
            made += 1;
            let (length, more) = fill(&mut from, &mut buffer);
            let ended = !matches!(more, Ok(true)) || shared.stop.load(Ordering::Acquire);
            if filled.send((buffer, length)).is_err() || ended {
                break more.map(|_| ());
            }
        };
        drop(filled);
        match writer.join() {
            Ok(wrote) => wrote.and(took),
            Err(_) => Err(io::Error::other("it could not be written")),
        }
    })
}

/// Fills a buffer: how far, and whether there may be more.
fn fill(from: &mut impl Read, buffer: &mut [u8]) -> (usize, io::Result<bool>) {
    let mut filled = 0;
    while filled < buffer.len() {
        match from.read(&mut buffer[filled..]) {
            Ok(0) => return (filled, Ok(false)),
            Ok(n) => filled += n,
            Err(e) if e.kind() == io::ErrorKind::Interrupted => {}
            Err(e) => return (filled, Err(e)),
        }
    }
    (filled, Ok(true))
}

/// Writes what was taken to the file, and says how much is there.
fn write(
    mut file: File,
    taken: &Receiver<(Vec<u8>, usize)>,
    written: &SyncSender<Vec<u8>>,
    shared: &Shared,
) -> io::Result<()> {
    for (buffer, length) in taken {
        file.write_all(&buffer[..length])?;
        let mut state = shared.state();
        if state.there + length > LONGEST {
            return Err(io::Error::other("it holds more than 4 TiB; unpack it first"));
        }
        state.there += length;
        let waiting = state.waiting > 0;
        drop(state);
        if waiting {
            shared.came.notify_all();
        }
        // Nobody takes it at the end.
        let _ = written.send(buffer);
    }
    Ok(())
}

#[allow(unsafe_code)]
fn map(file: &File) -> io::Result<Mmap> {
    // SAFETY: the file has no name and is written by one thread, which only appends; nobody makes it shorter. The
    // mapping reaches beyond its end, and `head` never looks there: it gives no more bytes than have been written
    // to the file before they were published under the lock.
    unsafe { MmapOptions::new().len(LONGEST).map(file) }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Gives so many bytes, a few at a time, then ends or fails.
    struct Slow(usize, bool);

    impl Read for Slow {
        fn read(&mut self, to: &mut [u8]) -> io::Result<usize> {
            if self.0 == 0 && self.1 {
                return Err(io::Error::other("it broke"));
            }
            let n = to.len().min(self.0).min(70_000);
            to[..n].fill(b'x');
            self.0 -= n;
            Ok(n)
        }
    }

    #[test]
    fn bytes_are_there_as_soon_as_they_have_come() {
        let growing = Growing::start("-", b"abc".to_vec(), Slow(1 << 20, false), "no").unwrap();
        assert_eq!(growing.head(2), b"ab");
        assert_eq!(growing.head(500_000).len(), 500_000);
        assert_eq!(growing.head(usize::MAX).len(), 3 + (1 << 20));
        assert!(growing.is_whole() && growing.ensure_sound().is_ok());
        assert!(growing.head(usize::MAX)[3..].iter().all(|&b| b == b'x'));
    }

    #[test]
    fn what_breaks_off_is_told() {
        let growing =
            Growing::start("f.gz", Vec::new(), Slow(1 << 19, true), "cannot be read").unwrap();
        assert_eq!(growing.head(usize::MAX).len(), 1 << 19);
        let Err(ReadError::Problem(it)) = growing.ensure_sound() else { panic!("told") };
        assert_eq!(it.to_string(), "f.gz: cannot be read: it broke");
    }
}
