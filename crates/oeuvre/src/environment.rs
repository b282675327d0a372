//! The terminal and the environment, looked at in this one place: width, colour, how many threads.
//!
//! Everything else gets these as settings, so that what is written never depends on where it is tested.

use oeuvre_columns::choices;
use oeuvre_columns::value::calendar::civil_from_days;
use std::io::IsTerminal;

choices! {
    /// When to use colour.
    pub(crate) enum Color {
        Auto = "auto": "On a terminal, unless NO_COLOR is set",
        Always = "always": "Always",
        Never = "never": "Never",
    }
}

/// Whether a stream is to be written in colour.
pub(crate) fn color(choice: Color, stream: &impl IsTerminal) -> bool {
    match choice {
        Color::Always => true,
        Color::Never => false,
        // https://no-color.org: set and not empty.
        Color::Auto => {
            stream.is_terminal() && std::env::var_os("NO_COLOR").is_none_or(|v| v.is_empty())
        }
    }
}

/// The columns of the terminal that standard output is, if it is one.
pub(crate) fn terminal_width() -> Option<usize> {
    std::io::stdout()
        .is_terminal()
        .then(|| terminal_size::terminal_size().map(|(w, _)| usize::from(w.0)))
        .flatten()
}

/// The columns of the terminal that standard error is, if it is one.
pub(crate) fn stderr_width() -> Option<usize> {
    let stderr = std::io::stderr();
    stderr
        .is_terminal()
        .then(|| terminal_size::terminal_size_of(&stderr).map(|(w, _)| usize::from(w.0)))
        .flatten()
}

/// How many threads run at once here.
pub(crate) fn threads() -> usize {
    std::thread::available_parallelism().map_or(1, |n| n.get())
}

/// The day and the minute, as they are written at the top of what was made now.
pub(crate) fn stamp() -> String {
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH);
    let seconds = now.map_or(0, |since| since.as_secs());
    let (year, month, day) = civil_from_days((seconds / 86_400) as i32);
    let (hour, minute) = (seconds / 3600 % 24, seconds / 60 % 60);
    format!("Made on {year:04}-{month:02}-{day:02} at {hour:02}:{minute:02} UTC")
}
