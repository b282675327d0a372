//! The labels of one axis as a tree: the groups of the first key, in each of them those of the second, and so on.
//!
//! A node's number at its depth is that of its group at that level of the table, so that nothing is looked up by
//! its labels. Making it costs one step a group and key.

use crate::grouping::{Codes, GroupStates, Ranks, Rollup, Sequence};
use oeuvre_columns::column::NO_NUMBER;
use oeuvre_columns::column::interner::Pairs;
use std::ops::Range;
use std::sync::OnceLock;

/// The nodes of a depth: each the labels down to one key.
pub(crate) struct Nodes {
    parents: Sequence,
    codes: Sequence,
}

impl Nodes {
    pub(crate) fn len(&self) -> usize {
        self.codes.len()
    }

    /// The node that one stands under.
    pub(crate) fn parent(&self, node: u32) -> u32 {
        self.parents.at(node as usize)
    }

    /// The code of its label.
    pub(crate) fn code(&self, node: u32) -> u32 {
        self.codes.at(node as usize)
    }

    /// The parent and the code of each.
    fn pairs(&self) -> impl Iterator<Item = (u32, u32)> {
        self.parents.iter().zip(self.codes.iter())
    }
}

/// The labels of one axis.
pub(crate) struct Tree {
    /// The keys of the axis.
    pub(crate) keys: Range<usize>,
    /// The nodes of each depth; one root at depth 0.
    pub(crate) nodes: Vec<Nodes>,
    /// By depth the nodes by their parents and codes, once somebody looks for one.
    chain: Vec<OnceLock<Pairs>>,
    /// The deepest node of each group that is shown.
    pub(crate) leaf_of_group: Sequence,
}

/// For each depth but the last, the nodes one key deeper.
pub(crate) type Children = Vec<Siblings>;

/// The nodes of a depth, those of one parent together.
pub(crate) struct Siblings {
    /// For each parent where its nodes begin; and where the last ones end.
    pub(crate) starts: Vec<u32>,
    pub(crate) nodes: Sequence,
}

impl Siblings {
    /// Where the nodes of a parent stand.
    fn range(&self, parent: u32) -> Range<usize> {
        self.starts[parent as usize] as usize..self.starts[parent as usize + 1] as usize
    }

    /// The nodes of a parent.
    pub(crate) fn of(&self, parent: u32) -> impl ExactSizeIterator<Item = u32> + Clone + '_ {
        self.nodes.range(self.range(parent))
    }

    /// Whether the nodes of every parent stand in the order of some keys.
    fn are_sorted(&self, key: impl Fn(u32) -> u32) -> bool {
        (0..self.starts.len() as u32 - 1).all(|parent| self.of(parent).is_sorted_by_key(&key))
    }

    /// Does something with the nodes of each parent.
    pub(crate) fn for_each(&mut self, mut change: impl FnMut(&mut [u32])) {
        let nodes = self.nodes.listed();
        for ends in self.starts.windows(2) {
            change(&mut nodes[ends[0] as usize..ends[1] as usize]);
        }
    }
}

impl Tree {
    fn new(
        gathered: &GroupStates,
        codes: &[Sequence],
        present: &Sequence,
        keys: Range<usize>,
    ) -> Tree {
        let mut numbers = Sequence::same(0, present.len());
        let root = Nodes { parents: Sequence::same(0, 1), codes: Sequence::same(0, 1) };
        let mut nodes = vec![root];
        let mut chain = Vec::new();
        for key in keys.clone() {
            let of_key = |g: u32| codes[key].at(g as usize);
            // No two groups have all keys in common: behind the last one each is its own.
            if chain.len() + 1 == codes.len() {
                nodes.push(Nodes { parents: numbers, codes: codes[key].of(present) });
                chain.push(OnceLock::new());
                numbers = Sequence::counted(present.len());
                break;
            }
            let bounds = (nodes[nodes.len() - 1].len(), gathered.grouper.codes[key].len());
            let each = numbers.iter().zip(present.iter()).map(|(number, g)| (number, of_key(g)));
            let (pairs, numbered) = Pairs::numbering(each, bounds);
            numbers = numbered;
            let parents = pairs.pairs().iter().map(|pair| pair.0).collect();
            let codes = pairs.pairs().iter().map(|pair| pair.1).collect();
            nodes.push(Nodes { parents, codes });
            chain.push(OnceLock::from(pairs));
        }
        Tree { keys, nodes, chain, leaf_of_group: numbers }
    }

    /// How many keys the axis has.
    pub(crate) fn depth(&self) -> usize {
        self.keys.len()
    }

    /// The node of each cell at a depth; `None` where a key is not kept.
    fn nodes_of(&self, cells: &Rollup<'_>, depth: usize) -> Option<Vec<u32>> {
        let mut numbers = vec![0u32; cells.groups];
        let each = self.chain.iter().zip(self.nodes.iter().skip(1));
        for ((pairs, nodes), key) in each.zip(self.keys.clone()).take(depth) {
            let all = || nodes.pairs().collect();
            let pairs = pairs.get_or_init(|| Pairs::of_ordered(all()));
            for (number, code) in numbers.iter_mut().zip(cells.codes(key)?.iter()) {
                *number = pairs.find(*number, code)?;
            }
        }
        Some(numbers)
    }

    pub(crate) fn children(&self) -> Children {
        let siblings = |pair: &[Nodes]| {
            let parents = &pair[1].parents;
            let mut starts = vec![0u32; pair[0].len() + 1];
            parents.iter().for_each(|parent| starts[parent as usize + 1] += 1);
            for i in 1..starts.len() {
                starts[i] += starts[i - 1];
            }
            // Under one parent, and where they came parent by parent, each has its place.
            if parents.iter().is_sorted() {
                return Siblings { starts, nodes: Sequence::counted(parents.len()) };
            }
            let mut next = starts.clone();
            let mut list = vec![0u32; parents.len()];
            for (i, parent) in parents.iter().enumerate() {
                let at = &mut next[parent as usize];
                list[*at as usize] = i as u32;
                *at += 1;
            }
            Siblings { starts, nodes: Sequence::Listed(list) }
        };
        self.nodes.windows(2).map(siblings).collect()
    }

    /// Sorts the siblings of every node by their labels.
    pub(crate) fn sort_by_label(&self, children: &mut Children, ranks: &[Ranks]) {
        for (depth, siblings) in children.iter_mut().enumerate() {
            let ranks = &ranks[self.keys.start + depth];
            let nodes = &self.nodes[depth + 1];
            let rank = |n: u32| ranks.of(nodes.code(n));
            if siblings.are_sorted(rank) {
                continue;
            }
            siblings.for_each(|siblings| {
                // Siblings have ranks of their own: many of them are put in their places at once.
                if siblings.len() >= 64 && siblings.len() >= ranks.len() / 4 {
                    let mut places = vec![NO_NUMBER; ranks.len()];
                    siblings.iter().for_each(|&n| places[rank(n) as usize] = n);
                    let in_order = places.into_iter().filter(|&n| n != NO_NUMBER);
                    siblings.iter_mut().zip(in_order).for_each(|(s, n)| *s = n);
                } else {
                    siblings.sort_unstable_by_key(|&n| rank(n));
                }
            });
        }
    }

    /// The node at a lower depth that a node stands under.
    pub(crate) fn ancestor(&self, mut node: u32, from: usize, to: usize) -> u32 {
        for depth in (to + 1..=from).rev() {
            node = self.nodes[depth].parent(node);
        }
        node
    }
}

/// The labels of both axes.
pub(crate) struct Trees {
    pub(crate) by: Tree,
    pub(crate) across: Tree,
    /// The groups that are shown, counted from 0.
    pub(crate) present: Sequence,
}

impl Trees {
    pub(crate) fn new(gathered: &GroupStates, by_keys: usize) -> Trees {
        let codes = gathered.grouper.key_codes();
        let present = gathered.present(codes.is_empty());
        Trees {
            by: Tree::new(gathered, &codes, &present, 0..by_keys),
            across: Tree::new(gathered, &codes, &present, by_keys..codes.len()),
            present,
        }
    }

    /// The node down the side of each cell.
    pub(crate) fn by_nodes(&self, cells: &Rollup<'_>, depth: usize) -> Option<Vec<u32>> {
        self.by.nodes_of(cells, depth)
    }

    /// The node along the top of each cell.
    pub(crate) fn across_nodes(&self, cells: &Rollup<'_>, depth: usize) -> Option<Vec<u32>> {
        self.across.nodes_of(cells, depth)
    }
}

/// For each key the places of its codes in label order.
pub(crate) fn ranks(gathered: &GroupStates) -> Vec<Ranks> {
    gathered.grouper.codes.iter().map(Codes::ranks).collect()
}
