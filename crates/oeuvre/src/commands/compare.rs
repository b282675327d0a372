//! `oeuvre compare`: what changed between two results, or between two files of rows.

use crate::args::compare::CompareArgs;
use crate::failure::Failure;
use crate::present::present;
use oeuvre_columns::names::shell_quoted;
use oeuvre_columns::{Kind, Note, Topic};
use oeuvre_core::language::columns_of_list;
use oeuvre_core::{Changes, ChangesRequest, Error, SourceText, changes, row_changes, tolerance_of};
use oeuvre_data::{files_named, open, read_saved, read_whole};

pub(crate) fn run(args: &CompareArgs) -> Result<(), Failure> {
    let mut by = Vec::new();
    for text in &args.by {
        let columns = columns_of_list("--by", text).map_err(|m| Error::Diagnostics(vec![m]))?;
        by.extend(columns.into_iter().map(|(object, name)| match object {
            Some(object) => format!("{object}.{name}"),
            None => name,
        }));
    }
    let tolerance = match &args.tolerance {
        None => None,
        Some(text) => Some(tolerance_of(text).ok_or_else(|| {
            Error::request_with_help(
                format!("--tolerance '{text}' is no tolerance"),
                "write a number, or one in percent: --tolerance 0.01, --tolerance 0.5%",
            )
        })?),
    };
    let request = ChangesRequest {
        filters: args.filters.iter().map(|f| SourceText::new("--where", f.clone())).collect(),
        tolerance,
        only_changed: args.only_changed,
        rows: args.rows,
        names: [args.old.clone(), args.new.clone()],
    };
    let options = args.reading.to_options(&[])?;
    let found = if args.rows {
        if by.is_empty() {
            let message = "--rows compares rows that have the same key";
            return Err(Error::request_with_help(message, "name it: --by booking_id").into());
        }
        let whole = |name: &String| {
            let files = files_named(std::slice::from_ref(name), None)?;
            let mut input = open(&files, options.clone())?;
            read_whole(input.as_mut(), name)
        };
        let (old, new) = (whole(&args.old)?, whole(&args.new)?);
        row_changes([&old, &new], &by, &request)?
    } else {
        let old = read_saved(&args.old, &by, options.clone())?;
        let new = read_saved(&args.new, &by, options)?;
        let mut found = changes(&old, &new, &request)?;
        found.ledger.notes.extend(ways_on(&found));
        found
    };
    let mut style = args.style.to_style()?;
    style.formats.splice(0..0, formats(&found));
    present(&args.output, &style, &found.grid, &found.ledger)?;
    if args.must_agree && found.any() { Err(Failure::Check) } else { Ok(()) }
}

/// Among so many changed figures one is looked for whose rows can be traced.
const LOOKED_AT: usize = 1000;

/// How figures of several kinds read in one column: with as many digits as most need, and no zeros behind them.
pub(super) fn formats(found: &Changes) -> Vec<(String, String)> {
    let is_mixed = |c: &&oeuvre_core::ResultColumn| {
        matches!(c.kind, Kind::Number { scale: 3.. })
            && ["old", "new", "change"].contains(&c.heading.as_str())
    };
    let mixed = found.grid.columns.iter().filter(is_mixed);
    mixed.map(|c| (c.heading.clone(), "#,##0.00####".to_owned())).collect()
}

/// Where to go from a figure that has changed: to the rows behind it.
fn ways_on(found: &Changes) -> Option<Note> {
    let grid = &found.grid;
    let outcome = grid.columns.len().checked_sub(1)?;
    let mut changed =
        (0..grid.lines.len()).filter(|&line| grid.cell(line, outcome).to_string() == "changed");
    // Keys stand before the figure's heading, its two values, the change, the growth and the outcome.
    let at = |line: usize| -> String {
        let label = |key: &usize| grid.cell(line, *key).to_string();
        let keys = (0..outcome.saturating_sub(5))
            .filter(|&key| grid.columns[key].heading != "part")
            .filter(|key| !matches!(label(key).as_str(), "Total" | "Rest" | ""));
        let at = keys.map(|key| format!("{} = {}", grid.columns[key].heading, label(&key)));
        at.collect::<Vec<_>>().join(", ")
    };
    // A figure without keys, such as a headline, is no cell of a table.
    let at = changed.by_ref().take(LOOKED_AT).map(at).find(|at| !at.is_empty())?;
    let text = format!(
        "the rows behind a figure: oeuvre trace … --at {}; which of them changed: oeuvre compare --rows OLD NEW --by KEY",
        shell_quoted(&at)
    );
    Some(Note::new(Topic::Other, text))
}
