//! What is wrong with a text that was to be a value, for the person who asked, or for another pass.

use crate::file_rows::Wanted;
use crate::kinds::Finding;
use crate::options::Forced;
use crate::text::columns::Trouble;
use oeuvre_columns::{DataProblem, ReadError};

/// Where a text stands.
#[derive(Clone, Copy)]
pub(crate) struct Place<'a> {
    /// Its file.
    pub(crate) file: &'a str,
    /// Its line, or its row.
    pub(crate) line: u64,
    /// Whether it is a row.
    pub(crate) in_rows: bool,
    /// The piece of the file.
    pub(crate) piece: u64,
    /// Its column in the stack.
    pub(crate) column: usize,
}

/// A trouble as an error: one for the person, or that the pass is to be made again, with what was found taken
/// down. `encoding_named` says whether the encoding of the file is sure.
pub(crate) fn told(
    trouble: Trouble,
    place: Place<'_>,
    wanted: &Wanted<'_>,
    encoding_named: bool,
) -> ReadError {
    let columns = wanted.columns;
    let state = &columns.states()[place.column];
    let at = |message: String| {
        let it = DataProblem::in_file(place.file, message).in_column(state.name.clone());
        match place.in_rows {
            true => it.at_row(place.line),
            false => it.at_line(place.line),
        }
    };
    let again = |finding: Finding| {
        columns.note(wanted.file, place.piece, place.column, finding);
        ReadError::Again
    };
    match trouble {
        Trouble::Widen { to, text, .. } => {
            again(Finding::Shape(to, at(format!("'{}'", text.escape_debug()))))
        }
        Trouble::OtherSign { text, .. } => {
            again(Finding::OtherSign(at(format!("'{}'", text.escape_debug()))))
        }
        Trouble::NotOfType { text, .. } => {
            let shown: String = text.chars().take(60).collect();
            let shown = shown.escape_debug();
            let (expected, help) = match state.forced {
                Some(Forced::Number) => {
                    ("a number", format!("if it stands for no value: --missing '{shown}'"))
                }
                Some(Forced::Date) => {
                    ("a date", "if day and month are the other way: --dates".to_owned())
                }
                Some(Forced::DateTime) => {
                    ("a date with a time", "expected such as 2025-03-14T09:30".to_owned())
                }
                _ => (
                    "true or false",
                    "compare a text column with what it holds: status = 'yes'".to_owned(),
                ),
            };
            at(format!("'{shown}' is not {expected}")).help(help).into()
        }
        Trouble::NotUtf8 { bytes, .. } if !encoding_named => {
            // Bytes that would mark another encoding at the start of a file mean nothing in a field.
            let text = encoding_rs::WINDOWS_1252.decode_without_bom_handling(&bytes).0;
            again(Finding::Encoding(at(format!("'{}'", text.escape_debug()))))
        }
        Trouble::NotUtf8 { .. } => at("the text is not valid UTF-8".into())
            .help("name the encoding, such as --encoding windows-1252")
            .into(),
    }
}
