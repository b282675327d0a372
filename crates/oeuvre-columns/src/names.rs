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
