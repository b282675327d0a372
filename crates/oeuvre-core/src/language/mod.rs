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

use crate::error::{Diagnostic, SourceText};

/// Columns of a list, each perhaps in double quotes, perhaps with the name of a lookup before it: `a, "b c", l.d`.
///
/// # Errors
/// What is no column.
pub fn columns_of_list(
    origin: &str,
    text: &str,
) -> Result<Vec<(Option<String>, String)>, Diagnostic> {
    let written = SourceText::new(origin, text);
    // A name that is none without quotes is one all the same where it stands alone.
    let plain = |text: &str| !text.contains(['"', ',', '.', '(']);
    if plain(text) {
        return Ok(vec![(None, text.trim().to_owned())]);
    }
    let column = |expr: ast::Expr| match expr.node {
        ast::Node::Name { table, name } => Ok((table, name)),
        _ => Err(Diagnostic::new(&written, expr.span, "this is no column")
            .label("columns are named, separated by commas")),
    };
    parser::parse_list(&written)?.into_iter().map(column).collect()
}
