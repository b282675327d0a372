//! What a pass watches beside its work, so that doubtful data can be told where it touches a figure.
//!
//! All of it follows from the programs: which values results are made of, which columns are compared with texts,
//! which dates are brought to periods. What is seen is kept in `notice/`.
//!
//! ```
//! # use oeuvre_columns::{InMemory, Kind, Source};
//! # let rows = InMemory::from_texts(&[("fare", Kind::Number { scale: 2 })], &[&["12.50"], &[""]])?;
//! use oeuvre_core::{Plan, Request, run};
//!
//! let plan = Plan::new(&Request::of(&[], &["mean(fare)"]), rows.columns())?;
//! let (_, ledger) = run(&plan, &rows, 1)?;
//! assert_eq!(ledger.notes[0].text, "mean(fare): 1 of 2 rows has a value; 1 blank");
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

use super::{Built, Programs, TableInput};
use crate::rows::program::{Op, Operand, Program, TextTest};
use crate::window::{Calc, Reference, Window};
use oeuvre_columns::value::calendar::Unit;
use oeuvre_columns::value::{Comparison, Kind};
use std::sync::Arc;

/// The values that one or several results are made of.
#[derive(Clone, Debug)]
pub struct ValuesWatch {
    /// The results, as written.
    pub names: Vec<Arc<str>>,
    /// What they take, in the row program.
    pub args: Vec<Built>,
    /// Which rows they take.
    pub condition: Option<Operand>,
}

/// A column of texts that is compared with texts.
#[derive(Clone, Debug)]
pub struct TextsWatch {
    /// Where it is, in the program.
    pub operand: Operand,
    /// The texts, each with the comparison that it stands in.
    pub texts: Vec<Arc<str>>,
    /// The column as it is written.
    pub name: Arc<str>,
}

/// Dates that keys bring to periods.
#[derive(Clone, Debug)]
pub struct DaysWatch {
    /// Where they are, in the row program.
    pub operand: Operand,
    /// The units of the keys.
    pub units: Vec<Unit>,
    /// Whether something walks along one of these keys: its unit.
    pub walked: Option<Unit>,
}

/// All that is watched.
#[derive(Clone, Debug, Default)]
pub struct Watches {
    /// Values behind results.
    pub values: Vec<ValuesWatch>,
    /// Columns compared with texts in the condition on rows.
    pub filter_texts: Vec<TextsWatch>,
    /// Columns compared with texts in other calculations on rows.
    pub row_texts: Vec<TextsWatch>,
    /// Dates behind periods.
    pub days: Vec<DaysWatch>,
}

impl Watches {
    /// What is to be watched of some programs; `values` are what aggregates of rows take, with their words.
    pub(super) fn new(programs: &Programs, values: Vec<ValuesWatch>) -> Watches {
        let mut watches = Watches {
            filter_texts: texts(&programs.filter),
            row_texts: texts(&programs.row),
            ..Watches::default()
        };
        for one in values {
            let same = |w: &&mut ValuesWatch| (&w.args, w.condition) == (&one.args, one.condition);
            match watches.values.iter_mut().find(same) {
                Some(known) if known.names.contains(&one.names[0]) => {}
                Some(known) => known.names.extend(one.names),
                None => watches.values.push(one),
            }
        }
        let keys = programs.groupings.first().map_or(&[][..], |g| &g.keys);
        let walks = programs.table_inputs.iter().filter_map(|input| match input {
            TableInput::Window(window) => walked(window),
            _ => None,
        });
        let walks: Vec<usize> = walks.flatten().collect();
        for (place, key) in keys.iter().enumerate() {
            let Some((unit, operand)) = key.period.filter(|p| p.0 > Unit::Day) else { continue };
            let walked = walks.contains(&place).then_some(unit);
            match watches.days.iter_mut().find(|d| d.operand == operand) {
                Some(known) => {
                    known.units.push(unit);
                    known.walked = known.walked.or(walked);
                }
                None => watches.days.push(DaysWatch { operand, units: vec![unit], walked }),
            }
        }
        watches
    }
}

/// The keys of the table that a window walks along; `None` where it does not walk.
fn walked(window: &Window<Built>) -> Option<Vec<usize>> {
    let Calc::Walked(_) = window.calc else { return None };
    let key = |along: &Reference<Built>| match along {
        Reference::Key(key) => Some(*key),
        _ => None,
    };
    Some(window.along.iter().filter_map(key).collect())
}

/// The columns that a program compares with texts.
pub(crate) fn texts(program: &Program) -> Vec<TextsWatch> {
    let mut watches: Vec<TextsWatch> = Vec::new();
    for step in &program.steps {
        let Op::Test(test) = &step.op else { continue };
        let texts: Vec<Arc<str>> = match test {
            TextTest::Compare(Comparison::Equal | Comparison::NotEqual, text) => vec![text.clone()],
            TextTest::OneOf(texts) => texts.iter().map(|t| Arc::from(t.as_str())).collect(),
            TextTest::Compare(..) => continue,
        };
        let operand = step.args[0];
        if step.arg_kinds[0] != Kind::Text {
            continue;
        }
        // As written: what stands before the sign.
        let written = step.text.split(['=', '<', '!']).next().unwrap_or_default();
        let written = written.split(" in ").next().unwrap_or_default().trim();
        let name = written.strip_suffix(" not").unwrap_or(written);
        match watches.iter_mut().find(|w| w.operand == operand) {
            Some(known) => known.texts.extend(texts),
            None => watches.push(TextsWatch { operand, texts, name: Arc::from(name) }),
        }
    }
    watches
}
