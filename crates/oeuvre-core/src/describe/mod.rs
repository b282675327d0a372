//! What a plan would do, in words: written from the plan itself, so that it cannot say anything else.
//!
//! ```
//! # use oeuvre_columns::{InMemory, Kind, Source};
//! # let rows = InMemory::from_texts(&[("fare", Kind::Number { scale: 2 })], &[&["12.50"]])?;
//! use oeuvre_core::{Plan, Request, explain};
//!
//! let request = Request::of(&[], &["mean(fare)"]);
//! let plan = Plan::new(&request, rows.columns())?;
//! let sections = explain(&request, &plan, &["bookings.csv".into()]);
//! assert_eq!(sections[0].lines[0], "read from bookings.csv");
//! assert_eq!(sections[2].title, "mean(fare)");
//! assert!(sections[2].lines[0].contains("the sum over the count of values"));
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

mod explain;

pub use explain::{Section, explain};
