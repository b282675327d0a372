//! What has gone wrong at a server, or between it and here, in words and with the way out.

use super::address::Address;
use super::problem;
use oeuvre_columns::{DataProblem, ReadError};
use postgres::error::SqlState;

/// Why the server cannot be asked.
pub(super) fn not_connected(shown: &str, address: &Address, error: &postgres::Error) -> ReadError {
    let it = |message: String| problem(shown, message);
    if let Some(error) = error.as_db_error() {
        let user = &address.user;
        return match *error.code() {
            SqlState::INVALID_PASSWORD => {
                it(format!("the server does not accept the password of the user {user}")).help(
                    "it comes from the variable PGPASSWORD or the file ~/.pgpass, which nobody else may read: HOST:PORT:DATABASE:USER:PASSWORD",
                )
            }
            SqlState::INVALID_AUTHORIZATION_SPECIFICATION => {
                it(format!("the server does not let the user {user} in: {}", error.message()))
                    .help("another user stands before @: postgresql://USER@host/database")
            }
            SqlState::INVALID_CATALOG_NAME => {
                it(format!("there is no database `{}` on the server", address.database))
                    .help("it stands behind the host: postgresql://host/DATABASE#table")
            }
            _ => it(format!("the server says: {}", error.message())),
        }
        .into();
    }
    let text = chain(error);
    if text.contains("password missing") {
        return it(format!("the server asks for the password of the user {}", address.user))
            .help("write it into the variable PGPASSWORD or the file ~/.pgpass, which nobody else may read: HOST:PORT:DATABASE:USER:PASSWORD")
            .into();
    }
    if text.contains("server does not support TLS") {
        return it("the server does not encrypt what it sends".to_owned())
            .help("sslmode=disable asks it all the same, in the open")
            .into();
    }
    if text.to_lowercase().contains("certificate") {
        return it(format!("nobody who is known vouches for the server: {text}"))
            .help("sslrootcert=FILE names the certificate of who does; sslmode=require asks it all the same")
            .into();
    }
    let place = format!("{}:{}", address.host, address.port);
    it(format!("no server can be reached at {place}: {text}"))
        .help("is it running, and is that its host and port?")
        .into()
}

/// An error with what it comes from, in a line.
fn chain(error: &dyn std::error::Error) -> String {
    let mut text = error.to_string();
    let mut source = error.source();
    while let Some(error) = source {
        let inner = error.to_string();
        if !text.contains(&inner) {
            text = format!("{text}: {inner}");
        }
        source = error.source();
    }
    text.chars().take(300).collect()
}

/// What has gone wrong while the server was asked, in words.
pub(super) fn told(name: &str, error: &postgres::Error) -> ReadError {
    let it = |message: String| DataProblem::in_file(name, message);
    let Some(error) = error.as_db_error() else {
        return match error.is_closed() {
            true => it("the connection to the server was lost".to_owned()).help("run it again"),
            false => it(format!("the connection to the server broke off: {}", chain(error)))
                .help("run it again"),
        }
        .into();
    };
    let said = error.message();
    match *error.code() {
        SqlState::READ_ONLY_SQL_TRANSACTION => {
            it(format!("the query would change the database: {said}"))
                .help("only queries that read rows are run")
        }
        SqlState::INSUFFICIENT_PRIVILEGE => {
            it(format!("the user may not read that: {said}")).help("whoever owns it can allow it")
        }
        SqlState::QUERY_CANCELED => it(format!("the server broke the query off: {said}"))
            .help("it may take too long for a limit of the server; read less with --query"),
        SqlState::ADMIN_SHUTDOWN | SqlState::CRASH_SHUTDOWN | SqlState::CANNOT_CONNECT_NOW => {
            it(format!("the connection to the server was lost: {said}")).help("run it again")
        }
        _ => {
            let it = it(format!("the server says: {said}"));
            match error.hint() {
                Some(hint) => it.help(hint.to_owned()),
                None => it,
            }
        }
    }
    .into()
}

/// As [`told`], of an error that came while rows were read.
pub(super) fn told_of_io(name: &str, error: std::io::Error) -> ReadError {
    let text = error.to_string();
    let inner = error.into_inner();
    match inner.and_then(|inner| inner.downcast::<postgres::Error>().ok()) {
        Some(error) => told(name, &error),
        None => {
            let it = DataProblem::in_file(
                name,
                format!("the connection to the server broke off: {text}"),
            );
            it.help("run it again").into()
        }
    }
}
