//! The largest along the top, and the others as one column: worked out from its rows, like every other.
//!
//! A first pass finds the labels with the largest first result. The key becomes a calculation that keeps these labels
//! and gives all others one of their own, so that means, medians and distinct counts of the rest are those of its rows.
//! When the table is made, its columns are put in the order of their labels, with the rest behind them.
//!
//! ```
//! # use oeuvre_columns::{InMemory, Kind, Source};
//! # let rows = InMemory::from_texts(
//! #     &[("route", Kind::Text), ("fare", Kind::Number { scale: 0 })],
//! #     &[&["SKE", "9"], &["KEL", "1"], &["HAV", "3"], &["KEL", "2"]],
//! # )?;
//! use oeuvre_core::{ColumnsTop, Plan, Request, SourceText, run};
//!
//! let along = vec![SourceText::new("--columns-by", "route")];
//! let request = Request { columns_by: along, columns_top: Some(1), ..Request::of(&[], &["mean(fare)"]) };
//! let (request, top) = ColumnsTop::find(&request, &rows, 1)?;
//! let (mut table, mut ledger) = run(&Plan::new(&request, rows.columns())?, &rows, 1)?;
//! top.arrange(&mut table, &mut ledger);
//! assert_eq!(table.position_label(1, 0).unwrap().to_string(), "Rest");
//! assert_eq!(table.cell(0, 1).to_string(), "2"); // of the three rows of KEL and HAV
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

use crate::error::{Error, SourceText};
use crate::grid::{Grid, LineKind, Lines};
use crate::language::parser::parse_list;
use crate::ledger::Ledger;
use crate::plan::Plan;
use crate::request::{AtLabel, Request, Show};
use crate::trace::Trace;
use oeuvre_columns::column::Column;
use oeuvre_columns::{Kind, Note, Source, Topic, Value};
use std::sync::Arc;

/// What the label of the rest is while the table is made: no row has it.
const REST: &str = "\u{1}rest";

/// The labels that keep their column.
#[derive(Clone, Debug, Default)]
pub struct ColumnsTop {
    /// As texts, in the order of their values; `None` where nothing is left out.
    labels: Option<Vec<Option<String>>>,
    /// How many labels there are.
    all: usize,
    rest: String,
    key: String,
}

impl ColumnsTop {
    /// Finds the largest labels of a request that asks for them, and gives the request that keeps these alone.
    ///
    /// # Errors
    /// Several keys along the top; what is wrong with the request or with the rows.
    pub fn find(
        request: &Request,
        source: &dyn Source,
        threads: usize,
    ) -> Result<(Request, ColumnsTop), Error> {
        let Some(most) = request.columns_top else {
            return Ok((request.clone(), ColumnsTop::default()));
        };
        let [along] = request.columns_by.as_slice() else {
            return Err(refused(request.columns_by.len()));
        };
        let key = Show::parse(&along.origin, &along.text);
        let keys = parse_list(&along.derived(key.calc.text.clone())).map_or(1, |list| list.len());
        if keys != 1 {
            return Err(refused(keys));
        }
        let first: Vec<Show> = request.show.iter().take(1).cloned().collect();
        let by = vec![along.clone()];
        let plan = Plan::new(&Request { by, ..request.over_all(first) }, source.columns())?;
        let (grid, _) = crate::run(&plan, source, threads)?;
        let heading = grid.by.first().map_or(String::new(), |h| h.name.clone());
        let mut lines: Vec<usize> = (0..grid.lines.len()).collect();
        let figure = |line: usize| grid.columns.first().map(|_| grid.cell(line, 0));
        // Largest first; of equal ones the first label, and those without a figure last.
        lines.sort_by(|&a, &b| match (figure(a), figure(b)) {
            (Some(a), Some(b)) if a.is_missing() != b.is_missing() => {
                a.is_missing().cmp(&b.is_missing())
            }
            (Some(a), Some(b)) => b.label_order(&a),
            _ => std::cmp::Ordering::Equal,
        });
        let all = lines.len();
        if all as u64 <= most {
            return Ok((Request { columns_top: None, ..request.clone() }, ColumnsTop::default()));
        }
        lines.truncate(most as usize);
        lines.sort_unstable();
        let label = |&line: &usize| match grid.label(line, 0) {
            None | Some(Value::Missing) => None,
            Some(value) => Some(value.to_string()),
        };
        let labels: Vec<Option<String>> = lines.iter().map(label).collect();
        let rest = request.rest_label.clone().unwrap_or_else(|| "Rest".to_owned());
        let calc = key.calc.text.trim();
        let quoted = |text: &String| format!("'{}'", text.replace('\'', "''"));
        let kept: Vec<String> = labels.iter().flatten().map(quoted).collect();
        let missing = match labels.contains(&None) {
            true => format!("({calc}) is missing, missing, "),
            false => String::new(),
        };
        let among = match kept.is_empty() {
            true => "false".to_owned(),
            false => format!("text({calc}) in ({})", kept.join(", ")),
        };
        let name = heading.replace('"', "\"\"");
        // In quotes, a heading may have a colon in it.
        let text = format!("\"{name}\": if({missing}{among}, text({calc}), '{REST}')");
        let columns_by = vec![along.derived(text)];
        let kept = Request { columns_by, columns_top: None, ..request.clone() };
        Ok((kept, ColumnsTop { labels: Some(labels), all, rest, key: heading }))
    }

    /// The labels of a cell as the table has them while it is made: that of the rest is no row's.
    pub fn labels(&self, at: &[(Arc<SourceText>, AtLabel)]) -> Vec<(Arc<SourceText>, AtLabel)> {
        let mut at = at.to_vec();
        if self.labels.is_some() {
            for (key, label) in &mut at {
                let is_key =
                    self.key == key.text.trim() || self.key.starts_with(&format!("{}(", key.text));
                if is_key && !label.quoted && label.text == self.rest {
                    REST.clone_into(&mut label.text);
                }
            }
        }
        at
    }

    /// Says the rest in a trace as readers know it.
    pub fn tell(&self, trace: &mut Trace) {
        for (_, label) in trace.at.iter_mut().filter(|(_, label)| label == REST) {
            self.rest.clone_into(label);
        }
    }

    /// Puts the columns of the table in the order of their labels, the rest behind them, and says what it is.
    pub fn arrange(&self, grid: &mut Grid, ledger: &mut Ledger) {
        let Some(labels) = &self.labels else { return };
        let place = |position: usize| match (
            grid.positions[position].kind,
            grid.position_label(position, 0),
        ) {
            (LineKind::Group, Some(Value::Text(text))) if &*text == REST => labels.len(),
            (LineKind::Group, Some(Value::Missing)) => {
                labels.iter().position(Option::is_none).unwrap_or(labels.len())
            }
            (LineKind::Group, Some(label)) => {
                let text = Some(label.to_string());
                labels.iter().position(|l| *l == text).unwrap_or(labels.len())
            }
            // Totals stay at their end.
            _ => labels.len() + 1,
        };
        let first_is_total = grid.positions.get(0).is_some_and(|p| p.kind != LineKind::Group);
        let mut order: Vec<usize> = (0..grid.positions.len()).collect();
        order.sort_by_key(|&p| match place(p) {
            at if at > labels.len() && first_is_total => 0,
            at => at + 1,
        });
        let results = grid.columns.len() / grid.positions.len().max(1);
        let mut of_labels: Vec<Value> = Vec::new();
        let mut positions = Lines::default();
        let mut columns = Vec::new();
        for (at, &from) in order.iter().enumerate() {
            let mut line = grid.positions[from];
            let label = grid.position_label(from, 0).unwrap_or(Value::Missing);
            let is_rest = matches!(&label, Value::Text(text) if &**text == REST);
            if is_rest {
                line.kind = LineKind::Rest;
            }
            positions.push(line);
            of_labels.push(if is_rest { Value::Text(self.rest.as_str().into()) } else { label });
            for column in &grid.columns[from * results..(from + 1) * results] {
                let mut column = column.clone();
                column.position = at;
                columns.push(column);
            }
        }
        (grid.positions, grid.columns) = (positions, columns);
        grid.position_labels = vec![Column::from_values(Kind::Text, &of_labels)];
        let text = format!(
            "along {} the {} largest of {} are shown, the others together as {}",
            self.key,
            labels.len(),
            self.all,
            self.rest
        );
        ledger.notes.push(Note::new(Topic::Request, text));
    }
}

fn refused(keys: usize) -> Error {
    let message = match keys {
        0 => "--columns-top needs a key along the top".to_owned(),
        n => format!("--columns-top takes one key along the top, and here are {n}"),
    };
    Error::request_with_help(message, "write --columns-by KEY --columns-top N")
}
