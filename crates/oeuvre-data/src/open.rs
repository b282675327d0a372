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
use crate::names::{is_address, keys_of, name_shown, parted};
use crate::options::ReadOptions;
use crate::stack::{self, Stack};
use crate::text::csv::CsvFile;
use crate::text::json::{JsonFile, looks_like_json};
use oeuvre_columns::{DataProblem, ReadError};

/// A format that rows are read from.
struct Format {
    /// Whether a file is of it, by its first bytes, and by its name where these leave it open; the last row takes
    /// all that are left.
    takes: fn(&[u8], &str) -> bool,
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
        takes: |head, _| columnar::is_parquet(head),
        open: |file, _| {
            file.named.ensure_one_table("a Parquet file")?;
            Ok(Box::new(columnar::ParquetFile::new(file.named.name, file.opened)?))
        },
    },
    #[cfg(feature = "columnar")]
    Format {
        takes: |head, _| columnar::is_arrow_file(head) || columnar::is_arrow_stream(head),
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
        takes: |_, _| true,
        open: |file, options| {
            let (named, text) = file.text(options)?;
            // JSON in another encoding is known only now.
            if looks_like_json(text.bytes.head(HEAD), named.name) {
                return Ok(Box::new(JsonFile::new(named.name, text, named.table, options)?));
            }
            named.ensure_one_table("a file of records")?;
            Ok(Box::new(CsvFile::new(named.name, text, options)?))
        },
    },
];

/// Opens what some names stand for, in the order in which their rows are to be stacked. `-` is standard input.
///
/// # Errors
/// What is wrong with a file.
pub fn open(names: &[String], options: ReadOptions) -> Result<Box<dyn Input>, ReadError> {
    let mut files = Vec::new();
    for (place, name) in names.iter().enumerate() {
        let (file, table) = parted(name);
        let own = options.of_file(place);
        let opened = match is_address(file) {
            true => fetched(file, own)?,
            false => bytes::open(file)?,
        };
        let shown = name_shown(file);
        let rows = rows_of(Named { name: &shown, table }, opened, own)?;
        files.push(stack::Opened { name: shown, rows, keys: keys_of(file) });
    }
    Ok(Box::new(Stack::new(files, options)?))
}

/// Opens bytes that are in memory, as a file of that name would be.
///
/// # Errors
/// What is wrong with them.
///
/// ```
/// use oeuvre_data::{ReadOptions, open_bytes, settled};
///
/// let mut rows = open_bytes("rows.json", b"[{\"fare\":12.50},{\"fare\":8}]".to_vec(), ReadOptions::default())?;
/// assert_eq!(settled(rows.as_mut(), |rows| rows.rows_whole())?.0[0].data.to_i128(), [1250, 800]);
/// # Ok::<(), oeuvre_columns::ReadError>(())
/// ```
pub fn open_bytes(
    name: &str,
    bytes: Vec<u8>,
    options: ReadOptions,
) -> Result<Box<dyn Input>, ReadError> {
    let opened = bytes::unpacked(name, Opened::copied(bytes::Bytes::Owned(bytes)))?;
    let rows = rows_of(Named { name, table: None }, opened, &options)?;
    let file = stack::Opened { name: name.to_owned(), rows, keys: Vec::new() };
    Ok(Box::new(Stack::new(vec![file], options)?))
}

/// The rows of a file, by the first format that takes it.
fn rows_of(
    named: Named<'_>,
    opened: Opened,
    options: &ReadOptions,
) -> Result<Box<dyn FileRows>, ReadError> {
    let head = opened.bytes.head(HEAD);
    let Some(format) = FORMATS.iter().find(|format| (format.takes)(head, named.name)) else {
        unreachable!("the last format takes every file")
    };
    (format.open)(File { named, opened }, options)
}

/// What a server has under an address.
#[cfg(feature = "web")]
fn fetched(address: &str, options: &ReadOptions) -> Result<Opened, ReadError> {
    let opened = crate::web::fetch(address, options.most_bytes, &options.web)?;
    bytes::unpacked(&name_shown(address), opened)
}

#[cfg(not(feature = "web"))]
fn fetched(address: &str, _: &ReadOptions) -> Result<Opened, ReadError> {
    let it = DataProblem::in_file(address, "this program was built without a way to fetch files");
    Err(it.help("fetch it first, and name the file").into())
}
