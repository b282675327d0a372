//! The figures of a chart, as the grid has them: series over categories, in panels.

use super::look::{ChartLook, Stacked};
use crate::cells::escape_controls;
use crate::layout::{Layout, Slot};
use crate::style::Style;
use oeuvre_columns::Kind;
use oeuvre_columns::column::Data;
use oeuvre_core::{Grid, LineKind};

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
    /// The column of the grid of each series.
    pub(crate) columns: Vec<usize>,
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
        let mut columns = Vec::new();
        for &result in &order {
            for (at, &position) in positions.iter().enumerate() {
                columns.push((result, position, position * results + result, at));
            }
        }
        let several = positions.len() > 1;
        let mut data = ChartData {
            series: Vec::new(),
            columns: columns.iter().map(|c| c.2).collect(),
            panels: panels(&layout, &columns, first_key),
            axes: Default::default(),
            in_time,
            keys: grid.by[first_key..]
                .iter()
                .map(|k| escape_controls(&k.name))
                .collect::<Vec<_>>()
                .join(", "),
        };
        let of_measures = order.iter().filter(|&&r| drawn(r) != SeriesType::Target).count();
        let mut inks = 0;
        for &(result, position, column, at) in &columns {
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
                (true, false) if drawn(result) != SeriesType::Target => labels,
                (true, _) => format!("{heading}, {labels}"),
            };
            let ink = match drawn(result) {
                SeriesType::Target if of_measures > 0 => at,
                _ => {
                    inks += 1;
                    inks - 1
                }
            };
            data.series.push(Series { name, drawn: drawn(result), right: false, ink });
        }
        data.settle_axes(&layout, &columns, look);
        data
    }

    /// Which series has which axis, and what these measure.
    fn settle_axes(
        &mut self,
        layout: &Layout<'_>,
        columns: &[(usize, usize, usize, usize)],
        look: &ChartLook,
    ) {
        let grid = layout.grid;
        let Some(&(first, ..)) = columns.first() else { return };
        let unit = |result: usize| unit_of(layout, result);
        let range = |this: &ChartData, of: usize| {
            let series = columns.iter().enumerate().filter(|(_, c)| c.0 == of).map(|(s, _)| s);
            let figures = series.flat_map(|s| this.panels.iter().flat_map(move |p| &p.figures[s]));
            figures.flatten().map(|(v, _)| v.abs()).fold(0.0, f64::max)
        };
        let left = (unit(first), range(self, first));
        for (series, &(result, ..)) in columns.iter().enumerate() {
            if self.series[series].drawn != SeriesType::Line || result == first {
                continue;
            }
            // Parts of a sum have no line among them.
            if look.stacked == Stacked::Percent {
                self.series[series].right = true;
                continue;
            }
            if look.one_axis {
                continue;
            }
            let largest = range(self, result);
            let apart = largest > 0.0
                && left.1 > 0.0
                && !(1.0 / TIMES_APART..=TIMES_APART).contains(&(largest / left.1));
            self.series[series].right = unit(result) != left.0 || apart;
        }
        for (right, axis) in [false, true].into_iter().enumerate() {
            let mut names: Vec<String> = Vec::new();
            for (series, &(result, ..)) in columns.iter().enumerate() {
                let of = &self.series[series];
                if of.right == axis && of.drawn != SeriesType::Target {
                    let column = grid.columns.get(result).map(|c| c.heading.as_str());
                    let name = escape_controls(column.unwrap_or_default());
                    let name = with_unit(name, &unit(result));
                    if !names.contains(&name) {
                        names.push(name);
                    }
                    self.axes[right].percent = unit(result) == "%";
                }
            }
            self.axes[right].name = names.join(", ");
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
fn panels(
    layout: &Layout<'_>,
    columns: &[(usize, usize, usize, usize)],
    first_key: usize,
) -> Vec<Panel> {
    let grid = layout.grid;
    let mut panels: Vec<Panel> = Vec::new();
    for &row in &layout.rows {
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
        let at = panels.iter().position(|p| p.label == of_panel).unwrap_or_else(|| {
            let figures = vec![Vec::new(); columns.len()];
            panels.push(Panel { label: of_panel, categories: Vec::new(), figures });
            panels.len() - 1
        });
        panels[at].categories.push(label(first_key..grid.by.len()));
        for (series, &(_, _, column, _)) in columns.iter().enumerate() {
            let figure = grid.columns.get(column).and_then(|c| {
                let mut read = String::new();
                let value = number(&c.cells.data, c.kind, line)?;
                layout.push_read(&mut read, row, Slot::Result(column));
                Some((value, read))
            });
            panels[at].figures[series].push(figure);
        }
    }
    if panels.is_empty() {
        let figures = vec![Vec::new(); columns.len()];
        panels.push(Panel { label: String::new(), categories: Vec::new(), figures });
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
