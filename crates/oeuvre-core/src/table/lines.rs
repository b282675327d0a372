//! Which lines are shown, and in which order: `--sort`, `--lines-where`, `--top`, `--bottom`, and the lines that
//! make up for the rest.
//!
//! Siblings are sorted among themselves, by the figures of their own level, so that lines of one group stay
//! together; equal figures keep the order of their labels, and what is missing comes last in both directions.
//! What is left out is merged into a rest from its groups, never subtracted from a total: its mean is a mean.
//!
//! ```
//! # use oeuvre_columns::{InMemory, Kind, Source};
//! # let rows = InMemory::from_texts(
//! #     &[("route", Kind::Text), ("fare", Kind::Number { scale: 2 })],
//! #     &[
//! #         &["SKE", "12.50"],
//! #         &["KEL", "8.00"],
//! #         &["AAL", "2.00"],
//! #     ],
//! # )?;
//! use oeuvre_core::{Plan, Request, SourceText, Totals, run};
//!
//! // route, fare: SKE 12.50; KEL 8.00; AAL 2.00
//! let request = Request { totals: Totals::Grand, sort: Some(SourceText::new("--sort", "sum(fare) desc")), top: Some(1), ..Request::of(&["route"], &["sum(fare)"]) };
//! let plan = Plan::new(&request, rows.columns())?;
//! let (table, _) = run(&plan, &rows, 1)?;
//! assert_eq!(table.cell(0, 0).to_string(), "12.50");
//! assert_eq!(table.cell(1, 0).to_string(), "10.00");
//! assert_eq!(table.lines[1].kind, oeuvre_core::LineKind::Rest);
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

use super::labels::{code_of, label_of};
use super::levels::{LevelResults, Levels};
use super::tree::{Children, Siblings, Tree, Trees};
use crate::error::Error;
use crate::grid::{self, Line, LineKind};
use crate::grouping::{Depths, GroupStates, Members, Ranks, Sequence};
use crate::ledger::Ledger;
use crate::plan::{Plan, SortBy, SortPlan};
use crate::request::TotalsAt;
use crate::rows::program::Operand;
use crate::window::order::{Ordinals, sorted};
use crate::window::pick;
use oeuvre_columns::column::NO_NUMBER;
use oeuvre_columns::column::{Column, Data};
use oeuvre_columns::{Note, Topic, work};
use std::cmp::Ordering;
use std::collections::HashMap;
use std::rc::Rc;

/// A line and what stands on it: a node at its depth, or the number of a rest.
pub(crate) type Position = (Line, u32);

/// What stands on each line, in their order. Of a hundred million lines that stand as their groups are numbered it takes no
/// memory.
#[derive(Clone, Default)]
pub(crate) struct Positions {
    pub(crate) lines: grid::Lines,
    /// Anything for a total over everything, which stands on the only node without a parent.
    nodes: Sequence,
}

impl Positions {
    pub(crate) fn push(&mut self, (line, node): Position) {
        self.lines.push(line);
        self.nodes.push(if line.kind == LineKind::Grand { self.nodes.next() } else { node });
    }

    pub(crate) fn len(&self) -> usize {
        self.lines.len()
    }

    /// Adds a line for each of some nodes.
    fn push_all(&mut self, line: Line, nodes: impl ExactSizeIterator<Item = u32>) {
        self.lines.push_run(line, nodes.len());
        nodes.for_each(|node| self.nodes.push(node));
    }

    /// The nodes, where all lines are those of groups.
    pub(crate) fn of_groups(&self) -> Option<&Sequence> {
        self.lines.are_all(LineKind::Group).then_some(&self.nodes)
    }

    pub(crate) fn iter(&self) -> impl Iterator<Item = Position> + Clone + '_ {
        let node = |line: Line, node| if line.kind == LineKind::Grand { 0 } else { node };
        self.lines.iter().zip(self.nodes.iter()).map(move |(line, n)| (line, node(line, n)))
    }
}

/// What is not shown under a node.
pub(crate) struct Rest {
    pub(crate) depth: usize,
    pub(crate) node: u32,
}

/// The lines of the table.
pub(crate) struct Lines {
    pub(crate) positions: Positions,
    pub(crate) rests: Vec<Rest>,
    /// The groups of each rest.
    pub(crate) members: Option<Members>,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Shown {
    No,
    /// Kept, or among the first.
    First,
    /// Among the last.
    Last,
}

struct Order<'a> {
    plan: &'a Plan,
    trees: &'a Trees,
    ranks: &'a [Ranks],
    /// The lines of each depth, where results order them.
    levels: Vec<Option<Rc<LevelResults<'a>>>>,
    /// By depth, for each of the sort orders that is a result its figures in the column that `--sort-column`
    /// names.
    in_column: Vec<Vec<Option<Column>>>,
    /// By depth, for each of the sort orders that says anything there the places of the nodes by it.
    places: Vec<Vec<Ordinals>>,
}

/// Puts the lines in their order and leaves out those that are not shown.
pub(crate) fn lines(
    plan: &Plan,
    trees: &Trees,
    gathered: &GroupStates,
    levels: &mut Levels<'_>,
    ledger: &mut Ledger,
) -> Result<Lines, Error> {
    let by = &trees.by;
    let ranks = levels.ranks.clone();
    let sorts_by_result = plan.sort.iter().any(|s| matches!(s.by, SortBy::Result(_)));
    let mut of_depth = Vec::new();
    for depth in 0..=by.depth() {
        let needed = depth > 0 && sorts_by_result || depth == by.depth() && plan.cuts();
        let level = levels.level_if(needed, Depths { by: depth, across: 0 })?;
        of_depth.push(level);
    }
    let in_column = in_column(plan, trees, gathered, levels)?;
    let mut order =
        Order { plan, trees, ranks: &ranks, levels: of_depth, in_column, places: Vec::new() };
    order.find_places();
    // Where only a few of many lines are shown, the others need no order.
    let few = order.shows_few() && !levels.follows_lines();
    let mut children = if few { Children::new() } else { order.all_lines() };
    if levels.follows_lines() {
        levels.order_lines(places(&children, trees));
        for depth in 0..=by.depth() {
            if order.levels[depth].is_some() {
                order.levels[depth] = Some(levels.level(Depths { by: depth, across: 0 })?);
            }
        }
        order.find_places();
    }
    let leaves = by.nodes[by.depth()].len();
    ledger.notes.extend(order.without_values());
    let mut cut = None;
    if plan.cuts() {
        let mut shown = vec![Shown::First; leaves];
        if let Some(chosen) = order.choose(&children, &mut shown, ledger)
            && few
        {
            let (starts, nodes) = (vec![0, chosen.len() as u32], Sequence::Listed(chosen));
            children = vec![Siblings { starts, nodes }];
        }
        cut = Some(Cut { alive: with_lines(by, &shown), shown });
    }
    let hidden = cut.as_ref().map_or(0, Cut::hidden);
    let both_ends = plan.top.is_some() && plan.bottom.is_some();
    let totals = plan.totals.grand() || plan.totals.sub();
    let with_rest = hidden > 0 && (totals || both_ends);
    ledger.not_shown = (hidden as u64, with_rest);
    let (rests, members) = match &cut {
        Some(cut) if with_rest => rests(plan, trees, gathered, cut),
        _ => (Vec::new(), None),
    };
    let of_node: HashMap<(usize, u32), u32> =
        rests.iter().zip(0..).map(|(r, n)| ((r.depth, r.node), n)).collect();
    let descent = Descent { plan, children: &children, cut: cut.as_ref(), rests: &of_node };
    Ok(Lines { positions: descent.all(), rests, members })
}

/// By depth and sort order the figures of the nodes in the column that `--sort-column` names; empty without one.
fn in_column(
    plan: &Plan,
    trees: &Trees,
    gathered: &GroupStates,
    levels: &mut Levels<'_>,
) -> Result<Vec<Vec<Option<Column>>>, Error> {
    if plan.sort_column.is_empty() {
        return Ok(Vec::new());
    }
    let mut codes = Vec::new();
    for (key, label) in &plan.sort_column {
        let label = label_of(plan, gathered, *key, label, &|_, _| None)?;
        codes.extend(code_of(plan, gathered, *key, &label).map(|code| (*key, code)));
    }
    let mut of_depth = Vec::new();
    for depth in 0..=trees.by.depth() {
        let level = levels.level(Depths { by: depth, across: codes.len() })?;
        let cells = &level.cells;
        let nodes = trees.by_nodes(cells, depth).unwrap_or_default();
        let mut cell_of = vec![NO_NUMBER; trees.by.nodes[depth].len()];
        for (cell, &node) in nodes.iter().enumerate() {
            let is_there = |(key, code): &(usize, u32)| {
                cells.codes(*key).is_some_and(|of| of.at(cell) == *code)
            };
            if codes.iter().all(is_there) {
                cell_of[node as usize] = cell as u32;
            }
        }
        let figures = plan.sort.iter().map(|sort| match sort.by {
            SortBy::Result(operand) => Some(pick(level.column(plan, operand), &cell_of)),
            SortBy::Key(_) => None,
        });
        of_depth.push(figures.collect());
    }
    Ok(of_depth)
}

/// What is shown where not everything is.
struct Cut {
    /// Which of the innermost nodes.
    shown: Vec<Shown>,
    /// By depth, which nodes have a line of their own below them.
    alive: Vec<Vec<bool>>,
}

impl Cut {
    /// How many of the innermost nodes are not.
    fn hidden(&self) -> usize {
        self.shown.iter().filter(|s| **s == Shown::No).count()
    }
}

/// Which nodes have a line of their own below them.
fn with_lines(by: &Tree, shown: &[Shown]) -> Vec<Vec<bool>> {
    let mut alive: Vec<Vec<bool>> = by.nodes.iter().map(|n| vec![false; n.len()]).collect();
    alive[0][0] = true;
    for (leaf, _) in shown.iter().enumerate().filter(|(_, s)| **s != Shown::No) {
        let mut node = leaf as u32;
        for depth in (1..=by.depth()).rev() {
            alive[depth][node as usize] = true;
            node = by.nodes[depth].parent(node);
        }
    }
    alive
}

/// What is not shown, under the innermost group that has a line; and the groups of each such rest.
fn rests(
    plan: &Plan,
    trees: &Trees,
    gathered: &GroupStates,
    Cut { shown, alive }: &Cut,
) -> (Vec<Rest>, Option<Members>) {
    let by = &trees.by;
    let mut rests: Vec<Rest> = Vec::new();
    let per_parent = plan.totals.sub() && by.depth() > 1;
    let mut numbers: HashMap<(usize, u32), u32> = HashMap::new();
    let mut of_leaf = vec![NO_NUMBER; shown.len()];
    for (leaf, _) in shown.iter().enumerate().filter(|(_, s)| **s == Shown::No) {
        let mut at = (by.depth(), leaf as u32);
        while at.0 > 0 && (!per_parent || at.0 == by.depth() || !alive[at.0][at.1 as usize]) {
            at = (at.0 - 1, by.nodes[at.0].parent(at.1));
        }
        of_leaf[leaf] = *numbers.entry(at).or_insert_with(|| {
            rests.push(Rest { depth: at.0, node: at.1 });
            rests.len() as u32 - 1
        });
    }
    let mut of_group = vec![NO_NUMBER; gathered.grouper.groups() - 1];
    for (group, leaf) in trees.present.iter().zip(by.leaf_of_group.iter()) {
        of_group[group as usize] = of_leaf[leaf as usize];
    }
    let members = Members { of_group, count: rests.len() };
    (rests, Some(members))
}

/// The place of each node among all lines of its depth.
fn places(children: &Children, trees: &Trees) -> Vec<Vec<u32>> {
    let mut out = Vec::new();
    let mut nodes = vec![0u32];
    for (depth, siblings) in children.iter().enumerate() {
        let next: Vec<u32> = nodes.iter().flat_map(|&n| siblings.of(n)).collect();
        let mut places = vec![0u32; trees.by.nodes[depth + 1].len()];
        next.iter().enumerate().for_each(|(i, &n)| places[n as usize] = i as u32);
        out.push(places);
        nodes = next;
    }
    out
}

impl Order<'_> {
    /// Finds the places of all nodes by what `--sort` says.
    fn find_places(&mut self) {
        let depths = 0..=self.trees.by.depth();
        self.places = depths.map(|depth| self.places_at(depth)).collect();
    }

    /// The places of the nodes of a depth by what `--sort` says alone. A key orders the nodes at its depth, and
    /// those that stand under different ones.
    fn places_at(&self, depth: usize) -> Vec<Ordinals> {
        let by = &self.trees.by;
        let nodes = 0..by.nodes[depth].len() as u32;
        let of_sort = |(place, sort): (usize, &SortPlan)| match sort.by {
            SortBy::Key(key) if key + 1 > depth => None,
            SortBy::Key(key) => {
                let ranks = &self.ranks[key];
                let code = |node| {
                    let above = by.ancestor(node, depth, key + 1);
                    by.nodes[key + 1].code(above)
                };
                let last = ranks.len() as u32;
                let rank = |node| match (code(node), sort.descending) {
                    // Missing stays last.
                    (0, true) => last,
                    (code, true) => last - 1 - ranks.of(code),
                    (code, false) => ranks.of(code),
                };
                Some(Ordinals::of_codes(nodes.clone().map(rank)))
            }
            SortBy::Result(operand) => {
                let figures = self.figures(depth, place, operand)?;
                Some(Ordinals::of(figures, sort.descending))
            }
        };
        self.plan.sort.iter().enumerate().filter_map(of_sort).collect()
    }

    /// Whether few of many lines are shown, and none stands under another.
    fn shows_few(&self) -> bool {
        /// So many lines are soon in order.
        const MANY: u64 = if cfg!(test) { 8 } else { 4096 };
        let Plan { top, bottom, .. } = self.plan;
        let by = &self.trees.by;
        let leaves = by.nodes[by.depth()].len() as u64;
        let shown = top.unwrap_or(0).saturating_add(bottom.unwrap_or(0));
        by.depth() == 1 && shown > 0 && leaves >= MANY && shown <= leaves / 4
    }

    /// All lines in their order.
    fn all_lines(&self) -> Children {
        let mut children = self.trees.by.children();
        self.trees.by.sort_by_label(&mut children, self.ranks);
        if !self.plan.sort.is_empty() {
            self.sort(&mut children);
        }
        children
    }

    /// Which of two nodes of the only depth comes first: by what `--sort` says, then by label.
    fn compare(&self, a: u32, b: u32) -> Ordering {
        let places = |it: &Ordinals| it.of_cell(a).cmp(&it.of_cell(b));
        let rank = |node: u32| self.ranks[0].of(self.trees.by.nodes[1].code(node));
        let by_places = self.places[1].iter().map(places).find(|it| it.is_ne());
        by_places.unwrap_or_else(|| rank(a).cmp(&rank(b)))
    }

    /// Sorts the siblings of every node, which stand in the order of their labels.
    fn sort(&self, children: &mut Children) {
        for (depth, siblings) in children.iter_mut().enumerate() {
            let places = &self.places[depth + 1];
            if places.is_empty() {
                continue;
            }
            let each = siblings.starts.windows(2).enumerate();
            let parents = each.flat_map(|(parent, ends)| {
                std::iter::repeat_n(parent as u32, (ends[1] - ends[0]) as usize)
            });
            let parents = Ordinals::of_codes(parents);
            let list = siblings.nodes.listed();
            let of_list: Vec<Ordinals> = places.iter().map(|places| places.gather(list)).collect();
            let all: Vec<&Ordinals> = std::iter::once(&parents).chain(&of_list).collect();
            let order = sorted(list.len(), &all);
            siblings.nodes = order.into_iter().map(|at| list[at as usize]).collect();
            work::done(places.len() as u64 * siblings.nodes.len() as u64 * work::SORTED);
        }
    }

    /// Whether what `--sort` says leaves the order of two nodes of a depth open.
    fn are_tied(&self, depth: usize, a: u32, b: u32) -> bool {
        self.places[depth].iter().all(|it| it.same(a, b))
    }

    /// The figures by which the nodes of a depth are sorted: of a result, in the column that is asked for.
    fn figures(&self, depth: usize, sort: usize, operand: Operand) -> Option<&Column> {
        if let Some(columns) = self.in_column.get(depth) {
            return columns[sort].as_ref();
        }
        self.levels[depth].as_ref().map(|level| level.column(self.plan, operand))
    }

    /// What is told where lines are sorted by figures that none of them has.
    fn without_values(&self) -> Vec<Note> {
        let plan = self.plan;
        let depth = self.trees.by.depth();
        let leaves = self.trees.by.nodes[depth].len();
        let mut notes = Vec::new();
        for (place, sort) in plan.sort.iter().enumerate() {
            let SortBy::Result(operand) = sort.by else { continue };
            let Some(column) = self.figures(depth, place, operand) else { continue };
            if leaves < 2 || (0..leaves).any(|leaf| !column.data.is_missing(leaf)) {
                continue;
            }
            let result = plan.results.iter().find(|r| r.built.operand == operand);
            let name = result.map_or("what --sort says", |r| r.heading.as_str());
            let text = match (plan.keys().get(plan.by_keys), plan.sort_column.is_empty()) {
                (Some(key), true) => format!(
                    "{name} has no value in the total column, which orders the lines, so that labels decide; --sort-column '{} = LABEL' takes another column",
                    key.heading
                ),
                _ => format!("{name} has no value on any line, so that labels decide the order"),
            };
            notes.push(Note::new(Topic::Request, text));
        }
        notes
    }

    /// Which lines are shown; where `--top` or `--bottom` says so, they are given in their order. Without an order of
    /// all lines, only that of those near the cuts is found.
    fn choose(
        &self,
        children: &Children,
        shown: &mut [Shown],
        ledger: &mut Ledger,
    ) -> Option<Vec<u32>> {
        let depth = self.trees.by.depth();
        let level = self.levels[depth].as_ref()?;
        for &condition in &self.plan.lines_where {
            if let Data::Bool(truths) = &level.column(self.plan, condition).data {
                for (s, &truth) in shown.iter_mut().zip(truths) {
                    *s = if truth == 1 { *s } else { Shown::No };
                }
            }
        }
        if self.plan.top.is_none() && self.plan.bottom.is_none() {
            return None;
        }
        // Lines without a value are neither the largest nor the smallest.
        let figures = match self.plan.sort.first().map(|s| s.by) {
            Some(SortBy::Result(o)) => self.figures(depth, 0, o),
            _ => None,
        };
        let figures = figures.filter(|c| c.data.any_missing());
        let valued = |leaf: u32| figures.is_none_or(|c| !c.data.is_missing(leaf as usize));
        // From the order in which the lines stand, so that labels decide what the sort leaves open.
        let mut all: Vec<u32> = match children.is_empty() {
            true => (0..shown.len() as u32).collect(),
            false => vec![0],
        };
        for siblings in children {
            all = all.iter().flat_map(|&n| siblings.of(n)).collect();
        }
        all.retain(|&leaf| shown[leaf as usize] != Shown::No && valued(leaf));
        // Below one node alone they stand in it already.
        if depth > 1 {
            let of_all: Vec<Ordinals> =
                self.places[depth].iter().map(|it| it.gather(&all)).collect();
            let order = sorted(all.len(), &of_all.iter().collect::<Vec<_>>());
            all = order.into_iter().map(|at| all[at as usize]).collect();
        }
        let take = |n: Option<u64>| n.map_or(0, |n| (n.min(all.len() as u64)) as usize);
        let (top, bottom) = (take(self.plan.top), take(self.plan.bottom));
        let from = all.len().saturating_sub(bottom).max(top);
        if children.is_empty() {
            // Those at a cut are compared with the next ones beyond it.
            let first = if top > 0 { top + 1 } else { 0 };
            let last = if bottom > 0 { from.saturating_sub(1) } else { all.len() };
            order_ends(&mut all, (first, last), |a, b| self.compare(a, b));
        }
        shown.iter_mut().for_each(|s| *s = Shown::No);
        all[..top].iter().for_each(|&leaf| shown[leaf as usize] = Shown::First);
        all[from..].iter().for_each(|&leaf| shown[leaf as usize] = Shown::Last);
        for (cut, word) in [(top, "--top"), (from, "--bottom")] {
            let tied = |i: usize| all.get(i).is_some_and(|&b| self.are_tied(depth, all[cut], b));
            let at_cut = cut > 0 && cut < all.len() && top < from && tied(cut - 1);
            if at_cut && (word == "--top") == (cut == top) {
                let same = (0..all.len()).filter(|&i| tied(i)).count();
                let text = format!("at the cut of {word}; the order of the labels decides");
                ledger.ties_broken.push((text, same as u64));
            }
        }
        all.drain(top..from);
        Some(all)
    }
}

/// Puts the first so many items of a list and those from a place on where they belong, in their order; the others lie
/// between, as it comes.
fn order_ends<T: Copy>(
    list: &mut [T],
    (first, last): (usize, usize),
    compare: impl Fn(T, T) -> Ordering,
) {
    if first >= last {
        return list.sort_unstable_by(|a, b| compare(*a, *b));
    }
    list.select_nth_unstable_by(first, |a, b| compare(*a, *b));
    let (ahead, behind) = list.split_at_mut(first);
    ahead.sort_unstable_by(|a, b| compare(*a, *b));
    let last = last - first;
    if last < behind.len() {
        behind.select_nth_unstable_by(last, |a, b| compare(*a, *b));
        behind[last..].sort_unstable_by(|a, b| compare(*a, *b));
    }
}

struct Descent<'a> {
    plan: &'a Plan,
    children: &'a Children,
    /// `None` where everything is shown.
    cut: Option<&'a Cut>,
    /// The rest of each node that has one.
    rests: &'a HashMap<(usize, u32), u32>,
}

impl Descent<'_> {
    /// All lines, in their order.
    fn all(&self) -> Positions {
        let mut out = Positions::default();
        if self.children.is_empty() {
            out.push((Line { kind: LineKind::Group, depth: 0 }, 0));
            return out;
        }
        let grand = (Line { kind: LineKind::Grand, depth: 0 }, 0);
        let has_total = self.plan.totals.grand();
        if has_total && self.plan.totals_at == TotalsAt::Top {
            out.push(grand);
        }
        self.below(0, 0, &mut out);
        if has_total && self.plan.totals_at == TotalsAt::Bottom {
            out.push(grand);
        }
        out
    }

    /// Whether a node has a line of its own below it.
    fn has_line(&self, depth: usize, node: u32) -> bool {
        self.cut.is_none_or(|cut| cut.alive[depth][node as usize])
    }

    /// Whether an innermost node is among the last ones.
    fn is_last(&self, node: u32) -> bool {
        self.cut.is_some_and(|cut| cut.shown[node as usize] == Shown::Last)
    }

    /// Adds the lines below a node, in their order, with its subtotal.
    fn below(&self, depth: usize, node: u32, out: &mut Positions) {
        let keys = self.children.len();
        if depth + 1 == keys && self.cut.is_none() {
            let line = Line { kind: LineKind::Group, depth: keys as u32 };
            return out.push_all(line, self.children[depth].of(node));
        }
        let rest = self.rests.get(&(depth, node));
        let mut waiting = rest.map(|&n| (Line { kind: LineKind::Rest, depth: depth as u32 }, n));
        for child in self.children[depth].of(node).filter(|&it| self.has_line(depth + 1, it)) {
            if depth + 1 == keys {
                if self.is_last(child)
                    && let Some(rest) = waiting.take()
                {
                    out.push(rest);
                }
                out.push((Line { kind: LineKind::Group, depth: keys as u32 }, child));
                continue;
            }
            let total = (Line { kind: LineKind::Subtotal, depth: depth as u32 + 1 }, child);
            let subtotal = self.plan.totals.sub();
            if subtotal && self.plan.totals_at == TotalsAt::Top {
                out.push(total);
            }
            self.below(depth + 1, child, out);
            if subtotal && self.plan.totals_at == TotalsAt::Bottom {
                out.push(total);
            }
        }
        if let Some(rest) = waiting {
            out.push(rest);
        }
    }
}

/// The codes that the groups of each rest share: key, then code by the number of the rest.
pub(crate) fn shared_codes(trees: &Trees, rests: &[Rest]) -> Vec<(usize, Vec<u32>)> {
    (0..trees.by.depth())
        .map(|key| {
            let code = |rest: &Rest| match rest.depth > key {
                true => {
                    let node = trees.by.ancestor(rest.node, rest.depth, key + 1);
                    trees.by.nodes[key + 1].code(node)
                }
                false => NO_NUMBER,
            };
            (key, rests.iter().map(code).collect())
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::order_ends;
    use crate::testing::{answer, rows, shown, text};
    use crate::{Request, Totals, TotalsAt};
    use proptest::prelude::*;
    use rstest::rstest;

    const DATA: &str = "c k x:0\nw|a|1\nw|b|5\nw|d|5\ne|a|9\ne|f|\n";

    fn asked(change: impl FnOnce(&mut Request)) -> String {
        let mut request = Request::of(&["c", "k"], &["sum(x)"]);
        change(&mut request);
        shown(&answer(&rows(DATA), &request).unwrap().0)
    }

    #[rstest]
    #[case("sum(x) desc", "w b = 5; w d = 5; w a = 1; e a = 9; e f = -")]
    #[case("sum(x)", "e a = 9; e f = -; w a = 1; w b = 5; w d = 5")]
    #[case("c desc, k desc", "w d = 5; w b = 5; w a = 1; e f = -; e a = 9")]
    #[case("count() desc, k", "w a = 1; w b = 5; w d = 5; e a = 9; e f = -")]
    fn siblings_are_sorted_among_themselves_by_the_figures_of_their_level(
        #[case] sort: &str,
        #[case] expected: &str,
    ) {
        assert_eq!(asked(|r| r.sort = Some(text(sort))), expected);
    }

    #[rstest]
    // Without an order of their own lines are those of the largest and the smallest first result.
    #[case(Some(1), None, Totals::None, "e a = 9")]
    #[case(Some(1), Some(1), Totals::None, "w a = 1; e a = 9; Rest = 10")]
    #[case(Some(1), None, Totals::Sub, "e a = 9; e Rest = -; e Total = 9; Rest = 11")]
    #[case(Some(2), None, Totals::Grand, "w b = 5; e a = 9; Rest = 6; Total = 20")]
    #[case(None, Some(2), Totals::Grand, "w d = 5; w a = 1; Rest = 14; Total = 20")]
    fn ends_are_of_the_whole_table_and_the_rest_makes_up_for_what_is_not_shown(
        #[case] top: Option<u64>,
        #[case] bottom: Option<u64>,
        #[case] totals: Totals,
        #[case] expected: &str,
    ) {
        assert_eq!(asked(|r| (r.top, r.bottom, r.totals) = (top, bottom, totals)), expected);
    }

    #[test]
    fn a_tie_at_the_cut_is_told_with_how_many_share_it() {
        let ties = |top, bottom| {
            let request = Request { top, bottom, ..Request::of(&["c", "k"], &["sum(x)"]) };
            answer(&rows(DATA), &request).unwrap().1.ties_broken
        };
        let told =
            |word| vec![(format!("at the cut of {word}; the order of the labels decides"), 2)];
        assert_eq!(ties(Some(2), None), told("--top"));
        assert_eq!(ties(None, Some(2)), told("--bottom"));
        assert_eq!(ties(Some(1), Some(1)), []);
        assert_eq!(ties(Some(2), Some(2)), []); // nothing is cut
    }

    proptest! {
        /// Few of many lines, of which only the ends are put in order, are those of a table that is sorted whole.
        #[test]
        fn ends_of_many_lines_are_those_of_all(
            figures in proptest::collection::vec(proptest::option::of(0i32..5), 8..60),
            (top, bottom) in (proptest::option::of(0u64..9), proptest::option::of(0u64..9)),
            sort in proptest::sample::select(&["sum(x) desc", "sum(x)", "max(x) desc, k desc", "k desc"][..]),
            keep in proptest::sample::select(&[None, Some("sum(x) <> 3"), Some("count(x) > 5")][..]),
            totals in proptest::sample::select(&[Totals::None, Totals::Grand][..]),
        ) {
            let row = |(n, x): (usize, &Option<i32>)| {
                format!("k{}|{}\n", n * 7 % 61, x.map_or(String::new(), |x| x.to_string()))
            };
            let data: String = figures.iter().enumerate().map(row).collect();
            let data = rows(&format!("k x:0\n{data}"));
            let asked = |by: &[&str]| {
                let request = Request {
                    sort: Some(text(sort)),
                    lines_where: keep.map(text).into_iter().collect(),
                    totals, top, bottom,
                    ..Request::of(by, &["sum(x)", "count()"])
                };
                answer(&data, &request).unwrap()
            };
            // Under a key that is the same everywhere, all lines are put in order, and the rest stands behind.
            let ((few, one), (whole, other)) = (asked(&["k"]), asked(&["'same'", "k"]));
            let (few, whole) = (shown(&few), shown(&whole).replace("same ", ""));
            let is_rest = |line: &&str| line.starts_with("Rest");
            let (mut few, mut whole): (Vec<_>, Vec<_>) = (few.split("; ").collect(), whole.split("; ").collect());
            few.sort_by_key(is_rest);
            whole.sort_by_key(is_rest);
            prop_assert_eq!(few, whole);
            prop_assert_eq!(one.ties_broken, other.ties_broken);
            prop_assert_eq!(one.not_shown, other.not_shown);
        }

        #[test]
        fn ends_of_a_list_are_put_in_order(list in proptest::collection::vec(0u8..9, 0..40), first in 0usize..45, last in 0usize..45) {
            let mut all = list.clone();
            all.sort_unstable();
            let mut ends = list;
            let (first, last) = (first.min(all.len()), last.min(all.len()));
            order_ends(&mut ends, (first, last), |a: u8, b| a.cmp(&b));
            prop_assert_eq!(&ends[..first], &all[..first]);
            prop_assert_eq!(&ends[last..], &all[last..]);
            ends.sort_unstable();
            prop_assert_eq!(ends, all);
        }
    }

    #[test]
    fn totals_stand_above_where_they_are_wanted() {
        let expected =
            "Total = 20; e Total = 9; e a = 9; e f = -; w Total = 11; w a = 1; w b = 5; w d = 5";
        assert_eq!(asked(|r| (r.totals, r.totals_at) = (Totals::All, TotalsAt::Top)), expected);
    }

    #[test]
    fn conditions_on_lines_look_at_the_table_as_it_was() {
        let kept =
            asked(|r| r.lines_where = vec![text("rank(sum(x) within c) = 1"), text("sum(x) > 5")]);
        assert_eq!(kept, "e a = 9");
    }
}
