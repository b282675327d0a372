//! Names of files as people write them: patterns that stand for several, and paths that are meant from a folder.
//!
//! ```
//! use oeuvre_data::files_named;
//!
//! let folder = std::env::temp_dir().join(format!("oeuvre-names-{}", std::process::id()));
//! std::fs::create_dir_all(&folder).unwrap();
//! for name in ["bookings-2025.csv", "bookings-2024.csv", "routes.csv"] {
//!     std::fs::write(folder.join(name), "route\nSKE\n").unwrap();
//! }
//! let found = files_named(&["bookings-*.csv".into()], Some(&folder))?;
//! assert!(found[0].ends_with("bookings-2024.csv") && found.len() == 2);
//! assert!(files_named(&["tickets-*.csv".into()], Some(&folder)).is_err());
//! # std::fs::remove_dir_all(&folder).unwrap();
//! # Ok::<(), oeuvre_columns::ReadError>(())
//! ```

use oeuvre_columns::{DataProblem, ReadError};
use std::path::{Path, PathBuf};

/// The endings of files whose rows can be read, by format; behind text `.gz` or `.zst` may follow.
const ENDINGS: &[(&str, &[&str])] = &[
    ("CSV", &["csv", "tsv", "txt"]),
    ("JSON", &["json", "jsonl", "ndjson"]),
    ("Parquet", &["parquet"]),
    ("Arrow", &["arrow", "arrows"]),
    ("XLSX", &["xlsx", "xlsm"]),
    ("ODS", &["ods"]),
    ("SQLite", &["sqlite", "sqlite3", "db"]),
];

/// The files that some names stand for, in their order. A name that is that of a file stands for it, that of a
/// folder for the files below it whose endings are known, and one with `*`, `?` or `[` for the files that it fits,
/// in the order of their names; relative ones are meant from the folder, or from where the program runs. `-` and
/// addresses stay what they are. What stands behind `#` names a table in each of them.
///
/// # Errors
/// A pattern that no file fits, or that is none; a folder without files, or with files of several formats.
pub fn files_named(names: &[String], folder: Option<&Path>) -> Result<Vec<String>, ReadError> {
    let mut files = Vec::new();
    for name in names {
        if name == "-" || is_address(name) {
            files.push(name.clone());
            continue;
        }
        let from = |name: &str| match folder {
            Some(folder) => folder.join(name),
            None => PathBuf::from(name),
        };
        let (name, table) = match from(name).exists() {
            true => (name.as_str(), None),
            false => split(name),
        };
        let path = from(name);
        let mut found = Vec::new();
        if path.is_dir() {
            found = below(&path)?;
        } else if !name.contains(['*', '?', '[']) || path.exists() {
            found.push(path.display().to_string());
        } else {
            fitting(name, &path, folder, &mut found)?;
        }
        let behind = table.map_or(String::new(), |table| format!("#{table}"));
        files.extend(found.into_iter().map(|file| file + &behind));
    }
    Ok(files)
}

/// The files that fit a pattern.
fn fitting(
    name: &str,
    path: &Path,
    folder: Option<&Path>,
    files: &mut Vec<String>,
) -> Result<(), ReadError> {
    // What a folder is called is never a pattern.
    let prefix = folder.map_or(String::new(), |f| {
        let mut folder = glob::Pattern::escape(&f.display().to_string());
        if !folder.is_empty() && !folder.ends_with('/') {
            folder.push('/');
        }
        folder
    });
    let pattern = if Path::new(name).is_absolute() { name.to_owned() } else { prefix + name };
    let found = glob::glob(&pattern)
        .map_err(|e| DataProblem::new(format!("{name} is no pattern of file names: {}", e.msg)))?;
    for path in found {
        let path = path.map_err(|e| {
            let at = e.path().display();
            DataProblem::new(format!("{at} cannot be looked into: {}", e.error()))
        })?;
        if path.is_file() {
            files.push(path.display().to_string());
        } else if path.is_dir() {
            files.extend(below(&path)?);
        }
    }
    if files.is_empty() {
        let it = DataProblem::new(format!("no file is called like {}", path.display()));
        return Err(it.help("* stands for any letters, ? for one").into());
    }
    Ok(())
}

/// The files below a folder, in the order of their names. Names that begin with a point or an underscore are those
/// of files that hold no rows.
fn below(folder: &Path) -> Result<Vec<String>, ReadError> {
    let mut files: Vec<(PathBuf, &str)> = Vec::new();
    let mut others = 0;
    let mut folders = vec![folder.to_owned()];
    while let Some(at) = folders.pop() {
        let problem = |e: std::io::Error| {
            DataProblem::in_file(at.display().to_string(), format!("cannot be looked into: {e}"))
        };
        for entry in std::fs::read_dir(&at).map_err(problem)? {
            let entry = entry.map_err(problem)?;
            let name = entry.file_name();
            if name.to_string_lossy().starts_with(['.', '_']) {
                continue;
            }
            let path = entry.path();
            // A folder that is only pointed at may be one above this one.
            let is_folder = entry.file_type().map_err(problem)?.is_dir();
            match (is_folder, format_of(&path)) {
                (true, _) => folders.push(path),
                (false, Some(format)) if path.is_file() => files.push((path, format)),
                _ => others += 1,
            }
        }
    }
    files.sort();
    let shown = folder.display();
    let Some((_, first)) = files.first() else {
        let it = |message: String| DataProblem::in_file(shown.to_string(), message);
        return Err(match others {
            0 => it("this folder holds no files".to_owned()).into(),
            n => it(format!("none of the {n} files in this folder has an ending that is known"))
                .help(format!("name them: '{shown}/*'"))
                .into(),
        });
    };
    if let Some((other, format)) = files.iter().find(|(_, format)| format != first) {
        let message = format!("this folder holds files of {first} and of {format}");
        return Err(DataProblem::in_file(shown.to_string(), message)
            .help(format!(
                "say which: '{shown}/**/*.{}'",
                other.extension().unwrap_or_default().to_string_lossy()
            ))
            .into());
    }
    Ok(files.iter().map(|(path, _)| path.display().to_string()).collect())
}

/// The format of a file by the ending of its name.
fn format_of(path: &Path) -> Option<&'static str> {
    let name = path.file_name()?.to_string_lossy().to_lowercase();
    let packed = [".gz", ".zst"].iter().find_map(|end| name.strip_suffix(end));
    let ending = packed.unwrap_or(&name).rsplit_once('.')?.1;
    let known = ENDINGS.iter().find(|(_, endings)| endings.contains(&ending));
    known.map(|(format, _)| *format)
}

/// Whether a name is an address: of a file on a server, or of a database.
pub fn is_address(name: &str) -> bool {
    begins_with(name, &["http://", "https://"]) || is_server(name)
}

/// Whether a name is the address of a database.
pub(crate) fn is_server(name: &str) -> bool {
    begins_with(name, &["postgresql://", "postgres://"])
}

fn begins_with(name: &str, schemes: &[&str]) -> bool {
    schemes.iter().any(|scheme| {
        name.get(..scheme.len()).is_some_and(|start| start.eq_ignore_ascii_case(scheme))
    })
}

/// A name as it is shown: an address without a user and what stands behind `?`.
pub fn name_shown(name: &str) -> String {
    if !is_address(name) {
        return name.to_owned();
    }
    let (address, table) = split(name);
    let address = &address[..address.find('?').unwrap_or(address.len())];
    let (scheme, rest) = address.split_once("://").unwrap_or(("http", address));
    let (host, path) = rest.split_at(rest.find('/').unwrap_or(rest.len()));
    let host = host.rsplit_once('@').map_or(host, |(_, host)| host);
    let behind = table.map_or(String::new(), |table| format!("#{table}"));
    format!("{scheme}://{host}{path}{behind}")
}

/// What a file is called without its folder and its ending, or the table in it that is named.
pub fn stem_of(name: &str) -> String {
    let shown = name_shown(name);
    let (file, table) = if Path::new(&shown).exists() { (&*shown, None) } else { split(&shown) };
    if let Some(table) = table {
        // The schema of a server's table is not what it is called.
        let plain = if is_server(name) { table.rsplit('.').next() } else { None };
        return plain.unwrap_or(table).to_owned();
    }
    let file = file.rsplit(['/', '\\']).next().unwrap_or(file);
    let packed = [".gz", ".zst"].iter().find_map(|end| file.strip_suffix(end));
    let file = packed.unwrap_or(file);
    match file.rsplit_once('.') {
        Some((stem, _)) if !stem.is_empty() => stem.to_owned(),
        _ => file.to_owned(),
    }
}

fn split(name: &str) -> (&str, Option<&str>) {
    match name.rsplit_once('#') {
        Some((file, table)) if !file.is_empty() => (file, Some(table)),
        _ => (name, None),
    }
}

/// A file's name and the table in it that is named behind `#`. A file whose very name holds a `#` is found first.
pub(crate) fn parted(name: &str) -> (&str, Option<&str>) {
    if !is_address(name) && Path::new(name).exists() { (name, None) } else { split(name) }
}

/// The keys that stand in the names of a file's folders, as `year=2025`, with their values.
pub(crate) fn keys_of(name: &str) -> Vec<(String, String)> {
    if name == "-" || is_address(name) {
        return Vec::new();
    }
    let Some(folder) = Path::new(name).parent() else { return Vec::new() };
    let parts = folder.components().filter_map(|part| match part {
        std::path::Component::Normal(part) => part.to_str(),
        _ => None,
    });
    let mut keys: Vec<(String, String)> = Vec::new();
    for (key, value) in parts.filter_map(|part| part.split_once('=')) {
        let key = decoded(key);
        if !key.is_empty() && keys.iter().all(|(known, _)| *known != key) {
            keys.push((key, decoded(value)));
        }
    }
    keys
}

/// What a name of a folder stands for: signs that no name may have are written as `%3A`.
pub(crate) fn decoded(text: &str) -> String {
    let bytes = text.as_bytes();
    let mut out = Vec::new();
    let mut at = 0;
    while at < bytes.len() {
        let code = bytes.get(at + 1..at + 3).and_then(|code| std::str::from_utf8(code).ok());
        match code.and_then(|code| u8::from_str_radix(code, 16).ok()) {
            Some(byte) if bytes[at] == b'%' => {
                out.push(byte);
                at += 3;
            }
            _ => {
                out.push(bytes[at]);
                at += 1;
            }
        }
    }
    String::from_utf8(out).unwrap_or_else(|_| text.to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("year=2025/month=07/a.csv", &[("year", "2025"), ("month", "07")])]
    #[case("data/at=10%3A30/a.csv", &[("at", "10:30")])]
    #[case("a=b.csv", &[])]
    #[case("https://h.example/year=2025/a.csv", &[])]
    fn names_of_folders_are_keys(#[case] name: &str, #[case] keys: &[(&str, &str)]) {
        let found = keys_of(name);
        let found: Vec<(&str, &str)> =
            found.iter().map(|(k, v)| (k.as_str(), v.as_str())).collect();
        assert_eq!(found, keys);
    }

    #[rstest]
    #[case("data/routes.csv.gz", "routes")]
    #[case("https://h.example/x/routes.parquet?sig=a/b", "routes")]
    #[case("book.json#Harbours", "Harbours")]
    #[case("book.xlsx#Crew 1.5", "Crew 1.5")]
    #[case("postgresql://ann@h.example/harbour?sslmode=require#crew.shifts", "shifts")]
    #[case("-", "-")]
    fn a_file_is_called_by_its_stem(#[case] name: &str, #[case] stem: &str) {
        assert_eq!(stem_of(name), stem);
    }

    #[test]
    fn a_folder_stands_for_its_files() {
        let folder = tempfile::tempdir().unwrap();
        for name in ["b.CSV", "sub/a.csv.gz", "_done", ".hidden.csv", "notes.pdf"] {
            let path = folder.path().join(name);
            std::fs::create_dir_all(path.parent().unwrap()).unwrap();
            std::fs::write(path, "x").unwrap();
        }
        let name = folder.path().display().to_string();
        let named = |name: &str| files_named(&[name.to_owned()], None);
        let found = named(&name).unwrap();
        assert_eq!(found, [format!("{name}/b.CSV"), format!("{name}/sub/a.csv.gz")]);
        assert_eq!(named(&format!("{name}/*/*.gz#t")).unwrap(), [format!("{name}/sub/a.csv.gz#t")]);
        std::fs::write(folder.path().join("c.json"), "x").unwrap();
        let Err(ReadError::Problem(it)) = named(&name) else { panic!("two formats") };
        assert!(it.message.contains("CSV and of JSON"), "{it}");
    }
}
