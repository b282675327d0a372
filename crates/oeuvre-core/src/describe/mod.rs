//! What a plan would do, in words: written from the plan itself, so that it cannot say anything else.

mod explain;

pub use explain::{Section, explain};
