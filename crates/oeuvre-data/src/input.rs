//! What commands see of rows, whatever they are read from, and the one place where kinds are settled.
//!
//! Kinds are guessed from the first rows. A pass that meets a value of another kind ends with
//! [`ReadError::Again`]; the input takes in what it has learnt, and the work is done again, so that the answer
//! never depends on the guess. The time is that of one more pass for each column that was guessed wrong.

use crate::facts::Facts;
use oeuvre_columns::column::{Batch, Column};
use oeuvre_columns::{DataProblem, ReadError, Retry, Source, Table};

/// Rows whose kinds are settled while they are read.
pub trait Input: Source {
    /// Takes in what the last pass has found out of the columns.
    ///
    /// # Errors
    /// What has turned out to be wrong with a file.
    fn learn(&mut self) -> Result<(), ReadError>;

    /// Looks for columns that are not known yet, because rows name their own.
    ///
    /// # Errors
    /// What is wrong with a file.
    fn look_for_columns(&mut self) -> Result<(), ReadError> {
        Ok(())
    }

    /// Whether all columns are known.
    fn knows_its_columns(&self) -> bool {
        true
    }

    /// What a text would be, were it a column of its own: `number`, `boolean`, `date`, `datetime`,
    /// `code` (zeros in front of a whole number) or `text`.
    fn looks_like(&self, text: &str) -> &'static str;

    /// What has been noticed about columns, each with what deals with it.
    fn warnings(&self) -> Vec<(String, String)>;

    /// Whether rows are counted as such, because there are no lines.
    fn counts_rows(&self) -> bool {
        false
    }

    /// What is known of the rows, where they are counted apart from others: of the columns that are used, after a pass.
    fn facts(&self, columns: &[usize]) -> Facts;

    /// All columns of all rows, with the line of each row.
    ///
    /// # Errors
    /// What is wrong with the rows.
    fn rows_whole(&self) -> Result<(Vec<Column>, Vec<u64>), ReadError>;
}

/// Does some work over rows, until their kinds are settled. Where the work fails because of what kind a column
/// is, it is done once more when all rows have been looked at.
///
/// # Errors
/// Those of the work, but for [`ReadError::Again`].
pub fn settled<T, E: Retry + From<ReadError>>(
    input: &mut dyn Input,
    mut work: impl FnMut(&dyn Input) -> Result<T, E>,
) -> Result<T, E> {
    let mut all_seen = false;
    // Each time something is learnt of a column or a file, and there is only so much to learn.
    let mut left = 1000 + 100 * input.columns().len();
    loop {
        match work(input) {
            Err(error) if error.is_again() => {
                input.learn()?;
                left = left.checked_sub(1).ok_or_else(|| {
                    ReadError::from(DataProblem::new("the kinds of the columns cannot be settled"))
                })?;
            }
            // A column that was not found may stand in rows that nobody has looked at.
            Err(error) if error.is_of_columns() && !input.knows_its_columns() => {
                input.look_for_columns()?;
            }
            Err(error) if !all_seen && error.is_of_kinds() => {
                all_seen = true;
                if !look_at_all(input)? {
                    return Err(error);
                }
            }
            done => return done,
        }
    }
}

/// Looks at all rows, so that no kind is a guess any more; whether one has changed by that.
fn look_at_all(input: &mut dyn Input) -> Result<bool, ReadError> {
    let all: Vec<usize> = (0..input.columns().len()).collect();
    let mut changed = false;
    loop {
        let read = input.scan(&all, 1).and_then(|readers| {
            let mut batch = Batch::default();
            for mut reader in readers {
                while reader.next(&mut batch)? {}
            }
            Ok(())
        });
        match read {
            Err(ReadError::Again) => {
                input.learn()?;
                changed = true;
            }
            // What else is wrong with the rows is told when they are read for good.
            _ => return Ok(changed),
        }
    }
}

/// Reads a table whole, as a lookup needs it: all its rows in memory, under a name.
///
/// # Errors
/// What is wrong with the rows.
pub fn read_whole(input: &mut dyn Input, name: &str) -> Result<Table, ReadError> {
    settled(input, |input| {
        let (data, lines) = input.rows_whole()?;
        let in_rows = input.counts_rows();
        Ok(Table { name: name.to_owned(), columns: input.columns(), data, lines, in_rows })
    })
}
