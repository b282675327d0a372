//! The figures of a chart, as the grid has them: series over categories, in panels.

use super::look::{ChartLook, Stacked};
use crate::cells::escape_controls;
use crate::layout::{Layout, Slot};
use crate::style::Style;
use oeuvre_columns::Kind;
use oeuvre_columns::column::Data;
use oeuvre_core::{Grid, LineKind};
use std::collections::HashMap;

/// How a series is drawn.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum SeriesType {
    Bars,
    Line,
    Target,
}

/// A series of figures, one a category.
#[derive(Clone, Debug)]
pub(crate) struct Series {
    pub(crate) name: String,
    pub(crate) drawn: SeriesType,
    /// Whether it has the axis on the right.
    pub(crate) right: bool,
    /// Which ink: targets have that of the series that they are of.
    pub(crate) ink: usize,
    /// The result that it is of.
    result: usize,
    /// Its column in the grid.
    pub(crate) column: usize,
}

/// The figures of a panel: by series, then by category; `None` for a gap.
#[derive(Clone, Debug)]
pub(crate) struct Panel {
    pub(crate) label: String,
    pub(crate) categories: Vec<String>,
    /// The figures, each with how it reads.
    pub(crate) figures: Vec<Vec<Option<(f64, String)>>>,
}

/// What an axis measures.
#[derive(Clone, Debug, Default, PartialEq)]
pub(crate) struct Axis {
    pub(crate) name: String,
    pub(crate) percent: bool,
}

/// The figures of a chart.
#[derive(Clone, Debug)]
pub(crate) struct ChartData {
    pub(crate) series: Vec<Series>,
    pub(crate) panels: Vec<Panel>,
    /// Left and right; of points, what goes up and what goes to the right.
    pub(crate) axes: [Axis; 2],
    /// Whether categories follow each other in time.
    pub(crate) in_time: bool,
    /// What the categories are.
    pub(crate) keys: String,
}

/// A range over twenty times larger has an axis of its own.
const TIMES_APART: f64 = 20.0;
/// The most series that are told apart.
const MOST_SERIES: usize = 8;

impl ChartData {
    /// The figures of a grid.
    pub(crate) fn of(grid: &Grid, style: &Style, look: &ChartLook) -> ChartData {
        let layout = Layout::new(grid, style);
        let results = layout.results_per_position();
        let first_key = usize::from(look.panels).min(grid.by.len());
        let last = grid.by.last().map(|k| k.kind);
        let in_time = matches!(last, Some(Kind::Period(_) | Kind::Date | Kind::DateTime))
            && grid.by.len() - first_key == 1;
        let positions: Vec<usize> = (0..grid.positions.len())
            .filter(|&p| matches!(grid.positions[p].kind, LineKind::Group | LineKind::Rest))
            .collect();
        let drawn = |result: usize| drawn_as(grid, look, result, in_time);
        // Bars first, so that lines and marks stand before them.
        let is_number = |result: &usize| match grid.columns.get(*result) {
            Some(column) => column.kind.is_number(),
            None => true,
        };
        let mut order: Vec<usize> = (0..results).filter(is_number).collect();
        order.sort_by_key(|&r| match drawn(r) {
            SeriesType::Bars => 0,
            SeriesType::Line => 1,
            SeriesType::Target => 2,
        });
        let of_measures = order.iter().filter(|&&r| drawn(r) != SeriesType::Target).count();
        let several = positions.len() > 1;
        let mut series: Vec<Series> = Vec::new();
        let mut inks = 0;
        for &result in &order {
            for (at, &position) in positions.iter().enumerate() {
                let (column, drawn) = (position * results + result, drawn(result));
                let heading = escape_controls(layout.own_heading(Slot::Result(column)));
                let mut labels = String::new();
                for key in 0..grid.across.len() {
                    if key > 0 {
                        labels.push_str(", ");
                    }
                    layout.push_position_label(&mut labels, position, key);
                }
                let name = match (several || !grid.across.is_empty(), of_measures > 1) {
                    (false, _) => heading,
                    (true, false) if drawn != SeriesType::Target => labels,
                    (true, _) => format!("{heading}, {labels}"),
                };
                let ink = match drawn {
                    SeriesType::Target if of_measures > 0 => at,
                    _ => {
                        inks += 1;
                        inks - 1
                    }
                };
                series.push(Series { name, drawn, right: false, ink, result, column });
            }
        }
        let keys: Vec<String> =
            grid.by[first_key..].iter().map(|k| escape_controls(&k.name)).collect();
        let mut data = ChartData {
            panels: panels(&layout, &series, first_key),
            series,
            axes: Default::default(),
            in_time,
            keys: keys.join(", "),
        };
        data.settle_axes(&layout, look);
        data
    }

    /// Which series has which axis, and what these measure.
    fn settle_axes(&mut self, layout: &Layout<'_>, look: &ChartLook) {
        let grid = layout.grid;
        let Some(first) = self.series.first().map(|s| s.result) else { return };
        let unit = |result: usize| unit_of(layout, result);
        let left = (unit(first), self.largest_of(first));
        for at in 0..self.series.len() {
            let Series { drawn, result, .. } = self.series[at];
            if drawn != SeriesType::Line || result == first {
                continue;
            }
            // Parts of a sum have no line among them.
            if look.stacked == Stacked::Percent {
                self.series[at].right = true;
                continue;
            }
            if look.one_axis {
                continue;
            }
            let largest = self.largest_of(result);
            let apart = largest > 0.0
                && left.1 > 0.0
                && !(1.0 / TIMES_APART..=TIMES_APART).contains(&(largest / left.1));
            self.series[at].right = unit(result) != left.0 || apart;
        }
        for (axis, right) in [false, true].into_iter().enumerate() {
            let mut names: Vec<String> = Vec::new();
            let of_axis = |s: &&Series| s.right == right && s.drawn != SeriesType::Target;
            for series in self.series.iter().filter(of_axis) {
                let column = grid.columns.get(series.result).map(|c| c.heading.as_str());
                let unit = unit(series.result);
                let name = with_unit(escape_controls(column.unwrap_or_default()), &unit);
                if !names.contains(&name) {
                    names.push(name);
                }
                self.axes[axis].percent = unit == "%";
            }
            self.axes[axis].name = names.join(", ");
        }
        if look.points {
            // The first goes to the right, the second up.
            let axis = |result: usize| Axis {
                name: with_unit(
                    escape_controls(grid.columns.get(result).map_or("", |c| &c.heading)),
                    &unit(result),
                ),
                percent: unit(result) == "%",
            };
            self.axes = [axis(1), axis(0)];
        }
    }

    /// The largest figure of a result, whatever its sign.
    fn largest_of(&self, result: usize) -> f64 {
        let series = (0..self.series.len()).filter(|&s| self.series[s].result == result);
        let figures = series.flat_map(|s| self.panels.iter().flat_map(move |p| &p.figures[s]));
        figures.flatten().map(|(value, _)| value.abs()).fold(0.0, f64::max)
    }

    /// Why the chart would mislead, and the way out.
    pub(crate) fn misleads(&self, look: &ChartLook) -> Option<(String, String)> {
        let inks = self.series.iter().map(|s| s.ink + 1).max().unwrap_or(0);
        if inks > MOST_SERIES && !look.points {
            return Some((
                format!("{inks} series cannot be told apart in one chart; {MOST_SERIES} can"),
                "--columns-top 7 draws the largest and the rest as one; --panels KEY makes a small chart of each"
                    .to_owned(),
            ));
        }
        if look.stacked == Stacked::Percent {
            let mut bars = self.panels.iter().flat_map(|p| self.series.iter().zip(&p.figures));
            let below = |(s, f): &(&Series, &Vec<Option<(f64, String)>>)| {
                s.drawn == SeriesType::Bars && f.iter().flatten().any(|(value, _)| *value < 0.0)
            };
            if let Some((series, _)) = bars.find(below) {
                let message = format!(
                    "`{}` has figures below zero, which are no parts of a sum",
                    series.name
                );
                return Some((
                    message,
                    "--stacked draws them on top of each other as they are".to_owned(),
                ));
            }
        }
        None
    }

    /// The results whose bars stand on each other.
    pub(crate) fn stacked(&self, look: &ChartLook) -> Vec<usize> {
        let bars: Vec<&Series> =
            self.series.iter().filter(|s| s.drawn == SeriesType::Bars).collect();
        if look.stacked == Stacked::No || look.points || bars.len() < 2 {
            return Vec::new();
        }
        let mut results: Vec<usize> = bars.iter().map(|s| s.result).collect();
        results.dedup();
        results
    }

    /// All figures of the series of an axis.
    pub(crate) fn of_axis(&self, right: bool) -> impl Iterator<Item = f64> + '_ {
        self.panels.iter().flat_map(move |panel| {
            let series =
                self.series.iter().zip(&panel.figures).filter(move |(s, _)| s.right == right);
            series.flat_map(|(_, figures)| figures.iter().flatten().map(|(value, _)| *value))
        })
    }
}

fn with_unit(name: String, unit: &str) -> String {
    match unit {
        "" | "%" => name,
        unit => format!("{name} ({unit})"),
    }
}

/// The unit of a result: what its pattern writes around its figures, and `%` for shares.
fn unit_of(layout: &Layout<'_>, result: usize) -> String {
    let slot = Slot::Result(result);
    if layout.grid.columns.get(result).is_some_and(|c| c.share) {
        return "%".to_owned();
    }
    layout.pattern(slot).map_or(String::new(), |pattern| pattern.unit())
}

fn drawn_as(grid: &Grid, look: &ChartLook, result: usize, in_time: bool) -> SeriesType {
    let Some(column) = grid.columns.get(result) else { return SeriesType::Bars };
    let named = |list: &[String]| Style::names(list, &column.heading, &column.calc);
    if named(&look.targets) {
        SeriesType::Target
    } else if named(&look.bars) {
        SeriesType::Bars
    } else if named(&look.lines) || in_time && look.bars.is_empty() {
        SeriesType::Line
    } else {
        SeriesType::Bars
    }
}

/// The figures of each panel, line by line; totals are no categories.
fn panels(layout: &Layout<'_>, series: &[Series], first_key: usize) -> Vec<Panel> {
    let grid = layout.grid;
    let new = |label: String| {
        let figures = vec![Vec::new(); series.len()];
        Panel { label, categories: Vec::new(), figures }
    };
    let mut panels: Vec<Panel> = Vec::new();
    let mut places: HashMap<String, usize> = HashMap::new();
    for row in layout.rows.iter() {
        let line = row.line;
        if !matches!(grid.lines[line].kind, LineKind::Group | LineKind::Rest) {
            continue;
        }
        let label = |keys: std::ops::Range<usize>| {
            let parts = keys.map(|key| {
                let mut text = String::new();
                layout.push_whole_label(&mut text, row, key);
                text
            });
            parts.filter(|p| !p.is_empty()).collect::<Vec<_>>().join(", ")
        };
        let of_panel = label(0..first_key);
        let at = *places.entry(of_panel).or_insert_with_key(|label| {
            panels.push(new(label.clone()));
            panels.len() - 1
        });
        panels[at].categories.push(label(first_key..grid.by.len()));
        for (of, series) in series.iter().enumerate() {
            let figure = grid.columns.get(series.column).and_then(|c| {
                let mut read = String::new();
                let value = number(&c.cells.data, c.kind, line)?;
                layout.push_read(&mut read, row, Slot::Result(series.column));
                Some((value, read))
            });
            panels[at].figures[of].push(figure);
        }
    }
    if panels.is_empty() {
        panels.push(new(String::new()));
    }
    panels
}

/// A figure for drawing.
fn number(data: &Data, kind: Kind, line: usize) -> Option<f64> {
    if data.is_missing(line) {
        return None;
    }
    let scaled = |whole: f64| match kind {
        Kind::Number { scale } => whole / 10f64.powi(i32::from(scale)),
        _ => whole,
    };
    let value = match data {
        Data::I64(v) => scaled(v[line] as f64),
        Data::I128(v) => scaled(v[line] as f64),
        Data::F64(v) => v[line],
        _ => return None,
    };
    value.is_finite().then_some(value)
}
