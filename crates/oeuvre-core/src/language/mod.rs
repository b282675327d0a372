//! The calculation language: text → tokens → syntax → levels and kinds checked → program.

pub mod ast;
pub mod functions;
pub mod lexer;
pub mod parser;
pub mod resolve;
