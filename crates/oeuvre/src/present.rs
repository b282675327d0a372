//! Tables and ledgers, put where and drawn as the options and the terminal say.
//!
//! A command that makes a table of rows ends here. One that reads no rows has no ledger: it writes with
//! `deliver.rs`, as `functions` does.

use crate::args::output::{Notes, OutputArgs};
use crate::deliver::deliver_as;
use crate::environment;
use crate::failure::Failure;
use crate::messages;
use oeuvre_columns::names::all_of;
use oeuvre_columns::{Note, Topic};
use oeuvre_core::{Error, Grid, Ledger, Section};
use oeuvre_render::{Document, Format, LedgerSettings, PartType, Settings, Style, TextSettings};
use std::collections::HashSet;
use std::io::{self, IsTerminal};
use std::path::Path;

/// Writes a table where and as what the options say, and the ledger.
pub(crate) fn present(
    output: &OutputArgs,
    style: &Style,
    grid: &Grid,
    ledger: &Ledger,
) -> Result<(), Failure> {
    present_explained(output, style, (grid, ledger), Vec::new())
}

/// As [`present`], with how its figures are worked out, for what shows that.
pub(crate) fn present_explained(
    output: &OutputArgs,
    style: &Style,
    (grid, ledger): (&Grid, &Ledger),
    explained: Vec<Section>,
) -> Result<(), Failure> {
    let settings = settings(output, style)?;
    let mut document = Document::of_table(grid, ledger, style);
    if settings.format.explains() && !explained.is_empty() {
        document.explained.push((document.parts[0].name.clone(), explained));
    }
    deliver_document(output.to.as_deref(), &document, settings)?;
    match settings.format.leaves_out(grid, style) {
        None => tell(output, ledger),
        Some(text) => {
            let mut ledger = ledger.clone();
            ledger.notes.push(Note::new(Topic::Reading, text));
            tell(output, &ledger)
        }
    }
}

/// Writes a document to a file, or to standard output.
pub(crate) fn deliver_document(
    to: Option<&Path>,
    document: &Document<'_>,
    settings: Settings<'_>,
) -> Result<(), Failure> {
    let format = settings.format;
    if let Some((message, help)) = format.refuses(document) {
        return Err(Error::request_with_help(message, help).into());
    }
    ensure_no_terminal(format, to)?;
    // What stands beside a document has the beginning of its name.
    let stem = to.and_then(|to| to.file_stem()?.to_str());
    let settings = Settings { beside: stem, ..settings };
    for (name, bytes) in oeuvre_render::files_beside(document, settings) {
        let path = to.map_or_else(|| name.clone().into(), |to| to.with_file_name(&name));
        deliver_as(Some(&path), format, |out| out.write_all(&bytes))?;
    }
    deliver_as(to, format, |out| oeuvre_render::write_document(document, settings, out))
}

/// That what is no text goes to no terminal.
pub(crate) fn ensure_no_terminal(format: Format, to: Option<&Path>) -> Result<(), Error> {
    if !format.is_binary() || to.is_some() || !io::stdout().is_terminal() {
        return Ok(());
    }
    let message = format!("{} is not for a terminal", format.name());
    Err(Error::request_with_help(message, format!("name a file: --to FILE.{}", format.ending())))
}

/// Where a report goes.
pub(crate) enum Target<'a> {
    /// To one file, or to standard output.
    One(Format),
    /// To a file for each part, in a folder.
    Folder(&'a Path, Format),
}

impl<'a> Target<'a> {
    /// Where the options say: to a folder where --to names one.
    pub(crate) fn of(output: &'a OutputArgs) -> Result<Target<'a>, Error> {
        let is_folder = |to: &&Path| {
            to.is_dir() || to.to_string_lossy().ends_with(['/', std::path::MAIN_SEPARATOR])
        };
        match (output.to.as_deref().filter(is_folder), output.file_type) {
            (None, _) => Ok(Target::One(output.format()?)),
            (Some(folder), Some(format)) => Ok(Target::Folder(folder, format)),
            (Some(folder), None) => Err(Error::request_with_help(
                format!("{} is a folder, which takes a file for each part", folder.display()),
                "say as what they are written: --as csv",
            )),
        }
    }

    pub(crate) fn format(&self) -> Format {
        match self {
            Target::One(format) | Target::Folder(_, format) => *format,
        }
    }

    /// That it holds the parts of a report, each with what it shows; asked before anything is read.
    pub(crate) fn ensure_holds<'p>(
        &self,
        parts: impl Iterator<Item = (&'p str, PartType)>,
    ) -> Result<(), Error> {
        let (format, parts) = (self.format(), parts.collect::<Vec<_>>());
        let name = format.name();
        let names: Vec<&str> = parts.iter().map(|part| part.0).collect();
        let is_one = matches!(self, Target::One(_)) && !format.holds_several() && names.len() > 1;
        if !format.draws() {
            return match is_one {
                false => Ok(()),
                true => Err(Error::request_with_help(
                    format!(
                        "{name} holds one table, and the report has {}: {}",
                        names.len(),
                        all_of(&names)
                    ),
                    format!(
                        "write a file for each with --to DIR/ --as {name}, or one alone with --only {}",
                        names[0]
                    ),
                )),
            };
        }
        let charts = parts.iter().filter(|part| part.1 == PartType::Chart);
        let charts: Vec<&str> = charts.map(|part| part.0).collect();
        if charts.len() == names.len() && !is_one {
            return Ok(());
        }
        let only: Vec<String> = charts.iter().map(|name| format!("--only {name}")).collect();
        Err(Error::request_with_help(
            format!("{name} is a drawing of one chart, and here are {}", all_of(&names)),
            match only.len() {
                0 => "none of them is a chart: write a [[chart]]".to_owned(),
                1 => format!("name the chart: {}", only[0]),
                _ => format!(
                    "name the charts, for a file each: {} --to DIR/ --as {name}",
                    only.join(" ")
                ),
            },
        ))
    }
}

/// Writes a report where and as what the options say, its ledger and its checks.
pub(crate) fn present_document(
    output: &OutputArgs,
    target: &Target<'_>,
    document: &Document<'_>,
) -> Result<(), Failure> {
    let style = Style::default();
    let settings = settings_for(output, &style, target.format());
    match target {
        Target::One(_) => deliver_document(output.to.as_deref(), document, settings)?,
        Target::Folder(folder, format) => into_folder(folder, *format, document, settings)?,
    }
    let color = environment::color(output.color, &io::stderr());
    let mut text = String::new();
    if !output.quiet {
        let width = || environment::stderr_width();
        let all_notes = output.notes == Notes::All;
        let width_cols = output.width.or_else(width);
        let ledger = LedgerSettings { all_notes, width_cols };
        if environment::terminal_width().is_some() && output.to.is_none() {
            text.push('\n');
        }
        text.push_str(&oeuvre_render::document_ledger_text(document, ledger));
    }
    text.push_str(&oeuvre_render::document_checks_text(document, color));
    text.push_str(&output.spilled());
    let told = messages::tell(text.as_bytes());
    told.map_err(|e| Failure::writing("standard error", &e))?;
    let holds = document.checks.iter().all(|(_, check)| check.holds);
    if holds { Ok(()) } else { Err(Failure::Check) }
}

/// Writes each part of a document as a file of its own, and names the files of other runs that stay there.
fn into_folder(
    folder: &Path,
    format: Format,
    document: &Document<'_>,
    settings: Settings<'_>,
) -> Result<(), Failure> {
    let shown = folder.display().to_string();
    let failed = |e: io::Error| Failure::writing(&shown, &e);
    let parts: Vec<Document<'_>> = (0..document.parts.len()).map(|i| document.of_part(i)).collect();
    for part in &parts {
        if let Some((message, help)) = format.refuses(part) {
            return Err(Error::request_with_help(message, help).into());
        }
    }
    std::fs::create_dir_all(folder).map_err(failed)?;
    let mut others: Vec<String> = std::fs::read_dir(folder)
        .map_err(failed)?
        .filter_map(|entry| entry.ok()?.file_name().into_string().ok())
        .filter(|name| Format::of_ending(name).is_some())
        .collect();
    let mut taken = HashSet::new();
    for part in &parts {
        let name = file_name(&part.parts[0].name, format, &mut taken);
        deliver_document(Some(&folder.join(&name)), part, settings)?;
        others.retain(|other| *other != name);
    }
    others.sort();
    if !others.is_empty() && settings.with_ledger {
        let text = format!("note: {shown} also holds {}, not of this run\n", all_of(&others));
        let told = messages::tell(oeuvre_render::escape_controls(text.trim_end()).as_bytes());
        told.and_then(|()| messages::tell(b"\n"))
            .map_err(|e| Failure::writing("standard error", &e))?;
    }
    Ok(())
}

/// The name of the file of a part: without what parts folders, or begins a hidden file, and no two the same.
fn file_name(part: &str, format: Format, taken: &mut HashSet<String>) -> String {
    let clean: String = part
        .chars()
        .map(|c| if c.is_control() || "/\\:*?\"<>|".contains(c) { '-' } else { c })
        .collect();
    let clean = match clean.trim_matches([' ', '.']) {
        "" => "part",
        clean => clean,
    };
    let mut name = format!("{clean}.{}", format.ending());
    let mut number = 1;
    while !taken.insert(name.to_lowercase()) {
        number += 1;
        name = format!("{clean} ({number}).{}", format.ending());
    }
    name
}

/// How the options and the terminal say that a table is drawn.
pub(crate) fn settings<'a>(output: &OutputArgs, style: &'a Style) -> Result<Settings<'a>, Failure> {
    Ok(settings_for(output, style, output.format()?))
}

/// As [`settings`], for a format that is known.
fn settings_for<'a>(output: &OutputArgs, style: &'a Style, format: Format) -> Settings<'a> {
    let to_file = output.to.is_some();
    let width = || if to_file { None } else { environment::terminal_width() };
    Settings {
        style,
        format,
        text: TextSettings {
            width_cols: output.width.or_else(width),
            color: !to_file && environment::color(output.color, &io::stdout()),
        },
        with_ledger: !output.quiet,
        beside: None,
        threads: output.threads.map_or_else(environment::threads, usize::from),
    }
}

/// Writes the ledger to standard error.
pub(crate) fn tell(output: &OutputArgs, ledger: &Ledger) -> Result<(), Failure> {
    let color = environment::color(output.color, &io::stderr());
    let checks = oeuvre_render::checks_text(ledger, color);
    let told = |text: &str| {
        messages::tell(text.as_bytes()).map_err(|e| Failure::writing("standard error", &e))
    };
    if output.quiet {
        told(&checks)?;
        return if ledger.holds() { Ok(()) } else { Err(Failure::Check) };
    }
    let width = || environment::stderr_width();
    let mut text = oeuvre_render::ledger_text(
        ledger,
        LedgerSettings {
            all_notes: output.notes == Notes::All,
            width_cols: output.width.or_else(width),
        },
    );
    if environment::terminal_width().is_some() && output.to.is_none() {
        // Below the table, not as a part of it.
        text.insert(0, '\n');
    }
    text.push_str(&checks);
    // How the figures came about is no part of a document: they are the same with any memory.
    text.push_str(&output.spilled());
    told(&text)?;
    if ledger.holds() { Ok(()) } else { Err(Failure::Check) }
}
