//! How a table is to look: patterns, bars, shading, what stands in empty cells.
//!
//! A style names columns by heading or calculation, and is checked before any row is read: see [`Style::check`].
//!
//! ```
//! use oeuvre_columns::Kind;
//! use oeuvre_render::{Named, Style};
//!
//! let style = Style { bars: vec!["fares".into()], ..Style::default() };
//! let fare = Named {
//!     heading: "fare".into(),
//!     calc: "sum(fare)".into(),
//!     kind: Kind::Number { scale: 2 },
//!     key: false,
//! };
//! assert!(style.check(&[fare]).unwrap_err().help.contains("fare"));
//! ```

use crate::format::{Pattern, Signs};
use oeuvre_columns::names::nearest;
use oeuvre_columns::{Kind, Value};

/// How a table is to look. Columns are named by their headings.
#[derive(Clone, Debug, Default)]
pub struct Style {
    /// Column and pattern.
    pub formats: Vec<(String, String)>,
    /// Results that have bars in their cells.
    pub bars: Vec<String>,
    /// Results whose cells are shaded.
    pub shades: Vec<String>,
    /// Results that have a small line along the top keys at the end of each line.
    pub lines: Vec<String>,
    /// What stands in cells without a value.
    pub blank: String,
    /// One line for each cell.
    pub long: bool,
    /// The signs in numbers, where they were asked for.
    pub signs: Option<Signs>,
}

/// A column that a style may name.
#[derive(Clone, Debug)]
pub struct Named {
    /// Its heading.
    pub heading: String,
    /// Its calculation as written.
    pub calc: String,
    /// What it holds.
    pub kind: Kind,
    /// Whether it is a key.
    pub key: bool,
}

impl Named {
    /// Whether a name means it: its heading, or its calculation.
    pub fn is_called(&self, name: &str) -> bool {
        same(name, &self.heading, &self.calc)
    }
}

/// What is wrong with a style, and the way out.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StyleProblem {
    /// What is wrong.
    pub message: String,
    /// What to do.
    pub help: String,
}

impl Style {
    /// Checks that every name is that of a column, and every pattern one for its values.
    ///
    /// # Errors
    /// The first thing that is wrong.
    pub fn check(&self, columns: &[Named]) -> Result<(), StyleProblem> {
        for (name, pattern) in &self.formats {
            let column = find(columns, name, "--format", |_| true)?;
            Pattern::parse(pattern, column.kind).map_err(|problem| StyleProblem {
                message: format!("--format '{name}: {pattern}': {problem}"),
                help: match column.kind {
                    Kind::Number { .. } | Kind::Float => "such as '#,##0.00', '0.0%' or '#,##0 €'",
                    _ => "such as 'd MMM yyyy', 'MMM yy' or 'QQQ yyyy'",
                }
                .to_owned(),
            })?;
        }
        for (option, names) in [
            ("--cell-bars", &self.bars),
            ("--cell-shade", &self.shades),
            ("--cell-line", &self.lines),
        ] {
            for name in names {
                let column = find(columns, name, option, |c| !c.key)?;
                if !column.kind.is_number() {
                    return Err(StyleProblem {
                        message: format!("{option} {name}: this is {}", column.kind.describe()),
                        help: "it takes a result that is a number".to_owned(),
                    });
                }
            }
        }
        Ok(())
    }

    /// How a label of a key reads, where a pattern says so.
    pub fn reads_as(&self, heading: &str, value: &Value) -> Option<String> {
        let kind = match value {
            Value::Missing => return None,
            Value::Number(n) => Kind::Number { scale: n.scale },
            Value::Float(_) => Kind::Float,
            Value::Date(_) => Kind::Date,
            Value::DateTime(_) => Kind::DateTime,
            Value::Period(p) => Kind::Period(p.unit),
            _ => return None,
        };
        let mut out = String::new();
        let pattern = self.pattern(heading, heading, kind)?;
        pattern.push(&mut out, value, None).then_some(out)
    }

    /// The pattern of a column.
    pub(crate) fn pattern(&self, heading: &str, calc: &str, kind: Kind) -> Option<Pattern> {
        let is = |name: &str| same(name, heading, calc);
        let (_, pattern) = self.formats.iter().rev().find(|(name, _)| is(name))?;
        Pattern::parse(pattern, kind).ok()
    }

    /// Whether a list of results names a column.
    pub(crate) fn names(list: &[String], heading: &str, calc: &str) -> bool {
        list.iter().any(|name| same(name, heading, calc))
    }
}

/// Whether a name is that of a column: its heading, or its calculation.
fn same(name: &str, heading: &str, calc: &str) -> bool {
    let name = name.trim();
    name == heading || name == calc || name.trim_matches('"') == heading
}

fn find<'a>(
    columns: &'a [Named],
    name: &str,
    option: &str,
    fits: impl Fn(&Named) -> bool,
) -> Result<&'a Named, StyleProblem> {
    columns.iter().find(|c| fits(c) && same(name, &c.heading, &c.calc)).ok_or_else(|| {
        let names: Vec<&str> =
            columns.iter().filter(|c| fits(c)).map(|c| c.heading.as_str()).collect();
        let near = nearest(name, names.iter().copied());
        StyleProblem {
            message: format!("{option}: the table has no column `{name}`"),
            help: match near.first() {
                Some(near) => format!("did you mean `{near}`?"),
                None => format!("its columns are {}", oeuvre_columns::names::all_of(&names)),
            },
        }
    })
}
