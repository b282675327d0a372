//! Parts taken together: that they fit, in which order their rows stand, and what all their rows have come to.

use super::asks::Asks;
use super::file::{Leaf, Part, kind_text, lookup_id};
use super::make::{has_tally, plans};
use super::source::{OfParts, can_widen};
use oeuvre_columns::{Kind, Source};
use oeuvre_core::{Error, Plan, Request, Tally, wider};
use std::collections::HashMap;

/// Parts that were taken together.
pub(crate) struct Joined {
    pub(crate) asks: Asks,
    pub(crate) request: Request,
    /// What is known of their rows, and the rows themselves where they are kept.
    pub(crate) rows: OfParts,
    /// The columns that are used.
    pub(crate) used: Vec<String>,
    /// What all rows have come to, where they are not kept, with the plans that it is for.
    pub(crate) tally: Option<(Vec<Plan>, Tally)>,
}

/// Takes parts together, each with the name of its file, in the order of their rows unless they have places.
/// `request_of` makes the request of what a part asks.
///
/// # Errors
/// Parts that do not fit together, with what differs.
pub(crate) fn join(
    mut parts: Vec<(String, Part)>,
    request_of: impl FnOnce(&Part) -> Result<Request, Error>,
    threads: usize,
) -> Result<Joined, Error> {
    let Some(((first_name, first), others)) = parts.split_first() else {
        return Err(Error::request("there are no parts"));
    };
    for (name, part) in others {
        ensure_same((first_name, first), (name, part))?;
    }
    let request = request_of(first)?;
    let (asks, used, zone) = (first.asks.clone(), first.used.clone(), first.zone.clone());
    let own = own_plans(&parts, &request)?;
    let keeps_rows = !has_tally(&request, &own[0]);
    if let Some((name, _)) = parts.iter().find(|(_, part)| part.tally.is_none() != keeps_rows) {
        return Err(damaged(name));
    }
    let columns = joined_columns(&parts, &own, keeps_rows)?;
    let places = places(&parts)?;
    let of_parts: Vec<usize> = parts.iter().map(|(_, part)| part.leaves.len()).collect();
    let leaves = parts.iter_mut().flat_map(|(_, part)| std::mem::take(&mut part.leaves));
    let mut sorted: Vec<(u32, Leaf)> = places.iter().copied().zip(leaves).collect();
    sorted.sort_by_key(|leaf| leaf.0);
    let leaves = sorted.into_iter().map(|leaf| leaf.1).collect();
    let rows = OfParts::new(columns, zone, leaves).map_err(|_| damaged(&parts[0].0))?;
    if keeps_rows {
        return Ok(Joined { asks, request, rows, used, tally: None });
    }
    let plans = plans(&request, &rows)?;
    let (mut all, mut at) = (None::<Tally>, 0);
    for (((name, part), own), leaves) in parts.iter().zip(&own).zip(of_parts) {
        if !own.iter().zip(&plans).all(|(own, joined)| Tally::fits(own, joined)) {
            return Err(not_widened(name, &rows.columns, &parts));
        }
        let own: Vec<&Plan> = own.iter().collect();
        let for_all: Vec<&Plan> = plans.iter().collect();
        let bytes = part.tally.as_deref().unwrap_or_default();
        let tally = Tally::decode(bytes, (&own, &for_all), &places[at..at + leaves]);
        let tally = tally.map_err(|_| damaged(name))?;
        at += leaves;
        match &mut all {
            None => all = Some(tally),
            Some(all) => all.absorb(tally, threads)?,
        }
    }
    let tally = all.map(|tally| (plans, tally));
    Ok(Joined { asks, request, rows, used, tally })
}

fn damaged(name: &str) -> Error {
    let help = "make it again with oeuvre part";
    Error::request_with_help(format!("{name}: this part is damaged"), help)
}

/// The plans of a request over the columns of each part.
fn own_plans(parts: &[(String, Part)], request: &Request) -> Result<Vec<Vec<Plan>>, Error> {
    let of_part = |(name, part): &(String, Part)| {
        let rows = OfParts::new(part.columns.clone(), part.zone.clone(), Vec::new());
        plans(request, &rows.map_err(|_| damaged(name))?)
    };
    parts.iter().map(of_part).collect()
}

/// The columns of the first part, in their order, those that are used as wide as those of the others need them.
fn joined_columns(
    parts: &[(String, Part)],
    own: &[Vec<Plan>],
    keeps_rows: bool,
) -> Result<Vec<(String, Kind)>, Error> {
    let (first_name, first) = &parts[0];
    let mut columns = first.columns.clone();
    for ((name, part), plans) in parts.iter().zip(own).skip(1) {
        for &at in plans.iter().flat_map(|plan| &plan.inputs) {
            widen(&mut columns, (first_name, name), &part.columns[at], keeps_rows)?;
        }
    }
    Ok(columns)
}

/// That two parts are of the same request and the same lookups.
fn ensure_same((a, first): (&str, &Part), (b, part): (&str, &Part)) -> Result<(), Error> {
    if let Some([of_a, of_b]) = first.asks.difference(&part.asks) {
        return Err(Error::request_with_help(
            format!("{a} asks {of_a}, {b} {of_b}"),
            "parts are taken together that ask the same; make one of them again",
        ));
    }
    for (of_a, of_b) in first.lookups.iter().zip(&part.lookups) {
        if lookup_id(of_a) != lookup_id(of_b) {
            return Err(Error::request_with_help(
                format!("the lookup {} of {b} is not the same as that of {a}", of_a.table.name),
                "make one of them again with the other's lookup",
            ));
        }
    }
    Ok(())
}

/// Of each leaf, counted over all parts as they were given, where its rows stand among all: by their places where they
/// have any.
fn places(parts: &[(String, Part)]) -> Result<Vec<u32>, Error> {
    let leaves: Vec<(&String, &Leaf)> =
        parts.iter().flat_map(|(name, part)| part.leaves.iter().map(move |l| (name, l))).collect();
    let mut known: HashMap<u128, &String> = HashMap::new();
    for (name, leaf) in &leaves {
        if let Some(before) = known.insert(leaf.id, name) {
            let files: Vec<&str> = leaf.facts.files.iter().map(|f| f.name.as_str()).collect();
            let what = match before == *name {
                true => format!("{name} is given twice"),
                false => format!("the rows of {} are in {before} and in {name}", files.join(", ")),
            };
            return Err(Error::request_with_help(what, "name each part once"));
        }
    }
    let mut order: Vec<usize> = (0..leaves.len()).collect();
    if leaves.iter().all(|(_, leaf)| leaf.place.is_none()) {
        return Ok((0..leaves.len() as u32).collect());
    }
    if let Some((name, _)) = leaves.iter().find(|(_, leaf)| leaf.place.is_none()) {
        return Err(Error::request_with_help(
            format!("{name} has no place, and others have one"),
            "make it again with --place N, or all of them without",
        ));
    }
    order.sort_by_key(|&at| leaves[at].1.place);
    for two in order.windows(2) {
        let [(a, first), (b, second)] = [leaves[two[0]], leaves[two[1]]];
        if let (Some(place), true) = (first.place, first.place == second.place) {
            return Err(Error::request_with_help(
                format!("{a} and {b} are both at place {place}"),
                "make one of them again with another --place",
            ));
        }
    }
    let mut places = vec![0; leaves.len()];
    order.into_iter().zip(0..).for_each(|(leaf, place)| places[leaf] = place);
    Ok(places)
}

/// Widens a column by what a part has of it.
fn widen(
    columns: &mut [(String, Kind)],
    names: (&str, &str),
    part: &(String, Kind),
    keeps_rows: bool,
) -> Result<(), Error> {
    let Some(column) = columns.iter_mut().find(|column| column.0 == part.0) else {
        return Err(Error::request_with_help(
            format!("{} has no column {}, which {} has", names.0, part.0, names.1),
            "parts that are taken together have the columns that they use",
        ));
    };
    let both = match keeps_rows {
        true if can_widen(part.1, column.1) => Some(column.1),
        true => can_widen(column.1, part.1).then_some(part.1),
        false => wider(column.1, part.1),
    };
    match both {
        Some(kind) => column.1 = kind,
        None => return Err(differs(names, (&column.0, column.1, part.1))),
    }
    Ok(())
}

/// A column whose kinds in two parts are not brought together.
fn differs((a, b): (&str, &str), (column, of_a, of_b): (&str, Kind, Kind)) -> Error {
    let said = |kind: Kind| match kind {
        Kind::Number { scale: 0 } => "a whole number".to_owned(),
        Kind::Number { scale } => format!("a number with {scale} digits behind its point"),
        Kind::Float => "a number in binary64".to_owned(),
        other => kind_text(other),
    };
    // Any value is one of text, and any number one in binary64.
    let (wide, narrow) = match (of_a, of_b) {
        (Kind::Text, _) | (_, Kind::Number { .. }) => (a, b),
        _ => (b, a),
    };
    Error::request_with_help(
        format!("{column} is {} in {a}, and {} in {b}", said(of_a), said(of_b)),
        format!("make {narrow} again with --as-in {wide}, or both with --kind '{column}=…'"),
    )
}

/// A part whose labels would be others, had its numbers the digits that they have in others.
fn not_widened(name: &str, joined: &[(String, Kind)], parts: &[(String, Part)]) -> Error {
    let of = |part: &Part, column: &str| {
        part.columns.iter().find(|known| known.0 == column).map(|known| known.1)
    };
    let part = parts.iter().find(|part| part.0 == name).map(|part| &part.1);
    let is_narrower = |(column, kind): &&(String, Kind)| {
        let own = part.and_then(|part| of(part, column));
        matches!(own, Some(own @ Kind::Number { .. }) if own != *kind)
    };
    let (column, other) = match joined.iter().find(is_narrower) {
        Some((column, kind)) => {
            let wide = parts.iter().find(|(_, part)| of(part, column) == Some(*kind));
            (column.as_str(), wide.map_or("others", |wide| wide.0.as_str()))
        }
        None => ("a column", "others"),
    };
    Error::request_with_help(
        format!(
            "{column} has fewer digits behind its point in {name} than in {other}, and texts are made of it"
        ),
        format!("make {name} again with --as-in {other}"),
    )
}

impl Joined {
    /// All as one part.
    pub(crate) fn into_part(self) -> Part {
        let Joined { asks, request, rows, used, tally } = self;
        let tally = tally.map(|(plans, tally)| tally.encode(&plans.iter().collect::<Vec<_>>()));
        Part {
            asks,
            zone: rows.zone().to_owned(),
            columns: rows.columns,
            used,
            lookups: request.lookups,
            leaves: rows.leaves,
            tally,
        }
    }

    /// The names of the files that the rows are of.
    pub(crate) fn files(&self) -> Vec<String> {
        let files = self.rows.leaves.iter().flat_map(|leaf| &leaf.facts.files);
        files.map(|file| file.name.clone()).collect()
    }
}
