//! The leaf of Oeuvre: values and their kinds, typed columns with the dictionaries of their texts, and the
//! contract between whoever reads rows and whoever calculates with them.
//!
//! Not here: the language, files, printing.

mod choice;
pub mod column;
pub mod names;
mod problem;
mod schema;
mod source;
pub mod value;

pub use choice::Choice;
pub use problem::{DataProblem, ReadError, Retry};
pub use schema::{ColumnInfo, Table};
pub use source::{Account, Reader, Size, Source};
pub use value::decimal::Decimal;
pub use value::{Kind, Value};
