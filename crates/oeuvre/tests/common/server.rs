//! A PostgreSQL server of the distribution's package, in a temporary folder, on a free port of loopback.
//!
//! Tests that run at the same time share one; the last one stops it. It runs as the package's own user where we
//! are root, because it refuses to be root itself. Where the package is not there and we may install it, it is.

use super::Folder;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};
use std::sync::{Arc, Mutex, PoisonError, Weak};

/// A running server.
pub struct Server {
    bin: PathBuf,
    folder: tempfile::TempDir,
    pub port: u16,
}

/// The password of `owner`, who may do everything.
pub const PASSWORD: &str = "open sesame";

static RUNNING: Mutex<Weak<Server>> = Mutex::new(Weak::new());

fn is_root() -> bool {
    let id = Command::new("id").arg("-u").output().unwrap();
    String::from_utf8_lossy(&id.stdout).trim() == "0"
}

/// The folder of the server's programs.
fn programs() -> Option<PathBuf> {
    let mut found: Vec<PathBuf> = std::fs::read_dir("/usr/lib/postgresql")
        .into_iter()
        .flatten()
        .filter_map(|version| Some(version.ok()?.path().join("bin")))
        .filter(|bin| bin.join("initdb").exists())
        .collect();
    found.sort();
    let asked = Command::new("pg_config").arg("--bindir").stderr(Stdio::null()).output();
    let named = asked.ok().map(|it| PathBuf::from(String::from_utf8_lossy(&it.stdout).trim()));
    found.pop().or(named.filter(|bin| bin.join("initdb").exists()))
}

fn installed() -> PathBuf {
    if let Some(bin) = programs() {
        return bin;
    }
    if is_root() {
        let apt = |words: &[&str]| {
            let mut run = Command::new("apt-get");
            run.args(words).env("DEBIAN_FRONTEND", "noninteractive");
            let _ = run.stdout(Stdio::null()).stderr(Stdio::null()).status();
        };
        apt(&["update"]);
        apt(&["install", "-y", "--no-install-recommends", "postgresql"]);
    }
    programs().expect("a PostgreSQL server is needed: install the package postgresql")
}

impl Server {
    /// The server of this test.
    pub fn running() -> Arc<Server> {
        let mut running = RUNNING.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(server) = running.upgrade() {
            return server;
        }
        let server = Arc::new(Server::start());
        *running = Arc::downgrade(&server);
        server
    }

    fn start() -> Server {
        let bin = installed();
        let folder = tempfile::tempdir().unwrap();
        let port = {
            let free = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
            free.local_addr().unwrap().port()
        };
        let server = Server { bin, folder, port };
        std::fs::write(server.path("password"), PASSWORD).unwrap();
        let made = rcgen::generate_simple_self_signed(vec!["localhost".to_owned()]).unwrap();
        std::fs::write(server.path("server.crt"), made.cert.pem()).unwrap();
        std::fs::write(server.path("server.key"), made.signing_key.serialize_pem()).unwrap();
        if is_root() {
            let mut owned = Command::new("chown");
            owned.args(["-R", "postgres"]).arg(server.folder.path());
            assert!(owned.status().unwrap().success());
        }
        let private = Command::new("chmod").arg("600").arg(server.path("server.key")).status();
        assert!(private.unwrap().success());
        let data = server.path("data").display().to_string();
        let password = server.path("password").display().to_string();
        server.as_its_user(
            "initdb",
            &[
                "-D",
                &data,
                "-U",
                "owner",
                "-A",
                "scram-sha-256",
                "--pwfile",
                &password,
                "-E",
                "UTF8",
            ],
        );
        let at = server.folder.path().display();
        let settings = format!(
            "-p {port} -k {at} -c listen_addresses=127.0.0.1 -c fsync=off -c ssl=on \
             -c ssl_cert_file={at}/server.crt -c ssl_key_file={at}/server.key"
        );
        let log = server.path("log").display().to_string();
        server.as_its_user("pg_ctl", &["-D", &data, "-l", &log, "-o", &settings, "-w", "start"]);
        server.sql("postgres", "CREATE DATABASE harbour");
        server
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    /// Runs one of its programs, as its user.
    fn as_its_user(&self, program: &str, words: &[&str]) {
        let program = self.bin.join(program);
        let mut command = match is_root() {
            true => {
                let mut command = Command::new("runuser");
                command.args(["-u", "postgres", "--"]).arg(&program);
                command
            }
            false => Command::new(&program),
        };
        let run = command.args(words).current_dir("/").stdout(Stdio::null()).stderr(Stdio::piped());
        // What it starts must not hold our streams open.
        let Output { status, stderr, .. } = match words.contains(&"start") {
            true => {
                let status = run.stderr(Stdio::null()).status().unwrap();
                Output { status, stdout: Vec::new(), stderr: Vec::new() }
            }
            false => run.output().unwrap(),
        };
        let said = String::from_utf8_lossy(&stderr);
        assert!(status.success(), "{}: {said}", program.display());
    }

    /// Runs SQL in a database, as the owner of everything; what it gives.
    pub fn sql(&self, database: &str, sql: &str) -> String {
        let port = self.port.to_string();
        let mut psql = Command::new(self.bin.join("psql"))
            .args(["-h", "127.0.0.1", "-p", &port, "-U", "owner", "-d", database])
            .args(["-X", "-q", "-A", "-t", "-v", "ON_ERROR_STOP=1", "-f", "-"])
            .env("PGPASSWORD", PASSWORD)
            .env("PGSSLMODE", "disable")
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        std::io::Write::write_all(&mut psql.stdin.take().unwrap(), sql.as_bytes()).unwrap();
        let Output { status, stdout, stderr } = psql.wait_with_output().unwrap();
        assert!(status.success(), "{}", String::from_utf8_lossy(&stderr));
        String::from_utf8(stdout).unwrap()
    }

    /// Puts a file of texts into a new table.
    pub fn load(&self, table: &str, columns: &str, file: &Path) {
        let rows = std::fs::read_to_string(file).unwrap();
        self.sql(
            "harbour",
            &format!(
                "CREATE TABLE {table} ({columns}); COPY {table} FROM STDIN CSV HEADER;\n{rows}\\.\n"
            ),
        );
    }

    /// The address of the database, of its owner.
    pub fn address(&self) -> String {
        format!("postgresql://owner@127.0.0.1:{}/harbour", self.port)
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        let data = self.path("data").display().to_string();
        self.as_its_user("pg_ctl", &["-D", &data, "-m", "immediate", "-w", "stop"]);
        if is_root() {
            // What it owns is ours to remove.
            let _ = Command::new("chown").args(["-R", "root"]).arg(self.folder.path()).status();
        }
    }
}

impl Folder {
    /// The environment of the owner of everything: commands in this folder know the password.
    pub fn knows(self, password: &str) -> Folder {
        self.with_env("PGPASSWORD", password)
    }
}
