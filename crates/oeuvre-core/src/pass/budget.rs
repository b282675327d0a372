//! How much of the rows may be kept in memory.
//!
//! All workers of a pass draw on one budget. What they keep is weighed now and then, not at every batch, since
//! weighing costs time that grows with the groups; a request that would need more ends with an error that says so, and
//! not with the machine.

use crate::error::Error;
use crate::plan::Plan;
use oeuvre_columns::names::shown_bytes;
use std::sync::atomic::{AtomicU64, Ordering};

/// What is kept is weighed again each time so many batches were taken in.
const BATCHES: u32 = 32;

/// A budget of bytes, shared by the workers of a pass.
pub(crate) struct Budget {
    most: Option<u64>,
    held: AtomicU64,
}

/// What one worker holds of it.
#[derive(Default)]
pub(crate) struct Held {
    bytes: u64,
    batches: u32,
}

impl Budget {
    /// The budget of a plan.
    pub(crate) fn of(plan: &Plan) -> Budget {
        Budget { most: plan.memory, held: AtomicU64::new(0) }
    }

    /// After a batch: weighs what a worker keeps, where it is time for that.
    ///
    /// # Errors
    /// All workers together keep more than may be kept.
    pub(crate) fn weigh(
        &self,
        held: &mut Held,
        weight: impl FnOnce() -> u64,
        what: &str,
    ) -> Result<(), Error> {
        let Some(most) = self.most else { return Ok(()) };
        held.batches += 1;
        // The first batches may be all there is.
        if !held.batches.is_multiple_of(BATCHES) && held.batches > 4 {
            return Ok(());
        }
        let now = weight();
        let before = std::mem::replace(&mut held.bytes, now);
        let all = self.held.fetch_add(now.wrapping_sub(before), Ordering::Relaxed);
        let all = all.wrapping_add(now).wrapping_sub(before);
        if all <= most {
            return Ok(());
        }
        Err(Error::request_with_help(
            format!("{what} take more memory than the {} that --memory allows", shown_bytes(most)),
            "allow more, such as --memory 8G; or leave rows out with --where, or group by fewer or coarser keys",
        ))
    }
}

#[cfg(test)]
mod tests {
    use crate::testing::{refusal, rows, text};
    use crate::{Request, SourceText};

    /// Rows with as many routes as there are rows.
    fn many() -> oeuvre_columns::InMemory {
        let lines: String = (0..4000).map(|n| format!("R{n}|{n}\n")).collect();
        rows(&format!("route fare:0\n{lines}"))
    }

    #[test]
    fn what_takes_too_much_is_told_and_what_does_not_is_answered() {
        let small = |request: Request| Request { memory: Some(4096), ..request };
        let said = "take more memory than the 4 KiB that --memory allows";
        let by_route = Request::of(&["route"], &["sum(fare)"]);
        assert!(refusal(&many(), &small(by_route.clone())).contains(said));
        let distinct = Request::of(&[], &["count(distinct route)"]);
        assert!(refusal(&many(), &small(distinct)).contains(said));
        let listed = Request {
            listing: true,
            sort: Some(SourceText::new("--sort", "fare")),
            ..Request::of(&[], &["fare"])
        };
        assert!(refusal(&many(), &small(listed)).contains("rows that are compared"));
        let few = Request { filters: vec![text("fare < 9")], ..by_route.clone() };
        assert!(crate::testing::answer(&many(), &Request { memory: Some(1 << 20), ..few }).is_ok());
        assert!(
            crate::testing::answer(&many(), &Request { memory: Some(1 << 30), ..by_route }).is_ok()
        );
    }
}
