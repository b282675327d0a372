//! Reading texts in which quotes may stand: where they divide.

/// The characters of a text outside quotes, single or double, each with where it is and how many parentheses are
/// open around it. A closing parenthesis without an opening one counts for nothing.
///
/// ```
/// use oeuvre_columns::quoting::outside_quotes;
///
/// let equals = |text: &str| outside_quotes(text).find(|o| o.1 == '=' && o.2 == 0).map(|o| o.0);
/// assert_eq!(equals("\"a = b\" = 1"), Some(8));
/// assert_eq!(equals("if(a = 1, b, c)"), None);
/// ```
pub fn outside_quotes(text: &str) -> impl Iterator<Item = (usize, char, usize)> + '_ {
    let (mut quote, mut depth) = (None, 0usize);
    text.char_indices().filter_map(move |(at, c)| {
        match (quote, c) {
            (Some(q), _) => {
                quote = (q != c).then_some(q);
                return None;
            }
            (None, '\'' | '"') => {
                quote = Some(c);
                return None;
            }
            (None, '(') => depth += 1,
            (None, ')') => depth = depth.saturating_sub(1),
            _ => {}
        }
        Some((at, c, depth))
    })
}
