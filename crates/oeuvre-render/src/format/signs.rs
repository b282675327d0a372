//! The signs that readers elsewhere expect in numbers: between groups of digits, and before the decimals.
//!
//! Numbers are written with `,` and `.` first, by one function or pattern; the signs are put in their place at the
//! end, between the first and the last digit, so that what stands around a figure stays as it is.
//!
//! ```
//! use oeuvre_render::Signs;
//!
//! let signs = Signs::of_sample("1.234,56").unwrap();
//! assert_eq!(signs.write("-12,345.60 Fr."), "-12.345,60 Fr.");
//! assert_eq!(Signs::of_sample("1234,5").unwrap().write("12,345.60"), "12345,60");
//! assert!(Signs::of_sample("1234").is_none());
//! ```

/// Signs in numbers.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Signs {
    /// Between groups of three digits; none for no groups.
    group: Option<char>,
    /// Before the decimals.
    decimal: char,
}

impl Signs {
    /// Those of a number that is written as numbers are to look; `None` where it does not show them.
    pub fn of_sample(sample: &str) -> Option<Signs> {
        let sample = sample.trim();
        let mut signs = sample.char_indices().filter(|(_, c)| !c.is_ascii_digit());
        let first = signs.next()?;
        let rest: Vec<(usize, char)> = signs.collect();
        let is_group = |c: char| matches!(c, '.' | ',' | ' ' | '\'' | '’' | '\u{a0}' | '\u{202f}');
        let behind = |(at, c): (usize, char)| sample.len() - at - c.len_utf8();
        let digits = |text: &str| !text.is_empty() && text.bytes().all(|b| b.is_ascii_digit());
        if !digits(&sample[..first.0]) || !is_group(first.1) {
            return None;
        }
        match rest.last() {
            // One sign: before three digits it parts groups, else decimals.
            None if behind(first) == 3 => {
                let decimal = if first.1 == '.' { ',' } else { '.' };
                Some(Signs { group: Some(first.1), decimal })
            }
            None => matches!(first.1, '.' | ',').then_some(Signs { group: None, decimal: first.1 }),
            Some(&last) => {
                let groups = rest[..rest.len() - 1].iter().all(|(_, c)| *c == first.1);
                let decimal = matches!(last.1, '.' | ',') && last.1 != first.1;
                (groups && decimal && behind(last) > 0)
                    .then_some(Signs { group: Some(first.1), decimal: last.1 })
            }
        }
    }

    /// The sign before the decimals.
    pub fn decimal(self) -> char {
        self.decimal
    }

    /// A number that is written with `,` between groups and `.` before the decimals, with these signs.
    pub fn write(self, number: &str) -> String {
        let is_digit = |c: char| c.is_ascii_digit();
        let (Some(first), Some(last)) = (number.find(is_digit), number.rfind(is_digit)) else {
            return number.to_owned();
        };
        let mut out = String::with_capacity(number.len());
        for (at, c) in number.char_indices() {
            match c {
                ',' if (first..last).contains(&at) => out.extend(self.group),
                '.' if (first..last).contains(&at) => out.push(self.decimal),
                c => out.push(c),
            }
        }
        out
    }
}
