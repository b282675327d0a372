//! Operators: arithmetic, comparisons, lists and periods.
//!
//! Numbers that meet are brought to one scale, or to binary64 where one of them is; text beside a date is read as
//! a date, and beside anything else kinds must agree. What is exact stays exact: the digits of a product add up,
//! and where that may be more than 38 the calculation moves to binary64, which explain says.

use super::{At, Checked, Checker, Typed};
use crate::error::{Cause, Diagnostic};
use crate::language::ast::{Expr, Node, Operator};
use crate::language::functions;
use crate::rows::program::{Op, Set, TextTest};
use oeuvre_columns::value::calendar::{Part, Period, Unit, parse_date, parse_datetime};
use oeuvre_columns::value::decimal::MAX_DIGITS;
use oeuvre_columns::value::{Comparison, Kind, Value};
use std::sync::Arc;

/// Whether values of a kind have a place in the calendar.
fn in_time(kind: Kind) -> bool {
    matches!(kind, Kind::Date | Kind::DateTime | Kind::Period(_) | Kind::Part(_))
}

impl Checker {
    /// A condition, or its opposite where `negated`: missing stays missing.
    pub(super) fn negated(&mut self, at: At<'_>, it: Typed, negated: bool) -> Typed {
        if negated { self.tree.apply(at.text(), Op::Not, &[it], Kind::Boolean) } else { it }
    }

    /// A number, or a mistake that says what else there is.
    pub(super) fn number(&mut self, at: At<'_>) -> Checked<Typed> {
        let built = self.check(at)?;
        self.ensure_number(at, built.kind)?;
        Ok(self.fitted(built, Kind::Number { scale: 0 }))
    }

    /// A mistake where a calculation is no number.
    fn ensure_number(&self, at: At<'_>, kind: Kind) -> Checked<()> {
        if kind.is_number() {
            return Ok(());
        }
        let text = at.text();
        let message = format!("expected a number, found {}", kind.describe());
        let mut it =
            at.mistake(message).label(format!("`{text}` is {}", kind.describe())).of_kinds();
        if let Node::Name { table: None, name } = &at.expr.node
            && kind == Kind::Text
            && self.columns.iter().any(|c| c.name == *name)
        {
            it = it.help(self.type_help(name, "number"));
        }
        Err(it)
    }

    /// A number as binary64; what is binary64 stays as it is.
    pub(super) fn as_float(&mut self, text: &str, it: Typed) -> Typed {
        match it.kind {
            Kind::Number { .. } => self.tree.apply(text, Op::ToFloat, &[it], Kind::Float),
            Kind::Nothing => self.tree.constant(text, Value::Missing, Kind::Float),
            _ => it,
        }
    }

    /// An exact number with so many digits after the point, at least as many as it has; binary64 stays.
    pub(super) fn at_scale(&mut self, text: &str, it: Typed, scale: u8) -> Typed {
        match it.kind {
            Kind::Number { scale: own } if own < scale => {
                // What is the same everywhere is not worked out for each row.
                if let super::tree::Node::Apply { op: Op::Constant(value), .. } =
                    self.tree.node(it.id)
                    && let Value::Number(number) = value
                    && number.rescale(scale).is_some()
                {
                    return self.tree.constant(text, value.clone(), Kind::Number { scale });
                }
                self.tree.apply(text, Op::ScaleUp(scale - own), &[it], Kind::Number { scale })
            }
            _ => it,
        }
    }

    /// Brings numbers to one kind: the largest scale, or binary64 where one of them is.
    pub(super) fn align(&mut self, text: &str, all: &mut [Typed]) -> Kind {
        let scale = all
            .iter()
            .map(|b| if let Kind::Number { scale } = b.kind { scale } else { 0 })
            .max()
            .unwrap_or(0);
        let float = all.iter().any(|b| b.kind == Kind::Float);
        for it in all.iter_mut() {
            *it = if float { self.as_float(text, *it) } else { self.at_scale(text, *it, scale) };
        }
        if float { Kind::Float } else { Kind::Number { scale } }
    }

    /// An operator between two values, and what it means for the kinds of these.
    pub(super) fn binary(
        &mut self,
        at: At<'_>,
        operator: Operator,
        a: &Expr,
        b: &Expr,
    ) -> Checked<Typed> {
        let text = at.text();
        let op = match operator {
            Operator::And | Operator::Or => {
                let both = [self.condition(at.on(a))?, self.condition(at.on(b))?];
                let op = if operator == Operator::And { Op::And } else { Op::Or };
                return Ok(self.tree.apply(text, op, &both, Kind::Boolean));
            }
            Operator::Compare(how) => return self.compare(at, a, how, b),
            Operator::Add => Op::Add,
            Operator::Subtract => Op::Subtract,
            Operator::Multiply => Op::Multiply,
            Operator::Divide => Op::Divide,
        };
        let mut both = match operator {
            Operator::Add | Operator::Subtract => {
                let both = self.beside_each_other(at, operator, a, b)?;
                if both.iter().any(|x| in_time(x.kind)) {
                    return self.moved(at, operator, [a, b], both);
                }
                both
            }
            _ => [self.check(at.on(a))?, self.check(at.on(b))?],
        };
        self.ensure_number(at.on(a), both[0].kind)?;
        self.ensure_number(at.on(b), both[1].kind)?;
        both = both.map(|it| self.fitted(it, Kind::Number { scale: 0 }));
        if operator == Operator::Multiply {
            if let [Kind::Number { scale: x }, Kind::Number { scale: y }] = both.map(|b| b.kind)
                && x + y <= MAX_DIGITS
            {
                return Ok(self.tree.apply(text, op, &both, Kind::Number { scale: x + y }));
            }
            both = both.map(|b| self.as_float(text, b));
            return Ok(self.tree.apply(text, op, &both, Kind::Float));
        }
        let kind = self.align(text, &mut both);
        let kind = if operator == Operator::Divide { Kind::Float } else { kind };
        Ok(self.tree.apply(text, op, &both, kind))
    }

    /// Both sides of a sum or difference; a literal takes its kind from a date or period beside it.
    fn beside_each_other(
        &mut self,
        at: At<'_>,
        operator: Operator,
        a: &Expr,
        b: &Expr,
    ) -> Checked<[Typed; 2]> {
        let literal = |e: &Expr| matches!(e.node, Node::Text(_) | Node::Missing);
        if literal(a) && !literal(b) {
            let right = self.check(at.on(b))?;
            let left = match in_time(right.kind) && operator == Operator::Subtract {
                true => self.beside(at.on(a), right.kind)?,
                false => self.check(at.on(a))?,
            };
            return Ok([left, right]);
        }
        let left = self.check(at.on(a))?;
        let right = match in_time(left.kind) && literal(b) && operator == Operator::Subtract {
            true => self.beside(at.on(b), left.kind)?,
            false => self.check(at.on(b))?,
        };
        Ok([left, right])
    }

    /// A sum or difference in which a date, a datetime or a period stands.
    fn moved(
        &mut self,
        at: At<'_>,
        operator: Operator,
        [a, b]: [&Expr; 2],
        [left, right]: [Typed; 2],
    ) -> Checked<Typed> {
        let text = at.text();
        let day = |it: &mut Self, x: Typed| match x.kind {
            Kind::DateTime => it.tree.apply(text, Op::TimeToDate, &[x], Kind::Date),
            Kind::Period(Unit::Day) => Typed { kind: Kind::Date, ..x },
            _ => x,
        };
        let is_day = |k: Kind| matches!(k, Kind::Date | Kind::Period(Unit::Day));
        let whole = Kind::Number { scale: 0 };
        match (operator, left.kind, right.kind) {
            (Operator::Subtract, Kind::DateTime, Kind::DateTime) => {
                let both = [left, right];
                return Ok(self.tree.apply(text, Op::TimeBetween, &both, Kind::Float));
            }
            (Operator::Subtract, x, y)
                if (is_day(x) || x == Kind::DateTime) && (is_day(y) || y == Kind::DateTime) =>
            {
                let both = [day(self, left), day(self, right)];
                return Ok(self.tree.apply(text, Op::StepsBetween, &both, whole));
            }
            (Operator::Subtract, Kind::Period(x), Kind::Period(y)) if x == y => {
                let both = [left, right];
                return Ok(self.tree.apply(text, Op::StepsBetween, &both, whole));
            }
            (
                Operator::Add | Operator::Subtract,
                Kind::Date | Kind::DateTime | Kind::Period(_),
                n,
            ) if n.is_number() => {
                let n = self.whole_steps(at.on(b), left.kind, right)?;
                let n = match operator {
                    Operator::Subtract => self.tree.apply(text, Op::Negate, &[n], n.kind),
                    _ => n,
                };
                return Ok(self.tree.apply(text, Op::Later, &[left, n], left.kind));
            }
            (Operator::Add, n, Kind::Date | Kind::DateTime | Kind::Period(_)) if n.is_number() => {
                let n = self.whole_steps(at.on(a), right.kind, left)?;
                return Ok(self.tree.apply(text, Op::Later, &[right, n], right.kind));
            }
            _ => {}
        }
        let message = format!(
            "{} and {} do not go together with `{}`",
            left.kind.describe(),
            right.kind.describe(),
            operator.text()
        );
        let mut it =
            at.mistake(message).label("dates and periods are counted in days or units").of_kinds();
        it = it.help("the days between two dates: d - e; so many days later: d + 3; months: add_months(d, 3)");
        Err(it.help("two periods must be of one unit: month(d) - month(e)"))
    }

    /// So many days or units, which are whole unless a time is moved.
    fn whole_steps(&self, at: At<'_>, moved: Kind, n: Typed) -> Checked<Typed> {
        if moved == Kind::DateTime || matches!(n.kind, Kind::Number { scale: 0 }) {
            return Ok(n);
        }
        let text = at.text();
        let message = format!("{} moves by whole steps", moved.describe());
        Err(at
            .mistake(message)
            .label("this may have a fraction")
            .of_kinds()
            .help(format!("write round({text}), floor({text}) or ceiling({text})")))
    }

    /// `value between low and high`, the value built once.
    pub(super) fn between(&mut self, at: At<'_>, [value, low, high]: [&Expr; 3]) -> Checked<Typed> {
        let text = at.text();
        // A literal takes its kind from the bounds.
        let (low, high) = if matches!(value.node, Node::Text(_) | Node::Missing) {
            (
                self.compare(at, value, Comparison::GreaterEqual, low)?,
                self.compare(at, value, Comparison::LessEqual, high)?,
            )
        } else {
            let built = (value, self.check(at.on(value))?);
            (
                self.compare_checked(at, built, Comparison::GreaterEqual, low)?,
                self.compare_checked(at, built, Comparison::LessEqual, high)?,
            )
        };
        Ok(self.tree.apply(text, Op::And, &[low, high], Kind::Boolean))
    }

    /// A value without any of its own, as a value of a kind that is wanted: missing everywhere.
    pub(super) fn fitted(&mut self, it: Typed, kind: Kind) -> Typed {
        match it.kind {
            Kind::Nothing if kind != Kind::Nothing => {
                self.tree.constant("missing", Value::Missing, kind)
            }
            _ => it,
        }
    }

    /// Builds a calculation beside one of a known kind: text beside a date is read as a date.
    pub(super) fn beside(&mut self, at: At<'_>, kind: Kind) -> Checked<Typed> {
        let text = at.text();
        if matches!(at.expr.node, Node::Missing) {
            return Ok(self.tree.constant(text, Value::Missing, kind));
        }
        if let Some(year) = year_number(at.expr, kind) {
            return Ok(self.tree.constant(text, Value::Period(year), kind));
        }
        let Node::Text(t) = &at.expr.node else {
            let built = self.check(at)?;
            return Ok(self.fitted(built, kind));
        };
        if !in_time(kind) {
            return self.check(at);
        }
        let (value, kind) = self.literal(at, t, kind)?;
        Ok(self.tree.constant(text, value, kind))
    }

    /// A text beside a date, a period or a part of the calendar, read as one.
    fn literal(&self, at: At<'_>, t: &str, kind: Kind) -> Checked<(Value, Kind)> {
        let text = at.text();
        let (value, expected) = match kind {
            Kind::Date => match (parse_date(t), parse_datetime(t)) {
                (None, Some(time)) => (Some((Value::DateTime(time), Kind::DateTime)), ""),
                (day, _) => (day.map(|d| (Value::Date(d), kind)), "a date such as '2025-03-14'"),
            },
            Kind::DateTime => match (parse_date(t), parse_datetime(t)) {
                (Some(day), _) => (Some((Value::Date(day), Kind::Date)), ""),
                (_, time) => (
                    time.map(|t| (Value::DateTime(t), kind)),
                    "a date and time such as '2025-03-14T09:30'",
                ),
            },
            Kind::Period(unit) => (
                Period::parse_of(unit, t).map(|p| (Value::Period(p), kind)),
                match unit {
                    Unit::Day => "a day such as '2025-03-14'",
                    Unit::Week => "a week such as '2025-W14'",
                    Unit::Month => "a month such as '2025-03'",
                    Unit::Quarter => "a quarter such as '2025-Q1'",
                    Unit::Half => "a half-year such as '2025-H1'",
                    Unit::Year => "a year such as '2025'",
                    Unit::FiscalQuarter(_) => "a quarter such as '2024/25-Q1'",
                    Unit::FiscalYear(_) => "a fiscal year such as '2024/25'",
                },
            ),
            Kind::Part(part) => (
                part.parse(t).map(|i| (Value::Part(part, i), kind)),
                "its name, such as 'Monday', 'March' or 'Q1'",
            ),
            _ => (None, ""),
        };
        match value {
            Some(found) => Ok(found),
            None => Err(at
                .mistake(format!("expected {expected}, found {text}"))
                .label("cannot be compared")
                .of_kinds()),
        }
    }

    /// A comparison: of numbers by value, of texts by code point, in time, of conditions false before true.
    pub(super) fn compare(
        &mut self,
        at: At<'_>,
        a: &Expr,
        how: Comparison,
        b: &Expr,
    ) -> Checked<Typed> {
        // A literal takes its kind from what it stands beside.
        if matches!(a.node, Node::Text(_) | Node::Missing | Node::Number(_))
            && !matches!(b.node, Node::Text(_) | Node::Missing | Node::Number(_))
        {
            return self.compare(at, b, how.flipped(), a);
        }
        let left = self.check(at.on(a))?;
        self.compare_checked(at, (a, left), how, b)
    }

    /// A comparison whose first side has been built.
    fn compare_checked(
        &mut self,
        at: At<'_>,
        (a, left): (&Expr, Typed),
        how: Comparison,
        b: &Expr,
    ) -> Checked<Typed> {
        let text = at.text();
        if matches!(b.node, Node::Missing) {
            let mut it = at.mistake("nothing is equal to missing");
            it = it.label("this would never hold");
            return Err(it.help("write `is missing` or `is not missing`"));
        }
        if let (Kind::Text, Node::Text(t)) = (left.kind, &b.node) {
            let t = self.spelling_of(left).map_or(t.as_str(), |spelling| spelling.of(t));
            let test = TextTest::Compare(how, Arc::from(t));
            return Ok(self.tree.apply(text, Op::Test(test), &[left], Kind::Boolean));
        }
        let right = self.beside(at.on(b), left.kind).map_err(|mistake| match &b.node {
            // Most who compare a text with an unknown name have left out the quotes; where they are double, that has been said.
            Node::Name { table: None, name }
                if left.kind == Kind::Text
                    && mistake.cause == Cause::NoSuchColumn
                    && !at.on(b).text().starts_with('"') =>
            {
                mistake.help(format!("text is written in single quotes: '{name}'"))
            }
            _ => mistake,
        })?;
        let mut both = [left, right];
        match both.map(|b| b.kind) {
            // What has no value compares with nothing.
            [Kind::Nothing, _] | [_, Kind::Nothing] => {
                return Ok(self.tree.constant(text, Value::Missing, Kind::Boolean));
            }
            [x, y] if x.is_number() && y.is_number() => {
                self.align(text, &mut both);
            }
            // A time beside a date is taken as its day: `d <= '2024-12-31'` holds all of that day.
            [Kind::Date | Kind::Period(Unit::Day), Kind::DateTime] => {
                both[1] = self.tree.apply(text, Op::TimeToDate, &[right], Kind::Date);
            }
            [Kind::DateTime, Kind::Date | Kind::Period(Unit::Day)] => {
                both[0] = self.tree.apply(text, Op::TimeToDate, &[left], Kind::Date);
            }
            [Kind::Date, Kind::Period(Unit::Day)] | [Kind::Period(Unit::Day), Kind::Date] => {}
            [x, y] if x == y => {}
            [x, y] => return Err(self.not_comparable(at, (a, x), how, (b, y))),
        }
        Ok(self.tree.apply(text, Op::Compare(how), &both, Kind::Boolean))
    }

    /// The mistake of a comparison of two kinds that have nothing in common, with what may be meant.
    fn not_comparable(
        &self,
        at: At<'_>,
        (a, x): (&Expr, Kind),
        how: Comparison,
        (b, y): (&Expr, Kind),
    ) -> Diagnostic {
        let message = format!("{} cannot be compared with {}", x.describe(), y.describe());
        let (l, r) = (at.on(a).text(), at.on(b).text());
        let mut it = at
            .mistake(message)
            .label(format!("`{l}` is {}, `{r}` is {}", x.describe(), y.describe()))
            .of_kinds();
        let part = match x {
            Kind::Period(unit @ Unit::Month) => Some((Part::MonthName, "'March'", unit.name())),
            Kind::Period(unit @ Unit::Quarter) => Some((Part::QuarterName, "'Q1'", unit.name())),
            _ => None,
        };
        if let (Some((part, example, of)), true) = (part, y.is_number()) {
            let function = functions::of_part(part);
            let within = l.strip_prefix(of).unwrap_or("(date)");
            it = it.help(format!(
                "the same {of} of every year: {function}{within} {} {example}",
                how.text()
            ));
        }
        if let (Kind::Date | Kind::DateTime | Kind::Period(_), Kind::Number { .. }) = (x, y) {
            it =
                it.help("dates and periods are written in quotes: '2025-03-14', '2025-03', '2025'");
        } else if x == Kind::Text && y.is_number() {
            it = match self.odd_help(at.on(a)) {
                Some(help) => it.help(help),
                None => it.help(format!("text is written in quotes: {l} {} '{r}'", how.text())),
            };
        }
        it
    }

    /// `value in (…)`, and `not in`: a set that is looked up in, however many items there are.
    pub(super) fn in_list(
        &mut self,
        at: At<'_>,
        value: &Expr,
        list: &[Expr],
        negated: bool,
    ) -> Checked<Typed> {
        let text = at.text();
        let texts: Option<Vec<String>> = list
            .iter()
            .map(|e| if let Node::Text(t) = &e.node { Some(t.clone()) } else { None })
            .collect();
        let left = self.check(at.on(value))?;
        if let (Kind::Text, Some(mut texts)) = (left.kind, texts) {
            if let Some(spelling) = self.spelling_of(left) {
                texts = texts.iter().map(|t| spelling.of(t).to_owned()).collect();
            }
            let test = TextTest::OneOf(Arc::new(Set::new(texts)));
            let it = self.tree.apply(text, Op::Test(test), &[left], Kind::Boolean);
            return Ok(self.negated(at, it, negated));
        }
        let (whole, others) = self.whole_items(at, left.kind, list)?;
        let mut any: Option<Typed> = None;
        if !whole.is_empty() {
            let days = match left.kind {
                Kind::DateTime => self.tree.apply(text, Op::TimeToDate, &[left], Kind::Date),
                _ => left,
            };
            let set = Set::new(whole.into_iter().flatten().collect());
            any = Some(self.tree.apply(text, Op::OneOf(Arc::new(set)), &[days], Kind::Boolean));
        }
        for item in others {
            let one = self.compare_checked(at, (value, left), Comparison::Equal, item)?;
            any = Some(match any {
                Some(any) => self.tree.apply(text, Op::Or, &[any, one], Kind::Boolean),
                None => one,
            });
        }
        let any = any.unwrap_or(left);
        Ok(self.negated(at, any, negated))
    }

    /// The literals of a list as the whole numbers that stand for them in a column of a kind (`None` for a
    /// number with more digits than the column has), and the items that are none.
    #[allow(clippy::type_complexity)]
    fn whole_items<'e>(
        &self,
        at: At<'_>,
        kind: Kind,
        list: &'e [Expr],
    ) -> Checked<(Vec<Option<i128>>, Vec<&'e Expr>)> {
        let (mut whole, mut others) = (Vec::new(), Vec::new());
        for item in list {
            let number = item.constant_number();
            if let Some(year) = year_number(item, kind) {
                whole.push(Some(i128::from(year.index)));
                continue;
            }
            let one = match (kind, &item.node, number) {
                (Kind::Number { scale }, _, Some(n)) => {
                    Some(n.trimmed().rescale(scale).map(|n| n.mantissa))
                }
                (
                    Kind::Date | Kind::DateTime | Kind::Period(_) | Kind::Part(_),
                    Node::Text(t),
                    _,
                ) => {
                    // A time among them is compared as a time.
                    let is_time = parse_date(t).is_none() && parse_datetime(t).is_some();
                    match kind {
                        Kind::Date | Kind::DateTime if is_time => None,
                        _ => match self.literal(at.on(item), t, kind)?.0 {
                            Value::Date(day) => Some(Some(i128::from(day))),
                            Value::Period(p) => Some(Some(i128::from(p.index))),
                            Value::Part(_, i) => Some(Some(i128::from(i))),
                            _ => None,
                        },
                    }
                }
                _ => None,
            };
            match one {
                Some(one) => whole.push(one),
                None => others.push(item),
            }
        }
        Ok((whole, others))
    }

    /// `date during period`: the days of the period that is written, such as `2025-Q1`.
    pub(super) fn during(&mut self, at: At<'_>, value: &Expr, period: &Expr) -> Checked<Typed> {
        let text = at.text();
        let dates = self.check(at.on(value))?;
        let dates = self.fitted(dates, Kind::Date);
        let dates = match dates.kind {
            Kind::Date | Kind::Period(Unit::Day) => Typed { kind: Kind::Date, ..dates },
            Kind::DateTime => self.tree.apply(text, Op::TimeToDate, &[dates], Kind::Date),
            kind => {
                let message = format!("`during` takes a date, found {}", kind.describe());
                return Err(at.on(value).mistake(message).label("this is no date").of_kinds());
            }
        };
        let Node::Text(range) = &period.node else {
            return Err(at
                .on(period)
                .mistake("expected a period after `during`")
                .label("write it in quotes, such as '2025-Q1' or '2024-10..2025-03'"));
        };
        let (first, last) = range.split_once("..").unwrap_or((range, range));
        let (Some(first), Some(last)) = (Period::parse(first.trim()), Period::parse(last.trim()))
        else {
            return Err(at.on(period).mistake(format!("'{range}' is no period")).label(
                "2025, 2025-H1, 2025-Q1, 2025-03, 2025-W14, 2025-03-14, or two of them with .. between",
            ));
        };
        if first.first_day() > last.last_day() {
            return Err(at.on(period).mistake("this range ends before it begins"));
        }
        let mut end = |day: i32, how: Comparison| {
            let day = self.tree.constant(text, Value::Date(day), Kind::Date);
            self.tree.apply(text, Op::Compare(how), &[dates, day], Kind::Boolean)
        };
        let from = end(first.first_day(), Comparison::GreaterEqual);
        let to = end(last.last_day(), Comparison::LessEqual);
        Ok(self.tree.apply(text, Op::And, &[from, to], Kind::Boolean))
    }
}

/// The year that a number means beside years: `year(d) = 2025`.
fn year_number(expr: &Expr, kind: Kind) -> Option<Period> {
    let Kind::Period(Unit::Year) = kind else { return None };
    let number = expr.constant_number()?.rescale(0)?.mantissa;
    Period::parse_of(Unit::Year, &format!("{number:04}"))
}

#[cfg(test)]
mod tests {
    use crate::testing::{kind as kind_of, on_rows, refusal, rows};
    use oeuvre_columns::Kind;
    use oeuvre_columns::value::calendar::Unit;
    use rstest::rstest;

    const ROWS: &str = "a:2 b:0 w:20 f:float t d:date at:time m:month p:bool\n";
    const WHOLE: Kind = Kind::Number { scale: 0 };
    const MONTH: Kind = Kind::Period(Unit::Month);

    #[rstest]
    #[case("a + b", Kind::Number { scale: 2 })]
    #[case("a * a - 1.5", Kind::Number { scale: 4 })]
    #[case("-a", Kind::Number { scale: 2 })]
    // More than 38 digits after the point have no exact number.
    #[case("w * w", Kind::Float)]
    #[case("a / b", Kind::Float)]
    #[case("a + f", Kind::Float)]
    #[case("d - d", WHOLE)]
    #[case("d - '2025-01-01'", WHOLE)]
    #[case("d + 1", Kind::Date)]
    #[case("1 + d", Kind::Date)]
    #[case("at - at", Kind::Float)]
    #[case("at + 0.5", Kind::DateTime)]
    #[case("m + b", MONTH)]
    #[case("m - m", WHOLE)]
    #[case("m - '2025-01'", WHOLE)]
    #[case("a = b or not p", Kind::Boolean)]
    #[case("d during '2025-Q1'", Kind::Boolean)]
    #[case("t in ('a', 'b')", Kind::Boolean)]
    #[case("a between 1 and f", Kind::Boolean)]
    fn an_operator_gives_values_of_a_kind(#[case] calc: &str, #[case] kind: Kind) {
        assert_eq!(kind_of(ROWS, &on_rows(calc)), kind, "{calc}");
    }

    #[rstest]
    #[case("a + t", "expected a number, found text")]
    #[case("t - 'x'", "expected a number, found text")]
    #[case("d + d", "a date and a date do not go together with `+`")]
    #[case("1 - d", "a number and a date do not go together with `-`")]
    #[case("d + a", "whole")]
    #[case("m - d", "a month")]
    #[case("a = t", "a number cannot be compared with text")]
    #[case("t in ('a', 1)", "a number")]
    #[case("m = '2025-Q1'", "expected a month such as '2025-03'")]
    #[case("t during '2025'", "date")]
    #[case("d during 'soon'", "'soon' is no period")]
    #[case("p and a", "expected a condition, found a number")]
    #[case("not t", "expected a condition, found text")]
    #[case("a = missing", "nothing is equal to missing")]
    fn what_does_not_go_together_is_said(#[case] calc: &str, #[case] said: &str) {
        let told = refusal(&rows(ROWS), &on_rows(calc));
        assert!(told.contains(said), "{calc}: {told}");
    }
}
