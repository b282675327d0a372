//! Where a server is, and who asks it: what an address says, and what it leaves to the environment.

use super::problem;
use crate::names::name_shown;
use crate::options::{DatabaseOptions, PasswordLine};
use oeuvre_columns::ReadError;
use oeuvre_columns::names::{all_of, nearest};
use std::sync::Arc;
use std::time::Duration;

/// How what is sent is encrypted.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Encryption {
    /// Not.
    Disable,
    /// Where the server can.
    Prefer,
    /// Always, whoever the server is.
    Require,
    /// Always, and somebody must vouch for the server.
    VerifyFull,
}

const ENCRYPTION: [(&str, Encryption); 4] = [
    ("disable", Encryption::Disable),
    ("prefer", Encryption::Prefer),
    ("require", Encryption::Require),
    ("verify-full", Encryption::VerifyFull),
];

/// What an address says.
pub(super) struct Address {
    pub(super) host: String,
    pub(super) port: u16,
    pub(super) database: String,
    pub(super) user: String,
    pub(super) password: Option<String>,
    pub(super) encryption: Encryption,
    /// A file with certificates.
    pub(super) certificates: Option<String>,
    pub(super) patience: Duration,
}

/// RFC 3986, section 2.1; what is not valid stays as it is.
fn decoded(text: &str) -> String {
    crate::names::decoded(text)
}

impl Address {
    /// Reads `postgresql://USER@HOST:PORT/DATABASE?sslmode=require`, without what stands behind `#`.
    ///
    /// # Errors
    /// What cannot be meant; a password, which everybody could see there.
    pub(super) fn parse(
        address: &str,
        options: &Arc<DatabaseOptions>,
    ) -> Result<Address, ReadError> {
        let shown = name_shown(address);
        let rest = address.split_once("://").map_or(address, |(_, rest)| rest);
        let (rest, settings) = rest.split_once('?').unwrap_or((rest, ""));
        let (server, database) = rest.split_once('/').unwrap_or((rest, ""));
        let (user, host) = match server.rsplit_once('@') {
            Some((user, host)) => (Some(user), host),
            None => (None, server),
        };
        if user.is_some_and(|user| user.contains(':')) {
            return Err(problem(&shown, "a password does not belong into an address".to_owned())
                .help("everybody on this machine could read it; write it into the variable PGPASSWORD or the file ~/.pgpass, which nobody else may read: HOST:PORT:DATABASE:USER:PASSWORD")
                .into());
        }
        let (host, port) = match host.strip_prefix('[').and_then(|host| host.split_once(']')) {
            Some((host, rest)) => (host, rest.strip_prefix(':')),
            None => match host.rsplit_once(':') {
                Some((host, port)) => (host, Some(port)),
                None => (host, None),
            },
        };
        let port = match port.filter(|port| !port.is_empty()) {
            None => 5432,
            Some(port) => port.parse().map_err(|_| {
                problem(&shown, format!("`{port}` is no number of a port"))
                    .help("as in postgresql://host:5432/database#table")
            })?,
        };
        let user = user.map(decoded).or_else(|| options.user.clone());
        let Some(user) = user.filter(|user| !user.is_empty()) else {
            return Err(problem(&shown, "the address names no user".to_owned())
                .help("as in postgresql://analyst@host/database#table")
                .into());
        };
        let database = decoded(database.trim_end_matches('/'));
        let host = decoded(host);
        let mut it = Address {
            host: if host.is_empty() { "localhost".to_owned() } else { host },
            port,
            database: if database.is_empty() { user.clone() } else { database },
            user,
            password: None,
            encryption: Encryption::Prefer,
            certificates: None,
            patience: Duration::from_secs(30),
        };
        if let Some(named) = &options.encryption {
            it.encryption = encryption(&shown, named)?;
        }
        for (name, value) in settings.split('&').filter_map(|pair| pair.split_once('=')) {
            it.set(&shown, name, decoded(value))?;
        }
        it.password = it.password_in(options);
        Ok(it)
    }

    fn set(&mut self, shown: &str, name: &str, value: String) -> Result<(), ReadError> {
        match name {
            "sslmode" => self.encryption = encryption(shown, &value)?,
            "sslrootcert" => self.certificates = Some(value),
            "host" => self.host = value,
            "connect_timeout" => match value.parse() {
                Ok(seconds) => self.patience = Duration::from_secs(seconds),
                Err(_) => {
                    let message = format!("connect_timeout `{value}` is no number of seconds");
                    return Err(problem(shown, message).into());
                }
            },
            "password" => {
                let message = "a password does not belong into an address".to_owned();
                return Err(problem(shown, message)
                    .help("write it into the variable PGPASSWORD or the file ~/.pgpass")
                    .into());
            }
            _ => {
                let known = ["sslmode", "sslrootcert", "host", "connect_timeout"];
                let message = format!("the address has a setting `{name}` that is not known");
                let help = match nearest(name, known).first() {
                    Some(near) => format!("did you mean `{near}`?"),
                    None => format!("there are {}", all_of(&known.map(String::from))),
                };
                return Err(problem(shown, message).help(help).into());
            }
        }
        Ok(())
    }

    /// The password of whoever asks: of the environment, or of the first line of the password file that fits.
    fn password_in(&self, options: &DatabaseOptions) -> Option<String> {
        if let Some(password) = &options.password {
            return Some(password.clone());
        }
        let port = self.port.to_string();
        let wanted = [self.host.as_str(), &port, &self.database, &self.user];
        let fits = |line: &&PasswordLine| {
            line.of.iter().zip(wanted).all(|(of, wanted)| of == "*" || of == wanted)
        };
        options.passwords.iter().find(fits).map(|line| line.password.clone())
    }
}

fn encryption(shown: &str, named: &str) -> Result<Encryption, ReadError> {
    match ENCRYPTION.iter().find(|(name, _)| *name == named) {
        Some((_, encryption)) => Ok(*encryption),
        None => {
            let known = ENCRYPTION.map(|(name, _)| name.to_owned());
            let message = format!("sslmode `{named}` is not known");
            Err(problem(shown, message).help(format!("there are {}", all_of(&known))).into())
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn options() -> Arc<DatabaseOptions> {
        let line = |host: &str, password: &str| PasswordLine {
            of: [host.into(), "*".into(), "*".into(), "*".into()],
            password: password.into(),
        };
        Arc::new(DatabaseOptions {
            passwords: vec![line("a.example", "first"), line("*", "other")],
            user: Some("clerk".into()),
            ..DatabaseOptions::default()
        })
    }

    #[rstest]
    #[case("postgresql://ann@a.example/harbour", "ann@a.example:5432/harbour Prefer first")]
    #[case("postgres://a%40b@h:6000/h%20b?sslmode=require", "a@b@h:6000/h b Require other")]
    #[case("postgresql:///harbour?host=/run/pg", "clerk@/run/pg:5432/harbour Prefer other")]
    #[case("postgresql://[::1]:5433/x?sslmode=verify-full", "clerk@::1:5433/x VerifyFull other")]
    #[case("postgresql://h", "clerk@h:5432/clerk Prefer other")]
    fn an_address_says_where_and_who(#[case] address: &str, #[case] expected: &str) {
        let it = Address::parse(address, &options()).unwrap();
        let password = it.password.unwrap();
        assert_eq!(
            format!(
                "{}@{}:{}/{} {:?} {password}",
                it.user, it.host, it.port, it.database, it.encryption
            ),
            expected
        );
    }

    #[rstest]
    #[case("postgresql://ann:secret@h/x", "a password does not belong into an address")]
    #[case("postgresql://ann@h/x?password=secret", "a password does not belong into an address")]
    #[case("postgresql://ann@h:x/y", "is no number of a port")]
    #[case("postgresql://ann@h/y?sslmod=require", "`sslmod` that is not known")]
    #[case("postgresql://ann@h/y?sslmode=always", "sslmode `always` is not known")]
    fn what_cannot_be_meant_is_told_without_what_is_secret(
        #[case] address: &str,
        #[case] said: &str,
    ) {
        let Err(ReadError::Problem(it)) = Address::parse(address, &options()) else {
            panic!("a mistake")
        };
        let text = format!("{it} {:?}", it.help);
        assert!(text.contains(said) && !text.contains("secret"), "{text}");
    }
}
