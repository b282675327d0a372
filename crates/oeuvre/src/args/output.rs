//! Where results go, as what, and how to run.

use super::choice::choice;
use crate::environment::{self, Color};
use clap::builder::{PossibleValuesParser, TypedValueParser};
use oeuvre_columns::choices;
use oeuvre_columns::names::shown_bytes;
use oeuvre_columns::room;
use oeuvre_core::Error;
use oeuvre_render::{Format, escape_controls};
use std::path::PathBuf;

choices! {
    /// Which notes the ledger shows.
    #[derive(Default)]
    pub(crate) enum Notes {
        #[default]
        Few = "few": "The ten most telling",
        All = "all": "All of them",
    }
}

/// Options that say where results go.
#[derive(clap::Args, Debug)]
#[command(next_help_heading = "Where to and how")]
pub(crate) struct OutputArgs {
    /// The file to write; standard output unless said.
    ///
    /// Its ending says the file type unless --as does. It is written under a temporary name and renamed, so
    /// that nothing half-written is left behind.
    #[arg(long, value_name = "FILE")]
    pub(crate) to: Option<PathBuf>,
    /// The file type: csv, tsv, json, jsonl, markdown, parquet, arrow, html, xlsx, ods, svg, png.
    ///
    /// The file type, where the ending of --to does not say it; text unless said.
    #[arg(long = "as", value_name = "FILETYPE", hide_possible_values = true, value_parser = format_parser())]
    pub(crate) file_type: Option<Format>,
    /// How many threads to use; as many as the machine runs at once unless said.
    #[arg(hide_short_help = true, long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..=1024))]
    pub(crate) threads: Option<u16>,
    /// How much memory to take, such as 4G; three quarters of what is free unless said.
    ///
    /// How much memory to take beside the files that are read, such as 4G or 500M; three quarters of what the machine, or
    /// its control group, has free unless said. What grows past it lies in temporary files, and the result is the same.
    #[arg(hide_short_help = true, long, value_name = "SIZE")]
    pub(crate) memory: Option<String>,
    /// The folder of temporary files for what takes more memory; the system's unless said.
    ///
    /// The folder of temporary files for what takes more memory than --memory; the system's unless said, or /var/tmp
    /// where that is in memory itself. They have no names, and nothing is left of them.
    #[arg(hide_short_help = true, long, value_name = "DIR")]
    pub(crate) spill_to: Option<PathBuf>,
    /// The columns of characters a text table may take; the terminal's width unless said.
    #[arg(hide_short_help = true, long, value_name = "N")]
    pub(crate) width: Option<usize>,
    /// Do not write the ledger.
    #[arg(long)]
    pub(crate) quiet: bool,
    /// Do not say on a terminal how far it is.
    ///
    /// Do not say on a terminal how far the rows are read, and how long the rest may take. Nothing is said where standard
    /// error is none.
    #[arg(hide_short_help = true, long)]
    pub(crate) no_progress: bool,
    /// Which notes the ledger shows: few (the ten most telling) or all.
    #[arg(hide_short_help = true, long, value_name = "WHICH", default_value = "few", hide_default_value = true, value_parser = choice::<Notes>())]
    pub(crate) notes: Notes,
    /// Print the commonest options with -h, all of them with --help.
    #[arg(short = 'h', long, action = clap::ArgAction::Help)]
    help: Option<bool>,
    /// When to use colour: auto, always or never.
    #[arg(hide_short_help = true, long, value_name = "WHEN", default_value = "auto", value_parser = choice::<Color>())]
    pub(crate) color: Color,
}

/// Less is a unit that was forgotten.
const LEAST: u64 = 1 << 16;
/// Groups that take less are touched here and there faster than they are put in order.
const FEW_GROUPS: u64 = 128 << 20;
/// As much is taken where nothing is said, however little is free.
const LITTLE: u64 = 64 << 20;

/// Reads the name of a file type.
fn format_parser() -> impl TypedValueParser<Value = Format> {
    let names: Vec<&'static str> = Format::all().map(Format::name).collect();
    PossibleValuesParser::new(names).map(|name| name.parse().unwrap_or_default())
}

impl OutputArgs {
    /// Limits the memory of this process as the options say.
    pub(crate) fn limit(&self) -> Result<(), Error> {
        let bytes = match &self.memory {
            Some(size) => super::reading::bytes("--memory", size)?,
            None => environment::free_memory().map_or(u64::MAX, |free| (free / 4 * 3).max(LITTLE)),
        };
        if let Some(size) = self.memory.as_ref().filter(|_| bytes < LEAST) {
            return Err(Error::request_with_help(
                format!("--memory {size} is less than any row takes"),
                "write --memory 4G, or 500M",
            ));
        }
        let folder = self.spill_to.clone().unwrap_or_else(environment::folder_on_disk);
        match oeuvre_memory::limit(bytes, &folder, oeuvre_data::let_go_of_files, room::is_aside) {
            // Nobody asked for it: where there is no folder for temporary files, there is no limit.
            Err(_) if self.memory.is_none() && self.spill_to.is_none() => Ok(()),
            Err(error) => Err(Error::request_with_help(
                format!("no temporary file can be used in {}: {error}", folder.display()),
                "name a folder on a disk with room: --spill-to DIR",
            )),
            Ok(()) => {
                room::allow(usize::try_from(bytes.max(FEW_GROUPS)).unwrap_or(usize::MAX));
                Ok(())
            }
        }
    }

    /// The line that tells what did not fit into memory; nothing where all of it did, or nothing is to be told.
    pub(crate) fn spilled(&self) -> String {
        let bytes = oeuvre_memory::spilled();
        if bytes == 0 || self.quiet {
            return String::new();
        }
        let folder = self.spill_to.clone().unwrap_or_else(environment::folder_on_disk);
        let size = shown_bytes(bytes);
        let folder = escape_controls(&folder.display().to_string());
        format!("note: memory was short: up to {size} lay in temporary files in {folder}\n")
    }

    /// The file type: as asked for, else by the file's ending, else text.
    pub(crate) fn format(&self) -> Result<Format, Error> {
        if let Some(file_type) = self.file_type {
            return Ok(file_type);
        }
        let Some(to) = &self.to else { return Ok(Format::default()) };
        Format::of_ending(&to.to_string_lossy()).ok_or_else(|| {
            let names: Vec<&str> = Format::all().map(Format::name).collect();
            Error::request_with_help(
                format!("the ending of {} names no file type", to.display()),
                format!("say which with --as: {}", names.join(", ")),
            )
        })
    }
}
