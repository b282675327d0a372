//! From groups with states to the table: levels, results, order, totals, marks.

use super::groups::Codes;
use super::late::LateStates;
use super::scope;
use super::worker::Gathered;
use crate::error::Error;
use crate::grid::{Grid, Heading, Line, LineKind, ResultColumn};
use crate::ledger::Ledger;
use crate::plan::{Plan, SortBy};
use crate::request::TotalsAt;
use crate::rows::column::{Column, Data};
use crate::rows::interner::Pairs;
use crate::rows::program::Operand;
use crate::value::Kind;
use std::cmp::Ordering;

/// A node of the tree of lines: the labels down to one key.
struct Node {
    parent: u32,
    code: u32,
}

/// The groups of the first so many keys.
struct Level {
    nodes: Vec<Node>,
    /// The group program's results, in the order of [`wanted`].
    results: Vec<Column>,
}

/// Which operands of the group program are needed: the results, then the sort orders.
fn wanted(plan: &Plan) -> Vec<Operand> {
    let sorts = plan.sort.iter().filter_map(|s| match s.by {
        SortBy::Result(operand) => Some(operand),
        SortBy::Key(_) => None,
    });
    plan.results.iter().map(|r| r.built.operand).chain(sorts).collect()
}

pub(crate) fn assemble(
    plan: &Plan,
    scopes: &[Gathered],
    late: Option<&LateStates>,
    ledger: &mut Ledger,
) -> Result<Grid, Error> {
    let groups = &scopes[0];
    let keys = plan.resolved.keys().len();
    let (levels, ranks) = levels(plan, scopes, late, ledger)?;
    let order = Order { plan, levels: &levels, ranks: &ranks };
    let children = children(&levels);
    let mut places: Vec<(Line, u32)> = Vec::new();
    if plan.totals.grand() && plan.totals_at == TotalsAt::Top && keys > 0 {
        places.push((Line { kind: LineKind::Grand, depth: 0 }, 0));
    }
    if keys == 0 {
        places.push((Line { kind: LineKind::Group, depth: 0 }, 0));
    } else {
        order.walk(0, 0, &children, &mut places);
    }
    if plan.totals.grand() && plan.totals_at == TotalsAt::Bottom && keys > 0 {
        places.push((Line { kind: LineKind::Grand, depth: 0 }, 0));
    }
    let mut grid = Grid {
        by: plan
            .resolved
            .keys()
            .iter()
            .map(|k| Heading { name: k.heading.clone(), kind: k.kind })
            .collect(),
        ..Grid::default()
    };
    grid.lines = places.iter().map(|p| p.0).collect();
    grid.labels = labels(plan, &groups.grouper.codes, &levels, &places);
    for (i, result) in plan.results.iter().enumerate() {
        grid.columns.push(ResultColumn {
            heading: result.heading.clone(),
            kind: result.built.kind,
            cells: cells(result.built.kind, i, &levels, &places),
            marks: Default::default(),
        });
    }
    mark_totals(plan, &mut grid);
    let totals = grid.lines.iter().filter(|l| l.kind != LineKind::Group).count() as u64;
    ledger.lines = (grid.lines.len() as u64 - totals, totals);
    let blank: usize = grid
        .columns
        .iter()
        .map(|c| (0..grid.lines.len()).filter(|&l| c.cells.data.is_missing(l)).count())
        .sum();
    ledger.cells = ((grid.lines.len() * grid.columns.len() - blank) as u64, blank as u64);
    Ok(grid)
}

/// Merges the states of each level that is needed, from all keys down to none, and runs the group
/// program over it. Levels that are not needed have nodes but no results.
fn levels(
    plan: &Plan,
    scopes: &[Gathered],
    late: Option<&LateStates>,
    ledger: &mut Ledger,
) -> Result<(Vec<Level>, Vec<Vec<u32>>), Error> {
    let groups = &scopes[0];
    let keys = plan.resolved.keys().len();
    let codes = groups.grouper.key_codes();
    let present = groups.present(keys == 0);
    let sorts_by_result = plan.sort.iter().any(|s| matches!(s.by, SortBy::Result(_)));
    let needed = |depth: usize| {
        depth == keys
            || (depth == 0 && plan.totals.grand())
            || (depth > 0 && (plan.totals.sub() || sorts_by_result))
    };
    let mut levels = Vec::new();
    // The node of each present group, one key deeper in each round.
    let mut numbers: Vec<u32> = vec![0; present.len()];
    let mut nodes = vec![Node { parent: 0, code: 0 }];
    for depth in 0..=keys {
        if depth > 0 {
            let mut pairs = Pairs::default();
            pairs.ensure(nodes.len(), groups.grouper.codes[depth - 1].len());
            for (number, &g) in numbers.iter_mut().zip(&present) {
                *number = pairs.number(*number, codes[depth - 1][g as usize]);
            }
            nodes = pairs.pairs().iter().map(|&(parent, code)| Node { parent, code }).collect();
        }
        let results = if needed(depth) {
            let kept: Vec<usize> = (0..depth).collect();
            let level = scope::evaluate(&plan.resolved, scopes, 0, &kept, late, ledger)?;
            let inputs: Vec<&Column> = level.inputs.iter().collect();
            wanted(plan).into_iter().map(|o| level.evaluator.column(o, &inputs).clone()).collect()
        } else {
            Vec::new()
        };
        let copy = nodes.iter().map(|n| Node { parent: n.parent, code: n.code }).collect();
        levels.push(Level { nodes: copy, results });
    }
    let ranks = groups.grouper.codes.iter().map(Codes::ranks).collect();
    Ok((levels, ranks))
}

/// For each level but the last, the nodes one key deeper, by parent.
fn children(levels: &[Level]) -> Vec<(Vec<u32>, Vec<u32>)> {
    levels
        .windows(2)
        .map(|pair| {
            let mut starts = vec![0u32; pair[0].nodes.len() + 1];
            for node in &pair[1].nodes {
                starts[node.parent as usize + 1] += 1;
            }
            for i in 1..starts.len() {
                starts[i] += starts[i - 1];
            }
            let mut next = starts.clone();
            let mut list = vec![0u32; pair[1].nodes.len()];
            for (i, node) in pair[1].nodes.iter().enumerate() {
                let at = &mut next[node.parent as usize];
                list[*at as usize] = i as u32;
                *at += 1;
            }
            (starts, list)
        })
        .collect()
}

struct Order<'a> {
    plan: &'a Plan,
    levels: &'a [Level],
    ranks: &'a [Vec<u32>],
}

impl Order<'_> {
    /// Adds the lines below a node, in their order, with its subtotal.
    fn walk(
        &self,
        depth: usize,
        node: u32,
        children: &[(Vec<u32>, Vec<u32>)],
        out: &mut Vec<(Line, u32)>,
    ) {
        let keys = self.levels.len() - 1;
        let (starts, list) = &children[depth];
        let (from, to) = (starts[node as usize] as usize, starts[node as usize + 1] as usize);
        let mut siblings = list[from..to].to_vec();
        if self.plan.sort.is_empty() {
            // By label alone: ranks are looked up once each.
            let nodes = &self.levels[depth + 1].nodes;
            let ranks = &self.ranks[depth];
            let ranked = siblings.iter().map(|&n| (ranks[nodes[n as usize].code as usize], n));
            // Siblings have ranks of their own: many of them are put in their places at once.
            if siblings.len() >= ranks.len() / 4 {
                let mut places = vec![u32::MAX; ranks.len()];
                ranked.for_each(|(rank, n)| places[rank as usize] = n);
                siblings.clear();
                siblings.extend(places.into_iter().filter(|&n| n != u32::MAX));
            } else {
                let mut ranked: Vec<(u32, u32)> = ranked.collect();
                ranked.sort_unstable();
                siblings.clear();
                siblings.extend(ranked.into_iter().map(|r| r.1));
            }
        } else {
            siblings.sort_by(|&a, &b| self.compare(depth + 1, a, b));
        }
        for child in siblings {
            if depth + 1 == keys {
                out.push((Line { kind: LineKind::Group, depth: keys as u8 }, child));
                continue;
            }
            let total = (Line { kind: LineKind::Subtotal, depth: depth as u8 + 1 }, child);
            let subtotal = self.plan.totals.sub();
            if subtotal && self.plan.totals_at == TotalsAt::Top {
                out.push(total);
            }
            self.walk(depth + 1, child, children, out);
            if subtotal && self.plan.totals_at == TotalsAt::Bottom {
                out.push(total);
            }
        }
    }

    fn compare(&self, depth: usize, a: u32, b: u32) -> Ordering {
        let level = &self.levels[depth];
        let rank = |n: u32| self.ranks[depth - 1][level.nodes[n as usize].code as usize];
        let mut result = self.plan.results.len();
        for sort in &self.plan.sort {
            let order = match sort.by {
                SortBy::Key(key) if key + 1 != depth => Ordering::Equal,
                SortBy::Key(_) if sort.descending => {
                    // Missing stays last.
                    let missing = |n: u32| level.nodes[n as usize].code == 0;
                    missing(a).cmp(&missing(b)).then(rank(b).cmp(&rank(a)))
                }
                SortBy::Key(_) => rank(a).cmp(&rank(b)),
                SortBy::Result(_) => {
                    result += 1;
                    cell_order(&level.results[result - 1], a, b, sort.descending)
                }
            };
            if order.is_ne() {
                return order;
            }
        }
        rank(a).cmp(&rank(b))
    }
}

/// The order of two cells of a column; missing comes last in both directions.
fn cell_order(column: &Column, a: u32, b: u32, descending: bool) -> Ordering {
    let (a, b) = (a as usize, b as usize);
    match (column.data.is_missing(a), column.data.is_missing(b)) {
        (false, false) => {}
        (x, y) => return x.cmp(&y),
    }
    let order = match &column.data {
        Data::I64(v) => v[a].cmp(&v[b]),
        Data::I128(v) => v[a].cmp(&v[b]),
        Data::F64(v) => v[a].total_cmp(&v[b]),
        Data::Codes(v) => {
            let d = &column.dictionary;
            crate::value::text_order(d.text(v[a]), d.text(v[b]))
        }
        Data::I32(v) => v[a].cmp(&v[b]),
        Data::Bool(v) => v[a].cmp(&v[b]),
    };
    if descending { order.reverse() } else { order }
}

/// The labels of the lines, key by key.
fn labels(plan: &Plan, codes: &[Codes], levels: &[Level], places: &[(Line, u32)]) -> Vec<Column> {
    let keys = plan.resolved.keys().len();
    let mut out = vec![Vec::with_capacity(places.len()); keys];
    for (line, node) in places {
        let mut node = *node;
        for depth in (1..=keys).rev() {
            let code = if depth <= usize::from(line.depth) {
                let it = &levels[depth].nodes[node as usize];
                node = it.parent;
                it.code
            } else {
                0
            };
            out[depth - 1].push(code);
        }
    }
    out.iter()
        .enumerate()
        .map(|(k, list)| codes[k].column(plan.resolved.keys()[k].kind, list.iter().copied()))
        .collect()
}

/// The cells of a result, line by line.
fn cells(kind: Kind, result: usize, levels: &[Level], places: &[(Line, u32)]) -> Column {
    // All lines of one depth come from one column: the common case, a table without totals, is
    // one gather.
    let depth = places.first().map_or(0, |p| p.0.depth);
    if places.iter().all(|p| p.0.depth == depth) {
        let rows: Vec<u32> = places.iter().map(|p| p.1).collect();
        return match levels[usize::from(depth)].results.get(result) {
            Some(column) => column.gather(&rows),
            None => Column::from(Data::empty(kind)),
        };
    }
    let mut out = Column::from(Data::empty(kind));
    for (line, node) in places {
        let column = &levels[usize::from(line.depth)].results[result];
        out.push(kind, &column.value(kind, *node as usize));
    }
    out
}

/// Marks the totals that are not what their lines add up to.
fn mark_totals(plan: &Plan, grid: &mut Grid) {
    for (i, result) in plan.results.iter().enumerate() {
        let (Some(note), true) = (&result.note, result.built.kind.is_number()) else { continue };
        let marked: Vec<u32> = (0..grid.lines.len())
            .filter(|&l| grid.lines[l].kind != LineKind::Group && !adds_up(plan, grid, i, l))
            .map(|l| l as u32)
            .collect();
        if marked.is_empty() {
            continue;
        }
        let text = format!("{} is {note}", result.heading);
        let place = grid.notes.iter().position(|n| *n == text).unwrap_or_else(|| {
            grid.notes.push(text);
            grid.notes.len() - 1
        });
        grid.columns[i].marks = marked.into_iter().map(|l| (l, place)).collect();
    }
}

/// Whether the group lines that a total covers add up to it.
fn adds_up(plan: &Plan, grid: &Grid, column: usize, total: usize) -> bool {
    let depth = grid.lines[total].depth;
    let covered: Vec<usize> = {
        let is_group = |l: &usize| grid.lines[*l].kind == LineKind::Group;
        let stops = |l: &usize| {
            let line = grid.lines[*l];
            line.kind != LineKind::Group && line.depth <= depth
        };
        match plan.totals_at {
            _ if depth == 0 => (0..grid.lines.len()).filter(is_group).collect(),
            TotalsAt::Top => {
                (total + 1..grid.lines.len()).take_while(|l| !stops(l)).filter(is_group).collect()
            }
            TotalsAt::Bottom => {
                (0..total).rev().take_while(|l| !stops(l)).filter(is_group).collect()
            }
        }
    };
    let cells = &grid.columns[column].cells.data;
    let wide = |l: usize| match cells {
        Data::I64(v) => Some(i128::from(v[l])),
        Data::I128(v) => Some(v[l]),
        _ => None,
    };
    let present = covered.iter().copied().filter(|&l| !cells.is_missing(l));
    match cells {
        Data::F64(v) => {
            // Rounded figures need not agree to the last bit to agree for a reader.
            let sum: f64 = present.map(|l| v[l]).sum();
            (sum - v[total]).abs() <= 1e-9 * v[total].abs().max(sum.abs()) || v[total].is_nan()
        }
        _ => {
            let mut sum = Some(0i128);
            for l in present {
                sum = sum.and_then(|s| s.checked_add(wide(l)?));
            }
            cells.is_missing(total) || sum == wide(total)
        }
    }
}
