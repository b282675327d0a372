//! A chart of a workbook's own, beside the figures that it draws.

use crate::chart::{ChartData, ChartLook, INKS, SeriesType, Stacked};
use crate::document::Part;
use crate::layout::{Layout, Slot};
use oeuvre_core::LineKind;
use rust_xlsxwriter::{
    Chart, ChartFormat, ChartLine, ChartLineDashType, ChartMarker, ChartSeries, ChartSolidFill,
    ChartType, Color, Worksheet, XlsxError,
};

/// The size of a chart in a sheet, in pixels.
const WIDTH: u32 = 860;
const HEIGHT: u32 = 460;

/// Draws the chart of a part, whose figures stand in a sheet from a line on.
pub(crate) fn write(
    part: &Part<'_>,
    look: &ChartLook,
    first: u32,
    sheet: &mut Worksheet,
) -> Result<(), XlsxError> {
    let layout = Layout::new(part.grid, part.style);
    let data = ChartData::of(part.grid, part.style, look);
    let is_drawn = |row: &crate::layout::Row| {
        matches!(part.grid.lines[row.line].kind, LineKind::Group | LineKind::Rest)
    };
    let lines = layout.rows.iter().filter(|row| is_drawn(row)).count() as u32;
    if lines == 0 || layout.is_long() {
        return Ok(());
    }
    let name = sheet.name();
    let last = first + lines - 1;
    let keys = layout.slots.iter().filter(|s| matches!(s, Slot::Key(_))).count() as u16;
    let column_of = |column: usize| keys + column as u16;
    let lying =
        data.series.iter().all(|s| s.drawn == SeriesType::Bars) && !data.in_time && lines > 14;
    let bars_type = match (look.stacked, lying) {
        (Stacked::No, false) => ChartType::Column,
        (Stacked::No, true) => ChartType::Bar,
        (Stacked::Yes, false) => ChartType::ColumnStacked,
        (Stacked::Yes, true) => ChartType::BarStacked,
        (Stacked::Percent, false) => ChartType::ColumnPercentStacked,
        (Stacked::Percent, true) => ChartType::BarPercentStacked,
    };
    if look.points {
        let mut chart = Chart::new(ChartType::Scatter);
        let series = chart.add_series();
        series.set_categories((name.as_str(), first, column_of(0), last, column_of(0)));
        series.set_values((name.as_str(), first, column_of(1), last, column_of(1)));
        series.set_name(inert(part.heading()).as_str());
        chart.x_axis().set_name(inert(&data.axes[1].name).as_str());
        chart.y_axis().set_name(inert(&data.axes[0].name).as_str());
        chart.legend().set_hidden();
        return insert(chart, part, &layout, sheet);
    }
    let (mut bars, mut over) = (Chart::new(bars_type), Chart::new(ChartType::Line));
    let (mut has_bars, mut has_over) = (false, false);
    for of in &data.series {
        let is_bar = of.drawn == SeriesType::Bars;
        let chart = if is_bar { &mut bars } else { &mut over };
        (has_bars, has_over) = (has_bars || is_bar, has_over || !is_bar);
        let column = column_of(of.column);
        let ink = Color::RGB(
            u32::from_str_radix(INKS[of.ink % INKS.len()].trim_start_matches('#'), 16).unwrap_or(0),
        );
        let it = chart.add_series();
        if keys > 0 {
            it.set_categories((name.as_str(), first, 0, last, keys - 1));
        }
        it.set_values((name.as_str(), first, column, last, column))
            .set_name(inert(&of.name).as_str());
        look_of(it, of.drawn, ink);
        if of.right && !lying {
            it.set_secondary_axis(true);
        }
    }
    let mut chart = match (has_bars, has_over) {
        (true, true) if !lying => {
            if data.series.iter().any(|s| s.right) {
                over.y2_axis().set_name(inert(&data.axes[1].name).as_str());
            }
            bars.combine(&over);
            bars
        }
        (true, _) => bars,
        _ => over,
    };
    chart.y_axis().set_name(inert(&data.axes[0].name).as_str());
    if data.series.len() < 2 {
        chart.legend().set_hidden();
    }
    insert(chart, part, &layout, sheet)
}

/// Gives a series its ink.
fn look_of(series: &mut ChartSeries, drawn: SeriesType, ink: Color) {
    let mut format = ChartFormat::new();
    match drawn {
        SeriesType::Bars => {
            format.set_solid_fill(ChartSolidFill::new().set_color(ink));
        }
        SeriesType::Line => {
            format.set_line(ChartLine::new().set_color(ink).set_width(2.25));
        }
        SeriesType::Target => {
            let mut line = ChartLine::new();
            line.set_color(Color::RGB(0x001c_2127)).set_width(1.5);
            format.set_line(line.set_dash_type(ChartLineDashType::Dash));
        }
    }
    series.set_format(&mut format);
    if drawn != SeriesType::Bars {
        series.set_marker(ChartMarker::new().set_none());
    }
}

fn insert(
    mut chart: Chart,
    part: &Part<'_>,
    layout: &Layout<'_>,
    sheet: &mut Worksheet,
) -> Result<(), XlsxError> {
    let title = part.chart.and_then(|look| look.title.clone());
    let title = title.unwrap_or_else(|| part.heading().to_owned());
    chart.title().set_name(inert(&title).as_str());
    chart.set_width(WIDTH).set_height(HEIGHT);
    chart.set_alt_text(part.scene_below_title().map_or(String::new(), |scene| scene.description));
    // A gap is a gap.
    chart.show_empty_cells_as(rust_xlsxwriter::ChartEmptyCells::Gaps);
    sheet.insert_chart(1, layout.slots.len() as u16 + 1, &chart)?;
    Ok(())
}

/// A text that the library does not take for a reference to cells.
fn inert(text: &str) -> String {
    let text = super::cells::fitting(text).0;
    if text.starts_with('=') { format!(" {text}") } else { text }
}
