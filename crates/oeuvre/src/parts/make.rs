//! A part made of files: what their rows have come to, or the rows themselves where that does not say enough.

use super::asks::Asks;
use super::file::{Leaf, Part, encode_facts, kind_text};
use super::source::encode_rows;
use oeuvre_core::aggregate::encoding::Encoder;
use oeuvre_core::{Error, Plan, Request, Tally, plan_of_checks};
use oeuvre_data::{Facts, Input, fingerprint, settled};
use std::collections::BTreeSet;

/// What a part is made of.
pub(crate) struct Making<'a> {
    pub(crate) asks: Asks,
    pub(crate) request: &'a Request,
    pub(crate) place: Option<u64>,
    pub(crate) threads: usize,
}

/// The plans of a request and of its checks.
pub(super) fn plans(
    request: &Request,
    source: &dyn oeuvre_columns::Source,
) -> Result<Vec<Plan>, Error> {
    let plan = Plan::new(request, source.columns())?;
    Ok(std::iter::once(plan).chain(plan_of_checks(request, source)?).collect())
}

/// Whether what the rows have come to is enough for a request: nothing is found out from them first, and no condition
/// compares them with a result.
pub(super) fn has_tally(request: &Request, plans: &[Plan]) -> bool {
    request.columns_top.is_none()
        && request.one_spelling.is_empty()
        && plans.iter().all(Tally::serves)
}

/// Makes a part of the rows of an input.
///
/// # Errors
/// What is wrong with the request or with the rows.
pub(crate) fn make(input: &mut dyn Input, making: &Making<'_>) -> Result<Part, Error> {
    let request = making.request;
    settled(input, |input| {
        let plans = plans(request, input)?;
        let mut used: BTreeSet<usize> = plans.iter().flat_map(|plan| plan.inputs.clone()).collect();
        let infos = input.columns();
        let named = |name: &String| infos.iter().position(|info| info.name == *name);
        used.extend(request.one_spelling.iter().filter_map(|(_, name)| named(name)));
        let used: Vec<usize> = used.into_iter().collect();
        let (mut tally, mut rows) = (None, None);
        if has_tally(request, &plans) {
            let plans: Vec<&Plan> = plans.iter().collect();
            tally = Some(Tally::of(&plans, input, making.threads)?.encode(&plans));
        } else {
            rows = Some(encode_rows(input, &used, kind_text)?);
        }
        let facts = input.facts(&used);
        let content = tally.as_deref().or(rows.as_deref()).unwrap_or_default();
        let id = id_of(&facts, making.place, content);
        let columns = || input.columns().into_iter().map(|info| (info.name, info.kind));
        let names: Vec<String> = columns().map(|column| column.0).collect();
        Ok(Part {
            asks: making.asks.clone(),
            columns: columns().collect(),
            used: used.iter().filter_map(|&at| names.get(at).cloned()).collect(),
            zone: input.zone().to_owned(),
            lookups: request.lookups.clone(),
            leaves: vec![Leaf { place: making.place, id, facts, rows }],
            tally,
        })
    })
}

/// What the rows of a part are known by: their files where these have bytes, else what they come to, and the place that
/// was said. What they come to stands in another order each time that several threads have counted it.
fn id_of(facts: &Facts, place: Option<u64>, content: &[u8]) -> u128 {
    let mut to = Encoder::default();
    encode_facts(facts, &mut to);
    to.unsigned(place.map_or(0, |place| 1 + u128::from(place)));
    if facts.files.iter().any(|file| file.content.is_none()) {
        to.bytes(content);
    }
    fingerprint(&to.into_bytes())
}
