//! Where everything of a chart stands: title, axes, legend, panels, and the figures in them.

use super::data::{ChartData, Panel, SeriesType};
use super::look::{ChartLook, Stacked};
use super::scale::{Scale, tick_text};
use super::scene::{Area, Hold, Ink, Scene, Shape, Sign};
use super::text::{fitting, lines, width};
use crate::cells::escape_controls;
use crate::format::Signs;

/// The size of a chart in pixels unless it is said.
const SIZE: (u32, u32) = (1200, 675);
/// Around everything.
const EDGE: f64 = 28.0;
const TITLE: f64 = 23.0;
const WORDS: f64 = 14.0;
const TICK: f64 = 13.0;
/// From one line of words to the next, in parts of their size.
const LEADING: f64 = 1.35;
/// The part of its place that a bar, or bars side by side, take.
const FILLED: f64 = 0.74;
/// A lying bar has at least so much room where the height may grow.
const ROW: f64 = 25.0;
/// A chart does not grow higher than this.
const HIGHEST: f64 = 12_000.0;
/// More points than this have no names beside them.
const NAMED: usize = 400;
/// More lines than this have no dots at their figures.
const DOTS: usize = 40;

/// Draws a chart.
pub(crate) fn draw(data: &ChartData, look: &ChartLook, signs: Option<Signs>) -> Scene {
    // Without bars there is nothing to stack.
    let has_bars = data.series.iter().any(|s| s.drawn == SeriesType::Bars);
    let unstacked = ChartLook { stacked: Stacked::No, ..look.clone() };
    let look = if has_bars { look } else { &unstacked };
    let (w, h) = look.size.unwrap_or(SIZE);
    let (w, mut h) = (f64::from(w.max(160)), f64::from(h.max(120)));
    let categories = data.panels.iter().map(|p| p.categories.len()).max().unwrap_or(0);
    // What stands below a title on a page needs no air around it.
    let below_title = look.title.as_ref().is_some_and(String::is_empty);
    let edge = if below_title { 4.0 } else { EDGE };
    let lying = is_lying(data, look, w);
    if lying && look.size.is_none() {
        let bars = match look.stacked {
            Stacked::No => data.series.iter().filter(|s| s.drawn == SeriesType::Bars).count(),
            _ => 1,
        };
        let row = ROW.max(12.0 * bars as f64);
        h = h.max((categories as f64 * row + 220.0).min(HIGHEST));
    }
    let mut it = Drawing {
        data,
        look,
        signs,
        lying,
        edge,
        scene: Scene { width: w, height: h, ..Scene::default() },
    };
    it.words();
    it.scene
}

/// Whether bars lie: where their labels are too long or too many to stand below them.
fn is_lying(data: &ChartData, look: &ChartLook, w: f64) -> bool {
    let only_bars = data.series.iter().all(|s| s.drawn != SeriesType::Line);
    if !only_bars || data.in_time || look.points {
        return false;
    }
    let count = data.panels.iter().map(|p| p.categories.len()).max().unwrap_or(0);
    let longest = data.panels.iter().flat_map(|p| &p.categories).map(|c| width(c, TICK, false));
    let columns = columns_of_panels(data.panels.len()) as f64;
    let room = (w - 2.0 * EDGE) / columns - 70.0;
    count > 1 && longest.fold(0.0, f64::max) + 10.0 > room / count as f64
}

fn columns_of_panels(panels: usize) -> usize {
    match panels {
        0 | 1 => 1,
        2..=4 => 2,
        5..=9 => 3,
        _ => 4,
    }
}

struct Drawing<'a> {
    data: &'a ChartData,
    look: &'a ChartLook,
    signs: Option<Signs>,
    lying: bool,
    /// Around everything.
    edge: f64,
    scene: Scene,
}

impl Drawing<'_> {
    fn push(&mut self, shape: Shape) {
        self.scene.shapes.push(shape);
    }

    /// Writes a text, held at a point on its base line.
    fn text(
        &mut self,
        at: (f64, f64),
        hold: Hold,
        (size, bold): (f64, bool),
        ink: Ink,
        text: &str,
    ) {
        let w = width(text, size, bold);
        let x = match hold {
            Hold::Start => at.0,
            Hold::Middle => at.0 - w / 2.0,
            Hold::End => at.0 - w,
        };
        let area = Area { x, y: at.1 - size * 0.8, w, h: size };
        self.push(Shape::Text { at, hold, size, bold, ink, text: text.to_owned(), area });
    }

    /// Draws everything, from the title down.
    fn words(&mut self) {
        let (data, look) = (self.data, self.look);
        let (w, h) = (self.scene.width, self.scene.height);
        let room = w - 2.0 * self.edge;
        let title = look.title.clone().unwrap_or_else(|| own_title(data, look));
        let mut top = self.edge;
        let words = lines(&escape_controls(&title), room, TITLE, true);
        for line in words.iter().filter(|line| !line.is_empty()).take(3) {
            self.text((self.edge, top + TITLE * 0.8), Hold::Start, (TITLE, true), Ink::Text, line);
            top += TITLE * LEADING;
        }
        self.scene.title = title;
        self.scene.description = described(data, look);
        top = self.axis_names(top, room);
        let at_ends = self.ends_have_room(h - top);
        if !at_ends {
            top = self.legend(top, room);
        }
        let mut bottom = h - self.edge * 0.7;
        if let Some(caption) = &look.caption {
            let all = lines(&escape_controls(caption), room, TICK, false);
            for line in all.iter().take(4).rev() {
                self.text((self.edge, bottom), Hold::Start, (TICK, false), Ink::Soft, line);
                bottom -= TICK * LEADING;
            }
            bottom -= 4.0;
        }
        let area =
            Area { x: self.edge, y: top + 10.0, w: room, h: (bottom - top - 10.0).max(20.0) };
        if data.panels.iter().all(|p| p.figures.iter().flatten().all(Option::is_none)) {
            let middle = (w / 2.0, area.y + area.h / 2.0);
            self.text(
                middle,
                Hold::Middle,
                (WORDS, false),
                Ink::Soft,
                "there is no figure to show",
            );
            return;
        }
        if look.points {
            self.points(area);
        } else {
            self.panels(area, at_ends);
        }
    }

    /// Says what the axes measure.
    fn axis_names(&mut self, top: f64, room: f64) -> f64 {
        let [left, right] = [&self.data.axes[0].name, &self.data.axes[1].name];
        let has_right = !right.is_empty() && !self.look.points;
        // A title of our own says it already, but for a unit.
        let says_it = self.look.title.is_none()
            && !left.contains(" (")
            && self.look.stacked != Stacked::Percent;
        if (left.is_empty() || says_it && !self.look.points) && !has_right {
            return top;
        }
        let base = top + WORDS * 0.9;
        let half = if has_right { room / 2.0 - 10.0 } else { room };
        let text = match self.look.stacked {
            Stacked::Percent => format!("{left}, parts of the sum"),
            _ => left.clone(),
        };
        self.text(
            (self.edge, base),
            Hold::Start,
            (WORDS, false),
            Ink::Soft,
            &fitting(&text, half, WORDS),
        );
        if has_right {
            let ink =
                self.data.series.iter().find(|s| s.right).map_or(Ink::Soft, |s| Ink::Series(s.ink));
            let text = fitting(right, half, WORDS);
            self.text((self.edge + room, base), Hold::End, (WORDS, false), ink, &text);
        }
        top + WORDS * LEADING + 4.0
    }

    /// Whether the names of lines have room at their ends.
    fn ends_have_room(&self, room: f64) -> bool {
        let lines = self.data.series.iter().all(|s| s.drawn == SeriesType::Line && !s.right);
        let count = self.data.series.len();
        lines && count > 1 && self.data.panels.len() == 1 && count as f64 * TICK * 1.5 < room - 80.0
    }

    /// The names of the series with their inks; none where one alone is named by its axis.
    fn legend(&mut self, top: f64, room: f64) -> f64 {
        if self.data.series.len() < 2 || self.look.points {
            return top;
        }
        let (mut x, mut y) = (self.edge, top + 4.0);
        for series in self.data.series.clone() {
            let text = fitting(&series.name, room * 0.45, TICK);
            let needs = 24.0 + width(&text, TICK, false) + 22.0;
            if x > self.edge && x + needs > self.edge + room {
                (x, y) = (self.edge, y + TICK * 1.6);
            }
            let area = Area { x, y: y + 1.0, w: 16.0, h: 12.0 };
            let target = series.drawn == SeriesType::Target;
            let has_bars = self.data.series.iter().any(|s| s.drawn == SeriesType::Bars);
            let sign = match series.drawn {
                SeriesType::Bars => Sign::Bar,
                SeriesType::Target if has_bars => Sign::Mark,
                _ => Sign::Line { dashed: target },
            };
            self.push(Shape::Swatch { area, series: series.ink, sign });
            self.text((x + 23.0, y + 11.5), Hold::Start, (TICK, false), Ink::Text, &text);
            x += needs;
        }
        y + TICK * 1.6
    }

    /// Draws all panels, on the same scales.
    fn panels(&mut self, area: Area, at_ends: bool) {
        let data = self.data;
        let count = data.panels.len();
        let columns = columns_of_panels(count);
        let rows = count.div_ceil(columns);
        let scales = [self.scale(false), self.scale(true)];
        let (w, h) = (area.w / columns as f64, area.h / rows as f64);
        for (at, panel) in data.panels.iter().enumerate() {
            let (column, row) = (at % columns, at / columns);
            let gap = if columns > 1 { 18.0 } else { 0.0 };
            let mut inner = Area {
                x: area.x + column as f64 * w,
                y: area.y + row as f64 * h,
                w: w - gap,
                h: h - if rows > 1 { 12.0 } else { 0.0 },
            };
            if count > 1 {
                let label = if panel.label.is_empty() { "(missing)" } else { &panel.label };
                let label = fitting(label, inner.w / 1.2, WORDS);
                self.text((inner.x, inner.y + 12.0), Hold::Start, (WORDS, true), Ink::Text, &label);
                inner.y += 22.0;
                inner.h = (inner.h - 22.0).max(20.0);
            }
            if self.lying {
                self.lying_bars(panel, inner, &scales[0]);
            } else {
                self.upright(panel, inner, &scales, at_ends);
            }
        }
    }

    /// The scale of an axis over all panels.
    fn scale(&self, right: bool) -> Scale {
        if self.look.stacked == Stacked::Percent && !right {
            let mut sums = self.data.panels.iter().flat_map(|panel| {
                (0..panel.categories.len()).map(|category| self.sums(panel, category))
            });
            let low = if sums.any(|(down, _)| down < 0.0) { -1.0 } else { 0.0 };
            return Scale { low, high: 1.0, step: 0.2 };
        }
        let has_bars =
            self.data.series.iter().any(|s| s.right == right && s.drawn == SeriesType::Bars);
        let (mut low, mut high) = (f64::INFINITY, f64::NEG_INFINITY);
        for value in self.data.of_axis(right) {
            (low, high) = (low.min(value), high.max(value));
        }
        if self.look.stacked == Stacked::Yes && !right {
            for panel in &self.data.panels {
                for category in 0..panel.categories.len() {
                    let (down, up) = self.sums(panel, category);
                    (low, high) = (low.min(down), high.max(up));
                }
            }
        }
        // A line alone may leave zero out where its figures lie far from it; it says so by its ticks.
        let near_zero = low >= 0.0 && low < high * 0.7 || low <= 0.0 || low == high;
        Scale::of(low, high, has_bars || near_zero)
    }

    /// The sums of the negative and of the positive bars of a category.
    fn sums(&self, panel: &Panel, category: usize) -> (f64, f64) {
        let bars = self
            .data
            .series
            .iter()
            .zip(&panel.figures)
            .filter(|(s, _)| s.drawn == SeriesType::Bars);
        let values = bars.filter_map(|(_, f)| f[category].as_ref().map(|(v, _)| *v));
        values.fold((0.0, 0.0), |(down, up), v| (down + v.min(0.0), up + v.max(0.0)))
    }

    fn tick(&self, value: f64, scale: &Scale, right: bool) -> String {
        let percent = self.data.axes[usize::from(right)].percent
            || self.look.stacked == Stacked::Percent && !right;
        tick_text(value, scale, percent, self.signs)
    }

    /// The ticks of a scale that have room for their words.
    fn ticks(scale: &Scale, length: f64, each: f64) -> Vec<f64> {
        let all = scale.ticks();
        let apart = length / all.len().saturating_sub(1).max(1) as f64;
        let every = (each / apart).ceil().max(1.0) as usize;
        // Zero stays among them.
        let zero = all.iter().position(|t| t.abs() < scale.step / 2.0).unwrap_or(0);
        let keep = |i: &usize| (*i + every * all.len() - zero).is_multiple_of(every);
        (0..all.len()).filter(keep).map(|i| all[i]).collect()
    }

    /// Bars that stand, and lines.
    fn upright(&mut self, panel: &Panel, outer: Area, scales: &[Scale; 2], at_ends: bool) {
        let data = self.data;
        let has_right = data.series.iter().any(|s| s.right);
        let widest = |this: &Self, right: bool| {
            let scale = &scales[usize::from(right)];
            let texts = scale.ticks().into_iter().map(|t| this.tick(t, scale, right));
            texts.map(|t| width(&t, TICK, false)).fold(0.0, f64::max)
        };
        let left = widest(self, false) + 10.0;
        let ends = data.series.iter().map(|s| width(&s.name, TICK, false)).fold(0.0, f64::max);
        let ends = ends.min(outer.w * 0.24);
        let right = match (has_right, at_ends) {
            (true, _) => widest(self, true) + 10.0,
            (_, true) => ends + 12.0,
            _ => 6.0,
        };
        let area = Area {
            x: outer.x + left,
            y: outer.y + 6.0,
            w: (outer.w - left - right).max(10.0),
            h: (outer.h - 32.0).max(10.0),
        };
        self.push(Shape::Panel(area));
        let y_of = |scale: &Scale, value: f64| area.y + area.h * (1.0 - scale.place(value));
        for tick in Self::ticks(&scales[0], area.h, TICK * 1.5) {
            let y = y_of(&scales[0], tick);
            self.push(Shape::Rule { from: (area.x, y), to: (area.x + area.w, y), ink: Ink::Pale });
            let text = self.tick(tick, &scales[0], false);
            self.text((area.x - 8.0, y + TICK * 0.35), Hold::End, (TICK, false), Ink::Soft, &text);
        }
        if has_right {
            for tick in Self::ticks(&scales[1], area.h, TICK * 1.5) {
                let at = (area.x + area.w + 8.0, y_of(&scales[1], tick) + TICK * 0.35);
                let text = self.tick(tick, &scales[1], true);
                let ink =
                    data.series.iter().find(|s| s.right).map_or(Ink::Soft, |s| Ink::Series(s.ink));
                self.text(at, Hold::Start, (TICK, false), ink, &text);
            }
        }
        let band = area.w / panel.categories.len().max(1) as f64;
        self.category_labels(panel, area, band);
        let base = if scales[0].low <= 0.0 { y_of(&scales[0], 0.0) } else { area.y + area.h };
        self.bars(panel, (area, band), &scales[0], false);
        self.figures_of_bars(panel, (area, band), &scales[0]);
        self.push(Shape::Rule {
            from: (area.x, base),
            to: (area.x + area.w, base),
            ink: Ink::Soft,
        });
        let mut names = Vec::new();
        for (series, figures) in data.series.iter().zip(&panel.figures) {
            if series.drawn == SeriesType::Bars {
                continue;
            }
            let has_bars = data.series.iter().any(|s| s.drawn == SeriesType::Bars);
            let target = series.drawn == SeriesType::Target;
            if target && has_bars {
                continue;
            }
            let scale = &scales[usize::from(series.right)];
            let place = |(i, f): (usize, &Option<(f64, String)>)| {
                f.as_ref().map(|(v, says)| {
                    ((area.x + band * (i as f64 + 0.5), y_of(scale, *v)), says.clone())
                })
            };
            let points: Vec<_> = figures.iter().enumerate().map(place).collect();
            self.line(&points, &panel.categories, (series.ink, target), &series.name);
            if let Some((at, _)) = points.iter().flatten().last() {
                names.push((at.1, series.ink, fitting(&series.name, ends, TICK)));
            }
        }
        if at_ends {
            self.end_names(area, names);
        }
    }

    /// The figures of few bars above them, so that one that is too small to be seen is not taken for none.
    fn figures_of_bars(&mut self, panel: &Panel, (area, band): (Area, f64), scale: &Scale) {
        let data = self.data;
        if data.series.len() != 1 || data.series[0].drawn != SeriesType::Bars {
            return;
        }
        let figures = &panel.figures[0];
        let fits = |f: &Option<(f64, String)>| {
            f.as_ref().is_none_or(|(_, says)| width(says, TICK, false) + 8.0 < band)
        };
        if !figures.iter().all(fits) {
            return;
        }
        for (i, figure) in figures.iter().enumerate() {
            let Some((value, says)) = figure else { continue };
            let end = area.y + area.h * (1.0 - scale.place(*value));
            let y = if *value < 0.0 { end + TICK * 1.1 } else { end - 5.0 };
            // There is no room below a bar that reaches the end of its panel.
            if y > area.y + area.h {
                continue;
            }
            let at = (area.x + band * (i as f64 + 0.5), y.max(area.y + TICK * 0.2));
            self.text(at, Hold::Middle, (TICK, false), Ink::Soft, says);
        }
    }

    /// A line with its gaps, and dots where these are few, or a figure has no neighbour.
    fn line(
        &mut self,
        points: &[Option<((f64, f64), String)>],
        categories: &[String],
        (series, dashed): (usize, bool),
        name: &str,
    ) {
        for run in points.split(Option::is_none) {
            let run: Vec<(f64, f64)> = run.iter().flatten().map(|(at, _)| *at).collect();
            if run.len() > 1 {
                self.push(Shape::Line { points: run, series, dashed });
            }
        }
        for (i, point) in points.iter().enumerate() {
            let Some((at, says)) = point else { continue };
            let alone = (i == 0 || points[i - 1].is_none())
                && points.get(i + 1).is_none_or(Option::is_none);
            if points.len() <= DOTS && !dashed || alone {
                let says = format!("{name}, {}: {says}", categories[i]);
                self.push(Shape::Dot { at: *at, series, says });
            }
        }
    }

    /// Names of lines at their ends, moved apart where they would meet.
    fn end_names(&mut self, area: Area, mut names: Vec<(f64, usize, String)>) {
        names.sort_by(|a, b| a.0.total_cmp(&b.0));
        let apart = TICK * 1.3;
        let mut below = area.y;
        for name in &mut names {
            name.0 = name.0.max(below);
            below = name.0 + apart;
        }
        let mut above = area.y + area.h;
        for name in names.iter_mut().rev() {
            name.0 = name.0.min(above);
            above = name.0 - apart;
        }
        for (y, ink, text) in names {
            let at = (area.x + area.w + 8.0, y + TICK * 0.35);
            self.text(at, Hold::Start, (TICK, false), Ink::Series(ink), &text);
        }
    }

    /// The labels below a panel: as many as have room.
    fn category_labels(&mut self, panel: &Panel, area: Area, band: f64) {
        let room = (area.w / 3.0).max(band - 8.0);
        let texts: Vec<String> = panel.categories.iter().map(|c| fitting(c, room, TICK)).collect();
        let longest = texts.iter().map(|t| width(t, TICK, false)).fold(0.0, f64::max);
        let every = ((longest + 12.0) / band).ceil().max(1.0) as usize;
        let (left, right) = (self.scene_left(area), area.x + area.w + 40.0);
        for (i, text) in texts.iter().enumerate().step_by(every) {
            let half = width(text, TICK, false) / 2.0;
            let x = (area.x + band * (i as f64 + 0.5))
                .clamp(left + half, (right - half).max(left + half));
            let at = (x, area.y + area.h + 20.0);
            self.text(at, Hold::Middle, (TICK, false), Ink::Soft, text);
        }
    }

    /// How far to the left of an area labels may reach.
    fn scene_left(&self, area: Area) -> f64 {
        area.x - 40.0_f64.min(area.x)
    }

    /// The bars of a panel, side by side or on top of each other, with the marks of targets on them.
    fn bars(&mut self, panel: &Panel, (area, band): (Area, f64), scale: &Scale, lying: bool) {
        let data = self.data;
        let stacked = self.look.stacked;
        let bars: Vec<usize> =
            (0..data.series.len()).filter(|&s| data.series[s].drawn == SeriesType::Bars).collect();
        let side = if stacked == Stacked::No { bars.len().max(1) } else { 1 };
        let thick = (band * FILLED / side as f64).clamp(0.5, 90.0);
        let along = |value: f64| match lying {
            true => area.x + area.w * scale.place(value),
            false => area.y + area.h * (1.0 - scale.place(value)),
        };
        for category in 0..panel.categories.len() {
            let middle = if lying { area.y } else { area.x } + band * (category as f64 + 0.5);
            let first = middle - thick * side as f64 / 2.0;
            let (down, up) = self.sums(panel, category);
            let whole = if stacked == Stacked::Percent { up - down } else { 1.0 };
            let mut ends = (0.0, 0.0);
            for (at, &series) in bars.iter().enumerate() {
                let Some((value, says)) = &panel.figures[series][category] else { continue };
                let part = if whole > 0.0 { value / whole } else { 0.0 };
                let (from, place) = match (stacked, part < 0.0) {
                    (Stacked::No, _) => (0.0, first + thick * at as f64),
                    (_, true) => (ends.0, first),
                    (_, false) => (ends.1, first),
                };
                if part < 0.0 {
                    ends.0 += part;
                } else {
                    ends.1 += part;
                }
                let (a, b) = (along(from), along(from + part));
                let (start, length) = (a.min(b), (a - b).abs());
                let area = match lying {
                    true => Area { x: start, y: place, w: length, h: thick },
                    false => Area { x: place, y: start, w: thick, h: length },
                };
                let ink = data.series[series].ink;
                let says =
                    format!("{}, {}: {says}", data.series[series].name, panel.categories[category]);
                self.push(Shape::Bar { area, series: ink, value: part, says, lying });
                self.target(panel, category, ink, (place, thick), &along, lying);
            }
        }
    }

    /// The mark of what was planned for a bar.
    fn target(
        &mut self,
        panel: &Panel,
        category: usize,
        ink: usize,
        (place, thick): (f64, f64),
        along: &dyn Fn(f64) -> f64,
        lying: bool,
    ) {
        let of = |s: &super::data::Series| s.drawn == SeriesType::Target && s.ink == ink;
        let Some(series) = self.data.series.iter().position(of) else { return };
        let Some((value, says)) = &panel.figures[series][category] else { return };
        let (at, over) = (along(*value), thick * 0.12);
        let (from, to) = match lying {
            true => ((at, place - over), (at, place + thick + over)),
            false => ((place - over, at), (place + thick + over, at)),
        };
        let says =
            format!("{}, {}: {says}", self.data.series[series].name, panel.categories[category]);
        self.push(Shape::Mark { from, to, says });
    }

    /// Bars that lie, each with its label before it and, where it is alone, its figure behind it.
    fn lying_bars(&mut self, panel: &Panel, outer: Area, scale: &Scale) {
        let data = self.data;
        let labels = outer.w * 0.34;
        let texts: Vec<String> =
            panel.categories.iter().map(|c| fitting(c, labels, TICK)).collect();
        let left = texts.iter().map(|t| width(t, TICK, false)).fold(0.0, f64::max) + 10.0;
        let alone = data.series.len() == 1 && scale.low >= 0.0;
        let read = |f: &Option<(f64, String)>| {
            f.as_ref().map_or(0.0, |(_, says)| width(says, TICK, false))
        };
        let right = match alone {
            true => panel.figures[0].iter().map(read).fold(0.0, f64::max) + 14.0,
            false => 24.0,
        };
        let area = Area {
            x: outer.x + left,
            y: outer.y,
            w: (outer.w - left - right).max(10.0),
            h: (outer.h - 26.0).max(10.0),
        };
        self.push(Shape::Panel(area));
        let x_of = |value: f64| area.x + area.w * scale.place(value);
        let texts_of_ticks = scale.ticks().into_iter().map(|t| self.tick(t, scale, false));
        let widest = texts_of_ticks.map(|t| width(&t, TICK, false)).fold(0.0, f64::max);
        for tick in Self::ticks(scale, area.w, widest + 16.0) {
            let x = x_of(tick);
            self.push(Shape::Rule { from: (x, area.y), to: (x, area.y + area.h), ink: Ink::Pale });
            let text = self.tick(tick, scale, false);
            self.text((x, area.y + area.h + 18.0), Hold::Middle, (TICK, false), Ink::Soft, &text);
        }
        let band = area.h / panel.categories.len().max(1) as f64;
        // Where even lying labels have no room, some stand for those around them.
        let every = (TICK * 1.15 / band).ceil().max(1.0) as usize;
        for (i, text) in texts.iter().enumerate().step_by(every) {
            let y = area.y + band * (i as f64 + 0.5) + TICK * 0.35;
            self.text((area.x - 8.0, y), Hold::End, (TICK, false), Ink::Text, text);
            if let (true, Some((value, says))) = (alone, &panel.figures[0][i]) {
                self.text((x_of(*value) + 6.0, y), Hold::Start, (TICK, false), Ink::Soft, says);
            }
        }
        self.bars(panel, (area, band), scale, true);
        let x = x_of(0.0);
        self.push(Shape::Rule { from: (x, area.y), to: (x, area.y + area.h), ink: Ink::Soft });
    }

    /// A dot for each category, placed by its first two figures.
    fn points(&mut self, outer: Area) {
        let data = self.data;
        let panel = &data.panels[0];
        let (Some(right), Some(up)) = (panel.figures.first(), panel.figures.get(1)) else { return };
        let both: Vec<(usize, f64, f64, String)> = right
            .iter()
            .zip(up)
            .enumerate()
            .filter_map(|(i, (x, y))| {
                let ((x, x_says), (y, y_says)) = (x.as_ref()?, y.as_ref()?);
                Some((i, *x, *y, format!("{}: {x_says}, {y_says}", panel.categories[i])))
            })
            .collect();
        let bounds = |values: &mut dyn Iterator<Item = f64>| {
            values.fold((f64::INFINITY, f64::NEG_INFINITY), |(a, b), v| (a.min(v), b.max(v)))
        };
        let x_bounds = bounds(&mut both.iter().map(|p| p.1));
        let y_bounds = bounds(&mut both.iter().map(|p| p.2));
        let near_zero = |(low, high): (f64, f64)| low >= 0.0 && low < high * 0.5;
        let x_scale = Scale::of(x_bounds.0, x_bounds.1, near_zero(x_bounds));
        let y_scale = Scale::of(y_bounds.0, y_bounds.1, near_zero(y_bounds));
        let widest =
            y_scale.ticks().into_iter().map(|t| width(&self.tick(t, &y_scale, false), TICK, false));
        let left = widest.fold(0.0, f64::max) + 10.0;
        let area = Area {
            x: outer.x + left,
            y: outer.y + 6.0,
            w: (outer.w - left - 30.0).max(10.0),
            h: (outer.h - 56.0).max(10.0),
        };
        self.push(Shape::Panel(area));
        let at = |x: f64, y: f64| {
            (area.x + area.w * x_scale.place(x), area.y + area.h * (1.0 - y_scale.place(y)))
        };
        for tick in Self::ticks(&y_scale, area.h, TICK * 1.5) {
            let (_, y) = at(x_scale.low, tick);
            self.push(Shape::Rule { from: (area.x, y), to: (area.x + area.w, y), ink: Ink::Pale });
            let text = self.tick(tick, &y_scale, false);
            self.text((area.x - 8.0, y + TICK * 0.35), Hold::End, (TICK, false), Ink::Soft, &text);
        }
        let texts = x_scale.ticks().into_iter().map(|t| self.tick(t, &x_scale, true));
        let widest = texts.map(|t| width(&t, TICK, false)).fold(0.0, f64::max);
        for tick in Self::ticks(&x_scale, area.w, widest + 16.0) {
            let (x, _) = at(tick, y_scale.low);
            self.push(Shape::Rule { from: (x, area.y), to: (x, area.y + area.h), ink: Ink::Pale });
            let text = self.tick(tick, &x_scale, true);
            self.text((x, area.y + area.h + 18.0), Hold::Middle, (TICK, false), Ink::Soft, &text);
        }
        let below = (area.x + area.w, area.y + area.h + 42.0);
        let name = fitting(&data.axes[1].name, area.w, WORDS);
        self.text(below, Hold::End, (WORDS, false), Ink::Soft, &name);
        let dots: Vec<(f64, f64)> = both.iter().map(|(_, x, y, _)| at(*x, *y)).collect();
        let mut taken: Vec<Area> =
            dots.iter().map(|d| Area { x: d.0 - 6.0, y: d.1 - 6.0, w: 12.0, h: 12.0 }).collect();
        for ((i, _, _, says), dot) in both.iter().zip(&dots) {
            self.push(Shape::Dot { at: *dot, series: 0, says: says.clone() });
            if dots.len() > NAMED {
                continue;
            }
            // A name that has no room beside its dot is left to what the dot says.
            let text = fitting(&panel.categories[*i], area.w * 0.25, TICK);
            let w = width(&text, TICK, false);
            let places = [(9.0, 4.0), (-9.0 - w, 4.0), (-w / 2.0, -11.0), (-w / 2.0, 19.0)];
            let free = places.iter().find_map(|(dx, dy)| {
                let (x, y) = (dot.0 + dx, dot.1 + dy);
                let it = Area { x, y: y - TICK * 0.8, w, h: TICK };
                let inside = it.x >= area.x
                    && it.x + it.w <= area.x + area.w
                    && it.y >= area.y
                    && it.y + it.h <= area.y + area.h;
                (inside && !taken.iter().any(|other| meets(&it, other))).then_some((x, y, it))
            });
            if let Some((x, y, it)) = free {
                taken.push(it);
                self.text((x, y), Hold::Start, (TICK, false), Ink::Text, &text);
            }
        }
    }
}

/// Whether two areas have a point in common.
pub(super) fn meets(a: &Area, b: &Area) -> bool {
    a.x < b.x + b.w && b.x < a.x + a.w && a.y < b.y + b.h && b.y < a.y + a.h
}

/// What a chart shows, in words, where it was given no title.
fn own_title(data: &ChartData, look: &ChartLook) -> String {
    let [left, right] = [&data.axes[0].name, &data.axes[1].name];
    let what = match (look.points, right.is_empty()) {
        (true, _) => format!("{left} and {right}"),
        (false, true) => left.clone(),
        (false, false) => format!("{left}, and {right}"),
    };
    let what = if what.is_empty() { "Figures".to_owned() } else { what };
    if data.keys.is_empty() { what } else { format!("{what} by {}", data.keys) }
}

/// A chart in a few sentences, for those who do not see it: of each series how many figures there are, the smallest
/// and the largest.
fn described(data: &ChartData, look: &ChartLook) -> String {
    let mut out = Vec::new();
    for (s, series) in data.series.iter().enumerate() {
        let what = match series.drawn {
            _ if look.points => "Points",
            SeriesType::Bars => "Bars",
            SeriesType::Line => "Line",
            SeriesType::Target => "Marks",
        };
        let mut all: Vec<(f64, String)> = Vec::new();
        let mut gaps = 0;
        for panel in &data.panels {
            for (category, figure) in panel.categories.iter().zip(&panel.figures[s]) {
                match figure {
                    Some((value, says)) => {
                        let panel = if panel.label.is_empty() {
                            String::new()
                        } else {
                            format!("{}, ", panel.label)
                        };
                        all.push((*value, format!("{says} ({panel}{category})")));
                    }
                    None => gaps += 1,
                }
            }
        }
        let smallest = all.iter().min_by(|a, b| a.0.total_cmp(&b.0));
        let largest = all.iter().max_by(|a, b| a.0.total_cmp(&b.0));
        let (Some(smallest), Some(largest)) = (smallest, largest) else {
            out.push(format!("{what} of {}: no figures.", series.name));
            continue;
        };
        let gaps = match gaps {
            0 => String::new(),
            1 => ", 1 gap".to_owned(),
            n => format!(", {n} gaps"),
        };
        out.push(format!(
            "{what} of {}: {} figures{gaps}, from {} to {}.",
            series.name,
            all.len(),
            smallest.1,
            largest.1
        ));
    }
    out.join(" ")
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Style;
    use crate::chart::svg;
    use crate::testing::{any_table, pivot, table};
    use oeuvre_core::{Grid, Request};
    use proptest::prelude::*;
    use rstest::rstest;

    fn drawn(grid: &Grid, look: &ChartLook) -> Scene {
        draw(&ChartData::of(grid, &Style::default(), look), look, None)
    }

    /// That no two labels meet, that every mark lies in its panel, and that bars are as long as their figures.
    fn ensure_sound(scene: &Scene) -> Result<(), TestCaseError> {
        let texts: Vec<(&Area, &str)> = scene
            .shapes
            .iter()
            .filter_map(|s| match s {
                Shape::Text { area, text, .. } if !text.is_empty() => Some((area, text.as_str())),
                _ => None,
            })
            .collect();
        for (i, (a, text)) in texts.iter().enumerate() {
            let inside = a.x >= -0.5
                && a.x + a.w <= scene.width + 0.5
                && a.y >= -0.5
                && a.y + a.h <= scene.height + 0.5;
            prop_assert!(inside, "{text} at {a:?} of {} x {}", scene.width, scene.height);
            for (b, other) in &texts[..i] {
                prop_assert!(!meets(a, b), "{text} and {other}: {a:?} {b:?}");
            }
        }
        let mut panel = Area::default();
        let mut factor: Option<f64> = None;
        for shape in &scene.shapes {
            let slack = 0.6;
            let within = |x: f64, y: f64| {
                x >= panel.x - slack
                    && x <= panel.x + panel.w + slack
                    && y >= panel.y - slack
                    && y <= panel.y + panel.h + slack
            };
            match shape {
                Shape::Panel(area) => panel = *area,
                Shape::Bar { area, value, lying, .. } => {
                    prop_assert!(
                        within(area.x, area.y) && within(area.x + area.w, area.y + area.h),
                        "{area:?} in {panel:?}"
                    );
                    let length = if *lying { area.w } else { area.h };
                    if value.abs() > 1e-12 && length > 1.0 {
                        let own = length / value.abs();
                        let known = *factor.get_or_insert(own);
                        prop_assert!((own / known - 1.0).abs() < 1e-6, "{own} {known}");
                    }
                }
                Shape::Dot { at, .. } => prop_assert!(within(at.0, at.1), "{at:?} in {panel:?}"),
                Shape::Line { points, .. } => {
                    prop_assert!(
                        points.iter().all(|p| within(p.0, p.1)),
                        "{points:?} in {panel:?}"
                    );
                }
                _ => {}
            }
        }
        Ok(())
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 200, ..ProptestConfig::default() })]

        #[test]
        fn nothing_overlaps_or_is_cut_and_bars_are_as_long_as_their_figures(
            (grid, _) in any_table(),
            how in 0..6usize,
            wide in 640u32..1400,
        ) {
            prop_assume!(!grid.of_rows);
            let stacked = [Stacked::No, Stacked::Yes, Stacked::Percent][how % 3];
            let look = ChartLook {
                bars: if how < 3 { vec!["sum(x)".into()] } else { Vec::new() },
                lines: vec!["mean(f)".into()],
                stacked,
                panels: how == 4,
                size: (how > 1).then_some((wide, 520)),
                ..ChartLook::default()
            };
            let data = ChartData::of(&grid, &Style::default(), &look);
            prop_assume!(data.series.len() <= 8);
            let scene = drawn(&grid, &look);
            // Factors differ between panels on one scale only where nothing is drawn.
            ensure_sound(&scene)?;
            let text = svg(&scene, true);
            prop_assert!(!text.contains("<b>") && !text.contains('\u{1b}') && !text.contains("NaN"), "{}", text);
        }
    }

    const ROWS: [[&str; 4]; 5] = [
        ["SKE", "2025-01-01", "4.00", "1"],
        ["SKE", "2025-02-01", "-2.00", "2"],
        ["KEL", "2025-01-01", "1000.50", "3"],
        ["KEL", "2025-04-01", "", "4"],
        ["<b>", "2025-04-01", "1.00", "5"],
    ];

    #[rstest]
    // Along periods a line, along categories bars; a missing figure is a gap, and no zero.
    #[case(Request::of(&["month(d)"], &["sum(x)"]), 0, 3)]
    #[case(Request::of(&["k"], &["sum(x)"]), 3, 0)]
    #[case(pivot(&["k"], "month(d)", &["sum(x)"]), 4, 0)]
    fn what_is_drawn_is_what_has_a_figure(
        #[case] request: Request,
        #[case] bars: usize,
        #[case] dots: usize,
    ) {
        let (grid, _) = table(&ROWS, &request);
        let scene = drawn(&grid, &ChartLook::default());
        let count = |is: fn(&Shape) -> bool| scene.shapes.iter().filter(|s| is(s)).count();
        assert_eq!(count(|s| matches!(s, Shape::Bar { .. })), bars);
        assert_eq!(count(|s| matches!(s, Shape::Dot { .. })), dots);
        assert!(scene.description.contains("figures"), "{}", scene.description);
    }

    #[test]
    fn a_line_of_another_unit_has_its_own_axis() {
        let (grid, _) = table(&ROWS, &Request::of(&["k"], &["sum(x)", "Share: share(count())"]));
        let look = ChartLook { lines: vec!["Share".into()], ..ChartLook::default() };
        let data = ChartData::of(&grid, &Style::default(), &look);
        assert!(!data.series[0].right && data.series[1].right && data.axes[1].percent);
        let one = ChartLook { one_axis: true, ..look };
        assert!(!ChartData::of(&grid, &Style::default(), &one).series[1].right);
    }
}
