//! Explanations: titles with sentences below them, broken between words.
//!
//! ```
//! use oeuvre_core::Section;
//!
//! let section = Section { title: "Rows".into(), lines: vec!["read from bookings.csv".into()] };
//! let mut out = Vec::new();
//! oeuvre_render::write_sections(&[section], 80, &mut out).unwrap();
//! assert_eq!(String::from_utf8(out).unwrap(), "Rows\n    read from bookings.csv\n");
//! ```

use crate::cells::escape_controls;
use oeuvre_core::Section;
use std::io::{self, Write};
use unicode_width::UnicodeWidthStr;

/// Below a title; a line that starts deeper stays deeper.
const INDENT: usize = 4;
/// A page is not taken to be narrower than this.
const NARROWEST: usize = 40;

/// Writes sections, each line at most so many columns of characters wide: 40 where fewer are asked for, and
/// more where a single word is longer.
///
/// # Errors
/// When the output cannot be written.
pub fn write_sections(
    sections: &[Section],
    width_cols: usize,
    out: &mut dyn Write,
) -> io::Result<()> {
    let width = width_cols.max(NARROWEST);
    for (i, section) in sections.iter().enumerate() {
        if i > 0 {
            writeln!(out)?;
        }
        writeln!(out, "{}", escape_controls(&section.title))?;
        for line in &section.lines {
            let depth = INDENT + line.len() - line.trim_start().len();
            for (j, part) in
                broken(&escape_controls(line.trim_start()), width.saturating_sub(depth + 2))
                    .iter()
                    .enumerate()
            {
                // What goes on stands two columns in.
                let indent = depth + if j > 0 { 2 } else { 0 };
                writeln!(out, "{}{part}", " ".repeat(indent))?;
            }
        }
    }
    Ok(())
}

/// Words in lines of at most this width; a longer word has a line of its own.
fn broken(text: &str, width: usize) -> Vec<String> {
    let mut lines: Vec<String> = vec![String::new()];
    for word in text.split(' ') {
        match lines.last_mut() {
            Some(line) if line.is_empty() => line.push_str(word),
            Some(line) if line.width() + 1 + word.width() <= width => {
                line.push(' ');
                line.push_str(word);
            }
            _ => lines.push(word.to_owned()),
        }
    }
    lines
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_sentences_are_broken_between_words() {
        let lines = vec!["a sentence that is a good deal longer than forty columns".to_owned()];
        let sections = [Section { title: "Rows".into(), lines }];
        let mut out = Vec::new();
        write_sections(&sections, 40, &mut out).unwrap();
        let text = String::from_utf8(out).unwrap();
        assert_eq!(
            text,
            "Rows\n    a sentence that is a good deal\n      longer than forty columns\n"
        );
    }
}
