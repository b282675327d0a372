//! What a sheet takes, whatever file it becomes: cells with their looks, and what lies over and beside them.

use crate::chart::Scene;
use crate::document::Part;
use oeuvre_columns::Value;
use std::io;

/// Where a cell is: line and column, from 0.
pub(crate) type Place = (u32, u16);

/// How the text of a cell is set.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub(crate) enum Align {
    /// By what the cell holds.
    #[default]
    Own,
    Left,
    Center,
    Right,
}

/// A line above or below a cell.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub(crate) enum Edge {
    #[default]
    None,
    Soft,
    Thin,
    Medium,
}

/// How a cell looks.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash)]
pub(crate) struct Look {
    pub(crate) bold: bool,
    pub(crate) italic: bool,
    /// In the ink of what stands back.
    pub(crate) soft: bool,
    /// In points; the usual size where it is nought.
    pub(crate) size: u8,
    pub(crate) align: Align,
    /// At the top of the cell, or else at its bottom.
    pub(crate) at_top: bool,
    pub(crate) wrapped: bool,
    pub(crate) above: Edge,
    pub(crate) below: Edge,
    /// How its number is written, in the language of workbooks.
    pub(crate) number_format: Option<String>,
}

impl Look {
    /// The same, with a number format.
    pub(crate) fn with_format(&self, number_format: impl Into<String>) -> Look {
        Look { number_format: Some(number_format.into()), ..self.clone() }
    }
}

/// How a sheet is shown and printed.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Pages {
    /// The lines above and the columns before what moves.
    pub(crate) frozen: (u32, u16),
    /// The first and the last line of the headings, which are printed on every page.
    pub(crate) repeated: (u32, u32),
    pub(crate) wide: bool,
}

/// What is drawn into cells.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Drawn {
    Bars,
    Shades,
}

/// A sheet that is being written. Places are counted from 0.
pub(crate) trait Surface {
    /// Writes a text, as it is: none is ever a formula.
    fn text(&mut self, place: Place, text: &str, look: &Look) -> io::Result<()>;

    /// Writes a number.
    fn number(&mut self, place: Place, number: f64, look: &Look) -> io::Result<()>;

    /// Writes a truth.
    fn truth(&mut self, place: Place, truth: bool, look: &Look) -> io::Result<()>;

    /// Writes a date or a time, which is also given as days of the calendar of workbooks.
    fn date(&mut self, place: Place, days: f64, value: &Value, look: &Look) -> io::Result<()>;

    /// Gives a cell without a value its look.
    fn blank(&mut self, place: Place, look: &Look) -> io::Result<()>;

    /// Writes a text over several cells.
    fn merged(&mut self, first: Place, last: Place, text: &str, look: &Look) -> io::Result<()>;

    /// Adds a note to a cell.
    fn note(&mut self, place: Place, text: &str) -> io::Result<()>;

    /// Makes a column so many characters wide.
    fn width(&mut self, column: u16, characters: f64) -> io::Result<()>;

    /// Says how the sheet is shown and printed.
    fn pages(&mut self, pages: Pages) -> io::Result<()>;

    /// Draws into ranges of cells, which share a scale; each is the first and the last line of a column.
    fn drawn(&mut self, drawn: Drawn, ranges: &[(u32, u32, u16)]) -> io::Result<()>;

    /// Draws a small line of the figures of a line, behind them.
    fn trend(&mut self, line: u32, figures: (u16, u16), at: u16) -> io::Result<()>;

    /// Puts the chart of a part beside its figures, which stand from a line on; `scene` draws it.
    fn chart(
        &mut self,
        part: &Part<'_>,
        first: u32,
        at: Place,
        scene: &dyn Fn() -> Option<Scene>,
    ) -> io::Result<()>;
}
