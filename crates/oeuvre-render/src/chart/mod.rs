//! The figures of a table as a chart: bars, lines and points, on scales that do not mislead.
//!
//! ```text
//! grid + look → figures (data.rs) → shapes with their places (draw.rs, scale.rs, text.rs) → SVG (svg.rs) → PNG
//!                                 → characters (characters.rs)
//! ```
//!
//! A chart reads the same grid as a table and computes no figure: scales, ticks and positions only. Bars start at
//! zero; a missing value is a gap; whatever has another unit has an axis of its own, which is named. Every shape
//! knows its place, so that tests can hold them apart. Nothing depends on a clock or on the fonts of a machine.

mod characters;
mod data;
mod draw;
mod look;
mod palette;
#[cfg(feature = "png")]
mod png;
mod scale;
mod scene;
mod svg;
mod text;

pub use look::{ChartLook, Stacked};

pub(crate) use characters::write as write_characters;
pub(crate) use data::{ChartData, SeriesType};
pub(crate) use draw::draw;
pub(crate) use palette::INKS;
#[cfg(feature = "png")]
pub(crate) use png::{needs_system, png};
pub(crate) use scene::Scene;
pub(crate) use svg::svg;
