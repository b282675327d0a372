//! The cells that entered a window at one cell: what a trace shows.
//!
//! They are found in the same partitions that the window ran over, and each word says itself which of them enter
//! (`Walks::enters`), so that a trace cannot tell another story than the figure.

use super::levels::{Levels, Now};
use crate::error::Error;
use crate::grouping::{Depths, Numbering, Rollup, keys_of};
use crate::plan::Window;
use crate::window;
use crate::window::Calc;
use crate::window::order::Ordinals;
use oeuvre_columns::column::{Column, Data};
use oeuvre_columns::value::Kind;

/// Some cells with what a window took from them.
pub(crate) struct EnteredCells {
    pub(crate) kept: Vec<usize>,
    /// Their labels, key by key.
    pub(crate) labels: Vec<Column>,
    pub(crate) heading: String,
    pub(crate) kind: Kind,
    pub(crate) x: Column,
}

impl Levels<'_> {
    /// The cells that entered a window at one cell of a level; `None` where it has no meaning there.
    pub(crate) fn entered(
        &mut self,
        window: &Window,
        depths: Depths,
        cell: u32,
    ) -> Result<Option<EnteredCells>, Error> {
        let level = self.level(depths)?;
        let window = &*window.at_level(&level.cells.kept, self.plan.by_keys);
        let now = Now {
            cells: &level.cells,
            windows: &level.windows,
            table: &level.table,
            depths: Some(depths),
        };
        let mut from = level.clone();
        let cells: Vec<u32> = match &window.calc {
            Calc::Total => {
                let (total, _) = self.total(window, &now)?;
                let within = keys_of(window.within.as_deref().unwrap_or_default());
                let shared: Vec<usize> =
                    within.into_iter().filter(|k| level.cells.kept.contains(k)).collect();
                return Ok(Some(EnteredCells {
                    labels: self.key_labels(&level.cells, &shared, &[cell]),
                    kept: shared,
                    heading: "total".to_owned(),
                    kind: window.kind,
                    x: total.gather(&[cell]),
                }));
            }
            Calc::Aggregate(_) => {
                let by_keys = self.plan.by_keys;
                let across = match by_keys {
                    0 => self.plan.keys().len(),
                    _ => depths.across,
                };
                from = self.level(Depths { by: by_keys, across })?;
                let within = window.within.clone().unwrap_or_default();
                let (Some(here), Some(there)) =
                    (self.codes(&level.cells, &within), self.codes(&from.cells, &within))
                else {
                    return Ok(None);
                };
                let mut numbering = Numbering::default();
                let there = numbering.number(&there, from.cells.groups);
                let here = numbering.number(&here, level.cells.groups)[cell as usize];
                let mut cells = self.label_order(&from.cells);
                cells.retain(|&c| there[c as usize] == here);
                if let Some(condition) = window.condition
                    && let Data::Bool(truths) = &from.column(self.plan, condition.operand).data
                {
                    cells.retain(|&c| truths[c as usize] == 1);
                }
                cells
            }
            Calc::Compared(_) => {
                let Some(partition) = self.compared(window, &now, depths) else { return Ok(None) };
                let x = now.column(self.plan, window.args[0].operand);
                let by = [&Ordinals::of(x, window.descending != Some(false)), &self.position(&now)];
                let mut cells = window::order::sorted(level.cells.groups, &by);
                cells.retain(|&c| partition[c as usize] == partition[cell as usize]);
                cells
            }
            Calc::Walked(function) => {
                let Some(walked) = self.partitions(window, &now) else { return Ok(None) };
                walked.entering(&**function, cell)
            }
        };
        let Some(x) = window.args.first() else { return Ok(None) };
        let kept = from.cells.kept.clone();
        Ok(Some(EnteredCells {
            labels: self.key_labels(&from.cells, &kept, &cells),
            kept,
            heading: window.of.to_string(),
            kind: x.kind,
            x: from.column(self.plan, x.operand).gather(&cells),
        }))
    }

    fn key_labels(&self, cells: &Rollup<'_>, keys: &[usize], chosen: &[u32]) -> Vec<Column> {
        keys.iter().map(|&k| cells.labels_of(k).gather(chosen)).collect()
    }
}
