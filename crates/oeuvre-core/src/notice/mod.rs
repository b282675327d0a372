//! What is noticed beside the work: data that may not be what it seems, and requests that may not mean what they
//! say.
//!
//! A pass keeps what its plan watches ([`Noticed`], mergeable like any share); when the rows have been seen it is
//! made into notes. Nothing here changes a figure. A note stands where it touches a figure and says what deals
//! with it; what is only usual is not told.
//!
//! To notice something else: a file here with what is kept of a batch and how two workers' are merged, and a
//! [`Topic`](oeuvre_columns::Topic) that says how telling it is.

mod alike;
mod days;
mod fields;
mod texts;
mod values;

pub(crate) use alike::{alike_labels, alike_lookup_keys, name_of};
pub(crate) use fields::{decode_mark, encode_mark};
use texts::counted_codes;
pub(crate) use texts::{Texts, total_among_rows};

use crate::aggregate::encoding::{Damaged, Decoder, Encoder};
use crate::plan::Plan;
use crate::rows::program::Operand;
use days::Days;
use fields::Fields;
use oeuvre_columns::column::{Column, Met};
use oeuvre_columns::{Note, Source};
use values::Values;

/// What a worker has noticed of the rows that it saw.
pub(crate) struct Noticed {
    pub(crate) fields: Fields,
    values: Values,
    filter_texts: Vec<Texts>,
    row_texts: Vec<Texts>,
    days: Vec<Days>,
}

/// Columns of a program, by their operands.
pub(crate) type ColumnOf<'a, 'c> = &'a dyn Fn(Operand) -> &'c Column;

impl Noticed {
    pub(crate) fn new(plan: &Plan) -> Noticed {
        let watches = &plan.watches;
        Noticed {
            fields: Fields::new(plan.inputs.len()),
            values: Values::new(watches.values.len()),
            filter_texts: vec![Texts::default(); watches.filter_texts.len()],
            row_texts: vec![Texts::default(); watches.row_texts.len()],
            days: vec![Days::default(); watches.days.len()],
        }
    }

    /// Looks at the rows of a batch before any is left out. What is counted for whoever has the same condition is counted
    /// once.
    pub(crate) fn look_at_all(
        &mut self,
        plan: &Plan,
        inputs: &[&Column],
        column: ColumnOf<'_, '_>,
        met: &mut Met,
    ) {
        if !met.known {
            count_codes(plan, inputs, met);
        }
        for (texts, watch) in self.filter_texts.iter_mut().zip(&plan.watches.filter_texts) {
            let column = column(watch.operand);
            match codes_of(plan, watch.operand, met) {
                Some(counted) => texts.add(&column.dictionary, counted),
                None => texts.look_at(column),
            }
        }
        for (i, input) in inputs.iter().enumerate().filter(|(i, _)| !plan.needs(*i)) {
            self.fields.look_at(i, input);
        }
    }

    /// Looks at the rows of a batch that count.
    pub(crate) fn look_at_counted(
        &mut self,
        plan: &Plan,
        inputs: &[&Column],
        column: ColumnOf<'_, '_>,
        rows: usize,
    ) {
        for (i, input) in inputs.iter().enumerate() {
            if plan.needs(i) || !plan.filters() {
                self.fields.look_at(i, input);
            }
        }
        self.values.look_at(&plan.watches.values, column, rows);
        for (texts, watch) in self.row_texts.iter_mut().zip(&plan.watches.row_texts) {
            texts.look_at(column(watch.operand));
        }
        for (days, watch) in self.days.iter_mut().zip(&plan.watches.days) {
            days.look_at(column(watch.operand));
        }
    }

    /// Takes in what another worker has noticed.
    pub(crate) fn absorb(&mut self, other: Noticed) {
        self.fields.absorb(other.fields);
        self.values.absorb(&other.values);
        let texts = self.filter_texts.iter_mut().zip(&other.filter_texts);
        texts.chain(self.row_texts.iter_mut().zip(&other.row_texts)).for_each(|(a, b)| a.absorb(b));
        self.days.iter_mut().zip(&other.days).for_each(|(a, b)| a.absorb(b));
    }

    /// Writes down what was noticed.
    pub(crate) fn encode(&self, plan: &Plan, to: &mut Encoder) {
        self.fields.encode(plan, to);
        self.values.encode(&plan.watches.values, to);
        for (texts, watches) in [
            (&self.filter_texts, &plan.watches.filter_texts),
            (&self.row_texts, &plan.watches.row_texts),
        ] {
            to.count(texts.len());
            for (texts, watch) in texts.iter().zip(watches) {
                to.text(&watch.name);
                texts.encode(to);
            }
        }
        to.count(self.days.len());
        for (days, watch) in self.days.iter().zip(&plan.watches.days) {
            to.text(&format!("{:?}", watch.units));
            days.encode(to);
        }
    }

    /// Reads what was written down for a plan over columns of narrower kinds, which may watch less: a column without a
    /// value is neither one of texts nor one of dates.
    pub(crate) fn decode(plan: &Plan, from: &mut Decoder<'_>) -> Result<Noticed, Damaged> {
        let mut it = Noticed::new(plan);
        it.fields.decode(plan, from)?;
        it.values.decode(&plan.watches.values, from)?;
        for (texts, watches) in [
            (&mut it.filter_texts, &plan.watches.filter_texts),
            (&mut it.row_texts, &plan.watches.row_texts),
        ] {
            let mut next = 0;
            for _ in 0..from.count()? {
                let name = from.text()?;
                let found = Texts::decode(from)?;
                let place = watches.iter().skip(next).position(|watch| &*watch.name == name);
                next += place.ok_or(Damaged)?;
                texts[next] = found;
                next += 1;
            }
        }
        let mut next = 0;
        for _ in 0..from.count()? {
            let units = from.text()?;
            let found = Days::decode(from)?;
            let is_it = |watch: &crate::plan::DaysWatch| format!("{:?}", watch.units) == units;
            let place = plan.watches.days.iter().skip(next).position(is_it);
            next += place.ok_or(Damaged)?;
            it.days[next] = found;
            next += 1;
        }
        Ok(it)
    }

    /// What there is to tell, when all rows have been seen.
    pub(crate) fn notes(&self, plan: &Plan, source: &dyn Source) -> Vec<Note> {
        let mut notes = plan.notes.clone();
        notes.extend(source.notes(&plan.inputs));
        notes.extend(self.fields.notes(plan, source));
        notes.extend(self.values.notes(plan, &self.fields));
        for (all, watches, whose) in [
            (&self.filter_texts, &plan.watches.filter_texts, "row"),
            (&self.row_texts, &plan.watches.row_texts, "row that counts"),
        ] {
            for (texts, watch) in all.iter().zip(watches) {
                notes.extend(texts.notes(plan, watch, whose));
            }
        }
        for (days, watch) in self.days.iter().zip(&plan.watches.days) {
            notes.extend(days.notes(plan, watch));
        }
        notes
    }
}

/// Counts the codes of each column whose texts the condition compares.
fn count_codes(plan: &Plan, inputs: &[&Column], met: &mut Met) {
    let mut counted = 0;
    for watch in &plan.watches.filter_texts {
        let Operand::Input(input) = watch.operand else { continue };
        let column = plan.inputs[input];
        if met.codes[..counted].iter().any(|known| known.0 == column) {
            continue;
        }
        if met.codes.len() == counted {
            met.codes.push((column, Vec::new()));
        }
        let (of, codes) = &mut met.codes[counted];
        *of = column;
        counted_codes(inputs[input], codes);
        counted += 1;
    }
    met.codes.truncate(counted);
}

/// How many rows have each code of a column, as far as it was counted.
pub(crate) fn codes_of<'m>(plan: &Plan, operand: Operand, met: &'m Met) -> Option<&'m [[u32; 4]]> {
    let Operand::Input(input) = operand else { return None };
    let (_, codes) = met.codes.iter().find(|known| known.0 == plan.inputs[input])?;
    (!codes.is_empty()).then_some(codes)
}

/// The heading of the column that an operand of a program over rows is, if it is one.
fn column_of(plan: &Plan, operand: Operand) -> Option<&str> {
    match operand {
        Operand::Input(i) => plan.columns.get(*plan.inputs.get(i)?).map(|c| c.name.as_str()),
        Operand::Step(_) => None,
    }
}

/// A word for one and another for several.
fn plural(n: u64, one: &'static str, many: &'static str) -> &'static str {
    if n == 1 { one } else { many }
}
