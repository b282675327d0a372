//! A chart as an SVG file.

use super::Writer;
use crate::Settings;
use crate::chart::svg;
use crate::document::Document;
use std::io::{self, Write};

/// A drawing that stays sharp at every size.
pub(super) struct Svg;

impl Writer for Svg {
    fn name(&self) -> &'static str {
        "svg"
    }
    fn endings(&self) -> &'static [&'static str] {
        &["svg"]
    }
    fn is_for_reading(&self) -> bool {
        true
    }
    fn escapes(&self) -> bool {
        true
    }
    fn draws(&self) -> bool {
        true
    }
    fn holds_several(&self) -> bool {
        false
    }
    fn write(
        &self,
        document: &Document<'_>,
        _: Settings<'_>,
        out: &mut dyn Write,
    ) -> io::Result<()> {
        let scenes = document.parts.iter().filter_map(|part| part.scene());
        scenes.into_iter().try_for_each(|scene| out.write_all(svg(&scene, true).as_bytes()))
    }
}
