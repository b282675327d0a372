//! What is said on a terminal while something takes long: one line on standard error, which goes away.
//!
//! While rows are read it says how far that is and about how long the rest takes. What comes behind (groups put
//! together, lines put in order, files written) has no measure that is known before, so that it says how long it has taken.

use std::io::{IsTerminal, Write};
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::sync::{Mutex, MutexGuard, OnceLock, PoisonError};
use std::thread::Thread;
use std::time::{Duration, Instant};

/// What takes less is over before a line is read.
const LONG: Duration = Duration::from_secs(2);
/// How often the line is written.
const EACH: Duration = Duration::from_millis(200);

/// What is worked on.
#[derive(Clone, Copy)]
enum Now {
    Nothing,
    /// Rows are read: so many bytes have been, since then.
    Reading(u64, Instant),
    /// All have been, since then.
    Working(Instant),
}

struct Line {
    now: Now,
    /// When the first pass over the rows began.
    began: Option<Instant>,
    /// When the line was last written, if it stands there.
    told: Option<Instant>,
}

static LINE: Mutex<Line> = Mutex::new(Line { now: Now::Nothing, began: None, told: None });
/// Whether the output itself goes to the terminal now, where it is seen how far that is.
static IS_SHOWN: AtomicBool = AtomicBool::new(false);
static TICKER: OnceLock<Option<Thread>> = OnceLock::new();

/// Who is told how far a pass is: somebody at a terminal.
pub(crate) fn of_reading() -> Option<fn(u64, u64)> {
    std::io::stderr().is_terminal().then_some(reading as _)
}

/// Takes the line away: there is something else to be said.
pub(crate) fn clear() {
    // Without a pass there was no line.
    if TICKER.get().is_some() {
        line().clear();
    }
}

/// Does something that writes to standard output, during which nothing is said where that is the terminal.
pub(crate) fn while_shown<T>(write: impl FnOnce() -> T) -> T {
    if !std::io::stdout().is_terminal() {
        return write();
    }
    clear();
    IS_SHOWN.store(true, Relaxed);
    let done = write();
    IS_SHOWN.store(false, Relaxed);
    done
}

fn line() -> MutexGuard<'static, Line> {
    LINE.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Takes note of how much of the rows was read.
fn reading(read: u64, all: u64) {
    let ticker = TICKER.get_or_init(|| {
        let thread = std::thread::Builder::new().name("progress".into()).spawn(tick);
        thread.ok().map(|handle| handle.thread().clone())
    });
    let mut line = match LINE.try_lock() {
        Ok(line) => line,
        // That all was read is told once.
        Err(_) if read >= all => line(),
        // Where somebody else is telling, the next piece is told of.
        Err(_) => return,
    };
    let now = Instant::now();
    line.now = match (read >= all, line.now) {
        (true, _) => Now::Working(now),
        (false, Now::Reading(before, since)) => Now::Reading(read.max(before), since),
        (false, _) => Now::Reading(read, now),
    };
    line.began.get_or_insert(now);
    line.tell(now, all);
    if let (Now::Working(_), Some(ticker)) = (line.now, ticker) {
        ticker.unpark();
    }
}

/// Writes the line while nobody else tells how far the work is.
fn tick() {
    loop {
        let is_working = {
            let mut line = line();
            line.tell(Instant::now(), 0);
            matches!(line.now, Now::Working(_))
        };
        match is_working {
            true => std::thread::park_timeout(EACH),
            false => std::thread::park(),
        }
    }
}

impl Line {
    /// Writes the line, where it is due.
    fn tell(&mut self, now: Instant, all: u64) {
        let Some(began) = self.began else { return };
        let is_due = self.told.is_none_or(|told| now - told >= EACH);
        if now - began < LONG || !is_due || IS_SHOWN.load(Relaxed) {
            return;
        }
        let text = match self.now {
            // Two passes at once may be of different lengths.
            Now::Reading(read, since) if read > 0 && read < all => {
                let left = (now - since).as_secs_f64() * (all - read) as f64 / read as f64;
                format!("reading: {} %, about {} left", 100 * read / all, time(left))
            }
            Now::Working(since) => {
                let so_far = time((now - since).as_secs_f64());
                format!("all rows are read; working on the result, {so_far} so far")
            }
            _ => return,
        };
        self.told = Some(now);
        // Nothing is left to do when standard error is closed.
        let _ = std::io::stderr().write_all(format!("\r\x1b[K{text}").as_bytes());
    }

    fn clear(&mut self) {
        if self.told.is_some() {
            let _ = std::io::stderr().write_all(b"\r\x1b[K");
        }
        *self = Line { now: Now::Nothing, began: None, told: None };
    }
}

/// A time as people say it.
fn time(seconds: f64) -> String {
    match seconds.round() as u64 {
        seconds @ 120.. => format!("{} minutes", seconds / 60),
        seconds => format!("{seconds} s"),
    }
}

/// Says how much of a file has come from a server, at most ten times a second, and takes it away at the end.
#[cfg(feature = "web")]
pub(crate) fn fetching(name: &str, come: u64, all: Option<u64>) {
    static SAID: Mutex<Option<(Instant, Instant)>> = Mutex::new(None);
    let mut said = SAID.lock().unwrap_or_else(PoisonError::into_inner);
    let now = Instant::now();
    let (began, last) = *said.get_or_insert((now, now));
    let mut stderr = std::io::stderr();
    if all == Some(come) {
        let _ = write!(stderr, "\r\x1b[K");
        *said = None;
    } else if now - began > Duration::from_secs(1) && now - last > Duration::from_millis(100) {
        let of = all.map_or(String::new(), |all| format!(" of {} MB", all >> 20));
        let name = oeuvre_columns::names::visible_label(name);
        let _ = write!(stderr, "\r\x1b[Kfetching {name}: {} MB{of}", come >> 20);
        *said = Some((began, now));
    }
}
