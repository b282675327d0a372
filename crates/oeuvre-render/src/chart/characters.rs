//! A chart in characters, for a terminal: a line for each category and series, with a bar or a dot and the figure.

use super::data::{ChartData, SeriesType};
use super::look::ChartLook;
use super::scale::Scale;
use crate::TextSettings;
use crate::cells::escape_controls;
use std::io::{self, Write};
use unicode_width::UnicodeWidthStr;

/// Eighths of a character.
const EIGHTHS: [char; 8] = ['▏', '▎', '▍', '▌', '▋', '▊', '▉', '█'];
/// The width of a page without a limit.
const PAGE: usize = 100;
/// Labels are cut behind so many columns of characters.
const LABEL: usize = 34;

/// Draws a chart.
pub(crate) fn write(
    data: &ChartData,
    look: &ChartLook,
    settings: TextSettings,
    out: &mut dyn Write,
) -> io::Result<()> {
    let bold = anstyle::Style::new().bold();
    let paint = |text: &str| match settings.color {
        true => format!("{bold}{text}{bold:#}"),
        false => text.to_owned(),
    };
    if let Some(title) = &look.title {
        writeln!(out, "{}\n", paint(&escape_controls(title)))?;
    }
    let cut = |text: &str| -> String {
        let mut out = String::new();
        for c in text.chars() {
            if out.width() + 2 > LABEL {
                return out + "…";
            }
            out.push(c);
        }
        out
    };
    let all =
        |f: &dyn Fn(&super::data::Panel) -> usize| data.panels.iter().map(f).max().unwrap_or(0);
    let labels = all(&|p| p.categories.iter().map(|c| cut(c).width()).max().unwrap_or(0));
    let names = match data.series.len() {
        0 | 1 => 0,
        _ => data.series.iter().map(|s| cut(&s.name).width()).max().unwrap_or(0) + 2,
    };
    let says = |f: &Option<(f64, String)>| f.as_ref().map_or(0, |(_, says)| says.width());
    let figures = all(&|p| p.figures.iter().flatten().map(says).max().unwrap_or(0));
    let page = settings.width_cols.unwrap_or(PAGE);
    let room = page.saturating_sub(labels + 2 + names + figures + 2).max(8);
    let scale = |right: bool| {
        let bounds = data.of_axis(right).fold((0.0f64, 0.0f64), |(a, b), v| (a.min(v), b.max(v)));
        Scale { low: bounds.0, high: if bounds.0 == bounds.1 { 1.0 } else { bounds.1 }, step: 1.0 }
    };
    let scales = [scale(false), scale(true)];
    for (p, panel) in data.panels.iter().enumerate() {
        if data.panels.len() > 1 {
            let above = if p > 0 { "\n" } else { "" };
            writeln!(out, "{above}{}", paint(&panel.label))?;
        }
        if panel.categories.is_empty() {
            writeln!(out, "there is no figure to show")?;
        }
        for (c, category) in panel.categories.iter().enumerate() {
            for (s, series) in data.series.iter().enumerate() {
                let label = if s == 0 { cut(category) } else { String::new() };
                let pad = |text: &str, to: usize| {
                    format!("{text}{}", " ".repeat(to.saturating_sub(text.width())))
                };
                let name = if names > 0 { pad(&cut(&series.name), names) } else { String::new() };
                let (drawn, figure) = match &panel.figures[s][c] {
                    None => (String::new(), String::new()),
                    Some((value, says)) => {
                        let scale = &scales[usize::from(series.right)];
                        (drawn(*value, scale, room, series.drawn), says.clone())
                    }
                };
                let figure =
                    format!("{}{figure}", " ".repeat(figures.saturating_sub(figure.width())));
                let line = format!("{}  {name}{figure}  {drawn}", pad(&label, labels));
                writeln!(out, "{}", line.trim_end())?;
            }
        }
    }
    if let Some(caption) = &look.caption {
        writeln!(out, "{}", escape_controls(caption))?;
    }
    Ok(())
}

/// A figure as a bar from zero, or as a dot.
fn drawn(value: f64, scale: &Scale, room: usize, of: SeriesType) -> String {
    let at = |v: f64| scale.place(v) * room as f64;
    let (zero, end) = (at(0.0), at(value));
    match of {
        SeriesType::Bars if value >= 0.0 => {
            let eighths = ((end - zero) * 8.0).round() as usize;
            let mut bar = " ".repeat(zero.round() as usize);
            bar.extend(std::iter::repeat_n('█', eighths / 8));
            if !eighths.is_multiple_of(8) {
                bar.push(EIGHTHS[eighths % 8 - 1]);
            }
            bar
        }
        SeriesType::Bars => {
            let (from, to) = (end.round() as usize, zero.round() as usize);
            format!("{}{}", " ".repeat(from), "█".repeat(to.saturating_sub(from).max(1)))
        }
        _ => {
            let place = (end.round() as usize).min(room.saturating_sub(1));
            let sign = if of == SeriesType::Line { '●' } else { '◇' };
            format!("{}{sign}", " ".repeat(place))
        }
    }
}
