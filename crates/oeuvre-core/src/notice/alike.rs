//! Labels that differ only in what people do not see or do not mean: case, spaces, Unicode form.

use super::texts::quoted;
use super::{Note, column_of};
use crate::ledger::LookupAccount;
use crate::plan::{Built, LookupPlan, Plan};
use crate::rows::program::{Op, Operand};
use oeuvre_columns::Topic;
use oeuvre_columns::names::{grouped, plain_label, visible_label};
use oeuvre_columns::value::Kind;
use std::collections::HashMap;

/// How many sets of such labels are named, and how many labels of each.
const NAMED: usize = 3;
const OF_EACH: usize = 5;

/// The note of some sets of labels, each with its count.
pub(crate) fn alike_labels(
    heading: &str,
    column: Option<&str>,
    sets: impl Iterator<Item = Vec<(String, u64)>>,
) -> Option<Note> {
    let mut sets: Vec<Vec<(String, u64)>> = sets.filter(|set| set.len() > 1).collect();
    for set in &mut sets {
        set.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
    }
    let size = |set: &Vec<(String, u64)>| set.iter().map(|l| l.1).sum::<u64>();
    sets.sort_by(|a, b| size(b).cmp(&size(a)).then_with(|| a.cmp(b)));
    if sets.is_empty() {
        return None;
    }
    let one = |set: &Vec<(String, u64)>| {
        let labels: Vec<String> = set
            .iter()
            .take(OF_EACH)
            .map(|(label, n)| format!("{} {}", visible_label(label), grouped(*n)))
            .collect();
        let more = if set.len() > OF_EACH { " and more" } else { "" };
        format!("{}{more}", labels.join(" and "))
    };
    let named: Vec<String> = sets.iter().take(NAMED).map(one).collect();
    let more = match sets.len().saturating_sub(NAMED) {
        0 => String::new(),
        n => format!(", and {n} more"),
    };
    let advice =
        column.map_or(String::new(), |c| format!("; as one: --one-spelling {}", quoted(c)));
    let text = format!(
        "{heading} has labels that differ only in case, spaces or Unicode form: {}{more}{advice}",
        named.join("; ")
    );
    Some(Note::new(Topic::Alike, text))
}

/// The column that a key is or is made of: one of the rows, or one of a lookup with the lookup's name.
pub(crate) fn name_of(plan: &Plan, operand: Operand) -> Option<String> {
    if let Some(column) = column_of(plan, operand) {
        return Some(column.to_owned());
    }
    let Operand::Step(step) = operand else { return None };
    let step = &plan.row.steps[step];
    if let Op::Fetch(of) = &step.op {
        return Some(format!("{}.{}", of.table.name, of.table.columns[of.column].name));
    }
    let mut texts = step.args.iter().zip(&step.arg_kinds).filter(|(_, kind)| **kind == Kind::Text);
    let (first, _) = texts.next()?;
    name_of(plan, *first).filter(|_| texts.next().is_none())
}

/// Keys of rows without a match that differ from one of the lookup's only in case, spaces or Unicode form.
pub(crate) fn alike_lookup_keys(
    plan: &Plan,
    lookup: &LookupPlan,
    account: &LookupAccount,
) -> Option<Note> {
    if account.keys.is_empty() {
        return None;
    }
    let [(Kind::Text, _)] = lookup.lookup.keys.as_slice() else { return None };
    let mut known: HashMap<String, &str> = HashMap::new();
    for (key, _) in lookup.lookup.texts() {
        let named = known.entry(plain_label(key).into_owned()).or_insert(key);
        if key < *named {
            *named = key;
        }
    }
    let alike = account.keys.iter().filter_map(|(key, n)| {
        known.get(&*plain_label(key)).map(|theirs| (key.as_str(), *theirs, *n))
    });
    let alike: Vec<(&str, &str, u64)> = alike.collect();
    let (first, theirs, n) = alike.first()?;
    let more = match alike.len() - 1 {
        0 => String::new(),
        n => format!(", and {n} more like it"),
    };
    let column = found_by(plan, lookup).and_then(|b| name_of(plan, b.operand));
    let advice =
        column.map_or(String::new(), |c| format!("; as one: --one-spelling {}", quoted(&c)));
    let text = format!(
        "{} ({}) has no match in {}, which has {}{more}{advice}",
        visible_label(first),
        grouped(*n),
        account.name,
        visible_label(theirs)
    );
    Some(Note::new(Topic::Alike, text))
}

/// What a lookup with one key is found by, where that is worked out on the rows that count.
fn found_by(plan: &Plan, lookup: &LookupPlan) -> Option<Built> {
    let Operand::Step(step) = lookup.found else { return None };
    let program = if plan.drops() && lookup.no_match == crate::rows::lookup::NoMatch::LeaveOut {
        &plan.filter
    } else {
        &plan.row
    };
    let operand = *program.steps.get(step)?.args.first()?;
    // In the filter a step is not one of the rows' program; columns are the same in both.
    matches!(operand, Operand::Input(_)).then_some(Built { operand, kind: Kind::Text })
}
