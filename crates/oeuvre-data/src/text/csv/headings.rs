//! The start of a file: byte-order mark, separator, headings.
//!
//! The separator is the one that splits the first records most evenly, unless it is said. Headings must be there
//! and differ; what they would be called otherwise is in the message.

use super::ReadOptions;
use super::marks::{Dialect, Found, Marks, scan};
use super::reader::{line_of, problem_at};
use crate::text::headings::{check, skip};
use crate::text::records::unquote;
use oeuvre_columns::{DataProblem, ReadError};

/// What the start of a file says.
pub(super) struct Head {
    pub(super) names: Vec<String>,
    pub(super) dialect: Dialect,
    pub(super) body: usize,
    /// Lines above what may be the headings, where the first looks like a title.
    pub(super) title_lines: Option<usize>,
}

/// How much is looked at to find the separator out.
const LOOK: usize = 64 << 10;
/// How many records are.
const LOOK_RECORDS: usize = 20;

/// Reads the start of a file.
pub(super) fn read(name: &str, bytes: &[u8], options: &ReadOptions) -> Result<Head, ReadError> {
    let start = first_byte(bytes, options.skip_lines);
    let text = &bytes[start..];
    if text.is_empty() {
        let what = if options.skip_lines > 0 {
            "nothing is left behind --skip-lines"
        } else {
            "the file is empty"
        };
        return Err(DataProblem::in_file(name, what)
            .help("a first line with the headings is expected")
            .into());
    }
    let line = line_of(bytes, start);
    let separator = options.separator.unwrap_or_else(|| detect(name, text, options));
    let dialect = Dialect { separator, quote: options.quote };
    let mut marks = Marks::default();
    let text = &text[..text.len().min(u32::MAX as usize - 1)];
    let found = scan(text, 1, dialect, options.instructions.level(), &mut marks);
    let Found::Records { next, .. } = found else {
        return Err(problem_at(name, bytes, start, &found));
    };
    let mut fields = Vec::new();
    let mut from = 0;
    for &mark in marks.iter() {
        let mut field = &text[from..mark as usize];
        if mark as usize + 1 >= next {
            field = field.strip_suffix(b"\r").unwrap_or(field);
        }
        let Ok(heading) = String::from_utf8(unquote(field, dialect.quote).into_owned()) else {
            return Err(DataProblem::in_file(name, "the headings are not valid UTF-8")
                .at_line(line)
                .help("name the encoding, such as --encoding windows-1252")
                .into());
        };
        fields.push(heading.split_whitespace().collect::<Vec<_>>().join(" "));
        from = mark as usize + 1;
    }
    let mut names = fields;
    let mut body = start + next;
    if !options.first_line_is_headings {
        names = (1..=names.len()).map(|i| format!("column_{i}")).collect();
        body = start;
    }
    if let Some(given) = &options.headings {
        if given.len() != names.len() {
            let message =
                format!("--headings names {}, the first line has {}", given.len(), names.len());
            let help = format!("name all of them: --headings '{}'", names.join(","));
            return Err(DataProblem::in_file(name, message).at_line(line).help(help).into());
        }
        names.clone_from(given);
    }
    let title_lines = match options.headings.is_none() && options.first_line_is_headings {
        true => title_lines(text, dialect.quote).map(|n| n + options.skip_lines as usize),
        false => None,
    };
    if let (Some(lines), 1) = (title_lines, names.len()) {
        let message = "the first line looks like a title: those below it have more fields";
        return Err(DataProblem::in_file(name, message).at_line(line).help(skip(lines)).into());
    }
    let problem = |message: String| DataProblem::in_file(name, message).at_line(line);
    check(&names, problem, title_lines)?;
    Ok(Head { names, dialect, body, title_lines })
}

/// Where the headings start: behind a byte-order mark, lines that are skipped, and blank ones.
fn first_byte(bytes: &[u8], skip_lines: u64) -> usize {
    let mut start = if bytes.starts_with(&[0xef, 0xbb, 0xbf]) { 3 } else { 0 };
    for _ in 0..skip_lines {
        start = bytes[start..]
            .iter()
            .position(|&b| b == b'\n')
            .map_or(bytes.len(), |at| start + at + 1);
    }
    while matches!(bytes.get(start), Some(b'\n' | b'\r')) {
        start += 1;
    }
    start
}

/// Whether the headings are not valid UTF-8.
pub(super) fn not_utf8(bytes: &[u8], options: &ReadOptions) -> bool {
    let line = bytes[first_byte(bytes, options.skip_lines)..].split(|&b| b == b'\n').next();
    line.is_some_and(|line| std::str::from_utf8(line).is_err())
}

/// How many lines stand above what may be the headings: the first ones, where they have but one field that is not
/// blank, and those below are alike and have more.
fn title_lines(text: &[u8], quote: Option<u8>) -> Option<usize> {
    let look = &text[..text.len().min(LOOK)];
    let lines: Vec<&[u8]> = look.split(|&b| b == b'\n').take(LOOK_RECORDS).collect();
    let is_blank = |field: &&[u8]| field.iter().all(|b| b.is_ascii_whitespace());
    // Of several separators the one that parts most.
    let found = [b',', b';', b'\t', b'|'].into_iter().filter_map(|separator| {
        let fields = |line: &&[u8]| {
            let mut quoted = false;
            let parts = line.split(|&b| {
                quoted ^= Some(b) == quote;
                b == separator && !quoted
            });
            let parts: Vec<&[u8]> = parts.collect();
            (parts.len(), parts.iter().filter(|f| !is_blank(f)).count())
        };
        let found: Vec<(usize, usize)> = lines.iter().map(fields).collect();
        let above = found.iter().take_while(|f| f.1 <= 1).count();
        let (width, full) = *found.get(above)?;
        let below = &found[above..found.len().min(above + 4)];
        let even = below.iter().filter(|f| f.0 == width).count();
        let some = below.iter().filter(|f| f.0 > 1 || f.1 > 0).count();
        let title = above > 0 && full == width && width > 1 && some > 1 && even == some;
        title.then_some((width, above))
    });
    found.max_by_key(|f| f.0).map(|(_, above)| above)
}

/// The separator that splits the first records most evenly.
fn detect(name: &str, text: &[u8], options: &ReadOptions) -> u8 {
    let (quote, level) = (options.quote, options.instructions.level());
    let look = &text[..text.len().min(LOOK)];
    let mut best = (0, 0, b',');
    let tabs_first = name.to_ascii_lowercase().ends_with(".tsv");
    let candidates = if tabs_first { *b"\t,;|" } else { *b",;\t|" };
    for separator in candidates {
        let mut marks = Marks::default();
        if !matches!(
            scan(look, look.len(), Dialect { separator, quote }, level, &mut marks),
            Found::Records { .. }
        ) {
            continue;
        }
        let mut widths = Vec::new();
        let mut width = 0;
        for &mark in marks.iter() {
            width += 1;
            if look.get(mark as usize).is_none_or(|&b| b == b'\n') {
                widths.push(width);
                width = 0;
            }
        }
        // The last record may have been cut off.
        if widths.len() > 1 && look.len() < text.len() {
            widths.pop();
        }
        widths.truncate(LOOK_RECORDS);
        let Some(&first) = widths.first() else { continue };
        let same = widths.iter().filter(|&&w| w == first).count();
        let even = if first > 1 { same * 100 / widths.len() } else { 0 };
        if (even, first) > (best.0, best.1) {
            best = (even, first, separator);
        }
    }
    best.2
}
