//! Writes batches as rows into a table of PostgreSQL.
//!
//! A batch is copied into the table. If a row is there already, by the unique columns, the batch is copied into a temporary table instead, and its
//! rows are inserted or replaced from there in one transaction. So a batch that is sent again has no effect.

mod rows;
mod table;

use std::time::Duration;

use bytes::Bytes;
use fenetre_core::time::{Nanos, SECOND};
use fenetre_store::Secrets;
use futures_util::SinkExt;
use tokio::{runtime::Runtime, time::timeout};
use tokio_postgres::{Client, error::SqlState};

use self::{
    rows::{Rows, rows_of},
    table::{Statements, Table},
};
use super::{
    definition::Sql,
    destination::{Destination, Inquiry, Receipt, Undelivered, WindowSums, text_of},
    encode,
    outgoing::Outgoing,
};
use crate::{
    database::{GRACE, Login, limited::Meter, postgres},
    definition::duration,
    error::FlowError,
    runtime::new_runtime,
};

const DEFAULT_TIMEOUT: Duration = Duration::from_secs(30);
/// Bytes that are handed to the connection at once.
const CHUNK: usize = 256 << 10;

/// Writes rows.
pub struct TableWriter {
    sql: Sql,
    connection: Option<Connection>,
}

/// A connection, and what was found there.
struct Connection {
    runtime: Runtime,
    client: Client,
    meter: Meter,
    table: Table,
    timeout: Duration,
    /// Name of the database, for people.
    name: String,
    /// Number of batches that are not tried as new rows, because the latest that were had rows that are there already.
    replacing: u32,
    /// That number after the next such batch.
    replacing_next: u32,
}

/// Maximum number of batches that are not tried as new rows.
const MAX_REPLACING: u32 = 64;

/// Whether a transaction is committed.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Outcome {
    Committed,
    RolledBack,
}

impl TableWriter {
    /// For a definition that was checked.
    pub fn new(sql: Sql) -> Self {
        Self { sql, connection: None }
    }

    /// The connection, made if there is none or it was lost.
    fn connection(&mut self, secrets: &Secrets) -> Result<&mut Connection, FlowError> {
        let open = match self.connection.take().filter(|connection| !connection.client.is_closed()) {
            Some(open) => open,
            None => Connection::new(&self.sql, secrets)?,
        };
        Ok(self.connection.insert(open))
    }

    /// Writes a batch in one transaction. If an earlier connection fails, a new one is tried: the table may have changed, or the server restarted.
    fn write(&mut self, batch: &Outgoing, secrets: &Secrets, outcome: Outcome) -> Result<Rows, Undelivered> {
        let tags = batch.stretches.iter().flat_map(|stretch| stretch.series.tags.iter().map(|(key, _)| &**key)).collect();
        loop {
            let is_new = self.connection.is_none();
            let connection = self.connection(secrets)?;
            let rows = rows_of(batch, &connection.table);
            let written =
                rows.map_err(Undelivered::from).and_then(|rows| connection.write(&rows, &connection.table.statements(&tags), outcome).map(|()| rows));
            match written {
                Ok(rows) => return Ok(rows),
                Err(error) => {
                    self.connection = None;
                    if is_new {
                        return Err(error);
                    }
                }
            }
        }
    }
}

impl Connection {
    fn new(sql: &Sql, secrets: &Secrets) -> Result<Self, FlowError> {
        let address = sql.address().map_err(FlowError::Definition)?;
        let login = Login {
            name: &sql.database,
            user: &sql.user,
            password: sql.password.as_ref().map(|password| password.read(secrets)).transpose()?,
            tls: sql.tls.unwrap_or(!address.is_loopback()),
            ca: sql.ca.as_ref(),
            timeout: sql.timeout.map_or(DEFAULT_TIMEOUT, duration),
            stop: &|| false,
            address: &address,
        };
        let (runtime, meter) = (new_runtime()?, Meter::default());
        let begin = format!("SET statement_timeout = {}; SET TIME ZONE 'UTC'; SET client_min_messages = warning", login.timeout.as_millis());
        let client = runtime.block_on(postgres::connect(&login, &meter, &begin))?;
        let finding = async { timeout(login.timeout + GRACE, table::find(&client, sql)).await };
        let found = runtime.block_on(finding).map_err(|_| login.silent("answer", login.timeout))?;
        let table = found.map_err(|error| error.unless_of_server(|error| login.fault(&describe(error))))?;
        Ok(Self { runtime, client, meter, table, timeout: login.timeout, name: sql.database.clone(), replacing: 0, replacing_next: 1 })
    }

    fn write(&mut self, rows: &Rows, statements: &Statements, outcome: Outcome) -> Result<(), Undelivered> {
        if let Some(copy) = statements.copy_new.as_ref().filter(|_| !rows.has_twins && self.replacing == 0) {
            match self.transact(rows, copy, None, outcome)? {
                Ok(()) => {
                    self.replacing_next = 1;
                    return Ok(());
                }
                Err(error) if error.code() == Some(&SqlState::UNIQUE_VIOLATION) => {
                    self.replacing = self.replacing_next;
                    self.replacing_next = (2 * self.replacing_next).min(MAX_REPLACING);
                    self.roll_back()?;
                }
                Err(error) => return Err(self.undelivered(&error)),
            }
        }
        self.replacing = self.replacing.saturating_sub(1);
        let insert = if rows.has_twins { &statements.insert_latest } else { &statements.insert };
        self.transact(rows, &statements.copy, Some(insert), outcome)?.map_err(|error| self.undelivered(&error))
    }

    /// Copies rows, and perhaps inserts them from where they were copied to, in a transaction.
    fn transact(&self, rows: &Rows, copy: &str, insert: Option<&str>, outcome: Outcome) -> Result<Result<(), tokio_postgres::Error>, FlowError> {
        self.meter.reset();
        self.within_timeout(async {
            self.client.batch_execute("BEGIN").await?;
            let copy = self.client.copy_in::<_, Bytes>(copy).await?;
            tokio::pin!(copy);
            for chunk in rows.text.chunks(CHUNK) {
                copy.send(Bytes::copy_from_slice(chunk)).await?;
            }
            copy.finish().await?;
            if let Some(insert) = insert {
                self.client.batch_execute(insert).await?;
            }
            self.client.batch_execute(if outcome == Outcome::Committed { "COMMIT" } else { "ROLLBACK" }).await
        })
    }

    /// Ends a transaction that has failed.
    fn roll_back(&self) -> Result<(), Undelivered> {
        self.within_timeout(self.client.batch_execute("ROLLBACK"))?.map_err(|error| self.undelivered(&error))
    }

    fn within_timeout<T>(&self, work: impl Future<Output = T>) -> Result<T, FlowError> {
        let limited = async { timeout(self.timeout + GRACE, work).await };
        let silent = || FlowError::Silent(format!("{}: did not answer within {} s (`timeout`)", self.name, self.timeout.as_secs()));
        self.runtime.block_on(limited).map_err(|_| silent())
    }

    /// What a failure means for a batch.
    fn undelivered(&self, error: &tokio_postgres::Error) -> Undelivered {
        let text = format!("{}: {}", self.name, describe(error));
        // Data that the table cannot hold, and violated constraints (SQL:2023, classes 22 and 23).
        let is_of_batch = error.code().is_some_and(|code| code.code().starts_with("22") || code.code().starts_with("23"));
        if is_of_batch { Undelivered::Refused(text) } else { Undelivered::Failed(FlowError::Peer(text)) }
    }
}

/// A failure in words, with a remedy for a sink.
fn describe(error: &tokio_postgres::Error) -> String {
    let remedy = match error.code() {
        Some(&SqlState::UNDEFINED_TABLE | &SqlState::UNDEFINED_COLUMN) => ": check `table` and `columns`",
        Some(&SqlState::INSUFFICIENT_PRIVILEGE) => ": grant SELECT, INSERT and UPDATE on the table and TEMPORARY on the database to the user",
        Some(&SqlState::QUERY_CANCELED) => ": raise `timeout`, or lower `batch_points`",
        Some(&SqlState::DISK_FULL) => ": make room; the sink continues by itself",
        Some(&SqlState::NOT_NULL_VIOLATION) => ": give the column a default, or drop NOT NULL",
        _ => "",
    };
    let detail = error.as_db_error().and_then(|of_server| of_server.where_()).map_or_else(String::new, |place| format!(" ({place})"));
    format!("{}{detail}", postgres::describe(error, remedy))
}

impl Destination for TableWriter {
    fn send(&mut self, batch: &Outgoing, secrets: &Secrets) -> Result<Receipt, Undelivered> {
        let rows = self.write(batch, secrets, Outcome::Committed)?;
        Ok(Receipt { bytes: rows.text.len() as u64, rejected: rows.rejected, samples: rows.samples, notes: Vec::new() })
    }

    fn attempt(&mut self, batch: &Outgoing, secrets: &Secrets) -> Result<Option<String>, FlowError> {
        let rows = self.write(batch, secrets, Outcome::RolledBack).map_err(Undelivered::into_error)?;
        let table = self.connection.as_ref().map_or_else(String::new, |connection| connection.table.summary());
        let rejected = rows.samples.first().map_or_else(String::new, |sample| format!("; {} would be rejected: {sample}", rows.rejected));
        Ok(Some(format!("{table} would take {} rows{rejected}", rows.count)))
    }

    fn preview(&self, batch: &Outgoing) -> Result<String, FlowError> {
        text_of(|out| encode::csv(batch, out))
    }

    fn sums(&mut self, inquiry: &Inquiry<'_>, secrets: &Secrets) -> Result<Option<Vec<(Nanos, WindowSums)>>, FlowError> {
        let connection = self.connection(secrets)?;
        let Some(question) = connection.table.question(inquiry) else { return Ok(None) };
        connection.meter.reset();
        let rows = connection.within_timeout(connection.client.query(&question, &[]))?;
        let rows = rows.map_err(|error| FlowError::Peer(format!("{}: {}", connection.name, describe(&error))))?;
        let sums = rows.iter().map(|row| {
            let (start, count, sum): (i64, i64, Option<f64>) = (row.get(0), row.get(1), row.get(2));
            (start.saturating_mul(SECOND), WindowSums { count: count.cast_unsigned(), sum: sum.filter(|_| inquiry.is_number) })
        });
        Ok(Some(sums.collect()))
    }
}
