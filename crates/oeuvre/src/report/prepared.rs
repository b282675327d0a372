//! A report whose files are open and whose requests are made: what each part asks of which rows.
//!
//! A part with a table is a job of its own. Figures that stand alone (headlines, both sides of checks) over the same
//! rows are results of one job. What a job's request says keeps its place in the file.

use super::file::Written;
use super::keys::Places;
use super::rows::OpenSource;
use oeuvre_columns::{SavedTable, Value};
use oeuvre_core::{AtLabel, Request, SourceText, Terms};
use oeuvre_render::{ChartLook, PartType, Style};
use std::collections::BTreeSet;
use std::path::Path;
use std::sync::Arc;

/// What is asked of a report.
#[derive(Clone, Copy)]
pub(crate) struct Asked<'a> {
    /// Files in place of those of the report.
    pub(crate) files: &'a [String],
    /// Values that are given.
    pub(crate) given: &'a [String],
    /// The parts and checks that are wanted; all where none is named.
    pub(crate) only: &'a [String],
    /// Whether figures are to be read.
    pub(crate) for_reading: bool,
    pub(crate) threads: usize,
    /// Where parts of what the files come to are kept.
    pub(crate) parts_in: Option<&'a Path>,
}

/// A report ready to run.
pub(crate) struct Prepared {
    pub(crate) title: Option<String>,
    pub(crate) text: Option<String>,
    pub(crate) sources: Vec<OpenSource>,
    pub(crate) jobs: Vec<Job>,
    pub(crate) parts: Vec<PreparedPart>,
    pub(crate) checks: Vec<PreparedCheck>,
    /// Formats by heading, for every part that has it; with the place of each.
    pub(super) formats: Vec<(String, Written)>,
    /// Whether not all of its parts are wanted.
    pub(super) is_partial: bool,
    /// The name of the report file.
    pub(super) file: String,
    /// The files that were read for values that are worked out, where parts of them are kept.
    pub(super) read: BTreeSet<String>,
}

/// A request over some rows.
pub(crate) struct Job {
    pub(crate) source: usize,
    pub(crate) request: Request,
    pub(crate) style: Style,
    /// Whether its results are figures by themselves.
    pub(crate) figures: bool,
    /// Its own formats with their places.
    pub(super) formats: Vec<(String, Written)>,
    /// How it is drawn, where it is.
    pub(crate) chart: Option<ChartLook>,
    pub(super) places: Places,
}

/// A figure: the job that works it out, and which of its results it is.
pub(crate) type FigureAt = (usize, usize);

/// A part to be shown.
pub(crate) struct PreparedPart {
    pub(crate) name: String,
    pub(crate) title: Option<String>,
    pub(crate) text: Option<String>,
    pub(crate) shows: PartType,
    pub(crate) made_of: MadeOf,
    /// How closely points lie to a line.
    pub(crate) correlation: Option<FigureAt>,
}

/// What a part is made of.
pub(crate) enum MadeOf {
    /// The table of a job.
    Job(usize),
    Figure(Box<HeadlineAt>),
}

/// A figure with its heading, and another one beside it.
pub(crate) struct HeadlineAt {
    pub(crate) heading: String,
    pub(crate) figure: FigureAt,
    pub(crate) beside: Option<(String, FigureAt)>,
    pub(crate) style: Style,
    /// Its own pattern.
    pub(crate) format: Option<Written>,
}

/// A check to be made.
pub(crate) struct PreparedCheck {
    pub(crate) name: Option<String>,
    pub(crate) that: String,
    pub(crate) terms: Terms,
    pub(crate) found: Found,
    pub(crate) wanted: WantedAt,
    pub(super) places: Places,
}

/// Where the figure of a check is found.
pub(crate) enum Found {
    Figure(FigureAt),
    /// In a cell of a part's table.
    Cell {
        job: usize,
        result: Option<Written>,
        at: Vec<(Arc<SourceText>, AtLabel)>,
    },
}

/// What a check wants.
pub(crate) enum WantedAt {
    Known(Value),
    Figure(FigureAt),
    /// A table that was written earlier, with the name of its file.
    Table(String, Box<SavedTable>),
}

impl PreparedCheck {
    /// Its figures that are worked out by themselves.
    pub(super) fn figures(&self) -> impl Iterator<Item = FigureAt> {
        let found = if let Found::Figure(at) = self.found { Some(at) } else { None };
        let wanted = if let WantedAt::Figure(at) = self.wanted { Some(at) } else { None };
        found.into_iter().chain(wanted)
    }
}
