//! What is written and read stays whole: named pipes, links, permissions, kills in the middle, files that change.
#![cfg(unix)]

mod common;
use common::Folder;
use std::io::Read;
use std::os::unix::fs::PermissionsExt;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

const ROWS: &str = "route,fare\nSKE,1\nHAV,2\n";
const RESULT: &str = "route,rows\nHAV,1\nSKE,1\n";
const ASK: [&str; 7] = ["summary", "b.csv", "--quiet", "--as", "csv", "--by", "route"];

fn to(folder: &Folder, name: &str) {
    folder.run(&[ASK.as_slice(), &["--to", name]].concat()).ok();
}

#[test]
fn a_named_pipe_is_written_into_and_not_replaced() {
    let folder = Folder::with("b.csv", ROWS);
    let path = folder.path("pipe");
    assert!(Command::new("mkfifo").arg(&path).status().unwrap().success());
    let reader = std::thread::spawn({
        let path = path.clone();
        move || std::fs::read_to_string(path).unwrap()
    });
    to(&folder, "pipe");
    assert_eq!(reader.join().unwrap(), RESULT);
    use std::os::unix::fs::FileTypeExt;
    assert!(std::fs::metadata(&path).unwrap().file_type().is_fifo());
}

#[test]
fn a_link_is_followed_and_the_file_at_its_end_replaced() {
    let folder = Folder::with("b.csv", ROWS);
    std::fs::create_dir(folder.path("deep")).unwrap();
    folder.write("deep/real.csv", "old");
    std::os::unix::fs::symlink("deep/real.csv", folder.path("link.csv")).unwrap();
    std::os::unix::fs::symlink("deep/new.csv", folder.path("dangling.csv")).unwrap();
    for (link, real) in [("link.csv", "deep/real.csv"), ("dangling.csv", "deep/new.csv")] {
        to(&folder, link);
        assert_eq!(folder.read(real), RESULT);
        assert!(std::fs::symlink_metadata(folder.path(link)).unwrap().is_symlink());
    }
}

#[test]
fn new_files_follow_the_umask_and_replaced_ones_keep_their_permissions() {
    let folder = Folder::with("b.csv", ROWS);
    let run = |umask: &str, name: &str| {
        let command = format!(
            "umask {umask}; exec {} {} --to {name}",
            common::program().display(),
            ASK.join(" ")
        );
        let status =
            Command::new("sh").args(["-c", &command]).current_dir(folder.path(".")).status();
        assert!(status.unwrap().success());
        std::fs::metadata(folder.path(name)).unwrap().permissions().mode() & 0o7777
    };
    assert_eq!(run("027", "new.csv"), 0o640);
    assert_eq!(run("000", "open.csv"), 0o666);
    folder.write("old.csv", "old");
    std::fs::set_permissions(folder.path("old.csv"), std::fs::Permissions::from_mode(0o6750))
        .unwrap();
    assert_eq!(run("022", "old.csv"), 0o750, "without set-user and set-group bits");
}

#[test]
fn a_file_that_may_not_be_written_is_not_replaced() {
    let folder = Folder::with("b.csv", ROWS);
    folder.write("kept.csv", "kept");
    std::fs::set_permissions(folder.path("kept.csv"), std::fs::Permissions::from_mode(0o444))
        .unwrap();
    // Root may write anything, and so cannot try this.
    if std::fs::OpenOptions::new().write(true).open(folder.path("kept.csv")).is_err() {
        folder.run(&[ASK.as_slice(), &["--to", "kept.csv"]].concat()).error();
        assert_eq!(folder.read("kept.csv"), "kept");
    }
    std::fs::create_dir(folder.path("folder.csv")).unwrap();
    let error = folder.run(&[ASK.as_slice(), &["--to", "folder.csv"]].concat()).error();
    assert!(error.contains("this is a folder"), "{error}");
}

/// A file of many different rows.
fn many(rows: usize) -> String {
    let row = |i: usize| format!("R{},{}.5,{i}\n", i % 1000, i % 977);
    format!("route,fare,n\n{}", (0..rows).map(row).collect::<String>())
}

#[test]
#[cfg(target_os = "linux")]
fn nothing_is_left_of_a_run_that_is_killed_while_it_writes() {
    let folder = Folder::with("b.csv", many(400_000));
    folder.write("old.csv", "the result of last month\n");
    let mut killed = 0;
    for (round, signal) in ["TERM", "INT", "KILL"].repeat(3).iter().enumerate() {
        // Every file type in turn; what is drawn whole is on its way in one piece.
        let format = formats().nth(round % formats().count()).unwrap();
        let mut child = Command::new(common::program())
            .args([
                "detail",
                "b.csv",
                "--show",
                "route,fare,n",
                "--show",
                "fare * n / 7",
                "--to",
                "old.csv",
                "--as",
                format,
                "--threads",
                "1",
            ])
            .current_dir(folder.path("."))
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        // In the middle of writing: when the file without a name has grown.
        let begun = Instant::now();
        let written = || {
            let fds = std::fs::read_dir(format!("/proc/{}/fd", child.id()))
                .into_iter()
                .flatten()
                .flatten();
            fds.filter_map(|fd| {
                let name = std::fs::read_link(fd.path()).ok()?;
                let own = name.to_string_lossy().contains("(deleted)");
                std::fs::metadata(fd.path()).ok().filter(|_| own).map(|m| m.len())
            })
            .max()
            .unwrap_or(0)
        };
        while written() < 1 + 60_000 * round as u64 && begun.elapsed() < Duration::from_secs(20) {
            std::thread::sleep(Duration::from_millis(1));
        }
        let pid = child.id().to_string();
        Command::new("kill").args([&format!("-{signal}"), &pid]).status().unwrap();
        let ended = child.wait().unwrap();
        if ended.success() {
            // It was done before it was killed: the file is the new one, whole.
            folder.write("old.csv", "the result of last month\n");
            continue;
        }
        killed += 1;
        assert_eq!(folder.read("old.csv"), "the result of last month\n");
        assert_eq!(folder.names(), ["b.csv", "old.csv"], "{signal}");
    }
    assert!(killed > 0, "all runs were done before they could be killed");
}

#[test]
#[cfg(target_os = "linux")]
fn a_file_that_is_shortened_or_rewritten_while_it_is_read_is_told() {
    let rows = many(600_000);
    for shorten in [true, false] {
        let folder = Folder::with("b.csv", &rows);
        let mut child = Command::new(common::program())
            .args([
                "summary",
                "b.csv",
                "--by",
                "route",
                "--show",
                "median(fare * n)",
                "--where",
                "matches(text(n), '[02468]$')",
            ])
            .current_dir(folder.path("."))
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        let begun = Instant::now();
        let maps = format!("/proc/{}/maps", child.id());
        while !std::fs::read_to_string(&maps).unwrap_or_default().contains("b.csv")
            && begun.elapsed() < Duration::from_secs(20)
        {
            std::thread::sleep(Duration::from_micros(200));
        }
        let file = std::fs::OpenOptions::new().write(true).open(folder.path("b.csv")).unwrap();
        if shorten {
            file.set_len(0).unwrap();
        } else {
            std::os::unix::fs::FileExt::write_all_at(&file, b"9", 60).unwrap();
        }
        let status = child.wait().unwrap();
        let mut text = [String::new(), String::new()];
        child.stdout.take().unwrap().read_to_string(&mut text[0]).unwrap();
        child.stderr.take().unwrap().read_to_string(&mut text[1]).unwrap();
        assert_eq!(status.code(), Some(1), "{text:?}");
        assert!(text[0].is_empty(), "no figure is printed: {text:?}");
        assert!(text[1].contains("b.csv: the file changed while it was read"), "{text:?}");
    }
}

/// The names of all file types of tables.
fn formats() -> impl Iterator<Item = &'static str> {
    oeuvre_render::Format::all().filter(|format| !format.draws()).map(oeuvre_render::Format::name)
}

/// Commands that write a table, with room for it to be written in several goes.
const COMMANDS: [&[&str]; 4] = [
    &["summary", "b.csv", "--by", "n", "--totals"],
    &["detail", "b.csv"],
    &["trace", "b.csv", "--show", "rank(n)", "--by", "n", "--at", "n = 5", "--first", "9999999"],
    &["profile", "b.csv"],
];

#[test]
#[cfg(target_os = "linux")]
fn a_full_disk_is_told_by_every_command_and_file_type() {
    let folder = Folder::with("b.csv", many(3000));
    for command in COMMANDS {
        for format in formats() {
            let run =
                folder.run(&[command, &["--as", format, "--to", "/dev/full", "--quiet"]].concat());
            let error = run.error();
            assert!(
                error.contains("/dev/full") && error.contains("space"),
                "{command:?} {format}: {error}"
            );
        }
    }
    assert_eq!(folder.names(), ["b.csv"]);
}

#[test]
fn a_closed_pipe_ends_every_command_without_a_word() {
    // More than a pipe takes, and more than one part of a detail.
    let folder = Folder::with("b.csv", many(40_000));
    for command in COMMANDS {
        for format in formats() {
            let mut child = Command::new(common::program())
                .args(command)
                .args(["--as", format, "--quiet"])
                .current_dir(folder.path("."))
                .stdout(Stdio::piped())
                .stderr(Stdio::piped())
                .spawn()
                .unwrap();
            drop(child.stdout.take());
            let output = child.wait_with_output().unwrap();
            assert!(
                output.status.success() && output.stderr.is_empty(),
                "{command:?} {format}: {output:?}"
            );
        }
    }
}

/// Root may write everywhere, and so lets somebody else try.
#[test]
#[cfg(target_os = "linux")]
fn where_nobody_may_write_nothing_is_written() {
    use std::os::unix::fs::MetadataExt;
    use std::os::unix::process::CommandExt;
    const NOBODY: u32 = 65534;
    let folder = Folder::with("b.csv", ROWS);
    let mode = |name: &str, mode| {
        std::fs::set_permissions(folder.path(name), std::fs::Permissions::from_mode(mode)).unwrap();
    };
    std::fs::create_dir(folder.path("closed")).unwrap();
    folder.write("closed/old.csv", "old");
    std::fs::copy(common::program(), folder.path("program")).unwrap();
    mode("program", 0o755);
    mode("closed", 0o555);
    mode(".", 0o755);
    let root = std::fs::metadata("/proc/self").unwrap().uid() == 0;
    for (to, format) in formats().map(|f| ("closed/new", f)).chain([("closed/old.csv", "csv")]) {
        let mut command = Command::new(folder.path("program"));
        command
            .args(["summary", "b.csv", "--quiet", "--as", format, "--to", to])
            .current_dir(folder.path("."));
        if root {
            command.uid(NOBODY).gid(NOBODY);
        }
        let output = command.output().unwrap();
        let error = String::from_utf8(output.stderr).unwrap();
        assert!(output.status.code() == Some(1) && error.contains(to), "{format}: {error}");
        assert!(error.contains("may not") || error.contains("ermission"), "{format}: {error}");
    }
    let left: Vec<_> = std::fs::read_dir(folder.path("closed")).unwrap().collect();
    assert_eq!((left.len(), folder.read("closed/old.csv").as_str()), (1, "old"));
    mode("closed", 0o755);
}
