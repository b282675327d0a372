//! The words that look at other cells: which cells they walk, compare or add up.
//!
//! Such a calculation becomes a window over nodes of the tree, which may be results of groups, values of rows
//! in a detail, or windows themselves.

use super::{At, CELLS, Checked, Checker, Context, Level, Reference, TreeNode, Typed, Window};
use crate::aggregate::extremes::Extreme;
use crate::aggregate::sums::Sum;
use crate::error::{Diagnostic, either};
use crate::language::ast::{Call as CallNode, ClauseWord, Expr};
use crate::language::elsewhere;
use crate::language::functions::{AggregateCall, Looks, OverCells, TableCall, Takes};
use crate::rows::program::Op;
use crate::same::Alike;
use crate::window::first_last::FirstLast;
use crate::window::{Calc, Given, Gives, Taking, Ties};
use oeuvre_columns::value::Kind;
use std::sync::Arc;

/// The value that a clause's word stands for.
fn choice<T: Copy>(
    at: At<'_>,
    call: &CallNode,
    word: ClauseWord,
    all: &[(&'static str, T)],
) -> Checked<Option<T>> {
    let Some(clause) = call.clauses.iter().find(|c| c.word == word) else { return Ok(None) };
    let found = clause.choice();
    let known = all.iter().find(|(name, _)| name.eq_ignore_ascii_case(found));
    known.map(|(_, it)| Some(*it)).ok_or_else(|| {
        let names: Vec<&str> = all.iter().map(|a| a.0).collect();
        let message = format!("`{}` takes {}", word.text(), either(&names));
        let label = match elsewhere::ties(found).filter(|_| word == ClauseWord::Ties) {
            Some(ours) => format!("write `ties {ours}`"),
            None => format!("`{found}` is none"),
        };
        Diagnostic::new(at.written, clause.span.clone(), message).label(label)
    })
}

/// How many values are enough for `moving`, where that is said.
fn at_least(at: At<'_>, call: &CallNode, steps: u32) -> Checked<Option<u32>> {
    let Some(clause) = call.clauses.iter().find(|c| c.word == ClauseWord::AtLeast) else {
        return Ok(None);
    };
    let number = clause.args.first().and_then(Expr::constant_number);
    let number = number.and_then(|n| n.rescale(0)).and_then(|n| u32::try_from(n.mantissa).ok());
    match number.filter(|n| (1..=steps).contains(n)) {
        Some(n) => Ok(Some(n)),
        None => Err(Diagnostic::new(
            at.written,
            clause.span.clone(),
            "expected how many values are enough after `at least`",
        )
        .label(format!("a whole number from 1 to {steps}"))),
    }
}

/// The whole number that a word is given beside its value.
fn whole_number(at: At<'_>, call: &CallNode) -> Checked<u32> {
    let Some(arg) = call.args.get(1) else { return Ok(1) };
    let number = arg.constant_number().and_then(|n| n.rescale(0)).map(|n| n.mantissa);
    number
        .and_then(|n| u32::try_from(n).ok())
        .filter(|n| *n >= 1)
        .ok_or_else(|| at.on(arg).mistake("expected a whole number from 1 on").label("how many"))
}

/// A mistake where a word that adds up is given something else.
fn ensure_number(at: At<'_>, call: &CallNode, x: Typed) -> Checked<()> {
    if x.kind.is_number() {
        return Ok(());
    }
    let message = format!("`{}` takes a number, found {}", call.name, x.kind.describe());
    Err(at
        .on(&call.args[0])
        .mistake(message)
        .label(format!("this is {}", x.kind.describe()))
        .of_kinds())
}

impl Checker {
    /// A value of each cell. In a summary a number of each row means its sum.
    pub(super) fn cell_value(&mut self, at: At<'_>) -> Checked<Typed> {
        if self.listing || self.level(at)? != Level::Row || self.entered(at)?.is_some() {
            return self.check(at);
        }
        let value = self.check(at.at(Context::Row))?;
        if !value.kind.is_number() {
            return Err(self.row_value_outside(at, value.kind));
        }
        Ok(self.sum_of(at, value))
    }

    /// Adds a window, and remembers it for the call that it stands for.
    fn window(&mut self, at: At<'_>, window: Window<Typed>) -> Typed {
        let kind = window.kind;
        let text = window.text.clone();
        let made = self.tree.add(TreeNode::Window(window), kind, &text);
        self.known.windows.insert(super::Part::of(at.written, at.expr), made.id);
        made
    }

    /// What a word of the table gives.
    pub(super) fn table_call(
        &mut self,
        at: At<'_>,
        call: &CallNode,
        word: &'static TableCall,
    ) -> Checked<Typed> {
        self.ensure_cells(at, call, word)?;
        let (x, made) = match word.looks {
            Looks::AtKeys => self.at_keys(at, call, word)?,
            Looks::Compares | Looks::Walks => self.across(at, call, word)?,
        };
        Ok(match word.gives {
            Gives::Itself => made,
            Gives::Change => self.tree.apply(at.text(), Op::Subtract, &[x, made], x.kind),
            Gives::Growth => {
                let change = self.tree.apply(at.text(), Op::Subtract, &[x, made], x.kind);
                self.tree.apply(at.text(), Op::Divide, &[change, made], Kind::Float)
            }
            Gives::Share => self.tree.apply(at.text(), Op::Divide, &[x, made], Kind::Float),
        })
    }

    /// A value, and what a word that compares or walks works out of it.
    fn across(
        &mut self,
        at: At<'_>,
        call: &CallNode,
        word: &'static TableCall,
    ) -> Checked<(Typed, Typed)> {
        let x = self.cell_value(at.on(&call.args[0]))?;
        let taking = choice(at, call, ClauseWord::Taking, &Taking::ALL)?;
        let any = matches!(taking, Some(Taking::Min | Taking::Max | Taking::Count));
        if word.takes == Takes::Numbers && !any {
            ensure_number(at, call, x)?;
        }
        let (along, within, descending) = self.over(at, call, word.looks == Looks::Walks)?;
        self.ensure_compared(at, call, &along, within.as_deref())?;
        let ties = choice(at, call, ClauseWord::Ties, &Ties::ALL)?;
        let number = whole_number(at, call)?;
        let at_least = at_least(at, call, number)?;
        let calc = (word.make)(&Given { number, taking, ties, at_least });
        let kind = match &calc {
            Calc::Compared(function) => function.result(x.kind),
            Calc::Walked(function) => function.result(x.kind),
            Calc::Total | Calc::Aggregate(_) => x.kind,
        };
        let (text, of) = (Arc::from(at.text()), Arc::from(at.on(&call.args[0]).text()));
        let (args, condition) = (vec![x], None);
        let window = Window { calc, args, condition, along, within, descending, kind, text, of };
        Ok((x, self.window(at, window)))
    }

    /// A mistake where there are no other cells to look at.
    fn ensure_cells(&self, at: At<'_>, call: &CallNode, word: &TableCall) -> Checked<()> {
        if at.context != CELLS {
            let message = format!("`{}` looks at other cells of the table", call.name);
            let it = Diagnostic::new(at.written, call.name_span.clone(), message)
                .label("known only when the table is made");
            return Err(match at.context {
                Context::Filter => it.help(at.as_lines_where()),
                _ => it.help(
                    "name the result with --let and write this around it, outside the aggregate",
                ),
            });
        }
        if self.keys.is_empty() && !self.listing && word.looks != Looks::AtKeys {
            return Err(at
                .mistake(format!("`{}` has nothing to compare with", call.name))
                .label("the table has one line; add --by or --columns-by"));
        }
        Ok(())
    }

    /// The siblings differ in the innermost key: that all of them share it leaves each alone.
    fn ensure_compared(
        &self,
        at: At<'_>,
        call: &CallNode,
        along: &[Reference<Typed>],
        within: Option<&[Reference<Typed>]>,
    ) -> Checked<()> {
        let last = self.keys.len().saturating_sub(1);
        let innermost = Reference::Key(self.by_keys.checked_sub(1).unwrap_or(last));
        let alone = within.unwrap_or_default().contains(&innermost);
        if self.listing || !along.is_empty() || !alone {
            return Ok(());
        }
        let clause = call.clauses.iter().find(|c| c.word == ClauseWord::Within);
        let span = clause.map_or(at.expr.span.clone(), |c| c.span.clone());
        let message = "each line would be compared with itself alone";
        Err(Diagnostic::new(at.written, span, message)
            .label("the lines differ in this key")
            .help("name the keys around it, or after `along` what is compared"))
    }

    /// A value, and the same at fewer keys.
    fn at_keys(
        &mut self,
        at: At<'_>,
        call: &CallNode,
        word: &TableCall,
    ) -> Checked<(Typed, Typed)> {
        let arg = at.on(&call.args[0]);
        if !self.listing && self.level(arg)? == Level::Table {
            return Err(arg
                .mistake(format!("`{}` works its figure out again from rows", call.name))
                .label("this looks at other cells, and has no rows of its own")
                .help(format!("as the sum over the cells: sum({})", arg.text())));
        }
        let (_, within, _) = self.over(at, call, false)?;
        let x = self.cell_value(arg)?;
        if word.takes == Takes::Numbers || self.listing {
            ensure_number(at, call, x)?;
        }
        let calc = match self.tree.level(x.id) {
            _ if self.listing => Calc::Aggregate(Alike(Arc::new(Sum))),
            // The same everywhere.
            Level::Constant => Calc::Aggregate(Alike(Arc::new(Extreme { largest: true }))),
            _ => Calc::Total,
        };
        let total = self.total(at, calc, x, within, arg.text());
        Ok((x, total))
    }

    /// A window over the cells that share what stands after `within`, all of them where nothing does.
    fn total(
        &mut self,
        at: At<'_>,
        calc: Calc,
        x: Typed,
        within: Option<Vec<Reference<Typed>>>,
        of: &str,
    ) -> Typed {
        let window = Window {
            calc,
            args: vec![x],
            condition: None,
            along: Vec::new(),
            within: Some(within.unwrap_or_default()),
            descending: None,
            kind: x.kind,
            text: Arc::from(at.text()),
            of: Arc::from(of),
        };
        self.window(at, window)
    }

    /// An aggregate over the cells of the table, or over the rows of a detail.
    pub(super) fn aggregate_of_cells(
        &mut self,
        at: At<'_>,
        call: &CallNode,
        of_call: &'static AggregateCall,
    ) -> Checked<Typed> {
        if let Some(per) = call.clauses.iter().find(|c| c.word == ClauseWord::Per) {
            let message = "`per` takes rows into smaller groups";
            return Err(Diagnostic::new(at.written, per.span.clone(), message)
                .label("in a detail, and over the cells of a table, write `within` instead"));
        }
        if self.keys.is_empty() && !self.listing {
            return Err(self.aggregate_in_aggregate(at, call));
        }
        let of = call.args.first().map_or("", |a| at.on(a).text());
        let values = call.split_parameters(of_call.parameters).0;
        if !self.listing && self.highest(at, values)? < Level::Group {
            return self.aggregate_at_keys(at, call, of_call, of);
        }
        let mut args = Vec::new();
        for arg in values {
            args.push(self.cell_value(at.on(arg))?);
        }
        let aggregate = self.make(at, call, of_call, &mut args)?;
        let mut condition = None;
        if let Some(clause) = call.clauses.iter().find(|c| c.word == ClauseWord::Where) {
            condition = Some(self.condition(at.on(&clause.args[0]))?);
        }
        let walks = matches!(of_call.over_cells, OverCells::End { .. });
        let (along, within, descending) = self.over(at, call, walks)?;
        let kind = self.result_kind(at, call, &*aggregate, &args)?;
        let (calc, within) = match of_call.over_cells {
            OverCells::End { last } => (Calc::walked(FirstLast { last }), within),
            OverCells::Itself => (Calc::Aggregate(aggregate), Some(within.unwrap_or_default())),
        };
        let (text, of) = (Arc::from(at.text()), Arc::from(of));
        let window = Window { calc, args, condition, along, within, descending, kind, text, of };
        Ok(self.window(at, window))
    }

    /// An aggregate of the rows themselves: the same result at the keys after `within`.
    fn aggregate_at_keys(
        &mut self,
        at: At<'_>,
        call: &CallNode,
        of_call: &'static AggregateCall,
        of: &str,
    ) -> Checked<Typed> {
        // What is worked out for each group is the call without `within`.
        let (all, whole) = (at.expr.span.clone(), &at.written.text);
        let clause = call.clauses.iter().find(|c| c.word == ClauseWord::Within);
        let cut = clause.map_or(all.end..all.end, |c| c.span.clone());
        let alone = [&whole[all.start..cut.start], &whole[cut.end..all.end]].concat();
        let group = self.aggregate_of_rows(at, call, of_call, &alone)?;
        self.tree.wrote(group.id, &alone, false);
        let (_, within, _) = self.over(at, call, false)?;
        Ok(self.total(at, Calc::Total, group, within, of))
    }
}

#[cfg(test)]
mod tests {
    use crate::Request;
    use crate::testing::{kind as kind_of, refusal, rows, table};
    use oeuvre_columns::Kind;
    use rstest::rstest;

    const ROWS: &str = "k m d:date x:2 t\n";

    #[rstest]
    #[case("rank(sum(x))", Kind::Number { scale: 0 })]
    #[case("rank(sum(x) ties mean)", Kind::Number { scale: 1 })]
    #[case("lag(max(t))", Kind::Text)]
    #[case("growth(sum(x))", Kind::Float)]
    #[case("running(sum(x))", Kind::Number { scale: 2 })]
    #[case("running(sum(x) taking count)", Kind::Number { scale: 0 })]
    #[case("running(max(t) taking min)", Kind::Text)]
    #[case("moving(sum(x), 3)", Kind::Float)]
    #[case("share(sum(x))", Kind::Float)]
    #[case("total(max(d))", Kind::Date)]
    #[case("max(sum(x))", Kind::Number { scale: 2 })]
    fn a_word_gives_values_of_a_kind(#[case] calc: &str, #[case] kind: Kind) {
        assert_eq!(kind_of(ROWS, &Request::of(&["k"], &[calc])), kind, "{calc}");
    }

    #[rstest]
    #[case(&["k"], "running(max(t))", "running")]
    #[case(&["k"], "rank(sum(x) within k)", "each line would be compared with itself alone")]
    #[case(&[], "rank(sum(x))", "`rank` has nothing to compare with [the table has one line; add --by or --columns-by]")]
    #[case(&["k"], "sum(rank(sum(x)) per m)", "--let")]
    #[case(&["k"], "share(rank(sum(x)))", "works its figure out again from rows")]
    #[case(&["k"], "mean(sum(x) per m within k per m)", "")]
    #[case(&["k"], "moving(sum(x), 0)", "from 1")]
    #[case(&["k"], "moving(sum(x), 3 at least 4)", "at least")]
    #[case(&["k"], "rank(sum(x) ties dense)", "close")]
    #[case(&["k"], "lag(sum(x) along m)", "this is no key of the table [the keys are `k`]")]
    #[case(&["k"], "moving(sum(x), 3 taking median)", "taking")]
    fn what_has_no_meaning_is_said(#[case] by: &[&str], #[case] calc: &str, #[case] said: &str) {
        let told = refusal(&rows(ROWS), &Request::of(by, &[calc]));
        assert!(told.contains(said), "{calc}: {told}");
    }

    /// A number of each row means its sum, an aggregate with `within` the same result at fewer keys.
    #[rstest]
    #[case("rank(x)", "rank(sum(x))")]
    #[case("mean(x within m)", "total(mean(x) within m)")]
    #[case("share(x within m)", "sum(x) / total(sum(x) within m)")]
    #[case("change(x along k)", "sum(x) - lag(sum(x) along k)")]
    #[case("growth(x along k)", "change(sum(x) along k) / lag(sum(x) along k)")]
    fn what_is_written_shorter_means_the_same(#[case] short: &str, #[case] long: &str) {
        let rows = rows("k m x:2\na|p|1.00\nb|p|4.00\nc|q|2.50\nc|q|\na|q|3.00\n");
        assert_eq!(table(&rows, &["m", "k"], &[short]), table(&rows, &["m", "k"], &[long]));
    }
}
