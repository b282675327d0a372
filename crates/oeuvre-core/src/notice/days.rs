//! Which days have rows: periods that have none, and a first or last one that does not have all its days.

use super::{Note, Plan, column_of};
use crate::aggregate::encoding::{Damaged, Decoder, Encoder};
use crate::plan::DaysWatch;
use oeuvre_columns::Topic;
use oeuvre_columns::column::{Column, Data, MISSING_I32, MISSING_I64};
use oeuvre_columns::value::calendar::{DAY_MICROS, FIRST_DAY, LAST_DAY, Period, Unit, date_text};

/// A set of days, one bit each from the first that can be written.
#[derive(Clone, Default)]
pub(super) struct Days {
    bits: Vec<u64>,
    /// Scratch: which days of a batch have rows, from its first one on.
    seen: Vec<bool>,
}

/// How many periods without rows are named.
const NAMED: usize = 4;

impl Days {
    pub(super) fn look_at(&mut self, column: &Column) {
        match &column.data {
            Data::I32(days) => {
                // Missing is the smallest number: no later one is asked for, and as the one before it no earlier one.
                let last = days.iter().copied().max().unwrap_or(MISSING_I32);
                let first = days.iter().map(|day| day.wrapping_sub(1)).min().unwrap_or(i32::MAX);
                if last == MISSING_I32 || self.has_all(first.wrapping_add(1), last) {
                    return;
                }
                self.mark(days, first.wrapping_add(1), last);
            }
            Data::I64(times) => {
                // Most rows fall on the day of the one before.
                let mut today = 0..0;
                for &time in times.iter().filter(|t| **t != MISSING_I64) {
                    if !today.contains(&time) {
                        let day = time.div_euclid(DAY_MICROS);
                        today = day * DAY_MICROS..(day + 1) * DAY_MICROS;
                        self.set(day as i32);
                    }
                }
            }
            _ => {}
        }
    }

    /// Writes days down, the first and last of which are these.
    fn mark(&mut self, days: &[i32], first: i32, last: i32) {
        let span = last.abs_diff(first) as usize + 1;
        if span <= days.len() {
            // A byte each is written without a look at what was there; what is missing lies beyond the last one.
            self.seen.clear();
            self.seen.resize(span, false);
            for &day in days {
                if let Some(seen) = self.seen.get_mut(day.wrapping_sub(first) as u32 as usize) {
                    *seen = true;
                }
            }
            for place in 0..span {
                if self.seen.get(place) == Some(&true) {
                    self.set(first + place as i32);
                }
            }
            return;
        }
        days.iter().filter(|day| **day != MISSING_I32).for_each(|&day| self.set(day));
    }

    /// Whether all days from one to another one are known.
    fn has_all(&self, first: i32, last: i32) -> bool {
        let at = |day: i32| (day.clamp(FIRST_DAY, LAST_DAY) - FIRST_DAY) as usize;
        let (first, last) = (at(first), at(last));
        let Some(words) = self.bits.get(first / 64..=last / 64) else { return false };
        let wanted = |place: usize| {
            let from = if place == 0 { u64::MAX << (first % 64) } else { u64::MAX };
            let to = if place + 1 == words.len() { u64::MAX >> (63 - last % 64) } else { u64::MAX };
            from & to
        };
        words.iter().enumerate().all(|(place, word)| !word & wanted(place) == 0)
    }

    /// Makes room for a day.
    fn grow(&mut self, day: i32) {
        let words = (day.clamp(FIRST_DAY, LAST_DAY) - FIRST_DAY) as usize / 64 + 1;
        if words > self.bits.len() {
            self.bits.resize(words, 0);
        }
    }

    fn set(&mut self, day: i32) {
        self.grow(day);
        let at = (day.clamp(FIRST_DAY, LAST_DAY) - FIRST_DAY) as usize;
        self.bits[at / 64] |= 1 << (at % 64);
    }

    pub(super) fn encode(&self, to: &mut Encoder) {
        let days = self.days();
        to.count(days.len());
        let mut before = FIRST_DAY;
        for day in days {
            to.unsigned((day - before) as u128);
            before = day;
        }
    }

    pub(super) fn decode(from: &mut Decoder<'_>) -> Result<Days, Damaged> {
        let (mut it, mut day) = (Days::default(), i128::from(FIRST_DAY));
        for _ in 0..from.count()? {
            day += i128::from(from.word()?);
            match i32::try_from(day) {
                Ok(day) if day <= LAST_DAY => it.set(day),
                _ => return Err(Damaged),
            }
        }
        Ok(it)
    }

    pub(super) fn absorb(&mut self, other: &Days) {
        if self.bits.len() < other.bits.len() {
            self.bits.resize(other.bits.len(), 0);
        }
        self.bits.iter_mut().zip(&other.bits).for_each(|(a, b)| *a |= b);
    }

    /// The days in their order.
    fn days(&self) -> Vec<i32> {
        let words = self.bits.iter().enumerate().filter(|(_, w)| **w != 0);
        let of_word = |(i, &word): (usize, &u64)| {
            (0..64)
                .filter(move |b| word >> b & 1 == 1)
                .map(move |b| FIRST_DAY + (i * 64 + b) as i32)
        };
        words.flat_map(of_word).collect()
    }

    pub(super) fn notes(&self, plan: &Plan, watch: &DaysWatch) -> Vec<Note> {
        let days = self.days();
        let name = column_of(plan, watch.operand);
        let mut notes = incomplete(&days, watch, name);
        notes.extend(gaps(&days, watch, plan));
        notes
    }
}

/// A first or last period that ends before its last day, or begins after its first: by more than days with rows lie
/// apart, and than other periods of the unit do.
fn incomplete(days: &[i32], watch: &DaysWatch, name: Option<&str>) -> Vec<Note> {
    let ([first, .., last], Some(gap)) = (days, days.windows(2).map(|d| d[1] - d[0]).max()) else {
        return Vec::new();
    };
    let (mut begins, mut ends) = (Vec::new(), Vec::new());
    let mut units = watch.units.clone();
    units.sort_unstable_by_key(|u| std::cmp::Reverse(u.length()));
    for unit in units {
        let period = |day: i32| Period { unit, index: unit.of_day(day) };
        let after = |day: i32| period(day).last_day() - day;
        let before = |day: i32| day - period(day).first_day();
        // The last and the first day with rows of each period but the one looked at.
        let turns = || days.windows(2).filter(|d| period(d[0]) != period(d[1]));
        if after(*last) > gap.max(turns().map(|d| after(d[0])).max().unwrap_or(0)) {
            ends.push(period(*last).to_string());
        }
        if before(*first) > gap.max(turns().map(|d| before(d[1])).max().unwrap_or(0)) {
            begins.push(period(*first).to_string());
        }
    }
    let of = name.map_or(String::new(), |name| format!(" in {name}"));
    let told = |periods: &[String], one: &str, many: &str, day: i32| {
        let (verb, is) = if periods.len() == 1 { (one, "is") } else { (many, "are") };
        let all = periods.join(" and ");
        let text = format!("{all} {verb} on {}{of}, and {is} not complete", date_text(day));
        Note::new(Topic::Incomplete, text)
    };
    let mut notes = Vec::new();
    if !ends.is_empty() {
        notes.push(told(&ends, "ends", "end", *last));
    }
    if !begins.is_empty() {
        notes.push(told(&begins, "begins", "begin", *first));
    }
    notes
}

/// Periods without rows between the first and the last: where something walks along them, or where they are few.
fn gaps(days: &[i32], watch: &DaysWatch, plan: &Plan) -> Option<Note> {
    let unit = watch.walked.or_else(|| {
        let units = watch.units.iter().copied().filter(|u| *u >= Unit::Month);
        units.min_by_key(|u| u.length())
    })?;
    let mut places: Vec<i32> = days.iter().map(|&d| unit.of_day(d)).collect();
    places.dedup();
    let missing: Vec<i32> = places.windows(2).flat_map(|p| p[0] + 1..p[1]).collect();
    let is_few = missing.len() * 4 <= places.len();
    if missing.is_empty() || (watch.walked.is_none() && !is_few) {
        return None;
    }
    let filled = plan.fill.iter().flatten().any(|f| *f == crate::plan::Fill::Periods);
    if filled && watch.walked.is_none() {
        return None;
    }
    let named: Vec<String> =
        missing.iter().take(NAMED).map(|&index| Period { unit, index }.to_string()).collect();
    let more = match missing.len().saturating_sub(NAMED) {
        0 => String::new(),
        n => format!(" and {n} more"),
    };
    let shown = if filled { "" } else { "; --every-period shows such periods" };
    Some(Note::new(Topic::Gaps, format!("no rows in {}{more}{shown}", named.join(", "))))
}

#[cfg(test)]
mod tests {
    use crate::testing::{answer, rows};
    use crate::{Plan, Request};
    use oeuvre_columns::value::calendar::{date_text, parse_date};
    use rstest::rstest;

    /// The notes on a table by month over some days, each given as its first day, how many follow, and the steps.
    fn told(runs: &[(&str, i32, usize)], by: &[&str], show: &str) -> Vec<String> {
        let days = runs.iter().flat_map(|&(first, n, step)| {
            let first = parse_date(first).unwrap();
            (0..n).step_by(step).map(move |d| date_text(first + d))
        });
        let data = rows(&format!("d:date\n{}", days.map(|d| d + "\n").collect::<String>()));
        let request = Request::of(by, &[show]);
        let one = answer(&data, &request).unwrap().1;
        let plan = Plan::new(&request, oeuvre_columns::Source::columns(&data)).unwrap();
        let two = crate::run(&plan, &data.in_batches(3), 2).unwrap().1;
        assert_eq!(one.notes, two.notes);
        one.notes.into_iter().map(|note| note.text).collect()
    }

    #[rstest]
    #[case::whole_months(&[("2025-01-01", 90, 1)], &[])]
    #[case::a_day_short(&[("2025-01-01", 89, 1)], &[])]
    #[case::half_a_month(&[("2025-01-01", 70, 1)], &["2025-03 ends on 2025-03-11 in d, and is not complete"])]
    #[case::a_late_start(&[("2025-01-10", 81, 1)], &["2025-01 begins on 2025-01-10 in d, and is not complete"])]
    // A step of a week, and of a month: the last day is as far from the end as days lie apart.
    #[case::weekly(&[("2025-01-06", 84, 7)], &[])]
    #[case::one_row_a_month(&[("2025-01-15", 1, 1), ("2025-02-15", 1, 1), ("2025-03-15", 1, 1)], &[])]
    #[case::one_day(&[("2025-03-14", 1, 1)], &[])]
    fn a_period_is_told_where_days_with_rows_end_before_it(
        #[case] runs: &[(&str, i32, usize)],
        #[case] notes: &[&str],
    ) {
        assert_eq!(told(runs, &["month(d)"], "count()"), notes);
    }

    #[rstest]
    // Few gaps are told, and all where something walks along them.
    #[case(&["month(d)"], "count()", "")]
    #[case(&["month(d)"], "growth(count())", "no rows in 2025-02, 2025-04, 2025-05, 2025-06 and 1 more; ")]
    #[case(&["quarter(d)", "month(d)"], "lag(count() along quarter)", "no rows in 2025-Q2; ")]
    fn periods_without_rows_are_told_where_they_matter(
        #[case] by: &[&str],
        #[case] show: &str,
        #[case] said: &str,
    ) {
        let runs = [("2025-01-01", 31, 1), ("2025-03-01", 31, 1), ("2025-08-01", 31, 1)];
        let notes = told(&runs, by, show);
        let gaps: Vec<&String> = notes.iter().filter(|n| n.starts_with("no rows")).collect();
        match said {
            "" => assert!(gaps.is_empty(), "{gaps:?}"),
            said => assert!(gaps[0].starts_with(said), "{gaps:?}"),
        }
    }
}
