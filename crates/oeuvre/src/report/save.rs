//! A request as it was typed, as a report file that asks the same.
//!
//! What was typed is taken from the parsed command line, option by option, so that an option is saved without being
//! known here. Files, lookups, conditions and reading options go to `[data]`, named calculations to `[let]`, formats to
//! `[format]`, known figures to `[[check]]`; paths are those from the folder of the report file.

use crate::args::reading::HOW_TO_READ;
use crate::args::report::{NOT_ASKED, SaveArgs, is_typed, typed_texts};
use crate::args::request::{name_and_file, named};
use crate::deliver::deliver;
use crate::failure::Failure;
use clap::{ArgAction, ArgMatches};
use oeuvre_columns::value::Comparison;
use oeuvre_core::{Check, Error, Show};
use oeuvre_data::is_address;
use oeuvre_render::PartType;
use std::path::{Component, Path, PathBuf};
use toml::{Table, Value};

/// That the file is not there yet, unless it may be replaced.
pub(crate) fn ensure_free(args: &SaveArgs) -> Result<(), Error> {
    match &args.save_report {
        Some(path) if path.exists() && !args.replace => Err(Error::request_with_help(
            format!("{} is there already", path.display()),
            "replace it with --replace, or name another file",
        )),
        _ => Ok(()),
    }
}

/// Writes the report file, where one was asked for.
pub(crate) fn save(args: &SaveArgs, part: PartType, typed: &ArgMatches) -> Result<(), Failure> {
    let Some(path) = &args.save_report else { return Ok(()) };
    let folder = path.parent().map(Path::to_owned).unwrap_or_default();
    let text = text_of(part, typed, &folder)?;
    deliver(Some(path), |out| out.write_all(text.as_bytes()))
}

/// The command that shows a part by itself.
fn command_of(part: PartType) -> &'static str {
    match part {
        PartType::Table => "summary",
        other => other.name(),
    }
}

fn text_of(part: PartType, typed: &ArgMatches, folder: &Path) -> Result<String, Error> {
    let all = crate::args::command();
    let Some(command) = all.find_subcommand(command_of(part)) else {
        return Err(Error::request(format!("a {} cannot be saved", part.name())));
    };
    let mut saved = Saved::new(typed, folder);
    saved.part.insert("name".into(), command.get_name().into());
    let files = typed_texts(typed, "files");
    let files = files.iter().map(|f| Value::from(from_folder(f, folder)));
    saved.data.insert("files".into(), Value::Array(files.collect()));
    for option in command.get_arguments() {
        let is_asked = |long: &str| !NOT_ASKED.contains(&long);
        if let Some(long) = option.get_long().filter(|long| is_asked(long))
            && is_typed(typed, option.get_id().as_str())
        {
            saved.add(option, long)?;
        }
    }
    saved.into_text(part.name())
}

/// A report file on its way.
struct Saved<'a> {
    typed: &'a ArgMatches,
    folder: &'a Path,
    data: Table,
    lets: Table,
    formats: Table,
    part: Table,
    checks: Vec<Value>,
    lookups: Vec<Value>,
}

impl<'a> Saved<'a> {
    fn new(typed: &'a ArgMatches, folder: &'a Path) -> Saved<'a> {
        let (data, lets, formats, part) = Default::default();
        Saved { typed, folder, data, lets, formats, part, checks: Vec::new(), lookups: Vec::new() }
    }

    /// Adds an option that was typed.
    fn add(&mut self, option: &clap::Arg, long: &str) -> Result<(), Error> {
        let values = typed_texts(self.typed, option.get_id().as_str());
        match long {
            "let" => {
                let named = values.iter().filter_map(|text| named(text));
                self.lets.extend(named.map(|(name, calc)| (name, calc.into())));
            }
            "format" => {
                let parts = values.iter().filter_map(|text| text.split_once(':'));
                let parts = parts.map(|(n, p)| (n.trim().to_owned(), p.trim().into()));
                self.formats.extend(parts);
            }
            "check" => {
                for text in &values {
                    self.checks.push(Value::Table(check(&Check::parse("--check", text)?)));
                }
            }
            "lookup" => {
                for (text, on) in values.iter().zip(typed_texts(self.typed, "matches")) {
                    let lookup = self.lookup(text, on);
                    self.lookups.push(Value::Table(lookup));
                }
            }
            // With the lookups.
            "match" | "no-match" | "doubled" => {}
            _ => {
                let of_rows = option.get_help_heading() == Some(HOW_TO_READ)
                    || matches!(long, "where" | "one-spelling");
                let to = if of_rows { &mut self.data } else { &mut self.part };
                to.insert(long.to_owned(), value(option, long, &values));
            }
        }
        Ok(())
    }

    fn lookup(&self, text: &str, on: String) -> Table {
        let (name, file) = name_and_file(text);
        let mut lookup = Table::new();
        lookup.insert("file".into(), from_folder(file, self.folder).into());
        if name != name_and_file(file).0 {
            lookup.insert("name".into(), name.clone().into());
        }
        lookup.insert("match".into(), on.into());
        for (key, id) in [("no-match", "no_match"), ("doubled", "doubled")] {
            let values = typed_texts(self.typed, id);
            let own = |v: &&String| v.split_once('=').is_some_and(|(n, _)| n.trim() == name);
            let all = |v: &&String| !v.contains('=');
            let value = values.iter().rfind(own).or_else(|| values.iter().rfind(all));
            if let Some(word) = value.and_then(|v| v.rsplit('=').next()) {
                lookup.insert(key.into(), word.trim().into());
            }
        }
        lookup
    }

    fn into_text(mut self, kind: &str) -> Result<String, Error> {
        if !self.lookups.is_empty() {
            self.data.insert("lookup".into(), Value::Array(self.lookups));
        }
        let mut whole = Table::new();
        whole.insert("data".into(), Value::Table(self.data));
        for (key, table) in [("let", self.lets), ("format", self.formats)] {
            if !table.is_empty() {
                whole.insert(key.into(), Value::Table(table));
            }
        }
        whole.insert(kind.to_owned(), Value::Array(vec![Value::Table(self.part)]));
        if !self.checks.is_empty() {
            whole.insert("check".into(), Value::Array(self.checks));
        }
        let text = toml::to_string_pretty(&whole);
        text.map_err(|e| Error::request(format!("the request cannot be saved: {e}")))
    }
}

/// The value of an option.
fn value(option: &clap::Arg, long: &str, values: &[String]) -> Value {
    if matches!(option.get_action(), ArgAction::SetTrue) {
        return Value::Boolean(true);
    }
    let text = |text: &String| -> Value {
        match text.parse::<i64>() {
            Ok(number) if number.to_string() == *text => Value::Integer(number),
            // What is a title of its own, and what has headings in it.
            _ if matches!(long, "title" | "caption") => Value::String(text.replace('$', "$$")),
            _ if matches!(long, "show" | "bars" | "line" | "target") => {
                Value::String(with_dollars(text))
            }
            _ => Value::String(text.clone()),
        }
    };
    match values {
        [one] => text(one),
        many => Value::Array(many.iter().map(text).collect()),
    }
}

/// A result whose headings have a `$` that stands for itself.
fn with_dollars(text: &str) -> String {
    let shows = Show::parse_all("--show", text);
    let dollar = |heading: &String| heading.replace('$', "$$");
    let one = |show: &Show| match &show.heading {
        Some(heading) => format!("{}: {}", dollar(heading), show.calc.text),
        None => show.calc.text.clone(),
    };
    match shows.iter().any(|show| show.heading.as_ref().is_some_and(|h| h.contains('$'))) {
        true => shows.iter().map(one).collect::<Vec<_>>().join(", "),
        false => text.to_owned(),
    }
}

fn check(check: &Check) -> Table {
    let mut table = Table::new();
    table.insert("that".into(), check.calc.text.clone().into());
    let key = match check.how {
        Comparison::GreaterEqual => "at-least",
        Comparison::LessEqual => "at-most",
        _ => "equals",
    };
    table.insert(key.into(), check.value.text.clone().into());
    if let Some((number, of_hundred)) = &check.tolerance {
        let text = format!("{number}{}", if *of_hundred { "%" } else { "" });
        table.insert("tolerance".into(), text.into());
    }
    table
}

/// The path of a file, named from where the program runs, from a folder.
fn from_folder(name: &str, folder: &Path) -> String {
    if name == "-" || is_address(name) || Path::new(name).is_absolute() {
        return name.replace('$', "$$");
    }
    let (Ok(file), Ok(folder)) = (
        std::path::absolute(name),
        std::path::absolute(if folder.as_os_str().is_empty() { Path::new(".") } else { folder }),
    ) else {
        return name.to_owned();
    };
    // Where a folder is a link, its parent is not the one that the name says.
    let whole = |path: PathBuf| path.canonicalize().unwrap_or(path);
    let of_file = file.parent().map(|p| whole(p.to_owned())).unwrap_or_default();
    let file = of_file.join(file.file_name().unwrap_or_default());
    let folder = whole(folder);
    let (mut a, mut b) = (file.components().peekable(), folder.components().peekable());
    while a.peek().is_some() && a.peek() == b.peek() {
        a.next();
        b.next();
    }
    let up = b.filter(|c| matches!(c, Component::Normal(_))).map(|_| Component::ParentDir);
    let path: PathBuf = up.chain(a).collect();
    path.display().to_string().replace('$', "$$")
}
