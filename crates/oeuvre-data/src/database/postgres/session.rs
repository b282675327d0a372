//! A connection, with the one transaction in which everything is read.

use super::super::{Declared, chosen};
use super::address::{Address, Encryption};
use super::binary::{Kind, Rows};
use super::failures::{not_connected, told};
use super::{Column, problem, tls};
use crate::kinds::values::{Orders, Shape};
use crate::options::DatabaseOptions;
use oeuvre_columns::ReadError;
use postgres::config::SslMode;
use postgres::types::{Kind as OfType, Type};
use postgres::{CancelToken, Client, Config};
use std::sync::{Arc, Mutex, PoisonError};
use tokio_postgres_rustls::MakeRustlsConnect;

/// The connections whose queries end when somebody interrupts.
static RUNNING: Mutex<Vec<(CancelToken, MakeRustlsConnect)>> = Mutex::new(Vec::new());

/// Has servers stop what they do for us: to be called when somebody interrupts.
pub fn cancel_queries() {
    let mut running = RUNNING.lock().unwrap_or_else(PoisonError::into_inner);
    for (token, connector) in running.drain(..) {
        // A server that does not answer is left alone.
        let _ = token.cancel_query(connector);
    }
}

/// A connection.
pub(super) struct Session {
    client: Client,
    token: CancelToken,
    connector: MakeRustlsConnect,
}

impl Session {
    /// Connects, and begins the transaction.
    ///
    /// # Errors
    /// Why that is not possible.
    pub(super) fn connect(
        shown: &str,
        address: &Address,
        options: &Arc<DatabaseOptions>,
    ) -> Result<Session, ReadError> {
        let connector = tls::connector(shown, address, options)?;
        let mut config = Config::new();
        config
            .host(&address.host)
            .port(address.port)
            .dbname(&address.database)
            .user(&address.user)
            .application_name("oeuvre")
            .connect_timeout(address.patience)
            .ssl_mode(match address.encryption {
                Encryption::Disable => SslMode::Disable,
                Encryption::Prefer => SslMode::Prefer,
                Encryption::Require | Encryption::VerifyFull => SslMode::Require,
            });
        if let Some(password) = &address.password {
            config.password(password);
        }
        let mut client =
            config.connect(connector.clone()).map_err(|e| not_connected(shown, address, &e))?;
        // Rows come in the order in which they stand, and dates as ISO 8601 writes them.
        client
            .batch_execute(
                "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY; \
                 SET LOCAL synchronize_seqscans = off; \
                 SET LOCAL idle_in_transaction_session_timeout = 0; \
                 SET LOCAL DateStyle = 'ISO'",
            )
            .map_err(|e| told(shown, &e))?;
        let token = client.cancel_token();
        let mut running = RUNNING.lock().unwrap_or_else(PoisonError::into_inner);
        running.push((token.clone(), connector.clone()));
        drop(running);
        if let Some(connected) = options.connected {
            connected();
        }
        Ok(Session { client, token, connector })
    }

    /// The schema and the name of the table that was named, or of the only one that may be read.
    ///
    /// # Errors
    /// No such table, or several.
    pub(super) fn table(
        &mut self,
        shown: &str,
        named: Option<&str>,
    ) -> Result<(String, String), ReadError> {
        let rows = self
            .client
            .query(
                "SELECT n.nspname, c.relname, has_table_privilege(c.oid, 'SELECT') \
                   OR has_any_column_privilege(c.oid, 'SELECT') \
                 FROM pg_catalog.pg_class c \
                 JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace \
                 WHERE c.relkind IN ('r', 'v', 'm', 'f', 'p') AND NOT c.relispartition \
                   AND n.nspname <> 'information_schema' AND n.nspname !~ '^pg_' \
                 ORDER BY n.nspname <> 'public', 1, 2",
                &[],
            )
            .map_err(|e| told(shown, &e))?;
        let all: Vec<(String, String, bool)> =
            rows.iter().map(|row| (row.get(0), row.get(1), row.get(2))).collect();
        let full = |(schema, table, _): &(String, String, bool)| format!("{schema}.{table}");
        // Without a schema the first one that has the table is meant, and `public` is the first of all.
        let named = named.map(|named| {
            let unquoted = named.replace('"', "");
            let plain = all.iter().find(|(_, table, _)| *table == unquoted);
            plain.map_or_else(
                || {
                    if named.contains('.') {
                        unquoted.clone()
                    } else {
                        format!("public.{unquoted}")
                    }
                },
                full,
            )
        });
        let may: Vec<String> = all.iter().filter(|t| t.2).map(full).collect();
        let locked = |named: &String| all.iter().any(|t| !t.2 && full(t) == *named);
        if let Some(named) = named.as_ref().filter(|named| locked(named)) {
            return Err(problem(shown, format!("the user may not read the table {named}"))
                .help(format!("whoever owns it can allow that: GRANT SELECT ON {named} TO …"))
                .into());
        }
        let found = chosen(shown, named.as_deref(), &may)?;
        let it = all.into_iter().find(|t| full(t) == found);
        Ok(it.map(|(schema, table, _)| (schema, table)).unwrap_or_default())
    }

    /// The columns of what rows are selected from, and what their types say.
    ///
    /// # Errors
    /// What is wrong with the query.
    pub(super) fn columns(
        &mut self,
        shown: &str,
        from: &str,
    ) -> Result<Vec<(Column, Declared)>, ReadError> {
        let query = format!("SELECT * FROM {from}");
        let statement = self.client.prepare(&query).map_err(|e| told(shown, &e))?;
        let described = statement.columns().iter().map(|column| {
            let (kind, shape) = kind_of(column.type_(), column.type_modifier());
            let other = match (kind, column.type_()) {
                (Some(_), _) => None,
                (None, of_type) => Some(of_type.name().to_owned()),
            };
            let kind = kind.unwrap_or(match *column.type_() {
                Type::MONEY => Kind::Numeric,
                _ => Kind::Text,
            });
            let heading = column.name().split_whitespace().collect::<Vec<_>>().join(" ");
            let lists = matches!(
                column.type_().kind(),
                OfType::Array(_) | OfType::Composite(_) | OfType::Range(_)
            );
            let told = lists || matches!(*column.type_(), Type::BYTEA | Type::INTERVAL);
            let told = told.then(|| described_as(column.type_()));
            (
                Column { name: column.name().to_owned(), kind, other, told },
                Declared { heading, shape, loose: false },
            )
        });
        Ok(described.collect())
    }

    /// Has rows sent, for somebody who says whether all of them were wanted.
    ///
    /// # Errors
    /// What has gone wrong at the server, or between it and here; what whoever takes them says.
    pub(super) fn copy(
        &mut self,
        name: &str,
        query: &str,
        take: impl FnOnce(&mut Rows<'_, '_>) -> Result<bool, ReadError>,
    ) -> Result<(), ReadError> {
        // What is broken off must not end the transaction.
        self.client.batch_execute("SAVEPOINT rows").map_err(|e| told(name, &e))?;
        let query = format!("COPY ({query}) TO STDOUT (FORMAT binary)");
        let mut sent = self.client.copy_out(&query).map_err(|e| told(name, &e))?;
        let took = take(&mut Rows::new(&mut sent, name));
        drop(sent);
        if let Ok(true) = took {
            return self.client.batch_execute("RELEASE rows").map_err(|e| told(name, &e));
        }
        let _ = self.token.cancel_query(self.connector.clone());
        // The wish to stop may meet this in place of the rows.
        let back = "ROLLBACK TO rows";
        let rolled = self.client.batch_execute(back).or_else(|_| self.client.batch_execute(back));
        match took {
            Ok(_) => rolled.map_err(|e| told(name, &e)),
            Err(error) => Err(error),
        }
    }

    /// Whether the server keeps texts in UTF-8.
    ///
    /// # Errors
    /// What has gone wrong.
    pub(super) fn is_utf8(&mut self, name: &str) -> Result<bool, ReadError> {
        let query = "SELECT (current_setting('server_encoding') = 'UTF8')::int::bigint";
        Ok(self.count(name, query)? == 1)
    }

    /// A number that a query gives.
    ///
    /// # Errors
    /// What has gone wrong.
    pub(super) fn count(&mut self, name: &str, query: &str) -> Result<u64, ReadError> {
        let row = self.client.query_one(query, &[]).map_err(|e| told(name, &e))?;
        Ok(row.get::<_, i64>(0) as u64)
    }
}

/// How values of a type are sent and what a column of it is; `None` for types that are read as texts.
fn kind_of(of_type: &Type, modifier: i32) -> (Option<Kind>, Shape) {
    let (kind, shape) = match *of_type {
        Type::BOOL => (Kind::Truth, Shape::Boolean),
        Type::INT2 | Type::INT4 | Type::INT8 => (Kind::Whole, Shape::Number(0)),
        Type::OID => (Kind::Unsigned, Shape::Number(0)),
        // Without a modifier its values decide how many digits there are.
        Type::NUMERIC if modifier < 4 => (Kind::Numeric, Shape::Unknown),
        Type::NUMERIC => {
            let scale = (modifier - 4) & 0x7ff;
            // Fewer than none: the number is rounded before its point.
            let shape = match scale {
                0..=38 => Shape::Number(scale as u8),
                1024.. => Shape::Number(0),
                _ => Shape::Unknown,
            };
            (Kind::Numeric, shape)
        }
        Type::FLOAT4 | Type::FLOAT8 => (Kind::Float, Shape::Float),
        Type::TEXT | Type::VARCHAR | Type::NAME | Type::JSON | Type::XML | Type::UNKNOWN => {
            (Kind::Text, Shape::Text)
        }
        Type::BPCHAR => (Kind::Padded, Shape::Text),
        Type::JSONB => (Kind::Versioned, Shape::Text),
        Type::UUID => (Kind::Uuid, Shape::Text),
        Type::DATE => (Kind::Day, Shape::Date(Orders::ALL)),
        Type::TIMESTAMP => (Kind::Time { zoned: false }, Shape::DateTime),
        Type::TIMESTAMPTZ => (Kind::Time { zoned: true }, Shape::DateTime),
        Type::TIME => (Kind::Clock, Shape::Text),
        Type::MONEY => return (None, Shape::Number(2)),
        _ => match of_type.kind() {
            OfType::Domain(of) => return kind_of(of, modifier),
            _ => return (None, Shape::Text),
        },
    };
    (Some(kind), shape)
}

/// What is told of a type that has no value of a table.
fn described_as(of_type: &Type) -> String {
    match of_type.kind() {
        OfType::Array(of) => format!("lists of {}", of.name()),
        OfType::Composite(_) => format!("rows of the type {}", of_type.name()),
        OfType::Range(_) => "ranges".to_owned(),
        _ if *of_type == Type::BYTEA => "bytes".to_owned(),
        _ => "lengths of time".to_owned(),
    }
}
