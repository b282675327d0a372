//! A chart as an SVG file.

use super::{FileType, Writer};
use crate::Settings;
use crate::chart::svg;
use crate::document::Document;
use std::io::{self, Write};

/// A drawing that stays sharp at every size.
pub(super) struct Svg;

impl Writer for Svg {
    fn file_type(&self) -> &FileType {
        const FILE_TYPE: FileType = FileType {
            is_for_reading: true,
            escapes: true,
            draws: true,
            holds_several: false,
            ..FileType::of("svg", &["svg"])
        };
        &FILE_TYPE
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
