//! From groups with states to the table: lines, positions along the top, cells, totals, marks.
//!
//! Every cell that is shown is looked up on its level: a line at some depth of the keys down the side, a position
//! at some depth of those along the top. The cost is one look-up a cell and result. What is marked is what would
//! mislead: columns whose lines need not add up to their total.

use super::levels::{LevelResults, Levels};
use super::lines::{Lines, Position, Rest, lines, shared_codes};
use super::tree::{Tree, Trees, ranks};
use crate::error::Error;
use crate::grid::{self, Grid, Heading, Line, LineKind, RatioColumns, ResultColumn};
use crate::grouping::{Codes, Depths, GroupStates, Ranks, SecondPassStates, Sequence};
use crate::ledger::Ledger;
use crate::plan::{Built, KeyPlan, Plan, ResultPlan, SortBy};
use crate::request::TotalsAt;
use crate::rows::program::Operand;
use oeuvre_columns::column::NO_NUMBER;
use oeuvre_columns::column::{Column, Data};
use oeuvre_columns::value::Kind;
use oeuvre_columns::work;
use std::collections::HashMap;
use std::rc::Rc;
use std::sync::Arc;

/// The finished table of some groups; the ledger gets its lines and cells, ties that were broken, and
/// divisions by zero on the levels that are shown.
///
/// # Errors
/// A table of more cells than can be meant; an overflow.
pub(crate) fn assemble(
    plan: &Plan,
    group_states: &[GroupStates],
    second_pass: Option<&SecondPassStates>,
    ledger: &mut Ledger,
) -> Result<Grid, Error> {
    let groups = &group_states[0];
    let trees = Trees::new(groups, plan.by_keys);
    let mut levels = Levels::new(plan, group_states, second_pass, &trees, ranks(groups));
    table(plan, groups, &trees, &mut levels, ledger).map(|table| table.grid)
}

/// The table with what it was put together from.
pub(crate) struct Table {
    pub(crate) grid: Grid,
    pub(crate) lines: Lines,
    pub(crate) positions: Vec<Position>,
}

pub(crate) fn table(
    plan: &Plan,
    groups: &GroupStates,
    trees: &Trees,
    levels: &mut Levels<'_>,
    ledger: &mut Ledger,
) -> Result<Table, Error> {
    let lines = lines(plan, trees, groups, levels, ledger)?;
    let positions = positions(plan, &trees.across, &levels.ranks);
    ensure_fits(lines.positions.len(), positions.len(), plan.results.len())?;
    let mut grid = frame(plan, &groups.grouper.codes, trees, &lines, &positions);
    work::done((grid.labels.len() * grid.lines.len()) as u64 * work::LABEL);
    let mut cells =
        Cells { plan, trees, lines: &lines, levels: HashMap::new(), rests: HashMap::new() };
    let shown = cells.find(levels, &positions)?;
    for (p, position) in positions.iter().enumerate() {
        let from = cells.of_lines(*position);
        let column = |of: &Built| cells.column((of.kind, of.operand), *position, &from);
        for (i, result) in plan.results.iter().enumerate() {
            grid.columns.push(ResultColumn {
                heading: result.heading.clone(),
                calc: result.calc().to_owned(),
                position: p,
                result: i,
                plain: false,
                share: result.share,
                heading_mark: None,
                kind: result.built.kind,
                cells: column(&result.built),
                ratio: result.ratio.map(|both| {
                    let [numerator, denominator] = both.map(|b| (b.kind, column(&b)));
                    RatioColumns { numerator, denominator }
                }),
                marks: Default::default(),
            });
        }
    }
    levels.account(&shown, ledger);
    mark_totals(plan, &mut grid);
    mark_total_positions(plan, &mut grid);
    account_cells(&grid, ledger);
    Ok(Table { grid, lines, positions })
}

/// The table without its cells: headings and labels.
fn frame(
    plan: &Plan,
    codes: &[Codes],
    trees: &Trees,
    lines: &Lines,
    positions: &[Position],
) -> Grid {
    let heading = |k: &KeyPlan| Heading { name: k.heading.clone(), kind: k.kind };
    let kinds = |keys: &[KeyPlan]| keys.iter().map(|k| k.kind).collect::<Vec<_>>();
    let (by, across) = plan.keys().split_at(plan.by_keys);
    let result = |r: &ResultPlan| Heading { name: r.heading.clone(), kind: r.built.kind };
    Grid {
        by: by.iter().map(heading).collect(),
        across: across.iter().map(heading).collect(),
        lines: lines.positions.lines.clone(),
        labels: match lines.positions.of_groups() {
            Some(nodes) => labels_of_groups(&kinds(by), codes, &trees.by, nodes.clone()),
            None => labels(&kinds(by), codes, &trees.by, lines.positions.iter(), &lines.rests),
        },
        positions: positions.iter().map(|p| p.0).collect(),
        position_labels: labels(
            &kinds(across),
            &codes[plan.by_keys..],
            &trees.across,
            positions.iter().copied(),
            &[],
        ),
        results: plan.results.iter().map(result).collect(),
        rest_label: plan.rest_label.clone(),
        ..Grid::default()
    }
}

/// Enters how many lines and cells are shown.
fn account_cells(grid: &Grid, ledger: &mut Ledger) {
    let total_lines = grid.lines.iter().filter(|l| is_total(l.kind)).count() as u64;
    let rests = grid.lines.iter().filter(|l| l.kind == LineKind::Rest).count() as u64;
    ledger.lines = (grid.lines.len() as u64 - total_lines - rests, total_lines);
    let blank: usize = grid.columns.iter().map(|c| c.cells.data.count_missing()).sum();
    ledger.cells = ((grid.lines.len() * grid.columns.len() - blank) as u64, blank as u64);
}

/// More cells than this are a mistake in the request, and would take gigabytes.
const MOST_CELLS: u64 = 200_000_000;

/// Lines may be as many as they like; where they meet columns, most of what grows is blank.
fn ensure_fits(lines: usize, positions: usize, results: usize) -> Result<(), Error> {
    let cells = (lines as u64).saturating_mul(positions as u64).saturating_mul(results as u64);
    if positions == 1 || cells <= MOST_CELLS {
        return Ok(());
    }
    Err(Error::request_with_help(
        format!("the table would have {lines} lines and {} columns", positions * results),
        "put a key with fewer categories into --columns-by, or both keys into --by",
    ))
}

/// What stands along the top, from the left.
fn positions(plan: &Plan, tree: &Tree, ranks: &[Ranks]) -> Vec<Position> {
    if tree.depth() == 0 {
        return vec![(Line { kind: LineKind::Group, depth: 0 }, 0)];
    }
    let mut children = tree.children();
    tree.sort_by_label(&mut children, ranks);
    // A key along the top that --sort names downwards runs from the last label, missing still last.
    for (depth, siblings) in children.iter_mut().enumerate() {
        let key = tree.keys.start + depth;
        let down =
            plan.sort.iter().any(|s| s.descending && matches!(s.by, SortBy::Key(k) if k == key));
        if down {
            siblings.for_each(|siblings| {
                siblings.reverse();
                let missing = |n: &u32| tree.nodes[depth + 1].code(*n) == 0;
                siblings.sort_by_key(missing);
            });
        }
    }
    fn below(
        plan: &Plan,
        children: &super::tree::Children,
        depth: usize,
        node: u32,
        out: &mut Vec<Position>,
    ) {
        for child in children[depth].of(node) {
            if depth + 1 == children.len() {
                out.push((Line { kind: LineKind::Group, depth: depth as u32 + 1 }, child));
                continue;
            }
            let total = (Line { kind: LineKind::Subtotal, depth: depth as u32 + 1 }, child);
            let sub = plan.totals.sub();
            if sub && plan.totals_at == TotalsAt::Top {
                out.push(total);
            }
            below(plan, children, depth + 1, child, out);
            if sub && plan.totals_at == TotalsAt::Bottom {
                out.push(total);
            }
        }
    }
    let mut out = Vec::new();
    let grand = (Line { kind: LineKind::Grand, depth: 0 }, 0);
    if plan.totals.grand() && plan.totals_at == TotalsAt::Top {
        out.push(grand);
    }
    below(plan, &children, 0, 0, &mut out);
    if plan.totals.grand() && plan.totals_at == TotalsAt::Bottom {
        out.push(grand);
    }
    out
}

/// The labels of the positions of an axis, key by key.
fn labels(
    kinds: &[Kind],
    codes: &[Codes],
    tree: &Tree,
    positions: impl Iterator<Item = Position> + Clone,
    rests: &[Rest],
) -> Vec<Column> {
    let node_of = |(line, node): Position| match line.kind {
        LineKind::Rest => rests[node as usize].node,
        _ => node,
    };
    let mut columns = Vec::with_capacity(kinds.len());
    // Those of the innermost key are where the positions stand; further out they are worked out once a key.
    let mut nodes: Sequence = positions.clone().map(node_of).collect();
    for depth in (1..=kinds.len()).rev() {
        let (kind, codes, tree) = (kinds[depth - 1], &codes[depth - 1], &tree.nodes[depth]);
        let has_label = |line: Line| depth <= line.depth as usize;
        let each = positions.clone().zip(nodes.iter());
        let code = |((line, _), node): (Position, u32)| match has_label(line) {
            true => tree.code(node),
            false => 0,
        };
        columns.push(codes.column(kind, each.clone().map(code)));
        if depth > 1 {
            let outer = |((line, _), node): (Position, u32)| match has_label(line) {
                true => tree.parent(node),
                false => node,
            };
            nodes = each.map(outer).collect();
        }
    }
    columns.reverse();
    columns
}

/// The labels of groups, key by key.
fn labels_of_groups(
    kinds: &[Kind],
    codes: &[Codes],
    tree: &Tree,
    mut nodes: Sequence,
) -> Vec<Column> {
    let mut columns = Vec::with_capacity(kinds.len());
    for depth in (1..=kinds.len()).rev() {
        let tree = &tree.nodes[depth];
        columns
            .push(codes[depth - 1].column(kinds[depth - 1], nodes.iter().map(|it| tree.code(it))));
        if depth > 1 {
            nodes = nodes.iter().map(|it| tree.parent(it)).collect();
        }
    }
    columns.reverse();
    columns
}

/// A level with the cell of each pair of nodes: by node along the top, then by node down the side. A
/// level without keys along the top has its cells in the order of the nodes.
struct Indexed<'a> {
    level: Rc<LevelResults<'a>>,
    cells: Option<Vec<Vec<u32>>>,
}

impl Indexed<'_> {
    /// The cell of a node down the side at a position.
    fn cell_of(&self, position: Position, node: u32) -> u32 {
        match &self.cells {
            Some(cells) => cells[position.1 as usize][node as usize],
            None => node,
        }
    }
}

fn indexed<'a>(trees: &Trees, level: Rc<LevelResults<'a>>, depths: Depths) -> Indexed<'a> {
    if depths.across == 0 {
        return Indexed { level, cells: None };
    }
    let across = trees.across.nodes[depths.across].len();
    let mut cells = vec![vec![NO_NUMBER; trees.by.nodes[depths.by].len()]; across];
    let down = trees.by_nodes(&level.cells, depths.by).unwrap_or_default();
    let along = trees.across_nodes(&level.cells, depths.across).unwrap_or_default();
    for (cell, (&by, &across)) in down.iter().zip(&along).enumerate() {
        cells[across as usize][by as usize] = cell as u32;
    }
    Indexed { level, cells: Some(cells) }
}

/// The cell of a rest, by its number, at a node along the top.
type RestIndex = HashMap<(u32, u32), u32>;

struct Cells<'a, 'g> {
    plan: &'a Plan,
    trees: &'a Trees,
    lines: &'a Lines,
    levels: HashMap<Depths, Indexed<'g>>,
    /// By the number of keys along the top: the cells of the rests, and where they are.
    rests: HashMap<usize, (LevelResults<'g>, RestIndex)>,
}

impl<'g> Cells<'_, 'g> {
    /// Finds the cells of all lines at all positions; gives the levels that are shown.
    fn find(
        &mut self,
        levels: &mut Levels<'g>,
        positions: &[Position],
    ) -> Result<Vec<Depths>, Error> {
        let mut shown = Vec::new();
        for position in positions {
            let across = position.0.depth as usize;
            let mut before = None;
            for line in self.lines.positions.lines.iter() {
                let depths = Depths { by: line.depth as usize, across };
                // As a rule the same as the line before.
                if before == Some(depths) || line.kind == LineKind::Rest {
                    continue;
                }
                before = Some(depths);
                if !self.levels.contains_key(&depths) {
                    shown.push(depths);
                    let level = indexed(self.trees, levels.level(depths)?, depths);
                    self.levels.insert(depths, level);
                }
            }
            if let Some(members) = &self.lines.members
                && !self.rests.contains_key(&across)
            {
                let known = shared_codes(self.trees, &self.lines.rests);
                let level = levels.together(members, across, &known)?;
                let nodes = self.trees.across_nodes(&level.cells, across).unwrap_or_default();
                let keys = level.cells.start.iter().zip(nodes).zip(0..);
                let index = keys.collect();
                self.rests.insert(across, (level, index));
            }
        }
        Ok(shown)
    }

    /// The cell of each line of a group at a position; of other lines none, which is any number behind the last one.
    fn of_lines(&self, position: Position) -> Sequence {
        let depths = Depths { by: self.trees.by.depth(), across: position.0.depth as usize };
        let level = self.levels.get(&depths);
        let cells = level.map_or(0, |it| it.level.cells.groups as u32);
        if let (Some(nodes), Some(Indexed { cells: None, .. })) =
            (self.lines.positions.of_groups(), level)
        {
            return nodes.clone();
        }
        let mut from = Sequence::default();
        for (line, node) in self.lines.positions.iter() {
            from.push(match (line.kind, level) {
                (LineKind::Group, Some(it)) => it.cell_of(position, node),
                // The lines around a total often stand as they are numbered.
                _ => from.next().max(cells),
            });
        }
        from
    }

    /// The cells of a result at a position, line by line; those of groups are `from` there.
    fn column(
        &self,
        (kind, operand): (Kind, Operand),
        position: Position,
        from: &Sequence,
    ) -> Arc<Column> {
        let finest = Depths { by: self.trees.by.depth(), across: position.0.depth as usize };
        let finest = self.levels.get(&finest);
        let is_groups = self.lines.positions.of_groups().is_some();
        // Where all lines stand as their groups are numbered, nothing is copied.
        if let Some(it) = finest.filter(|_| is_groups)
            && let Some(column) = it.level.aggregate(self.plan, operand)
            && from.picks_all(column)
        {
            return column.clone();
        }
        let across = position.0.depth as usize;
        let cell = |line: Line, node: u32| {
            let it = self.levels.get(&Depths { by: line.depth as usize, across })?;
            Some((&it.level, it.cell_of(position, node)))
        };
        // The lines of groups are gathered at once; totals are set one by one.
        let mut out = match finest {
            Some(it) => from.pick(it.level.column(self.plan, operand)),
            None => from.pick(&Column::from(Data::empty(kind))),
        };
        if is_groups {
            return Arc::new(out);
        }
        for (row, (line, node)) in self.lines.positions.iter().enumerate() {
            let value = match line.kind {
                LineKind::Group => continue,
                LineKind::Rest => {
                    let Some((level, index)) = self.rests.get(&across) else { continue };
                    let Some(&cell) = index.get(&(node, position.1)) else { continue };
                    level.column(self.plan, operand).value(kind, cell as usize)
                }
                _ => match cell(line, node) {
                    Some((level, cell)) if cell != NO_NUMBER => {
                        level.column(self.plan, operand).value(kind, cell as usize)
                    }
                    _ => continue,
                },
            };
            out.set(kind, row, &value);
        }
        Arc::new(out)
    }
}

/// The place of a note among those of the table.
fn note_number(grid: &mut Grid, text: String) -> usize {
    grid.notes.iter().position(|n| *n == text).unwrap_or_else(|| {
        grid.notes.push(text);
        grid.notes.len() - 1
    })
}

/// Marks the totals that are not what their lines add up to.
fn mark_totals(plan: &Plan, grid: &mut Grid) {
    for column in 0..grid.columns.len() {
        let result = &plan.results[grid.columns[column].result];
        let (Some(note), true) = (&result.note, result.built.kind.is_number()) else { continue };
        let totals: Vec<usize> =
            (0..grid.lines.len()).filter(|&l| is_total(grid.lines[l].kind)).collect();
        let marked: Vec<u32> = totals
            .into_iter()
            .filter(|&l| {
                let covered = covered(plan, &grid.lines, l);
                let cells = &grid.columns[column].cells.data;
                !adds_up(covered.map(|c| (cells, c)), (cells, l))
            })
            .map(|l| l as u32)
            .collect();
        if marked.is_empty() {
            continue;
        }
        let number = note_number(grid, format!("{} is {note}", result.heading));
        grid.columns[column].marks = marked.into_iter().map(|l| (l, number)).collect();
    }
}

/// Marks the headings of total columns that are not what the columns they cover add up to.
fn mark_total_positions(plan: &Plan, grid: &mut Grid) {
    for column in 0..grid.columns.len() {
        let (position, number) = (grid.columns[column].position, grid.columns[column].result);
        let result = &plan.results[number];
        let (Some(note), true) = (&result.note, result.built.kind.is_number()) else { continue };
        if !is_total(grid.positions[position].kind) {
            continue;
        }
        let covered: Vec<usize> = covered(plan, &grid.positions, position).collect();
        let of = |p: usize| &grid.columns[p * plan.results.len() + number].cells.data;
        let wrong = (0..grid.lines.len())
            .any(|l| !adds_up(covered.iter().map(|&p| (of(p), l)), (of(position), l)));
        if wrong {
            let number = note_number(grid, format!("{} is {note}", result.heading));
            grid.columns[column].heading_mark = Some(number);
        }
    }
}

fn is_total(kind: LineKind) -> bool {
    matches!(kind, LineKind::Subtotal | LineKind::Grand)
}

/// The groups and rests that a total covers.
fn covered<'g>(
    plan: &Plan,
    lines: &'g grid::Lines,
    total: usize,
) -> Box<dyn Iterator<Item = usize> + 'g> {
    let depth = lines[total].depth;
    let counts = move |l: &usize| !is_total(lines[*l].kind);
    // A rest stands below the keys that it shares with the lines beside it.
    let stops = move |l: &usize| {
        is_total(lines[*l].kind) && lines[*l].depth <= depth
            || lines[*l].kind == LineKind::Rest && lines[*l].depth < depth
    };
    match plan.totals_at {
        _ if depth == 0 => Box::new((0..lines.len()).filter(counts)),
        TotalsAt::Top => {
            Box::new((total + 1..lines.len()).take_while(move |l| !stops(l)).filter(counts))
        }
        TotalsAt::Bottom => {
            Box::new((0..total).rev().take_while(move |l| !stops(l)).filter(counts))
        }
    }
}

/// Whether some cells add up to another one.
fn adds_up<'a>(
    parts: impl Iterator<Item = (&'a Data, usize)>,
    (total, row): (&'a Data, usize),
) -> bool {
    let present = parts.filter(|(data, l)| !data.is_missing(*l));
    let wide = |data: &Data, l: usize| match data {
        Data::I64(v) => Some(i128::from(v[l])),
        Data::I128(v) => Some(v[l]),
        _ => None,
    };
    match total {
        Data::F64(v) => {
            let part = |(data, l): (&Data, usize)| if let Data::F64(v) = data { v[l] } else { 0.0 };
            // Rounded figures need not agree to the last bit to agree for a reader.
            let sum: f64 = present.map(part).sum();
            (sum - v[row]).abs() <= 1e-9 * v[row].abs().max(sum.abs()) || v[row].is_nan()
        }
        _ => {
            let mut sum = Some(0i128);
            for (data, l) in present {
                sum = sum.and_then(|s| s.checked_add(wide(data, l)?));
            }
            total.is_missing(row) || sum == wide(total, row)
        }
    }
}

#[cfg(test)]
mod tests {
    use crate::testing::{answer, rows, shown, text};
    use crate::{LineKind, Request, Totals};

    const DATA: &str = "k m x:0\na|p|1\na|q|5\nb|p|4\nc|q|\n";

    fn pivot(show: &[&str], totals: Totals) -> Request {
        Request { columns_by: vec![text("m")], totals, ..Request::of(&["k"], show) }
    }

    #[test]
    fn a_cell_without_rows_is_blank_and_totals_stand_on_both_axes() {
        let (grid, ledger) =
            answer(&rows(DATA), &pivot(&["sum(x)", "count()"], Totals::Grand)).unwrap();
        let expected = "a = 1 1 5 1 6 2; b = 4 1 - - 4 1; c = - - - 1 - 1; Total = 5 2 5 2 10 4";
        assert_eq!(shown(&grid), expected);
        let kinds: Vec<LineKind> = grid.positions.iter().map(|p| p.kind).collect();
        assert_eq!(kinds, [LineKind::Group, LineKind::Group, LineKind::Grand]);
        assert_eq!((ledger.lines, ledger.cells), ((3, 1), (18, 6)));
    }

    #[test]
    fn only_figures_that_do_not_add_up_are_marked() {
        let data = format!("{DATA}c|q|2\n");
        let (grid, _) =
            answer(&rows(&data), &pivot(&["sum(x)", "mean(x)"], Totals::Grand)).unwrap();
        assert_eq!(grid.notes, ["mean(x) is a mean of all rows, not a sum of the lines"]);
        let marked = |c: &crate::ResultColumn| (c.marks.keys().copied().collect(), c.heading_mark);
        let marks: Vec<(Vec<u32>, Option<usize>)> = grid.columns.iter().map(marked).collect();
        let (none, line) = ((vec![], None), (vec![3], None));
        // Under p, under q, and the total of both, whose lines need not add up across either.
        assert_eq!(
            marks,
            [&none, &line, &none, &line, &none, &(vec![3], Some(0))].map(Clone::clone)
        );
    }

    #[test]
    fn a_line_that_lacks_a_part_does_not_add_up_in_silence() {
        // Fares of c are known, its target is not: the line is blank, the total counts the fares.
        let rows = rows("k fare:0 target:0\na|5|4\nb|3|1\nc|2|\n");
        let request =
            Request { totals: Totals::Grand, ..Request::of(&["k"], &["sum(fare) - sum(target)"]) };
        let (grid, _) = answer(&rows, &request).unwrap();
        assert_eq!(shown(&grid), "a = 1; b = 2; c = -; Total = 5");
        assert!(grid.columns[0].marks.contains_key(&3), "{:?}", grid.notes);
        // Counts are never missing.
        let counts =
            Request { totals: Totals::Grand, ..Request::of(&["k"], &["count() - count(target)"]) };
        assert!(answer(&rows, &counts).unwrap().0.notes.is_empty());
        // Where nothing is missing the lines add up, and no mark cries wolf.
        let request = Request { filters: vec![text("k <> 'c'")], ..request };
        assert!(answer(&rows, &request).unwrap().0.notes.is_empty());
    }

    #[test]
    fn an_empty_table_has_its_results_and_no_lines() {
        let request = Request { filters: vec![text("x > 99")], ..pivot(&["sum(x)"], Totals::None) };
        let (grid, _) = answer(&rows(DATA), &request).unwrap();
        assert_eq!((grid.lines.len(), grid.columns.len(), grid.results.len()), (0, 0, 1));
        let all =
            Request { filters: vec![text("x > 99")], ..Request::of(&[], &["sum(x)", "count()"]) };
        assert_eq!(shown(&answer(&rows(DATA), &all).unwrap().0), "- 0");
    }
}
