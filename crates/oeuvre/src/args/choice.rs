//! Options whose values are chosen by name.

use clap::builder::{PossibleValue, PossibleValuesParser, TypedValueParser};
use oeuvre_columns::Choice;
use std::str::FromStr;

/// Reads the name of a choice; the help lists all of them with what they mean.
pub(super) fn choice<T: Choice + FromStr<Err = ()>>() -> impl TypedValueParser<Value = T> {
    let value = |(_, name, meaning): &(T, &'static str, &'static str)| {
        PossibleValue::new(*name).help(*meaning)
    };
    let values: Vec<PossibleValue> = T::ALL.iter().map(value).collect();
    // A name that is not among them does not come so far.
    PossibleValuesParser::new(values).map(|name| name.parse().unwrap_or(T::ALL[0].0))
}
