//! Names of sheets.

use std::collections::HashSet;

/// The most characters in the name of a sheet.
const MOST_NAME: usize = 31;

/// The names of sheets: without the characters that no name has, short enough, no two the same.
#[derive(Default)]
pub(crate) struct Names(HashSet<String>);

impl Names {
    pub(crate) fn next(&mut self, wanted: &str) -> String {
        let clean: String = crate::escape_controls(wanted)
            .chars()
            .map(|c| if matches!(c, '[' | ']' | ':' | '*' | '?' | '/' | '\\') { ' ' } else { c })
            .collect();
        let clean = clean.split_whitespace().collect::<Vec<_>>().join(" ");
        let clean = clean.trim_matches('\'');
        // A name that the programs keep for themselves.
        let clean = match clean {
            "" => "Table",
            it if it.eq_ignore_ascii_case("history") => "History table",
            it => it,
        };
        for number in 1usize.. {
            let behind = if number == 1 { String::new() } else { format!(" ({number})") };
            let mut name = String::new();
            let mut room = MOST_NAME - behind.len();
            for c in clean.chars() {
                if c.len_utf16() > room {
                    break;
                }
                room -= c.len_utf16();
                name.push(c);
            }
            let name = format!("{}{behind}", name.trim_end().trim_end_matches('\''));
            if self.0.insert(name.to_lowercase()) {
                return name;
            }
        }
        unreachable!("numbers do not end")
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use rust_xlsxwriter::Worksheet;

    #[rstest]
    #[case(&["Revenue by coast/quarter"], "Revenue by coast quarter")]
    #[case(&["", "[]"], "Table; Table (2)")]
    #[case(&["history", "'quoted'"], "History table; quoted")]
    #[case(&["A name that is a good deal longer than a sheet's", "A NAME that is a good deal longer than another's"],
        "A name that is a good deal long; A NAME that is a good deal (2)")]
    fn names_of_sheets_are_those_that_workbooks_take(#[case] wanted: &[&str], #[case] given: &str) {
        let mut names = Names::default();
        let found: Vec<String> = wanted.iter().map(|name| names.next(name)).collect();
        assert_eq!(found.join("; "), given);
        let mut sheet = Worksheet::new();
        assert!(found.iter().all(|name| sheet.set_name(name.as_str()).is_ok()));
    }
}
