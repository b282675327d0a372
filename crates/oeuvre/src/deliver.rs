//! Where results go: standard output, or a file that is replaced only when the new one is whole.
//!
//! A file is written without a name where the system allows it and gets its name at the end, so that nothing is
//! left of a run that was stopped. What is no regular file (a named pipe, a device) is written into.

use crate::failure::Failure;
use crate::progress;
use oeuvre_render::{ForTerminal, Format};
use std::fs::{File, OpenOptions};
use std::io::{self, BufWriter, IsTerminal, Write};
use std::path::{Path, PathBuf};

const BUFFER: usize = 1 << 16;

/// Writes to a file, or to standard output.
pub(crate) fn deliver(
    to: Option<&Path>,
    write: impl FnOnce(&mut dyn Write) -> io::Result<()>,
) -> Result<(), Failure> {
    deliver_as(to, Format::default(), write)
}

/// As [`deliver`], of a result in some format.
pub(crate) fn deliver_as(
    to: Option<&Path>,
    format: Format,
    write: impl FnOnce(&mut dyn Write) -> io::Result<()>,
) -> Result<(), Failure> {
    let name = to.map_or_else(|| "standard output".to_owned(), |path| path.display().to_string());
    let escaped = !format.escapes();
    deliver_all(to, escaped, |out| write(out).map_err(|e| Failure::writing(&name, &e)))
}

/// As [`deliver`], for what may fail in other ways too; nothing is left of a file then. What is `escaped`
/// is written for files, and so its control characters are made visible on a terminal.
pub(crate) fn deliver_all<T>(
    to: Option<&Path>,
    escaped: bool,
    write: impl FnOnce(&mut dyn Write) -> Result<T, Failure>,
) -> Result<T, Failure> {
    let Some(path) = to else {
        return progress::while_shown(|| {
            let mut out = BufWriter::with_capacity(BUFFER, io::stdout().lock());
            let done = match escaped && io::stdout().is_terminal() {
                true => write(&mut ForTerminal::new(&mut out))?,
                false => write(&mut out)?,
            };
            out.flush().map_err(|e| Failure::writing("standard output", &e))?;
            Ok(done)
        });
    };
    let name = path.display().to_string();
    let failed = |e: io::Error| Failure::writing(&name, &e);
    let mut target = Target::open(path).map_err(failed)?;
    let done = {
        let mut out = BufWriter::with_capacity(BUFFER, target.file());
        let done = write(&mut out)?;
        out.flush().map_err(failed)?;
        done
    };
    target.finish().map_err(failed)?;
    Ok(done)
}

/// A file on its way to its name.
enum Target {
    /// What is no regular file: written into.
    Into(File),
    /// A file without a name, in the folder of its path.
    #[cfg(target_os = "linux")]
    Unnamed { file: File, path: PathBuf },
    /// A file under a temporary name, in the folder of its path.
    Named { file: tempfile::NamedTempFile, path: PathBuf },
}

/// How the name of a temporary file begins, so that one that a killed run left can be known.
const TEMPORARY: &str = ".oeuvre-";

impl Target {
    fn open(path: &Path) -> io::Result<Target> {
        let path = at_the_end(path)?;
        let old = match std::fs::metadata(&path) {
            Ok(old) => Some(old),
            Err(e) if e.kind() == io::ErrorKind::NotFound => None,
            Err(e) => return Err(e),
        };
        if let Some(old) = &old {
            if old.is_dir() {
                return Err(io::Error::other("this is a folder"));
            }
            // Whoever may not write a file may not replace it either.
            let file = OpenOptions::new().write(true).open(&path)?;
            if !old.is_file() {
                return Ok(Target::Into(file));
            }
        }
        let target = Self::beside(path)?;
        #[cfg(unix)]
        if let Some(old) = old {
            use std::os::unix::fs::PermissionsExt;
            let mode = old.permissions().mode() & 0o777;
            let permissions = std::fs::Permissions::from_mode(mode);
            match &target {
                Target::Into(_) => {}
                #[cfg(target_os = "linux")]
                Target::Unnamed { file, .. } => file.set_permissions(permissions)?,
                Target::Named { file, .. } => file.as_file().set_permissions(permissions)?,
            }
        }
        Ok(target)
    }

    /// A new file in the folder of a path; the umask decides who may read it.
    fn beside(path: PathBuf) -> io::Result<Target> {
        let folder = path.parent().filter(|p| !p.as_os_str().is_empty());
        let folder = folder.unwrap_or(Path::new("."));
        #[cfg(target_os = "linux")]
        {
            use rustix::fs::{Mode, OFlags};
            let flags = OFlags::TMPFILE | OFlags::WRONLY | OFlags::CLOEXEC;
            // It gets its name by way of /proc, which not every container has.
            if Path::new("/proc/self/fd").exists()
                && let Ok(file) = rustix::fs::open(folder, flags, Mode::from_raw_mode(0o666))
            {
                return Ok(Target::Unnamed { file: file.into(), path });
            }
        }
        let file = tempfile::Builder::new()
            .prefix(TEMPORARY)
            .make_in(folder, |at| OpenOptions::new().write(true).create_new(true).open(at))?;
        Ok(Target::Named { file, path })
    }

    fn file(&mut self) -> &mut File {
        match self {
            Target::Into(file) => file,
            #[cfg(target_os = "linux")]
            Target::Unnamed { file, .. } => file,
            Target::Named { file, .. } => file.as_file_mut(),
        }
    }

    /// Gives the file its name.
    fn finish(self) -> io::Result<()> {
        match self {
            Target::Into(_) => Ok(()),
            #[cfg(target_os = "linux")]
            Target::Unnamed { file, path } => name_it(&file, &path),
            Target::Named { file, path } => file.persist(path).map(|_| ()).map_err(|e| e.error),
        }
    }
}

/// Gives a file without a name one. The system can replace nothing so: where the name is taken, the file
/// gets a temporary one first, whole as it is, and is renamed at once.
#[cfg(target_os = "linux")]
fn name_it(file: &File, path: &Path) -> io::Result<()> {
    use rustix::fs::{AtFlags, CWD, linkat};
    use std::os::fd::AsRawFd;
    let own = format!("/proc/self/fd/{}", file.as_raw_fd());
    let link = |to: &Path| linkat(CWD, own.as_str(), CWD, to, AtFlags::SYMLINK_FOLLOW);
    match link(path) {
        Ok(()) => return Ok(()),
        Err(rustix::io::Errno::EXIST) => {}
        Err(e) => return Err(e.into()),
    }
    let folder = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    for attempt in 0..1000u32 {
        let name = folder.join(format!("{TEMPORARY}{}-{attempt}", std::process::id()));
        match link(&name) {
            Ok(()) => {
                return std::fs::rename(&name, path).inspect_err(|_| {
                    let _ = std::fs::remove_file(&name);
                });
            }
            Err(rustix::io::Errno::EXIST) => {}
            Err(e) => return Err(e.into()),
        }
    }
    Err(io::Error::other("no temporary name is free in its folder"))
}

/// The path at the end of symbolic links, also where the last one leads to nothing yet.
fn at_the_end(path: &Path) -> io::Result<PathBuf> {
    let mut path = path.to_owned();
    for _ in 0..40 {
        let Ok(next) = std::fs::read_link(&path) else { return Ok(path) };
        path = match path.parent() {
            Some(folder) => folder.join(next),
            None => next,
        };
    }
    Err(io::Error::other("too many symbolic links"))
}
