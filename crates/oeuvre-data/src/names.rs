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
use std::path::Path;

/// The files that some names stand for, in their order. A name that is that of a file stands for it; one with `*`,
/// `?` or `[` stands for the files that it fits, in the order of their names; relative ones are meant from the
/// folder, or from where the program runs. `-` stays what it is.
///
/// # Errors
/// A pattern that no file fits, or that is none.
pub fn files_named(names: &[String], folder: Option<&Path>) -> Result<Vec<String>, ReadError> {
    let mut files = Vec::new();
    for name in names {
        if name == "-" {
            files.push(name.clone());
            continue;
        }
        let path = folder.map_or_else(|| Path::new(name).to_owned(), |folder| folder.join(name));
        let whole = path.display().to_string();
        if !name.contains(['*', '?', '[']) || path.exists() {
            files.push(whole);
            continue;
        }
        // What a folder is called is never a pattern.
        let prefix = folder.map_or(String::new(), |f| {
            let mut folder = glob::Pattern::escape(&f.display().to_string());
            if !folder.is_empty() && !folder.ends_with('/') {
                folder.push('/');
            }
            folder
        });
        let pattern = if Path::new(name).is_absolute() { name.clone() } else { prefix + name };
        let found = glob::glob(&pattern).map_err(|e| {
            DataProblem::new(format!("{name} is no pattern of file names: {}", e.msg))
        })?;
        let before = files.len();
        for path in found {
            let path = path.map_err(|e| {
                DataProblem::new(format!(
                    "{} cannot be looked into: {}",
                    e.path().display(),
                    e.error()
                ))
            })?;
            if path.is_file() {
                files.push(path.display().to_string());
            }
        }
        if files.len() == before {
            let it = DataProblem::new(format!("no file is called like {whole}"));
            return Err(it.help("* stands for any letters, ? for one").into());
        }
    }
    Ok(files)
}
