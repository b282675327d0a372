//! A chart as a picture.

use super::{FileType, Writer};
use crate::Settings;
use crate::chart::png;
use crate::document::Document;
use std::io::{self, Write};

/// The most points of a picture.
const MOST_POINTS: f64 = 2e8;

/// A picture of points.
pub(super) struct Png;

impl Writer for Png {
    fn file_type(&self) -> &FileType {
        const FILE_TYPE: FileType = FileType {
            is_for_reading: true,
            is_binary: true,
            draws: true,
            holds_several: false,
            ..FileType::of("png", &["png"])
        };
        &FILE_TYPE
    }
    fn refuses(&self, document: &Document<'_>) -> Option<(String, String)> {
        let scale = |part: &crate::Part<'_>| f64::from(part.chart.map_or(1.0, |look| look.scale));
        let points = |part: &crate::Part<'_>| {
            part.scene().map_or(0.0, |scene| scene.width * scene.height * scale(part).powi(2))
        };
        let most = document.parts.iter().map(points).fold(0.0, f64::max);
        (most > MOST_POINTS).then(|| {
            let message =
                format!("a picture of {} million points is too large", (most / 1e6) as u64);
            (message, "write SVG, or choose a smaller --size or --scale".to_owned())
        })
    }
    fn write(
        &self,
        document: &Document<'_>,
        _: Settings<'_>,
        out: &mut dyn Write,
    ) -> io::Result<()> {
        for part in &document.parts {
            let (Some(look), Some(scene)) = (part.chart, part.scene()) else { continue };
            let picture = png(&scene, look.scale.max(0.1)).map_err(io::Error::other)?;
            out.write_all(&picture)?;
        }
        Ok(())
    }
}
