//! The terminal and the environment, looked at in this one place: width, colour, how many threads, passwords.
//!
//! Everything else gets these as settings, so that what is written never depends on where it is tested.

use oeuvre_columns::choices;
use oeuvre_columns::value::calendar::civil_from_days;
use std::io::IsTerminal;
#[cfg(any(feature = "databases", feature = "web"))]
use std::sync::Arc;

choices! {
    /// When to use colour.
    pub(crate) enum Color {
        Auto = "auto": "On a terminal, unless NO_COLOR is set",
        Always = "always": "Always",
        Never = "never": "Never",
    }
}

/// Whether a stream is to be written in colour.
pub(crate) fn color(choice: Color, stream: &impl IsTerminal) -> bool {
    match choice {
        Color::Always => true,
        Color::Never => false,
        // https://no-color.org: set and not empty.
        Color::Auto => {
            stream.is_terminal() && std::env::var_os("NO_COLOR").is_none_or(|v| v.is_empty())
        }
    }
}

/// The columns of the terminal that standard output is, if it is one.
pub(crate) fn terminal_width() -> Option<usize> {
    std::io::stdout()
        .is_terminal()
        .then(|| terminal_size::terminal_size().map(|(w, _)| usize::from(w.0)))
        .flatten()
}

/// The columns of the terminal that standard error is, if it is one.
pub(crate) fn stderr_width() -> Option<usize> {
    let stderr = std::io::stderr();
    stderr
        .is_terminal()
        .then(|| terminal_size::terminal_size_of(&stderr).map(|(w, _)| usize::from(w.0)))
        .flatten()
}

/// How many threads run at once here.
pub(crate) fn threads() -> usize {
    std::thread::available_parallelism().map_or(1, |n| n.get())
}

/// How many bytes of memory are free: on the machine, or in the control group that it runs in, where that has fewer.
pub(crate) fn free_memory() -> Option<u64> {
    let read = |path: &str| std::fs::read_to_string(path).ok();
    let number = |path: &str| read(path)?.trim().parse::<u64>().ok();
    // The number behind a word that begins a line.
    let line = |text: &str, word: &str| {
        let rest = text.lines().find_map(|line| line.strip_prefix(word))?;
        rest.trim_start_matches([':', ' ']).trim_end_matches(" kB").parse::<u64>().ok()
    };
    let machine = line(&read("/proc/meminfo")?, "MemAvailable")? * 1024;
    // Files that are only kept at hand give way.
    let group = |folder: &str, limit: &str, used: &str, cached: &str| {
        let at_hand = read(&format!("{folder}/memory.stat")).and_then(|stat| line(&stat, cached));
        let used = number(&format!("{folder}/{used}"))?.saturating_sub(at_hand.unwrap_or(0));
        Some(number(&format!("{folder}/{limit}"))?.saturating_sub(used))
    };
    let groups = [
        group("/sys/fs/cgroup", "memory.max", "memory.current", "file "),
        group(
            "/sys/fs/cgroup/memory",
            "memory.limit_in_bytes",
            "memory.usage_in_bytes",
            "total_cache ",
        ),
    ];
    groups.into_iter().flatten().chain([machine]).min()
}

/// The folder for large temporary files: the system's, unless that is in memory itself and there is another one.
pub(crate) fn folder_on_disk() -> std::path::PathBuf {
    let folder = std::env::temp_dir();
    #[cfg(target_os = "linux")]
    {
        // From linux/magic.h: tmpfs and ramfs.
        const IN_MEMORY: [u32; 2] = [0x0102_1994, 0x8584_58f6];
        let on_disk = std::path::Path::new("/var/tmp");
        let is_in_memory = |path: &std::path::Path| {
            rustix::fs::statfs(path).is_ok_and(|of| IN_MEMORY.contains(&(of.f_type as u32)))
        };
        if is_in_memory(&folder) && on_disk.is_dir() && !is_in_memory(on_disk) {
            return on_disk.to_owned();
        }
    }
    folder
}

/// The variable that names the instructions of the processor that may be used, for comparing them.
pub(crate) const INSTRUCTIONS: &str = "OEUVRE_INSTRUCTIONS";

/// What it says, where it is set and not empty.
pub(crate) fn instructions() -> Option<String> {
    std::env::var(INSTRUCTIONS).ok().filter(|named| !named.is_empty())
}

/// The day and the minute, as they are written at the top of what was made now.
pub(crate) fn stamp() -> String {
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH);
    let seconds = now.map_or(0, |since| since.as_secs());
    let (year, month, day) = civil_from_days((seconds / 86_400) as i32);
    let (hour, minute) = (seconds / 3600 % 24, seconds / 60 % 60);
    format!("Made on {year:04}-{month:02}-{day:02} at {hour:02}:{minute:02} UTC")
}

/// How files are fetched from servers: with the passwords of the password file, the tokens and the certificates that
/// the environment names, and with a line on the terminal while it takes long.
#[cfg(feature = "web")]
pub(crate) fn web() -> Arc<oeuvre_data::WebOptions> {
    use oeuvre_data::{Credential, Secret, WebOptions};
    let mut credentials = Vec::new();
    // A host and its token, several of them parted by blanks.
    let tokens = std::env::var("OEUVRE_TOKENS").unwrap_or_default();
    for (host, token) in tokens.split_whitespace().filter_map(|pair| pair.split_once('=')) {
        let secret = Secret::Token(token.to_owned());
        credentials.push(Credential { host: host.to_owned(), secret });
    }
    let home = || std::env::var_os("HOME").map(|home| std::path::Path::new(&home).join(".netrc"));
    let file = std::env::var_os("NETRC").map(Into::into).or_else(home);
    if let Some(text) = file.and_then(|file| std::fs::read_to_string(file).ok()) {
        credentials.extend(passwords(&text).into_iter().map(|(host, user, password)| Credential {
            host,
            secret: Secret::Password { user, password },
        }));
    }
    let named = std::env::var_os("SSL_CERT_FILE").filter(|file| !file.is_empty());
    let certificates = named.map(std::path::PathBuf::from);
    let progress: Option<fn(&str, u64, Option<u64>)> =
        crate::progress::is_said().then_some(crate::progress::fetching as _);
    Arc::new(WebOptions { credentials, certificates, progress, ..WebOptions::default() })
}

/// The hosts of a password file, as the programs of networks have it (`machine HOST login USER password WORD`), with
/// user and password. What stands behind `default` is for hosts that nobody has named, and is left alone.
#[cfg(feature = "web")]
fn passwords(text: &str) -> Vec<(String, String, String)> {
    let mut all: Vec<(String, String, String)> = Vec::new();
    let mut words = text.split_whitespace();
    let mut named = false;
    while let Some(word) = words.next() {
        match word {
            "machine" => {
                let host = words.next().unwrap_or_default().to_owned();
                all.push((host, String::new(), String::new()));
                named = true;
            }
            "default" => named = false,
            "login" | "password" | "account" => {
                let value = words.next().unwrap_or_default();
                if let Some(last) = all.last_mut().filter(|_| named) {
                    match word {
                        "login" => last.1 = value.to_owned(),
                        "password" => last.2 = value.to_owned(),
                        _ => {}
                    }
                }
            }
            _ => {}
        }
    }
    all
}

/// How databases are asked: as the variables and the password file say that programs of this kind of server go by.
/// A password file that others may read is left alone, as they do.
#[cfg(feature = "databases")]
pub(crate) fn databases() -> Arc<oeuvre_data::DatabaseOptions> {
    use oeuvre_data::{DatabaseOptions, PasswordLine};
    let named = |name: &str| std::env::var(name).ok().filter(|value| !value.is_empty());
    let home = || std::env::var_os("HOME").map(|home| std::path::Path::new(&home).join(".pgpass"));
    let file = std::env::var_os("PGPASSFILE").map(std::path::PathBuf::from).or_else(home);
    let text = file.filter(|file| is_ours_alone(file)).map(std::fs::read_to_string);
    let text = text.and_then(Result::ok).unwrap_or_default();
    let line = |[host, port, database, user, password]: [String; 5]| PasswordLine {
        of: [host, port, database, user],
        password,
    };
    let passwords = text.lines().filter_map(password_line).map(line);
    let certificates = named("PGSSLROOTCERT").or_else(|| named("SSL_CERT_FILE"));
    Arc::new(DatabaseOptions {
        user: named("PGUSER").or_else(|| named("USER")).or_else(|| named("LOGNAME")),
        password: named("PGPASSWORD"),
        passwords: passwords.collect(),
        encryption: named("PGSSLMODE"),
        certificates: certificates.map(Into::into),
        connected: Some(interruptible),
    })
}

/// Whether nobody else may read a file.
#[cfg(all(feature = "databases", unix))]
fn is_ours_alone(file: &std::path::Path) -> bool {
    use std::os::unix::fs::PermissionsExt;
    std::fs::metadata(file).is_ok_and(|of| of.permissions().mode() & 0o077 == 0)
}

#[cfg(all(feature = "databases", not(unix)))]
fn is_ours_alone(_: &std::path::Path) -> bool {
    true
}

/// The five fields of a line of a password file, parted by colons; a backslash protects one.
#[cfg(feature = "databases")]
fn password_line(line: &str) -> Option<[String; 5]> {
    if line.starts_with('#') {
        return None;
    }
    let mut fields = vec![String::new()];
    let mut signs = line.chars();
    while let Some(sign) = signs.next() {
        match sign {
            ':' if fields.len() < 5 => fields.push(String::new()),
            sign => {
                let protected = if sign == '\\' { signs.next() } else { Some(sign) };
                fields.last_mut()?.push(protected?);
            }
        }
    }
    fields.try_into().ok()
}

/// Sees to it that servers stop what they do for us when somebody interrupts.
#[cfg(feature = "databases")]
fn interruptible() {
    static ONCE: std::sync::Once = std::sync::Once::new();
    ONCE.call_once(|| {
        // Where that cannot be arranged, the server notices when the connection ends.
        let _ = ctrlc::set_handler(|| {
            INTERRUPTED.store(true, std::sync::atomic::Ordering::Release);
            oeuvre_data::cancel_queries();
            std::process::exit(WHEN_INTERRUPTED);
        });
    });
}

#[cfg(feature = "databases")]
static INTERRUPTED: std::sync::atomic::AtomicBool = std::sync::atomic::AtomicBool::new(false);
/// What a program that was interrupted ends with.
#[cfg(feature = "databases")]
const WHEN_INTERRUPTED: i32 = 130;

/// Ends the program where somebody interrupted it: that a query was broken off for that is no mistake to be told.
pub(crate) fn end_if_interrupted() {
    #[cfg(feature = "databases")]
    if INTERRUPTED.load(std::sync::atomic::Ordering::Acquire) {
        std::process::exit(WHEN_INTERRUPTED);
    }
}

#[cfg(all(test, feature = "web"))]
mod tests {
    use super::*;

    #[test]
    fn passwords_stand_behind_their_hosts() {
        let file = "machine h.example login ana password w0rd\nmachine other\n  password x login bo\ndefault login me password no\n";
        let expected = [("h.example", "ana", "w0rd"), ("other", "bo", "x")]
            .map(|(host, user, word)| (host.to_owned(), user.to_owned(), word.to_owned()));
        assert_eq!(passwords(file), expected);
    }
}
