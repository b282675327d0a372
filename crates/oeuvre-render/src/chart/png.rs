//! A chart as a picture: its SVG, drawn with a type that comes along, so that it looks the same on every machine.
//!
//! The type (DejaVu Sans) has Latin, Greek, Cyrillic, Hebrew and Arabic letters; texts in other scripts are drawn with
//! what the system has.

use super::scene::{Scene, Shape};
use super::svg::svg;
use resvg::tiny_skia::{Pixmap, Transform};
use resvg::usvg::{Options, Tree, fontdb};
use std::sync::Arc;

/// Draws a chart, with so many points a pixel.
///
/// # Errors
/// What is too large to be drawn, in words.
pub(crate) fn png(scene: &Scene, scale: f32) -> Result<Vec<u8>, String> {
    let mut fonts = fontdb::Database::new();
    fonts.load_font_data(dejavu::sans::regular().to_vec());
    fonts.load_font_data(dejavu::sans::bold().to_vec());
    if needs_system(scene) {
        fonts.load_system_fonts();
    }
    let options = Options { fontdb: Arc::new(fonts), ..Options::default() };
    let tree = Tree::from_str(&svg(scene, true), &options).map_err(|e| e.to_string())?;
    let pixels = |length: f64| (length * f64::from(scale)).ceil().clamp(1.0, 60_000.0) as u32;
    let (w, h) = (pixels(scene.width), pixels(scene.height));
    let mut picture = Pixmap::new(w, h).ok_or_else(|| format!("{w}x{h} points are too many"))?;
    resvg::render(&tree, Transform::from_scale(scale, scale), &mut picture.as_mut());
    picture.encode_png().map_err(|e| e.to_string())
}

/// Whether a text has letters that the type does not have.
pub(crate) fn needs_system(scene: &Scene) -> bool {
    let other = |c: char| {
        let known = matches!(c, '\0'..='\u{52f}' | '\u{590}'..='\u{5ff}' | '\u{600}'..='\u{6ff}'
            | '\u{1e00}'..='\u{1fff}' | '\u{2000}'..='\u{22ff}' | '\u{2500}'..='\u{25ff}');
        !known
    };
    scene.shapes.iter().any(|s| matches!(s, Shape::Text { text, .. } if text.chars().any(other)))
}
