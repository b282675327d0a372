//! Drives the built program on files in a temporary folder.

// Every test file uses a part of this.
#![allow(dead_code, unreachable_pub)]

pub mod messy;
pub mod requests;
pub mod server;

use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};

/// A temporary folder that commands run in.
pub struct Folder(tempfile::TempDir, Vec<(String, String)>);

/// What a command wrote, and its exit status.
pub struct Run {
    pub stdout: String,
    pub stderr: String,
    pub code: i32,
    shown: String,
}

/// The words of a shell's line; single and double quotes protect.
pub fn words(line: &str) -> Vec<String> {
    let (mut out, mut word, mut quote, mut open) = (Vec::new(), String::new(), None, false);
    for c in line.chars() {
        match (quote, c) {
            (None, '\'' | '"') => (quote, open) = (Some(c), true),
            (Some(q), _) if c == q => quote = None,
            (None, ' ') => {
                if open {
                    out.push(std::mem::take(&mut word));
                }
                open = false;
            }
            _ => {
                word.push(c);
                open = true;
            }
        }
    }
    if open {
        out.push(word);
    }
    out
}

impl Folder {
    pub fn new() -> Folder {
        Folder(tempfile::tempdir().unwrap(), Vec::new())
    }

    /// A folder with one file.
    pub fn with(name: &str, content: impl AsRef<[u8]>) -> Folder {
        let folder = Folder::new();
        folder.write(name, content);
        folder
    }

    /// Sets a variable for the commands that run in it.
    pub fn with_env(mut self, name: &str, value: &str) -> Folder {
        self.1.push((name.to_owned(), value.to_owned()));
        self
    }

    /// The program in it, with its variables.
    pub fn command(&self) -> Command {
        let mut command = Command::new(program());
        command.current_dir(self.0.path()).env_remove("NO_COLOR");
        command.envs(self.1.iter().map(|(name, value)| (name, value)));
        command
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.0.path().join(name)
    }

    pub fn write(&self, name: &str, content: impl AsRef<[u8]>) {
        std::fs::write(self.path(name), content).unwrap();
    }

    pub fn read(&self, name: &str) -> String {
        std::fs::read_to_string(self.path(name)).unwrap()
    }

    pub fn names(&self) -> Vec<String> {
        let mut names: Vec<String> = std::fs::read_dir(self.0.path())
            .unwrap()
            .map(|e| e.unwrap().file_name().to_string_lossy().into_owned())
            .collect();
        names.sort();
        names
    }

    pub fn run(&self, args: &[&str]) -> Run {
        self.run_with(args, b"")
    }

    /// Runs with some variables set.
    pub fn run_set(&self, args: &[&str], variables: &[(&str, &str)]) -> Run {
        let mut command = self.command();
        command.envs(variables.iter().copied());
        self.run_command(command, args, b"")
    }

    /// Runs with some standard input.
    pub fn run_with(&self, args: &[&str], input: &[u8]) -> Run {
        self.run_command(self.command(), args, input)
    }

    fn run_command(&self, mut command: Command, args: &[&str], input: &[u8]) -> Run {
        let mut child = command
            .args(args)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        let mut stdin = child.stdin.take().unwrap();
        let input = input.to_vec();
        let writer = std::thread::spawn(move || {
            use std::io::Write;
            // The program may end without reading.
            let _ = stdin.write_all(&input);
        });
        let Output { status, stdout, stderr } = child.wait_with_output().unwrap();
        writer.join().unwrap();
        let text = |bytes| String::from_utf8(bytes).expect("output is UTF-8");
        let (stdout, stderr) = (text(stdout), text(stderr));
        let code = status.code().unwrap_or(-1);
        let shown = format!(
            "oeuvre {}\nfolder: {:?}\nexit {code}\n--- stdout\n{stdout}\n--- stderr\n{stderr}",
            args.join(" "),
            self.names()
        );
        Run { stdout, stderr, code, shown }
    }

    /// Runs a line as a shell would split it.
    pub fn line(&self, line: &str) -> Run {
        let words = words(line);
        self.run(&words.iter().map(String::as_str).collect::<Vec<_>>())
    }

    /// Runs `summary FILE --quiet --as csv` with more options and gives standard output.
    pub fn csv(&self, file: &str, options: &[&str]) -> String {
        let mut args = vec!["summary", file, "--quiet", "--as", "csv"];
        args.extend_from_slice(options);
        self.run(&args).ok()
    }
}

impl Run {
    /// Standard output of a run that went well and said nothing else.
    #[track_caller]
    pub fn ok(self) -> String {
        assert!(self.code == 0 && self.stderr.is_empty(), "{}", self.shown);
        self.stdout
    }

    /// Both streams of a run that went well.
    #[track_caller]
    pub fn fine(self) -> (String, String) {
        assert!(self.code == 0, "{}", self.shown);
        (self.stdout, self.stderr)
    }

    /// Standard error of a run that failed as it should: exit 1, no result, no panic.
    #[track_caller]
    pub fn error(self) -> String {
        assert!(self.code == 1 && self.stdout.is_empty(), "{}", self.shown);
        assert!(!self.stderr.contains("panicked"), "{}", self.shown);
        self.stderr
    }

    /// Fails when the program panicked or ended by a signal.
    #[track_caller]
    pub fn no_panic(self) -> Run {
        assert!(
            (0..=3).contains(&self.code) && !self.stderr.contains("panicked"),
            "{}",
            self.shown
        );
        self
    }
}

pub fn program() -> &'static Path {
    Path::new(env!("CARGO_BIN_EXE_oeuvre"))
}
