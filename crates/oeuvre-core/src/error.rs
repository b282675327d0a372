//! What can go wrong, in words for the person who asked.

use std::fmt;
use std::ops::Range;
use std::sync::Arc;

/// A calculation as somebody wrote it, and where: `--show`, `--let revenue`, a key of a report.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Written {
    /// Where it was written, in the words of the command line or the report file.
    pub place: String,
    /// The text.
    pub text: String,
}

impl Written {
    /// A text and where it was written.
    pub fn new(place: impl Into<String>, text: impl Into<String>) -> Arc<Written> {
        Arc::new(Written { place: place.into(), text: text.into() })
    }
}

/// A mistake in a calculation, with the place in its text.
#[derive(Clone, Debug)]
pub struct Mistake {
    /// The text it stands in.
    pub written: Arc<Written>,
    /// Byte range in that text.
    pub span: Range<usize>,
    /// What was found, in one line.
    pub message: String,
    /// What to say under the marked place.
    pub label: String,
    /// Ways out, each a line.
    pub help: Vec<String>,
    /// Whether it lies in what kind a column is, which may have been guessed.
    pub of_kinds: bool,
}

impl Mistake {
    /// A mistake at a place in a text.
    pub fn new(written: &Arc<Written>, span: Range<usize>, message: impl Into<String>) -> Mistake {
        Mistake {
            written: written.clone(),
            span,
            message: message.into(),
            label: String::new(),
            help: Vec::new(),
            of_kinds: false,
        }
    }

    /// One that lies in what kind a column is.
    pub fn of_kinds(mut self) -> Mistake {
        self.of_kinds = true;
        self
    }

    /// With words under the marked place.
    pub fn label(mut self, label: impl Into<String>) -> Mistake {
        self.label = label.into();
        self
    }

    /// With a way out.
    pub fn help(mut self, help: impl Into<String>) -> Mistake {
        self.help.push(help.into());
        self
    }
}

/// A mistake in the data or in how it is to be read.
#[derive(Clone, Debug, Default)]
pub struct DataProblem {
    /// The file as it was named, if one is to blame.
    pub file: Option<String>,
    /// The line in it, from 1.
    pub line: Option<u64>,
    /// The heading of the column.
    pub column: Option<String>,
    /// What was found, and what was expected.
    pub message: String,
    /// Ways out, each a line.
    pub help: Vec<String>,
}

impl DataProblem {
    /// A problem with a file.
    pub fn in_file(file: impl Into<String>, message: impl Into<String>) -> DataProblem {
        DataProblem { file: Some(file.into()), message: message.into(), ..Default::default() }
    }

    /// At a line, counted from 1.
    pub fn at_line(mut self, line: u64) -> DataProblem {
        self.line = Some(line);
        self
    }

    /// In a column.
    pub fn in_column(mut self, column: impl Into<String>) -> DataProblem {
        self.column = Some(column.into());
        self
    }

    /// With a way out.
    pub fn help(mut self, help: impl Into<String>) -> DataProblem {
        self.help.push(help.into());
        self
    }
}

/// Why a request gives no table.
#[derive(Clone, Debug)]
pub enum Error {
    /// One or more calculations are wrong.
    Mistakes(Vec<Mistake>),
    /// The data is wrong, or is not what the request says.
    Data(Box<DataProblem>),
    /// The request asks for something that cannot be.
    Request {
        /// What is wrong with it.
        message: String,
        /// Ways out, each a line.
        help: Vec<String>,
        /// Whether it lies in what kind a column is, which may have been guessed.
        of_kinds: bool,
    },
    /// A value was met that the column's kind cannot hold: read again with this kind.
    Widen {
        /// The column's number in the source.
        column: usize,
        /// The column as it must be read, in the source's own terms.
        to: ColumnShape,
    },
}

/// How a source sees a column; opaque to the core, which only hands it back.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ColumnShape(pub u64, pub Option<Box<DataProblem>>);

impl PartialEq for DataProblem {
    fn eq(&self, other: &Self) -> bool {
        self.message == other.message && self.line == other.line && self.column == other.column
    }
}
impl Eq for DataProblem {}

impl Error {
    /// A request that cannot be met.
    pub fn request(message: impl Into<String>) -> Error {
        Error::Request { message: message.into(), help: Vec::new(), of_kinds: false }
    }

    /// A request that cannot be met, with a way out.
    pub fn request_with_help(message: impl Into<String>, help: impl Into<String>) -> Error {
        Error::Request { message: message.into(), help: vec![help.into()], of_kinds: false }
    }

    /// Whether it lies in what kind a column is: a guess that more rows may change.
    pub fn is_of_kinds(&self) -> bool {
        match self {
            Error::Mistakes(all) => all.iter().any(|m| m.of_kinds),
            Error::Request { of_kinds, .. } => *of_kinds,
            _ => false,
        }
    }
}

impl From<DataProblem> for Error {
    fn from(problem: DataProblem) -> Error {
        Error::Data(Box::new(problem))
    }
}

impl From<Mistake> for Error {
    fn from(mistake: Mistake) -> Error {
        Error::Mistakes(vec![mistake])
    }
}

impl fmt::Display for Error {
    /// One line; the program draws the long form.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Error::Mistakes(all) => {
                let messages: Vec<&str> = all.iter().map(|m| m.message.as_str()).collect();
                f.write_str(&messages.join("; "))
            }
            Error::Data(p) => {
                if let Some(file) = &p.file {
                    write!(f, "{file}")?;
                    if let Some(line) = p.line {
                        write!(f, ", line {line}")?;
                    }
                    if let Some(column) = &p.column {
                        write!(f, ", column `{column}`")?;
                    }
                    f.write_str(": ")?;
                }
                f.write_str(&p.message)
            }
            Error::Request { message, .. } => f.write_str(message),
            Error::Widen { column, .. } => write!(f, "column {column} must be read again"),
        }
    }
}

impl std::error::Error for Error {}

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
