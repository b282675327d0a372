//! What a name stands for: which reader takes it.
//!
//! A file is known by its content, wherever it comes from. If you add a format: its reader in a folder of its own,
//! which is a [`FileRows`], and a row here, before the last one, which takes every text. A reader of texts leaves
//! it to `kinds/` what its columns hold.

use crate::bytes::{self, Opened};
#[cfg(feature = "columnar")]
use crate::columnar;
#[cfg(feature = "databases")]
use crate::database;
use crate::file_rows::FileRows;
use crate::input::Input;
use crate::names::{is_address, is_server, keys_of, name_shown, parted};
use crate::options::ReadOptions;
use crate::stack::{self, Stack};
use crate::text::csv::CsvFile;
use crate::text::json::{JsonFile, looks_like_json};
#[cfg(feature = "workbooks")]
use crate::workbook;
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

/// A table, with what it is called where a file holds several.
type Table = (Option<String>, Box<dyn FileRows>);

/// Opens a file as it is to be read: the tables that were meant, in their order.
type Open = fn(File<'_>, &ReadOptions) -> Result<Vec<Table>, ReadError>;

/// A file that is one table.
fn one(rows: impl FileRows + 'static) -> Vec<Table> {
    vec![(None, Box::new(rows))]
}

/// How much is looked at to see what a file is.
const HEAD: usize = 4096;

/// All formats; the first that takes a file reads it.
const FORMATS: &[Format] = &[
    #[cfg(feature = "columnar")]
    Format {
        takes: |head, _| columnar::is_parquet(head),
        open: |file, _| {
            file.named.ensure_one_table("a Parquet file")?;
            Ok(one(columnar::ParquetFile::new(file.named.name, file.opened)?))
        },
    },
    #[cfg(feature = "columnar")]
    Format {
        takes: |head, _| columnar::is_arrow_file(head) || columnar::is_arrow_stream(head),
        open: |file, _| {
            file.named.ensure_one_table("an Arrow file")?;
            Ok(one(columnar::ArrowFile::new(file.named.name, file.opened)?))
        },
    },
    #[cfg(feature = "workbooks")]
    Format {
        takes: |head, _| workbook::is_archive(head),
        open: |file, options| {
            let Named { name, table } = file.named;
            let sheets = workbook::Book::open(name, file.opened, options)?.rows(table, options)?;
            Ok(sheets
                .into_iter()
                .map(|(name, rows)| -> Table { (Some(name), Box::new(rows)) })
                .collect())
        },
    },
    #[cfg(feature = "databases")]
    Format {
        takes: |head, _| database::is_sqlite(head),
        open: |file, options| {
            let Named { name, table } = file.named;
            let rows = database::open_sqlite(name, file.opened, table, options)?;
            Ok(vec![(Some(rows.name()), Box::new(rows))])
        },
    },
    Format {
        takes: looks_like_json,
        open: |file, options| {
            let (named, text) = file.text(options)?;
            Ok(one(JsonFile::new(named.name, text, named.table, options)?))
        },
    },
    Format {
        takes: |_, _| true,
        open: |file, options| {
            let (named, text) = file.text(options)?;
            // JSON in another encoding is known only now.
            if looks_like_json(text.bytes.head(HEAD), named.name) {
                return Ok(one(JsonFile::new(named.name, text, named.table, options)?));
            }
            named.ensure_one_table("a file of records")?;
            Ok(one(CsvFile::new(named.name, text, options)?))
        },
    },
];

/// Opens what some names stand for, in the order in which their rows are to be stacked. `-` is standard input.
///
/// # Errors
/// What is wrong with a file.
pub fn open(names: &[String], options: ReadOptions) -> Result<Box<dyn Input>, ReadError> {
    let mut files = Vec::new();
    // A name may stand for several tables, all of which are read as it is.
    let mut of_files = Vec::new();
    for (place, name) in names.iter().enumerate() {
        let (file, table) = parted(name);
        let own = options.of_file(place);
        let shown = name_shown(file);
        let tables = match is_server(file) {
            true => asked(Named { name: file, table }, own)?,
            false => {
                let opened = match is_address(file) {
                    true => fetched(file, own)?,
                    false => bytes::open(file)?,
                };
                tables_of(Named { name: &shown, table }, opened, own)?
            }
        };
        if own.query.is_some() && tables.iter().any(|(_, rows)| !rows.takes_queries()) {
            let it = DataProblem::in_file(shown, "--query asks a database, and this is none");
            return Err(it.help("--where says which rows are counted").into());
        }
        for (own_name, rows) in tables {
            let name = own_name.unwrap_or_else(|| shown.clone());
            if options.of_files.iter().any(|(at, _)| *at == place) {
                of_files.push((files.len(), own.clone()));
            }
            files.push(stack::Opened { name, rows, keys: keys_of(file) });
        }
    }
    Ok(Box::new(Stack::new(files, ReadOptions { of_files, ..options })?))
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
    let tables = tables_of(Named { name, table: None }, opened, &options)?;
    let file = |(own_name, rows): Table| {
        let name = own_name.unwrap_or_else(|| name.to_owned());
        stack::Opened { name, rows, keys: Vec::new() }
    };
    Ok(Box::new(Stack::new(tables.into_iter().map(file).collect(), options)?))
}

/// The tables of a file, by the first format that takes it.
fn tables_of(
    named: Named<'_>,
    opened: Opened,
    options: &ReadOptions,
) -> Result<Vec<Table>, ReadError> {
    let head = opened.bytes.head(HEAD);
    let Some(format) = FORMATS.iter().find(|format| (format.takes)(head, named.name)) else {
        unreachable!("the last format takes every file")
    };
    (format.open)(File { named, opened }, options)
}

/// The table of a database.
#[cfg(feature = "databases")]
fn asked(named: Named<'_>, options: &ReadOptions) -> Result<Vec<Table>, ReadError> {
    let rows = database::open_postgres(named.name, named.table, options)?;
    Ok(vec![(Some(rows.name()), Box::new(rows))])
}

#[cfg(not(feature = "databases"))]
fn asked(named: Named<'_>, _: &ReadOptions) -> Result<Vec<Table>, ReadError> {
    let it = "this program was built without a way to ask databases";
    let it = DataProblem::in_file(name_shown(named.name), it);
    Err(it.help("write the table to a CSV file, and name that").into())
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
