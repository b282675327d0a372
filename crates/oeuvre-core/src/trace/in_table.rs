//! A cell of a finished table by its labels, for whoever needs its figure and not its rows.

use super::cell::{TOTAL, keys_named};
use crate::error::{Error, SourceText};
use crate::grid::{Grid, Heading, Line, LineKind, Lines};
use crate::plan::Plan;
use crate::request::{AtLabel, Request};
use crate::table::{MISSING, ReadsAs};
use oeuvre_columns::names::nearest;
use oeuvre_columns::{Source, Value};
use std::sync::Arc;

/// What stands at one side of a table: its keys, its lines, and the label of a line under a key.
struct Side<'a> {
    keys: &'a [Heading],
    lines: &'a Lines,
    label: &'a dyn Fn(usize, usize) -> Option<Value>,
    rest: &'a str,
}

/// The line and the position along the top of the cell of a table that some labels name, as
/// [`trace`](super::trace) takes them. Keys that are left out mean the total over them.
///
/// # Errors
/// A key or a label that the table does not have, and a line that it does not show.
pub fn cell_named(
    grid: &Grid,
    request: &Request,
    source: &dyn Source,
    at: &[(Arc<SourceText>, AtLabel)],
    reads_as: ReadsAs<'_>,
) -> Result<(usize, usize), Error> {
    let texts: Vec<Arc<SourceText>> = at.iter().map(|(written, _)| written.clone()).collect();
    let (_, named) = Plan::with_keys(request, source.columns(), &texts)?;
    let keys = keys_named(&named, at)?;
    let down = Side {
        keys: &grid.by,
        lines: &grid.lines,
        label: &|line, key| grid.label(line, key),
        rest: &grid.rest_label,
    };
    let along = Side {
        keys: &grid.across,
        lines: &grid.positions,
        label: &|position, key| grid.position_label(position, key),
        rest: "",
    };
    let (of_lines, of_positions): (Vec<_>, Vec<_>) =
        keys.into_iter().partition(|(key, _)| *key < grid.by.len());
    let of_positions: Vec<_> =
        of_positions.into_iter().map(|(key, label)| (key - grid.by.len(), label)).collect();
    Ok((down.find(&of_lines, reads_as)?, along.find(&of_positions, reads_as)?))
}

impl Side<'_> {
    /// The line that has some labels, each with its key.
    fn find(&self, labels: &[(usize, AtLabel)], reads_as: ReadsAs<'_>) -> Result<usize, Error> {
        let bare = |l: &AtLabel, word: &str| !l.quoted && !word.is_empty() && l.text == word;
        let ends = |l: &AtLabel| bare(l, TOTAL) || bare(l, self.rest);
        let rest = labels.iter().any(|(_, label)| bare(label, self.rest));
        let path: Vec<_> = labels.iter().take_while(|(_, label)| !ends(label)).collect();
        if let Some((at, (key, _))) = path.iter().enumerate().find(|(at, (key, _))| at != key) {
            let outer = &self.keys[at].name;
            let message =
                format!("`{}` is named, but not `{outer}` around it", self.keys[*key].name);
            return Err(Error::request_with_help(message, format!("add '{outer} = …' before it")));
        }
        let wanted = |line: &Line| match (rest, path.len() == self.keys.len()) {
            (true, _) => line.kind == LineKind::Rest,
            (false, true) => line.kind == LineKind::Group,
            (false, false) => matches!(line.kind, LineKind::Subtotal | LineKind::Grand),
        };
        let is = |line: usize, (key, label): &(usize, AtLabel)| match (self.label)(line, *key) {
            None => false,
            Some(Value::Missing) => bare(label, MISSING),
            Some(value) => {
                value.to_string() == label.text
                    || reads_as(&self.keys[*key].name, &value).is_some_and(|r| r == label.text)
            }
        };
        let mut left: Vec<usize> = (0..self.lines.len()).collect();
        for part in &path {
            let matching: Vec<usize> = left.iter().copied().filter(|&l| is(l, part)).collect();
            if matching.is_empty() {
                return Err(self.no_label(&left, part));
            }
            left = matching;
        }
        let depth = |line: &Line| line.depth as usize == path.len();
        left.into_iter().find(|&l| depth(&self.lines[l]) && wanted(&self.lines[l])).ok_or_else(
            || {
                let what = if rest { self.rest } else { "total" };
                let help = "name the labels of all its keys, or ask for totals";
                Error::request_with_help(format!("the table shows no {what} there"), help)
            },
        )
    }

    /// That no line among some has a label.
    fn no_label(&self, among: &[usize], (key, label): &(usize, AtLabel)) -> Error {
        let labels: Vec<String> =
            among.iter().filter_map(|&l| (self.label)(l, *key)).map(|v| v.to_string()).collect();
        let near = nearest(&label.text, labels.iter().map(String::as_str));
        let help = match (near.first(), labels.first()) {
            (Some(near), _) => format!("did you mean {near}?"),
            (None, Some(first)) => format!("its labels are such as {first}"),
            (None, None) => "the table has no lines".to_owned(),
        };
        let name = &self.keys[*key].name;
        Error::request_with_help(format!("{name} shows no label `{}`", label.text), help)
    }
}
