//! The calculation language: text → tokens → syntax → levels and kinds checked → program.

pub mod ast;
pub mod check;
pub mod clauses;
pub mod elsewhere;
pub mod functions;
pub mod lexer;
pub mod parser;
