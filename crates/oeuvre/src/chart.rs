//! A chart as a request: what it draws beside what is shown, and what it needs of the rows.

use crate::args::chart::ChartOptions;
use oeuvre_columns::{Kind, Note, Topic};
use oeuvre_core::{Error, Grid, Plan, Request, Show, SourceText, Totals};
use oeuvre_render::{ChartLook, Style};
use std::sync::Arc;

/// The request of a chart: what is drawn are its results, the key of its panels stands before the others, and there
/// are no totals.
pub(crate) fn request_of(options: &ChartOptions, mut request: Request) -> Request {
    let mut shows = options.shows();
    if options.has_points() {
        request.show.clear();
    }
    request.show.append(&mut shows);
    request.by.splice(0..0, options.panels());
    request.totals = Totals::None;
    request.for_reading = true;
    request
}

/// That a chart has what it is to draw.
pub(crate) fn ensure_drawn(look: &ChartLook, plan: &Plan) -> Result<(), Error> {
    for result in plan.results.iter().filter(|r| !r.built.kind.is_number()) {
        let kind = result.built.kind;
        if kind != Kind::Nothing {
            let message =
                format!("`{}` is {}, and cannot be drawn", result.heading, kind.describe());
            return Err(Error::Request {
                message,
                help: vec!["a chart draws numbers".to_owned()],
                of_kinds: true,
            });
        }
    }
    if look.points && plan.results.len() != 2 {
        return Err(Error::request_with_help(
            format!("--points draws two results, and here are {}", plan.results.len()),
            "write --points 'sum(passengers), sum(fare)'",
        ));
    }
    Ok(())
}

/// What is to be told of a chart beside its figures: that a stack of means is as high as nothing is.
pub(crate) fn doubts(look: &ChartLook, plan: &Plan, grid: &Grid, style: &Style) -> Vec<Note> {
    let stacked = oeuvre_render::stacked_results(grid, style, look);
    let results = stacked.into_iter().filter_map(|result| plan.results.get(result));
    let doubted = results.filter_map(|r| {
        let (name, why) = (&r.heading, r.note.as_ref()?);
        let text = format!("the height of stacked bars of {name} is no figure: {name} is {why}");
        Some(Note::new(Topic::Request, text))
    });
    doubted.collect()
}

/// Whether a chart runs along periods, so that those without rows are gaps in it.
pub(crate) fn runs_along_periods(plan: &Plan, by: usize) -> bool {
    let keys = &plan.keys()[..by.min(plan.keys().len())];
    keys.last().is_some_and(|key| matches!(key.kind, Kind::Period(_)))
}

/// The correlation of the points of a chart, as a figure over all rows counted.
pub(crate) fn correlation(request: &Request) -> Option<Arc<SourceText>> {
    let [x, y] = request.show.as_slice() else { return None };
    let keys: Vec<&str> = request.by.iter().map(|key| key.text.as_str()).collect();
    if keys.is_empty() {
        return None;
    }
    let name = |show: &Show| format!("({})", show.calc.text);
    let text = format!("correlation({}, {} per {})", name(x), name(y), keys.join(", "));
    let mut source = SourceText::clone(&x.calc);
    (source.text, source.within) = (text, None);
    Some(Arc::new(source))
}

/// A correlation in words, below the points of a table: those of the lines that have both figures.
pub(crate) fn in_words(correlation: &oeuvre_columns::Value, grid: &Grid) -> String {
    let has_both = |line: &usize| grid.columns.iter().all(|c| !c.cells.data.is_missing(*line));
    let points = (0..grid.lines.len()).filter(has_both).count();
    match correlation {
        oeuvre_columns::Value::Float(r) => format!("Correlation over {points} points: {r:.2}"),
        _ => format!("No correlation can be worked out over {points} points."),
    }
}
