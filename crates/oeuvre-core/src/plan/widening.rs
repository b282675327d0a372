//! Whether what was counted of one part of the rows can be taken together with others, whose columns may be of wider
//! kinds.
//!
//! A number with fewer digits behind its point is the same number with more; a column without any value is of any kind.
//! What else differs cannot be brought together afterwards: a text that was made of a number is another one where that
//! has more digits.

use super::{Built, Plan};
use crate::rows::program::{Program, Step};
use oeuvre_columns::Kind;

/// How values of one kind become those of another.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Widening {
    /// They are multiplied.
    By(i128),
    /// There are none.
    Nothing,
}

/// How values of a kind become those of a wider one; `None` where they do not.
pub(crate) fn widening(from: Kind, to: Kind) -> Option<Widening> {
    match (from, to) {
        _ if from == to => Some(Widening::By(1)),
        (Kind::Nothing, _) => Some(Widening::Nothing),
        (Kind::Number { scale: from }, Kind::Number { scale: to }) if from < to => {
            10i128.checked_pow(u32::from(to - from)).map(Widening::By)
        }
        _ => None,
    }
}

/// The kind that holds the values of both; `None` where there is none but text.
pub fn wider(a: Kind, b: Kind) -> Option<Kind> {
    if widening(a, b).is_some() {
        return Some(b);
    }
    widening(b, a).map(|_| a)
}

/// How some values become those of others, one by one; `None` where one has none, and so nothing was counted.
pub(crate) fn factors_of(own: &[Built], joined: &[Built]) -> Option<Vec<i128>> {
    let each = own.iter().zip(joined).map(|(own, joined)| match widening(own.kind, joined.kind) {
        Some(Widening::By(factor)) => Some(factor),
        _ => None,
    });
    each.collect()
}

/// Whether what a plan has counted can be read by another one, which is made of the same request over columns of wider
/// kinds.
pub(crate) fn fits(own: &Plan, joined: &Plan) -> bool {
    let widens = |own: &[Built], joined: &[Built]| {
        let mut both = own.iter().zip(joined);
        own.len() == joined.len() && both.all(|(a, b)| widening(a.kind, b.kind).is_some())
    };
    let groupings = own.groupings.len() == joined.groupings.len();
    let each = own.groupings.iter().zip(&joined.groupings).all(|(own, joined)| {
        let keys = own.keys.iter().zip(&joined.keys);
        let states = own.states.iter().zip(&joined.states);
        own.keys.len() == joined.keys.len()
            && own.states.len() == joined.states.len()
            && keys.clone().all(|(a, b)| widening(a.kind, b.kind).is_some())
            && states.clone().all(|(a, b)| {
                a.aggregate.family() == b.aggregate.family() && widens(&a.args, &b.args)
            })
    });
    groupings
        && each
        && same_texts(&own.row, &joined.row)
        && same_texts(&own.filter, &joined.filter)
}

/// Whether two programs make the same texts, where they make any.
fn same_texts(own: &Program, joined: &Program) -> bool {
    let texts = |program: &'_ Program| {
        // What is made of nothing is the same everywhere.
        let is_made = |step: &&Step| step.kind == Kind::Text && !step.arg_kinds.is_empty();
        let steps = program.steps.iter().filter(is_made);
        steps.map(|step| (step.text.clone(), step.arg_kinds.clone())).collect::<Vec<_>>()
    };
    let (own, joined) = (texts(own), texts(joined));
    let same_kinds = |own: &[Kind], joined: &[Kind]| {
        let is_same = |(a, b): (&Kind, &Kind)| a == b || *a == Kind::Nothing;
        own.len() == joined.len() && own.iter().zip(joined).all(is_same)
    };
    // What is made of no value at all is none, and may not be made in the same way.
    let is_joined = |(text, kinds): &(_, Vec<Kind>)| {
        kinds.contains(&Kind::Nothing)
            || joined.iter().any(|it| it.0 == *text && same_kinds(kinds, &it.1))
    };
    own.iter().all(is_joined)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(Kind::Text, Kind::Text, Some(Widening::By(1)))]
    #[case(Kind::Number { scale: 0 }, Kind::Number { scale: 2 }, Some(Widening::By(100)))]
    #[case(Kind::Number { scale: 2 }, Kind::Number { scale: 0 }, None)]
    #[case(Kind::Nothing, Kind::Date, Some(Widening::Nothing))]
    #[case(Kind::Number { scale: 0 }, Kind::Float, None)]
    #[case(Kind::Date, Kind::Text, None)]
    fn values_become_those_of_wider_kinds(
        #[case] from: Kind,
        #[case] to: Kind,
        #[case] expected: Option<Widening>,
    ) {
        assert_eq!(widening(from, to), expected);
        assert_eq!(wider(to, from).is_some(), expected.is_some() || widening(to, from).is_some());
    }
}
