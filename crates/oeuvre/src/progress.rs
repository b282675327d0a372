//! What is said on a terminal while something takes long: one line on standard error, which goes away.
//!
//! While rows are read it says how far that is and about how long the rest takes. Of what comes behind (groups put
//! together, lines put in order, files written) it says the same as soon as enough is done to know how long the rest may
//! take, and before how long it has taken.

use oeuvre_columns::work;
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
    /// How much of the work behind the rows was done when it was last asked, and when that was found.
    done: Option<(u64, Instant)>,
}

static LINE: Mutex<Line> = Mutex::new(Line::NONE);
/// Whether the output itself goes to the terminal now, where it is seen how far that is.
static IS_SHOWN: AtomicBool = AtomicBool::new(false);
static TICKER: OnceLock<Option<Thread>> = OnceLock::new();

/// Whether nobody wants to know.
static IS_SILENT: AtomicBool = AtomicBool::new(false);

/// From now on nothing is said.
pub(crate) fn say_nothing() {
    IS_SILENT.store(true, Relaxed);
}

/// Whether anything is said: to somebody at a terminal.
pub(crate) fn is_said() -> bool {
    !IS_SILENT.load(Relaxed) && std::io::stderr().is_terminal()
}

/// Who is told how far a pass is.
pub(crate) fn of_reading() -> Option<fn(u64, u64)> {
    is_said().then_some(reading as _)
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
        (true, _) => {
            work::begin();
            line.done = None;
            Now::Working(now)
        }
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
    const NONE: Line = Line { now: Now::Nothing, began: None, told: None, done: None };

    /// What is said of work behind the rows that has taken some time.
    fn working(&mut self, now: Instant, so_far: Duration) -> String {
        let (done, all) = work::so_far();
        let (_, at) = match self.done {
            Some(known) if known.0 == done => known,
            _ => *self.done.insert((done, now)),
        };
        let until_then = so_far - (now - at).min(so_far);
        match time_left(until_then, (done, all)) {
            Some(left) if left > now - at => {
                // Up to the next second, and never none while there is work.
                let left = (left - (now - at)).as_secs_f64().ceil();
                format!("working on the result: {} %, about {} left", 100 * done / all, time(left))
            }
            _ => format!("working on the result, {} so far", time(so_far.as_secs_f64())),
        }
    }

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
            Now::Working(since) => format!("all rows are read; {}", self.working(now, now - since)),
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
        *self = Line::NONE;
    }
}

/// How long work may still take, of which so much was done in some time; `None` while too little was.
fn time_left(took: Duration, (done, all): (u64, u64)) -> Option<Duration> {
    /// What is known from less is no more than a guess.
    const ENOUGH: Duration = Duration::from_millis(500);
    let is_known = took >= ENOUGH && done < all && done > all / 20;
    is_known.then(|| took.mul_f64((all - done) as f64 / done as f64))
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

#[cfg(test)]
mod tests {
    use super::{time, time_left};
    use rstest::rstest;
    use std::time::Duration;

    #[rstest]
    #[case::nothing_done(10, (0, 100), None)]
    #[case::hardly_any(10, (5, 100), None)]
    #[case::a_quarter(10, (25, 100), Some(30))]
    #[case::most(9, (90, 100), Some(1))]
    #[case::all(10, (100, 100), None)]
    #[case::more_than_was_expected(10, (120, 100), None)]
    #[case::nothing_expected(10, (0, 0), None)]
    #[case::too_soon(0, (25, 100), None)]
    fn the_rest_takes_as_long_as_what_was_done_says(
        #[case] took: u64,
        #[case] work: (u64, u64),
        #[case] left: Option<u64>,
    ) {
        assert_eq!(time_left(Duration::from_secs(took), work), left.map(Duration::from_secs));
    }

    #[rstest]
    #[case(0.4, "0 s")]
    #[case(119.4, "119 s")]
    #[case(120.0, "2 minutes")]
    fn times_are_said_as_people_do(#[case] seconds: f64, #[case] said: &str) {
        assert_eq!(time(seconds), said);
    }
}
