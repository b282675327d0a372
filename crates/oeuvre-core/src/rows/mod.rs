//! Rows in columns: batches of typed columns, the dictionaries of their texts, and the programs
//! that calculate over them a column at a time.

mod choices;
pub mod evaluator;
mod kernels;
pub mod lookup;
pub mod program;
pub mod scalar;
mod times;
mod vectors;
