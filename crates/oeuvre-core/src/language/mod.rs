//! The calculation language: text → tokens → syntax → levels and kinds checked → plan.
//!
//! Everything that somebody can write is read here, with its place in the text, so that a mistake is told where
//! it stands; `functions/` and `clauses.rs` are the tables that feed the parser, the help and the docs.
//!
//! ```
//! use oeuvre_core::SourceText;
//! use oeuvre_core::language::{functions, parser};
//!
//! let calc = parser::parse(&SourceText::new("--show", "sum(fare * passengers) / count()"))?;
//! assert_eq!(calc.span, 0..32);
//! assert_eq!(functions::find("average").map(|f| f.name), Some("mean"));
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

pub mod ast;
pub mod check;
pub mod clauses;
pub mod elsewhere;
pub mod functions;
pub mod lexer;
pub mod parser;
