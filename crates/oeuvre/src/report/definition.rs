//! What a report file says, read from its tree: nothing is opened yet, and every mistake that can be seen in the
//! file alone is told, all of them in one go.
//!
//! If you add a key of a section: name it in its list in `sections.rs`. Keys that are options need nothing.

use super::file::{File, Mistakes, Section, Written};
use super::given::GivenDefinition;
use super::keys::{self, Keys, Places};
use super::sections::*;
use crate::args::chart::ChartOptions;
use crate::args::reading::{ReadingArgs, date_form, word};
use crate::args::request::{CountedArgs, GroupArgs, LookupArgs, RowsArgs, name_and_file};
use crate::args::style::StyleArgs;
use oeuvre_columns::value::Comparison;
use oeuvre_core::language::parser::parse_list;
use oeuvre_core::{Diagnostic, Error, Given, Show, Terms, tolerance_of};
use oeuvre_data::Forced;
use std::collections::HashMap;
use std::ops::Range;
use std::path::Path;
use std::sync::Arc;
use toml::de::{DeTable, DeValue};

/// A report file.
pub(crate) struct Definition {
    pub(super) file: Arc<File>,
    pub(super) title: Option<Written>,
    pub(super) text: Option<Written>,
    pub(super) given: Vec<GivenDefinition>,
    pub(super) data: Rows,
    pub(super) lets: Vec<(String, Written)>,
    pub(super) formats: Vec<(String, Written)>,
    pub(super) parts: Vec<PartDefinition>,
    pub(super) checks: Vec<CheckDefinition>,
}

impl Definition {
    /// The names of its tables.
    pub(crate) fn tables(&self) -> Vec<&str> {
        let is_table = |p: &&PartDefinition| matches!(p.shows, Shows::Table(..) | Shows::Chart(..));
        let tables = self.parts.iter().filter(is_table);
        tables.map(|p| p.name.as_str()).collect()
    }
}

/// Which rows: files and how they are read, lookups, conditions.
#[derive(Default)]
pub(super) struct Rows {
    /// The files with how single ones are read; `None` where the section names none.
    pub(super) files: Option<Vec<(Written, Option<Keys<ReadingArgs>>)>>,
    pub(super) columns: Vec<ColumnDefinition>,
    pub(super) lookups: Vec<LookupDefinition>,
    pub(super) options: Option<Box<Keys<RowOptions>>>,
}

/// How a column is read.
pub(super) struct ColumnDefinition {
    pub(super) name: String,
    pub(super) span: Range<usize>,
    pub(super) kind: Option<Written>,
    pub(super) missing: Vec<Written>,
    pub(super) not_missing: Vec<Written>,
    pub(super) dates: Option<Written>,
}

/// A lookup.
pub(super) struct LookupDefinition {
    pub(super) file: Written,
    pub(super) name: Option<Written>,
    pub(super) on: Written,
    pub(super) no_match: Option<Written>,
    pub(super) doubled: Option<Written>,
    pub(super) columns: Vec<ColumnDefinition>,
    pub(super) reading: Keys<ReadingArgs>,
}

/// Options on rows that no table is made of.
#[derive(clap::Args)]
pub(super) struct RowOptions {
    #[command(flatten)]
    pub(super) counted: CountedArgs,
    #[command(flatten)]
    pub(super) lookups: LookupArgs,
    #[command(flatten)]
    pub(super) reading: ReadingArgs,
}

/// Options of a table.
#[derive(clap::Args)]
pub(super) struct TableOptions {
    #[command(flatten)]
    pub(super) rows: RowsArgs,
    #[command(flatten)]
    pub(super) group: GroupArgs,
    #[command(flatten)]
    pub(super) style: StyleArgs,
    #[command(flatten)]
    pub(super) reading: ReadingArgs,
}

/// Options of a chart.
#[derive(clap::Args)]
pub(super) struct ChartKeys {
    #[command(flatten)]
    pub(super) chart: ChartOptions,
    #[command(flatten)]
    pub(super) table: TableOptions,
}

/// Options of a detail.
#[derive(clap::Args)]
pub(super) struct DetailOptions {
    #[command(flatten)]
    pub(super) rows: RowsArgs,
    #[command(flatten)]
    pub(super) style: StyleArgs,
    #[command(flatten)]
    pub(super) reading: ReadingArgs,
}

/// A part that shows something.
pub(super) struct PartDefinition {
    pub(super) name: String,
    pub(super) title: Option<Written>,
    pub(super) text: Option<Written>,
    pub(super) rows: Rows,
    pub(super) shows: Shows,
    /// Where it begins in the file.
    start: usize,
    /// What it is, as its section is called.
    kind: String,
}

/// What a part shows.
pub(super) enum Shows {
    Table(Box<Keys<TableOptions>>, TableWords),
    Detail(Box<Keys<DetailOptions>>, TableWords),
    Chart(Box<Keys<ChartKeys>>, TableWords, Option<Written>),
    Headline(Box<HeadlineDefinition>),
}

/// What a table says in words of its own, not as an option.
#[derive(Default)]
pub(super) struct TableWords {
    pub(super) show: Vec<ShowDefinition>,
    pub(super) lets: Vec<(String, Written)>,
    pub(super) formats: Vec<(String, Written)>,
}

/// A result.
pub(super) enum ShowDefinition {
    /// As it is typed.
    Typed(Written),
    /// Its parts.
    Parts {
        heading: Option<Written>,
        calc: Written,
        format: Option<Written>,
        bars: bool,
        shade: bool,
        line: bool,
    },
}

/// One figure.
pub(super) struct HeadlineDefinition {
    pub(super) heading: Option<Written>,
    pub(super) calc: Written,
    pub(super) format: Option<Written>,
    pub(super) beside: Option<Beside>,
    pub(super) places: Places,
}

/// What a headline is compared with.
pub(super) struct Beside {
    pub(super) heading: Option<Written>,
    pub(super) calc: Option<Written>,
    /// In place of those of the headline.
    pub(super) filters: Option<Vec<Written>>,
}

/// A check.
pub(super) struct CheckDefinition {
    pub(super) name: Option<String>,
    pub(super) that: Option<Written>,
    pub(super) rows: Rows,
    pub(super) terms: Terms,
    pub(super) wanted: Wanted,
    /// The tolerance as written.
    pub(super) tolerance: Option<Written>,
    /// The table whose cell is meant, and which cell.
    pub(super) cell: Option<(Written, Option<Written>)>,
    pub(super) places: Places,
}

/// What a figure must agree with.
pub(super) enum Wanted {
    /// A calculation, or a number.
    Calc(Written),
    /// A date.
    Date(Written),
    /// What an earlier result has.
    Since(Written),
    /// A figure of its own rows.
    SameAs { calc: Written, rows: Box<Rows> },
}

/// Reads a report file.
pub(crate) fn read(path: &Path) -> Result<Definition, Error> {
    let file = Arc::new(File::open(path)?);
    let mut mistakes = Mistakes::default();
    let text = file.text.clone();
    let (root, wrong) = DeTable::parse_recoverable(&text.text);
    if !wrong.is_empty() && path.extension().is_none_or(|e| !e.eq_ignore_ascii_case("toml")) {
        return Err(Error::request_with_help(
            format!("{} is no report file", path.display()),
            "a report file is TOML; files with rows stand behind it: oeuvre report FILE.toml FILE",
        ));
    }
    for error in wrong {
        let span = error.span().unwrap_or(0..0);
        mistakes.add(file.mistake(span, format!("this is no TOML: {}", error.message())));
    }
    let root = Section::root(&file, root.get_ref());
    let mut read = Reading { file: file.clone(), mistakes };
    let definition = read.definition(root);
    read.mistakes.none()?;
    Ok(definition)
}

/// Gives a name to each part that has none: what it is, and its number among those.
fn name_all(parts: &mut [PartDefinition]) {
    let taken: Vec<String> = parts.iter().map(|p| p.name.clone()).collect();
    let mut numbers: HashMap<String, usize> = HashMap::new();
    for part in parts.iter_mut().filter(|p| p.name.is_empty()) {
        loop {
            let number = numbers.entry(part.kind.clone()).or_default();
            *number += 1;
            part.name = format!("{}-{number}", part.kind);
            if !taken.contains(&part.name) {
                break;
            }
        }
    }
}

struct Reading {
    file: Arc<File>,
    mistakes: Mistakes,
}

impl Reading {
    fn definition(&mut self, root: Section<'_>) -> Definition {
        root.ensure_known(OF_FILE, &mut self.mistakes);
        let given = root.section("given", &mut self.mistakes);
        let given =
            given.map_or(Vec::new(), |section| super::given::read(section, &mut self.mistakes));
        let mut it = Definition {
            file: self.file.clone(),
            title: root.text("title", &mut self.mistakes),
            text: root.text("text", &mut self.mistakes),
            given,
            data: self.data(root),
            lets: self.named(root, "let"),
            formats: self.named(root, "format"),
            parts: Vec::new(),
            checks: Vec::new(),
        };
        for section in root.sections("table", &mut self.mistakes) {
            it.parts.extend(self.table(section));
        }
        for section in root.sections("detail", &mut self.mistakes) {
            it.parts.extend(self.detail(section));
        }
        for section in root.sections("headline", &mut self.mistakes) {
            it.parts.extend(self.headline(section));
        }
        for section in root.sections("chart", &mut self.mistakes) {
            it.parts.extend(self.chart(section));
        }
        it.parts.sort_by_key(|part| part.start);
        name_all(&mut it.parts);
        for section in root.sections("check", &mut self.mistakes) {
            it.checks.extend(self.check(section));
        }
        self.ensure_readable(root, &it);
        self.ensure_apart(root);
        self.uses(root, &mut it);
        if it.parts.is_empty() && it.checks.is_empty() && self.mistakes.0.is_empty() {
            let help =
                "write a [[table]], a [[chart]], a [[detail]], a [[headline]] or a [[check]]";
            self.mistakes.add(self.file.mistake(0..0, "this report shows nothing").help(help));
        }
        it
    }

    /// That each calculation can be read; which names there are is seen when the files are open.
    fn ensure_readable(&mut self, root: Section<'_>, it: &Definition) {
        let given = it.given.iter().map(|g| (g.name.clone(), Given::Text(String::new())));
        let given = Arc::new(given.collect());
        let mut texts: Vec<&Written> = it.lets.iter().map(|(_, text)| text).collect();
        for part in &it.parts {
            match &part.shows {
                Shows::Table(_, words) | Shows::Detail(_, words) | Shows::Chart(_, words, _) => {
                    texts.extend(words.lets.iter().map(|(_, text)| text));
                    texts.extend(words.show.iter().filter_map(|show| match show {
                        ShowDefinition::Parts { calc, .. } => Some(calc),
                        ShowDefinition::Typed(_) => None,
                    }));
                }
                Shows::Headline(headline) => {
                    texts.push(&headline.calc);
                    if let Some(beside) = &headline.beside {
                        texts.extend(beside.calc.iter().chain(beside.filters.iter().flatten()));
                    }
                }
            }
        }
        for check in &it.checks {
            // With a table this is the heading of a result.
            texts.extend(check.that.iter().filter(|_| check.cell.is_none()));
            match &check.wanted {
                Wanted::Calc(text) => texts.push(text),
                Wanted::SameAs { calc, .. } => texts.push(calc),
                Wanted::Date(_) | Wanted::Since(_) => {}
            }
        }
        let mut mistakes: Vec<Diagnostic> = texts
            .into_iter()
            .filter_map(|text| parse_list(&text.source("", &given)).err())
            .collect();
        // Options that are calculations, wherever they stand.
        let lists = ["data", "table", "detail", "chart", "headline", "check"];
        for section in lists.iter().flat_map(|key| root.sections(key, &mut Mistakes::default())) {
            for key in ["by", "columns-by", "where", "lines-where", "every"] {
                for text in section.texts(key, &mut Mistakes::default()) {
                    let shows = Show::parse_all("", &text.value);
                    let wrong = shows.iter().any(|show| parse_list(&show.calc).is_err());
                    let whole = parse_list(&text.source("", &given));
                    mistakes.extend(whole.err().filter(|_| wrong));
                }
            }
        }
        self.mistakes.0.append(&mut mistakes);
    }

    /// That no two parts have one name.
    fn ensure_apart(&mut self, root: Section<'_>) {
        let mut seen: HashMap<String, ()> = HashMap::new();
        for key in ["table", "detail", "headline", "chart"] {
            for section in root.sections(key, &mut Mistakes::default()) {
                if let Some(name) = section.text("name", &mut Mistakes::default())
                    && seen.insert(name.value.clone(), ()).is_some()
                {
                    let message = format!("two parts are called `{}`", name.value);
                    self.mistakes.add(self.file.mistake(name.span, message));
                }
            }
        }
    }

    /// Brings in what other files name. What the report names itself stands before it.
    fn uses(&mut self, root: Section<'_>, into: &mut Definition) {
        let mut lets = Names::of(&into.lets, |it| it.0.clone());
        let mut formats = Names::of(&into.formats, |it| it.0.clone());
        let mut columns = Names::of(&into.data.columns, |it| it.name.clone());
        let mut lookups = Names::of(&into.data.lookups, LookupDefinition::called);
        for written in root.texts("use", &mut self.mistakes) {
            let Some(shared) = self.shared(&written) else { continue };
            let from = &written.value;
            let mut clashes = Vec::new();
            clashes.extend(lets.take(&mut into.lets, shared.lets, from, "the calculation"));
            clashes.extend(formats.take(&mut into.formats, shared.formats, from, "the format of"));
            let of_data = &mut into.data;
            clashes.extend(columns.take(&mut of_data.columns, shared.columns, from, "the column"));
            clashes.extend(lookups.take(&mut of_data.lookups, shared.lookups, from, "the lookup"));
            for message in clashes {
                let mistake = self.file.mistake(written.span.clone(), message);
                self.mistakes.add(mistake.help("name it in this file, which stands before both"));
            }
        }
    }

    /// What another file names.
    fn shared(&mut self, written: &Written) -> Option<Shared> {
        let path = self.file.folder.join(&written.value);
        let file = match File::open(&path) {
            Ok(file) => Arc::new(file),
            Err(error) => {
                self.mistakes.add(self.file.mistake(written.span.clone(), error.to_string()));
                return None;
            }
        };
        let text = file.text.clone();
        let (tree, wrong) = DeTable::parse_recoverable(&text.text);
        for error in wrong {
            let message = format!("this is no TOML: {}", error.message());
            self.mistakes.add(file.mistake(error.span().unwrap_or(0..0), message));
        }
        let mut inner = Reading { file: file.clone(), mistakes: Mistakes::default() };
        let root = Section::root(&file, tree.get_ref());
        root.ensure_known(OF_FILE, &mut inner.mistakes);
        let shared = Shared {
            lets: inner.named(root, "let"),
            formats: inner.named(root, "format"),
            columns: root
                .section("data", &mut inner.mistakes)
                .map_or(Vec::new(), |data| inner.columns(data)),
            lookups: root
                .section("data", &mut inner.mistakes)
                .map_or(Vec::new(), |data| inner.lookups(data)),
        };
        self.mistakes.0.extend(inner.mistakes.0);
        Some(shared)
    }

    /// Texts by their names: of `[let]`, of `[format]`.
    fn named(&mut self, section: Section<'_>, key: &str) -> Vec<(String, Written)> {
        let Some(section) = section.section(key, &mut self.mistakes) else { return Vec::new() };
        let mut named = Vec::new();
        for (name, _, _) in section.entries() {
            let text = section.text(name, &mut self.mistakes);
            named.extend(text.map(|text| (name.to_owned(), text)));
        }
        named
    }

    fn data(&mut self, root: Section<'_>) -> Rows {
        let Some(section) = root.section("data", &mut self.mistakes) else {
            return Rows::default();
        };
        self.rows_with_options(section, OF_ROWS)
    }

    /// Which rows, of a section that has options on rows alone beside its own keys.
    fn rows_with_options(&mut self, section: Section<'_>, own: &[&str]) -> Rows {
        let mut own = own.to_vec();
        // Lookups as they are typed are options.
        let typed =
            section.values("lookup").any(|value| matches!(value.get_ref(), DeValue::String(_)));
        if typed {
            own.retain(|key| *key != "lookup");
        }
        let options = keys::read(section, &own, &mut self.mistakes).map(Box::new);
        Rows { options, ..self.rows(section) }
    }

    /// Which rows, but for the options.
    fn rows(&mut self, section: Section<'_>) -> Rows {
        Rows {
            files: section.get("files").map(|_| self.files(section)),
            columns: self.columns(section),
            lookups: self.lookups(section),
            options: None,
        }
    }

    fn files(&mut self, section: Section<'_>) -> Vec<(Written, Option<Keys<ReadingArgs>>)> {
        let mut files = Vec::new();
        for value in section.values("files") {
            if let Some(inner) = section.of_value(value) {
                let reading = keys::read(inner, OF_FILES, &mut self.mistakes);
                match inner.text("file", &mut self.mistakes) {
                    Some(file) => files.push((file, reading)),
                    None => self.mistakes.add(lacks(inner, "file")),
                }
            } else if let Some(file) = section.file.written(value) {
                files.push((file, None));
            } else {
                self.mistakes.add(section.is_not("files", value, "names of files"));
            }
        }
        files
    }

    fn columns(&mut self, section: Section<'_>) -> Vec<ColumnDefinition> {
        let Some(columns) = section.section("columns", &mut self.mistakes) else {
            return Vec::new();
        };
        let mut out = Vec::new();
        for (name, span, value) in columns.entries() {
            let (name, mut it) = (name.to_owned(), None);
            match columns.of_value(value) {
                Some(inner) => {
                    inner.ensure_known(OF_COLUMN, &mut self.mistakes);
                    it = Some(ColumnDefinition {
                        kind: inner.text("kind", &mut self.mistakes),
                        missing: inner.texts("missing", &mut self.mistakes),
                        not_missing: inner.texts("not-missing", &mut self.mistakes),
                        dates: inner.text("dates", &mut self.mistakes),
                        name,
                        span,
                    });
                }
                // A column's kind alone.
                None => match columns.file.written(value) {
                    Some(kind) => {
                        let (missing, not_missing, dates) = (Vec::new(), Vec::new(), None);
                        let kind = Some(kind);
                        it = Some(ColumnDefinition {
                            name,
                            span,
                            kind,
                            missing,
                            not_missing,
                            dates,
                        });
                    }
                    None => self.mistakes.add(columns.is_not(&name, value, "a kind, or a table")),
                },
            }
            if let Some(it) = &it {
                let kind = it
                    .kind
                    .iter()
                    .filter_map(|k| word::<Forced>("kind", &k.value).err().map(|e| (k, e)));
                let dates =
                    it.dates.iter().filter_map(|d| date_form(&d.value).err().map(|e| (d, e)));
                for (text, error) in kind.chain(dates) {
                    let told = self.mistakes.take::<()>(Err(keys::at(text, error)));
                    debug_assert!(told.is_ok(), "what is wrong with a text is a mistake in it");
                }
            }
            out.extend(it);
        }
        out
    }

    fn lookups(&mut self, section: Section<'_>) -> Vec<LookupDefinition> {
        let mut out = Vec::new();
        let tables = section.values("lookup").filter_map(|value| section.of_value(value));
        for inner in tables {
            let reading = keys::read(inner, OF_LOOKUP, &mut self.mistakes);
            let file = inner.text("file", &mut self.mistakes);
            let on = inner.text("match", &mut self.mistakes);
            for (key, given) in [("file", file.is_some()), ("match", on.is_some())] {
                if !given && inner.get(key).is_none() {
                    self.mistakes.add(lacks(inner, key));
                }
            }
            let (Some(reading), Some(file), Some(on)) = (reading, file, on) else { continue };
            out.push(LookupDefinition {
                name: inner.text("name", &mut self.mistakes),
                no_match: inner.text("no-match", &mut self.mistakes),
                doubled: inner.text("doubled", &mut self.mistakes),
                columns: self.columns(inner),
                file,
                on,
                reading,
            });
        }
        out
    }

    /// The keys of a section that are no options: those of its own, as far as they are not written as options.
    fn own(section: Section<'_>, own: &[&'static str]) -> Vec<&'static str> {
        let typed = |key: &str| {
            let is_text =
                |v: &toml::Spanned<DeValue<'_>>| matches!(v.get_ref(), DeValue::String(_));
            matches!(key, "lookup" | "format" | "let") && section.values(key).any(is_text)
        };
        own.iter().copied().filter(|key| !typed(key)).collect()
    }

    fn words(&mut self, section: Section<'_>) -> TableWords {
        let in_braces =
            |key: &str| section.get(key).is_some_and(|v| matches!(v.get_ref(), DeValue::Table(_)));
        TableWords {
            show: self.shows(section),
            lets: if in_braces("let") { self.named(section, "let") } else { Vec::new() },
            formats: if in_braces("format") { self.named(section, "format") } else { Vec::new() },
        }
    }

    fn shows(&mut self, section: Section<'_>) -> Vec<ShowDefinition> {
        let mut out = Vec::new();
        for value in section.values("show") {
            let Some(inner) = section.of_value(value) else {
                match section.file.written(value) {
                    Some(text) => out.push(ShowDefinition::Typed(text)),
                    None => self.mistakes.add(section.is_not("show", value, "a calculation")),
                }
                continue;
            };
            inner.ensure_known(OF_SHOW, &mut self.mistakes);
            let flag = |key: &str, mistakes: &mut Mistakes| match inner.get(key) {
                None => false,
                Some(value) => match value.get_ref() {
                    DeValue::Boolean(truth) => *truth,
                    _ => {
                        mistakes.add(inner.is_not(key, value, "true or false"));
                        false
                    }
                },
            };
            let (bars, shade) =
                (flag("cell-bars", &mut self.mistakes), flag("cell-shade", &mut self.mistakes));
            let line = flag("cell-line", &mut self.mistakes);
            match inner.text("calc", &mut self.mistakes) {
                Some(calc) => out.push(ShowDefinition::Parts {
                    heading: inner.text("heading", &mut self.mistakes),
                    format: inner.text("format", &mut self.mistakes),
                    calc,
                    bars,
                    shade,
                    line,
                }),
                None => self.mistakes.add(lacks(inner, "calc")),
            }
        }
        out
    }

    fn part(
        &mut self,
        section: Section<'_>,
        kind: &str,
        rows: Rows,
        shows: Shows,
    ) -> PartDefinition {
        let name = section.text("name", &mut self.mistakes);
        let title = section.get("title").and_then(|_| section.text("title", &mut self.mistakes));
        PartDefinition {
            name: name.map_or(String::new(), |name| name.value),
            title,
            text: section.text("text", &mut self.mistakes),
            rows,
            shows,
            start: section.start(),
            kind: kind.to_owned(),
        }
    }

    fn table(&mut self, section: Section<'_>) -> Option<PartDefinition> {
        let keys = keys::read(section, &Self::own(section, OF_TABLE), &mut self.mistakes);
        let (rows, words) = (self.rows(section), self.words(section));
        let keys = keys?;
        Some(self.part(section, "table", rows, Shows::Table(Box::new(keys), words)))
    }

    fn chart(&mut self, section: Section<'_>) -> Option<PartDefinition> {
        let keys = keys::read(section, &Self::own(section, OF_CHART), &mut self.mistakes);
        let (rows, words) = (self.rows(section), self.words(section));
        let caption = section.text("caption", &mut self.mistakes);
        let shows = Shows::Chart(Box::new(keys?), words, caption);
        Some(self.part(section, "chart", rows, shows))
    }

    fn detail(&mut self, section: Section<'_>) -> Option<PartDefinition> {
        let keys = keys::read(section, &Self::own(section, OF_TABLE), &mut self.mistakes);
        let (rows, words) = (self.rows(section), self.words(section));
        let keys = keys?;
        Some(self.part(section, "detail", rows, Shows::Detail(Box::new(keys), words)))
    }

    fn headline(&mut self, section: Section<'_>) -> Option<PartDefinition> {
        let rows = self.rows_with_options(section, OF_HEADLINE);
        let beside = section.section("beside", &mut self.mistakes).map(|inner| {
            inner.ensure_known(OF_BESIDE, &mut self.mistakes);
            Beside {
                heading: inner.text("heading", &mut self.mistakes),
                calc: inner.text("calc", &mut self.mistakes),
                filters: inner.get("where").map(|_| inner.texts("where", &mut self.mistakes)),
            }
        });
        let Some(calc) = section.text("calc", &mut self.mistakes) else {
            self.mistakes.add(lacks(section, "calc"));
            return None;
        };
        let headline = HeadlineDefinition {
            heading: section.text("heading", &mut self.mistakes),
            format: section.text("format", &mut self.mistakes),
            places: Places::of_section(section),
            beside,
            calc,
        };
        Some(self.part(section, "headline", rows, Shows::Headline(Box::new(headline))))
    }

    fn check(&mut self, section: Section<'_>) -> Option<CheckDefinition> {
        let rows = self.rows_with_options(section, OF_CHECK);
        let before = self.mistakes.0.len();
        let mut wanted: Vec<(&str, Comparison, Wanted)> = Vec::new();
        for (key, how) in [
            ("equals", Comparison::Equal),
            ("at-least", Comparison::GreaterEqual),
            ("at-most", Comparison::LessEqual),
        ] {
            let Some(text) = section.text(key, &mut self.mistakes) else { continue };
            let is_date =
                matches!(section.get(key).map(|v| v.get_ref()), Some(DeValue::Datetime(_)));
            let it = if is_date { Wanted::Date(text) } else { Wanted::Calc(text) };
            wanted.push((key, how, it));
        }
        if let Some(inner) = section.section("same-as", &mut self.mistakes) {
            let rows = self.rows_with_options(inner, OF_SAME);
            match inner.text("calc", &mut self.mistakes) {
                Some(calc) => {
                    wanted.push((
                        "same-as",
                        Comparison::Equal,
                        Wanted::SameAs { calc, rows: Box::new(rows) },
                    ));
                }
                None => self.mistakes.add(lacks(inner, "calc")),
            }
        }
        if let Some(file) = section.text("unchanged-since", &mut self.mistakes) {
            wanted.push(("unchanged-since", Comparison::Equal, Wanted::Since(file)));
        }
        let that = section.text("that", &mut self.mistakes);
        let cell = section.text("in", &mut self.mistakes);
        let at = section.text("at", &mut self.mistakes);
        if that.is_none() && cell.is_none() {
            self.mistakes.add(lacks(section, "that"));
        }
        if let (Some(at), None) = (&at, &cell) {
            let it = self.file.mistake(at.span.clone(), "`at` names a cell, but of no table");
            self.mistakes.add(it.help("name the table: in = \"NAME\""));
        }
        let tolerance = section.text("tolerance", &mut self.mistakes);
        let apart = tolerance.as_ref().and_then(|text| {
            let apart = tolerance_of(&text.value);
            if apart.is_none() {
                let it = self.file.mistake(text.span.clone(), "this is no tolerance");
                self.mistakes.add(it.label("expected a number, or one in percent: \"0.5%\""));
            }
            apart
        });
        if wanted.len() > 1 {
            let keys: Vec<&str> = wanted.iter().map(|w| w.0).collect();
            let message = format!("this check says {}", oeuvre_columns::names::all_of(&keys));
            let it = self.file.mistake(section.header(), message);
            self.mistakes.add(it.help("write a [[check]] for each"));
        }
        let name = section.text("name", &mut self.mistakes).map(|name| name.value);
        let Some((_, how, wanted)) = wanted.pop() else {
            if self.mistakes.0.len() == before {
                let it = self.file.mistake(section.header(), "this check has no known figure");
                self.mistakes
                    .add(it.help("write equals, at-least, at-most, same-as or unchanged-since"));
            }
            return None;
        };
        let cell = cell.map(|cell| (cell, at));
        let (terms, places) = (Terms { how, tolerance: apart }, Places::of_section(section));
        Some(CheckDefinition { name, that, rows, terms, wanted, tolerance, cell, places })
    }
}

/// That a section lacks a key.
fn lacks(section: Section<'_>, key: &str) -> oeuvre_core::Diagnostic {
    section.file.mistake(section.header(), format!("`{key}` is needed here"))
}

impl LookupDefinition {
    /// What the lookup is called.
    pub(super) fn called(&self) -> String {
        match &self.name {
            Some(name) => name.value.clone(),
            None => name_and_file(&self.file.value).0,
        }
    }
}

/// What a file gives to others.
struct Shared {
    lets: Vec<(String, Written)>,
    formats: Vec<(String, Written)>,
    columns: Vec<ColumnDefinition>,
    lookups: Vec<LookupDefinition>,
}

/// The names of one kind, with the file that each came from; none for those of the report itself.
struct Names<T> {
    from: HashMap<String, Option<String>>,
    name: fn(&T) -> String,
}

impl<T> Names<T> {
    fn of(own: &[T], name: fn(&T) -> String) -> Names<T> {
        Names { from: own.iter().map(|it| (name(it), None)).collect(), name }
    }

    /// Takes in what a file gives, but for what the report names itself; what two files give is told.
    fn take(&mut self, into: &mut Vec<T>, given: Vec<T>, file: &str, what: &str) -> Vec<String> {
        let mut clashes = Vec::new();
        for it in given {
            let name = (self.name)(&it);
            match self.from.get(&name) {
                None => {
                    self.from.insert(name, Some(file.to_owned()));
                    into.push(it);
                }
                Some(Some(other)) => {
                    clashes.push(format!("{other} and {file} both give {what} `{name}`"));
                }
                Some(None) => {}
            }
        }
        clashes
    }
}
