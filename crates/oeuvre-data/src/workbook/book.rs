//! The sheets of a workbook, read by the library.

use super::SheetRows;
use super::cell::Cell;
use super::table::{Maker, Table, too_large};
use crate::bytes::Opened;
use crate::fence::fenced;
use crate::options::ReadOptions;
use calamine::{Data, DataRef, Ods, Range, Reader, Sheet, SheetType, SheetVisible, Xlsx};
use oeuvre_columns::names::nearest;
use oeuvre_columns::{DataProblem, ReadError};
use std::io::{Cursor, Read};
use std::sync::Arc;
use std::sync::mpsc::sync_channel;
use std::thread::JoinHandle;

/// The bytes of a file, shared with the library.
#[derive(Clone)]
struct Shared(Arc<Opened>);

impl AsRef<[u8]> for Shared {
    fn as_ref(&self) -> &[u8] {
        &self.0.bytes
    }
}

type Bytes = Cursor<Shared>;

/// Whether a file begins as an archive does.
pub(crate) fn is_archive(head: &[u8]) -> bool {
    head.starts_with(b"PK\x03\x04")
}

/// A workbook.
pub(crate) struct Book<'n> {
    name: &'n str,
    file: Arc<Opened>,
    sheets: Sheets,
    /// Whether it has formulas, where that must be known before they are asked for.
    has_formulas: Option<Looking>,
}

enum Sheets {
    Xlsx(Box<Xlsx<Bytes>>),
    Ods(Ods<Bytes>),
}

/// What an archive is, by what it holds.
enum Kind {
    Xlsx,
    Ods,
    /// Something else, in words, with what to do.
    Other(&'static str, &'static str),
}

impl<'n> Book<'n> {
    /// Opens a workbook.
    ///
    /// # Errors
    /// An archive that is none, or a damaged one; more bytes than may be held.
    pub(crate) fn open(
        name: &'n str,
        opened: Opened,
        options: &ReadOptions,
    ) -> Result<Book<'n>, ReadError> {
        let file = Arc::new(opened);
        let shared = Shared(file.clone());
        let kind = fenced(|| looked_into(&shared, options.most_bytes));
        let kind = match kind.map_err(|e| damaged(name, e))? {
            Some(kind) => kind,
            None => return Err(too_large(name, options.most_bytes)),
        };
        let has_formulas = matches!(kind, Kind::Ods).then(|| Looking::start(shared.clone()));
        let bytes = Cursor::new(shared);
        let sheets = match kind {
            Kind::Xlsx => fenced(|| Xlsx::new(bytes)).map(|book| Sheets::Xlsx(Box::new(book))),
            Kind::Ods => fenced(|| Ods::new(bytes)).map(Sheets::Ods),
            Kind::Other(what, help) => {
                return Err(DataProblem::in_file(name, format!("this is {what}"))
                    .help(help)
                    .into());
            }
        };
        let sheets = sheets.map_err(|e| match e.contains("password") {
            true => DataProblem::in_file(name, "the workbook is locked with a password")
                .help("save it without one")
                .into(),
            false => damaged(name, e),
        })?;
        Ok(Book { name, file, sheets, has_formulas })
    }

    /// The rows of the sheet that was named, or of the only one that holds any; `*` stands for all of these.
    ///
    /// # Errors
    /// No such sheet, or several; what is wrong with it.
    pub(crate) fn rows(
        mut self,
        sheet: Option<&str>,
        options: &ReadOptions,
    ) -> Result<Vec<(String, SheetRows)>, ReadError> {
        let known: Vec<String> = self.sheet_names();
        let file = self.name;
        let it = |message: String| DataProblem::in_file(file, message);
        if let Some(sheet) = sheet.filter(|&s| s != "*") {
            // One that is hidden is read where it is named.
            let all: Vec<String> = self.of_cells().map(|sheet| sheet.name.clone()).collect();
            let found = all.iter().find(|known| *known == sheet);
            let found = found.or_else(|| {
                let mut alike = all.iter().filter(|k| k.to_lowercase() == sheet.to_lowercase());
                alike.next().filter(|_| alike.next().is_none())
            });
            let Some(found) = found else {
                let message = format!("there is no sheet `{sheet}` in it");
                let near = nearest(sheet, known.iter().map(String::as_str));
                let help = match near.first() {
                    Some(near) => format!("did you mean `{near}`?"),
                    None => format!("sheets in it: {}", listed(&known)),
                };
                return Err(it(message).help(help).into());
            };
            let found = [found.clone()];
            return self.read(&found, options);
        }
        if let [only] = known.as_slice() {
            return self.read(std::slice::from_ref(only), options);
        }
        let mut filled = Vec::new();
        for name in known {
            if !self.is_blank(&name)? {
                filled.push(name);
            }
        }
        match filled.as_slice() {
            [] => {
                let it = it("no sheet of the workbook holds anything".to_owned());
                Err(it.help("a first row with the headings is expected").into())
            }
            [first, _, ..] if sheet.is_none() => {
                let n = filled.len();
                let message = format!("the workbook has {n} sheets with rows: {}", listed(&filled));
                let name = self.name;
                Err(it(message)
                    .help(format!("name one: '{name}#{first}'; '{name}#*' stacks all of them"))
                    .into())
            }
            _ => self.read(&filled, options),
        }
    }

    /// The rows of some sheets.
    fn read(
        mut self,
        sheets: &[String],
        options: &ReadOptions,
    ) -> Result<Vec<(String, SheetRows)>, ReadError> {
        let mut all = Vec::new();
        for sheet in sheets {
            let name = format!("{}#{sheet}", self.name);
            let Some(table) = self.table(sheet, &name, options)? else {
                let it = DataProblem::in_file(name, "the sheet is empty");
                return Err(it.help("a first row with the headings is expected").into());
            };
            all.push((name.clone(), SheetRows { name, file: self.file.clone(), table }));
        }
        let_go(self.sheets);
        Ok(all)
    }

    /// The sheets of cells.
    fn of_cells(&self) -> impl Iterator<Item = &Sheet> {
        let all: &[Sheet] = match &self.sheets {
            Sheets::Xlsx(book) => book.sheets_metadata(),
            Sheets::Ods(book) => book.sheets_metadata(),
        };
        all.iter().filter(|sheet| sheet.typ == SheetType::WorkSheet)
    }

    /// The names of those that are shown, or of all if there are no others.
    fn sheet_names(&self) -> Vec<String> {
        let shown = self.of_cells().filter(|sheet| sheet.visible == SheetVisible::Visible);
        let shown: Vec<String> = shown.map(|sheet| sheet.name.clone()).collect();
        match shown.is_empty() {
            true => self.of_cells().map(|sheet| sheet.name.clone()).collect(),
            false => shown,
        }
    }

    /// Whether no cell of a sheet holds anything.
    fn is_blank(&mut self, sheet: &str) -> Result<bool, ReadError> {
        let blank = fenced(|| match &mut self.sheets {
            Sheets::Xlsx(book) => {
                let mut cells = book.worksheet_cells_reader(sheet).map_err(|e| e.to_string())?;
                while let Some(cell) = cells.next_cell().map_err(|e| e.to_string())? {
                    if *cell.get_value() != DataRef::Empty {
                        return Ok(false);
                    }
                }
                Ok(true)
            }
            Sheets::Ods(book) => {
                let range = book.worksheet_range(sheet).map_err(|e| e.to_string())?;
                Ok::<_, String>(range.used_cells().next().is_none())
            }
        });
        blank.map_err(|e| damaged(self.name, e))
    }

    /// The table of a sheet; `None` where it holds nothing at all.
    fn table(
        &mut self,
        sheet: &str,
        name: &str,
        options: &ReadOptions,
    ) -> Result<Option<Table>, ReadError> {
        let table = self.made(sheet, Maker::new(name, options))?;
        // Where the file says which cells were merged, blanks that were not are none of a heading before them.
        match &table {
            Some(table) if !self.are_merged(sheet, &table.spanned)? => {
                self.made(sheet, Maker::new(name, options).with_one_row_of_headings())
            }
            _ => Ok(table),
        }
    }

    /// Whether cells are parts of others, as far as the file says so.
    fn are_merged(&mut self, sheet: &str, cells: &[(u32, u32)]) -> Result<bool, ReadError> {
        let Sheets::Xlsx(book) = &mut self.sheets else { return Ok(true) };
        if cells.is_empty() {
            return Ok(true);
        }
        let merged = fenced(|| book.merge_cells_by_sheet_name(sheet));
        let merged = merged.map_err(|e| damaged(self.name, e))?;
        Ok(cells.iter().all(|&(row, column)| merged.iter().any(|m| m.contains(row, column))))
    }

    /// What a maker makes of the cells of a sheet.
    fn made(&mut self, sheet: &str, maker: Maker<'_>) -> Result<Option<Table>, ReadError> {
        let file = self.name;
        let maker = match &mut self.sheets {
            Sheets::Xlsx(book) => {
                let read = fenced(|| cells_of_xlsx(book, sheet, maker));
                read.map_err(|e| damaged(file, e))??
            }
            Sheets::Ods(book) => {
                let has_formulas = match &mut self.has_formulas {
                    Some(looking) => looking.found().map_err(|e| damaged(file, e))?,
                    None => true,
                };
                let read = fenced(|| cells_of_ods(book, sheet, has_formulas, maker));
                read.map_err(|e| damaged(file, e))??
            }
        };
        if maker.is_blank() {
            return Ok(None);
        }
        maker.finish().map(Some)
    }
}

/// So many cells go from the thread that reads a sheet to the one that makes a table of it.
const CELLS: usize = 4096;

/// Gives all cells of a sheet to a maker, which works in a thread of its own while the library reads.
fn cells_of_xlsx<'m>(
    book: &mut Xlsx<Bytes>,
    sheet: &str,
    mut maker: Maker<'m>,
) -> Result<Result<Maker<'m>, ReadError>, String> {
    let mut cells = book.worksheet_cells_reader(sheet).map_err(|e| e.to_string())?;
    std::thread::scope(|scope| {
        let (come, coming) = sync_channel::<Vec<Came<'_>>>(4);
        let (back, empty) = sync_channel::<Vec<Came<'_>>>(4);
        let making = scope.spawn(move || {
            fenced(move || {
                while let Ok(mut cells) = coming.recv() {
                    for (row, column, is_formula, value) in &cells {
                        // Nobody has worked it out.
                        if *is_formula && *value == DataRef::Empty {
                            maker.unworked(*row, *column);
                        }
                        if let Err(error) = maker.cell(*row, *column, &Cell::from(value)) {
                            return Ok(Err(error));
                        }
                    }
                    cells.clear();
                    // Whoever reads may have ended.
                    let _ = back.try_send(cells);
                }
                Ok::<_, String>(Ok(maker))
            })
        });
        let mut some = Vec::with_capacity(CELLS);
        let read = loop {
            let cell = match cells.next_cell_with_formula_metadata() {
                Ok(Some(cell)) => cell,
                Ok(None) => break Ok(()),
                Err(error) => break Err(error.to_string()),
            };
            some.push((cell.pos.0, cell.pos.1, cell.formula.is_some(), cell.value));
            if some.len() == CELLS {
                let next = empty.try_recv().unwrap_or_else(|_| Vec::with_capacity(CELLS));
                if come.send(std::mem::replace(&mut some, next)).is_err() {
                    break Ok(());
                }
            }
        };
        let _ = come.send(some);
        drop(come);
        let made = making.join().unwrap_or_else(|_| Err("its cells make no sense".to_owned()))?;
        // What is wrong with the table stands before what is wrong with the file.
        match made {
            Ok(maker) => read.map(|()| Ok(maker)),
            Err(error) => Ok(Err(error)),
        }
    })
}

/// A cell that was read: its row and column, whether it is a formula, and its value.
type Came<'b> = (u32, u32, bool, DataRef<'b>);

/// Gives all cells of a sheet to a maker.
fn cells_of_ods<'m>(
    book: &mut Ods<Bytes>,
    sheet: &str,
    has_formulas: bool,
    mut maker: Maker<'m>,
) -> Result<Result<Maker<'m>, ReadError>, String> {
    let range = book.worksheet_range(sheet).map_err(|e| e.to_string())?;
    if let Err(error) = take_all(&range, &mut maker) {
        return Ok(Err(error));
    }
    if has_formulas {
        let formulas = book.worksheet_formula(sheet).map_err(|e| e.to_string())?;
        let (top, left) = formulas.start().unwrap_or((0, 0));
        for (row, column, formula) in formulas.used_cells() {
            let at = (top + row as u32, left + column as u32);
            let value = range.get_value(at);
            if !formula.is_empty() && value.is_none_or(|v| *v == Data::Empty) {
                maker.unworked(at.0, at.1);
            }
        }
    }
    let_go(range);
    Ok(Ok(maker))
}

/// Gives back what the library holds of a sheet, millions of cells one by one: nobody waits for that.
fn let_go(held: impl Send + 'static) {
    std::thread::spawn(move || drop(held));
}

/// A look for formulas in an ODS file, in a thread of its own: the library gives those of all cells or none.
enum Looking {
    On(JoinHandle<Result<bool, String>>),
    Done(Result<bool, String>),
}

impl Looking {
    fn start(bytes: Shared) -> Looking {
        Looking::On(std::thread::spawn(move || {
            fenced(|| {
                let mut archive =
                    zip::ZipArchive::new(Cursor::new(&bytes)).map_err(|e| e.to_string())?;
                let content = archive.by_name("content.xml").map_err(|e| e.to_string())?;
                mentions(content, b"table:formula").map_err(|e| e.to_string())
            })
        }))
    }

    /// Whether there are any.
    fn found(&mut self) -> Result<bool, String> {
        let nothing = Looking::Done(Ok(true));
        let found = match std::mem::replace(self, nothing) {
            Looking::On(thread) => {
                thread.join().unwrap_or_else(|_| Err("its bytes make no sense".to_owned()))
            }
            Looking::Done(found) => found,
        };
        *self = Looking::Done(found.clone());
        found
    }
}

/// Gives all cells of a range to a maker.
fn take_all(range: &Range<Data>, maker: &mut Maker<'_>) -> Result<(), ReadError> {
    let (top, left) = range.start().unwrap_or((0, 0));
    for (row, cells) in (top..).zip(range.rows()) {
        for (column, data) in (left..).zip(cells) {
            // Every gap of a range is a cell.
            if *data != Data::Empty {
                maker.cell(row, column, &Cell::from(data))?;
            }
        }
    }
    Ok(())
}

/// Names in a message: not more than a person reads.
fn listed(names: &[String]) -> String {
    const SHOWN: usize = 12;
    let shown = names.iter().take(SHOWN).cloned().collect::<Vec<_>>().join(", ");
    match names.len() {
        n if n > SHOWN => format!("{shown} and {} more", n - SHOWN),
        _ => shown,
    }
}

fn damaged(name: &str, error: impl std::fmt::Display) -> ReadError {
    let short: String = error.to_string().chars().take(200).collect();
    DataProblem::in_file(name, format!("the workbook cannot be read: {short}"))
        .help("it may be cut off or damaged: save or fetch it again")
        .into()
}

/// What an archive is. `None` where a part of a workbook has more bytes, unpacked, than may be held: a part that
/// turns out to be longer than it says is an error of the library.
fn looked_into(bytes: &Shared, most_bytes: u64) -> Result<Option<Kind>, String> {
    let mut archive = zip::ZipArchive::new(Cursor::new(bytes)).map_err(|e| e.to_string())?;
    let has = |name: &str, archive: &zip::ZipArchive<_>| archive.index_for_name(name).is_some();
    let mut mime = String::new();
    if let Ok(part) = archive.by_name("mimetype") {
        let _ = part.take(100).read_to_string(&mut mime);
    }
    let kind = if has("xl/workbook.xml", &archive) {
        Kind::Xlsx
    } else if mime.trim() == "application/vnd.oasis.opendocument.spreadsheet" {
        Kind::Ods
    } else if has("xl/workbook.bin", &archive) {
        Kind::Other("a workbook in a binary form", "save it as XLSX, ODS or CSV")
    } else if has("word/document.xml", &archive) || mime.contains("opendocument") {
        Kind::Other(
            "a document, not a workbook",
            "copy its table into a workbook, or save it as CSV",
        )
    } else {
        Kind::Other("a ZIP archive, not a workbook", "unpack it, and name the files with the rows")
    };
    if let Kind::Other(..) = kind {
        return Ok(Some(kind));
    }
    for at in 0..archive.len() {
        let part = archive.by_index(at).map_err(|e| e.to_string())?;
        if part.size() > most_bytes && part.name().is_ok_and(|name| name.ends_with(".xml")) {
            return Ok(None);
        }
    }
    Ok(Some(kind))
}

/// Whether a word stands in a text.
fn mentions(mut text: impl Read, word: &[u8]) -> std::io::Result<bool> {
    let word = memchr::memmem::Finder::new(word);
    let mut buffer = vec![0; 256 << 10];
    let mut kept = 0;
    loop {
        let n = text.read(&mut buffer[kept..])?;
        let end = kept + n;
        if word.find(&buffer[..end]).is_some() {
            return Ok(true);
        }
        if n == 0 {
            return Ok(false);
        }
        // It may stand across two steps.
        kept = end.min(word.needle().len() - 1);
        buffer.copy_within(end - kept..end, 0);
    }
}
