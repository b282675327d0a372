//! Calls of functions of single values: how many arguments, of which kinds, and the operation they become.
//!
//! If you add a scalar function, nothing changes here; a function with a loop of its own has an arm in
//! `row_call`.

use super::{At, Checked, Checker, Typed};
use crate::error::{Diagnostic, either};
use crate::language::ast::{Call as CallNode, Expr, Node};
use crate::language::functions::{Call, Distinct, Function, RowCall};
use crate::rows::program::Op;
use crate::rows::scalar::{Expect, Pattern, Scalar};
use oeuvre_columns::value::calendar::Unit;
use oeuvre_columns::value::decimal::Decimal;
use oeuvre_columns::value::pattern::DatePattern;
use oeuvre_columns::value::{BandBound, Bands, BandsId, Kind};

impl Checker {
    /// That a call has as many arguments as its function takes, and only clauses that it takes.
    pub(super) fn check_arguments(
        &self,
        at: At<'_>,
        call: &CallNode,
        function: &Function,
    ) -> Checked<()> {
        let (least, most) = function.arguments;
        let n = call.args.len();
        if n < least || n > most {
            let found = match n {
                0 => "none".to_owned(),
                n => n.to_string(),
            };
            let expected = match (least, most) {
                (1, 1) => "one argument".to_owned(),
                (a, b) if a == b => format!("{a} arguments"),
                (a, b) if b < 100 => format!("{a} or {b} arguments"),
                (_, b) if n > b => format!("at most {b} arguments"),
                (1, _) => "at least one argument".to_owned(),
                (a, _) => format!("at least {a} arguments"),
            };
            let message = format!("`{}` takes {expected}, found {found}", function.name);
            return Err(at.mistake(message).label(format!("write {}", function.usage)));
        }
        if let Some(distinct) = &call.distinct {
            let takes = match &function.call {
                Call::Aggregate(of) => !matches!(of.distinct, Distinct::Refused) && n > 0,
                _ => false,
            };
            if !takes {
                let message = format!("`{}` does not take `distinct`", function.name);
                return Err(Diagnostic::new(at.written, distinct.clone(), message)
                    .label("it stands before the argument of an aggregate of one value"));
            }
        }
        for clause in &call.clauses {
            if !function.clauses.contains(&clause.word) {
                let words: Vec<&str> = function.clauses.iter().map(|c| c.text()).collect();
                let takes = if words.is_empty() { "no clauses".to_owned() } else { either(&words) };
                let message = format!("`{}` does not take `{}`", function.name, clause.word.text());
                return Err(Diagnostic::new(at.written, clause.span.clone(), message)
                    .label(format!("it takes {takes}")));
            }
        }
        for (i, clause) in call.clauses.iter().enumerate() {
            if call.clauses[..i].iter().any(|c| c.word == clause.word) {
                let message = format!("`{}` is written twice", clause.word.text());
                return Err(Diagnostic::new(at.written, clause.span.clone(), message)
                    .label("join the two with `and`"));
            }
        }
        Ok(())
    }

    /// A call of a function of single values, in whatever context it stands.
    pub(super) fn row_call(
        &mut self,
        at: At<'_>,
        call: &CallNode,
        row: &RowCall,
    ) -> Checked<Typed> {
        let text = at.text();
        match *row {
            RowCall::If => self.if_call(at, call),
            RowCall::Coalesce => {
                let (args, kind) = self.same_kind(at, &call.args)?;
                Ok(self.tree.apply(text, Op::Coalesce, &args, kind))
            }
            RowCall::Extreme { largest } => {
                let (args, kind) = self.same_kind(at, &call.args)?;
                Ok(self.tree.apply(text, Op::Extreme { largest }, &args, kind))
            }
            RowCall::Absolute => {
                let a = self.number(at.on(&call.args[0]))?;
                Ok(self.tree.apply(text, Op::Absolute, &[a], a.kind))
            }
            RowCall::Round => self.rounded(at, call),
            RowCall::Period(unit) => {
                let a = self.date(at, call)?;
                Ok(self.tree.apply(text, Op::ToPeriod(unit), &[a], Kind::Period(unit)))
            }
            RowCall::Part(part) => {
                let a = self.date(at, call)?;
                Ok(self.tree.apply(text, Op::ToPart(part), &[a], Kind::Part(part)))
            }
            RowCall::Fiscal { quarter } => self.fiscal(at, call, quarter),
            RowCall::Band => {
                let a = self.number(at.on(&call.args[0]))?;
                let bands = bands(at, &call.args[1..])?;
                let scalar = Scalar::Band(bands, bands.bands());
                Ok(self.tree.apply(text, Op::Scalar(scalar), &[a], Kind::Band(bands)))
            }
            RowCall::Matches => self.matching(at, call),
            RowCall::Scalar(ref scalar) => {
                if let (Scalar::Date, Some(Node::Text(pattern))) =
                    (scalar, call.args.get(1).map(|p| &p.node))
                {
                    DatePattern::parse(pattern).map_err(|problem| {
                        let it = at.on(&call.args[1]);
                        it.mistake("this date pattern cannot be read").label(problem)
                    })?;
                }
                self.scalar(at, &call.args, scalar.clone())
            }
        }
    }

    /// A number rounded to some digits, from its exact parts where it has them.
    fn rounded(&mut self, at: At<'_>, call: &CallNode) -> Checked<Typed> {
        let text = at.text();
        let a = self.number(at.on(&call.args[0]))?;
        let digits = match call.args.get(1).map(|d| (&d.node, d)) {
            None => 0,
            Some((Node::Number(Decimal { mantissa, scale: 0 }), _))
                if (0..=12).contains(mantissa) =>
            {
                *mantissa as u8
            }
            Some((_, d)) => {
                let message = "expected how many digits to keep after the point";
                return Err(at.on(d).mistake(message).label("a whole number from 0 to 12"));
            }
        };
        let kind = Kind::Number { scale: digits };
        match (a.kind, self.ratio_of(a)) {
            (Kind::Number { scale }, _) if scale <= digits => Ok(a),
            (Kind::Float, Some([n, d])) => {
                Ok(self.tree.apply(text, Op::RoundRatio(digits), &[n, d, a], kind))
            }
            _ => Ok(self.tree.apply(text, Op::Round(digits), &[a], Kind::Number { scale: digits })),
        }
    }

    /// A period of a year that starts in some month.
    fn fiscal(&mut self, at: At<'_>, call: &CallNode, quarter: bool) -> Checked<Typed> {
        let text = at.text();
        let a = self.date(at, call)?;
        let month = call.args[1]
            .constant_number()
            .and_then(|n| n.rescale(0))
            .filter(|n| (1..=12).contains(&n.mantissa));
        let Some(month) = month.map(|n| n.mantissa as u8) else {
            return Err(at
                .on(&call.args[1])
                .mistake("expected the month in which the year starts")
                .label("a whole number from 1 to 12"));
        };
        let unit = if quarter { Unit::FiscalQuarter(month) } else { Unit::FiscalYear(month) };
        Ok(self.tree.apply(text, Op::ToPeriod(unit), &[a], Kind::Period(unit)))
    }

    /// Whether a regular expression is found in a text.
    fn matching(&mut self, at: At<'_>, call: &CallNode) -> Checked<Typed> {
        let pattern = &call.args[1];
        let Node::Text(regex) = &pattern.node else {
            return Err(at
                .on(pattern)
                .mistake("expected a regular expression")
                .label("write it in single quotes"));
        };
        let regex = regex::RegexBuilder::new(regex).size_limit(1 << 20).build().map_err(|e| {
            let reason = e.to_string();
            let reason = reason.lines().last().unwrap_or_default().trim_start_matches("error: ");
            at.on(pattern)
                .mistake("this regular expression cannot be read")
                .label(reason.to_owned())
        })?;
        self.scalar(at, &call.args[..1], Scalar::Matches(Pattern(regex)))
    }

    /// Builds a function of single values.
    pub(super) fn scalar(&mut self, at: At<'_>, exprs: &[Expr], scalar: Scalar) -> Checked<Typed> {
        let text = at.text();
        let expects = scalar.expects();
        let mut args = Vec::new();
        for (i, arg) in exprs.iter().enumerate() {
            let expect = expects[i.min(expects.len() - 1)];
            let built = match expect {
                Expect::Date | Expect::Period => self.beside(at.on(arg), Kind::Date)?,
                Expect::DateTime => self.beside(at.on(arg), Kind::DateTime)?,
                _ => self.check(at.on(arg))?,
            };
            let built = match expect.kind() {
                Some(kind) => self.fitted(built, kind),
                None => built,
            };
            if !expect.takes(built.kind) {
                let message =
                    format!("expected {}, found {}", expect.describe(), built.kind.describe());
                let mut it = at
                    .on(arg)
                    .mistake(message)
                    .label(format!("this is {}", built.kind.describe()))
                    .of_kinds();
                if expect == Expect::Text {
                    let part = at.on(arg).text();
                    it = it.help(format!("as a text: text({part})"));
                }
                return Err(it);
            }
            args.push(built);
        }
        let kinds: Vec<Kind> = args.iter().map(|a| a.kind).collect();
        let kind = scalar.result(&kinds);
        Ok(self.tree.apply(text, Op::Scalar(scalar), &args, kind))
    }

    /// The first argument of a call, as a date or a date with a time; a text is read as one where it is constant.
    pub(super) fn date(&mut self, at: At<'_>, call: &CallNode) -> Checked<Typed> {
        let arg = &call.args[0];
        let built = self.beside(at.on(arg), Kind::Date)?;
        let built = self.fitted(built, Kind::Date);
        match built.kind {
            Kind::Date | Kind::DateTime | Kind::Period(Unit::Day) => Ok(built),
            kind => {
                let message = format!("`{}` takes a date, found {}", call.name, kind.describe());
                let mut it = at.on(arg).mistake(message).label("this is no date").of_kinds();
                if let Node::Name { name, .. } = &arg.node {
                    it = it.help(self.type_help(name, "date"));
                }
                Err(it)
            }
        }
    }

    /// Builds values that must be of one kind.
    pub(super) fn same_kind(&mut self, at: At<'_>, exprs: &[Expr]) -> Checked<(Vec<Typed>, Kind)> {
        let exprs: Vec<&Expr> = exprs.iter().collect();
        let (mut built, lead) = self.beside_each(at, &exprs)?;
        let text = at.text();
        if built.iter().all(|b| b.kind.is_number()) {
            let kind = self.align(text, &mut built);
            return Ok((built, kind));
        }
        self.ensure_same(at, &exprs, &built, lead)?;
        Ok((built, lead))
    }

    /// A mistake where values are not of one kind.
    fn ensure_same(&self, at: At<'_>, exprs: &[&Expr], built: &[Typed], lead: Kind) -> Checked<()> {
        let fits = |b: &Typed| b.kind == lead || b.kind.is_number() && lead.is_number();
        if let Some(i) = built.iter().position(|b| !fits(b)) {
            let message =
                format!("{} and {} do not go together", lead.describe(), built[i].kind.describe());
            return Err(at
                .on(exprs[i])
                .mistake(message)
                .label(format!("expected {}", lead.describe()))
                .of_kinds());
        }
        Ok(())
    }

    /// Builds values beside one another, each once: what is no literal first, whose kind says what the
    /// literals are.
    fn beside_each(&mut self, at: At<'_>, exprs: &[&Expr]) -> Checked<(Vec<Typed>, Kind)> {
        let literal = |e: &Expr| matches!(e.node, Node::Missing | Node::Text(_));
        let mut built: Vec<Option<Typed>> = vec![None; exprs.len()];
        for (i, e) in exprs.iter().enumerate().filter(|(_, e)| !literal(e)) {
            built[i] = Some(self.check(at.on(e))?);
        }
        // A column without any value fits every kind.
        let known = |b: &&Typed| b.kind != Kind::Nothing;
        let lead = match built.iter().flatten().find(known).or(built.iter().flatten().next()) {
            Some(lead) => lead.kind,
            None if exprs.iter().any(|e| matches!(e.node, Node::Text(_))) => Kind::Text,
            None => Kind::Nothing,
        };
        let mut out = Vec::new();
        for (e, known) in exprs.iter().zip(built) {
            out.push(match known {
                Some(known) => self.fitted(known, lead),
                None => self.beside(at.on(e), lead)?,
            });
        }
        Ok((out, lead))
    }

    /// `if(condition, then, else)`; without the last one missing. Both values are brought to one kind.
    pub(super) fn if_call(&mut self, at: At<'_>, call: &CallNode) -> Checked<Typed> {
        let text = at.text();
        if call.args.len().is_multiple_of(2) {
            return Err(at
                .mistake("this `if` does not say what holds otherwise")
                .label("after pairs of a condition and a value comes one last value"));
        }
        let pairs = call.args.len() / 2;
        let mut conditions = Vec::new();
        for i in 0..pairs {
            conditions.push(self.condition(at.on(&call.args[2 * i]))?);
        }
        let values: Vec<&Expr> = call
            .args
            .iter()
            .enumerate()
            .filter(|(i, _)| i % 2 == 1 || *i == call.args.len() - 1)
            .map(|(_, e)| e)
            .collect();
        let (mut built, mut lead) = self.beside_each(at, &values)?;
        if lead.is_number() && built.iter().all(|b| b.kind.is_number()) {
            lead = self.align(text, &mut built);
        }
        self.ensure_same(at, &values, &built, lead)?;
        let mut args = Vec::new();
        for (i, value) in built.iter().enumerate() {
            args.extend(conditions.get(i));
            args.push(*value);
        }
        Ok(self.tree.apply(text, Op::If, &args, lead))
    }
}

/// The ranges that `band` is given: one width, or bounds in ascending order.
fn bands(at: At<'_>, exprs: &[Expr]) -> Checked<BandsId> {
    let mut bounds: Vec<Decimal> = Vec::new();
    for expr in exprs {
        let number = expr.constant_number().ok_or_else(|| {
            at.mistake("expected a number here")
                .label("a width, or bounds from the lowest to the highest")
        })?;
        let ordered = bounds.last().is_none_or(|last| *last < number);
        if !ordered || (exprs.len() == 1 && number <= Decimal::new(0, 0)) {
            let message = "these ranges cannot be made";
            return Err(at
                .mistake(message)
                .label("a width is above 0, and bounds come from the lowest to the highest"));
        }
        bounds.push(number);
    }
    let bound = |d: &Decimal| BandBound { mantissa: d.mantissa, scale: d.scale };
    let bands = match bounds.as_slice() {
        [width] => Bands::Width(bound(width)),
        all => Bands::Bounds(all.iter().map(bound).collect()),
    };
    Ok(BandsId::of(bands))
}

#[cfg(test)]
mod tests {
    use crate::testing::{kind as kind_of, on_rows, refusal, rows};
    use oeuvre_columns::Kind;
    use rstest::rstest;

    const ROWS: &str = "a:2 b:0 f:float t d:date p:bool\n";

    #[rstest]
    #[case("if(p, a, b)", Kind::Number { scale: 2 })]
    #[case("if(p, b, f)", Kind::Float)]
    #[case("if(p, b, missing)", Kind::Number { scale: 0 })]
    #[case("if(p, missing, t)", Kind::Text)]
    #[case("coalesce(missing, d)", Kind::Date)]
    #[case("greatest(a, 1.2345)", Kind::Number { scale: 4 })]
    #[case("round(f, 3)", Kind::Number { scale: 3 })]
    #[case("round(a, 0)", Kind::Number { scale: 0 })]
    #[case("abs(f)", Kind::Float)]
    #[case("concat(a, t)", Kind::Text)]
    fn a_call_gives_values_of_one_kind(#[case] calc: &str, #[case] kind: Kind) {
        assert_eq!(kind_of(ROWS, &on_rows(calc)), kind, "{calc}");
    }

    #[rstest]
    #[case("if(p, a, t)", "text")]
    #[case("if(a, 1, 2)", "expected a condition, found a number")]
    #[case("coalesce(t, d)", "a date")]
    #[case("abs(t)", "expected a number, found text")]
    #[case("abs()", "takes one argument, found none")]
    #[case("left(t)", "`left` takes 2 arguments, found 1 [write left(t, n)]")]
    #[case(
        "round(a, b)",
        "expected how many digits to keep after the point [a whole number from 0 to 12]"
    )]
    #[case("matches(t, '(')", "regular expression")]
    #[case("date(t, 'dd.mm.yyyy')", "this date pattern cannot be read [it has minutes")]
    #[case("band(a, 0)", "above 0")]
    #[case("band(a, 3, 2)", "from the lowest to the highest")]
    #[case("fiscal_year(d, 13)", "month")]
    #[case("month(t)", "takes a date, found text")]
    #[case("abs(a where p)", "does not take `where`")]
    fn a_call_that_does_not_fit_is_said(#[case] calc: &str, #[case] said: &str) {
        let told = refusal(&rows(ROWS), &on_rows(calc));
        assert!(told.contains(said), "{calc}: {told}");
    }
}
