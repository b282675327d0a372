//! Which cells of a level a window compares, walks or shares: the keys of `along` and `within` as numbers.
//!
//! A cell that lacks one of these keys, as a total does, is in no partition. What stands on the other axis of a
//! pivot stays the same unless `along` or `within` names it.

use super::levels::{Levels, Mask, Now, mask};
use crate::grouping::{Depths, Numbering, Rollup, Sequence, in_time, keys_of, period_codes};
use crate::plan::{Reference, Window};
use crate::window::order::Ordinals;
use crate::window::partition::{By, Calendar, Partitions};
use crate::window::{self, pick};
use oeuvre_columns::column::NO_NUMBER;
use oeuvre_columns::column::{Column, Data};
use oeuvre_columns::value::Kind;

impl Levels<'_> {
    /// The codes of all references, cell by cell; `None` where one of them is not there.
    pub(super) fn codes(
        &self,
        cells: &Rollup<'_>,
        references: &[Reference],
    ) -> Option<Vec<Vec<u32>>> {
        references
            .iter()
            .map(|r| match r {
                Reference::Key(k) => cells.codes(*k).map(Sequence::to_vec),
                Reference::Period { key, unit } => period_codes(self.plan, cells, *key, *unit),
                Reference::Value(_) | Reference::Layout(_) => None,
            })
            .collect()
    }

    pub(super) fn at_numbers(
        &self,
        numbering: &mut Numbering,
        there: &[u32],
        here: &[Vec<u32>],
        now: &Now<'_>,
        column: &Column,
    ) -> (Column, Mask) {
        let mine = numbering.number(here, now.cells.groups);
        let real = there.iter().filter(|n| **n != NO_NUMBER);
        let most = real.max().map_or(0, |m| *m as usize + 1);
        let mut cell_of = vec![NO_NUMBER; most];
        for (cell, &n) in there.iter().enumerate().filter(|(_, n)| **n != NO_NUMBER) {
            cell_of[n as usize] = cell as u32;
        }
        let from: Vec<u32> =
            mine.iter().map(|&n| cell_of.get(n as usize).copied().unwrap_or(NO_NUMBER)).collect();
        (pick(column, &from), mask(from.iter().map(|c| *c == NO_NUMBER)))
    }

    pub(super) fn label_order(&self, cells: &Rollup<'_>) -> Vec<u32> {
        let by: Vec<Ordinals> = cells
            .kept
            .iter()
            .zip(&cells.path)
            .map(|(&k, codes)| Ordinals::of_codes(codes.iter().map(|c| self.ranks[k].of(c))))
            .collect();
        window::order::sorted(cells.groups, &by.iter().collect::<Vec<_>>())
    }

    /// The cells that a rank compares: those that share the keys after `within`, else the siblings; what
    /// stands on the other axis stays the same.
    pub(super) fn compared(
        &self,
        window: &Window,
        now: &Now<'_>,
        depths: Depths,
    ) -> Option<Vec<u32>> {
        let it = &self.plan;
        let kept = &now.cells.kept;
        let walked: Vec<usize> = match window.along.as_slice() {
            // The siblings: the innermost key at this level, of the lines where there are any.
            [] => match (it.by_keys, depths.by, depths.across) {
                (0, _, 0) => return None,
                (0, _, across) => vec![across - 1],
                (_, 0, _) => return None,
                (_, by, _) => vec![by - 1],
            },
            along => keys_of(along),
        };
        let shares = |k: &usize| window.within.iter().flatten().any(|r| *r == Reference::Key(*k));
        // On the totals of what is shared there is nothing to compare.
        if walked.iter().any(|k| !kept.contains(k) || shares(k)) {
            return None;
        }
        let is_by = |k: usize| k < it.by_keys;
        let within = window.within.as_deref();
        let mut shared: Vec<Reference> = kept
            .iter()
            .copied()
            .filter(|k| {
                let other_axis = walked.iter().all(|&w| is_by(w) != is_by(*k));
                !walked.contains(k) && (other_axis || within.is_none())
            })
            .map(Reference::Key)
            .collect();
        shared.extend(within.unwrap_or_default());
        let codes = self.codes(now.cells, &shared)?;
        Some(Numbering::default().number(&codes, now.cells.groups))
    }

    /// The cells that are walked together, and in which order.
    pub(super) fn partitions(&self, window: &Window, now: &Now<'_>) -> Option<Partitions<'static>> {
        let (mut partition, keys) = self.walked(window, now)?;
        let mut by = Vec::new();
        let mut calendar = None;
        for &key in &keys {
            let codes = now.cells.codes(key)?;
            let kind = self.plan.keys()[key].kind;
            let in_time = in_time(kind);
            if in_time {
                // What has no place in time is not walked.
                for (p, code) in partition.iter_mut().zip(codes.iter()) {
                    *p = if code == 0 { NO_NUMBER } else { *p };
                }
            }
            let down = window.descending == Some(true);
            if let (Some(descending), false) = (window.descending, in_time) {
                let x = now.column(self.plan, window.args[0].operand);
                by.push(By::Numbers(Ordinals::of(x, descending)));
            }
            by.push(By::Numbers(self.key_order(now, key, in_time && down)));
            // Several keys walked one after the other have no calendar of their own.
            if let (Kind::Period(_), Data::I32(indexes), 1) =
                (kind, &now.cells.labels_of(key).data, keys.len())
            {
                let present = indexes.iter().filter(|p| **p != i32::MIN);
                let first = present.clone().min().copied().unwrap_or(0);
                let last = present.max().copied().unwrap_or(-1);
                let indexes = indexes.clone();
                calendar = Some(Calendar { indexes, range: (first, last), backwards: down });
            }
        }
        Some(Partitions::new(partition.into(), by, false, calendar))
    }

    /// The cells that are walked together, and the keys by which.
    pub(super) fn walked(&self, window: &Window, now: &Now<'_>) -> Option<(Vec<u32>, Vec<usize>)> {
        let it = &self.plan;
        let along: Vec<usize> = window
            .along
            .iter()
            .filter_map(|r| if let Reference::Key(k) = r { Some(*k) } else { None })
            .collect();
        if along.is_empty() || along.iter().any(|k| !now.cells.kept.contains(k)) {
            return None;
        }
        // A longer period of what is walked is left behind by walking.
        let fixed = now.cells.kept.iter().copied().filter(|k| {
            !along.contains(k) && !along.iter().any(|&walked| it.is_coarser(*k, walked))
        });
        let mut shared: Vec<Reference> = fixed.map(Reference::Key).collect();
        shared.extend(window.within.iter().flatten());
        let codes = self.codes(now.cells, &shared)?;
        Some((Numbering::default().number(&codes, now.cells.groups), along))
    }

    /// The order of a key's labels as it is walked: that of the lines where they have one of their own.
    pub(super) fn key_order(&self, now: &Now<'_>, key: usize, descending: bool) -> Ordinals {
        let it = &self.plan;
        if let (Some(places), true) =
            (&self.line_places, key < it.by_keys && !in_time(it.keys()[key].kind))
            && let Some(nodes) = self.trees.by_nodes(now.cells, key + 1)
        {
            return Ordinals::of_codes(nodes.iter().map(|&node| places[key][node as usize]));
        }
        let ranks = &self.ranks[key];
        let last = ranks.len() as u32;
        let codes = now.cells.codes(key).into_iter().flat_map(Sequence::iter);
        Ordinals::of_codes(codes.map(|c| {
            let rank = ranks.of(c);
            if descending { last - rank } else { rank }
        }))
    }

    /// The order of the cells themselves: their labels, key by key.
    pub(super) fn position(&self, now: &Now<'_>) -> Ordinals {
        let mut places = vec![0u32; now.cells.groups];
        for (place, cell) in self.label_order(now.cells).into_iter().enumerate() {
            places[cell as usize] = place as u32;
        }
        Ordinals::of_codes(places.into_iter())
    }
}
