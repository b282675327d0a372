//! What is drawn, and how.

use super::choice::choice;
use crate::complete;
use oeuvre_columns::quoting::outside_quotes;
use oeuvre_core::{Error, Show, SourceText};
use oeuvre_render::{ChartLook, Stacked};
use std::sync::Arc;

/// Options that say what is drawn.
#[derive(clap::Args, Debug, Default)]
#[command(next_help_heading = "What to draw")]
pub(crate) struct ChartOptions {
    /// A result drawn as bars; repeatable.
    ///
    /// A result drawn as bars; repeatable, and named as in --show: --bars 'Revenue: sum(fare * passengers)'. What
    /// --show names is a line along periods, and bars along categories.
    #[arg(long, value_name = "CALC", add = complete::calculations())]
    bars: Vec<String>,
    /// A result drawn as a line; repeatable.
    ///
    /// A result drawn as a line; repeatable. Where its unit is another one, or its figures lie over twenty times
    /// apart, it has its own axis on the right.
    #[arg(long, value_name = "CALC", add = complete::calculations())]
    line: Vec<String>,
    /// What was planned: a mark on each bar, or a dashed line.
    #[arg(long, value_name = "CALC", add = complete::calculations())]
    target: Vec<String>,
    /// A dot for each category at two results: 'sum(passengers), sum(fare)'.
    #[arg(long, value_name = "X, Y", conflicts_with_all = ["bars", "line", "target"])]
    points: Option<String>,
    /// Bars of several series on top of each other; =percent as parts of their sum.
    #[arg(long, value_name = "HOW", num_args = 0..=1, require_equals = true, default_missing_value = "yes", default_value = "no", hide_default_value = true, hide_possible_values = true, value_parser = choice::<Stacked>())]
    stacked: Stacked,
    /// A small chart for each label of a key, all on one scale.
    #[arg(long, value_name = "KEY", add = complete::calculations())]
    panels: Option<String>,
    /// One axis for everything, whatever its unit.
    #[arg(hide_short_help = true, long)]
    one_axis: bool,
    /// Width and height in pixels: 1200x675.
    #[arg(hide_short_help = true, long, value_name = "WxH", value_parser = size)]
    size: Option<(u32, u32)>,
    /// How many points of a picture a pixel is; 2 for print.
    #[arg(hide_short_help = true, long, value_name = "N", default_value = "1", hide_default_value = true, value_parser = scale)]
    scale: f32,
}

/// Words around a chart.
#[derive(clap::Args, Debug, Default)]
#[command(next_help_heading = "What to draw")]
pub(crate) struct ChartWords {
    /// What stands above it; may be a sentence.
    #[arg(long, value_name = "TEXT")]
    pub(crate) title: Option<String>,
    /// What stands below it.
    #[arg(long, value_name = "TEXT")]
    pub(crate) caption: Option<String>,
}

/// The parts of a list with commas between them.
fn parts(text: &str) -> Vec<String> {
    let (mut parts, mut from) = (Vec::new(), 0);
    for (at, ..) in outside_quotes(text).filter(|o| o.1 == ',' && o.2 == 0) {
        parts.push(text[from..at].trim().to_owned());
        from = at + 1;
    }
    parts.push(text[from..].trim().to_owned());
    parts
}

fn size(text: &str) -> Result<(u32, u32), String> {
    let sides = text.split_once(['x', '×']);
    let side = |text: &str| text.trim().parse::<u32>().ok().filter(|n| (120..=10_000).contains(n));
    match sides.map(|(w, h)| (side(w), side(h))) {
        Some((Some(w), Some(h))) => Ok((w, h)),
        _ => Err("write width and height in pixels from 120 to 10000, such as 1200x675".to_owned()),
    }
}

fn scale(text: &str) -> Result<f32, String> {
    let number = text.trim().parse::<f32>().ok().filter(|n| (0.1..=8.0).contains(n));
    number.ok_or_else(|| "write a number from 0.1 to 8".to_owned())
}

impl ChartOptions {
    /// The results that are drawn beside those of --show, each with the option that it is of.
    pub(crate) fn shows(&self) -> Vec<Show> {
        let all = |option: &'static str, texts: &[String]| -> Vec<Show> {
            texts.iter().flat_map(|text| Show::parse_all(option, text)).collect()
        };
        let points: Vec<String> = self.points.iter().flat_map(|both| parts(both)).collect();
        let lists = [
            ("--points", &points),
            ("--bars", &self.bars),
            ("--line", &self.line),
            ("--target", &self.target),
        ];
        lists.into_iter().flat_map(|(option, texts)| all(option, texts)).collect()
    }

    /// The key whose labels are panels.
    pub(crate) fn panels(&self) -> Option<Arc<SourceText>> {
        self.panels.as_ref().map(|key| SourceText::new("--panels", key.clone()))
    }

    /// Whether it is of points.
    pub(crate) fn has_points(&self) -> bool {
        self.points.is_some()
    }

    /// How it is drawn.
    pub(crate) fn to_look(&self) -> Result<ChartLook, Error> {
        let names = |texts: &[String]| -> Vec<String> {
            let shows = texts.iter().flat_map(|text| Show::parse_all("", text));
            shows.map(|show| show.heading.unwrap_or_else(|| show.calc.text.clone())).collect()
        };
        Ok(ChartLook {
            bars: names(&self.bars),
            lines: names(&self.line),
            targets: names(&self.target),
            points: self.points.is_some(),
            stacked: self.stacked,
            panels: self.panels.is_some(),
            one_axis: self.one_axis,
            title: None,
            caption: None,
            size: self.size,
            scale: self.scale.max(0.1),
        })
    }
}
