//! A chart as a request: what it draws beside what is shown, and what it needs of the rows.

use crate::args::chart::ChartOptions;
use oeuvre_columns::Kind;
use oeuvre_core::{Error, Grid, Plan, Request, Show, SourceText, Totals};
use oeuvre_render::{ChartLook, Document};
use std::sync::Arc;

/// The most series that are told apart.
const MOST_SERIES: usize = 8;

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

/// That the series of the charts of a document are few enough to be told apart.
pub(crate) fn ensure_few_series(document: &Document<'_>) -> Result<(), Error> {
    match oeuvre_render::most_series(document) {
        n if n > MOST_SERIES => Err(Error::request_with_help(
            format!("{n} series cannot be told apart in one chart; {MOST_SERIES} can"),
            "--columns-top 7 draws the largest and the rest as one; --panels KEY makes a small chart of each",
        )),
        _ => Ok(()),
    }
}
