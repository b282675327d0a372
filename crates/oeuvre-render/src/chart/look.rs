//! What is drawn of a table, and how.

use oeuvre_columns::choices;

choices! {
    /// How bars of several series stand.
    #[derive(Default)]
    pub enum Stacked {
        #[default]
        No = "no": "Side by side",
        Yes = "yes": "On top of each other",
        Percent = "percent": "On top of each other, as parts of their sum",
    }
}

/// What is drawn of a table, and how. Results are named by heading or calculation; those that are not named are a
/// line along periods, and bars along categories.
#[derive(Clone, Debug, Default)]
pub struct ChartLook {
    /// Results drawn as bars.
    pub bars: Vec<String>,
    /// Results drawn as lines.
    pub lines: Vec<String>,
    /// Results that are thin marks on the bars, or a dashed line: what was planned.
    pub targets: Vec<String>,
    /// Whether the first two results are the places of points.
    pub points: bool,
    /// How bars of several series stand.
    pub stacked: Stacked,
    /// Whether the first key down the side makes a small chart each.
    pub panels: bool,
    /// Whether all series share one axis, whatever their units.
    pub one_axis: bool,
    /// What stands above it.
    pub title: Option<String>,
    /// What stands below it.
    pub caption: Option<String>,
    /// Width and height in pixels; what is needed where it is not said.
    pub size: Option<(u32, u32)>,
    /// How many points of a picture a pixel is.
    pub scale: f32,
}
