//! How a command can end badly: the request or the data is wrong, or something could not be written.

use oeuvre_columns::{DataProblem, ReadError};
use oeuvre_core::Error;
use std::io;

/// Why a command did not end well.
pub(crate) enum Failure {
    /// What to tell the person.
    Error(Error),
    /// All is written, and a check does not hold: it has been told.
    Check,
    /// Whoever reads the output has closed it.
    BrokenPipe,
}

impl From<Error> for Failure {
    fn from(error: Error) -> Failure {
        Failure::Error(error)
    }
}

impl Failure {
    /// A failure to write.
    pub(crate) fn writing(to: &str, error: &io::Error) -> Failure {
        if error.kind() == io::ErrorKind::BrokenPipe {
            return Failure::BrokenPipe;
        }
        Failure::Error(DataProblem::in_file(to, format!("cannot be written: {error}")).into())
    }
}

impl From<ReadError> for Failure {
    fn from(error: ReadError) -> Failure {
        Failure::Error(error.into())
    }
}
