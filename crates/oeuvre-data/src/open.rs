//! What a name stands for: which reader takes it.
//!
//! A file is known by its content, wherever it comes from. If you add a format: its reader in a folder of its own,
//! which is a [`FileRows`], and a row here, before the last one, which takes every text. A reader of texts leaves
//! it to `kinds/` what its columns hold.

use crate::bytes::{self, Opened};
#[cfg(feature = "columnar")]
use crate::columnar;
use crate::file_rows::FileRows;
use crate::input::Input;
use crate::options::ReadOptions;
use crate::stack::{self, Stack};
use crate::text::csv::CsvFile;
use crate::text::json::{JsonFile, looks_like_json};
use oeuvre_columns::{DataProblem, ReadError};
use std::path::Path;

/// A format that rows are read from.
struct Format {
    /// Whether a file is of it, by its first bytes; the last row takes all that are left.
    takes: fn(&[u8]) -> bool,
    /// Opens a file of it.
    open: Open,
}

/// How a file was named.
#[derive(Clone, Copy)]
struct Named<'n> {
    /// Without its table.
    name: &'n str,
    /// The table in it that was named.
    table: Option<&'n str>,
}

/// A file that is to be opened.
struct File<'n> {
    named: Named<'n>,
    opened: Opened,
}

impl Named<'_> {
    /// An error where a table is named in what is one by itself.
    fn ensure_one_table(&self, what: &str) -> Result<(), ReadError> {
        let Some(table) = self.table else { return Ok(()) };
        let it = DataProblem::in_file(self.name, format!("there is no table `{table}` in it"));
        Err(it.help(format!("{what} is one table by itself: leave `#{table}` out")).into())
    }
}

impl<'n> File<'n> {
    /// Its text.
    fn text(self, options: &ReadOptions) -> Result<(Named<'n>, Opened), ReadError> {
        Ok((self.named, self.opened.text(self.named.name, options.encoding.as_deref())?))
    }
}

/// Opens a file as it is to be read.
type Open = fn(File<'_>, &ReadOptions) -> Result<Box<dyn FileRows>, ReadError>;

/// How much is looked at to see what a file is.
const HEAD: usize = 4096;

/// All formats; the first that takes a file reads it.
const FORMATS: &[Format] = &[
    #[cfg(feature = "columnar")]
    Format {
        takes: columnar::is_parquet,
        open: |file, _| {
            file.named.ensure_one_table("a Parquet file")?;
            Ok(Box::new(columnar::ParquetFile::new(file.named.name, file.opened)?))
        },
    },
    #[cfg(feature = "columnar")]
    Format {
        takes: |head| columnar::is_arrow_file(head) || columnar::is_arrow_stream(head),
        open: |file, _| {
            file.named.ensure_one_table("an Arrow file")?;
            Ok(Box::new(columnar::ArrowFile::new(file.named.name, file.opened)?))
        },
    },
    Format {
        takes: looks_like_json,
        open: |file, options| {
            let (named, text) = file.text(options)?;
            Ok(Box::new(JsonFile::new(named.name, text, named.table, options)?))
        },
    },
    Format {
        takes: |_| true,
        open: |file, options| {
            let (named, text) = file.text(options)?;
            // JSON in another encoding is known only now.
            if looks_like_json(text.bytes.head(HEAD)) {
                return Ok(Box::new(JsonFile::new(named.name, text, named.table, options)?));
            }
            named.ensure_one_table("a file of records")?;
            Ok(Box::new(CsvFile::new(named.name, text, options)?))
        },
    },
];

/// A file's name and the table in it that is named behind `#`. A file whose very name holds a `#` is found first.
fn parted(name: &str) -> (&str, Option<&str>) {
    match name.rsplit_once('#') {
        Some((file, table)) if !Path::new(name).exists() => (file, Some(table)),
        _ => (name, None),
    }
}

/// Opens what some names stand for, in the order in which their rows are to be stacked. `-` is standard input.
///
/// # Errors
/// What is wrong with a file.
pub fn open(names: &[String], options: ReadOptions) -> Result<Box<dyn Input>, ReadError> {
    let mut files = Vec::new();
    for (place, name) in names.iter().enumerate() {
        let (file, table) = parted(name);
        let opened = bytes::open(file)?;
        let head = opened.bytes.head(HEAD);
        let Some(format) = FORMATS.iter().find(|format| (format.takes)(head)) else {
            unreachable!("the last format takes every file")
        };
        let rows = (format.open)(
            File { named: Named { name: file, table }, opened },
            options.of_file(place),
        )?;
        files.push(stack::Opened { name: name.clone(), rows, keys: Vec::new() });
    }
    Ok(Box::new(Stack::new(files, options)?))
}
