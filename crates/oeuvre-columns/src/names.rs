//! Names in messages: the nearest to a misspelt one, and several in a row.
//!
//! Every message that names a column, a function, a key or an option goes through here, so that all of them
//! read alike. Looking for a near name costs a comparison with each name there is.
//!
//! ```
//! use oeuvre_columns::names::{all_of, either, nearest};
//!
//! assert_eq!(nearest("fair", ["fare", "route", "farm"]), ["fare", "farm"]);
//! assert_eq!(either(&["sum", "mean", "median"]), "`sum`, `mean` or `median`");
//! assert_eq!(all_of(&["route"]), "`route`");
//! ```

use std::borrow::Cow;
use unicode_normalization::{UnicodeNormalization, is_nfc};

/// A label without what people do not see in it or do not mean by it: case (full Unicode folding), white space at
/// its ends, more than one space in a row, and the Unicode form (NFC). Labels that are equal so may be one.
///
/// ```
/// use oeuvre_columns::names::plain_label;
///
/// assert_eq!(plain_label(" North\u{a0} Quay"), "north quay");
/// assert_eq!(plain_label("Strasse"), plain_label("STRAßE"));
/// assert_eq!(plain_label("Cafe\u{301}"), plain_label("café"));
/// ```
pub fn plain_label(label: &str) -> Cow<'_, str> {
    if label.is_ascii() {
        let plain = |b: u8| !b.is_ascii_uppercase() && (b == b' ' || !b.is_ascii_whitespace());
        let spaced = label.starts_with(' ') || label.ends_with(' ') || label.contains("  ");
        if !spaced && label.bytes().all(plain) {
            return Cow::Borrowed(label);
        }
    }
    let words: Vec<&str> = label.split_whitespace().collect();
    let spaced = words.join(" ");
    if spaced.is_ascii() {
        return Cow::Owned(spaced.to_ascii_lowercase());
    }
    let composed: String = if is_nfc(&spaced) { spaced } else { spaced.nfc().collect() };
    Cow::Owned(unicase::UniCase::unicode(composed.as_str()).to_folded_case().nfc().collect())
}

/// A count as people read it: `1,234,567`.
pub fn grouped(n: u64) -> String {
    let digits = n.to_string();
    let mut out = String::new();
    for (i, c) in digits.chars().enumerate() {
        if i > 0 && (digits.len() - i).is_multiple_of(3) {
            out.push(',');
        }
        out.push(c);
    }
    out
}

/// A number of bytes as people read it.
///
/// ```
/// use oeuvre_columns::names::shown_bytes;
///
/// assert_eq!([4096, 1 << 30, 1_600_000].map(shown_bytes), ["4 KiB", "1 GiB", "1.5 MiB"]);
/// ```
pub fn shown_bytes(bytes: u64) -> String {
    let units = [("GiB", 30), ("MiB", 20), ("KiB", 10)];
    let Some((unit, shift)) = units.into_iter().find(|unit| bytes >> unit.1 > 0) else {
        return format!("{bytes} bytes");
    };
    let tenths = (u128::from(bytes) * 10) >> shift;
    match tenths % 10 {
        0 => format!("{} {unit}", tenths / 10),
        rest => format!("{}.{rest} {unit}", tenths / 10),
    }
}

/// A label in single quotes, with what nobody would see in it written out.
///
/// ```
/// use oeuvre_columns::names::visible_label;
///
/// assert_eq!(visible_label("Old\u{a0}Town"), r"'Old\u{a0}Town'");
/// ```
pub fn visible_label(label: &str) -> String {
    let mut out = String::from("'");
    for c in label.chars() {
        let plain = c == ' ' || c.is_alphanumeric() || c.is_ascii_punctuation();
        if plain { out.push(c) } else { out.extend(c.escape_debug()) }
    }
    out.push('\'');
    out
}

/// A column's name as calculations take it: in double quotes where it is not plain.
pub fn as_name(column: &str) -> String {
    let mut chars = column.chars();
    let plain = chars.next().is_some_and(|c| c.is_alphabetic() || c == '_')
        && chars.all(|c| c.is_alphanumeric() || c == '_');
    if plain { column.to_owned() } else { format!("\"{}\"", column.replace('"', "\"\"")) }
}

/// A text as one word for a shell: in single quotes where it needs them.
pub fn shell_quoted(text: &str) -> String {
    let plain =
        |c: char| c.is_alphanumeric() || matches!(c, '_' | '-' | '.' | ',' | '=' | '/' | ':');
    match !text.is_empty() && text.chars().all(plain) {
        true => text.to_owned(),
        false => format!("'{}'", text.replace('\'', r"'\''")),
    }
}

/// The value of `--missing` that names some texts of a column.
///
/// ```
/// use oeuvre_columns::names::missing_texts;
///
/// assert_eq!(missing_texts(Some("fare"), &["?", "15O,50"]), "fare=?,\"15O,50\"");
/// ```
pub fn missing_texts(column: Option<&str>, texts: &[&str]) -> String {
    let quoted = |text: &str| {
        let plain = !text.contains([',', '=', '\'', '"']) && text.trim() == text;
        if plain { text.to_owned() } else { format!("\"{}\"", text.replace('"', "\"\"")) }
    };
    let all: Vec<String> = texts.iter().map(|t| quoted(t)).collect();
    match column {
        Some(column) => format!("{}={}", quoted(column), all.join(",")),
        None => all.join(","),
    }
}

/// The names nearest to a misspelt one, best first, at most three, each once; case does not count. Empty where
/// none is near: a similarity of 0.78 by Jaro and Winkler (Winkler, "String Comparator Metrics and Enhanced
/// Decision Rules in the Fellegi-Sunter Model of Record Linkage", 1990) is what typing errors leave of names of
/// business columns, and unrelated ones do not reach.
pub fn nearest<'a>(wrong: &str, names: impl IntoIterator<Item = &'a str>) -> Vec<&'a str> {
    let wrong = wrong.to_lowercase();
    let mut scored: Vec<(f64, &str)> = names
        .into_iter()
        .map(|n| (strsim::jaro_winkler(&wrong, &n.to_lowercase()), n))
        .filter(|(score, _)| *score > 0.78)
        .collect();
    scored.sort_by(|a, b| b.0.total_cmp(&a.0).then(a.1.cmp(b.1)));
    scored.dedup_by_key(|s| s.1);
    scored.into_iter().take(3).map(|(_, n)| n).collect()
}

/// `a, b or c`, each in backticks; empty for none.
pub fn either<S: AsRef<str>>(names: &[S]) -> String {
    list_with(names, "or")
}

/// `a, b and c`, each in backticks; empty for none.
pub fn all_of<S: AsRef<str>>(names: &[S]) -> String {
    list_with(names, "and")
}

fn list_with<S: AsRef<str>>(names: &[S], word: &str) -> String {
    let quoted: Vec<String> = names.iter().map(|n| format!("`{}`", n.as_ref())).collect();
    match quoted.as_slice() {
        [] => String::new(),
        [one] => one.clone(),
        [first @ .., last] => format!("{} {word} {last}", first.join(", ")),
    }
}
