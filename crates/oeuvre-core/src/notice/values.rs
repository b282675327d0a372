//! Of how many of the rows counted each result had a value.

use super::fields::Fields;
use super::{ColumnOf, Note, Plan, plural};
use crate::aggregate::encoding::{Damaged, Decoder, Encoder};
use crate::plan::ValuesWatch;
use crate::rows::program::Operand;
use oeuvre_columns::Topic;
use oeuvre_columns::column::{
    Data, MISSING_BOOL, MISSING_I32, MISSING_I64, MISSING_I128, dictionary::MISSING_CODE,
};
use oeuvre_columns::names::grouped;

/// For what results are made of, the rows that they take and those of them that have a value.
pub(super) struct Values {
    counts: Vec<(u64, u64)>,
    /// Scratch: 1 for each row that is taken and has its values.
    ok: Vec<u8>,
}

/// How many names of results are given in one note.
const NAMED: usize = 4;

impl Values {
    pub(super) fn new(watches: usize) -> Values {
        Values { counts: vec![(0, 0); watches], ok: Vec::new() }
    }

    pub(super) fn look_at(
        &mut self,
        watches: &[ValuesWatch],
        column: ColumnOf<'_, '_>,
        rows: usize,
    ) {
        for (watch, (taken, with_value)) in watches.iter().zip(&mut self.counts) {
            let data = |operand: Operand| &column(operand).data;
            if let ([only], None) = (&watch.args[..], watch.condition) {
                *taken += rows as u64;
                *with_value += rows.saturating_sub(data(only.operand).count_missing()) as u64;
                continue;
            }
            // As a rule no value is missing, and then the rows alone are counted.
            let complete = !watch.args.iter().any(|arg| data(arg.operand).any_missing());
            let truths = watch.condition.map(data);
            if complete {
                let n = match truths {
                    Some(Data::Bool(truths)) => truths.iter().filter(|t| **t == 1).count(),
                    _ => rows,
                };
                *taken += n as u64;
                *with_value += n as u64;
                continue;
            }
            let ok = &mut self.ok;
            ok.clear();
            match truths {
                Some(Data::Bool(truths)) => ok.extend(truths.iter().map(|t| u8::from(*t == 1))),
                _ => ok.resize(rows, 1),
            }
            let count = |ok: &[u8]| ok.iter().map(|&o| u64::from(o)).sum::<u64>();
            *taken += count(ok);
            watch.args.iter().for_each(|arg| keep_present(ok, data(arg.operand)));
            *with_value += count(ok);
        }
    }

    pub(super) fn encode(&self, watches: &[ValuesWatch], to: &mut Encoder) {
        to.count(self.counts.len());
        for ((taken, with_value), watch) in self.counts.iter().zip(watches) {
            to.text(&watch.names.join("\n"));
            to.unsigned(u128::from(*taken));
            to.unsigned(u128::from(*with_value));
        }
    }

    pub(super) fn decode(
        &mut self,
        watches: &[ValuesWatch],
        from: &mut Decoder<'_>,
    ) -> Result<(), Damaged> {
        let mut next = 0;
        for _ in 0..from.count()? {
            let (names, found) = (from.text()?, (from.times()?, from.times()?));
            let is_it = |watch: &ValuesWatch| watch.names.join("\n") == names;
            next += watches.iter().skip(next).position(is_it).ok_or(Damaged)?;
            self.counts[next] = found;
            next += 1;
        }
        Ok(())
    }

    pub(super) fn absorb(&mut self, other: &Values) {
        for (mine, theirs) in self.counts.iter_mut().zip(&other.counts) {
            mine.0 += theirs.0;
            mine.1 += theirs.1;
        }
    }

    pub(super) fn notes(&self, plan: &Plan, fields: &Fields) -> Vec<Note> {
        let watches = plan.watches.values.iter().zip(&self.counts);
        let few = watches.filter(|(_, (taken, with_value))| with_value < taken);
        few.map(|(watch, &(taken, with_value))| {
            let mut names: Vec<&str> = watch.names.iter().take(NAMED).map(|n| &**n).collect();
            if watch.names.len() > NAMED {
                names.push("…");
            }
            let which = if watch.condition.is_some() { " that meet its condition" } else { "" };
            let mut text = format!(
                "{}: {} of {} {}{which} {} a value",
                names.join(", "),
                grouped(with_value),
                grouped(taken),
                plural(taken, "row", "rows"),
                plural(with_value, "has", "have"),
            );
            if let (None, [Operand::Input(place)]) =
                (watch.condition, &watch.args.iter().map(|a| a.operand).collect::<Vec<_>>()[..])
            {
                let (lacking, texts) = fields.missing(*place);
                let told = lacking + texts.iter().map(|t| t.1).sum::<u64>();
                let blank = (taken - with_value).saturating_sub(told);
                let mut parts = Vec::new();
                if blank > 0 {
                    parts.push(format!("{} blank", grouped(blank)));
                }
                if lacking > 0 {
                    parts.push(format!("{} in files without the column", grouped(lacking)));
                }
                parts.extend(texts.iter().map(|(t, n)| format!("{} '{t}'", grouped(*n))));
                text.push_str("; ");
                text.push_str(&parts.join(", "));
            }
            Note::new(Topic::Values, text)
        })
        .collect()
    }
}

/// Sets the rows to 0 whose value is missing.
fn keep_present(ok: &mut [u8], data: &Data) {
    fn each<T: Copy>(ok: &mut [u8], values: &[T], present: impl Fn(T) -> bool) {
        ok.iter_mut().zip(values).for_each(|(o, &v)| *o &= u8::from(present(v)));
    }
    match data {
        Data::I64(v) => each(ok, v, |v| v != MISSING_I64),
        Data::I128(v) => each(ok, v, |v| v != MISSING_I128),
        Data::F64(v) => each(ok, v, |v| !v.is_nan()),
        Data::Codes(v) => each(ok, v, |v| v != MISSING_CODE),
        Data::I32(v) => each(ok, v, |v| v != MISSING_I32),
        Data::Bool(v) => each(ok, v, |v| v != MISSING_BOOL),
    }
}
