//! The cell that is meant by some labels, and where it stands among the figures and in the table.
//!
//! A label that nothing has is told with the nearest there are, so that whoever asked can go on. A label in
//! quotes is always a label; `Total` without quotes may mean the total line.

use crate::error::{Error, SourceText};
use crate::grid::LineKind;
use crate::grouping::{Depths, GroupStates};
use crate::plan::Plan;
use crate::request::AtLabel;
use crate::rows::program::Operand;
use crate::table::{LevelResults, Levels, ReadsAs, Table, Trees, code_of, label_of, shared_codes};
use oeuvre_columns::value::{Kind, Value};
use std::ops::Range;
use std::rc::Rc;
use std::sync::Arc;

/// What `--at` means by a total.
pub(super) const TOTAL: &str = "Total";

/// The cell that is traced.
pub(super) struct Cell {
    /// The labels of its keys, in the order of the table.
    pub(super) keys: Vec<(usize, Value)>,
    /// Whether it is that of a rest line.
    pub(super) rest: bool,
}

/// The keys that are named, in the order of the table.
pub(super) fn keys_named(
    named: &[usize],
    at: &[(Arc<SourceText>, AtLabel)],
) -> Result<Vec<(usize, AtLabel)>, Error> {
    let mut keys: Vec<(usize, AtLabel)> = Vec::new();
    for (&key, (written, label)) in named.iter().zip(at) {
        if keys.iter().any(|k| k.0 == key) {
            return Err(Error::request(format!("--at names `{}` twice", written.text)));
        }
        keys.push((key, label.clone()));
    }
    keys.sort_by_key(|k| k.0);
    Ok(keys)
}

/// The cell that some labels mean.
pub(super) fn cell_of(
    plan: &Plan,
    gathered: &GroupStates,
    table: &Table,
    keys: &[(usize, AtLabel)],
    reads_as: ReadsAs<'_>,
) -> Result<Cell, Error> {
    let by_keys = plan.by_keys;
    let mut cell = Cell { keys: Vec::new(), rest: false };
    let has_rest = !table.lines.rests.is_empty();
    for axis in [0..by_keys, by_keys..plan.keys().len()] {
        let mut ended = false;
        for (key, label) in keys.iter().filter(|k| axis.contains(&k.0)) {
            let bare = |word: &str| !label.quoted && label.text == word;
            if bare(TOTAL) {
                ended = true;
                continue;
            }
            if has_rest && axis.start == 0 && bare(&plan.rest_label) && !ended {
                (cell.rest, ended) = (true, true);
                continue;
            }
            if ended {
                let message =
                    format!("--at names {} inside a total or a rest", plan.keys()[*key].heading);
                return Err(Error::request_with_help(message, "leave it out"));
            }
            cell.keys.push((*key, label_of(plan, gathered, *key, label, reads_as)?));
        }
    }
    Ok(cell)
}

/// The codes of a cell's labels, of the keys in a range.
fn codes_of(
    plan: &Plan,
    gathered: &GroupStates,
    cell: &Cell,
    range: Range<usize>,
) -> Vec<(usize, u32)> {
    let inside = cell.keys.iter().filter(|k| range.contains(&k.0));
    inside.filter_map(|(k, label)| code_of(plan, gathered, *k, label).map(|c| (*k, c))).collect()
}

/// The number of the rest line that a cell stands on.
fn rest_number(
    plan: &Plan,
    gathered: &GroupStates,
    trees: &Trees,
    table: &Table,
    cell: &Cell,
) -> Result<u32, Error> {
    let codes = codes_of(plan, gathered, cell, 0..plan.by_keys);
    let rests = table.lines.rests.iter();
    let found = rests.zip(0..).find(|(rest, _)| {
        rest.depth == codes.len()
            && codes.iter().all(|(k, code)| {
                let node = trees.by.ancestor(rest.node, rest.depth, k + 1);
                trees.by.nodes[k + 1].code(node) == *code
            })
    });
    found.map(|(_, number)| number).ok_or_else(|| {
        Error::request_with_help(
            format!("the table has no line {} there", plan.rest_label),
            "name the labels of the keys around it, or none for the one of all lines",
        )
    })
}

/// Where a cell is among the figures.
pub(super) struct Located<'a> {
    pub(super) depths: Depths,
    pub(super) level: Rc<LevelResults<'a>>,
    /// Its group on the level.
    pub(super) at: usize,
}

impl Located<'_> {
    pub(super) fn value(&self, plan: &Plan, operand: Operand, kind: Kind) -> Value {
        self.level.column(plan, operand).value(kind, self.at)
    }
}

/// Finds a cell.
pub(super) fn find<'a>(
    plan: &Plan,
    gathered: &GroupStates,
    trees: &Trees,
    levels: &mut Levels<'a>,
    table: &Table,
    cell: &Cell,
) -> Result<Located<'a>, Error> {
    let depths = depths(plan, &cell.keys)?;
    let (level, rest, codes) = match (cell.rest, &table.lines.members) {
        (true, Some(members)) => {
            let known = shared_codes(trees, &table.lines.rests);
            let level = Rc::new(levels.together(members, depths.across, &known)?);
            let number = rest_number(plan, gathered, trees, table, cell)?;
            let across = codes_of(plan, gathered, cell, plan.by_keys..usize::MAX);
            (level, Some(number), across)
        }
        _ => (levels.level(depths)?, None, codes_of(plan, gathered, cell, 0..usize::MAX)),
    };
    let cells = &level.cells;
    let is_it = |&c: &usize| {
        rest.is_none_or(|number| cells.start.at(c) == number)
            && codes.iter().all(|(k, code)| cells.codes(*k).is_some_and(|of| of.at(c) == *code))
    };
    match (0..cells.groups).find(is_it) {
        Some(at) => Ok(Located { depths, level, at }),
        None => Err(Error::request_with_help(
            "no row that counts has these labels together",
            "the cell is blank; oeuvre summary with the same options shows which are not",
        )),
    }
}

/// The line and the position where the table shows a cell.
pub(super) fn position_in_table(
    trees: &Trees,
    table: &Table,
    cell: &Cell,
    found: &Located<'_>,
) -> Option<(usize, usize)> {
    let (depths, cells, at) = (found.depths, &found.level.cells, found.at);
    let across = trees.across_nodes(cells, depths.across).unwrap_or_default();
    let position = table.positions.iter().position(|(line, node)| {
        line.depth as usize == depths.across && across.get(at).is_some_and(|n| n == node)
    })?;
    let nodes = match cell.rest {
        true => Vec::new(),
        false => trees.by_nodes(cells, depths.by).unwrap_or_default(),
    };
    let line = table.lines.positions.iter().position(|(line, node)| match cell.rest {
        true => line.kind == LineKind::Rest && cells.start.at(at) == node,
        false => {
            line.kind != LineKind::Rest
                && line.depth as usize == depths.by
                && nodes.get(at).is_some_and(|n| *n == node)
        }
    })?;
    Some((line, position))
}

/// The level of a cell that has these keys.
fn depths(plan: &Plan, keys: &[(usize, Value)]) -> Result<Depths, Error> {
    let by_keys = plan.by_keys;
    let (by, across): (Vec<usize>, Vec<usize>) =
        keys.iter().map(|k| k.0).partition(|&k| k < by_keys);
    let in_a_row =
        |list: &[usize], first: usize| list.iter().enumerate().all(|(i, &k)| k == first + i);
    if !in_a_row(&by, 0) || !in_a_row(&across, by_keys) {
        let names: Vec<&str> = plan.keys().iter().map(|k| k.heading.as_str()).collect();
        return Err(Error::request_with_help(
            "--at leaves out a key that stands outside one that it names",
            format!("a total has the outer keys: {}", names.join(", ")),
        ));
    }
    Ok(Depths { by: by.len(), across: across.len() })
}
