//! A fence around libraries that may panic on damaged bytes.

use std::cell::Cell;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Once;

thread_local! {
    static INSIDE: Cell<bool> = const { Cell::new(false) };
}

/// Does some work; a panic in it is an error with its message, and nothing is printed.
pub(crate) fn fenced<T, E: ToString>(work: impl FnOnce() -> Result<T, E>) -> Result<T, String> {
    static QUIET: Once = Once::new();
    QUIET.call_once(|| {
        let usual = std::panic::take_hook();
        std::panic::set_hook(Box::new(move |panic| {
            if !INSIDE.with(Cell::get) {
                usual(panic);
            }
        }));
    });
    let before = INSIDE.replace(true);
    let done = catch_unwind(AssertUnwindSafe(work));
    INSIDE.set(before);
    match done {
        Ok(done) => done.map_err(|error| error.to_string()),
        Err(panic) => {
            let message = panic.downcast_ref::<&str>().map(|s| (*s).to_owned());
            let message = message.or_else(|| panic.downcast_ref::<String>().cloned());
            Err(message.unwrap_or_else(|| "its bytes make no sense".to_owned()))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_panic_inside_is_an_error() {
        let broken = |n: usize| [1, 2][n];
        assert_eq!(fenced(|| Ok::<_, String>(broken(1))), Ok(2));
        let error = fenced(|| Ok::<_, String>(broken(7))).unwrap_err();
        assert!(error.contains("out of bounds"), "{error}");
        assert_eq!(fenced(|| Err::<(), _>("no")), Err("no".to_owned()));
    }
}
