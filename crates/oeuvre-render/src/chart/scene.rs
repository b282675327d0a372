//! Shapes with their places, before they are written as anything.

/// A chart as shapes, in the order in which they are drawn.
#[derive(Clone, Debug, Default)]
pub(crate) struct Scene {
    pub(crate) width: f64,
    pub(crate) height: f64,
    pub(crate) shapes: Vec<Shape>,
    /// What it is, for those who do not see it.
    pub(crate) title: String,
    pub(crate) description: String,
}

/// A rectangle: left, top, width and height in pixels.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub(crate) struct Area {
    pub(crate) x: f64,
    pub(crate) y: f64,
    pub(crate) w: f64,
    pub(crate) h: f64,
}

/// Where a text is held.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Hold {
    Start,
    Middle,
    End,
}

/// Which ink.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Ink {
    /// That of text.
    Text,
    /// That of what stands back.
    Soft,
    /// That of grid lines.
    Pale,
    /// The ink of a series.
    Series(usize),
}

/// What a legend shows of a series.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Sign {
    Bar,
    Line { dashed: bool },
    Mark,
}

/// A shape. Some know more than what is drawn: tests hold shapes apart by it.
#[derive(Clone, Debug)]
#[cfg_attr(not(test), allow(dead_code))]
pub(crate) enum Shape {
    /// The area of figures; no ink.
    Panel(Area),
    /// A bar, with the figure that it stands for.
    Bar { area: Area, series: usize, value: f64, says: String, lying: bool },
    /// A mark across a bar.
    Mark { from: (f64, f64), to: (f64, f64), says: String },
    /// A line through points; a new one begins behind each gap.
    Line { points: Vec<(f64, f64)>, series: usize, dashed: bool },
    /// A dot.
    Dot { at: (f64, f64), series: usize, says: String },
    /// A line that is no figure: of the grid, or of an axis.
    Rule { from: (f64, f64), to: (f64, f64), ink: Ink },
    /// A text, with where it is held.
    Text { at: (f64, f64), hold: Hold, size: f64, bold: bool, ink: Ink, text: String, area: Area },
    /// A sign of a legend.
    Swatch { area: Area, series: usize, sign: Sign },
}
