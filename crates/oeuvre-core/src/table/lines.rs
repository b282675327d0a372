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
use super::tree::{Children, Tree, Trees};
use crate::error::Error;
use crate::grid::{Line, LineKind};
use crate::grouping::{Depths, GroupStates, Members};
use crate::ledger::Ledger;
use crate::plan::{Plan, SortBy};
use crate::request::TotalsAt;
use crate::rows::program::Operand;
use crate::window::pick;
use oeuvre_columns::column::NO_NUMBER;
use oeuvre_columns::column::{Column, Data};
use oeuvre_columns::{Note, Topic};
use std::cmp::Ordering;
use std::collections::HashMap;
use std::rc::Rc;

/// A line and what stands on it: a node at its depth, or the number of a rest.
pub(crate) type Position = (Line, u32);

/// What is not shown under a node.
pub(crate) struct Rest {
    pub(crate) depth: usize,
    pub(crate) node: u32,
}

/// The lines of the table.
pub(crate) struct Lines {
    pub(crate) positions: Vec<Position>,
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
    ranks: &'a [Vec<u32>],
    /// The lines of each depth, where results order them.
    levels: Vec<Option<Rc<LevelResults>>>,
    /// By depth, for each of the sort orders that is a result its figures in the column that `--sort-column`
    /// names.
    in_column: Vec<Vec<Option<Column>>>,
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
    let mut children = by.children();
    let ranks = levels.ranks.clone();
    by.sort_by_label(&mut children, &ranks);
    let sorts_by_result = plan.sort.iter().any(|s| matches!(s.by, SortBy::Result(_)));
    let mut of_depth = Vec::new();
    for depth in 0..=by.depth() {
        let needed = depth > 0 && sorts_by_result || depth == by.depth() && plan.cuts();
        let level = levels.level_if(needed, Depths { by: depth, across: 0 })?;
        of_depth.push(level);
    }
    let in_column = in_column(plan, trees, gathered, levels)?;
    let mut order = Order { plan, trees, ranks: &ranks, levels: of_depth, in_column };
    if !plan.sort.is_empty() {
        order.sort(&mut children);
    }
    if levels.follows_lines() {
        levels.order_lines(places(&children, trees));
        for depth in 0..=by.depth() {
            if order.levels[depth].is_some() {
                order.levels[depth] = Some(levels.level(Depths { by: depth, across: 0 })?);
            }
        }
    }
    let leaves = by.nodes[by.depth()].len();
    ledger.notes.extend(order.without_values());
    let mut shown = vec![Shown::First; leaves];
    if plan.cuts() {
        order.choose(&children, &mut shown, ledger);
    }
    let hidden = shown.iter().filter(|s| **s == Shown::No).count();
    let both_ends = plan.top.is_some() && plan.bottom.is_some();
    let totals = plan.totals.grand() || plan.totals.sub();
    let with_rest = hidden > 0 && (totals || both_ends);
    ledger.not_shown = (hidden as u64, with_rest);
    let alive = with_lines(by, &shown);
    let (rests, members) = match with_rest {
        true => rests(plan, trees, gathered, &shown, &alive),
        false => (Vec::new(), None),
    };
    let mut out = Vec::new();
    let of_node: HashMap<(usize, u32), u32> =
        rests.iter().zip(0..).map(|(r, n)| ((r.depth, r.node), n)).collect();
    let descent =
        Descent { plan, children: &children, shown: &shown, alive: &alive, rests: &of_node };
    let grand = Line { kind: LineKind::Grand, depth: 0 };
    if by.depth() == 0 {
        out.push((Line { kind: LineKind::Group, depth: 0 }, 0));
    } else {
        if plan.totals.grand() && plan.totals_at == TotalsAt::Top {
            out.push((grand, 0));
        }
        descent.below(0, 0, &mut out);
        if plan.totals.grand() && plan.totals_at == TotalsAt::Bottom {
            out.push((grand, 0));
        }
    }
    Ok(Lines { positions: out, rests, members })
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
            let is_there =
                |(key, code): &(usize, u32)| cells.codes(*key).is_some_and(|of| of[cell] == *code);
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

/// Which nodes have a line of their own below them.
fn with_lines(by: &Tree, shown: &[Shown]) -> Vec<Vec<bool>> {
    let mut alive: Vec<Vec<bool>> = by.nodes.iter().map(|n| vec![false; n.len()]).collect();
    alive[0][0] = true;
    for (leaf, _) in shown.iter().enumerate().filter(|(_, s)| **s != Shown::No) {
        let mut node = leaf as u32;
        for depth in (1..=by.depth()).rev() {
            alive[depth][node as usize] = true;
            node = by.nodes[depth][node as usize].parent;
        }
    }
    alive
}

/// What is not shown, under the innermost group that has a line; and the groups of each such rest.
fn rests(
    plan: &Plan,
    trees: &Trees,
    gathered: &GroupStates,
    shown: &[Shown],
    alive: &[Vec<bool>],
) -> (Vec<Rest>, Option<Members>) {
    let by = &trees.by;
    let mut rests: Vec<Rest> = Vec::new();
    let per_parent = plan.totals.sub() && by.depth() > 1;
    let mut numbers: HashMap<(usize, u32), u32> = HashMap::new();
    let mut of_leaf = vec![NO_NUMBER; shown.len()];
    for (leaf, _) in shown.iter().enumerate().filter(|(_, s)| **s == Shown::No) {
        let mut at = (by.depth(), leaf as u32);
        while at.0 > 0 && (!per_parent || at.0 == by.depth() || !alive[at.0][at.1 as usize]) {
            at = (at.0 - 1, by.nodes[at.0][at.1 as usize].parent);
        }
        of_leaf[leaf] = *numbers.entry(at).or_insert_with(|| {
            rests.push(Rest { depth: at.0, node: at.1 });
            rests.len() as u32 - 1
        });
    }
    let mut of_group = vec![NO_NUMBER; gathered.grouper.groups() - 1];
    for (&group, &leaf) in trees.present.iter().zip(&by.leaf_of_group) {
        of_group[group as usize] = of_leaf[leaf as usize];
    }
    let members = Members { of_group, count: rests.len() };
    (rests, Some(members))
}

/// The place of each node among all lines of its depth.
fn places(children: &Children, trees: &Trees) -> Vec<Vec<u32>> {
    let mut out = Vec::new();
    let mut nodes = vec![0u32];
    for (depth, (starts, list)) in children.iter().enumerate() {
        let next: Vec<u32> = nodes
            .iter()
            .flat_map(|&n| &list[starts[n as usize] as usize..starts[n as usize + 1] as usize])
            .copied()
            .collect();
        let mut places = vec![0u32; trees.by.nodes[depth + 1].len()];
        next.iter().enumerate().for_each(|(i, &n)| places[n as usize] = i as u32);
        out.push(places);
        nodes = next;
    }
    out
}

impl Order<'_> {
    fn sort(&self, children: &mut Children) {
        for (depth, (starts, list)) in children.iter_mut().enumerate() {
            for ends in starts.windows(2) {
                let siblings = &mut list[ends[0] as usize..ends[1] as usize];
                siblings.sort_by(|&a, &b| self.compare(depth + 1, a, b));
            }
        }
    }

    fn rank(&self, depth: usize, node: u32) -> u32 {
        self.ranks[depth - 1][self.trees.by.nodes[depth][node as usize].code as usize]
    }

    fn compare(&self, depth: usize, a: u32, b: u32) -> Ordering {
        self.compare_by_sort(depth, a, b)
            .then_with(|| self.rank(depth, a).cmp(&self.rank(depth, b)))
    }

    /// By what `--sort` says alone. A key orders the nodes at its depth, and those that stand under
    /// different ones.
    fn compare_by_sort(&self, depth: usize, a: u32, b: u32) -> Ordering {
        let by = &self.trees.by;
        for (place, sort) in self.plan.sort.iter().enumerate() {
            let order = match sort.by {
                SortBy::Key(key) if key + 1 > depth => Ordering::Equal,
                SortBy::Key(key) => {
                    let (a, b) = (by.ancestor(a, depth, key + 1), by.ancestor(b, depth, key + 1));
                    let missing = |n: u32| by.nodes[key + 1][n as usize].code == 0;
                    let order = self.rank(key + 1, a).cmp(&self.rank(key + 1, b));
                    // Missing stays last.
                    match sort.descending {
                        true => missing(a).cmp(&missing(b)).then(order.reverse()),
                        false => order,
                    }
                }
                SortBy::Result(operand) => match self.figures(depth, place, operand) {
                    Some(column) => cell_order(column, a, b, sort.descending),
                    None => Ordering::Equal,
                },
            };
            if order.is_ne() {
                return order;
            }
        }
        Ordering::Equal
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

    /// Which lines are shown.
    fn choose(&self, children: &Children, shown: &mut [Shown], ledger: &mut Ledger) {
        let depth = self.trees.by.depth();
        let Some(level) = &self.levels[depth] else { return };
        for &condition in &self.plan.lines_where {
            if let Data::Bool(truths) = &level.column(self.plan, condition).data {
                for (s, &truth) in shown.iter_mut().zip(truths) {
                    *s = if truth == 1 { *s } else { Shown::No };
                }
            }
        }
        if self.plan.top.is_none() && self.plan.bottom.is_none() {
            return;
        }
        // Lines without a value are neither the largest nor the smallest.
        let valued = |leaf: u32| match self.plan.sort.first().map(|s| s.by) {
            Some(SortBy::Result(o)) => {
                self.figures(depth, 0, o).is_none_or(|c| !c.data.is_missing(leaf as usize))
            }
            _ => true,
        };
        // From the order in which the lines stand, so that labels decide what the sort leaves open.
        let mut all: Vec<u32> = vec![0];
        for (starts, list) in children {
            all = all
                .iter()
                .flat_map(|&n| &list[starts[n as usize] as usize..starts[n as usize + 1] as usize])
                .copied()
                .collect();
        }
        all.retain(|&leaf| shown[leaf as usize] != Shown::No && valued(leaf));
        all.sort_by(|&a, &b| self.compare_by_sort(depth, a, b));
        let take = |n: Option<u64>| n.map_or(0, |n| (n.min(all.len() as u64)) as usize);
        let (top, bottom) = (take(self.plan.top), take(self.plan.bottom));
        let from = all.len().saturating_sub(bottom).max(top);
        shown.iter_mut().for_each(|s| *s = Shown::No);
        all[..top].iter().for_each(|&leaf| shown[leaf as usize] = Shown::First);
        all[from..].iter().for_each(|&leaf| shown[leaf as usize] = Shown::Last);
        for (cut, word) in [(top, "--top"), (from, "--bottom")] {
            let tied = |i: usize| {
                all.get(i).is_some_and(|&b| self.compare_by_sort(depth, all[cut], b).is_eq())
            };
            let at_cut = cut > 0 && cut < all.len() && top < from && tied(cut - 1);
            if at_cut && (word == "--top") == (cut == top) {
                let same = (0..all.len()).filter(|&i| tied(i)).count();
                let text = format!("at the cut of {word}; the order of the labels decides");
                ledger.ties_broken.push((text, same as u64));
            }
        }
    }
}

struct Descent<'a> {
    plan: &'a Plan,
    children: &'a Children,
    shown: &'a [Shown],
    alive: &'a [Vec<bool>],
    /// The rest of each node that has one.
    rests: &'a HashMap<(usize, u32), u32>,
}

impl Descent<'_> {
    /// Adds the lines below a node, in their order, with its subtotal.
    fn below(&self, depth: usize, node: u32, out: &mut Vec<Position>) {
        let keys = self.children.len();
        let (starts, list) = &self.children[depth];
        let siblings = &list[starts[node as usize] as usize..starts[node as usize + 1] as usize];
        let rest = self.rests.get(&(depth, node));
        let mut waiting = rest.map(|&n| (Line { kind: LineKind::Rest, depth: depth as u32 }, n));
        for &child in siblings.iter().filter(|&&c| self.alive[depth + 1][c as usize]) {
            if depth + 1 == keys {
                if self.shown[child as usize] == Shown::Last
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
        out.extend(waiting);
    }
}

/// The order of two cells of a column; missing comes last in both directions.
pub(crate) fn cell_order(column: &Column, a: u32, b: u32, descending: bool) -> Ordering {
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
            oeuvre_columns::value::text_order(d.text(v[a]), d.text(v[b]))
        }
        Data::I32(v) => v[a].cmp(&v[b]),
        Data::Bool(v) => v[a].cmp(&v[b]),
    };
    if descending { order.reverse() } else { order }
}

/// The codes that the groups of each rest share: key, then code by the number of the rest.
pub(crate) fn shared_codes(trees: &Trees, rests: &[Rest]) -> Vec<(usize, Vec<u32>)> {
    (0..trees.by.depth())
        .map(|key| {
            let code = |rest: &Rest| match rest.depth > key {
                true => {
                    let node = trees.by.ancestor(rest.node, rest.depth, key + 1);
                    trees.by.nodes[key + 1][node as usize].code
                }
                false => NO_NUMBER,
            };
            (key, rests.iter().map(code).collect())
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::cell_order;
    use crate::testing::{answer, rows, shown, text};
    use crate::{Request, Totals, TotalsAt};
    use oeuvre_columns::column::{Column, Data};
    use proptest::prelude::*;
    use rstest::rstest;
    use std::cmp::Ordering;

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

    proptest! {
        #[test]
        fn what_is_missing_comes_last_in_both_directions(values in proptest::collection::vec(-3i64..3, 2..9), descending in any::<bool>()) {
            let held: Vec<i64> = values.iter().map(|&v| if v == 0 { i64::MIN } else { v }).collect();
            let column = Column::from(Data::I64(held.clone()));
            let mut order: Vec<u32> = (0..held.len() as u32).collect();
            order.sort_by(|&a, &b| cell_order(&column, a, b, descending));
            let sorted: Vec<i64> = order.iter().map(|&c| values[c as usize]).collect();
            let present = sorted.iter().position(|&v| v == 0).unwrap_or(sorted.len());
            prop_assert!(sorted[present..].iter().all(|&v| v == 0));
            let way = if descending { Ordering::Greater } else { Ordering::Less };
            prop_assert!(sorted[..present].windows(2).all(|w| w[0].cmp(&w[1]) == way || w[0] == w[1]));
        }
    }
}
