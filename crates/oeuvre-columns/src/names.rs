//! Names in messages: the nearest to a misspelt one, and several in a row.

/// The names nearest to a misspelt one, best first, at most three.
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

/// `a, b or c`, each in backticks.
pub fn either<S: AsRef<str>>(names: &[S]) -> String {
    list_with(names, "or")
}

/// `a, b and c`, each in backticks.
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
