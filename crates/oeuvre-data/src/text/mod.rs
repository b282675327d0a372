//! Text files.

pub(crate) mod csv;
