//! The rows that count: conditions, lookups and the row program, with the account of what was left out.
//!
//! Every consumer that has a plan does this with its batches first. The order is fixed: the condition on rows,
//! then lookups that leave rows out, then the program over what is left; so a row is left out for one reason, and
//! read = left out + without a match + counted always holds.

use super::Share;
use crate::aggregate::encoding::{Damaged, Decoder, Encoder};
use crate::error::Error;
use crate::ledger::{Ledger, LookupAccount};
use crate::notice::{Noticed, alike_lookup_keys, codes_of};
use crate::plan::{LookupPlan, Plan, TextsWatch};
use crate::rows::evaluator::Evaluator;
use crate::rows::lookup::NoMatch;
use crate::rows::lookup::{key_text, push_key};
use crate::rows::program::{Op, Operand, Program, Step};
use oeuvre_columns::Account;
use oeuvre_columns::Source;
use oeuvre_columns::column::{Batch, Column, Data, Met};
use std::collections::HashMap;
use std::hash::Hash;

/// What a worker does with every row for a plan, whatever is made of it.
pub(crate) struct RowWork {
    filter: Evaluator,
    pub(crate) row: Evaluator,
    read: u64,
    counted: u64,
    left_out: u64,
    left_out_missing: u64,
    found: Vec<LookupUse>,
    noticed: Noticed,
    /// Whether all columns are kept for the rows that count, also those that only the filter needs.
    keeps_all: bool,
}

/// The rows of a batch that count, with their row program run.
#[derive(Clone, Copy)]
pub(crate) struct Selected<'a> {
    pub(crate) batch: &'a Batch,
    pub(crate) row: &'a Evaluator,
}

impl<'a> Selected<'a> {
    /// A column of the row program.
    pub(crate) fn column(self, operand: Operand) -> &'a Column {
        match operand {
            Operand::Input(i) => &self.batch.columns[i],
            step => self.row.column(step, &[]),
        }
    }
}

/// What a lookup did for a worker's rows.
#[derive(Clone, Default)]
struct LookupUse {
    unmatched: u64,
    keys: HashMap<String, u64>,
    used: Vec<bool>,
}

impl LookupUse {
    fn encode(&self, to: &mut Encoder) {
        to.unsigned(u128::from(self.unmatched));
        let mut keys: Vec<_> = self.keys.iter().collect();
        keys.sort_unstable();
        to.count(keys.len());
        for (key, &n) in keys {
            to.text(key);
            to.unsigned(u128::from(n));
        }
        let eight =
            |rows: &[bool]| rows.iter().rev().fold(0, |byte, &used| byte << 1 | u8::from(used));
        to.bytes(&self.used.chunks(8).map(eight).collect::<Vec<u8>>());
    }

    fn decode(&mut self, from: &mut Decoder<'_>) -> Result<(), Damaged> {
        self.unmatched = from.times()?;
        for _ in 0..from.count()? {
            let key = from.text()?.to_owned();
            self.keys.insert(key, from.times()?);
        }
        let bits = from.bytes()?;
        if bits.len() != self.used.len().div_ceil(8) {
            return Err(Damaged);
        }
        for (row, used) in self.used.iter_mut().enumerate() {
            *used = bits[row / 8] >> (row % 8) & 1 == 1;
        }
        Ok(())
    }

    /// Takes in what some rows have found; `on` says which of them count.
    fn take(&mut self, rows: &Column, step: &Step, keys: &[&Column], on: impl Fn(usize) -> bool) {
        let Data::I32(found) = &rows.data else { return };
        for (row, &place) in found.iter().enumerate().filter(|(row, _)| on(*row)) {
            if let Some(used) = self.used.get_mut(place as u32 as usize) {
                *used = true;
                continue;
            }
            self.unmatched += 1;
            let mut key = String::new();
            let mut parts = keys.iter().zip(&step.arg_kinds);
            if !parts.all(|(k, &kind)| push_key(&mut key, &k.value(kind, row))) {
                key = "(missing)".to_owned();
            }
            *self.keys.entry(key).or_default() += 1;
        }
    }
}

impl RowWork {
    pub(crate) fn new(plan: &Plan) -> RowWork {
        let found = |rows: usize| LookupUse { used: vec![false; rows], ..LookupUse::default() };
        RowWork {
            filter: Evaluator::new(&plan.filter),
            row: Evaluator::new(&plan.row),
            read: 0,
            counted: 0,
            left_out: 0,
            left_out_missing: 0,
            found: plan.lookups.iter().map(|l| found(l.lookup.table.lines.len())).collect(),
            noticed: Noticed::new(plan),
            keeps_all: false,
        }
    }

    /// Lets go of the texts of some steps of the row program: see [`Evaluator::forgetting`].
    pub(crate) fn forgetting(self, forgets: Vec<bool>) -> RowWork {
        RowWork { row: self.row.forgetting(forgets), ..self }
    }

    /// Keeps all columns for the rows that count, to be shown.
    pub(crate) fn keeping_all(self) -> RowWork {
        RowWork { keeps_all: true, ..self }
    }

    /// Leaves out the rows of a batch that do not count, and runs the row program over the others; `None`
    /// where none is left.
    pub(crate) fn select<'b>(
        &'b mut self,
        plan: &Plan,
        batch: &'b mut Batch,
    ) -> Result<Option<Selected<'b>>, Error> {
        self.read += batch.rows as u64;
        if plan.filters() {
            self.filter(plan, batch)?;
        }
        if batch.rows == 0 {
            return Ok(None);
        }
        self.counted += batch.rows as u64;
        let inputs: Vec<&Column> = batch.columns.iter().collect();
        self.row.run(&plan.row, &inputs, batch.rows)?;
        let column = |operand: Operand| self.row.column(operand, &inputs);
        self.noticed.look_at_counted(plan, &inputs, &column, batch.rows);
        for (i, lookup) in plan.lookups.iter().enumerate() {
            if lookup.no_match != NoMatch::LeaveOut {
                let step = step_of(&plan.row, lookup.found);
                let keys: Vec<&Column> =
                    step.args.iter().map(|&a| self.row.column(a, &inputs)).collect();
                self.found[i].take(self.row.column(lookup.found, &inputs), step, &keys, |_| true);
            }
        }
        Ok(Some(Selected { batch, row: &self.row }))
    }

    /// Drops the rows that do not meet the condition.
    fn filter(&mut self, plan: &Plan, batch: &mut Batch) -> Result<(), Error> {
        let mut met = std::mem::take(&mut batch.met);
        let inputs: Vec<&Column> = batch.columns.iter().collect();
        let was_known = met.known;
        if !was_known {
            self.filter.run(&plan.filter, &inputs, batch.rows)?;
        }
        let column = |operand: Operand| self.filter.column(operand, &inputs);
        self.noticed.look_at_all(plan, &inputs, &column, &mut met);
        // Of rows that were known before, some columns have come without the others.
        let comes_whole = |input| !was_known || comes(plan, input, &met) == Comes::Whole;
        let whole: Vec<bool> = (0..inputs.len()).map(comes_whole).collect();
        if !was_known {
            met.missing = 0;
            match plan.condition.map(|condition| &self.filter.column(condition, &inputs).data) {
                Some(Data::Bool(truths)) => {
                    met.missing = met.rows.choose_true(&truths[..batch.rows]);
                }
                _ => met.rows.choose_all(batch.rows),
            }
            met.known = true;
        }
        let (kept, missing) = (&mut met.rows, met.missing);
        let n = kept.len();
        self.left_out += (batch.rows - n) as u64;
        self.left_out_missing += missing;
        let leaves_out = |l: &&LookupPlan| l.no_match == NoMatch::LeaveOut;
        for (i, lookup) in plan.lookups.iter().enumerate().filter(|(_, l)| leaves_out(l)) {
            let rows = self.filter.column(lookup.found, &inputs);
            let step = step_of(&plan.filter, lookup.found);
            let keys: Vec<&Column> =
                step.args.iter().map(|&a| self.filter.column(a, &inputs)).collect();
            self.found[i].take(rows, step, &keys, |row| kept.has(row));
            kept.retain(|row| !rows.data.is_missing(row));
        }
        if kept.len() < batch.rows {
            for (i, column) in batch.columns.iter_mut().enumerate() {
                if (self.keeps_all || plan.needs(i)) && whole[i] {
                    column.keep_chosen(kept);
                }
            }
            batch.rows = kept.len();
        }
        batch.met = met;
        Ok(())
    }

    /// Writes down what was counted.
    pub(crate) fn encode(&self, plan: &Plan, to: &mut Encoder) {
        for n in [self.read, self.counted, self.left_out, self.left_out_missing] {
            to.unsigned(u128::from(n));
        }
        for found in &self.found {
            found.encode(to);
        }
        for (program, evaluator) in [(&plan.filter, &self.filter), (&plan.row, &self.row)] {
            let all = program.steps.iter().zip(&evaluator.zero_divisions);
            let all: Vec<_> = all.filter(|(_, n)| **n > 0).collect();
            to.count(all.len());
            for (step, &n) in all {
                to.text(&step.text);
                to.unsigned(u128::from(n));
            }
        }
        self.noticed.encode(plan, to);
    }

    /// Reads what was written down for a plan over columns of narrower kinds.
    pub(crate) fn decode(plan: &Plan, from: &mut Decoder<'_>) -> Result<RowWork, Damaged> {
        let mut it = RowWork::new(plan);
        for n in [&mut it.read, &mut it.counted, &mut it.left_out, &mut it.left_out_missing] {
            *n = from.times()?;
        }
        for found in &mut it.found {
            found.decode(from)?;
        }
        for (program, evaluator) in [(&plan.filter, &mut it.filter), (&plan.row, &mut it.row)] {
            for _ in 0..from.count()? {
                let (text, n) = (from.text()?, from.times()?);
                // Steps of the same words are told together.
                let step = program.steps.iter().position(|step| &*step.text == text);
                evaluator.zero_divisions[step.ok_or(Damaged)?] += n;
            }
        }
        it.noticed = Noticed::decode(plan, from)?;
        Ok(it)
    }

    /// The account of the rows.
    ///
    /// # Errors
    /// Rows without a match in a lookup that must have all.
    pub(crate) fn ledger(
        &self,
        plan: &Plan,
        source: &dyn Source,
        account: &Account,
    ) -> Result<Ledger, Error> {
        let mut ledger = Ledger {
            // Rows that were passed over unseen do not meet the condition, and have all its values.
            read: self.read + account.unseen,
            totals: account.totals,
            filtered: plan.condition.is_some(),
            left_out: self.left_out + account.unseen,
            left_out_missing: self.left_out_missing,
            counted: self.counted,
            lookups: self.lookup_accounts(plan),
            unreadable: account.unreadable,
            padded: account.padded,
            ..Ledger::default()
        };
        // The same row may divide once more for what is shown: these are two places.
        note_zero_divisions(&plan.filter, &self.filter, &mut ledger);
        for (calculation, _) in &mut ledger.divisions_by_zero {
            calculation.push_str(" of --where");
        }
        note_zero_divisions(&plan.row, &self.row, &mut ledger);
        for (place, &column) in plan.inputs.iter().enumerate() {
            let Some(column) = plan.columns.get(column) else { continue };
            let (_, texts) = self.noticed.fields.missing(place);
            let texts =
                texts.into_iter().map(|(text, n)| (column.name.clone(), text.to_owned(), n));
            ledger.read_as_missing.extend(texts);
        }
        ledger.notes = self.noticed.notes(plan, source);
        for (account, lookup) in ledger.lookups.iter().zip(&plan.lookups) {
            ledger.notes.extend(alike_lookup_keys(plan, lookup, account));
        }
        ensure_matched(plan, &ledger)?;
        Ok(ledger)
    }

    fn lookup_accounts(&self, plan: &Plan) -> Vec<LookupAccount> {
        let one = |(i, found): (usize, &LookupUse)| {
            let mut keys: Vec<(String, u64)> =
                found.keys.iter().map(|(k, n)| (key_text(k), *n)).collect();
            keys.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
            LookupAccount {
                name: plan.lookups[i].lookup.table.name.clone(),
                unmatched: found.unmatched,
                dropped: plan.lookups[i].no_match == NoMatch::LeaveOut,
                keys,
                doubled: plan.lookups[i].lookup.doubled,
                unused: found.used.iter().filter(|u| !**u).count() as u64,
            }
        };
        self.found.iter().enumerate().map(one).collect()
    }
}

impl Share for RowWork {
    fn absorb(&mut self, other: RowWork, _: usize) -> Result<(), Error> {
        for (mine, theirs) in self.found.iter_mut().zip(other.found) {
            mine.unmatched += theirs.unmatched;
            mine.used.iter_mut().zip(theirs.used).for_each(|(a, b)| *a |= b);
            for (key, n) in theirs.keys {
                *mine.keys.entry(key).or_default() += n;
            }
        }
        self.noticed.absorb(other.noticed);
        self.read += other.read;
        self.counted += other.counted;
        self.left_out += other.left_out;
        self.left_out_missing += other.left_out_missing;
        for (mine, theirs) in [(&mut self.filter, &other.filter), (&mut self.row, &other.row)] {
            for (a, b) in mine.zero_divisions.iter_mut().zip(&theirs.zero_divisions) {
                *a += b;
            }
        }
        Ok(())
    }
}

/// Lookups that stop the run have a match for every row.
fn ensure_matched(plan: &Plan, ledger: &Ledger) -> Result<(), Error> {
    for (account, lookup) in ledger.lookups.iter().zip(&plan.lookups) {
        if account.unmatched > 0 && lookup.no_match == NoMatch::Stop {
            let keys: Vec<String> =
                account.keys.iter().take(5).map(|(k, n)| format!("'{k}' ({n})")).collect();
            return Err(Error::request_with_help(
                format!(
                    "{} rows have no match in {}: {}",
                    account.unmatched,
                    account.name,
                    keys.join(", ")
                ),
                "--no-match blank counts such rows, --no-match leave-out leaves them out",
            ));
        }
    }
    Ok(())
}

/// Whether the rows that count for a plan can be those of another one with the same condition: nothing else decides about
/// them, and whoever does not work the condition out misses nothing.
pub(crate) fn can_share_rows(plan: &Plan) -> bool {
    let is_quiet = |step: &Step| !matches!(step.op, Op::Divide);
    let is_input = |watch: &TextsWatch| matches!(watch.operand, Operand::Input(_));
    plan.condition.is_some()
        && !plan.drops()
        && plan.filter.steps.iter().all(is_quiet)
        && plan.watches.filter_texts.iter().all(is_input)
}

/// What makes the condition of a plan: its steps, with the columns that they are made of. Equal ones choose the same rows.
pub(crate) fn condition_of(plan: &Plan) -> impl Eq + Hash + use<> {
    let operand = |operand: &Operand| match operand {
        Operand::Input(i) => Operand::Input(plan.inputs[*i]),
        step => *step,
    };
    let step = |step: &Step| {
        let args: Vec<Operand> = step.args.iter().map(operand).collect();
        (step.op.clone(), args, step.arg_kinds.clone(), step.kind)
    };
    let steps: Vec<_> = plan.filter.steps.iter().map(step).collect();
    (steps, plan.condition.as_ref().map(operand))
}

/// How a column comes to who need not find the rows that count.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Comes {
    /// With all rows.
    Whole,
    /// Cut to the rows that count: nobody looks at the others of it.
    Cut,
    /// Without a value: nobody looks at any.
    Unseen,
}

/// How a column comes where the rows that count are known before.
pub(crate) fn comes(plan: &Plan, input: usize, met: &Met) -> Comes {
    let is_it = |watch: &&TextsWatch| watch.operand == Operand::Input(input);
    let mut watches = plan.watches.filter_texts.iter().filter(is_it);
    match (watches.all(|watch| codes_of(plan, watch.operand, met).is_some()), plan.needs(input)) {
        (false, _) => Comes::Whole,
        (true, true) => Comes::Cut,
        (true, false) => Comes::Unseen,
    }
}

/// The step that makes a column.
fn step_of(program: &Program, operand: Operand) -> &Step {
    match operand {
        Operand::Step(i) => &program.steps[i],
        Operand::Input(_) => unreachable!("the rows of a lookup are found by a step"),
    }
}

/// Enters divisions by zero into the ledger, under the words of the calculation.
pub(crate) fn note_zero_divisions(program: &Program, evaluator: &Evaluator, ledger: &mut Ledger) {
    for (step, &n) in program.steps.iter().zip(&evaluator.zero_divisions).filter(|(_, n)| **n > 0) {
        match ledger.divisions_by_zero.iter_mut().find(|d| *d.0 == *step.text) {
            Some(known) => known.1 += n,
            None => ledger.divisions_by_zero.push((step.text.to_string(), n)),
        }
    }
}

#[cfg(test)]
mod tests {
    use crate::Request;
    use crate::testing::{answer, rows, text};
    use rstest::rstest;

    const DATA: &str = "x:0 y:0\n1|2\n|0\n4|0\n5|\n";

    #[rstest]
    #[case("x > 1", 2, 1)]
    #[case("x > 1 and y = 0", 3, 2)]
    #[case("x is missing", 3, 0)]
    #[case("y > 0 or x > 4", 2, 1)]
    #[case("true", 0, 0)]
    #[case("x / y > 0", 3, 3)]
    fn rows_left_out_are_counted_and_those_for_want_of_a_value_apart(
        #[case] filter: &str,
        #[case] left_out: u64,
        #[case] missing: u64,
    ) {
        let request = Request { filters: vec![text(filter)], ..Request::of(&[], &["count()"]) };
        let (grid, ledger) = answer(&rows(DATA), &request).unwrap();
        assert_eq!((ledger.read, ledger.left_out, ledger.left_out_missing), (4, left_out, missing));
        assert_eq!(ledger.counted, 4 - left_out);
        assert_eq!(grid.cell(0, 0).to_string(), ledger.counted.to_string());
    }

    #[test]
    fn divisions_by_zero_count_on_rows_that_use_them() {
        let divisions = |filter: &str, show: &str| {
            let request = Request { filters: vec![text(filter)], ..Request::of(&[], &[show]) };
            answer(&rows(DATA), &request).unwrap().1.divisions_by_zero
        };
        let one = |n| vec![("x / y".to_owned(), n)];
        assert_eq!(divisions("true", "sum(x / y)"), one(1));
        assert_eq!(divisions("y > 0", "sum(x / y)"), []);
        assert_eq!(divisions("true", "sum(if(y = 0, 0, x / y))"), []);
        let both = [("x / y of --where".to_owned(), 1), ("x / y".to_owned(), 1)];
        assert_eq!(divisions("x / y > 0 or true", "sum(x / y)"), both);
    }
}
